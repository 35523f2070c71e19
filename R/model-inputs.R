# What a model takes in: its predictors, their types and levels, and whether it stands missing
# values.
#
# inputs: list(predictors = character, levels = named list (NULL for numbers), missing = TRUE/FALSE,
#              also = columns that must be there though nothing is made of them, as x in y ~ . - x,
#              free = columns of text whose levels need not be those of training)

#' Parts of a reader
#'
#' What a reader for a model class of your own is built from; see `vignette("extending")`.
#'
#' @param predictors Names of the predictors, character.
#' @param levels Named list: for each factor its levels as in training; numbers need no entry.
#' @param missing Does the model take missing values? TRUE or FALSE.
#' @param also Names of columns that must be in the data though nothing is made of them.
#' @return `new_inputs()`: what a method of [model_inputs()] returns: a list of `predictors`,
#'   `levels` (one entry per predictor, `NULL` for numbers), `missing` and `also`.
#'
#' `join_trees()`: a forest as of [flat_forest()].
#'
#' `plain_formula()`: the formula target ~ predictors, safe for names with blanks, quotes or words
#' of the language.
#'
#' `just_below()`: the largest number below each `x`, a double vector. Trees that send `x < cut` to
#' the left ask, in a flat forest, whether `x <= just_below(cut)`.
#' @section Errors: Trees whose nodes lead back, or out of the tree (`dreher_error_model`).
#' @examples
#' new_inputs(c("peak_temp", "operator"), list(operator = c("Ada", "Bo")))$levels
#' stump <- function(cut, low, high) {
#'   list(
#'     column = c(0L, -1L, -1L), threshold = c(cut, 0, 0), left = c(1L, 0L, 0L),
#'     right = c(2L, 0L, 0L), missing = c(2L, 0L, 0L), value = matrix(c(0, low, high), 1)
#'   )
#' }
#' trees <- list(stump(2, 10, 20), stump(just_below(5), 30, 40))
#' join_trees(trees, weight = c(0.5, 0.5), columns = "x")
#' plain_formula("tile strength", c("peak temp", "if"))
#' @name reader_parts
#' @export
new_inputs <- function(predictors, levels = list(), missing = FALSE, also = character()) {
  if (!is.character(predictors) || length(predictors)) {
    check_names(predictors, "predictors")
  }
  known <- is.list(levels) &&
    all(vapply(levels, function(l) is.null(l) || is.character(l), NA))
  if (!known || (length(levels) && is.null(names(levels)))) {
    stop_input(
      "`levels` must be a list of text, named like the predictors.",
      paste0("Given: ", describe_value(levels), ".")
    )
  }
  flags <- is.logical(missing) && !anyNA(missing) && length(missing) >= 1
  if (!flags) {
    stop_input(
      "`missing` must be TRUE or FALSE.", paste0("Given: ", describe_value(missing), ".")
    )
  }
  levels <- stats::setNames(lapply(predictors, function(p) levels[[p]]), predictors)
  list(predictors = predictors, levels = levels, missing = missing, also = also)
}

#' @rdname reader_parts
#' @param x Numbers.
#' @export
just_below <- function(x) {
  if (!is.numeric(x)) {
    stop_input("`x` must be numbers.", paste0("Given: ", describe_value(x), "."))
  }
  doubles_below(x)
}

# Columns that were ordered factors in training, where the model's terms say so: a file holds
# their text only.
ordered_columns <- function(object) {
  terms <- if (is.list(object)) {
    Find(
      function(t) inherits(t, "terms"),
      list(object$terms, object$Terms, own_terms(object$model))
    )
  }
  classes <- attr(terms, "dataClasses")
  names(classes)[classes == "ordered"]
}

# Levels as the training rows have them: a factor's own, the sorted values of a text column.
levels_of_column <- function(x) {
  if (is.factor(x)) {
    levels(x)
  } else if (is.character(x)) {
    sort(unique(x[!is.na(x)]), method = "radix")
  }
}

levels_of_rows <- function(data, columns) {
  lapply(stats::setNames(columns, columns), function(p) levels_of_column(data[[p]]))
}

# The columns of `data` a model needs, with factors on the levels it was trained with. Refuses
# what would give a silent wrong prediction: other types, unseen levels, missing values.
align_rows <- function(data, inputs, model, arg = "data") {
  check_columns(data, inputs$predictors, arg, "The predictor", model)
  out <- data[c(inputs$predictors, intersect(inputs$also, names(data)))]
  for (p in inputs$predictors) {
    known <- inputs$levels[[p]]
    x <- out[[p]]
    if (p %in% inputs$free) known <- union(known, unique(as.character(x[!is.na(x)])))
    if (!is.null(known)) {
      out[[p]] <- align_levels(x, known, p %in% inputs$ordered, p, model, arg)
    } else if (is.character(x) || is.factor(x)) {
      out[[p]] <- align_numbers(x, p, model, arg)
    }
    if (!inputs$missing) check_no_gaps(out[[p]], p, model, arg)
  }
  out
}

# Text of which a tenth of the rows or more stand alone: names, notes, addresses.
is_free_text <- function(x) {
  if (!is.character(x)) return(FALSE)
  x <- x[!is.na(x)]
  length(x) >= 20 && sum(table(x) == 1) >= 0.1 * length(x)
}

