#' Rank predictors by impurity importance
#'
#' How much do the splits on a predictor make the nodes of the trees purer? Computed by sending the training rows
#' through the model's trees; nothing stored in the model is used.
#'
#' @inheritParams rank_permutation
#' @return A [ranking]. `importance` is the mean over trees of the decrease of impurity: of the variance of the target (in
#'   squared units of the target) or of the Gini impurity. `about` is `rows`: it describes the training rows and has no
#'   interval.
#' @details
#' For a tree with in-bag weights, a split of node t into L and R earns
#' \eqn{(N_t/N)[i(t) - (N_L/N_t)\, i(L) - (N_R/N_t)\, i(R)]}{(N_t/N)[i(t) - (N_L/N_t) i(L) - (N_R/N_t) i(R)]}, i the variance or
#' \eqn{\sum_k p_k(1-p_k)}{sum p(1-p)} (Breiman, Friedman, Olshen and Stone 1984); sums are averaged over trees. In-bag counts are used where the model keeps
#' them (ranger: `keep.inbag = TRUE`), otherwise every training row counts once in every tree, which column `rows` says.
#' Primary splits earn; surrogate splits only route.
#'
#' It is positive for pure noise, and more so for predictors with many distinct values (Strobl et al. 2007): read it beside
#' permutation importance.
#' @section Errors: No training rows; training rows that are not those of the in-bag counts; no tree model among `models`.
#' @references Breiman, L., Friedman, J., Olshen, R. and Stone, C. (1984). Classification and regression trees. \doi{10.1201/9781315139470}.
#'   Louppe, G., Wehenkel, L., Sutera, A. and Geurts, P. (2013). Understanding variable importances in forests of randomized trees.
#'   Strobl, C., Boulesteix, A.-L., Zeileis, A. and Hothorn, T. (2007). \doi{10.1186/1471-2105-8-25}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' rank_impurity(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
rank_impurity <- function(study, ..., models = NULL, threads = NULL) {
  st <- open_ranking(study, "rank_impurity", ..., threads = threads)
  need_train(st, "Impurity importance")
  models <- pick_models(st, models)
  treeless <- vapply(models, function(m) is.null(m$forest), NA)
  if (all(treeless)) {
    stop_study(paste0("Impurity importance needs trees; none of these models has any: ", quote_some(names(models)), "."),
               todo = "Rank them by permutation or Shapley importance.")
  }
  parts <- lapply(models[!treeless], purify_model, st = st)
  bind_rankings(st, parts, NA_integer_, NA_real_, left_out = leave_out("impurity", names(models)[treeless], "it has no trees"))
}

leave_out <- function(method, models, why) {
  if (!length(models)) return(NULL)
  data.frame(model = models, method = method, why = why)
}

purify_model <- function(model, st) {
  train <- model_rows(st, model, st$train, "train")
  counts <- model$forest$inbag
  if (!is.null(counts) && nrow(counts) != nrow(train)) {
    stop_study(paste0("`train` has ", nrow(train), " rows, but model \"", model$name, "\" was trained on ", nrow(counts), "."),
               todo = "Give the training rows as they were, in the same order.")
  }
  target <- if (st$task == "regression") matrix(st$train[[st$target]], ncol = 1) else {
    outer(as.integer(st$train[[st$target]]), seq_along(st$classes), "==") + 0
  }
  routed <- forest_impurity(model$forest, encode_for_forest(model$forest, train), target,
                            if (is.null(counts)) matrix(0L, 0, 0) else counts, st$threads)
  per_tree <- routed$earned
  predictors <- model$inputs$predictors
  importance <- rowMeans(per_tree)[match(predictors, model$forest$columns)]
  flags <- join_flags(st$flags$predictors[predictors], st$flags$models[[model$name]])
  label <- if (is.null(counts)) "train" else "train in-bag"
  table <- ranking_rows(st, model, "impurity", label, predictors, importance, about = "rows", flag = flags)
  note <- if (routed$empty > 0) paste0(routed$empty, " trees without rows") else ""
  measures <- paste0("decrease of ", if (st$task == "regression") "variance" else "Gini impurity")
  new_ranking(st, table, new_settings(model, "impurity", nrow(train), measures = measures, note = note), list(), NA_integer_, NA_real_)
}
