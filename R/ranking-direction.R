# Which way a predictor acts, from its values and its contributions row by row.

# Does a predictor's value go with its contribution, and which way? Rank correlation, its interval
# by Fisher's z (Fieller, Hartley and Pearson 1957); for numbers and two-level columns only.
find_direction <- function(st, model, units, label, phi, rows, weight, level) {
  n <- dim(phi)[1]
  reach <- if (n > 4) stats::qnorm((1 + level) / 2) * sqrt(1.06 / (n - 3)) else Inf
  K <- dim(phi)[3]
  classes <- if (K > 1) st$classes else NA_character_
  found <- lapply(seq_len(K), function(k) {
    r <- vapply(
      seq_along(units),
      function(u) {
        x <- if (length(units[[u]]) == 1) rows[[units[[u]]]]
        if (is.factor(x) && nlevels(x) != 2 && !is.ordered(x)) return(NA_real_)
        if (is.null(x) || is.character(x)) return(NA_real_)
        spearman_correlation(as.double(x), phi[, u, k])
      },
      0
    )
    sure <- !is.na(r) & abs(atanh(pmin(pmax(r, -1 + 1e-12), 1 - 1e-12))) > reach
    turns <- vapply(seq_along(units), function(u) {
      !is.na(r[u]) && abs(r[u]) < 0.5 &&
        turns_once(quartiles_of_bins(rows[[units[[u]]]], phi[, u, k]))
    }, NA)
    table_of(
      model = model$name,
      rows = label,
      class = classes[k],
      predictor = names(units),
      mean = colMeans(times(weight, matrix(phi[, , k], n))),
      correlation = r,
      direction = ifelse(
        is.na(r),
        NA_character_,
        ifelse(
          turns,
          "bends",
          ifelse(
            !sure,
            "not shown",
            ifelse(abs(r) < 0.5, "mixed", ifelse(r > 0, "rises", "falls"))
          )
        )
      )
    )
  })
  do.call(rbind, found)
}

# Spearman's, of the rows where x is known; NA where one of the two does not vary.
spearman_correlation <- function(x, y) {
  known <- !is.na(x)
  if (sum(known) < 2) return(NA_real_)
  suppressWarnings(stats::cor(mid_ranks(x[known]), mid_ranks(y[known])))
}

# Do the medians of the bins go one way and then the other, and are both legs beyond the quartiles'
# reach?
turns_once <- function(bins) {
  if (length(bins$median) < 4 || is.null(bins$position)) return(FALSE)
  y <- bins$median
  error <- 1.57 * (bins$upper_quartile - bins$lower_quartile) / sqrt(pmax(bins$rows, 1))
  peak <- which.max(abs(y - (y[1] + y[length(y)]) / 2))
  if (peak == 1 || peak == length(y)) return(FALSE)
  leg <- function(to) abs(y[peak] - y[to]) > error[peak] + error[to]
  same <- sign(y[peak] - y[1]) == sign(y[peak] - y[length(y)])
  same && leg(1) && leg(length(y))
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
      vapply(found$members, function(at) {
        paste(signif(range(as.double(x[at])), 4), collapse = " to ")
      }, "")
    } else {
      found$names[found$position]
    },
    found[c("position", "median", "lower_quartile", "upper_quartile", "rows")],
    row.names = NULL
  )
}

# The same as a list, with the rows of each bin (`members`) and the names of all values, where they
# are few.
quartiles_of_bins <- function(x, contribution, bins = 5) {
  present <- !is.na(x)
  values <- unique(x[present])
  number <- is.numeric(x) || inherits(x, c("Date", "POSIXct"))
  names <- NULL
  if (number && length(values) > bins) {
    of <- findInterval(
      mid_ranks(as.double(x)) / sum(present), c(0, seq_len(bins) / bins + 1e-12),
      left.open = TRUE
    )
  } else if (is.factor(x)) {
    of <- as.integer(droplevels(x))
    names <- levels(droplevels(x))
  } else {
    of <- match(x, sort(values))
    names <- as.character(sort(values))
  }
  members <- split(which(present), of[present])
  quartiles <- vapply(
    members,
    function(at) stats::quantile(contribution[at], c(0.25, 0.5, 0.75), names = FALSE),
    c(0, 0, 0)
  )
  list(
    position = as.integer(names(members)),
    median = quartiles[2, ],
    lower_quartile = quartiles[1, ],
    upper_quartile = quartiles[3, ],
    rows = lengths(members),
    members = members,
    names = names
  )
}
