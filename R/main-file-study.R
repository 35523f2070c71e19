# The study that a study file describes: its models read or trained, its rows.

# kept(name, key, make): the model as an earlier run kept it, else made and kept. -> a study
study_of_file <- function(spec, tables, kept, threads = NULL) {
  train <- tables$train
  made <- models_of_file(spec, tables, kept, threads)
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

# A learner that cannot be trained is left out, unless a section names it or no other is there.
models_of_file <- function(spec, tables, kept, threads) {
  asked <- unlist(lapply(unname(spec), function(section) {
    if (is.list(section)) section[c("model", "models", "refit_as")]
  }))
  failed <- list()
  made <- lapply(stats::setNames(nm = names(spec$models)), function(name) {
    tryCatch(
      model_of_file(spec, name, tables, kept, threads),
      dreher_error_model = function(e) {
        if (name %in% asked || is.null(spec$models[[name]]$learner)) stop(e)
        failed[[name]] <<- e
        NULL
      }
    )
  })
  made <- Filter(Negate(is.null), made)
  if (!length(made)) stop(failed[[1]])
  for (name in names(failed)) {
    said <- cli::ansi_strip(rlang::cnd_message(failed[[name]]))
    warn_dreher("model", paste0("Model \"", name, "\" is left out: ", said))
  }
  made
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
    tryCatch(
      train_learner(
        m$learner,
        m$settings,
        train,
        spec$target,
        task,
        predictors,
        seed_of(spec),
        if (is.null(threads)) 1L else threads
      ),
      error = function(e) {
        pass_interrupt(e)
        stop_model(
          paste0(
            "models.", name, ": the learner \"", m$learner, "\" could not be trained on ",
            format_number(nrow(train)), " rows and ",
            count_of(length(predictors), "predictor"), "."
          ),
          cli::ansi_strip(conditionMessage(e)),
          paste0(
            "Look at its settings and the columns, or leave the model out: ", name, "."
          )
        )
      }
    )
  })
}

key_of <- function(...) fingerprint(list(..., results_version))
