# Single rows in words and figures: rows like them, what would change them, rules around them.

#' @export
print.dreher_similar <- function(x, ..., width = NULL) {
  write_lines(x, format_similar(x), width)
}

format_similar <- function(x, most = 10) {
  d <- utils::head(as_plain(x), most)
  class <- detail(x, "class")
  step <- spread_of(x$prediction) / 10
  columns <- list(
    row = format_number(d$row),
    distance = format_value(d$distance, max(d$distance) / 20),
    share = format_percent(d$share),
    target = if (is.numeric(d$target)) {
      format_value(d$target, step)
    } else {
      shorten(d$target, 14)
    },
    prediction = format_value(d$prediction, step)
  )
  if (all(is.na(d$share))) columns$share <- NULL
  names(columns)[names(columns) == "prediction"] <- if (is.null(class)) {
    "prediction"
  } else {
    paste0("p(", shorten(class, 12), ")")
  }
  c(
    heading(paste0(
      if (is.null(detail(x, "which"))) {
        paste0("Prototypes of ", format_number(detail(x, "looked_at")), " rows for ")
      } else {
        paste0("Rows like row ", detail(x, "which"), " for ")
      },
      detail(x, "target"), ", model ", x$model[1], ", by ", detail(x, "by")
    )),
    lay_out(columns, rep(TRUE, length(columns))),
    if (nrow(x) > nrow(d)) paste0(" and ", nrow(x) - nrow(d), " more"), "",
    wrap_lines(say_similar(x))
  )
}

spread_of <- function(v) {
  if (length(v) > 1 && diff(range(v)) > 0) diff(range(v)) else abs(v[1])
}

say_similar <- function(x) {
  step <- spread_of(x$prediction) / 10
  if (is.null(detail(x, "which"))) {
    return(paste0(
      "The mean distance to the nearest of them is ", format_percent(detail(x, "left")),
      " of that between any two rows."
    ))
  }
  own <- detail(x, "own")
  class <- detail(x, "class")
  if (is.null(class)) {
    paste0(
      "Their targets: ", format_value(min(x$target), step), " to ",
      format_value(max(x$target), step), ", mean ", format_value(mean(x$target), step),
      "; the row is predicted ", format_value(own$prediction, step), "."
    )
  } else {
    paste0(
      sum(x$target == class), " of ", nrow(x), " are ", class, "; the row's probability of ",
      class, " is ", format_value(own$prediction, 0.01), "."
    )
  }
}

#' @export
print.dreher_change <- function(x, ..., width = NULL) write_lines(x, format_change(x), width)

format_change <- function(x) {
  d <- as_plain(x)
  head <- heading(paste0(
    "Changes that bring row ", detail(x, "which"), " ",
    if (detail(x, "up")) "up" else "down", " to ",
    if (!is.null(detail(x, "class"))) paste0("p(", detail(x, "class"), ") = "),
    format(detail(x, "threshold")), ", model ", detail(x, "model")
  ))
  if (!nrow(d)) return(c(head, wrap_lines(say_change(x))))
  d <- utils::head(d, 14)
  first <- !duplicated(d$change)
  step <- abs(detail(x, "threshold") - detail(x, "now")) / 20
  c(
    head,
    lay_out(
      list(
        change = ifelse(first, as.character(d$change), ""),
        predictor = shorten(labels_in(x, d$predictor), name_room(26)),
        from = shorten(
          value_words(x, data.frame(predictor = d$predictor, value = d$from)), 16
        ),
        to = shorten(
          value_words(x, data.frame(predictor = d$predictor, value = d$to)), 16
        ),
        `rank shift` = ifelse(d$size == 1, "", format_percent(d$size)),
        prediction = ifelse(first, format_value(d$prediction, step), "")
      ),
      c(FALSE, FALSE, TRUE, TRUE, TRUE, TRUE)
    ),
    "", wrap_lines(say_change(x))
  )
}

