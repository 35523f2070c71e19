# Impurity importance where no predictor acts: mean over 200 data sets of the classical, the
# held-out and the corrected form, with its standard error. Results go to
# bench/results/null-impurity.csv. Run with: Rscript bench/null-impurity.R
library(dreher)

one <- function(seed, n = 150) {
  set.seed(seed)
  d <- data.frame(
    binary = factor(sample(2, n, TRUE)),
    levels_4 = factor(sample(4, n, TRUE)),
    levels_20 = factor(sample(20, n, TRUE)),
    levels_50 = factor(sample(50, n, TRUE)),
    normal = rnorm(n),
    y = rnorm(n)
  )
  fit <- ranger::ranger(
    y ~ ., d, num.trees = 15, keep.inbag = TRUE, seed = seed, num.threads = 1
  )
  st <- study(list(forest = fit), d, "y", train = d, threads = 1)
  forms <- list(
    classical = rank_impurity(st, rows = "train"),
    held_out = rank_impurity(st, rows = "oob"),
    gain = rank_impurity(st, rows = "oob", form = "gain"),
    corrected = rank_impurity(st, correct = TRUE, refits = 3, seed = seed)
  )
  predictors <- setdiff(names(d), "y")
  vapply(
    forms,
    function(rk) rk$importance[match(predictors, rk$predictor)] / var(d$y),
    setNames(double(5), predictors)
  )
}

runs <- lapply(1:200, one)
values <- simplify2array(runs)
mean_value <- apply(values, 1:2, mean)
std_error <- apply(values, 1:2, sd) / sqrt(length(runs))
out <- data.frame(
  predictor = rep(rownames(mean_value), ncol(mean_value)),
  form = rep(colnames(mean_value), each = nrow(mean_value)),
  mean = signif(as.vector(mean_value), 3),
  std_error = signif(as.vector(std_error), 2)
)
out$z <- round(as.vector(mean_value / std_error), 1)
dir.create("bench/results", showWarnings = FALSE)
utils::write.csv(out, "bench/results/null-impurity.csv", row.names = FALSE)
# drawn in the vignette on impurity
utils::write.csv(out, "vignettes/null-impurity.csv", row.names = FALSE)
print(out)
