# What other people's data brought up, a test each: whole-number targets, rare levels, transformed
# targets, models of kindred classes, rows met before, one predictor, few rows.

kiln <- demo_kiln(missing = FALSE)
d <- kiln$train[1:240, c("peak_temp", "hold_minutes", "cooling_rate", "operator", "strength")]
d$operator <- as.character(d$operator)
h <- kiln$holdout[1:80, names(d)]
quietly <- function(code) suppressWarnings(code)

test_that("fingerprints depend on values only", {
  a <- data.frame(x = 1:50, f = factor(rep(c("u", "v"), 25)), t = as.character(1:50))
  b <- data.frame(t = as.character(1:50 + 0), f = as.character(a$f), x = as.double(1:50))
  b$f <- factor(b$f, levels = c("v", "u"))
  expect_identical(table_print(a), table_print(b))
  expect_identical(column_hashes(a)[["x"]], column_hashes(b)[["x"]])
  b$x[3] <- 3.5
  expect_false(identical(table_print(a), table_print(b)))
  codes <- row_codes(list(
    data.frame(x = c(1L, 100L), y = c("a", NA)),
    data.frame(x = c(100, 1), y = factor(c(NA, "a")))
  ))
  expect_identical(codes[[1]], rev(codes[[2]]))
  expect_length(unique(unlist(codes)), 2)
  # A target of whole numbers, drawn from as a table of another kind.
  whole <- transform(d, strength = as.integer(round(strength)))
  st <- study(
    lm(strength ~ peak_temp + hold_minutes, whole), h, "strength", train = whole
  )
  rr <- rank_predictors(
    st, by = "permutation", repeats = 2, resamples = draw_resamples(whole, times = 3)
  )
  expect_identical(length(unique(rr$resample)), 3L)
  expect_false(any(grepl("few repeats", rr$flag)))
})

test_that("rows met before are told from coincidences", {
  expect_true(find_known_rows(d[1:30, ], d)$beyond)
  expect_false(find_known_rows(h, d)$beyond)
  expect_true(find_known_rows(d, d)$beyond)
  one <- iris
  expect_false(find_known_rows(one[102, ], one[-102, ])$beyond)  # a flower that is there twice
  few <- data.frame(a = rep(0:1, 60), b = rep(0:2, 40))
  expect_false(find_known_rows(few[1:20, ], few[21:120, ])$beyond)  # six different rows
  f <- lm(strength ~ peak_temp + hold_minutes, d)
  expect_warning(
    st <- study(f, d, "strength", train = d), "All 240 rows of `data` are training rows"
  )
  expect_match(
    paste(format(st), collapse = " "), "240 of those the models were trained on"
  )
  sc <- score_models(st)
  expect_true(all(is.na(c(sc$lower, sc$upper, sc$std_error))))
  expect_no_match(paste(format_scores(sc), collapse = " "), "holdout")
  rk <- rank_permutation(st)
  expect_identical(unique(rk$rows), "train")
  expect_true(all(is.na(rk$lower)))
  nf <- noise_floor(st, refits = 19)
  expect_identical(unique(nf$table$rows), "train")
  expect_match(paste(format_floor(nf), collapse = " "), "on training rows")
  expect_false(all(is.na(floor_says(nf, rk))))
  expect_warning(
    study(f, rbind(h, d[1:20, ]), "strength", train = d), "20 of the 100 rows"
  )
})

