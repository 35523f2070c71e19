# From the inputs of an ONNX graph to the columns of its model.
#
# A block stands for a tensor of rows x columns: `columns` (a list of vectors, one entry per row),
# `stems` (for each column the inputs it is made of), `names`, and `single` (is it of single
# precision?). It is worked out once with no rows, to know its columns, and again for all rows.

onnx_models <- c(
  "TreeEnsembleRegressor", "TreeEnsembleClassifier", "LinearRegressor", "LinearClassifier"
)

# The columns that users give: list(name, block, category) for each input of the graph.
# needs: how many columns the model takes
graph_inputs <- function(graph, columns, needs) {
  width <- vapply(graph$inputs, input_width, 0)
  name <- vapply(graph$inputs, text_in, "", field = 1)
  if (!length(name)) file_fault("its graph takes nothing in")
  open <- is.na(width)
  if (sum(open) > 1) refuse_file("Several inputs of the graph do not say their width")
  if (any(open)) width[open] <- max((if (is.null(columns)) needs else length(columns)) -
    sum(width[!open]), 1)
  own <- if (all(width == 1)) name
  columns <- file_columns(own, columns, sum(width))
  type <- vapply(graph$inputs, input_type, 0)
  odd <- !type %in% c(1, 6, 7, 8, 9, 11)
  if (any(odd)) refuse_file("Input \"", name[odd][1], "\" is of a type that is not read")
  list(
    name = name,
    columns = split(columns, factor(rep(seq_along(width), width), seq_along(width))),
    type = type
  )
}

tensor_type <- function(input) one_message(one_message(input, 2, "types"), 1, "tensor types")

input_type <- function(input) {
  out <- numbers_in(tensor_type(input), 1, 0)
  if (length(out) == 1) out else 0
}

# The second dimension of an input; NA where it does not say.
input_width <- function(input) {
  shape <- messages_in(tensor_type(input), 2)
  dims <- if (length(shape)) messages_in(shape[[1]], 1) else list()
  if (length(dims) < 2) return(if (length(dims) == 1) 1 else NA_real_)
  out <- numbers_in(dims[[2]], 1, 0)
  if (length(out) == 1 && is.finite(out) && out >= 1 && out <= 1e6) out else NA_real_
}

input_blocks <- function(inputs, rows) {
  blocks <- Map(
    function(columns, type) {
      list(
        columns = lapply(columns, function(p) as_input(rows[[p]], type, p)),
        stems = as.list(columns),
        names = columns,
        single = type == 1,
        plain = TRUE
      )
    },
    inputs$columns,
    inputs$type
  )
  stats::setNames(blocks, inputs$name)
}

as_input <- function(values, type, name) {
  if (type == 8) return(as.character(values))
  values <- as_numbers(values, name)
  if (type == 1) round_single(values) else values
}

# Works out the block of a name: rows NULL for none, to know its columns.
graph_values <- function(graph, name, inputs, rows = NULL) {
  if (is.null(rows)) {
    rows <- lapply(stats::setNames(nm = unlist(inputs$columns)), function(p) character())
  }
  blocks <- input_blocks(inputs, rows)
  for (node in graph$nodes) {
    if (name %in% names(blocks)) break
    known <- node$inputs %in% c(names(blocks), names(graph$constants))
    if (!all(known) || node$op %in% onnx_models) next
    blocks[[node$outputs[1]]] <- run_node(node, blocks, graph$constants)
  }
  out <- blocks[[name]]
  if (is.null(out)) file_fault("nothing makes the input \"", name, "\" of its model")
  out$make <- function(rows) graph_values(graph, name, inputs, rows)
  out
}

# The model's columns, and the function that makes them of the user's rows; NULL where they are the
# same.
block_columns <- function(block, needs, where) {
  if (length(block$columns) < needs) {
    file_fault(where, " asks for ", needs, " columns and is given ", length(block$columns))
  }
  columns <- block$names
  if (isTRUE(block$plain)) return(list(columns = columns))
  columns <- make.unique(columns, "_")
  stems <- stats::setNames(block$stems, columns)
  encode <- function(rows) {
    check_columns(rows, unique(unlist(stems)), "data", "The predictor")
    out <- stats::setNames(block$make(rows)$columns, columns)
    structure(as.data.frame(out, optional = TRUE), stems_from = stems)
  }
  list(columns = columns, encode = encode)
}

