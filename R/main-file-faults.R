# Faults of a study file that its own text does not show: files, columns, models, what goes with
# what.

find_faults <- function(spec) {
  faults <- no_faults()
  add <- function(field, fault, todo = "") {
    path <- strsplit(field, ".", fixed = TRUE)[[1]]
    faults <<- rbind(faults, new_fault(line_of(spec$text, path), field, fault, todo))
  }
  faults_of_data(spec, add)
  faults_of_models(spec, add)
  faults_of_steps(spec, add)
  # Columns can be looked at where the rows can be read.
  if (!any(grepl("^data", faults$field))) faults_of_columns(spec, add)
  faults
}

faults_of_data <- function(spec, add) {
  data <- spec$data
  parts <- intersect(c("train", "holdout", "untouched"), names(data))
  if (is.null(data$file) && is.null(data$train)) {
    add("data", "names no rows.", "Give file (one table, to be split) or train.")
  }
  if (!is.null(data$file) && length(parts)) {
    add(
      paste0("data.", parts[1]), "stands beside data.file.",
      "One table is split by data.split, or each part is a file of its own."
    )
  }
  if (!is.null(data$split) && is.null(data$file)) {
    add("data.split", "is for data.file.", "Leave it out, or give all rows as data.file.")
  }
  if (sum(unlist(data$split[c("holdout", "untouched")])) > 0.9) {
    add("data.split", "leaves fewer than a tenth of the rows to train on.")
  }
  if (!is.null(data$database)) return()
  for (part in intersect(c("file", parts), names(data))) {
    no_file(spec, paste0("data.", part), data[[part]], add)
  }
}

no_file <- function(spec, field, path, add) {
  if (is.null(path)) return()
  at <- file_at(spec, path)
  # holdout and untouched rows may be a folder of Parquet files
  folder <- dir.exists(at) && !field %in% c("data.holdout", "data.untouched")
  if (!file.exists(at) || folder) {
    add(
      field,
      paste0("there is no file \"", path, "\"."),
      paste0("Looked in ", spec$folder, ".")
    )
  } else if (file.access(at, 4) != 0) {
    add(field, paste0("the file \"", path, "\" may not be read."))
  }
}

faults_of_models <- function(spec, add) {
  for (name in names(spec$models)) {
    m <- spec$models[[name]]
    field <- paste0("models.", name)
    if (is.null(m$file) == is.null(m$learner)) {
      add(field, "needs a file or a learner, and not both.")
      next
    }
    if (!is.null(m$file)) {
      no_file(spec, paste0(field, ".file"), m$file, add)
      if (!is.null(m$settings)) {
        add(paste0(field, ".settings"), "are for a learner; this model is trained already.")
      }
      next
    }
    l <- learner_table()[[m$learner]]
    for (other in setdiff(names(m$settings), l$settings)) {
      add(
        paste0(field, ".settings.", other), paste0("is no setting of ", m$learner, "."),
        if (length(l$settings)) say_nearest(other, l$settings) else "It has none."
      )
    }
    for (setting in intersect(names(m$settings), l$settings)) {
      value <- m$settings[[setting]]
      if (length(value) != 1 || is.list(value) || is.na(value)) {
        add(
          paste0(field, ".settings.", setting), "must be one value.",
          "For several values name several models."
        )
      }
    }
    if (!is.null(l$package) && !requireNamespace(l$package, quietly = TRUE)) {
      add(
        paste0(field, ".learner"), paste0("needs the package ", l$package, "."),
        paste0("install.packages(\"", l$package, "\")")
      )
    }
  }
}

