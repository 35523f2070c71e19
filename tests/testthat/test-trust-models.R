# Models, functions and names that misbehave are named, or make no difference.

k <- demo_kiln(missing = FALSE)
tr <- k$train[1:300, ]
ho <- k$holdout[1:150, ]
m <- lm(strength ~ peak_temp + hold_minutes, tr)
own <- function(f, ...) {
  study(
    m, ho, "strength", train = tr, predict_with = f,
    predictors = c("peak_temp", "hold_minutes"), ...
  )
}
refused <- function(f, words) {
  expect_error(own(f), words, class = "dreher_error_model")
}

test_that("predictions that are no function of the row are refused, and why is said", {
  refused(function(m, d) predict(m, d) + rnorm(nrow(d)), "is random")
  refused(function(m, d) predict(m, d) + seq_len(nrow(d)), "order of the rows")
  refused(function(m, d) predict(m, d) - mean(predict(m, d)), "when other rows come with it")
  by_reference <- function(m, d) {
    data.table::set(d, j = "peak_temp", value = d$peak_temp * 0)
    predict(m, d)
  }
  before <- ho$peak_temp + 0
  refused(by_reference, "changes the rows")
  expect_identical(ho$peak_temp, before)
  # A seed of its own makes a random function one of the rows.
  seeded <- function(m, d) {
    vapply(d$peak_temp, function(x) {
      set.seed(round(x))
      x + rnorm(1)
    }, 0)
  }
  expect_s3_class(own(seeded), "dreher_study")
  # A function that cannot take a single row is no worse for it.
  expect_s3_class(
    own(function(m, d) apply(d[c("peak_temp", "hold_minutes")], 1, sum) * (nrow(d) > 0)),
    "dreher_study"
  )
})

test_that("the session is as found: random state, options, folder; also after an error", {
  set.seed(3)
  state <- .Random.seed
  folder <- getwd()
  messy <- function(m, d) {
    set.seed(1, kind = "Wichmann-Hill")
    options(digits = 3, dreher.mess = 1)
    setwd(tempdir()) # nolint: undesirable_function_linter.
    predict(m, d)
  }
  st <- own(messy, refit_with = function(model, data, predictors) {
    options(digits = 3)
    setwd(tempdir()) # nolint: undesirable_function_linter.
    lm(strength ~ ., data)
  }, metric = function(truth, predicted) {
    set.seed(1)
    mean(abs(truth - predicted))
  }, better = "lower")
  rank_permutation(st, repeats = 2)
  rank_refit(st, form = "leave_out")
  expect_error(own(function(m, d) {
    options(digits = 3)
    set.seed(9)
    stop("cold kiln")
  }))
  expect_identical(.Random.seed, state)
  expect_identical(getOption("digits"), 7L)
  expect_identical(getwd(), folder)
  rm(".Random.seed", envir = globalenv())
  own(messy)
  expect_false(exists(".Random.seed", globalenv(), inherits = FALSE))
})

test_that("errors of the user's functions say whose, on which row, and keep the cause", {
  cold <- function(m, d) {
    if (any(d$peak_temp == ho$peak_temp[7])) stop("cold kiln") else predict(m, d)
  }
  e <- expect_error(own(cold), "failed on the 150 rows", class = "dreher_error_model")
  expect_match(conditionMessage(e), "The first row it fails on alone is row 7")
  expect_match(conditionMessage(e$parent), "cold kiln")
  broken <- own(
    function(m, d) predict(m, d),
    metric = function(truth, predicted) stop("no scale"),
    better = "lower"
  )
  e <- expect_error(score_models(broken), "`metric` failed", class = "dreher_error_input")
  expect_match(conditionMessage(e$parent), "no scale")
  e <- expect_error(
    study(m, ho, "strength", train = tr, encode = function(d) stop("no code")),
    "encoder of model \"lm\" failed",
    class = "dreher_error_input"
  )
  expect_match(conditionMessage(e$parent), "no code")
  st <- study(m, ho, "strength", train = tr, refit_with = function(
      model, data, predictors) {
    stop("no clay")
  })
  e <- expect_error(rank_refit(st, form = "leave_out"), class = "dreher_error")
  expect_match(rlang::cnd_message(e), "no clay")
})

