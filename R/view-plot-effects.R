#' Draw effect curves
#'
#' One panel a predictor, the largest change first, all on one scale: the curve with its interval,
#' and below it where the data are. Levels as points, single rows as pale lines, pairs as curves of
#' the first predictor at five values of the second.
#'
#' @param object,x A result of [effect_curves()].
#' @param ... Must be empty.
#' @param top At most so many curves are drawn, the largest changes first.
#' @param model,class,slice Names of the model, class or slice that is drawn. Default: the first
#'   model and class, and all slices in one panel.
#' @return A patchwork of ggplots, or one ggplot.
#' @section Reading the result: The line is the mean prediction with the predictor set to each
#'   value. Bars at the foot: training rows near each point. Hollow points: few rows, or beyond the
#'   range of the training rows.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ poly(peak_temp, 2) * hold_minutes + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(effect_curves(st))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_effects <- function(
    object, ..., top = 6, model = NULL, class = NULL, slice = NULL) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 1, most = 25)
  draw_effects(object, top, model, class, slice)
}

#' @rdname autoplot.dreher_effects
#' @export
plot.dreher_effects <- function(x, ...) draw_now(x, ...)

# titled: with the finding above; a page says it itself. only: names of curves, of all
draw_effects <- function(
    object, top = 6, model = NULL, class = NULL, slice = NULL, titled = TRUE, only = NULL) {
  d <- as_plain(object)
  of_model <- named_or_first(d, model, "model")
  of_class <- named_or_first(d, class, "class")
  d <- d[d$model == of_model & same_text(d$class, of_class), ]
  if (!is.null(slice)) {
    d <- d[d$slice %in% check_choice(slice, unique(d$slice), "slice"), ]
  }
  s <- summary(object)
  s <- s[s$model == of_model & same_text(s$class, of_class), ]
  s <- s[s$slice %in% d$slice, ]
  s$label <- label_curves(object, s)
  names <- if (is.null(only)) unique(s$predictor) else only
  shown <- utils::head(names, top)
  limits <- with_foot(range(d$effect, d$lower, d$upper, na.rm = TRUE))
  panels <- lapply(shown, function(p) {
    part <- d[curve_names(d) == p, ]
    draw_curve(part, s$label[match(p, s$predictor)], limits, object)
  })
  about <- say_effects_subtitle(object, of_model, of_class, length(names) - length(shown))
  finding <- if (titled) s$sentence[1]
  if (length(panels) == 1) {
    return(
      panels[[1]] + ggplot2::labs(
        title = finding, subtitle = about
      )
    )
  }
  patchwork::wrap_plots(panels, ncol = if (length(panels) > 4) 3 else 2) +
    patchwork::plot_annotation(
      title = finding, subtitle = about, theme = theme_dreher()
    )
}

curve_names <- function(d) {
  ifelse(is.na(d$other), d$predictor, paste(d$predictor, d$other, sep = " and "))
}

say_effects_subtitle <- function(x, model, class, left) {
  paste0(
    if (is.na(class)) "Prediction" else paste0("Probability of ", class), " of ",
    detail(x, "target"), ", model ", model, "; ",
    c(
      averaged = "mean over rows with the predictor set to each value",
      single = "each pale line is a row, the dark one their mean",
      accumulated = "local differences summed up, less their mean"
    )[[detail(x, "form")]],
    if (isTRUE(detail(x, "centred"))) ", from the first point on",
    ". Foot: where the data are.",
    if (left > 0) paste0(" ", left, " more curves are not drawn.")
  )
}

