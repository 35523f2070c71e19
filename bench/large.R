# A million rows, a hundred columns, five hundred trees: impurity by routing, and how far memory
# rises over what the rows themselves take. Run with: Rscript bench/large.R [rows]
library(dreher)
ns <- asNamespace("dreher")
n <- as.integer(c(commandArgs(TRUE), "1000000")[1])
p <- 100

peak <- function() {
  status <- readLines("/proc/self/status")
  as.double(sub("[^0-9]*([0-9]+).*", "\\1", grep("^VmHWM", status, value = TRUE))) / 1024
}

set.seed(1)
x <- matrix(rnorm(n * p), n, dimnames = list(NULL, paste0("V", seq_len(p))))
y <- x[, 1] * 2 + x[, 2] * x[, 3] + rnorm(n)
few <- as.data.frame(x[seq_len(5000), ])
few$y <- y[seq_len(5000)]
fit <- ranger::ranger(y ~ ., few, num.trees = 500, seed = 1, num.threads = 2)
forest <- model_forest(fit, model_inputs(fit, few))
rows_mb <- 8 * n * p / 2^20
invisible(gc())
writeLines("5", "/proc/self/clear_refs")   # the peak is counted from here on
before <- peak()
seconds <- system.time(
  out <- ns$forest_impurity(
    forest, x, matrix(y), matrix(0L, 0, 0), 0L, matrix(0, 0, p), matrix(0, 0, 1), 2L
  )
)[["elapsed"]]
result <- data.frame(
  rows = n,
  columns = p,
  trees = 500,
  nodes = length(forest$column),
  rows_mb = round(rows_mb),
  more_mb = round(peak() - before),
  rows_times_trees_mb = round(4 * n * 500 / 2^20),
  seconds = round(seconds, 1)
)
dir.create("bench/results", showWarnings = FALSE)
utils::write.csv(result, "bench/results/large.csv", row.names = FALSE)
print(result)
