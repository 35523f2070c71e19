#' Draw what the checks found, and how two sets of rows differ
#'
#' Findings: one row per column, one place per kind of finding. Drift: how far each column's
#' distribution in the second set is from the first.
#'
#' @param object,x A result of [check_data()] or [find_drift()].
#' @param ... Must be empty.
#' @param top At most so many rows: the gravest findings, or the largest distances.
#' @return A ggplot.
#' @section Reading the result: Findings: solid squares are severe, diamonds doubts, small circles
#'   notes. Drift: dots with intervals; a hollow dot is what sets of these sizes show by chance;
#'   solid dots differ beyond chance, all columns together.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot(check_data(st))
#' plot(find_drift(st, models = character()))
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_checks <- function(object, ..., top = 25) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 1)
  d <- as_plain(object)
  title <- say_checks_briefly(d)
  shown <- utils::head(unique(d$predictor), top)
  more <- length(unique(d$predictor)) - length(shown)
  subtitle <- paste0(
    count_of(detail(object, "n_checked"), "column", TRUE), " checked for predicting ",
    detail(object, "target"), ". Solid squares: severe; diamonds: doubts; circles: notes",
    if (more > 0) paste0("; ", more, " with lesser findings are left out"), "."
  )
  d <- d[d$predictor %in% shown, ]
  if (!nrow(d)) {
    return(
      ggplot2::ggplot() + ggplot2::labs(title = title, subtitle = subtitle) +
        theme_dreher()
    )
  }
  labels <- detail(object, "labels")
  name <- ifelse(d$predictor %in% names(labels), labels[d$predictor], d$predictor)
  name <- shorten(name, 28)
  d$row <- factor(d$predictor, rev(unique(d$predictor)))
  d$kind <- factor(d$finding, intersect(check_findings, d$finding))
  ggplot2::ggplot(d, ggplot2::aes(.data$kind, .data$row)) +
    ggplot2::geom_point(
      ggplot2::aes(shape = .data$severity, fill = .data$severity, size = .data$severity),
      colour = ink,
      stroke = 0.8
    ) +
    ggplot2::geom_text(
      ggplot2::aes(label = short_evidence(.data$evidence, .data$unit)),
      hjust = -0.35,
      size = 3.3,
      colour = muted
    ) + ggplot2::scale_y_discrete(labels = stats::setNames(name, d$predictor)) +
    ggplot2::scale_shape_manual(values = c(severe = 22, doubt = 23, note = 21)) +
    ggplot2::scale_fill_manual(
      values = c(severe = ink, doubt = "#A9B4BA", note = paper)
    ) + ggplot2::scale_size_manual(values = c(severe = 5, doubt = 4.4, note = 2.6)) +
    ggplot2::scale_x_discrete(
      position = "top", labels = function(x) gsub(" ", "\n", x), drop = TRUE
    ) + ggplot2::labs(x = NULL, y = NULL, title = title, subtitle = subtitle) +
    theme_dreher() + theme_of_panels()
}

# The number behind a finding, where it needs no words: shares, levels, rows, correlations.
short_evidence <- function(evidence, unit) {
  value <- vapply(evidence, function(e) format(signif(e, 2), big.mark = ","), "")
  bare <- c("levels", "rows", "rank correlation", "AUC", "distance, 0 to 1")
  ifelse(unit == "% of the rows", paste(value, "%"), ifelse(unit %in% bare, value, ""))
}

say_checks_briefly <- function(d) {
  severe <- unique(d$predictor[d$severity == "severe"])
  doubt <- setdiff(d$predictor[d$severity == "doubt"], severe)
  said <- c(
    if (length(severe)) paste0("severe: ", list_few(name_about(severe))),
    if (length(doubt)) paste0("in doubt: ", list_few(name_about(doubt)))
  )
  if (!length(said)) return("No severe finding and no doubt.")
  capitalised(paste0(paste(said, collapse = "; "), "."))
}

#' @rdname autoplot.dreher_checks
#' @export
plot.dreher_checks <- function(x, ...) draw_now(x, ...)

