# The dictionary: all faults at once, and a starter drafted from the data.

test_that("all faults of a dictionary stand in one message", {
  bad <- data.frame(
    predictor = c("a", "a", "b", ""),
    use = c("keep", "free", "maybe", "free"),
    known = c("after", "before", "before", "never"),
    cost = c("1", "-2", "cheap", ""),
    sensitive = c("TRUE", "no", "perhaps", ""),
    price = 1
  )
  e <- expect_error(read_dictionary(bad), class = "dreher_error_input")
  says <- conditionMessage(e)
  for (words in c(
      "unknown columns: \"price\"", "twice: \"a\"", "row 4 names no predictor",
      "\"use\" holds \"maybe\"", "\"known\" holds \"never\"",
      "\"cost\" holds \"-2\" and \"cheap\"", "\"sensitive\" holds \"perhaps\"",
      "\"a\" is to be kept, and known only after the target"
    )) {
    expect_match(says, words, fixed = TRUE)
  }
  one <- expect_error(read_dictionary(data.frame(predictor = "a", use = "no")))
  expect_match(
    conditionMessage(one), "has a fault: column \"use\" holds \"no\"", fixed = TRUE
  )
  expect_warning(
    study(
      lm(strength ~ peak_temp, kiln$train),
      kiln$holdout,
      "strength",
      dictionary = data.frame(predictor = "peek_temp")
    ),
    "no column of `data`: \"peek_temp\""
  )
})

test_that("a starter is drafted from the data, written, and read again", {
  d <- data.frame(
    tank_level_mm = c(1.5, 2), tank_temp = 1:2, room = c("a", "b"), x1 = 1:2, x2 = 2:3,
    bornOn = as.Date("2026-01-01") + 0:1, sex = c("f", "m"), done = c(TRUE, FALSE), y = 1:2
  )
  draft <- draft_dictionary(d, target = "y")
  own <- function(p, column) draft[[column]][draft$predictor == p]
  expect_identical(own("tank_level_mm", "label"), "Tank level mm")
  expect_identical(own("tank_level_mm", "unit"), "mm")
  expect_identical(own("tank_temp", "family"), "tank")
  expect_identical(own("x1", "family"), "x")
  expect_identical(own("room", "family"), "")
  expect_identical(own("bornOn", "label"), "Born on")
  expect_true(own("sex", "sensitive"))
  expect_identical(own("done", "type"), "yes/no")
  expect_identical(own("tank_level_mm", "values"), "1.5 to 2")
  expect_identical(own("room", "values"), "a, b")
  expect_false("y" %in% draft$predictor)
  file <- tempfile(fileext = ".csv")
  draft_dictionary(d, target = "y", file = file)
  back <- read_dictionary(file)
  expect_identical(back$predictor, draft$predictor)
  expect_identical(back$family[1], "tank")
  expect_error(draft_dictionary(d, file = file), "exists", class = "dreher_error_input")
  expect_error(draft_dictionary(d, target = "z"), "target", class = "dreher_error_input")
})
