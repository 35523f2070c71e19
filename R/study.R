#' Set up a study: models, rows, target, metric
#'
#' A study holds the models and the rows. All other functions take one. Every model is checked
#' once, here: its predictors must be in the data with the types and levels of training, it must
#' predict every row, and a tree model's flat forest must say what the model itself says.
#'
#' @param models A fitted model, or a named list of fitted models. See [readers] for the classes
#'   that are known, and [read_model()] for model files.
#' @param data The holdout rows, which the models have not been trained on, with the target: a data
#'   frame; or, where they are too many for memory, rows of [open_rows()], the path of a Parquet
#'   file or folder, or a function that gives the next rows (see there). All rows are then scored,
#'   ranked by permutation, and counted in [check_data()]; everything else is worked out on rows
#'   that are drawn, and `max_rows` draws from all of them.
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
#' @param positive With two classes: the one whose probability is ranked and explained, and that
#'   stands for 1 where a model was trained on 0 and 1. Default: the second; of a target of words
#'   it must be said where a model knows 0 and 1 only.
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
#' @param target_transform Where models were trained on a transformed target and their formula does
#'   not say so: `"log"`, `"log2"`, `"log10"`, `"log1p"`, `"sqrt"`, `"logit"`, or a list of two
#'   functions, `forward` (from the target to what was trained on) and `inverse`; or a list of these
#'   by model. Predictions are brought back, and refits are trained on the transformed target. What
#'   needs the trees or coefficients themselves is not available then; make the transformed target a
#'   column and the study's target for that.
#' @param threads Number of threads for the loops over rows. Default: option `dreher.threads`,
#'   environment variable `DREHER_THREADS`, then the cores that this process may use, eight at
#'   most, and one where the work goes to workers. Results do not depend on it.
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
#'   `dreher_error_model` for a model that cannot be read, does not predict all rows, or predicts a
#'   transformed target (it explains a fifth or more of its logarithm, square root, logit or scaled
#'   values, and misses the target itself by more than a constant). The message names the argument,
#'   column, model and row.
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
    predict_with = NULL, refit_with = NULL, target_transform = NULL, threads = NULL) {
  check_no_dots(..., .verb = "study")
  threads <- check_threads(threads)
  models <- name_models(models)
  target <- check_string(target, "target")
  given <- rows_of_study(data, list(target, weights, blocks))
  data <- given$data
  if (!is.null(train)) train <- check_rows(train, "train")
  if (!is.null(train)) {
    data <- as_in_training(data, train, "data")
    if (is.null(given$store)) given$roles <- data else check_store_times(given$store, train)
  }
  check_row_roles(given$roles, target, weights, blocks, "data")
  if (!is.null(train)) check_row_roles(train, target, weights, blocks, "train")
  if (!is.null(predictors)) {
    check_names(predictors, "predictors")
    check_columns(data, predictors, "data", "The predictor")
    if (any(predictors %in% c(target, weights, blocks))) {
      stop_input("`predictors` names the target, or the column of weights or blocks.")
    }
  }
  predict_with <- match_functions(predict_with, names(models), "predict_with")
  refit_with <- match_functions(refit_with, names(models), "refit_with")
  encode <- match_functions(encode, names(models), "encode")
  ways <- read_ways(target_transform, names(models))
  known <- if (is.null(train)) data else train
  models <- lapply(stats::setNames(nm = names(models)), function(m) {
    ready_model(
      models[[m]], m, predict_with[[m]], encode[[m]], known, c(target, weights, blocks),
      predictors
    )
  })
  models <- transformed_models(models, ways, predict_with)
  tasks <- lapply(names(models), function(m) {
    own <- is.null(predict_with[[m]])
    if (own) model_task(models[[m]]) else list(task = NULL, classes = NULL)
  })
  kind <- find_task(
    given$roles[[target]], if (!is.null(train)) train[[target]], tasks, names(models),
    target, positive
  )
  data[[target]] <- kind$convert(data[[target]], target, "data")
  given$roles[[target]] <- kind$convert(given$roles[[target]], target, "data")
  if (!is.null(train)) train[[target]] <- kind$convert(train[[target]], target, "train")
  check_enough(given$roles, train, target, kind)
  check_ways(ways, given$roles, train, target, kind)
  st <- new_study(list(
    models = list(), data = data, store = given$store,
    roles = if (!is.null(given$store)) given$roles, train = train, target = target,
    task = kind$task,
    classes = kind$classes, positive = kind$positive, positive_said = kind$positive_said,
    metric = new_metric(
      metric, better, kind$task, kind$classes, kind$positive, weighted = !is.null(weights)
    ),
    weights = weights, blocks = blocks, dictionary = NULL, refit_with = refit_with,
    asked = predictors, threads = threads
  ))
  opened <- lapply(stats::setNames(nm = names(models)), function(m) {
    open_model(st, m, models[[m]], predict_with[[m]])
  })
  warn_roles(opened, c(weights = weights, blocks = blocks))
  used <- unique(unlist(lapply(opened, function(m) m$inputs$predictors)))
  used <- c(intersect(names(data), used), setdiff(used, names(data)))
  validate_study(derive_study(
    st,
    models = opened,
    predictors = used,
    dictionary = fill_dictionary(dictionary, used, names(data)),
    seen = if (is.null(train)) FALSE else find_seen_rows(data, train, !is.null(given$store)),
    fingerprint = fingerprint(c(
      if (is.null(given$store)) table_print(data) else given$store$print,
      table_print(train), target
    ))
  ))
}

