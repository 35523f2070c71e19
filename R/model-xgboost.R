# Reader for xgboost: boosters (R objects), JSON and UBJSON files. Checked with xgboost 1.7 and
# 3.2: gbtree, dart and gblinear, splits on numbers and on categories, one or several classes or
# targets, several trees a round, missing values by their stored direction. Versions never seen
# are read with a note: the comparison with the library's predictions must pass. Leaf vectors and
# other objectives are refused.
#
# Both ways lead to the document whose layout the library publishes. Values are compared in single
# precision: x < cut goes left; categories of a node's set go right. Sums are single precision in
# the library and double here.

xgb_content <- function(model) {
  if (inherits(model, "dreher_xgboost_file")) return(model$learner)
  rlang::check_installed("xgboost", "to read an xgboost model")
  xgb_learner(xgboost::xgb.save.raw(live_booster(model), raw_format = "ubj"), TRUE)
}

# The names of a booster's columns, which not every version keeps with it.
booster_columns <- function(model) {
  if (!is_new_booster(model)) return(model$feature_names)
  given <- attr(model, "columns", exact = TRUE)
  if (is.null(given)) as.character(xgboost::getinfo(model, "feature_name")) else given
}

with_columns <- function(model, columns) {
  if (is_new_booster(model)) {
    attr(model, "columns") <- columns
  } else {
    model$feature_names <- columns
  }
  model
}

new_xgb_file <- function(bytes, rounds, output, columns) {
  # A table's first byte after { is a quote, a space or } in JSON, a length in UBJSON.
  binary <- length(bytes) > 1 && !bytes[2] %in% charToRaw("\" \n\r\t}")
  learner <- xgb_learner(bytes, binary)
  booster <- xgb_booster(learner)
  count <- take_count(xgb_shape(learner), "num_feature", "the model")
  own <- if (is.null(learner[["feature_names"]])) {
    character()
  } else {
    take_texts(learner, "feature_names", "the model")
  }
  if (is.null(rounds) && booster != "gblinear" &&
      !is.null(learner$attributes[["best_iteration"]])) {
    rounds <- take_count(learner$attributes, "best_iteration", "the attributes") + 1L
  }
  model <- structure(
    list(
      library = "xgboost",
      version = take_numbers(document_of(bytes, binary), "version", "the file"),
      learner = learner,
      bytes = bytes,
      objective = xgb_objective(learner),
      rounds = rounds,
      output = pick_output(output, xgb_targets(learner)),
      columns = file_columns(own, columns, count)
    ),
    class = c("dreher_xgboost_file", "dreher_model_file")
  )
  xgb_classes(learner)
  if (booster == "gblinear") {
    model_coefficients(model)
  } else {
    model_forest(model, model_inputs(model))
  }  # refused here, not later
  model
}

#' @export
model_task.xgb.Booster <- function(model, ...) {
  classes <- booster_classes(model, xgb_settings(model))
  list(task = if (is.null(classes)) "regression" else "classification", classes = classes)
}

#' @export
model_task.dreher_xgboost_file <- function(model, ...) model_task.xgb.Booster(model)

#' @export
model_inputs.xgb.Booster <- function(model, train = NULL, ...) {
  names <- booster_columns(model)
  if (!length(names)) {
    stop_model(
      "The xgboost model does not know the names of its columns.",
      todo = "Train it on a matrix with column names."
    )
  }
  # Columns of categories that are factors in the training rows are coded by their levels.
  coded <- if (length(booster_types(model)) == length(names)) {
    names[booster_types(model) == "c"]
  }
  levels <- if (!is.null(train)) {
    levels_of_rows(train, intersect(coded, names(train)))
  } else {
    list()
  }
  new_inputs(as.character(names), levels, missing = TRUE)
}

# The classes by name where the booster keeps them.
booster_classes <- function(model, learner) {
  classes <- xgb_classes(learner)
  own <- if (inherits(model, "xgb.Booster")) attr(model, "metadata", exact = TRUE)$y_levels
  if (length(own) == length(classes) && length(own)) return(as.character(own))
  named_classes(model, classes)
}

# Numbers for the library: factors count their levels from 0.
booster_matrix <- function(data, columns) {
  x <- vapply(
    data[columns],
    function(v) if (is.factor(v)) as.integer(v) - 1 else as.double(v),
    double(nrow(data))
  )
  matrix(x, nrow(data), length(columns), dimnames = list(NULL, columns))
}

