# Reader for rpart trees (anova, class, poisson), surrogate splits included.
#
# rpart sends a row whose primary predictor is missing by the first surrogate that can answer, then
# with the majority, or lets it stay (control$usesurrogate 1 or 0). Each surrogate becomes a node
# behind its primary: primary -missing-> surrogate 1 -missing-> surrogate 2 ... -missing-> majority.

#' @export
model_task.rpart <- function(model, ...) {
  if (model$method == "class") {
    return(list(task = "classification", classes = attr(model, "ylevels")))
  }
  if (!model$method %in% c("anova", "poisson")) {
    stop_model(
      paste0("rpart trees of method \"", model$method, "\" are not supported."),
      todo = "Give `study(predict_with = )` a function that returns one number per row."
    )
  }
  list(task = "regression", classes = NULL)
}

#' @export
model_inputs.rpart <- function(model, train = NULL, ...) {
  predictors <- plain_columns(model$terms)
  levels <- if (!is.null(train)) {
    levels_of_rows(train, intersect(predictors, names(train)))
  } else {
    list()
  }
  levels[names(attr(model, "xlevels"))] <- attr(model, "xlevels")
  new_inputs(
    predictors,
    levels[intersect(names(levels), predictors)],
    missing = TRUE,
    also = setdiff(plain_columns(model$terms, all = TRUE), predictors)
  )
}

#' @export
model_predictions.rpart <- function(model, data, ...) {
  rlang::check_installed("rpart", "to predict with an rpart model")
  if (model$method == "class") {
    return(unname_rows(stats::predict(
      model, data, type = "prob", na.action = stats::na.pass
    )))
  }
  as.double(stats::predict(model, data, type = "vector", na.action = stats::na.pass))
}

unname_rows <- function(x) {
  rownames(x) <- NULL
  x
}

#' @export
model_forest.rpart <- function(model, inputs, ...) {
  columns <- attr(model$terms, "term.labels")
  bare <- gsub("^`|`$", "", columns)
  if (!all(bare %in% inputs$predictors)) return(NULL)  # the formula transforms its predictors
  tree <- rpart_tree(model, bare)
  join_trees(list(tree), 1, bare, inputs$levels[bare])
}

rpart_tree <- function(model, columns) {
  frame <- model$frame
  number <- as.integer(rownames(frame))
  leaf <- frame$var == "<leaf>"
  value <- if (model$method == "class") {
    k <- length(attr(model, "ylevels"))
    t(frame$yval2[, 1 + k + seq_len(k), drop = FALSE])
  } else {
    matrix(frame$yval, 1)
  }
  # Position of each frame row in the node list: behind every split come its surrogates.
  surrogates <- if (model$control$usesurrogate > 0) {
    ifelse(leaf, 0L, frame$nsurrogate)
  } else {
    rep(0L, nrow(frame))
  }
  place <- cumsum(c(0L, 1L + surrogates))[seq_len(nrow(frame))]
  first_split <- cumsum(c(0L, ifelse(leaf, 0L, 1L + frame$ncompete + frame$nsurrogate)))[seq_len(
      nrow(frame)
    )]

  pieces <- lapply(seq_len(nrow(frame)), function(i) {
    if (leaf[i]) return(list(node = rpart_leaf(place[i])))
    left_row <- match(2 * number[i], number)
    right_row <- match(2 * number[i] + 1, number)
    majority <- -1L
    if (model$control$usesurrogate > 1 && frame$n[left_row] != frame$n[right_row]) {
      majority <- place[if (frame$n[left_row] > frame$n[right_row]) {
          left_row
        } else {
          right_row
        }]
    }
    from <- first_split[i] + 1L
    which_splits <- c(from, from + frame$ncompete[i] + seq_len(surrogates[i]))
    lapply(seq_along(which_splits), function(s) {
      last <- s == length(which_splits)
      rpart_question(
        model,
        which_splits[s],
        columns,
        owner = place[i],
        left = place[left_row],
        right = place[right_row],
        missing = if (last) majority else place[i] + s
      )
    })
  })
  c(
    rpart_arrays(unlist(pieces, recursive = FALSE)),
    list(value = value[, rep(seq_len(nrow(frame)), 1L + surrogates), drop = FALSE])
  )
}

# Nodes, one list each, as arrays.
rpart_arrays <- function(nodes) {
  field <- function(name) vapply(nodes, function(n) n[[name]], nodes[[1]][[name]])
  sets <- lapply(nodes, `[[`, "set_side")
  size <- lengths(sets)
  list(
    column = field("column"),
    threshold = field("threshold"),
    left = field("left"),
    right = field("right"),
    missing = field("missing"),
    owner = field("owner"),
    set_from = ifelse(size > 0, cumsum(c(0L, size))[seq_along(size)], -1L),
    set_size = size,
    set_side = as.integer(unlist(sets))
  )
}

rpart_leaf <- function(place) {
  list(
    column = -1L, threshold = 0, left = 0L, right = 0L, missing = 0L, owner = place,
    set_side = integer()
  )
}

# One line of model$splits. ncat = -1: below the cut goes left; 1: below goes right; 2 or more: a
# set.
rpart_question <- function(model, line, columns, owner, left, right, missing) {
  split <- model$splits[line, ]
  column <- match(rownames(model$splits)[line], columns) - 1L
  node <- list(
    column = column, threshold = 0, left = left, right = right, missing = missing,
    owner = owner, set_side = integer()
  )
  if (split[["ncat"]] >= 2) {
    node$set_side <- as.integer(
      model$csplit[split[["index"]], seq_len(split[["ncat"]])] - 2L
    )
  } else {
    node$threshold <- just_below(split[["index"]])
    if (split[["ncat"]] > 0) node[c("left", "right")] <- list(right, left)
  }
  node
}

#' @export
refit_model.rpart <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("rpart", "to train an rpart model again")
  call <- as.list(model$call)
  refuse_arguments(call, c("weights", "subset", "cost"), "rpart")
  args <- reusable_arguments(call, "parms", environment(model$terms), "rpart")
  formula <- plain_formula(target, predictors)
  rows <- data[c(target, predictors)]
  if (model$method == "class" && !is.factor(rows[[target]])) {
    rows[[target]] <- text_factor(rows[[target]])
  }
  control <- model$control
  control$xval <- 0
  with_stream(
    seed,
    "rpart",
    fit_with(
      quote(rpart::rpart),
      list(
        formula = formula,
        data = quote(rows),
        method = model$method,
        control = control,
        model = FALSE
      ),
      args
    )
  )
}
