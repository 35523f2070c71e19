#' Rank predictors by Shapley importance
#'
#' Mean absolute Shapley values: each prediction's distance from the baseline is divided among the
#' predictors, and the absolute parts are averaged over the rows.
#'
#' @inheritParams rank_permutation
#' @param background Number of training rows that represent "not known" (drawn by seed; default
#'   100), or a data frame of such rows.
#' @param rows `"holdout"` (default), `"train"`, a data frame of other rows with the target, or
#'   several: words, or a named list of data frames.
#' @param of What is divided: `"prediction"` (default), the distance of each prediction from the
#'   baseline; `"score"`, what the model's loss falls by on the rows when predictors become known;
#'   or both, side by side.
#' @param groups What is one player: `NULL` (default), each predictor by itself; `"family"`, the
#'   predictors of a family of the dictionary as one; or a named list of groups of predictors, no
#'   predictor in two of them; the others play by themselves.
#' @param value What "not known" means. `"background"` (default): the values of the background
#'   rows (the interventional value function of the literature). `"cover"`, for trees: a split on
#'   an unknown predictor goes both ways, weighted by the training rows that went there (the
#'   path-dependent one).
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
#'   set of rows per class, and one with `class` `NA` for the sum over classes. [row_values()]
#'   returns the values themselves, rows x predictors x classes. Entry `direction` of the
#'   [details][ranking_details()] says, per model, class and predictor, the signed `mean` of the
#'   values and the rank `correlation` of the predictor with its contribution (`NA` for factors of
#'   several levels and units of several predictors): `rises`, `falls`, `bends` (the medians over
#'   five bins of the value turn once), `mixed` (below 0.5 in size, and these medians do not go
#'   one way either), or `not shown` at `level`; `NA` where values have no order (two levels,
#'   TRUE and FALSE).
#'   For units of several predictors entry `parts` of the [details][ranking_details()] holds,
#'   where it has a closed form, what each `member` has when it plays by itself (`importance`),
#'   the `sum` (mean absolute sum of the members' values) and the `joint` value of the unit as one
#'   player, which is what it ranks by; the two differ where the members act together with others.
#'   Entry `shares` holds, from the top, each predictor's `share` of the mean absolute values with
#'   its `std_error`, and the `cumulative` share with its own (delta method, over rows).
#' @details The players are the predictors. \eqn{v(S)} is the mean prediction when the predictors
#'   in S have the row's values and the others those of the background rows; the value of
#'   predictor j is the mean, over all orders in which predictors can become known, of what j adds
#'   (Shapley 1953; Strumbelj and Kononenko 2014). This describes what the model uses; predictors
#'   that
#'   are correlated share nothing unless the model uses them both.
#'
#' With `value = "cover"`, v(S) follows a tree where it splits on S and averages over both
#' children elsewhere (Lundberg et al. 2020). Training rows count as often as the tree has drawn
#' them, where it says so. Credit then passes between correlated predictors, and depends on the
#' shape of the trees: the print says which of the two was used.
#'
#' *Tree models:* exact, both ways. A player's part of a leaf depends only on which of the players
#' on its path the row satisfies: for small trees these parts are tabulated, so that the time does
#' not grow with the number of background rows; in large trees rows and background rows are walked
#' together, in groups by the players whose questions they do not satisfy (time goes with the square
#' root of the number of background rows, about) or, by cover, one walk carries the products at the
#' points of a Gauss-Legendre quadrature, which is exact for the polynomial in question. Boosted
#' trees are exact on the link. *Linear models:* exact on the scale of the linear predictor, term by
#' term. *Any other model:* up to 8 players all sets of them, exactly; more are sampled: pairs of a
#' random order and its reverse (Castro, Gomez and Tejada 2009; Mitchell, Cooper, Frank and Holmes
#' 2022), 20 pairs at least, then 10 at a time until `precision` is reached. A unit of several
#' predictors is one player, exactly: not the sum of its members' values. The sum of a row's
#' values is its prediction less the baseline, always; this is checked as it runs.
#'
#' *The score* (`of = "score"`; Covert, Lundberg and Lee 2020): the players divide the loss with
#' nothing known, that of the mean prediction over the background rows, less the model's loss; for
#' RMSE and R squared the mean squared error. Every row (500 at most unless `max_rows` says more)
#' goes through one random order and its reverse, and its parts add up to what its own loss falls
#' by. Entry `score` of the [details][ranking_details()] holds what was divided, beside the loss
#' of the constant from the training rows. Parts can be negative: such a predictor makes
#' predictions worse. With both, a predictor that has at least 5 % of what moves the predictions
#' and for whose part of the score the interval does not exclude zero is flagged `no effect on
#' score`. Fewer background rows make the losses of mean predictions larger; their number is part
#' of the definition.
#'
#' *Interval:* mean and standard deviation over rows, for this model and these background rows;
#' limits of t, stretched on the side of the longer tail by Hall's transformation (1992). In
#' simulations with normal, skewed and rare predictors (`bench/intervals.R`) such intervals held the
#' population's value in 93 to 99 % of samples of 60 rows. Sampling noise makes mean absolute values
#' slightly too large.
#' @section Errors: No training rows and no background rows given; `value = "cover"` for a model
#'   without trees, on the scale of the prediction behind a link, or where surrogate splits
#'   answer for missing values; values that do not add up (an internal error).
#' @references Covert, I., Lundberg, S. and Lee, S.-I. (2020). Understanding global feature
#'   contributions with additive importance measures. \url{https://arxiv.org/abs/2004.00668}.
#'   Hall, P. (1992). \doi{10.1111/j.2517-6161.1992.tb01876.x}.
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
    study, ..., models = NULL, rows = "holdout", of = "prediction", groups = NULL,
    value = "background", background = 100, max_rows = NULL, scale = "auto",
    precision = 0.02, max_pairs = 500, level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "rank_shapley", ..., threads = threads)
  if (!is.null(max_rows)) {
    max_rows <- check_count(max_rows, "max_rows", least = 2, most = .Machine$integer.max)
  }
  of <- check_choice(of, c("prediction", "score"), "of", several = TRUE)
  value <- check_choice(value, c("background", "cover"), "value")
  scale <- check_choice(scale, c("auto", "prediction", "link"), "scale")
  precision <- check_fraction(precision, "precision")
  max_pairs <- check_count(max_pairs, "max_pairs", least = 20)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  models <- pick_models(st, models)
  check_shapley_request(rows, of, value)
  several <- pick_several_rows(st, rows)
  if (value == "cover") for (m in models) check_cover(st, m, scale)
  units <- lapply(models, function(m) shapley_units(st, m, groups))
  others <- if (value == "cover") {
    st$train[0, , drop = FALSE]
  } else {
    draw_background(st, background, seed)
  }
  limits <- list(
    max_rows = max_rows, scale = scale, precision = precision, max_pairs = max_pairs
  )
  parts <- unlist(
    lapply(models, function(m) {
      unlist(
        lapply(several, function(evaluation) {
          list(
            if ("prediction" %in% of) {
              divide_model(
                st, m, units[[m$name]], evaluation, others, limits, level, seed
              )
            },
            if ("score" %in% of) {
              divide_score(
                st, m, units[[m$name]], evaluation, others, max_rows, level, seed
              )
            }
          )
        }),
        recursive = FALSE
      )
    }),
    recursive = FALSE
  )
  out <- join_parts(st, Filter(Negate(is.null), parts), seed, level)
  if (length(of) == 2) flag_movers(out) else out
}

