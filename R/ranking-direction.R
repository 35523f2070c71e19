# Which way a predictor acts, from its values and its contributions row by row.

# Does a predictor's value go with its contribution, and which way? Rank correlation, its interval
# by Fisher's z (Fieller, Hartley and Pearson 1957); for numbers and two-level columns only.
find_direction <- function(st, model, units, label, phi, rows, weight, level) {
  n <- dim(phi)[1]
  reach <- if (n > 4) stats::qnorm((1 + level) / 2) * sqrt(1.06 / (n - 3)) else Inf
  K <- dim(phi)[3]
  classes <- if (K > 1) st$classes else NA_character_
  ranks <- lapply(units, function(unit) {
    x <- if (length(unit) == 1) rows[[unit]]
    if (is.null(x) || is.character(x)) return(NULL)
    if (!is.factor(x) || nlevels(x) == 2 || is.ordered(x)) mid_ranks(as.double(x))
  })
  found <- lapply(seq_len(K), function(k) {
    r <- vapply(
      seq_along(units), function(u) spearman_correlation(ranks[[u]], phi[, u, k]), 0
    )
    sure <- !is.na(r) & abs(atanh(pmin(pmax(r, -1 + 1e-12), 1 - 1e-12))) > reach
    shape <- vapply(seq_along(units), function(u) {
      if (is.na(r[u]) || !has_order(rows[[units[[u]]]])) return(NA_character_)
      way <- if (r[u] > 0) "rises" else "falls"
      if (abs(r[u]) >= 0.5) return(if (sure[u]) way else "not shown")
      bins <- quartiles_of_bins(rows[[units[[u]]]], phi[, u, k], ranks = ranks[[u]])
      if (turns_once(bins)) return("bends")
      if (!sure[u]) return("not shown")
      if (goes_one_way(bins, sign(r[u]))) way else "mixed"
    }, "")
    table_of(
      model = model$name,
      rows = label,
      class = classes[k],
      predictor = names(units),
      mean = colMeans(times(weight, matrix(phi[, , k], n))),
      correlation = r,
      direction = shape
    )
  })
  do.call(rbind, found)
}

# The correlation of two levels without an order tells which is higher, but not which way is up.
has_order <- function(x) !is.logical(x) && (!is.factor(x) || is.ordered(x))

# Spearman's, of the rows where x is known; NA where there is no x, or one of the two does not vary.
spearman_correlation <- function(ranks_of_x, y) {
  known <- !is.na(ranks_of_x)
  if (sum(known) < 2) return(NA_real_)
  suppressWarnings(stats::cor(ranks_of_x[known], mid_ranks(y[known])))
}

# Do the medians of the bins go one way and then the other, and are both legs beyond the quartiles'
# reach?
turns_once <- function(bins) {
  if (length(bins$median) < 4 || is.null(bins$position)) return(FALSE)
  y <- bins$median
  error <- reach_of_medians(bins)
  peak <- which.max(abs(y - (y[1] + y[length(y)]) / 2))
  if (peak == 1 || peak == length(y)) return(FALSE)
  leg <- function(to) abs(y[peak] - y[to]) > error[peak] + error[to]
  same <- sign(y[peak] - y[1]) == sign(y[peak] - y[length(y)])
  same && leg(1) && leg(length(y))
}

# Do the medians of the bins go one way, 1 up or -1 down, from the first to the last beyond the
# quartiles' reach, and nowhere back beyond it?
goes_one_way <- function(bins, way) {
  y <- way * bins$median
  error <- reach_of_medians(bins)
  n <- length(y)
  n > 1 && y[n] - y[1] > error[n] + error[1] && all(diff(y) >= -(error[-1] + error[-n]))
}

# About the 95 % reach of a difference of medians, from the quartiles.
reach_of_medians <- function(bins) {
  1.57 * (bins$upper_quartile - bins$lower_quartile) / sqrt(pmax(bins$rows, 1))
}

# Five bins of equal numbers of rows from low to high, levels by themselves: median and quartiles of
# the contribution.
bin_contributions <- function(x, contribution, bins = 5) {
  if (is.null(x) || all(is.na(x))) {
    return(data.frame(
      bin = character(),
      position = double(),
      median = double(),
      lower_quartile = double(),
      upper_quartile = double(),
      rows = integer()
    ))
  }
  found <- quartiles_of_bins(x, contribution, bins)
  data.frame(
    bin = if (is.null(found$names)) {
      vapply(found$position, function(g) {
        paste(short_number(range(as.double(x[which(found$of == g)]))), collapse = " to ")
      }, "")
    } else {
      found$names[found$position]
    },
    found[c("position", "median", "lower_quartile", "upper_quartile", "rows")],
    row.names = NULL
  )
}

# The same as a list, with the bin of each row (`of`, NA: none) and the names of all values, where
# they are few.
quartiles_of_bins <- function(
    x, contribution, bins = 5, ranks = mid_ranks(as.double(x))) {
  present <- !is.na(x)
  number <- is.numeric(x) || inherits(x, c("Date", "POSIXct"))
  several <- function(x) length(unique(x)) > bins  # the first rows mostly tell
  names <- NULL
  if (number && (several(utils::head(x[present], 100)) || several(x[present]))) {
    of <- findInterval(
      ranks / sum(present), c(0, seq_len(bins) / bins + 1e-12),
      left.open = TRUE
    )
  } else if (is.factor(x)) {
    of <- as.integer(droplevels(x))
    names <- levels(droplevels(x))
  } else {
    values <- sort(unique(x[present]))
    of <- match(x, values)
    names <- as.character(values)
  }
  of[!present] <- NA
  rows <- tabulate(of, max(0L, of, na.rm = TRUE))
  position <- which(rows > 0)
  quartiles <- group_quartiles(of, contribution, length(rows))[, position, drop = FALSE]
  list(
    position = position,
    median = quartiles[2, ],
    lower_quartile = quartiles[1, ],
    upper_quartile = quartiles[3, ],
    rows = rows[position],
    of = of,
    names = names
  )
}
