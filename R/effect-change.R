#' What would change a prediction
#'
#' The smallest change of one to three predictors of a row that brings the model's prediction past a
#' threshold, within the values that the training rows have.
#'
#' @inheritParams similar_rows
#' @param which Number of the row.
#' @param threshold The prediction to reach: a number; for classes a probability. Default for
#'   classes: 0.5.
#' @param class For classes: the class whose probability is to reach the threshold. Default: with
#'   two classes the other one than that predicted, with several the second likeliest.
#' @param fixed Names of predictors that must stay as they are. Those that the dictionary calls
#'   sensitive, or to be left out, always do.
#' @param most At most so many predictors change, up to 3.
#' @param count Number of changes that are returned, the smallest first.
#' @return A data frame of class `dreher_change`, a row per changed predictor: `model`, `row`,
#'   `change` (1 is the smallest), `predictor`, `from`, `to` (text), `size`: the
#'   difference of the two values' ranks among the training rows, equal ones ranked by their
#'   middle, as a share of the rows (of levels: 1), `total`, the sum of the sizes of the
#'   change, and `prediction` after it. No rows where nothing within the range reaches the
#'   threshold.
#' @details Values tried are up to 25 quantiles of the training rows, and all levels. One predictor
#'   is tried at a time, then pairs, then a third beside the best pairs; a change is kept if no
#'   part of it does. This says what the model would predict, not what would happen to the tile:
#'   other predictors stay as they are, whether the world allows it or not.
#' @section Errors: A row that is past the threshold already; no predictor free to change; no
#'   training rows.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' smallest_change(st, which = 12, threshold = 42)
#' @export
smallest_change <- function(
    study, which, threshold = NULL, ..., class = NULL, model = NULL, rows = "holdout",
    fixed = NULL, most = 2, count = 3, threads = NULL) {
  st <- open_ranking(study, "smallest_change", ..., threads = threads)
  if (missing(which)) {
    stop_input("`which` is missing: the number of the row.", todo = "For example which = 12.")
  }
  most <- check_count(most, "most", most = 3)
  count <- check_count(count, "count", most = 100)
  if (!is.null(model)) check_choice(model, names(st$models), "model")
  m <- pick_models(st, if (is.null(model)) names(st$models)[1] else model)[[1]]
  train <- model_rows(st, m, need_train(st, "`smallest_change()`"), "train")
  data <- explained_rows(st, rows)$data
  which <- check_which(which, nrow(data))
  if (length(which) != 1) stop_input("`which` must be the number of one row.")
  row <- model_rows(st, m, data[which, , drop = FALSE], "rows")
  attr(row, "row.names") <- .set_row_names(1L)
  aim <- aim_of_change(st, m, row, threshold, class)
  free <- free_predictors(st, m, fixed)
  found <- search_changes(st, m, row, train, free, aim, most)
  table_of_changes(st, m, which, row, found, aim, count, most)
}

# -> list(output, threshold, up, now)
aim_of_change <- function(st, model, row, threshold, class) {
  p <- predict_aligned(st, model, row)[1, ]
  if (st$task == "regression") {
    if (!is.null(class)) {
      stop_input(
        paste0("`class` is for classes; \"", st$target, "\" is a number."),
        todo = "Leave `class` out."
      )
    }
    if (is.null(threshold)) {
      stop_input(
        "`threshold` is missing: the prediction to reach.",
        todo = "For example threshold = 42."
      )
    }
    k <- 1
  } else {
    by <- order(-p)
    k <- if (is.null(class)) {
      by[2]
    } else {
      match(check_choice(class, st$classes, "class"), st$classes)
    }
    if (is.null(threshold)) threshold <- 0.5
  }
  fits <- is.numeric(threshold) && length(threshold) == 1 && is.finite(threshold)
  if (!fits) {
    stop_input(
      "`threshold` must be a single number.",
      paste0("Given: ", describe_value(threshold), ".")
    )
  }
  if (st$task == "classification" && (threshold <= 0 || threshold >= 1)) {
    stop_input(
      "`threshold` must be a probability, between 0 and 1.",
      paste0("Given: ", threshold, ".")
    )
  }
  up <- if (st$task == "regression") p[k] < threshold else TRUE
  if (p[k] == threshold || (st$task == "classification" && p[k] > threshold)) {
    stop_input(
      paste0(
        "The row's prediction is ", short_number(p[[k]]),
        ", past the threshold already."
      ),
      todo = "Give another threshold or class."
    )
  }
  list(
    output = k,
    threshold = threshold,
    up = up,
    now = p[[k]],
    class = if (st$task == "classification") st$classes[k]
  )
}

