# Leaks: columns that hold the target, or were known only after it. A strong predictor is no leak.
# What counts is evidence of another kind; each kind is a function here.
#
#   known after   the dictionary says so                                               severe
#   a formula     the target is arithmetic of columns (check-formulas.R)               severe
#   same order    a number in just the order of the target                             severe
#   no error      the target has hardly any error left, given the column               severe
#   classes       each class has its own levels, or its own stretch of a number
#                 where rows are dense on both sides of the border                     severe
#   many to one   each level of the column stands with one value of the target         doubt
#   consequence   the column tells more than all others together, these add to it, and
#                 yet they know of it only what the target does                        doubt
#   name          called after the target, and telling most of it                      doubt
#
# Times, and numbers that run with the rows, may follow a trend of the target and are left out.

least_rows_leak <- 50L

check_leaks <- function(table, st, found, known) {
  out <- lapply(names(table$columns), function(p) {
    if (p %in% known) return(leak_of_dictionary(p))
    column <- table$columns[[p]]
    if (column$time || !has_several(column) || runs_with_rows(column, table)) return(NULL)
    hit <- leak_of_formula(p, found, table, st$target)
    if (is.null(hit)) hit <- leak_of_values(p, column, table$y)
    hit
  })
  bind_findings(out)
}

leak <- function(p, severity, evidence, unit, ...) {
  finding(
    p, "leak", severity, evidence, unit, paste0(...),
    "Was it known before the target? If not, train the models without it."
  )
}

leak_of_dictionary <- function(p) {
  finding(
    p, "leak", "severe", 1, "entry of the dictionary",
    "The dictionary says that it is known only after the target.",
    "Train the models without it."
  )
}

# Of the columns that give the target by a formula, those that go with it (rank correlation of 0.7)
# are leaks, and what only helps to bring these back to the target is a doubt. Where none goes with
# it, all together are the leak.
leak_of_formula <- function(p, found, table, target) {
  own <- Filter(
    function(f) about_target %in% c(f$lhs, f$terms) && p %in% c(f$lhs, f$terms), found
  )
  if (!length(own)) return(NULL)
  f <- own[[1]]
  members <- setdiff(c(f$lhs, f$terms), about_target)
  with <- vapply(
    members, function(m) abs(rank_correlation_of(table$columns[[m]], table$y)), 0
  )
  makes <- members[with >= if (max(with) >= 0.7) 0.7 else 0]
  text <- gsub(
    quoted(about_target),
    quoted(target),
    paste0(quoted(f$lhs), " = ", f$text),
    fixed = TRUE
  )
  helps <- !p %in% makes
  leak(
    p,
    if (helps) "doubt" else "severe",
    100 * f$left,
    "% of the spread left",
    if (helps) {
      paste0("Together with ", name_few(makes), " it gives the target: ")
    } else {
      "The target is arithmetic of it: "
    },
    text,
    if (!f$exact) ", nearly",
    "."
  )
}

leak_of_values <- function(p, column, y) {
  both <- !is.na(column$x) & !is.na(y$x)
  if (sum(both) < least_rows_leak) return(NULL)
  x <- column$x[both]
  truth <- y$x[both]
  if (column$distinct < 2 || y$distinct < 2) return(NULL)
  few <- y$number && y$distinct <= 3
  if (few) truth <- match(truth, sort(unique(truth)))
  if (y$number && !few) {
    if (column$number || column$ordered) {
      number_leak(p, x, truth, column$distinct)
    } else {
      levels_leak(p, x, truth)
    }
  } else if (column$number) {
    border_leak(p, x, truth)
  } else {
    classes_leak(p, x, truth)
  }
}

# --- a target of numbers -----------------------------------------------------------------------

# k: number of distinct values of x.
number_leak <- function(p, x, y, k) {
  if (k <= length(x) / 3) {
    return(levels_leak(p, match(x, unique(x)), y, of_numbers = TRUE))
  }
  few <- unique(round(seq(1, length(x), length.out = 400)))
  if (!isTRUE(error_left(x[few], y[few]) <= 0.5)) return(NULL)
  if (k >= least_rows_leak && length(unique(y)) >= least_rows_leak) {
    r <- abs(stats::cor(rank(x), rank(y)))
    if (r > 1 - 1e-9) {
      return(leak(
        p,
        "severe",
        r,
        "rank correlation",
        "It is in just the order of the target: the target ",
        "after a monotone change."
      ))
    }
  }
  left <- error_left(x, y)
  step <- decimal_step(y)
  # what rounding the target leaves, and no more
  rounded <- step > 0 && length(unique(y)) >= least_rows_leak && left <= 0.05 &&
    left * stats::sd(y) <= 0.6 * step
  if (!isTRUE(left <= 0.012 || rounded)) return(NULL)
  leak(
    p, "severe", 100 * left, "% of the target's spread",
    "Given it, the target has an error of ", say_share(left), " of its spread: ",
    if (rounded) "what rounding leaves." else "less than measuring leaves."
  )
}

