# Who receives whose values when predictors are shuffled.
#
# A design is a list(donors, repeats, own, all): donors[i, r] is the row whose value row i
# receives in repeat r (own: rows x repeats x units, each unit has its own); all: every row
# receives from every other.

# Every unit receives from the same rows.
shared_design <- function(donors) list(donors = donors, own = FALSE, repeats = ncol(donors))

# The random order of the rows along which values are shifted.
draw_order <- function(n, seed) with_stream(seed, c("donors", n), sample.int(n))

# donor[i, r]: the row whose value row i receives in repeat r: the one r places behind it in the
# random order (any distinct steps give pairs of the same kind; with the shortest ones rows that
# are read in that order need those just behind them alone). Rows of a block do not give to each
# other: where a shift brings that about, donors are swapped. apart: drawn steps, with which two
# of many rows hardly ever share more than one donor.
draw_donors <- function(n, repeats, seed, block = NULL, apart = FALSE) {
  repeats <- min(repeats, n - 1L)
  order <- draw_order(n, seed)
  steps <- if (apart) {
    with_stream(seed, c("steps", n), sample.int(n - 1L, repeats))
  } else {
    seq_len(repeats)
  }
  donors <- matrix(0L, n, repeats)
  for (r in seq_len(repeats)) {
    donors[order, r] <- c(order[-seq_len(steps[r])], order[seq_len(steps[r])])
  }
  if (is.null(block)) {
    donors
  } else {
    with_stream(seed, c("swaps", n), swap_within(donors, block))
  }
}

swap_within <- function(donors, block) {
  most <- max(tabulate(block))
  if (most > nrow(donors) / 2) {
    stop_study(
      paste0(
        "One block holds ", most, " of the ", nrow(donors),
        " rows: its rows cannot all receive values from other blocks."
      ),
      todo = "Give rows of more blocks."
    )
  }
  for (r in seq_len(ncol(donors))) {
    before <- donors[, seq_len(r - 1L), drop = FALSE]
    for (i in which(block[donors[, r]] == block)) {
      if (block[donors[i, r]] != block[i]) next  # mended by an earlier swap
      k <- donors[i, r]
      fits <- which(block[donors[, r]] != block[i] & block != block[k])
      fresh <- fits[rowSums(before[fits, , drop = FALSE] == k) == 0 &
          !(donors[fits, r] %in% before[i, ])]
      if (length(fresh)) fits <- fresh  # no pair twice, where that can be
      j <- fits[sample.int(length(fits), 1)]
      donors[c(i, j), r] <- donors[c(j, i), r]
    }
  }
  donors
}

# stratum: numbers in the order of the strata's means.
join_small <- function(stratum, least) {
  repeat {
    size <- tabulate(stratum)
    if (length(size) < 2 || min(size) >= least) return(stratum)
    small <- which.min(size)
    into <- if (small == 1) {
      2L
    } else if (small == length(size)) {
      small - 1L
    } else if (size[small - 1] <= size[small + 1]) {
      small - 1L
    } else {
      small + 1L
    }
    stratum[stratum == small] <- into
    stratum <- match(stratum, sort(unique(stratum)))
  }
}

# The shift design within each stratum; a stratum of one row keeps its own value. Rows of a block
# give to each other only where their stratum has no other rows to give.
draw_donors_within <- function(stratum, repeats, seed, block = NULL) {
  donors <- matrix(seq_along(stratum), length(stratum), repeats)
  for (s in unique(stratum)) {
    rows <- which(stratum == s)
    if (length(rows) < 2) next
    of <- if (!is.null(block)) match(block[rows], unique(block[rows]))
    if (!is.null(of) && max(tabulate(of)) > length(rows) / 2) of <- NULL
    own <- draw_donors(length(rows), min(repeats, length(rows) - 1L), seed, of)
    own <- own[, rep_len(seq_len(ncol(own)), repeats), drop = FALSE]
    donors[rows, ] <- rows[own]
  }
  donors
}

# The donors of one unit in these repeats, as a vector; of all repeats as a matrix; of some rows and
# units as an array.
donors_of <- function(design, repeats, unit) {
  if (design$own) design$donors[, repeats, unit] else design$donors[, repeats]
}

some_donors <- function(design, rows, repeats, units) {
  if (design$own) {
    design$donors[rows, repeats, units, drop = FALSE]
  } else {
    design$donors[rows, repeats, drop = FALSE]
  }
}

all_donors_of <- function(design, unit) {
  if (design$own) matrix(design$donors[, , unit], dim(design$donors)[1]) else design$donors
}
