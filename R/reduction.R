#' Walk down to fewer predictors, honestly scored
#'
#' Scores every model with its top 0, 1, 2, ... predictors by cross-validation. Everything that looks at the target happens inside
#' the training part of each fold: the ranking, the refits and, for the procedure's own score, the choice of the size.
#'
#' @param study A [study()] with training rows.
#' @param by Method that ranks: `"permutation"` (default), `"impurity"` or `"shapley"`.
#' @param ... Must be empty.
#' @param models Names of the models. Default: all.
#' @param folds Number of outer folds.
#' @param times How often the outer folds are drawn anew.
#' @param inner_folds Number of folds inside each outer training part, from which the procedure chooses a size.
#' @param sizes Numbers of predictors to score; 0 and all are always among them. Default: every number up to 8, then in steps of about a third.
#' @param level Level of the intervals.
#' @param seed A whole number; the same seed gives the same result whatever the number of workers.
#' @return A list of class `dreher_reduction`; `as.data.frame()` gives one row per model and size:
#'   \describe{
#'   \item{model, size}{the model and the number of predictors}
#'   \item{added}{the predictors this size adds to the one before, in the order found on all training rows}
#'   \item{score, std_error, lower, upper}{cross-validated score in the metric's unit, with its interval over rows}
#'   \item{price, price_error, price_lower, price_upper}{rise of the loss (fall of the score) against all predictors, paired by row}
#'   }
#'   Intervals from cross-validation are approximate: they leave out that the training parts overlap, and are somewhat too narrow
#'   (Bates, Hastie and Tibshirani 2024).
#' @details
#' For permutation and Shapley rankings a training part is split once more: the model is trained on three quarters and ranked on the
#' last quarter; the nested sets are then refitted on the whole part. Folds are stratified by class. The cost is
#' `folds * times * (1 + inner_folds) * (number of sizes)` fits per model, spread over the workers of [future::plan()].
#'
#' The curve is for looking: its best point flatters. The score of the whole procedure, choice of the size included, is given by
#' [choose_set()] (Varma and Simon 2006; Ambroise and McLachlan 2002).
#' @section Errors: No training rows; a model that cannot be trained again (give `study(refit_with = )`); a fit that fails, with the model,
#'   fold and number of predictors.
#' @references Ambroise, C. and McLachlan, G. (2002). \doi{10.1073/pnas.102102699}.
#'   Varma, S. and Simon, R. (2006). \doi{10.1186/1471-2105-7-91}.
#'   Bates, S., Hastie, T. and Tibshirani, R. (2024). \doi{10.1080/01621459.2023.2197686}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rd <- reduce_predictors(st, folds = 3, times = 1, inner_folds = 2)
#' as.data.frame(rd)
#' @export
reduce_predictors <- function(study, by = "permutation", ..., models = NULL, folds = 5, times = 2, inner_folds = 3,
                              sizes = NULL, level = 0.95, seed = 1) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "reduce_predictors")
  need_train(study, "Reducing predictors")
  by <- check_choice(by, c("permutation", "impurity", "shapley"), "by")
  n <- nrow(study$train)
  folds <- check_count(folds, "folds", least = 2, most = n %/% 8)
  times <- check_count(times, "times")
  inner_folds <- check_count(inner_folds, "inner_folds", least = 2)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  chosen <- pick_models(study, models)
  if (by == "impurity") {
    treeless <- names(chosen)[vapply(chosen, function(m) why_not("impurity", m, study) != "", NA)]
    if (length(treeless)) {
      stop_study(paste0("Ranking by impurity needs trees; model ", quote_some(treeless), " has none."),
                 todo = "Use by = \"permutation\", or name the tree models in `models`.")
    }
  }
  curves <- lapply(chosen, function(m) {
    reduce_model(study, m, by, folds, times, inner_folds, pick_sizes(sizes, length(m$inputs$predictors)), seed)
  })
  structure(list(curves = curves, study = study, by = by, folds = folds, times = times, inner_folds = inner_folds,
                 level = level, seed = seed), class = "dreher_reduction")
}

pick_sizes <- function(sizes, p) {
  if (is.null(sizes)) {
    steps <- unique(round(8 * (4 / 3)^(0:60)))
    sizes <- c(0:8, steps)
  } else if (!is.numeric(sizes) || anyNA(sizes) || any(sizes < 0 | sizes != round(sizes) | sizes > p)) {
    stop_input(paste0("`sizes` must hold whole numbers from 0 to ", p, "."), paste0("Given: ", describe_value(sizes), "."))
  }
  as.integer(sort(unique(c(0, sizes[sizes <= p], p))))
}

