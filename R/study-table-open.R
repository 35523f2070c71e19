#' Open rows that are too many for memory
#'
#' Copies rows, a part at a time, into a folder of one file a column. A [study()] of such rows
#' scores its models and ranks by permutation on all of them, in the memory of a few columns; what
#' needs single rows in memory takes some that are drawn.
#'
#' @param source Where the rows come from: path of a Parquet file, or of a folder of Parquet files
#'   of the same columns (in the order of their names); a connection of package DBI, with `query`; a
#'   function without arguments that opens such a connection, with `query`: a connection that is
#'   lost on the way is then opened again; a function without arguments that returns the next rows
#'   as a data frame with each call, and `NULL` when there are no more; a data frame; or a folder
#'   that `open_rows()` made before, which is opened as it is.
#' @param ... Must be empty.
#' @param query For a database: a query (one `SELECT` or `WITH` statement), or the name of a table.
#'   Queries only read, as in [read_rows()].
#' @param columns Names of the columns to keep. Default: all. Text of more than 100,000 different
#'   values is left out, with a message: what names a row is no predictor.
#' @param folder A folder for the copy, which must not exist or be empty; it stays there for
#'   `open_rows(folder)`. Default: one that goes with the session. The copy takes 8 bytes a number
#'   and 4 a whole number, level or text.
#' @param in_memory How many rows a study draws into memory, for what needs them there.
#' @param seed Seed of this draw.
#' @param at_once Rows that are read from a database, and worked on, at a time.
#' @param quiet TRUE: do not send the message that says what was read.
#' @return A list of class `dreher_store`: `folder`, `rows` (their number), `columns` (a list by
#'   name of what each is kept as), `print` (a hash of all values). `dim()` works, and
#'   `as.data.frame()` brings all rows into memory.
#' @details Types are those of [read_rows()], but text that looks like dates stays text, since no
#'   part of the rows speaks for all. Levels are gathered as they are met.
#'
#' *A database.* Rows of PostgreSQL come through a cursor, others as their driver sends them. With
#'   `source` a function, a failure on the way is tried three times more, after 2, 8 and 30 seconds:
#'   the query is sent again, and rows that are there already are compared with what comes and not
#'   written twice. The query then needs an `ORDER BY`, so that rows come in one order; rows that
#'   come in another one are refused.
#' @section Errors: `dreher_error_input`: a source that does not exist or is none of these; files
#'   without the same columns; a query that fails or has no rows; a column that changes its kind; a
#'   folder that is in use; a full disk.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' tiles <- open_rows(kiln$holdout, in_memory = 400)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate, kiln$train)
#' st <- study(fit, tiles, "strength", train = kiln$train)
#' rank_permutation(st)
#' @export
open_rows <- function(
    source, ..., query = NULL, columns = NULL, folder = NULL, in_memory = 1e5, seed = 1,
    at_once = 1e5, quiet = FALSE) {
  check_no_dots(..., .verb = "open_rows")
  if (!is.null(columns)) check_names(columns, "columns")
  in_memory <- check_count(in_memory, "in_memory", least = 100, most = .Machine$integer.max)
  seed <- check_seed(seed)
  at_once <- check_count(at_once, "at_once", least = 100, most = 1e7)
  check_flag(quiet, "quiet")
  before <- is.character(source) && length(source) == 1 &&
    file.exists(file.path(source, "store.json"))
  if (before) {
    if (!is.null(folder) || !is.null(query) || !is.null(columns)) {
      stop_input(
        "These rows were opened before: `folder`, `query` and `columns` are settled.",
        todo = "Leave them out."
      )
    }
    store <- open_store(source)
  } else {
    read <- reader_of(source, query, at_once)
    folder <- store_folder(folder)
    store <- copy_rows(read, columns, folder, quiet)
  }
  store$in_memory <- in_memory
  store$seed <- seed
  store$at_once <- at_once
  store
}

# An empty folder to write to.
store_folder <- function(folder) {
  if (is.null(folder)) {
    folder <- tempfile("rows")
  } else {
    check_string(folder, "folder")
    if (file.exists(folder) &&
        (!dir.exists(folder) || length(dir(folder, all.files = TRUE, no.. = TRUE)))) {
      stop_input(
        paste0("`folder` \"", folder, "\" is there already, and not empty."),
        todo = "Name another one; rows that were opened before come with open_rows(folder)."
      )
    }
  }
  if (!dir.exists(folder) && !suppressWarnings(dir.create(folder, recursive = TRUE))) {
    stop_input(
      paste0("The folder \"", folder, "\" cannot be made."),
      todo = "Is the place writable?"
    )
  }
  normalizePath(folder)
}

