# Measures of agreement against hand-computed figures, definitions and closed forms.

test_that("tau-b, Spearman and overlap meet figures worked out by hand", {
  # a: 1 2 3 4; b: 2 1 3 4 (ranks): one of six pairs is discordant.
  expect_equal(agreement_tau(c(4, 3, 2, 1), c(3, 4, 2, 1)), 4 / 6, tolerance = 1e-14)
  # A tie in b: concordant 4, discordant 1, tied 1; tau-b = 3 / sqrt(6 * 5).
  expect_equal(agreement_tau(c(4, 3, 2, 1), c(3, 4, 1, 1)), 3 / sqrt(30), tolerance = 1e-14)
  expect_equal(
    agreement_spearman(c(4, 3, 2, 1), c(3, 4, 2, 1)), 1 - 6 * 2 / (4 * 15), tolerance = 1e-14
  )
  expect_true(is.na(agreement_tau(c(1, 1, 1), 1:3)))
  a <- c(x = 3, y = 2, z = 1)
  expect_equal(agreement_tau(a, c(z = 1, x = 3, y = 2)), 1)  # by name
  expect_equal(agreement_top(a, c(x = 3, z = 2, y = 1), 2), 1 / 3)
  # A tie at the border: with b's second place drawn between y and z the overlap is 1 or 1/3.
  expect_equal(agreement_top(a, c(x = 3, y = 1, z = 1), 2), 2 / 3, tolerance = 0.1)
  expect_error(agreement_tau(1:3, 1:2), "same predictors", class = "dreher_error_input")
})

test_that(
  "rank-biased overlap follows its definition, for lists of one and of different lengths",
  {
    # Even lists of depth 2, q = 0.5: A_1 = 0, A_2 = 1 -> (1-q)/q (0 + q^2) + q^2 = 0.25 + 0.25
    expect_equal(
      agreement_overlap(c(a = 2, b = 1), c(b = 2, a = 1), 0.5), 0.5, tolerance = 1e-14
    )
    expect_equal(
      agreement_overlap(c(a = 3, b = 2, c = 1), c(a = 3, b = 2, c = 1)),
      1,
      tolerance = 1e-14
    )
    # Uneven, eq. 32 written out as a sum over depths.
    slow <- function(S, L, q) {
      s <- length(S)
      l <- length(L)
      X <- vapply(
        seq_len(l), function(d) length(intersect(utils::head(S, d), L[seq_len(d)])), 1L
      )
      d <- seq_len(l)
      late <- d[d > s]
      (1 - q) / q * (sum(X / d * q^d) + sum(X[s] * (late - s) / (s * late) * q^late)) +
        ((X[l] - X[s]) / l + X[s] / s) * q^l
    }
    set.seed(1)
    for (i in 1:20) {
      long <- sample(letters, 12)
      short <- sample(letters, 7)
      score <- function(x) stats::setNames(rev(seq_along(x)), x)
      expect_equal(
        agreement_overlap(score(long), score(short), 0.8),
        slow(short, long, 0.8),
        tolerance = 1e-12
      )
    }
    # Random orders of 5, 10 and 30 score 0.82, 0.65 and 0.32.
    expect_equal(
      c(chance_overlap(5, 0.9), chance_overlap(10, 0.9), chance_overlap(30, 0.9)),
      c(0.82, 0.65, 0.32),
      tolerance = 0.01
    )
    place <- replicate(40, sample(10L))
    all <- stability_overlap(place, 0.9, 1L)
    one <- function(a, b) {
      agreement_overlap(stats::setNames(-a, 1:10), stats::setNames(-b, 1:10))
    }
    expect_equal(all[3, 7], one(place[, 3], place[, 7]), tolerance = 1e-12)
    expect_identical(all, stability_overlap(place, 0.9, 2L))
  }
)

# Kendall's W of rankings x predictors, without those that some ranking lacks.
concordance <- function(scores) {
  if (nrow(scores) < 2) return(NA_real_)
  scores <- scores[, !apply(is.na(scores), 2, any), drop = FALSE]
  concordance_of(rowSums(apply(scores, 1, rank)), nrow(scores), sum(tied_sizes(scores)))
}

