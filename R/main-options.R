# The steps of the command and their options.

opt <- function(name, help, type = "character", default = NULL, ...) {
  optparse::make_option(
    paste0("--", name), type = type, default = default, help = help, ...
  )
}

flag <- function(name, help) {
  optparse::make_option(
    paste0("--", name), action = "store_true", default = FALSE, help = help
  )
}

# What every step that reads models takes.
model_options <- function() {
  list(
    opt(
      "study",
      paste0(
        "study file: stands for models, rows, target and the like, and for the options of ",
        "this step that it gives"
      )
    ),
    opt(
      "models",
      paste0(
        "models: an .rds file of one model or a named list, or a model file (xgboost: ",
        ".json, .ubj; lightgbm: .txt); may be given several times"
      )
    ),
    opt(
      "columns",
      "names of the model's columns, separated by commas, for model files that hold none"
    ),
    opt("train", "training rows: a delimited text file"),
    opt("target", "name of the target column"),
    opt(
      "positive",
      "of two classes the one that is ranked and explained, and that models call 1"
    ),
    opt("weights", "name of the column that says what rows count"),
    opt("blocks", "name of the column that says which rows belong together"),
    opt("metric", "name of the metric (default: rmse or brier)"),
    opt("dictionary", "data dictionary: a delimited text file"),
    opt(
      "target-transform",
      paste0(
        "log, log2, log10, log1p, sqrt or logit: the models were trained on this of the ",
        "target"
      )
    ),
    opt("seed", "seed [default %default]", "double", 1L),
    opt("out", "folder for tables, pictures and the report; made if it is not there")
  )
}

margin_option <- function() {
  opt(
    "margin",
    paste0(
      "loss one is ready to pay: \"2 %\" of what all predictors gain, or \"0.4 rmse\" ",
      "[default %default]"
    ),
    default = "2 %"
  )
}

format_option <- function() {
  opt(
    "format",
    paste0(
      "of the table: csv, json, xlsx, parquet or sqlite; text, what R prints, on standard ",
      "output ",
      "[default %default]"
    ),
    default = "csv"
  )
}

again_options <- function() {
  list(
    flag("again", "these rows were confirmed on before, and the reader will be told"),
    opt(
      "overlap",
      paste0(
        "refuse or allow rows that are training rows, more than chance explains ",
        "[default %default]"
      ),
      default = "refuse"
    )
  )
}

run_options <- function() {
  list(
    opt("workers", "processes that share the work [default %default]", "double", 1L),
    opt("run", "run folder: every finished piece is kept there"),
    flag("resume", "go on with the run in --run"),
    opt(
      "task",
      "do a share of the run in --run and stop, such as 3/50: a task of a job array"
    ),
    format_option()
  )
}

demo_step <- function() {
  list(
    says = "Runs the whole example on made-up data of a pottery works.",
    needs = "out",
    options = list(opt("out", "folder for the results; made if it is not there"))
  )
}

rank_step <- function() {
  list(
    says = "Ranks the predictors. Without --out the table goes to standard output.",
    needs = c("models", "data", "target"),
    options = c(
      model_options(),
      list(
        opt(
          "data",
          paste0(
            "holdout rows with the target: a delimited text file, Parquet, or a folder of ",
            "Parquet files, which stay on disk"
          )
        ),
        opt(
          "by",
          paste0(
            "methods, separated by commas: impurity, permutation, shapley, ",
            "structure, coefficients, association, refit [default: the first three]"
          )
        ),
        opt(
          "repeats",
          "shuffles per predictor: a number, auto or all [default %default]",
          default = "10"
        ),
        format_option()
      )
    )
  )
}

