#' Check the rows and columns before ranking
#'
#' Looks for what makes a ranking misleading: leaks, identifiers, training rows among the holdout
#' rows, columns that are arithmetic of others, gaps, drift, and more. One table of findings, the
#' gravest first.
#'
#' @param study A [study()]. All columns of its rows are checked, also those no model uses; with
#'   training rows, those that both tables have.
#' @param ... Must be empty.
#' @param seed Seed of the drawn rows and of the folds.
#' @return A data frame of class `dreher_checks`, one row per finding: \describe{
#'   \item{predictor}{the column; `(rows)` and `(target)` where the finding is about these}
#'   \item{finding}{see below} \item{severity}{`severe`: importances mislead; `doubt`: look before
#'   you rely on them; `note`: good to know} \item{evidence, lower, upper, unit}{the number behind
#'   it, its 95 % limits where it is an estimate, and its unit} \item{detail}{the reason, a
#'   sentence} \item{todo}{what to do} \item{used_by}{the models that use the predictor} } A
#'   finding about a column that no model uses is a `note`. Severe findings are flagged in every
#'   ranking, figure, set and report where the predictor appears.
#' @section Findings: \describe{
#'   \item{`against the target`}{severe: on the training rows a model's predictions run against the
#'   target: the AUC of a class, or the rank correlation, is 3.5 standard errors below 0.5, or 0}
#'   \item{`tells nearly all`}{doubt, put as a question: one predictor alone tells 90 % of the
#'   target (of classes: of their variance, or leaves at most 6 % of errors and 60 % of the
#'   constant's), or two together 97 %, and the others take less than a fifth off what is left; or
#'   it tells 80 %, and the others know of it only what the target does. Only you can say whether
#'   it was known before the target.}
#'   \item{`leak`}{severe: the dictionary's `known` says `after`; the target is arithmetic of the
#'   column; they have just the same order (50 distinct values or more); given the column the
#'   target's error is at most 1.2 % of its spread, or what its rounding leaves; the classes are
#'   its levels under other names, or stretches of it with 10 rows or more within a tenth of its
#'   standard deviation of each border and none on the wrong side; it is missing in just the rows
#'   of some classes. Doubt:
#'   each level stands with one value of the target only; it looks like a consequence of the
#'   target (it tells far more of it than all others together, these add to it, yet given the target
#'   they tell nothing of it); called after the target, and telling 90 % of it. A strong
#'   predictor alone is no leak. Times and running numbers are not looked at.}
#'   \item{`training rows`}{rows of `data` that are training rows, more than 99 of 100 tables of
#'   the kind would hold: severe from a tenth of the rows, else a doubt}
#'   \item{`identifier`}{98 % distinct: text; whole numbers in the order of the rows; or whole
#'   numbers unrelated to the target (p of 0.01 or more) that are called an identifier or fill a
#'   tenth of their range evenly (Kolmogorov's test at 5 %). Severe for text and by name, else a
#'   doubt.}
#'   \item{`clustered rows`}{the values of a column look like units measured more than once
#'   (a patient, a school): eight or more of text, levels or whole numbers, with two rows or more
#'   each on average, within which other columns never change: two that do not give each other, or
#'   one number of eight values or more, or any under the name of a unit (`patient`, `subject_id`);
#'   stretches of a number and other names of its values do not count. Severe where a fifth of the
#'   holdout rows or more are of units that have training rows, else a doubt. A doubt also where
#'   only the name says so, or two numbers of 15 values or more come back together in at least two
#'   rows each. Not where the study has `blocks`.}
#'   \item{`missing tells target`}{doubt: whether it is missing is related to the target (p, times
#'   the number of columns with gaps, below 0.001)}
#'   \item{`numbers as text`}{doubt: text of 15 levels or more, 90 % of which are numbers without
#'   leading zeros}
#'   \item{`number for a gap`}{doubt: the lowest or highest value is made of nines (or eights,
#'   sevens; or is -1), stands in three rows or more, and lies far from all others, or is the only
#'   negative one}
#'   \item{`levels joined`}{levels of fewer than ten training rows that a learner of the study file
#'   takes together: a note; a doubt where none is left}
#'   \item{`drift`}{training and holdout rows differ in it (p adjusted by Holm below 0.01): a doubt
#'   from a distance of 0.1 beyond chance on, else a note. See [find_drift()].}
#'   \item{`joint drift`}{the two sets of rows are told apart by all columns: the AUC is three
#'   widened standard errors above 0.5; a doubt from an AUC of 0.6 on}
#'   \item{`copy`, `derived`}{note: another column in other units or other levels; arithmetic of
#'   others, with the formula: what is left is below 0.2 % of its spread or within rounding}
#'   \item{`determined`}{note: levels of another column give its levels, not the other way round}
#'   \item{`correlated`}{note: rank correlation of 0.95 or more with another column}
#'   \item{`missing`, `constant`, `nearly constant`, `many levels` (more than 30), `rare levels`
#'   (fewer than 5 rows), `repeated rows`, `outliers`}{notes}
#'   \item{`rare class`}{less than a tenth of the rows, or fewer than 5: a note; both: a doubt}
#'   \item{`stand-in`}{note: how well a sensitive predictor is told by others, and by which}
#'   \item{`groups differ`}{note: the target differs between the groups of a sensitive predictor (p,
#'   times the number of sensitive predictors, below 0.01)}
#'   \item{`left out`}{doubt: a model uses what the dictionary leaves out} }
#' @details Of tables with more than 3,000 rows, 3,000 are drawn for what has a sampling error
#'   (units
#'   of which two rows are hardly drawn are not seen); missing values, single values and repeated
#'   rows are counted in all. Formulas of pairs are
#'   looked for among up to 150 numeric columns, twins and copies among up to 2,000, levels that
#'   give others among up to 200 columns.
#' @section False alarms: The rules with a p-value are raised without the fault in at most 1 % of
#'   data sets each (missing tells target 0.1 %, drift 1 %, joint drift 0.1 %); the others rest on
#'   relations that chance does not make. Whole numbers that fill their range evenly, without
#'   repeats, and have nothing to do with the target are told as identifiers whatever they are. Of
#'   200 simulated data sets of eight shapes without a fault (one strong predictor, many levels,
#'   counts, skewed values, correlated blocks; 50 to 5,000 rows) none had a severe finding or a
#'   doubt; the limits to be kept are 2 and 5 %.
#' @seealso [find_drift()], [find_twins()], [compare_slices()]: what to do about some of them.
#' @references Berkson, J. (1946). \doi{10.2307/3002000}. Gasser, T., Sroka, L. and
#'   Jennen-Steinmetz, C. (1986). Residual variance and residual pattern in nonlinear regression.
#'   \doi{10.1093/biomet/73.3.625}. Holm, S. (1979). \doi{10.2307/4615733}. Pearl, J. (2009).
#'   Causality. \doi{10.1017/CBO9780511803161}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' check_data(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
check_data <- function(study, ..., seed = 1) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "check_data")
  seed <- check_seed(seed)
  columns <- setdiff(names(study$data), c(study$target, study$weights, study$blocks))
  if (!is.null(study$train)) columns <- intersect(columns, names(study$train))
  table <- check_table(study, columns, seed)
  found <- find_all(table, study, seed)
  found$used_by <- vapply(found$predictor, function(p) {
    use <- vapply(study$models, function(m) p %in% m$inputs$predictors, NA)
    if (p %in% c(about_rows, about_target)) use[] <- TRUE
    paste(names(study$models)[use], collapse = ", ")
  }, "", USE.NAMES = FALSE)
  found$severity[!nzchar(found$used_by)] <- "note"
  found <- found[order(
    match(found$severity, severities), match(found$finding, check_findings),
    match(found$predictor, c(about_rows, about_target, columns))
  ), ]
  rownames(found) <- NULL
  validate_checks(new_checks(found, list(
    target = study$target, n_checked = length(columns), n = table$n, sampled = table$sampled,
    seed = seed, labels = labels_of(study, columns), fingerprint = study$fingerprint
  )))
}

