# Effect curves in words.

#' @export
print.dreher_effects <- function(x, ..., width = NULL) {
  write_lines(x, format_effects(x), width)
}

format_effects <- function(x, most = 10) {
  if (!all(names(effect_columns) %in% names(x)) || !nrow(x)) {
    return(utils::capture.output(print(as_plain(x))))
  }
  all <- summary(x)
  shown <- utils::head(all, most)
  several <- function(column) length(unique(all[[column]])) > 1
  columns <- list(
    predictor = shorten(label_curves(x, shown), name_room(26)),
    model = if (several("model")) shorten(shown$model, 12),
    class = if (several("class")) shorten(shown$class, 12),
    slice = if (several("slice")) shorten(shown$slice, 12),
    direction = ifelse(is.na(shown$direction), "", shown$direction),
    lowest = format_value(shown$lowest, shown$change / 10),
    highest = format_value(shown$highest, shown$change / 10),
    change = format_value(shown$change, shown$change / 10),
    interval = wide_brackets(shown$change, shown$lower, shown$upper, shown$change / 10)
  )
  if (!any(nzchar(columns$direction))) columns$direction <- NULL
  if (all(is.na(shown$lowest))) columns$lowest <- columns$highest <- NULL
  if (!any(nzchar(columns$interval))) columns$interval <- NULL
  columns <- Filter(Negate(is.null), columns)
  right <- names(columns) %in% c("lowest", "highest", "change", "interval")
  table <- lay_out(columns, right)
  if (any(nchar(table, "width") > screen_width())) {
    columns$predictor <- shorten(columns$predictor, 14)
    table <- shorten(lay_out(columns, right), screen_width())
  }
  said <- c(
    say_uninterpretable(detail(x, "doubtful"), detail(x, "target")),
    say_first_curves(
      shown[!shown$model %in% names(detail(x, "doubtful")), ], 12 - min(nrow(shown), 8),
      headed = several("model")
    )
  )
  c(
    heading(say_effects_heading(x, any(nzchar(columns$interval)))),
    table,
    if (nrow(all) > most) paste0(" and ", nrow(all) - most, " more: summary() shows them"),
    "",
    said
  )
}

# As many sentences as there is room for, the largest changes first; of several models each under
# its name.
say_first_curves <- function(shown, room, headed = FALSE) {
  models <- unique(shown$model)
  unlist(lapply(models, function(m) {
    lines <- if (headed) paste0(m, ":")
    for (s in shown$sentence[shown$model == m]) {
      more <- wrap_lines(s, indent = if (headed) 1 else 0)
      if (length(lines) > headed &&
          length(lines) + length(more) > room / length(models)) {
        break
      }
      lines <- c(lines, more)
    }
    lines
  }))
}

# The sentences of all curves, each with its model where there are several.
sentences_of_effects <- function(x) {
  s <- summary(x)
  doubtful <- detail(x, "doubtful")
  models <- unique(s$model)
  c(
    unlist(lapply(intersect(models, names(doubtful)), function(m) {
      uninterpretable(m, doubtful[[m]], detail(x, "target"))
    })),
    paste0(
      if (length(models) > 1) paste0(s$model, ", "), s$sentence
    )[!s$model %in% names(doubtful)]
  )
}

uninterpretable <- function(model, why, target) {
  paste0(
    model, " cannot be interpreted: ", why, ". How it acts says nothing of ", target, "."
  )
}

# Of models whose importances cannot be interpreted: nothing of how they act is told of the target.
say_uninterpretable <- function(doubtful, target) {
  unlist(lapply(names(doubtful), function(m) {
    wrap_lines(uninterpretable(m, doubtful[[m]], target))
  }))
}

# intervals: are there any to be read below?
say_effects_heading <- function(x, intervals) {
  n <- unique(detail(x, "n"))
  what <- c(
    averaged = "averaged curves", single = "curves of single rows",
    accumulated = "accumulated effects"
  )[[detail(x, "form")]]
  paste0(
    "Effects on ", detail(x, "target"), ": ", what, ", ",
    paste(format_number(sort(n)), collapse = ", "), " rows",
    if (!is.null(detail(x, "draws"))) {
      paste0(", ", format_percent(detail(x, "level")), " intervals from ",
             detail(x, "draws"), " refits")
    } else if (intervals) {
      paste0(", ", format_percent(detail(x, "level")), " intervals")
    }
  )
}

# What people call a curve's predictor.
label_curves <- function(x, table) {
  labels <- detail(x, "labels")
  vapply(
    strsplit(table$predictor, " and ", fixed = TRUE),
    function(p) {
      if (all(p %in% names(labels))) {
        paste(labels[p], collapse = " and ")
      } else {
        paste(p, collapse = " and ")
      }
    },
    ""
  )
}

