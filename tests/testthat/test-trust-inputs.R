# Every argument of every exported function is given what it cannot take. Each must be refused in
# our own words: no error of R's, no interrupt that nobody sent, no silence.

k <- demo_kiln(missing = FALSE)
tr <- k$train[1:120, ]
ho <- k$holdout[1:80, ]
m <- lm(strength ~ peak_temp + hold_minutes + grog_share, tr)
st <- study(m, ho, "strength", train = tr)
quiet <- function(code) suppressMessages(suppressWarnings(code))
tree_study <- study(rpart::rpart(strength ~ peak_temp, tr), ho, "strength", train = tr)

# ---- what each kind of argument cannot take ----

not_count <- list(
  NA, "a", 1.5, -1, c(1, 2), Inf, NaN, 1e10, TRUE, list(1), character(), Sys.Date()
)
not_word <- list(NA, "foo", 3, character(), c("foo", "bar"), list())
not_seed <- list(NA, "a", 1.5, c(1, 2), Inf, list(), 1e300)
not_rows <- list("foo", 3, NA, list(), ho[0, ], ho[1, ], ho[, 1:2])
not_study <- list(1, "a", list(), iris, NA)
wrong <- list(
  marks = list(TRUE, list("a"), list(1, 2), Sys.Date(), list(none = "a")),
  types = list(TRUE, "number", list("number"), c(peak_temp = "price"), 3),
  count = c(not_count, list(NULL)),
  count_or_none = not_count,
  count_from_0 = list(NA, "a", 1.5, -1, c(1, 2), Inf, 1e10, NULL),
  counts = list(NA, "a", 1.5, -1, Inf, 1e10, list(), 99),
  tops = list(NA, "a", 1.5, -1, Inf, 1e10, TRUE, list(1), character(), Sys.Date()),
  fraction = list(NA, 0, 1, -1, 2, "a", c(.5, .6), Inf, NULL, list()),
  flag = list(NA, "yes", 2, c(TRUE, FALSE), NULL, list()),
  seed = c(not_seed, list(NULL)),
  seed_or_none = not_seed,
  word = c(not_word, list(NULL)),
  word_or_none = not_word,
  text = list(NA, "", 3, c("a", "b"), character(), NULL),
  title = list(NA, 3, c("a", "b"), "", list()),
  study = c(not_study, list(NULL)),
  study_or_none = not_study,
  study_or_table = list(NULL, 1, "a", list(), NA),
  models = list("nobody", NA, 3, character(), TRUE, c("lm", "nobody")),
  rows = c(not_rows, list(NULL, list(1), list(a = 1), matrix("a", 2, 2))),
  rows_or_none = not_rows,
  groups = list("foo", 3, NA, list(), list(a = "nobody"), list("peak_temp"), list(a = 1)),
  threads = list(NA, "a", 0, -1, 1.5, c(1, 2), 1e9, Inf, list()),
  persistence = list(NA, 0, 1, -1, "a", c(.5, .6), NULL),
  margin = list(
    NA, "a", "2", -1, "-2 %", "2 apples", c("1 %", "2 %"), NULL, "Inf %", list()
  ),
  folder = list(NA, "", 3, c("a", "b")),
  result = list(NULL, 1, iris, st, list()),
  result_or_none = list(1, iris, "a", NA),
  table = list(NULL, 1, list(), "a", iris[0, ], NA),
  train = list(1, list(), "a", iris, tr[0, ], NA),
  steps = list(NA, "foo", 3.5, character(), -1, list(), Inf),
  budget = list(NA, "a", -1, 0, c(1, 2), list()),
  sets = list(
    NULL,
    1,
    list(),
    "nobody",
    list(a = "nobody"),
    list(a = NA),
    list(a = 3),
    list(a = "all", a = "none"),
    NA
  ),
  fits = list(NULL, list(), 3, "a", NA, list(m, m), list(a = 1), mean, iris),
  members = list(
    NULL, list(), 3, "a", NA, list(m, m), list(a = m), mean, iris, list(a = m, a = m)
  ),
  declared = list(NA, 3, "a", list(), list("a"), list(a = "nobody"), list(a = 3), iris),
  weights = list(NA, "a", 1, c(1, 0), c(1, -1), c(1, Inf), list(1, 2)),
  metric = list(
    NA, "foo", 3, c("rmse", "mae"), character(), "auc", function(x) 1, list()
  ),
  dictionary = list(NA, 3, "a", iris, list()),
  functions = list(NA, 3, "a", list(), list(a = mean), list(mean)),
  size = list(NA, "a", -1, 0, c(1, 2), NULL, Inf),
  file = list(NA, "", 3, c("a", "b"), NULL, "no-such-file.xyz", tempdir()),
  columns = list(NA, 3, "a", character(), rep("a", 12)),
  numbers = list(NULL, NA, "a", numeric(), list(1, 2, 3), c(1, Inf, 2)),
  levels = list(NA, 3, "a", list(1)),
  words = list(NA, "yes", 2, NULL, list()),
  reals = list(NULL, "a", list()),
  names = list(NA, 3, c("a", "a")),
  gone = list(NULL),
  named = list("nobody", NA, 3, character(), TRUE, c("peak_temp", NA)),
  classes = list("nobody", NA, 3, TRUE),
  rows_but_sets = c(not_rows, list(NULL, list(1), list(a = 1), matrix("a", 2, 2))),
  some_rows = list("foo", 3, NA, list(), ho[0, ], ho[, 0], NULL, list(1)),
  points = list(NA, 3, "a", list(), list(3), list(nobody = 3), list(peak_temp = "a")),
  slices = list(
    NA,
    3,
    "foo",
    list(),
    list(1),
    ~nobody,
    list(a = ~ peak_temp + 1),
    list(a = ~ peak_temp > 1e9),
    c("worst", "found"),
    "confusion"
  ),
  reached = list(NA, "a", Inf, c(1, 2), list(), NULL),
  two_sets = list("foo", 3, NA, list(), "train", list(a = 1), ho, NULL),
  some_models = list("nobody", NA, 3, TRUE, c("lm", "nobody")),
  source = list(NA, 3, "", c("a", "b"), NULL, "no-such-file.xyz", list(), function() 3),
  new_folder = list(NA, 3, c("a", "b"), getwd()),
  some_count = list(NA, "a", 0, -1, 1.5, 1e10, Inf, list(1), TRUE, c(100, 200), NULL),
  new_file = list(NA, 3, "", c("a", "b"), tempdir()),
  name_or_none = list(3, NA, "", c("a", "b"), list()),
  withheld = list(3, NA, "all", character(), list("rows"), c("rows", NA)),
  query = list(3, NA, "tiles", character()),
  flag_or_none = list(NA, "yes", 2, c(TRUE, FALSE), list()),
  words_file = list(NA, "", 3, c("a", "b"), NULL, "no-such-file.xyz", tempdir(), iris),
  transforms = list(NA, "cube", 3, list(), mean, list(forward = log), c("log", "sqrt")),
  numbers_of_rows = list(NA, "a", 0, -1, 1.5, 1e10, Inf, list(1), TRUE, character())
)

