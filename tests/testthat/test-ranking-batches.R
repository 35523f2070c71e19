kiln <- demo_kiln(missing = FALSE)
kiln$train$load <- seq_len(nrow(kiln$train)) %% 3
kiln$holdout$load <- seq_len(nrow(kiln$holdout)) %% 4

# The same study with its rows in memory and on disk.
both_studies <- function(models, target, ..., at_once = 150, rows = kiln$holdout) {
  on_disk <- open_rows(rows, in_memory = 200, at_once = at_once, quiet = TRUE)
  ask <- function(data) study(models, data, target, train = kiln$train, ...)
  list(memory = ask(rows), disk = ask(on_disk))
}

expect_same_ranking <- function(st, ...) {
  a <- as.data.frame(rank_permutation(st$memory, ...))
  b <- as.data.frame(rank_permutation(st$disk, ...))
  expect_equal(b, a, tolerance = 1e-10)
}

numbers <- list(
  line = lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train),
  forest = ranger::ranger(
    strength ~ peak_temp + hold_minutes + cooling_rate + operator + grog_share, kiln$train,
    num.trees = 30, seed = 1, num.threads = 1
  ),
  near = stats::loess(
    strength ~ peak_temp + hold_minutes, kiln$train,
    control = stats::loess.control(surface = "direct")
  )
)
near <- list(near = function(model, data) predict(model, data))
asked <- c("peak_temp", "hold_minutes")

test_that("rows on disk are ranked as rows in memory: numbers, all kinds of models", {
  for (metric in c("rmse", "mae", "r2")) {
    st <- both_studies(
      numbers, "strength", metric = metric, predict_with = near, predictors = asked
    )
    expect_same_ranking(st)
    expect_identical(st$disk$fingerprint, st$memory$fingerprint)
    expect_identical(nrow(st$disk$data), 200L)
  }
  weighted <- both_studies(
    numbers, "strength", metric = "r2", weights = "load", predict_with = near,
    predictors = asked
  )
  expect_same_ranking(weighted, repeats = 3)
  expect_length(dir(tempdir(), "^shuffled"), 0)
  expect_match(capture.output(print(rank_permutation(st$disk))), "600 rows", all = FALSE)
  # batches of any size, also of fewer rows than there are repeats
  for (at_once in c(100, 101, 599)) {
    other <- both_studies(
      numbers[1:2], "strength", metric = "r2", at_once = at_once
    )
    expect_same_ranking(other, repeats = 10)
  }
  expect_same_ranking(other, repeats = 130, form = "difference")
  expect_same_ranking(other, groups = list(firing = c("peak_temp", "hold_minutes")))
  ratio <- both_studies(numbers[1:2], "strength")
  expect_same_ranking(ratio, form = "ratio", repeats = "auto")
})

test_that("rows on disk are ranked as rows in memory: classes", {
  forest <- ranger::ranger(
    defect ~ peak_temp + cooling_rate + glaze_thickness + operator, kiln$train,
    num.trees = 30, probability = TRUE, seed = 1, num.threads = 1
  )
  line <- nnet::multinom(defect ~ peak_temp + cooling_rate, kiln$train, trace = FALSE)
  for (metric in c("brier", "log_loss", "accuracy")) {
    st <- both_studies(list(forest = forest, line = line), "defect", metric = metric)
    expect_same_ranking(st, repeats = 4)
  }
  text <- kiln$holdout
  text$defect <- as.character(text$defect)
  text$operator <- as.character(text$operator)
  expect_same_ranking(both_studies(forest, "defect", rows = text), repeats = 4)
})

test_that("moments say of a sum of columns what its rows would", {
  set.seed(3)
  t <- cbind(rexp(400), rnorm(400), rt(400, 5))
  by <- c(2, -1, 0.3)
  shifted <- t - rep(t[1, ], each = 400)
  expect_equal(
    tails_of_sums(crossprod(monomials(shifted)), by, 400), tails_of(as.vector(t %*% by)),
    tolerance = 1e-10
  )
  basis <- cbind(rnorm(20), 1)
  expect_equal(
    passed_on(basis[1:3, ], basis[4:20, ], 3),
    t(vapply(4:20, function(k) colMeans(basis[k - 1:3, ]), double(2)))
  )
})

