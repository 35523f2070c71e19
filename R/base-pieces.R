# Pieces of work, spread over the workers of the user's future::plan().
#
# Every piece draws from its own stream (base-seeds.R), so the number of workers changes nothing.
# Progress is signalled through progressr: see base-progress.R.

map_pieces <- function(pieces, fun, ..., label = NULL) {
  with_bar(map_in_turn(pieces, fun, ..., label = label))
}

map_in_turn <- function(pieces, fun, ..., label) {
  step <- progressr::progressor(along = pieces)
  do_piece <- function(piece, ...) {
    value <- fun(piece, ...)
    step(message = label)
    value
  }
  # Without workers a plain loop: errors keep their class and interrupts act at once.
  if (future::nbrOfWorkers() == 1) return(lapply(pieces, do_piece, ...))
  with_workers(tryCatch(
    future.apply::future_lapply(
      pieces, do_piece, ..., future.seed = NULL, future.packages = "dreher",
      future.scheduling = 4
    ),
    FutureError = function(e) {
      stop_dreher(
        "study", "A worker ended while at work.", conditionMessage(e),
        "Is there too little memory? Use fewer workers."
      )
    }
  ))
}

# Workers that are interrupted at work send their answers to whoever asks next: they are started
# anew.
with_workers <- function(code) {
  tryCatch(code, interrupt = function(e) {
    suspendInterrupts(restart_workers())
    rlang::interrupt()
  })
}

# Here, one after the other, whatever workers there are.
map_here <- function(pieces, fun, label = NULL) {
  in_turn <- function() {
    step <- progressr::progressor(along = pieces)
    lapply(pieces, function(piece) {
      value <- fun(piece)
      step(message = label)
      value
    })
  }
  with_bar(in_turn())
}

# The same for long runs: a piece that fails is tried once more, in this process; the others go
# on. With a run folder every finished piece is written down at once, and those written down
# before are not done again.
#
# keys: a name per piece. sound(key, value): is this what the piece gives? Asked of what a folder
# holds. narrow(piece, arguments): the arguments without what this piece does not need, before
# they go to a worker. cost: about what each piece takes, in any unit; where there are workers the
# longest go first, so that none is left over with a long one at the end. -> list(values (NULL
# where a piece failed), failed: data frame of key and error)
run_pieces <- function(
    pieces, keys, fun, ..., folder = NULL, about = NULL, sound = NULL, label = NULL,
    narrow = NULL, cost = NULL) {
  names(pieces) <- keys
  values <- stats::setNames(vector("list", length(pieces)), keys)
  errors <- stats::setNames(rep(NA_character_, length(pieces)), keys)
  run <- NULL
  task <- take_task(folder)
  todo <- keys <- keys_of_task(keys, task)
  if (!is.null(folder)) {
    run <- open_folder(folder_of_task(folder, task), about)
    on.exit(close_folder(run), add = TRUE)
    if (is.null(task)) gather_tasks(run, folder, about)
    known <- read_folder(run$con, keys, sound)
    values[names(known)] <- known
    todo <- setdiff(keys, names(known))
  }
  if (future::nbrOfWorkers() > 1) todo <- longest_first(todo, names(pieces), cost)
  n <- length(todo)
  estimate <- tell_long_runs(n)
  step <- function() NULL
  settle <- function(key, got) {
    attempts <- 1L
    if (!is.null(got$error) && !isTRUE(got$lethal)) {
      attempts <- 2L
      got <- try_piece(fun, pieces[[key]], ...)
    }
    if (is.null(got$error)) values[key] <<- list(got$value) else errors[[key]] <<- got$error
    if (!is.null(run)) {
      write_folder(run$con, key, got$value, got$seconds, attempts, got$error)
    }
    settled <<- settled + 1
    step(message = label)
    estimate()
  }
  settled <- 0
  all_of_them <- function() {
    step <<- progressr::progressor(steps = n)
    if (future::nbrOfWorkers() == 1) {
      for (key in todo) settle(key, try_piece(fun, pieces[[key]], ...))
    } else {
      with_workers(spread_pieces(pieces[todo], fun, settle, narrow, ...))
    }
  }
  watch_pieces(with_bar(all_of_them()), folder, length(keys), function() {
    length(keys) - n + settled
  })
  failed <- !is.na(errors)
  if (!is.null(task)) end_task(task, keys, failed[keys])
  list(
    values = values,
    failed = data.frame(key = keys[failed], error = unname(errors[failed]))
  )
}

# cost: along `keys`, or NULL.
longest_first <- function(todo, keys, cost) {
  if (is.null(cost)) todo else todo[order(-cost[match(todo, keys)])]
}

