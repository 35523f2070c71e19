# Reader for xgboost: boosters (R objects), JSON and UBJSON files. Checked with xgboost 1.7: gbtree, dart and
# gblinear, splits on numbers and on categories, one or several classes or targets, several trees a round,
# missing values by their stored direction. Other versions, leaf vectors and other objectives are refused.
#
# Both ways lead to the document whose layout the library publishes. Values are compared in single
# precision: x < cut goes left; categories of a node's set go right. Sums are single precision in the
# library and double here.

xgb_links <- c("reg:squarederror" = "identity", "reg:pseudohubererror" = "identity", "reg:absoluteerror" = "identity", "binary:logistic" = "logit",
               "count:poisson" = "log", "reg:gamma" = "log", "reg:tweedie" = "log", "multi:softprob" = "softmax", "multi:softmax" = "softmax")

# The `learner` of a document, without (settings) or with its trees.
xgb_settings <- function(model) {
  if (inherits(model, "dreher_xgboost_file")) return(model$learner)
  rlang::check_installed("xgboost", "to read an xgboost model")
  xgb_learner(charToRaw(xgboost::xgb.config(live_booster(model))), FALSE)
}

xgb_content <- function(model) {
  if (inherits(model, "dreher_xgboost_file")) return(model$learner)
  rlang::check_installed("xgboost", "to read an xgboost model")
  xgb_learner(xgboost::xgb.save.raw(live_booster(model), raw_format = "ubj"), TRUE)
}

# Boosters that come from a file or another process have lost what they point at; the library makes it anew from the bytes they carry.
live_booster <- function(model) xgboost::xgb.Booster.complete(model, saveraw = FALSE)

xgb_learner <- function(bytes, binary) {
  document <- document_of(bytes, binary)
  check_xgb_version(take_numbers(document, "version", "the file"))
  learner <- take_table(document, "learner", "the file")
  objective <- take_text(take_table(learner, "objective", "the model"), "name", "the objective")
  if (!objective %in% names(xgb_links)) {
    stop_model(paste0("xgboost models of objective \"", objective, "\" are not supported."), todo = "Give `study(predict_with = )` a function that predicts.")
  }
  learner
}

check_xgb_version <- function(version) {
  if (length(version) != 3 || version[1] != 1 || version[2] != 7) {
    stop_model(paste0("The xgboost model is of version ", paste(version, collapse = "."), "; its reader was checked with 1.7 only."),
               todo = "Give `study(predict_with = )` a function that predicts.")
  }
}

# The names of a booster's columns, which not every version keeps with it.
booster_columns <- function(model) if (is.list(model)) model$feature_names else attr(model, "columns")

with_columns <- function(model, columns) {
  if (is.list(model)) model$feature_names <- columns else attr(model, "columns") <- columns
  model
}

xgb_objective <- function(learner) learner$objective$name

xgb_booster <- function(learner) take_text(take_table(learner, "gradient_booster", "the model"), "name", "the booster")

xgb_shape <- function(learner) take_table(learner, "learner_model_param", "the model")

xgb_classes <- function(learner) {
  link <- xgb_links[[xgb_objective(learner)]]
  if (link == "logit") return(c("0", "1"))
  if (link != "softmax") return(NULL)
  count <- take_count(xgb_shape(learner), "num_class", "the model")
  if (count < 2 || count > 1e5) file_fault("a model of ", count, " classes")
  as.character(seq_len(count) - 1)
}

xgb_targets <- function(learner) if (is.null(xgb_shape(learner)[["num_target"]])) 1L else max(1L, take_count(xgb_shape(learner), "num_target", "the model"))

new_xgb_file <- function(bytes, rounds, output, columns) {
  # A table's first byte after { is a quote, a space or } in JSON, a length in UBJSON.
  binary <- length(bytes) > 1 && !bytes[2] %in% charToRaw("\" \n\r\t}")
  learner <- xgb_learner(bytes, binary)
  booster <- xgb_booster(learner)
  count <- take_count(xgb_shape(learner), "num_feature", "the model")
  own <- if (is.null(learner[["feature_names"]])) character() else take_texts(learner, "feature_names", "the model")
  if (is.null(rounds) && booster != "gblinear" && !is.null(learner$attributes[["best_iteration"]])) {
    rounds <- take_count(learner$attributes, "best_iteration", "the attributes") + 1L
  }
  model <- structure(list(library = "xgboost", learner = learner, bytes = bytes, objective = xgb_objective(learner), rounds = rounds,
                          output = pick_output(output, xgb_targets(learner)), columns = file_columns(own, columns, count)),
                     class = c("dreher_xgboost_file", "dreher_model_file"))
  xgb_classes(learner)
  if (booster == "gblinear") read_coefficients(model) else read_forest(model, read_inputs(model))   # refused here, not later
  model
}

#' @export
read_task.xgb.Booster <- function(model, ...) {
  classes <- xgb_classes(xgb_settings(model))
  list(task = if (is.null(classes)) "regression" else "classification", classes = classes)
}

#' @export
read_task.dreher_xgboost_file <- function(model, ...) read_task.xgb.Booster(model)

#' @export
read_inputs.xgb.Booster <- function(model, train = NULL, ...) {
  names <- booster_columns(model)
  if (!length(names)) {
    stop_model("The xgboost model does not know the names of its columns.", todo = "Train it on a matrix with column names.")
  }
  new_inputs(as.character(names), missing = TRUE)
}

