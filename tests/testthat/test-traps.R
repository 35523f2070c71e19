# Tables that lead an honest tool astray, and what must be said or refused of each: the quickest of
# bench/traps.R, which holds them all.

coded_rows <- function(n = 500, seed = 1) {
  set.seed(seed)
  d <- data.frame(x = stats::rnorm(n), z = stats::rnorm(n))
  d$y01 <- stats::rbinom(n, 1, stats::plogis(2 * d$x))
  d$word <- ifelse(d$y01 == 1, "bad", "good")
  d
}

plain_rows <- function(n = 400, seed = 1) {
  set.seed(seed)
  d <- data.frame(a = stats::rnorm(n), b = stats::rnorm(n), c = stats::rnorm(n))
  d$y <- d$a + 0.7 * d$b + stats::rnorm(n)
  d
}

linear_study <- function(d, target = "y", ...) {
  part <- seq_len(round(0.6 * nrow(d)))
  fit <- stats::lm(stats::reformulate(".", target), d[part, ])
  suppressWarnings(study(fit, d[-part, ], target, train = d[part, ], ...))
}

graded <- function(d, predictor, kinds = c("leak", "tells nearly all")) {
  found <- as.data.frame(suppressWarnings(check_data(linear_study(d))))
  found <- found[found$predictor == predictor & found$finding %in% kinds, ]
  c("severe", "doubt", "note", "none")[
    min(match(found$severity, c("severe", "doubt", "note")), 4)
  ]
}

as_csv <- function(d, ...) {
  file <- withr::local_tempfile(fileext = ".csv", .local_envir = parent.frame())
  utils::write.csv(d, file, ...)
  file
}

test_that("a model of 0 and 1 never guesses which word is 1", {
  d <- coded_rows()
  train <- d[1:300, ]
  fit <- stats::glm(y01 ~ x + z, stats::binomial, train)
  make <- function(...) study(fit, d[301:500, ], "word", train = train, ...)
  expect_error(make(), "fit 1 = \"bad\"", class = "dreher_error_study")
  st <- make(positive = "bad")
  truth <- d$y01[301:500]
  p <- stats::predict(fit, d[301:500, ], type = "response")
  expect_equal(score_models(st)$score, mean((p - truth)^2))
  wrong <- make(positive = "good")
  expect_match(score_models(wrong)$verdict, "^No: its predictions run against the target")
  checks <- check_data(wrong)
  expect_identical(checks$severity[checks$finding == "against the target"], "severe")
  # refits number the classes as the model does
  skip_if_not_installed("xgboost")
  booster <- xgboost::xgb.train(
    list(objective = "binary:logistic", max_depth = 2, nthread = 1),
    xgboost::xgb.DMatrix(as.matrix(train[c("x", "z")]), label = train$y01),
    nrounds = 20
  )
  st <- study(booster, d[301:500, ], "word", train = train, positive = "bad")
  rk <- suppressWarnings(rank_predictors(
    st, by = "permutation", resamples = draw_resamples(train, "bootstrap", times = 3)
  ))
  expect_gt(mean(rk$importance[rk$predictor == "x"]), 0.02)
  # of TRUE and FALSE 1 is TRUE, whatever is positive
  d$truth <- d$y01 == 1
  st <- study(fit, d[301:500, ], "truth", train = transform(train, truth = y01 == 1))
  expect_equal(score_models(st)$score, mean((p - truth)^2))
})

test_that("words among numbers are gaps where they can be nothing else", {
  d <- plain_rows()
  text <- format(round(d$b, 2), trim = TRUE)
  d$b <- ifelse(seq_len(400) %% 40 == 0, "k.A.", text)
  d$c <- ifelse(seq_len(400) %% 50 == 0, "ca. 3", format(round(d$c, 2), trim = TRUE))
  file <- as_csv(d, row.names = FALSE)
  said <- testthat::capture_warnings(x <- read_rows(file, quiet = TRUE))
  expect_match(said[1], "\"k.A.\" (10 rows)", fixed = TRUE)
  expect_match(said[2], "\"ca. 3\" (8 rows)", fixed = TRUE)
  expect_equal(x$b, suppressWarnings(as.double(d$b)))
  expect_type(x$c, "character")
  named <- suppressWarnings(read_rows(file, missing = list(c = "ca. 3"), quiet = TRUE))
  expect_equal(named$c, suppressWarnings(as.double(d$c)))
  expect_error(read_rows(file, types = c(c = "number"), quiet = TRUE), "first is row 50")
  expect_type(
    suppressWarnings(read_rows(file, types = c(b = "text"), quiet = TRUE))$b, "character"
  )
  expect_error(read_rows(file, missing = list("x")), "named by columns")
  expect_error(read_rows(file, types = c(b = "words")), "types")
})

