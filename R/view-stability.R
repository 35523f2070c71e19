# Stability, agreement and the noise floor in words.

kind_words <- c(
  bootstrap = "bootstrap draws", subsample = "subsamples", folds = "folds",
  time = "points in time", seeds = "seeds of the model"
)

say_resamples <- function(x) {
  about <- detail(x, "resamples")
  if (is.null(about)) return(NULL)
  failed <- detail(x, "failed")
  paste0(
    "Means over ", about$times, " ", kind_words[[about$kind]],
    "; stability() gives the uncertainty of the order.",
    if (NROW(failed)) {
      paste0(
        " ", count_of(nrow(failed), "piece", TRUE), " failed and ",
        if (nrow(failed) == 1) "is" else "are", " missing, the first: ", failed$model[1],
        ", resample ", failed$resample[1], ": ", shorten(failed$error[1], 120)
      )
    }
  )
}

say_floor <- function(floor, labels) {
  if (is.null(floor)) return(NULL)
  below <- labels[unique(floor$table$predictor[!floor$table$above])]
  paste0(
    "Noise floor of ", floor$refits, if (floor$shuffle == "conditional") " conditional",
    " decoy refits: ",
    if (!length(below)) {
      "every predictor exceeds it in every model and method."
    } else {
      paste0(
        list_words(shorten(utils::head(below, 6), 24)),
        if (length(below) > 6) paste0(" and ", length(below) - 6, " more"),
        if (length(below) == 1) {
          " does not exceed it in every model and method."
        } else {
          " do not exceed it in every model and method."
        }
      )
    }
  )
}

part_name <- function(d) {
  paste0(
    d$model[1], ", ", in_sentence(panel_of(d[1, ])),
    if (!is.na(d$slice[1])) paste0(", ", d$slice[1])
  )
}

say_places <- function(lower, upper) {
  if (lower == upper) as.character(lower) else paste0(lower, " to ", upper)
}

# The verdict: tier by tier, what is settled and what is open.
say_stability <- function(part, labels, about) {
  d <- part$table
  if (about$kind == "seeds") return(say_own_noise(d))
  name <- function(p) shorten(labels[p], 24)
  if (all(is.na(d$tier))) {
    return(paste0("Too few resamples for rank sets: ", say_first_on_average(d, name), "."))
  }
  paste(
    c(say_settled(d, name), say_open(d[!d$settled, ], name), say_doubtful(d, name)),
    collapse = " "
  )
}

# Whoever is among the first three and shares the place with nobody beyond.
say_first_on_average <- function(d, name) {
  last <- d$rank + tabulate(d$rank)[d$rank] - 1
  first <- d$predictor[last <= 3]
  if (!length(first)) return("no predictor is ahead of the others on average")
  paste0(
    "the first ", c("is ", "are ", "three are ")[length(first)], list_words(name(first)),
    " on average"
  )
}

say_own_noise <- function(d) {
  same <- sum(d$spread_lower == d$spread_upper)
  paste0(
    "With other seeds of the model ",
    if (same == nrow(d)) {
      "every predictor keeps"
    } else {
      paste0(same, " of ", nrow(d), " predictors keep")
    },
    " the rank. This is the noise of the learner alone; other samples may differ more."
  )
}

say_settled <- function(d, name) {
  settled <- d[d$settled, ]
  if (nrow(settled) == nrow(d)) return("Settled: the whole order.")
  if (!nrow(settled)) return("No rank is settled.")
  shown <- utils::head(settled, 5)
  paste0(
    "Settled: ", list_words(paste0(name(shown$predictor), " (", shown$rank, ")")),
    if (nrow(settled) > 5) paste0(" and ", nrow(settled) - 5, " more"), "."
  )
}

# Runs of predictors whose rank sets overlap: list of row numbers. open: in order of rank
overlapping_runs <- function(open) {
  runs <- list()
  from <- 1
  reach <- open$rank_upper[1]
  for (i in seq_len(nrow(open))[-1]) {
    if (open$rank_lower[i] > reach) {
      runs <- c(runs, list(from:(i - 1)))
      from <- i
    }
    reach <- max(reach, open$rank_upper[i])
  }
  c(runs, list(from:nrow(open)))
}

