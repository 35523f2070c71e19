#' What each predictor contributes to single predictions
#'
#' Shapley values row by row: the distance of each prediction from the baseline, divided among the
#' predictors; overall in which direction and shape, and for one row as reasons for and against.
#'
#' @inheritParams rank_shapley
#' @param rows `"holdout"` (default), `"train"`, or a data frame of rows, with or without the
#'   target.
#' @param which Numbers of the rows to explain. Default: all; at most 200 drawn by seed where the
#'   values are sampled (see `exact` below).
#' @param classes Classes whose probability is divided. Default: the positive class of two, all of
#'   several.
#' @param against What the prediction is set against instead of the baseline: the number of another
#'   row (its values then stand for "not known", and its prediction is the baseline), or the name of
#'   another class (what is divided is then the difference of the two probabilities).
#' @return A data frame of class `dreher_contributions`, a row per predictor of each row, class
#'   and model: `model`; `class`; `row`, its number in `rows`; `predictor` (or group); `value`, as
#'   text; `below`, the share of the training rows (without them, of `rows`) whose value is
#'   smaller, for numbers and dates; `alike`, the share with the same level, else; `contribution`,
#'   in units of the prediction or of its link; `std_error`, `lower`, `upper`, where the values are
#'   sampled (else `NA`: they are exact); `baseline` and `prediction`, on the same scale: the
#'   contributions of a row add up to the second less the first, which is checked as it runs.
#'   `summary()` gives per predictor the mean contribution, the
#'   mean size, the rank correlation with the value, the direction, and the median contribution in
#'   each fifth of the rows, from the `lowest` values to the `highest` (`NA` for levels).
#' @details Definitions, value functions and algorithms are those of [rank_shapley()]: exact for
#'   trees and for sums of terms, and for any model of up to 8 predictors; beyond that, pairs of an
#'   order and its reverse are sampled. A contribution says what the model does with the row, not
#'   what would happen if the value were changed in the world.
#'
#' *Direction:* `rises` and `falls` where the rank correlation of value and contribution is shown
#' to differ from zero and is at least 0.5 in size; `bends` where the medians of the five bins
#' turn once, `mixed` else.
#' @section Errors: Row numbers that are not there; a class that is not known; `against` another
#'   class for a number; those of [rank_shapley()].
#' @references See [rank_shapley()].
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' co <- contributions(st)
#' co
#' plot(co)
#' contributions(st, which = 12)
#' @export
contributions <- function(
    study, ..., models = NULL, rows = "holdout", which = NULL, classes = NULL, groups = NULL,
    value = "background", background = 100, against = NULL, scale = "auto",
    precision = 0.02, max_pairs = 500, level = 0.95, seed = 1, threads = NULL) {
  own_settings()
  plan <- plan_contributions(
    study, ..., models = models, rows = rows, which = which, classes = classes,
    groups = groups, value = value, background = background, against = against,
    scale = scale, precision = precision, max_pairs = max_pairs, level = level, seed = seed,
    threads = threads
  )
  cells <- sum(vapply(plan$jobs, function(job) {
    length(job$chosen) * as.double(length(job$units)) * job$outputs
  }, 0))
  if (cells > most_cells_at_once) {
    stop_input(
      paste0(
        "These are ", format(cells, big.mark = ",", scientific = FALSE),
        " contributions, more than fit in one table."
      ),
      todo = "Write them with write_contributions(), or name rows in `which`."
    )
  }
  parts <- list()
  each_contributions(plan, function(part) parts <<- c(parts, list(part)))
  join_contributions(plan, parts)
}

most_cells_at_once <- 1e7