test_that(
  "Kendall's W meets its formula, with ties, and the mean Spearman where there are none",
  {
    # Three judges, four things, ranks summed by hand: R = (3, 7, 8, 12), S = 41; W = 12 * 41 / (9
    # * 60).
    scores <- rbind(c(4, 3, 2, 1), c(4, 3, 2, 1), c(4, 1, 3, 2) + c(0, 0, 0, 0))
    R <- colSums(t(apply(-scores, 1, rank)))
    expect_equal(
      concordance(scores), 12 * sum((R - mean(R))^2) / (9 * 60), tolerance = 1e-12
    )
    set.seed(2)
    x <- matrix(rnorm(80), 8)
    rho <- stats::cor(t(x), method = "spearman")
    expect_equal(
      (8 * concordance(x) - 1) / 7, mean(rho[upper.tri(rho)]), tolerance = 1e-12
    )
    # Ties, by the formula with T = sum (t^3 - t).
    tied <- rbind(c(3, 3, 1, 0), c(3, 2, 1, 0), c(2, 2, 2, 0))
    R <- colSums(t(apply(-tied, 1, rank)))
    ties <- (2^3 - 2) + 0 + (3^3 - 3)
    expect_equal(
      concordance(tied),
      12 * sum((R - mean(R))^2) / (9 * 60 - 3 * ties),
      tolerance = 1e-12
    )
    expect_equal(
      drop_concordance(apply(x, 1, rank), tied_sizes(x)),
      vapply(1:8, function(b) concordance(x[-b, ]), 0),
      tolerance = 1e-12
    )
    expect_true(is.na(concordance(matrix(1, 3, 4))))
    lacking <- cbind(x, c(NA, rnorm(7)))  # a predictor one ranking lacks
    expect_equal(concordance(lacking), concordance(x), tolerance = 1e-12)
  }
)

test_that(
  paste0(
    "the stability of sets follows its formulas, and is undefined where all or ",
    "nothing is chosen"
  ),
  {
    set.seed(3)
    z <- matrix(rbinom(10 * 12, 1, 0.4), 10)
    p <- ncol(z)
    M <- nrow(z)
    f <- colMeans(z)
    k <- rowSums(z)
    kbar <- mean(k)
    den <- kbar / p * (1 - kbar / p)
    phi <- 1 - mean(M / (M - 1) * f * (1 - f)) / den
    each <- vapply(
      1:M,
      function(i) {
        (sum(z[i, ] * f) / p - k[i] * kbar / p^2 +
            phi / 2 * (2 * kbar * k[i] / p^2 - k[i] / p - kbar / p + 1)) / den
      },
      0
    )
    got <- set_stability(z)
    expect_equal(got[["value"]], phi, tolerance = 1e-12)
    expect_equal(
      got[["std_error"]], sqrt(4 / M^2 * sum((each - mean(each))^2)), tolerance = 1e-12
    )
    expect_equal(
      set_stability(rbind(c(1, 1, 0, 0), c(1, 1, 0, 0), c(1, 1, 0, 0)))[["value"]], 1
    )
    expect_true(is.na(set_stability(matrix(1, 3, 4))[["value"]]))
    place <- replicate(9, sample.int(6))
    expect_equal(
      top_stability(place),
      vapply(1:5, function(k) set_stability(t(place <= k)), double(4)),
      tolerance = 1e-12
    )
    many <- replicate(40, sample.int(9))  # more orders than predictors
    expect_equal(
      top_stability(many),
      vapply(1:8, function(k) set_stability(t(many <= k)), double(4)),
      tolerance = 1e-12
    )
    expect_error(stability_tops(cbind(c(1L, 1L, 2L))), "not an order")
    expect_error(stability_overlap(cbind(c(1L, 4L, 2L)), 0.9, 1L), "not an order")
    expect_equal(
      chance_top(10, 3),
      mean(replicate(2000, {
        s <- length(intersect(sample(10, 3), 1:3))
        s / (6 - s)
      })),
      tolerance = 0.1
    )
  }
)

test_that("sums over pairs of resamples equal the pairs one by one, ties included", {
  set.seed(4)
  x <- matrix(sample(0:6, 12 * 7, TRUE), 12)
  got <- stability_pairs(x, 1L)
  tau <- stats::cor(t(x), method = "kendall")
  expect_equal(got$with, rowSums(tau) - 1, tolerance = 1e-12)
  above <- outer(
    1:7, 1:7, Vectorize(function(j, k) mean((x[, j] > x[, k]) + 0.5 * (x[, j] == x[, k])))
  )
  diag(above) <- NaN
  expect_equal(got$above, above, tolerance = 1e-14)
  expect_identical(got, stability_pairs(x, 2L))
  jack <- pairs_jackknife(got$with)
  drop_one <- vapply(1:12, function(b) mean(tau[-b, -b][upper.tri(tau[-b, -b])]), 0)
  expect_equal(jack[["value"]], mean(tau[upper.tri(tau)]), tolerance = 1e-12)
  expect_equal(
    jack[["mc_error"]],
    sqrt(11 / 12 * sum((drop_one - mean(drop_one))^2)),
    tolerance = 1e-12
  )
  # Gaps, by definition.
  centre <- colMeans(x)
  error <- outer(1:7, 1:7, Vectorize(function(j, k) stats::sd(x[, j] - x[, k])))
  gaps <- stability_gaps(x, centre, error, 2L)
  slow <- vapply(1:7, function(j) {
    apply(
      vapply(setdiff(1:7, j), function(k) {
        abs(x[, j] - x[, k] - centre[j] + centre[k]) / error[j, k]
      }, double(nrow(x))),
      1,
      max
    )
  }, double(nrow(x)))
  expect_equal(gaps$single, slow, tolerance = 1e-12)
  expect_equal(gaps$joint, apply(slow, 1, max), tolerance = 1e-12)
})

