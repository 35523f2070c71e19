# The command as a process: exit status, standard output, standard error.

folder <- tempfile("command")
dir.create(folder)
path <- function(name) file.path(folder, name)
d <- kiln_rows(250, drop = c("ring_tone", "defect", "tile_id", "batch"))
few <- d[c("peak_temp", "hold_minutes", "clay_source", "operator", "strength")]
saveRDS(
  list(forest = small_forest(strength ~ ., few), linear = lm(strength ~ ., few)),
  path("models.rds")
)
utils::write.csv(few, path("train.csv"), row.names = FALSE)
utils::write.csv(kiln$holdout[1:80, names(few)], path("holdout.csv"), row.names = FALSE)
utils::write.csv(kiln$untouched[1:80, names(few)], path("untouched.csv"), row.names = FALSE)

test_that("help, version and wrong usage", {
  x <- command("--help")
  expect_identical(x$status, 0L)
  expect_match(paste(x$out, collapse = "\n"), "Usage: dreher STEP")
  expect_match(command("--version")$out, "^dreher [0-9.]+$")
  x <- command("rank", "--help")
  expect_identical(x$status, 0L)
  expect_match(paste(x$out, collapse = "\n"), "--target")
  wrong <- list(
    character(),
    "fly",
    c("rank", "--colour", "red"),
    c("rank", "--models", path("models.rds")),
    c("rank", "stray"),
    c("demo"),
    c("rank", "--repeats", "many", "--models", "a", "--data", "b", "--target", "c")
  )
  for (w in wrong) {
    x <- do.call(command, as.list(w))
    expect_identical(x$status, 2L, label = paste(w, collapse = " "))
    expect_match(x$err, "^dreher: ")
    expect_length(x$out, 0)
  }
})

test_that("check: findings, and a status that can guard a pipeline", {
  leaky <- transform(few, mirror = exp(strength / 20))
  saveRDS(lm(strength ~ ., leaky), path("leaky.rds"))
  utils::write.csv(leaky, path("leaky_train.csv"), row.names = FALSE)
  other <- transform(kiln$holdout[1:80, names(few)], mirror = exp(strength / 20))
  utils::write.csv(other, path("leaky.csv"), row.names = FALSE)
  x <- command(
    "check", "--models", path("leaky.rds"), "--data", path("leaky.csv"), "--train",
    path("leaky_train.csv"), "--target", "strength"
  )
  expect_identical(x$status, 1L)
  table <- utils::read.csv(text = x$out)
  expect_identical(table$finding[table$severity == "severe"], "leak")
  expect_match(x$err, "severe findings in mirror")
  sound <- c(
    "check", "--models", path("models.rds"), "--data", path("holdout.csv"), "--train",
    path("train.csv"), "--target", "strength"
  )
  expect_identical(do.call(command, as.list(sound))$status, 0L)
  dictionary <- data.frame(predictor = "operator", use = "leave_out")
  utils::write.csv(dictionary, path("words.csv"), row.names = FALSE)
  told <- c(sound, "--dictionary", path("words.csv"))
  expect_identical(do.call(command, as.list(told))$status, 0L)
  strict <- do.call(command, as.list(c(told, "--strict", "--out", path("checked"))))
  expect_identical(strict$status, 1L)
  expect_setequal(list.files(path("checked")), c("checks.csv", "checks.png"))
})

test_that("score: verdicts, every table and figure, and a stated transformation", {
  x <- command(
    "score", "--models", path("models.rds"), "--data", path("holdout.csv"), "--train",
    path("train.csv"), "--target", "strength", "--out", path("scored")
  )
  expect_identical(x$status, 0L)
  expect_match(
    paste(x$out, collapse = " "), "Can the importances be interpreted?", fixed = TRUE
  )
  expect_true(all(
    c(
      "scores.csv", "metrics.csv", "pairs.csv", "gap.csv", "calibration.csv",
      "residuals.csv", "trees.csv", "scores.png", "calibration.png", "residuals.png",
      "trees.png"
    ) %in% list.files(path("scored"))
  ))
  logged <- transform(few, strength = log(strength))
  saveRDS(lm(strength ~ ., logged), path("logged.rds"))
  asked <- c(
    "score", "--models", path("logged.rds"), "--data", path("holdout.csv"), "--train",
    path("train.csv"), "--target", "strength"
  )
  refused <- do.call(command, as.list(asked))
  expect_identical(refused$status, 1L)
  expect_match(refused$err, "target_transform = \"log\"", fixed = TRUE)
  expect_identical(
    do.call(command, as.list(c(asked, "--target-transform", "log")))$status, 0L
  )
  wrong <- do.call(command, as.list(c(asked, "--target-transform", "cube")))
  expect_identical(wrong$status, 2L)
})

