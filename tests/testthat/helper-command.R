# The command as a process. -> list(status, out: lines, err: text)
command <- function(...) {
  out <- tempfile()
  err <- tempfile()
  script <- system.file("exec", "dreher", package = "dreher")
  status <- system2(
    file.path(R.home("bin"), "Rscript"),
    shQuote(c(script, ...)),
    stdout = out,
    stderr = err
  )
  list(
    status = status,
    out = readLines(out, warn = FALSE),
    err = paste(readLines(err, warn = FALSE), collapse = "\n")
  )
}
