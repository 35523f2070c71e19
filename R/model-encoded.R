# Models trained on encoded columns, seen through the columns the user has.
#
# A dreher_encoded object holds a model (the engine) and the function that encodes rows for it.
# Which encoded column stems from which predictor is found by changing the predictors one at a
# time and looking which columns move; what the encoder says of itself (attribute `stems_from`) is
# held against that.
#
#   engine   the fitted model
#   columns  the encoded columns it takes
#   reads    their inputs, as of model_inputs()
#   encode   rows -> columns
#   stems    per column the predictors it stems from
#   inputs   the user's columns
#   fill     one row of them, for predictors that a refit leaves out
#   own      rows -> predictions, where the model came in a wrapper with a predict of its own
#   wrapper  that wrapper (a parsnip fit or a workflow); again: how it is trained again; widened:
#            how it is with copies of its columns (see double_encoder())

new_encoded <- function(
    engine, encode, rows, name, asked = NULL, own = NULL, task = NULL, again = NULL,
    wrapper = NULL, widened = NULL) {
  run <- function(data) run_encoder(encode, data, name)
  encoded <- run(rows)
  reads <- model_inputs(engine, encoded)
  if (is.null(reads)) {
    reads <- new_inputs(
      names(encoded), levels_of_rows(encoded, names(encoded)), missing = TRUE
    )
  }
  gone <- setdiff(reads$predictors, names(encoded))
  if (length(gone)) {
    stop_input(
      paste0(
        "The encoder of model \"", name, "\" does not make the columns the model takes: ",
        quote_some(gone), "."
      ),
      paste0("It makes ", quote_some(names(encoded), 8), "."),
      "Name the encoded columns as in training."
    )
  }
  candidates <- if (is.null(asked)) names(rows) else asked
  stems <- trace_columns(run, rows, encoded, candidates, reads$predictors, name)
  predictors <- intersect(names(rows), unlist(stems))
  if (!length(predictors)) {
    stop_input(paste0(
      "None of the columns of the data changes what the encoder of model \"", name,
      "\" returns."
    ))
  }
  inputs <- new_inputs(
    predictors,
    levels_of_rows(rows, predictors),
    missing = TRUE,
    also = setdiff(names(rows), predictors)
  )
  # of text that seldom repeats the encoder takes what training has not met
  inputs$free <- Filter(function(p) is_free_text(rows[[p]]), predictors)
  structure(
    list(
      engine = engine,
      encode = encode,
      columns = reads$predictors,
      reads = reads,
      stems = stems,
      inputs = inputs,
      fill = rows[1, , drop = FALSE],
      name = name,
      own = own,
      task = task,
      again = again,
      wrapper = wrapper,
      widened = widened
    ),
    class = "dreher_encoded"
  )
}

# What an encoder returns, as a data frame with one row per row; its faults are said in its name.
run_encoder <- function(encode, data, name) {
  out <- tryCatch(call_user(encode, data), error = function(e) {
    stop_input(
      paste0("The encoder of model \"", name, "\" failed on ", nrow(data), " rows."),
      todo = "It is called with the predictors' columns, without the target.",
      parent = e
    )
  })
  stated <- attr(out, "stems_from")
  if (inherits(out, "Matrix")) out <- as.matrix(out)
  if (is.matrix(out)) out <- as.data.frame(out, optional = TRUE)
  if (!is.data.frame(out) || nrow(out) != nrow(data)) {
    stop_input(
      paste0(
        "The encoder of model \"", name,
        "\" must return a matrix or data frame with one row per row of its input."
      ),
      paste0(
        "Given: ",
        if (is.data.frame(out)) {
          paste0(nrow(out), " rows for ", nrow(data))
        } else {
          describe_value(out)
        },
        "."
      )
    )
  }
  out <- as.data.frame(out, optional = TRUE)
  if (anyDuplicated(names(out)) || any(!nzchar(names(out)))) {
    stop_input(paste0(
      "The columns that the encoder of model \"", name, "\" returns need distinct names."
    ))
  }
  attr(out, "row.names") <- .set_row_names(nrow(out))
  attr(out, "stems_from") <- stated
  out
}

