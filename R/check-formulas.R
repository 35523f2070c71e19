# Which columns are arithmetic of others, and by which formula.
#
# A column is a + b times an expression of one or two others (x, x + y, x - y, x y, x / y), or an
# exact sum of several. A formula is taken where what it leaves is below 0.2 % of the column's
# spread, or within the rounding of the column. Expressions of pairs are tried on 48 rows for all
# columns at once; those that fit there are checked on all rows. Of the formulas of one relation the
# plainest is kept, by its operation and signs and by whether the column stands after the others.
#
# formula  list(lhs, terms: columns in it, text: the right side in words of the columns, left:
#          share of the spread that it leaves, exact: within rounding)

most_paired <- 150L

# More numeric columns than these are not compared two by two.
most_compared <- 2000L

# The numbers in which formulas are looked for: those with several values that are not times.
formula_columns <- function(table) {
  columns_that(table, function(column) {
    column$number && !column$time && column$distinct > 2
  })
}

# table: may hold the target as one of the columns. -> list of formulas
find_formulas <- function(columns) {
  values <- lapply(columns, `[[`, "x")
  if (length(values) < 2 || length(values) > most_compared) return(list())
  copies <- find_unit_changes(values)
  left <- setdiff(names(values), vapply(copies, `[[`, "", "lhs"))
  pairs <- if (length(left) >= 3 && length(left) <= most_paired) {
    find_pair_formulas(values[left])
  }
  found <- c(pairs, find_sums(values[left]))
  relation <- vapply(found, relation_of, "")
  lhs <- vapply(found, `[[`, "", "lhs")
  c(copies, found[!duplicated(relation) & !duplicated(lhs)])
}

# The columns of a formula, whichever of them it is written for.
relation_of <- function(f) paste(sort(c(f$lhs, f$terms)), collapse = "\r")

complete_rows <- function(values) {
  known <- !Reduce(`|`, lapply(values, is.na))
  which(known)
}

# What a formula leaves of a column, after the best a + b times its expression; NULL where that is
# too much.
fit_formula <- function(z, expression, step) {
  known <- which(is.finite(z) & is.finite(expression))
  if (length(known) < 20) return(NULL)
  z <- z[known]
  x <- expression[known]
  spread <- sqrt(mean((z - mean(z))^2))
  centred <- x - mean(x)
  scale <- sum(centred^2)
  if (!(spread > 0) || !(scale > 1e-20 * sum(x^2))) return(NULL)
  b <- sum(centred * (z - mean(z))) / scale
  a <- mean(z) - b * mean(x)
  left <- function(a, b) sqrt(mean((z - a - b * x)^2)) / spread
  within <- function(rest) step > 0 && rest * spread <= 0.6 * step && rest <= 0.02
  holds <- function(rest) rest <= 0.002 || within(rest)
  if (!holds(left(a, b))) return(NULL)
  # the plainest constants that hold nearly as well
  through <- sum(x * z) / sum(x^2)
  plain <- list(
    c(0, signif(through, 2)), c(0, signif(through, 3)), c(0, through),
    c(signif(a, 2), signif(b, 2)), c(signif(a, 3), signif(b, 3)), c(a, b)
  )
  for (constants in plain) {
    rest <- left(constants[1], constants[2])
    if (within(rest) || rest <= max(1.05 * left(a, b), 1e-9)) break
  }
  list(
    a = constants[1], b = constants[2], left = rest, exact = within(rest) || rest < 1e-6
  )
}

# Columns that are another one in other units: the later one of both is named.
find_unit_changes <- function(values) {
  at <- complete_rows(values)
  some <- if (length(at) >= 20) at else seq_along(values[[1]])
  m <- few_rows_of(do.call(cbind, lapply(values, `[`, some)), 500)
  r <- suppressWarnings(stats::cor(
    m, use = if (length(at) >= 20) "everything" else "pairwise"
  ))
  near <- which(r^2 > 1 - 2e-3 & upper.tri(r), arr.ind = TRUE)
  out <- list()
  done <- character()
  for (i in seq_len(nrow(near))) {
    first <- names(values)[near[i, 1]]
    later <- names(values)[near[i, 2]]
    if (first %in% done || later %in% done) next
    found <- fit_formula(values[[later]], values[[first]], decimal_step(values[[later]]))
    if (is.null(found)) next
    done <- c(done, later)
    out[[length(out) + 1]] <- new_formula(later, first, quoted(first), found)
  }
  out
}

new_formula <- function(lhs, terms, expression, found) {
  list(
    lhs = lhs, terms = terms, left = found$left, exact = found$exact,
    text = with_constants(expression, found$a, found$b, length(terms))
  )
}

