# The command `dreher`: words in, an exit status out. 0 success, 1 failure, 2 wrong usage. Results go
# to standard output or files, everything else to standard error.

main_command <- function(words) {
  tryCatch(
    withCallingHandlers(run_words(words), warning = function(w) {
      tell("warning: ", conditionMessage(w))
      invokeRestart("muffleWarning")
    }, message = function(m) {
      tell(sub("\n$", "", conditionMessage(m)))
      invokeRestart("muffleMessage")
    }),
    dreher_usage = function(e) { tell("dreher: ", conditionMessage(e), "\nSee dreher --help."); 2L },
    interrupt = function(e) { tell("dreher: stopped."); 1L },
    error = function(e) { tell("dreher: ", cli::ansi_strip(conditionMessage(e))); 1L })
}

tell <- function(...) writeLines(paste0(...), stderr())

wrong_usage <- function(...) stop(structure(class = c("dreher_usage", "error", "condition"), list(message = paste0(...))))

command_help <- "dreher ranks the predictors of trained models and finds smaller sets of them.

Usage: dreher STEP [options]

Steps:
  demo     run the whole example on made-up data
  rank     rank the predictors of saved models
  reduce   score smaller sets, choose one, and confirm it on untouched rows

dreher STEP --help     the options of a step
dreher --version       the version

Models are R objects saved with saveRDS(), one model or a named list, or model
files that xgboost (JSON, UBJSON) and lightgbm (text) write from any language.
Read only .rds files from people you trust: such a file can hold code.
Exit status: 0 success, 1 failure, 2 wrong usage."

run_words <- function(words) {
  if (!length(words)) wrong_usage("say a step: demo, rank or reduce.")
  if (words[1] %in% c("--help", "-h")) { writeLines(command_help); return(0L) }
  if (words[1] == "--version") { writeLines(paste("dreher", utils::packageVersion("dreher"))); return(0L) }
  step <- command_steps()[[words[1]]]
  if (is.null(step)) wrong_usage("there is no step \"", words[1], "\".")
  parser <- optparse::OptionParser(usage = paste0("dreher ", words[1], " [options]"), description = step$says, add_help_option = FALSE,
                                   option_list = c(step$options, list(optparse::make_option("--help", action = "store_true", default = FALSE, help = "show this"))))
  given <- read_options(parser, words[-1])
  if (given$help) { optparse::print_help(parser); return(0L) }
  for (name in step$needs) if (is.null(given[[name]])) wrong_usage("dreher ", words[1], " needs --", name, ".")
  step$run(given)
  0L
}

read_options <- function(parser, words) {
  parsed <- tryCatch(optparse::parse_args(parser, words, positional_arguments = TRUE, print_help_and_exit = FALSE),
                     error = function(e) wrong_usage(sub("^Error in [^:]*: *", "", conditionMessage(e))),
                     warning = function(w) wrong_usage(conditionMessage(w)))
  if (length(parsed$args)) wrong_usage("what is \"", parsed$args[1], "\"?")
  parsed$options
}

command_steps <- function() {
  opt <- function(name, help, type = "character", default = NULL, ...) optparse::make_option(paste0("--", name), type = type, default = default, help = help, ...)
  models <- list(opt("model", "models: an .rds file of one model or a named list, or a model file (xgboost: .json, .ubj; lightgbm: .txt)"),
                 opt("columns", "names of the model's columns, set apart by commas, for model files that hold none"), opt("train", "training rows: a delimited text file"),
                 opt("target", "name of the target column"), opt("weights", "name of the column that says what rows count"), opt("blocks", "name of the column that says which rows belong together"), opt("metric", "name of the metric (default: rmse or brier)"),
                 opt("dictionary", "data dictionary: a delimited text file"), opt("seed", "seed [default %default]", "integer", 1L),
                 opt("out", "folder for tables, pictures and the report; made if it is not there"))
  list(
    demo = list(says = "Runs the whole example on made-up data of a pottery works.", needs = "out", run = command_demo,
                options = list(opt("out", "folder for the results; made if it is not there"))),
    rank = list(says = "Ranks the predictors. Without --out the table goes to standard output.", needs = c("model", "data", "target"), run = command_rank,
                options = c(models, list(opt("data", "holdout rows with the target: a delimited text file"),
                                         opt("by", "methods, set apart by commas: impurity, permutation, shapley, structure, coefficient, association, refit [default: the first three]"),
                                         opt("repeats", "shuffles per predictor: a number, auto or all [default %default]", default = "10"),
                                         opt("format", "of the table: csv or json [default %default]", default = "csv")))),
    reduce = list(says = "Scores smaller sets by nested cross-validation and chooses one.", needs = c("model", "train", "target"), run = command_reduce,
                  options = c(models, list(opt("by", "method that ranks: permutation, impurity or shapley [default %default]", default = "permutation"),
                                           opt("use", "name of the model, when there are several"), opt("rule", "one_se or best [default %default]", default = "one_se"),
                                           opt("folds", "outer folds [default %default]", "integer", 5L), opt("times", "drawings of the folds [default %default]", "integer", 1L),
                                           opt("confirm", "untouched rows to confirm the set on: a delimited text file"),
                                           opt("margin", "loss one is ready to pay, in the metric's unit", "double"),
                                           opt("format", "of the table: csv or json [default %default]", default = "csv")))))
}

