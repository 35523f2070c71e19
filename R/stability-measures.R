# How well rankings agree: each measure with its Monte-Carlo error.
#
# Scores: matrix of rankings x predictors, larger is more important; NA where a ranking lacks a
# predictor.

#' Agreement of two rankings
#'
#' The measures behind [stability()] and [agreement()], for two vectors of importance.
#'
#' @param a,b Importances of the same predictors, in the same order or by name; larger is more
#'   important. Predictors one of them lacks are left out, except by `agreement_overlap()`.
#' @param top Number of top predictors.
#' @param persistence Between 0 and 1: how far down the lists the overlap looks. With 0.9 the top
#'   10 carry 86 % of the weight.
#' @return A number. `agreement_tau()`: Kendall's tau-b, -1 to 1. `agreement_spearman()`:
#'   Spearman's correlation of ranks. `agreement_top()`: shared part of the `top` first, 0 to 1
#'   (Jaccard); predictors that are tied for the last places share these, so that the same ranking
#'   twice has 1. `agreement_overlap()`: rank-biased overlap,
#'   extrapolated, 0 to 1; lists of different length are allowed. `agreement_shares()`: sum over
#'   the predictors of the smaller of their two shares, 0 to 1, 1 where all shares are the same:
#'   predictors weigh as much as they matter; a share is the non-negative part of an importance
#'   over the sum of these. `NA` where a ranking is all ties (correlations, overlap) or
#'   nothing in it is positive (shares).
#' @section Errors: Importances that are no numbers, of different length without names, or of
#'   fewer than 2 common predictors; `top` beyond them.
#' @references Kendall, M. (1945). The treatment of ties in ranking problems.
#'   \doi{10.1093/biomet/33.3.239}.
#'   Renkonen, O. (1938). Statistisch-oekologische Untersuchungen ueber die terrestrische
#'   Kaeferwelt der finnischen Bruchmoore. Annales Zoologici Societatis Zoologicae-Botanicae
#'   Fennicae Vanamo 6: overlap of shares.
#'   Webber, W., Moffat, A. and Zobel, J. (2010). A similarity measure for indefinite rankings
#'   (eq. 32). \doi{10.1145/1852102.1852106}.
#' @examples
#' a <- c(peak_temp = 3, hold_minutes = 2, operator = 1)
#' b <- c(peak_temp = 3, operator = 2, hold_minutes = 1)
#' agreement_tau(a, b)
#' agreement_top(a, b, 2)
#' agreement_overlap(a, b)
#' agreement_shares(a, b)
#' @export
agreement_tau <- function(a, b) {
  two <- match_two(a, b)
  if (length(unique(two$a)) < 2 || length(unique(two$b)) < 2) return(NA_real_)
  stats::cor(two$a, two$b, method = "kendall")
}

#' @rdname agreement_tau
#' @export
agreement_spearman <- function(a, b) {
  two <- match_two(a, b)
  if (length(unique(two$a)) < 2 || length(unique(two$b)) < 2) return(NA_real_)
  stats::cor(rank(two$a), rank(two$b))
}

#' @rdname agreement_tau
#' @export
agreement_top <- function(a, b, top) {
  two <- match_two(a, b)
  k <- check_count(top, "top", most = length(two$a))
  one <- in_top(two$a, k)
  other <- in_top(two$b, k)
  sum(pmin(one, other)) / sum(pmax(one, other))
}

#' @rdname agreement_tau
#' @export
agreement_overlap <- function(a, b, persistence = 0.9) {
  persistence <- check_fraction(persistence, "persistence")
  check_importances(a, "a")
  check_importances(b, "b")
  if (is.null(names(a)) != is.null(names(b))) {
    stop_input("`a` and `b` must both have names, or neither.")
  }
  if (all_tied(a) || all_tied(b)) return(NA_real_)
  if (is.null(names(a))) {
    names(a) <- seq_along(a)
    names(b) <- seq_along(b)
  }
  overlap_lists(ordered_names(a), ordered_names(b), persistence)
}

#' @rdname agreement_tau
#' @export
agreement_shares <- function(a, b) {
  two <- match_two(a, b)
  sum(pmin(shares_of(two$a), shares_of(two$b)))
}

all_tied <- function(x) length(x) > 1 && length(unique(x[!is.na(x)])) < 2

ordered_names <- function(x) names(x)[!is.na(x)][order(-x[!is.na(x)])]