#' @rdname autoplot.dreher_checks
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_drift <- function(object, ..., top = 25) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 1)
  d <- as_plain(object)
  d <- d[!is.na(d$distance), ]
  d <- utils::head(d, top)
  labels <- detail(object, "labels")
  name <- ifelse(d$predictor %in% names(labels), labels[d$predictor], d$predictor)
  name[d$predictor == about_target] <- paste(detail(object, "target"), about_target)
  name <- shorten(name, 32)
  d$row <- factor(d$predictor, rev(d$predictor))
  d$beyond <- d$p_adjusted < 0.05
  ggplot2::ggplot(d, ggplot2::aes(.data$distance, .data$row)) +
    ggplot2::geom_point(
      ggplot2::aes(x = .data$expected),
      shape = 21,
      fill = paper,
      colour = muted,
      size = 2,
      na.rm = TRUE
    ) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$lower, xmax = .data$upper),
      colour = ink,
      linewidth = 0.7,
      na.rm = TRUE
    ) +
    ggplot2::geom_point(
      ggplot2::aes(fill = .data$beyond), shape = 21, size = 3, colour = ink
    ) +
    ggplot2::scale_fill_manual(
      values = c(`TRUE` = ink, `FALSE` = paper), na.value = paper
    ) + ggplot2::scale_y_discrete(labels = stats::setNames(name, d$predictor)) +
    ggplot2::labs(
      x = "distance of the two distributions, 0 to 1",
      y = NULL,
      title = say_drift(object),
      subtitle = paste0(
        list_words(detail(object, "sets")),
        " rows. Lines: intervals; small hollow dots: what ",
        "chance shows in sets of these sizes; solid: beyond chance, all columns ",
        "together."
      )
    ) + theme_dreher() + theme_of_panels()
}

#' @rdname autoplot.dreher_checks
#' @export
plot.dreher_drift <- function(x, ...) draw_now(x, ...)

#' Draw the distribution of one predictor
#'
#' By the target, by sets of rows, or by the groups of another column.
#'
#' @param study A [study()].
#' @param predictor Name of the column.
#' @param by `"target"` (default), `"rows"` (training and holdout rows), or the name of a column.
#' @param ... Must be empty.
#' @return A ggplot.
#' @section Reading the result: A number by a number: each dot is a row, the line joins the medians
#'   of twenty bins. Otherwise: numbers as boxes (median, quartiles, the middle 90 %), levels as the
#'   shares they have in each group.
#' @section Errors: No such column; `by = "rows"` without training rows; a group column of more
#'   than 12 levels.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' plot_distribution(st, "peak_temp")
#' plot_distribution(st, "peak_temp", by = "clay_source")
#' @export
plot_distribution <- function(study, predictor, ..., by = "target") {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "plot_distribution")
  predictor <- check_string(predictor, "predictor")
  check_columns(study$data, predictor, "data", "The predictor")
  by <- check_string(by, "by")
  d <- rows_by(study, predictor, by)
  number <- is.numeric(d$x) && !is.factor(d$x)
  if (number && is.numeric(d$group) && !is.factor(d$group)) {
    return(draw_cloud(study, d, predictor))
  }
  if (!number && is.numeric(d$group) && !is.factor(d$group)) {
    # levels against a number: the number's boxes by level
    d <- data.frame(x = d$group, group = text_factor(as.character(d$x)))
    return(draw_boxes(study, d, predictor, study$target))
  }
  d$group <- text_factor(as.character(d$group))
  if (number) draw_boxes(study, d, by, predictor) else draw_shares(study, d, predictor, by)
}

# x: the predictor's values; group: what they are set against.
rows_by <- function(st, predictor, by) {
  if (by == "rows") {
    train <- need_train(st, "by = \"rows\"")
    check_columns(train, predictor, "train", "The predictor")
    values <- rbind_values(train[[predictor]], st$data[[predictor]])
    return(list(
      x = values, group = rep(c("training", "holdout"), c(nrow(train), nrow(st$data)))
    ))
  }
  column <- if (by == "target") st$target else by
  check_columns(st$data, column, "data", "The column of `by`")
  list(x = plain_column(st$data[[predictor]]), group = plain_column(st$data[[column]]))
}

plain_column <- function(x) {
  if (is.factor(x) || is.character(x) || is.logical(x)) as.character(x) else as.double(x)
}

rbind_values <- function(a, b) c(plain_column(a), plain_column(b))

