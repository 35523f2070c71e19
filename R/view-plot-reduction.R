#' Draw a reduction: the score against the number of predictors
#'
#' One row per number of predictors, named by the predictor it adds; the score with its interval;
#' the chosen set and its price.
#'
#' @param object,x A result of [reduce_predictors()].
#' @param ... Must be empty.
#' @param set The chosen set, from [choose_set()]. Default: by the rule `one_se`.
#' @param model Name of the model, when there are several. Without it (and without a set) all
#'   models are drawn side by side.
#' @return A ggplot.
#' @section Reading the result: Read from top to bottom. Solid dots are kept, hollow
#'   ones left out. The band is the interval of each score over rows;
#'   the difference between two rows is known better than the bands suggest, because it is paired.
#'   Grey bars: random sets of as many predictors, 5 to 95 %. Several models stand side by side
#'   over one scale. A ring is the chosen set, with its price.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_reduction <- function(object, ..., set = NULL, model = NULL) {
  check_no_dots(..., .verb = "plot")
  if (!is.null(set)) {
    check_class(set, "dreher_set", "set", "choose_set()")
    sets <- stats::setNames(list(set), set$model)
  } else {
    models <- if (is.null(model)) names(object$curves) else model
    sets <- lapply(stats::setNames(nm = models), function(m) {
      choose_set(object, model = m)
    })
  }
  several <- length(sets) > 1
  st <- object$study
  room <- c(26, 24, 14)[min(length(sets), 3)]
  d <- do.call(
    rbind, lapply(sets, steps_of_set, d = as.data.frame(object), st = st, room = room)
  )
  d$model <- factor(d$model, names(sets))
  d$step <- factor(paste(d$model, d$row), unique(paste(d$model, d$row)[order(d$row)]))
  unit <- max(vapply(sets, `[[`, 0, "price_error"), 1e-12)
  drawn <- draw_staircase(d, sets, unit) +
    ggplot2::labs(
      x = paste0(
        "Cross-validated ", st$metric$label, " (", st$metric$better,
        " is better); dashed: all predictors",
        if (any(!is.na(d$random))) "; grey bars: random sets"
      ),
      y = NULL,
      title = if (several) say_curves(sets) else say_set(sets[[1]]),
      subtitle = if (several) {
        say_staircases(object, sets)
      } else {
        say_staircase(object, sets[[1]], unit)
      },
      caption = caption_of_sets(sets)
    ) + theme_dreher() + ggplot2::theme(axis.text.y = ggplot2::element_text(hjust = 0))
  if (!several) return(drawn)
  headings <- vapply(
    names(sets),
    function(m) {
      all <- sets[[m]]$count + length(sets[[m]]$left_out)
      paste0(
        break_name(m, room_across(min(length(sets), 3)) - 10, 1), ": ", sets[[m]]$count,
        " of ", all, "\nprice ", say_curve_price(sets[[m]], unit)
      )
    },
    ""
  )
  drawn +
    ggplot2::facet_wrap(
      ~model,
      scales = "free_y",
      ncol = min(length(sets), 3),
      labeller = ggplot2::as_labeller(headings)
    ) +
    ggplot2::theme(
      # The names of the steps leave room to the left.
      strip.clip = "off",
      strip.text = ggplot2::element_text(hjust = 1)
    )
}

# The steps of one model's curve down to those of its set: row 1 is the last.
steps_of_set <- function(set, d, st, room) {
  d <- d[d$model == set$model & !d$candidate %in% beside_path, ]
  d$name <- vapply(seq_len(nrow(d)), function(i) name_step(d, i, st, room), "")
  d$row <- rev(seq_len(nrow(d)))
  d$kept <- d$count <= set$count
  d
}

# One staircase a model: scores across, numbers of predictors downwards.
draw_staircase <- function(d, sets, unit) {
  last <- d[d$row == 1, ]
  drawn <- d[!is.na(d$random), ]
  chosen <- do.call(
    rbind,
    lapply(names(sets), function(m) {
      place_note(d[d$model == m, ], sets[[m]], unit)
    })
  )
  ggplot2::ggplot(d, ggplot2::aes(.data$score, .data$step)) +
    ggplot2::geom_vline(
      data = last,
      ggplot2::aes(xintercept = .data$score),
      colour = muted,
      linetype = "dashed",
      linewidth = 0.4
    ) +
    ggplot2::geom_ribbon(
      ggplot2::aes(xmin = .data$lower, xmax = .data$upper, group = .data$model),
      fill = "#DCE3E4",
      orientation = "y"
    ) +
    ggplot2::geom_segment(
      data = drawn,
      ggplot2::aes(x = .data$random_lower, xend = .data$random_upper, yend = .data$step),
      colour = "#C9C4B8",
      linewidth = 3,
      lineend = "round"
    ) +
    ggplot2::geom_path(ggplot2::aes(group = .data$model), colour = ink, linewidth = 0.6) +
    ggplot2::geom_point(
      ggplot2::aes(fill = .data$kept), shape = 21, colour = ink, size = 3, stroke = 0.9
    ) +
    ggplot2::geom_point(
      data = chosen, shape = 21, colour = ink, size = 6, stroke = 1.1, fill = NA
    ) +
    ggplot2::geom_blank(
      data = chosen[if (length(sets) > 1) 0 else TRUE, ], ggplot2::aes(x = .data$end)
    ) +
    note_label(
      data = chosen[if (length(sets) > 1) 0 else TRUE, ],
      ggplot2::aes(
        x = .data$beside, label = .data$note, hjust = .data$hjust, vjust = .data$vjust
      ),
      size = 3.9,
      lineheight = 1,
      fontface = "bold",
      colour = ink,
      fill = paper
    ) + ggplot2::scale_fill_manual(values = c(`TRUE` = ink, `FALSE` = paper)) +
    ggplot2::scale_x_continuous(
      breaks = scales::breaks_extended(c(6, 4, 3)[min(length(sets), 3)])
    ) + ggplot2::scale_y_discrete(labels = stats::setNames(d$name, d$step))
}

