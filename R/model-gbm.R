# Reader for gbm. Checked with gbm 2.1.8 (gaussian, laplace, tdist, bernoulli, adaboost, poisson,
# multinomial; others are refused). A missing value goes to a branch of its own.

gbm_links <- c(
  gaussian = "identity", laplace = "identity", tdist = "identity", bernoulli = "logit",
  adaboost = "logit", poisson = "log", multinomial = "softmax"
)

gbm_distribution <- function(model) {
  name <- model$distribution$name
  if (!name %in% names(gbm_links)) {
    stop_model(
      paste0("gbm models of distribution \"", name, "\" are not supported."),
      todo = "Give `study(predict_with = )` a function that returns one number per row."
    )
  }
  if (!is.null(attr(model$Terms, "offset"))) {
    stop_model(
      "gbm models with an offset are not supported: gbm's own predictions leave it out.",
      todo = "Give `study(predict_with = )`."
    )
  }
  name
}

#' @export
model_task.gbm <- function(model, ...) {
  name <- gbm_distribution(model)
  if (name == "multinomial") {
    return(list(task = "classification", classes = model$classes))
  }
  if (gbm_links[[name]] == "logit") {
    return(list(task = "classification", classes = named_classes(model, c("0", "1"))))
  }
  list(task = "regression", classes = NULL)
}

#' @export
model_inputs.gbm <- function(model, train = NULL, ...) {
  levels <- stats::setNames(model$var.levels, model$var.names)
  new_inputs(model$var.names, Filter(is.character, levels), missing = TRUE)
}

# The trees gbm's own predict would use: all, or the best number by the test part or
# cross-validation.
gbm_trees <- function(model) {
  if (model$train.fraction < 1) {
    return(suppressMessages(gbm::gbm.perf(model, method = "test", plot.it = FALSE)))
  }
  if (!is.null(model$cv.error)) {
    return(suppressMessages(gbm::gbm.perf(model, method = "cv", plot.it = FALSE)))
  }
  model$n.trees
}

#' @export
model_predictions.gbm <- function(model, data, ...) {
  rlang::check_installed("gbm", "to predict with a gbm model")
  out <- stats::predict(model, data, n.trees = gbm_trees(model), type = "response")
  if (model_task(model)$task == "regression") return(as.double(out))
  if (gbm_distribution(model) == "multinomial") {
    return(matrix(out, nrow(data), dimnames = list(NULL, model$classes)))
  }
  matrix(c(1 - out, out), ncol = 2, dimnames = list(NULL, c("0", "1")))
}

#' @export
model_forest.gbm <- function(model, inputs, ...) {
  rlang::check_installed("gbm", "to read a gbm model")
  K <- max(1, model$num.classes)
  n <- gbm_trees(model) * K
  trees <- model$trees[seq_len(n)]
  name <- gbm_distribution(model)
  stack_trees(
    gbm_nodes(model, trees, K),
    lengths(lapply(trees, `[[`, 1)),
    rep(1, n),
    model$var.names,
    inputs$levels,
    base = rep(model$initF, length.out = K),
    link = gbm_links[[name]],
    stretch = if (name == "adaboost") 2 else 1,
    boosted = gbm_boosting(model, n, K, name)
  )
}

# gbm splits by the decrease of the residuals' sum of squares, whatever the loss.
gbm_boosting <- function(model, n, K, name) {
  loss <- c(
    gaussian = "squared", bernoulli = "logistic", poisson = "poisson",
    multinomial = "softmax"
  )
  list(
    loss = unname(loss[name]),
    second_order = FALSE,
    lambda = 0,
    most_step = 0,
    round = (seq_len(n) - 1L) %/% K,
    group = (seq_len(n) - 1L) %% K,
    gain = unlist(lapply(model$trees[seq_len(n)], `[[`, 6)),
    mass = vapply(model$trees[seq_len(n)], function(t) t[[7]][1], 0),
    drawn = model$bag.fraction,
    stored = "squared improvement"
  )
}

# All trees behind each other, as stack_trees() takes them; those of several classes in turn.
gbm_nodes <- function(model, trees, K) {
  part <- function(k) unlist(lapply(trees, `[[`, k))
  nodes <- lengths(lapply(trees, `[[`, 1))
  column <- as.integer(part(1))
  leaf <- column < 0
  split <- part(2)
  coded <- pmax(column, 0L) + 1L
  by_set <- !leaf & model$var.type[coded] > 0
  ordered <- vapply(model$var.levels, is.character, NA)[coded] & !by_set
  sides <- model$c.splits[split[by_set] + 1]
  size <- integer(length(column))
  size[by_set] <- lengths(sides)
  set_from <- rep(-1L, length(column))
  set_from[by_set] <- as.integer(cumsum(c(0, size[by_set]))[seq_len(sum(by_set))])
  value <- matrix(0, K, length(column))
  value[cbind(rep.int((seq_along(trees) - 1) %% K + 1, nodes), seq_along(column))[
      leaf, , drop = FALSE
    ]] <- split[leaf]
  # gbm counts levels from 0, and asks x < cut.
  cut <- just_below(as.double(split))
  cut[ordered] <- just_below(as.double(split[ordered]) + 1)
  cut[leaf | by_set] <- 0
  list(
    column = column,
    threshold = cut,
    left = as.integer(pmax(part(3), 0)),
    right = as.integer(pmax(part(4), 0)),
    missing = as.integer(pmax(part(5), 0)),
    owner = sequence(nodes) - 1L,
    set_from = set_from,
    set_size = size,
    set_side = as.integer(unlist(sides)),
    value = value
  )
}

#' @export
refit_model.gbm <- function(model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("gbm", "to train a gbm model again")
  call <- as.list(model$call)
  refuse_arguments(call, c("weights", "var.monotone"), "gbm")
  name <- gbm_distribution(model)
  rows <- data[c(target, predictors)]
  if (gbm_links[[name]] == "logit") rows[[target]] <- as.integer(rows[[target]]) - 1L
  formula <- plain_formula(target, predictors)
  args <- list(
    distribution = name,
    n.trees = gbm_trees(model),
    interaction.depth = model$interaction.depth,
    n.minobsinnode = model$n.minobsinnode,
    shrinkage = model$shrinkage,
    bag.fraction = model$bag.fraction,
    keep.data = FALSE
  )
  fit <- with_stream(
    seed,
    "gbm",
    suppressWarnings(fit_with(
      quote(gbm::gbm), list(formula = formula, data = quote(rows)), args
    ))
  )
  with_classes(fit, data[[target]])
}
