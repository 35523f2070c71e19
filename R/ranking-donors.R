# Who receives whose values when predictors are shuffled.
#
# A design is a list(donors, repeats, own, all): donors[i, r] is the row whose value row i
# receives in repeat r (own: rows x repeats x units, each unit has its own); all: every row
# receives from every other.

# Every unit receives from the same rows.
shared_design <- function(donors) list(donors = donors, own = FALSE, repeats = ncol(donors))

# donor[i, r]: the row whose value row i receives in repeat r. Along one random order the values
# are shifted by distinct steps. Rows of a block do not give to each other: where a shift brings
# that about, donors are swapped.
draw_donors <- function(n, repeats, seed, block = NULL) {
  repeats <- min(repeats, n - 1L)
  drawn <- with_stream(
    seed,
    c("donors", n),
    list(order = sample.int(n), shifts = sample.int(n - 1L, repeats))
  )
  donors <- matrix(0L, n, repeats)
  for (r in seq_len(repeats)) {
    donors[drawn$order, r] <- drawn$order[(seq_len(n) - 1L + drawn$shifts[r]) %% n + 1L]
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

# The donors of one unit in these repeats, as a vector; of all repeats as a matrix.
donors_of <- function(design, repeats, unit) {
  if (design$own) design$donors[, repeats, unit] else design$donors[, repeats]
}

all_donors_of <- function(design, unit) {
  if (design$own) matrix(design$donors[, , unit], dim(design$donors)[1]) else design$donors
}
