#' Compare slices of the rows
#'
#' Scores, predictions, contributions and importances inside slices of the rows against the rest:
#' values of a column, conditions of your own, the worst-predicted rows, the cells of the confusion
#' table, or slices found where the errors are largest.
#'
#' @inheritParams rank_permutation
#' @param slices A formula with one column on its right side, `~ clay_source`: each of its values
#'   (of two the rarer one; a number of more than ten values in four parts of equal size);
#'   a named list of conditions, `list(hot = ~ peak_temp > 1200)`; `"worst"`, the tenth of the rows
#'   with the largest errors; `"confusion"`, rows by true and predicted class; `"found"`, slices
#'   found on one half of the rows and compared on the other. Default: the columns that the
#'   dictionary calls sensitive; without such columns `"found"`.
#' @param by What is compared: `"score"`, the mean loss; `"prediction"`, the mean prediction;
#'   `"shapley"`, the mean contribution of each predictor; `"permutation"`, the importance of each
#'   predictor. Default: the first three.
#' @param classes The class whose probability is compared, for `"prediction"` and `"shapley"`.
#'   Default: the positive class of two, the first of several.
#' @param background Number of training rows that represent "not known", or a data frame of them.
#' @return A data frame of class `dreher_slices`, a row per slice and quantity: `model`; `method`,
#'   as in `by`; `slice`; `predictor` (`NA` for scores and predictions); `importance`, the
#'   quantity in the slice (for `"score"` the loss, lower is better); `rest`, in all other rows;
#'   `difference`, `lower`, `upper` (simultaneous: Bonferroni over all differences of the model
#'   and method); `p_value` (Holm, over the same); `n` and `n_rest`, numbers of rows; `flag`: `few
#'   rows` (under 20 in the slice) or `chosen by its error`.
#' @details The models are taken as they are; the intervals speak of new rows of the same kind. The
#'   rows inside and outside are different ones, so that the error of a difference is that of two
#'   independent means (rows of a block of the study together), with as many degrees of freedom as
#'   the smaller of the two has rows less one. For `"score"` the loss of each row is that of the
#'   metric, for RMSE and R squared the squared error, for AUC the Brier score.
#'
#'   A slice that was chosen for its errors (`"worst"`, `"confusion"`) has no test of the score: it
#'   would find what it was chosen for. For `"found"` a regression tree of the row losses on the
#'   predictors is grown on half of the rows (three splits deep at most, 20 rows and 5 % of the half
#'   in a slice at least); the slices are then compared on the other half, which had no part in
#'   choosing them.
#'
#'   A difference between groups of people is a finding, not its cause.
#' @section Errors: A condition that is not TRUE or FALSE for every row; no slice of at least 5
#'   rows inside and outside; `"confusion"` for a number.
#' @references Holm, S. (1979). A simple sequentially rejective multiple test procedure.
#'   \url{https://www.jstor.org/stable/4615733}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' compare_slices(st, list(hot = ~ peak_temp > 1200))
#' @export
compare_slices <- function(
    study, slices = NULL, ..., by = c("score", "prediction", "shapley"), models = NULL,
    classes = NULL, rows = "holdout", repeats = 10, background = 100, max_rows = NULL,
    level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "compare_slices", ..., threads = threads)
  by <- check_choice(by, slice_methods, "by", several = TRUE)
  repeats <- check_count(repeats, "repeats")
  if (!is.null(max_rows)) max_rows <- check_count(max_rows, "max_rows", least = 20)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  models <- pick_models(st, models)
  classes <- pick_classes(st, classes)
  if (!is.data.frame(rows)) rows <- check_choice(rows, c("holdout", "train"), "rows")
  evaluation <- draw_rows(pick_rows(st, rows), max_rows, seed)
  # without anything to go by, slices are looked for
  if (is.null(slices) && !length(sensitive_columns(st, evaluation$data))) slices <- "found"
  check_slices(st, slices, evaluation$data)
  background <- check_background(background)
  settings <- list(
    by = by, class = classes[1], repeats = repeats, background = background, level = level,
    seed = seed
  )
  parts <- lapply(models, function(m) {
    found <- make_slices(st, m, slices, evaluation$data, settings)
    slice_model(st, m, evaluation$data[found$rows, , drop = FALSE], found, settings)
  })
  join_slices(st, parts, settings, evaluation)
}

