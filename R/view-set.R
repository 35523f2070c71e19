# Chosen sets in words: what they cost, and how sure that is.

say_set <- function(x, confirmation = NULL) {
  st <- x$study
  all <- x$count + length(x$left_out)
  if (x$count == 0) return("By this rule no set of predictors beats a constant.")
  if (!length(x$left_out)) {
    return(if (all == 1) {
      "The only predictor is kept."
    } else {
      paste0(
        if (all == 2) "Both" else paste("All", all),
        " predictors are kept: by this rule none can be left out."
      )
    })
  }
  unit <- price_unit(x)
  on_fresh <- !is.null(confirmation) && !identical(confirmation$statement, "the same set")
  price <- if (on_fresh) {
    unlist(confirmation[c("price", "price_lower", "price_upper")])
  } else {
    unlist(x[c("price", "price_lower", "price_upper")])
  }
  if (on_fresh) unit <- max(confirmation$price_error, 1e-12)
  source <- if (on_fresh) {
    paste("on", confirmed_on(confirmation))
  } else {
    paste0(
      "by nested cross-validation",
      if (x$outside) paste0(", carried over from sets of ", say_range(x$counts_chosen))
    )
  }
  who <- paste0(
    if (length(st$models) > 1) paste0("for ", x$refit, ", "), x$count, " of ", all,
    " predictors"
  )
  shaky <- if (isTRUE(x$stability[["value"]] < 0.4)) {
    " The choice is unstable: the splits agree little."
  }
  paste0(
    say_price_verdict(
      x,
      set_verdict(x, confirmation),
      who,
      price,
      unit,
      if (on_fresh) confirmation$margin else x$allowed,
      paste0(st$metric$label, ", ", source)
    ),
    shaky
  )
}

# Another model that predicts better and ranks among its first what this set leaves out: that comes
# before what the set costs its own model. NULL where there is none.
say_other_model <- function(set, scores, ranking) {
  if (is.null(set) || is.null(scores) || is.null(ranking) || nrow(scores) < 2) {
    return(NULL)
  }
  other <- best_model(set$study)
  of <- function(m) scores[match(m, scores$model), ]
  if (other == set$refit || is.na(of(other)$score) || is.na(of(set$refit)$score)) {
    return(NULL)
  }
  pairs <- detail(scores, "parts")$pairs
  better <- pairs$model == other & pairs$other == set$refit & pairs$lower > 0 |
    pairs$model == set$refit & pairs$other == other & pairs$upper < 0
  if (!isTRUE(any(better))) return(NULL)
  d <- as_plain(shown_ranking(ranking))
  d <- main_part(d[is.na(d$class) & d$model == other, ])
  first <- d[d$rank <= max(3, min(5, set$count)) & !(d$lower <= 0) %in% TRUE, ]
  stood_for <- unlist(set$stands_for)
  missed <- setdiff(intersect(first$predictor, set$left_out), stood_for)
  if (!length(missed)) return(NULL)
  metric <- set$study$metric$label
  unit <- max(of(other)$std_error, 1e-12, na.rm = TRUE)
  paste0(
    other, " predicts better than ", set$refit, " (", metric, " ",
    format_value(of(other)$score, unit), " against ",
    format_value(of(set$refit)$score, unit), ") and ranks ",
    list_few(labels_of(set$study, missed)), " among its first, which this set of ",
    set$refit, " leaves out: reduce ", other, " instead."
  )
}

# price: value, lower, upper; measured: the metric and where the price is from
say_price_verdict <- function(x, verdict, who, price, unit, margin, measured) {
  one <- x$count == 1
  number <- function(v) format_value(v, unit)
  cost <- if (isTRUE(all(price == 0))) {
    "0 "
  } else {
    paste0(number(price[1]), " ", in_brackets(price[2], price[3], unit), " ")
  }
  switch(
    verdict,
    safe = if (price[3] < 0) {
      paste0(
        "Safe: ", who, if (one) " is" else " are", " better than all; price ", cost,
        measured, "."
      )
    } else {
      paste0(
        "Safe: ", who, if (one) " loses" else " lose", " less than the margin of ",
        number(margin), "; price ", cost, measured, "."
      )
    },
    costs = if (price[2] > 0) {
      paste0(
        "Worse: ", who, if (one) " is" else " are", " worse than all by ", cost,
        measured, "."
      )
    } else {
      own <- price_unit(x)
      paste0(
        "Worse: in cross-validation ", who, if (one) " is" else " are",
        " worse than all by ", format_value(x$price, own), " ",
        in_brackets(x$price_lower, x$price_upper, own), " ",
        x$study$metric$label, "; the rows of the confirmation are inconclusive."
      )
    },
    open = paste0(
      "Inconclusive: whether ", who, if (one) " predicts" else " predict",
      " as well as all is open; price ", cost, measured, "."
    )
  )
}

