#' Confidence sets for the ranks over resamples
#'
#' What a ranking over resamples says of every predictor, of every pair, and of the order as a
#' whole: which ranks are settled and which are not. A rank set is a confidence set for the rank.
#'
#' @param ranking A [ranking] over resamples, made by [rank_predictors()] with `resamples`.
#' @param ... Must be empty.
#' @param seeds A ranking over resamples of kind `"seeds"` of the same study: separates the
#'   learner's own noise from the sample's.
#' @param top Sizes k for which the overlap of the top k and its stability are worked out.
#'   Default: 1, 3, 5, 10 and half of the predictors, as far as there are so many.
#' @param persistence How far down the lists the rank-biased overlap looks.
#' @param level Level of intervals and rank sets.
#' @return A list of class `dreher_stability`; `as.data.frame()` gives one row per model, method,
#'   rows and predictor: \describe{ \item{importance, std_error, lower, upper}{mean over the
#'   resamples; error and interval of the learner's importance (this way of fitting at this number
#'   of training rows), `NA` for `"seeds"`} \item{rank}{rank of the mean importance}
#'   \item{rank_lower, rank_upper}{joint rank set: all true ranks lie in these sets at once with
#'   probability `level` at least} \item{alone_lower, alone_upper}{the set for this predictor alone;
#'   narrower} \item{spread_lower, spread_upper}{the middle nine tenths of its ranks over the
#'   resamples: a description, not a confidence interval} \item{top_k}{one column per k of `top`:
#'   share of the resamples in which it is among the top k} \item{tier}{1 is the top; within a
#'   tier no predictor is shown to lie below the tier's first} \item{settled}{is its rank set a
#'   single rank?} \item{above_floor}{does it lie above the noise floor? `NA` where [with_floor()]
#'   has put none into the ranking, and for slices} \item{seed_error, seed_share, seed_lower,
#'   seed_upper}{with `seeds`: standard deviation over the model's seeds, the share of its square
#'   in that of `std_error`, and the limits of this share, by Fisher's F} } `summary()` gives the
#'   measures of all parts. Each of `parts` holds, beside its `table`: `measures`, a data frame of
#'   `measure`, `k`, `value`, `mc_error` (its Monte-Carlo error: what more resamples would change)
#'   and `chance` (what unrelated orders score); `tops`, a data frame of `predictor`, `k`, the
#'   `share` of the resamples in which it is among the top k, and `lower` and `upper`; `above`, a
#'   matrix: share of the resamples in which the row's predictor lies above the column's, with
#'   `above_lower` and `above_upper`; `sets`, the chance-corrected stability for every k with its
#'   interval. Limits of shares (Wilson 1927) and of `sets` say what more resamples would change,
#'   not what other samples would.
#' @details *Rank sets and tiers* (Mogstad, Romano, Shaikh and Wilhelm 2024): the largest, over
#'   all pairs, of the differences' distances from their means in the resamples, each over its
#'   standard error, has a distribution; its `level` quantile c says which pairs of predictors are
#'   distinguished: `difference > c * error`. Then the quantile is taken over the pairs that are
#'   still open, which is smaller, and so on until no more are distinguished (step-down: Romano and
#'   Wolf 2005). A rank set runs from one more than the number of
#'   predictors shown to be above to what is left by those shown to be below. Percentiles of
#'   resampled ranks do not cover where predictors tie, and are given as a spread only. Tiers:
#'   from the top down, a predictor stays in the tier while it is not shown to lie below the
#'   tier's first; the first that is opens the next tier.
#'
#' The true rank is that of the learner's importance: the mean over all samples of this size and all
#'   seeds. A rank set is a confidence set for it, not a forecast of the rank that another sample
#'   would show. It holds at least the level: exactly so where all predictors matter alike, more
#'   where they differ, as a set of a predictor far from its neighbours cannot fail.
#'
#' *The learner's own noise* is in every draw, but is averaged away in the mean over them. For
#'   permutation importance over bootstrap draws and subsamples the first 20 draws (a fifth, if they
#'   are fewer than 100) are trained and ranked once more with other seeds; the variance of this
#'   noise, that of a pair or its share over all pairs, whichever is smaller, is taken out of the
#'   errors of differences as far as it exceeds 15 % of their variance, which is about as well as
#'   that variance is known; a quarter of it is left at least. Not so for other methods: without
#'   its noise the spread of Shapley importance over draws is too small.
#'   `std_error` and the interval of the importance keep it.
#'
#' *Errors of importance:* bootstrap: the standard deviation over the draws. Subsamples of m out
#' of n rows: that times \eqn{\sqrt{m / (n - m)}}{sqrt(m / (n - m))}. Folds and points in time:
#' with the correction of Nadeau and Bengio (2003) at twice the ratio of test to training rows,
#' and pairs distinguished by t quantiles over all pairs; approximate. Resampling of kind `"seeds"`
#' shows the learner's own noise and says nothing of other samples: no rank sets. On rows given as
#' data frames the errors are of training on other rows and measuring on these: that these are a
#' sample as well is not in them.
#'
#' Permutation importance over bootstrap draws and subsamples is measured on the rows a draw
#' leaves out. Rows that make a predictor look strong by chance do so in training and in
#' measuring; in the whole sample the two add up, but what a draw trains on more often it does not
#' measure on, so that they cancel in the draws. Their spread alone would be too small (a forest's
#' rank sets then held in 91 % of simulated samples with ties, with what follows the sets
#' of all predictors at once in 94.8 % or more of separated, tied, equal and mixed ones,
#' of a forest and a linear model: `bench/stability.R`, 400 data sets a cell). So
#' the measuring rows' part, known row by row, is taken out of each draw and put back by the
#' rows it trained on; spreads and shares of draws are those of the draws as they are. Not done
#' where rows left out times predictors exceed 40 million over all draws, for slices, and for
#' metrics that have no influence of single rows.
#'
#' *Measures:* mean over all pairs of resamples of Kendall's tau-b, Spearman's correlation,
#' rank-biased overlap, the overlap of shares and that of the top k; Kendall's W; and the
#' chance-corrected stability of the top k as a set (Nogueira, Sechidis and Brown 2018). Errors by
#' dropping one resample after the other. Ties are broken at random, by a fixed stream, where an
#' order is needed.
#'
#' *Whose noise:* a refit on another sample differs by the sample and by the learner's own seed.
#' `seeds` measures the second alone, on the same rows; what is left is the sample's. The seed's
#' part shrinks with more trees or with several fits averaged, the sample's with more rows.
#' @section Reading the result: where a rank is "settled" the sample leaves one rank possible for
#'   the predictor, with all sets right at once at the level; "open" ones may have any rank of
#'   their set. A share of resamples is not a probability that the statement is true.
#' @section Errors: A ranking without resamples, or with fewer than 3 in every part; `seeds` that
#'   are not a ranking over seeds of the same study, or hold none of its parts. Warning: few
#'   resamples for rank sets (under 100), or too few for any (under 19 at 95 %: sets, tiers and
#'   `settled` are `NA`).
#' @references Mogstad, M., Romano, J., Shaikh, A. and Wilhelm, D. (2024). Inference for ranks.
#'   \doi{10.1093/restud/rdad006}.
#'   Romano, J. and Wolf, M. (2005). Exact and approximate stepdown methods for multiple hypothesis
#'   testing. \doi{10.1198/016214504000000539}.
#'   Nogueira, S., Sechidis, K. and Brown, G. (2018). On the stability of feature selection
#'   algorithms. \url{https://jmlr.org/papers/v18/17-514.html}.
#'   Nadeau, C. and Bengio, Y. (2003). \doi{10.1023/A:1024068626366}.
#'   Wilson, E. (1927). Probable inference, the law of succession, and statistical inference.
#'   \doi{10.1080/01621459.1927.10502953}.
#'   Hall, P. and Miller, H. (2009). Using the bootstrap to quantify the authority of an empirical
#'   ranking. \doi{10.1214/09-AOS699}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes + cooling_rate + grog_share, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rk <- rank_predictors(st, by = "permutation", resamples = draw_resamples(kiln$train, times = 20))
#' stability(rk)
#' @export
stability <- function(
    ranking, ..., seeds = NULL, top = NULL, persistence = 0.9, level = 0.95) {
  check_class(ranking, "dreher_ranking", "ranking", "rank_predictors()")
  check_no_dots(..., .verb = "stability")
  persistence <- check_fraction(persistence, "persistence")
  level <- check_fraction(level, "level")
  check_tops(top)
  about <- detail(ranking, "resamples")
  table <- as_plain(ranking)
  if (is.null(about) || all(is.na(table$resample))) {
    stop_input(
      "`ranking` was not made over resamples, so nothing is known of its stability.",
      todo = "Use rank_predictors(resamples = draw_resamples(...))."
    )
  }
  if (!all(is.na(table$class))) table <- table[is.na(table$class), ]
  keys <- part_keys(table)
  parts <- if (max(keys) == 1) list(table) else split(table, keys)
  times <- vapply(parts, function(d) length(unique(d$resample)), 1L)
  if (all(times < 3)) {
    stop_input("At least 3 resamples are needed.", paste0("There are ", max(times), "."))
  }
  parts <- lapply(
    parts[times >= 3],
    stability_part,
    about = about,
    offsets = detail(ranking, "offsets"),
    again = detail(ranking, "again"),
    top = top,
    persistence = persistence,
    level = level
  )
  parts <- lapply(parts, function(part) {
    floor <- detail(ranking, "floor")
    part$table$above_floor <- if (is.null(floor)) NA else floor_says(floor, part$table)
    part
  })
  if (!is.null(seeds)) {
    parts <- beside_seeds(parts, seeds, detail(ranking, "fingerprint"), level)
  }
  warn_few_resamples(about$kind, max(times), level)
  whole <- c("target", "metric", "settings", "labels", "fingerprint", "failed", "seed")
  validate_stability(new_stability(c(
    list(parts = parts, about = about, level = level),
    stats::setNames(lapply(whole, function(name) detail(ranking, name)), whole)
  )))
}

