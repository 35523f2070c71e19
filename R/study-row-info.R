# What rows bring to a score beside the predictions: truth, what each counts, and which belong
# together.
#
# list(truth, weight, block): weight has mean 1 or is NULL (all the same); block holds numbers, or
# NULL (each row by itself).

row_info <- function(st, data) {
  weight <- if (!is.null(st$weights)) data[[st$weights]]
  block <- if (!is.null(st$blocks)) data[[st$blocks]]
  list(
    truth = truth_of(st, data),
    weight = if (!is.null(weight)) weight / mean(weight),
    block = if (!is.null(block)) match(block, unique(block))
  )
}

some_info <- function(info, rows) {
  weight <- info$weight[rows]
  list(
    truth = info$truth[rows],
    weight = if (!is.null(weight)) weight / mean(weight),
    block = if (!is.null(info$block)) {
      match(info$block[rows], unique(info$block[rows]))
    }
  )
}

# The columns of weights and of blocks, in one table of rows.
check_row_info <- function(st, data, arg) {
  if (!is.null(st$weights)) {
    check_columns(data, st$weights, arg, "The column of weights")
    w <- data[[st$weights]]
    bad <- if (is.numeric(w)) which(!is.finite(w) | w < 0) else seq_along(w)
    if (length(bad)) {
      stop_input(
        paste0(
          "The weights \"", st$weights, "\" of `", arg,
          "` must be numbers from 0 up, none missing."
        ),
        paste0("The first that is not is in row ", bad[1], ".")
      )
    }
    if (sum(w > 0) < 2) {
      stop_input(
        paste0(
          "The weights \"", st$weights, "\" of `", arg, "` are 0 in all rows but ",
          sum(w > 0), "."
        ),
        todo = "Give other rows or weights."
      )
    }
  }
  if (!is.null(st$blocks)) {
    check_columns(data, st$blocks, arg, "The column of blocks")
    b <- data[[st$blocks]]
    if (anyNA(b)) {
      stop_input(
        paste0(
          "The blocks \"", st$blocks, "\" of `", arg, "` are missing in row ",
          which(is.na(b))[1], "."
        ),
        todo = "Give every row the name of its block."
      )
    }
    if (length(unique(b)) < 2) {
      stop_input(
        paste0(
          "The rows of `", arg, "` are all of one block \"", b[1], "\" of \"", st$blocks,
          "\"."
        ),
        todo = "Leave `blocks` out, or give rows of several."
      )
    }
  }
}

# Blocks of the jackknife: rows that belong together stay together.
jackknife_blocks <- function(info, seed) {
  n <- length(info$truth)
  with_stream(
    seed,
    c("jackknife", n),
    if (is.null(info$block)) {
      draw_blocks(n)
    } else {
      draw_blocks(max(info$block))[info$block]
    }
  )
}

# The target as the metrics want it: numbers, or class numbers.
truth_of <- function(st, data) {
  y <- data[[st$target]]
  if (st$task == "regression") y else as.integer(y)
}
