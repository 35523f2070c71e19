#' Rank predictors by Shapley importance
#'
#' Divides each prediction's distance from the baseline among the predictors and averages the
#' sizes of the parts.
#'
#' @inheritParams rank_permutation
#' @param background Number of training rows that stand in for "not known" (drawn by seed; default
#'   100), or a data frame of such rows.
#' @param rows `"holdout"` (default), `"train"`, a data frame of other rows with the target, or
#'   several: words, or a named list of data frames.
#' @param of What is divided: `"prediction"` (default), the distance of each prediction from the
#'   baseline; `"score"`, what the model's loss falls by on the rows when predictors become known;
#'   or both, side by side.
#' @param unit Who plays: `"predictor"` (default), each by itself; `"family"`, the predictors of a
#'   family of the dictionary as one; or a named list of groups of predictors, no predictor in two
#'   of them; the others play by themselves.
#' @param value What "not known" means. `"background"` (default): the values of the background
#'   rows stand in. `"cover"`, for trees: a question about an unknown predictor is answered both
#'   ways, weighted by the training rows that went there.
#' @param max_rows At most so many rows are explained, drawn by seed. Default: 1,000 where values
#'   have a closed form, 50 where they are sampled, in between for few players. The interval says
#'   what this costs.
#' @param scale `"auto"` (default): the scale on which the values are exact, which is the
#'   prediction itself but for a [glm()] with a link, whose linear predictor is divided.
#'   `"prediction"` or `"link"` asks for one.
#' @param precision Sampling of a row stops when the largest standard error is at most this share
#'   of the sum of the sizes of its values.
#' @param max_pairs Sampling of a row stops at this number of pairs of orders at the latest.
#' @return A [ranking]. `importance` is the mean over rows of the absolute Shapley value, in units
#'   of the prediction (or of the link; `settings` says which). With more than two classes: one
#'   set of rows per class, and one with `class` `NA` for the sum over classes. Attribute `units`
#'   holds the values themselves, rows x predictors (x classes). Attribute `direction` says, per
#'   model, class and predictor, the signed `mean` of the values and the rank `correlation` of the
#'   predictor with its contribution (`NA` for factors of several levels and units of several
#'   predictors): `rises`, `falls`, `mixed` (below 0.5 in size), or `not told from none` at
#'   `level`. For units of several predictors attribute `parts` holds, where it has a closed form,
#'   what each `member` has when it plays by itself (`importance`), the `sum` (mean size of what a
#'   row's members' values add up to) and the `joint` value of the unit as one player, which is
#'   what it ranks by; the two differ where the members act together with others. Attribute
#'   `shares` holds, from the top, each predictor's `share` of the mean sizes with its
#'   `std_error`, and the `cumulative` share with its own (delta method, over rows).
#' @details The players are the predictors. \eqn{v(S)} is the mean prediction when the predictors
#'   in S have the row's values and the others those of the background rows; the value of
#'   predictor j is the mean, over all orders in which predictors can become known, of what j adds
#'   (Shapley 1953; Strumbelj and Kononenko 2014). This tells what the model uses; predictors that
#'   are correlated share nothing unless the model uses them both.
#'
#' With `value = "cover"`, v(S) follows a tree where it asks about S and averages over both
#' children elsewhere (Lundberg et al. 2020). Training rows count as often as the tree has drawn
#' them, where it says so. Credit then passes between correlated predictors, and depends on the
#' shape of the trees: the print says which of the two was used.
#'
#' *Tree models:* exact, both ways. A player's part of a leaf depends only on which of the players
#' on its path the row satisfies: for small trees these parts are tabulated, so that the time does
#' not grow with the number of background rows; in large trees each row is followed together with
#' each background row or, by cover, one walk carries the products at the points of a
#' Gauss-Legendre quadrature, which is exact for the polynomial in question. Boosted trees are
#' exact on the link. *Linear models:* exact on the scale of the linear predictor, term by term.
#' *Any other model:* up to 8 players all sets of them, exactly; more are sampled: pairs of a
#' random order and its reverse (Castro, Gomez and Tejada 2009; Mitchell, Cooper, Frank and Holmes
#' 2022), 20 pairs at least, then 10 at a time until `precision` is reached. A unit of several
#' predictors is one player, exactly: not the sum of its members' values. The sum of a row's
#' values is its prediction less the baseline, always; this is checked as it runs.
#'
#' *The score* (`of = "score"`; Covert, Lundberg and Lee 2020): the players divide the loss with
#' nothing known, that of the mean prediction over the background rows, less the model's loss; for
#' RMSE and R squared the mean squared error. Every row (500 at most unless `max_rows` says more)
#' goes through one random order and its reverse, and its parts add up to what its own loss falls
#' by. Attribute `score` holds what was divided, beside the loss of the constant from the training
#' rows. Parts can be negative: such a predictor makes predictions worse. With both, a predictor
#' that has at least 5 % of what moves the predictions and whose part of the score cannot be told
#' from zero is flagged `moves only`. Fewer background rows make the losses of mean predictions
#' larger; their number is part of the definition.
#'
#' *Interval:* mean and standard deviation over rows, for this model and these background rows.
#' Sampling noise makes mean absolute values slightly too large.
#' @section Errors: No training rows and no background rows given; `value = "cover"` for a model
#'   without trees, on the scale of the prediction behind a link, or where surrogate splits
#'   answer for missing values; values that do not add up (an internal error).
#' @references Covert, I., Lundberg, S. and Lee, S.-I. (2020). Understanding global feature
#'   contributions with additive importance measures. \url{https://arxiv.org/abs/2004.00668}.
#'   Fieller, E. C., Hartley, H. O. and Pearson, E. S. (1957). Tests for rank correlation
#'   coefficients. \doi{10.1093/biomet/44.3-4.470}.
#'   Shapley, L. S. (1953). A value for n-person games. \doi{10.1515/9781400881970-018}.
#'   Strumbelj, E. and Kononenko, I. (2014). \doi{10.1007/s10115-013-0679-x}.
#'   Lundberg, S. M. et al. (2020). From local explanations to global understanding with
#'   explainable AI for trees. \doi{10.1038/s42256-019-0138-9}.
#'   Castro, J., Gomez, D. and Tejada, J. (2009). \doi{10.1016/j.cor.2008.04.004}.
#'   Mitchell, R., Cooper, J., Frank, E. and Holmes, G. (2022).
#'   \url{https://jmlr.org/papers/v23/21-0439.html}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' rank_shapley(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
rank_shapley <- function(
    study, ..., models = NULL, rows = "holdout", of = "prediction", unit = "predictor",
    value = "background", background = 100, max_rows = NULL, scale = "auto",
    precision = 0.02, max_pairs = 500, level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "rank_shapley", ..., threads = threads)
  if (!is.null(max_rows)) max_rows <- check_count(max_rows, "max_rows", least = 2)
  of <- check_choice(of, c("prediction", "score"), "of", several = TRUE)
  value <- check_choice(value, c("background", "cover"), "value")
  scale <- check_choice(scale, c("auto", "prediction", "link"), "scale")
  precision <- check_fraction(precision, "precision")
  max_pairs <- check_count(max_pairs, "max_pairs", least = 20)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  models <- pick_models(st, models)
  if (is.character(rows) && "oob" %in% rows) {
    stop_input(
      paste0(
        "Shapley values divide the prediction of the whole model, which out-of-bag ",
        "rows do not have."
      ),
      todo = "Use rows = \"holdout\" or \"train\"."
    )
  }
  several <- pick_several_rows(st, rows)
  if (value == "cover") for (m in models) check_cover(st, m, scale)
  units <- lapply(models, function(m) shapley_units(st, m, unit))
  others <- if (value == "cover") {
    st$train[0, , drop = FALSE]
  } else {
    draw_background(st, background, seed)
  }
  if (value == "cover" && "score" %in% of) {
    stop_input(
      paste0(
        "`of = \"score\"` is for value = \"background\": a loss is one of mean ",
        "predictions."
      ),
      todo = "Leave `value` out."
    )
  }
  parts <- unlist(
    lapply(models, function(m) {
      unlist(
        lapply(several, function(on) {
          list(
            if ("prediction" %in% of) {
              divide_model(
                st, m, units[[m$name]], on, others, max_rows, scale, precision, max_pairs,
                level, seed
              )
            },
            if ("score" %in% of) {
              divide_score(st, m, units[[m$name]], on, others, max_rows, level, seed)
            }
          )
        }),
        recursive = FALSE
      )
    }),
    recursive = FALSE
  )
  out <- bind_rankings(st, Filter(Negate(is.null), parts), seed, level)
  if (length(of) == 2) flag_movers(out) else out
}

