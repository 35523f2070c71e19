d <- kiln_rows(200)[c(
    "peak_temp", "hold_minutes", "grog_share", "pyro_left", "pyro_right", "clay_source",
    "strength"
  )]

test_that(
  "every draw is a refit without the predictor, scored on the rows that were not drawn",
  {
    fit <- lm(strength ~ peak_temp * hold_minutes + pyro_left + clay_source, d)
    st <- study(list(linear = fit), kiln$holdout, "strength", train = d, metric = "mse")
    rk <- rank_refit(st, times = 3, seed = 5)
    draws <- detail(rk, "draws")[["linear/refit"]]
    for (b in 1:3) {
      rows <- with_stream(5, c("bootstrap", 200L, b), sample.int(200, replace = TRUE))
      out <- d[-unique(rows), ]
      mse <- function(formula) {
        mean((predict(lm(formula, d[rows, ]), out) - out$strength)^2)
      }
      whole <- mse(strength ~ peak_temp * hold_minutes + pyro_left + clay_source)
      expect_equal(
        unname(draws[b, "pyro_left"]),
        mse(strength ~ peak_temp * hold_minutes + clay_source) - whole,
        tolerance = 1e-8
      )
      expect_equal(
        unname(draws[b, "peak_temp"]),
        mse(strength ~ hold_minutes + pyro_left + clay_source) - whole,
        tolerance = 1e-8
      )
    }
    expect_equal(rk$importance[rk$predictor == "pyro_left"], mean(draws[, "pyro_left"]))
    expect_equal(rk$std_error[rk$predictor == "pyro_left"], sd(draws[, "pyro_left"]))
    expect_identical(unique(rk$inference), "learner")
    expect_match(rk$flag[1], "few refits")
    expect_output(print(rk), "rise of mean squared error without it, 3 draws of 200 rows")
  }
)

test_that("alone against the constant, groups, other models, workers and errors", {
  fit <- small_forest(strength ~ ., d, trees = 20)
  st <- study(list(forest = fit), kiln$holdout, "strength", train = d)
  alone <- rank_refit(
    st,
    form = "univariable",
    times = 2,
    groups = list(
      pyrometers = c("pyro_left", "pyro_right"),
      temperature = "peak_temp",
      nothing = character(1)
    )[1:2]
  )
  expect_setequal(alone$predictor, c("pyrometers", "temperature"))
  rows <- with_stream(1, c("bootstrap", 200L, 1), sample.int(200, replace = TRUE))
  out <- d[-unique(rows), ]
  constant <- sqrt(mean((mean(d$strength[rows]) - out$strength)^2))
  refit <- refit_model(
    fit,
    d[rows, ],
    "strength",
    "peak_temp",
    seed = piece_seed(1, c("refit", "forest", 1, "temperature"))
  )
  own <- sqrt(mean((predict(refit, out)$predictions - out$strength)^2))
  expect_equal(
    unname(detail(alone, "draws")[[1]][1, "temperature"]), constant - own, tolerance = 1e-8
  )
  # Twins replace each other: leaving one out costs less than leaving out both.
  linear <- study(lm(strength ~ ., d), kiln$holdout, "strength", train = d)
  each <- rank_refit(linear, times = 4)
  both <- rank_refit(linear, times = 4, groups = list(both = c("pyro_left", "pyro_right")))
  expect_gt(both$importance, max(each$importance[grepl("pyro", each$predictor)]))
  old <- future::plan(future::multisession, workers = 2)
  on.exit(future::plan(old))
  expect_equal(as.data.frame(rank_refit(linear, times = 4)), as.data.frame(each))
  expect_error(
    rank_refit(study(fit, kiln$holdout, "strength")),
    "needs the training rows",
    class = "dreher_error_study"
  )
  expect_error(
    rank_refit(st, form = "swap"), "must be one of", class = "dreher_error_input"
  )
  bare <- study(list(any = 1), d, "strength", train = d, predict_with = function(
      model, data) {
    rep(1, nrow(data))
  })
  expect_error(rank_refit(bare, times = 2), "refit_with", class = "dreher_error_model")
  expect_identical(
    unique(rank_predictors(linear, by = c("coefficients", "refit"))$method),
    c("coefficients", "refit")
  )
})
