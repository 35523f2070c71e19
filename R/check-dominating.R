# One predictor that alone tells nearly all of the target, or two that do so together, where the
# others add next to nothing: the values cannot say whether it was known before the target, so it
# is put as a question. A leak with noise looks like this, and so does a very strong honest
# predictor.

# Shares of the target told: by one, by one that the others know only through the target, by two.
least_told <- c(one = 0.9, mirror = 0.8, two = 0.97)
# What the others may take off the error that is left.
most_added <- 0.2

# known: predictors of which more was said already.
check_dominating <- function(table, st, known = character(), seed = 1) {
  use <- which(!is.na(table$y$x))
  if (length(use) < 20 || table$y$distinct < 2) return(no_findings())
  if (length(use) > 2000) {
    use <- use[unique(round(seq(1, length(use), length.out = 2000)))]
  }
  usable <- columns_that(table, function(column) !column$time && has_several(column))
  usable <- Filter(function(p) !runs_with_rows(table$columns[[p]], table), usable)
  columns <- rows_of_columns(table$columns[setdiff(usable, known)], use)
  if (!length(columns)) return(no_findings())
  target <- rows_of_columns(list(table$y), use)[[1]]
  y <- response_of(target)
  part <- parts_of(length(use), seed = seed)
  told <- vapply(columns, function(column) told_alone(column, target, y, part), 0)
  alone <- names(columns)[told >= least_told[["mirror"]]]
  found <- bind_findings(lapply(alone, function(p) {
    kind <- kind_of_strong(columns, p, y, part, told[[p]])
    asked <- kind == "mirror" ||
      kind == "nothing beside it" && told[[p]] >= least_told[["one"]]
    if (asked) dominating(p, told[[p]], st$target, kind == "mirror", length(columns))
  }))
  if (any(told >= least_told[["one"]]) || nrow(found)) return(found)
  pair_dominating(columns, y, part, st$target)
}

dominating <- function(p, told, target, mirror, columns) {
  finding(
    p, "tells nearly all", "doubt", 100 * told, "% of the target",
    paste0(
      quoted(p), " alone tells ", say_nearly_all(told), " of `", target, "`",
      if (mirror) {
        ", and the others know of it only what the target does"
      } else if (columns > 1) {
        ", and the others add next to nothing to it"
      },
      ": was it known before the target?"
    ),
    "Only you can say. If it was not, train the models without it."
  )
}

# "99.6 %", never rounded up to all.
say_nearly_all <- function(share) {
  if (share > 0.9995) return("all but less than 0.1 %")
  paste(format(floor(1000 * share) / 10, nsmall = if (share > 0.99) 1 else 0), "%")
}

# The share of the target that a column tells alone, as a smooth function of a number, or by its
# levels; for classes at least the share of errors it takes off the best constant guess.
told_alone <- function(column, target, y, part) {
  smooth <- if (target$number && column$number) {
    both <- !is.na(column$x) & !is.na(target$x)
    1 - error_left(column$x[both], target$x[both])^2
  }
  told <- max(smooth, told_in_bins(column, y, part), na.rm = TRUE)
  if (target$number) told else max(told, errors_taken(column, target, part))
}

# Means of the target in 40 bins of a number, or levels, of the other rows.
told_in_bins <- function(column, y, part) {
  bin <- bins_of_told(column, nrow(y))
  fitted <- 0 * y
  for (k in unique(part)) {
    out <- part == k
    sums <- rowsum(y[!out, , drop = FALSE], bin[!out])
    means <- sums / as.vector(table(bin[!out]))
    found <- match(bin[out], rownames(means))
    # a bin that the other rows lack is told by their mean, which is 0
    fitted[out, ] <- ifelse(is.na(found), 0, 1) * means[ifelse(is.na(found), 1, found), ]
  }
  1 - sum((y - fitted)^2) / sum(y^2)
}

bins_of_told <- function(column, n) {
  few <- column$distinct <= 40
  bin <- if (is.null(column$place) || few) {
    match(column$x, unique(column$x))
  } else {
    as.integer(max(2, min(40, n / 10)) * column$place)
  }
  bin[is.na(column$x)] <- -1L
  as.character(bin)
}

