#' Rank predictors by several methods at once
#'
#' Runs the methods in `by` for every model they apply to, spread over the workers of
#' [future::plan()]. A method that does not apply to a model is left out, with the reason. With
#' `resamples` every model is trained again on every resample and ranked on the rows left out of
#' it: what [stability()] and [agreement()] are made from.
#'
#' @inheritParams rank_permutation
#' @param by Some of `"impurity"`, `"permutation"`, `"shapley"` (the default three),
#'   `"structure"`, `"coefficients"`, `"association"`, `"refit"` (which trains the model many
#'   times).
#' @param rows Rows to rank on: `"holdout"` (default), `"train"`, a data frame, or several: words,
#'   or a named list of data frames. With resamples: `NULL` or `"holdout"`, the rows left out of
#'   each; or a data frame or named list of them, on which every trained model is ranked.
#' @param background Background rows for [rank_shapley()].
#' @param slice A formula with one column on its right side (`~ shift`): permutation and Shapley
#'   importance are computed for each of its values apart, in column `slice`.
#' @param resamples Resamples of the training rows: made by [draw_resamples()] or by package
#'   rsample.
#' @param run Path of a run folder: every finished piece (a model on a resample, all methods) is
#'   written to the file `run.sqlite` in it, in one transaction. A run that was killed goes on
#'   where it stopped when it is called again with the same arguments, with the same result to the
#'   bit.
#' @return A [ranking] of all models and methods; entry `left_out` of the
#'   [details][ranking_details()] is a data frame of `model`, `method` and `why`. With resamples,
#'   column `resample` is the number of the resample, entry `resamples` holds `kind`, `times`,
#'   `rows` (in training parts, on average), and `failed` is a data frame of the pieces that
#'   failed twice: `model`, `resample`, `error`.
#' @section Errors: When no method applies to any of the models, with the reason for each; fewer
#'   than 3
#'   resamples, or resamples of other rows; a model that cannot be
#'   trained again (give `study(refit_with = )`); a run folder of another run or version, damaged,
#'   or not writable; a slice that is not a column of the rows; otherwise as the single functions.
#'   A piece that fails is tried once more;
#'   the others go on.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' rank_predictors(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
rank_predictors <- function(
    study, by = c("impurity", "permutation", "shapley"), ..., models = NULL,
    rows = "holdout", slice = NULL, resamples = NULL, run = NULL, repeats = 10,
    background = 100, level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "rank_predictors", ..., threads = threads)
  by <- check_choice(by, method_names(), "by", several = TRUE)
  settings <- list(
    repeats = if (identical(repeats, "auto") || identical(repeats, "all")) {
      repeats
    } else {
      check_count(repeats, "repeats")
    },
    background = check_background(background),
    level = check_fraction(level, "level"),
    seed = check_seed(seed)
  )
  applying <- pair_up(st, names(pick_models(st, models)), by, settings)
  if (!is.null(resamples)) {
    return(rank_resampled(
      st, applying$pairs, resamples_for(resamples, st), rows, slice, settings, run,
      applying$left_out
    ))
  }
  if (!is.null(run)) {
    stop_input(
      "`run` is for rankings over `resamples`.",
      todo = "Leave it out: without resamples nothing is written down."
    )
  }
  parts <- map_pieces(
    split(applying$pairs, seq_len(nrow(applying$pairs))),
    rank_by,
    st = st,
    several = slice_rows(pick_several_rows(st, rows), slice),
    settings = settings,
    label = "ranking"
  )
  join_parts(st, unlist(parts, recursive = FALSE), seed, level, applying$left_out)
}

# Which methods apply to which models. -> list(pairs, left_out: model, method, why)
pair_up <- function(st, models, by, settings) {
  pairs <- expand.grid(model = models, method = by, stringsAsFactors = FALSE)
  # what asks no model is done once
  once <- by[!method_field(by, "asks_model")]
  pairs <- pairs[!(pairs$method %in% once & pairs$model != models[1]), ]
  pairs$why <- mapply(
    why_not, pairs$method, st$models[pairs$model],
    MoreArgs = list(st = st, settings = settings)
  )
  ok <- pairs$why == ""
  if (!any(ok)) {
    stop_study(paste0(
      "No method applies to any of the models: ",
      paste0(pairs$method, " for ", pairs$model, " (", pairs$why, ")", collapse = "; "),
      "."
    ))
  }
  jointly <- lapply(intersect(methods_that("of_splits"), pairs$method[ok]), function(method) {
    leave_out_members(method, st$models[pairs$model[ok & pairs$method == method]])
  })
  left <- rbind(
    if (any(!ok)) pairs[!ok, c("model", "method", "why")], do.call(rbind, jointly)
  )
  list(pairs = pairs[ok, ], left_out = left)
}
