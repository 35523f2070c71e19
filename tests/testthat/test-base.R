test_that("a stream depends on seed and key alone, and leaves the user's state", {
  set.seed(7)
  before <- .Random.seed
  a <- with_stream(1, c("x", 2), runif(3))
  expect_identical(.Random.seed, before)
  RNGkind("Wichmann-Hill")
  b <- with_stream(1, c("x", 2), runif(3))
  expect_identical(RNGkind()[1], "Wichmann-Hill")
  RNGkind("Mersenne-Twister")
  expect_identical(a, b)
  expect_false(identical(a, with_stream(2, c("x", 2), runif(3))))
  expect_false(identical(a, with_stream(1, c("x", 3), runif(3))))
})

test_that("a stream leaves a session without a state without one", {
  rm(".Random.seed", envir = globalenv())
  with_stream(1, "a", runif(1))
  expect_false(exists(".Random.seed", envir = globalenv(), inherits = FALSE))
})

test_that("streams look uniform and independent across keys", {
  u <- vapply(1:2000, function(i) with_stream(1, c("u", i), runif(1)), 0)
  expect_gt(stats::ks.test(u, "punif")$p.value, 1e-3)
  expect_lt(abs(cor(u[-1], u[-2000])), 0.08)
})

test_that("conditions carry the class tree and the three parts of a message", {
  e <- tryCatch(stop_input("Broken {x}.", "Given: 1.", "Mend it."), error = identity)
  expect_s3_class(e, c("dreher_error_input", "dreher_error"), exact = FALSE)
  expect_match(conditionMessage(e), "Broken \\{x\\}.*Given: 1.*Mend it")
})

test_that("the grouped jackknife is exact for a mean", {
  x <- c(3, 1, 4, 1, 5, 9, 2, 6, 5, 3)
  left_out <- vapply(seq_along(x), function(i) mean(x[-i]), 0)
  expect_equal(jackknife_variance(left_out), var(x) / length(x), tolerance = 1e-12)
})

test_that("streams are the same on every machine and in every version", {
  # Worked out by another implementation.
  expect_identical(hash_text("a", 2L), c(1596572330, 4286902717))
  expect_identical(hash_text("", 1L), 3280043009)
  expect_identical(with_stream(1, c("donors", 5), sample.int(5)), c(5L, 3L, 1L, 4L, 2L))
  expect_false(identical(stream_state(1, "a"), stream_state(1, "b")))
  expect_identical(stream_state(1, "\u00e9"), stream_state(1, iconv("\u00e9", "UTF-8", "latin1")))
})
