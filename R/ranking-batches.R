# Permutation importance of rows in a store: the numbers of rows in memory, in the memory of a
# batch.
#
# The rows are laid out in the random order in which values are shifted, so that the donors of a
# batch of rows are the rows just behind it. A batch and those are a shuffle of their own, of which
# the last rows only give. What a row has given is known with its batch; what it has taken (as a
# donor) too, but for the first rows, whose receivers come last. Errors and limits are functions of
# moments, which are added up around means of the first batch: of each unit's given and taken
# changes, beside the rows' basis and what is passed on of it (ranking-influence.R).

permute_store <- function(model, st, evaluation, units, form, repeats, level, seed) {
  evaluation$of <- NULL
  n <- st$store$rows
  now <- if (identical(repeats, "auto")) 10L else min(repeats, n - 1L)
  shuffled <- shuffled_store(st, seed)
  info <- some_info(whole_info(st), draw_order(n, seed))
  repeat {
    rule <- list(
      metric = st$metric, info = info, form = form, level = level, seed = seed,
      design = list(repeats = now, own = FALSE), errors = TRUE
    )
    estimates <- estimate_store(shuffled, st, model, units, rule)
    noise <- shuffle_share(estimates)
    if (!identical(repeats, "auto") || is.na(noise) || noise < 0.1 || now >= 160L) break
    now <- 2L * now
  }
  context <- list(st = st, model = model, n = n)
  ranking_of_shuffles(context, evaluation, units, estimates, now, form, seed, level, noise)
}

# What cannot be added up batch by batch; NULL where all can.
why_not_batches <- function(st, repeats = 10, conditional = FALSE) {
  if (jackknifed(st$metric) || st$metric$kind == "auc") {
    paste0(
      "The ", st$metric$label, " has no loss per row: its shuffled predictions must all be ",
      "there at once."
    )
  } else if (!is.null(st$blocks)) {
    "Rows of a block may be anywhere: who gives to whom is not known batch by batch."
  } else if (conditional) {
    "Conditional permutation groups all rows into strata."
  } else if (identical(repeats, "all")) {
    "With repeats = \"all\" every row receives from every other."
  }
}

check_permuted_store <- function(st, repeats, conditional) {
  why <- why_not_batches(st, repeats, conditional)
  if (!is.null(why)) {
    stop_study(
      why,
      todo = paste0(
        "Give `max_rows`, for example max_rows = ",
        format(st$store$in_memory, scientific = FALSE), ": so many rows are drawn."
      )
    )
  }
}

# Permutation importance of a store cannot always take all rows at once: how many are drawn.
rows_permuted <- function(st) {
  if (!is.null(st$store) && !is.null(why_not_batches(st))) st$store$in_memory
}

# The columns of the predictors in the order of the shuffles: laid out once for all models of a
# call, which removes them at its end.
shuffled_store <- function(st, seed) {
  columns <- unique(unlist(lapply(st$models, function(m) columns_for(st, m))))
  kept(st, paste("shuffled", seed), reorder_store(
    st$store, draw_order(st$store$rows, seed), columns, tempfile("shuffled")
  ))
}

remove_shuffled <- function(st) {
  for (name in grep("^shuffled ", ls(st$memory), value = TRUE)) {
    unlink(get(name, st$memory)$folder, recursive = TRUE)
    rm(list = name, envir = st$memory)
  }
}