# One panel. part: the points of one curve, or of its slices or rows.
draw_curve <- function(part, label, limits, x) {
  kind <- curve_kind(part, x)
  unit <- detail(x, "units")[part$predictor[1]]
  axis <- paste0(label, if (!is.na(unit) && nzchar(unit)) paste0(", ", unit))
  if (!is.na(part$other[1])) return(draw_pair(part, axis, limits, x))
  drawn <- ggplot2::ggplot(part, ggplot2::aes(.data$position, .data$effect)) +
    draw_foot(part, limits, kind %in% c("level", "ordered"))
  drawn <- if (detail(x, "form") == "single") {
    draw_rows_of(drawn, part)
  } else if (kind %in% c("level", "ordered")) {
    draw_levels(drawn, part)
  } else {
    draw_line(drawn, part)
  }
  drawn <- drawn + if (kind %in% c("level", "ordered")) {
    at <- unique(part[c("position", "at")])
    ggplot2::scale_x_continuous(
      breaks = at$position, labels = shorten(at$at, if (nrow(at) > 6) 6 else 12),
      expand = ggplot2::expansion(add = 0.5)
    )
  } else if (kind == "date") {
    axis_of_dates(part)
  } else {
    room <- if (length(unique(part$slice)) > 1) 0.14 else 0.04
    ggplot2::scale_x_continuous(
      labels = if (kind == "joint") format_percent else format_number_marks,
      expand = ggplot2::expansion(c(0.04, room))
    )
  }
  drawn + ggplot2::coord_cartesian(ylim = limits) +
    ggplot2::labs(x = axis, y = NULL) + theme_dreher()
}

# As format_plainly(), with as many digits for all.
format_number_marks <- function(x) {
  long <- any(abs(x) >= 1e4, na.rm = TRUE)
  ifelse(is.na(x), "", format(x, big.mark = if (long) "," else "", trim = TRUE))
}

curve_kind <- function(part, x) {
  for (curve in detail(x, "curves")) {
    if (curve$predictor == curve_names(part)[1]) return(curve$kind)
  }
  "number"
}

axis_of_dates <- function(part) {
  breaks <- pretty(part$position, 4)
  days <- nchar(part$at[1]) <= 10
  ggplot2::scale_x_continuous(breaks = breaks, labels = if (days) {
    format(as.Date(breaks, origin = "1970-01-01"))
  } else {
    format(as.POSIXct(breaks, origin = "1970-01-01"), "%Y-%m-%d")
  })
}

# Bars at the foot of a panel: training rows near each point, as a density.
draw_foot <- function(part, limits, levels) {
  d <- part[!duplicated(part$position), c("position", "rows_near")]
  n <- nrow(d)
  middle <- (d$position[-1] + d$position[-n]) / 2
  edges <- if (levels) {
    c(d$position - 0.4, d$position[n] + 0.4)
  } else if (n == 1) {
    d$position + c(-0.5, 0.5)
  } else {
    c(d$position[1], middle, d$position[n])
  }
  d$left <- edges[-length(edges)]
  d$right <- if (levels) d$position + 0.4 else edges[-1]
  dense <- d$rows_near / pmax(d$right - d$left, 1e-300)
  d$foot <- limits[1]
  d$top <- limits[1] + foot_height(limits) * dense / max(dense, 1e-300)
  ggplot2::geom_rect(
    ggplot2::aes(
      xmin = .data$left, xmax = .data$right, ymin = .data$foot, ymax = .data$top
    ),
    d, inherit.aes = FALSE, fill = "#D5D2C9", colour = paper, linewidth = 0.2
  )
}

foot_height <- function(limits) 0.09 * diff(limits)

# Room for the bars below the curves.
with_foot <- function(limits) {
  span <- diff(limits)
  if (span == 0) span <- max(1, abs(limits[1]))
  c(limits[1] - 0.13 * span, limits[2] + 0.03 * span)
}

# Heights of labels that must not touch, as near as can be to where they belong.
spread_labels <- function(y, least) {
  by <- order(y)
  out <- y[by]
  for (turn in 1:50) {
    gap <- diff(out)
    tight <- which(gap < least - 1e-9)
    if (!length(tight)) break
    for (i in tight) {
      push <- (least - (out[i + 1] - out[i])) / 2
      if (push > 0) {
        out[i] <- out[i] - push
        out[i + 1] <- out[i + 1] + push
      }
    }
  }
  y[by] <- out
  y
}

line_colours <- function(n) rep_len(c(ink, "#1F7A7A", "#A8742A", "#75518C", "#8A8F94"), n)

draw_line <- function(drawn, part) {
  part$slice <- ifelse(is.na(part$slice), "", part$slice)
  slices <- unique(part$slice)
  drawn +
    ggplot2::geom_ribbon(
      ggplot2::aes(ymin = .data$lower, ymax = .data$upper, fill = .data$slice), part,
      alpha = 0.18, na.rm = TRUE
    ) + ggplot2::geom_line(ggplot2::aes(colour = .data$slice), part, linewidth = 0.9) +
    ggplot2::geom_point(
      data = part[nzchar(part$flag), ], shape = 21, colour = ink, fill = paper, size = 2.4
    ) + name_lines(part, part$slice) + slice_colours(slices)
}

