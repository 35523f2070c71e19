# Figures of the page: vector graphics that stand in it as text, sharp at any size, with a text in
# their place for those who cannot see them, and in the page's own colours, light or dark.

# about: what the figure shows, for readers who hear it. table: the numbers behind it.
page_figure <- function(plot, about, table = NULL, width = 10.6, height = 6.8) {
  drawing <- draw_svg(plot, width, height, about)
  paste0(
    "<figure><div class=\"drawing\" role=\"group\" aria-label=\"Figure\" tabindex=\"0\">",
    drawing, "</div>",
    if (!is.null(table)) {
      paste0("<details><summary>The numbers</summary>", table, "</details>")
    },
    "</figure>"
  )
}

draw_svg <- function(plot, width, height, about) {
  drawn <- svglite::svgstring(width, height, standalone = FALSE, bg = "transparent")
  open <- grDevices::dev.cur()
  on.exit(if (open %in% grDevices::dev.list()) grDevices::dev.off(open), add = TRUE)
  print(untitled(plot))
  grDevices::dev.off(open)
  inline_svg(paste(drawn(), collapse = "\n"), about)
}

# One of several drawings in a page: its own names for clip paths, no styles of its own, a size
# that follows the page, and colours by name.
inline_svg <- function(svg, about) {
  mark <- short_print(c(svg, about))
  svg <- sub("^.*?(<svg)", "\\1", gsub("\n", " ", svg))
  svg <- gsub("<defs>\\s*<style.*?</style>\\s*</defs>", "", svg, perl = TRUE)
  svg <- gsub("<defs>\\s*</defs>", "", svg)
  svg <- gsub("id='cp([^']*)'", paste0("id='c", mark, "\\1'"), svg)
  svg <- gsub("url(#cp", paste0("url(#c", mark), svg, fixed = TRUE)
  # base64 in a name ends in signs that a name may not hold
  svg <- gsub("(c[0-9a-f]{8}[A-Za-z0-9+/|]*)=+", "\\1", svg, perl = TRUE)
  svg <- gsub("font-family: [^;]*;", "", svg)
  colours <- c(
    "#FBFAF7" = "var(--paper)", "#FFFFFF" = "var(--paper)", "#22303A" = "var(--ink)",
    "#000000" = "var(--ink)", "#6B7780" = "var(--muted)", "#E4E0D8" = "var(--line)"
  )
  for (colour in names(colours)) svg <- gsub(colour, colours[[colour]], svg, fixed = TRUE)
  size <- regmatches(svg, regexpr("viewBox='[^']*'", svg))
  sub(
    "<svg[^>]*>",
    paste0(
      "<svg class=\"svglite\" ", size, " role=\"img\" aria-label=\"", escape(about), "\">"
    ),
    svg
  )
}

# The sentence stands above the picture in the page.
untitled <- function(plot) plot + ggplot2::labs(title = NULL)
