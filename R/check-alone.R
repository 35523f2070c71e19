# One column alone: what the target is expected to be, given it.

# Predictions of `rows` from one predictor: the target's mean (or class shares) in bins of a
# number, or per level, of the training rows. Missing is a level of its own; unseen levels get the
# overall mean.
fit_alone <- function(st, p, train, rows, bins = 20) {
  x <- train[[p]]
  z <- rows[[p]]
  if (is.numeric(x) && !is.factor(x) && is.numeric(z)) {
    cuts <- unique(stats::quantile(
      x, seq_len(bins - 1) / bins, na.rm = TRUE, names = FALSE
    ))
    x <- findInterval(x, cuts)
    z <- findInterval(z, cuts)
  }
  x <- as.character(x)
  z <- as.character(z)
  x[is.na(x)] <- "missing"
  z[is.na(z)] <- "missing"
  y <- train[[st$target]]
  Y <- if (st$task == "regression") {
    matrix(y, ncol = 1)
  } else {
    outer(as.integer(y), seq_along(st$classes), "==") + 0
  }
  sums <- rowsum(Y, x)
  means <- sums / as.vector(table(x)[rownames(sums)])
  fitted <- means[match(z, rownames(means)), , drop = FALSE]
  unseen <- is.na(fitted[, 1])
  fitted[unseen, ] <- rep(colMeans(Y), each = sum(unseen))
  dimnames(fitted) <- list(NULL, st$classes)
  fitted
}

# The predictor that tells most of the target alone, on training rows left out; NULL where that
# cannot be told.
best_alone <- function(st, predictors, seed) {
  predictors <- intersect(predictors, names(st$train))
  if (is.null(st$train) || nrow(st$train) < 20 || !length(predictors)) return(NULL)
  table <- check_table(
    derive_study(st, data = st$train, train = NULL), predictors, seed, 2000L
  )
  usable <- columns_that(table, has_several)
  if (!length(usable)) return(NULL)
  y <- response_of(table$y)
  part <- parts_of(nrow(y), seed = seed)
  skill <- vapply(
    table$columns[usable],
    function(column) fit_additive(list(x = column), y, part)$skill,
    0
  )
  usable[which.max(skill)]
}
