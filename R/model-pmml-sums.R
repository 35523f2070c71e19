# Trees of PMML and what is made of several: sums, averages, votes, chains.

pmml_models <- c("TreeModel", "RegressionModel", "GeneralRegressionModel", "MiningModel")

pmml_part <- function(x, model, fields, votes = FALSE) {
  check_inner_schema(x, model, fields)
  part <- switch(
    x$name[model],
    TreeModel = tree_part(x, model, fields, votes),
    RegressionModel = regression_part(x, model, fields),
    GeneralRegressionModel = general_part(x, model, fields),
    MiningModel = mining_part(x, model, fields)
  )
  rescaled(x, model, part)
}

tree_part <- function(x, model, fields, votes) {
  kind <- said_word(x, model, "functionName", c("regression", "classification"))
  classes <- if (kind == "classification") tree_classes(x, model, fields)
  score <- if (is.null(classes)) {
    function(at) {
      if (!is.na(said(x, at, "score", NA))) said_number(x, at, "score")
    }
  } else {
    function(at) class_shares(x, at, classes, votes)
  }
  grown <- pmml_tree(x, model, fields, score)
  list(
    task = kind,
    classes = classes,
    link = "identity",
    gaps = grown$gaps,
    trees = list(grown$tree),
    weight = 1,
    base = rep(0, max(1, length(classes)))
  )
}

tree_classes <- function(x, model, fields) {
  if (!is.null(fields$target$classes)) return(fields$target$classes)
  inside <- which(x$name %in% c("Node", "ScoreDistribution"))
  words <- c(attribute_of(x, inside, "score"), attribute_of(x, inside, "value"))
  out <- unique(words[!is.na(words)])
  if (length(out) < 2) file_fault("its trees know fewer than two classes")
  out
}

# Shares of the classes at a node: as it says, or all for the class that it names.
class_shares <- function(x, at, classes, votes) {
  given <- kids(x, at, "ScoreDistribution")
  named <- said(x, at, "score", NA)
  if (votes || !length(given)) {
    if (is.na(named)) return(NULL)
    if (!named %in% classes) file_fault(said_at(x, at), " scores an unknown class")
    return(as.double(classes == named))
  }
  of <- match(vapply(given, function(s) said(x, s, "value"), ""), classes)
  if (anyNA(of) || anyDuplicated(of)) file_fault(said_at(x, at), " scores an unknown class")
  share <- vapply(given, function(s) {
    own <- said(x, s, "probability", NA)
    if (is.na(own)) NA else as_number(own, x, s, "probability")
  }, 0)
  if (anyNA(share)) {
    count <- vapply(given, function(s) said_number(x, s, "recordCount"), 0)
    if (any(count < 0) || sum(count) <= 0) file_fault(said_at(x, at), " counts no rows")
    share <- count / sum(count)
  }
  replace(double(length(classes)), of, share)
}

# --- several models -----------------------------------------------------------------------------

joining <- c(
  "sum", "average", "weightedAverage", "weightedSum", "majorityVote", "weightedMajorityVote",
  "modelChain"
)

mining_part <- function(x, model, fields) {
  top <- needed_kid(x, model, "Segmentation")
  method <- said_word(x, top, "multipleModelMethod", joining)
  segments <- kids(x, top, "Segment")
  if (!length(segments)) file_fault(said_at(x, model), " has no segments")
  for (s in segments) {
    if (predicate_of(x, s)$kind != "true") {
      refuse_file(
        "The model has segments that hold for some rows only, which are not read"
      )
    }
  }
  models <- vapply(segments, function(s) inner_model(x, s), 0L)
  if (method == "modelChain") return(chained_part(x, models, fields))
  parts <- lapply(
    models, pmml_part, x = x, fields = fields, votes = grepl("Vote", method)
  )
  weight <- if (startsWith(method, "weighted")) {
    vapply(segments, function(s) said_number(x, s, "weight", "1"), 0)
  } else {
    rep(1, length(parts))
  }
  if (!method %in% c("sum", "weightedSum")) {
    if (any(weight < 0) || sum(weight) <= 0) {
      file_fault("the weights of its segments add to none")
    }
    weight <- weight / sum(weight)
  } else if (!is.null(parts[[1]]$classes)) {
    refuse_file("The model adds up classes, which is not read")
  }
  summed <- sum_parts(Map(scale_part, parts, weight))
  summed$summed <- method %in% c("sum", "weightedSum")
  summed
}

