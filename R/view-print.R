# Printed objects: format_*() gives the lines, one print method writes them. At most 24 lines as
# wide as the terminal; meaning never rests on colour.

#' @export
print.dreher_study <- function(x, ..., width = NULL) write_lines(x, format(x), width)

#' @export
print.dreher_store <- function(x, ..., width = NULL) write_lines(x, format(x), width)

#' @export
format.dreher_store <- function(x, ...) {
  own_settings()
  kind <- vapply(x$columns, `[[`, "", "kind")
  counts <- table(kind)
  bytes <- x$rows * sum(vapply(kind, store_width, 0))
  c(
    heading("Rows on disk"), paste0(" rows       ", format_number(x$rows)),
    paste0(
      " columns    ", length(x$columns), " (",
      paste(counts, names(counts), collapse = ", "), ")"
    ),
    paste0(
      " in memory  ", format_number(min(x$in_memory, x$rows)),
      " rows, drawn when a study asks"
    ),
    paste0(
      " folder     ", x$folder, ", ",
      format(structure(bytes, class = "object_size"), "auto")
    )
  )
}

#' @export
format.dreher_study <- function(x, ...) {
  own_settings()
  models <- x$models[seq_len(min(length(x$models), 10))]
  reads <- vapply(models, say_read, "")
  c(
    heading(paste0("Study of ", x$target, " (", x$task, ")")),
    paste0(" target      ", say_target(x)),
    paste0(" metric      ", x$metric$label, ", ", x$metric$better, " is better"),
    paste0(
      " rows        ", format_number(count_whole(x)),
      if (isTRUE(x$seen)) " of those the models were trained on" else " holdout",
      if (!is.null(x$train)) {
        paste0(", ", format_number(nrow(x$train)), " training")
      } else {
        "; no training rows given"
      }
    ),
    if (!is.null(x$store)) {
      paste0(
        " in memory   ", format_number(nrow(x$data)),
        " of the holdout rows, drawn; all are in ", x$store$folder
      )
    },
    if (!is.null(x$weights)) paste0(" weights     ", x$weights),
    if (!is.null(x$blocks)) {
      paste0(
        " blocks      ", x$blocks, ": ",
        format_number(length(unique(whole_roles(x)[[x$blocks]]))), " in the holdout rows"
      )
    },
    paste0(" predictors  ", length(x$predictors)), "",
    lay_out(
      list(
        model = names(models),
        class = vapply(models, `[[`, "", "class"),
        predictors = as.character(vapply(
          models, function(m) length(m$inputs$predictors), 1L
        )),
        read = reads
      ),
      c(FALSE, FALSE, TRUE, FALSE)
    ),
    if (length(x$models) > 10) paste0(" and ", length(x$models) - 10, " more"), "",
    "Next: check_data(), score_models(), rank_predictors()."
  )
}

say_target <- function(x) {
  if (x$task == "regression") {
    # Four digits, and all before the point.
    ends <- vapply(range(whole_roles(x)[[x$target]]), function(v) {
      short_number(v, max(4, nchar(trunc(abs(v)))))
    }, "")
    paste("a number from", ends[1], "to", ends[2])
  } else {
    paste0(
      "classes ",
      paste(shorten(x$classes, 15)[seq_len(min(6, length(x$classes)))], collapse = ", "),
      if (length(x$classes) > 6) ", ...",
      if (length(x$classes) == 2) paste0("; positive class: ", x$classes[x$positive])
    )
  }
}

# How a model is read.
say_read <- function(m) {
  if (!is.null(m$forest)) {
    trees <- length(m$forest$root)
    nodes <- format_number(length(m$forest$column))
    paste0(trees, if (trees == 1) " tree, " else " trees, ", nodes, " nodes")
  } else if (!is.null(m$linear)) {
    n <- sum(m$linear$term > 0)
    paste0(n, if (n == 1) " coefficient" else " coefficients")
  } else {
    "through its predictions"
  }
}

#' @export
print.dreher_model_file <- function(x, ..., width = NULL) write_lines(x, format(x), width)

#' @export
format.dreher_model_file <- function(x, ...) {
  own_settings()
  used <- if (!is.null(x$rounds)) paste0(", rounds 1 to ", x$rounds)
  c(
    paste0(
      "<", x$library, " model from ", basename(x$file), ": ", model_task(x)$task,
      ", objective ", x$objective, used, ">"
    ),
    wrap_lines(paste0("columns: ", quote_some(x$columns, 8)))
  )
}

