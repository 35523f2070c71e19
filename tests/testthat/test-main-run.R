# Study files: their faults, drafts from tables, runs, and the command around them.

work <- tempfile("study")
dir.create(work)
at <- function(...) file.path(work, ...)
quiet <- function(code) suppressWarnings(suppressMessages(code))
write_study <- function(name, ...) {
  writeLines(c(...), at(name))
  at(name)
}
tiles <- kiln_rows(300, drop = c("ring_tone", "defect", "tile_id", "batch"))[
  c("peak_temp", "hold_minutes", "clay_source", "operator", "strength")
]
utils::write.csv(tiles, at("tiles.csv"), row.names = FALSE)
utils::write.csv(
  kiln_rows(100, "untouched")[names(tiles)], at("fresh.csv"), row.names = FALSE
)

small <- c(
  "dreher: 1",
  "data:",
  "  file: tiles.csv",
  "  split: {holdout: 0.3, untouched: 0.2}",
  "target: strength",
  "models:",
  "  tree:",
  "    learner: tree",
  "  linear: {learner: linear}",
  "rank:",
  "  by: [permutation]",
  "  repeats: 2",
  "stability:",
  "  times: 4",
  "  repeats: 1",
  "reduce:",
  "  model: linear",
  "  folds: 3",
  "  repeats: 1",
  "  random: 0",
  "confirm:",
  "seed: 3"
)

test_that("all faults of a file are said at once, each with its line", {
  file <- write_study(
    "faulty.yml",
    "dreher: 2",
    "data:",
    "  file: nowhere.csv",
    "  holdout: tiles.csv",
    "  spilt: {holdout: 0.2}",
    "models:",
    "  a:",
    "    learner: woods",
    "  b:",
    "    learner: forest",
    "    settings: {num.tree: 5}",
    "rank:",
    "  by: [permutation, magic]",
    "  repeats: some",
    "reduce:",
    "  folds: 1.5",
    "  thin_twins: maybe"
  )
  x <- check_study_file(file)
  expect_s3_class(x, "dreher_faults")
  said <- stats::setNames(x$line, x$field)
  expect_identical(said[["dreher"]], 1L)
  expect_identical(said[["data.spilt"]], 5L)
  expect_match(x$todo[x$field == "data.spilt"], "Did you mean split")
  expect_identical(said[["models.a.learner"]], 8L)
  expect_identical(said[["rank.by[2]"]], 13L)
  expect_identical(said[["rank.repeats"]], 14L)
  expect_identical(said[["reduce.folds"]], 16L)
  expect_identical(said[["reduce.thin_twins"]], 17L)
  expect_true(is.na(said[["target"]]))
  expect_error(run_study(file), "eight faults", class = "dreher_error_input")
})

test_that("files, columns, settings and models that are not there are faults", {
  file <- write_study(
    "faulty2.yml",
    "dreher: 1",
    "data:",
    "  file: tiles.csv",
    "  leave_out: [batsh]",
    "target: strenght",
    "models:",
    "  a:",
    "    learner: forest",
    "    settings:",
    "      num.tree: 5",
    "  b: {file: none.rds}",
    "blocks: operator",
    "metric: rsme",
    "dictionary: words.csv",
    "stability:",
    "  kind: time",
    "reduce:",
    "  model: c",
    "  rule: count",
    "  margin: 2",
    "confirm:"
  )
  x <- check_study_file(file)
  lines <- stats::setNames(x$line, x$field)
  expect_identical(lines[["models.a.settings.num.tree"]], 8L + 1L)
  expect_identical(lines[["models.b.file"]], 11L)
  expect_identical(lines[["target"]], 5L)
  expect_identical(lines[["metric"]], 13L)
  expect_identical(lines[["dictionary"]], 14L)
  expect_identical(lines[["stability.kind"]], 16L)
  expect_identical(lines[["reduce.model"]], 18L)
  expect_identical(lines[["reduce.rule"]], 19L)
  expect_identical(lines[["confirm"]], 21L)
  expect_match(x$todo[x$field == "metric"], "Did you mean rmse")
  # with a target that is there the other columns are looked at
  writeLines(sub("strenght", "strength", readLines(file)), file)
  expect_match(
    paste(format_faults(check_study_file(file)), collapse = "\n"),
    "line 4: data.leave_out: the rows have no column \"batsh\""
  )
  expect_match(format_faults(check_study_file(write_study("no.yml", "a: [1"))), "no YAML")
  expect_match(format_faults(check_study_file(write_study("text.yml", "hello"))), "no fields")
  expect_error(check_study_file(at("gone.yml")), "There is no file")
})

