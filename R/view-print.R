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
  what <- if (x$task == "regression") paste0("a number from ", format_value(min(x$data[[x$target]])), " to ", format_value(max(x$data[[x$target]]))) else {
    paste0("classes ", paste(shorten(x$classes, 15)[seq_len(min(6, length(x$classes)))], collapse = ", "), if (length(x$classes) > 6) ", ...",
           if (length(x$classes) == 2) paste0("; explained: ", x$classes[x$positive]))
  }
  models <- x$models[seq_len(min(length(x$models), 10))]
  reads <- vapply(models, function(m) {
    if (!is.null(m$forest)) paste0(length(m$forest$root), if (length(m$forest$root) == 1) " tree, " else " trees, ", format_number(length(m$forest$column)), " nodes")
    else if (!is.null(m$linear)) paste0(sum(m$linear$term > 0), " coefficients") else "through its predictions"
  }, "")
  c(heading(paste0("Study of ", x$target, " (", x$task, ")")),
    paste0(" target      ", what),
    paste0(" metric      ", x$metric$label, ", ", x$metric$better, " is better"),
    paste0(" rows        ", format_number(nrow(x$data)), " holdout", if (!is.null(x$train)) paste0(", ", format_number(nrow(x$train)), " training") else "; no training rows given"),
    if (!is.null(x$weights)) paste0(" weights     ", x$weights),
    if (!is.null(x$blocks)) paste0(" blocks      ", x$blocks, ": ", format_number(length(unique(x$data[[x$blocks]]))), " in the holdout rows"),
    paste0(" predictors  ", length(x$predictors)), "",
    lay_out(list(model = names(models), class = vapply(models, `[[`, "", "class"),
                 predictors = as.character(vapply(models, function(m) length(m$inputs$predictors), 1L)), read = reads),
            c(FALSE, FALSE, TRUE, FALSE)),
    if (length(x$models) > 10) paste0(" and ", length(x$models) - 10, " more"),
    "", "Next: check_data(), score_models(), rank_predictors().")
}

#' @export
print.dreher_model_file <- function(x, ...) write_lines(x, format(x))

#' @export
format.dreher_model_file <- function(x, ...) {
  used <- if (!is.null(x$rounds)) paste0(", rounds 1 to ", x$rounds)
  c(paste0("<", x$library, " model from ", basename(x$file), ": ", read_task(x)$task, ", objective ", x$objective, used, ">"),
    wrap_lines(paste0("columns: ", quote_some(x$columns, 8))))
}

#' @export
print.dreher_scores <- function(x, ...) write_lines(x, format_scores(x))

format_scores <- function(x) {
  if (!all(c("gain_lower", "train_score") %in% names(x)) || !nrow(x)) return(utils::capture.output(print(as_plain(x))))
  shown <- as_plain(x)[seq_len(min(nrow(x), 12)), ]
  unit <- shown$std_error
  table <- lay_out(list(model = shown$model, holdout = format_value(shown$score, unit),
                        interval = paste0("[", format_value(shown$lower, unit), ", ", format_value(shown$upper, unit), "]"),
                        constant = format_value(shown$constant, unit),
                        `better by` = paste0(format_value(shown$gain, unit), " [", format_value(shown$gain_lower, unit), ", ", format_value(shown$gain_upper, unit), "]"),
                        training = format_value(shown$train_score, unit)), c(FALSE, rep(TRUE, 5)))
  weak <- x$model[nzchar(x$flag)]
  say <- if (length(weak)) paste0("Not shown to beat a constant: ", list_words(weak), ". A ranking of ", if (length(weak) == 1) "it" else "them", " may be noise.")
    else if (nrow(x) == 1) "It beats a constant: worth questioning." else "All beat a constant: worth questioning."
  c(heading(paste0("Scores for ", attr(x, "target"), ": ", attr(x, "metric_label"), ", ", x$better[1], " is better, ", format_number(x$n[1]), " holdout rows")),
    table, "", wrap_lines(say))
}

#' @export
print.dreher_checks <- function(x, ...) write_lines(x, format_checks(x))