estimate_store <- function(shuffled, st, model, units, rule) {
  n <- shuffled$rows
  R <- rule$design$repeats
  spread <- target_spread(rule$metric, rule$info$truth, rule$info$weight)
  ones <- if (is.null(rule$info$weight)) 2L else integer()
  sums <- moments_of_units(length(units), ones)
  square <- double(length(units))
  held <- NULL  # of the first rows, which have not taken all
  ahead <- matrix(0, R, length(units))  # what the rows behind have taken so far
  behind <- NULL  # basis of the last rows
  size <- max(batch_rows(shuffled), R)
  parts <- split_range(n, size)
  with_bar({
    step <- progressr::progressor(steps = length(parts))
    for (part in parts) {
      m <- part[2] - part[1] + 1
      found <- shuffle_batch(shuffled, st, model, units, rule, part)
      square <- square + found$square
      basis <- times(
        rule$info$weight[part[1]:part[2]],
        cbind(found$loss, 1, spread$v[part[1]:part[2]], deparse.level = 0)
      )
      taken <- found$taken
      taken[seq_len(R), ] <- taken[seq_len(R), , drop = FALSE] + ahead
      ahead <- taken[m + seq_len(R), , drop = FALSE]
      own <- list(
        given = found$given, taken = taken[seq_len(m), , drop = FALSE], basis = basis
      )
      if (is.null(behind)) {
        held <- lapply(own, function(x) x[seq_len(R), , drop = FALSE])
        behind <- held$basis
        own <- lapply(own, function(x) x[-seq_len(R), , drop = FALSE])
      }
      sums$add(own, passed_on(behind, own$basis, R))
      behind <- utils::tail(rbind(behind, own$basis), R)
      step(message = "shuffling")
    }
  })
  held$taken <- held$taken + ahead
  sums$add(held, passed_on(behind, held$basis, R))
  out <- lapply(seq_along(units), function(u) {
    estimate_from_sums(rule, sums$of(u), square[u], spread["V"], ones)
  })
  stats::setNames(out, names(units))
}

# Mean of the `repeats` rows before each, of whom it received: basis with those before it.
passed_on <- function(before, basis, repeats) {
  m <- nrow(basis)
  all <- rbind(before, basis)
  out <- 0 * basis
  for (r in seq_len(repeats)) {
    out <- out + all[repeats - r + seq_len(m), , drop = FALSE]
  }
  out / repeats
}

# A batch of rows, from and to in the order of the shuffles: their losses, given (rows x units),
# taken (rows and the donors behind them x units), and sums of squares.
shuffle_batch <- function(shuffled, st, model, units, rule, part) {
  n <- shuffled$rows
  R <- rule$design$repeats
  m <- part[2] - part[1] + 1
  last <- min(n, part[2] + R)
  rows <- store_rows(shuffled, part[1], last)
  if (last < part[2] + R) {
    rows <- join_rows(rows, store_rows(shuffled, 1, part[2] + R - last))
  }
  context <- tryCatch(
    {
      rows <- model_rows(st, model, rows)
      own <- seq_len(m)
      open_shuffle(st, model, rows[own, , drop = FALSE], grid = rows[-own, , drop = FALSE])
    },
    dreher_error = function(e) {
      predict_whole(st, model)  # fails as well, and says which row of the user's it is
      stop(e)
    }
  )
  at <- (part[1] - 1 + seq_len(m + R) - 1) %% n + 1
  rule$info <- list(truth = rule$info$truth[at], weight = rule$info$weight[at])
  rule$design <- shared_design(outer(seq_len(m), seq_len(R), `+`))
  used <- lengths(units) > 0
  tally <- tally_of_losses(context, length(units), rule, NULL)
  shuffle_pieces(context, units[used], rule$design, function(piece) {
    piece$units <- which(used)[piece$units]
    tally$visit(piece)
  })
  each <- lapply(seq_along(units), tally$moments)
  list(
    loss = tally$loss()[seq_len(m)],
    given = do.call(cbind, lapply(each, function(e) e$given[seq_len(m)])),
    taken = do.call(cbind, lapply(each, `[[`, "taken")),
    square = vapply(each, `[[`, 0, "square")
  )
}

