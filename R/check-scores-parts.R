# What stands behind the scores: every metric, models two by two, the best predictor alone, gaps,
# confusion, calibration, residuals, numbers of trees; and a verdict on each model.

# One row per model: the score of the best of its predictors alone, and the model's gain over it.
score_alone <- function(st, said, info, level, seed) {
  rows <- lapply(st$models, function(m) {
    best <- best_alone(st, m$inputs$predictors, seed)
    none <- data.frame(
      alone = NA_real_, alone_predictor = NA_character_, gain = NA_real_,
      gain_lower = NA_real_, gain_upper = NA_real_
    )
    if (is.null(best) || !has_whole_column(st, best)) return(none)
    p0 <- fit_alone(st, best, st$train, whole_column(st, best))
    gain <- tryCatch(
      loss_with_error(st$metric, info, p0, said[[m$name]], seed),
      dreher_error = function(e) NULL
    )
    if (is.null(gain)) return(none)
    limits <- t_limits(gain$loss, gain$std_error, gain$df, level)
    if (isTRUE(st$seen)) limits <- list(lower = NA_real_, upper = NA_real_)
    data.frame(
      alone = metric_score(st$metric, info$truth, p0, info$weight), alone_predictor = best,
      gain = gain$loss, gain_lower = limits$lower, gain_upper = limits$upper
    )
  })
  do.call(rbind, rows)
}

# Can the importances be interpreted? A sentence per model.
verdicts <- function(st, scores) {
  severe <- find_severe(st)
  doubted <- find_doubted(st)
  against <- against_target(st)
  vapply(
    seq_len(nrow(scores)),
    function(i) {
      s <- scores[i, ]
      own <- st$models[[s$model]]$inputs$predictors
      leaks <- intersect(own, severe$predictor[severe$finding == "leak"])
      ids <- intersect(own, severe$predictor[severe$finding == "identifier"])
      if (s$model %in% against$model) return(verdict_against(against, s$model))
      if (s$flag == "training rows") {
        return(
          "Cannot be told: these are training rows. Give rows it was not trained on."
        )
      }
      if (s$flag == "no skill") {
        return(if (isTRUE(s$skill_upper < 0)) {
          "No: it is worse than a constant."
        } else {
          "No: it is not shown to beat a constant."
        })
      }
      if (length(leaks)) {
        return(paste0(
          "No: it uses ", list_words(quoted(leaks)),
          if (length(leaks) == 1) ", a possible leak." else ", possible leaks."
        ))
      }
      asked <- doubted[doubted$predictor %in% own, ]
      if (nrow(asked)) return(verdict_doubted(asked))
      if (isTRUE(s$gain_lower <= 0) && !identical(own, s$alone_predictor)) {
        return(paste0(
          "With care: it beats a constant, but is ",
          if (isTRUE(s$gain_upper < 0)) "worse than " else "not shown to beat ",
          quoted(s$alone_predictor), " alone."
        ))
      }
      if (length(ids)) {
        return(paste0(
          "With care: it uses ", list_words(quoted(ids)),
          if (length(ids) == 1) ", an identifier." else ", identifiers."
        ))
      }
      if (length(own) == 1 || is.na(s$gain)) {
        return("Yes: it is shown to beat a constant.")
      }
      "Yes: it is shown to beat a constant and its best predictor alone."
    },
    ""
  )
}

# Models whose importances cannot be interpreted, and why: named text, none where all can. What is
# said of how a model acts carries it.
models_in_doubt <- function(st, models = st$models) {
  if (isFALSE(st$notes)) return(character())
  flags <- flags_of_study(st)
  against <- against_target(st)
  found <- find_severe(st)
  leaking <- found$predictor[found$finding == "leak"]
  why <- vapply(models, function(m) {
    leaks <- intersect(m$inputs$predictors, leaking)
    if (m$name %in% against$model) {
      "its predictions run against the target"
    } else if (identical(flags[[m$name]], "no skill")) {
      "it is not shown to beat a constant"
    } else if (length(leaks)) {
      paste0(
        "it uses ", list_few(quoted(leaks)),
        if (length(leaks) == 1) ", a possible leak" else ", possible leaks"
      )
    } else {
      ""
    }
  }, "")
  names(why) <- names(models)
  why[nzchar(why)]
}

