# Trees as a file: the documented JSON that read_model() reads.

#' Write the trees of a model to a file
#'
#' Writes a tree model of a study as JSON, in dreher's own documented layout, which [read_model()]
#' reads without the library that trained the model, and any other language can.
#'
#' @param study A [study()].
#' @param file Path of the file; it should end in `.json`. An existing file is replaced.
#' @param ... Must be empty.
#' @param models Name of the model to write. Default: the first.
#' @return `file`, invisibly.
#' @details The file is one object:
#'
#' \describe{
#'   \item{`format`, `version`}{`"dreher model"` and 1} \item{`made_by`}{the program that wrote it,
#'   its first word the library} \item{`task`, `classes`}{`"regression"` or `"classification"`; the
#'   classes in the order of the outputs} \item{`kind`}{`"trees"` or `"linear"`}
#'   \item{`columns`}{names of the columns that are read, in the order of their numbers, from 0}
#'   \item{`link`}{how the sum becomes a prediction: `"identity"`, `"logit"` (one output, the
#'   log-odds of the second class), `"softmax"` (an output per class) or `"log"`}
#'   \item{`gaps`}{do the trees take missing values} \item{`single`}{are values rounded to single
#'   precision before they are compared} \item{`stretch`}{with logit: the sum is multiplied by it}
#'   \item{`base`}{a number per output, added to the sum} \item{`weight`}{a number per tree}
#'   \item{`levels`}{for columns of levels: objects with `column` (its number) and `levels`}
#'   \item{`trees`}{objects of arrays with an entry per node, the root first and every child after
#'   its parent: `column` (-1 for a leaf), `threshold` (at or below goes left), `left`, `right`,
#'   `missing` (where the row goes next, from 0), `value` (an array per output); where there are
#'   any `gain`, `owner` (the node that a surrogate stands in for), and `set`: objects with `node`
#'   and `side` (per level -1 left, 1 right, 0 as if missing)} \item{`boosted`}{where trees
#'   were grown on what those before left over: per tree `round` and `group` (its output), and
#'   `loss`}
#'   \item{`intercept`, `weights`}{of a linear model: a number, and an array over the columns, per
#'   output} \item{`made`}{columns made of others, in this order: `from` the user's column, `fill`
#'   for gaps, `codes` (values in the order of their numbers), `equals` (1 where the value is it),
#'   `minus` and `over`, `times` and `plus`; `unknown` (`"refuse"`, `"zero"`, `"gap"`, `"value"`
#'   with `unknown_value`) for values that are not in `codes` or `levels`} \item{`check`}{`names`,
#'   `rows` (columns of text, empty for a gap) and `predictions` (an array per output): the reader
#'   compares} }
#'
#' Numbers have 17 digits, so that they come back as they were.
#' @section Errors: `dreher_error_model`: a model without trees, or one whose zeros count as
#'   missing, or behind an encoder of the user's, which no file can hold.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + clay_source, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' file <- write_forest(st, tempfile(fileext = ".json"))
#' study(read_model(file), kiln$holdout, "strength")
#' @export
write_forest <- function(study, file, ..., models = NULL) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "write_forest")
  check_string(file, "file")
  model <- if (is.null(models)) {
    study$models[[1]]
  } else {
    study$models[[check_choice(models, names(study$models), "models")]]
  }
  if (is.null(model$forest)) {
    stop_model(
      paste0("Model \"", model$name, "\" has no trees."),
      todo = "Give a model of trees; others are kept by saveRDS()."
    )
  }
  f <- model$forest
  if (!is.null(f$encode) || length(f$zero_missing)) {
    stop_model(
      paste0(
        "Model \"", model$name, "\" ",
        if (is.null(f$encode)) "takes zeros for missing" else "stands behind an encoder",
        ", which the file cannot hold."
      ),
      todo = "Keep the model itself by saveRDS()."
    )
  }
  refuse_target(file)
  write_text(json_object(forest_fields(study, model, f)), file)
}