test_that("the dictionary and the study file say marks and types", {
  d <- plain_rows(300)
  d$b <- ifelse(seq_len(300) %% 30 == 0, "ca. 3", format(round(d$b, 2), trim = TRUE))
  folder <- withr::local_tempdir()
  utils::write.csv(d, file.path(folder, "d.csv"), row.names = FALSE)
  utils::write.csv(
    data.frame(predictor = "b", type = "number", missing = "ca. 3, x"),
    file.path(folder, "dict.csv"),
    row.names = FALSE
  )
  lines <- c(
    "dreher: 1", "data:", "  file: d.csv", "  split: {holdout: 0.3, untouched: 0}",
    "target: 'y'", "models: {linear: {learner: linear}}"
  )
  file <- file.path(folder, "study.yml")
  writeLines(c(lines, "dictionary: dict.csv"), file)
  expect_type(file_tables(sound_spec(file))$train$b, "double")
  writeLines(append(lines, "  missing: ['ca. 3']", 3), file)
  expect_type(file_tables(sound_spec(file))$train$b, "double")
  utils::write.csv(
    data.frame(predictor = "b", type = "amount"), file.path(folder, "dict.csv"),
    row.names = FALSE
  )
  expect_error(read_dictionary(file.path(folder, "dict.csv")), "column \"type\"")
})

test_that("row names are named, found and left out of drafts", {
  d <- plain_rows(30)
  d$y <- d$y + seq_len(30)
  file <- as_csv(d)
  expect_identical(names(read_rows(file, quiet = TRUE))[1], "row_names")
  draft <- withr::local_tempfile(fileext = ".yml")
  suppressWarnings(draft_study(file, "y", file = draft))
  expect_true(any(grepl("- row_names", readLines(draft))))
  expect_identical(
    graded(transform(plain_rows(), index = seq_len(400)), "index", "identifier"), "severe"
  )
})

test_that("numbers that stand for gaps are a doubt, ends of a scale are not", {
  d <- plain_rows()
  d$age <- sample(18:90, 400, TRUE)
  expect_identical(graded(d, "age", "number for a gap"), "none")
  for (mark in c(-9, 999)) {
    marked <- transform(d, age = replace(age, seq(2, 400, 40), mark))
    expect_identical(graded(marked, "age", "number for a gap"), "doubt")
  }
  # by hand: three times 99 far above, but only twice; a scale that ends in -9
  expect_null(gap_mark(c(1:20, 99, 99)))
  expect_equal(gap_mark(c(1:20, rep(999, 3)))$count, 3)
  expect_null(gap_mark(rep(-9:9, 5)))
})

test_that("a leak is a question at least, and a stronger one never less", {
  leaky <- function(noise) {
    d <- plain_rows()
    set.seed(3)
    transform(d, leak = y + noise * stats::sd(y) * stats::rnorm(400))
  }
  grade <- vapply(c(0, 0.005, 0.02, 0.1, 0.25), function(s) graded(leaky(s), "leak"), "")
  expect_identical(grade, c("severe", "severe", "doubt", "doubt", "doubt"))
  verdict <- score_models(linear_study(leaky(0.05)))$verdict
  expect_match(verdict, "^With care: was `leak` known before the target")
  # halves, each far from telling it
  d <- plain_rows()
  set.seed(4)
  u <- stats::rnorm(400, sd = 2)
  halves <- transform(d, one = y / 2 + u, two = y / 2 - u + 0.02 * stats::rnorm(400))
  expect_identical(graded(halves, "one"), "doubt")
  # an honest strong predictor, with others that add to it
  honest <- transform(d, y = 10 * a + b + stats::rnorm(400))
  expect_identical(graded(honest, "a"), "none")
  expect_identical(say_nearly_all(0.9999), "all but less than 0.1 %")
  expect_identical(say_nearly_all(0.9969), "99.6 %")
})

