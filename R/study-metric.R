# Metrics: one record per metric, three questions asked of it.
#
# metric_score()      the score on its own scale
# metric_influence()  the score as a loss, and each row's influence on it (mean 0): the base of
#                     every standard error (methods: Hoeffding 1948; DeLong et al. 1988 for AUC)
# metric_shuffled()   the loss of shuffled predictions pooled over repeats, and each row's influence
#
# kinds: "mean" of a row loss; "rmse", "r2" functions of the mean squared error; "auc"; "user".
# A loss is lower-is-better: minus the score where higher is better.

metric_table <- function() {
  squared <- function(truth, p) (p[, 1] - truth)^2
  list(
    rmse = list(kind = "rmse", better = "lower", task = "regression", loss = squared, label = "RMSE"),
    mse = list(kind = "mean", better = "lower", task = "regression", loss = squared, label = "mean squared error"),
    mae = list(kind = "mean", better = "lower", task = "regression", label = "mean absolute error",
               loss = function(truth, p) abs(p[, 1] - truth)),
    r2 = list(kind = "r2", better = "higher", task = "regression", loss = squared, label = "R squared"),
    brier = list(kind = "mean", better = "lower", task = "classification", loss = brier_loss, label = "Brier score"),
    log_loss = list(kind = "mean", better = "lower", task = "classification", loss = log_loss, label = "log loss"),
    accuracy = list(kind = "mean", better = "higher", task = "classification", loss = error_loss, label = "accuracy"),
    auc = list(kind = "auc", better = "higher", task = "binary", label = "AUC")
  )
}

# truth: class numbers 1..K; p: rows x classes. Two classes: (p - y)^2; more: sum over classes.
brier_loss <- function(truth, p) {
  if (ncol(p) == 2) return((p[cbind(seq_along(truth), truth)] - 1)^2)
  rowSums(p^2) - 2 * p[cbind(seq_along(truth), truth)] + 1
}

log_loss <- function(truth, p) -log(pmax(p[cbind(seq_along(truth), truth)], 1e-15))

# Ties go to the first class; what differs by rounding only is a tie.
error_loss <- function(truth, p) {
  top <- do.call(pmax, lapply(seq_len(ncol(p)), function(k) p[, k]))
  as.double(max.col(p >= top - 1e-12, ties.method = "first") != truth)
}

new_metric <- function(metric, better, task, classes, positive) {
  if (is.null(metric)) metric <- if (task == "regression") "rmse" else "brier"
  fits <- fitting_metrics(task, classes)
  if (is.function(metric)) {
    check_choice(better, c("lower", "higher"), "better")
    return(list(name = "user", label = "your metric", kind = "user", better = better, fun = metric,
                task = task, classes = classes, positive = positive))
  }
  if (!is.character(metric) || length(metric) != 1 || !metric %in% names(metric_table())) {
    stop_input("`metric` must name a metric, or be a function of truth and predicted.",
               paste0("Given: ", describe_value(metric), "."),
               paste0("For this target: ", quote_some(fits, 9), "."))
  }
  if (!metric %in% fits) {
    stop_input(paste0("Metric \"", metric, "\" does not fit a ", describe_task(task, classes), " target."),
               todo = paste0("These do: ", quote_some(fits, 9), "; or a function of truth and predicted."))
  }
  known <- metric_table()[[metric]]$better
  if (!is.null(better) && !identical(better, known)) {
    stop_input(paste0("For metric \"", metric, "\" ", known, " is better; `better` is for metrics of your own."), paste0("Given: ", describe_value(better), "."),
               "Leave `better` out.")
  }
  c(list(name = metric, classes = classes, positive = positive), metric_table()[[metric]])
}

fitting_metrics <- function(task, classes) {
  fit <- vapply(metric_table(), function(m) {
    m$task == task || (m$task == "binary" && task == "classification" && length(classes) == 2)
  }, NA)
  names(fit)[fit]
}

describe_task <- function(task, classes) {
  if (task == "regression") return("numeric")
  if (length(classes) == 2) "two-class" else paste0(length(classes), "-class")
}

# What a user's function sees: numbers, or the factor of true classes, and the predictions as a
# vector (regression; probability of the positive class) or a matrix of class probabilities.
user_score <- function(metric, truth, p) {
  if (metric$task == "regression") {
    seen <- p[, 1]
  } else {
    truth <- factor(metric$classes[truth], levels = metric$classes)
    seen <- if (length(metric$classes) == 2) p[, metric$positive] else p
  }
  value <- metric$fun(truth, seen)
  if (!is.numeric(value) || length(value) != 1 || is.na(value)) {
    stop_input("`metric` must return a single number that is not missing.",
               paste0("It returned: ", describe_value(value), "."))
  }
  as.double(value)
}

