# Metrics that do not fall apart into one loss per row: each is one number of all rows. Their errors come from the
# jackknife over blocks of rows.
#
# truth: numbers, or class numbers 1..K; p: rows x 1, or rows x classes; metric: the record, for its positive class.

median_error <- function(truth, p, metric) stats::median(abs(p[, 1] - truth))

# Ties go to the first class; what differs by rounding only is a tie.
predicted_class <- function(p) {
  top <- do.call(pmax, lapply(seq_len(ncol(p)), function(k) p[, k]))
  max.col(p >= top - 1e-12, ties.method = "first")
}

# Mean over the classes of the share that is found.
balanced_accuracy <- function(truth, p, metric) {
  hit <- predicted_class(p) == truth
  mean(vapply(split(hit, truth), mean, 0))
}

# Harmonic mean of precision and recall of the positive class; with several classes the mean over them.
f1_score <- function(truth, p, metric) {
  said <- predicted_class(p)
  of <- if (ncol(p) == 2) metric$positive else sort(unique(truth))
  mean(vapply(of, function(k) 2 * sum(said == k & truth == k) / (sum(said == k) + sum(truth == k)), 0))
}

# Matthews (1975), for several classes Gorodkin (2004); 0 where all rows are said to be of one class.
matthews <- function(truth, p, metric) {
  K <- ncol(p)
  met <- table(factor(truth, seq_len(K)), factor(predicted_class(p), seq_len(K)))
  n <- sum(met)
  t <- as.double(rowSums(met))
  s <- as.double(colSums(met))
  below <- sqrt(n^2 - sum(s^2)) * sqrt(n^2 - sum(t^2))
  if (below == 0) 0 else (sum(diag(met)) * n - sum(t * s)) / below
}

# Hand and Till (2001): mean over pairs of classes of the AUC within the pair, by the probability of each.
pairwise_auc <- function(truth, p, metric) {
  met <- sort(unique(truth))
  pairs <- utils::combn(met, 2)
  mean(apply(pairs, 2, function(ij) {
    within <- truth %in% ij
    a <- function(k) auc_parts(truth[within] == k, p[within, k])$auc
    (a(ij[1]) + a(ij[2])) / 2
  }))
}
