# What a shuffle costs, and how sure that is.
#
# With D[i, r] the change of row i's influence on the score in repeat r, all that is needed of a
# unit is
#   given   n, mean over the repeats of D of the row as receiver
#   taken   n, sum of D of the rows that received this row's values, over the number of repeats
#   square  sum of D^2
# Where the score is a function of a mean row loss these are gathered from the changes of the
# losses, piece by piece.

# What the influences of rows are made of (loss_form()): rows x (loss, 1 and what else), times
# their weight; and pass(rows), what donors are charged with of it. -> rows, passed, the mean loss
# m, and the target's spread
influence_basis <- function(rule, loss, pass) {
  spread <- target_spread(rule$metric, rule$info$truth, rule$info$weight)
  rows <- times(rule$info$weight, cbind(loss, 1, spread$v, deparse.level = 0))
  list(rows = rows, passed = pass(rows), m = mean(rows[, 1]), spread = spread["V"])
}

# moments of the weighted changes of the row losses -> importance
estimate_from_moments <- function(rule, basis, moments, stratum = NULL) {
  if (moments$square == 0) return(no_change(rule, nrow(basis$rows)))
  change <- change_of_score(
    rule, basis$m, mean(moments$given), basis$spread, ncol(basis$rows)
  )
  if (!rule$errors) return(list(importance = change$value))
  found <- two_way_sums(
    moments$given,
    moments$taken,
    moments$square,
    moments$repeats,
    change$slope,
    basis$rows,
    basis$passed,
    change$e,
    if (is.null(stratum)) integer() else stratum
  )
  finish_estimate(
    rule, change$value, error_of_sums(found, moments$repeats, rule$info$block)
  )
}

# A unit whose shuffles change nothing. n: of how many rows the influences are kept; NULL: none.
no_change <- function(rule, n) {
  list(
    importance = 0, std_error = 0, lower = 0, upper = 0,
    units = if (!is.null(n) && !jackknifed(rule$metric)) double(n), share = NA_real_
  )
}

# What a rise of the mean row loss from m is for the score, and a row's part in it: slope times the
# row's change, and e times its basis (`parts` columns), the same in all repeats.
change_of_score <- function(rule, m, rise, spread, parts) {
  before <- loss_form(rule$metric, m, spread)
  after <- loss_form(rule$metric, m + rise, spread)
  scale <- ratio_scale(rule, before$loss, after$loss)
  slope <- scale$after * after$slope
  e <- c(
    slope - scale$before * before$slope,
    scale$after * after$shift - scale$before * before$shift,
    scale$after * after$along - scale$before * before$along
  )
  list(value = scale$value, slope = slope, e = e[seq_len(parts)])
}

# A ratio is worked out on its logarithm: influences are divided by the loss they are of.
ratio_scale <- function(rule, before, after) {
  if (rule$form == "difference") {
    return(list(value = after - before, before = 1, after = 1))
  }
  if (!(before > 0 && after > 0)) {
    stop_study(
      paste0("The ratio is undefined: the ", rule$metric$label, " is 0."),
      todo = "Use form = \"difference\"."
    )
  }
  list(value = log(after / before), before = 1 / before, after = 1 / after)
}

finish_estimate <- function(rule, value, found) {
  if (is.null(found$tails) && !is.null(found$units)) {
    found$tails <- tails_of(as.vector(block_sums(found$units, rule$info$block)))
  }
  limits <- if (is.null(found$tails)) {
    t_limits(value, found$std_error, found$df, rule$level)
  } else {
    skew_limits(value, found$std_error, found$df, rule$level, found$tails)
  }
  if (rule$form == "ratio") {
    limits <- lapply(limits, expm1)
    found$std_error <- exp(value) * found$std_error
    value <- expm1(value)
  }
  c(list(importance = value), found[c("std_error", "units", "share")], limits)
}

# Metrics without a loss per row: one unit with the rows' predictions and all its shuffled ones
# (rows x repeats x outputs).
estimate_from_predictions <- function(rule, base, shuffled, donors, stratum = NULL) {
  metric <- rule$metric
  info <- rule$info
  n <- nrow(donors)
  if (all(shuffled == as.vector(base[rep(seq_len(n), ncol(donors)), ]))) {
    return(no_change(rule, n))
  }
  before <- metric_influence(metric, info$truth, base, info$weight)
  after <- metric_shuffled(metric, info$truth, shuffled, info$weight)
  scale <- ratio_scale(rule, before$loss, after$loss)
  if (!rule$errors) return(list(importance = scale$value))
  if (jackknifed(metric)) {
    block <- jackknife_blocks(info, rule$seed)
    found <- list(
      std_error = sqrt(block_variance(rule, base, shuffled, donors, block)),
      df = length(unique(block)) - 1,
      units = NULL,
      share = NA_real_
    )
  } else {
    D <- scale$after * after$u - scale$before * before$u
    taken <- double(n)
    for (r in seq_len(ncol(donors))) {
      taken[donors[, r]] <- taken[donors[, r]] + D[, r] / ncol(donors)
    }
    found <- two_way_error(
      rowMeans(D), taken, sum(D^2), ncol(donors), info$block, stratum
    )
  }
  finish_estimate(rule, scale$value, found)
}