test_that("words of a file are words, and nothing in it is run", {
  odd <- data.frame(x = stats::rnorm(60), kind = rep(c("yes", "no"), 30))
  utils::write.csv(odd, at("odd.csv"), row.names = FALSE)
  file <- write_study(
    "odd.yml", "dreher: 1", "data: {file: odd.csv}", "target: kind", "positive: no",
    "models: {a: {learner: linear}}"
  )
  expect_identical(nrow(check_study_file(file)), 0L)
  expect_identical(sound_spec(file)$positive, "no")
  writeLines(c(readLines(file), "metric: !expr stop('run')"), file)
  expect_match(format_faults(check_study_file(file)), "metric")
})

test_that("the shipped study file is sound, and its schema describes every field", {
  copied <- at("kiln")
  dir.create(copied)
  from <- dir(
    system.file("extdata", package = "dreher"), "^kiln.*csv", full.names = TRUE
  )
  file.copy(c(from, system.file("study", "kiln.yml", package = "dreher")), copied)
  expect_identical(nrow(check_study_file(file.path(copied, "kiln.yml"))), 0L)
  described <- function(s) {
    all(vapply(
      s$properties,
      function(p) {
        is.character(p$description) && nzchar(p$description) && described(p)
      },
      NA
    ))
  }
  expect_true(described(study_schema()))
  # values that a file may give are those that the functions take
  reduce <- study_schema()$properties$reduce$properties
  expect_setequal(unlist(reduce$rule$enum), set_rules)
  expect_setequal(
    unlist(study_schema()$properties$models$additionalProperties$properties$learner$enum),
    names(learner_table())
  )
  expect_true(all(
    unlist(study_schema()$properties$effects$properties$form$enum) %in% effect_forms
  ))
})

test_that("rows are split by the seed, within classes, and by whole blocks", {
  spec <- list(
    data = list(split = list(holdout = 0.25, untouched = 0.25)), target = "y", seed = 5L
  )
  rows <- data.frame(y = factor(rep(c("a", "b"), c(40, 80))), g = rep(1:12, each = 10))
  parts <- split_table(rows, spec)
  expect_identical(vapply(parts, nrow, 1L), c(train = 60L, holdout = 30L, untouched = 30L))
  expect_identical(as.vector(table(parts$holdout$y)), c(10L, 20L))
  expect_identical(split_table(rows, spec), parts)
  blocked <- split_table(rows, c(spec, blocks = "g"))
  together <- lapply(blocked, function(p) unique(p$g))
  expect_identical(sum(lengths(together)), 12L)
  expect_identical(lengths(together)[["untouched"]], 3L)
  # in time: the last rows, whatever their order in the table
  spec$data$split$order <- "day"
  rows$day <- as.Date("2026-01-01") + sample(120)
  late <- split_table(rows, spec)
  expect_lt(max(late$train$day), min(late$holdout$day))
  expect_lt(max(late$holdout$day), min(late$untouched$day))
  expect_identical(vapply(late, nrow, 1L), c(train = 60L, holdout = 30L, untouched = 30L))
})

