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

# Errors are made of squares, and their errors of squares of these: larger numbers overflow.
largest_number <- 1e70

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
  say <- function(rows) call_user(model$predict, model$object, rows)
  out <- tryCatch(say(rows), error = function(e) {
    pass_interrupt(e)
    if (inherits(e, "dreher_error")) stop(e)
    stop_prediction(model, rows, say, e)
  })
  if (is.matrix(out) && !is.null(model$classes)) colnames(out) <- model$classes
  check_predictions(out, rows, st, model$name)
}

# A prediction that failed: of which model, on which row, and why.
stop_prediction <- function(model, rows, say, e) {
  row <- if (nrow(rows) <= 1e5) first_failing_row(say, rows) else NA
  stop_model(
    paste0(
      if (model$own_reader) "Model" else "`predict_with` of model", " \"", model$name,
      "\" failed on ",
      if (nrow(rows) == 1) "the row" else paste("the", nrow(rows), "rows"), "."
    ),
    if (!is.na(row) && nrow(rows) > 1) {
      paste0("The first row it fails on alone is row ", row, ".")
    },
    paste0(
      "Are the columns there in the types and levels of training, and without gaps ",
      "it does not take?"
    ),
    parent = e
  )
}

# A model that changes its input by reference would change the user's data: asked of a copy of a few
# rows, before all are. What else fails here is said when all rows are predicted.
check_leaves_rows <- function(st, model) {
  part <- few_rows(model_rows(st, model, st$data))$rows
  plain <- function(rows) lapply(rows, function(x) x[seq_along(x)])
  as_given <- plain(part)
  tryCatch(call_user(model$predict, model$object, part), error = function(e) NULL)
  if (!identical(plain(part), as_given)) {
    stop_unsteady(model, "changes the rows it is given", "Let it work on a copy.")
  }
}

few_rows <- function(rows, most = 10) {
  at <- unique(round(seq(1, nrow(rows), length.out = min(nrow(rows), most))))
  part <- rows[at, , drop = FALSE]
  attr(part, "row.names") <- .set_row_names(nrow(part))
  list(at = at, rows = part)
}

# A model is a function of one row: the same row must get the same prediction, whichever rows come
# with it, in whichever order, however often it is asked. all: what it said of all rows.
check_steady <- function(st, model, all) {
  few <- few_rows(model_rows(st, model, st$data))
  n <- length(few$at)
  differs <- function(a, b) any(abs(a - b) > 1e-5 * (1 + abs(b)))
  ask <- function(seed) {
    set.seed(seed)
    predict_aligned(st, model, few$rows)
  }
  first <- call_user(ask, 1)
  if (differs(call_user(ask, 2), first)) {
    stop_unsteady(
      model,
      "is random: the same rows get other predictions when asked again",
      "Give `predict_with` a function that sets a seed first."
    )
  }
  if (differs(predict_aligned(st, model, few$rows[n:1, , drop = FALSE]), first[n:1, ])) {
    stop_unsteady(
      model, "depends on the order of the rows", "Let it predict each row by itself."
    )
  }
  # Not every function takes a single row, and none has to.
  alone <- tryCatch(
    predict_aligned(st, model, few$rows[1, , drop = FALSE]), error = function(e) first[1, ]
  )
  if (differs(alone, first[1, ]) || differs(all[few$at, ], first)) {
    stop_unsteady(
      model,
      "predicts a row otherwise when other rows come with it",
      "Let it predict each row by itself; scale by the training rows, not by its input."
    )
  }
}

stop_unsteady <- function(model, what, todo) {
  stop_model(
    paste0(
      if (model$own_reader) "Model" else "`predict_with` of model", " \"", model$name, "\" ",
      what, "."
    ),
    "Importances of such predictions would be noise of the model's own.",
    todo
  )
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
  vast <- which(is.finite(rowSums(p)) & rowSums(abs(p) > largest_number) > 0)
  if (length(vast)) {
    stop_model(
      paste0(
        "Model \"", name, "\" predicts ", format(p[vast[1], 1], digits = 3), " for row ",
        vast[1], ": its loss is beyond what numbers hold."
      ),
      todo = "Look at the predictors of that row; an absurd value stands there."
    )
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

# n: of how many rows; from: the rows it is worked out from.
predict_constant <- function(st, n, from = NULL) {
  if (is.null(from)) from <- if (is.null(st$train)) whole_roles(st) else st$train
  value <- constant_of(st, from)
  matrix(value, n, length(value), byrow = TRUE, dimnames = list(NULL, st$classes))
}

# Target, weights and blocks of all rows.
whole_roles <- function(st) if (is.null(st$store)) st$data else st$roles
