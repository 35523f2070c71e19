#' A ranking
#'
#' What the `rank_*()` functions return: a data frame of class `dreher_ranking`, one row per
#' model, method, class and predictor, in order of rank.
#'
#' | column | meaning |
#' |---|---|
#' | `model`, `method` | the model's name in the study; `impurity`, `permutation`, `shapley`, `structure`, `coefficient` or `association` |
#' | `rows` | the rows it was computed on (followed by `conditional` or `score` for that form of permutation or Shapley importance): `holdout`, `train`, `train in-bag`, `oob`, `train corrected`, `train stored`, `given`, or the name of a set of rows |
#' | `class` | with more than two classes, the class a Shapley importance speaks of; `NA`: all together |
#' | `slice`, `resample` | the slice's value and the resample's number where [rank_predictors()] was asked for them, else `NA` |
#' | `predictor`, `family` | the column, and its family in the dictionary |
#' | `importance` | in the unit of the method (see its help page); larger is more important; keeps its sign |
#' | `std_error`, `lower`, `upper` | standard error and limits of the interval; `NA` where `about` is `rows` |
#' | `share` | non-negative part over the sum of the non-negative parts, 0 to 1; `NA` if all are 0 |
#' | `relative` | importance over the top importance; `NA` if that is not positive |
#' | `rank` | 1 is the top; ties share the smaller number |
#' | `about` | what the interval speaks of: `model` (this fitted model on new rows), `learner` (this way of fitting) or `rows` (these rows; no interval) |
#' | `flag` | short warnings, see below |
#'
#' Flags: `leak?`, `identifier`, `many levels` as in [check_data()]; `no skill`: the model is not
#' shown to beat a constant, so its ranking may be noise; `few repeats`: fewer than 5; `few
#' draws`: fewer than 25 refits; `1 stratum`, `twin`: see [rank_permutation()]; `moves only`: see
#' [rank_shapley()]; `in-bag only`: see [rank_impurity()]; `training rows`: computed on rows the
#' model has seen, optimistic and without interval; `not above floor`: see [noise_floor()]; `not
#' converged`: sampling stopped at its limit before the asked precision.
#'
#' Attributes: `target`, `metric`, `better`, `seed`, `level`, `settings` (one row per model and
#' method: number of rows, repeats, what was measured, scale, share of shuffle noise), `labels`,
#' `left_out` (methods that did not apply, and why), `units` (per model and method the values
#' behind each row of data, rows x predictors) and `fingerprint` of the data.
#' @name ranking
NULL

# importance etc.: vectors along `predictors`.
ranking_rows <- function(
    st, model, method, rows, predictors, importance, std_error = NA_real_,
    lower = NA_real_, upper = NA_real_, about, class = NA_character_, flag = "") {
  d <- st$dictionary
  family <- d$family[match(predictors, d$predictor)]
  family[is.na(family) & predictors %in% d$family] <- predictors[is.na(family) &
      predictors %in% d$family]
  out <- data.frame(
    model = model$name, method = method, rows = rows, class = class,
    slice = NA_character_, resample = NA_integer_, predictor = predictors,
    family = family, importance = importance, std_error = std_error, lower = lower,
    upper = upper, share = NA_real_, relative = NA_real_, rank = NA_integer_,
    about = about, flag = flag
  )
  out <- place_rows(out)
  rownames(out) <- NULL
  out
}

# Shares, relative importances and ranks from the importances; rows in order of rank.
place_rows <- function(d) {
  d$share <- shares_of(d$importance)
  d$relative <- if (max(d$importance) > 0) d$importance / max(d$importance) else NA_real_
  d$rank <- as.integer(rank(-d$importance, ties.method = "min"))
  d[order(d$rank), ]
}

# The non-negative parts over their sum; NA where nothing is positive.
shares_of <- function(x) {
  x <- pmax(x, 0)
  if (sum(x) > 0) x / sum(x) else rep(NA_real_, length(x))
}

new_ranking <- function(st, table, settings, units, seed, level, left_out = NULL) {
  structure(
    table,
    class = c("dreher_ranking", "data.frame"),
    target = st$target,
    metric = st$metric$name,
    metric_label = st$metric$label,
    better = st$metric$better,
    task = st$task,
    seed = seed,
    level = level,
    settings = settings,
    labels = labels_of(st, unique(table$predictor)),
    units = units,
    left_out = left_out,
    fingerprint = st$fingerprint
  )
}

new_settings <- function(
    model, method, rows, n, repeats = NA_integer_, measures, scale = NA_character_,
    background = NA_integer_, note = "", shuffle_noise = NA_real_) {
  data.frame(
    model = model$name,
    class = model$class,
    method = method,
    rows = rows,
    n = n,
    repeats = repeats,
    measures = measures,
    scale = scale,
    background = background,
    note = note,
    shuffle_noise = shuffle_noise
  )
}

