# Checks of the target: classes of few rows, values that rule the metric, groups that differ.

check_target_values <- function(table, st) {
  if (st$task == "classification") check_balance(st) else check_heavy(st)
}

# rows of the rarest class, and what a constant prediction scores because of it.
check_balance <- function(st) {
  size <- tabulate(as.integer(whole_roles(st)[[st$target]]), length(st$classes))
  names(size) <- st$classes
  rarest <- which.min(size)
  share <- size[[rarest]] / sum(size)
  if (share >= 0.1 && size[[rarest]] >= 5) return(no_findings())
  constant <- tryCatch(
    metric_score(
      st$metric,
      whole_info(st)$truth,
      predict_constant(st, count_whole(st)),
      whole_info(st)$weight
    ),
    error = function(e) NA_real_
  )
  few <- size[[rarest]] < 5 && share < 0.1
  finding(
    about_target,
    "rare class",
    if (few) "doubt" else "note",
    size[[rarest]],
    paste(rows_word(st), "rows"),
    paste0(
      "Class ", names(size)[rarest], " has ", size[[rarest]], " of ",
      format_number(sum(size)), " rows (", say_share(share), ")",
      if (is.finite(constant)) {
        paste0(
          "; a constant prediction has ",
          if (grepl("^[aeiouAEIOU]", st$metric$label)) {
            "an "
          } else {
            "a "
          },
          st$metric$label, " of ", short_number(constant, 3)
        )
      },
      "."
    ),
    if (few) {
      "Scores rest on these few rows: give more, or join classes."
    } else {
      "Read scores beside the constant's; look at the rare class by itself."
    }
  )
}

# The share of all squared distances from the mean that the farthest 1 % of rows hold.
check_heavy <- function(st) {
  y <- whole_roles(st)[[st$target]]
  n <- length(y)
  if (!st$metric$name %in% c("rmse", "mse", "r2") || n < 20) return(no_findings())
  square <- sort((y - mean(y))^2, decreasing = TRUE)
  top <- max(1, round(0.01 * n))
  share <- sum(square[seq_len(top)]) / sum(square)
  if (share < 0.3) return(no_findings())
  finding(
    about_target, "outliers", "note", 100 * share, "% of the squared distances",
    paste0(
      if (top == 1) "One row holds " else paste0("The farthest ", top, " rows hold "),
      say_share(share), " of the target's squared distances from its mean: the ",
      st$metric$label, " depends on ", if (top == 1) "it." else "them."
    ),
    "Are these values right? The mean absolute error (metric mae) weighs them less."
  )
}

# --- sensitive predictors ----------------------------------------------------------------------

# How well each is told by the other columns, and by which; does the target differ between its
# groups?
check_sensitive <- function(table, st, seed = 1) {
  d <- st$dictionary
  sensitive <- intersect(d$predictor[d$sensitive], names(table$columns))
  bind_findings(lapply(sensitive, function(p) {
    bind_findings(list(
      stand_ins(table, st, p, setdiff(names(table$columns), d$predictor[d$sensitive]), seed),
      groups_differ(table, st, p, length(sensitive))
    ))
  }))
}

stand_ins <- function(table, st, p, others, seed) {
  column <- table$columns[[p]]
  known <- which(!is.na(column$x))
  others <- intersect(others, columns_that(table, has_several))
  if (length(known) < 50 || !length(others) || !has_several(column)) return(NULL)
  if (length(known) > 3000) {
    known <- known[unique(round(seq(1, length(known), length.out = 3000)))]
  }
  own <- rows_of_columns(list(column), known)[[1]]
  y <- response_of(own)
  told_by <- most_telling(rows_of_columns(table$columns[others], known), y)
  fit <- fit_additive(told_by, y, parts_of(length(known), seed = seed))
  limits <- skill_limits(y, fit$fitted)
  if (!isTRUE(limits$lower > 0.02)) return(NULL)
  by <- utils::head(leading_shares(fit$shares), 3)
  finding(
    p, "stand-in", "note", 100 * fit$skill, "% of its variance",
    paste0(
      "It is sensitive, and other columns tell ", say_share(fit$skill), " of it, mostly ",
      name_few(by), ": leaving it out does not take it out."
    ),
    "Compare the models' scores and predictions between its groups.",
    lower = 100 * limits$lower, upper = 100 * limits$upper
  )
}

# The names that hold the first 80 % of the positive shares.
leading_shares <- function(shares) {
  shares <- sort(shares[shares > 0], decreasing = TRUE)
  if (!length(shares)) return(character())
  names(shares)[seq_len(which(cumsum(shares) >= 0.8 * sum(shares))[1])]
}

# Limits of 1 - sum of squared errors / sum of squares, as a ratio of means over rows.
skill_limits <- function(y, fitted, level = 0.95) {
  a <- rowSums((y - fitted)^2)
  b <- rowSums(y^2)
  skill <- 1 - mean(a) / mean(b)
  u <- -(a - (1 - skill) * b) / mean(b)
  t_limits(skill, folds_widen * stats::sd(u) / sqrt(length(u)), length(u) - 1, level)
}

groups_differ <- function(table, st, p, tests) {
  column <- table$columns[[p]]
  y <- table$y
  if (column$number || length(column$levels) > 20) return(NULL)
  found <- association_of(column, y)
  value <- found$p_value * tests
  if (!isTRUE(value < 0.01)) return(NULL)
  both <- !is.na(column$x) & !is.na(y$x)
  group <- column$levels[column$x[both]]
  if (y$number) {
    centre <- vapply(split(y$x[both], group), mean, 0)
    what <- "the mean target is "
    shown <- function(v) as.character(signif(v, 3))
  } else {
    positive <- if (length(st$classes) == 2) {
      st$classes[st$positive]
    } else {
      y$levels[which.max(tabulate(y$x))]
    }
    centre <- vapply(split(y$levels[y$x[both]] == positive, group), mean, 0)
    what <- paste0("class ", positive, " is ")
    shown <- say_share
  }
  top <- which.max(centre)
  low <- which.min(centre)
  finding(
    p, "groups differ", "note", value, "p-value, Bonferroni",
    paste0(
      "It is sensitive: ", what, shown(centre[[top]]), " for ", names(centre)[top], " and ",
      shown(centre[[low]]), " for ", names(centre)[low], "."
    ),
    "A model that is right repeats this: compare its scores between the groups."
  )
}
