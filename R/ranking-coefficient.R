#' Rank predictors by the coefficients of a linear predictor
#'
#' How much does the linear predictor of a linear, generalised linear or penalised model move with
#' a predictor over the training rows?
#'
#' @inheritParams rank_permutation
#' @param form `"predictor"` (default): all terms that use a predictor, jointly. `"term"`: each
#'   term of the formula by itself.
#' @return A [ranking] of method `coefficient`, on the scale of the linear predictor (for `lm` the
#'   target's unit, for a logit log-odds). `inference` is `learner`: the interval is that of the
#'   fit's own standard errors; `NA` for models that have none (penalised, multinomial), where
#'   `inference` is `rows`. Entry `statistics` of its [details][ranking_details()] holds, per
#'   model, a data frame of `predictor`, `columns` (coefficients involved), `sign` (+1, -1, or
#'   `NA` for several columns), `statistic`, `df` and `p_value` (joint Wald test: F for `lm`, chi
#'   squared otherwise; `NA` without standard errors). Flag `aliased`: at least one coefficient
#'   could not be estimated; `nearly aliased`: the error of its contribution is more than a
#'   thousand times that of the best determined column, because other columns all but repeat it,
#'   so that its place says little. With several classes: a set of rows per class, its
#'   coefficients taken against the classes' mean, and their sum.
#' @details For the columns G of a predictor with coefficients b, their covariance S over the
#'   training rows and the covariance V of b, \eqn{I = \sqrt{b'Sb}}: the standard deviation of
#'   what G adds to the linear
#'   predictor. For a number that is |b| sd(x) (Gelman 2008); for a factor it does not depend on
#'   the reference level. With several columns \eqn{b'Sb} is too large by tr(SV), which is taken
#'   off.
#'   Standard error by the delta method: \eqn{\sqrt{b'SVSb}/I}.
#' @section Errors: No training rows; no model with coefficients among `models`.
#' @references Gelman, A. (2008). Scaling regression inputs by dividing by two standard
#'   deviations. \doi{10.1002/sim.3107}.
#'   Kelley, T. (1935). An unbiased correlation ratio measure. \doi{10.1073/pnas.21.9.554}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + clay_source + operator, kiln$train)
#' rank_coefficients(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
rank_coefficients <- function(
    study, ..., models = NULL, form = "predictor", level = 0.95) {
  st <- open_ranking(study, "rank_coefficients", ...)
  need_train(st, "Ranking by coefficients")
  form <- check_choice(form, c("predictor", "term"), "form")
  level <- check_fraction(level, "level")
  models <- pick_models(st, models)
  bare <- vapply(models, function(m) is.null(m$linear), NA)
  if (all(bare)) {
    stop_study(
      paste0(
        "Ranking by coefficients needs a linear predictor; none of these models has ",
        "one that dreher reads: ", quote_some(names(models)), "."
      ),
      todo = "Rank them by permutation or Shapley importance."
    )
  }
  parts <- lapply(models[!bare], weigh_model, st = st, form = form, level = level)
  join_parts(
    st,
    parts,
    NA_integer_,
    level,
    left_out = leave_out("coefficients", names(models)[bare], "it has no coefficients")
  )
}

weigh_model <- function(model, st, form, level) {
  linear <- model$linear
  design <- linear$design(model_rows(st, model, st$train, "train"))
  # of one predictor at a time: the whole matrix may be huge
  S <- function(columns) stats::cov(design[, columns, drop = FALSE])
  groups <- columns_of_terms(linear, model$inputs$predictors, form)
  beta <- as.matrix(linear$beta)
  if (ncol(beta) > 1) {
    return(weigh_classes(model, st, groups, beta, S, nrow(design), level))
  }
  scale <- if (!is.null(linear$vcov)) least_variance(linear, design)
  weighed <- lapply(
    groups, weigh_group, b = beta[, 1], S = S, V = linear$vcov, df = linear$df,
    scale = scale
  )
  get <- function(field) vapply(weighed, function(w) as.double(w[[field]]), 0)
  importance <- get("importance")
  std_error <- get("std_error")
  limits <- t_limits(
    importance, std_error, if (is.null(linear$df)) Inf else linear$df, level
  )
  flags <- coefficient_flags(st, model, groups, form, get("inflation"))
  settings <- new_settings(
    model,
    "coefficients",
    on_train,
    nrow(design),
    form = if (form == "term") "term" else "plain",
    measures = "sd of its part of the linear predictor",
    scale = linear_scale(linear$link)
  )
  table <- ranking_rows(
    st,
    settings,
    names(groups),
    importance,
    std_error,
    pmax(limits$lower, 0),
    limits$upper,
    inference = if (is.null(linear$vcov)) "rows" else "learner",
    flag = flags
  )
  statistics <- data.frame(
    predictor = names(groups),
    columns = lengths(groups),
    sign = get("sign"),
    statistic = get("statistic"),
    df = get("df"),
    p_value = get("p_value"),
    row.names = NULL
  )
  ranking_part(st, table, settings, NA_integer_, level, statistics = statistics)
}

