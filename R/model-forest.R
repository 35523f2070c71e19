#' The flat forest: one structure for every tree model
#'
#' Every tree model is read into one list of nodes, on which prediction, impurity, permutation and
#' Shapley importance are computed. Authors of readers build it with `flat_forest()`; users never
#' need to.
#'
#' @param root Integer, for each tree the position of its root in the node list, from 0. The nodes
#'   of a tree stand together, its root first.
#' @param weight Double, for each tree the weight of its output in the sum (1 / number of trees
#'   for a mean).
#' @param column Integer, for each node the column it asks, from 0; -1 for a leaf.
#' @param threshold Double, for each node: values at or below go left.
#' @param left,right,missing Integer, for each node where a row goes next, from 0; each must stand
#'   later in the list. `missing` is for missing values; -1 means the row stays and takes this
#'   node's value.
#' @param value Double matrix, outputs x nodes: the answer of a row that ends here. Needed at
#'   leaves and where rows can stay.
#' @param owner Integer, for each node itself, or the node it stands in for (surrogate splits).
#' @param set_from,set_size,set_side For splits on factor levels: position in `set_side`
#'   (from 0, -1 for a split on a number), number of levels, and for each level -1 (left), 1
#'   (right) or 0 (as if missing).
#' @param columns,levels Names of the columns in the order of their numbers, and for factors the
#'   levels in the order of their codes (a named list).
#' @param base Double, added to each output.
#' @param link How the sum becomes a prediction: `"identity"`, `"logit"` (one output, the log-odds
#'   of the second class, times `stretch`), `"softmax"` (one output per class) or `"log"`.
#' @param stretch See `link`.
#' @param boosted For trees of which each was grown on what those before it left over: a list with
#'   `loss` (`"squared"`, `"logistic"`, `"poisson"`, `"softmax"` or `NA` for others), `known`
#'   (FALSE when the gain cannot be recomputed from what the model says), `second_order` (do
#'   second derivatives count), `lambda` (penalty on them), `most_step` (bound on a node's step, 0
#'   for none), `round` and `group` (for each tree its round and, from 0, the output it adds to)
#'   and `gain` (for each node what the library stored, 0 for leaves); if known also `mass` (for
#'   each tree the sum of second derivatives, or of weights, over the rows it was grown on) and
#'   `drawn` (share of the rows drawn for each tree). `NULL`: not boosted.
#' @param single TRUE: the library rounds values to single precision before it compares them with
#'   thresholds, and adds up in single precision.
#' @param inbag Integer matrix, training rows x trees: how often each row was drawn; `NULL` if not
#'   kept.
#' @return A list of class `dreher_forest` with these fields. A structure in which a row could get
#'   lost (a node that leads back or out of the list, a missing threshold) is an error of class
#'   `dreher_error_model`.
#' @examples
#' # One split: x <= 2 gives 10, else 20
#' f <- flat_forest(root = 0L, weight = 1, column = c(0L, -1L, -1L), threshold = c(2, 0, 0),
#'                  left = c(1L, 0L, 0L), right = c(2L, 0L, 0L), missing = c(2L, 0L, 0L),
#'                  value = matrix(c(15, 10, 20), 1), columns = "x")
#' f$columns
#' @export
flat_forest <- function(
    root, weight, column, threshold, left, right, missing, value, columns,
    levels = list(), owner = seq_along(column) - 1L, set_from = rep(-1L, length(column)),
    set_size = rep(0L, length(column)), set_side = integer(), base = rep(0, nrow(value)),
    inbag = NULL, link = "identity", stretch = 1, boosted = NULL, single = FALSE) {
  link <- check_choice(link, forest_links, "link")
  if (!is.matrix(value) || !is.numeric(value)) {
    stop_input(
      "`value` must be a matrix of numbers, outputs x nodes.",
      paste0("Given: ", describe_value(value), ".")
    )
  }
  check_nodes(
    list(
      column = column, threshold = threshold, left = left, right = right, missing = missing,
      owner = owner, set_from = set_from, set_size = set_size
    ),
    list(root = root, weight = weight, set_side = set_side, base = base, stretch = stretch),
    ncol(value), columns
  )
  forest <- structure(
    list(
      root = as.integer(root),
      weight = as.double(weight),
      column = as.integer(column),
      threshold = as.double(threshold),
      left = as.integer(left),
      right = as.integer(right),
      missing = as.integer(missing),
      value = value,
      owner = as.integer(owner),
      set_from = as.integer(set_from),
      set_size = as.integer(set_size),
      set_side = as.integer(set_side),
      base = as.double(base),
      n_columns = length(columns),
      columns = columns,
      levels = levels,
      inbag = inbag,
      link = link,
      stretch = as.double(stretch),
      boosted = boosted,
      single = single
    ),
    class = "dreher_forest"
  )
  fault <- forest_fault(forest)
  if (nzchar(fault$fault)) {
    stop_model(
      paste0("The trees of the model are not sound: ", fault$fault, "."),
      paste0("At tree or node ", fault$where, "."),
      "Use `predict_with = ` if the model itself predicts well."
    )
  }
  forest
}

