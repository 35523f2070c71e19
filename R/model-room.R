# Models with room for copies of their predictors: what a refit with decoys starts from.

# Names that every model's formula takes.
decoy_columns <- function(predictors) paste0("decoy_", seq_along(predictors), "_")

# What a model states about its predictors, for twice as many.
make_room <- function(object, predictors) {
  if (inherits(object, "dreher_encoded")) return(double_encoder(object, predictors))
  if (inherits(object, "dreher_own_predict")) {
    object$formula <- with_copies(stats::terms(object$formula), predictors)
    return(object)
  }
  if (inherits(object, c("ranger", "randomForest")) && !is.null(object$mtry)) {
    object$mtry <- 2 * object$mtry
  }
  if (inherits(object, c("lm", "multinom"))) {
    object$terms <- stats::terms(with_copies(stats::terms(object), predictors))
  }
  object
}

# All of a formula, offsets too, and each term again with the copies.
with_copies <- function(terms, predictors) {
  formula <- stats::formula(terms)
  renamed <- stats::setNames(lapply(decoy_columns(predictors), as.name), predictors)
  for (label in attr(terms, "term.labels")) {
    formula[[3]] <- call(
      "+", formula[[3]], do.call(substitute, list(str2lang(label), renamed))
    )
  }
  formula
}
