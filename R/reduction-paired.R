# Two models on the same rows: the difference of their losses, with limits that hold where a class
# is rare.

# Loss of p less that of `than`: loss, std_error, df, two-sided limits of `level`, the one-sided
# upper `limit` of the same level and, where limits rest on the rows of each of two classes, how
# many the rarer one has (else NA).
paired_difference <- function(st, info, p, than, level, seed) {
  d <- loss_with_error(st$metric, info, p, than, seed)
  rarest <- if (length(st$classes) == 2) min(tabulate(info$truth, 2)) else NA_integer_
  if (is.null(d$u)) {
    around <- function(level) t_limits(d$loss, d$std_error, d$df, level)
  } else if (st$metric$name == "accuracy" && is.null(info$weight) && is.null(info$block)) {
    wrong <- predicted_class(p) != info$truth
    wrong_than <- predicted_class(than) != info$truth
    more <- sum(wrong & !wrong_than)
    fewer <- sum(!wrong & wrong_than)
    around <- function(level) share_difference_limits(more, fewer, length(wrong), level)
    rarest <- NA_integer_
  } else {
    df <- min(d$df, if (st$task == "classification") df_of_classes(d$u, info$truth))
    u <- as.vector(block_sums(d$u, info$block))
    # A rare class makes tails that few rows show.
    more <- if (st$task == "classification") 1.5 else 1
    around <- function(level) skew_limits(d$loss, d$std_error, df, level, u, more)
  }
  c(
    d[c("loss", "std_error", "df")], around(level),
    list(limit = around(2 * level - 1)$upper, rarest = rarest)
  )
}

# Degrees of freedom of a variance over rows made up by classes (Satterthwaite 1946): where a rare
# class makes up most of it, hardly more than that class has rows.
df_of_classes <- function(u, class) {
  parts <- rowsum((u - mean(u))^2, class)[, 1]
  rows <- rowsum(rep(1, length(u)), class)[, 1]
  known <- rows > 1 & parts > 0
  if (!any(known)) return(Inf)
  sum(parts)^2 / sum(parts[known]^2 / (rows[known] - 1))
}

# Score limits of the difference of two shares of the same n rows (Tango 1998,
# doi:10.1002/(SICI)1097-0258(19980430)17:8<891::AID-SIM780>3.0.CO;2-B). more, fewer: rows that
# count in the first share only, and in the second only.
share_difference_limits <- function(more, fewer, n, level) {
  z <- stats::qnorm((1 + level) / 2)
  upper <- function(more, fewer) {
    distance <- function(d) {
      B <- (2 * n - more + fewer) * d - more - fewer
      q <- (sqrt(B^2 + 8 * n * fewer * d * (1 - d)) - B) / (4 * n)
      spread <- n * (2 * q + d * (1 - d))
      (more - fewer - n * d) + z * sqrt(max(spread, 0))
    }
    value <- (more - fewer) / n
    if (value >= 1 - 1e-9) return(1)
    stats::uniroot(distance, c(value + 1e-9, 1), tol = 1e-12)$root
  }
  list(lower = -upper(fewer, more), upper = upper(more, fewer))
}
