# Shuffled predictions: who receives whose values, and what the model then says.
#
# design list(donors, repeats, own, all): donors[i, r] is the row whose value row i receives in
# repeat r (own: rows x
#          repeats x units, each unit has its own); all: every row receives from every other piece
#          list(rows, repeats, units, base, p): numbers of rows, repeats and units, the rows'
#          predictions as they are (rows x
#          outputs) and shuffled, (rows x repeats x units) x outputs

# Every unit receives from the same rows.
shared_design <- function(donors) list(donors = donors, own = FALSE, repeats = ncol(donors))

# donor[i, r]: the row whose value row i receives in repeat r. Along one random order the values
# are shifted by distinct steps. Rows of a block do not give to each other: where a shift brings
# that about, donors are swapped.
draw_donors <- function(n, repeats, seed, block = NULL) {
  repeats <- min(repeats, n - 1L)
  drawn <- with_stream(
    seed,
    c("donors", n),
    list(order = sample.int(n), shifts = sample.int(n - 1L, repeats))
  )
  donors <- matrix(0L, n, repeats)
  for (r in seq_len(repeats)) {
    donors[drawn$order, r] <- drawn$order[(seq_len(n) - 1L + drawn$shifts[r]) %% n + 1L]
  }
  if (is.null(block)) {
    donors
  } else {
    with_stream(seed, c("swaps", n), swap_within(donors, block))
  }
}

swap_within <- function(donors, block) {
  most <- max(tabulate(block))
  if (most > nrow(donors) / 2) {
    stop_study(
      paste0(
        "One block holds ", most, " of the ", nrow(donors),
        " rows: its rows cannot all receive values from other blocks."
      ),
      todo = "Give rows of more blocks."
    )
  }
  for (r in seq_len(ncol(donors))) {
    before <- donors[, seq_len(r - 1L), drop = FALSE]
    for (i in which(block[donors[, r]] == block)) {
      if (block[donors[i, r]] != block[i]) next  # mended by an earlier swap
      k <- donors[i, r]
      fits <- which(block[donors[, r]] != block[i] & block != block[k])
      fresh <- fits[rowSums(before[fits, , drop = FALSE] == k) == 0 &
          !(donors[fits, r] %in% before[i, ])]
      if (length(fresh)) fits <- fresh  # no pair twice, where that can be
      j <- fits[sample.int(length(fits), 1)]
      donors[c(i, j), r] <- donors[c(j, i), r]
    }
  }
  donors
}

# What is needed of a model and rows before anything is shuffled: `base`, predictions of the rows
# as they are; for forests the rows laid out for the walk, which finds these predictions on its
# way (add_base() finds them alone). inbag: rows x trees, for rows that only count for trees that
# have not seen them; their sums are brought up to the weight of all trees.
open_shuffle <- function(st, model, rows, inbag = NULL) {
  f <- model$forest
  out <- list(st = st, model = model, rows = rows, n = nrow(rows))
  if (is.null(f) || isTRUE(f$shared)) {
    if (!is.null(inbag)) {
      stop_model(
        paste0("Model \"", model$name, "\" has no trees whose own rows are known."),
        todo = "Use rows = \"holdout\"."
      )
    }
    out$base <- predict_aligned(st, model, rows)
    return(out)
  }
  out$inbag <- if (is.null(inbag)) matrix(0L, 0, 0) else inbag
  out$scale <- if (is.null(inbag)) {
    double()
  } else {
    sum(f$weight) / as.vector((inbag == 0) %*% f$weight)
  }
  out$prepared <- shuffle_prepare(f, encode_for_forest(f, rows), st$threads)
  out
}

# A forest's sums and predictions of the rows as they are, from a walk in which nothing is shuffled.
add_base <- function(open) {
  if (is.null(open$prepared)) return(open)
  nobody <- integer(length(open$model$forest$columns))
  open$sum <- shuffle_rows(
    open$prepared, nobody, 1L, seq_len(open$n), 1L, FALSE, open$inbag, open$scale, 1L,
    open$n, open$st$threads
  )$before
  open$base <- forest_says(open, open$sum)
  open
}

# From sums (rows x outputs of the forest) to predictions in the study's classes.
forest_says <- function(open, sum) {
  p <- apply_link(open$model$forest, sum)
  if (open$st$task == "classification") {
    order_classes(p, open$model$classes, open$st, open$model$name)
  } else {
    p
  }
}

