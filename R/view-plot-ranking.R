#' Draw a ranking
#'
#' Dot and interval per predictor, one panel per method, shares at the right edge. The title is
#' the finding.
#'
#' @param object,x A [ranking].
#' @param ... Must be empty.
#' @param model Name of the model to draw. Default: the first.
#' @param class With several classes: the class to draw. Default: all together.
#' @param top At most so many predictors; the rest are folded into one row.
#' @return A ggplot.
#' @section Reading the result: Dots further right matter more. Beside a predictor's name stands
#'   which way it acts (rises, falls, bends, mixed), where Shapley values say so. Lines are
#'   intervals for this model
#'   on new rows; where a line
#'   touches zero the interval does not exclude zero. Impurity has no
#'   interval, and is above zero even for noise.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' plot(rank_predictors(study(fit, kiln$holdout, "strength", train = kiln$train)))
#' @importFrom rlang .data
#' @exportS3Method ggplot2::autoplot
autoplot.dreher_ranking <- function(object, ..., model = NULL, class = NULL, top = 25) {
  check_no_dots(..., .verb = "plot")
  top <- check_count(top, "top", least = 2)
  if (!nrow(object)) stop_input("The ranking has no rows to draw.")
  object <- shown_ranking(object)
  part <- pick_part(object, model, class)
  labels <- detail(object, "labels")
  settings <- detail(object, "settings")
  settings <- settings[settings$model == part$model[1], ]
  settings$panel <- panel_of(settings)
  part$panel <- panel_of(part)
  panels <- panels_in(part)
  d <- fold_rest(part, labels, top, directions_of(object, part$model[1]))
  d$panel <- factor(d$panel, panels, panel_names(panels, settings))
  floor <- drawn_floor(detail(object, "floor"), part, panels, settings)
  most <- pmax(d$importance, d$upper, na.rm = TRUE)
  reach <- stats::aggregate(list(most = most), d["panel"], max, na.rm = TRUE)
  reach$row <- levels(d$row)[1]
  ggplot2::ggplot(d, ggplot2::aes(.data$importance, .data$row, colour = .data$method)) +
    ggplot2::geom_blank() + floor +
    ggplot2::geom_vline(xintercept = 0, colour = muted, linewidth = 0.4) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$lower, xmax = .data$upper), linewidth = 1, na.rm = TRUE
    ) +
    ggplot2::geom_point(
      ggplot2::aes(shape = grepl("not above floor", .data$flag)), size = 2.6, na.rm = TRUE
    ) + ggplot2::scale_shape_manual(values = c(`FALSE` = 16, `TRUE` = 1)) +
    ggplot2::geom_blank(
      ggplot2::aes(x = .data$most * 1.28, y = .data$row),
      data = reach,
      inherit.aes = FALSE
    ) +
    ggplot2::geom_text(
      ggplot2::aes(x = Inf, label = format_percent(.data$share)),
      hjust = 1.05,
      size = 3.3,
      colour = muted
    ) +
    ggplot2::facet_wrap(
      ggplot2::vars(.data$panel),
      nrow = 1,
      scales = if (several_units(panels, settings)) "free_x" else "fixed"
    ) + ggplot2::scale_colour_manual(values = method_colours()) +
    ggplot2::scale_x_continuous(
      breaks = scales::breaks_extended(4),
      labels = scales::label_number(drop0trailing = TRUE)
    ) +
    ggplot2::labs(
      x = NULL,
      y = NULL,
      title = say_ranking(main_part(part), labels),
      subtitle = say_subtitle(object, part, settings),
      caption = paste0(
        say_caption(settings[settings$panel %in% panels, ], object),
        suspects_note(part, labels), if (!is.null(floor)) floor_note
      )
    ) + theme_dreher() + theme_of_panels()
}

floor_note <- paste0(
  " Noise floor: the importance that permuted copies reach in refits; hollow: does not ",
  "exceed ", "it."
)

# Are different things measured in the panels?
several_units <- function(panels, settings) {
  length(unique(settings$measures[match(panels, settings$panel)])) > 1
}

#' @rdname autoplot.dreher_ranking
#' @export
plot.dreher_ranking <- function(x, ...) draw_now(x, ...)