# Where two columns hold something else, gaps included.
differs <- function(a, b) {
  if (is.factor(a)) a <- as.character(a)
  if (is.factor(b)) b <- as.character(b)
  is.na(a) != is.na(b) | (!is.na(a) & !is.na(b) & a != b)
}

# For each of `columns` the predictors among `candidates` it stems from.
trace_columns <- function(run, rows, encoded, candidates, columns, name) {
  probe <- probe_rows(rows)
  base <- run(probe)
  n <- nrow(probe)
  same <- function(a, b) {
    !any(vapply(columns, function(j) any(differs(a[[j]], b[[j]])), NA))
  }
  half <- seq_len(ceiling(n / 2))
  again <- call_user(function() {
    set.seed(2)  # a function that draws, draws something else
    run(probe)
  })
  if (!same(again, base)) {
    stop_input(
      paste0(
        "The encoder of model \"", name,
        "\" gives other values the second time it sees the same rows."
      ),
      todo = "Fix its random numbers."
    )
  }
  if (!same(
      run(probe[rev(seq_len(n)), , drop = FALSE]), base[rev(seq_len(n)), , drop = FALSE]
    ) || !same(run(probe[half, , drop = FALSE]), base[half, , drop = FALSE])) {
    stop_input(
      paste0(
        "The encoder of model \"", name,
        "\" makes a row's values depend on the other rows."
      ),
      todo = "Let it use the levels, means and the like of the training rows."
    )
  }
  moved <- vapply(
    candidates,
    function(p) moved_columns(run, probe, base, p, columns),
    logical(length(columns))
  )
  moved <- matrix(moved, length(columns), dimnames = list(columns, candidates))
  found <- lapply(stats::setNames(nm = columns), function(j) candidates[moved[j, ]])
  match_statement(found, attr(encoded, "stems_from"), name)
}

# Up to 200 of the rows, and every level of every factor at least once.
probe_rows <- function(rows, most = 200, most_levels = 2000) {
  n <- nrow(rows)
  at <- unique(round(seq(1, n, length.out = min(n, most))))
  swept <- lapply(names(rows), function(p) {
    known <- levels_of_column(rows[[p]])
    first <- match(known, as.character(rows[[p]]))
    utils::head(first[!is.na(first)], most_levels)
  })
  out <- rows[unique(c(at, unlist(swept))), , drop = FALSE]
  attr(out, "row.names") <- .set_row_names(nrow(out))
  out
}

# Which columns change when the values of p are exchanged among the rows, or set to its least or
# largest value, any of its levels, or a gap?
moved_columns <- function(run, probe, base, p, columns) {
  n <- nrow(probe)
  x <- probe[[p]]
  orders <- lapply(unique(c(1, 7, n %/% 2) %% n), function(s) {
    (seq_len(n) - 1 + s) %% n + 1
  })
  single <- if (is.null(levels_of_column(x))) {
    c(which.min(x), which.max(x))
  } else {
    match(unique(x[!is.na(x)]), x)
  }
  single <- c(utils::head(single, 50), if (anyNA(x)) which(is.na(x))[1])
  orders <- c(orders, lapply(single, rep, n))
  moved <- rep(FALSE, length(columns))
  for (some in split(orders, (seq_along(orders) - 1) %/% max(1, floor(2e4 / n)))) {
    copies <- probe[rep(seq_len(n), length(some)), , drop = FALSE]
    copies[[p]] <- x[unlist(some)]
    attr(copies, "row.names") <- .set_row_names(nrow(copies))
    encoded <- run(copies)
    moved <- moved |
      vapply(
        columns, function(j) any(differs(encoded[[j]], rep(base[[j]], length(some)))), NA
      )
  }
  moved
}