faults_of_steps <- function(spec, add) {
  steps <- c(
    "floor", "stability", "compare", "effects", "interactions", "contributions", "slices"
  )
  for (step in steps) {
    for (m in setdiff(spec[[step]]$models, names(spec$models))) {
      add(
        paste0(step, ".models"),
        paste0("there is no model \"", m, "\"."),
        say_nearest(m, names(spec$models))
      )
    }
  }
  reduce <- spec$reduce
  for (field in c("model", "refit_as")) {
    m <- reduce[[field]]
    if (!is.null(m) && !m %in% names(spec$models)) {
      add(
        paste0("reduce.", field),
        paste0("there is no model \"", m, "\"."),
        say_nearest(m, names(spec$models))
      )
    }
  }
  needs <- function(rule, field) {
    if (identical(reduce$rule, rule) && is.null(reduce[[field]])) {
      add("reduce.rule", paste0("the rule ", rule, " needs reduce.", field, "."))
    }
  }
  needs("count", "count")
  needs("floor", "floor_refits")
  costs <- identical(reduce$rule, "cheapest") || !is.null(reduce$budget)
  if (costs && is.null(spec$dictionary)) {
    add("reduce", "costs are in the dictionary.", "Give dictionary.")
  }
  if (identical(spec$stability$kind, "time") && is.null(spec$stability$order)) {
    add("stability.kind", "time needs stability.order, the column of times.")
  }
  if (!is.null(spec$confirm)) {
    if (is.null(reduce)) {
      add("confirm", "there is no set to confirm.", "Add a section reduce.")
    }
    split <- spec$data$split$untouched
    if (is.null(spec$data$untouched) && (is.null(split) || split == 0)) {
      add(
        "confirm",
        "there are no untouched rows.",
        "Give data.untouched or data.split.untouched."
      )
    }
  }
  chosen <- vapply(spec$compare$sets, identical, NA, "chosen")
  if (any(chosen) && is.null(reduce)) {
    add("compare.sets", "chosen needs a section reduce.")
  }
  for (step in c("reduce", "confirm", "compare")) {
    wrong <- tryCatch(
      {
        if (!is.null(spec[[step]]$margin)) read_margin(spec[[step]]$margin)
        NULL
      },
      error = function(e) paste(cli::ansi_strip(conditionMessage(e)), collapse = " ")
    )
    if (!is.null(wrong)) add(paste0(step, ".margin"), wrong)
  }
  if (!is.null(spec$metric) && !spec$metric %in% names(metric_table())) {
    add(
      "metric",
      paste0("there is no metric \"", spec$metric, "\"."),
      say_nearest(spec$metric, names(metric_table()))
    )
  }
  no_file(spec, "dictionary", spec$dictionary, add)
  writer <- c(xlsx = "writexl", parquet = "nanoparquet")[spec$output$format]
  if (length(writer) && !is.na(writer) && !requireNamespace(writer, quietly = TRUE)) {
    add(
      "output.format",
      paste0(spec$output$format, " needs the package ", writer, "."),
      paste0("install.packages(\"", writer, "\")")
    )
  }
}

faults_of_columns <- function(spec, add) {
  where <- if (!is.null(spec$data$file)) "data.file" else "data.train"
  tables <- tryCatch(
    {
      plain <- spec
      plain$data$leave_out <- NULL
      file_tables(plain)
    },
    dreher_error = function(e) {
      said <- cli::ansi_strip(rlang::cnd_message(e))
      field <- if (grepl("target", said, ignore.case = TRUE)) "target" else where
      add(field, gsub("\n", " ", said))
      NULL
    },
    error = function(e) {
      add(where, conditionMessage(e))
      NULL
    }
  )
  if (is.null(tables)) return()
  train <- tables$train
  known <- names(train)
  lacks <- function(field, columns) {
    for (column in setdiff(columns, known)) {
      add(
        field,
        paste0("the rows have no column \"", column, "\"."),
        say_nearest(column, known)
      )
    }
  }
  lacks("data.leave_out", spec$data$leave_out)
  lacks("weights", spec$weights)
  lacks("blocks", spec$blocks)
  lacks("stability.strata", spec$stability$strata)
  lacks("stability.order", spec$stability$order)
  lacks("slices.by", spec$slices$by)
  for (step in c("effects", "interactions")) {
    lacks(paste0(step, ".predictors"), spec[[step]]$predictors)
  }
  sets <- Filter(
    function(s) !(length(s) == 1 && s %in% c("all", "none", "chosen")), spec$compare$sets
  )
  for (name in names(sets)) lacks(paste0("compare.sets.", name), unlist(sets[[name]]))
  for (part in c("holdout", "untouched")) {
    gone <- setdiff(known, table_columns(tables[[part]]))
    if (!is.null(tables[[part]]) && length(gone)) {
      add(
        paste0("data.", part),
        paste0("lacks columns of the training rows: ", quote_some(gone), ".")
      )
    }
  }
  if (!length(file_predictors(spec, train))) {
    add("data", "no column is left to be a predictor.")
  }
  y <- train[[spec$target]]
  if (length(unique(y)) < 2) add("target", "has one value in the training rows.")
  if (!is.null(spec$positive) && !spec$positive %in% as.character(y)) {
    add(
      "positive",
      paste0("is no class of \"", spec$target, "\"."),
      say_nearest(spec$positive, as.character(unique(y)))
    )
  }
  if (is.null(tables$holdout) && any(spec$contributions$rows > nrow(train))) {
    add("contributions.rows", paste0("there are ", nrow(train), " rows."))
  } else if (any(spec$contributions$rows > nrow(tables$holdout))) {
    add(
      "contributions.rows", paste0("there are ", nrow(tables$holdout), " holdout rows.")
    )
  }
}
