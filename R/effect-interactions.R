#' Which predictors act together
#'
#' How much of what a model predicts belongs to pairs of predictors rather than to each alone: exact
#' pairwise Shapley interaction values, shares of variance from averaged curves, importance of a
#' pair beyond that of its members, or a first look at the paths of trees.
#'
#' @inheritParams rank_shapley
#' @param by `"shapley"`: pairwise Shapley interaction values, exact for trees, for sums of terms
#'   (linear models, on their link) and for any model of up to 8 predictors; `"variance"`: for any
#'   model, the share of a pair's joint averaged effect that is of neither alone (the H statistic,
#'   squared), and the share of the variance of the predictions; `"permutation"`: the importance
#'   of the two shuffled together less that of each alone; `"paths"`: for trees, how many training
#'   rows meet a question about one straight after one about the other. Default: `"shapley"` where
#'   it is exact, else `"variance"`.
#' @param predictors Names of predictors; pairs among them are computed. Default: all; for
#'   `"variance"` and `"permutation"` the 8 whose own curves vary most.
#' @param classes Classes whose probability is looked at. Default: the positive class of two, all of
#'   several.
#' @param max_rows At most so many rows, drawn by seed. Default: for `"shapley"` 1,000, fewer
#'   where trees are large or terms have many predictors, 50 where all sets are enumerated; for
#'   `"variance"` 100; else all.
#' @param repeats Number of shuffles of each predictor and pair, for `"permutation"`.
#' @param null For `"variance"`: number of refits on targets without interactions, which give
#'   `p_value`. Default 0: none.
#' @return A data frame of class `dreher_interactions`, a row per pair, the strongest first:
#'   `model`; `class`; `form`, as `by`; `predictor` and `other`; `interaction`: the mean absolute
#'   interaction value, in units of the prediction or its link (`"shapley"`), the squared H
#'   statistic, from 0 to 1 (`"variance"`), the difference of importances, in units of the metric
#'   (`"permutation"`), training rows per tree, as a share (`"paths"`); `std_error`, `lower`,
#'   `upper` (`NA` for `"paths"`); `share`, of the sum over all pairs, but for `"variance"` of the
#'   variance of the predictions; `p_value`. For `"shapley"` the attribute `row_values` holds
#'   the values themselves: a list by model of arrays, rows x pairs x classes.
#' @details *Shapley interaction values* (Grabisch and Roubens 1999): the mean over the sets S of
#'   other predictors, weighted as in the Shapley value, of
#'   \eqn{v(S+i+j) - v(S+i) - v(S+j) + v(S)}. Half of a pair's value belongs to each of the two;
#'   what remains of a predictor's Shapley value is its own effect, so that own effects and pairs
#'   add up to the prediction less the baseline (Lundberg et al. 2020). Interval: over rows, of this
#'   model, with these background rows. A mean absolute value is never negative: one of little size
#'   is no proof of an interaction in the world.
#'
#' *Variance* (Friedman and Popescu 2008; Sobol 1993): with \eqn{F_{jk}}, \eqn{F_j} and \eqn{F_k}
#'   the averaged effects at the rows' own values, less their means, the sum of squares of
#'   \eqn{F_{jk} - F_j - F_k} over that of \eqn{F_{jk}}, and over that of the predictions. Errors
#'   by a jackknife over ten blocks of rows. `null`: the model is trained again on targets that are
#'   the sum of all its averaged single effects and what the target has beyond that sum in random
#'   order, as often as asked; p is the share of refits, the model itself counted, whose statistic
#'   is as large.
#'
#' *Permutation*: all importances are estimated with the same shuffles, for RMSE and R squared as
#'   differences of the mean squared error, which add up where effects do. Positive where the pair
#'   loses more together than its members do, negative where it loses less.
#'
#' *Paths*: a first look only. Trees ask about one predictor after another also where their effects
#'   add up.
#' @section Errors: A model of more than 8 predictors that is neither of trees nor one sum of terms,
#'   for `"shapley"`; fewer than two predictors; `null` without training rows, or for classes.
#' @references Grabisch, M. and Roubens, M. (1999). An axiomatic approach to the concept of
#'   interaction among players in cooperative games. \doi{10.1007/s001820050125}.
#'   Friedman, J. H. and Popescu, B. E. (2008). Predictive learning via rule ensembles.
#'   \doi{10.1214/07-AOAS148}.
#'   Sobol, I. M. (1993). Sensitivity estimates for nonlinear mathematical models.
#'   Lundberg, S. M. et al. (2020). \doi{10.1038/s42256-019-0138-9}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' ia <- interactions(st, max_rows = 30)
#' ia
#' plot(ia)
#' @export
interactions <- function(
    study, ..., by = NULL, predictors = NULL, models = NULL, classes = NULL,
    rows = "holdout", groups = NULL, value = "background", background = 100,
    max_rows = NULL, repeats = 10, null = 0, level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "interactions", ..., threads = threads)
  models <- pick_models(st, models)
  by <- choose_interaction_form(by, models)
  value <- check_choice(value, c("background", "cover"), "value")
  repeats <- check_count(repeats, "repeats")
  null <- check_count(null, "null", least = 0, most = 10000)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  classes <- pick_classes(st, classes)
  if (!is.null(max_rows)) max_rows <- check_count(max_rows, "max_rows", least = 10)
  if (!is.null(predictors)) {
    predictors <- check_names(predictors, "predictors")
    check_used(
      predictors, unique(unlist(lapply(models, function(m) m$inputs$predictors))), st
    )
    if (length(predictors) < 2) {
      stop_input(
        "`predictors` names one predictor; a pair needs two.", todo = "Name more of them."
      )
    }
  }
  check_null(st, null, by)
  if (!is.data.frame(rows)) rows <- check_choice(rows, c("holdout", "train"), "rows")
  evaluation <- pick_rows(st, rows)
  if (value == "cover" && by == "shapley") for (m in models) check_cover(st, m, "auto")
  units <- lapply(models, function(m) interaction_units(st, m, groups))
  others <- if (by != "shapley" || value == "cover") {
    NULL
  } else {
    draw_background(st, background, seed)
  }
  settings <- list(
    by = by, predictors = predictors, classes = classes, max_rows = max_rows,
    repeats = repeats, null = null, level = level, seed = seed, value = value
  )
  interact <- switch(
    by,
    shapley = interact_shapley,
    variance = interact_variance,
    permutation = interact_permutation,
    paths = interact_paths
  )
  parts <- lapply(models, function(m) {
    interact(st, m, units[[m$name]], evaluation, others, settings)
  })
  join_interactions(st, parts, settings, evaluation, others)
}