pick_part <- function(x, model, class) {
  whole <- as_plain(x)
  model <- if (is.null(model)) {
    whole$model[1]
  } else {
    check_choice(model, unique(whole$model), "model")
  }
  part <- whole[whole$model == model, ]
  if (is.null(class)) {
    part[is.na(part$class), ]
  } else {
    check_choice(class, unique(stats::na.omit(part$class)), "class")
    part[part$class %in% class, ]
  }
}

# What decoys reach, shaded and named, in the panels it was computed for.
drawn_floor <- function(floor, part, panels, settings) {
  if (is.null(floor)) return(NULL)
  of <- floor$table[
    floor$table$model == part$model[1] &
      !duplicated(floor$table[c("model", "method", "form", "rows")]),

  ]
  of$panel <- panel_of(of)
  of <- of[of$panel %in% panels, ]
  if (!nrow(of)) return(NULL)
  of$panel <- factor(of$panel, panels, panel_names(panels, settings))
  floor_layers(of)
}

# of: per panel the floor.
floor_layers <- function(of) {
  list(
    ggplot2::geom_rect(
      ggplot2::aes(xmin = 0, xmax = .data$floor, ymin = -Inf, ymax = Inf),
      data = of,
      inherit.aes = FALSE,
      fill = muted,
      alpha = 0.15
    ),
    ggplot2::geom_vline(
      ggplot2::aes(xintercept = .data$floor),
      data = of,
      linetype = "22",
      colour = muted,
      linewidth = 0.5
    ),
    ggplot2::geom_text(
      ggplot2::aes(x = .data$floor, y = 0.55, label = "noise floor"),
      data = of,
      inherit.aes = FALSE,
      hjust = -0.08,
      vjust = 0,
      size = 3.2,
      colour = muted
    )
  )
}

panel_names <- function(panels, settings) {
  i <- match(panels, settings$panel)
  what <- ifelse(
    is.na(settings$scale[i]) | settings$scale[i] == "score",
    settings$measures[i],
    ifelse(
      settings$scale[i] == "link", "mean |value|, link scale", "mean |Shapley value|"
    )
  )
  # Panels are as wide as the figure over their number.
  room <- max(12, 72 %/% length(panels))
  below <- function(text) paste(strwrap(text, room), collapse = "\n")
  paste0(panels, "\n", vapply(what, below, ""))
}

# The first `top` predictors by mean rank over methods, the others as one row that only has a share.
fold_rest <- function(part, labels, top, directions = NULL) {
  order <- order_by_rank(part)
  rest <- setdiff(order, shown_of(part, order, top))
  d <- part[!part$predictor %in% rest, ]
  flagged <- unique(d$predictor[grepl("possible leak|identifier", d$flag)])
  name <- shorten(labels, 32)
  way <- directions[names(labels)]
  known <- !is.na(way) & is.na(part$class[1])
  name[known] <- paste0(name[known], ", ", way[known])
  name <- stats::setNames(
    make.unique(ifelse(names(labels) %in% flagged, paste(name, "(?)"), name), " "),
    names(labels)
  )
  d$row <- name[d$predictor]
  rows <- name[setdiff(order, rest)]
  if (length(rest)) {
    label <- if (length(rest) == 1) "1 other" else paste(length(rest), "others, together")
    folded <- do.call(
      rbind,
      lapply(split(part, part$panel), function(m) {
        out <- m[1, ]
        out[c("importance", "lower", "upper", "std_error")] <- NA_real_
        out$share <- sum(m$share[m$predictor %in% rest], na.rm = TRUE)
        out$flag <- ""
        out$row <- label
        out
      })
    )
    d <- rbind(d, folded)
    rows <- c(rows, label)
  }
  d$row <- factor(d$row, rev(unname(rows)))
  d
}

say_subtitle <- function(x, part, settings) {
  others <- setdiff(unique(x$model), part$model[1])
  paste0(
    "Predictors of ", detail(x, "target"), ", model ", part$model[1], " (",
    settings$class[1], ")", if (!is.na(part$class[1])) paste0(", class ", part$class[1]),
    if (length(others)) {
      paste0("; not drawn: ", list_words(others))
    },
    ". Percent: share of the importance."
  )
}

