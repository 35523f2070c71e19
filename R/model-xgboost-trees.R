# From the trees of an xgboost document to the flat forest.

# The intercepts, one per output; later versions write them as a list in a text. Probabilities and
# means are put on the link's scale.
xgb_base <- function(learner, link, outputs = 1L) {
  given <- unlist(take(xgb_shape(learner), "base_score", "the model"))
  if (is.character(given)) given <- unlist(strsplit(gsub("[][ ]", "", given), ","))
  start <- suppressWarnings(as.double(given))
  if (!length(start) %in% c(1L, outputs) || anyNA(start)) {
    file_fault("`base_score` of the model does not hold one number, or one per output")
  }
  base <- suppressWarnings(switch(
    link, logit = stats::qlogis(start), log = log(start), start
  ))
  if (!all(is.finite(base))) {
    file_fault(
      "the base score ", paste(start, collapse = ", "), " does not fit the objective"
    )
  }
  rep_len(base, outputs)
}

# rounds: NULL for all. output: which target of several. params: the training's parameters, where
# known.
xgb_forest <- function(learner, inputs, rounds = NULL, output = 1L, params = NULL) {
  booster <- learner$gradient_booster
  dart <- booster$name == "dart"
  if (!booster$name %in% c("gbtree", "dart")) {
    file_fault("an unknown booster, ", booster$name)
  }
  content <- take_table(
    if (dart) take_table(booster, "gbtree", "the booster") else booster,
    "model",
    "the booster"
  )
  trees <- take_list(content, "trees", "the booster")
  if (!length(trees)) file_fault("it has no trees")
  link <- xgb_links[[xgb_objective(learner)]]
  targets <- xgb_targets(learner)
  K <- if (link == "softmax") length(xgb_classes(learner)) else targets
  shape <- take_table(content, "gbtree_model_param", "the booster")
  per_round <- K * max(1L, take_count(shape, "num_parallel_tree", "the booster"))
  group <- take_numbers(content, "tree_info", "the booster", length(trees), whole = TRUE)
  if (any(group < 0 | group >= K)) {
    file_fault("a tree adds to an output that is not there")
  }
  drop <- if (dart) {
    take_numbers(booster, "weight_drop", "the booster", length(trees))
  } else {
    rep(1, length(trees))
  }
  round <- (seq_along(trees) - 1L) %/% per_round
  kept <- if (is.null(rounds)) seq_along(trees) else which(round < rounds)
  if (targets > 1) kept <- kept[group[kept] == output - 1L]
  if (!length(kept)) file_fault("it has no trees for what was asked")
  single_output <- targets > 1 || K == 1
  if (single_output) group[] <- 0L
  columns <- inputs$predictors
  outputs <- if (single_output) 1L else K
  if (length(trees) < outputs) file_fault("it has fewer trees than classes")
  check_model_size(
    outputs,
    sum(lengths(lapply(trees[kept], function(t) {
      if (is.list(t)) t[["left_children"]]
    })))
  )
  read <- lapply(kept, function(t) {
    xgb_tree(trees[[t]], t, if (single_output) 1L else K, group[t] + 1L, length(columns))
  })
  # Categories count from 0; the last level, NA, stands for any other, which is in no node's set.
  most <- do.call(pmax, lapply(read, `[[`, "most"))
  check_kinds(read, most, columns)
  levels <- stats::setNames(
    lapply(seq_along(columns), function(j) {
      coded_levels(most[j], inputs$levels[[columns[j]]])
    }),
    columns
  )
  read <- lapply(read, fill_sets, size = ifelse(most >= 0, most + 2, 0))
  gain <- unlist(lapply(read, `[[`, "gain"))
  mass <- vapply(read, `[[`, 0, "mass")
  join_trees(
    read,
    drop[kept],
    columns,
    levels,
    base = output_bases(xgb_base(learner, link, K), single_output, targets, output),
    link = link,
    boosted = xgb_boosting(learner, dart, params, round[kept], group[kept], gain, mass),
    single = TRUE
  )
}

output_bases <- function(base, single_output, targets, output) {
  if (!single_output) base else if (targets > 1) base[output] else base[1]
}

# The levels of a column in the order of its codes, the largest code in use being `most`; names
# where the training rows have them.
coded_levels <- function(most, names = NULL) {
  if (most < 0) return(NULL)
  if (is.null(names)) return(c(seq_len(most + 1) - 1, NA))
  c(utils::head(c(names, paste("no level", seq_len(most + 1))), most + 1), NA)
}

