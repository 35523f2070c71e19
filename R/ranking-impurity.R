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
#' @param unit `"predictor"` (default), or `"family"`: predictors of one family of the dictionary
#'   are ranked as one, tree by tree.
#' @param correct TRUE: instead, take off from the classical form what permuted copies of the
#'   predictors earn when they are added and the model is trained again.
#' @param refits Number of refits for `correct`.
#' @return A [ranking]. `importance` is the mean over trees, in squared units of the target, or of
#'   the Gini impurity; column `rows` tells the forms apart (`train`, `train in-bag`, `oob`,
#'   `holdout`, `train corrected`, `train stored`). `std_error` is the spread over trees over the
#'   root of their number: the Monte-Carlo error of the forest, not of the sample; `about` is
#'   `rows`: no interval. Only for boosted trees on holdout rows it is the error of a mean over
#'   rows, `about` is `model`, and there is an interval. A predictor with several encoded columns
#'   gets their sum; a column that stems from two predictors stands by itself, as `a & b`. With
#'   more than two classes there is a set of rows per class, and one with `class` `NA` for their
#'   sum. Flag `in-bag only`: at least half an even share in the bag, and nothing on rows not
#'   seen.
#' @details *Classical.* For a tree with in-bag weights, a split of node t into L and R earns
#'   \eqn{(N_t/N)[i(t) - (N_L/N_t)\, i(L) - (N_R/N_t)\, i(R)]}{(N_t/N)[i(t) - (N_L/N_t) i(L) -
#'   (N_R/N_t) i(R)]}, i the variance or \eqn{\sum_k p_k(1-p_k)}{sum p(1-p)} (Breiman, Friedman,
#'   Olshen and Stone 1984), averaged over trees. Where in-bag counts are not kept every training
#'   row counts once in every tree. Primary splits earn; surrogate splits only route. It is
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
#' of rows and no penalty (Friedman 2001; gbm). Beside it, as `rows` `train stored`, what the
#' library stored; the two differ where rows were sampled for each tree. Losses without a
#' recomputation have the stored form only. On holdout rows: every split's fall of the loss
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
    study, ..., models = NULL, rows = NULL, form = "covariance", unit = "predictor",
    correct = FALSE, refits = 3, level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "rank_impurity", ..., threads = threads)
  need_train(st, "Impurity importance")
  if (!is.null(rows)) {
    rows <- check_choice(rows, c("train", "oob", "holdout"), "rows", several = TRUE)
  }
  form <- check_choice(form, c("covariance", "gain"), "form")
  unit <- check_choice(unit, c("predictor", "family"), "unit")
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
  parts <- lapply(chosen$models, function(m) {
    units <- tree_units(st, m, unit)
    if (!is.null(m$forest$boosted)) {
      regain_model(m, st, rows, correct, units, level)
    } else if (correct) {
      correct_model(m, st, units, refits, seed)
    } else {
      purify_model(m, st, rows, form, units)
    }
  })
  bind_rankings(
    st,
    parts,
    if (correct) seed else NA_integer_,
    level,
    left_out = leave_out("impurity", chosen$without, "it has no trees")
  )
}

# The models among those named that have trees, and the names of those that have none.
with_trees <- function(st, models, what) {
  models <- pick_models(st, models)
  treeless <- vapply(models, function(m) is.null(m$forest), NA)
  if (all(treeless)) {
    stop_study(
      paste0(
        what, " needs trees; none of these models has any: ", quote_some(names(models)),
        "."
      ),
      todo = "Rank them by permutation or Shapley importance."
    )
  }
  list(models = models[!treeless], without = names(models)[treeless])
}

leave_out <- function(method, models, why) {
  if (!length(models)) return(NULL)
  data.frame(model = models, method = method, why = why)
}

# The target as columns: the number itself, or one 0/1 column per class.
target_columns <- function(st, data) {
  y <- data[[st$target]]
  if (st$task == "regression") {
    matrix(y, ncol = 1)
  } else {
    outer(as.integer(y), seq_along(st$classes), "==") + 0
  }
}

# In-bag counts (rows x trees) that belong to these training rows, or 0 x 0.
counts_of <- function(model, st) {
  counts <- model$forest$inbag
  if (is.null(counts)) return(matrix(0L, 0, 0))
  if (nrow(counts) != nrow(st$train)) {
    stop_study(
      paste0(
        "`train` has ", nrow(st$train), " rows, but model \"", model$name,
        "\" was trained on ", nrow(counts), "."
      ),
      todo = "Give the training rows as they were, in the same order."
    )
  }
  counts
}