test_that("rank: a table on standard output, or files in a folder", {
  x <- command(
    "rank", "--models", path("models.rds"), "--data", path("holdout.csv"), "--train",
    path("train.csv"), "--target", "strength", "--by", "permutation"
  )
  expect_identical(x$status, 0L)
  table <- utils::read.csv(text = x$out)
  expect_identical(nrow(table), 8L)
  st <- study(
    readRDS(path("models.rds")),
    read_rows(path("holdout.csv"), quiet = TRUE),
    "strength",
    train = read_rows(path("train.csv"), quiet = TRUE)
  )
  expect_equal(table$importance, rank_permutation(st)$importance, tolerance = 1e-12)
  x <- command(
    "rank", "--models", path("models.rds"), "--data", path("holdout.csv"), "--train",
    path("train.csv"), "--target", "strength", "--out", path("out"), "--format", "json"
  )
  expect_identical(x$status, 0L)
  expect_setequal(
    list.files(path("out")), c("ranking.json", "ranking.png", "report.html")
  )
  expect_identical(length(jsonlite::fromJSON(path("out/ranking.json"))$rows$model), 20L)
})

test_that("what a model prints while it predicts does not get among the results", {
  utils::capture.output(noisy <- local({
    loud <- function(x) {
      cat("loud\n")
      x
    }
    lm(strength ~ loud(peak_temp) + hold_minutes, few)
  }))
  saveRDS(noisy, path("loud.rds"))
  x <- command(
    "rank", "--models", path("loud.rds"), "--data", path("holdout.csv"), "--target",
    "strength", "--by", "permutation", "--repeats", "3"
  )
  expect_identical(x$status, 0L)
  expect_match(x$err, "loud")
  expect_false(any(x$out == "loud"))
})

test_that(
  "effects, interactions, slices and single rows: tables, pictures, wrong words",
  {
    common <- c(
      "--models", path("models.rds"), "--data", path("holdout.csv"), "--train",
      path("train.csv"), "--target", "strength"
    )
    run <- function(...) do.call(command, as.list(c(...)))
    x <- run(
      "effects",
      common,
      "--predictors",
      "peak_temp,peak_temp:hold_minutes",
      "--points",
      "5"
    )
    expect_identical(x$status, 0L)
    table <- read.csv(text = x$out, na.strings = "")
    expect_setequal(unique(table$model), c("forest", "linear"))
    expect_setequal(unique(table$other), c(NA, "hold_minutes"))
    expect_match(x$err, "Effects on strength")
    out <- path("acting")
    x <- run("interactions", common, "--out", out)
    expect_identical(x$status, 0L)
    expect_true(all(file.exists(file.path(
      out, c("interactions.csv", "interactions.png")
    ))))
    x <- run("row", common, "--which", "3", "--against", "5")
    expect_identical(x$status, 0L)
    table <- read.csv(text = x$out, na.strings = "")
    expect_identical(unique(table$row), 3L)
    expect_match(x$err, "row 5, which has")
    x <- run("slices", common, "--slices", "clay_source", "--by", "score")
    expect_identical(x$status, 0L)
    expect_true(all(startsWith(read.csv(text = x$out)$slice, "clay_source = ")))
    for (wrong in list(
        c("effects", common, "--form", "round"),
        c("effects", common, "--points", "1"),
        c("row", common),
        c("row", common, "--which", "soon"),
        c("interactions", common, "--by", "magic"),
        c("slices", common, "--by", "magic")
      )) {
      expect_identical(run(wrong)$status, 2L, label = paste(wrong, collapse = " "))
    }
    expect_identical(run("row", common, "--which", "999")$status, 1L)
  }
)

