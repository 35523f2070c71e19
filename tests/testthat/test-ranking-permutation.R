# The definition: shuffle, predict, score, subtract.
naive_importance <- function(st, model, predictor, donors, score) {
  data <- st$data
  base <- score(predict_model(st, model, data))
  pooled <- vapply(seq_len(ncol(donors)), function(r) {
    shuffled <- data
    shuffled[[predictor]] <- data[[predictor]][donors[, r]]
    score(predict_model(st, model, shuffled))
  }, double(length(base)))
  list(base = base, shuffled = matrix(pooled, ncol = ncol(donors)))
}

h <- kiln_rows(80, "holdout")
d <- kiln_rows(300)

test_that(
  "the shift design: nobody gives to itself, no pair twice, all pairs in the end",
  {
    donors <- draw_donors(17, 5, 1)
    expect_true(all(apply(donors, 2, function(x) setequal(x, 1:17))))
    expect_false(any(donors == seq_len(17)))
    pairs <- paste(rep(1:17, 5), donors)
    expect_identical(anyDuplicated(pairs), 0L)
    all_pairs <- draw_donors(6, 99, 1)
    expect_identical(ncol(all_pairs), 5L)
    expect_setequal(
      paste(rep(1:6, 5), all_pairs),
      paste(rep(1:6, each = 6), 1:6)[rep(1:6, each = 6) != rep(1:6, 6)]
    )
  }
)

test_that(
  "every metric equals its naive loop, for a forest, a linear model and a function",
  {
    models <- list(
      forest = small_forest(strength ~ ., d),
      linear = lm(strength ~ ., d),
      tree = rpart::rpart(strength ~ ., d),
      any = lm(strength ~ peak_temp * hold_minutes, d)
    )
    y <- h$strength
    V <- mean((y - mean(y))^2)
    score <- list(
      mse = function(l) mean(l),
      rmse = function(l) sqrt(mean(l)),
      r2 = function(l) mean(l) / V,
      mae = function(l) mean(l)
    )
    for (metric in names(score)) {
      st <- study(
        models,
        h,
        "strength",
        train = d,
        metric = metric,
        predict_with = list(any = function(model, data) predict(model, data))
      )
      rk <- rank_permutation(st, repeats = 4)
      donors <- draw_donors(nrow(h), 4, 1)
      loss <- function(p) if (metric == "mae") abs(p[, 1] - y) else (p[, 1] - y)^2
      for (m in names(models)) {
        for (p in c("peak_temp", "clay_source", "hold_minutes")) {
          n <- naive_importance(st, st$models[[m]], p, donors, loss)
          expect_equal(
            rk$importance[rk$model == m & rk$predictor == p],
            score[[metric]](n$shuffled) - score[[metric]](n$base),
            tolerance = 1e-10
          )
        }
      }
    }
  }
)

test_that("class metrics equal their naive loops", {
  three <- kiln$holdout[1:90, setdiff(names(kiln$holdout), c("strength", "ring_tone"))]
  train <- kiln$train[1:400, names(three)]
  # Two classes, AUC and log loss; the positive class is the first level here.
  rows <- loans$train[1:300, ]
  test <- loans$holdout[1:90, ]
  models <- list(
    forest = small_forest(
      returned_late ~ ., rows, probability = TRUE, min.node.size = 20
    ),
    logistic = glm(returned_late ~ loan_days + reminders + earlier_late, binomial, rows)
  )
  donors <- draw_donors(90, 3, 1)
  yes <- test$returned_late == "no"
  by_definition <- list(
    auc = function(p) {
      p <- round(p, 12)
      a <- outer(p[yes, "no"], p[!yes, "no"], function(u, v) (u > v) + (u == v) / 2)
      rep(-mean(a), 2)
    },
    log_loss = function(p) -log(pmax(ifelse(yes, p[, "no"], p[, "yes"]), 1e-15)),
    brier = function(p) (p[, "no"] - yes)^2,
    accuracy = function(p) (p[, "no"] >= 0.5) != yes
  )
  for (metric in names(by_definition)) {
    st <- study(
      models, test, "returned_late", train = rows, metric = metric, positive = "no"
    )
    rk <- rank_permutation(st, repeats = 3)
    for (m in names(models)) {
      for (p in c("earlier_late", "reminders")) {
        n <- naive_importance(st, st$models[[m]], p, donors, by_definition[[metric]])
        expect_equal(
          rk$importance[rk$model == m & rk$predictor == p],
          mean(n$shuffled) - mean(n$base),
          tolerance = 1e-10
        )
      }
    }
  }
  # Four classes.
  fit <- small_forest(defect ~ ., train, probability = TRUE)
  st <- study(fit, three, "defect", train = train)
  rk <- rank_permutation(st, repeats = 3)
  hot <- outer(as.integer(three$defect), 1:4, "==")
  n <- naive_importance(st, st$models[[1]], "cooling_rate", donors, function(p) {
    rowSums((p - hot)^2)
  })
  expect_equal(
    rk$importance[rk$predictor == "cooling_rate"],
    mean(n$shuffled) - mean(n$base),
    tolerance = 1e-10
  )
})