# All that is asked of contributions(), checked. -> list(st, level, seed, value, background, jobs:
# a model each)
plan_contributions <- function(
    study, ..., models, rows, which, classes, groups, value, background, against, scale,
    precision, max_pairs, level, seed, threads) {
  st <- open_ranking(study, "contributions", ..., threads = threads)
  value <- check_choice(value, c("background", "cover"), "value")
  scale <- check_choice(scale, c("auto", "prediction", "link"), "scale")
  limits <- list(
    scale = scale,
    precision = check_fraction(precision, "precision"),
    max_pairs = check_count(max_pairs, "max_pairs", least = 20)
  )
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  models <- pick_models(st, models)
  classes <- pick_classes(st, classes)
  data <- explained_rows(st, rows)
  n <- data$n
  which <- check_which(which, n)
  against <- check_against(st, against, n, value, classes)
  if (value == "cover") for (m in models) check_cover(st, m, scale)
  others <- if (value == "cover") {
    NULL
  } else if (!is.null(against) && !against_class(against)) {
    take_explained(data, against)
  } else {
    draw_background(st, background, seed)
  }
  jobs <- lapply(models, function(m) {
    units <- shapley_units(st, m, groups)
    way <- shapley_way(m, scale, length(units))
    list(
      model = m, units = units, way = way, outputs = max(1, length(classes)),
      chosen = choose_rows(which, n, way, seed)
    )
  })
  list(
    st = st, jobs = jobs, data = data, others = others, classes = classes,
    against = against, value = value, limits = limits, level = level, seed = seed
  )
}

# Rows to explain; they may lack the target.
explained_rows <- function(st, rows) {
  if (is.data.frame(rows)) {
    rows <- check_rows(rows, "rows")
    rows <- as_in_study(rows, st, "rows")
    return(list(data = rows, n = nrow(rows), label = "given"))
  }
  picked <- pick_rows(st, rows)
  n <- if (is.null(picked$store)) nrow(picked$data) else picked$store$rows
  list(data = picked$data, store = picked$store, n = n, label = picked$label)
}

# Some of the rows to explain, by their numbers.
take_explained <- function(data, numbers) {
  if (!is.null(data$store)) {
    order <- order(numbers)
    return(pick_from_store(data$store, numbers[order])[order(order), , drop = FALSE])
  }
  data$data[numbers, , drop = FALSE]
}

check_which <- function(which, n) {
  if (is.null(which)) return(NULL)
  fits <- is.numeric(which) && !is.object(which) && length(which) && !anyNA(which) &&
    all(which == round(which)) && all(which >= 1 & which <= n)
  if (!fits) {
    odd <- if (is.numeric(which)) {
      setdiff(unclass(which), seq_len(n))
    }
    stop_input(
      paste0("`which` must be numbers of rows, from 1 to ", format(n, big.mark = ","), "."),
      paste0("Given: ", if (length(odd)) {
        paste(format(utils::head(odd, 3)), collapse = ", ")
      } else {
        describe_value(which)
      }, ".")
    )
  }
  unique(as.integer(which))
}

check_against <- function(st, against, n, value, classes) {
  if (is.null(against)) return(NULL)
  if (is.numeric(against)) {
    if (value == "cover") {
      stop_input(
        "`against` a row takes that row's values for \"not known\", not the cover.",
        todo = "Leave `value` out."
      )
    }
    return(check_count(against, "against", most = n))
  }
  if (st$task == "regression") {
    stop_input(
      paste0(
        "`against` must be the number of a row: \"", st$target,
        "\" is a number and has no classes."
      ),
      paste0("Given: ", describe_value(against), ".")
    )
  }
  against <- match(check_choice(against, st$classes, "against"), st$classes)
  if (against %in% classes && length(classes) == 1) {
    stop_input(
      "`against` is the class that is explained itself.",
      todo = "Name another class, in `classes` or in `against`."
    )
  }
  structure(against, kind = "class")
}

against_class <- function(against) identical(attr(against, "kind"), "class")

choose_rows <- function(which, n, way, seed) {
  if (!is.null(which)) return(which)
  if (way != "sampled" || n <= 200) return(seq_len(n))
  sort(with_stream(seed, c("rows", n), sample.int(n, 200)))
}

# Calls visit(part) for the rows of every model, block by block.
each_contributions <- function(plan, visit, cells = 1e5) {
  st <- plan$st
  for (job in plan$jobs) {
    size <- max(1, floor(cells / (length(job$units) * job$outputs)))
    for (some in split(job$chosen, (seq_along(job$chosen) - 1) %/% size)) {
      data <- take_explained(plan$data, some)
      attr(data, "row.names") <- .set_row_names(nrow(data))
      rows <- model_rows(st, job$model, data, "rows")
      bg <- if (!is.null(plan$others)) model_rows(st, job$model, plan$others, "background")
      values <- divide_rows(st, job$model, job$units, rows, bg, plan$limits, plan$seed)
      visit(table_of_contributions(plan, job, rows, some, values))
    }
  }
}

