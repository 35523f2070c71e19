# Models with room for further predictors: new ones, or copies of those they have.

# Names that every model's formula takes.
decoy_columns <- function(predictors) paste0("decoy_", seq_along(predictors), "_")

# All of a formula, offsets too, and each term again with the copies.
with_copies <- function(terms, columns, copy_of) {
  formula <- stats::formula(terms)
  renamed <- stats::setNames(lapply(columns, as.name), copy_of)
  for (label in attr(terms, "term.labels")) {
    formula[[3]] <- call(
      "+", formula[[3]], do.call(substitute, list(str2lang(label), renamed))
    )
  }
  formula
}

# A formula with new columns as they are, or with copies of those it has.
widen_formula <- function(terms, columns, copy_of) {
  if (!is.null(copy_of)) return(with_copies(terms, columns, copy_of))
  formula <- stats::formula(terms)
  for (p in columns) formula[[3]] <- call("+", formula[[3]], as.name(p))
  formula
}

widen_terms <- function(model, columns, copy_of = NULL, scale = TRUE, ...) {
  model$terms <- stats::terms(widen_formula(stats::terms(model), columns, copy_of))
  model
}

#' @export
widen_model.lm <- widen_terms

#' @export
widen_model.multinom <- widen_terms

# As many predictors tried at a split for each real one as before.
widen_tries <- function(model, columns, copy_of = NULL, scale = TRUE, ...) {
  if (scale && !is.null(copy_of) && !is.null(model$mtry)) model$mtry <- 2 * model$mtry
  model
}

#' @export
widen_model.ranger <- widen_tries

#' @export
widen_model.randomForest <- widen_tries

# Without those that stand in an offset only: nothing about them is estimated, so that chance
# scores nothing.
in_terms <- function(terms, predictors) {
  labels <- attr(terms, "term.labels")
  intersect(predictors, unlist(lapply(labels, function(label) all.vars(str2lang(label)))))
}

#' @export
estimated_predictors.lm <- function(model, predictors, ...) {
  in_terms(stats::terms(model), predictors)
}

#' @export
estimated_predictors.multinom <- estimated_predictors.lm

#' @export
likelihood_of.lm <- function(model) stats::logLik(model)

#' @export
likelihood_of.multinom <- likelihood_of.lm
