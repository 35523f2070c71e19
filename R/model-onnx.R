# Reader for ONNX files of tree ensembles and linear models, with the steps before them that make
# their columns and those after them that leave their predictions as they are.
#
# The graph is followed backwards from its output to the model, and forwards from its inputs to the
# model's columns. The file becomes what the documented JSON becomes (model-plain.R).

# A message whose first field is the version of the format, and which holds a graph.
is_onnx <- function(bytes) {
  if (length(bytes) < 4 || bytes[1] != as.raw(8)) return(FALSE)
  out <- wire_fields(bytes, 0, length(bytes))
  !nzchar(out$fault) && any(out$field == 7 & out$type == 2L)
}

new_onnx_model <- function(bytes, rounds, output, columns) {
  if (!is.null(rounds)) {
    stop_input("`rounds` is for files of boosting libraries.", todo = "Leave it out.")
  }
  file <- wire_message(bytes)
  graph <- onnx_graph(one_message(file, 7, "graphs"))
  node <- model_node(graph)
  part <- if (startsWith(node$op, "Tree")) {
    onnx_trees(node, output)
  } else {
    onnx_linear(node, output)
  }
  inputs <- graph_inputs(graph, columns, part$needs)
  found <- graph_values(graph, node$inputs[1], inputs)
  made <- block_columns(found, part$needs, said_node(node))
  maker <- text_in(file, 2)
  model <- structure(
    list(
      library = "ONNX",
      objective = paste0(
        if (is.null(part$forest)) "linear" else "trees", ", link ", part$link,
        if (nzchar(maker)) paste0(", written by ", maker)
      ),
      columns = made$columns,
      task = part$task,
      classes = part$classes,
      link = part$link,
      gaps = isTRUE(part$gaps),
      levels = list(),
      encode = made$encode
    ),
    class = c("dreher_plain_model", "dreher_model_file")
  )
  if (is.null(part$forest)) {
    model$linear <- numeric_linear(part$intercept, part$weights, model)
  } else {
    model$forest <- part$forest(model, single = found$single)
  }
  model
}

# --- the graph ----------------------------------------------------------------------------------

#   nodes      in the order of the file; inputs, outputs: messages of what goes in and comes out
#   constants  tensors by name
onnx_graph <- function(m) {
  tensors <- messages_in(m, 5)
  names(tensors) <- vapply(tensors, text_in, "", field = 8)
  nodes <- lapply(messages_in(m, 1), node_of)
  fixed <- vapply(nodes, function(n) n$op == "Constant", NA)
  for (n in nodes[fixed]) {
    value <- n$attributes[["value"]]
    if (is.null(value)) refuse_file(said_node(n), " is a constant that is not read")
    tensors[[n$outputs[1]]] <- one_message(value, 5, "tensors")
  }
  list(
    nodes = nodes[!fixed],
    inputs = Filter(function(i) !text_in(i, 1) %in% names(tensors), messages_in(m, 11)),
    outputs = vapply(messages_in(m, 12), text_in, "", field = 1),
    constants = lapply(tensors, tensor_of)
  )
}

# The one model of the graph; what follows it must leave its predictions as they are.
model_node <- function(graph) {
  op <- vapply(graph$nodes, `[[`, "", "op")
  at <- which(op %in% onnx_models)
  if (length(at) != 1) {
    refuse_file(
      "The graph of the file holds ",
      if (length(at)) "several models" else "no tree ensemble and no linear model",
      "; its nodes are ", quote_some(unique(op), 8)
    )
  }
  node <- graph$nodes[[at]]
  below <- node$outputs
  for (after in graph$nodes[-seq_len(at)]) {
    if (!any(after$inputs %in% below)) next
    below <- c(below, after$outputs)
    shares <- after$op == "Normalizer" && node_text(after, "norm", "MAX") == "L1" &&
      endsWith(node$op, "Classifier")
    if (!after$op %in% c("Cast", "Identity", "ZipMap", "ArgMax") && !shares) {
      refuse_file("The graph of the file changes predictions by ", said_node(after))
    }
  }
  node
}

