# parsnip fits and workflows are opened: rankings are of the engine inside, seen through the columns that
# went into the wrapper. Checked with parsnip 1.6, workflows 1.3, hardhat 1.4 and recipes 1.3.

is_wrapped <- function(model) inherits(model, c("model_fit", "workflow"))

# rows: the user's columns without the target.
open_wrapped <- function(model, rows, name, asked = NULL) {
  fit <- wrapped_fit(model)
  spec <- fit$spec
  engine <- choose_penalty(fit$fit, spec)
  if (inherits(engine, "xgb.Booster")) engine <- name_booster(engine, model, rows)
  fill <- rows[1, , drop = FALSE]
  again <- function(data, target, predictors, seed, threads) {
    # A recipe wants all of its columns; those left out hold one value, which tells the model nothing.
    data <- fill_columns(data, fill)
    refit <- with_stream(seed, "parsnip", with_parsnip(refit_wrapped(model, data, target, predictors)))
    open_wrapped(refit, data[setdiff(names(data), target)], name, predictors)
  }
  new_encoded(engine, function(data) encode_wrapped(model, data), rows, name, asked, own = function(data) predict_wrapped(model, data),
              task = wrapped_task(fit, engine, model, rows), again = again)
}

wrapped_fit <- function(model) {
  rlang::check_installed("parsnip", "to read a parsnip model")
  if (inherits(model, "model_fit")) return(model)
  rlang::check_installed(c("workflows", "hardhat"), "to read a workflow")
  if (!workflows::is_trained_workflow(model)) stop_model("The workflow has not been trained.", todo = "Give the result of fit().")
  workflows::extract_fit_parsnip(model)
}

# Engines that hold a path of penalties predict at the one of the specification.
choose_penalty <- function(engine, spec) {
  if (!inherits(engine, "glmnet")) return(engine)
  penalty <- tryCatch(rlang::eval_tidy(spec$args$penalty), error = function(e) NULL)
  if (is.null(penalty)) stop_model("The penalty of the parsnip model is not known.", todo = "Fit it with a penalty.")
  engine$chosen_penalty <- penalty
  engine
}

# The booster itself forgets its columns' names in some versions; the rows that trained it have them.
name_booster <- function(engine, model, rows) {
  if (!length(engine$feature_names)) engine$feature_names <- names(encode_wrapped(model, rows[seq_len(min(2, nrow(rows))), , drop = FALSE]))
  engine
}

# The classes by the wrapper's names, in the order of the engine's outputs. Boosters number them, and which of two
# counts as the event has changed between versions: a few predictions tell.
wrapped_task <- function(fit, engine, model, rows) {
  if (fit$spec$mode == "regression") return(list(task = "regression", classes = NULL))
  if (fit$spec$mode != "classification") stop_model(paste0("parsnip models of mode \"", fit$spec$mode, "\" are not supported."), todo = "Give `study(predict_with = )`.")
  own <- read_task(engine)$classes
  if (!is.null(own) && all(own %in% fit$lvl)) return(list(task = "classification", classes = own))
  if (length(fit$lvl) != 2) return(list(task = "classification", classes = fit$lvl))
  few <- rows[seq_len(min(50, nrow(rows))), , drop = FALSE]
  second <- read_predictions(engine, encode_wrapped(model, few))[, 2]
  apart <- colSums(abs(predict_wrapped(model, few)[, fit$lvl, drop = FALSE] - second))
  list(task = "classification", classes = fit$lvl[order(-apart)])
}

# parsnip's own contrasts are found only while it is attached.
with_parsnip <- function(code) {
  if (!"package:parsnip" %in% search()) {
    suppressPackageStartupMessages(attachNamespace("parsnip"))
    on.exit(detach("package:parsnip", character.only = TRUE))
  }
  code
}

# What the engine is given: first the workflow's recipe or formula, then parsnip's own columns.
encode_wrapped <- function(model, data) {
  fit <- wrapped_fit(model)
  if (inherits(model, "workflow")) {
    data <- hardhat::forge(data, blueprint = workflows::extract_mold(model)$blueprint)$predictors
    data <- as.data.frame(data)
  }
  known <- names(fit$preproc)
  if (any(c("terms", "x_var") %in% known)) {
    data <- if (fit$spec$method$fit$interface == "formula") parsnip::.convert_xy_to_form_new(fit$preproc, data)
            else with_parsnip(parsnip::.convert_form_to_xy_new(fit$preproc, data)$x)
  }
  if (!is.data.frame(data)) data <- as.data.frame(as.matrix(data), optional = TRUE)
  data[setdiff(names(data), "(Intercept)")]
}

predict_wrapped <- function(model, data) {
  fit <- wrapped_fit(model)
  if (fit$spec$mode == "regression") return(as.double(with_parsnip(stats::predict(model, data)$.pred)))
  out <- as.matrix(with_parsnip(stats::predict(model, data, type = "prob")))
  colnames(out) <- sub("^\\.pred_", "", colnames(out))
  out
}

# A recipe keeps its steps; predictors that are left out lose their role, so that steps on all predictors pass
# them by.
refit_wrapped <- function(model, data, target, predictors) {
  if (inherits(model, "model_fit")) return(parsnip::fit(model$spec, plain_formula(target, predictors), data = data))
  spec <- workflows::extract_spec_parsnip(model)
  before <- workflows::extract_preprocessor(model)
  if (inherits(before, "recipe")) {
    gone <- setdiff(before$var_info$variable[before$var_info$role %in% "predictor"], predictors)
    if (length(gone)) before <- recipes::update_role(before, !!!rlang::syms(gone), new_role = "left out")
    return(parsnip::fit(workflows::workflow(before, spec), data = data))
  }
  if (!rlang::is_formula(before)) stop_model("Workflows of selected variables cannot be trained on fewer of them.", todo = "Give `study(refit_with = )` a function that fits the model.")
  parsnip::fit(workflows::workflow(kept_terms(stats::terms(before, data = data[c(target, predictors)]), target, predictors), spec), data = data)
}