test_that("a transformed target is brought back, refitted as it is, or refused", {
  f <- lm(log(strength) ~ peak_temp + hold_minutes, d)
  st <- study(f, h, "strength", train = d)
  expect_equal(predict_model(st, st$models[[1]], h)[, 1], unname(exp(predict(f, h))))
  expect_equal(score_models(st)$score, sqrt(mean((exp(predict(f, h)) - h$strength)^2)))
  again <- refit_model(f, d, "strength", "peak_temp")
  expect_equal(coef(again), coef(lm(log(strength) ~ peak_temp, d)))
  expect_identical(
    unique(detail(rank_shapley(st, background = 10), "settings")$scale), "log(strength)"
  )
  for (left in c(
      "sqrt(strength)", "log(strength + 1, 2)", "I(strength^3)", "1 - 2 * strength",
      "log10(strength / 7)"
    )) {
    f <- lm(as.formula(paste(left, "~ peak_temp")), d)
    y <- as.double(eval(str2lang(left), d))
    expect_equal(back_transform(terms(f))$inverse(y), d$strength, label = left)
  }
  expect_error(
    study(lm(qlogis(strength / 100) ~ peak_temp, d), h, "strength"),
    "the way back to the target is not known",
    class = "dreher_error_model"
  )
  expect_error(
    study(lm(I(strength^2) ~ peak_temp, d), h, "strength"),
    "way back",
    class = "dreher_error_model"
  )
  tree <- rpart::rpart(log(strength) ~ peak_temp, d)
  expect_equal(
    score_models(study(tree, h, "strength"))$score,
    sqrt(mean((exp(predict(tree, h)) - h$strength)^2))
  )
  expect_error(
    study(rpart::rpart(I(strength^2) ~ peak_temp, d), h, "strength"),
    "predicts I(strength^2), not the target",
    fixed = TRUE
  )
  steps <- recipes::step_log(
    recipes::recipe(strength ~ peak_temp + hold_minutes, d), strength
  )
  expect_error(
    study(
      parsnip::fit(workflows::workflow(steps, parsnip::linear_reg()), d),
      h,
      "strength",
      train = d
    ),
    "a transformed \"strength\""
  )
})

test_that("a subclass is not read as its parent, and is trained again as what it is", {
  gam <- mgcv::gam(strength ~ s(peak_temp) + operator, data = d)
  rlm <- MASS::rlm(strength ~ peak_temp + hold_minutes, d)
  counts <- transform(d, strength = as.integer(round(strength)))
  nb <- suppressWarnings(MASS::glm.nb(strength ~ peak_temp + operator, counts))
  st <- study(list(gam = gam, rlm = rlm, nb = nb), h, "strength", train = d)
  expect_equal(predict_model(st, st$models$gam, h)[, 1], as.vector(predict(gam, h)))
  expect_equal(
    predict_model(st, st$models$nb, h)[, 1], as.vector(predict(nb, h, type = "response"))
  )
  # their terms add up to what they predict
  for (m in st$models) {
    sum <- as.vector(m$linear$design(h) %*% m$linear$beta)
    expect_equal(m$linear$invlink(sum), predict_model(st, m, h)[, 1])
  }
  wide <- mgcv::gam(
    strength ~
      s(peak_temp, k = 4) + s(peak_temp, by = hold_minutes, k = 3) +
        te(hold_minutes, cooling_rate, k = 3) + operator,
    data = d
  )
  by_terms <- study(list(gam = wide), h, "strength", train = d)
  by_predictions <- study(
    list(gam = wide),
    h,
    "strength",
    train = d,
    predict_with = function(model, data) as.vector(predict(model, data)),
    predictors = by_terms$predictors
  )
  for (rank in list(function(s) rank_permutation(s, repeats = 2), function(s) {
      rank_shapley(s, background = 6, max_rows = 12)
    })) {
    a <- suppressWarnings(rank(by_terms))
    b <- suppressWarnings(rank(by_predictions))
    expect_equal(
      a$importance[order(a$predictor)], b$importance[order(b$predictor)], tolerance = 1e-8
    )
  }
  again <- users_object(refit_model(st$models$gam$object, d, "strength", "peak_temp"))
  expect_identical(class(again), class(gam))
  expect_equal(coef(again), coef(mgcv::gam(strength ~ s(peak_temp), data = d)))
  again <- users_object(refit_model(
    st$models$rlm$object, d[1:100, ], "strength", "peak_temp"
  ))
  expect_equal(coef(again), coef(MASS::rlm(strength ~ peak_temp, d[1:100, ])))
  expect_s3_class(
    suppressWarnings(users_object(refit_model(
      st$models$nb$object, counts, "strength", "peak_temp"
    ))),
    "negbin"
  )
  odd <- structure(
    ranger::ranger(strength ~ peak_temp, d, num.trees = 2),
    class = c("better_forest", "ranger")
  )
  expect_error(
    study(odd, h, "strength"), "a kind of \"ranger\"", class = "dreher_error_model"
  )
})

