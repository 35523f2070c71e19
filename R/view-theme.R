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
  ggplot2::theme_minimal(base_size = base_size) +
    ggplot2::theme(
      plot.background = ggplot2::element_rect(fill = paper, colour = NA),
      panel.background = ggplot2::element_rect(fill = paper, colour = NA),
      panel.grid.major = ggplot2::element_line(colour = hairline, linewidth = 0.4),
      panel.grid.minor = ggplot2::element_blank(),
      text = ggplot2::element_text(colour = ink),
      axis.text = ggplot2::element_text(colour = ink),
      axis.title = ggplot2::element_text(colour = muted, size = ggplot2::rel(0.9)),
      strip.text = ggplot2::element_text(colour = ink, face = "bold", hjust = 0),
      plot.title = ggplot2::element_text(face = "bold", size = ggplot2::rel(1.2), lineheight = 1.1),
      plot.subtitle = ggplot2::element_text(colour = muted, lineheight = 1.1, margin = ggplot2::margin(b = 10)),
      plot.caption = ggplot2::element_text(colour = muted, hjust = 0, lineheight = 1.1),
      plot.title.position = "plot", plot.caption.position = "plot", legend.position = "none",
      plot.margin = ggplot2::margin(14, 16, 10, 14))
}

wrap_text <- function(text, width = 95) paste(strwrap(text, width), collapse = "\n")
