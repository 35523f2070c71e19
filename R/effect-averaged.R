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
  sums <- tally_of_curves(
    n, vapply(grids, function(g) nrow(g$values), 1L), info, settings
  )
  sets <- stats::setNames(lapply(units, `[[`, "predictors"), vapply(units, `[[`, "", "name"))
  shuffle_pieces(context, sets, design, sums$visit)
  lapply(seq_along(units), function(u) sums$curves(u, units[[u]], grids[[u]], st))
}

# Takes shuffled predictions in, piece by piece: what is needed of them is their mean at each point
# and the covariances of these means, or the predictions of single rows themselves.
tally_of_curves <- function(n, sizes, info, settings) {
  classes <- if (is.null(settings$classes)) 1L else settings$classes
  weight <- info$weight
  tally <- if (settings$form == "single") {
    tally_of_rows(n, sizes, length(classes))
  } else if (!is.null(info$block)) {
    tally_of_blocks(sizes, length(classes), weight, info$block)
  } else {
    tally_of_moments(n, sizes, length(classes), weight)
  }
  shift <- NULL
  spread <- range_tally(length(classes))
  waiting <- list()
  visit <- function(piece) {
    many <- length(piece$rows)
    repeats <- length(piece$repeats)
    if (is.null(shift)) shift <<- colMeans(piece$base[, classes, drop = FALSE])
    spread$see(piece$rows, piece$base[, classes, drop = FALSE])
    # how many of a unit's points are in this piece: the first of them
    there <- pmin(pmax(sizes[piece$units] - piece$repeats[1] + 1L, 0L), repeats)
    whole <- there == sizes[piece$units]
    from <- (seq_along(piece$units) - 1) * many * repeats
    for (k in seq_along(classes)) {
      tally$take(
        piece$units[whole], k, piece$rows, piece$p, classes[k], from[whole], shift[k]
      )
      for (u in which(!whole & there > 0)) {
        key <- paste(piece$units[u], k)
        waiting <<- put_aside(
          waiting, key, piece$rows, piece$repeats[seq_len(there[u])],
          piece$p[from[u] + seq_len(many * there[u]), classes[k]], n, sizes[piece$units[u]]
        )
        if (waiting[[key]]$left > 0) next
        tally$take(
          piece$units[u], k, seq_len(n), matrix(waiting[[key]]$y), 1L, 0, shift[k]
        )
        waiting[[key]] <<- NULL
      }
    }
  }
  curves <- function(u, unit, grid, st) {
    lapply(seq_along(classes), function(k) {
      base <- list(
        class = if (st$task == "regression") NA_character_ else st$classes[classes[k]],
        unit = unit, grid = grid, spread = spread$width(k), predicted = spread$ends(k)
      )
      c(base, tally$read(u, k, shift[k]))
    })
  }
  list(visit = visit, curves = curves)
}

# A tally takes in predictions, take(units, class, rows, p, column, from, shift): those of a unit
# stand in `column` of `p` behind the first `from`, rows x points. read(unit, class, shift): its
# curve.

# The predictions of single rows as they are.
tally_of_rows <- function(n, sizes, classes) {
  cubes <- rep(list(lapply(sizes, function(size) matrix(0, n, size))), classes)
  take <- function(units, k, rows, p, column, from, shift) {
    for (i in seq_along(units)) {
      cubes[[k]][[units[i]]][rows, ] <<- points_in(
        p, column, from[i], length(rows), sizes[units[i]]
      )
    }
  }
  read <- function(u, k, shift) {
    list(single = cubes[[k]][[u]], effect = colMeans(cubes[[k]][[u]]))
  }
  list(take = take, read = read)
}

points_in <- function(p, column, from, rows, points) {
  matrix(p[from + seq_len(rows * points), column], rows)
}

# Sums over the rows of each block.
tally_of_blocks <- function(sizes, classes, weight, block) {
  parts <- rep(list(vector("list", length(sizes))), classes)
  if (is.null(weight)) weight <- rep(1, length(block))
  take <- function(units, k, rows, p, column, from, shift) {
    w <- weight[rows]
    for (i in seq_along(units)) {
      u <- units[i]
      v <- points_in(p, column, from[i], length(rows), sizes[u]) - shift
      parts[[k]][[u]] <<- c(
        parts[[k]][[u]], list(rowsum(cbind(w, w * v), block[rows]))
      )
    }
  }
  read <- function(u, k, shift) {
    part <- do.call(rbind, parts[[k]][[u]])
    part <- rowsum(part, rownames(part))
    w <- sum(part[, 1])
    m <- colSums(part[, -1, drop = FALSE]) / w
    apart <- part[, -1, drop = FALSE] - part[, 1] %o% m
    g <- nrow(apart)
    list(effect = m + shift, cov = crossprod(apart) * g / (g - 1) / w^2, df = g - 1)
  }
  list(take = take, read = read)
}

# Sums for weighted means of the points and their covariance (src/effect-moments.h), of all units
# side by side.
tally_of_moments <- function(n, sizes, classes, weight) {
  places <- function(size) unname(split(seq_len(sum(size)), rep(seq_along(size), size)))
  points <- places(sizes)
  cells <- places(sizes^2)
  sums <- rep(list(list(
    y = double(sum(sizes)), wwy = double(sum(sizes)), yy = double(sum(sizes^2))
  )), classes)
  take <- function(units, k, rows, p, column, from, shift) {
    if (!length(units)) return()
    found <- point_moments(
      p, column, from, length(rows), sizes[units], shift,
      if (is.null(weight)) double() else weight[rows]
    )
    at <- unlist(points[units])
    cell <- unlist(cells[units])
    sums[[k]]$y[at] <<- sums[[k]]$y[at] + found$y
    sums[[k]]$wwy[at] <<- sums[[k]]$wwy[at] + found$wwy
    sums[[k]]$yy[cell] <<- sums[[k]]$yy[cell] + found$yy
  }
  w <- if (is.null(weight)) n else sum(weight)
  ww <- if (is.null(weight)) n else sum(weight^2)
  read <- function(u, k, shift) {
    m <- sums[[k]]$y[points[[u]]] / w
    cross <- sums[[k]]$wwy[points[[u]]] %o% m
    inner <- matrix(sums[[k]]$yy[cells[[u]]], sizes[u]) - cross - t(cross) + ww * (m %o% m)
    list(effect = m + shift, cov = inner * n / (n - 1) / w^2, df = n - 1)
  }
  list(take = take, read = read)
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
    width = function(k) diff(stats::quantile(seen[[k]], c(0.05, 0.95), names = FALSE)),
    ends = function(k) range(seen[[k]])
  )
}