slice_methods <- c("score", "prediction", "shapley", "permutation")

# What can be said of them before any work.
check_slices <- function(st, slices, data) {
  if (is.character(slices)) {
    check_choice(slices, c("worst", "confusion", "found"), "slices")
    if (slices == "confusion" && st$task == "regression") {
      stop_input(
        paste0("`slices = \"confusion\"` is for classes; \"", st$target, "\" is a number."),
        todo = "Use \"worst\" or \"found\"."
      )
    }
    if (slices == "found") rlang::check_installed("rpart", "to find slices")
    return(invisible())
  }
  invisible(slices_by_hand(st, slices, data))
}

sensitive_columns <- function(st, data) {
  intersect(st$dictionary$predictor[st$dictionary$sensitive %in% TRUE], names(data))
}

# A named list of logical vectors.
slices_by_hand <- function(st, slices, data) {
  if (is.null(slices)) {
    return(unlist(
      lapply(sensitive_columns(st, data), function(p) slices_of_column(p, data)),
      recursive = FALSE
    ))
  }
  if (inherits(slices, "formula") && length(slices) == 2 && is.name(slices[[2]])) {
    column <- as.character(slices[[2]])
    check_columns(data, column, "rows", "The column of `slices`")
    return(slices_of_column(column, data))
  }
  if (inherits(slices, "formula")) {
    slices <- stats::setNames(
      list(slices), paste(deparse(slices[[length(slices)]]), collapse = " ")
    )
  }
  fits <- is.list(slices) && length(slices) && !is.data.frame(slices) &&
    all(vapply(slices, function(s) inherits(s, "formula") && length(s) == 2, NA))
  if (!fits) {
    stop_input(
      paste0(
        "`slices` must be a formula, a named list of formulas, or one of \"worst\", ",
        "\"confusion\" and \"found\"."
      ),
      paste0("Given: ", describe_value(slices), "."),
      paste0("For example slices = ~ ", st$predictors[1], ", or a list of conditions.")
    )
  }
  given <- names(slices)
  usual <- vapply(slices, function(s) paste(deparse(s[[2]]), collapse = " "), "")
  names(slices) <- if (is.null(given)) usual else ifelse(nzchar(given), given, usual)
  lapply(slices, function(s) {
    check_columns(
      data,
      intersect(all.vars(s), setdiff(all.vars(s), ls(environment(s)))),
      "rows",
      "The column of `slices`"
    )
    inside <- tryCatch(eval(s[[2]], data, environment(s)), error = function(e) {
      stop_input(
        paste0(
          "The condition ", paste(deparse(s[[2]]), collapse = " "),
          " cannot be evaluated."
        ),
        conditionMessage(e)
      )
    })
    if (!is.logical(inside) || length(inside) != nrow(data)) {
      stop_input(
        paste0(
          "The condition ", paste(deparse(s[[2]]), collapse = " "),
          " is not TRUE or FALSE for each row."
        ),
        paste0("It gives: ", describe_value(inside), ".")
      )
    }
    inside %in% TRUE
  })
}

slices_of_column <- function(column, data) {
  of <- as.character(data[[column]])
  of[is.na(data[[column]])] <- "missing"
  values <- c(sort_text(unique(data[[column]])), if ("missing" %in% of) "missing")
  values <- unique(values[!is.na(values)])
  if (length(values) > 10 && is.numeric(data[[column]])) {
    return(slices_of_number(column, data[[column]]))
  }
  if (length(values) > 50) {
    stop_input(
      paste0("Column \"", column, "\" has ", length(values), " values, too many for slices."),
      todo = "Join values in a column of their own, or give a list of conditions."
    )
  }
  # Of two values the second is the first one's rest.
  if (length(values) == 2) values <- values[which.min(table(factor(of, values)))]
  stats::setNames(
    lapply(values, function(v) of == v), paste0(column, " = ", values)
  )
}

