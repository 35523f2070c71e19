# Readers for glmnet (at its chosen penalty) and nnet's multinom. Checked with glmnet 4.1, nnet 7.3.

# cv.glmnet: the largest penalty within one standard error; glmnet: its only one.
glmnet_penalty <- function(model) {
  if (!is.null(model$chosen_penalty)) return(model$chosen_penalty)
  if (inherits(model, "cv.glmnet")) return(model$lambda.1se)
  if (length(model$lambda) != 1) {
    stop_model(
      paste0(
        "The glmnet model holds ", length(model$lambda),
        " penalties, and which one counts is not known."
      ),
      todo = "Fit it with a single `lambda`, or give the result of cv.glmnet()."
    )
  }
  model$lambda
}

glmnet_path <- function(model) {
  rlang::check_installed("Matrix", "to read a glmnet model")
  loadNamespace("Matrix")   # its coefficients are of a class that is known only then
  if (inherits(model, "cv.glmnet")) model$glmnet.fit else model
}

#' @export
model_task.glmnet <- function(model, ...) {
  path <- glmnet_path(model)
  kind <- class(path)[1]
  if (kind %in% c("lognet", "multnet")) {
    return(list(task = "classification", classes = path$classnames))
  }
  binary <- c("binomial", "quasibinomial")
  if (kind == "glmnetfit" && path$family$family %in% binary) {
    return(list(task = "classification", classes = c("0", "1")))
  }
  if (!kind %in% c("elnet", "fishnet", "glmnetfit")) {
    stop_model(
      paste0("glmnet models of kind \"", kind, "\" are not supported."),
      todo = "Give `study(predict_with = )`."
    )
  }
  list(task = "regression", classes = NULL)
}

#' @export
model_inputs.glmnet <- function(model, train = NULL, ...) {
  beta <- glmnet_path(model)$beta
  new_inputs(
    setdiff(rownames(if (is.list(beta)) beta[[1]] else beta), idle_column),
    missing = FALSE
  )
}

# glmnet wants two columns. Beside a single one stands a column of zeros, which gets no coefficient.
idle_column <- "(idle)"

glmnet_columns <- function(data, model) {
  beta <- glmnet_path(model)$beta
  idle <- idle_column %in% rownames(if (is.list(beta)) beta[[1]] else beta)
  beside_idle(as.matrix(data[model_inputs(model)$predictors]), idle)
}

beside_idle <- function(x, idle = ncol(x) < 2) {
  if (idle) cbind(x, matrix(0, nrow(x), 1, dimnames = list(NULL, idle_column))) else x
}

#' @export
model_predictions.glmnet <- function(model, data, ...) {
  rlang::check_installed("glmnet", "to predict with a glmnet model")
  out <- stats::predict(
    model,
    newx = glmnet_columns(data, model),
    s = glmnet_penalty(model),
    type = "response"
  )
  task <- model_task(model)
  if (task$task == "regression") return(as.double(out))
  if (length(task$classes) == 2) {
    return(matrix(c(1 - out, out), ncol = 2, dimnames = list(NULL, task$classes)))
  }
  matrix(out, nrow(data), dimnames = list(NULL, task$classes))
}

#' @export
model_coefficients.glmnet <- function(model, ...) {
  rlang::check_installed("glmnet", "to read a glmnet model")
  if (isTRUE(glmnet_path(model)$offset)) return(NULL)
  beta <- stats::coef(model, s = glmnet_penalty(model))
  beta <- if (is.list(beta)) {
    vapply(beta, function(b) as.matrix(b)[, 1], double(nrow(beta[[1]])))
  } else {
    as.matrix(beta)[, 1]
  }
  beta <- if (is.matrix(beta)) {
    beta[rownames(beta) != idle_column, , drop = FALSE]
  } else {
    beta[names(beta) != idle_column]
  }
  columns <- model_inputs(model)$predictors
  path <- glmnet_path(model)
  link <- switch(
    class(path)[1],
    glmnetfit = path$family$link,
    lognet = "logit",
    multnet = "softmax",
    fishnet = "log",
    "identity"
  )
  list(
    beta = beta,
    term = c(0L, seq_along(columns)),
    columns = stats::setNames(as.list(columns), columns),
    design = function(data) cbind(`(Intercept)` = 1, as.matrix(data[columns])),
    invlink = if (inherits(path, "glmnetfit")) {
      path$family$linkinv
    } else {
      switch(link, logit = stats::plogis, log = exp, identity)
    },
    link = link
  )
}