say_open <- function(open, name) {
  if (!nrow(open)) return(NULL)
  one <- function(r) {
    few <- length(r) <= 4
    who <- if (few) list_words(name(open$predictor[r])) else count_of(length(r), "predictor")
    paste0(say_places(min(open$rank_lower[r]), max(open$rank_upper[r])), " (", who, ")")
  }
  say <- vapply(overlapping_runs(open), one, "")
  paste0(
    "Not settled: ranks ", list_words(utils::head(say, 4)),
    if (length(say) > 4) paste0(" and ", length(say) - 4, " more runs"),
    "."
  )
}

# What does not stand out from noise, or from doing nothing.
say_doubtful <- function(d, name) {
  under <- d$predictor[d$above_floor %in% FALSE]
  if (length(under)) {
    few <- length(under) <= 4
    who <- if (few) list_words(name(under)) else count_of(length(under), "predictor", TRUE)
    return(paste0(
      who, if (length(under) == 1) " does" else " do", " not exceed the noise floor."
    ))
  }
  nothing <- sum(!is.na(d$lower) & d$lower <= 0)
  centred <- d$method[1] %in% c("permutation", "refit")
  if (!all(is.na(d$above_floor)) || !centred || nothing == 0) return(NULL)
  paste0(
    "For ", if (nothing == 1) "one predictor" else paste(nothing, "predictors"),
    " the interval does not exclude zero."
  )
}

# What else is to be said of the verdict: whose noise it is, and whether more resamples could
# change it.
say_caveats <- function(part) {
  paste(
    c(
      say_seeds(part$table),
      if (isTRUE(part$close)) {
        paste0(
          "A boundary of the tiers lies within the Monte-Carlo error: draw more resamples."
        )
      }
    ),
    collapse = " "
  )
}

say_verdict <- function(part, labels, about) {
  trimws(paste(say_stability(part, labels, about), say_caveats(part)))
}

# How much of the variance of the first three the model's own seed makes up.
say_seeds <- function(d) {
  first <- utils::head(d[!is.na(d$seed_share), ], 3)
  if (!NROW(first)) return(NULL)
  if (all(first$seed_error == 0)) return("The model's own seed changes nothing.")
  of <- range(first$seed_share)
  paste0(
    "The model's own seed makes up ",
    if (round(100 * of[1]) == round(100 * of[2])) {
      format_percent(of[1])
    } else {
      paste0(round(100 * of[1]), " to ", format_percent(of[2]))
    },
    " of the variance of the first ",
    if (nrow(first) == 1) "predictor" else c("two", "three")[nrow(first) - 1],
    if (of[2] > 0.25) {
      ": more trees or averaged fits would reduce that part."
    } else {
      "; the rest comes from the sample."
    }
  )
}

# A measure of agreement with its error, rounded up; without where there is none.
two_digits <- function(value, error) {
  two <- function(v) formatC(v, digits = 2, format = "f")
  # No spread among few resamples is no proof that there is none.
  paste0(
    two(value),
    ifelse(
      is.na(error) | error < 1e-12, "", paste0(" \u00b1", two(ceiling(100 * error) / 100))
    )
  )
}

say_measure <- function(m, name, k = NA, label = name) {
  one <- m[m$measure == name & (if (is.na(k)) is.na(m$k) else m$k %in% k), ][1, ]
  paste0(
    label, " ",
    if (is.na(one$value)) {
      "undefined"
    } else {
      paste0(
        two_digits(one$value, one$mc_error),
        if (isTRUE(one$chance > 0.005)) {
          paste0(" (chance ", formatC(one$chance, digits = 2, format = "f"), ")")
        }
      )
    }
  )
}

say_measures <- function(part) {
  m <- part$measures
  if (is.null(m)) return(NULL)
  k <- unique(stats::na.omit(m$k))
  k <- k[which.min(abs(k - 3))]
  paste0(
    "Agreement of the resamples: ",
    paste(
      c(
        say_measure(m, "Kendall's tau-b", label = "tau-b"),
        say_measure(m, "Kendall's W", label = "W"),
        say_measure(m, "rank-biased overlap", label = "rank-biased overlap"),
        if (length(k)) {
          say_measure(
            m,
            "chance-corrected stability of the top",
            k,
            paste0("stability of the top ", k)
          )
        }
      ),
      collapse = ", "
    ),
    "."
  )
}