test_that("the share told alone is that of its definition", {
  set.seed(1)
  x <- sample(5, 200, TRUE)
  y <- x^2 + stats::rnorm(200)
  part <- parts_of(200)
  column <- checked_column(list(x))
  told <- told_in_bins(column, matrix(y - mean(y)), part)
  # by hand: means of the other parts, value by value
  fitted <- vapply(seq_len(200), function(i) mean(y[x == x[i] & part != part[i]]), 0)
  expect_equal(told, 1 - sum((y - fitted)^2) / sum((y - mean(y))^2))
})

test_that("rows of one unit on both sides of a split", {
  set.seed(3)
  unit <- rep(1:60, each = 5)
  d <- data.frame(
    patient = paste0("p", unit), weight = round(stats::rnorm(60, 70, 9), 1)[unit],
    height = round(stats::rnorm(60, 170, 8), 1)[unit], dose = stats::rnorm(300)
  )
  d$y <- stats::rnorm(60)[unit] + 0.3 * d$dose + stats::rnorm(300, sd = 0.4)
  shuffled <- d[sample(300), ]
  found <- function(rows, ...) {
    st <- linear_study(rows, ...)
    checks <- check_data(st)
    checks$severity[checks$finding == "clustered rows"]
  }
  bare <- function(rows) {
    part <- 1:180
    suppressWarnings(study(
      stats::lm(y ~ dose, rows[part, ]), rows[-part, ], "y", train = rows[part, ]
    ))
  }
  severity <- function(st) {
    checks <- check_data(st)
    checks$severity[checks$finding == "clustered rows"]
  }
  expect_identical(severity(bare(shuffled)), "severe")
  expect_identical(severity(bare(shuffled[-1])), "doubt")
  # parted by units: nothing to accuse
  expect_identical(severity(bare(d)), character())
  expect_true(called_unit("PatientID") && called_unit("subject_no") && !called_unit("region"))
})

test_that("offsets, training rows under other names, and numbers as text", {
  d <- plain_rows()
  d$days <- stats::runif(400, 1, 9)
  train <- d[1:250, ]
  beside <- stats::lm(y ~ a, train, offset = log(days))
  inside <- stats::lm(y ~ a + offset(log(days)), train)
  st <- study(beside, d[251:400, ], "y", train = train)
  expect_setequal(st$predictors, c("a", "days"))
  expect_equal(
    predict_model(st, st$models[[1]], st$data)[, 1],
    unname(stats::predict(inside, d[251:400, ]))
  )
  refit <- refit_model(st$models[[1]]$object, train, "y", c("a", "days"))
  expect_equal(unname(stats::coef(refit)), unname(stats::coef(inside)))
  o <- log(train$days)
  expect_error(
    study(stats::lm(y ~ a, train, offset = o), d[251:400, ], "y", train = train),
    "no column"
  )
  rk <- suppressWarnings(rank_permutation(
    st, rows = list(old = train, new = d[251:400, ])
  ))
  expect_true(all(is.na(rk$lower[rk$rows == "old"])))
  expect_true(all(grepl("training rows", rk$flag[rk$rows == "old"])))
  text <- transform(d[251:400, ], a = as.character(a))
  expect_warning(read <- study(inside, text, "y", train = train), "taken so")
  expect_equal(read$data$a, d$a[251:400])
})

test_that("what cannot be trained again is refused before the work", {
  d <- plain_rows()
  d$w <- stats::runif(400)
  st <- study(
    stats::lm(y ~ a, d[1:250, ], weights = w), d[251:400, ], "y", train = d[1:250, ]
  )
  expect_error(reduce_predictors(st), "weights", class = "dreher_error_model")
  expect_error(noise_floor(st, refits = 19), "weights", class = "dreher_error_model")
  expect_error(rank_refit(st), "weights", class = "dreher_error_model")
})

test_that("blocks of text hold over resamples", {
  d <- plain_rows()
  d$block <- paste0("b", rep(1:40, each = 10))
  st <- study(
    stats::lm(y ~ a + b, d[1:250, ]), d[251:400, ], "y", train = d[1:250, ], blocks = "block"
  )
  by_number <- d
  by_number$block <- as.integer(sub("b", "", d$block))
  same <- study(
    stats::lm(y ~ a + b, d[1:250, ]), by_number[251:400, ], "y", train = by_number[1:250, ],
    blocks = "block"
  )
  ranked <- function(st) {
    rank_predictors(
      st, by = "permutation",
      resamples = draw_resamples(st$train, "bootstrap", times = 3, blocks = "block")
    )$importance
  }
  expect_equal(ranked(st), ranked(same))
})

