# How strongly two columns go together, on a scale from 0 to 1: see rank_association() for the
# definitions and their sources.

# Numbers and ordered factors have an order; text and other factors are classes.
as_ordered <- function(x) {
  if (is.ordered(x)) {
    as.integer(x)
  } else if (is.factor(x) || is.character(x)) {
    NULL
  } else {
    as.double(x)
  }
}

association <- function(x, y) {
  a <- as_ordered(x)
  b <- as_ordered(y)
  if (length(unique(x)) < 2 || length(unique(y)) < 2) {
    return(list(
      value = if (length(unique(x)) < 2) 0 else NA_real_,
      kind = "constant",
      sign = NA,
      p_value = NA
    ))
  }
  if (!is.null(a) && !is.null(b)) return(rank_correlation(a, b))
  if (is.null(a) && is.null(b)) return(class_association(x, y))
  if (is.null(a)) rank_ratio(b, x) else rank_ratio(a, y)
}

rank_correlation <- function(a, b) {
  n <- length(a)
  rho <- stats::cor(rank(a), rank(b))
  t <- rho * sqrt((n - 2) / max(1 - rho^2, 1e-300))
  list(
    value = sqrt(max(0, rho^2 - (1 - rho^2) / (n - 2))),
    kind = "rank correlation",
    sign = sign(rho),
    p_value = 2 * stats::pt(-abs(t), n - 2)
  )
}

# Kruskal and Wallis's H, corrected for ties, as a correlation ratio of ranks.
rank_ratio <- function(a, groups) {
  r <- rank(a)
  n <- length(r)
  group <- match(groups, unique(groups))
  size <- tabulate(group)
  k <- length(size)
  if (n <= k) {
    return(list(
      value = NA_real_, kind = "rank correlation ratio", sign = NA, p_value = NA
    ))
  }
  H <- (n - 1) * sum(size * (rowsum(r, group)[, 1] / size - (n + 1) / 2)^2) /
    sum((r - (n + 1) / 2)^2)
  list(
    value = sqrt(max(0, (H - k + 1) / (n - k))),
    kind = "rank correlation ratio",
    sign = NA,
    p_value = stats::pchisq(H, k - 1, lower.tail = FALSE)
  )
}

class_association <- function(x, y) {
  counts <- table(as.character(x), as.character(y))
  n <- sum(counts)
  r <- nrow(counts)
  k <- ncol(counts)
  expected <- outer(rowSums(counts), colSums(counts)) / n
  chi2 <- sum((counts - expected)^2 / expected)
  phi2 <- max(0, chi2 / n - (r - 1) * (k - 1) / (n - 1))
  r1 <- r - (r - 1)^2 / (n - 1)
  k1 <- k - (k - 1)^2 / (n - 1)
  value <- if (min(r1, k1) > 1) sqrt(phi2 / (min(r1, k1) - 1)) else 0
  list(
    value = min(value, 1),
    kind = "Cramer's V, corrected",
    sign = NA,
    p_value = stats::pchisq(chi2, (r - 1) * (k - 1), lower.tail = FALSE)
  )
}

# The same of checked columns, on the rows where both are known.
association_of <- function(a, b) {
  both <- !is.na(a$x) & !is.na(b$x)
  values <- function(column) {
    x <- column$x[both]
    if (column$number || column$ordered) x else factor(x)
  }
  association(values(a), values(b))
}