# Long, row by row, predictor by predictor, class by class.
table_of_contributions <- function(plan, job, rows, numbers, values) {
  st <- plan$st
  outputs <- outputs_of(plan, job$model, values)
  n <- length(numbers)
  p <- length(job$units)
  value <- as.vector(t(vapply(
    job$units, function(u) unit_values(rows, u), character(n)
  )))
  if (n == 1) value <- vapply(job$units, function(u) unit_values(rows, u), "")
  tables <- lapply(outputs, function(out) {
    std_error <- if (is.null(out$std_error)) {
      rep(NA_real_, n * p)
    } else {
      as.vector(t(out$std_error))
    }
    contribution <- as.vector(t(out$phi))
    df <- if (is.null(values$pairs)) 1 else rep(pmax(values$pairs - 1, 1), each = p)
    half <- stats::qt((1 + plan$level) / 2, df) * std_error
    data.frame(
      model = job$model$name,
      class = out$class,
      row = rep(numbers, each = p),
      predictor = rep(names(job$units), n),
      value = value,
      contribution = contribution,
      std_error = std_error,
      lower = contribution - half,
      upper = contribution + half,
      baseline = out$baseline,
      prediction = rep(out$baseline + out$target, each = p)
    )
  })
  table <- do.call(rbind, tables)
  list(
    table = table, rows = rows, numbers = numbers, scale = values$scale,
    model = job$model$name, short = sum(values$short)
  )
}

# What is divided: a number, the classes asked for, or the difference of two classes. -> list of
# list(class, phi: rows x units, std_error or NULL, baseline, target)
outputs_of <- function(plan, model, values) {
  K <- dim(values$phi)[3]
  n <- dim(values$phi)[1]
  slice <- function(x, k) matrix(x[, , k], n)
  classes <- plan$st$classes
  one <- function(k, class) {
    list(
      class = class, phi = slice(values$phi, k),
      std_error = if (!is.null(values$std_error)) slice(values$std_error, k),
      baseline = values$baseline[k], target = values$target[, k]
    )
  }
  if (plan$st$task == "regression") return(list(one(1, NA_character_)))
  if (K == 1) {
    # one output stands for the positive class; the other is its mirror
    return(lapply(plan$classes, function(k) {
      positive <- k == plan$st$positive
      out <- one(1, classes[k])
      link <- values$scale != "probability"
      if (!positive) {
        out[c("phi", "target")] <- lapply(out[c("phi", "target")], `-`)
        out$baseline <- if (link) -out$baseline else 1 - out$baseline
      }
      if (against_class(plan$against)) set_against_mirror(out, classes, k, link) else out
    }))
  }
  lapply(setdiff(plan$classes, if (against_class(plan$against)) plan$against), function(k) {
    out <- one(k, classes[k])
    if (!against_class(plan$against)) return(out)
    other <- one(plan$against, "")
    out$class <- paste(classes[k], "rather than", classes[plan$against])
    for (f in c("phi", "baseline", "target")) out[[f]] <- out[[f]] - other[[f]]
    if (!is.null(out$std_error)) {
      out$std_error <- out$std_error + other$std_error  # an upper limit
    }
    out
  })
}

# Of two classes the difference is twice one's distance from even.
set_against_mirror <- function(out, classes, k, link) {
  out$class <- paste(classes[k], "rather than", classes[-k])
  for (f in c("phi", "target")) out[[f]] <- 2 * out[[f]]
  out$baseline <- if (link) 2 * out$baseline else 2 * out$baseline - 1
  if (!is.null(out$std_error)) out$std_error <- 2 * out$std_error
  out
}

# A unit's values as text; of several predictors one after the other.
unit_values <- function(rows, unit) {
  text <- lapply(unit, function(p) {
    x <- rows[[p]]
    out <- if (is.numeric(x) && !is.object(x)) as.character(x) else value_text_of(x)
    out[is.na(x)] <- "missing"
    out
  })
  if (length(unit) == 1) text[[1]] else do.call(paste, c(text, sep = ", "))
}

value_text_of <- function(x) {
  if (inherits(x, c("Date", "POSIXct"))) value_text(x) else as.character(x)
}