draw_background <- function(st, background, seed) {
  if (is.data.frame(background)) return(check_rows(background, "background"))
  background <- check_count(background, "background")
  train <- need_train(st, "Shapley importance (for its background rows)")
  chosen <- with_stream(
    seed,
    c("background", nrow(train)),
    sort(sample.int(nrow(train), min(background, nrow(train))))
  )
  train[chosen, , drop = FALSE]
}

divide_model <- function(
    st, model, units, on, others, max_rows, scale, precision, max_pairs, level, seed) {
  way <- shapley_way(model, scale, length(units))
  # What needs predictions for every row is worked out for fewer of them.
  if (is.null(max_rows)) {
    max_rows <- switch(
      way, sampled = 50L, enumerated = min(1000, 50 * 2^(8 - length(units))), 1000L
    )
  }
  on <- draw_rows(on, max_rows, seed)
  n <- nrow(on$data)
  cases <- cases_of(st, on$data)
  rows <- model_rows(st, model, on$data, "rows")
  bg <- if (nrow(others)) model_rows(st, model, others, "background")
  divide <- function(way, units) {
    values <- switch(
      way,
      forest = shapley_forest(st, model, units, rows, bg),
      linear = shapley_linear(st, model, units, rows, bg),
      enumerated = shapley_enumerated(st, model, units, rows, bg),
      sampled = shapley_sampled(st, model, units, rows, bg, precision, max_pairs, seed)
    )
    check_sums(values, model$name)
    values
  }
  values <- divide(way, units)
  table <- summarise_shapley(st, model, units, on$label, values, cases, level)
  settings <- new_settings(
    model,
    "shapley",
    on$label,
    n,
    repeats = if (way == "sampled") max(values$pairs) else NA_integer_,
    measures = "mean size of Shapley values",
    scale = values$scale,
    background = if (is.null(bg)) NA_integer_ else nrow(bg),
    note = paste0(
      if (way == "sampled") "sampled" else "exact", if (is.null(bg)) ", by cover"
    )
  )
  out <- new_ranking(
    st,
    table,
    settings,
    stats::setNames(
      list(values$phi),
      paste0(model$name, "/shapley", if (on$label != "holdout") paste0("/", on$label))
    ),
    seed,
    level
  )
  attr(out, "shares") <- share_errors(model, on$label, values$phi, cases)
  alone <- as.list(stats::setNames(nm = unlist(units, use.names = FALSE)))
  if (length(alone) > length(units) &&
      shapley_way(model, scale, length(alone)) != "sampled") {
    attr(out, "parts") <- parts_of_units(
      model,
      on$label,
      units,
      values$phi,
      divide(shapley_way(model, scale, length(alone)), alone)$phi,
      cases
    )
  }
  attr(out, "direction") <- find_direction(
    st, model, units, on$label, values$phi, rows, cases$weight, level
  )
  out
}

