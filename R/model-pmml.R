# Reader for PMML 4: trees, sums, averages and votes of trees, chains that end in a regression,
# regressions and general regressions; with gaps as the file treats them and derived fields.
#
# The file becomes what the documented JSON becomes (model-plain.R): a flat forest or a linear
# model, and where the file prepares or derives fields, a function that makes the model's columns.

is_pmml <- function(bytes) {
  head <- bytes[seq_len(min(4000, length(bytes)))]
  length(grepRaw("<([A-Za-z0-9]+:)?PMML[ >\r\n\t]", head)) > 0
}

new_pmml_model <- function(bytes, rounds, output, columns) {
  if (!is.null(rounds) || !is.null(columns)) {
    stop_input(
      "A PMML file names its fields itself and has no rounds.",
      todo = "Leave out `columns` and `rounds`."
    )
  }
  x <- xml_table(bytes)
  if (x$name[1] != "PMML") file_fault("its first element is not PMML")
  version <- said(x, 1L, "version")
  if (!startsWith(version, "4")) {
    refuse_file("The file is of PMML ", version, "; versions 4.0 to 4.4 are read")
  }
  x$grown <- pmml_nodes(x)
  top <- top_model(x)
  fields <- pmml_fields(x, top)
  part <- chosen_output(x, top, pmml_part(x, top, fields), output)
  columns <- model_fields(x, fields)
  if (!length(columns)) file_fault("its model takes in no field")
  model <- structure(
    list(
      library = "PMML",
      objective = paste0(
        if (is.null(part$linear)) "trees" else "linear", ", link ", part$link,
        if (!is.null(part$output)) paste0(", output ", part$output)
      ),
      columns = columns,
      task = part$task,
      classes = part$classes,
      link = part$link,
      gaps = part$gaps,
      levels = fields$words[intersect(columns, names(fields$words))],
      linear = part$linear,
      encode = pmml_encoder(x, fields, columns)
    ),
    class = c("dreher_plain_model", "dreher_model_file")
  )
  if (is.null(part$linear)) {
    single <- said(x, top, "x-mathContext", "double") == "float"
    model$forest <- pmml_forest(part, model, single)
  }
  model
}

top_model <- function(x) {
  known <- kids(x, 1L, pmml_models)
  others <- grep("(Model|Network|Machine|Card)$", x$name[x$children[[1]]], value = TRUE)
  if (length(known) == 1 && length(others) == 1) return(known)
  if (length(others) > 1) refuse_file("The file holds several models")
  if (!length(others)) file_fault("it holds no model")
  refuse_file("The file holds a ", others[1], ", which is not read")
}

# The prediction, or one that the file makes of it: its last one, or that of number `output`.
chosen_output <- function(x, top, part, output) {
  if (part$task == "classification") {
    if (!is.null(output)) {
      stop_input("`output` is for models of numbers.", todo = "Leave it out.")
    }
    return(part)
  }
  ways <- model_outputs(x, top, part)
  if (!length(ways)) ways <- list(prediction = part)
  k <- if (is.null(output)) {
    length(ways)
  } else {
    check_count(output, "output", most = length(ways))
  }
  if (is.null(ways[[k]])) {
    refuse_file(
      "How the file makes its output ",
      quote_some(names(ways)[k]),
      " is not read. The model's ",
      "own prediction is read with `output = 1`"
    )
  }
  out <- ways[[k]]
  if (length(ways) > 1) out$output <- names(ways)[k]
  out
}

pmml_forest <- function(part, model, single) {
  trees <- lapply(part$trees, function(tree) {
    tree$column <- match(tree$field, model$columns, nomatch = 0L) - 1L
    tree[names(tree) != "field"]
  })
  n <- sum(vapply(trees, function(tree) length(tree$column), 0))
  check_model_size(length(part$base), n)
  join_trees(
    trees,
    weight = part$weight,
    columns = model$columns,
    levels = model$levels,
    base = part$base,
    link = part$link,
    boosted = if (isTRUE(part$summed)) gainless(part, length(trees)),
    single = single
  )
}