test_that("levels of ten rows are kept, and what is joined is told", {
  set.seed(2)
  town <- rep(paste0("t", 1:30), 20)
  d <- data.frame(town, note = paste0("n", sample(400, 600, TRUE)), x = stats::rnorm(600))
  d$y <- stats::rnorm(30)[as.integer(sub("t", "", town))] * 2 + d$x
  coder <- make_coder(d[c("town", "note")], learner_table()$linear)
  expect_identical(attr(coder, "joined")$predictor, "note")
  expect_identical(attr(coder, "joined")$kept, 0L)
  expect_identical(sum(attr(coder(d), "stems_from") == "town"), 30L)
})

test_that(
  "the better model is reduced, and a better one's predictors are not passed over",
  {
    set.seed(3)
    d <- data.frame(
      a = stats::rnorm(700), b = stats::rnorm(700), bent = stats::rnorm(700)
    )
    d$y <- d$a + 0.5 * d$b + 2 * abs(d$bent) + 0.4 * stats::rnorm(700)
    train <- d[1:400, ]
    st <- study(
      list(
        linear = stats::lm(y ~ ., train),
        forest = small_forest(y ~ ., train, 30, keep.inbag = TRUE)
      ),
      d[401:700, ],
      "y",
      train = train
    )
    expect_identical(best_model(st), "forest")
    rd <- reduce_predictors(
      st, models = "linear", folds = 3, repeats = 1, inner_folds = 2, random = 0
    )
    set <- choose_set(rd)
    expect_match(say_set(set), "for linear")
    said <- say_other_model(set, score_models(st), rank_permutation(st))
    expect_match(said, "forest predicts better than linear .* ranks bent among its first")
    expect_null(say_other_model(NULL, NULL, NULL))
  }
)

test_that("sensitive predictors are marked and doubtful models carry their verdict", {
  d <- plain_rows()
  d$y <- stats::rnorm(400)
  known <- data.frame(predictor = c("a", "b", "c"), sensitive = c(TRUE, FALSE, FALSE))
  st <- linear_study(d, dictionary = known)
  expect_identical(unname(labels_of(st, c("a", "b"))), c("a (sensitive)", "b"))
  said <- paste(capture.output(print(effect_curves(st))), collapse = " ")
  expect_match(said, "cannot be interpreted: it is not shown to beat a constant")
  expect_no_match(said, "rises from")
  expect_match(sentences_of_directions(contributions(st)), "cannot be interpreted")
})

test_that("thinning leaves no pair that predicts each other", {
  set.seed(2)
  f <- stats::rnorm(400)
  g <- f + stats::rnorm(400, sd = 0.62)
  d <- as.data.frame(lapply(list(f, f, f, g, g, g), function(v) {
    v + stats::rnorm(400, sd = 0.2)
  }))
  names(d) <- c("f1", "f2", "f3", "g1", "g2", "g3")
  t <- as.data.frame(find_twins(d))
  stay <- t$predictor[t$representative]
  expect_length(stay, 2)
  each <- outer(stay, stay, Vectorize(function(x, y) how_far_told(d[[x]], d[[y]])))
  expect_true(all(each[row(each) != col(each)] < 0.7))
})

test_that("groups act together only where the model says so", {
  set.seed(2)
  d <- data.frame(a = stats::rnorm(500), c = stats::rnorm(500))
  d$b <- 0.8 * d$a + 0.6 * stats::rnorm(500)
  d$y <- d$a + d$b + d$c + stats::rnorm(500)
  d$z <- 3 * d$a * d$b + d$c + stats::rnorm(500)
  train <- d[1:300, ]
  of <- function(fit, target) {
    st <- study(fit, d[301:500, ], target, train = train)
    rk <- rank_permutation(st, groups = list(ab = c("a", "b")))
    list(
      ranking_details(rk, "members")$interplay[1],
      paste(capture.output(print(rk)), collapse = " ")
    )
  }
  sums <- of(stats::lm(y ~ a + b + c, train), "y")
  expect_lt(sums[[1]], 1e-20)
  expect_match(sums[[2]], "The model adds up what they tell")
  expect_gt(of(stats::lm(z ~ a * b + c, train), "z")[[1]], 0.1)
})

