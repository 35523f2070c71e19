# Paths: on which rows of a training part its predictors are ranked.

rows_of <- function(n) {
  set.seed(n)
  d <- data.frame(a = rnorm(n), b = rnorm(n), c = rnorm(n), same = 1)
  d$y <- d$a + d$b / 2 + rnorm(n)
  d
}
d <- rows_of(100)
st <- study(
  suppressWarnings(lm(y ~ ., d)), rows_of(50), "y", train = d, metric = "mse", threads = 1
)
settings <- list(by = "permutation", seed = 3, points = 0:4)
plan <- list(
  keep = character(), universe = st$predictors,
  units = as.list(stats::setNames(nm = st$predictors))
)

test_that("few rows are ranked quarter by quarter, many on one quarter", {
  parts_of <- function(n) ranked_parts(st, rows_of(n), "part", 3)
  four <- parts_of(100)
  expect_length(four, 4)
  expect_identical(rowSums(do.call(cbind, four)), rep(1, 100))
  expect_identical(lengths(list(parts_of(300), parts_of(600), parts_of(800))), c(2L, 1L, 1L))
  expect_identical(parts_of(800)[[1]], split_part(st, rows_of(800), "part", 3))
  expect_length(parts_of(5), 2)
})

test_that("importances are the means over the quarters, and one value comes last", {
  values <- rank_units(st, st$models[[1]], d, plan, names(plan$units), settings, "part")
  by_hand <- vapply(ranked_parts(st, d, "part", 3), function(out) {
    fit <- lm(y ~ a + b + c, d[!out, ])
    inside <- study(fit, d[out, ], "y", train = d[!out, ], metric = "mse", threads = 1)
    rk <- rank_permutation(inside, repeats = 5, seed = 3)
    rk$importance[match(c("a", "b", "c"), rk$predictor)]
  }, double(3))
  expect_equal(unname(values[c("a", "b", "c")]), rowMeans(by_hand), tolerance = 1e-8)
  expect_lt(values[["same"]], min(values[c("a", "b", "c")]))
  expect_identical(by_importance(values)[4], "same")
})

test_that("a class of a single row is drawn into a fold, and nothing is warned of", {
  rare <- data.frame(x = rnorm(41), y = factor(c(rep(c("u", "v"), 20), "w")))
  of <- list(task = "classification", target = "y", predictors = "x", blocks = NULL)
  for (i in 1:20) {
    expect_silent(fold <- with_stream(i, "folds", draw_folds(of, rare, 4)))
    expect_setequal(fold, 1:4)
  }
})

test_that("a set that is tried loses what the rows of all quarters lose", {
  plan$refit <- 1
  quarters <- ranked_parts(st, d, "part", 3)
  loss <- function(set) {
    mean(unlist(lapply(quarters, function(out) {
      (predict(lm(reformulate(set, "y"), d[!out, ]), d[out, ]) - d$y[out])^2
    })))
  }
  scored <- set_scorer(st, d, plan, settings, "part")
  expect_equal(scored(c("a", "b")), loss(c("a", "b")), tolerance = 1e-10)
  thinned <- list(stay = c("b", "c", "same"), standing = list(b = "a"))
  expect_identical(
    keep_missed(st, plan, d, thinned, settings, "part")$stay, c("a", "b", "c", "same")
  )
})