#' @export
summary.dreher_effects <- function(object, ...) {
  curves <- detail(object, "curves")
  table <- as_plain(object)
  key <- curve_keys(table)
  labels <- detail(object, "labels")
  units <- detail(object, "units")
  rows <- lapply(curves, function(curve) {
    part <- table[key == curve_keys(data.frame(
      model = curve$model, class = curve$class, predictor = curve$of[1],
      other = if (curve$kind == "pair") curve$of[2] else NA_character_,
      slice = curve$slice
    )) | (curve$kind == "joint" & table$predictor == curve$predictor &
            table$model == curve$model & same_text(table$class, curve$class) &
            same_text(table$slice, curve$slice)), ]
    shape <- curve$shape
    low <- if (is.null(shape$low)) which.min(part$effect) else shape$low
    high <- if (is.null(shape$high)) which.max(part$effect) else shape$high
    number <- function(name) if (is.null(shape[[name]])) NA_real_ else shape[[name]]
    ends <- part$effect[c(low, high)]
    change <- diff(ends)
    if (detail(object, "form") == "single") {
      # what a row moves by, not what rows differ by
      ends <- c(NA_real_, NA_real_)
      change <- stats::median(moves_of_rows(part))
    }
    data.frame(
      model = curve$model, class = curve$class, predictor = curve$predictor,
      slice = curve$slice,
      direction = if (is.null(shape)) NA_character_ else shape$direction,
      lowest = ends[1], lowest_at = if (is.na(ends[1])) "" else point_text(part[low, ]),
      highest = ends[2], highest_at = if (is.na(ends[2])) "" else point_text(part[high, ]),
      change = change,
      lower = number("lower"), upper = number("upper"),
      sentence = say_curve(curve, part, labels, units, detail(object, "form"))
    )
  })
  out <- do.call(rbind, rows)
  out <- out[order(-out$change), ]
  rownames(out) <- NULL
  out
}

curve_keys <- function(table) {
  paste(table$model, table$class, table$predictor, table$other, table$slice, sep = "\r")
}

same_text <- function(a, b) (is.na(a) & is.na(b)) | (!is.na(a) & !is.na(b) & a == b)

point_text <- function(row) {
  if (is.na(row$other_at)) row$at else paste0(row$at, ", ", row$other_at)
}

# ---- one curve in one sentence ----

say_curve <- function(curve, part, labels, units, form) {
  name <- if (curve$kind == "joint") {
    curve$predictor
  } else {
    paste(
      ifelse(curve$of %in% names(labels), labels[curve$of], curve$of), collapse = " and "
    )
  }
  where <- c(
    if (!is.na(curve$class)) paste0("class ", curve$class),
    if (!is.na(curve$slice)) paste0("slice ", curve$slice)
  )
  head <- paste0(
    name, if (length(where)) paste0(" (", paste(where, collapse = ", "), ")"), ": "
  )
  says <- if (curve$kind == "pair") {
    say_pair(part)
  } else if (is.null(curve$shape)) {
    say_single(part, curve)
  } else {
    say_shape(curve, part, unit_word(curve, units))
  }
  paste0(head, says, thin_note(part), say_beyond(curve))
}

# Averages far from whatever these rows are predicted are of rows like none of them.
say_beyond <- function(curve) {
  ends <- curve$predicted
  if (is.null(ends) || is.null(curve$shape$low)) return("")
  y <- curve$effect[c(curve$shape$low, curve$shape$high)]
  room <- diff(ends) / 10
  if (y[1] >= ends[1] - room && y[2] <= ends[2] + room) return("")
  ends <- format_value(ends, diff(ends) / 10)
  paste0(
    " The rows are predicted ", ends[1], " to ", ends[2], ": the curve goes beyond, over ",
    "values or combinations that these rows do not have."
  )
}

unit_word <- function(curve, units) {
  unit <- if (length(curve$of) == 1) units[curve$of] else ""
  if (is.na(unit) || !nzchar(unit)) "" else paste0(" ", unit)
}