reduce_model <- function(st, model, by, folds, times, inner_folds, sizes, seed) {
  train <- training_frame(st, model)
  n <- nrow(train)
  fold_of <- vapply(seq_len(times), function(t) {
    with_stream(seed, c("folds", n, t), draw_folds(st, train, folds))
  }, integer(n))
  pieces <- c(list(list(time = 0L, fold = 0L)),
              lapply(seq_len(times * folds) - 1L, function(i) list(time = i %/% folds + 1L, fold = i %% folds + 1L)))
  done <- map_pieces(pieces, function(piece, st, model, train, fold_of, by, inner_folds, sizes, seed) {
    if (piece$time == 0L) return(order_within(st, model, train, by, seed, "all rows"))
    key <- c(model$name, piece$time, piece$fold)
    out <- fold_of[, piece$time] == piece$fold
    walk_down(st, model, train[!out, , drop = FALSE], train[out, , drop = FALSE], by, inner_folds, sizes, seed, key)
  }, st = st, model = model, train = train, fold_of = fold_of, by = by, inner_folds = inner_folds, sizes = sizes,
  seed = seed, label = "reducing")
  list(model = model$name, sizes = sizes, order = done[[1]], splits = done[-1], pieces = pieces[-1], fold_of = fold_of,
       cases = cases_of(st, train), outer = lapply(seq_len(times), function(t) {
         gather_predictions(done[-1], pieces[-1], fold_of, t, sizes)
       }))
}

# Folds of nearly equal size, each class spread over them.
draw_folds <- function(st, data, folds) {
  y <- data[[st$target]]
  stratum <- if (st$task == "classification") as.integer(y) else rep(1L, nrow(data))
  fold <- integer(nrow(data))
  if (!is.null(st$blocks)) {   # rows that belong together stay together
    of <- cases_of(st, data)$block
    if (max(of) < folds) stop_study(paste0(folds, " folds need at least as many blocks of rows; there are ", max(of), "."), todo = "Ask for fewer folds.")
    return(sample(rep_len(sample.int(folds), max(of)))[of])
  }
  for (s in unique(stratum)) {
    rows <- which(stratum == s)
    fold[rows] <- sample(rep_len(sample.int(folds), length(rows)))
  }
  fold
}

# One outer split: rank on the training part, score the nested sets on the held-out part, and walk
# an inner cross-validation of the training part, from which a size can be chosen without the
# held-out part.
walk_down <- function(st, model, train, test, by, inner_folds, sizes, seed, key) {
  order <- order_within(st, model, train, by, seed, key)
  predictions <- score_nested(st, model, train, test, order, sizes, seed, key)
  inner_fold <- with_stream(seed, c("inner folds", key), draw_folds(st, train, inner_folds))
  inner <- array(0, c(nrow(train), length(sizes), dim(predictions)[3]))
  for (f in seq_len(inner_folds)) {
    out <- inner_fold == f
    inner_key <- c(key, "inner", f)
    inner_order <- order_within(st, model, train[!out, , drop = FALSE], by, seed, inner_key)
    inner[out, , ] <- score_nested(st, model, train[!out, , drop = FALSE], train[out, , drop = FALSE], inner_order, sizes, seed, inner_key)
  }
  list(order = order, predictions = predictions, inner = curve_moments(st, cases_of(st, train), list(inner), seed))
}

# Predictors from top to bottom, by what `train` alone says.
order_within <- function(st, model, train, by, seed, key) {
  predictors <- model$inputs$predictors
  fit_rows <- rank_rows <- rep(TRUE, nrow(train))
  if (by != "impurity") {
    rank_rows <- with_stream(seed, c("rank rows", key), draw_folds(st, train, 4)) == 1
    fit_rows <- !rank_rows
  }
  fit <- fit_on(st, model, train[fit_rows, , drop = FALSE], predictors, seed, key)
  inside <- inside_study(st, model, fit, train[fit_rows, , drop = FALSE], train[rank_rows, , drop = FALSE])
  rk <- switch(by,
               permutation = rank_permutation(inside, repeats = 5, seed = seed),
               impurity = rank_impurity(inside),
               shapley = rank_shapley(inside, background = 50, max_rows = 100, seed = seed))
  rk <- as.data.frame(rk)[is.na(rk$class), ]
  rk <- rk[rk$rows == if ("oob" %in% rk$rows) "oob" else rk$rows[1], ]   # rows a tree has not seen, where they are known
  missing_last <- setdiff(predictors, rk$predictor)
  c(rk$predictor[order(-rk$importance, match(rk$predictor, predictors))], missing_last)
}

