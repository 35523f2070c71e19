#' Set up a study: models, rows, target, metric
#'
#' A study holds what is being questioned. All other functions take one. Every model is checked
#' once, here: its predictors must be in the data with the types and levels of training, it must
#' predict every row, and a tree model's flat forest must say what the model itself says.
#'
#' @param models A fitted model, or a named list of fitted models. See [readers] for the classes
#'   that are known, and [read_model()] for model files.
#' @param data The holdout rows: a data frame the models have not been trained on, with the target.
#' @param target Name of the target column. Numbers make it a regression; a factor, text,
#'   TRUE/FALSE, or a model of classes make it a classification.
#' @param train The training rows. Needed for impurity importance, Shapley background rows, the
#'   constant baseline and [reduce_predictors()]; without them some steps say that they are
#'   missing.
#' @param ... Must be empty.
#' @param weights Name of a column of `data` (and `train`) that says what each row counts in
#'   scores and rankings: numbers from 0 up. Models are not trained again with them.
#' @param blocks Name of a column of `data` (and `train`) that says which rows belong together
#'   (the same kiln run, borrower, day). Errors then come from whole blocks; shuffled values come
#'   from another block; folds and bootstrap draws keep blocks whole.
#' @param metric Name of the metric: for numbers `"rmse"` (default), `"mse"`, `"mae"`,
#'   `"median_ae"`, `"r2"`, `"poisson_deviance"`, `"gamma_deviance"`; for classes `"brier"`
#'   (default), `"log_loss"`, `"accuracy"`, `"balanced_accuracy"`, `"f1"`, `"mcc"` (Matthews
#'   correlation), with two classes `"auc"`, with more `"pairwise_auc"`; or a function of `truth`
#'   and `predicted` that returns one number (and of `weights` if the study has any), or a metric
#'   function of the package yardstick. `predicted` is a numeric vector (regression), the
#'   probability of the positive class, or with more than two classes the matrix of probabilities;
#'   `truth` then is a factor.
#' @param better For a function: is `"lower"` or `"higher"` better? yardstick's functions say so
#'   themselves.
#' @param positive With two classes: the one whose probability is ranked and explained. Default:
#'   the second.
#' @param dictionary A data frame from [read_dictionary()] with what is known of the predictors.
#' @param predictors Names of the columns a model takes in, when it does not say so itself.
#'   Default: every column but the target.
#' @param encode For models trained on encoded columns (one-hot, numbered levels, hashed, scaled
#'   and the like): the function that makes them, called with a data frame of the predictors'
#'   columns, returning a matrix or data frame with the columns named as in training; or a named
#'   list of such functions. Every row must be encoded by itself, with the levels and means of
#'   training. Rankings then speak of the columns in `data`: dreher changes each of them and looks
#'   which encoded columns move. Splits on a column that stems from two predictors are ranked as
#'   `a & b`. What an attribute `stems_from` of the returned table says (a list of predictors,
#'   named by encoded columns) is taken for columns that nothing moves, and must not contradict
#'   what moves. parsnip fits and workflows bring their own encoding.
#' @param predict_with A function of `model` and `data` that returns the predictions (a numeric
#'   vector; for classes a matrix with one named column per class, or with two classes the
#'   probability of the positive one). Or a named list of such functions, one for each model that
#'   needs one. It takes precedence over a known reader.
#' @param refit_with A function of `model`, `data` and `predictors` that trains the model again on
#'   these rows and predictors and returns it; or a named list. `data` holds the target and these
#'   predictors only.
#' @param threads Number of threads for the loops over rows. Default: option `dreher.threads`,
#'   environment variable `DREHER_THREADS`, then 2. Results do not depend on it.
#' @return A list of class `dreher_study`. Where most rows of `data` are rows of `train`, more
#'   than chance explains, they are called training rows: a warning says so, rankings name them
#'   `train`, and neither these nor scores have intervals.
#' @details Brier score: with two classes the mean of (p - y)^2; with more the sum over classes of
#'   (p_k - y_k)^2 (Brier 1950). Poisson deviance: mean of 2 (y log(y/f) - (y - f)); Gamma
#'   deviance: mean of 2 ((y - f)/f - log(y/f)); predictions below 1e-10 count as 1e-10. Balanced
#'   accuracy: mean over classes of the share found. F1: of the positive class, with more than two
#'   the mean over classes. Matthews correlation: Gorodkin (2004) for several classes, 0 where all
#'   rows are said to be of one class. AUC over pairs of classes: Hand and Till (2001).
#' @section Errors: `dreher_error_input` for arguments and columns (missing, duplicated, of
#'   another type, with unseen levels, target missing in some rows, a metric that does not fit);
#'   `dreher_error_model` for a model that cannot be read or does not predict all rows. The
#'   message names the argument, column, model and row.
#' @references Gorodkin, J. (2004). \doi{10.1016/j.compbiolchem.2004.09.006}. Hand, D. and Till,
#'   R. (2001). \doi{10.1023/A:1010920819831}.
#'   Brier, G. W. (1950). Verification of forecasts expressed in terms of probability.
#'   \doi{10.1175/1520-0493(1950)078<0001:VOFEIT>2.0.CO;2}
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate, kiln$train)
#' study(fit, kiln$holdout, "strength", train = kiln$train)
#' @export
study <- function(
    models, data, target, train = NULL, ..., weights = NULL, blocks = NULL, metric = NULL,
    better = NULL, positive = NULL, dictionary = NULL, predictors = NULL, encode = NULL,
    predict_with = NULL, refit_with = NULL, threads = NULL) {
  check_no_dots(..., .verb = "study")
  threads <- check_threads(threads)
  models <- name_models(models)
  data <- check_rows(data, "data")
  if (!is.null(train)) train <- check_rows(train, "train")
  target <- check_string(target, "target")
  check_columns(data, target, "data", "The target")
  if (!is.null(train)) check_columns(train, target, "train", "The target")
  check_target(data[[target]], target, "data")
  if (!is.null(train)) check_target(train[[target]], target, "train")

  cases <- list(
    weights = if (!is.null(weights)) check_string(weights, "weights"),
    blocks = if (!is.null(blocks)) check_string(blocks, "blocks")
  )
  if (target %in% unlist(cases)) {
    stop_input(paste0(
      "The target \"", target, "\" cannot be the column of weights or blocks."
    ))
  }
  check_cases(cases, data, "data")
  if (!is.null(train)) check_cases(cases, train, "train")

  predict_with <- match_functions(predict_with, names(models), "predict_with")
  refit_with <- match_functions(refit_with, names(models), "refit_with")
  encode <- match_functions(encode, names(models), "encode")
  seen <- if (is.null(train)) data else train
  seen <- seen[setdiff(names(seen), c(target, weights, blocks))]
  models <- lapply(stats::setNames(nm = names(models)), function(m) {
    if (!is.null(predict_with[[m]])) {
      if (!is.null(encode[[m]])) {
        stop_input(
          paste0("Model \"", m, "\" has both `encode` and `predict_with`."),
          todo = "Let `predict_with` encode its rows."
        )
      }
      return(models[[m]])
    }
    if (is_wrapped(models[[m]])) {
      check_wrapped_target(models[[m]], m, if (is.null(train)) data else train, target)
    }
    readable_model(models[[m]], m, encode[[m]], seen, predictors)
  })
  tasks <- lapply(names(models), function(m) {
    if (is.null(predict_with[[m]])) {
      read_task(models[[m]])
    } else {
      list(task = NULL, classes = NULL)
    }
  })
  kind <- find_task(
    data[[target]],
    if (!is.null(train)) train[[target]],
    tasks,
    names(models),
    target,
    positive
  )
  data[[target]] <- kind$convert(data[[target]], target, "data")
  if (!is.null(train)) train[[target]] <- kind$convert(train[[target]], target, "train")

  st <- structure(
    list(
      models = list(),
      data = data,
      train = train,
      target = target,
      task = kind$task,
      classes = kind$classes,
      positive = kind$positive,
      metric = new_metric(
        metric,
        better,
        kind$task,
        kind$classes,
        kind$positive,
        weighted = !is.null(weights)
      ),
      weights = weights,
      blocks = blocks,
      dictionary = NULL,
      refit_with = refit_with,
      asked = predictors,
      threads = threads
    ),
    class = "dreher_study"
  )
  st$models <- lapply(stats::setNames(names(models), names(models)), function(m) {
    open_model(st, m, models[[m]], predict_with[[m]])
  })
  st$predictors <- unique(unlist(lapply(st$models, function(m) m$inputs$predictors)))
  st$predictors <- c(
    intersect(names(data), st$predictors), setdiff(st$predictors, names(data))
  )
  st$dictionary <- fill_dictionary(dictionary, st$predictors)
  st$seen <- FALSE
  if (!is.null(train)) st$seen <- find_seen_rows(data, train)
  st$fingerprint <- rlang::hash(c(table_print(data), table_print(train), target))
  st
}