# A number in four parts of about equal size.
slices_of_number <- function(column, x) {
  cuts <- unique(stats::quantile(x, 1:3 / 4, na.rm = TRUE, names = FALSE, type = 1))
  part <- findInterval(x, cuts, left.open = TRUE)
  out <- lapply(sort(unique(part[!is.na(part)])), function(k) part %in% k)
  names(out) <- vapply(out, function(inside) {
    ends <- range(x[inside])
    paste0(column, " ", paste(unique(short_number(ends)), collapse = " to "))
  }, "")
  if (anyNA(x)) out[[paste(column, "missing")]] <- is.na(x)
  out
}

# -> list(rows, slices: named list of logical vectors over them, chosen: by their error?)
make_slices <- function(st, model, slices, data, settings) {
  all <- seq_len(nrow(data))
  if (!is.character(slices)) {
    return(list(rows = all, slices = slices_by_hand(st, slices, data), chosen = FALSE))
  }
  rows <- model_rows(st, model, data, "rows")
  p <- predict_aligned(st, model, rows)
  loss <- row_losses(st, data, p)
  if (slices == "worst") {
    worst <- loss >= stats::quantile(loss, 0.9, type = 1)
    return(list(rows = all, slices = list(`worst tenth` = worst), chosen = TRUE))
  }
  if (slices == "confusion") {
    truth <- as.character(data[[st$target]])
    said <- st$classes[max.col(p, ties.method = "first")]
    cells <- unique(data.frame(truth, said))
    cells <- cells[order(match(cells$truth, st$classes), match(cells$said, st$classes)), ]
    found <- lapply(seq_len(nrow(cells)), function(i) {
      truth == cells$truth[i] & said == cells$said[i]
    })
    names(found) <- paste0(cells$truth, ", predicted ", cells$said)
    return(list(rows = all, slices = found, chosen = TRUE))
  }
  find_slices(model, rows, loss, settings$seed)
}

# The loss of each row, lower is better.
row_losses <- function(st, data, p) {
  loss_metric(st)$loss(truth_of(st, data), p)
}

loss_metric <- function(st) {
  metric <- additive_metric(st$metric)
  if (!is.null(metric$loss)) return(metric)
  name <- if (st$task == "regression") "mse" else "brier"
  c(list(name = name), metric_table()[[name]])
}

# Leaves of a tree of the losses, grown on half of the rows; the other half is what they are
# compared on.
find_slices <- function(model, rows, loss, seed) {
  n <- nrow(rows)
  if (n < 80) {
    stop_input(
      paste0("Slices are found on half of the rows; 80 are needed, there are ", n, "."),
      todo = "Give `slices` of your own."
    )
  }
  half <- sort(with_stream(seed, c("slices", n), sample.int(n, n %/% 2)))
  data <- rows[half, model$inputs$predictors, drop = FALSE]
  data <- data[vapply(data, function(x) length(unique(x)) <= 50 || is.numeric(x), NA)]
  tree <- rpart::rpart(
    .loss ~ .,
    cbind(data, .loss = loss[half]),
    method = "anova",
    control = rpart::rpart.control(
      maxdepth = 3,
      minbucket = max(20, ceiling(0.05 * length(half))),
      cp = 0.005,
      xval = 0
    )
  )
  if (nrow(tree$frame) == 1) {
    stop_study(
      paste0(
        "No slices were found in which the errors of model \"", model$name, "\" differ."
      ),
      todo = paste0(
        "Name a column whose values are compared, as ~ ", names(data)[1], "."
      )
    )
  }
  other <- setdiff(seq_len(n), half)
  leaf <- which(tree$frame$var == "<leaf>")
  lead <- leaf[order(-tree$frame$yval[leaf])]
  lead <- utils::head(lead[tree$frame$yval[lead] > mean(loss[half])], 3)
  tree$frame$yval <- seq_len(nrow(tree$frame))
  of <- stats::predict(tree, rows[other, names(data), drop = FALSE])
  found <- lapply(lead, function(l) of == l)
  names(found) <- vapply(lead, function(l) path_words(tree, l), "")
  list(rows = other, slices = found, chosen = FALSE)
}

