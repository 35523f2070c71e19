# What a shuffle costs, and how sure that is.
#
# With D[i, r] the change of row i's influence on the score in repeat r, all that is needed of a
# unit is
#   given     n, mean over the repeats of D of the row as receiver
#   taken     n, sum of D of the rows that received this row's values, over the number of repeats
#   square sum of D^2 Where the score is a function of a mean row loss these are gathered from the
#   changes of the losses, piece by piece.

# Importances of all units, by name: list(importance, std_error, lower, upper, units, share).
# stratum: per unit the strata of conditional shuffles. errors: FALSE where the differences alone
# are wanted. Where the user interrupts, the units that are done.
judge_units <- function(
    open, cases, units, design, metric, form, level, seed, stratum = NULL,
    errors = TRUE) {
  rule <- list(
    metric = metric, cases = cases, form = form, level = level, seed = seed,
    design = design, errors = errors
  )
  used <- lengths(units) > 0
  done <- list()
  idle <- list(
    importance = 0,
    std_error = 0,
    lower = 0,
    upper = 0,
    units = if (!jackknifed(metric)) double(open$n),
    share = NA_real_
  )
  for (u in names(units)[!used]) done[[u]] <- idle
  units <- units[used]
  found <- if (length(units)) {
    if (isTRUE(design$all)) {
      judge_all(open, units, rule)
    } else {
      gather_changes(open, units, rule, stratum[used])
    }
  }
  structure(c(done, found), stopped = attr(found, "stopped"))
}

gather_changes <- function(open, units, rule, stratum = NULL) {
  has_loss <- !jackknifed(rule$metric) && rule$metric$kind != "auc"
  n <- open$n
  R <- rule$design$repeats
  done <- vector("list", length(units))
  names(done) <- names(units)
  if (has_loss) {
    loss <- double(n)
    basis <- NULL
    weight <- rule$cases$weight
    tally <- tally_start(n, length(units))
    seen <- integer(length(units))
    power <- if (is.null(rule$metric$power)) 0L else rule$metric$power
    visit <- function(piece) {
      many <- length(piece$repeats) * length(piece$units)
      loss[piece$rows] <<- rule$metric$loss(rule$cases$truth[piece$rows], piece$base)
      value <- if (power > 0) {
        piece$p
      } else {
        rule$metric$loss(rep(rule$cases$truth[piece$rows], many), piece$p)
      }
      donors <- if (rule$design$own) {
        rule$design$donors[, , piece$units]
      } else {
        rule$design$donors
      }
      tally_add(
        tally,
        value,
        power,
        piece$rows[1],
        piece$repeats,
        piece$units,
        rule$cases$truth,
        loss,
        if (is.null(weight)) double() else weight,
        donors,
        rule$design$own,
        open$st$threads
      )
      seen[piece$units] <<- seen[piece$units] + length(piece$rows) * length(piece$repeats)
    }
    finish <- function(u) {
      if (is.null(basis) || rule$design$own) {
        donors <- if (rule$design$own) {
          matrix(rule$design$donors[, , u], n)
        } else {
          rule$design$donors
        }
        basis <<- influence_basis(rule, loss, function(rows) {
          apply(rows, 2, charge_donors, donors)
        })
      }
      judge_moments(
        rule, basis, c(tally_read(tally, u, R), list(repeats = R)), stratum[[u]]
      )
    }
  } else {
    cube <- list()
    seen <- integer(length(units))
    visit <- function(piece) {
      p <- array(
        piece$p,
        c(length(piece$rows), length(piece$repeats), length(piece$units), ncol(piece$p))
      )
      for (u in seq_along(piece$units)) {
        at <- as.character(piece$units[u])
        if (is.null(cube[[at]])) {
          cube[[at]] <<- array(
            0, c(n, R, ncol(piece$p)), list(NULL, NULL, colnames(piece$p))
          )
        }
        cube[[at]][piece$rows, piece$repeats, ] <<- p[, , u, ]
        seen[piece$units[u]] <<- seen[piece$units[u]] + length(piece$rows) *
          length(piece$repeats)
        if (seen[piece$units[u]] == n * R) {
          donors <- if (rule$design$own) {
            matrix(rule$design$donors[, , piece$units[u]], n)
          } else {
            rule$design$donors
          }
          done[[piece$units[u]]] <<- judge_cube(
            rule, piece$base, cube[[at]], donors, stratum[[piece$units[u]]]
          )
          cube[[at]] <<- NULL
        }
      }
    }
    finish <- function(u) done[[u]]
  }
  stopped <- FALSE
  tryCatch(
    shuffle_pieces(open, units, rule$design, visit, whole = !has_loss),
    interrupt = function(e) stopped <<- TRUE
  )
  whole <- which(seen == n * R)
  structure(
    stats::setNames(lapply(whole, finish), names(units)[whole]), stopped = stopped
  )
}

