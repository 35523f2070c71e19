# Small models and slow oracles shared by the tests.

# What a test draws without a seed of its own is the same in every run of its file.
set.seed(1)

kiln <- demo_kiln(missing = FALSE)
kiln_raw <- demo_kiln()
loans <- demo_loans()

kiln_rows <- function(
    n, part = "train", drop = c("ring_tone", "defect", "tile_id", "batch"), data = kiln) {
  d <- data[[part]][seq_len(n), ]
  d[setdiff(names(d), drop)]
}

small_forest <- function(formula, data, trees = 10, ...) {
  # By do.call, so that the stored call names the settings and not `...`.
  do.call(
    ranger::ranger, list(formula, data, num.trees = trees, seed = 1, num.threads = 1, ...)
  )
}

# A forest with the factors and the missing values one wants, without any modelling package: random
# splits, random values. Predicts by plain R, one node at a time.
random_flat_forest <- function(
    columns, levels = list(), trees = 3, depth = 4, outputs = 1) {
  grow <- function() {
    nodes <- list()
    add <- function(level) {
      at <- length(nodes) + 1
      nodes[[at]] <<- list()
      node <- list(
        column = -1L,
        threshold = 0,
        left = 0L,
        right = 0L,
        missing = 0L,
        set = integer(),
        value = stats::rnorm(outputs)
      )
      if (level < depth && (level == 0 || stats::runif(1) < 0.85)) {
        j <- sample(length(columns), 1)
        node$column <- j - 1L
        known <- levels[[columns[j]]]
        if (is.null(known)) {
          node$threshold <- stats::rnorm(1)
        } else {
          node$set <- sample(c(-1L, 1L), length(known), TRUE)
        }
        left <- add(level + 1)
        right <- add(level + 1)
        node$left <- left - 1L
        node$right <- right - 1L
        node$missing <- sample(c(node$left, node$right), 1)
      }
      nodes[[at]] <<- node
      at
    }
    add(0)
    get <- function(f) vapply(nodes, function(n) n[[f]], nodes[[1]][[f]])
    sets <- lapply(nodes, `[[`, "set")
    list(
      column = get("column"),
      threshold = get("threshold"),
      left = get("left"),
      right = get("right"),
      missing = get("missing"),
      owner = seq_along(nodes) - 1L,
      set_size = lengths(sets),
      set_side = as.integer(unlist(sets)),
      set_from = ifelse(
        lengths(sets) > 0, cumsum(c(0L, lengths(sets)))[seq_along(sets)], -1L
      ),
      value = matrix(unlist(lapply(nodes, `[[`, "value")), outputs)
    )
  }
  join_trees(
    lapply(seq_len(trees), function(i) grow()), rep(1 / trees, trees), columns, levels
  )
}

# Prediction of a flat forest by the definition: rows x outputs.
slow_predict <- function(f, x) {
  out <- matrix(f$base, nrow(x), length(f$base), byrow = TRUE)
  for (i in seq_len(nrow(x))) {
    for (t in seq_along(f$root)) {
      node <- f$root[t] + 1
      while (f$column[node] >= 0) {
        v <- x[i, f$column[node] + 1]
        side <- if (is.na(v)) {
          0
        } else if (f$set_from[node] >= 0) {
          f$set_side[f$set_from[node] + v]
        } else if (v <= f$threshold[node]) {
          -1
        } else {
          1
        }
        after <- if (side < 0) {
          f$left[node]
        } else if (side > 0) {
          f$right[node]
        } else {
          f$missing[node]
        }
        if (after < 0) break
        node <- after + 1
      }
      out[i, ] <- out[i, ] + f$weight[t] * f$value[, node]
    }
  }
  out
}

# Shapley values by the definition: all subsets of the players, the background standing in.
slow_shapley <- function(f, row, background, players) {
  slow_shapley_of(function(known) {
    mixed <- background
    for (j in unlist(players[known])) mixed[, j] <- row[j]
    mean(f(mixed))
  }, length(players))
}

# The output where only some columns are known: elsewhere both children answer, by the rows that
# went there; what is left went to a branch of its own or stayed.
slow_cover_value <- function(f, cover, row, known) {
  below <- function(node) {
    if (f$column[node] < 0) return(f$value[, node])
    children <- c(f$left[node], f$right[node]) + 1
    if ((f$column[node] + 1) %in% known) {
      v <- row[f$column[node] + 1]
      side <- if (is.na(v)) {
        0
      } else if (f$set_from[node] >= 0) {
        f$set_side[f$set_from[node] + v]
      } else if (v <= f$threshold[node]) {
        -1
      } else {
        1
      }
      return(below(if (side < 0) {
        children[1]
      } else if (side > 0) {
        children[2]
      } else {
        f$missing[node] + 1
      }))
    }
    share <- if (cover[node] > 0) cover[children] / cover[node] else c(0, 0)
    third <- f$missing[node] + 1
    own <- third > 0 && !third %in% children && f$owner[third] + 1 == third
    rest <- if (cover[node] > 0) 1 - sum(share) else 0
    share[1] * below(children[1]) + share[2] * below(children[2]) +
      rest * (if (own) below(third) else f$value[, node])
  }
  f$base + Reduce(
    `+`, lapply(seq_along(f$root), function(t) f$weight[t] * below(f$root[t] + 1))
  )
}

# Shapley values of value(known players), by all subsets.
slow_shapley_of <- function(value, p) {
  sets <- expand.grid(rep(list(c(FALSE, TRUE)), p))
  v <- apply(sets, 1, function(s) value(which(s)))
  key <- function(s) sum(s * 2^(seq_len(p) - 1)) + 1
  vapply(seq_len(p), function(j) {
    without <- sets[!sets[[j]], , drop = FALSE]
    sum(apply(without, 1, function(s) {
      with <- s
      with[j] <- TRUE
      k <- sum(s)
      factorial(k) * factorial(p - k - 1) / factorial(p) * (v[key(with)] - v[key(s)])
    }))
  }, 0)
}

# The definition on data frames.
slow_shapley_table <- function(f, row, background) {
  names_p <- names(row)
  p <- length(names_p)
  value <- function(known) {
    mixed <- background
    for (j in known) mixed[[j]] <- rep(row[[j]], nrow(background))
    mean(f(mixed))
  }
  out <- stats::setNames(double(p), names_p)
  for (j in names_p) {
    others <- setdiff(names_p, j)
    for (s in 0:(2^(p - 1) - 1)) {
      known <- others[bitwAnd(s, 2^(seq_len(p - 1) - 1)) > 0]
      k <- length(known)
      out[j] <- out[j] + factorial(k) * factorial(p - k - 1) / factorial(p) *
        (value(c(known, j)) - value(known))
    }
  }
  out
}
