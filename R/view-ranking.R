# The print of a ranking: predictors down, methods across.

#' Print more, or less, of a result
#'
#' By default a print keeps to a screen of 24 lines, as wide as the terminal, and says what it
#' leaves out.
#'
#' @param x A [ranking], or a result of [stability()] or [reduce_predictors()].
#' @param ... Must be empty.
#' @param n Number of predictors (of a reduction: of steps) to show, or NULL: as many as fit.
#' @param models Names of the models to show, or NULL. With `n` or `models` nothing is left out for
#'   want of room.
#' @param width Columns to use, from 72 to 160. Default: as many as the terminal has (80 where there
#'   is none). Prints of all results take it.
#' @return `x`, invisibly.
#' @section Errors: `dreher_error_input`: a model that the result does not hold, a number below 1, a
#'   width out of range.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes + cooling_rate, kiln$train)
#' rk <- rank_permutation(study(fit, kiln$holdout, "strength", train = kiln$train))
#' print(rk, n = 2)
#' print(rk, width = 120)
#' @name printing
#' @export
print.dreher_ranking <- function(x, ..., n = NULL, models = NULL, width = NULL) {
  check_no_dots(..., .verb = "print")
  check_print(n, models, unique(x$model))
  write_lines(x, format_ranking(x, n = n, models = models), width)
}

# As many rows and models as fit: first fewer rows, then fewer models.
format_ranking <- function(x, lines = 24, n = NULL, models = NULL) {
  if (!nrow(x)) return("<ranking without rows>")
  x <- shown_ranking(x)
  if (!is.null(models)) x <- x[x$model %in% models, ]
  if (!is.null(n) || !is.null(models)) {
    return(assemble_ranking(x, if (is.null(n)) Inf else n, length(unique(x$model)), 0))
  }
  models <- length(unique(x$model))
  for (most_models in seq(models, 1)) for (rows in seq(20, if (most_models > 1) 2 else 1)) {
    out <- assemble_ranking(x, rows, most_models)
    if (length(out) <= lines) return(out)
  }
  out[seq_len(lines)]
}

# slack: so many rows more than `rows` are shown before a line says what is left out
assemble_ranking <- function(x, rows, most_models, slack = 1) {
  labels <- detail(x, "labels")
  settings <- detail(x, "settings")
  whole <- as_plain(x)
  together <- whole[is.na(whole$class), ]
  if (!nrow(together)) together <- whole
  models <- utils::head(unique(together$model), most_models)
  more <- setdiff(unique(together$model), models)
  body <- unlist(lapply(models, function(m) {
    part <- together[together$model == m, ]
    c(
      paste0(m, " (", settings$class[settings$model == m][1], ")"),
      format_ranking_part(part, labels, rows, directions_of(x, m), slack)
    )
  }))
  used <- settings[settings$model %in% models & settings$method %in% together$method, ]
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
  c(
    heading(paste0("Ranking of the predictors of ", detail(x, "target"))),
    unlist(lapply(unique(notes_of_settings(x, used)), break_note)), body,
    if (length(more)) {
      wrap_lines(paste0("Not shown: ", list_few(more), "; print(models = )."))
    },
    "", wrap_lines(say),
    unlist(lapply(shorten_words(say_suspects(whole, labels), 240), wrap_lines)),
    unlist(lapply(
      c(
        detail(x, "stopped"), say_members(detail(x, "members"), models),
        say_parts(detail(x, "parts"), models), say_gap(detail(x, "gap"), models, labels),
        say_twins(detail(x, "twins"), labels), say_noise(used), say_resamples(x),
        say_floor(detail(x, "floor"), labels)
      ),
      wrap_lines
    )),
    say_left_out(detail(x, "left_out"))
  )
}

# What was measured, on what: a line per panel, said once where it holds for all models.
notes_of_settings <- function(x, used) {
  panel <- panel_of(used)
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
  notes
}

# A note too long for its line goes on below, under its first word.
break_note <- function(note, width = text_width()) {
  if (nchar(note, "width") <= width) return(note)
  lead <- regmatches(note, regexpr("^ .{12}[^ ]* *", note))
  words <- strwrap(substring(note, nchar(lead) + 1), width - nchar(lead))
  paste0(c(lead, rep(strrep(" ", nchar(lead)), length(words) - 1)), words)
}

say_left_out <- function(skipped) {
  if (is.null(skipped)) return(NULL)
  each <- paste0(skipped$method, " for ", skipped$model, " (", skipped$why, ")")
  wrap_lines(shorten_words(paste0("Left out: ", paste(each, collapse = "; "), "."), 240))
}

