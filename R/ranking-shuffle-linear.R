# Shuffles of a linear model: units whose terms hold nothing else take their part of the sum from
# the donor, with no need to predict anew.

# The terms of a linear model that hold predictors of a unit, if they hold no others.
separate_terms <- function(model, unit) {
  linear <- model$linear
  if (is.null(linear) || is.null(linear$invlink) || is.matrix(linear$beta)) return(NULL)
  held <- which(vapply(linear$columns, function(columns) any(columns %in% unit), NA))
  if (all(vapply(linear$columns[held], function(columns) all(columns %in% unit), NA))) held
}

# Linear predictors of the rows, and part(unit): what the terms of a unit add to them, for all that
# give.
linear_sums <- function(context) {
  linear <- context$model$linear
  design <- linear$design(context$givers)
  eta <- as.vector(design[seq_len(context$n), , drop = FALSE] %*% linear$beta)
  if (max(abs(linear_says(context, eta) - context$base)) > (if (isTRUE(linear$single)) {
        1e-5
      } else {
        1e-8
      }) * (1 + max(abs(context$base)))) {
    stop_internal(paste0(
      "Model \"", context$model$name, "\": its terms do not add up to its predictions."
    ))
  }
  list(eta = eta, part = function(unit) {
    columns <- which(linear$term %in% separate_terms(context$model, unit))
    as.vector(design[, columns, drop = FALSE] %*% linear$beta[columns])
  })
}

# From the linear predictor to predictions in the study's classes.
linear_says <- function(context, eta) {
  p <- context$model$linear$invlink(eta)
  if (context$st$task == "regression") return(matrix(p))
  order_classes(cbind(1 - p, p), context$model$classes, context$st, context$model$name)
}


#' @export
shuffle_pieces.shuffle_linear <- function(
    context, units, design, visit, which = seq_along(units), whole = FALSE, cells = 2e6,
    ...) {
  apart <- vapply(
    units[which], function(u) !is.null(separate_terms(context$model, u)), NA
  )
  if (any(apart)) {
    n <- context$n
    sums <- linear_sums(context)
    base <- linear_says(context, sums$eta)
    several <- split(
      seq_len(design$repeats), (seq_len(design$repeats) - 1) %/% max(1, cells %/% n)
    )
    for (u in which[apart]) {
      part <- sums$part(units[[u]])
      donors <- all_donors_of(design, u)
      for (some in several) {
        p <- linear_says(
          context, as.vector(sums$eta - part[seq_len(n)] + part[donors[, some]])
        )
        visit(list(rows = seq_len(n), repeats = some, units = u, base = base, p = p))
      }
    }
  }
  if (!all(apart)) {
    shuffle_pieces.shuffle_any(context, units, design, visit, which[!apart], whole)
  }
}

#' @export
has_exact_pairs.shuffle_linear <- function(context, units) {
  vapply(units, function(u) !is.null(separate_terms(context$model, u)), NA)
}

# Terms of a predictor are columns of numbers, of which each row takes every other's.
#' @export
exact_pairs.shuffle_linear <- function(context, units, rule, cells = 2e6, ...) {
  n <- context$n
  found <- linear_sums(context)
  eta <- found$eta
  out <- list()
  for (u in names(units)) {
    part <- found$part(units[[u]])
    sums <- sums_over_donors(rule, context, 1)
    taken <- double(n)
    for (rows in split(seq_len(n), (seq_len(n) - 1) %/% max(1, cells %/% n))) {
      row <- rep(rows, times = n)
      moved <- eta[row] - part[row] + rep(part, each = length(rows))
      by <- sums$weigh(row, linear_says(context, moved))
      by[row == rep(seq_len(n), each = length(rows))] <- 0
      sums$add(row, 1, by, 1)
      taken <- taken + colSums(matrix(by, length(rows)))
    }
    out[[u]] <- sums$estimate(1, taken)
  }
  out
}
