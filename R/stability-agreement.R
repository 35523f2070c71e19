#' Do methods, models and data sets agree?
#'
#' Compares the rankings in one result with each other, and says which predictors they disagree on
#' most, and why where that can be told.
#'
#' @param ranking A [ranking] with several methods, models, sets of rows or slices; with resamples
#'   their means are compared.
#' @param ... Must be empty.
#' @param study The [study()] of the ranking: what the ranking does not hold of the reasons is
#'   then worked out (see details).
#' @param k Number of top predictors whose overlap is worked out. Default: 5, or half of the
#'   predictors where there are fewer than 10.
#' @param persistence How far down the lists the rank-biased overlap looks.
#' @return A list of class `dreher_agreement`; `as.data.frame()` gives one row per pair of
#'   rankings: `a`, `b`, `tau` (Kendall's tau-b), `spearman`, `top_overlap` (of the top k),
#'   `rank_overlap` (rank-biased), `share_overlap` (see [rank_tau()]), each with its Monte-Carlo
#'   error over the resamples (`tau_error` and so on; `NA` without resamples, where nothing is
#'   known of it), and `shared` (number of predictors in both). `predictors` is a data frame with
#'   the `best` and `worst` rank of each predictor, which ranking gives them, their `range`, the
#'   largest `share` any ranking gives it, and `why`, possible reasons; `summary()` gives it.
#' @details Reasons are read off what is known: pairs that go together (they share what one of
#'   them would have alone), flags (`many levels` and `in-bag only`: impurity favours predictors
#'   with many values; `moves only`: moves predictions without improving the score), a share of
#'   the importance on training rows that is half as large again as on holdout rows, and a place
#'   in the lower half by itself (association) beside one in the upper half in a model: `acts
#'   through others or not along a line`.
#'
#' With `study`, three of them are worked out where the ranking does not hold them: the
#' association of each predictor with the target; the shares, from permutation importance on
#' training and holdout rows (at most 2,000 rows, 5 repeats); and, for predictors that the
#' rankings place differently, how much of what a predictor does in a model it does together with
#' others. For values \eqn{x_j} put into rows at random, \eqn{T = E\,Var(f \mid x_{-j})}{T = E
#' Var(f | x_-j)} is what it does in all and \eqn{S = Var\,E(f \mid x_j)}{S = Var E(f | x_j)} what
#' it does by itself (Sobol 1993; Homma and Saltelli 1996): `acts mostly together with others`
#' where S is under a quarter of T, `acts by itself, but not along a line` where it is over three
#' quarters and the association does not show it. Both are variance components of 10 shuffles of
#' at most 500 holdout rows.
#' @section Errors: A ranking that holds a single list; a `study` of other data; `k` beyond the
#'   shortest list.
#' @references As for [stability()], and:
#'   Sobol, I. (1993). Sensitivity estimates for nonlinear mathematical models. Mathematical
#'   Modelling and Computational Experiment 1, 407-414.
#'   Homma, T. and Saltelli, A. (1996). Importance measures in global sensitivity analysis of
#'   nonlinear models. \doi{10.1016/0951-8320(96)00002-6}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' agreement(rank_predictors(st), study = st)
#' @export
agreement <- function(ranking, ..., study = NULL, k = NULL, persistence = 0.9) {
  check_class(ranking, "dreher_ranking", "ranking", "rank_predictors()")
  check_no_dots(..., .verb = "agreement")
  persistence <- check_fraction(persistence, "persistence")
  if (!is.null(study)) {
    check_class(study, "dreher_study", "study", "study()")
    if (!identical(attr(ranking, "fingerprint"), study$fingerprint)) {
      stop_study(
        "`study` is not that of `ranking`: its data differ.",
        todo = "Give the study that was ranked."
      )
    }
  }
  table <- as_plain(ranking)
  table <- table[is.na(table$class), ]
  parts <- split(table, part_keys(table))
  if (length(parts) < 2) {
    stop_input(
      "`ranking` holds a single list of predictors, so there is nothing to agree with.",
      todo = "Rank by several methods or models, or on several sets of rows."
    )
  }
  names(parts) <- name_parts(parts)
  draws <- lapply(parts, function(d) {
    if (all(is.na(d$resample))) {
      stats::setNames(d$importance, d$predictor)
    } else {
      importance_matrix(d)
    }
  })
  means <- lapply(draws, function(x) if (is.matrix(x)) colMeans(x, na.rm = TRUE) else x)
  least <- min(lengths(means))
  k <- if (is.null(k)) {
    max(1L, min(5L, least %/% 2L))
  } else {
    check_count(k, "k", most = least)
  }
  pairs <- utils::combn(names(parts), 2)
  found <- do.call(
    rbind,
    lapply(seq_len(ncol(pairs)), function(i) {
      compare_lists(
        draws[[pairs[1, i]]], draws[[pairs[2, i]]], means[[pairs[1, i]]],
        means[[pairs[2, i]]], k, persistence
      )
    })
  )
  structure(
    list(
      pairs = data.frame(a = pairs[1, ], b = pairs[2, ], found),
      predictors = disputed(parts, means, known_reasons(ranking, study)),
      k = k,
      persistence = persistence,
      target = attr(ranking, "target"),
      labels = attr(ranking, "labels"),
      lists = names(parts),
      fingerprint = attr(ranking, "fingerprint"),
      resamples = attr(ranking, "resamples")
    ),
    class = "dreher_agreement"
  )
}

