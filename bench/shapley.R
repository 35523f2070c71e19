# Speed and memory of Shapley values, one thread unless said: ratios of CPU times in one run,
# taken in turns. The references are the boosting library's own attributions and, in
# shapley-reference.cpp, the classical algorithms. Results go to bench/results/shapley.csv. Run
# with: Rscript bench/shapley.R (some minutes)
library(dreher)
ns <- asNamespace("dreher")
Rcpp::sourceCpp("bench/shapley-reference.cpp")

simulate <- function(n, p, seed = 1) {
  set.seed(seed)
  x <- as.data.frame(matrix(rnorm(n * p), n))
  x$y <- x[[1]] * 2 + x[[2]] * x[[3]] + rnorm(n)
  x
}
cpu <- function(code) sum(system.time(code)[1:2])
# Least of several: what the machine's other work adds is never less than nothing.
in_turns <- function(..., times = 3) {
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
# What the ratios compare are the values themselves, checked to be the same; the tables and
# intervals of a ranking cost the same for all.
values <- function(model, x, others, cover, threads = 1L) {
  ns$forest_shapley(model$forest, x, others, cover, seq_len(ncol(x)), ncol(x), threads)
}

boosted <- function(p = 100) {
  d <- simulate(5000, p)
  fit <- xgboost::xgb.train(
    list(max_depth = 6, eta = 0.1, nthread = 1, tree_method = "hist"),
    xgboost::xgb.DMatrix(as.matrix(d[seq_len(p)]), label = d$y, nthread = 1),
    nrounds = 500
  )
  st <- flagged(study(fit, simulate(500, p, 2), "y", train = d, threads = 1))
  model <- st$models[[1]]
  # The library weighs by the sums of second derivatives, which for squared error are its numbers
  # of training rows.
  cover <- ns$cover_of(st, model)$cover
  others <- ns$encode_for_forest(model$forest, d[1:100, ])
  out <- NULL
  for (n in c(1000, 10000)) {
    fresh <- simulate(n, p, 3)
    x <- ns$encode_for_forest(model$forest, fresh)
    sheet <- xgboost::xgb.DMatrix(as.matrix(fresh[seq_len(p)]), nthread = 1)
    # the references are slow, and their time goes with the rows
    few <- x[seq_len(n / 50), , drop = FALSE]
    theirs <- function() predict(fit, sheet, predcontrib = TRUE)
    apart <- max(abs(
      theirs()[, seq_len(p)] - values(model, x, others[0, , drop = FALSE], cover)[, , 1]
    ))
    stopifnot(
      apart < 1e-3,
      max(abs(
        by_pairs_of_rows(model$forest, as.matrix(few), as.matrix(others)) -
          values(model, few, others, double())[, , 1]
      )) < 1e-8
    )
    seconds <- in_turns(
      theirs,
      function() values(model, x, others[0, , drop = FALSE], cover),
      function() by_pairs_of_rows(model$forest, as.matrix(few), as.matrix(others)),
      function() values(model, x, others, double()),
      function() values(model, x, others[1:10, ], double())
    )
    out <- rbind(
      out,
      data.frame(
        what = c(
          "library's attributions / by cover",
          "walk of each pair of rows / 100 background rows", "100 background rows / 10"
        ),
        model = "boosted, depth 6 x 500",
        p = p,
        rows = n,
        value = c(
          seconds[1] / seconds[2], 50 * seconds[3] / seconds[4], seconds[4] / seconds[5]
        )
      )
    )
  }
  two <- vapply(
    1:5,
    function(i) {
      c(
        system.time(values(model, x, others, double()))[[3]],
        system.time(values(model, x, others, double(), 2L))[[3]]
      )
    },
    double(2)
  )
  rbind(
    out,
    data.frame(
      what = "seconds on 1 thread / on 2",
      model = "boosted, depth 6 x 500",
      p = p,
      rows = n,
      value = min(two[1, ]) / min(two[2, ])
    )
  )
}

fully_grown <- function(p, rows = 1024) {
  d <- simulate(5000, p)
  fit <- ranger::ranger(
    y ~ ., d, num.trees = 200, seed = 1, num.threads = 1, keep.inbag = TRUE
  )
  st <- flagged(study(fit, simulate(100, p, 2), "y", train = d, threads = 1))
  model <- st$models[[1]]
  cover <- ns$cover_of(st, model)$cover
  x <- ns$encode_for_forest(model$forest, simulate(rows, p, 3))
  ours <- function() values(model, x, x[0, , drop = FALSE], cover)
  few <- x[seq_len(rows / 64), , drop = FALSE]
  stopifnot(
    max(abs(
      by_quadratic_paths(model$forest, as.matrix(few), cover) - ours()[
        seq_len(rows / 64), , 1
      ]
    )) < 1e-7
  )  # dividing out again costs the quadratic one digits on long paths
  seconds <- in_turns(
    function() by_quadratic_paths(model$forest, as.matrix(few), cover), ours
  )
  two <- vapply(
    1:3,
    function(i) {
      c(
        system.time(ours())[[3]],
        system.time(values(model, x, x[0, , drop = FALSE], cover, 2L))[[3]]
      )
    },
    double(2)
  )
  data.frame(
    what = c("quadratic paths / by cover", "seconds on 1 thread / on 2"),
    model = "fully grown, 200 trees",
    p = p,
    rows = rows,
    value = c(64 * seconds[1] / seconds[2], min(two[1, ]) / min(two[2, ]))
  )
}

# Fully grown trees against background rows; the slope is that of log time on log background rows.
grown_background <- function(p, rows = 1000) {
  d <- simulate(2000, p)
  fit <- ranger::ranger(
    y ~ ., d, num.trees = 100, seed = 1, num.threads = 1, min.node.size = 2
  )
  st <- flagged(study(fit, simulate(100, p, 2), "y", train = d, threads = 1))
  model <- st$models[[1]]
  x <- ns$encode_for_forest(model$forest, simulate(rows, p, 3))
  few <- x[seq_len(rows / 50), , drop = FALSE]
  others <- ns$encode_for_forest(model$forest, d[1:1000, ])
  ours <- function(n) values(model, x, others[seq_len(n), ], double())
  stopifnot(
    max(abs(
      by_pairs_of_rows(model$forest, as.matrix(few), as.matrix(others[1:100, ])) -
        ours(100)[seq_len(nrow(few)), , 1]
    )) < 1e-8
  )
  seconds <- in_turns(
    function() by_pairs_of_rows(model$forest, as.matrix(few), as.matrix(others[1:100, ])),
    function() ours(10),
    function() ours(30),
    function() ours(100),
    function() ours(300),
    function() ours(1000)
  )
  slope <- stats::coef(stats::lm(log(seconds[-1]) ~ log(c(10, 30, 100, 300, 1000))))[[2]]
  data.frame(
    what = c(
      "walk of each pair of rows / 100 background rows", "100 background rows / 10",
      "slope of log time on log background rows"
    ),
    model = "fully grown, 100 trees",
    p = p,
    rows = rows,
    value = c(50 * seconds[1] / seconds[4], seconds[4] / seconds[2], slope)
  )
}

# Any model: the bare predict calls against the whole. The model is a forest seen through a
# function.
any_model <- function(p = 20) {
  d <- simulate(5000, p)
  fit <- ranger::ranger(y ~ ., d, num.trees = 200, seed = 1, num.threads = 2)
  spent <- 0
  through <- function(model, data) {
    began <- proc.time()  # not system.time(), which clears the memory first
    out <- predict(model, data, num.threads = 1)$predictions
    spent <<- spent + sum((proc.time() - began)[1:2])
    out
  }
  st <- flagged(study(
    fit, simulate(200, p, 2), "y", train = d, predict_with = through, threads = 1
  ))
  spent <- 0
  whole <- cpu(rank_shapley(st, max_rows = 5))
  data.frame(
    what = "whole / bare predict calls",
    model = "any",
    p = p,
    rows = 5,
    value = whole / spent
  )
}

# Ten million contributions (100,000 rows x 100 predictors) through the public function, in a
# session of its own.
large <- function() {
  code <- paste0(
    "library(dreher); set.seed(1); n <- 1e5; x <- as.data.frame(matrix(rnorm(n * 100), ",
    "n)); x$y <- 2 * x[[1]] + x[[2]] * x[[3]] + rnorm(n);",
    "fit <- ranger::ranger(y ~ ., x[1:5000, ], num.trees = 100, max.depth = 6, seed = ",
    "1); st <- study(fit, x, 'y', train = x[1:5000, ], threads = 1);",
    "invisible(dreher:::flags_of(st));",
    "peak <- function() as.double(sub('[^0-9]*([0-9]+).*', '\\\\1', grep('VmHWM', ",
    "readLines('/proc/self/status'), value = TRUE))) / 1024;",
    "invisible(gc()); before <- peak(); rk <- rank_shapley(st, max_rows = n); ",
    "cat('\\n'); cat(peak() - before)"
  )
  out <- system2(
    file.path(R.home("bin"), "Rscript"), c("-e", shQuote(code)), stdout = TRUE
  )
  data.frame(
    what = "MB above the data and the study",
    model = "depth 6 x 100",
    p = 100,
    rows = 1e5,
    value = as.double(out[length(out)])
  )
}

# Sampled values against the exact ones of all sets, 300 runs with seeds of their own: how often
# intervals hold them, with a fixed number of pairs and with the stopping rule; and what the rule
# promises: of the rows that stopped before the limit, how many have a largest error of at most
# twice the precision asked for, as a share of the sum of the sizes.
sampled_values <- function(runs = 300, precision = 0.02) {
  set.seed(14)
  d <- as.data.frame(matrix(rnorm(40 * 6), 40, dimnames = list(NULL, letters[1:6])))
  d$y <- d$a
  deep <- function(model, data) {
    data$a * data$b * data$c + data$a * (data$d > 0) * data$b * data$e + data$f
  }
  st <- study(1, d[1:3, ], "y", train = d, predict_with = deep)
  m <- st$models[[1]]
  units <- as.list(stats::setNames(nm = letters[1:6]))
  rows <- ns$model_rows(st, m, d[1:3, ])
  bg <- ns$model_rows(st, m, d[21:30, ])
  exact <- ns$shapley_enumerated(st, m, units, rows, bg)$phi[, , 1]
  one <- function(seed) {
    held <- function(v) {
      mean(
        (abs(v$phi[, , 1] - exact) <= stats::qt(0.975, v$pairs - 1) * v$std_error[, , 1] +
            1e-10)[
          , 1:5
        ]
      )
    }  # f acts alone: no error at all
    stopped <- ns$shapley_sampled(st, m, units, rows, bg, precision, 500, seed)
    off <- apply(abs(stopped$phi[, , 1] - exact), 1, max) / rowSums(abs(exact))
    c(
      held(ns$shapley_sampled(st, m, units, rows, bg, 1e-9, 20, seed)), held(stopped),
      mean(off[!stopped$short] <= 2 * precision), mean(stopped$pairs)
    )
  }
  found <- rowMeans(vapply(seq_len(runs), one, double(4)))
  data.frame(
    what = c(
      "intervals hold, 20 pairs", "intervals hold, stopping rule",
      "largest error within twice the precision", "pairs at the stop"
    ),
    model = "any, 300 runs",
    p = 6,
    rows = 3,
    value = found
  )
}

results <- NULL
keep <- function(found) {   # written as it goes: what is done is not lost
  found$value <- signif(found$value, 3)
  results <<- rbind(results, found)
  utils::write.csv(results, "bench/results/shapley.csv", row.names = FALSE)
  print(found)
}
keep(boosted())
for (p in c(20, 100)) keep(fully_grown(p))
for (p in c(9, 20, 50)) keep(grown_background(p))
keep(any_model())
keep(sampled_values())
keep(large())