test_that("one predictor, few rows and a rare level do not lose everything", {
  one <- study(
    lm(dist ~ speed, cars[1:35, ]), cars[36:50, ], "dist", train = cars[1:35, ]
  )
  ps <- choose_set(reduce_predictors(one, folds = 4, repeats = 1))
  expect_identical(ps$predictors, "speed")
  expect_identical(say_set(ps), "The only predictor is kept.")
  small <- study(
    lm(mpg ~ wt + hp + qsec, mtcars[1:22, ]),
    mtcars[23:32, ],
    "mpg",
    train = mtcars[1:22, ]
  )
  rd <- reduce_predictors(small, repeats = 1, inner_folds = 2, random = 0)
  expect_identical(rd$folds, 5L)
  rare <- d[1:120, ]
  rare$operator[1:2] <- "guest"
  st <- study(lm(strength ~ peak_temp + operator, rare), h, "strength", train = rare)
  fold <- with_stream(1, "x", draw_folds(st, rare, 5))
  # both rows of the level are never left out at once
  expect_identical(length(unique(fold[1:2])), 2L)
  rare$operator[2] <- "anna"
  st <- study(lm(strength ~ peak_temp + operator, rare), h, "strength", train = rare)
  expect_warning(
    rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0),
    "most frequent level",
    class = "dreher_warning_levels"
  )
  expect_true(all(is.finite(as.data.frame(rd)$score)))
  # By definition: the row counts as one of the usual operator.
  fold <- rd$curves[[1]]$fold_of[, 1]
  f <- lm(strength ~ peak_temp + operator, rare[fold != fold[1], ])
  usual <- names(which.max(table(rare$operator[fold != fold[1]])))
  expect_equal(
    unname(rd$curves[[1]]$outer[[1]][1, "all" == names(rd$curves[[1]]$columns), 1]),
    unname(predict(f, transform(rare[1, ], operator = usual)))
  )
})

test_that("a reduction keeps what succeeded", {
  alone <- transform(d[1:60, ], site = c("far", rep("near", 59)))  # one level in most parts
  st <- study(
    lm(strength ~ peak_temp + site, alone),
    h[0:40, ] |> transform(site = "near"),
    "strength",
    train = alone
  )
  rd <- quietly(reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0))
  expect_false(anyNA(rd$curves[[1]]$outer[[1]]))
  picky <- function(model, data, predictors) {
    if (length(predictors) == 2) stop("two is one too many")
    lm(reformulate(predictors, "strength"), data)
  }
  st <- study(
    lm(strength ~ peak_temp + hold_minutes + cooling_rate, d),
    h,
    "strength",
    train = d,
    refit_with = picky
  )
  expect_warning(
    rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0),
    "two is one too many",
    class = "dreher_warning_pieces"
  )
  expect_identical(as.data.frame(rd)$count, c(0L, 1L, 3L))
  expect_true(choose_set(rd)$count %in% c(1L, 3L))
  never <- study(
    list(
      good = lm(strength ~ peak_temp + hold_minutes, d), bad = lm(strength ~ peak_temp, d)
    ),
    h,
    "strength",
    train = d,
    refit_with = list(bad = function(model, data, predictors) stop("never"))
  )
  expect_warning(
    rd <- reduce_predictors(never, folds = 3, repeats = 1, inner_folds = 2, random = 0),
    "Not reduced: \"bad\""
  )
  expect_identical(names(rd$curves), "good")
  both <- reduce_predictors(
    study(
      list(
        a = lm(strength ~ peak_temp + hold_minutes, d),
        b = lm(strength ~ peak_temp + cooling_rate, d)
      ),
      h,
      "strength",
      train = d
    ),
    folds = 3,
    repeats = 1,
    inner_folds = 2,
    random = 0
  )
  expect_s3_class(ggplot2::autoplot(both), "ggplot")  # without random sets
})

