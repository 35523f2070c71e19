# Progress. Loops of pieces signal it through progressr; in interactive R and on terminals a bar is
# drawn of what takes more than two seconds, unless the user shows progress in a way of their own or
# has switched it off by options(dreher.progress = FALSE).

with_bar <- function(code) {
  warn_once(
    if (wants_bar()) {
      progressr::with_progress(code, handlers = progress_bar(), enable = TRUE, cleanup = TRUE)
    } else {
      code
    }
  )
}

wants_bar <- function() {
  wants_progress() && !shows_progress()
}

wants_progress <- function() {
  asked <- getOption("dreher.progress")
  if (is.null(asked)) {
    interactive() && !isTRUE(getOption("knitr.in.progress"))
  } else {
    isTRUE(asked)
  }
}

# Is progress shown already, by the user or further out?
shows_progress <- function() {
  if (isTRUE(progressr::handlers(global = NA))) return(TRUE)
  for (i in seq_len(sys.nframe())) {
    if (identical(sys.function(i), progressr::with_progress)) return(TRUE)
  }
  FALSE
}

progress_bar <- function() {
  progressr::handler_cli(
    format = "{cli::pb_status} {cli::pb_bar} {cli::pb_percent}, {cli::pb_eta} left",
    show_after = 2,
    enable = TRUE,
    clear = TRUE
  )
}

# What a run that is stopped keeps, and how to go on; and, once, how long a long one will take.
# done(): how many pieces there are by now
watch_pieces <- function(code, folder, n, done) {
  tryCatch(code, interrupt = function(e) {
    # said when the bar is gone
    rlang::inform(
      if (is.null(folder)) {
        "Stopped. Nothing is kept: with `run = ` every finished piece would be."
      } else {
        paste0(
          "Stopped. ", done(), " of ", n, " pieces are kept in \"", folder,
          "\": the same call goes on from there."
        )
      },
      class = "dreher_message_stopped"
    )
    rlang::interrupt()
  })
}

# -> a function to call after each piece
tell_long_runs <- function(n) {
  began <- proc.time()[[3]]
  told <- FALSE
  done <- 0
  function() {
    done <<- done + 1
    took <- proc.time()[[3]] - began
    if (told || !wants_progress() || took < 3) return(invisible())
    told <<- TRUE
    left <- took / done * (n - done)
    if (left < 60) return(invisible())
    rlang::inform(
      paste0(
        "About ", ceiling(left / 60), " min to go, ", n - done, " of ", n, " pieces. ",
        if (future::nbrOfWorkers() == 1) {
          "Workers share them: future::plan(\"multisession\"). "
        },
        "Fewer resamples, folds or repeats take less."
      ),
      class = "dreher_message_time"
    )
  }
}
