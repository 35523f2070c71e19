# Predictors that go together: each lends the other importance when it is shuffled alone.

# The pairs of a study, worked out once; NULL where nobody asks for them.
alike_pairs <- function(st) {
  if (isFALSE(st$notes)) return(NULL)
  kept(st, "alike", find_alike(st))
}

# Pairs with |association| of at least `least`: data frame predictor, other, association. Numbers
# by rank correlation; factors by the largest correlation of their indicators. At most 300 rows,
# fewer with many predictors; none are looked for among more than 2,000.
find_alike <- function(st, least = 0.9) {
  data <- if (is.null(st$train)) st$data else st$train
  predictors <- st$predictors
  if (length(predictors) < 2 || length(predictors) > 2000) return(NULL)
  most <- max(200, min(300, 2e8 %/% length(predictors)^2))
  pick <- if (nrow(data) > most) round(seq(1, nrow(data), length.out = most)) else TRUE
  columns <- lapply(predictors, function(p) rank_columns(data[[p]][pick]))
  width <- vapply(columns, function(x) if (is.null(x)) 0L else ncol(x), 1L)
  of <- rep(seq_along(predictors), width)
  if (length(of) < 2) return(NULL)
  x <- do.call(cbind, columns)
  r <- suppressWarnings(abs(stats::cor(x)))
  r[is.na(r)] <- 0
  close <- which(r >= least & outer(of, of, "<"), arr.ind = TRUE)
  if (!nrow(close)) return(NULL)
  out <- data.frame(
    predictor = predictors[of[close[, 1]]],
    other = predictors[of[close[, 2]]],
    association = r[close]
  )
  out <- out[order(-out$association), ]
  out <- out[!duplicated(out[c("predictor", "other")]), ]
  rownames(out) <- NULL
  out
}

# Ranks, missing values in the middle; a factor of up to 20 levels as indicators.
rank_columns <- function(x) {
  if (is.character(x) || is.factor(x)) {
    x <- droplevels(text_factor(x))
    if (nlevels(x) > 20 || nlevels(x) < 2) return(NULL)
    return(fill_gaps(
      outer(as.character(x), if (nlevels(x) == 2) levels(x)[1] else levels(x), "==") + 0
    ))
  }
  fill_gaps(matrix(rank(as.double(x), na.last = "keep")))
}

fill_gaps <- function(x) {
  if (!anyNA(x)) return(x)
  for (j in seq_len(ncol(x))) x[is.na(x[, j]), j] <- mean(x[, j], na.rm = TRUE)
  x
}
