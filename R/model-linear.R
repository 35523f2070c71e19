# Readers for lm and glm: exact terms, exact refits.

#' @export
model_task.lm <- function(model, ...) {
  if (inherits(model, "mlm")) {
    stop_model(
      "Linear models with several targets are not supported.",
      todo = "Fit one model per target."
    )
  }
  list(task = "regression", classes = NULL)
}

#' @export
model_task.glm <- function(model, ...) {
  if (!model$family$family %in% c("binomial", "quasibinomial")) {
    return(list(task = "regression", classes = NULL))
  }
  y <- stats::model.response(stats::model.frame(model))
  if (is.matrix(y)) {
    stop_model(
      "Logistic models of counted successes (a target of two columns) are not supported.",
      todo = "Fit the model on one row per case, with a yes/no target."
    )
  }
  list(
    task = "classification",
    classes = if (is.factor(y)) {
      levels(y)[1:2]
    } else if (is.logical(y)) {
      c("FALSE", "TRUE")
    } else {
      c("0", "1")
    }
  )
}

#' @export
model_inputs.lm <- function(model, train = NULL, ...) {
  predictors <- plain_columns(stats::terms(model))
  predictors <- union(predictors, columns_of_offset(model, names(train)))
  levels <- if (!is.null(train)) {
    levels_of_rows(train, intersect(predictors, names(train)))
  } else {
    list()
  }
  # xlevels names the terms' variables; those that are plain columns give the levels.
  known <- model$xlevels[intersect(names(model$xlevels), predictors)]
  levels[names(known)] <- known
  new_inputs(
    predictors,
    levels,
    missing = FALSE,
    also = setdiff(plain_columns(stats::terms(model), all = TRUE), predictors)
  )
}

#' @export
model_predictions.lm <- function(model, data, ...) {
  # A rank-deficient fit predicts as R does; its warning is said once, when the study is set up.
  back_transform(stats::terms(model))$inverse(as.double(suppressWarnings(stats::predict(
    model, data
  ))))
}

#' @export
model_predictions.glm <- function(model, data, ...) {
  p <- as.double(suppressWarnings(stats::predict(model, data, type = "response")))
  classes <- model_task(model)$classes
  if (is.null(classes)) return(back_transform(stats::terms(model))$inverse(p))
  matrix(c(1 - p, p), ncol = 2, dimnames = list(NULL, classes))
}

#' @export
model_coefficients.lm <- function(model, ...) {
  terms <- stats::delete.response(stats::terms(model))
  beta <- stats::coef(model)
  design <- formula_design(terms, model$xlevels, model$contrasts)
  labels <- attr(terms, "term.labels")
  family <- if (inherits(model, "glm")) model$family else stats::gaussian()
  term <- model$assign
  if (is.null(term)) {
    term <- tryCatch(attr(stats::model.matrix(model), "assign"), error = function(e) NULL)
  }
  if (is.null(term)) return(NULL)
  response <- if (family$family %in% c("binomial", "quasibinomial")) {
    list()
  } else {
    back_transform(stats::terms(model))
  }
  if (!is.null(response$says)) {
    family <- list(
      link = if (family$link == "identity") {
        response$says
      } else {
        paste(family$link, "of", response$says)
      },
      linkinv = local({
        inside <- family$linkinv
        function(eta) response$inverse(inside(eta))
      })
    )
  }
  add_offset(
    list(
      beta = ifelse(is.na(beta), 0, beta),
      term = term,
      aliased = names(beta)[is.na(beta)],
      # of a fit without a residual it warns
      vcov = suppressWarnings(stats::vcov(model, complete = FALSE)),
      df = if (family_free(model)) model$df.residual,
      columns = stats::setNames(
        lapply(labels, function(l) all.vars(str2lang(l))), labels
      ),
      design = design,
      invlink = family$linkinv,
      link = family$link
    ),
    terms,
    beside = offset_beside(model)
  )
}

# An offset that was given beside the formula, as a call of columns, under the name it would have in
# it. What is no column belongs to the training rows alone, and its predictions cannot be made.
offset_beside <- function(model) {
  given <- model$call$offset
  if (is.null(given)) return(list())
  stats::setNames(list(given), paste0("offset(", deparse1(given), ")"))
}