test_that(
  "learners take what tables hold, and what is read of them predicts as they do",
  {
    set.seed(4)
    n <- 160
    rows <- data.frame(
      size = stats::rnorm(n),
      day = as.Date("2026-01-01") + seq_len(n),
      kind = sample(
        c("red", "green", "blue", "rare 1", "rare 2"), n, TRUE, c(5, 5, 5, 0.1, 0.1)
      ),
      word = replicate(n, paste(sample(letters, 6), collapse = ""))
    )
    rows$number <- rows$size + (rows$kind == "red") + stats::rnorm(n, sd = 0.3)
    rows$two <- ifelse(rows$number > 0, "high", "low")
    rows$three <- cut(rows$number, 3, c("a", "b", "c"))
    rows$size[c(3, 50)] <- NA
    new <- rows[1:40, ]
    new$kind[1] <- "never met"
    both <- same_levels(list(train = rows, holdout = new))
    rows <- both$train
    new <- both$holdout
    new$day[2] <- NA
    predictors <- c("size", "day", "kind", "word")
    for (learner in names(learner_table())) {
      for (target in c("number", "two", "three")) {
        task <- if (target == "number") "regression" else "classification"
        label <- paste(learner, target)
        made <- quiet(train_learner(
          learner, list(), rows, target, task, predictors, 1, 1
        ))
        expect_true(is.function(made$encode), label = label)
        d <- rows[c(predictors, target)]
        d[[target]] <- if (task == "classification") factor(d[[target]]) else d[[target]]
        h <- new[c(predictors, target)]
        h[[target]] <- if (is.factor(d[[target]])) {
          factor(h[[target]], levels(d[[target]]))
        } else {
          h[[target]]
        }
        st <- quiet(study(
          list(m = made$model),
          h,
          target,
          train = d,
          encode = list(m = made$encode),
          threads = 1
        ))
        p <- predict_set(st, st$models$m, st$train, st$data, c("size", "kind"), 1, "t")
        expect_false(anyNA(p), label = label)
        rk <- quiet(rank_permutation(st, repeats = 2))
        expect_identical(
          rk$predictor[which.max(rk$importance)] %in% c("size", "kind"),
          TRUE,
          label = label
        )
      }
    }
    coder <- make_coder(rows[predictors], learner_table()$linear)
    coded <- coder(rows[predictors])
    expect_false(anyNA(coded))
    expect_identical(coded$c1_1[3], stats::median(rows$size, na.rm = TRUE))
    expect_identical(coded$c2_1, as.double(rows$day))
    # text of all different words tells nothing: one level, no column
    expect_setequal(unlist(attr(coded, "stems_from")), c("size", "day", "kind"))
    # settings reach the library
    deep <- train_learner(
      "tree", list(maxdepth = 1), tiles, "strength", "regression", "peak_temp", 1, 1
    )
    expect_lte(nrow(deep$model$frame), 3)
  }
)

test_that("a run is written out, kept, and done again only where a change touches it", {
  file <- write_study("small.yml", small)
  r <- quiet(run_study(file))
  expect_setequal(r$steps$state, "done")
  expect_identical(r$folder, normalizePath(at("small_results")))
  out <- function(name) file.path(r$folder, name)
  for (name in c(
      "scores.csv", "ranking.csv", "ranking.png", "stability.csv", "set.json",
      "confirmation.csv", "report.html"
    )) {
    expect_true(file.exists(out(name)), label = name)
  }
  # the same as by hand
  tables <- file_tables(sound_spec(file))
  by_hand <- study(
    list(linear = stats::lm(strength ~ ., tables$train)),
    tables$holdout,
    "strength",
    train = tables$train
  )
  hand <- quiet(score_models(by_hand))
  expect_equal(r$scores$score[r$scores$model == "linear"], hand$score)
  states <- function(...) {
    changed <- small
    for (change in list(...)) changed <- sub(change[1], change[2], changed)
    writeLines(changed, file)
    x <- quiet(run_study(file))
    expect_false(any(x$steps$state == "failed"))
    x$steps$step[x$steps$state == "done"]
  }
  expect_identical(states(), character())
  written <- file.mtime(out("report.html"))
  expect_identical(states(c("repeats: 2", "repeats: 3")), c("ranking", "agreement"))
  expect_gt(file.mtime(out("report.html")), written)
  expect_identical(
    states(c("times: 4", "times: 5"), c("repeats: 2", "repeats: 3")),
    c("ranked_again", "stability")
  )
  # a label of the dictionary is a word, a cost is what sets are chosen by
  words <- data.frame(predictor = names(tiles)[1:4], label = c("Heat", "b", "c", "d"))
  utils::write.csv(words, at("words.csv"), row.names = FALSE)
  with_words <- c("seed: 3", "seed: 3\ndictionary: words.csv")
  usual <- c("repeats: 2", "repeats: 3")
  both <- c("times: 4", "times: 5")
  expect_identical(states(both, usual, with_words), character())
  expect_match(
    paste(readLines(out("report.html"), warn = FALSE), collapse = ""), ">Heat<"
  )
  words$cost <- 1:4
  utils::write.csv(words, at("words.csv"), row.names = FALSE)
  expect_identical(states(both, usual, with_words), c("reduction", "set"))
  # resumed from its folder; a dry run computes nothing
  again <- quiet(resume_study(r$folder))
  expect_setequal(again$steps$state, "kept")
  expect_identical(again$ranking$importance, quiet(run_study(file))$ranking$importance)
  writeLines(sub("seed: 3", "seed: 4", small), file)
  before <- list.files(r$folder, recursive = TRUE, all.files = TRUE)
  dry <- quiet(run_study(file, dry_run = TRUE))
  expect_setequal(dry$steps$state, "to do")
  expect_identical(list.files(r$folder, recursive = TRUE, all.files = TRUE), before)
  expect_match(paste(format_run(dry), collapse = "\n"), "In all about")
  expect_match(paste(format_run(r), collapse = "\n"), "Page: .*report.html")
  expect_error(resume_study(work), "holds no run")
})

