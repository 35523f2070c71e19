test_that("a tree worked by hand", {
  # Ten rows: y = 0 for x <= 5 but for the last of them, then 10 or 20 by z.
  d <- data.frame(x = 1:10, z = rep(c("a", "b"), 5), y = c(0, 0, 0, 0, 5, 10, 20, 10, 20, 10))
  f <- flat_forest(root = 0L, weight = 1, column = c(0L, -1L, 1L, -1L, -1L), threshold = c(5, 0, 0, 0, 0), left = c(1L, 0L, 3L, 0L, 0L),
                   right = c(2L, 0L, 4L, 0L, 0L), missing = c(1L, 0L, 3L, 0L, 0L), value = matrix(0, 1, 5), columns = c("x", "z"),
                   levels = list(z = c("a", "b")), set_from = c(-1L, -1L, 0L, -1L, -1L), set_size = c(0L, 0L, 2L, 0L, 0L), set_side = c(-1L, 1L))
  got <- forest_impurity(f, encode_for_forest(f, d), matrix(d$y), matrix(0L, 0, 0), 1L)$earned[, 1]
  # By hand: root mean 7.5, children 1 and 14; right child by z: a 20 (2 rows), b 10 (3 rows).
  root <- mean((d$y - 7.5)^2)
  left <- mean((d$y[1:5] - 1)^2)
  right <- mean((d$y[6:10] - 14)^2)
  expect_equal(got, c(root - 0.5 * left - 0.5 * right, 0.5 * (right - 0)), tolerance = 1e-12)
})

test_that("a ranger forest with in-bag counts earns what ranger stored", {
  d <- kiln_rows(400)
  d$defect <- kiln$train$defect[1:400]
  compare <- function(target, ..., trees = 25) {
    rows <- d[setdiff(names(d), setdiff(c("strength", "defect"), target))]
    fit <- ranger::ranger(dependent.variable.name = target, data = rows, num.trees = trees, importance = "impurity", keep.inbag = TRUE, seed = 2, ...)
    rk <- rank_impurity(study(fit, rows[1:50, ], target, train = rows))
    stored <- fit$variable.importance
    counted <- sum(fit$inbag.counts[[1]])
    expect_equal(rk$importance[match(names(stored), rk$predictor)] * counted, unname(stored), tolerance = 1e-8)
    expect_identical(unique(rk$rows), "train in-bag")
  }
  for (coding in c("ignore", "order", "partition")) compare("strength", respect.unordered.factors = coding)
  compare("strength", replace = FALSE)
  compare("defect", probability = TRUE)
  compare("defect")
})

test_that("the sum over predictors is the impurity of the root less that of the leaves", {
  d <- kiln_rows(300)
  fit <- small_forest(strength ~ ., d, trees = 1, keep.inbag = TRUE)
  st <- study(fit, d, "strength", train = d)
  w <- fit$inbag.counts[[1]]
  f <- st$models[[1]]$forest
  ends <- forest_ends(f, encode_for_forest(f, d), 1L)[, 1]
  spread <- function(i) sum(w[i] * (d$strength[i] - weighted.mean(d$strength[i], w[i]))^2)
  inside <- sum(vapply(split(seq_along(w)[w > 0], ends[w > 0]), spread, 0))
  expect_equal(sum(rank_impurity(st)$importance), (spread(which(w > 0)) - inside) / sum(w), tolerance = 1e-10)
})

test_that("surrogate splits route rows and earn nothing", {
  d <- kiln_rows(400)
  set.seed(1)
  d$peak_temp[sample(400, 120)] <- NA
  fit <- rpart::rpart(strength ~ ., d)
  st <- study(fit, d, "strength", train = d)
  rk <- rank_impurity(st)
  split_on <- setdiff(as.character(fit$frame$var), "<leaf>")
  expect_setequal(rk$predictor[rk$importance > 0], split_on)
  f <- st$models[[1]]$forest
  ends <- f$owner[forest_ends(f, encode_for_forest(f, d), 1L)[, 1] + 1]
  inside <- sum(tapply(d$strength, ends, function(y) sum((y - mean(y))^2)))
  expect_equal(sum(rk$importance), (sum((d$strength - mean(d$strength))^2) - inside) / 400, tolerance = 1e-10)
})

test_that("other training rows than those of the in-bag counts are refused", {
  d <- kiln_rows(300)
  fit <- small_forest(strength ~ ., d, keep.inbag = TRUE)
  expect_error(rank_impurity(study(fit, d, "strength", train = d[1:200, ])), "200 rows.*trained on 300", class = "dreher_error_study")
  expect_error(rank_impurity(study(fit, d, "strength")), "needs the training rows")
})
