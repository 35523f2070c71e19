# Permutation within strata: rows that are alike in what the other predictors say of the shuffled one exchange its
# values, so that correlated predictors are not asked about rows that cannot occur.
#
# A shallow regression tree (rpart) of the unit on all other predictors, grown on the training rows and pruned by the
# one-standard-error rule, makes the strata; strata with few of the rows at hand are joined to the
# smaller of their neighbours in the order of the means.

# list(stratum = number per row, explained = share of the unit's variance between the strata)
draw_strata <- function(st, model, unit, rows, seed, least = 20) {
  rlang::check_installed("rpart", "to draw the strata of conditional permutation")
  train <- model_rows(st, model, st$train, "train")
  others <- setdiff(model$inputs$predictors, unit)
  alone <- list(stratum = rep(1L, nrow(rows)), explained = 0)
  if (!length(others) || nrow(train) < 60) return(alone)
  along <- first_coordinate(train[unit])
  response <- along(train)
  known <- is.finite(response)
  if (sum(known) < 60 || stats::sd(response[known]) == 0) return(alone)
  frame <- cbind(train[known, others, drop = FALSE], data.frame(along = response[known]))
  names(frame) <- c(paste0("x", seq_along(others)), "along")
  control <- rpart::rpart.control(maxdepth = 3, minbucket = max(30, ceiling(0.05 * nrow(frame))), cp = 0.001, xval = 10, maxcompete = 0)
  tree <- with_stream(seed, c("strata", unit), rpart::rpart(along ~ ., frame, method = "anova", control = control))
  tree <- prune_one_error(tree)
  new <- stats::setNames(rows[others], paste0("x", seq_along(others)))
  mean_of <- stats::predict(tree, new)
  stratum <- join_small(match(mean_of, sort(unique(mean_of))), least)
  own <- along(rows)
  within <- own - stats::ave(own, stratum, FUN = function(x) mean(x, na.rm = TRUE))
  total <- sum((own - mean(own, na.rm = TRUE))^2, na.rm = TRUE)
  list(stratum = stratum, explained = if (total > 0) 1 - sum(within^2, na.rm = TRUE) / total else 0)
}

# A number stays as it is; a factor or several columns become their first principal coordinate, standardised.
first_coordinate <- function(columns) {
  if (length(columns) == 1 && !is.factor(columns[[1]]) && !is.character(columns[[1]])) return(function(data) as.double(data[[names(columns)]]))
  spread <- function(data) {
    do.call(cbind, lapply(names(columns), function(p) {
      known <- levels_of_column(columns[[p]])
      if (is.null(known)) as.double(data[[p]]) else outer(as.character(data[[p]]), known, "==") + 0
    }))
  }
  x <- spread(columns)
  centre <- colMeans(x, na.rm = TRUE)
  scale <- apply(x, 2, stats::sd, na.rm = TRUE)
  scale[!is.finite(scale) | scale == 0] <- 1
  standard <- function(x) {
    x <- sweep(sweep(x, 2, centre), 2, scale, "/")
    x[is.na(x)] <- 0
    x
  }
  turn <- svd(standard(x), nu = 0, nv = 1)$v
  turn <- turn * sign(turn[which.max(abs(turn))])
  function(data) as.vector(standard(spread(data)) %*% turn)
}

# The smallest tree whose cross-validated error is within one standard error of the least.
prune_one_error <- function(tree) {
  found <- tree$cptable
  if (nrow(found) < 2) return(tree)
  best <- which.min(found[, "xerror"])
  keep <- which(found[, "xerror"] <= found[best, "xerror"] + found[best, "xstd"])[1]
  rpart::prune(tree, cp = found[keep, "CP"] * (1 + 1e-10))
}

# stratum: numbers in the order of the strata's means.
join_small <- function(stratum, least) {
  repeat {
    size <- tabulate(stratum)
    if (length(size) < 2 || min(size) >= least) return(stratum)
    small <- which.min(size)
    into <- if (small == 1) 2L else if (small == length(size)) small - 1L else if (size[small - 1] <= size[small + 1]) small - 1L else small + 1L
    stratum[stratum == small] <- into
    stratum <- match(stratum, sort(unique(stratum)))
  }
}

# The shift design within each stratum; a stratum of one row keeps its own value.
draw_donors_within <- function(stratum, repeats, seed) {
  donors <- matrix(seq_along(stratum), length(stratum), repeats)
  for (s in unique(stratum)) {
    rows <- which(stratum == s)
    if (length(rows) < 2) next
    own <- draw_donors(length(rows), min(repeats, length(rows) - 1L), seed)
    own <- own[, rep_len(seq_len(ncol(own)), repeats), drop = FALSE]
    donors[rows, ] <- rows[own]
  }
  donors
}

# The conditional rows of a ranking, beside the plain ones.
permute_within <- function(model, st, on, units, form, repeats, level, seed) {
  rows <- model_rows(st, model, on$data, "rows")
  truth <- truth_of(st, on$data)
  base <- predict_aligned(st, model, rows)
  block <- with_stream(seed, c("jackknife", nrow(rows)), draw_blocks(nrow(rows)))
  repeats <- if (identical(repeats, "auto")) 10L else min(repeats, nrow(rows) - 1L)
  strata <- lapply(units, function(u) if (length(u)) draw_strata(st, model, u, rows, seed) else list(stratum = rep(1L, nrow(rows)), explained = 0))
  judged <- lapply(stats::setNames(nm = names(units)), function(u) {
    donors <- draw_donors_within(strata[[u]]$stratum, repeats, seed)
    judge <- function(shuffled) judge_shuffle(st$metric, truth, base, shuffled, donors, block, level, form, strata[[u]]$stratum)
    shuffle_each(st, model, rows, base, donors, judge, units[u])[[1]]
  })
  get <- function(field) vapply(judged, `[[`, 0, field)
  quality <- data.frame(model = model$name, unit = names(units), strata = vapply(strata, function(s) max(s$stratum), 1L),
                        smallest = vapply(strata, function(s) min(tabulate(s$stratum)), 1L), explained = vapply(strata, `[[`, 0, "explained"), row.names = NULL)
  label <- paste(on$label, "conditional")
  flags <- join_flags(rep(st$flags$models[[model$name]], length(units)), ifelse(quality$strata == 1, "1 stratum", ""))
  table <- ranking_rows(st, model, "permutation", label, names(units), get("importance"), get("std_error"), get("lower"), get("upper"), about = "model", flag = flags)
  out <- new_ranking(st, table, new_settings(model, "permutation", label, nrow(rows), repeats, paste(say_loss(st$metric, form), "within strata")),
                     list(), seed, level)
  attr(out, "strata") <- quality
  out
}
