# What all steps of the command say and do.

wrong_usage <- function(...) {
  stop(structure(
    class = c("dreher_usage", "error", "condition"), list(message = paste0(...))
  ))
}

make_folder <- function(path) {
  if (!dir.exists(path) && !dir.create(path, recursive = TRUE, showWarnings = FALSE)) {
    stop_input(paste0("The folder \"", path, "\" cannot be made."))
  }
  normalizePath(path)
}

tell <- function(...) writeLines(paste0(...), stderr())

save_picture <- function(plot, file) {
  ggplot2::ggsave(file, plot, width = 12.8, height = 8, dpi = 100, bg = paper)
}

in_words <- function(text) trimws(strsplit(text, ",", fixed = TRUE)[[1]])
