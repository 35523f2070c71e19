# Impurity importance of boosted trees.

# Boosted trees: the gain of each split on the gradients of its round, recomputed from the training
# rows, and beside it what the library stored; or what the splits were worth on the holdout rows.
rank_boosted <- function(model, st, rows, correct, units, level) {
  boosting <- model$forest$boosted
  refuse_boosted(model, rows, correct)
  if (is.null(rows)) rows <- "train"
  recomputed <- if (!is.na(boosting$loss) && !isFALSE(boosting$known)) {
    checked_gain(model, st)
  }
  gain <- recomputed$gain
  held <- if ("holdout" %in% rows) hold_out_gain(model, st, units)
  stored <- stored_gain(model$forest)
  flags <- flags_of_names(
    st, model, names(units), flag_worthless(if (is.null(gain)) stored else gain, held, units)
  )
  parts <- list()
  if ("train" %in% rows) {
    if (!is.null(gain)) {
      what <- if (boosting$second_order) "gain" else "squared improvement"
      parts$train <- gains_on_training_rows(
        st, model, gain, "plain", paste0(what, ", recomputed"), units,
        join_flags(flags, if (recomputed$drawn) "rows drawn" else ""), level
      )
    }
    parts$stored <- gains_on_training_rows(
      st, model, stored, "stored", boosting$stored, units, flags, level,
      if (isTRUE(recomputed$differs)) "not what these rows give: not recomputed"
    )
    # What could be checked comes first.
    if (isTRUE(recomputed$drawn)) parts <- rev(parts)
  }
  if (!is.null(held)) parts$holdout <- worth_on_holdout(st, model, held, units, flags, level)
  join_parts(st, parts, NA_integer_, level)
}

# Trees that are added up, of a file that does not say what their splits gained.
hides_gains <- function(model) {
  !is.null(model$forest$boosted) && is.null(model$forest$boosted$gain)
}

why_no_gains <- function(model) {
  why <- model$forest$boosted$why
  if (is.null(why)) {
    "its file adds trees up and does not say what their splits gained"
  } else {
    why
  }
}

refuse_boosted <- function(model, rows, correct) {
  if (hides_gains(model)) {
    stop_study(
      paste0("Model \"", model$name, "\": ", why_no_gains(model), "."),
      todo = "Rank the model by permutation or Shapley values."
    )
  }
  other <- correct || "oob" %in% rows
  if (!other && !("holdout" %in% rows && is.na(model$forest$boosted$loss))) {
    return(invisible())
  }
  stop_study(
    paste0(
      "The trees of model \"", model$name, "\" are boosted: ",
      if (other) {
        paste0(
          "impurity importance is their gain on the training rows or their worth on ",
          "the holdout rows"
        )
      } else {
        "what its splits are worth on the holdout rows is not defined for its loss"
      },
      "."
    ),
    todo = "Use rows = \"train\", or rank the model by permutation."
  )
}

# All classes together, and each of several. describe(k, class): the rows of class k, NULL for all.
ranking_by_class <- function(st, model, settings, level, describe) {
  groups <- model$forest$boosted$group + 1L
  classes <- if (max(groups) > 1) seq_along(model$classes)
  tables <- c(
    list(describe(NULL, NA_character_)),
    lapply(classes, function(k) describe(k, model$classes[k]))
  )
  ranking_part(st, do.call(rbind, tables), settings, NA_integer_, level)
}

# gain: columns x trees
gains_on_training_rows <- function(
    st, model, gain, form, measures, units, flags, level, note = NULL) {
  groups <- model$forest$boosted$group + 1L
  settings <- new_settings(
    model, "impurity", on_train, nrow(st$train), form = form, measures = measures,
    note = if (is.null(note)) "" else note
  )
  ranking_by_class(st, model, settings, level, function(k, class) {
    of <- if (is.null(k)) rep(TRUE, length(groups)) else groups == k
    ranking_rows(
      st, settings, names(units), rowSums(sum_units(gain[, of, drop = FALSE], units)),
      inference = "rows", class = class, flag = flags
    )
  })
}

# held: sums over the holdout rows, see hold_out_gain()
worth_on_holdout <- function(st, model, held, units, flags, level) {
  n <- nrow(st$data)
  settings <- new_settings(
    model, "impurity", list(label = "holdout", kind = "holdout"), n,
    measures = "fall of the loss over the splits"
  )
  ranking_by_class(st, model, settings, level, function(k, class) {
    of <- if (is.null(k)) 1L else k + 1L
    worth <- held$sum[, of] / n
    std_error <- sqrt(pmax(held$square[, of] / n - worth^2, 0) / (n - 1))
    limits <- t_limits(worth, std_error, n - 1, level)
    ranking_rows(
      st, settings, names(units), worth, std_error, limits$lower, limits$upper,
      inference = "model", class = class, flag = flags
    )
  })
}

