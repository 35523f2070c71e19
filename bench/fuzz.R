# Damaged model files end in a clear error, never in a crash or a wrong number.
#
# Of each format a sound file is damaged at random: bytes changed, stretches cut out, doubled or
# exchanged, the end cut off. Children of 100 files each, under limits of time and memory, read
# them. Counted: refused in our words; read, where the damage left a sound file (a changed number
# is a number), with a prediction for each of ten rows; and what must not be: errors of R's own,
# children that died. Run with:
#   Rscript bench/fuzz.R [files a format]
# Results: bench/results/fuzz.csv
words <- commandArgs(TRUE)

child <- function(format, from, to, sound) {
  suppressMessages(library(dreher))
  bytes <- readBin(sound, "raw", 1e7)
  columns <- paste0("x", 1:5)
  counts <- c(refused = 0, read = 0, other = 0)
  for (i in seq(from, to)) {
    set.seed(i)
    file <- tempfile()
    writeBin(damaged(bytes), file)
    said <- tryCatch(
      {
        model <- read_model(file, columns = if (format == "dreher") NULL else columns)
        rows <- as.data.frame(matrix(rnorm(50), 10, dimnames = list(NULL, columns)))
        p <- suppressWarnings(dreher:::file_predictions(model, rows))
        if (nrow(p) == 10) "read" else "other"
      },
      dreher_error = function(e) "refused",
      error = function(e) {
        message(format, " ", i, ": ", conditionMessage(e))
        "other"
      }
    )
    counts[[said]] <- counts[[said]] + 1
    unlink(file)
  }
  cat(counts, "\n")
}

damaged <- function(bytes) {
  n <- length(bytes)
  for (turn in seq_len(sample(3, 1))) {
    at <- sample(n, 1)
    size <- min(sample(c(1, 4, 40, 400), 1), n - at)
    piece <- seq(at, length.out = max(1, size))
    bytes <- switch(
      sample(5, 1),
      replace(bytes, at, as.raw(sample(0:255, 1))),
      replace(bytes, piece, as.raw(sample(32:126, length(piece), TRUE))),
      if (n > length(piece) + 1) bytes[-piece] else bytes,
      c(bytes[seq_len(at)], bytes[piece], bytes[-seq_len(at)]),
      bytes[seq_len(at)]
    )
    n <- length(bytes)
    if (n < 2) return(as.raw(c(123, 125)))
  }
  bytes
}

sound_files <- function(folder) {
  set.seed(1)
  x <- matrix(rnorm(1500), 300, dimnames = list(NULL, paste0("x", 1:5)))
  y <- x[, 1] + (x[, 2] > 0) + rnorm(300)
  at <- function(name) file.path(folder, name)
  booster <- xgboost::xgb.train(
    list(max_depth = 3, nthread = 1), xgboost::xgb.DMatrix(x, label = y), nrounds = 8
  )
  for (kind in c("json", "ubj")) {
    writeBin(xgboost::xgb.save.raw(booster, raw_format = kind), at(paste0("xgboost_", kind)))
  }
  grown <- lightgbm::lgb.train(
    list(objective = "regression", num_leaves = 6, verbose = -1, num_threads = 1),
    lightgbm::lgb.Dataset(x, label = y), nrounds = 8
  )
  writeLines(grown$save_model_to_string(), at("lightgbm"), sep = "")
  rows <- data.frame(x, y = y)
  fit <- ranger::ranger(y ~ ., rows, num.trees = 6, seed = 1, num.threads = 1)
  st <- suppressWarnings(dreher::study(fit, rows[1:100, ], "y", train = rows))
  dreher::write_forest(st, at("dreher"))
}

if (identical(words[1], "child")) {
  child(words[2], as.integer(words[3]), as.integer(words[4]), words[5])
} else {
  files <- if (length(words)) as.integer(words[1]) else 5000
  folder <- tempfile("fuzz")
  dir.create(folder)
  sound_files(folder)
  script <- sub("^--file=", "", grep("^--file=", commandArgs(), value = TRUE))
  found <- do.call(rbind, lapply(dir(folder), function(format) {
    counts <- c(refused = 0, read = 0, other = 0, died = 0)
    for (from in seq(1, files, 100)) {
      to <- min(files, from + 99)
      out <- suppressWarnings(system2(
        "sh",
        c("-c", shQuote(paste(
          "ulimit -v 4000000; exec timeout 120 Rscript", script, "child", format, from, to,
          file.path(folder, format)
        ))),
        stdout = TRUE
      ))
      got <- suppressWarnings(as.integer(strsplit(trimws(utils::tail(out, 1)), " ")[[1]]))
      if (length(got) == 3 && !anyNA(got)) {
        counts[1:3] <- counts[1:3] + got
      } else {
        counts[["died"]] <- counts[["died"]] + (to - from + 1)
      }
    }
    data.frame(format = format, files = files, t(counts))
  }))
  print(found)
  utils::write.csv(found, "bench/results/fuzz.csv", row.names = FALSE)
}
