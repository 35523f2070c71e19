# The run folder: an SQLite file that holds every finished piece of a long run, as data.
#
#   about   name, value   what the run is of, so that no other run goes on in it
#   pieces  key, result (see base-values.R), checksum, seconds, attempts, error, finished
#
# One transaction a piece: whenever the process is killed, the file holds whole pieces only. Only
# the main process writes, and one process at a time: it holds the lock of "run.lock", which the
# system lets go of when the process ends, however it ends.

# 2: what the run is of stood as hashes of a package, which differ between its versions; 3:
# fingerprints (base-prints.R).
folder_format <- 3L

folder_tables <- c(
  about = "CREATE TABLE about (name TEXT PRIMARY KEY, value TEXT)",
  pieces = paste0(
    "CREATE TABLE pieces (key TEXT PRIMARY KEY, result BLOB, checksum TEXT, seconds REAL, ",
    "attempts INTEGER, error TEXT, finished TEXT)"
  )
)

# -> list(con, lock): close_folder() ends both
open_folder <- function(folder, about) {
  check_string(folder, "run")
  if (!dir.exists(folder) && !suppressWarnings(dir.create(folder, recursive = TRUE))) {
    stop_input(
      paste0("The run folder \"", folder, "\" cannot be made."),
      todo = "Is the place writable?"
    )
  }
  about <- c(about, results = as.character(results_version))
  run <- list(lock = lock_folder(folder))
  done <- FALSE
  on.exit(if (!done) close_folder(run), add = TRUE)
  run$con <- connect_folder(file.path(folder, "run.sqlite"))
  known <- tables_of_folder(run$con, folder, about)
  other <- names(about)[!names(about) %in% known$name |
      as.character(about) != known$value[match(names(about), known$name)]]
  if ("results" %in% other) {
    stop_study(
      paste0("The run folder \"", folder, "\" was begun by another version of dreher."),
      "Its numbers differ from those of this version for the same seed.",
      "Name another folder, or go on with that version."
    )
  }
  if (length(other)) {
    stop_study(
      paste0(
        "The run folder \"", folder, "\" holds another run: other ", list_words(other),
        "."
      ),
      todo = "Name another folder, or give what that run was given."
    )
  }
  done <- TRUE
  run
}

close_folder <- function(run) {
  for (con in run[c("con", "lock")]) if (!is.null(con)) DBI::dbDisconnect(con)
}

# How long to wait for another process that reads or writes the file, in milliseconds.
connect_sqlite <- function(file, wait) {
  con <- DBI::dbConnect(
    RSQLite::SQLite(), file, synchronous = NULL, loadable.extensions = FALSE
  )
  DBI::dbExecute(con, paste0("PRAGMA busy_timeout = ", wait))
  con
}

# An exclusive transaction on a file of its own, open as long as the run.
lock_folder <- function(folder) {
  con <- NULL
  owner <- file.path(folder, "run.owner")
  tryCatch(
    {
      con <- connect_sqlite(file.path(folder, "run.lock"), 1000)
      DBI::dbExecute(con, "BEGIN EXCLUSIVE")
      writeBin(
        charToRaw(paste0(
          "process ", Sys.getpid(), " on ", Sys.info()[["nodename"]], ", since ",
          format(Sys.time(), "%Y-%m-%d %H:%M:%S"), "\n"
        )),
        owner
      )
    },
    error = function(e) {
      if (!is.null(con)) DBI::dbDisconnect(con)
      if (grepl("locked|busy", conditionMessage(e))) stop_locked(folder, owner)
      stop_unwritable(folder, e)
    },
    warning = function(e) {
      DBI::dbDisconnect(con)
      stop_unwritable(folder, e)
    }
  )
  con
}

stop_locked <- function(folder, owner) {
  by <- tryCatch(
    substr(readLines(owner, 1, warn = FALSE), 1, 200), error = function(e) character(),
    warning = function(w) character()
  )
  stop_study(
    paste0("The run folder \"", folder, "\" is in use by another run."),
    if (length(by)) paste0("By ", printable(by), "."),
    "Wait until it has ended, or name another folder."
  )
}

stop_unwritable <- function(folder, e) {
  stop_input(
    paste0("The run folder \"", folder, "\" cannot be written to."),
    conditionMessage(e),
    "Is it read-only, or the disk full?"
  )
}

connect_folder <- function(file) {
  con <- NULL
  tryCatch(
    {
      con <- connect_sqlite(file, 60000)
      # What a file says about itself is not run.
      DBI::dbExecute(con, "PRAGMA trusted_schema = OFF")
      DBI::dbExecute(con, "PRAGMA cell_size_check = ON")
      if (!identical(DBI::dbGetQuery(con, "PRAGMA quick_check")[[1]], "ok")) {
        stop("The file is damaged.")
      }
      DBI::dbExecute(con, "PRAGMA synchronous = FULL")
    },
    error = function(e) {
      if (!is.null(con)) DBI::dbDisconnect(con)
      stop_unreadable(file, conditionMessage(e))
    }
  )
  con
}

