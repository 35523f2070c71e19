# Small statistics shared by scores, rankings and reductions.

# Standard error of a mean of influences, and its degrees of freedom; rows of a block count as
# one. u: rows, or rows x columns, for which `cov` is the covariance of the means.
influence_error <- function(u, block = NULL) {
  if (is.null(dim(u)) && is.null(block)) {
    cov <- stats::var(u) / length(u)
    return(list(std_error = sqrt(cov), cov = cov, df = length(u) - 1))
  }
  total <- block_sums(as.matrix(u), block)
  n <- nrow(as.matrix(u))
  cov <- nrow(total) * stats::cov(total) / n^2
  list(std_error = sqrt(diag(cov)), cov = cov, df = nrow(total) - 1)
}

block_sums <- function(u, block) if (is.null(block)) u else rowsum(u, block, reorder = TRUE)

t_limits <- function(estimate, std_error, df, level) {
  half <- if (df >= 1) stats::qt((1 + level) / 2, df) * std_error else NA_real_
  list(lower = estimate - half, upper = estimate + half)
}

# Limits of a share of so many rows or resamples (Wilson 1927).
share_limits <- function(share, rows, level) {
  z <- stats::qnorm((1 + level) / 2)
  middle <- (share + z^2 / (2 * rows)) / (1 + z^2 / rows)
  half <- z / (1 + z^2 / rows) * sqrt(share * (1 - share) / rows + z^2 / (4 * rows^2))
  list(lower = pmax(middle - half, 0), upper = pmin(middle + half, 1))
}

# Limits as of t_limits() for a mean of influences (sums over blocks where rows belong together)
# whose distribution leans to one side. An estimate that lacks the rare large influences is too
# small, and so is its error: on the side of the longer tail the limit is stretched as Hall (1992)
# does for skewed means, with degrees of freedom that know how uncertain a variance of heavy tails
# is (Box 1953), and by `more` standard errors of that variance, to twice the t limit's distance
# at most; on the other side it is the t limit. Fewer than 20 influences cannot tell a tail.
# influence: the influences, or what tails_of() says of them.
skew_limits <- function(estimate, std_error, df, level, influence, more = 1) {
  limits <- t_limits(estimate, std_error, df, level)
  found <- if (is.list(influence)) influence else tails_of(influence)
  n <- found$n
  skew <- found$skew
  tails <- found$tails
  if (n < 20 || !is.finite(skew) || skew == 0 || !is.finite(limits$upper)) return(limits)
  most <- stats::qt((1 + level) / 2, min(df, 2 * n / (tails + 2 / (n - 1))))
  lean <- abs(skew)
  base <- 1 - lean * (most + lean / 6)
  stretched <- 3 / lean * (1 - sign(base) * abs(base)^(1 / 3))
  reach <- std_error * (1 + more * sqrt(tails / n)) * min(max(most, stretched), 2 * most)
  if (skew > 0) limits$upper <- estimate + reach else limits$lower <- estimate - reach
  limits
}

# How far influences lean to a side, and how heavy their tails are: skew of their mean, in its own
# standard errors; tails of their variance, n times its squared relative error.
tails_of <- function(influence) {
  m <- influence - mean(influence)
  square <- m * m
  tails_of_moments(length(m), sum(square), sum(square * m), sum(square * square))
}

# From the sums of the second, third and fourth powers of their distances from the mean. Tails are
# never below 0, but for rounding.
tails_of_moments <- function(n, second, third, fourth) {
  list(n = n, skew = third / second^1.5, tails = pmax(n * fourth / second^2 - 1, 0))
}

# Means of influences, a column each: their errors, and limits around `estimate` adjusted for
# skewness.
columns_with_limits <- function(estimate, u, block, level) {
  found <- lapply(seq_along(estimate), function(j) {
    e <- influence_error(u[, j], block)
    e$std_error <- as.vector(e$std_error)
    sums <- as.vector(block_sums(u[, j], block))
    c(
      list(std_error = e$std_error),
      skew_limits(estimate[j], e$std_error, e$df, level, sums, more = 0)
    )
  })
  lapply(
    c(std_error = "std_error", lower = "lower", upper = "upper"),
    function(name) vapply(found, `[[`, 0, name)
  )
}

# Random blocks of rows of nearly equal size, for the grouped jackknife.
draw_blocks <- function(n, blocks = 10) sample(rep_len(seq_len(min(blocks, n)), n))

# Variance of a statistic from its values with one block left out each (Efron 1982).
jackknife_variance <- function(values) {
  g <- length(values)
  (g - 1) / g * sum((values - mean(values))^2)
}

order_statistic <- function(x, level) {
  at <- min(length(x), ceiling(level * (length(x) + 1)))
  sort(x, partial = at)[at]
}
