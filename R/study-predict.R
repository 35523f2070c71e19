# What a model of a study says of rows: rows x outputs (1 for regression, else one per class).

order_classes <- function(out, classes, st, name) {
  colnames(out) <- classes
  lacking <- setdiff(st$classes, classes)
  if (length(lacking)) {
    out <- cbind(out, matrix(0, nrow(out), length(lacking), dimnames = list(NULL, lacking)))
  }
  out[, st$classes, drop = FALSE]
}

# Predictions of one model of a study: rows x outputs (1 for regression, else one per class).
predict_model <- function(st, model, data, arg = "data") {
  predict_aligned(st, model, model_rows(st, model, data, arg))
}

# The rows as the model wants them.
model_rows <- function(st, model, data, arg = "data") {
  if (model$own_reader) return(align_rows(data, model$inputs, model$name, arg))
  check_columns(data, model$inputs$predictors, arg, "The predictor", model$name)
  data[setdiff(names(data), c(st$target, st$weights, st$blocks))]
}

predict_aligned <- function(st, model, rows) {
  if (!is.null(model$forest)) {
    out <- apply_link(
      model$forest,
      forest_predict(model$forest, encode_for_forest(model$forest, rows), st$threads)
    )
    if (st$task == "classification") {
      out <- order_classes(out, model$classes, st, model$name)
    }
    return(out)
  }
  out <- tryCatch(model$predict(model$object, rows), error = function(e) {
    if (inherits(e, "dreher_error")) stop(e)
    stop_model(
      paste0(
        if (model$own_reader) "Model" else "`predict_with` of model", " \"", model$name,
        "\" failed on the rows: ", conditionMessage(e)
      ),
      todo = paste0(
        "Are the columns there in the types and levels of training, and without gaps ",
        "it does not take?"
      )
    )
  })
  if (is.matrix(out) && !is.null(model$classes)) colnames(out) <- model$classes
  check_predictions(out, rows, st, model$name)
}

# Whatever a model or a user's function returns, as rows x outputs; or an error that says which
# model, which row.
check_predictions <- function(p, rows, st, name) {
  n <- nrow(rows)
  fault <- function(...) {
    stop_model(
      paste0("Model \"", name, "\" ", ...),
      todo = "`predict_with` must return one prediction per row of its `data`."
    )
  }
  if (is.data.frame(p)) p <- as.matrix(p)
  if (st$task == "classification" && (is.factor(p) || is.character(p))) {
    fault("returns classes, not probabilities.")
  }
  if (!is.numeric(p)) fault("returns ", describe_value(p), " instead of numbers.")
  got <- if (is.matrix(p)) nrow(p) else length(p)
  gaps <- sum(!stats::complete.cases(rows))
  if (got != n) {
    fault(
      "returns ",
      got,
      " predictions for ",
      n,
      " rows",
      if (gaps) paste0(", ", gaps, " of which have missing values"),
      "."
    )
  }
  if (st$task == "regression") {
    if (is.matrix(p) && ncol(p) != 1) {
      fault("returns ", ncol(p), " columns; a regression has one.")
    }
    p <- matrix(as.double(p), n, 1)
  } else {
    p <- class_matrix(p, st, name, fault)
  }
  gaps <- which(!is.finite(rowSums(p)))
  if (length(gaps)) {
    stop_model(
      paste0(
        "Model \"", name, "\" gives no prediction for ", length(gaps), " of ", n, " rows."
      ),
      paste0("The first is row ", gaps[1], "."),
      "Fill in or drop these rows; check for missing values the model does not take.",
      data = list(rows = gaps)
    )
  }
  p
}

class_matrix <- function(p, st, name, fault) {
  if (!is.matrix(p) || ncol(p) == 1) {
    if (length(st$classes) != 2) {
      fault(
        "returns one number per row; ",
        length(st$classes),
        " classes need one column each."
      )
    }
    p <- as.double(p)
    out <- matrix(0, length(p), 2, dimnames = list(NULL, st$classes))
    out[, st$positive] <- p
    out[, 3 - st$positive] <- 1 - p
  } else {
    if (is.null(colnames(p)) ||
        !setequal(colnames(p), intersect(colnames(p), st$classes))) {
      fault(
        "must name its columns of probabilities by the classes ",
        quote_some(st$classes),
        "."
      )
    }
    out <- order_classes(unname_rows(p), colnames(p), st, name)
  }
  bad <- which(rowSums(out < -1e-8 | out > 1 + 1e-8) > 0)
  if (length(bad)) {
    fault("returns probabilities outside 0 to 1; the first is in row ", bad[1], ".")
  }
  out
}

# The constant prediction: what one would say without any predictor.
constant_of <- function(st, data) {
  y <- data[[st$target]]
  weight <- row_info(st, data)$weight
  if (st$task == "classification") {
    return(vapply(
      st$classes, function(k) weighted_mean(y == k, weight), 0, USE.NAMES = FALSE
    ))
  }
  if (st$metric$name %in% c("mae", "median_ae")) {
    weighted_median(y, weight)
  } else {
    weighted_mean(y, weight)
  }
}

predict_constant <- function(st, data, from = if (is.null(st$train)) st$data else st$train) {
  value <- constant_of(st, from)
  matrix(value, nrow(data), length(value), byrow = TRUE, dimnames = list(NULL, st$classes))
}