# Arrays of the right kind and length, before anything is made of them. nodes: one entry each per
# node; others: of lengths of their own.
check_nodes <- function(nodes, others, values, columns) {
  numbers <- c(nodes, others)
  odd <- names(numbers)[!vapply(numbers, function(x) is.numeric(x) && is.null(dim(x)), NA)]
  if (length(odd)) {
    stop_input(
      paste0("`", odd[1], "` must be numbers."),
      paste0("Given: ", describe_value(numbers[[odd[1]]]), ".")
    )
  }
  whole <- setdiff(names(numbers), c("threshold", "weight", "base", "stretch"))
  gaps <- whole[vapply(numbers[whole], anyNA, NA)]
  if (length(gaps)) stop_input(paste0("`", gaps[1], "` has missing entries."))
  size <- lengths(nodes)
  if (length(unique(size)) > 1) {
    stop_input(
      "The arrays of nodes differ in length.",
      paste0(paste0("`", names(size), "` has ", size, collapse = ", "), ".")
    )
  }
  if (values != size[1]) {
    stop_input(
      "`value` must have a column for each node.",
      paste0("It has ", values, "; there are ", size[1], " nodes.")
    )
  }
  check_names(columns, "columns")
}

#' @export
print.dreher_forest <- function(x, ...) {
  writeLines(paste0(
    "<flat forest: ", length(x$root), if (length(x$root) == 1) " tree, " else " trees, ",
    length(x$column), " nodes, ", length(x$columns), " columns, ", nrow(x$value),
    " outputs>"
  ))
  invisible(x)
}

#' @rdname reader_parts
#' @param trees A list of trees, each a list of vectors with one entry per node, as in
#'   [flat_forest()]: `column`, `threshold`, `left`, `right`, `missing`, `value` (outputs x nodes),
#'   and where there are any `owner`, `set_from`, `set_size` and `set_side`. Positions count from 0
#'   within the tree, its root first.
#' @param weight Double, for each tree the weight of its output in the sum.
#' @param columns Names of the columns in the order of their numbers.
#' @param ... Further arguments of [flat_forest()]: `inbag`, `base`, `link`, `stretch`, `boosted`,
#'   `single`.
#' @export
join_trees <- function(trees, weight, columns, levels = list(), ...) {
  trees <- lapply(trees, fill_tree)
  field <- function(name) lapply(trees, `[[`, name)
  size <- lengths(field("column"))
  gather <- function(name) unlist(field(name), use.names = FALSE)
  all <- lapply(
    stats::setNames(
      nm = c(
        "column", "threshold", "left", "right", "missing", "owner", "set_size", "set_side"
      )
    ),
    gather
  )
  all$value <- matrix(gather("value"), nrow(trees[[1]]$value))
  sets <- lengths(field("set_side"))
  from <- gather("set_from")
  all$set_from <- ifelse(
    from < 0, -1, from + rep.int(cumsum(c(0, sets))[seq_along(sets)], size)
  )
  stack_trees(all, size, weight, columns, levels, ...)
}

# A tree without surrogates and questions about levels need not say so.
fill_tree <- function(tree) {
  n <- length(tree$column)
  usual <- list(
    owner = seq_len(n) - 1L, set_from = rep(-1L, n), set_size = rep(0L, n),
    set_side = integer()
  )
  c(tree, usual[setdiff(names(usual), names(tree))])
}

# Trees whose nodes stand behind each other already: of `size` nodes each, that
# count their successors from the tree's root, and their sets from the first.
stack_trees <- function(
    all, size, weight, columns, levels, inbag = NULL, base = NULL, link = "identity",
    stretch = 1, boosted = NULL, single = FALSE) {
  if (is.null(base)) base <- rep(0, nrow(all$value))
  if (is.null(all$set_side)) all$set_side <- integer()
  if (sum(as.double(size)) > 2^31 - 2) {
    stop_model(
      "The model has more nodes than can be counted.",
      todo = "Use `predict_with = ` for it."
    )
  }
  place <- function(name) shift_places(all[[name]], size)
  flat_forest(
    root = cumsum(c(0, size))[seq_along(size)],
    weight = weight,
    column = all$column,
    threshold = all$threshold,
    left = place("left"),
    right = place("right"),
    missing = place("missing"),
    value = all$value,
    columns = columns,
    levels = levels,
    owner = place("owner"),
    set_from = all$set_from,
    set_size = all$set_size,
    set_side = all$set_side,
    base = base,
    inbag = inbag,
    link = link,
    stretch = stretch,
    boosted = boosted,
    single = single
  )
}

