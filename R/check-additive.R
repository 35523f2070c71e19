# How well a target is predicted by columns that act side by side, and by which: a small regression
# on bends of their ranks, scored on rows left out. It needs no package and no seed of its own, and
# takes 100 columns of a few thousand rows in a fraction of a second. What columns do together only
# is not seen.
#
# Numbers: normal scores of their ranks, these squared, and their positive part (with many columns
# fewer of these); levels: one indicator each for the nine most frequent; missing values: an
# indicator. Ridge regression with a penalty of one row per coefficient; rows are left out in parts.

bends_of <- function(column, bends) {
  x <- column$x
  gone <- is.na(x)
  out <- if (column$number || column$ordered) {
    z <- stats::qnorm(column$place)
    z[gone] <- 0
    several <- if (bends > 1) length(unique(x)) else 2
    cbind(z, if (several > 2) z^2, if (several > 3 && bends > 2) pmax(z, 0))
  } else {
    size <- tabulate(x)
    often <- order(-size)[seq_len(min(9, sum(size > 0)))]
    outer(ifelse(gone, 0L, x), often, "==") + 0
  }
  if (any(gone)) out <- cbind(out, gone + 0)
  out
}

# The target as columns of numbers, centred: itself, or an indicator per class.
response_of <- function(column) {
  x <- column$x
  if (column$number || column$ordered) return(matrix(x - mean(x)))
  out <- outer(x, which(tabulate(x, length(column$levels)) > 0), "==") + 0
  out - rep(colMeans(out), each = nrow(out))
}

# columns: list of checked columns, by name; y: rows x responses without gaps; part: number of the
# part a row is left out in. -> list(fitted: predictions of rows left out; skill: share of the
# variance these explain; shares: of the fitted variance, by column)
fit_additive <- function(columns, y, part) {
  most <- length(columns)
  bends <- if (most <= 40) 3 else if (most <= 70) 2 else 1
  blocks <- lapply(columns, bends_of, bends)
  design <- do.call(cbind, blocks)
  owner <- rep(names(columns), vapply(blocks, ncol, 1L))
  centre <- colMeans(design)
  design <- design - rep(centre, each = nrow(design))
  spread <- sqrt(colMeans(design^2))
  keep <- spread > 1e-9
  design <- design[, keep, drop = FALSE] / rep(spread[keep], each = nrow(design))
  owner <- owner[keep]
  if (!ncol(design) || !(sum(y^2) > 0)) {
    return(list(fitted = y * 0, skill = 0, shares = stats::setNames(numeric(), character())))
  }
  whole <- list(a = crossprod(design), b = crossprod(design, y))
  at_diagonal <- cbind(seq_len(ncol(design)), seq_len(ncol(design)))
  solve_for <- function(a, b) {
    a[at_diagonal] <- a[at_diagonal] + 1
    root <- chol(a)
    backsolve(root, backsolve(root, b, transpose = TRUE))
  }
  fitted <- y * 0
  for (k in unique(part)) {
    out <- part == k
    left <- design[out, , drop = FALSE]
    beta <- solve_for(
      whole$a - crossprod(left), whole$b - crossprod(left, y[out, , drop = FALSE])
    )
    fitted[out, ] <- left %*% beta
  }
  beta <- solve_for(whole$a, whole$b)
  own <- design %*% beta
  along <- vapply(
    unique(owner),
    function(p) {
      mine <- owner == p
      sum(crossprod(design[, mine, drop = FALSE] %*% beta[mine, , drop = FALSE], own)[
        cbind(seq_len(ncol(own)), seq_len(ncol(own)))
      ])
    },
    0
  )
  list(
    fitted = fitted,
    skill = 1 - sum((y - fitted)^2) / sum(y^2),
    shares = along / max(sum(own^2), 1e-300)
  )
}

# Parts that rows are left out in; blocks stay whole.
parts_of <- function(n, folds = 5, seed = 1, block = NULL) {
  units <- if (is.null(block)) n else max(block)
  part <- with_stream(seed, c("parts", units), sample(rep_len(seq_len(min(folds, units)), units)))
  if (is.null(block)) part else part[block]
}

# The rows of columns, as a list of columns.
rows_of_columns <- function(columns, rows) {
  lapply(columns, function(column) {
    column$x <- column$x[rows]
    column$place <- column$place[rows]
    column
  })
}
