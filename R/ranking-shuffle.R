# Shuffled predictions: who receives whose values, and what the model then says.
#
# design   list(donors, repeats, own, all): donors[i, r] is the row whose value row i receives in repeat r (own: rows x
#          repeats x units, each unit has its own); all: every row receives from every other
# piece    list(rows, repeats, units, p): numbers of rows, repeats and units, and their predictions, (rows x repeats x units) x outputs

# Every unit receives from the same rows.
shared_design <- function(donors) list(donors = donors, own = FALSE, repeats = ncol(donors))

# donor[i, r]: the row whose value row i receives in repeat r. Along one random order the values are shifted by distinct
# steps. Rows of a block do not give to each other: where a shift brings that about, donors are swapped.
draw_donors <- function(n, repeats, seed, block = NULL) {
  repeats <- min(repeats, n - 1L)
  drawn <- with_stream(seed, c("donors", n), list(order = sample.int(n), shifts = sample.int(n - 1L, repeats)))
  donors <- matrix(0L, n, repeats)
  for (r in seq_len(repeats)) {
    donors[drawn$order, r] <- drawn$order[(seq_len(n) - 1L + drawn$shifts[r]) %% n + 1L]
  }
  if (is.null(block)) donors else with_stream(seed, c("swaps", n), swap_within(donors, block))
}

swap_within <- function(donors, block) {
  most <- max(tabulate(block))
  if (most > nrow(donors) / 2) {
    stop_study(paste0("One block holds ", most, " of the ", nrow(donors), " rows: its rows cannot all receive values from other blocks."), todo = "Give rows of more blocks.")
  }
  for (r in seq_len(ncol(donors))) {
    before <- donors[, seq_len(r - 1L), drop = FALSE]
    for (i in which(block[donors[, r]] == block)) {
      if (block[donors[i, r]] != block[i]) next   # mended by an earlier swap
      k <- donors[i, r]
      fits <- which(block[donors[, r]] != block[i] & block != block[k])
      fresh <- fits[rowSums(before[fits, , drop = FALSE] == k) == 0 & !(donors[fits, r] %in% before[i, ])]
      if (length(fresh)) fits <- fresh   # no pair twice, where that can be
      j <- fits[sample.int(length(fits), 1)]
      donors[c(i, j), r] <- donors[c(j, i), r]
    }
  }
  donors
}

# What is needed of a model and rows before anything is shuffled: `base`, predictions of the rows as they are, and for
# forests the sums behind them. inbag: rows x trees, for rows that only count for trees that have not seen them.
open_shuffle <- function(st, model, rows, inbag = NULL) {
  f <- model$forest
  if (is.null(f) || isTRUE(f$shared)) {
    if (!is.null(inbag)) stop_model(paste0("Model \"", model$name, "\" has no trees whose own rows are known."), todo = "Use rows = \"holdout\".")
    return(list(st = st, model = model, rows = rows, n = nrow(rows), base = predict_aligned(st, model, rows)))
  }
  x <- encode_for_forest(f, rows)
  sum <- if (is.null(inbag)) forest_predict(f, x, st$threads) else predict_left_out(f, x, inbag, st$threads)
  out <- list(st = st, model = model, rows = rows, n = nrow(rows), sum = sum, inbag = if (is.null(inbag)) matrix(0L, 0, 0) else inbag,
              scale = if (is.null(inbag)) double() else sum(f$weight) / as.vector((inbag == 0) %*% f$weight))
  out$base <- forest_says(out, sum)
  out$prepared <- shuffle_prepare(f, x, st$threads)
  out
}

# Sums over the trees that have not seen a row, brought up to the weight of all trees.
predict_left_out <- function(f, x, inbag, threads) {
  out <- matrix(0, nrow(x), length(f$base))
  for (part in split(seq_len(nrow(x)), (seq_len(nrow(x)) - 1) %/% 1000)) {
    ends <- forest_ends(f, x[part, , drop = FALSE], threads)
    share <- (inbag[part, , drop = FALSE] == 0) * rep(f$weight, each = length(part))
    for (k in seq_along(f$base)) out[part, k] <- rowSums(share * f$value[k, ends + 1L]) * sum(f$weight) / rowSums(share)
  }
  out + rep(f$base, each = nrow(out))
}

# From sums (rows x outputs of the forest) to predictions in the study's classes.
forest_says <- function(open, sum) {
  p <- apply_link(open$model$forest, sum)
  if (open$st$task == "classification") order_classes(p, open$model$classes, open$st, open$model$name) else p
}

