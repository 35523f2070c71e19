# Conditions: one constructor, a small class tree.
#
# dreher_error
#   dreher_error_input      an argument or a column is not what it should be
#   dreher_error_model      a model cannot be read, predicted from or refitted
#   dreher_error_study      the pieces do not fit together
#   dreher_error_internal   a computation failed its own check
#
# A message has three parts: what was wrong and where, what was given, what to do.

stop_dreher <- function(
    kind, problem, given = NULL, todo = NULL, data = list(), parent = NULL) {
  parts <- c(problem, if (!is.null(given)) c(x = given), if (!is.null(todo)) c(i = todo))
  parts <- stats::setNames(printable(parts, "[\\n\\t]"), names(parts))
  # Messages quote names the user chose; they are text, never templates.
  rlang::abort(
    parts,
    class = c(paste0("dreher_error_", kind), "dreher_error"),
    call = user_call(),
    parent = parent,
    # what a user can mend needs no list of the package's insides, least of all in a script
    trace = if (kind != "internal" && !rlang::is_interactive()) no_trace(),
    !!!data
  )
}

no_trace <- function() {
  trace <- rlang::trace_back()
  structure(trace[0, ], class = class(trace))
}

# The call by which the user entered the package: errors speak in its name.
user_call <- function() {
  own <- topenv()
  for (i in seq_len(sys.nframe() - 1)) {
    if (identical(topenv(environment(sys.function(i))), own)) return(sys.call(i)[1])
  }
  NULL
}

stop_input <- function(problem, given = NULL, todo = NULL, ...) {
  stop_dreher("input", problem, given, todo, ...)
}

stop_model <- function(problem, given = NULL, todo = NULL, ...) {
  stop_dreher("model", problem, given, todo, ...)
}

stop_study <- function(problem, given = NULL, todo = NULL, ...) {
  stop_dreher("study", problem, given, todo, ...)
}

stop_internal <- function(problem, given = NULL, ...) {
  stop_dreher(
    "internal", problem, given, "Please report this with the model that shows it.", ...
  )
}

warn_dreher <- function(kind, problem, todo = NULL) {
  parts <- c(problem, if (!is.null(todo)) c(i = todo))
  rlang::warn(stats::setNames(printable(parts, "[\\n\\t]"), names(parts)),
              class = c(paste0("dreher_warning_", kind), "dreher_warning"))
}

# Warnings of the functions that are called (training the same model again and again repeats its
# own) wait for the end: each is given once, with how often it came.
warn_once <- function(code) {
  first <- list()
  times <- integer()
  on.exit(
    for (text in names(first)) repeat_warning(first[[text]], text, times[[text]]),
    add = TRUE
  )
  withCallingHandlers(code, warning = function(w) {
    repeated <- inherits(w, "dreher_warning_repeated")
    if (inherits(w, "dreher_warning") && !repeated) return()
    text <- if (repeated) w$text else conditionMessage(w)
    if (!nzchar(text)) return()
    if (is.null(first[[text]])) {
      first[[text]] <<- w
      times[[text]] <<- 0L
    }
    times[[text]] <<- times[[text]] + if (repeated) w$times else 1L
    invokeRestart("muffleWarning")
  })
}

repeat_warning <- function(condition, text, times) {
  if (times == 1) return(warning(condition))
  rlang::warn(
    paste0(printable(text, "[\\n\\t]"), " (", format_number(times), " times)"),
    class = c("dreher_warning_repeated", "dreher_warning"), text = text, times = times
  )
}

# "a", "b" and 3 others
quote_some <- function(x, most = 5) {
  x <- paste0("\"", x, "\"")
  n <- length(x)
  if (n > most) {
    return(paste0(paste(x[seq_len(most)], collapse = ", "), " and ", n - most, " more"))
  }
  if (n < 2) return(paste(x, collapse = ""))
  paste(paste(x[-n], collapse = ", "), "and", x[n])
}

# a, b and c
list_words <- function(x) {
  n <- length(x)
  if (n < 2) return(paste(x, collapse = ""))
  paste(paste(x[-n], collapse = ", "), "and", x[n])
}

# a, b, c, d and 3 more
list_few <- function(x, most = 4) {
  if (length(x) <= most) return(list_words(x))
  paste0(paste(x[seq_len(most)], collapse = ", "), " and ", length(x) - most, " more")
}

# labels: named by predictor; what has none goes by its name.
label_or_name <- function(labels, names) {
  if (is.null(labels)) return(names)
  known <- unname(labels[names])
  ifelse(is.na(known), names, known)
}

# A value to so many digits, without powers of ten as long as it is no odd one.
short_number <- function(x, digits = 4) {
  vapply(as.double(x), function(v) {
    odd <- is.finite(v) && v != 0 && (abs(v) >= 1e7 || abs(v) < 1e-5)
    format(signif(v, digits), scientific = odd, trim = TRUE)
  }, "", USE.NAMES = FALSE)
}

# 1,234
format_number <- function(x) format(x, big.mark = ",", trim = TRUE, scientific = FALSE)

# Text that may come from others, without what a terminal would obey: control characters, and
# those that turn the direction of writing. keep: a pattern of what may stay.
printable <- function(x, keep = NULL) {
  x <- as.character(x)
  odd <- !is.na(x) & !validUTF8(x)
  x[odd] <- iconv(x[odd], "latin1", "UTF-8")
  obeyed <- paste0(
    if (!is.null(keep)) paste0("(?!", keep, ")"),
    "[\u0001-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]"
  )
  gsub(obeyed, " ", enc2utf8(x), perl = TRUE)
}

# Lines to print: our own colours stay.
printable_lines <- function(lines) printable(lines, "\\x1b\\[[0-9;]*m|[\\n\\t]")

describe_value <- function(x) {
  if (is.null(x)) return("NULL")
  shown <- if (is.atomic(x) && length(x) == 1) format(x) else NULL
  if (is.character(x) && length(x) == 1) shown <- paste0("\"", x, "\"")
  what <- paste0(class(x)[1], " of length ", length(x))
  if (is.null(shown)) what else paste0(shown, " (", class(x)[1], ")")
}