test_that(
  paste0(
    "the walk with masks equals prediction of shuffled tables: missing values, sets, ",
    "joint players, 70 repeats"
  ),
  {
    set.seed(5)
    levels <- list(c = letters[1:5])
    for (i in 1:15) {
      f <- random_flat_forest(
        c("a", "b", "c", "d"), levels, trees = 4, depth = 6, outputs = 2
      )
      x <- cbind(a = rnorm(30), b = rnorm(30), c = sample(5, 30, TRUE), d = rnorm(30))
      x[sample(length(x), 12)] <- NA
      players <- c(1L, 2L, 1L, 0L)
      donors <- draw_donors(30, 29, i)
      prepared <- shuffle_prepare(f, x, 1L)
      walk <- function(threads, from = 1L, to = 30L) {
        shuffle_rows(
          prepared, players, 2L, donors[from:to, ], 29L, FALSE, matrix(0L, 0, 0),
          double(), from, to, threads
        )
      }
      found <- walk(2L)
      expect_equal(found$before, slow_predict(f, x), tolerance = 1e-12)
      for (p in 1:2) {
        for (r in c(1, 8, 29)) {
          shuffled <- x
          shuffled[, players == p] <- x[donors[, r], players == p]
          expect_equal(
            found$after[, r, p, ], slow_predict(f, shuffled), tolerance = 1e-12
          )
        }
      }
      expect_identical(found, walk(1L))
      expect_identical(
        walk(1L, 9L, 12L),
        list(
          before = found$before[9:12, ], after = found$after[9:12, , , , drop = FALSE]
        )
      )
      # Few repeats take other ways through the codes; the sum over trees is brought to a scale
      # per row.
      scale <- runif(30)
      few <- shuffle_rows(
        prepared, players, 2L, donors[, 1:3], 3L, FALSE, matrix(0L, 0, 0), scale, 1L, 30L,
        1L
      )
      for (k in 1:2) {
        expect_equal(
          few$before[, k],
          f$base[k] + scale * (found$before[, k] - f$base[k]),
          tolerance = 1e-12
        )
        expect_equal(
          few$after[, , , k],
          f$base[k] + scale * (found$after[, 1:3, , k] - f$base[k]),
          tolerance = 1e-12
        )
      }
      # Each player with donors of its own.
      apart <- array(c(donors, draw_donors(30, 29, i + 100)), c(30, 29, 2))
      own <- shuffle_rows(
        prepared, players, 2L, apart, 29L, TRUE, matrix(0L, 0, 0), double(), 1L, 30L, 1L
      )
      expect_identical(own$after[, , 1, ], found$after[, , 1, ])
      shuffled <- x
      shuffled[, 2] <- x[apart[, 3, 2], 2]
      expect_equal(own$after[, 3, 2, ], slow_predict(f, shuffled), tolerance = 1e-12)
      # Trees that have seen a row do not count for it.
      inbag <- matrix(rbinom(30 * 4, 1, 0.5), 30)
      left_out <- shuffle_rows(
        prepared, players, 2L, donors, 29L, FALSE, inbag, double(), 1L, 30L, 1L
      )
      by_tree <- lapply(1:4, function(t) {
        g <- f
        g$weight[-t] <- 0
        g$base[] <- 0
        shuffle_rows(
          shuffle_prepare(g, x, 1L),
          players,
          2L,
          donors,
          29L,
          FALSE,
          matrix(0L, 0, 0),
          double(),
          1L,
          30L,
          1L
        )
      })
      for (part in c("before", "after")) {
        base <- slice.index(left_out[[part]], length(dim(left_out[[part]])))
        expect_equal(
          left_out[[part]],
          Reduce(`+`, lapply(1:4, function(t) by_tree[[t]][[part]] * (inbag[, t] == 0))) +
            f$base[base],
          tolerance = 1e-12
        )
      }
    }
    # More than 65,000 different values need longer codes.
    f <- random_flat_forest(c("a", "b"), list(), trees = 3, depth = 5, outputs = 1)
    x <- cbind(a = rnorm(66000), b = rnorm(66000))
    donors <- draw_donors(66000, 2, 1)
    found <- shuffle_rows(
      shuffle_prepare(f, x, 1L),
      1:2,
      2L,
      donors,
      2L,
      FALSE,
      matrix(0L, 0, 0),
      double(),
      1L,
      66000L,
      1L
    )
    shuffled <- x
    shuffled[, "b"] <- x[donors[, 2], "b"]
    expect_equal(
      found$after[, 2, 2, 1],
      as.vector(forest_predict(f, shuffled, 1L)),
      tolerance = 1e-12
    )
    st <- study(small_forest(strength ~ ., d), h, "strength", train = d)
    donors <- draw_donors(80, 70, 1)
    rk <- rank_permutation(st, repeats = 70)
    n <- naive_importance(st, st$models[[1]], "grog_share", donors, function(p) {
      (p[, 1] - h$strength)^2
    })
    expect_equal(
      rk$importance[rk$predictor == "grog_share"],
      sqrt(mean(n$shuffled)) - sqrt(mean(n$base)),
      tolerance = 1e-10
    )
  }
)