# What tells the lists apart, and nothing that does not: rows only where a method of a model has
# several sets of them.
name_parts <- function(parts) {
  of <- function(column) vapply(parts, function(d) d[[column]][1], "")
  known <- list(
    of("model"), of("method"), of("rows"), ifelse(is.na(of("slice")), "", of("slice"))
  )
  alike <- paste(known[[1]], known[[2]], known[[4]])
  known[[3]][!alike %in% alike[duplicated(alike)]] <- ""
  known[[2]] <- trimws(paste(
    known[[2]], ifelse(known[[3]] == "train in-bag", "", known[[3]])
  ))  # impurity's own rows go without saying
  known <- known[-3]
  tells <- vapply(known, function(x) length(unique(x)) > 1, NA)
  unname(apply(do.call(cbind, known[tells]), 1, function(x) {
    paste(x[nzchar(x)], collapse = ", ")
  }))
}

compare_lists <- function(draws_a, draws_b, a, b, k, persistence) {
  shared <- intersect(names(a), names(b))
  # top_overlap() draws the orders of ties by a stream of its own, so that nothing else is random
  # here.
  measure <- function(a, b) {
    if (length(shared) < 2) return(rep(NA_real_, 5))
    c(
      rank_tau(a[shared], b[shared]), rank_spearman(a[shared], b[shared]),
      top_overlap(a[shared], b[shared], min(k, length(shared) - 1L)),
      rank_overlap(a, b, persistence), share_overlap(a[shared], b[shared])
    )
  }
  value <- measure(a, b)
  error <- rep(NA_real_, 5)
  if (is.matrix(draws_a) && is.matrix(draws_b)) {
    both <- intersect(rownames(draws_a), rownames(draws_b))
    if (length(both) >= 3) {
      without <- function(x, r) colMeans(x[both != r, , drop = FALSE], na.rm = TRUE)
      in_both <- list(
        a = draws_a[both, , drop = FALSE], b = draws_b[both, , drop = FALSE]
      )
      error <- sqrt(apply(
        vapply(
          both,
          function(r) measure(without(in_both$a, r), without(in_both$b, r)),
          double(5)
        ),
        1,
        jackknife_variance
      ))
    }
  }
  out <- stats::setNames(
    as.list(c(rbind(value, error))),
    c(rbind(agreement_measures, paste0(agreement_measures, "_error")))
  )
  data.frame(out, shared = length(shared))
}

agreement_measures <- c("tau", "spearman", "top_overlap", "rank_overlap", "share_overlap")

