#' Teach dreher a model class
#'
#' A model takes part in a [study()] through a handful of generics. Methods exist for **ranger**
#' and **randomForest** (numbers and classes), **rpart** (anova, class, poisson; surrogate splits
#' followed), **gbm**, **xgboost** (1.7 to 3.2) and **lightgbm** (4) boosters, model files of the
#' last two ([read_model()]), **parsnip** fits and **workflows**, **lm**, **glm**, **glmnet** and
#' **cv.glmnet** (at the chosen penalty) and **nnet::multinom**. For any other class either write
#' methods for these generics, or give two plain functions to `study(predict_with = , refit_with =
#' )`, which needs nothing else.
#'
#' A reader is made for exact classes. Kinds of linear models (a `gam`, an `rlm`, a `glm.nb`) go
#' through their own `predict()` and are trained again by their own call; the terms of these three
#' are read as well, so that their importances are exact. So do `MASS::lda` and `qda`,
#' `nnet::nnet` and `e1071::svm` (with `probability = TRUE`) that were fitted by a formula. Survival
#' models are refused: what they predict is no column;
#' other subclasses are refused, because what is read of the parent may not be what they do. A
#' target that a linear model transforms, as in `lm(log(y) ~ x)`, is brought back where that is
#' one to one; elsewhere such models are refused.
#'
#' \describe{
#'   \item{`model_inputs()`}{the predictors a model uses, their levels, and whether it takes missing
#'     values}
#'   \item{`model_predictions()`}{a numeric vector (regression) or a matrix with one column of
#'     probabilities per class}
#'   \item{`model_forest()`}{the model's trees as one flat structure, or `NULL`}
#'   \item{`model_coefficients()`}{terms and coefficients of a linear predictor, or `NULL`}
#'   \item{`refit_model()`}{the same kind of model, trained again on other rows and fewer (or more)
#'     predictors}
#'   \item{`model_task()`}{`"regression"` or `"classification"`, and the classes}
#'   \item{`widen_model()`}{the model with room for more predictors, where what it states (a
#'     formula, a number of predictors tried) must grow with them; by default as it is}
#'   \item{`estimated_predictors()`}{those of its predictors of which anything is estimated;
#'     by default all}
#' }
#'
#' @param model A fitted model.
#' @param data A data frame with the columns named by `model_inputs()`, factors on the levels of the
#'   training rows.
#' @param train The training rows (data frame) or `NULL`.
#' @param inputs What `model_inputs()` returned.
#' @param target Name of the target column in `data`.
#' @param predictors Names of the predictors to train on, at least one.
#' @param seed A whole number that makes the training reproducible.
#' @param threads Number of threads the training may use; must not change the result.
#' @param columns Names of the predictors that come in.
#' @param copy_of `NULL`, or the names of the predictors that `columns` are permuted copies of.
#' @param scale FALSE: the number of predictors tried at a split stays as it is.
#' @param ... For methods.
#' @return See the table. `model_inputs()`: a list with `predictors` (character), `levels` (a named
#'   list, one entry per predictor, `NULL` for numbers) and `missing` (does the model take missing
#'   values). `model_task()`: a list with `task` and `classes` (character, `NULL` when the model
#'   does not say). `model_forest()`: a list of class `dreher_forest`, made by [flat_forest()].
#'   `model_coefficients()`: a list with `beta` (named numeric), `term` (for each coefficient the
#'   number of its term, 0 for the intercept), `columns` (for each term the predictors it uses),
#'   `design` (a function that turns rows into the design matrix), `invlink` (a function) and
#'   `link` (its name), and where the model has them `vcov` (covariance of the estimated
#'   coefficients), `df` (residual degrees of freedom) and `aliased` (names of coefficients that
#'   were not estimated).
#' @section Errors: A class without a method is an error of class `dreher_error_model` that names
#'   the class and the way out.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' model_inputs(fit, kiln$train)$predictors
#' model_coefficients(fit)$beta
#' @name readers
NULL

#' @rdname readers
#' @export
model_inputs <- function(model, train = NULL, ...) UseMethod("model_inputs")

#' @rdname readers
#' @export
model_predictions <- function(model, data, ...) UseMethod("model_predictions")

#' @rdname readers
#' @export
model_forest <- function(model, inputs, ...) UseMethod("model_forest")

#' @rdname readers
#' @export
model_coefficients <- function(model, ...) UseMethod("model_coefficients")

#' @rdname readers
#' @export
refit_model <- function(model, data, target, predictors, seed = 1, threads = 1, ...) {
  UseMethod("refit_model")
}

#' @rdname readers
#' @export
model_task <- function(model, ...) UseMethod("model_task")

#' @rdname readers
#' @export
widen_model <- function(model, columns, copy_of = NULL, scale = TRUE, ...) {
  UseMethod("widen_model")
}

#' @rdname readers
#' @export
estimated_predictors <- function(model, predictors, ...) UseMethod("estimated_predictors")