# Names of several lines at their right ends.
name_lines <- function(part, line) {
  if (length(unique(line)) < 2) return(NULL)
  ends <- part[part$position == max(part$position), ]
  ends$line <- line[part$position == max(part$position)]
  span <- diff(range(part$effect))
  ends$height <- spread_labels(ends$effect, 0.055 * span)
  ggplot2::geom_text(
    ggplot2::aes(y = .data$height, label = shorten(.data$line, 12), colour = .data$line),
    ends,
    hjust = -0.12,
    size = 3.4
  )
}

slice_colours <- function(slices) {
  list(
    ggplot2::scale_colour_manual(values = line_colours(length(slices)), limits = slices),
    ggplot2::scale_fill_manual(values = line_colours(length(slices)), limits = slices)
  )
}

draw_levels <- function(drawn, part) {
  part$slice <- ifelse(is.na(part$slice), "", part$slice)
  slices <- unique(part$slice)
  apart <- ggplot2::position_dodge(width = if (length(slices) > 1) 0.5 else 0)
  thin <- part[nzchar(part$flag), ]
  drawn +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = .data$lower, ymax = .data$upper, colour = .data$slice), part,
      linewidth = 0.9, position = apart, na.rm = TRUE
    ) +
    ggplot2::geom_point(
      ggplot2::aes(colour = .data$slice, fill = .data$slice), part, shape = 21, size = 2.8,
      stroke = 0.9, position = apart
    ) +
    (if (nrow(thin)) {
      ggplot2::geom_point(
        ggplot2::aes(group = .data$slice), thin, shape = 21, fill = paper, size = 2,
        stroke = 0, position = apart
      )
    }) + slice_colours(slices)
}

draw_rows_of <- function(drawn, part) {
  mean <- stats::aggregate(part["effect"], part["position"], base::mean)
  drawn +
    ggplot2::geom_line(
      ggplot2::aes(group = .data$row), part, colour = muted, alpha = 0.35, linewidth = 0.4
    ) + ggplot2::geom_line(data = mean, colour = ink, linewidth = 1)
}

# Curves of the first predictor at five values of the second, from sand to deep teal.
draw_pair <- function(part, axis, limits, x) {
  values <- sort(unique(part$other_position))
  kept <- values[unique(round(seq(1, length(values), length.out = 5)))]
  part <- part[part$other_position %in% kept, ]
  part$by <- factor(part$other_position, kept)
  inks <- grDevices::colorRampPalette(c("#D9BF7C", "#12454A"))(length(kept))
  last <- part[part$position == max(part$position), ]
  last$words <- shorten(last$other_at, 10)
  last$height <- spread_labels(last$effect, 0.04 * diff(limits))
  labels <- detail(x, "labels")
  other <- part$other[1]
  name <- if (other %in% names(labels)) labels[[other]] else other
  levels <- !all_numbers(part$at)
  drawn <- ggplot2::ggplot(
    part, ggplot2::aes(.data$position, .data$effect, colour = .data$by)
  ) + ggplot2::geom_line(linewidth = 0.9) +
    ggplot2::geom_text(
      ggplot2::aes(y = .data$height, label = .data$words), last, hjust = -0.15, size = 3.4
    ) + ggplot2::scale_colour_manual(values = inks) +
    ggplot2::coord_cartesian(ylim = limits, clip = "off")
  at <- unique(part[c("position", "at")])
  drawn <- drawn + if (levels) {
    ggplot2::scale_x_continuous(
      breaks = at$position,
      labels = shorten(at$at, 12),
      expand = ggplot2::expansion(c(0.05, 0.15))
    )
  } else {
    ggplot2::scale_x_continuous(
      labels = format_number_marks, expand = ggplot2::expansion(c(0.03, 0.15))
    )
  }
  drawn +
    ggplot2::labs(
      x = sub(" and .*", "", axis),
      y = NULL,
      caption = paste0("Each line: a value of ", name)
    ) + theme_dreher()
}
