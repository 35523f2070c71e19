# Contributions in words: over all rows, and one row as reasons for and against.

#' @export
print.dreher_contributions <- function(x, ..., width = NULL) {
  write_lines(x, format_contributions(x), width)
}

format_contributions <- function(x) {
  if (!all(names(contribution_columns) %in% names(x)) || !nrow(x)) {
    return(utils::capture.output(print(as_plain(x))))
  }
  rows <- unique(x$row)
  c(
    heading(say_contributions_heading(x, length(rows))),
    if (length(rows) <= 3) format_single_rows(x) else format_all_rows(x),
    say_uninterpretable(detail(x, "doubtful"), detail(x, "target")),
    wrap_lines(say_unconverged(x))
  )
}

say_contributions_heading <- function(x, rows) {
  scale <- unique(detail(x, "scale"))
  paste0(
    "Contributions to ", detail(x, "target"), " (", paste(scale, collapse = ", "), "), ",
    count_of(rows, "row"), ", ",
    if (!is.na(detail(x, "against"))) {
      paste0("against row ", detail(x, "against"))
    } else if (detail(x, "value") == "cover") {
      "by cover"
    } else {
      paste0(detail(x, "background"), " background rows")
    },
    if (all(is.na(x$std_error))) ", exact" else ", sampled"
  )
}

say_unconverged <- function(x) {
  many <- detail(x, "unconverged")
  if (is.null(many) || many == 0) return(character())
  paste0(
    "For ", count_of(many, "row"), " the values did not reach `precision`; their intervals ",
    "say how sure they are."
  )
}

# One to three rows: the sentence, then a table of the largest contributions.
format_single_rows <- function(x, most = 6) {
  parts <- split(as_plain(x), factor(row_key(x), unique(row_key(x))))
  headed <- length(unique(x$model)) > 1
  more <- length(parts) - 3
  parts <- utils::head(parts, 3)
  most <- if (length(parts) == 1) 12 else most - length(parts)
  lines <- unlist(
    lapply(parts, function(part) {
      part <- part[order(-abs(part$contribution)), ]
      shown <- utils::head(part, most)
      rest <- part[-seq_len(nrow(shown)), ]
      step <- max(abs(part$contribution)) / 10
      columns <- list(
        predictor = shorten(labels_in(x, shown$predictor), name_room(30)),
        value = shorten(value_words(x, shown), 18),
      `in the data` = say_place(shown),
        contribution = signed(shown$contribution, step),
        interval = in_brackets(shown$lower, shown$upper, step)
      )
      if (all(is.na(shown$lower))) columns$interval <- NULL
      right <- c(FALSE, rep(TRUE, length(columns) - 1))
      c(
        if (headed) part_of_model(part),
        lay_out(columns, right),
        if (nrow(rest)) {
          paste0(
            " ", nrow(rest), if (nrow(rest) == 1) " other, " else " others, together ",
            signed(sum(rest$contribution), step)
          )
        },
        "", wrap_lines(say_row(part, x)), ""
      )
    }),
    use.names = FALSE
  )
  c(lines, if (more > 0) paste0("and ", more, " more: as.data.frame() holds all"))
}

# Where a value lies: the share of rows below it, or of its level.
say_place <- function(part) {
  ifelse(
    !is.na(part$below),
    paste(format_percent(part$below), "below"),
    ifelse(is.na(part$alike), "", paste(format_percent(part$alike), "alike"))
  )
}

row_key <- function(x) paste(x$model, x$class, x$row, sep = "\r")

labels_in <- function(x, predictors) {
  labels <- detail(x, "labels")
  ifelse(predictors %in% names(labels), labels[predictors], predictors)
}

# A value as it is read, with its unit.
value_words <- function(x, part) {
  unit <- detail(x, "units")[part$predictor]
  number <- suppressWarnings(as.numeric(part$value))
  text <- ifelse(
    is.na(number),
    part$value,
    format_plainly(signif(number, 6))
  )
  ifelse(is.na(unit) | unit == "" | part$value == "missing", text, paste(text, unit))
}

signed <- function(value, step) {
  paste0(ifelse(value > 0, "+", ""), format_value(value, step))
}