#' @export
widen_model.default <- function(model, columns, copy_of = NULL, scale = TRUE, ...) model

#' @export
estimated_predictors.default <- function(model, predictors, ...) predictors

# The error a model found in training on rows it left out, or NULL: list(value, kind, rows, levels
# kept), see check_level_order().
error_left_out <- function(model) UseMethod("error_left_out")

#' @export
error_left_out.default <- function(model) NULL

# The log-likelihood of a fit, for models that have one in their own right.
likelihood_of <- function(model) UseMethod("likelihood_of")

#' @export
likelihood_of.default <- function(model) NULL

#' @export
model_inputs.default <- function(model, train = NULL, ...) NULL

#' @export
model_predictions.default <- function(model, data, ...) {
  stop_model(
    paste0("dreher has no reader for models of class \"", class(model)[1], "\"."),
    todo = paste(
      paste0(
        "Give `study(predict_with = function(model, data) ...)`, returning numbers ",
        "(regression)"
      ),
      "or a matrix of class probabilities."
    )
  )
}

#' @export
model_forest.default <- function(model, inputs, ...) NULL

#' @export
model_coefficients.default <- function(model, ...) NULL

#' @export
refit_model.default <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  stop_model(
    paste0(
      "dreher does not know how to train a model of class \"", class(model)[1],
      "\" again."
    ),
    todo = paste0(
      "Give `study(refit_with = function(model, data, predictors) ...)`, returning a ",
      "fitted model."
    )
  )
}

#' @export
model_task.default <- function(model, ...) list(task = NULL, classes = NULL)

# The columns that a formula's terms use, whatever the terms make of them. Variables that were taken
# out again (. - x) do not count, but stay in `all`.
plain_columns <- function(terms, all = FALSE) {
  terms <- stats::delete.response(terms)
  used <- attr(terms, "factors")
  variables <- as.list(attr(terms, "variables"))[-1]
  # The rows of the table are the variables in their order.
  asked <- if (length(used)) which(all | rowSums(used) > 0)
  unique(as.character(unlist(lapply(variables[c(asked, attr(terms, "offset"))], all.vars))))
}

#' @rdname reader_parts
#' @param target Name of the target.
#' @param env The formula's environment.
#' @export
plain_formula <- function(target, predictors, env = parent.frame()) {
  check_string(target, "target")
  if (length(predictors)) check_names(predictors, "predictors")
  right <- if (!length(predictors)) {
    1
  } else {
    Reduce(function(a, b) call("+", a, b), lapply(predictors, as.name))
  }
  stats::as.formula(call("~", as.name(target), right), env = env)
}

# The arguments of a model's own call that can be used again, evaluated where the formula was
# written. What cannot be evaluated any more is an error: the refit would be another learner.
reusable_arguments <- function(call, keep, env, model) {
  passed_on <- vapply(
    call, function(a) is.name(a) && grepl("^[.][.]([.]|[0-9]+)$", as.character(a)), NA
  )
  if (any(passed_on)) {
    stop_model(
      paste0(
        "The model of class \"", model,
        "\" was fitted through a function that passed `...` on, so its settings are ",
        "not known."
      ),
      todo = "Give `study(refit_with = )` a function that fits the model."
    )
  }
  call <- call[intersect(names(call), keep)]
  lapply(stats::setNames(as.list(call), names(call)), function(arg) {
    tryCatch(
      {
        value <- eval(arg, env)
        # link = log: some functions look at the name
        if (is.name(arg) && is.function(value)) arg else value
      },
      error = function(e) {
        stop_model(
          paste0(
            "The model of class \"", model, "\" was fitted with `", deparse1(arg),
            "`, which is not there any more."
          ),
          todo = "Give `study(refit_with = )` a function that fits the model."
        )
      }
    )
  })
}

# Calls a fitting function in the caller's frame. Rows go in by name: a call that held them would be
# stored in the fit and written out in full by every error message.
fit_with <- function(fun, fixed, args, frame = parent.frame()) {
  eval(as.call(c(list(fun), fixed, args)), frame)
}

refuse_arguments <- function(call, refused, model) {
  found <- intersect(names(call), refused)
  if (length(found)) {
    stop_model(
      paste0(
        "The model of class \"", model, "\" was fitted with `", found[1],
        "`, which belongs to its own training rows and cannot be carried over to others."
      ),
      todo = "Give `study(refit_with = )` a function that fits the model."
    )
  }
}

# Refits of ours are trained on a factor: the order of its levels is how they number them.
with_classes <- function(fit, y) {
  if (is.factor(y)) attr(fit, "class_names") <- levels(y)
  fit
}

# The names of a model's numbered classes, where ours were written beside it.
named_classes <- function(model, numbered) {
  own <- attr(model, "class_names", exact = TRUE)
  if (length(own) && length(own) == length(numbered)) own else numbered
}