test_that("text in the place of ordered factors is ordered as in training, or refused", {
  set.seed(1)
  x <- data.frame(
    size = factor(
      sample(c("low", "mid", "high"), 240, TRUE), c("low", "mid", "high"), ordered = TRUE
    ),
    z = stats::rnorm(240)
  )
  x$y <- as.integer(x$size) + x$z / 5 + stats::rnorm(240, 0, 0.2)
  text <- transform(x, size = as.character(size))
  for (f in list(
      lm(y ~ ., x),
      rpart::rpart(y ~ ., x),
      gbm::gbm(y ~ ., data = x, distribution = "gaussian", n.trees = 20)
    )) {
    st <- study(f, text[161:240, ], "y", train = text[1:160, ])
    same <- study(f, x[161:240, ], "y", train = x[1:160, ])
    expect_equal(
      predict_model(st, st$models[[1]], st$data),
      predict_model(same, same$models[[1]], same$data)
    )
  }
  forest <- randomForest::randomForest(y ~ ., x, ntree = 5)
  expect_error(
    study(forest, text[161:240, ], "y", train = text[1:160, ]),
    "levels it does not keep",
    class = "dreher_error_model"
  )
  expect_s3_class(study(forest, x[161:240, ], "y", train = x[1:160, ]), "dreher_study")
  forest <- ranger::ranger(y ~ ., x[1:160, ], num.trees = 30, seed = 1)
  # Later versions of the library keep the levels, and match text by name.
  if (is.null(forest$forest$covariate.levels)) {
    expect_error(
      study(forest, text[161:240, ], "y", train = text[1:160, ]),
      "in another order",
      class = "dreher_error_model"
    )
  } else {
    st <- study(forest, text[161:240, ], "y", train = text[1:160, ])
    expect_equal(
      predict_model(st, st$models[[1]], st$data)[, 1],
      stats::predict(forest, x[161:240, ])$predictions
    )
  }
  expect_s3_class(
    study(
      ranger::ranger(y ~ ., text[1:160, ], num.trees = 30, seed = 1),
      text[161:240, ],
      "y",
      train = text[1:160, ]
    ),
    "dreher_study"
  )
  # Numbers whose digits are levels, as files hold them.
  four <- transform(x, size = factor(c(4, 6, 8)[as.integer(size)]))
  bare <- transform(four, size = as.integer(as.character(size)))
  f <- lm(y ~ ., four)
  st <- study(f, bare[161:240, ], "y", train = bare[1:160, ])
  expect_equal(
    predict_model(st, st$models[[1]], st$data)[, 1], unname(predict(f, four[161:240, ]))
  )
  expect_error(
    study(f, transform(bare[161:240, ], size = size + 1), "y", train = bare[1:160, ]),
    "holds numbers"
  )
})

test_that("decoys and refits work for whatever can be trained again", {
  own <- study(
    lm(strength ~ peak_temp + operator, d),
    h,
    "strength",
    train = d,
    predictors = c("peak_temp", "operator"),
    predict_with = function(model, data) predict(model, data),
    refit_with = function(model, data, predictors) {
      lm(reformulate(predictors, "strength"), data)
    }
  )
  nf <- noise_floor(own, refits = 19)
  expect_gt(nf$table$floor[1], 0)
  blind <- study(
    lm(strength ~ peak_temp, d),
    h,
    "strength",
    train = d,
    predictors = "peak_temp",
    predict_with = function(model, data) predict(model, data),
    refit_with = function(model, data, predictors) lm(strength ~ peak_temp, data)
  )
  expect_warning(
    noise_floor(blind, refits = 19), "its floor is 0", class = "dreher_warning_floor"
  )
  w <- parsnip::fit(
    workflows::workflow(
      recipes::step_dummy(
        recipes::recipe(strength ~ peak_temp + operator + hold_minutes, d),
        recipes::all_nominal_predictors()
      ),
      parsnip::linear_reg()
    ),
    d
  )
  st <- study(
    list(w = w, gone = lm(strength ~ peak_temp, d)),
    h,
    "strength",
    train = d,
    refit_with = list(gone = function(model, data, predictors) stop("no more"))
  )
  expect_warning(nf <- noise_floor(st, refits = 19), "No noise floor for model \"gone\"")
  expect_identical(unique(nf$table$model), "w")
  # As the same linear model without a workflow.
  bare <- noise_floor(
    study(
      list(w = lm(strength ~ peak_temp + operator + hold_minutes, d)),
      h,
      "strength",
      train = d
    ),
    refits = 19
  )
  expect_setequal(
    nf$table$predictor[nf$table$above], bare$table$predictor[bare$table$above]
  )
  expect_equal(nf$table$importance[1], bare$table$importance[1], tolerance = 0.02)
  rd <- reduce_predictors(
    st, models = "w", folds = 3, repeats = 1, inner_folds = 2, random = 0
  )
  again <- refit_on(choose_set(rd, rule = "count", count = 1))
  expect_s3_class(again, "workflow")
  expect_identical(
    names(predict(again, h[choose_set(rd, rule = "count", count = 1)$predictors])), ".pred"
  )
  st <- study(w, h, "strength", train = d, refit_with = function(
      model, data, predictors) {
    parsnip::fit(
      workflows::workflow(reformulate(predictors, "strength"), parsnip::linear_reg()),
      data
    )
  })
  expect_s3_class(noise_floor(st, refits = 19), "dreher_floor")
})

