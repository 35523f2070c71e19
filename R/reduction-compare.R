#' Compare sets of predictors side by side
#'
#' Trains every model on each of several sets, chosen by hand or by dreher, and gives the price of
#' each, its loss less that of a reference: by cross-validation on the training rows, paired by
#' row, or on rows you give. Also answers whether new predictors are worth adding.
#'
#' @param study A [study()] with training rows. Sets may name columns of the training rows that
#'   its models do not have: they are added to what the model is trained on.
#' @param sets A named list: vectors of predictors (`character()` for none), results of
#'   [choose_set()] or [read_predictor_set()], or the words `"all"` (but those the dictionary
#'   leaves out) and `"none"`.
#' @param ... Must be empty.
#' @param reference Name of the set the others are compared with. Default: the first.
#' @param models Names of the models. Default: all.
#' @param rows Rows to score on instead of cross-validation: a data frame with the target.
#' @param margin The loss one is ready to pay, with its unit: `"2 %"` of the reference's skill,
#'   by how much it is better than the constant (default), or a number with the metric's name.
#' @param folds,repeats Folds of the cross-validation, and how often they are drawn anew.
#' @param level Level of the intervals.
#' @param seed A whole number.
#' @return A data frame of class `dreher_comparison`, one row per model and set, in your order:
#'   \describe{ \item{model, set, count, cost}{names; number of predictors; their cost by the
#'   dictionary} \item{score, lower, upper}{in the metric's unit, with its interval over rows}
#'   \item{price, price_error, price_lower, price_upper}{loss less that of the reference, paired
#'   by row; 0 for the reference} \item{skill, skill_lower, skill_upper}{fall of the loss against
#'   the constant} \item{statement}{`better`, `not worse by more than the margin`, `worse` or
#'   `inconclusive`, from one-sided limits of `level`} \item{parameters, log_likelihood, aicc,
#'   aicc_difference, weight}{for models with a likelihood, trained on all training rows: number
#'   of estimated parameters (the error variance too), log-likelihood, Akaike's criterion
#'   corrected for small samples, its difference from the least one, and Akaike weight; else `NA`}
#'   \item{predictors}{the set} }
#' @details AICc is \eqn{-2l + 2K + 2K(K+1)/(n-K-1)} (Sugiura 1978; Hurvich and Tsai 1989), `NA`
#'   where n is at most K + 1. It is compared within a model, on the same rows. A weight is not
#'   the probability that a set is right, and intervals and p values
#'   of a model chosen by it are not valid (Berk et al. 2013).
#'   Intervals of prices from cross-validation are approximate (see [reduce_predictors()]);
#'   the scores of sets chosen on the same training rows are optimistic; [choose_set()] gives
#'   their nested cross-validation score.
#' @section Errors: No training rows; sets with unknown predictors or without names; a model that
#'   cannot take new predictors (give `study(refit_with = )`).
#' @references Sugiura, N. (1978). \doi{10.1080/03610927808827599}. Hurvich, C. and Tsai, C.-L.
#'   (1989). \doi{10.1093/biomet/76.2.297}.
#'   Burnham, K. and Anderson, D. (2002). \doi{10.1007/b97636}. Berk, R. et al. (2013).
#'   \doi{10.1214/12-AOS1077}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' sets <- list(all = "all", firing = c("peak_temp", "hold_minutes"), none = "none")
#' compare_sets(st, sets, folds = 3, repeats = 1)
#' @export
compare_sets <- function(
    study, sets, ..., reference = NULL, models = NULL, rows = NULL, margin = "2 %",
    folds = NULL, repeats = 2, level = 0.95, seed = 1) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "compare_sets")
  train <- need_train(study, "Comparing sets")
  folds <- check_folds(folds, study, train)
  repeats <- check_count(repeats, "repeats")
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  margin <- check_margin(margin, study)
  chosen <- pick_models(study, models)
  if (!is.list(sets) || inherits(sets, c("dreher_set", "dreher_set_file")) ||
      !length(sets) || is.null(names(sets)) || any(!nzchar(names(sets))) ||
      anyDuplicated(names(sets))) {
    stop_input(
      "`sets` must be a list of sets, each under a name of its own.",
      paste0("Given: ", describe_value(sets), "."),
      paste0(
        "For example list(all = \"all\", mine = \"", study$predictors[1], "\")."
      )
    )
  }
  if (is.null(reference)) reference <- names(sets)[1]
  reference <- match(check_choice(reference, names(sets), "reference"), names(sets))
  test_rows <- if (!is.null(rows)) pick_rows(study, check_rows(rows, "rows"))$data
  check_can_refit(study, chosen)
  parts <- lapply(
    chosen, compare_for_model, st = study, sets = sets, reference = reference,
    test_rows = test_rows, margin = margin, folds = folds, repeats = repeats, level = level,
    seed = seed
  )
  out <- do.call(rbind, parts)
  rownames(out) <- NULL
  validate_comparison(new_comparison(
    out,
    list(
      reference = names(sets)[reference],
      target = study$target,
      metric = study$metric$name,
      metric_label = study$metric$label,
      better = study$metric$better,
      margin = margin$text,
      scored = if (is.null(test_rows)) {
        paste0(folds, " folds x ", repeats)
      } else {
        paste(format(nrow(test_rows), big.mark = ","), "rows given")
      },
      level = level,
      seed = seed,
      fingerprint = study$fingerprint
    )
  ))
}

