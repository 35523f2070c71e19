#' Can the models' importances be interpreted? Scores beside a constant and one predictor
#'
#' Scores every model of a study on the holdout rows, with an interval, beside what a constant
#' prediction scores, what the best single predictor scores, and the score on the training rows;
#' and says of each model whether its importances can be interpreted.
#'
#' @param study A [study()].
#' @param ... Must be empty.
#' @param level Level of the intervals.
#' @param seed Seed of the blocks of the jackknife and of the folds that choose the predictor.
#' @return A data frame of class `dreher_scores`, one row per model: \describe{ \item{model,
#'   metric, better}{the model, the metric, and which direction of it is better} \item{score,
#'   std_error, lower, upper}{score on the holdout rows in the metric's unit, with a t interval
#'   from the rows' influences on the score (for a metric of your own: jackknife over 10 blocks);
#'   of the accuracy Wilson's limits; `NA` where the rows tell no error, as without any loss}
#'   \item{constant}{score of the constant prediction (mean or median of the training target, or
#'   its class shares) on the same rows} \item{skill, skill_lower, skill_upper}{how much better than
#'   the constant, positive is better, paired by row} \item{alone, alone_predictor}{score of the one
#'   predictor that tells most of the target alone, and its name: the target's mean, or class
#'   shares, in 20 bins or per level of the training rows; chosen on the training rows}
#'   \item{gain, gain_lower, gain_upper}{how much better than that the model is, paired by row}
#'   \item{train_score}{score on the training rows, `NA` without them or where the model cannot
#'   predict some of them; it is optimistic} \item{n}{number of holdout rows} \item{flag}{`no
#'   skill` where the interval of the skill reaches 0 or below; `training rows` where the study's
#'   rows are those the models were trained on: their scores are optimistic and have no interval
#'   (`NA`)} \item{verdict}{a sentence: can its importances be interpreted, and if not why} }
#'   Columns `alone` to `gain_upper` are `NA` without training rows.
#'
#'   `summary()` returns a list of data frames: \describe{ \item{metrics}{every metric that fits the
#'   target: `model, metric, better, score, lower, upper, constant`} \item{pairs}{models two by two
#'   on the same rows: `model, other, difference, lower, upper`; positive: `model` is better}
#'   \item{gap}{`model, holdout, train, gap, lower, upper`: how much better on training rows}
#'   \item{confusion}{`model, truth, predicted, count, share` (of the true class)}
#'   \item{calibration}{`model, class, mean, observed, lower, upper, n` in up to ten bins of the
#'   prediction: for classes the share of rows that are of the class, with Wilson's limits; for
#'   numbers the mean target, with t limits} \item{slopes}{`model, class, slope, lower, upper`: of
#'   the truth on the prediction (for classes logistic, on the log-odds); 1 is calibrated, below 1
#'   the predictions are too extreme} \item{residuals}{numbers: `model, mean` (of the prediction),
#'   `bias, lower, upper, spread, n`: mean and root mean square of truth less prediction, by size of
#'   the prediction} \item{trees}{models of trees: `model, trees, score, lower, upper` on the
#'   holdout rows with the first trees alone; of rows on disk, on those in memory} } What does not
#'   apply is `NULL`.
#' @section Reading the result:
#' Importances of a model that is not better than a constant describe noise. Those of one that is
#' not better than a single predictor say little more than that predictor.
#' @references Brown, L., Cai, T. and DasGupta, A. (2001), Wilson's limits.
#'   \doi{10.1214/ss/1009213286}. Cox, D. R. (1958), slopes. \doi{10.1093/biomet/45.3-4.562}.
#'   DeLong, E. R., DeLong, D. M. and Clarke-Pearson, D. L. (1988). \doi{10.2307/2531595}.
#'   Efron, B. (1982). The jackknife, the bootstrap and other resampling plans.
#'   \doi{10.1137/1.9781611970319}
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate, kiln$train)
#' scores <- score_models(study(fit, kiln$holdout, "strength", train = kiln$train))
#' scores
#' summary(scores)$metrics
#' @export
score_models <- function(study, ..., level = 0.95, seed = 1) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "score_models")
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  info <- whole_info(study)
  said <- lapply(study$models, function(m) predict_whole(study, m))
  rows <- lapply(study$models, function(m) {
    score_one(study, m, said[[m$name]], info, level, seed)
  })
  out <- do.call(rbind, rows)
  out <- cbind(
    out[setdiff(names(out), c("n", "flag"))],
    score_alone(study, said, info, level, seed),
    out[c("n", "flag")]
  )
  out$train_score <- vapply(study$models, function(m) score_training(study, m), 0)
  rownames(out) <- NULL
  out$verdict <- verdicts(study, out)
  validate_scores(new_scores(
    out,
    list(
      target = study$target,
      metric = study$metric$name,
      metric_label = study$metric$label,
      better = study$metric$better,
      level = level,
      seed = seed,
      seen = isTRUE(study$seen),
      task = study$task,
      parts = parts_of_scores(study, out, said, info, level, seed),
      fingerprint = study$fingerprint
    )
  ))
}

#' @export
summary.dreher_scores <- function(object, ...) detail(object, "parts")

new_scores <- function(table, details) new_table(table, "scores", details)

validate_scores <- function(x) {
  check_shape(
    x,
    c(
      model = "character", metric = "character", better = "character", score = "double",
      std_error = "double", lower = "double", upper = "double", constant = "double",
      skill = "double", skill_lower = "double", skill_upper = "double", alone = "double",
      alone_predictor = "character", gain = "double", gain_lower = "double",
      gain_upper = "double", train_score = "double", n = "integer", flag = "character",
      verdict = "character"
    ),
    "table of scores"
  )
  check_holds(
    within_limits(x$score, x$lower, x$upper), "table of scores", "a score lies outside"
  )
  check_holds(!anyDuplicated(x$model), "table of scores", "a model stands twice")
  x
}
