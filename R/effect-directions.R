# Contributions over many rows: size, mean, direction, and five bins of the value.

#' @export
summary.dreher_contributions <- function(object, ...) {
  own_settings()
  table <- as_plain(object)
  shown <- detail(object, "shown")
  level <- detail(object, "level")
  lists <- split(
    seq_len(nrow(table)),
    factor(list_key(table), unique(list_key(table)))
  )
  out <- do.call(rbind, lapply(lists, function(at) {
    part <- table[at, ]
    held <- shown[[part$model[1]]]
    x <- value_column(held, part)
    bins <- bin_contributions(x, part$contribution)
    r <- value_correlation(x, part$contribution)
    data.frame(
      model = part$model[1], class = part$class[1], predictor = part$predictor[1],
      mean_size = mean(abs(part$contribution)),
      mean = mean(part$contribution),
      correlation = r,
      direction = direction_of(x, part$contribution, r, bins, level),
      rows = nrow(part),
      as.list(medians_of_bins(x, bins))
    )
  }))
  out <- out[order(match(paste(out$model, out$class), unique(paste(out$model, out$class))),
                   -out$mean_size), ]
  rownames(out) <- NULL
  out
}

# Median contributions from the lowest fifth of the values to the highest; NA where there are no
# fifths.
medians_of_bins <- function(x, bins) {
  names <- c("lowest", "low", "middle", "high", "highest")
  fifths <- (is.numeric(x) || inherits(x, c("Date", "POSIXct"))) && nrow(bins) == 5
  stats::setNames(if (fifths) bins$median else rep(NA_real_, 5), names)
}

list_key <- function(table) paste(table$model, table$class, table$predictor, sep = "\r")

# The values of the predictor of these rows; NULL for groups.
value_column <- function(held, part) {
  held$data[[part$predictor[1]]][match(part$row, held$rows)]
}

value_correlation <- function(x, contribution) {
  plain <- is.numeric(x) || inherits(x, c("Date", "POSIXct")) || is.ordered(x) ||
    is.logical(x) || (is.factor(x) && nlevels(x) == 2)
  if (!plain || length(x) < 3) return(NA_real_)
  suppressWarnings(stats::cor(
    as.double(x), contribution, method = "spearman", use = "complete.obs"
  ))
}

direction_of <- function(x, contribution, r, bins, level) {
  if (all(contribution == 0)) return("flat")
  if (is.na(r) || !has_order(x)) return(NA_character_)
  n <- sum(!is.na(x))
  reach <- if (n > 4) stats::qnorm((1 + level) / 2) * sqrt(1.06 / (n - 3)) else Inf
  sure <- abs(atanh(pmin(pmax(r, -1 + 1e-12), 1 - 1e-12))) > reach
  if (sure && abs(r) >= 0.5) return(if (r > 0) "rises" else "falls")
  turned <- turns_once(bins)
  if (turned) "bends" else if (sure) "mixed" else "not shown"
}
