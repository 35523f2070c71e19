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

tell <- function(...) writeLines(printable(paste0(...), "[\\n\\t]"), stderr())

# Results to standard output, in UTF-8. A full disk or a closed pipe is an error.
put_out <- function(lines) {
  lines <- printable(cli::ansi_strip(lines), "[\\n\\t]")
  fault <- write_standard_output(charToRaw(paste0(paste(lines, collapse = "\n"), "\n")))
  if (nzchar(fault)) {
    stop_input("Standard output cannot be written.", fault, "Is the disk full?")
  }
}

save_picture <- function(plot, file) {
  write_whole(file, function(path) {
    ggplot2::ggsave(
      path, plot, device = "png", width = 12.8, height = 8, dpi = 100, bg = paper
    )
    # A picture cut short lacks its last chunk.
    end <- utils::tail(readBin(path, "raw", file.size(path)), 8)
    if (!identical(end[1:4], charToRaw("IEND"))) stop("the disk is full")
  })
}

in_words <- function(text) trimws(strsplit(text, ",", fixed = TRUE)[[1]])

in_time <- function(seconds) {
  if (length(seconds) > 1) return(vapply(seconds, in_time, ""))
  if (is.na(seconds)) return("an unknown time")
  if (seconds < 90) return(paste(max(1, ceiling(seconds)), "s"))
  if (seconds < 5400) return(paste(ceiling(seconds / 60), "min"))
  paste(signif(seconds / 3600, 2), "h")
}

# Without other rows the training rows are asked, and called so.
asking_training_rows <- function(code) {
  withCallingHandlers(code, dreher_warning_rows = function(w) {
    invokeRestart("muffleWarning")
  })
}
