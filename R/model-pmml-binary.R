# PMML trees of the usual kind, all nodes at once: each node asks one number whether it is below or
# above, and may have a third child for missing values. model-pmml-trees.R reads all others, and
# these in the same way, more slowly.

# What the nodes of all trees ask, as vectors; made once for a file.
#   of         list, for each tree model (by its element, as text) the elements of its nodes
#   place      for each element its number in the vectors below
#   child      nodes x 3, the elements of the first children; count: how many there are
#   field, operator, value   of the predicate that leads to the node, NA where it is no simple one
pmml_nodes <- function(x) {
  node <- which(x$name == "Node")
  models <- which(x$name == "TreeModel")
  place <- integer(length(x$name))
  place[node] <- seq_along(node)
  inner <- node[x$name[x$parent[node]] == "Node"]
  inner <- inner[order(x$parent[inner])]
  above <- place[x$parent[inner]]
  count <- tabulate(above, length(node))
  rank <- sequence(rle(above)$lengths)
  child <- matrix(0L, length(node), 3)
  early <- rank <= 3
  child[cbind(above, rank)[early, , drop = FALSE]] <- inner[early]
  asks <- which(x$name %in% predicate_names)
  asks <- asks[x$name[x$parent[asks]] == "Node"]
  simple <- asks[x$name[asks] == "SimplePredicate" & !duplicated(x$parent[asks])]
  several <- x$parent[asks][duplicated(x$parent[asks])]
  simple <- simple[!x$parent[simple] %in% several]
  of_simple <- function(name) {
    out <- rep(NA_character_, length(node))
    out[place[x$parent[simple]]] <- attribute_of(x, simple, name)
    out
  }
  list(
    of = split(node, models[findInterval(node, models)]),
    place = place, child = child, count = count, field = of_simple("field"),
    operator = of_simple("operator"), value = of_simple("value")
  )
}

opposite <- c(
  lessThan = "greaterOrEqual", greaterOrEqual = "lessThan", lessOrEqual = "greaterThan",
  greaterThan = "lessOrEqual"
)

# Returns list(tree, gaps) as pmml_tree(); NULL for a tree of another kind.
binary_tree <- function(x, model, fields, rules, score) {
  all <- x$grown
  elements <- all$of[[as.character(model)]]
  if (is.null(elements)) return(NULL)
  at <- all$place[elements]
  asks <- all$count[at] > 0
  first <- all$place[all$child[at[asks], 1]]
  second <- all$place[pmax(all$child[at[asks], 2], 1L)]
  if (!fit_for_two(all, at[asks], first, second)) return(NULL)
  third <- third_children(all, at[asks], first, rules)
  if (is.null(third)) return(NULL)
  asked <- unique(all$field[first])
  for (name in asked) if (!is.null(ask_field(fields, name))) return(NULL)
  cut <- suppressWarnings(as.double(all$value[first]))
  if (any(!is.finite(cut))) return(NULL)
  single <- all$field[first] %in% fields$floats
  cut[single] <- round_single(cut[single])
  operator <- all$operator[first]
  below <- operator %in% c("lessThan", "lessOrEqual")
  strict <- operator %in% c("lessThan", "greaterOrEqual")
  cut[strict] <- just_below(cut[strict])
  value <- lapply(elements, score)
  if (any(vapply(value[!asks], is.null, NA))) return(NULL)
  missing <- missing_children(x, all, elements[asks], at[asks], third, rules, value[asks])
  if (is.null(missing)) return(NULL)
  outputs <- max(lengths(value))
  filled <- vapply(value, function(v) if (is.null(v)) double(outputs) else v, double(outputs))
  local <- function(place) match(place, at) - 1L
  n <- length(at)
  fill <- function(inner, leaf) replace(rep(leaf, n), which(asks), inner)
  list(
    tree = list(
      field = fill(all$field[first], NA_character_),
      threshold = fill(cut, 0),
      left = fill(local(ifelse(below, first, second)), 0L),
      right = fill(local(ifelse(below, second, first)), 0L),
      missing = fill(
        ifelse(missing == 0L, local(second), ifelse(missing < 0L, -1L, local(missing))), 0L
      ),
      owner = seq_len(n) - 1L,
      value = matrix(filled, outputs),
      set_from = rep(-1, n),
      set_size = rep(0L, n),
      set_side = integer()
    ),
    gaps = !any(missing == 0L)
  )
}

# Do the first two children of each node part one number in two?
fit_for_two <- function(all, at, first, second) {
  length(at) > 0 && all(all$count[at] %in% 2:3) &&
    !anyNA(all$field[first]) && identical(all$field[first], all$field[second]) &&
    identical(unname(opposite[all$operator[first]]), all$operator[second]) &&
    identical(all$value[first], all$value[second])
}

# Third children, which must be for missing values of the same field; 0 where there are none.
third_children <- function(all, at, first, rules) {
  element <- all$child[at, 3]
  third <- ifelse(element > 0, all$place[pmax(element, 1L)], 0L)
  has <- third > 0
  if (!any(has)) return(third)
  fits <- rules$missing == "none" && all(all$operator[third[has]] %in% "isMissing") &&
    identical(all$field[third[has]], all$field[first[has]])
  if (fits) third
}

# Where missing values go: the place of a child, -1 (the row stays) or 0 (not decided). NULL: to a
# leaf that is not there.
missing_children <- function(x, all, elements, at, third, rules, value) {
  scored <- !vapply(value, is.null, NA)
  switch(
    rules$missing,
    none = if (!any(rules$last & scored & third == 0)) third,
    lastPrediction = ifelse(scored, -1L, 0L),
    defaultChild = {
      id <- attribute_of(x, elements, "defaultChild")
      one <- attribute_of(x, all$child[at, 1], "id") == id
      two <- attribute_of(x, all$child[at, 2], "id") == id
      if (!any(!is.na(id) & !(one %in% TRUE) & !(two %in% TRUE))) {
        ifelse(
          is.na(id),
          0L,
          all$place[ifelse(one %in% TRUE, all$child[at, 1], all$child[at, 2])]
        )
      }
    },
    rep(0L, length(at))
  )
}
