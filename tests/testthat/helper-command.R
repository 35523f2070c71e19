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

# Starts R with these words, and does not wait for its end. -> its process number
start_r <- function(...) {
  file <- tempfile()
  words <- paste(shQuote(c(file.path(R.home("bin"), "Rscript"), ...)), collapse = " ")
  system2(
    "sh", c("-c", shQuote(paste("echo $$ >", file, "; exec", words))),
    wait = FALSE, stdout = FALSE, stderr = FALSE
  )
  while (!length(pid <- if (file.exists(file)) readLines(file))) Sys.sleep(0.01)
  pid
}
