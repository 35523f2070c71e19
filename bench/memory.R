# Peak memory of every step: 200,000 rows x 50 columns, half of them training rows, a forest of 50
# trees. Each step runs in a process of its own, which reports its high-water mark, once with these
# rows and once with 400: the latter is what R and the packages take (`base_mb`). `work_mb` is the
# rest; `allowed_mb` is three times the data, the model and one copy of the rows.
#   Rscript bench/memory.R [rows] [steps]
given <- commandArgs(TRUE)
if (length(given) && given[1] == "step") {
  suppressMessages(library(dreher))
  d <- readRDS(given[3])
  peak <- function() {
    as.numeric(sub(
      "[^0-9]*([0-9]+).*",
      "\\1",
      grep("VmHWM", readLines("/proc/self/status"), value = TRUE)
    )) / 1024
  }
  held <- as.numeric(object.size(d)) / 2^20
  st <- if (given[2] != "study") {
    suppressWarnings(study(list(m = d$model), d$data, "y", train = d$train))
  }
  # The high-water mark starts anew here.
  gc()
  tryCatch(writeLines("5", "/proc/self/clear_refs"), error = function(e) NULL)
  before <- peak()
  seconds <- system.time(switch(
    given[2],
    study = suppressWarnings(study(list(m = d$model), d$data, "y", train = d$train)),
    check = check_data(st),
    permutation = rank_permutation(st, repeats = 3),
    impurity = rank_impurity(st),
    shapley = rank_shapley(st, background = 20, max_rows = 2000),
    cover = rank_shapley(st, value = "cover", max_rows = 2000),
    refit = noise_floor(st, refits = 19, repeats = 1)
  ))[["elapsed"]]
  cat(held, before, peak(), seconds, "\n")
  quit(status = 0)
}
n <- if (length(given)) as.numeric(given[1]) else 200000
steps <- if (length(given) > 1) given[-1] else {
  c("study", "check", "permutation", "impurity", "shapley", "cover")
}
make_file <- function(n) {
  set.seed(1)
  d <- as.data.frame(matrix(stats::rnorm(n * 50), n))
  d$y <- d$V1 * d$V2 + d$V3 + stats::rnorm(n)
  half <- n %/% 2
  train <- d[seq_len(half), ]
  model <- ranger::ranger(
    y ~ ., train, num.trees = 50, min.node.size = 20, num.threads = 2, seed = 1,
    verbose = FALSE
  )
  file <- tempfile(fileext = ".rds")
  saveRDS(
    list(model = model, train = train, data = d[half + seq_len(half), ]), file,
    compress = FALSE
  )
  file
}
self <- sub("--file=", "", grep("^--file=", commandArgs(), value = TRUE))
measure <- function(step, file) {
  said <- system2("Rscript", c(self, "step", step, file), stdout = TRUE, stderr = FALSE)
  as.numeric(strsplit(trimws(said[length(said)]), " ")[[1]])
}
large <- make_file(n)
small <- make_file(400)
out <- do.call(rbind, lapply(steps, function(step) {
  x <- measure(step, large)
  base <- measure(step, small)[3]
  copy <- n * 51 * 8 / 2^20
  found <- data.frame(
    step = step, rows = n, held_mb = x[1], base_mb = base, peak_mb = x[3],
    work_mb = x[3] - base, allowed_mb = 3 * (x[1] + copy), seconds = x[4]
  )
  print(found, row.names = FALSE)
  found
}))
out[-1] <- round(out[-1], 1)
utils::write.csv(out, "bench/results/memory.csv", row.names = FALSE)
if (any(out$work_mb > out$allowed_mb)) quit(status = 1)