# Predictions on `test` from the top-k sets refitted on `train`: rows x sizes x outputs.
score_nested <- function(st, model, train, test, order, sizes, seed, key) {
  out <- NULL
  for (s in seq_along(sizes)) {
    p <- predict_set(st, model, train, test, order[seq_len(sizes[s])], seed, key)
    if (is.null(out)) out <- array(0, c(nrow(test), length(sizes), ncol(p)), list(NULL, NULL, colnames(p)))
    out[, s, ] <- p
  }
  out
}

gather_predictions <- function(splits, pieces, fold_of, time, sizes) {
  of_time <- which(vapply(pieces, `[[`, 1L, "time") == time)
  shape <- dim(splits[[of_time[1]]]$predictions)
  out <- array(0, c(nrow(fold_of), length(sizes), shape[3]), list(NULL, NULL, dimnames(splits[[of_time[1]]]$predictions)[[3]]))
  for (i in of_time) out[fold_of[, time] == pieces[[i]]$fold, , ] <- splits[[i]]$predictions
  out
}

# Loss of each size and the covariance of these losses over rows. `predictions`: one array (rows x
# sizes x outputs) per drawing of the folds; influences are averaged over drawings row by row.
curve_moments <- function(st, cases, predictions, seed) {
  sizes <- dim(predictions[[1]])[2]
  each <- lapply(predictions, function(p) lapply(seq_len(sizes), function(s) {
    metric_influence(st$metric, cases$truth, slice_repeat(p, s), cases$weight)
  }))
  loss <- rowMeans(vapply(each, function(e) vapply(e, `[[`, 0, "loss"), double(sizes)))
  if (!jackknifed(st$metric)) {
    u <- Reduce(`+`, lapply(each, function(e) vapply(e, `[[`, double(length(cases$truth)), "u"))) / length(each)
    return(c(list(loss = loss), influence_error(u, cases$block)[c("cov", "df")]))
  }
  block <- jackknife_blocks(cases, seed)
  left_out <- vapply(unique(block), function(g) {
    rows <- block != g
    some <- some_cases(cases, rows)
    rowMeans(vapply(predictions, function(p) vapply(seq_len(sizes), function(s) {
      metric_influence(st$metric, some$truth, slice_repeat(p, s)[rows, , drop = FALSE], some$weight)$loss
    }, 0), double(sizes)))
  }, double(sizes))
  g <- ncol(left_out)
  list(loss = loss, cov = (g - 1)^2 / g * stats::cov(t(left_out)), df = g - 1)
}

# Standard error of loss[a] - loss[b].
difference_error <- function(moments, a, b) {
  v <- moments$cov
  sqrt(pmax(diag(v)[a] + v[b, b] - 2 * v[a, b], 0))
}

#' @export
as.data.frame.dreher_reduction <- function(x, ...) {
  out <- do.call(rbind, lapply(x$curves, curve_table, rd = x))
  rownames(out) <- NULL
  out
}

curve_table <- function(curve, rd) {
  st <- rd$study
  m <- curve_moments(st, curve$cases, curve$outer, rd$seed)
  sizes <- curve$sizes
  full <- length(sizes)
  own_error <- sqrt(diag(m$cov))
  limits <- t_limits(as_score(st$metric, m$loss), own_error, m$df, rd$level)
  price_error <- difference_error(m, seq_along(sizes), full)
  price <- t_limits(m$loss - m$loss[full], price_error, m$df, rd$level)
  added <- vapply(seq_along(sizes), function(s) {
    from <- if (s == 1) 0 else sizes[s - 1]
    paste(curve$order[seq_len(sizes[s])][seq_len(sizes[s]) > from], collapse = ", ")
  }, "")
  data.frame(model = curve$model, size = sizes, added = added, score = as_score(st$metric, m$loss), std_error = own_error,
             lower = limits$lower, upper = limits$upper, price = m$loss - m$loss[full], price_error = price_error,
             price_lower = price$lower, price_upper = price$upper)
}

#' @export
summary.dreher_reduction <- function(object, ...) {
  do.call(rbind, lapply(names(object$curves), function(m) {
    as.data.frame(choose_set(object, model = m))
  }))
}
