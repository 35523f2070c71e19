#' Confirm a chosen set on rows nobody has touched
#'
#' Trains the model once with all and once with the chosen predictors, on all training rows, and
#' compares both on rows that took part in nothing so far.
#'
#' @param set A result of [choose_set()], or of [read_predictor_set()].
#' @param rows Untouched rows with the target and the predictors: a data frame, rows of
#'   [open_rows()], or the path of a folder of Parquet files.
#' @param ... Must be empty.
#' @param margin The loss one is ready to pay, with its unit, fixed before looking: `"2 %"`
#'   (default) of what all predictors gained over a constant in the cross-validation, or a number
#'   with the metric's name, as `"0.4 rmse"`.
#' @param study For a set read from a file: the [study()] whose model is trained.
#' @param again TRUE: these rows were confirmed on before, and one knows what a second look is
#'   worth. The result counts the looks.
#' @param overlap `"refuse"` (default): rows that are training rows, more than chance explains,
#'   are an error. `"allow"`: different cases are known to share all their values.
#' @param level Level: the two-sided interval has this level; the statement rests on the one-sided
#'   limit of the same level.
#' @param seed Seed of the two fits; default the reduction's.
#' @return A list of class `dreher_confirmation`: `statement` (one of `better`, `not worse by more
#'   than the margin`, `worse`, `inconclusive`, or `the same set` where nothing was left out;
#'   better and worse where the two-sided interval leaves out zero), `price` (loss of the small
#'   less that of the full model), `price_error`, `price_lower`, `price_upper` (two-sided),
#'   `limit` (one-sided upper), `margin`, `score_small`, `score_full`, `score_constant`, `skill`,
#'   `skill_lower`, `skill_upper` (small model over the constant), `n`, `rows` (`untouched`, or
#'   `holdout` where most of them are the study's), `rarest` (rows of the rarer of two classes,
#'   where the limits rest on them), `n_needed`, about how many rows would settle it, and `looks`,
#'   how often these rows have been confirmed on: in this session and, for a set from a file, by
#'   what is kept in it and in `looks.json` beside it. `as.data.frame()` gives one row.
#' @details Paired differences of influences (methods: Hoeffding 1948; DeLong et al. 1988 for AUC),
#'   with limits adjusted for skewness (Hall 1992) and, for classes, with the degrees of freedom of
#'   the variance by class (Satterthwaite 1946), as a rare class may make up most of it; for
#'   accuracy the score limits of a difference of paired shares (Tango 1998). Where one of two
#'   classes has fewer than 10 rows nothing is claimed (but for accuracy): `inconclusive`.
#'   Non-inferior when the one-sided upper limit is below the margin (Piaggio et al. 2012). Where
#'   the loss is exactly the margin and a class has a share of 3 % this was said wrongly in at
#'   most 7 % of simulated samples (`bench/confirm.R`). `n_needed` is \eqn{(1.645 + 0.842)^2 s^2 /
#'   margin^2}: enough to show it with 80 % probability if nothing was lost.
#' @section Errors: Rows that are training rows, more than chance explains (training rows that
#'   repeat each other show how often new ones would); rows that were confirmed on before, unless
#'   `again = TRUE` (a second look is a choice among looks);
#'   columns that are missing; a margin without a unit.
#' @references Piaggio, G. et al. (2012). Reporting of noninferiority and equivalence randomized
#'   trials. \doi{10.1001/jama.2012.87802}
#'   Tango, T. (1998). Equivalence test and confidence interval for the difference in proportions
#'   for the paired-sample design. Statistics in Medicine 17, 891-908.
#'   Satterthwaite, F. (1946). \doi{10.2307/3002019}
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' ps <- choose_set(reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2))
#' confirm_set(ps, kiln$untouched)
#' @export
confirm_set <- function(
    set, rows, ..., margin = "2 %", again = FALSE, overlap = "refuse", study = NULL,
    level = 0.95, seed = NULL) {
  set <- set_of_study(set, study)
  check_no_dots(..., .verb = "confirm_set")
  level <- check_fraction(level, "level")
  seed <- if (is.null(seed)) set$seed else check_seed(seed)
  check_flag(again, "again")
  overlap <- check_choice(overlap, c("refuse", "allow"), "overlap")
  st <- set$study
  model <- st$models[[set$refit]]
  asked <- check_margin(margin, st)
  need_skill(asked, set)
  margin <- margin_value(asked, set$skill_full)
  untouched <- untouched_rows(st, rows)
  looked_at <- check_untouched(st, untouched, overlap)
  fingerprint <- rows_print(st, untouched)
  before <- refuse_second_look(set, fingerprint, nrow(untouched$roles), again)

  universe <- union(set$predictors, set$left_out)
  small <- fit_and_predict(st, model, set$predictors, untouched, seed)
  full <- fit_and_predict(st, model, universe, untouched, seed)
  constant <- fit_and_predict(st, model, character(), untouched, seed)
  info <- row_info(st, untouched$roles)
  d <- paired_difference(st, info, small, full, level, seed)
  skill <- loss_with_error(st$metric, info, constant, small, seed)
  score <- function(p) metric_score(st$metric, info$truth, p, info$weight)
  skill_limits <- t_limits(skill$loss, skill$std_error, skill$df, level)
  n <- nrow(untouched$roles)
  statement <- if (setequal(set$predictors, universe)) {
    "the same set"
  } else {
    state_difference(d$lower, d$upper, d$limit, margin, d$rarest)
  }
  n_needed <- ceiling(
    (stats::qnorm(level) + stats::qnorm(0.8))^2 * d$std_error^2 * n / margin^2
  )
  validate_confirmation(new_confirmation(
    list(
      statement = statement, model = set$model, refit = set$refit,
      predictors = set$predictors, full_count = length(universe),
      price = d$loss, price_error = d$std_error, price_lower = d$lower,
      price_upper = d$upper,
      limit = d$limit,
      rarest = d$rarest,
      margin = margin,
      score_small = score(small), score_full = score(full),
      score_constant = score(constant),
      skill = skill$loss, skill_lower = skill_limits$lower, skill_upper = skill_limits$upper,
      n = n,
      rows = if (looked_at) "holdout" else "untouched",
      n_needed = n_needed,
      looks = note_look(set, fingerprint, n, statement, before),
      margin_text = asked$text,
      target = st$target, seed = seed, metric = st$metric$name,
      metric_label = st$metric$label, better = st$metric$better, level = level
    )
  ))
}