test_that("untouched rows are confirmed on once, and a failed step loses itself only", {
  # other untouched rows than those of the test before: a session remembers what it looked at
  file <- write_study(
    "once.yml",
    sub("seed: 3", "seed: 30", sub("random: 0", "random: 0\n  rule: one_se", small))
  )
  first <- quiet(run_study(file))
  expect_s3_class(first$confirmation, "dreher_confirmation")
  # the same set by another rule is confirmed; another set on the same rows is not
  writeLines(sub("one_se", "one_se_paired", readLines(file)), file)
  same <- quiet(run_study(file))
  if (setequal(same$set$predictors, first$set$predictors)) {
    expect_identical(same$steps$state[same$steps$step == "confirmation"], "kept")
  }
  other <- if (first$set$count == 1) 2 else 1
  writeLines(
    sub("one_se_paired", paste0("count\n  count: ", other), readLines(file)), file
  )
  second <- quiet(run_study(file))
  state <- stats::setNames(second$steps$state, second$steps$step)
  expect_identical(state[["confirmation"]], "failed")
  expect_match(
    second$steps$error[second$steps$step == "confirmation"], "confirmed on before"
  )
  expect_identical(state[["scores"]], "kept")
  expect_null(second$confirmation)
  expect_match(paste(format_run(second), collapse = "\n"), "failed: confirmation")
  expect_true(file.exists(file.path(second$folder, "report.html")))
})

test_that("rows come from a database by queries, passwords from the environment", {
  con <- DBI::dbConnect(RSQLite::SQLite(), at("tiles.sqlite"))
  DBI::dbWriteTable(con, "tiles", tiles)
  DBI::dbDisconnect(con)
  file <- write_study(
    "base.yml",
    "dreher: 1",
    "data:",
    "  database:",
    "    driver: RSQLite::SQLite",
    "    arguments: {dbname: $TILES_BASE}",
    "  train: SELECT * FROM tiles LIMIT 200",
    "  holdout: SELECT * FROM tiles LIMIT 100 OFFSET 200",
    "target: strength",
    "models: {\"a/b <i>\": {learner: linear}}",
    "output: {format: sqlite, database: {driver: RSQLite::SQLite,",
    "  arguments: {dbname: $TILES_BASE}, prefix: kiln_}}"
  )
  expect_match(
    paste(format_faults(check_study_file(file)), collapse = " "), "no TILES_BASE"
  )
  Sys.setenv(TILES_BASE = at("tiles.sqlite"))
  on.exit(Sys.unsetenv("TILES_BASE"))
  r <- quiet(run_study(file))
  expect_identical(nrow(r$study$train), 200L)
  expect_identical(r$study$data$strength, tiles$strength[201:300])
  # results in one file, and in the database as well
  for (place in list(
      list(file.path(r$folder, "results.sqlite"), "scores"),
      list(at("tiles.sqlite"), "kiln_scores")
    )) {
    base <- DBI::dbConnect(RSQLite::SQLite(), place[[1]])
    expect_equal(DBI::dbReadTable(base, place[[2]])$score, r$scores$score)
    DBI::dbDisconnect(base)
  }
  # a database that cannot be reached loses nobody the files
  Sys.setenv(TILES_BASE = at("tiles.sqlite"), RESULTS_BASE = at("nowhere", "x.sqlite"))
  on.exit(Sys.unsetenv("RESULTS_BASE"), add = TRUE)
  text <- readLines(file)
  at_end <- length(text)
  writeLines(c(text[-at_end], sub("TILES_BASE", "RESULTS_BASE", text[at_end])), file)
  unlink(r$folder, recursive = TRUE)
  expect_warning(
    suppressMessages(run_study(file)),
    "not all in the database",
    class = "dreher_warning_database"
  )
  expect_true(file.exists(file.path(r$folder, "report.html")))
})