free_predictors <- function(st, model, fixed) {
  predictors <- model$inputs$predictors
  if (!is.null(fixed)) {
    fixed <- check_names(fixed, "fixed")
    check_used(fixed, predictors, st)
  }
  held <- st$dictionary$predictor[
    st$dictionary$sensitive %in% TRUE | st$dictionary$use %in% "leave_out"
  ]
  free <- setdiff(predictors, c(fixed, held))
  if (!length(free)) {
    stop_input("No predictor is free to change.", todo = "Name fewer of them in `fixed`.")
  }
  free
}

# Every change tried is a list(predictors, values: numbers of grid points, total, prediction).
search_changes <- function(st, model, row, train, free, aim, most) {
  grids <- lapply(stats::setNames(nm = free), function(p) {
    grid <- grid_of_one(p, train[[p]], train[[p]], 25L, NULL)
    grid$size <- change_sizes(row[[p]], train[[p]], grid)
    grid
  })
  reaches <- function(p) if (aim$up) p >= aim$threshold else p <= aim$threshold
  predict_changes <- function(changes) {
    many <- row[rep(1L, nrow(changes)), , drop = FALSE]
    attr(many, "row.names") <- .set_row_names(nrow(many))
    for (p in names(changes)) {
      at <- changes[[p]]
      moved <- !is.na(at)
      values <- grids[[p]]$values[[1]]
      if (is.factor(many[[p]])) {
        values <- factor(
          as.character(values), levels(many[[p]]), ordered = is.ordered(many[[p]])
        )
      }
      many[[p]][moved] <- values[at[moved]]
    }
    predict_aligned(st, model, many)[, aim$output]
  }
  try_all <- function(changes) {
    if (!nrow(changes)) return(NULL)
    size <- rowSums(
      vapply(
        names(changes),
        function(p) {
          out <- grids[[p]]$size[changes[[p]]]
          out[is.na(changes[[p]])] <- 0
          out
        },
        double(nrow(changes))
      ) |> matrix(nrow(changes))
    )
    kept <- rowSums(
      vapply(
        names(changes),
        function(p) {
          !is.na(changes[[p]]) & grids[[p]]$size[changes[[p]]] == 0
        },
        logical(nrow(changes))
      ) |> matrix(nrow(changes))
    ) == 0
    changes <- changes[kept, , drop = FALSE]
    if (!nrow(changes)) return(NULL)
    data.frame(
      changes, .total = size[kept], .p = predict_changes(changes), check.names = FALSE
    )
  }
  empty <- as.data.frame(lapply(grids, function(g) integer()), optional = TRUE)
  names(empty) <- free
  one <- do.call(
    rbind,
    lapply(free, function(p) {
      out <- empty[rep(NA_integer_, length(grids[[p]]$at)), , drop = FALSE]
      out[[p]] <- seq_along(grids[[p]]$at)
      out
    })
  )
  tried <- try_all(one)
  found <- tried[reaches(tried$.p), ]
  # the predictors that bring the prediction nearest, for pairs and a third
  way <- vapply(
    free,
    function(p) {
      of <- tried$.p[!is.na(tried[[p]])]
      if (!length(of)) return(-Inf)
      if (aim$up) max(of) else -min(of)
    },
    0
  )
  lead <- utils::head(free[order(-way)], 8)
  if (most > 1 && length(lead) > 1) {
    pairs <- utils::combn(lead, 2)
    two <- do.call(
      rbind,
      lapply(seq_len(ncol(pairs)), function(q) {
        i <- seq_along(grids[[pairs[1, q]]]$at)
        j <- seq_along(grids[[pairs[2, q]]]$at)
        out <- empty[rep(NA_integer_, length(i) * length(j)), , drop = FALSE]
        out[[pairs[1, q]]] <- rep(i, length(j))
        out[[pairs[2, q]]] <- rep(j, each = length(i))
        out
      })
    )
    tried2 <- try_all(two)
    found <- rbind(found, tried2[reaches(tried2$.p), ])
    if (most > 2 && length(lead) > 2) {
      near <- utils::head(tried2[order(if (aim$up) -tried2$.p else tried2$.p), ], 200)
      three <- do.call(
        rbind,
        lapply(lead, function(p) {
          base <- near[is.na(near[[p]]), free, drop = FALSE]
          if (!nrow(base)) return(NULL)
          at <- seq_along(grids[[p]]$at)
          out <- base[rep(seq_len(nrow(base)), length(at)), , drop = FALSE]
          out[[p]] <- rep(at, each = nrow(base))
          out
        })
      )
      tried3 <- try_all(three)
      found <- rbind(found, tried3[reaches(tried3$.p), ])
    }
  }
  list(changes = smallest_of(found, free), grids = grids, lead = way)
}

