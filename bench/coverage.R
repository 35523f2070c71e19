# How often do 95 % intervals of permutation importance hold the value in the population?
#
# Models are trained once on 300 rows; the value in the population comes from 200,000 rows; then
# fresh rows are drawn again and again. Cells: metric x strong, weak and null predictor x linear
# model, forest, boosted trees x 200 and 1,000 rows; and joint, weighted, blocked and conditional
# shuffles. Monte-Carlo error of a cell of 1,000: 0.7 points. Run with: Rscript bench/coverage.R
# [data sets per cell] [forms] (about half an hour on two cores) Results, brought up to date as it
# goes: bench/results/coverage.csv
library(dreher)
sets <- as.integer(c(commandArgs(TRUE), 1000)[1])
forms <- if (length(commandArgs(TRUE)) > 1) {
  commandArgs(TRUE)[-1]
} else {
  c("plain", "joint", "weighted", "blocked", "conditional")
}

# strong and weak act, null does not; `near` goes with strong (0.7). Rows of a block share their
# level of strong and of the error.
draw <- function(n, kind, block = 1) {
  common <- function(share) {
    sqrt(share) * rep(rnorm(ceiling(n / block)), each = block)[seq_len(n)] +
      sqrt(1 - share) * rnorm(n)
  }
  share <- if (block > 1) 0.5 else 0
  x <- data.frame(strong = common(share), weak = rnorm(n), null = rnorm(n))
  x$near <- 0.7 * x$strong + sqrt(0.51) * rnorm(n)
  x$count <- sample(3, n, TRUE)
  x$block <- rep(seq_len(ceiling(n / block)), each = block)[seq_len(n)]
  eta <- x$strong + 0.3 * x$weak * (1 + 0.5 * x$weak)
  x$y <- switch(
    kind,
    number = eta + common(share),
    class = factor(ifelse(runif(n) < plogis(1.5 * eta), "yes", "no")),
    count = rpois(n, exp(0.5 + 0.5 * eta))
  )
  x
}

four <- c("strong", "weak", "null", "near")
train_models <- function(kind, d) {
  formula <- reformulate(four, "y")
  label <- if (kind == "class") as.integer(d$y) - 1 else d$y
  objective <- c(
    number = "reg:squarederror", class = "binary:logistic", count = "count:poisson"
  )[[kind]]
  list(
    linear = switch(
      kind,
      number = lm(formula, d),
      class = glm(formula, binomial, d),
      count = glm(formula, poisson, d)
    ),
    forest = ranger::ranger(
      formula,
      d,
      num.trees = 30,
      min.node.size = 10,
      probability = kind == "class",
      seed = 1,
      num.threads = 1
    ),
    boosted = xgboost::xgb.train(
      list(objective = objective, max_depth = 3, eta = 0.2, nthread = 1),
      xgboost::xgb.DMatrix(as.matrix(d[four]), label = label, nthread = 1),
      nrounds = 30
    )
  )
}

rank_once <- function(st, data, form, seed) {
  st$data <- data
  rk <- rank_permutation(
    st,
    seed = seed,
    groups = if (form == "joint") {
      list(strong = c("strong", "near"), weak = c("weak", "null"), null = "null")
    },
    shuffle = if (form == "conditional") "conditional" else "marginal"
  )
  rk <- as.data.frame(rk)
  rk <- rk[rk$predictor %in% four[1:3], ]
  rk[
    order(rk$model, match(rk$predictor, four)),
    c("model", "predictor", "importance", "lower", "upper")
  ]
}

cover <- function(kind, metric, form, sizes, sets) {
  set.seed(17)
  block <- if (form == "blocked") 5 else 1
  d <- draw(300, kind, block)
  st <- study(
    train_models(kind, d),
    draw(200, kind, block),
    "y",
    train = d,
    metric = metric,
    threads = 1,
    weights = if (form == "weighted") "count",
    blocks = if (form == "blocked") "block"
  )
  truth <- rank_once(st, draw(2e5, kind, block), form, 1)$importance
  do.call(
    rbind,
    lapply(sizes, function(n) {
      hits <- parallel::mclapply(
        seq_len(sets),
        function(i) {
          set.seed(1000 + i)
          rk <- rank_once(st, draw(n, kind, block), form, i)
          rk$lower <= truth & truth <= rk$upper
        },
        mc.cores = 2
      )
      first <- rank_once(st, draw(n, kind, block), form, 1)
      data.frame(
        form = form,
        metric = metric,
        n = n,
        model = first$model,
        predictor = first$predictor,
        truth = signif(truth, 3),
        sets = sets,
        coverage = rowMeans(do.call(cbind, hits))
      )
    })
  )
}

cells <- rbind(
  data.frame(kind = "number", metric = c("rmse", "mae", "r2"), form = "plain"),
  data.frame(
    kind = "class", metric = c("log_loss", "brier", "auc", "accuracy"), form = "plain"
  ),
  data.frame(kind = "count", metric = "poisson_deviance", form = "plain"),
  data.frame(
    kind = rep(c("number", "class"), 4),
    metric = rep(c("rmse", "brier"), 4),
    form = rep(c("joint", "weighted", "blocked", "conditional"), each = 2)
  )
)
file <- "bench/results/coverage.csv"
for (i in which(cells$form %in% forms)) {
  out <- with(
    cells[i, ],
    cover(
      kind,
      metric,
      form,
      c(200, 1000),
      if (form == "conditional") min(sets, 300) else sets
    )
  )
  message(
    cells$form[i],
    " ",
    cells$metric[i],
    ": mean ",
    round(mean(out$coverage), 3),
    ", least ",
    round(min(out$coverage), 3)
  )
  old <- if (file.exists(file)) utils::read.csv(file)
  found <- rbind(old[!(old$form == cells$form[i] & old$metric == cells$metric[i]), ], out)
  found <- found[
    order(
      match(found$form, unique(cells$form)), match(found$metric, unique(cells$metric))
    ),

  ]
  utils::write.csv(found, file, row.names = FALSE)
}
print(stats::aggregate(coverage ~ form + n, found, function(x) {
  round(c(mean = mean(x), least = min(x), most = max(x)), 3)
}))
