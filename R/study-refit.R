# Training a study's models again: on other rows, on fewer predictors.

# The training rows with factors on fixed levels, so that parts of them keep all levels.
training_frame <- function(st, model) {
  rows <- model_rows(st, model, st$train, "train")
  rows <- rows[model$inputs$predictors]
  also <- intersect(c(st$target, st$weights, st$blocks), names(st$train))
  rows[also] <- st$train[also]
  rows
}

fit_on <- function(st, model, train, predictors, seed, key) {
  data <- train[c(st$target, predictors)]
  own <- st$refit_with[[model$name]]
  tryCatch(
    if (is.null(own)) {
      refit_model(model$object, data, st$target, predictors, seed = piece_seed(seed, key), threads = st$threads)
    } else {
      with_stream(seed, c("fit", key), own(model$object, data, predictors))
    },
    error = function(e) {
      if (inherits(e, "dreher_error")) stop(e)
      stop_model(paste0("Model \"", model$name, "\" could not be trained again on ", length(predictors), " predictors (",
                        paste(key, collapse = ", "), ")."), conditionMessage(e),
                 "Give `study(refit_with = )` a function that fits the model.")
    })
}

# A whole number for libraries that take a seed of their own.
piece_seed <- function(seed, key) with_stream(seed, c("fit", key), sample.int(.Machine$integer.max - 1L, 1))
