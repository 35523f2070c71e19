d <- kiln_rows(200)
h <- kiln_rows(100, "holdout")
fit <- lm(strength ~ peak_temp + clay_source, d)

test_that("task, metric and direction are inferred and stated", {
  st <- study(fit, h, "strength", train = d)
  expect_identical(
    c(st$task, st$metric$name, st$metric$better), c("regression", "rmse", "lower")
  )
  l <- study(
    glm(returned_late ~ loan_days, binomial, loans$train), loans$holdout, "returned_late"
  )
  expect_identical(
    c(l$task, l$metric$name, l$classes[l$positive]), c("classification", "brier", "yes")
  )
  expect_snapshot(print(st))
})

test_that("bad input is named: argument, column, model, row, and what to do", {
  late <- loans$holdout
  gaps <- h
  gaps$strength[c(3, 9)] <- NA
  holes <- h
  holes$peak_temp[5] <- NA
  strange <- h
  strange$clay_source <- factor(c("moor", as.character(h$clay_source[-1])))
  twice <- h
  names(twice)[2] <- "clay_source"
  one <- late
  one$returned_late[] <- "no"
  short <- function(model, data) rep(1, nrow(data) - 1)
  nothing <- function(model, data) replace(rep(1, nrow(data)), 4, NA)
  words <- function(model, data) rep("no", nrow(data))
  three <- kiln_rows(100, "holdout", drop = "ring_tone")
  expect_snapshot(error = TRUE, {
    study(fit, h, "strenght")
    study(fit, gaps, "strength")
    study(fit, h[names(h) != "peak_temp"], "strength")
    study(fit, strange, "strength", train = d)
    study(fit, holes, "strength")
    study(fit, h[0, ], "strength")
    study(fit, twice, "strength")
    study(fit, h, "strength", metric = "auc")
    study(fit, h, "strength", metric = "speed")
    study(1, one, "returned_late", predict_with = short)
    study(1, h, "strength", predict_with = short)
    study(1, h, "strength", predict_with = nothing)
    study(1, late, "returned_late", predict_with = words)
    study(1, h, "strength")
    study(fit, h, "strength", treshold = 3)
    study(list(), h, "strength")
    study(list(a = fit, a = fit), h, "strength")
    study(1, three, "defect", predict_with = function(model, data) rep(0.5, nrow(data)))
    study(fit, h, "strength", dictionary = data.frame(predictor = "a", price = 1))
  })
})

test_that("columns of odd names and matrices work; lists do not", {
  odd <- data.frame(y = rnorm(60), a = rnorm(60), b = rnorm(60))
  names(odd) <- c("y", "if", "<script>alert('x')</script> \"q\" \u00e4")
  for (m in list(
      lm(y ~ ., odd),
      rpart::rpart(y ~ ., odd),
      small_forest(dependent.variable.name = "y", data = odd, formula = NULL)
    )) {
    st <- study(m, odd, "y", train = odd)
    expect_setequal(st$predictors, names(odd)[-1])
    rk <- rank_predictors(
      st, by = c("permutation", "shapley"), repeats = 3, background = 10
    )
    expect_setequal(rk$predictor, names(odd)[-1])
    rd <- reduce_predictors(st, folds = 2, repeats = 1, inner_folds = 2)
    expect_s3_class(choose_set(rd), "dreher_set")
  }
  expect_s3_class(study(lm(y ~ ., odd), as.matrix(odd), "y"), "dreher_study")
  odd$l <- as.list(1:60)
  expect_error(study(m, odd, "y"), "neither numbers", class = "dreher_error_input")
})

test_that("a score and its limits lie within what a score can be", {
  brier <- list(name = "brier", better = "lower")
  r2 <- list(name = "r2", better = "higher")
  limits <- list(lower = -0.1, upper = 1.2)
  expect_identical(possible_score(c(-0.1, 0.2), brier), c(0, 0.2))
  expect_identical(within_score(brier, limits), list(lower = 0, upper = 1.2))
  expect_identical(within_score(r2, limits), list(lower = -0.1, upper = 1))
  own <- list(name = "gain", better = "higher")
  expect_identical(possible_score(c(-3, 7), own), c(-3, 7))
})