# a + b times the expression, without what is 0 or 1.
with_constants <- function(expression, a, b, terms) {
  size <- abs(a) / max(abs(b), 1e-300)
  free <- abs(a) < 1e-4 * (abs(b) + 1) || size < 1e-6
  times <- if (abs(b - 1) < 1e-4) {
    expression
  } else if (abs(b + 1) < 1e-4) {
    paste0("-", if (terms > 1) paste0("(", expression, ")") else expression)
  } else {
    sums <- grepl("` [+-] `", expression)
    paste0(
      short_number(b), " x ", if (sums) paste0("(", expression, ")") else expression
    )
  }
  if (free) return(times)
  if (startsWith(times, "-")) {
    paste(short_number(a), "-", substring(times, 2))
  } else {
    paste(short_number(a), "+", times)
  }
}

operations <- list(
  sum = list(of = function(x, y) x + y, sign = " + ", cost = 1),
  product = list(of = function(x, y) x * y, sign = " x ", cost = 1.5),
  difference = list(of = function(x, y) x - y, sign = " - ", cost = 2),
  ratio = list(of = function(x, y) x / y, sign = " / ", cost = 3),
  back = list(of = function(x, y) y / x, sign = " / ", cost = 3)
)

# values: columns no two of which are the same in other units.
find_pair_formulas <- function(values) {
  at <- complete_rows(values)
  if (length(at) < 30) return(list())
  few <- at[unique(round(seq(1, length(at), length.out = 48)))]
  m <- do.call(cbind, lapply(values, `[`, few))
  pairs <- utils::combn(ncol(m), 2)
  scaled <- scale_columns(m)
  usable <- colSums(is.na(scaled)) == 0
  hits <- lapply(names(operations), function(o) {
    expression <- suppressWarnings(operations[[o]]$of(
      m[, pairs[1, ], drop = FALSE], m[, pairs[2, ], drop = FALSE]
    ))
    expression[!is.finite(expression)] <- 0
    r <- crossprod(scaled[, usable, drop = FALSE], scale_columns(expression))
    near <- which(r^2 > 1 - 2e-3, arr.ind = TRUE)
    if (!nrow(near)) return(NULL)
    data.frame(
      operation = o, z = which(usable)[near[, 1]], x = pairs[1, near[, 2]],
      y = pairs[2, near[, 2]]
    )
  })
  hits <- do.call(rbind, hits)
  if (is.null(hits)) return(list())
  hits <- hits[hits$z != hits$x & hits$z != hits$y, ]
  found <- lapply(seq_len(nrow(hits)), function(i) check_pair(values, hits[i, ]))
  one_a_relation(Filter(Negate(is.null), found))
}

# Columns with mean 0 and length 1; constant ones hold NA.
scale_columns <- function(m) {
  m <- m - rep(colMeans(m), each = nrow(m))
  size <- sqrt(colSums(m^2))
  size[!(size > 0)] <- NA
  m / rep(size, each = nrow(m))
}

check_pair <- function(values, hit) {
  operation <- operations[[hit$operation]]
  names <- names(values)[c(hit$x, hit$y)]
  z <- values[[hit$z]]
  x <- suppressWarnings(operation$of(values[[hit$x]], values[[hit$y]]))
  found <- fit_formula(z, x, decimal_step(z))
  if (is.null(found)) return(NULL)
  # one of the two must not do by itself what both do
  alone <- vapply(list(values[[hit$x]], values[[hit$y]]), function(v) {
    known <- is.finite(v) & is.finite(z)
    r <- suppressWarnings(stats::cor(v[known], z[known]))
    if (is.na(r)) 0 else 1 - r^2
  }, 0)
  if (min(alone) < 25 * max(found$left, 1e-9)^2) return(NULL)
  shown <- if (hit$operation == "back") rev(names) else names
  out <- new_formula(
    names(values)[hit$z], names, paste(quoted(shown), collapse = operation$sign), found
  )
  # plain ones first; what is worked out mostly stands after what it is worked out of
  last <- hit$z > max(hit$x, hit$y)
  out$cost <- operation$cost + (found$a != 0) / 2 + (found$b < 0) - 1.6 * last
  out
}

# Formulas of the same columns say the same: the plainest is kept.
one_a_relation <- function(found) {
  if (!length(found)) return(found)
  relation <- vapply(found, relation_of, "")
  cost <- vapply(found, function(f) f$cost + 100 * f$left, 0)
  keep <- unlist(lapply(split(seq_along(found), relation), function(i) i[which.min(cost[i])]))
  found <- found[sort(keep)]
  found[!duplicated(vapply(found, `[[`, "", "lhs"))]
}