join_contributions <- function(plan, parts) {
  table <- as.data.frame(data.table::rbindlist(lapply(parts, `[[`, "table")))
  table <- place_values(plan, table, parts)
  st <- plan$st
  predictors <- unique(table$predictor)
  models <- vapply(parts, `[[`, "", "model")
  scale <- vapply(parts, `[[`, "", "scale")[!duplicated(models)]
  validate_contributions(new_contributions(table, c(
    study_details(st, predictors),
    list(
      units = units_of(st, predictors),
      level = plan$level,
      seed = plan$seed,
      value = plan$value,
      background = if (is.null(plan$others)) NA_integer_ else nrow(plan$others),
      doubtful = models_in_doubt(st, st$models[unique(table$model)]),
      rows = plan$data$label,
      of = plan$data$n,
      against = if (is.null(plan$against) || against_class(plan$against)) {
        NA_integer_
      } else {
        as.integer(plan$against)
      },
      scale = stats::setNames(scale, unique(models)),
      way = vapply(plan$jobs, `[[`, "", "way"),
      unconverged = sum(vapply(parts, function(p) as.integer(p$short), 1L)),
      shown = values_for_figures(plan, parts),
      truth = truth_text(st, plan)
    )
  )))
}

# Where each value lies in the data: the share of rows below it, or of its level.
place_values <- function(plan, table, parts) {
  known <- if (is.null(plan$st$train)) plan$data$data else plan$st$train
  held <- values_for_figures(plan, parts)
  below <- alike <- rep(NA_real_, nrow(table))
  for (at in split(seq_len(nrow(table)), paste(table$model, table$predictor, sep = "\r"))) {
    p <- table$predictor[at[1]]
    x <- known[[p]]
    rows <- held[[table$model[at[1]]]]
    v <- rows$data[[p]][match(table$row[at], rows$rows)]
    if (is.null(x) || is.null(v)) next
    if (is.numeric(x) || inherits(x, c("Date", "POSIXct"))) {
      x <- sort(as.double(x))
      below[at] <- findInterval(as.double(v), x, left.open = TRUE) / length(x)
    } else {
      of <- as.character(x)
      alike[at] <- tabulate(match(of, unique(of)), length(unique(of)))[
        match(as.character(v), unique(of))
      ] / length(of)
    }
  }
  cbind(
    table[c("model", "class", "row", "predictor", "value")], below = below, alike = alike,
    table[c("contribution", "std_error", "lower", "upper", "baseline", "prediction")]
  )
}

# The values themselves, as numbers or levels, for bins and figures: model by model a data frame of
# the rows, in the order of the table.
values_for_figures <- function(plan, parts) {
  by_model <- split(parts, factor(vapply(parts, `[[`, "", "model"), unique(
    vapply(parts, `[[`, "", "model")
  )))
  lapply(by_model, function(of) {
    data <- as.data.frame(data.table::rbindlist(lapply(of, `[[`, "rows"), use.names = TRUE))
    list(rows = unlist(lapply(of, `[[`, "numbers")), data = data)
  })
}

truth_text <- function(st, plan) {
  y <- (if (is.null(plan$data$store)) plan$data$data else st$roles)[[st$target]]
  if (is.null(y)) return(NULL)
  if (is.numeric(y)) y else as.character(y)
}

new_contributions <- function(table, details) new_table(table, "contributions", details)

contribution_columns <- c(
  model = "character", class = "character", row = "integer", predictor = "character",
  value = "character", below = "double", alike = "double", contribution = "double",
  std_error = "double", lower = "double", upper = "double", baseline = "double",
  prediction = "double"
)

validate_contributions <- function(x) {
  check_shape(x, contribution_columns, "table of contributions")
  check_holds(all(is.finite(x$contribution)), "table of contributions", "one is not finite")
  key <- paste(x$model, x$class, x$row, sep = "\r")
  sums <- rowsum(x$contribution, key, reorder = FALSE)
  whole <- (x$prediction - x$baseline)[!duplicated(key)]
  check_holds(
    all(abs(sums - whole) <= 1e-7 * (1 + max(abs(whole)))), "table of contributions",
    "the contributions of a row do not add up"
  )
  x
}

#' @export
as.data.frame.dreher_contributions <- function(x, ...) as_plain(x)