# Predictors down, methods across; each cell rank, value and half the interval.
format_ranking_part <- function(part, labels, most, directions = NULL, slack = 1) {
  part$panel <- panel_of(part)
  panels <- panels_in(part)
  order <- order_by_rank(part)
  shown <- shown_of(
    part, order, if (length(order) > most + slack) most else length(order)
  )
  cells_of <- function(coarser) cells_of_ranking(part, panels, shown, coarser)
  flags <- vapply(shown, function(p) flags_beside(part, p), "")
  name <- list(
    predictor = shorten(labels[shown], name_room(if (length(panels) > 3) 18 else 22))
  )
  # Panels beside each other as far as they fit, a digit shorter if that helps, the rest below.
  width_of <- function(cells) vapply(cells, function(x) max(nchar(x, "width")), 1L)
  lines_of <- function(cells) {
    cumulative_lines(
      pmax(width_of(cells), nchar(panels)) + 2L,
      screen_width() - max(nchar(name[[1]], "width"), 9) - 1
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
  way <- list(direction = directions[shown])
  way$direction[is.na(way$direction)] <- ""
  if (!any(nzchar(way$direction)) || first > screen_width() - 12) way <- NULL
  if (!is.null(way)) first <- first + 11
  flag <- if (length(panels) <= 2 && any(nzchar(flags)) && first < screen_width() - 10) {
    list(flag = shorten_words(flags, max(10, screen_width() - first)))
  }
  folded <- say_folded(part, panels, setdiff(order, shown))
  tables <- lapply(split(seq_along(cells), line), function(at) {
    shorten(lay_out(c(name, cells[at], if (1L %in% at) c(way, flag))), screen_width())
  })
  c(unlist(tables, use.names = FALSE), folded)
}

# Predictors by their mean rank over the panels.
order_by_rank <- function(part) {
  names(sort(tapply(
    tied_ranks(part), factor(part$predictor, unique(part$predictor)), mean
  )))
}

# Ranks, with predictors that tie in the middle of their places: all that are 0 do not come first.
tied_ranks <- function(part) {
  stats::ave(as.double(part$rank), panel_of(part), FUN = mid_ranks)
}

# The first `most` in order, among them those that are one of the first three of any panel.
shown_of <- function(part, order, most) {
  first <- part$predictor[tied_ranks(part) <= 3]
  kept <- utils::head(union(order[order %in% first], order), most)
  order[order %in% kept]
}

# What is known of the way each predictor acts in a model: rises, falls, bends, mixed.
directions_of <- function(x, model) {
  d <- detail(x, "direction")
  if (is.null(d)) return(NULL)
  d <- d[d$model == model & is.na(d$class) & d$direction %in% known_directions, ]
  d <- d[!duplicated(d$predictor), ]
  stats::setNames(d$direction, d$predictor)
}

known_directions <- c("rises", "falls", "bends", "mixed")

# The cells of every panel: rank, value with its limits, and the share where there is room.
cells_of_ranking <- function(part, panels, shown, coarser) {
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
flags_beside <- function(part, p) {
  flags <- unlist(strsplit(part$flag[part$predictor == p], "; ", fixed = TRUE))
  paste(setdiff(flags, "training rows"), collapse = "; ")
}

say_folded <- function(part, panels, rest) {
  if (!length(rest)) return(NULL)
  folded <- part$predictor %in% rest
  shares <- vapply(panels, function(m) {
    sum(part$share[part$panel == m & folded], na.rm = TRUE)
  }, 0)
  paste0(
    "  ", length(rest), if (length(rest) == 1) " other, " else " others, together ",
    paste(format_percent(shares), collapse = " / ")
  )
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
print.dreher_advice <- function(x, ..., width = NULL) write_lines(x, format_advice(x), width)

format_advice <- function(x) {
  body <- unlist(lapply(unique(x$model), function(m) {
    d <- x[x$model == m, ]
    c(
      if (length(unique(x$model)) > 1) m,
      unlist(lapply(seq_len(nrow(d)), function(i) {
        wrap_lines(paste0(d$method[i], " (", d$use[i], "): ", d$why[i]), indent = 1)
      }))
    )
  }))
  c(
    heading(paste0("Which importance to read of the predictors of ", detail(x, "target"))),
    body,
    if (detail(x, "few_rows")) {
      c("", wrap_lines(
        "Few training rows: read no order without resamples, see stability()."
      ))
    }
  )
}