test_that("rank: weights, blocks, all pairs", {
  rows <- cbind(
    kiln$holdout[1:60, names(few)], counts = rep(1:3, 20), run = rep(1:12, each = 5)
  )
  utils::write.csv(rows, path("weighted.csv"), row.names = FALSE)
  utils::write.csv(
    cbind(few, counts = 1, run = seq_len(nrow(few))),
    path("weighted-train.csv"),
    row.names = FALSE
  )
  run <- function(...) {
    command(
      "rank",
      "--models",
      path("models.rds"),
      "--data",
      path("weighted.csv"),
      "--train",
      path("weighted-train.csv"),
      "--target",
      "strength",
      "--by",
      "permutation",
      "--weights",
      "counts",
      ...
    )
  }
  st <- study(
    readRDS(path("models.rds")),
    rows,
    "strength",
    train = cbind(few, counts = 1, run = seq_len(nrow(few))),
    weights = "counts"
  )
  x <- run("--repeats", "all")
  expect_identical(x$status, 0L)
  expect_equal(
    utils::read.csv(text = x$out)$importance,
    rank_permutation(st, repeats = "all")$importance,
    tolerance = 1e-12
  )
  x <- run("--blocks", "run", "--repeats", "4")
  expect_identical(x$status, 0L)
  expect_false(isTRUE(all.equal(
    utils::read.csv(text = x$out)$std_error, rank_permutation(st, repeats = 4)$std_error
  )))
  x <- run("--blocks", "lot")
  expect_identical(x$status, 1L)
  expect_match(x$err, "lot")
})

test_that("stability: over resamples, by workers, with a run folder to resume", {
  run <- function(...) {
    command(
      "stability", "--models", path("models.rds"), "--train", path("train.csv"),
      "--target", "strength", "--times", "6", "--format", "json", ...
    )
  }
  x <- run()
  expect_identical(x$status, 0L)
  alone <- jsonlite::fromJSON(x$out)$rows
  train <- read_rows(path("train.csv"), quiet = TRUE)
  st <- study(readRDS(path("models.rds")), train, "strength", train = train)
  sb <- suppressWarnings(stability(rank_predictors(
    st, by = "permutation", resamples = draw_resamples(train, times = 6)
  )))
  expect_equal(alone$importance, as.data.frame(sb)$importance, tolerance = 1e-12)
  expect_equal(alone$spread_upper, as.data.frame(sb)$spread_upper)
  x <- run(
    "--workers", "2", "--run", path("night"), "--out", path("stable"), "--floor-refits", "19",
    "--by", "permutation,impurity"
  )
  expect_identical(x$status, 0L)
  expect_setequal(
    list.files(path("stable")),
    c(
      "resampled.json", "stability.json", "measures.json", "agreement.json", "floor.json",
      "stability.png", "agreement.png", "floor.png", "stability.html"
    )
  )
  expect_true(file.exists(file.path(path("night"), "decoys", "run.sqlite")))
  spread <- jsonlite::fromJSON(path("stable/stability.json"))$rows
  expect_equal(
    spread$importance[spread$method == "permutation"], alone$importance, tolerance = 1e-12
  )
  expect_true(any(grepl(
    "id=\"stability\"", readLines(path("stable/stability.html"))
  )))
  expect_true(any(grepl(
    "id=\"floor\"", readLines(path("stable/stability.html"))
  )))
  floor <- jsonlite::fromJSON(path("stable/floor.json"))$rows
  expect_identical(
    spread$above_floor,
    floor$above[match(
        paste(spread$model, spread$method, spread$predictor),
        paste(floor$model, floor$method, floor$predictor)
      )]
  )
  expect_match(paste(x$out, collapse = " "), "Noise floor of the predictors")
  x <- run("--run", path("night"))
  expect_identical(x$status, 2L)
  expect_match(x$err, "give|go on with it by --resume")
  x <- run("--run", path("night"), "--resume", "--by", "permutation,impurity")
  expect_identical(x$status, 0L)
  expect_equal(jsonlite::fromJSON(x$out)$rows$importance, spread$importance)
  expect_match(run("--resume")$err, "needs --run")
  x <- run("--run", path("night"), "--resume", "--seed", "2")
  expect_identical(x$status, 1L)
  expect_match(x$err, "another run")
})