# What the rows of a ranking by trees stand for: names, each with the forest's columns it sums. A
# predictor may have several encoded columns; columns of two predictors stand by themselves.
tree_units <- function(st, model, unit) {
  f <- model$forest
  origin <- if (is.null(f$origin)) f$columns else f$origin
  names <- union(model$inputs$predictors, origin[!is.na(origin)])
  units <- lapply(stats::setNames(nm = names), function(u) which(origin %in% u))
  family <- st$dictionary$family[match(names, st$dictionary$predictor)]
  if (unit == "predictor" || all(is.na(family))) return(units)
  key <- ifelse(is.na(family), paste0("p", names), paste0("f", family))
  joint <- lapply(split(units, factor(key, unique(key))), unlist)
  stats::setNames(lapply(joint, unname), substring(names(joint), 2))
}

# x: forest columns x anything. -> units x anything.
sum_units <- function(x, units) {
  matrix(
    vapply(units, function(at) colSums(x[at, , drop = FALSE]), double(ncol(x))),
    length(units),
    byrow = TRUE
  )
}

unit_flags <- function(st, model, units, more = rep("", length(units))) {
  own <- unname(st$flags$predictors[names(units)])
  join_flags(
    ifelse(is.na(own), "", own), rep(st$flags$models[[model$name]], length(units)), more
  )
}

