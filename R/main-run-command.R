# The steps of the command around study files: init and run; and a study file in place of options.

init_step <- function() {
  list(
    says = paste0(
      "Looks at a table and writes a commented study file for it, a draft of its ",
      "dictionary, and the schema that editors complete study files from."
    ),
    file = "data.csv",
    needs = c("file", "target"),
    options = list(
      opt("target", "name of the target column"),
      opt(
        "blocks",
        "name of the column that says which rows belong together; left out: looked for"
      ),
      opt(
        "minutes",
        "time you are ready to wait for the whole run [default %default]",
        "double",
        10
      ),
      opt("seed", "seed [default %default]", "double", 1L),
      opt("out", "path of the study file [default %default]", default = "study.yml")
    )
  )
}

command_init <- function(given) {
  file <- draft_study(
    given$file, given$target, file = given$out, blocks = given$blocks,
    minutes = given$minutes, seed = given$seed
  )
  put_out(c(
    paste0("Written: ", file, "."), "Read it, change what is wrong, then: ",
    paste0("  dreher run ", file)
  ))
}

run_step <- function() {
  list(
    says = paste0(
      "Does all that a study file asks for. What an earlier run finished, and no change of ",
      "the file touches, is not done again."
    ),
    file = "study.yml",
    needs = "file",
    options = list(
      flag("dry-run", "say what would be done and about how long it would take"),
      opt("workers", "processes that share the work [default: the file's]", "double")
    )
  )
}

command_run <- function(given) {
  began <- proc.time()[[3]]
  result <- tell_progress(run_study(
    given$file, dry_run = given$dry_run, workers = given$workers
  ))
  put_out(format_run(result))
  if (!given$dry_run) tell("Done in ", in_time(proc.time()[[3]] - began), ".")
  structure(
    as.integer(any(result$steps$state %in% c("failed", "not possible"))),
    class = "exit_status"
  )
}

report_step <- function() {
  list(
    says = paste0(
      "Writes the page of a study file. What an earlier run finished is taken from ",
      "there, the ", "rest is done first."
    ),
    file = "study.yml",
    needs = "file",
    options = list(
      flag(
        "short", "one page for the domain expert: the answer, the ranking, how they act"
      ),
      opt("withhold", "what its readers may not see: rows, sensitive, or both, by commas"),
      opt("title", "title of the page [default: the study file's]"),
      opt(
        "page", "path of the page [default: report.html or short.html beside the results]"
      )
    )
  )
}

command_report <- function(given) {
  withhold <- if (!is.null(given$withhold)) {
    check_choice(in_words(given$withhold), withheld_kinds, "--withhold", several = TRUE)
  }
  result <- tell_progress(run_study(given$file))
  spec <- sound_spec(given$file)
  if (is.null(withhold)) withhold <- unlist(spec$report$withhold)
  title <- if (is.null(given$title)) spec$report$title else given$title
  page <- given$page
  if (is.null(page)) {
    page <- file.path(result$folder, if (given$short) "short.html" else "report.html")
  }
  results <- unname(result[setdiff(names(result), c("study", "steps", "folder"))])
  about <- list(file = page, title = title, short = given$short, withhold = withhold)
  do.call(write_report, c(list(result$study), results, about))
  put_out(paste0("Written: ", page))
}

study_from_file <- function(spec, tables) {
  study_of_file(spec, tables, open_book(output_folder(spec))$model)
}

# What a study file stands for, and what it cannot stand beside.
roles_in_file <- c(
  "models", "columns", "data", "train", "target", "positive", "weights", "blocks", "metric",
  "dictionary", "target-transform"
)

# The options of a step as its section of the study file gives them, but for those that are
# written out.
# step: its name; options: what it takes; words: as they were written
fill_from_file <- function(step, options, given, words) {
  written <- sub("^--", "", sub("=.*$", "", words[startsWith(words, "--")]))
  spec <- sound_spec(given$study)
  # what a file need not say may be said beside it
  both <- setdiff(
    intersect(written, roles_in_file), if (is.null(spec$positive)) "positive"
  )
  if (length(both)) {
    wrong_usage("--", both[1], " stands beside --study: the study file says it.")
  }
  if (!is.null(given$positive)) spec$positive <- given$positive
  section <- spec[[section_of_step(step)]]
  if (is.null(section)) section <- list()
  names(section)[names(section) == "model"] <- "ranker"
  if (step == "stability" && !is.null(spec$floor)) {
    section$floor_refits <- if (is.null(spec$floor$refits)) 99 else spec$floor$refits
  }
  # the section names columns by `by`, the step methods
  if (step == "slices" && !is.null(section$by)) {
    section$slices <- section$by[[1]]
    section$by <- NULL
  }
  section$seed <- seed_of(spec)
  joined <- c("by", "predictors")
  for (name in intersect(names(section), names_of_options(options))) {
    if (option_word(name) %in% written) next
    value <- section[[name]]
    if (name == "repeats" && is.character(given$repeats)) value <- as.character(value)
    given[[name]] <- if (name %in% joined) paste(value, collapse = ",") else value
  }
  given$spec <- spec
  given$tables <- file_tables(spec)
  if (step == "reduce" && !is.null(spec$confirm)) given$confirm <- given$tables$untouched
  if (step == "confirm") {
    if (is.null(given$set)) given$set <- file.path(output_folder(spec), "set.json")
    if (is.null(given$rows)) given$rows <- given$tables$untouched
  }
  given
}

section_of_step <- function(step) {
  switch(step, score = "scores", row = "contributions", step)
}

option_word <- function(name) gsub("_", "-", name, fixed = TRUE)

names_of_options <- function(options) {
  found <- vapply(options, function(o) sub("^--", "", o@long_flag), "")
  gsub("-", "_", found, fixed = TRUE)
}