# What is to be looked into stands below the figure, as a question.
suspects_note <- function(part, labels) {
  say <- say_suspects(part, labels)
  if (length(say)) paste0(" ", paste(say, collapse = " ")) else ""
}

say_caption <- function(settings, x) {
  paste0(
    paste0(
      settings$panel, ": ",
      vapply(
        seq_len(nrow(settings)),
        function(i) say_settings(settings[i, ], level_shown(x, settings[i, ])),
        ""
      ),
      collapse = ". "
    ),
    "."
  )
}

#' Draw methods or models side by side
#'
#' The same predictors rank by rank, joined by lines: predictors on which the columns disagree in
#' ink, the others pale.
#'
#' @param ranking A [ranking] of at least two methods or models.
#' @param ... Must be empty.
#' @param top At most so many predictors, by mean rank.
#' @param apart Ranks that differ by more than this are drawn in ink.
#' @return A ggplot.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' plot_ranks(rank_predictors(study(fit, kiln$holdout, "strength", train = kiln$train)))
#' @export
plot_ranks <- function(ranking, ..., top = 15, apart = 3) {
  check_class(ranking, "dreher_ranking", "ranking", "a rank_*() function")
  check_no_dots(..., .verb = "plot_ranks")
  top <- check_count(top, "top", least = 2)
  apart <- check_count(apart, "apart", least = 0)
  d <- as_plain(shown_ranking(ranking))
  d <- d[is.na(d$class), ]
  heads <- heads_of_columns(d)
  d$column <- heads$column
  columns <- heads$columns
  if (length(columns) < 2) {
    stop_input(
      "There is a single method and model: nothing to lay side by side.",
      todo = "Use rank_predictors() with several of `by`, or several models."
    )
  }
  labels <- detail(ranking, "labels")
  d <- ranks_apart(d, top, apart)
  counted <- attr(d, "counted")
  d$x <- match(d$column, columns)
  d$under <- grepl("not above floor", d$flag, fixed = TRUE)
  d$label <- shorten(labels[d$predictor], 24)
  ends <- names_at_ends(d, length(columns))
  ggplot2::ggplot(
    d,
    ggplot2::aes(
      .data$x,
      .data$place,
      group = .data$predictor,
      colour = .data$inked,
      linewidth = .data$inked
    )
  ) + ggplot2::geom_line() + ggplot2::geom_point(size = 5.6, colour = paper) +
    ggplot2::geom_text(
      ggplot2::aes(label = ifelse(.data$under, paste0("(", .data$rank, ")"), .data$rank)),
      size = 3.5
    ) +
    ggplot2::geom_text(
      ggplot2::aes(x = .data$at, label = .data$label, hjust = .data$just),
      data = ends,
      size = 4
    ) + ggplot2::scale_y_reverse(breaks = NULL) +
    ggplot2::scale_x_continuous(
      breaks = heads$at,
      labels = heads$label,
      position = "top",
      limits = c(1, length(columns)) + c(-1, 1) * (if (length(columns) < 4) 0.4 else 0.33) *
        max(1, length(columns) - 1)
    ) + ggplot2::scale_colour_manual(values = c(`FALSE` = "#9AA3A8", `TRUE` = ink)) +
    ggplot2::scale_linewidth_manual(values = c(`FALSE` = 0.5, `TRUE` = 1)) +
    ggplot2::labs(
      x = NULL,
      y = NULL,
      title = say_apart(d, labels, apart),
      subtitle = apart_subtitle(d, detail(ranking, "target"), counted, apart),
      caption = heads$caption
    ) + theme_dreher() +
    ggplot2::theme(
      panel.grid.major = ggplot2::element_blank(),
      axis.text.x = ggplot2::element_text(face = "bold", lineheight = 1)
    )
}

