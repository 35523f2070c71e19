# The study as a context: what all computations are handed.
#
#   models      list of models, by name: name, object, class, inputs, predict, own_reader, forest,
#               linear, classes (see open_model())
#   data        holdout rows; train: training rows or NULL; seen: are the first the second?
#   store, roles NULL, or where all rows are of which `data` are some (study-whole.R)
#   target, task, classes, positive (number of the class; positive_said: by the user?), metric,
#   weights, blocks
#   predictors  all columns that any model takes in; asked: those named by the user
#   dictionary  one row per predictor
#   arranged    what the user asked for and no check holds against the rows: "training rows" (none
#               are held out), "time" (the last rows are held out), or NULL
#   refit_with  functions of the user's, by model
#   threads     for the loops in C++
#   fingerprint of the data; NULL in a study inside a refit
#   flags NULL: worked out when asked for (flags_of()); notes: FALSE where nobody reads what stands
#               beside importances (twins, directions, errors of shares)
#   memory      what was worked out about it, by name (see kept())

new_study <- function(fields) {
  structure(c(fields, list(memory = new.env(parent = emptyenv()))), class = "dreher_study")
}

validate_study <- function(x) {
  check_shape(
    x,
    c(
      models = "list", data = "list", target = "character", task = "character",
      metric = "list", predictors = "character", dictionary = "list", threads = "integer",
      seen = "logical", fingerprint = "character", memory = "environment"
    ),
    "study"
  )
  holds <- function(holds, rule) check_holds(holds, "study", rule)
  holds(
    length(x$models) > 0 && !anyDuplicated(names(x$models)),
    "its models have no own names"
  )
  holds(x$target %in% names(x$data), "its rows lack the target")
  holds(!x$target %in% x$predictors, "the target is a predictor")
  for (m in x$models) {
    holds(all(m$inputs$predictors %in% x$predictors), "a model has predictors of its own")
  }
  x
}

# The one way from a study to another: other models, rows, predictors, flags. What was worked out
# about the first does not hold of the second, unless only the number of threads is another.
derive_study <- function(st, ...) {
  fields <- list(...)
  if ("data" %in% names(fields)) st["store"] <- st["roles"] <- list(NULL)
  for (name in names(fields)) st[name] <- fields[name]
  if (length(setdiff(names(fields), "threads"))) st$memory <- new.env(parent = emptyenv())
  st
}

# What is worked out about a study, once: `value` is evaluated when it is first asked for.
kept <- function(st, name, value) {
  if (!exists(name, envir = st$memory, inherits = FALSE)) {
    assign(name, value, envir = st$memory)
  }
  get(name, envir = st$memory, inherits = FALSE)
}

# A study to hand to workers: models are trained again there, and their trees read anew.
without_forests <- function(st) {
  derive_study(st, models = lapply(st$models, function(m) m[setdiff(names(m), "forest")]))
}

# A piece of work on these models needs no others.
only_models <- function(st, models) derive_study(st, models = st$models[unique(models)])

# For run_pieces(): a piece of one model needs no other.
one_model <- function(piece, arguments) {
  arguments$st <- only_models(arguments$st, piece$model)
  arguments
}

# Nobody reads the flags of a study inside a refit.
no_flags <- function(predictors, models) {
  list(
    predictors = stats::setNames(rep("", length(predictors)), predictors),
    models = stats::setNames(rep("", length(models)), models),
    reasons = NULL
  )
}
