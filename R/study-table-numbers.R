# Text that is a number, and text that is none: what all readers of tables go by.

missing_words <- c(
  "", "NA", "N/A", "n/a", "#N/A", "null", "NULL", "NaN", "nan", ".", "-"
)

yes_words <- c("true", "t", "yes", "y", "1")

no_words <- c("false", "f", "no", "n", "0")

what_of <- function(name) {
  if (file.exists(name)) paste0("file \"", name, "\"") else sub("^the ", "", name)
}

# Numbers that came as text: with a decimal comma, thousands marks, or whole ones of up to 15
# digits. Leading zeros and longer ones are codes, and stay text. -> list(x, decimal, mark: what
# was guessed)
plain_number <- function(x, delimiter, asked = list()) {
  seen <- x[!is.na(x)]
  as_text <- list(x = x)
  if (!length(seen)) return(as_text)
  whole <- "^[+-]?[1-9][0-9]{0,14}$|^0$"
  if (all(grepl(whole, utils::head(seen, 100))) && all(grepl(whole, seen))) {
    return(list(x = as.double(x)))
  }
  of_numbers <- "^[+-]?[0-9.,' \u00a0eE+-]+$"
  if (!all(grepl(of_numbers, utils::head(seen, 100))) || !all(grepl(of_numbers, seen)) ||
      !any(grepl("[0-9]", seen))) {
    return(as_text)
  }
  if (any(grepl("^[+-]?0[0-9]", seen))) return(as_text)
  commas <- is.null(asked$decimal) && is.null(asked$thousands) && delimiter != ","
  if (commas && any(grepl(",", seen, fixed = TRUE)) &&
      all(grepl("^[+-]?[0-9]+(,[0-9]+)?([eE][+-]?[0-9]+)?$", seen))) {
    return(list(x = as.double(chartr(",", ".", x)), decimal = ","))
  }
  marks <- find_marks(seen, asked)
  if (is.null(marks)) return(as_text)
  y <- if (nzchar(marks$thousands)) gsub(marks$thousands, "", x, fixed = TRUE) else x
  y <- gsub("\u00a0", "", y, fixed = TRUE)
  number <- suppressWarnings(as.double(
    if (marks$decimal == ",") chartr(",", ".", y) else y
  ))
  if (any(is.na(number) & !is.na(x))) return(as_text)
  list(
    x = number, decimal = marks$decimal,
    mark = if (nzchar(marks$thousands) && is.null(asked$thousands)) {
      paste0("the thousands mark \"", marks$thousands, "\"")
    }
  )
}

# Which marks leave no doubt: a number with two groups of thousands, or with a thousands and a
# decimal mark; or those that are stated.
find_marks <- function(seen, asked) {
  if (!is.null(asked$thousands) || !is.null(asked$decimal)) {
    return(list(
      decimal = if (is.null(asked$decimal)) {
        if (identical(asked$thousands, ".")) "," else "."
      } else {
        asked$decimal
      },
      thousands = if (is.null(asked$thousands)) "" else asked$thousands
    ))
  }
  seen <- gsub("\u00a0", " ", seen, fixed = TRUE)
  candidates <- list(
    c(",", "."), c(".", ","), c(" ", "."), c(" ", ","), c("'", "."), c("'", ",")
  )
  for (marks in candidates) {
    t <- paste0("[", marks[1], "]")
    d <- paste0("[", marks[2], "]")
    whole <- paste0("[0-9]{1,3}(", t, "[0-9]{3})*|[0-9]+")
    fits <- grepl(paste0("^[+-]?(", whole, ")(", d, "[0-9]+)?$"), seen)
    sure <- grepl(paste0("^[+-]?[0-9]{1,3}(", t, "[0-9]{3}){2,}"), seen) |
      grepl(paste0("^[+-]?[0-9]{1,3}(", t, "[0-9]{3})+", d, "[0-9]+$"), seen) |
      (marks[1] %in% c(" ", "'") & grepl(paste0("[0-9]", t, "[0-9]{3}"), seen))
    if (all(fits) && any(sure)) return(list(decimal = marks[2], thousands = marks[1]))
  }
  NULL
}
