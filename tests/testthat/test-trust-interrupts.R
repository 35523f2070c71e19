# An interrupt, at whatever moment it comes: a result whole and equal to the bit, or none.

# The first call of each of these functions of the package while `code` runs: their arguments.
calls_of <- function(names, code) {
  home <- asNamespace("dreher")
  own <- mget(names, home)
  met <- list()
  for (name in names) {
    local({
      n <- name
      utils::assignInNamespace(n, function(...) {
        if (is.null(met[[n]])) met[[n]] <<- list(...)
        own[[n]](...)
      }, "dreher")
    })
  }
  tryCatch(code, finally = {
    for (name in names) utils::assignInNamespace(name, own[[name]], "dreher")
  })
  met
}

ends_in_interrupt <- function(code) {
  tryCatch(
    {
      code
      FALSE
    },
    interrupt = function(e) TRUE
  )
}

# do() whole, then stopped at moments spread over all at which its loops ask.
expect_whole_or_none <- function(do, label, moments = 50) {
  on.exit(stop_loops_after(-1))
  stop_loops_after(1e6)
  whole <- do()
  asks <- 1e6 - stop_loops_after(-1)
  expect_gt(asks, 0, label = paste("questions of", label))
  none <- 0
  for (at in unique(round(seq(0, asks, length.out = moments)))) {
    stop_loops_after(at)
    got <- tryCatch(do(), interrupt = function(e) "none")
    stop_loops_after(-1)
    if (identical(got, "none")) {
      none <- none + 1
    } else {
      expect_identical(got, whole, label = label)
    }
  }
  expect_gt(none, 0, label = paste("interrupts of", label))
}

kiln <- demo_kiln(missing = FALSE)
few <- c("peak_temp", "hold_minutes", "grog_share", "operator", "strength")
train <- kiln$train[1:150, few]
rows <- kiln$holdout[1:60, few]
forest <- ranger::ranger(
  strength ~ ., train, num.trees = 12, keep.inbag = TRUE, num.threads = 1, seed = 1
)
of_forest <- study(forest, rows, "strength", train = train, threads = 1)

loops <- c(
  "associate_draws", "forest_cover", "forest_ends", "forest_held_gain", "forest_impurity",
  "forest_interactions", "forest_predict", "forest_shapley", "forest_use", "recompute_gains",
  "shuffle_prepare", "shuffle_rows", "shuffle_steps", "stability_gaps", "stability_overlap",
  "stability_pairs", "stability_shares", "stability_tops", "tally_add"
)