say_change <- function(x) {
  now <- format_value(detail(x, "now"), abs(detail(x, "threshold") - detail(x, "now")) / 10)
  if (!nrow(x)) {
    return(paste0(
      "No change of at most ", count_of(detail(x, "most"), "predictor"),
      " within the values of the training rows brings the prediction of ", now, " to ",
      format(detail(x, "threshold")), "."
    ))
  }
  d <- as_plain(x)[x$change == 1, ]
  to <- value_words(x, data.frame(predictor = d$predictor, value = d$to))
  paste0(
    "The row is predicted ", now, "; with ",
    list_words(paste(labels_in(x, d$predictor), to)), " it would be ",
    format_value(d$prediction[1], abs(detail(x, "threshold") - detail(x, "now")) / 10),
    ". That is the model's answer; whether the world allows it, it does not say."
  )
}

#' @export
print.dreher_rule <- function(x, ..., width = NULL) write_lines(x, format_rule(x), width)

#' @export
format.dreher_rule <- function(x, ...) format_rule(x)

format_rule <- function(x) {
  c(
    heading(paste0(
      "Rule around row ", x$row, " for ",
      if (is.na(x$class)) x$target else paste0("p(", x$class, ")"), ", model ", x$model
    )),
    if (x$given) {
      lay_out(
        list(
          predictor = shorten(x$labels[x$conditions$predictor], name_room(28)),
          condition = shorten(
            paste0(x$conditions$condition, unit_of_rule(x, x$conditions)), 34
          ),
          `in draws` = format_percent(x$conditions$frequency)
        ),
        c(FALSE, FALSE, TRUE)
      )
    },
    if (x$given) "", wrap_lines(say_rule(x))
  )
}

unit_of_rule <- function(x, conditions) {
  unit <- x$units[conditions$predictor]
  ifelse(
    is.na(unit) | unit == "" | startsWith(conditions$condition, "is "),
    "",
    paste0(" ", unit)
  )
}

say_rule <- function(x) {
  fidelity <- paste0(
    format_percent(x$fidelity),
    " of the variance of the predictions of fresh neighbours (",
    format_percent(max(0, x$fidelity_lower)), " to ", format_percent(x$fidelity_upper),
    " in ", x$draws, " draws)"
  )
  if (!x$given) {
    return(paste0(
      "No rule is given: three questions explain ", fidelity, ", which is under ",
      format_percent(x$least_fidelity), ". The model is not that simple here; see ",
      "contributions()."
    ))
  }
  step <- max(x$upper - x$lower, abs(x$median) / 20) / 10
  paste0(
    "Where ",
    list_words(paste0(
      x$labels[x$conditions$predictor],
      ifelse(startsWith(x$conditions$condition, "is "), " ", " is "),
      x$conditions$condition, unit_of_rule(x, x$conditions)
    )),
    ", the model predicts ", format_value(x$median, step), " (median; 90 % within ",
    in_brackets(x$lower, x$upper, step), "); the row itself ",
    format_value(x$prediction, step), ". The rule explains ", fidelity, "."
  )
}

#' Draw single rows: similar ones, changes, rules
#'
#' Similar rows and prototypes: prediction and target of each. Changes: how far each predictor moves
#' through the training rows. A rule: the predictions where it holds, and the row's own.
#'
#' @param object,x A result of [similar_rows()], [prototype_rows()], [smallest_change()] or
#'   [local_rule()].
#' @param ... Must be empty.
#' @return A ggplot.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(similar_rows(st, which = 12))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_similar <- function(object, ...) {
  check_no_dots(..., .verb = "plot")
  d <- as_plain(object)
  number <- is.numeric(d$target)
  d$label <- factor(paste("row", d$row), rev(paste("row", d$row)))
  d$words <- if (number) "" else d$target
  own <- detail(object, "own")
  ggplot2::ggplot(d, ggplot2::aes(.data$prediction, .data$label)) +
    (if (!is.null(own)) {
        ggplot2::geom_vline(
          xintercept = own$prediction, colour = muted, linetype = "dashed"
        )
      }) +
    (if (number) {
        ggplot2::geom_segment(
          ggplot2::aes(x = .data$prediction, xend = .data$target, yend = .data$label),
          colour = hairline,
          linewidth = 1
        )
      }) +
    (if (number) {
        ggplot2::geom_point(
          ggplot2::aes(x = .data$target), shape = 22, size = 3, colour = ink, fill = paper
        )
      }) + ggplot2::geom_point(size = 3, colour = ink) +
    ggplot2::geom_text(
      ggplot2::aes(label = .data$words), hjust = -0.3, size = 3.5, colour = muted
    ) +
    ggplot2::labs(
      x = if (number) {
        detail(object, "target")
      } else {
        paste("probability of", detail(object, "class"))
      },
      y = NULL,
      title = say_similar(object),
      subtitle = paste0(
        "Solid: prediction",
        if (number) "; hollow: target" else "; beside it the true class",
        if (!is.null(own)) "; dashed: the row's own prediction", ". Model ", d$model[1],
        "."
      )
    ) + theme_dreher() + theme_of_panels()
}

