#' Draw a reduction: the score against the number of predictors
#'
#' One row per number of predictors, named by the predictor it adds; the score with its interval;
#' the chosen set and its price.
#'
#' @param object,x A result of [reduce_predictors()].
#' @param ... Must be empty.
#' @param set The chosen set, from [choose_set()]. Default: by the rule `one_se`.
#' @param model Name of the model, when there are several. Without it (and without a set) all
#'   models' curves are drawn together.
#' @return A ggplot.
#' @section Reading the result: One model: read from top to bottom. Solid dots are kept, hollow
#'   ones left out. The band is the interval of each score over rows;
#'   the difference between two rows is known better than the bands suggest, because it is paired.
#'   Grey bars: random sets of the same size, 5 to 95 %. Several models: one line each, against
#'   the number of predictors; a ring is the set that the rule
#'   `one_se` chooses, with its price.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(reduce_predictors(st, folds = 3, times = 1, inner_folds = 2))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_reduction <- function(object, ..., set = NULL, model = NULL) {
  check_no_dots(..., .verb = "plot")
  if (is.null(set) && is.null(model) && length(object$curves) > 1) {
    return(plot_curves(object))
  }
  if (is.null(set)) {
    set <- choose_set(
      object, model = if (is.null(model)) names(object$curves)[1] else model
    )
  }
  check_class(set, "dreher_set", "set", "choose_set()")
  st <- object$study
  d <- as.data.frame(object)
  d <- d[d$model == set$model & !d$candidate %in% beside_path, ]
  d$name <- vapply(seq_len(nrow(d)), function(i) name_step(d, i, st), "")
  d$row <- rev(seq_len(nrow(d)))
  d$kept <- d$size <= set$size
  chosen <- d[which.min(abs(d$size - set$size)), ]
  unit <- max(set$price_error, 1e-12)
  best <- d[nrow(d), ]
  right <- mean(range(d$lower, d$upper)) > chosen$score
  near <- d[abs(d$row - chosen$row) <= 1, ]  # beside the band, there and at the next row
  beside <- if (right) max(near$upper) else min(near$lower)
  drawn <- d[!is.na(d$random), ]
  ggplot2::ggplot(d, ggplot2::aes(.data$score, .data$row)) +
    ggplot2::geom_vline(
      xintercept = best$score, colour = muted, linetype = "dashed", linewidth = 0.4
    ) +
    ggplot2::geom_ribbon(
      ggplot2::aes(y = .data$row, xmin = .data$lower, xmax = .data$upper),
      fill = "#DCE3E4",
      orientation = "y"
    ) +
    ggplot2::geom_segment(
      data = drawn,
      ggplot2::aes(x = .data$random_lower, xend = .data$random_upper, yend = .data$row),
      colour = "#C9C4B8",
      linewidth = 3,
      lineend = "round"
    ) + ggplot2::geom_path(ggplot2::aes(group = 1), colour = ink, linewidth = 0.6) +
    ggplot2::geom_point(
      ggplot2::aes(fill = .data$kept), shape = 21, colour = ink, size = 3, stroke = 0.9
    ) +
    ggplot2::geom_point(
      data = chosen, shape = 21, colour = ink, size = 6, stroke = 1.1, fill = NA
    ) + label_of_choice(chosen, note_of_choice(set, unit), beside, right) +
    ggplot2::scale_fill_manual(values = c(`TRUE` = ink, `FALSE` = paper)) +
    ggplot2::scale_x_continuous(breaks = scales::breaks_extended(6)) +
    ggplot2::scale_y_continuous(breaks = d$row, labels = d$name) +
    ggplot2::labs(
      x = paste0(
        "Cross-validated ", st$metric$label, " (", st$metric$better,
        " is better); dashed: all predictors", if (nrow(drawn)) "; grey bars: random sets"
      ),
      y = NULL,
      title = say_set(set),
      subtitle = say_staircase(object, set, unit)
    ) + theme_dreher() + ggplot2::theme(axis.text.y = ggplot2::element_text(hjust = 0))
}

