#' Choose a set of predictors from a reduction
#'
#' @param reduction A result of [reduce_predictors()].
#' @param ... Must be empty.
#' @param rule `"one_se"` (default): the smallest set whose cross-validated loss is within one standard error of the best one's, the
#'   error being that of the paired difference (Breiman et al. 1984). `"best"`: the set with the lowest loss; ties go to the smaller.
#' @param model Name of the model, needed when the reduction holds several.
#' @return A list of class `dreher_set`:
#'   \describe{
#'   \item{model, rule, predictors, size, left_out}{what was chosen, for which model, by which rule; `size` 0 means that no set is better
#'     than a constant}
#'   \item{price, price_error, price_lower, price_upper}{rise of the cross-validated loss against all predictors, paired by row, at the chosen size}
#'   \item{procedure}{a one-row data frame with the honest score of the whole procedure, choice included (`score`, `lower`, `upper`), and its
#'     `price` against all predictors with limits}
#'   \item{picked}{a data frame of `predictor`, `chosen` (in the set?) and `share` (of the outer splits whose own choice had it)}
#'   \item{sizes_picked}{the sizes chosen in the outer splits}
#'   }
#'   `as.data.frame()` gives one row with the set's figures.
#' @details The size is read off the cross-validated curve of all training rows. The procedure's score comes from outer splits in which
#'   the same rule was applied to an inner cross-validation, and the held-out part scored only the size so chosen.
#' @section Errors: A rule that is not known; several models and none named.
#' @references Breiman, L., Friedman, J., Olshen, R. and Stone, C. (1984). \doi{10.1201/9781315139470}, section 3.4.3.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' choose_set(reduce_predictors(st, folds = 3, times = 1, inner_folds = 2))
#' @export
choose_set <- function(reduction, ..., rule = "one_se", model = NULL) {
  check_class(reduction, "dreher_reduction", "reduction", "reduce_predictors()")
  check_no_dots(..., .verb = "choose_set")
  rule <- check_choice(rule, c("one_se", "best"), "rule")
  if (is.null(model)) {
    if (length(reduction$curves) > 1) {
      stop_input(paste0("The reduction holds several models: ", quote_some(names(reduction$curves)), "."),
                 todo = "Name one in `model`.")
    }
    model <- names(reduction$curves)
  }
  curve <- reduction$curves[[check_choice(model, names(reduction$curves), "model")]]
  st <- reduction$study
  moments <- curve_moments(st, curve$cases, curve$outer, reduction$seed)
  at <- apply_rule(moments, rule)
  full <- length(curve$sizes)
  size <- curve$sizes[at]
  price_error <- difference_error(moments, at, full)
  limits <- t_limits(moments$loss[at] - moments$loss[full], price_error, moments$df, reduction$level)
  inside <- vapply(curve$splits, function(s) apply_rule(s$inner, rule), 1L)
  predictors <- curve$order[seq_len(size)]
  structure(
    list(model = model, rule = rule, by = reduction$by, predictors = predictors, size = size,
         left_out = setdiff(curve$order, predictors),
         score = as_score(st$metric, moments$loss[at]), price = moments$loss[at] - moments$loss[full], price_error = price_error,
         price_lower = limits$lower, price_upper = limits$upper, full_score = as_score(st$metric, moments$loss[full]),
         constant_score = as_score(st$metric, moments$loss[1]), gain_full = moments$loss[1] - moments$loss[full],
         procedure = procedure_score(reduction, curve, inside), picked = count_picked(curve, inside, predictors),
         sizes_picked = curve$sizes[inside], study = st, seed = reduction$seed, level = reduction$level),
    class = "dreher_set")
}

apply_rule <- function(moments, rule) {
  best <- which.min(moments$loss)   # sizes rise, so a tie goes to the smaller set
  if (rule == "best") return(best)
  slack <- difference_error(moments, seq_along(moments$loss), best)
  which(moments$loss <= moments$loss[best] + slack)[1]
}

# Every outer split chose its own size; the held-out rows score that choice only.
procedure_score <- function(rd, curve, inside) {
  st <- rd$study
  full <- length(curve$sizes)
  chosen <- lapply(seq_along(curve$outer), function(t) {
    both <- curve$outer[[t]][, c(1, full), , drop = FALSE]
    for (i in which(vapply(curve$pieces, `[[`, 1L, "time") == t)) {
      rows <- curve$fold_of[, t] == curve$pieces[[i]]$fold
      both[rows, 1, ] <- curve$outer[[t]][rows, inside[i], ]
    }
    both
  })
  m <- curve_moments(st, curve$cases, chosen, rd$seed)
  own <- t_limits(as_score(st$metric, m$loss[1]), sqrt(m$cov[1, 1]), m$df, rd$level)
  price <- t_limits(m$loss[1] - m$loss[2], difference_error(m, 1, 2), m$df, rd$level)
  data.frame(score = as_score(st$metric, m$loss[1]), lower = own$lower, upper = own$upper, price = m$loss[1] - m$loss[2],
             price_lower = price$lower, price_upper = price$upper)
}

count_picked <- function(curve, inside, predictors) {
  hits <- Reduce(`+`, lapply(seq_along(curve$splits), function(i) {
    curve$order %in% curve$splits[[i]]$order[seq_len(curve$sizes[inside[i]])]
  }))
  data.frame(predictor = curve$order, chosen = curve$order %in% predictors, share = hits / length(curve$splits))
}

#' @export
as.data.frame.dreher_set <- function(x, ...) {
  data.frame(model = x$model, rule = x$rule, size = x$size, predictors = paste(x$predictors, collapse = ", "), score = x$score,
             full_score = x$full_score, constant_score = x$constant_score, price = x$price, price_lower = x$price_lower,
             price_upper = x$price_upper, procedure_score = x$procedure$score, procedure_lower = x$procedure$lower,
             procedure_upper = x$procedure$upper)
}

#' @export
summary.dreher_set <- function(object, ...) object$picked
