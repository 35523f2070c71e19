#' How predictors act: curves of the prediction
#'
#' What a model predicts as one predictor goes through its values: on average over the rows
#' (partial dependence), row by row, or by accumulated local effects, with an interval at every
#' point and a sentence on direction and shape.
#'
#' @inheritParams rank_permutation
#' @param predictors Names of predictors (default: all that the models take in), or a list of
#'   names and of pairs of names: `list("peak_temp", c("peak_temp", "hold_minutes"))`. A pair is
#'   evaluated at all combinations of its points.
#' @param classes Classes whose probability is followed. Default: the positive class of two, all of
#'   several.
#' @param form `"averaged"` (default), the mean prediction over the rows with the predictor set to
#'   each value in all of them; `"single"`, the same for each row alone; `"accumulated"`, the local
#'   differences of the rows near each value, summed up.
#' @param rows `"holdout"` (default), `"train"`, or a data frame of other rows with the target.
#' @param slice A formula with one column on its right side: curves of each of its values' rows.
#' @param points Number of points, evenly spread over the rows (pairs: up to 15 each). Predictors of
#'   fewer values take them all.
#' @param at Points of your own: a list by predictor, `list(peak_temp = c(1150, 1200, 1250))`.
#'   Points beyond the range of the training rows are flagged.
#' @param groups `"family"`: each family of the dictionary moves as one, all its predictors from
#'   their low to their high quantiles together; or a named list of groups of predictors.
#' @param centred TRUE: every curve less its value at the first point.
#' @param max_rows At most so many rows, drawn by seed. Default: all; 50 for `"single"`.
#' @param resamples Bootstrap draws of [draw_resamples()]: each model is trained again on every
#'   draw, and the interval says how far the curve of this way of training varies.
#' @param run Folder that keeps the finished refits, as in [rank_predictors()].
#' @return A data frame of class `dreher_effects`, a row per point: `model`; `class`; `predictor`
#'   (of a family its name); `form`; `slice`; `row` (of the rows given; `NA` unless `"single"`);
#'   `at`, the value as text; `position`, its place as a number (levels: 1, 2, ...; dates: days or
#'   seconds since 1970; families: the common quantile); `other`, `other_at`, `other_position`, the
#'   second predictor of a pair; `effect`, in units of the prediction or as a probability;
#'   `std_error`, `lower`, `upper` (`NA` for single rows and for one row); `rows_near`, the number
#'   of training rows (else of evaluated rows) nearer to this point than to the next; `inference`,
#'   `model` or `learner`; `flag`, `few rows` (fewer than 5 near, and fewer than a quarter of an
#'   even share) or `beyond training range`.
#'   `summary()` gives a row per curve with its direction, where it is lowest and highest, the
#'   change between the two (of single rows: what the median row moves by), and the sentence.
#' @details *Averaged* (Friedman 2001): \eqn{f_j(v) = n^{-1}\sum_i f(v, x_{i,-j})}. Where
#'   predictors are associated this averages over combinations that cannot occur. Trees: one walk
#'   per row and tree yields all predictors and points together, exactly; sums of terms move their
#'   own term; other models predict altered copies of the rows.
#'
#' *Accumulated* (Apley and Zhu 2020): between neighbouring points the mean difference of the
#' predictions of the rows that lie there, summed from the lowest point on, less its mean over the
#' rows. Rows are only moved within their own neighbourhood, so that a predictor that the model
#' does not use stays flat even if it goes with one that it uses. Unordered levels are put into an
#' order first: neighbours are alike in the other predictors.
#'
#' *Interval:* at each point by itself, for this fitted model on new rows of this kind (t, over rows
#' or blocks; for accumulated effects the sum of the errors of all differences below). With
#' `resamples`, for the mean curve of this way of training at this number of training rows, on
#' these rows: the standard deviation over the draws, around the curve of the study's own model.
#'
#' *Sentences* come from differences along the curve. A rise or fall is said where its interval,
#' widened for all pairs of points, excludes zero; points with a flag are passed over; changes of
#' less than a fifth of the curve's whole span are not turns; a curve that spans less than 10 % of
#' what the predictions span (from their 5 % to their 95 % quantile) is said to be little. Where an
#' averaged curve goes beyond all rows' predictions by a tenth of their range, the sentence says so:
#' it goes over values or combinations that these rows do not have.
#' @section Errors: A predictor that no model of the study takes in; pairs with `"accumulated"`;
#'   points of another type than the predictor; more than 2,000 points of a pair; resamples that are
#'   no bootstrap; a slice of fewer than 3 rows.
#' @references Friedman, J. H. (2001). Greedy function approximation. \doi{10.1214/aos/1013203451}.
#'   Apley, D. W. and Zhu, J. (2020). Visualizing the effects of predictor variables in black box
#'   supervised learning models. \doi{10.1111/rssb.12377}.
#'   Goldstein, A., Kapelner, A., Bleich, J. and Pitkin, E. (2015). Peeking inside the black box.
#'   \doi{10.1080/10618600.2014.907095}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ poly(peak_temp, 2) * hold_minutes + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' ef <- effect_curves(st, predictors = c("peak_temp", "operator"))
#' ef
#' plot(ef)
#' @export
effect_curves <- function(
    study, ..., predictors = NULL, models = NULL, classes = NULL, form = "averaged",
    rows = "holdout", slice = NULL, points = 25, at = NULL, groups = NULL, centred = FALSE,
    max_rows = NULL, resamples = NULL, level = 0.95, seed = 1, threads = NULL, run = NULL) {
  st <- open_ranking(study, "effect_curves", ..., threads = threads)
  form <- check_choice(form, effect_forms, "form")
  points <- check_count(points, "points", least = 2, most = 1000)
  centred <- check_flag(centred, "centred")
  if (!is.null(max_rows)) max_rows <- check_count(max_rows, "max_rows")
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  models <- pick_models(st, models)
  classes <- pick_classes(st, classes)
  units <- effect_units(st, models, predictors, groups, form)
  check_points(at, units)
  resamples <- check_refits(st, resamples, form, run)
  # single curves have no interval that would need several rows
  parts <- pick_effect_rows(st, rows, slice, if (form == "single") 1 else 3)
  settings <- list(
    form = form, points = points, at = at, centred = centred, classes = classes,
    level = level, seed = seed, max_rows = if (form == "single" && is.null(max_rows)) {
      50L
    } else {
      max_rows
    }
  )
  found <- list()
  for (m in models) {
    for (part in parts) found <- c(found, curves_of_model(st, m, part, units, settings))
  }
  if (!is.null(resamples)) {
    found <- widen_by_refits(st, models, parts, units, settings, resamples, found, run)
  }
  join_curves(st, found, settings)
}