test_that("rows and targets from which nothing follows are refused or said", {
  expect_error(study(m, ho[1:2, ], "strength"), "2 rows; at least 3")
  expect_warning(
    study(m, ho[1:4, ], "strength"), "has 4 rows", class = "dreher_warning_rows"
  )
  expect_error(rank_permutation(own(predict), rows = ho[1, ]), "1 row; at least 3")
  flat <- ho
  flat$strength <- 3
  expect_error(study(m, flat, "strength"), "single value in `data`")
  vast <- ho
  vast$peak_temp[3] <- 1e308
  expect_error(
    study(m, vast, "strength"), "for row 3: its loss", class = "dreher_error_model"
  )
  vast <- ho
  vast$strength[5] <- 1e200
  expect_error(study(m, vast, "strength"), "beyond 1e70, in row 5")
  expect_error(
    study(lm(strength ~ 1, tr), ho, "strength"),
    "no predictor",
    class = "dreher_error_model"
  )
  expect_warning(
    study(m, ho, "strength", weights = "peak_temp"),
    "and a predictor of model",
    class = "dreher_warning_roles"
  )
  expect_warning(
    study(m, ho, "strength", dictionary = data.frame(predictor = "peek_temp")),
    "peek_temp",
    class = "dreher_warning_dictionary"
  )
  loans <- demo_loans()
  lt <- loans$train[1:300, ]
  g <- glm(returned_late ~ loan_days + reminders, binomial, lt)
  expect_warning(
    study(g, loans$holdout, "returned_late", train = lt[lt$returned_late == "no", ]),
    "Class \"yes\" of `data` is not in `train`",
    class = "dreher_warning_classes"
  )
  expect_error(
    flat_forest(
      0L, 1, c(NA, -1L, -1L), c(1, 0, 0), c(1L, 0L, 0L), c(2L, 0L, 0L), c(2L, 0L, 0L),
      matrix(1:3, 1), "a"
    ),
    "`column` has missing entries"
  )
  expect_error(
    flat_forest(0L, 1, c(0L, -1L, -1L), 1, 1L, 2L, 2L, matrix(1:3, 1), "a"),
    "differ in length"
  )
})

test_that("columns may have any name", {
  names <- c(
    "a`b", "a\nb", " a", "a ", "if", "=x", "$(x)", "`", "\\", "a\"b", "1", "NA", "\u00e9",
    "(a)"
  )
  rename <- function(d, name) {
    d <- d[c("strength", "peak_temp", "hold_minutes")]
    names(d)[2] <- name
    d
  }
  plain <- study(m, ho, "strength", train = tr)
  values <- function(st) rank_permutation(st, repeats = 2)$importance
  for (name in names) {
    d <- rename(tr, name)
    f <- lm(plain_formula("strength", c(name, "hold_minutes")), d)
    st <- study(f, rename(ho, name), "strength", train = d)
    expect_equal(values(st), values(plain), info = name)
    rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0)
    again <- lm(formula(choose_set(rd)), d)
    expect_s3_class(again, "lm")
  }
})

test_that("classes stand in one order, whatever the language of the machine", {
  y <- rep(c("Yes", "no", "\u00e9", "z"), 25)
  d <- data.frame(y = y, x = seq_along(y) / 10 + rnorm(100))
  says <- function(model, data) {
    p <- matrix(0.25, nrow(data), 4, dimnames = list(NULL, c("no", "Yes", "z", "\u00e9")))
    p
  }
  classes_in <- function(locale) {
    old <- Sys.getlocale("LC_COLLATE")
    on.exit(Sys.setlocale("LC_COLLATE", old))
    if (!nzchar(suppressWarnings(Sys.setlocale("LC_COLLATE", locale)))) return(NULL)
    study(1, d, "y", train = d[1:99, ], predict_with = says)$classes
  }
  own_order <- suppressWarnings(classes_in("C"))
  expect_identical(own_order, c("Yes", "no", "z", "\u00e9"))
  for (locale in c("en_US.UTF-8", "C.UTF-8", "de_DE.UTF-8")) {
    there <- suppressWarnings(classes_in(locale))
    if (!is.null(there)) expect_identical(there, own_order)
  }
})

test_that("a formula of a set read from a file is names, never code", {
  st <- study(m, ho, "strength", train = tr)
  rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0)
  file <- tempfile(fileext = ".json")
  write_predictor_set(choose_set(rd), file)
  mark <- tempfile("ran")
  text <- readLines(file)
  hostile <- paste0("a` + file.create('", mark, "') + `b")
  at <- grep("\"predictors\"", text)
  text[at] <- sub("\\[.*\\]", paste0("[\"", hostile, "\"]"), text[at])
  writeLines(text, file)
  set <- read_predictor_set(file)
  expect_identical(as.character(set), hostile)
  expect_error(lm(formula(set), tr), "not found")
  expect_false(file.exists(mark))
})