test_that(
  "stability: in time order, by slices, and the model's own noise beside the sample's",
  {
    train <- read_rows(path("train.csv"), quiet = TRUE)
    train$day <- rev(seq_len(nrow(train)))
    train$`kiln row` <- rep(c("low", "high"), length.out = nrow(train))
    data.table::fwrite(train, path("dated.csv"))
    run <- function(...) {
      command(
        "stability", "--models", path("models.rds"), "--train", path("dated.csv"),
        "--target", "strength", ...
      )
    }
    st <- study(readRDS(path("models.rds")), train, "strength", train = train)
    x <- run("--kind", "time", "--order", "day", "--times", "4")
    expect_identical(x$status, 0L)
    by_hand <- stability(rank_predictors(
      st,
      by = "permutation",
      resamples = draw_resamples(train, "time", times = 4, order = "day")
    ))
    expect_equal(
      utils::read.csv(text = x$out)$importance,
      as.data.frame(by_hand)$importance,
      tolerance = 1e-12
    )
    expect_match(run("--kind", "time")$err, "order")
    x <- run(
      "--times", "5", "--seeds", "4", "--slice", "kiln row", "--strata", "kiln row",
      "--out", path("apart")
    )
    expect_identical(x$status, 0L)
    got <- utils::read.csv(file.path(path("apart"), "stability.csv"))
    expect_setequal(got$slice, c("low", "high"))
    expect_true(all(got$seed_error[got$model == "linear"] == 0))
    expect_gt(max(got$seed_error[got$model != "linear"]), 0)
    expect_setequal(
      utils::read.csv(file.path(path("apart"), "measures.csv"))$slice, c("low", "high")
    )
  }
)

test_that(
  "reduce chooses, confirms, and goes on with a run; compare and confirm take the set",
  {
    common <- list(
      "--models", path("models.rds"), "--train", path("train.csv"), "--target", "strength"
    )
    run <- function(step, ...) do.call(command, c(list(step), common, list(...)))
    x <- run(
      "reduce", "--ranker", "linear", "--folds", "3", "--random", "2", "--run", path("walk"),
      "--confirm", path("untouched.csv"), "--out", path("small")
    )
    expect_identical(x$status, 0L)
    expect_setequal(
      list.files(path("small")),
      c(
        "reduction.csv", "set.json", "confirmation.csv", "reduction.png", "reduction.html"
      )
    )
    expect_match(x$err, "Compared on 80 untouched rows")
    x <- run("reduce")
    expect_identical(x$status, 2L)
    expect_match(x$err, "name one with --ranker")
    y <- run(
      "reduce", "--ranker", "linear", "--folds", "3", "--random", "2", "--run", path("walk"),
      "--resume"
    )
    expect_equal(
      utils::read.csv(text = y$out)$score,
      utils::read.csv(file.path(path("small"), "reduction.csv"))$score
    )
    expect_identical(
      run(
        "reduce", "--ranker", "linear", "--margin", "3", "--rule", "within", "--folds", "3",
        "--random", "0"
      )$status,
      2L
    )
    x <- run(
      "compare",
      "--sets",
      paste0("all; one: peak_temp; chosen: ", file.path(path("small"), "set.json")),
      "--repeats",
      "1",
      "--format",
      "json"
    )
    expect_identical(x$status, 0L)
    rows <- jsonlite::fromJSON(x$out)$rows
    expect_identical(rows$set[rows$model == "linear"], c("all", "one", "chosen"))
    expect_identical(
      rows$predictors[rows$set == "chosen"][1],
      paste(
        read_predictor_set(file.path(path("small"), "set.json"))$predictors,
        collapse = ", "
      )
    )
    x <- run("compare", "--sets", "mine: no_such_column")
    expect_identical(x$status, 1L)
    expect_match(x$err, "no_such_column")
    x <- run(
      "confirm",
      "--set",
      file.path(path("small"), "set.json"),
      "--rows",
      path("untouched.csv")
    )
    expect_identical(x$status, 1L)
    # the look is kept in the file, whatever process made it
    expect_match(x$err, "confirmed on before, once")
    x <- run(
      "confirm",
      "--set",
      file.path(path("small"), "set.json"),
      "--rows",
      path("untouched.csv"),
      "--again"
    )
    expect_identical(x$status, 0L)
    expect_match(x$err, "confirmed on 2 times")
    expect_equal(
      utils::read.csv(text = x$out)$price,
      utils::read.csv(file.path(path("small"), "confirmation.csv"))$price,
      tolerance = 1e-9
    )
    expect_match(
      run(
        "confirm",
        "--set",
        file.path(path("small"), "set.json"),
        "--rows",
        path("train.csv")
      )$err,
      "are training rows"
    )
  }
)

