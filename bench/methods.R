# What do the methods report where the truth is known? Results for the page "Which importance to
# believe": bench/results/methods.csv, shares of every predictor by method, means over data sets.
#   together  near acts not at all, but goes with acts (0.9); alone acts by half as much
#   levels    codes has 30 levels and does nothing; flag (yes or no) acts weakly, x acts
#   pair      a and b act as their product only; c acts by itself
#   small     60 rows, one of ten predictors acts: how often is another one first?
# A forest of 100 trees on 400 (60) rows, 1,000 (200) other rows to measure on. Truth: what the
# predictor's values add to the variance that the true function explains, all others known, as a
# share. Run with: Rscript bench/methods.R [data sets]   (a few minutes)
library(dreher)
sets <- as.integer(c(commandArgs(TRUE), 20)[1])
draw <- list(
  together = function(n) {
    d <- data.frame(acts = rnorm(n), alone = rnorm(n))
    d$near <- 0.9 * d$acts + sqrt(0.19) * rnorm(n)
    d$y <- d$acts + 0.5 * d$alone + rnorm(n)
    d
  },
  levels = function(n) {
    d <- data.frame(
      x = rnorm(n), flag = factor(sample(c("no", "yes"), n, TRUE)),
      codes = factor(sample(sprintf("c%02d", 1:30), n, TRUE), sprintf("c%02d", 1:30))
    )
    d$y <- d$x + 0.6 * (d$flag == "yes") + rnorm(n)
    d
  },
  pair = function(n) {
    d <- data.frame(a = rnorm(n), b = rnorm(n), c = rnorm(n), idle = rnorm(n))
    d$y <- d$a * d$b + 0.7 * d$c + rnorm(n)
    d
  },
  small = function(n) {
    d <- as.data.frame(matrix(rnorm(n * 10), n))
    d$y <- 0.5 * d$V1 + rnorm(n)
    d
  }
)
# Variance that a predictor adds where the others are known, by the formulas above.
truth <- list(
  together = c(acts = 0.19, alone = 0.25, near = 0),
  levels = c(x = 1, flag = 0.09, codes = 0),
  pair = c(a = 1, b = 1, c = 0.49, idle = 0),
  small = c(V1 = 0.25, stats::setNames(double(9), paste0("V", 2:10)))
)
ways <- function(st) {
  of <- function(rk, form = NULL) {
    rk <- as.data.frame(rk)
    rk <- rk[is.na(rk$class) & (is.null(form) | rk$form %in% form), ]
    stats::setNames(rk$importance, rk$predictor)
  }
  within <- rank_permutation(st, shuffle = "conditional")
  list(
    `impurity, training rows` = of(rank_impurity(st, rows = "train")),
    `impurity, out of bag` = of(rank_impurity(st, rows = "oob")),
    permutation = of(rank_permutation(st)),
    `conditional permutation` = of(within, "conditional"),
    Shapley = of(rank_shapley(st, background = 50, max_rows = 200)),
    refit = of(rank_refit(st, times = 10)),
    association = of(rank_association(st))
  )
}
one <- function(kind, i) {
  set.seed(i)
  n <- if (kind == "small") 60 else 400
  d <- draw[[kind]](n)
  fit <- ranger::ranger(
    y ~ .,
    d,
    num.trees = 100,
    keep.inbag = TRUE,
    seed = i,
    num.threads = 1,
    respect.unordered.factors = "order"
  )
  st <- study(
    fit, draw[[kind]](if (kind == "small") 200 else 1000), "y", train = d, threads = 1
  )
  found <- suppressWarnings(ways(st))
  found$truth <- truth[[kind]]
  do.call(
    rbind,
    lapply(names(found), function(w) {
      v <- pmax(found[[w]][names(truth[[kind]])], 0)
      first <- names(v)[which.max(v)]
      data.frame(
        kind,
        way = w,
        predictor = names(v),
        share = v / max(sum(v), 1e-300),
        first = names(v) == first
      )
    })
  )
}
jobs <- expand.grid(kind = names(draw), i = seq_len(sets), stringsAsFactors = FALSE)
found <- do.call(rbind, parallel::mclapply(
  seq_len(nrow(jobs)), function(j) one(jobs$kind[j], jobs$i[j]),
  mc.cores = 2
))
out <- stats::aggregate(
  found[c("share", "first")], found[c("kind", "way", "predictor")], mean
)
out$data_sets <- sets
out[c("share", "first")] <- signif(out[c("share", "first")], 3)
utils::write.csv(out, "bench/results/methods.csv", row.names = FALSE)
utils::write.csv(out, "vignettes/believing.csv", row.names = FALSE)  # for the page
print(out)
