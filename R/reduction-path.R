# Paths: which predictors to have when there is room for so many, by what one set of training rows
# says.
#
# What enters or leaves is a unit: a predictor, or (groups = "family") a family of the dictionary,
# in or out together. A path gives, for each number of units, a set. Nothing here sees rows
# outside `train`.

# -> list(sets: names of units for each of `points`, order of the units as they come in,
# importance per unit, stay: units that twins leave, standing: representative -> those it stands
# for)
walk_path <- function(st, plan, train, settings, key) {
  ranker <- st$models[[plan$ranker]]
  units <- plan$units
  standing <- NULL
  ranked <- NULL
  if (settings$thin_twins || settings$search %in% c("ranking", "backward")) {
    ranked <- rank_units(st, ranker, train, plan, names(units), settings, key)
  }
  if (settings$thin_twins) {
    thinned <- keep_missed(
      st, plan, train, thin_units(st, plan, train, ranked), settings, key
    )
    standing <- thinned$standing
    if (length(thinned$stay) < length(units)) {
      # twins lend each other credit: those who stay are ranked anew
      units <- units[thinned$stay]
      if (settings$search %in% c("ranking", "backward")) {
        ranked <- rank_units(
          st, ranker, train, plan, names(units), settings, c(key, "thinned")
        )
      }
    }
  }
  most <- if (length(settings$points)) {
    min(max(settings$points), length(units))
  } else {
    length(units)
  }
  found <- switch(
    settings$search,
    ranking = nested_sets(by_importance(ranked)),
    backward = nested_sets(drop_units(st, ranker, train, plan, ranked, settings, key)),
    forward = nested_sets(add_units(st, train, plan, units, most, settings, key)),
    floating = float_units(st, train, plan, units, most, settings, key)
  )
  sets <- within_budget(found$sets, found$order, plan)
  at <- pmin(settings$points, length(sets) - 1)
  list(
    sets = sets[at + 1],
    order = found$order,
    importance = if (!is.null(ranked)) ranked[names(units)],
    stay = names(units),
    standing = standing
  )
}

# Twins can differ in what counts (departure and scheduled departure). What is lost without those
# that go is tried on the rows that rank; where it is more than two standard errors of the paired
# difference, each of them is tried, and those that are missed stay.
keep_missed <- function(st, plan, train, thinned, settings, key) {
  gone <- setdiff(names(plan$units), thinned$stay)
  if (!length(gone)) return(thinned)
  tried <- set_trial(st, train, plan, settings, key, "thinned")
  missed <- function(stay, than) {
    d <- loss_with_error(st$metric, tried$info, tried$predict(stay), than, settings$seed)
    isTRUE(d$loss > 2 * d$std_error)
  }
  all <- tried$predict(names(plan$units))
  if (!missed(thinned$stay, all)) return(thinned)
  back <- gone[vapply(gone, function(u) missed(setdiff(names(plan$units), u), all), NA)]
  thinned$stay <- intersect(names(plan$units), c(thinned$stay, back))
  thinned$standing <- lapply(thinned$standing, setdiff, back)
  thinned
}

# ties: as the columns stand
by_importance <- function(importance) names(importance)[order(-importance)]

# sets[[k + 1]]: the first k of an order.
nested_sets <- function(order) {
  list(
    order = order,
    sets = c(list(character()), lapply(seq_along(order), function(k) order[seq_len(k)]))
  )
}

# Units that the budget no longer pays for are passed over.
within_budget <- function(sets, order, plan) {
  if (is.null(plan$budget)) return(sets)
  spent <- cost_of(plan, plan$keep)
  stay <- character()
  for (u in order) {
    price <- sum(plan$cost[plan$units[[u]]])
    if (spent + price <= plan$budget + 1e-9) {
      stay <- c(stay, u)
      spent <- spent + price
    }
  }
  nested_sets(stay)$sets
}

# Quarters of a part, but of two rows at least: a model trained on the others is ranked on one.
fold_part <- function(st, train, key, seed) {
  folds <- max(2, min(4, nrow(train) %/% 2))
  with_stream(seed, c("rank rows", key), draw_folds(st, train, folds))
}

split_part <- function(st, train, key, seed) fold_part(st, train, key, seed) == 1

