# Does the nested score say what the chosen set is worth on fresh rows?
#
# The whole procedure on simulated data: reduce_predictors() with its defaults (but for the number
# of drawings, given below), choose_set(), and the final model on 10,000 fresh rows. Per cell: mean
# difference of promised and true score with its Monte-Carlo error, coverage of the intervals of
# score and price, sizes, and what the set loses against all predictors. Run with:
#   Rscript bench/choice.R [runs] [cells...]      cells: learner/rows/truth, as linear/100/graded
#   Rscript bench/choice.R seeds [seeds]          sizes chosen on the kiln data by many seeds
# Results, brought up to date as it goes: bench/results/choice.csv, choice-seeds.csv
library(dreher)
words <- commandArgs(TRUE)

draw <- function(n, learner, truth) {
  d <- as.data.frame(matrix(rnorm(n * 6), n))
  eta <- switch(
    truth,
    graded = d$V1 + 0.6 * d$V2 + 0.3 * d$V3 + 0.15 * d$V4,
    noise = 0 * d$V1
  )
  d$y <- if (learner == "logistic") {
    factor(ifelse(runif(n) < plogis(1.5 * eta), "yes", "no"), c("no", "yes"))
  } else {
    eta + rnorm(n)
  }
  d
}

train <- function(d, learner) {
  switch(
    learner,
    linear = lm(y ~ ., d),
    logistic = glm(y ~ ., binomial, d),
    forest = ranger::ranger(y ~ ., d, num.trees = 50, num.threads = 1, seed = 1),
    boosted = xgboost::xgb.train(
      list(max_depth = 2, eta = 0.2, nthread = 1, seed = 1),
      xgboost::xgb.DMatrix(as.matrix(d[names(d) != "y"]), label = d$y, nthread = 1),
      nrounds = 30
    )
  )
}

one_run <- function(learner, n, truth, repeats, seed) {
  set.seed(seed)
  d <- draw(n, learner, truth)
  fresh <- draw(10000, learner, truth)
  metric <- if (learner == "logistic") "log_loss" else "mse"
  st <- study(train(d, learner), fresh, "y", train = d, metric = metric, threads = 1)
  rd <- suppressWarnings(
    reduce_predictors(st, repeats = repeats, random = 0, seed = seed)
  )
  model <- st$models[[1]]
  true_loss <- function(set) {
    p <- dreher:::fit_and_predict(st, model, set, list(data = fresh, roles = fresh), seed)
    dreher:::metric_score(st$metric, dreher:::row_info(st, fresh)$truth, p)
  }
  all <- true_loss(st$predictors)
  do.call(rbind, lapply(c("one_se", "one_se_paired", "best"), function(rule) {
    ps <- suppressWarnings(choose_set(rd, rule = rule))
    own <- if (length(ps$left_out)) true_loss(ps$predictors) else all
    data.frame(
      rule = rule,
      size = ps$count,
      truth = own,
      score = ps$score,
      covered = own >= ps$lower & own <= ps$upper,
      price_true = own - all,
      price = ps$price,
      price_covered = own - all >= ps$price_lower & own - all <= ps$price_upper,
      margin = 0.02 * max(ps$constant_score - all, 0),
      outside = ps$outside
    )
  }))
}

many <- function(x, f) {
  parallel::mclapply(x, f, mc.cores = 2, mc.preschedule = FALSE)
}

keep <- function(new, file, by) {
  file <- file.path("bench/results", file)
  new[] <- lapply(new, function(v) if (is.numeric(v)) signif(v, 3) else v)
  if (file.exists(file)) {
    old <- utils::read.csv(file)
    same <- interaction(old[by]) %in% interaction(new[by])
    new <- rbind(old[!same, names(new)], new)
  }
  utils::write.csv(new[do.call(order, new[by]), ], file, row.names = FALSE)
}

cell <- function(name, runs, repeats) {
  part <- strsplit(name, "/")[[1]]
  began <- Sys.time()
  found <- many(seq_len(runs), function(i) {
    one_run(part[1], as.integer(part[2]), part[3], repeats, i)
  })
  found <- do.call(rbind, Filter(is.data.frame, found))
  out <- do.call(
    rbind,
    lapply(split(found, found$rule), function(d) {
      gap <- d$score - d$truth
      price_gap <- d$price - d$price_true
      data.frame(
        learner = part[1],
        n = as.integer(part[2]),
        truth = part[3],
        repeats = repeats,
        rule = d$rule[1],
        runs = nrow(d),
        size = mean(d$size),
        nothing = mean(d$size == 0),
        true_score = mean(d$truth),
        bias = mean(gap),
        bias_z = mean(gap) / sd(gap) * sqrt(nrow(d)),
        coverage = mean(d$covered),
        price = mean(d$price_true),
        over_margin = mean(d$price_true - d$margin),
        price_z = mean(price_gap) / sd(price_gap) * sqrt(nrow(d)),
        price_coverage = mean(d$price_covered),
        outside = mean(d$outside)
      )
    })
  )
  print(cbind(
    out[-(1:4)], seconds = round(as.double(Sys.time() - began, units = "secs"))
  ))
  keep(out, "choice.csv", c("learner", "n", "truth", "repeats", "rule"))
}

seeds_run <- function(seeds) {
  kiln <- demo_kiln(missing = FALSE)
  rows <- kiln$train[setdiff(names(kiln$train), c("ring_tone", "defect"))]
  fit <- ranger::ranger(
    strength ~ ., rows, num.trees = 100, min.node.size = 8, seed = 1, num.threads = 1
  )
  st <- study(fit, kiln$holdout, "strength", train = kiln$train, threads = 1)
  found <- many(seq_len(seeds), function(seed) {
    rd <- reduce_predictors(st, random = 0, seed = seed)
    do.call(rbind, lapply(c("one_se", "one_se_paired", "best"), function(rule) {
      ps <- suppressWarnings(choose_set(rd, rule = rule))
      data.frame(
        seed = seed, rule = rule, size = ps$count, splits_least = min(ps$counts_chosen),
        splits_most = max(ps$counts_chosen), score = ps$score,
        none_chose = sum(ps$chosen_share$share[ps$chosen_share$chosen] == 0)
      )
    }))
  })
  found <- do.call(rbind, found)
  print(do.call(rbind, lapply(split(found, found$rule), function(d) {
    data.frame(
      rule = d$rule[1], least = min(d$size), most = max(d$size), none = sum(d$none_chose)
    )
  })))
  keep(found, "choice-seeds.csv", c("rule", "seed"))
}

if (identical(words[1], "seeds")) {
  seeds_run(if (length(words) > 1) as.integer(words[2]) else 20)
} else {
  runs <- if (length(words)) as.integer(words[1]) else 300
  cells <- if (length(words) > 1) {
    words[-1]
  } else {
    c(
      outer(c("linear", "logistic", "forest", "boosted"), c(100, 300, 1000),
        function(a, b) paste(a, b, "graded", sep = "/")),
      "linear/100/noise", "forest/100/noise", "linear/100/graded/2"
    )
  }
  for (name in cells) {
    part <- strsplit(name, "/")[[1]]
    cell(name, runs, if (length(part) > 3) as.integer(part[4]) else 1L)
  }
}