#' @rdname autoplot.dreher_similar
#' @export
plot.dreher_similar <- function(x, ...) draw_now(x, ...)

#' @rdname autoplot.dreher_similar
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_change <- function(object, ...) {
  check_no_dots(..., .verb = "plot")
  d <- as_plain(object)
  if (!nrow(d)) stop_input("There is no change to draw.", say_change(object))
  d$label <- paste0(
    labels_in(object, d$predictor), ": ",
    value_words(object, data.frame(predictor = d$predictor, value = d$from)), " to ",
    value_words(object, data.frame(predictor = d$predictor, value = d$to))
  )
  step <- abs(detail(object, "threshold") - detail(object, "now")) / 20
  d$panel <- paste0("change ", d$change, ": ", format_value(d$prediction, step))
  d$label <- factor(d$label, rev(unique(d$label)))
  ggplot2::ggplot(d, ggplot2::aes(.data$size, .data$label)) +
    ggplot2::geom_segment(
      ggplot2::aes(x = 0, xend = .data$size, yend = .data$label), colour = ink, linewidth = 1
    ) + ggplot2::geom_point(size = 3, colour = ink) +
    ggplot2::facet_wrap(ggplot2::vars(.data$panel), ncol = 1, scales = "free_y") +
    ggplot2::scale_x_continuous(labels = format_percent, limits = c(0, 1)) +
    ggplot2::labs(
      x = "shift of the rank among the training rows (another level: 100 %)", y = NULL,
      title = say_change(object),
      subtitle = paste0(
        "Smallest changes that bring row ", detail(object, "which"), " to ",
        format(detail(object, "threshold")), ". Model ", detail(object, "model"), "."
      )
    ) + theme_dreher() + theme_of_panels()
}

#' @rdname autoplot.dreher_similar
#' @export
plot.dreher_change <- function(x, ...) draw_now(x, ...)

#' @rdname autoplot.dreher_similar
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_rule <- function(object, ...) {
  check_no_dots(..., .verb = "plot")
  d <- data.frame(
    row = c("where the rule holds", paste("row", object$row)),
    mean = c(object$median, object$prediction), lower = c(object$lower, NA),
    upper = c(object$upper, NA)
  )
  if (!object$given) d <- d[2, ]
  d$row <- factor(d$row, rev(d$row))
  ggplot2::ggplot(d, ggplot2::aes(.data$mean, .data$row)) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$lower, xmax = .data$upper), colour = ink, linewidth = 1,
      na.rm = TRUE
    ) + ggplot2::geom_point(size = 3.2, colour = ink) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(0.3)) +
    ggplot2::labs(
      x = if (is.na(object$class)) object$target else paste("probability of", object$class),
      y = NULL, title = say_rule(object),
      subtitle = paste0(
        "Predictions of fresh neighbours of row ", object$row, ", model ", object$model,
        "; line: the middle 90 %."
      )
    ) + theme_dreher() + theme_of_panels()
}

#' @rdname autoplot.dreher_similar
#' @export
plot.dreher_rule <- function(x, ...) draw_now(x, ...)

#' @export
summary.dreher_similar <- function(object, ...) as_plain(object)

#' @export
summary.dreher_change <- function(object, ...) as_plain(object)

#' @export
summary.dreher_rule <- function(object, ...) as.data.frame(object)
