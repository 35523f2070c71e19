# Importances of shuffled units with their errors: all that the rankings by shuffles are made of.

# Importances of all units, by name: list(importance, std_error, lower, upper, units, share).
# stratum: per unit the strata of conditional shuffles. errors: FALSE where the differences alone
# are wanted. keep: where the user interrupts, the units that are done are returned; else
# the interrupt goes on.
estimate_units <- function(
    context, info, units, design, metric, form, level, seed, stratum = NULL,
    errors = TRUE, keep = FALSE) {
  rule <- list(
    metric = metric, info = info, form = form, level = level, seed = seed,
    design = design, errors = errors, keep = keep
  )
  used <- lengths(units) > 0
  done <- list()
  for (u in names(units)[!used]) done[[u]] <- no_change(rule, context$n)
  units <- units[used]
  found <- if (length(units)) {
    if (isTRUE(design$all)) {
      estimate_all_pairs(context, units, rule)
    } else {
      accumulate_losses(context, units, rule, stratum[used])
    }
  }
  structure(c(done, found), stopped = attr(found, "stopped"))
}

# Units whose shuffles are all done, from the pieces as they come. A tally (tally_of_losses(),
# tally_of_predictions()) takes pieces in and says of each unit what it has seen of it.
accumulate_losses <- function(context, units, rule, stratum = NULL) {
  has_loss <- !jackknifed(rule$metric) && rule$metric$kind != "auc"
  tally <- if (has_loss) {
    tally_of_losses(context, length(units), rule, stratum)
  } else {
    tally_of_predictions(context$n, length(units), rule, stratum)
  }
  shuffle <- function() {
    shuffle_pieces(context, units, rule$design, tally$visit, whole = !has_loss)
  }
  stopped <- FALSE
  if (rule$keep) tryCatch(shuffle(), interrupt = function(e) stopped <<- TRUE) else shuffle()
  whole <- which(tally$seen() == context$n * rule$design$repeats)
  structure(
    stats::setNames(lapply(whole, tally$estimate), names(units)[whole]), stopped = stopped
  )
}

# For scores that are functions of a mean row loss: sums of changes of the losses, of the rows and
# of those that only give.
tally_of_losses <- function(context, units, rule, stratum) {
  n <- nrow(context$givers)
  truth <- rule$info$truth
  loss <- double(n)
  basis <- NULL
  sums <- tally_start(n, units)
  seen <- integer(units)
  power <- if (is.null(rule$metric$power)) 0L else rule$metric$power
  weight <- if (is.null(rule$info$weight)) double() else rule$info$weight
  visit <- function(piece) {
    many <- length(piece$repeats) * length(piece$units)
    loss[piece$rows] <<- rule$metric$loss(truth[piece$rows], piece$base)
    value <- if (power > 0) {
      piece$p
    } else {
      rule$metric$loss(rep(truth[piece$rows], many), piece$p)
    }
    tally_add(
      sums, value, power, piece$rows[1], length(piece$repeats), piece$units, truth, loss,
      weight, some_donors(rule$design, piece$rows, piece$repeats, piece$units),
      rule$design$own, context$st$threads
    )
    seen[piece$units] <<- seen[piece$units] + length(piece$rows) * length(piece$repeats)
  }
  moments <- function(u) tally_read(sums, u, rule$design$repeats)
  estimate <- function(u) {
    if (is.null(basis) || rule$design$own) {
      donors <- all_donors_of(rule$design, u)
      basis <<- influence_basis(rule, loss, function(rows) {
        apply(rows, 2, charge_donors, donors)
      })
    }
    estimate_from_moments(
      rule, basis, c(moments(u), list(repeats = rule$design$repeats)), stratum[[u]]
    )
  }
  list(
    visit = visit, seen = function() seen, estimate = estimate, moments = moments,
    loss = function() loss
  )
}

# For other metrics: a unit's shuffled predictions until they are complete.
tally_of_predictions <- function(n, units, rule, stratum) {
  R <- rule$design$repeats
  done <- vector("list", units)
  cube <- list()
  seen <- integer(units)
  visit <- function(piece) {
    p <- array(
      piece$p,
      c(length(piece$rows), length(piece$repeats), length(piece$units), ncol(piece$p))
    )
    for (u in seq_along(piece$units)) {
      unit <- piece$units[u]
      at <- as.character(unit)
      if (is.null(cube[[at]])) {
        cube[[at]] <<- array(
          0, c(n, R, ncol(piece$p)), list(NULL, NULL, colnames(piece$p))
        )
      }
      cube[[at]][piece$rows, piece$repeats, ] <<- p[, , u, ]
      seen[unit] <<- seen[unit] + length(piece$rows) * length(piece$repeats)
      if (seen[unit] == n * R) {
        done[[unit]] <<- estimate_from_predictions(
          rule, piece$base, cube[[at]], all_donors_of(rule$design, unit), stratum[[unit]]
        )
        cube[[at]] <<- NULL
      }
    }
  }
  list(visit = visit, seen = function() seen, estimate = function(u) done[[u]])
}

# Every row receives from every other: the complete statistic, with no noise of shuffling. Exact
# where the context knows how; everything else predicts all pairs, up to a stated number of rows.
most_pairs_rows <- 1000L

estimate_all_pairs <- function(context, units, rule) {
  if (!is.null(rule$info$block)) {
    stop_study(
      "repeats = \"all\" pairs rows of the same block with each other.",
      todo = "Use repeats = \"auto\" with blocks."
    )
  }
  if (jackknifed(rule$metric) || rule$metric$kind == "auc") {
    return(estimate_pairs(
      context,
      units,
      rule,
      paste0("The ", rule$metric$label, " has no loss per row, so that")
    ))
  }
  context <- add_base(context)
  exact <- has_exact_pairs(context, units)
  pairs <- if (!all(exact)) {
    estimate_pairs(
      context,
      units[!exact],
      rule,
      paste0(
        "Of units of several columns, and of models that are neither forests nor ",
        "sums of terms,"
      )
    )
  }
  found <- c(if (any(exact)) exact_pairs(context, units[exact], rule), pairs)
  structure(
    found[intersect(names(units), names(found))], stopped = isTRUE(attr(pairs, "stopped"))
  )
}

# All shifts of the one order: each row meets each other once.
estimate_pairs <- function(context, units, rule, why) {
  if (context$n > most_pairs_rows) {
    stop_study(
      paste0(
        why, " all pairs of rows are predicted one by one, up to ",
        format(most_pairs_rows, big.mark = ","), " rows; there are ",
        format(context$n, big.mark = ","), "."
      ),
      todo = "Use repeats = \"auto\", or `max_rows`."
    )
  }
  rule$design <- shared_design(draw_donors(context$n, context$n - 1L, rule$seed))
  accumulate_losses(context, units, rule)
}