test_that("from a table and nothing else to a page", {
  tables <- list(
    birthwt = list(MASS::birthwt, "low"),
    air = list(datasets::airquality, "Ozone"),
    iris = list(datasets::iris, "Species"),
    warp = list(datasets::warpbreaks, "breaks")
  )
  for (name in names(tables)) {
    dir.create(at(name))
    utils::write.csv(
      tables[[name]][[1]], at(name, "data.csv"), row.names = FALSE, na = ""
    )
    file <- quiet(draft_study(
      at(name, "data.csv"),
      tables[[name]][[2]],
      file = at(name, "study.yml"),
      minutes = 0.2
    ))
    expect_identical(nrow(quiet(check_study_file(file))), 0L, label = name)
    r <- quiet(run_study(file))
    expect_setequal(r$steps$state, "done")
    expect_true(file.exists(file.path(r$folder, "report.html")), label = name)
  }
  # repeated measurements are taken as blocks where they are many, and told where they are few
  for (name in c("bacteria", "CO2")) {
    dir.create(at(name))
    rows <- list(bacteria = MASS::bacteria, CO2 = as.data.frame(datasets::CO2))[[name]]
    utils::write.csv(rows, at(name, "data.csv"), row.names = FALSE)
    quiet(draft_study(
      at(name, "data.csv"),
      c(bacteria = "y", CO2 = "uptake")[[name]],
      file = at(name, "study.yml"),
      minutes = 0.2
    ))
  }
  many <- readLines(at("bacteria", "study.yml"))
  expect_match(
    many, "^blocks: ID   # its rows .*: ap, hilo and trt never change", all = FALSE
  )
  # a name cannot end its comment
  expect_length(draft_blocks(NULL, list(unit = "a\nb: 1", constant = "c\nd: 2")), 2)
  expect_false(any(grepl("\n", draft_blocks(
    "a", list(unit = "a", constant = c("c\nd: 2", "e"))
  ))))
  few <- readLines(at("CO2", "study.yml"))
  expect_false(any(startsWith(few, "blocks:")))
  expect_match(
    few, "^# rows of one Plant look like one unit: Type and Treatment", all = FALSE
  )
  expect_identical(nrow(quiet(check_study_file(at("CO2", "study.yml")))), 0L)
  expect_error(
    draft_study(at("iris", "data.csv"), "Species", file = at("iris", "study.yml")),
    "exists"
  )
  expect_error(
    draft_study(at("iris", "data.csv"), "Specie", file = at("other.yml")), "Specie"
  )
})

