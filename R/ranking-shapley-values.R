# Shapley values of rows: in closed form for forests and sums of terms, enumerated or sampled else.

# The values of all rows, by the way that suits the model. limits: list(scale, precision,
# max_pairs); bg: background rows, or NULL: by cover.
divide_rows <- function(st, model, units, rows, bg, limits, seed) {
  values <- switch(
    shapley_way(model, limits$scale, length(units)),
    forest = shapley_forest(st, model, units, rows, bg),
    linear = shapley_linear(st, model, units, rows, bg),
    enumerated = shapley_enumerated(st, model, units, rows, bg),
    sampled = shapley_sampled(
      st, model, units, rows, bg, limits$precision, limits$max_pairs, seed
    )
  )
  check_sums(values, model$name)
  values
}

# forest and linear: in closed form; enumerated: all sets of up to 8 players; sampled: the rest.
shapley_way <- function(model, scale, players) {
  linear <- model$linear
  link <- if (!is.null(model$forest)) {
    model$forest$link
  } else if (!is.null(linear)) {
    linear$link
  } else {
    "identity"
  }
  if (scale == "link" && link == "identity") {
    stop_input(
      paste0(
        "`scale = \"link\"` does not apply to model \"", model$name,
        "\", which has no link."
      ),
      todo = "Use scale = \"prediction\"."
    )
  }
  exact <- link == "identity" || scale != "prediction"
  if (!is.null(model$forest)) {
    return(if (exact && !isTRUE(model$forest$shared)) {
      "forest"
    } else if (players <= 8) {
      "enumerated"
    } else {
      "sampled"
    })
  }
  one_sum <- !is.null(linear) && !is.matrix(linear$beta) &&
    all(lengths(linear$columns) <= 6)
  if (one_sum && exact) return("linear")
  if (scale == "link") {
    stop_input(
      paste0(
        "Shapley values on the link of model \"", model$name,
        "\" are not available: it has several sums, or terms of more than 6 predictors."
      ),
      todo = "Use scale = \"prediction\"."
    )
  }
  if (players <= 8) "enumerated" else "sampled"
}

# Outputs in the order of the study's classes; classes the model does not know stay 0.
place_classes <- function(cube, from, to) {
  if (identical(from, to)) return(cube)
  out <- array(0, c(dim(cube)[1:2], length(to)))
  out[, , match(from, to)] <- cube
  out
}

# values: list(phi = rows x predictors x outputs, std_error = same or NULL, target = rows x outputs
# (prediction less baseline), outputs = names, scale, pairs)
explained_outputs <- function(st, p) {
  if (st$task == "regression") return(p)
  if (length(st$classes) == 2) p[, st$positive, drop = FALSE] else p
}

shapley_forest <- function(st, model, units, rows, bg) {
  player <- unit_of(units, forest_origin(model))
  x <- encode_for_forest(model$forest, rows)
  if (is.null(bg)) {
    cover <- cover_of(st, model)
    if (any(model$forest$owner != seq_along(model$forest$owner) - 1L) && anyNA(x)) {
      stop_model(
        paste0(
          "Model \"", model$name,
          "\" answers for missing values by surrogate splits, whose cover is not ",
          "defined."
        ),
        todo = "Use value = \"background\"."
      )
    }
    phi <- forest_shapley(
      model$forest, x, x[0, , drop = FALSE], cover$cover, player, length(units),
      st$threads
    )
    baseline <- cover$baseline
  } else {
    z <- encode_for_forest(model$forest, bg)
    phi <- forest_shapley(model$forest, x, z, double(), player, length(units), st$threads)
    baseline <- colMeans(forest_predict(model$forest, z, st$threads))
  }
  if (model$forest$link != "identity") {
    return(shapley_on_link(st, model, units, phi, x, baseline))
  }
  if (st$task == "classification") {
    phi <- place_classes(phi, model$classes, st$classes)
    if (length(st$classes) == 2) phi <- phi[, , st$positive, drop = FALSE]
  }
  baseline <- if (st$task == "classification") {
    explained_outputs(
      st, order_classes(matrix(baseline, 1), model$classes, st, model$name)
    )
  } else {
    matrix(baseline, 1)
  }
  shapley_values(st, model, units, phi, rows, as.vector(baseline))
}

