# Random sets, drawn until their p value is known well enough.

test_that("p by hand: ten as good settle it, else the own set is counted in", {
  expect_equal(sequential_p(1, c(2, 0, 1, 3)), list(p = 3 / 5, sets = 4L, as_good = 2L))
  others <- c(rep(c(2, 0), 10), rep(2, 80))
  expect_equal(sequential_p(1, others), list(p = 0.5, sets = 20L, as_good = 10L))
  expect_equal(sequential_p(1, others[1:19]), list(p = 0.5, sets = 19L, as_good = 9L))
  expect_true(is.na(sequential_p(NA, 1:3)$p))
  expect_identical(sequential_p(1, double())$sets, 0L)
})

test_that("p is valid: where nothing is special it is at most a in at most a of the runs", {
  p <- with_stream(1, "valid", replicate(4000, sequential_p(runif(1), runif(100))$p))
  for (a in c(0.02, 0.05, 0.1, 0.3, 0.5)) {
    expect_lt(mean(p <= a), a + 3 * sqrt(a * (1 - a) / 4000))
    # and not needlessly large
    expect_gt(mean(p <= a), 0.8 * a - 0.01)
  }
  # The error that is promised, for a share of 0.3 below the own set.
  p <- with_stream(2, "error", replicate(4000, sequential_p(0.3, runif(200))$p))
  expect_lt(sd(p) / 0.3, 0.34)
})

train <- demo_kiln(missing = FALSE)$train[1:150, c(
  "peak_temp", "hold_minutes", "cooling_rate", "operator", "grog_share", "clay_moisture",
  "strength"
)]
fit <- lm(strength ~ ., train)
st <- study(fit, demo_kiln(missing = FALSE)$holdout, "strength", train = train)
reduce <- function(...) {
  suppressWarnings(reduce_predictors(st, folds = 2, repeats = 1, inner_folds = 2, ...))
}

test_that("numbers that need more sets get them: as if all had been drawn at once", {
  # With nothing settled early every set is scored.
  utils::assignInNamespace("enough_as_good", 1000L, "dreher")
  whole <- tryCatch(
    reduce(random = 35)$curves$lm$random,
    finally = utils::assignInNamespace("enough_as_good", 10L, "dreher")
  )
  found <- reduce(random = 35)
  curve <- found$curves$lm
  drawn <- curve$random
  expect_equal(as.vector(table(whole$count))[c(1, 5)], c(6, 6))
  expect_gt(min(table(whole$count)[2:4]), 10)
  expect_false(any(duplicated(whole[c("count", "set")])))
  rounds <- function(d) paste(d$count, d$round, d$set, format(d$loss, digits = 15))
  expect_true(all(rounds(drawn) %in% rounds(whole)))
  table <- as.data.frame(found)
  for (k in 1:5) {
    all <- whole[whole$count == k, ]
    here <- table[table$candidate == "path" & table$count == k, ]
    at <- match(as.character(k), names(curve$columns))
    own <- losses_of_sets(st, curve$info, curve$outer[[1]][, at, , drop = FALSE])
    path <- fingerprint(sort_text(curve$columns[[at]]))
    by_hand <- sequential_p(own, all$loss[all$set != path])
    expect_equal(here$random_p, by_hand$p)
    expect_equal(here$random_sets, by_hand$sets)
    expect_equal(here$random_as_good, by_hand$as_good)
    # no round more than needed
    expect_lte(
      sum(drawn$count == k),
      10 * ceiling((match(10, cumsum(all$loss[all$set != path] <= own), 35) + 1) / 10)
    )
  }
})

test_that("rounds go on in a run folder, over workers, to the bit", {
  alone <- as.data.frame(reduce(random = 35))
  night <- tempfile("night")
  expect_identical(as.data.frame(reduce(random = 35, run = night)), alone)
  con <- DBI::dbConnect(RSQLite::SQLite(), file.path(night, "run.sqlite"), synchronous = NULL)
  DBI::dbExecute(con, "DELETE FROM pieces WHERE key LIKE '%/random/%/2'")
  DBI::dbDisconnect(con)
  expect_identical(as.data.frame(reduce(random = 35, run = night)), alone)
  future::plan("multisession", workers = 2)
  on.exit(future::plan("sequential"))
  expect_identical(as.data.frame(reduce(random = 35)), alone)
})

test_that("what is printed says how many random sets there are", {
  expect_match(
    paste(capture.output(print(reduce(random = 35))), collapse = " "),
    "Random: mean of 6 to [0-9]+ random sets of as many predictors"
  )
  # Of a single predictor there is no other set.
  alone <- study(
    lm(strength ~ peak_temp, train), demo_kiln(missing = FALSE)$holdout, "strength",
    train = train
  )
  one <- reduce_predictors(alone, folds = 2, repeats = 1, inner_folds = 2)
  expect_no_match(paste(capture.output(print(one)), collapse = " "), "Random")
})
