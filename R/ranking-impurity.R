#' Rank predictors by impurity importance
#'
#' How much do the splits on a predictor make the nodes of the trees purer: on the rows the trees
#' were grown on, and on rows they have not seen? Computed by sending rows through the model's
#' trees; nothing stored in the model is used.
#'
#' @inheritParams rank_permutation
#' @param rows Some of `"train"` (the classical form, on the training rows), `"oob"` (each tree's
#'   rows that were not drawn for it; needs a bagged forest that keeps its in-bag counts, ranger:
#'   `keep.inbag = TRUE`) and `"holdout"` (the study's holdout rows). Default: `"train"`, and
#'   `"oob"` where the counts are there. Both side by side show what is split-selection bias.
#' @param form For rows not seen, forests and single trees: `"covariance"` (default) or `"gain"`.
#' @param groups `NULL` (default): each predictor by itself; or `"family"`: predictors of one
#'   family of the dictionary are ranked as one, tree by tree.
#' @param correct TRUE: instead, subtract from the classical form the importance of permuted
#'   copies of the predictors, added to them in refits.
#' @param refits Number of refits for `correct`.
#' @return A [ranking]. `importance` is the mean over trees, in squared units of the target, or of
#'   the Gini impurity; columns `form` and `rows` say which variants there are: `plain` (all
#'   training rows), `in-bag` (each tree's own rows), `covariance` or `gain` on `oob` and
#'   `holdout` rows, `corrected`, `stored`. `std_error` is the spread over trees over the root of
#'   their number: the Monte-Carlo error of the forest, not of the sample; `inference` is `rows`:
#'   no interval. Only for boosted trees on holdout rows it is the error of a mean over rows,
#'   `inference` is `model`, and there is an interval. A predictor with several encoded columns
#'   gets their sum; a column that stems from two predictors stands by itself, as `a & b`. With
#'   more than two classes there is a set of rows per class, and one with `class` `NA` for their
#'   sum. Flag `in-sample only`: at least half an even share in the bag, and nothing on rows not
#'   seen.
#' @details *Classical.* For a tree with in-bag weights, a split of node t into L and R decreases
#'   the impurity by
#'   \eqn{(N_t/N)[i(t) - (N_L/N_t)\, i(L) - (N_R/N_t)\, i(R)]}{(N_t/N)[i(t) - (N_L/N_t) i(L) -
#'   (N_R/N_t) i(R)]}, i the variance or \eqn{\sum_k p_k(1-p_k)}{sum p(1-p)} (Breiman, Friedman,
#'   Olshen and Stone 1984), averaged over trees. Where in-bag counts are not kept every training
#'   row counts once in every tree. Primary splits count; surrogate splits only route. It is
#'   positive for pure noise, and more so for predictors with many distinct values (Strobl et al.
#'   2007).
#'
#' *Covariance*, on rows O not seen by the tree: \eqn{\frac{1}{|O|}\sum_{i \in O}(\mu_{c(i)} -
#' \mu_t)(y_i - \mu_{root})}{mean over O of (mu_child - mu_t)(y - mu_root)}, means \eqn{\mu} from
#' the bag (Li et al. 2019, centred at the root). Its mean is about 0 for noise; it may be
#' negative and is shown so.
#'
#' *Gain*: \eqn{\frac{1}{|O|}\sum_{i \in O}[(y_i-\mu_t)^2 - (y_i-\mu_{c(i)})^2]}{mean over O of (y
#' - mu_t)^2 - (y - mu_child)^2}. It adds up, over predictors, to the tree's gain over its root on
#' these rows; splits on noise cost and are negative.
#'
#' *Corrected*: the classical value less that of the predictor's own permuted copy, over `refits`
#' refits with all copies added (Sandri and Zuccolotto 2008; Nembrini, Koenig and Wright 2018).
#'
#' *Boosted trees* (gbm, xgboost, lightgbm): the gain of every split on the gradients of its
#' round, recomputed by sending all training rows through the rounds in order, summed over trees:
#' \eqn{G_L^2/(H_L+\lambda) + G_R^2/(H_R+\lambda) -
#' (G_L+G_R)^2/(H_L+H_R+\lambda)}{G_L^2/(H_L+lambda) + G_R^2/(H_R+lambda) -
#' (G_L+G_R)^2/(H_L+H_R+lambda)} (Chen and Guestrin 2016; xgboost, lightgbm), or with H the number
#' of rows and no penalty (Friedman 2001; gbm). Beside it, as form `stored`, what the
#' library stored. Where every row was used the two must agree, with the study's weights or
#' without, else only the stored gain is given: row weights that the study does not know, bounds on
#' the direction of effects, losses of the user's and branches of their own for missing values
#' change it. Where rows were drawn for each tree the two differ: the stored gain comes first, and
#' the recomputed one, of all rows, has the flag `rows drawn`; it is given if the trees' sums of
#' second derivatives are the drawn share of the rows'. Losses without a recomputation have the
#' stored form only. On holdout rows: every split's fall of the loss
#' (squared error, log loss, half the Poisson deviance) of the rows that pass it,
#' \eqn{\frac{1}{|O|}\sum_m\sum_{i \in O}[\ell(y_i, F_{m-1}+v_t) - \ell(y_i,
#' F_{m-1}+v_{c(i)})]}{mean over O of the sum over trees of l(y, F + v_t) - l(y, F + v_child)}, F
#' the sum of all trees before and v a node's mean of the leaves below it over the training rows.
#' Over a tree it adds up to the fall from root to leaf; splits on noise cost and are negative.
#' Steps of shrunken trees start far from the target, so the first rounds make the intervals wide.
#' @section Errors: No training rows; training rows that are not those of the in-bag counts; no
#'   tree model among `models`; `"oob"` without in-bag counts.
#' @references Breiman, L., Friedman, J., Olshen, R. and Stone, C. (1984). Classification and
#'   regression trees. \doi{10.1201/9781315139470}.
#'   Chen, T. and Guestrin, C. (2016). \doi{10.1145/2939672.2939785}. Friedman, J. (2001).
#'   \doi{10.1214/aos/1013203451}.
#'   Li, X., Wang, Y., Basu, S., Kumbier, K. and Yu, B. (2019). A debiased MDI feature importance
#'   measure for random forests. \doi{10.48550/arXiv.1906.10845}.
#'   Nembrini, S., Koenig, I. and Wright, M. (2018). \doi{10.1093/bioinformatics/bty373}.
#'   Sandri, M. and Zuccolotto, P. (2008). \doi{10.1198/106186008X344522}.
#'   Strobl, C., Boulesteix, A.-L., Zeileis, A. and Hothorn, T. (2007).
#'   \doi{10.1186/1471-2105-8-25}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rank_impurity(st, rows = c("train", "holdout"))
#' @export
rank_impurity <- function(
    study, ..., models = NULL, rows = NULL, form = "covariance", groups = NULL,
    correct = FALSE, refits = 3, level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "rank_impurity", ..., threads = threads)
  need_train(st, "Impurity importance")
  if (!is.null(rows)) {
    rows <- check_choice(rows, c("train", "oob", "holdout"), "rows", several = TRUE)
  }
  form <- check_choice(form, c("covariance", "gain"), "form")
  groups <- check_families(groups)
  level <- check_fraction(level, "level")
  check_flag(correct, "correct")
  refits <- check_count(refits, "refits")
  seed <- check_seed(seed)
  if (correct && !is.null(rows) && !identical(rows, "train")) {
    stop_input(
      paste0(
        "`correct = TRUE` takes off from the classical form, which is that of `rows = ",
        "\"train\"`."
      ),
      todo = "Leave `rows` out."
    )
  }
  chosen <- with_trees(st, models, "Impurity importance")
  silent <- names(chosen$models)[vapply(chosen$models, hides_gains, NA)]
  # alone, they are refused with the way out
  if (length(silent) == length(chosen$models)) silent <- character()
  parts <- lapply(chosen$models[setdiff(names(chosen$models), silent)], function(m) {
    units <- tree_units(st, m, groups)
    if (!is.null(m$forest$boosted)) {
      rank_boosted(m, st, rows, correct, units, level)
    } else if (correct) {
      correct_model(m, st, units, refits, seed)
    } else {
      rank_by_nodes(m, st, rows, form, units)
    }
  })
  join_parts(
    st,
    parts,
    if (correct) seed else NA_integer_,
    level,
    left_out = rbind(
      leave_out("impurity", chosen$without, chosen$why),
      leave_out(
        "impurity", silent, vapply(chosen$models[silent], why_no_gains, "", USE.NAMES = FALSE)
      ),
      leave_out_members("impurity", chosen$models)
    )
  )
}