# A row matters as receiver and as donor; the shuffles' noise is in both. Within strata the
# donor's part is told from the stratum's mean: the strata's own differences are in the
# receiver's.
two_way_error <- function(given, taken, square, repeats, block = NULL, stratum = NULL) {
  none <- matrix(0, length(given), 0)
  error_of_sums(
    two_way_sums(
      given,
      taken,
      square,
      repeats,
      1,
      none,
      none,
      double(),
      if (is.null(stratum)) integer() else stratum
    ),
    repeats,
    block
  )
}

# sums: list(units = given + taken, their variances var_units, var_given, var_taken, and square);
# or their number n in the place of the units.
error_of_sums <- function(sums, repeats, block) {
  if (is.null(sums$n)) sums$n <- length(sums$units)
  n <- sums$n
  whole <- if (is.null(block)) {
    list(cov = sums$var_units / n, df = n - 1)
  } else {
    influence_error(sums$units, block)
  }
  V2 <- as.vector(whole$cov)
  q <- sums$square / (n * repeats)^2
  off <- if (repeats < 5) q else q / 2
  list(
    std_error = sqrt(max(V2 - off, V2 / 4)),
    df = whole$df,
    units = sums[["units"]],
    share = min(pair_variance(sums, repeats) / (n * repeats) / max(V2 - q, V2 / 4), 1)
  )
}

# The part of a change that belongs to the pair of rows and neither to the receiver nor to the
# donor: all that is left to chance when every row gives and receives once in each repeat. By
# moments: var(given) + var(taken) holds the rows' own parts (1 + 1/R) times and the pairs' 2/R
# times, the mean square both once. With all pairs nothing is left to chance.
pair_variance <- function(sums, repeats) {
  n <- sums$n
  if (repeats < 2) return(NA_real_)
  if (repeats >= n - 1) return(0)
  max(
    0,
    (sums$square / (n * repeats) * (1 + 1 / repeats) - sums$var_given - sums$var_taken) /
      (1 - 1 / repeats)
  )
}

# Any metric: drop each block as receivers and as donors, and look how the importance moves.
block_variance <- function(rule, base, shuffled, donors, block) {
  loss <- function(p, rows) {
    some <- some_info(rule$info, rows)
    metric_influence(rule$metric, some$truth, p[rows, , drop = FALSE], some$weight)$loss
  }
  values <- vapply(
    unique(block),
    function(g) {
      stays <- block != g
      after <- vapply(
        seq_len(ncol(donors)),
        function(r) {
          loss(slice_repeat(shuffled, r), which(stays & block[donors[, r]] != g))
        },
        0
      )
      ratio_scale(rule, loss(base, which(stays)), mean(after))$value
    },
    0
  )
  jackknife_variance(values)
}

# Sums over donors of the weighted changes of losses, per row and unit.
sums_over_donors <- function(rule, context, units) {
  n <- context$n
  loss <- rule$metric$loss(rule$info$truth, context$base)
  basis <- influence_basis(rule, loss, function(rows) {
    (rep(colSums(rows), each = n) - rows) / (n - 1)
  })
  weight <- rule$info$weight
  given <- matrix(0, n, units)
  square <- double(units)
  list(
    weigh = function(row, p) {
      times(
        if (!is.null(weight)) weight[row],
        rule$metric$loss(rule$info$truth[row], p) - loss[row]
      )
    },
    # by: one change; many: how many donors bring it about
    add = function(row, unit, by, many) {
      cell <- row + n * (unit - 1)
      given <<- given + sum_cells(cell, by * many, n, units)
      square <<- square + as.vector(sum_cells(
        rep_len(unit, length(by)), by^2 * many, units, 1
      ))
    },
    estimate = function(u, taken) {
      moments <- list(
        given = given[, u] / (n - 1),
        taken = taken / (n - 1),
        square = square[u],
        repeats = n - 1L
      )
      estimate_from_moments(rule, basis, moments)
    }
  )
}
