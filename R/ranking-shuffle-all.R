# Every row receives from every other: the complete statistic, with no noise of shuffling.
#
# A forest's output is a step function of one column's value, so it is known for all donors at
# once (src/ranking-permutation.h). A linear model's terms of a predictor are columns of numbers,
# of which each row takes every other's. Both are exact. Everything else predicts all pairs, up to
# a stated number of rows.

most_pairs_rows <- 1000L

judge_all <- function(open, units, rule) {
  if (!is.null(rule$cases$block)) {
    stop_study(
      "repeats = \"all\" pairs rows of the same block with each other.",
      todo = "Use repeats = \"auto\" with blocks."
    )
  }
  if (jackknifed(rule$metric) || rule$metric$kind == "auc") {
    return(judge_pairs(
      open,
      units,
      rule,
      paste0("The ", rule$metric$label, " has no loss per row, so that")
    ))
  }
  open <- add_base(open)
  way <- vapply(
    units,
    function(u) {
      if (!is.null(open$prepared)) {
        if (sum(forest_origin(open$model) %in% u) == 1) "steps" else "pairs"
      } else if (is.null(separate_terms(open$model, u))) {
        "pairs"
      } else {
        "terms"
      }
    },
    ""
  )
  parts <- list(
    if (any(way == "steps")) judge_steps(open, units[way == "steps"], rule),
    if (any(way == "terms")) judge_terms(open, units[way == "terms"], rule),
    if (any(way == "pairs")) {
      judge_pairs(
        open,
        units[way == "pairs"],
        rule,
        paste0(
          "Of units of several columns, and of models that are neither forests nor ",
          "sums of terms,"
        )
      )
    }
  )
  found <- unlist(parts, recursive = FALSE)
  structure(
    found[intersect(names(units), names(found))],
    stopped = any(vapply(parts, function(p) isTRUE(attr(p, "stopped")), NA))
  )
}

# All shifts of the one order: each row meets each other once.
judge_pairs <- function(open, units, rule, why) {
  if (open$n > most_pairs_rows) {
    stop_study(
      paste0(
        why, " all pairs of rows are predicted one by one, up to ",
        format(most_pairs_rows, big.mark = ","), " rows; there are ",
        format(open$n, big.mark = ","), "."
      ),
      todo = "Use repeats = \"auto\", or `max_rows`."
    )
  }
  rule$design <- shared_design(draw_donors(open$n, open$n - 1L, rule$seed))
  gather_changes(open, units, rule)
}

judge_steps <- function(open, units, rule, most_runs = 2e6) {
  n <- open$n
  out <- list()
  for (part in split_units(units, 500)) {
    player <- forest_players(open$model, units[part])
    rank <- vapply(
      seq_along(part),
      function(u) shuffle_ranks(open$prepared, match(u, player)),
      integer(n)
    )
    top <- max(rank) + 1L
    # donors below each rank
    count <- apply(rank, 2, function(r) c(0, cumsum(tabulate(r + 1L, top))))
    sums <- new_sums(rule, open, length(part))
    taken <- matrix(0, top, length(part))
    size <- 64L
    from <- 1L
    while (from <= n) {
      rows <- from:min(n, from + size - 1L)
      runs <- shuffle_steps(
        open$prepared, player, length(part), open$inbag, from, rows[length(rows)],
        open$st$threads
      )
      change <- t(runs$change)
      if (length(open$scale)) change <- change * open$scale[runs$row]
      by <- sums$weigh(
        runs$row, forest_says(open, change + open$sum[runs$row, , drop = FALSE])
      )
      many <- count[cbind(runs$hi + 1L, runs$player)] - count[cbind(
          runs$lo + 1L, runs$player
        )]
      sums$add(runs$row, runs$player, by, many)
      taken <- taken + sum_spans(runs$player, runs$lo, runs$hi, by, top, length(part))
      from <- from + length(rows)
      size <- as.integer(max(64, min(n, most_runs / max(1, length(by) / length(rows)))))
    }
    for (u in seq_along(part)) {
      out[[names(units)[part[u]]]] <- sums$judge(u, taken[rank[, u] + 1L, u])
    }
  }
  out
}

# Sums over donors of the weighted changes of losses, per row and unit.
new_sums <- function(rule, open, units) {
  n <- open$n
  loss <- rule$metric$loss(rule$cases$truth, open$base)
  basis <- influence_basis(rule, loss, function(rows) {
    (rep(colSums(rows), each = n) - rows) / (n - 1)
  })
  weight <- rule$cases$weight
  given <- matrix(0, n, units)
  square <- double(units)
  list(
    weigh = function(row, p) {
      times(
        if (!is.null(weight)) weight[row],
        rule$metric$loss(rule$cases$truth[row], p) - loss[row]
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
    judge = function(u, taken) {
      moments <- list(
        given = given[, u] / (n - 1),
        taken = taken / (n - 1),
        square = square[u],
        repeats = n - 1L
      )
      judge_moments(rule, basis, moments)
    }
  )
}

# The terms of a linear model that hold predictors of a unit, if they hold no others.
separate_terms <- function(model, unit) {
  linear <- model$linear
  if (is.null(linear) || is.null(linear$invlink) || is.matrix(linear$beta)) return(NULL)
  held <- which(vapply(linear$columns, function(columns) any(columns %in% unit), NA))
  if (all(vapply(linear$columns[held], function(columns) all(columns %in% unit), NA))) held
}

# Linear predictors of the rows, and part(unit): what the terms of a unit add to them.
linear_sums <- function(open) {
  linear <- open$model$linear
  design <- linear$design(open$rows)
  eta <- as.vector(design %*% linear$beta)
  if (max(abs(linear_says(open, eta) - open$base)) > (if (isTRUE(linear$single)) {
        1e-5
      } else {
        1e-8
      }) * (1 + max(abs(open$base)))) {
    stop_internal(paste0(
      "Model \"", open$model$name, "\": its terms do not add up to its predictions."
    ))
  }
  list(eta = eta, part = function(unit) {
    columns <- which(linear$term %in% separate_terms(open$model, unit))
    as.vector(design[, columns, drop = FALSE] %*% linear$beta[columns])
  })
}

judge_terms <- function(open, units, rule, cells = 2e6) {
  n <- open$n
  found <- linear_sums(open)
  eta <- found$eta
  out <- list()
  for (u in names(units)) {
    part <- found$part(units[[u]])
    sums <- new_sums(rule, open, 1)
    taken <- double(n)
    for (rows in split(seq_len(n), (seq_len(n) - 1) %/% max(1, cells %/% n))) {
      row <- rep(rows, times = n)
      moved <- eta[row] - part[row] + rep(part, each = length(rows))
      by <- sums$weigh(row, linear_says(open, moved))
      by[row == rep(seq_len(n), each = length(rows))] <- 0
      sums$add(row, 1, by, 1)
      taken <- taken + colSums(matrix(by, length(rows)))
    }
    out[[u]] <- sums$judge(1, taken)
  }
  out
}

# From the linear predictor to predictions in the study's classes.
linear_says <- function(open, eta) {
  p <- open$model$linear$invlink(eta)
  if (open$st$task == "regression") return(matrix(p))
  order_classes(cbind(1 - p, p), open$model$classes, open$st, open$model$name)
}