draw_cloud <- function(st, d, predictor) {
  d <- data.frame(x = d$x, y = d$group)
  d <- d[is.finite(d$x) & is.finite(d$y), ]
  cuts <- unique(stats::quantile(d$x, seq(0, 1, 0.05), names = FALSE))
  bin <- if (length(cuts) > 1) cut(d$x, cuts, include.lowest = TRUE) else rep(1, nrow(d))
  middle <- data.frame(
    x = tapply(d$x, bin, stats::median), y = tapply(d$y, bin, stats::median)
  )
  if (nrow(d) > 3000) d <- d[unique(round(seq(1, nrow(d), length.out = 3000))), ]
  ggplot2::ggplot(d, ggplot2::aes(.data$x, .data$y)) +
    ggplot2::geom_point(colour = muted, alpha = 0.35, size = 1.4) +
    ggplot2::geom_line(data = middle, colour = ink, linewidth = 1, na.rm = TRUE) +
    ggplot2::labs(
      x = labels_of(st, predictor), y = st$target,
      title = paste0(labels_of(st, predictor), " and ", st$target),
      subtitle = paste0(
        format_number(nrow(st$data)), " ", rows_word(st),
        " rows; the line joins the medians of twenty bins."
      )
    ) + theme_dreher()
}

most_groups <- 12L

check_groups <- function(group, by) {
  if (nlevels(group) > most_groups) {
    stop_input(
      paste0("\"", by, "\" has ", nlevels(group), " groups, too many to draw."),
      paste0("At most ", most_groups, " fit."), "Cut it into a few, in a column of its own."
    )
  }
}

# d: x a number, group a factor.
draw_boxes <- function(st, d, by, name) {
  d <- data.frame(x = d$x, group = d$group)
  check_groups(d$group, by)
  d <- d[is.finite(d$x) & !is.na(d$group), ]
  boxes <- do.call(rbind, lapply(split(d, d$group), function(g) {
    q <- stats::quantile(g$x, c(0.05, 0.25, 0.5, 0.75, 0.95), names = FALSE)
    data.frame(
      group = g$group[1], low = q[1], first = q[2], middle = q[3], third = q[4], high = q[5],
      n = nrow(g)
    )
  }))
  boxes$row <- factor(boxes$group, rev(levels(d$group)))
  ggplot2::ggplot(boxes, ggplot2::aes(.data$middle, .data$row)) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$low, xmax = .data$high), colour = muted, linewidth = 0.7
    ) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$first, xmax = .data$third), colour = ink, linewidth = 4
    ) +
    ggplot2::geom_point(shape = 21, size = 3, fill = paper, colour = ink) +
    ggplot2::geom_text(
      ggplot2::aes(x = Inf, label = paste0(format_number(.data$n), " rows")), hjust = 1.1,
      size = 3.3, colour = muted
    ) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.05, 0.15))) +
    ggplot2::labs(
      x = labels_of(st, name), y = NULL,
      title = paste0(labels_of(st, name), " by ", name_of_groups(st, by)),
      subtitle = "Dot: median; thick line: the middle half; thin line: the middle 90 %."
    ) + theme_dreher() + theme_of_panels()
}

name_of_groups <- function(st, by) {
  if (by == "rows") return("set of rows")
  if (by == "target") return(st$target)
  unname(labels_of(st, by))
}

draw_shares <- function(st, d, predictor, by) {
  d <- data.frame(x = as.character(d$x), group = d$group)
  d$x[is.na(d$x)] <- "missing"
  check_groups(d$group, by)
  often <- names(sort(table(d$x), decreasing = TRUE))
  if (length(often) > 15) {
    d$x[!d$x %in% often[1:14]] <- "others"
    often <- c(often[1:14], "others")
  }
  counts <- as.data.frame(table(x = d$x, group = d$group), responseName = "n")
  counts$share <- counts$n / tapply(counts$n, counts$group, sum)[counts$group]
  counts$row <- factor(counts$x, rev(often))
  ggplot2::ggplot(counts, ggplot2::aes(.data$share, .data$row)) +
    ggplot2::geom_col(fill = ink, width = 0.6) +
    ggplot2::facet_wrap(~group) +
    ggplot2::scale_x_continuous(labels = format_percent) +
    ggplot2::labs(
      x = "share of the rows of each group", y = NULL,
      title = paste0(labels_of(st, predictor), " by ", name_of_groups(st, by)),
      subtitle = paste0("The shares of a group add up to 100 %.")
    ) + theme_dreher()
}