# --- steps before the model ---------------------------------------------------------------------

# What nodes of the graph do to a block: function(node, block, blocks, constants).
onnx_steps <- function() {
  same <- function(node, block, blocks, constants) block
  bind <- function(node, block, blocks, constants) bind_blocks(node, blocks[node$inputs])
  shift <- function(node, block, blocks, constants) shift_block(node, block, constants)
  alone <- function(step) function(node, block, blocks, constants) step(node, block)
  list(
    Identity = same,
    Flatten = same,
    Reshape = function(node, block, blocks, constants) keep_shape(node, block, constants),
    Cast = alone(cast_block),
    Concat = bind,
    FeatureVectorizer = bind,
    Scaler = alone(scale_block),
    Imputer = alone(fill_block),
    OneHotEncoder = alone(one_hot_block),
    LabelEncoder = alone(map_block),
    CategoryMapper = alone(map_block),
    Binarizer = alone(cut_block),
    ArrayFeatureExtractor = function(node, block, blocks, constants) {
      pick_columns(node, block, constants)
    },
    Add = shift,
    Sub = shift,
    Mul = shift,
    Div = shift
  )
}

run_node <- function(node, blocks, constants) {
  step <- onnx_steps()[[node$op]]
  if (is.null(step)) {
    refuse_file(
      "The graph of the file makes columns by ", said_node(node), ", which is not read"
    )
  }
  given <- blocks[intersect(node$inputs, names(blocks))]
  if (!length(given)) {
    refuse_file("The graph of the file works on constants in ", said_node(node))
  }
  step(node, given[[1]], blocks, constants)
}

# A new shape must be the old one: rows by columns.
keep_shape <- function(node, block, constants) {
  shape <- constants[[node$inputs[2]]]$values
  same <- length(shape) == 2 && shape[1] %in% c(-1, 0) &&
    shape[2] %in% c(-1, length(block$columns)) && !all(shape == -1)
  if (!same) refuse_file("The graph of the file turns rows into columns in ", said_node(node))
  block
}

cut_block <- function(node, block) {
  threshold <- node_number(node, "threshold", 0, whole = FALSE)
  change_block(block, function(x, j) as.double(x > threshold))
}

# change: function(values, number of the column)
change_block <- function(block, change) {
  block$columns <- Map(change, block$columns, seq_along(block$columns))
  block$plain <- FALSE
  block
}

cast_block <- function(node, block) {
  to <- node_number(node, "to", 1)
  texts <- any(vapply(block$columns, is.character, NA))
  if (texts && to != 8) refuse_file("The graph of the file makes numbers of texts")
  if (to == 8) {
    return(change_block(block, function(x, j) {
      if (is.character(x)) x else ifelse(is.na(x), NA, number_words(x))
    }))
  }
  if (to %in% c(6, 7)) {
    out <- change_block(block, function(x, j) trunc(x))
    out$single <- FALSE
    return(out)
  }
  if (!to %in% c(1, 11)) refuse_file("The graph of the file casts to a type that is not read")
  # a model of singles rounds for itself
  if (to == 1) block$single <- TRUE
  block
}

number_words <- function(x) format(x, trim = TRUE, digits = 15, scientific = FALSE)

bind_blocks <- function(node, blocks) {
  axis <- node_number(node, "axis", if (node$op == "Concat") NA else 1)
  if (is.na(axis) || !axis %in% c(1, -1) || any(lengths(blocks) == 0)) {
    refuse_file("The graph of the file joins by rows or constants in ", said_node(node))
  }
  joined <- function(part) unlist(lapply(unname(blocks), `[[`, part), recursive = FALSE)
  list(
    columns = joined("columns"),
    stems = joined("stems"),
    names = joined("names"),
    single = any(joined("single")),
    plain = all(joined("plain")) && !anyDuplicated(joined("names"))
  )
}

# Numbers of an attribute, one for each column or one for all.
for_columns <- function(node, numbers, block) {
  p <- length(block$columns)
  if (!length(numbers) %in% c(1, p)) file_fault(said_node(node), " does not fit its columns")
  rep_len(numbers, p)
}