say_shape <- function(curve, part, unit) {
  shape <- curve$shape
  y <- part$effect
  at <- point_words(part, curve$kind)
  step <- abs(shape$change) / 10
  value <- function(i) format_value(y[i], step)
  place <- function(i) paste0(at[i], unit)
  if (shape$direction == "flat") {
    return(if (isTRUE(shape$single)) {
      "has one value only."
    } else {
      "the prediction does not change with it."
    })
  }
  span <- paste0(
    "from ", value(shape$low), " at ", place(shape$low), " to ", value(shape$high),
    " at ", place(shape$high)
  )
  if (shape$direction == "not shown") {
    return(paste0(
      "no change is shown: the interval of its largest difference (",
      format_value(shape$change, step), ") does not exclude zero."
    ))
  }
  if (shape$direction == "little") {
    return(paste0(
      "the mean prediction moves by ", format_value(shape$change), ", little beside the ",
      format_value(curve$spread), " that most predictions span."
    ))
  }
  if (shape$direction == "differs") return(paste0("differs, ", span, "."))
  paste0(say_way(shape, y, value, place), say_steep(shape, place), ".")
}

# Point by point where it turns.
say_way <- function(shape, y, value, place) {
  turns <- shape$turns
  first <- turns[1]
  last <- turns[length(turns)]
  if (length(turns) > 5) {
    return(paste0(
      "goes up and down several times, between ", value(shape$low), " at ",
      place(shape$low), " and ", value(shape$high), " at ", place(shape$high)
    ))
  }
  up <- diff(y[turns]) > 0
  legs <- vapply(seq_along(up), function(i) {
    to <- turns[i + 1]
    stop <- if (i == length(up) && !is.na(shape$flat_from)) shape$flat_from else to
    begin <- if (i == 1) {
      from <- if (!is.na(shape$flat_to)) shape$flat_to else first
      paste0(
        if (!is.na(shape$flat_to)) paste0("is flat up to ", place(from), ", then "),
        if (up[i]) "rises" else "falls", " from ", value(from), " at ", place(from)
      )
    } else {
      if (up[i]) "rises" else "falls"
    }
    paste0(begin, " to ", value(stop), " at ", place(stop))
  }, "")
  paste0(
    paste(legs, collapse = ", then "),
    if (!is.na(shape$flat_from) && shape$flat_from != last) ", then is flat"
  )
}

say_steep <- function(shape, place) {
  if (is.null(shape$steep)) return("")
  paste0(
    "; most of the change lies between ", place(shape$steep[1]), " and ",
    place(shape$steep[2])
  )
}

say_pair <- function(part) {
  low <- which.min(part$effect)
  high <- which.max(part$effect)
  step <- (part$effect[high] - part$effect[low]) / 10
  one <- point_words(part, if (all_numbers(part$at)) "number" else "level")
  other <- point_words(
    data.frame(at = part$other_at, position = part$other_position),
    if (all_numbers(part$other_at)) "number" else "level"
  )
  paste0(
    "from ", format_value(part$effect[low], step), " at ", one[low], " and ", other[low],
    " to ", format_value(part$effect[high], step), " at ", one[high], " and ",
    other[high], "."
  )
}

all_numbers <- function(text) !anyNA(suppressWarnings(as.numeric(text)))

# From the lowest to the highest point of each row's own curve.
moves_of_rows <- function(part) {
  vapply(split(part$effect, part$row), function(y) diff(range(y)), 0)
}

say_single <- function(part, curve) {
  by_row <- split(part$effect, part$row)
  rising <- vapply(by_row, function(y) y[length(y)] > y[1], NA)
  falling <- vapply(by_row, function(y) y[length(y)] < y[1], NA)
  if (curve$kind == "level") {
    return(paste0(
      "the levels move a row by ",
      format_value(stats::median(moves_of_rows(part))),
      " (median of ", length(by_row), " rows)."
    ))
  }
  paste0(
    "from the lowest to the highest value the prediction rises in ", sum(rising),
    " and falls in ", sum(falling), " of ", count_of(length(by_row), "row"),
    "; the median row moves by ", format_value(stats::median(moves_of_rows(part))), "."
  )
}

# Points as they are read: numbers with marks, no more digits than they have.
point_words <- function(part, kind) {
  if (kind == "joint") return(paste0("the ", round(100 * part$position), " % quantile"))
  if (kind != "number") return(part$at)
  span <- diff(range(part$position))
  digits <- if (span > 0) pmax(0, pmin(6, 2 - floor(log10(span)))) else 2
  # Near zero as many digits as tell values apart.
  plain <- ifelse(
    abs(part$position) < 10^-digits, signif(part$position, 2), round(part$position, digits)
  )
  trimws(format_plainly(plain))
}

thin_note <- function(part) {
  beyond <- unique(part$at[part$flag == "beyond training range"])
  if (!length(beyond)) return("")
  paste0(
    " Beyond the range of the training rows: ", list_words(utils::head(beyond, 3)),
    if (length(beyond) > 3) ", ...", "."
  )
}
