# One name for one thing: every argument of an exported function, and every option of the command,
# stands in this table with its one meaning.
words <- c(
  "..." = "must be empty, or goes to methods", a = "importances",
  against = "what a prediction is set against", at = "points of curves",
  centred = "from the first point on", classes = "several classes",
  null = "refits without interactions", points = "number of points of a curve",
  which = "numbers of rows", slices = "several parts of the rows", class = "one class",
  draws = "number of neighbourhoods", fixed = "predictors that stay",
  most = "most that change", least_fidelity = "below it a rule is refused",
  b = "importances to compare", again = "these rows were looked at before",
  call = "a call with a run folder", task = "number of this task", tasks = "number of tasks",
  apart = "ranks that differ by so much are inked",
  background = "number of background rows", base_size = "size of text",
  better = "is lower or higher better", blocks = "column of rows that belong together",
  budget = "most that a set may cost", by = "methods",
  correct = "take off what copies reach", count = "number of predictors",
  counts = "numbers of predictors",
  cumulative = "share of the importance that a set must carry", decimal = "decimal mark",
  delimiter = "sign between fields", header = "are the first fields names",
  encoding = "of a text file", thousands = "thousands mark",
  query = "what to read from a database", source = "where rows come from",
  in_memory = "rows drawn into memory", at_once = "rows read at a time",
  predictor = "name of one predictor",
  target_transform = "what models were trained on instead of the target",
  columns = "names of columns", declared = "families of the user's own",
  compare = "is the library asked as well", data = "rows of the user's, with the target",
  dictionary = "the data dictionary",
  encode = "function from rows to the model's columns", file = "path of a file",
  floor = "a noise floor", floor_refits = "refits inside a reduction",
  folder = "path of a folder", folds = "number of folds", form = "variant of a method",
  fraction = "share of the rows", groups = "what is ranked as one",
  inner_folds = "number of folds inside a part", kind = "kind of resamples",
  level = "level of intervals and tests", margin = "loss that is accepted",
  dry_run = "say only what would be done", minutes = "time for a whole run",
  max_pairs = "most orders sampled", max_rows = "most rows", method = "one method",
  metric = "the metric", missing = "are there missing values", model = "one model",
  models = "several models", of = "what is divided", order = "column of times",
  output = "one of several outputs", overlap = "may rows be training rows",
  part = "one entry of the details", persistence = "depth of the overlap",
  positive = "the positive class", precision = "when sampling stops",
  predict_with = "functions that predict", predictions = "for the check of a file",
  predictors = "names of predictors", quiet = "no messages", short = "the answer alone",
  random = "number of random sets", ranking = "a ranking", reduction = "a reduction",
  reference = "name of a set", refit_as = "model that is trained on the sets",
  refit_with = "functions that train again",
  refits = "number of refits with permuted copies",
  repeats = "shuffles, drawings of folds", replaceability = "is it worked out",
  resamples = "resamples of the training rows", rounds = "number of trees taken",
  rows = "rows that a result is of", rule = "what is enough",
  run = "path of a run folder", scale = "link or prediction",
  search = "how sets are found", seed = "makes results reproducible",
  seeds = "a ranking over seeds of the model", set = "a chosen set",
  sets = "several sets", shuffle = "marginal or conditional", slice = "part of the rows",
  steps = "one or geometric", strata = "column kept in proportion", study = "a study",
  table = "name of a table in a database", target = "name of the target",
  thin_twins = "one of redundant predictors", threads = "number of threads",
  threshold = "least association, or prediction to reach",
  times = "number of resamples or bootstrap draws", title = "title of the report",
  top = "number of top predictors", train = "training rows", types = "types of columns",
  value = "what a Shapley value takes an unknown predictor for",
  weights = "column of weights", withhold = "what readers may not see",
  workers = "processes", x = "a result"
)

# What readers and the flat forest are made of.
reader_words <- c(
  "also", "base", "boosted", "column", "copy_of", "env", "inbag", "inputs", "left", "levels",
  "link", "missing", "model", "owner", "right", "root", "set_from", "set_side", "set_size",
  "single", "stretch", "trees", "value", "weight"
)
readers <- c(
  "flat_forest", "join_trees", "just_below", "new_inputs", "plain_formula", "refit_model",
  "widen_model", "estimated_predictors", "model_inputs", "model_forest", "model_task",
  "model_predictions", "model_coefficients"
)

# Options that no function has as an argument.
command_words <- c(
  page = "path of the page",
  strict = "do doubts count as well", confirm = "untouched rows", format = "of tables",
  out = "folder for results", ranker = "model that ranks", resume = "go on with a run"
)

