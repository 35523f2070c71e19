# Functions of the user's, and the predict() of other packages: called so that they leave the
# session as they found it, and fail in words that say which of them failed.

call_user <- function(fun, ...) {
  kept <- keep_session()
  on.exit(suspendInterrupts(restore_session(kept)), add = TRUE)
  withCallingHandlers(fun(...), error = pass_interrupt)
}

keep_session <- function() {
  list(
    seed = get0(".Random.seed", envir = globalenv(), inherits = FALSE),
    kind = RNGkind(),
    options = options(),
    folder = getwd()
  )
}

restore_session <- function(kept) {
  if (!identical(RNGkind(), kept$kind)) do.call(RNGkind, as.list(kept$kind))
  if (is.null(kept$seed)) {
    suppressWarnings(rm(".Random.seed", envir = globalenv()))
  } else {
    assign(".Random.seed", kept$seed, envir = globalenv())
  }
  now <- options()
  other <- names(kept$options)[!mapply(identical, kept$options, now[names(kept$options)])]
  if (length(other)) options(kept$options[other])
  if (!identical(getwd(), kept$folder)) setwd(kept$folder)  # nolint: undesirable_function_linter.
}

# A library that catches the user's interrupt itself reports it as an error, and others hand that on
# as the cause of theirs; it is one no more.
pass_interrupt <- function(e) {
  while (inherits(e, "condition")) {
    said <- paste(conditionMessage(e), collapse = " ")
    if (grepl("User interrupt or internal error", said, fixed = TRUE)) rlang::interrupt()
    e <- e$parent
  }
}

# The first row on which f fails by itself, found by halving; NA where no row does.
first_failing_row <- function(f, rows) {
  fails <- function(at) {
    inherits(tryCatch(f(rows[at, , drop = FALSE]), error = function(e) e), "error")
  }
  at <- seq_len(nrow(rows))
  while (length(at) > 1) {
    half <- seq_len(length(at) %/% 2)
    at <- if (fails(at[half])) at[half] else at[-half]
  }
  if (fails(at)) at else NA_integer_
}
