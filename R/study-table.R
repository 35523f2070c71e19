#' Read a delimited table, and say what was read
#'
#' Finds the delimiter (comma, semicolon, tab, bar, space), the header, the decimal sign and the
#' types of the columns. Empty fields, `NA`, `N/A`, `null` and `.` are missing.
#'
#' @param file Path of a delimited text file (CSV, TSV and the like).
#' @param ... Must be empty.
#' @param quiet TRUE: do not send the message that says what was read.
#' @return A data frame; text stays text. Attribute `read` is a list with `file`, `delimiter`,
#'   `rows`, `columns`, `types` (named character) and `missing` (named integer). A message of
#'   class `dreher_message_read` says the same.
#' @section Errors: A file that does not exist, cannot be opened, is empty, or whose lines differ
#'   in their number of fields.
#' @examples
#' file <- system.file("extdata", "kiln_holdout.csv", package = "dreher")
#' kiln <- read_rows(file)
#' @export
read_rows <- function(file, ..., quiet = FALSE) {
  check_no_dots(..., .verb = "read_rows")
  check_string(file, "file")
  check_flag(quiet, "quiet")
  check_text_file(file)
  read <- function(...) {
    data.table::fread(
      file,
      na.strings = c("", "NA", "N/A", "null", "."),
      data.table = FALSE,
      check.names = FALSE,
      encoding = "UTF-8",
      showProgress = FALSE,
      ...
    )
  }
  broken <- function(e) {
    stop_input(
      paste0("The file \"", file, "\" cannot be read as a table."),
      sub("\\. .*", ".", conditionMessage(e)),
      "Check that every line has the same number of fields."
    )
  }
  out <- tryCatch(read(), error = broken, warning = broken)
  if (any(vapply(out, holds_decimal_commas, NA))) {
    out <- tryCatch(read(dec = ","), error = broken, warning = broken)
  }
  twice <- unique(names(out)[duplicated(names(out))])
  if (length(twice)) {
    stop_input(
      paste0(
        "The file \"", file, "\" has duplicated column names: ", quote_some(twice), "."
      ),
      todo = "Rename the columns so that each name stands once."
    )
  }
  if (nrow(out) == 0) {
    stop_input(paste0("The file \"", file, "\" has a header but no rows."))
  }
  whole <- vapply(out, inherits, NA, "integer64")
  out[whole] <- lapply(out[whole], as.double)
  attr(out, "read") <- list(
    file = file,
    delimiter = find_delimiter(file, ncol(out)),
    rows = nrow(out),
    columns = ncol(out),
    types = vapply(out, function(x) class(x)[1], ""),
    missing = vapply(out, function(x) sum(is.na(x)), 1L)
  )
  if (!quiet) {
    rlang::inform(describe_read(attr(out, "read")), class = "dreher_message_read")
  }
  out
}

check_text_file <- function(file) {
  if (!file.exists(file)) {
    stop_input(
      paste0("There is no file \"", file, "\"."), paste0("Looked in ", getwd(), ".")
    )
  }
  if (dir.exists(file)) stop_input(paste0("\"", file, "\" is a folder, not a file."))
  if (file.access(file, 4) != 0) {
    stop_input(
      paste0("The file \"", file, "\" may not be read."), todo = "Check its permissions."
    )
  }
  if (file.size(file) == 0) stop_input(paste0("The file \"", file, "\" is empty."))
  start <- readBin(file, "raw", 4096)
  if (any(start == as.raw(0))) {
    stop_input(
      paste0("The file \"", file, "\" is not a text file."),
      todo = "Give a delimited text file such as CSV."
    )
  }
}

holds_decimal_commas <- function(x) {
  is.character(x) && any(!is.na(x)) && all(grepl("^[+-]?[0-9]+,[0-9]+$", x[!is.na(x)]))
}

# The sign that cuts the first line into as many fields as the table has columns.
find_delimiter <- function(file, columns) {
  signs <- c(comma = ",", semicolon = ";", tab = "\t", bar = "|", space = " ")
  line <- readLines(file, 1, warn = FALSE, encoding = "UTF-8")
  fields <- vapply(
    signs,
    function(s) length(scan(text = line, what = "", sep = s, quote = "\"", quiet = TRUE)),
    1L
  )
  if (columns == 1 || !any(fields == columns)) {
    NA_character_
  } else {
    names(signs)[fields == columns][1]
  }
}

describe_read <- function(r) {
  counts <- table(ifelse(
    r$types %in% c("integer", "numeric"),
    "numeric",
    ifelse(r$types == "character", "text", r$types)
  ))
  gaps <- r$missing[r$missing > 0]
  paste0(
    basename(r$file), ": ", r$rows, " rows, ", r$columns, " columns",
    if (!is.na(r$delimiter)) paste0(" separated by a ", r$delimiter), " (",
    paste(counts, names(counts), collapse = ", "), ")",
    if (length(gaps)) {
      paste0(
        "; missing values in ", paste0(names(gaps), " (", gaps, ")", collapse = ", ")
      )
    },
    "."
  )
}
