# How time grows: the slope of log CPU time on log size, with its error, of the public calls on a
# forest, one thread, one size varied at a time. 1: time grows with the size itself. Results:
# bench/results/growth.csv. Run with: Rscript bench/growth.R (about 10 minutes)
library(dreher)

base <- list(rows = 8000, predictors = 20, trees = 200, leaves = 128, background = 100)
sizes <- list(
  rows = c(4000, 8000, 16000, 32000), predictors = c(10, 20, 40, 80, 160),
  trees = c(100, 200, 400, 800), leaves = c(16, 32, 64, 128, 256),
  background = c(50, 100, 200, 400)
)
simulate <- function(n, p, seed) {
  set.seed(seed)
  x <- as.data.frame(matrix(stats::rnorm(n * p), n))
  names(x) <- paste0("x", seq_len(p))
  # every predictor acts, so that trees ask all of them
  x$y <- as.vector(as.matrix(x) %*% (1 / seq_len(p)^0.3)) + x$x1 * x$x2 + stats::rnorm(n)
  x
}
setting <- function(s) {
  train <- simulate(4000, s$predictors, 1)
  fit <- ranger::ranger(
    y ~ ., train, num.trees = s$trees, max.depth = round(log2(s$leaves)), seed = 1,
    num.threads = 1, keep.inbag = TRUE
  )
  study(fit, simulate(s$rows, s$predictors, 2), "y", train = train, threads = 1)
}
calls <- list(
  "rank_impurity()" = function(st, s) rank_impurity(st),
  "rank_permutation()" = function(st, s) rank_permutation(st),
  "rank_shapley(value = \"cover\")" = function(st, s) {
    rank_shapley(st, value = "cover", max_rows = s$rows)
  },
  "rank_shapley()" = function(st, s) {
    rank_shapley(st, background = s$background, max_rows = s$rows)
  }
)
cpu <- function(code) sum(system.time(code)[1:2])
found <- list()
for (size in names(sizes)) {
  for (value in sizes[[size]]) {
    s <- base
    s[[size]] <- value
    st <- setting(s)
    for (call in names(calls)) {
      if (size == "background" && call != "rank_shapley()") next
      if (size == "rows" && call == "rank_impurity()") next  # of the training rows
      calls[[call]](st, s)  # flags and the like are worked out once a study
      took <- min(vapply(1:2, function(i) cpu(calls[[call]](st, s)), 0))
      found[[length(found) + 1]] <- data.frame(call, size, value, seconds = took)
    }
  }
  print(utils::tail(do.call(rbind, found), 12), row.names = FALSE)
}
found <- do.call(rbind, found)
slopes <- do.call(rbind, lapply(
  split(found, list(found$call, found$size), drop = TRUE),
  function(d) {
    line <- summary(stats::lm(log(seconds) ~ log(value), d))$coefficients[2, 1:2]
    data.frame(
      call = d$call[1], size = d$size[1], from = min(d$value), to = max(d$value),
      slope = round(line[[1]], 2), std_error = round(line[[2]], 2),
      seconds_least = signif(min(d$seconds), 2), seconds_most = signif(max(d$seconds), 3)
    )
  }
))
utils::write.csv(slopes, "bench/results/growth.csv", row.names = FALSE)
print(slopes, row.names = FALSE)
