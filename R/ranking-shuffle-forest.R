# Shuffles of a forest: one walk per row and tree for all units and repeats at once.

# From sums (rows x outputs of the forest) to predictions in the study's classes.
forest_says <- function(context, sum) {
  p <- apply_link(context$model$forest, sum)
  if (context$st$task == "classification") {
    order_classes(p, context$model$classes, context$st, context$model$name)
  } else {
    p
  }
}

# Which unit (number among `units`) each of the forest's columns belongs to; 0 for none.
forest_players <- function(model, units) {
  player <- rep(seq_along(units), lengths(units))[match(
      forest_origin(model), unlist(units, use.names = FALSE)
    )]
  player[is.na(player)] <- 0L
  player
}

# Units that go through one walk: disjoint, and no more than the memory holds.
split_units <- function(units, at_once) {
  if (!anyDuplicated(unlist(units, use.names = FALSE))) {
    return(split(seq_along(units), (seq_along(units) - 1) %/% at_once))
  }
  layer <- integer(length(units))
  used <- list()
  for (i in seq_along(units)) {
    free <- which(vapply(
      used, function(u) !any(units[[i]] %in% u$predictors) && u$count < at_once, NA
    ))[1]
    if (is.na(free)) {
      free <- length(used) + 1L
      used[[free]] <- list(predictors = character(), count = 0L)
    }
    used[[free]] <- list(
      predictors = c(used[[free]]$predictors, units[[i]]), count = used[[free]]$count + 1L
    )
    layer[i] <- free
  }
  split(seq_along(units), layer)
}

# A forest's sums and predictions of the rows as they are, from a walk in which nothing is shuffled.
#' @export
add_base.shuffle_forest <- function(context) {
  nobody <- integer(length(context$model$forest$columns))
  context$sum <- shuffle_rows(
    context$prepared, nobody, 1L, seq_len(context$n), 1L, FALSE, context$inbag,
    context$scale, 1L, context$n, context$st$threads
  )$before
  context$base <- forest_says(context, context$sum)
  context
}

# One walk for all units and up to 63 repeats, in parts of the rows (or of the units) that the
# memory holds.
#' @export
shuffle_pieces.shuffle_forest <- function(
    context, units, design, visit, which = seq_along(units), whole = FALSE, cells = 2e6,
    ...) {
  K <- length(context$model$forest$base)
  repeats <- split(seq_len(design$repeats), (seq_len(design$repeats) - 1) %/% 63)
  each <- length(repeats[[1]]) * K
  at_once <- if (whole) max(1, cells %/% (context$n * each)) else Inf
  for (part in split_units(units, at_once)) {
    player <- forest_players(context$model, units[part])
    size <- if (whole) context$n else max(64, cells %/% (each * length(part)) %/% 64 * 64)
    for (some in repeats) {
      for (from in seq(1, context$n, by = size)) {
        rows <- from:min(context$n, from + size - 1)
        found <- shuffle_rows(
          context$prepared, player, length(part), some_donors(design, rows, some, part),
          length(some), design$own, context$inbag, context$scale, from,
          rows[length(rows)], context$st$threads
        )
        dim(found$after) <- c(length(found$after) / K, K)
        visit(list(
          rows = rows,
          repeats = some,
          units = part,
          base = forest_says(context, found$before),
          p = forest_says(context, found$after)
        ))
      }
    }
  }
}

# A forest's output is a step function of one column's value, so it is known for all donors at once
# (src/ranking-steps.h).
#' @export
has_exact_pairs.shuffle_forest <- function(context, units) {
  vapply(units, function(u) sum(forest_origin(context$model) %in% u) == 1, NA)
}

#' @export
exact_pairs.shuffle_forest <- function(context, units, rule, most_runs = 2e6, ...) {
  n <- context$n
  out <- list()
  for (part in split_units(units, 500)) {
    player <- forest_players(context$model, units[part])
    rank <- vapply(
      seq_along(part),
      function(u) shuffle_ranks(context$prepared, match(u, player)),
      integer(n)
    )
    top <- max(rank) + 1L
    # donors below each rank
    count <- apply(rank, 2, function(r) c(0, cumsum(tabulate(r + 1L, top))))
    sums <- sums_over_donors(rule, context, length(part))
    taken <- matrix(0, top, length(part))
    size <- 64L
    from <- 1L
    while (from <= n) {
      rows <- from:min(n, from + size - 1L)
      runs <- shuffle_steps(
        context$prepared, player, length(part), context$inbag, from, rows[length(rows)],
        context$st$threads
      )
      change <- t(runs$change)
      if (length(context$scale)) change <- change * context$scale[runs$row]
      by <- sums$weigh(
        runs$row, forest_says(context, change + context$sum[runs$row, , drop = FALSE])
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
      out[[names(units)[part[u]]]] <- sums$estimate(u, taken[rank[, u] + 1L, u])
    }
  }
  out
}