# A label without a border, whose name has changed.
note_label <- function(...) {
  border <- if (utils::packageVersion("ggplot2") < "3.5.0") "label.size" else "linewidth"
  do.call(ggplot2::geom_label, c(list(...), stats::setNames(list(0), border)))
}

# The step of a set, with its note and where it stands: beside the band there and at the next row.
place_note <- function(d, set, unit) {
  out <- d[which.min(abs(d$count - set$count)), ]
  near <- d[abs(d$row - out$row) <= 1, ]
  reach <- range(d$lower, d$upper, d$random_lower, d$random_upper, na.rm = TRUE)
  # How far the axis must go for a note of so much of its length on either side.
  part <- 0.6
  to_right <- max(reach[2], (max(near$upper) - part * reach[1]) / (1 - part))
  to_left <- min(reach[1], (min(near$lower) - part * reach[2]) / (1 - part))
  right <- to_right - reach[2] <= reach[1] - to_left
  out$beside <- if (right) max(near$upper) else min(near$lower)
  out$end <- if (right) to_right else to_left
  out$hjust <- if (right) -0.06 else 1.06
  out$vjust <- if (out$row > 1) 1.1 else -0.1
  out$note <- note_of_choice(set, unit)
  out
}

note_of_choice <- function(set, unit) {
  paste0(
    "chosen (", set$rule, "): ", count_of(set$count, "predictor"), "\n",
    "price on this curve ", say_curve_price(set, unit)
  )
}

say_curve_price <- function(set, unit) {
  paste0(
    format_value(set$curve_price, unit), " ",
    in_brackets(set$curve_lower, set$curve_upper, unit)
  )
}

say_staircase <- function(x, set, unit) {
  st <- x$study
  paste0(
    "Model ", set$model, if (set$refit != set$model) paste0(", refitted ", set$refit),
    ", predictors of ", st$target, ", ", say_path(x), "; ", format_number(nrow(st$train)),
    " rows, ", x$folds, " folds x ", x$repeats, ". Nested cross-validation score: ",
    format_value(set$score, unit), " [",
    format_value(set$lower, unit), ", ",
    format_value(set$upper, unit), "]."
  )
}

say_staircases <- function(x, sets) {
  st <- x$study
  paste0(
    "Predictors of ", st$target, ", ", say_path(x), "; ", format_number(nrow(st$train)),
    " rows, ", x$folds, " folds x ", x$repeats, ". Rings: chosen by ", sets[[1]]$rule,
    "; price against all predictors, on this curve."
  )
}

say_curves <- function(sets) {
  does <- vapply(names(sets), function(m) {
    all <- sets[[m]]$count + length(sets[[m]]$left_out)
    paste0(m, " with ", if (sets[[m]]$count) sets[[m]]$count else "none", " of ", all)
  }, "")
  paste0(
    "Within one standard error of the best score: ", list_words(utils::head(does, 3)),
    if (length(does) > 3) paste0("; and ", length(does) - 3, " more"), "."
  )
}

name_step <- function(d, i, st, room = 26) {
  number <- pad(as.character(d$count[i]), 2, TRUE) |> gsub(" ", "\u2007", x = _)
  if (d$count[i] == 0) return(paste0(number, "  constant"))
  if (d$candidate[i] == "all") return(paste0(number, "  all"))
  added <- shorten(labels_of(st, strsplit(d$added[i], ", ", fixed = TRUE)[[1]]), room)
  text <- if (length(added) <= 2) {
    paste(added, collapse = ", ")
  } else {
    paste0(added[1], " and ", length(added) - 1, " more")
  }
  paste0(number, "  + ", text)
}

#' @rdname autoplot.dreher_reduction
#' @export
plot.dreher_reduction <- function(x, ...) draw_now(x, ...)

#' Draw twins: which predictors are redundant
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
    " rows; boxed: twins, mean association ", twins$threshold, " or more; bold: stays",
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
    return("No two predictors are associated closely enough to replace each other.")
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
plot.dreher_twins <- function(x, ...) draw_now(x, ...)