test_that("every argument has one name with one meaning", {
  expect_identical(anyDuplicated(names(words)), 0L)
  used <- character()
  for (name in getNamespaceExports("dreher")) {
    fun <- getExportedValue("dreher", name)
    if (!is.function(fun)) next
    known <- c(names(words), if (name %in% readers) reader_words)
    expect_identical(setdiff(names(formals(fun)), known), character(), label = name)
    used <- c(used, names(formals(fun)))
  }
  expect_identical(setdiff(names(words), used), character())
})

test_that("the command's options are the functions' arguments", {
  for (name in names(command_steps())) {
    options <- vapply(command_steps()[[name]]$options, function(o) o@dest, "")
    options <- gsub("-", "_", options)
    expect_identical(
      setdiff(options, c(names(words), names(command_words))), character(), label = name
    )
  }
})

test_that("the command's defaults are the functions'", {
  default <- function(step, option) {
    found <- Filter(function(o) o@long_flag == option, command_steps()[[step]]$options)
    found[[1]]@default
  }
  expect_identical(as.double(default("rank", "--repeats")), formals(rank_predictors)$repeats)
  expect_null(default("stability", "--times"))
  expect_null(formals(draw_resamples)$times)
  expect_equal(default("reduce", "--repeats"), formals(reduce_predictors)$repeats)
  expect_equal(default("reduce", "--random"), formals(reduce_predictors)$random)
  expect_equal(default("compare", "--repeats"), formals(compare_sets)$repeats)
  expect_equal(default("reduce", "--cumulative"), formals(choose_set)$cumulative)
  for (step in c("rank", "stability", "reduce", "compare", "confirm")) {
    expect_equal(default(step, "--seed"), 1)
  }
})

test_that("every flag of a result, and every column of a ranking, is in the help", {
  root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
  page <- file.path(root, "man", c("flags.Rd", "ranking.Rd"))
  if (!all(file.exists(page))) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  flags <- paste(readLines(page[1]), collapse = " ")
  code <- unlist(lapply(
    list.files(
      file.path(root, "R"), "^(ranking|check|stability|effect)-.*[.]R$", full.names = TRUE
    ),
    readLines
  ))
  given <- c(
    "possible leak", "identifier", "many levels", "no skill", "few repeats", "rows drawn",
    "few refits", "not conditioned", "correlated", "no effect on score", "in-sample only",
    "aliased", "nearly aliased", "training rows", "not above floor", "not converged",
    "few rows", "beyond training range", "chosen by its error"
  )
  for (flag in given) {
    expect_match(flags, paste0("\\\\(code|verb)\\{", flag, "\\}"))
    expect_true(any(grepl(paste0("\"", flag, "\""), code, fixed = TRUE)), label = flag)
  }
  columns <- paste(readLines(page[2]), collapse = " ")
  for (column in names(ranking_columns)) {
    expect_match(columns, paste0("\\code{", column, "}"), fixed = TRUE)
  }
})

# Calls in code: list(name, package-internal?, names of arguments).
calls_in <- function(code) {
  out <- list()
  walk <- function(e) {
    if (is.call(e)) {
      inside <- is.call(e[[1]]) && length(e[[1]]) == 3 &&
        identical(e[[1]][[2]], quote(dreher))
      name <- if (inside) e[[1]][[3]] else e[[1]]
      if (is.name(name)) {
        given <- setdiff(names(e)[-1], "")
        out[[length(out) + 1]] <<- list(
          name = as.character(name), inside = inside, given = given
        )
      }
    }
    if (is.call(e) || is.pairlist(e) || is.expression(e)) {
      for (i in seq_along(e)) if (!identical(e[[i]], quote(expr = ))) walk(e[[i]])
    }
  }
  walk(code)
  out
}

test_that("the scripts that measure call what there is, by arguments that there are", {
  root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
  scripts <- list.files(file.path(root, "bench"), "[.]R$", full.names = TRUE)
  if (!length(scripts)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  here <- asNamespace("dreher")
  wrong <- unlist(lapply(scripts, function(script) {
    vapply(
      calls_in(parse(script)),
      function(call) {
        if (!call$inside && !call$name %in% getNamespaceExports(here)) return("")
        if (!exists(call$name, here, inherits = FALSE)) {
          return(paste(basename(script), call$name))
        }
        f <- get(call$name, here)
        strange <- if (is.function(f)) setdiff(call$given, names(formals(f)))
        if (length(strange)) paste(basename(script), call$name, strange[1]) else ""
      },
      ""
    )
  }))
  expect_gt(length(wrong), 1000)
  expect_identical(unique(wrong[nzchar(wrong)]), character())
})
