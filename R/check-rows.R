# Checks of rows: rows that stand more than once, within a table and in both.

check_repeated_rows <- function(table, st) {
  columns <- intersect(
    names(st$data), if (is.null(st$train)) names(st$data) else names(st$train)
  )
  codes <- if (is.null(st$store)) {
    tables <- list(data = st$data[columns])
    if (!is.null(st$train)) tables$train <- st$train[columns]
    stats::setNames(row_codes(tables), names(tables))
  } else {
    codes_by_column(st, columns)
  }
  pairs <- coincidence(table)
  within <- lapply(names(codes), function(t) {
    repeated_within(codes[[t]], pairs, if (t == "train") "training" else rows_word(st))
  })
  between <- if (!is.null(st$train)) repeated_between(codes, st)
  bind_findings(c(list(between), within))
}

# The same numbers for rows on disk, a column after the other, until all rows are told apart.
codes_by_column <- function(st, columns) {
  codes <- list(data = integer(count_whole(st)))
  if (!is.null(st$train)) codes$train <- integer(nrow(st$train))
  for (p in columns) {
    values <- list(whole_column(st, p)[[1]], st$train[[p]])
    tables <- Map(function(code, x) as_frame(list(code = code, x = x), length(code)), codes,
                  values[seq_along(codes)])
    codes <- stats::setNames(row_codes(tables), names(codes))
    if (!anyDuplicated(codes$data) && !any(codes$train %in% codes$data)) {
      if (!is.null(st$train)) codes$train <- -row_codes(list(st$train[columns]))[[1]]
      break
    }
  }
  codes
}

# Rows that are the same in all columns. Tables of few columns with few values repeat rows by
# themselves: told are three times as many as independent columns would repeat.
repeated_within <- function(codes, pairs, kind) {
  count <- sum(duplicated(codes))
  n <- length(codes)
  if (!count || count <= 3 * n * (1 - exp(-n * pairs / 2))) return(NULL)
  finding(
    about_rows, "repeated rows", "note", count, "rows",
    paste0(
      format_number(count), " of the ", format_number(n), " ", kind,
      if (count == 1) " rows repeats" else " rows repeat", " an earlier row in all columns."
    ),
    "Are they entered twice? Folds and bootstrap draws put copies on both sides."
  )
}

# The chance that two rows agree in all columns, were these independent.
coincidence <- function(table) {
  same <- vapply(c(table$columns, list(table$y)), function(column) {
    share <- tabulate(match(column$x, unique(column$x))) / length(column$x)
    sum(share^2)
  }, 0)
  exp(sum(log(same)))
}

# Holdout rows that are training rows, more than chance explains.
repeated_between <- function(codes, st) {
  known <- known_rows(codes$data, codes$train)
  if (!known$count || !known$beyond) return(NULL)
  share <- known$count / length(codes$data)
  finding(
    about_rows, "training rows", if (share >= 0.1) "severe" else "doubt", known$count, "rows",
    paste0(
      if (share == 1) "All " else paste0(format_number(known$count), " of the "),
      format_number(length(codes$data)), " rows of `data` are training rows."
    ),
    "Take them out of `data`: scores on rows the models have learnt are optimistic."
  )
}

# ---- rows that look like one unit -------------------------------------------------------------

# A column whose values stand in several rows each, within which other columns never change, looks
# like the name of a unit (a patient, a school) that was measured more than once. Told is the
# column with most of such others: two that do not give each other, or one number of eight values
# or more. Nothing is said where the study names its blocks.
check_clustered <- function(table, st) {
  found <- if (is.null(st$blocks)) find_unit(table)
  if (is.null(found)) return(no_findings())
  finding(
    about_rows,
    "clustered rows",
    "doubt",
    length(found$constant),
    "columns",
    paste0(
      "Rows of one value of ", quoted(found$unit),
      " look like one unit measured again: it has ", format_number(found$values),
      " values, and within each of them ", list_few(quoted(found$constant)),
      " never change", if (length(found$constant) == 1) "s", "."
    ),
    paste0(
      "If they belong together, name it: study(blocks = \"", found$unit, "\"), or blocks in ",
      "the study file. Without, rows of one unit are on both sides of a split, and ",
      "scores and intervals are too good."
    )
  )
}

# -> list(unit: the column, values: how many it has, largest: share of the rows of the most frequent
# one, constant: what never changes), or NULL
find_unit <- function(table) {
  values <- lapply(
    Filter(function(column) !column$time, table$columns),
    function(column) {
      list(
        number = column$number, code = sorted_codes(column$x),
        fractions = column$number && has_fractions(column$x)
      )
    }
  )
  if (length(values) > most_given) return(NULL)
  size <- vapply(values, function(v) max(0L, v$code, na.rm = TRUE), 1L)
  units <- names(values)[vapply(names(values), function(x) {
    may_be_unit(table$columns[[x]], values[[x]]$code, size[[x]])
  }, NA)]
  constant <- lapply(units, function(x) constant_within(values, size, x))
  best <- which.max(lengths(constant))
  if (!length(best) || !length(constant[[best]])) return(NULL)
  code <- values[[units[best]]]$code
  list(
    unit = units[best], values = size[[units[best]]],
    largest = max(tabulate(code)) / sum(!is.na(code)), constant = constant[[best]]
  )
}

has_fractions <- function(x) any(x != round(x), na.rm = TRUE)

# Numbers from 1 in the order of the values; NA stays.
sorted_codes <- function(x) match(x, sort(unique(x)))

# Text, levels or whole numbers, most of whose rows share their value with another row, in eight
# groups or more.
may_be_unit <- function(column, code, size) {
  if (column$ordered || size < 8) return(FALSE)
  if (column$number && has_fractions(column$x)) return(FALSE)
  rows <- tabulate(code, size)
  sum(rows) > length(code) / 2 && sum(rows[rows > 1]) >= 0.8 * sum(rows) &&
    sum(rows) >= 2 * size
}

# The columns that never change within the values of x; none where they are too few to say anything:
# other names of its levels, stretches of a number, and what one of the others gives do not count.
constant_within <- function(values, size, x) {
  code <- values[[x]]$code
  others <- setdiff(names(values)[size >= 2 & size <= size[[x]]], x)
  constant <- Filter(function(z) {
    one <- values[[z]]
    (size[[z]] < size[[x]] || one$fractions) && gives(code, one$code) &&
      !(values[[x]]$number && in_stretches(code, one$code, one$number))
  }, others)
  apart <- character()
  for (z in constant[order(-size[constant])]) {
    told <- vapply(apart[size[apart] < size[[x]]], function(a) {
      gives(values[[a]]$code, values[[z]]$code)
    }, NA)
    if (!any(told) && !(size[[z]] == size[[x]] && length(apart))) apart <- c(apart, z)
  }
  measured <- vapply(constant, function(z) values[[z]]$number && size[[z]] >= 8, NA)
  if (length(apart) >= 2 || any(measured)) constant else character()
}

# Along the values of x, does z rise or fall, or, of levels, go through each of its values once?
in_stretches <- function(x, z, number) {
  first <- !is.na(x) & !is.na(z) & !duplicated(x)
  steps <- diff(z[first][order(x[first])])
  if (number) return(all(steps >= 0) || all(steps <= 0))
  sum(steps != 0) == length(unique(z[first])) - 1
}