#' @rdname printing
#' @export
print.dreher_stability <- function(x, ..., n = NULL, models = NULL, width = NULL) {
  check_no_dots(..., .verb = "print")
  check_print(n, models, unique(vapply(x$parts, function(p) p$table$model[1], "")))
  write_lines(x, format_stability(x, n = n, models = models), width)
}

format_stability <- function(x, lines = 24, n = NULL, models = NULL) {
  if (!is.null(models)) {
    x$parts <- Filter(function(p) p$table$model[1] %in% models, x$parts)
  }
  full <- !is.null(n) || !is.null(models)
  several <- length(x$parts) > 1 && !full
  head <- c(
    heading(paste0("Stability of the ranking of the predictors of ", x$target)),
    paste0(
      " ", x$about$times, " ", kind_words[[x$about$kind]],
      if (x$about$kind != "seeds") {
        paste0(
          " of ", format_number(round(x$about$rows)), " rows",
          if (any(vapply(
              x$parts, function(p) startsWith(p$table$rows[1], "left out"), NA
            ))) {
            ", ranked on the rows left out"
          },
          "; ", format_percent(x$level), " sets"
        )
      }
    )
  )
  failed <- if (NROW(x$failed)) {
    wrap_lines(paste0(
      count_of(nrow(x$failed), "piece", TRUE), " failed and ",
      if (nrow(x$failed) == 1) "is" else "are",
      " missing: see ranking_details(ranking, \"failed\")."
    ))
  }
  if (several) {
    foot <- c(
      failed,
      "print(n = ) shows more; as.data.frame() holds every predictor."
    )
    parts <- utils::head(x$parts, 4)
    said <- lapply(parts, function(p) wrap_lines(say_verdict(p, x$labels, x$about)))
    room <- lines - length(head) - length(foot) - length(unlist(said)) - 3 * length(parts)
    rows <- max(3, room %/% length(parts))
    body <- unlist(Map(function(p, says) {
      c(part_name(p$table), stability_lines(p, x$labels, rows + 1, rows), says, "")
    }, parts, said))
    more <- length(x$parts) - length(parts)
    return(c(
      head, body, if (more > 0) paste0("and ", count_of(more, "more list"), "."), foot
    ))
  }
  if (full) {
    rows <- if (is.null(n)) Inf else n
    return(c(
      head,
      unlist(lapply(x$parts, function(p) {
        c(
          paste0(part_name(p$table), ", ", settings_of(x, p)),
          stability_lines(p, x$labels, rows + 1, rows), "",
          wrap_lines(say_verdict(p, x$labels, x$about)), wrap_lines(say_measures(p))
        )
      })),
      failed
    ))
  }
  part <- x$parts[[1]]
  foot <- c(
    "", wrap_lines(say_verdict(part, x$labels, x$about)), wrap_lines(say_measures(part)),
    failed
  )
  c(
    head, paste0(part_name(part$table), ", ", settings_of(x, part)),
    stability_lines(part, x$labels, lines - length(head) - length(foot) - 2), foot
  )
}

settings_of <- function(x, part) {
  s <- x$settings
  s$measures[s$model == part$table$model[1] & s$method == part$table$method[1]][1]
}

stability_lines <- function(part, labels, room, most = room) {
  d <- part$table
  shown <- if (nrow(d) > most) utils::head(d, room - 1) else d
  half <- (shown$upper - shown$lower) / 2
  top <- grep("^top_", names(d), value = TRUE)
  top <- top[which.min(abs(as.integer(sub("top_", "", top)) - 3))]
  columns <- list(
    predictor = shorten(labels[shown$predictor], name_room(24)),
    rank = as.character(shown$rank),
    `rank set` = ifelse(
      is.na(shown$rank_lower),
      "",
      ifelse(shown$settled, "settled", paste0(shown$rank_lower, "-", shown$rank_upper))
    ),
    spread = ifelse(
      shown$spread_lower == shown$spread_upper,
      as.character(shown$spread_lower),
      paste0(as.character(shown$spread_lower), "-", as.character(shown$spread_upper))
    )
  )
  if (length(top)) {
    columns[[sub("_", " ", top)]] <- share_with_error(
      part, shown$predictor, as.integer(sub("top_", "", top))
    )
  }
  columns$importance <- with_limits(shown$importance, shown$lower, shown$upper)
  columns$tier <- ifelse(is.na(shown$tier), "", as.character(shown$tier))
  over <- max(nchar(lay_out(columns), "width")) - screen_width()
  if (over > 0) {
    columns$predictor <- shorten(
      columns$predictor, max(8, max(nchar(columns$predictor, "width")) - over)
    )
  }
  c(
    lay_out(
      columns,
      c(FALSE, TRUE, FALSE, FALSE, TRUE, TRUE, TRUE)[c(
          TRUE, TRUE, TRUE, TRUE, length(top) > 0, TRUE, TRUE
        )]
    ),
    if (nrow(d) > nrow(shown)) {
      paste0("  ", nrow(d) - nrow(shown), " others: as.data.frame() shows all")
    }
  )
}