# How far each is in the top k: 1 or 0, and those that are tied for the last places share these.
in_top <- function(x, k) {
  last <- sort(x, decreasing = TRUE)[k]
  tied <- x == last
  (x > last) + tied * (k - sum(x > last)) / sum(tied)
}

check_importances <- function(x, arg) {
  if (!is.numeric(x) || is.object(x) || !length(x)) {
    stop_input(
      paste0("`", arg, "` must be numbers, one for each predictor."),
      paste0("Given: ", describe_value(x), ".")
    )
  }
  if (any(is.infinite(x))) {
    stop_input(
      paste0("`", arg, "` must hold finite numbers, or NA where a predictor is lacking."),
      paste0("The first infinite one is number ", which(is.infinite(x))[1], ".")
    )
  }
  if (anyDuplicated(names(x))) {
    stop_input(paste0(
      "`", arg, "` names ", quote_some(names(x)[duplicated(names(x))][1]), " twice."
    ))
  }
}

match_two <- function(a, b) {
  check_importances(a, "a")
  check_importances(b, "b")
  if (!is.null(names(a)) && !is.null(names(b))) b <- b[names(a)]
  if (length(a) != length(b)) {
    stop_input(
      "`a` and `b` must be importances of the same predictors.",
      paste0("Given: ", length(a), " and ", length(b), "."),
      "Give them names."
    )
  }
  both <- !is.na(a) & !is.na(b)
  if (sum(both) < 2) stop_input("`a` and `b` must share at least 2 predictors.")
  list(a = unname(a[both]), b = unname(b[both]))
}

# Two ordered lists of names, of any length: eq. 32.
overlap_lists <- function(long, short, q) {
  if (length(short) > length(long)) return(overlap_lists(short, long, q))
  s <- length(short)
  l <- length(long)
  if (s == 0) return(NA_real_)
  at <- pmax(match(long, short), seq_along(long))  # the depth at which an item is in both
  shared <- cumsum(tabulate(at[!is.na(at)], l))
  depth <- seq_len(l)
  tail <- if (l > s) {
    sum(shared[s] * (depth[depth > s] - s) / (s * depth[depth > s]) * q^depth[depth > s])
  } else {
    0
  }
  (1 - q) / q * (sum(shared / depth * q^depth) + tail) + ((shared[l] - shared[s]) / l +
      shared[s] / s) * q^l
}

# What two random orders of p predictors score on average, and the overlap with that taken out.
chance_overlap <- function(p, q) q^p + (1 - q) / q * sum(seq_len(p) / p * q^seq_len(p))

# Shared part of the top k of two random orders, on average.
chance_top <- function(p, k) {
  h <- max(0, 2 * k - p):k
  sum(h / (2 * k - h) * stats::dhyper(h, k, p - k, k))
}

# Sum of the smaller of two shares, on average over all pairs of rankings (share: predictors x
# rankings) when the shares of each go to predictors at random: each value of one meets each of
# the other, as often. Sums of smaller values over all pairs of numbers come from their order.
chance_shares <- function(share) {
  smaller <- function(v) sum(sort(v) * (2 * (length(v) - seq_along(v)) + 1))
  B <- ncol(share)
  (smaller(as.vector(share)) - sum(apply(share, 2, smaller))) / (nrow(share) * B * (B - 1))
}

# Kendall's W with ties; 1 / number of rankings by chance alone. sums: of each predictor's ranks
# over m rankings.
concordance_of <- function(sums, m, ties) {
  p <- length(sums)
  total <- m^2 * (p^3 - p) - m * ties
  if (total <= 0) return(NA_real_)
  12 * sum((sums - m * (p + 1) / 2)^2) / total
}

# Per ranking the sum of t^3 - t over its groups of t tied predictors.
tied_sizes <- function(scores) {
  apply(scores, 1, function(x) {
    if (anyDuplicated(x)) {
      t <- tabulate(match(x, unique(x)))
      sum(t^3 - t)
    } else {
      0
    }
  })
}

# Chance-corrected stability of selected sets (rows of z: 0/1) and its Monte-Carlo interval
# (Nogueira, Sechidis and Brown 2018).
set_stability <- function(z, level = 0.95) {
  f <- colMeans(z)
  stability_of_sets(ncol(z), sum(f^2), rowSums(z), as.vector(z %*% f), level)
}