#' @export
model_task.cv.glmnet <- function(model, ...) model_task.glmnet(model)

#' @export
model_inputs.cv.glmnet <- function(model, train = NULL, ...) model_inputs.glmnet(model, train)

#' @export
model_predictions.cv.glmnet <- function(model, data, ...) {
  model_predictions.glmnet(model, data)
}

#' @export
model_coefficients.cv.glmnet <- function(model, ...) model_coefficients.glmnet(model)

# The same family, mixing and penalty; where cv.glmnet chose the penalty, it chooses again.
#' @export
refit_model.glmnet <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("glmnet", "to train a glmnet model again")
  call <- as.list(model$call)
  refuse_arguments(
    call,
    c(
      "weights", "offset", "penalty.factor", "lower.limits", "upper.limits", "exclude",
      "foldid"
    ),
    class(model)[1]
  )
  args <- reusable_arguments(
    call,
    c("alpha", "standardize", "intercept", "maxit", "nfolds", "type.measure"),
    globalenv(),
    class(model)[1]
  )
  family <- switch(
    class(glmnet_path(model))[1],
    glmnetfit = glmnet_path(model)$family,
    lognet = "binomial",
    multnet = "multinomial",
    fishnet = "poisson",
    "gaussian"
  )
  x <- beside_idle(as.matrix(data[predictors]))
  storage.mode(x) <- "double"
  fixed <- list(x = quote(x), y = quote(data[[target]]), family = family)
  if (inherits(model, "cv.glmnet")) {
    return(with_stream(seed, "glmnet", fit_with(quote(glmnet::cv.glmnet), fixed, args)))
  }
  fit_with(
    quote(glmnet::glmnet),
    c(fixed, list(lambda = glmnet_penalty(model))),
    args[setdiff(names(args), c("nfolds", "type.measure"))]
  )
}

#' @export
refit_model.cv.glmnet <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  refit_model.glmnet(model, data, target, predictors, seed, threads)
}

#' @export
model_task.multinom <- function(model, ...) list(task = "classification", classes = model$lev)

#' @export
model_inputs.multinom <- function(model, train = NULL, ...) model_inputs.lm(model, train)

#' @export
model_predictions.multinom <- function(model, data, ...) {
  rlang::check_installed("nnet", "to predict with a multinom model")
  out <- stats::predict(model, data, type = "probs")
  if (length(model$lev) == 2) out <- cbind(1 - out, out)
  matrix(out, nrow(data), dimnames = list(NULL, model$lev))
}

#' @export
model_coefficients.multinom <- function(model, ...) {
  rlang::check_installed("nnet", "to read a multinom model")
  beta <- stats::coef(model)
  two <- length(model$lev) == 2
  beta <- if (two) beta else cbind(0, t(beta))
  if (!two) colnames(beta) <- model$lev
  terms <- stats::delete.response(model$terms)
  if (!is.null(attr(terms, "offset"))) return(NULL)
  labels <- attr(terms, "term.labels")
  design <- formula_design(terms, model$xlevels, model$contrasts)
  list(
    beta = beta,
    term = tryCatch(attr(stats::model.matrix(model), "assign"), error = function(e) NULL),
    columns = stats::setNames(lapply(labels, function(l) all.vars(str2lang(l))), labels),
    design = design,
    invlink = if (two) stats::plogis else identity,
    link = if (two) "logit" else "softmax"
  )
}

#' @export
refit_model.multinom <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("nnet", "to train a multinom model again")
  refuse_arguments(as.list(model$call), c("weights", "subset"), "multinom")
  args <- reusable_arguments(
    as.list(model$call), c("decay", "maxit"), environment(model$terms), "multinom"
  )
  formula <- kept_terms(stats::terms(model), target, predictors)
  with_stream(
    seed,
    "multinom",
    fit_with(
      quote(nnet::multinom),
      list(formula = formula, data = quote(data), trace = FALSE),
      args
    )
  )
}
