# Reader for xgboost boosters (R objects). Checked with xgboost 1.7: gbtree and dart with numeric
# splits, one or several classes, several trees a round, missing values by their stored direction.
# Categorical splits, leaf vectors and other objectives are refused.
#
# Read from the booster's own JSON, whose layout the library documents. Values are compared in single
# precision: x < cut goes left. Sums are single precision in the library and double here.

xgb_links <- c("reg:squarederror" = "identity", "reg:pseudohubererror" = "identity", "reg:absoluteerror" = "identity", "binary:logistic" = "logit",
               "count:poisson" = "log", "reg:gamma" = "log", "reg:tweedie" = "log", "multi:softprob" = "softmax", "multi:softmax" = "softmax")

# Objective, classes and base score, without the trees.
xgb_learner <- function(model) {
  rlang::check_installed("xgboost", "to read an xgboost model")
  config <- jsonlite::parse_json(xgboost::xgb.config(model), simplifyVector = TRUE)
  check_xgb_version(config$version)
  objective <- config$learner$objective$name
  if (!objective %in% names(xgb_links)) {
    stop_model(paste0("xgboost models of objective \"", objective, "\" are not supported."), todo = "Give `study(predict_with = )` a function that predicts.")
  }
  config$learner
}

check_xgb_version <- function(version) {
  if (length(version) != 3 || version[1] != 1 || version[2] != 7) {
    stop_model(paste0("The xgboost model is of version ", paste(version, collapse = "."), "; its reader was checked with 1.7 only."),
               todo = "Give `study(predict_with = )` a function that predicts.")
  }
}

xgb_classes <- function(learner) {
  link <- xgb_links[[learner$objective$name]]
  if (link == "logit") return(c("0", "1"))
  if (link == "softmax") as.character(seq_len(as.integer(learner$learner_model_param$num_class)) - 1)
}

#' @export
read_task.xgb.Booster <- function(model, ...) {
  classes <- xgb_classes(xgb_learner(model))
  list(task = if (is.null(classes)) "regression" else "classification", classes = classes)
}

#' @export
read_inputs.xgb.Booster <- function(model, train = NULL, ...) {
  names <- model$feature_names
  if (!length(names)) {
    stop_model("The xgboost model does not know the names of its columns.", todo = "Train it on a matrix with column names.")
  }
  new_inputs(as.character(names), missing = TRUE)
}

#' @export
read_predictions.xgb.Booster <- function(model, data, ...) {
  learner <- xgb_learner(model)
  x <- as.matrix(data[read_inputs(model)$predictors])
  storage.mode(x) <- "double"
  link <- xgb_links[[learner$objective$name]]
  classes <- xgb_classes(learner)
  x <- xgboost::xgb.DMatrix(x, nthread = 1)
  if (link == "softmax") {
    eta <- matrix(stats::predict(model, x, outputmargin = TRUE), ncol = length(classes), byrow = TRUE)
    return(matrix(apply_link(list(link = "softmax"), eta), ncol = length(classes), dimnames = list(NULL, classes)))
  }
  out <- as.double(stats::predict(model, x))
  if (link == "logit") matrix(c(1 - out, out), ncol = 2, dimnames = list(NULL, classes)) else out
}

