#' Read rows from a file or a database, and say what was read
#'
#' Delimited text of any common kind, packed by gzip, bzip2 or xz or not, Parquet, a query on a
#' database, or a data frame. What had to be guessed is said.
#'
#' @param source Path of a file (delimited text such as CSV and TSV, or Parquet), a connection of
#'   package DBI, or a data frame.
#' @param ... Must be empty.
#' @param query For a connection: a query (one `SELECT` or `WITH` statement), or the name of a
#'   table. Queries only read: others are refused, and SQLite and PostgreSQL are asked to change
#'   nothing meanwhile.
#' @param delimiter Sign between fields: `","`, `";"`, a tab, `"|"` or `" "`. Default: found.
#' @param decimal Decimal mark, `"."` or `","`. Default: found.
#' @param thousands Thousands mark: `","`, `"."`, `" "`, `"'"`. Default: found where numbers leave
#'   no doubt, else none.
#' @param header TRUE or FALSE: are the first fields the names? Default: found.
#' @param encoding `"UTF-8"`, `"latin1"` or `"UTF-16"`. Default: found.
#' @param missing Marks that stand for a gap beside those known (see Details): a vector for all
#'   columns (`c("?", "-99")`), or a list by column (`list(temp = "-99")`).
#' @param types Types of columns, as text named by columns: `"number"`, `"whole number"`,
#'   `"classes"`, `"text"`, `"yes/no"`, `"date"`, `"time"`. Default: found. A column that does not
#'   fit its stated type is refused, with the rows.
#' @param quiet TRUE: do not send the message that says what was read.
#' @return A data frame; text stays text. Attribute `read` is a list with `source`, `format`,
#'   `delimiter`, `decimal`, `header`, `encoding`, `rows`, `columns`, `types` (named character),
#'   `missing` (named integer) and `guesses` (sentences). A message of class `dreher_message_read`
#'   says the same.
#' @details \describe{
#'   \item{delimiter}{the sign that cuts the first 200 lines into equally many fields; quoted
#'   delimiters and line breaks count for nothing}
#'   \item{header}{the first fields are names unless one of them is a number above numbers}
#'   \item{encoding}{a byte-order mark; UTF-16 without one by its zero bytes; what is not UTF-8 is
#'   read as Windows-1252, which holds Latin-1, with a warning}
#'   \item{missing values}{empty fields, `NA`, `N/A`, `n/a`, `#N/A`, `null`, `NULL`, `NaN`, `nan`,
#'   `.` and `-`, and what `missing` names. Among numbers also words that can only stand for a gap
#'   (`?`, `k.A.`, `unknown`, `not measured` and the like), with a warning that names them; a column
#'   of numbers with other words stays text, with a warning}
#'   \item{row names}{a first column without a name, as row names leave, is called `row_names`;
#'   drafts of study files leave it out}
#'   \item{numbers}{with a decimal comma where commas do not part fields; with thousands marks where
#'   a number holds two, or one and a decimal mark. Leading zeros and whole numbers of more than 15
#'   digits stay text, as codes; 64-bit integers become numbers where these hold them}
#'   \item{dates and times}{`2026-11-27`, `27.11.2026`, and `27/11/2026` where some day is above 12,
#'   become dates; `2026-11-27 08:15:00` a time (UTC); `08:15` hours since midnight. Slashes that
#'   could be either way round stay text, with a warning} }
#' @section Errors: `dreher_error_input`: a file that does not exist, cannot be opened, is empty,
#'   has names but no rows, holds zero bytes, or whose lines differ in their number of fields; a
#'   connection that is closed or cannot be reached, a query that fails or has no rows; names that
#'   stand twice.
#' @examples
#' file <- system.file("extdata", "kiln_holdout.csv.gz", package = "dreher")
#' kiln <- read_rows(file)
#' db <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
#' DBI::dbWriteTable(db, "tiles", kiln)
#' warm <- read_rows(db, query = "SELECT * FROM tiles WHERE peak_temp > 1180")
#' DBI::dbDisconnect(db)
#' @export
read_rows <- function(
    source, ..., query = NULL, delimiter = NULL, decimal = NULL, thousands = NULL,
    header = NULL, encoding = NULL, missing = NULL, types = NULL, quiet = FALSE) {
  check_no_dots(..., .verb = "read_rows")
  check_flag(quiet, "quiet")
  marks <- read_marks(missing)
  types <- read_types(types)
  asked <- list(
    delimiter = choice_or_null(delimiter, c(",", ";", "\t", "|", " "), "delimiter"),
    decimal = choice_or_null(decimal, c(".", ","), "decimal"),
    thousands = choice_or_null(thousands, c(",", ".", " ", "'"), "thousands"),
    header = if (!is.null(header)) check_flag(header, "header"),
    encoding = choice_or_null(encoding, c("UTF-8", "latin1", "UTF-16"), "encoding")
  )
  if (!is.null(query) && !inherits(source, "DBIConnection")) {
    stop_input("`query` is for a connection to a database.", todo = "Leave it out.")
  }
  out <- if (inherits(source, "DBIConnection")) {
    read_database(source, query)
  } else if (is.data.frame(source)) {
    list(table = as.data.frame(source), name = "the data frame", format = "data frame")
  } else {
    check_string(source, "source")
    check_file(source)
    if (is_parquet(source)) {
      read_parquet_file(source)
    } else {
      read_text(source, asked, marks, types)
    }
  }
  table <- check_table_names(out$table, out$name)
  if (!identical(out$format, "text")) table <- apply_marks(table, marks, out$name)
  if (inherits(source, "DBIConnection")) {
    table <- settle_words(table, out$name, typed = words_of_types(types))
  }
  table <- apply_types(table, types, out$name)
  attr(table, "read") <- list(
    source = out$name,
    format = out$format,
    delimiter = name_of_delimiter(out$delimiter),
    decimal = out$decimal,
    header = out$header,
    encoding = out$encoding,
    rows = nrow(table),
    columns = ncol(table),
    types = vapply(table, function(x) class(x)[1], ""),
    missing = vapply(table, function(x) sum(is.na(x)), 1L),
    guesses = as.character(out$guesses)
  )
  if (!quiet) {
    rlang::inform(describe_read(attr(table, "read")), class = "dreher_message_read")
  }
  table
}