# stated: for (some) columns the predictors the encoder says they stem from.
match_statement <- function(found, stated, name) {
  for (j in intersect(names(stated), names(found))) {
    said <- as.character(unlist(stated[[j]]))
    strange <- setdiff(found[[j]], said)
    if (length(strange)) {
      stop_input(
        paste0(
          "Column \"", j, "\", made by the encoder of model \"", name,
          "\", is said to stem from ", quote_some(said), ", but changes with ",
          quote_some(strange), "."
        ),
        todo = paste0(
          "Correct the attribute `stems_from` of what it returns: a list of ",
          "predictors, named by encoded columns."
        )
      )
    }
    found[[j]] <- said
  }
  found
}

# fill: one row with a value for every column that `data` may lack; what is text there is text here.
fill_columns <- function(data, fill) {
  for (p in intersect(names(fill), names(data))) {
    if (is.character(fill[[p]]) && is.factor(data[[p]])) data[[p]] <- as.character(data[[p]])
  }
  for (p in setdiff(names(fill), names(data))) data[[p]] <- fill[[p]][rep(1, nrow(data))]
  data
}

# Rows for the engine. Predictors that a refit left out are filled in: no column of the engine
# stems from them.
encode_data <- function(model, data) {
  align_rows(
    run_encoder(
      model$encode, fill_columns(data, model$fill)[names(model$fill)], model$name
    ),
    model$reads,
    model$name,
    "the encoded rows"
  )
}

# The name under which an encoded column is ranked; NA where nothing moves it.
stem_labels <- function(stems) {
  vapply(stems, function(s) if (length(s)) paste(s, collapse = " & ") else NA_character_, "")
}

#' @export
model_task.dreher_encoded <- function(model, ...) {
  if (is.null(model$task)) model_task(model$engine) else model$task
}

#' @export
model_inputs.dreher_encoded <- function(model, train = NULL, ...) model$inputs

#' @export
model_predictions.dreher_encoded <- function(model, data, ...) {
  if (is.null(model$own)) return(model_predictions(model$engine, encode_data(model, data)))
  out <- model$own(fill_columns(data, model$fill)[names(model$fill)])
  if (is.matrix(out)) out[, model$task$classes, drop = FALSE] else out
}

#' @export
model_forest.dreher_encoded <- function(model, inputs, ...) {
  forest <- model_forest(model$engine, model$reads)
  if (is.null(forest)) return(NULL)
  forest$encode <- function(data) encode_data(model, data)
  forest$origin <- unname(stem_labels(model$stems)[forest$columns])
  # A column of two predictors follows neither's donor alone: such models are shuffled through the
  # encoder.
  forest$shared <- any(
    lengths(model$stems[unique(forest$columns[forest$column[forest$column >= 0] + 1L])]) >
      1
  )
  forest
}

#' @export
model_coefficients.dreher_encoded <- function(model, ...) {
  linear <- model_coefficients(model$engine)
  if (is.null(linear)) return(NULL)
  from <- lapply(linear$columns, function(used) unique(unlist(model$stems[used])))
  label <- vapply(
    from, function(s) if (length(s)) paste(s, collapse = " & ") else "no predictor", ""
  )
  joined <- unique(label)
  linear$term <- c(0L, match(label, joined))[linear$term + 1L]
  linear$columns <- stats::setNames(
    lapply(joined, function(l) {
      if (is.null(from[[match(l, label)]])) character() else from[[match(l, label)]]
    }),
    joined
  )
  design <- linear$design
  linear$design <- function(data) design(encode_data(model, data))
  linear
}