check_shapley_request <- function(rows, of, value) {
  if (is.character(rows) && "oob" %in% rows) {
    stop_input(
      paste0(
        "Shapley values divide the prediction of the whole model, which out-of-bag ",
        "rows do not have."
      ),
      todo = "Use rows = \"holdout\" or \"train\"."
    )
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
}

# A number of training rows, or rows.
check_background <- function(background) {
  if (is.data.frame(background)) return(check_rows(background, "background"))
  check_count(background, "background", most = .Machine$integer.max)
}

draw_background <- function(st, background, seed) {
  background <- check_background(background)
  if (is.data.frame(background)) return(as_in_study(background, st, "background"))
  train <- need_train(st, "Shapley importance (for its background rows)")
  chosen <- with_stream(
    seed,
    c("background", nrow(train)),
    sort(sample.int(nrow(train), min(background, nrow(train))))
  )
  train[chosen, , drop = FALSE]
}

# limits: list(max_rows, scale, precision, max_pairs) as asked of rank_shapley()
divide_model <- function(st, model, units, evaluation, others, limits, level, seed) {
  way_of <- function(units) shapley_way(model, limits$scale, length(units))
  way <- way_of(units)
  evaluation <- draw_rows(
    evaluation, most_rows_explained(limits$max_rows, way, length(units)), seed
  )
  n <- nrow(evaluation$data)
  info <- row_info(st, evaluation$data)
  rows <- model_rows(st, model, evaluation$data, "rows")
  bg <- if (nrow(others)) model_rows(st, model, others, "background")
  divide <- function(units) divide_rows(st, model, units, rows, bg, limits, seed)
  values <- divide(units)
  settings <- new_settings(
    model,
    "shapley",
    evaluation,
    n,
    form = if (is.null(bg)) "cover" else "plain",
    repeats = if (way == "sampled") max(values$pairs) else NA_integer_,
    measures = "mean absolute Shapley value",
    scale = values$scale,
    background = if (is.null(bg)) NA_integer_ else nrow(bg),
    note = paste0(
      if (way == "sampled") "sampled" else "exact", if (is.null(bg)) ", by cover"
    )
  )
  table <- summarise_shapley(st, settings, units, values, info, level)
  alone <- as.list(stats::setNames(nm = unlist(units, use.names = FALSE)))
  in_closed_form <- length(alone) > length(units) && way_of(alone) != "sampled"
  parts <- if (in_closed_form) {
    parts_of_units(model, evaluation$label, units, values$phi, divide(alone)$phi, info)
  }
  noted <- !isFALSE(st$notes)
  ranking_part(
    st,
    table,
    settings,
    seed,
    level,
    shares = if (noted) share_errors(model, evaluation$label, values$phi, info),
    parts = parts,
    direction = if (noted) {
      find_direction(st, model, units, evaluation$label, values$phi, rows, info$weight, level)
    },
    values = values$phi
  )
}

# What needs predictions for every row is worked out for fewer of them.
most_rows_explained <- function(max_rows, way, players) {
  if (!is.null(max_rows)) return(max_rows)
  switch(way, sampled = 50L, enumerated = min(1000, 50 * 2^(8 - players)), 1000L)
}

# Units of several predictors: what each member has when it plays by itself, and the size of what
# a row's members have together, beside the unit's as one player.
parts_of_units <- function(model, label, units, phi, alone, info) {
  mean_size <- function(phi) colMeans(times(info$weight, sizes_over_classes(phi)))
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
        group = u,
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
share_errors <- function(model, label, phi, info) {
  size <- times(info$weight, sizes_over_classes(phi))
  total <- rowSums(size)
  whole <- mean(total)
  share <- if (whole > 0) colMeans(size) / whole else rep(NA_real_, ncol(size))
  order <- order(-share)
  error <- function(sum_of, share_of) {
    as.vector(influence_error((sum_of - share_of * total) / whole, info$block)$std_error)
  }
  together <- 0  # the columns so far, row by row
  cumulative <- cumsum(share[order])
  error_so_far <- function(m) {
    together <<- together + size[, order[m]]
    error(together, cumulative[m])
  }
  known <- !anyNA(share) && nrow(size) > 1
  table_of(
    model = model$name,
    rows = label,
    predictor = colnames(size)[order],
    share = unname(share[order]),
    std_error = if (known) {
      vapply(order, function(j) error(size[, j], share[j]), 0)
    } else {
      NA_real_
    },
    cumulative = unname(cumulative),
    cumulative_error = if (known) {
      vapply(seq_along(order), error_so_far, 0)
    } else {
      NA_real_
    }
  )
}

summarise_shapley <- function(st, settings, units, values, info, level) {
  predictors <- dimnames(values$phi)[[2]]
  n <- dim(values$phi)[1]
  flags <- join_flags(
    flags_of_units(st, units),
    flags_of(st)$models[[settings$model]],
    if (any(values$short)) "not converged" else "",
    if (settings$seen) "training rows" else ""
  )
  describe <- function(sizes, class) {
    importance <- colMeans(times(info$weight, sizes))
    # what all rows share is in no variance over rows
    u <- if (is.null(info$weight) && is.null(info$block)) {
      sizes
    } else {
      times(info$weight, sizes - rep(importance, each = n))
    }
    found <- columns_with_limits(importance, u, info$block, level)
    ranking_rows(
      st, settings, predictors, importance, found$std_error,
      pmax(found$lower, 0), found$upper, inference = "model", class = class, flag = flags
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

shapley_record <- function() {
  list(
    name = "shapley", label = "Shapley", colour = "#75518C",
    usual_forms = c("plain", "cover"), usual_rows = "holdout", needs = character(),
    why_not = function(model, st, settings) {
      given <- is.data.frame(settings$background)
      if (is.null(st$train) && !given) "no training rows were given" else ""
    },
    any_rows = TRUE, held_out = TRUE, floor = TRUE, beside_others = TRUE,
    rank = function(st, model, evaluation, settings) {
      rank_shapley(
        st, models = model, rows = evaluation, background = settings$background,
        level = settings$level, seed = settings$seed
      )
    },
    importances = function(inside, model, units, groups, settings) {
      importances_of_shapley(inside, model, groups, settings)
    }
  )
}

# Inside a path: few rows and background rows.
importances_of_shapley <- function(inside, model, groups, settings) {
  found <- as_plain(rank_shapley(
    inside,
    models = model,
    background = 50,
    max_rows = 100,
    groups = if (length(groups)) groups,
    seed = settings$seed
  ))
  found <- found[is.na(found$class), ]
  stats::setNames(found$importance, found$predictor)
}
