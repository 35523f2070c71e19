#' Rank predictors by several methods at once
#'
#' Runs the methods in `by` for every model they fit, spread over the workers of [future::plan()]. A method that does not
#' fit a model is left out and said so.
#'
#' @inheritParams rank_permutation
#' @param by Some of `"impurity"`, `"permutation"`, `"shapley"` (the default three), `"structure"`, `"coefficient"`, `"association"`, `"refit"`
#'   (which trains the model many times).
#' @param background Background rows for [rank_shapley()].
#' @return A [ranking] of all models and methods; attribute `left_out` is a data frame of `model`, `method` and `why`.
#' @section Errors: When no method fits any of the models, with the reason for each; otherwise as the single functions.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' rank_predictors(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
rank_predictors <- function(study, by = c("impurity", "permutation", "shapley"), ..., models = NULL, rows = "holdout",
                            repeats = 10, background = 100, level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "rank_predictors", ..., threads = threads)
  by <- check_choice(by, c("impurity", "permutation", "shapley", "structure", "coefficient", "association", "refit"), "by", several = TRUE)
  chosen <- names(pick_models(st, models))
  pairs <- expand.grid(model = chosen, method = by, stringsAsFactors = FALSE)
  pairs <- pairs[!(pairs$method == "association" & pairs$model != chosen[1]), ]   # asks no model: once
  pairs$why <- mapply(why_not, pairs$method, st$models[pairs$model], MoreArgs = list(st = st, background = background))
  ok <- pairs$why == ""
  if (!any(ok)) {
    stop_study(paste0("None of the methods fits a model: ", paste0(pairs$method, " for ", pairs$model, " (", pairs$why, ")", collapse = "; "), "."))
  }
  pieces <- split(pairs[ok, ], seq_len(sum(ok)))
  parts <- map_pieces(pieces, function(piece, st, rows, repeats, background, level, seed) {
    switch(piece$method,
           impurity = rank_impurity(st, models = piece$model),
           permutation = rank_permutation(st, models = piece$model, rows = rows, repeats = repeats, level = level, seed = seed),
           shapley = rank_shapley(st, models = piece$model, rows = rows, background = background, level = level, seed = seed),
           structure = rank_structure(st, models = piece$model),
           refit = rank_refit(st, models = piece$model, level = level, seed = seed),
           coefficient = rank_coefficients(st, models = piece$model, level = level),
           association = rank_association(st, level = level, seed = seed))
  }, st = st, rows = rows, repeats = repeats, background = background, level = level, seed = seed, label = "ranking")
  left_out <- if (any(!ok)) pairs[!ok, c("model", "method", "why")]
  bind_rankings(st, parts, seed, level, left_out)
}

# Why a method does not apply to a model; "" where it does.
why_not <- function(method, model, st, background = NULL) {
  needs_train <- method != "permutation" && !(method == "shapley" && is.data.frame(background))
  if (needs_train && is.null(st$train)) "no training rows were given"
  else if (method %in% c("impurity", "structure") && is.null(model$forest)) "it has no trees"
  else if (method == "coefficient" && is.null(model$linear)) "it has no coefficients"
  else ""
}
