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
        suppressWarnings(stats::cor(
          as.double(x), phi[, u, k], method = "spearman", use = "complete.obs"
        ))
      },
      0
    )
    sure <- !is.na(r) & abs(atanh(pmin(pmax(r, -1 + 1e-12), 1 - 1e-12))) > reach
    turns <- vapply(seq_along(units), function(u) {
      !is.na(r[u]) && abs(r[u]) < 0.5 &&
        turns_once(bin_contributions(rows[[units[[u]]]], phi[, u, k]))
    }, NA)
    data.frame(
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
      ),
      row.names = NULL
    )
  })
  do.call(rbind, found)
}

# Do the medians of the bins go one way and then the other, and are both legs beyond the quartiles'
# reach?
turns_once <- function(bins) {
  if (nrow(bins) < 4 || is.null(bins$position)) return(FALSE)
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
  present <- !is.na(x)
  if (is.null(x) || !any(present)) {
    return(data.frame(
      bin = character(),
      position = double(),
      median = double(),
      lower_quartile = double(),
      upper_quartile = double(),
      rows = integer()
    ))
  }
  number <- is.numeric(x) || inherits(x, c("Date", "POSIXct"))
  distinct <- length(unique(x[present]))
  of <- if (number && distinct > bins) {
    cut(
      rank(as.double(x), na.last = "keep", ties.method = "average") / sum(present),
      c(0, seq_len(bins) / bins + 1e-12),
      labels = FALSE
    )
  } else if (is.factor(x)) {
    as.integer(droplevels(x))
  } else {
    match(x, sort(unique(x[present])))
  }
  names <- if (number && distinct > bins) {
    NULL
  } else if (is.factor(x)) {
    levels(droplevels(x))
  } else {
    as.character(sort(unique(x[present])))
  }
  rows <- split(which(present), of[present])
  quartiles <- vapply(
    rows, function(at) stats::quantile(contribution[at], c(0.25, 0.5, 0.75), names = FALSE),
    c(0, 0, 0)
  )
  used <- as.integer(names(rows))
  data.frame(
    bin = if (is.null(names)) {
      vapply(rows, function(at) {
        paste(signif(range(as.double(x[at])), 4), collapse = " to ")
      }, "")
    } else {
      names[used]
    },
    position = used,
    median = quartiles[2, ],
    lower_quartile = quartiles[1, ],
    upper_quartile = quartiles[3, ],
    rows = lengths(rows),
    row.names = NULL
  )
}
