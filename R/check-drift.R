# Do two sets of rows differ, column by column and together? For check_data() and find_drift(). The
# sets are the training rows (1) and the holdout rows (2) of a table.

# --- one by one --------------------------------------------------------------------------------

# only: limits are drawn, and typical values looked up, for columns whose adjusted p-value is below
# it (blocks: limits for all).
compare_columns <- function(table, st, times, level, seed, only = Inf) {
  columns <- c(stats::setNames(list(table$y), about_target), table$columns)
  block <- blocks_of_table(table, st)
  binned <- lapply(columns, bin_both, table$set)
  drawn <- function(p) {
    draw_limits(binned[[p]], table$set, block, times, level, seed, p)
  }
  p_value <- vapply(binned, function(b) b$p_value, 0)
  limits <- list()
  if (!is.null(block)) {
    limits <- lapply(stats::setNames(nm = names(columns)), drawn)
    p_value <- vapply(limits, `[[`, 0, "p_value")
  }
  p_adjusted <- stats::p.adjust(p_value, "holm")
  asked <- which(is.na(p_adjusted) | p_adjusted < only)
  for (p in setdiff(names(columns)[asked], names(limits))) limits[[p]] <- drawn(p)
  each <- function(what) {
    vapply(
      names(columns),
      function(p) {
        if (is.null(limits[[p]])) NA_real_ else limits[[p]][[what]]
      },
      0
    )
  }
  typical <- lapply(seq_along(columns), function(i) {
    if (!i %in% asked) {
      return(list(first = NA_real_, second = NA_real_, level = NA_character_))
    }
    typical_values(columns[[i]], table$set, binned[[i]])
  })
  data.frame(
    predictor = names(columns),
    distance = vapply(binned, `[[`, 0, "distance"),
    lower = each("lower"),
    upper = each("upper"),
    expected = each("expected"),
    p_value = p_value,
    p_adjusted = p_adjusted,
    first = vapply(typical, `[[`, 0, "first"),
    second = vapply(typical, `[[`, 0, "second"),
    level = vapply(typical, `[[`, "", "level"),
    row.names = NULL
  )
}

no_limits <- list(lower = NA_real_, upper = NA_real_, expected = NA_real_, p_value = NA_real_)

blocks_of_table <- function(table, st) {
  if (is.null(st$blocks)) return(NULL)
  block <- unlist(lapply(table$rows, function(rows) as.character(rows[[st$blocks]])))
  match(block, unique(block))
}

# Counts of bins (numbers: 50 of equal size; levels: up to 49 with five rows or more, or all of at
# most 49 where fewer than two have, and the others; missing values a bin of their own, the last)
# in both sets.
bin_column <- function(column) {
  x <- column$x
  bins <- if (column$number || column$ordered) {
    cuts <- unique(stats::quantile(
      x, seq_len(49) / 50, na.rm = TRUE, names = FALSE, type = 1
    ))
    findInterval(x, cuts, left.open = TRUE) + 1L
  } else {
    size <- tabulate(x)
    # Where all but one are rare, few levels stand for themselves.
    least <- if (sum(size >= 5) < 2 && sum(size > 0) <= 49) 1 else 5
    often <- order(-size)[seq_len(min(49, sum(size >= least)))]
    match(x, often, nomatch = 50L)
  }
  gone <- is.na(x)
  if (any(gone)) bins[gone] <- max(bins[!gone], 0) + 1L
  match(bins, sort(unique(bins)))
}

# The largest distance of two distribution functions, over all values; rows without one come last.
largest_gap <- function(x, set) {
  order <- order(x, na.last = TRUE)
  x <- x[order]
  step <- ifelse(set[order] == 1, 1 / sum(set == 1), -1 / sum(set == 2))
  last <- c(x[-1] != x[-length(x)] | is.na(x[-1]) != is.na(x[-length(x)]), TRUE)
  last[is.na(last)] <- FALSE
  max(abs(cumsum(step)[last]))
}

distance_of <- function(share, of_numbers) {
  difference <- share[, 1] - share[, 2]
  if (of_numbers) max(abs(cumsum(difference))) else sum(abs(difference)) / 2
}