# --- trees --------------------------------------------------------------------------------------

# A part: task, classes, link, gaps, needs (how many columns), and forest: function(model, single).
onnx_trees <- function(node, output) {
  nodes <- tree_nodes(node)
  classifier <- node$op == "TreeEnsembleClassifier"
  ends <- tree_ends(node, nodes, if (classifier) "class" else "target")
  part <- if (classifier) tree_classes_of(node, ends) else tree_targets_of(node, ends, output)
  part$needs <- max(nodes$column, 0) + 1
  part$gaps <- any(nodes$tracked)
  part$forest <- function(model, single) {
    ensemble_forest(nodes, part, model, single)
  }
  part
}

# All nodes of all trees, as vectors: tree (from 1), column, threshold, left, right, missing (places
# in the vectors, 0 in leaves), tracked.
tree_nodes <- function(node) {
  whole <- function(name) node_numbers(node, name, whole = TRUE)
  tree <- whole("nodes_treeids")
  n <- length(tree)
  if (!n) file_fault(said_node(node), " has no nodes")
  id <- whole("nodes_nodeids")
  mode <- node_texts(node, "nodes_modes")
  cut <- node_numbers(node, "nodes_values")
  column <- whole("nodes_featureids")
  yes <- whole("nodes_truenodeids")
  no <- whole("nodes_falsenodeids")
  same <- lengths(list(id, mode, cut, column, yes, no)) == n
  if (!all(same)) file_fault("the nodes of ", said_node(node), " are not all told")
  tracked <- node_numbers(
    node, "nodes_missing_value_tracks_true", whole = TRUE, or = rep(0, n)
  )
  if (length(tracked) != n) {
    file_fault("the nodes of ", said_node(node), " are not all told")
  }
  leaf <- mode == "LEAF"
  odd <- setdiff(mode[!leaf], c("BRANCH_LEQ", "BRANCH_LT", "BRANCH_GT", "BRANCH_GTE"))
  if (length(odd)) refuse_file("Trees of the file ask by ", odd[1], ", which is not read")
  key <- tree_key(tree, id)
  if (anyDuplicated(key)) file_fault("a node of ", said_node(node), " is there twice")
  yes <- match(tree_key(tree, yes), key)
  no <- match(tree_key(tree, no), key)
  bad <- !leaf & (is.na(yes) | is.na(no) | column < 0 | column > 1e6 | !is.finite(cut))
  if (any(bad)) {
    file_fault("node ", which(bad)[1], " of ", said_node(node), " leads nowhere")
  }
  turned <- mode %in% c("BRANCH_GT", "BRANCH_GTE")
  strict <- !leaf & mode %in% c("BRANCH_LT", "BRANCH_GTE")
  cut[strict] <- just_below(cut[strict])
  list(
    tree = match(tree, unique(tree)),
    key = key,
    column = ifelse(leaf, -1, column),
    threshold = ifelse(leaf, 0, cut),
    left = ifelse(leaf, 0L, ifelse(turned, no, yes)),
    right = ifelse(leaf, 0L, ifelse(turned, yes, no)),
    missing = ifelse(leaf, 0L, ifelse(tracked != 0, yes, no)),
    tracked = !leaf & tracked != 0
  )
}

tree_key <- function(tree, id) paste(tree, id)

# What leaves add: place (of the node), id (of the output, from 0), weight.
tree_ends <- function(node, nodes, what) {
  name <- function(part) paste0(what, "_", part)
  whole <- function(part) node_numbers(node, name(part), whole = TRUE)
  place <- match(tree_key(whole("treeids"), whole("nodeids")), nodes$key)
  out <- list(place = place, id = whole("ids"), weight = node_numbers(node, name("weights")))
  if (length(unique(lengths(out))) != 1 || anyNA(place) || anyNA(out$id) ||
      any(out$id < 0 | out$id > 1e6) || !all(is.finite(out$weight))) {
    file_fault("the leaves of ", said_node(node), " are not all told")
  }
  out
}