# Are the rows to be questioned those the models were trained on? TRUE where most are; where only
# some are, that is said.
find_seen_rows <- function(data, train) {
  known <- find_known_rows(data, train)
  if (!known$beyond) return(FALSE)
  most <- known$count > nrow(data) / 2
  warn_dreher(
    "rows",
    paste0(
      if (known$count == nrow(data)) "All" else known$count, " ",
      if (known$count < nrow(data)) "of the ", nrow(data),
      " rows of `data` are training rows."
    ),
    if (most) {
      paste0(
        "They are called training rows; scores on them flatter, and have no interval. ",
        "Give rows the models have not been trained on."
      )
    } else {
      "Scores and rankings on them flatter. Take these rows out of `data`."
    }
  )
  most
}

# What the study's rows are, in words.
rows_word <- function(st) if (isTRUE(st$seen)) "training" else "holdout"

# Models behind an encoder or in a wrapper, seen through the user's columns; others as they are.
# rows: the user's columns without the target.
readable_model <- function(object, name, encode, rows, asked) {
  if (inherits(object, "dreher_encoded")) return(object)
  if (is_wrapped(object)) return(open_wrapped(object, rows, name, asked))
  object <- as_readable(object, name)
  if (is.null(encode)) object else new_encoded(object, encode, rows, name, asked)
}