# list(name, format, each(visit, columns)): visit(part) is called with data frames of the same rows
# or of the same columns, until all are read.
reader_of <- function(source, query, at_once) {
  database <- inherits(source, "DBIConnection") ||
    (is.function(source) && !is.null(query))
  if (!is.null(query) && !database) {
    stop_input("`query` is for a connection to a database.", todo = "Leave it out.")
  }
  if (database) return(database_reader(source, query, at_once))
  if (is.function(source)) return(function_reader(source))
  if (is.data.frame(source)) {
    return(list(name = "the data frame", format = "data frame", each = function(
        visit, columns) {
      visit(
        as.data.frame(source)[names_to_read(names(source), columns, "the data frame")]
      )
    }))
  }
  if (!is.character(source) || length(source) != 1 || is.na(source)) {
    stop_input(
      "`source` must be a path, a connection, a function or a data frame.",
      paste0("Given: ", describe_value(source), ".")
    )
  }
  parquet_reader(source)
}

names_to_read <- function(known, columns, source) {
  if (is.null(columns)) return(known)
  lacking <- setdiff(columns, known)
  if (length(lacking)) {
    stop_input(
      paste0("Column ", quote_some(lacking), " of `columns` is not in ", source, "."),
      paste0("It has: ", quote_some(known), ".")
    )
  }
  intersect(known, columns)
}

copy_rows <- function(read, columns, folder, quiet) {
  writer <- write_store(folder)
  whole <- FALSE
  on.exit(if (!whole) unlink(dir(folder, full.names = TRUE)), add = TRUE)
  guesses <- character()
  read$each(function(part) {
    names(part) <- enc2utf8(names(part))
    check_distinct_names(part, read$name)
    settled <- settle_integers(part)
    guesses <<- union(guesses, settled$guesses)
    for (name in names(settled$table)) writer$put(name, settled$table[[name]])
  }, columns)
  if (writer$empty()) stop_input(paste0("There are no rows in ", read$name, "."))
  store <- writer$finish()
  whole <- TRUE
  if (!quiet) {
    lost <- writer$dropped()
    rlang::inform(
      paste0(
        basename(read$name), ": ", format_number(store$rows), " rows, ",
        length(store$columns), if (length(store$columns) == 1) " column" else " columns",
        ", copied to \"", store$folder, "\".",
        if (length(lost)) {
          paste0(
            " Left out, as text of more than 100,000 values: ", quote_some(lost), "."
          )
        },
        if (length(guesses)) paste0(" Guessed: ", paste(guesses, collapse = "; "), ".")
      ),
      class = "dreher_message_read"
    )
  }
  store
}

# --- sources -----------------------------------------------------------------------------------

# Files are read by so many columns at a time that the memory holds them.
parquet_reader <- function(source, cells = 2e7) {
  if (!file.exists(source)) check_file(source)
  files <- if (dir.exists(source)) {
    found <- list.files(source, "[.]parquet$", recursive = TRUE, full.names = TRUE)
    sort(found, method = "radix")
  } else {
    source
  }
  if (!length(files)) {
    stop_input(
      paste0("The folder \"", source, "\" holds no Parquet files."),
      todo = "Their names end in .parquet."
    )
  }
  for (file in files) {
    check_file(file)
    if (!is_parquet(file)) {
      stop_input(
        paste0("The file \"", file, "\" is not Parquet."),
        todo = "Read text by read_rows(); rows that are too many for it go into a database."
      )
    }
  }
  rlang::check_installed("nanoparquet", "to read Parquet files")
  each <- function(visit, columns) {
    first <- NULL
    for (file in files) {
      known <- parquet_names(file)
      if (is.null(first)) first <- known
      if (!setequal(first, known)) {
        stop_input(
          paste0("The file \"", file, "\" has other columns than \"", files[1], "\"."),
          paste0("Only in one of them: ", quote_some(
            c(setdiff(first, known), setdiff(known, first))
          ), ".")
        )
      }
      wanted <- names_to_read(known, columns, paste0("\"", file, "\""))
      rows <- parquet_call(file, nanoparquet::read_parquet_metadata)$file_meta_data$num_rows
      if (rows == 0) next
      for (part in split_range(length(wanted), max(1, cells %/% rows))) {
        visit(as.data.frame(parquet_call(
          file, nanoparquet::read_parquet, col_select = wanted[part[1]:part[2]]
        )))
      }
    }
  }
  list(name = source, format = "Parquet", each = each)
}

