# Reader for randomForest. Checked with randomForest 4.7 (regression, classification; factors of any
# number of levels it takes). Rows with missing values are refused, as it refuses them.

#' @export
model_task.randomForest <- function(model, ...) {
  switch(
    model$type,
    regression = list(task = "regression", classes = NULL),
    classification = list(task = "classification", classes = model$classes),
    stop_model(
      paste0("randomForest models of type \"", model$type, "\" predict nothing."),
      todo = "Give a forest with a target."
    )
  )
}

#' @export
model_inputs.randomForest <- function(model, train = NULL, ...) {
  if (is.null(model$forest)) {
    stop_model(
      "The randomForest model holds no forest.", todo = "Fit it with keep.forest = TRUE."
    )
  }
  predictors <- names(model$forest$ncat)
  # Ordered factors are numbers to randomForest; their levels stand in the training rows only.
  levels <- if (!is.null(train)) {
    levels_of_rows(train, intersect(predictors, names(train)))
  } else {
    list()
  }
  known <- Filter(is.character, model$forest$xlevels)
  levels[names(known)] <- known
  also <- if (!is.null(model$terms)) {
    setdiff(plain_columns(model$terms, all = TRUE), predictors)
  }
  new_inputs(predictors, levels, missing = FALSE, also = as.character(also))
}

#' @export
model_predictions.randomForest <- function(model, data, ...) {
  rlang::check_installed("randomForest", "to predict with a randomForest model")
  if (model$type == "regression") return(as.double(stats::predict(model, data)))
  out <- stats::predict(model, data, type = "prob")
  matrix(out, nrow(data), dimnames = list(NULL, colnames(out)))
}

#' @export
model_forest.randomForest <- function(model, inputs, ...) {
  f <- model$forest
  if (!is.null(model$coefs)) return(NULL)   # bias-corrected: no longer a mean over trees
  trees <- lapply(seq_len(f$ntree), function(t) randomforest_tree(model, t))
  inbag <- model$inbag
  if (!is.null(inbag)) {
    dimnames(inbag) <- NULL
    storage.mode(inbag) <- "integer"
  }
  join_trees(trees, rep(1 / f$ntree, f$ntree), names(f$ncat), inputs$levels, inbag)
}

randomforest_tree <- function(model, t) {
  f <- model$forest
  i <- seq_len(f$ndbigtree[t])
  leaf <- f$nodestatus[i, t] == -1
  children <- if (model$type == "regression") {
    cbind(f$leftDaughter[i, t], f$rightDaughter[i, t])
  } else {
    matrix(f$treemap[i, , t], ncol = 2)
  }
  column <- ifelse(leaf, -1L, f$bestvar[i, t] - 1L)
  split <- f$xbestsplit[i, t]
  size <- ifelse(leaf, 0L, f$ncat[pmax(column, 0L) + 1L])
  size[size <= 1] <- 0L
  # A set is a bit mask held in a number: bit k set sends level k + 1 to the left.
  set_side <- unlist(lapply(which(size > 0), function(n) {
    ifelse((split[n] %/% 2^(seq_len(size[n]) - 1)) %% 2 == 1, -1L, 1L)
  }))
  set_from <- rep(-1L, length(i))
  set_from[size > 0] <- as.integer(cumsum(c(0L, size[size > 0]))[seq_len(sum(size > 0))])
  value <- if (model$type == "regression") {
    matrix(f$nodepred[i, t], 1)
  } else {
    vote <- matrix(0, f$nclass, length(i))
    vote[cbind(f$nodepred[i, t][leaf], which(leaf))] <- 1
    vote
  }
  list(
    column = as.integer(column),
    threshold = ifelse(leaf | size > 0, 0, split),
    left = ifelse(leaf, 0L, as.integer(children[, 1]) - 1L),
    right = ifelse(leaf, 0L, as.integer(children[, 2]) - 1L),
    missing = ifelse(leaf, 0L, -1L),
    owner = i - 1L,
    set_from = set_from,
    set_size = as.integer(size),
    set_side = set_side,
    value = value
  )
}

#' @export
refit_model.randomForest <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("randomForest", "to train a randomForest model again")
  call <- as.list(model$call)
  refuse_arguments(
    call,
    c("subset", "weights", "strata", "sampsize", "classwt", "cutoff"),
    "randomForest"
  )
  args <- reusable_arguments(
    call,
    c("mtry", "nodesize", "maxnodes", "replace", "keep.inbag"),
    fitting_frame(model),
    "randomForest"
  )
  if (!is.null(args$mtry)) args$mtry <- min(model$mtry, length(predictors))
  y <- data[[target]]
  if (model$type == "classification") y <- text_factor(y)
  x <- data[predictors]
  with_stream(
    seed,
    "randomForest",
    fit_with(
      quote(randomForest::randomForest),
      list(x = quote(x), y = quote(y), ntree = model$ntree),
      args
    )
  )
}