# Rank sets rest on a quantile over the resamples.
warn_few_resamples <- function(kind, times, level) {
  if (!kind %in% c("bootstrap", "subsample") || times >= 100) return(invisible())
  too_few <- ceiling(level * (times + 1)) > times
  warn_dreher(
    "resamples",
    if (too_few) {
      paste0(times, " resamples are too few for rank sets at this level.")
    } else {
      paste0(
        "Rank sets from ", times,
        " resamples are rough: the quantile behind them is not well known."
      )
    },
    "Draw 300 resamples where ranks are to be relied on."
  )
}

new_stability <- function(fields) new_record(fields, "stability")

validate_stability <- function(x) {
  check_shape(x, c(parts = "list", about = "list", level = "double"), "stability")
  columns <- c(
    model = "character", method = "character", form = "character", rows = "character",
    predictor = "character", importance = "double", rank_lower = "integer",
    rank_upper = "integer", tier = "integer", settled = "logical"
  )
  for (part in x$parts) {
    check_shape(part$table, columns, "stability")
    check_holds(
      all(part$table$rank_lower <= part$table$rank_upper, na.rm = TRUE), "stability",
      "a rank set is empty"
    )
  }
  x
}

# Importances as a matrix of resamples x predictors. A predictor a resample lacks (its model does
# not have it) has no value.
importance_matrix <- function(d) {
  predictors <- unique(d$predictor)
  draws <- sort(unique(d$resample))
  out <- matrix(
    NA_real_, length(draws), length(predictors), dimnames = list(draws, predictors)
  )
  out[cbind(match(d$resample, draws), match(d$predictor, predictors))] <- d$importance
  out
}

