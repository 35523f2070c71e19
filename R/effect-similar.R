#' Rows like a given one, and rows that stand for many
#'
#' `similar_rows()` finds the rows that the model treats like a given one, with their targets and
#' predictions. `prototype_rows()` finds the few rows that stand for all, or for those of a
#' condition.
#'
#' @inheritParams contributions
#' @param which `similar_rows()`: number of the row. `prototype_rows()`: numbers of the rows that
#'   are to be stood for. Default: all.
#' @param model Name of the model. Default: the first.
#' @param rows `"holdout"` (default), `"train"`, or a data frame of other rows with the target:
#'   where the row stands, and where rows like it are looked for.
#' @param count Number of similar rows, or of prototypes.
#' @param by What makes rows alike: `"contributions"` (default), the same reasons for the
#'   prediction: the distance between their Shapley values; `"leaves"`, for trees: the share of
#'   trees in which they do not end in the same leaf.
#' @param max_rows At most so many rows are looked at, drawn by seed.
#' @return A data frame of class `dreher_similar`: `model`; `row`, the number of a similar row or
#'   prototype; `distance`, to the given row (of contributions: in units of the prediction), for
#'   prototypes the mean distance of the rows it stands for; `share` of the rows that a prototype
#'   stands for (`NA` for similar rows); `target` and `prediction` (for classes: text, and the
#'   probability of the positive or first class). Attribute `details` holds the rows themselves in
#'   `data`.
#' @details Prototypes are medoids: rows that make the mean distance of all rows to the nearest of
#'   them small, found by building up and exchanging (Kaufman and Rousseeuw 1990).
#' @section Errors: A row number that is not there; `"leaves"` for a model without trees; fewer rows
#'   than are asked for.
#' @references Kaufman, L. and Rousseeuw, P. J. (1990). Finding groups in data.
#'   \doi{10.1002/9780470316801}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' similar_rows(st, which = 12)
#' prototype_rows(st, count = 3)
#' @export
similar_rows <- function(
    study, which, ..., model = NULL, rows = "holdout", count = 5, by = "contributions",
    background = 100, max_rows = 2000, seed = 1, threads = NULL) {
  st <- open_ranking(study, "similar_rows", ..., threads = threads)
  if (missing(which)) {
    stop_input("`which` is missing: the number of the row.", todo = "For example which = 12.")
  }
  count <- check_count(count, "count", most = 1000)
  plan <- plan_likeness(st, model, rows, by, background, max_rows, seed)
  which <- check_which(which, plan$of)
  if (length(which) != 1) {
    stop_input(
      "`which` must be the number of one row.", paste0("Given: ", length(which), " numbers.")
    )
  }
  plan$chosen <- union(which, plan$chosen)
  places <- points_of_rows(st, plan)
  distance <- distances_from(places, 1)
  others <- seq_along(plan$chosen)[-1]
  if (length(others) < count) {
    stop_input(
      paste0("There are ", length(others), " other rows, fewer than `count`."),
      todo = "Give a smaller count."
    )
  }
  near <- others[order(distance[others])[seq_len(count)]]
  table_of_likeness(st, plan, plan$chosen[near], distance[near], NA_real_, which, NA_real_)
}

#' @rdname similar_rows
#' @export
prototype_rows <- function(
    study, ..., count = 3, which = NULL, model = NULL, rows = "holdout",
    by = "contributions", background = 100, max_rows = 1000, seed = 1, threads = NULL) {
  st <- open_ranking(study, "prototype_rows", ..., threads = threads)
  count <- check_count(count, "count", most = 50)
  plan <- plan_likeness(st, model, rows, by, background, max_rows, seed)
  which <- check_which(which, plan$of)
  if (!is.null(which)) {
    plan$chosen <- utils::head(which, max_rows)
  }
  if (length(plan$chosen) <= count) {
    stop_input(
      paste0("There are ", length(plan$chosen), " rows; more than `count` are needed."),
      todo = "Give a smaller count, or more rows."
    )
  }
  places <- points_of_rows(st, plan)
  d <- vapply(seq_along(plan$chosen), function(i) distances_from(places, i), double(
    length(plan$chosen)
  ))
  medoids <- find_medoids(d, count)
  nearest <- medoids[max.col(-d[, medoids, drop = FALSE], ties.method = "first")]
  share <- vapply(medoids, function(m) mean(nearest == m), 0)
  mean_distance <- vapply(medoids, function(m) mean(d[nearest == m, m]), 0)
  by_share <- order(-share)
  out <- table_of_likeness(
    st, plan, plan$chosen[medoids[by_share]], mean_distance[by_share], share[by_share], NULL,
    mean(apply(d[, medoids, drop = FALSE], 1, min)) / max(mean(d), 1e-300)
  )
  out
}

