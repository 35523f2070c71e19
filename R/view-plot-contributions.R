#' Draw contributions
#'
#' All rows: a line per predictor, its rows in five bins of the value from low to high, so that
#' direction and bend are seen at once. One row: the way from the baseline to the prediction in
#' steps. One predictor: each row's contribution against its value.
#'
#' @param object,x A result of [contributions()].
#' @param ... Must be empty.
#' @param row Number of the row whose steps are drawn. Default: the row, if there is one only.
#' @param predictor Name of the predictor that is drawn against its contribution.
#' @param ink Name of a second predictor, whose values ink the rows. Default: the one whose values
#'   go most with the contribution beyond the predictor's own.
#' @param top At most so many predictors; the rest is folded into one line.
#' @param model,class Names of the model and class that are drawn. Default: the first.
#' @return A ggplot.
#' @section Reading the result: Steps: solid to the right raise the prediction, hollow to the left
#'   lower it. Bins: dots are medians, lines the middle half of the rows; sand is low, deep teal is
#'   high.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' co <- contributions(study(fit, kiln$holdout, "strength", train = kiln$train))
#' plot(co)
#' plot(co, row = 12)
#' plot(co, predictor = "peak_temp")
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_contributions <- function(
    object, ..., row = NULL, predictor = NULL, ink = NULL, top = 15, model = NULL,
    class = NULL) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 2)
  d <- as_plain(object)
  model <- named_or_first(d, model, "model")
  class <- named_or_first(d, class, "class")
  d <- d[d$model == model & same_text(d$class, class), ]
  rows <- unique(d$row)
  if (!is.null(predictor)) {
    predictor <- check_choice(predictor, unique(d$predictor), "predictor")
    if (!is.null(ink)) ink <- check_choice(ink, unique(d$predictor), "ink")
    return(draw_dependence(object, d, predictor, ink))
  }
  if (!is.null(row) || length(rows) == 1) {
    if (is.null(row)) row <- rows
    if (!is.numeric(row) || length(row) != 1 || !row %in% rows) {
      stop_input(
        "`row` must be the number of one of the explained rows.",
        paste0("Given: ", describe_value(row), ".")
      )
    }
    return(draw_steps(object, d[d$row == row, ], top))
  }
  draw_bins(object, d, top)
}

#' @rdname autoplot.dreher_contributions
#' @export
plot.dreher_contributions <- function(x, ...) draw_now(x, ...)

pine <- function() "#2F6B4F"
brass <- function() "#A8742A"

# From the baseline to the prediction, the largest step first.
draw_steps <- function(x, part, top) {
  part <- part[order(-abs(part$contribution)), ]
  shown <- utils::head(part, top)
  rest <- part[-seq_len(nrow(shown)), ]
  step <- max(abs(part$contribution)) / 10
  d <- data.frame(
    label = paste0(labels_in(x, shown$predictor), "  ", value_words(x, shown)),
    by = shown$contribution
  )
  if (nrow(rest)) {
    d <- rbind(
      d,
      data.frame(
        label = paste(nrow(rest), if (nrow(rest) == 1) "other" else "others, together"),
        by = sum(rest$contribution)
      )
    )
  }
  d$label <- make.unique(shorten(d$label, 46), " ")
  d$from <- part$baseline[1] + c(0, cumsum(d$by)[-nrow(d)])
  d$to <- part$baseline[1] + cumsum(d$by)
  d$row <- rev(seq_len(nrow(d)))
  d$words <- signed(d$by, step)
  d$up <- d$by >= 0
  ends <- data.frame(
    at = c(part$baseline[1], part$prediction[1]),
    words = paste0(
      c(
        if (is.na(detail(x, "against"))) {
          "baseline "
        } else {
          paste0("row ", detail(x, "against"), " ")
        },
        "prediction "
      ),
      format_value(c(part$baseline[1], part$prediction[1]), step)
    ),
    row = c(nrow(d) + 0.75, 0.25)
  )
  ggplot2::ggplot(d, ggplot2::aes(y = .data$row)) +
    ggplot2::geom_vline(
      xintercept = ends$at, colour = muted, linewidth = 0.4, linetype = c(2, 1)
    ) +
    ggplot2::geom_segment(
      ggplot2::aes(x = .data$to, xend = .data$to, yend = .data$row - 1),
      d[-nrow(d), ],
      colour = hairline,
      linewidth = 0.6
    ) +
    ggplot2::geom_rect(
      ggplot2::aes(
        xmin = pmin(.data$from, .data$to),
        xmax = pmax(.data$from, .data$to),
        ymin = .data$row - 0.28,
        ymax = .data$row + 0.28,
        fill = .data$up,
        colour = .data$up
      ),
      linewidth = 0.9
    ) +
    ggplot2::geom_text(
      ggplot2::aes(
        x = ifelse(.data$up, pmax(.data$from, .data$to), pmin(.data$from, .data$to)),
        label = .data$words,
        hjust = ifelse(.data$up, -0.15, 1.15)
      ),
      size = 3.8,
      colour = ink
    ) +
    ggplot2::geom_text(
      ggplot2::aes(x = .data$at, label = .data$words), ends, size = 3.6, colour = muted
    ) + ggplot2::scale_fill_manual(values = c(`TRUE` = pine(), `FALSE` = paper)) +
    ggplot2::scale_colour_manual(values = c(`TRUE` = pine(), `FALSE` = brass())) +
    ggplot2::scale_y_continuous(
      breaks = d$row, labels = d$label, expand = ggplot2::expansion(add = c(0.5, 0.5))
    ) + ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.12, 0.12))) +
    ggplot2::labs(
      x = say_axis(x, part),
      y = NULL,
      title = say_row(part, x),
      subtitle = paste0(
        "Solid raises the prediction, hollow lowers it; model ", part$model[1], ", ",
        say_reference(x), "."
      )
    ) + theme_dreher() + ggplot2::theme(panel.grid.major.y = ggplot2::element_blank())
}