# The error of y around a smooth function of x, by how far each value lies from the line between
# its neighbours (Gasser, Sroka and Jennen-Steinmetz 1986), as a share of the spread of y. Rows of
# one x count as one, with the error among them.
error_left <- function(x, y) {
  order <- order(x)
  x <- x[order]
  y <- y[order]
  group <- cumsum(c(TRUE, diff(x) > 0))
  size <- tabulate(group)
  centre <- rowsum(y, group)[, 1] / size
  at <- x[!duplicated(group)]
  k <- length(at)
  if (k < 10) return(NA_real_)
  i <- 2:(k - 1)
  w <- (at[i + 1] - at[i]) / (at[i + 1] - at[i - 1])
  rest <- centre[i] - w * centre[i - 1] - (1 - w) * centre[i + 1]
  scale <- 1 / size[i] + w^2 / size[i - 1] + (1 - w)^2 / size[i + 1]
  between <- mean(rest^2 / scale)
  within <- sum((y - centre[group])^2)
  df <- length(y) - k
  variance <- (between * k + within) / (k + df)
  sqrt(variance) / stats::sd(y)
}

# Rows of one level (or one number that stands in several rows): does the target still vary?
levels_leak <- function(p, x, y, of_numbers = FALSE) {
  k <- length(unique(x))
  repeats <- length(x) - k
  if (k < 3 || repeats < max(30, k)) return(NULL)
  centre <- rowsum(y, x, reorder = FALSE)[, 1] / tabulate(match(x, unique(x)))
  within <- sqrt(sum((y - centre[match(x, unique(x))])^2) / repeats)
  left <- within / stats::sd(y)
  if (!isTRUE(left <= 0.012)) return(NULL)
  # levels that stand for rows entered many times (one country, many years) are no proof
  leak(
    p,
    if (of_numbers) "severe" else "doubt",
    100 * left,
    "% of the target's spread",
    paste0(
      "Rows with one value of it have one value of the target: among them the target ",
      "varies by "
    ),
    say_share(left),
    " of its spread."
  )
}

# --- a target of classes -----------------------------------------------------------------------

classes_leak <- function(p, x, y) {
  counts <- table(x, y)
  if (min(colSums(counts)) < 5 || any(rowSums(counts > 0) > 1)) return(NULL)
  k <- nrow(counts)
  repeats <- length(x) - k
  if (repeats < 30) return(NULL)
  if (k == ncol(counts)) {
    return(leak(
      p,
      "severe",
      k,
      "levels",
      "Each of its ",
      k,
      " levels is one of the classes: it is the ",
      "target under other names."
    ))
  }
  leak(p, "doubt", k, "levels", "Each of its ", k, " levels stands with one class only.")
}

# Classes that are stretches of a number. Clusters that lie apart are honest; a border that cuts
# through dense rows without one exception is not, nor are classes hardly wider than a point.
border_leak <- function(p, x, y) {
  if (length(unique(y)) < 2) return(NULL)
  ranges <- vapply(split(x, y), range, c(0, 0))
  if (any(tabulate(match(y, unique(y))) < 5)) return(NULL)
  order <- order(ranges[1, ])
  ranges <- ranges[, order, drop = FALSE]
  k <- ncol(ranges)
  if (any(ranges[2, -k] >= ranges[1, -1])) return(NULL)
  width <- apply(ranges, 2, diff)
  gap <- ranges[1, -1] - ranges[2, -k]
  if (all(gap >= 10 * max(width))) {
    return(leak(
      p,
      "severe",
      min(gap) / max(max(width), 1e-300),
      "times as far apart as wide",
      "The classes are points on it, far apart: it is the target with a little noise."
    ))
  }
  near <- vapply(
    seq_len(k - 1),
    function(j) {
      border <- mean(c(ranges[2, j], ranges[1, j + 1]))
      reach <- 0.1 * stats::sd(x)
      below <- sum(x < border & x >= border - reach)
      above <- sum(x > border & x <= border + reach)
      if (min(below, above) >= 3) below + above else 0
    },
    0
  )
  if (any(near < 10)) return(NULL)
  leak(
    p,
    "severe",
    min(near),
    "rows close to the border",
    paste0(
      "The classes are stretches of it, and no row is on the wrong side, however near ",
      "the border: "
    ),
    "the target is made from it."
  )
}

