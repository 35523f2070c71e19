#' Rank predictors by their association with the target, each alone
#'
#' A yardstick that asks no model: how strongly goes each predictor with the target when nothing
#' else is looked at?
#'
#' @inheritParams rank_permutation
#' @param form `"rank"` (default): rank association on a common scale of 0 to 1. `"variance"`:
#'   the predictor's own scaled spread, which knows nothing of the target. `"score"`: by how much
#'   the study's metric beats the constant with this predictor alone (the target's mean, or class
#'   shares, in 20 bins or per level of the training rows).
#' @param times Number of bootstrap draws of the training rows behind the standard errors of
#'   `"rank"`.
#' @return A [ranking] of method `association`, `model` being `(no model)`. For `"rank"` and
#'   `"score"` `inference` is `learner`, with an interval. Entry `statistics` of its
#'   [details][ranking_details()] holds a data frame of `predictor`, `kind` (which measure of
#'   association), `n` (rows with both known), `sign` (for two ordered columns), `p_value` and
#'   `p_adjusted` (Holm).
#' @details `"rank"`, corrected so that independence is near 0: number and number
#'   \eqn{\sqrt{\max(0, \rho^2 - (1-\rho^2)/(n-2))}}{sqrt(max(0, rho^2 - (1 - rho^2)/(n - 2)))}
#'   with Spearman's rho; number and classes the root of
#'   \eqn{\max(0, (H-k+1)/(n-k))}{max(0, (H - k + 1)/(n - k))} with Kruskal and Wallis's H;
#'   classes and classes Cramer's V corrected by Bergsma (2013). Ordered factors count as numbers.
#'   Missing values: rows with both known. It is marginal: a predictor that acts
#'   only together with another, or that rises and falls, can be missed.
#' @section Errors: No training rows; fewer than 10 rows.
#' @references Bergsma, W. (2013). A bias-correction for Cramer's V and Tschuprow's T.
#'   \doi{10.1016/j.jkss.2012.10.002}.
#'   Kruskal, W. and Wallis, W. (1952). \doi{10.1080/01621459.1952.10483441}. Spearman, C. (1904).
#'   \doi{10.2307/1412159}.
#' @examples
#' kiln <- demo_kiln()
#' fit <- lm(strength ~ peak_temp + clay_source + operator + grog_share, kiln$train)
#' rank_association(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
rank_association <- function(
    study, ..., form = "rank", times = 200, level = 0.95, seed = 1) {
  st <- open_ranking(study, "rank_association", ...)
  train <- need_train(st, "Ranking by association")
  form <- check_choice(form, c("rank", "variance", "score"), "form")
  times <- check_count(times, "times", least = 2)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  if (nrow(train) < 10) {
    stop_input(
      "Ranking by association needs at least 10 training rows.",
      paste0("Given: ", nrow(train), ".")
    )
  }
  predictors <- st$predictors
  one <- switch(
    form,
    rank = associate_ranks,
    variance = associate_variance,
    score = associate_score
  )
  found <- map_here(predictors, function(p) one(st, p, seed), "association")
  get <- function(field) vapply(found, function(f) as.double(f[[field]]), 0)
  std_error <- if (form == "rank") {
    association_errors(st, predictors, get("value"), times, seed)
  } else {
    get("std_error")
  }
  limits <- association_limits(form, get("value"), std_error, get("df"), level)
  nobody <- list(name = "(no model)", class = "none")
  settings <- new_settings(
    nobody,
    "association",
    on_train,
    nrow(train),
    form = form,
    measures = c(
      rank = "rank association, each alone",
      variance = "spread over the mean absolute value",
      score = paste("gain in", st$metric$label, "over the constant, each alone")
    )[[form]]
  )
  table <- ranking_rows(
    st,
    settings,
    predictors,
    get("value"),
    std_error,
    limits$lower,
    limits$upper,
    inference = if (form == "variance") "rows" else "learner",
    flag = unname(flags_of(st)$predictors[predictors])
  )
  p_value <- get("p_value")
  statistics <- data.frame(
    predictor = predictors,
    kind = vapply(found, `[[`, "", "kind"),
    n = get("n"),
    sign = get("sign"),
    p_value = p_value,
    p_adjusted = stats::p.adjust(p_value, "holm")
  )
  validate_ranking(ranking_part(st, table, settings, seed, level, statistics = statistics))
}