say_axis <- function(x, part) {
  scale <- detail(x, "scale")[[part$model[1]]]
  paste0(
    if (scale == "prediction") detail(x, "target") else scale,
    if (!is.na(part$class[1])) paste0(" of ", part$class[1])
  )
}

say_reference <- function(x) {
  if (!is.na(detail(x, "against"))) return(paste0("against row ", detail(x, "against")))
  if (detail(x, "value") == "cover") return("unknown predictors by cover")
  paste0("the baseline is the mean over ", detail(x, "background"), " background rows")
}

# A row per predictor; five bins of its value side by side within it.
draw_bins <- function(x, d, top) {
  shown <- detail(x, "shown")[[d$model[1]]]
  size <- sort(tapply(abs(d$contribution), d$predictor, mean), decreasing = TRUE)
  keep <- names(size)[seq_len(min(top, length(size)))]
  bins <- do.call(
    rbind,
    lapply(seq_along(keep), function(i) {
      part <- d[d$predictor == keep[i], ]
      v <- value_column(shown, part)
      found <- bin_contributions(v, part$contribution)
      if (!nrow(found)) {
        q <- stats::quantile(part$contribution, c(0.25, 0.5, 0.75), names = FALSE)
        found <- data.frame(
          bin = "", position = 1, median = q[2], lower_quartile = q[1],
          upper_quartile = q[3], rows = nrow(part)
        )
      }
      m <- nrow(found)
      found$tone <- if (m > 1) (seq_len(m) - 1) / (m - 1) else 0.5
      ordered <- is.numeric(v) || is.ordered(v) || inherits(v, c("Date", "POSIXct"))
      found$level <- if (ordered || m > 8) "" else found$bin
      found$y <- length(keep) - i + 1 + (found$tone - 0.5) * 0.62
      found$predictor <- keep[i]
      found
    })
  )
  left <- length(size) - length(keep)
  s <- summary(x)
  s <- s[s$model == d$model[1] & same_text(s$class, d$class[1]), ]
  ggplot2::ggplot(bins, ggplot2::aes(.data$median, .data$y)) +
    ggplot2::geom_hline(
      yintercept = seq_along(keep)[-1] - 0.5, colour = hairline, linewidth = 0.4
    ) + ggplot2::geom_vline(xintercept = 0, colour = muted, linewidth = 0.4) +
    ggplot2::geom_linerange(
      ggplot2::aes(
        xmin = .data$lower_quartile, xmax = .data$upper_quartile, colour = .data$tone
      ),
      linewidth = 1
    ) + ggplot2::geom_point(ggplot2::aes(colour = .data$tone), size = 2.4) +
    ggplot2::geom_text(
      ggplot2::aes(x = .data$upper_quartile, label = shorten(.data$level, 10)),
      hjust = -0.2,
      size = 2.9,
      colour = muted
    ) + ggplot2::scale_colour_gradient(low = "#D9BF7C", high = "#12454A") +
    ggplot2::scale_y_continuous(
      breaks = seq_along(keep),
      labels = rev(shorten(labels_in(x, keep), 30)),
      expand = ggplot2::expansion(add = 0.2)
    ) + ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.05, 0.1))) +
    ggplot2::labs(
      x = paste0("contribution, ", say_axis(x, d)),
      y = NULL,
      title = say_directions(s, labels_in(x, s$predictor)),
      subtitle = paste0(
        "Each predictor's rows in five bins from low values (sand, below) to high ones ",
        "(teal, ", "above); dots: medians, lines: the middle half. ",
        format_number(length(unique(d$row))), " rows, model ", d$model[1], ", ",
        say_reference(x), ".",
        if (left > 0) paste0(" ", left, " predictors of smaller size are not drawn.")
      )
    ) + theme_dreher() + ggplot2::theme(panel.grid.major.y = ggplot2::element_blank())
}

