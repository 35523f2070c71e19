# What the command checks before any work begins: words, files, folders. What needs the study is
# checked as soon as it is set up.

# Options in words to a list; --models may stand several times, nothing else may.
# file: may one path stand without an option?
read_options <- function(parser, words, file = FALSE) {
  several <- take_models(words)
  long <- sub("=.*", "", several$words[startsWith(several$words, "--")])
  twice <- unique(long[duplicated(long)])
  if (length(twice)) wrong_usage(twice[1], " is given twice.")
  parsed <- tryCatch(
    optparse::parse_args(
      parser, several$words, positional_arguments = TRUE, print_help_and_exit = FALSE
    ),
    error = function(e) wrong_usage(say_parse_error(conditionMessage(e), several$words)),
    warning = function(w) wrong_usage(say_parse_error(conditionMessage(w), several$words))
  )
  over <- if (file) parsed$args[-1] else parsed$args
  if (length(over)) wrong_usage("unexpected argument \"", over[1], "\".")
  if (file && length(parsed$args)) parsed$options$file <- parsed$args
  if (length(several$models)) parsed$options$models <- several$models
  stats::setNames(parsed$options, gsub("-", "_", names(parsed$options), fixed = TRUE))
}

# The parser names the value that is no number, not its option.
say_parse_error <- function(message, words) {
  message <- sub("^Error in [^:]*: *", "", message)
  if (!grepl("expected, got", message)) return(message)
  value <- substring(sub("^.*expected, got ", "", message), 2)
  value <- substr(value, 1, nchar(value) - 1)
  at <- which(words == value | endsWith(words, paste0("=", value)))
  option <- words[if (length(at) && words[at[1]] == value) at[1] - 1 else at[1]]
  paste0(sub("=.*", "", option), ": \"", value, "\" is not a number.")
}

take_models <- function(words) {
  joined <- startsWith(words, "--models=")
  apart <- which(words == "--models")
  if (any(apart == length(words))) wrong_usage("--models needs a file.")
  at <- sort(c(which(joined), apart))
  files <- vapply(
    at, function(i) if (joined[i]) sub("^--models=", "", words[i]) else words[i + 1], ""
  )
  gone <- c(at, apart + 1)
  list(models = files, words = if (length(gone)) words[-gone] else words)
}

# An option as it is written.
option_name <- function(name) paste0("--", gsub("_", "-", name, fixed = TRUE))

check_given <- function(step, given) {
  if (is.character(given$repeats)) repeats_in_words(given$repeats)
  paths <- c(
    "file", "study", "models", "data", "rows", "train", "dictionary", "confirm", "set"
  )
  for (name in paths) {
    for (file in if (is.character(given[[name]])) given[[name]]) {
      rows <- name %in% c("data", "confirm") || (name == "rows" && step == "confirm")
      folder <- dir.exists(file) && !rows
      if (!file.exists(file) || folder) {
        stop_input(
          paste0(
            "There is no file \"", file, "\"",
            if (name != "file") paste0(" (", option_name(name), ")"), "."
          ),
          paste0("Looked in ", getwd(), ".")
        )
      }
      if (file.access(file, 4) != 0) {
        stop_input(
          paste0("The file \"", file, "\" (", option_name(name), ") may not be read."),
          todo = "Check its permissions."
        )
      }
    }
  }
  if (!is.null(given$format)) {
    check_choice(given$format, c(table_formats, "text"), "--format")
    if (given$format == "text" && !is.null(given$out)) {
      wrong_usage("--format text is for standard output: leave --out away.")
    }
    if (given$format %in% c("xlsx", "parquet", "sqlite") && is.null(given$out)) {
      wrong_usage(
        "--format ",
        given$format,
        " needs --out: such a file cannot go to standard output."
      )
    }
    if (given$format == "xlsx") rlang::check_installed("writexl", "to write spreadsheets")
    if (given$format == "parquet") {
      rlang::check_installed("nanoparquet", "to write Parquet")
    }
  }
  if (!is.null(given$metric)) {
    check_choice(given$metric, names(metric_table()), "--metric")
  }
  if (!is.null(given$target_transform)) {
    check_choice(given$target_transform, transform_names, "--target-transform")
  }
  if (!is.null(given$by)) {
    known <- c(
      "impurity", "permutation", "shapley", "structure", "coefficients", "association",
      "refit"
    )
    if (step == "interactions") known <- interaction_forms
    if (step == "slices") known <- slice_methods
    check_choice(in_words(given$by), known, "--by", several = TRUE)
  }
  if (!is.null(given[["form"]])) check_choice(given[["form"]], effect_forms, "--form")
  if (!is.null(given[["value"]])) {
    check_choice(given[["value"]], c("background", "cover"), "--value")
  }
  if (step == "row" && is.na(suppressWarnings(as.double(given$which)))) {
    wrong_usage("--which must be the number of a row.")
  }
  if (!is.null(given$margin)) read_margin(given$margin)
  least <- c(
    times = 1, repeats = 1, folds = 2, workers = 1, seeds = 3, floor_refits = 19,
    random = 0, count = 0, points = 2, max_rows = 10
  )
  for (name in intersect(names(least), names(given))) {
    if (is.character(given[[name]])) next
    most <- if (name == "workers") 1024 else most_counted
    check_count(given[[name]], option_name(name), least = least[[name]], most = most)
  }
  if (!is.null(given$seed)) check_seed(given$seed, "--seed")
  if (!is.null(given$groups)) check_choice(given$groups, "family", "--groups")
  if (step == "stability") check_stability_words(given)
  if (step == "reduce") check_reduce_words(given)
  if (!is.null(given$resume)) open_run_words(given)
  if (!is.null(given$out) && step != "init") {
    folder <- make_folder(given$out)
    if (file.access(folder, 2) != 0) {
      stop_input(
        paste0("The folder \"", given$out, "\" (--out) cannot be written to."),
        todo = "Name another one."
      )
    }
    if (step %in% c("rank", "stability", "reduce")) {
      rlang::check_installed("svglite", "to draw the figures of the page")
    }
  }
}

