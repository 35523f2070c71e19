kiln <- demo_kiln(missing = FALSE)
few <- kiln$train[1:400, ]

test_that("p values against decoys follow their definition", {
  d <- expand.grid(predictor = c("a", "b"), decoy = c(FALSE, TRUE), draw = 1:19, stringsAsFactors = FALSE)
  set.seed(1)
  d$importance <- ifelse(d$decoy, runif(nrow(d)), ifelse(d$predictor == "a", 2, 0.5))
  d[c("model", "method", "rows")] <- list("m", "permutation", "holdout")
  out <- judge_decoys(d, 0.05)
  most <- tapply(d$importance[d$decoy], d$draw[d$decoy], max)
  own <- d$importance[d$decoy & d$predictor == "b"]
  expect_equal(out$p_value, c(1 / 20, (1 + sum(most >= 0.5)) / 20))
  expect_equal(out$p_own[2], (1 + sum(own >= 0.5)) / 20)
  expect_equal(out$q_own, stats::p.adjust(out$p_own, "BH"))
  expect_identical(out$above, c(TRUE, FALSE))
  expect_equal(out$floor[1], max(most))   # the 19th of 19
})

test_that("signals stand above the floor and noise does not, for formulas with interactions, forests and boosted trees", {
  set.seed(2)
  few$noise <- rnorm(400)
  hold <- cbind(kiln$holdout, noise = rnorm(nrow(kiln$holdout)))
  models <- list(linear = lm(strength ~ peak_temp * hold_minutes + poly(cooling_rate, 2) + noise, few),
                 forest = ranger::ranger(strength ~ peak_temp + hold_minutes + cooling_rate + noise, few, num.trees = 30, mtry = 2, seed = 1))
  st <- study(models, hold, "strength", train = few)
  nf <- noise_floor(st, draws = 19)
  d <- as.data.frame(nf)
  expect_true(all(d$above[d$predictor %in% c("peak_temp", "hold_minutes")]))
  expect_false(any(d$above[d$predictor == "noise"]))
  expect_identical(nf$table, noise_floor(st, draws = 19)$table)
  rk <- with_floor(rank_permutation(st), nf)
  expect_true(all(grepl("not above floor", rk$flag[rk$predictor == "noise"])))
  expect_match(paste(format_ranking(rk), collapse = " "), "Noise floor of 19 decoy refits")
  built <- ggplot2::ggplot_build(ggplot2::autoplot(rk))
  expect_gt(length(built$data), 5)
  expect_error(noise_floor(st, draws = 5), "at least 19", class = "dreher_error_input")
  other <- study(models$linear, hold[1:50, ], "strength", train = few)
  expect_error(with_floor(rank_permutation(other), nf), "another study", class = "dreher_error_study")
})

test_that("conditional decoys keep what the other predictors say", {
  set.seed(3)
  rows <- data.frame(a = rnorm(400))
  rows$b <- rows$a * 0.9 + rnorm(400, sd = 0.4)
  rows$y <- rows$a + rnorm(400)
  st <- study(lm(y ~ a + b, rows), rows[1:200, ], "y", train = rows)
  strata <- strata_of_all(st, st$models[[1]], 1)
  free <- with_stream(1, "x", beside_copies(rows[c("a", "b")], c("a", "b")))
  kept <- with_stream(1, "x", beside_copies(rows[c("a", "b")], c("a", "b"), strata$train))
  expect_setequal(kept$decoy_2_, rows$b)
  expect_lt(abs(stats::cor(free$decoy_2_, rows$a)), 0.2)
  expect_gt(stats::cor(kept$decoy_2_, rows$a), 0.7)
})