# A tree whose nodes stand in any order, breadth first and without those that nothing leads to.
# `set`: a list of what goes right, per node.
sort_tree <- function(tree, where) {
  sorted <- breadth_first(tree$left, tree$right, tree$column)
  if (nzchar(sorted$fault)) file_fault(where, ": ", sorted$fault)
  at <- sorted$order + 1L
  place <- integer(length(tree$column))
  place[at] <- seq_along(at) - 1L
  leaf <- tree$column[at] < 0L
  move <- function(to) ifelse(leaf, 0L, place[to[at] + 1L])
  list(
    column = tree$column[at],
    threshold = tree$threshold[at],
    left = move(tree$left),
    right = move(tree$right),
    missing = move(tree$missing),
    owner = seq_along(at) - 1L,
    value = tree$value[, at, drop = FALSE],
    gain = tree$gain[at],
    set = tree$set[at]
  )
}

encode_for_forest <- function(forest, data) {
  if (!is.null(forest$encode)) data <- forest$encode(data)
  x <- encode_rows(data, forest$columns, forest$levels)
  # columns whose zeros count as missing
  for (p in forest$zero_missing) x[[p]][which(abs(x[[p]]) <= 1e-35)] <- NA
  if (forest$single) x[] <- lapply(x, round_single)
  x
}

# The flat forest must say what the model says, on up to 1,000 of the rows at hand and, where the
# model takes missing values, on as many of them with gaps made. A difference beyond rounding
# names the model and the first such row; there is no silent way round. again: a model whose like
# has been checked so, trained anew; 20 rows as they are.
check_forest <- function(
    forest, model, data, name, threads, inputs = NULL, again = FALSE) {
  rows <- data[seq_len(min(nrow(data), if (again) 20L else 1000L)), , drop = FALSE]
  compare_forest(forest, model, rows, name, threads, "")
  if (again) return(invisible(forest))
  # Behind an encoder gaps are made in what the model itself is given.
  if (inherits(model, "dreher_encoded")) {
    rows <- encode_data(model, rows)
    inputs <- model$reads
    model <- model$engine
    forest$encode <- NULL
  }
  if (isTRUE(inputs$missing)) {
    compare_forest(
      forest,
      model,
      make_gaps(rows, inputs$predictors),
      name,
      threads,
      ", some of its values made missing"
    )
  }
  invisible(forest)
}

# Row i lacks every predictor whose number leaves the same remainder as i, by a divisor that
# changes from row to row.
make_gaps <- function(rows, predictors) {
  i <- seq_len(nrow(rows))
  for (j in seq_along(predictors)) rows[[predictors[j]]][(j - i) %% (2 + i %% 7) == 0] <- NA
  rows
}

compare_forest <- function(forest, model, rows, name, threads, how) {
  tolerance <- if (forest$single) 1e-5 else 1e-9
  own <- as.matrix(model_predictions(model, rows))
  flat <- apply_link(
    forest, forest_predict(forest, encode_for_forest(forest, rows), threads)
  )
  if (!identical(dim(own), dim(flat))) {
    stop_internal(paste0(
      "Model \"", name, "\": the flat forest has other outputs than the model."
    ))
  }
  scale <- 1 + max(abs(own))
  apart <- which(!(rowSums(abs(own - flat)) <= tolerance * scale))
  if (length(apart)) {
    i <- apart[1]
    stop_model(
      paste0(
        "Model \"", name,
        "\": its trees, read into the flat forest, do not predict what the model ",
        "predicts."
      ),
      paste0(
        "First differing row: ", i, how, " (model ", format(own[i, 1], digits = 10),
        ", flat forest ", format(flat[i, 1], digits = 10), "); ", length(apart), " of ",
        nrow(rows), " rows differ."
      ),
      "Use `predict_with = ` for this model, and please report it.",
      data = list(row = i)
    )
  }
}

# The predictor each of the forest's columns stems from.
forest_origin <- function(model) {
  if (is.null(model$forest$origin)) model$forest$columns else model$forest$origin
}
