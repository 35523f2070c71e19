# The rows that a study file names, read and split.

# -> list(train, holdout, untouched): data frames or NULL; of a folder, holdout and untouched rows
# that stay on disk
file_tables <- function(spec) {
  data <- spec$data
  read <- rows_reader(spec)
  tables <- if (!is.null(data$file)) {
    split_table(with_target(read(data$file), spec, "data.file"), spec)
  } else {
    lapply(
      stats::setNames(nm = c("train", "holdout", "untouched")),
      function(part) if (!is.null(data[[part]])) {
        if (part != "train" && is_folder(spec, data[[part]])) {
          return(open_rows(file_at(spec, data[[part]]), quiet = TRUE))
        }
        with_target(read(data[[part]]), spec, paste0("data.", part))
      }
    )
  }
  same_levels(lapply(tables, function(rows) {
    if (!is.data.frame(rows)) return(rows)
    rows[setdiff(names(rows), data$leave_out)]
  }))
}

is_folder <- function(spec, path) {
  is.null(spec$data$database) && dir.exists(file_at(spec, path))
}

# Text becomes classes with the levels of all tables: learners take those that no training row has
# together with the rare ones.
same_levels <- function(tables) {
  text <- lapply(Filter(is.data.frame, tables), function(rows) {
    names(rows)[vapply(rows, is.character, NA)]
  })
  for (column in intersect(names(tables$train), unlist(text))) {
    parts <- lapply(Filter(is.data.frame, tables), `[[`, column)
    parts <- parts[!vapply(parts, is.null, NA)]
    on_disk <- lapply(Filter(is_store, tables), function(store) {
      store$columns[[column]]$levels
    })
    levels <- sort_text(unique(unlist(c(lapply(parts, as.character), on_disk))))
    for (part in names(parts)) {
      tables[[part]][[column]] <- factor(parts[[part]], levels[!is.na(levels)])
    }
  }
  tables
}

# A function that reads a file, or a query of the database that is named.
rows_reader <- function(spec) {
  data <- spec$data
  how <- reading_of_file(spec)
  if (is.null(data$database)) {
    return(function(source) {
      read_rows(
        file_at(spec, source), delimiter = data$delimiter, decimal = data$decimal,
        encoding = data$encoding, missing = how$missing, types = how$types, quiet = TRUE
      )
    })
  }
  function(source) {
    con <- connect_database(data$database)
    on.exit(DBI::dbDisconnect(con), add = TRUE)
    read_rows(
      con, query = source, missing = how$missing, types = how$types, quiet = TRUE
    )
  }
}

# Marks of gaps and types, of the file's own and of its dictionary. -> list(missing, types), as
# read_rows() takes them
reading_of_file <- function(spec) {
  own <- spec$data$missing
  # a dictionary that is not there is a fault of its own
  said <- if (is.null(spec$dictionary) || !file.exists(file_at(spec, spec$dictionary))) {
    list(types = NULL, missing = list())
  } else {
    reading_of_dictionary(file_at(spec, spec$dictionary))
  }
  by <- said$missing
  if (!is.null(names(own))) {
    for (p in names(own)) by[[p]] <- c(by[[p]], as.character(unlist(own[[p]])))
    own <- NULL
  }
  list(
    missing = list(all = as.character(unlist(own)), by = by),
    types = if (length(said$types)) said$types
  )
}

# Paths in the file start where the file stands.
file_at <- function(spec, path) {
  if (grepl("^(/|~|[A-Za-z]:)", path)) path else file.path(spec$folder, path)
}

connect_database <- function(database) {
  # one of those that the schema names: no other function is called
  parts <- strsplit(database$driver, "::", fixed = TRUE)[[1]]
  rlang::check_installed(parts[1], "to reach the database")
  driver <- getExportedValue(parts[1], parts[2])()
  if (!inherits(driver, "DBIDriver")) {
    stop_input(paste0("\"", database$driver, "\" gives no driver of package DBI."))
  }
  do.call(DBI::dbConnect, c(driver, lapply(database$arguments, from_environment)))
}

