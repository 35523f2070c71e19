test_that(
  "shares, relative values and ranks follow the importance, ties and signs included",
  {
    st <- list(
      dictionary = read_dictionary(data.frame(
        predictor = c("a", "b", "c", "d"), family = c("x", "x", "", "")
      ))
    )
    of <- new_settings(
      list(name = "m", class = "lm"), "permutation",
      list(label = "holdout", kind = "holdout"), 10L, measures = "rise of RMSE"
    )
    table <- ranking_rows(
      st, of, c("a", "b", "c", "d"), c(2, 6, 2, -1), inference = "model"
    )
    expect_identical(table$predictor, c("b", "a", "c", "d"))
    expect_identical(table$rank, c(1L, 2L, 2L, 4L))
    expect_equal(table$share, c(0.6, 0.2, 0.2, 0))
    expect_equal(table$relative, c(1, 1 / 3, 1 / 3, -1 / 6))
    expect_identical(table$family, c("x", "x", NA, NA))
    none <- ranking_rows(st, of, c("a", "b"), c(-1, 0), inference = "model")
    expect_identical(c(none$share, none$relative), rep(NA_real_, 4))
  }
)

test_that("a ranking is a data frame that stays one, or becomes a plain table", {
  d <- kiln_rows(100)
  st <- study(
    lm(strength ~ peak_temp + operator + hold_minutes, d), d, "strength", train = d
  )
  rk <- rank_permutation(st, rows = kiln_rows(50, "untouched"), repeats = 5)
  expect_identical(unique(rk$rows), "given")
  expect_s3_class(rk[1:2, ], "dreher_ranking")
  expect_identical(class(rk[c("predictor", "importance")]), "data.frame")
  expect_identical(class(as.data.frame(rk)), "data.frame")
  expect_null(attr(as.data.frame(rk), "details"))
  expect_identical(dim(attr(rk, "row_values")[[1]]), c(50L, 3L, 1L))
  expect_identical(summary(rk)$first, rk$predictor[1])
  # The units are what the standard error is made from.
  A_plus_B <- attr(rk, "row_values")[[1]][, rk$predictor[1], 1]
  expect_lte(rk$std_error[1], sd(A_plus_B) / sqrt(50))
  expect_error(
    rank_permutation(st, rows = kiln_rows(50, "untouched")["peak_temp"]),
    "The target \"strength\" is not a column of `rows`"
  )
  expect_error(rank_permutation(st, rows = d[1, ]), "at least 3 are needed")
  expect_error(rank_permutation(st, rows = "test"), "`rows` must be some of")
  expect_error(
    rank_permutation(st, repeats = 0), "`repeats` must be a single whole number"
  )
  expect_error(
    rank_permutation(st, level = 95), "`level` must be a single number between 0 and 1"
  )
  expect_error(rank_permutation(st, models = "forest"), "`models` must be some of \"lm\"")
  expect_error(rank_permutation(d), "must be made by study()", fixed = TRUE)
  expect_error(rank_predictors(st, by = "magic"), "`by` must be some of")
  expect_error(
    rank_shapley(study(lm(strength ~ peak_temp, d), d, "strength")),
    "needs the training rows",
    class = "dreher_error_study"
  )
})

test_that("the order of the columns changes no importance", {
  d <- kiln_rows(150)
  fit <- small_forest(strength ~ ., d)
  st <- study(fit, d, "strength", train = d)
  turned <- study(fit, d[rev(names(d))], "strength", train = d[rev(names(d))])
  for (rank in list(
      rank_permutation,
      function(s) rank_shapley(s, background = 10, max_rows = 20),
      rank_impurity
    )) {
    a <- as.data.frame(rank(st))
    b <- as.data.frame(rank(turned))
    expect_equal(
      a$importance,
      b$importance[match(paste(a$predictor, a$rows), paste(b$predictor, b$rows))],
      tolerance = 1e-12
    )
  }
})

test_that(
  paste0(
    "Shapley values of random forests: symmetry, null player, additivity over trees, ",
    "duplicated rows"
  ),
  {
    set.seed(12)
    for (i in 1:200) {
      f <- random_flat_forest(c("a", "b", "c", "d", "e"), trees = 3, depth = 5)
      x <- matrix(rnorm(20), 4)
      z <- matrix(rnorm(30), 6)
      phi <- forest_shapley(f, x, z, double(), 1:5, 5L, 1L)[, , 1]
      # A player no tree asks.
      unused <- setdiff(0:4, f$column)
      if (length(unused)) expect_true(all(phi[, unused + 1] == 0))
      # One tree at a time.
      last <- c(f$root[-1], length(f$column))
      parts <- lapply(seq_along(f$root), function(t) {
        at <- (f$root[t] + 1):last[t]
        move <- function(v) ifelse(v >= 0, v - f$root[t], v)
        one <- flat_forest(
          0L,
          f$weight[t],
          f$column[at],
          f$threshold[at],
          pmax(move(f$left[at]), 0L),
          pmax(move(f$right[at]), 0L),
          pmax(move(f$missing[at]), 0L),
          f$value[, at, drop = FALSE],
          f$columns
        )
        forest_shapley(one, x, z, double(), 1:5, 5L, 1L)[, , 1]
      })
      expect_equal(Reduce(`+`, parts), phi, tolerance = 1e-12)
      # Swapping two columns everywhere swaps their values.
      g <- f
      g$column <- c(-1L, 1L, 0L, 2L, 3L, 4L)[f$column + 2]
      swapped <- forest_shapley(
        g, x[, c(2, 1, 3:5)], z[, c(2, 1, 3:5)], double(), 1:5, 5L, 1L
      )[
        , , 1
      ]
      expect_equal(swapped[, c(2, 1, 3:5)], phi, tolerance = 1e-12)
      # Background rows given twice count as before.
      expect_equal(
        forest_shapley(f, x, rbind(z, z), double(), 1:5, 5L, 1L)[, , 1],
        phi,
        tolerance = 1e-12
      )
    }
  }
)
