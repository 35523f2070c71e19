# Rows that belong together: the same patient, animal or place measured more than once.
#
# A column whose values stand in several rows each, within which other columns never change, names
# units: two such columns that do not give each other, or one number of eight values or more, or any
# where the column is called as units are. Without such a column, two numbers that only ever come
# together betray them. Nothing is said where the study names its blocks.

check_clustered <- function(table, st) {
  if (!is.null(st$blocks)) return(no_findings())
  found <- find_unit(table)
  if (is.null(found)) return(check_betrayed(table))
  both <- if (length(unique(table$set)) > 1) shared_units(table, found$unit)
  # parted by units already
  if (isTRUE(both < 0.05)) return(no_findings())
  known <- length(found$constant) > 0
  finding(
    about_rows,
    "clustered rows",
    if (known && isTRUE(both >= 0.2)) "severe" else "doubt",
    found$values,
    "units",
    paste0(
      "Rows of one value of ", quoted(found$unit),
      " look like one unit measured again: it has ", format_number(found$values),
      " values, ",
      if (known) {
        paste0(
          "within each of them ", list_few(quoted(found$constant)), " never change",
          if (length(found$constant) == 1) "s"
        )
      } else {
        "and is called as units are"
      },
      if (isTRUE(both > 0)) {
        paste0(
          ", and ", say_share(both),
          " of the holdout rows are of units that the training rows ", "have too"
        )
      },
      "."
    ),
    paste0(
      "If they belong together, name it: study(blocks = \"", found$unit,
      "\"), or blocks in ",
      "the study file. Without, rows of one unit are on both sides of a split, and ",
      "scores and intervals are too good."
    )
  )
}

# The share of the holdout rows whose unit has training rows.
shared_units <- function(table, unit) {
  x <- table$columns[[unit]]$x
  known <- !is.na(x)
  mean(x[table$set == 2 & known] %in% x[table$set == 1 & known])
}

# least: how many columns must never change within a column that is not called as units are, if
# these are but one each. -> list(unit: the column, values: how many it has, largest: share of the
# rows of the most frequent one, constant: what never changes, called: by its name?), or NULL
find_unit <- function(table, least = 2) {
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
  called <- vapply(names(values), called_unit, NA)
  units <- names(values)[vapply(names(values), function(x) {
    may_be_unit(table$columns[[x]], values[[x]]$code, size[[x]], called[[x]])
  }, NA)]
  constant <- lapply(units, function(x) {
    constant_within(values, size, x, called[[x]], if (called[[x]]) 1 else least)
  })
  evidence <- lengths(constant) + 0.5 * called[units]
  best <- which.max(evidence)
  if (!length(best) || !(evidence[best] > 0)) return(NULL)
  code <- values[[units[best]]]$code
  list(
    unit = units[best], values = size[[units[best]]],
    largest = max(tabulate(code)) / sum(!is.na(code)), constant = constant[[best]],
    called = called[[units[best]]]
  )
}

unit_words <- c(
  "subject", "subj", "patient", "person", "participant", "respondent", "animal", "rat",
  "mouse", "chick", "dog", "cow", "child", "infant", "student", "pupil", "donor",
  "household", "customer", "client", "user", "borrower", "member", "individual",
  "proband", "volunteer", "specimen", "plant", "tree"
)

# "patient", "PatientID", "subj_no"
called_unit <- function(name) {
  words <- tolower(strsplit(
    gsub("([a-z0-9])([A-Z])", "\\1 \\2", name), "[^[:alnum:]]+"
  )[[1]])
  words <- words[nzchar(words)]
  words <- sub("(id|nr|no)$", "", words)
  words <- setdiff(words, c("", "id", "nr", "no", "num", "number", "code", "key"))
  length(words) == 1 && sub("s$", "", words) %in% unit_words
}

has_fractions <- function(x) any(x != round(x), na.rm = TRUE)

# Numbers from 1 in the order of the values; NA stays.
sorted_codes <- function(x) match(x, sort(unique(x)))

# Text, levels or whole numbers, most of whose rows share their value with another row, in eight
# groups or more (five under the name of a unit, whose levels may have an order).
may_be_unit <- function(column, code, size, called) {
  if ((column$ordered && !called) || size < if (called) 5 else 8) return(FALSE)
  if (column$number && has_fractions(column$x)) return(FALSE)
  rows <- tabulate(code, size)
  sum(rows) > length(code) / 2 && sum(rows[rows > 1]) >= 0.8 * sum(rows) &&
    sum(rows) >= 2 * size
}

