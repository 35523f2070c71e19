# Slices in words and as a figure.

#' @export
print.dreher_slices <- function(x, ..., width = NULL) write_lines(x, format_slices(x), width)

format_slices <- function(x, most = 12) {
  if (!all(names(slice_columns) %in% names(x)) || !nrow(x)) {
    return(utils::capture.output(print(as_plain(x))))
  }
  d <- as_plain(x)
  sizes <- d[!duplicated(d[c("model", "slice")]), ]
  several <- length(unique(d$model)) > 1
  d <- d[order(match(d$method, slice_methods), d$p_value, -abs(d$difference)), ]
  shown <- utils::head(d, most)
  step <- ifelse(
    is.na(shown$upper), abs(shown$difference) / 10, (shown$upper - shown$lower) / 4
  )
  class <- detail(x, "class")
  predicted <- if (is.null(class)) "prediction" else paste0("p(", class, ")")
  columns <- list(
    slice = shorten(shown$slice, 24),
    model = if (several) shorten(shown$model, 10),
    what = shorten(ifelse(
      is.na(shown$predictor), ifelse(shown$method == "score", "loss", predicted),
      labels_in(x, shown$predictor)
    ), 20),
    inside = format_value(shown$importance, step),
    rest = format_value(shown$rest, step),
    difference = paste(
      signed(shown$difference, step),
      wide_brackets(shown$difference, shown$lower, shown$upper, step)
    )
  )
  columns <- Filter(Negate(is.null), columns)
  right <- names(columns) %in% c("inside", "rest", "difference")
  over <- max(nchar(lay_out(columns, right), "width")) - screen_width()
  if (over > 0) columns$slice <- shorten(columns$slice, max(12, 24 - over))
  over <- max(nchar(lay_out(columns, right), "width")) - screen_width()
  if (over > 0) columns$what <- shorten(columns$what, max(8, 20 - over))
  left <- detail(x, "left_out")
  c(
    heading(paste0(
      "Slices for ", detail(x, "target"), ": ", count_of(nrow(sizes), "slice"),
      " against the rest; loss: ", detail(x, "loss")
    )),
    shorten(lay_out(columns, right), screen_width()),
    if (nrow(d) > most) paste0(" and ", nrow(d) - most, " more: as.data.frame() shows them"),
    if (!is.null(left)) {
      wrap_lines(paste0(
        "Left out, under 5 rows inside or outside: ", quote_some(left$slice, 4), "."
      ))
    },
    "",
    wrap_lines(say_slices(x, as_plain(x)))
  )
}

say_slices <- function(x, d) {
  words <- c(
    if ("score" %in% d$method) say_slice_scores(d[d$method == "score", ]),
    say_slice_parts(x, d[d$method == "shapley", ], "contribution"),
    say_slice_parts(x, d[d$method == "permutation", ], "importance")
  )
  paste(words, collapse = " ")
}

say_slice_scores <- function(d) {
  if (all(is.na(d$p_value))) {
    return("These slices were chosen by their errors; their scores are not tested.")
  }
  worse <- unique(d$slice[!is.na(d$lower) & d$lower > 0])
  better <- unique(d$slice[!is.na(d$upper) & d$upper < 0])
  if (!length(worse) && !length(better)) {
    return("No slice is shown to be predicted worse than the rest.")
  }
  paste0(
    if (length(worse)) paste0("Predicted worse than the rest: ", list_words(worse), ". "),
    if (length(better)) paste0("Predicted better: ", list_words(better), ".")
  ) |> trimws()
}

say_slice_parts <- function(x, d, what) {
  if (!nrow(d)) return(NULL)
  sure <- d[!is.na(d$lower) & (d$lower > 0 | d$upper < 0), ]
  if (!nrow(sure)) return(paste0("No predictor's ", what, " is shown to differ."))
  lead <- sure[which.max(abs(sure$difference)), ]
  paste0(
    nrow(sure), " of ", nrow(d), " differences in ", what, " exclude zero; the largest: ",
    labels_in(x, lead$predictor), " in ", lead$slice, ", ",
    signed(lead$difference, (lead$upper - lead$lower) / 4), "."
  )
}

