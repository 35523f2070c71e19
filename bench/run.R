# Paired benchmarks: each figure is a ratio of CPU times in one run, one thread, against a reference
# that does the same work. Results go to bench/results/core.csv. Run with: make bench
library(dreher)
ns <- asNamespace("dreher")

cpu <- function(code, times = 3) {
  code <- substitute(code)
  frame <- parent.frame()
  stats::median(vapply(seq_len(times), function(i) sum(system.time(eval(code, frame))[1:2]), 0))
}

simulate <- function(n, p, seed = 1) {
  set.seed(seed)
  x <- as.data.frame(matrix(rnorm(n * p), n))
  x$y <- x[[1]] * 2 + x[[2]] * x[[3]] + rnorm(n)
  x
}

bench_forest <- function(p, n = 2000, trees = 200, repeats = 5) {
  d <- simulate(n, p)
  fit <- ranger::ranger(y ~ ., d, num.trees = trees, seed = 1, num.threads = 1, keep.inbag = TRUE)
  fresh <- simulate(n, p, 2)
  st <- study(fit, fresh, "y", train = d, threads = 1)
  f <- st$models[[1]]$forest
  x <- ns$encode_for_forest(f, fresh)
  donors <- ns$draw_donors(n, repeats, 1)
  library_predict <- cpu(predict(fit, fresh, num.threads = 1))
  own_predict <- cpu(ns$forest_predict(f, x, 1L))
  train <- ns$encode_for_forest(f, d)
  impurity <- cpu(ns$forest_impurity(f, train, matrix(d$y), f$inbag, 0L, matrix(0, 0, p), matrix(0, 0, 1), 1L))
  shuffle <- cpu(ns$forest_shuffle(f, x, seq_len(p), p, donors, 1L))
  few <- x[1:20, , drop = FALSE]
  bg <- train[1:50, , drop = FALSE]
  shapley <- cpu(ns$forest_shapley(f, few, bg, seq_len(p), p, 1L))
  data.frame(p = p, n = n, trees = trees, repeats = repeats,
             what = c("own predict / library predict", "impurity / own predict", "p x repeats library predicts / all shuffles",
                      "p x repeats own predicts / all shuffles", "predictions of 20 rows x 50 background rows / their Shapley values"),
             ratio = c(own_predict / library_predict, impurity / own_predict, p * repeats * library_predict / shuffle,
                       p * repeats * own_predict / shuffle, own_predict * 1000 / n / shapley))
}

results <- do.call(rbind, lapply(c(20, 100), bench_forest))
results$ratio <- signif(results$ratio, 3)
dir.create("bench/results", showWarnings = FALSE)
utils::write.csv(results, "bench/results/core.csv", row.names = FALSE)
print(results)