# On the scale from 0 to 1 limits stay within it.
association_limits <- function(form, value, std_error, df, level) {
  half <- ifelse(is.na(df), NA, suppressWarnings(stats::qt((1 + level) / 2, df))) * std_error
  lower <- value - half
  upper <- value + half
  if (form != "rank") return(list(lower = lower, upper = upper))
  list(lower = pmax(lower, 0), upper = pmin(upper, 1))
}

associate_ranks <- function(st, p, seed) {
  x <- st$train[[p]]
  both <- !is.na(x)
  out <- association(x[both], st$train[[st$target]][both])
  c(list(n = sum(both), df = if (is.na(out$value)) NA else sum(both) - 1), out)
}

# Standard deviations over bootstrap draws of the training rows, the same ones for all predictors.
association_errors <- function(st, predictors, value, times, seed) {
  asked <- !is.na(value)
  columns <- lapply(predictors[asked], function(p) code_values(st$train[[p]]))
  target <- code_values(st$train[[st$target]])
  n <- nrow(st$train)
  draw <- function(b) sample.int(n, replace = TRUE)
  at_once <- max(1, min(times, floor(1e7 / n)))
  parts <- split(seq_len(times), ceiling(seq_len(times) / at_once))
  draws <- with_stream(seed, "association", lapply(parts, function(part) {
    associate_draws(
      lapply(columns, `[[`, "code"), vapply(columns, `[[`, NA, "ordered"), target$code,
      target$ordered, vapply(part, draw, integer(n)), st$threads
    )
  }))
  out <- rep(NA_real_, length(predictors))
  out[asked] <- apply(do.call(rbind, draws), 2, stats::sd, na.rm = TRUE)
  out
}

# Values by their place among all, so that ranks need no sorting.
code_values <- function(x) {
  order <- as_ordered(x)
  values <- if (is.null(order)) as.character(x) else order
  known <- sort(unique(values), method = "radix")
  list(code = match(values, known), ordered = !is.null(order))
}

# Values alone, by name.
associate_target <- function(st, predictors) {
  y <- st$train[[st$target]]
  vapply(stats::setNames(nm = predictors), function(p) {
    known <- !is.na(st$train[[p]])
    association(st$train[[p]][known], y[known])$value
  }, 0)
}

associate_variance <- function(st, p, seed) {
  x <- st$train[[p]]
  x <- x[!is.na(x)]
  a <- as_ordered(x)
  share <- table(as.character(x)) / length(x)
  value <- if (is.null(a)) {
    1 - sum(share^2)
  } else if (mean(abs(a)) > 0) {
    stats::sd(a) / mean(abs(a))
  } else {
    0
  }
  list(
    value = value,
    std_error = NA,
    df = NA,
    kind = if (is.null(a)) "Gini index" else "variation",
    n = length(x),
    sign = NA,
    p_value = NA
  )
}

# The study's metric with this predictor alone, against the constant, on the holdout rows.
associate_score <- function(st, p, seed) {
  fitted <- fit_alone(st, p, st$train, st$data)
  gain <- loss_with_error(
    st$metric, row_info(st, st$data), predict_constant(st, nrow(st$data)), fitted, seed
  )
  list(
    value = gain$loss,
    std_error = gain$std_error,
    df = gain$df,
    kind = "gain alone",
    n = nrow(st$data),
    sign = NA,
    p_value = NA
  )
}

association_record <- function() {
  list(
    name = "association", label = "Association",
    usual_forms = c("rank", "variance", "score"), asks_model = FALSE, zero_is_null = TRUE,
    rank = function(st, model, evaluation, settings) {
      rank_association(st, level = settings$level, seed = settings$seed)
    },
    importances = function(inside, model, units, groups, settings) {
      associate_target(inside, unlist(units, use.names = FALSE))
    }
  )
}