#' Draw slices against the rest
#'
#' A panel per slice, the differences of a quantity with their simultaneous intervals.
#'
#' @param object,x A result of [compare_slices()].
#' @param ... Must be empty.
#' @param by What is drawn: one of the methods compared. Default: `"shapley"` if it is there, else
#'   the first.
#' @param model Name of the model. Default: the first.
#' @param top At most so many predictors, and slices.
#' @return A ggplot.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(compare_slices(st, ~clay_source))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_slices <- function(object, ..., by = NULL, model = NULL, top = 10) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 1)
  d <- as_plain(object)
  if (is.null(by)) by <- if ("shapley" %in% d$method) "shapley" else d$method[1]
  by <- check_choice(by, unique(d$method), "by")
  model <- if (is.null(model)) {
    d$model[1]
  } else {
    check_choice(model, unique(d$model), "model")
  }
  d <- d[d$method == by & d$model == model, ]
  whole <- all(is.na(d$predictor))
  d$row <- if (whole) d$slice else labels_in(object, d$predictor)
  size <- sort(tapply(abs(d$difference), d$row, max), decreasing = TRUE)
  d <- d[d$row %in% names(size)[seq_len(min(top, length(size)))], ]
  d$row <- factor(shorten(d$row, 30), rev(unique(shorten(names(size), 30))))
  slices <- utils::head(unique(d$slice), top)
  d <- d[d$slice %in% slices, ]
  d$panel <- factor(
    paste0(shorten(d$slice, 34), "\n", d$n, " rows"),
    unique(paste0(shorten(d$slice, 34), "\n", d$n, " rows"))
  )
  d$sure <- !is.na(d$lower) & (d$lower > 0 | d$upper < 0)
  drawn <- ggplot2::ggplot(d, ggplot2::aes(.data$difference, .data$row)) +
    ggplot2::geom_vline(xintercept = 0, colour = muted, linewidth = 0.4) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$lower, xmax = .data$upper),
      colour = ink,
      linewidth = 0.9,
      na.rm = TRUE
    ) +
    ggplot2::geom_point(
      ggplot2::aes(fill = .data$sure), shape = 21, size = 2.8, colour = ink, stroke = 0.9
    ) + ggplot2::scale_fill_manual(values = c(`TRUE` = ink, `FALSE` = paper)) +
    ggplot2::labs(
      x = paste0(
        "difference from the rest, ",
        c(
          score = detail(object, "loss"), prediction = "prediction",
          shapley = "mean contribution", permutation = "importance"
        )[[by]]
      ),
      y = NULL,
      title = say_slices(object, d),
      subtitle = paste0(
        "Model ", model, ", ", detail(object, "target"),
        ". Solid: the interval excludes zero (simultaneous over all differences)."
      )
    ) + theme_dreher() + theme_of_panels()
  if (whole) return(drawn)
  drawn + ggplot2::facet_wrap(
    ggplot2::vars(.data$panel), nrow = if (length(slices) > 4) 2 else 1
  )
}

#' @rdname autoplot.dreher_slices
#' @export
plot.dreher_slices <- function(x, ...) draw_now(x, ...)

#' @export
summary.dreher_slices <- function(object, ...) {
  d <- as_plain(object)
  out <- do.call(rbind, lapply(split(d, factor(
    paste(d$model, d$slice), unique(paste(d$model, d$slice))
  )), function(part) {
    score <- part[part$method == "score", ]
    parts <- part[part$method %in% c("shapley", "permutation"), ]
    lead <- which.max(abs(parts$difference))
    data.frame(
      model = part$model[1], slice = part$slice[1], n = part$n[1],
      loss = if (nrow(score)) score$importance else NA_real_,
      rest = if (nrow(score)) score$rest else NA_real_,
      p_value = if (nrow(score)) score$p_value else NA_real_,
      largest = if (length(lead)) parts$predictor[lead] else NA_character_,
      difference = if (length(lead)) parts$difference[lead] else NA_real_
    )
  }))
  rownames(out) <- NULL
  out
}