# A table, a study file of it, and the folder of its run.
study_files <- function() {
  folder <- tempfile("files")
  dir.create(folder)
  utils::write.csv(
    tr[c("peak_temp", "hold_minutes", "strength")], file.path(folder, "tiles.csv"),
    row.names = FALSE
  )
  study <- file.path(folder, "study.yml")
  writeLines(
    c(
      "dreher: 1", "data: {file: tiles.csv, split: {holdout: 0.3}}", "target: strength",
      "models: {a: {learner: linear}}"
    ),
    study
  )
  list(
    table = file.path(folder, "tiles.csv"), study = study,
    new = file.path(folder, "new.yml"), run = quiet(run_study(study))$folder
  )
}

# ---- the arguments: a call that works, and the kind of each argument ----

arguments <- list(
  rank_permutation = list(
    list(study = st, repeats = 3),
    c(
      study = "study", models = "models", rows = "rows", groups = "groups", form = "word",
      shuffle = "word", repeats = "count", max_rows = "count_or_none", level = "fraction",
      seed = "seed", threads = "threads"
    )
  ),
  rank_shapley = list(
    list(study = st, background = 10),
    c(
      study = "study", models = "models", rows = "rows", of = "word", groups = "groups",
      value = "word", background = "count", max_rows = "count_or_none", scale = "word",
      precision = "fraction", max_pairs = "count", level = "fraction", seed = "seed",
      threads = "threads"
    )
  ),
  rank_refit = list(
    list(study = st),
    c(
      study = "study", models = "models", groups = "groups", form = "word",
      times = "count", level = "fraction", seed = "seed", threads = "threads"
    )
  ),
  rank_coefficients = list(
    list(study = st),
    c(study = "study", models = "models", form = "word", level = "fraction")
  ),
  rank_structure = list(
    list(study = st),
    c(study = "study", models = "models", form = "word", threads = "threads")
  ),
  rank_impurity = list(
    list(study = st),
    c(
      study = "study", models = "models", rows = "word_or_none", groups = "groups",
      form = "word", correct = "flag", refits = "count", level = "fraction",
      seed = "seed", threads = "threads"
    )
  ),
  rank_association = list(
    list(study = st),
    c(study = "study", form = "word", times = "count", level = "fraction", seed = "seed")
  ),
  rank_predictors = list(
    list(study = st, by = "permutation", repeats = 3),
    c(
      study = "study", by = "word", models = "models", rows = "rows",
      slice = "word_or_none", resamples = "result_or_none", run = "folder",
      repeats = "count", background = "count", level = "fraction", seed = "seed",
      threads = "threads"
    )
  ),
  draw_resamples = list(
    list(data = tr),
    c(
      data = "table", kind = "word", times = "count_or_none", folds = "count",
      fraction = "fraction", strata = "word_or_none", blocks = "word_or_none",
      order = "word_or_none", seed = "seed"
    )
  ),
  stability = list(
    list(ranking = quote(over)),
    c(
      ranking = "result", seeds = "result_or_none", top = "tops",
      persistence = "persistence", level = "fraction"
    )
  ),
  agreement = list(
    list(ranking = quote(several)),
    c(
      ranking = "result", study = "study_or_none", top = "count_or_none",
      persistence = "persistence"
    )
  ),
  noise_floor = list(
    list(study = st, refits = 19),
    c(
      study = "study", by = "word", models = "models", refits = "count", shuffle = "word",
      level = "fraction", repeats = "count", background = "count", run = "folder",
      seed = "seed", threads = "threads"
    )
  ),
  with_floor = list(
    list(ranking = quote(rk), floor = quote(nf)), c(ranking = "result", floor = "result")
  ),
  reduce_predictors = list(
    list(study = st, folds = 3, repeats = 1, inner_folds = 2, random = 0),
    c(
      study = "study", by = "word", search = "word", groups = "word_or_none",
      steps = "steps", models = "models", refit_as = "models", thin_twins = "flag",
      budget = "budget", random = "count_from_0", floor_refits = "count_or_none",
      folds = "count_or_none", repeats = "count",
      inner_folds = "count_or_none",
      counts = "counts", run = "folder", level = "fraction", seed = "seed"
    )
  ),
  choose_set = list(
    list(reduction = quote(rd)),
    c(
      reduction = "result", rule = "word", margin = "margin", cumulative = "fraction",
      count = "count_or_none", model = "word_or_none"
    )
  ),
  find_twins = list(
    list(study = st),
    c(
      study = "study_or_table", predictors = "models", ranking = "result_or_none",
      threshold = "fraction", replaceability = "flag", seed = "seed"
    )
  ),
  compare_sets = list(
    list(study = st, sets = list(a = "all", b = "peak_temp"), folds = 3, repeats = 1),
    c(
      study = "study", sets = "sets", reference = "word_or_none", models = "models",
      rows = "rows_or_none", margin = "margin", folds = "count_or_none",
      repeats = "count", level = "fraction", seed = "seed"
    )
  ),
  confirm_set = list(
    list(set = quote(set), rows = k$holdout[100:200, ], again = TRUE),
    c(
      set = "result", rows = "rows", margin = "margin", again = "flag", overlap = "word",
      study = "study_or_none", level = "fraction", seed = "seed_or_none"
    )
  ),
  refit_on = list(
    list(set = quote(set)),
    c(
      set = "result", rows = "rows_or_none", study = "study_or_none",
      seed = "seed_or_none"
    )
  ),
  score_models = list(
    list(study = st), c(study = "study", level = "fraction", seed = "seed")
  ),
  check_data = list(list(study = st), c(study = "study", seed = "seed")),
  recommend_methods = list(list(study = st), c(study = "study")),
  find_drift = list(
    list(study = st, models = character()),
    c(
      study = "study", rows = "two_sets", models = "some_models", repeats = "count",
      times = "count", level = "fraction", seed = "seed"
    )
  ),
  plot_distribution = list(
    list(study = st, predictor = "peak_temp"),
    c(study = "study", predictor = "text", by = "text")
  ),
  draft_study = list(
    list(
      data = quote(files[["table"]]), target = "strength", file = quote(files[["new"]])
    ),
    c(
      data = "file", target = "text", file = "new_file", blocks = "word_or_none",
      minutes = "size", seed = "seed"
    )
  ),
  check_study_file = list(list(file = quote(files[["study"]])), c(file = "file")),
  run_study = list(
    list(file = quote(files[["study"]]), dry_run = TRUE),
    c(file = "file", dry_run = "flag", workers = "count_or_none")
  ),
  resume_study = list(
    list(folder = quote(files[["run"]])), c(folder = "file", workers = "count_or_none")
  ),
  do_task = list(
    list(
      call = quote(rank_predictors(
        st, by = "permutation", repeats = 2, resamples = draw_resamples(tr, times = 3),
        run = tempfile()
      )),
      task = 1,
      tasks = 2
    ),
    c(call = "count", task = "count", tasks = "count")
  ),
  draft_dictionary = list(
    list(data = ho), c(data = "table", target = "word_or_none", file = "new_file")
  ),
  study = list(
    list(models = m, data = ho, target = "strength", train = tr),
    c(
      models = "fits", data = "rows", target = "text", train = "train",
      weights = "word_or_none", blocks = "word_or_none", metric = "metric",
      better = "word_or_none", positive = "word_or_none", dictionary = "dictionary",
      predictors = "models", encode = "functions", predict_with = "functions",
      refit_with = "functions", target_transform = "transforms", threads = "threads"
    )
  ),
  plot_ranks = list(
    list(ranking = quote(several)),
    c(ranking = "result", top = "count", apart = "count_from_0")
  ),
  theme_dreher = list(list(), c(base_size = "size")),
  write_results = list(
    list(x = quote(rk), file = tempfile(fileext = ".sqlite")),
    c(x = "result", file = "file", table = "name_or_none")
  ),
  write_report = list(
    list(study = st, file = tempfile(fileext = ".html")),
    c(study = "study", file = "text", title = "title", short = "flag", withhold = "withheld")
  ),
  write_forest = list(
    list(study = quote(tree_study), file = tempfile(fileext = ".json")),
    c(study = "study", file = "text", models = "named")
  ),
  write_predictor_set = list(
    list(set = quote(set), file = tempfile(fileext = ".json")),
    c(set = "result", file = "text")
  ),
  read_predictor_set = list(list(), c(file = "file")),
  read_rows = list(
    list(source = system.file("extdata", "kiln_holdout.csv.gz", package = "dreher")),
    c(
      source = "file", query = "query", delimiter = "word_or_none", decimal = "word_or_none",
      thousands = "word_or_none", header = "flag_or_none", encoding = "word_or_none",
      missing = "marks", types = "types", quiet = "flag"
    )
  ),
  open_rows = list(
    list(source = quote(ho)),
    c(
      source = "source", query = "query", columns = "columns", folder = "new_folder",
      in_memory = "some_count", seed = "seed", at_once = "some_count", quiet = "flag"
    )
  ),
  read_dictionary = list(
    list(file = data.frame(predictor = "a")), c(file = "words_file", query = "query")
  ),
  average_models = list(
    list(models = quote(list(a = m, b = m))), c(models = "members", weights = "weights")
  ),
  column_families = list(list(data = quote(tr)), c(data = "table", declared = "declared")),
  read_model = list(
    list(file = system.file("extdata", "kiln_boosted.ubj", package = "dreher")),
    c(
      file = "file", columns = "columns", rounds = "count_or_none",
      output = "count_or_none", rows = "rows_or_none", predictions = "rows_or_none",
      compare = "flag"
    )
  ),
  bind_rankings = list(list(quote(rk)), c(other = "result_or_none")),
  ranking_details = list(
    list(ranking = quote(rk)), c(ranking = "result", part = "word_or_none")
  ),
  row_values = list(
    list(ranking = quote(rk)),
    c(
      ranking = "result", model = "word_or_none", method = "word_or_none",
      form = "word_or_none", rows = "word_or_none"
    )
  ),
  effect_curves = list(
    list(study = st, points = 3),
    c(
      study = "study", predictors = "named", models = "models", classes = "classes",
      form = "word", rows = "rows_but_sets", slice = "word_or_none", points = "count",
      at = "points", groups = "groups", centred = "flag", max_rows = "count_or_none",
      resamples = "result_or_none", level = "fraction", seed = "seed",
      threads = "threads", run = "folder"
    )
  ),
  contributions = list(
    list(study = st, background = 5),
    c(
      study = "study", models = "models", rows = "some_rows", which = "numbers_of_rows",
      classes = "classes", groups = "groups", value = "word", background = "count",
      against = "numbers_of_rows", scale = "word", precision = "fraction",
      max_pairs = "count", level = "fraction", seed = "seed", threads = "threads"
    )
  ),
  write_contributions = list(
    list(study = st, file = "x.csv"), c(study = "study", file = "file")
  ),
  interactions = list(
    list(study = st, background = 5, max_rows = 10),
    c(
      study = "study", by = "word_or_none", predictors = "named", models = "models",
      classes = "classes", rows = "rows_but_sets", groups = "groups", value = "word",
      background = "count", max_rows = "count_or_none", repeats = "count",
      null = "count_from_0", level = "fraction", seed = "seed", threads = "threads"
    )
  ),
  compare_slices = list(
    list(study = st, slices = ~clay_source, by = "score"),
    c(
      study = "study", slices = "slices", by = "word", models = "models",
      classes = "classes", rows = "rows_but_sets", repeats = "count",
      background = "count", max_rows = "count_or_none", level = "fraction", seed = "seed",
      threads = "threads"
    )
  ),
  similar_rows = list(
    list(study = st, which = 1),
    c(
      study = "study", which = "numbers_of_rows", model = "word_or_none",
      rows = "rows_but_sets", count = "count", by = "word", background = "count",
      max_rows = "count", seed = "seed", threads = "threads"
    )
  ),
  prototype_rows = list(
    list(study = st),
    c(
      study = "study", count = "count", which = "numbers_of_rows", model = "word_or_none",
      rows = "rows_but_sets", by = "word", background = "count", max_rows = "count",
      seed = "seed", threads = "threads"
    )
  ),
  smallest_change = list(
    list(study = st, which = 1, threshold = 50),
    c(
      study = "study", which = "numbers_of_rows", threshold = "reached",
      class = "classes", model = "word_or_none", rows = "some_rows", fixed = "named",
      most = "count", count = "count", threads = "threads"
    )
  ),
  local_rule = list(
    list(study = st, which = 1),
    c(
      study = "study", which = "numbers_of_rows", model = "word_or_none",
      class = "classes", rows = "some_rows", draws = "count", least_fidelity = "fraction",
      seed = "seed", threads = "threads"
    )
  ),
  agreement_tau = list(list(a = 1:3, b = 3:1), c(a = "numbers", b = "numbers")),
  agreement_spearman = list(list(a = 1:3, b = 3:1), c(a = "numbers", b = "numbers")),
  agreement_shares = list(list(a = 1:3, b = 3:1), c(a = "numbers", b = "numbers")),
  agreement_overlap = list(
    list(a = 1:3, b = 3:1), c(a = "numbers", b = "numbers", persistence = "persistence")
  ),
  agreement_top = list(
    list(a = 1:3, b = 3:1, top = 2), c(a = "numbers", b = "numbers", top = "count")
  ),
  new_inputs = list(
    list(predictors = "a"), c(predictors = "names", levels = "levels", missing = "words")
  ),
  just_below = list(list(), c(x = "reals")),
  plain_formula = list(
    list(target = "y", predictors = "a"), c(target = "text", predictors = "names")
  ),
  demo_kiln = list(list(), c(missing = "flag", folder = "folder")),
  demo_loans = list(list(), c(folder = "folder"))
)

