#' Read a model from a file
#'
#' Model files that other programs write: xgboost's JSON and UBJSON files, lightgbm's text files,
#' PMML, ONNX, and dreher's own JSON of trees and linear models (see [write_forest()]), which a
#' script in the package writes for scikit-learn. The model is read into dreher's own structure; the
#' program that trained it need not be there. Also `.rds` files of R models.
#'
#' @param file Path of the file. The kind is told from its content: JSON or UBJSON (xgboost), JSON
#'   that says `"format": "dreher model"`, text that starts with `tree` (lightgbm), XML (PMML), the
#'   wire format of ONNX, or `.rds`.
#' @param ... Must be empty.
#' @param columns Names of the model's columns in their order, for files that hold none. An ONNX
#'   file whose inputs are one column each names them; one that takes a matrix does not.
#' @param rounds Number of boosting rounds to use. Default: up to the best round where the file
#'   records one, else all.
#' @param output For a model of several targets: the number of the target to read. For a PMML file
#'   that works out more from the model's prediction: the number of the output; 1 is the prediction
#'   itself. Default: the last output.
#' @param rows,predictions Rows (a data frame with the model's columns) and what the program that
#'   trained the model predicted for them (numbers; for several classes a matrix with one column
#'   per class): the file's trees must say the same. Without them nothing but the file itself says
#'   what the model predicts.
#' @param compare TRUE: compare the trees with the predictions of the library that trained the
#'   model, when the study is set up, if it is installed. The library then reads the file with its
#'   own parser, which damaged or prepared files can bring down: only for files you trust.
#' @return A model for [study()]: for model files a list of class `dreher_model_file`, for `.rds`
#'   the R object.
#' @details Checked with files of xgboost 1.7 and 3.2 and lightgbm 4 (text format v4). Files of
#'   xgboost versions never seen are read with a warning; those of other lightgbm formats are
#'   refused. Factor columns are coded as in training: give `study(encode = )` the function that
#'   does it, or rows that are coded already.
#'
#' For scikit-learn, `system.file("python", "write_dreher_model.py", package = "dreher")` is a
#' script that needs nothing but the library: decision trees, extra trees, random forests, gradient
#' boosting, histogram gradient boosting, linear and logistic regressions, alone or at the end of a
#' pipeline of imputers, scalers, one-hot and ordinal encoders, whose predictors are then those that
#' went into the pipeline. The file holds what the model predicts for some rows; reading it
#' compares. Checked with scikit-learn 1.2 and 1.4.
#'
#' PMML 4.0 to 4.4 (needs package xml2): tree models; mining models that add up, average, weigh or
#' let vote, and chains that end in a regression; regression and general regression models, with
#' identity, log, logit and softmax links. Predicates of every kind but the order of categories;
#' missing values by surrogates, default children, last predictions or none: a strategy that trees
#' here cannot follow makes a model that refuses missing values. Derived fields (constants, norms,
#' discretised, mapped, arithmetic and logic) are worked out as the file says, and predictors are
#' the fields they are made of. Checked with files of the R package pmml 2.6, and with random trees
#' against a slow reading of the standard.
#'
#' ONNX: one tree ensemble or linear model (`ai.onnx.ml` 1 to 3), in single or double precision,
#' behind scalers, imputers, one-hot, label and category encoders, joins and arithmetic with
#' constants, which are seen through; sums, averages, softmax, and the logistic of two classes. A
#' sum of trees does not say whether they were boosted: it has permutation and Shapley importance,
#' and no impurity importance. Checked with files that the package onnx 1.12 writes of scikit-learn
#' models.
#'
#' An `.rds` file can run code of its maker when it is read. Read only those you trust. The other
#' kinds cannot.
#' @section Errors: `dreher_error_input`: no such file, unknown kind, missing column names.
#'   `dreher_error_model`: a file that is cut
#'   short or unsound (with the byte, or the tree and the field), another version, what is not read
#'   (by its name in the file), an unknown objective, or predictions that differ from those given
#'   (with the first such row).
#' @examples
#' file <- system.file("extdata", "kiln_boosted.ubj", package = "dreher")
#' kiln <- demo_kiln()
#' columns <- c(
#'   "grog_share", "water_loss", "drying_hours", "drying_humidity", "glaze_viscosity",
#'   "peak_temp", "hold_minutes", "pyro_left", "pyro_right", "cooling_rate", "shelf_position",
#'   "room_humidity"
#' )
#' boosted <- read_model(file, columns = columns)
#' boosted
#' rank_permutation(study(boosted, kiln$holdout, "strength"))
#' @export
read_model <- function(
    file, ..., columns = NULL, rounds = NULL, output = NULL, rows = NULL,
    predictions = NULL, compare = FALSE) {
  check_no_dots(..., .verb = "read_model")
  check_flag(compare, "compare")
  file <- check_string(file, "file")
  if (!file.exists(file) || dir.exists(file)) {
    stop_input(
      paste0("There is no file \"", file, "\"."), todo = "Check the path of `file`."
    )
  }
  if (!is.null(rounds)) rounds <- check_count(rounds, "rounds")
  if (!is.null(output)) output <- check_count(output, "output")
  if (is.null(rows) != is.null(predictions)) {
    stop_input("`rows` and `predictions` belong together.", todo = "Give both or none.")
  }
  bytes <- readBin(file, "raw", file.size(file))
  model <- if (identical(bytes[seq_len(min(4, length(bytes)))], charToRaw("tree"))) {
    new_lgb_file(bytes, rounds, output, columns)
  } else if (is_plain_document(bytes)) {
    new_plain_model(bytes, rounds, output, columns)
  } else if (is_onnx(bytes)) {
    new_onnx_model(bytes, rounds, output, columns)
  } else if (is_pmml(bytes)) {
    new_pmml_model(bytes, rounds, output, columns)
  } else if (length(bytes) && bytes[1] == charToRaw("{")) {
    new_xgb_file(bytes, rounds, output, columns)
  } else {
    return(read_object(file))
  }
  model$file <- file
  model$compare <- compare
  if (!is.null(rows)) check_known_predictions(model, rows, predictions)
  model
}