# Importances of few rows are mostly noise: where a quarter has fewer than these, more quarters are
# ranked in turn, until there are as many rows or no quarter is left.
least_ranked <- 150

ranked_parts <- function(st, train, key, seed) {
  fold <- fold_part(st, train, key, seed)
  several <- min(max(fold), ceiling(least_ranked / sum(fold == 1)))
  lapply(seq_len(several), function(f) fold == f)
}

# Sets of units, tried on the rows that rank: `info` of these rows, part by part, and `predict`, by
# models of a set trained on the other rows. what: part of the key of their random draws.
set_trial <- function(st, train, plan, settings, key, what) {
  parts <- ranked_parts(st, train, key, settings$seed)
  predict_part <- function(i, set) {
    predict_set(
      st,
      st$models[[plan$refit]],
      train[!parts[[i]], , drop = FALSE],
      train[parts[[i]], , drop = FALSE],
      set,
      settings$seed,
      c(key, what, if (i > 1) i)
    )
  }
  list(
    info = row_info(st, train[unlist(lapply(parts, which)), , drop = FALSE]),
    predict = function(units) {
      set <- intersect(plan$universe, c(plan$keep, unlist(plan$units[units])))
      do.call(rbind, lapply(seq_along(parts), predict_part, set))
    }
  )
}

# Importance per unit (larger is better), by one method or, for several, by the mean of their
# ranks, from a model trained on these units and what is kept.
rank_units <- function(st, ranker, train, plan, units, settings, key) {
  parts <- if (any(method_field(settings$by, "held_out"))) {
    ranked_parts(st, train, key, settings$seed)
  }
  values <- lapply(seq_len(max(1, length(parts))), function(i) {
    importances_on(
      st, ranker, train, plan, units, settings, if (i == 1) key else c(key, i), parts[[i]]
    )
  })
  values <- Reduce(`+`, values) / length(values)
  # What has one value in these rows comes last: noise may have put others below it.
  idle <- vapply(plan$units[units], function(u) all(vapply(train[u], has_one_value, NA)), NA)
  values[idle, ] <- min(values) - 1
  if (ncol(values) == 1) return(stats::setNames(values[, 1], units))
  stats::setNames(-rowMeans(matrix(apply(-values, 2, rank), length(units))), units)
}

has_one_value <- function(x) isTRUE(all(x == x[1]))

# Units x methods. rank_rows: those that are left out of training and ranked; NULL: trained and
# ranked on all.
importances_on <- function(st, ranker, train, plan, units, settings, key, rank_rows) {
  predictors <- intersect(
    ranker$inputs$predictors, c(plan$keep, unlist(plan$units[units]))
  )
  fit_rows <- if (is.null(rank_rows)) rep(TRUE, nrow(train)) else !rank_rows
  # Wide tables are costly to cut: what is not needed is not carried along.
  part <- train[intersect(names(train), c(predictors, st$target, st$weights, st$blocks))]
  fit_part <- if (all(fit_rows)) part else part[fit_rows, , drop = FALSE]
  # Association asks no model, but for which predictors there are.
  asks_model <- any(method_field(settings$by, "asks_model"))
  fit <- if (!asks_model) {
    ranker$object
  } else if (all(fit_rows)) {
    fit_shared(
      plan$fits, st, ranker, fit_part, predictors, settings$seed,
      keep = length(units) %in% settings$points
    )
  } else {
    fit_on(st, ranker, fit_part, predictors, settings$seed, key)
  }
  if (!asks_model) fit_part <- train
  inside <- inside_study(
    st,
    ranker,
    fit,
    fit_part,
    if (is.null(rank_rows)) fit_part else part[rank_rows, , drop = FALSE],
    predictors,
    # once a path: its scores are what the library predicts
    compare = length(units) == length(plan$units)
  )
  groups <- Filter(function(u) length(u) > 1 && all(u %in% predictors), plan$units[units])
  values <- vapply(
    settings$by,
    function(method) {
      importance_of(inside, ranker$name, method, plan$units[units], groups, settings)
    },
    double(length(units))
  )
  matrix(values, length(units), dimnames = list(units, settings$by))
}

