test_that(
  paste0(
    "a number's value is |b| sd(x), a factor's is free of its reference level, terms ",
    "are joint"
  ),
  {
    d <- kiln_rows(200)
    value <- function(fit, data = d, ...) {
      rk <- rank_coefficients(study(fit, data, "strength", train = data), ...)
      stats::setNames(as.data.frame(rk)$importance, rk$predictor)
    }
    fit <- lm(strength ~ peak_temp + hold_minutes + clay_source, d)
    v <- value(fit)
    expect_equal(
      v[["peak_temp"]], abs(coef(fit)[["peak_temp"]]) * sd(d$peak_temp), tolerance = 1e-10
    )
    other <- d
    other$clay_source <- relevel(other$clay_source, "river")
    expect_equal(
      value(lm(strength ~ peak_temp + hold_minutes + clay_source, other), other)[["clay_source"]],
      v[["clay_source"]],
      tolerance = 1e-8
    )
    # Joint over columns, less tr(SV).
    X <- model.matrix(fit)[, 4:6]
    b <- coef(fit)[4:6]
    expect_equal(
      v[["clay_source"]]^2,
      var(as.vector(X %*% b)) - sum(diag(cov(X) %*% vcov(fit)[4:6, 4:6])),
      tolerance = 1e-8
    )
    both <- lm(strength ~ peak_temp * hold_minutes, d)
    X <- model.matrix(both)[, c(2, 4)]
    b <- coef(both)[c(2, 4)]
    expect_equal(
      value(both)[["peak_temp"]]^2,
      var(as.vector(X %*% b)) - sum(diag(cov(X) %*% vcov(both)[c(2, 4), c(2, 4)])),
      tolerance = 1e-8
    )
    expect_setequal(
      names(value(both, form = "term")),
      c("peak_temp", "hold_minutes", "peak_temp:hold_minutes")
    )
  }
)

test_that("tests and signs are those of the fit; aliased coefficients are flagged", {
  d <- kiln_rows(200)
  d$double <- 2 * d$peak_temp
  fit <- lm(strength ~ peak_temp + cooling_rate + clay_source + double, d)
  rk <- rank_coefficients(study(fit, d, "strength", train = d))
  statistics <- detail(rk, "statistics")[[1]]
  row <- function(p) statistics[statistics$predictor == p, ]
  table <- summary(fit)$coefficients
  expect_equal(row("cooling_rate")$p_value, table["cooling_rate", 4], tolerance = 1e-8)
  expect_identical(c(row("peak_temp")$sign, row("cooling_rate")$sign), c(1, -1))
  joint <- anova(update(fit, . ~ . - clay_source), fit)
  expect_equal(row("clay_source")$p_value, joint[["Pr(>F)"]][2], tolerance = 1e-8)
  expect_match(rk$flag[rk$predictor == "double"], "aliased")
  expect_identical(rk$importance[rk$predictor == "double"], 0)
  logit <- glm(returned_late ~ earlier_late + loan_days, binomial, loans$train)
  rk <- rank_coefficients(study(logit, loans$holdout, "returned_late", train = loans$train))
  statistics <- detail(rk, "statistics")[[1]]
  expect_equal(
    statistics$p_value[statistics$predictor == "earlier_late"],
    summary(logit)$coefficients["earlier_late", 4],
    tolerance = 1e-6
  )
  expect_error(
    rank_coefficients(study(rpart::rpart(strength ~ ., d), d, "strength", train = d)),
    "needs a linear predictor"
  )
})

test_that("95 % intervals of a coefficient's importance cover as often as they say", {
  set.seed(2)
  hits <- replicate(200, {
    d <- data.frame(x = rnorm(60), z = rnorm(60))
    d$y <- 0.8 * d$x + rnorm(60)
    st <- study(lm(y ~ x + z, d), d, "y", train = d)
    st$flags <- list(predictors = c(x = "", z = ""), models = c(lm = ""))
    rk <- as.data.frame(rank_coefficients(st))
    r <- rk[rk$predictor == "x", ]
    truth <- 0.8 * sd(d$x)
    r$lower <= truth && truth <= r$upper
  })
  expect_true(mean(hits) > 0.9 && mean(hits) < 0.99)
})

test_that("without training rows, what needs them is left out and said so", {
  d <- kiln_rows(80)
  st <- study(list(tree = rpart::rpart(strength ~ ., d)), d, "strength")
  rk <- rank_predictors(st, repeats = 5)
  expect_identical(unique(rk$method), "permutation")
  expect_identical(detail(rk, "left_out")$method, c("impurity", "shapley"))
  expect_identical(unique(detail(rk, "left_out")$why), "no training rows were given")
  expect_setequal(
    unique(rank_predictors(st, background = d[1:10, ], repeats = 5)$method),
    c("permutation", "shapley")
  )
  expect_error(
    rank_predictors(st, by = "association"),
    "No method applies",
    class = "dreher_error_study"
  )
})

test_that("models without coefficients are left out and said so", {
  d <- kiln_rows(150)
  st <- study(
    list(
      tree = rpart::rpart(strength ~ ., d), line = lm(strength ~ peak_temp + operator, d)
    ),
    d,
    "strength",
    train = d
  )
  rk <- rank_predictors(
    st, by = c("structure", "coefficients", "association", "permutation"), repeats = 5
  )
  left <- detail(rk, "left_out")
  expect_identical(
    paste(left$model, left$method), c("line structure", "tree coefficients")
  )
  expect_setequal(
    unique(rk$method), c("structure", "coefficients", "association", "permutation")
  )
  expect_identical(sum(rk$method == "association"), length(st$predictors))
})
