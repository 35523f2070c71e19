# Speed of whole public calls as a user makes them, one thread: CPU times in one run, taken in
# turns, the first call on a study left out. Results go to bench/results/whole-call.csv. Run with:
# Rscript bench/whole-call.R (about 5 minutes)
library(dreher)

simulate <- function(n, p, seed) {
  set.seed(seed)
  x <- as.data.frame(matrix(rnorm(n * p), n))
  x$y <- x[[1]] * 2 + x[[2]] * x[[3]] + rnorm(n)
  x
}
cpu <- function(code) sum(system.time(code)[1:2])
least <- function(f, times) min(vapply(seq_len(times), function(i) cpu(f()), 0))

# Shapley values by the trees' own row numbers against the boosting library's attributions.
shapley_call <- function(n = 1000, p = 50, trees = 200, depth = 6) {
  d <- simulate(5000, p, 1)
  fresh <- simulate(n, p, 2)
  fit <- xgboost::xgb.train(
    list(max_depth = depth, eta = 0.1, nthread = 1, tree_method = "hist"),
    xgboost::xgb.DMatrix(as.matrix(d[seq_len(p)]), label = d$y, nthread = 1),
    nrounds = trees
  )
  st <- study(fit, fresh, "y", train = d, threads = 1)
  ours <- function() rank_shapley(st, value = "cover")
  sheet <- xgboost::xgb.DMatrix(as.matrix(fresh[seq_len(p)]), nthread = 1)
  ours()
  data.frame(
    call = "rank_shapley(value = \"cover\")",
    against = "the boosting library's attributions",
    ours = least(ours, 7),
    reference = least(function() predict(fit, sheet, predcontrib = TRUE), 3)
  )
}

# Permutation importance against a loop over the forest library's predict().
permutation_call <- function(n = 1000, p = 100, trees = 300, repeats = 5) {
  d <- simulate(2000, p, 1)
  fresh <- simulate(n, p, 2)
  fit <- ranger::ranger(y ~ ., d, num.trees = trees, seed = 1, num.threads = 2)
  st <- study(fit, fresh, "y", train = d, threads = 1)
  ours <- function() rank_permutation(st, repeats = repeats)
  loop <- function() {
    rmse <- function(x) {
      sqrt(mean((fresh$y - predict(fit, x, num.threads = 1)$predictions)^2))
    }
    base <- rmse(fresh)
    set.seed(1)
    vapply(
      seq_len(p),
      function(j) {
        mean(vapply(
          seq_len(repeats),
          function(r) {
            x <- fresh
            x[[j]] <- sample(x[[j]])
            rmse(x) - base
          },
          0
        ))
      },
      0
    )
  }
  ours()
  data.frame(
    call = "rank_permutation(repeats = 5)",
    against = "a loop over the forest library's predict()",
    ours = least(ours, 7),
    reference = least(loop, 1)
  )
}

result <- rbind(shapley_call(), permutation_call())
result$ratio <- result$reference / result$ours
result[3:5] <- lapply(result[3:5], signif, 3)
print(result)
utils::write.csv(result, "bench/results/whole-call.csv", row.names = FALSE)
