#' Rank predictors by several methods at once
#'
#' Runs the methods in `by` for every model they fit, spread over the workers of [future::plan()].
#' A method that does not fit a model is left out and said so. With `resamples` every model is
#' trained again on every resample and ranked on the rows left out of it: what [stability()] and
#' [agreement()] are made from.
#'
#' @inheritParams rank_permutation
#' @param by Some of `"impurity"`, `"permutation"`, `"shapley"` (the default three),
#'   `"structure"`, `"coefficient"`, `"association"`, `"refit"` (which trains the model many
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
#' @return A [ranking] of all models and methods; attribute `left_out` is a data frame of `model`,
#'   `method` and `why`. With resamples, column `resample` is the number of the resample,
#'   attribute `resamples` holds `kind`, `times`, `rows` (in training parts, on average), and
#'   `failed` is a data frame of the pieces that failed twice: `model`, `resample`, `error`.
#' @section Errors: When no method fits any of the models, with the reason for each; fewer than 3
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
  by <- check_choice(
    by,
    c(
      "impurity", "permutation", "shapley", "structure", "coefficient", "association",
      "refit"
    ),
    "by",
    several = TRUE
  )
  chosen <- names(pick_models(st, models))
  pairs <- expand.grid(model = chosen, method = by, stringsAsFactors = FALSE)
  # asks no model: once
  pairs <- pairs[!(pairs$method == "association" & pairs$model != chosen[1]), ]
  pairs$why <- mapply(
    why_not,
    pairs$method,
    st$models[pairs$model],
    MoreArgs = list(st = st, background = background)
  )
  ok <- pairs$why == ""
  if (!any(ok)) {
    stop_study(paste0(
      "None of the methods fits a model: ",
      paste0(pairs$method, " for ", pairs$model, " (", pairs$why, ")", collapse = "; "),
      "."
    ))
  }
  left_out <- if (any(!ok)) pairs[!ok, c("model", "method", "why")]
  how <- list(repeats = repeats, background = background, level = level, seed = seed)
  if (!is.null(resamples)) {
    return(rank_resampled(
      st, pairs[ok, ], resamples_for(resamples, st), rows, slice, how, run, left_out
    ))
  }
  if (!is.null(run)) {
    stop_input(
      "`run` is for rankings over `resamples`.",
      todo = "Leave it out: without resamples nothing is written down."
    )
  }
  parts <- map_pieces(
    split(pairs[ok, ], seq_len(sum(ok))),
    rank_by,
    st = st,
    several = slice_rows(pick_several_rows(st, rows), slice),
    how = how,
    label = "ranking"
  )
  bind_rankings(st, unlist(parts, recursive = FALSE), how$seed, level, left_out)
}

# One model by one method on several sets of rows; methods that do not ask rows are run once.
rank_by <- function(piece, st, several, how) {
  of_rows <- function(on) {
    # A data frame keeps its name; a slice is called as in the settings.
    rows <- if (!is.null(on$slice)) {
      stats::setNames(list(on$data), rows_with_slice(on$label, on$slice))
    } else if (isTRUE(on$seen)) {
      "holdout"
    } else if (on$label %in% c("holdout", "train", "oob")) {
      on$label
    } else if (on$label == "given") {
      on$data
    } else {
      stats::setNames(list(on$data), on$label)
    }
    out <- switch(
      piece$method,
      permutation = rank_permutation(
        st, models = piece$model, rows = rows, repeats = how$repeats, level = how$level,
        seed = how$seed
      ),
      shapley = rank_shapley(
        st,
        models = piece$model,
        rows = rows,
        background = how$background,
        level = how$level,
        seed = how$seed
      )
    )
    if (!is.null(on$slice)) {
      out$rows <- on$label
      out$slice <- on$slice
    }
    out
  }
  if (piece$method %in% c("permutation", "shapley")) {
    if (piece$method == "shapley") {
      several <- Filter(function(on) on$label != "oob", several)
    }
    return(lapply(unname(several), of_rows))
  }
  list(switch(
    piece$method,
    impurity = rank_impurity(st, models = piece$model),
    structure = rank_structure(st, models = piece$model),
    refit = rank_refit(st, models = piece$model, level = how$level, seed = how$seed),
    coefficient = rank_coefficients(st, models = piece$model, level = how$level),
    association = rank_association(st, level = how$level, seed = how$seed)
  ))
}

# Every set of rows in parts, by the values of a column.
slice_rows <- function(several, slice) {
  if (is.null(slice)) return(several)
  column <- if (inherits(slice, "formula") && length(slice) == 2) all.vars(slice)
  if (length(column) != 1) {
    stop_input(
      "`slice` must be a formula with one column on its right side.",
      paste0("Given: ", describe_value(slice), "."),
      "For example slice = ~ shift."
    )
  }
  out <- lapply(unname(several), function(on) {
    if (on$label %in% c("train", "oob")) {
      stop_input(
        "Slices are for rows the model has not seen.",
        todo = "Use rows = \"holdout\", or data frames of other rows."
      )
    }
    check_columns(on$data, column, "rows", "The column of `slice`")
    of <- as.character(on$data[[column]])
    of[is.na(of)] <- "missing"
    values <- union(
      as.character(sort(unique(on$data[[column]]))), if ("missing" %in% of) "missing"
    )
    if (length(values) > 50) {
      stop_input(
        paste0(
          "Column \"", column, "\" has ", length(values), " values, too many for slices."
        ),
        todo = "Cut it into a few, in a column of its own."
      )
    }
    lapply(values, function(v) {
      list(data = on$data[of == v, , drop = FALSE], label = on$label, slice = v)
    })
  })
  unlist(out, recursive = FALSE)
}

# Why a method does not apply to a model; "" where it does.
why_not <- function(method, model, st, background = NULL) {
  needs_train <- method != "permutation" &&
    !(method == "shapley" && is.data.frame(background))
  if (needs_train && is.null(st$train)) {
    "no training rows were given"
  } else if (method %in% c("impurity", "structure") && is.null(model$forest)) {
    "it has no trees"
  } else if (method == "coefficient" && is.null(model$linear)) {
    "it has no coefficients"
  } else {
    ""
  }
}
