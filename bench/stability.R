# Do joint rank sets hold what they promise, and how wide are they?
#
# Simulated data sets whose predictors differ, tie, are all equal, or mix; a linear model and a
# forest; permutation and Shapley importance; rank sets and tiers from bootstrap draws. A set holds
# when it contains all tied true ranks of its predictor, and counts when those of all predictors do
# at once. `single_step` is the width of sets by one quantile over all pairs, with the learner's own
# noise left in. A tier is broken falsely when the predictor that opens it is not truly below the
# one before's leader. Run with:
#   Rscript bench/stability.R [data sets] [draws] [cores] (400 data sets of 100 draws, a hundred
#   for each truth: 40 minutes on two cores) A run goes on where an earlier one stopped. Results,
#   brought up to date as it goes: bench/results/stability.csv, and for runs of data sets (first
#   to last) stability-parts.csv
library(dreher)
asked <- as.integer(commandArgs(TRUE))
datasets <- if (length(asked) > 0) asked[1] else 400L
draws <- if (length(asked) > 1) asked[2] else 100L
cores <- if (length(asked) > 2) asked[3] else 2L

truths <- list(
  separated = c(1.5, 1.1, 0.75, 0.45, 0.2, 0), tied = c(1, 1, 0.5, 0.5, 0, 0),
  equal = rep(0.6, 6), mixed = c(1.2, 0.6, 0.6, 0.6, 0, 0)
)
# Widths by one quantile over all pairs of the draws as they are.
single_step <- function(rk, part) {
  d <- as.data.frame(rk)
  d <- d[d$model == part$table$model[1] & d$method == part$table$method[1], ]
  x <- dreher:::importance_matrix(d)
  centre <- colMeans(x)
  x <- dreher:::with_offsets(x, d, dreher:::detail(rk, "offsets"))
  error <- sqrt(dreher:::pair_variances(stats::cov(x)))
  told <- abs(outer(centre, centre, "-")) > part$critical * error
  diag(told) <- FALSE
  mean(ncol(x) - rowSums(told))
}
one <- function(i) {
  found <- NULL
  truth <- names(truths)[i %% 4 + 1]
  beta <- truths[[truth]]
  set.seed(i)
  d <- as.data.frame(matrix(rnorm(200 * 6), 200))
  d$y <- as.vector(as.matrix(d) %*% beta) + rnorm(200)
  models <- list(
    linear = lm(y ~ ., d),
    forest = ranger::ranger(y ~ ., d, num.trees = 30, num.threads = 1, seed = i)
  )
  st <- study(models, d, "y", train = d, threads = 1)
  rk <- rank_predictors(
    st,
    by = c("permutation", "shapley"),
    repeats = 5,
    background = 20,
    resamples = draw_resamples(d, times = draws, seed = i),
    seed = i
  )
  for (part in suppressWarnings(stability(rk))$parts) {
    t <- part$table
    b <- beta[match(t$predictor, names(d))]
    low <- vapply(b, function(v) 1 + sum(beta > v), 0)
    high <- vapply(b, function(v) sum(beta >= v), 0)
    opens <- which(!duplicated(t$tier))
    found <- rbind(
      found,
      data.frame(
        truth,
        model = t$model[1],
        method = t$method[1],
        held = all(t$rank_lower <= low & t$rank_upper >= high),
        each = mean(t$rank_lower <= low & t$rank_upper >= high),
        width = mean(t$rank_upper - t$rank_lower + 1),
        single_step = single_step(rk, part),
        false_break = any(b[opens[-length(opens)]] <= b[opens[-1]]),
        tiers = max(t$tier)
      )
    )
  }
  found
}
parts_file <- "bench/results/stability-parts.csv"
parts <- if (file.exists(parts_file)) utils::read.csv(parts_file)
parts <- parts[parts$draws == draws, ]
figures <- c("held", "each", "width", "single_step", "false_break", "tiers")
todo <- setdiff(seq_len(datasets), unlist(Map(seq, parts$first, parts$last)))
apart <- cumsum(c(0, diff(todo) != 1))  # runs of data sets that follow each other, ten at a time
for (some in unlist(
    lapply(split(todo, apart), function(run) split(run, (seq_along(run) - 1) %/% 10)),
    recursive = FALSE
  )) {
  found <- do.call(rbind, parallel::mclapply(some, one, mc.cores = cores))
  cells <- stats::aggregate(found[figures], found[c("truth", "model", "method")], mean)
  cells$data_sets <- stats::aggregate(
    found["held"], found[c("truth", "model", "method")], length
  )$held
  parts <- rbind(parts, data.frame(cells, draws, first = min(some), last = max(some)))
  utils::write.csv(parts, parts_file, row.names = FALSE)
}
whole <- do.call(
  rbind,
  lapply(split(parts, parts[c("truth", "model", "method")], drop = TRUE), function(p) {
    data.frame(
      p[1, c("truth", "model", "method")],
      lapply(p[figures], function(v) round(sum(v * p$data_sets) / sum(p$data_sets), 3)),
      data_sets = sum(p$data_sets),
      draws
    )
  })
)
utils::write.csv(whole, "bench/results/stability.csv", row.names = FALSE)
print(whole, row.names = FALSE)
