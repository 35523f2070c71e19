# Checks of single columns: missing and constant values, levels, numbers written as text.

check_missing <- function(table, st) {
  count <- function(x) if (anyNA(x)) sum(is.na(x)) else 0
  gone <- vapply(names(table$columns), function(p) {
    count(whole_column(st, p)[[1]]) + if (table$n[["train"]]) count(st$train[[p]]) else 0
  }, 0)
  out <- lapply(names(gone)[gone > 0], function(p) {
    n <- count_whole(st) + if (is.null(st$train[[p]])) 0 else table$n[["train"]]
    share <- gone[[p]] / n
    with <- missing_with(table, p)
    tells <- missing_tells(table, p, sum(gone > 0))
    says <- paste0(
      say_share(share), " of the values are missing",
      if (length(with)) paste0(", in the same rows as those of ", name_few(with)), "."
    )
    bind_findings(list(
      finding(
        p, "missing", "note", 100 * share, "% of the rows", says,
        "Say how they arose; a model that fills them in ranks the filling as well."
      ),
      tells
    ))
  })
  bind_findings(out)
}

name_few <- function(x) list_few(quoted(x), 3)

missing_with <- function(table, p) {
  own <- is.na(table$columns[[p]]$x)
  if (sum(own) < 3) return(character())
  setdiff(columns_that(table, function(column) identical(is.na(column$x), own)), p)
}

# Is being missing related to the target? p-value times the number of columns with
# gaps (Bonferroni).
missing_tells <- function(table, p, tests) {
  gone <- is.na(table$columns[[p]]$x)
  y <- table$y
  few <- min(sum(gone), sum(!gone))
  if (few < 10) return(NULL)
  exact <- if (y$number) {
    # beyond a threshold of the target all are missing, before it none
    max(y$x[gone]) < min(y$x[!gone]) || min(y$x[gone]) > max(y$x[!gone])
  } else {
    !any(rowSums(table(y$x, gone) > 0) > 1)
  }
  if (exact) {
    return(finding(
      p,
      "leak",
      "severe",
      100,
      "% of the rows",
      paste0(
        "It is missing in just the rows of ",
        if (y$number) "one end of the target" else "some of the classes",
        ": whether it was recorded depends on the target."
      ),
      "Leave it out, unless its gaps are known before the target."
    ))
  }
  # missing numbers of one target are told from the others' by ranks
  value <- if (y$number) {
    suppressWarnings(stats::wilcox.test(y$x[gone], y$x[!gone], exact = FALSE)$p.value)
  } else {
    suppressWarnings(stats::chisq.test(table(y$x, gone))$p.value)
  }
  if (!isTRUE(value * tests < 0.001)) return(NULL)
  says <- if (y$number) {
    centre <- "median"
    there <- c(stats::median(y$x[gone]), stats::median(y$x[!gone]))
    if (there[1] == there[2]) {  # as where it is mostly 0
      centre <- "mean"
      there <- c(mean(y$x[gone]), mean(y$x[!gone]))
    }
    paste0(
      "Where it is missing, the target's ", centre, " is ", short_number(there[1], 3),
      ", elsewhere ", short_number(there[2], 3), "."
    )
  } else {
    share <- vapply(split(gone, y$levels[y$x]), mean, 0)
    top <- names(which.max(share))
    low <- names(which.min(share))
    paste0(
      "It is missing in ", say_share(share[[top]]), " of class ", top, " and in ",
      say_share(share[[low]]), " of class ", low, "."
    )
  }
  finding(
    p,
    "missing tells target",
    "doubt",
    value * tests,
    "p-value, Bonferroni",
    says,
    "Ask why: a value that is recorded or not because of the target is a leak."
  )
}

