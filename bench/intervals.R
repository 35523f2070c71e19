# Do intervals hold the value in the population where rows are few or tails are long?
#   shapley  mean absolute Shapley values of 60 and 200 rows: normal, skewed and rare predictors,
#            a linear model and a forest
#   heavy    permutation importance by rmse and r2 of 200 rows, errors with t(3) and lognormal tails
# Models are trained once on 300 or 400 rows; the value in the population comes from 20,000 to
# 2 million rows. Run with: Rscript bench/intervals.R [samples per cell] [parts]  (ten minutes)
# Results, brought up to date as it goes: bench/results/intervals.csv
library(dreher)
words <- commandArgs(TRUE)
runs <- if (length(words)) as.integer(words[1]) else 1000L
parts <- if (length(words) > 1) words[-1] else c("shapley", "heavy")

fresh_study <- function(st, data) {
  st$data <- data
  st$memory <- new.env(parent = emptyenv())
  st
}
held <- function(rk, truth) {
  rk <- as.data.frame(rk)
  rk <- rk[match(names(truth), rk$predictor), ]
  rk$lower <= truth & truth <= rk$upper
}
many <- function(f) {
  do.call(rbind, parallel::mclapply(seq_len(runs), function(i) {
    set.seed(i)
    suppressWarnings(f(i))
  }, mc.cores = 2))
}
keep <- function(cell, found) {
  new <- data.frame(
    cell, predictor = colnames(found), samples = nrow(found),
    coverage = signif(colMeans(found), 3), row.names = NULL
  )
  file <- "bench/results/intervals.csv"
  old <- if (file.exists(file)) utils::read.csv(file)
  key <- function(d) do.call(paste, d[c("part", "model", "metric", "n", "predictor")])
  if (!is.null(old)) new <- rbind(old[!key(old) %in% key(new), ], new)
  utils::write.csv(new, file, row.names = FALSE)
  print(new)
}

shapley_cells <- function() {
  draw <- function(n) {
    d <- data.frame(
      normal = rnorm(n), exponential = rexp(n), lognormal = exp(rnorm(n)),
      rare = rbinom(n, 1, 0.1)
    )
    d$y <- d$normal + d$exponential + 0.5 * d$lognormal + d$rare + rnorm(n)
    d
  }
  set.seed(3)
  d <- draw(400)
  large <- draw(1e5)
  models <- list(
    linear = lm(y ~ ., d),
    forest = ranger::ranger(
      y ~ ., d, num.trees = 30, min.node.size = 10, num.threads = 1, seed = 1
    )
  )
  for (m in names(models)) {
    st <- suppressWarnings(study(models[m], d, "y", train = d, threads = 1))
    rank <- function(data) {
      as.data.frame(suppressWarnings(
        rank_shapley(fresh_study(st, data), background = 50, max_rows = nrow(data))
      ))
    }
    rk <- rank(if (m == "linear") large else large[1:20000, ])
    truth <- stats::setNames(rk$importance, rk$predictor)
    for (n in c(60, 200)) {
      keep(
        data.frame(part = "shapley", model = m, metric = "mean absolute value", n = n),
        many(function(i) held(rank(draw(n)), truth))
      )
    }
  }
}

heavy_cells <- function() {
  for (tails in c("t3", "lognormal")) {
    draw <- function(n) {
      d <- data.frame(strong = rnorm(n), weak = rnorm(n), null = rnorm(n))
      e <- if (tails == "t3") rt(n, 3) else exp(rnorm(n)) - exp(0.5)
      d$y <- d$strong + 0.3 * d$weak + e
      d
    }
    set.seed(1)
    d <- draw(300)
    fit <- lm(y ~ ., d)
    b <- coef(fit)[-1]
    # The population's own: means of squares that are known.
    error <- if (tails == "t3") 3 else (exp(1) - 1) * exp(1)
    mse <- error + sum((b - c(1, 0.3, 0))^2) + coef(fit)[[1]]^2
    shuffled <- vapply(names(b), function(v) {
      true <- c(strong = 1, weak = 0.3, null = 0)
      mse - (b[[v]] - true[[v]])^2 + b[[v]]^2 + true[[v]]^2
    }, 0)
    for (metric in c("rmse", "r2")) {
      truth <- if (metric == "rmse") {
        sqrt(shuffled) - sqrt(mse)
      } else {
        (shuffled - mse) / (error + 1.09)
      }
      st <- study(list(linear = fit), draw(50), "y", train = d, metric = metric, threads = 1)
      keep(
        data.frame(part = "heavy", model = tails, metric = metric, n = 200),
        many(function(i) held(rank_permutation(fresh_study(st, draw(200)), seed = i), truth))
      )
    }
  }
}
if ("shapley" %in% parts) shapley_cells()
if ("heavy" %in% parts) heavy_cells()
