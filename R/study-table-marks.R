# Words among numbers. One "k.A." in a column of numbers makes it text, and a predictor is lost
# without a word. A column of numbers with a few foreign words is told by itself; words that can
# only stand for a gap are taken as gaps, others are named and left; what is asked is done.

# Words that stand for a gap wherever they are met among numbers, in lower case.
gap_words <- c(
  "?", "??", "*", "--", "---", "_", "k.a.", "k. a.", "ka", "n/a", "n.a.", "n. a.", "na",
  "nan", "#n/a", "null", "none", "nil", "unknown", "unk", "not known", "not measured",
  "not available", "not recorded", "not done", "not applicable", "missing", "no data",
  "nd", "n.d.", "nm", "n.m.", "unbekannt", "fehlt", "fehlend", "keine angabe", "inconnu",
  "manquant", "desconocido", "#value!", "#ref!", "#div/0!", "#num!", "#name?"
)

# Marks that the user states: for all columns, or by column. -> list(all, by: list by column)
read_marks <- function(missing, arg = "missing") {
  if (is.null(missing)) return(list(all = character(), by = list()))
  if (is.list(missing) && identical(names(missing), c("all", "by"))) {
    return(c(missing, list(anywhere = TRUE)))
  }
  if (is.list(missing) || !is.null(names(missing))) {
    by <- lapply(as.list(missing), function(x) trimws(as.character(unlist(x))))
    if (is.null(names(by)) || !all(nzchar(names(by)))) {
      stop_input(
        paste0("`", arg, "` as a list must be named by columns."),
        todo = paste0(
          "Write missing = list(temperature = c(\"?\", \"-99\")), or a vector for all ",
          "columns."
        )
      )
    }
    return(list(all = character(), by = by))
  }
  if (!is.character(missing) && !is.numeric(missing)) {
    stop_input(
      paste0("`", arg, "` must be the marks that stand for a gap, as text or numbers."),
      paste0("Given: ", describe_value(missing), ".")
    )
  }
  list(all = trimws(as.character(missing)), by = list())
}

# The columns with the stated marks as gaps.
apply_marks <- function(table, marks, name) {
  strange <- setdiff(names(marks$by), names(table))
  # a study file names them once for several tables
  if (length(strange) && !isTRUE(marks$anywhere)) {
    stop_input(
      paste0(
        "`missing` names what is no column of the ", what_of(name), ": ",
        quote_some(strange), "."
      )
    )
  }
  if (!length(marks$all) && !length(marks$by)) return(table)
  for (p in names(table)) {
    asked <- c(marks$all, marks$by[[p]])
    if (length(asked)) table[[p]] <- with_gaps(table[[p]], asked)
  }
  table
}

with_gaps <- function(x, marks) {
  if (is.factor(x)) {
    levels(x)[trimws(levels(x)) %in% marks] <- NA
    return(x)
  }
  if (is.character(x)) {
    x[trimws(x) %in% marks] <- NA
    return(x)
  }
  if (!is.numeric(x)) return(x)
  number <- suppressWarnings(as.double(marks))
  x[x %in% number[!is.na(number)]] <- NA
  x
}

# --- numbers with foreign words ----------------------------------------------------------------

# Text that is numbers but for a few words. -> list(x: the column, or NULL where it is none;
# words: foreign ones with their counts; safe: can they only be gaps?)
settle_foreign <- function(x, delimiter, asked) {
  seen <- !is.na(x)
  like <- is_number_text(x[seen])
  count <- sum(like)
  # codes with leading zeros are text, and so is what holds hardly any numbers
  if (count < 10 || mean(like) < 0.5 || any(grepl("^[+-]?0[0-9]", x[seen][like]))) {
    return(NULL)
  }
  words <- sort(table(x[seen][!like]), decreasing = TRUE)
  safe <- all(tolower(trimws(names(words))) %in% c(gap_words, tolower(missing_words)))
  if (!safe && (mean(like) < 0.9 || length(words) > 20)) return(NULL)
  y <- trimws(x)
  y[seen][!like] <- NA
  number <- text_to_numbers(y, delimiter, asked)
  if (is.character(number)) return(NULL)
  list(x = number, words = words, safe = safe)
}

