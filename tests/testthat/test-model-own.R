# Splines, kernel machines, conditional trees and forests: asked through their own predict(), read
# exactly where their terms or trees can be read, trained again as what they are.

quiet <- function(code) suppressWarnings(suppressMessages(code))

all_rows <- kiln_rows(240, drop = c("ring_tone", "tile_id", "batch"))[c(
  "peak_temp", "hold_minutes", "drying_humidity", "clay_source", "strength", "defect"
)]
all_rows$broken <- factor(ifelse(all_rows$strength < 36, "yes", "no"))
train <- all_rows[1:160, ]
held <- all_rows[161:240, ]
numbers <- strength ~ peak_temp + hold_minutes + drying_humidity + clay_source
yes <- broken ~ peak_temp + hold_minutes + clay_source

by_both_ways <- function(model, target, predict_with, predictors) {
  exact <- quiet(study(list(m = model), held, target, train = train, threads = 1))
  asked <- quiet(study(
    list(m = model),
    held,
    target,
    train = train,
    predict_with = predict_with,
    predictors = predictors
  ))
  for (rank in list(function(st) rank_permutation(st, repeats = 2), function(st) {
      rank_shapley(st, background = 4)
    })) {
    a <- quiet(rank(exact))
    b <- quiet(rank(asked))
    expect_equal(
      a$importance[order(a$class, a$predictor)],
      b$importance[order(b$class, b$predictor)],
      tolerance = 1e-8,
      label = class(model)[1]
    )
  }
  exact$models[[1]]
}

test_that("splines are read by their hinges, exactly, and trained again as splines", {
  fit <- earth::earth(numbers, train, degree = 2)
  predict_it <- function(model, data) as.vector(predict(model, data))
  read <- by_both_ways(fit, "strength", predict_it, all.vars(numbers)[-1])
  expect_false(is.null(read$linear))
  again <- refit_model(read$object, train, "strength", c("peak_temp", "clay_source"))
  direct <- earth::earth(strength ~ peak_temp + clay_source, train, degree = 2)
  expect_equal(model_predictions(again, held), as.vector(predict(direct, held)))
  logit <- quiet(earth::earth(yes, train, glm = list(family = binomial)))
  st <- quiet(study(list(m = logit), held, "broken", train = train))
  p <- as.vector(predict(logit, held, type = "response"))
  expect_equal(unname(predict_model(st, st$models[[1]], held)), unname(cbind(1 - p, p)))
  refused <- function(fit, reason) {
    expect_error(quiet(study(fit, held, "broken")), reason, class = "dreher_error_model")
  }
  refused(quiet(earth::earth(yes, train)), "no probabilities")
  refused(
    quiet(earth::earth(cbind(strength, hold_minutes) ~ peak_temp, train)),
    "several targets or classes"
  )
})

test_that(
  "kernel machines predict by themselves, and say that they cannot be trained again",
  {
    fit <- kernlab::ksvm(numbers, train)
    read <- by_both_ways(
      fit,
      "strength",
      function(model, data) as.vector(kernlab::predict(model, data)),
      all.vars(numbers)[-1]
    )
    expect_error(
      refit_model(read$object, train, "strength", "peak_temp"),
      "refit_with",
      class = "dreher_error_model"
    )
    several <- kernlab::ksvm(defect ~ peak_temp + hold_minutes, train, prob.model = TRUE)
    st <- quiet(study(list(m = several), held, "defect", train = train))
    p <- kernlab::predict(several, held, type = "probabilities")
    expect_equal(
      unname(predict_model(st, st$models[[1]], held)), unname(p[, levels(held$defect)])
    )
    bare <- kernlab::ksvm(defect ~ peak_temp, train)
    expect_error(study(bare, held, "defect"), "prob.model", class = "dreher_error_model")
  }
)

test_that("conditional trees are read, forests are asked", {
  tree <- partykit::ctree(numbers, train)
  read <- by_both_ways(
    tree,
    "strength",
    function(model, data) as.vector(predict(model, newdata = data)),
    all.vars(numbers)[-1]
  )
  expect_gt(length(read$forest$column), 3)
  expect_gt(
    max(rank_impurity(quiet(study(tree, held, "strength", train = train)))$importance), 0
  )
  again <- refit_model(read$object, train, "strength", c("hold_minutes", "clay_source"))
  direct <- partykit::ctree(strength ~ hold_minutes + clay_source, train)
  expect_equal(model_predictions(again, held), as.vector(predict(direct, newdata = held)))
  # splits on levels, several classes
  kinds <- partykit::ctree(
    defect ~ clay_source + peak_temp + drying_humidity,
    train,
    control = partykit::ctree_control(mincriterion = 0.3)
  )
  st <- quiet(study(list(m = kinds), held, "defect", train = train))
  expect_false(is.null(st$models[[1]]$forest))
  by_level <- partykit::ctree(
    strength ~ clay_source, transform(train, strength = as.integer(clay_source) %% 2)
  )
  st <- quiet(study(
    list(m = by_level),
    transform(held, strength = as.integer(clay_source) %% 2),
    "strength",
    train = transform(train, strength = as.integer(clay_source) %% 2)
  ))
  expect_true(any(st$models[[1]]$forest$set_size > 0))
  forest <- partykit::cforest(numbers, train, ntree = 6)
  read <- by_both_ways(
    forest,
    "strength",
    function(model, data) as.vector(predict(model, newdata = data)),
    all.vars(numbers)[-1]
  )
  expect_null(read$forest)
  st <- quiet(study(list(tree = tree, forest = forest), held, "strength", train = train))
  left <- attr(rank_impurity(st), "details")$left_out
  expect_match(left$why[left$model == "forest"], "no mean over trees")
  expect_error(
    study(partykit::lmtree(strength ~ peak_temp | clay_source, train), held, "strength"),
    "predict_with",
    class = "dreher_error_model"
  )
})