#' @export
read_inputs.dreher_xgboost_file <- function(model, train = NULL, ...) new_inputs(model$columns, missing = TRUE)

#' @export
read_predictions.xgb.Booster <- function(model, data, ...) {
  xgb_predictions(model, data, read_inputs(model)$predictors, xgb_settings(model))
}

#' @export
read_predictions.dreher_xgboost_file <- function(model, data, ...) {
  comparable <- requireNamespace("xgboost", quietly = TRUE) && utils::packageVersion("xgboost") < "2" && xgb_targets(model$learner) == 1
  if (!comparable) return(file_predictions(model, data))
  booster <- xgboost::xgb.load.raw(model$bytes, as_booster = TRUE)
  xgb_predictions(booster, data, model$columns, model$learner, if (is.null(model$rounds)) NULL else c(1, model$rounds + 1))
}

xgb_predictions <- function(booster, data, columns, learner, rounds = NULL) {
  link <- xgb_links[[xgb_objective(learner)]]
  classes <- xgb_classes(learner)
  x <- as.matrix(data[columns])
  storage.mode(x) <- "double"
  x <- xgboost::xgb.DMatrix(unname(x), nthread = 1)
  if (length(learner[["feature_names"]])) xgboost::setinfo(x, "feature_name", take_texts(learner, "feature_names", "the model"))
  if (length(learner[["feature_types"]])) xgboost::setinfo(x, "feature_type", take_texts(learner, "feature_types", "the model"))
  booster$feature_names <- NULL   # compared by the library, whose matrix has no names here
  if (link == "softmax") {
    eta <- matrix(stats::predict(booster, x, outputmargin = TRUE, iterationrange = rounds), ncol = length(classes), byrow = TRUE)
    return(matrix(apply_link(list(link = "softmax"), eta), ncol = length(classes), dimnames = list(NULL, classes)))
  }
  out <- as.double(stats::predict(booster, x, iterationrange = rounds))
  if (link == "logit") matrix(c(1 - out, out), ncol = 2, dimnames = list(NULL, classes)) else out
}

#' @export
read_forest.xgb.Booster <- function(model, inputs, ...) {
  if (xgb_booster(xgb_settings(model)) == "gblinear") return(NULL)
  # As the library's own predictions after early stopping.
  xgb_forest(xgb_content(model), inputs, rounds = model$best_iteration, params = model$params)
}

#' @export
read_forest.dreher_xgboost_file <- function(model, inputs, ...) {
  if (xgb_booster(model$learner) == "gblinear") return(NULL)
  xgb_forest(model$learner, inputs, rounds = model$rounds, output = model$output)
}

# A linear booster: one weight per column and output, then the intercepts. Absent values add nothing.
#' @export
read_coefficients.xgb.Booster <- function(model, ...) {
  if (xgb_booster(xgb_settings(model)) != "gblinear") return(NULL)
  learner <- xgb_content(model)
  columns <- read_inputs(model)$predictors
  link <- xgb_links[[xgb_objective(learner)]]
  classes <- xgb_classes(learner)
  targets <- xgb_targets(learner)
  K <- if (link == "softmax") length(classes) else targets
  weights <- take_numbers(take_table(learner$gradient_booster, "model", "the booster"), "weights", "the booster", (length(columns) + 1) * K)
  if (!all(is.finite(weights))) file_fault("a weight is not a finite number")
  beta <- matrix(weights, ncol = K, byrow = TRUE)
  beta <- rbind(beta[nrow(beta), ] + xgb_base(learner, link), beta[-nrow(beta), , drop = FALSE])
  dimnames(beta) <- list(c("(Intercept)", columns), if (link == "softmax") classes)
  if (targets > 1) beta <- beta[, model$output, drop = FALSE]
  if (link != "softmax") beta <- beta[, 1]
  list(beta = beta, term = c(0L, seq_along(columns)), columns = stats::setNames(as.list(columns), columns),
       design = function(data) {
         x <- as.matrix(data[columns])
         x[is.na(x)] <- 0
         cbind(`(Intercept)` = 1, x)
       }, invlink = switch(link, logit = stats::plogis, log = exp, identity), link = link, stretch = 1)
}

#' @export
read_coefficients.dreher_xgboost_file <- function(model, ...) read_coefficients.xgb.Booster(model)

#' @export
refit_model.xgb.Booster <- function(model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("xgboost", "to train an xgboost model again")
  params <- model$params
  params[c("validate_parameters", "nthread")] <- NULL
  if (!is.null(params$monotone_constraints) || !is.null(params$interaction_constraints)) {
    stop_model("The xgboost model has constraints that name columns by position.", todo = "Give `study(refit_with = )` a function that fits the model.")
  }
  # Boosters do not keep which columns hold categories; their splits tell.
  forest <- if (xgb_booster(xgb_settings(model)) != "gblinear") read_forest(model, read_inputs(model))
  coded <- unique(forest$columns[forest$column[forest$set_from >= 0] + 1L])
  y <- data[[target]]
  if (is.factor(y)) y <- as.integer(y) - 1L
  x <- as.matrix(data[predictors])
  storage.mode(x) <- "double"
  rows <- xgboost::xgb.DMatrix(x, label = y, nthread = 1)
  if (length(coded)) xgboost::setinfo(rows, "feature_type", ifelse(predictors %in% coded, "c", "q"))
  with_stream(seed, "xgboost", xgboost::xgb.train(c(params, list(nthread = threads)), rows, nrounds = if (is.null(model$best_iteration)) model$niter else model$best_iteration, verbose = 0))
}