# Three verdicts only, from the price of the choice itself cross-validated and, where there is
# one, the confirmation on untouched rows: safe (no more is lost than the margin), costs (a loss
# is shown), open (cannot be told).
set_verdict <- function(x, confirmation = NULL) {
  confirmed <- if (!is.null(confirmation)) confirmation$statement
  if (identical(confirmed, "worse")) return("costs")
  if (isTRUE(x$price_lower > 0)) return("costs")
  if (!is.null(confirmed)) {
    return(if (confirmed %in% c(
        "better", "not worse by more than the margin", "the same set"
      )) {
      "safe"
    } else {
      "open"
    })
  }
  if (isTRUE(x$allowed > 0) && isTRUE(x$price_upper < x$allowed)) "safe" else "open"
}

price_unit <- function(x) {
  unit <- max(x$price_error, 0, na.rm = TRUE)
  if (unit > 0) unit else max((x$upper - x$lower) / 4, 1e-12, na.rm = TRUE)
}

# In how many splits each chosen predictor was chosen, none of them left out.
say_picked <- function(x) {
  of <- x$chosen_share[x$chosen_share$chosen, ]
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
      " Predictors chosen by fewer than half of the splits may not be needed."
    }
  )
}

# How the number hangs on the rows (the splits) and on the seed (the drawings of the folds).
say_counts <- function(x, unit) {
  d <- x$drawings
  paste0(
    "numbers chosen in the ", length(x$counts_chosen), " splits: ",
    paste(sort(x$counts_chosen), collapse = ", "),
    "; on all rows by each drawing of the folds: ", paste(d$count, collapse = ", "),
    if (nrow(d) > 1) {
      paste0(" (nested score ", paste(format_value(d$score, unit), collapse = ", "), ")")
    },
    if (x$outside) {
      ". No split chose this size: its score is carried over from theirs by the curve"
    }
  )
}

say_passed_over <- function(x) {
  of <- x$chosen_share[!x$chosen_share$chosen & x$chosen_share$share >= 0.5, ]
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
  if (!isTRUE(x$random_sets >= 8) || is.na(x$random_p) || x$count == 0) return(NULL)
  good <- x$random_as_good
  if (good < 1) return(NULL)
  paste0(
    good, " of ", x$random_sets, " other random sets of as many predictors score",
    if (good == 1) "s", " as well or better on the same rows",
    if (x$random_p > 0.5) {
      ": here the choice of predictors hardly matters."
    } else {
      "."
    }
  )
}

say_stability_of_choice <- function(x) {
  s <- x$stability
  overlap <- if (x$count && !is.na(x$overlap)) {
    paste0("; overlap with this set ", format_percent(x$overlap))
  }
  if (is.na(s[["value"]])) {
    return(if (all(x$counts_chosen == 0)) {
      "no split chose any predictor"
    } else {
      paste0("the same in every split, or all", overlap)
    })
  }
  word <- if (s[["value"]] > 0.75) {
    "stable"
  } else if (s[["value"]] >= 0.4) {
    "partly stable"
  } else {
    "unstable"
  }
  paste0(
    word, " over the splits, ", sprintf("%.2f", s[["value"]]), " (0: chance, 1: identical)",
    overlap
  )
}