effect_forms <- c("averaged", "single", "accumulated")

check_refits <- function(st, resamples, form, run) {
  if (is.null(resamples)) {
    if (!is.null(run)) {
      stop_input(
        "`run` is for curves over resamples.", todo = "Give `resamples`, or leave `run` out."
      )
    }
    return(NULL)
  }
  resamples <- resamples_for(resamples, st)
  if (resamples$kind != "bootstrap") {
    stop_input(
      paste0("Curves over resamples need bootstrap draws, not \"", resamples$kind, "\"."),
      "Only their spread is that of training sets of this size.",
      "Use draw_resamples(train, \"bootstrap\")."
    )
  }
  if (form == "single") {
    stop_input(
      "Curves of single rows have no interval.",
      todo = "Use form = \"averaged\" with `resamples`."
    )
  }
  resamples
}

# ---- one model on one set of rows ----

# -> list of curves, each a list(model, class, unit, form, slice, grid, effect, cov, df, spread,
# n; of averaged ones `predicted`, the range of the rows' predictions, unless centred; of single
# rows also `single`, rows x points, and `rows`, their numbers). given: grids that are known, by
# unit and slice
curves_of_model <- function(st, model, part, units, settings, given = list()) {
  mine <- Filter(function(u) all(u$predictors %in% model$inputs$predictors), units)
  if (!length(mine)) return(list())
  part <- draw_rows(part, settings$max_rows, settings$seed)
  rows <- model_rows(st, model, part$data, "rows")
  # Between neighbouring points of accumulated curves there must be rows.
  own <- is.null(st$train) || settings$form == "accumulated"
  known <- if (own) rows else model_rows(st, model, st$train, "train")
  grids <- lapply(mine, function(u) {
    grid <- given[[grid_key(u, part)]]
    if (is.null(grid)) return(grid_for(u, rows, known, settings))
    some_points(grid, has_levels(grid, known))
  })
  follow <- if (settings$form == "accumulated") accumulate_curves else average_curves
  found <- follow(st, model, rows, row_info(st, part$data), mine, grids, settings)
  lapply(found, function(curve) {
    if (settings$centred) curve <- centre_curve(curve)
    c(curve, list(
      model = model$name,
      form = settings$form,
      slice = if (is.null(part$slice)) NA_character_ else part$slice,
      rows = part$chosen,
      n = nrow(rows)
    ))
  })
}