test_that("scores: intervals, the constant, training rows, no skill", {
  st <- study(
    list(good = fit, none = lm(strength ~ 1 + clay_moisture, d)), h, "strength", train = d
  )
  s <- score_models(st)
  e <- (h$strength - predict(fit, h))^2
  expect_equal(s$score[1], sqrt(mean(e)), tolerance = 1e-12)
  expect_equal(s$std_error[1], sd(e) / sqrt(100) / (2 * sqrt(mean(e))), tolerance = 1e-12)
  expect_equal(
    s$constant[1], sqrt(mean((h$strength - mean(d$strength))^2)), tolerance = 1e-12
  )
  expect_identical(s$flag, c("", "no skill"))
  expect_equal(s$train_score[1], sqrt(mean(residuals(fit)^2)), tolerance = 1e-12)
  own <- study(
    fit,
    h,
    "strength",
    train = d,
    metric = function(truth, predicted) mean(abs(truth - predicted)),
    better = "lower"
  )
  mae <- study(fit, h, "strength", train = d, metric = "mae")
  expect_equal(score_models(own)$score, score_models(mae)$score, tolerance = 1e-12)
  ratio <- score_models(own)$std_error / score_models(mae)$std_error
  expect_true(ratio > 0.5 && ratio < 2)
  expect_error(
    study(
      fit, h, "strength", metric = function(truth, predicted) NA_real_, better = "lower"
    ) |> score_models(),
    "single number"
  )
})

test_that(
  paste0(
    "training rows a model left out spoil no score; a direction against the metric's ",
    "own is refused"
  ),
  {
    gaps <- d
    gaps$peak_temp[1:5] <- NA
    st <- study(lm(strength ~ peak_temp, gaps), h, "strength", train = gaps)
    expect_identical(score_models(st)$train_score, NA_real_)
    expect_s3_class(rank_permutation(st), "dreher_ranking")
    expect_error(
      study(fit, h, "strength", metric = "rmse", better = "higher"), "lower is better"
    )
  }
)

test_that("AUC equals its definition with ties, and its error DeLong's worked by hand", {
  truth <- c(TRUE, TRUE, TRUE, FALSE, FALSE, FALSE, FALSE)
  score <- c(.9, .5, .4, .5, .3, .2, .4)
  pairs <- outer(score[truth], score[!truth], function(a, b) (a > b) + (a == b) / 2)
  a <- auc_parts(truth, score)
  expect_equal(a$auc, mean(pairs))
  # the same order at tiny probabilities
  expect_equal(auc_parts(truth, score * 1e-15)$auc, a$auc)
  v <- var(rowMeans(pairs)) / 3 + var(colMeans(pairs)) / 4
  u <- a$u
  expect_equal(sum(u[truth]^2) / 7^2 * 3 / 2 + sum(u[!truth]^2) / 7^2 * 4 / 3, v)
})

test_that("tables are read, and what was read is said", {
  file <- tempfile(fileext = ".csv")
  writeLines(c("a;b;ort", "1,5;NA;K\u00f6ln", "2,5;4;Ulm"), file, useBytes = TRUE)
  expect_message(
    x <- read_rows(file),
    "2 rows, 3 columns separated by a semicolon",
    class = "dreher_message_read"
  )
  expect_identical(x$a, c(1.5, 2.5))
  expect_identical(attr(x, "read")$missing[["b"]], 1L)
  expect_error(
    read_rows("nowhere.csv"), "no file \"nowhere.csv\"", class = "dreher_error_input"
  )
  expect_error(read_rows(tempdir()), "folder")
  writeLines(character(), file)
  expect_error(read_rows(file), "empty")
  writeBin(as.raw(c(80, 75, 0, 1, 0)), file)
  expect_error(read_rows(file), "not a text file")
  writeLines(c("a,b,a", "1,2,3"), file)
  expect_error(read_rows(file), "duplicated column names: \"a\"")
  writeLines("a,b", file)
  expect_error(read_rows(file), "no rows")
})

