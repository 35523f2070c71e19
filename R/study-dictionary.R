#' Read what is known of the predictors
#'
#' The data dictionary: one row per predictor. Only `predictor` is required.
#'
#' | column | meaning |
#' |---|---|
#' | `predictor` | the column's name in the data |
#' | `label` | how figures and tables call it |
#' | `family` | predictors that belong together carry the same word |
#' | `unit` | the unit of its values |
#' | `cost` | what it costs to collect, a number of 0 or more in any unit |
#' | `use` | `free` (default), `keep` or `leave_out` |
#' | `sensitive` | TRUE where its use is delicate |
#' | `known` | `before` the target (default) or `after` it: what is known after is a leak |
#' | `type` | as what a study file's rows are read, or refused: see `types` of [read_rows()] |
#' | `missing` | marks that stand for a gap in a study file's rows, separated by commas |
#' | `values` | what [draft_dictionary()] saw in the data; not read |
#'
#' @param file A file or connection as [read_rows()] takes them, or a data frame.
#' @param ... Must be empty.
#' @param query For a connection: a query that reads, as in [read_rows()], or the name of a table.
#' @return A data frame with the first eight columns, one row per predictor.
#' @section Errors: `dreher_error_input`: no column `predictor`; or one message with all faults:
#'   unknown columns, predictors named twice or not at all, values that a column does not take, a
#'   predictor to be kept that is known only after the target.
#' @examples
#' read_dictionary(data.frame(predictor = "peak_temp", label = "Peak temperature", unit = "deg C"))
#' @export
read_dictionary <- function(file, ..., query = NULL) {
  check_no_dots(..., .verb = "read_dictionary")
  if (is.data.frame(file) && !is.null(query)) {
    stop_input("`query` is for a connection to a database.", todo = "Leave it out.")
  }
  settle_dictionary(file, query)
}

# columns: those that the dictionary may name; NULL: any.
settle_dictionary <- function(file, query = NULL, columns = NULL) {
  d <- if (is.data.frame(file)) {
    as.data.frame(file)
  } else {
    as.data.frame(read_rows(file, query = query, quiet = TRUE))
  }
  if (!"predictor" %in% names(d)) {
    stop_input(
      "The dictionary has no column \"predictor\".",
      paste0("Columns there: ", quote_some(names(d)), ".")
    )
  }
  text <- function(name, default) {
    x <- if (is.null(d[[name]])) {
      rep(NA_character_, nrow(d))
    } else {
      trimws(as.character(d[[name]]))
    }
    ifelse(is.na(x) | !nzchar(x), default, x)
  }
  out <- data.frame(
    predictor = names_of_dictionary(d$predictor, columns),
    label = text("label", as.character(d$predictor)),
    family = text("family", NA),
    unit = text("unit", NA),
    cost = suppressWarnings(as.double(text("cost", NA))),
    use = text("use", "free"),
    sensitive = tolower(text("sensitive", "FALSE")) %in% yes_words,
    known = text("known", "before")
  )
  faults <- dictionary_faults(d, out, text)
  if (length(faults)) {
    gone <- if (!is.null(columns)) setdiff(out$predictor, c(columns, ""))
    if (length(gone)) {
      faults <- c(
        faults, paste0("it names what is no column of the data: ", quote_some(gone), ".")
      )
    }
    stop_input(
      paste0(
        "The dictionary has ", if (length(faults) == 1) "a fault: " else "faults:\n",
        paste0(if (length(faults) > 1) "- ", faults, collapse = "\n")
      ),
      todo = "See ?read_dictionary for what each column may hold."
    )
  }
  out
}

dictionary_columns <- c(
  "predictor", "label", "family", "unit", "cost", "use", "sensitive", "known", "type",
  "missing", "values"
)

# How the dictionary says that columns are read. -> list(types: named text, missing: list by column)
reading_of_dictionary <- function(file) {
  d <- as.data.frame(read_rows(file, quiet = TRUE))
  of <- function(column) {
    x <- trimws(as.character(d[[column]]))
    known <- which(!is.na(x) & nzchar(x))
    stats::setNames(x[known], trimws(as.character(d$predictor))[known])
  }
  marks <- lapply(strsplit(of("missing"), ",", fixed = TRUE), trimws)
  list(types = of("type"), missing = marks)
}

