# What a reduction promises, by simulation. Results go to bench/results/reduction-*.csv.
#   noise nothing acts: is the nested score of the chosen set honest, and does one_se choose
#   nothing?
#   support  5 of 50 act, correlated noise: are they found, with how many others?
#   price    does the interval of the price cover the true difference, from 100,000 fresh rows?
# Run with: Rscript bench/reduction.R noise 50   (some minutes each, two processes)
library(dreher)
words <- commandArgs(TRUE)
what <- if (length(words)) words[1] else "noise"
seeds <- if (length(words) > 1) as.integer(words[2]) else 50
over <- function(x, f) {
  do.call(rbind, parallel::mclapply(x, f, mc.cores = 2, mc.preschedule = FALSE))
}

noise_run <- function(n, p, seed) {
  set.seed(seed)
  draw <- function(n) {
    d <- as.data.frame(matrix(rnorm(n * p), n))
    d$y <- rnorm(n)
    d
  }
  d <- draw(n)
  start <- lm(reformulate(names(d)[1:2], "y"), d)  # refitted on every set
  refit <- function(model, data, predictors) lm(y ~ ., data[c("y", predictors)])
  say <- function(model, data) suppressWarnings(predict(model, data))
  st <- study(
    list(linear = start),
    d,
    "y",
    train = d,
    predict_with = say,
    refit_with = refit,
    predictors = names(d)[1:p],
    metric = "mse"
  )
  rd <- suppressWarnings(reduce_predictors(
    st,
    by = "association",
    folds = 5,
    repeats = 2,
    inner_folds = 3,
    counts = c(1, 2, 3, 5, 10),
    random = 0,
    seed = seed
  ))
  fresh <- draw(10000)
  do.call(
    rbind,
    lapply(c("one_se", "best"), function(rule) {
      ps <- choose_set(rd, rule = rule)
      fit <- if (ps$count) lm(formula(ps), d) else lm(y ~ 1, d)
      # On all rows chosen, then cross-validated: what is not to be done.
      top <- names(sort(-abs(cor(d[1:p], d$y)[, 1])))[1:10]
      fold <- rd$curves[[1]]$fold_of[, 1]
      q <- double(n)
      for (f in 1:5) {
        q[fold == f] <- predict(lm(reformulate(top, "y"), d[fold != f, ]), d[fold == f, ])
      }
      data.frame(
        n = n,
        p = p,
        seed = seed,
        rule = rule,
        size = ps$count,
        nested = ps$nested$score,
        gain_lower = ps$nested$skill_lower,
        fresh = mean((predict(fit, fresh) - fresh$y)^2),
        constant = mean((fresh$y - mean(d$y))^2),
        shortcut_r2 = 1 - mean((q - d$y)^2) / ps$constant_score
      )
    })
  )
}

support_run <- function(kind, seed) {
  set.seed(seed)
  n <- 500
  draw <- function(n) {
    block <- matrix(rnorm(n * 9), n)
    x <- cbind(
      matrix(rnorm(n * 5), n),
      sqrt(0.5) * block[, rep(1:9, each = 5)] + sqrt(0.5) * matrix(rnorm(n * 45), n)
    )  # noise in nine clusters, correlated at 0.5
    d <- as.data.frame(x)
    d$y <- 1.0 * d$V1 + 1.0 * d$V2 + 0.9 * d$V3 + 0.9 * d$V4 + 0.8 * d$V5 + rnorm(n)
    d
  }
  d <- draw(n)
  fit <- if (kind == "linear") {
    lm(y ~ ., d)
  } else {
    ranger::ranger(y ~ ., d, num.trees = 150, seed = seed, num.threads = 1)
  }
  st <- study(fit, draw(100), "y", train = d, threads = 1)
  ps <- choose_set(reduce_predictors(
    st, thin_twins = TRUE, folds = 5, repeats = 1, inner_folds = 2, random = 0,
    counts = c(1:8, 12, 20), seed = seed
  ))
  data.frame(
    model = kind,
    seed = seed,
    found = sum(paste0("V", 1:5) %in% ps$predictors),
    others = sum(!ps$predictors %in% paste0("V", 1:5))
  )
}

