# Pure noise: 40 columns, none of which acts.
noise_study <- function(n = 80, p = 40, seed = 1) {
  set.seed(seed)
  d <- as.data.frame(matrix(rnorm(n * p), n))
  d$y <- rnorm(n)
  h <- as.data.frame(matrix(rnorm(n * p), n))
  h$y <- rnorm(n)
  study(lm(y ~ ., d), h, "y", train = d, metric = "mse")
}

d <- kiln_rows(400, drop = c("ring_tone", "defect", "tile_id", "batch", "wet_weight", "dry_weight", "glaze_type", "glaze_viscosity", "glaze_thickness", "shelf_position"))
st <- study(list(linear = lm(strength ~ ., d)), kiln_rows(100, "holdout"), "strength", train = d)
rd <- reduce_predictors(st, folds = 4, times = 2, inner_folds = 2, seed = 3)

test_that("the curve is the cross-validation by definition", {
  curve <- rd$curves$linear
  k <- 4
  at <- match(k, curve$sizes)
  loss <- double(2)
  for (t in 1:2) {
    p <- double(400)
    for (i in which(vapply(curve$pieces, `[[`, 1L, "time") == t)) {
      out <- curve$fold_of[, t] == curve$pieces[[i]]$fold
      fit <- lm(reformulate(curve$splits[[i]]$order[1:k], "strength"), d[!out, ])
      p[out] <- predict(fit, d[out, ])
    }
    loss[t] <- sqrt(mean((p - d$strength)^2))
  }
  table <- as.data.frame(rd)
  expect_equal(table$score[table$size == k], mean(loss), tolerance = 1e-10)
  expect_identical(table$size[c(1, nrow(table))], c(0L, length(st$predictors)))
  full <- nrow(table)
  expect_identical(c(table$price[full], table$price_error[full]), c(0, 0))
})

test_that("rules: by hand on a made-up curve", {
  m <- list(loss = c(10, 7, 5.2, 5, 5.1), cov = diag(c(1, 1, 0.04, 0.04, 0.04)))
  expect_identical(apply_rule(m, "best"), 4L)
  expect_identical(apply_rule(m, "one_se"), 3L)   # 5.2 <= 5 + sqrt(.08)
  expect_identical(apply_rule(list(loss = c(1, 1, 1), cov = diag(3)), "best"), 1L)
})

test_that("the strong predictors stay, and the choice carries its price and its doubts", {
  ps <- choose_set(rd)
  expect_true(all(c("peak_temp", "hold_minutes", "clay_source") %in% ps$predictors))
  expect_lt(sum(ps$picked$share[ps$picked$predictor == "operator"]), 1)   # does nothing: luck in some splits at most
  expect_true(ps$price_lower <= ps$price && ps$price <= ps$price_upper)
  expect_true(all(ps$picked$share[ps$picked$predictor %in% c("peak_temp", "hold_minutes")] == 1))
  expect_length(ps$sizes_picked, 8)
  best <- choose_set(rd, rule = "best")
  expect_gte(best$size, ps$size)
  expect_error(choose_set(rd, rule = "elbow"), "`rule` must be one of")
  expect_error(choose_set(rd, model = "forest"), "`model` must be one of")
})

test_that("on pure noise nothing is promised, where the shortcut promises", {
  runs <- lapply(1:6, function(s) {
    noise <- noise_study(seed = s)
    rd <- reduce_predictors(noise, folds = 5, times = 1, inner_folds = 3, sizes = c(1, 3, 10))
    ps <- choose_set(rd, rule = "best")
    n <- noise$train
    top <- names(sort(-abs(cor(n[1:40], n$y)[, 1])))[1:10]   # ranked on all rows, cross-validated afterwards
    fold <- rd$curves[[1]]$fold_of[, 1]
    p <- double(80)
    for (f in 1:5) p[fold == f] <- predict(lm(reformulate(top, "y"), n[fold != f, ]), n[fold == f, ])
    table <- as.data.frame(rd)
    c(procedure = 1 - ps$procedure$score / ps$constant_score, inside = 1 - table$score[table$size == 10] / ps$constant_score,
      shortcut = 1 - mean((p - n$y)^2) / ps$constant_score)
  })
  means <- colMeans(do.call(rbind, runs))
  expect_lt(means[["procedure"]], 0.02)
  expect_gt(means[["shortcut"]] - means[["inside"]], 0.15)
})

test_that("an answer of nothing is possible, can be confirmed and drawn", {
  ps <- choose_set(reduce_predictors(noise_study(seed = 9), folds = 4, times = 1, inner_folds = 2, sizes = c(2, 5)))
  expect_identical(ps$size, 0L)
  fresh <- noise_study(seed = 77)
  cf <- confirm_set(ps, fresh$train, margin = 0.05)
  expect_equal(cf$score_small, cf$score_constant)
  expect_match(paste(format(ps$size), collapse = ""), "0")
})

