#' Do methods, models and data sets agree?
#'
#' Compares the rankings in one result with each other, and says which predictors they disagree on
#' most, and why where that is known.
#'
#' @param ranking A [ranking] with several methods, models, sets of rows or slices; with resamples
#'   their means are compared.
#' @param ... Must be empty.
#' @param study The [study()] of the ranking: what the ranking does not hold of the reasons is
#'   then worked out (see details).
#' @param top Number of top predictors whose overlap is worked out. Default: 5, or half of the
#'   predictors where there are fewer than 10.
#' @param persistence How far down the lists the rank-biased overlap looks.
#' @return A list of class `dreher_agreement`; `as.data.frame()` gives one row per pair of
#'   rankings: `a`, `b`, `tau` (Kendall's tau-b), `spearman`, `top_overlap` (of the top k),
#'   `rank_overlap` (rank-biased), `share_overlap` (see [agreement_tau()]), each with its
#'   Monte-Carlo error over the resamples (`tau_error` and so on; `NA` without resamples, where
#'   nothing is known of it), and `shared` (number of predictors in both). `predictors` is a data
#'   frame with the `best` and `worst` rank of each predictor, which ranking gives them, their
#'   `range`, the largest `share` any ranking gives it, and `why`, possible reasons; `summary()`
#'   gives it.
#' @details Reasons are read off what is known: pairs that go together (they share what one of
#'   them would have alone), `many levels` and the flag `in-sample only` (impurity favours
#'   predictors
#'   with many values; `no effect on score`: moves predictions without improving the score), a
#'   share of
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
#' it does by itself (Sobol 1993; Homma and Saltelli 1996): `mainly through interactions`
#' where S is under a quarter of T, `non-linear main effect` where it is over three
#' quarters and the association does not show it. Both are variance components of 10 shuffles of
#' at most 500 holdout rows.
#' @section Errors: A ranking that holds a single list; a `study` of other data; `top` beyond the
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
agreement <- function(ranking, ..., study = NULL, top = NULL, persistence = 0.9) {
  check_class(ranking, "dreher_ranking", "ranking", "rank_predictors()")
  check_no_dots(..., .verb = "agreement")
  persistence <- check_fraction(persistence, "persistence")
  if (!is.null(study)) check_study_of(ranking, study)
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
  k <- if (is.null(top)) {
    max(1L, min(5L, least %/% 2L))
  } else {
    check_count(top, "top", most = least)
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
  validate_agreement(new_agreement(
    list(
      pairs = data.frame(a = pairs[1, ], b = pairs[2, ], found),
      predictors = disputed(parts, means, known_reasons(ranking, study)),
      k = k,
      persistence = persistence,
      target = detail(ranking, "target"),
      labels = detail(ranking, "labels"),
      lists = names(parts),
      fingerprint = detail(ranking, "fingerprint"),
      resamples = detail(ranking, "resamples")
    )
  ))
}

check_study_of <- function(ranking, study) {
  check_class(study, "dreher_study", "study", "study()")
  if (identical(detail(ranking, "fingerprint"), study$fingerprint)) return(invisible())
  stop_study(
    "`study` is not that of `ranking`: its data differ.",
    todo = "Give the study that was ranked."
  )
}

new_agreement <- function(fields) new_record(fields, "agreement")

validate_agreement <- function(x) {
  check_shape(
    x,
    c(pairs = "list", predictors = "list", k = "integer", lists = "character"),
    "agreement"
  )
  check_holds(!anyDuplicated(x$lists), "agreement", "two lists have one name")
  check_holds(
    all(abs(x$pairs$tau) <= 1 + 1e-12, na.rm = TRUE), "agreement", "a tau is beyond 1"
  )
  x
}

# What tells the lists apart, and nothing that does not: form and rows only where a method of a
# model has several of them.
name_parts <- function(parts) {
  of <- function(column) {
    vapply(parts, function(d) if (is.na(d[[column]][1])) "" else d[[column]][1], "")
  }
  alike <- paste(of("model"), of("method"), of("slice"), sep = "\r")
  several <- alike %in% alike[duplicated(alike)]
  usual <- of("rows") == "train" & of("form") == "in-bag"  # impurity's own go without saying
  rows <- ifelse(several & !usual, of("rows"), "")
  form <- ifelse(several, said_form(of("method"), of("form")), "")
  method <- trimws(paste(of("method"), rows, form))
  same <- paste(of("model"), method, of("slice"), sep = "\r")
  method <- ifelse(same %in% same[duplicated(same)], paste(method, of("form")), method)
  known <- list(of("model"), method, of("slice"))
  tells <- vapply(known, function(x) length(unique(x)) > 1, NA)
  unname(apply(do.call(cbind, known[tells]), 1, function(x) {
    paste(x[nzchar(x)], collapse = ", ")
  }))
}

compare_lists <- function(draws_a, draws_b, a, b, k, persistence) {
  shared <- intersect(names(a), names(b))
  measure <- function(a, b) {
    if (length(shared) < 2) return(rep(NA_real_, 5))
    c(
      agreement_tau(a[shared], b[shared]), agreement_spearman(a[shared], b[shared]),
      agreement_top(a[shared], b[shared], min(k, length(shared) - 1L)),
      agreement_overlap(a, b, persistence), agreement_shares(a[shared], b[shared])
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
  gap <- detail(ranking, "gap")
  out <- list(
    twins = detail(ranking, "twins"),
    labels = detail(ranking, "labels"),
    gap = mostly_trained(gap),
    alone = NULL,
    many_levels = function(p) FALSE,
    by_itself = function(predictors) rep(NA_real_, length(predictors)),
    bends = function(p) FALSE
  )
  if (is.null(study)) return(out)
  out$many_levels <- function(p) has_many_levels(study$data[[p]])
  models <- study$models[intersect(
      unique(ranking$model[ranking$method %in% methods_that("beside_others")]),
      names(study$models)
    )]
  out$bends <- function(p) may_bend(study$data[[p]], p, models)
  seed <- detail(ranking, "seed")
  if (is.null(out$twins)) out$twins <- alike_pairs(study)
  if (is.null(gap) && !is.null(study$train) && length(models)) {
    out$gap <- mostly_trained(detail(
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
    out$alone <- kept(study, "association", associate_target(study, study$predictors))
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
may_bend <- function(x, predictor, models) {
  if (!is.numeric(x) || is.factor(x) || length(unique(x[!is.na(x)])) <= 2) return(FALSE)
  straight <- function(model) {
    if (!predictor %in% model$inputs$predictors) return(TRUE)
    terms <- names(model$linear$columns)[vapply(
        model$linear$columns, function(u) predictor %in% u, NA
      )]
    !is.null(model$linear) && identical(gsub("`", "", terms), predictor)
  }
  !all(vapply(models, straight, NA))
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
  evaluation <- draw_rows(list(data = st$data, label = "holdout"), max_rows, seed)
  rows <- model_rows(st, model, evaluation$data)
  design <- shared_design(draw_donors(nrow(rows), repeats, seed, apart = TRUE))
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

# Best and worst place of every predictor over the lists, and possible reasons. Places are those
# among the predictors that all lists hold, where there are any: places in lists of other lengths do
# not compare.
disputed <- function(parts, means, known) {
  common <- Reduce(intersect, lapply(means, names))
  share <- lapply(means, function(x) stats::setNames(shares_of(x), names(x)))
  if (length(common) >= 2) means <- lapply(means, function(x) x[common])
  ranks <- lapply(means, places_of)
  predictors <- unique(unlist(lapply(means, names)))
  held <- vapply(
    predictors, function(p) sum(vapply(means, function(x) p %in% names(x), NA)), 1L
  )
  predictors <- predictors[held >= 2]
  if (!is.null(known$alone)) {
    known$alone <- places_of(known$alone[intersect(names(known$alone), predictors)])
  }
  method <- vapply(parts, function(d) d$method[1], "")
  out <- do.call(
    rbind,
    lapply(predictors, function(p) {
      place_over_lists(p, ranks, share, method, known$alone, length(predictors) / 2)
    })
  )
  by_itself <- rep(NA_real_, nrow(out))
  asked <- is_disputed(out) | out$unseen
  by_itself[asked] <- known$by_itself(out$predictor[asked])
  out$why <- ""
  out$why[asked] <- vapply(
    which(asked),
    function(i) {
      flags <- unlist(lapply(parts, function(d) d$flag[d$predictor == predictors[i]]))
      flags <- unique(unlist(strsplit(flags, "; ", fixed = TRUE)))
      reasons_for(predictors[i], flags, by_itself[i], out$unseen[i], known)
    },
    ""
  )
  out$unseen <- NULL
  out[order(-out$range, out$best), ]
}

places_of <- function(x) rank(-x, ties.method = "average")

# One predictor over the lists. unseen: is it in the lower half by itself, and in the upper half
# in a model?
place_over_lists <- function(p, ranks, share, method, alone, half) {
  place <- vapply(ranks, function(r) if (p %in% names(r)) r[[p]] else NA_real_, 0)
  by_itself <- max(place[method == "association"], alone[p], -Inf, na.rm = TRUE)
  inside <- min(place[method %in% methods_that("beside_others")], Inf, na.rm = TRUE)
  shares <- unlist(lapply(share, function(x) if (p %in% names(x)) x[[p]]))
  data.frame(
    predictor = p,
    best = min(place, na.rm = TRUE),
    best_in = names(ranks)[which.min(place)],
    worst = max(place, na.rm = TRUE),
    worst_in = names(ranks)[which.max(place)],
    range = diff(range(place, na.rm = TRUE)),
    share = max(shares, 0, na.rm = TRUE),
    unseen = by_itself > half && inside <= half && by_itself - inside >= max(2, half / 2)
  )
}

# Possible reasons, in words. by_itself: the share of what it does that it does by itself
reasons_for <- function(p, flags, by_itself, unseen, known) {
  twins <- c(
    known$twins$other[known$twins$predictor == p],
    known$twins$predictor[known$twins$other == p]
  )
  named <- ifelse(is.na(known$labels[twins]), twins, known$labels[twins])
  paste(
    c(
      if (length(twins)) paste0("shares credit with ", name_some(named)),
      if (known$many_levels(p)) "many levels",
      if ("in-sample only" %in% flags) "in-sample only",
      if ("no effect on score" %in% flags) "moves predictions without improving the score",
      if (p %in% known$gap) "more on training rows than on holdout rows",
      if (isTRUE(by_itself < 0.25)) {
        "mainly through interactions"
      } else if (unseen && !known$bends(p)) {
        "important only beside the others"
      } else if (unseen && isTRUE(by_itself > 0.75)) {
        "non-linear main effect"
      } else if (unseen) {
        "acts through others or not along a line"
      }
    ),
    collapse = "; "
  )
}

# Do the lists place a predictor more than a fifth of the places apart?
is_disputed <- function(predictors) predictors$range > max(1, 0.2 * nrow(predictors))

#' @export
as.data.frame.dreher_agreement <- function(x, ...) x$pairs

#' @export
summary.dreher_agreement <- function(object, ...) object$predictors