# The gain can be recomputed where the parameters are known and rows weigh alike.
xgb_boosting <- function(learner, dart, params, round, group, gain, mass) {
  loss <- c(
    "reg:squarederror" = "squared", "binary:logistic" = "logistic",
    "count:poisson" = "poisson", "multi:softprob" = "softmax", "multi:softmax" = "softmax"
  )
  loss <- unname(loss[xgb_objective(learner)])
  alpha <- c(params$alpha, params$reg_alpha, 0)[1]
  tilted <- !isTRUE(all.equal(as.double(c(params$scale_pos_weight, 1)[1]), 1))
  # with dart, which trees were dropped is not known
  known <- !dart && !is.null(params) && alpha == 0 && !tilted
  most_step <- c(params$max_delta_step, if (identical(loss, "poisson")) 0.7 else 0)[1]
  list(
    loss = loss,
    known = known,
    second_order = TRUE,
    lambda = as.double(c(params$lambda, params$reg_lambda, 1)[1]),
    most_step = as.double(most_step),
    curve = 2,
    round = match(round, unique(round)) - 1L,
    group = group,
    gain = gain,
    mass = mass,
    drawn = as.double(c(params$subsample, 1)[1]),
    stored = "stored gain"
  )
}

# Tree number t, adding to output k of K.
xgb_tree <- function(tree, t, K, k, n_columns) {
  where <- paste("tree", t)
  if (!is.list(tree)) file_fault(where, " is not a table")
  n <- length(take_numbers(tree, "left_children", where))
  if (n < 1) file_fault(where, " has no nodes")
  whole <- function(name) take_numbers(tree, name, where, n, whole = TRUE)
  left <- whole("left_children")
  right <- whole("right_children")
  leaf <- left < 0
  column <- whole("split_indices")
  if (any(!leaf & (column < 0 | column >= n_columns))) {
    file_fault(where, " asks a column that the model does not have")
  }
  kind <- if (is.null(tree[["split_type"]])) rep(0L, n) else whole("split_type")
  # Written with the digits of single precision: read back as the nearest single.
  cut <- round_single(take_numbers(tree, "split_conditions", where, n))
  by_set <- !leaf & kind == 1L
  if (anyNA(cut[!by_set])) {
    file_fault("a threshold or leaf of ", where, " is not a number")
  }
  sets <- xgb_sets(tree, where, by_set)
  value <- matrix(0, K, n)
  value[k, leaf] <- cut[leaf]
  out <- sort_tree(
    list(
      column = ifelse(leaf, -1L, column),
      threshold = ifelse(leaf | by_set, 0, just_below(cut)),
      left = ifelse(leaf, 0L, left),
      right = ifelse(leaf, 0L, right),
      missing = ifelse(leaf, 0L, ifelse(whole("default_left") == 1L, left, right)),
      value = value,
      gain = ifelse(leaf, 0, take_numbers(tree, "loss_changes", where, n)),
      set = sets
    ),
    where
  )
  out$most <- largest_category(out, n_columns)
  out$mass <- if (is.null(tree[["sum_hessian"]])) {
    NA_real_
  } else {
    take_numbers(tree, "sum_hessian", where, n)[1]
  }
  out
}

# Per column the largest category in any node's set, -1 where there are none.
largest_category <- function(tree, n_columns) {
  out <- rep(-1, n_columns)
  for (i in which(!vapply(tree$set, is.null, NA))) {
    out[tree$column[i] + 1L] <- max(out[tree$column[i] + 1L], tree$set[[i]])
  }
  out
}

# For each node the categories that go right; NULL where it asks a number.
xgb_sets <- function(tree, where, by_set) {
  sets <- vector("list", length(by_set))
  if (!any(by_set)) return(sets)
  nodes <- take_numbers(tree, "categories_nodes", where, whole = TRUE)
  from <- take_numbers(tree, "categories_segments", where, length(nodes), whole = TRUE)
  size <- take_numbers(tree, "categories_sizes", where, length(nodes), whole = TRUE)
  all <- take_numbers(tree, "categories", where, whole = TRUE)
  sound <- all(nodes >= 0 & nodes < length(by_set)) &&
    setequal(nodes + 1L, which(by_set)) &&
    all(from >= 0 & size >= 0 & from <= length(all) - size) && all(all >= 0 & all < 65536)
  if (!sound) file_fault("the categories of ", where, " do not fit its nodes")
  for (i in seq_along(nodes)) sets[[nodes[i] + 1L]] <- all[from[i] + seq_len(size[i])]
  sets
}

# From lists of categories that go right (numbers from 0) to the sides of all levels; size: levels
# per column.
fill_sets <- function(tree, size) {
  n <- length(tree$column)
  by_set <- which(tree$column >= 0L & !vapply(tree$set, is.null, NA))
  sides <- lapply(by_set, function(i) {
    side <- rep(-1L, size[tree$column[i] + 1L])
    side[tree$set[[i]] + 1L] <- 1L
    side
  })
  tree$set_from <- rep(-1L, n)
  tree$set_size <- rep(0L, n)
  tree$set_size[by_set] <- lengths(sides)
  tree$set_from[by_set] <- as.integer(cumsum(c(0L, lengths(sides)))[seq_along(sides)])
  tree$set_side <- as.integer(unlist(sides))
  tree
}
