#' Draw scores, a chosen set, a comparison or a confirmation
#'
#' Scores: each model beside the constant and the best predictor alone; calibration, confusion,
#' residuals and numbers of trees on request. A set: how often the splits chose each predictor. A
#' comparison and a confirmation: the price of each set against its reference and the margin.
#'
#' @param object,x A result of [score_models()], [choose_set()], [compare_sets()] or
#'   [confirm_set()].
#' @param ... Must be empty.
#' @param show Of scores: `"scores"` (default), `"calibration"` (observed against predicted),
#'   `"confusion"`, `"residuals"` (by size of the prediction) or `"trees"` (the score with the first
#'   trees alone).
#' @param model Name of the model. Default: all of them.
#' @param top Number of predictors of a set that are shown, those chosen most often first.
#' @return A ggplot.
#' @section Reading the result: Lines are intervals. Scores: a hollow square is the constant, a
#'   triangle the best predictor alone. Calibration: on the diagonal the predictions mean what they
#'   say. Sets: solid dots are in the set. Prices: to the right of zero the set is worse than the
#'   reference;
#'   the shaded part is within the margin.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(score_models(st))
#' sets <- list(all = "all", firing = c("peak_temp", "hold_minutes"), none = "none")
#' plot(compare_sets(st, sets, folds = 3, repeats = 1))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_scores <- function(object, ..., show = "scores") {
  check_no_dots(..., .verb = "plot")
  show <- check_choice(show, score_figures, "show")
  if (show == "scores") return(draw_scores(object))
  part <- summary(object)[[show]]
  if (is.null(part)) {
    stop_input(
      paste0("There is nothing to draw for show = \"", show, "\"."),
      "It does not fit this target, these models, or these rows.",
      paste0("To be had: ", quote_some(figures_of_scores(object), 6), ".")
    )
  }
  switch(
    show,
    calibration = draw_calibration(object, part),
    confusion = draw_confusion(object, part),
    residuals = draw_residuals(object, part),
    trees = draw_trees(object, part)
  )
}

score_figures <- c("scores", "calibration", "confusion", "residuals", "trees")

figures_of_scores <- function(x) {
  parts <- summary(x)
  c("scores", Filter(function(name) !is.null(parts[[name]]), score_figures[-1]))
}

draw_scores <- function(object) {
  d <- as_plain(object)
  d$row <- factor(d$model, rev(d$model))
  seen <- isTRUE(detail(object, "seen"))
  ggplot2::ggplot(d, ggplot2::aes(.data$score, .data$row)) +
    ggplot2::geom_segment(
      ggplot2::aes(x = .data$constant, xend = .data$score, yend = .data$row),
      colour = hairline,
      linewidth = 1
    ) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$lower, xmax = .data$upper), colour = ink, linewidth = 1,
      na.rm = TRUE
    ) + ggplot2::geom_point(colour = ink, size = 3) +
    ggplot2::geom_point(
      ggplot2::aes(x = .data$constant), shape = 22, size = 3, colour = ink, fill = paper
    ) +
    ggplot2::geom_point(
      ggplot2::aes(x = .data$alone), shape = 24, size = 2.6, colour = ink, fill = paper,
      na.rm = TRUE
    ) +
    ggplot2::geom_text(
      ggplot2::aes(x = .data$alone, label = .data$alone_predictor), vjust = -1.2, size = 3.3,
      colour = muted, na.rm = TRUE
    ) +
    ggplot2::labs(
      x = paste0(detail(object, "metric_label"), " (", d$better[1], " is better)"),
      y = NULL,
      title = say_interpretable(object),
      subtitle = paste0(
        "Scores for ", detail(object, "target"), ", ", format_number(d$n[1]),
        if (seen) " training rows" else " holdout rows",
        ". Square: the constant prediction",
        if (!all(is.na(d$alone))) "; triangle: the best predictor alone",
        if (!all(is.na(d$lower))) "; lines: intervals of the score", "."
      )
    ) + theme_dreher() + theme_of_panels()
}

#' @rdname autoplot.dreher_scores
#' @export
plot.dreher_scores <- function(x, ...) draw_now(x, ...)