format_checks <- function(x) {
  if (!all(c("predictor", "finding", "detail", "used_by") %in% names(x))) return(utils::capture.output(print(as_plain(x))))
  head <- heading(paste0("Checked ", attr(x, "n_checked"), " columns for predicting ", attr(x, "target")))
  if (!nrow(x)) return(c(head, " Nothing suspicious."))
  shown <- as_plain(x)[seq_len(min(nrow(x), 16)), ]
  name <- shorten(shown$predictor, 18)
  room <- 80 - 5 - max(9, nchar(name, "width")) - max(7, nchar(shown$finding))
  rows <- lay_out(list(predictor = name, finding = shown$finding, what = shorten(shown$detail, room)))
  leak <- x$predictor[x$finding == "leak"]
  c(head, rows, if (nrow(x) > 16) paste0(" and ", nrow(x) - 16, " more: as.data.frame() shows them"), "",
    wrap_lines(if (length(leak)) paste0("Find out when ", list_words(leak), " is known. Leave it out if that is after ", attr(x, "target"), ".")
      else "Findings are reasons to look, not verdicts."))
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
    c(paste0(m, " (", settings$class[settings$model == m][1], ")"), format_ranking_part(part, labels, rows))
  }))
  used <- settings[settings$model %in% models & settings$method %in% together$method, ]
  panel <- panel_of(used$method, used$rows)
  notes <- vapply(seq_len(nrow(used)), function(i) paste0(" ", pad(panel[i], max(13, nchar(panel) + 1)), say_settings(used[i, ], level_shown(x, used[i, ]))), "")
  for (one in unique(panel)) {
    # Said once where it holds for all models, else with the model.
    of_method <- panel == one
    if (length(unique(notes[of_method])) > 1) notes[of_method] <- paste0(notes[of_method], ": ", used$model[of_method])
  }
  say <- vapply(models, function(m) {
    paste0(if (length(models) > 1) paste0(m, ": "), say_ranking(main_part(together[together$model == m, ]), labels))
  }, "")
  skipped <- attr(x, "left_out")
  c(heading(paste0("Ranking of the predictors of ", attr(x, "target"))), shorten(unique(notes), 80), body,
    if (more > 0) paste0("and ", count_of(more, "more model"), ": as.data.frame() shows all"), "", wrap_lines(say),
    unlist(lapply(shorten(say_suspects(whole, labels), 240), wrap_lines)),
    unlist(lapply(c(say_members(attr(x, "members"), models), say_gap(attr(x, "gap"), models, labels), say_twins(attr(x, "twins"), labels), say_noise(used), say_resamples(x), say_floor(attr(x, "floor"), labels)), wrap_lines)),
    if (!is.null(skipped)) wrap_lines(paste0("Left out: ", paste0(skipped$method, " for ", skipped$model, " (", skipped$why, ")", collapse = "; "), ".") |> shorten(240)))
}

# Predictors down, methods across; each cell rank, value and half the interval.
format_ranking_part <- function(part, labels, most) {
  part$panel <- panel_of(part$method, part$rows)
  panels <- panels_in(part)
  mean_rank <- tapply(part$rank, factor(part$predictor, unique(part$predictor)), mean)
  order <- names(sort(mean_rank))
  shown <- utils::head(order, if (length(order) > most + 1) most else length(order))
  cells <- lapply(panels, function(m) {
    r <- part[part$panel == m, ]
    i <- match(shown, r$predictor)
    half <- (r$upper - r$lower)[i] / 2
    value <- ifelse(is.na(i), "", format_value(r$importance[i], ifelse(is.na(half), r$std_error[i], half)))
    paste0(pad(ifelse(is.na(i), "", paste0("#", r$rank[i])), 4), pad(value, max(nchar(value)), TRUE),
           ifelse(is.na(half), "", paste0(" \u00b1", format_value(half, half))), ifelse(length(panels) > 2 | is.na(r$share[i]), "", paste0(" (", format_percent(r$share[i]), ")")))
  })
  names(cells) <- panels
  flags <- vapply(shown, function(p) paste(unique(part$flag[part$predictor == p & nzchar(part$flag)]), collapse = "; "), "")
  columns <- c(list(predictor = shorten(labels[shown], if (length(panels) > 3) 18 else 22)), cells)
  if (length(panels) <= 2 && any(nzchar(flags))) columns$flag <- shorten(flags, 20)
  rest <- setdiff(order, shown)
  folded <- if (length(rest)) {
    shares <- vapply(panels, function(m) sum(part$share[part$panel == m & part$predictor %in% rest], na.rm = TRUE), 0)
    paste0("  ", length(rest), " others, together ", paste(format_percent(shares), collapse = " / "))
  }
  c(shorten(lay_out(columns), 80), folded)
}

#' @export
print.dreher_reduction <- function(x, ...) write_lines(x, format_reduction(x))

