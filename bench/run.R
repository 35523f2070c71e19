# Paired benchmarks: each figure is a ratio of CPU times in one run, one thread, against a reference
# that does the same work. Results go to bench/results/core.csv. Run with: make bench
library(dreher)
ns <- asNamespace("dreher")

cpu <- function(code, times = 5) {
  code <- substitute(code)
  frame <- parent.frame()
  stats::median(vapply(
    seq_len(times), function(i) sum(system.time(eval(code, frame))[1:2]), 0
  ))
}

# Ratio of two medians, the two measured in turns, so that both meet the same mood of the machine.
ratio_of <- function(own, reference, times = 7) {
  seconds <- vapply(
    seq_len(times),
    function(i) c(sum(system.time(own())[1:2]), sum(system.time(reference())[1:2])),
    double(2)
  )
  stats::median(seconds[1, ]) / stats::median(seconds[2, ])
}

simulate <- function(n, p, seed = 1) {
  set.seed(seed)
  x <- as.data.frame(matrix(rnorm(n * p), n))
  x$y <- x[[1]] * 2 + x[[2]] * x[[3]] + rnorm(n)
  x
}

bench_forest <- function(p, n = 5000, trees = 200, repeats = 5) {
  d <- simulate(n, p)
  fit <- ranger::ranger(
    y ~ ., d, num.trees = trees, seed = 1, num.threads = 1, keep.inbag = TRUE
  )
  fresh <- simulate(n, p, 2)
  st <- study(fit, fresh, "y", train = d, threads = 1)
  f <- st$models[[1]]$forest
  x <- ns$encode_for_forest(f, fresh)
  donors <- ns$draw_donors(n, repeats, 1)
  library_predict <- cpu(predict(fit, fresh, num.threads = 1))
  own_predict <- cpu(ns$forest_predict(f, x, 1L))
  train <- ns$encode_for_forest(f, d)
  impurity <- cpu(ns$forest_impurity(
    f, train, matrix(d$y), f$inbag, 0L, matrix(0, 0, p), matrix(0, 0, 1), 1L
  ))
  prepared <- ns$shuffle_prepare(f, x, 1L)
  shuffle <- cpu(ns$shuffle_rows(
    prepared, seq_len(p), p, donors, repeats, FALSE, matrix(0L, 0, 0), double(), 1L, n, 1L
  ))
  few <- x[1:20, , drop = FALSE]
  bg <- train[1:50, , drop = FALSE]
  shapley <- cpu(ns$forest_shapley(f, few, bg, double(), seq_len(p), p, 1L))
  data.frame(
    p = p,
    n = n,
    trees = trees,
    repeats = repeats,
    what = c(
      "own predict / library predict", "impurity / own predict",
      "p x repeats library predicts / all shuffles",
      "p x repeats own predicts / all shuffles",
      "predictions of 20 rows x 50 background rows / their Shapley values"
    ),
    ratio = c(
      ratio_of(function() ns$forest_predict(f, x, 1L), function() {
        predict(fit, fresh, num.threads = 1)
      }),
      impurity / own_predict, p * repeats * library_predict / shuffle,
      p * repeats * own_predict / shuffle, own_predict * 1000 / n / shapley
    )
  )
}

# Boosted trees of depth 6: prediction against the library's own, and how long 500 such trees take
# to read.
bench_boosted <- function(p, gaps, n = 10000, rounds = 500) {
  x <- as.matrix(simulate(n, p)[seq_len(p)])
  y <- x[, 1] * 2 + x[, 2] * x[, 3] + rnorm(n)
  if (gaps) x[sample(length(x), length(x) / 50)] <- NA
  train <- xgboost::xgb.DMatrix(x[1:3000, ], label = y[1:3000], nthread = 1)
  fit <- xgboost::xgb.train(
    list(max_depth = 6, eta = 0.1, nthread = 1, tree_method = "hist"),
    train,
    nrounds = rounds
  )
  reading <- cpu(model_forest(fit, model_inputs(fit)))
  f <- model_forest(fit, model_inputs(fit))
  coded <- ns$encode_for_forest(f, as.data.frame(x))
  # A matrix the library has seen before may get a stored prediction: a fresh one each time.
  fresh <- lapply(1:7, function(i) xgboost::xgb.DMatrix(x, nthread = 1))
  i <- 0
  predicting <- ratio_of(function() ns$forest_predict(f, coded, 1L), function() {
    i <<- i + 1
    predict(fit, fresh[[i]])
  })
  data.frame(
    p = p,
    n = n,
    trees = rounds,
    repeats = NA,
    what = paste0(
      "boosted", if (gaps) ", 2 % missing",
      c(": own predict / library predict", ": seconds to read")
    ),
    ratio = c(predicting, reading)
  )
}

# A forest of 500 fully grown trees, about 1.5 million nodes: reading and checking on 1,000 rows,
# in seconds.
bench_reading <- function() {
  d <- simulate(2500, 20)
  fit <- ranger::ranger(
    y ~ ., d, num.trees = 500, min.node.size = 1, seed = 1, num.threads = 2
  )
  fresh <- simulate(1000, 20, 2)
  seconds <- stats::median(vapply(
    1:3,
    function(i) system.time(st <<- study(fit, fresh, "y", threads = 1))[["elapsed"]],
    0
  ))
  data.frame(
    p = 20,
    n = length(st$models[[1]]$forest$column),
    trees = 500,
    repeats = NA,
    what = "seconds to read and check n nodes",
    ratio = seconds
  )
}

results <- do.call(
  rbind,
  c(
    lapply(c(20, 100), bench_forest),
    lapply(c(20, 100, 1000), bench_boosted, gaps = FALSE),
    lapply(c(20, 100), bench_boosted, gaps = TRUE), list(bench_reading())
  )
)
results$ratio <- signif(results$ratio, 3)
dir.create("bench/results", showWarnings = FALSE)
utils::write.csv(results, "bench/results/core.csv", row.names = FALSE)
print(results)