check_constant <- function(table, st) {
  bind_findings(lapply(names(table$columns), function(p) {
    column <- table$columns[[p]]
    if (!has_several(column)) {
      if (varies(whole_column(st, p)[[1]], if (table$n[["train"]]) st$train[[p]])) {
        return(NULL)
      }
      return(finding(
        p,
        "constant",
        "note",
        1,
        "value",
        if (column$distinct) "It has a single value." else "It has no known value.",
        "Leave it out: it can tell nothing."
      ))
    }
    if (column$distinct > 10) return(NULL)
    known <- column$x[!is.na(column$x)]
    n <- length(known)
    count <- if (column$number) {
      max(tabulate(match(known, unique(known))))
    } else {
      max(tabulate(known))
    }
    if (n - count >= 10 || n < 200) return(NULL)
    finding(
      p,
      "nearly constant",
      "note",
      n - count,
      "rows with another value",
      paste0(
        "All but ", n - count, " of ", format_number(n), " rows have the same value."
      ),
      "What is said of it rests on these few rows."
    )
  }))
}

# More than one value in all rows, whatever the drawn ones say?
varies <- function(...) {
  known <- lapply(list(...), function(x) {
    if (is.factor(x)) as.character(x) else unclass(x)
  })
  known <- unlist(lapply(known, function(x) {
    first <- x[which(!is.na(x))[1]]
    c(first, x[which(x != first)[1]])
  }))
  length(unique(known[!is.na(known)])) > 1
}

has_many_levels <- function(x) {
  (is.factor(x) || is.character(x)) && length(level_names(x)) > 30
}

check_levels <- function(table, st, folds = 5) {
  of_levels <- columns_that(table, function(column) !column$number)
  bind_findings(lapply(of_levels, function(p) {
    column <- table$columns[[p]]
    size <- tabulate(column$x, length(column$levels))
    size <- size[size > 0]
    if (length(size) < 3) size <- size[0]
    rare <- sum(size < folds)
    bind_findings(list(
      if (length(size) > 30) {
        finding(
          p, "many levels", "note", length(size), "levels",
          paste0("It has ", length(size), " levels."),
          "Impurity importance favours it; look at permutation importance beside it."
        )
      },
      if (rare && length(size) <= 0.5 * sum(size)) {
        finding(
          p, "rare levels", "note", rare, "levels",
          paste0(
            rare, if (rare == 1) " level has" else " levels have", " fewer than ", folds,
            " rows", if (table$sampled) " of those drawn", ", fewer than there are folds."
          ),
          "Join rare levels: a fold may lack them."
        )
      },
      text_of_numbers(p, column)
    ))
  }))
}

# Levels that are all but some numbers, many of them.
text_of_numbers <- function(p, column) {
  if (!column$text || called_identifier(p) || called_unit(p)) return(NULL)
  text <- trimws(column$levels)
  plain <- gsub("[ ']", "", text)
  comma <- grepl("^[+-]?[0-9]+,[0-9]+$", plain)
  plain[comma] <- chartr(",", ".", plain[comma])
  number <- grepl("^[+-]?([0-9]+[.]?[0-9]*|[.][0-9]+)([eE][+-]?[0-9]+)?%?$", plain)
  coded <- any(grepl("^0[0-9]", plain))
  if (length(text) < 15 || coded || mean(number) < 0.9) return(NULL)
  other <- text[!number]
  finding(
    p, "numbers as text", "doubt", 100 * mean(number), "% of the levels",
    paste0(
      "It is text, and ", if (all(number)) "all" else sum(number), " of its ", length(text),
      " levels are numbers",
      if (length(other)) paste0("; others are ", quote_some(other, 3)), "."
    ),
    "If they are amounts, read them as numbers; if they are codes, leave them."
  )
}

# --- identifiers -------------------------------------------------------------------------------