test_that(
  "a predictor the model never uses gets exactly 0; shares and signs are honest",
  {
    st <- study(1, h, "strength", train = d, predict_with = function(model, data) {
      30 + 0.01 * data$peak_temp
    })
    rk <- rank_permutation(st)
    idle <- rk[rk$predictor != "peak_temp", ]
    expect_true(all(idle$importance == 0 & idle$std_error == 0))
    expect_identical(sum(rk$share), 1)
    # A model with the sign wrong: shuffling helps, and the ranking says so.
    backwards <- study(1, h, "strength", train = d, predict_with = function(model, data) {
      80 - 3 * (data$peak_temp - 1180) / 22
    })
    rk <- rank_permutation(backwards, models = NULL)
    expect_lt(rk$importance[rk$predictor == "peak_temp"], 0)
    expect_identical(rk$share[rk$predictor == "peak_temp"], NA_real_)
    expect_match(rk$flag[1], "no skill")
  }
)

test_that(
  paste0(
    "a metric of one's own equals the built-in one; few repeats and training rows are ",
    "flagged"
  ),
  {
    fit <- small_forest(strength ~ ., d)
    own <- study(
      fit,
      h,
      "strength",
      train = d,
      metric = function(truth, predicted) mean(abs(truth - predicted)),
      better = "lower"
    )
    mae <- study(fit, h, "strength", train = d, metric = "mae")
    a <- rank_permutation(own, repeats = 4)
    b <- rank_permutation(mae, repeats = 4)
    expect_equal(a$importance, b$importance, tolerance = 1e-10)
    top <- a$predictor[1]
    expect_true(
      a$std_error[1] / b$std_error[b$predictor == top] > 0.4 &&
        a$std_error[1] / b$std_error[b$predictor == top] < 2.5
    )
    expect_match(a$flag[1], "few repeats")
    seen <- rank_permutation(mae, rows = "train")
    expect_true(
      all(is.na(seen$lower)) && all(grepl("training rows", seen$flag)) &&
        all(seen$inference == "rows")
    )
  }
)

test_that("the two-way error is that of its formula, written out by hand", {
  D <- matrix(c(1, 2, 3, 0, -1, 4), 3, 2)
  donors <- cbind(c(2, 3, 1), c(3, 1, 2))
  centred <- D - mean(D)
  A <- rowMeans(centred)
  B <- c(
    centred[3, 1] + centred[2, 2], centred[1, 1] + centred[3, 2],
    centred[2, 1] + centred[1, 2]
  ) / 2
  V2 <- var(A + B) / 3
  q <- sum(centred^2) / 6 / 6
  expect_equal(
    two_way_error(A, B, sum(centred^2), 2)$std_error, sqrt(max(V2 - q, V2 / 4))
  )
  # Rows 1 and 3 belong together: two blocks.
  S <- c(sum((A + B)[c(1, 3)]), (A + B)[2])
  V2 <- 2 * var(S) / 9
  found <- two_way_error(A, B, sum(centred^2), 2, block = c(1, 2, 1))
  expect_equal(found$std_error, sqrt(max(V2 - q, V2 / 4)))
  expect_identical(found$df, 1)
})

