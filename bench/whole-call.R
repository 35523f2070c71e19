# Speed of whole public calls as a user makes them, one thread: CPU times in one run, taken in
# turns, the first call on a study left out. Results go to bench/results/whole-call.csv. Run with:
# Rscript bench/whole-call.R [part ...] (about 5 minutes for all)
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
shapley_call <- function(n = 1000L, p = 50, trees = 200, depth = 6, times = 3) {
  d <- simulate(5000, p, 1)
  fresh <- simulate(n, p, 2)
  fit <- xgboost::xgb.train(
    list(max_depth = depth, eta = 0.1, nthread = 1, tree_method = "hist"),
    xgboost::xgb.DMatrix(as.matrix(d[seq_len(p)]), label = d$y, nthread = 1),
    nrounds = trees
  )
  st <- study(fit, fresh, "y", train = d, threads = 1)
  ours <- function() rank_shapley(st, value = "cover", max_rows = n)
  sheet <- xgboost::xgb.DMatrix(as.matrix(fresh[seq_len(p)]), nthread = 1)
  ours()
  data.frame(
    call = paste0(
      "rank_shapley(value = \"cover\"), ", n, " rows, ", p, " predictors, ", trees, " trees"
    ),
    against = "the boosting library's attributions",
    ours = least(ours, 7),
    reference = least(function() predict(fit, sheet, predcontrib = TRUE), times)
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

# Association of mixed columns with bootstrap errors against ranks and tables made anew for every
# draw (two of the 200 draws are timed). Seconds are of a study whose flags are known.
association_call <- function(n = 6000) {
  x <- simulate(n + 1000, 60, 1)
  for (j in 61:75) {
    x[[paste0("f", j)]] <- factor(sample(letters[seq_len(j - 58)], nrow(x), TRUE))
  }
  for (j in 76:85) x[[paste0("c", j)]] <- sample(5, nrow(x), TRUE)
  train <- x[seq_len(n), ]
  st <- study(stats::lm(y ~ ., train), x[-seq_len(n), ], "y", train = train, threads = 1)
  ours <- function() rank_association(st)
  anew <- function() {
    for (p in st$predictors) {
      for (b in 1:2) {
        i <- sample.int(n, replace = TRUE)
        dreher:::association(train[[p]][i], train$y[i])
      }
    }
  }
  ours()
  data.frame(
    call = "rank_association(), 85 columns x 6,000 rows",
    against = "ranks and tables anew for each of 200 draws",
    ours = least(ours, 3),
    reference = 100 * least(anew, 1)
  )
}

# Shapley values of fully grown trees against 100 background rows and against ten times as many.
background_call <- function(n = 1000, p = 20) {
  d <- simulate(3000, p, 1)
  fit <- ranger::ranger(
    y ~ ., d, num.trees = 100, seed = 1, num.threads = 1, min.node.size = 2
  )
  st <- study(fit, simulate(n, p, 2), "y", train = d, threads = 1)
  ours <- function() rank_shapley(st)
  ours()
  data.frame(
    call = "rank_shapley(), 100 fully grown trees, 100 background rows",
    against = "the same with 1,000 background rows",
    ours = least(ours, 3),
    reference = least(function() rank_shapley(st, background = 1000), 1)
  )
}

# The parts named on the command line, or all.
parts <- list(
  shapley = shapley_call, large = function() shapley_call(10000L, 100, 500, times = 1),
  permutation = permutation_call, association = association_call,
  background = background_call
)
asked <- commandArgs(TRUE)
file <- "bench/results/whole-call.csv"
result <- do.call(
  rbind, lapply(parts[if (length(asked)) asked else names(parts)], function(f) f())
)
result$ratio <- result$reference / result$ours
result[3:5] <- lapply(result[3:5], signif, 3)
if (length(asked) && file.exists(file)) {
  known <- utils::read.csv(file)
  result <- rbind(known[!known$call %in% result$call, ], result)
}
print(result, row.names = FALSE)
utils::write.csv(result, file, row.names = FALSE)