# confirmed: does a confirmation follow?
format_set <- function(x, confirmed = FALSE) {
  st <- x$study
  label <- st$metric$label
  unit <- price_unit(x)
  # scores are known better than a price that is huge
  own <- max(min(unit, (x$upper - x$lower) / 4, na.rm = TRUE), 1e-12)
  chosen <- if (x$count) {
    list_words(labels_of(st, x$predictors))
  } else {
    "none: by this rule no set beats a constant"
  }
  sensitive <- intersect(x$predictors, st$dictionary$predictor[st$dictionary$sensitive])
  stands <- x$stands_for[lengths(x$stands_for) > 0]
  c(
    heading(paste0(
      x$count, " of ", x$count + length(x$left_out),
      if (x$count + length(x$left_out) == 1) " predictor of " else " predictors of ",
      st$target, " for ", x$model, " (rule: ", x$rule,
      if (!is.null(x$margin)) paste0(" ", x$margin), ")"
    )),
    some_lines(chosen, 4), "", if (x$count) wrap_lines(say_set(x), indent = 1),
    paste0(
      " ", label, "   ", format_value(x$score, own), " ",
      if (!isTRUE(x$upper <= x$lower)) paste0(in_brackets(x$lower, x$upper, own), " "),
      "nested cross-validation score"
    ) |> shorten_words(screen_width()),
    paste0(
      " ", strrep(" ", nchar(label)), "   ", format_value(x$full_score, own),
      " with all, ", format_value(x$constant_score, own), " for a constant"
    ),
    if (x$count) shorten_words(say_on_curve(x, own, unit), screen_width()),
    if (!x$count && any(x$counts_chosen > 0)) {
      wrap_lines(
        paste0(
          "without predictors expect the constant's score; the nested score is that of ",
          "the rule, whose splits chose ", say_range(x$counts_chosen), " predictors"
        ),
        indent = 1
      )
    },
    if (isTRUE(x$cost_full > 0)) {
      paste0(" cost ", format(x$cost), " of ", format(x$cost_full))
    },
    wrap_lines(paste0("choice: ", say_stability_of_choice(x)), indent = 1),
    wrap_lines(say_counts(x, own), indent = 1), if (x$count) some_lines(say_picked(x), 4),
    if (any(!x$chosen_share$chosen & x$chosen_share$share >= 0.5)) {
      some_lines(say_passed_over(x), 2)
    },
    if (length(stands)) {
      utils::head(wrap_lines(say_stands_for(stands, st), indent = 1), 3)
    },
    if (length(sensitive)) {
      wrap_lines(paste0("sensitive: ", list_words(labels_of(st, sensitive))), indent = 1)
    },
    if (length(say_random(x))) wrap_lines(say_random(x), indent = 1),
    unlist(lapply(say_suspects_of(x), wrap_lines, indent = 1)),
    if (x$count && length(x$left_out) && !confirmed) {
      c("", "Next: confirm_set() on rows nobody has touched.")
    }
  )
}

# Severe findings of the checks about predictors of the set.
say_suspects_of <- function(set) {
  st <- set$study
  if (is.null(st$data) || !length(set$predictors)) return(NULL)
  found <- find_severe(st)
  found <- found[found$predictor %in% set$predictors, ]
  if (!nrow(found)) return(NULL)
  flag <- ifelse(found$finding == "leak", "possible leak", found$finding)
  say_suspects(
    data.frame(predictor = found$predictor, flag = flag), labels_of(st, set$predictors)
  )
}

# The same below a figure of one set or several; NULL: nothing.
caption_of_sets <- function(sets) {
  said <- unique(unlist(lapply(sets, say_suspects_of)))
  if (length(said)) paste(said, collapse = " ")
}

say_on_curve <- function(x, own, unit) {
  price <- if (!length(x$left_out)) {
    "none: these are all"
  } else if (x$curve_price == 0 && x$curve_lower == x$curve_upper) {
    "0: the same loss of every row"
  } else {
    paste(
      format_value(x$curve_price, unit), in_brackets(x$curve_lower, x$curve_upper, unit)
    )
  }
  paste0(
    " on the curve (optimistic): ", format_value(x$curve_score, own), ", price ",
    price
  )
}

# stands: per representative those that could stand in its place
say_stands_for <- function(stands, st) {
  others <- vapply(stands, function(s) paste(labels_of(st, s), collapse = " or "), "")
  paste0(
    "twins: ",
    paste0(
      others, " could replace ", labels_of(st, names(stands)), collapse = "; "
    )
  )
}

#' @export
print.dreher_set <- function(x, ..., width = NULL) write_lines(x, format_set(x), width)

# Text over so many lines at the most; what is left away is marked.
some_lines <- function(text, most) {
  lines <- wrap_lines(text, text_width() - 4, 1)
  if (length(lines) <= most) return(lines)
  c(lines[seq_len(most - 1)], paste0(sub("[ ,;]+$", "", lines[most]), "\u2026"))
}

#' @export
print.dreher_comparison <- function(x, ..., width = NULL) {
  write_lines(x, format_comparison(x), width)
}