interaction_forms <- c("shapley", "variance", "permutation", "paths")

choose_interaction_form <- function(by, models) {
  if (!is.null(by)) return(check_choice(by, interaction_forms, "by"))
  exact <- vapply(models, function(m) {
    shapley_way(m, "auto", length(m$inputs$predictors)) %in%
      c("forest", "linear", "enumerated") || length(m$inputs$predictors) <= 8
  }, NA)
  if (all(exact)) "shapley" else "variance"
}

interaction_units <- function(st, model, groups) {
  units <- shapley_units(st, model, groups)
  if (length(units) < 2) {
    stop_study(
      paste0("Model \"", model$name, "\" has one predictor: there is no pair."),
      todo = "Leave it out of `models`."
    )
  }
  units
}

check_null <- function(st, null, by) {
  if (null == 0) return(invisible())
  if (by != "variance") {
    stop_input(
      "`null` is for by = \"variance\".", todo = "Leave it out, or use by = \"variance\"."
    )
  }
  need_train(st, "`null`")
  if (st$task != "regression") {
    stop_study(
      paste0(
        "`null` needs a target that is a number: residuals of classes cannot be put in ",
        "another order."
      ),
      todo = "Leave `null` out."
    )
  }
}

# ---- pairwise Shapley interaction values ----

