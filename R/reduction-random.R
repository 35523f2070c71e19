# Random sets of as many predictors, beside the path: the same in every fold, scored by the first
# drawing of the folds. They come in rounds; a number of predictors is done once enough of its
# random sets score as well as its own (Besag and Clifford 1991).

random_round <- 10L
# So many that score as well settle a p value: its standard error is then below a third of it.
enough_as_good <- 10L

random_counts <- function(plan) {
  points <- plan$settings$points
  points[points > 0 & points < length(plan$units)]
}

# Different sets of k units, in the order they are drawn.
random_sets <- function(plan, k) {
  drawn <- lapply(seq_len(plan$settings$random), function(s) {
    units <- with_stream(
      plan$settings$seed, c("random set", plan$ranker, k, s), sample(names(plan$units), k)
    )
    intersect(plan$universe, c(plan$keep, unlist(plan$units[units])))
  })
  drawn[!duplicated(drawn)]
}

sets_of_round <- function(plan, k, round) {
  sets <- random_sets(plan, k)
  sets[(seq_along(sets) - 1) %/% random_round + 1 == round]
}

# counts and rounds go together: one of each for every number that is at work.
random_pieces <- function(
    plan, counts = random_counts(plan), rounds = rep(1L, length(counts))) {
  if (plan$settings$random == 0) return(NULL)
  folds <- seq_len(plan$settings$folds)
  unlist(
    Map(
      function(k, r) {
        lapply(folds, function(f) {
          list(
            model = plan$ranker, part = "random", time = 1L, fold = f, count = k,
            round = r
          )
        })
      },
      counts,
      rounds
    ),
    recursive = FALSE,
    use.names = FALSE
  )
}

# Losses of the sets that these pieces scored: a row per set, in the order of drawing.
random_losses <- function(st, plan, pieces, values, fold_of, info) {
  done <- unique(data.frame(
    count = vapply(pieces, `[[`, 1L, "count"), round = vapply(pieces, `[[`, 1L, "round")
  ))
  one <- function(k, r) {
    parts <- lapply(seq_len(plan$settings$folds), function(f) {
      values[[paste(plan$ranker, "random", 1L, f, k, r, sep = "/")]]
    })
    sets <- sets_of_round(plan, k, r)
    scored <- stack_folds(parts, fold_of[, 1])
    data.frame(
      count = k,
      round = r,
      set = vapply(sets, function(s) fingerprint(sort_text(s)), ""),
      loss = if (is.null(scored)) NA_real_ else losses_of_sets(st, info, scored)
    )
  }
  do.call(rbind, Map(one, done$count, done$round))
}

# Round by round, for the numbers that need more sets. do_pieces(): as run_pieces()
# -> list(curves, failed, pieces: how many there were)
score_further_random <- function(st, plans, curves, do_pieces) {
  failed <- NULL
  pieces <- 0
  repeat {
    further <- lapply(stats::setNames(nm = names(plans)), function(m) {
      further_random(st, plans[[m]], curves[[m]])
    })
    now <- unlist(further, recursive = FALSE, use.names = FALSE)
    if (!length(now)) return(list(curves = curves, failed = failed, pieces = pieces))
    done <- do_pieces(now)
    failed <- rbind(failed, done$failed)
    pieces <- pieces + length(now)
    for (m in names(plans)[lengths(further) > 0]) {
      curve <- curves[[m]]
      scored <- random_losses(
        st, plans[[m]], further[[m]], done$values, curve$fold_of, curve$info
      )
      curves[[m]]$random <- rbind(curve$random, scored)
    }
  }
}

# What is still to be scored once a round is done.
further_random <- function(st, plan, curve) {
  if (is.null(curve$random)) return(NULL)
  last <- tapply(curve$random$round, curve$random$count, max)
  counts <- as.integer(names(last))
  rounds <- as.integer(last) + 1L
  open <- mapply(
    function(k, r) {
      length(sets_of_round(plan, k, r)) > 0 &&
        isTRUE(random_of_count(st, curve, k)$as_good < enough_as_good)
    },
    counts,
    rounds
  )
  random_pieces(plan, counts[open], rounds[open])
}

# The p value of a number's own set among the others of its size.
random_of_count <- function(st, curve, k) {
  at <- match(as.character(k), names(curve$columns))
  own <- losses_of_sets(st, curve$info, curve$outer[[1]][, at, , drop = FALSE])
  path <- fingerprint(sort_text(curve$columns[[at]]))
  drawn <- curve$random[curve$random$count == k, ]
  sequential_p(own, drawn$loss[is.finite(drawn$loss) & drawn$set != path])
}

# others: losses in the order they were drawn. Where enough of them are no larger, those up to the
# last of these count, and their share is the p value; else the own one is counted in.
sequential_p <- function(own, others) {
  if (!is.finite(own) || !length(others)) {
    return(list(p = NA_real_, sets = 0L, as_good = NA_integer_))
  }
  as_good <- cumsum(others <= own)
  settled <- match(enough_as_good, as_good)
  if (!is.na(settled)) {
    return(list(p = enough_as_good / settled, sets = settled, as_good = enough_as_good))
  }
  good <- as_good[length(as_good)]
  list(p = (1 + good) / (1 + length(others)), sets = length(others), as_good = good)
}

# Random sets beside each column of the curve, both on the first drawing of the folds.
random_band <- function(st, curve) {
  none <- data.frame(
    random = NA_real_, random_lower = NA_real_, random_upper = NA_real_,
    random_p = NA_real_, random_sets = NA_integer_, random_as_good = NA_integer_
  )
  out <- none[rep(1, length(curve$columns)), ]
  for (k in unique(curve$random$count)) {
    loss <- curve$random$loss[curve$random$count == k]
    loss <- loss[is.finite(loss)]
    if (!length(loss)) next
    band <- sort(as_score(
      st$metric, stats::quantile(loss, c(0.05, 0.95), names = FALSE)
    ))
    beside <- random_of_count(st, curve, k)
    out[match(as.character(k), names(curve$columns)), ] <- list(
      as_score(st$metric, mean(loss)), band[1], band[2], beside$p, beside$sets,
      beside$as_good
    )
  }
  out
}