# Families as one where the method can, else the sum over their members. What the ranking does not
# list comes last.
importance_of <- function(inside, model, method, units, groups, settings) {
  value <- importances_inside(
    method, inside, model, units, groups,
    list(repeats = 5, background = 50, level = 0.95, seed = settings$seed)
  )
  least <- min(value, 0, na.rm = TRUE) - 1
  vapply(
    names(units),
    function(u) {
      v <- if (u %in% names(value)) {
        value[[u]]
      } else if (any(units[[u]] %in% names(value))) {
        sum(value[intersect(units[[u]], names(value))])
      } else {
        NA
      }
      if (is.na(v)) least else v
    },
    0
  )
}

# How many to drop or to add at a time: one, or a fifth of what is left.
stride <- function(left, settings) if (settings$steps == "one") 1L else max(1L, left %/% 5L)

# Backward: the last of a ranking go, the rest are ranked anew. -> units, the first to stay first
drop_units <- function(st, ranker, train, plan, ranked, settings, key) {
  gone <- character()
  repeat {
    order <- by_importance(ranked)
    if (length(order) <= 1) return(c(order, gone))
    leave <- utils::tail(order, stride(length(order), settings))
    gone <- c(leave, gone)
    stay <- setdiff(names(ranked), leave)
    if (length(stay) == 1) return(c(stay, gone))
    ranked <- rank_units(st, ranker, train, plan, stay, settings, c(key, length(stay)))
  }
}

# Loss of sets of units. Each is tried once, in whichever order its units came in.
set_scorer <- function(st, train, plan, settings, key) {
  tried <- set_trial(st, train, plan, settings, key, "try")
  known <- new.env(parent = emptyenv())
  function(units) {
    name <- fingerprint(sort(units))
    if (is.null(known[[name]])) {
      known[[name]] <- metric_influence(
        st$metric, tried$info$truth, tried$predict(units), tried$info$weight
      )$loss
    }
    known[[name]]
  }
}

# Forward: what lowers the loss most comes in. With geometric steps several at a time.
add_units <- function(st, train, plan, units, most, settings, key) {
  loss <- set_scorer(st, train, plan, settings, key)
  inside <- character()
  while (length(inside) < most) {
    rest <- setdiff(names(units), inside)
    tried <- vapply(rest, function(u) loss(c(inside, u)), 0)
    come <- rest[order(tried)]
    room <- most - length(inside)
    inside <- c(
      inside,
      utils::head(
        come, min(room, if (settings$steps == "one") 1L else max(1L, length(inside) %/% 3L))
      )
    )
  }
  # The order of those that never came in: as last tried.
  c(
    inside,
    if (most < length(units)) setdiff(if (length(inside)) come else names(units), inside)
  )
}

# Floating: after each entry, what is better without goes again, as long as the set is then the
# best of its size (Pudil, Novovicova and Kittler 1994).
float_units <- function(st, train, plan, units, most, settings, key) {
  loss <- set_scorer(st, train, plan, settings, key)
  best <- list(character())
  value <- loss(character())
  inside <- character()
  while (length(inside) < most) {
    rest <- setdiff(names(units), inside)
    tried <- vapply(rest, function(u) loss(c(inside, u)), 0)
    newest <- rest[order(tried)][seq_len(min(
        most - length(inside),
        if (settings$steps == "one") 1L else max(1L, length(inside) %/% 3L)
      ))]
    inside <- c(inside, newest)
    record <- function() {
      k <- length(inside) + 1
      if (k > length(value) || is.na(value[k]) || loss(inside) < value[k]) {
        best[[k]] <<- inside
        value[k] <<- loss(inside)
        return(TRUE)
      }
      FALSE
    }
    if (!record()) inside <- best[[length(inside) + 1]]
    repeat {
      candidates <- setdiff(inside, newest)
      if (length(candidates) < 1 || length(inside) < 3) break
      without <- vapply(candidates, function(u) loss(setdiff(inside, u)), 0)
      k <- length(inside)
      if (!(k <= length(value) && !is.na(value[k]) && min(without) < value[k] - 1e-12)) {
        break
      }
      inside <- setdiff(inside, candidates[which.min(without)])
      record()
    }
  }
  # Sizes a geometric step has passed over: the next smaller set.
  for (k in seq_len(most + 1)) {
    if (k > length(best) || is.null(best[[k]])) best[[k]] <- best[[k - 1]]
  }
  order <- unique(unlist(best))
  list(order = c(order, setdiff(names(units), order)), sets = best)
}