# "52.1 is 12.4 above the average of 39.7: +6.1 from ...; against it -1.0 from ..."
say_row <- function(part, x, most = 3) {
  part <- part[order(-abs(part$contribution)), ]
  whole <- part$prediction[1] - part$baseline[1]
  step <- max(abs(part$contribution), abs(whole)) / 10
  if (step == 0) {
    return(paste0("Row ", part$row[1], ": no predictor moves the prediction."))
  }
  reasons <- function(which) {
    d <- utils::head(part[which, ], most)
    paste0(
      signed(d$contribution, step), " from ", labels_in(x, d$predictor), " ",
      value_words(x, d)
    )
  }
  towards <- which(
    sign(part$contribution) == sign(whole) & abs(part$contribution) > step / 10
  )
  away <- which(
    sign(part$contribution) == -sign(whole) & abs(part$contribution) > step / 10
  )
  against <- detail(x, "against")
  than <- if (is.na(against)) {
    "the baseline of "
  } else {
    paste0("row ", against, ", which has ")
  }
  paste0(
    "Row ", part$row[1], if (!is.na(part$class[1])) paste0(", class ", part$class[1]), ": ",
    format_value(part$prediction[1], step), ", ", format_value(abs(whole), step),
    if (whole >= 0) " above " else " below ", than, format_value(part$baseline[1], step),
    if (length(towards)) paste0(": ", list_words(reasons(towards))) else "",
    if (length(away)) paste0("; against it ", list_words(reasons(away))), "."
  )
}

part_of_model <- function(part) {
  paste0(part$model[1], if (!is.na(part$class[1])) paste0(", class ", part$class[1]))
}

# Over all rows: sizes, direction and five bins, model by model and class by class.
format_all_rows <- function(x, most = 12, parts_shown = 3) {
  s <- summary(x)
  parts <- split(s, factor(paste(s$model, s$class), unique(paste(s$model, s$class))))
  left <- length(parts) - parts_shown
  shown <- utils::head(parts, parts_shown)
  most <- if (length(shown) > 1) max(3, 10 %/% length(shown)) else most
  unlist(c(
    lapply(shown, function(d) {
      format_sizes(x, d, most, headed = length(parts) > 1)
    }),
    if (left > 0) paste0("and ", count_of(left, "more"), ": summary() shows all")
  ), use.names = FALSE)
}

format_sizes <- function(x, d, most, headed) {
  shown <- utils::head(d, most)
  step <- max(shown$mean_size) / 10
  labels <- labels_in(x, shown$predictor)
  table <- lay_out(
    list(
      predictor = shorten(labels, name_room(28)),
      `mean size` = format_value(shown$mean_size, step),
      direction = ifelse(is.na(shown$direction), "by level", shown$direction),
      correlation = ifelse(
        is.na(shown$direction) | is.na(shown$correlation),
        "",
        formatC(shown$correlation, 2, format = "f")
      )
    ),
    c(FALSE, TRUE, FALSE, TRUE)
  )
  c(
    if (headed) part_of_model(d),
    table,
    if (nrow(d) > most) {
      paste0(" and ", nrow(d) - most, " more: summary() shows them")
    },
    if (!d$model[1] %in% names(detail(x, "doubtful"))) {
      c("", wrap_lines(say_directions(shown, labels)))
    },
    if (headed) ""
  )
}

# The directions of every model and class, each by itself.
sentences_of_directions <- function(x) {
  s <- summary(x)
  doubtful <- detail(x, "doubtful")
  parts <- split(s, factor(paste(s$model, s$class), unique(paste(s$model, s$class))))
  unique(vapply(parts, function(d) {
    m <- d$model[1]
    if (m %in% names(doubtful)) return(uninterpretable(m, doubtful[[m]], detail(x, "target")))
    paste0(
      if (length(parts) > 1) paste0(part_of_model(d), ": "),
      say_directions(d, labels_in(x, d$predictor))
    )
  }, "", USE.NAMES = FALSE))
}

# Directions of what moves the prediction: a predictor whose mean size is below a twentieth of the
# first one's is not told to raise or lower it.
say_directions <- function(s, labels) {
  large <- s$mean_size >= max(s$mean_size) / 20
  labels <- labels[large]
  s <- s[large, ]
  of <- function(way) labels[s$direction %in% way]
  says <- c(
    if (length(of("rises"))) {
      paste0("The prediction rises with ", list_words(utils::head(of("rises"), 4)))
    },
    if (length(of("falls"))) {
      paste0("falls with ", list_words(utils::head(of("falls"), 4)))
    },
    if (length(of("bends"))) {
      paste0("bends with ", list_words(utils::head(of("bends"), 4)))
    }
  )
  if (all(is.na(s$direction))) {
    return("Levels without an order have no direction; plot() shows each level.")
  }
  if (!length(says)) return("No direction is shown for any predictor.")
  out <- paste(says, collapse = ", ")
  if (!startsWith(out, "The")) out <- paste("The prediction", out)
  paste0(out, ".")
}

# ---- interactions ----

#' @export
print.dreher_interactions <- function(x, ..., width = NULL) {
  write_lines(x, format_interactions(x), width)
}

