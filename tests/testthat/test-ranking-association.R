test_that("the measures equal their published definitions", {
  set.seed(1)
  x <- c(3, 1, 4, 1, 5, 9, 2, 6, 5, 3)
  y <- c(2, 7, 1, 8, 2, 8, 1, 8, 2, 9)
  g <- c("a", "b", "a", "b", "c", "c", "a", "c", "b", "a")
  rho <- cor(x, y, method = "spearman")
  expect_equal(association(x, y)$value, sqrt(max(0, rho^2 - (1 - rho^2) / 8)))
  expect_equal(
    association(x, y)$p_value,
    suppressWarnings(cor.test(rank(x), rank(y)))$p.value,
    tolerance = 1e-8
  )
  H <- unname(kruskal.test(y, factor(g))$statistic)
  expect_equal(association(g, y)$value, sqrt(max(0, (H - 2) / 7)))
  expect_equal(association(factor(g), y)$p_value, kruskal.test(y, factor(g))$p.value)
  # Bergsma's correction, by hand on a 2 x 2 table: chi2 / n = .16, less 1 / 99, over 1 - 1 / 99.
  a <- rep(c("u", "v"), each = 50)
  b <- c(rep("s", 35), rep("t", 15), rep("s", 15), rep("t", 35))
  expect_equal(
    association(a, b)$value, sqrt((0.16 - 1 / 99) / (1 - 1 / 99)), tolerance = 1e-10
  )
  expect_identical(association(factor(g, ordered = TRUE), y)$kind, "rank correlation")
  expect_identical(association(rep(1, 10), y)$value, 0)
})

test_that(
  paste0(
    "a ranking of mixed types: truth first, noise near zero, missing values by pair, ",
    "each alone"
  ),
  {
    st <- study(
      lm(
        strength ~
          peak_temp + hold_minutes + clay_source + operator + batch + grog_share +
            room_humidity,
        kiln$train
      ),
      kiln$holdout,
      "strength",
      train = kiln_raw$train
    )
    rk <- as.data.frame(rank_association(st, times = 50))
    expect_setequal(
      rk$predictor[rk$rank <= 3], c("peak_temp", "hold_minutes", "clay_source")
    )
    noise <- rk[rk$predictor %in% c("operator", "batch", "room_humidity"), ]
    expect_lt(max(noise$importance), 0.1)
    expect_true(all(rk$lower <= rk$importance & rk$importance <= rk$upper))
    # rises and falls: missed, as the help says
    expect_lt(rk$importance[rk$predictor == "grog_share"], 0.15)
    score <- as.data.frame(rank_association(st, form = "score"))
    expect_gt(
      score$importance[score$predictor == "grog_share"],
      3 * score$std_error[score$predictor == "grog_share"]
    )
    expect_identical(as.data.frame(rank_association(st, times = 50)), rk)
    spread <- as.data.frame(rank_association(st, form = "variance"))
    expect_true(all(is.na(spread$lower)) && all(spread$inference == "rows"))
    classes <- study(
      rpart::rpart(defect ~ . - strength - batch, kiln$train),
      kiln$holdout,
      "defect",
      train = kiln$train
    )
    top <- as.data.frame(rank_association(classes, times = 20))
    expect_true(all(
      c("peak_temp", "glaze_thickness", "cooling_rate") %in% top$predictor[1:6]
    ))
  }
)

test_that(
  "bootstrap errors are those of the measures on the drawn rows, gaps and ties included",
  {
    set.seed(3)
    n <- 120
    d <- data.frame(
      number = round(rnorm(n), 1),
      whole = sample(4, n, TRUE),
      text = sample(c("a", "b", "c"), n, TRUE),
      level = factor(sample(c("u", "v"), n, TRUE)),
      grade = factor(sample(c("low", "high"), n, TRUE), c("low", "high"), ordered = TRUE),
      rare = c("x", rep("y", n - 1)),
      flat = 1
    )
    d$number[1:10] <- NA
    d$text[5:20] <- NA
    draws <- vapply(1:20, function(b) sample.int(n, replace = TRUE), integer(n))
    targets <- list(
      d$number * NA + 1:n + rnorm(n), round(rnorm(n)), sample(c("p", "q"), n, TRUE)
    )
    for (y in targets) {
      columns <- lapply(d, code_values)
      target <- code_values(y)
      fast <- associate_draws(
        lapply(columns, `[[`, "code"),
        vapply(columns, `[[`, NA, "ordered"),
        target$code,
        target$ordered,
        draws,
        1L
      )
      slow <- vapply(
        d,
        function(x) {
          vapply(
            1:20,
            function(b) {
              i <- draws[, b]
              i <- i[!is.na(x[i]) & !is.na(y[i])]
              association(x[i], y[i])$value
            },
            0
          )
        },
        double(20)
      )
      expect_equal(fast, unname(slow), tolerance = 1e-10, ignore_attr = TRUE)
      expect_identical(
        fast,
        associate_draws(
          lapply(columns, `[[`, "code"),
          vapply(columns, `[[`, NA, "ordered"),
          target$code,
          target$ordered,
          draws,
          2L
        )
      )
    }
  }
)

test_that("of noise nothing is said to carry, and one folded predictor is one", {
  set.seed(4)
  d <- data.frame(matrix(rnorm(60 * 4), 60))
  st <- study(lm(X4 ~ ., d[1:40, ]), d[41:60, ], "X4", train = d[1:40, ])
  out <- utils::capture.output(print(rank_association(st), n = 2))
  expect_match(out, "For no predictor does the interval of the association", all = FALSE)
  expect_match(out, "^  1 other, ", all = FALSE)
})