label_of_choice <- function(chosen, note, beside, right) {
  ggplot2::geom_label(
    data = chosen,
    x = beside,
    label = note,
    hjust = if (right) -0.06 else 1.06,
    nudge_y = if (chosen$row > 1) -0.5 else 0.5,
    size = 3.9,
    lineheight = 1,
    fontface = "bold",
    colour = ink,
    fill = paper,
    label.size = 0
  )
}

note_of_choice <- function(set, unit) {
  paste0(
    "chosen (", set$rule, "): ", count_of(set$size, "predictor"),
    "\nprice on this curve ", format_value(set$price, unit), " [",
    format_value(set$price_lower, unit), ", ", format_value(set$price_upper, unit), "]"
  )
}

say_staircase <- function(x, set, unit) {
  st <- x$study
  paste0(
    "Model ", set$model, if (set$refit != set$model) paste0(", refitted ", set$refit),
    ", predictors of ", st$target, ", ", say_path(x), "; ", format_number(nrow(st$train)),
    " rows, ", x$folds, " folds x ", x$times, ". With the choice itself cross-validated: ",
    format_value(set$procedure$score, unit), " [",
    format_value(set$procedure$lower, unit), ", ",
    format_value(set$procedure$upper, unit), "]."
  )
}

# All models: score against the number of predictors, one line each, labelled where it ends.
plot_curves <- function(object) {
  st <- object$study
  d <- as.data.frame(object)
  d <- d[!d$candidate %in% beside_path, ]
  models <- names(object$curves)
  sets <- lapply(stats::setNames(nm = models), function(m) choose_set(object, model = m))
  chosen <- chosen_points(d, sets)
  ends <- do.call(rbind, lapply(models, function(m) utils::tail(d[d$model == m, ], 1)))
  lines <- stats::setNames(rep_len(line_kinds, length(models)), models)
  apart <- spread_labels(ends$score, diff(range(d$score)) / 22)
  ggplot2::ggplot(d, ggplot2::aes(.data$size, .data$score, group = .data$model)) +
    random_ribbon(d) +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = .data$lower, ymax = .data$upper),
      colour = "#B9C2C6",
      linewidth = 0.6,
      position = ggplot2::position_dodge(width = 0.35)
    ) +
    ggplot2::geom_line(
      ggplot2::aes(linetype = .data$model), colour = ink, linewidth = 0.7
    ) + ggplot2::geom_point(shape = 21, colour = ink, fill = paper, size = 2.4) +
    ggplot2::geom_point(data = chosen, shape = 21, colour = ink, fill = ink, size = 3) +
    ggplot2::geom_point(
      data = chosen, shape = 21, colour = ink, size = 6.5, stroke = 1.1, fill = NA
    ) +
    ggplot2::geom_text(
      data = chosen,
      ggplot2::aes(label = .data$note),
      vjust = if (st$metric$better == "lower") 2.4 else -1.8,
      colour = ink,
      size = 3.9,
      fontface = "bold"
    ) +
    ggplot2::geom_text(
      data = ends,
      ggplot2::aes(x = .data$size + 0.02 * max(d$size), y = apart, label = .data$model),
      hjust = 0,
      colour = ink,
      size = 4.2
    ) + ggplot2::scale_linetype_manual(values = lines) +
    ggplot2::scale_x_continuous(
      breaks = scales::breaks_extended(8, only.loose = FALSE),
      expand = ggplot2::expansion(mult = c(0.03, 0.12))
    ) +
    ggplot2::labs(
      x = "Number of predictors",
      y = paste0(
        "Cross-validated ", st$metric$label, " (", st$metric$better, " is better)"
      ),
      title = say_curves(sets),
      subtitle = paste0(
        "Predictors of ", st$target, ", ", say_path(object), "; ",
        format_number(nrow(st$train)), " rows, ", object$folds, " folds x ", object$times,
        ". Rings: chosen by one_se.",
        if (any(!is.na(d$random))) " Shaded: random sets of the size, 5 to 95 %."
      )
    ) + ggplot2::coord_cartesian(clip = "off") + theme_dreher() +
    ggplot2::theme(legend.position = "none")
}

