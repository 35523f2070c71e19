# Means of models: read exactly where all that is averaged are trees, or linear, on one scale.

#' Average several models
#'
#' The weighted mean of what several fitted models predict, as one model of a study. Where all of
#' them are trees, or all are linear, and predict on one scale, the mean is read exactly: it is a
#' larger forest, or a longer sum. Others are ranked by their joint predictions.
#'
#' @param models Named list of two or more fitted models that predict the same target.
#' @param ... Must be empty.
#' @param weights Positive numbers, one for each model; they are divided by their sum. Default:
#'   equal ones.
#' @return A list of class `dreher_average` with `models` and `weights`, which [study()] takes as a
#'   model, and which has a `predict()`.
#' @details Classes of probability forests, boosted classifiers and others are averaged as
#'   probabilities. Boosted models with a link (log-odds, logarithms) are no sum on the scale of
#'   probabilities, so that a mean with one of them is ranked by its predictions. Impurity
#'   importance
#'   is that of all trees together, where none of the models is boosted.
#'
#'   Trained again, every model is fitted on its own of the predictors that are left; a model that
#'   has
#'   none of them left is not part of the mean.
#' @section Errors: `dreher_error_input`: fewer than two models, names that are missing or the same,
#'   weights that are not positive numbers; in [study()]: models that predict different classes.
#' @seealso [study()], [read_model()]
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' both <- average_models(
#'   list(
#'     line = lm(strength ~ peak_temp + hold_minutes, kiln$train),
#'     curve = lm(strength ~ poly(peak_temp, 2) + grog_share, kiln$train)
#'   ),
#'   weights = c(1, 3)
#' )
#' both
#' st <- study(list(mean = both), kiln$holdout, "strength", train = kiln$train)
#' rank_permutation(st)
#' @export
average_models <- function(models, ..., weights = NULL) {
  check_no_dots(..., .verb = "average_models")
  listed <- is.list(models) && !is.object(models)
  if (!listed || length(models) < 2) {
    stop_input(
      "`models` must be a list of two or more fitted models.",
      paste0("Given: ", describe_value(models), ".")
    )
  }
  check_names(names(models), "names(models)")
  if (is.null(weights)) weights <- rep(1, length(models))
  sound <- is.numeric(weights) && length(weights) == length(models) &&
    all(is.finite(weights)) && all(weights > 0)
  if (!sound) {
    stop_input(
      "`weights` must be positive numbers, one for each model.",
      paste0("Given: ", describe_value(weights), ".")
    )
  }
  structure(
    list(models = models, weights = as.double(weights) / sum(weights)),
    class = "dreher_average"
  )
}

# Each model of the mean as the readers take it.
open_average <- function(object, name, open) {
  object$models <- Map(
    function(m, own) open(m, paste0(name, ": ", own)), object$models, names(object$models)
  )
  object$name <- name
  object
}

#' @export
model_task.dreher_average <- function(model, ...) {
  tasks <- lapply(model$models, model_task)
  unread <- names(tasks)[vapply(tasks, function(t) is.null(t$task), NA)]
  if (length(unread)) {
    stop_model(
      paste0("dreher has no reader for ", quote_some(unread), ", which the mean is made of."),
      todo = "Give `study(predict_with = )` a function that predicts by the whole mean."
    )
  }
  first <- tasks[[1]]
  same <- vapply(
    tasks,
    function(t) {
      identical(t$task, first$task) && setequal(t$classes, first$classes)
    },
    NA
  )
  if (!all(same)) {
    stop_input(
      paste0(
        "The models of a mean must predict the same: ",
        quote_some(names(tasks)[c(1, which(!same))]), " do not."
      ),
      todo = "Average models of one target with the same classes."
    )
  }
  first
}

#' @export
model_inputs.dreher_average <- function(model, train = NULL, ...) {
  each <- lapply(model$models, model_inputs, train)
  predictors <- unique(unlist(lapply(each, `[[`, "predictors")))
  levels <- lapply(stats::setNames(nm = predictors), function(p) {
    known <- Filter(Negate(is.null), lapply(each, function(i) i$levels[[p]]))
    if (length(known)) Reduce(intersect, known)
  })
  new_inputs(
    predictors,
    levels,
    missing = all(vapply(each, function(i) all(i$missing), NA)),
    also = setdiff(unlist(lapply(each, `[[`, "also")), predictors)
  )
}

#' @export
model_predictions.dreher_average <- function(model, data, ...) {
  classes <- model_task(model)$classes
  each <- lapply(model$models, function(m) {
    out <- model_predictions(m, align_rows(data, model_inputs(m, data), model$name))
    if (is.null(classes)) out else out[, classes, drop = FALSE]
  })
  Reduce(`+`, Map(`*`, each, model$weights))
}

