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
  units <- if (is.null(st$blocks)) {
    nrow(st$train)
  } else {
    length(unique(st$train[[st$blocks]]))
  }
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
  if (is.null(inner_folds)) {
    inner_folds <- min(folds, most)
  } else {
    inner_folds <- check_count(inner_folds, "inner_folds", least = 2, most = most)
  }
  n <- nrow(st$train)
  smallest <- smallest_nested(n, folds, inner_folds)
  if (smallest < least_nested) {
    stop_study(
      paste0(
        "There are ", n,
        " training rows, too few to choose predictors: the smallest training ",
        "parts of the nested cross-validation would have ", smallest, "."
      ),
      todo = paste0(
        least_nested,
        " are needed. Give more rows, or choose by what is known of the subject."
      )
    )
  }
  inner_folds
}

least_nested <- 6  # rows of the smallest training part

# Rows of the smallest training part of a nested cross-validation.
smallest_nested <- function(n, folds, inner_folds) {
  outer <- n - ceiling(n / folds)
  outer - ceiling(outer / inner_folds)
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
    fold[rows] <- rep_len(sample.int(folds), length(rows))[sample.int(length(rows))]
  }
  spread_levels(
    fold, data[sort(intersect(names(data), st$predictors), method = "radix")], stratum
  )
}
