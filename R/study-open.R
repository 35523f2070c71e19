# Models as they come into a study: read, and checked against its rows.

# One model of a study, read and checked.
open_model <- function(st, name, object, predict_with, again = FALSE, compare = TRUE) {
  own_reader <- is.null(predict_with)
  if (own_reader && !again) {
    each <- if (inherits(object, "dreher_average")) object$models else list(object)
    for (m in each) check_response(readers_object(m), name, st$task)
  }
  inputs <- if (own_reader) model_inputs(object, st$train)
  if (is.null(inputs)) inputs <- guess_inputs(st)
  if (own_reader) {
    inputs$ordered <- check_ordered(
      ordered_columns(object), model_inputs(object, NULL)$levels, st, name
    )
  }
  if (!length(inputs$predictors)) {
    stop_model(
      paste0("Model \"", name, "\" takes in no predictor: there is nothing to rank."),
      todo = paste0(
        "Leave it out. Is it a constant prediction, a single leaf, or a model whose ",
        "coefficients were all dropped?"
      )
    )
  }
  strays <- setdiff(inputs$predictors, names(st$data))
  if (st$target %in% inputs$predictors) {
    stop_model(paste0(
      "Model \"", name, "\" uses the target \"", st$target, "\" as a predictor."
    ))
  }
  if (length(strays)) check_columns(st$data, strays, "data", "The predictor", name)
  model <- list(
    name = name,
    object = object,
    class = model_class(object),
    inputs = inputs,
    predict = if (own_reader) model_predictions else predict_with,
    own_reader = own_reader,
    forest = NULL,
    linear = if (own_reader) model_coefficients(object),
    classes = if (own_reader && st$task == "classification") {
      resolve_classes(model_task(object)$classes, st, name)
    }
  )
  if (own_reader) {
    check_levels_known(model, st)
    if (is.null(st$train)) {
      model$inputs <- levels_from_data(inputs, st$data)
    } else {
      check_columns(st$train, inputs$predictors, "train", "The predictor", name)
    }
    forest <- model_forest(object, model$inputs)
    if (!is.null(forest) && compare) {
      check_forest(
        forest,
        object,
        align_rows(st$data, model$inputs, name),
        name,
        st$threads,
        model$inputs,
        again
      )
    }
    model$forest <- forest
  }
  if (!again) {
    if (is.null(model$forest)) check_leaves_rows(st, model)
    all <- predict_model(st, model, st$data)  # every row must get a prediction
    check_scale(st, model, all[, 1])
    if (is.null(model$forest)) check_steady(st, model, all)
  }
  if (!again && own_reader) check_level_order(st, model)
  if (own_reader && st$task == "classification") {
    check_coding(st, model, model_task(object)$classes)
  }
  model
}

# Ordered factors whose levels the model does not keep must come as factors. -> those that may
# come as text
check_ordered <- function(ordered, own, st, name) {
  seen <- if (is.null(st$train)) st$data else st$train
  bare <- Filter(function(p) is.null(own[[p]]), ordered)
  text <- Filter(
    function(p) is.character(seen[[p]]) || is.character(st$data[[p]]),
    intersect(bare, names(seen))
  )
  if (length(text)) {
    stop_model(
      paste0(
        "Model \"", name,
        "\" was trained on ordered factors whose levels it does not keep: ",
        quote_some(text), "."
      ),
      "The rows hold text there, whose order is not known.",
      "Give factors with the levels of training, in their order."
    )
  }
  setdiff(ordered, bare)
}

# A forest of ranger keeps level numbers, not names. Where the training rows hold text for what
# may have been factors with levels in another order, its error on them shows it: that must be
# below the error it had in training on rows left out.
check_level_order <- function(st, model) {
  known <- error_left_out(model$object)
  if (is.null(st$train) || !isTRUE(is.finite(known$value)) || known$keeps_levels) {
    return(invisible())
  }
  text <- model$inputs$predictors[vapply(
      st$train[model$inputs$predictors], is.character, NA
    )]
  if (!length(text)) return(invisible())
  own <- tryCatch(predict_model(st, model, st$train, "train"), error = function(e) NULL)
  if (is.null(own)) return(invisible())
  truth <- truth_of(st, st$train)
  ours <- switch(
    known$kind,
    Regression = mean((own[, 1] - truth)^2),
    Classification = mean(predicted_class(own) != truth),
    mean((1 - own[cbind(seq_along(truth), truth)])^2)
  )
  # Fewer or other rows than those of training may be harder ones.
  if (ours > known$value * if (nrow(st$train) == known$rows) 1 else 1.5) {
    stop_model(
      paste0(
        "Model \"", model$name,
        "\" predicts its training rows worse than it did in training the rows it left ",
        "out."
      ),
      paste0(
        "Were the text columns ", quote_some(text),
        " factors then, with levels in another order than that of the alphabet?"
      ),
      "Give `train` and `data` with factors on the levels of training."
    )
  }
}