# The bins of a column, their shares in both sets, and what these say.
bin_both <- function(column, set) {
  of_numbers <- column$number || column$ordered
  bin <- bin_column(column)
  k <- max(bin)
  counts <- cbind(tabulate(bin[set == 1], k), tabulate(bin[set == 2], k))
  n <- colSums(counts)
  share <- counts / rep(pmax(n, 1), each = k)
  empty <- any(n == 0) || k < 2
  distance <- if (any(n == 0)) {
    NA_real_
  } else if (k < 2) {
    0
  } else if (of_numbers) {
    largest_gap(column$x, set)
  } else {
    distance_of(share, of_numbers)
  }
  list(
    bin = bin,
    share = share,
    n = n,
    of_numbers = of_numbers,
    distance = distance,
    empty = empty,
    p_value = if (empty) {
      NA_real_
    } else if (of_numbers) {
      smirnov(distance, prod(n) / sum(n))
    } else {
      chi_squared(counts)
    }
  )
}

draw_limits <- function(b, set, block, times, level, seed, key) {
  if (b$empty) return(no_limits)
  drawn <- with_stream(seed, c("drift", key), if (is.null(block)) {
    draw_distances(b$share, b$n, times, b$of_numbers)
  } else {
    draw_block_distances(b$bin, set, block, times, b$of_numbers)
  })
  # a distance of draws is larger than the truth by what chance adds to it
  tail <- (1 - level) / 2
  limits <- stats::quantile(drawn$boot, c(tail, 1 - tail), names = FALSE)
  limits <- pmin(pmax(limits - (mean(drawn$boot) - b$distance), 0), 1)
  p_value <- if (is.null(block)) {
    b$p_value
  } else {
    (1 + sum(drawn$null >= b$distance)) / (times + 1)
  }
  # none is a distance that the test does not exclude
  if (isTRUE(p_value > 1 - level)) limits[1] <- 0
  list(
    lower = min(limits[1], b$distance), upper = max(limits[2], b$distance),
    expected = mean(drawn$null), p_value = p_value
  )
}

typical_values <- function(column, set, binned) {
  bin <- binned$bin
  share <- binned$share
  if (column$number) {
    middle <- function(s) {
      stats::median(column$x[set == s], na.rm = TRUE)
    }
    return(list(first = middle(1), second = middle(2), level = NA_character_))
  }
  top <- which.max(abs(share[, 1] - share[, 2]))
  member <- column$x[which(bin == top)[1]]
  several <- length(unique(column$x[bin == top])) > 1
  name <- if (is.na(member)) "missing" else if (several) "others" else column$levels[member]
  list(first = share[top, 1], second = share[top, 2], level = name)
}

# A typical value in words: a number, a date, a time.
value_in_words <- function(v, of_time = "") {
  if (is.na(v)) return("")
  switch(
    of_time,
    date = format(structure(floor(v), class = "Date")),
    time = format(.POSIXct(v, "UTC"), "%Y-%m-%d %H:%M"),
    short_number(v)
  )
}

# Distances of draws from the two sets (boot), and of two sets that are alike (null).
draw_distances <- function(share, n, times, of_numbers) {
  together <- as.vector(share %*% n) / sum(n)
  adds <- lower.tri(diag(length(together)), diag = TRUE) + 0
  draw <- function(size, p) stats::rmultinom(times, size, p) / size
  of <- function(a, b) {
    if (!of_numbers) return(colSums(abs(a - b)) / 2)
    total <- abs(adds %*% (a - b))
    do.call(pmax, lapply(seq_len(nrow(total)), function(i) total[i, ]))
  }
  list(
    boot = of(draw(n[1], share[, 1]), draw(n[2], share[, 2])),
    null = of(draw(n[1], together), draw(n[2], together))
  )
}

# The same with whole blocks: drawn within each set, and exchanged between the sets.
draw_block_distances <- function(bin, set, block, times, of_numbers) {
  k <- max(bin)
  unit <- match(paste(set, block), unique(paste(set, block)))
  counts <- matrix(0, max(unit), k)
  cells <- table(factor(unit, seq_len(max(unit))), factor(bin, seq_len(k)))
  counts[] <- cells
  home <- set[match(seq_len(max(unit)), unit)]
  of <- function(first, second) {
    a <- colSums(counts[first, , drop = FALSE])
    b <- colSums(counts[second, , drop = FALSE])
    distance_of(cbind(a / max(sum(a), 1), b / max(sum(b), 1)), of_numbers)
  }
  one <- which(home == 1)
  two <- which(home == 2)
  again <- function(x) x[sample.int(length(x), replace = TRUE)]
  list(
    boot = vapply(seq_len(times), function(i) of(again(one), again(two)), 0),
    null = vapply(seq_len(times), function(i) {
      exchanged <- sample(home)
      of(which(exchanged == 1), which(exchanged == 2))
    }, 0)
  )
}

