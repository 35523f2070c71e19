# Slices against the rest: means, errors, what is chosen and what is found.

few <- kiln_rows(300)[c("peak_temp", "hold_minutes", "clay_source", "grog_share", "strength")]
held <- kiln_rows(300, "holdout")[names(few)]
fit <- lm(strength ~ peak_temp * hold_minutes + clay_source, few)
st <- study(fit, held, "strength", train = few)

test_that("values are means inside and outside, intervals are Bonferroni, p-values Holm", {
  x <- compare_slices(st, ~clay_source)
  p <- predict(fit, held)
  loss <- (held$strength - p)^2
  score <- as.data.frame(x)[x$method == "score", ]
  inside <- held$clay_source == "river"
  one <- score[score$slice == "clay_source = river", ]
  expect_equal(one$importance, mean(loss[inside]))
  expect_equal(one$rest, mean(loss[!inside]))
  n <- length(loss)
  se <- sqrt(
    (sum((loss[inside] - mean(loss[inside]))^2) / sum(inside)^2 +
      sum((loss[!inside] - mean(loss[!inside]))^2) / sum(!inside)^2) * n / (n - 1)
  )
  df <- min(sum(inside), sum(!inside)) - 1
  expect_equal(one$upper - one$difference, qt(1 - 0.025 / 4, df) * se, tolerance = 1e-8)
  raw <- 2 * pt(-abs(score$difference / ((score$upper - score$difference) / qt(
    1 - 0.025 / 4, pmin(score$n, score$n_rest) - 1
  ))), pmin(score$n, score$n_rest) - 1)
  expect_equal(score$p_value, p.adjust(raw, "holm"), tolerance = 1e-8)
  phi <- row_values(rank_shapley(st, max_rows = 300))[, "peak_temp", 1]
  mine <- x[x$method == "shapley" & x$predictor %in% "peak_temp" &
    x$slice == "clay_source = river", ]
  expect_equal(mine$difference, mean(phi[inside]) - mean(phi[!inside]), tolerance = 1e-10)
})

test_that("importances are those of the rows inside and of the rest", {
  hot <- held$peak_temp > 1190
  x <- compare_slices(st, list(hot = ~ peak_temp > 1190), by = "permutation")
  mse <- study(fit, held, "strength", train = few, metric = "mse")
  by_hand <- function(rows) {
    r <- as.data.frame(rank_permutation(mse, rows = held[rows, ]))
    r$importance[match(x$predictor, r$predictor)]
  }
  expect_equal(x$importance, by_hand(hot), tolerance = 1e-8)
  expect_equal(x$rest, by_hand(!hot), tolerance = 1e-8)
})

test_that("found slices are tested on rows that did not find them", {
  set.seed(6)
  d <- data.frame(a = runif(600), b = runif(600))
  d$y <- d$b + ifelse(d$a > 0.8, 3, 0.3) * rnorm(600)
  s <- study(lm(y ~ a + b, d[1:200, ]), d[201:600, ], "y", train = d[1:200, ])
  x <- compare_slices(s, "found", by = "score")
  expect_match(x$slice[1], "a >= 0.[78]")
  expect_gt(x$lower[1], 0)
  expect_identical(x$n[1] + x$n_rest[1], 200L)
  # where errors depend on nothing, nothing is said to be worse
  false <- mean(replicate(40, {
    d <- data.frame(a = runif(200), b = runif(200))
    d$y <- rnorm(200)
    s <- study(lm(y ~ a + b, d[1:40, ]), d[41:200, ], "y", train = d[1:40, ])
    x <- tryCatch(
      as.data.frame(compare_slices(s, "found", by = "score")),
      dreher_error_input = function(e) NULL
    )
    !is.null(x) && any(x$lower > 0)
  }))
  expect_lte(false, 0.2)
})

test_that("slices chosen by their errors have no test of the score", {
  x <- compare_slices(st, "worst")
  expect_true(all(is.na(x$p_value[x$method == "score"])))
  expect_match(x$flag[1], "chosen by its error")
  expect_match(paste(format_slices(x), collapse = " "), "not tested")
  d <- na.omit(
    loans$train[1:300, c("loan_days", "reminders", "distance_km", "returned_late")]
  )
  late <- na.omit(loans$holdout[1:200, names(d)])
  two <- study(
    small_forest(returned_late ~ ., d, probability = TRUE),
    late,
    "returned_late",
    train = d,
    positive = "yes"
  )
  cells <- compare_slices(two, "confusion", by = c("score", "prediction"))
  expect_true(all(grepl("^(yes|no), predicted (yes|no)$", cells$slice)))
  sizes <- cells$n[cells$method == "score"]
  expect_lte(sum(sizes), nrow(late))
})

test_that("sensitive columns are the usual slices; small ones are left out and named", {
  dictionary <- data.frame(
    predictor = c("clay_source", "peak_temp"), sensitive = c(TRUE, FALSE)
  )
  s <- study(fit, held, "strength", train = few, dictionary = dictionary)
  x <- compare_slices(s, by = "score")
  expect_true(all(startsWith(x$slice, "clay_source = ")))
  few_pit <- held[!(held$clay_source == "pit" & cumsum(held$clay_source == "pit") > 3), ]
  s <- study(fit, few_pit, "strength", train = few)
  x <- compare_slices(s, ~clay_source, by = "score")
  expect_identical(detail(x, "left_out")$slice, "clay_source = pit")
  expect_match(paste(format_slices(x), collapse = " "), "Left out")
})

test_that("what is no slice is refused", {
  # without a sensitive column slices are looked for
  expect_gt(nrow(compare_slices(st)), 0)
  expect_error(
    compare_slices(st, "confusion"), "is for classes", class = "dreher_error_input"
  )
  expect_error(
    compare_slices(st, list(a = ~ peak_temp + 1)),
    "not TRUE or FALSE",
    class = "dreher_error_input"
  )
  expect_error(
    compare_slices(st, list(a = ~ peak_temp > 9e9)),
    "at least 5 rows",
    class = "dreher_error_input"
  )
  expect_error(
    compare_slices(st, list(a = ~ stop("x") > 1)),
    "cannot be evaluated",
    class = "dreher_error_input"
  )
})