# The study's names for a model's classes. Of two that are numbered 0 and 1 the second is TRUE, or
# the positive class where that is said (see check_coding()); libraries that number more classes
# from 0 mean the order of the target's levels; other names must be among the target's.
resolve_classes <- function(own, st, name) {
  if (is.null(own) || all(own %in% st$classes)) return(own)
  if (is_numbered(own) && length(own) == length(st$classes)) {
    known <- length(own) > 2 || is_truth(st$classes) || !st$positive_said
    return(if (known) st$classes else st$classes[c(3 - st$positive, st$positive)])
  }
  stop_study(
    paste0(
      "Model \"", name, "\" predicts the classes ", quote_some(own),
      ", but the target \"", st$target, "\" has ", quote_some(st$classes), "."
    ),
    todo = "Give rows whose target is named as in training."
  )
}

# Models that do not name their predictors take in every column but the target.
guess_inputs <- function(st) {
  predictors <- st$asked
  if (is.null(predictors)) {
    predictors <- setdiff(names(st$data), c(st$target, st$weights, st$blocks))
  }
  check_columns(st$data, predictors, "data", "The predictor")
  seen <- if (is.null(st$train)) st$data else st$train
  new_inputs(
    predictors, levels_of_rows(seen, intersect(predictors, names(seen))), missing = TRUE
  )
}

# Text columns have no levels of their own: without training rows nobody can know the codes.
check_levels_known <- function(model, st) {
  text <- model$inputs$predictors[vapply(
      model$inputs$predictors,
      function(p) {
        is.character(st$data[[p]]) && is.null(model$inputs$levels[[p]])
      },
      NA
    )]
  if (length(text) && is.null(st$train)) {
    stop_input(
      paste0(
        "Model \"", model$name, "\" takes the text ",
        if (length(text) > 1) "columns " else "column ", quote_some(text),
        ", whose training levels are not known."
      ),
      todo = paste0(
        "Give `train = ` the training rows, or turn the column into a factor with the ",
        "levels of training."
      )
    )
  }
}

levels_from_data <- function(inputs, data) {
  for (p in inputs$predictors) {
    if (is.null(inputs$levels[[p]]) && is.factor(data[[p]])) {
      inputs$levels[[p]] <- levels(data[[p]])
    }
  }
  inputs
}

# Models behind an encoder or in a wrapper, seen through the user's columns; others as they are.
# rows: the user's columns without the target.
readable_model <- function(object, name, encode, rows, asked) {
  if (inherits(object, "dreher_encoded")) return(object)
  if (inherits(object, "dreher_average")) {
    return(open_average(object, name, function(m, own) {
      readable_model(m, own, encode, rows, asked)
    }))
  }
  if (is_wrapped(object)) return(open_wrapped(object, rows, name, asked))
  object <- as_readable(object, name)
  # some files say how their columns are made
  if (is.null(encode) && inherits(object, "dreher_plain_model")) encode <- object$encode
  if (is.null(encode)) object else new_encoded(object, encode, rows, name, asked)
}

#' @export
predict.dreher_average <- function(object, newdata, ...) {
  newdata <- check_rows(newdata, "newdata")
  each <- lapply(object$models, function(m) {
    if (is_wrapped(m)) return(predict_wrapped(m, newdata))
    m <- as_readable(m, "mean")
    rows <- if (inherits(m, "dreher_plain_model") && !is.null(m$encode)) {
      m$encode(newdata)
    } else {
      newdata
    }
    model_predictions(m, align_rows(rows, model_inputs(m, rows), "mean"))
  })
  classes <- colnames(each[[1]])
  if (!is.null(classes)) each <- lapply(each, function(p) p[, classes, drop = FALSE])
  Reduce(`+`, Map(`*`, each, object$weights))
}
