# Reader for ranger forests. Checked with ranger 0.14 (regression, classification, probability;
# unordered factors ignored, ordered or partitioned).
#
# ranger codes a factor by its level numbers in the rows it is given. Rows are therefore always
# brought to the levels of the training rows first (align_rows), otherwise a level that is absent
# from the holdout rows would shift all others without a word.

#' @export
model_task.ranger <- function(model, ...) {
  if (model$treetype == "Regression") return(list(task = "regression", classes = NULL))
  if (!model$treetype %in% c("Classification", "Probability estimation")) {
    stop_model(
      paste0("ranger forests of type \"", model$treetype, "\" are not supported."),
      todo = "Give `study(predict_with = )` a function that returns one number per row."
    )
  }
  list(task = "classification", classes = ranger_classes(model))
}

ranger_classes <- function(model) {
  forest <- ranger_forest(model)
  if (is.null(forest$levels)) {
    as.character(sort(forest$class.values))
  } else {
    forest$levels[sort(forest$class.values)]
  }
}

ranger_forest <- function(model) {
  if (is.null(model$forest)) {
    stop_model(
      "The ranger model holds no forest.",
      todo = "Fit it with write.forest = TRUE (the default)."
    )
  }
  model$forest
}

#' @export
model_inputs.ranger <- function(model, train = NULL, ...) {
  predictors <- ranger_forest(model)$independent.variable.names
  levels <- if (!is.null(train)) {
    levels_of_rows(train, intersect(predictors, names(train)))
  } else {
    list()
  }
  new_inputs(predictors, levels, missing = FALSE)
}

# The library takes a seed from the session's stream unless it is given one, and ends R where an
# interrupt meets it here: it waits until the library is done.
predict_ranger <- function(model, data, ...) {
  suspendInterrupts(stats::predict(model, data, ..., num.threads = 1, seed = 1)$predictions)
}

#' @export
model_predictions.ranger <- function(model, data, ...) {
  rlang::check_installed("ranger", "to predict with a ranger model")
  if (model$treetype == "Classification") {
    votes <- predict_ranger(model, data, predict.all = TRUE)
    votes <- matrix(votes, nrow(data))
    values <- sort(ranger_forest(model)$class.values)
    shares <- vapply(values, function(v) rowMeans(votes == v), double(nrow(data)))
    return(matrix(shares, nrow(data), dimnames = list(NULL, ranger_classes(model))))
  }
  out <- predict_ranger(model, data)
  if (model$treetype == "Regression") return(as.double(out))
  out <- matrix(out, nrow(data), dimnames = list(NULL, colnames(out)))
  if (is.null(colnames(out))) {
    # Without levels ranger leaves the columns in the order in which the classes were met.
    values <- ranger_forest(model)$class.values
    out <- out[, order(values), drop = FALSE]
    colnames(out) <- ranger_classes(model)
  }
  out
}

#' @export
model_forest.ranger <- function(model, inputs, ...) {
  f <- ranger_forest(model)
  columns <- f$independent.variable.names
  levels <- stats::setNames(
    lapply(columns, function(p) {
      coded <- f$covariate.levels[[p]]
      if (is.null(coded)) inputs$levels[[p]] else coded
    }),
    columns
  )
  stack_trees(
    ranger_nodes(f, lengths(levels)),
    lengths(f$split.varIDs),
    rep(1 / f$num.trees, f$num.trees),
    columns,
    levels,
    ranger_inbag(model)
  )
}

ranger_inbag <- function(model) {
  if (is.null(model$inbag.counts)) return(NULL)
  counts <- do.call(cbind, model$inbag.counts)
  storage.mode(counts) <- "integer"
  counts
}

# outputs x nodes of all trees: the mean, the class shares, or the vote of each leaf (0 elsewhere).
ranger_values <- function(f, column, leaf_value) {
  if (f$treetype == "Regression") return(matrix(leaf_value, 1))
  leaf <- column < 0L
  classes <- sort(f$class.values)
  value <- matrix(0, length(classes), length(leaf))
  if (f$treetype == "Classification") {
    value[cbind(match(leaf_value[leaf], classes), which(leaf))] <- 1
  } else {
    counts <- unlist(f$terminal.class.counts, recursive = FALSE, use.names = FALSE)[leaf]
    value[, leaf] <- matrix(unlist(counts), length(classes))[order(f$class.values), ]
  }
  value
}

# All trees behind each other, as stack_trees() takes them.
ranger_nodes <- function(f, n_levels) {
  nodes <- stack_ranger(
    f$split.varIDs, f$split.values, f$child.nodeIDs, f$is.ordered, n_levels
  )
  nodes$value <- ranger_values(f, nodes$column, nodes$leaf_value)
  nodes$leaf_value <- NULL
  nodes
}

#' @export
refit_model.ranger <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("ranger", "to train a ranger model again")
  call <- as.list(model$call)
  refuse_arguments(
    call,
    c("case.weights", "inbag", "split.select.weights", "always.split.variables"),
    "ranger"
  )
  keep <- c(
    "num.trees", "mtry", "min.node.size", "max.depth", "replace", "sample.fraction",
    "class.weights", "splitrule", "num.random.splits", "alpha", "minprop",
    "respect.unordered.factors", "regularization.factor", "regularization.usedepth",
    "keep.inbag", "save.memory"
  )
  args <- reusable_arguments(call, keep, fitting_frame(model), "ranger")
  # Where the model stored what it used, that counts; defaults follow the number of predictors
  # again.
  stored <- intersect(c("mtry", "min.node.size", "splitrule", "replace"), names(args))
  args[stored] <- model[stored]
  if (!is.null(args$mtry)) args$mtry <- min(args$mtry, length(predictors))
  if (length(args$regularization.factor) > 1) {
    refuse_arguments(call, "regularization.factor", "ranger")
  }
  is_class <- model$treetype != "Regression"
  args$probability <- model$treetype == "Probability estimation"
  args$num.trees <- model$num.trees
  rows <- data[c(target, predictors)]
  if (is_class && !is.factor(rows[[target]])) rows[[target]] <- factor(rows[[target]])
  fit_with(
    quote(ranger::ranger),
    list(
      data = quote(rows),
      dependent.variable.name = target,
      seed = seed,
      num.threads = threads,
      verbose = FALSE
    ),
    args
  )
}

fitting_frame <- function(model) {
  f <- tryCatch(stats::formula(model), error = function(e) NULL)
  env <- if (is.null(f)) NULL else environment(f)
  if (is.null(env)) globalenv() else env
}

#' @export
error_left_out.ranger <- function(model) {
  list(
    value = model$prediction.error,
    kind = model$treetype,
    rows = model$num.samples,
    keeps_levels = !is.null(ranger_forest(model)$covariate.levels)
  )
}
