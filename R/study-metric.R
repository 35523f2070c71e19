# Metrics: one record per metric, three questions asked of it.
#
# metric_score()      the score on its own scale
# metric_influence()  the score as a loss, and each row's influence on it (mean 0): the base of
#                     every standard error (methods: Hoeffding 1948; DeLong et al. 1988 for AUC)
#                     loss_form() the same as a function of the row losses, where there are any:
#                     what shuffled rows are judged by
#
# kinds: "mean" of a row loss; "rmse", "r2" functions of the mean squared error; "auc"; "whole",
# one number of all rows (study-metric-whole.R); "user". ratio: has a true zero, so that losses
# can be divided. positive_truth: what the target must be. power: the row loss is the distance of
# prediction and truth to this power. A loss is lower-is-better: minus the score where higher is
# better.

metric_table <- function() {
  squared <- function(truth, p) (p[, 1] - truth)^2
  number <- function(
      label, kind, loss = NULL, better = "lower", ratio = better == "lower", ...) {
    list(
      kind = kind, better = better, task = "regression", loss = loss, label = label,
      ratio = ratio, ...
    )
  }
  class <- function(
      label, kind, loss = NULL, better = "lower", task = "classification", ...) {
    list(
      kind = kind,
      better = better,
      task = task,
      loss = loss,
      label = label,
      ratio = better == "lower",
      ...
    )
  }
  list(
    rmse = number("RMSE", "rmse", squared, power = 2L),
    mse = number("mean squared error", "mean", squared, power = 2L),
    mae = number(
      "mean absolute error", "mean", function(truth, p) abs(p[, 1] - truth), power = 1L
    ),
    median_ae = number("median absolute error", "whole", score = median_error),
    r2 = number("R squared", "r2", squared, "higher", power = 2L),
    poisson_deviance = number("Poisson deviance", "mean", poisson_loss, least = 0),
    gamma_deviance = number("Gamma deviance", "mean", gamma_loss, above = 0),
    brier = class("Brier score", "mean", brier_loss),
    log_loss = class("log loss", "mean", log_loss),
    accuracy = class("accuracy", "mean", error_loss, "higher"),
    balanced_accuracy = class(
      "balanced accuracy", "whole", NULL, "higher", score = balanced_accuracy
    ),
    f1 = class("F1", "whole", NULL, "higher", score = f1_score),
    mcc = class("Matthews correlation", "whole", NULL, "higher", score = matthews),
    auc = class("AUC", "auc", NULL, "higher", "binary"),
    pairwise_auc = class(
      "AUC over pairs of classes",
      "whole",
      NULL,
      "higher",
      "several",
      score = pairwise_auc
    )
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

# Limits of a score, within what the score can be: a loss is not below 0, a share or a coefficient
# of determination not above 1. Metrics of the user's have no known bound. A share of rows has the
# limits of Wilson (1927), which hold near 1 too.
score_limits <- function(metric, score, error, df, level) {
  none <- error <= 1e-12 * (1 + abs(score))
  if (metric$name == "accuracy" && metric$kind == "mean") {
    rows <- ifelse(none, df + 1, score * (1 - score) / error^2)
    return(share_limits(score, rows, level))
  }
  within_score(metric, t_limits(score, error, df, level))
}

# The same, or none where they have no width (as where no row has a loss): the rows tell no error.
limits_if_known <- function(limits) {
  if (isTRUE(limits$upper - limits$lower <= 1e-12 * (1 + abs(limits$upper)))) {
    limits <- list(lower = NA_real_, upper = NA_real_)
  }
  limits
}

within_score <- function(metric, limits) {
  limits[c("lower", "upper")] <- lapply(limits[c("lower", "upper")], possible_score, metric)
  limits
}

# The nearest score there can be.
possible_score <- function(score, metric) {
  if (!metric$name %in% names(metric_table())) return(score)
  if (metric$better == "lower") pmax(score, 0) else pmin(score, 1)
}

new_metric <- function(metric, better, task, classes, positive, weighted = FALSE) {
  if (is.null(metric)) metric <- if (task == "regression") "rmse" else "brier"
  fits <- fitting_metrics(task, classes)
  if (inherits(metric, "metric") && is.function(metric)) {
    return(yardstick_metric(metric, better, task, classes, positive))
  }
  if (is.function(metric)) {
    check_choice(better, c("lower", "higher"), "better")
    if (weighted && !any(c("weights", "...") %in% names(formals(args(metric))))) {
      stop_input(
        "`metric` must take an argument `weights`, because the study has weights.",
        todo = "Write it as function(truth, predicted, weights)."
      )
    }
    return(list(
      name = "user", label = "your metric", kind = "user", better = better, fun = metric,
      task = task, classes = classes, positive = positive
    ))
  }
  if (!is.character(metric) || length(metric) != 1 ||
      !metric %in% names(metric_table())) {
    stop_input(
      "`metric` must name a metric, or be a function of truth and predicted.",
      paste0("Given: ", describe_value(metric), "."),
      paste0("For this target: ", quote_some(fits, 12), ".")
    )
  }
  if (!metric %in% fits) {
    stop_input(
      paste0(
        "Metric \"", metric, "\" does not fit a ", describe_task(task, classes),
        " target."
      ),
      todo = paste0(
        "These do: ", quote_some(fits, 12), "; or a function of truth and predicted."
      )
    )
  }
  known <- metric_table()[[metric]]$better
  if (!is.null(better) && !identical(better, known)) {
    stop_input(
      paste0(
        "For metric \"", metric, "\" ", known,
        " is better; `better` is for metrics of your own."
      ),
      paste0("Given: ", describe_value(better), "."),
      "Leave `better` out."
    )
  }
  c(list(name = metric, classes = classes, positive = positive), metric_table()[[metric]])
}

# The metric, or squared error in the place of its root and of R squared. Squared errors of
# predictions add up over independent predictors that act side by side; other losses need not.
additive_metric <- function(metric) {
  if (metric$name %in% c("rmse", "r2")) {
    metric <- c(list(name = "mse"), metric_table()[["mse"]])
  }
  metric$additive <- metric$name %in% c("mse", "brier")
  metric
}

fitting_metrics <- function(task, classes) {
  fit <- vapply(
    metric_table(),
    function(m) {
      m$task == task ||
        (task == "classification" &&
            m$task == if (length(classes) == 2) "binary" else "several")
    },
    NA
  )
  names(fit)[fit]
}

# What a user's function sees: numbers, or the factor of true classes, and the predictions as a
# vector (regression; probability of the positive class) or a matrix of class probabilities; and
# weights if it takes them.
user_score <- function(metric, truth, p, weight = NULL) {
  if (metric$task == "regression") {
    seen <- p[, 1]
  } else {
    truth <- factor(metric$classes[truth], levels = metric$classes)
    seen <- if (length(metric$classes) == 2) p[, metric$positive] else p
  }
  value <- if (is.null(weight)) {
    call_metric(metric$fun, truth, seen)
  } else {
    call_metric(metric$fun, truth, seen, weights = weight)
  }
  if (!is.numeric(value) || length(value) != 1 || is.na(value)) {
    stop_input(
      "`metric` must return a single number that is not missing.",
      paste0("It returned: ", describe_value(value), ".")
    )
  }
  as.double(value)
}

call_metric <- function(fun, truth, ...) {
  tryCatch(call_user(fun, truth, ...), error = function(e) {
    stop_input(
      paste0("`metric` failed on ", length(truth), " rows."),
      todo = "It is called with the truth and the predictions of a model; see ?study.",
      parent = e
    )
  })
}

# Is the truth of these rows enough to compute the metric at all?
check_defined <- function(metric, truth) {
  if (metric$kind == "r2" && length(unique(truth)) < 2) {
    stop_study(
      "R squared is undefined: the target has a single value in these rows.",
      todo = "Use rmse, or other rows."
    )
  }
  if (metric$task %in% c("binary", "several") && length(unique(truth)) < 2) {
    stop_study(
      "AUC is undefined: the target has a single class in these rows.",
      todo = "Use brier, or other rows."
    )
  }
  if (identical(metric$name, "f1") && length(metric$classes) == 2 &&
      !any(truth == metric$positive)) {
    stop_study(
      "F1 is undefined: no row is of the positive class.",
      todo = "Use brier, or other rows."
    )
  }
  if (!is.null(metric$least) && any(truth < metric$least)) {
    stop_study(
      paste0(
        "The ", metric$label, " is undefined: the target is below 0 in row ",
        which(truth < metric$least)[1], "."
      ),
      todo = "Use rmse, or another target."
    )
  }
  if (!is.null(metric$above) && any(truth <= metric$above)) {
    stop_study(
      paste0(
        "The ", metric$label, " is undefined: the target is not above 0 in row ",
        which(truth <= metric$above)[1], "."
      ),
      todo = "Use rmse, or another target."
    )
  }
}

# weight: what each row counts, with mean 1; NULL: all the same.
metric_score <- function(metric, truth, p, weight = NULL) {
  as_score(metric, metric_influence(metric, truth, p, weight)$loss)
}

# Does the error of this metric come from the jackknife?
jackknifed <- function(metric) metric$kind %in% c("whole", "user")

# -> list(loss, u): the score as a loss and the influence of each row; u is NULL where the
# jackknife is used.
metric_influence <- function(metric, truth, p, weight = NULL) {
  check_defined(metric, truth)
  if (jackknifed(metric)) {
    s <- if (metric$kind == "user") {
      user_score(metric, truth, p, weight)
    } else {
      metric$score(truth, p, metric, weight)
    }
    return(list(loss = if (metric$better == "lower") s else -s, u = NULL))
  }
  if (metric$kind == "auc") {
    a <- auc_parts(truth == metric$positive, p[, metric$positive], weight)
    return(list(loss = -a$auc, u = -a$u))
  }
  l <- metric$loss(truth, p)
  spread <- target_spread(metric, truth, weight)
  form <- loss_form(metric, weighted_mean(l, weight), spread)
  u <- form$slope * l + form$shift
  list(
    loss = form$loss,
    u = times(weight, if (is.null(spread)) u else u + form$along * spread$v)
  )
}

# What of the target's own variation enters a score: its squared distances from the mean v, and
# their mean V.
target_spread <- function(metric, truth, weight = NULL) {
  if (metric$kind != "r2") return(NULL)
  v <- (truth - weighted_mean(truth, weight))^2
  list(v = v, V = weighted_mean(v, weight))
}

# A score that is a function of the mean row loss m: the score as a loss, and the influence of a
# row with loss l, slope * l + shift + along * v, before its weight.
loss_form <- function(metric, m, spread = NULL) {
  if (metric$kind == "mean") {
    return(list(
      loss = if (metric$better == "lower") m else m - 1, slope = 1, shift = -m, along = 0
    ))
  }
  if (metric$kind == "rmse") {
    slope <- if (m > 0) 1 / (2 * sqrt(m)) else 0
    return(list(loss = sqrt(m), slope = slope, shift = -slope * m, along = 0))
  }
  # r2 = 1 - m / V as a loss: m / V - 1. V varies with the rows as well.
  list(loss = m / spread$V - 1, slope = 1 / spread$V, shift = 0, along = -m / spread$V^2)
}

# p: rows x repeats x outputs of shuffled predictions. -> loss (mean over the repeats), u (rows x
# repeats), for metrics without a row loss
metric_shuffled <- function(metric, truth, p, weight = NULL) {
  if (metric$kind == "auc" && dim(p)[2] == dim(p)[1] - 1) {
    return(auc_of_all_pairs(metric, truth, p[, , metric$positive], weight))
  }
  one <- lapply(seq_len(dim(p)[2]), function(r) {
    metric_influence(metric, truth, slice_repeat(p, r), weight)
  })
  list(
    loss = mean(vapply(one, `[[`, 0, "loss")),
    u = if (metric$kind == "auc") vapply(one, `[[`, double(dim(p)[1]), "u")
  )
}

# Where every row has received every other row's values, the scores of all these pairs are compared
# with each other: which of them came in the same repeat is chance.
auc_of_all_pairs <- function(metric, truth, score, weight) {
  times <- ncol(score)
  many <- if (!is.null(weight)) rep(weight, times)
  a <- auc_parts(rep(truth == metric$positive, times), as.vector(score), many)
  list(loss = -a$auc, u = matrix(-a$u, length(truth)))
}

slice_repeat <- function(p, r) {
  matrix(p[, r, ], dim(p)[1], dim(p)[3], dimnames = list(NULL, dimnames(p)[[3]]))
}

as_score <- function(metric, loss) if (metric$better == "lower") loss else -loss

# Does the metric judge the order of rows alone? Any constant scores 0.5 by it.
judges_order <- function(metric) metric$name %in% c("auc", "pairwise_auc")
