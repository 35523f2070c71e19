# Permutation within strata: rows that are alike in what the other predictors say of the shuffled
# one exchange its values, so that correlated predictors are not asked about rows that cannot
# occur.
#
# A shallow regression tree (rpart) of the unit on all other predictors, grown on the training
# rows and pruned by the one-standard-error rule, makes the strata; strata with few of the rows at
# hand are joined to the smaller of their neighbours in the order of the means.

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
  control <- rpart::rpart.control(
    maxdepth = 3,
    minbucket = max(30, ceiling(0.05 * nrow(frame))),
    cp = 0.001,
    xval = 10,
    maxcompete = 0
  )
  tree <- with_stream(
    seed,
    c("strata", unit),
    rpart::rpart(along ~ ., frame, method = "anova", control = control)
  )
  tree <- prune_one_error(tree)
  new <- stats::setNames(rows[others], paste0("x", seq_along(others)))
  mean_of <- stats::predict(tree, new)
  stratum <- join_small(match(mean_of, sort(unique(mean_of))), least)
  own <- along(rows)
  within <- own - stats::ave(own, stratum, FUN = function(x) mean(x, na.rm = TRUE))
  total <- sum((own - mean(own, na.rm = TRUE))^2, na.rm = TRUE)
  list(
    stratum = stratum,
    explained = if (total > 0) 1 - sum(within^2, na.rm = TRUE) / total else 0
  )
}

# A number stays as it is; a factor or several columns become their first principal coordinate,
# standardised.
first_coordinate <- function(columns) {
  if (length(columns) == 1 && !is.factor(columns[[1]]) && !is.character(columns[[1]])) {
    return(function(data) as.double(data[[names(columns)]]))
  }
  spread <- function(data) {
    do.call(
      cbind,
      lapply(names(columns), function(p) {
        known <- levels_of_column(columns[[p]])
        if (is.null(known)) {
          as.double(data[[p]])
        } else {
          outer(as.character(data[[p]]), known, "==") + 0
        }
      })
    )
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
    into <- if (small == 1) {
      2L
    } else if (small == length(size)) {
      small - 1L
    } else if (size[small - 1] <= size[small + 1]) {
      small - 1L
    } else {
      small + 1L
    }
    stratum[stratum == small] <- into
    stratum <- match(stratum, sort(unique(stratum)))
  }
}

# The shift design within each stratum; a stratum of one row keeps its own value. Rows of a block
# give to each other only where their stratum has no other rows to give.
draw_donors_within <- function(stratum, repeats, seed, block = NULL) {
  donors <- matrix(seq_along(stratum), length(stratum), repeats)
  for (s in unique(stratum)) {
    rows <- which(stratum == s)
    if (length(rows) < 2) next
    of <- if (!is.null(block)) match(block[rows], unique(block[rows]))
    if (!is.null(of) && max(tabulate(of)) > length(rows) / 2) of <- NULL
    own <- draw_donors(length(rows), min(repeats, length(rows) - 1L), seed, of)
    own <- own[, rep_len(seq_len(ncol(own)), repeats), drop = FALSE]
    donors[rows, ] <- rows[own]
  }
  donors
}

# The conditional rows of a ranking, beside the plain ones: every unit has strata, and so donors,
# of its own.
permute_within <- function(open, cases, on, units, form, repeats, level, seed) {
  st <- open$st
  repeats <- min(repeats, open$n - 1L)
  strata <- lapply(units, function(u) {
    if (length(u)) {
      draw_strata(st, open$model, u, open$rows, seed)
    } else {
      list(stratum = rep(1L, open$n), explained = 0)
    }
  })
  used <- which(lengths(units) > 0)
  donors <- array(0L, c(open$n, repeats, length(used)))
  for (u in seq_along(used)) {
    donors[, , u] <- draw_donors_within(
      strata[[used[u]]]$stratum, repeats, seed, cases$block
    )
  }
  design <- list(donors = donors, own = TRUE, repeats = repeats)
  judged <- judge_units(
    open,
    cases,
    units,
    design,
    st$metric,
    form,
    level,
    seed,
    lapply(strata, `[[`, "stratum")
  )
  if (!length(judged)) rlang::interrupt()
  stopped <- if (isTRUE(attr(judged, "stopped"))) {
    paste0(
      length(judged), " of ", length(units), " predictors of model \"", open$model$name,
      "\" are ranked within strata."
    )
  }
  strata <- strata[names(judged)]
  quality <- data.frame(
    model = rep(open$model$name, length(judged)),
    unit = names(judged),
    strata = vapply(strata, function(s) max(s$stratum), 1L),
    smallest = vapply(strata, function(s) min(tabulate(s$stratum)), 1L),
    explained = vapply(strata, `[[`, 0, "explained"),
    row.names = NULL
  )
  out <- ranking_of_shuffles(
    open$model,
    st,
    on,
    units[names(judged)],
    judged,
    open$n,
    repeats,
    form,
    seed,
    level,
    shuffle_share(judged),
    ifelse(quality$strata == 1, "1 stratum", "")
  )
  attr(out, "strata") <- quality
  attr(out, "stopped") <- stopped
  out
}