rank_by_nodes <- function(model, st, rows, form, units) {
  counts <- counts_of(model, st)
  bagged <- length(counts) > 0 && any(counts == 0)
  if (is.null(rows)) rows <- c("train", if (bagged) "oob")
  if ("oob" %in% rows && !bagged) {
    stop_study(
      paste0(
        "Model \"", model$name,
        "\" keeps no in-bag counts, or left no row out: which rows a tree has not seen ",
        "is not known."
      ),
      todo = paste0(
        "Train it with the counts kept (ranger: keep.inbag = TRUE), or use rows = ",
        "\"holdout\"."
      )
    )
  }
  routed <- lapply(setdiff(rows, "train"), function(r) {
    route_impurity(model, st, counts, r)
  })
  names(routed) <- setdiff(rows, "train")
  classical <- if (length(routed)) {
    routed[[1]]
  } else {
    route_impurity(model, st, counts, "train")
  }
  flags <- flags_of_names(
    st,
    model,
    names(units),
    flag_in_bag_only(classical$classical, lapply(routed, `[[`, "covariance"), units)
  )
  parts <- list()
  if ("train" %in% rows) {
    parts$train <- impurity_part(
      model, st, on_train, if (length(counts)) "in-bag" else "plain",
      classical[c("classical", "weight")], flags, units
    )
  }
  for (r in names(routed)) {
    parts[[r]] <- impurity_part(
      model, st, list(label = r, kind = r), form, routed[[r]][c(form, "held_weight")],
      flags, units
    )
  }
  join_parts(st, parts, NA_integer_, NA_real_)
}