# Is the value function by cover defined for this model?
check_cover <- function(st, model, scale) {
  need_train(st, "Shapley importance by cover")
  if (is.null(model$forest) || isTRUE(model$forest$shared)) {
    stop_model(
      paste0(
        "Model \"", model$name,
        "\" has no trees of its predictors, so that there is no cover."
      ),
      todo = "Use value = \"background\", or name tree models in `models`."
    )
  }
  if (scale == "prediction" && model$forest$link != "identity") {
    stop_input(
      paste0(
        "By cover, Shapley values of model \"", model$name,
        "\" are available on its link only."
      ),
      todo = "Use scale = \"link\", or value = \"background\"."
    )
  }
}

# Training rows that pass each node, as often as the tree has drawn them, and the outputs with
# nothing known. Worked out once a study: it walks all training rows through all trees.
cover_of <- function(st, model) {
  f <- model$forest
  kept(st, paste("cover", model$name), {
    x <- encode_for_forest(f, model_rows(st, model, st$train, "train"))
    forest_cover(f, x, counts_of(model, st), st$threads)
  })
}

# Boosted trees add up on the link scale, and there the values are exact.
shapley_on_link <- function(st, model, units, phi, x, before) {
  f <- model$forest
  target <- sweep(forest_predict(f, x, st$threads), 2, before)
  names <- NULL
  if (f$link == "logit") {
    turn <- f$stretch * if (model$classes[2] == st$classes[st$positive]) 1 else -1
    phi <- turn * phi
    target <- turn * target
  } else if (f$link == "softmax") {
    classes <- model$classes
    phi <- place_classes(phi, classes, st$classes)
    target <- order_classes(target, classes, st, model$name)
    names <- st$classes
  }
  dimnames(phi) <- list(NULL, names(units), names)
  list(
    phi = phi,
    std_error = NULL,
    target = target,
    baseline = before,
    pairs = NULL,
    scale = if (f$link %in% c("logit", "softmax")) "log-odds" else "log link"
  )
}

shapley_values <- function(
    st, model, units, phi, rows, p0, std_error = NULL, pairs = NULL) {
  p <- explained_outputs(st, predict_aligned(st, model, rows))
  dimnames(phi) <- list(NULL, names(units), colnames(p))
  list(
    phi = phi,
    std_error = std_error,
    target = sweep(p, 2, p0),
    baseline = p0,
    pairs = pairs,
    scale = if (st$task == "regression") "prediction" else "probability"
  )
}

# Linear predictor: a term of one predictor gives it its value less the background's mean; a term of
# several is divided among them by all subsets, the background rows standing in for the others.
shapley_linear <- function(st, model, units, rows, bg) {
  linear <- model$linear
  predictors <- names(units)
  of_rows <- linear$design(rows)
  of_bg <- linear$design(bg)
  phi <- matrix(0, nrow(rows), length(predictors), dimnames = list(NULL, predictors))
  for (t in seq_along(linear$columns)) {
    players <- predictors[unique(unit_of(units, linear$columns[[t]]))]
    if (!length(players)) next
    if (length(players) == 1) {
      alone <- part_of_design(linear, of_rows, t) - mean(part_of_design(linear, of_bg, t))
      phi[, players] <- phi[, players] + alone
      next
    }
    v <- values_of_sets(rows, bg, units[players], function(data) {
      part_of_design(linear, linear$design(data), t)
    })
    for (j in seq_along(players)) {
      phi[, players[j]] <- phi[, players[j]] + shapley_of_player(v, j, length(players))
    }
  }
  baseline <- mean(as.vector(of_bg %*% linear$beta))
  sign <- sign_of_sum(st, model)
  list(
    phi = array(sign * phi, c(dim(phi), 1), list(NULL, predictors, NULL)),
    std_error = NULL,
    target = matrix(sign * (as.vector(of_rows %*% linear$beta) - baseline), ncol = 1),
    baseline = sign * baseline,
    pairs = NULL,
    scale = linear_scale(linear$link)
  )
}

# What term t adds to the linear predictor, by the rows' design.
part_of_design <- function(linear, design, t) {
  in_term <- linear$term == t
  as.vector(design[, in_term, drop = FALSE] %*% linear$beta[in_term])
}

# A model's sum is that of its second class; the study's positive class may be the first.
sign_of_sum <- function(st, model) {
  if (st$task == "classification" && model$classes[2] != st$classes[st$positive]) -1 else 1
}

# All sets of players: exact for any model.
shapley_enumerated <- function(st, model, units, rows, bg) {
  f <- function(data) explained_outputs(st, predict_aligned(st, model, data))
  v <- values_of_sets(rows, bg, units, f)
  K <- ncol(v[[1]])
  phi <- array(0, c(nrow(rows), length(units), K))
  for (k in seq_len(K)) {
    one <- lapply(v, function(value) value[, k])
    for (j in seq_along(units)) phi[, j, k] <- shapley_of_player(one, j, length(units))
  }
  shapley_values(st, model, units, phi, rows, v[[1]][1, ])
}

