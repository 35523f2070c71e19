# Averaged curves and those of single rows: the predictions with a predictor set to each point of
# its grid, in all rows.
#
# A curve is a shuffle whose donors are the rows of the grid, so that forests, sums of terms and
# other models go the ways they go for permutation importance (ranking-shuffle.R).

# As many rows as the longest grid has points, to be filled with the points of all.
grid_rows <- function(rows, size) {
  out <- rows[rep(1L, size), , drop = FALSE]
  attr(out, "row.names") <- .set_row_names(size)
  out
}

# Units in layers, so that within one no predictor is set by two of them.
layer_units <- function(units) {
  split_units(lapply(units, `[[`, "predictors"), Inf)
}

average_curves <- function(st, model, rows, info, units, grids, settings) {
  out <- vector("list", length(units))
  for (layer in layers_of(model, units, grids)) {
    found <- set_and_predict(st, model, rows, info, units[layer], grids[layer], settings)
    out[layer] <- found
  }
  unlist(out, recursive = FALSE)
}

# Forests set all predictors of a layer in one walk, for all points; other models pay for each
# point, so that units of the same number of points go together.
layers_of <- function(model, units, grids) {
  layers <- layer_units(units)
  if (!is.null(model$forest) && !isTRUE(model$forest$shared)) {
    pairs <- vapply(units, function(u) u$kind == "pair", NA)
    parts <- lapply(layers, function(at) split(at, pairs[at]))
    return(unlist(parts, recursive = FALSE))
  }
  size <- vapply(grids, function(g) nrow(g$values), 1L)
  unlist(lapply(layers, function(at) split(at, size[at])), recursive = FALSE)
}

# -> per unit a list of curves, one a class
set_and_predict <- function(st, model, rows, info, units, grids, settings) {
  n <- nrow(rows)
  size <- max(vapply(grids, function(g) nrow(g$values), 1L))
  given <- grid_rows(rows, size)
  for (u in seq_along(units)) {
    last <- nrow(grids[[u]]$values)
    at <- c(seq_len(last), rep(last, size - last))
    for (p in units[[u]]$predictors) given[[p]] <- grids[[u]]$values[[p]][at]
  }
  context <- open_shuffle(st, model, rows, grid = given)
  design <- shared_design(matrix(n + seq_len(size), n, size, byrow = TRUE))
  sums <- tally_of_curves(n, lapply(grids, function(g) nrow(g$values)), info, settings)
  sets <- stats::setNames(lapply(units, `[[`, "predictors"), vapply(units, `[[`, "", "name"))
  shuffle_pieces(context, sets, design, sums$visit)
  lapply(seq_along(units), function(u) sums$curves(u, units[[u]], grids[[u]], st))
}

