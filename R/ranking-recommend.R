#' Which importance to read first
#'
#' What the study's data and models say about which importance can be believed: the methods that
#' apply to each model, which to read first, which beside it, and which not to rely on.
#'
#' @param study A [study()].
#' @param ... Must be empty.
#' @return A data frame of class `dreher_advice`, one row per model and method, of models that can
#'   be ranked by it: \describe{ \item{model, method}{as in [rank_predictors()]} \item{use}{`first`,
#'   `beside` (answers another question), `with care`, or `not`} \item{why}{the reason, with what
#'   was found in the data} }
#' @details The rules rest on simulations with a known truth (`bench/methods.R`), shown in
#'   `vignette("believing")`: \itemize{
#'   \item Permutation importance on rows that no model has seen comes first: it is what the score
#'   would lose, in the metric's unit, for every kind of model. Of predictors that go together
#'   (association 0.7 or more) each gets credit for what another one knows; then shuffle them
#'   together (`groups`), or read conditional permutation and refits beside it.
#'   \item Impurity importance on training rows is not to be relied on where some predictors have
#'   many levels or values and others few; out of bag it favours them much less.
#'   \item Shapley values divide predictions, right or wrong; those of predictors that go together
#'   are shared.
#'   \item Association sees each predictor by itself, and misses what acts with others only.
#'   \item From fewer than 100 training rows, or fewer than 10 for each predictor, no order is to be
#'   read without resamples.
#'   \item A model without skill has no importance worth reading. }
#' @section Errors: Something other than a study.
#' @seealso [rank_predictors()], [stability()].
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- rpart::rpart(strength ~ peak_temp + pyro_left + hold_minutes + operator, kiln$train)
#' recommend_methods(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
recommend_methods <- function(study, ...) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "recommend_methods")
  found <- circumstances_of(study)
  rows <- do.call(rbind, lapply(study$models, function(m) {
    methods <- Filter(
      function(method) !nzchar(why_not(method, m, study)), method_names()
    )
    out <- do.call(rbind, lapply(methods, advise_method, model = m, found = found))
    if (!is.null(out)) cbind(model = m$name, out)
  }))
  rows <- rows[order(
    match(rows$model, names(study$models)),
    match(rows$use, c("first", "beside", "with care", "not"))
  ), ]
  rownames(rows) <- NULL
  new_table(rows, "advice", list(
    target = study$target, few_rows = found$few_rows
  ))
}

# What in data and models decides between the methods. together: predictors that have another one
# at an association of 0.7 or more.
circumstances_of <- function(st) {
  pairs <- if (isFALSE(st$notes)) NULL else find_alike(st, 0.7)
  columns <- st$data[intersect(st$predictors, names(st$data))]
  values <- vapply(columns, function(x) length(unique(x[!is.na(x)])), 1L)
  n <- if (is.null(st$train)) NA_integer_ else nrow(st$train)
  p <- length(st$predictors)
  list(
    together = unique(c(pairs$predictor, pairs$other)),
    p = p,
    uneven = length(values) > 1 && max(values) > 4 * max(min(values), 1),
    seen = isTRUE(st$seen),
    few_rows = p > 1 && !is.na(n) && (n < 100 || n < 10 * p),
    skill = flags_of(st)$models
  )
}

advise_method <- function(method, model, found) {
  say <- function(use, ...) data.frame(method = method, use = use, why = paste0(...))
  if (grepl("no skill", found$skill[[model$name]], fixed = TRUE)) {
    return(say("not", "the model is not shown to beat a constant"))
  }
  some <- length(found$together)
  shared <- if (some) {
    paste0(some, " of ", found$p, " predictors go together (association 0.7 or more)")
  }
  switch(
    method,
    permutation = if (found$seen) {
      say("with care", "the rows were trained on, so that it is optimistic")
    } else if (some) {
      say(
        "first",
        "what the score would lose; ",
        shared,
        ": shuffle those together (groups), and read shuffle = \"conditional\" beside"
      )
    } else {
      say(
        "first",
        "what the score would lose",
        if (found$p > 1) "; no two predictors go together closely"
      )
    },
    impurity = if (found$uneven) {
      say(
        "with care",
        paste0(
          "on training rows it favours predictors of many values, and here some have ",
          "many more "
        ),
        "than others; read it out of bag or on holdout rows"
      )
    } else {
      say(
        "beside",
        "what the trees' splits gained",
        if (found$p > 1) "; the predictors have about as many values each"
      )
    },
    shapley = say(
      "beside",
      "divides predictions, right or wrong",
      if (some) paste0("; ", shared, ", and share the credit")
    ),
    refit = say(
      "beside",
      "what training without a predictor costs",
      if (some) ": near 0 where another one can replace it"
    ),
    coefficients = say(
      if (some) "with care" else "beside",
      "of this model's terms",
      if (some) paste0("; ", shared, ", so that coefficients are uncertain")
    ),
    association = say(
      "with care", "each predictor by itself: what acts with others only is missed"
    ),
    structure = say("with care", "how often trees ask, not what the answers are worth"),
    say("beside", "a method of your own")
  )
}