# Nearly one value a row. Text without repeats; whole numbers that are a running number, or called
# an identifier and unrelated to the target, or spread evenly over a dense range and unrelated.
check_identifiers <- function(table, st) {
  bind_findings(lapply(names(table$columns), function(p) {
    column <- table$columns[[p]]
    kind <- identifier_kind(column, p, table)
    if (is.null(kind)) return(NULL)
    known <- column$x[!is.na(column$x)]
    distinct <- column$distinct
    finding(
      p,
      "identifier",
      kind$severity,
      100 * distinct / length(known),
      "% distinct",
      paste0(
        "It has ", format_number(distinct), " distinct values in ",
        format_number(length(known)), if (table$sampled) " rows drawn " else " rows ",
        kind$why, "."
      ),
      paste0(
        "Leave it out, unless it has a meaning: what it tells of one row it tells of ",
        "no other."
      )
    )
  }))
}

identifier_kind <- function(column, p, table) {
  known <- which(!is.na(column$x))
  n <- length(known)
  if (column$time || column$ordered) return(NULL)
  if (numbers_rows(column, p, table)) {
    return(list(severity = "severe", why = "and numbers the rows"))
  }
  if (n < 20) return(NULL)
  x <- column$x[known]
  if (column$distinct < 0.98 * n) return(NULL)
  if (!column$number) {
    return(list(severity = "severe", why = "of text: next to none can be met again"))
  }
  if (n < 50 || any(x != round(x)) || looks_like_years(x)) return(NULL)
  running <- runs_with_rows(column, table)
  even <- spread_evenly(x)
  called <- called_identifier(p)
  if (running && (even || called)) {
    return(list(
      severity = if (called) "severe" else "doubt",
      why = "and runs with the order of the rows"
    ))
  }
  if (!(called || even) || related_to_target(column, table)) return(NULL)
  list(
    severity = if (called) "severe" else "doubt",
    why = if (called) {
      "and nothing to do with the target; it is called an identifier"
    } else {
      "over a dense and even range, and nothing to do with the target"
    }
  )
}

# Whole numbers without repeats that rise or fall with the rows, under a name that row numbers get
# or none: for any number of rows.
numbers_rows <- function(column, p, table) {
  named <- p %in% c("V1", "X", "X1", "...1") || grepl(
    "^(unnamed[:._ ]*[0-9]*|row[._ ]?(names?|numbers?|nr|no|id)|index|idx|rn)$", tolower(p)
  )
  if (!named || !column$number || anyNA(column$x) || any(column$x != round(column$x))) {
    return(FALSE)
  }
  if (column$distinct < 0.98 * length(column$x)) return(FALSE)
  runs_with_rows(column, table, least = 5) || diff(range(column$x)) < 2 * length(column$x)
}

looks_like_years <- function(x) all(x >= 1500 & x <= 2200)

# Does it rise or fall with the rows' order in either table?
runs_with_rows <- function(column, table, least = 20) {
  if (!column$number) return(FALSE)
  any(vapply(unique(table$set), function(s) {
    place <- column$place[table$set == s]
    place <- place[!is.na(place)]
    length(place) >= least && any(place != place[1]) &&
      abs(stats::cor(place, seq_along(place))) >= 0.98
  }, NA))
}

# Whole numbers without repeats that fill a good part of their range, no part more than another:
# what numbering leaves, not what measuring does.
spread_evenly <- function(x) {
  range <- diff(range(x)) + 1
  if (length(x) < 0.1 * range) return(FALSE)
  d <- max(abs((rank(x) - 0.5) / length(x) - (x - min(x) + 0.5) / range))
  d * sqrt(length(x)) < 1.36
}

called_identifier <- function(name) {
  grepl(
    "(^|[^a-z])(id|ids|nr|no|num|number|key|code|index|idx|uuid|guid|serial|record|rownames?)$",
    gsub("([a-z0-9])([A-Z])", "\\1_\\2", name) |> tolower(),
    perl = TRUE
  ) || grepl("^(id|uid|guid|uuid)[^a-z]", tolower(name))
}

related_to_target <- function(column, table) {
  isTRUE(association_of(column, table$y)$p_value < 0.01)
}