# Kolmogorov's limit law with Stephens' correction for finite n (1970). Ties make it cautious.
smirnov <- function(distance, n) {
  t <- (sqrt(n) + 0.12 + 0.11 / sqrt(n)) * distance
  if (t < 0.2) return(1)
  k <- seq_len(100)
  min(1, max(0, 2 * sum((-1)^(k - 1) * exp(-2 * k^2 * t^2))))
}

# Levels met less than five times in a set, by what chance would place there, count as one.
chi_squared <- function(counts) {
  expected <- outer(rowSums(counts), colSums(counts)) / sum(counts)
  rare <- apply(expected, 1, min) < 5
  if (sum(rare) > 1) {
    counts <- rbind(counts[!rare, , drop = FALSE], colSums(counts[rare, , drop = FALSE]))
  }
  counts <- counts[rowSums(counts) > 0, , drop = FALSE]
  if (nrow(counts) < 2) return(1)
  expected <- outer(rowSums(counts), colSums(counts)) / sum(counts)
  stats::pchisq(sum((counts - expected)^2 / expected), nrow(counts) - 1, lower.tail = FALSE)
}

# --- together ----------------------------------------------------------------------------------

# At most so many columns, spread over all, take part.
most_told_apart <- 200L

# How well the sets are told apart by all columns; by which.
tell_apart <- function(table, st, level, seed) {
  usable <- table$columns[columns_that(table, has_several)]
  if (length(usable) > most_told_apart) {
    usable <- usable[unique(round(seq(1, length(usable), length.out = most_told_apart)))]
  }
  nobody <- list(auc = NULL, shares = numeric())
  size <- tabulate(table$set, 2)
  if (!length(usable) || min(size) < 20) return(nobody)
  few <- drawn_equally(table$set, most = 1000)
  columns <- rows_of_columns(usable, few)
  set <- table$set[few]
  y <- matrix((set == 2) - mean(set == 2))
  block <- blocks_of_table(table, st)
  if (!is.null(block)) block <- match(block[few], unique(block[few]))
  fit <- fit_additive(
    with_products(columns), y, parts_of(length(few), seed = seed, block = block)
  )
  ranked <- auc_parts(set == 2, fit$fitted[, 1])
  error <- influence_error(ranked$u, block)
  error$std_error <- folds_widen * error$std_error
  limits <- t_limits(ranked$auc, error$std_error, error$df, level)
  owner <- sub("\r.*", "", names(fit$shares))
  shares <- tapply(pmax(fit$shares, 0), owner, sum)
  list(
    auc = data.frame(
      auc = ranked$auc,
      lower = max(limits$lower, 0),
      # the best rule is never below one half: rows left out only make it look so
      upper = min(max(limits$upper, 0.5), 1),
      n = length(few),
      std_error = error$std_error
    ),
    shares = c(shares / max(sum(shares), 1e-300))
  )
}

drawn_equally <- function(set, most) {
  sort(unlist(lapply(unique(set), function(s) {
    at <- which(set == s)
    if (length(at) > most) at[unique(round(seq(1, length(at), length.out = most)))] else at
  })))
}

# Numbers beside their products, each under the name of the first, so that a change of how two go
# together is seen as well.
with_products <- function(columns) {
  numbers <- names(columns)[vapply(columns, function(column) column$number, NA)]
  if (length(numbers) < 2 || length(numbers) > 12) return(columns)
  scores <- lapply(columns[numbers], function(column) {
    z <- stats::qnorm(column$place)
    ifelse(is.na(z), 0, z)
  })
  pairs <- utils::combn(numbers, 2)
  products <- lapply(seq_len(ncol(pairs)), function(i) {
    x <- scores[[pairs[1, i]]] * scores[[pairs[2, i]]]
    list(number = TRUE, ordered = FALSE, x = x, place = place_of(x))
  })
  names(products) <- paste(pairs[1, ], pairs[2, ], sep = "\r")
  c(columns, products)
}