# As many pieces under way as there are workers; each is settled when it is done, whatever the
# order. A worker that ends while at work takes only its piece: the piece is tried once more, alone
# on a new worker, and never in this process, which it would end as well.
spread_pieces <- function(pieces, fun, settle, narrow, ...) {
  if (is.null(narrow)) narrow <- function(piece, arguments) arguments
  shared <- share_arguments(list(...), narrow)
  on.exit(shared$end(), add = TRUE)
  start <- function(key) start_piece(fun, pieces[[key]], shared$of(pieces[[key]]))
  left <- names(pieces)
  lost <- character()
  why <- character()
  unstarted <- 0
  while (length(left)) {
    ended <- run_round(left, start, settle, shared$send)
    left <- ended$left
    lost <- c(lost, ended$lost)
    why <- c(why, ended$why)
    if (!length(left)) break
    # Workers that cannot be started again leave the rest to this process.
    unstarted <- if (ended$settled) 0 else unstarted + 1
    restart_workers()
    if (unstarted > 1) {
      for (key in setdiff(left, lost)) {
        settle(key, list(error = "no worker", seconds = NA_real_))
      }
      left <- character()
    }
  }
  for (key in unique(lost)) {
    restart_workers()
    ended <- run_round(key, start, settle, shared$send)
    if (ended$settled) next
    settle(
      key,
      list(
        error = "Its worker ended twice while at work on it. Is there too little memory?",
        seconds = NA_real_,
        lethal = TRUE
      )
    )
  }
  if (length(lost)) {
    restart_workers()
    warn_dreher(
      "workers",
      paste0(
        "A worker ended while at work, ", length(lost),
        if (length(lost) == 1) " time" else " times", "; the piece ",
        quote_some(unique(lost), 3), " was tried again.",
        if (length(why)) paste0(" What was said of it: ", strtrim(why[[1]], 160))
      ),
      "Too little memory is the usual cause: use fewer workers."
    )
  }
}

start_piece <- function(fun, piece, arguments) {
  tryCatch(
    future::futureCall(
      try_shared,
      args = list(fun, piece, arguments),
      globals = FALSE,
      packages = "dreher",
      seed = NULL,
      conditions = character()
    ),
    error = function(e) NULL
  )
}

# Pieces spread over the workers until all are settled or a worker ends. -> list(left: not begun,
# lost: pieces whose worker ended, why: what was said of them, settled: was any). send(): called
# when a worker does not see what is shared; its piece is then started again.
run_round <- function(keys, start, settle, send) {
  running <- list()
  lost <- character()
  why <- character()
  settled <- FALSE
  broken <- FALSE
  while (length(running) || (length(keys) && !broken)) {
    while (length(keys) && !broken && length(running) < future::nbrOfWorkers()) {
      begun <- start(keys[1])
      broken <- is.null(begun)
      if (broken) break
      running[[keys[1]]] <- begun
      keys <- keys[-1]
    }
    ready <- vapply(
      running, function(f) tryCatch(future::resolved(f), error = function(e) TRUE), NA
    )
    # A job may have left its queue before its result is seen: it looks lost for a moment.
    if (any(vapply(running[ready], inherits, NA, "BatchtoolsFuture"))) Sys.sleep(2)
    for (key in names(running)[ready]) {
      got <- tryCatch(value_of_future(running[[key]]), error = function(e) {
        why[[key]] <<- strsplit(conditionMessage(e), "\n", fixed = TRUE)[[1]][1]
        NULL
      })
      running[[key]] <- NULL
      if (is.null(got)) {
        lost <- c(lost, key)
        broken <- TRUE
      } else if (isTRUE(got$absent)) {
        send()
        keys <- c(key, keys)
      } else {
        settle(key, got)
        settled <- TRUE
      }
    }
    if (!any(ready)) Sys.sleep(0.005)
  }
  list(left = keys, lost = lost, why = why, settled = settled)
}

# A scheduler that is busy may not answer at once; what futures say of a worker is final.
value_of_future <- function(f, tries = 3, pause = 2) {
  for (i in seq_len(tries)) {
    got <- tryCatch(future::value(f), error = identity)
    if (!inherits(got, "error")) return(got)
    if (inherits(got, "FutureError")) break
    if (i < tries) Sys.sleep(pause)
  }
  stop(got)
}

# The user's plan, made anew.
restart_workers <- function() {
  tryCatch(
    {
      plan <- lapply(future::plan("list"), without_lost_workers)
      future::plan("sequential")
      future::plan(plan)
    },
    error = function(e) NULL,
    warning = function(w) NULL
  )
}

# Workers that the user has started are not ours to start again: those that answer go on.
without_lost_workers <- function(strategy) {
  workers <- formals(strategy)$workers
  if (!inherits(workers, "cluster")) return(strategy)
  answers <- vapply(seq_along(workers), function(i) {
    tryCatch(
      isTRUE(parallel::clusterCall(workers[i], function() TRUE)[[1]]),
      error = function(e) FALSE
    )
  }, NA)
  if (all(answers) || !any(answers)) return(strategy)
  future::tweak(strategy, workers = workers[answers])
}