test_that("every loop of the bridge runs through the one wrapper", {
  root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
  files <- list.files(file.path(root, "src"), "^bridge-.*[.](cpp|h)$", full.names = TRUE)
  if (!length(files)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  with_loop <- character()
  for (f in files) {
    code <- sub("//.*$", "", readLines(f))
    if (basename(f) != "bridge-loop.h") {
      expect_false(
        any(grepl("\\binterrupted\\b|Loop\\s*\\{|Loop \\w+;", code)), label = f
      )
    }
    begins <- grep("Rcpp::export", readLines(f), fixed = TRUE)
    ends <- c(begins[-1], length(code) + 1) - 1
    for (i in seq_along(begins)) {
      body <- code[(begins[i] + 1):ends[i]]
      name <- sub("^.*?([a-z_]+)\\(.*$", "\\1", body[1], perl = TRUE)
      if (any(grepl("run_whole\\(", body))) with_loop <- c(with_loop, name)
    }
  }
  expect_setequal(with_loop, loops)
})

test_that("each loop interrupted at 50 moments gives all or nothing", {
  met <- calls_of(loops, {
    rank_predictors(
      of_forest, by = c("impurity", "permutation", "structure", "association"), repeats = 2
    )
    rank_impurity(of_forest, correct = TRUE, refits = 2)
    rank_permutation(of_forest, repeats = "all")
    rank_shapley(of_forest, background = 8)
    rank_shapley(of_forest, value = "cover")
    interactions(of_forest, background = 8)
    similar_rows(of_forest, 1, by = "leaves")
    linear <- study(lm(strength ~ ., train), rows, "strength", train = train)
    resampled <- rank_predictors(
      linear, by = "permutation", repeats = 2, resamples = draw_resamples(train, times = 30)
    )
    suppressWarnings(stability(resampled))
    agreement(rank_predictors(of_forest, repeats = 2, background = 8))
    boosted <- gbm::gbm(strength ~ ., "gaussian", train[-4], n.trees = 10)
    st <- study(boosted, rows[-4], "strength", train = train[-4], threads = 1)
    rank_impurity(st, rows = "train")
    rank_impurity(st, rows = "holdout")
  })
  expect_setequal(names(met), loops)
  for (name in setdiff(names(met), c("shuffle_prepare", "tally_add"))) {
    do <- get(name, asNamespace("dreher"))
    expect_whole_or_none(function() do.call(do, met[[name]]), name)
  }
  # What a preparation is for: its shuffles.
  expect_whole_or_none(function() {
    prepared <- do.call(shuffle_prepare, met$shuffle_prepare)
    do.call(shuffle_rows, c(list(prepared), met$shuffle_rows[-1]))
  }, "shuffle_prepare")
})

test_that("sums of losses that were interrupted cannot be read", {
  set.seed(1)
  n <- 500
  units <- 40
  value <- array(rnorm(n * 2 * units), c(n, 2, units))
  donor <- replicate(2, sample(n))
  truth <- rnorm(n)
  before <- truth^2
  add_up <- function() {
    tally <- tally_start(n, units)
    stopped <- ends_in_interrupt(tally_add(
      tally, value, 2L, 1L, 2L, seq_len(units), truth, before, double(), donor, FALSE, 1L
    ))
    if (stopped) {
      for (u in c(1, units)) expect_error(tally_read(tally, u, 2L), "in pieces")
      rlang::interrupt()
    }
    lapply(seq_len(units), function(u) tally_read(tally, u, 2L))
  }
  expect_whole_or_none(add_up, "tally_add")
  by_hand <- rowMeans((value[, , 3] - truth)^2 - before)
  expect_equal(add_up()[[3]]$given, by_hand, tolerance = 1e-12)
})

test_that(
  "whole calls interrupted in a loop give all or nothing, and so does the next call",
  {
    calls <- list(
      permutation = function() rank_permutation(of_forest, repeats = 3),
      conditional = function() {
        rank_permutation(of_forest, repeats = 3, shuffle = "conditional")
      },
      impurity = function() rank_impurity(of_forest),
      shapley = function() rank_shapley(of_forest, background = 8),
      curves = function() effect_curves(of_forest, predictors = "peak_temp"),
      interactions = function() interactions(of_forest, background = 8)
    )
    for (name in names(calls)) expect_whole_or_none(calls[[name]], name, moments = 12)
  }
)

test_that("what a library says of an interrupt is passed on, however deep", {
  said <- simpleError("User interrupt or internal error.")
  nested <- tryCatch(
    stop_model("It could not be trained.", parent = said), error = function(e) e
  )
  expect_true(ends_in_interrupt(pass_interrupt(said)))
  expect_true(ends_in_interrupt(pass_interrupt(nested)))
  expect_null(pass_interrupt(simpleError("Another one.")))
  expect_true(ends_in_interrupt(call_user(function() stop(said))))
  expect_true(ends_in_interrupt(try_piece(function(piece) stop(nested), 1)))
  stopping <- function(model, data, predictors) stop("User interrupt or internal error.")
  st <- study(
    lm(strength ~ ., train), rows, "strength", train = train, refit_with = stopping
  )
  expect_true(ends_in_interrupt(rank_refit(st)))
  expect_true(ends_in_interrupt(
    suppressMessages(reduce_predictors(st, by = "permutation", folds = 2))
  ))
})

test_that("studies and rankings of forests leave the session's stream as it was", {
  set.seed(1)
  before <- .Random.seed
  st <- study(forest, rows, "strength", train = train, threads = 1)
  rank_impurity(st, correct = TRUE, refits = 2)
  rank_permutation(st, repeats = 2)
  expect_identical(.Random.seed, before)
})

test_that("workers that were interrupted at work answer the next call", {
  future::plan("multisession", workers = 2)
  on.exit(future::plan("sequential"))
  st <- study(lm(strength ~ ., train), rows, "strength", train = train)
  drawn <- draw_resamples(train, times = 8)
  do <- function() {
    rank_predictors(st, by = "permutation", repeats = 2, resamples = drawn)
  }
  whole <- as.data.frame(do())
  for (seconds in c(0.1, 0.3)) {
    words <- sprintf("(sleep %s; kill -INT %d) > /dev/null 2>&1", seconds, Sys.getpid())
    system(words, wait = FALSE)
    suppressMessages(ends_in_interrupt({
      do()
      Sys.sleep(3)
    }))
    expect_identical(as.data.frame(do()), whole)
  }
})