test_that("95 % intervals cover the value in the population about as often as they say", {
  set.seed(11)
  # linear model, independent predictors: 2 b^2 var(x), in mean squared error
  truth <- 2 * c(1, 0.3)^2
  hits <- t(replicate(150, {
    x <- data.frame(a = rnorm(150), b = rnorm(150))
    x$y <- x$a + 0.3 * x$b + rnorm(150)
    st <- study(1, x, "y", metric = "mse", predict_with = function(model, data) {
      data$a + 0.3 * data$b
    })
    st$flags <- list(predictors = c(a = "", b = ""), models = c(numeric = ""))
    rk <- as.data.frame(rank_permutation(st, seed = sample(1e6, 1)))
    rk <- rk[match(c("a", "b"), rk$predictor), ]
    rk$lower <= truth & truth <= rk$upper
  }))
  expect_true(all(colMeans(hits) > 0.89 & colMeans(hits) < 0.995))
})

test_that("metrics of all rows equal their definitions", {
  set.seed(8)
  truth <- sample(3, 60, TRUE)
  p <- matrix(runif(180), 60)
  p <- p / rowSums(p)
  p[10:14, ] <- p[rep(9, 5), ]  # ties
  said <- max.col(p, "first")
  record <- function(name, classes = letters[1:3]) {
    new_metric(name, NULL, "classification", classes, 2L)
  }
  value <- function(name, ...) metric_score(record(name), truth, p)
  expect_equal(
    value("balanced_accuracy"),
    mean(c(
      mean(said[truth == 1] == 1), mean(said[truth == 2] == 2),
      mean(said[truth == 3] == 3)
    ))
  )
  f1 <- function(k) {
    precision <- mean(truth[said == k] == k)
    recall <- mean(said[truth == k] == k)
    2 * precision * recall / (precision + recall)
  }
  expect_equal(value("f1"), mean(vapply(1:3, f1, 0)))
  # Gorodkin: correlation of the two indicator matrices.
  X <- outer(said, 1:3, "==") + 0
  Y <- outer(truth, 1:3, "==") + 0
  covariance <- function(A, B) {
    sum((A - rep(colMeans(A), each = 60)) * (B - rep(colMeans(B), each = 60)))
  }
  expect_equal(value("mcc"), covariance(X, Y) / sqrt(covariance(X, X) * covariance(Y, Y)))
  a <- function(i, j) {
    mean(outer(p[truth == i, i], p[truth == j, i], function(u, v) (u > v) + (u == v) / 2))
  }
  expect_equal(
    value("pairwise_auc"),
    mean(c(a(1, 2) + a(2, 1), a(1, 3) + a(3, 1), a(2, 3) + a(3, 2)) / 2)
  )
  two <- new_metric("mcc", NULL, "classification", c("a", "b"), 2L)
  expect_equal(
    metric_score(two, pmin(truth, 2), cbind(1 - p[, 1], p[, 1])),
    cor(pmin(truth, 2), (p[, 1] > 0.5) + 0)
  )
  expect_identical(metric_score(two, pmin(truth, 2), cbind(rep(0.2, 60), 0.8)), 0)
  number <- function(name) new_metric(name, NULL, "regression", NULL, NULL)
  y <- rpois(60, 3)
  x <- rnorm(60)
  fit <- glm(y ~ x, poisson)
  expect_equal(
    metric_score(number("poisson_deviance"), y, matrix(fitted(fit))), deviance(fit) / 60
  )
  fit <- glm(y + 1 ~ x, Gamma)
  expect_equal(
    metric_score(number("gamma_deviance"), y + 1, matrix(fitted(fit))), deviance(fit) / 60
  )
  expect_equal(metric_score(number("median_ae"), y, matrix(x)), median(abs(y - x)))
  expect_error(
    metric_score(number("poisson_deviance"), c(1, -1), matrix(1:2)),
    "below 0 in row 2",
    class = "dreher_error_study"
  )
  expect_error(
    metric_score(number("gamma_deviance"), c(1, 0), matrix(1:2)),
    "not above 0 in row 2",
    class = "dreher_error_study"
  )
  expect_error(
    new_metric("pairwise_auc", NULL, "classification", c("a", "b"), 2L),
    "does not fit",
    class = "dreher_error_input"
  )
  expect_error(record("auc"), "does not fit", class = "dreher_error_input")
})