test_that("the command: init, check, run, and a study file in place of options", {
  made <- at("made.yml")
  x <- command(
    "init", at("tiles.csv"), "--target", "strength", "--out", made, "--minutes", "0.1"
  )
  expect_identical(x$status, 0L)
  expect_match(paste(x$out, collapse = "\n"), "dreher run ", fixed = TRUE)
  expect_identical(command("check", made)$out, "No faults.")
  broken <- write_study("broken.yml", sub("learner: tree", "learner: treee", small))
  x <- command("check", broken)
  expect_identical(x$status, 1L)
  expect_match(x$out, "line 8: models.tree.learner")
  x <- command("run", broken)
  expect_identical(x$status, 1L)
  expect_match(x$err, "line 8")
  expect_identical(command("run")$status, 2L)
  expect_identical(command("run", "a.yml", "b.yml")$status, 2L)
  file <- write_study("small2.yml", small)
  x <- command("run", file, "--dry-run")
  expect_identical(x$status, 0L)
  expect_match(paste(x$out, collapse = "\n"), "reduction +about")
  x <- command("rank", "--study", file)
  expect_identical(x$status, 0L)
  expect_setequal(utils::read.csv(text = x$out)$method, "permutation")
  x <- command("rank", "--study", file, "--by", "association")
  expect_setequal(utils::read.csv(text = x$out)$method, "association")
  x <- command("rank", "--study", file, "--target", "strength")
  expect_identical(x$status, 2L)
  expect_match(x$err, "stands beside --study")
  x <- command("reduce", "--study", file)
  expect_identical(x$status, 0L)
  expect_match(x$err, "untouched rows")
  expect_true(all(utils::read.csv(text = x$out)$model == "linear"))
})

test_that(
  "the page is written anew from a run, shells complete, and the manual names all",
  {
    file <- write_study("small3.yml", sub("seed: 3", "seed: 33", small))
    x <- command("report", file, "--short")
    expect_identical(x$status, 0L)
    expect_true(file.exists(file.path(at("small3_results"), "short.html")))
    x <- command("rank", "--study", file, "--format", "text")
    expect_match(paste(x$out, collapse = "\n"), "Ranking of the predictors of strength")
    expect_identical(
      command("rank", "--study", file, "--format", "text", "--out", at("o"))$status, 2L
    )
    script <- tempfile()
    x <- command("--completion", "bash")
    writeLines(x$out, script)
    completed <- function(...) {
      system2(
        "bash",
        c(
          "-c",
          shQuote(paste0(
            "source ", script, "; COMP_WORDS=(dreher ", paste(..., sep = " "),
            "); COMP_CWORD=", length(c(...)), "; _dreher; echo ${COMPREPLY[@]}"
          ))
        ),
        stdout = TRUE
      )
    }
    expect_identical(completed("stab"), "stability")
    expect_identical(completed("reduce", "--refi"), "--refit-as")
    expect_identical(command("--completion", "tcsh")$status, 2L)
    manual <- command("--manual")$out
    for (step in names(command_steps())) {
      expect_true(paste0(".SS ", step) %in% manual, label = step)
    }
    expect_match(
      paste(command("--completion", "fish")$out, collapse = "\n"), "-l dry-run"
    )
  }
)

test_that("a run that is killed goes on, and ends like one that was not", {
  file <- write_study("night.yml", sub("times: 4", "times: 40", small))
  script <- system.file("exec", "dreher", package = "dreher")
  kept <- function() list.files(at("night_results", "kept"), "rds$")
  # Killed as soon as so many steps are kept: amid the rankings over resamples, and after them.
  for (steps in c(4, 6)) {
    pid <- start_r(script, "run", file)
    for (i in 1:2400) if (length(kept()) < steps) Sys.sleep(0.05)
    system2("kill", c("-9", pid))
    expect_false(file.exists(at("night_results", "report.html")))
  }
  expect_gte(length(kept()), 6)
  x <- command("run", file)
  expect_identical(x$status, 0L)
  expect_match(paste(x$out, collapse = "\n"), "kept from an earlier run")
  whole <- quiet(run_study(write_study("whole.yml", readLines(file))))
  looked <- jsonlite::fromJSON(at("night_results", "set.json"))$looks
  expect_identical(nrow(looked), 1L)
  for (name in c("ranking.csv", "stability.csv", "reduction.csv", "agreement.csv")) {
    expect_identical(
      readLines(at("night_results", name)),
      readLines(file.path(whole$folder, name)),
      label = name
    )
  }
})

