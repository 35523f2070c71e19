# Study files that were written to do harm, or by somebody in a hurry: one fault each, soon.

folder <- tempfile("study")
dir.create(folder)
kiln <- demo_kiln(missing = FALSE)
utils::write.csv(
  kiln$train[1:120, c("strength", "peak_temp", "hold_minutes")],
  file.path(folder, "rows.csv"),
  row.names = FALSE
)
head_lines <- c(
  "dreher: 1", "data: {file: rows.csv, split: {holdout: 0.3}}", "target: strength"
)
sound <- c(head_lines, "models: {linear: {learner: linear}}")
file_of <- function(...) {
  file <- tempfile("s", folder, ".yml")
  writeLines(c(...), file)
  file
}
faults_of <- function(...) format_faults(check_study_file(file_of(...)))

test_that("a driver is one of those that are known: no other function is called", {
  database <- function(driver) {
    paste0("data: {database: {driver: '", driver, "'}, train: x}")
  }
  for (driver in c("base::quit", "base::system", "dreher::demo_kiln", "RSQLite")) {
    expect_match(
      faults_of(head_lines[-2], database(driver), sound[4]), "must be one of RSQLite"
    )
  }
})

test_that("numbers beyond their limits are faults", {
  expect_match(faults_of(sound, "seed: .inf"), "^line 5: seed: must be a whole number")
  expect_match(faults_of(sound, "seed: .nan"), "^line 5: seed: must be")
  expect_match(faults_of(sound, "seed: 3000000000"), "seed: must be at most 2,147,483,647")
  expect_match(faults_of(sound, "workers: 1000000000"), "workers: must be at most 1,024")
  expect_match(faults_of(sound, "workers: .inf"), "workers: must be a whole number")
})

test_that("a second document is a fault, marks around one are none", {
  expect_match(faults_of(sound, "---", "dreher: 1"), "line 5: a second document begins here")
  expect_identical(faults_of("# of the kiln", "---", sound), "No faults.")
  expect_identical(faults_of(sound, "---"), "No faults.")
})

test_that("depth, size and number are bounded before they cost", {
  began <- proc.time()[[3]]
  expect_match(faults_of(paste0("a: ", strrep("[", 1e5))), "more than 50 deep")
  expect_match(
    faults_of(vapply(
      0:800,
      function(i) {
        paste0(strrep(" ", i), "a:")
      },
      ""
    )),
    "indented too far"
  )
  expect_match(faults_of(strrep("x", 2^20)), "1,048,5[0-9]+ bytes")
  many <- faults_of(sound, paste0("k", 1:3000, ": 1"))
  expect_length(many, 21)
  expect_match(many, "2,980 more unknown fields", all = FALSE)
  again <- c(
    "a: &a [x, x, x, x, x, x, x, x, x, x]",
    vapply(
      2:9,
      function(i) {
        paste0(
          letters[i], ": &", letters[i], " [",
          toString(rep(paste0("*", letters[i - 1]), 10)), "]"
        )
      },
      ""
    )
  )
  expect_match(faults_of(again), "more than 1e\\+05 values|more than 100,000 values")
  expect_lt(proc.time()[[3]] - began, 30)
})

test_that("models keep their own results whatever their names", {
  long <- strrep("m", 300)
  file <- file_of(
    head_lines,
    "models:",
    paste0("  ", long, ": {learner: linear}"),
    "  a b: {learner: linear}",
    "  a_b: {learner: tree, settings: {maxdepth: 1}}",
    "seed: 2"
  )
  run <- suppressMessages(run_study(file))
  expect_identical(vapply(run$study$models, `[[`, "", "class")[["a_b"]], "rpart")
  again <- suppressMessages(run_study(file))
  expect_identical(
    vapply(again$study$models, `[[`, "", "class"),
    vapply(run$study$models, `[[`, "", "class")
  )
  expect_length(list.files(file.path(run$folder, "kept"), "^model-"), 3)
})

test_that("a learner that cannot be trained is named, and left out where others are", {
  fails <- function(...) stop("the library has no memory")
  own <- get("train_learner", asNamespace("dreher"))
  utils::assignInNamespace(
    "train_learner",
    function(learner, ...) {
      if (learner == "tree") fails() else own(learner, ...)
    },
    "dreher"
  )
  on.exit(utils::assignInNamespace("train_learner", own, "dreher"))
  alone <- file_of(head_lines, "models: {small: {learner: tree}}")
  expect_error(
    suppressMessages(run_study(alone)),
    "models.small: the learner \"tree\" could not be trained",
    class = "dreher_error_model"
  )
  both <- c(head_lines, "models: {small: {learner: tree}, linear: {learner: linear}}")
  expect_warning(
    run <- suppressMessages(run_study(file_of(both))), "Model \"small\" is left out"
  )
  expect_identical(names(run$study$models), "linear")
  expect_identical(run$steps$state[run$steps$step == "model-small"], "failed")
  named <- file_of(both, "reduce: {model: small}")
  expect_error(suppressMessages(run_study(named)), "models.small")
})

test_that("a part that cannot be drawn does not take the page with it", {
  own <- get("section_ranking", asNamespace("dreher"))
  utils::assignInNamespace("section_ranking", function(r) stop("no room"), "dreher")
  on.exit(utils::assignInNamespace("section_ranking", own, "dreher"))
  train <- kiln$train[1:100, c("strength", "peak_temp", "hold_minutes")]
  st <- study(lm(strength ~ ., train), kiln$holdout[1:50, ], "strength", train = train)
  file <- tempfile(fileext = ".html")
  expect_warning(
    write_report(st, rank_permutation(st), file = file), "lacks a part \\(ranking\\): no room"
  )
  page <- paste(readLines(file, warn = FALSE), collapse = "")
  expect_match(page, "Cannot be interpreted: lm")
})

test_that("where a dictionary would be written over, the way out is one that there is", {
  data <- file.path(folder, "rows.csv")
  draft <- file.path(folder, "mine.yml")
  writeLines("predictor", file.path(folder, "mine_dictionary.csv"))
  expect_error(
    draft_study(data, "strength", file = draft), "another name \\(`file`, --out\\)",
    class = "dreher_error_input"
  )
})

test_that("a table of very many columns is checked in seconds", {
  wide <- as.data.frame(matrix(round(rnorm(20 * 20000), 2), 20))
  wide$strength <- rnorm(20)
  data.table::fwrite(wide, file.path(folder, "wide.csv"))
  began <- proc.time()[[3]]
  expect_identical(faults_of(sub("rows.csv", "wide.csv", sound)), "No faults.")
  expect_lt(proc.time()[[3]] - began, 60)
})

test_that("one run at a time works in a folder", {
  file <- file_of(sound)
  place <- paste0(tools::file_path_sans_ext(file), "_results")
  dir.create(file.path(place, "kept"), recursive = TRUE)
  lock <- lock_folder(file.path(place, "kept"))
  expect_error(
    suppressMessages(run_study(file)), "in use by another run", class = "dreher_error_study"
  )
  DBI::dbDisconnect(lock)
  expect_identical(unique(suppressMessages(run_study(file))$steps$state), "done")
})
