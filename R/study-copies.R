# Models trained again beside permuted copies of their predictors (decoys).

# Per predictor the rows whose values its permuted copy takes; within strata (per predictor a
# number per row) where there are any.
draw_copies <- function(predictors, n, strata = NULL) {
  lapply(predictors, function(p) {
    if (is.null(strata)) return(sample.int(n))
    donor <- integer(n)
    for (rows in split(seq_len(n), strata[[p]])) donor[rows] <- rows[sample.int(length(rows))]
    donor
  })
}

# The rows with permuted copies of these columns.
beside_copies <- function(rows, predictors, donors) {
  rows[decoy_columns(predictors)] <- Map(
    function(p, donor) rows[[p]][donor], predictors, donors
  )
  rows
}

# drawn: list(copies: see draw_copies(), held_out: the same for `data`, order: all names in the
# order in which the model is given them, or a function that puts them in order; nothing but the
# values must tell a predictor from its copy). data: rows to question the refit on; NULL: none but
# its training rows. scale: does the number of predictors tried at a split grow? -> study
refit_beside_copies <- function(st, model, copied, drawn, data, seed, key, scale = TRUE) {
  train <- beside_copies(training_frame(st, model), copied, drawn$copies)
  data <- if (is.null(data)) {
    train
  } else {
    beside_copies(frame_of(st, model, data, "data"), copied, drawn$held_out)
  }
  decoys <- decoy_columns(copied)
  names <- drawn$order
  if (is.function(names)) names <- names(c(model$inputs$predictors, decoys))
  # A function of the user's takes the copies as it takes any predictors.
  if (is.null(st$refit_with[[model$name]])) {
    model$object <- widen_model(model$object, decoys, copied, scale)
  }
  fit <- fit_on(st, model, train, names, seed, key)
  inside <- inside_study(
    derive_study(st, predictors = names), model, fit, train, data, names
  )
  lacking <- setdiff(names, inside$models[[1]]$inputs$predictors)
  if (length(lacking)) {
    stop_model(paste0(
      "Model \"", model$name, "\", trained again, does not take the copies in: ",
      quote_some(lacking), "."
    ))
  }
  inside
}
