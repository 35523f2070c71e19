# The nested cross-validation score: what a way of choosing is worth on rows it has not seen.
#
# Every outer split chose its own set; the held-out rows score that choice alone. Three things are
# put right. The final choice may be of another size: its curve's loss stands for it, and the splits
# say by how much such a loss is too low. Outer splits train on fewer rows than the final model: the
# inner folds, which train on fewer still, say how much that costs. And rows act twice, judged and
# as training rows: what the second adds to the error is the jackknife over outer folds of what
# their absence does to the losses of the other rows.

# inside: the column that each split chose; at: that of the final set; outer: the curve's moments
# -> score, price and skill with limits; `shift`: what was added to the splits' loss
nested_score <- function(rd, curve, inside, at, outer) {
  st <- rd$study
  full <- match("all", names(curve$columns))
  m <- curve_moments(st, curve$info, nested_predictions(curve, inside, full), rd$seed, 1:3)
  chosen <- losses_without(curve, inside)
  chosen$final <- outer$loss[at]
  against <- function(column) {
    c(
      Map(`-`, chosen, losses_of_column(curve, column, outer)),
      list(
        rows = max(
          difference_error(m, 1, if (column == 1L) 3 else 2),
          difference_error(outer, at, column)
        )^2,
        on_path = training_on_path(curve, column, outer)
      )
    )
  }
  ratio <- (rd$inner_folds - 1) / rd$folds
  score <- nested_loss(m, curve, chosen, ratio, rd)
  price <- nested_difference(
    m$loss[1] - m$loss[2], m$df, curve, against(full), ratio, rd
  )
  worse <- nested_difference(
    m$loss[1] - m$loss[3], m$df, curve, against(1L), ratio, rd
  )
  limits <- sort(as_score(st$metric, c(score$lower, score$upper)), na.last = TRUE)
  limits <- within_score(st$metric, list(lower = limits[1], upper = limits[2]))
  of <- function(loss) possible_score(as_score(st$metric, loss), st$metric)
  list(
    score = of(score$value),
    lower = limits$lower,
    upper = limits$upper,
    price = price$value,
    price_error = price$error,
    price_lower = price$lower,
    price_upper = price$upper,
    skill = -worse$value,
    skill_lower = -worse$upper,
    skill_upper = -worse$lower,
    full_score = of(score$value - price$value),
    constant_score = if (judges_order(st$metric)) 0.5 else of(score$value - worse$value),
    shift = score$value - m$loss[1]
  )
}

# Per drawing: predictions of each row by its split's choice, by all predictors, by the constant.
nested_predictions <- function(curve, inside, full) {
  lapply(seq_along(curve$outer), function(t) {
    three <- curve$outer[[t]][, c(1, full, 1), , drop = FALSE]
    three[, 1, ] <- NA  # rows whose split made no choice do not count
    for (i in which(vapply(curve$splits, `[[`, 1L, "time") == t)) {
      rows <- curve$fold_of[, t] == curve$splits[[i]]$fold
      three[rows, 1, ] <- curve$outer[[t]][rows, inside[i], ]
    }
    three
  })
}

# Per split and over the rows not in its fold: the loss of a column in the folds inside it, that of
# the outer folds, and by how much the first exceeds the second. What stands beside the path is not
# tried inside (NA).
losses_without <- function(curve, columns) {
  inner <- mapply(function(s, k) s$inner$loss[k], curve$splits, columns)
  rise <- mapply(function(s, k) s$rise[k], curve$splits, columns)
  list(inner = inner, outer = inner - rise, rise = rise)
}

losses_of_column <- function(curve, column, outer) {
  c(
    losses_without(curve, rep(column, length(curve$splits))),
    list(final = outer$loss[column])
  )
}

# What is added to the splits' mean loss. Training on fewer rows costs: at most one standard error
# over rows is taken off.
shift_of <- function(of, ratio, error) {
  gain <- ratio * mean(of$rise, na.rm = TRUE)
  other_size <- of$final - mean(of$outer, na.rm = TRUE)
  (if (is.finite(other_size)) other_size else 0) -
    if (is.finite(gain)) max(-error, min(error, gain)) else 0
}

