# Drift: distances by their definitions, limits and error rates by small simulations.

rows_of <- function(n, seed, shift = 0, odds = 0.5) {
  set.seed(seed)
  data.frame(
    moved = stats::rnorm(n, shift), still = stats::rnorm(n),
    kind = ifelse(stats::runif(n) < odds, "a", "b"), count = stats::rpois(n, 4)
  ) |> transform(y = still + stats::rnorm(n))
}

study_between <- function(a, b) {
  study(lm(y ~ moved + still + kind + count, a), b, "y", train = a)
}

test_that("levels that are all rare are bins where they are few", {
  bins <- function(x) bin_column(list(x = x, number = FALSE, ordered = FALSE))
  expect_identical(bins(rep(1:6, 4)), rep(1:6, 4))
  expect_identical(bins(1:60), rep(1L, 60))
  # two common ones: the rare ones together
  expect_identical(bins(c(rep(1:2, each = 5), 3:6)), rep(1:3, c(5, 5, 4)))
})

test_that("distances are those of the definition, and drift is found where it is", {
  a <- rows_of(600, 1)
  b <- rows_of(400, 2, shift = 0.6, odds = 0.7)
  dr <- find_drift(study_between(a, b))
  own <- function(p) dr[dr$predictor == p, ]
  at <- sort(unique(c(a$moved, b$moved)))
  exact <- max(abs(stats::ecdf(a$moved)(at) - stats::ecdf(b$moved)(at)))
  expect_equal(own("moved")$distance, exact, tolerance = 0.03 / exact)
  shares <- table(a$kind) / 600 - table(b$kind) / 400
  expect_equal(own("kind")$distance, sum(abs(shares)) / 2)
  expect_true(own("moved")$p_adjusted < 0.001 && own("kind")$p_adjusted < 0.001)
  expect_true(all(dr$p_adjusted[dr$predictor %in% c("still", "count", "(target)")] > 0.05))
  within <- dr$lower <= dr$distance & dr$distance <= dr$upper
  expect_true(all(within))
  together <- summary(dr)$together
  expect_true(together$lower > 0.5)
  expect_identical(names(which.max(stats::setNames(dr$share, dr$predictor))), "moved")
  ch <- as.data.frame(check_data(study_between(a, b)))
  expect_identical(ch$severity[ch$finding == "drift" & ch$predictor == "moved"], "doubt")
})

test_that("two named sets, and what drift does to the ranking", {
  a <- rows_of(400, 3)
  b <- rows_of(400, 4)
  b$still <- b$still / 3
  st <- study_between(a, rows_of(200, 5))
  dr <- find_drift(st, list(spring = rows_of(400, 6), autumn = b), repeats = 3)
  ranked <- summary(dr)$ranking
  still <- ranked[ranked$predictor == "still", ]
  expect_true(still$p_adjusted < 0.05 && still$difference < 0)
  expect_equal(still$difference, still$second - still$first)
  expect_match(
    paste(format_drift(dr), collapse = " "), "The permutation importance differs for still"
  )
  expect_false(isTRUE(detail(dr, "learnt")))
  expect_true(isTRUE(detail(find_drift(st, list(one = a, two = b)), "learnt")))
  expect_error(find_drift(st, "train"), "two sets", class = "dreher_error_input")
  seen <- suppressWarnings(study(lm(y ~ moved, a), a, "y", train = a))
  expect_error(find_drift(seen), "the same rows twice", class = "dreher_error_input")
  gaps <- a
  gaps$still[1:9] <- NA
  expect_warning(part <- find_drift(st, list(one = gaps, two = b)), "could not be compared")
  expect_null(summary(part)$ranking)
  none <- find_drift(st, models = character())
  expect_null(summary(none)$ranking)
})

test_that("without drift a column in twenty sets at most is said to differ", {
  said <- vapply(1:40, function(i) {
    dr <- find_drift(
      study_between(rows_of(150, 2 * i), rows_of(120, 2 * i + 1)), models = character(),
      times = 20
    )
    any(dr$p_adjusted < 0.05, na.rm = TRUE)
  }, NA)
  expect_lte(sum(said), 5)
})

test_that("rows that belong together are exchanged as wholes", {
  grouped <- function(seed, blocks) {
    set.seed(seed)
    level <- stats::rnorm(blocks)
    d <- data.frame(day = rep(paste(seed, seq_len(blocks)), each = 30))
    d$x <- rep(level, each = 30) + stats::rnorm(30 * blocks, 0, 0.2)
    d$y <- d$x + stats::rnorm(30 * blocks)
    d
  }
  p_values <- vapply(1:12, function(i) {
    a <- grouped(i, 8)
    b <- grouped(100 + i, 8)
    st <- study(lm(y ~ x, a), b, "y", train = a, blocks = "day")
    dr <- find_drift(st, models = character(), times = 99)
    dr$p_value[dr$predictor == "x"]
  }, 0)
  # rows taken for independent would say p < 0.001 in nearly all
  expect_lte(sum(p_values < 0.05), 3)
})

test_that("dates and times of day are told as such", {
  a <- rows_of(200, 11)
  b <- rows_of(150, 12)
  a$day <- as.Date("2026-01-01") + seq_len(200)
  b$day <- as.Date("2026-09-01") + seq_len(150)
  a$hour <- as.difftime(stats::runif(200, 6, 12), units = "hours")
  b$hour <- as.difftime(stats::runif(150, 12, 18), units = "hours")
  st <- study(lm(y ~ still, a), b, "y", train = a)
  ch <- as.data.frame(check_data(st))
  day <- ch[ch$predictor == "day" & ch$finding == "drift", ]
  expect_match(day$detail, "median 2026-04-1[0-9] and 2026-11-1[0-9]")
  dr <- find_drift(st, models = character(), times = 20)
  expect_gt(dr$distance[dr$predictor == "hour"], 0.98)
  expect_match(paste(format_drift(dr), collapse = " "), "2026-04-1")
})

test_that("of large tables it is said what was drawn", {
  a <- rows_of(3100, 21)
  dr <- find_drift(study_between(a, rows_of(200, 22)), models = character(), times = 20)
  words <- gsub("\n| +", " ", paste(format_drift(dr), collapse = " "))
  expect_match(words, "compared in 3,000 rows drawn of the 3,100 train rows")
})