grid_key <- function(unit, part) paste0(unit$name, "/", part$slice)

# A curve less its value at the first point.
centre_curve <- function(curve) {
  if (!is.null(curve$single)) curve$single <- curve$single - curve$single[, 1]
  curve$effect <- curve$effect - curve$effect[1]
  curve$predicted <- NULL
  if (!is.null(curve$cov)) {
    G <- nrow(curve$cov)
    to <- diag(G)
    to[, 1] <- to[, 1] - 1
    curve$cov <- to %*% curve$cov %*% t(to)
  }
  curve
}

# ---- models trained again ----

# Every model trained again on each draw, its curves at the same points and rows: their covariance
# over the draws takes the place of that over rows.
widen_by_refits <- function(st, models, parts, units, settings, resamples, found, run) {
  pieces <- unlist(
    lapply(names(models), function(m) {
      lapply(seq_along(resamples$inside), function(b) {
        list(model = m, resample = b, inside = resamples$inside[[b]])
      })
    }),
    recursive = FALSE
  )
  done <- run_pieces(
    pieces,
    vapply(pieces, function(p) paste(p$model, p$resample, sep = "/"), ""),
    curves_of_refit,
    st = without_forests(st),
    parts = parts,
    units = units,
    settings = settings,
    given = lapply(split(found, vapply(found, `[[`, "", "model")), grids_of),
    folder = run,
    about = if (!is.null(run)) {
      identity_of_curves(st, models, resamples, settings, units, parts)
    },
    sound = function(key, value) {
      is.list(value) && all(vapply(value, is.double, NA))
    },
    label = "curves over resamples",
    narrow = one_model
  )
  failed <- failed_resamples(pieces, done, sum(!vapply(done$values, is.null, NA)))
  warn_failed_resamples(failed, length(pieces))
  for (m in names(models)) {
    at <- which(vapply(found, function(curve) curve$model == m, NA))
    drawn <- Filter(
      Negate(is.null), done$values[vapply(pieces, function(p) p$model == m, NA)]
    )
    for (i in seq_along(at)) {
      draws <- do.call(rbind, lapply(drawn, `[[`, i))
      found[[at[i]]]$cov <- stats::cov(draws, use = "pairwise.complete.obs")
      found[[at[i]]]$df <- nrow(draws) - 1
      found[[at[i]]]$draws <- nrow(draws)
    }
  }
  found
}

grids_of <- function(curves) {
  keys <- vapply(curves, function(curve) {
    grid_key(curve$unit, list(slice = if (!is.na(curve$slice)) curve$slice))
  }, "")
  grids <- lapply(curves, function(curve) c(curve$grid, list(settled = TRUE)))
  stats::setNames(grids, keys)[!duplicated(keys)]
}

# -> per curve its effects, NA at levels that the draw lacks
curves_of_refit <- function(piece, st, parts, units, settings, given) {
  model <- st$models[[piece$model]]
  given <- given[[piece$model]]
  train <- training_frame(st, model)[piece$inside, , drop = FALSE]
  fit <- fit_on(
    st,
    model,
    train,
    model$inputs$predictors,
    settings$seed,
    c(piece$model, "resample", piece$resample)
  )
  of_part <- function(part) {
    part <- draw_rows(part, settings$max_rows, settings$seed)
    rows <- frame_of(st, model, part$data, "rows")
    inside <- inside_study(st, model, fit, train, rows, model$inputs$predictors)
    part$data <- inside$data
    found <- curves_of_model(
      inside,
      inside$models[[1]],
      part,
      units,
      utils::modifyList(settings, list(max_rows = NULL)),
      given
    )
    lapply(found, function(curve) {
      whole <- given[[grid_key(curve$unit, part)]]
      curve$effect[match(point_keys(whole), point_keys(curve$grid))]
    })
  }
  unname(unlist(lapply(parts, of_part), recursive = FALSE))
}

point_keys <- function(grid) paste(grid$at, grid$other_at)

identity_of_curves <- function(st, models, resamples, settings, units, parts) {
  says <- lapply(models, function(m) {
    list(m$class, signif(predict_aligned(st, m, model_rows(st, m, st$data)), 10))
  })
  list(
    data = st$fingerprint,
    models = fingerprint(says),
    resamples = fingerprint(list(resamples$inside)),
    seed = format(settings$seed),
    settings = fingerprint(list(settings, units, lapply(parts, `[[`, "data")))
  )
}

# ---- the result ----

