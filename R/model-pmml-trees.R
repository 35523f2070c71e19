# PMML trees as flat ones.
#
# A PMML node asks its children one after another for the first whose predicate is true. Children
# that ask one field part its values into cells (intervals of numbers, sets of words) by whom takes
# them; the cells become as few questions as they need. Children that ask several fields are asked
# one after another. Missing values go where the file's strategy sends them; a strategy that the
# flat tree cannot follow makes a model that refuses missing values, never one that guesses.

# Returns list(tree, gaps): a tree for join_trees() whose `column` holds fields' names, and whether
# missing values are decided. score: function(element) -> the node's output, or NULL
pmml_tree <- function(x, model, fields, score) {
  rules <- list(
    missing = said_word(
      x, model, "missingValueStrategy",
      c(
        "none", "defaultChild", "lastPrediction", "nullPrediction", "weightedConfidence",
        "aggregateNodes"
      ),
      "none"
    ),
    last = said_word(
      x, model, "noTrueChildStrategy", c("returnNullPrediction", "returnLastPrediction"),
      "returnNullPrediction"
    ) == "returnLastPrediction"
  )
  check_node_ids(x, model)
  usual <- binary_tree(x, model, fields, rules, score)
  if (!is.null(usual)) return(usual)
  tree <- new_growing_tree()
  grow_node(list(
    x = x, fields = fields, score = score, rules = rules, tree = tree
  ), needed_kid(x, model, "Node"))
  list(tree = grown_tree(tree), gaps = tree$gaps)
}

# A default child is named by its id: two nodes of one tree may not share one.
check_node_ids <- function(x, model) {
  if (!"defaultChild" %in% said(x, model, "missingValueStrategy", "")) return(invisible())
  within <- kids(x, model, "Node")
  ids <- character()
  while (length(within)) {
    ids <- c(ids, vapply(within, function(at) said(x, at, "id", NA_character_), ""))
    within <- unlist(lapply(within, function(at) kids(x, at, "Node")))
  }
  twice <- unique(ids[duplicated(ids) & !is.na(ids)])
  if (length(twice)) {
    file_fault("several nodes of a tree have the id ", quote_some(twice, 3))
  }
}

# A tree that grows node by node. Nodes are numbered from 1 in the order they are begun.
new_growing_tree <- function() {
  list2env(
    list(
      n = 0L, gaps = TRUE, field = character(), threshold = numeric(), left = integer(),
      right = integer(), missing = integer(), owner = integer(), value = list(), side = list()
    ),
    parent = emptyenv()
  )
}

begin_node <- function(tree, value) {
  i <- tree$n <- tree$n + 1L
  if (i > 2e6) refuse_file("A tree of the file has more than 2,000,000 nodes")
  tree$field[i] <- NA
  tree$threshold[i] <- 0
  tree$left[i] <- tree$right[i] <- tree$missing[i] <- 1L
  tree$owner[i] <- i
  tree$value[i] <- list(value)
  tree$side[i] <- list(NULL)
  i
}

grown_tree <- function(tree) {
  outputs <- max(lengths(tree$value))
  value <- vapply(tree$value, function(v) {
    if (is.null(v)) rep(0, outputs) else as.double(v)
  }, numeric(outputs))
  leaf <- is.na(tree$field)
  place <- function(to) ifelse(leaf, 0L, to - 1L)
  size <- lengths(tree$side)
  list(
    field = tree$field,
    threshold = tree$threshold,
    left = place(tree$left),
    right = place(tree$right),
    missing = ifelse(leaf, 0L, ifelse(tree$missing < 0L, -1L, tree$missing - 1L)),
    owner = tree$owner - 1L,
    value = matrix(value, outputs),
    set_from = ifelse(size > 0, cumsum(c(0, size))[seq_along(size)], -1),
    set_size = size,
    set_side = as.integer(unlist(tree$side))
  )
}

# Grows the part of the tree below element `at`; returns the number of its first node.
grow_node <- function(g, at) {
  children <- kids(g$x, at, "Node")
  own <- g$score(at)
  if (!length(children)) {
    if (is.null(own)) file_fault(said_at(g$x, at), " is a leaf without a score")
    return(begin_node(g$tree, own))
  }
  here <- list(
    at = at,
    value = own,
    children = children,
    asks = lapply(children, function(child) {
      round_asked(predicate_of(g$x, child), g$fields$floats)
    })
  )
  fields <- unique(unlist(lapply(here$asks, main_fields)))
  if (length(fields) == 0) return(grow_outcome(g, here, first_true(here$asks)))
  if (length(fields) == 1) grow_by_field(g, here, fields) else grow_in_turn(g, here, 1L)
}

main_fields <- function(p) if (p$kind == "surrogate") main_fields(p$parts[[1]]) else p$fields

first_true <- function(asks) {
  found <- which(vapply(asks, function(p) isTRUE(answers(p, NA_real_)), NA))
  if (length(found)) found[1] else 0L
}

