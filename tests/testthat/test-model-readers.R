# How many fitted models have been compared, all in all.
compared <- 0

same_as_model <- function(st, data, tolerance = 1e-10) {
  compared <<- compared + 1
  m <- st$models[[1]]
  rows <- align_rows(data, m$inputs, m$name)
  own <- as.matrix(model_predictions(m$object, rows))
  flat <- apply_link(
    m$forest, forest_predict(m$forest, encode_for_forest(m$forest, rows), 2L)
  )
  expect_equal(unname(flat), unname(own), tolerance = tolerance)
  slow <- apply_link(
    m$forest,
    slow_predict(m$forest, encode_for_forest(m$forest, rows[1:5, , drop = FALSE]))
  )
  expect_equal(unname(slow), unname(own[1:5, , drop = FALSE]), tolerance = tolerance)
}

test_that("ranger forests of every kind and factor coding read into the flat forest", {
  d <- kiln_rows(300)
  d$odd <- d$peak_temp > 1180
  d$text <- as.character(d$operator)
  d$grade <- factor(d$shelf_position, ordered = TRUE)
  d$defect <- kiln$train$defect[1:300]
  h <- d[201:300, ]
  d <- d[1:200, ]
  for (coding in c("ignore", "order", "partition")) {
    fit <- small_forest(
      strength ~ ., d[names(d) != "defect"], respect.unordered.factors = coding
    )
    same_as_model(study(fit, h, "strength", train = d), h)
    for (probability in c(TRUE, FALSE)) {
      fit <- small_forest(
        defect ~ .,
        d[names(d) != "strength"],
        respect.unordered.factors = coding,
        probability = probability
      )
      same_as_model(study(fit, h, "defect", train = d), h)
    }
  }
  # Extremely randomised trees, a numeric two-class target, a single tree, a tree of one leaf.
  same_as_model(
    study(
      small_forest(strength ~ ., d[names(d) != "defect"], splitrule = "extratrees"),
      h,
      "strength",
      train = d
    ),
    h
  )
  d$yes <- as.integer(d$strength > 42)
  h$yes <- as.integer(h$strength > 42)
  fit <- small_forest(yes ~ peak_temp + grade + odd, d, classification = TRUE)
  st <- study(fit, h, "yes", train = d)
  expect_identical(st$task, "classification")
  same_as_model(st, h)
  fit <- small_forest(
    yes ~ peak_temp + grade + odd, d, classification = TRUE, probability = TRUE
  )
  same_as_model(study(fit, h, "yes", train = d), h)
  same_as_model(
    study(small_forest(strength ~ peak_temp, d, trees = 1), h, "strength", train = d), h
  )
  same_as_model(
    study(
      small_forest(strength ~ peak_temp, d, trees = 2, min.node.size = 500),
      h,
      "strength",
      train = d
    ),
    h
  )
})

test_that("a level that is absent from the holdout rows shifts nothing", {
  d <- kiln_rows(200)
  d$text <- as.character(d$operator)
  fit <- small_forest(strength ~ text + peak_temp, d)
  h <- kiln_rows(100, "holdout")
  h$text <- as.character(h$operator)
  few <- h[h$text %in% c("Bo", "Eli"), ]
  st <- study(fit, h, "strength", train = d)
  few_st <- study(fit, few, "strength", train = d)
  expect_identical(
    predict_model(st, st$models[[1]], h)[h$text %in% c("Bo", "Eli"), ],
    predict_model(few_st, few_st$models[[1]], few)[, 1]
  )
  expect_error(study(fit, few, "strength"), "training levels are not known")
})

test_that("rpart trees read with surrogates, sets, and rows that stay", {
  d <- kiln_raw$train[
    1:600, setdiff(names(kiln$train), c("ring_tone", "tile_id", "batch"))
  ]
  set.seed(3)
  for (p in c("peak_temp", "clay_source", "grog_share")) d[[p]][sample(600, 150)] <- NA
  h <- d[301:600, ]
  d <- d[1:300, ]
  for (use in 0:2) {
    control <- rpart::rpart.control(usesurrogate = use, cp = 0.001, minsplit = 8)
    fit <- rpart::rpart(strength ~ . - defect, d, control = control)
    same_as_model(study(fit, h, "strength", train = d), h)
    fit <- rpart::rpart(defect ~ . - strength, d, control = control)
    same_as_model(study(fit, h, "defect", train = d), h)
  }
  # Ties between the children: the row stays where rpart lets it stay.
  d$count <- rpois(300, 2)
  h$count <- rpois(300, 2)
  same_as_model(
    study(
      rpart::rpart(
        count ~ peak_temp + clay_source,
        d,
        method = "poisson",
        control = rpart::rpart.control(cp = 0)
      ),
      h,
      "count",
      train = d
    ),
    h
  )
  tie <- data.frame(x = c(1:10, rep(NA, 4)), y = c(rep(0, 5), rep(1, 5), 0, 1, 0, 1))
  fit <- rpart::rpart(
    y ~ x,
    tie,
    method = "anova",
    control = rpart::rpart.control(minsplit = 2, maxdepth = 1)
  )
  same_as_model(study(fit, tie, "y", train = tie), tie)
  root <- rpart::rpart(strength ~ peak_temp, d, control = rpart::rpart.control(cp = 0.9))
  same_as_model(study(root, h, "strength", train = d), h)
})

test_that("a formula that transforms its predictors takes the model-agnostic path", {
  d <- kiln_rows(200)
  fit <- rpart::rpart(strength ~ log(peak_temp) + clay_source, d)
  st <- study(fit, d, "strength")
  expect_null(st$models[[1]]$forest)
  expect_setequal(st$predictors, c("peak_temp", "clay_source"))
  expect_error(rank_impurity(study(fit, d, "strength", train = d)), "needs trees")
})