# What stands above each column: model and method where they fit; else numbers, the methods above
# those of theirs, and what the numbers stand for below.
# -> column of every row; columns in their order; at, label; caption
heads_of_columns <- function(d, most = 6) {
  panel <- panel_of(d)
  models <- unique(d$model)
  column <- if (length(models) > 1) paste0(d$model, "\n", panel) else panel
  columns <- unique(column)
  n <- length(columns)
  if (n <= most) {
    room <- 120 / (1.7 * max(1, n - 1)) - 1
    label <- vapply(strsplit(columns, "\n", fixed = TRUE), function(parts) {
      paste(break_name(parts, room), collapse = "\n")
    }, "")
    return(list(column = column, columns = columns, at = seq_len(n), label = label))
  }
  panels <- unique(panel)
  both <- length(models) > 1 && length(panels) > 1
  if (both) {
    by <- order(match(panel, panels), match(d$model, models))
    columns <- unique(column[by])
    of <- panel[match(columns, column)]
    number <- match(d$model[match(columns, column)], models)
    middle <- tapply(seq_len(n), factor(of, panels), mean)
    room <- 120 / (1.7 * n) * min(table(of)) - 1
    above <- data.frame(at = as.vector(middle), label = break_name(panels, room, 1))
    beside <- seq_len(n) %in% above$at
    at <- c(seq_len(n)[!beside], above$at)
    label <- c(paste0("\n", number[!beside]), paste0(above$label, "\n", ifelse(
      above$at %in% seq_len(n), number[above$at], " "
    )))
  } else {
    at <- seq_len(n)
    label <- as.character(at)
  }
  named <- if (length(models) > 1) models else panels
  list(
    column = column, columns = columns, at = at, label = label,
    caption = paste0(
      if (length(models) > 1) "Models: " else "Columns: ",
      paste(seq_along(named), named, collapse = ", "), "."
    )
  )
}

# The labels beside the numbers of the first and the last column.
names_at_ends <- function(d, columns) {
  digits <- nchar(max(d$rank)) + any(d$under[d$x %in% range(d$x)])
  gap <- 0.014 * (columns - 1) * max(1, digits)
  rbind(
    transform(d[d$x == 1, ], at = 1 - 0.03 - gap, just = 1),
    transform(d[d$x == columns, ], at = columns + 0.03 + gap, just = 0)
  )
}

apart_subtitle <- function(d, target, counted, apart) {
  shown <- length(unique(d$predictor))
  paste0(
    "Ranks of the predictors of ", target,
    if (counted > shown) paste0(", the first ", shown, " of ", counted, " by mean rank"),
    ". In ink: ranks more than ", apart,
    " apart, with at least half an even share somewhere.",
    if (any(d$under)) " In brackets: not above the noise floor."
  )
}

# The first by mean rank, with their places among those shown, so that no line leaves the picture,
# and whether they are inked. Ranks of predictors that matter nowhere are settled by chance; only
# those with half an even share somewhere can disagree. Attribute `counted`: how many there are
ranks_apart <- function(d, top, apart) {
  mean_rank <- sort(tapply(d$rank, factor(d$predictor, unique(d$predictor)), mean))
  keep <- names(mean_rank)[seq_len(min(top, length(mean_rank)))]
  d <- d[d$predictor %in% keep, ]
  d$place <- stats::ave(d$rank, d$column, FUN = function(r) {
    rank(r, ties.method = "first")
  })
  spread <- tapply(d$rank, d$predictor, function(r) diff(range(r)))
  counts <- d$predictor[!is.na(d$share) & d$share >= 0.5 / length(mean_rank)]
  d$inked <- spread[d$predictor] > apart & d$predictor %in% counts
  d$order <- match(d$predictor, keep)
  structure(d, counted = length(mean_rank))
}

say_apart <- function(d, labels, apart) {
  first <- d[order(d$order), ]
  first <- first[!duplicated(first$predictor), ]
  odd <- first$predictor[first$inked]
  if (!length(odd)) {
    return(paste0(
      "The columns agree within ", count_of(apart, "rank"),
      " on every predictor that matters."
    ))
  }
  paste0(
    "They disagree by more than ", count_of(apart, "rank"), " on ",
    if (length(odd) <= 4) list_words(labels[odd]) else count_of(length(odd), "predictor"),
    if (length(odd) < nrow(first)) "; on the rest that matter they agree." else "."
  )
}