# Numbers that came as text or as levels of a factor, where all of them are numbers.
align_numbers <- function(x, p, model, arg) {
  kind <- if (is.factor(x)) "levels of a factor" else "text"
  text <- trimws(as.character(x))
  known <- !is.na(text) & nzchar(text)
  number <- suppressWarnings(as.double(text))
  bad <- known & is.na(number)
  if (any(bad) || !any(known)) {
    stop_input(
      paste0(
        "Column \"", p, "\" of `", arg, "` holds ", kind, ", but model \"", model,
        "\" was trained on numbers."
      ),
      if (any(bad)) {
        paste0(
          "No numbers are ", quote_some(unique(text[bad]), 3), "; the first is in row ",
          which(bad)[1], "."
        )
      },
      "Give the column in the type of the training rows."
    )
  }
  warn_dreher(
    "types",
    paste0(
      "Column \"", p, "\" of `", arg, "` holds ", kind,
      ", and numbers in training: all of it are numbers, and it was taken so."
    )
  )
  number
}

# Columns brought to what they are in the training rows: numbers that came as text or levels, spans
# of time in other units, times in other zones. Dates are no times.
as_in_training <- function(data, train, arg) {
  for (p in intersect(names(data), names(train))) {
    x <- data[[p]]
    if (is_time(x) || is_time(train[[p]])) {
      data[[p]] <- align_times(x, train[[p]], p, arg)
      next
    }
    if (!is.numeric(train[[p]]) || is.factor(train[[p]]) ||
        is.numeric(x) && !is.factor(x)) {
      next
    }
    if (!is.character(x) && !is.factor(x)) next
    text <- as.character(x)
    if (any(is.na(suppressWarnings(as.double(text))) & !is.na(text))) next  # said by the model
    data[[p]] <- align_numbers(x, p, NULL, arg)
  }
  data
}

# As the study's training rows have them; without any, as its own rows.
as_in_study <- function(rows, st, arg) {
  as_in_training(rows, if (is.null(st$train)) st$data else st$train, arg)
}

# like: the column in the training rows, or what is known of its kind: of length 0.
align_times <- function(x, like, p, arg) {
  kind <- kind_of_time(x)
  usual <- kind_of_time(like)
  if (kind != usual) {
    if (all(is.na(x))) return(x)
    stop_input(
      paste0(
        "Column \"", p, "\" of `", arg, "` holds ", kind, "; in the training rows it holds ",
        usual, "."
      ),
      "The same moment is another number in each.",
      "Give both in one kind: as.Date(), as.POSIXct() or as.difftime()."
    )
  }
  if (kind == "spans of time") units(x) <- units(like)
  if (kind == "times") attr(x, "tzone") <- attr(like, "tzone")
  x
}

kind_of_time <- function(x) {
  if (inherits(x, "Date")) return("dates")
  if (inherits(x, "POSIXct")) return("times")
  if (inherits(x, "difftime")) return("spans of time")
  if (is.numeric(x) && !is.factor(x)) "numbers" else if (is.logical(x)) "logicals" else "text"
}

# A column on the levels of training.
align_levels <- function(x, known, ordered, p, model, arg) {
  # Numbers whose digits are levels are levels: a file does not tell them apart.
  if (is.numeric(x) && !is.factor(x) && !all(is.na(x) | as.character(x) %in% known)) {
    stop_input(
      paste0(
        "Column \"", p, "\" of `", arg, "` holds numbers, but model \"", model,
        "\" was trained on a factor with levels ", quote_some(known), "."
      ),
      todo = "Give the column in the type of the training rows."
    )
  }
  text <- as.character(x)
  unseen <- !is.na(text) & !text %in% known
  if (any(unseen)) {
    stop_input(
      paste0(
        "Column \"", p, "\" of `", arg, "` has levels that model \"", model,
        "\" has not seen in training: ", quote_some(unique(text[unseen])), "."
      ),
      paste0(
        sum(unseen), if (sum(unseen) == 1) " row" else " rows",
        " concerned, the first is row ", which(unseen)[1], "."
      ),
      "Drop these rows or merge the levels before training."
    )
  }
  factor(text, levels = known, ordered = is.ordered(x) || ordered)
}

check_no_gaps <- function(x, p, model, arg) {
  gaps <- is.na(x)
  if (!any(gaps)) return(invisible())
  stop_input(
    paste0(
      "Column \"", p, "\" of `", arg, "` has ", sum(gaps), " missing value",
      if (sum(gaps) > 1) "s", ", and model \"", model,
      "\" does not take missing values."
    ),
    paste0("The first is in row ", which(gaps)[1], "."),
    paste0(
      "Fill them in as was done for training, or give `predict_with = ` a ",
      "function that does."
    )
  )
}

# The same rows as numbers for the flat forest, a data frame: factors as level numbers. Columns of
# numbers are not copied. A last level NA stands for every value that is none of the others.
encode_rows <- function(data, columns, levels) {
  out <- lapply(columns, function(p) {
    known <- levels[[p]]
    if (is.null(known)) return(as.double(data[[p]]))
    other <- if (is.na(known[length(known)])) length(known) else NA_integer_
    code <- match(
      if (is.numeric(known)) trunc(data[[p]]) else as.character(data[[p]]),
      known[!is.na(known)],
      nomatch = other
    )
    code[is.na(data[[p]])] <- NA
    as.double(code)
  })
  structure(
    out, names = columns, row.names = .set_row_names(nrow(data)), class = "data.frame"
  )
}

# What a model was fitted by; classes keep it in different places.
own_terms <- function(own) if (isS4(own)) attr(own, "terms") else own$terms