inner_model <- function(x, segment) {
  found <- kids(x, segment, pmml_models)
  if (length(found) != 1) {
    refuse_file(said_at(x, segment), " holds a model of a kind that is not read")
  }
  found
}

scale_part <- function(part, by) {
  if (is.null(part$trees) || part$link != "identity") {
    refuse_file("The model joins others than trees, which is not read")
  }
  part$weight <- part$weight * by
  part$base <- part$base * by
  part
}

sum_parts <- function(parts) {
  first <- parts[[1]]
  same <- vapply(parts, function(p) identical(p$classes, first$classes), NA)
  if (!all(same)) file_fault("its segments know different classes")
  first$trees <- unlist(lapply(parts, `[[`, "trees"), recursive = FALSE)
  first$weight <- unlist(lapply(parts, `[[`, "weight"))
  first$base <- Reduce(`+`, lapply(parts, `[[`, "base"))
  first$gaps <- all(vapply(parts, `[[`, NA, "gaps"))
  first
}

# The target's own scale: a factor and a constant.
rescaled <- function(x, model, part) {
  targets <- kid(x, model, "Targets")
  if (!targets) return(part)
  for (at in kids(x, targets, "Target")) {
    odd <- intersect(names(x$attributes[[at]]), c("min", "max", "castInteger"))
    if (length(odd)) {
      refuse_file("The target's ", odd[1], " changes predictions, which is not read")
    }
    factor <- said_number(x, at, "rescaleFactor", "1")
    constant <- said_number(x, at, "rescaleConstant", "0")
    if (factor == 1 && constant == 0) next
    part <- scale_part(part, factor)
    part$base <- part$base + constant
  }
  part
}

# --- chains: outputs of models that others take in ----------------------------------------------

# The last model of a chain is a regression on what the others put out.
chained_part <- function(x, models, fields) {
  known <- list()
  for (model in models[-length(models)]) {
    part <- pmml_part(x, model, fields)
    if (part$task != "regression") refuse_file("A chain passes on classes, which is not read")
    known <- c(known, model_outputs(x, model, part, known))
  }
  last <- models[length(models)]
  if (x$name[last] != "RegressionModel") {
    refuse_file("The chain of models does not end in a regression, which is not read")
  }
  chain_end(x, last, fields, known)
}

chain_end <- function(x, model, fields, known) {
  tables <- kids(x, model, "RegressionTable")
  sums <- lapply(tables, function(at) {
    found <- kids(x, at, "NumericPredictor", "CategoricalPredictor", "PredictorTerm")
    parts <- lapply(found, function(one) {
      name <- said(x, one, "name", "")
      if (x$name[one] != "NumericPredictor" ||
          said_number(x, one, "exponent", "1") != 1 || is.null(known[[name]])) {
        refuse_file("The end of a chain takes in more than what the others put out")
      }
      scale_part(known[[name]], said_number(x, one, "coefficient"))
    })
    list(parts = parts, intercept = said_number(x, at, "intercept"))
  })
  read_tables(
    x, model, fields, tables, sums,
    is_empty = function(sum) !length(sum$parts),
    turn = function(sum, sign) {
      sum$parts <- lapply(sum$parts, scale_part, sign)
      sum$intercept <- sign * sum$intercept
      sum
    },
    make = chain_sum
  )
}

# sums: for each output list(parts, intercept)
chain_sum <- function(sums, task, classes, link) {
  outputs <- length(sums)
  parts <- unlist(lapply(sums, `[[`, "parts"), recursive = FALSE)
  if (!length(parts)) file_fault("the end of its chain takes in nothing")
  output <- rep(seq_along(sums), lengths(lapply(sums, `[[`, "parts")))
  out <- sum_parts(lapply(seq_along(parts), function(i) {
    put_in_row(parts[[i]], output[i], outputs)
  }))
  out$base <- out$base + vapply(sums, `[[`, 0, "intercept")
  out$group <- unlist(Map(function(p, k) rep(k - 1L, length(p$trees)), parts, output))
  out$task <- task
  out["classes"] <- list(classes)
  out$link <- link
  out$summed <- TRUE
  out
}

