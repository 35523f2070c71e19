# A store: a table on disk, one file a column, so that some rows of some columns can be read
# without the rest.
#
# list(folder, rows, columns, print): columns is a list by name of list(kind, levels, ordered,
# timezone, units); kind: "double", "integer", "logical", "factor", "text" (numbers of its values,
# which stand in `levels`), "Date", "POSIXct", "difftime". The files hold numbers of 8 or 4 bytes in
# the machine's order, column i in "i.bin"; store.json says the rest and is written last, so that
# a folder without it holds no whole table. print: a hash of names and values.

store_format <- 1L

store_width <- function(kind) {
  if (kind %in% c("integer", "logical", "factor", "text")) 4 else 8
}

store_what <- function(kind) if (store_width(kind) == 4) "integer" else "double"

store_file <- function(store, name) {
  file.path(store$folder, paste0(match(name, names(store$columns)), ".bin"))
}

is_store <- function(x) inherits(x, "dreher_store")

table_columns <- function(x) if (is_store(x)) names(x$columns) else names(x)

new_store <- function(folder, rows, columns, print) {
  if (rows > .Machine$integer.max) {
    stop_input(paste0("There are ", format_number(rows), " rows; 2,147,483,647 at most."))
  }
  rows <- as.integer(rows)
  structure(
    list(folder = folder, rows = rows, columns = columns, print = print),
    class = "dreher_store"
  )
}

# What a column is kept as; NULL for what is none.
store_kind <- function(x) {
  if (is.factor(x)) {
    return(list(kind = "factor", levels = levels(x), ordered = is.ordered(x)))
  }
  if (inherits(x, "POSIXct")) {
    zone <- attr(x, "tzone")
    return(list(kind = "POSIXct", timezone = if (is.null(zone)) "" else zone[1]))
  }
  if (inherits(x, "Date")) return(list(kind = "Date"))
  if (inherits(x, "difftime")) return(list(kind = "difftime", units = attr(x, "units")))
  if (is.object(x) || !is.null(dim(x))) return(NULL)
  if (is.character(x)) return(list(kind = "text", levels = character()))
  if (is.logical(x)) return(list(kind = "logical", met = !all(is.na(x))))
  if (is.integer(x)) return(list(kind = "integer"))
  if (is.double(x)) list(kind = "double")
}

# Columns as they come, a part of the rows at a time: put(name, values), and finish(), which checks
# that all are as long and returns the store. most_levels: text of more values than
# these is given up (`dropped()` names it): what stands once in every row is no predictor.
write_store <- function(folder, most_levels = 1e5) {
  columns <- list()
  count <- double()
  lost <- character()
  store <- function() list(folder = folder, columns = columns)
  put <- function(name, x) {
    if (name %in% lost) return(invisible())
    kind <- store_kind(x)
    if (is.null(kind)) {
      stop_input(
        paste0("Column \"", name, "\" holds ", describe_value(x), "."),
        todo = "Give columns of numbers, text, factors, TRUE/FALSE, dates or times."
      )
    }
    if (is.null(columns[[name]])) {
      columns[[name]] <<- kind
      count[[name]] <<- 0
    }
    kept <- join_kinds(columns[[name]], kind, x, name)
    if (length(kept$levels) > most_levels) {
      lost <<- c(lost, name)
      unlink(store_file(store(), name))
      return(invisible())
    }
    if (kept$kind != columns[[name]]$kind) {
      rewrite_column(store_file(store(), name), columns[[name]]$kind, kept$kind)
    }
    columns[[name]] <<- kept
    values <- store_values(x, kept)
    append_binary(store_file(store(), name), values)
    count[[name]] <<- count[[name]] + length(x)
  }
  finish <- function() {
    known <- setdiff(names(columns), lost)
    uneven <- names(which(count[known] != count[known][1]))
    if (length(uneven)) {
      stop_input(
        paste0(
          "Column \"", uneven[1], "\" has ", format_number(count[[uneven[1]]]), " rows, \"",
          known[1], "\" has ", format_number(count[[known[1]]]), "."
        ),
        todo = "Give every batch of rows the same columns."
      )
    }
    rows <- if (length(known)) count[[known[1]]] else 0
    seal_store(folder, rows, columns[known], match(known, names(columns)))
  }
  list(
    put = put, finish = finish, dropped = function() lost,
    empty = function() !any(count > 0)
  )
}

# The files of the columns that stay get the numbers of their places; then the table is whole.
seal_store <- function(folder, rows, columns, places) {
  for (i in seq_along(places)) {
    if (places[i] != i) {
      file.rename(
        file.path(folder, paste0(places[i], ".bin")), file.path(folder, paste0(i, ".bin"))
      )
    }
  }
  columns <- order_levels_of_store(folder, columns)
  store <- new_store(folder, rows, columns, "")
  store$print <- print_of_store(store)
  # levels as a list, so that one is not taken for a scalar
  about <- lapply(columns, function(column) {
    if (!is.null(column$levels)) column$levels <- as.list(column$levels)
    column
  })
  write_text(
    jsonlite::toJSON(
      list(
        format = store_format, rows = rows, print = store$print,
        names = as.list(names(columns)), columns = unname(about)
      ),
      auto_unbox = TRUE, digits = NA
    ),
    file.path(folder, "store.json")
  )
  store
}