# Text that is numbers throughout, or the text as it is: more digits than numbers keep stay text.
text_to_numbers <- function(x, delimiter, asked) {
  seen <- x[!is.na(x)]
  if (any(nchar(gsub("[^0-9]", "", sub("[eE].*", "", seen))) > 15)) return(x)
  number <- if (is.null(asked$decimal) || asked$decimal == ".") suppressWarnings(as.double(x))
  if (!is.null(number) && !any(is.na(number) & !is.na(x))) return(number)
  plain_number(x, delimiter, asked)$x
}

is_number_text <- function(x) {
  grepl("^[+-]?([0-9][0-9.,' \u00a0]*|[.,][0-9]+)([eE][+-]?[0-9]+)?$", trimws(x))
}

# "k.A." (31 rows), "?" (2)
say_words <- function(words, most = 4) {
  shown <- utils::head(words, most)
  paste0(
    paste0(
      "\"", names(shown), "\" (", shown, ifelse(shown == 1, " row)", " rows)"),
      collapse = ", "
    ),
    if (length(words) > most) paste0(" and ", length(words) - most, " more")
  )
}

# Columns of text brought to numbers where foreign words can only be gaps, and named where not.
settle_words <- function(
    table, name, delimiter = ",", asked = list(), typed = character()) {
  for (p in setdiff(names(table)[vapply(table, is.character, NA)], typed)) {
    found <- settle_foreign(table[[p]], delimiter, asked)
    if (is.null(found)) next
    if (found$safe) table[[p]] <- found$x
    if (!length(found$words)) next
    if (found$safe) {
      warn_dreher(
        "rows",
        paste0(
          "In \"", p, "\" of ", name, " ", say_words(found$words),
          " stands among numbers."
        ),
        paste0(
          "It was taken as a missing value. Say missing = to name such marks, or ",
          "type text where they are values."
        )
      )
    } else {
      warn_dreher(
        "rows",
        paste0(
          "\"", p, "\" of ", name, " holds numbers, but for ", say_words(found$words),
          ", and was read as text."
        ),
        paste0(
          "Say missing = if these stand for gaps, or write numbers; as text every ",
          "number is ", "a level of its own."
        )
      )
    }
  }
  table
}

# --- stated types ------------------------------------------------------------------------------

stated_types <- c("number", "whole number", "classes", "text", "yes/no", "date", "time")

read_types <- function(types) {
  if (is.null(types)) return(character())
  types <- unlist(types)
  if (!is.character(types) || is.null(names(types)) || !all(nzchar(names(types)))) {
    stop_input(
      "`types` must be text, named by columns.",
      todo = paste0("Types are ", list_words(stated_types), ".")
    )
  }
  check_choice(unname(types), stated_types, "types", several = TRUE)
  types
}

words_of_types <- function(types) names(types)[types %in% c("text", "classes", "yes/no")]

# Columns as the types that are stated; a column that does not fit is refused with its rows.
apply_types <- function(table, types, name) {
  for (p in intersect(names(types), names(table))) {
    table[[p]] <- as_stated(table[[p]], types[[p]], p, name)
  }
  table
}

as_stated <- function(x, type, p, name) {
  if (type %in% c("classes", "text")) {
    return(if (is.factor(x) || is.character(x)) x else as.character(x))
  }
  if (type %in% c("number", "whole number")) {
    if (is_time(x)) stop_type(p, type, name, which(!is.na(x)), x)
    y <- if (is.numeric(x) && !is.factor(x)) x else plain_number(as.character(x), ",")$x
    if (is.character(y)) y <- suppressWarnings(as.double(trimws(y)))
    bad <- which(is.na(y) & !is.na(x))
    if (type == "whole number") bad <- c(bad, which(y != round(y)))
    if (length(bad)) stop_type(p, type, name, sort(bad), x)
    return(y)
  }
  if (type == "yes/no") {
    text <- tolower(trimws(as.character(x)))
    bad <- which(!is.na(x) & !text %in% c(yes_words, no_words))
    if (length(bad)) stop_type(p, type, name, bad, x)
    # kept as they are: models know their words
    return(x)
  }
  if (!is_time(x)) stop_type(p, type, name, which(!is.na(x)), x)
  x
}

stop_type <- function(p, type, name, rows, x) {
  said <- unique(as.character(x[rows]))
  stop_input(
    paste0(
      "Column \"", p, "\" of ", name, " is said to be of type ", type, ", and ",
      length(rows), if (length(rows) == 1) " row does" else " rows do", " not fit."
    ),
    paste0(
      "The first is row ", rows[1], "; they hold ", quote_some(said), "."
    ),
    "Name marks of gaps by `missing`, correct the values, or change the type."
  )
}
