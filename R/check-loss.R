# The score of one model, with its error, beside the constant and on the training rows.

# p: what it says of all rows, info: their truth.
score_one <- function(st, model, p, info, level, seed) {
  p0 <- predict_constant(st, length(info$truth))
  metric <- st$metric
  own <- loss_with_error(metric, info, p, NULL, seed)
  skill <- loss_with_error(metric, info, p0, p, seed)
  limits <- limits_if_known(
    score_limits(metric, as_score(metric, own$loss), own$std_error, own$df, level)
  )
  skill_limits <- t_limits(skill$loss, skill$std_error, skill$df, level)
  no_skill <- is.na(skill_limits$lower) || skill_limits$lower <= 0
  skill_limits <- limits_if_known(skill_limits)
  if (isTRUE(st$seen)) {
    # the model has learnt these rows: what it would score on others is not known
    limits <- skill_limits <- list(lower = NA_real_, upper = NA_real_)
    own$std_error <- NA_real_
  }
  data.frame(
    model = model$name,
    metric = metric$name,
    better = metric$better,
    score = as_score(metric, own$loss),
    std_error = own$std_error,
    lower = limits$lower,
    upper = limits$upper,
    constant = metric_score(metric, info$truth, p0, info$weight),
    skill = skill$loss,
    skill_lower = skill_limits$lower,
    skill_upper = skill_limits$upper,
    train_score = NA_real_,
    n = length(info$truth),
    flag = if (no_skill) "no skill" else if (isTRUE(st$seen)) "training rows" else ""
  )
}

# NA without training rows, and where some of them cannot be predicted: a model may have left out
# rows with missing values.
score_training <- function(st, model) {
  if (is.null(st$train)) return(NA_real_)
  p <- tryCatch(predict_model(st, model, st$train, "train"), dreher_error = function(e) NULL)
  if (is.null(p)) return(NA_real_)
  info <- row_info(st, st$train)
  metric_score(st$metric, info$truth, p, info$weight)
}

# The loss of `p`, or the paired excess of the loss of `p` over that of `than`, with its error.
loss_with_error <- function(metric, info, p, than, seed) {
  if (!jackknifed(metric)) {
    a <- metric_influence(metric, info$truth, p, info$weight)
    b <- if (is.null(than)) {
      list(loss = 0, u = 0)
    } else {
      metric_influence(metric, info$truth, than, info$weight)
    }
    return(c(
      list(loss = a$loss - b$loss, u = a$u - b$u),
      influence_error(a$u - b$u, info$block)[c("std_error", "df")]
    ))
  }
  loss <- function(rows) {
    some <- some_info(info, rows)
    one <- function(p) {
      metric_influence(metric, some$truth, p[rows, , drop = FALSE], some$weight)$loss
    }
    one(p) - if (is.null(than)) 0 else one(than)
  }
  block <- jackknife_blocks(info, seed)
  values <- vapply(unique(block), function(g) loss(which(block != g)), 0)
  list(
    loss = loss(seq_along(info$truth)),
    std_error = sqrt(jackknife_variance(values)),
    df = length(values) - 1
  )
}

# The model that scores best on rows held out; without such rows the first. among: names of models
best_model <- function(st, among = names(st$models)) {
  if (length(among) == 1 || isTRUE(st$seen)) return(among[1])
  score <- kept(st, "model scores", {
    info <- whole_info(st)
    vapply(st$models, function(m) {
      metric_score(st$metric, info$truth, predict_whole(st, m), info$weight)
    }, 0)
  })[among]
  among[order(if (st$metric$better == "lower") score else -score)[1]]
}
