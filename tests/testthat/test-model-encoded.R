d <- kiln_rows(300)
h <- kiln_rows(80, "holdout")
operators <- levels(kiln$train$operator)
clays <- levels(kiln$train$clay_source)
plain <- c("peak_temp", "hold_minutes", "grog_share")

# One column per level, numbered levels, and what is left as it is.
encode <- function(data) {
  hot <- outer(as.character(data$operator), operators, "==") + 0
  colnames(hot) <- paste0("operator_", operators)
  cbind(as.matrix(data[plain]), hot, clay = match(data$clay_source, clays))
}

boost <- function(x, y, rounds = 12) {
  xgboost::xgb.train(
    list(max_depth = 4, nthread = 1),
    xgboost::xgb.DMatrix(x, label = y, nthread = 1),
    nrounds = rounds
  )
}

test_that("encoded columns are traced to their predictors, and rankings speak of those", {
  x <- encode(d)
  fit <- boost(x, d$strength)
  st <- study(fit, h, "strength", train = d, encode = encode)
  m <- st$models[[1]]
  expect_setequal(m$inputs$predictors, c(plain, "operator", "clay_source"))
  expect_identical(
    unique(unlist(m$object$stems[paste0("operator_", operators)])), "operator"
  )
  expect_identical(m$object$stems$clay, "clay_source")
  # Permutation: the forest's way and the way through the encoder are the same.
  a <- rank_permutation(st, repeats = 3)
  aside <- st
  aside$models[[1]]$forest$shared <- TRUE
  expect_equal(
    a$importance, rank_permutation(aside, repeats = 3)$importance, tolerance = 1e-10
  )
  # Impurity and structure: the sum over a predictor's columns.
  bare <- study(
    fit,
    as.data.frame(cbind(encode(h), strength = h$strength)),
    "strength",
    train = as.data.frame(cbind(x, strength = d$strength))
  )
  for (rank in list(rank_impurity, rank_structure)) {
    joint <- rank(st)
    each <- rank(bare)
    of_operator <- each$predictor %in% paste0("operator_", operators)
    expect_equal(
      joint$importance[joint$predictor == "operator"],
      as.vector(tapply(
        each$importance[of_operator], paste(each$rows, each$form)[of_operator], sum
      ))[seq_len(sum(joint$predictor == "operator"))]
    )
  }
  # Shapley: the columns play as one, by the definition on the user's columns.
  phi <- attr(rank_shapley(st, background = 5, max_rows = 4), "row_values")[[1]][, , 1]
  chosen <- with_stream(1, c("rows", nrow(h)), sort(sample.int(nrow(h), 4)))
  rows <- h[chosen, m$inputs$predictors]
  bg <- draw_background(st, 5, 1)[m$inputs$predictors]
  predict_raw <- function(data) model_predictions(m$object, data)
  for (i in 1:2) {
    expect_equal(
      phi[i, ], slow_shapley_table(predict_raw, rows[i, ], bg), tolerance = 1e-5
    )
  }
  # Refits take the columns of the predictors that are left.
  small <- refit_model(m$object, d, "strength", c("operator", "peak_temp"))
  expect_setequal(small$columns, c("peak_temp", paste0("operator_", operators)))
  expect_length(model_predictions(small, h[c("operator", "peak_temp")]), nrow(h))
  rd <- reduce_predictors(
    st, by = "permutation", folds = 2, repeats = 1, inner_folds = 2, counts = c(1, 3)
  )
  expect_setequal(as.data.frame(rd)$count, c(0, 1, 3, 5))
})

test_that("a column of two predictors is shown as such and never given to one of them", {
  both <- function(data) cbind(encode(data), product = data$peak_temp * data$hold_minutes)
  fit <- boost(both(d), d$strength)
  st <- study(fit, h, "strength", train = d, encode = both)
  expect_true(st$models[[1]]$forest$shared)
  rk <- rank_impurity(st)
  expect_true("peak_temp & hold_minutes" %in% rk$predictor)
  expect_false(anyNA(detail(rk, "labels")))
  expect_false(
    "peak_temp & hold_minutes" %in% rank_permutation(st, repeats = 2)$predictor
  )
  expect_identical(
    detail(rank_shapley(st, background = 5, max_rows = 3, precision = 0.5), "settings")$note,
    "exact"
  )
  fit <- glmnet::glmnet(both(d), d$strength, lambda = 0.1)
  linear <- study(fit, h, "strength", train = d, encode = both)
  sd_of <- function(columns) {
    b <- as.matrix(coef(fit))[columns, ]
    stats::sd(both(d)[, columns, drop = FALSE] %*% b)
  }
  rk <- rank_coefficients(linear)
  expect_equal(
    rk$importance[rk$predictor == "operator"],
    sd_of(paste0("operator_", operators)),
    tolerance = 1e-10
  )
  expect_equal(
    rk$importance[rk$predictor == "peak_temp"],
    sd_of(c("peak_temp", "product")),
    tolerance = 1e-10
  )
})

test_that("copies of encoded predictors are added column by column", {
  x <- encode(d)
  fit <- do.call(
    ranger::ranger, list(x = x, y = d$strength, num.trees = 30, seed = 1, num.threads = 1)
  )
  st <- study(fit, h, "strength", train = d, encode = encode, refit_with = function(
      model, data, predictors) {
    do.call(
      ranger::ranger,
      list(
        x = data[predictors], y = data$strength, num.trees = 30, seed = 1, num.threads = 1
      )
    )
  })
  rk <- rank_impurity(st, correct = TRUE, refits = 2)
  expect_setequal(rk$predictor, c(plain, "operator", "clay_source"))
  expect_lt(abs(rk$importance[rk$predictor == "operator"]), max(rk$importance) / 5)
})

test_that("what an encoder must not do is said in words", {
  x <- encode(d)
  fit <- boost(x, d$strength, 2)
  refused <- function(encode, message) {
    expect_error(
      study(list(mine = fit), h, "strength", train = d, encode = encode),
      message,
      class = "dreher_error_input"
    )
  }
  refused(
    function(data) scale(encode(data)),
    "\"mine\" makes a row's values depend on the other rows"
  )
  refused(function(data) encode(data) + rnorm(nrow(data)), "other values the second time")
  refused(
    function(data) encode(data)[, 1:2],
    "does not make the columns the model takes: \"grog_share\""
  )
  refused(function(data) encode(data)[1:3, ], "one row per row.*\n.*3 rows for 300")
  refused(function(data) stop("no such thing"), "failed on 300 rows(.|\n)*no such thing")
  refused(
    function(data) structure(encode(data), stems_from = list(clay = "operator")),
    "said to stem from \"operator\", but changes with \"clay_source\""
  )
  refused(
    function(data) encode(data[rep(1, nrow(data)), ]),
    "None of the columns|depend on the other rows"
  )
  expect_error(
    study(fit, h, "strength", encode = encode, predict_with = function(model, data) 1),
    "both `encode` and `predict_with`",
    class = "dreher_error_input"
  )
  # A rare level that moves a column only where it is met, and a column that nothing moves.
  rare <- function(data) {
    cbind(
      encode(data),
      seldom = (data$operator == operators[length(operators)]) * data$grog_share,
      fixed = 1
    )
  }
  st <- study(boost(rare(d), d$strength, 2), h, "strength", train = d, encode = rare)
  expect_identical(st$models[[1]]$object$stems$seldom, c("grog_share", "operator"))
  expect_identical(st$models[[1]]$object$stems$fixed, character())
})
