# Accumulated local effects (Apley and Zhu 2020): what the prediction changes by between
# neighbouring points, as a mean over the rows that lie there, summed up from the lowest point on.

accumulate_curves <- function(st, model, rows, info, units, grids, settings) {
  plans <- lapply(seq_along(units), function(u) {
    plan_steps(units[[u]], grids[[u]], rows)
  })
  grids <- lapply(plans, `[[`, "grid")
  predicted <- predict_steps(st, model, rows, info, units, plans, settings)
  classes <- if (is.null(settings$classes)) 1L else settings$classes
  out <- lapply(seq_along(units), function(u) {
    lapply(seq_along(classes), function(k) {
      found <- sum_steps(
        predicted$cubes[[u]][, , k], predicted$base[, k], plans[[u]], info
      )
      c(found, list(
        class = if (st$task == "regression") NA_character_ else st$classes[classes[k]],
        unit = units[[u]],
        grid = grids[[u]],
        spread = diff(stats::quantile(predicted$base[, k], c(0.05, 0.95), names = FALSE))
      ))
    })
  })
  unlist(out, recursive = FALSE)
}

# For every row the points it is set to, the lower and the upper, and where it stands between them.
# -> list(grid, low, high, bin, part, levels): numbers lie in bin low..high at `part` of the way;
# levels are their own point
plan_steps <- function(unit, grid, rows) {
  if (unit$kind != "one") {
    stop_input(
      paste0(
        "\"", unit$name, "\" is a group: accumulated effects are for single predictors."
      ),
      todo = "Use form = \"averaged\" for groups."
    )
  }
  x <- rows[[unit$predictors]]
  if (grid$kind %in% c("level", "ordered")) {
    grid <- some_points(grid, grid$at %in% as.character(x))
  }
  if (grid$kind == "level" && !isTRUE(grid$settled)) {
    grid <- order_grid(grid, unit$predictors, rows)
  }
  G <- length(grid$at)
  if (grid$kind %in% c("level", "ordered")) {
    own <- match(as.character(x), grid$at)
    return(list(
      grid = grid,
      levels = TRUE,
      own = own,
      low = pmax(own - 1L, 1L),
      high = pmin(own + 1L, G)
    ))
  }
  z <- grid$position
  x <- as.double(x)
  bin <- if (G > 1) {
    pmin(pmax(findInterval(x, z, left.open = TRUE), 1L), G - 1L)
  } else {
    ifelse(is.na(x), NA_integer_, 1L)
  }
  check_bins(bin, unit$predictors, grid)
  high <- if (G > 1) bin + 1L else bin
  part <- if (G > 1) (x - z[bin]) / (z[high] - z[bin]) else 0 * x
  list(
    grid = grid,
    levels = FALSE,
    low = bin,
    high = high,
    bin = bin,
    part = pmin(pmax(part, 0), 1)
  )
}

check_bins <- function(bin, predictor, grid) {
  empty <- which(tabulate(bin, length(grid$at) - 1L) == 0)
  if (length(grid$at) < 2 || !length(empty)) return(invisible())
  stop_input(
    paste0(
      "No evaluated row has a \"", predictor, "\" from ", grid$at[empty[1]], " to ",
      grid$at[empty[1] + 1], ": there is nothing to accumulate."
    ),
    todo = "Give fewer points, or form = \"averaged\"."
  )
}

# Unordered levels so that neighbours are alike in the other predictors: distances between their
# distributions (Kolmogorov and Smirnov for numbers, half the absolute differences of shares for
# levels), summed and brought onto one axis.
order_grid <- function(grid, predictor, rows) {
  levels <- grid$at
  G <- length(levels)
  if (G < 3) return(grid)
  of <- match(as.character(rows[[predictor]]), levels)
  distance <- matrix(0, G, G)
  for (p in setdiff(names(rows), predictor)) {
    distance <- distance + level_distance(rows[[p]], of, G)
  }
  if (!any(distance > 0)) return(grid)
  place <- stats::cmdscale(stats::as.dist(distance), k = 1)
  if (ncol(place) == 0) return(grid)
  by <- order(place[, 1])
  if (by[1] > by[G]) by <- rev(by)
  position <- grid$position
  grid <- some_points(grid, by)
  grid$position <- position
  grid
}

level_distance <- function(x, of, levels) {
  parts <- split(x, factor(of, seq_len(levels)))
  share <- if (is.numeric(x) || inherits(x, c("Date", "POSIXct", "difftime"))) {
    at <- sort(unique(as.double(x)))
    at <- at[unique(round(seq(1, length(at), length.out = 200)))]
    vapply(parts, function(v) stats::ecdf(c(as.double(v), Inf))(at), double(length(at)))
  } else {
    all <- unique(as.character(x))
    vapply(
      parts,
      function(v) tabulate(match(as.character(v), all), length(all)) / max(1, length(v)),
      double(length(all))
    )
  }
  share <- matrix(share, ncol = levels)
  number <- is.numeric(x)
  out <- matrix(0, levels, levels)
  for (i in seq_len(levels)) {
    apart <- abs(share - share[, i])
    out[i, ] <- if (number) apply(apart, 2, max) else colSums(apart) / 2
  }
  out
}

