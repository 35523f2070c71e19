#' Do methods, models and data sets agree?
#'
#' Compares the rankings in one result with each other, and says which predictors they disagree on most, and why where that can be told.
#'
#' @param ranking A [ranking] with several methods, models, sets of rows or slices; with resamples their means are compared.
#' @param ... Must be empty.
#' @param k Number of top predictors whose overlap is worked out. Default: 5, or half of the predictors where there are fewer than 10.
#' @param persistence How far down the lists the rank-biased overlap looks.
#' @return A list of class `dreher_agreement`; `as.data.frame()` gives one row per pair of rankings: `a`, `b`, `tau` (Kendall's tau-b), `spearman`, `top_overlap`, `rank_overlap`, `shared` (number of predictors in both),
#'   and `tau_error`, its Monte-Carlo error over the resamples (`NA` without). `predictors` is a data frame with the `best` and `worst` rank of each predictor, which ranking gives them, and `why`, possible reasons.
#' @details Reasons are read off what is known: pairs that go together (they share what one of them would have alone), flags (`many levels` and `in-bag only`: impurity favours predictors with many values; `moves only`: moves predictions without
#' improving the score), a gap between training and holdout rows, and a low rank by itself (association) beside a high one in the model: acts through others or not along a line.
#' @section Errors: A ranking that holds a single list.
#' @references As for [stability()].
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + grog_share + operator, kiln$train)
#' agreement(rank_predictors(study(fit, kiln$holdout, "strength", train = kiln$train)))
#' @export
agreement <- function(ranking, ..., k = NULL, persistence = 0.9) {
  check_class(ranking, "dreher_ranking", "ranking", "rank_predictors()")
  check_no_dots(..., .verb = "agreement")
  persistence <- check_fraction(persistence, "persistence")
  table <- as_plain(ranking)
  table <- table[is.na(table$class), ]
  parts <- split(table, part_keys(table))
  if (length(parts) < 2) stop_input("`ranking` holds a single list of predictors, so there is nothing to agree with.", todo = "Rank by several methods or models, or on several sets of rows.")
  names(parts) <- name_parts(parts)
  draws <- lapply(parts, function(d) if (all(is.na(d$resample))) stats::setNames(d$importance, d$predictor) else importance_matrix(d))
  means <- lapply(draws, function(x) if (is.matrix(x)) colMeans(x, na.rm = TRUE) else x)
  least <- min(lengths(means))
  k <- if (is.null(k)) max(1L, min(5L, least %/% 2L)) else check_count(k, "k", most = least)
  pairs <- utils::combn(names(parts), 2)
  found <- do.call(rbind, lapply(seq_len(ncol(pairs)), function(i) compare_lists(draws[[pairs[1, i]]], draws[[pairs[2, i]]], means[[pairs[1, i]]], means[[pairs[2, i]]], k, persistence)))
  structure(list(pairs = data.frame(a = pairs[1, ], b = pairs[2, ], found), predictors = disputed(parts, means, ranking), k = k, persistence = persistence, target = attr(ranking, "target"),
                 labels = attr(ranking, "labels"), lists = names(parts), fingerprint = attr(ranking, "fingerprint"), resamples = attr(ranking, "resamples")), class = "dreher_agreement")
}

# What tells the lists apart, and nothing that does not.
name_parts <- function(parts) {
  of <- function(column) vapply(parts, function(d) d[[column]][1], "")
  known <- list(of("model"), of("method"), of("rows"), ifelse(is.na(of("slice")), "", of("slice")))
  # Rows go without saying where each method has one set of them.
  if (!anyDuplicated(paste(known[[1]], known[[2]], known[[4]]))) known[[3]] <- rep("", length(parts))
  tells <- vapply(known, function(x) length(unique(x)) > 1, NA)
  unname(apply(do.call(cbind, known[tells]), 1, function(x) paste(x[nzchar(x)], collapse = ", ")))
}

compare_lists <- function(draws_a, draws_b, a, b, k, persistence) {
  shared <- intersect(names(a), names(b))
  if (length(shared) < 2) return(data.frame(tau = NA_real_, tau_error = NA_real_, spearman = NA_real_, top_overlap = NA_real_, rank_overlap = NA_real_, shared = length(shared)))
  error <- NA_real_
  if (is.matrix(draws_a) && is.matrix(draws_b)) {
    both <- intersect(rownames(draws_a), rownames(draws_b))
    if (length(both) >= 3) {
      total_a <- colSums(draws_a[both, shared, drop = FALSE])
      total_b <- colSums(draws_b[both, shared, drop = FALSE])
      values <- vapply(both, function(r) rank_tau(total_a - draws_a[r, shared], total_b - draws_b[r, shared]), 0)
      error <- sqrt(jackknife_variance(values))
    }
  }
  data.frame(tau = rank_tau(a[shared], b[shared]), tau_error = error, spearman = rank_spearman(a[shared], b[shared]), top_overlap = top_overlap(a[shared], b[shared], min(k, length(shared) - 1L)),
             rank_overlap = rank_overlap(a, b, persistence), shared = length(shared))
}

# Best and worst place of every predictor over the lists, and possible reasons.
disputed <- function(parts, means, ranking) {
  # Places among the predictors that all lists hold, where there are any: places in lists of other lengths do not compare.
  common <- Reduce(intersect, lapply(means, names))
  if (length(common) >= 2) means <- lapply(means, function(x) x[common])
  ranks <- lapply(means, function(x) rank(-x, ties.method = "average"))
  predictors <- unique(unlist(lapply(means, names)))
  in_all <- predictors[vapply(predictors, function(p) sum(vapply(ranks, function(r) p %in% names(r), NA)) >= 2, NA)]
  flags <- lapply(in_all, function(p) unique(unlist(strsplit(unlist(lapply(parts, function(d) d$flag[d$predictor == p])), "; ", fixed = TRUE))))
  twins <- attr(ranking, "twins")
  gap <- attr(ranking, "gap")
  out <- do.call(rbind, lapply(seq_along(in_all), function(i) {
    p <- in_all[i]
    place <- vapply(ranks, function(r) if (p %in% names(r)) r[[p]] else NA_real_, 0)
    by_itself <- place[vapply(parts, function(d) d$method[1] == "association", NA)]
    inside <- place[vapply(parts, function(d) d$method[1] %in% c("permutation", "shapley", "refit"), NA)]
    half <- length(in_all) / 2
    why <- c(if (p %in% c(twins$predictor, twins$other)) paste0("shares credit with ", paste(setdiff(c(twins$other[twins$predictor == p], twins$predictor[twins$other == p]), p), collapse = ", ")),
             if ("many levels" %in% flags[[i]]) "many levels", if ("in-bag only" %in% flags[[i]]) "in-bag only", if ("moves only" %in% flags[[i]]) "moves predictions without improving the score",
             if (any(gap$predictor == p & gap$beyond)) "more on training rows than on holdout rows",
             if (any(by_itself > half, na.rm = TRUE) && any(inside <= half / 2, na.rm = TRUE)) "acts through others or not along a line")
    data.frame(predictor = p, best = min(place, na.rm = TRUE), best_in = names(parts)[which.min(place)], worst = max(place, na.rm = TRUE), worst_in = names(parts)[which.max(place)],
               range = diff(range(place, na.rm = TRUE)), why = paste(why, collapse = "; "))
  }))
  out[order(-out$range, out$best), ]
}

#' @export
as.data.frame.dreher_agreement <- function(x, ...) x$pairs

#' @export
summary.dreher_agreement <- function(object, ...) object$predictors