choice_or_null <- function(x, choices, arg) {
  if (is.null(x)) NULL else check_choice(x, choices, arg)
}

check_file <- function(file) {
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
}

check_table_names <- function(table, name) {
  check_distinct_names(table, name)
  if (nrow(table) == 0) {
    stop_input(
      paste0("The ", what_of(name), " has a header but no rows."),
      todo = "Give rows to compute on."
    )
  }
  table
}

check_distinct_names <- function(table, name) {
  twice <- unique(names(table)[duplicated(names(table))])
  if (length(twice)) {
    stop_input(
      paste0(
        "The ", what_of(name), " has duplicated column names: ", quote_some(twice), "."
      ),
      todo = "Rename the columns so that each name stands once."
    )
  }
}

is_parquet <- function(file) identical(readBin(file, "raw", 4), charToRaw("PAR1"))

read_parquet_file <- function(file) {
  rlang::check_installed("nanoparquet", "to read Parquet files")
  settled <- settle_integers(as.data.frame(parquet_call(file, nanoparquet::read_parquet)))
  list(table = settled$table, name = file, format = "Parquet", guesses = settled$guesses)
}

# fun: a reader of package nanoparquet.
parquet_call <- function(file, fun, ...) {
  tryCatch(fun(file, ...), error = function(e) {
    pass_interrupt(e)
    stop_input(
      paste0("The file \"", file, "\" cannot be read as Parquet."),
      paste0(
        "It is damaged or cut short, or of a kind that package nanoparquet does not read: ",
        first_words(conditionMessage(e))
      ),
      "Copy it anew, or write the rows as CSV."
    )
  })
}

# What a library says, without the places in its code.
first_words <- function(said) {
  said <- gsub("\\s+", " ", sub("@.*$", "", said))
  printable(strtrim(sub("^Error[^:]*: *", "", said), 160))
}

# --- databases ---------------------------------------------------------------------------------