# Jackknife over the outer folds, averaged over drawings. x: a value a split, without its fold
fold_jackknife <- function(curve, x) {
  time <- vapply(curve$splits, `[[`, 1L, "time")
  each <- vapply(split(x, time), function(v) {
    v <- v[is.finite(v)]
    if (length(v) > 1) jackknife_variance(v) else NA_real_
  }, 0)
  if (all(is.na(each))) NA_real_ else mean(each, na.rm = TRUE)
}

nested_loss <- function(m, curve, of, ratio, rd) {
  rows <- m$cov[1, 1]
  value <- m$loss[1] + shift_of(of, ratio, sqrt(rows))
  trained <- fold_jackknife(curve, of$rise)
  if (is.na(trained)) trained <- widened(rows, rd$folds) - rows
  limits <- if (is.null(m$u)) {
    t_limits(0, sqrt(rows), m$df, rd$level)
  } else {
    u <- block_sums(m$u[, 1], curve$info$block)
    skew_limits(0, sqrt(rows), m$df, rd$level, as.vector(u), more = 0)
  }
  # Both parts of the error together: their squares add up.
  beside <- t_limits(0, sqrt(trained), m$df, rd$level)$upper^2
  list(
    value = value,
    lower = value - sqrt(limits$lower^2 + beside),
    upper = value + sqrt(limits$upper^2 + beside)
  )
}

# What training adds to the variance of a difference: a jackknife over as few values as there are
# folds is noisy (its logarithm varies by about one in simulations). That of what fewer training
# rows add, and that of the inner difference itself, which has a part of the rows in it, err in part
# apart (their logarithms correlate by 0.3 to 0.65): the geometric mean of the two is steadier.
training_variance <- function(curve, of) {
  sqrt(fold_jackknife(curve, of$rise) * fold_jackknife(curve, of$inner))
}

# The same of all sets of the path less a column, each as a multiple of its variance over rows:
# their geometric mean. NaN where no set differs from the column.
training_on_path <- function(curve, column, outer) {
  reference <- losses_of_column(curve, column, outer)
  each <- vapply(
    setdiff(seq_along(curve$columns)[-1], column),
    function(k) {
      of <- Map(`-`, losses_of_column(curve, k, outer), reference)
      training_variance(curve, of) / difference_error(outer, k, column)^2
    },
    0
  )
  exp(mean(log(each[is.finite(each) & each > 0])))
}

# The choice less a reference. of: differences as of losses_without(), their variance over rows
# (the larger one: of what the splits chose, or of the final set on the curve), and what training
# adds on the path. What it adds to this choice is noise in good part, and a jackknife is too large
# on average (Efron and Stein 1981): it is the geometric mean of that (twice), of the path's, and of
# half the variance over rows.
nested_difference <- function(value, df, curve, of, ratio, rd) {
  value <- value + shift_of(of, ratio, sqrt(of$rows))
  trained <- training_variance(curve, of)
  path <- if (is.finite(of$on_path)) of$on_path else 1
  variance <- if (is.na(trained)) {
    widened(of$rows, rd$folds)
  } else {
    of$rows + sqrt(trained * of$rows * sqrt(path / 2))
  }
  c(
    list(value = value, error = sqrt(variance)),
    t_limits(value, sqrt(variance), df, rd$level)
  )
}

# The nested score of each drawing's own splits, with the same shift.
score_of_drawings <- function(st, curve, inside, shift) {
  full <- match("all", names(curve$columns))
  vapply(
    nested_predictions(curve, inside, full),
    function(p) {
      rows <- scored_rows(p, 1L)
      loss <- losses_of_sets(st, curve$info, p[, 1, , drop = FALSE], rows)
      possible_score(as_score(st$metric, loss + shift), st$metric)
    },
    0
  )
}