interact_shapley <- function(st, model, units, evaluation, others, settings) {
  way <- shapley_way(model, "auto", length(units))
  if (!way %in% c("forest", "linear") && length(units) > 8) {
    stop_model(
      paste0(
        "Model \"", model$name, "\" has ", length(units),
        " predictors and neither trees nor one sum of terms: its interaction values ",
        "would take ", format(2^length(units), big.mark = ","),
        " predictions a row and background row."
      ),
      todo = "Use by = \"variance\"."
    )
  }
  most <- settings$max_rows
  if (is.null(most)) {
    most <- switch(
      way,
      forest = rows_for_pairs(model, units),
      linear = rows_for_terms(model, units, nrow(others)),
      50L
    )
  }
  evaluation <- draw_rows(evaluation, most, settings$seed)
  rows <- model_rows(st, model, evaluation$data, "rows")
  bg <- if (!is.null(others)) model_rows(st, model, others, "background")
  found <- switch(
    way,
    forest = pairs_of_forest(st, model, units, rows, bg),
    linear = pairs_linear(st, model, units, rows, bg),
    pairs_enumerated(st, model, units, rows, bg)
  )
  found$top <- max(abs(predict_aligned(st, model, rows)))
  kept <- pairs_of(units, settings$predictors)
  at <- match(pair_keys(kept), pair_keys(utils::combn(length(units), 2)))
  values <- drop_rounding(found$values[, at, , drop = FALSE], found$top)
  info <- row_info(st, evaluation$data)
  names <- names(units)
  outputs <- outputs_asked(st, settings$classes, dim(values)[3])
  tables <- lapply(outputs, function(k) {
    size <- abs(matrix(values[, , k$at], nrow(rows)))
    importance <- colMeans(times(info$weight, size))
    each <- lapply(seq_len(ncol(size)), function(j) {
      influence_error(times(info$weight, size[, j] - importance[j]), info$block)
    })
    std_error <- vapply(each, function(e) as.vector(e$std_error), 0)
    limits <- t_limits(importance, std_error, each[[1]]$df, settings$level)
    interaction_rows(
      model,
      k$class,
      "shapley",
      names[kept[1, ]],
      names[kept[2, ]],
      importance,
      std_error,
      pmax(limits$lower, 0),
      limits$upper,
      if (sum(importance) > 0) importance / sum(importance) else 0 * importance
    )
  })
  dimnames(values) <- list(
    NULL, paste(names[kept[1, ]], names[kept[2, ]], sep = " and "), NULL
  )
  list(
    table = do.call(rbind, tables),
    values = values,
    n = nrow(rows),
    scale = found$scale,
    rows = evaluation$chosen
  )
}

# What lies below the rounding of the predictions is none.
drop_rounding <- function(values, top) {
  values[abs(values) <= 1e-12 * (1 + top)] <- 0
  values
}

# Few rows of forests whose walk is long.
rows_for_pairs <- function(model, units) {
  nodes <- length(model$forest$column)
  cells <- choose(length(units), 2) * length(model$forest$base)
  as.integer(max(20, min(1000, 1e8 %/% nodes, 2e7 %/% cells)))
}

# Few rows of sums whose terms take long: each set of a term's players asks all background rows.
rows_for_terms <- function(model, units, background) {
  players <- vapply(model$linear$columns, function(columns) {
    length(unique(unit_of(units, columns)))
  }, 1L)
  sets <- sum(2^players[players > 1])
  as.integer(max(50, min(1000, 5e6 %/% (background * max(sets, 1)))))
}

# Which outputs are asked for, and what they are called.
outputs_asked <- function(st, classes, outputs) {
  if (st$task == "regression") return(list(list(at = 1L, class = NA_character_)))
  if (outputs == 1) return(list(list(at = 1L, class = st$classes[st$positive])))
  lapply(classes, function(k) list(at = k, class = st$classes[k]))
}

# Which unit each of the forest's columns belongs to.
players_of <- function(model, units) {
  player <- unit_of(units, forest_origin(model))
  if (!anyNA(player)) return(player)
  stop_model(
    paste0(
      "Model \"", model$name, "\" has encoded columns that stem from no one predictor."
    ),
    todo = "Use by = \"variance\"."
  )
}

# rows x pairs x outputs, on the scale of rank_shapley()
pairs_of_forest <- function(st, model, units, rows, bg) {
  f <- model$forest
  x <- encode_for_forest(f, rows)
  player <- players_of(model, units)
  if (is.null(bg)) {
    if (any(f$owner != seq_along(f$owner) - 1L) && anyNA(x)) {
      stop_model(
        paste0(
          "Model \"", model$name, "\" answers for missing values by surrogate splits, ",
          "whose cover is not defined."
        ),
        todo = "Use value = \"background\"."
      )
    }
    cover <- cover_of(st, model)$cover
    z <- x[0, , drop = FALSE]
  } else {
    cover <- double()
    z <- encode_for_forest(f, bg)
  }
  values <- tryCatch(
    forest_interactions(f, x, z, cover, player, length(units), st$threads),
    error = function(e) {
      pass_interrupt(e)
      stop_model(
        paste0(
          "The trees of model \"", model$name, "\" are too deep for interaction values."
        ),
        conditionMessage(e),
        "Use by = \"variance\"."
      )
    }
  )
  if (f$link == "logit") {
    turn <- f$stretch * if (model$classes[2] == st$classes[st$positive]) 1 else -1
    return(list(values = turn * values, scale = "log-odds"))
  }
  if (st$task == "classification") {
    values <- place_classes(values, model$classes, st$classes)
    if (f$link == "softmax") return(list(values = values, scale = "log-odds"))
    if (length(st$classes) == 2) values <- values[, , st$positive, drop = FALSE]
    return(list(values = values, scale = "probability"))
  }
  list(values = values, scale = if (f$link == "identity") "prediction" else "log link")
}

