# Columns of text brought to what they say: letters, numbers with marks of their own, dates, times.

# -> list(table, comma: was a decimal comma met; guesses)
settle_columns <- function(table, file, delimiter, asked, encoding, types = character()) {
  text <- names(table)[vapply(table, is.character, NA)]
  doubled <- function(x) gsub("\"\"", "\"", x, fixed = TRUE)
  latin <- identical(encoding, "latin1")
  odd <- !all(validUTF8(names(table))) || !all(vapply(table[text], function(x) {
    all(is.na(x) | validUTF8(x))
  }, NA))
  if (odd && !latin) {
    warn_dreher(
      "rows",
      paste0("The file \"", file, "\" is not UTF-8; it was read as Latin-1."),
      "Check letters with accents, or write the file as UTF-8."
    )
  }
  names(table) <- trimws(doubled(as_utf8(names(table))))
  text <- names(table)[vapply(table, is.character, NA)]
  # what is said to be words stays as it is written
  words <- words_of_types(types)
  comma <- FALSE
  guesses <- character()
  for (p in setdiff(text, words)) {
    x <- doubled(as_utf8(table[[p]]))
    number <- plain_number(x, delimiter, asked)
    if (!is.null(number$mark)) {
      guesses <- c(guesses, paste0("numbers of \"", p, "\" have ", number$mark))
    }
    comma <- comma || identical(number$decimal, ",")
    table[[p]] <- number$x
  }
  table <- settle_words(
    table, paste0("\"", basename(file), "\""), delimiter, asked, typed = words
  )
  text <- setdiff(names(table)[vapply(table, is.character, NA)], words)
  times <- settle_times(table, text)
  table <- times$table
  for (i in which(vapply(table, inherits, NA, "IDate"))) {
    table[[i]] <- structure(as.double(unclass(table[[i]])), class = "Date")
  }
  warn_columns(table, file)
  list(table = table, comma = comma, guesses = c(guesses, times$guesses))
}

# Windows-1252 holds Latin-1 and what Windows writes between its letters.
as_utf8 <- function(x) {
  odd <- !is.na(x) & !validUTF8(x)
  if (any(odd)) {
    wide <- iconv(x[odd], "CP1252", "UTF-8")
    x[odd] <- ifelse(is.na(wide), iconv(x[odd], "latin1", "UTF-8"), wide)
  }
  x
}

# --- dates and times ---------------------------------------------------------------------------

date_pattern <- paste0(
  "^([0-9]{4}-[0-9]{1,2}-[0-9]{1,2}|[0-9]{1,2}[./][0-9]{1,2}[./][0-9]{4})",
  "([ T][0-9]{1,2}:[0-9]{2}(:[0-9]{2}([.][0-9]+)?)?Z?)?$"
)

# Columns of text that are dates or times throughout.
settle_times <- function(table, columns) {
  guesses <- character()
  for (p in columns) {
    seen <- table[[p]][!is.na(table[[p]])]
    if (!length(seen)) next
    some <- utils::head(seen, 50)
    if (all(grepl("^([01]?[0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9])?$", some)) &&
        all(grepl("^([01]?[0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9])?$", seen))) {
      table[[p]] <- hours_of(table[[p]])
      guesses <- c(guesses, paste0("\"", p, "\" is a time of day, in hours"))
    } else if (all(grepl(date_pattern, some)) && all(grepl(date_pattern, seen))) {
      read <- read_dates(table[[p]], seen, p)
      table[[p]] <- read$x
      guesses <- c(guesses, read$guess)
    }
  }
  list(table = table, guesses = guesses)
}

hours_of <- function(x) {
  parts <- strsplit(x, ":", fixed = TRUE)
  hours <- vapply(parts, function(p) {
    p <- as.double(p)
    p[1] + p[2] / 60 + if (length(p) > 2) p[3] / 3600 else 0
  }, 0)
  as.difftime(hours, units = "hours")
}

read_dates <- function(x, seen, p) {
  date <- sub("[ T].*$", "", seen)
  order <- order_of_dates(date)
  if (is.null(order)) {
    warn_dreher(
      "rows",
      paste0(
        "The dates of \"", p, "\" were left as text: day and month could be either way round."
      ),
      "Write dates as year-month-day."
    )
    return(list(x = x, guess = NULL))
  }
  with_time <- any(grepl(":", seen, fixed = TRUE))
  text <- sub("Z$", "", chartr("T", " ", x))
  if (with_time) {
    seconds <- ifelse(grepl(":[0-9]{2}:[0-9]{2}", text), text, paste0(
      text, ifelse(grepl(":", text, fixed = TRUE), ":00", " 00:00:00")
    ))
    out <- as.POSIXct(strptime(seconds, paste(order, "%H:%M:%OS"), tz = "UTC"))
  } else {
    out <- as.Date(text, format = order)
  }
  if (any(is.na(out) & !is.na(x))) return(list(x = x, guess = NULL))
  list(x = out, guess = if (order != "%Y-%m-%d" || with_time) {
    words <- c(
      "%Y-%m-%d" = "year-month-day", "%d.%m.%Y" = "day.month.year",
      "%d/%m/%Y" = "day/month/year", "%m/%d/%Y" = "month/day/year"
    )
    paste0("\"", p, "\" is ", words[[order]], if (with_time) " with time, UTC")
  })
}

order_of_dates <- function(date) {
  if (all(grepl("-", date, fixed = TRUE))) return("%Y-%m-%d")
  if (all(grepl(".", date, fixed = TRUE))) return("%d.%m.%Y")
  if (!all(grepl("/", date, fixed = TRUE))) return(NULL)
  first <- as.integer(sub("/.*", "", date))
  second <- as.integer(sub("^[0-9]+/([0-9]+)/.*", "\\1", date))
  if (any(first > 12) && !any(second > 12)) return("%d/%m/%Y")
  if (any(second > 12) && !any(first > 12)) return("%m/%d/%Y")
  NULL
}

warn_columns <- function(table, file) {
  among <- function(holds) {
    names(table)[vapply(table, function(x) holds(x, x[!is.na(x)]), NA)]
  }
  commas <- among(function(x, seen) {
    is.character(x) && any(grepl(",", seen, fixed = TRUE)) &&
      all(grepl("^[+-]?[0-9]+([.,][0-9]+)*$", seen))
  })
  if (length(commas)) {
    warn_dreher(
      "rows",
      paste0(
        "Numbers with commas in ", quote_some(commas), " of \"", file,
        "\" were left as text: the comma could part decimals or thousands."
      ),
      "Say decimal = \",\" or thousands = \",\", or write a decimal point and no other sign."
    )
  }
  long <- among(function(x, seen) {
    is.double(x) && !is_time(x) && any(abs(seen) > 2^53) && all(seen == round(seen))
  })
  if (length(long)) {
    warn_dreher(
      "rows",
      paste0(
        "Column ", quote_some(long), " of \"", file,
        "\" has more digits than numbers keep."
      ),
      "If it is an identifier, write it in quotes with a letter before it."
    )
  }
}
