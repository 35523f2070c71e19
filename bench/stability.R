# Do joint rank sets hold what they promise? Simulated data sets with separated, tied and null predictors; a linear model and a forest; permutation and
# Shapley importance; rank sets and tiers from bootstrap draws. A set holds when it contains all tied true ranks of its predictor, and counts when those of all predictors do at once.
# A tier is broken falsely when the predictor that opens it is not truly below the one before's leader.
# Run with: Rscript bench/stability.R [data sets] [draws] [cores]   (400 data sets of 100 draws: three quarters of an hour on one core)
# Results, brought up to date as it goes: bench/results/stability.csv
library(dreher)
asked <- as.integer(commandArgs(TRUE))
datasets <- if (length(asked) > 0) asked[1] else 400L
draws <- if (length(asked) > 1) asked[2] else 100L
cores <- if (length(asked) > 2) asked[3] else 2L

truths <- list(separated = c(1.5, 1.1, 0.75, 0.45, 0.2, 0), tied = c(1, 1, 0.5, 0.5, 0, 0))
one <- function(i) {
  found <- NULL
  truth <- names(truths)[i %% 2 + 1]
  beta <- truths[[truth]]
  set.seed(i)
  d <- as.data.frame(matrix(rnorm(200 * 6), 200))
  d$y <- as.vector(as.matrix(d) %*% beta) + rnorm(200)
  models <- list(linear = lm(y ~ ., d), forest = ranger::ranger(y ~ ., d, num.trees = 30, num.threads = 1, seed = i))
  st <- study(models, d, "y", train = d, threads = 1)
  rk <- rank_predictors(st, by = c("permutation", "shapley"), repeats = 5, background = 20, resamples = draw_resamples(d, times = draws, seed = i), seed = i)
  for (part in suppressWarnings(stability(rk))$parts) {
    t <- part$table
    b <- beta[match(t$predictor, names(d))]
    low <- vapply(b, function(v) 1 + sum(beta > v), 0)
    high <- vapply(b, function(v) sum(beta >= v), 0)
    opens <- which(!duplicated(t$tier))
    found <- rbind(found, data.frame(truth, model = t$model[1], method = t$method[1], held = all(t$rank_lower <= low & t$rank_upper >= high), each = mean(t$rank_lower <= low & t$rank_upper >= high),
                                     width = mean(t$rank_upper - t$rank_lower + 1), false_break = any(b[opens[-length(opens)]] <= b[opens[-1]]), tiers = max(t$tier)))
  }
  found
}
found <- NULL
for (some in split(seq_len(datasets), (seq_len(datasets) - 1) %/% 10)) {
  found <- rbind(found, do.call(rbind, parallel::mclapply(some, one, mc.cores = cores)))
  cells <- aggregate(cbind(held, each, width, false_break, tiers) ~ truth + model + method, found, mean)
  cells$data_sets <- aggregate(held ~ truth + model + method, found, length)$held
  cells$draws <- draws
  cells[4:8] <- round(cells[4:8], 3)
  write.csv(cells, "bench/results/stability.csv", row.names = FALSE)
}
print(cells)