test_that("boosted classes by number are not turned round", {
  two <- transform(d, strong = factor(as.integer(strength > 45)))
  fit <- parsnip::fit(
    parsnip::set_engine(
      parsnip::boost_tree("classification", trees = 5), "xgboost", nthread = 1
    ),
    strong ~ peak_temp + hold_minutes,
    two
  )
  st <- study(
    fit, transform(h, strong = factor(as.integer(strength > 45))), "strong", train = two
  )
  expect_equal(
    predict_model(st, st$models[[1]], st$data)[, "1"],
    predict(fit, st$data, type = "prob")$.pred_1,
    tolerance = 1e-6
  )
})

test_that("a workflow that makes a sparse matrix is read as the library reads it", {
  # older recipes make none
  if (!"sparse" %in% names(formals(recipes::step_dummy))) return(expect_true(TRUE))
  few <- transform(d, none = as.double(seq_len(nrow(d)) %% 3))
  steps <- recipes::step_dummy(
    recipes::recipe(strength ~ operator + none, few),
    operator,
    one_hot = TRUE,
    sparse = "yes"
  )
  w <- parsnip::fit(
    workflows::workflow(
      steps,
      parsnip::set_engine(
        parsnip::boost_tree("regression", trees = 5), "xgboost", nthread = 1
      )
    ),
    few
  )
  st <- study(w, transform(h, none = 1), "strength", train = few)
  expect_equal(
    predict_model(st, st$models[[1]], few)[, 1], predict(w, few)$.pred, tolerance = 1e-6
  )
})

test_that("honest strong predictors are no leaks, and measurements no identifiers", {
  at <- seq_len(150) %% 3 != 0
  flowers <- study(
    rpart::rpart(Species ~ ., iris[at, ]), iris[!at, ], "Species", train = iris[at, ]
  )
  expect_false(any(check_data(flowers)$finding == "leak"))
  set.seed(5)
  x <- data.frame(
    id = sample(10000, 200),
    hits = sample(500, 200),
    name = paste0("n", sample(9999, 200))
  )
  x$y <- x$hits + stats::rnorm(200, 0, 60)
  trial <- study(lm(y ~ hits + id, x[1:140, ]), x[141:200, ], "y", train = x[1:140, ])
  ids <- check_data(trial)
  expect_setequal(ids$predictor[ids$finding == "identifier"], c("id", "name"))
  leaky <- study(
    lm(strength ~ ring_tone + peak_temp + hold_minutes, kiln$train),
    kiln$holdout,
    "strength",
    train = kiln$train,
    dictionary = kiln$dictionary
  )
  title <- ggplot2::autoplot(rank_permutation(leaky))$labels$title
  expect_no_match(title, "known before")
})

