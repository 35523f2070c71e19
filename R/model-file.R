#' Read a model from a file
#'
#' Model files that any language can write: xgboost's JSON and UBJSON files and lightgbm's text
#' files. The trees are read into dreher's own structure; the library that trained the model need
#' not be there. Also `.rds` files of R models.
#'
#' @param file Path of the file. The kind is told from its content: JSON or UBJSON (xgboost), text
#'   that starts with `tree` (lightgbm), or `.rds`.
#' @param ... Must be empty.
#' @param columns Names of the model's columns in their order, for files that hold none.
#' @param rounds Number of boosting rounds to use. Default: up to the best round where the file
#'   records one, else all.
#' @param output For a model of several targets: the number of the target to read.
#' @param rows,predictions Rows (a data frame with the model's columns) and what the program that
#'   trained the model predicted for them (numbers; for several classes a matrix with one column
#'   per class): the file's trees must say the same. Without them the trees are compared with the
#'   library's own predictions where it is installed, when the study is set up, and otherwise with
#'   nothing.
#' @return A model for [study()]: for model files a list of class `dreher_model_file`, for `.rds`
#'   the R object.
#' @details Checked with files of xgboost 1.7 and 3.2 and lightgbm 4 (text format v4). Files of
#'   xgboost versions never seen are read with a warning; those of other lightgbm formats are
#'   refused. Factor columns are coded as in training: give `study(encode = )` the function that
#'   does it, or rows that are coded already.
#'
#' An `.rds` file can run code of its maker when it is read. Read only those you trust. The other
#' kinds cannot.
#' @section Errors: `dreher_error_input`: no such file, unknown kind, missing column names.
#'   `dreher_error_model`: a file that is cut
#'   short or unsound (with the byte, or the tree and the field), another version, linear trees,
#'   an unknown objective, or predictions
#'   that differ from those given (with the first such row).
#' @examples
#' file <- system.file("extdata", "kiln_boosted.ubj", package = "dreher")
#' kiln <- demo_kiln()
#' columns <- c("grog_share", "water_loss", "drying_hours", "drying_humidity", "glaze_viscosity", "peak_temp",
#'              "hold_minutes", "pyro_left", "pyro_right", "cooling_rate", "shelf_position", "room_humidity")
#' boosted <- read_model(file, columns = columns)
#' boosted
#' rank_permutation(study(boosted, kiln$holdout, "strength"))
#' @export
read_model <- function(
    file, ..., columns = NULL, rounds = NULL, output = NULL, rows = NULL,
    predictions = NULL) {
  check_no_dots(..., .verb = "read_model")
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
  } else if (length(bytes) && bytes[1] == charToRaw("{")) {
    new_xgb_file(bytes, rounds, output, columns)
  } else {
    return(read_object(file))
  }
  model$file <- file
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
        "Give an .rds file written by saveRDS(), an xgboost JSON or UBJSON file, or a ",
        "lightgbm text file."
      )
    )
  })
}

# What the program that trained the model predicted must come out of the file's trees.
check_known_predictions <- function(model, rows, predictions) {
  rows <- check_rows(rows, "rows")
  inputs <- read_inputs(model)
  own <- if (read_task(model)$task == "classification" && is.null(dim(predictions))) {
    cbind(1 - predictions, predictions)
  } else {
    as.matrix(predictions)
  }
  storage.mode(own) <- "double"
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
  apart <- which(!(rowSums(abs(own - ours)) <= 1e-5 * (1 + max(abs(own)))))
  if (length(apart)) {
    i <- apart[1]
    stop_model(
      paste0(
        "The trees of \"", model$file,
        "\" do not predict what was given in `predictions`."
      ),
      paste0(
        "First differing row: ", i, " (given ", format(own[i, ncol(own)], digits = 10),
        ", trees ", format(ours[i, ncol(ours)], digits = 10), ")."
      ),
      "Give the rows as the model takes them in, coded as in training."
    )
  }
}