# Contribution against value, inked by the predictor whose values explain most of what is left.
draw_dependence <- function(x, d, predictor, ink_by) {
  shown <- detail(x, "shown")[[d$model[1]]]
  part <- d[d$predictor == predictor, ]
  v <- value_column(shown, part)
  if (is.null(v)) {
    stop_input(
      paste0(
        "\"", predictor, "\" is a group of several predictors and has no one value."
      ),
      todo = "Name a single predictor."
    )
  }
  others <- setdiff(intersect(unique(d$predictor), names(shown$data)), predictor)
  if (is.null(ink_by) && length(others)) ink_by <- find_ink(shown, part, v, others)
  levels <- is.character(v) || is.factor(v) || is.logical(v)
  part$x <- if (levels) match(as.character(v), sort_levels(v)) else as.double(v)
  inked <- !is.null(ink_by)
  part$tone <- if (inked) {
    tone_of(shown$data[[ink_by]][match(part$row, shown$rows)])
  } else {
    0.5
  }
  part <- part[!is.na(part$x), ]
  unit <- detail(x, "units")[predictor]
  drawn <- ggplot2::ggplot(
    part, ggplot2::aes(.data$x, .data$contribution, colour = .data$tone)
  ) + ggplot2::geom_hline(yintercept = 0, colour = muted, linewidth = 0.4) +
    ggplot2::geom_point(
      size = 1.9,
      alpha = 0.85,
      position = ggplot2::position_jitter(if (levels) 0.18 else 0, 0, seed = 1)
    ) +
    ggplot2::scale_colour_gradient(
      low = "#D9BF7C", high = "#12454A", na.value = muted, limits = c(0, 1)
    )
  drawn <- drawn + if (levels) {
    ggplot2::scale_x_continuous(
      breaks = seq_along(sort_levels(v)), labels = shorten(sort_levels(v), 12)
    )
  } else {
    ggplot2::scale_x_continuous(labels = format_number_marks)
  }
  drawn +
    ggplot2::labs(
      x = paste0(
        labels_in(x, predictor), if (!is.na(unit) && nzchar(unit)) paste0(", ", unit)
      ),
      y = paste0("contribution, ", say_axis(x, part)),
      title = paste0(
        "What ", labels_in(x, predictor), " contributes, row by row",
        if (inked) paste0("; inked by ", labels_in(x, ink_by))
      ),
      subtitle = paste0(
        if (inked) {
          paste0(
            "Sand: low ", labels_in(x, ink_by), ", teal: high",
            if (is.factor(shown$data[[ink_by]]) || is.character(shown$data[[ink_by]])) {
              " (levels in order)"
            },
            ". "
          )
        },
        "A spread at one value is what other predictors make of it. Model ",
        part$model[1], ", ", say_reference(x), "."
      )
    ) + theme_dreher()
}

sort_levels <- function(v) {
  if (is.factor(v)) levels(droplevels(v)) else sort_text(unique(as.character(v)))
}

# From 0 to 1 by rank.
tone_of <- function(v) {
  if (is.character(v) || is.factor(v) || is.logical(v)) {
    v <- match(as.character(v), sort_levels(v))
  }
  r <- rank(as.double(v), na.last = "keep")
  (r - 1) / max(1, max(r, na.rm = TRUE) - 1)
}