test_that("options and files are checked before any work begins", {
  common <- list(
    "reduce", "--models", path("models.rds"), "--train", path("train.csv"), "--target",
    "strength", "--ranker", "linear"
  )
  fails <- function(status, message, ...) {
    out <- path("never")
    x <- do.call(command, c(common, list("--out", out), list(...)))
    expect_identical(x$status, status, label = message)
    expect_match(x$err, message)
    expect_no_match(x$err, "pieces; about")
    expect_identical(list.files(out), character())
    unlink(out, recursive = TRUE)
  }
  fails(2L, "needs --count", "--rule", "count")
  fails(2L, "--rule", "--rule", "oneSE")
  fails(2L, "needs --floor-refits", "--rule", "floor")
  fails(2L, "give --dictionary", "--rule", "cheapest")
  fails(2L, "margin", "--margin", "a little")
  fails(1L, "neither % nor the study's metric", "--margin", "0.4 furlong")
  fails(2L, "There is no file", "--confirm", path("nowhere.csv"))
  fails(1L, "training rows of the study", "--confirm", path("train.csv"))
  fails(1L, "more than the", "--rule", "count", "--count", "99")
  file.create(path("taken"))
  x <- do.call(command, c(common, list("--out", path("taken/inside"))))
  expect_match(x$err, "cannot be made")
  x <- do.call(command, c(common, list("--format", "xlsx")))
  expect_identical(x$status, 2L)
  expect_match(x$err, "--format xlsx needs --out")
  x <- do.call(command, c(common, list("--target", "defect")))
  expect_match(x$err, "--target is given twice")
  # Several files of models are one study.
  saveRDS(readRDS(path("models.rds"))$linear, path("one.rds"))
  saveRDS(
    lm(strength ~ peak_temp, read_rows(path("train.csv"), quiet = TRUE)), path("two.rds")
  )
  x <- command(
    "rank",
    "--models",
    path("one.rds"),
    paste0("--models=", path("two.rds")),
    "--data",
    path("holdout.csv"),
    "--train",
    path("train.csv"),
    "--target",
    "strength",
    "--by",
    "permutation"
  )
  expect_setequal(utils::read.csv(text = x$out)$model, c("one", "two"))
  expect_false("row.names" %in% names(utils::read.csv(text = x$out)))
})

test_that(
  "failures end with status 1, or 2 where the words show them, and say what was wrong",
  {
    writeLines("not an R object", path("bad.rds"))
    for (case in list(
        list("--models", path("none.rds"), "no file", 2L),
        list("--models", path("bad.rds"), "not an R object", 1L),
        list("--target", "weight", "not a column", 1L),
        list("--data", path("none.csv"), "no file", 2L),
        list("--metric", "auc", "does not fit", 1L),
        list("--seed", "1.5", "--seed. must be a single whole number", 2L),
        list("--seed", "one", "--seed", 2L),
        list("--repeats", "2.7", "whole number, auto or all", 2L),
        list("--repeats", "1e99", "whole number, auto or all", 2L)
      )) {
      args <- list(
        "--models" = path("models.rds"),
        "--data" = path("holdout.csv"),
        "--train" = path("train.csv"),
        "--target" = "strength"
      )
      args[[case[[1]]]] <- case[[2]]
      x <- do.call(
        command, c(list("rank"), as.list(as.vector(rbind(names(args), unlist(args)))))
      )
      expect_identical(x$status, case[[4]], label = paste(case[[1]], case[[2]]))
      expect_match(x$err, case[[3]])
    }
    for (words in list(
        c("--workers", "-1"), c("--workers", "1e9"), c("--folds", "2.5"),
        c("--count", "Inf"), c("--random", "-3"), c("--seed", "1e300")
      )) {
      x <- command(
        "reduce", "--models", path("models.rds"), "--train", path("train.csv"),
        "--target", "strength", "--ranker", "linear", words
      )
      expect_identical(x$status, 2L, label = paste(words, collapse = " "))
      expect_match(x$err, words[1], fixed = TRUE)
    }
  }
)