# Exact sums of several columns: what the others explain in full. Each relation once, written for
# the column whose sum has the fewest minus signs.
find_sums <- function(values, most_terms = 8) {
  keep <- vapply(values, function(x) sum(!is.na(x)) >= max(30, 0.8 * length(x)), NA)
  values <- values[keep]
  at <- complete_rows(values)
  if (length(values) < 3 || length(at) < 10 + 2 * length(values)) return(list())
  # of as many rows as columns each column would be a sum of the others
  most <- min(length(at), max(1000, 2 * length(values)))
  at <- at[unique(round(seq(1, length(at), length.out = most)))]
  m <- scale_columns(do.call(cbind, lapply(values, `[`, at)))
  m <- m[, colSums(is.na(m)) == 0, drop = FALSE]
  r <- crossprod(m)
  out <- list()
  while (ncol(r) >= 3) {
    left <- unexplained_by_others(r)
    j <- which.min(left)
    if (!(left[j] <= 0.02)) break
    one <- sum_formula(values, colnames(r), colnames(r)[j], most_terms)
    if (!is.null(one)) out[[length(out) + 1]] <- one
    stay <- colnames(r) != (if (is.null(one)) colnames(r)[j] else one$lhs)
    r <- r[stay, stay, drop = FALSE]
  }
  out
}

# Of each column, the share of its spread (not variance) that the others leave: from the inverse of
# their correlations r, to which a hair is added so that exact sums can be inverted.
unexplained_by_others <- function(r) {
  inverse <- tryCatch(
    chol2inv(chol(r + diag(1e-10, ncol(r)))), error = function(e) NULL
  )
  if (is.null(inverse)) return(rep(NA_real_, ncol(r)))
  sqrt(1 / pmax(diag(inverse), 1))
}

sum_formula <- function(values, names, lhs, most_terms) {
  at <- complete_rows(values[names])
  m <- do.call(cbind, lapply(values[names], `[`, at))
  fit <- function(lhs, terms) {
    q <- qr(cbind(1, m[, terms, drop = FALSE]))
    beta <- qr.coef(q, m[, lhs])
    beta[is.na(beta)] <- 0
    rest <- m[, lhs] - cbind(1, m[, terms, drop = FALSE]) %*% beta
    list(beta = beta, left = sqrt(mean(rest^2)) / stats::sd(m[, lhs]))
  }
  within <- function(found, lhs) {
    step <- decimal_step(values[[lhs]])
    step > 0 && found$left * stats::sd(m[, lhs]) <= 0.6 * step && found$left <= 0.02
  }
  holds <- function(found, lhs) found$left <= 0.002 || within(found, lhs)
  terms <- setdiff(names, lhs)
  found <- fit(lhs, terms)
  if (!holds(found, lhs)) return(NULL)
  # terms that move the sum by less than what is left are none of it
  part <- abs(found$beta[-1]) * apply(m[, terms, drop = FALSE], 2, stats::sd)
  terms <- terms[part > 0.01 * stats::sd(m[, lhs])]
  if (length(terms) < 2 || length(terms) > most_terms) return(NULL)
  sides <- lapply(c(lhs, terms), function(l) {
    rest <- setdiff(c(lhs, terms), l)
    found <- fit(l, rest)
    if (!holds(found, l)) return(NULL)
    c(found, list(lhs = l, terms = rest))
  })
  sides <- Filter(Negate(is.null), sides)
  if (!length(sides)) return(NULL)
  minus <- vapply(sides, function(s) sum(s$beta[-1] < 0) + s$left, 0)
  best <- sides[[which.min(minus)]]
  list(
    lhs = best$lhs, terms = best$terms, left = best$left,
    exact = best$left < 1e-6 || within(best, best$lhs),
    text = sum_text(best$beta, best$terms)
  )
}

sum_text <- function(beta, terms) {
  constant <- beta[[1]]
  factor <- beta[-1]
  size <- ifelse(
    abs(abs(factor) - 1) < 1e-3,
    "",
    paste0(short_number(abs(factor)), " x ")
  )
  parts <- paste0(ifelse(factor < 0, " - ", " + "), size, quoted(terms))
  if (abs(constant) > 1e-4 * max(abs(factor))) {
    parts <- c(
      parts, paste0(if (constant < 0) " - " else " + ", short_number(abs(constant)))
    )
  }
  sub(
    "^ [+] ",
    "",
    sub("^ - ", "-", paste(parts[order(startsWith(parts, " - "))], collapse = ""))
  )
}
