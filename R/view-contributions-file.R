#' Write the contributions of many rows to a file
#'
#' [contributions()] of more rows than one table holds, written block by block.
#'
#' @inheritParams contributions
#' @param file Path. Its ending says the format: `.csv`; `.sqlite`, with a table `contributions`;
#'   `.parquet`, a folder of files that together are the table (written by package nanoparquet). It
#'   is written beside its place and put there whole; an existing file is replaced, a folder is not.
#' @param ... Further arguments of [contributions()]: `models`, `rows`, `which`, `classes`,
#'   `groups`, `value`, `background`, `against`, `scale`, `precision`, `max_pairs`, `level`, `seed`,
#'   `threads`.
#' @return `file`, invisibly. Columns as of [contributions()], without `below` and `alike`.
#' @section Errors: Another ending; a folder that exists; those of [contributions()].
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' write_contributions(st, tempfile(fileext = ".csv"))
#' @export
write_contributions <- function(study, file, ...) {
  check_string(file, "file")
  ending <- tolower(tools::file_ext(file))
  if (!ending %in% c("csv", "sqlite", "parquet")) {
    stop_input(
      "`file` must end in .csv, .sqlite or .parquet.", paste0("Given: \"", file, "\".")
    )
  }
  given <- list(...)
  usual <- formals(contributions)
  usual <- lapply(usual[setdiff(names(usual), c("study", "..."))], eval)
  if (length(given) && (is.null(names(given)) || !all(nzchar(names(given))))) {
    check_no_dots(..., .verb = "write_contributions")
  }
  usual[names(given)] <- given
  plan <- do.call(plan_contributions, c(list(study), usual))
  if (ending == "parquet") {
    rlang::check_installed("nanoparquet", "to write Parquet files")
    return(write_parts(plan, file))
  }
  write_whole(file, function(path) {
    if (ending == "csv") append_csv(plan, path) else append_sqlite(plan, path)
  })
}

append_csv <- function(plan, path) {
  first <- TRUE
  each_contributions(plan, function(part) {
    data.table::fwrite(no_formulas(part$table), path, append = !first, na = "")
    first <<- FALSE
  })
}

append_sqlite <- function(plan, path) {
  con <- DBI::dbConnect(RSQLite::SQLite(), path)
  on.exit(DBI::dbDisconnect(con), add = TRUE)
  each_contributions(plan, function(part) {
    DBI::dbWriteTable(con, "contributions", part$table, append = TRUE)
  })
}

# A folder, made beside its place and put there when all parts are written.
write_parts <- function(plan, file) {
  if (file.exists(file)) {
    stop_input(
      paste0("\"", file, "\" exists already."), todo = "Name another folder, or remove it."
    )
  }
  beside <- tempfile(paste0(".", basename(file), "-"), dirname(file))
  if (!dir.create(beside, showWarnings = FALSE)) {
    stop_input(paste0("The folder \"", dirname(file), "\" cannot be written to."))
  }
  on.exit(unlink(beside, recursive = TRUE), add = TRUE)
  number <- 0
  each_contributions(plan, function(part) {
    number <<- number + 1
    nanoparquet::write_parquet(
      part$table, file.path(beside, sprintf("part-%05d.parquet", number))
    )
  })
  if (!file.rename(beside, file)) {
    stop_input(paste0("The folder \"", file, "\" cannot be put in its place."))
  }
  invisible(file)
}