# Outcomes: the number of a child, or 0 where no child takes the row.
grow_outcome <- function(g, here, outcome) {
  if (outcome > 0) return(grow_node(g, here$children[outcome]))
  if (!g$rules$last || is.null(here$value)) {
    refuse_file(
      "Some values that ",
      said_at(g$x, here$at),
      " can meet are taken by none of its children, ",
      "so that such rows get no prediction"
    )
  }
  begin_node(g$tree, here$value)
}

# --- children that ask one field ----------------------------------------------------------------

grow_by_field <- function(g, here, field) {
  words <- ask_field(g$fields, field)
  cells <- field_cells(here$asks, words)
  missing <- missing_outcome(g, here, if (is.null(words)) NA_real_ else NA_character_)
  surrogates <- list()
  if (any(vapply(here$asks, function(p) p$kind == "surrogate", NA))) {
    surrogates <- surrogate_cells(g, here, cells)
    if (is.null(surrogates)) missing <- NA_integer_
  }
  grow_cells(
    g, field, cells, words, missing, here$value,
    grow = function(outcome) grow_outcome(g, here, outcome), surrogates = surrogates
  )
}

# Who takes which values. For numbers: `upto`, the upper ends of the cells, and `outcome` of each;
# neighbours of one outcome are one cell. For words: `outcome` of each word.
field_cells <- function(asks, words) {
  if (is.null(words)) {
    cuts <- sort(unique(unlist(lapply(asks, function(p) numbers_asked(main_predicate(p))))))
    upto <- sort(unique(c(just_below(cuts), cuts)))
    outcome <- outcomes(asks, c(upto, Inf))
    last <- c(which(diff(outcome) != 0), length(outcome))
    return(list(upto = c(upto, Inf)[last], outcome = outcome[last]))
  }
  list(outcome = outcomes(asks, words))
}

main_predicate <- function(p) if (p$kind == "surrogate") main_predicate(p$parts[[1]]) else p

outcomes <- function(asks, values) {
  out <- integer(length(values))
  for (i in rev(seq_along(asks))) out[which(answers(asks[[i]], values))] <- i
  out
}

# Where a missing value goes: the number of a child; 0, none of them; -1, the row stays; NA, not
# decided.
missing_outcome <- function(g, here, gap) {
  if (any(vapply(here$asks, function(p) p$kind == "xor", NA))) return(NA_integer_)
  known <- vapply(here$asks, function(p) answers(p, gap), NA)
  fires <- which(known)
  if (g$rules$missing != "none") {
    unknown <- which(is.na(known))
    before <- length(unknown) && (!length(fires) || unknown[1] < fires[1])
    if (before) return(strategic_outcome(g, here))
  }
  if (length(fires)) return(fires[1])
  if (g$rules$last && !is.null(here$value)) 0L else NA_integer_
}

strategic_outcome <- function(g, here) {
  if (g$rules$missing == "lastPrediction" && !is.null(here$value)) return(-1L)
  if (g$rules$missing != "defaultChild") return(NA_integer_)
  id <- said(g$x, here$at, "defaultChild", NA)
  if (is.na(id)) return(NA_integer_)
  own <- vapply(here$children, function(child) said(g$x, child, "id", ""), "")
  found <- which(own == id)
  if (length(found) != 1) {
    file_fault("the default child of ", said_at(g$x, here$at), " is not there")
  }
  found
}

# Questions in a row, each parting one outcome from the rest. grow: outcome -> number of a node
grow_cells <- function(g, field, cells, words, missing, value, grow, surrogates = list()) {
  if (is.na(missing)) g$tree$gaps <- FALSE
  order <- if (is.null(words)) seq_along(cells$outcome) else which(!duplicated(cells$outcome))
  if (length(order) == 1 && (is.na(missing) || missing == cells$outcome[1])) {
    return(grow(cells$outcome[1]))
  }
  grow_question(list(
    g = g, field = field, cells = cells, words = words, missing = missing, value = value,
    grow = grow, order = order
  ), surrogates, 1L)
}

# The k-th question of `q`.
grow_question <- function(q, surrogates, k) {
  tree <- q$g$tree
  here <- q$cells$outcome[q$order[k]]
  rest <- q$cells$outcome[q$order[-seq_len(k)]]
  if (k > 1 && !length(rest)) return(q$grow(here))
  i <- begin_node(tree, if (identical(q$missing, -1L)) q$value)
  stands_in <- lapply(surrogates, function(s) {
    vapply(seq_len(1 + s$open), function(k) begin_node(tree, NULL), 0L)
  })
  ask_cell(tree, i, q, q$order[k])
  tree$left[i] <- q$grow(here)
  # a row that is not missing never goes right where there is one outcome
  tree$right[i] <- if (length(rest)) {
    grow_question(q, list(), k + 1L)
  } else {
    begin_node(tree, NULL)
  }
  tree$missing[i] <- if (q$missing %in% here) {
    tree$left[i]
  } else if (is.na(q$missing) || q$missing %in% rest || k > 1) {
    tree$right[i]
  } else if (q$missing == -1L) {
    -1L
  } else {
    q$grow(q$missing)
  }
  link_surrogates(tree, i, stands_in, surrogates, here)
  i
}