purify_model <- function(model, st, rows, form, units) {
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
  in_bag <- if (length(counts)) "train in-bag" else "train"
  flags <- unit_flags(
    st,
    model,
    units,
    flag_in_bag_only(classical$classical, lapply(routed, `[[`, "covariance"), units)
  )
  parts <- list()
  if ("train" %in% rows) {
    parts$train <- impurity_part(
      model, st, in_bag, classical$classical, classical$weight, nrow(st$train), "", flags,
      units
    )
  }
  for (r in names(routed)) {
    n <- if (r == "oob") nrow(st$train) else nrow(st$data)
    parts[[r]] <- impurity_part(
      model, st, r, routed[[r]][[form]], routed[[r]]$held_weight, n, form, flags, units
    )
  }
  bind_rankings(st, parts, NA_integer_, NA_real_)
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

in_bag_only <- function(seen, unseen) {
  ifelse(seen >= sum(seen) / (2 * length(seen)) & unseen <= 0, "in-bag only", "")
}

# cube: columns x classes x trees. Trees without rows are left out of the mean, and counted.
impurity_part <- function(model, st, rows, cube, weight, n, form, flags, units) {
  use <- weight > 0
  describe <- function(per_tree, class) {
    per_tree <- sum_units(matrix(per_tree, ncol = sum(use)), units)
    ranking_rows(
      st,
      model,
      "impurity",
      rows,
      names(units),
      rowMeans(per_tree),
      std_error = if (sum(use) > 1) {
        apply(per_tree, 1, stats::sd) / sqrt(sum(use))
      } else {
        NA_real_
      },
      about = "rows",
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
  what <- if (st$task == "regression") "variance" else "Gini impurity"
  measures <- if (form == "covariance") {
    "covariance with the target"
  } else if (form == "gain") {
    "gain over the root"
  } else {
    paste0("decrease of ", what)
  }
  note <- if (any(!use)) paste0(sum(!use), " trees without such rows") else ""
  new_ranking(
    st,
    do.call(rbind, tables),
    new_settings(model, "impurity", rows, n, measures = measures, note = note),
    list(),
    NA_integer_,
    NA_real_
  )
}

boosting_losses <- c("squared", "logistic", "poisson", "softmax")

# Boosted trees: the gain of each split on the gradients of its round, recomputed from the training
# rows, and beside it what the library stored; or what the splits were worth on the holdout rows.
regain_model <- function(model, st, rows, correct, units, level) {
  f <- model$forest
  boosting <- f$boosted
  if (correct || "oob" %in% rows || ("holdout" %in% rows && is.na(boosting$loss))) {
    stop_study(
      paste0(
        "The trees of model \"", model$name, "\" are boosted: ",
        if (correct || "oob" %in% rows) {
          paste0(
            "impurity importance is their gain on the training rows or their worth on ",
            "the holdout rows"
          )
        } else {
          "what its splits are worth on the holdout rows is not defined for its loss"
        },
        "."
      ),
      todo = "Use rows = \"train\", or rank the model by permutation."
    )
  }
  if (is.null(rows)) rows <- "train"
  gain <- if (!is.na(boosting$loss) && !isFALSE(boosting$known)) recompute_gain(model, st)
  held <- if ("holdout" %in% rows) hold_out_gain(model, st, units)
  groups <- boosting$group + 1L
  stored <- stored_gain(f)
  flags <- unit_flags(
    st,
    model,
    units,
    if (is.null(held)) {
      rep("", length(units))
    } else {
      in_bag_only(
        rowSums(sum_units(if (is.null(gain)) stored else gain, units)), held$sum[, 1]
      )
    }
  )
  part <- function(rows, measures, describe, n) {
    classes <- if (max(groups) > 1) seq_along(model$classes)
    tables <- c(
      list(describe(NULL, NA_character_)),
      lapply(classes, function(k) describe(k, model$classes[k]))
    )
    new_ranking(
      st,
      do.call(rbind, tables),
      new_settings(model, "impurity", rows, n, measures = measures),
      list(),
      NA_integer_,
      level
    )
  }
  summed <- function(gain, rows) {
    function(k, class) {
      of <- if (is.null(k)) rep(TRUE, length(groups)) else groups == k
      ranking_rows(
        st,
        model,
        "impurity",
        rows,
        names(units),
        rowSums(sum_units(gain[, of, drop = FALSE], units)),
        about = "rows",
        class = class,
        flag = flags
      )
    }
  }
  parts <- list()
  if ("train" %in% rows) {
    if (!is.null(gain)) {
      parts$train <- part(
        "train",
        if (boosting$second_order) {
          "gain, recomputed"
        } else {
          "squared improvement, recomputed"
        },
        summed(gain, "train"),
        nrow(st$train)
      )
    }
    parts$stored <- part(
      "train stored", boosting$stored, summed(stored, "train stored"), nrow(st$train)
    )
  }
  if (!is.null(held)) {
    parts$holdout <- part(
      "holdout",
      "fall of the loss over the splits",
      function(k, class) {
        of <- if (is.null(k)) 1L else k + 1L
        n <- nrow(st$data)
        worth <- held$sum[, of] / n
        std_error <- sqrt(pmax(held$square[, of] / n - worth^2, 0) / (n - 1))
        limits <- t_limits(worth, std_error, n - 1, level)
        ranking_rows(
          st, model, "impurity", "holdout", names(units), worth, std_error, limits$lower,
          limits$upper, about = "model", class = class, flag = flags
        )
      },
      nrow(st$data)
    )
  }
  bind_rankings(st, parts, NA_integer_, level)
}

# The target as the losses want it: a number, 0/1, or a class number from 0.
boosting_target <- function(model, st, data) {
  as.double(if (st$task == "regression") {
    data[[st$target]]
  } else {
    match(as.character(data[[st$target]]), model$classes) - 1
  })
}

# columns x trees
recompute_gain <- function(model, st) {
  f <- model$forest
  b <- f$boosted
  forest_regain(
    f,
    encode_for_forest(f, model_rows(st, model, st$train, "train")),
    boosting_target(model, st, st$train),
    match(b$loss, boosting_losses) - 1L,
    b$second_order,
    b$lambda,
    b$most_step,
    f$single,
    if (is.null(b$curve)) 2 else b$curve,
    boosting_start(model, st),
    as.integer(b$round),
    as.integer(b$group),
    st$threads
  )
}

stored_gain <- function(f) {
  tree <- findInterval(seq_along(f$column) - 1L, f$root)
  out <- matrix(0, length(f$columns), length(f$root))
  asks <- which(f$column >= 0)
  at <- cbind(f$column[asks] + 1L, tree[asks])
  summed <- rowsum(f$boosted$gain[asks], at[, 1] + (at[, 2] - 1) * nrow(out))
  out[as.integer(rownames(summed))] <- summed
  out
}

# What the splits of each unit were worth on the holdout rows, in class k (1: together), as a mean
# over rows.
hold_out_gain <- function(model, st, units) {
  f <- model$forest
  encode <- function(data, arg) encode_for_forest(f, model_rows(st, model, data, arg))
  unit_of <- integer(length(f$columns)) - 1L
  for (u in seq_along(units)) unit_of[units[[u]]] <- u - 1L
  forest_held_gain(
    f,
    encode(st$train, "train"),
    encode(st$data, "data"),
    boosting_target(model, st, st$data),
    match(f$boosted$loss, boosting_losses) - 1L,
    as.integer(f$boosted$group),
    unit_of,
    length(units),
    st$threads
  )
}

# Libraries that start from the average write it into the first round's trees, not beside them.
boosting_start <- function(model, st) {
  f <- model$forest
  if (!isTRUE(f$boosted$from_average)) return(double(length(f$base)))
  if (st$task == "regression") return(mean(st$train[[st$target]]))
  share <- tabulate(
    match(as.character(st$train[[st$target]]), model$classes), length(model$classes)
  ) / nrow(st$train)
  if (f$link == "logit") stats::qlogis(share[2]) / f$stretch else log(pmax(share, 1e-15))
}

# The classical form less that of permuted copies, over refits with all copies added.
correct_model <- function(model, st, units, refits, seed) {
  differences <- vapply(
    seq_len(refits),
    function(b) {
      beside <- add_decoys(model, st, seed, b)
      fit <- fit_on(st, beside$model, beside$data, beside$columns, seed, c("decoys", b))
      inside <- st
      inside$train <- inside$data <- beside$data
      inside$asked <- beside$columns
      refit <- open_model(inside, model$name, fit, if (!model$own_reader) model$predict)
      routed <- route_impurity(refit, inside, counts_of(refit, inside), "train")
      earned <- rowMeans(apply(
        routed$classical[, , routed$weight > 0, drop = FALSE], c(1, 3), sum
      ))
      value <- function(columns) {
        sum(earned[match(columns, refit$forest$columns)], na.rm = TRUE)
      }
      vapply(units, function(at) value(beside$real[at]) - value(beside$decoy[at]), 0)
    },
    double(length(units))
  )
  differences <- matrix(differences, length(units))
  std_error <- if (refits > 1) {
    apply(differences, 1, stats::sd) / sqrt(refits)
  } else {
    NA_real_
  }
  table <- ranking_rows(
    st,
    model,
    "impurity",
    "train corrected",
    names(units),
    rowMeans(differences),
    std_error = std_error,
    about = "learner",
    flag = unit_flags(st, model, units)
  )
  new_ranking(
    st,
    table,
    new_settings(
      model,
      "impurity",
      "train corrected",
      nrow(st$train),
      refits,
      "decrease less that of permuted copies"
    ),
    list(),
    seed,
    NA_real_
  )
}

# Per predictor the rows whose values its permuted copy takes; within strata (per predictor a
# number per row) where there are any.
draw_copies <- function(predictors, n, strata = NULL) {
  lapply(predictors, function(p) {
    if (is.null(strata)) return(sample.int(n))
    donor <- integer(n)
    for (rows in split(seq_len(n), strata[[p]])) donor[rows] <- rows[sample.int(length(rows))]
    donor
  })
}

# The training rows with a permuted copy of every predictor, in the columns the trees take in:
# list(data, model to fit, columns in random order, real and decoy name of each of the forest's
# columns).
add_decoys <- function(model, st, seed, b) {
  train <- training_frame(st, model)
  predictors <- model$inputs$predictors
  order <- with_stream(seed, c("decoys", b), draw_copies(predictors, nrow(train)))
  real <- model$forest$columns
  encoded <- inherits(model$object, "dreher_encoded")
  if (encoded && isTRUE(model$forest$shared)) {
    stop_study(
      paste0(
        "Model \"", model$name,
        "\" splits on columns that stem from two predictors, for which a permuted copy ",
        "is not defined."
      ),
      todo = "Use correct = FALSE."
    )
  }
  if (encoded && is.null(model$object$own)) {
    out <- encode_data(model$object, train)[real]
    copies <- lapply(seq_along(predictors), function(j) {
      shuffled <- train
      shuffled[[predictors[j]]] <- train[[predictors[j]]][order[[j]]]
      encode_data(model$object, shuffled)[real[model$forest$origin %in% predictors[j]]]
    })
    copies <- do.call(cbind, unname(copies))
    out[setdiff(real, names(copies))] <- NULL
    to_fit <- model
    to_fit$object <- model$object$engine
  } else {
    if (encoded) {
      stop_study(
        paste0(
          "Model \"", model$name,
          "\" is wrapped: copies of its predictors cannot be added to its formula."
        ),
        todo = "Give the engine itself, with `encode`."
      )
    }
    out <- train[predictors]
    copies <- stats::setNames(
      lapply(seq_along(predictors), function(j) train[[predictors[j]]][order[[j]]]),
      predictors
    )
    to_fit <- model
  }
  decoys <- make.unique(c(names(train), names(out), paste("decoy", names(copies))))[-seq_len(
      length(train) + length(out)
    )]
  decoy_of <- stats::setNames(decoys, names(copies))
  data <- cbind(out, stats::setNames(as.data.frame(copies, optional = TRUE), decoys))
  data[[st$target]] <- train[[st$target]]
  # In random order, so that nothing but the values tells a predictor from its copy.
  columns <- with_stream(seed, c("decoy order", b), sample(c(names(out), decoys)))
  list(
    data = data,
    model = to_fit,
    columns = columns,
    real = real,
    decoy = unname(decoy_of[real])
  )
}