# Shares of the resamples in percent, with half of their limits' range.
share_with_error <- function(part, predictors, k) {
  d <- part$tops[part$tops$k == k, ]
  d <- d[match(predictors, d$predictor), ]
  percent <- function(v) round(100 * v)
  even <- abs((d$upper - d$share) - (d$share - d$lower)) < 0.01
  ifelse(
    even,
    paste0(percent(d$share), " \u00b1", percent((d$upper - d$lower) / 2), " %"),
    paste0(percent(d$share), " [", percent(d$lower), ", ", percent(d$upper), "] %")
  )
}

#' @export
print.dreher_resamples <- function(x, ...) {
  write_lines(
    x,
    c(
      heading(paste0(length(x$inside), " resamples: ", kind_words[[x$kind]])),
      paste0(
        " of ", format_number(x$rows), " rows; inside ",
        format_number(round(mean(lengths(x$inside)))), ", left out ",
        format_number(round(mean(lengths(x$outside)))), " on average",
        if (!is.null(x$blocks)) paste0("; rows of one ", x$blocks, " stay together")
      )
    )
  )
}

#' @export
print.dreher_agreement <- function(x, ..., width = NULL) {
  write_lines(x, format_agreement(x), width)
}

format_agreement <- function(x, lines = 24) {
  d <- x$pairs[order(x$pairs$tau), ]
  shown <- utils::head(d, 10)
  of <- function(measure) {
    ifelse(
      is.na(shown[[measure]]),
      "",
      two_digits(shown[[measure]], shown[[paste0(measure, "_error")]])
    )
  }
  columns <- list(
    ` ` = paste(shorten(shown$a, name_room(20)), "|", shorten(shown$b, name_room(20))),
    `tau-b` = of("tau"),
    rho = of("spearman"),
    top = of("top_overlap"),
    overlap = of("rank_overlap"),
    shares = of("share_overlap")
  )
  if (!all(is.na(d$tau_error))) columns$rho <- columns$overlap <- NULL  # no room
  head <- heading(paste0(
    "Agreement of ", length(x$lists), " rankings of the predictors of ", x$target
  ))
  if (!any(nzchar(unlist(columns[-1])))) return(c(head, wrap_lines(say_agreement(x))))
  c(
    head,
    wrap_lines(
      paste0(
        "top: of the first ", x$k, "; shares: in common",
        if (!is.null(columns$rho)) "; rho: Spearman; overlap: rank-biased"
      ),
      indent = 1
    ),
    lay_out(columns, c(FALSE, rep(TRUE, length(columns) - 1))),
    if (nrow(d) > nrow(shown)) paste0("  ", nrow(d) - nrow(shown), " pairs agree better"),
    "", wrap_lines(say_agreement(x))
  )
}

# briefly: the names alone.
say_agreement <- function(x, most = 3, briefly = FALSE) {
  # Ranks of predictors that matter nowhere are settled by chance.
  matters <- x$predictors$share >= 0.5 / nrow(x$predictors)
  d <- utils::head(x$predictors[is_disputed(x$predictors) & matters, ], most)
  if (!nrow(d)) return(say_no_dispute(x))
  place <- function(v) format(v, trim = TRUE)
  more <- if (briefly) {
    ""
  } else {
    paste0(
      " (", place(d$best), " in ", d$best_in, ", ", place(d$worst), " in ", d$worst_in,
      ifelse(nzchar(d$why), paste0("; ", d$why), ""), ")"
    )
  }
  paste0(
    "They disagree most on ",
    list_words(paste0(shorten(x$labels[d$predictor], 24), more)), "."
  )
}