# The flag of every model's score.
flags_of_study <- function(st) {
  kept(st, "model flags", lapply(st$models, function(m) {
    score_one(st, m, predict_whole(st, m), whole_info(st), 0.95, 1)$flag
  }))
}

verdict_against <- function(against, model) {
  f <- against[match(model, against$model), ]
  paste0(
    "No: its predictions run against the target (", f$measure, " ",
    format(round(f$value, 2), nsmall = 2), " on the ", f$rows, " rows). ",
    if (is.na(f$class)) "Is a sign turned round?" else "Are the classes swapped?"
  )
}

# asked: doubts whether predictors were known before the target
verdict_doubted <- function(asked) {
  names <- unique(asked$predictor)
  many <- length(names) > 1
  paste0(
    "With care: ", if (many) "were " else "was ", list_few(quoted(names)),
    " known before the target? ",
    if (all(asked$finding == "tells nearly all")) {
      paste0(if (many) "They tell" else "It tells", " nearly all of it.")
    } else {
      "See check_data()."
    }
  )
}

parts_of_scores <- function(st, scores, said, info, level, seed) {
  classes <- st$task == "classification"
  seen <- isTRUE(st$seen)
  each <- function(part) {
    found <- lapply(names(said), function(m) {
      out <- part(st, m, said[[m]], info, level)
      if (!is.null(out) && nrow(out)) cbind(model = m, out)
    })
    out <- do.call(rbind, found)
    rownames(out) <- NULL
    out
  }
  list(
    metrics = score_metrics(st, said, info, level, seed, seen),
    pairs = if (!seen) score_pairs(st, said, info, level, seed),
    gap = score_gaps(st, scores, level, seed),
    confusion = if (classes) each(confusion_of),
    calibration = if (!seen) each(calibration_of),
    slopes = if (!seen) each(slopes_of),
    residuals = if (!classes && !seen) each(residuals_of),
    trees = if (!seen) each(scores_by_trees)
  )
}

# Every metric that fits, and is defined on these rows.
score_metrics <- function(st, said, info, level, seed, seen) {
  constant <- predict_constant(st, length(info$truth))
  fits <- fitting_metrics(st$task, st$classes)
  rows <- lapply(fits, function(name) {
    metric <- new_metric(name, NULL, st$task, st$classes, st$positive)
    lapply(names(said), function(m) {
      own <- tryCatch(
        loss_with_error(metric, info, said[[m]], NULL, seed), dreher_error = function(e) NULL
      )
      if (is.null(own)) return(NULL)
      score <- as_score(metric, own$loss)
      limits <- limits_if_known(
        score_limits(metric, score, own$std_error, own$df, level)
      )
      data.frame(
        model = m, metric = name, better = metric$better, score = score,
        lower = if (seen) NA_real_ else limits$lower,
        upper = if (seen) NA_real_ else limits$upper,
        constant = metric_score(metric, info$truth, constant, info$weight)
      )
    })
  })
  do.call(rbind, unlist(rows, recursive = FALSE))
}

score_pairs <- function(st, said, info, level, seed) {
  if (length(said) < 2) return(NULL)
  pairs <- utils::combn(names(said), 2)
  do.call(rbind, lapply(seq_len(ncol(pairs)), function(i) {
    a <- pairs[1, i]
    b <- pairs[2, i]
    d <- loss_with_error(st$metric, info, said[[b]], said[[a]], seed)
    limits <- t_limits(d$loss, d$std_error, d$df, level)
    data.frame(
      model = a, other = b, difference = d$loss, lower = limits$lower, upper = limits$upper
    )
  }))
}

