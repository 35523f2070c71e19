paper <- "#FBFAF7"
ink <- "#22303A"
muted <- "#6B7780"
hairline <- "#E4E0D8"

#' The look of dreher's figures
#'
#' Paper, ink and hairlines; a complete ggplot2 theme for your own figures beside dreher's.
#'
#' @param base_size Size of the text in points.
#' @return A ggplot2 theme.
#' @examples
#' ggplot2::ggplot(demo_kiln()$holdout, ggplot2::aes(peak_temp, strength)) +
#'   ggplot2::geom_point() + theme_dreher()
#' @export
theme_dreher <- function(base_size = 13) {
  fits <- is.numeric(base_size) && length(base_size) == 1 && is.finite(base_size) &&
    base_size > 0 && base_size <= 1000
  if (!fits) {
    stop_input(
      "`base_size` must be a single number of points, up to 1,000.",
      paste0("Given: ", describe_value(base_size), ".")
    )
  }
  ggplot2::theme_minimal(base_size = base_size) + ggplot2::theme(
    plot.background = ggplot2::element_rect(fill = paper, colour = NA),
    panel.background = ggplot2::element_rect(fill = paper, colour = NA),
    panel.grid.major = ggplot2::element_line(colour = hairline, linewidth = 0.4),
    panel.grid.minor = ggplot2::element_blank(),
    text = ggplot2::element_text(colour = ink),
    axis.text = ggplot2::element_text(colour = ink),
    axis.title = ggplot2::element_text(colour = muted, size = ggplot2::rel(0.9)),
    strip.text = ggplot2::element_text(colour = ink, face = "bold", hjust = 0),
    plot.title = wrapped_text(face = "bold", size = ggplot2::rel(1.2), lineheight = 1.1),
    plot.subtitle = wrapped_text(
      colour = muted, lineheight = 1.1, margin = ggplot2::margin(b = 10)
    ),
    plot.caption = wrapped_text(colour = muted, hjust = 0, lineheight = 1.1),
    plot.title.position = "plot",
    plot.caption.position = "plot",
    legend.position = "none",
    plot.margin = ggplot2::margin(14, 16, 10, 14)
  )
}

# Text that breaks its lines where the picture ends, however wide it is drawn. The width is known
# only when the picture is drawn, so the lines are broken then.
wrapped_text <- function(...) {
  out <- ggplot2::element_text(...)
  # from ggplot2 4.0 on elements are of another kind
  if (!inherits(out, "element_text")) return(out)
  class(out) <- c("dreher_wrapped", class(out))
  out
}

#' @rawNamespace S3method(ggplot2::element_grob, dreher_wrapped)
#' @noRd
element_grob.dreher_wrapped <- function(element, label = "", ...) {
  if (is.character(label) && length(label) == 1) {
    label <- break_lines(label, element$size, element$face)
  }
  class(element) <- setdiff(class(element), "dreher_wrapped")
  ggplot2::element_grob(element, label = label, ...)
}

break_lines <- function(text, size, face) {
  room <- grDevices::dev.size("in")[1] - 0.55
  words <- strsplit(gsub("\\s+", " ", text), " ")[[1]]
  width <- function(x) {
    grid::convertWidth(
      grid::grobWidth(grid::textGrob(
        x, gp = grid::gpar(fontsize = size, fontface = face)
      )),
      "in",
      valueOnly = TRUE
    )
  }
  lines <- character()
  for (word in words) {
    longer <- if (length(lines)) paste(lines[length(lines)], word) else word
    if (length(lines) && width(longer) <= room) {
      lines[length(lines)] <- longer
    } else {
      lines <- c(lines, word)
    }
  }
  paste(lines, collapse = "\n")
}

# A name over some lines with room for so many letters; what is too long is cut with a sign.
break_name <- function(x, room, lines = 2) {
  room <- max(8, floor(room))
  vapply(as.character(x), function(one) {
    broken <- strwrap(one, room + 1)
    if (length(broken) > lines) {
      rest <- paste(broken[lines:length(broken)], collapse = " ")
      broken <- c(broken[seq_len(lines - 1)], rest)
    }
    paste(shorten(broken, room), collapse = "\n")
  }, "", USE.NAMES = FALSE)
}

# Letters of a heading that fit above each of so many panels across a figure of the usual width.
room_across <- function(columns) 100 %/% columns - 3

# For facets of names of any length.
fitting_names <- function(panels) {
  across <- ggplot2::wrap_dims(length(unique(panels)))[2]
  ggplot2::as_labeller(function(x) break_name(x, room_across(across)))
}

# What plot() does: the figure is drawn, and returned.
draw_now <- function(x, ...) {
  own_settings()
  drawn <- ggplot2::autoplot(x, ...)
  print(drawn)
  invisible(drawn)
}

# The model or class that is named, which the table must have, or its first.
named_or_first <- function(table, given, column) {
  if (is.null(given)) return(table[[column]][1])
  check_choice(given, unique(table[[column]]), column)
}

# For panels of dots in rows.
theme_of_panels <- function() {
  ggplot2::theme(
    panel.grid.major.y = ggplot2::element_line(colour = hairline, linewidth = 0.3),
    panel.spacing = ggplot2::unit(18, "pt")
  )
}

# For figures whose cells or words are the scale.
theme_of_cells <- function() {
  ggplot2::theme(
    legend.position = "none",
    axis.text = ggplot2::element_blank(),
    panel.grid.major = ggplot2::element_blank(),
    panel.grid.major.x = ggplot2::element_blank(),
    panel.grid.major.y = ggplot2::element_blank()
  )
}