# Products of the columns of each unit, added up around the means of the first rows. Columns of the
# basis that are 1 in all rows (`ones`) need no sums.
moments_of_units <- function(units, ones) {
  centre <- vector("list", units)
  products <- vector("list", units)
  tails <- vector("list", units)
  rows <- 0
  list(
    # own: list(given, taken, basis); passed: of the basis
    add = function(own, passed) {
      m <- nrow(own$basis)
      if (!m) return(invisible())
      rows <<- rows + m
      varies <- setdiff(seq_len(ncol(passed)), ones)
      shared <- cbind(own$basis[, varies, drop = FALSE], passed[, varies, drop = FALSE])
      for (u in seq_len(units)) {
        z <- cbind(own$given[, u], own$taken[, u], shared)
        if (is.null(centre[[u]])) centre[[u]] <<- colMeans(z)
        z <- z - rep(centre[[u]], each = m)
        products[[u]] <<- join_sums(products[[u]], crossprod(cbind(1, z)))
        tails[[u]] <<- join_sums(tails[[u]], crossprod(monomials(whole_influence(z))))
      }
    },
    # -> rows, mean (of given, taken, basis, passed), their products around it, and tails
    of = function(u) {
      first <- products[[u]][1, -1]
      parts <- (length(first) - 2) / 2 + length(ones)
      at <- setdiff(seq_len(2 + 2 * parts), 2 + c(ones, parts + ones))
      mean <- rep(1, 2 + 2 * parts)
      mean[at] <- centre[[u]] + first / rows
      around <- matrix(0, length(mean), length(mean))
      around[at, at] <- products[[u]][-1, -1] - tcrossprod(first) / rows
      list(rows = rows, mean = mean, around = around, tails = tails[[u]])
    }
  )
}

join_sums <- function(a, b) if (is.null(a)) b else a + b

# given + taken, and basis + passed.
whole_influence <- function(z) {
  parts <- (ncol(z) - 2) / 2
  cbind(
    z[, 1] + z[, 2],
    z[, 2 + seq_len(parts), drop = FALSE] + z[, 2 + parts + seq_len(parts), drop = FALSE]
  )
}

# 1, the columns, and their products two by two: sums of the products of these are all moments up
# to the fourth.
monomials <- function(t) {
  pairs <- pairs_of_columns(ncol(t))
  cbind(1, t, t[, pairs[, 1], drop = FALSE] * t[, pairs[, 2], drop = FALSE])
}

pairs_of_columns <- function(d) which(upper.tri(diag(d), diag = TRUE), arr.ind = TRUE)

# The estimate of a unit: what estimate_from_moments() works out of the rows, from their sums.
estimate_from_sums <- function(rule, sums, square, V, ones) {
  if (square == 0) return(no_change(rule, NULL))
  n <- sums$rows
  R <- rule$design$repeats
  parts <- (length(sums$mean) - 2) / 2
  basis <- 2 + seq_len(parts)
  change <- change_of_score(rule, sums$mean[basis[1]], sums$mean[1], V, parts)
  variance <- function(by) sum(by * (sums$around %*% by)) / (n - 1)
  give <- take <- e <- double(length(sums$mean))
  e[basis] <- change$e
  take[parts + basis] <- change$e
  give[1] <- take[2] <- change$slope
  give <- give + e
  plain <- sums$around + n * tcrossprod(sums$mean)
  found <- list(
    n = n, var_units = variance(give + take), var_given = variance(give),
    var_taken = variance(take),
    square = change$slope^2 * square + 2 * change$slope * R * sum(e * plain[, 1]) +
      R * sum(e * (plain %*% e))
  )
  error <- error_of_sums(found, R, NULL)
  varies <- setdiff(seq_len(parts), ones)
  error$tails <- tails_of_sums(sums$tails, c(change$slope, change$e[varies]), n)
  finish_estimate(rule, change$value, error)
}

# Skewness and kurtosis of a sum of the columns behind monomials(), weighted `by`, as tails_of() has
# them.
tails_of_sums <- function(products, by, n) {
  d <- length(by)
  pairs <- pairs_of_columns(d)
  around <- -sum(by * products[1, 1 + seq_len(d)]) / n
  once <- c(around, by, double(nrow(pairs)))
  twice <- c(
    around^2, 2 * around * by,
    ifelse(pairs[, 1] == pairs[, 2], 1, 2) * by[pairs[, 1]] * by[pairs[, 2]]
  )
  moment <- function(a, b) sum(a * (products %*% b))
  tails_of_moments(n, moment(once, once), moment(once, twice), moment(twice, twice))
}