# A part of one output as part of several.
put_in_row <- function(part, k, outputs) {
  part$trees <- lapply(part$trees, function(tree) {
    value <- matrix(0, outputs, ncol(tree$value))
    value[k, ] <- tree$value
    tree$value <- value
    tree
  })
  part$base <- replace(double(outputs), k, part$base)
  part
}

# What a model puts out, by name: its prediction, and what is worked out of that and of `known`.
# Those that are not read are left out.
model_outputs <- function(x, model, part, known = list()) {
  top <- kid(x, model, "Output")
  out <- list()
  for (at in if (top) kids(x, top, "OutputField") else integer()) {
    feature <- said(x, at, "feature", "predictedValue")
    name <- said(x, at, "name")
    if (feature == "predictedValue") out[[name]] <- part
    if (feature == "transformedValue") {
      out[[name]] <- linked_value(x, derived_expression(x, at), c(out, known))
      if (is.null(out[[name]])) out[name] <- list(NULL)
    }
  }
  out
}

# An expression that is a sum of known ones, its exponential, or its logistic function; else NULL.
linked_value <- function(x, at, known) {
  plain <- summed_value(x, at, known)
  if (!is.null(plain)) return(if (!is.null(plain$trees)) plain)
  inside <- function(at, name, first = NULL) {
    parts <- x$children[[at]]
    fits <- x$name[at] == "Apply" && said(x, at, "function", "") == name
    if (!fits) return(0L)
    if (is.null(first)) return(if (length(parts) == 1) parts else 0L)
    constant <- length(parts) == 2 && x$name[parts[1]] == "Constant" &&
      identical(constant_value(x, parts[1]), first)
    if (constant) parts[2] else 0L
  }
  link <- "log"
  found <- inside(at, "exp")
  if (!found) {
    link <- "logit"
    below <- inside(at, "/", 1)
    sum <- if (below) inside(below, "+", 1) else 0L
    found <- if (sum) inside(sum, "exp") else 0L
  }
  part <- if (found) summed_value(x, found, known)
  if (is.null(part$trees)) return(NULL)
  if (link == "logit") {
    part <- scale_part(part, -1)
    part$task <- "classification"
    part$classes <- c("0", "1")
  }
  part$link <- link
  part
}

# A sum of known parts with constants; a number where no part is in it; NULL for anything else.
summed_value <- function(x, at, known) {
  if (x$name[at] == "FieldRef") {
    part <- known[[said(x, at, "field")]]
    return(if (!is.null(part$trees) && part$link == "identity") part)
  }
  if (x$name[at] == "Constant") {
    value <- constant_value(x, at)
    return(if (is.numeric(value)) value)
  }
  if (x$name[at] != "Apply" || length(x$children[[at]]) != 2) return(NULL)
  a <- summed_value(x, x$children[[at]][1], known)
  b <- summed_value(x, x$children[[at]][2], known)
  if (is.null(a) || is.null(b)) return(NULL)
  switch(
    said(x, at, "function"),
    `+` = add_values(a, b),
    `-` = add_values(a, scale_value(b, -1)),
    `*` = if (is.numeric(a)) scale_value(b, a) else if (is.numeric(b)) scale_value(a, b),
    `/` = if (is.numeric(b)) scale_value(a, 1 / b)
  )
}

scale_value <- function(a, by) if (is.numeric(a)) a * by else scale_part(a, by)

add_values <- function(a, b) {
  if (is.numeric(a) && is.numeric(b)) return(a + b)
  if (!is.numeric(a) && !is.numeric(b)) return(sum_parts(list(a, b)))
  part <- if (is.numeric(a)) b else a
  part$base <- part$base + if (is.numeric(a)) a else b
  part
}
