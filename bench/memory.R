# Peak memory of every step: 200,000 rows x 50 columns, half of them training rows, a forest of 50
# trees. Each step runs in a process of its own, which reports its high-water mark before and after.
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
set.seed(1)
d <- as.data.frame(matrix(stats::rnorm(n * 50), n))
d$y <- d$V1 * d$V2 + d$V3 + stats::rnorm(n)
half <- n %/% 2
train <- d[seq_len(half), ]
model <- ranger::ranger(
  y ~ ., train, num.trees = 50, min.node.size = 20, num.threads = 2, seed = 1
)
file <- tempfile(fileext = ".rds")
saveRDS(
  list(model = model, train = train, data = d[half + seq_len(half), ]), file, compress = FALSE
)
rm(d, train, model)
invisible(gc())
self <- sub("--file=", "", grep("^--file=", commandArgs(), value = TRUE))
out <- do.call(rbind, lapply(steps, function(step) {
  said <- system2("Rscript", c(self, "step", step, file), stdout = TRUE, stderr = FALSE)
  cat(step, ":", said[length(said)], "\n")
  x <- as.numeric(strsplit(trimws(said[length(said)]), " ")[[1]])
  data.frame(
    step = step, rows = n, held_mb = x[1], before_mb = x[2], peak_mb = x[3],
    times_held = round(x[3] / x[1], 2), seconds = x[4]
  )
}))
print(out, row.names = FALSE)
utils::write.csv(out, "bench/results/memory.csv", row.names = FALSE)
