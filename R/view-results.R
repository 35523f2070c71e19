#' Write results to a file
#'
#' Writes the table behind a result as CSV, JSON or a spreadsheet, with what is needed to read it:
#' metric, direction, level, seed, numbers of rows and repeats.
#'
#' @param x A [ranking], or a result of [score_models()], [check_data()], [find_drift()],
#'   [stability()],
#'   [agreement()], [noise_floor()], [find_twins()], [reduce_predictors()], [choose_set()],
#'   [compare_sets()], [confirm_set()], [effect_curves()], [contributions()], [interactions()],
#'   [compare_slices()], [similar_rows()], [prototype_rows()], [smallest_change()] or
#'   [local_rule()].
#' @param file Path; its ending (`.csv`, `.json` or `.xlsx`) says the format. Spreadsheets are
#'   written by package writexl. Existing files are replaced.
#' @param ... Must be empty.
#' @return `file`, invisibly. CSV: one table, the circumstances repeated in columns; text
#'   that begins with `=`, `+`, `-` or `@` has an apostrophe before it, so that no spreadsheet takes
#'   it for a formula. JSON: an
#'   object with `about` (the circumstances) and `rows` (the table, one object per row).
#'   Spreadsheet: the sheets `rows` and `about`, in the order of the table's rows and columns.
#' @section Errors: An ending that is not known; a folder that does not exist or may not be
#'   written to.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' rk <- rank_permutation(study(fit, kiln$holdout, "strength", train = kiln$train))
#' write_results(rk, tempfile(fileext = ".csv"))
#' @export
write_results <- function(x, file, ...) {
  check_no_dots(..., .verb = "write_results")
  if (!inherits(x, result_classes)) {
    stop_input(
      "`x` must be a ranking or another result of dreher.",
      paste0("Given: ", class(x)[1], ".")
    )
  }
  save_table(x, file)
}

# Also of tables that are no result of their own.
save_table <- function(x, file) {
  check_string(file, "file")
  ending <- tolower(tools::file_ext(file))
  if (!ending %in% table_formats) {
    stop_input(
      paste0("`file` must end in .csv, .json or .xlsx."), paste0("Given: \"", file, "\".")
    )
  }
  if (ending == "xlsx") rlang::check_installed("writexl", "to write spreadsheets")
  refuse_target(file)
  table <- as.data.frame(x)
  about <- circumstances(x)
  whole <- function() cbind(table, with_settings(table, about, detail(x, "settings")))
  if (ending == "json") {
    return(write_text(
      jsonlite::toJSON(
        list(about = about, rows = table), auto_unbox = TRUE, digits = NA, na = "null",
        pretty = TRUE
      ),
      file
    ))
  }
  write_whole(file, function(path) {
    if (ending == "csv") {
      data.table::fwrite(no_formulas(whole()), path, na = "")
    } else {
      writexl::write_xlsx(list(rows = whole(), about = about_sheet(about)), path)
    }
  })
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

table_formats <- c("csv", "json", "xlsx")

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
    what = if (startsWith(class(x)[1], "dreher_")) sub("^dreher_", "", class(x)[1]),
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