# The columns that never change within the values of x; none where they are too few to say anything:
# other names of its levels, stretches of a number that is not called a unit, and what one of the
# others gives do not count.
constant_within <- function(values, size, x, called, least) {
  code <- values[[x]]$code
  others <- setdiff(names(values)[size >= 2 & size <= size[[x]]], x)
  constant <- Filter(function(z) {
    one <- values[[z]]
    (size[[z]] < size[[x]] || one$fractions) && gives(code, one$code) &&
      (called || !(values[[x]]$number && in_stretches(code, one$code, one$number)))
  }, others)
  apart <- character()
  for (z in constant[order(-size[constant])]) {
    told <- vapply(apart[size[apart] < size[[x]]], function(a) {
      gives(values[[a]]$code, values[[z]]$code)
    }, NA)
    if (!any(told) && !(size[[z]] == size[[x]] && length(apart))) apart <- c(apart, z)
  }
  measured <- vapply(constant, function(z) values[[z]]$number && size[[z]] >= 8, NA)
  if (length(apart) >= least || any(measured)) constant else character()
}

# Along the values of x, does z rise or fall, or, of levels, go through each of its values once?
in_stretches <- function(x, z, number) {
  first <- !is.na(x) & !is.na(z) & !duplicated(x)
  steps <- diff(z[first][order(x[first])])
  if (number) return(all(steps >= 0) || all(steps <= 0))
  sum(steps != 0) == length(unique(z[first])) - 1
}

# --- units without a name ----------------------------------------------------------------------

# Columns that were measured once a unit come back together, row after row, in far fewer
# combinations than columns that had nothing to do with each other would make.
check_betrayed <- function(table) {
  together <- columns_together(table)
  if (is.null(together)) return(no_findings())
  others <- setdiff(names(table$columns), together$columns)
  changes <- vapply(others, function(p) !gives(together$key, table$columns[[p]]$x), NA)
  # rows that are the same in all columns are repeated rows, and told as such
  if (!any(changes)) return(no_findings())
  finding(
    about_rows,
    "clustered rows",
    "doubt",
    together$rows,
    "rows a unit",
    paste0(
      list_few(quoted(together$columns)), " come back together, ",
      short_number(together$rows, 2),
      " rows at a time, while other columns change: rows look like one unit measured ",
      "again."
    ),
    paste0(
      "If so, add the column that names the unit and give it as `blocks`: rows of one ",
      "unit on ", "both sides of a split make scores and intervals too good."
    )
  )
}

# Columns whose combinations are less than half as many as after each was permuted by itself, where
# these would tell most rows apart; added one at a time, each the one that leaves the fewest.
# -> list(columns, key: number of the combination of each row, rows: how many have one), or NULL
columns_together <- function(table, most = 5) {
  columns <- Filter(function(column) {
    known <- sum(!is.na(column$x))
    !column$time && column$distinct >= 2 && known >= 60 && column$distinct <= known / 2
  }, table$columns)
  if (length(columns) < 2 || length(columns) > 60) return(NULL)
  code <- lapply(columns, function(column) match(column$x, unique(column$x)))
  n <- length(code[[1]])
  mixed <- with_stream(1, c("together", n), lapply(code, function(x) sample(x)))
  join <- function(key, x) {
    both <- key * (max(x) + 1) + x
    match(both, unique(both))
  }
  apart <- function(a, b) abs(rank_correlation_of(columns[[a]], columns[[b]])) <= 0.9
  size <- vapply(code, max, 1L)
  first <- names(columns)[which.max(size)]
  if (size[[first]] < 8) return(NULL)
  chosen <- first
  key <- code[[first]]
  other <- mixed[[first]]
  while (length(chosen) < most) {
    # levels that what is there gives tell nothing new
    left <- Filter(function(p) {
      measured <- columns[[p]]$number && size[[p]] >= 15 && has_fractions(columns[[p]]$x)
      measured || !gives(key, code[[p]])
    }, setdiff(names(columns), chosen))
    left <- Filter(function(p) all(vapply(chosen, apart, NA, p)), left)
    if (!length(left)) return(NULL)
    ratio <- vapply(left, function(p) {
      max(join(key, code[[p]])) / max(join(other, mixed[[p]]))
    }, 0)
    best <- left[which.min(ratio)]
    key <- join(key, code[[best]])
    other <- join(other, mixed[[best]])
    chosen <- c(chosen, best)
    if (max(other) >= 0.5 * n && max(key) <= 0.5 * max(other)) {
      return(list(columns = chosen, key = key, rows = n / max(key)))
    }
  }
  NULL
}