#' @export
print.dreher_families <- function(x, ..., width = NULL) write_lines(x, format(x), width)

#' @export
format.dreher_families <- function(x, ...) {
  own_settings()
  found <- attr(x, "found")
  taken <- found[nzchar(found$kind), ]
  refused <- found[nzchar(found$rejected), ]
  c(
    paste0(
      "<", nrow(taken), if (nrow(taken) == 1) " family" else " families", " of columns>"
    ),
    vapply(
      seq_len(nrow(taken)),
      function(i) {
        paste0(
          "  ", taken$family[i], " (", taken$kind[i], "): ",
          quote_some(x[[taken$family[i]]], 6)
        )
      },
      ""
    ),
    if (nrow(refused)) {
      paste0(
        "  not a family: the ", refused$columns, " columns that begin with \"",
        refused$family, "\": ", refused$rejected
      )
    }
  )
}

#' @export
print.dreher_average <- function(x, ..., width = NULL) write_lines(x, format(x), width)

#' @export
format.dreher_average <- function(x, ...) {
  own_settings()
  c(
    paste0("<mean of ", length(x$models), " models>"),
    paste0(
      "  ", format(names(x$models)), "  ", format_value(x$weights), "  ",
      vapply(x$models, model_class, "")
    )
  )
}

#' @export
print.dreher_scores <- function(x, ..., width = NULL) write_lines(x, format_scores(x), width)

format_scores <- function(x) {
  if (!all(c("skill_lower", "train_score") %in% names(x)) || !nrow(x)) {
    return(utils::capture.output(print(as_plain(x))))
  }
  shown <- as_plain(x)[seq_len(min(nrow(x), 12)), ]
  unit <- shown$std_error
  seen <- isTRUE(detail(x, "seen"))
  columns <- list(
    model = shown$model,
    holdout = format_value(shown$score, unit),
    interval = in_brackets(shown$lower, shown$upper, unit),
    constant = format_value(shown$constant, unit),
    skill = paste(
      format_value(shown$skill, unit),
      in_brackets(shown$skill_lower, shown$skill_upper, unit)
    ),
    training = format_value(shown$train_score, unit)
  )
  if (seen) columns <- columns[c("model", "training", "constant", "skill")]
  table <- lay_out(columns, c(FALSE, rep(TRUE, length(columns) - 1)))
  if (any(nchar(table, "width") > screen_width())) {
    columns$model <- shorten(columns$model, 14)
    table <- shorten(
      lay_out(columns, c(FALSE, rep(TRUE, length(columns) - 1))), screen_width()
    )
  }
  c(
    heading(paste0(
      "Scores for ", detail(x, "target"), ": ", detail(x, "metric_label"), ", ",
      x$better[1], " is better, ", format_number(x$n[1]),
      if (seen) " training rows" else " holdout rows"
    )),
    table, "", say_verdicts(x)
  )
}

# Which models' importances can be interpreted, in one sentence. checks: what the data check found.
say_interpretable <- function(scores, checks = NULL) {
  if (is.null(scores$verdict)) return(score_sentence(scores))
  yes <- scores$model[startsWith(scores$verdict, "Yes")]
  care <- scores$model[startsWith(scores$verdict, "With care")]
  untold <- scores$model[startsWith(scores$verdict, "Cannot be told")]
  no <- setdiff(scores$model, c(yes, care, untold))
  said <- c(
    if (length(yes)) paste0("Importances can be interpreted: ", list_few(yes)),
    if (length(care)) paste0("with care: ", list_few(care)),
    if (length(untold)) paste0("training rows cannot tell: ", list_few(untold)),
    if (length(no)) paste0("cannot be interpreted: ", list_few(no))
  )
  severe <- unique(checks$predictor[checks$severity == "severe"])
  paste0(
    capitalised(paste(said, collapse = "; ")), ".",
    if (length(severe)) {
      paste0(" Severe findings of the data check: ", list_few(name_about(severe)), ".")
    }
  )
}

# Can the importances be interpreted? A line per model, or one sentence for many.
say_verdicts <- function(x, most = 4) {
  if (is.null(x$verdict) || nrow(x) > most) return(wrap_lines(score_sentence(x)))
  c(
    "Can the importances be interpreted?",
    unlist(lapply(seq_len(nrow(x)), function(i) {
      wrap_lines(paste0(shorten(x$model[i], 20), ": ", x$verdict[i]), indent = 1)
    }))
  )
}

