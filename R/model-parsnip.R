# parsnip fits and workflows are opened: rankings are of the engine inside, seen through the
# columns that went into the wrapper. Checked with parsnip 1.6, workflows 1.3, hardhat 1.4 and
# recipes 1.3.

is_wrapped <- function(model) inherits(model, c("model_fit", "workflow"))

# rows: the user's columns without the target.
open_wrapped <- function(model, rows, name, asked = NULL) {
  fit <- wrapped_fit(model)
  spec <- fit$spec
  engine <- choose_penalty(fit$fit, spec)
  if (inherits(engine, "xgb.Booster")) engine <- name_booster(engine, model, rows)
  engine <- open_engine(engine, name)
  fill <- rows[1, , drop = FALSE]
  again <- function(data, target, predictors, seed, threads) {
    # A recipe wants all of its columns; those left out hold one value, which tells the model
    # nothing.
    data <- fill_columns(data, fill)
    refit <- with_stream(
      seed, "parsnip", with_parsnip(refit_wrapped(model, data, target, predictors))
    )
    open_wrapped(refit, data[setdiff(names(data), target)], name, predictors)
  }
  new_encoded(
    engine,
    function(data) encode_wrapped(model, data),
    rows,
    name,
    asked,
    own = function(data) predict_wrapped(model, data),
    task = wrapped_task(fit, engine, model, rows),
    again = again,
    wrapper = model,
    widened = refit_widened
  )
}

# An engine that no reader is made for is known by the wrapper's predictions alone, whatever classes
# it inherits from.
open_engine <- function(engine, name) {
  tryCatch(
    as_readable(engine, name),
    dreher_error = function(e) structure(list(model = engine), class = "dreher_unread")
  )
}

# Recipes and formulas can transform the target; what the engine then predicts is not the study's
# target.
check_wrapped_target <- function(model, name, data, target) {
  if (!inherits(model, "workflow")) {
    terms <- model$preproc$terms
    if (is.null(terms) && is.list(model$fit) && inherits(model$fit$terms, "terms")) {
      terms <- model$fit$terms
    }
    left <- if (!is.null(terms)) left_side(terms)
    same <- is.null(left) || is.name(left) || names_a_class(left)
    says <- if (!same) deparse1(left)
  } else {
    wrapped_fit(model)  # refuses what has not been trained
    blueprint <- workflows::extract_mold(model)$blueprint
    found <- tryCatch(
      hardhat::forge(data, blueprint = blueprint, outcomes = TRUE)$outcomes,
      error = function(e) NULL
    )
    same <- is.null(found) || ncol(found) != 1 || !is.numeric(found[[1]]) ||
      !is.numeric(data[[target]]) ||
      isTRUE(all.equal(as.double(found[[1]]), as.double(data[[target]])))
    says <- if (!same) paste0("a transformed \"", target, "\"")
  }
  if (same) return(invisible())
  stop_model(
    paste0("Model \"", name, "\" predicts ", says, ", not the target itself."),
    todo = paste0(
      "Make the transformed target a column of its own and the study's target, or ",
      "give `study(predict_with = , refit_with = )` functions that predict and fit ",
      "the target itself."
    )
  )
}

# Trained on rows encoded twice (see double_encoder()): what a workflow does inside, with the
# settings of its specification.
refit_widened <- function(model, data, target, seed) {
  fit <- wrapped_fit(model$wrapper)
  spec <- fit$spec
  terms <- if (inherits(model$wrapper, "model_fit") && is.list(fit$fit)) fit$fit$terms
  if (inherits(terms, "terms") &&
      !all(vapply(attr(terms, "term.labels"), function(l) is.name(str2lang(l)), NA))) {
    stop_model(
      paste0(
        "The formula of the parsnip fit transforms its columns, so that copies of ",
        "them cannot be added."
      ),
      todo = paste0(
        "Give `study(refit_with = )` a function(model, data, predictors) that fits ",
        "the model, or fit it in a workflow."
      )
    )
  }
  mtry <- tryCatch(rlang::eval_tidy(spec$args$mtry), error = function(e) NULL)
  if (is.numeric(mtry)) spec <- parsnip::set_args(spec, mtry = 2L * as.integer(mtry))
  encoded <- model$encode(data)
  y <- data[[target]]
  refit <- with_stream(
    seed, "parsnip", with_parsnip(parsnip::fit_xy(spec, x = encoded, y = y))
  )
  out <- model
  out$engine <- open_engine(choose_penalty(refit$fit, spec), model$name)
  if (inherits(out$engine, "xgb.Booster") && !length(booster_columns(out$engine))) {
    out$engine <- with_columns(out$engine, names(encoded))
  }
  out$own <- function(data) predict_wrapped(refit, model$encode(data))
  out$task <- if (fit$spec$mode == "regression") {
    model$task
  } else {
    list(task = "classification", classes = class_order(refit, out$engine, encoded))
  }
  out
}