test_that("lm and glm are read by terms, with curves, interactions and removed columns", {
  d <- kiln_rows(300)
  d$strong <- factor(ifelse(d$strength > 42, "yes", "no"))
  fit <- lm(
    strength ~ . + poly(grog_share, 2) + peak_temp:hold_minutes - strong - wet_weight, d
  )
  expect_false("wet_weight" %in% model_inputs(fit)$predictors)
  linear <- model_coefficients(fit)
  expect_equal(
    as.vector(linear$design(d) %*% linear$beta), unname(fitted(fit)), tolerance = 1e-10
  )
  g <- glm(strong ~ peak_temp + clay_source, binomial, d)
  expect_identical(model_task(g)$classes, c("no", "yes"))
  expect_equal(model_predictions(g, d)[, "yes"], unname(fitted(g)), tolerance = 1e-12)
  again <- refit_model(fit, d, "strength", c("peak_temp", "grog_share"))
  expect_setequal(
    attr(terms(again), "term.labels"), c("peak_temp", "grog_share", "poly(grog_share, 2)")
  )
  expect_error(
    refit_model(
      lm(strength ~ peak_temp, d, weights = rep(1:2, 150)), d, "strength", "peak_temp"
    ),
    "refit_with"
  )
})

test_that("an offset is a term of weight one", {
  d <- kiln_rows(300)
  d$count <- rpois(300, d$hold_minutes / 10 * exp((d$peak_temp - 1180) / 60))
  fit <- glm(count ~ peak_temp + clay_source + offset(log(hold_minutes)), poisson, d)
  st <- study(fit, d, "count", train = d)
  expect_setequal(st$predictors, c("peak_temp", "clay_source", "hold_minutes"))
  linear <- st$models[[1]]$linear
  expect_equal(
    as.vector(exp(linear$design(d) %*% linear$beta)),
    unname(fitted(fit)),
    tolerance = 1e-10
  )
  rk <- rank_coefficients(st)
  expect_equal(
    rk$importance[rk$predictor == "hold_minutes"],
    sd(log(d$hold_minutes)),
    tolerance = 1e-10
  )
  expect_equal(rk$std_error[rk$predictor == "hold_minutes"], 0)
  phi <- attr(
    rank_shapley(st, scale = "link", background = 20, max_rows = 5), "row_values"
  )[[1]][
    , "hold_minutes", 1
  ]
  chosen <- with_stream(1, c("rows", 300), sort(sample.int(300, 5)))
  expect_equal(
    unname(phi),
    log(d$hold_minutes[chosen]) - mean(log(draw_background(st, 20, 1)$hold_minutes)),
    tolerance = 1e-10
  )
  two <- model_coefficients(glm(
    count ~ peak_temp + offset(log(hold_minutes)) + offset(grog_share / 100), poisson, d
  ))
  expect_identical(dim(two$design(d[1, ])), c(1L, 4L))  # a single row stays a row
  again <- refit_model(fit, d, "count", c("peak_temp", "hold_minutes"))
  expect_equal(
    coef(again), coef(glm(count ~ peak_temp + offset(log(hold_minutes)), poisson, d))
  )
  expect_null(attr(terms(refit_model(fit, d, "count", "peak_temp")), "offset"))
  beside <- glm(count ~ peak_temp, poisson, d, offset = log(hold_minutes))
  inside <- model_coefficients(glm(count ~ peak_temp + offset(log(hold_minutes)), poisson, d))
  expect_equal(model_coefficients(beside)$design(d), inside$design(d), ignore_attr = TRUE)
})

test_that("refits keep the learner's settings and follow the seed", {
  d <- kiln_rows(200)
  fit <- small_forest(
    strength ~ ., d, trees = 7, mtry = 5, min.node.size = 20, splitrule = "extratrees"
  )
  again <- refit_model(fit, d, "strength", c("peak_temp", "hold_minutes"), seed = 4)
  expect_identical(c(again$num.trees, again$mtry, again$min.node.size), c(7, 2, 20))
  expect_identical(again$splitrule, "extratrees")
  expect_identical(
    again$predictions,
    refit_model(
      fit, d, "strength", c("peak_temp", "hold_minutes"), seed = 4, threads = 2
    )$predictions
  )
  third <- refit_model(again, d, "strength", "peak_temp")
  expect_identical(third$min.node.size, 20)
})

test_that("unsound trees are refused before anything walks them", {
  good <- list(
    root = 0L,
    weight = 1,
    column = c(0L, -1L, -1L),
    threshold = c(0, 0, 0),
    left = c(1L, 0L, 0L),
    right = c(2L, 0L, 0L),
    missing = c(1L, 0L, 0L),
    value = matrix(1:3 + 0, 1),
    columns = "x"
  )
  broken <- function(...) {
    expect_error(
      do.call(flat_forest, utils::modifyList(good, list(...))),
      "not sound",
      class = "dreher_error_model"
    )
  }
  expect_s3_class(do.call(flat_forest, good), "dreher_forest")
  broken(left = c(0L, 0L, 0L))
  broken(right = c(3L, 0L, 0L))
  broken(missing = c(-2L, 0L, 0L))
  broken(column = c(1L, -1L, -1L))
  broken(threshold = c(NaN, 0, 0))
  broken(root = 5L)
  broken(weight = Inf)
  broken(value = matrix(c(1, NA, 3), 1))
  broken(set_from = c(2L, -1L, -1L), set_size = c(4L, 0L, 0L), set_side = c(1L, -1L))
  expect_error(
    do.call(flat_forest, utils::modifyList(good, list(left = 1L))), "differ in length"
  )
})