check_tops <- function(top) {
  if (is.null(top)) return(invisible())
  if (!is.numeric(top) || is.object(top) || !length(top)) {
    stop_input(
      "`top` must hold whole numbers, at least 1.",
      paste0("Given: ", describe_value(top), ".")
    )
  }
  for (k in top) check_count(k, "top")
}

stability_part <- function(d, about, offsets, again, top, persistence, level) {
  x <- importance_matrix(d)
  if (anyNA(x)) x <- x[, colSums(is.na(x)) == 0, drop = FALSE]
  centre <- colMeans(x)
  order <- order(-centre)
  x <- x[, order, drop = FALSE]
  centre <- centre[order]
  p <- ncol(x)
  tops <- if (is.null(top)) unique(c(1, 3, 5, 10, p %/% 2)) else top
  tops <- as.integer(sort(tops[tops >= 1 & tops < p]))
  threads <- check_threads(NULL)
  pairs <- stability_pairs(x, threads)
  dimnames(pairs$above) <- list(colnames(x), colnames(x))
  sets <- rank_sets(
    with_offsets(x, d, offsets), centre, about, level, threads, noise_of_draws(x, d, again)
  )
  # Ranks with ties shared, and places with ties drawn: predictors x resamples.
  ranks <- matrix(apply(-x, 1, rank), p)
  place <- draw_places(x)
  table <- stability_table(d, centre, sets, ranks, nrow(x), level)
  for (k in tops) table[[paste0("top_", k)]] <- rowMeans(place <= k)
  table$tier <- sets$tier
  table$settled <- sets$joint[, 1] == sets$joint[, 2]
  sets_of <- if (p > 1) top_stability(place, level)
  lower <- share_limits(pairs$above, nrow(x), level)$lower
  share <- as.vector(t(as.matrix(table[sprintf("top_%d", tops)])))
  list(
    table = table,
    measures = if (p > 1) {
      measure_agreement(x, ranks, place, pairs$with, sets_of, persistence, tops, threads)
    },
    tops = data.frame(
      predictor = rep(colnames(x), each = length(tops)), k = rep(tops, p), share = share,
      share_limits(share, nrow(x), level)
    ),
    above = pairs$above,
    above_lower = lower,
    above_upper = 1 - t(lower),
    sets = if (p > 1) data.frame(k = seq_len(p - 1), t(sets_of)),
    times = nrow(x),
    ranks = table_ranks(ranks),
    critical = sets$critical,
    close = sets$close
  )
}