test_that("twins are told each way, and thinning checks what is lost", {
  set.seed(2)
  x <- data.frame(state = factor(sample(letters[1:20], 300, TRUE)))
  x$big <- x$state %in% letters[1:5]
  tw <- find_twins(x)
  tells <- stats::setNames(tw$tells$tells, tw$tells$predictor)
  expect_gt(tells[["state"]], 0.9)
  expect_lt(tells[["big"]], 0.2)
  expect_match(paste(format_twins(tw), collapse = " "), "could not +replace it")
  expect_match(
    paste(format_twins(find_twins(iris[-3])), collapse = " "),
    "Petal.Width is kept.*Sepal.Length is kept too"
  )  # one that nobody tells beside one that does
  expect_match(
    paste(format_twins(find_twins(mtcars)), collapse = " "), "predict 74 to 86 % of it"
  )
  # The difference of two twins is the signal: neither can go.
  gap <- data.frame(planned = stats::runif(240, 0, 100))
  gap$real <- gap$planned + stats::rexp(240, 1 / 3)
  gap$late <- gap$real - gap$planned + stats::rnorm(240, 0, 0.5)
  st <- study(lm(late ~ ., gap[1:180, ]), gap[181:240, ], "late", train = gap[1:180, ])
  rd <- reduce_predictors(
    st, thin_twins = TRUE, folds = 3, repeats = 1, inner_folds = 2, random = 0
  )
  expect_setequal(choose_set(rd)$predictors, c("planned", "real"))
})

test_that("a set's sentence has three verdicts, and names what no split chose", {
  st <- study(
    lm(strength ~ peak_temp + hold_minutes + cooling_rate + operator, d),
    h,
    "strength",
    train = d
  )
  ps <- choose_set(reduce_predictors(
    st, folds = 3, repeats = 1, inner_folds = 2, random = 0
  ))
  ps$left_out <- union(ps$left_out, "operator")
  ps$outside <- FALSE
  say <- function(lower, upper, ...) {
    ps[c("price", "price_lower", "price_upper")] <- list(
      (lower + upper) / 2, lower, upper
    )
    ps$allowed <- 0.1
    say_set(ps, ...)
  }
  expect_match(say(-0.2, 0.05), "^Safe: ")
  expect_match(say(0.2, 0.5), "^Worse: ")
  expect_match(say(-0.2, 0.5), "^Inconclusive: ")
  cf <- list(
    statement = "inconclusive",
    price = 0.1,
    price_lower = -1,
    price_upper = 1.2,
    price_error = 0.5,
    margin = 0.1
  )
  expect_match(say(-0.2, 0.05, cf), "^Inconclusive: .*untouched rows")
  ps$chosen_share <- data.frame(
    predictor = c("peak_temp", "hold_minutes"), chosen = TRUE, share = c(1, 0)
  )
  expect_match(say_picked(ps), "by none: hold_minutes")
  whole <- choose_set(
    reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0, counts = 4),
    rule = "count",
    count = 4
  )
  cf <- confirm_set(whole, kiln$untouched[1:60, ], overlap = "allow")
  expect_identical(cf$statement, "the same set")
  expect_no_match(paste(format_set(whole), collapse = " "), "Next:")
})

test_that("the same set scores alike in a reduction and in a comparison", {
  forest <- ranger::ranger(
    strength ~ peak_temp + hold_minutes + cooling_rate, d, num.trees = 20, seed = 1
  )
  st <- study(forest, h, "strength", train = d)
  rd <- reduce_predictors(st, folds = 3, repeats = 2, inner_folds = 2, random = 0)
  cmp <- compare_sets(
    st,
    list(mine = c("cooling_rate", "hold_minutes", "peak_temp"), all = "all"),
    folds = 3,
    repeats = 2
  )
  expect_equal(cmp$score[2], as.data.frame(rd)$score[4])
  expect_equal(cmp$score[1], cmp$score[2])  # in whatever order it is named
})

