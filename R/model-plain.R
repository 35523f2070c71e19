# Reader for the documented JSON of trees and linear models, "dreher model" version 1, which
# inst/python/write_dreher_model.py writes for scikit-learn and write_forest() for any tree model
# of a study. The layout is in the help of write_forest().
#
# Columns that the file says are made of others (filled, coded, scaled) make the model an encoded
# one: its encoder is read from the file as well.

is_plain_document <- function(bytes) {
  head <- bytes[seq_len(min(400, length(bytes)))]
  length(grepRaw("\"dreher model\"", head, fixed = TRUE)) > 0
}

new_plain_model <- function(bytes, rounds, output, columns) {
  if (!is.null(rounds) || !is.null(output)) {
    stop_input(
      "`rounds` and `output` are for files of boosting libraries.", todo = "Leave them out."
    )
  }
  doc <- document_of(bytes, FALSE)
  version <- take_number(doc, "version", "the file")
  if (version != 1) {
    stop_model(
      paste0("The file is of version ", version, " of its format; version 1 is known."),
      todo = "Update dreher, or write the file with the script of this version."
    )
  }
  own <- take_texts(doc, "columns", "the file")
  task <- take_text(doc, "task", "the file")
  if (!task %in% c("regression", "classification")) {
    file_fault("its task is \"", task, "\"")
  }
  link <- take_text(doc, "link", "the file")
  if (!link %in% forest_links) file_fault("its link is \"", link, "\"")
  kind <- take_text(doc, "kind", "the file")
  if (!kind %in% c("trees", "linear")) file_fault("it is of kind \"", kind, "\"")
  model <- structure(
    list(
      library = sub(" .*", "", take_text(doc, "made_by", "the file")),
      objective = paste0(kind, ", link ", link),
      columns = file_columns(own, columns, length(own)),
      task = task,
      classes = if (task == "classification") plain_classes(doc),
      link = link,
      gaps = kind == "trees" && isTRUE(doc[["gaps"]]),
      levels = plain_levels(doc, own)
    ),
    class = c("dreher_plain_model", "dreher_model_file")
  )
  if (kind == "trees") {
    model$forest <- plain_forest(doc, model)
  } else {
    model$linear <- plain_linear(doc, model)
  }
  if (!is.null(doc[["made"]])) model$encode <- plain_encoder(doc, model)
  check_stated(doc, model)
  model
}

plain_classes <- function(doc) {
  classes <- take_texts(doc, "classes", "the file")
  if (length(classes) < 2 || anyDuplicated(classes)) {
    file_fault("its classes are not distinct")
  }
  classes
}

# How many outputs the sum has: one for each class, but one alone for log-odds and numbers.
plain_outputs <- function(model) {
  if (model$task == "regression" || model$link == "logit") 1L else length(model$classes)
}

plain_levels <- function(doc, columns) {
  if (is.null(doc[["levels"]])) return(list())
  out <- list()
  for (one in take_list(doc, "levels", "the file")) {
    j <- take_count(one, "column", "the levels")
    if (j >= length(columns)) file_fault("levels of a column that is not there")
    out[[columns[j + 1]]] <- take_texts(one, "levels", "the levels")
  }
  out
}

plain_forest <- function(doc, model) {
  trees <- take_list(doc, "trees", "the file")
  if (!length(trees)) file_fault("it has no trees")
  outputs <- plain_outputs(model)
  read <- lapply(seq_along(trees), function(t) {
    plain_tree(trees[[t]], paste("tree", t), outputs, model)
  })
  single <- isTRUE(doc[["single"]])
  join_trees(
    lapply(read, function(tree) tree[names(tree) != "gain"]),
    weight = take_numbers(doc, "weight", "the file", length(read)),
    columns = model$columns,
    levels = model$levels,
    base = take_numbers(doc, "base", "the file", outputs),
    link = model$link,
    stretch = if (is.null(doc[["stretch"]])) 1 else take_number(doc, "stretch", "the file"),
    boosted = plain_boosting(doc, read),
    single = single
  )
}

plain_tree <- function(tree, where, outputs, model) {
  column <- take_numbers(tree, "column", where, whole = TRUE)
  n <- length(column)
  if (!n) file_fault(where, " has no node")
  places <- function(name) take_numbers(tree, name, where, n, whole = TRUE)
  value <- take_list(tree, "value", where)
  if (length(value) != outputs) {
    file_fault(where, " has ", length(value), " outputs instead of ", outputs)
  }
  rows <- lapply(seq_along(value), function(k) {
    take_numbers(value, k, paste0("the values of ", where), n)
  })
  out <- list(
    column = column,
    threshold = as.double(take_numbers(tree, "threshold", where, n)),
    left = places("left"),
    right = places("right"),
    missing = places("missing"),
    value = do.call(rbind, rows),
    gain = if (!is.null(tree[["gain"]])) take_numbers(tree, "gain", where, n)
  )
  if (!is.null(tree[["owner"]])) out$owner <- places("owner")
  if (!is.null(tree[["set"]])) out <- c(out, plain_sets(tree, where, n, column, model))
  out
}