# A flag that is wrong in one row of twenty tells little of the variance of a rare class, and yet
# nearly all there is to know: counted are errors. 0 unless few are left.
errors_taken <- function(column, target, part) {
  bin <- bins_of_told(column, length(target$x))
  wrong <- 0
  for (k in unique(part)) {
    out <- part == k
    counts <- table(bin[!out], target$x[!out])
    guess <- as.integer(colnames(counts))[max.col(counts, ties.method = "first")]
    wrong <- wrong + sum(
      guess[match(bin[out], rownames(counts))] != target$x[out], na.rm = TRUE
    )
  }
  share <- wrong / length(target$x)
  constant <- 1 - max(tabulate(target$x)) / length(target$x)
  if (share <= 0.06 && share <= 0.6 * constant) 1 - share else 0
}

# What the others say beside p: "nothing beside it"; "more", as beside an honest predictor; or,
# where p is the target with noise, more of the target and nothing of the noise ("mirror").
kind_of_strong <- function(columns, p, y, part, told) {
  own <- columns[[p]]
  others <- columns[names(columns) != p & !vapply(columns, function(other) {
    !is.null(other$place) && !is.null(own$place) && abs(rank_correlation_of(other, own)) > 0.9
  }, NA)]
  if (!length(others)) return("nothing beside it")
  others <- most_telling(others, y)
  both <- fit_additive(c(columns[p], others), y, part)$skill
  alone <- fit_additive(columns[p], y, part)$skill
  adds <- 1 - (1 - both) / (1 - max(alone, 1e-9))
  if (adds <= most_added || both <= told) return("nothing beside it")
  if (!own$number) return("more")
  known <- !is.na(own$x)
  given <- given_target(own$x[known], y[known, , drop = FALSE], part[known])
  knows <- fit_additive(rows_of_columns(others, known), given, part[known])$skill
  if (knows > 0.1 * adds) "more" else "mirror"
}

# Two that together tell nearly all, each much less: such as halves of the target.
pair_dominating <- function(columns, y, part, target) {
  numbers <- names(columns)[vapply(columns, function(column) column$number, NA)]
  if (length(numbers) < 3 || length(numbers) > 60 || ncol(y) > 1) return(NULL)
  alone <- vapply(columns[numbers], explained_in_bins, 0, y)
  first <- utils::head(numbers[order(-alone)], 8)
  pairs <- utils::combn(first, 2, simplify = FALSE)
  skill <- vapply(pairs, function(pair) fit_plane(columns[pair], y, part), 0)
  best <- which.max(skill)
  if (!isTRUE(skill[best] >= least_told[["two"]])) return(NULL)
  pair <- pairs[[best]]
  both <- fit_plane(columns[pair], y, part)
  with_rest <- fit_plane(columns[numbers], y, part)
  if (1 - (1 - with_rest) / (1 - min(both, 1 - 1e-12)) > most_added) return(NULL)
  bind_findings(lapply(pair, function(p) {
    finding(
      p, "tells nearly all", "doubt", 100 * both, "% of the target",
      paste0(
        list_words(quoted(pair)), " together tell ", say_nearly_all(both), " of `", target,
        "`, and the others add next to nothing to them: were both known before the target?"
      ),
      "Only you can say. If not, train the models without them."
    )
  }))
}

# The share of y told by a plane through the columns' values and their products, of rows left out.
fit_plane <- function(columns, y, part) {
  x <- do.call(cbind, lapply(columns, function(column) {
    v <- column$x
    v[is.na(v)] <- mean(v, na.rm = TRUE)
    v
  }))
  if (ncol(x) == 2) x <- cbind(x, x[, 1] * x[, 2])
  x <- scale_columns(x)
  x <- x[, colSums(is.na(x)) == 0, drop = FALSE]
  if (!ncol(x)) return(0)
  fitted <- 0 * y
  for (k in unique(part)) {
    out <- part == k
    fit <- stats::lm.fit(cbind(1, x[!out, , drop = FALSE]), y[!out, ])
    beta <- ifelse(is.na(fit$coefficients), 0, fit$coefficients)
    fitted[out, ] <- cbind(1, x[out, , drop = FALSE]) %*% beta
  }
  1 - sum((y - fitted)^2) / sum(y^2)
}