# Much gain on the training rows, and nothing on the holdout rows, where these were asked for.
flag_worthless <- function(gain, held, units) {
  if (is.null(held)) return(rep("", length(units)))
  in_bag_only(rowSums(sum_units(gain, units)), held$sum[, 1])
}

# The target as the losses want it: a number, 0/1, or a class number from 0.
boosting_target <- function(model, st, data) {
  as.double(if (st$task == "regression") {
    data[[st$target]]
  } else {
    match(as.character(data[[st$target]]), model$classes) - 1
  })
}

# The recomputed gain where it can be vouched for. Every row counted: it must be what the library
# stored, with the study's weights or without. Rows were drawn for each tree: then the two differ,
# and the trees' masses must be the drawn share of the rows'. Row weights, bounds on the direction
# of effects and losses of the user's show in these figures. -> list(gain: columns x trees, or
# NULL; drawn; differs)
checked_gain <- function(model, st) {
  b <- model$forest$boosted
  stored <- colSums(stored_gain(model$forest))
  weights <- if (!is.null(st$weights)) as.double(st$train[[st$weights]])
  near <- function(a, b, by) all(abs(a - b) <= by * pmax(abs(a), abs(b)), na.rm = TRUE)
  drawn <- isTRUE(b$drawn < 1)
  # Some libraries bring weights to a mean of 1.
  ways <- list(weights, if (!is.null(weights)) weights / mean(weights), NULL)
  for (weight in unique(ways)) {
    found <- recompute_gain(model, st, weight)
    sound <- if (drawn) {
      share <- mean(b$mass, na.rm = TRUE) / mean(found$mass[!is.na(b$mass)])
      spread <- sqrt((1 - b$drawn) / (b$drawn * nrow(st$train) * length(b$mass)))
      isTRUE(abs(share / b$drawn - 1) < 0.02 + 4 * spread)
    } else {
      near(colSums(found$gain), stored, 1e-4) &&
        (is.null(b$mass) || near(found$mass, b$mass, 1e-3))
    }
    if (sound) return(list(gain = found$gain, drawn = drawn, differs = FALSE))
  }
  list(gain = NULL, drawn = drawn, differs = TRUE)
}

# -> list(gain: columns x trees, mass: trees)
recompute_gain <- function(model, st, weight = NULL) {
  f <- model$forest
  b <- f$boosted
  recompute_gains(
    f,
    encode_for_forest(f, model_rows(st, model, st$train, "train")),
    boosting_target(model, st, st$train),
    match(b$loss, boosting_losses()) - 1L,
    b$second_order,
    b$lambda,
    b$most_step,
    f$single,
    if (is.null(b$curve)) 2 else b$curve,
    boosting_start(model, st, weight),
    as.integer(b$round),
    as.integer(b$group),
    if (is.null(weight)) double() else weight,
    st$threads
  )
}

stored_gain <- function(f) {
  tree <- findInterval(seq_along(f$column) - 1L, f$root)
  out <- matrix(0, length(f$columns), length(f$root))
  asks <- which(f$column >= 0)
  at <- cbind(f$column[asks] + 1L, tree[asks])
  summed <- rowsum(f$boosted$gain[asks], at[, 1] + (at[, 2] - 1) * nrow(out))
  out[as.integer(rownames(summed))] <- summed
  out
}

# What the splits of each unit were worth on the holdout rows, in class k (1: together), as a mean
# over rows.
hold_out_gain <- function(model, st, units) {
  f <- model$forest
  encode <- function(data, arg) encode_for_forest(f, model_rows(st, model, data, arg))
  unit_of <- integer(length(f$columns)) - 1L
  for (u in seq_along(units)) unit_of[units[[u]]] <- u - 1L
  forest_held_gain(
    f,
    encode(st$train, "train"),
    encode(st$data, "data"),
    boosting_target(model, st, st$data),
    match(f$boosted$loss, boosting_losses()) - 1L,
    as.integer(f$boosted$group),
    unit_of,
    length(units),
    st$threads
  )
}

# Libraries that start from the average write it into the first round's trees, not beside them.
boosting_start <- function(model, st, weight = NULL) {
  f <- model$forest
  if (!isTRUE(f$boosted$from_average)) return(double(length(f$base)))
  if (st$task == "regression") return(weighted_mean(st$train[[st$target]], weight))
  class <- match(as.character(st$train[[st$target]]), model$classes)
  share <- vapply(
    seq_along(model$classes), function(k) weighted_mean(class == k, weight), 0
  )
  if (f$link == "logit") stats::qlogis(share[2]) / f$stretch else log(pmax(share, 1e-15))
}