# How much better on training rows than on holdout rows: other rows, so that the errors add up.
score_gaps <- function(st, scores, level, seed) {
  if (is.null(st$train) || isTRUE(st$seen)) return(NULL)
  info <- row_info(st, st$train)
  rows <- lapply(seq_len(nrow(scores)), function(i) {
    s <- scores[i, ]
    if (is.na(s$train_score)) return(NULL)
    p <- predict_model(st, st$models[[s$model]], st$train, "train")
    own <- loss_with_error(st$metric, info, p, NULL, seed)
    gap <- if (s$better == "lower") s$score - s$train_score else s$train_score - s$score
    limits <- t_limits(
      gap, sqrt(s$std_error^2 + own$std_error^2), min(s$n - 1, own$df), level
    )
    data.frame(
      model = s$model, holdout = s$score, train = s$train_score, gap = gap,
      lower = limits$lower, upper = limits$upper
    )
  })
  do.call(rbind, rows)
}

confusion_of <- function(st, m, p, info, level) {
  k <- length(st$classes)
  counts <- tabulate(info$truth + k * (predicted_class(p) - 1L), k * k)
  out <- expand.grid(
    truth = st$classes, predicted = st$classes, KEEP.OUT.ATTRS = FALSE,
    stringsAsFactors = FALSE
  )
  out$count <- counts
  out$share <- out$count / pmax(tabulate(info$truth, length(st$classes)), 1)[
    match(out$truth, st$classes)
  ]
  out
}

# --- calibration -------------------------------------------------------------------------------

# The classes whose probabilities are looked at: the positive one of two, else all.
classes_looked_at <- function(st) {
  if (length(st$classes) == 2) st$positive else seq_along(st$classes)
}

# Bins of equal numbers of rows; equal predictions stay together.
bins_of <- function(p, most = 10) {
  k <- max(1, min(most, floor(length(p) / 10)))
  cuts <- unique(stats::quantile(p, seq_len(k - 1) / k, names = FALSE))
  findInterval(p, cuts, left.open = TRUE) + 1L
}

calibration_of <- function(st, m, p, info, level) {
  if (st$task == "regression") {
    return(calibration_bins(p[, 1], info$truth, NA_character_, t_mean, level))
  }
  do.call(rbind, lapply(classes_looked_at(st), function(k) {
    calibration_bins(p[, k], info$truth == k, st$classes[k], share_of_rows, level)
  }))
}

calibration_bins <- function(p, truth, class, limits, level) {
  bin <- bins_of(p)
  do.call(rbind, lapply(split(seq_along(p), bin), function(rows) {
    own <- limits(as.double(truth[rows]), level)
    data.frame(
      class = class, mean = mean(p[rows]), observed = mean(truth[rows]), lower = own[1],
      upper = own[2], n = length(rows)
    )
  }))
}

t_mean <- function(x, level) {
  unlist(t_limits(mean(x), stats::sd(x) / sqrt(length(x)), length(x) - 1, level))
}

share_of_rows <- function(x, level) {
  unlist(share_limits(mean(x), length(x), level))
}

slopes_of <- function(st, m, p, info, level) {
  one <- function(x, y, fit, class) {
    if (length(unique(x)) < 3 || length(unique(y)) < 2) return(NULL)
    found <- fit(x, y)
    if (is.null(found)) return(NULL)
    half <- stats::qnorm((1 + level) / 2) * found$std_error
    data.frame(
      class = class, slope = found$slope, lower = found$slope - half,
      upper = found$slope + half
    )
  }
  if (st$task == "regression") {
    return(one(p[, 1], info$truth, line_slope, NA_character_))
  }
  do.call(
    rbind,
    lapply(classes_looked_at(st), function(k) {
      x <- stats::qlogis(pmin(pmax(p[, k], 1e-6), 1 - 1e-6))
      one(x, as.double(info$truth == k), logistic_slope, st$classes[k])
    })
  )
}

# Slopes of one column, with the memory of a few columns.
line_slope <- function(x, y) {
  around <- x - mean(x)
  square <- sum(around^2)
  if (!(square > 0)) return(NULL)
  slope <- sum(around * y) / square
  rest <- sum((y - mean(y) - slope * around)^2) / (length(y) - 2)
  list(slope = slope, std_error = sqrt(rest / square))
}

