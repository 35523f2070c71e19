# Targets that a model transforms: lm(log(price) ~ ...) predicts logs. Where the way back is one to
# one, predictions are brought back to the target's own scale; where it is not known, the model is
# refused.

# What stands on the left of a formula: a name, a call, or NULL.
left_side <- function(formula) {
  if (inherits(formula, "terms")) {
    at <- attr(formula, "response")
    return(if (isTRUE(at > 0)) attr(formula, "variables")[[at + 1]])
  }
  if (length(formula) == 3) formula[[2]]
}

# Calls that only say how a class is written down.
names_a_class <- function(left) {
  is.call(left) &&
    as.character(left[[1]])[1] %in% c(
      "factor", "as.factor", "as.character", "droplevels", "ordered"
    )
}

# -> list(says = NULL or the left side as text, inverse = function from there to the target)
back_transform <- function(formula) {
  left <- left_side(formula)
  plain <- list(says = NULL, inverse = identity)
  if (is.null(left) || is.name(left) || names_a_class(left)) return(plain)
  steps <- inverse_steps(left)
  if (is.null(steps)) {
    stop_model(
      paste0(
        "The model predicts ", deparse1(left),
        ", and the way back to the target is not known."
      ),
      todo = paste0(
        "Make this a column of its own and the study's target, or give ",
        "`study(predict_with = , refit_with = )` functions that predict and fit the ",
        "target itself."
      )
    )
  }
  list(says = deparse1(left), inverse = function(p) {
    Reduce(function(p, step) step(p), steps, p)
  })
}

# From the outermost call to the target inside, what undoes each; NULL where something is not known.
inverse_steps <- function(left) {
  if (is.name(left)) return(list())
  if (!is.call(left)) return(NULL)
  name <- as.character(left[[1]])[1]
  number <- function(x) {
    if (is.call(x) && identical(x[[1]], as.name("-")) && length(x) == 2) {
      x <- if (is.numeric(x[[2]])) -x[[2]] else NULL
    }
    if (is.numeric(x)) x else NULL
  }
  one <- length(left) == 2
  if (one) {
    step <- switch(
      name,
      log = exp,
      log2 = function(p) 2^p,
      log10 = function(p) 10^p,
      log1p = expm1,
      sqrt = function(p) pmax(p, 0)^2,
      exp = function(p) log(pmax(p, 1e-300)),
      I = ,
      `(` = ,
      identity = identity,
      `-` = function(p) -p
    )
    inside <- if (!is.null(step)) inverse_steps(left[[2]])
    return(if (!is.null(inside)) c(list(step), inside))
  }
  if (length(left) != 3) return(NULL)
  first <- number(left[[2]])
  second <- number(left[[3]])
  constant <- c(first, second)
  if (length(constant) != 1) return(NULL)
  leading <- !is.null(first)
  step <- switch(
    name,
    `+` = function(p) p - constant,
    `-` = if (leading) function(p) constant - p else function(p) p + constant,
    `*` = if (constant != 0) function(p) p / constant,
    `/` = if (!leading && constant != 0) function(p) p * constant,
    `^` = if (!leading) root_of(constant),
    log = if (!leading && constant > 0 && constant != 1) function(p) constant^p
  )
  inside <- if (!is.null(step)) inverse_steps(left[[if (leading) 3 else 2]])
  if (!is.null(inside)) c(list(step), inside)
}

# What undoes a power: an even one has two ways back.
root_of <- function(power) {
  if (power <= 0 || power %% 2 == 0) return(NULL)
  if (power %% 2 == 1) return(function(p) sign(p) * abs(p)^(1 / power))
  function(p) pmax(p, 0)^(1 / power)
}

# Models other than linear ones: their trees and shapes are of the target as they saw it.
check_response <- function(object, name, task) {
  left <- changed_target(object)
  if (is.null(left) || !identical(task, "regression")) return(invisible())
  stop_model(
    paste0("Model \"", name, "\" predicts ", deparse1(left), ", not the target itself."),
    todo = paste0(
      "Make ", deparse1(left), " a column of its own and the study's target, or give ",
      "`study(predict_with = , refit_with = )` functions that predict and fit the ",
      "target itself."
    )
  )
}

# What the formula of a model says of the target, where that is more than its name; NULL for linear
# models, which bring it back themselves (see back_transform()).
changed_target <- function(object) {
  own_way <- c("lm", "dreher_own_predict", "dreher_model_file", "dreher_encoded")
  if (!is.list(object) || inherits(object, own_way)) return(NULL)
  formula <- Find(
    Negate(is.null), list(object$terms, object$Terms, formula_of_call(object))
  )
  left <- if (inherits(formula, "formula")) left_side(formula)
  if (!is.null(left) && !is.name(left) && !names_a_class(left)) left
}

formula_of_call <- function(object) {
  call <- if (is.list(object)) unclass(object)[["call"]]
  found <- if (is.call(call)) {
    Filter(function(a) is.call(a) && identical(a[[1]], as.name("~")), as.list(call)[-1])
  }
  if (length(found)) stats::as.formula(found[[1]])
}
