# Interrupts at random moments: never a number that differs, never a kept step that is not whole,
# status 130, nothing left behind. Run by make trust; a row for each part, with the number of
# interrupts and of faults, on standard output.
#   Rscript tools/trust-interrupts.R calls|workers|runs|runs-2 HOW_MANY
suppressMessages(library(dreher))
asked <- commandArgs(TRUE)
part <- asked[1]
many <- as.integer(asked[2])
faults <- struck <- 0
fault <- function(...) {
  faults <<- faults + 1
  message("FAULT ", ...)
}

kiln <- demo_kiln(missing = FALSE)
columns <- c("strength", "peak_temp", "hold_minutes", "grog_share", "operator")

# ---- calls in this process --------------------------------------------------------------------

# Sends this process a SIGINT some seconds from now.
strike_later <- function(seconds) {
  system(
    sprintf("(sleep %.3f; kill -INT %d) > /dev/null 2>&1", seconds, Sys.getpid()),
    wait = FALSE
  )
}

# do() with a strike in it. -> list(value) where it came to its end, NULL where it was interrupted
struck_call <- function(do, seconds) {
  out <- NULL
  tryCatch(
    {
      strike_later(seconds)
      value <- do()
      out <- list(value)
      Sys.sleep(seconds + 10)  # the strike comes after the end
    },
    interrupt = function(e) NULL
  )
  out
}

state_of_session <- function() {
  list(
    options = options()[c("OutDec", "scipen", "digits", "warn", "future.rng.onMisuse")],
    seed = .Random.seed, folder = getwd(), devices = grDevices::dev.list(),
    connections = nrow(showConnections()), plan = class(future::plan()),
    files = sort(setdiff(
      list.files(tempdir()), grep("^(future|Rf|rscript)", list.files(tempdir()), value = TRUE)
    ))
  )
}

calls_here <- function() {
  train <- kiln$train[1:200, columns]
  rows <- kiln$holdout[1:100, columns]
  forest <- ranger::ranger(
    strength ~ ., train, num.trees = 60, keep.inbag = TRUE, num.threads = 1, seed = 1
  )
  slow <- function(model, data) {
    Sys.sleep(0.005)
    stats::predict(model, data)
  }
  st <- study(forest, rows, "strength", train = train, threads = 1)
  linear <- study(lm(strength ~ ., train), rows, "strength", train = train)
  asked <- study(
    list(m = lm(strength ~ ., train)), rows, "strength", train = train,
    predict_with = list(m = slow), predictors = columns[-1]
  )
  drawn <- draw_resamples(train, times = 10)
  resampled <- rank_predictors(linear, by = "permutation", repeats = 3, resamples = drawn)
  list(
    permutation = function() rank_permutation(st, repeats = 30),
    permutation_slow = function() rank_permutation(asked),
    all_pairs = function() rank_permutation(st, repeats = "all"),
    conditional = function() rank_permutation(st, shuffle = "conditional", repeats = 10),
    impurity = function() rank_impurity(st, correct = TRUE, refits = 3),
    shapley = function() rank_shapley(st, background = 40),
    shapley_slow = function() rank_shapley(asked, background = 10),
    cover = function() rank_shapley(st, value = "cover"),
    refit = function() rank_refit(linear),
    association = function() rank_association(st),
    several = function() rank_predictors(st, repeats = 5, background = 10),
    resampled = function() {
      rank_predictors(linear, by = "permutation", repeats = 3, resamples = drawn)
    },
    stability = function() suppressWarnings(stability(resampled)),
    floor = function() suppressWarnings(noise_floor(linear, refits = 19)),
    reduction = function() quick_reduction(linear),
    compare = function() compare_sets(linear, list(two = columns[2:3], one = columns[2])),
    curves = function() effect_curves(st),
    accumulated = function() effect_curves(st, form = "accumulated"),
    contributions = function() contributions(st, which = 1:20, background = 30),
    interactions = function() interactions(st, background = 10),
    slices = function() compare_slices(st, ~operator),
    similar = function() similar_rows(st, 1),
    structure = function() rank_structure(st),
    checks = function() check_data(st),
    scores = function() score_models(st),
    drift = function() find_drift(st),
    twins = function() find_twins(st)
  )
}

quick_reduction <- function(st) {
  reduce_predictors(
    st, by = "permutation", folds = 3, inner_folds = 2, repeats = 1, random = 0
  )
}

said <- function(value) as.data.frame(value)

try_calls <- function(calls, many, after = state_of_session) {
  set.seed(1)
  whole <- lapply(calls, function(do) said(do()))
  took <- vapply(calls, function(do) system.time(do())[[3]], 0)
  for (i in seq_len(many)) {
    name <- names(calls)[(i - 1) %% length(calls) + 1]
    before <- after()
    seconds <- drawn_apart(i, stats::runif(1, 0, 1.1 * took[[name]]))
    got <- struck_call(calls[[name]], seconds)
    struck <<- struck + 1
    if (!is.null(got) && !identical(said(got[[1]]), whole[[name]])) {
      fault(name, ": a number differs")
    }
    left <- after()
    for (what in names(before)) {
      if (!identical(before[[what]], left[[what]])) {
        fault(
          name,
          ": left behind: ",
          what,
          " ",
          paste(setdiff(left[[what]], before[[what]]), collapse = " ")
        )
      }
    }
    again <- tryCatch(said(calls[[name]]()), error = function(e) conditionMessage(e))
    if (!identical(again, whole[[name]])) {
      fault(name, ": the next call differs: ", again[[1]][1])
    }
  }
}

# A number drawn apart from the session's stream.
drawn_apart <- function(i, code) {
  kept <- .Random.seed
  on.exit(assign(".Random.seed", kept, envir = globalenv()))
  set.seed(1000 + i)
  code
}

