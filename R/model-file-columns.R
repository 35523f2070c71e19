# What all model files have in common: names of columns, one output of several, predictions.

# The model's predictions by its own trees or weights: rows x outputs, classes by name.
file_predictions <- function(model, data) {
  forest <- model_forest(model, model_inputs(model))
  out <- if (is.null(forest)) {
    linear <- model_coefficients(model)
    apply_link(linear, as.matrix(linear$design(data) %*% linear$beta))
  } else {
    apply_link(forest, forest_predict(forest, encode_for_forest(forest, data), 1L))
  }
  colnames(out) <- model_task(model)$classes
  out
}

# The names of a file's columns: its own, or those the user gave.
file_columns <- function(own, given, count) {
  columns <- if (is.null(given)) own else given
  if (!length(columns)) {
    stop_input(
      "The model file does not name its columns.",
      todo = "Give `read_model(columns = )` their names in the order of training."
    )
  }
  if (!is.character(columns) || length(columns) != count || anyNA(columns) ||
      anyDuplicated(columns)) {
    if (is.null(given)) {
      file_fault("the names of its columns do not fit their number, ", count)
    }
    stop_input(
      paste0("`columns` must be ", count, " distinct names."),
      paste0("Given: ", describe_value(columns), ".")
    )
  }
  columns
}

pick_output <- function(output, targets) {
  if (targets > 1 && is.null(output)) {
    stop_input(
      paste0("The model has ", targets, " targets."),
      todo = "Say which to read: read_model(output = 1), for example."
    )
  }
  if (!is.null(output)) check_count(output, "output", most = targets) else 1L
}

# What was stated must be what is read. stated, ours: rows x outputs
refuse_other_predictions <- function(stated, ours, tolerance, problem, todo) {
  apart <- which(!(rowSums(abs(stated - ours)) <= tolerance * (1 + max(abs(stated)))))
  if (!length(apart)) return(invisible())
  i <- apart[1]
  stop_model(
    problem,
    paste0(
      "First differing row: ", i, " (stated ", format(stated[i, ncol(stated)], digits = 10),
      ", read ", format(ours[i, ncol(ours)], digits = 10), "); ", length(apart), " of ",
      nrow(stated), " rows differ."
    ),
    todo
  )
}

# Trees that are added up: of a file that does not say what their splits gained.
gainless <- function(part, trees) {
  list(
    loss = NA_character_, known = FALSE, second_order = FALSE, lambda = 0, most_step = 0,
    round = seq_len(trees) - 1L,
    group = if (is.null(part$group)) rep(0L, trees) else part$group,
    gain = NULL, stored = NULL, why = part$why
  )
}