test_that(
  paste0(
    "the overlap of shares is what two lists have in common, and chance is every ",
    "value beside every other"
  ),
  {
    expect_equal(
      agreement_shares(c(x = 3, y = 1, z = 0), c(y = 1, x = 1, z = 2)), 0.25 + 0.25
    )  # shares 3/4, 1/4, 0 and 1/4, 1/4, 1/2
    expect_equal(agreement_shares(c(2, 2, -1), c(5, 5, -3)), 1)
    expect_equal(agreement_shares(c(1, 0), c(0, 4)), 0)
    expect_true(is.na(agreement_shares(c(-1, 0), c(1, 2))))
    # what one lacks is left out
    expect_equal(agreement_shares(c(a = 1, b = 1, c = 2), c(a = 1, b = 1)), 1)
    set.seed(8)
    scores <- matrix(rnorm(6 * 7, 0.5), 6)
    share <- apply(scores, 1, shares_of)
    pairs <- outer(
      1:6, 1:6, Vectorize(function(a, b) agreement_shares(scores[a, ], scores[b, ]))
    )
    expect_equal(stability_shares(share, 1L), pairs, tolerance = 1e-14)
    expect_identical(stability_shares(share, 1L), stability_shares(share, 2L))
    all_ways <- outer(
      1:6, 1:6, Vectorize(function(a, b) mean(outer(share[, a], share[, b], pmin)) * 7)
    )
    expect_equal(
      chance_shares(share), mean(all_ways[upper.tri(all_ways)]), tolerance = 1e-12
    )
    # All orders of four values: the mean over them is the chance.
    a <- c(4, 3, 2, 1) / 10
    b <- c(7, 1, 1, 1) / 10
    orders <- as.matrix(expand.grid(1:4, 1:4, 1:4, 1:4))
    orders <- orders[apply(orders, 1, function(o) !anyDuplicated(o)), ]
    expect_equal(
      chance_shares(cbind(a, b)),
      mean(apply(orders, 1, function(o) sum(pmin(a, b[o])))),
      tolerance = 1e-12
    )
    found <- measure_agreement(
      scores,
      apply(-scores, 1, rank),
      apply(-scores, 1, rank),
      double(6),
      top_stability(apply(-scores, 1, rank)),
      0.9,
      3L,
      1L
    )
    expect_equal(
      found$value[found$measure == "overlap of shares"],
      mean(pairs[upper.tri(pairs)]),
      tolerance = 1e-12
    )
    scores[2, ] <- -1  # nothing positive: this ranking has no shares
    place <- apply(-scores, 1, rank, ties.method = "first")
    found <- measure_agreement(
      scores, apply(-scores, 1, rank), place, double(6), top_stability(place), 0.9, 3L, 1L
    )
    left <- pairs[-2, -2]
    expect_equal(
      found$value[found$measure == "overlap of shares"],
      mean(left[upper.tri(left)]),
      tolerance = 1e-12
    )
  }
)

test_that("limits of a share are Wilson's: the values a score test does not reject", {
  for (share in c(0, 0.1, 0.5, 1)) {
    limits <- share_limits(share, 40, 0.95)
    for (limit in unlist(limits)) {
      if (limit > 1e-9 && limit < 1 - 1e-9) {
        expect_equal(
          abs(share - limit) / sqrt(limit * (1 - limit) / 40),
          qnorm(0.975),
          tolerance = 1e-10
        )
      }
    }
  }
  expect_equal(
    share_limits(0.3, 50, 0.95)[["lower"]],
    stats::prop.test(15, 50, correct = FALSE)$conf.int[1],
    tolerance = 1e-10
  )
  expect_equal(share_limits(1, 50, 0.95)[["upper"]], 1)
})

test_that("in the overlap of tops ties share the last places", {
  set.seed(2)
  # how far each is in the top: the mean over all orders of ties
  member <- function(x, k) {
    tops <- Filter(
      function(s) min(x[s]) >= max(c(x[-s], -Inf)),
      utils::combn(length(x), k, simplify = FALSE)
    )
    rowMeans(vapply(tops, function(s) seq_along(x) %in% s + 0, double(length(x))))
  }
  slow <- function(a, b, k) {
    sum(pmin(member(a, k), member(b, k))) / sum(pmax(member(a, k), member(b, k)))
  }
  for (r in 1:60) {
    p <- sample(3:7, 1)
    k <- sample(p, 1)
    a <- sample(0:3, p, TRUE)
    b <- sample(0:2, p, TRUE)
    expect_equal(agreement_top(a, b, k), slow(a, b, k))
  }
  # many ties
  a <- c(1:5, double(200))
  b <- c(double(200), 1:5)
  expect_equal(agreement_top(a, b, 5), 0)
  expect_equal(agreement_top(double(50), double(50), 50), 1)
})
