# Printed objects: format_*() gives the lines, one print method writes them. At most 24 lines of 80
# columns; meaning never rests on colour.

write_lines <- function(x, lines) {
  writeLines(lines)
  invisible(x)
}

#' @export
print.dreher_study <- function(x, ...) write_lines(x, format(x))

#' @export
format.dreher_study <- function(x, ...) {
  what <- if (x$task == "regression") {
    paste0(
      "a number from ", format_value(min(x$data[[x$target]])), " to ",
      format_value(max(x$data[[x$target]]))
    )
  } else {
    paste0(
      "classes ",
      paste(shorten(x$classes, 15)[seq_len(min(6, length(x$classes)))], collapse = ", "),
      if (length(x$classes) > 6) ", ...",
      if (length(x$classes) == 2) paste0("; explained: ", x$classes[x$positive])
    )
  }
  models <- x$models[seq_len(min(length(x$models), 10))]
  reads <- vapply(
    models,
    function(m) {
      if (!is.null(m$forest)) {
        paste0(
          length(m$forest$root),
          if (length(m$forest$root) == 1) " tree, " else " trees, ",
          format_number(length(m$forest$column)), " nodes"
        )
      } else if (!is.null(m$linear)) {
        paste0(sum(m$linear$term > 0), " coefficients")
      } else {
        "through its predictions"
      }
    },
    ""
  )
  c(
    heading(paste0("Study of ", x$target, " (", x$task, ")")),
    paste0(" target      ", what),
    paste0(" metric      ", x$metric$label, ", ", x$metric$better, " is better"),
    paste0(
      " rows        ", format_number(nrow(x$data)),
      if (isTRUE(x$seen)) " of those the models were trained on" else " holdout",
      if (!is.null(x$train)) {
        paste0(", ", format_number(nrow(x$train)), " training")
      } else {
        "; no training rows given"
      }
    ),
    if (!is.null(x$weights)) paste0(" weights     ", x$weights),
    if (!is.null(x$blocks)) {
      paste0(
        " blocks      ", x$blocks, ": ",
        format_number(length(unique(x$data[[x$blocks]]))), " in the holdout rows"
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

#' @export
print.dreher_model_file <- function(x, ...) write_lines(x, format(x))

#' @export
format.dreher_model_file <- function(x, ...) {
  used <- if (!is.null(x$rounds)) paste0(", rounds 1 to ", x$rounds)
  c(
    paste0(
      "<", x$library, " model from ", basename(x$file), ": ", read_task(x)$task,
      ", objective ", x$objective, used, ">"
    ),
    wrap_lines(paste0("columns: ", quote_some(x$columns, 8)))
  )
}

#' @export
print.dreher_scores <- function(x, ...) write_lines(x, format_scores(x))

format_scores <- function(x) {
  if (!all(c("gain_lower", "train_score") %in% names(x)) || !nrow(x)) {
    return(utils::capture.output(print(as_plain(x))))
  }
  shown <- as_plain(x)[seq_len(min(nrow(x), 12)), ]
  unit <- shown$std_error
  seen <- isTRUE(attr(x, "seen"))
  columns <- list(
    model = shown$model,
    holdout = format_value(shown$score, unit),
    interval = in_brackets(shown$lower, shown$upper, unit),
    constant = format_value(shown$constant, unit),
    `better by` = paste(
      format_value(shown$gain, unit),
      in_brackets(shown$gain_lower, shown$gain_upper, unit)
    ),
    training = format_value(shown$train_score, unit)
  )
  if (seen) columns <- columns[c("model", "training", "constant", "better by")]
  table <- lay_out(columns, c(FALSE, rep(TRUE, length(columns) - 1)))
  if (any(nchar(table, "width") > 80)) {
    columns$model <- shorten(columns$model, 14)
    table <- shorten(lay_out(columns, c(FALSE, rep(TRUE, length(columns) - 1))), 80)
  }
  c(
    heading(paste0(
      "Scores for ", attr(x, "target"), ": ", attr(x, "metric_label"), ", ", x$better[1],
      " is better, ", format_number(x$n[1]),
      if (seen) " training rows" else " holdout rows"
    )),
    table, "", wrap_lines(score_sentence(x))
  )
}

score_sentence <- function(x) {
  weak <- x$model[x$flag == "no skill"]
  if (isTRUE(attr(x, "seen"))) {
    paste0(
      "These are training rows: how the models do on others cannot be told from them. ",
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
print.dreher_checks <- function(x, ...) write_lines(x, format_checks(x))

format_checks <- function(x) {
  if (!all(c("predictor", "finding", "detail", "used_by") %in% names(x))) {
    return(utils::capture.output(print(as_plain(x))))
  }
  head <- heading(paste0(
    "Checked ", attr(x, "n_checked"), " columns for predicting ", attr(x, "target")
  ))
  if (!nrow(x)) return(c(head, " Nothing suspicious."))
  shown <- as_plain(x)[seq_len(min(nrow(x), 16)), ]
  name <- shorten(shown$predictor, 18)
  room <- 80 - 5 - max(9, nchar(name, "width")) - max(7, nchar(shown$finding))
  rows <- lay_out(list(
    predictor = name, finding = shown$finding, what = shorten_words(shown$detail, room)
  ))
  leak <- x$predictor[x$finding == "leak"]
  c(
    head, rows,
    if (nrow(x) > 16) paste0(" and ", nrow(x) - 16, " more: as.data.frame() shows them"),
    "",
    wrap_lines(if (length(leak)) {
      paste0(
        "Was ", list_words(leak), " known before ", attr(x, "target"), "? If not, leave ",
        if (length(leak) == 1) "it" else "them", " out."
      )
    } else {
      "Findings are reasons to look, not verdicts."
    })
  )
}

#' @export
print.dreher_ranking <- function(x, ...) write_lines(x, format_ranking(x))

# As many rows and models as fit: first fewer rows, then fewer models.
format_ranking <- function(x, lines = 24) {
  if (!nrow(x)) return("<ranking without rows>")
  x <- shown_ranking(x)
  models <- length(unique(x$model))
  for (most_models in seq(models, 1)) for (rows in seq(20, if (most_models > 1) 2 else 1)) {
    out <- assemble_ranking(x, rows, most_models)
    if (length(out) <= lines) return(out)
  }
  out[seq_len(lines)]
}

assemble_ranking <- function(x, rows, most_models) {
  labels <- attr(x, "labels")
  settings <- attr(x, "settings")
  whole <- as_plain(x)
  together <- whole[is.na(whole$class), ]
  if (!nrow(together)) together <- whole
  models <- utils::head(unique(together$model), most_models)
  more <- length(unique(together$model)) - length(models)
  body <- unlist(lapply(models, function(m) {
    part <- together[together$model == m, ]
    c(
      paste0(m, " (", settings$class[settings$model == m][1], ")"),
      format_ranking_part(part, labels, rows)
    )
  }))
  used <- settings[settings$model %in% models & settings$method %in% together$method, ]
  panel <- panel_of(used$method, used$rows)
  notes <- vapply(
    seq_len(nrow(used)),
    function(i) {
      paste0(
        " ", pad(panel[i], max(13, nchar(panel) + 1)),
        say_settings(used[i, ], level_shown(x, used[i, ]))
      )
    },
    ""
  )
  for (one in unique(panel)) {
    # Said once where it holds for all models, else with the model.
    of_method <- panel == one
    if (length(unique(notes[of_method])) > 1) {
      notes[of_method] <- paste0(notes[of_method], ": ", used$model[of_method])
    }
  }
  say <- vapply(
    models,
    function(m) {
      paste0(
        if (length(models) > 1) paste0(m, ": "),
        say_ranking(main_part(together[together$model == m, ]), labels)
      )
    },
    ""
  )
  skipped <- attr(x, "left_out")
  c(
    heading(paste0("Ranking of the predictors of ", attr(x, "target"))),
    shorten_words(unique(notes), 80), body,
    if (more > 0) {
      paste0("and ", count_of(more, "more model"), ": as.data.frame() shows all")
    },
    "", wrap_lines(say),
    unlist(lapply(shorten_words(say_suspects(whole, labels), 240), wrap_lines)),
    unlist(lapply(
      c(
        say_members(attr(x, "members"), models), say_parts(attr(x, "parts"), models),
        say_gap(attr(x, "gap"), models, labels), say_twins(attr(x, "twins"), labels),
        say_noise(used), say_resamples(x), say_floor(attr(x, "floor"), labels)
      ),
      wrap_lines
    )),
    if (!is.null(skipped)) {
      wrap_lines(
        paste0(
          "Left out: ",
          paste0(
            skipped$method, " for ", skipped$model, " (", skipped$why, ")",
            collapse = "; "
          ),
          "."
        ) |> shorten_words(240)
      )
    }
  )
}

# Predictors down, methods across; each cell rank, value and half the interval.
format_ranking_part <- function(part, labels, most) {
  part$panel <- panel_of(part$method, part$rows)
  panels <- panels_in(part)
  mean_rank <- tapply(part$rank, factor(part$predictor, unique(part$predictor)), mean)
  order <- names(sort(mean_rank))
  shown <- utils::head(order, if (length(order) > most + 1) most else length(order))
  cells_of <- function(coarser) {
    lapply(panels, function(m) {
      r <- part[part$panel == m, ]
      i <- match(shown, r$predictor)
      half <- (r$upper - r$lower)[i] / 2
      unit <- ifelse(is.na(half), r$std_error[i], half) * coarser
      value <- ifelse(is.na(i), "", format_value(r$importance[i], unit))
      limits <- with_limits(r$importance[i], r$lower[i], r$upper[i], unit)
      paste0(
        pad(ifelse(is.na(i), "", paste0("#", r$rank[i])), 4),
        pad(value, max(nchar(value)), TRUE),
        ifelse(is.na(i), "", substring(limits, nchar(value) + 1)),
        ifelse(
          length(panels) > 2 | is.na(r$share[i]),
          "",
          paste0(" (", format_percent(r$share[i]), ")")
        )
      )
    })
  }
  # What a panel's name says already is not said again.
  flags <- vapply(
    shown,
    function(p) {
      paste(
        setdiff(
          unlist(strsplit(part$flag[part$predictor == p], "; ", fixed = TRUE)),
          "training rows"
        ),
        collapse = "; "
      )
    },
    ""
  )
  name <- list(predictor = shorten(labels[shown], if (length(panels) > 3) 18 else 22))
  # Panels beside each other as far as they fit, a digit shorter if that helps, the rest below.
  width_of <- function(cells) vapply(cells, function(x) max(nchar(x, "width")), 1L)
  lines_of <- function(cells) {
    cumulative_lines(
      pmax(width_of(cells), nchar(panels)) + 2L,
      80 - max(nchar(name[[1]], "width"), 9) - 1
    )
  }
  cells <- cells_of(1)
  if (max(lines_of(cells)) > 1 && max(lines_of(cells_of(10))) < max(lines_of(cells))) {
    cells <- cells_of(10)
  }
  names(cells) <- panels
  width <- width_of(cells)
  line <- lines_of(cells)
  first <- sum(width[line == 1L] + 2L) + max(nchar(name[[1]], "width"), 9) + 3
  flag <- if (length(panels) <= 2 && any(nzchar(flags)) && first < 70) {
    list(flag = shorten_words(flags, max(10, 80 - first)))
  }
  rest <- setdiff(order, shown)
  folded <- if (length(rest)) {
    shares <- vapply(
      panels,
      function(m) {
        sum(part$share[part$panel == m & part$predictor %in% rest], na.rm = TRUE)
      },
      0
    )
    paste0(
      "  ", length(rest), " others, together ",
      paste(format_percent(shares), collapse = " / ")
    )
  }
  tables <- lapply(split(seq_along(cells), line), function(at) {
    shorten(lay_out(c(name, cells[at], if (1L %in% at) flag)), 80)
  })
  c(unlist(tables, use.names = FALSE), folded)
}

# Which line each piece of a text goes to, when a line holds so much.
cumulative_lines <- function(widths, room) {
  line <- 1L
  used <- 0L
  vapply(widths, function(w) {
    if (used > 0 && used + w > room) {
      line <<- line + 1L
      used <<- 0L
    }
    used <<- used + w
    line
  }, 1L)
}

#' @export
print.dreher_reduction <- function(x, ...) write_lines(x, format_reduction(x))

format_reduction <- function(x, lines = 24) {
  tables <- as.data.frame(x)
  st <- x$study
  most <- max(4, floor((lines - 4) / length(x$curves)) - 4)
  body <- unlist(lapply(names(x$curves), function(m) {
    d <- tables[tables$model == m, ]
    beside <- d[d$candidate %in% beside_path, ]
    d <- d[!d$candidate %in% beside_path, ]
    if (nrow(d) > most) d <- d[sort(unique(c(seq_len(most - 1), nrow(d)))), ]
    unit <- stats::median(d$price_error[d$price_error > 0])
    price <- function(r) {
      ifelse(
        r$price_error == 0,
        "reference",
        with_limits(r$price, r$price_lower, r$price_upper, unit)
      )
    }
    name <- m
    if (!identical(d$refit[1], m)) name <- paste0(m, ", refitted: ", d$refit[1])
    c(
      if (length(x$curves) > 1 || !identical(d$refit[1], m)) name,
      lay_out(
        list(
          size = as.character(d$size),
          score = format_value(d$score, d$std_error),
          price = price(d),
          random = ifelse(is.na(d$random), "", format_value(d$random, d$std_error)),
          added = shorten_words(name_added(d, st), 40)
        ),
        c(TRUE, TRUE, TRUE, TRUE, FALSE)
      ),
      if (nrow(beside)) {
        unlist(lapply(
          say_beside(beside, st, price(beside)), wrap_lines, width = 79, indent = 1
        ))
      }
    )
  }))
  c(
    heading(paste0(
      "Fewer predictors of ", st$target, ": ", st$metric$label, ", ", st$metric$better,
      " is better"
    )),
    shorten_words(
      paste0(
        " ", say_path(x), "; folds ", x$folds, " x ", x$times, ", inner ", x$inner_folds,
        ", seed ", x$seed
      ),
      80
    ),
    body, "",
    wrap_lines(paste0(
      if (x$random > 0) {
        paste0(
          "Random: mean of ", x$random, " random sets of the size, on ",
          if (x$times > 1) "the first drawing of the folds" else "the same folds", ". "
        )
      },
      "For looking: the best point flatters. choose_set() gives the honest score."
    ))
  )
}

say_path <- function(x) {
  ranked <- paste(x$by, collapse = " and ")
  paste0(
    switch(
      x$path,
      ranking = paste("ranked by", ranked, "in each training part"),
      backward = paste0("backward, ranked anew by ", ranked, ", in each training part"),
      paste(x$path, "in each training part")
    ),
    if (x$thin_twins) ", twins thinned",
    if (!is.null(x$budget)) paste0(", budget ", format(x$budget))
  )
}

name_added <- function(d, st) {
  added <- vapply(
    strsplit(d$added, ", ", fixed = TRUE),
    function(a) paste(shorten(labels_of(st, a), 22), collapse = ", "),
    ""
  )
  ifelse(d$size == 0, "(constant)", ifelse(d$candidate == "all", "(all)", added))
}

say_beside <- function(d, st, price) {
  what <- c(
    thinned = "without twins that others stand in for",
    `not sensitive` = "without sensitive ones", `above floor` = "above the noise floor"
  )[d$candidate]
  paste0(
    what, ": ", vapply(d$size, count_of, "", "predictor"), ", ",
    format_value(d$score, d$std_error), ", price ", price
  )
}

#' @export
print.dreher_set <- function(x, ...) write_lines(x, format_set(x))

# confirmed: does a confirmation follow?
format_set <- function(x, confirmed = FALSE) {
  st <- x$study
  label <- st$metric$label
  unit <- price_unit(x)
  # scores are known better than a price that is huge
  own <- max(min(unit, (x$procedure$upper - x$procedure$lower) / 4), 1e-12)
  chosen <- if (x$size) {
    list_words(labels_of(st, x$predictors))
  } else {
    "none: no set is shown to be better than a constant"
  }
  sensitive <- intersect(x$predictors, st$dictionary$predictor[st$dictionary$sensitive])
  stands <- x$stands_for[lengths(x$stands_for) > 0]
  c(
    heading(paste0(
      x$size, " of ", x$size + length(x$left_out), " predictors of ", st$target, " for ",
      x$model, " (rule: ", x$rule, if (!is.null(x$margin)) paste0(" ", x$margin), ")"
    )),
    some_lines(chosen, 4), "", if (x$size) wrap_lines(say_set(x), 79, 1),
    paste0(
      " ", label, "   ", format_value(x$procedure$score, own), " ",
      in_brackets(x$procedure$lower, x$procedure$upper, own),
      " with the choice itself cross-validated"
    ) |> shorten_words(80),
    paste0(
      " ", strrep(" ", nchar(label)), "   ", format_value(x$full_score, own),
      " with all, ", format_value(x$constant_score, own), " for a constant"
    ),
    if (x$size) {
      paste0(
        " on the curve it was read off (flatters): ", format_value(x$score, own),
        ", price ",
        if (!length(x$left_out)) {
          "none: these are all"
        } else if (x$price_error == 0) {
          "0: the same predictions"
        } else {
          paste(
            format_value(x$price, unit), in_brackets(x$price_lower, x$price_upper, unit)
          )
        }
      ) |> shorten_words(80)
    },
    if (isTRUE(x$cost_full > 0)) {
      paste0(" cost ", format(x$cost), " of ", format(x$cost_full))
    },
    wrap_lines(paste0("choice: ", say_stability_of_choice(x)), 79, 1),
    paste0(
      " sizes chosen in the ", length(x$sizes_picked), " splits: ",
      paste(sort(x$sizes_picked), collapse = ", ")
    ) |> shorten_words(80),
    if (x$size) some_lines(say_picked(x), 4),
    if (any(!x$picked$chosen & x$picked$share >= 0.5)) some_lines(say_passed_over(x), 2),
    if (length(stands)) {
      wrap_lines(
        paste0(
          "twins: ",
          paste0(
            "in place of ", labels_of(st, names(stands)), " could stand ",
            vapply(stands, function(s) paste(labels_of(st, s), collapse = " or "), ""),
            collapse = "; "
          )
        ),
        79,
        1
      ) |> utils::head(3)
    },
    if (length(sensitive)) {
      wrap_lines(paste0("sensitive: ", list_words(labels_of(st, sensitive))), 79, 1)
    },
    if (length(say_random(x))) wrap_lines(say_random(x), 79, 1),
    if (x$size && length(x$left_out) && !confirmed) {
      c("", "Next: confirm_set() on rows nobody has touched.")
    }
  )
}

# Text over so many lines at the most; what is left away is marked.
some_lines <- function(text, most) {
  lines <- wrap_lines(text, 76, 1)
  if (length(lines) <= most) return(lines)
  c(lines[seq_len(most - 1)], paste0(sub("[ ,;]+$", "", lines[most]), "\u2026"))
}

price_unit <- function(x) {
  unit <- max(
    x$price_error,
    (x$procedure$price_upper - x$procedure$price_lower) / 4,
    0,
    na.rm = TRUE
  )
  if (unit > 0) {
    unit
  } else {
    max((x$procedure$upper - x$procedure$lower) / 4, 1e-12, na.rm = TRUE)
  }
}

# In how many splits each chosen predictor was chosen, none of them left out.
say_picked <- function(x) {
  of <- x$picked[x$picked$chosen, ]
  of <- of[order(-of$share), ]
  every <- of$predictor[of$share == 1]
  rest <- of[of$share < 1, ]
  name <- function(p) shorten(labels_of(x$study, p), 22)
  if (!nrow(rest)) {
    return(if (nrow(of) == 1) {
      "Every split chose it."
    } else {
      "Every split chose all of them."
    })
  }
  # Those that no split chose come before those of some: they must not fall off the end.
  levels <- c(
    if (length(every)) 1, if (any(rest$share == 0)) 0,
    sort(unique(rest$share[rest$share > 0]), decreasing = TRUE)
  )
  groups <- vapply(
    levels,
    function(v) {
      paste0(
        if (v == 1) {
          "by all splits: "
        } else if (v == 0) {
          "by none: "
        } else {
          paste0("by ", format_percent(v), ": ")
        },
        paste(name(of$predictor[of$share == v]), collapse = ", ")
      )
    },
    ""
  )
  paste0(
    "Chosen ", paste(groups, collapse = "; "), ".",
    if (any(rest$share < 0.5)) {
      " What fewer than half of the splits chose is not sure to be needed."
    }
  )
}

say_passed_over <- function(x) {
  of <- x$picked[!x$picked$chosen & x$picked$share >= 0.5, ]
  paste0(
    "Not in the set, though at least half of the splits chose it: ",
    paste0(
      shorten(labels_of(x$study, of$predictor), 22), " (", format_percent(of$share), ")",
      collapse = ", "
    ),
    "."
  )
}

# Random sets of the same size, where there are enough that differ from the chosen one.
say_random <- function(x) {
  if (!isTRUE(x$random_sets >= 8) || is.na(x$random_share) || x$size == 0) return(NULL)
  good <- round(x$random_share * (x$random_sets + 1)) - 1
  if (good < 1) return(NULL)
  paste0(
    good, " of ", x$random_sets, " other sets of this size, drawn at random, score",
    if (good == 1) "s", " as well or better on the same rows",
    if (x$random_share > 0.5) {
      ": which predictors are taken hardly matters here."
    } else {
      "."
    }
  )
}

say_stability_of_choice <- function(x) {
  s <- x$stability
  overlap <- if (x$size && !is.na(x$overlap)) {
    paste0("; share ", format_percent(x$overlap), " with this set")
  }
  if (is.na(s[["value"]])) {
    return(if (all(x$sizes_picked == 0)) {
      "none of the splits chose anything"
    } else {
      paste0("the same in every split, or all", overlap)
    })
  }
  word <- if (s[["value"]] > 0.75) {
    "much the same"
  } else if (s[["value"]] >= 0.4) {
    "partly the same"
  } else {
    "hardly the same"
  }
  paste0(
    word, " over splits, ", sprintf("%.2f", s[["value"]]), " (chance 0, one set 1)",
    overlap
  )
}

# Three verdicts only, from the price of the choice itself cross-validated and, where there is
# one, the confirmation on untouched rows: safe (no more is lost than the margin), costs (a loss
# is shown), open (cannot be told).
set_verdict <- function(x, confirmation = NULL) {
  p <- x$procedure
  confirmed <- if (!is.null(confirmation)) confirmation$statement
  if (isTRUE(p$price_lower > 0) || identical(confirmed, "worse")) return("costs")
  if (!is.null(confirmed)) {
    return(if (confirmed %in% c(
        "better", "not worse by more than the margin", "the same set"
      )) {
      "safe"
    } else {
      "open"
    })
  }
  if (isTRUE(x$allowed > 0) && isTRUE(p$price_upper < x$allowed)) "safe" else "open"
}

say_set <- function(x, confirmation = NULL) {
  st <- x$study
  all <- x$size + length(x$left_out)
  if (x$size == 0) return("No set of predictors is shown to be better than a constant.")
  if (!length(x$left_out)) {
    return(if (all == 1) {
      "The only predictor stays."
    } else {
      paste0("All ", all, " predictors stay: by this rule none can go.")
    })
  }
  unit <- price_unit(x)
  on_fresh <- !is.null(confirmation) && !identical(confirmation$statement, "the same set")
  price <- if (on_fresh) {
    unlist(confirmation[c("difference", "lower", "upper")])
  } else {
    unlist(x$procedure[c("price", "price_lower", "price_upper")])
  }
  if (on_fresh) unit <- max(confirmation$std_error, 1e-12)
  source <- if (on_fresh) "on untouched rows" else "with the choice cross-validated"
  number <- function(v) format_value(v, unit)
  who <- paste0(x$size, " of ", all, " predictors")
  limits <- in_brackets(price[2], price[3], unit)
  verdict <- set_verdict(x, confirmation)
  shaky <- if (isTRUE(x$stability[["value"]] < 0.4)) {
    " Which ones to take is not settled: the splits hardly agree."
  }
  paste0(
    switch(
      verdict,
      safe = if (price[3] < 0) {
        paste0(
          "Safe: ", who, if (x$size == 1) " is" else " are", " better than all; price ",
          number(price[1]), " ", limits, " ", st$metric$label, ", ", source, "."
        )
      } else {
        paste0(
          "Safe: ", who, if (x$size == 1) " loses" else " lose",
          " less than the margin of ",
          number(if (on_fresh) confirmation$margin else x$allowed), "; price ",
          number(price[1]), " ", limits, " ", st$metric$label, ", ", source, "."
        )
      },
      costs = if (price[2] > 0) {
        paste0(
          "It costs: ", who, if (x$size == 1) " is" else " are", " worse than all by ",
          number(price[1]), " ", limits, " ", st$metric$label, ", ", source, "."
        )
      } else {
        paste0(
          "It costs: cross-validated, ", who, if (x$size == 1) " is" else " are",
          " worse than all by ", format_value(x$procedure$price, price_unit(x)), " ",
          in_brackets(x$procedure$price_lower, x$procedure$price_upper, price_unit(x)),
          " ", st$metric$label, "; untouched rows do not settle it."
        )
      },
      open = paste0(
        "Whether ", who, if (x$size == 1) " does" else " do",
        " as well as all cannot be told: price ", number(price[1]), " ", limits, " ",
        st$metric$label, ", ", source, "."
      )
    ),
    shaky
  )
}

#' @export
print.dreher_set_file <- function(x, ...) {
  write_lines(
    x,
    c(
      heading(paste0(
        "Predictor set read from a file: ", count_of(length(x$predictors), "predictor"),
        " of ", x$target
      )),
      wrap_lines(if (length(x$predictors)) list_words(x$predictors) else "none", 79, 1),
      paste0(
        " rule ", x$rule, ", model ", x$model, ", ", x$metric, " ", signif(x$score, 4),
        " against ", signif(x$all, 4), " with all"
      )
    )
  )
}

#' @export
print.dreher_twins <- function(x, ...) write_lines(x, format_twins(x))

format_twins <- function(x, most = 6, room = 19) {
  d <- x$table
  name <- function(p) unname(x$labels[p])
  body <- unlist(lapply(utils::head(x$clusters$cluster, most), function(g) {
    of <- d[which(d$cluster == g), ]
    stays <- of$predictor[of$representative]
    gone <- of$predictor[!of$representative]
    c(
      some_lines(
        paste0(
          few_words(name(of$predictor), 8), " (association ",
          format_value(x$clusters$least[g], 0.01), if (nrow(of) > 2) " at least", ")"
        ),
        2
      ),
      paste0("  ", some_lines(say_cluster(x, of, stays, gone), 3)),
      if (any(!is.na(of$replaceable))) {
        paste0(
          "   replaceable by all others: ",
          paste0(
            shorten(name(of$predictor), 22), " ", format_percent(of$replaceable),
            collapse = ", "
          )
        ) |> shorten(80)
      }
    )
  }))
  if (length(body) > room) {
    body <- c(utils::head(body, room), " \u2026: as.data.frame() shows all")
  }
  if (is.null(body)) {
    body <- wrap_lines(
      paste0(
        "No two predictors go together that closely; the closest are at ",
        format_value(max(d$association, 0, na.rm = TRUE), 0.01), "."
      ),
      79,
      1
    )
  }
  c(
    heading(paste0(
      "Twins among ", count_of(nrow(d), "predictor"), ": mean association of ", x$least,
      " or more"
    )),
    body,
    if (nrow(x$clusters) > most) {
      paste0(" and ", count_of(nrow(x$clusters) - most, "more cluster"))
    },
    if (nrow(x$clusters)) {
      c("", "reduce_predictors(thin_twins = TRUE) lets one of each cluster in.")
    }
  )
}

# Who stays and who goes, and whether that could be the other way round.
say_cluster <- function(x, of, stays, gone) {
  name <- function(p) unname(x$labels[p])
  told <- function(from, to) {
    x$tells$tells[match(paste(from, to), paste(x$tells$predictor, x$tells$other))]
  }
  if (!length(gone)) {
    return(if (all(of$why == "kept")) {
      paste0(list_words(name(stays)), " stay: all are to be kept.")
    } else {
      paste0(
        list_words(name(stays)),
        " stay: they go together, but none tells the others well enough (",
        paste0(format_percent(range(told_of(x, stays))), collapse = " to "), ")."
      )
    })
  }
  # Whoever stands for the cluster, not who stays because nobody tells it.
  lead <- of$predictor[of$representative & of$why != "not told by the other"]
  beside <- setdiff(stays, lead)
  first <- lead[1]
  back <- told(gone, first)
  back[is.na(back)] <- 0
  does <- back >= x$least
  paste0(
    list_words(name(lead)), if (length(lead) > 1) " stay" else " stays",
    if (nzchar(of$why[of$predictor == first])) {
      paste0(" (", of$why[of$predictor == first], ")")
    },
    "; ",
    paste(
      c(
        if (any(does)) {
          paste0(
            few_words(name(gone[does])), " could stand in for it (",
            if (sum(does) == 1) "tells " else "tell ", say_shares(back[does]), " of it)"
          )
        },
        if (any(!does)) {
          paste0(
            few_words(name(gone[!does])), " can go, but could not stand in for it (",
            if (sum(!does) == 1) "tells " else "tell ", say_shares(back[!does]), " of it)"
          )
        },
        if (length(beside)) {
          paste0(
            few_words(name(beside)),
            if (length(beside) > 1) " stay too: they are" else " stays too: it is",
            " not told well enough"
          )
        }
      ),
      collapse = "; "
    ),
    "."
  )
}

# a, b, c and 93 more
few_words <- function(x, most = 5) {
  if (length(x) <= most + 1) {
    list_words(x)
  } else {
    paste0(paste(x[seq_len(most)], collapse = ", "), " and ", length(x) - most, " more")
  }
}

# Each of a few shares, or the range of many.
say_shares <- function(x) {
  if (length(x) <= 3) {
    list_words(format_percent(x))
  } else {
    paste0(round(100 * min(x)), " to ", format_percent(max(x)))
  }
}

told_of <- function(x, members) {
  x$tells$tells[x$tells$predictor %in% members & x$tells$other %in% members]
}

#' @export
print.dreher_comparison <- function(x, ...) write_lines(x, format_comparison(x))

format_comparison <- function(x) {
  models <- unique(x$model)
  body <- unlist(lapply(models, function(m) {
    d <- x[x$model == m, ]
    class(d) <- "data.frame"
    unit <- stats::median(d$diff_error[d$diff_error > 0])
    if (is.na(unit)) unit <- max(d$upper - d$lower) / 4
    columns <- list(
      set = shorten(d$set, 18),
      size = as.character(d$size),
      score = format_value(d$score, unit),
      difference = ifelse(
        d$set == attr(x, "reference"),
        "reference",
        with_limits(d$difference, d$diff_lower, d$diff_upper, unit)
      )
    )
    if (any(!is.na(d$cost) & d$cost > 0)) {
      columns$cost <- ifelse(is.na(d$cost), "", format(d$cost))
    }
    if (any(!is.na(d$aicc))) {
      columns[["AICc +"]] <- ifelse(
        is.na(d$aicc), "", format(round(d$aicc_difference, 1), nsmall = 1, trim = TRUE)
      )
    }
    columns$statement <- sub(" by more than the margin", "", d$statement)
    c(
      if (length(models) > 1) m,
      shorten(
        lay_out(
          columns, c(FALSE, TRUE, TRUE, TRUE, rep(TRUE, length(columns) - 5), FALSE)
        ),
        80
      )
    )
  }))
  c(
    heading(paste0(
      "Sets of predictors of ", attr(x, "target"), ": ", attr(x, "metric_label"), ", ",
      attr(x, "better"), " is better"
    )),
    paste0(
      " scored by ", attr(x, "scored"), ", seed ", attr(x, "seed"),
      "; difference in loss from \"", attr(x, "reference"), "\", paired"
    ) |> shorten(80),
    body, "",
    wrap_lines(paste0(
      "Not worse: by less than ", attr(x, "margin"),
      if (grepl("%", attr(x, "margin"))) " of what the reference gains over the constant",
      ". A set chosen on these rows is flattered here; choose_set() and confirm_set() ",
      "are honest about it."
    ))
  )
}

#' @export
print.dreher_confirmation <- function(x, ...) write_lines(x, format_confirmation(x))

format_confirmation <- function(x) {
  unit <- if (x$std_error > 0) x$std_error else x$margin / 4
  if (identical(x$statement, "the same set")) {
    return(c(
      heading(paste0("Nothing to confirm on ", format_number(x$n), " untouched rows")),
      wrap_lines(say_confirmation(x)),
      paste0(
        " ", x$metric_label, ": ", format_value(x$score_full), ", ",
        format_value(x$score_constant), " constant"
      ),
      say_looks(x)
    ))
  }
  c(
    heading(paste0("Compared on ", format_number(x$n), " untouched rows: ", x$statement)),
    paste0(
      " ", x$metric_label, ": ", format_value(x$score_small, unit), " with ",
      count_of(length(x$predictors), "predictor"), ", ", format_value(x$score_full, unit),
      " with all ", x$full_size, ", ", format_value(x$score_constant, unit), " constant"
    ),
    wrap_lines(
      paste0(
        "difference ", format_value(x$difference, unit), " ",
        in_brackets(x$lower, x$upper, unit), ", one-sided limit ",
        format_value(x$limit, unit), ", margin ", format_value(x$margin, unit)
      ),
      79,
      1
    ),
    "", wrap_lines(say_confirmation(x)), say_looks(x)
  )
}

say_confirmation <- function(x) {
  switch(
    x$statement,
    better = "On untouched rows the smaller model is better than the full one.",
    "not worse by more than the margin" = "On untouched rows the smaller model is not worse by more than the margin.",
    worse = if (x$lower > x$margin) {
      paste0(
        "On untouched rows the smaller model is worse by more than the margin. Choose ",
        "a larger set."
      )
    } else {
      paste0(
        "On untouched rows the smaller model is worse; whether by more than the ",
        "margin is open. Choose a larger set."
      )
    },
    "the same set" = "The set holds all predictors: there is no smaller model to compare.",
    paste0(
      "Inconclusive: too few rows to tell. ",
      if (isTRUE(x$n_needed <= 20 * x$n)) {
        paste0(
          "About ", format_number(x$n_needed), " rows would settle it if nothing is lost."
        )
      } else {
        "It would take more than twenty times as many; a wider margin may be reasonable."
      }
    )
  )
}

say_looks <- function(x) {
  if (x$looks > 1) {
    wrap_lines(paste0(
      "These rows were confirmed on ", x$looks,
      " times: the best of several looks flatters."
    ))
  }
}