new_checks <- function(table, details) new_table(table, "checks", details)

# In the order in which they are told.
check_findings <- c(
  "against the target", "training rows", "leak", "tells nearly all", "identifier",
  "left out", "clustered rows", "missing tells target", "rare class", "numbers as text",
  "number for a gap", "levels joined", "joint drift", "drift", "copy", "derived",
  "determined", "correlated", "stand-in", "groups differ", "constant", "nearly constant",
  "many levels", "rare levels", "missing", "repeated rows", "outliers"
)

validate_checks <- function(x) {
  check_shape(
    x,
    c(
      predictor = "character", finding = "character", severity = "character",
      evidence = "double", lower = "double", upper = "double", unit = "character",
      detail = "character", todo = "character", used_by = "character"
    ),
    "table of checks"
  )
  check_holds(all(x$finding %in% check_findings), "table of checks", "a finding is not known")
  check_holds(all(x$severity %in% severities), "table of checks", "a severity is not known")
  x
}

# Every check by itself: one that fails loses itself only, and that is said.
find_all <- function(table, st, seed) {
  guarded <- function(name, code) {
    tryCatch(code, error = function(e) {
      pass_interrupt(e)
      warn_dreher(
        "checks", paste0("The check of ", name, " failed: ", conditionMessage(e)),
        "The other checks stand."
      )
      no_findings()
    })
  }
  formulas <- tryCatch(formulas_of(table), error = function(e) list())
  leaks <- guarded("leaks", check_leaks(table, st, formulas, known_after(st)))
  told <- guarded("predictors that tell nearly all", find_telling(table, st, leaks, seed))
  checks <- list(
    `the direction of predictions` = function() check_direction(st),
    identifiers = function() check_identifiers(table, st),
    `repeated rows` = function() check_repeated_rows(table, st),
    `clustered rows` = function() check_clustered(table, st),
    uses = function() check_uses(table, st),
    `missing values` = function() check_missing(table, st),
    `single values` = function() check_constant(table, st),
    levels = function() check_levels(table, st),
    `numbers for gaps` = function() check_gap_marks(table),
    `joined levels` = function() check_joined(st),
    formulas = function() check_derived(table, formulas),
    `correlated columns` = function() check_twins(table, formulas),
    `levels that give others` = function() check_determined(table),
    `the target` = function() check_target_values(table, st),
    `sensitive predictors` = function() check_sensitive(table, st, seed),
    drift = function() check_drift(table, st, seed)
  )
  done <- map_here(names(checks), function(name) guarded(name, checks[[name]]()), "checks")
  bind_findings(c(list(leaks, told), done))
}

