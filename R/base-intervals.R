# Small statistics shared by scores, rankings and reductions.

# Standard error of a mean of influences.
influence_error <- function(u) stats::sd(u) / sqrt(length(u))

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