wrapped_fit <- function(model) {
  rlang::check_installed("parsnip", "to read a parsnip model")
  if (inherits(model, "model_fit")) return(model)
  rlang::check_installed(c("workflows", "hardhat"), "to read a workflow")
  if (!workflows::is_trained_workflow(model)) {
    stop_model("The workflow has not been trained.", todo = "Give the result of fit().")
  }
  workflows::extract_fit_parsnip(model)
}

# Engines that hold a path of penalties predict at the one of the specification.
choose_penalty <- function(engine, spec) {
  if (!inherits(engine, "glmnet")) return(engine)
  penalty <- tryCatch(rlang::eval_tidy(spec$args$penalty), error = function(e) NULL)
  if (is.null(penalty)) {
    stop_model(
      "The penalty of the parsnip model is not known.", todo = "Fit it with a penalty."
    )
  }
  engine$chosen_penalty <- penalty
  engine
}

# The booster itself forgets its columns' names in some versions; the rows that trained it have
# them.
name_booster <- function(engine, model, rows) {
  if (length(booster_columns(engine))) return(engine)
  with_columns(
    engine,
    names(encode_wrapped(model, rows[seq_len(min(2, nrow(rows))), , drop = FALSE]))
  )
}

# The classes by the wrapper's names, in the order of the engine's outputs. Boosters number them,
# and which of two counts as the event has changed between versions: a few predictions tell.
wrapped_task <- function(fit, engine, model, rows) {
  if (fit$spec$mode == "regression") return(list(task = "regression", classes = NULL))
  if (fit$spec$mode != "classification") {
    stop_model(
      paste0("parsnip models of mode \"", fit$spec$mode, "\" are not supported."),
      todo = "Give `study(predict_with = )`."
    )
  }
  few <- rows[seq_len(min(50, nrow(rows))), , drop = FALSE]
  list(
    task = "classification",
    classes = class_order(
      fit, engine, encode_wrapped(model, few), predict_wrapped(model, few)
    )
  )
}

# Numbers as names ("0", "1") say nothing: a booster counts its classes so whatever they are called.
class_order <- function(fit, engine, encoded, own = predict_wrapped(fit, encoded)) {
  stated <- model_task(engine)$classes
  counted <- identical(stated, as.character(seq_along(stated) - 1))
  if (!is.null(stated) && !counted && all(stated %in% fit$lvl)) return(stated)
  if (length(fit$lvl) != 2) return(fit$lvl)
  second <- tryCatch(model_predictions(engine, encoded)[, 2], dreher_error = function(e) NULL)
  if (is.null(second)) return(fit$lvl)
  apart <- colSums(abs(own[, fit$lvl, drop = FALSE] - second))
  fit$lvl[order(-apart)]
}

# parsnip's own contrasts are found only while it is attached.
with_parsnip <- function(code) {
  if (!"package:parsnip" %in% search()) {
    suppressPackageStartupMessages(attachNamespace("parsnip"))
    on.exit(detach("package:parsnip", character.only = TRUE), add = TRUE)
  }
  code
}