test_that("confirmation: paired, with a margin, and refusing rows it should not see", {
  ps <- choose_set(rd)
  u <- kiln$untouched[names(d)]
  cf <- confirm_set(ps, u)
  small <- lm(reformulate(ps$predictors, "strength"), d)
  e <- function(fit) (predict(fit, u) - u$strength)^2
  full <- lm(strength ~ ., d)
  diff <- sqrt(mean(e(small))) - sqrt(mean(e(full)))
  expect_equal(cf$difference, diff, tolerance = 1e-10)
  w <- (e(small) - mean(e(small))) / (2 * sqrt(mean(e(small)))) - (e(full) - mean(e(full))) / (2 * sqrt(mean(e(full))))
  expect_equal(cf$std_error, sd(w) / sqrt(600), tolerance = 1e-10)
  expect_equal(cf$limit, diff + qt(0.95, 599) * sd(w) / sqrt(600), tolerance = 1e-10)
  expect_error(confirm_set(ps, d), "training rows", class = "dreher_error_input")
  expect_warning(confirm_set(ps, st$data), "holdout rows", class = "dreher_warning_rows")
  expect_error(confirm_set(ps, u, margin = -1), "`margin` must be")
  expect_identical(state_difference(-2, -1, 1), "better")
  expect_identical(state_difference(-2, 0.5, 1), "not worse by more than the margin")
  expect_identical(state_difference(0.2, 3, 1), "worse")
  expect_identical(state_difference(-1, 3, 1), "inconclusive")
})

test_that("a function refits what dreher cannot, and a failing fit is named", {
  by_nnet <- nnet::nnet(strength ~ peak_temp + hold_minutes, transform(d, strength = strength / 60), size = 2, trace = FALSE)
  predict_net <- function(model, data) 60 * as.vector(predict(model, data))
  refit_net <- function(model, data, predictors) {
    nnet::nnet(reformulate(predictors, "strength"), transform(data, strength = strength / 60), size = 2, trace = FALSE, maxit = 30)
  }
  s <- study(list(net = by_nnet), kiln_rows(60, "holdout"), "strength", train = d[1:150, ], predictors = c("peak_temp", "hold_minutes"),
             predict_with = predict_net, refit_with = refit_net)
  a <- reduce_predictors(s, folds = 2, times = 1, inner_folds = 2)
  b <- reduce_predictors(s, folds = 2, times = 1, inner_folds = 2)
  expect_identical(as.data.frame(a), as.data.frame(b))
  s$refit_with$net <- function(model, data, predictors) stop("no luck")
  expect_error(reduce_predictors(s, folds = 2, times = 1, inner_folds = 2), "\"net\" could not be trained again.*no luck", class = "dreher_error_model")
  s$refit_with <- list()
  s$models$net$own_reader <- TRUE
  expect_error(reduce_predictors(s, folds = 2, times = 1, inner_folds = 2), "refit_with", class = "dreher_error_model")
  expect_error(reduce_predictors(st, by = "impurity"), "needs trees")
  expect_error(reduce_predictors(study(lm(strength ~ peak_temp, d), d, "strength")), "needs the training rows")
})

test_that("class targets, impurity and Shapley rankings reduce as well", {
  rows <- kiln$train[1:300, c("cooling_rate", "glaze_thickness", "peak_temp", "hold_minutes", "operator", "defect")]
  s <- study(small_forest(defect ~ ., rows, probability = TRUE), kiln$holdout, "defect", train = rows)
  for (by in c("impurity", "shapley")) {
    r <- reduce_predictors(s, by = by, folds = 3, times = 1, inner_folds = 2)
    expect_true(all(is.finite(as.data.frame(r)$score)))
    expect_false(choose_set(r, rule = "best")$predictors[1] %in% "operator")
  }
})

test_that("boosted trees reduce, ranked by permutation or by their recomputed gain", {
  rows <- d[c("peak_temp", "hold_minutes", "operator", "strength")]
  set.seed(1)
  s <- study(gbm::gbm(strength ~ ., "gaussian", rows, n.trees = 60, interaction.depth = 3, shrinkage = 0.1), kiln_rows(50, "holdout"), "strength", train = rows)
  for (by in c("permutation", "impurity")) {
    r <- reduce_predictors(s, by = by, folds = 3, times = 1, inner_folds = 2)
    expect_identical(r$curves[[1]]$order[3], "operator")
    table <- as.data.frame(r)
    expect_lt(table$score[table$size == 2], table$score[table$size == 0])
  }
})
