# What is said while the command works.

# On a terminal a bar; in a file or a pipe a line now and then, from the first minute on.
tell_progress <- function(code) {
  if (isatty(stderr())) {
    old <- options(dreher.progress = TRUE)
    on.exit(options(old), add = TRUE)
    return(code)
  }
  old <- options(progressr.enable = TRUE)
  on.exit(options(old), add = TRUE)
  began <- told <- proc.time()[[3]]
  steps <- done <- 0
  outer <- NULL
  withCallingHandlers(code, progression = function(p) {
    if (identical(p$type, "initiate") && is.null(outer)) {
      outer <<- p$progressor_uuid
      steps <<- p$steps
      done <<- 0
      began <<- proc.time()[[3]]
    }
    # What pieces do inside has progress of its own, which is not counted.
    if (!identical(p$progressor_uuid, outer)) return(invisible())
    if (p$type %in% c("finish", "shutdown")) outer <<- NULL
    if (identical(p$type, "update")) {
      done <<- done + p$amount
      now <- proc.time()[[3]]
      if (done < steps && now - told >= 60) {
        told <<- now
        left <- (now - began) / done * (steps - done)
        tell(
          done,
          " of ",
          steps,
          " pieces; about ",
          in_time(left),
          " left"
        )
      }
    }
  })
}
