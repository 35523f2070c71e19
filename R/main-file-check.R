# A study file checked as a whole: its text, then what it names.

#' Check a study file
#'
#' All faults of a study file at once, each with its line: fields that do not exist, values of the
#' wrong kind, files that are not there, columns the data lack, models that are not named.
#'
#' @param file Path of a study file (YAML).
#' @return A data frame of class `dreher_faults`, one row a fault, none where the file is sound:
#'   `line` (number of the line, NA where the file as a whole is meant), `field` (its path, as
#'   `reduce.folds`), `fault`, `todo`.
#' @details Data are read, models are not trained. The fields stand in a JSON Schema that editors
#'   can complete from: `system.file("study", "study.schema.json", package = "dreher")`.
#' @section Errors: `dreher_error_input`: no such file.
#' @seealso [draft_study()] writes a file, [run_study()] computes what it says.
#' @examples
#' file <- system.file("study", "kiln.yml", package = "dreher")
#' check_study_file(file)
#' @export
check_study_file <- function(file) {
  own_settings()
  check_string(file, "file")
  check_file(file)
  found <- read_study_file(file)
  faults <- found$faults
  if (is.null(faults) || !nrow(faults)) faults <- find_faults(found$spec)
  rownames(faults) <- NULL
  structure(faults, class = c("dreher_faults", "data.frame"), file = file)
}

# A sound file's spec; an error that says all faults otherwise.
sound_spec <- function(file) {
  faults <- check_study_file(file)
  if (nrow(faults)) {
    stop_input(
      paste0("The study file \"", file, "\" has ", count_of(nrow(faults), "fault"), "."),
      paste(format_faults(faults), collapse = "\n"),
      data = list(faults = faults)
    )
  }
  read_study_file(file)$spec
}

#' @export
print.dreher_faults <- function(x, ..., width = NULL) write_lines(x, format_faults(x), width)