# Calls visit(piece) until all units and repeats are done. whole: a piece must hold all rows.
shuffle_pieces <- function(open, units, design, visit, whole = FALSE) {
  if (is.null(open$prepared)) shuffle_any(open, units, design, visit) else shuffle_forest(open, units, design, visit, whole)
}

# Units that go through one walk: disjoint, and no more than the memory holds.
split_units <- function(units, at_once) {
  layer <- integer(length(units))
  used <- list()
  for (i in seq_along(units)) {
    free <- which(vapply(used, function(u) !any(units[[i]] %in% u$predictors) && u$count < at_once, NA))[1]
    if (is.na(free)) {
      free <- length(used) + 1L
      used[[free]] <- list(predictors = character(), count = 0L)
    }
    used[[free]] <- list(predictors = c(used[[free]]$predictors, units[[i]]), count = used[[free]]$count + 1L)
    layer[i] <- free
  }
  split(seq_along(units), layer)
}

# The predictor each of the forest's columns stems from.
forest_origin <- function(model) if (is.null(model$forest$origin)) model$forest$columns else model$forest$origin

# Which unit (number among `units`) each of the forest's columns belongs to; 0 for none.
forest_players <- function(model, units) {
  origin <- forest_origin(model)
  player <- integer(length(origin))
  for (u in seq_along(units)) player[origin %in% units[[u]]] <- u
  player
}

# One walk for all units and up to 63 repeats, in parts of the rows (or of the units) that the memory holds.
shuffle_forest <- function(open, units, design, visit, whole, cells = 2e6) {
  f <- open$model$forest
  K <- ncol(open$sum)
  repeats <- split(seq_len(design$repeats), (seq_len(design$repeats) - 1) %/% 63)
  each <- length(repeats[[1]]) * K
  for (part in split_units(units, if (whole) max(1, cells %/% (open$n * each)) else Inf)) {
    player <- forest_players(open$model, units[part])
    size <- if (whole) open$n else max(64, cells %/% (each * length(part)) %/% 64 * 64)
    for (some in repeats) {
      donors <- if (design$own) design$donors[, some, part, drop = FALSE] else design$donors[, some, drop = FALSE]
      for (from in seq(1, open$n, by = size)) {
        rows <- from:min(open$n, from + size - 1)
        after <- shuffle_rows(open$prepared, player, length(part), donors, length(some), design$own, open$inbag, open$sum, open$scale, from, rows[length(rows)], open$st$threads)
        dim(after) <- c(length(after) / K, K)
        visit(list(rows = rows, repeats = some, units = part, p = forest_says(open, after)))
      }
    }
  }
}

# Any model: copies of the rows, several repeats and units in one call, because many models pay per call. A unit the
# user interrupts is lost; those done are not.
shuffle_any <- function(open, units, design, visit, most_rows = 1e5, most_cells = 2e7) {
  n <- open$n
  at_once <- max(1, min(most_rows, most_cells / max(1, ncol(open$rows))) %/% n)
  jobs <- if (at_once >= design$repeats) {
    lapply(split(seq_along(units), (seq_along(units) - 1) %/% (at_once %/% design$repeats)), function(u) list(units = u, repeats = seq_len(design$repeats)))
  } else {
    unlist(lapply(seq_along(units), function(u) {
      lapply(split(seq_len(design$repeats), (seq_len(design$repeats) - 1) %/% at_once), function(r) list(units = u, repeats = r))
    }), recursive = FALSE)
  }
  step <- progressr::progressor(steps = length(jobs))
  copies <- NULL
  for (job in jobs) {
    m <- length(job$units) * length(job$repeats)
    if (is.null(copies) || nrow(copies) != n * m) {
      copies <- lapply(open$rows, function(x) rep(x, times = m))
      attributes(copies) <- list(names = names(open$rows), row.names = .set_row_names(n * m), class = "data.frame")
    }
    shuffled <- copies
    for (j in seq_along(job$units)) {
      donors <- if (design$own) design$donors[, job$repeats, job$units[j]] else design$donors[, job$repeats]
      at <- (j - 1) * n * length(job$repeats) + seq_len(n * length(job$repeats))
      for (p in units[[job$units[j]]]) shuffled[[p]][at] <- open$rows[[p]][donors]
    }
    visit(list(rows = seq_len(n), repeats = job$repeats, units = job$units, p = predict_aligned(open$st, open$model, shuffled)))
    step(message = "shuffling")
  }
}