price_run <- function(seed) {
  set.seed(seed)
  draw <- function(n) {
    d <- as.data.frame(matrix(rnorm(n * 8), n))
    d$y <- d$V1 + 0.6 * d$V2 + 0.3 * d$V3 + 0.15 * d$V4 + rnorm(n)
    d
  }
  d <- draw(300)
  st <- study(lm(y ~ ., d), draw(100), "y", train = d, metric = "mse")
  rd <- reduce_predictors(
    st, folds = 5, repeats = 2, inner_folds = 3, random = 0, seed = seed
  )
  ps <- choose_set(rd, rule = "count", count = 2)
  chosen <- choose_set(rd)
  fresh <- draw(100000)
  untouched <- draw(300)
  loss <- function(set) {
    mean(
      (predict(if (length(set)) lm(reformulate(set, "y"), d) else lm(y ~ 1, d), fresh) -
          fresh$y)^2
    )
  }
  full <- loss(st$predictors)
  cf <- confirm_set(chosen, untouched, margin = "0.1 mse")
  inside <- function(x, lower, upper) x >= lower & x <= upper
  truth <- c(loss(ps$predictors) - full, loss(chosen$predictors) - full)
  data.frame(
    seed = seed,
    two = inside(truth[1], ps$price_lower, ps$price_upper),
    chosen = inside(truth[2], chosen$price_lower, chosen$price_upper),
    procedure = inside(
      truth[2], chosen$nested$price_lower, chosen$nested$price_upper
    ),
    confirmed = inside(truth[2], cf$lower, cf$upper),
    truth = truth[2],
    price = chosen$price,
    size = chosen$count
  )
}

cells <- switch(
  what,
  noise = {
    g <- expand.grid(seed = seq_len(seeds), p = c(50, 500), n = c(80, 200))
    over(split(g, seq_len(nrow(g))), function(r) noise_run(r$n, r$p, r$seed))
  },
  support = {
    g <- expand.grid(
      seed = seq_len(seeds), kind = c("linear", "forest"), stringsAsFactors = FALSE
    )
    over(split(g, seq_len(nrow(g))), function(r) support_run(r$kind, r$seed))
  },
  price = over(seq_len(seeds), price_run)
)
summary <- switch(
  what,
  noise = do.call(
    rbind,
    lapply(split(cells, list(cells$n, cells$p, cells$rule)), function(d) {
      gap <- d$nested - d$fresh
      data.frame(
        n = d$n[1],
        p = d$p[1],
        rule = d$rule[1],
        runs = nrow(d),
        promises_gain = mean(d$skill_lower > 0),
        nothing = mean(d$count == 0),
        nested_less_fresh = mean(gap),
        its_error = sd(gap) / sqrt(nrow(d)),
        shortcut_r2 = mean(d$shortcut_r2)
      )
    })
  ),
  support = do.call(
    rbind,
    lapply(split(cells, cells$model), function(d) {
      data.frame(
        model = d$model[1],
        runs = nrow(d),
        all_found = mean(d$found == 5),
        others = mean(d$others)
      )
    })
  ),
  price = data.frame(
    interval = c("two predictors", "chosen set", "procedure", "confirmed"),
    runs = nrow(cells),
    covers = colMeans(cells[c("two", "chosen", "procedure", "confirmed")])
  )
)
summary[] <- lapply(summary, function(v) if (is.numeric(v)) signif(v, 3) else v)
dir.create("bench/results", showWarnings = FALSE)
utils::write.csv(summary, paste0("bench/results/reduction-", what, ".csv"), row.names = FALSE)
print(summary, row.names = FALSE)