# Linear predictor: pairs interact in the terms that hold both, by all sets of a term's players.
pairs_linear <- function(st, model, units, rows, bg) {
  linear <- model$linear
  pairs <- pair_keys(utils::combn(length(units), 2))
  values <- matrix(0, nrow(rows), length(pairs))
  for (t in seq_along(linear$columns)) {
    players <- sort(unique(unit_of(units, linear$columns[[t]])))
    if (length(players) < 2) next
    v <- values_of_sets(rows, bg, units[players], function(data) {
      part_of_design(linear, linear$design(data), t)
    })
    each <- utils::combn(length(players), 2)
    for (q in seq_len(ncol(each))) {
      at <- match(pair_keys(matrix(players[each[, q]])), pairs)
      values[, at] <- values[, at] +
        interaction_of_pair(v, each[1, q], each[2, q], length(players))
    }
  }
  list(
    values = array(sign_of_sum(st, model) * values, c(dim(values), 1)),
    scale = linear_scale(linear$link)
  )
}

# Any model of few predictors: all sets of them.
pairs_enumerated <- function(st, model, units, rows, bg) {
  if (is.null(bg)) {
    stop_model(
      paste0("Model \"", model$name, "\" has no trees, so that there is no cover."),
      todo = "Use value = \"background\"."
    )
  }
  f <- function(data) explained_outputs(st, predict_aligned(st, model, data))
  v <- values_of_sets(rows, bg, units, f)
  pairs <- utils::combn(length(units), 2)
  K <- ncol(v[[1]])
  values <- array(0, c(nrow(rows), ncol(pairs), K))
  for (k in seq_len(K)) {
    one <- lapply(v, function(value) value[, k])
    for (q in seq_len(ncol(pairs))) {
      values[, q, k] <- interaction_of_pair(one, pairs[1, q], pairs[2, q], length(units))
    }
  }
  list(
    values = values, scale = if (st$task == "regression") "prediction" else "probability"
  )
}

# v: list over subsets of players (bit j - 1 of the position less one says whether j is known).
interaction_of_pair <- function(v, i, j, players) {
  total <- 0
  bit <- function(k) 2^(k - 1)
  for (set in seq_along(v) - 1) {
    if (bitwAnd(set, bit(i)) > 0 || bitwAnd(set, bit(j)) > 0) next
    size <- sum(bitwAnd(set, 2^(seq_len(players) - 1)) > 0)
    weight <- 1 / ((players - 1) * choose(players - 2, size))
    total <- total + weight * (
      v[[set + bit(i) + bit(j) + 1]] - v[[set + bit(i) + 1]] - v[[set + bit(j) + 1]] +
        v[[set + 1]]
    )
  }
  total
}

# ---- importance of a pair beyond its members' ----

