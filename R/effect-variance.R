# Shares of variance from averaged effects at the rows' own values: Friedman and Popescu's H, and
# Sobol's shares.

interact_variance <- function(st, model, units, evaluation, others, settings) {
  most <- if (is.null(settings$max_rows)) 100L else settings$max_rows
  evaluation <- draw_rows(evaluation, most, settings$seed)
  rows <- model_rows(st, model, evaluation$data, "rows")
  info <- row_info(st, evaluation$data)
  units <- strongest_units(st, model, units, rows, settings)
  blocks <- jackknife_blocks(info, settings$seed)
  classes <- if (is.null(settings$classes)) 1L else settings$classes
  pairs <- utils::combn(length(units), 2)
  found <- variance_shares(st, model, rows, units, pairs, settings, blocks)
  p_value <- if (settings$null > 0) {
    null_of_pairs(st, model, rows, units, pairs, settings, found)
  } else {
    rep(NA_real_, ncol(pairs))
  }
  tables <- lapply(seq_along(classes), function(k) {
    one <- found[[k]]
    limits <- t_limits(one$h, one$std_error, one$df, settings$level)
    interaction_rows(
      model,
      if (st$task == "regression") NA_character_ else st$classes[classes[k]],
      "variance",
      names(units)[pairs[1, ]],
      names(units)[pairs[2, ]],
      one$h,
      one$std_error,
      pmax(0, limits$lower),
      limits$upper,
      one$share,
      p_value
    )
  })
  list(
    table = do.call(rbind, tables),
    n = nrow(rows),
    scale = if (st$task == "regression") "prediction" else "probability",
    rows = evaluation$chosen
  )
}

# Per class a list(h, share, std_error, df), a number per pair. blocks: of rows, for the jackknife;
# NULL: no errors.
variance_shares <- function(st, model, rows, units, pairs, settings, blocks = NULL) {
  classes <- if (is.null(settings$classes)) 1L else settings$classes
  alone <- effects_at_rows(st, model, rows, units, settings, cube = TRUE)
  base <- predict_aligned(st, model, rows)[, classes, drop = FALSE]
  of_pairs <- lapply(seq_len(ncol(pairs)), function(q) {
    both <- unlist(units[pairs[, q]], use.names = FALSE)
    joint <- effects_at_rows(
      st, model, rows, stats::setNames(list(both), "pair"), settings, cube = TRUE
    )[[1]]
    lapply(seq_along(classes), function(k) {
      cube <- list(
        joint$cube[[k]], alone[[pairs[1, q]]]$cube[[k]], alone[[pairs[2, q]]]$cube[[k]]
      )
      whole <- pair_shares(cube, base[, k])
      if (is.null(blocks)) return(whole)
      left <- vapply(
        sort(unique(blocks)),
        function(b) {
          pair_shares(
            lapply(cube, function(x) x[blocks != b, blocks != b]), base[blocks != b, k]
          )
        },
        double(2)
      )
      c(whole, std_error = sqrt(jackknife_variance(left[1, ])))
    })
  })
  lapply(seq_along(classes), function(k) {
    take <- function(i) vapply(of_pairs, function(p) unname(p[[k]][i]), 0)
    list(
      h = take(1),
      share = take(2),
      std_error = if (!is.null(blocks)) take(3),
      df = if (!is.null(blocks)) length(unique(blocks)) - 1
    )
  })
}

# cube: rows averaged over x points (the same rows), of the pair and of each alone.
pair_shares <- function(cube, base) {
  effect <- lapply(cube, function(x) colMeans(x) - mean(colMeans(x)))
  beyond <- sum((effect[[1]] - effect[[2]] - effect[[3]])^2)
  joint <- sum(effect[[1]]^2)
  whole <- sum((base - mean(base))^2)
  # rounding is no effect
  scale <- 1e-20 * (1 + max(abs(base)))^2 * length(base)
  if (beyond <= scale) beyond <- 0
  c(
    h = if (joint > scale) min(1, beyond / joint) else 0,
    share = if (whole > scale) beyond / whole else 0
  )
}

# Refits on targets without interactions (Friedman and Popescu 2008): the sum of the averaged single
# effects on the training rows, and what the target has beyond it in random order. The model's own
# residuals would be too small: it has been fitted to them.
null_of_pairs <- function(st, model, rows, units, pairs, settings, found) {
  train <- training_frame(st, model)
  own <- model_rows(st, model, st$train, "train")
  y <- st$train[[st$target]]
  additive <- sum_of_effects(st, model, own, rows, shapley_units(st, model, NULL), settings)
  rest <- y - additive
  at_least <- map_pieces(
    seq_len(settings$null),
    function(b) {
      data <- train
      data[[st$target]] <- additive + with_stream(
        settings$seed, c("null", model$name, b), sample(rest)
      )
      fit <- fit_on(
        st, model, data, model$inputs$predictors, settings$seed, c(model$name, "null", b)
      )
      inside <- inside_study(
        st, model, fit, data, frame_of(st, model, rows_with_target(rows, st), "rows"),
        model$inputs$predictors
      )
      again <- inside$models[[1]]
      variance_shares(
        inside, again, model_rows(inside, again, inside$data, "rows"), units, pairs, settings
      )[[1]]$h
    },
    label = "null of interactions"
  )
  larger <- Reduce(`+`, lapply(at_least, function(h) h >= found[[1]]$h))
  (1 + larger) / (settings$null + 1)
}

# Rows that are only predicted need a target nonetheless.
rows_with_target <- function(rows, st) {
  if (is.null(rows[[st$target]])) rows[[st$target]] <- st$train[[st$target]][1]
  for (name in c(st$weights, st$blocks)) {
    if (is.null(rows[[name]])) rows[[name]] <- st$train[[name]][1]
  }
  rows
}

# At each row of `own` the sum of all single averaged effects over `rows`, as curves through 40
# points; about the mean prediction.
sum_of_effects <- function(st, model, own, rows, units, settings) {
  effects <- lapply(units, function(u) {
    p <- u[1]
    grid <- grid_of(p, own, own, 40L)
    curve <- average_curves(
      st, model, rows, list(), list(list(name = p, predictors = p, kind = "one")), list(grid),
      utils::modifyList(settings, list(form = "averaged"))
    )[[1]]
    at <- nearest(own[[p]], grid)
    value <- if (grid$kind %in% c("level", "ordered") || length(grid$position) < 2) {
      curve$effect[at]
    } else {
      stats::approx(grid$position, curve$effect, as.double(own[[p]]), rule = 2)$y
    }
    value[is.na(value)] <- mean(value, na.rm = TRUE)
    value - mean(value)
  })
  mean(predict_aligned(st, model, own)[, 1]) + Reduce(`+`, effects)
}