# Every row at its lower and its upper point. -> list(cubes: per unit rows x 2 x classes, base)
predict_steps <- function(st, model, rows, info, units, plans, settings) {
  n <- nrow(rows)
  classes <- if (is.null(settings$classes)) 1L else settings$classes
  size <- max(vapply(plans, function(p) length(p$grid$at), 1L))
  given <- grid_rows(rows, size)
  donors <- array(0L, c(n, 2L, length(units)))
  for (u in seq_along(units)) {
    plan <- plans[[u]]
    last <- length(plan$grid$at)
    at <- c(seq_len(last), rep(last, size - last))
    given[[units[[u]]$predictors]] <- plan$grid$values[[1]][at]
    donors[, 1, u] <- ifelse(is.na(plan$low), seq_len(n), n + plan$low)
    donors[, 2, u] <- ifelse(is.na(plan$high), seq_len(n), n + plan$high)
  }
  context <- open_shuffle(st, model, rows, grid = given)
  cubes <- lapply(units, function(u) array(0, c(n, 2L, length(classes))))
  base <- matrix(0, n, length(classes))
  visit <- function(piece) {
    base[piece$rows, ] <<- piece$base[, classes]
    p <- array(
      piece$p,
      c(length(piece$rows), length(piece$repeats), length(piece$units), ncol(piece$p))
    )
    for (u in seq_along(piece$units)) {
      cubes[[piece$units[u]]][piece$rows, piece$repeats, ] <<- p[, , u, classes]
    }
  }
  sets <- stats::setNames(
    lapply(units, `[[`, "predictors"), vapply(units, `[[`, "", "name")
  )
  shuffle_pieces(context, sets, list(donors = donors, own = TRUE, repeats = 2L), visit)
  list(cubes = cubes, base = base)
}

# From each row's differences to the curve and the covariance of its points. Every row weighs on the
# differences it is part of, and on the mean that is taken away.
sum_steps <- function(pair, base, plan, info) {
  n <- length(base)
  G <- length(plan$grid$at)
  weight <- if (is.null(info$weight)) rep(1, n) else info$weight
  steps <- if (plan$levels) {
    # a row of a level takes part in the step up to it and in the step beyond it
    down <- which(!is.na(plan$own) & plan$own > 1)
    up <- which(!is.na(plan$own) & plan$own < G)
    data.frame(
      row = c(down, up), bin = c(plan$own[down] - 1L, plan$own[up]),
      by = c(base[down] - pair[down, 1], pair[up, 2] - base[up])
    )
  } else {
    present <- which(!is.na(plan$bin))
    data.frame(
      row = present, bin = plan$bin[present], by = pair[present, 2] - pair[present, 1]
    )
  }
  bins <- max(1L, G - 1L)
  w <- weight[steps$row]
  total <- as.vector(rowsum_bins(w, steps$bin, bins))
  mean_step <- as.vector(rowsum_bins(w * steps$by, steps$bin, bins)) / pmax(total, 1e-300)
  curve <- if (G > 1) c(0, cumsum(mean_step)) else 0
  # influence of every row on every step
  u <- matrix(0, n, bins)
  at <- cbind(steps$row, steps$bin)
  u[at] <- n * w * (steps$by - mean_step[steps$bin]) / total[steps$bin]
  own <- if (plan$levels) {
    share_at(plan$own, plan$own, rep(0, n), n, G)
  } else {
    share_at(plan$low, plan$high, plan$part, n, G)
  }
  seen <- rowSums(own) > 0
  w_seen <- weight * seen / mean(weight * seen)
  centre <- sum(w_seen * (own %*% curve)) / n
  point <- if (G > 1) cbind(0, row_cumsum(u)) else matrix(0, n, 1)
  load <- colMeans(w_seen * own)
  of_centre <- w_seen * (as.vector(own %*% curve) - centre) + as.vector(point %*% load)
  found <- influence_error(point - of_centre, info$block)
  list(effect = curve - centre, cov = found$cov, df = found$df)
}

# Where each row stands among the points: rows x points, each row's shares adding up to 1.
share_at <- function(low, high, part, n, G) {
  out <- matrix(0, n, G)
  here <- which(!is.na(low) & !is.na(part))
  out[cbind(here, low[here])] <- 1 - part[here]
  upper <- cbind(here, high[here])
  out[upper] <- out[upper] + part[here]
  out
}

rowsum_bins <- function(x, bin, bins) {
  out <- double(bins)
  found <- rowsum(x, bin)
  out[as.integer(rownames(found))] <- found
  out
}

row_cumsum <- function(x) {
  for (j in seq_len(ncol(x))[-1]) x[, j] <- x[, j - 1] + x[, j]
  x
}