# known: the columns of the rows, NULL where they are not looked at.
columns_of_offset <- function(model, known = NULL) {
  given <- model$call$offset
  if (is.null(given)) return(character())
  columns <- all.vars(given)
  if (!length(columns) || (!is.null(known) && !all(columns %in% known))) {
    stop_model(
      paste0(
        "The model of class \"", class(model)[1], "\" was fitted with `offset = ",
        substr(deparse1(given), 1, 40), "`, which is no column of the rows."
      ),
      "It belongs to the training rows alone: other rows cannot be predicted with it.",
      "Make it a column, and fit the model with offset() in the formula."
    )
  }
  columns
}

# An offset is a term whose coefficient is 1 and was not estimated.
add_offset <- function(linear, terms, beside = list()) {
  found <- c(offset_terms(terms), lapply(beside, function(o) call("offset", o)))
  if (!length(found)) return(linear)
  design <- linear$design
  linear$design <- function(data) {
    cbind(
      design(data),
      do.call(
        cbind,
        lapply(found, function(o) {
          as.double(eval(o, data, environment(terms))) + double(nrow(data))
        })
      )
    )
  }
  linear$beta <- c(linear$beta, stats::setNames(rep(1, length(found)), names(found)))
  linear$term <- c(linear$term, length(linear$columns) + seq_along(found))
  linear$columns <- c(linear$columns, lapply(found, all.vars))
  v <- matrix(
    0,
    nrow(linear$vcov) + length(found),
    nrow(linear$vcov) + length(found),
    dimnames = rep(list(c(rownames(linear$vcov), names(found))), 2)
  )
  v[rownames(linear$vcov), rownames(linear$vcov)] <- linear$vcov
  linear$vcov <- v
  linear
}

# The offsets of a formula as calls, named as they are written.
offset_terms <- function(terms) {
  calls <- as.list(attr(terms, "variables"))[-1][attr(terms, "offset")]
  stats::setNames(calls, vapply(calls, deparse1, ""))
}

# Turns rows into the columns of a formula's design matrix.
formula_design <- function(terms, xlevels, contrasts) {
  function(data) {
    frame <- stats::model.frame(terms, data, na.action = stats::na.pass, xlev = xlevels)
    stats::model.matrix(terms, frame, contrasts.arg = contrasts)
  }
}

# The formula without the terms that need a dropped predictor.
kept_terms <- function(terms, target, predictors, beside = list()) {
  labels <- attr(terms, "term.labels")
  stay <- vapply(labels, function(l) all(all.vars(str2lang(l)) %in% predictors), NA)
  kept_offsets <- Filter(
    function(o) all(all.vars(o) %in% predictors), c(offset_terms(terms), beside)
  )
  right <- c(if (any(stay)) labels[stay] else "1", names(kept_offsets))
  if (attr(terms, "intercept") == 0) right <- c(right, "0")
  stats::as.formula(
    call("~", target_side(terms, target), str2lang(paste(right, collapse = " + "))),
    env = environment(terms)
  )
}

# The target as the formula transforms it, under the name it has in the study.
target_side <- function(terms, target) {
  left <- left_side(terms)
  if (is.null(left) || is.name(left) || names_a_class(left) ||
      length(all.vars(left)) != 1) {
    return(as.name(target))
  }
  if (is.null(inverse_steps(left))) return(as.name(target))
  do.call(substitute, list(left, stats::setNames(list(as.name(target)), all.vars(left))))
}

# Is the scale estimated, so that tests are F and t rather than chi squared and normal?
family_free <- function(model) !inherits(model, "glm")

# Keeps the terms that need none of the dropped predictors, so that curves and interactions stay.
#' @export
refit_model.lm <- function(model, data, target, predictors, seed = 1, threads = 1, ...) {
  call <- as.list(model$call)
  refuse_arguments(call, c("weights", "subset"), class(model)[1])
  terms <- stats::terms(model)
  formula <- kept_terms(terms, target, predictors, offset_beside(model))
  if (inherits(model, "glm")) {
    if (model$family$family %in% c("binomial", "quasibinomial") &&
        !is.factor(data[[target]])) {
      data[[target]] <- text_factor(data[[target]])
    }
    return(stats::glm(
      formula, family = model$family, data = data, control = model$control
    ))
  }
  stats::lm(formula, data = data)
}