class_labels <- function(node) {
  texts <- node_texts(node, "classlabels_strings")
  numbers <- node_numbers(node, "classlabels_int64s", whole = TRUE, or = numeric())
  if (!length(numbers)) {
    numbers <- node_numbers(node, "classlabels_ints", whole = TRUE, or = numeric())
  }
  out <- if (length(texts)) texts else format(numbers, scientific = FALSE, trim = TRUE)
  if (length(out) < 2 || anyDuplicated(out)) {
    file_fault("the classes of ", said_node(node), " are not distinct")
  }
  out
}

tree_classes_of <- function(node, ends) {
  classes <- class_labels(node)
  K <- length(classes)
  base <- node_numbers(node, "base_values", or = numeric())
  after <- node_text(node, "post_transform", "NONE")
  if (any(ends$id >= K) || !length(base) %in% c(0, 1, K)) {
    file_fault("the leaves of ", said_node(node), " do not fit its classes")
  }
  part <- list(task = "classification", classes = classes, ends = ends, outputs = K)
  part$base <- if (length(base) == K) base else rep(sum(base), K)
  alone <- K == 2 && length(unique(ends$id)) == 1
  if (alone && after == "LOGISTIC") {
    # the one score is the second class's, whichever id it has
    part$ends$id[] <- 0
    part$outputs <- 1
    part$base <- if (length(base)) base[length(base)] else 0
    part$link <- "logit"
    return(part)
  }
  if (alone && after == "NONE" && all(ends$weight >= 0) && !length(base)) {
    part$ends <- both_classes(ends)
    part$base <- c(1, 0)
    part$link <- "identity"
    return(part)
  }
  if (alone || !after %in% c("NONE", "SOFTMAX")) {
    refuse_file(
      said_node(node),
      " makes the shares of its classes by ",
      after,
      ", which is not read here"
    )
  }
  part$link <- if (after == "NONE") "identity" else "softmax"
  part
}

# The second class's share, and what it leaves to the first.
both_classes <- function(ends) {
  list(
    place = rep(ends$place, 2),
    id = rep(c(1, 0), each = length(ends$id)),
    weight = c(ends$weight, -ends$weight)
  )
}

tree_targets_of <- function(node, ends, output) {
  targets <- node_number(node, "n_targets", 1)
  k <- pick_output(output, targets)
  after <- node_text(node, "post_transform", "NONE")
  how <- node_text(node, "aggregate_function", "SUM")
  if (after != "NONE" || !how %in% c("SUM", "AVERAGE")) {
    refuse_file(
      said_node(node), " joins its trees by ", how, " and ", after, ", which is not read"
    )
  }
  base <- node_numbers(node, "base_values", or = numeric())
  if (!length(base) %in% c(0, targets)) {
    file_fault("the base of ", said_node(node), " does not fit")
  }
  mine <- ends$id == k - 1
  list(
    task = "regression",
    classes = NULL,
    link = "identity",
    outputs = 1,
    ends = list(
      place = ends$place[mine], id = rep(0, sum(mine)), weight = ends$weight[mine]
    ),
    base = if (length(base)) base[k] else 0,
    average = how == "AVERAGE"
  )
}

ensemble_forest <- function(nodes, part, model, single) {
  n <- length(nodes$tree)
  check_model_size(part$outputs, n)
  value <- matrix(0, part$outputs, n)
  at <- part$ends$id + 1 + (part$ends$place - 1) * part$outputs
  summed <- rowsum(part$ends$weight, at)
  value[as.double(rownames(summed))] <- summed
  of <- split(seq_len(n), nodes$tree)
  trees <- lapply(seq_along(of), function(t) local_tree(nodes, value, of[[t]], t))
  averaged <- isTRUE(part$average)
  weight <- rep(if (averaged) 1 / length(trees) else 1, length(trees))
  shares <- shares_of_trees(nodes, value, part)
  join_trees(
    lapply(trees, function(tree) tree[setdiff(names(tree), c("gain", "set"))]),
    weight = weight,
    columns = model$columns,
    base = part$base,
    link = part$link,
    boosted = if (!averaged && !shares && length(trees) > 1) gainless(list(), length(trees)),
    single = single
  )
}