test_that(
  "intervals whose sides differ are written out, and agreement is not claimed of little",
  {
    expect_identical(with_limits(0.6, 0.14, 2.56), "0.6 [0.1, 2.6]")
    expect_identical(with_limits(5, 4, 6), "5.0 \u00b11.0")
    expect_identical(with_limits(0, 0, 0), "0")
    x <- list(
      pairs = data.frame(tau = c(0.33, 0.5), shared = 8),
      predictors = data.frame(share = 0.1, range = 0),
      labels = character()
    )
    expect_match(say_agreement(x), "agree little")
    x$pairs$shared <- 3
    expect_match(say_agreement(x), "too few to say")
    st <- study(lm(strength ~ peak_temp + operator, d), h, "strength", train = d)
    expect_false(may_bend(h$peak_temp, "peak_temp", st$models))
    tree <- study(rpart::rpart(strength ~ peak_temp, d), h, "strength", train = d)
    expect_true(may_bend(h$peak_temp, "peak_temp", tree$models))
    near <- transform(d, copy = peak_temp + stats::rnorm(nrow(d), 0, 1e-3))
    flags <- rank_coefficients(study(
      lm(strength ~ peak_temp + copy + hold_minutes, near),
      transform(h, copy = peak_temp),
      "strength",
      train = near
    ))
    expect_setequal(
      flags$predictor[grepl("nearly aliased", flags$flag)], c("peak_temp", "copy")
    )
  }
)

test_that("looks at untouched rows are kept with the set's file", {
  st <- study(
    lm(strength ~ peak_temp + hold_minutes + cooling_rate, d), h, "strength", train = d
  )
  ps <- choose_set(
    reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0),
    rule = "count",
    count = 2
  )
  file <- file.path(
    {
      f <- tempfile("sets")
      dir.create(f)
      f
    },
    "set.json"
  )
  write_predictor_set(ps, file)
  read <- read_predictor_set(file)
  fresh <- kiln$untouched[61:140, ]
  confirm_set(read, fresh, study = st)
  expect_identical(length(read_predictor_set(file)$looks), 1L)
  expect_identical(length(read_looks(looks_beside(file))), 1L)
  looks_here$all <- list()  # as another process would find it
  expect_error(
    confirm_set(read_predictor_set(file), fresh, study = st), "confirmed on before, once"
  )
  write_predictor_set(ps, file)  # written anew: what stands beside it is still there
  expect_error(
    confirm_set(read_predictor_set(file), fresh, study = st), "confirmed on before, once"
  )
  expect_identical(
    confirm_set(read_predictor_set(file), fresh, study = st, again = TRUE)$looks, 2L
  )
})

# ---- cells of the field trial, small and quick --------------------------------------------------

walk <- function(model, train, holdout, target, ...) {
  st <- quietly(study(model, holdout, target, train = train, ...))
  rk <- rank_predictors(st, repeats = 2, background = 10)
  rd <- quietly(reduce_predictors(
    st,
    folds = 3,
    repeats = 1,
    inner_folds = 2,
    random = 2,
    counts = if (length(st$predictors) > 2) 0:2
  ))
  ps <- choose_set(rd)
  said <- c(
    format(st), format_scores(score_models(st)), format_ranking(rk), format_reduction(rd),
    format_set(ps)
  )
  expect_identical(said[nchar(cli::ansi_strip(said), "width") > 80], character())
  expect_true(all(is.finite(rk$importance)))
  expect_s3_class(ggplot2::autoplot(rd, set = ps), "ggplot")
  list(study = st, ranking = rk, set = ps)
}
part <- function(d) {
  list(train = d[seq_len(nrow(d)) %% 3 != 0, ], holdout = d[seq_len(nrow(d)) %% 3 == 0, ])
}