# What looks like a consequence of the target, and what tells nearly all of it.
find_telling <- function(table, st, leaks, seed) {
  consequences <- check_consequences(table, st, leaks, seed)
  known <- c(leaks$predictor, consequences$predictor)
  bind_findings(list(consequences, check_dominating(table, st, known, seed)))
}

formulas_of <- function(table) {
  columns <- table$columns[formula_columns(table)]
  if (table$y$number) columns[[about_target]] <- table$y
  find_formulas(columns)
}

# What the dictionary says is known only after the target.
known_after <- function(st) {
  d <- st$dictionary
  d$predictor[d$known %in% "after"]
}

# Models that use what the dictionary leaves out.
check_uses <- function(table, st) {
  d <- st$dictionary
  left <- intersect(d$predictor[d$use == "leave_out"], st$predictors)
  bind_findings(lapply(left, function(p) {
    users <- vapply(st$models, function(m) p %in% m$inputs$predictors, NA)
    finding(
      p, "left out", "doubt", sum(users), "models",
      "The dictionary says leave_out, and a model was trained with it.",
      "Train the models without it, or change the dictionary."
    )
  }))
}

check_drift <- function(table, st, seed) {
  if (min(tabulate(table$set, 2)) < 20) return(no_findings())
  compared <- compare_columns(table, st, 200, 0.95, seed, only = 0.01)
  moved <- which(compared$p_adjusted < 0.01)
  of_time <- function(p) if (p == about_target) "" else table$columns[[p]]$of_time
  one <- lapply(moved, function(i) {
    d <- compared[i, ]
    finding(
      d$predictor,
      "drift",
      if (d$distance - d$expected >= 0.1 && !split_by_time(st)) "doubt" else "note",
      d$distance,
      "distance, 0 to 1",
      paste0(
        "Training and holdout rows differ in it by ",
        format(round(d$distance, 2), nsmall = 2), ": ",
        if (is.na(d$level)) {
          paste0(
            "median ", value_in_words(d$first, of_time(d$predictor)), " and ",
            value_in_words(d$second, of_time(d$predictor))
          )
        } else {
          paste0(say_share(d$first), " and ", say_share(d$second), " ", d$level)
        },
        "."
      ),
      "Look at what the difference does to the ranking, or train on rows like these.",
      lower = d$lower,
      upper = d$upper
    )
  })
  bind_findings(c(one, list(joint_drift(table, st, seed))))
}

# Rows that were parted by time differ in time, and in what moves with it.
split_by_time <- function(st) identical(st$arranged, "time")

joint_drift <- function(table, st, seed) {
  found <- tell_apart(table, st, 0.95, seed)
  auc <- found$auc
  if (is.null(auc) || !isTRUE(auc$auc - 3 * auc$std_error > 0.5)) return(NULL)
  finding(
    about_rows, "joint drift",
    if (auc$auc >= 0.6 && !split_by_time(st)) "doubt" else "note", auc$auc, "AUC",
    paste0(
      if (split_by_time(st)) "The last rows in time are held out, so that they may differ. ",
      "Training and holdout rows are told apart with an AUC of ",
      format(round(auc$auc, 2), nsmall = 2), ", mostly by ",
      name_few(utils::head(leading_shares(found$shares), 3)), "."
    ),
    "Look at what the difference does to the ranking, or train on rows like these.",
    lower = auc$lower, upper = auc$upper
  )
}

# --- what flags rest on ------------------------------------------------------------------------

# Severe findings about the predictors of the models: those that are flagged wherever the predictor
# appears.
find_severe <- function(st) kept(st, "severe", find_severe_now(st))

quiet <- function(code) tryCatch(code, error = function(e) {
  pass_interrupt(e)
  no_findings()
})

# Doubts whether predictors were known before the target: the verdicts on the models say them.
find_doubted <- function(st) {
  kept(st, "doubted", quiet({
    table <- check_table(st, st$predictors)
    leaks <- check_leaks(table, st, formulas_of(table), known_after(st))
    found <- bind_findings(list(leaks, find_telling(table, st, leaks, 1)))
    found[found$severity == "doubt", ]
  }))
}

find_severe_now <- function(st) {
  table <- check_table(st, st$predictors)
  found <- bind_findings(list(
    quiet(check_leaks(table, st, formulas_of(table), known_after(st))),
    quiet(check_missing(table, st)), quiet(check_identifiers(table, st))
  ))
  found[found$severity == "severe", ]
}