# Per set of units (bit j - 1 of its number less one says whether unit j is known) the mean of fun
# over the background rows, the known ones taken from each row: rows x outputs, or a vector where
# fun returns one.
values_of_sets <- function(rows, bg, units, fun) {
  lapply(seq_len(2^length(units)) - 1, function(set) {
    known <- unlist(units[bitwAnd(set, 2^(seq_along(units) - 1)) > 0])
    mean_with_known(rows, bg, known, unlist(units), fun)
  })
}

mean_with_known <- function(rows, bg, known, players, fun) {
  if (setequal(known, players)) return(fun(rows))
  n <- nrow(rows)
  m <- nrow(bg)
  if (!length(known)) {
    alone <- fun(bg)
    return(if (is.matrix(alone)) {
      matrix(colMeans(alone), n, ncol(alone), byrow = TRUE)
    } else {
      rep(mean(alone), n)
    })
  }
  out <- NULL
  for (some in split(seq_len(n), (seq_len(n) - 1) %/% max(1, floor(1e5 / m)))) {
    mixed <- bg[rep(seq_len(m), length(some)), , drop = FALSE]
    attr(mixed, "row.names") <- .set_row_names(nrow(mixed))
    for (p in known) mixed[[p]] <- rows[[p]][rep(some, each = m)]
    said <- fun(mixed)
    means <- matrix(colMeans(matrix(said, m)), length(some))
    out <- rbind(out, means)
  }
  if (is.matrix(said)) out else as.vector(out)
}

# v: list over subsets of players (bit j - 1 of the position less one says whether j is known).
shapley_of_player <- function(v, j, players) {
  total <- 0
  for (set in seq_along(v) - 1) {
    if (bitwAnd(set, 2^(j - 1)) > 0) next
    size <- sum(bitwAnd(set, 2^(seq_len(players) - 1)) > 0)
    weight <- 1 / (players * choose(players - 1, size))
    total <- total + weight * (v[[set + 2^(j - 1) + 1]] - v[[set + 1]])
  }
  total
}

# Any model: pairs of an order and its reverse. The prefixes of the reverse are the complements of
# the order's own, so a pair needs 2(p - 1) mixed rows per background row. The pair is the unit of
# the standard error.
shapley_sampled <- function(st, model, units, rows, bg, precision, max_pairs, seed) {
  with_bar(sample_orders(st, model, units, rows, bg, precision, max_pairs, seed))
}

sample_orders <- function(st, model, units, rows, bg, precision, max_pairs, seed) {
  n <- nrow(rows)
  step <- progressr::progressor(steps = n)
  p <- length(units)
  f <- function(data) explained_outputs(st, predict_aligned(st, model, data))
  top <- f(rows)
  bottom <- colMeans(f(bg))
  K <- ncol(top)
  s1 <- s2 <- array(0, c(n, p, K))
  pairs <- integer(n)
  active <- seq_len(n)
  fine <- function(rows) {
    vapply(rows, function(i) {
      precise_enough(s1[i, , , drop = FALSE], s2[i, , , drop = FALSE], pairs[i], precision)
    }, NA)
  }
  while (length(active)) {
    batch <- min(if (pairs[active[1]] == 0) 20L else 10L, max_pairs - pairs[active[1]])
    orders <- lapply(active, function(i) {
      with_stream(
        seed, c("orders", i, pairs[i]), replicate(batch, sample.int(p), simplify = FALSE)
      )
    })
    todo <- data.frame(row = rep(active, each = batch))
    z <- pair_contributions(
      rows, bg, units, todo$row, unlist(orders, recursive = FALSE), f, top, bottom
    )
    for (u in seq_len(nrow(todo))) {
      i <- todo$row[u]
      s1[i, , ] <- s1[i, , ] + z[u, , ]
      s2[i, , ] <- s2[i, , ] + z[u, , ]^2
    }
    pairs[active] <- pairs[active] + batch
    left <- active[!fine(active) & pairs[active] < max_pairs]
    step("Shapley values", amount = length(active) - length(left))
    active <- left
  }
  M <- as.vector(pairs)
  phi <- s1 / M
  std_error <- sqrt(pmax(s2 - s1^2 / M, 0) / (M - 1) / M)
  out <- shapley_values(
    st,
    model,
    units,
    phi,
    rows,
    colMeans(explained_outputs(st, predict_aligned(st, model, bg))),
    std_error,
    pairs
  )
  out$short <- pairs >= max_pairs & !fine(seq_len(n))
  out
}

