#' dreher: rank, question and reduce the predictors of a trained model
#'
#' @section The pages, by stage:
#' * set up: [study()], [read_table()], [read_dictionary()], [demo_kiln()], [demo_loans()]
#' * check: [check_data()], [score_models()]
#' * rank: [rank_impurity()], [rank_permutation()], [rank_shapley()], [rank_structure()],
#'   [rank_coefficients()], [rank_association()], [rank_refit()], [rank_predictors()]; the result:
#'   [ranking]
#' * trust: [draw_resamples()], [stability()], [agreement()], [noise_floor()], [rank_tau()] and
#'   the other measures
#' * reduce: [reduce_predictors()], [choose_set()], [find_twins()], [compare_sets()],
#'   [confirm_set()], [refit_on()], [write_predictor_set()]
#' * show: [plot.dreher_ranking()], [plot_methods()], [plot.dreher_stability()],
#'   [plot.dreher_agreement()], [plot.dreher_reduction()], [plot.dreher_twins()],
#'   [theme_dreher()], [write_results()], [write_report()]
#' * extend: [readers], [flat_forest()]
#'
#' @section Running: Results follow from one `seed`, whatever the number of threads (argument
#'   `threads`, option `dreher.threads`, environment variable `DREHER_THREADS`) and of workers
#'   ([future::plan()]). Progress is signalled through the progressr package: wrap a call in
#'   `progressr::with_progress()` to see it.
#' @useDynLib dreher, .registration = TRUE
#' @importFrom Rcpp evalCpp
#' @keywords internal
"_PACKAGE"