scale_block <- function(node, block) {
  offset <- for_columns(node, node_numbers(node, "offset", or = 0), block)
  scale <- for_columns(node, node_numbers(node, "scale", or = 1), block)
  change_block(block, function(x, j) (x - offset[j]) * scale[j])
}

fill_block <- function(node, block) {
  fill <- node_numbers(node, "imputed_value_floats", or = numeric())
  if (!length(fill)) fill <- node_numbers(node, "imputed_value_int64s", whole = TRUE)
  fill <- for_columns(node, fill, block)
  gap <- node_number(node, "replaced_value_float", NA, whole = FALSE)
  change_block(block, function(x, j) {
    x[if (is.na(gap)) is.na(x) else x %in% gap] <- fill[j]
    x
  })
}

one_hot_block <- function(node, block) {
  texts <- node_texts(node, "cats_strings")
  known <- if (length(texts)) texts else node_numbers(node, "cats_int64s", whole = TRUE)
  refuse <- node_number(node, "zeros", 1) == 0
  parts <- Map(
    function(x, stem, name) {
      if (refuse) {
        refuse_unknown(
          as.character(x), as.character(known), list(unknown = "refuse", from = stem)
        )
      }
      list(
        columns = lapply(known, function(k) as.double(x %in% k)),
        stems = rep(list(stem), length(known)),
        names = paste(name, known, sep = "=")
      )
    },
    block$columns,
    block$stems,
    block$names
  )
  joined <- function(part) unlist(lapply(unname(parts), `[[`, part), recursive = FALSE)
  list(
    columns = joined("columns"),
    stems = joined("stems"),
    names = joined("names"),
    single = block$single,
    plain = FALSE
  )
}

# Values by a table: keys to values, and what is not in it to a default.
map_block <- function(node, block) {
  if (node$op == "CategoryMapper") {
    texts <- any(vapply(block$columns, is.character, NA))
    keys <- if (texts) {
      node_texts(node, "cats_strings")
    } else {
      node_numbers(node, "cats_int64s", whole = TRUE)
    }
    values <- if (texts) {
      node_numbers(node, "cats_int64s", whole = TRUE)
    } else {
      node_texts(node, "cats_strings")
    }
  } else {
    keys <- table_side(node, "keys")
    values <- table_side(node, "values")
  }
  if (length(keys) != length(values)) {
    file_fault("the table of ", said_node(node), " is uneven")
  }
  other <- if (is.character(values)) {
    node_text(node, "default_string", "_Unused")
  } else if (is.null(node$attributes[["default_float"]])) {
    node_number(node, "default_int64", -1)
  } else {
    node_number(node, "default_float", 0, whole = FALSE)
  }
  change_block(block, function(x, j) {
    out <- values[match(x, keys)]
    out[is.na(match(x, keys))] <- other
    out
  })
}

table_side <- function(node, side) {
  texts <- node_texts(node, paste0(side, "_strings"))
  if (length(texts)) return(texts)
  whole <- node_numbers(node, paste0(side, "_int64s"), whole = TRUE, or = numeric())
  if (length(whole)) whole else node_numbers(node, paste0(side, "_floats"))
}

pick_columns <- function(node, block, constants) {
  at <- constants[[node$inputs[2]]]$values
  if (is.null(at) || any(at < 0 | at >= length(block$columns))) {
    file_fault(said_node(node), " picks columns that are not there")
  }
  for (part in c("columns", "stems", "names")) block[[part]] <- block[[part]][at + 1]
  block$plain <- FALSE
  block
}

# A constant for each column, added, taken off, multiplied or divided by.
shift_block <- function(node, block, constants) {
  by <- constants[[intersect(node$inputs, names(constants))[1]]]$values
  if (length(node$inputs) != 2 || !is.numeric(by) || node$inputs[1] %in% names(constants)) {
    refuse_file("The graph of the file reckons with several columns in ", said_node(node))
  }
  by <- for_columns(node, by, block)
  act <- list(Add = `+`, Sub = `-`, Mul = `*`, Div = `/`)[[node$op]]
  change_block(block, function(x, j) act(x, by[j]))
}