#' @export
model_forest.dreher_average <- function(model, inputs, ...) {
  each <- lapply(model$models, function(m) {
    own <- model_inputs(m)
    if (is.null(own) || inherits(m, "dreher_encoded")) return(NULL)
    own$levels <- inputs$levels[own$predictors]
    model_forest(m, own)
  })
  classes <- model_task(model)$classes
  one <- function(f, m) {
    !is.null(f) && f$link == "identity" && is.null(f$encode) && !length(f$zero_missing) &&
      f$single == each[[1]]$single && identical(model_task(m)$classes, classes)
  }
  if (all(unlist(Map(one, each, model$models)))) mean_forest(each, model$weights)
}

# Forests on one scale behind each other.
mean_forest <- function(forests, weights) {
  columns <- unique(unlist(lapply(forests, `[[`, "columns")))
  levels <- list()
  for (f in forests) {
    known <- Filter(Negate(is.null), f$levels)
    for (p in names(known)) {
      if (!is.null(levels[[p]]) && !identical(levels[[p]], known[[p]])) return(NULL)
      levels[[p]] <- known[[p]]
    }
  }
  nodes <- cumsum(c(0, vapply(forests, function(f) length(f$column), 0)))
  sides <- cumsum(c(0, vapply(forests, function(f) length(f$set_side), 0)))
  joined <- function(part) unlist(lapply(seq_along(forests), part))
  shifted <- function(name, by, least = 0) {
    joined(function(k) {
      place <- forests[[k]][[name]]
      ifelse(place < least, place, place + by[k])
    })
  }
  plain <- function(name) joined(function(k) forests[[k]][[name]])
  leaf <- plain("column") < 0
  boosted <- !all(vapply(forests, function(f) is.null(f$boosted), NA))
  trees <- sum(lengths(lapply(forests, `[[`, "root")))
  flat_forest(
    root = shifted("root", nodes),
    weight = joined(function(k) forests[[k]]$weight * weights[k]),
    column = joined(function(k) {
      own <- forests[[k]]
      ifelse(own$column < 0, -1L, match(own$columns, columns)[pmax(own$column, 0L) + 1L] - 1L)
    }),
    threshold = plain("threshold"),
    left = ifelse(leaf, 0, shifted("left", nodes)),
    right = ifelse(leaf, 0, shifted("right", nodes)),
    missing = ifelse(leaf, 0, shifted("missing", nodes)),
    value = do.call(cbind, lapply(forests, `[[`, "value")),
    columns = columns,
    levels = levels,
    owner = shifted("owner", nodes),
    set_from = shifted("set_from", sides),
    set_size = plain("set_size"),
    set_side = as.integer(plain("set_side")),
    base = Reduce(`+`, Map(function(f, w) f$base * w, forests, weights)),
    boosted = if (boosted) gainless(list(why = "it is a mean with boosted trees"), trees),
    single = forests[[1]]$single
  )
}

#' @export
model_coefficients.dreher_average <- function(model, ...) {
  each <- lapply(model$models, model_coefficients)
  adds_up <- vapply(each, function(l) {
    !is.null(l) && identical(l$link, "identity") && is.null(dim(l$beta)) && is.null(l$encode)
  }, NA)
  if (!all(adds_up) || any(vapply(model$models, inherits, NA, "dreher_encoded"))) return(NULL)
  from <- cumsum(c(0, lengths(lapply(each, `[[`, "columns"))))
  columns <- unlist(lapply(unname(each), `[[`, "columns"), recursive = FALSE)
  names(columns) <- make.unique(names(columns))
  list(
    beta = unlist(Map(function(l, w) l$beta * w, unname(each), model$weights)),
    term = unlist(lapply(seq_along(each), function(k) {
      ifelse(each[[k]]$term == 0, 0, each[[k]]$term + from[k])
    })),
    columns = columns,
    design = function(data) do.call(cbind, lapply(unname(each), function(l) l$design(data))),
    invlink = identity,
    link = "identity"
  )
}

#' @export
refit_model.dreher_average <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  left <- lapply(model$models, function(m) {
    intersect(model_inputs(m, data)$predictors, predictors)
  })
  stays <- which(lengths(left) > 0)
  if (!length(stays)) {
    stop_model(
      "None of the models of the mean has a predictor left.",
      todo = "Give `study(refit_with = )` a function that fits the mean."
    )
  }
  out <- model
  out$models <- Map(
    function(m, own, k) {
      refit_model(m, data[c(target, own)], target, own, (seed + k) %% 1e9, threads)
    },
    model$models[stays],
    left[stays],
    seq_along(stays)
  )
  out$weights <- model$weights[stays] / sum(model$weights[stays])
  out
}