test_that(
  "the walk in step ends where the plain walk ends, and shared nodes do not grow",
  {
    set.seed(9)
    for (i in 1:10) {
      f <- random_flat_forest(letters[1:4], trees = 5, depth = 9)
      x <- matrix(rnorm(4 * 333), 333)
      x[sample(length(x), 3)] <- NA  # in one block only
      x[5, 1] <- f$threshold[which(f$column == 0)[1]]
      expect_equal(forest_predict(f, x, 2L), slow_predict(f, x), tolerance = 1e-12)
      expect_identical(
        forest_ends(f, x, 1L),
        rbind(forest_ends(f, x[1:50, ], 1L), forest_ends(f, x[51:333, ], 2L))
      )
    }
    n <- 60
    shared <- flat_forest(
      root = 0L,
      weight = 1,
      column = c(rep(0L, n), -1L),
      threshold = rep(0, n + 1),
      left = c(1:n, 0L),
      right = c(1:n, 0L),
      missing = rep(-1L, n + 1),
      value = matrix(seq_len(n + 1) + 0, 1),
      columns = "x"
    )
    expect_identical(
      unique(as.vector(forest_predict(shared, matrix(rnorm(500)), 1L))), n + 1
    )
  }
)

test_that(
  "a forest that does not say what its model says is an error that names the row",
  {
    d <- kiln_rows(200)
    fit <- small_forest(strength ~ peak_temp + hold_minutes, d)
    fit$forest$split.values[[3]] <- fit$forest$split.values[[3]] + 0  # sound
    st <- study(fit, d, "strength", train = d)
    wrong <- st$models[[1]]$forest
    wrong$value[, wrong$column == -1][1] <- wrong$value[, wrong$column == -1][1] + 1
    e <- expect_error(
      check_forest(wrong, fit, d[c("peak_temp", "hold_minutes")], "mine", 1L),
      "\"mine\".*do not predict",
      class = "dreher_error_model"
    )
    expect_true(is.numeric(e$row))
  }
)

test_that("randomForest reads: numbers, classes, factors", {
  d <- kiln_rows(200)
  d$grade <- factor(d$shelf_position, ordered = TRUE)
  d$many <- kiln$train$batch[1:200]
  d$defect <- kiln$train$defect[1:200]
  h <- d[151:200, ]
  d <- d[1:150, ]
  set.seed(1)
  same_as_model(
    study(
      randomForest::randomForest(strength ~ . - defect, d, ntree = 8),
      h,
      "strength",
      train = d
    ),
    h
  )
  same_as_model(
    study(
      randomForest::randomForest(defect ~ . - strength, d, ntree = 8),
      h,
      "defect",
      train = d
    ),
    h
  )
  same_as_model(
    study(
      randomForest::randomForest(strength ~ . - defect, d, ntree = 3, maxnodes = 4),
      h,
      "strength",
      train = d
    ),
    h
  )
  biased <- randomForest::randomForest(
    strength ~ peak_temp + hold_minutes, d, ntree = 5, corr.bias = TRUE
  )
  expect_null(study(biased, h, "strength", train = d)$models[[1]]$forest)
  fit <- randomForest::randomForest(
    strength ~ peak_temp + hold_minutes, d, ntree = 5, nodesize = 20
  )
  again <- refit_model(fit, d, "strength", "peak_temp", seed = 2)
  expect_identical(c(again$ntree, nrow(again$importance)), c(5, 1))
  expect_identical(
    again$predicted, refit_model(fit, d, "strength", "peak_temp", seed = 2)$predicted
  )
})

test_that(
  paste0(
    "gbm reads: every distribution on its link, missing values, ordered and unordered ",
    "factors"
  ),
  {
    d <- kiln_raw$train[
      1:300,
      c(
        "peak_temp", "hold_minutes", "clay_source", "drying_humidity", "shelf_position",
        "strength", "defect"
      )
    ]
    d$grade <- factor(d$shelf_position, ordered = TRUE)
    set.seed(4)
    d$clay_source[sample(300, 30)] <- NA
    d$strong <- as.integer(d$strength > 42)
    d$count <- rpois(300, exp((d$strength - 42) / 8))
    h <- d[201:300, ]
    d <- d[1:200, ]
    fit <- function(formula, distribution, ...) {
      suppressWarnings(gbm::gbm(
        formula, distribution, d, n.trees = 12, interaction.depth = 3, n.minobsinnode = 4,
        ...
      ))
    }
    x <- ~ peak_temp + hold_minutes + clay_source + drying_humidity + grade
    for (case in list(
        c("strength", "gaussian"),
        c("strength", "laplace"),
        c("count", "poisson"),
        c("strong", "bernoulli"),
        c("strong", "adaboost")
      )) {
      same_as_model(
        study(fit(update(x, paste(case[1], "~ .")), case[2]), h, case[1], train = d), h
      )
    }
    many <- fit(update(x, defect ~ .), "multinomial")
    st <- study(many, h, "defect", train = d)
    same_as_model(st, h)
    # With a test part gbm predicts with the best number of trees, and so do we.
    same_as_model(
      study(
        fit(update(x, strength ~ .), "gaussian", train.fraction = 0.7),
        h,
        "strength",
        train = d
      ),
      h
    )
    again <- refit_model(many, d, "defect", c("peak_temp", "clay_source"))
    expect_identical(again$var.names, c("peak_temp", "clay_source"))
    expect_error(
      rank_impurity(st, rows = "oob"), "are boosted", class = "dreher_error_study"
    )
    expect_error(
      model_task(suppressWarnings(gbm::gbm(
        strength ~ peak_temp, list(name = "quantile", alpha = 0.5), d, n.trees = 2
      ))),
      "not supported"
    )
  }
)

