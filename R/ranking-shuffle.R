# Shuffled predictions: what a model says when units take their values from other rows.
#
# A context (open_shuffle()) holds a model and rows, ready to be shuffled: st, model, rows, n,
# `base`, the predictions of the rows as they are, and `givers`, the rows that donors are numbers
# of: `rows`, and behind them a grid where one was given. Its class says how: "shuffle_forest",
# "shuffle_linear" (units with terms of their own; else as any) or "shuffle_any". A piece of
# shuffled predictions is a list(rows, repeats, units, base, p): numbers of rows, repeats and
# units, the rows' predictions as they are (rows x outputs) and shuffled, (rows x repeats x units)
# x outputs.

# What is needed of a model and rows before anything is shuffled. For forests the rows laid out for
# the walk, which finds `base` on its way (add_base() finds it alone). inbag: rows x trees, for rows
# that only count for trees that have not seen them; their sums are brought up to the weight of all
# trees. grid: further rows, which give values and receive none.
open_shuffle <- function(st, model, rows, inbag = NULL, grid = NULL) {
  f <- model$forest
  givers <- if (is.null(grid)) rows else join_rows(rows, grid)
  out <- list(st = st, model = model, rows = rows, n = nrow(rows), givers = givers)
  if (is.null(f) || isTRUE(f$shared)) {
    if (!is.null(inbag)) {
      stop_model(
        paste0("Model \"", model$name, "\" has no trees whose own rows are known."),
        todo = "Use rows = \"holdout\"."
      )
    }
    out$base <- predict_aligned(st, model, rows)
    linear <- model$linear
    one_sum <- !is.null(linear) && !is.null(linear$invlink) && !is.matrix(linear$beta)
    return(structure(out, class = c(if (one_sum) "shuffle_linear", "shuffle_any")))
  }
  out$inbag <- if (is.null(inbag)) matrix(0L, 0, 0) else inbag
  out$scale <- if (is.null(inbag)) {
    double()
  } else {
    sum(f$weight) / as.vector((inbag == 0) %*% f$weight)
  }
  out$prepared <- shuffle_prepare(f, encode_for_forest(f, givers), st$threads)
  structure(out, class = "shuffle_forest")
}

# The context with its base.
add_base <- function(context) UseMethod("add_base")

#' @export
add_base.shuffle_any <- function(context) context

# Calls visit(piece) until all units and repeats are done. which: numbers of the units; whole: a
# piece must hold all rows.
shuffle_pieces <- function(
    context, units, design, visit, which = seq_along(units), whole = FALSE, ...) {
  UseMethod("shuffle_pieces")
}

# For all pairs of rows: which units have a form that is exact for any number of rows?
has_exact_pairs <- function(context, units) UseMethod("has_exact_pairs")

#' @export
has_exact_pairs.shuffle_any <- function(context, units) rep(FALSE, length(units))

# The estimates of these units from all pairs of rows, exactly. -> list by unit
exact_pairs <- function(context, units, rule, ...) UseMethod("exact_pairs")

# Any model: copies of the rows, several repeats and units in one call, because many models pay
# per call. A unit the user interrupts is lost; those done are not.
#' @export
shuffle_pieces.shuffle_any <- function(
    context, units, design, visit, which = seq_along(units), whole = FALSE,
    most_rows = 1e5, most_cells = 2e7, ...) {
  n <- context$n
  at_once <- max(1, min(most_rows, most_cells / max(1, ncol(context$rows))) %/% n)
  jobs <- shuffle_jobs(which, design$repeats, at_once)
  with_bar(shuffle_in_turn(context, units, design, visit, jobs))
}

shuffle_in_turn <- function(context, units, design, visit, jobs) {
  n <- context$n
  step <- progressr::progressor(steps = length(jobs))
  copies <- NULL
  for (job in jobs) {
    m <- length(job$units) * length(job$repeats)
    if (is.null(copies) || nrow(copies) != n * m) copies <- stack_rows(context$rows, m)
    shuffled <- copies
    for (j in seq_along(job$units)) {
      donors <- donors_of(design, job$repeats, job$units[j])
      at <- (j - 1) * n * length(job$repeats) + seq_len(n * length(job$repeats))
      for (p in units[[job$units[j]]]) shuffled[[p]][at] <- context$givers[[p]][donors]
    }
    visit(list(
      rows = seq_len(n),
      repeats = job$repeats,
      units = job$units,
      base = context$base,
      p = predict_aligned(context$st, context$model, shuffled)
    ))
    step(message = "shuffling")
  }
}

# Units and repeats that go into one call: several units with all their repeats, or one with some.
shuffle_jobs <- function(which, repeats, at_once) {
  if (at_once >= repeats) {
    parts <- split(which, (seq_along(which) - 1) %/% (at_once %/% repeats))
    return(lapply(parts, function(u) list(units = u, repeats = seq_len(repeats))))
  }
  parts <- split(seq_len(repeats), (seq_len(repeats) - 1) %/% at_once)
  unlist(
    lapply(which, function(u) lapply(parts, function(r) list(units = u, repeats = r))),
    recursive = FALSE
  )
}

# Rows of the same columns and types below each other.
join_rows <- function(rows, more) {
  out <- lapply(stats::setNames(nm = names(rows)), function(p) c(rows[[p]], more[[p]]))
  structure(
    out, row.names = .set_row_names(nrow(rows) + nrow(more)), class = "data.frame"
  )
}

# The rows, so many times below each other.
stack_rows <- function(rows, times) {
  out <- lapply(rows, function(x) rep(x, times = times))
  attributes(out) <- list(
    names = names(rows), row.names = .set_row_names(nrow(rows) * times), class = "data.frame"
  )
  out
}