name_models <- function(models) {
  if (is.null(models) || (is.list(models) && !length(models))) {
    stop_input(
      "`models` holds no model.",
      todo = "Give a fitted model or a named list of fitted models."
    )
  }
  several <- is.list(models) && !is.object(models)
  if (!several) models <- stats::setNames(list(models), model_name(models))
  if (is.null(names(models))) names(models) <- rep("", length(models))
  bare <- !nzchar(names(models))
  names(models)[bare] <- vapply(models[bare], model_name, "")
  twice <- unique(names(models)[duplicated(names(models))])
  if (length(twice)) {
    stop_input(
      paste0("Several models are called ", quote_some(twice), "."),
      todo = "Give `models` as a list with distinct names."
    )
  }
  models
}

check_target <- function(y, target, arg) {
  if (anyNA(y)) {
    stop_input(
      paste0(
        "The target \"", target, "\" is missing in ", sum(is.na(y)), " rows of `", arg,
        "`."
      ),
      paste0("The first is row ", which(is.na(y))[1], "."),
      "Drop the rows without a target."
    )
  }
  if (is.numeric(y) && any(!is.finite(y))) {
    stop_input(paste0(
      "The target \"", target, "\" is not finite in row ", which(!is.finite(y))[1],
      " of `", arg, "`."
    ))
  }
  if (!is.numeric(y) && !is.factor(y) && !is.character(y) && !is.logical(y)) {
    stop_input(
      paste0(
        "The target \"", target, "\" must hold numbers, text, a factor or TRUE/FALSE."
      ),
      paste0("Given: ", class(y)[1], ".")
    )
  }
}

match_functions <- function(given, models, arg) {
  if (is.null(given)) return(list())
  if (is.function(given)) {
    return(stats::setNames(rep(list(given), length(models)), models))
  }
  fits <- is.list(given) && length(given) && !is.null(names(given)) &&
    all(vapply(given, is.function, NA))
  if (!fits || length(setdiff(names(given), models))) {
    stop_input(
      paste0(
        "`", arg, "` must be a function, or a list of functions named like the models ",
        quote_some(models), "."
      ),
      paste0(
        "Given: ",
        if (is.list(given)) quote_some(names(given)) else describe_value(given), "."
      )
    )
  }
  given
}