line_kinds <- c("solid", "longdash", "dotted", "dotdash", "twodash")

# Of each model the point nearest to the size of its set, with a note.
chosen_points <- function(d, sets) {
  out <- do.call(rbind, lapply(names(sets), function(m) {
    of <- d[d$model == m, ]
    of[which.min(abs(of$size - sets[[m]]$size)), ]
  }))
  unit <- max(vapply(sets, `[[`, 0, "price_error"), 1e-12)
  out$note <- vapply(sets, function(p) {
    all <- p$size + length(p$left_out)
    paste0(p$size, " of ", all, ", price ", format_value(p$price, unit))
  }, "")
  out
}

random_ribbon <- function(d) {
  drawn <- d[!is.na(d$random), ]
  if (!nrow(drawn)) return(NULL)
  drawn <- stats::aggregate(cbind(random_lower, random_upper) ~ model + size, drawn, mean)
  ggplot2::geom_ribbon(
    data = drawn,
    ggplot2::aes(
      x = .data$size,
      ymin = .data$random_lower,
      ymax = .data$random_upper,
      group = .data$model
    ),
    fill = "#C9C4B8",
    alpha = 0.35,
    inherit.aes = FALSE
  )
}

say_curves <- function(sets) {
  shown <- utils::head(sets, 3)
  does <- vapply(names(shown), function(m) {
    set <- shown[[m]]
    all <- set$size + length(set$left_out)
    paste0(m, " with ", if (set$size) set$size else "none", " of ", all)
  }, "")
  paste0("What more predictors add cannot be told beyond: ", list_words(does), ".")
}

# Heights of labels, at least `gap` apart.
spread_labels <- function(y, gap) {
  order <- order(y)
  placed <- y[order]
  for (i in seq_along(placed)[-1]) placed[i] <- max(placed[i], placed[i - 1] + gap)
  placed <- placed - mean(placed - y[order])
  placed[order(order)]
}

name_step <- function(d, i, st) {
  number <- pad(as.character(d$size[i]), 2, TRUE) |> gsub(" ", "\u2007", x = _)
  if (d$size[i] == 0) return(paste0(number, "  constant"))
  if (d$candidate[i] == "all") return(paste0(number, "  all"))
  added <- shorten(labels_of(st, strsplit(d$added[i], ", ", fixed = TRUE)[[1]]), 26)
  text <- if (length(added) <= 2) {
    paste(added, collapse = ", ")
  } else {
    paste0(added[1], " and ", length(added) - 1, " more")
  }
  paste0(number, "  + ", text)
}

#' @rdname autoplot.dreher_reduction
#' @export
plot.dreher_reduction <- function(x, ...) {
  drawn <- ggplot2::autoplot(x, ...)
  print(drawn)
  invisible(drawn)
}