# What the engine is given: first the workflow's recipe or formula, then parsnip's own columns.
encode_wrapped <- function(model, data) {
  fit <- wrapped_fit(model)
  if (inherits(model, "workflow")) {
    data <- hardhat::forge(data, blueprint = workflows::extract_mold(model)$blueprint)$predictors
    sparse <- holds_sparse(data)
    if (inherits(data, "Matrix")) data <- as.matrix(data)
    data <- as.data.frame(data, optional = TRUE)
    # The boosting library is given a sparse matrix then, and takes what is not stored in it, the
    # zeros, for missing.
    if (sparse && inherits(fit$fit, "xgb.Booster")) {
      data[] <- lapply(data, function(x) replace(as.double(x), !is.na(x) & x == 0, NA))
    }
  }
  known <- names(fit$preproc)
  if (any(c("terms", "x_var") %in% known)) {
    data <- if (fit$spec$method$fit$interface == "formula") {
      parsnip::.convert_xy_to_form_new(fit$preproc, data)
    } else {
      with_parsnip(parsnip::.convert_form_to_xy_new(fit$preproc, data)$x)
    }
  }
  if (!is.data.frame(data)) data <- as.data.frame(as.matrix(data), optional = TRUE)
  data[setdiff(names(data), "(Intercept)")]
}

holds_sparse <- function(data) {
  if (inherits(data, "sparseMatrix")) return(TRUE)
  isNamespaceLoaded("sparsevctrs") && is.data.frame(data) &&
    any(vapply(data, getExportedValue("sparsevctrs", "is_sparse_vector"), NA))
}

predict_wrapped <- function(model, data) {
  fit <- wrapped_fit(model)
  if (fit$spec$mode == "regression") {
    return(as.double(with_parsnip(stats::predict(model, data)$.pred)))
  }
  out <- as.matrix(with_parsnip(stats::predict(model, data, type = "prob")))
  colnames(out) <- sub("^\\.pred_", "", colnames(out))
  out
}

# A recipe wants its columns in the types it was made with: whole numbers, text, TRUE and FALSE.
cast_like <- function(data, template) {
  for (p in intersect(names(template), names(data))) {
    like <- template[[p]]
    x <- data[[p]]
    if (is.integer(like) && is.double(x) && !inherits(x, c("Date", "POSIXct")) &&
        all(x == round(x), na.rm = TRUE)) {
      data[[p]] <- as.integer(x)
    }
    if (is.character(like) && is.factor(x)) data[[p]] <- as.character(x)
    if (is.logical(like) && !is.logical(x)) {
      data[[p]] <- if (is.factor(x)) as.logical(as.character(x)) else as.logical(x)
    }
    if (is.factor(like) && is.character(x)) data[[p]] <- factor(x, levels = levels(like))
  }
  data
}

# A recipe keeps its steps; predictors that are left out lose their role, so that steps on all
# predictors pass them by.
refit_wrapped <- function(model, data, target, predictors) {
  if (inherits(model, "model_fit")) {
    terms <- model$preproc$terms
    if (is.null(terms) && is.list(model$fit) && inherits(model$fit$terms, "terms")) {
      terms <- model$fit$terms
    }
    formula <- if (is.null(terms) || !is.null(model$preproc$x_var)) {
      plain_formula(target, predictors)
    } else {
      kept_terms(terms, target, predictors)
    }
    return(parsnip::fit(model$spec, formula, data = data))
  }
  spec <- workflows::extract_spec_parsnip(model)
  before <- workflows::extract_preprocessor(model)
  if (inherits(before, "recipe")) {
    data <- cast_like(data, before$template)
    gone <- setdiff(
      before$var_info$variable[before$var_info$role %in% "predictor"], predictors
    )
    if (length(gone)) {
      before <- recipes::update_role(before, !!!rlang::syms(gone), new_role = "left out")
      # New rows need not have them, unless a step asks for one by name.
      free <- recipes::update_role_requirements(before, "left out", bake = FALSE)
      fit <- parsnip::fit(workflows::workflow(free, spec), data = data)
      few <- data[seq_len(min(2, nrow(data))), predictors, drop = FALSE]
      if (!inherits(try(encode_wrapped(fit, few), silent = TRUE), "try-error")) {
        return(fit)
      }
    }
    return(parsnip::fit(workflows::workflow(before, spec), data = data))
  }
  if (inherits(before, "workflow_variables")) {
    return(parsnip::fit(
      workflows::workflow(
        rlang::inject(workflows::workflow_variables(
          outcomes = !!target, predictors = !!predictors
        )),
        spec
      ),
      data = data
    ))
  }
  parsnip::fit(
    workflows::workflow(
      kept_terms(
        stats::terms(before, data = data[c(target, predictors)]), target, predictors
      ),
      spec
    ),
    data = data
  )
}
