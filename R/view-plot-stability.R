#' Draw the stability of a ranking
#'
#' A strip of ranks: every predictor's ranks over the resamples, the darker the more often; rank
#' sets as brackets, settled ranks boxed, tiers ruled off. The title is the verdict.
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
#' drawn <- draw_resamples(kiln$train, times = 20)
#' plot(stability(rank_predictors(st, by = "permutation", resamples = drawn)))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_stability <- function(
    object, ..., model = NULL, method = NULL, rows = NULL, slice = NULL, top = 25) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 2)
  wanted <- list(model = model, method = method, rows = rows, slice = slice)
  part <- pick_stability_part(object, wanted)
  table <- utils::head(part$table, top)
  p <- nrow(part$table)
  last <- min(p, max(table$rank_upper, table$spread_upper, nrow(table), na.rm = TRUE))
  rows_of <- make.unique(shorten(object$labels[table$predictor], 28), " ")
  cells <- expand.grid(i = seq_len(nrow(table)), rank = seq_len(last))
  cells$often <- part$ranks[cbind(cells$i, cells$rank)]
  table$y <- seq_len(nrow(table))
  breaks <- which(diff(table$tier) > 0)
  cells$under <- (table$above_floor %in% FALSE)[cells$i]
  under <- any(cells$under)
  colour <- method_colours()[[table$method[1]]]
  ggplot2::ggplot(cells[cells$often > 0, ], ggplot2::aes(.data$rank, .data$i)) +
    ggplot2::geom_tile(
      ggplot2::aes(alpha = .data$often, fill = .data$under), width = 0.94, height = 0.62
    ) +
    ggplot2::geom_tile(
      ggplot2::aes(.data$rank, .data$y),
      data = table[table$settled %in% TRUE, ],
      fill = NA,
      colour = ink,
      linewidth = 0.9,
      width = 0.94,
      height = 0.62
    ) +
    rank_set_lines(table) +
    ggplot2::geom_hline(
      yintercept = breaks + 0.5 + 0.09, colour = muted, linewidth = 0.3
    ) +
    ggplot2::geom_text(
      ggplot2::aes(
        # beyond 25 ranks a cell has no room for a figure
        label = ifelse(.data$often >= 0.1 & last <= 25, format_percent(.data$often), ""),
        colour = .data$often > 0.55
      ),
      size = 3.1
    ) + ggplot2::scale_alpha_continuous(range = c(0.08, 0.95), limits = c(0, 1)) +
    ggplot2::scale_fill_manual(values = c(`FALSE` = colour, `TRUE` = muted)) +
    ggplot2::scale_colour_manual(values = c(`FALSE` = ink, `TRUE` = paper)) +
    ggplot2::scale_y_reverse(
      breaks = table$y, labels = rows_of, expand = ggplot2::expansion(add = 0.3)
    ) +
    ggplot2::scale_x_continuous(
      breaks = whole_breaks(last), position = "top", expand = ggplot2::expansion(add = 0.2)
    ) +
    ggplot2::labs(
      x = "rank",
      y = NULL,
      title = say_stability(part, object$labels, object$about),
      subtitle = stability_subtitle(object, part, nrow(table)),
      caption = say_rank_strip(object, part, under)
    ) + theme_dreher() + ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

# Joint rank sets of open predictors.
rank_set_lines <- function(table) {
  ggplot2::geom_linerange(
    ggplot2::aes(
      y = .data$y + 0.42, xmin = .data$rank_lower - 0.4, xmax = .data$rank_upper + 0.4
    ),
    data = table[table$settled %in% FALSE, ],
    inherit.aes = FALSE,
    colour = ink,
    linewidth = 0.7
  )
}

stability_subtitle <- function(object, part, shown) {
  p <- nrow(part$table)
  paste0(
    "Predictors of ", object$target, ", ", part_name(part$table), ": ranks over ",
    part$times, " ", kind_words[[object$about$kind]], " (", settings_of(object, part), ")",
    if (p > shown) paste0("; the first ", shown, " of ", p), "."
  )
}

