# Memory that runs out inside a loop must end as an error of R, and the session must go on. In a
# process of its own, whose memory is limited.

limited <- function(code, kilobytes) {
  script <- tempfile(fileext = ".R")
  writeLines(code, script)
  run <- paste0(
    "ulimit -v ", kilobytes, "; exec ", file.path(R.home("bin"), "Rscript"), " ", script
  )
  suppressWarnings(system2("bash", c("-c", shQuote(run)), stdout = TRUE, stderr = TRUE))
}

# A forest of so many outputs that the tables of its Shapley values do not fit.
large_forest <- c(
  "depth <- 6; inner <- 2^depth - 1; nodes <- 2 * inner + 1; trees <- 32; K <- outputs",
  "at <- seq_len(nodes) - 1L; is_leaf <- at >= inner", "one <- function(t) {",
  "  from <- (t - 1L) * nodes",
  paste0(
    "  list(column = ifelse(is_leaf, -1L, at %% 10L), left = from + ifelse(is_leaf, ",
    "0L, 2L * at + 1L),"
  ),
  "       right = from + ifelse(is_leaf, 0L, 2L * at + 2L))", "}",
  "parts <- lapply(seq_len(trees), one)",
  "get <- function(f) as.integer(unlist(lapply(parts, `[[`, f)))",
  "left <- get('left'); left[get('column') < 0] <- 0L",
  "right <- get('right'); right[get('column') < 0] <- 0L", "forest <- flat_forest(",
  paste0(
    "  root = (seq_len(trees) - 1L) * nodes, weight = rep(1 / trees, trees), column = ",
    "get('column'),"
  ),
  "  threshold = rep(0, nodes * trees), left = left, right = right, missing = right,",
  "  value = matrix(1, K, nodes * trees), columns = letters[1:10])"
)

test_that("memory running out in a loop of threads is an error, and the session goes on", {
  skip_on_os(c("windows", "mac"))
  said <- limited(c(
    "library(dreher)", "outputs <- 3000L", large_forest,
    "set.seed(1)",
    "x <- matrix(rnorm(20), 2); z <- matrix(rnorm(1000), 100)",
    "error <- tryCatch(",
    "  dreher:::forest_shapley(forest, x, z, double(), seq_len(10L), 10L, 2L),",
    "  error = conditionMessage)",
    "cat('caught:', if (is.character(error)) error else 'nothing', '\\n')",
    "rm(forest)",
    "outputs <- 2L", large_forest,
    "phi <- dreher:::forest_shapley(forest, x, z, double(), seq_len(10L), 10L, 2L)",
    "cat('goes on:', dim(phi), '\\n')"
  ), 2.4e6)
  expect_match(said, "caught: Memory ran out inside a loop", all = FALSE)
  expect_match(said, "goes on: 2 10 2", all = FALSE)
})