# Errors and sets come from draws that vary as samples do (see sampling_offsets()).
with_offsets <- function(x, d, offsets) {
  measured_outside <- d$method[1] == "permutation" && d$rows[1] == "left out" &&
    is.na(d$slice[1])
  offset <- if (measured_outside) offsets[[d$model[1]]]
  if (is.null(offset)) x else x + offset[rownames(x), colnames(x), drop = FALSE]
}

# Covariance of the learner's own noise in one draw, from draws ranked again with other seeds:
# predictors x predictors, NULL where nothing is known of it.
noise_of_draws <- function(x, d, again) {
  key <- c("model", "method", "form", "rows", "slice")
  again <- again[x_keys(again, key) == x_keys(d[1, ], key), ]
  if (is.null(again) || !nrow(again)) return(NULL)
  y <- importance_matrix(again)
  y <- y[rownames(y) %in% rownames(x), , drop = FALSE]
  if (!all(colnames(x) %in% colnames(y))) return(NULL)
  gap <- x[rownames(y), , drop = FALSE] - y[, colnames(x), drop = FALSE]
  gap <- gap[rowSums(is.na(gap)) == 0, , drop = FALSE]
  times <- nrow(gap)
  if (times < 3) return(NULL)
  crossprod(gap) / 2 / times
}

# Places from 1, ties drawn by a fixed stream. x: resamples x predictors -> predictors x resamples
draw_places <- function(x) {
  p <- ncol(x)
  draw <- rep(seq_len(nrow(x)), each = p)
  order <- with_stream(
    1,
    c("ties", dim(x)),
    order(draw, -as.vector(t(x)), stats::runif(length(x)), method = "radix")
  )
  place <- integer(length(x))
  place[order] <- rep(seq_len(p), nrow(x))
  matrix(place, p)
}

# One row per predictor. ranks: predictors x resamples
stability_table <- function(d, centre, sets, ranks, times, level) {
  sorted <- matrix(ranks[order(as.vector(row(ranks)), ranks, method = "radix")], times)
  spread <- sorted[ceiling(c(0.05, 0.95) * times), , drop = FALSE]
  limits <- t_limits(centre, sets$std_error, times - 1, level)
  data.frame(
    model = d$model[1],
    method = d$method[1],
    form = d$form[1],
    rows = d$rows[1],
    slice = d$slice[1],
    predictor = names(centre),
    importance = unname(centre),
    std_error = unname(sets$std_error),
    lower = unname(limits$lower),
    upper = unname(limits$upper),
    rank = rank(-unname(centre), ties.method = "min"),
    rank_lower = sets$joint[, 1],
    rank_upper = sets$joint[, 2],
    alone_lower = sets$single[, 1],
    alone_upper = sets$single[, 2],
    spread_lower = spread[1, ],
    spread_upper = spread[2, ],
    row.names = NULL
  )
}

