# Metrics: one record per metric, three questions asked of it.
#
# metric_score()      the score on its own scale
# metric_influence()  the score as a loss, and each row's influence on it (mean 0): the base of
#                     every standard error (methods: Hoeffding 1948; DeLong et al. 1988 for AUC)
# metric_shuffled()   the loss of shuffled predictions pooled over repeats, and each row's influence
#
# kinds: "mean" of a row loss; "rmse", "r2" functions of the mean squared error; "auc"; "whole", one number of all
# rows (study-metric-whole.R); "user". ratio: has a true zero, so that losses can be divided. positive_truth: what
# the target must be.
# A loss is lower-is-better: minus the score where higher is better.

metric_table <- function() {
  squared <- function(truth, p) (p[, 1] - truth)^2
  number <- function(label, kind, loss = NULL, better = "lower", ratio = better == "lower", ...) {
    list(kind = kind, better = better, task = "regression", loss = loss, label = label, ratio = ratio, ...)
  }
  class <- function(label, kind, loss = NULL, better = "lower", task = "classification", ...) {
    list(kind = kind, better = better, task = task, loss = loss, label = label, ratio = better == "lower", ...)
  }
  list(
    rmse = number("RMSE", "rmse", squared),
    mse = number("mean squared error", "mean", squared),
    mae = number("mean absolute error", "mean", function(truth, p) abs(p[, 1] - truth)),
    median_ae = number("median absolute error", "whole", score = median_error),
    r2 = number("R squared", "r2", squared, "higher"),
    poisson_deviance = number("Poisson deviance", "mean", poisson_loss, least = 0),
    gamma_deviance = number("Gamma deviance", "mean", gamma_loss, above = 0),
    brier = class("Brier score", "mean", brier_loss),
    log_loss = class("log loss", "mean", log_loss),
    accuracy = class("accuracy", "mean", error_loss, "higher"),
    balanced_accuracy = class("balanced accuracy", "whole", NULL, "higher", score = balanced_accuracy),
    f1 = class("F1", "whole", NULL, "higher", score = f1_score),
    mcc = class("Matthews correlation", "whole", NULL, "higher", score = matthews),
    auc = class("AUC", "auc", NULL, "higher", "binary"),
    pairwise_auc = class("AUC over pairs of classes", "whole", NULL, "higher", "several", score = pairwise_auc)
  )
}

# Unit deviances; predictions are kept above 1e-10.
poisson_loss <- function(truth, p) {
  f <- pmax(p[, 1], 1e-10)
  2 * (ifelse(truth > 0, truth * log(truth / f), 0) - (truth - f))
}

gamma_loss <- function(truth, p) {
  f <- pmax(p[, 1], 1e-10)
  2 * ((truth - f) / f - log(truth / f))
}

# truth: class numbers 1..K; p: rows x classes. Two classes: (p - y)^2; more: sum over classes.
brier_loss <- function(truth, p) {
  if (ncol(p) == 2) return((p[cbind(seq_along(truth), truth)] - 1)^2)
  rowSums(p^2) - 2 * p[cbind(seq_along(truth), truth)] + 1
}

log_loss <- function(truth, p) -log(pmax(p[cbind(seq_along(truth), truth)], 1e-15))

error_loss <- function(truth, p) as.double(predicted_class(p) != truth)

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
               paste0("For this target: ", quote_some(fits, 12), "."))
  }
  if (!metric %in% fits) {
    stop_input(paste0("Metric \"", metric, "\" does not fit a ", describe_task(task, classes), " target."),
               todo = paste0("These do: ", quote_some(fits, 12), "; or a function of truth and predicted."))
  }
  known <- metric_table()[[metric]]$better
  if (!is.null(better) && !identical(better, known)) {
    stop_input(paste0("For metric \"", metric, "\" ", known, " is better; `better` is for metrics of your own."), paste0("Given: ", describe_value(better), "."),
               "Leave `better` out.")
  }
  c(list(name = metric, classes = classes, positive = positive), metric_table()[[metric]])
}

# The metric, or squared error in the place of its root and of R squared. Squared errors of predictions add up over
# independent predictors that act side by side; other losses need not.
additive_metric <- function(metric) {
  if (metric$name %in% c("rmse", "r2")) metric <- c(list(name = "mse"), metric_table()[["mse"]])
  metric$additive <- metric$name %in% c("mse", "brier")
  metric
}

fitting_metrics <- function(task, classes) {
  fit <- vapply(metric_table(), function(m) {
    m$task == task || (task == "classification" && m$task == if (length(classes) == 2) "binary" else "several")
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
  if (metric$task %in% c("binary", "several") && length(unique(truth)) < 2) {
    stop_study("AUC is undefined: the target has a single class in these rows.", todo = "Use brier, or other rows.")
  }
  if (identical(metric$name, "f1") && length(metric$classes) == 2 && !any(truth == metric$positive)) {
    stop_study("F1 is undefined: no row is of the positive class.", todo = "Use brier, or other rows.")
  }
  if (!is.null(metric$least) && any(truth < metric$least)) {
    stop_study(paste0("The ", metric$label, " is undefined: the target is below 0 in row ", which(truth < metric$least)[1], "."), todo = "Use rmse, or another target.")
  }
  if (!is.null(metric$above) && any(truth <= metric$above)) {
    stop_study(paste0("The ", metric$label, " is undefined: the target is not above 0 in row ", which(truth <= metric$above)[1], "."), todo = "Use rmse, or another target.")
  }
}

metric_score <- function(metric, truth, p) {
  check_defined(metric, truth)
  switch(metric$kind,
         mean = if (metric$better == "lower") mean(metric$loss(truth, p)) else 1 - mean(metric$loss(truth, p)),
         rmse = sqrt(mean(metric$loss(truth, p))),
         r2 = 1 - mean(metric$loss(truth, p)) / mean((truth - mean(truth))^2),
         auc = auc_parts(truth == metric$positive, p[, metric$positive])$auc,
         whole = metric$score(truth, p, metric), user = user_score(metric, truth, p))
}

# Does the error of this metric come from the jackknife?
jackknifed <- function(metric) metric$kind %in% c("whole", "user")

# -> list(loss, u): the score as a loss and the influence of each row; u is NULL where the jackknife is used.
metric_influence <- function(metric, truth, p) {
  check_defined(metric, truth)
  n <- length(truth)
  if (jackknifed(metric)) {
    s <- if (metric$kind == "user") user_score(metric, truth, p) else metric$score(truth, p, metric)
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
  if (metric$kind == "auc" || jackknifed(metric)) {
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
