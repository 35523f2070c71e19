#' Rank predictors by the structure of the trees
#'
#' How often, how early and for how many rows do the trees of a model ask for a predictor?
#'
#' @inheritParams rank_permutation
#' @param form What `importance` counts: `"rows"` (default), how often a row is asked about the
#'   predictor on its way down a tree; `"splits"`, the number of splits per tree; `"depth"`, how
#'   early it is asked first, as the mean over trees of 1 / (1 + depth), 0 for trees that never
#'   ask; `"trees"`, the share of trees that ask.
#' @return A [ranking] of method `structure`; `inference` is `rows`. Entry `statistics` of its
#'   [details][ranking_details()] holds, per model, a data frame with all four per predictor:
#'   `splits`, `rows`, `depth` (mean depth of the first use in the trees that ask, the root at 0,
#'   `NA` if none does) and `trees`.
#' @details Rows are the training rows, with in-bag counts where they are kept. These are
#'   descriptions of the trees, not of what a predictor is worth: many-valued predictors are
#'   asked more often even when they do nothing (Strobl et al. 2007).
#' @references Strobl, C., Boulesteix, A.-L., Zeileis, A. and Hothorn, T. (2007).
#'   \doi{10.1186/1471-2105-8-25}.
#'   Ishwaran, H., Kogalur, U., Gorodeski, E., Minn, A. and Lauer, M. (2010). High-dimensional
#'   variable selection for survival data (depth of first use). \doi{10.1198/jasa.2009.tm08622}.
#' @section Errors: No training rows; no tree model among `models`.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' rank_structure(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
rank_structure <- function(study, ..., models = NULL, form = "rows", threads = NULL) {
  st <- open_ranking(study, "rank_structure", ..., threads = threads)
  need_train(st, "Ranking by structure")
  form <- check_choice(form, c("rows", "splits", "depth", "trees"), "form")
  chosen <- with_trees(st, models, "Ranking by structure")
  parts <- lapply(chosen$models, survey_model, st = st, form = form)
  join_parts(
    st,
    parts,
    NA_integer_,
    NA_real_,
    left_out = rbind(
      leave_out("structure", chosen$without, chosen$why),
      leave_out_members("structure", chosen$models)
    )
  )
}

survey_model <- function(model, st, form) {
  use <- forest_use(
    model$forest,
    encode_for_forest(model$forest, model_rows(st, model, st$train, "train")),
    counts_of(model, st),
    st$threads
  )
  units <- tree_units(st, model, NULL)
  first <- first_use(use$depth, units)
  splits <- sum_units(use$splits, units)
  passing <- sum_units(use$passing, units)
  per_tree <- switch(
    form,
    rows = passing,
    splits = splits,
    depth = 1 / (1 + first),
    trees = is.finite(first) + 0
  )
  std_error <- if (ncol(per_tree) > 1) {
    apply(per_tree, 1, stats::sd) / sqrt(ncol(per_tree))
  } else {
    NA_real_
  }
  settings <- new_settings(
    model,
    "structure",
    on_train,
    nrow(st$train),
    form = form,
    measures = c(
      rows = "splits passed per row and tree", splits = "splits per tree",
      depth = "earliness of first use", trees = "share of trees"
    )[[form]]
  )
  table <- ranking_rows(
    st,
    settings,
    names(units),
    rowMeans(per_tree),
    std_error = std_error,
    inference = "rows",
    flag = flags_of_names(st, model, names(units))
  )
  depth <- rowMeans(ifelse(is.finite(first), first, NA), na.rm = TRUE)
  counted <- data.frame(
    predictor = names(units),
    splits = rowMeans(splits),
    rows = rowMeans(passing),
    depth = ifelse(is.nan(depth), NA, depth),
    trees = rowMeans(is.finite(first))
  )
  ranking_part(st, table, settings, NA_integer_, NA_real_, statistics = counted)
}

# Depth of the first use, units x trees; of several columns the first counts, Inf where none is
# used.
first_use <- function(depth, units) {
  first <- ifelse(depth < 0, Inf, depth)
  one <- function(at) {
    if (length(at)) apply(first[at, , drop = FALSE], 2, min) else rep(Inf, ncol(first))
  }
  matrix(vapply(units, one, double(ncol(first))), length(units), byrow = TRUE)
}

structure_record <- function() {
  list(
    name = "structure",
    of_splits = TRUE,
    label = "Structure",
    usual_forms = c("rows", "splits", "depth", "trees"),
    needs = c("train", "trees"),
    rank = function(st, model, evaluation, settings) rank_structure(st, models = model)
  )
}