# Rows in memory or in a store: list(data or store, roles: target, weights and blocks of all).
untouched_rows <- function(st, rows) {
  if (is.character(rows) && length(rows) == 1) rows <- open_rows(rows)
  if (!is_store(rows)) {
    data <- pick_rows(st, check_rows(rows, "rows"), judge = FALSE)$data
    return(list(data = data, roles = data))
  }
  check_columns(rows$columns, st$target, "rows", "The target")
  named <- intersect(c(st$target, st$weights, st$blocks), names(rows$columns))
  list(
    store = rows,
    roles = pick_rows(st, store_rows(rows, 1, rows$rows, named), judge = FALSE)$data
  )
}

# A margin in percent is one of what all predictors gain over the constant.
need_skill <- function(asked, set) {
  if (!is.null(asked$value) || set$skill_full > 0) return(invisible())
  stop_study(
    paste0(
      "All predictors together are not better than a constant, so no margin follows ",
      "from their skill."
    ),
    todo = paste0(
      "Give `margin` in the metric's unit, as \"0.4 ", set$study$metric$name, "\"."
    )
  )
}

# Predictions of rows by the model trained on all training rows and these predictors.
fit_and_predict <- function(st, model, predictors, untouched, seed) {
  train <- training_frame(st, model)
  if (!length(predictors)) return(predict_constant(st, nrow(untouched$roles), train))
  fit <- fit_on(st, model, train, predictors, seed, "confirm")
  say <- function(rows, arg) {
    predict_fit(st, model, fit, model_rows(st, model, rows, arg), predictors)
  }
  if (is.null(untouched$store)) return(say(untouched$data, "rows"))
  gather_batches(untouched$store, columns_for(st, model), function(rows, from) {
    say(rows, batch_name("rows", from, nrow(rows)))
  })
}