precise_enough <- function(s1, s2, pairs, precision) {
  phi <- s1 / pairs
  std_error <- sqrt(pmax(s2 - s1^2 / pairs, 0) / (pairs - 1) / pairs)
  all(apply(std_error, 3, max) <= precision * apply(abs(phi), 3, sum) + 1e-12)
}

# For each unit (a row and an order): the mean of the two marginal contributions of every player.
pair_contributions <- function(rows, bg, units, row, orders, f, top, bottom) {
  p <- length(units)
  K <- ncol(top)
  many <- length(row)
  z <- array(0, c(many, p, K))
  if (p == 1) {
    z[, 1, ] <- sweep(top[row, , drop = FALSE], 2, bottom)
    return(z)
  }
  place <- t(vapply(orders, order, integer(p)))  # position of each player in the order
  prefix <- rep(seq_len(p - 1), 2)
  backward <- rep(c(FALSE, TRUE), each = p - 1)
  per_unit <- length(prefix)
  v <- array(0, c(many, per_unit, K))
  at_once <- max(1, floor(1e5 / (per_unit * nrow(bg))))
  for (some in split(seq_len(many), (seq_len(many) - 1) %/% at_once)) {
    v[some, , ] <- mixed_means(
      rows, bg, units, row[some], place[some, , drop = FALSE], prefix, backward, f, K
    )
  }
  for (u in seq_len(many)) {
    o <- orders[[u]]
    path <- function(steps) rbind(bottom, matrix(v[u, steps, ], ncol = K), top[row[u], ])
    gain <- function(steps) diff(path(steps))
    z[u, o, ] <- gain(seq_len(p - 1)) / 2
    z[u, rev(o), ] <- z[u, rev(o), ] + gain(p - 1 + seq_len(p - 1)) / 2
  }
  z
}

# Means over the background of the mixed rows: forward prefixes know the first s players of the
# order, backward ones the last s.
mixed_means <- function(rows, bg, units, row, place, prefix, backward, f, K) {
  n <- nrow(rows)
  m <- nrow(bg)
  p <- length(units)
  unit <- rep(seq_along(row), each = length(prefix))
  s <- rep(prefix, length(row))
  back <- rep(backward, length(row))
  mixed <- lapply(stats::setNames(nm = names(rows)), function(column) {
    j <- unit_of(units, column)
    known <- if (is.na(j)) {
      seq_along(unit)
    } else {
      which(ifelse(back, place[unit, j] > p - s, place[unit, j] <= s))
    }
    own <- rows[[column]]
    other <- bg[[column]]
    if (is.factor(own) && !identical(levels(own), levels(other))) {
      other <- factor(as.character(other), levels(own))
    }
    # Background values throughout, a row's own where it is known.
    out <- matrix(if (is.factor(own)) as.integer(other) else other, m, length(unit))
    out[, known] <- rep(
      (if (is.factor(own)) as.integer(own) else own)[row[unit][known]], each = m
    )
    dim(out) <- NULL
    if (is.factor(own)) attributes(out) <- attributes(own)[c("levels", "class")]
    out
  })
  mixed <- structure(
    mixed, class = "data.frame", row.names = .set_row_names(m * length(unit))
  )
  out <- f(mixed)
  means <- vapply(
    seq_len(K), function(k) colMeans(matrix(out[, k], m)), double(length(unit))
  )
  aperm(array(means, c(length(prefix), length(row), K)), c(2, 1, 3))
}

check_sums <- function(values, name) {
  n <- dim(values$phi)[1]
  sums <- vapply(
    seq_len(dim(values$phi)[3]), function(k) rowSums(matrix(values$phi[, , k], n)), double(n)
  )
  dim(sums) <- c(n, length(sums) / n)
  off <- abs(sums - values$target)
  if (any(!(off <= 1e-8 * (1 + max(abs(values$target)))))) {
    i <- which(apply(!(off <= 1e-8), 1, any))[1]
    stop_internal(
      paste0(
        "The Shapley values of model \"", name,
        "\" do not add up to the prediction less the baseline."
      ),
      paste0("First row: ", i, ", off by ", format(max(off[i, ])), ".")
    )
  }
}

# rows x players: sizes of the values, summed over classes.
sizes_over_classes <- function(phi) {
  out <- matrix(0, dim(phi)[1], dim(phi)[2], dimnames = dimnames(phi)[1:2])
  for (k in seq_len(dim(phi)[3])) out <- out + abs(phi[, , k])
  out
}
