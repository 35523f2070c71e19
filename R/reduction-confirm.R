#' Confirm a chosen set on rows nobody has touched
#'
#' Trains the model once with all and once with the chosen predictors, on all training rows, and compares both on rows that took part
#' in nothing so far.
#'
#' @param set A result of [choose_set()], or of [read_predictor_set()].
#' @param data Untouched rows: a data frame with the target and the predictors.
#' @param ... Must be empty.
#' @param margin The loss one is ready to pay, with its unit, fixed before looking: `"2 %"` (default) of what all predictors gained over
#'   a constant in the cross-validation, or a number with the metric's name, as `"0.4 rmse"`.
#' @param study For a set read from a file: the [study()] whose model is trained.
#' @param again TRUE: these rows were confirmed on before, and one knows what a second look is worth. The result counts the looks.
#' @param level Level: the two-sided interval has this level; the statement rests on the one-sided limit of the same level.
#' @param seed Seed of the two fits; default the reduction's.
#' @return A list of class `dreher_confirmation`: `statement` (one of `better`, `not worse by more than the margin`, `worse`, `inconclusive`),
#'   `difference` (loss of the small less that of the full model), `std_error`, `lower`, `upper` (two-sided), `limit` (one-sided upper), `margin`,
#'   `score_small`, `score_full`, `score_constant`, `gain`, `gain_lower`, `gain_upper` (small model over the constant), `n`, `n_needed`, about how many rows would settle it, and `looks`, how often
#'   this session has confirmed on these rows.
#'   `as.data.frame()` gives one row.
#' @details Paired differences of influences, a t interval (methods: Hoeffding 1948; DeLong et al. 1988 for AUC). Non-inferior when the one-sided upper limit is below the margin
#'   (Piaggio et al. 2012). `n_needed` is \eqn{(1.645 + 0.842)^2 s^2 / margin^2}: enough to show it with 80 % probability if nothing was lost.
#' @section Errors: Rows that are training rows, more than as many as training rows repeat each other; rows that were confirmed on before, unless `again = TRUE` (a second look is a choice among looks);
#'   columns that are missing; a margin without a unit.
#' @references Piaggio, G. et al. (2012). Reporting of noninferiority and equivalence randomized trials. \doi{10.1001/jama.2012.87802}
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' ps <- choose_set(reduce_predictors(st, folds = 3, times = 1, inner_folds = 2))
#' confirm_set(ps, kiln$untouched)
#' @export
confirm_set <- function(set, data, ..., margin = "2 %", again = FALSE, study = NULL, level = 0.95, seed = NULL) {
  set <- set_of_study(set, study)
  check_no_dots(..., .verb = "confirm_set")
  level <- check_fraction(level, "level")
  seed <- if (is.null(seed)) set$seed else check_seed(seed)
  check_flag(again, "again")
  st <- set$study
  model <- st$models[[set$refit]]
  asked <- check_margin(margin, st)
  if (is.null(asked$value) && set$gain_full <= 0) {
    stop_study("All predictors together are not better than a constant, so no margin follows from their gain.",
               todo = paste0("Give `margin` in the metric's unit, as \"0.4 ", st$metric$name, "\"."))
  }
  margin <- margin_value(asked, set$gain_full)
  on <- pick_rows(st, check_rows(data, "data"))$data
  refuse_known_rows(st, on)
  rows <- untouched_rows(st, on, again)

  train <- training_frame(st, model)
  test <- model_rows(st, model, on)
  fit_and_predict <- function(predictors) {
    if (!length(predictors)) return(predict_constant(st, on, train))
    predict_fit(st, model, fit_on(st, model, train, predictors, seed, "confirm"), test, predictors)
  }
  small <- fit_and_predict(set$predictors)
  universe <- union(set$predictors, set$left_out)
  full <- fit_and_predict(universe)
  constant <- predict_constant(st, on, train)
  cases <- cases_of(st, on)
  d <- loss_with_error(st$metric, cases, small, full, seed)
  gain <- loss_with_error(st$metric, cases, constant, small, seed)
  score <- function(p) metric_score(st$metric, cases$truth, p, cases$weight)
  limits <- t_limits(d$loss, d$std_error, d$df, level)
  gain_limits <- t_limits(gain$loss, gain$std_error, gain$df, level)
  reach <- stats::qt(level, d$df) * d$std_error
  n <- nrow(on)
  n_needed <- ceiling((stats::qnorm(level) + stats::qnorm(0.8))^2 * d$std_error^2 * n / margin^2)
  structure(
    list(statement = state_difference(d$loss - reach, d$loss + reach, margin), model = set$model, refit = set$refit, predictors = set$predictors,
         full_size = length(universe), difference = d$loss, std_error = d$std_error, lower = limits$lower, upper = limits$upper,
         limit = d$loss + reach, margin = margin, score_small = score(small),
         score_full = score(full), score_constant = score(constant),
         gain = gain$loss, gain_lower = gain_limits$lower, gain_upper = gain_limits$upper, n = n, n_needed = n_needed, looks = note_look(rows), margin_text = asked$text, target = st$target, seed = seed,
         metric = st$metric$label, level = level),
    class = "dreher_confirmation")
}