#' @export
refit_model.dreher_encoded <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  if (!is.null(model$again)) return(model$again(data, target, predictors, seed, threads))
  stays <- vapply(model$stems, function(s) length(s) > 0 && all(s %in% predictors), NA)
  if (!any(stays)) {
    stop_model(
      "None of the encoded columns stems from these predictors alone.",
      todo = "Give `study(refit_with = )` a function that fits the model."
    )
  }
  encoded <- encode_data(model, data)
  encoded[[target]] <- data[[target]]
  out <- model
  out$engine <- refit_model(
    model$engine, encoded, target, model$columns[stays], seed = seed, threads = threads
  )
  out$reads <- model_inputs(out$engine, encoded)
  out$columns <- out$reads$predictors
  out$stems <- model$stems[out$columns]
  out$inputs <- new_inputs(predictors, model$inputs$levels, missing = TRUE)
  out
}

# A model on encoded columns predicts from the user's own: what [refit_on()] gives back for one.
#' @export
predict.dreher_encoded <- function(object, newdata, ...) {
  newdata <- check_rows(newdata, "newdata")
  check_columns(newdata, object$inputs$predictors, "newdata", "The predictor", object$name)
  model_predictions(object, newdata)
}

# The same model with room for a copy of every predictor: rows are encoded twice, as they are and
# with the copies in the predictors' place.
double_encoder <- function(model, copies, predictors, scale) {
  encoded <- decoy_columns(model$columns)
  columns <- model$columns
  once <- function(data) encode_data(model, data)
  copied <- function(data) {
    data[predictors] <- data[copies]
    once(data[setdiff(names(data), copies)])
  }
  out <- model
  out$encode <- function(data) {
    second <- copied(data)
    cbind(
      once(data[setdiff(names(data), copies)])[columns],
      stats::setNames(second[columns], encoded)
    )
  }
  out$reads <- new_inputs(
    c(columns, encoded),
    stats::setNames(
      c(model$reads$levels[columns], model$reads$levels[columns]), c(columns, encoded)
    ),
    missing = model$reads$missing
  )
  renamed <- stats::setNames(copies, predictors)
  out$stems <- c(
    model$stems[columns],
    stats::setNames(
      lapply(model$stems[columns], function(s) {
        unname(ifelse(s %in% predictors, renamed[s], s))
      }),
      encoded
    )
  )
  out$columns <- c(columns, encoded)
  out$inputs <- new_inputs(
    c(model$inputs$predictors, copies),
    stats::setNames(
      c(model$inputs$levels, model$inputs$levels[predictors]),
      c(model$inputs$predictors, copies)
    ),
    missing = TRUE
  )
  out$fill <- cbind(model$fill, stats::setNames(model$fill[predictors], copies))
  if (is.null(model$wrapper)) {
    out$engine <- widen_model(model$engine, encoded, columns, scale)
  } else {
    out$again <- function(data, target, predictors, seed, threads) {
      model$widened(out, data, target, seed)
    }
    out$own <- NULL
  }
  out
}

#' @export
widen_model.dreher_encoded <- function(model, columns, copy_of = NULL, scale = TRUE, ...) {
  if (!is.null(copy_of)) return(double_encoder(model, columns, copy_of, scale))
  stop_model(
    paste0(
      "A model on encoded columns does not take new predictors: ", quote_some(columns), "."
    ),
    todo = paste0(
      "Give `study(refit_with = )` a function(model, data, predictors) that fits ",
      "the model on any predictors."
    )
  )
}

# The class a study shows for a model, and the name of one that was given none.
model_class <- function(object) {
  if (inherits(object, "dreher_transformed")) return(model_class(object$model))
  if (inherits(object, "dreher_encoded")) return(model_class(object$engine))
  if (inherits(object, c("dreher_own_predict", "dreher_unread"))) {
    return(class(object$model)[1])
  }
  if (inherits(object, "dreher_average")) {
    return(paste("mean of", length(object$models), "models"))
  }
  if (inherits(object, "dreher_model_file")) {
    paste(object$library, "file")
  } else {
    class(object)[1]
  }
}

model_name <- function(object) {
  if (inherits(object, "dreher_model_file")) {
    tools::file_path_sans_ext(basename(object$file))
  } else {
    class(object)[1]
  }
}
