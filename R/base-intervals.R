# Small statistics shared by scores, rankings and reductions.

# Standard error of a mean of influences, and its degrees of freedom; rows of a block count as one. u: rows, or rows x columns,
# for which `cov` is the covariance of the means.
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

# Random blocks of rows of nearly equal size, for the grouped jackknife.
draw_blocks <- function(n, blocks = 10) sample(rep_len(seq_len(min(blocks, n)), n))

# Variance of a statistic from its values with one block left out each (Efron 1982).
jackknife_variance <- function(values) {
  g <- length(values)
  (g - 1) / g * sum((values - mean(values))^2)
}