new_comparison <- function(table, details) new_table(table, "comparison", details)

validate_comparison <- function(x) {
  columns <- c(
    model = "character", set = "character", score = "double", price = "double"
  )
  check_shape(x, columns, "comparison")
  check_holds(
    detail(x, "reference") %in% x$set, "comparison", "its reference is not a set of it"
  )
  x
}

compare_for_model <- function(
    model, st, sets, reference, test_rows, margin, folds, repeats, level, seed) {
  sets <- lapply(stats::setNames(nm = names(sets)), function(s) {
    predictors_of(sets[[s]], s, model, st)
  })
  news <- setdiff(unlist(sets), model$inputs$predictors)
  if (!is.null(test_rows)) {
    check_columns(test_rows, unique(unlist(sets)), "rows", "The predictor")
  }
  if (length(news)) model$object <- widen_model(model$object, news)
  models <- st$models
  models[[model$name]] <- model
  st <- derive_study(st, models = models)
  train <- frame_with_news(st, model, st$train, "train", news)
  with_none <- c(sets, list(character()))  # the constant, for the skill
  none <- length(with_none)
  plan <- list(refit = model$name, settings = list(seed = seed))
  if (is.null(test_rows)) {
    info <- row_info(st, train)
    predictions <- cross_validate_sets(st, plan, train, with_none, folds, repeats)
  } else {
    info <- row_info(st, test_rows)
    test <- frame_with_news(st, model, test_rows, "rows", news)
    key <- c(model$name, "compare")
    predictions <- list(score_sets(st, plan, train, test, with_none, key))
  }
  m <- curve_moments(st, info, predictions, seed, c(none, reference))
  error_between <- if (is.null(test_rows)) {
    function(a, b) price_error_of(m, a, b, folds)
  } else {
    function(a, b) difference_error(m, a, b)
  }
  df <- if (is.null(test_rows)) folds_df(list(folds = folds, repeats = repeats)) else m$df
  at <- seq_along(sets)
  own <- score_limits(
    st$metric, as_score(st$metric, m$loss[at]), sqrt(diag(m$cov)[at]), m$df, level
  )
  price <- m$loss[at] - m$loss[reference]
  error <- error_between(at, reference)
  around <- t_limits(price, error, df, level)
  skill <- t_limits(m$loss[none] - m$loss[at], error_between(at, none), df, level)
  known_cost <- function(s) sum(st$dictionary$cost[match(s, st$dictionary$predictor)])
  out <- data.frame(
    model = model$name,
    set = names(sets),
    count = lengths(sets),
    cost = vapply(sets, known_cost, 0),
    score = as_score(st$metric, m$loss[at]),
    lower = own$lower,
    upper = own$upper,
    price = price,
    price_error = error,
    price_lower = around$lower,
    price_upper = around$upper,
    skill = m$loss[none] - m$loss[at],
    skill_lower = skill$lower,
    skill_upper = skill$upper,
    statement = state_differences(
      sets,
      reference,
      price,
      error,
      around,
      price + stats::qt(level, df) * error,
      margin_value(margin, m$loss[none] - m$loss[reference])
    )
  )
  cbind(
    out,
    likelihood_of_sets(st, model, train, sets, seed),
    predictors = vapply(sets, paste, "", collapse = ", ")
  )
}

# Rows for refits that take new columns in as well.
frame_with_news <- function(st, model, data, arg, news) {
  out <- frame_of(st, model, data, arg)
  for (p in news) {
    out[[p]] <- if (is.character(st$train[[p]])) {
      factor(data[[p]], levels = sort_text(unique(st$train[[p]])))
    } else if (is.logical(data[[p]])) {
      as.double(data[[p]])
    } else {
      data[[p]]
    }
  }
  out
}