test_that(
  "names and levels are inert and legible in the page, in tables and spreadsheets",
  {
    set.seed(2)
    n <- 160
    d <- data.frame(
      a = rnorm(n),
      b = rnorm(n),
      c = sample(
        c("=2+3", "<i>x</i>", "\u05e9\u05dc\u05d5\u05dd", "plain, \"q\""), n, TRUE
      ),
      e = rnorm(n)
    )
    names(d) <- c(
      "<script>alert(1)</script>", "=1+1", "\u05de\u05d7\u05d9\u05e8 \u202eabc",
      "line\nbreak"
    )
    d$y <- d[[1]] + d[[2]] + (d[[3]] == "=2+3") + rnorm(n)
    data.table::fwrite(d, at("odd.csv"))
    file <- write_study(
      "odd.yml",
      "dreher: 1",
      "data:",
      "  file: odd.csv",
      "  split: {holdout: 0.3}",
      "target: y",
      "models:",
      "  \"<b>tree</b>\": {learner: tree}",
      "  linear: {learner: linear}",
      "rank:",
      "  by: [permutation]",
      "effects:",
      "drift:",
      "output: {format: xlsx}"
    )
    r <- quiet(run_study(file))
    expect_setequal(r$steps$state, "done")
    expect_setequal(unique(r$ranking$predictor), names(d)[1:4])
    page <- paste(
      readLines(file.path(r$folder, "report.html"), warn = FALSE), collapse = "\n"
    )
    expect_no_match(page, "<script>alert|<b>tree|<i>x")
    expect_match(page, "&lt;script&gt;alert(1)&lt;/script&gt;", fixed = TRUE)
    expect_match(page, "\u05de\u05d7\u05d9\u05e8", fixed = TRUE)
    expect_no_match(page, "\u202e", fixed = TRUE)
    csv <- tempfile(fileext = ".csv")
    write_results(r$effects, csv)
    text <- paste(readLines(csv, encoding = "UTF-8"), collapse = "\n")
    expect_match(text, "(^|,)'=1[+]1,")
    expect_match(text, "(^|,)'=2[+]3,")
    expect_no_match(text, "(^|[,\n])=")
    inside <- tempfile()
    utils::unzip(file.path(r$folder, "ranking.xlsx"), exdir = inside)
    sheet <- paste(
      readLines(file.path(inside, "xl", "worksheets", "sheet1.xml"), warn = FALSE),
      collapse = ""
    )
    expect_no_match(sheet, "<f>")
    # Text stands in the sheet or in a file of its own, by the version of the writer.
    shared <- file.path(inside, "xl", "sharedStrings.xml")
    if (file.exists(shared)) sheet <- c(sheet, readLines(shared, warn = FALSE))
    expect_match(paste(sheet, collapse = ""), ">=1+1<", fixed = TRUE)
    expect_output(print(r), "script")
  }
)

test_that("a study file names folders of Parquet files, of which all rows are taken", {
  parts <- list(
    holdout = kiln_rows(120, "holdout"), untouched = kiln_rows(100, "untouched")
  )
  for (part in names(parts)) {
    dir.create(at(part))
    rows <- parts[[part]][names(tiles)]
    rows$clay_source <- as.character(rows$clay_source)
    nanoparquet::write_parquet(rows, at(part, "a.parquet"))
  }
  file <- write_study(
    "folders.yml",
    "dreher: 1",
    "data: {train: tiles.csv, holdout: holdout, untouched: untouched}",
    "target: strength",
    "models: {line: {learner: linear}}",
    "rank: {by: [permutation]}",
    "reduce: {folds: 3, repeats: 1, random: 0}",
    "confirm:"
  )
  expect_identical(nrow(check_study_file(file)), 0L)
  expect_match(
    format_faults(check_study_file(write_study(
      "odd.yml",
      "dreher: 1",
      "data: {train: holdout}",
      "target: strength",
      "models: {line: {learner: linear}}"
    ))),
    "there is no file \"holdout\"",
    all = FALSE
  )
  r <- quiet(run_study(file))
  expect_identical(detail(r$ranking, "settings")$n, 120L)
  expect_identical(r$confirmation$n, 100L)
})
