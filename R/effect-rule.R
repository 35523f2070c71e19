#' A rule for the neighbourhood of one row
#'
#' A few readable conditions that hold for a row, and what the model predicts where they hold: a
#' small tree fitted to the model's predictions around the row. How faithful it is to the model is
#' measured on fresh neighbours; a rule that is not faithful is not given.
#'
#' @inheritParams similar_rows
#' @param which Number of the row.
#' @param class For classes: the class whose probability is described. Default: the positive one of
#'   two, the likeliest of several.
#' @param draws Number of neighbourhoods drawn, to see how stable the rule is.
#' @param least_fidelity A rule below this share of explained variance is refused.
#' @return A list of class `dreher_rule`: `model`, `row`, `class`, `conditions` (data frame:
#'   `predictor`, `condition`, and `frequency`, the share of the draws whose rule has a condition
#'   on this predictor), `prediction` of the row, `median` and `lower`, `upper`, the middle 90 %,
#'   of the model's predictions for fresh neighbours where the rule holds, `share` of the
#'   neighbours where it holds, `fidelity`, the share of the variance of the predictions of fresh
#'   neighbours that the tree explains, with `fidelity_lower`, `fidelity_upper` (range over the
#'   draws), `given` (is it faithful enough?), `least_fidelity`, `draws`.
#' @details Neighbours: each predictor keeps the row's value with probability one half, or takes
#'   that
#'   of a training row, one row for all that change, so that what goes together stays so; each
#'   neighbour weighs by the share of predictors kept. The tree asks three questions on the way to a
#'   leaf at most. Fidelity is the weighted share of explained variance on as many neighbours again,
#'   which the tree has not seen.
#' @section Errors: A row number that is not there; no training rows; package rpart missing.
#' @references Ribeiro, M. T., Singh, S. and Guestrin, C. (2016), on why fidelity in the
#'   neighbourhood must be stated. \doi{10.1145/2939672.2939778}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' local_rule(st, which = 12, draws = 5)
#' @export
local_rule <- function(
    study, which, ..., model = NULL, class = NULL, rows = "holdout", draws = 20,
    least_fidelity = 0.5, seed = 1, threads = NULL) {
  st <- open_ranking(study, "local_rule", ..., threads = threads)
  if (missing(which)) {
    stop_input("`which` is missing: the number of the row.", todo = "For example which = 12.")
  }
  draws <- check_count(draws, "draws", least = 2, most = 1000)
  least_fidelity <- check_fraction(least_fidelity, "least_fidelity")
  seed <- check_seed(seed)
  rlang::check_installed("rpart", "to fit the rule")
  if (!is.null(model)) check_choice(model, names(st$models), "model")
  m <- pick_models(st, if (is.null(model)) names(st$models)[1] else model)[[1]]
  train <- model_rows(st, m, need_train(st, "`local_rule()`"), "train")
  data <- explained_rows(st, rows)$data
  which <- check_which(which, nrow(data))
  if (length(which) != 1) stop_input("`which` must be the number of one row.")
  row <- model_rows(st, m, data[which, , drop = FALSE], "rows")
  attr(row, "row.names") <- .set_row_names(1L)
  p <- predict_aligned(st, m, row)[1, ]
  k <- class_described(st, p, class)
  rules <- lapply(seq_len(draws), function(b) {
    fit_rule(st, m, row, train, k, seed, c("rule", which, b))
  })
  summarise_rule(st, m, which, row, p[[k]], k, rules, least_fidelity)
}

class_described <- function(st, p, class) {
  if (st$task == "regression") {
    if (!is.null(class)) {
      stop_input(
        paste0("`class` is for classes; \"", st$target, "\" is a number."),
        todo = "Leave `class` out."
      )
    }
    return(1)
  }
  if (!is.null(class)) return(match(check_choice(class, st$classes, "class"), st$classes))
  if (length(st$classes) == 2) st$positive else which.max(p)
}

