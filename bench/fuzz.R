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
  rows <- readRDS(paste0(sound, ".rows"))
  named <- format %in% c("xgboost_json", "xgboost_ubj", "lightgbm", "onnx_trees")
  counts <- c(refused = 0, read = 0, other = 0)
  for (i in seq(from, to)) {
    set.seed(i)
    file <- tempfile()
    writeBin(damaged(bytes), file)
    said <- tryCatch(
      {
        model <- read_model(file, columns = if (named) names(rows))
        seen <- if (is.null(model$encode)) rows else model$encode(rows)
        inputs <- dreher:::model_inputs(model)
        seen <- dreher:::align_rows(seen, inputs, "file")
        p <- suppressWarnings(dreher:::file_predictions(model, seen))
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
  for (file in dir(folder)) saveRDS(rows[1:10, 1:5], at(paste0(file, ".rows")))
  pmml_files(at)
  onnx_files(at, folder)
}

pmml_files <- function(at) {
  kiln <- dreher::demo_kiln()$train[
    1:300, c("strength", "peak_temp", "clay_source", "hold_minutes", "drying_humidity")
  ]
  kiln <- stats::na.omit(kiln)
  models <- list(
    pmml_tree = rpart::rpart(strength ~ ., kiln),
    pmml_boosted = gbm::gbm(
      strength ~ ., "gaussian", kiln, n.trees = 6, interaction.depth = 2
    ),
    pmml_linear = lm(strength ~ ., kiln)
  )
  for (name in names(models)) {
    utils::capture.output(pmml::save_pmml(pmml::pmml(models[[name]]), at(name)))
    saveRDS(kiln[1:10, -1], at(paste0(name, ".rows")))
  }
}

# Files that the format's own package writes, and the documented JSON of a scikit-learn pipeline.
onnx_files <- function(at, folder) {
  numbers <- c("peak_temp", "hold_minutes", "drying_humidity", "grog_share")
  tiles <- stats::na.omit(
    dreher::demo_kiln()$train[c(numbers, "clay_source", "strength", "defect")]
  )[1:200, ]
  made <- tempfile("onnx")
  dir.create(made)
  utils::write.csv(tiles, file.path(made, "tiles.csv"), row.names = FALSE)
  script <- c(
    "tests/testthat/write_onnx.py", made, system.file("python", package = "dreher")
  )
  stopifnot(system2("/usr/bin/python3", shQuote(script)) == 0)
  from <- c(
    onnx_trees = "boosted.onnx", onnx_steps = "line.onnx", dreher_steps = "pipeline.json"
  )
  for (name in names(from)) {
    file.copy(file.path(made, from[[name]]), at(name))
    columns <- if (name == "onnx_trees") numbers else c(numbers, "clay_source")
    saveRDS(tiles[1:10, columns], at(paste0(name, ".rows")))
  }
}

if (identical(words[1], "child")) {
  child(words[2], as.integer(words[3]), as.integer(words[4]), words[5])
} else {
  files <- if (length(words)) as.integer(words[1]) else 5000
  folder <- tempfile("fuzz")
  dir.create(folder)
  sound_files(folder)
  script <- sub("^--file=", "", grep("^--file=", commandArgs(), value = TRUE))
  found <- do.call(
    rbind,
    lapply(grep("rows$", dir(folder), value = TRUE, invert = TRUE), function(format) {
      counts <- c(refused = 0, read = 0, other = 0, died = 0)
      for (from in seq(1, files, 100)) {
        to <- min(files, from + 99)
        out <- suppressWarnings(system2(
          "sh",
          c(
            "-c",
            shQuote(paste(
              "ulimit -v 4000000; exec timeout 120 Rscript", script, "child", format,
              from, to, file.path(folder, format)
            ))
          ),
          stdout = TRUE
        ))
        got <- suppressWarnings(as.integer(
          strsplit(trimws(utils::tail(out, 1)), " ")[[1]]
        ))
        if (length(got) == 3 && !anyNA(got)) {
          counts[1:3] <- counts[1:3] + got
        } else {
          counts[["died"]] <- counts[["died"]] + (to - from + 1)
        }
      }
      data.frame(format = format, files = files, t(counts))
    })
  )
  print(found)
  utils::write.csv(found, "bench/results/fuzz.csv", row.names = FALSE)
}