# All that is wrong with it, a sentence each.
# Blanks around a name count where a column of the data has them.
names_of_dictionary <- function(x, columns) {
  x <- as.character(x)
  ifelse(x %in% columns, x, trimws(x))
}

dictionary_faults <- function(d, out, text) {
  strange <- setdiff(names(d), dictionary_columns)
  twice <- unique(out$predictor[duplicated(out$predictor)])
  cost <- text("cost", NA)
  held <- function(column, wrong, todo) {
    if (length(wrong)) {
      paste0("column \"", column, "\" holds ", quote_some(unique(wrong)), ": ", todo, ".")
    }
  }
  kept <- out$predictor[out$use == "keep" & out$known == "after"]
  c(
    if (length(strange)) {
      paste0(
        "it has unknown columns: ", quote_some(strange), ". Known are ",
        quote_some(dictionary_columns, length(dictionary_columns)), "."
      )
    },
    if (length(twice)) paste0("it names predictors twice: ", quote_some(twice), "."),
    if (any(is.na(out$predictor) | !nzchar(out$predictor))) {
      paste0(
        "row ", which(is.na(out$predictor) | !nzchar(out$predictor))[1],
        " names no predictor."
      )
    },
    held(
      "use",
      setdiff(out$use, c("free", "keep", "leave_out")),
      "write free, keep or leave_out"
    ),
    held(
      "type", setdiff(text("type", "text"), stated_types),
      paste("write", paste(stated_types, collapse = ", "))
    ),
    held("known", setdiff(out$known, c("before", "after")), "write before or after"),
    held(
      "cost",
      cost[!is.na(cost) & (is.na(out$cost) | out$cost < 0 | !is.finite(out$cost))],
      "write numbers of 0 or more"
    ),
    held(
      "sensitive",
      setdiff(tolower(text("sensitive", "FALSE")), c(yes_words, no_words, "na")),
      "write TRUE or FALSE"
    ),
    if (length(kept)) {
      paste0(
        quote_some(kept), if (length(kept) == 1) " is" else " are",
        " to be kept, and known only after the target: such a column is a leak."
      )
    }
  )
}

fill_dictionary <- function(dictionary, predictors, columns) {
  d <- if (!is.null(dictionary)) {
    settle_dictionary(dictionary, columns = c(columns, predictors))
  }
  strange <- setdiff(d$predictor, c(columns, predictors))
  if (length(strange)) {
    warn_dreher(
      "dictionary",
      paste0("The dictionary names what is no column of `data`: ", quote_some(strange), "."),
      "Are the names written as in the data?"
    )
  }
  left <- setdiff(predictors, d$predictor)
  rbind(d, if (length(left)) settle_dictionary(data.frame(predictor = left), columns = left))
}

labels_of <- function(st, predictors) {
  d <- st$dictionary
  at <- match(predictors, d$predictor)
  label <- d$label[at]
  mark <- ifelse(d$sensitive[at] %in% TRUE, " (sensitive)", "")
  # families and shared columns go by their own name
  stats::setNames(
    printable(paste0(ifelse(is.na(label), predictors, label), mark)), predictors
  )
}

# --- a starter ---------------------------------------------------------------------------------

