# Means of models: exact where they are trees or linear, through predictions elsewhere, trained
# again member by member.

quiet <- function(code) suppressWarnings(suppressMessages(code))

rows <- kiln_rows(260, drop = c("ring_tone", "tile_id", "batch"))[c(
  "peak_temp", "hold_minutes", "drying_humidity", "clay_source", "strength", "defect"
)]
train <- rows[1:180, ]
held <- rows[181:260, ]
plain <- setdiff(names(rows), "defect")
tree <- rpart::rpart(strength ~ peak_temp + clay_source, train)
forest <- small_forest(strength ~ ., train[plain])
line <- lm(strength ~ peak_temp + hold_minutes, train)
curve <- lm(strength ~ poly(peak_temp, 2) + clay_source, train)
one <- function(model, target = "strength", ...) {
  quiet(study(list(m = model), held, target, train = train, threads = 1, ...))
}

same_as_predictions <- function(st, target = "strength") {
  alone <- one(
    st$models[[1]]$object,
    target,
    predictors = st$models[[1]]$inputs$predictors,
    predict_with = function(model, data) model_predictions(model, data)
  )
  for (rank in list(function(st) rank_permutation(st, repeats = 2), function(st) {
      rank_shapley(st, background = 4)
    })) {
    a <- quiet(rank(st))
    b <- quiet(rank(alone))
    expect_equal(
      a$importance[order(a$class, a$predictor)],
      b$importance[order(b$class, b$predictor)],
      tolerance = 1e-9
    )
  }
}

test_that("a mean of trees is a forest, a mean of lines a line, both exact", {
  both <- average_models(list(tree = tree, forest = forest), weights = c(1, 3))
  st <- one(both)
  expect_equal(
    as.vector(predict_model(st, st$models[[1]], held)),
    unname(
      0.25 * predict(tree, held) + 0.75 *
        predict(forest, held, num.threads = 1)$predictions
    )
  )
  expect_identical(length(st$models[[1]]$forest$root), 1L + as.integer(forest$num.trees))
  same_as_predictions(st)
  expect_gt(max(rank_impurity(st)$importance), 0)
  st <- one(average_models(list(a = line, b = curve)))
  expect_false(is.null(st$models[[1]]$linear))
  same_as_predictions(st)
  expect_equal(
    unname(predict(average_models(list(a = line, b = curve)), held)),
    unname((predict(line, held) + predict(curve, held)) / 2)
  )
  # one row, a wrapper among the models
  flow <- parsnip::set_engine(parsnip::linear_reg(), "lm")
  flow <- with_parsnip(parsnip::fit(flow, strength ~ peak_temp + clay_source, train))
  with_flow <- average_models(list(a = line, b = flow), weights = c(1, 3))
  expect_equal(
    unname(predict(with_flow, held[2, ])),
    unname(0.25 * predict(line, held[2, ]) + 0.75 * predict_wrapped(flow, held[2, ]))
  )
  expect_equal(
    as.vector(predict_model(one(with_flow), one(with_flow)$models[[1]], held)),
    unname(predict(with_flow, held))
  )
  # shares of classes
  kinds <- list(
    tree = rpart::rpart(defect ~ peak_temp + clay_source, train),
    forest = small_forest(
      defect ~ ., train[setdiff(names(train), "strength")], probability = TRUE
    )
  )
  st <- one(average_models(kinds), "defect")
  expect_false(is.null(st$models[[1]]$forest))
  same_as_predictions(st, "defect")
})

test_that(
  "a mean across kinds is ranked by its predictions, and boosted trees say no gain",
  {
    st <- one(average_models(list(line = line, forest = forest)))
    expect_null(st$models[[1]]$forest)
    expect_null(st$models[[1]]$linear)
    expect_equal(
      as.vector(predict_model(st, st$models[[1]], held)),
      unname(
        (predict(line, held) + predict(forest, held, num.threads = 1)$predictions) / 2
      )
    )
    expect_setequal(
      quiet(rank_predictors(st, repeats = 1, background = 3))$method,
      c("permutation", "shapley")
    )
    boosted <- gbm::gbm(strength ~ ., "gaussian", train[plain], n.trees = 6)
    st <- one(average_models(list(boosted = boosted, tree = tree)))
    same_as_predictions(st)
    expect_error(rank_impurity(st), "boosted", class = "dreher_error_study")
  }
)

test_that("means are trained again, reduced and given back", {
  both <- average_models(list(tree = tree, line = line), weights = c(2, 1))
  st <- one(both)
  object <- st$models[[1]]$object
  again <- refit_model(object, train, "strength", c("peak_temp", "clay_source"))
  expect_equal(
    as.vector(model_predictions(again, held)),
    unname(2 * predict(rpart::rpart(strength ~ peak_temp + clay_source, train), held) +
      predict(lm(strength ~ peak_temp, train), held)) / 3
  )
  # a model without a predictor is not part of it
  again <- refit_model(object, train, "strength", "clay_source")
  expect_identical(names(again$models), "tree")
  expect_equal(again$weights, 1)
  path <- quiet(reduce_predictors(st, folds = 3, repeats = 1, seed = 2))
  set <- quiet(choose_set(path, rule = "best"))
  fit <- quiet(refit_on(set))
  fit <- if (inherits(fit, "dreher_average")) fit else fit[[1]]
  expect_s3_class(fit, "dreher_average")
  expect_length(predict(fit, held), nrow(held))
})

test_that("means that cannot be are refused", {
  refused <- function(...) expect_error(average_models(...), class = "dreher_error_input")
  refused(list(a = tree))
  refused(tree)
  refused(list(tree, line))
  refused(list(a = tree, a = line))
  refused(list(a = tree, b = line), weights = c(1, 0))
  refused(list(a = tree, b = line), weights = 1)
  kinds <- rpart::rpart(defect ~ peak_temp, train)
  expect_error(one(average_models(list(a = tree, b = kinds))), "predict the same")
  expect_snapshot(average_models(list(tree = tree, straight = line), weights = 1:2))
  strange <- structure(list(), class = "nobody")
  expect_error(
    one(average_models(list(a = tree, b = strange))),
    "no reader",
    class = "dreher_error_model"
  )
})