# Is the truth of these rows enough to compute the metric at all?
check_defined <- function(metric, truth) {
  if (metric$kind == "r2" && length(unique(truth)) < 2) {
    stop_study("R squared is undefined: the target has a single value in these rows.", todo = "Use rmse, or other rows.")
  }
  if (metric$kind == "auc" && length(unique(truth)) < 2) {
    stop_study("AUC is undefined: the target has a single class in these rows.", todo = "Use brier, or other rows.")
  }
}

metric_score <- function(metric, truth, p) {
  check_defined(metric, truth)
  switch(metric$kind,
         mean = if (metric$better == "lower") mean(metric$loss(truth, p)) else 1 - mean(metric$loss(truth, p)),
         rmse = sqrt(mean(metric$loss(truth, p))),
         r2 = 1 - mean(metric$loss(truth, p)) / mean((truth - mean(truth))^2),
         auc = auc_parts(truth == metric$positive, p[, metric$positive])$auc,
         user = user_score(metric, truth, p))
}

# -> list(loss, u): the score as a loss and the influence of each row; u is NULL for user metrics.
metric_influence <- function(metric, truth, p) {
  check_defined(metric, truth)
  n <- length(truth)
  if (metric$kind == "user") {
    s <- user_score(metric, truth, p)
    return(list(loss = if (metric$better == "lower") s else -s, u = NULL))
  }
  if (metric$kind == "auc") {
    a <- auc_parts(truth == metric$positive, p[, metric$positive])
    return(list(loss = -a$auc, u = -a$u))
  }
  l <- metric$loss(truth, p)
  r <- from_row_loss(metric, truth, matrix(l, n, 1))
  list(loss = r$loss, u = r$u[, 1])
}

# The influences of a matrix of row losses (rows x repeats), pooled over the repeats.
from_row_loss <- function(metric, truth, l) {
  m <- mean(l)
  if (metric$kind == "mean") {
    loss <- if (metric$better == "lower") m else m - 1
    return(list(loss = loss, u = l - m))
  }
  if (metric$kind == "rmse") {
    u <- if (m > 0) (l - m) / (2 * sqrt(m)) else l * 0
    return(list(loss = sqrt(m), u = u))
  }
  # r2 = 1 - m / V as a loss: m / V - 1. V varies with the rows as well.
  v <- (truth - mean(truth))^2
  V <- mean(v)
  list(loss = m / V - 1, u = (l - m) / V - m / V * (v - V) / V)
}

# p: rows x repeats x outputs of shuffled predictions. -> loss (pooled), u (rows x repeats)
metric_shuffled <- function(metric, truth, p) {
  n <- dim(p)[1]
  repeats <- dim(p)[2]
  if (metric$kind %in% c("auc", "user")) {
    one <- lapply(seq_len(repeats), function(r) metric_influence(metric, truth, slice_repeat(p, r)))
    loss <- mean(vapply(one, `[[`, 0, "loss"))
    u <- if (metric$kind == "auc") vapply(one, `[[`, double(n), "u")
    return(list(loss = loss, u = u))
  }
  l <- vapply(seq_len(repeats), function(r) metric$loss(truth, slice_repeat(p, r)), double(n))
  from_row_loss(metric, truth, matrix(l, n, repeats))
}

slice_repeat <- function(p, r) matrix(p[, r, ], dim(p)[1], dim(p)[3], dimnames = list(NULL, dimnames(p)[[3]]))

# Mann-Whitney with ties at 1/2, and DeLong's placement values as influences.
# Probabilities that differ by rounding only are ties.
auc_parts <- function(positive, score) {
  score <- round(score, 12)
  n1 <- sum(positive)
  n0 <- sum(!positive)
  n <- n1 + n0
  all_rank <- rank(score)
  # Share of negatives below each positive (ties half), and of positives above each negative.
  v10 <- (all_rank[positive] - rank(score[positive])) / n0
  v01 <- 1 - (all_rank[!positive] - rank(score[!positive])) / n1
  auc <- mean(v10)
  u <- double(n)
  u[positive] <- (v10 - auc) * n / n1
  u[!positive] <- (v01 - auc) * n / n0
  list(auc = auc, u = u)
}

as_score <- function(metric, loss) if (metric$better == "lower") loss else -loss