# Which coefficients belong to each predictor, or to each term.
columns_of_terms <- function(linear, predictors, form) {
  if (form == "term") {
    each <- lapply(seq_along(linear$columns), function(t) which(linear$term == t))
    return(stats::setNames(each, names(linear$columns)))
  }
  terms_of <- split(
    rep(seq_along(linear$columns), lengths(linear$columns)),
    factor(unlist(linear$columns), predictors)
  )
  columns_of <- split(
    seq_along(linear$term), factor(linear$term, seq_along(linear$columns))
  )
  lapply(stats::setNames(terms_of, predictors), function(terms) {
    sort(unlist(columns_of[terms], use.names = FALSE))
  })
}

coefficient_flags <- function(st, model, groups, form, inflation) {
  linear <- model$linear
  own <- if (form == "predictor") {
    flags_of(st)$predictors[names(groups)]
  } else {
    rep("", length(groups))
  }
  aliased <- vapply(groups, function(g) any(names(linear$beta)[g] %in% linear$aliased), NA)
  flags <- join_flags(
    own, flags_of(st)$models[[model$name]], ifelse(aliased, "aliased", "")
  )
  join_flags(flags, ifelse(inflation > 1000, "nearly aliased", ""))
}

# What the variance of one standardised column's contribution would be at best, were all columns
# unrelated: that of the column for which it is least stands for the scale of the errors.
least_variance <- function(linear, design) {
  known <- setdiff(
    intersect(colnames(design)[linear$term > 0], rownames(linear$vcov)),
    names(linear$beta)[linear$beta == 0]
  )
  if (!length(known)) return(NA_real_)
  each <- apply(design[, known, drop = FALSE], 2, stats::var) * diag(linear$vcov)[known]
  min(each[each > 0], Inf)
}

# How many times larger the error of a group's contribution is than that of the best determined
# column.
variance_inflation <- function(Sg, Vg, scale) {
  if (is.finite(scale)) sum(diag(Sg %*% Vg)) / nrow(Sg) / scale else NA_real_
}

# One predictor's columns. V: covariance of the estimated coefficients, or NULL.
weigh_group <- function(group, b, S, V, df, scale = NA) {
  out <- list(
    importance = 0,
    std_error = if (is.null(V)) NA else 0,
    sign = NA,
    statistic = NA,
    df = NA,
    p_value = NA,
    inflation = NA
  )
  known <- group[b[group] != 0 | names(b)[group] %in% rownames(V)]
  if (!length(known)) return(out)
  bg <- b[known]
  Sg <- S(known)
  square <- sum(bg * (Sg %*% bg))
  out$sign <- if (length(group) == 1) sign(bg) else NA
  if (is.null(V)) {
    out$importance <- sqrt(max(square, 0))
    return(out)
  }
  Vg <- V[names(bg), names(bg), drop = FALSE]
  biased <- if (length(known) > 1) sum(diag(Sg %*% Vg)) else 0
  out$importance <- sqrt(max(square - biased, 0))
  out$inflation <- variance_inflation(Sg, Vg, scale)
  if (square > 0) {
    out$std_error <- sqrt(max(as.vector(t(bg) %*% Sg %*% Vg %*% Sg %*% bg), 0) / square)
  }
  wald <- tryCatch(sum(bg * solve(Vg, bg)), error = function(e) NA_real_)
  k <- length(known)
  out$df <- k
  out$statistic <- if (is.null(df)) wald else wald / k
  out$p_value <- if (is.null(df)) {
    stats::pchisq(wald, k, lower.tail = FALSE)
  } else {
    stats::pf(wald / k, k, df, lower.tail = FALSE)
  }
  out
}

# Several linear predictors, one per class: coefficients against their mean, so that no class is
# the reference.
weigh_classes <- function(model, st, groups, beta, S, n, level) {
  beta <- beta - rowMeans(beta)
  sizes <- vapply(
    groups,
    function(g) {
      sqrt(pmax(colSums(beta[g, , drop = FALSE] * (S(g) %*% beta[g, , drop = FALSE])), 0))
    },
    double(ncol(beta))
  )
  flags <- join_flags(rep("", length(groups)), flags_of(st)$models[[model$name]])
  settings <- new_settings(
    model,
    "coefficients",
    on_train,
    n,
    measures = "sd of its part of the linear predictors",
    scale = "log-odds"
  )
  one <- function(importance, class) {
    ranking_rows(
      st, settings, names(groups), as.vector(importance), inference = "rows", class = class,
      flag = flags
    )
  }
  tables <- c(
    list(one(colSums(sizes), NA_character_)),
    lapply(st$classes, function(k) one(sizes[match(k, colnames(beta)), ], k))
  )
  ranking_part(st, do.call(rbind, tables), settings, NA_integer_, level)
}

coefficient_record <- function() {
  list(
    name = "coefficients", label = "Coefficient", needs = c("train", "coefficients"),
    rank = function(st, model, evaluation, settings) {
      rank_coefficients(st, models = model, level = settings$level)
    }
  )
}