format_reduction <- function(x, lines = 24) {
  tables <- as.data.frame(x)
  st <- x$study
  most <- max(4, floor((lines - 3) / length(x$curves)) - 3)
  body <- unlist(lapply(names(x$curves), function(m) {
    d <- tables[tables$model == m, ]
    if (nrow(d) > most) d <- d[sort(unique(c(seq_len(most - 1), nrow(d)))), ]
    added <- vapply(strsplit(d$added, ", ", fixed = TRUE), function(a) paste(shorten(labels_of(st, a), 22), collapse = ", "), "")
    added[d$size == 0] <- "(constant)"
    unit <- stats::median(d$price_error[d$price_error > 0])
    c(if (length(x$curves) > 1) m,
      lay_out(list(size = as.character(d$size), score = format_value(d$score, d$std_error),
                   price = ifelse(d$size == max(d$size), "reference", paste0(format_value(d$price, unit), " \u00b1", format_value((d$price_upper - d$price_lower) / 2, unit))),
                   added = shorten(added, 46)), c(TRUE, TRUE, TRUE, FALSE)))
  }))
  c(heading(paste0("Fewer predictors of ", st$target, ": ", st$metric$label, ", ", st$metric$better, " is better")),
    shorten(paste0(" ranked by ", x$by, " in each training part; folds ", x$folds, " x ", x$times, ", inner ", x$inner_folds, ", seed ", x$seed), 80),
    body, "", "For looking: the best point flatters. choose_set() gives the honest score.")
}

#' @export
print.dreher_set <- function(x, ...) write_lines(x, format_set(x))

format_set <- function(x) {
  st <- x$study
  label <- st$metric$label
  unit <- max(x$price_error, 1e-12)
  chosen <- if (x$size) list_words(labels_of(st, x$predictors)) else "none: no set is better than a constant"
  open <- x$picked[x$picked$share > 0 & x$picked$share < 1, ]
  doubtful <- open[order(-open$share), ]
  c(heading(paste0(x$size, " of ", x$size + length(x$left_out), " predictors of ", st$target, " for ", x$model, " (rule: ", x$rule, ")")),
    wrap_lines(chosen, 79, 1), "",
    paste0(" ", label, " with them   ", format_value(x$score, unit), "   with all ", format_value(x$full_score, unit), "   constant ", format_value(x$constant_score, unit)),
    paste0(" price        ", format_value(x$price, unit), " [", format_value(x$price_lower, unit), ", ", format_value(x$price_upper, unit), "], paired, approximate"),
    paste0(" procedure    ", format_value(x$procedure$score, unit), " [", format_value(x$procedure$lower, unit), ", ", format_value(x$procedure$upper, unit),
           "]: score with the choice itself cross-validated"),
    paste0(" sizes chosen in the ", length(x$sizes_picked), " splits: ", paste(sort(x$sizes_picked), collapse = ", ")) |> shorten(80),
    if (nrow(doubtful)) wrap_lines(paste0("not in every split: ", paste0(shorten(labels_of(st, doubtful$predictor), 22), " (", format_percent(doubtful$share), ")", collapse = ", ")), 79, 1) |> utils::head(5),
    "", "Next: confirm_set() on rows nobody has touched.")
}

say_set <- function(x) {
  st <- x$study
  unit <- max(x$price_error, 1e-12)
  if (x$size == 0) return("No set of predictors is better than a constant.")
  if (!length(x$left_out)) return(paste0("All ", x$size, " predictors are needed."))
  does <- if (x$price_upper < 0) " do better than all: " else if (x$price_lower <= 0) " do as well as all, as far as can be told: " else " do almost as well as all: "
  if (x$size == 1) does <- sub("do ", "does ", does)
  paste0(count_of(x$size, "predictor", TRUE), " of ", x$size + length(x$left_out), does, st$metric$label, " ",
         format_value(x$score, unit), " against ", format_value(x$full_score, unit), ".")
}

#' @export
print.dreher_confirmation <- function(x, ...) write_lines(x, format_confirmation(x))

format_confirmation <- function(x) {
  unit <- max(x$std_error, 1e-12)
  c(heading(paste0("Confirmed on ", format_number(x$n), " untouched rows: ", x$statement)),
    paste0(" ", x$metric, ": ", format_value(x$score_small, unit), " with ", length(x$predictors), " predictors, ", format_value(x$score_full, unit), " with all ", x$full_size,
           ", ", format_value(x$score_constant, unit), " constant"),
    paste0(" difference ", format_value(x$difference, unit), " [", format_value(x$lower, unit), ", ", format_value(x$upper, unit), "], one-sided limit ", format_value(x$limit, unit),
           ", margin ", format_value(x$margin, unit)), "", wrap_lines(say_confirmation(x)))
}

say_confirmation <- function(x) {
  switch(x$statement,
         better = "On untouched rows the smaller model is better than the full one.",
         "not worse by more than the margin" = "On untouched rows the smaller model loses less than the margin.",
         worse = "On untouched rows the smaller model is worse; whether by more than the margin is open. Choose a larger set.",
         paste0("Inconclusive: too few rows to tell. About ", format_number(x$n_needed), " rows would settle it if nothing is lost."))
}