# Models on a transformed target, as the argument or their formula says it.
transformed_models <- function(models, ways, predict_with) {
  both <- intersect(names(ways), names(predict_with))
  if (length(both)) {
    stop_input(
      paste0(
        "Model ", quote_some(both), " has both `target_transform` and `predict_with`."
      ),
      todo = paste0(
        "Let `predict_with` return predictions of the target itself, and give ",
        "`target_transform` as a list by model."
      )
    )
  }
  for (m in names(ways)) {
    if (inherits(models[[m]], "lm") &&
        !is.null(back_transform(stats::terms(models[[m]]))$says)) {
      stop_input(
        paste0(
          "The formula of model \"", m, "\" says already how the target was transformed."
        ),
        todo = "Leave `target_transform` out: its predictions are brought back as they are."
      )
    }
  }
  for (m in setdiff(names(models), names(predict_with))) {
    way <- ways[[m]]
    if (is.null(way)) way <- way_of_formula(models[[m]])
    if (!is.null(way)) models[[m]] <- new_transformed(models[[m]], way)
  }
  models
}

check_ways <- function(ways, data, train, target, kind) {
  if (!length(ways)) return(invisible())
  if (kind$task != "regression") {
    stop_input("`target_transform` is for numbers; the target holds classes.")
  }
  for (m in names(ways)) {
    check_way(ways[[m]], c(data[[target]], train[[target]]), target, m)
  }
}

# Enough rows, and a target that varies in them.
check_enough <- function(data, train, target, kind) {
  n <- nrow(data)
  if (n < 3) {
    stop_input(
      paste0(
        "`data` has ", n, if (n == 1) " row" else " rows", "; at least 3 are needed."
      ),
      todo = "Give more rows: the intervals come from how rows differ."
    )
  }
  if (n < 10) {
    warn_dreher(
      "rows", paste0("`data` has ", n, " rows."), "Intervals from so few are rough."
    )
  }
  if (kind$task == "regression" && length(unique(data[[target]])) < 2) {
    stop_input(
      paste0("The target \"", target, "\" has a single value in `data`."),
      todo = "Give rows in which it varies: there is nothing to predict."
    )
  }
  unseen <- if (kind$task == "classification" && !is.null(train)) {
    setdiff(as.character(unique(data[[target]])), as.character(train[[target]]))
  }
  if (length(unseen)) {
    warn_dreher(
      "classes",
      paste0(
        if (length(unseen) > 1) "Classes " else "Class ", quote_some(unseen),
        " of `data` ", if (length(unseen) > 1) "are" else "is", " not in `train`."
      ),
      "Models trained on `train` again cannot predict it."
    )
  }
}

# A column may be a predictor and say what rows count; it is said.
warn_roles <- function(models, roles) {
  for (role in names(roles)) {
    users <- names(Filter(function(m) roles[[role]] %in% m$inputs$predictors, models))
    if (length(users)) {
      warn_dreher(
        "roles",
        paste0(
          "Column \"", roles[[role]], "\" is the column of ", role,
          ", and a predictor of model ", quote_some(users), "."
        ),
        "Was it meant to be both?"
      )
    }
  }
}

# The target, weights and blocks of one table of rows.
check_row_roles <- function(data, target, weights, blocks, arg) {
  check_columns(data, target, arg, "The target")
  check_target(data[[target]], target, arg)
  roles <- list(
    weights = if (!is.null(weights)) check_string(weights, "weights"),
    blocks = if (!is.null(blocks)) check_string(blocks, "blocks")
  )
  if (target %in% unlist(roles)) {
    stop_input(paste0(
      "The target \"", target, "\" cannot be the column of weights or blocks."
    ))
  }
  check_row_info(roles, data, arg)
}

# A model as the readers take it. known: rows with their target; roles: columns that are no
# predictors; asked: the predictors the user names.
ready_model <- function(object, name, predict_with, encode, known, roles, asked) {
  if (!is.null(predict_with)) {
    if (!is.null(encode)) {
      stop_input(
        paste0("Model \"", name, "\" has both `encode` and `predict_with`."),
        todo = "Let `predict_with` encode its rows."
      )
    }
    return(object)
  }
  if (is_wrapped(object)) check_wrapped_target(object, name, known, roles[1])
  readable_model(object, name, encode, known[setdiff(names(known), roles)], asked)
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