# ---- runs as processes ------------------------------------------------------------------------

study_lines <- c(
  "dreher: 1",
  "data: {train: train.csv, holdout: holdout.csv, untouched: untouched.csv}",
  "target: strength",
  "models: {forest: {learner: forest, settings: {num.trees: 40}}, linear: {learner: linear}}",
  "rank: {repeats: 5, background: 10}",
  "stability: {times: 6, repeats: 2, models: [linear]}",
  "reduce: {model: linear, folds: 3, inner_folds: 2, repeats: 1, random: 0}",
  "confirm: {margin: 2 %, again: true}",
  "seed: 1"
)

new_folder <- function() {
  folder <- tempfile("study")
  dir.create(folder)
  for (rows in c("train", "holdout", "untouched")) {
    utils::write.csv(
      kiln[[rows]][seq_len(120), columns], file.path(folder, paste0(rows, ".csv")),
      row.names = FALSE
    )
  }
  writeLines(study_lines, file.path(folder, "study.yml"))
  folder
}

start_command <- function(folder, workers) {
  script <- system.file("exec", "dreher", package = "dreher")
  processx::process$new(
    file.path(R.home("bin"), "Rscript"),
    c(script, "run", "study.yml", "--workers", workers), wd = folder,
    stdout = file.path(folder, "out.txt"), stderr = file.path(folder, "err.txt"),
    supervise = FALSE
  )
}

# What a finished run leaves, without what tells the time.
files_of <- function(folder) {
  files <- list.files(file.path(folder, "study_results"), "[.](csv|json|html|png)$")
  files <- setdiff(files, "looks.json")
  lapply(stats::setNames(nm = files), function(f) {
    text <- readLines(
      file.path(folder, "study_results", f), warn = FALSE, encoding = "latin1"
    )
    # a look that was noted before the interrupt is told beside that of the next run
    if (f == "set.json") {
      return(
        jsonlite::fromJSON(paste(text, collapse = "\n"))[c("predictors", "score", "all")]
      )
    }
    gsub("[0-9]{4}-[0-9]{2}-[0-9]{2} [0-9:.]+", "", text, useBytes = TRUE)
  })
}

kept_of <- function(folder) {
  files <- list.files(
    file.path(folder, "study_results", "kept"), "[.]rds$", full.names = TRUE
  )
  lapply(stats::setNames(files, basename(files)), function(f) {
    held <- readRDS(f)
    list(
      key = held$key,
      value = tryCatch(as.data.frame(held$value), error = function(e) "no table")
    )
  })
}

children_of <- function(pid) {
  found <- suppressWarnings(system2("pgrep", c("-P", pid), stdout = TRUE, stderr = FALSE))
  as.integer(found)
}

try_runs <- function(many, workers) {
  usual <- new_folder()
  began <- proc.time()[[3]]
  first <- start_command(usual, workers)
  first$wait()
  took <- proc.time()[[3]] - began
  if (first$get_exit_status() != 0) {
    stop(
      "the run fails by itself: ",
      paste(readLines(file.path(usual, "err.txt")), collapse = " ")
    )
  }
  whole <- files_of(usual)
  steps <- kept_of(usual)
  for (i in seq_len(many)) {
    folder <- new_folder()
    run <- start_command(folder, workers)
    set.seed(2000 + i)
    Sys.sleep(stats::runif(1, 0.6, took))
    pids <- c(run$get_pid(), if (i %% 2 == 0) children_of(run$get_pid()))
    for (pid in pids) tools::pskill(pid, tools::SIGINT)
    struck <<- struck + 1
    run$wait(60000)
    status <- run$get_exit_status()
    if (!isTRUE(status %in% c(0L, 130L))) {
      # a signal that comes before R can listen ends it as the system does
      early <- !dir.exists(file.path(folder, "study_results"))
      if (!(early && status %in% c(-2L, 1L))) {
        fault(
          "run ",
          i,
          ": status ",
          status,
          ": ",
          paste(utils::tail(readLines(file.path(folder, "err.txt")), 3), collapse = " ")
        )
      }
    }
    if (run$is_alive()) fault("run ", i, " goes on")
    held <- kept_of(folder)
    for (name in names(held)) {
      if (identical(held[[name]]$key, steps[[name]]$key) &&
          !identical(held[[name]], steps[[name]])) {
        fault("run ", i, ": kept step ", name, " differs")
      }
    }
    odd <- grep("[.](part|tmp)|~$", list.files(folder, recursive = TRUE), value = TRUE)
    if (length(odd)) fault("run ", i, ": left behind ", paste(odd, collapse = " "))
    again <- start_command(folder, workers)
    again$wait(120000)
    if (!identical(again$get_exit_status(), 0L)) {
      fault(
        "run ",
        i,
        " does not go on: ",
        paste(utils::tail(readLines(file.path(folder, "err.txt")), 3), collapse = " ")
      )
    } else {
      now <- files_of(folder)
      other <- names(whole)[!mapply(identical, whole, now[names(whole)])]
      if (length(other)) fault("run ", i, ": other files: ", paste(other, collapse = " "))
    }
    unlink(folder, recursive = TRUE)
  }
}

if (part == "calls") try_calls(calls_here(), many)
if (part == "workers") {
  future::plan("multisession", workers = 2)
  calls <- calls_here()[c("resampled", "floor", "reduction", "several", "refit")]
  try_calls(calls, many, after = function() {
    list(plan = class(future::plan()), folder = getwd())
  })
}
if (part == "runs") try_runs(many, 1)
if (part == "runs-2") try_runs(many, 2)
cat(struck, faults, "\n")