# Units of several predictors: what each member has when it plays by itself, and the size of what
# a row's members have together, beside the unit's as one player.
parts_of_units <- function(model, label, units, phi, alone, cases) {
  mean_size <- function(phi) colMeans(times(cases$weight, sizes_over_classes(phi)))
  several <- units[lengths(units) > 1]
  joint <- mean_size(phi)
  each <- mean_size(alone)
  do.call(
    rbind,
    lapply(names(several), function(u) {
      together <- array(
        apply(alone[, several[[u]], , drop = FALSE], c(1, 3), sum),
        c(dim(alone)[1], 1, dim(alone)[3])
      )
      data.frame(
        model = model$name,
        rows = label,
        unit = u,
        member = several[[u]],
        importance = unname(each[several[[u]]]),
        joint = joint[[u]],
        sum = mean_size(together),
        row.names = NULL
      )
    })
  )
}

# Shares of the mean sizes over all classes, from the top, with errors by the delta method: a
# row's influence is its own size less the share of all its sizes, over the mean of these.
share_errors <- function(model, label, phi, cases) {
  size <- times(cases$weight, sizes_over_classes(phi))
  whole <- mean(rowSums(size))
  share <- if (whole > 0) colMeans(size) / whole else rep(NA_real_, ncol(size))
  order <- order(-share)
  error <- function(columns) {
    # of the sum of their shares
    u <- (rowSums(size[, columns, drop = FALSE]) - sum(share[columns]) * rowSums(size)) /
      whole
    as.vector(influence_error(u, cases$block)$std_error)
  }
  known <- !anyNA(share) && nrow(size) > 1
  data.frame(
    model = model$name,
    rows = label,
    predictor = colnames(size)[order],
    share = unname(share[order]),
    std_error = if (known) vapply(order, error, 0) else NA_real_,
    cumulative = unname(cumsum(share[order])),
    cumulative_error = if (known) {
      vapply(seq_along(order), function(m) error(order[seq_len(m)]), 0)
    } else {
      NA_real_
    },
    row.names = NULL
  )
}

