#' Write and read a chosen set
#'
#' A small JSON file that other languages can read: what was chosen, at what price, how sure that
#' is, and how to come to it again.
#'
#' @param set A result of [choose_set()].
#' @param file Path of the file; it should end in `.json`.
#' @return `write_predictor_set()`: `file`, invisibly. `read_predictor_set()`: a list with the
#'   file's fields; `as.character()` gives the columns, `formula()` a formula, and
#'   [compare_sets()] takes it as a set.
#' @details The file is one object:
#'
#' \describe{
#'   \item{`format`}{`"dreher predictor set"`, and its `version`, 1} \item{`target`, `model`,
#'   `refit`}{names: what is predicted, the model that ranked, the model that was trained on the
#'   set} \item{`predictors`, `left_out`}{names, in the order found; empty where nothing was
#'   chosen} \item{`families`}{names of the families and their members in the set}
#'   \item{`stands_for`}{predictors of the set and the twins that could replace them}
#'   \item{`rule`, `margin`}{how it was chosen; `margin` with its unit, or null} \item{`metric`,
#'   `better`}{the metric's name; `lower` or `higher`} \item{`score`, `limits`, `all`,
#'   `constant`}{nested cross-validation score of the set, its two limits, that of all predictors
#'   and of none} \item{`price`}{an object with `value`, `lower`, `upper`: the loss paid against all
#'   predictors, by nested cross-validation} \item{`curve`}{`score` and `price` of the chosen number
#'   on the curve: optimistic} \item{`stability`}{chance-corrected stability of the choice
#'   over splits, or null} \item{`looks`}{a list, one object for each time the set was confirmed
#'   on untouched rows: fingerprints of `rows` and `set`, `n`, `statement`, `at`} \item{`level`,
#'   `seed`}{of the intervals; of all that was drawn} \item{`rows`, `fingerprint`}{number of
#'   training rows; fingerprint of their target and predictors} \item{`code`}{the calls that give
#'   the set again}
#' }
#' @section Errors: A file that cannot be written or read, or is no such file.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' ps <- choose_set(reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2))
#' file <- tempfile(fileext = ".json")
#' write_predictor_set(ps, file)
#' read_predictor_set(file)$predictors
#' @export
write_predictor_set <- function(set, file) {
  own_settings()
  check_class(set, "dreher_set", "set", "choose_set()")
  check_string(file, "file")
  refuse_target(file)
  st <- set$study
  family <- st$dictionary$family[match(set$predictors, st$dictionary$predictor)]
  one <- jsonlite::unbox
  number <- function(x) one(if (length(x) && is.finite(x)) as.double(x) else NA_real_)
  around <- function(value, lower, upper) {
    list(value = number(value), lower = number(lower), upper = number(upper))
  }
  about <- list(
    format = one("dreher predictor set"),
    version = one(1L),
    target = one(st$target),
    model = one(set$model),
    refit = one(set$refit),
    predictors = as.character(set$predictors),
    left_out = as.character(set$left_out),
    families = split(set$predictors[!is.na(family)], family[!is.na(family)]),
    stands_for = set$stands_for,
    rule = one(set$rule),
    margin = one(if (is.null(set$margin)) NA else set$margin),
    metric = one(st$metric$name),
    better = one(st$metric$better),
    score = number(set$score),
    limits = c(set$lower, set$upper),
    all = number(set$full_score),
    constant = number(set$constant_score),
    price = around(set$price, set$price_lower, set$price_upper),
    curve = list(
      score = number(set$curve_score),
      price = around(set$curve_price, set$curve_lower, set$curve_upper)
    ),
    stability = number(set$stability[["value"]]),
    looks = looks_of_set(set),
    level = one(set$level),
    seed = one(set$seed),
    rows = one(nrow(st$train)),
    fingerprint = one(training_print(st)),
    code = set$calls
  )
  for (name in c("families", "stands_for")) {
    if (!length(about[[name]])) about[[name]] <- stats::setNames(list(), character())
  }
  write_text(jsonlite::toJSON(about, digits = NA, na = "null", pretty = TRUE), file)
}

#' @rdname write_predictor_set
#' @export
read_predictor_set <- function(file) {
  own_settings()
  check_string(file, "file")
  if (!file.exists(file)) stop_input(paste0("There is no file \"", file, "\"."))
  found <- tryCatch(jsonlite::fromJSON(file), error = function(e) {
    stop_input(paste0("The file \"", file, "\" is not JSON."), conditionMessage(e))
  })
  if (!is.list(found) || !identical(found$format, "dreher predictor set")) {
    stop_input(
      paste0("The file \"", file, "\" is no predictor set."),
      todo = "Give a file written by write_predictor_set()."
    )
  }
  if (!is.numeric(found$version) || !identical(as.double(found$version), 1)) {
    stop_input(
      paste0(
        "The predictor set \"", file, "\" has version ",
        paste(unlist(found$version), collapse = ", "), "; version 1 is known."
      ),
      todo = "Update dreher."
    )
  }
  check_set_fields(found, file)
  found$predictors <- as.character(unlist(found$predictors))
  found$left_out <- as.character(unlist(found$left_out))
  looks <- jsonlite::fromJSON(file, simplifyVector = FALSE)$looks
  found$looks <- tryCatch(sound_looks(looks), error = function(e) {
    stop_input(
      paste0("The file \"", file, "\" is damaged: ", conditionMessage(e), "."),
      todo = "Write the set again."
    )
  })
  found$file <- file
  structure(found, class = "dreher_set_file")
}

# A set file may come from anywhere: every field that is used is what it should be.
check_set_fields <- function(found, file) {
  is_text <- function(x) is.character(x) && length(x) == 1 && !is.na(x) && nchar(x) < 1000
  is_number <- function(x) is.numeric(x) && length(x) == 1 && is.finite(x)
  is_names <- function(x) {
    x <- unlist(x)
    is.null(x) || (is.character(x) && !anyNA(x) && all(nchar(x) < 1000) && !anyDuplicated(x))
  }
  fields <- list(
    target = is_text, model = is_text, refit = is_text, rule = is_text, metric = is_text,
    predictors = is_names, left_out = is_names, score = is_number, all = is_number,
    constant = is_number, level = is_number, seed = is_number
  )
  odd <- names(fields)[!mapply(function(is, name) is(found[[name]]), fields, names(fields))]
  if (length(odd)) {
    stop_input(
      paste0(
        "The file \"", file, "\" is damaged: ", quote_some(odd),
        if (length(odd) == 1) " is" else " are", " not what a set file holds."
      ),
      todo = "Write the set again."
    )
  }
}

#' @export
as.character.dreher_set_file <- function(x, ...) x$predictors

#' @export
formula.dreher_set_file <- function(x, ...) {
  # Names from a file are names, never code.
  plain_formula(x$target, x$predictors, globalenv())
}

# Looks of this session at which the set was compared.
looks_of_set <- function(set) {
  own <- Filter(function(l) identical(l$set, set_print(set)), known_looks(set))
  lapply(own, function(l) lapply(l, jsonlite::unbox))
}
