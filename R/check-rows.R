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
  if (identical(st$arranged, "training rows") && share == 1) {
    return(finding(
      about_rows, "training rows", "note", known$count, "rows",
      "No rows are held out, as was asked: the models are questioned on their training rows.",
      "Scores on them are optimistic; hold rows out where there are enough."
    ))
  }
  finding(
    about_rows, "training rows", if (share >= 0.1) "severe" else "doubt", known$count, "rows",
    paste0(
      if (share == 1) "All " else paste0(format_number(known$count), " of the "),
      format_number(length(codes$data)), " rows of `data` are training rows."
    ),
    "Take them out of `data`: scores on rows the models have learnt are optimistic."
  )
}