repeats_in_words <- function(text) {
  if (text %in% c("auto", "all")) return(text)
  number <- suppressWarnings(as.double(text))
  if (is.na(number) || number < 1 || number != round(number) || number > most_counted) {
    wrong_usage("--repeats must be a whole number, auto or all.")
  }
  as.integer(number)
}

check_stability_words <- function(given) {
  check_choice(
    given$kind, c("bootstrap", "subsample", "folds", "time", "seeds"), "--kind"
  )
  if (given$kind == "time" && is.null(given$order)) {
    wrong_usage("--kind time needs --order, the name of the column of times.")
  }
  if (given$kind != "folds" && !is.null(given$times) && given$times < 3) {
    wrong_usage(
      "--times must be at least 3: fewer resamples say nothing about stability."
    )
  }
}

check_reduce_words <- function(given) {
  check_choice(given$search, c("ranking", "backward", "forward", "floating"), "--search")
  check_choice(given$rule, set_rules, "--rule")
  if (given$rule == "count" && is.null(given$count)) {
    wrong_usage("--rule count needs --count, the number of predictors.")
  }
  if (given$rule != "count" && !is.null(given$count)) {
    wrong_usage("--count is for --rule count.")
  }
  if (given$rule == "floor" && is.null(given$floor_refits)) {
    wrong_usage(
      paste0(
        "--rule floor needs --floor-refits, the number of refits with permuted copies (19 ",
        "or more)."
      )
    )
  }
  if (given$rule == "cumulative") check_fraction(given$cumulative, "--cumulative")
  if (given$rule == "cumulative" && given$search %in% c("forward", "floating")) {
    wrong_usage("--rule cumulative needs a search with importances: ranking or backward.")
  }
  if (!is.null(given$budget) && !(is.finite(given$budget) && given$budget > 0)) {
    wrong_usage("--budget must be a positive number.")
  }
  if ((given$rule == "cheapest" || !is.null(given$budget)) && is.null(given$dictionary)) {
    wrong_usage("costs are in the dictionary: give --dictionary.")
  }
}

# "3/50" -> c(3, 50)
task_of_words <- function(text) {
  task <- suppressWarnings(as.numeric(strsplit(text, "/", fixed = TRUE)[[1]]))
  sound <- length(task) == 2 && !anyNA(task) && all(task == round(task)) && task[1] >= 1 &&
    task[1] <= task[2]
  if (!sound) wrong_usage("--task is a number of so many, such as 3/50, not ", text, ".")
  task
}

# With a run folder that holds no other run.
open_run_words <- function(given) {
  if (given$resume && is.null(given$run)) {
    wrong_usage("--resume needs --run, the folder of the run to go on with.")
  }
  if (!is.null(given$task)) {
    if (is.null(given$run)) {
      wrong_usage("--task needs --run, the folder where the tasks meet.")
    }
    task_of_words(given$task)
    return(invisible())
  }
  if (!is.null(given$run) && !given$resume &&
      file.exists(file.path(given$run, "run.sqlite"))) {
    wrong_usage(
      "\"",
      given$run,
      "\" holds a run already: go on with it by --resume, or name another folder."
    )
  }
}

# What a reduction needs of the study, before the reduction. -> the rows to confirm on, or NULL
check_reduction <- function(st, given) {
  if (length(st$models) > 1 && is.null(given$ranker) && isTRUE(st$seen)) {
    wrong_usage(
      "there are several models (",
      list_words(names(st$models)),
      "): name one with --ranker."
    )
  }
  for (name in c("ranker", "refit_as")) {
    if (!is.null(given[[name]])) {
      check_choice(given[[name]], names(st$models), option_name(name))
    }
  }
  check_margin(given$margin, st)
  model <- st$models[[if (!is.null(given$refit_as)) {
      given$refit_as
    } else if (!is.null(given$ranker)) {
      given$ranker
    } else {
      best_model(st)
    }]]
  predictors <- model$inputs$predictors
  if (given$rule == "cheapest") {
    cost <- st$dictionary$cost[match(predictors, st$dictionary$predictor)]
    if (anyNA(cost)) {
      stop_study(
        paste0(
          "--rule cheapest needs the cost of every predictor; the dictionary does not ",
          "say it of ", quote_some(predictors[is.na(cost)]), "."
        ),
        todo = "Fill in the dictionary's column `cost`."
      )
    }
  }
  if (!is.null(given$count) && given$count > length(predictors)) {
    stop_input(paste0(
      "--count ", given$count, " is more than the ", length(predictors),
      " predictors of model \"", model$name, "\"."
    ))
  }
  if (is.null(given$confirm)) return(NULL)
  rows <- if (is.character(given$confirm)) given_table(given$confirm) else given$confirm
  untouched <- untouched_rows(st, rows)
  some <- if (is.null(untouched$store)) {
    untouched$data
  } else {
    store_rows(untouched$store, 1, min(untouched$store$rows, 1000))
  }
  check_columns(some, predictors, "confirm", "The predictor", model$name)
  model_rows(st, model, some, "confirm")  # types, levels, gaps
  check_untouched(st, untouched, given$overlap)
  refuse_second_look(
    list(file = if (!is.null(given$out)) file.path(given$out, "set.json")),
    rows_print(st, untouched),
    nrow(untouched$roles),
    given$again
  )
  rows
}