# One model, or those of a named list in an .rds file.
read_models <- function(given) {
  columns <- if (!is.null(given$columns)) trimws(strsplit(given$columns, ",")[[1]])
  models <- read_model(given$model, columns = columns)
  for (m in if (is.object(models)) list(models) else models) {
    # Predicting needs the model's own package; classes carry its name often enough.
    if (class(m)[1] %in% c("ranger", "rpart", "nnet", "randomForest", "gbm")) rlang::check_installed(class(m)[1])
  }
  models
}

command_study <- function(given, data) {
  train <- if (!is.null(given$train)) read_table(given$train)
  if (is.null(data)) data <- train
  study(read_models(given), data, given$target, train = train, weights = given$weights, blocks = given$blocks, metric = given$metric,
        dictionary = if (!is.null(given$dictionary)) read_dictionary(given$dictionary))
}

make_folder <- function(path) {
  if (!dir.exists(path) && !dir.create(path, recursive = TRUE, showWarnings = FALSE)) stop_input(paste0("The folder \"", path, "\" cannot be made."))
  normalizePath(path)
}

command_rank <- function(given) {
  repeats <- if (given$repeats %in% c("auto", "all")) given$repeats else suppressWarnings(as.integer(given$repeats))
  if (is.na(repeats)) wrong_usage("--repeats must be a number, auto or all.")
  check_choice(given$format, c("csv", "json"), "--format")
  st <- command_study(given, read_table(given$data))
  by <- if (is.null(given$by)) c("impurity", "permutation", "shapley") else trimws(strsplit(given$by, ",")[[1]])
  if (is.null(given$by) && is.null(st$train)) by <- "permutation"
  if (is.null(given$by) && all(vapply(st$models, function(m) is.null(m$forest), NA))) by <- setdiff(by, "impurity")
  rk <- rank_predictors(st, by = by, repeats = repeats, seed = given$seed)
  if (is.null(given$out)) return(print_table(rk, given$format))
  out <- make_folder(given$out)
  write_results(rk, file.path(out, paste0("ranking.", given$format)))
  save_picture(ggplot2::autoplot(rk), file.path(out, "ranking.png"))
  write_report(st, rk, file = file.path(out, "report.html"))
  writeLines(cli::ansi_strip(format_ranking(rk)))
  tell("Written to ", out, ": ranking.", given$format, ", ranking.png, report.html")
}

command_reduce <- function(given) {
  check_choice(given$format, c("csv", "json"), "--format")
  st <- command_study(given, NULL)
  if (length(st$models) > 1 && is.null(given$use)) wrong_usage("the file holds several models (", list_words(names(st$models)), "): name one with --use.")
  rd <- reduce_predictors(st, by = given$by, models = given$use, folds = given$folds, times = given$times, seed = given$seed)
  set <- choose_set(rd, rule = given$rule)
  cf <- if (!is.null(given$confirm)) confirm_set(set, read_table(given$confirm), margin = given$margin)
  if (is.null(given$out)) {
    print_table(rd, given$format)
  } else {
    out <- make_folder(given$out)
    write_results(rd, file.path(out, paste0("reduction.", given$format)))
    write_results(set, file.path(out, paste0("set.", given$format)))
    if (!is.null(cf)) write_results(cf, file.path(out, paste0("confirmation.", given$format)))
    save_picture(ggplot2::autoplot(rd, set = set), file.path(out, "reduction.png"))
    writeLines(cli::ansi_strip(format_reduction(rd)))
    tell("Written to ", out, ".")
  }
  tell(paste(cli::ansi_strip(c("", format_set(set), if (!is.null(cf)) c("", format_confirmation(cf)))), collapse = "\n"))
}

print_table <- function(x, format) {
  file <- tempfile(fileext = paste0(".", format))
  on.exit(unlink(file))
  write_results(x, file)
  writeLines(readLines(file, warn = FALSE, encoding = "UTF-8"))
}

save_picture <- function(plot, file) {
  ggplot2::ggsave(file, plot, width = 12.8, height = 8, dpi = 100, bg = paper)
}