# One draw of neighbours, a tree on one half of them, its fidelity on the other.
fit_rule <- function(st, model, row, train, k, seed, key, size = 1000) {
  predictors <- model$inputs$predictors
  drawn <- with_stream(
    seed,
    key,
    list(
      donor = sample.int(nrow(train), 2 * size, replace = TRUE),
      keep = matrix(stats::runif(2 * size * length(predictors)) < 0.5, 2 * size)
    )
  )
  near <- row[rep(1L, 2 * size), , drop = FALSE]
  attr(near, "row.names") <- .set_row_names(2 * size)
  for (j in seq_along(predictors)) {
    moved <- !drawn$keep[, j]
    near[[predictors[j]]][moved] <- train[[predictors[j]]][drawn$donor[moved]]
  }
  y <- predict_aligned(st, model, near)[, k]
  weight <- (1 + rowSums(drawn$keep)) / (1 + length(predictors))
  first <- seq_len(size)
  usable <- predictors[vapply(
      predictors,
      function(p) {
        is.numeric(near[[p]]) || length(unique(near[[p]])) <= 30
      },
      NA
    )]
  frame <- cbind(near[usable], .y = y, .w = weight)
  tree <- rpart::rpart(
    .y ~ .,
    frame[first, setdiff(names(frame), ".w")],
    weights = frame$.w[first],
    method = "anova",
    control = rpart::rpart.control(maxdepth = 3, minbucket = 30, cp = 0.005, xval = 0)
  )
  fresh <- frame[-first, ]
  said <- stats::predict(tree, fresh)
  w <- fresh$.w
  centre <- sum(w * fresh$.y) / sum(w)
  whole <- sum(w * (fresh$.y - centre)^2)
  leaf_of <- tree
  leaf_of$frame$yval <- seq_len(nrow(tree$frame))
  own <- stats::predict(leaf_of, row[usable])
  inside <- stats::predict(leaf_of, fresh) == own
  list(
    tree = tree,
    leaf = own,
    fidelity = if (whole > 0) 1 - sum(w * (fresh$.y - said)^2) / whole else 1,
    inside = fresh$.y[inside],
    share = mean(inside),
    predictors = conditions_of(tree, own)$predictor
  )
}

# The questions on the way to a leaf, those on one predictor joined.
conditions_of <- function(tree, at) {
  node <- as.integer(rownames(tree$frame))
  i <- node[at]
  way <- integer()
  while (i > 1) {
    way <- c(i, way)
    i <- i %/% 2
  }
  if (!length(way)) return(data.frame(predictor = character(), condition = character()))
  words <- labels(tree, minlength = 0, digits = 4, collapse = TRUE)[match(way, node)]
  asked <- as.character(tree$frame$var[match(way %/% 2, node)])
  said <- mapply(
    function(w, p) trimws(substring(w, nchar(p) + 1)), words, asked, USE.NAMES = FALSE
  )
  out <- lapply(unique(asked), function(p) {
    data.frame(predictor = p, condition = tighten(said[asked == p]))
  })
  do.call(rbind, out)
}

# ">= 10, >= 12, < 20" to "from 12 to under 20"; of levels the last question is the narrowest.
tighten <- function(said) {
  if (any(startsWith(said, "="))) {
    last <- sub("^= *", "", said[length(said)])
    return(paste("is", gsub(",", " or ", last)))
  }
  number <- as.numeric(sub("^(>=|<) *", "", said))
  least <- number[startsWith(said, ">=")]
  below <- number[startsWith(said, "<")]
  if (length(least) && length(below)) {
    return(paste("from", format(max(least)), "to under", format(min(below))))
  }
  if (length(least)) {
    paste("at least", format(max(least)))
  } else {
    paste("under", format(min(below)))
  }
}

summarise_rule <- function(st, model, which, row, p, k, rules, least_fidelity) {
  fidelity <- vapply(rules, `[[`, 0, "fidelity")
  # the draw whose fidelity is nearest to the median speaks for all
  best <- rules[[which.min(abs(fidelity - stats::median(fidelity)))]]
  conditions <- conditions_of(best$tree, best$leaf)
  conditions$frequency <- vapply(conditions$predictor, function(p) {
    mean(vapply(rules, function(r) p %in% r$predictors, NA))
  }, 0)
  inside <- unlist(lapply(rules, `[[`, "inside"))
  held <- if (length(best$inside)) best$inside else inside
  new_record(list(
    model = model$name, row = which,
    class = if (st$task == "classification") st$classes[k] else NA_character_,
    conditions = conditions, prediction = p, median = stats::median(held),
    lower = stats::quantile(held, 0.05, names = FALSE),
    upper = stats::quantile(held, 0.95, names = FALSE), share = best$share,
    fidelity = best$fidelity, fidelity_lower = min(fidelity), fidelity_upper = max(fidelity),
    given = stats::median(fidelity) >= least_fidelity && nrow(conditions) > 0,
    least_fidelity = least_fidelity, draws = length(rules), target = st$target,
    labels = labels_of(st, model$inputs$predictors),
    units = units_of(st, model$inputs$predictors)
  ), "rule")
}

#' @export
as.data.frame.dreher_rule <- function(x, ...) {
  cbind(
    data.frame(model = x$model, row = x$row, class = x$class), x$conditions,
    data.frame(
      prediction = x$prediction, median = x$median, lower = x$lower, upper = x$upper,
      share = x$share, fidelity = x$fidelity, given = x$given
    )
  )
}