# wanted: model, method, rows and slice, NULL where any will do.
pick_stability_part <- function(object, wanted) {
  fits <- rep(TRUE, length(object$parts))
  for (w in names(wanted)) {
    if (!is.null(wanted[[w]])) {
      have <- vapply(object$parts, function(p) as.character(p$table[[w]][1]), "")
      fits <- fits & have %in% check_choice(wanted[[w]], unique(have), w)
    }
  }
  if (!any(fits)) {
    stop_input(
      "No part of the result fits `model`, `method`, `rows` and `slice` at once."
    )
  }
  object$parts[[which(fits)[1]]]
}

whole_breaks <- function(last) {
  breaks <- unique(c(1, scales::breaks_extended(10)(c(1, last))))
  breaks[breaks >= 1 & breaks <= last & breaks == round(breaks)]
}

say_rank_strip <- function(object, part, under) {
  others <- length(object$parts) - 1
  paste0(
    if (object$about$kind == "seeds") {
      "Shade and percent: how often each rank was taken."
    } else {
      paste0(
        "Shade and percent: how often each rank was taken. Boxed: settled. Line ",
        "below: joint ", format_percent(object$level),
        " confidence set for a rank that is not settled. Rules: tiers, whose members are ",
        "not distinguished from their first. "
      )
    },
    if (under) "Grey: not above the noise floor. ",
    paste(
      c(say_measures(part), if (nzchar(say_caveats(part))) say_caveats(part)),
      collapse = " "
    ),
    if (others > 0) paste0(" Not drawn: ", count_of(others, "more part"), ".")
  )
}