# The same of the top k of every ranking, for k = 1 to all but one predictor. place: predictors x
# rankings. -> 4 x sizes
top_stability <- function(place, level = 0.95) {
  M <- ncol(place)
  tops <- stability_tops(place)
  vapply(
    seq_along(tops$squares),
    function(k) {
      stability_of_sets(
        nrow(place), tops$squares[k] / M^2, rep(k, M), tops$together[, k] / M, level
      )
    },
    double(4)
  )
}

# p: number of predictors; squares: sum over them of f^2, f being how often each is in; per set
# its size k and the sum of f over its members.
stability_of_sets <- function(p, squares, k, together, level) {
  M <- length(k)
  kbar <- mean(k)
  by_chance <- kbar / p * (1 - kbar / p)
  if (M < 2 || by_chance <= 0) {
    return(c(value = NA, std_error = NA, lower = NA, upper = NA))
  }
  value <- 1 - M / (M - 1) * (kbar - squares) / p / by_chance
  each <- (together / p - k * kbar / p^2 +
      value / 2 * (2 * kbar * k / p^2 - k / p - kbar / p + 1)) / by_chance
  std_error <- sqrt(4 / M^2 * sum((each - mean(each))^2))
  half <- stats::qnorm((1 + level) / 2) * std_error
  c(value = value, std_error = std_error, lower = value - half, upper = value + half)
}

# Mean over all pairs of resamples and its error, dropping one resample after the other. with[b]:
# sum over its pairs.
pairs_jackknife <- function(with) {
  with <- with[!is.na(with)]
  B <- length(with)
  if (B < 3) return(c(value = if (B == 2) with[1] else NA_real_, mc_error = NA_real_))
  total <- sum(with) / 2
  value <- total / (B * (B - 1) / 2)
  c(
    value = value,
    mc_error = sqrt(jackknife_variance((total - with) / ((B - 1) * (B - 2) / 2)))
  )
}

without_self <- function(m) rowSums(m) - diag(m)

# All measures of many rankings: data frame measure, k, value, mc_error, chance. ranks, place:
# predictors x rankings, with ties shared and with ties drawn; sets: 4 x sizes, the stability of
# the top of every size.
measure_agreement <- function(
    scores, ranks, place, tau_with, sets, persistence, tops, threads) {
  B <- nrow(scores)
  p <- ncol(scores)
  row <- function(measure, found, chance, k = NA_integer_) {
    data.frame(
      measure = measure, k = k, value = found[[1]], mc_error = found[[2]], chance = chance
    )
  }
  spread <- apply(ranks, 2, stats::sd)
  z <- scale(ranks)[, spread > 0, drop = FALSE] / sqrt(p - 1)
  spearman <- if (ncol(z) > 1) {
    pairs_jackknife(as.vector(crossprod(z, rowSums(z))) - 1)
  } else {
    c(NA_real_, NA_real_)
  }
  ties <- tied_sizes(scores)
  W <- concordance_of(rowSums(ranks), B, sum(ties))
  drop_one <- if (B >= 3) {
    sqrt(jackknife_variance(drop_concordance(ranks, ties)))
  } else {
    NA_real_
  }
  overlap <- stability_overlap(place, persistence, threads)
  share <- apply(scores, 1, shares_of)
  share <- matrix(share, p)[, !is.na(share[1, ]), drop = FALSE]
  out <- list(
    row("Kendall's tau-b", pairs_jackknife(tau_with), 0),
    row("Spearman", spearman, 0),
    row("Kendall's W", c(W, drop_one), 1 / B),
    row(
      "rank-biased overlap",
      pairs_jackknife(without_self(overlap)),
      chance_overlap(p, persistence)
    ),
    row(
      "overlap of shares",
      pairs_jackknife(without_self(stability_shares(share, threads))),
      if (ncol(share) > 1) chance_shares(share) else NA_real_
    )
  )
  for (k in tops) {
    shared <- crossprod(place <= k)
    out <- c(
      out,
      list(row(
        "top overlap",
        pairs_jackknife(without_self(shared / (2 * k - shared))),
        chance_top(p, k),
        k
      ))
    )
    out <- c(out, list(row("chance-corrected stability of the top", sets[1:2, k], 0, k)))
  }
  do.call(rbind, out)
}

# W without each ranking in turn. ranks: predictors x rankings
drop_concordance <- function(ranks, ties) {
  left <- rowSums(ranks) - ranks  # sums without it
  vapply(
    seq_len(ncol(ranks)),
    function(b) concordance_of(left[, b], ncol(ranks) - 1, sum(ties) - ties[b]),
    0
  )
}
