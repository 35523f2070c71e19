#' dreher: rank the predictors of a trained model, and reduce them
#'
#' @section Functions by stage:
#' | stage | function | what it does |
#' |---|---|---|
#' | set up | [study()] | joins models, rows, target and metric |
#' | | [read_rows()], [read_dictionary()], [read_model()] | read files and databases |
#' | | [open_rows()] | rows that are too many for memory |
#' | | [draft_dictionary()] | a starter for the dictionary |
#' | | [demo_kiln()], [demo_loans()] | made-up data |
#' | check | [check_data()] | leaks, identifiers and other findings in rows and columns |
#' | | [score_models()] | scores beside a constant and one predictor; a verdict |
#' | | [find_drift()] | do two sets of rows differ, and what does it do? |
#' | rank | [recommend_methods()] | which importance to read first |
#' | | [rank_predictors()] | several methods at once, also over resamples |
#' | | [rank_permutation()], [rank_shapley()], [rank_impurity()] | the three main importances |
#' | | [rank_refit()] | leave-one-covariate-out, univariable |
#' | | [rank_coefficients()], [rank_structure()], [rank_association()] | simpler yardsticks |
#' | | [ranking_details()], [row_values()], [bind_rankings()] | parts of a [ranking], and joining |
#' | trust | [draw_resamples()], [stability()] | confidence sets for the ranks |
#' | | [agreement()], [agreement_tau()] | agreement of methods, models, two rankings |
#' | | [noise_floor()], [with_floor()] | what permuted copies reach |
#' | reduce | [reduce_predictors()], [choose_set()] | nested cross-validation, and a set |
#' | | [find_twins()] | redundant predictors |
#' | | [compare_sets()], [confirm_set()] | sets side by side; a set on untouched rows |
#' | | [refit_on()], [write_predictor_set()], [read_predictor_set()] | the model; the file |
#' | act | [effect_curves()] | direction and shape: averaged, single and accumulated curves |
#' | | [contributions()], [write_contributions()] | what moves each prediction, row by row |
#' | | [interactions()] | which predictors act together |
#' | | [compare_slices()] | scores and contributions in parts of the rows |
#' | | [similar_rows()], [prototype_rows()] | rows like a row, rows that stand for many |
#' | | [smallest_change()], [local_rule()] | what would change a prediction; a rule around it |
#' | show | [plot()][plot.dreher_ranking()], [plot_ranks()], [plot_distribution()] | figures |
#' | | [write_results()], [write_report()], [theme_dreher()] | files, the report, the look |
#' | | [data_frames], [printing] | results as data frames, in documents, on the console |
#' | whole | [draft_study()], [check_study_file()] | a study file for a table; its faults |
#' | | [run_study()], [resume_study()] | all that a study file asks for |
#' | | [do_task()] | a share of a long call, as a task of a job array |
#' | | [write_forest()] | the trees of a model, for other programs |
#' | | [column_families()] | one-hot, hashed and binned columns as the variables they are |
#' | | [average_models()] | the mean of several models as one |
#' | extend | [readers], [flat_forest()], [new_inputs()] | model classes of your own |
#'
#' Words, columns and flags: [glossary] and [flags].
#'
#' @section Running: Results follow from one `seed`, whatever the number of threads (argument
#'   `threads`, option `dreher.threads`, environment variable `DREHER_THREADS`) and of workers
#'   ([future::plan()]). Progress is signalled through the progressr package. In interactive R
#'   a bar is drawn of what takes more than two seconds, unless you show progress in a way of your
#'   own (`progressr::handlers()`) or set `options(dreher.progress = FALSE)`; a stopped run says
#'   what
#'   it keeps.
#' @useDynLib dreher, .registration = TRUE
#' @importFrom Rcpp evalCpp
#' @keywords internal
"_PACKAGE"