stop_unreadable <- function(file, why) {
  stop_input(
    paste0("The run file \"", file, "\" cannot be read."),
    printable(why),
    "Name another folder, or move this file away."
  )
}

# The tables, made where there are none. -> what the run in the folder is of
tables_of_folder <- function(con, folder, about) {
  tryCatch(
    {
      check_folder_format(con, folder)
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
      if (inherits(e, "dreher_error")) stop(e)
      stop_unwritable(folder, e)
    }
  )
}

# A new file gets our tables; any other must hold them and nothing else.
check_folder_format <- function(con, folder) {
  held <- DBI::dbGetQuery(
    con, "SELECT type, name, sql FROM sqlite_master WHERE sql IS NOT NULL"
  )
  if (!nrow(held)) {
    DBI::dbWithTransaction(con, {
      for (sql in folder_tables) DBI::dbExecute(con, sql)
      DBI::dbExecute(con, paste0("PRAGMA user_version = ", folder_format))
    })
    return(invisible())
  }
  ours <- setequal(held$sql, folder_tables)
  format <- DBI::dbGetQuery(con, "PRAGMA user_version")[[1]]
  if (ours && format == folder_format) return(invisible())
  stop_study(
    paste0(
      "The run folder \"", folder, "\" is not of format ", folder_format,
      ", which this version of dreher writes."
    ),
    if (!ours) {
      "It holds tables that no run has."
    } else if (format < folder_format) {
      paste0(
        "Format ", format,
        " is that of an earlier version, which stated otherwise what a run is ",
        "of: whether its pieces belong to this run cannot be told."
      )
    } else {
      paste0("Format ", format, " is that of a later version.")
    },
    "Name another folder, or go on with the version that began it."
  )
}

# Finished pieces by key, damaged ones left out: they are done again, and that is said.
# sound(key, value): is it what the piece of that key gives?
read_folder <- function(con, keys, sound = NULL) {
  if (is.null(sound)) sound <- function(key, value) TRUE
  found <- DBI::dbGetQuery(
    con,
    paste0(
      "SELECT CAST(key AS TEXT) AS key, CAST(checksum AS TEXT) AS checksum, ",
      "CASE typeof(result) WHEN 'blob' THEN result END AS result ",
      "FROM pieces WHERE error IS NULL"
    )
  )
  found <- found[found$key %in% keys, ]
  damaged <- rep(FALSE, nrow(found))
  values <- stats::setNames(vector("list", nrow(found)), found$key)
  for (i in seq_len(nrow(found))) {
    bytes <- found$result[[i]]
    value <- if (is.raw(bytes) &&
        identical(found$checksum[i], checksum(found$key[i], bytes))) {
      tryCatch(list(decode_value(bytes)), error = function(e) NULL)
    }
    damaged[i] <- is.null(value) ||
      !isTRUE(tryCatch(sound(found$key[i], value[[1]]), error = function(e) FALSE))
    if (!damaged[i]) values[i] <- value
  }
  if (any(damaged)) {
    warn_dreher(
      "pieces",
      paste0(
        "The run folder holds ", sum(damaged), " damaged ",
        if (sum(damaged) == 1) "piece" else "pieces", ": ",
        quote_some(found$key[damaged], 3), "."
      ),
      "They are computed again."
    )
  }
  values[!damaged]
}

# Of a piece's key and its bytes, so that neither can be changed or moved unseen.
checksum <- function(key, bytes) {
  cli::hash_raw_sha256(c(charToRaw(enc2utf8(key)), as.raw(0), bytes))
}

# Finished pieces of one file into another, as they are.
move_pieces <- function(from, to) {
  keys <- DBI::dbGetQuery(from, "SELECT key FROM pieces WHERE error IS NULL")$key
  for (some in split(keys, ceiling(seq_along(keys) / 100))) {
    held <- DBI::dbGetQuery(
      from,
      paste0(
        "SELECT * FROM pieces WHERE key IN (",
        paste(rep("?", length(some)), collapse = ", "), ")"
      ),
      params = as.list(some)
    )
    insert_pieces(to, held)
  }
}

insert_pieces <- function(con, rows) {
  tryCatch(
    DBI::dbWithTransaction(
      con,
      DBI::dbExecute(
        con,
        "INSERT OR REPLACE INTO pieces VALUES (?, ?, ?, ?, ?, ?, ?)",
        params = unname(rows)
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

write_folder <- function(con, key, value, seconds, attempts, error = NULL) {
  bytes <- if (is.null(error)) encode_value(value)
  row <- list(
    key,
    list(bytes),
    if (is.null(error)) checksum(key, bytes) else NA_character_,
    seconds,
    attempts,
    if (is.null(error)) NA_character_ else error,
    format(Sys.time(), "%Y-%m-%dT%H:%M:%S")
  )
  insert_pieces(con, row)
}