# By how much the rank among the training rows changes from the row's value to each point, as a
# share of the rows; of levels 1.
change_sizes <- function(own, x, grid) {
  if (grid$kind %in% c("level", "ordered")) return((grid$at != as.character(own)) + 0)
  if (is.na(own)) return(rep(1, length(grid$at)))
  x <- sort(as.double(x))
  n <- length(x)
  place <- function(v) (findInterval(v, x) + findInterval(v, x, left.open = TRUE)) / 2 / n
  size <- abs(place(grid$position) - place(as.double(own)))
  ifelse(grid$position == as.double(own), 0, pmax(size, 0.5 / n))
}

# The smallest first; of the same predictors only the smallest, and none that has another inside it.
smallest_of <- function(found, free) {
  if (!nrow(found)) return(found)
  found <- found[order(found$.total), ]
  moved <- !is.na(as.matrix(found[free]))
  key <- apply(moved, 1, function(m) paste(which(m), collapse = " "))
  first <- !duplicated(key)
  found <- found[first, , drop = FALSE]
  moved <- moved[first, , drop = FALSE]
  keep <- vapply(seq_len(nrow(found)), function(i) {
    inside <- vapply(seq_len(nrow(found)), function(j) {
      j != i && all(moved[j, ] <= moved[i, ]) && sum(moved[j, ]) < sum(moved[i, ]) &&
        found$.total[j] <= found$.total[i]
    }, NA)
    !any(inside)
  }, NA)
  found[keep, , drop = FALSE]
}

table_of_changes <- function(st, model, which, row, found, aim, count, most) {
  changes <- utils::head(found$changes, count)
  predictors <- names(found$grids)
  table <- do.call(rbind, lapply(seq_len(nrow(changes)), function(i) {
    moved <- predictors[!is.na(unlist(changes[i, predictors]))]
    at <- unlist(changes[i, moved])
    data.frame(
      model = model$name, row = which, change = i, predictor = moved,
      from = vapply(moved, function(p) unit_values(row, p), ""),
      to = vapply(moved, function(p) found$grids[[p]]$at[changes[[p]][i]], ""),
      size = vapply(moved, function(p) found$grids[[p]]$size[changes[[p]][i]], 0),
      total = changes$.total[i], prediction = changes$.p[i], row.names = NULL
    )
  }))
  if (is.null(table)) {
    table <- data.frame(
      model = character(), row = integer(), change = integer(), predictor = character(),
      from = character(), to = character(), size = double(), total = double(),
      prediction = double()
    )
  }
  new_table(table, "change", c(
    study_details(st, model$inputs$predictors),
    list(
      units = units_of(st, model$inputs$predictors), which = which, now = aim$now,
      threshold = aim$threshold, up = aim$up, class = aim$class, free = predictors,
      most = most, model = model$name
    )
  ))
}

#' @export
as.data.frame.dreher_change <- function(x, ...) as_plain(x)
