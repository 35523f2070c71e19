# Checks of columns against each other: copies, twins, formulas, levels that give other levels.

# found: formulas of columns and target (find_formulas()); those with the target are leaks.
check_derived <- function(table, found) {
  found <- Filter(function(f) !about_target %in% c(f$lhs, f$terms), found)
  bind_findings(lapply(found, function(f) {
    one <- length(f$terms) == 1
    finding(
      f$lhs, if (one) "copy" else "derived", "note", 100 * f$left, "% of its spread left",
      paste0(quoted(f$lhs), " = ", f$text, if (!f$exact) ", nearly", "."),
      if (one) {
        "Keep one of the two: they share their importance."
      } else {
        "Rank them as a family, or keep either the parts or the whole."
      }
    )
  }))
}

# Numbers in nearly the same order.
check_twins <- function(table, found, least = 0.95) {
  numbers <- formula_columns(table)
  derived <- vapply(Filter(function(f) length(f$terms) == 1, found), `[[`, "", "lhs")
  numbers <- setdiff(numbers, derived)
  if (length(numbers) < 2 || length(numbers) > most_compared) return(no_findings())
  r <- rank_correlations(table$columns[numbers])
  bind_findings(lapply(seq_along(numbers)[-1], function(j) {
    near <- which(abs(r[j, seq_len(j - 1)]) >= least)
    if (!length(near)) return(NULL)
    with <- near[which.max(abs(r[j, near]))]
    finding(
      numbers[j], "correlated", "note", r[j, with], "rank correlation",
      paste0(
        "It goes with ", quoted(numbers[with]), ": rank correlation ",
        format(round(r[j, with], 3)), "."
      ),
      "The two share their importance, and one may be enough."
    )
  }))
}

# Spearman's correlation of all pairs, a gap standing at the middle; only a pair with gaps that
# could be a twin is ranked again on the rows both have. Many columns are compared on few rows
# first. columns: checked columns.
rank_correlations <- function(columns) {
  places <- vapply(columns, `[[`, double(length(columns[[1]]$x)), "place")
  gaps <- vapply(columns, function(column) anyNA(column$x), NA)
  places[is.na(places)] <- 0.5
  many <- length(columns) > 300
  if (many) places <- few_rows_of(places, 500)
  r <- suppressWarnings(stats::cor(places))
  r[is.na(r)] <- 0
  near <- which(abs(r) > (if (many) 0.9 else 0.7) & upper.tri(r), arr.ind = TRUE)
  for (i in seq_len(nrow(near))) {
    pair <- near[i, ]
    if (!many && !any(gaps[pair])) next
    exact <- rank_correlation_of(columns[[pair[1]]], columns[[pair[2]]])
    r[pair[1], pair[2]] <- r[pair[2], pair[1]] <- exact
  }
  r
}

# --- levels that give other levels -------------------------------------------------------------

most_levels <- 500L

# More columns of levels than these are not compared.
most_given <- 200L

# Levels, and whole numbers of few values, as codes.
discrete_columns <- function(table) {
  Filter(Negate(is.null), lapply(table$columns, function(column) {
    if (column$time) return(NULL)
    k <- column$distinct
    if (k < 2 || k > if (column$number) 50 else most_levels) return(NULL)
    if (column$number) match(column$x, unique(column$x[!is.na(column$x)])) else column$x
  }))
}

# Does each level of x stand with one level of z only, in more rows than chance would let pass?
# Chance: rows of one level of x had levels of z drawn at z's shares; of all but the first row of a
# level, each then agrees with the first with the probability sum(share^2).
gives <- function(x, z) {
  both <- !is.na(x) & !is.na(z)
  x <- x[both]
  z <- z[both]
  k <- length(unique(x))
  repeats <- length(x) - k
  if (repeats < 20 || length(unique(z)) < 2) return(FALSE)
  few <- seq_len(min(300, length(x)))
  if (any(z[few] != z[match(x[few], x[few])])) return(FALSE)
  first <- match(x, x)
  if (any(z != z[first])) return(FALSE)
  share <- tabulate(z) / length(z)
  repeats * log(sum(share^2)) < log(1e-6)
}

check_determined <- function(table) {
  codes <- discrete_columns(table)
  if (length(codes) < 2 || length(codes) > most_given) return(no_findings())
  size <- vapply(codes, function(x) length(unique(x[!is.na(x)])), 1L)
  out <- list()
  for (z in names(codes)) {
    for (x in names(codes)[size >= size[[z]] & names(codes) != z]) {
      both_ways <- size[[x]] == size[[z]]
      # of two that give each other the later one is named
      if (both_ways && match(x, names(codes)) > match(z, names(codes))) next
      if (!gives(codes[[x]], codes[[z]])) next
      if (!both_ways && size[[x]] > 0.5 * length(codes[[x]])) next
      out[[length(out) + 1]] <- finding(
        z, if (both_ways) "copy" else "determined", "note", size[[x]], "levels",
        if (both_ways) {
          paste0("Each of its ", size[[z]], " levels is one level of ", quoted(x), ".")
        } else {
          paste0(
            "Each of the ", size[[x]], " levels of ", quoted(x), " gives one of its ",
            size[[z]], "."
          )
        },
        if (both_ways) {
          "Keep one of the two: they share their importance."
        } else {
          paste0("What it tells ", quoted(x), " tells as well; not the other way round.")
        }
      )
      if (both_ways) break
    }
  }
  bind_findings(out)
}
