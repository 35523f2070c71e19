# What the pieces of a run have in common (the study, as a rule), written down once: a worker reads
# it when it meets the first of them, and keeps it for the next. Workers that do not see the file
# are sent it with every piece.

# narrow(piece, given): what a piece needs of it; pieces of the same model need the same.
# -> of(piece): what to send, the arguments or where they stand; send(): no file from now on; end()
share_arguments <- function(given, narrow) {
  kept <- list()
  near <- TRUE
  list(
    of = function(piece) {
      if (!near) return(narrow(piece, given))
      name <- paste0("model ", piece$model)
      if (is.null(kept[[name]])) {
        file <- tempfile("shared", fileext = ".rds")
        saveRDS(narrow(piece, given), file, compress = FALSE)
        place <- list(file = file, md5 = unname(tools::md5sum(file)))
        kept[[name]] <<- structure(place, class = "dreher_place")
      }
      kept[[name]]
    },
    send = function() near <<- FALSE,
    end = function() unlink(vapply(kept, `[[`, "", "file"))
  )
}

# In a worker: what it read last.
last_read <- new.env(parent = emptyenv())

# -> what try_piece() returns, or list(absent = TRUE)
try_shared <- function(fun, piece, arguments) {
  if (inherits(arguments, "dreher_place")) {
    if (!identical(last_read$place, arguments)) {
      md5 <- suppressWarnings(unname(tools::md5sum(arguments$file)))
      if (!identical(md5, arguments$md5)) return(list(absent = TRUE))
      assign("arguments", readRDS(arguments$file), last_read)
      assign("place", arguments, last_read)
    }
    arguments <- last_read$arguments
  }
  do.call(try_piece, c(list(fun, piece), arguments))
}

# A piece done, or what stood in its way.
try_piece <- function(fun, piece, ...) {
  start <- proc.time()[[3]]
  tryCatch(
    list(value = fun(piece, ...), seconds = proc.time()[[3]] - start),
    error = function(e) {
      pass_interrupt(e)
      list(
        error = paste(conditionMessage(e), collapse = " "),
        seconds = proc.time()[[3]] - start
      )
    }
  )
}