# --- doubts ------------------------------------------------------------------------------------

# A consequence of the target. Alone the column tells much more than all others together; these
# tell more of the target than it does alone; yet given the target they tell nothing of it. An
# honest predictor and the others, both acting on the target, depend on each other given the target
# (Berkson 1946; Pearl 2009, section 1.2.3), and those that only mirror it add nothing to it.
check_consequences <- function(table, st, leaks, seed = 1) {
  usable <- columns_that(table, function(column) !column$time && has_several(column))
  usable <- setdiff(usable, leaks$predictor)
  use <- which(!is.na(table$y$x))
  if (length(usable) < 3 || length(use) < 100) return(no_findings())
  if (length(use) > 2000) use <- use[unique(round(seq(1, length(use), length.out = 2000)))]
  columns <- rows_of_columns(table$columns[usable], use)
  y <- response_of(rows_of_columns(list(table$y), use)[[1]])
  part <- parts_of(length(use), seed = seed)
  likely <- names(columns)[vapply(columns, explained_in_bins, 0, y) >= 0.6]
  alone <- vapply(
    columns[likely], function(column) fit_additive(list(x = column), y, part)$skill, 0
  )
  bind_findings(lapply(likely[alone >= 0.7], function(p) {
    named <- if (named_after(p, st$target)) leak_of_name(p, alone[[p]])
    hit <- leak_of_consequence(p, columns, y, part, alone[[p]])
    if (is.null(hit)) named else hit
  }))
}

leak_of_name <- function(p, skill) {
  if (skill < 0.9) return(NULL)
  leak(
    p,
    "doubt",
    100 * skill,
    "% of the target",
    "It is called after the target, and alone tells ",
    say_share(skill),
    " of it."
  )
}

named_after <- function(name, target) {
  words <- function(x) {
    strsplit(tolower(gsub("([a-z0-9])([A-Z])", "\\1_\\2", x)), "[^a-z0-9]+")[[1]]
  }
  all(nchar(words(target)) > 0) && sum(nchar(words(target))) >= 3 &&
    all(words(target) %in% words(name))
}

leak_of_consequence <- function(p, columns, y, part, skill) {
  column <- columns[[p]]
  if (!column$number) return(NULL)
  near <- vapply(
    columns,
    function(other) {
      if (other$number) abs(rank_correlation_of(other, column)) else 0
    },
    0
  )
  others <- columns[names(columns) != p & !(near > 0.9)]
  if (!length(others)) return(NULL)
  known <- !is.na(column$x)
  y <- y[known, , drop = FALSE]
  others <- most_telling(rows_of_columns(others, known), y)
  part <- part[known]
  own <- rows_of_columns(list(x = column), known)
  together <- fit_additive(others, y, part)$skill
  if (together < 0.2 || (1 - skill) > 0.5 * (1 - together)) return(NULL)
  both <- fit_additive(c(own, others), y, part)$skill
  adds <- 1 - (1 - both) / (1 - skill)
  # what is left of the column given the target, by the others
  given <- given_target(own$x$x, y, part)
  knows <- fit_additive(others, given, part)$skill
  if (adds < 0.1 || knows > 0.1 * adds) return(NULL)
  leak(
    p,
    "doubt",
    100 * skill,
    "% of the target",
    "Alone it tells ",
    say_share(skill),
    " of the target, all others together ",
    say_share(together),
    "; these know of it only what ",
    "the target does. It looks like a consequence of the target."
  )
}

# The column's normal scores without what the target tells of them, as one response.
given_target <- function(x, y, part) {
  z <- stats::qnorm((rank(x) - 0.5) / length(x))
  design <- if (ncol(y) == 1) stats::poly(y[, 1], min(5, length(unique(y)) - 1)) else y[, -1]
  matrix(stats::lm.fit(cbind(1, design), z)$residuals)
}
