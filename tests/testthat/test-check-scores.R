# What stands behind the scores, by definitions worked in plain R.

d <- kiln_rows(400)
h <- kiln_rows(200, "holdout")
forest <- small_forest(strength ~ ., d, trees = 30)
linear <- lm(strength ~ peak_temp * hold_minutes + cooling_rate, d)
st <- study(list(forest = forest, linear = linear), h, "strength", train = d)
sc <- score_models(st)
parts <- summary(sc)

test_that("every metric that fits, two models by pairs, the gap to the training rows", {
  p <- predict(forest, h)$predictions
  own <- parts$metrics[parts$metrics$model == "forest", ]
  expect_equal(own$score[own$metric == "mae"], mean(abs(h$strength - p)))
  expect_equal(
    own$score[own$metric == "r2"],
    1 - mean((h$strength - p)^2) / mean((h$strength - mean(h$strength))^2)
  )
  q <- predict(linear, h)
  rmse <- function(p) sqrt(mean((h$strength - p)^2))
  expect_equal(parts$pairs$difference, rmse(q) - rmse(p))
  expect_true(parts$pairs$lower < parts$pairs$difference)
  gap <- parts$gap[parts$gap$model == "forest", ]
  train <- sqrt(mean((d$strength - predict(forest, d)$predictions)^2))
  expect_equal(gap$gap, rmse(p) - train)
})

test_that("the best predictor alone is chosen on training rows and scored on the others", {
  alone <- sc$alone_predictor[sc$model == "linear"]
  expect_identical(alone, "peak_temp")
  cuts <- unique(quantile(d$peak_temp, 1:19 / 20, names = FALSE))
  centre <- tapply(d$strength, findInterval(d$peak_temp, cuts), mean)
  p <- centre[as.character(findInterval(h$peak_temp, cuts))]
  expect_equal(sc$alone[sc$model == "linear"], sqrt(mean((h$strength - p)^2)))
  expect_match(sc$verdict, "^Yes: it is shown to beat")
  idle <- study(lm(strength ~ room_humidity, d), h, "strength", train = d)
  expect_match(score_models(idle)$verdict, "^No: it is not shown to beat a constant")
  stump <- rpart::rpart(strength ~ peak_temp + operator, d, maxdepth = 1)
  one <- study(stump, h, "strength", train = d)
  expect_match(score_models(one)$verdict, "With care: .*`peak_temp` alone")
})

test_that("the score by trees is that of forests of the first trees", {
  trees <- parts$trees
  expect_identical(unique(trees$model), "forest")
  all <- predict(forest, h, predict.all = TRUE)$predictions
  for (i in seq_len(nrow(trees))) {
    p <- rowMeans(all[, seq_len(trees$trees[i]), drop = FALSE])
    expect_equal(trees$score[i], sqrt(mean((h$strength - p)^2)), tolerance = 1e-8)
  }
  boosted <- gbm::gbm(
    strength ~ peak_temp + hold_minutes + operator, "gaussian", d, n.trees = 25,
    interaction.depth = 3, n.minobsinnode = 5
  )
  tb <- summary(score_models(study(boosted, h, "strength", train = d)))$trees
  for (i in seq_len(nrow(tb))) {
    p <- predict(boosted, h, n.trees = tb$trees[i])
    expect_equal(tb$score[i], sqrt(mean((h$strength - p)^2)), tolerance = 1e-8)
  }
})

test_that("classes: confusion, calibration with Wilson's limits, slopes", {
  g <- glm(returned_late ~ earlier_late + reminders + distance_km, binomial, loans$train)
  scores <- score_models(study(g, loans$holdout, "returned_late", train = loans$train))
  found <- summary(scores)
  p <- predict(g, loans$holdout, type = "response")
  truth <- loans$holdout$returned_late
  counts <- table(truth, ifelse(p > 0.5, "yes", "no"))
  own <- found$confusion
  for (i in seq_len(nrow(own))) {
    expect_equal(own$count[i], counts[own$truth[i], own$predicted[i]])
  }
  bins <- found$calibration
  expect_equal(sum(bins$n), 500)
  expect_equal(sum(bins$observed * bins$n), sum(truth == "yes"))
  exact <- stats::prop.test(round(bins$observed[1] * bins$n[1]), bins$n[1], correct = FALSE)
  expect_equal(c(bins$lower[1], bins$upper[1]), as.numeric(exact$conf.int), tolerance = 1e-6)
  again <- stats::glm((truth == "yes") ~ stats::qlogis(p), family = binomial)
  expect_equal(found$slopes$slope, unname(coef(again)[2]), tolerance = 1e-6)
  expect_match(say_calibration(scores), "^Predictions are")
})

test_that("residuals by size, and figures that say what they show", {
  rest <- h$strength - predict(linear, h)
  own <- parts$residuals[parts$residuals$model == "linear", ]
  expect_equal(sum(own$bias * own$n), sum(rest))
  expect_equal(sum(own$spread^2 * own$n), sum(rest^2))
  for (show in c("calibration", "residuals", "trees")) {
    picture <- ggplot2::autoplot(sc, show = show)
    expect_s3_class(picture, "ggplot")
    expect_true(nzchar(picture$labels$title))
  }
  expect_error(ggplot2::autoplot(sc, show = "confusion"), "nothing to draw")
  expect_match(
    paste(format_scores(sc), collapse = " "), "forest: Yes: it is shown to beat a constant"
  )
})