# Calls visit(piece) until all units and repeats are done. whole: a piece must hold all rows.
shuffle_pieces <- function(open, units, design, visit, whole = FALSE) {
  if (!is.null(open$prepared)) return(shuffle_forest(open, units, design, visit, whole))
  apart <- !vapply(units, function(u) is.null(separate_terms(open$model, u)), NA)
  if (any(apart)) shuffle_terms(open, units, which(apart), design, visit)
  if (!all(apart)) shuffle_any(open, units, which(!apart), design, visit)
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

# The predictor each of the forest's columns stems from.
forest_origin <- function(model) {
  if (is.null(model$forest$origin)) model$forest$columns else model$forest$origin
}

# Which unit (number among `units`) each of the forest's columns belongs to; 0 for none.
forest_players <- function(model, units) {
  player <- rep(seq_along(units), lengths(units))[match(
      forest_origin(model), unlist(units, use.names = FALSE)
    )]
  player[is.na(player)] <- 0L
  player
}

# One walk for all units and up to 63 repeats, in parts of the rows (or of the units) that the
# memory holds.
shuffle_forest <- function(open, units, design, visit, whole, cells = 2e6) {
  f <- open$model$forest
  K <- length(f$base)
  repeats <- split(seq_len(design$repeats), (seq_len(design$repeats) - 1) %/% 63)
  each <- length(repeats[[1]]) * K
  for (part in split_units(units, if (whole) max(1, cells %/% (open$n * each)) else Inf)) {
    player <- forest_players(open$model, units[part])
    size <- if (whole) open$n else max(64, cells %/% (each * length(part)) %/% 64 * 64)
    for (some in repeats) {
      donors <- if (design$own) {
        design$donors[, some, part, drop = FALSE]
      } else {
        design$donors[, some, drop = FALSE]
      }
      for (from in seq(1, open$n, by = size)) {
        rows <- from:min(open$n, from + size - 1)
        found <- shuffle_rows(
          open$prepared, player, length(part), donors, length(some), design$own,
          open$inbag, open$scale, from, rows[length(rows)], open$st$threads
        )
        dim(found$after) <- c(length(found$after) / K, K)
        visit(list(
          rows = rows,
          repeats = some,
          units = part,
          base = forest_says(open, found$before),
          p = forest_says(open, found$after)
        ))
      }
    }
  }
}

# Linear models: units whose terms hold nothing else take their part of the sum from the donor,
# with no need to predict anew.
shuffle_terms <- function(open, units, which, design, visit, cells = 2e6) {
  sums <- linear_sums(open)
  base <- linear_says(open, sums$eta)
  several <- split(
    seq_len(design$repeats), (seq_len(design$repeats) - 1) %/% max(1, cells %/% open$n)
  )
  for (u in which) {
    part <- sums$part(units[[u]])
    donors <- if (design$own) matrix(design$donors[, , u], open$n) else design$donors
    for (some in several) {
      p <- linear_says(open, as.vector(sums$eta - part + part[donors[, some]]))
      visit(list(rows = seq_len(open$n), repeats = some, units = u, base = base, p = p))
    }
  }
}

# Any model: copies of the rows, several repeats and units in one call, because many models pay
# per call. A unit the user interrupts is lost; those done are not.
shuffle_any <- function(
    open, units, which, design, visit, most_rows = 1e5, most_cells = 2e7) {
  n <- open$n
  at_once <- max(1, min(most_rows, most_cells / max(1, ncol(open$rows))) %/% n)
  jobs <- if (at_once >= design$repeats) {
    lapply(
      split(which, (seq_along(which) - 1) %/% (at_once %/% design$repeats)),
      function(u) list(units = u, repeats = seq_len(design$repeats))
    )
  } else {
    unlist(
      lapply(which, function(u) {
        lapply(
          split(seq_len(design$repeats), (seq_len(design$repeats) - 1) %/% at_once),
          function(r) list(units = u, repeats = r)
        )
      }),
      recursive = FALSE
    )
  }
  step <- progressr::progressor(steps = length(jobs))
  copies <- NULL
  for (job in jobs) {
    m <- length(job$units) * length(job$repeats)
    if (is.null(copies) || nrow(copies) != n * m) {
      copies <- lapply(open$rows, function(x) rep(x, times = m))
      attributes(copies) <- list(
        names = names(open$rows), row.names = .set_row_names(n * m), class = "data.frame"
      )
    }
    shuffled <- copies
    for (j in seq_along(job$units)) {
      donors <- if (design$own) {
        design$donors[, job$repeats, job$units[j]]
      } else {
        design$donors[, job$repeats]
      }
      at <- (j - 1) * n * length(job$repeats) + seq_len(n * length(job$repeats))
      for (p in units[[job$units[j]]]) shuffled[[p]][at] <- open$rows[[p]][donors]
    }
    visit(list(
      rows = seq_len(n),
      repeats = job$repeats,
      units = job$units,
      base = open$base,
      p = predict_aligned(open$st, open$model, shuffled)
    ))
    step(message = "shuffling")
  }
}