score_sentence <- function(x) {
  weak <- x$model[x$flag == "no skill"]
  if (isTRUE(detail(x, "seen"))) {
    paste0(
      "These are training rows: the scores do not say how the models predict other rows. ",
      "Give study(data = ) rows they were not trained on."
    )
  } else if (length(weak)) {
    paste0(
      "Not shown to beat a constant: ", list_words(weak), ". A ranking of ",
      if (length(weak) == 1) "it" else "them", " may be noise."
    )
  } else if (nrow(x) == 1) {
    "It is shown to beat a constant."
  } else {
    "All are shown to beat a constant."
  }
}

#' @export
print.dreher_drift <- function(x, ..., width = NULL) write_lines(x, format_drift(x), width)

format_drift <- function(x) {
  if (!all(c("distance", "p_adjusted", "expected") %in% names(x))) {
    return(utils::capture.output(print(as_plain(x))))
  }
  d <- as_plain(x)
  shown <- utils::head(d, 12)
  sets <- detail(x, "sets")
  of_time <- time_of_columns(x, shown$predictor)
  typical <- function(v, level) {
    number <- mapply(value_in_words, v, of_time, USE.NAMES = FALSE)
    ifelse(is.na(level), number, paste(format_percent(v), shorten(level, 10)))
  }
  columns <- list(
    predictor = shorten(
      label_or_name(detail(x, "labels"), shown$predictor), name_room(20)
    ),
    distance = format_value(shown$distance, 0.05),
    interval = in_brackets(shown$lower, shown$upper, 0.05),
    chance = format_value(shown$expected, 0.05),
    `p adj.` = format.pval(shown$p_adjusted, digits = 1, eps = 0.001, na.form = ""),
    a = typical(shown$first, shown$level),
    b = typical(shown$second, shown$level)
  )
  names(columns)[6:7] <- shorten(sets, 14)
  table <- lay_out(columns, c(FALSE, rep(TRUE, 6)))
  if (any(nchar(table, "width") > screen_width())) {
    table <- shorten(lay_out(columns[1:5], c(FALSE, rep(TRUE, 4))), screen_width())
  }
  c(
    heading(paste0(
      "Drift between ",
      list_words(paste0(sets, " (", format_number(detail(x, "n")), " rows)"))
    )),
    table,
    if (nrow(d) > 12) paste0(" and ", nrow(d) - 12, " more: as.data.frame() shows all"),
    "", wrap_lines(say_drift(x)), wrap_lines(say_drift_ranking(x)),
    wrap_lines(say_drawn(x, "Columns were compared", sets))
  )
}

# What kind of time a column holds, "" for none.
time_of_columns <- function(x, predictors) {
  kind <- detail(x, "of_time")[predictors]
  replace(kind, is.na(kind), "")
}

# One by one, and together.
say_drift <- function(x) {
  d <- as_plain(x)
  moved <- label_or_name(detail(x, "labels"), d$predictor[which(d$p_adjusted < 0.05)])
  together <- detail(x, "together")
  one <- if (length(moved)) {
    paste0("The sets differ in ", list_few(moved), ".")
  } else {
    "No column is shown to differ."
  }
  if (is.null(together)) return(one)
  auc <- paste0(
    "an AUC of ", format_value(together$auc, 0.05), " ",
    in_brackets(together$lower, together$upper, 0.05)
  )
  paste(one, if (together$lower > 0.5) {
    paste0("All together they tell the sets apart with ", auc, ".")
  } else {
    paste0("All together they do not tell the sets apart (", auc, ").")
  })
}

say_drift_ranking <- function(x) {
  ranked <- detail(x, "ranking")
  if (is.null(ranked)) return(NULL)
  moved <- ranked[which(ranked$p_adjusted < 0.05), ]
  moved$predictor <- label_or_name(detail(x, "labels"), moved$predictor)
  sets <- detail(x, "sets")
  paste0(
    if (nrow(moved)) {
      top <- moved[which.max(abs(moved$difference)), ]
      paste0(
        if (nrow(moved) == 1) {
          "The permutation importance differs for "
        } else {
          paste0(
            "Permutation importances differ for ", list_few(unique(moved$predictor)),
            "; most for "
          )
        },
        top$predictor, " (", top$model, "): ",
        format_value(top$first, (top$upper - top$lower) / 4), " on ", sets[1], ", ",
        format_value(top$second, (top$upper - top$lower) / 4), " on ", sets[2], "."
      )
    } else {
      "No permutation importance is shown to differ between the sets."
    },
    if (nrow(moved) && isTRUE(detail(x, "learnt"))) {
      " The models have learnt the training rows: a part of any difference is that."
    }
  )
}