# Does a predictor's value go with its contribution, and which way? Rank correlation, its interval
# by Fisher's z (Fieller, Hartley and Pearson 1957); for numbers and two-level columns only.
find_direction <- function(st, model, units, label, phi, rows, weight, level) {
  n <- dim(phi)[1]
  reach <- if (n > 4) stats::qnorm((1 + level) / 2) * sqrt(1.06 / (n - 3)) else Inf
  K <- dim(phi)[3]
  classes <- if (K > 1) st$classes else NA_character_
  found <- lapply(seq_len(K), function(k) {
    r <- vapply(
      seq_along(units),
      function(u) {
        x <- if (length(units[[u]]) == 1) rows[[units[[u]]]]
        if (is.factor(x) && nlevels(x) != 2 && !is.ordered(x)) return(NA_real_)
        if (is.null(x) || is.character(x)) return(NA_real_)
        suppressWarnings(stats::cor(
          as.double(x), phi[, u, k], method = "spearman", use = "complete.obs"
        ))
      },
      0
    )
    sure <- !is.na(r) & abs(atanh(pmin(pmax(r, -1 + 1e-12), 1 - 1e-12))) > reach
    data.frame(
      model = model$name,
      rows = label,
      class = classes[k],
      predictor = names(units),
      mean = colMeans(times(weight, matrix(phi[, , k], n))),
      correlation = r,
      direction = ifelse(
        is.na(r),
        NA_character_,
        ifelse(
          !sure,
          "not told from none",
          ifelse(abs(r) < 0.5, "mixed", ifelse(r > 0, "rises", "falls"))
        )
      ),
      row.names = NULL
    )
  })
  do.call(rbind, found)
}

# Who plays: names, each with its predictors; every predictor of the model plays once.
shapley_units <- function(st, model, unit) {
  units <- shuffle_units(st, model, unit)
  twice <- unique(unlist(units)[duplicated(unlist(units))])
  if (length(twice)) {
    stop_input(
      paste0(
        "`unit` has ", quote_some(twice), " in several groups; a player plays once."
      ),
      todo = "Put each predictor into one group."
    )
  }
  alone <- setdiff(model$inputs$predictors, unlist(units))
  c(units[lengths(units) > 0], stats::setNames(as.list(alone), alone))
}

