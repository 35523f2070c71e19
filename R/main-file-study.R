# The study that a study file describes: its models read or trained, its rows.

# kept(name, key, make): the model as an earlier run kept it, else made and kept. -> a study
study_of_file <- function(spec, tables, kept, threads = NULL) {
  train <- tables$train
  made <- lapply(stats::setNames(nm = names(spec$models)), function(name) {
    model_of_file(spec, name, tables, kept, threads)
  })
  coders <- Filter(Negate(is.null), lapply(made, `[[`, "encode"))
  build <- function(data) {
    study(
      lapply(made, `[[`, "model"),
      data,
      spec$target,
      train = train,
      weights = spec$weights,
      blocks = spec$blocks,
      metric = spec$metric,
      positive = if (!is.null(spec$positive)) as.character(spec$positive),
      dictionary = file_dictionary(spec),
      encode = if (length(coders)) coders,
      target_transform = transforms_of(spec),
      threads = threads
    )
  }
  if (is.null(tables$holdout)) {
    return(derive_study(asking_training_rows(build(train)), arranged = "training rows"))
  }
  st <- build(tables$holdout)
  if (is.null(spec$data$split$order)) st else derive_study(st, arranged = "time")
}

file_dictionary <- function(spec) {
  if (is.null(spec$dictionary)) return(NULL)
  d <- read_dictionary(file_at(spec, spec$dictionary))
  d[!d$predictor %in% c(spec$data$leave_out, spec$target), ]
}

# Learners are trained on the target as it stands.
transforms_of <- function(spec) {
  from_files <- names(Filter(function(m) !is.null(m$file), spec$models))
  if (is.null(spec$target_transform) || !length(from_files)) return(NULL)
  stats::setNames(as.list(rep(spec$target_transform, length(from_files))), from_files)
}

# -> list(model, encode)
model_of_file <- function(spec, name, tables, kept, threads) {
  m <- spec$models[[name]]
  if (!is.null(m$file)) {
    model <- read_model(file_at(spec, m$file), columns = m$columns)
    return(list(model = model))
  }
  train <- tables$train
  predictors <- file_predictors(spec, train)
  task <- if (is.factor(train[[spec$target]])) "classification" else "regression"
  key <- key_of(m, train, predictors, spec$target, seed_of(spec))
  kept(paste0("model-", name), key, function() {
    train_learner(
      m$learner, m$settings, train, spec$target, task, predictors, seed_of(spec),
      if (is.null(threads)) 1L else threads
    )
  })
}

key_of <- function(...) fingerprint(list(..., results_version))
