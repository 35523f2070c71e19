# What each predictor contributes to the score, instead of to the prediction.
#
# v(S) = loss with nothing known less loss with S known, the loss of f_S(x) = mean over background
# rows b of f(x on S, b elsewhere). Per row one random order and its reverse; the parts of a row
# add up to what its loss falls by. Rows and orders are covered by the spread of the rows' parts.

divide_score <- function(st, model, units, evaluation, others, max_rows, level, seed) {
  metric <- additive_metric(st$metric)
  need_row_loss(metric)
  evaluation <- draw_rows(evaluation, if (is.null(max_rows)) 500L else max_rows, seed)
  n <- nrow(evaluation$data)
  rows <- model_rows(st, model, evaluation$data, "rows")
  bg <- model_rows(st, model, others, "background")
  info <- row_info(st, evaluation$data)
  f <- function(data) predict_aligned(st, model, data)
  loss <- function(p, row = seq_len(n)) metric$loss(info$truth[row], p)
  unknown <- f(bg)
  mean_prediction <- matrix(
    colMeans(unknown), n, ncol(unknown), byrow = TRUE,
    dimnames = list(NULL, colnames(unknown))
  )
  empty <- loss(mean_prediction)
  full <- loss(f(rows))
  parts <- score_parts(
    rows, bg, units, f, loss, empty, full, colnames(unknown), ncol(unknown), seed
  )
  cube <- array(parts, c(dim(parts), 1), list(NULL, colnames(parts), NULL))
  check_sums(list(phi = cube, target = matrix(empty - full)), model$name)
  settings <- new_settings(
    model, "shapley", evaluation, n, form = "score", repeats = 2L,
    measures = paste0("fall of ", metric$label), scale = "score", background = nrow(bg),
    note = "sampled"
  )
  whole <- function(x) weighted_mean(x, info$weight)
  divided <- data.frame(
    model = model$name,
    rows = evaluation$label,
    constant = whole(loss(predict_constant(st, nrow(evaluation$data)))),
    nothing_known = whole(empty),
    model_loss = whole(full),
    divided = whole(empty - full),
    measures = metric$label
  )
  table <- summarise_score(st, settings, units, parts, info, level)
  ranking_part(st, table, settings, seed, level, score = divided, values = cube)
}

need_row_loss <- function(metric) {
  if (!is.null(metric$loss)) return(invisible())
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

# parts: rows x units
summarise_score <- function(st, settings, units, parts, info, level) {
  n <- nrow(parts)
  importance <- colMeans(times(info$weight, parts))
  found <- columns_with_limits(
    importance, times(info$weight, parts - rep(importance, each = n)), info$block, level
  )
  hide <- function(x) if (settings$seen) rep(NA_real_, length(x)) else x
  ranking_rows(
    st,
    settings,
    names(units),
    importance,
    hide(found$std_error),
    hide(found$lower),
    hide(found$upper),
    inference = if (settings$seen) "rows" else "model",
    flag = join_flags(
      flags_of_units(st, units),
      flags_of(st)$models[[settings$model]],
      if (settings$seen) "training rows" else ""
    )
  )
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
  prediction <- table$method == "shapley" & table$form != "score" & is.na(table$class)
  moves <- table[prediction & !is.na(table$share) & table$share >= 0.05, ]
  where <- function(d) x_keys(d, c("model", "rows", "slice", "predictor"))
  idle <- table$form == "score" & where(table) %in% where(moves) & !is.na(table$lower) &
    table$lower <= 0
  ranking$flag[idle] <- join_flags(ranking$flag[idle], "no effect on score")
  ranking
}