# What can tell why rankings disagree: twins; gap, predictors that count for more on training
# rows; alone, the association of each predictor with the target; by_itself(predictors), the share
# of what each does in a model that it does by itself, the smallest over the models.
known_reasons <- function(ranking, study) {
  gap <- attr(ranking, "gap")
  out <- list(
    twins = attr(ranking, "twins"),
    labels = attr(ranking, "labels"),
    gap = mostly_trained(gap),
    alone = NULL,
    by_itself = function(predictors) rep(NA_real_, length(predictors)),
    bends = function(p) FALSE
  )
  if (is.null(study)) return(out)
  out$bends <- function(p) may_bend(study, p)
  models <- study$models[intersect(
      unique(ranking$model[ranking$method %in% c("permutation", "shapley", "refit")]),
      names(study$models)
    )]
  seed <- attr(ranking, "seed")
  if (is.null(out$twins) && !isFALSE(study$twins)) out$twins <- find_alike(study)
  if (is.null(gap) && !is.null(study$train) && length(models)) {
    out$gap <- mostly_trained(attr(
      rank_permutation(
        study,
        models = names(models),
        rows = c("holdout", "train"),
        repeats = 5,
        max_rows = 2000,
        seed = seed
      ),
      "gap"
    ))
  }
  if (!is.null(study$train) && nrow(study$train) >= 10) {
    by_itself <- rank_association(study, draws = 2, seed = seed)
    out$alone <- stats::setNames(by_itself$importance, by_itself$predictor)
  }
  out$by_itself <- function(predictors) {
    found <- lapply(models, function(m) {
      main_effect_shares(study, m, intersect(m$inputs$predictors, predictors), seed)[predictors]
    })
    if (length(found)) {
      do.call(pmin, c(found, na.rm = TRUE))
    } else {
      rep(NA_real_, length(predictors))
    }
  }
  out
}

# a, b, c and 4 more
name_some <- function(x, most = 3) {
  if (length(x) > most + 1) x <- c(x[seq_len(most)], paste("and", length(x) - most, "more"))
  sub(", and ([0-9]+ more)$", " and \\1", paste(x, collapse = ", "))
}

# Can a predictor act otherwise than along a line? A number of more than two values can, in a
# model that is not linear in it.
may_bend <- function(study, predictor) {
  x <- study$data[[predictor]]
  if (!is.numeric(x) || is.factor(x) || length(unique(x[!is.na(x)])) <= 2) return(FALSE)
  straight <- function(model) {
    if (!predictor %in% model$inputs$predictors) return(TRUE)
    terms <- names(model$linear$columns)[vapply(
        model$linear$columns, function(u) predictor %in% u, NA
      )]
    !is.null(model$linear) && identical(gsub("`", "", terms), predictor)
  }
  !all(vapply(study$models, straight, NA))
}

# Importance is larger on training rows wherever a model has learned them by heart; what tells
# rankings apart is a part of it that is half as large again as on holdout rows.
mostly_trained <- function(gap) {
  if (is.null(gap)) return(character())
  part <- function(x) stats::ave(x, gap$model, FUN = shares_of)
  unique(gap$predictor[which(gap$beyond & part(gap$train) > 1.5 * part(gap$holdout))])
}

# What predictors do by themselves, as a share of all they do in a model (S / T, see agreement()):
# NA for those that do nothing. Shuffled predictions are of rows that receive and rows that give:
# T is the variance within a row that receives. With the mean of that row taken away, two rows
# that received the same value have in common what the value does by itself, times (1 - 1 /
# repeats)^2: S.
main_effect_shares <- function(
    st, model, predictors, seed, repeats = 10L, max_rows = 500) {
  if (!length(predictors)) return(stats::setNames(double(), character()))
  on <- draw_rows(list(data = st$data, label = "holdout"), max_rows, seed)
  rows <- model_rows(st, model, on$data)
  design <- shared_design(draw_donors(nrow(rows), repeats, seed))
  units <- stats::setNames(as.list(predictors), predictors)
  out <- stats::setNames(rep(NA_real_, length(units)), predictors)
  n <- nrow(rows)
  R <- design$repeats
  if (R < 2) return(out)
  share_of <- function(received) {
    # rows x repeats x outputs
    whole <- own <- 0
    for (k in seq_len(dim(received)[3])) {
      apart <- matrix(received[, , k], n)
      apart <- apart - rowMeans(apart)
      given <- vapply(
        seq_len(R), function(r) apart[order(design$donors[, r]), r], double(n)
      )  # by donor
      whole <- whole + sum(apart^2) / (n * (R - 1))
      own <- own + (sum(rowSums(given)^2) - sum(given^2)) / (n * R * (R - 1)) /
        (1 - 1 / R)^2
    }
    if (is.finite(whole) && whole > 0) own / whole else NA_real_
  }
  # A unit's repeats may come in several pieces.
  open_units <- list()
  visit <- function(piece) {
    p <- array(piece$p, c(n, length(piece$repeats), length(piece$units), ncol(piece$p)))
    for (u in seq_along(piece$units)) {
      name <- predictors[piece$units[u]]
      received <- open_units[[name]]
      if (is.null(received)) received <- array(NA_real_, c(n, R, ncol(piece$p)))
      received[, piece$repeats, ] <- p[, , u, ]
      whole <- !anyNA(received)
      if (whole) out[[name]] <<- share_of(received)
      open_units[[name]] <<- if (!whole) received
    }
  }
  shuffle_pieces(open_shuffle(st, model, rows), units, design, visit, whole = TRUE)
  out
}

