#' Words and columns of dreher's results
#'
#' Every word that prints, figures and tables use beyond the common terms of statistics, in
#' alphabetical order, with the page that says more.
#'
#' \describe{
#'   \item{above floor}{the importance exceeds that of permuted copies at the family-wise level:
#'   see [noise_floor()]}
#'   \item{accumulated effect}{the local differences of a prediction along a predictor, summed up:
#'   see [effect_curves()]}
#'   \item{averaged curve}{the mean prediction with a predictor set to each value in all rows: see
#'   [effect_curves()]}
#'   \item{background rows}{rows that stand for "value not known" in Shapley values: see
#'   [rank_shapley()]}
#'   \item{best predictor alone}{what the target is expected to be given the one predictor that
#'   tells most of it: see [score_models()]}
#'   \item{calibrated}{predictions mean what they say: of rows predicted at 20 % a fifth is of the
#'   class: see [score_models()]}
#'   \item{constant}{the prediction without any predictor: the mean, or the shares of the classes}
#'   \item{contribution}{a predictor's part of the distance of one prediction from the baseline: see
#'   [contributions()]}
#'   \item{cost}{what a predictor costs, by the dictionary; never a loss in score: see
#'   [read_dictionary()]}
#'   \item{counts}{numbers of predictors: see [reduce_predictors()]}
#'   \item{decoy}{a permuted copy of a predictor: see [noise_floor()]}
#'   \item{direction}{`rises`, `falls`, `bends` (one turn), `mixed`, `differs` (levels), `little`
#'   (hardly anything beside what the predictions span), `flat`, `not shown`: see
#'   [effect_curves()]}
#'   \item{doubt}{a finding to look at before one relies on importances: see [check_data()]}
#'   \item{drift}{two sets of rows differ: see [find_drift()]}
#'   \item{family}{predictors that belong together, by the dictionary}
#'   \item{form}{the variant of a method: see [ranking]}
#'   \item{groups}{what is ranked as one: see [rank_permutation()]}
#'   \item{holdout}{rows the models have not been trained on}
#'   \item{inference}{what an interval speaks of: `model`, this fitted model on new rows;
#'   `learner`, this way of fitting; `rows`, a description of these rows, without interval: see
#'   [ranking]}
#'   \item{interaction value}{what a pair of predictors adds beyond the two alone: see
#'   [interactions()]}
#'   \item{leak}{a column that holds the target, or was known only after it: see [check_data()]}
#'   \item{left out}{rows outside a resample: see [draw_resamples()]}
#'   \item{margin}{the loss in score one is ready to accept: see [choose_set()]}
#'   \item{mean absolute Shapley value}{the mean over the rows of the size of a predictor's
#'   Shapley value: see [rank_shapley()]}
#'   \item{nested cross-validation score}{the score of the whole procedure, the choice of the
#'   number of predictors included: see [choose_set()]}
#'   \item{noise floor}{the importance that permuted copies reach: see [noise_floor()]}
#'   \item{note}{a finding that is good to know: see [check_data()]}
#'   \item{oob}{training rows, each with only the trees that were not grown on it}
#'   \item{optimistic}{better than it would be on new rows, since the same rows chose}
#'   \item{price}{loss in score against all predictors, or against a reference set; negative is
#'   better: see [reduce_predictors()]}
#'   \item{prototype}{a row that stands for many: see [prototype_rows()]}
#'   \item{random sets}{sets of as many predictors drawn at random, for comparison}
#'   \item{rank set}{confidence set for a rank; joint ones hold for all predictors at once: see
#'   [stability()]}
#'   \item{relative}{importance over the largest one}
#'   \item{rows}{the set of rows a result was computed on: see [ranking]}
#'   \item{settled}{said of a rank whose confidence set is that rank alone: see [stability()]}
#'   \item{severe}{a finding that makes importances mislead: see [check_data()]}
#'   \item{share}{the non-negative part of an importance over the sum of these}
#'   \item{skill}{by how much a score is better than that of the constant; positive is better}
#'   \item{slice}{a part of the rows that is looked at apart: see [rank_predictors()] and
#'   [compare_slices()]}
#'   \item{spread}{the central part of the ranks over the resamples: see [stability()]}
#'   \item{stand-in}{a column that tells a sensitive one: see [check_data()]}
#'   \item{strata}{rows that are alike in what the other predictors say of one: see
#'   [rank_permutation()]}
#'   \item{tier}{predictors that are not distinguished from the first of the tier: see
#'   [stability()]}
#'   \item{twins}{predictors that carry much the same information: see [find_twins()]}
#'   \item{untouched rows}{rows that took part in nothing so far: see [confirm_set()]}
#' }
#' @seealso [flags], [ranking].
#' @name glossary
NULL

#' Flags: short warnings in the results
#'
#' Column `flag` of a [ranking], of [score_models()], [effect_curves()] and [compare_slices()];
#' several are separated by semicolons.
#'
#' \describe{
#'   \item{`aliased`}{a linear model gives the predictor no coefficient: others determine it. See
#'   [rank_coefficients()]}
#'   \item{`beyond training range`}{no training row has such a value. See [effect_curves()]}
#'   \item{`chosen by its error`}{the slice was chosen for its errors, so that they are not tested.
#'   See [compare_slices()]}
#'   \item{`correlated`}{the correlation with another predictor is 0.9 or more. See
#'   [rank_permutation()]}
#'   \item{`few refits`}{fewer than 25 bootstrap draws: the interval is not reliable. See
#'   [rank_refit()]}
#'   \item{`rows drawn`}{boosted trees of which each was grown on drawn rows: the recomputed gain is
#'   of all rows and cannot be checked against the library's. See [rank_impurity()]}
#'   \item{`few repeats`}{fewer than 5 shuffles. See [rank_permutation()]}
#'   \item{`few rows`}{few rows near a point of a curve, or under 20 in a slice. See
#'   [effect_curves()], [compare_slices()]}
#'   \item{`identifier`}{the column identifies rows: what it tells of one it tells of no other. See
#'   [check_data()]}
#'   \item{`in-sample only`}{impurity importance on the rows the trees were grown on, and none on
#'   rows they have not seen: likely an artefact of many possible splits. See [rank_impurity()]}
#'   \item{`many levels`}{more than 30 levels: impurity favours the predictor. A reason of
#'   [agreement()]; see [check_data()]}
#'   \item{`nearly aliased`}{variance inflation above 1,000. See [rank_coefficients()]}
#'   \item{`no effect on score`}{moves the predictions, but does not improve the score. See
#'   [rank_shapley()]}
#'   \item{`no skill`}{the model is not shown to be better than the constant: the ranking may be
#'   noise. See [score_models()]}
#'   \item{`not above floor`}{does not exceed permuted copies. See [noise_floor()]}
#'   \item{`not conditioned`}{the other predictors say nothing of this one, so that the
#'   conditional shuffle is a marginal one. See [rank_permutation()]}
#'   \item{`not converged`}{sampling stopped at its limit before the precision asked for. See
#'   [rank_shapley()]}
#'   \item{`possible leak`}{there is severe evidence that the predictor holds the target, or was
#'   known only after it. See [check_data()]}
#'   \item{`training rows`}{computed on rows the model was trained on: optimistic, without interval}
#' }
#' @seealso [glossary].
#' @name flags
NULL
