# Which rows a call speaks of, and which models.

# Several at once: words, or a named list of data frames.
pick_several_rows <- function(st, rows) {
  if (inherits(rows, "dreher_rows")) return(list(unclass(rows)))
  if (is.list(rows) && !is.data.frame(rows)) {
    if (!length(rows) || is.null(names(rows)) || !all(nzchar(names(rows))) ||
        anyDuplicated(names(rows))) {
      stop_input(
        "`rows`, as a list, must hold data frames, each under a name of its own.",
        paste0(
          "Given: ", if (is.null(names(rows))) "no names" else quote_some(names(rows)),
          "."
        )
      )
    }
    return(lapply(stats::setNames(nm = names(rows)), function(r) {
      evaluation <- pick_rows(st, rows[[r]])
      evaluation$label <- r
      evaluation
    }))
  }
  if (is.data.frame(rows)) return(list(pick_rows(st, rows)))
  rows <- unique(check_choice(rows, c("holdout", "train", "oob"), "rows", several = TRUE))
  # Holdout rows that are training rows are called so, and stand in the ranking once.
  if (isTRUE(st$seen) && "train" %in% rows) rows <- setdiff(rows, "holdout")
  lapply(rows, function(r) {
    if (r != "oob") return(pick_rows(st, r))
    list(data = need_train(st, "`rows = \"oob\"`"), label = "oob", kind = "oob")
  })
}

# Rows that were picked already, to hand to a function that picks rows.
given_rows <- function(evaluation) structure(evaluation, class = "dreher_rows")

# The rows named by `rows`: "holdout", "train", or a data frame of the user's. -> list(data; label:
# what they are called; kind: holdout, train, oob or given, which decides what may be said of them)
# judge: are rows of the user's held against the training rows?
pick_rows <- function(st, rows, judge = TRUE, least = 3) {
  if (is.data.frame(rows)) {
    rows <- check_rows(rows, "rows")
    rows <- as_in_study(rows, st, "rows")
    if (nrow(rows) < least) {
      stop_input(
        paste0(
          "`rows` has ", nrow(rows), if (nrow(rows) == 1) " row" else " rows",
          "; at least ", least, " are needed."
        ),
        todo = "Give more rows: the intervals come from how rows differ."
      )
    }
    check_columns(rows, st$target, "rows", "The target")
    check_target(rows[[st$target]], st$target, "rows")
    if (st$task == "classification") {
      rows[[st$target]] <- factor(as.character(rows[[st$target]]), levels = st$classes)
    }
    check_target(rows[[st$target]], st$target, "rows")
    check_row_info(st, rows, "rows")
    return(list(
      data = rows, label = "given", kind = if (judge) kind_of_given(st, rows) else "given"
    ))
  }
  rows <- check_choice(rows, c("holdout", "train"), "rows")
  # Rows that the models were trained on are no holdout rows, whatever they are asked for as.
  if (rows == "holdout" && isTRUE(st$seen)) {
    return(list(data = st$data, label = "train", kind = "train"))
  }
  out <- list(
    data = if (rows == "train") need_train(st, "`rows = \"train\"`") else st$data,
    label = rows,
    kind = rows
  )
  if (rows == "holdout" && !is.null(st$store)) {
    out$store <- st$store
    out$of <- st$store$rows
    out$target <- st$roles[st$target]
  }
  out
}

# Rows that the models were trained on are training rows, under whatever name they come.
kind_of_given <- function(st, rows) {
  if (is.null(st$train)) return("given")
  if (find_seen_rows(rows, st$train, arg = "rows")) "train" else "given"
}

# At most so many rows, drawn by seed; `chosen` says which, `of` out of how many.
draw_rows <- function(evaluation, most, seed) {
  n <- if (is.null(evaluation$store)) nrow(evaluation$data) else evaluation$store$rows
  evaluation$chosen <- seq_len(nrow(evaluation$data))
  if (is.null(most) || n <= most) return(evaluation)
  chosen <- sort(with_stream(seed, c("rows", n), sample.int(n, most)))
  evaluation$chosen <- chosen
  evaluation$of <- n
  if (is.null(evaluation$store)) {
    evaluation$data <- evaluation$data[chosen, , drop = FALSE]
  } else {
    evaluation$data <- pick_from_store(evaluation$store, chosen)
    # as the study has it: classes as a factor of its own
    evaluation$data[names(evaluation$target)] <- evaluation$target[chosen, , drop = FALSE]
    evaluation$store <- NULL
  }
  evaluation
}

need_train <- function(st, step) {
  if (is.null(st$train)) {
    stop_study(
      paste0(step, " needs the training rows."),
      todo = "Give `study(train = )` the rows the models were trained on."
    )
  }
  st$train
}

check_target <- function(y, target, arg) {
  if (anyNA(y)) {
    stop_input(
      paste0(
        "The target \"", target, "\" is missing in ", sum(is.na(y)), " rows of `", arg,
        "`."
      ),
      paste0("The first is row ", which(is.na(y))[1], "."),
      "Drop the rows without a target."
    )
  }
  if (is.numeric(y) && any(!is.finite(y) | abs(y) > largest_number)) {
    stop_input(paste0(
      "The target \"", target, "\" is not finite, or beyond 1e70, in row ",
      which(!is.finite(y) | abs(y) > largest_number)[1],
      " of `", arg, "`."
    ))
  }
  if (is.numeric(y) && any(y != 0) && max(abs(y)) < 1 / largest_number) {
    stop_input(
      paste0("The target \"", target, "\" of `", arg, "` is below 1e-70 in all rows."),
      "Squares of such numbers, which errors are made of, are 0 to a computer.",
      "Give it in a smaller unit, multiplied by a power of ten, and fit the models to that."
    )
  }
  if (!is.numeric(y) && !is.factor(y) && !is.character(y) && !is.logical(y)) {
    stop_input(
      paste0(
        "The target \"", target, "\" must hold numbers, text, a factor or TRUE/FALSE."
      ),
      paste0("Given: ", class(y)[1], ".")
    )
  }
}

pick_models <- function(st, models) {
  if (is.null(models)) return(st$models)
  st$models[check_choice(models, names(st$models), "models", several = TRUE)]
}

# Every set of rows in parts, by the values of a column.
slice_rows <- function(several, slice) {
  if (is.null(slice)) return(several)
  column <- if (inherits(slice, "formula") && length(slice) == 2) all.vars(slice)
  if (length(column) != 1) {
    stop_input(
      "`slice` must be a formula with one column on its right side.",
      paste0("Given: ", describe_value(slice), "."),
      "Give ~ and the name of a column of the rows."
    )
  }
  out <- lapply(unname(several), function(evaluation) {
    if (evaluation$kind %in% c("train", "oob")) {
      stop_input(
        "Slices are for rows the model has not seen.",
        todo = "Use rows = \"holdout\", or data frames of other rows."
      )
    }
    check_columns(evaluation$data, column, "rows", "The column of `slice`")
    of <- as.character(evaluation$data[[column]])
    of[is.na(of)] <- "missing"
    values <- union(
      sort_text(unique(evaluation$data[[column]])), if ("missing" %in% of) "missing"
    )
    if (length(values) > 50) {
      stop_input(
        paste0(
          "Column \"", column, "\" has ", length(values), " values, too many for slices."
        ),
        todo = "Cut it into a few, in a column of its own."
      )
    }
    lapply(values, function(v) {
      list(
        data = evaluation$data[of == v, , drop = FALSE],
        label = evaluation$label,
        kind = evaluation$kind,
        slice = v
      )
    })
  })
  unlist(out, recursive = FALSE)
}