plan_likeness <- function(st, model, rows, by, background, max_rows, seed) {
  by <- check_choice(by, c("contributions", "leaves"), "by")
  max_rows <- check_count(max_rows, "max_rows", least = 10, most = 20000)
  seed <- check_seed(seed)
  if (!is.null(model)) check_choice(model, names(st$models), "model")
  m <- pick_models(st, if (is.null(model)) names(st$models)[1] else model)[[1]]
  if (by == "leaves" && (is.null(m$forest) || isTRUE(m$forest$shared))) {
    stop_model(
      paste0("Model \"", m$name, "\" has no trees, so that rows share no leaves."),
      todo = "Use by = \"contributions\"."
    )
  }
  if (!is.data.frame(rows)) rows <- check_choice(rows, c("holdout", "train"), "rows")
  picked <- pick_rows(st, rows)
  drawn <- draw_rows(picked, max_rows, seed)
  background <- check_background(background)
  list(
    model = m, by = by, data = picked$data, label = picked$label, of = nrow(picked$data),
    chosen = drawn$chosen, background = background, seed = seed
  )
}

# Rows as points: of their contributions (rows x units and classes), or of their leaves.
points_of_rows <- function(st, plan) {
  m <- plan$model
  data <- plan$data[plan$chosen, , drop = FALSE]
  attr(data, "row.names") <- .set_row_names(nrow(data))
  rows <- model_rows(st, m, data, "rows")
  if (plan$by == "leaves") {
    return(list(
      leaves = forest_ends(m$forest, encode_for_forest(m$forest, rows), st$threads),
      weight = m$forest$weight / sum(m$forest$weight)
    ))
  }
  units <- shapley_units(st, m, NULL)
  bg <- model_rows(st, m, draw_background(st, plan$background, plan$seed), "background")
  limits <- list(scale = "auto", precision = 0.05, max_pairs = 60)
  values <- divide_rows(st, m, units, rows, bg, limits, plan$seed)
  list(points = matrix(values$phi, nrow(rows)))
}

distances_from <- function(places, i) {
  if (!is.null(places$leaves)) {
    apart <- places$leaves != rep(places$leaves[i, ], each = nrow(places$leaves))
    return(as.vector(apart %*% places$weight))
  }
  sqrt(rowSums(sweep(places$points, 2, places$points[i, ])^2))
}

# Medoids: built up one by one, then exchanged as long as that helps.
find_medoids <- function(d, count) {
  chosen <- which.min(colSums(d))
  while (length(chosen) < count) {
    now <- apply(d[, chosen, drop = FALSE], 1, min)
    gain <- colSums(pmax(now - d, 0))
    gain[chosen] <- -1
    chosen <- c(chosen, which.max(gain))
  }
  cost <- function(m) sum(apply(d[, m, drop = FALSE], 1, min))
  best <- cost(chosen)
  for (turn in 1:20) {
    better <- FALSE
    for (k in seq_along(chosen)) {
      rest <- if (count > 1) {
        apply(d[, chosen[-k], drop = FALSE], 1, min)
      } else {
        rep(Inf, nrow(d))
      }
      costs <- colSums(pmin(d, rest))
      costs[chosen[-k]] <- Inf
      to <- which.min(costs)
      if (costs[to] < best - 1e-12) {
        chosen[k] <- to
        best <- costs[to]
        better <- TRUE
      }
    }
    if (!better) break
  }
  chosen
}

table_of_likeness <- function(st, plan, numbers, distance, share, which, left) {
  all <- c(which, numbers)
  data <- plan$data[all, , drop = FALSE]
  attr(data, "row.names") <- .set_row_names(nrow(data))
  rows <- model_rows(st, plan$model, data, "rows")
  p <- predict_aligned(st, plan$model, rows)
  k <- if (st$task == "regression") 1 else if (length(st$classes) == 2) st$positive else 1
  truth <- data[[st$target]]
  own <- seq_along(which)
  shown <- setdiff(seq_along(all), own)
  table <- data.frame(
    model = plan$model$name, row = as.integer(numbers), distance = distance, share = share,
    prediction = p[shown, k]
  )
  table$target <- if (is.numeric(truth)) truth[shown] else as.character(truth[shown])
  new_table(
    table[c("model", "row", "distance", "share", "target", "prediction")], "similar", c(
      study_details(st, plan$model$inputs$predictors),
      list(
        units = units_of(st, plan$model$inputs$predictors), by = plan$by, which = which,
        own = if (length(which)) list(
          prediction = p[1, k],
          target = if (is.numeric(truth)) truth[1] else as.character(truth[1])
        ),
        left = left, rows = plan$label, looked_at = length(plan$chosen),
        class = if (st$task == "classification") st$classes[k],
        predictors = plan$model$inputs$predictors, data = rows
      )
    )
  )
}

#' @export
as.data.frame.dreher_similar <- function(x, ...) as_plain(x)