join_curves <- function(st, found, settings) {
  learner <- length(found) && !is.null(found[[1]]$draws)
  table <- data.table::rbindlist(lapply(found, table_of_curve, settings = settings))
  data.table::setDF(table)
  table$inference <- if (settings$form == "single") {
    NA_character_
  } else if (learner) {
    "learner"
  } else {
    "model"
  }
  predictors <- unique(unlist(lapply(found, function(curve) curve$unit$predictors)))
  validate_effects(new_effects(table, c(
    study_details(st, predictors),
    list(
      units = units_of(st, predictors),
      form = settings$form,
      centred = settings$centred,
      level = settings$level,
      seed = settings$seed,
      n = vapply(found, `[[`, 1L, "n"),
      draws = if (learner) found[[1]]$draws,
      doubtful = models_in_doubt(st, st$models[unique(table$model)]),
      seen = isTRUE(st$seen),
      curves = lapply(found, summary_of_curve, level = settings$level)
    )
  )))
}

units_of <- function(st, predictors) {
  unit <- st$dictionary$unit
  found <- unit[match(predictors, st$dictionary$predictor)]
  if (is.null(unit)) found <- rep(NA_character_, length(predictors))
  stats::setNames(ifelse(is.na(found), "", found), predictors)
}

table_of_curve <- function(curve, settings) {
  grid <- curve$grid
  G <- length(grid$at)
  single <- settings$form == "single"
  effect <- if (single) as.vector(t(curve$single)) else as.vector(curve$effect)
  times <- length(effect) / G
  std_error <- if (single || !is.finite(curve$df) || curve$df < 1) {
    rep(NA_real_, length(effect))
  } else {
    sqrt(pmax(0, diag(curve$cov)))
  }
  limits <- t_limits(effect, std_error, if (single) 1 else curve$df, settings$level)
  if (of_probabilities(curve) && !settings$centred) {
    limits <- lapply(limits, function(p) pmin(pmax(p, 0), 1))
  }
  again <- function(x) rep(x, times)
  pair <- curve$unit$kind == "pair"
  table_of(
    model = curve$model,
    class = curve$class,
    predictor = if (curve$unit$kind == "family") {
      curve$unit$name
    } else {
      curve$unit$predictors[1]
    },
    form = curve$form,
    slice = curve$slice,
    row = if (single) rep(curve$rows, each = G) else NA_integer_,
    at = again(grid$at),
    position = again(grid$position),
    other = if (pair) curve$unit$predictors[2] else NA_character_,
    other_at = if (pair) again(grid$other_at) else NA_character_,
    other_position = if (pair) again(grid$other_position) else NA_real_,
    effect = effect,
    std_error = std_error,
    lower = limits$lower,
    upper = limits$upper,
    rows_near = again(as.integer(grid$near)),
    flag = again(grid$flag)
  )
}

# Averages of probabilities are between 0 and 1, and differ by no more than 1.
of_probabilities <- function(curve) !is.na(curve$class) && curve$form == "averaged"

# What is kept of a curve beside its points: its kind and shape.
summary_of_curve <- function(curve, level) {
  out <- list(
    model = curve$model, class = curve$class, predictor = curve$unit$name,
    kind = curve$grid$kind, slice = curve$slice, spread = curve$spread, n = curve$n,
    predicted = curve$predicted, of = curve$unit$predictors, at = curve$grid$at
  )
  if (curve$unit$kind == "pair" || curve$form == "single") return(out)
  line <- list(
    effect = as.vector(curve$effect), cov = curve$cov, df = curve$df,
    position = curve$grid$position, kind = curve$grid$kind, flag = curve$grid$flag,
    spread = curve$spread
  )
  shape <- shape_of(line, level)
  if (of_probabilities(curve) && !is.null(shape$upper)) shape$upper <- min(shape$upper, 1)
  c(out, list(effect = line$effect, shape = shape))
}

new_effects <- function(table, details) new_table(table, "effects", details)

effect_columns <- c(
  model = "character", class = "character", predictor = "character", form = "character",
  slice = "character", row = "integer", at = "character", position = "double",
  other = "character", other_at = "character", other_position = "double",
  effect = "double", std_error = "double", lower = "double", upper = "double",
  rows_near = "integer", flag = "character", inference = "character"
)

validate_effects <- function(x) {
  check_shape(x, effect_columns, "table of effects")
  check_holds(all(is.finite(x$effect)), "table of effects", "an effect is not finite")
  check_holds(
    within_limits(x$effect, x$lower, x$upper), "table of effects",
    "an effect lies outside its limits"
  )
  x
}

#' @export
as.data.frame.dreher_effects <- function(x, ...) as_plain(x)