test_that("importance in these metrics equals the naive loop, with an interval", {
  three <- kiln$holdout[1:120, setdiff(names(kiln$holdout), c("strength", "ring_tone"))]
  fit <- small_forest(defect ~ ., kiln$train[1:400, names(three)], probability = TRUE)
  donors <- draw_donors(120, 3, 1)
  for (name in c("balanced_accuracy", "f1", "mcc", "pairwise_auc")) {
    st <- study(
      fit, three, "defect", train = kiln$train[1:400, names(three)], metric = name
    )
    rk <- rank_permutation(st, repeats = 3)
    m <- st$models[[1]]
    score <- function(p) metric_score(st$metric, truth_of(st, three), round(p, 12))
    for (p in rk$predictor[1:2]) {
      naive <- mean(vapply(
        1:3,
        function(r) {
          s <- three
          s[[p]] <- s[[p]][donors[, r]]
          score(predict_model(st, m, s))
        },
        0
      ))
      expect_equal(
        rk$importance[rk$predictor == p],
        score(predict_model(st, m, three)) - naive,
        tolerance = 1e-10
      )
      expect_true(all(is.finite(rk$lower[rk$predictor == p])))
    }
  }
  expect_lt(
    abs(
      score_models(study(fit, three, "defect", train = kiln$train, metric = "mcc"))$score
    ),
    1
  )
})

test_that(
  "predictors shuffled together take the same donors, and stand beside their sum",
  {
    models <- list(
      forest = small_forest(strength ~ ., d),
      linear = lm(strength ~ peak_temp * hold_minutes + pyro_left + pyro_right, d)
    )
    dictionary <- data.frame(
      predictor = c("pyro_left", "pyro_right", "peak_temp", "hold_minutes"),
      family = c("pyrometers", "pyrometers", "firing", "firing")
    )
    st <- study(models, h, "strength", train = d, metric = "mse", dictionary = dictionary)
    rk <- rank_permutation(st, groups = "family", repeats = 4)
    donors <- draw_donors(nrow(h), 4, 1)
    loss <- function(model, data) {
      mean((predict_model(st, st$models[[model]], data)[, 1] - h$strength)^2)
    }
    for (m in names(models)) {
      expect_false(any(c("pyro_left", "peak_temp") %in% rk$predictor[rk$model == m]))
      together <- mean(vapply(
        1:4,
        function(r) {
          s <- h
          for (p in c("peak_temp", "hold_minutes")) s[[p]] <- h[[p]][donors[, r]]
          loss(m, s)
        },
        0
      )) - loss(m, h)
      expect_equal(
        rk$importance[rk$model == m & rk$predictor == "firing"],
        together,
        tolerance = 1e-10
      )
    }
    members <- detail(rk, "members")
    each <- rank_permutation(st, repeats = 4)
    of <- members[members$model == "linear" & members$group == "firing", ]
    expect_equal(
      of$importance,
      each$importance[each$model == "linear"][match(
          of$member, each$predictor[each$model == "linear"]
        )]
    )
    expect_equal(of$beyond, of$joint - sum(of$importance) + c(0, 0), tolerance = 1e-10)
    root <- detail(
      rank_permutation(
        study(models, h, "strength", train = d, dictionary = dictionary),
        groups = "family",
        repeats = 4
      ),
      "members"
    )
    expect_equal(root$beyond, members$beyond, tolerance = 1e-10)
    expect_output(
      print(rk), "(firing|pyrometers) \\(linear\\): together .*, one at a time .* in all"
    )
    # Groups may share members; what a model does not use changes nothing; a factor's levels are
    # the same twice.
    mixed <- rank_permutation(
      st,
      groups = list(
        a = c("peak_temp", "pyro_left"),
        b = c("pyro_left", "pyro_right"),
        none = "operator"
      ),
      repeats = 4
    )
    expect_identical(
      mixed$importance[mixed$model == "linear" & mixed$predictor == "none"], 0
    )
    expect_equal(
      mixed$importance[mixed$model == "forest" & mixed$predictor == "b"],
      rk$importance[rk$model == "forest" & rk$predictor == "pyrometers"]
    )
    twice <- rank_permutation(
      st, groups = list(x = c("peak_temp", "peak_temp")), repeats = 4
    )
    expect_equal(
      twice$importance, each$importance[each$predictor == "peak_temp"], tolerance = 1e-12
    )
    expect_error(
      rank_permutation(st, groups = list(a = "glow")),
      "no model of the study has: \"glow\"",
      class = "dreher_error_input"
    )
    expect_error(
      rank_permutation(st, groups = list("peak_temp")),
      "a name of its own",
      class = "dreher_error_input"
    )
  }
)

