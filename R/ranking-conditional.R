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

# The conditional rows of a ranking, beside the plain ones: every unit has strata, and so donors,
# of its own.
permute_within <- function(
    context, info, evaluation, units, form, repeats, level, seed, keep = FALSE) {
  st <- context$st
  repeats <- min(repeats, context$n - 1L)
  strata <- lapply(units, function(u) {
    if (length(u)) {
      draw_strata(st, context$model, u, context$rows, seed)
    } else {
      list(stratum = rep(1L, context$n), explained = 0)
    }
  })
  used <- which(lengths(units) > 0)
  donors <- array(0L, c(context$n, repeats, length(used)))
  for (u in seq_along(used)) {
    donors[, , u] <- draw_donors_within(
      strata[[used[u]]]$stratum, repeats, seed, info$block
    )
  }
  design <- list(donors = donors, own = TRUE, repeats = repeats)
  estimates <- estimate_units(
    context,
    info,
    units,
    design,
    st$metric,
    form,
    level,
    seed,
    lapply(strata, `[[`, "stratum"),
    keep = keep
  )
  if (!length(estimates)) rlang::interrupt()
  stopped <- if (isTRUE(attr(estimates, "stopped"))) {
    paste0(
      length(estimates), " of ", length(units), " predictors of model \"", context$model$name,
      "\" are ranked within strata."
    )
  }
  quality <- quality_of_strata(context$model$name, strata[names(estimates)])
  out <- ranking_of_shuffles(
    context,
    evaluation,
    units[names(estimates)],
    estimates,
    repeats,
    form,
    seed,
    level,
    shuffle_share(estimates),
    ifelse(quality$strata == 1, "not conditioned", "")
  )
  attr(out, "row_values") <- list()
  out <- set_detail(out, "strata", quality)
  attr(out, "stopped") <- stopped
  out
}

quality_of_strata <- function(model, strata) {
  data.frame(
    model = rep(model, length(strata)),
    group = names(strata),
    strata = vapply(strata, function(s) max(s$stratum), 1L),
    smallest = vapply(strata, function(s) min(tabulate(s$stratum)), 1L),
    explained = vapply(strata, `[[`, 0, "explained"),
    row.names = NULL
  )
}
