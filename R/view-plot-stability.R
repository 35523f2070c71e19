#' Draw the stability of a ranking
#'
#' A strip of ranks: every predictor's ranks over the resamples, the darker the more often; rank sets as brackets, settled ranks boxed, tiers ruled off. The title is the verdict.
#'
#' @param object,x A result of [stability()].
#' @param ... Must be empty.
#' @param model,method,rows,slice Which part to draw. Default: the first.
#' @param top At most so many predictors.
#' @return A ggplot.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes + cooling_rate + grog_share, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(stability(rank_predictors(st, by = "permutation", resamples = draw_resamples(kiln$train, times = 20))))
#' @export
autoplot.dreher_stability <- function(object, ..., model = NULL, method = NULL, rows = NULL, slice = NULL, top = 25) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 2)
  fits <- rep(TRUE, length(object$parts))
  wanted <- list(model = model, method = method, rows = rows, slice = slice)
  for (w in names(wanted)) if (!is.null(wanted[[w]])) {
    have <- vapply(object$parts, function(p) as.character(p$table[[w]][1]), "")
    fits <- fits & have %in% check_choice(wanted[[w]], unique(have), w)
  }
  if (!any(fits)) stop_input("No part of the result fits `model`, `method`, `rows` and `slice` at once.")
  part <- object$parts[[which(fits)[1]]]
  table <- utils::head(part$table, top)
  p <- nrow(part$table)
  last <- min(p, max(table$rank_upper, table$spread_upper, nrow(table), na.rm = TRUE))
  rows_of <- make.unique(shorten(object$labels[table$predictor], 28), " ")
  cells <- expand.grid(i = seq_len(nrow(table)), rank = seq_len(last))
  cells$often <- part$ranks[cbind(cells$i, cells$rank)]
  table$y <- seq_len(nrow(table))
  breaks <- which(diff(table$tier) > 0)
  colour <- method_colours[[table$method[1]]]
  others <- length(object$parts) - 1
  ggplot2::ggplot(cells[cells$often > 0, ], ggplot2::aes(.data$rank, .data$i)) +
    ggplot2::geom_tile(ggplot2::aes(alpha = .data$often), fill = colour, width = 0.94, height = 0.62) +
    ggplot2::geom_tile(ggplot2::aes(.data$rank, .data$y), data = table[table$settled %in% TRUE, ], fill = NA, colour = ink, linewidth = 0.9, width = 0.94, height = 0.62) +
    ggplot2::geom_linerange(ggplot2::aes(y = .data$y + 0.42, xmin = .data$rank_lower - 0.4, xmax = .data$rank_upper + 0.4), data = table[table$settled %in% FALSE, ], inherit.aes = FALSE, colour = ink, linewidth = 0.7) +
    ggplot2::geom_hline(yintercept = breaks + 0.5 + 0.09, colour = muted, linewidth = 0.3) +
    ggplot2::geom_text(ggplot2::aes(label = ifelse(.data$often >= 0.1, format_percent(.data$often), ""), colour = .data$often > 0.55), size = 3.1) +
    ggplot2::scale_alpha_continuous(range = c(0.08, 0.95), limits = c(0, 1)) +
    ggplot2::scale_colour_manual(values = c(`FALSE` = ink, `TRUE` = paper)) +
    ggplot2::scale_y_reverse(breaks = table$y, labels = rows_of, expand = ggplot2::expansion(add = 0.3)) +
    ggplot2::scale_x_continuous(breaks = unique(c(1, scales::breaks_extended(10)(c(1, last)))) |> (\(b) b[b >= 1 & b <= last & b == round(b)])(), position = "top", expand = ggplot2::expansion(add = 0.2)) +
    ggplot2::labs(x = "rank", y = NULL, title = say_stability(part, object$labels, object$about),
                  subtitle = paste0("Predictors of ", object$target, ", ", part_name(part$table), ": ranks over ", part$times, " ", kind_words[[object$about$kind]], " (", settings_of(object, part), ")",
                                    if (p > nrow(table)) paste0("; the first ", nrow(table), " of ", p), "."),
                  caption = paste0(if (object$about$kind == "seeds") "Shade and percent: how often each rank was taken." else
                    paste0("Shade and percent: how often each rank was taken. Boxed: settled. Line below: joint ", format_percent(object$level), " rank set of an open one. Rules: tiers, whose members cannot be told from their first. "), say_measures(part),
                    if (others > 0) paste0(" ", count_of(others, "more part", TRUE), ": model =, method = or rows =."))) +
    theme_dreher() +
    ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

#' @rdname autoplot.dreher_stability
#' @export
plot.dreher_stability <- function(x, ...) {
  print(ggplot2::autoplot(x, ...))
  invisible(x)
}

#' Draw the agreement of rankings
#'
#' Half a matrix, with Kendall's tau-b in each cell.
#'
#' @param object,x A result of [agreement()].
#' @param ... Must be empty.
#' @return A ggplot.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' plot(agreement(rank_predictors(study(fit, kiln$holdout, "strength", train = kiln$train))))
#' @export
autoplot.dreher_agreement <- function(object, ...) {
  check_no_dots(..., .verb = "plot")
  lists <- object$lists
  d <- object$pairs
  d$x <- match(d$a, lists)
  d$y <- match(d$b, lists)
  d$shade <- pmax(d$tau, 0)
  ends <- data.frame(at = seq_along(lists), label = shorten(lists, 30))
  ggplot2::ggplot(d, ggplot2::aes(.data$x, .data$y)) +
    ggplot2::geom_tile(ggplot2::aes(alpha = .data$shade), fill = "#12454A", width = 0.96, height = 0.92) +
    ggplot2::geom_text(ggplot2::aes(label = ifelse(is.na(.data$tau), "undefined", paste0(formatC(.data$tau, digits = 2, format = "f"), ifelse(is.na(.data$tau_error), "", paste0(" \u00b1", formatC(.data$tau_error, digits = 2, format = "f"))))),
                                    colour = .data$shade > 0.5), size = 4.4) +
    ggplot2::geom_text(ggplot2::aes(.data$at - 0.42, .data$at, label = .data$label), data = ends, inherit.aes = FALSE, hjust = 0, size = 4, colour = ink, fontface = "bold") +
    ggplot2::scale_alpha_continuous(range = c(0.06, 0.95), limits = c(0, 1), na.value = 0) +
    ggplot2::scale_colour_manual(values = c(`FALSE` = ink, `TRUE` = paper), na.value = ink) +
    ggplot2::scale_y_reverse(breaks = NULL) +
    ggplot2::scale_x_continuous(breaks = NULL, limits = c(0.5, length(lists) + 0.9)) +
    ggplot2::labs(x = NULL, y = NULL, title = say_agreement(object), subtitle = paste0("Kendall's tau-b between rankings of the predictors of ", object$target, ": 1 is the same order, 0 none in common."),
                  caption = if (!all(is.na(d$tau_error))) paste0("\u00b1: what ", object$resamples$times, " resamples leave open.") else NULL) +
    theme_dreher() +
    ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

#' @rdname autoplot.dreher_agreement
#' @export
plot.dreher_agreement <- function(x, ...) {
  print(ggplot2::autoplot(x, ...))
  invisible(x)
}
