#' Draw a reduction: the score against the number of predictors
#'
#' One row per number of predictors, named by the predictor it adds; the score with its interval; the chosen set and its price.
#'
#' @param object,x A result of [reduce_predictors()].
#' @param ... Must be empty.
#' @param set The chosen set, from [choose_set()]. Default: by the rule `one_se`.
#' @param model Name of the model, when there are several and no set is given. Default: the first.
#' @return A ggplot.
#' @section Reading the result: Read from top to bottom. Solid dots are kept, hollow ones left out. The band is the interval of each score over rows;
#'   the difference between two rows is known better than the bands suggest, because it is paired.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(reduce_predictors(st, folds = 3, times = 1, inner_folds = 2))
#' @export
autoplot.dreher_reduction <- function(object, ..., set = NULL, model = NULL) {
  check_no_dots(..., .verb = "plot")
  if (is.null(set)) set <- choose_set(object, model = if (is.null(model)) names(object$curves)[1] else model)
  check_class(set, "dreher_set", "set", "choose_set()")
  st <- object$study
  d <- as.data.frame(object)
  d <- d[d$model == set$model, ]
  d$name <- vapply(seq_len(nrow(d)), function(i) name_step(d, i, st), "")
  d$row <- rev(seq_len(nrow(d)))
  d$kept <- d$size <= set$size
  chosen <- d[d$size == set$size, ]
  unit <- max(set$price_error, 1e-12)
  best <- d[d$size == max(d$size), ]
  right <- mean(range(d$lower, d$upper)) > chosen$score
  note <- paste0("chosen (", set$rule, "): ", count_of(set$size, "predictor"), "\nprice ", format_value(set$price, unit), " [", format_value(set$price_lower, unit), ", ", format_value(set$price_upper, unit), "]")
  ggplot2::ggplot(d, ggplot2::aes(.data$score, .data$row)) +
    ggplot2::geom_vline(xintercept = best$score, colour = muted, linetype = "dashed", linewidth = 0.4) +
    ggplot2::geom_ribbon(ggplot2::aes(y = .data$row, xmin = .data$lower, xmax = .data$upper), fill = "#DCE3E4", orientation = "y") +
    ggplot2::geom_path(ggplot2::aes(group = 1), colour = ink, linewidth = 0.6) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$kept), shape = 21, colour = ink, size = 3, stroke = 0.9) +
    ggplot2::geom_point(data = chosen, shape = 21, colour = ink, size = 6, stroke = 1.1, fill = NA) +
    ggplot2::geom_label(data = chosen, ggplot2::aes(x = if (right) .data$upper else .data$lower), label = note, hjust = if (right) -0.06 else 1.06,
                        size = 3.9, lineheight = 1, fontface = "bold", colour = ink, fill = paper, label.size = 0) +
    ggplot2::scale_fill_manual(values = c(`TRUE` = ink, `FALSE` = paper)) +
    ggplot2::scale_x_continuous(breaks = scales::breaks_extended(6)) +
    ggplot2::scale_y_continuous(breaks = d$row, labels = d$name) +
    ggplot2::labs(x = paste0("Cross-validated ", st$metric$label, " (", st$metric$better, " is better); dashed: all predictors"), y = NULL,
                  title = say_set(set),
                  subtitle = paste0("Model ", set$model, ", predictors of ", st$target, ", ranked by ", object$by, " inside every training part; ", format_number(nrow(st$train)), " rows, ", object$folds, " folds x ", object$times,
                                              ". With the choice itself cross-validated: ", format_value(set$procedure$score, unit), " [", format_value(set$procedure$lower, unit), ", ", format_value(set$procedure$upper, unit), "].")) +
    theme_dreher() + ggplot2::theme(axis.text.y = ggplot2::element_text(hjust = 0))
}

name_step <- function(d, i, st) {
  number <- pad(as.character(d$size[i]), 2, TRUE) |> gsub(" ", "\u2007", x = _)
  if (d$size[i] == 0) return(paste0(number, "  constant"))
  from <- if (i == 1) 0 else d$size[i - 1]
  added <- shorten(labels_of(st, strsplit(d$added[i], ", ", fixed = TRUE)[[1]]), 26)
  text <- if (length(added) <= 2) paste(added, collapse = ", ") else paste0(added[1], " and ", length(added) - 1, " more")
  paste0(number, "  + ", text)
}

#' @rdname autoplot.dreher_reduction
#' @export
plot.dreher_reduction <- function(x, ...) {
  print(ggplot2::autoplot(x, ...))
  invisible(x)
}