# Which unit (its number) each of these columns belongs to.
unit_of <- function(units, columns) {
  rep(seq_along(units), lengths(units))[match(columns, unlist(units))]
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
# nothing known.
cover_of <- function(st, model) {
  f <- model$forest
  x <- encode_for_forest(f, model_rows(st, model, st$train, "train"))
  forest_cover(f, x, counts_of(model, st), st$threads)
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
  part_of <- function(data, t) {
    in_term <- linear$term == t
    as.vector(linear$design(data)[, in_term, drop = FALSE] %*% linear$beta[in_term])
  }
  phi <- matrix(0, nrow(rows), length(predictors), dimnames = list(NULL, predictors))
  for (t in seq_along(linear$columns)) {
    players <- predictors[unique(unit_of(units, linear$columns[[t]]))]
    if (!length(players)) next
    v <- values_of_sets(rows, bg, units[players], function(data) part_of(data, t))
    for (j in seq_along(players)) {
      phi[, players[j]] <- phi[, players[j]] + shapley_of_player(v, j, length(players))
    }
  }
  eta <- function(data) as.vector(linear$design(data) %*% linear$beta)
  sign <- if (st$task == "classification" &&
      model$classes[2] != st$classes[st$positive]) {
    -1
  } else {
    1
  }
  link <- linear$link
  list(
    phi = array(sign * phi, c(dim(phi), 1), list(NULL, predictors, NULL)),
    std_error = NULL,
    target = matrix(sign * (eta(rows) - mean(eta(bg))), ncol = 1),
    baseline = sign * mean(eta(bg)),
    pairs = NULL,
    scale = linear_scale(link)
  )
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
  n <- nrow(rows)
  p <- length(units)
  f <- function(data) explained_outputs(st, predict_aligned(st, model, data))
  top <- f(rows)
  bottom <- colMeans(f(bg))
  K <- ncol(top)
  s1 <- s2 <- array(0, c(n, p, K))
  pairs <- integer(n)
  active <- seq_len(n)
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
    fine <- vapply(
      active,
      function(i) {
        precise_enough(
          s1[i, , , drop = FALSE], s2[i, , , drop = FALSE], pairs[i], precision
        )
      },
      NA
    )
    active <- active[!fine & pairs[active] < max_pairs]
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
  out$short <- pairs >= max_pairs &
    !vapply(
      seq_len(n),
      function(i) {
        precise_enough(
          s1[i, , , drop = FALSE], s2[i, , , drop = FALSE], pairs[i], precision
        )
      },
      NA
    )
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
  sums <- apply(values$phi, c(1, 3), sum)
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

summarise_shapley <- function(st, model, units, label, values, cases, level) {
  predictors <- dimnames(values$phi)[[2]]
  n <- dim(values$phi)[1]
  flags <- join_flags(
    flags_of_units(st, units),
    st$flags$models[[model$name]],
    if (any(values$short)) "not converged" else "",
    if (label == "train") "training rows" else ""
  )
  describe <- function(sizes, class) {
    importance <- colMeans(times(cases$weight, sizes))
    each <- lapply(seq_len(ncol(sizes)), function(j) {
      influence_error(times(cases$weight, sizes[, j] - importance[j]), cases$block)
    })
    found <- list(
      std_error = vapply(each, function(e) as.vector(e$std_error), 0), df = each[[1]]$df
    )
    limits <- t_limits(importance, found$std_error, found$df, level)
    ranking_rows(
      st, model, "shapley", label, predictors, importance, found$std_error,
      pmax(limits$lower, 0), limits$upper, about = "model", class = class, flag = flags
    )
  }
  tables <- list(describe(sizes_over_classes(values$phi), NA_character_))
  if (dim(values$phi)[3] > 1) {
    tables <- c(
      tables,
      lapply(seq_along(st$classes), function(k) {
        describe(abs(matrix(values$phi[, , k], n)), st$classes[k])
      })
    )
  }
  do.call(rbind, tables)
}