test_that("drift is the distance of Kolmogorov and Smirnov, with ties and gaps", {
  set.seed(1)
  x <- c(stats::rnorm(90), stats::rnorm(60, 0.4))
  set <- rep(1:2, c(90, 60))
  ks <- suppressWarnings(stats::ks.test(x[set == 1], x[set == 2]))
  expect_equal(largest_gap(x, set), unname(ks$statistic))
  tied <- round(x)
  at <- sort(unique(tied))
  gap <- max(abs(stats::ecdf(tied[set == 1])(at) - stats::ecdf(tied[set == 2])(at)))
  expect_equal(largest_gap(tied, set), gap)
  # gaps come last: by hand
  expect_equal(largest_gap(c(1, NA, 1, 1), c(1, 1, 2, 2)), 0.5)
})

test_that("the same ranking twice agrees, whatever its ties", {
  x <- c(a = 1, b = 0, c = 0, d = 0, e = 0)
  expect_equal(agreement_top(x, x, 3), 1)
  # by hand: a for certain, two of four places for b to e; and b for certain with two of four
  y <- c(a = 0, b = 1, c = 0, d = 0, e = 0)
  expect_equal(agreement_top(x, y, 3), (0.5 + 0.5 + 0.5 * 3) / (1 + 1 + 0.5 * 3))
})

test_that("what comes in only jointly has no value of its own by impurity", {
  set.seed(3)
  d <- data.frame(a = stats::rnorm(300), d = stats::rnorm(300))
  d$b <- d$a + 0.4 * stats::rnorm(300)
  d$y <- d$a + d$d + 0.5 * stats::rnorm(300)
  code <- function(rows) cbind(sum = rows$a + rows$b, d = rows$d)
  train <- d[1:200, ]
  fit <- small_forest(y ~ ., data.frame(code(train), y = train$y), 20, keep.inbag = TRUE)
  st <- study(fit, d[201:300, ], "y", train = train, encode = code)
  rk <- rank_predictors(st, by = c("impurity", "permutation"))
  expect_setequal(rk$predictor[rk$method == "impurity"], c("a & b", "d"))
  expect_setequal(rk$predictor[rk$method == "permutation"], c("a", "b", "d"))
  expect_match(ranking_details(rk, "left_out")$why, "a and b come in only together, as a & b")
})

test_that("every step takes a study file, with its section and without", {
  folder <- withr::local_tempdir()
  utils::write.csv(
    cbind(plain_rows(300), k = c("u", "v", "w")),
    file.path(folder, "d.csv"),
    row.names = FALSE
  )
  bare <- c(
    "dreher: 1", "data:", "  file: d.csv", "  split: {holdout: 0.3, untouched: 0.2}",
    "target: 'y'", "models: {linear: {learner: linear}}"
  )
  sections <- c(
    "checks:", "rank: {by: [permutation]}", "stability: {times: 3}",
    "reduce: {folds: 3, repeats: 1, random: 0}", "confirm: {margin: '2 %'}", "effects:",
    "interactions:", "contributions:", "slices: {by: [k]}",
    "compare: {sets: {all: all, one: [a]}}"
  )
  writeLines(bare, file.path(folder, "bare.yml"))
  writeLines(c(bare, sections), file.path(folder, "full.yml"))
  steps <- list(
    check = NULL,
    score = NULL,
    rank = c("--repeats", "2"),
    effects = NULL,
    interactions = NULL,
    slices = c("--slices", "k"),
    row = c("--which", "1"),
    compare = c("--sets", "all; one: a"),
    stability = c("--times", "3"),
    reduce = c("--folds", "3", "--repeats", "1", "--random", "0")
  )
  ended <- function(step, file, more) {
    status <- NULL
    suppressMessages(utils::capture.output(utils::capture.output(
      status <- main_command(c(
        step, "--study", file.path(folder, file), "--format", "text", more
      )),
      type = "message"
    )))
    status
  }
  for (step in names(steps)) {
    expect_identical(ended(step, "bare.yml", steps[[step]]), 0L, label = step)
    own <- if (step == "compare") steps[[step]] else if (step == "row") c("--which", "1")
    expect_identical(ended(step, "full.yml", own), 0L, label = step)
  }
  # a set is confirmed where there is one, and what is missing is said in our words
  expect_identical(ended("confirm", "bare.yml", NULL), 2L)
})