# Node i parts a cell of numbers from those above, or the words of a cell's outcome from the others.
ask_cell <- function(tree, i, q, cell) {
  tree$field[i] <- q$field
  if (is.null(q$words)) {
    tree$threshold[i] <- q$cells$upto[cell]
  } else {
    tree$side[[i]] <- ifelse(q$cells$outcome == q$cells$outcome[cell], -1L, 1L)
  }
}

# --- surrogates ---------------------------------------------------------------------------------

# What stands in for a question of two outcomes, in turn: list(field, words, cells); NULL where the
# children's surrogates do not part the rows in two.
surrogate_cells <- function(g, here, cells) {
  two <- unique(cells$outcome)
  parts <- lapply(here$asks, function(p) {
    if (p$kind == "surrogate") p$parts[-1] else list()
  })
  if (length(two) != 2 || any(two == 0) || length(unique(lengths(parts))) != 1) {
    return(NULL)
  }
  if (is.null(here$asks[[1]]$parts)) return(NULL)
  out <- lapply(seq_along(parts[[1]]), function(j) {
    asks <- lapply(parts, `[[`, j)
    field <- unique(unlist(lapply(asks, `[[`, "fields")))
    if (length(field) != 1) return(NULL)
    words <- ask_field(g$fields, field)
    found <- field_cells(asks, words)
    open <- any(found$outcome == 0)  # words that neither child takes
    fits <- setequal(setdiff(found$outcome, 0), two) &&
      (!is.null(words) || length(found$outcome) == 2) &&
      (!open || (g$rules$last && !is.null(here$value)))
    if (fits) {
      list(field = field, words = words, cells = found, open = open, rest = here$value)
    }
  })
  if (!any(vapply(out, is.null, NA))) out
}

link_surrogates <- function(tree, i, stands_in, surrogates, here) {
  if (!length(stands_in)) return(invisible())
  heads <- vapply(stands_in, `[`, 0L, 1L)
  onwards <- c(heads[-1], tree$missing[i])
  tree$missing[i] <- heads[1]
  for (j in seq_along(stands_in)) {
    s <- surrogates[[j]]
    node <- heads[j]
    outcome <- s$cells$outcome
    # its first cell, or the words of outcome `here`, go left
    cell <- if (is.null(s$words)) 1L else match(here, outcome)
    ask_cell(tree, node, s, cell)
    same <- outcome[cell] == here
    tree$left[node] <- if (same) tree$left[i] else tree$right[i]
    tree$right[node] <- if (same) tree$right[i] else tree$left[i]
    tree$missing[node] <- onwards[j]
    if (onwards[j] == -1L) tree$value[node] <- tree$value[i]
    tree$owner[stands_in[[j]]] <- i
    if (s$open) {
      second <- stands_in[[j]][2]
      ask_cell(tree, second, s, which(!outcome %in% c(0, here))[1])
      tree$right[node] <- second
      tree$left[second] <- tree$missing[second] <- tree$right[i]
      tree$right[second] <- begin_node(tree, s$rest)
    }
  }
}

# --- children that ask several fields -----------------------------------------------------------

grow_in_turn <- function(g, here, k) {
  if (k > length(here$asks)) return(grow_outcome(g, here, 0L))
  grow_if(
    g, here$asks[[k]],
    yes = function() grow_outcome(g, here, k),
    no = function() grow_in_turn(g, here, k + 1L)
  )
}

# Parts of a compound are asked one after another, as far as they decide.
grow_if <- function(g, p, yes, no) {
  if (p$kind == "surrogate") {
    g$tree$gaps <- FALSE
    return(grow_if(g, p$parts[[1]], yes, no))
  }
  if (!length(p$fields)) return(if (isTRUE(answers(p, NA_real_))) yes() else no())
  if (length(p$fields) == 1) return(grow_if_field(g, p, yes, no))
  first <- p$parts[[1]]
  rest <- p
  rest$parts <- p$parts[-1]
  if (length(rest$parts) == 1) {
    rest <- rest$parts[[1]]
  } else {
    rest$fields <- fields_of(rest$parts)
  }
  onwards <- function() grow_if(g, rest, yes, no)
  switch(
    p$kind,
    and = grow_if(g, first, onwards, no),
    or = grow_if(g, first, yes, onwards),
    xor = grow_if(g, first, function() grow_if(g, rest, no, yes), onwards)
  )
}

grow_if_field <- function(g, p, yes, no) {
  words <- ask_field(g$fields, p$fields)
  cells <- field_cells(list(p), words)
  gap <- answers(p, if (is.null(words)) NA_real_ else NA_character_)
  missing <- if (is.na(gap) && g$rules$missing != "none") {
    NA_integer_
  } else {
    as.integer(isTRUE(gap))
  }
  grow_cells(g, p$fields, cells, words, missing, NULL, grow = function(outcome) {
    if (outcome == 1L) yes() else no()
  })
}
