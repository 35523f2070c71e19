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

test_that("limits are stretched on the side of the long tail, and only there", {
  u <- c(rep(0, 90), 1:5, 2, 3, 1, 2, 1)  # leans to the right
  n <- length(u)
  m <- u - mean(u)
  error <- sd(u) / sqrt(n)
  a <- mean(m^3) / mean(m^2)^1.5 / sqrt(n)
  plain <- t_limits(mean(u), error, n - 1, 0.9)
  own <- skew_limits(mean(u), error, n - 1, 0.9, u, more = 0)
  expect_identical(own$lower, plain$lower)
  # Hall's transformation of the distance to the limit is the quantile of t.
  t <- (mean(u) - own$upper) / error
  df <- 2 * n / (mean(m^4) / mean(m^2)^2 - 1 + 2 / (n - 1))
  expect_lt(df, n - 1)
  expect_equal(t + a * t^2 / 3 + a^2 * t^3 / 27 + a / 6, -qt(0.95, df), tolerance = 1e-10)
  expect_equal(
    unlist(skew_limits(-mean(u), error, n - 1, 0.9, -u, more = 0)),
    -c(lower = own$upper, upper = own$lower)
  )
  # by one standard error of the variance, and never to more than twice the distance of t
  wider <- skew_limits(mean(u), error, n - 1, 0.9, u)
  expect_equal(
    wider$upper - mean(u),
    (own$upper - mean(u)) * (1 + sqrt((mean(m^4) / mean(m^2)^2 - 1) / n))
  )
  one <- c(double(99), 50)
  far <- skew_limits(0.5, 0.5, 99, 0.9, one, more = 0)$upper - 0.5
  expect_lte(far, 2 * 0.5 * qt(0.95, 1))
  even <- c(-3:3, -2:2, -1:1, -6:6)
  expect_identical(skew_limits(0, 1, 27, 0.95, even), t_limits(0, 1, 27, 0.95))
  expect_identical(skew_limits(0, 1, 18, 0.95, u[82:100]), t_limits(0, 1, 18, 0.95))
  expect_identical(
    skew_limits(0, 0, 99, 0.95, double(100)), list(lower = 0, upper = 0)
  )
  # Two values as far from the mean: no tails, whatever rounding says.
  expect_identical(tails_of_moments(29, 29, 1e-16, 29 - 1e-13)$tails, 0)
  expect_silent(skew_limits(0, 1, 28, 0.95, list(n = 29, skew = 1e-17, tails = 0)))
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
  expect_identical(
    stream_state(1, "\u00e9"), stream_state(1, iconv("\u00e9", "UTF-8", "latin1"))
  )
})

test_that(
  "what a drawing library warns of does not lose the file; the file system's word does",
  {
    file <- file.path(tempfile("written"), "picture.txt")
    dir.create(dirname(file))
    expect_warning(
      write_whole(file, function(path) {
        cat("drawn\n", file = path)
        rlang::warn("an argument has a new name", class = "lifecycle_warning_deprecated")
      }),
      "new name"
    )
    expect_equal(readLines(file), "drawn")
    expect_error(
      write_whole(file, function(path) warning("cannot open file: no space left")),
      "cannot be written",
      class = "dreher_error_input"
    )
    expect_equal(readLines(file), "drawn")
  }
)

test_that("threads: what is stated, else the cores at hand, eight at most", {
  old <- options(dreher.threads = NULL, parallelly.availableCores.system = 1L)
  stated <- Sys.getenv("DREHER_THREADS", NA)
  Sys.unsetenv("DREHER_THREADS")
  on.exit({
    options(old)
    if (!is.na(stated)) Sys.setenv(DREHER_THREADS = stated)
  })
  expect_identical(check_threads(NULL), 1L)
  options(parallelly.availableCores.system = NULL)
  expect_equal(check_threads(NULL), min(8, future::availableCores()))
  Sys.setenv(DREHER_THREADS = "5")
  expect_identical(check_threads(NULL), 5L)
  options(dreher.threads = 3)
  expect_identical(check_threads(NULL), 3L)
  expect_identical(check_threads(2), 2L)
})