# Passwords stand in the environment, not in the file.
from_environment <- function(x) {
  if (!is.character(x) || !grepl("^[$][A-Za-z_][A-Za-z0-9_]*$", x)) return(x)
  name <- substring(x, 2)
  value <- Sys.getenv(name, NA)
  if (is.na(value)) {
    stop_input(paste0("The environment has no ", name, "."), todo = "Set it before the run.")
  }
  value
}

# Rows whose target is known, as numbers or classes.
with_target <- function(rows, spec, where) {
  check_columns(rows, spec$target, where, "The target")
  y <- rows[[spec$target]]
  rows <- rows[!is.na(y), , drop = FALSE]
  if (!nrow(rows)) {
    stop_input(paste0("No row of ", where, " has the target \"", spec$target, "\"."))
  }
  y <- rows[[spec$target]]
  if (task_of_file(spec, y) == "classification") {
    y <- as.character(y)
    rows[[spec$target]] <- factor(y, sort_text(unique(y)))
  } else if (!is.numeric(y)) {
    stop_input(
      paste0("The target \"", spec$target, "\" holds text, not numbers."),
      todo = "Write task: classification."
    )
  }
  attr(rows, "row.names") <- .set_row_names(nrow(rows))
  rows
}

task_of_file <- function(spec, y) {
  if (!is.null(spec$task)) return(spec$task)
  guess_task(y)
}

# Two values are classes, whatever they are; more numbers are numbers.
guess_task <- function(y) {
  few <- length(unique(y[!is.na(y)])) <= 2
  if (is.numeric(y) && !few) "regression" else "classification"
}

# Shares are drawn within classes, or by whole blocks; with times the last rows are held out.
split_table <- function(rows, spec) {
  share <- c(holdout = 0, untouched = 0)
  given <- unlist(spec$data$split[c("holdout", "untouched")])
  share[names(given)] <- given
  unit <- if (is.null(spec$blocks)) {
    seq_len(nrow(rows))
  } else {
    as.character(rows[[spec$blocks]])
  }
  units <- unique(unit)
  y <- rows[[spec$target]]
  within <- if (is.factor(y) && is.null(spec$blocks)) {
    as.character(y)
  } else {
    rep("", length(units))
  }
  part <- rep("train", length(units))
  order <- spec$data$split$order
  if (!is.null(order)) {
    check_columns(rows, order, "data.file", "The column of times")
    at <- units[order(tapply(as.double(rows[[order]]), factor(unit, units), min))]
    n <- floor(cumsum(share) * length(units) + 0.5)
    late <- rev(at)
    part[match(late[seq_len(n[2] - n[1])], units)] <- "untouched"
    part[match(late[seq_len(n[1]) + n[2] - n[1]], units)] <- "holdout"
  } else with_stream(seed_of(spec), "split", {
    for (k in unique(within)) {
      at <- which(within == k)
      at <- at[sample.int(length(at))]
      n <- floor(cumsum(share) * length(at) + 0.5)
      part[at[seq_len(n[1])]] <- "holdout"
      part[at[seq_len(n[2] - n[1]) + n[1]]] <- "untouched"
    }
  })
  own <- part[match(unit, units)]
  lapply(stats::setNames(nm = c("train", "holdout", "untouched")), function(p) {
    chosen <- rows[own == p, , drop = FALSE]
    attr(chosen, "row.names") <- .set_row_names(nrow(chosen))
    if (nrow(chosen)) chosen
  })
}

seed_of <- function(spec) if (is.null(spec$seed)) 1L else as.integer(spec$seed)

# The columns models of this file are trained on.
file_predictors <- function(spec, rows) {
  setdiff(names(rows), c(spec$target, spec$weights, spec$blocks, spec$data$leave_out))
}