forest_fields <- function(st, model, f) {
  classes <- if (st$task == "classification") model$classes
  data <- st$data[seq_len(min(200, nrow(st$data))), , drop = FALSE]
  rows <- align_rows(data, model$inputs, model$name)[f$columns]
  leveled <- which(!vapply(f$levels[f$columns], is.null, NA))
  size <- diff(c(f$root, length(f$column)))
  c(
    list(
      format = json_text("dreher model"),
      version = "1",
      made_by = json_text(paste(model$class, "by dreher", utils::packageVersion("dreher"))),
      task = json_text(st$task),
      classes = if (!is.null(classes)) json_array(json_text(classes)),
      kind = json_text("trees"),
      columns = json_array(json_text(f$columns)),
      link = json_text(f$link),
      stretch = json_number(f$stretch),
      gaps = json_flag(isTRUE(model$inputs$missing)),
      single = json_flag(f$single),
      base = json_array(json_number(f$base)),
      weight = json_array(json_number(f$weight)),
      levels = if (length(leveled)) {
        json_array(vapply(leveled, function(j) {
          json_object(list(
            column = json_number(j - 1),
            levels = json_array(json_text(f$levels[[f$columns[j]]]))
          ))
        }, ""))
      },
      boosted = if (!is.null(f$boosted)) {
        json_object(list(
          round = json_array(json_number(f$boosted$round)),
          group = json_array(json_number(f$boosted$group)),
          loss = json_text(if (is.na(f$boosted$loss)) "other" else f$boosted$loss)
        ))
      },
      trees = json_array(vapply(seq_along(f$root), function(t) {
        json_object(tree_fields(f, f$root[t], size[t]))
      }, ""))
    ),
    list(check = json_object(list(
      names = json_array(json_text(f$columns)),
      rows = json_array(vapply(rows, function(x) {
        text <- if (is.numeric(x)) sprintf("%.17g", x) else as.character(x)
        json_array(json_text(ifelse(is.na(x), "", text)))
      }, "")),
      predictions = json_matrix(t(stated_predictions(f, rows)))
    )))
  )
}

stated_predictions <- function(f, rows) {
  apply_link(f, forest_predict(f, encode_for_forest(f, rows), 1L))
}

tree_fields <- function(f, root, size) {
  at <- root + seq_len(size)
  leaf <- f$column[at] < 0
  place <- function(to) json_array(json_number(ifelse(leaf | to < 0, pmin(to, 0), to - root)))
  sets <- which(!leaf & f$set_from[at] >= 0)
  owner <- f$owner[at] - root
  list(
    column = json_array(json_number(f$column[at])),
    threshold = json_array(json_number(ifelse(leaf, 0, f$threshold[at]))),
    left = place(f$left[at]),
    right = place(f$right[at]),
    missing = place(f$missing[at]),
    value = json_matrix(f$value[, at, drop = FALSE]),
    gain = if (!is.null(f$boosted$gain)) json_array(json_number(f$boosted$gain[at])),
    owner = if (any(owner != seq_len(size) - 1)) json_array(json_number(owner)),
    set = if (length(sets)) {
      json_array(vapply(sets, function(i) {
        from <- f$set_from[at[i]]
        json_object(list(
          node = json_number(i - 1),
          side = json_array(json_number(f$set_side[from + seq_len(f$set_size[at[i]])]))
        ))
      }, ""))
    }
  )
}

# --- JSON with all digits -----------------------------------------------------------------------

json_text <- function(x) {
  vapply(enc2utf8(as.character(x)), function(one) {
    as.character(jsonlite::toJSON(one, auto_unbox = TRUE))
  }, "", USE.NAMES = FALSE)
}

json_number <- function(x) sprintf("%.17g", as.double(x))

json_flag <- function(x) if (x) "true" else "false"

json_array <- function(x) paste0("[", paste(x, collapse = ","), "]")

json_matrix <- function(x) {
  json_array(apply(x, 1, function(row) json_array(json_number(row))))
}

# Fields that are NULL are left out.
json_object <- function(fields) {
  fields <- Filter(Negate(is.null), fields)
  paste0(
    "{", paste0(json_text(names(fields)), ":", unlist(fields), collapse = ",\n"), "}"
  )
}