test_that("glmnet at its chosen penalty and multinom are read by coefficients", {
  d <- kiln_rows(200)[c(
      "peak_temp", "hold_minutes", "grog_share", "cooling_rate", "strength"
    )]
  d$defect <- kiln$train$defect[1:200]
  d$strong <- factor(ifelse(d$strength > 42, "yes", "no"))
  x <- as.matrix(d[1:4])
  set.seed(1)
  for (m in list(
      glmnet::cv.glmnet(x, d$strength),
      glmnet::glmnet(x, d$strength, lambda = 0.5),
      glmnet::glmnet(x, round(d$strength), "poisson", lambda = 0.01)
    )) {
    st <- study(m, d, "strength", train = d)
    linear <- st$models[[1]]$linear
    expect_equal(
      as.vector(linear$invlink(linear$design(d) %*% linear$beta)),
      model_predictions(m, d),
      tolerance = 1e-8
    )
    expect_setequal(rank_coefficients(st)$predictor, colnames(x))
    expect_true(all(is.na(rank_coefficients(st)$lower)))
  }
  # Refits: the same penalty, or chosen again by the same means.
  fixed <- glmnet::glmnet(x, d$strength, alpha = 0.5, lambda = 0.5)
  expect_equal(
    as.vector(refit_model(fixed, d[1:100, ], "strength", colnames(x)[1:3])$beta),
    as.vector(
      glmnet::glmnet(x[1:100, 1:3], d$strength[1:100], alpha = 0.5, lambda = 0.5)$beta
    )
  )
  again <- refit_model(
    glmnet::cv.glmnet(x, d$strength, nfolds = 5),
    d,
    "strength",
    colnames(x)[1:2],
    seed = 3
  )
  expect_identical(
    again$lambda.1se,
    refit_model(again, d, "strength", colnames(x)[1:2], seed = 3)$lambda.1se
  )
  # Of one column: least squares shrunk by the penalty, worked out by hand (x in units of its own
  # deviation, 1/n).
  one <- refit_model(fixed, d, "strength", colnames(x)[1])
  sd_n <- function(v) sqrt(mean((v - mean(v))^2))
  z <- (x[, 1] - mean(x[, 1])) / sd_n(x[, 1])
  scale <- sd_n(d$strength)
  rho <- mean(z * (d$strength - mean(d$strength)) / scale)
  by_hand <- sign(rho) * max(abs(rho) - 0.5 * 0.5 / scale, 0) / (1 + 0.5 * 0.5 / scale) *
    scale / sd_n(x[, 1])
  expect_identical(model_inputs(one)$predictors, colnames(x)[1])
  expect_equal(unname(model_coefficients(one)$beta[2]), by_hand, tolerance = 1e-6)
  two <- glmnet::glmnet(x, d$strong, "binomial", lambda = 0.02)
  linear <- model_coefficients(two)
  expect_equal(
    as.vector(plogis(linear$design(d) %*% linear$beta)),
    unname(model_predictions(two, d)[, "yes"]),
    tolerance = 1e-8
  )
  rk <- rank_shapley(study(two, d, "strong", train = d), background = 10)
  expect_identical(detail(rk, "settings")$note, "exact")
  expect_error(
    study(glmnet::glmnet(x, d$strength), d, "strength"),
    "holds [0-9]+ penalties",
    class = "dreher_error_model"
  )
  several <- list(
    glmnet::glmnet(x, d$defect, "multinomial", lambda = 0.02),
    nnet::multinom(
      defect ~ peak_temp + hold_minutes + grog_share + cooling_rate, d, trace = FALSE
    )
  )
  for (m in several) {
    linear <- model_coefficients(m)
    eta <- exp(linear$design(d) %*% linear$beta)
    expect_equal(
      unname(eta / rowSums(eta)), unname(model_predictions(m, d)), tolerance = 1e-6
    )
    rk <- rank_coefficients(study(m, d, "defect", train = d))
    expect_setequal(unique(rk$class), c(NA, levels(d$defect)))
  }
  small <- refit_model(several[[2]], d, "defect", c("peak_temp", "grog_share"))
  expect_identical(attr(terms(small), "term.labels"), c("peak_temp", "grog_share"))
})