state_difference <- function(low, high, margin) {
  if (high < 0) "better"
  else if (high < margin) "not worse by more than the margin"
  else if (low > 0) "worse"
  else "inconclusive"
}

# Rows that took part in the fit confirm nothing; rows that were only looked at confirm less.
# Compared on all columns both tables have. Rows of few distinct values repeat each other by chance: as many as the training rows do are let through.
refuse_known_rows <- function(st, data) {
  keys <- function(known) {
    shared <- intersect(names(known), names(data))
    key <- function(d) do.call(paste, c(lapply(d[shared], function(x) if (is.double(x)) format(x, digits = 15) else as.character(x)), sep = "\r"))
    list(own = key(data), known = key(known))
  }
  k <- keys(st$train)
  trained <- sum(k$own %in% k$known)
  by_chance <- mean(duplicated(k$known) | duplicated(k$known, fromLast = TRUE))
  if (trained > max(0, 2 * by_chance * nrow(data))) {
    stop_input(paste0(trained, " of the ", nrow(data), " rows of `data` are training rows of the study."),
               todo = "Confirm on rows that took part in nothing so far.")
  }
  k <- keys(st$data)
  looked_at <- sum(k$own %in% k$known)
  if (looked_at > nrow(data) / 2) {
    warn_dreher("rows", paste0(looked_at, " of the ", nrow(data), " rows of `data` are the study's holdout rows."),
                "The reduction did not see them, but whoever looked at scores and rankings did; untouched rows are better.")
  }
}

# How often each table of rows has been confirmed on in this session: rows stay untouched once only.
looks_so_far <- new.env(parent = emptyenv())

# The rows' name among those looked at; an error where they are, unless it is said. A look counts when the comparison is done: see note_look().
untouched_rows <- function(st, data, again) {
  rows <- rlang::hash(lapply(data[sort(intersect(names(data), c(st$target, st$predictors)))], as.vector))
  before <- looks_so_far[[rows]]
  if (!is.null(before) && !again) {
    stop_study(paste0("These rows were confirmed on before, ", if (before == 1) "once" else paste(before, "times"), "."), "A second look is a choice among looks, whose best flatters.",
               "Take other rows, or say again = TRUE and tell the reader.")
  }
  rows
}

note_look <- function(rows) looks_so_far[[rows]] <- sum(looks_so_far[[rows]], 1L)

#' @export
as.data.frame.dreher_confirmation <- function(x, ...) {
  x$predictors <- paste(x$predictors, collapse = ", ")
  as.data.frame(unclass(x), stringsAsFactors = FALSE)
}