test_that("a ratio is the loss after over the loss before, less one", {
  st <- study(lm(strength ~ ., d), h, "strength", train = d)
  plain <- rank_permutation(st, repeats = 6)
  share <- rank_permutation(st, form = "ratio", repeats = 6)
  share <- share[match(plain$predictor, share$predictor), ]
  base <- score_models(st)$score
  expect_equal(share$importance, plain$importance / base, tolerance = 1e-10)
  expect_true(all(share$lower <= share$importance & share$importance <= share$upper))
  # Near one the ratio's relative error is that of the difference and the base together; for a
  # strong predictor of the same order.
  expect_lt(abs(log(share$std_error[1] / (plain$std_error[1] / base))), log(2))
  expect_error(
    rank_permutation(
      study(lm(strength ~ ., d), h, "strength", train = d, metric = "r2"), form = "ratio"
    ),
    "true zero",
    class = "dreher_error_input"
  )
})

test_that(
  "the shuffles' own noise is reported, and repeats are added until it is small",
  {
    st <- study(lm(strength ~ ., d), kiln_rows(400, "holdout"), "strength", train = d)
    noise <- function(...) {
      detail(rank_permutation(st, ...), "settings")[c("repeats", "shuffle_noise")]
    }
    few <- noise(repeats = 3)
    more <- noise(repeats = 40)
    expect_gt(few$shuffle_noise, more$shuffle_noise)
    chosen <- noise(repeats = "auto")
    expect_true(chosen$shuffle_noise < 0.1 || chosen$repeats == 160)
    expect_true(chosen$repeats %in% (10 * 2^(0:4)))
    # By the definition: the variance of the estimate over orders and shifts, the rows held fixed.
    st <- study(
      lm(strength ~ peak_temp, d), kiln_rows(400, "holdout"), "strength", train = d
    )
    one <- function(seed) {
      unlist(
        rank_permutation(st, repeats = 10, seed = seed)[c("importance", "std_error")]
      )
    }
    over <- vapply(1:60, one, double(2))
    D <- rank_permutation(st, repeats = 10)
    share <- var(over[1, ]) / mean(over[2, ]^2)
    expect_lt(abs(log(share / detail(D, "settings")$shuffle_noise)), log(1.8))
    expect_error(
      rank_permutation(st, repeats = "many"),
      "single whole number",
      class = "dreher_error_input"
    )
  }
)

test_that("all pairs: the AUC is that of the pooled pairs, whatever the seed", {
  set.seed(8)
  d <- data.frame(x = rnorm(40), z = rnorm(40))
  d$y <- factor(ifelse(d$x + rnorm(40) > 0, "yes", "no"))
  new <- data.frame(x = rnorm(30), z = rnorm(30), y = factor(rep(c("yes", "no"), 15)))
  fit <- glm(y ~ x + z, binomial, d)
  st <- study(fit, new, "y", train = d, metric = "auc")
  one <- as.data.frame(rank_permutation(st, repeats = "all", seed = 1))
  expect_equal(as.data.frame(rank_permutation(st, repeats = "all", seed = 2)), one)
  b <- coef(fit)
  pairs <- subset(expand.grid(i = 1:30, k = 1:30), i != k)
  score <- b[["x"]] * new$x[pairs$k] + b[["z"]] * new$z[pairs$i]
  positive <- new$y[pairs$i] == st$classes[st$positive]
  turn <- if (st$classes[st$positive] == "yes") 1 else -1
  shuffled <- mean(outer(
    turn * score[positive], turn * score[!positive], function(a, b) (a > b) + (a == b) / 2
  ))
  own <- turn * as.vector(as.matrix(new[c("x", "z")]) %*% b[c("x", "z")])
  is_positive <- new$y == st$classes[st$positive]
  plain <- mean(outer(own[is_positive], own[!is_positive], ">"))
  expect_equal(one$importance[one$predictor == "x"], plain - shuffled)
})