read_object <- function(file) {
  tryCatch(suppressWarnings(readRDS(file)), error = function(e) {
    stop_input(
      paste0(
        "The file \"", file, "\" is not an R object, nor a model file that dreher knows."
      ),
      todo = paste0(
        "Give an .rds file written by saveRDS(), a JSON or UBJSON file of xgboost, a text ",
        "file of lightgbm, PMML, ONNX, or the JSON that write_forest() writes."
      )
    )
  })
}

# What the program that trained the model predicted must come out of the file's trees.
check_known_predictions <- function(model, rows, predictions) {
  rows <- check_rows(rows, "rows")
  inputs <- model_inputs(model)
  own <- if (model_task(model)$task == "classification" && is.null(dim(predictions))) {
    cbind(1 - predictions, predictions)
  } else {
    as.matrix(predictions)
  }
  storage.mode(own) <- "double"
  if (!is.null(model$encode)) rows <- model$encode(rows)
  ours <- file_predictions(model, align_rows(rows, inputs, "file"))
  if (!identical(dim(own), dim(ours))) {
    stop_input(
      "`predictions` does not fit the model or the rows.",
      paste0(
        "Given: ", nrow(own), " x ", ncol(own), "; needed: ", nrow(ours), " x ",
        ncol(ours), "."
      )
    )
  }
  refuse_other_predictions(
    own,
    ours,
    1e-5,
    paste0(
      "The trees or weights of \"", model$file,
      "\" do not predict what was given in `predictions`."
    ),
    "Give the rows as the model takes them in, coded as in training."
  )
}

#' @export
refit_model.dreher_model_file <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  stop_model(
    paste0(
      "A model read from a file cannot be trained again: the file does not say how it ",
      "was trained."
    ),
    todo = paste0(
      "Give `study(refit_with = )` a function that fits the model, or the R object ",
      "that the library returned."
    )
  )
}

# ---- fields of a document, none of which can be taken for granted ----