# How much of the variance is the learner's own noise. Parts that were not ranked over seeds have
# no figures.
beside_seeds <- function(parts, seeds, fingerprint, level) {
  check_class(
    seeds,
    "dreher_ranking",
    "seeds",
    "rank_predictors(resamples = draw_resamples(kind = \"seeds\"))"
  )
  kind <- detail(seeds, "resamples")$kind
  if (!identical(kind, "seeds")) {
    stop_input(
      "`seeds` must be a ranking over the model's seeds.",
      paste0(
        "Given: ",
        if (is.null(kind)) {
          "a ranking without resamples"
        } else {
          paste("one over resamples of kind", kind)
        },
        "."
      ),
      "Use rank_predictors(resamples = draw_resamples(train, \"seeds\"))."
    )
  }
  if (!identical(detail(seeds, "fingerprint"), fingerprint)) {
    stop_study(
      "`seeds` is of another study: its data differ.",
      todo = "Give two rankings of one study."
    )
  }
  of <- as_plain(seeds)
  of <- of[is.na(of$class), ]
  where <- function(d) {
    paste(d$model, d$method, d$form, as_holdout(d$rows), d$slice, sep = "\r")
  }
  if (!any(vapply(parts, function(part) where(part$table)[1], "") %in% where(of))) {
    stop_input("`seeds` holds none of the models and methods of `ranking`.")
  }
  lapply(parts, function(part) {
    d <- of[where(of) == where(part$table)[1], ]
    if (!nrow(d)) return(part)
    x <- importance_matrix(d)
    error <- apply(x, 2, stats::sd)[match(part$table$predictor, colnames(x))]
    share <- error^2 / part$table$std_error^2
    by <- function(q) pmin(share / stats::qf(q, nrow(x) - 1, part$times - 1), 1)
    part$table[c("seed_error", "seed_share", "seed_lower", "seed_upper")] <- list(
      unname(error),
      unname(pmin(share, 1)),
      unname(by((1 + level) / 2)),
      unname(by((1 - level) / 2))
    )
    part
  })
}

# How often each rank was taken: predictors x ranks.
table_ranks <- function(ranks) {
  matrix(
    apply(round(ranks), 1, function(r) tabulate(r, nrow(ranks)) / length(r)),
    nrow(ranks),
    byrow = TRUE
  )
}

# Rank sets and tiers; x sorted by centre. noise: covariance of the learner's own noise in a draw,
# which the mean over the draws averages away (noise_of_draws()).
rank_sets <- function(x, centre, about, level, threads, noise = NULL) {
  x <- sweep(x, 2, centre - colMeans(x), "+")
  B <- nrow(x)
  p <- ncol(x)
  unknown <- matrix(NA_integer_, p, 2)
  none <- list(
    std_error = rep(NA_real_, p),
    joint = unknown,
    single = unknown,
    tier = rep(NA_integer_, p),
    critical = NA_real_,
    close = FALSE
  )
  if (about$kind == "seeds") return(none)
  factor <- switch(
    about$kind,
    bootstrap = 1,
    subsample = sqrt(about$rows / (about$of - about$rows)),
    sqrt(1 / B + 2 * about$outside / about$rows)
  )
  away <- sweep(x, 2, centre)
  v <- crossprod(away) / (B - 1)
  none$std_error <- factor * sqrt(diag(v))
  spread <- pair_variances(v)
  spread[spread < (1e-12 * max(abs(x), 1e-300))^2] <- 0
  own <- if (is.null(noise)) 0 else noise_of_pairs(pair_variances(noise), spread)
  pairs <- list(
    gap = outer(centre, centre, "-"),
    spread = sqrt(spread),
    error = sqrt(factor^2 * (spread - own) + own / B)
  )
  pairs$gap[pairs$error == 0] <- 0  # both never used: not told apart
  pairs$error[pairs$error == 0] <- Inf
  drawn <- about$kind %in% c("bootstrap", "subsample")
  # the quantile may lie beyond the largest draw
  if (drawn && ceiling(level * (B + 1)) > B) return(none)
  # Which pairs are told apart: together, and those of one predictor for themselves. around: how
  # sure the quantile is, in Monte-Carlo errors
  told <- function(alone = FALSE, around = 0) {
    tell_pairs(
      pairs,
      alone,
      if (drawn) {
        function(open) {
          quantile_of_gaps(x, centre, pairs, open, level, around, alone, threads)
        }
      } else {
        function(open) {
          many <- if (alone) rowSums(open) else sum(open) / 2
          stats::qt(1 - (1 - level) / 2 / pmax(many, 1), B - 1)
        }
      }
    )
  }
  above <- told()
  alone <- told(alone = TRUE)
  list(
    std_error = none$std_error,
    joint = cbind(
      1L + as.integer(colSums(above$above)), p - as.integer(rowSums(above$above))
    ),
    single = cbind(
      1L + as.integer(rowSums(alone$below)), p - as.integer(rowSums(alone$above))
    ),
    tier = tiers_of(above$above),
    critical = above$critical[1],
    close = drawn &&
      !identical(tiers_of(told(around = -2)$above), tiers_of(told(around = 2)$above))
  )
}

