#' Write results to a file or a database
#'
#' Writes the table behind a result as CSV, JSON, a spreadsheet, Parquet or a table of a database,
#' with what is needed to read it: metric, direction, level, seed, numbers of rows and repeats.
#'
#' @param x A [ranking], or a result of [score_models()], [check_data()], [find_drift()],
#'   [stability()],
#'   [agreement()], [noise_floor()], [find_twins()], [reduce_predictors()], [choose_set()],
#'   [compare_sets()], [confirm_set()], [effect_curves()], [contributions()], [interactions()],
#'   [compare_slices()], [similar_rows()], [prototype_rows()], [smallest_change()] or
#'   [local_rule()].
#' @param file Path; its ending (`.csv`, `.json`, `.xlsx`, `.parquet` or `.sqlite`) says the
#'   format. Or a connection of package DBI, such as one to PostgreSQL. Spreadsheets are written
#'   by package writexl, Parquet by nanoparquet. An existing file is replaced; of an SQLite file
#'   only the table.
#' @param ... Must be empty.
#' @param table For a database: name of the table. Default: the kind of result (`ranking`, ...). A
#'   table that this function wrote is replaced, any other is refused.
#' @return `file`, invisibly. CSV and Parquet: one table, the circumstances repeated in columns; in
#'   CSV text
#'   that begins with `=`, `+`, `-` or `@` has an apostrophe before it, so that no spreadsheet takes
#'   it for a formula. JSON: an
#'   object with `about` (the circumstances) and `rows` (the table, one object per row).
#'   Spreadsheet: the sheets `rows` and `about`, in the order of the table's rows and columns.
#'   Database: `table`, and beside it `table` with `_about` (columns `what`, `value`), both or
#'   neither.
#' @section Errors: An ending that is not known; a folder that does not exist or may not be
#'   written to; a connection that is closed; a table of another origin; a statement the database
#'   refuses.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' rk <- rank_permutation(study(fit, kiln$holdout, "strength", train = kiln$train))
#' write_results(rk, tempfile(fileext = ".csv"))
#' db <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
#' write_results(rk, db, table = "strength_ranking")
#' DBI::dbReadTable(db, "strength_ranking")[c("predictor", "importance")]
#' DBI::dbDisconnect(db)
#' @export
write_results <- function(x, file, ..., table = NULL) {
  check_no_dots(..., .verb = "write_results")
  if (!inherits(x, result_classes)) {
    stop_input(
      "`x` must be a ranking or another result of dreher.",
      paste0("Given: ", class(x)[1], ".")
    )
  }
  if (!is.null(table)) check_string(table, "table")
  save_table(x, file, table)
}

# Also of tables that are no result of their own.
save_table <- function(x, file, table = NULL) {
  if (inherits(file, "DBIConnection")) {
    save_in_database(x, file, table)
    return(invisible(file))
  }
  check_string(file, "file")
  format <- tolower(tools::file_ext(file))
  if (!format %in% table_formats) {
    stop_input(
      paste0("`file` must end in ", paste0(".", table_formats, collapse = ", "), "."),
      paste0("Given: \"", file, "\".")
    )
  }
  if (format == "xlsx") rlang::check_installed("writexl", "to write spreadsheets")
  if (format == "parquet") rlang::check_installed("nanoparquet", "to write Parquet")
  refuse_target(file)
  if (format == "sqlite") return(save_in_sqlite(x, file, table))
  if (!is.null(table)) {
    stop_input(
      "`table` is for a database.", todo = "Leave it out, or write to an .sqlite file."
    )
  }
  rows <- as.data.frame(x)
  about <- circumstances(x)
  whole <- function() cbind(rows, with_settings(rows, about, detail(x, "settings")))
  if (format == "json") {
    return(write_text(
      jsonlite::toJSON(
        list(about = about, rows = rows),
        auto_unbox = TRUE,
        digits = NA,
        na = "null",
        pretty = TRUE
      ),
      file
    ))
  }
  write_whole(file, function(path) {
    switch(
      format,
      csv = data.table::fwrite(no_formulas(whole()), path, na = ""),
      xlsx = writexl::write_xlsx(list(rows = whole(), about = about_sheet(about)), path),
      parquet = nanoparquet::write_parquet(whole(), path)
    )
  })
}

save_in_sqlite <- function(x, file, table) {
  connection <- tryCatch(DBI::dbConnect(RSQLite::SQLite(), file), error = function(e) {
    stop_input(
      paste0("\"", file, "\" cannot be opened as an SQLite file."), conditionMessage(e)
    )
  })
  on.exit(DBI::dbDisconnect(connection), add = TRUE)
  save_in_database(x, connection, table)
  invisible(file)
}