format_comparison <- function(x) {
  models <- unique(x$model)
  body <- unlist(lapply(models, function(m) {
    d <- x[x$model == m, ]
    class(d) <- "data.frame"
    unit <- stats::median(d$price_error[d$price_error > 0])
    if (is.na(unit)) unit <- max(d$upper - d$lower) / 4
    columns <- list(
      set = shorten(d$set, 18),
      count = as.character(d$count),
      score = format_value(d$score, unit),
      price = ifelse(
        d$set == detail(x, "reference"),
        "reference",
        with_limits(d$price, d$price_lower, d$price_upper, unit)
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
        screen_width()
      )
    )
  }))
  c(
    heading(paste0(
      "Sets of predictors of ", detail(x, "target"), ": ", detail(x, "metric_label"), ", ",
      detail(x, "better"), " is better"
    )),
    paste0(
      " scored by ", detail(x, "scored"), ", seed ", detail(x, "seed"),
      "; price: loss less that of \"", detail(x, "reference"), "\", paired"
    ) |> shorten(screen_width()),
    body, "",
    wrap_lines(paste0(
      "Margin: ", detail(x, "margin"),
      if (grepl("%", detail(x, "margin"))) " of the reference's skill over the constant",
      ". The score of a set chosen on these rows is optimistic; use choose_set() and ",
      "confirm_set()."
    ))
  )
}

#' @export
print.dreher_confirmation <- function(x, ..., width = NULL) {
  write_lines(x, format_confirmation(x), width)
}

format_confirmation <- function(x) {
  unit <- if (x$price_error > 0) x$price_error else x$margin / 4
  if (identical(x$statement, "the same set")) {
    return(c(
      heading(paste("Nothing to confirm on", format_number(x$n), confirmed_on(x))),
      wrap_lines(say_confirmation(x)),
      paste0(
        " ", x$metric_label, ": ", format_value(x$score_full), ", ",
        format_value(x$score_constant), " constant"
      ),
      say_looks(x)
    ))
  }
  c(
    heading(paste0(
      "Compared on ", format_number(x$n), " ", confirmed_on(x), ": ", x$statement
    )),
    paste0(
      " ", x$metric_label, ": ", format_value(x$score_small, unit), " with ",
      count_of(length(x$predictors), "predictor"), ", ", format_value(x$score_full, unit),
      " with all ", x$full_count, ", ", format_value(x$score_constant, unit), " constant"
    ),
    wrap_lines(
      paste0(
        "price ", format_value(x$price, unit), " ",
        in_brackets(x$price_lower, x$price_upper, unit), ", one-sided limit ",
        format_value(x$limit, unit), ", margin ", format_value(x$margin, unit)
      ),
      indent = 1
    ),
    "", wrap_lines(say_confirmation(x)), say_looks(x)
  )
}

# The rows of a confirmation: holdout rows are no longer untouched.
confirmed_on <- function(x) {
  if (identical(x$rows, "holdout")) "holdout rows" else "untouched rows"
}

say_confirmation <- function(x) {
  switch(
    x$statement,
    better = paste0(
      "On ", confirmed_on(x), " the smaller model is better than the full one."
    ),
    "not worse by more than the margin" = paste0(
      "On ", confirmed_on(x), " the smaller model is not worse by more than the margin."
    ),
    worse = if (x$price_lower > x$margin) {
      paste0(
        "On ", confirmed_on(x), " the smaller model is worse by more than the margin. ",
        "Choose a larger set."
      )
    } else {
      paste0(
        "On ", confirmed_on(x), " the smaller model is worse; whether by more than the ",
        "margin is open. Choose a larger set."
      )
    },
    "the same set" = "The set holds all predictors: there is no smaller model to compare.",
    if (isTRUE(x$rarest < least_of_class)) {
      paste0(
        "Inconclusive: the rarest class has ", x$rarest,
        " of these rows, too few to claim anything; ", least_of_class, " are needed."
      )
    } else if (isTRUE(x$n_needed <= x$n)) {
      # Enough rows to show it, had nothing been lost.
      paste0(
        "Inconclusive: a loss beyond the margin is not excluded, though these rows ",
        "would most likely have excluded it if nothing were lost. Choose a larger set, or ",
        "a wider margin."
      )
    } else {
      paste0(
        "Inconclusive: too few rows to tell. ",
        if (isTRUE(x$n_needed <= 20 * x$n)) {
          paste0(
            "About ", format_number(x$n_needed),
            " rows would settle it if nothing is lost."
          )
        } else {
          paste0(
            "If nothing is lost, it would take more than twenty times as many; ",
            "a wider margin may be reasonable."
          )
        }
      )
    }
  )
}

say_looks <- function(x) {
  if (x$looks > 1) {
    wrap_lines(paste0(
      "These rows were confirmed on ", x$looks,
      " times: the best of several looks is optimistic."
    ))
  }
}