#' @export
model_inputs.dreher_xgboost_file <- function(model, train = NULL, ...) {
  new_inputs(model$columns, missing = TRUE)
}

#' @export
model_predictions.xgb.Booster <- function(model, data, ...) {
  xgb_predictions(model, data, model_inputs(model)$predictors, xgb_settings(model))
}

#' @export
model_predictions.dreher_xgboost_file <- function(model, data, ...) {
  comparable <- isTRUE(model$compare) && requireNamespace("xgboost", quietly = TRUE) &&
    xgb_targets(model$learner) == 1
  if (!comparable) return(file_predictions(model, data))
  old <- utils::packageVersion("xgboost") < "2"
  if (old && take_numbers(model, "version", "the file")[1] > 1) {
    return(file_predictions(model, data))
  }
  booster <- if (old) {
    xgboost::xgb.load.raw(model$bytes, as_booster = TRUE)
  } else {
    xgboost::xgb.load.raw(model$bytes)
  }
  xgb_predictions(
    booster,
    data,
    model$columns,
    model$learner,
    if (is.null(model$rounds)) NULL else c(1, model$rounds + old)
  )
}

xgb_predictions <- function(booster, data, columns, learner, rounds = NULL) {
  link <- xgb_links[[xgb_objective(learner)]]
  classes <- booster_classes(booster, learner)
  new <- is.null(booster[["handle"]])
  x <- xgboost::xgb.DMatrix(unname(booster_matrix(data, columns)), nthread = 1)
  text <- function(name) {
    given <- learner[[name]]
    if (is.character(given)) {
      given
    } else if (length(given)) {
      take_texts(learner, name, "the model")
    }
  }
  names <- if (new) xgboost::getinfo(booster, "feature_name") else text("feature_names")
  types <- if (new) xgboost::getinfo(booster, "feature_type") else text("feature_types")
  if (length(names)) xgboost::setinfo(x, "feature_name", names)
  if (length(types)) xgboost::setinfo(x, "feature_type", types)
  # compared by the library, whose matrix has no names here
  if (new) class(booster) <- "xgb.Booster" else booster$feature_names <- NULL
  if (link == "softmax") {
    eta <- stats::predict(booster, x, outputmargin = TRUE, iterationrange = rounds)
    if (!is.matrix(eta)) eta <- matrix(eta, ncol = length(classes), byrow = TRUE)
    return(matrix(
      apply_link(list(link = "softmax"), eta),
      ncol = length(classes),
      dimnames = list(NULL, classes)
    ))
  }
  out <- as.double(stats::predict(booster, x, iterationrange = rounds))
  if (link == "logit") {
    matrix(c(1 - out, out), ncol = 2, dimnames = list(NULL, classes))
  } else {
    out
  }
}

#' @export
model_forest.xgb.Booster <- function(model, inputs, ...) {
  if (xgb_booster(xgb_settings(model)) == "gblinear") return(NULL)
  # As the library's own predictions after early stopping.
  xgb_forest(
    xgb_content(model),
    inputs,
    rounds = best_rounds(model),
    params = booster_part(model, "params")
  )
}

#' @export
model_forest.dreher_xgboost_file <- function(model, inputs, ...) {
  if (xgb_booster(model$learner) == "gblinear") return(NULL)
  xgb_forest(model$learner, inputs, rounds = model$rounds, output = model$output)
}