# Regression or classification, the classes in their order, and how to bring a target to it.
find_task <- function(y, y_train, tasks, models, target, positive) {
  said <- unlist(lapply(tasks, `[[`, "task"))
  numeric <- is.numeric(y) && !is.factor(y)
  task <- if (!numeric) {
    "classification"
  } else if (length(said) && all(said == "classification")) {
    "classification"
  } else {
    "regression"
  }
  for (i in seq_along(tasks)) {
    if (!is.null(tasks[[i]]$task) && tasks[[i]]$task != task) {
      stop_study(
        paste0(
          "Model \"", models[i], "\" is a ", tasks[[i]]$task, ", but the target \"",
          target, "\" makes this a ", task, "."
        ),
        todo = paste0(
          "Give a model of the target as it stands in the data, or turn the target ",
          "into a factor."
        )
      )
    }
  }
  if (task == "regression") {
    return(list(task = task, classes = NULL, positive = NULL, convert = function(y, ...) {
      as.double(y)
    }))
  }

  levels_of <- function(y) {
    if (is.factor(y)) {
      levels(droplevels(y))
    } else if (is.logical(y)) {
      c("FALSE", "TRUE")
    } else {
      as.character(sort(unique(y)))
    }
  }
  met <- union(if (!is.null(y_train)) levels_of(y_train), levels_of(y))
  known <- Find(Negate(is.null), lapply(tasks, `[[`, "classes"))
  classes <- if (!is.null(known) && setequal(known, union(known, met))) known else met
  if (is.factor(y) && setequal(classes, intersect(levels(y), classes))) {
    classes <- intersect(levels(y), classes)
  }
  if (length(unique(as.character(y))) < 2) {
    stop_input(
      paste0(
        "The target \"", target, "\" has a single class in `data`: ",
        quote_some(unique(as.character(y))), "."
      ),
      todo = "Give holdout rows with at least two classes."
    )
  }
  if (is.null(positive)) positive <- classes[2]
  if (length(classes) == 2) {
    positive <- check_choice(as.character(positive), classes, "positive")
  }
  convert <- function(y, target, arg) {
    text <- as.character(y)
    strange <- setdiff(unique(text), classes)
    if (length(strange)) {
      stop_input(paste0(
        "The target \"", target, "\" of `", arg, "` has classes the models do not know: ",
        quote_some(strange), "."
      ))
    }
    factor(text, levels = classes)
  }
  list(
    task = task, classes = classes, positive = match(positive, classes), convert = convert
  )
}