# Are the trees shares of classes that are averaged? Then their leaves all add up to the same.
shares_of_trees <- function(nodes, value, part) {
  if (part$link != "identity" || part$task == "regression") return(FALSE)
  total <- colSums(value)[nodes$column < 0]
  all(value >= 0) && diff(range(total)) < 1e-4 * max(total)
}

# One tree of the vectors, its root first.
local_tree <- function(nodes, value, at, t) {
  inner <- at[nodes$column[at] >= 0]
  root <- setdiff(at, c(nodes$left[inner], nodes$right[inner]))
  if (length(root) != 1) file_fault("tree ", t, " has ", length(root), " roots")
  at <- c(root, setdiff(at, root))
  place <- function(to) match(to, at, nomatch = 1L) - 1L
  leaf <- nodes$column[at] < 0
  to <- function(name) ifelse(leaf, 0L, place(nodes[[name]][at]))
  sort_tree(
    list(
      column = as.integer(nodes$column[at]),
      threshold = nodes$threshold[at],
      left = to("left"),
      right = to("right"),
      missing = to("missing"),
      value = value[, at, drop = FALSE],
      gain = double(length(at)),
      set = vector("list", length(at))
    ),
    paste("tree", t)
  )
}

# --- weights ------------------------------------------------------------------------------------

onnx_linear <- function(node, output) {
  weights <- node_numbers(node, "coefficients")
  intercept <- node_numbers(node, "intercepts", or = numeric())
  after <- node_text(node, "post_transform", "NONE")
  if (!all(is.finite(c(weights, intercept)))) {
    file_fault("the weights of ", said_node(node), " are not all numbers")
  }
  if (node$op == "LinearRegressor") {
    targets <- node_number(node, "targets", 1)
    k <- pick_output(output, targets)
    if (after != "NONE") {
      refuse_file(said_node(node), " ends in ", after, ", which is not read")
    }
    rows <- weight_rows(node, weights, intercept, targets)
    return(list(
      task = "regression",
      link = "identity",
      needs = ncol(rows$weights),
      intercept = rows$intercept[k],
      weights = rows$weights[k, , drop = FALSE]
    ))
  }
  classes <- class_labels(node)
  K <- length(classes)
  alone <- K == 2 && length(intercept) == 1
  rows <- weight_rows(node, weights, intercept, if (alone) 1 else K)
  part <- list(
    task = "classification",
    classes = classes,
    link = "softmax",
    needs = ncol(rows$weights),
    intercept = rows$intercept,
    weights = rows$weights
  )
  if (after == "SOFTMAX" && !alone) return(part)
  mirrored <- alone ||
    (K == 2 && all(rows$weights[1, ] == -rows$weights[2, ]) &&
        rows$intercept[1] == -rows$intercept[2])
  if (after != "LOGISTIC" || !mirrored) {
    refuse_file(
      said_node(node),
      " makes the shares of its classes by ",
      after,
      ", which is not read here"
    )
  }
  last <- length(rows$intercept)
  part$link <- "logit"
  part$intercept <- rows$intercept[last]
  part$weights <- rows$weights[last, , drop = FALSE]
  part
}

weight_rows <- function(node, weights, intercept, outputs) {
  if (!length(intercept)) intercept <- rep(0, outputs)
  if (!length(weights) || length(weights) %% outputs || length(intercept) != outputs) {
    file_fault("the weights of ", said_node(node), " do not fit its outputs")
  }
  list(
    intercept = intercept,
    weights = matrix(weights, outputs, byrow = TRUE)
  )
}