# Predictions of all training rows from sets refitted on the other folds: one array a drawing.
cross_validate_sets <- function(st, plan, train, sets, folds, repeats) {
  seed <- plan$settings$seed
  lapply(seq_len(repeats), function(t) {
    fold <- with_stream(seed, c("folds", nrow(train), t), draw_folds(st, train, folds))
    done <- map_pieces(
      as.list(seq_len(folds)),
      function(f, st, plan, train, fold, sets, key) {
        score_sets(
          st,
          plan,
          train[fold != f, , drop = FALSE],
          train[fold == f, , drop = FALSE],
          sets,
          c(key, f)
        )
      },
      st = st,
      plan = plan,
      train = train,
      fold = fold,
      sets = sets,
      key = c(plan$refit, t),
      label = "comparing sets"
    )
    out <- array(
      NA_real_,
      c(nrow(train), dim(done[[1]])[2:3]),
      list(NULL, NULL, dimnames(done[[1]])[[3]])
    )
    for (f in seq_len(folds)) out[fold == f, , ] <- done[[f]]
    out
  })
}

# around: two-sided limits of the differences; reach: one-sided upper limits; allowed: the margin
state_differences <- function(sets, reference, price, error, around, reach, allowed) {
  vapply(
    seq_along(sets),
    function(i) {
      if (i == reference) {
        ""
      } else if (is.na(error[i])) {
        "not trained"
      } else if (setequal(sets[[i]], sets[[reference]])) {
        "the same set"
      } else if (error[i] == 0) {
        ""
      } else if (allowed <= 0) {
        "inconclusive"
      } else {
        state_difference(around$lower[i], around$upper[i], reach[i], allowed)
      }
    },
    ""
  )
}

predictors_of <- function(set, name, model, st) {
  if (inherits(set, c("dreher_set", "dreher_set_file"))) set <- as.character(set)
  if (identical(set, "all")) {
    return(setdiff(
      model$inputs$predictors, st$dictionary$predictor[st$dictionary$use == "leave_out"]
    ))
  }
  if (identical(set, "none") || is.null(set)) return(character())
  if (!is.character(set) || anyNA(set)) {
    stop_input(
      paste0("Set \"", name, "\" must hold names of predictors."),
      paste0("Given: ", describe_value(set), ".")
    )
  }
  # In the model's own order: what a learner draws by chance can hang on it.
  set <- c(
    intersect(model$inputs$predictors, set), setdiff(unique(set), model$inputs$predictors)
  )
  check_columns(st$train, set, "train", paste0("In set \"", name, "\": the predictor"))
  if (st$target %in% set) {
    stop_input(
      paste0("Set \"", name, "\" holds the target \"", st$target, "\" itself."),
      todo = "Leave it out."
    )
  }
  set
}

likelihood_of_sets <- function(st, model, train, sets, seed) {
  none <- data.frame(parameters = NA_real_, log_likelihood = NA_real_, aicc = NA_real_)
  # The constant of several classes is no fit of this kind.
  sets_of <- function(set) length(set) > 0 || length(st$classes) < 3
  has <- is.null(st$refit_with[[model$name]]) && !is.null(likelihood_of(model$object))
  each <- do.call(
    rbind,
    lapply(sets, function(set) {
      l <- if (has && sets_of(set)) {
        tryCatch(
          likelihood_of(fit_on(st, model, train, set, seed, "likelihood")),
          error = function(e) NULL
        )
      }
      if (is.null(l) || !is.finite(l)) return(none)
      K <- attr(l, "df")
      n <- nrow(train)
      data.frame(
        parameters = K,
        log_likelihood = as.double(l),
        aicc = if (n > K + 1) {
          -2 * as.double(l) + 2 * K + 2 * K * (K + 1) / (n - K - 1)
        } else {
          NA_real_
        }
      )
    })
  )
  each$aicc_difference <- each$aicc - suppressWarnings(min(each$aicc, na.rm = TRUE))
  weight <- exp(-each$aicc_difference / 2)
  each$weight <- weight / sum(weight, na.rm = TRUE)
  each$aicc_difference[is.na(each$aicc)] <- NA
  each$weight[is.na(each$aicc)] <- NA
  each
}

#' @export
as.data.frame.dreher_comparison <- function(x, ...) as_plain(x)