#' @export
read_forest.xgb.Booster <- function(model, inputs, ...) {
  learner <- xgb_learner(model)
  if (learner$gradient_booster$name == "gblinear") return(NULL)
  text <- rawToChar(xgboost::xgb.save.raw(model, raw_format = "json"))
  booster <- jsonlite::parse_json(text, simplifyVector = TRUE, simplifyDataFrame = FALSE, simplifyMatrix = FALSE)$learner$gradient_booster
  content <- if (booster$name == "dart") booster$gbtree$model else booster$model
  trees <- content$trees
  link <- xgb_links[[learner$objective$name]]
  K <- if (link == "softmax") length(xgb_classes(learner)) else 1L
  kept <- seq_along(trees)
  if (!is.null(model$best_iteration)) {   # as the library's own predictions after early stopping
    kept <- seq_len(min(length(trees), model$best_iteration * K * as.integer(content$gbtree_model_param$num_parallel_tree)))
  }
  drop <- if (booster$name == "dart") as.double(booster$weight_drop) else rep(1, length(trees))
  group <- as.integer(content$tree_info)[kept]
  start <- as.double(learner$learner_model_param$base_score)
  base <- switch(link, logit = stats::qlogis(start), log = log(start), start)
  join_trees(lapply(kept, function(t) xgb_tree(trees[[t]], K, group[t] + 1)), drop[kept], inputs$predictors, inputs$levels, base = rep(base, K), link = link,
             boosted = xgb_boosting(model, learner, booster, content, trees[kept], group, K), single = TRUE)
}

xgb_boosting <- function(model, learner, booster, content, trees, group, K) {
  loss <- c("reg:squarederror" = "squared", "binary:logistic" = "logistic", "count:poisson" = "poisson", "multi:softprob" = "softmax", "multi:softmax" = "softmax")
  loss <- if (booster$name == "dart") NA_character_ else unname(loss[learner$objective$name])   # dropped trees are not known
  lambda <- c(model$params$lambda, model$params$reg_lambda, 1)[1]
  most_step <- c(model$params$max_delta_step, if (identical(loss, "poisson")) 0.7 else 0)[1]
  per_round <- K * as.integer(content$gbtree_model_param$num_parallel_tree)
  stored <- unlist(lapply(trees, function(t) ifelse(t$left_children < 0, 0, as.double(t$loss_changes))))
  list(loss = loss, second_order = TRUE, lambda = as.double(lambda), most_step = as.double(most_step), round = (seq_along(trees) - 1L) %/% per_round, group = group, gain = stored, stored = "stored gain")
}

xgb_tree <- function(tree, K, k) {
  if (any(unlist(tree$split_type) != 0)) {
    stop_model("The xgboost model splits on categories, which is not supported.", todo = "Give `study(predict_with = )`.")
  }
  left <- as.integer(tree$left_children)
  leaf <- left < 0
  n <- length(left)
  column <- ifelse(leaf, -1L, as.integer(tree$split_indices))
  cut <- as.double(tree$split_conditions)
  right <- ifelse(leaf, 0L, as.integer(tree$right_children))
  left <- ifelse(leaf, 0L, left)
  # Written with the digits of single precision: read back as the nearest single.
  cut <- round_single(matrix(cut))[, 1]
  value <- matrix(0, K, n)
  value[k, leaf] <- cut[leaf]
  list(column = column, threshold = ifelse(leaf, 0, just_below(cut)), left = left, right = right,
       missing = ifelse(leaf, 0L, ifelse(as.integer(tree$default_left) == 1L, left, right)), owner = seq_len(n) - 1L, set_from = rep(-1L, n),
       set_size = rep(0L, n), set_side = integer(), value = value)
}

#' @export
refit_model.xgb.Booster <- function(model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("xgboost", "to train an xgboost model again")
  params <- model$params
  params[c("validate_parameters", "nthread")] <- NULL
  if (!is.null(params$monotone_constraints) || !is.null(params$interaction_constraints)) {
    stop_model("The xgboost model has constraints that name columns by position.", todo = "Give `study(refit_with = )` a function that fits the model.")
  }
  y <- data[[target]]
  if (is.factor(y)) y <- as.integer(y) - 1L
  x <- as.matrix(data[predictors])
  storage.mode(x) <- "double"
  rows <- xgboost::xgb.DMatrix(x, label = y, nthread = 1)
  with_stream(seed, "xgboost", xgboost::xgb.train(c(params, list(nthread = threads)), rows, nrounds = if (is.null(model$best_iteration)) model$niter else model$best_iteration, verbose = 0))
}
