# Figures behind the scores: calibration, confusion, residuals, numbers of trees.

draw_calibration <- function(object, part) {
  part$panel <- panel_of_class(part)
  classes <- detail(object, "task") == "classification"
  ggplot2::ggplot(part, ggplot2::aes(.data$mean, .data$observed)) +
    ggplot2::geom_abline(slope = 1, intercept = 0, colour = muted, linetype = "dashed") +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = .data$lower, ymax = .data$upper), colour = ink, linewidth = 0.7
    ) + ggplot2::geom_point(colour = ink, size = 2.4) +
    ggplot2::facet_wrap(~panel, labeller = fitting_names(part$panel)) +
    ggplot2::scale_x_continuous(
      breaks = scales::breaks_extended(3), labels = scales::label_number(drop0trailing = TRUE)
    ) +
    ggplot2::labs(
      x = if (classes) {
        "predicted probability, mean of the bin"
      } else {
        "prediction, mean of the bin"
      },
      y = if (classes) "share of rows of the class" else "mean of the target",
      title = say_calibration(object),
      subtitle = paste0(
        "Holdout rows in bins of equal size; lines: intervals. Dashed: prediction and ",
        "truth agree."
      )
    ) + theme_dreher()
}

panel_of_class <- function(part) {
  if (length(unique(part$class)) == 1) return(part$model)
  if (length(unique(part$model)) == 1) return(part$class)
  paste0(part$model, ": ", part$class)
}

has_calibration <- function(x) {
  !is.null(summary(x)$calibration) && detail(x, "task") == "classification"
}

# Too extreme, too timid, or not to be told, by the interval of the slope.
say_calibration <- function(x) {
  slopes <- summary(x)$slopes
  if (is.null(slopes)) return("Whether the predictions are calibrated cannot be told.")
  said <- ifelse(
    slopes$upper < 1, "too extreme",
    ifelse(slopes$lower > 1, "too close to the middle", "not shown to be off")
  )
  who <- panel_of_class(slopes)
  each <- vapply(
    unique(said), function(s) paste0(s, " for ", list_few(who[said == s])), ""
  )
  text <- paste0("Predictions are ", paste(each, collapse = ", "))
  if (nrow(slopes) == 1) {
    text <- paste0(
      text, ": slope ", format_value(slopes$slope, (slopes$upper - slopes$lower) / 4), " ",
      in_brackets(slopes$lower, slopes$upper, (slopes$upper - slopes$lower) / 4)
    )
  }
  paste0(text, ".")
}

draw_confusion <- function(object, part) {
  part$truth <- factor(part$truth, rev(unique(part$truth)))
  part$predicted <- factor(part$predicted, rev(levels(part$truth)))
  ggplot2::ggplot(part, ggplot2::aes(.data$predicted, .data$truth)) +
    ggplot2::geom_tile(ggplot2::aes(alpha = .data$share), fill = ink, colour = paper) +
    ggplot2::geom_text(
      ggplot2::aes(label = .data$count, colour = .data$share > 0.5), size = 4
    ) +
    ggplot2::scale_alpha_continuous(range = c(0.03, 0.9), limits = c(0, 1)) +
    ggplot2::scale_colour_manual(values = c(`TRUE` = paper, `FALSE` = ink)) +
    ggplot2::facet_wrap(~model, labeller = fitting_names(part$model)) +
    ggplot2::labs(
      x = "predicted class, the most probable one", y = "true class",
      title = say_confusion(part),
      subtitle = paste0(
        "Numbers of ", if (isTRUE(detail(object, "seen"))) "training" else "holdout",
        " rows; the darker, the larger the share of the true class."
      )
    ) + theme_dreher() + ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

say_confusion <- function(part) {
  wrong <- part[
    as.character(part$truth) != as.character(part$predicted) & part$count > 0,
  ]
  if (!nrow(wrong)) return("No row is taken for another class.")
  top <- wrong[which.max(wrong$count), ]
  paste0(
    "Most often ", top$truth, " is taken for ", top$predicted,
    if (length(unique(part$model)) > 1) paste0(" (", top$model, ")"), ": ", top$count,
    " rows."
  )
}

draw_residuals <- function(object, part) {
  several <- part[part$model %in% part$model[duplicated(part$model)], ]
  ggplot2::ggplot(part, ggplot2::aes(.data$mean, .data$bias)) +
    ggplot2::geom_hline(yintercept = 0, colour = muted, linetype = "dashed") +
    ggplot2::geom_line(ggplot2::aes(y = .data$spread), data = several, colour = muted) +
    ggplot2::geom_line(ggplot2::aes(y = -.data$spread), data = several, colour = muted) +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = .data$lower, ymax = .data$upper), colour = ink, linewidth = 0.7
    ) + ggplot2::geom_point(colour = ink, size = 2.4) +
    ggplot2::facet_wrap(~model, labeller = fitting_names(part$model)) +
    ggplot2::labs(
      x = "prediction, mean of the bin",
      y = "truth less prediction",
      title = say_residuals(part),
      subtitle = paste0(
        "Holdout rows in bins of equal size by their prediction. Dots: mean with ",
        "interval; pale ", "lines: root mean square."
      )
    ) + theme_dreher()
}

# Bins whose mean residual is not zero, all bins together (Bonferroni).
say_residuals <- function(part) {
  each <- vapply(unique(part$model), function(m) {
    d <- part[part$model == m, ]
    error <- (d$upper - d$lower) / 2 / stats::qt(0.975, d$n - 1)
    off <- 2 * stats::pt(-abs(d$bias / error), d$n - 1) * nrow(d) < 0.05
    if (!any(off, na.rm = TRUE)) return("no size of prediction is shown to be off")
    ends <- which(off)
    paste0(
      "predictions about ", list_few(format(signif(d$mean[ends], 3), trim = TRUE), 3),
      " are off"
    )
  }, "")
  each_model(each)
}

# A sentence of what is said of each model.
each_model <- function(each) {
  if (length(each) == 1) return(capitalised(paste0(each, ".")))
  paste0(paste0(names(each), ": ", each, collapse = "; "), ".")
}

draw_trees <- function(object, part) {
  ggplot2::ggplot(part, ggplot2::aes(.data$trees, .data$score)) +
    ggplot2::geom_ribbon(
      ggplot2::aes(ymin = .data$lower, ymax = .data$upper), fill = hairline, na.rm = TRUE
    ) + ggplot2::geom_line(colour = ink) + ggplot2::geom_point(colour = ink, size = 2) +
    ggplot2::scale_x_log10() + ggplot2::facet_wrap(
      ~model, scales = "free_x", labeller = fitting_names(part$model)
    ) +
    ggplot2::labs(
      x = "number of trees, the first ones",
      y = paste0(detail(object, "metric_label"), " (", object$better[1], " is better)"),
      title = say_trees(part, object$better[1]),
      subtitle = paste0(
        "Holdout rows, with the first trees alone; the band is the interval of each ",
        "score."
      )
    ) + theme_dreher()
}

say_trees <- function(part, better) {
  each <- vapply(unique(part$model), function(m) {
    d <- part[part$model == m, ]
    last <- d[nrow(d), ]
    best <- if (better == "lower") which.min(d$score) else which.max(d$score)
    if (best == nrow(d)) {
      paste0("the best score is that of all ", format_number(last$trees), " trees")
    } else {
      paste0(
        "the best score is at ", format_number(d$trees[best]), " of ",
        format_number(last$trees), " trees"
      )
    }
  }, "")
  each_model(each)
}
