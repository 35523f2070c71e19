#' Do two sets of rows differ, and what does it do to the ranking?
#'
#' Compares the columns of two sets of rows one by one and together, and the models' permutation
#' importances on both.
#'
#' @param study A [study()].
#' @param rows The two sets: `c("train", "holdout")` (default), or a named list of two data frames
#'   with the columns of the study.
#' @param ... Must be empty.
#' @param models Names of the models whose rankings are compared. Default: all of them.
#'   `character()`: none.
#' @param repeats Shuffles per predictor of [rank_permutation()].
#' @param times Number of bootstrap draws behind the limits of the distances.
#' @param level Level of the limits.
#' @param seed Seed of the drawn rows and shuffles.
#' @return A data frame of class `dreher_drift`, one row per column and, in the first row, the
#'   target: \describe{ \item{predictor}{its name; `(target)` for the target} \item{distance,
#'   lower, upper}{how far the two distributions are apart, 0 to 1, with bootstrap limits: for
#'   numbers the largest difference of their cumulative shares (Kolmogorov and Smirnov), for levels
#'   half the sum of the differences of their shares (total variation). The lower limit is 0 where
#'   the p-value is above 1 - `level`} \item{expected}{what sets
#'   of these sizes show by chance, on average} \item{p_value}{Kolmogorov and Smirnov's, or the
#'   chi-squared test's; where the study has blocks, of a permutation of whole blocks}
#'   \item{p_adjusted}{the same, adjusted for so many columns (Holm 1979)} \item{first,
#'   second}{median, or the share of the level that changes most, in the two sets; `level` names
#'   it} \item{share}{the column's part in telling the two sets apart} } `summary()` returns a list:
#'   `together` (a data frame of `auc, lower, upper, n`: how well rows left out are told apart, 0.5
#'   is not at all) and `ranking` (a data frame of `model, predictor, first, second, difference,
#'   lower, upper, p_adjusted`: permutation importances on both sets), or `NULL`.
#' @details At most 3,000 rows of each set are compared, drawn by seed; the limits and p-values are
#'   those of the rows drawn. The sets are told apart by a ridge regression on bends of the columns'
#'   ranks and, with up to 12 numeric columns, on products of pairs, in five parts of the rows; the
#'   limits of the AUC are widened, for the training parts overlap (Nadeau and Bengio 2003). The
#'   difference of two importances has the standard error of independent rows. Where one set is the
#'   training rows, a part of a difference is that the model has learnt them.
#' @section Errors: No training rows where they are asked for; rows without the columns of the
#'   models.
#' @references Holm, S. (1979). A simple sequentially rejective multiple test procedure.
#'   \doi{10.2307/4615733}. Smirnov, N. (1948). \doi{10.1214/aoms/1177730256}. DeLong, E. R.,
#'   DeLong, D. M. and Clarke-Pearson, D. L. (1988). \doi{10.2307/2531595}. Nadeau, C. and
#'   Bengio, Y. (2003). \doi{10.1023/A:1024068626366}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' find_drift(st)
#' @export
find_drift <- function(
    study, rows = c("train", "holdout"), ..., models = NULL, repeats = 10, times = 200,
    level = 0.95, seed = 1) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "find_drift")
  picked <- if (identical(models, character())) list() else pick_models(study, models)
  repeats <- check_count(repeats, "repeats")
  times <- check_count(times, "times", least = 20)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  sets <- pick_two_sets(study, rows)
  columns <- setdiff(
    intersect(names(sets[[1]]$data), names(sets[[2]]$data)),
    c(study$target, study$weights, study$blocks)
  )
  between <- derive_study(
    study, train = sets[[1]]$data, data = sets[[2]]$data, seen = FALSE
  )
  table <- check_table(between, columns, seed)
  compared <- compare_columns(table, between, times, level, seed)
  together <- tell_apart(table, between, level, seed)
  at <- match(compared$predictor, names(together$shares))
  compared$share <- as.double(together$shares[at])
  ranked <- if (length(picked)) {
    tryCatch(
      compare_importances(study, sets, names(picked), repeats, level, seed),
      dreher_error = function(e) {
        warn_dreher(
          "drift", paste0("The importances could not be compared: ", conditionMessage(e)),
          "The comparison of the columns stands."
        )
        NULL
      }
    )
  }
  compared <- compared[order(-(compared$distance - compared$expected), na.last = TRUE), ]
  rownames(compared) <- NULL
  validate_drift(new_drift(compared, list(
    sets = names(sets), n = table$n, sampled = table$sampled, together = together$auc,
    ranking = ranked, target = study$target, level = level, seed = seed,
    labels = labels_of(study, columns),
    of_time = vapply(table$columns, `[[`, "", "of_time"),
    learnt = any(vapply(sets, function(s) holds_training_rows(study, s), NA)),
    fingerprint = study$fingerprint
  )))
}