# The conditions on the way to a node, in words.
path_words <- function(tree, at) {
  node <- as.integer(rownames(tree$frame))
  way <- integer()
  i <- node[at]
  while (i > 1) {
    way <- c(i, way)
    i <- i %/% 2
  }
  words <- labels(tree, minlength = 0, digits = 4, collapse = TRUE)
  words <- words[match(way, node)]
  if (!length(words)) return("all rows")
  words <- gsub("(>=|<|=)", " \\1 ", gsub("< *", "< ", words))
  paste(gsub(" +", " ", words), collapse = " and ")
}

# ---- the comparison ----

slice_model <- function(st, model, data, found, settings) {
  size <- vapply(found$slices, sum, 1)
  n <- nrow(data)
  large <- size >= 5 & n - size >= 5
  if (!any(large)) {
    stop_input(
      "No slice has at least 5 rows inside and outside.",
      if (length(size)) {
        paste0(
          "The largest: \"", names(size)[which.max(size)], "\" with ", max(size), " of ",
          n, "."
        )
      } else {
        "None was found: the errors do not depend on the predictors."
      },
      "Give other slices, or more rows."
    )
  }
  slices <- found$slices[large]
  info <- row_info(st, data)
  rows <- model_rows(st, model, data, "rows")
  p <- predict_aligned(st, model, rows)
  parts <- lapply(settings$by, function(method) {
    table <- switch(
      method,
      score = slice_means(
        slices, info, matrix(row_losses(st, data, p), dimnames = list(NULL, NA))
      ),
      prediction = slice_means(
        slices,
        info,
        matrix(
          p[, if (is.null(settings$class)) 1 else settings$class],
          dimnames = list(NULL, NA)
        )
      ),
      shapley = slice_means(
        slices, info, contributions_of_slices(st, model, data, rows, settings)
      ),
      permutation = slice_importances(st, model, data, rows, slices, settings)
    )
    table$method <- method
    if (found$chosen && method == "score") {
      table$std_error <- NA_real_
    }
    settle_slices(table, settings$level)
  })
  out <- do.call(rbind, parts)
  out$model <- model$name
  out$flag <- ifelse(out$n < 20, "few rows", "")
  if (found$chosen) out$flag <- join_flags(out$flag, "chosen by its error")
  list(
    table = out,
    n = n,
    left_out = if (any(!large)) {
      data.frame(
        model = model$name,
        slice = names(found$slices)[!large],
        n = size[!large],
        row.names = NULL
      )
    }
  )
}

# x: rows x quantities. Means in each slice and in the rest, weighted, with the error of their
# difference.
slice_means <- function(slices, info, x) {
  n <- nrow(x)
  w <- if (is.null(info$weight)) rep(1, n) else info$weight
  do.call(
    rbind,
    lapply(names(slices), function(s) {
      inside <- slices[[s]]
      a <- colSums(w[inside] * x[inside, , drop = FALSE]) / sum(w[inside])
      b <- colSums(w[!inside] * x[!inside, , drop = FALSE]) / sum(w[!inside])
      u <- matrix(0, n, ncol(x))
      u[inside, ] <- n * w[inside] * sweep(x[inside, , drop = FALSE], 2, a) /
        sum(w[inside])
      u[!inside, ] <- -n * w[!inside] * sweep(x[!inside, , drop = FALSE], 2, b) /
        sum(w[!inside])
      se <- vapply(
        seq_len(ncol(x)),
        function(j) {
          as.vector(influence_error(u[, j], info$block)$std_error)
        },
        0
      )
      count <- function(at) {
        if (is.null(info$block)) sum(at) else length(unique(info$block[at]))
      }
      data.frame(
        slice = s,
        predictor = colnames(x),
        importance = a,
        rest = b,
        difference = a - b,
        std_error = se,
        df = max(1, min(count(inside), count(!inside)) - 1),
        n = sum(inside),
        n_rest = sum(!inside),
        row.names = NULL
      )
    })
  )
}