#' Draw twins: who can stand in for whom
#'
#' A half matrix of the predictors that have twins, each cell the association of two; clusters are
#' boxed, those who stay are named in bold.
#'
#' @param object,x A result of [find_twins()].
#' @param ... Must be empty.
#' @param most At most so many predictors are shown; those of the closest clusters first.
#' @return A ggplot.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' plot(find_twins(kiln$train[c("pyro_left", "pyro_right", "hold_minutes", "operator")]))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_twins <- function(object, ..., most = 16) {
  check_no_dots(..., .verb = "plot")
  t <- object$table
  order <- order(is.na(t$cluster), t$cluster, !t$representative, -t$association)
  shown <- t[utils::head(order, most), ]
  # Where few have twins, the closest of the others give the scale.
  shown <- utils::head(shown, max(sum(!is.na(shown$cluster)) + 4, 6))
  n <- nrow(shown)
  cells <- half_matrix(object, shown)
  names <- data.frame(
    at = seq_len(n),
    label = shorten(unname(object$labels[shown$predictor]), 26),
    face = ifelse(shown$representative & !is.na(shown$cluster), "bold", "plain"),
    replace = ifelse(
      is.na(shown$replaceable), "", paste0("  ", format_percent(shown$replaceable))
    )
  )
  ggplot2::ggplot(cells, ggplot2::aes(.data$column, -.data$row)) +
    ggplot2::geom_tile(ggplot2::aes(fill = .data$value), colour = paper, linewidth = 1) +
    ggplot2::geom_tile(
      data = cells[cells$same, ],
      fill = NA,
      colour = ink,
      linewidth = 0.9,
      width = 0.94,
      height = 0.94
    ) +
    ggplot2::geom_text(
      ggplot2::aes(
        label = sub("^0", "", sprintf("%.2f", .data$value)), colour = .data$value > 0.55
      ),
      size = 3.8
    ) +
    ggplot2::geom_text(
      data = names,
      ggplot2::aes(
        x = .data$at - 0.4,
        y = -.data$at,
        label = paste0(.data$label, .data$replace),
        fontface = .data$face
      ),
      hjust = 0,
      colour = ink,
      size = 4.1
    ) +
    ggplot2::scale_fill_gradient(low = "#F1ECDF", high = "#12454A", limits = c(0, 1)) +
    ggplot2::scale_colour_manual(values = c(`TRUE` = paper, `FALSE` = ink)) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(add = c(0.2, 4))) +
    ggplot2::labs(
      x = NULL,
      y = NULL,
      title = twins_title(object),
      subtitle = twins_subtitle(object, shown)
    ) + theme_dreher() + theme_of_cells()
}

# The cells below the diagonal.
half_matrix <- function(twins, shown) {
  n <- nrow(shown)
  cells <- expand.grid(row = seq_len(n), column = seq_len(n))
  cells <- cells[cells$column < cells$row, ]
  at <- cbind(shown$predictor[cells$row], shown$predictor[cells$column])
  cells$value <- twins$association[at]
  cells$same <- !is.na(shown$cluster[cells$row]) &
    shown$cluster[cells$row] == shown$cluster[cells$column]
  cells
}

twins_subtitle <- function(twins, shown) {
  paste0(
    "Association of predictors, 0 to 1, on ", format_number(twins$n),
    " rows; boxed: twins, mean association ", twins$least, " or more; bold: stays",
    if (any(!is.na(shown$replaceable))) {
      "; beside the names: how far all others together replace it"
    },
    "."
  )
}

# What those that could go are told of by those that stay.
twins_title <- function(x) {
  t <- x$table
  gone <- t$predictor[!is.na(t$cluster) & !t$representative]
  if (!nrow(x$clusters)) {
    return("No two predictors go together closely enough to stand in for each other.")
  }
  if (!length(gone)) {
    return(
      "Predictors go together, but none tells another well enough to take its place."
    )
  }
  stay <- t$predictor[t$representative]
  told <- vapply(
    gone,
    function(p) {
      max(
        x$tells$tells[x$tells$other == p & x$tells$predictor %in% stay], 0, na.rm = TRUE
      )
    },
    0
  )
  paste0(
    length(gone), " of ", nrow(t), " predictors could go: a twin that stays tells ",
    if (length(gone) > 1) "at least ", format_percent(min(told)), " of ",
    if (length(gone) > 1) "each." else "it."
  )
}

#' @rdname autoplot.dreher_twins
#' @export
plot.dreher_twins <- function(x, ...) {
  drawn <- ggplot2::autoplot(x, ...)
  print(drawn)
  invisible(drawn)
}