# Takes shuffled predictions in, piece by piece: what is needed of them is their mean at each point
# and the covariances of these means, or the predictions of single rows themselves.
tally_of_curves <- function(n, sizes, info, settings) {
  classes <- if (is.null(settings$classes)) 1L else settings$classes
  keep <- settings$form == "single"
  weight <- if (is.null(info$weight)) rep(1, n) else info$weight
  cubes <- moments <- list()
  shift <- NULL
  spread <- range_tally(length(classes))
  take <- function(u, k, rows, y) {
    at <- paste(u, k)
    if (keep) {
      if (is.null(cubes[[at]])) cubes[[at]] <<- matrix(0, n, ncol(y))
      cubes[[at]][rows, ] <<- y
      return()
    }
    moments[[at]] <<- add_moments(
      moments[[at]], y - shift[k], weight[rows], info$block[rows]
    )
  }
  waiting <- list()
  visit <- function(piece) {
    many <- length(piece$rows)
    repeats <- length(piece$repeats)
    if (is.null(shift)) shift <<- colMeans(piece$base[, classes, drop = FALSE])
    spread$see(piece$rows, piece$base[, classes, drop = FALSE])
    for (u in seq_along(piece$units)) {
      unit <- piece$units[u]
      size <- sizes[[unit]]
      mine <- which(piece$repeats <= size)  # the first of them
      if (!length(mine)) next
      at <- (u - 1) * many * repeats + seq_len(many * length(mine))
      for (k in seq_along(classes)) {
        y <- piece$p[at, classes[k]]
        dim(y) <- c(many, length(mine))
        if (length(mine) == size) {
          take(unit, k, piece$rows, y)
        } else {
          waiting <<- put_aside(
            waiting, paste(unit, k), piece$rows, piece$repeats[mine], y, n, size
          )
          done <- waiting[[paste(unit, k)]]
          if (done$left == 0) {
            take(unit, k, seq_len(n), done$y)
            waiting[[paste(unit, k)]] <<- NULL
          }
        }
      }
    }
  }
  curves <- function(u, unit, grid, st) {
    lapply(seq_along(classes), function(k) {
      base <- list(
        class = if (st$task == "regression") NA_character_ else st$classes[classes[k]],
        unit = unit, grid = grid, spread = spread$width(k)
      )
      at <- paste(u, k)
      if (keep) return(c(base, list(single = cubes[[at]], effect = colMeans(cubes[[at]]))))
      found <- mean_moments(moments[[at]])
      c(base, list(effect = found$mean + shift[k], cov = found$cov, df = found$df))
    })
  }
  list(visit = visit, curves = curves)
}

# Predictions at some points only, until all are there.
put_aside <- function(waiting, at, rows, points, y, n, size) {
  held <- waiting[[at]]
  if (is.null(held)) held <- list(y = matrix(0, n, size), left = n * size)
  held$y[rows, points] <- y
  held$left <- held$left - length(y)
  waiting[[at]] <- held
  waiting
}

# Between which predictions most rows lie: the yardstick for what a curve moves.
range_tally <- function(classes) {
  seen <- vector("list", classes)
  rows <- integer()
  list(
    see = function(at, base) {
      if (length(intersect(at, rows))) return(invisible())
      rows <<- c(rows, at)
      for (k in seq_len(classes)) seen[[k]] <<- c(seen[[k]], base[, k])
    },
    width = function(k) diff(stats::quantile(seen[[k]], c(0.05, 0.95), names = FALSE))
  )
}

# Sums for weighted means of columns and their covariance, rows of a block taken together.
add_moments <- function(sums, y, weight, block) {
  alike <- all(weight == 1)
  wy <- if (alike) y else weight * y
  if (is.null(sums)) {
    sums <- list(n = 0, w = 0, ww = 0, y = 0, wwy = 0, yy = 0, blocks = list())
  }
  sums$n <- sums$n + nrow(y)
  sums$w <- sums$w + sum(weight)
  sum_y <- colSums(wy)
  sums$y <- sums$y + sum_y
  if (is.null(block)) {
    sums$ww <- sums$ww + sum(weight^2)
    sums$wwy <- sums$wwy + if (alike) sum_y else colSums(weight * wy)
    sums$yy <- sums$yy + crossprod(wy)
  } else {
    part <- rowsum(cbind(weight, wy), block)
    sums$blocks <- c(sums$blocks, list(part))
  }
  sums
}

# -> list(mean, cov, df)
mean_moments <- function(sums) {
  m <- sums$y / sums$w
  if (length(sums$blocks)) {
    part <- do.call(rbind, sums$blocks)
    part <- rowsum(part, rownames(part))
    u <- part[, -1, drop = FALSE] - part[, 1] %o% m
    g <- nrow(u)
    return(list(mean = m, cov = crossprod(u) * g / (g - 1) / sums$w^2, df = g - 1))
  }
  n <- sums$n
  cross <- sums$wwy %o% m
  inner <- sums$yy - cross - t(cross) + sums$ww * (m %o% m)
  list(mean = m, cov = inner * n / (n - 1) / sums$w^2, df = n - 1)
}