# One model of a study, read and checked.
open_model <- function(st, name, object, predict_with, again = FALSE) {
  own_reader <- is.null(predict_with)
  if (own_reader && !again) check_response(readers_object(object), name, st$task)
  inputs <- if (own_reader) read_inputs(object, st$train)
  if (is.null(inputs)) inputs <- guess_inputs(st)
  if (own_reader) {
    inputs$ordered <- check_ordered(
      ordered_columns(object), read_inputs(object, NULL)$levels, st, name
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
    predict = if (own_reader) read_predictions else predict_with,
    own_reader = own_reader,
    forest = NULL,
    linear = if (own_reader) read_coefficients(object),
    classes = if (own_reader && st$task == "classification") {
      resolve_classes(read_task(object)$classes, st, name)
    }
  )
  if (own_reader) {
    check_levels_known(model, st)
    if (is.null(st$train)) {
      model$inputs <- levels_from_data(inputs, st$data)
    } else {
      check_columns(st$train, inputs$predictors, "train", "The predictor", name)
    }
    forest <- read_forest(object, model$inputs)
    if (!is.null(forest)) {
      check_forest(
        forest,
        object,
        align_rows(st$data, model$inputs, name),
        name,
        st$threads,
        model$inputs,
        again
      )
      model$forest <- forest
    }
  }
  if (!again) predict_model(st, model, st$data)  # every row must get a prediction
  if (!again && own_reader) check_level_order(st, model)
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
  object <- model$object
  error <- if (inherits(object, "ranger")) object$prediction.error
  if (is.null(st$train) || !isTRUE(is.finite(error)) ||
      !is.null(ranger_forest(object)$covariate.levels)) {
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
    object$treetype,
    Regression = mean((own[, 1] - truth)^2),
    Classification = mean(predicted_class(own) != truth),
    mean((1 - own[cbind(seq_along(truth), truth)])^2)
  )
  # Fewer or other rows than those of training may be harder ones.
  if (ours > error * if (nrow(st$train) == object$num.samples) 1 else 1.5) {
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

# The study's names for a model's classes. Libraries that number their classes from 0 mean the order
# of the target's levels; other names must be among the target's.
resolve_classes <- function(own, st, name) {
  if (is.null(own) || all(own %in% st$classes)) return(own)
  if (identical(own, as.character(seq_along(own) - 1)) &&
      length(own) == length(st$classes)) {
    return(st$classes)
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
        "Model \"", model$name, "\" takes the text column ", quote_some(text),
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

# Predictions of one model of a study: rows x outputs (1 for regression, else one per class).
predict_model <- function(st, model, data, arg = "data") {
  predict_aligned(st, model, model_rows(st, model, data, arg))
}

# The rows as the model wants them.
model_rows <- function(st, model, data, arg = "data") {
  if (model$own_reader) return(align_rows(data, model$inputs, model$name, arg))
  check_columns(data, model$inputs$predictors, arg, "The predictor", model$name)
  data[setdiff(names(data), c(st$target, st$weights, st$blocks))]
}

predict_aligned <- function(st, model, rows) {
  if (!is.null(model$forest)) {
    out <- apply_link(
      model$forest,
      forest_predict(model$forest, encode_for_forest(model$forest, rows), st$threads)
    )
    if (st$task == "classification") {
      out <- order_classes(out, model$classes, st, model$name)
    }
    return(out)
  }
  out <- tryCatch(model$predict(model$object, rows), error = function(e) {
    if (inherits(e, "dreher_error")) stop(e)
    stop_model(
      paste0(
        if (model$own_reader) "Model" else "`predict_with` of model", " \"", model$name,
        "\" failed on the rows: ", conditionMessage(e)
      ),
      todo = paste0(
        "Are the columns there in the types and levels of training, and without gaps ",
        "it does not take?"
      )
    )
  })
  if (is.matrix(out) && !is.null(model$classes)) colnames(out) <- model$classes
  check_predictions(out, rows, st, model$name)
}

order_classes <- function(out, classes, st, name) {
  colnames(out) <- classes
  lacking <- setdiff(st$classes, classes)
  if (length(lacking)) {
    out <- cbind(out, matrix(0, nrow(out), length(lacking), dimnames = list(NULL, lacking)))
  }
  out[, st$classes, drop = FALSE]
}

# Whatever a model or a user's function returns, as rows x outputs; or an error that says which
# model, which row.
check_predictions <- function(p, rows, st, name) {
  n <- nrow(rows)
  fault <- function(...) {
    stop_model(
      paste0("Model \"", name, "\" ", ...),
      todo = "`predict_with` must return one prediction per row of its `data`."
    )
  }
  if (is.data.frame(p)) p <- as.matrix(p)
  if (st$task == "classification" && (is.factor(p) || is.character(p))) {
    fault("returns classes, not probabilities.")
  }
  if (!is.numeric(p)) fault("returns ", describe_value(p), " instead of numbers.")
  got <- if (is.matrix(p)) nrow(p) else length(p)
  gaps <- sum(!stats::complete.cases(rows))
  if (got != n) {
    fault(
      "returns ",
      got,
      " predictions for ",
      n,
      " rows",
      if (gaps) paste0(", ", gaps, " of which have missing values"),
      "."
    )
  }
  if (st$task == "regression") {
    if (is.matrix(p) && ncol(p) != 1) {
      fault("returns ", ncol(p), " columns; a regression has one.")
    }
    p <- matrix(as.double(p), n, 1)
  } else {
    p <- class_matrix(p, st, name, fault)
  }
  gaps <- which(!is.finite(rowSums(p)))
  if (length(gaps)) {
    stop_model(
      paste0(
        "Model \"", name, "\" gives no prediction for ", length(gaps), " of ", n, " rows."
      ),
      paste0("The first is row ", gaps[1], "."),
      "Fill in or drop these rows; check for missing values the model does not take.",
      data = list(rows = gaps)
    )
  }
  p
}

class_matrix <- function(p, st, name, fault) {
  if (!is.matrix(p) || ncol(p) == 1) {
    if (length(st$classes) != 2) {
      fault(
        "returns one number per row; ",
        length(st$classes),
        " classes need one column each."
      )
    }
    p <- as.double(p)
    out <- matrix(0, length(p), 2, dimnames = list(NULL, st$classes))
    out[, st$positive] <- p
    out[, 3 - st$positive] <- 1 - p
  } else {
    if (is.null(colnames(p)) ||
        !setequal(colnames(p), intersect(colnames(p), st$classes))) {
      fault(
        "must name its columns of probabilities by the classes ",
        quote_some(st$classes),
        "."
      )
    }
    out <- order_classes(unname_rows(p), colnames(p), st, name)
  }
  bad <- which(rowSums(out < -1e-8 | out > 1 + 1e-8) > 0)
  if (length(bad)) {
    fault("returns probabilities outside 0 to 1; the first is in row ", bad[1], ".")
  }
  out
}

# The target as the metrics want it: numbers, or class numbers.
truth_of <- function(st, data) {
  y <- data[[st$target]]
  if (st$task == "regression") y else as.integer(y)
}

need_train <- function(st, step) {
  if (is.null(st$train)) {
    stop_study(
      paste0(step, " needs the training rows."),
      todo = "Give `study(train = )` the rows the models were trained on."
    )
  }
  st$train
}

pick_models <- function(st, models) {
  if (is.null(models)) return(st$models)
  st$models[check_choice(models, names(st$models), "models", several = TRUE)]
}

# Several at once: words, or a named list of data frames.
pick_several_rows <- function(st, rows) {
  if (is.list(rows) && !is.data.frame(rows)) {
    if (!length(rows) || is.null(names(rows)) || !all(nzchar(names(rows))) ||
        anyDuplicated(names(rows)) ||
        any(names(rows) %in% c("holdout", "train", "oob"))) {
      stop_input(
        "`rows`, as a list, must hold data frames, each under a name of its own.",
        paste0(
          "Given: ", if (is.null(names(rows))) "no names" else quote_some(names(rows)),
          "."
        )
      )
    }
    return(lapply(stats::setNames(nm = names(rows)), function(r) {
      on <- pick_rows(st, rows[[r]])
      on$label <- r
      on
    }))
  }
  if (is.data.frame(rows)) return(list(pick_rows(st, rows)))
  lapply(
    check_choice(rows, c("holdout", "train", "oob"), "rows", several = TRUE),
    function(r) {
      if (r != "oob") return(pick_rows(st, r))
      list(data = need_train(st, "`rows = \"oob\"`"), label = "oob")
    }
  )
}

# At most so many rows, drawn by seed; `chosen` says which, `of` out of how many.
draw_rows <- function(on, most, seed) {
  n <- nrow(on$data)
  on$chosen <- seq_len(n)
  if (is.null(most) || n <= most) return(on)
  on$chosen <- sort(with_stream(seed, c("rows", n), sample.int(n, most)))
  on$data <- on$data[on$chosen, , drop = FALSE]
  on$of <- n
  on
}

# The rows named by `rows`: "holdout", "train", or a data frame of the user's.
pick_rows <- function(st, rows) {
  if (is.data.frame(rows)) {
    rows <- check_rows(rows, "rows")
    check_columns(rows, st$target, "rows", "The target")
    check_target(rows[[st$target]], st$target, "rows")
    if (st$task == "classification") {
      rows[[st$target]] <- factor(as.character(rows[[st$target]]), levels = st$classes)
    }
    check_target(rows[[st$target]], st$target, "rows")
    check_cases(st, rows, "rows")
    return(list(data = rows, label = "given"))
  }
  rows <- check_choice(rows, c("holdout", "train"), "rows")
  # Rows that the models were trained on are no holdout rows, whatever they are asked for as.
  if (rows == "holdout" && isTRUE(st$seen)) {
    return(list(data = st$data, label = "train", seen = TRUE))
  }
  list(
    data = if (rows == "train") need_train(st, "`rows = \"train\"`") else st$data,
    label = rows
  )
}