# What the influences of rows are made of (loss_form()): rows x (loss, 1 and what else), times
# their weight; and pass(rows), what donors are charged with of it. -> rows, passed, and the score
# before the shuffle
influence_basis <- function(rule, loss, pass) {
  spread <- target_spread(rule$metric, rule$cases$truth, rule$cases$weight)
  rows <- times(rule$cases$weight, cbind(loss, 1, spread$v, deparse.level = 0))
  m <- mean(rows[, 1])
  list(
    rows = rows,
    passed = pass(rows),
    m = m,
    spread = spread["V"],
    before = loss_form(rule$metric, m, spread)
  )
}

# moments of the weighted changes of the row losses -> importance
judge_moments <- function(rule, basis, moments, stratum = NULL) {
  n <- nrow(basis$rows)
  if (moments$square == 0) {
    return(list(
      importance = 0, std_error = 0, lower = 0, upper = 0, units = double(n),
      share = NA_real_
    ))
  }
  before <- basis$before
  after <- loss_form(rule$metric, basis$m + mean(moments$given), basis$spread)
  scale <- ratio_scale(rule, before$loss, after$loss)
  if (!rule$errors) return(list(importance = scale$value))
  # D = slope * change + e, e the same in all repeats
  slope <- scale$after * after$slope
  e <- c(
    slope - scale$before * before$slope,
    scale$after * after$shift - scale$before * before$shift,
    scale$after * after$along - scale$before * before$along
  )
  found <- two_way_sums(
    moments$given,
    moments$taken,
    moments$square,
    moments$repeats,
    slope,
    basis$rows,
    basis$passed,
    e[seq_len(ncol(basis$rows))],
    if (is.null(stratum)) integer() else stratum
  )
  finish_judging(
    rule, scale$value, error_of_sums(found, moments$repeats, rule$cases$block)
  )
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

finish_judging <- function(rule, value, found) {
  limits <- if (is.null(found$units)) {
    t_limits(value, found$std_error, found$df, rule$level)
  } else {
    leaning_limits(
      value,
      found$std_error,
      found$df,
      rule$level,
      as.vector(block_sums(found$units, rule$cases$block))
    )
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
judge_cube <- function(rule, base, shuffled, donors, stratum = NULL) {
  metric <- rule$metric
  cases <- rule$cases
  n <- nrow(donors)
  if (all(shuffled == as.vector(base[rep(seq_len(n), ncol(donors)), ]))) {
    return(list(
      importance = 0,
      std_error = 0,
      lower = 0,
      upper = 0,
      units = if (!jackknifed(metric)) double(n),
      share = NA_real_
    ))
  }
  before <- metric_influence(metric, cases$truth, base, cases$weight)
  after <- metric_shuffled(metric, cases$truth, shuffled, cases$weight)
  scale <- ratio_scale(rule, before$loss, after$loss)
  if (!rule$errors) return(list(importance = scale$value))
  if (jackknifed(metric)) {
    block <- jackknife_blocks(cases, rule$seed)
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
      rowMeans(D), taken, sum(D^2), ncol(donors), cases$block, stratum
    )
  }
  finish_judging(rule, scale$value, found)
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

# sums: list(units = given + taken, their variances var_units, var_given, var_taken, and square)
error_of_sums <- function(sums, repeats, block) {
  n <- length(sums$units)
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
    units = sums$units,
    share = min(pair_variance(sums, repeats) / (n * repeats) / max(V2 - q, V2 / 4), 1)
  )
}

# The part of a change that belongs to the pair of rows and neither to the receiver nor to the
# donor: all that is left to chance when every row gives and receives once in each repeat. By
# moments: var(given) + var(taken) holds the rows' own parts (1 + 1/R) times and the pairs' 2/R
# times, the mean square both once. With all pairs nothing is left to chance.
pair_variance <- function(sums, repeats) {
  n <- length(sums$units)
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
    some <- some_cases(rule$cases, rows)
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
