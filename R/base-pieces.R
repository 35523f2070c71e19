# Pieces of work, spread over the workers of the user's future::plan().
#
# Every piece draws from its own stream (base-seeds.R), so the number of workers changes nothing.
# Progress is signalled through progressr; the user decides whether and how it is shown.

map_pieces <- function(pieces, fun, ..., label = NULL) {
  step <- progressr::progressor(along = pieces)
  do_piece <- function(piece, ...) {
    value <- fun(piece, ...)
    step(message = label)
    value
  }
  # Without workers a plain loop: errors keep their class and interrupts act at once.
  if (future::nbrOfWorkers() == 1) return(lapply(pieces, do_piece, ...))
  future.apply::future_lapply(pieces, do_piece, ..., future.seed = NULL,
                              future.packages = "dreher", future.scheduling = 4)
}

# The same for long runs: a piece that fails is tried once more, in this process; the others go
# on. With a run folder every finished piece is written down at once, and those written down
# before are not done again.
#
# keys: a name per piece. narrow(piece, arguments): the arguments without what this piece does not
# need, before they go to a worker. -> list(values (NULL where a piece failed), failed: data frame
# of key and error)
run_pieces <- function(
    pieces, keys, fun, ..., folder = NULL, about = NULL, label = NULL, narrow = NULL) {
  names(pieces) <- keys
  values <- stats::setNames(vector("list", length(pieces)), keys)
  errors <- stats::setNames(rep(NA_character_, length(pieces)), keys)
  con <- NULL
  if (!is.null(folder)) {
    con <- open_folder(folder, about)
    on.exit(DBI::dbDisconnect(con))
    known <- read_folder(con)
    known <- known[intersect(names(known), keys)]
    values[names(known)] <- known
  }
  todo <- setdiff(keys, if (is.null(con)) character() else names(known))
  step <- progressr::progressor(steps = length(todo))
  settle <- function(key, got) {
    attempts <- 1L
    if (!is.null(got$error)) {
      attempts <- 2L
      got <- try_piece(fun, pieces[[key]], ...)
    }
    if (is.null(got$error)) values[[key]] <<- got$value else errors[[key]] <<- got$error
    if (!is.null(con)) write_folder(con, key, got$value, got$seconds, attempts, got$error)
    step(message = label)
  }
  if (future::nbrOfWorkers() == 1) {
    for (key in todo) settle(key, try_piece(fun, pieces[[key]], ...))
  } else {
    spread_pieces(pieces[todo], fun, settle, narrow, ...)
  }
  failed <- !is.na(errors)
  list(
    values = values,
    failed = data.frame(key = keys[failed], error = unname(errors[failed]))
  )
}

try_piece <- function(fun, piece, ...) {
  start <- proc.time()[[3]]
  tryCatch(
    list(value = fun(piece, ...), seconds = proc.time()[[3]] - start),
    error = function(e) {
      list(
        error = paste(conditionMessage(e), collapse = " "),
        seconds = proc.time()[[3]] - start
      )
    }
  )
}

# As many pieces under way as there are workers; each is settled when it is done, whatever the
# order.
spread_pieces <- function(pieces, fun, settle, narrow, ...) {
  given <- list(...)
  if (is.null(narrow)) narrow <- function(piece, arguments) arguments
  waiting <- names(pieces)
  running <- list()
  while (length(waiting) || length(running)) {
    while (length(waiting) && length(running) < future::nbrOfWorkers()) {
      key <- waiting[1]
      waiting <- waiting[-1]
      running[[key]] <- tryCatch(
        future::futureCall(
          try_piece,
          args = c(list(fun, pieces[[key]]), narrow(pieces[[key]], given)),
          globals = FALSE,
          packages = "dreher",
          seed = NULL,
          conditions = character()
        ),
        error = function(e) conditionMessage(e)
      )
    }
    ready <- vapply(
      running,
      function(f) {
        is.character(f) || tryCatch(future::resolved(f), error = function(e) TRUE)
      },
      NA
    )  # a worker that died has no more to say
    for (key in names(running)[ready]) {
      f <- running[[key]]
      running[[key]] <- NULL
      settle(
        key,
        if (is.character(f)) {
          list(error = f)
        } else {
          tryCatch(future::value(f), error = function(e) {
            list(error = conditionMessage(e), seconds = NA_real_)
          })
        }
      )
    }
    if (!any(ready)) Sys.sleep(0.005)
  }
}