test_that("what needs all shuffled predictions at once asks for a number of rows", {
  kiln$train$cracked <- kiln$train$defect == "crack"
  kiln$holdout$cracked <- kiln$holdout$defect == "crack"
  fit <- glm(cracked ~ cooling_rate + peak_temp, binomial, kiln$train)
  rows <- open_rows(kiln$holdout, in_memory = 200, quiet = TRUE)
  ask <- function(...) study(fit, rows, "cracked", train = kiln$train, ...)
  refused <- function(st, ..., says) {
    expect_error(rank_permutation(st, ...), says, class = "dreher_error_study")
  }
  auc <- ask(metric = "auc")
  refused(auc, says = "The AUC has no loss per row")
  refused(ask(metric = "mcc"), says = "max_rows = 200")
  refused(ask(blocks = "batch"), says = "Rows of a block may be anywhere")
  refused(ask(), shuffle = "conditional", says = "into strata")
  refused(ask(), repeats = "all", says = "receives from every other")
  in_memory <- study(fit, kiln$holdout, "cracked", train = kiln$train, metric = "auc")
  expect_equal(
    as.data.frame(rank_permutation(auc, max_rows = 300)),
    as.data.frame(rank_permutation(in_memory, max_rows = 300))
  )
  # a call over all methods draws by itself
  rk <- rank_predictors(auc, by = "permutation")
  expect_identical(detail(rk, "settings")$n, 200L)
  expect_match(detail(rk, "settings")$note, "of 600")
})

test_that("scores, checks, explanations and confirmation take all rows on disk", {
  fit <- numbers["forest"]
  st <- both_studies(fit, "strength")
  a <- score_models(st$memory)
  b <- score_models(st$disk)
  expect_equal(as.data.frame(b), as.data.frame(a), tolerance = 1e-12, ignore_attr = TRUE)
  for (part in setdiff(names(summary(a)), "trees")) {
    expect_equal(summary(b)[[part]], summary(a)[[part]], tolerance = 1e-12)
  }
  expect_identical(as.data.frame(check_data(st$disk)), as.data.frame(check_data(st$memory)))
  # rows that repeat each other, and training rows among them
  shared <- intersect(names(kiln$train), names(kiln$holdout))
  twice <- rbind(kiln$holdout[shared], kiln$holdout[1:40, shared], kiln$train[1:90, shared])
  mixed <- suppressWarnings(both_studies(fit, "strength", rows = twice))
  found <- as.data.frame(check_data(mixed$disk))
  expect_identical(found, as.data.frame(check_data(mixed$memory)))
  expect_match(found$detail, "40 of the 730 holdout rows repeat", all = FALSE)
  expect_match(found$detail, "90 of the 730 rows of `data` are training rows", all = FALSE)
  expect_equal(
    as.data.frame(rank_shapley(st$disk, max_rows = 50)),
    as.data.frame(rank_shapley(st$memory, max_rows = 50))
  )
  expect_equal(
    as.data.frame(contributions(st$disk, which = c(600, 3))),
    as.data.frame(contributions(st$memory, which = c(600, 3)))
  )
  files <- c(tempfile(fileext = ".csv"), tempfile(fileext = ".csv"))
  write_contributions(st$memory, files[1], background = 10)
  write_contributions(st$disk, files[2], background = 10)
  expect_identical(readLines(files[2]), readLines(files[1]))
  expect_match(
    capture.output(print(st$disk)), "200 of the holdout rows, drawn", all = FALSE
  )
  # a set of the same model, on rows of its own
  line <- study(numbers$line, kiln$holdout, "strength", train = kiln$train)
  set <- choose_set(reduce_predictors(line, folds = 3, repeats = 1, inner_folds = 2))
  untouched <- open_rows(kiln$untouched, at_once = 100, quiet = TRUE)
  here <- as.data.frame(confirm_set(set, kiln$untouched))
  expect_error(confirm_set(set, untouched), "confirmed on before")
  there <- as.data.frame(confirm_set(set, untouched, again = TRUE))
  expect_equal(there[names(there) != "looks"], here[names(here) != "looks"])
  known <- open_rows(kiln$train, at_once = 500, quiet = TRUE)
  expect_error(confirm_set(set, known), "1800 of the 1800 rows", class = "dreher_error_input")
})

test_that("a row that cannot be predicted is named by its number among all rows", {
  odd <- kiln$holdout
  odd$peak_temp[431] <- NA
  rows <- open_rows(odd, in_memory = 100, at_once = 100, quiet = TRUE)
  st <- study(numbers$line, rows, "strength", train = kiln$train)
  expect_error(rank_permutation(st), "rows 401 to 500", class = "dreher_error")
  expect_error(score_models(st), "rows 401 to 500", class = "dreher_error")
})

test_that("the target of all rows is looked at, not that of those in memory", {
  odd <- kiln$holdout
  odd$strength[77] <- NA
  rows <- open_rows(odd, in_memory = 100, quiet = TRUE)
  expect_error(
    study(numbers$line, rows, "strength"), "missing in 1 rows of `data`",
    class = "dreher_error_input"
  )
  kept <- tempfile("kept")
  rows <- open_rows(kiln$holdout, folder = kept, quiet = TRUE)
  small <- study(numbers$line, rows, "strength")
  expect_null(small$store)  # all of them are in memory
  unlink(kept, recursive = TRUE)
  expect_error(study(numbers$line, rows, "strength"), class = "dreher_error_input")
})
