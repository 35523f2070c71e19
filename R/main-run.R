# A study file, run: steps in their order, each kept with the fingerprint of what it was made from.
#
# step   list(name, says, needs: steps whose values it takes, about: what else its value hangs on,
#        made(values, run folder): the value, matters(value): what of it others hang on,
#        seconds(): about how long it takes); NULL where it is not asked for
#
# `kept/` in the output folder holds a file a step: list(key, value) as an R object, and the run
# folders of long steps. A key is the hash of the step's own section and of the keys of what it
# needs, so a changed line of the study file makes those steps anew that it touches, and no other.

#' Run a study file
#'
#' Does all that a study file asks for: reads and splits the rows, trains or reads the models,
#' checks, ranks, reduces, confirms, and writes tables, pictures, the chosen set and the page. What
#' was finished by an earlier run and is not touched by a change of the file is not done again.
#'
#' @param file Path of a study file (YAML): see [draft_study()].
#' @param ... Must be empty.
#' @param dry_run TRUE: say what would be done and about how long it would take, and train the
#'   models, but compute nothing else.
#' @param workers Number of processes that share the work. Default: the file's, else 1.
#' @param folder For `resume_study()`: the output folder of an earlier run, which holds a copy of
#'   its study file.
#' @return A list of class `dreher_run`: `study`, and the results that the file asks for under the
#'   names of its sections: `scores`, `checks`, `drift`, `ranking`, `floor`, `stability`,
#'   `agreement`, `twins`, `reduction`, `set`, `confirmation`, `comparison`, `effects`,
#'   `interactions`, `contributions`, `slices`; `steps`, a data frame of `step`, `state` (`"done"`,
#'   `"kept"`, `"failed"`, `"to do"` or `"not possible"`), `seconds` (taken, or with `dry_run`
#'   estimated) and `error`; `folder`, where the files are. A step that fails loses itself and what
#'   needs it; the others are finished.
#' @details The output folder's `kept/` holds results as R objects, which can hold code: go on only
#'   with folders that you or people you trust have made. A message of class `dreher_message_step`
#'   says what is begun.
#' @section Errors: `dreher_error_input`: a study file with faults, all of which are said, with
#'   their
#'   lines; `dreher_error_study`: rows and models that do not fit together.
#' @seealso [draft_study()], [check_study_file()].
#' @examples
#' \donttest{
#' file <- system.file("study", "kiln.yml", package = "dreher")
#' folder <- tempfile()
#' dir.create(folder)
#' tables <- dir(system.file("extdata", package = "dreher"), "^kiln.*csv", full.names = TRUE)
#' file.copy(c(file, tables), folder)
#' run_study(file.path(folder, "kiln.yml"), dry_run = TRUE)
#' }
#' @export
run_study <- function(file, ..., dry_run = FALSE, workers = NULL) {
  check_no_dots(..., .verb = "run_study")
  check_flag(dry_run, "dry_run")
  if (!is.null(workers)) check_count(workers, "workers", most = 1024)
  spec <- sound_spec(file)
  out <- output_folder(spec)
  if (is.null(workers)) workers <- if (is.null(spec$workers)) 1 else spec$workers
  if (workers > 1) {
    on.exit(future::plan(old), add = TRUE)
    old <- future::plan()
    future::plan("multisession", workers = workers)
  }
  run_spec(spec, out, dry_run, if (workers > 1) 1L)
}

#' @rdname run_study
#' @export
resume_study <- function(folder, ..., workers = NULL) {
  check_no_dots(..., .verb = "resume_study")
  check_string(folder, "folder")
  place <- file.path(folder, "kept", "study-file.txt")
  if (!file.exists(place)) {
    stop_input(
      paste0("The folder \"", folder, "\" holds no run."),
      todo = "Give the output folder of run_study()."
    )
  }
  run_study(readLines(place, warn = FALSE, encoding = "UTF-8"), workers = workers)
}

output_folder <- function(spec) {
  named <- spec$output$folder
  path <- if (is.null(named)) {
    paste0(tools::file_path_sans_ext(spec$file), "_results")
  } else {
    file_at(spec, named)
  }
  make_folder(path)
}

run_spec <- function(spec, out, dry_run, threads) {
  book <- open_book(out)
  # one run at a time in a folder: two would take each other's pieces for lost
  lock <- lock_folder(file.path(out, "kept"))
  on.exit(DBI::dbDisconnect(lock), add = TRUE)
  write_text(spec$file, file.path(out, "kept", "study-file.txt"))
  tables <- file_tables(spec)
  say_step("Rows: ", say_tables(tables), ".")
  st <- study_of_file(spec, tables, book$model, threads)
  steps <- Filter(Negate(is.null), steps_of_file(spec, st, tables, out))
  base <- key_of(
    st$fingerprint,
    lapply(tables, function(rows) if (is_store(rows)) rows$print else fingerprint(rows)),
    spec$models,
    spec[c("positive", "metric", "weights", "blocks", "target_transform")],
    of_dictionary(st, setdiff(names(st$dictionary), c("label", "unit", "cost"))),
    seed_of(spec),
    lapply(spec$models, function(m) {
      if (!is.null(m$file)) tools::md5sum(file_at(spec, m$file))
    })
  )
  for (step in steps) {
    if (dry_run) book$plan(step, base) else book$take(step, base)
  }
  values <- book$values()
  results <- lapply(values[setdiff(names(values), "ranked_again")], in_words_of, st)
  done <- book$steps()
  if (!dry_run) deliver_run(st, results, done, book$keys(), spec, out)
  structure(
    c(list(study = st), results, list(steps = done, folder = out)), class = "dreher_run"
  )
}

say_tables <- function(tables) {
  n <- vapply(Filter(Negate(is.null), tables), nrow, 1L)
  list_words(paste(format_number(n), ifelse(names(n) == "train", "training", names(n))))
}