interact_permutation <- function(st, model, units, evaluation, others, settings) {
  evaluation <- draw_rows(evaluation, settings$max_rows, settings$seed)
  rows <- model_rows(st, model, evaluation$data, "rows")
  info <- row_info(st, evaluation$data)
  units <- strongest_units(st, model, units, rows, settings)
  pairs <- utils::combn(length(units), 2)
  joint <- lapply(seq_len(ncol(pairs)), function(q) {
    unlist(units[pairs[, q]], use.names = FALSE)
  })
  names(joint) <- paste0("pair ", seq_len(ncol(pairs)))
  design <- shared_design(draw_donors(
    nrow(rows), settings$repeats, settings$seed, info$block
  ))
  context <- open_shuffle(st, model, rows)
  found <- estimate_units(
    context,
    info,
    c(units, joint),
    design,
    additive_metric(st$metric),
    "difference",
    settings$level,
    settings$seed
  )
  each <- lapply(seq_len(ncol(pairs)), function(q) {
    three <- found[c(names(joint)[q], names(units)[pairs[, q]])]
    excess <- three[[1]]$importance - three[[2]]$importance - three[[3]]$importance
    u <- if (!is.null(three[[1]]$units)) {
      three[[1]]$units - three[[2]]$units - three[[3]]$units
    }
    error <- if (length(u) && !anyNA(u)) {
      influence_error(u - mean(u), info$block)
    } else {
      list(std_error = sqrt(sum(vapply(three, function(e) e$std_error^2, 0))), df = 9)
    }
    list(excess = excess, std_error = as.vector(error$std_error), df = error$df)
  })
  excess <- vapply(each, `[[`, 0, "excess")
  std_error <- vapply(each, `[[`, 0, "std_error")
  limits <- t_limits(excess, std_error, each[[1]]$df, settings$level)
  size <- sum(abs(excess))
  list(
    table = interaction_rows(
      model,
      NA_character_,
      "permutation",
      names(units)[pairs[1, ]],
      names(units)[pairs[2, ]],
      excess,
      std_error,
      limits$lower,
      limits$upper,
      if (size > 0) abs(excess) / size else 0 * excess
    ),
    n = nrow(rows),
    scale = additive_metric(st$metric)$label,
    rows = evaluation$chosen
  )
}

# ---- paths of trees ----

interact_paths <- function(st, model, units, evaluation, others, settings) {
  if (is.null(model$forest) || isTRUE(model$forest$shared)) {
    stop_model(
      paste0("Model \"", model$name, "\" has no trees of its predictors."),
      todo = "Use by = \"variance\"."
    )
  }
  player <- players_of(model, units)
  cover <- if (is.null(st$train)) double() else cover_of(st, model)$cover
  follow <- forest_followers(model$forest, player, length(units), cover)
  follow <- follow + t(follow)
  total <- if (length(cover)) {
    sum(cover[model$forest$root + 1])
  } else {
    length(model$forest$root)
  }
  pairs <- pairs_of(units, settings$predictors)
  found <- follow[t(pairs)] / total
  all <- follow[upper.tri(follow)]
  list(
    table = interaction_rows(
      model,
      NA_character_,
      "paths",
      names(units)[pairs[1, ]],
      names(units)[pairs[2, ]],
      found,
      NA_real_,
      NA_real_,
      NA_real_,
      if (sum(all) > 0) follow[t(pairs)] / sum(all) else 0 * found
    ),
    n = if (is.null(st$train)) NA_integer_ else nrow(st$train),
    scale = "rows",
    rows = integer()
  )
}

# ---- the result ----

join_interactions <- function(st, parts, settings, evaluation, others) {
  table <- do.call(rbind, lapply(parts, function(p) {
    key <- paste(p$table$model, p$table$class)
    p$table[order(match(key, unique(key)), -abs(p$table$interaction)), ]
  }))
  rownames(table) <- NULL
  out <- new_table(table, "interactions", c(
    study_details(st, unique(c(table$predictor, table$other))),
    list(
      by = settings$by, level = settings$level, seed = settings$seed, value = settings$value,
      background = if (is.null(others)) NA_integer_ else nrow(others),
      n = vapply(parts, function(p) as.integer(p$n), 1L),
      scale = vapply(parts, `[[`, "", "scale"),
      rows = evaluation$label, null = settings$null,
      doubtful = models_in_doubt(st, st$models[unique(table$model)])
    )
  ))
  values <- lapply(parts, `[[`, "values")
  names(values) <- names(parts)
  attr(out, "row_values") <- Filter(Negate(is.null), values)
  validate_interactions(out)
}

interaction_columns <- c(
  model = "character", class = "character", form = "character", predictor = "character",
  other = "character", interaction = "double", std_error = "double", lower = "double",
  upper = "double", share = "double", p_value = "double"
)

validate_interactions <- function(x) {
  check_shape(x, interaction_columns, "table of interactions")
  check_holds(all(is.finite(x$interaction)), "table of interactions", "one is not finite")
  check_holds(
    within_limits(x$interaction, x$lower, x$upper), "table of interactions",
    "an interaction lies outside its limits"
  )
  x
}

#' @export
as.data.frame.dreher_interactions <- function(x, ...) {
  attr(x, "row_values") <- NULL
  as_plain(x)
}
