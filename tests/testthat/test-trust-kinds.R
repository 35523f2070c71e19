# The same column in other kinds: spans of time, dates, ordered levels, blanks in names, numbers
# too small for their squares. Brought together, or refused.

set.seed(1)
d <- data.frame(
  fired = as.difftime(runif(60, 1, 9), units = "hours"), day = as.Date("2026-01-01") + 1:60
)
d$y <- 3 * as.double(d$fired) + rnorm(60)
train <- d[1:40, ]
rows <- d[41:60, ]
fit <- lm(y ~ fired, train)

in_minutes <- function(rows) {
  units(rows$fired) <- "mins"
  rows
}

test_that("spans of time in other units are the same spans", {
  st <- study(fit, rows, "y", train = train)
  other <- study(fit, in_minutes(rows), "y", train = train)
  expect_identical(score_models(other)$score, score_models(st)$score)
  expect_lt(score_models(other)$score, 2)
  expect_identical(rank_permutation(st, rows = in_minutes(rows))$importance,
                   rank_permutation(st, rows = rows)$importance)
  expect_identical(
    contributions(st, rows = in_minutes(rows), which = 1)$contribution,
    contributions(st, rows = rows, which = 1)$contribution
  )
})

test_that("a date is no time and no number", {
  for (day in list(as.POSIXct(rows$day), as.double(rows$day), as.character(rows$day))) {
    other <- rows
    other$day <- day
    expect_error(
      study(lm(y ~ fired + day, train), other, "y", train = train),
      "in the training rows it holds dates",
      class = "dreher_error_input"
    )
  }
  zoned <- d
  zoned$day <- as.POSIXct("2026-01-01", tz = "UTC") + 86400 * (1:60)
  fit <- lm(y ~ fired + day, zoned[1:40, ])
  moved <- zoned[41:60, ]
  attr(moved$day, "tzone") <- "Asia/Tokyo"
  st <- study(fit, zoned[41:60, ], "y", train = zoned[1:40, ])
  other <- study(fit, moved, "y", train = zoned[1:40, ])
  expect_identical(other$fingerprint, st$fingerprint)
})

batches <- function(parts) {
  i <- 0
  function() {
    i <<- i + 1
    if (i <= length(parts)) parts[[i]]
  }
}

grades <- function(values, levels) factor(values, levels, ordered = TRUE)

test_that("batches of rows bring spans and ordered levels together where one way fits", {
  held <- open_rows(
    batches(list(
      data.frame(
        q = grades(c("lo", "hi"), c("lo", "hi")), t = as.difftime(1:2, units = "hours")
      ),
      data.frame(
        q = grades(c("mid", "hi"), c("lo", "mid", "hi")),
        t = as.difftime(c(60, 180), units = "mins")
      )
    )),
    quiet = TRUE
  )
  found <- store_rows(held, 1, 4)
  expect_identical(found$q, grades(c("lo", "hi", "mid", "hi"), c("lo", "mid", "hi")))
  expect_identical(found$t, as.difftime(c(1, 2, 1, 3), units = "hours"))
  refused <- function(first, second, says) {
    expect_error(
      open_rows(
        batches(list(data.frame(q = first), data.frame(q = second))), quiet = TRUE
      ),
      says,
      class = "dreher_error_input"
    )
  }
  one <- grades("lo", c("lo", "hi"))
  refused(one, grades("lo", c("lo", "mid")), "So far lo < hi; then lo < mid")
  refused(one, grades("lo", c("hi", "lo")), "have no one order")
  refused(
    one, factor("lo", c("lo", "hi")), "from ordered levels to levels without an order"
  )
})

test_that("orders are merged where one order is all that keeps both", {
  expect_identical(merge_orders(c("a", "c"), c("a", "b", "c")), c("a", "b", "c"))
  expect_identical(merge_orders(c("a", "b"), c("b", "c")), c("a", "b", "c"))
  expect_identical(merge_orders(c("a", "b"), c("a", "b")), c("a", "b"))
  expect_null(merge_orders(c("a", "b"), c("b", "a")))
  expect_null(merge_orders(c("a", "c"), c("a", "b")))
})

test_that("names that differ by blanks are two predictors", {
  set.seed(2)
  blanks <- stats::setNames(data.frame(rnorm(80), rnorm(80)), c("a b", " a b"))
  blanks$y <- 2 * blanks[["a b"]] + rnorm(80)
  st <- study(lm(y ~ ., blanks[1:50, ]), blanks[51:80, ], "y", train = blanks[1:50, ])
  rk <- rank_permutation(st)
  expect_setequal(rk$predictor, c("a b", " a b"))
  expect_identical(rk$predictor[1], "a b")
})

test_that("curves of thousands of levels take those of the most rows", {
  set.seed(3)
  many <- data.frame(x = rnorm(1500), g = factor(c(rep("often", 300), paste0("g", 1:1200))))
  many$y <- many$x + rnorm(1500)
  at <- sample(1500)
  st <- study(
    list(own = 1), many[at[1:700], ], "y", train = many[at[701:1500], ],
    predict_with = function(model, data) data$x, predictors = c("x", "g")
  )
  expect_warning(e <- effect_curves(st), "the 100 of the most rows are drawn")
  table <- as.data.frame(e)
  expect_identical(sum(table$predictor == "g"), 100L)
  expect_true("often" %in% table$at[table$predictor == "g"])
  expect_true("x" %in% table$predictor)
})

test_that("targets whose squares vanish, and twins of too few rows, are refused", {
  small <- transform(d[c("fired", "y")], y = y * 1e-100)
  expect_error(
    study(lm(y ~ fired, small[1:40, ]), small[41:60, ], "y"), "below 1e-70 in all rows",
    class = "dreher_error_input"
  )
  expect_error(find_twins(d[1, ]), "3 rows or more", class = "dreher_error_input")
})