# By Newton's method; NULL where it does not settle, as where a value parts the classes.
logistic_slope <- function(x, y, most = 25) {
  centre <- mean(x)
  x <- x - centre
  b <- c(stats::qlogis(mean(y)), 0)
  for (i in seq_len(most)) {
    p <- stats::plogis(b[1] + b[2] * x)
    w <- p * (1 - p)
    wx <- w * x
    information <- matrix(c(sum(w), sum(wx), sum(wx), sum(wx * x)), 2)
    step <- tryCatch(
      solve(information, c(sum(y - p), sum((y - p) * x))), error = function(e) NULL
    )
    if (is.null(step) || !all(is.finite(step))) return(NULL)
    b <- b + step
    if (max(abs(step)) < 1e-10 * (1 + max(abs(b)))) {
      return(list(slope = b[2], std_error = sqrt(solve(information)[2, 2])))
    }
  }
  NULL
}

residuals_of <- function(st, m, p, info, level) {
  rest <- info$truth - p[, 1]
  do.call(rbind, lapply(split(seq_along(rest), bins_of(p[, 1])), function(rows) {
    own <- t_mean(rest[rows], level)
    data.frame(
      mean = mean(p[rows, 1]), bias = mean(rest[rows]), lower = own[1], upper = own[2],
      spread = sqrt(mean(rest[rows]^2)), n = length(rows)
    )
  }))
}

# --- numbers of trees --------------------------------------------------------------------------

# The score with the first trees alone, at up to twelve numbers of rounds; each tree is walked once.
# Trees of a mean are weighted anew; trees with weights of their own have no first ones.
scores_by_trees <- function(st, m, p, info, level, most = 12) {
  model <- st$models[[m]]
  forest <- model$forest
  if (is.null(forest) || length(unique(forest$weight)) > 1) return(NULL)
  of_round <- forest$boosted$round
  if (is.null(of_round)) of_round <- seq_along(forest$root)
  last <- which(!duplicated(of_round, fromLast = TRUE))
  rounds <- length(last)
  if (rounds < 3) return(NULL)
  at <- unique(round(exp(seq(log(max(1, rounds / 100)), log(rounds), length.out = most))))
  rows <- encode_for_forest(forest, model_rows(st, model, st$data))
  if (!is.null(st$store)) info <- row_info(st, st$data)  # of those in memory
  total <- matrix(0, nrow(st$data), nrow(forest$value))
  done <- 0
  out <- lapply(last[at], function(trees) {
    which <- seq(done + 1, trees)
    total <<- total + forest_predict(some_trees(forest, which), rows, st$threads)
    done <<- trees
    scale <- if (forest$weight[1] == 1) 1 else length(forest$root) / trees
    q <- apply_link(forest, scale * total + rep(forest$base, each = nrow(total)))
    if (st$task == "classification") q <- order_classes(q, model$classes, st, m)
    own <- loss_with_error(st$metric, info, q, NULL, 1)
    score <- as_score(st$metric, own$loss)
    limits <- score_limits(st$metric, score, own$std_error, own$df, level)
    data.frame(trees = trees, score = score, lower = limits$lower, upper = limits$upper)
  })
  do.call(rbind, out)
}

# Trees that stand together, as a forest of their own without its base.
some_trees <- function(forest, which) {
  from <- forest$root[which[1]]
  after <- forest$root[which[length(which)] + 1]
  if (is.na(after)) after <- length(forest$column)
  nodes <- seq(from + 1, after)
  shifted <- function(x) ifelse(x[nodes] >= from, x[nodes] - from, x[nodes])
  part <- forest
  part$root <- forest$root[which] - from
  part$weight <- forest$weight[which]
  for (name in c("left", "right", "owner")) {
    part[[name]] <- as.integer(shifted(forest[[name]]))
  }
  part$missing <- as.integer(ifelse(
    forest$missing[nodes] < 0, forest$missing[nodes], forest$missing[nodes] - from
  ))
  for (name in c("column", "threshold", "set_from", "set_size")) {
    part[[name]] <- forest[[name]][nodes]
  }
  part$value <- forest$value[, nodes, drop = FALSE]
  part$base <- 0 * forest$base
  part$root <- as.integer(part$root)
  part
}
