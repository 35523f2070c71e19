# Runs the tests against the installed package and prints "N passed, N failed, N skipped".
library(testthat)
library(dreher)
Sys.setenv(NOT_CRAN = "true")   # snapshots count
options(testthat.progress.max_fails = 1e6)
reporter <- MultiReporter$new(list(
  SummaryReporter$new(max_reports = 100), ListReporter$new()
))
results <- as.data.frame(test_dir(
  "tests/testthat",
  package = "dreher",
  reporter = reporter,
  stop_on_failure = FALSE,
  load_package = "installed"
))
slow <- sort(tapply(results$real, results$file, sum), decreasing = TRUE)[1:5]
cat("\nSlowest:", paste0(names(slow), " ", round(slow), " s", collapse = ", "), "\n")
failed <- sum(results$failed) + sum(results$error)
skipped <- sum(results$skipped)
cat(sprintf("\n%d passed, %d failed, %d skipped\n", sum(results$passed), failed, skipped))
if (failed == 0 && skipped == 0) system2("Rscript", "tools/versions.R")
# A skipped test may not hide what is missing: make test installs all that tests need.
quit(status = if (failed > 0 || skipped > 0) 1L else 0L)