new_drift <- function(table, details) new_table(table, "drift", details)

validate_drift <- function(x) {
  check_shape(
    x,
    c(
      predictor = "character", distance = "double", lower = "double", upper = "double",
      expected = "double", p_value = "double", p_adjusted = "double", first = "double",
      second = "double", level = "character", share = "double"
    ),
    "table of drift"
  )
  check_holds(
    within_limits(x$distance, x$lower, x$upper), "table of drift", "a distance lies outside"
  )
  check_holds(!anyDuplicated(x$predictor), "table of drift", "a column stands twice")
  x
}

#' @export
summary.dreher_drift <- function(object, ...) {
  list(together = detail(object, "together"), ranking = detail(object, "ranking"))
}

# Two sets of rows, by name.
pick_two_sets <- function(st, rows) {
  sets <- if (is.character(rows)) {
    lapply(rows, function(r) pick_rows(st, r))
  } else {
    pick_several_rows(st, rows)
  }
  if (length(sets) != 2) {
    stop_input(
      "`rows` must name two sets of rows.",
      paste0("Given: ", length(sets), "."),
      "For example c(\"train\", \"holdout\"), or list(spring = a, autumn = b)."
    )
  }
  labels <- vapply(sets, `[[`, "", "label")
  if (anyDuplicated(labels)) {
    stop_input(
      "`rows` names the same rows twice.",
      if (isTRUE(st$seen)) "The rows of the study are training rows.",
      "Give two sets of rows, for example list(spring = a, autumn = b)."
    )
  }
  stats::setNames(sets, labels)
}

# Are these the training rows, or mostly rows of them?
holds_training_rows <- function(st, rows) {
  if (rows$kind == "train") return(TRUE)
  if (is.null(st$train)) return(FALSE)
  known <- find_known_rows(rows$data, st$train)
  known$beyond && known$count > nrow(rows$data) / 2
}

# --- what it does to the ranking ---------------------------------------------------------------

compare_importances <- function(st, sets, models, repeats, level, seed) {
  found <- lapply(sets, function(s) {
    s$kind <- "given"   # with errors, for training rows too
    rk <- rank_permutation(
      derive_study(st, seen = FALSE),
      rows = given_rows(s), models = models, repeats = repeats, level = level, seed = seed
    )
    as_plain(rk)[is.na(rk$class), c("model", "predictor", "importance", "std_error")]
  })
  both <- merge(
    found[[1]], found[[2]], by = c("model", "predictor"), suffixes = c("_first", "_second"),
    sort = FALSE
  )
  difference <- both$importance_second - both$importance_first
  error <- sqrt(both$std_error_first^2 + both$std_error_second^2)
  half <- stats::qnorm((1 + level) / 2) * error
  p_value <- 2 * stats::pnorm(-abs(difference) / ifelse(error > 0, error, NA))
  out <- data.frame(
    model = both$model, predictor = both$predictor, first = both$importance_first,
    second = both$importance_second, difference = difference, lower = difference - half,
    upper = difference + half, p_adjusted = stats::p.adjust(p_value, "holm")
  )
  out[order(match(out$model, models), -abs(out$difference)), ]
}
