# Which models a reader takes, and models that go through their own predict().
#
# A reader is made for exact classes: a generalised additive model is no linear model, though its
# class says it is one. A subclass that nobody vouched for is not read as its parent. Kinds of
# linear models go through their own predict(), and are trained again as what they are; others are
# refused.

# Classes that are another class in all that matters here, beside those with methods of their own.
reader_aliases <- c(
  "aov", "mlm", "randomForest.formula", "elnet", "lognet", "multnet", "fishnet",
  "mrelnet", "glmnetfit", "xgboost"
)

has_own_reader <- function(class) {
  name <- paste0("model_predictions.", class)
  class %in% reader_aliases || exists(name, envir = globalenv(), mode = "function") ||
    !is.null(utils::getS3method(
      "model_predictions", class, optional = TRUE, envir = topenv()
    ))
}

# A model as the readers take it, or an error with the way out.
as_readable <- function(object, name) {
  first <- class(object)[1]
  if (!is.object(object) || has_own_reader(first)) return(object)
  way <- own_ways()[[first]]
  if (!is.null(way)) return(open_own_way(object, way, name))
  if (inherits(object, c("coxph", "survreg", "survfit"))) {
    stop_model(
      paste0(
        "Model \"", name, "\" is a survival model, whose target is a time and a status."
      ),
      "What it predicts is no column of the data, so no score can be worked out.",
      paste0(
        "Ask for one that is: give `study(predict_with = )` a function that predicts ",
        "whether ", "the event has come by a time, and make that the target."
      )
    )
  }
  parents <- Filter(has_own_reader, class(object)[-1])
  if (!length(parents)) return(object)  # no reader at all: said when it is asked
  if (inherits(object, "lm") && !is.null(object$terms)) {
    load_own_predict(first, name)
    return(new_own_predict(object))
  }
  stop_model(
    paste0(
      "Model \"", name, "\" is of class \"", first, "\", a kind of \"", parents[1],
      "\", and the reader was made for \"", parents[1], "\" itself."
    ),
    "What it reads there may not be what this model does.",
    paste0(
      "Give `study(predict_with = )` a function that predicts, and `refit_with` one ",
      "that fits."
    )
  )
}

open_own_way <- function(object, way, name) {
  rlang::check_installed(
    way$package, paste0("to predict with a model of class \"", class(object)[1], "\"")
  )
  loadNamespace(way$package)
  if (is.null(own_terms(object))) {
    stop_model(
      paste0("Model \"", name, "\" was fitted without a formula: its columns are not named."),
      todo = "Fit it by a formula, or give `study(predict_with = , refit_with = )`."
    )
  }
  way$task(object)  # refused here, not later
  out <- new_own_predict(object)
  out$way <- way
  out
}

# Without its package loaded a model would be predicted as its parent.
load_own_predict <- function(class, name) {
  home <- c(gam = "mgcv", bam = "mgcv", gamm = "mgcv", rlm = "MASS", negbin = "MASS")
  if (class %in% names(home)) {
    rlang::check_installed(
      home[[class]], paste0("to predict with a model of class \"", class, "\"")
    )
    loadNamespace(home[[class]])
  } else if (is.null(utils::getS3method(
      "predict", class, optional = TRUE, envir = globalenv()
    ))) {
    stop_model(
      paste0(
        "No predict() for models of class \"", class, "\" is loaded; model \"", name,
        "\" would be predicted as something else."
      ),
      todo = paste0(
        "Load the package that made it, or give `study(predict_with = )` a function ",
        "that predicts."
      )
    )
  }
}

# formula: what it was fitted by, on the left the target as it stands there.
new_own_predict <- function(object, formula = NULL) {
  if (inherits(object, "gam") && !is.null(object$call$offset)) {
    stop_model(
      paste0(
        "The model of class \"", class(object)[1], "\" was fitted with `offset = `, and its ",
        "own predict() leaves that out."
      ),
      todo = "Fit it with offset() in the formula, which predict() takes in."
    )
  }
  if (is.null(formula)) {
    formula <- if (inherits(object, "gam")) stats::formula(object) else own_terms(object)
  }
  structure(list(model = object, formula = formula), class = "dreher_own_predict")
}

# The model as the user knows it, whatever it has been wrapped in here.
users_object <- function(object) {
  if (inherits(object, "dreher_own_predict")) return(object$model)
  if (inherits(object, "dreher_transformed")) return(users_object(object$model))
  if (!inherits(object, "dreher_encoded")) return(object)
  if (is.null(object$wrapper)) users_object(object$engine) else object$wrapper
}

# What the readers look into: the model behind an encoder.
readers_object <- function(object) {
  if (inherits(object, "dreher_encoded")) object$engine else object
}

family_of <- function(model) if (is.list(model$family)) model$family else stats::gaussian()

#' @export
model_task.dreher_own_predict <- function(model, ...) {
  if (!is.null(model$way)) return(model$way$task(model$model))
  family <- family_of(model$model)$family
  if (!is.character(family) || length(family) != 1) {
    stop_model(
      paste0(
        "Models of class \"", class(model$model)[1],
        "\" with this family are not supported."
      ),
      todo = "Give `study(predict_with = )` a function that predicts."
    )
  }
  if (!family %in% c("binomial", "quasibinomial")) {
    return(list(task = "regression", classes = NULL))
  }
  model_task.glm(model$model)
}

#' @export
model_inputs.dreher_own_predict <- function(model, train = NULL, ...) {
  terms <- own_terms(model$model)
  predictors <- plain_columns(terms)
  levels <- if (!is.null(train)) {
    levels_of_rows(train, intersect(predictors, names(train)))
  } else {
    list()
  }
  known <- own_levels(model)
  known <- known[intersect(names(known), predictors)]
  levels[names(known)] <- known
  new_inputs(
    predictors,
    levels,
    missing = FALSE,
    also = setdiff(plain_columns(terms, all = TRUE), predictors)
  )
}