#' @export
print.dreher_checks <- function(x, ..., width = NULL) write_lines(x, format_checks(x), width)

format_checks <- function(x) {
  if (!all(c("predictor", "finding", "severity", "detail", "used_by") %in% names(x))) {
    return(utils::capture.output(print(as_plain(x))))
  }
  head <- heading(paste0(
    "Checked ", count_of(detail(x, "n_checked"), "column"), " for predicting ",
    detail(x, "target")
  ))
  if (!nrow(x)) return(c(head, wrap_lines(nothing_found, indent = 1)))
  lines <- lapply(seq_len(nrow(x)), function(i) finding_lines(x[i, ]))
  grave <- x$severity != "note"
  # every severe finding and doubt in full; notes as far as there is room
  room <- 16 - length(unlist(lines[grave]))
  shown <- grave | cumsum(lengths(lines) * !grave) <= max(room, 0)
  left <- sum(!shown)
  c(
    head, unlist(lines[shown]),
    if (left) {
      paste0(" and ", count_of(left, if (any(shown)) "note"), ": as.data.frame() shows all")
    },
    "", wrap_lines(say_checks(x, reason = FALSE)), wrap_lines(say_drawn(x))
  )
}

# One finding, whole: "severe  ring_tone, leak: The target is ..."
finding_lines <- function(f) {
  text <- paste0(name_about(f$predictor), ", ", f$finding, ": ", f$detail)
  lines <- wrap_lines(text, text_width() - 9)
  paste0(" ", format(c(f$severity, rep("", length(lines) - 1)), width = 8), lines)
}

# Of large tables some rows are drawn for what has a sampling error. what: was looked at in these;
# kinds: of rows, in the order of their numbers.
say_drawn <- function(
    x, what = "Relations between columns were looked at", kinds = c("training", "holdout")) {
  if (!isTRUE(detail(x, "sampled"))) return(NULL)
  n <- detail(x, "n")
  more <- n > most_checked_rows
  paste0(
    what, " in ", format_number(most_checked_rows), " rows drawn of ",
    list_words(paste("the", format_number(n[more]), kinds[more], "rows")), "."
  )
}

# What the findings come to, and the reason and remedy of the first. reason: FALSE where that is
# told beside it.
say_checks <- function(x, reason = TRUE) {
  severe <- x[x$severity == "severe", ]
  doubt <- x[x$severity == "doubt", ]
  first <- if (nrow(severe)) severe[1, ] else if (nrow(doubt)) doubt[1, ]
  counted <- function(d, word) {
    if (nrow(d)) {
      paste0(count_of(nrow(d), word), " (", list_few(name_about(unique(d$predictor))), ")")
    }
  }
  found <- c(counted(severe, "severe finding"), counted(doubt, "doubt"))
  if (!length(found)) {
    return(paste0(
      nothing_found,
      if (any(x$finding %in% c("correlated", "copy", "derived"))) {
        " Predictors that go together share or hide each other's importance."
      }
    ))
  }
  text <- paste(found, collapse = ", ")
  paste0(
    toupper(substr(text, 1, 1)), substring(text, 2), ". ",
    if (reason || !first$predictor %in% c(about_rows, about_target)) {
      paste0(name_about(first$predictor), ": ")
    },
    if (reason) paste0(first$detail, " "), first$todo
  )
}

# No check of values can know more.
nothing_found <- paste0(
  "No severe finding and no doubt. Which columns were known before the target, only ",
  "you can say."
)

#' @export
print.dreher_set_file <- function(x, ...) {
  write_lines(
    x,
    c(
      heading(paste0(
        "Predictor set read from a file: ", count_of(length(x$predictors), "predictor"),
        " of ", x$target
      )),
      wrap_lines(if (length(x$predictors)) list_words(x$predictors) else "none", indent = 1),
      paste0(
        " rule ", x$rule, ", model ", x$model, ", ", x$metric, " ", short_number(x$score),
        " against ", short_number(x$all), " with all"
      )
    )
  )
}