#' @rdname autoplot.dreher_scores
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_set <- function(object, ..., top = 25) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 1)
  st <- object$study
  d <- object$chosen_share
  d <- utils::head(d[order(!d$chosen, -d$share), ], max(top, sum(d$chosen)))
  d$row <- factor(d$predictor, rev(d$predictor))
  names <- stats::setNames(shorten(labels_of(st, d$predictor), 32), d$predictor)
  left <- nrow(object$chosen_share) - nrow(d)
  ggplot2::ggplot(d, ggplot2::aes(.data$share, .data$row)) +
    ggplot2::geom_vline(xintercept = 0.5, colour = muted, linetype = "dashed") +
    ggplot2::geom_segment(
      ggplot2::aes(x = 0, xend = .data$share, yend = .data$row),
      colour = ink,
      linewidth = 0.6
    ) +
    ggplot2::geom_point(
      ggplot2::aes(fill = .data$chosen),
      shape = 21,
      size = 3.2,
      colour = ink,
      stroke = 0.9
    ) + ggplot2::scale_fill_manual(values = c(`TRUE` = ink, `FALSE` = paper)) +
    ggplot2::scale_x_continuous(limits = c(0, 1), labels = format_percent) +
    ggplot2::scale_y_discrete(labels = names) +
    ggplot2::labs(
      x = "splits that chose the predictor",
      y = NULL,
      title = say_set(object),
      subtitle = paste0(
        "Predictors of ", st$target, ", model ", object$model, ", ",
        length(object$counts_chosen),
        " splits. Solid: in the set. Dashed: half of the splits",
        if (left > 0) paste0("; ", left, " others were chosen less often"), "."
      ),
      caption = caption_of_sets(list(object))
    ) + theme_dreher() + theme_of_panels()
}

#' @rdname autoplot.dreher_scores
#' @export
plot.dreher_set <- function(x, ...) draw_now(x, ...)

#' @rdname autoplot.dreher_scores
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_comparison <- function(object, ..., model = NULL) {
  check_no_dots(..., .verb = "plot")
  d <- as_plain(object)
  if (!is.null(model)) d <- d[d$model == check_choice(model, unique(d$model), "model"), ]
  d$row <- factor(d$set, rev(unique(d$set)))
  d$count_of <- paste0(" ", d$count)
  drawn <- draw_prices(d, detail(object, "metric_label")) +
    ggplot2::geom_text(
      ggplot2::aes(x = Inf, label = .data$count_of), hjust = 1.2, size = 3.4, colour = muted
    ) +
    ggplot2::labs(
      title = say_comparison(d, detail(object, "reference")),
      subtitle = paste0(
        "Predictors of ", detail(object, "target"), ", scored by ", detail(object, "scored"),
        "; price: loss less that of \"", detail(object, "reference"),
        "\", paired. Right: number of predictors."
      )
    )
  if (length(unique(d$model)) == 1) return(drawn)
  drawn + ggplot2::facet_wrap(~model, nrow = 1)
}

#' @rdname autoplot.dreher_scores
#' @export
plot.dreher_comparison <- function(x, ...) draw_now(x, ...)

#' @rdname autoplot.dreher_scores
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_confirmation <- function(object, ...) {
  check_no_dots(..., .verb = "plot")
  d <- data.frame(
    row = count_of(length(object$predictors), "predictor"),
    price = object$price, price_lower = object$price_lower, price_upper = object$price_upper
  )
  draw_prices(d, object$metric_label, object$margin) +
    ggplot2::labs(
      title = say_confirmation(object),
      subtitle = paste0(
        "Predictors of ", object$target, ", ", format_number(object$n),
        " ", confirmed_on(object), "; price: loss less that of all ", object$full_count,
        " predictors, paired. Shaded: within the margin."
      )
    )
}

#' @rdname autoplot.dreher_scores
#' @export
plot.dreher_confirmation <- function(x, ...) draw_now(x, ...)

# Prices with their intervals, zero, and what lies within the margin.
draw_prices <- function(d, metric, margin = NULL) {
  within <- if (!is.null(margin)) {
    ggplot2::annotate(
      "rect", xmin = -Inf, xmax = margin, ymin = -Inf, ymax = Inf, fill = "#DCE3E4",
      alpha = 0.6
    )
  }
  ggplot2::ggplot(d, ggplot2::aes(.data$price, .data$row)) + within +
    ggplot2::geom_vline(xintercept = 0, colour = muted, linewidth = 0.4) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$price_lower, xmax = .data$price_upper), colour = ink,
      linewidth = 1, na.rm = TRUE
    ) + ggplot2::geom_point(colour = ink, size = 3) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.08, 0.14))) +
    ggplot2::labs(x = paste0("price, ", metric, " (left is better)"), y = NULL) +
    theme_dreher() + theme_of_panels()
}

say_comparison <- function(d, reference) {
  d <- d[d$set != reference, ]
  if (!nrow(d)) return("There is no other set to compare.")
  models <- unique(d$model)
  each <- vapply(models, function(m) {
    of <- d[d$model == m, ]
    words <- unique(of$statement)
    said <- vapply(words, function(w) paste(list_words(of$set[of$statement == w]), w), "")
    paste0(if (length(models) > 1) paste0(m, ": "), paste(said, collapse = ", "))
  }, "")
  paste0("Against ", reference, ": ", paste(each, collapse = "; "), ".")
}
