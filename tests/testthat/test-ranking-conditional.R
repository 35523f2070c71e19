test_that("donors come from the same stratum, each row gives and receives once", {
  stratum <- c(rep(1L, 25), rep(2L, 21), 3L)
  donors <- draw_donors_within(stratum, 30, 1)
  expect_true(all(stratum[donors] == stratum))
  expect_true(all(apply(donors, 2, function(x) setequal(x, seq_along(stratum)))))
  expect_false(any(donors[stratum < 3, ] == which(stratum < 3)))
  expect_identical(draw_donors_within(rep(1L, 40), 7, 3), draw_donors(40, 7, 3))
  # Of the neighbours the smaller one takes a small stratum in.
  expect_identical(
    join_small(rep(1:4, c(30, 5, 25, 40)), 20), rep(c(1L, 2L, 2L, 3L), c(30, 5, 25, 40))
  )
  expect_identical(join_small(c(1L, 2L), 20), c(1L, 1L))
})

test_that("conditional values stand beside the plain ones and equal their definition", {
  set.seed(3)
  n <- 900
  x1 <- rnorm(n)
  all <- data.frame(
    x1 = x1,
    x2 = 0.9 * x1 + sqrt(1 - 0.81) * rnorm(n),
    x3 = rnorm(n),
    side = factor(ifelse(x1 + rnorm(n) > 0, "up", "down"))
  )
  all$y <- all$x1 + 0.4 * all$x3 + rnorm(n) / 2
  d <- all[1:500, ]
  h <- all[501:900, ]
  fit <- small_forest(y ~ ., d, trees = 60, min.node.size = 10)
  st <- study(list(forest = fit), h, "y", train = d, metric = "mse")
  rk <- rank_permutation(st, shuffle = "conditional", repeats = 5)
  get <- function(p, form) rk$importance[rk$predictor == p & rk$form == form]
  quality <- detail(rk, "strata")
  expect_gt(quality$strata[quality$group == "x2"], 3)
  expect_gt(quality$explained[quality$group == "x2"], 0.5)
  expect_identical(quality$strata[quality$group == "x3"], 1L)
  expect_true(all(quality$smallest >= 20))
  expect_match(
    rk$flag[rk$predictor == "x3" & rk$form == "conditional"], "not conditioned"
  )
  # What does nothing keeps little of what it borrowed; what acts stays first.
  expect_lt(get("x2", "conditional"), 0.3 * get("x2", "plain"))
  expect_gt(get("x1", "conditional"), get("x2", "conditional"))
  expect_equal(get("x3", "conditional"), get("x3", "plain"), tolerance = 1e-10)
  # The definition, with the same strata and donors.
  m <- st$models[[1]]
  rows <- model_rows(st, m, h)
  for (p in c("x2", "side")) {
    stratum <- draw_strata(st, m, p, rows, 1)$stratum
    donors <- draw_donors_within(stratum, 5, 1)
    naive <- mean(vapply(
      1:5,
      function(r) {
        s <- h
        s[[p]] <- h[[p]][donors[, r]]
        mean((predict_model(st, m, s)[, 1] - h$y)^2)
      },
      0
    )) - mean((predict_model(st, m, h)[, 1] - h$y)^2)
    expect_equal(get(p, "conditional"), naive, tolerance = 1e-10)
  }
  expect_output(
    print(rk), "Permutation conditional rise of mean squared error within strata"
  )
  joint <- rank_permutation(
    st,
    shuffle = "conditional",
    groups = list(both = c("x1", "x2"), other = "x3"),
    repeats = 2
  )
  expect_setequal(joint$predictor[joint$form == "conditional"], c("both", "other"))
  expect_error(
    rank_permutation(study(fit, h, "y"), shuffle = "conditional"),
    "needs the training rows",
    class = "dreher_error_study"
  )
  expect_error(
    rank_permutation(st, shuffle = "conditional", rows = "train"),
    "has not seen",
    class = "dreher_error_input"
  )
  expect_error(
    rank_permutation(st, shuffle = "yes"),
    "must be one of",
    class = "dreher_error_input"
  )
})