parquet_names <- function(file) {
  schema <- parquet_call(file, nanoparquet::read_parquet_schema)
  nested <- !is.na(schema$num_children) & seq_len(nrow(schema)) > 1
  if (any(nested)) {
    stop_input(
      paste0(
        "The file \"", file, "\" has columns of lists: ", quote_some(schema$name[nested]),
        "."
      ),
      todo = "Write a file of plain columns."
    )
  }
  schema$name[-1]
}

function_reader <- function(fun) {
  each <- function(visit, columns) {
    repeat {
      part <- tryCatch(call_user(fun), error = function(e) {
        pass_interrupt(e)
        stop_input("The function `source` failed.", conditionMessage(e))
      })
      if (is.null(part)) return(invisible())
      if (!is.data.frame(part)) {
        stop_input(
          "The function `source` must return a data frame with each call, NULL at the end.",
          paste0("It returned ", describe_value(part), ".")
        )
      }
      if (nrow(part)) {
        visit(as.data.frame(part)[names_to_read(names(part), columns, "the rows")])
      }
    }
  }
  list(name = "the function's rows", format = "function", each = each)
}

# Rows of a query, through a cursor where the driver would else hold all of them.
database_reader <- function(source, query, at_once, waits = c(2, 8, 30)) {
  if (is.null(query)) {
    stop_input(
      "`query` is missing: what to read from the database.",
      todo = "Give a query (SELECT ...) or the name of a table."
    )
  }
  check_string(query, "query")
  each <- function(visit, columns) {
    done <- character()  # hashes of the parts that were taken
    read_once <- function() {
      con <- if (is.function(source)) call_user(source) else source
      if (!inherits(con, "DBIConnection")) {
        stop_input(
          "The function `source` must return a connection of package DBI.",
          paste0("It returned ", describe_value(con), ".")
        )
      }
      if (is.function(source)) on.exit(try(DBI::dbDisconnect(con), silent = TRUE), add = TRUE)
      at <- 0
      fetch_parts(con, query, at_once, function(part) {
        at <<- at + 1
        hash <- table_print(part)
        if (at <= length(done)) {
          if (done[at] != hash) {
            stop_input(
              "Asked again, the database gave the rows in another order.",
              todo = "Add an ORDER BY of columns that tell all rows apart."
            )
          }
          return(invisible())
        }
        visit(part[names_to_read(names(part), columns, "the query")])
        done <<- c(done, hash)
      })
    }
    for (wait in c(waits, NA)) {
      failed <- tryCatch(
        {
          read_once()
          NULL
        },
        error = function(e) {
          pass_interrupt(e)
          if (inherits(e, "dreher_error")) stop(e)
          e
        }
      )
      if (is.null(failed)) return(invisible())
      # a query that never gave anything is wrong, not interrupted
      if (!is.function(source) || !length(done) || is.na(wait)) break
      Sys.sleep(wait)
    }
    stop_input(
      paste0("The query failed: ", sub("\\s+$", "", conditionMessage(failed))),
      if (length(done)) {
        paste0(format_number(length(done)), " batches of rows had been read.")
      },
      "Is the server there, the connection open, and the query right?"
    )
  }
  list(name = "the query", format = "database", each = each)
}

fetch_parts <- function(con, query, at_once, visit) {
  named <- tryCatch(DBI::dbExistsTable(con, query), error = function(e) FALSE)
  if (isTRUE(named)) {
    query <- paste("SELECT * FROM", DBI::dbQuoteIdentifier(con, query))
  } else {
    check_query(query)
  }
  read_only(con, fetch_all(con, query, at_once, visit))
}

# In a transaction, as read_only() leaves it.
fetch_all <- function(con, query, at_once, visit) {
  if (inherits(con, "PostgreSQLConnection")) {
    cursor <- paste("DECLARE dreher_rows NO SCROLL CURSOR FOR", sub(";\\s*$", "", query))
    said_or_failed(DBI::dbGetQuery(con, cursor), none = TRUE)
    on.exit(
      suppressWarnings(try(DBI::dbGetQuery(con, "CLOSE dreher_rows"), silent = TRUE)),
      add = TRUE
    )
    fetch <- paste("FETCH", format(at_once, scientific = FALSE), "FROM dreher_rows")
    next_part <- function() DBI::dbGetQuery(con, fetch)
  } else {
    result <- DBI::dbSendQuery(con, query)
    on.exit(try(DBI::dbClearResult(result), silent = TRUE), add = TRUE)
    next_part <- function() DBI::dbFetch(result, n = at_once)
  }
  repeat {
    part <- said_or_failed(next_part())
    if (!nrow(part)) return(invisible())
    visit(part)
  }
}