test_that(
  paste0(
    "xgboost reads: objectives, missing values, parallel trees, dart, several ",
    "classes; and refuses the rest"
  ),
  {
    d <- kiln_raw$train[
      1:300,
      c(
        "peak_temp", "hold_minutes", "drying_humidity", "glaze_viscosity", "cooling_rate",
        "strength", "defect"
      )
    ]
    few <- names(d)[1:5]
    x <- as.matrix(d[few])
    d$count <- pmax(round(d$strength - 35), 0)
    d$strong <- factor(ifelse(d$strength > 42, "yes", "no"))
    boost <- function(label, objective, ...) {
      xgboost::xgb.train(
        list(objective = objective, max_depth = 4, eta = 0.3, nthread = 1, ...),
        xgboost::xgb.DMatrix(x, label = label, nthread = 1),
        nrounds = 8
      )
    }
    near <- function(fit, target, tolerance = 1e-6) {
      st <- study(
        fit, d[1:120, ], target, train = d, positive = if (target == "strong") "yes"
      )
      same_as_model(st, d[1:120, ], tolerance)
    }
    near(boost(d$strength, "reg:squarederror"), "strength")
    near(boost(d$strength, "reg:squarederror", base_score = 40), "strength")
    near(
      boost(d$strength, "reg:squarederror", num_parallel_tree = 3, subsample = 0.7),
      "strength"
    )
    near(
      boost(d$strength, "reg:squarederror", booster = "dart", rate_drop = 0.4), "strength"
    )
    near(boost(d$strength, "reg:gamma"), "strength")
    near(boost(d$count, "count:poisson"), "count")
    near(boost(as.integer(d$strong) - 1, "binary:logistic"), "strong")
    for (objective in c("multi:softprob", "multi:softmax")) {
      near(boost(as.integer(d$defect) - 1, objective, num_class = 4), "defect")
    }
    # Rows on a cut: values and cuts that differ only beyond single precision.
    fit <- boost(d$strength, "reg:squarederror")
    f <- study(fit, d, "strength")$models[[1]]$forest
    cuts <- f$threshold[f$column == 0]
    on_cut <- d[rep(1, length(cuts) * 2), ]
    on_cut$peak_temp <- c(cuts, cuts + 1e-6)
    on_cut$strength <- seq_len(nrow(on_cut))
    same_as_model(study(fit, on_cut, "strength", train = d), on_cut, 1e-6)
    st <- study(fit, d[1:50, ], "strength", train = d)
    again <- refit_model(fit, d[1:200, ], "strength", few[1:2])
    expect_identical(booster_columns(again), few[1:2])
    seeded <- suppressWarnings(boost(d$strength, "reg:squarederror", seed = 1))
    expect_silent(refit_model(seeded, d[1:200, ], "strength", few[1:2]))
    # Early stopping: the library predicts with the best number of rounds, and so do we.
    held <- xgboost::xgb.DMatrix(
      as.matrix(kiln_raw$holdout[few]), label = kiln_raw$holdout$strength, nthread = 1
    )
    stopped <- xgboost::xgb.train(
      list(eta = 0.6, nthread = 1),
      xgboost::xgb.DMatrix(x, label = d$strength, nthread = 1),
      nrounds = 40,
      watchlist = list(held = held),
      early_stopping_rounds = 2,
      verbose = 0
    )
    expect_lt(best_rounds(stopped), all_rounds(stopped))
    near(stopped, "strength")
    rk <- rank_shapley(st, background = 10)
    expect_equal(
      unname(rowSums(attr(rk, "row_values")[[1]][, , 1])),
      unname(predict(fit, x[1:50, ])) - mean(predict(
        fit, as.matrix(draw_background(st, 10, 1)[few])
      )),
      tolerance = 1e-5
    )
    expect_error(
      study(
        boost(d$strength, "reg:quantileerror") |>
          tryCatch(error = function(e) boost(d$count, "rank:pairwise")),
        d,
        "strength"
      ),
      "not supported",
      class = "dreher_error_model"
    )
    # As they come back from a file, or in another process.
    near(unserialize(serialize(stopped, NULL)), "strength")
    bare <- xgboost::xgb.train(
      list(nthread = 1),
      xgboost::xgb.DMatrix(unname(x), label = d$strength, nthread = 1),
      nrounds = 2
    )
    expect_error(
      study(bare, d, "strength"), "names of its columns", class = "dreher_error_model"
    )
    expect_silent(check_xgb_version(c(3, 2, 1)))
    expect_warning(
      check_xgb_version(c(9, 0, 0)), "version 9.0.0", class = "dreher_warning_version"
    )
    expect_error(
      check_xgb_version(c(1, 7)), "three numbers", class = "dreher_error_model"
    )
    # Later versions write their intercepts as a list in a text, one per output.
    shape <- function(text) list(learner_model_param = list(base_score = text))
    expect_identical(xgb_base(shape("[5E-1]"), "identity"), 0.5)
    expect_equal(xgb_base(shape("[2.5E-1]"), "logit"), qlogis(0.25))
    expect_identical(xgb_base(shape("[1E0,-2E0,3E0]"), "softmax", 3), c(1, -2, 3))
    expect_error(
      xgb_base(shape("[1,2]"), "softmax", 3), "base_score", class = "dreher_error_model"
    )
  }
)

# Numbers, codes that are categories, gaps, and rows with codes and gaps that training has not seen.
coded_rows <- function(n = 300) {
  set.seed(6)
  d <- data.frame(
    heat = rnorm(n),
    clay = sample(0:40, n, TRUE),
    coats = sample(c(0, 0, 1, 2), n, TRUE),
    noise = rnorm(n)
  )
  d$y <- d$heat + (d$clay %in% c(1, 4, 7, 33, 39)) * 2 + d$coats * d$heat
  d$class <- factor(c("low", "mid", "high")[1 + (d$y > 0) + (d$y > 1.5)])
  d$yes <- factor(ifelse(d$y > 0.5, "yes", "no"))
  d$count <- rpois(n, exp(pmin(d$y, 2) / 2))
  d$heat[sample(n, 20)] <- NA
  d$coats[sample(n, 20)] <- NA
  d
}

strange_rows <- function(d) {
  d <- d[1:80, ]
  d$clay <- c(50, NA, -3, 100, 41:46, 2.7, rep_len(0:40, 69))
  d$coats[21:30] <- c(NA, 1e-36, -1e-36, 1e-20, -1, 0, 0, 5, NA, NA)
  d$heat[1:15] <- NA
  d
}

test_that("xgboost reads splits on categories and linear boosters", {
  d <- coded_rows()
  few <- names(d)[1:4]
  x <- as.matrix(d[few])
  boost <- function(label, objective, ...) {
    rows <- xgboost::xgb.DMatrix(x, label = label, nthread = 1)
    xgboost::setinfo(rows, "feature_type", c("q", "c", "q", "q"))
    xgboost::xgb.train(
      list(objective = objective, tree_method = "hist", max_depth = 5, nthread = 1, ...),
      rows,
      nrounds = 8
    )
  }
  for (few_sets in c(2, 100)) {
    st <- study(
      boost(d$y, "reg:squarederror", max_cat_to_onehot = few_sets), d, "y", train = d
    )
    expect_true(any(st$models[[1]]$forest$set_from >= 0))
    same_as_model(st, strange_rows(d), 1e-6)
    rk <- rank_impurity(st)
    expect_equal(
      rk$importance[rk$form == "plain"],
      rk$importance[rk$form == "stored"],
      tolerance = 1e-5
    )
  }
  same_as_model(
    study(
      boost(as.integer(d$yes) - 1, "binary:logistic"), d, "yes", train = d, positive = "yes"
    ),
    strange_rows(d),
    1e-6
  )
  same_as_model(
    study(
      boost(as.integer(d$class) - 1, "multi:softprob", num_class = 3),
      d,
      "class",
      train = d
    ),
    strange_rows(d),
    1e-6
  )
  again <- refit_model(
    boost(d$y, "reg:squarederror", max_cat_to_onehot = 2), d, "y", c("clay", "heat")
  )
  expect_true(any(model_forest(again, model_inputs(again))$set_from >= 0))

  for (case in list(
      c("y", "reg:squarederror"),
      c("yes", "binary:logistic"),
      c("count", "count:poisson"),
      c("class", "multi:softprob")
    )) {
    y <- if (is.factor(d[[case[1]]])) as.integer(d[[case[1]]]) - 1 else d[[case[1]]]
    # Updated one after the other, so that rounds do not depend on timing.
    fit <- xgboost::xgb.train(
      c(
        list(
          booster = "gblinear",
          objective = case[2],
          nthread = 1,
          updater = "coord_descent"
        ),
        if (case[1] == "class") list(num_class = 3)
      ),
      xgboost::xgb.DMatrix(x, label = y, nthread = 1),
      nrounds = 5
    )
    m <- study(
      fit, d, case[1], train = d, positive = if (case[1] == "yes") "yes"
    )$models[[1]]
    expect_null(m$forest)
    sums <- m$linear$design(d) %*% m$linear$beta
    expect_equal(
      unname(apply_link(list(link = m$linear$link, stretch = 1), sums)),
      unname(as.matrix(model_predictions(fit, d))),
      tolerance = 1e-5
    )
    compared <<- compared + 1
  }
})