test_that(
  "nothing that lies in the working folder is run, and a full output is a failure",
  {
    here <- path("prepared")
    dir.create(here)
    trap <- paste0("cat('trapped\\n'); file.create(", deparse(path("trapped")), ")")
    writeLines(trap, file.path(here, ".Rprofile"))
    writeLines(paste0("R_PROFILE_USER=", path("trap.R")), file.path(here, ".Renviron"))
    writeLines(trap, path("trap.R"))
    script <- system.file("exec", "dreher", package = "dreher")
    run_there <- function(redirect) {
      lines <- tempfile(fileext = ".sh")
      writeLines(
        c(
          paste("cd", here), "unset R_ENVIRON_USER R_PROFILE_USER",
          paste(
            script, "rank --models", path("models.rds"), "--data", path("holdout.csv"),
            "--train", path("train.csv"),
            "--target strength --by permutation --repeats 2", redirect
          )
        ),
        lines
      )
      system2("sh", lines, stderr = FALSE)
    }
    expect_identical(run_there(paste(">", path("clean.csv"))), 0L)
    expect_false(file.exists(path("trapped")))
    expect_match(readLines(path("clean.csv"), 1), "^model,method")
    expect_identical(run_there("> /dev/full"), 1L)
  }
)

test_that("the demo runs the whole example and says where everything is", {
  x <- command("demo", "--out", path("demo"))
  expect_identical(x$status, 0L)
  expect_setequal(
    list.files(path("demo")),
    c(
      "scores.csv", "checks.csv", "drift.csv", "ranking.csv", "ranking.json", "floor.csv",
      "floor.png",
      "agreement.csv", "agreement.png", "stability.csv", "stability.png", "reduction.csv",
      "sets.csv", "set.json", "confirmation.json", "twins.png", "curves.png",
      "ranking.png", "methods.png", "reduction.png", "report.html", "scores.png",
      "set.png", "sets.png", "confirmation.png", "checks.png", "drift.png", "trees.png",
      paste0(
        rep(c("effects", "interactions", "contributions", "row", "slices"), 2),
        rep(c(".csv", ".png"), each = 5)
      )
    )
  )
  expect_match(x$err, "Done in [0-9]+ s[.] In .*demo")
  expect_lte(length(x$out), 40)
  expect_match(paste(x$out, collapse = "\n"), "predictors are better than all")
  expect_gt(min(file.size(list.files(path("demo"), "png$", full.names = TRUE))), 15000)
})

test_that("a warning that repeats is told once, and counted", {
  said <- utils::capture.output(
    {
      warned <- tell_once()
      for (i in 1:7) warned$tell(paste0("No convergence for the ", i, "th of 100 penalties."))
      warned$tell("Another one.")
      warned$rest()
    },
    type = "message"
  )
  expect_identical(
    said,
    c(
      "warning: No convergence for the 1th of 100 penalties.", "warning: Another one.",
      "warning: 6 more like this: No convergence for the 1th of 100 penalties."
    )
  )
})

test_that("rows may be a folder of Parquet files", {
  for (part in c("holdout", "untouched")) {
    dir.create(path(part))
    rows <- utils::read.csv(path(paste0(part, ".csv")))
    nanoparquet::write_parquet(rows[1:50, ], file.path(path(part), "a.parquet"))
    nanoparquet::write_parquet(rows[51:80, ], file.path(path(part), "b.parquet"))
  }
  words <- c(
    "rank", "--models", path("models.rds"), "--target", "strength", "--by", "permutation",
    "--train", path("train.csv"), "--data"
  )
  from_file <- do.call(command, as.list(c(words, path("holdout.csv"))))
  from_folder <- do.call(command, as.list(c(words, path("holdout"))))
  expect_identical(from_folder$status, 0L)
  expect_identical(from_folder$out, from_file$out)
  expect_match(from_folder$err, "holdout: 80 rows, 5 columns, copied to")
  x <- command(
    "reduce", "--models", path("models.rds"), "--train", path("train.csv"), "--target",
    "strength", "--ranker", "linear", "--folds", "3", "--repeats", "1", "--random", "0",
    "--confirm", path("untouched")
  )
  expect_identical(x$status, 0L)
  expect_match(x$err, "Compared on 80 untouched rows")
  x <- command(
    "rank", "--models", path("holdout"), "--data", path("holdout.csv"), "--target",
    "strength"
  )
  expect_identical(x$status, 2L)
  expect_match(x$err, "There is no file")
})
