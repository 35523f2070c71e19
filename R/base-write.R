# Files are written whole or not at all: beside their place first, checked, then renamed.

# write(path): writes the file to that path.
write_whole <- function(file, write) {
  refuse_target(file)
  beside <- tempfile(paste0(".", basename(file), "-"), dirname(file))
  on.exit(unlink(beside), add = TRUE)
  unwritable <- function(e) {
    stop_input(
      paste0("The file \"", file, "\" cannot be written."),
      conditionMessage(e),
      "Is the folder writable, and room on the disk?"
    )
  }
  tryCatch(
    {
      write(beside)
      if (!file.exists(beside)) stop("nothing was written")
      if (!file.rename(beside, file)) stop("it cannot be put in its place")
    },
    error = function(e) if (inherits(e, "dreher_error")) stop(e) else unwritable(e),
    # Base R's warnings are the file system's; those of libraries have classes of their own.
    simpleWarning = unwritable
  )
  invisible(file)
}

refuse_target <- function(file) {
  if (!dir.exists(dirname(file))) {
    stop_input(
      paste0("The folder \"", dirname(file), "\" does not exist."), todo = "Make it first."
    )
  }
  if (dir.exists(file)) stop_input(paste0("\"", file, "\" is a folder, not a file."))
}

# Text in UTF-8 with plain line ends; a file cut short by a full disk is an error.
write_text <- function(text, file) {
  bytes <- charToRaw(paste0(paste(enc2utf8(text), collapse = "\n"), "\n"))
  write_whole(file, function(path) {
    writeBin(bytes, path)
    if (!identical(file.size(path), as.double(length(bytes)))) stop("the disk is full")
  })
}

# A file that is finished elsewhere, copied to its place.
copy_whole <- function(from, file) {
  write_whole(file, function(path) {
    copied <- file.copy(from, path, overwrite = TRUE)
    same <- identical(unname(tools::md5sum(path)), unname(tools::md5sum(from)))
    if (!copied || !same) stop("the disk is full")
  })
}