test_that(
  paste0(
    "lightgbm reads: objectives, categories, every missing type, averaged and dropped ",
    "trees; and refuses the rest"
  ),
  {
    d <- coded_rows()
    few <- names(d)[1:4]
    x <- as.matrix(d[few])
    boost <- function(label, objective, ..., categories = "clay", rounds = 8) {
      rows <- lightgbm::lgb.Dataset(
        x, label = label, categorical_feature = categories, params = list(...)
      )
      lightgbm::lgb.train(
        list(
          objective = objective, num_threads = 1, min_data_in_leaf = 5,
          min_data_per_group = 3, cat_smooth = 1, ...
        ),
        rows,
        nrounds = rounds,
        verbose = -1
      )
    }
    near <- function(fit, target) {
      st <- study(fit, d, target, train = d, positive = if (target == "yes") "yes")
      same_as_model(st, strange_rows(d))
    }
    near(boost(d$y, "regression"), "y")
    near(boost(d$y, "regression", categories = NULL), "y")
    near(boost(d$y, "regression", zero_as_missing = TRUE), "y")
    near(boost(d$y, "regression", zero_as_missing = TRUE, categories = NULL), "y")
    near(boost(d$y, "regression", use_missing = FALSE), "y")
    near(boost(d$y, "huber"), "y")
    # as from a file, or in another process
    near(unserialize(serialize(boost(d$y, "regression"), NULL)), "y")
    near(boost(d$y, "regression", boosting = "dart"), "y")
    near(
      boost(d$y, "regression", boosting = "rf", bagging_freq = 1, bagging_fraction = 0.6),
      "y"
    )
    near(boost(d$y, "regression", min_data_in_leaf = 500), "y")  # trees of one leaf
    near(boost(d$count, "poisson"), "count")
    near(boost(as.integer(d$yes) - 1, "binary"), "yes")
    near(boost(as.integer(d$yes) - 1, "binary", sigmoid = 2), "yes")
    near(boost(as.integer(d$class) - 1, "multiclass", num_class = 3), "class")
    expect_error(
      study(boost(d$y, "regression", linear_tree = TRUE, categories = NULL), d, "y"),
      "linear trees",
      class = "dreher_error_model"
    )
    expect_error(
      study(boost(as.integer(d$class) - 1, "multiclassova", num_class = 3), d, "class"),
      "multiclassova",
      class = "dreher_error_model"
    )
    fit <- boost(d$y, "regression", learning_rate = 0.3)
    again <- refit_model(fit, d, "y", c("clay", "noise"))
    f <- model_forest(again, model_inputs(again))
    expect_identical(c(f$columns, length(f$root)), c("clay", "noise", "8"))
    expect_true(any(f$set_from >= 0))
    # The gain recomputed and the one in the library's own record, which has all digits.
    models <- list(
      y = boost(d$y, "regression", categories = NULL),
      yes = boost(as.integer(d$yes) - 1, "binary", categories = NULL, lambda_l2 = 2),
      class = boost(
        as.integer(d$class) - 1, "multiclass", num_class = 3, categories = NULL
      )
    )
    for (target in names(models)) {
      rk <- rank_impurity(study(
        models[[target]], d, target, train = d, positive = if (target == "yes") "yes"
      ))
      record <- jsonlite::parse_json(lightgbm::lgb.dump(models[[target]]))
      stored <- stats::setNames(double(4), few)
      walk <- function(node) {
        if (!is.null(node$split_feature)) {
          stored[node$split_feature + 1] <<- stored[node$split_feature + 1] +
            node$split_gain
          walk(node$left_child)
          walk(node$right_child)
        }
      }
      for (tree in record$tree_info) walk(tree$tree_structure)
      together <- rk[is.na(rk$class), ]
      expect_equal(
        together$importance[together$form == "plain"],
        unname(stored[together$predictor[together$form == "plain"]]),
        tolerance = 1e-6
      )
      expect_equal(
        together$importance[together$form == "stored"],
        unname(stored[together$predictor[together$form == "stored"]]),
        tolerance = 1e-5
      )
    }
  }
)