bind_rankings <- function(st, parts, seed, level, left_out = NULL) {
  table <- do.call(rbind, lapply(parts, as_plain))
  rownames(table) <- NULL
  out <- new_ranking(
    st,
    table,
    do.call(rbind, lapply(parts, attr, "settings")),
    unlist(lapply(unname(parts), attr, "units"), recursive = FALSE),
    seed,
    level,
    left_out
  )
  for (name in c(
      "members", "strata", "gap", "twins", "score", "direction", "shares", "parts"
    )) {
    attr(out, name) <- unique(do.call(rbind, unname(lapply(parts, attr, name))))
  }
  out
}

as_plain <- function(x) {
  keep <- c("names", "row.names")
  attributes(x) <- c(attributes(x)[keep], list(class = "data.frame"))
  x
}

#' @export
as.data.frame.dreher_ranking <- function(x, ...) as_plain(x)

# A part of a ranking is a ranking as long as it keeps the columns; otherwise a plain table.
#' @export
`[.dreher_ranking` <- function(x, ...) {
  out <- NextMethod()
  if (is.data.frame(out) &&
      !all(c("model", "method", "predictor", "importance", "rank") %in% names(out))) {
    return(as_plain(out))
  }
  out
}

#' @export
summary.dreher_ranking <- function(object, ...) {
  parts <- split_ranking(object)
  rows <- lapply(parts, function(r) {
    lead <- r$predictor[order(r$rank)]
    half <- which(cumsum(sort(r$share, decreasing = TRUE)) >= 0.5)[1]
    data.frame(
      model = r$model[1],
      method = r$method[1],
      class = r$class[1],
      predictors = nrow(r),
      first = lead[1],
      carry_half = half,
      above_zero = if (all(is.na(r$lower))) NA_integer_ else sum(r$lower > 0),
      negative_total = sum(pmin(r$importance, 0))
    )
  })
  out <- do.call(rbind, rows)
  rownames(out) <- NULL
  out
}

# As it is shown: the mean over resamples, slices as rows of their own.
shown_ranking <- function(x) {
  if (all(is.na(x$resample)) && all(is.na(x$slice))) return(x)
  table <- as_plain(x)
  if (!all(is.na(table$resample))) {
    key <- paste(
      table$model, table$method, table$rows, table$class, table$slice, table$predictor,
      sep = "\r"
    )
    first <- !duplicated(key)
    value <- split(table$importance, factor(key, key[first]))
    table <- table[first, ]
    table$importance <- vapply(value, mean, 0)
    table$std_error <- vapply(value, stats::sd, 0)
    table$lower <- table$upper <- NA_real_
    table$about <- "learner"
  }
  table$rows <- rows_with_slice(table$rows, table$slice)
  table <- do.call(rbind, lapply(split_ranking(table), place_rows))
  rownames(table) <- NULL
  keep <- attributes(x)
  attributes(table) <- c(
    attributes(table)[c("names", "row.names")],
    keep[setdiff(names(keep), c("names", "row.names"))]
  )
  table
}

# What rows are called in the settings. The usual ones go without saying where there are slices.
rows_with_slice <- function(rows, slice) {
  ifelse(is.na(slice), rows, trimws(paste(sub("^(holdout|left out)", "", rows), slice)))
}

# One part per model, method, rows and class.
split_ranking <- function(x) {
  x <- as_plain(x)
  key <- paste(x$model, x$method, x$rows, ifelse(is.na(x$class), "", x$class), sep = "\r")
  split(x, factor(key, levels = unique(key)))
}

# Short warnings for each predictor and for each model, worked out once per call.
find_flags <- function(st) {
  found <- find_suspects(st, st$predictors)
  words <- c(leak = "leak?", identifier = "identifier", "many levels" = "many levels")
  found <- found[found$finding %in% names(words), ]
  list(predictors = vapply(stats::setNames(nm = st$predictors), function(p) {
         paste(words[found$finding[found$predictor == p]], collapse = "; ")
       }, ""),
       models = vapply(st$models, function(m) score_one(st, m, 0.95, 1)$flag, ""))
}

# The predictors' flags, per unit (a list of predictors' names).
flags_of_units <- function(st, units) {
  flags <- st$flags$predictors
  if (all(lengths(units) == 1)) {
    return(stats::setNames(flags[unlist(units, use.names = FALSE)], names(units)))
  }
  vapply(units, function(u) join_flags(t(unname(flags[u]))), "")
}

join_flags <- function(...) {
  apply(cbind(...), 1, function(f) paste(unique(f[nzchar(f)]), collapse = "; "))
}
