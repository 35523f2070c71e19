# What the steps of the command share: the study that is asked for, and tables that are delivered.

# The models of all files: one each, or those of a named list in an .rds file. A model by itself
# is called as its file, where there are several.
read_models <- function(given) {
  columns <- if (!is.null(given$columns)) in_words(given$columns)
  found <- lapply(given$models, function(file) {
    read <- read_model(file, columns = columns)
    one <- is.object(read) || !is.list(read)
    if (length(given$models) == 1) {
      read
    } else if (one) {
      stats::setNames(list(read), tools::file_path_sans_ext(basename(file)))
    } else {
      read
    }
  })
  models <- if (length(found) == 1) found[[1]] else do.call(c, found)
  for (m in if (is.object(models)) list(models) else models) {
    # Predicting needs the model's own package; classes carry its name often enough.
    if (class(m)[1] %in% c("ranger", "rpart", "nnet", "randomForest", "gbm")) {
      rlang::check_installed(class(m)[1])
    }
  }
  models
}

# A file, or a folder of Parquet files, whose rows stay on disk.
given_table <- function(path) {
  if (dir.exists(path)) open_rows(path) else read_rows(path)
}

command_study <- function(given, data) {
  if (!is.null(given$spec)) return(study_from_file(given$spec, given$tables))
  train <- if (!is.null(given$train)) read_rows(given$train)
  set_up <- function() {
    study(
      read_models(given),
      if (is.null(data)) train else data,
      given$target,
      train = train,
      weights = given$weights,
      blocks = given$blocks,
      metric = given$metric,
      positive = given$positive,
      dictionary = if (!is.null(given$dictionary)) read_dictionary(given$dictionary),
      target_transform = given$target_transform
    )
  }
  if (!is.null(data)) return(set_up())
  derive_study(asking_training_rows(set_up()), arranged = "training rows")
}

# Each result, if there is one, in a file of its name.
write_tables <- function(results, folder, format) {
  for (name in names(results)) {
    if (!is.null(results[[name]])) {
      save_table(results[[name]], file.path(folder, paste0(name, ".", format)))
    }
  }
}

print_table <- function(x, format) {
  if (format == "text") return(put_out(format_any(x)))
  file <- tempfile(fileext = paste0(".", format))
  on.exit(unlink(file), add = TRUE)
  save_table(x, file)
  put_out(readLines(file, warn = FALSE, encoding = "UTF-8"))
}

format_any <- function(x) {
  switch(
    class(x)[1],
    dreher_scores = format_scores(x),
    dreher_checks = format_checks(x),
    dreher_drift = format_drift(x),
    dreher_ranking = format_ranking(x),
    dreher_reduction = format_reduction(x),
    dreher_twins = format_twins(x),
    dreher_comparison = format_comparison(x),
    dreher_set = format_set(x, confirmed = TRUE),
    dreher_confirmation = format_confirmation(x),
    dreher_stability = format_stability(x),
    dreher_floor = format_floor(x),
    dreher_agreement = format_agreement(x),
    dreher_effects = format_effects(x),
    dreher_interactions = format_interactions(x),
    dreher_contributions = format_contributions(x),
    dreher_slices = format_slices(x)
  )
}