# The learner's own part of the pairs' variances: known of each pair from few draws, and of all
# together as a share; the smaller counts. Spreads over draws are known to about a seventh: only
# what exceeds that is taken out, and a quarter of the variance stays at least.
noise_of_pairs <- function(noise, spread) {
  share <- sum(noise) / max(sum(spread), 1e-300)
  pmin(pmax(pmin(noise, share * spread) - 0.15 * spread, 0), 0.75 * spread)
}

pair_variances <- function(v) pmax(outer(diag(v), diag(v), "+") - 2 * v, 0)

# Step-down (Romano and Wolf 2005): pairs told apart no longer count, so that the quantile of the
# rest is smaller, until no more are told apart. critical(open): for the pairs that are open, one
# number or one a row. -> above, below: is the row's predictor told to be above, below the column's?
tell_pairs <- function(pairs, alone, critical) {
  ratio <- pairs$gap / pairs$error
  open <- is.finite(pairs$error)
  diag(open) <- FALSE
  first <- NULL
  repeat {
    c <- critical(open)
    if (is.null(first)) first <- c
    found <- open & abs(ratio) > c
    if (!any(found)) break
    open <- open & !found
  }
  told <- is.finite(pairs$error) & !open
  diag(told) <- FALSE
  list(above = told & ratio > 0, below = told & ratio < 0, critical = first)
}

# The quantile over the draws of the largest distance from the centre among the open pairs; for
# `alone` among those of each predictor.
quantile_of_gaps <- function(x, centre, pairs, open, level, around, alone, threads) {
  gaps <- stability_gaps(x, centre, pairs$spread * open, threads)
  B <- nrow(x)
  at <- min(B, ceiling(level * (B + 1)))
  at <- pmin(pmax(round(at + around * sqrt(B * level * (1 - level))), 1), B)
  if (!alone) return(sort(gaps$joint, partial = at)[at])
  apply(gaps$single, 2, function(g) sort(g, partial = at)[at])
}

# Sorted from the top: the first that is told to lie below its tier's leader opens the next.
tiers_of <- function(above) {
  tier <- leader <- 1L
  out <- integer(nrow(above))
  for (j in seq_along(out)) {
    if (above[leader, j]) {
      leader <- j
      tier <- tier + 1L
    }
    out[j] <- tier
  }
  out
}

#' @export
as.data.frame.dreher_stability <- function(x, ...) {
  out <- data.table::rbindlist(lapply(x$parts, `[[`, "table"), fill = TRUE)
  data.table::setDF(out)
  out
}

#' @export
summary.dreher_stability <- function(object, ...) {
  out <- do.call(
    rbind,
    lapply(object$parts, function(p) {
      cbind(
        p$table[1, c("model", "method", "form", "rows", "slice")],
        p$measures,
        row.names = NULL
      )
    })
  )
  rownames(out) <- NULL
  attr(out, "details") <- object[c("target", "metric", "seed", "fingerprint")]
  out
}
