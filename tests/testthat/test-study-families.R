# Families of one-hot columns are found by names and confirmed by values; others are declared.

kiln_rows_here <- kiln_rows(300, drop = c("ring_tone", "tile_id"))
one_hot <- function(x, name) {
  out <- outer(as.character(x), levels(x), "==") + 0
  colnames(out) <- paste0(name, levels(x))
  out
}
clay <- kiln_rows_here$clay_source
operator <- kiln_rows_here$operator
spread <- data.frame(
  heat = kiln_rows_here$peak_temp,
  one_hot(clay, "clay_"),
  one_hot(operator, "operator=")[, -1],
  one_hot(clay, "made"),
  check.names = FALSE
)

test_that("one-hot columns are found, with and without a separator, and a level left out", {
  found <- column_families(spread)
  expect_setequal(names(found), c("clay", "operator", "made"))
  expect_identical(found$clay, paste0("clay_", levels(clay)))
  expect_identical(found$operator, paste0("operator=", levels(operator)[-1]))
  kind <- attr(found, "found")
  expect_identical(kind$kind[kind$family == "clay"], "one-hot")
  expect_identical(kind$kind[kind$family == "operator"], "one-hot, a level left out")
  expect_output(print(found), "3 families of columns", fixed = TRUE)
  # as truths as well
  expect_identical(
    column_families(as.data.frame(lapply(spread[2:4], function(x) x == 1)))$clay,
    names(spread)[2:4]
  )
})

test_that("columns that only begin alike are told apart, and chance is", {
  set.seed(2)
  flags <- data.frame(
    has_door = rbinom(300, 1, 0.5),
    has_lid = rbinom(300, 1, 0.5),
    has_rare = rep(0:1, c(299, 1)),
    is_big = rep(0:1, c(298, 2)),
    is_old = rep(c(1, 0), c(2, 298)),
    number_a = rnorm(300)
  )
  found <- column_families(flags)
  expect_length(found, 0)
  told <- attr(found, "found")
  expect_match(told$rejected[told$family == "has"], "has a 1 in")
  expect_match(told$rejected[told$family == "is"], "declare")
  expect_output(print(found), "not a family: the 2 columns that begin with \"is\"")
  found <- column_families(
    flags, declared = list(kind = "is_*", door = c("has_door", "has_lid"))
  )
  expect_identical(found$kind, c("is_big", "is_old"))
  expect_identical(names(found), c("kind", "door"))
})

test_that("families are ranked as one predictor", {
  rows <- cbind(spread, strength = kiln_rows_here$strength)
  rows <- rows[setdiff(names(rows), grep("^made", names(rows), value = TRUE))]
  names(rows) <- make.names(names(rows))
  st <- study(
    lm(strength ~ ., rows[1:200, ]), rows[201:300, ], "strength", train = rows[1:200, ]
  )
  families <- column_families(rows[setdiff(names(rows), "strength")])
  rk <- suppressWarnings(rank_permutation(st, groups = families, repeats = 2))
  expect_setequal(rk$predictor, c("heat", "clay", "operator"))
  one <- suppressWarnings(rank_shapley(st, groups = families, background = 5))
  expect_setequal(one$predictor, c("heat", "clay", "operator"))
})

test_that("what cannot be declared is refused", {
  for (wrong in list(
    "clay_*", list("clay_*"), list(a = 3), list(), list(a = "nothing_*"), list(a = "nobody"),
    list(a = "heat", b = "heat"), list(a = NA_character_)
  )) {
    expect_error(column_families(spread, declared = wrong), class = "dreher_error_input")
  }
  expect_error(column_families(3), class = "dreher_error_input")
})
