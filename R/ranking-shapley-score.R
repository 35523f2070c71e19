# What each predictor contributes to the score, instead of to the prediction.
#
# v(S) = loss with nothing known less loss with S known, the loss of f_S(x) = mean over background
# rows b of f(x on S, b elsewhere). Per row one random order and its reverse; the parts of a row
# add up to what its loss falls by. Rows and orders are covered by the spread of the rows' parts.

divide_score <- function(st, model, units, on, others, max_rows, level, seed) {
  metric <- additive_metric(st$metric)
  if (is.null(metric$loss)) {
    stop_study(
      paste0(
        "The ", metric$label,
        " is not a mean over rows and cannot be divided among predictors row by row."
      ),
      todo = paste0(
        "Set the study up with rmse, mae, brier, log_loss or another metric of single ",
        "rows."
      )
    )
  }
  on <- draw_rows(on, if (is.null(max_rows)) 500L else max_rows, seed)
  n <- nrow(on$data)
  rows <- model_rows(st, model, on$data, "rows")
  bg <- model_rows(st, model, others, "background")
  cases <- cases_of(st, on$data)
  f <- function(data) predict_aligned(st, model, data)
  loss <- function(p, row = seq_len(n)) metric$loss(cases$truth[row], p)
  unknown <- f(bg)
  empty <- loss(matrix(
    colMeans(unknown),
    n,
    ncol(unknown),
    byrow = TRUE,
    dimnames = list(NULL, colnames(unknown))
  ))
  full <- loss(f(rows))
  parts <- score_parts(
    rows, bg, units, f, loss, empty, full, colnames(unknown), ncol(unknown), seed
  )
  check_sums(
    list(phi = array(parts, c(dim(parts), 1)), target = matrix(empty - full)), model$name
  )
  importance <- colMeans(times(cases$weight, parts))
  found <- influence_error(
    times(cases$weight, parts - rep(importance, each = n)), cases$block
  )
  limits <- t_limits(importance, found$std_error, found$df, level)
  label <- paste(on$label, "score")
  seen <- on$label == "train"
  hide <- function(x) if (seen) rep(NA_real_, length(x)) else x
  flags <- join_flags(
    flags_of_units(st, units),
    st$flags$models[[model$name]],
    if (seen) "training rows" else ""
  )
  table <- ranking_rows(
    st,
    model,
    "shapley",
    label,
    names(units),
    importance,
    hide(found$std_error),
    hide(limits$lower),
    hide(limits$upper),
    about = if (seen) "rows" else "model",
    flag = flags
  )
  settings <- new_settings(
    model,
    "shapley",
    label,
    n,
    repeats = 2L,
    measures = paste0("fall of ", metric$label),
    scale = "score",
    background = nrow(bg),
    note = "sampled"
  )
  out <- new_ranking(
    st,
    table,
    settings,
    stats::setNames(list(parts), paste0(model$name, "/shapley/", label)),
    seed,
    level
  )
  whole <- function(x) weighted_mean(x, cases$weight)
  attr(out, "score") <- data.frame(
    model = model$name,
    rows = on$label,
    constant = whole(loss(predict_constant(st, on$data))),
    nothing_known = whole(empty),
    model_loss = whole(full),
    divided = whole(empty - full),
    measures = metric$label
  )
  out
}

# rows x units: what the loss falls by when a unit becomes known, mean over an order and its
# reverse. empty, full: the rows' losses with nothing and with all known; outputs, K: names and
# number of the model's outputs.
score_parts <- function(rows, bg, units, f, loss, empty, full, outputs, K, seed) {
  n <- nrow(rows)
  p <- length(units)
  if (p == 1) return(matrix(empty - full, n, 1, dimnames = list(NULL, names(units))))
  orders <- with_stream(
    seed, c("score orders", n, p), replicate(n, sample.int(p), simplify = FALSE)
  )
  place <- t(vapply(orders, order, integer(p)))
  prefix <- rep(seq_len(p - 1), 2)
  backward <- rep(c(FALSE, TRUE), each = p - 1)
  out <- matrix(0, n, p, dimnames = list(NULL, names(units)))
  at_once <- max(1, floor(1e5 / (length(prefix) * nrow(bg))))
  for (some in split(seq_len(n), (seq_len(n) - 1) %/% at_once)) {
    v <- mixed_means(
      rows, bg, units, some, place[some, , drop = FALSE], prefix, backward, f, K
    )
    for (i in seq_along(some)) {
      row <- some[i]
      said <- matrix(v[i, , ], ncol = K, dimnames = list(NULL, outputs))
      path <- function(steps) {
        -diff(c(
          empty[row], loss(said[steps, , drop = FALSE], rep(row, p - 1)), full[row]
        ))
      }
      o <- orders[[row]]
      out[row, o] <- out[row, o] + path(seq_len(p - 1)) / 2
      out[row, rev(o)] <- out[row, rev(o)] + path(p - 1 + seq_len(p - 1)) / 2
    }
  }
  out
}

# Predictors with at least a twentieth of what moves the predictions, whose part of the score
# cannot be told from zero.
flag_movers <- function(ranking) {
  table <- as_plain(ranking)
  moves <- table[
    table$method == "shapley" & !grepl(" score$", table$rows) & is.na(table$class) &
      !is.na(table$share) & table$share >= 0.05,

  ]
  at <- match(
    paste(table$model, table$rows, table$predictor),
    paste(moves$model, paste(moves$rows, "score"), moves$predictor)
  )
  idle <- !is.na(at) & !is.na(table$lower) & table$lower <= 0
  ranking$flag[idle] <- join_flags(ranking$flag[idle], "moves only")
  ranking
}