test_that("glmnet with families of R is read at its penalty and trained again by them", {
  d <- kiln_rows(300)
  x <- as.matrix(d[c("peak_temp", "hold_minutes", "grog_share")])
  d$counted <- round(d$strength)
  d$high <- factor(ifelse(d$strength > 38, "high", "low"))
  for (family in list(quasipoisson(), Gamma("log"), binomial("probit"))) {
    target <- if (family$family == "binomial") "high" else "counted"
    fit <- glmnet::glmnet(x, d[[target]], family = family, lambda = 0.01)
    rows <- d[c(colnames(x), target)]
    low <- if (target == "high") "low"
    st <- suppressWarnings(study(list(m = fit), rows, target, train = rows, positive = low))
    alone <- suppressWarnings(study(
      list(m = fit), rows, target, train = rows, positive = low,
      predict_with = function(model, data) {
        newx <- as.matrix(data[colnames(x)])
        p <- as.double(predict(model, newx, s = 0.01, type = "response"))
        if (target == "high") cbind(high = 1 - p, low = p) else p
      }
    ))
    expect_equal(
      rank_permutation(st, repeats = 2)$importance,
      rank_permutation(alone, repeats = 2)$importance,
      tolerance = 1e-8
    )
    again <- refit_model(st$models[[1]]$object, rows, target, colnames(x)[1:2])
    expect_s3_class(again, "glmnetfit")
    direct <- glmnet::glmnet(x[, 1:2], d[[target]], family = family, lambda = 0.01)
    expect_equal(as.matrix(coef(again)), as.matrix(coef(direct)))
  }
})

test_that("every engine of parsnip is read as itself, or known by its predictions", {
  d <- kiln_rows(300)[c("strength", "peak_temp", "hold_minutes", "clay_source")]
  d$high <- factor(as.integer(d$strength > 38))
  numbers <- strength ~ peak_temp + hold_minutes + clay_source
  kinds <- high ~ peak_temp + hold_minutes + clay_source
  engines <- list(
    earth = parsnip::set_engine(parsnip::mars("classification"), "earth"),
    earth = parsnip::set_engine(parsnip::mars("regression"), "earth"),
    ksvm = parsnip::set_engine(parsnip::svm_rbf("classification"), "kernlab"),
    nnet.formula = parsnip::set_engine(parsnip::mlp("classification"), "nnet")
  )
  fits <- lapply(engines, function(spec) {
    set.seed(1)
    suppressWarnings(with_parsnip(parsnip::fit(
      spec, if (spec$mode == "regression") numbers else kinds, d
    )))
  })
  smooth <- parsnip::set_engine(parsnip::gen_additive_mod("regression"), "mgcv")
  fits$gam <- with_parsnip(parsnip::fit(
    smooth, strength ~ s(peak_temp, k = 4) + clay_source, d
  ))
  for (k in seq_along(fits)) {
    fit <- fits[[k]]
    target <- if (fit$spec$mode == "regression") "strength" else "high"
    rows <- d[setdiff(names(d), setdiff(c("strength", "high"), target))]
    st <- suppressWarnings(study(list(m = fit), rows, target, train = rows))
    expect_identical(st$models[[1]]$class, names(fits)[k])
    alone <- suppressWarnings(study(
      list(m = fit),
      rows,
      target,
      train = rows,
      predictors = st$models[[1]]$inputs$predictors,
      predict_with = function(model, data) predict_wrapped(model, data)
    ))
    a <- suppressWarnings(rank_permutation(st, repeats = 2))
    b <- suppressWarnings(rank_permutation(alone, repeats = 2))
    expect_equal(
      a$importance[order(a$predictor)],
      b$importance[order(b$predictor)],
      tolerance = 1e-8,
      label = names(fits)[k]
    )
  }
  expect_false(is.null(st$models[[1]]$linear))
})

test_that("parsnip fits and workflows are opened to the engine, in the user's columns", {
  suppressPackageStartupMessages(library(parsnip))
  d <- kiln_rows(200, drop = c("ring_tone", "tile_id", "batch"))
  d$strong <- factor(ifelse(d$strength > 42, "yes", "no"))
  h <- d[151:200, ]
  d <- d[1:150, ]
  number <- setdiff(names(d), c("defect", "strong"))
  two <- setdiff(names(d), c("defect", "strength"))
  boost <- function(mode) {
    parsnip::set_engine(parsnip::boost_tree(mode, trees = 5), "xgboost", nthread = 1)
  }
  opened <- function(fit, target, columns, kind) {
    compared <<- compared + 1
    st <- study(list(m = fit), h[columns], target, train = d[columns])
    m <- st$models$m
    expect_identical(
      c(is.null(m$forest), is.null(m$linear)), c(kind != "forest", kind != "linear")
    )
    own <- model_predictions(m$object, model_rows(st, m, h))
    ours <- if (kind == "forest") {
      predict_model(st, m, h)
    } else {
      as.matrix(m$linear$invlink(m$linear$design(model_rows(st, m, h)) %*% m$linear$beta))
    }
    if (kind == "linear" && is.matrix(own)) own <- own[, 2]
    if (is.matrix(own)) own <- own[, st$classes]
    expect_equal(unname(as.matrix(ours)), unname(as.matrix(own)), tolerance = 1e-5)
    expect_setequal(rank_permutation(st, repeats = 1)$predictor, m$inputs$predictors)
    expect_true(all(m$inputs$predictors %in% columns))
    refit <- refit_model(m$object, d[columns], target, m$inputs$predictors[1:2], seed = 3)
    expect_true(all(unlist(refit$stems) %in% m$inputs$predictors[1:2]))
    invisible(st)
  }
  fit_before <- parsnip::fit(boost("regression"), strength ~ ., d[number])
  opened(fit_before, "strength", number, "forest")
  opened(
    parsnip::fit(boost("classification"), strong ~ ., d[two]), "strong", two, "forest"
  )
  opened(
    parsnip::fit(
      boost("classification"), defect ~ peak_temp + operator + glaze_thickness, d
    ),
    "defect",
    names(d),
    "forest"
  )
  opened(
    parsnip::fit(
      parsnip::set_engine(
        parsnip::rand_forest("classification", trees = 5), "ranger", num.threads = 1
      ),
      strong ~ .,
      d[two]
    ),
    "strong",
    two,
    "forest"
  )
  opened(
    parsnip::fit(
      parsnip::set_engine(parsnip::linear_reg(penalty = 0.1), "glmnet"),
      strength ~ .,
      d[number]
    ),
    "strength",
    number,
    "linear"
  )
  opened(
    parsnip::fit(parsnip::logistic_reg(), strong ~ peak_temp + operator, d[two]),
    "strong",
    two,
    "linear"
  )
  steps <- recipes::recipe(strength ~ ., d[number]) |>
    recipes::step_dummy(recipes::all_nominal_predictors()) |>
    recipes::step_zv(recipes::all_predictors()) |>
    recipes::step_normalize(recipes::all_numeric_predictors())
  opened(
    parsnip::fit(workflows::workflow(steps, boost("regression")), d[number]),
    "strength",
    number,
    "forest"
  )
  opened(
    parsnip::fit(workflows::workflow(strong ~ ., boost("classification")), d[two]),
    "strong",
    two,
    "forest"
  )
  mixed <- recipes::recipe(
    strength ~ peak_temp + hold_minutes + pyro_left + pyro_right, d
  ) |> recipes::step_interact(~ peak_temp:hold_minutes) |>
    recipes::step_pca(pyro_left, pyro_right, num_comp = 1)
  st <- opened(
    parsnip::fit(workflows::workflow(mixed, boost("regression")), d),
    "strength",
    names(d),
    "forest"
  )
  expect_true(all(
    c("peak_temp & hold_minutes", "pyro_left & pyro_right") %in%
      rank_structure(st)$predictor
  ))
  # As on a worker, which loads parsnip and does not attach it.
  detach("package:parsnip")
  opened(fit_before, "strength", number, "forest")
  expect_false("package:parsnip" %in% search())
  expect_error(
    study(workflows::workflow(strong ~ ., boost("classification")), h, "strong"),
    "has not been trained",
    class = "dreher_error_model"
  )
})