#' @rdname autoplot.dreher_stability
#' @export
plot.dreher_stability <- function(x, ...) draw_now(x, ...)

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
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_agreement <- function(object, ...) {
  check_no_dots(..., .verb = "plot")
  lists <- object$lists
  d <- object$pairs
  d$x <- match(d$a, lists)
  d$y <- match(d$b, lists)
  d$shade <- pmax(d$tau, 0)
  ends <- data.frame(
    at = seq_along(lists), label = break_name(lists, 115 / (length(lists) + 0.4))
  )
  ggplot2::ggplot(d, ggplot2::aes(.data$x, .data$y)) +
    ggplot2::geom_tile(
      ggplot2::aes(alpha = .data$shade), fill = "#12454A", width = 0.96, height = 0.92
    ) +
    ggplot2::geom_text(
      ggplot2::aes(
        label = ifelse(
          is.na(.data$tau), "undefined", two_digits(.data$tau, .data$tau_error)
        ),
        colour = .data$shade > 0.5
      ),
      size = 4.4
    ) +
    ggplot2::geom_text(
      ggplot2::aes(.data$at - 0.42, .data$at, label = .data$label),
      data = ends,
      inherit.aes = FALSE,
      hjust = 0,
      size = 4,
      colour = ink,
      fontface = "bold"
    ) +
    ggplot2::scale_alpha_continuous(
      range = c(0.06, 0.95), limits = c(0, 1), na.value = 0
    ) +
    ggplot2::scale_colour_manual(
      values = c(`FALSE` = ink, `TRUE` = paper), na.value = ink
    ) + ggplot2::scale_y_reverse(breaks = NULL) +
    ggplot2::scale_x_continuous(breaks = NULL, limits = c(0.5, length(lists) + 0.9)) +
    ggplot2::labs(
      x = NULL,
      y = NULL,
      title = say_agreement(object, briefly = TRUE),
      subtitle = paste0(
        "Kendall's tau-b between rankings of the predictors of ", object$target,
        ": 1 is the same order, 0 none in common."
      ),
      caption = paste(
        c(
          say_agreement(object),
          if (!all(is.na(d$tau_error))) {
            paste0("\u00b1: what ", object$resamples$times, " resamples leave open.")
          }
        ),
        collapse = " "
      )
    ) + theme_dreher() + ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

#' @rdname autoplot.dreher_agreement
#' @export
plot.dreher_agreement <- function(x, ...) draw_now(x, ...)

#' Draw the noise floor
#'
#' Importance of every predictor in the refits with decoys, and the range that decoys reach, one
#' panel per method.
#'
#' @param object,x A result of [noise_floor()].
#' @param ... Must be empty.
#' @param model Name of the model to draw. Default: the first.
#' @param top At most so many predictors.
#' @return A ggplot.
#' @section Reading the result: Shaded: what the largest decoy of a refit stays under in 1 -
#'   `alpha` of the refits; its darker edge is what more refits could make of it. Full dots lie
#'   above it by the family-wise p value, hollow ones do not.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes + operator, kiln$train)
#' plot(noise_floor(study(fit, kiln$holdout, "strength", train = kiln$train), refits = 19))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_floor <- function(object, ..., model = NULL, top = 25) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 2)
  models <- unique(object$table$model)
  model <- if (is.null(model)) models[1] else check_choice(model, models, "model")
  d <- object$table[object$table$model == model, ]
  panels <- unique(panel_of(d))
  d$panel <- factor(panel_of(d), panels)
  first <- d[d$panel == panels[1], ]
  shown <- utils::head(first$predictor[order(-first$importance)], top)
  floor <- d[!duplicated(d$panel), ]
  d <- d[d$predictor %in% shown, ]
  d$row <- factor(
    d$predictor, rev(shown), rev(make.unique(shorten(object$labels[shown], 32), " "))
  )
  ggplot2::ggplot(d, ggplot2::aes(.data$importance, .data$row, colour = .data$method)) +
    ggplot2::geom_blank() + floor_layers(floor) +
    ggplot2::geom_rect(
      ggplot2::aes(
        xmin = .data$floor_lower, xmax = .data$floor_upper, ymin = -Inf, ymax = Inf
      ),
      data = floor,
      inherit.aes = FALSE,
      fill = muted,
      alpha = 0.2
    ) + ggplot2::geom_vline(xintercept = 0, colour = muted, linewidth = 0.4) +
    ggplot2::geom_point(ggplot2::aes(shape = .data$above), size = 2.8) +
    ggplot2::geom_text(
      ggplot2::aes(
        x = Inf, label = paste("p", formatC(.data$p_value, digits = 3, format = "f"))
      ),
      hjust = 1.05,
      vjust = -0.3,
      size = 3.3,
      colour = muted
    ) + ggplot2::scale_shape_manual(values = c(`TRUE` = 16, `FALSE` = 1)) +
    ggplot2::scale_colour_manual(values = method_colours()) +
    ggplot2::scale_x_continuous(
      breaks = scales::breaks_extended(4),
      labels = scales::label_number(drop0trailing = TRUE),
      expand = ggplot2::expansion(c(0.04, 0.2))
    ) + ggplot2::facet_wrap(ggplot2::vars(.data$panel), nrow = 1, scales = "free_x") +
    ggplot2::labs(
      x = NULL,
      y = NULL,
      title = say_above(
        object$table[object$table$model == model & object$table$method == d$method[1], ],
        object$labels
      ),
      subtitle = floor_subtitle(object, model, length(shown), nrow(first)),
      caption = paste0(
        "Shaded: what the largest copy stays under in ", format_percent(object$level),
        " of the refits, with the error of ", object$refits,
        " refits. p: family-wise. Hollow: does not exceed the floor. ",
        what_floor_asks(object)
      )
    ) + theme_dreher() + theme_of_panels()
}

floor_subtitle <- function(object, model, shown, all) {
  others <- setdiff(unique(object$table$model), model)
  paste0(
    "Predictors of ", object$target, ", model ", model, ": importance in ", object$refits,
    " refits with a permuted copy of every predictor",
    if (object$shuffle == "conditional") " (within strata)",
    if (shown < all) paste0("; the first ", shown, " of ", all),
    if (length(others)) {
      paste0("; not drawn: ", list_words(others))
    },
    "."
  )
}

#' @rdname autoplot.dreher_floor
#' @export
plot.dreher_floor <- function(x, ...) draw_now(x, ...)