test_that("cells of the field trial: the whole job on eight data sets of others", {
  p <- part(mtcars)
  expect_match(
    say_set(walk(lm(mpg ~ wt + hp + cyl, p$train), p$train, p$holdout, "mpg")$set),
    "^(Safe|Worse|Inconclusive|By this rule|All)"
  )
  p <- part(warpbreaks)
  walk(
    glm(breaks ~ wool + tension, poisson, p$train),
    p$train,
    p$holdout,
    "breaks",
    metric = "poisson_deviance"
  )
  p <- part(iris)
  walk(nnet::multinom(Species ~ ., p$train, trace = FALSE), p$train, p$holdout, "Species")
  p <- part(airquality[!is.na(airquality$Ozone), ])
  walk(rpart::rpart(Ozone ~ ., p$train), p$train, p$holdout, "Ozone")
  p <- part(transform(MASS::birthwt, low = low == 1, race = as.character(race))[-10])
  walk(glm(low ~ age + race + smoke, binomial, p$train), p$train, p$holdout, "low")
  p <- part(transform(MASS::Insurance, Claims = as.integer(Claims)))
  walk(
    glm(Claims ~ District + Group + Age + offset(log(Holders)), poisson, p$train),
    p$train,
    p$holdout,
    "Claims"
  )
  p <- part(quakes)
  f <- MASS::rlm(mag ~ depth + stations, p$train)
  got <- walk(f, p$train, p$holdout, "mag")
  expect_equal(
    score_models(got$study)$score, sqrt(mean((predict(f, p$holdout) - p$holdout$mag)^2))
  )
  expect_no_match(paste(got$ranking$flag, collapse = " "), "leak")
  p <- part(cars)
  got <- walk(
    list(
      lm = lm(dist ~ speed, p$train),
      gam = mgcv::gam(dist ~ s(speed, k = 4), data = p$train)
    )["lm"],
    p$train,
    p$holdout,
    "dist"
  )
  expect_identical(got$set$predictors, "speed")
})

test_that(
  "discriminants, networks and machines are what they are, and are trained again so",
  {
    classes <- kiln_rows(260, drop = c("ring_tone", "strength", "tile_id", "batch"))[c(
        "peak_temp", "hold_minutes", "grog_share", "clay_source", "defect"
      )]
    two <- transform(classes, defect = factor(ifelse(defect == "none", "no", "yes")))
    numbers <- cbind(classes[1:4], strength = kiln$train$strength[1:260])
    set.seed(5)
    cases <- list(
      lda = list(MASS::lda(defect ~ ., classes), classes),
      qda = list(MASS::qda(defect ~ peak_temp + hold_minutes, two), two),
      net = list(nnet::nnet(defect ~ ., classes, size = 2, trace = FALSE), classes),
      net_two = list(nnet::nnet(defect ~ ., two, size = 2, trace = FALSE), two),
      net_number = list(
        nnet::nnet(strength ~ ., numbers, size = 2, linout = TRUE, trace = FALSE), numbers
      ),
      machine = list(e1071::svm(defect ~ ., classes, probability = TRUE), classes),
      machine_number = list(e1071::svm(strength ~ ., numbers), numbers)
    )
    for (name in names(cases)) {
      fit <- cases[[name]][[1]]
      rows <- cases[[name]][[2]]
      y <- names(rows)[5]
      st <- suppressWarnings(study(fit, rows[181:260, ], y, train = rows[1:180, ]))
      model <- st$models[[1]]
      own <- switch(
        class(fit)[1],
        lda = predict(fit, rows)$posterior,
        qda = predict(fit, rows)$posterior,
        nnet.formula = predict(fit, rows, type = "raw"),
        svm.formula = if (fit$type < 3) {
          attr(predict(fit, rows, probability = TRUE), "probabilities")[
            , levels(rows[[y]])
          ]
        } else {
          predict(fit, rows)
        }
      )
      own <- as.matrix(own)
      if (is.factor(rows[[y]]) && ncol(own) == 1) own <- cbind(1 - own, own)
      expect_equal(
        unname(as.matrix(predict_model(st, model, rows))), unname(own), label = name
      )
      again <- users_object(refit_model(
        model$object, rows[1:180, ], y, model$inputs$predictors[1:2]
      ))
      expect_identical(class(again), class(fit), label = name)
      again <- new_own_predict(again)
      again$way <- model$object$way
      expect_setequal(model_inputs(again)$predictors, model$inputs$predictors[1:2])
      rk <- suppressWarnings(rank_predictors(st, background = 3))
      expect_setequal(unique(rk$method), c("permutation", "shapley"))
    }
    expect_error(
      study(e1071::svm(defect ~ ., classes), classes, "defect"), "probability = TRUE"
    )
    expect_error(
      study(MASS::lda(as.matrix(classes[1:2]), classes$defect), classes, "defect"),
      "without a formula"
    )
    cox <- survival::coxph(survival::Surv(strength) ~ peak_temp, numbers)
    expect_error(study(cox, numbers, "strength"), "survival model")
  }
)