route_impurity <- function(model, st, counts, held) {
  encode <- function(data, arg) {
    encode_for_forest(model$forest, model_rows(st, model, data, arg))
  }
  aside <- if (held == "holdout") st$data else st$train[0, , drop = FALSE]
  forest_impurity(
    model$forest,
    encode(st$train, "train"),
    target_columns(st, st$train),
    counts,
    match(held, c("train", "oob", "holdout")) - 1L,
    if (held == "holdout") {
      encode(aside, "data")
    } else {
      matrix(0, 0, model$forest$n_columns)
    },
    target_columns(st, aside),
    st$threads
  )
}

# Half an even share in the bag, and nothing on the rows not seen: likely a bias of split selection.
flag_in_bag_only <- function(classical, held, units) {
  if (!length(held)) return(rep("", length(units)))
  total <- function(cube) rowMeans(sum_units(apply(cube, c(1, 3), sum), units))
  in_bag_only(total(classical), total(held[[1]]))
}

# found: list(cube of columns x classes x trees, weight of the trees). Trees without rows are left
# out of the mean, and counted.
impurity_part <- function(model, st, evaluation, form, found, flags, units) {
  cube <- found[[1]]
  use <- found[[2]] > 0
  what <- if (st$task == "regression") "variance" else "Gini impurity"
  settings <- new_settings(
    model,
    "impurity",
    evaluation,
    if (evaluation$kind == "holdout") nrow(st$data) else nrow(st$train),
    form = form,
    measures = switch(
      form,
      covariance = "covariance with the target",
      gain = "gain over the root",
      paste0("decrease of ", what)
    ),
    note = if (any(!use)) paste0(sum(!use), " trees without such rows") else ""
  )
  describe <- function(per_tree, class) {
    per_tree <- sum_units(matrix(per_tree, ncol = sum(use)), units)
    several <- sum(use) > 1
    ranking_rows(
      st,
      settings,
      names(units),
      rowMeans(per_tree),
      std_error = if (several) apply(per_tree, 1, stats::sd) / sqrt(sum(use)) else NA_real_,
      inference = "rows",
      class = class,
      flag = flags
    )
  }
  cube <- cube[, , use, drop = FALSE]
  tables <- list(describe(apply(cube, c(1, 3), sum), NA_character_))
  if (dim(cube)[2] > 2) {
    tables <- c(
      tables,
      lapply(seq_along(st$classes), function(k) describe(cube[, k, ], st$classes[k]))
    )
  }
  ranking_part(st, do.call(rbind, tables), settings, NA_integer_, NA_real_)
}