#' Draft a dictionary from the data
#'
#' Writes a starter for [read_dictionary()]: one row per column, with what the data and the names
#' suggest. Guesses are there to be corrected.
#'
#' @param data A data frame.
#' @param ... Must be empty.
#' @param target Name of the target, which is left out.
#' @param file Path of a CSV file to write, or `NULL`. An existing file is not replaced.
#' @return A data frame with the columns of [read_dictionary()] and `type` (`number`, `whole
#'   number`, `classes`, `text`, `yes/no`, `date`, `time`) and `values` (range, or the levels).
#'   `label` is the name in words; `family` the first word of names that share it; `unit` what the
#'   name ends in, where it is a unit; `sensitive` is TRUE for names of attributes that are
#'   commonly protected (age, sex, origin and the like).
#' @section Errors: `data` no data frame; no column `target`; a file that exists.
#' @examples
#' draft_dictionary(demo_kiln()$train, target = "strength")
#' @export
draft_dictionary <- function(data, ..., target = NULL, file = NULL) {
  check_no_dots(..., .verb = "draft_dictionary")
  data <- check_rows(data, "data")
  if (!is.null(target)) {
    check_columns(data, check_string(target, "target"), "data", "The target")
  }
  if (!is.null(file)) {
    check_string(file, "file")
    if (file.exists(file)) {
      stop_input(
        paste0("The file \"", file, "\" exists."),
        todo = "Name another one: what was filled in would be lost."
      )
    }
  }
  columns <- setdiff(names(data), target)
  if (!length(columns)) stop_input("`data` has no column but the target.")
  words <- lapply(columns, words_of_name)
  out <- data.frame(
    predictor = columns,
    label = vapply(words, in_label, ""),
    family = families_of(words),
    unit = vapply(words, unit_of_name, ""),
    cost = NA_real_,
    use = "free",
    sensitive = vapply(words, sensitive_name, NA),
    known = "before",
    type = vapply(data[columns], type_of_values, ""),
    values = vapply(data[columns], values_in_words, ""),
    row.names = NULL
  )
  if (!is.null(file)) {
    write_whole(file, function(path) {
      data.table::fwrite(out, path, na = "", quote = "auto")
    })
  }
  out
}

# fired.peakTemp_2 -> fired peak temp 2
words_of_name <- function(name) {
  spaced <- gsub("([a-z0-9])([A-Z])", "\\1 \\2", name)
  found <- strsplit(spaced, "[^[:alnum:]]+")[[1]]
  found <- found[nzchar(found)]
  if (length(found)) found else name
}

in_label <- function(words) {
  text <- paste(words, collapse = " ")
  if (!any(words != toupper(words))) return(text)
  lower <- ifelse(words == toupper(words) & nchar(words) > 1, words, tolower(words))
  text <- paste(lower, collapse = " ")
  paste0(toupper(substr(text, 1, 1)), substring(text, 2))
}

# The first word, where others begin with it and go on; else the letters before a number.
families_of <- function(words) {
  first <- vapply(words, function(w) tolower(w[1]), "")
  stem <- sub("[0-9]+$", "", first)
  first <- ifelse(lengths(words) == 1 & stem != first & nzchar(stem), stem, first)
  several <- lengths(words) > 1 | stem != vapply(words, function(w) tolower(w[1]), "")
  shared <- table(first[several])
  ifelse(several & first %in% names(shared)[shared >= 2], first, "")
}

unit_of_name <- function(words) {
  units <- c(
    kg = "kg", g = "g", mg = "mg", mm = "mm", cm = "cm", m = "m", km = "km", s = "s",
    sec = "s", secs = "s", seconds = "s", min = "min", mins = "min", minutes = "min",
    h = "h", hr = "h", hrs = "h", hours = "h", day = "days", days = "days",
    week = "weeks", weeks = "weeks", months = "months", years = "years", pct = "%",
    percent = "%", eur = "EUR", usd = "USD", hz = "Hz", kwh = "kWh", w = "W", kw = "kW",
    ml = "ml", l = "l", celsius = "deg C"
  )
  last <- tolower(words[length(words)])
  if (length(words) > 1 && last %in% names(units)) units[[last]] else ""
}

sensitive_name <- function(words) {
  any(
    tolower(words) %in% c(
      "sex", "gender", "age", "race", "ethnicity", "ethnic", "nationality", "religion",
      "origin", "citizenship", "disability", "disabled", "pregnant", "orientation",
      "marital"
    )
  )
}

type_of_values <- function(x) {
  if (inherits(x, "Date")) return("date")
  if (inherits(x, c("POSIXct", "difftime"))) return("time")
  if (is.logical(x)) return("yes/no")
  if (is.factor(x)) return("classes")
  if (is.character(x)) return("text")
  known <- x[!is.na(x)]
  if (all(known == round(known))) "whole number" else "number"
}

values_in_words <- function(x) {
  known <- x[!is.na(x)]
  if (!length(known)) return("none known")
  if (is.numeric(x) && !is.factor(x)) {
    return(paste(
      short_number(range(known), 6), collapse = " to "
    ))
  }
  if (is_time(x)) return(paste(format(range(known)), collapse = " to "))
  found <- unique(as.character(known))
  if (length(found) > 6) return(paste(length(found), "levels"))
  paste(sort_text(found), collapse = ", ")
}