# Levels that were met in another order than theirs: their numbers are written anew.
order_levels_of_store <- function(folder, columns) {
  for (i in seq_along(columns)) {
    column <- columns[[i]]
    if (!is.null(column[["order"]]) && !identical(column[["order"]], column$levels)) {
      file <- file.path(folder, paste0(i, ".bin"))
      codes <- readBin(file, "integer", file.size(file) / 4)
      unlink(file)
      append_binary(file, match(column$levels, column[["order"]])[codes])
      columns[[i]]$levels <- column[["order"]]
    }
    columns[[i]][["order"]] <- NULL
  }
  columns
}

# A store that was made before.
open_store <- function(folder) {
  about <- tryCatch(
    jsonlite::fromJSON(file.path(folder, "store.json"), simplifyVector = FALSE),
    error = function(e) stop_no_store(folder, conditionMessage(e))
  )
  columns <- lapply(about$columns, function(column) {
    if (!is.null(column$levels)) column$levels <- as.character(unlist(column$levels))
    column
  })
  sound <- identical(about$format, store_format) && is.numeric(about$rows) &&
    length(columns) == length(about$names) && length(columns) > 0
  if (!sound) stop_no_store(folder, "its description is not whole, or of another version")
  names(columns) <- vapply(about$names, as.character, "")
  store <- new_store(folder, about$rows, columns, about$print)
  for (name in names(columns)) {
    bytes <- file.size(store_file(store, name))
    if (!identical(bytes, store$rows * store_width(columns[[name]]$kind))) {
      stop_no_store(folder, paste0("the file of column \"", name, "\" is not whole"))
    }
  }
  # fingerprints of earlier versions say nothing any more
  if (is.na(same_print(paste(store$print), fingerprint("")))) {
    store$print <- print_of_store(store)
  }
  store
}

print_of_store <- function(store, columns = names(store$columns)) {
  join_hashes(vapply(columns, function(p) column_hash(store_column(store, p)), ""))
}

stop_no_store <- function(folder, why) {
  stop_input(
    paste0("The folder \"", folder, "\" holds no rows that can be opened."), why,
    "Open the rows from where they came, into another folder."
  )
}

# The kind that holds both what is there and what comes: numbers, levels gathered as they are met,
# and anything behind what was missing so far.
join_kinds <- function(kept, kind, x, name) {
  nothing <- kind$kind == "logical" && !kind$met
  named <- c("text", "factor")
  if (kind$kind %in% named && kept$kind %in% c(named, "logical")) {
    if (kept$kind == "logical" && kept$met) stop_changed(name, kept, kind)
    met <- enc2utf8(if (kind$kind == "factor") kind$levels else unique(x[!is.na(x)]))
    into <- if (kept$kind == "logical") kind else kept
    if (isTRUE(into$ordered) || isTRUE(kind$ordered)) {
      into[["order"]] <- join_orders(kept, kind, met, name)
    }
    into$levels <- union(kept$levels, met)
    return(into)
  }
  if (kept$kind == "logical") {
    if (kind$kind == "logical") return(list(kind = "logical", met = kept$met || kind$met))
    if (!kept$met) return(kind)
    stop_changed(name, kept, kind)
  }
  if (nothing || kept$kind == kind$kind) return(kept)
  if (kept$kind == "double" && kind$kind == "integer") return(kept)
  if (kept$kind == "integer" && kind$kind == "double") return(kind)
  stop_changed(name, kept, kind)
}

# Ordered levels of two batches in one order, where one order is all that fits both.
join_orders <- function(kept, kind, met, name) {
  if (kept$kind == "logical") return(met)
  before <- if (is.null(kept[["order"]])) kept$levels else kept[["order"]]
  if (kind$kind == "text" && all(met %in% before)) return(before)
  if (!isTRUE(kept$ordered) || !isTRUE(kind$ordered)) {
    kept$kind <- if (isTRUE(kept$ordered)) "ordered levels" else "levels without an order"
    kind$kind <- if (isTRUE(kind$ordered)) "ordered levels" else "levels without an order"
    stop_changed(name, kept, kind)
  }
  joined <- merge_orders(before, met)
  if (!is.null(joined)) return(joined)
  stop_input(
    paste0(
      "The ordered levels of column \"", name,
      "\" have no one order over all batches of rows."
    ),
    paste0(
      "So far ", paste(before, collapse = " < "), "; then ", paste(met, collapse = " < "),
      "."
    ),
    "Give every batch all levels, in one order."
  )
}

# The one order that keeps both; NULL where there is none, or more than one.
merge_orders <- function(one, other) {
  out <- character()
  while (length(one) || length(other)) {
    first <- function(x, y) length(x) > 0 && !x[1] %in% y[-1]
    able <- unique(c(if (first(one, other)) one[1], if (first(other, one)) other[1]))
    if (length(able) != 1) return(NULL)
    out <- c(out, able)
    one <- setdiff(one, able)
    other <- setdiff(other, able)
  }
  out
}