# Splits on levels: for each level of the column where it goes, -1 left, 1 right, 0 as if missing.
plain_sets <- function(tree, where, n, column, model) {
  from <- rep(-1L, n)
  size <- integer(n)
  sides <- list()
  for (one in take_list(tree, "set", where)) {
    at <- take_count(one, "node", where) + 1L
    side <- take_numbers(one, "side", where, whole = TRUE)
    known <- if (at <= n && column[at] >= 0) model$levels[[model$columns[column[at] + 1L]]]
    if (is.null(known) || length(side) != length(known) || !all(side %in% -1:1)) {
      file_fault("a split on levels of ", where, " does not fit its column")
    }
    from[at] <- sum(lengths(sides))
    size[at] <- length(side)
    sides <- c(sides, list(side))
  }
  list(set_from = from, set_size = size, set_side = as.integer(unlist(sides)))
}

# Trees of which each was grown on what those before it left over: the gains are those that the
# library kept, where all trees have them.
plain_boosting <- function(doc, trees) {
  if (is.null(doc[["boosted"]])) return(NULL)
  own <- take_table(doc, "boosted", "the file")
  whole <- function(name) {
    take_numbers(own, name, "the boosting", length(trees), whole = TRUE)
  }
  kept <- !any(vapply(trees, function(tree) is.null(tree$gain), NA))
  list(
    loss = if (identical(own[["loss"]], "squared")) "squared" else NA_character_,
    known = FALSE,
    second_order = FALSE,
    lambda = 0,
    most_step = 0,
    round = whole("round"),
    group = whole("group"),
    gain = if (kept) unlist(lapply(trees, `[[`, "gain"), use.names = FALSE),
    stored = "stored gain"
  )
}

plain_linear <- function(doc, model) {
  outputs <- plain_outputs(model)
  weights <- take_list(doc, "weights", "the file")
  if (length(weights) != outputs) file_fault("its weights do not fit its classes")
  p <- length(model$columns)
  rows <- lapply(seq_len(outputs), function(k) take_numbers(weights, k, "the weights", p))
  numeric_linear(
    take_numbers(doc, "intercept", "the file", outputs), do.call(rbind, rows), model
  )
}

# A linear model of numbers: an intercept for each output, weights outputs x columns.
numeric_linear <- function(intercept, weights, model) {
  columns <- model$columns
  outputs <- length(intercept)
  beta <- rbind(intercept, t(weights))
  dimnames(beta) <- list(c("(Intercept)", columns), NULL)
  if (outputs > 1) colnames(beta) <- model$classes
  list(
    beta = if (outputs > 1) beta else beta[, 1],
    term = c(0L, seq_along(columns)),
    columns = stats::setNames(as.list(columns), columns),
    design = function(data) cbind(`(Intercept)` = 1, as.matrix(data[columns])),
    invlink = switch(model$link, logit = stats::plogis, log = exp, identity),
    link = model$link,
    stretch = 1
  )
}

# --- columns made of the user's -----------------------------------------------------------------

made_fields <- c(
  "column", "from", "fill", "codes", "equals", "levels", "unknown", "unknown_value", "minus",
  "over", "times", "plus"
)

plain_encoder <- function(doc, model) {
  made <- lapply(take_list(doc, "made", "the file"), function(m) {
    strange <- setdiff(names(m), made_fields)
    if (length(strange)) {
      file_fault("a column is made by `", strange[1], "`, which is not known")
    }
    number <- function(name) if (!is.null(m[[name]])) take_number(m, name, "a made column")
    word <- function(name) if (!is.null(m[[name]])) take_text(m, name, "a made column")
    out <- list(
      column = take_text(m, "column", "a made column"),
      from = take_text(m, "from", "a made column"),
      fill = if (is.character(m[["fill"]])) word("fill") else number("fill"),
      codes = if (!is.null(m[["codes"]])) take_texts(m, "codes", "a made column"),
      equals = word("equals"),
      known = if (!is.null(m[["levels"]])) take_texts(m, "levels", "a made column"),
      unknown = if (is.null(m[["unknown"]])) "refuse" else word("unknown"),
      unknown_value = number("unknown_value"),
      minus = number("minus"),
      over = number("over"),
      times = number("times"),
      plus = number("plus")
    )
    if (is.null(out$minus) != is.null(out$over) || is.null(out$times) != is.null(out$plus)) {
      file_fault("`minus` and `over`, `times` and `plus` of a made column belong together")
    }
    if (!out$unknown %in% c("refuse", "zero", "gap", "value") ||
        (out$unknown == "value" && is.null(out$unknown_value))) {
      file_fault("what a made column does with unknown values is not known")
    }
    out
  })
  columns <- vapply(made, `[[`, "", "column")
  if (!setequal(columns, model$columns)) {
    file_fault("the columns it says how to make are not those of the model")
  }
  from <- vapply(made, `[[`, "", "from")
  function(rows) {
    check_columns(rows, unique(from), "data", "The predictor")
    out <- lapply(made, function(m) make_column(m, rows[[m$from]]))
    structure(
      as.data.frame(stats::setNames(out, columns), optional = TRUE),
      stems_from = stats::setNames(as.list(from), columns)
    )
  }
}

