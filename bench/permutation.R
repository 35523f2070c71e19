# Speed and memory of permutation importance, one thread unless said: ratios of CPU times in one
# run, taken in turns. Results go to bench/results/permutation.csv. Run with: Rscript
# bench/permutation.R (about a quarter of an hour)
library(dreher)
ns <- asNamespace("dreher")

simulate <- function(n, p, seed = 1) {
  set.seed(seed)
  x <- as.data.frame(matrix(rnorm(n * p), n))
  x$y <- x[[1]] * 2 + x[[2]] * x[[3]] + rnorm(n)
  x
}
cpu <- function(code) sum(system.time(code)[1:2])
# Least of several: what the machine's other work adds is never less than nothing.
in_turns <- function(..., times = 5) {
  apply(
    vapply(
      seq_len(times),
      function(i) vapply(list(...), function(f) cpu(f()), 0),
      double(...length())
    ),
    1,
    min
  )
}
# Flags are worked out once a study, before the clock starts.
flagged <- function(st) {
  ns$flags_of(st)
  st
}
grow <- function(kind, d, p, trees = 500) {
  if (kind == "ranger") {
    return(ranger::ranger(y ~ ., d, num.trees = trees, seed = 1, num.threads = 2))
  }
  xgboost::xgb.train(
    list(max_depth = 6, eta = 0.1, nthread = 1, tree_method = "hist"),
    xgboost::xgb.DMatrix(as.matrix(d[seq_len(p)]), label = d$y, nthread = 1),
    nrounds = trees
  )
}

against_predict <- function(kind, p, n = 2000) {
  d <- simulate(5000, p)
  fresh <- simulate(n, p, 2)
  fit <- grow(kind, d, p)
  st <- flagged(study(fit, fresh, "y", train = d, threads = 1))
  sheets <- if (kind == "xgboost") {
    lapply(1:5, function(i) {
      xgboost::xgb.DMatrix(as.matrix(fresh[seq_len(p)]), nthread = 1)
    })
  }  # one seen before may be answered from store
  i <- 0
  theirs <- function() {
    if (kind == "ranger") {
      predict(fit, fresh, num.threads = 1)
    } else {
      predict(fit, sheets[[i <<- i + 1]])
    }
  }
  seconds <- in_turns(theirs, function() rank_permutation(st, repeats = 5))
  all <- if (p == 100) cpu(rank_permutation(st, repeats = "all")) else NA
  data.frame(
    what = c("p x 5 library predicts / 5 repeats", if (p == 100) "all pairs / 5 repeats"),
    model = kind,
    p = p,
    rows = n,
    value = c(5 * p * seconds[1], if (p == 100) all) / seconds[2]
  )
}

# Any model: the bare predict calls against the whole; and how many calls. The model is a forest
# seen through a function.
any_model <- function(p = 20, n = 2000) {
  d <- simulate(5000, p)
  fresh <- simulate(n, p, 2)
  fit <- grow("ranger", d, p, 200)
  calls <- 0
  spent <- 0
  through <- function(model, data) {
    calls <<- calls + 1
    began <- proc.time()  # not system.time(), which clears the memory first
    out <- predict(model, data, num.threads = 1)$predictions
    spent <<- spent + sum((proc.time() - began)[1:2])
    out
  }
  st <- flagged(study(fit, fresh, "y", predict_with = through, threads = 1))
  calls <- spent <- 0
  whole <- cpu(rank_permutation(st, repeats = 5))
  data.frame(
    what = c("whole / bare predict calls", "calls / (p x repeats)"),
    model = "any",
    p = p,
    rows = n,
    value = c(whole / spent, calls / (p * 5))
  )
}

in_fresh_session <- function(code) {
  out <- system2(file.path(R.home("bin"), "Rscript"), c("-e", shQuote(code)), stdout = TRUE)
  as.double(strsplit(out[length(out)], " ")[[1]])
}
# 100 predictors, 10 repeats: memory above the data, and seconds, for one tenth of the rows and
# for all.
large <- function(rows) {
  in_fresh_session(paste0(
    "library(dreher); set.seed(1); n <- ", rows,
    "; x <- as.data.frame(matrix(rnorm(n * 100), n)); x$y <- 2 * x[[1]] + x[[2]] * ",
    "x[[3]] + rnorm(n);",
    "fit <- ranger::ranger(y ~ ., x[1:5000, ], num.trees = 50, seed = 1); st <- ",
    "study(fit, x, 'y', threads = 1);",
    "invisible(dreher:::flags_of(st));",
    "peak <- function() as.double(sub('[^0-9]*([0-9]+).*', '\\\\1', grep('VmHWM', ",
    "readLines('/proc/self/status'), value = TRUE))) / 1024;",
    "invisible(gc()); before <- peak(); t1 <- ",
    "sum(system.time(rank_permutation(st))[1:2]); wall <- replicate(3, ",
    "c(system.time(rank_permutation(st, threads = 1))[[3]], ",
    "system.time(rank_permutation(st, threads = 2))[[3]])); t2 <- min(wall[1, ]); t3 ",
    "<- min(wall[2, ]);", "cat('\\n'); cat(before, peak(), t1, t2, t3)"
  ))
}

results <- NULL
keep <- function(found) {   # written as it goes: what is done is not lost
  found$value <- signif(found$value, 3)
  results <<- rbind(results, found)
  utils::write.csv(results, "bench/results/permutation.csv", row.names = FALSE)
  print(found)
}
for (kind in c("ranger", "xgboost")) for (p in c(20, 100)) keep(against_predict(kind, p))
keep(any_model())
few <- large(10000)
many <- large(100000)
keep(data.frame(
  what = c(
    "MB above the data and the study", "seconds for ten times the rows / seconds",
    "seconds on 1 thread / on 2"
  ),
  model = "ranger, 50 trees",
  p = 100,
  rows = 1e5,
  value = c(many[2] - many[1], many[3] / few[3], many[4] / many[5])
))
for (kind in c("ranger", "xgboost")) keep(against_predict(kind, 1000))