# The classical form less that of permuted copies, over refits with all copies added.
correct_model <- function(model, st, units, refits, seed) {
  refuse_shared_columns(model)
  predictors <- model$inputs$predictors
  origin <- forest_origin(model)
  members <- lapply(units, function(at) unique(origin[at]))
  differences <- vapply(
    seq_len(refits),
    function(b) {
      drawn <- list(
        copies = with_stream(
          seed, c("decoys", b), draw_copies(predictors, nrow(st$train))
        ),
        order = function(names) with_stream(seed, c("decoy order", b), sample(names))
      )
      inside <- refit_beside_copies(
        st, model, predictors, drawn, NULL, seed, c("decoys", b), scale = FALSE
      )
      refit <- inside$models[[1]]
      routed <- route_impurity(refit, inside, counts_of(refit, inside), "train")
      decrease <- rowMeans(apply(
        routed$classical[, , routed$weight > 0, drop = FALSE], c(1, 3), sum
      ))
      from <- forest_origin(refit)
      value <- function(names) {
        at <- which(from %in% names)
        sum(decrease[at[order(match(from[at], names))]])
      }
      copy_of <- stats::setNames(decoy_columns(predictors), predictors)
      vapply(members, function(p) value(p) - value(copy_of[p]), 0)
    },
    double(length(units))
  )
  differences <- matrix(differences, length(units))
  std_error <- if (refits > 1) {
    apply(differences, 1, stats::sd) / sqrt(refits)
  } else {
    NA_real_
  }
  settings <- new_settings(
    model,
    "impurity",
    on_train,
    nrow(st$train),
    form = "corrected",
    repeats = refits,
    measures = "decrease less that of permuted copies"
  )
  table <- ranking_rows(
    st,
    settings,
    names(units),
    rowMeans(differences),
    std_error = std_error,
    inference = "learner",
    flag = flags_of_names(st, model, names(units))
  )
  ranking_part(st, table, settings, seed, NA_real_)
}

refuse_shared_columns <- function(model) {
  if (!isTRUE(model$forest$shared)) return(invisible())
  stop_study(
    paste0(
      "Model \"", model$name,
      "\" splits on columns that stem from two predictors, for which a permuted copy ",
      "is not defined."
    ),
    todo = "Use correct = FALSE."
  )
}

impurity_record <- function() {
  list(
    name = "impurity",
    of_splits = TRUE,
    label = "Impurity",
    colour = "#A8742A",
    usual_forms = c("plain", "in-bag", "covariance", "gain"),
    usual_rows = "train",
    needs = c("train", "trees"),
    floor = TRUE,
    why_not = function(model, st, settings) {
      if (hides_gains(model)) why_no_gains(model) else ""
    },
    rank = function(st, model, evaluation, settings) rank_impurity(st, models = model)
  )
}