test_that("all in all well over thirty models have been compared", {
  expect_gt(compared, 60)
})

test_that("places in trees become places in the list of all nodes", {
  expect_identical(
    shift_places(c(1L, 0L, -1L, 2L, 1L, -1L), c(2L, 1L, 3L)), c(1L, 0L, -1L, 5L, 4L, -1L)
  )
  expect_identical(shift_places(integer(), integer()), integer())
  expect_error(shift_places(1:3, 2L), "do not fit")
  expect_error(shift_places(1:3, c(2L, 2L)), "do not fit")
})

test_that("trees put together one by one or behind each other make the same forest", {
  set.seed(31)
  level <- list(c = letters[1:4])
  trees <- lapply(1:5, function(i) {
    f <- random_flat_forest(c("a", "b", "c"), level, trees = 1, depth = 4, outputs = 3)
    f[c(
        "column", "threshold", "left", "right", "missing", "owner", "set_from",
        "set_size", "set_side", "value"
      )]
  })
  whole <- join_trees(trees, rep(0.2, 5), c("a", "b", "c"), level)
  x <- cbind(a = rnorm(50), b = rnorm(50), c = sample(4, 50, TRUE))
  x[sample(150, 20)] <- NA
  alone <- Reduce(
    `+`,
    lapply(trees, function(t) {
      0.2 * forest_predict(join_trees(list(t), 1, c("a", "b", "c"), level), x, 1L)
    })
  )
  expect_equal(forest_predict(whole, x, 1L), alone, tolerance = 1e-12)
  expect_equal(forest_predict(whole, x, 1L), slow_predict(whole, x), tolerance = 1e-12)
})

# A new session knows no library but dreher, as the command does.
test_that(
  "models read from a file in a new session are those of the session that saved them",
  {
    d <- kiln_rows(200)[c("strength", "peak_temp", "hold_minutes", "operator")]
    d$grade <- factor(c("low", "middle", "high")[findInterval(d$strength, c(40, 50)) + 1])
    two <- strength ~ peak_temp + hold_minutes
    three <- grade ~ peak_temp + hold_minutes
    models <- list(
      multinom = nnet::multinom(three, d, trace = FALSE),
      several = parsnip::fit(
        parsnip::set_engine(parsnip::multinom_reg(), "nnet"), three, d
      ),
      forest = small_forest(two, d),
      trees = randomForest::randomForest(two, d, ntree = 5),
      tree = rpart::rpart(two, d),
      penalised = glmnet::glmnet(as.matrix(d[2:3]), d$strength, lambda = 0.1),
      additive = mgcv::gam(strength ~ s(peak_temp) + hold_minutes, data = d),
      robust = MASS::rlm(two, d),
      discriminant = MASS::lda(three, d),
      machine = e1071::svm(two, d),
      boosted = gbm::gbm(two, "gaussian", d, n.trees = 5)
    )
    rank_all <- function(models, d) {
      lapply(models, function(m) {
        many <- inherits(m, c("multinom", "_multinom", "lda"))
        st <- suppressWarnings(study(
          m,
          d[1:50, ],
          if (many) "grade" else "strength",
          train = d[51:200, setdiff(names(d), if (many) "strength" else "grade")]
        ))
        as.data.frame(rank_predictors(
          st, by = c("permutation", "shapley"), repeats = 2, background = 5
        ))[c("predictor", "importance")]
      })
    }
    saved <- tempfile(fileext = ".rds")
    found <- tempfile(fileext = ".rds")
    script <- tempfile(fileext = ".R")
    saveRDS(list(models = models, d = d), saved)
    writeLines(
      c(
        "library(dreher)",
        paste("rank_all <-", paste(deparse(rank_all), collapse = "\n")),
        sprintf("saved <- readRDS(%s)", encodeString(saved, quote = "\"")),
        sprintf(
          "saveRDS(rank_all(saved$models, saved$d), %s)",
          encodeString(found, quote = "\"")
        )
      ),
      script
    )
    said <- system2(
      file.path(R.home("bin"), "Rscript"), shQuote(script), stdout = TRUE, stderr = TRUE
    )
    expect_true(file.exists(found), info = paste(said, collapse = "\n"))
    expect_equal(readRDS(found), rank_all(models, d))
  }
)
