# The run folder: an SQLite file that holds every finished piece of a long run.
#
#   about   name, value          what the run is of, so that no other run goes on in it
#   pieces  key, result (blob), seconds, attempts, error, finished
#
# One transaction a piece: whenever the process is killed, the file holds whole pieces only. Only
# the main process writes.

open_folder <- function(folder, about) {
  check_string(folder, "run")
  if (!dir.exists(folder) && !suppressWarnings(dir.create(folder, recursive = TRUE))) {
    stop_input(
      paste0("The run folder \"", folder, "\" cannot be made."),
      todo = "Is the place writable?"
    )
  }
  file <- file.path(folder, "run.sqlite")
  about <- c(about, version = as.character(utils::packageVersion("dreher")))
  con <- connect_folder(file)
  known <- tables_of_folder(con, folder, about)
  other <- names(about)[!names(about) %in% known$name |
      as.character(about) != known$value[match(names(about), known$name)]]
  if (length(other)) {
    DBI::dbDisconnect(con)
    stop_study(
      paste0(
        "The run folder \"", folder, "\" holds another run: other ", list_words(other),
        "."
      ),
      todo = "Name another folder, or give what that run was given."
    )
  }
  con
}

connect_folder <- function(file) {
  con <- NULL
  tryCatch(
    {
      con <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
      if (!identical(DBI::dbGetQuery(con, "PRAGMA quick_check")[[1]], "ok")) {
        stop("the file is damaged")
      }
      DBI::dbExecute(con, "PRAGMA synchronous = FULL")
    },
    error = function(e) {
      if (!is.null(con)) DBI::dbDisconnect(con)
      stop_input(
        paste0("The run file \"", file, "\" cannot be read."),
        conditionMessage(e),
        "Name another folder, or move this file away."
      )
    }
  )
  con
}

# The tables, made where there are none. -> what the run in the folder is of
tables_of_folder <- function(con, folder, about) {
  tryCatch(
    {
      DBI::dbExecute(
        con, "CREATE TABLE IF NOT EXISTS about (name TEXT PRIMARY KEY, value TEXT)"
      )
      DBI::dbExecute(
        con,
        paste0(
          "CREATE TABLE IF NOT EXISTS pieces (key TEXT PRIMARY KEY, result BLOB, ",
          "seconds REAL, attempts INTEGER, error TEXT, finished TEXT)"
        )
      )
      known <- DBI::dbReadTable(con, "about")
      if (!nrow(known)) {
        DBI::dbWriteTable(
          con,
          "about",
          data.frame(name = names(about), value = unname(as.character(about))),
          append = TRUE
        )
        known <- DBI::dbReadTable(con, "about")
      }
      known
    },
    error = function(e) {
      DBI::dbDisconnect(con)
      stop_input(
        paste0("The run folder \"", folder, "\" cannot be written to."),
        conditionMessage(e),
        "Is it read-only, or the disk full?"
      )
    }
  )
}

# Finished pieces by key.
read_folder <- function(con) {
  found <- DBI::dbGetQuery(con, "SELECT key, result FROM pieces WHERE error IS NULL")
  stats::setNames(lapply(found$result, unserialize), found$key)
}

write_folder <- function(con, key, value, seconds, attempts, error = NULL) {
  row <- list(
    key,
    list(if (is.null(error)) serialize(value, NULL)),
    seconds,
    attempts,
    if (is.null(error)) NA_character_ else error,
    format(Sys.time(), "%Y-%m-%dT%H:%M:%S")
  )
  tryCatch(
    DBI::dbWithTransaction(
      con,
      DBI::dbExecute(
        con, "INSERT OR REPLACE INTO pieces VALUES (?, ?, ?, ?, ?, ?)", params = row
      )
    ),
    error = function(e) {
      stop_input(
        "A finished piece cannot be written to the run folder.",
        conditionMessage(e),
        paste0(
          "Is the disk full? The pieces written before are kept: run again with the ",
          "same folder."
        )
      )
    }
  )
}