format_interactions <- function(x, most = 10) {
  if (!all(names(interaction_columns) %in% names(x)) || !nrow(x)) {
    return(utils::capture.output(print(as_plain(x))))
  }
  all <- as_plain(x)
  parts <- split(
    all, factor(paste(all$model, all$class), unique(paste(all$model, all$class)))
  )
  headed <- length(parts) > 1
  shown <- utils::head(parts, 3)
  left <- length(parts) - length(shown)
  c(
    heading(say_interactions_heading(x)),
    unlist(
      lapply(shown, function(d) {
        c(
          if (headed) part_of_model(d),
          if (any(d$interaction != 0)) {
            c(
              lay_out_pairs(x, d, if (headed) max(3, most %/% length(shown)) else most),
              ""
            )
          },
          wrap_lines(say_interactions(x, d)), if (headed) ""
        )
      }),
      use.names = FALSE
    ),
    if (left > 0) paste0("and ", count_of(left, "more"), ": as.data.frame() holds all"),
    say_uninterpretable(detail(x, "doubtful"), detail(x, "target"))
  )
}

# The strongest pairs as a table, and how many stand below it.
lay_out_pairs <- function(x, d, most) {
  some <- d[d$interaction != 0, ]
  shown <- utils::head(some, most)
  unit <- ifelse(
    is.na(shown$std_error), max(abs(shown$interaction)) / 10, shown$std_error
  )
  columns <- list(
    predictor = shorten(labels_in(x, shown$predictor), name_room(20)),
    other = shorten(labels_in(x, shown$other), name_room(20)),
    interaction = format_value(shown$interaction, unit),
    interval = in_brackets(shown$lower, shown$upper, unit),
    share = format_percent(shown$share),
    p = ifelse(is.na(shown$p_value), "", formatC(shown$p_value, 3, format = "f"))
  )
  if (all(is.na(shown$lower))) columns$interval <- NULL
  if (all(is.na(shown$p_value))) columns$p <- NULL
  rest <- c(
    if (nrow(some) > most) count_of(nrow(some) - most, "more pair"),
    if (nrow(d) > nrow(some)) {
      paste(count_of(nrow(d) - nrow(some), "pair"), "without interaction")
    }
  )
  c(
    lay_out(columns, c(FALSE, FALSE, rep(TRUE, length(columns) - 2))),
    if (length(rest)) paste0(" and ", paste(rest, collapse = ", "))
  )
}

say_interactions_heading <- function(x) {
  n <- unique(detail(x, "n"))
  paste0(
    "Interactions for ", detail(x, "target"), ": ",
    c(
      shapley = paste0("mean |interaction value| (", detail(x, "scale")[1], ")"),
      variance = paste0("share of a pair's joint effect on the ", detail(x, "scale")[1]),
      permutation = "joint less single importance",
      paths = "questions that follow each other"
    )[[detail(x, "by")]],
    if (!anyNA(n)) paste0(", ", paste(format_number(n), collapse = ", "), " rows")
  )
}

say_interactions <- function(x, d) {
  lead <- d[1, ]
  pair <- paste(labels_in(x, lead$predictor), "and", labels_in(x, lead$other))
  if (lead$interaction == 0) {
    return(if (detail(x, "by") == "shapley") {
      paste0(
        "No pair interacts in this model: its effects add up (", detail(x, "scale")[1],
        ")."
      )
    } else {
      "No pair interacts in this model."
    })
  }
  switch(
    detail(x, "by"),
    shapley = paste0(
      pair, " have the largest interaction, ", format_percent(lead$share),
      " of all pairs together. Sizes are of this model; whether the world has the ",
      "interaction, they do not say."
    ),
    variance = paste0(
      "Of the joint effect of ", pair, " ", format_percent(lead$interaction),
      " is of neither alone",
      if (is.na(lead$p_value)) {
        "; null = refits the model without interactions, to compare."
      } else {
        bonferroni_note(d)
      }
    ),
    permutation = {
      sure <- d[!is.na(d$lower) & (d$lower > 0 | d$upper < 0), ]
      if (!nrow(sure)) {
        paste0(
          "For no pair does the interval exclude zero (", detail(x, "scale")[1], ")."
        )
      } else {
        paste0(
          "The interval excludes zero for ", nrow(sure), " of ", nrow(d),
          " pairs, each by itself (", detail(x, "scale")[1], ")."
        )
      }
    },
    paths = paste0(
      "A first look: trees ask about ", pair,
      " one after the other most often, which they also do where effects add up."
    )
  )
}

bonferroni_note <- function(d) {
  adjusted <- stats::p.adjust(d$p_value, "holm")
  many <- sum(adjusted <= 0.05)
  paste0(
    "; beyond what refits without interactions show at 5 % (Holm): ",
    if (many == 0) "none" else many, " of ", count_of(nrow(d), "pair"), "."
  )
}

#' @export
summary.dreher_interactions <- function(object, ...) {
  d <- as_plain(object)
  key <- paste(d$model, d$class)
  out <- do.call(rbind, lapply(unique(key), function(k) {
    part <- d[key == k, ]
    cbind(
      part[1, c("model", "class", "form", "predictor", "other", "interaction", "share")],
      pairs = nrow(part), sentence = say_interactions(object, part)
    )
  }))
  rownames(out) <- NULL
  out
}