# The model's predictions by its own trees or weights: rows x outputs, classes by name.
file_predictions <- function(model, data) {
  forest <- read_forest(model, read_inputs(model))
  out <- if (is.null(forest)) {
    linear <- read_coefficients(model)
    apply_link(linear, as.matrix(linear$design(data) %*% linear$beta))
  } else {
    apply_link(forest, forest_predict(forest, encode_for_forest(forest, data), 1L))
  }
  colnames(out) <- read_task(model)$classes
  out
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

file_fault <- function(...) {
  stop_model(
    paste0("The model file is not sound: ", ..., "."),
    todo = paste0(
      "Write it again with the library that trained the model; it may have been cut ",
      "short."
    )
  )
}

document_of <- function(bytes, binary) {
  parsed <- parse_document(bytes, binary)
  if (nzchar(parsed$fault)) {
    file_fault(parsed$fault, ", at byte ", format(parsed$where, scientific = FALSE))
  }
  parsed$value
}

take <- function(x, name, where) {
  out <- if (is.list(x)) x[[name, exact = TRUE]]
  if (is.null(out)) file_fault("`", name, "` is missing in ", where)
  out
}

take_table <- function(x, name, where) {
  out <- take(x, name, where)
  if (!is.list(out) || is.null(names(out))) {
    file_fault("`", name, "` of ", where, " is not a table")
  }
  out
}

take_list <- function(x, name, where) {
  out <- take(x, name, where)
  if (is.numeric(out) && !length(out)) out <- list()
  if (!is.list(out) || !is.null(names(out))) {
    file_fault("`", name, "` of ", where, " is not a list")
  }
  out
}

take_text <- function(x, name, where) {
  out <- take(x, name, where)
  if (!is.character(out) || length(out) != 1 || !validUTF8(out)) {
    file_fault("`", name, "` of ", where, " is not a text")
  }
  out
}

take_texts <- function(x, name, where) {
  out <- take_list(x, name, where)
  fits <- vapply(out, function(t) is.character(t) && length(t) == 1 && validUTF8(t), NA)
  if (!all(fits)) file_fault("`", name, "` of ", where, " holds something else than texts")
  as.character(unlist(out))
}

# Numbers of a given count, whole where they number something.
take_numbers <- function(x, name, where, size = NULL, whole = FALSE) {
  out <- take(x, name, where)
  if (is.list(out)) out <- as_truths(out)
  if (!is.numeric(out)) file_fault("`", name, "` of ", where, " does not hold numbers")
  if (!is.null(size) && length(out) != size) {
    file_fault(
      "`", name, "` of ", where, " has ", length(out), " entries instead of ", size
    )
  }
  if (!whole) return(out)
  if (anyNA(out) || any(abs(out) > 2147483647) || any(out != round(out))) {
    file_fault("`", name, "` of ", where, " holds something else than whole numbers")
  }
  as.integer(out)
}

as_truths <- function(x) {
  if (length(x) && all(vapply(x, is.logical, NA))) as.double(unlist(x)) else x
}

# A number that libraries write as text or as a number.
take_number <- function(x, name, where) {
  out <- suppressWarnings(as.double(unlist(take(x, name, where))))
  if (length(out) != 1 || !is.finite(out)) {
    file_fault("`", name, "` of ", where, " is not a number")
  }
  out
}

take_count <- function(x, name, where) {
  out <- take_number(x, name, where)
  if (out < 0 || out > 1e8 || out != round(out)) {
    file_fault("`", name, "` of ", where, " is not a count")
  }
  as.integer(out)
}

# The names of a file's columns: its own, or those the user gave.
file_columns <- function(own, given, count) {
  columns <- if (is.null(given)) own else given
  if (!length(columns)) {
    stop_input(
      "The model file does not name its columns.",
      todo = "Give `read_model(columns = )` their names in the order of training."
    )
  }
  if (!is.character(columns) || length(columns) != count || anyNA(columns) ||
      anyDuplicated(columns)) {
    if (is.null(given)) {
      file_fault("the names of its columns do not fit their number, ", count)
    }
    stop_input(
      paste0("`columns` must be ", count, " distinct names."),
      paste0("Given: ", describe_value(columns), ".")
    )
  }
  columns
}

pick_output <- function(output, targets) {
  if (targets > 1 && is.null(output)) {
    stop_input(
      paste0("The model has ", targets, " targets."),
      todo = "Say which to read: read_model(output = 1), for example."
    )
  }
  if (!is.null(output)) check_count(output, "output", most = targets) else 1L
}