stop_changed <- function(name, kept, kind) {
  stop_input(
    paste0(
      "Column \"", name, "\" changes from ", kept$kind, " to ", kind$kind,
      " between batches of rows."
    ),
    todo = "Give it as one kind throughout."
  )
}

# Values as numbers of the kind's width.
store_values <- function(x, kind) {
  if (kind$kind %in% c("text", "factor")) {
    return(match(enc2utf8(as.character(x)), kind$levels))
  }
  if (kind$kind == "difftime") return(as.double(x, units = kind$units))
  if (store_width(kind$kind) == 4) as.integer(x) else as.double(x)
}

# Numbers of a column as values again.
restore_values <- function(x, kind) {
  switch(
    kind$kind,
    logical = as.logical(x),
    text = kind$levels[x],
    factor = structure(
      x, levels = kind$levels, class = c(if (isTRUE(kind$ordered)) "ordered", "factor")
    ),
    Date = structure(x, class = "Date"),
    POSIXct = structure(x, class = c("POSIXct", "POSIXt"), tzone = kind$timezone),
    difftime = structure(x, class = "difftime", units = kind$units),
    x
  )
}

append_binary <- function(file, values) {
  con <- file(file, "ab")
  on.exit(close(con), add = TRUE)
  before <- file.size(file)
  tryCatch(
    # one call writes no more than 2^31 bytes
    for (part in split_range(length(values), 1e8)) {
      writeBin(values[part[1]:part[2]], con)
    },
    error = function(e) stop_full(file, conditionMessage(e))
  )
  flush(con)
  width <- if (is.integer(values)) 4 else 8
  if (!identical(file.size(file), before + width * length(values))) stop_full(file, NULL)
}

stop_full <- function(file, why) {
  stop_input(
    paste0("The rows cannot be written to \"", dirname(file), "\"."), why,
    paste0(
      "Is the disk full? Name a folder with room; 10 million rows of 50 numbers take 4 GB."
    )
  )
}

# Whole numbers that become other ones, and missing values whatever they are said to be.
rewrite_column <- function(file, from, to) {
  x <- readBin(file, store_what(from), file.size(file) / store_width(from))
  unlink(file)
  append_binary(file, if (store_width(to) == 4) as.integer(x) else as.double(x))
}

# 1 to n in parts: list of c(from, to).
split_range <- function(n, size) {
  if (n < 1) return(list())
  from <- seq(1, n, by = size)
  Map(c, from, pmin(n, from + size - 1))
}

# --- reading -----------------------------------------------------------------------------------

# One column: all of it, or from a row to another.
store_column <- function(store, name, from = 1, to = store$rows) {
  kind <- store$columns[[name]]
  con <- file(store_file(store, name), "rb")
  on.exit(close(con), add = TRUE)
  if (from > 1) seek(con, (from - 1) * store_width(kind$kind))
  x <- readBin(con, store_what(kind$kind), to - from + 1)
  if (length(x) != to - from + 1) stop_no_store(store$folder, "a file became shorter")
  restore_values(x, kind)
}

# Rows from one to another, or rows by their numbers (rising), as a data frame.
store_rows <- function(store, from, to, columns = names(store$columns)) {
  as_frame(
    lapply(stats::setNames(nm = columns), function(p) store_column(store, p, from, to)),
    to - from + 1
  )
}

pick_from_store <- function(store, rows, columns = names(store$columns)) {
  span <- range(rows)
  side_by_side <- span[2] - span[1] + 1 == length(rows)
  few <- length(rows) < store$rows / 1000
  one <- function(p) {
    if (side_by_side) {
      store_column(store, p, span[1], span[2])
    } else if (few) {
      seek_values(store, p, rows)
    } else {
      store_column(store, p)[rows]
    }
  }
  as_frame(lapply(stats::setNames(nm = columns), one), length(rows))
}

seek_values <- function(store, name, rows) {
  kind <- store$columns[[name]]
  con <- file(store_file(store, name), "rb")
  on.exit(close(con), add = TRUE)
  x <- vapply(rows, function(i) {
    seek(con, (i - 1) * store_width(kind$kind))
    readBin(con, store_what(kind$kind), 1)
  }, if (store_width(kind$kind) == 4) 1L else 1)
  restore_values(x, kind)
}

as_frame <- function(columns, rows) {
  structure(columns, row.names = .set_row_names(rows), class = "data.frame")
}

# The rows in another order, in a folder of their own.
reorder_store <- function(store, order, columns, folder) {
  dir.create(folder)
  kinds <- store$columns[columns]
  out <- new_store(folder, length(order), kinds, store$print)
  out$at_once <- store$at_once
  for (name in columns) {
    kind <- kinds[[name]]
    x <- readBin(store_file(store, name), store_what(kind$kind), store$rows)
    append_binary(store_file(out, name), x[order])
  }
  out
}

#' @export
dim.dreher_store <- function(x) c(x$rows, length(x$columns))

#' @export
as.data.frame.dreher_store <- function(x, ...) {
  store <- unclass(x)
  store_rows(store, 1, store$rows)
}
