# Runs the tests against the installed package and prints "N passed, N failed, N skipped".
#
#   Rscript tools/test.R             all files, each in a process of its own, two at a time
#   Rscript tools/test.R FILE OUT    one of them; its counts go to OUT
Sys.setenv(NOT_CRAN = "true")   # snapshots count
asked <- commandArgs(TRUE)

if (length(asked)) {
  library(testthat)
  library(dreher)
  options(testthat.progress.max_fails = 1e6)
  results <- as.data.frame(test_dir(
    "tests/testthat",
    filter = paste0("^", sub("^test-(.*)[.]R$", "\\1", asked[1]), "$"),
    package = "dreher",
    reporter = MultiReporter$new(list(CheckReporter$new(), ListReporter$new())),
    stop_on_failure = FALSE,
    load_package = "installed"
  ))
  counts <- data.frame(
    passed = sum(results$passed),
    failed = sum(results$failed) + sum(results$error),
    skipped = sum(results$skipped)
  )
  utils::write.csv(counts, asked[2], row.names = FALSE)
  quit()
}

files <- list.files("tests/testthat", "^test-.*[.]R$")
# The long ones first, so that none is left over at the end.
long <- paste0(
  "test-",
  c(
    "main-command", "pages", "main-run", "view-page", "reduction", "ranking-shapley",
    "examples", "base-folder", "stability", "effect-interactions", "effect-curves"
  ),
  ".R"
)
files <- c(intersect(long, files), setdiff(files, long))
# A batch scheduler wants the machine for itself.
alone <- "test-base-tasks.R"
files <- c(setdiff(files, alone), alone)
workers <- min(2L, parallel::detectCores())
out <- tempfile(sub("[.]R$", "", files), fileext = ".csv")
log <- sub("[.]csv$", ".log", out)
running <- list()
began <- ended <- rep(NA_real_, length(files))
say <- function(i) {
  counts <- tryCatch(
    suppressWarnings(utils::read.csv(out[i])),
    error = function(e) data.frame(passed = 0, failed = 1, skipped = 0)
  )
  ended[i] <<- proc.time()[[3]]
  cat(sprintf(
    "%-34s %4d passed, %d failed, %d skipped, %4.0f s\n", files[i], counts$passed,
    counts$failed, counts$skipped, ended[i] - began[i]
  ))
  counts
}
counts <- vector("list", length(files))
todo <- seq_along(files)
while (length(todo) || length(running)) {
  while (length(todo) && length(running) < if (files[todo[1]] == alone) 1 else workers) {
    i <- todo[1]
    todo <- todo[-1]
    began[i] <- proc.time()[[3]]
    running[[as.character(i)]] <- processx::process$new(
      file.path(R.home("bin"), "Rscript"), c("tools/test.R", files[i], out[i]),
      stdout = log[i], stderr = "2>&1"
    )
  }
  Sys.sleep(0.2)
  for (i in as.integer(names(running))) {
    if (running[[as.character(i)]]$is_alive()) next
    running[[as.character(i)]] <- NULL
    counts[[i]] <- say(i)
  }
}
# Last, where they are not lost among the others.
for (i in which(vapply(counts, function(x) x$failed + x$skipped > 0, NA))) {
  cat(sprintf("\n%s:\n", files[i]))
  cat(readLines(log[i], warn = FALSE), sep = "\n")
}
counts <- colSums(do.call(rbind, counts))
cat(sprintf(
  "\n%d passed, %d failed, %d skipped\n", counts[["passed"]], counts[["failed"]],
  counts[["skipped"]]
))
fine <- counts[["failed"]] == 0 && counts[["skipped"]] == 0
if (fine) system2("Rscript", "tools/versions.R")
# A skipped test may not hide what is missing: make test installs all that tests need.
quit(status = if (fine) 0L else 1L)