# Both tables or neither. Only what was written here is written over.
save_in_database <- function(x, connection, table) {
  if (is.null(table)) table <- kind_of(x)
  beside <- paste0(table, "_about")
  refused <- function(e) {
    if (inherits(e, "dreher_error")) stop(e)
    stop_input(
      paste0("The database did not take the table \"", table, "\"."),
      conditionMessage(e),
      "Is the connection open, and may it write?"
    )
  }
  tryCatch(
    {
      # not every driver can tell
      valid <- tryCatch(DBI::dbIsValid(connection), error = function(e) NA)
      if (isFALSE(valid)) stop("the connection is closed")
      there <- vapply(c(table, beside), DBI::dbExistsTable, NA, conn = connection)
      if (there[1] && !there[2]) {
        stop_input(
          paste0("The database has a table \"", table, "\" of another origin."),
          todo = "Give another name as `table`."
        )
      }
      DBI::dbWithTransaction(connection, {
        for (old in c(table, beside)[there]) DBI::dbRemoveTable(connection, old)
        DBI::dbWriteTable(connection, table, database_columns(x), row.names = FALSE)
        DBI::dbWriteTable(
          connection, beside, about_sheet(circumstances(x)), row.names = FALSE
        )
      })
    },
    error = refused
  )
}

# Columns of the kinds every database knows.
database_columns <- function(x) {
  rows <- as.data.frame(x)
  rows[] <- lapply(rows, function(v) {
    if (is.factor(v) || is.list(v)) as.character(v) else v
  })
  rows
}

kind_of <- function(x) {
  if (startsWith(class(x)[1], "dreher_")) sub("^dreher_", "", class(x)[1]) else "table"
}

# Spreadsheets run what begins like a formula: text of that kind gets an apostrophe before it.
no_formulas <- function(table) {
  text <- vapply(table, function(x) is.character(x) || is.factor(x), NA)
  table[text] <- lapply(table[text], function(x) {
    sub("^([=+@\t\r-])", "'\\1", as.character(x))
  })
  table
}

result_classes <- paste0(
  "dreher_",
  c(
    "ranking", "scores", "checks", "drift", "stability", "agreement", "floor", "twins",
    "reduction", "set", "comparison", "confirmation", "effects", "contributions",
    "interactions", "slices", "similar", "change", "rule"
  )
)

table_formats <- c("csv", "json", "xlsx", "parquet", "sqlite")

# What holds for the whole table, a line each.
about_sheet <- function(about) {
  plain <- about[!vapply(about, is.data.frame, NA)]
  data.frame(
    what = names(plain),
    value = vapply(plain, function(v) paste(format(v, digits = 15), collapse = ", "), ""),
    row.names = NULL
  )
}

circumstances <- function(x) {
  st <- if (is.list(x) && inherits(x[["study"]], "dreher_study")) x$study
  pick <- function(name, other = NULL) {
    v <- detail(x, name)
    if (is.null(v)) v <- other
    if (is.null(v) || (length(v) == 1 && is.na(v))) NULL else v
  }
  out <- list(
    made_by = paste("dreher", utils::packageVersion("dreher")),
    what = kind_of(x),
    target = pick("target", if (is.null(st) && is.list(x)) x[["target"]] else st$target),
    metric = pick(
      "metric", if (is.null(st) && is.list(x)) x[["metric"]] else st$metric$name
    ),
    better = pick("better", st$metric$better),
    level = pick("level", if (is.list(x)) x[["level"]]),
    seed = pick("seed", if (is.list(x)) x[["seed"]]),
    data = pick("fingerprint", st$fingerprint)
  )
  settings <- detail(x, "settings")
  if (!is.null(settings)) out$settings <- settings
  Filter(Negate(is.null), out)
}

# Circumstances as columns of the table; those the table has already are left alone.
with_settings <- function(table, about, settings) {
  plain <- about[!vapply(about, is.data.frame, NA)]
  plain <- plain[setdiff(names(plain), c(names(table), "made_by", "what", "data"))]
  out <- as.data.frame(lapply(plain, rep_len, nrow(table)))[
    seq_len(nrow(table)), , drop = FALSE
  ]
  if (!is.null(settings)) {
    i <- match(x_keys(table, setting_columns), x_keys(settings, setting_columns))
    out <- cbind(out, settings[i, c("n", "repeats", "background", "scale", "measures")])
  }
  out
}
