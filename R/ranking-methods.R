# The importance methods: one record each, in the file of the method. Everything that offers or
# names methods reads them here: rank_predictors(), noise_floor(), reduce_predictors(),
# agreement(), the prints and figures, and the command.
#
# A record is a list of
#   name          as in `by` and in column `method`
#   label         as in headings; colour: in figures
#   usual_forms   values of column `form` that go without saying
#   usual_rows    values of column `rows` that go without saying; NULL: all
#   needs         some of "train", "trees", "coefficients"
#   why_not function(model, st, settings): why it does not apply, "" where it does; beside needs
#   any_rows      does it rank on any set of rows? Otherwise it knows its own
#   out_of_bag    and on out-of-bag rows?
#   asks_model    FALSE: one list for all models
#   held_out      inside a path: does it rank on rows that the refit has not seen?
#   floor         can its importances be compared with those of permuted copies?
#   beside_others does it say what a predictor is worth to a model that has the others?
#   of_splits does it add up the splits on a predictor, which one that comes in only together with
#                 others has not?
#   zero_is_null  do intervals around zero say that nothing is shown?
#   rank          function(st, model, on, settings): a ranking of one model (by name) on one set
#                 of rows; settings: repeats, background, level, seed
#   importances   function(inside, model, units, groups, settings): importances alone, by name, of
#                 a model trained again inside a path; NULL: those of `rank`

method_fields <- c(
  "name", "label", "colour", "usual_forms", "usual_rows", "needs", "why_not", "any_rows",
  "out_of_bag", "asks_model", "held_out", "floor", "beside_others", "of_splits",
  "zero_is_null", "rank", "importances"
)

# A record with what it does not state at its default.
new_method <- function(record) {
  usual <- list(
    colour = "#8A8F94", usual_forms = "plain", usual_rows = NULL, needs = "train",
    why_not = function(model, st, settings) "", any_rows = FALSE, out_of_bag = FALSE,
    asks_model = TRUE, held_out = FALSE, floor = FALSE, beside_others = FALSE,
    of_splits = FALSE, zero_is_null = FALSE, importances = NULL
  )
  out <- c(record, usual[setdiff(names(usual), names(record))])
  odd <- setdiff(names(record), method_fields)
  lacking <- setdiff(c("name", "label", "rank"), names(record))
  if (length(odd) || length(lacking)) {
    stop_internal(
      "The record of an importance method is not sound.",
      paste0("Unknown or lacking: ", quote_some(c(odd, lacking)), ".")
    )
  }
  out
}

# Methods beside those of the package, by name.
added_methods <- new.env(parent = emptyenv())

register_method <- function(record) {
  assign(record$name, new_method(record), added_methods)
}

# All records, by name, in the order in which they are shown.
importance_methods <- function() {
  own <- list(
    impurity_record(), permutation_record(), shapley_record(), structure_record(),
    coefficient_record(), association_record(), refit_record()
  )
  own <- lapply(own, new_method)
  names(own) <- vapply(own, `[[`, "", "name")
  added <- ls(added_methods)
  c(own, if (length(added)) mget(sort_text(added), added_methods))
}

method_names <- function() names(importance_methods())

# One field of these methods, in their order; methods that are not known have `other`.
method_field <- function(methods, field, other = NA) {
  known <- lapply(importance_methods(), `[[`, field)
  unlist(lapply(methods, function(m) if (is.null(known[[m]])) other else known[[m]]))
}

# Names of the methods of which a field is TRUE.
methods_that <- function(field) {
  known <- importance_methods()
  names(known)[vapply(known, function(m) isTRUE(m[[field]]), NA)]
}

# Why a method does not apply to a model; "" where it does.
why_not <- function(method, model, st, settings = list()) {
  record <- importance_methods()[[method]]
  if ("train" %in% record$needs && is.null(st$train)) {
    return("no training rows were given")
  }
  if ("trees" %in% record$needs && is.null(model$forest)) return(treeless(model))
  if ("coefficients" %in% record$needs && is.null(model$linear)) {
    return("it has no coefficients")
  }
  record$why_not(model, st, settings)
}

# One model by one method on several sets of rows; methods that know their rows are run once.
# -> list of rankings
rank_by <- function(piece, st, several, settings) {
  record <- importance_methods()[[piece$method]]
  if (!record$any_rows) return(list(record$rank(st, piece$model, NULL, settings)))
  if (!record$out_of_bag) {
    several <- Filter(function(evaluation) evaluation$kind != "oob", several)
  }
  lapply(unname(several), function(evaluation) {
    record$rank(st, piece$model, given_rows(evaluation), settings)
  })
}

# Importances by name of a model trained again inside a path. units: what is ranked; groups: those
# of several predictors.
importances_inside <- function(method, inside, model, units, groups, settings) {
  record <- importance_methods()[[method]]
  if (!is.null(record$importances)) {
    return(record$importances(inside, model, units, groups, settings))
  }
  evaluation <- pick_rows(inside, "holdout")
  importances_of(join_parts(
    inside, rank_by(list(model = model, method = method), inside, list(evaluation), settings),
    settings$seed, settings$level
  ))
}

# The importances of a ranking of one model; on rows a tree has not seen, where they are known.
importances_of <- function(ranking) {
  table <- as_plain(ranking)
  table <- table[is.na(table$class), ]
  table <- table[table$rows == if ("oob" %in% table$rows) "oob" else table$rows[1], ]
  stats::setNames(table$importance, table$predictor)
}

# A form that does not go without saying for its method; else "".
said_form <- function(method, form) {
  usual <- lapply(importance_methods(), `[[`, "usual_forms")
  said <- !mapply(function(m, f) f %in% usual[[m]], method, form)
  ifelse(unname(said), form, "")
}

# The same for rows, and for the slice they are.
said_rows <- function(method, rows) {
  usual <- lapply(importance_methods(), `[[`, "usual_rows")
  said <- !mapply(function(m, r) is.null(usual[[m]]) || r %in% usual[[m]], method, rows)
  # "permutation left out" would be a method that was not used
  ifelse(unname(said), sub("^left out$", "on rows left out", rows), "")
}
