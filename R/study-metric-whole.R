# Metrics that do not fall apart into one loss per row: each is one number of all rows. Their
# errors come from the jackknife over blocks of rows.
#
# truth: numbers, or class numbers 1..K; p: rows x 1, or rows x classes; metric: the record, for
# its positive class; weight: what a row counts, or NULL.

median_error <- function(truth, p, metric, weight = NULL) {
  weighted_median(abs(p[, 1] - truth), weight)
}

# Mean over the classes of the share that is found.
balanced_accuracy <- function(truth, p, metric, weight = NULL) {
  hit <- predicted_class(p) == truth
  mean(vapply(
    split(seq_along(truth), truth),
    function(i) {
      stats::weighted.mean(hit[i], if (is.null(weight)) rep(1, length(i)) else weight[i])
    },
    0
  ))
}

# Harmonic mean of precision and recall of the positive class; with several classes the mean over
# them.
f1_score <- function(truth, p, metric, weight = NULL) {
  met <- class_table(truth, p, weight)
  of <- if (ncol(p) == 2) metric$positive else sort(unique(truth))
  mean(2 * diag(met)[of] / (rowSums(met)[of] + colSums(met)[of]))
}

# Weight of the rows by true (rows) and predicted class (columns).
class_table <- function(truth, p, weight) {
  K <- ncol(p)
  if (is.null(weight)) weight <- rep(1, length(truth))
  cell <- factor(truth + K * (predicted_class(p) - 1), seq_len(K^2))
  out <- vapply(split(weight, cell), sum, 0)
  matrix(out, K, K)
}

# Matthews (1975), for several classes Gorodkin (2004); 0 where all rows are said to be of one
# class.
matthews <- function(truth, p, metric, weight = NULL) {
  met <- class_table(truth, p, weight)
  n <- sum(met)
  t <- rowSums(met)
  s <- colSums(met)
  below <- sqrt(n^2 - sum(s^2)) * sqrt(n^2 - sum(t^2))
  if (below == 0) 0 else (sum(diag(met)) * n - sum(t * s)) / below
}

# Hand and Till (2001): mean over pairs of classes of the AUC within the pair, by the probability
# of each.
pairwise_auc <- function(truth, p, metric, weight = NULL) {
  met <- sort(unique(truth))
  pairs <- utils::combn(met, 2)
  mean(apply(pairs, 2, function(ij) {
    within <- truth %in% ij
    a <- function(k) auc_parts(truth[within] == k, p[within, k], weight[within])$auc
    (a(ij[1]) + a(ij[2])) / 2
  }))
}