# Nobody is far apart: whether that is agreement is for the measure over all predictors to say.
say_no_dispute <- function(x) {
  if (max(x$pairs$shared) < 4) {
    return(paste0(
      "The lists share ", count_of(max(x$pairs$shared), "predictor"),
      if (min(x$pairs$shared) < max(x$pairs$shared)) " or fewer",
      ": too few to say whether they agree."
    ))
  }
  known <- x$pairs$tau[x$pairs$shared >= 4 & !is.na(x$pairs$tau)]
  if (!length(known)) {
    return(
      paste0(
        "No predictor that matters moves by more than a fifth of the places; a list ",
        "without order has no measure of agreement."
      )
    )
  }
  tau <- range(known)
  two <- function(v) formatC(v, digits = 2, format = "f")
  measured <- if (tau[1] == tau[2]) two(tau[1]) else paste(two(tau[1]), "to", two(tau[2]))
  paste0(
    "No predictor that matters moves by more than a fifth of the places; ",
    if (tau[1] >= 0.7) {
      "the rankings agree"
    } else if (tau[1] >= 0.4) {
      "over all predictors the orders agree in part"
    } else {
      "over all predictors the orders agree little"
    },
    " (tau ", measured, ")."
  )
}

#' @export
print.dreher_floor <- function(x, ..., width = NULL) write_lines(x, format_floor(x), width)

format_floor <- function(x, lines = 24) {
  parts <- split(x$table, part_keys(cbind(x$table, slice = NA)))
  room <- max(1, (lines - 6) %/% length(parts) - 3)
  body <- unlist(lapply(parts, function(d) {
    unit <- stats::sd(d$importance) / 10
    # A floor far below the importances is not nought.
    far <- d$floor[1] > 0 && isTRUE(d$floor[1] < unit / 5)
    of_floor <- if (far) d$floor[1] / 10 else unit
    some <- utils::head(d, if (nrow(d) > room + 1) room else nrow(d))
    rest <- nrow(d) - nrow(some)
    c(
      paste0(
        d$model[1], ", ", in_sentence(panel_of(d[1, ])), ": floor ",
        format_value(d$floor[1], of_floor), " [",
        format_value(d$floor_lower[1], of_floor), ", ",
        format_value(d$floor_upper[1], of_floor), "]; above it ", sum(d$above), " of ",
        nrow(d)
      ),
      paste0(
        "  ", pad(shorten(x$labels[some$predictor], name_room(28)), name_room(28)),
        pad(format_value(some$importance, unit), 10, TRUE), "  p ",
        formatC(some$p_value, digits = 3, format = "f"), ifelse(some$above, "  above", "")
      ),
      if (rest > 0) {
        above <- sum(d$above) - sum(some$above)
        paste0(
          "  ", rest, " others, ", if (above > 0) above else "none", " of them above: ",
          "as.data.frame() shows them"
        )
      }
    )
  }))
  c(
    heading(paste0("Noise floor of the predictors of ", x$target)),
    paste0(
      " ", x$refits, " refits with a permuted copy of every predictor",
      if (x$shuffle == "conditional") " (within strata)",
      if (isTRUE(x$seen)) ", on training rows", "; family-wise level ",
      format_percent(round(1 - x$level, 12))
    ) |> shorten_words(screen_width()),
    utils::head(body, lines - 5), "", wrap_lines(what_floor_asks(x))
  )
}

# What being above the floor means, and what it does not.
what_floor_asks <- function(x) {
  if (x$shuffle == "conditional") {
    paste0(
      "Above the floor: more important than a copy that is as associated with the other ",
      "predictors."
    )
  } else {
    paste0(
      "Above the floor: related to the target, alone or through others. A useless ",
      "predictor correlated with a useful one also passes; shuffle = \"conditional\" asks ",
      "more."
    )
  }
}

# d: the predictors of one model, method and rows.
say_above <- function(d, labels) {
  under <- d$predictor[!d$above]
  if (!length(under)) return("Every predictor scores more than chance alone.")
  if (all(!d$above)) return("No predictor scores more than chance alone.")
  paste0(
    count_of(sum(d$above), "predictor", TRUE),
    if (sum(d$above) == 1) " scores" else " score", " more than chance alone; ",
    if (length(under) > 6) {
      paste(length(under), "others do not")
    } else {
      paste0(
        list_words(shorten(labels[under], 24)),
        if (length(under) == 1) " does not" else " do not"
      )
    },
    "."
  )
}