contributions_of_slices <- function(st, model, data, rows, settings) {
  units <- shapley_units(st, model, NULL)
  bg <- model_rows(
    st, model, draw_background(st, settings$background, settings$seed), "background"
  )
  limits <- list(scale = "auto", precision = 0.05, max_pairs = 100)
  values <- divide_rows(st, model, units, rows, bg, limits, settings$seed)
  K <- dim(values$phi)[3]
  k <- if (K == 1) 1 else settings$class
  sign <- if (K == 1 && !is.null(settings$class) && settings$class != st$positive) {
    -1
  } else {
    1
  }
  matrix(sign * values$phi[, , k], nrow(rows), dimnames = list(NULL, names(units)))
}

# Shuffled within the slice and within the rest.
slice_importances <- function(st, model, data, rows, slices, settings) {
  units <- shuffle_units(st, model, NULL)
  inside_of <- function(at) {
    part <- rows[at, , drop = FALSE]
    attr(part, "row.names") <- .set_row_names(nrow(part))
    info <- some_info(row_info(st, data), at)
    design <- shared_design(draw_donors(
      nrow(part), settings$repeats, settings$seed, info$block
    ))
    found <- estimate_units(
      open_shuffle(st, model, part),
      info,
      units,
      design,
      additive_metric(st$metric),
      "difference",
      settings$level,
      settings$seed
    )
    found <- found[names(units)]
    data.frame(
      predictor = names(units),
      importance = vapply(found, `[[`, 0, "importance"),
      std_error = vapply(found, `[[`, 0, "std_error"),
      row.names = NULL
    )
  }
  do.call(
    rbind,
    lapply(names(slices), function(s) {
      inside <- slices[[s]]
      a <- inside_of(which(inside))
      b <- inside_of(which(!inside))
      data.frame(
        slice = s,
        predictor = a$predictor,
        importance = a$importance,
        rest = b$importance,
        difference = a$importance - b$importance,
        std_error = sqrt(a$std_error^2 + b$std_error^2),
        df = min(sum(inside), sum(!inside)) - 1,
        n = sum(inside),
        n_rest = sum(!inside)
      )
    })
  )
}

# Simultaneous limits and adjusted p-values over all differences of a model and method.
settle_slices <- function(table, level) {
  known <- sum(!is.na(table$std_error))
  t <- table$difference / table$std_error
  exact <- !is.na(table$std_error) & table$std_error == 0
  p <- 2 * stats::pt(-abs(t), table$df)
  p[exact] <- ifelse(table$difference[exact] == 0, 1, 0)
  half <- stats::qt(1 - (1 - level) / 2 / max(1, known), table$df) * table$std_error
  table$lower <- table$difference - half
  table$upper <- table$difference + half
  table$p_value <- stats::p.adjust(p, "holm")
  table
}

join_slices <- function(st, parts, settings, evaluation) {
  table <- do.call(rbind, lapply(parts, `[[`, "table"))[names(slice_columns)]
  table$n <- as.integer(table$n)
  table$n_rest <- as.integer(table$n_rest)
  table$predictor <- as.character(table$predictor)
  rownames(table) <- NULL
  validate_slices(new_table(table, "slices", c(
    study_details(st, unique(stats::na.omit(table$predictor))),
    list(
      level = settings$level, seed = settings$seed, by = settings$by,
      class = if (!is.null(settings$class)) st$classes[settings$class],
      loss = loss_metric(st)$label, rows = evaluation$label,
      left_out = do.call(rbind, lapply(parts, `[[`, "left_out"))
    )
  )))
}

slice_columns <- c(
  model = "character", method = "character", slice = "character", predictor = "character",
  importance = "double", rest = "double", difference = "double", lower = "double",
  upper = "double", p_value = "double", n = "integer", n_rest = "integer", flag = "character"
)

validate_slices <- function(x) {
  check_shape(x, slice_columns, "table of slices")
  check_holds(
    all(abs(x$importance - x$rest - x$difference) <= 1e-9 * (1 + abs(x$importance))),
    "table of slices", "a difference is not that of its two values"
  )
  x
}

#' @export
as.data.frame.dreher_slices <- function(x, ...) as_plain(x)
