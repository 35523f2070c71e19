#' Train the model on a chosen set
#'
#' @param set A result of [choose_set()], or of [read_predictor_set()].
#' @param rows Rows to train on: a data frame with the target and the predictors. Default: the
#'   study's training rows.
#' @param ... Must be empty.
#' @param study For a set read from a file: the [study()] whose model is trained.
#' @param seed A whole number. Default: the reduction's.
#' @return A model of the same class as the study's, trained on the chosen predictors: a workflow
#'   or parsnip fit for one, otherwise what the model's own library returns. For `study(encode =
#'   )` an object with model and encoder, whose `predict()` takes the user's columns and which
#'   [study()] reads; its field `engine` is the library's model.
#' @section Errors: An empty set; columns that are missing; a model that cannot be trained again.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' ps <- choose_set(reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2))
#' coef(refit_on(ps))
#' @export
refit_on <- function(set, rows = NULL, ..., study = NULL, seed = NULL) {
  set <- set_of_study(set, study)
  check_no_dots(..., .verb = "refit_on")
  seed <- if (is.null(seed)) set$seed else check_seed(seed)
  st <- set$study
  model <- st$models[[set$refit]]
  if (!length(set$predictors)) {
    stop_study(
      "The set is empty: there is nothing to train on.",
      todo = "The constant prediction is all that the data support."
    )
  }
  train <- if (is.null(rows)) {
    training_frame(st, model)
  } else {
    frame_of(st, model, pick_rows(st, check_rows(rows, "rows"))$data, "rows")
  }
  fit <- fit_on(st, model, train, set$predictors, seed, "refit on the set")
  # What came in a wrapper goes out in it; a model on encoded columns keeps its encoder, and
  # predicts from the user's columns.
  if (inherits(fit, "dreher_encoded") && is.null(fit$wrapper)) fit else users_object(fit)
}

# What a set read from a file lacks, from the study it is used with.
set_of_study <- function(set, study) {
  if (!is.null(study)) check_class(study, "dreher_study", "study", "study()")
  if (!inherits(set, "dreher_set_file")) {
    return(check_class(set, "dreher_set", "set", "choose_set()"))
  }
  if (is.null(study)) {
    stop_input(
      "A set read from a file needs `study`, the study whose model is to be trained."
    )
  }
  need_train(study, "Using a set read from a file")
  model <- study$models[[check_choice(set$refit, names(study$models), "the set's model")]]
  if (!identical(set$target, study$target)) {
    stop_study(paste0(
      "The set is for the target \"", set$target, "\", the study has \"", study$target,
      "\"."
    ))
  }
  strange <- setdiff(c(set$predictors, set$left_out), model$inputs$predictors)
  if (length(strange)) {
    stop_study(
      paste0(
        "The set names predictors that model \"", model$name, "\" does not have: ",
        quote_some(strange), "."
      ),
      todo = "Give the study the set was chosen in."
    )
  }
  if (!identical(set$metric, study$metric$name)) {
    stop_study(
      paste0(
        "The set was chosen by ", set$metric, ", the study has ", study$metric$name, "."
      ),
      todo = paste0("Give study(metric = \"", set$metric, "\").")
    )
  }
  same <- same_print(paste(set$fingerprint), training_print(study))
  if (is.na(same)) {
    warn_dreher(
      "rows",
      paste0(
        "The set's file is of another version of dreher: whether the set was chosen on ",
        "these ", "training rows cannot be told."
      ),
      "If it was not, its cross-validated scores speak of others."
    )
  } else if (!same) {
    warn_dreher(
      "rows",
      "The set was chosen on other training rows than the study has.",
      "Its cross-validated scores speak of those."
    )
  }
  set$study <- study
  set$skill_full <- (set$constant - set$all) * if (study$metric$better == "lower") {
    1
  } else {
    -1
  }
  set
}

training_print <- function(st) table_print(st$train[c(st$target, st$predictors)])