stability_step <- function() {
  list(
    says = paste0(
      "Trains the models again on resamples of the training rows, ranks on the rows ",
      "left out, and says which ranks are settled. A run that was stopped goes on ",
      "with --run and --resume."
    ),
    needs = c("models", "train", "target"),
    options = c(
      model_options(),
      list(
        opt(
          "data",
          paste0(
            "holdout rows, for the noise floor: a delimited text file [default: the ",
            "training rows]"
          )
        ),
        opt(
          "by", "methods, separated by commas [default %default]", default = "permutation"
        ),
        opt(
          "kind",
          "of resamples: bootstrap, subsample, folds, time, seeds [default %default]",
          default = "bootstrap"
        ),
        opt(
          "times",
          "number of resamples [default: 100 bootstrap draws or subsamples, else 50]",
          "double"
        ),
        opt("order", "name of the column of times, for the kind time"),
        opt("strata", "name of the column whose distribution every resample keeps"),
        opt("slice", "name of a column: rank for each of its values apart"),
        opt(
          "seeds",
          paste0(
            "refits with other seeds of the model, to tell its own noise from the ",
            "sample's"
          ),
          "double"
        ),
        opt(
          "floor-refits",
          "refits with permuted copies, for the noise floor; 99 or more to rely on",
          "double"
        )
      ),
      run_options()
    )
  )
}

reduce_step <- function() {
  list(
    says = paste0(
      "Scores smaller sets by nested cross-validation and chooses one. A run that ",
      "was stopped goes on with --run and --resume."
    ),
    needs = c("models", "train", "target"),
    options = c(
      model_options(),
      list(
        opt(
          "by",
          "methods that rank, separated by commas [default %default]",
          default = "permutation"
        ),
        opt(
          "search",
          "ranking, backward, forward or floating [default %default]",
          default = "ranking"
        ),
        opt(
          "ranker",
          "name of the model that ranks [default: the one that scores best on --data]"
        ),
        opt(
          "refit-as",
          "name of the model that is trained on the sets [default: the one that ranks]"
        ),
        opt(
          "groups",
          "family: predictors of a family of the dictionary come in and go together"
        ),
        flag("thin-twins", "of predictors that can replace each other one is kept"),
        opt("budget", "the most a set may cost, by the dictionary", "double"),
        opt(
          "random",
          "at most so many random sets of each number of predictors [default %default]",
          "double",
          10L
        ),
        opt("folds", "outer folds [default: 5, fewer where rows are few]", "double"),
        opt("repeats", "drawings of the folds [default %default]", "double", 2L),
        opt("confirm", "untouched rows to confirm the set on: a delimited text file"),
        margin_option()
      ),
      rule_options(), again_options(), run_options()
    )
  )
}

# How a set is chosen from the curve.
rule_options <- function() {
  list(
    opt(
      "rule",
      paste0(
        "one_se, one_se_paired, best, within, cheapest, cumulative, count or floor ",
        "[default %default]"
      ),
      default = "one_se"
    ),
    opt("count", "number of predictors, for the rule count", "double"),
    opt(
      "cumulative",
      "cumulative share of the importance, for the rule cumulative [default %default]",
      "double",
      0.95
    ),
    opt(
      "floor-refits",
      paste0(
        "refits with permuted copies in each training part, 19 or more, for the ",
        "rule floor"
      ),
      "double"
    )
  )
}

compare_step <- function() {
  list(
    says = "Scores sets of predictors side by side, by cross-validation or on given rows.",
    needs = c("models", "train", "target", "sets"),
    options = c(
      model_options(),
      list(
        opt(
          "sets",
          paste0(
            "as \"all; firing: peak_temp, hold_minutes; none\"; files of chosen ",
            "sets (.json) count as sets too"
          )
        ),
        opt(
          "reference",
          "name of the set the others are compared with [default: the first]"
        ),
        opt(
          "rows",
          paste0(
            "rows to score on: a delimited text file [default: cross-validation on ",
            "the training rows]"
          )
        ),
        opt("folds", "folds [default: 5, fewer where rows are few]", "double"),
        opt("repeats", "drawings of the folds [default %default]", "double", 2L),
        margin_option(),
        format_option()
      )
    )
  )
}

confirm_step <- function() {
  list(
    says = "Compares a chosen set with all predictors on untouched rows.",
    needs = c("models", "train", "target", "set", "rows"),
    options = c(
      model_options(),
      list(
        opt("set", "file of the set, as reduce writes it (set.json)"),
        opt("rows", "untouched rows: a delimited text file"),
        margin_option(),
        format_option()
      ),
      again_options()
    )
  )
}