read_database <- function(connection, query) {
  if (is.null(query)) {
    stop_input(
      "`query` is missing: what to read from the database.",
      todo = "Give a query (SELECT ...) or the name of a table."
    )
  }
  check_string(query, "query")
  fault <- function(what, e) {
    pass_interrupt(e)
    stop_input(
      paste0(what, ": ", sub("\\s+$", "", conditionMessage(e))),
      todo = "Is the server there, the connection open, and the query right?"
    )
  }
  # not every driver can tell
  open <- tryCatch(DBI::dbIsValid(connection), error = function(e) NA)
  if (isFALSE(open)) {
    stop_input("The connection to the database is closed.", todo = "Open it anew.")
  }
  known <- tryCatch(DBI::dbExistsTable(connection, query), error = function(e) {
    if (grepl("\\s", query)) FALSE else fault("The database failed", e)
  })
  if (!known) check_query(query)
  # some drivers warn where others fail, and return nothing
  said <- character()
  table <- tryCatch(
    withCallingHandlers(
      if (known) {
        DBI::dbReadTable(connection, query, check.names = FALSE)
      } else {
        read_only(connection, DBI::dbGetQuery(connection, query))
      },
      warning = function(w) said <<- c(said, conditionMessage(w))
    ),
    error = function(e) fault("The query failed", e)
  )
  if (!is.data.frame(table)) {
    fault(
      "The query failed",
      simpleError(paste(c(said, "it returned no table"), collapse = "; "))
    )
  }
  if (!nrow(table)) {
    stop_input("The query has no rows.", todo = "Check its conditions.")
  }
  names(table) <- enc2utf8(names(table))
  whole <- settle_integers(as.data.frame(table, stringsAsFactors = FALSE))
  text <- names(whole$table)[vapply(whole$table, is.character, NA)]
  times <- settle_times(whole$table, text)
  list(
    table = times$table,
    name = "the query",
    format = class(connection)[1],
    guesses = c(whole$guesses, times$guesses)
  )
}

# 64-bit integers to numbers where these hold them, else to text.
settle_integers <- function(table) {
  long <- names(table)[vapply(table, inherits, NA, "integer64")]
  guesses <- character()
  for (p in long) {
    text <- integer64_text(table[[p]])
    known <- text[!is.na(text)]
    fits <- all(nchar(sub("^-", "", known)) <= 15)
    table[[p]] <- if (fits) as.double(text) else text
    if (!fits) {
      guesses <- c(
        guesses, paste0("\"", p, "\" has more digits than numbers keep: left as text")
      )
    }
  }
  list(table = table, guesses = guesses)
}

integer64_text <- function(x) {
  rlang::check_installed("bit64", "to read 64-bit integers")
  requireNamespace("bit64", quietly = TRUE)
  as.character(x)
}

# --- what is said ------------------------------------------------------------------------------

name_of_delimiter <- function(sign) {
  if (is.null(sign)) return(NA_character_)
  known <- c("," = "comma", ";" = "semicolon", "\t" = "tab", "|" = "bar", " " = "space")
  unname(known[sign])
}

describe_read <- function(r) {
  kind <- ifelse(
    r$types %in% c("integer", "numeric"), "numeric",
    ifelse(r$types == "character", "text", ifelse(r$types == "POSIXct", "time", r$types))
  )
  counts <- table(kind)
  gaps <- r$missing[r$missing > 0]
  paste0(
    basename(r$source), ": ", r$rows, if (r$rows == 1) " row, " else " rows, ", r$columns,
    if (r$columns == 1) " column" else " columns",
    if (!is.na(r$delimiter)) paste0(" separated by a ", r$delimiter), " (",
    paste(counts, names(counts), collapse = ", "), ")",
    if (length(gaps)) {
      shown <- utils::head(gaps, 8)
      paste0(
        "; missing values in ", paste0(names(shown), " (", shown, ")", collapse = ", "),
        if (length(gaps) > 8) paste(" and", length(gaps) - 8, "more")
      )
    },
    ".",
    if (length(r$guesses)) paste0(" Guessed: ", paste(r$guesses, collapse = "; "), ".")
  )
}