test_that("suspects are found: leak, identifier, constant, duplicate, derived, missing", {
  full <- kiln_raw$train
  full$same <- 1
  full$fahrenheit <- full$peak_temp * 1.8 + 32
  rows <- kiln_raw$holdout
  rows$same <- 1
  rows$fahrenheit <- rows$peak_temp * 1.8 + 32
  st <- study(
    lm(strength ~ peak_temp + hold_minutes, full), rows, "strength", train = full
  )
  found <- check_data(st)
  says <- function(p) found$finding[found$predictor == p]
  expect_identical(found$severity, rep("note", nrow(found)))
  expect_true("leak" %in% says("ring_tone"))
  expect_identical(says("tile_id"), "identifier")
  expect_identical(says("same"), "constant")
  expect_identical(says("fahrenheit"), "copy")
  expect_true("derived" %in% says("water_loss"))
  expect_identical(says("batch"), "many levels")
  expect_identical(says("drying_humidity"), "missing")
  expect_false(any(
    c("peak_temp", "grog_share", "cooling_rate") %in% found$predictor
  ))
})

test_that(
  paste0(
    "of classes numbered 0 and 1 the positive one is 1; strange classes ",
    "are refused"
  ),
  {
    rows <- loans$train[1:200, ]
    rows$late <- as.integer(rows$returned_late) - 1L
    set.seed(1)
    fit <- suppressWarnings(gbm::gbm(
      late ~ earlier_late + loan_days, "bernoulli", rows, n.trees = 20
    ))
    named <- study(
      fit, loans$holdout, "returned_late", train = loans$train[1:200, ], positive = "yes"
    )
    p <- predict(fit, loans$holdout, n.trees = 20, type = "response")
    expect_equal(
      predict_model(named, named$models[[1]], loans$holdout)[, "yes"],
      p,
      tolerance = 1e-12
    )
    expect_lt(score_models(named)$score, 0.25)
    moods <- loans$holdout
    moods$returned_late <- factor(ifelse(moods$returned_late == "yes", "late", "timely"))
    logit <- glm(returned_late ~ loan_days, binomial, rows)
    expect_error(
      study(logit, moods, "returned_late"),
      "predicts the classes \"no\" and \"yes\"",
      class = "dreher_error_study"
    )
  }
)

test_that("numbers and text of a file are what they say, or what is doubtful is said", {
  file <- tempfile(fileext = ".csv")
  read <- function(...) {
    writeLines(c(...), file, useBytes = TRUE)
    read_rows(file, quiet = TRUE)
  }
  expect_warning(x <- read("a,b", "1,\"1,234\"", "2,\"5,678\""), "decimals or thousands")
  expect_identical(x$b, c("1,234", "5,678"))
  x <- read("a;b;c", "1,5;2;0.5", "2;3,25;1.5")
  expect_equal(as.list(x[1:3]), list(a = c(1.5, 2), b = c(2, 3.25), c = c(0.5, 1.5)))
  expect_error(read("a,b", "1,2", "3,4,5", "6,7"), "same number of fields")
  expect_identical(read("a,b", "1,2", "3,4")$b, c(2L, 4L))
  expect_warning(x <- read("a,b", "1,K\xf6ln", "2,Ulm"), "not UTF-8")
  expect_identical(x$b, c("K\u00f6ln", "Ulm"))
  expect_identical(read("a,b", "1,\"say \"\"hi\"\"\"", "2,x")$b[1], "say \"hi\"")
  expect_identical(read("a,b", "007,2", "010,4")$a, c("007", "010"))
  expect_identical(
    read("a,b", "9007199254740993,2", "9007199254740995,4")$a,
    c("9007199254740993", "9007199254740995")
  )
  expect_identical(read("a,b", "900719925474,2", "900719925475,4")$a, 900719925474 + 0:1)
  expect_identical(names(read("NA,b", "1,2", "3,4")), c("NA", "b"))
  expect_identical(read("a,b,c,d", "1,n/a,-,NULL", "3,4,5,6")$c, c(NA, 5L))
})