# What comes of a call: "ours" for an error of dreher's, else what happened.
outcome <- function(name, given) {
  tryCatch(
    {
      grDevices::pdf(NULL)
      on.exit(grDevices::dev.off())
      quiet(utils::capture.output(do.call(name, given)))
      "no error"
    },
    dreher_error_internal = function(e) paste("internal:", conditionMessage(e)),
    dreher_error = function(e) "ours",
    error = function(e) paste("R's own:", conditionMessage(e)),
    interrupt = function(e) "interrupt"
  )
}

show_value <- function(v) substr(paste(deparse(v), collapse = ""), 1, 40)

test_that("every exported function refuses what its arguments cannot take, in our words", {
  rk <- rank_permutation(st, repeats = 3)
  over <- quiet(rank_predictors(
    st, by = "permutation", resamples = draw_resamples(tr, times = 4), repeats = 3
  ))
  nf <- noise_floor(st, refits = 19, repeats = 2)
  rd <- quiet(reduce_predictors(
    st, folds = 3, repeats = 1, inner_folds = 2, random = 2
  ))
  set <- choose_set(rd)
  several <- rank_predictors(
    st, by = c("permutation", "shapley"), background = 5, repeats = 2
  )
  files <- study_files()
  tried <- 0
  other <- character()
  for (name in names(arguments)) {
    works <- lapply(arguments[[name]][[1]], eval, environment())
    kinds <- arguments[[name]][[2]]
    for (arg in names(kinds)) {
      for (value in wrong[[kinds[[arg]]]]) {
        given <- works
        if (name == "bind_rankings") given[2] <- list(value) else given[arg] <- list(value)
        got <- outcome(name, given)
        tried <- tried + 1
        if (got != "ours") {
          other <- c(other, paste0(name, "(", arg, " = ", show_value(value), "): ", got))
        }
      }
    }
  }
  expect_identical(other, character())
  expect_gt(tried, 1500)
})

test_that("the table of arguments knows every exported function and argument", {
  exported <- getNamespaceExports("dreher")
  # Generics of the readers take a model; flat_forest() and join_trees() have tests of their own.
  readers <- c(
    "model_inputs", "model_forest", "model_predictions", "model_coefficients",
    "model_task", "refit_model", "widen_model", "estimated_predictors", "flat_forest",
    "join_trees"
  )
  expect_setequal(names(arguments), setdiff(exported, readers))
  for (name in names(arguments)) {
    formal <- setdiff(names(formals(name)), c("...", "env", "also"))
    if (name == "bind_rankings") formal <- "other"
    listed <- paste(name, names(arguments[[name]][[2]]))
    expect_identical(sort(listed), sort(paste(name, formal)))
  }
})