# The predictor whose rank goes most with what a smooth of the contribution on the value leaves,
# within ten neighbourhoods of the value.
find_ink <- function(shown, part, v, others) {
  place <- if (is.numeric(v)) {
    rank(v, na.last = "keep")
  } else {
    match(as.character(v), sort_levels(v))
  }
  bin <- ceiling(10 * place / max(place, na.rm = TRUE))
  rest <- part$contribution - stats::ave(part$contribution, bin)
  at <- match(part$row, shown$rows)
  strength <- vapply(
    others,
    function(o) {
      tone <- tone_of(shown$data[[o]][at])
      if (all(is.na(tone)) || stats::sd(tone, na.rm = TRUE) == 0) return(0)
      within <- vapply(
        split(seq_along(rest), bin),
        function(i) {
          i <- i[!is.na(tone[i])]
          if (length(i) < 4 || stats::sd(tone[i]) == 0 || stats::sd(rest[i]) == 0) {
            return(0)
          }
          abs(stats::cor(tone[i], rest[i])) * length(i)
        },
        0
      )
      sum(within)
    },
    0
  )
  others[which.max(strength)]
}

#' Draw interactions
#'
#' A half matrix of the predictors, the size of each pair's interaction in its cell.
#'
#' @param object,x A result of [interactions()].
#' @param ... Must be empty.
#' @param top At most so many predictors, those of the strongest pairs.
#' @param model,class Names of the model and class that are drawn. Default: the first.
#' @return A ggplot.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' plot(interactions(study(fit, kiln$holdout, "strength", train = kiln$train)))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_interactions <- function(
    object, ..., top = 10, model = NULL, class = NULL) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 2)
  d <- as_plain(object)
  model <- named_or_first(d, model, "model")
  class <- named_or_first(d, class, "class")
  d <- d[d$model == model & same_text(d$class, class), ]
  both <- c(rbind(d$predictor, d$other))
  names <- utils::head(unique(both), top)
  left <- length(unique(both)) - length(names)
  d <- d[d$predictor %in% names & d$other %in% names, ]
  i <- match(d$predictor, names)
  j <- match(d$other, names)
  d$x <- pmin(i, j)
  d$y <- length(names) - pmax(i, j) + 1
  d$tone <- abs(d$interaction) / max(abs(d$interaction), 1e-300)
  unit <- ifelse(
    is.na(d$std_error) | d$std_error <= 0, max(abs(d$interaction)) / 10, d$std_error
  )
  d$words <- if (detail(object, "by") %in% c("variance", "paths")) {
    format_percent(d$interaction)
  } else {
    ifelse(d$interaction == 0, "0", format_value(d$interaction, unit))
  }
  labels <- shorten(labels_in(object, names), if (length(names) > 6) 14 else 20)
  n <- length(names)
  ggplot2::ggplot(d, ggplot2::aes(.data$x, .data$y)) +
    ggplot2::geom_tile(
      ggplot2::aes(fill = .data$tone),
      colour = paper,
      linewidth = 1.4,
      width = 1,
      height = 1
    ) +
    ggplot2::geom_text(
      ggplot2::aes(label = .data$words, colour = .data$tone > 0.55), size = 3.7
    ) +
    ggplot2::annotate(
      "text",
      x = seq_len(n - 1),
      y = n - seq_len(n - 1) + 0.75,
      label = labels[-n],
      hjust = 0.5,
      vjust = 0.5,
      size = 3.7,
      colour = ink
    ) +
    ggplot2::annotate(
      "text",
      x = 0.4,
      y = n - seq_len(n)[-1] + 1,
      label = labels[-1],
      hjust = 1,
      size = 3.7,
      colour = ink
    ) +
    ggplot2::scale_fill_gradient(low = "#F1ECDF", high = "#12454A", limits = c(0, 1)) +
    ggplot2::scale_colour_manual(values = c(`TRUE` = paper, `FALSE` = ink)) +
    ggplot2::coord_cartesian(xlim = c(-0.8, n - 0.4), ylim = c(0.5, n + 0.2)) +
    ggplot2::labs(
      x = NULL,
      y = NULL,
      title = say_interactions(object, d),
      subtitle = paste0(
        say_interactions_heading(object), ", model ", d$model[1],
        if (!is.na(d$class[1])) paste0(", class ", d$class[1]), ".",
        if (left > 0) paste0(" ", left, " predictors of weaker pairs are not drawn.")
      )
    ) + theme_dreher() + theme_of_cells()
}

#' @rdname autoplot.dreher_interactions
#' @export
plot.dreher_interactions <- function(x, ...) draw_now(x, ...)