make_column <- function(m, x) {
  if (!is.null(m$fill)) x <- with_fill(x, m$fill)
  if (!is.null(m$codes)) {
    x <- place_codes(category_text(x), m)
  } else if (!is.null(m$equals)) {
    text <- category_text(x)
    refuse_unknown(text, m$known, m)
    x <- as.double(!is.na(text) & text == m$equals)
  } else {
    x <- as_numbers(x, m$from)
  }
  if (!is.null(m$minus)) x <- (x - m$minus) / m$over
  if (!is.null(m$times)) x <- x * m$times + m$plus
  x
}

as_numbers <- function(x, column) {
  if (is.factor(x)) x <- as.character(x)
  out <- suppressWarnings(as.double(x))
  strange <- which(is.na(out) & !is.na(x))
  if (length(strange)) {
    stop_input(
      paste0(
        "The model takes column \"", column, "\" as numbers, and \"", x[strange[1]],
        "\" is none."
      ),
      paste0("The first is in row ", strange[1], ".")
    )
  }
  out
}

with_fill <- function(x, fill) {
  if (is.factor(x)) x <- as.character(x)
  if (is.character(x)) fill <- category_text(fill)
  x[is.na(x)] <- fill
  x
}

# Values as their language writes them.
category_text <- function(x) {
  if (is.logical(x)) return(c("False", "True")[x + 1L])
  as.character(x)
}

place_codes <- function(text, m) {
  code <- match(text, m$codes) - 1
  new <- is.na(code)
  if (!any(new)) return(code)
  switch(
    m$unknown,
    value = replace(code, new & !is.na(text), m$unknown_value),
    gap = code,
    {
      refuse_unknown(text, m$codes, m)
      code
    }
  )
}

refuse_unknown <- function(text, known, m) {
  if (m$unknown != "refuse") return(invisible())
  new <- !is.na(text) & !text %in% known
  if (any(new)) {
    stop_input(
      paste0(
        "Column \"", m$from, "\" has values that the model has not seen in training: ",
        quote_some(unique(text[new])), "."
      ),
      paste0("The first is in row ", which(new)[1], "."),
      "Drop these rows or merge the values before training."
    )
  }
}

# --- what the file says the model predicts ------------------------------------------------------

check_stated <- function(doc, model) {
  if (is.null(doc[["check"]])) return(invisible())
  said <- take_table(doc, "check", "the file")
  rows <- stated_rows(said, model)
  encoded <- if (is.null(model$encode)) rows else model$encode(rows)
  ours <- file_predictions(model, align_rows(encoded, model_inputs(model), "file"))
  stated <- take_list(said, "predictions", "the check")
  if (length(stated) != ncol(ours)) {
    file_fault("the predictions it states do not fit its outputs")
  }
  own <- do.call(
    cbind,
    lapply(seq_along(stated), function(k) {
      take_numbers(stated, k, "the check", nrow(ours))
    })
  )
  refuse_other_predictions(
    own, ours, 1e-9,
    "The model in the file does not predict what the file says it predicts.",
    "Write the file again with the script of this version, and please report it."
  )
}

# The rows of the check: text where one of a column's values is no number.
stated_rows <- function(said, model) {
  names <- take_texts(said, "names", "the check")
  cells <- take_list(said, "rows", "the check")
  if (length(cells) != length(names) || !length(names)) {
    file_fault("the rows of its check do not fit their columns")
  }
  columns <- lapply(seq_along(cells), function(j) {
    text <- take_texts(cells, j, "the check")
    text[text == ""] <- NA
    number <- suppressWarnings(as.double(text))
    if (any(is.na(number) & !is.na(text))) text else number
  })
  if (length(unique(lengths(columns))) != 1) {
    file_fault("the columns of its check differ in length")
  }
  as.data.frame(stats::setNames(columns, names), optional = TRUE)
}

# --- generics -----------------------------------------------------------------------------------

#' @export
model_task.dreher_plain_model <- function(model, ...) {
  list(task = model$task, classes = model$classes)
}

#' @export
model_inputs.dreher_plain_model <- function(model, train = NULL, ...) {
  new_inputs(model$columns, model$levels, missing = model$gaps)
}

#' @export
model_predictions.dreher_plain_model <- function(model, data, ...) {
  out <- file_predictions(model, data)
  if (is.null(model$classes)) as.double(out) else out
}

#' @export
model_forest.dreher_plain_model <- function(model, inputs, ...) model$forest

#' @export
model_coefficients.dreher_plain_model <- function(model, ...) model$linear