# A linear booster: one weight per column and output, then the intercepts. Absent values add
# nothing.
#' @export
model_coefficients.xgb.Booster <- function(model, ...) {
  if (xgb_booster(xgb_settings(model)) != "gblinear") return(NULL)
  learner <- xgb_content(model)
  columns <- model_inputs(model)$predictors
  link <- xgb_links[[xgb_objective(learner)]]
  classes <- booster_classes(model, learner)
  targets <- xgb_targets(learner)
  K <- if (link == "softmax") length(classes) else targets
  weights <- take_numbers(
    take_table(learner$gradient_booster, "model", "the booster"),
    "weights",
    "the booster",
    (length(columns) + 1) * K
  )
  if (!all(is.finite(weights))) file_fault("a weight is not a finite number")
  beta <- matrix(weights, ncol = K, byrow = TRUE)
  # Where there is an intercept per output, the library's linear booster adds the first one to all
  # (seen in 3.2).
  beta <- rbind(
    beta[nrow(beta), ] + xgb_base(learner, link, K)[1], beta[-nrow(beta), , drop = FALSE]
  )
  dimnames(beta) <- list(c("(Intercept)", columns), if (link == "softmax") classes)
  if (targets > 1) beta <- beta[, model$output, drop = FALSE]
  if (link != "softmax") beta <- beta[, 1]
  list(
    beta = beta,
    term = c(0L, seq_along(columns)),
    columns = stats::setNames(as.list(columns), columns),
    design = function(data) {
      x <- as.matrix(data[columns])
      x[is.na(x)] <- 0
      cbind(`(Intercept)` = 1, x)
    },
    invlink = switch(link, logit = stats::plogis, log = exp, identity),
    link = link,
    stretch = 1,
    single = TRUE
  )
}

#' @export
model_coefficients.dreher_xgboost_file <- function(model, ...) {
  model_coefficients.xgb.Booster(model)
}

#' @export
refit_model.xgb.Booster <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("xgboost", "to train an xgboost model again")
  if (inherits(model, "xgboost")) {
    return(refit_xgboost(model, data, target, predictors, seed, threads))
  }
  params <- booster_part(model, "params")
  params[c("validate_parameters", "nthread", "seed")] <- NULL
  if (!is.null(params$monotone_constraints) || !is.null(params$interaction_constraints)) {
    stop_model(
      "The xgboost model has constraints that name columns by position.",
      todo = "Give `study(refit_with = )` a function that fits the model."
    )
  }
  coded <- category_columns(model)
  y <- data[[target]]
  if (is.factor(y)) y <- as.integer(y) - 1L
  rows <- xgboost::xgb.DMatrix(booster_matrix(data, predictors), label = y, nthread = 1)
  if (length(coded)) {
    xgboost::setinfo(rows, "feature_type", ifelse(predictors %in% coded, "c", "q"))
  }
  fit <- with_stream(
    seed,
    "xgboost",
    xgboost::xgb.train(
      c(params, list(nthread = threads)),
      rows,
      nrounds = if (is.null(best_rounds(model))) {
        all_rounds(model)
      } else {
        best_rounds(model)
      },
      verbose = 0
    )
  )
  with_classes(fit, data[[target]])
}

# Columns that hold categories. Boosters do not keep which these are; their splits tell. Where no
# node of the document lists categories (all but few boosters) its trees need not be read.
category_columns <- function(model) {
  document <- rawToChar(xgboost::xgb.save.raw(live_booster(model), raw_format = "json"))
  if (!grepl("\"categories\"\\s*:\\s*\\[\\s*[^]\\s]", document, perl = TRUE)) {
    return(character())
  }
  forest <- model_forest(model, model_inputs(model))
  unique(forest$columns[forest$column[forest$set_from >= 0] + 1L])
}

# Models of the library's newer interface, by that interface: a data frame and a target with its
# levels.
refit_xgboost <- function(model, data, target, predictors, seed, threads) {
  refuse_arguments(
    as.list(attr(model, "call")),
    c("weights", "base_margin", "feature_weights"),
    "xgboost"
  )
  known <- names(formals(getExportedValue("xgboost", "xgboost")))
  params <- attr(model, "params")
  other <- c(
    eta = "learning_rate", gamma = "min_split_loss", lambda = "reg_lambda",
    alpha = "reg_alpha"
  )
  named <- names(params) %in% names(other)
  names(params)[named] <- other[names(params)[named]]
  params <- params[setdiff(
      intersect(names(params), known),
      c("nthreads", "seed", "x", "y", "nrounds", "verbosity", "objective", "num_class")
    )]
  y <- data[[target]]
  levels <- attr(model, "metadata")$y_levels
  if (length(levels)) {
    y <- factor(as.character(y), levels = levels)
  } else {
    params$objective <- attr(model, "params")$objective
  }
  x <- data[predictors]
  rounds <- if (is.null(best_rounds(model))) all_rounds(model) else best_rounds(model)
  fit_with(
    quote(xgboost::xgboost),
    list(
      x = quote(x), y = quote(y), nrounds = rounds, nthreads = threads,
      seed = as.integer(seed), verbosity = 0
    ),
    params
  )
}
