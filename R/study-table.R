#' Read a delimited table, and say what was read
#'
#' Finds the delimiter (comma, semicolon, tab, bar, space), the header, the decimal sign and the
#' types of the columns. Empty fields, `NA`, `N/A`, `n/a`, `#N/A`, `null`, `NULL`, `NaN`, `nan`,
#' `.` and `-` are missing. Numbers with leading zeros and whole numbers of more than 15 digits
#' stay text, as codes. Files that are not UTF-8 are read as Latin-1, with a warning.
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
  out <- read_delimited(file)
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
  out <- settle_columns(out, file, find_delimiter(file, ncol(out)))
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

missing_words <- c(
  "", "NA", "N/A", "n/a", "#N/A", "null", "NULL", "NaN", "nan", ".", "-"
)

# The table as text and numbers. A warning of the reader's is an error: what it had to guess could
# be wrong. It is waited for, not jumped out of, so that the next file finds the reader clean.
read_delimited <- function(file) {
  said <- character()
  broken <- function(words) {
    stop_input(
      paste0("The file \"", file, "\" cannot be read as a table."),
      sub("\\. .*", ".", words[1]),
      "Check that every line has the same number of fields."
    )
  }
  read <- function(...) {
    withCallingHandlers(
      data.table::fread(
        file, data.table = FALSE, check.names = FALSE, encoding = "UTF-8",
        showProgress = FALSE, integer64 = "character", keepLeadingZeros = TRUE, ...
      ),
      warning = function(w) {
        said <<- c(said, conditionMessage(w))
        invokeRestart("muffleWarning")
      }
    )
  }
  out <- tryCatch(
    {
      found <- read(na.strings = missing_words)
      # A missing value as a name is a name.
      if (any(grepl("^V[0-9]+$", names(found)))) {
        kept <- said
        first <- tryCatch(read(nrows = 1, na.strings = NULL), error = function(e) found)
        said <- kept
        named <- names(first) %in% missing_words
        if (ncol(first) == ncol(found) && any(named)) names(found) <- names(first)
      }
      found
    },
    error = function(e) broken(conditionMessage(e))
  )
  said <- said[!grepl("was not cleaned up", said, fixed = TRUE)]
  if (length(said)) broken(said)
  out
}

# Text that is not UTF-8, quotes that were doubled, numbers with a decimal comma and long whole
# numbers: each brought to what it says, or left as text with a warning.
settle_columns <- function(table, file, delimiter) {
  text <- names(table)[vapply(table, is.character, NA)]
  plain <- function(x) gsub("\"\"", "\"", x, fixed = TRUE)
  odd <- !all(validUTF8(names(table))) || !all(vapply(table[text], function(x) {
    all(is.na(x) | validUTF8(x))
  }, NA))
  if (odd) {
    warn_dreher(
      "rows",
      paste0("The file \"", file, "\" is not UTF-8; it was read as Latin-1."),
      "Check letters with accents, or write the file as UTF-8."
    )
  }
  names(table) <- plain(as_utf8(names(table)))
  text <- names(table)[vapply(table, is.character, NA)]
  table[text] <- lapply(table[text], function(x) {
    plain_number(plain(as_utf8(x)), comma = !identical(delimiter, "comma"))
  })
  warn_columns(table, file)
  table
}

as_utf8 <- function(x) {
  odd <- !is.na(x) & !validUTF8(x)
  x[odd] <- iconv(x[odd], "latin1", "UTF-8")
  x
}

# Numbers that came as text: with a decimal comma, or whole ones of up to 15 digits. Leading zeros
# and longer ones are codes, and stay text.
plain_number <- function(x, comma) {
  seen <- x[!is.na(x)]
  if (!length(seen)) return(x)
  if (all(grepl("^[+-]?[1-9][0-9]{0,14}$|^0$", seen))) return(as.double(x))
  decimal <- comma && any(grepl(",", seen, fixed = TRUE)) &&
    all(grepl("^[+-]?[0-9]+(,[0-9]+)?([eE][+-]?[0-9]+)?$", seen))
  if (decimal) as.double(chartr(",", ".", x)) else x
}

warn_columns <- function(table, file) {
  among <- function(holds) {
    names(table)[vapply(table, function(x) holds(x, x[!is.na(x)]), NA)]
  }
  commas <- among(function(x, seen) {
    is.character(x) && any(grepl(",", seen, fixed = TRUE)) &&
      all(grepl("^[+-]?[0-9]+([.,][0-9]+)*$", seen))
  })
  if (length(commas)) {
    warn_dreher(
      "rows",
      paste0(
        "Numbers with commas in ", quote_some(commas), " of \"", file,
        "\" were left as text: the comma could part decimals or thousands."
      ),
      "Write the numbers with a decimal point and no other sign."
    )
  }
  long <- among(function(x, seen) {
    is.double(x) && any(abs(seen) > 2^53) && all(seen == round(seen))
  })
  if (length(long)) {
    warn_dreher(
      "rows",
      paste0(
        "Column ", quote_some(long), " of \"", file,
        "\" has more digits than numbers keep."
      ),
      "If it is an identifier, write it in quotes with a letter before it."
    )
  }
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