#' @export
model_predictions.dreher_own_predict <- function(model, data, ...) {
  if (!is.null(model$way)) {
    out <- model$way$predict(model$model, data)
    return(if (is.matrix(out)) out else back_transform(own_terms(model$model))$inverse(out))
  }
  p <- as.double(suppressWarnings(stats::predict(model$model, data, type = "response")))
  classes <- model_task(model)$classes
  if (is.null(classes)) return(back_transform(model$model$terms)$inverse(p))
  matrix(c(1 - p, p), ncol = 2, dimnames = list(NULL, classes))
}

# Of those whose terms add up: robust linear models, negative binomial ones, additive models.
#' @export
model_coefficients.dreher_own_predict <- function(model, ...) {
  own <- model$model
  class <- class(own)[1]
  if (!is.null(model$way$coefficients)) return(model$way$coefficients(own))
  if (class %in% c("gam", "bam")) return(additive_terms(own))
  if (!class %in% c("rlm", "negbin")) return(NULL)
  linear <- model_coefficients.lm(own)
  # no tests of terms: their residual degrees of freedom are not known
  linear[setdiff(names(linear), c("vcov", "df"))]
}

#' @export
model_forest.dreher_own_predict <- function(model, inputs, ...) {
  if (!is.null(model$way$forest)) model$way$forest(model$model, inputs)
}

# A smooth is a term of several coefficients; its columns are those it bends over and those that
# switch or scale it.
additive_terms <- function(own) {
  known <- own$terms
  if (length(own$nsdf) != 1 || !is.null(attr(known, "offset")) ||
      !is.null(own$call$offset) || is.matrix(own$coefficients)) {
    return(NULL)
  }
  labels <- attr(own$pterms, "term.labels")
  term <- integer(length(own$coefficients))
  if (own$nsdf > 0) term[seq_len(own$nsdf)] <- own$assign
  columns <- lapply(labels, function(l) all.vars(str2lang(l)))
  for (s in own$smooth) {
    columns <- c(columns, list(unique(unlist(lapply(
      c(s$term, if (!identical(s$by, "NA")) s$by), function(l) all.vars(str2lang(l))
    )))))
    term[s$first.para:s$last.para] <- length(columns)
    labels <- c(labels, s$label)
  }
  back <- back_transform(known)
  inside <- own$family$linkinv
  list(
    beta = own$coefficients,
    term = term,
    columns = stats::setNames(columns, labels),
    design = function(data) stats::predict(own, data, type = "lpmatrix"),
    invlink = if (is.null(back$says)) inside else function(eta) back$inverse(inside(eta)),
    link = if (is.null(back$says)) own$family$link else back$says
  )
}

# The same call with the formula and the rows exchanged; what comes out must be of the same class.
#' @export
refit_model.dreher_own_predict <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  own <- model$model
  class <- class(own)[1]
  if (is.null(own_call(own))) {
    stop_model(
      paste0("A model of class \"", class, "\" does not say how it was fitted."),
      todo = "Give `study(refit_with = )` a function that fits it."
    )
  }
  call <- as.list(own_call(own))
  refuse_arguments(
    call,
    c("weights", "subset", "offset", "knots", "sp", "start", "etastart", "mustart"),
    class
  )
  terms <- stats::terms(model$formula)
  formula <- kept_terms(terms, target, predictors)
  if (model_task(model)$task == "classification") {
    data[[target]] <- text_factor(data[[target]])
  }
  keep <- setdiff(names(call), c("", "formula", "data", "model", "x", "y", "fit", "G"))
  args <- reusable_arguments(call, keep, environment(model$formula), class)
  fit <- with_stream(
    seed,
    class,
    fit_with(
      fitting_function(own, model$way$package),
      list(formula = formula, data = quote(data)),
      args
    )
  )
  if (!identical(class(fit), class(own))) {
    stop_model(
      paste0(
        "Trained again, the model of class \"", class, "\" becomes one of class \"",
        class(fit)[1], "\"."
      ),
      todo = "Give `study(refit_with = )` a function that fits the model."
    )
  }
  out <- new_own_predict(fit)
  out$way <- model$way
  out
}

# The function a model was fitted by, found in the package that its class comes from.
fitting_function <- function(model, package = NULL) {
  fun <- own_call(model)[[1]]
  if (!is.name(fun)) return(fun)
  method <- utils::getS3method("predict", class(model)[1], optional = TRUE)
  home <- if (!is.null(package)) {
    asNamespace(package)
  } else if (!is.null(method)) {
    topenv(environment(method))
  } else {
    globalenv()
  }
  for (place in list(home, environment(own_terms(model)), globalenv())) {
    if (exists(as.character(fun), envir = place, mode = "function")) {
      return(get(as.character(fun), envir = place, mode = "function"))
    }
  }
  stop_model(
    paste0(
      "The function `", as.character(fun),
      "`, by which the model was fitted, is not there."
    ),
    todo = paste0(
      "Attach its package, or give `study(refit_with = )` a function that fits the ",
      "model."
    )
  )
}

#' @export
widen_model.dreher_own_predict <- function(
    model, columns, copy_of = NULL, scale = TRUE, ...) {
  if (!is.null(copy_of)) {
    model$formula <- with_copies(stats::terms(model$formula), columns, copy_of)
  }
  model
}

#' @export
estimated_predictors.dreher_own_predict <- function(model, predictors, ...) {
  in_terms(stats::terms(model$formula), predictors)
}