# Best and worst place of every predictor over the lists, and possible reasons.
disputed <- function(parts, means, known) {
  # Places among the predictors that all lists hold, where there are any: places in lists of other
  # lengths do not compare.
  common <- Reduce(intersect, lapply(means, names))
  share <- lapply(means, function(x) stats::setNames(shares_of(x), names(x)))
  if (length(common) >= 2) means <- lapply(means, function(x) x[common])
  place_of <- function(x) rank(-x, ties.method = "average")
  ranks <- lapply(means, place_of)
  predictors <- unique(unlist(lapply(means, names)))
  in_all <- predictors[vapply(
      predictors, function(p) sum(vapply(ranks, function(r) p %in% names(r), NA)) >= 2, NA
    )]
  flags <- lapply(in_all, function(p) {
    unique(unlist(strsplit(
      unlist(lapply(parts, function(d) d$flag[d$predictor == p])), "; ", fixed = TRUE
    )))
  })
  half <- length(in_all) / 2
  if (!is.null(known$alone)) {
    known$alone <- place_of(known$alone[intersect(names(known$alone), in_all)])
  }
  asks <- vapply(parts, function(d) d$method[1], "")
  out <- do.call(
    rbind,
    lapply(in_all, function(p) {
      place <- vapply(ranks, function(r) if (p %in% names(r)) r[[p]] else NA_real_, 0)
      alone <- max(place[asks == "association"], known$alone[p], -Inf, na.rm = TRUE)
      inside <- min(
        place[asks %in% c("permutation", "shapley", "refit")], Inf, na.rm = TRUE
      )
      data.frame(
        predictor = p,
        best = min(place, na.rm = TRUE),
        best_in = names(parts)[which.min(place)],
        worst = max(place, na.rm = TRUE),
        worst_in = names(parts)[which.max(place)],
        range = diff(range(place, na.rm = TRUE)),
        share = max(
          unlist(lapply(share, function(x) if (p %in% names(x)) x[[p]])), 0, na.rm = TRUE
        ),
        unseen = alone > half && inside <= half && alone - inside >= max(2, half / 2)
      )
    })
  )
  by_itself <- rep(NA_real_, nrow(out))
  asked <- is_disputed(out) | out$unseen
  by_itself[asked] <- known$by_itself(out$predictor[asked])
  out$why <- vapply(
    seq_along(in_all),
    function(i) {
      p <- in_all[i]
      twins <- c(
        known$twins$other[known$twins$predictor == p],
        known$twins$predictor[known$twins$other == p]
      )
      paste(
        c(
          if (length(twins)) {
            paste0(
              "shares credit with ",
              name_some(ifelse(is.na(known$labels[twins]), twins, known$labels[twins]))
            )
          },
          if ("many levels" %in% flags[[i]]) "many levels",
          if ("in-bag only" %in% flags[[i]]) "in-bag only",
          if ("moves only" %in% flags[[i]]) {
            "moves predictions without improving the score"
          },
          if (p %in% known$gap) "more on training rows than on holdout rows",
          if (isTRUE(by_itself[i] < 0.25)) {
            "acts mostly together with others"
          } else if (out$unseen[i]) {
            if (!known$bends(p)) {
              "stands out only beside others"
            } else if (isTRUE(by_itself[i] > 0.75)) {
              "acts by itself, but not along a line"
            } else {
              "acts through others or not along a line"
            }
          }
        ),
        collapse = "; "
      )
    },
    ""
  )
  out$unseen <- NULL
  out[order(-out$range, out$best), ]
}

# Do the lists place a predictor more than a fifth of the places apart?
is_disputed <- function(predictors) predictors$range > max(1, 0.2 * nrow(predictors))

#' @export
as.data.frame.dreher_agreement <- function(x, ...) x$pairs

#' @export
summary.dreher_agreement <- function(object, ...) object$predictors
