# The rows as the checks see them: columns of the training and the holdout rows on top of each
# other, at most so many rows of each, drawn by seed. What is said of all rows (missing values,
# single values, repeated rows) is counted in all of them.
#
# table   columns: list of checked columns, by name; y: the target as a checked column; set: 1 for
#         training rows, 2 for holdout rows; n: rows in all, by set; sampled: are these fewer?
#         rows: the drawn rows of each set, NULL where there is none
# checked column   number: is it a number (or an ordered factor, a time)?; time; text; ordered;
#         of_time: "date", "time" or ""; x: the values, or the numbers of the levels; distinct:
#         how many of them; levels;
#         place: of what has an order, the rank of each value as a share of those known

most_checked_rows <- 3000L

check_table <- function(st, columns, seed = 1, most = most_checked_rows) {
  no_train <- is.null(st$train) || isTRUE(st$seen)
  n <- c(if (no_train) 0L else nrow(st$train), count_whole(st))
  at <- lapply(1:2, function(s) {
    if (n[s] <= most) return(seq_len(n[s]))
    sort(with_stream(seed, c("checks", s, n[s]), sample.int(n[s], most)))
  })
  needed <- unique(c(columns, st$target, st$blocks))
  rows <- list(
    if (!no_train) st$train[at[[1]], intersect(needed, names(st$train)), drop = FALSE],
    pick_whole(st, at[[2]], needed)
  )
  take <- function(p) Filter(Negate(is.null), lapply(rows, `[[`, p))
  list(
    columns = lapply(stats::setNames(nm = columns), function(p) checked_column(take(p))),
    y = checked_column(take(st$target)),
    set = rep(1:2, lengths(at)),
    rows = rows,
    n = stats::setNames(n, c("train", "holdout")),
    sampled = any(n > most)
  )
}

# parts: the column's values in each table.
checked_column <- function(parts) {
  first <- parts[[1]]
  time <- if (inherits(first, "Date")) {
    "date"
  } else if (inherits(first, "POSIXct")) {
    "time"
  } else {
    ""
  }
  ordered <- is.ordered(first)
  number <- (is.numeric(first) && !is.factor(first)) || is_time(first)
  if (number) {
    x <- unlist(lapply(parts, function(v) as.double(unclass(v))))
    x[!is.finite(x)] <- NA
    return(list(
      number = TRUE,
      time = nzchar(time),
      of_time = time,
      text = FALSE,
      ordered = FALSE,
      x = x,
      distinct = count_distinct(x),
      place = place_of(x)
    ))
  }
  levels <- if (ordered) levels(first) else unique(unlist(lapply(parts, level_names)))
  codes <- unlist(lapply(parts, function(v) {
    known <- if (is.factor(v)) levels(v) else unique(as.character(v))
    match(known, levels)[if (is.factor(v)) {
        as.integer(v)
      } else {
        match(as.character(v), known)
      }]
  }))
  list(
    number = FALSE,
    time = FALSE,
    of_time = "",
    text = is.character(first),
    ordered = ordered,
    x = codes,
    levels = levels,
    distinct = count_distinct(codes),
    place = if (ordered) place_of(codes)
  )
}

count_distinct <- function(x) length(unique(x)) - anyNA(x)

# Ranks within 0 and 1; NA where x is.
place_of <- function(x) {
  place <- mid_ranks(as.double(x)) / (sum(!is.na(x)) + 1)
  place[is.nan(place)] <- NA
  place
}

level_names <- function(v) {
  if (is.factor(v)) return(levels(v)[tabulate(v, nlevels(v)) > 0])
  found <- unique(as.character(v))
  found[!is.na(found)]
}

# Columns of the table that are of a kind.
columns_that <- function(table, holds) {
  names(table$columns)[vapply(table$columns, holds, NA)]
}

few_rows_of <- function(m, most) {
  m[unique(round(seq(1, nrow(m), length.out = min(nrow(m), most)))), , drop = FALSE]
}

# Spearman's correlation on the rows where both are known; 0 where these are fewer than 10.
rank_correlation_of <- function(a, b) {
  both <- !is.na(a$x) & !is.na(b$x)
  r <- if (sum(both) >= 10) {
    suppressWarnings(stats::cor(rank(a$x[both]), rank(b$x[both])))
  } else {
    0
  }
  if (is.na(r)) 0 else r
}

has_several <- function(column) column$distinct > 1

# The finest decimal step that the values are multiples of, from 1 down to 1e-6; 0 where they are
# multiples of none.
decimal_step <- function(x) {
  x <- x[!is.na(x)]
  if (length(x) > 500) x <- x[round(seq(1, length(x), length.out = 500))]
  for (digits in 0:6) {
    scaled <- x * 10^digits
    if (all(
        abs(scaled - round(scaled)) <= 1e-7 * pmax(1, abs(scaled)) & abs(scaled) < 1e12
      )) {
      return(10^-digits)
    }
  }
  0
}

# --- findings ----------------------------------------------------------------------------------

severities <- c("severe", "doubt", "note")

# One finding. evidence: a number, `unit` what it counts or measures; says: a sentence; todo: what
# to do.
finding <- function(
    predictor, finding, severity, evidence, unit, says, todo, lower = NA_real_,
    upper = NA_real_) {
  data.frame(
    predictor = predictor, finding = finding, severity = severity,
    evidence = as.double(evidence), lower = lower, upper = upper, unit = unit,
    detail = says, todo = todo
  )
}

no_findings <- function() {
  out <- finding("", "", "note", 0, "", "", "")
  out[0, ]
}

bind_findings <- function(list) {
  list <- Filter(function(f) !is.null(f) && nrow(f), list)
  if (length(list)) do.call(rbind, list) else no_findings()
}

# What is said of the rows or of the target, not of a column.
about_rows <- "(rows)"
about_target <- "(target)"

quoted <- function(x) paste0("`", x, "`")

say_share <- function(x) {
  percent <- 100 * x
  digits <- if (percent > 0 && percent < 1) 1 - floor(log10(percent)) else 0
  paste0(formatC(percent, digits = min(digits, 4), format = "f"), " %")
}
