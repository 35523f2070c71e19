d <- kiln_rows(150)
h <- kiln_rows(100, "holdout")
fit <- lm(strength ~ peak_temp + hold_minutes + operator, d)
st <- study(list(linear = fit), h, "strength", train = d)
permuted <- rank_permutation(st, repeats = 5)

test_that("a ranking that breaks its own rules is an internal error that says which", {
  faults <- list(
    lacks = function(x) x[setdiff(names(x), "form")],
    type = function(x) replace(x, "rank", list(as.double(x$rank))),
    gaps = function(x) replace(x, "importance", list(c(NA, x$importance[-1]))),
    limit = function(x) replace(x, "lower", list(x$upper + 1)),
    share = function(x) replace(x, "share", list(x$share - 2)),
    words = function(x) replace(x, "inference", list(rep("sample", nrow(x)))),
    twice = function(x) rbind(x, x[1, ]),
    settings = function(x) replace(x, "rows", list(rep("elsewhere", nrow(x))))
  )
  for (fault in faults) {
    bad <- new_ranking(fault(as.data.frame(permuted)), attr(permuted, "details"))
    expect_error(
      validate_ranking(bad), "ranking is not sound", class = "dreher_error_internal"
    )
  }
  expect_identical(validate_ranking(permuted), permuted)
})

test_that("parts of a ranking keep what belongs to them, and lose what does not", {
  both <- bind_rankings(permuted, rank_shapley(st, background = 10, max_rows = 20))
  expect_s3_class(both, "dreher_ranking")
  expect_setequal(names(attr(both, "row_values")), c("linear/permutation", "linear/shapley"))
  one <- both[both$method == "shapley", ]
  expect_s3_class(one, "dreher_ranking")
  expect_identical(ranking_details(one, "settings")$method, "shapley")
  expect_identical(names(attr(one, "row_values")), "linear/shapley")
  expect_identical(dim(row_values(one)), c(20L, 3L, 1L))
  expect_identical(rbind(permuted, one)$importance, c(permuted$importance, one$importance))
  expect_error(row_values(one, method = "permutation"), "no values of single rows")
  expect_identical(row_values(both, method = "permutation"), row_values(permuted))
  weighed <- rank_coefficients(st)
  expect_identical(names(ranking_details(weighed, "statistics")), "linear/coefficients")
  expect_null(ranking_details(weighed, "gap"))
  expect_named(ranking_details(weighed))
})

test_that("rankings of one study join with their settings; others are refused", {
  joined <- bind_rankings(list(permuted, rank_coefficients(st)), rank_association(st))
  expect_setequal(
    ranking_details(joined, "settings")$method,
    c("permutation", "coefficients", "association")
  )
  expect_identical(nrow(ranking_details(joined, "settings")), 3L)
  expect_output(print(joined), "Coefficient")
  expect_s3_class(agreement(joined), "dreher_agreement")
  other <- function(...) rank_permutation(study(list(linear = fit), ...), repeats = 5)
  refused <- list(
    "other data" = other(h[1:50, ], "strength", train = d),
    "another metric" = other(h, "strength", train = d, metric = "mae"),
    "another level" = rank_permutation(st, repeats = 5, level = 0.9),
    "another seed" = rank_permutation(st, repeats = 5, seed = 2)
  )
  for (why in names(refused)) {
    expect_error(
      bind_rankings(permuted, refused[[why]]), why, class = "dreher_error_study"
    )
  }
  expect_error(
    bind_rankings(permuted, permuted), "the same list", class = "dreher_error_study"
  )
  drawn <- rank_predictors(
    st, by = "permutation", resamples = draw_resamples(d, times = 3), repeats = 2
  )
  expect_error(bind_rankings(permuted, drawn), "resamples", class = "dreher_error_study")
  expect_error(
    bind_rankings(permuted, as.data.frame(permuted)), class = "dreher_error_input"
  )
  expect_error(bind_rankings(), "no ranking", class = "dreher_error_input")
})

test_that("words of our own are names like any others", {
  words <- c("train", "oob", "holdout", "holdout score", "all", "none")
  rename <- function(data) {
    used <- c(
      "peak_temp", "hold_minutes", "grog_share", "cooling_rate", "operator", "pyro_left"
    )
    out <- stats::setNames(data[used], words)
    out$strength <- data$strength
    out$shift <- rep(c("train", "holdout", "oob", "all"), length.out = nrow(out))
    out
  }
  train <- rename(kiln$train[1:200, ])
  held <- rename(kiln$holdout[1:120, ])
  forest <- ranger::ranger(
    x = train[words], y = train$strength, num.trees = 10, keep.inbag = TRUE, seed = 1,
    num.threads = 1
  )
  linear <- lm(strength ~ ., train[c(words, "strength")])
  own <- study(list(train = forest, all = linear), held, "strength", train = train)
  expect_setequal(rank_predictors(own, background = 5)$predictor, words)
  rows <- list(
    train = held[1:60, ], oob = held[61:120, ], `holdout score` = held[30:90, ]
  )
  named <- rank_permutation(own, rows = rows, repeats = 5)
  expect_setequal(named$rows, names(rows))
  expect_false(anyNA(named$lower))
  expect_false(any(grepl("training rows", named$flag)))
  sliced <- rank_predictors(own, by = "permutation", slice = ~ shift, repeats = 5)
  expect_setequal(sliced$slice, c("train", "holdout", "oob", "all"))
  expect_false(anyNA(sliced$lower))
  expect_s3_class(agreement(sliced), "dreher_agreement")
  rd <- reduce_predictors(
    own, models = "all", folds = 3, repeats = 1, inner_folds = 2, random = 0
  )
  expect_true(all(choose_set(rd)$predictors %in% words))
  alike <- compare_sets(
    own,
    list(all = "all", train = "train", none = "none"),
    models = "all",
    folds = 3,
    repeats = 1
  )
  expect_identical(alike$count, c(6L, 1L, 0L))
})

test_that("holdout rows that are training rows stand in a ranking once", {
  known <- suppressWarnings(study(fit, d, "strength", train = d))
  rk <- rank_permutation(known, rows = c("holdout", "train"), repeats = 2)
  expect_identical(unique(rk$rows), "train")
  expect_identical(nrow(rk), 3L)
  both <- rank_predictors(known, by = c("permutation", "shapley"))
  expect_no_error(agreement(both, study = known))
})