test_that("training rows have no intervals and no verdict", {
  seen <- suppressWarnings(study(linear, d, "strength", train = d))
  s <- score_models(seen)
  expect_match(s$verdict, "^Cannot be told")
  expect_true(is.na(s$gain_lower) && all(is.na(summary(s)$metrics$lower)))
  expect_null(summary(s)$calibration)
})

test_that("a model of a transformed target is recognised, refused, or brought back", {
  logged <- transform(d, strength = log(strength))
  f <- small_forest(strength ~ peak_temp + hold_minutes + cooling_rate, logged, 40)
  e <- expect_error(
    study(f, h, "strength", train = d),
    "does not predict \"strength\" but log\\(strength\\)",
    class = "dreher_error_model"
  )
  expect_match(conditionMessage(e), "target_transform = \"log\"", fixed = TRUE)
  back <- study(f, h, "strength", train = d, target_transform = "log")
  p <- exp(predict(f, h)$predictions)
  expect_equal(score_models(back)$score, sqrt(mean((h$strength - p)^2)))
  # refits are trained on the logarithm
  again <- fit_on(
    back,
    back$models[[1]],
    training_frame(back, back$models[[1]]),
    back$predictors,
    1,
    "again"
  )
  expect_s3_class(again, "dreher_transformed")
  q <- model_predictions(again, h)
  expect_true(all(q > 20 & q < 70))
  said <- small_forest(log(strength) ~ peak_temp + hold_minutes + cooling_rate, d, 40)
  expect_equal(
    predict_model(
      study(said, h, "strength", train = d),
      study(said, h, "strength", train = d)$models[[1]],
      h
    )[
      , 1
    ],
    exp(predict(said, h)$predictions)
  )
  expect_error(rank_impurity(back), "target", class = "dreher_error_study")
  centre <- mean(d$strength)
  size <- sd(d$strength)
  scaled <- lm(
    strength ~ peak_temp * hold_minutes,
    transform(d, strength = (strength - centre) / size)
  )
  expect_error(study(scaled, h, "strength", train = d), "scaled to mean 0")
  both <- list(forward = function(y) (y - centre) / size, inverse = function(p) {
    centre + size * p
  })
  mended <- study(scaled, h, "strength", train = d, target_transform = both)
  expect_equal(
    predict_model(mended, mended$models[[1]], h)[, 1],
    unname(centre + size * predict(scaled, h))
  )
  expect_error(
    study(scaled, h, "strength", train = d, target_transform = "logit"), "gives no number"
  )
  expect_error(
    study(lm(log(strength) ~ peak_temp, d), h, "strength", target_transform = "log"),
    "says already"
  )
  expect_error(
    study(
      scaled, h, "strength", train = d, target_transform = "log",
      predict_with = function(model, data) predict(model, data)
    ),
    "both `target_transform` and `predict_with`"
  )
  wrong <- list(forward = log, inverse = sqrt)
  expect_error(
    study(scaled, h, "strength", train = d, target_transform = wrong), "does not undo"
  )
  expect_error(
    study(scaled, h, "strength", train = d, target_transform = "cube"), "must be one of"
  )
})

test_that("what is predicted without a loss has no interval, a share Wilson's", {
  d <- data.frame(x = c(1:30, 71:100), y = factor(rep(c("no", "yes"), each = 30)))
  fit <- rpart::rpart(y ~ x, d, control = rpart::rpart.control(xval = 0))
  held <- transform(d[c(1:10, 31:40), ], x = x + 0.5)
  limits <- function(metric) {
    score_models(study(fit, held, "y", train = d, metric = metric, positive = "yes"))
  }
  for (metric in c("brier", "log_loss", "auc")) {
    expect_identical(c(limits(metric)$lower, limits(metric)$upper), c(NA_real_, NA_real_))
  }
  expect_identical(limits("auc")$skill_lower, NA_real_)
  expect_identical(limits("auc")$flag, "")  # it does beat a constant
  z <- qnorm(0.975)
  expect_equal(limits("accuracy")$lower, 20 / (20 + z^2))
  expect_equal(limits("accuracy")$upper, 1)
  # one in five wrong, by the formula in the books
  held$y[c(1, 2, 11, 12)] <- c("yes", "yes", "no", "no")
  said <- limits("accuracy")
  n <- 19  # var() divides by one less
  expect_equal(
    c(said$lower, said$upper),
    (0.8 + z^2 / (2 * n) + c(-1, 1) * z * sqrt(0.16 / n + z^2 / (4 * n^2))) / (1 + z^2 / n)
  )
  # limits hold for shares near 1, where those of t do not
  set.seed(1)
  held <- replicate(2000, {
    right <- rbinom(40, 1, 0.97)
    own <- score_limits(
      c(metric_table()$accuracy, name = "accuracy"),
      mean(right),
      sd(right) / sqrt(40),
      39,
      0.95
    )
    own$lower <= 0.97 && own$upper >= 0.97
  })
  expect_gt(mean(held), 0.93)
})