new_confirmation <- function(fields) new_record(fields, "confirmation")

least_of_class <- 10

confirmation_statements <- c(
  "better", "not worse by more than the margin", "worse", "inconclusive", "the same set"
)

validate_confirmation <- function(x) {
  fields <- c(
    statement = "character", predictors = "character", price = "double",
    price_error = "double", price_lower = "double", price_upper = "double", margin = "double",
    n = "integer"
  )
  check_shape(x, fields, "confirmation")
  check_holds(
    x$statement %in% confirmation_statements, "confirmation", "its statement is not known"
  )
  check_holds(
    within_limits(x$price, x$price_lower, x$price_upper),
    "confirmation",
    "its price lies outside"
  )
  x
}

# lower, upper: the two-sided limits, which a better or worse must leave zero out of; limit: the
# one-sided one, held against the margin; rarest: rows of the rarest class. From too few of them
# nothing is claimed.
state_difference <- function(lower, upper, limit, margin, rarest = NA) {
  if (isTRUE(rarest < least_of_class)) "inconclusive"
  else if (upper < 0) "better"
  else if (limit < margin) "not worse by more than the margin"
  else if (lower > 0) "worse"
  else "inconclusive"
}

# Rows that took part in the fit confirm nothing; rows that were only looked at, the study's holdout
# rows, confirm less: TRUE for these. More must be known than chance explains (see
# find_known_rows()).
check_untouched <- function(st, untouched, overlap) {
  n <- nrow(untouched$roles)
  known <- known_among(untouched, st$train)
  if (known$beyond && overlap == "refuse") {
    stop_input(
      paste0(
        known$count, " of the ", n,
        " rows given as `rows` are training rows of the study, more than chance explains."
      ),
      paste0("Chance would give about ", signif(known$by_chance, 2), "."),
      todo = paste0(
        "Confirm on rows that took part in nothing so far. If different cases share ",
        "all their values, say overlap = \"allow\"."
      )
    )
  }
  known <- known_among(untouched, st$data)
  looked_at <- known$beyond && known$count > n / 2 && !isTRUE(st$seen)
  if (looked_at) {
    warn_dreher(
      "rows",
      paste0(
        known$count, " of the ", n,
        " rows given as `rows` are the study's holdout rows."
      ),
      paste0(
        "The reduction did not see them, but whoever looked at scores and rankings ",
        "did; untouched rows are better."
      )
    )
  }
  looked_at
}

# Of a store batch by batch: a row is known whatever comes with it.
known_among <- function(untouched, known) {
  if (is.null(untouched$store)) return(find_known_rows(untouched$data, known))
  found <- list(count = 0, by_chance = 0)
  each_batch(untouched$store, names(untouched$store$columns), function(rows, from) {
    batch <- find_known_rows(rows, known)
    found <<- list(
      count = found$count + batch$count, by_chance = found$by_chance + batch$by_chance,
      share = batch$share
    )
  })
  found$beyond <- found$count > stats::qbinom(0.99, untouched$store$rows, found$share)
  found
}

rows_print <- function(st, untouched) {
  store <- untouched$store
  if (is.null(store)) {
    return(table_print(
      untouched$data[intersect(names(untouched$data), c(st$target, st$predictors))]
    ))
  }
  named <- intersect(names(store$columns), c(st$target, st$predictors))
  print_of_store(store, named)
}

#' @export
as.data.frame.dreher_confirmation <- function(x, ...) {
  x$predictors <- paste(x$predictors, collapse = ", ")
  as.data.frame(unclass(x), stringsAsFactors = FALSE)
}
