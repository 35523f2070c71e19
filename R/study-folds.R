# Folds of the training rows.

# The number of folds: as asked, or what the rows and blocks allow.
check_folds <- function(folds, st, data, usual = 5L) {
  n <- nrow(data)
  units <- if (is.null(st$blocks)) n %/% 4L else length(unique(data[[st$blocks]]))
  if (units < 2) {
    stop_study(
      if (is.null(st$blocks)) {
        paste0("There are only ", n, " training rows, too few for cross-validation.")
      } else {
        "The training rows are all of one block."
      },
      todo = "Give more rows."
    )
  }
  if (is.null(folds)) return(as.integer(min(usual, units)))
  check_count(folds, "folds", least = 2, most = units)
}

# The number of folds that choose: as many as the outer ones, or what the rows or blocks of the
# smallest outer training part allow.
check_inner_folds <- function(inner_folds, folds, st) {
  units <- if (is.null(st$blocks)) nrow(st$train) else length(unique(st$train[[st$blocks]]))
  most <- as.integer(units - ceiling(units / folds))
  if (most < 2) {
    stop_study(
      paste0(
        "The training rows are of ", units, " blocks; a choice inside ", folds,
        " outer folds needs at least two of them in every training part."
      ),
      todo = "Give rows of more blocks."
    )
  }
  if (is.null(inner_folds)) return(min(folds, most))
  check_count(inner_folds, "inner_folds", least = 2, most = most)
}

# Folds of nearly equal size, each class spread over them.
draw_folds <- function(st, data, folds) {
  y <- data[[st$target]]
  stratum <- if (st$task == "classification") as.integer(y) else rep(1L, nrow(data))
  fold <- integer(nrow(data))
  if (!is.null(st$blocks)) {
    # rows that belong together stay together
    of <- row_info(st, data)$block
    if (max(of) < folds) {
      stop_study(
        paste0(
          folds, " folds need at least as many blocks of rows; there are ", max(of), "."
        ),
        todo = "Ask for fewer folds."
      )
    }
    return(sample(rep_len(sample.int(folds), max(of)))[of])
  }
  for (s in unique(stratum)) {
    rows <- which(stratum == s)
    fold[rows] <- sample(rep_len(sample.int(folds), length(rows)))
  }
  spread_levels(
    fold, data[sort(intersect(names(data), st$predictors), method = "radix")], stratum
  )
}
