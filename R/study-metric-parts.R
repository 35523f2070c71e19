# Small parts of the metrics.

# Mann-Whitney with ties at 1/2, and DeLong's placement values as influences.
# Probabilities that differ by rounding only are ties.
auc_parts <- function(positive, score, weight = NULL) {
  score <- signif(score, 12)
  if (is.null(weight)) weight <- rep(1, length(score))
  placed <- function(of, among) {
    # the share of `among` below each, ties half
    order <- order(score[among])
    known <- score[among][order]
    total <- c(0, cumsum(weight[among][order]))
    (total[findInterval(score[of], known, left.open = TRUE) + 1] + total[findInterval(
          score[of], known
        ) + 1]) / (2 * total[length(total)])
  }
  v10 <- placed(positive, !positive)
  v01 <- 1 - placed(!positive, positive)
  n <- length(score)
  auc <- sum(weight[positive] * v10) / sum(weight[positive])
  u <- double(n)
  u[positive] <- weight[positive] * (v10 - auc) * n / sum(weight[positive])
  u[!positive] <- weight[!positive] * (v01 - auc) * n / sum(weight[!positive])
  list(auc = auc, u = u)
}

weighted_mean <- function(x, weight) if (is.null(weight)) mean(x) else mean(x * weight)

times <- function(weight, x) if (is.null(weight)) x else weight * x

describe_task <- function(task, classes) {
  if (task == "regression") return("numeric")
  if (length(classes) == 2) "two-class" else paste0(length(classes), "-class")
}

# Half of the weight lies on either side.
weighted_median <- function(x, weight) {
  if (is.null(weight)) return(stats::median(x))
  order <- order(x)
  total <- cumsum(weight[order])
  half <- total[length(total)] / 2
  (x[order][which(total >= half * (1 - 1e-9))[1]] + x[order][which(
        total > half * (1 + 1e-9)
      )[1]]) / 2
}

# Ties go to the first class; what differs by rounding only is a tie.
predicted_class <- function(p) {
  top <- do.call(pmax, lapply(seq_len(ncol(p)), function(k) p[, k]))
  max.col(p >= top - 1e-12, ties.method = "first")
}
