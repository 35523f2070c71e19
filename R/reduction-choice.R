#' Choose a set of predictors from a reduction
#'
#' @param reduction A result of [reduce_predictors()].
#' @param ... Must be empty.
#' @param rule What counts as enough: \describe{ \item{`"one_se"`}{(default) the smallest set
#'   whose cross-validated loss is at most the lowest one plus the standard error of that lowest
#'   loss (Breiman et al. 1984)} \item{`"one_se_paired"`}{the smallest set whose loss exceeds the
#'   lowest one by at most one standard error of their paired difference, widened as that of a
#'   price is} \item{`"best"`}{the lowest loss; ties go
#'   to the smaller set} \item{`"within"`}{the smallest set of which the one-sided upper limit of
#'   the loss above that of all predictors is below `margin` (non-inferiority)}
#'   \item{`"cheapest"`}{of the sets within `margin` the one of lowest cost by the dictionary}
#'   \item{`"cumulative"`}{the smallest set with a share of `cumulative` of the positive
#'   importance (searches `"ranking"` and `"backward"`)} \item{`"count"`}{`count` predictors,
#'   beside those kept; families count as one} \item{`"floor"`}{what exceeds permuted copies;
#'   needs `reduce_predictors(floor_refits = )`} } By each rule but `"count"`, nothing is chosen
#'   when no set is better than the constant.
#' @param margin The loss one is ready to pay, with its unit: `"2 %"` of what all predictors gain
#'   over the constant (default), or a number with the metric's name, as `"0.4 rmse"`.
#' @param cumulative For the rule `"cumulative"`: a share of the importance, between 0 and 1.
#' @param count For the rule `"count"`: number of predictors.
#' @param model Name of the model, needed when the reduction holds several.
#' @return A list of class `dreher_set`, among others: \describe{ \item{model, rule, predictors,
#'   count, left_out}{what was chosen, for which model, by which rule; `count` 0 means that by
#'   this rule no set beats a constant} \item{score, lower, upper}{the nested cross-validation
#'   score: what the whole way of choosing promises, in the metric's unit; also where nothing is
#'   chosen, while some splits chose more} \item{price, price_error,
#'   price_lower, price_upper}{rise of the loss against all predictors, paired by row, by the same
#'   nested cross-validation} \item{skill, skill_lower, skill_upper}{by how much it is better than
#'   the constant} \item{full_score, constant_score}{scores of all predictors and of the constant
#'   on the same rows} \item{curve_score, curve_price, curve_lower, curve_upper}{score and price
#'   of the chosen number on the curve, with the limits of that price: optimistic, as the number
#'   was chosen there} \item{chosen_share}{a data frame of
#'   `predictor`, `chosen` (in the set?) and `share` (of the outer splits whose own choice had
#'   it)} \item{counts_chosen}{the numbers of predictors chosen in the outer splits}
#'   \item{drawings}{a data frame: `count` that each drawing of the folds alone would choose, and
#'   the nested `score` of its splits} \item{outside}{TRUE where the set is smaller or larger than
#'   that of every split, so that score and price are carried over from other sizes; a warning says
#'   so} \item{stability}{how alike these choices are, corrected for chance (Nogueira, Sechidis and
#'   Brown 2018): `value`, `std_error`, `lower`, `upper`; 1 is the same set in every split, 0 what
#'   chance gives; `NA` where all or nothing is always chosen. The splits share rows, so that the
#'   interval is of the splits only} \item{overlap}{the mean over these splits of the predictors
#'   that both the split's choice and this set hold, as a share of those that either holds}
#'   \item{allowed}{the margin in the metric's unit: that of the rule, else 2 % of what all
#'   predictors gain over the constant} \item{stands_for}{named list: predictors of the set, and
#'   the twins that could replace them: that explain at least 70 % of them} } `as.data.frame()`
#'   gives one row with the set's figures, `formula()` a formula, `as.character()` the columns.
#' @details *Choice:* the number is read off a cross-validation of all training rows. The same
#'   procedure - as many folds and drawings, the same rule - is applied inside every outer split,
#'   and the held-out part scores only the number so chosen.
#'
#' *Size:* the final set may be of another size than the splits' sets. Its loss is that of the
#'   curve at its number, plus what the splits' sets lost on held-out rows beyond the curve over
#'   the other rows.
#'
#' *Training rows:* an outer split trains on fewer rows than the final model. How much that costs
#'   is read off the inner folds, which train on fewer still: on the same rows their losses exceed
#'   those of the outer folds by some amount, of which `(inner_folds - 1) / folds` is taken off,
#'   as for a loss that falls with one over the number of training rows (the idea of the
#'   correction of Bates, Hastie and Tibshirani 2024). Never more than one standard error over rows
#'   is taken off.
#'
#' *Intervals:* a row acts as one that is judged and as one that trains. The first part of the
#'   variance is that over the rows' losses. The second is that of leaving out one fold after the
#'   other from training: the jackknife over folds of the differences between inner and outer
#'   losses of the same rows. The score's limits are those of the first part, adjusted for skewness
#'   (Hall 1992), with the second added to their squares. For the price the first part is the
#'   larger one of that of the splits' choices and that of the set on the curve, `rows`. The second
#'   is `sqrt(own * rows) * (path / 2)^(1 / 4)`. `own` is the geometric mean of two jackknives over
#'   folds, that of the differences between inner and outer prices and that of the inner price
#'   itself; `path` is the geometric mean of `own / rows` over all sets of the path. Of as few
#'   values as there are folds `own` is noisy, and a jackknife is too large on average (Efron and
#'   Stein 1981).
#'
#'   In simulations (`bench/choice.R`: 300 to 900 data sets a cell; 100, 300 and 1,000 rows of
#'   linear and logistic models, forests and boosted trees; each final model tried on 10,000 fresh
#'   rows) with the rule `"one_se"`, the score's interval held in 93 to 97 % of the data sets of a
#'   cell, and so did that of the price; the mean score was within two standard errors of the true
#'   one, and the mean price within 0.2 of the standard deviation of its error; where nothing acts
#'   nothing was chosen in at least 95 %.
#'
#' *Which rule:* `"one_se"` chose two or three of six predictors there, the more rows the more, and
#'   lost more than the margin of 2 %: 0.01 to 0.05 beyond it with 100 rows, 0.01 to 0.02 with 300,
#'   at most 0.01 with 1,000 (of an error variance of 1).
#'   `"one_se_paired"` chose as few of 100 rows, and about three of 300 rows, at most 0.01 beyond
#'   the margin, and with 1,000 rows within it; `"best"` kept about four, and lost about the
#'   margin at most. What `"one_se"` chooses
#'   hangs least on the seed: on the made-up tiles its numbers over 20 seeds differed by at most
#'   one, those of `"one_se_paired"` by three, those of `"best"` by four. It is the default for
#'   that: a choice that another seed repeats. To pay no more than a margin use `"within"`.
#' @section Errors: A rule that is not known or lacks what it needs; a margin without a unit;
#'   several models and none named.
#' @references Breiman, L., Friedman, J., Olshen, R. and Stone, C. (1984).
#'   \doi{10.1201/9781315139470}, section 3.4.3.
#'   Bates, S., Hastie, T. and Tibshirani, R. (2024). \doi{10.1080/01621459.2023.2197686}.
#'   Efron, B. and Stein, C. (1981). \doi{10.1214/aos/1176345462}.
#'   Hall, P. (1992). \doi{10.1111/j.2517-6161.1992.tb01876.x}.
#'   Nadeau, C. and Bengio, Y. (2003). \doi{10.1023/A:1024068626366}.
#'   Nogueira, S., Sechidis, K. and Brown, G. (2018). \url{https://jmlr.org/papers/v18/17-514.html}.
#' @seealso [confirm_set()], [compare_sets()], [refit_on()], [write_predictor_set()].
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2)
#' choose_set(rd)
#' choose_set(rd, rule = "within", margin = "5 %")
#' @export
choose_set <- function(
    reduction, ..., rule = "one_se", margin = "2 %", cumulative = 0.95, count = NULL,
    model = NULL) {
  check_class(reduction, "dreher_reduction", "reduction", "reduce_predictors()")
  check_no_dots(..., .verb = "choose_set")
  rule <- check_choice(rule, set_rules, "rule")
  curve <- pick_curve(reduction, model)
  st <- reduction$study
  check_margin(margin, st)
  if (!is.null(count)) {
    count <- check_count(count, "count", least = 0)
    if (rule != "count") {
      stop_input(
        paste0("`count` is for rule = \"count\"; the rule is \"", rule, "\"."),
        todo = "Leave one of them out."
      )
    }
  }
  asked_rule <- list(
    name = rule,
    margin = if (rule %in% c("within", "cheapest")) check_margin(margin, st),
    cumulative = check_fraction(cumulative, "cumulative"),
    count = count,
    level = reduction$level
  )
  check_rule(curve, reduction, asked_rule)
  full <- match("all", names(curve$columns))
  moments_of <- function(p) curve_moments(st, curve$info, p, reduction$seed, c(1L, full))
  choose <- function(moments) {
    apply_rule(moments, curve, curve, asked_rule, reduction$inner_folds)
  }
  choice <- moments_of(curve$choice)
  at <- choose(choice)
  inside <- vapply(
    curve$splits,
    function(s) apply_rule(s$inner, s, curve, asked_rule, reduction$inner_folds),
    1L
  )
  predictors <- in_order_found(curve, curve$columns[[at]])
  outer <- moments_of(curve$outer)
  curve_price <- price_of_point(reduction, outer, at, full)
  chosen_share <- share_of_splits(curve, inside, predictors)
  beside <- random_band(st, curve)[at, ]
  chosen <- lapply(seq_along(inside), function(i) split_set(curve, i, inside[i]))
  skill <- choice$loss[1] - choice$loss[full]
  usual <- list(share = 0.02)
  nested <- nested_score(reduction, curve, inside, at, outer)
  set <- validate_set(new_set(c(
    list(
      model = curve$model,
      refit = curve$plan$refit,
      rule = rule,
      margin = asked_rule$margin$text,
      by = reduction$by,
      predictors = predictors,
      count = length(predictors),
      left_out = setdiff(in_order_found(curve, curve$plan$universe), predictors)
    ),
    nested[names(nested) != "shift"],
    list(
      curve_score = as_score(st$metric, outer$loss[at]),
      curve_price = curve_price$value,
      curve_lower = curve_price$lower,
      curve_upper = curve_price$upper,
      skill_full = skill,
      allowed = margin_value(
        if (is.null(asked_rule$margin)) usual else asked_rule$margin, skill
      ),
      cost = cost_of(curve$plan, predictors),
      cost_full = cost_of(curve$plan, curve$plan$universe),
      random_p = beside$random_p,
      random_sets = beside$random_sets,
      random_as_good = beside$random_as_good,
      random = reduction$random,
      chosen_share = chosen_share$table,
      stability = chosen_share$stability,
      overlap = mean(vapply(chosen, share_in_common, 0, predictors)),
      counts_chosen = lengths(chosen),
      drawings = data.frame(
        count = lengths(curve$columns)[vapply(
            curve$choice, function(p) choose(moments_of(list(p))), 1L
          )],
        score = score_of_drawings(st, curve, inside, nested$shift)
      ),
      outside = is_outside(length(predictors), lengths(chosen)),
      stands_for = twins_of_set(curve, predictors),
      calls = recipe_of(reduction, curve$model, asked_rule),
      study = st,
      seed = reduction$seed,
      level = reduction$level
    )
  )))
  if (set$outside) {
    warn_dreher(
      "choice",
      paste0(
        "Chosen on all rows: ", set$count, "; in the splits: ",
        say_range(set$counts_chosen),
        if (all(set$counts_chosen == 1)) " predictor." else " predictors."
      ),
      paste0(
        "No split chose this size: its score and price are carried over from theirs ",
        "by the curve."
      )
    )
  }
  set
}

is_outside <- function(count, counts) count < min(counts) || count > max(counts)

# "5", "5 to 7".
say_range <- function(x) paste(unique(range(x)), collapse = " to ")

# The curve of one model, the only one unless it is named.
pick_curve <- function(reduction, model) {
  if (is.null(model)) {
    refit <- vapply(reduction$curves, function(curve) curve$plan$refit, "")
    model <- names(reduction$curves)[match(best_model(reduction$study, unname(refit)), refit)]
  }
  reduction$curves[[check_choice(model, names(reduction$curves), "model")]]
}

# What a point of the curve costs against all predictors, with its error and limits.
price_of_point <- function(reduction, moments, at, full) {
  value <- moments$loss[at] - moments$loss[full]
  error <- price_error_of(moments, at, full, reduction$folds)
  c(
    list(value = value, error = error),
    t_limits(value, error, folds_df(reduction), reduction$level)
  )
}

new_set <- function(fields) new_record(fields, "set")

validate_set <- function(x) {
  fields <- c(
    model = "character", refit = "character", rule = "character",
    predictors = "character", left_out = "character", count = "integer", score = "double",
    price = "double", skill = "double", curve_score = "double", chosen_share = "list",
    study = "list"
  )
  check_shape(x, fields, "set")
  check_holds(
    x$count == length(x$predictors), "set", "its count is not its number of predictors"
  )
  check_holds(
    !any(x$predictors %in% x$left_out), "set", "a predictor is both in it and left out"
  )
  x
}

# Predictors in both of two sets, as a share of those in either.
share_in_common <- function(a, b) {
  if (length(union(a, b))) length(intersect(a, b)) / length(union(a, b)) else 1
}

set_rules <- c(
  "one_se", "one_se_paired", "best", "within", "cheapest", "cumulative", "count", "floor"
)

# "2 %" or "0.4 rmse". -> list(share or value, text)
check_margin <- function(margin, st) {
  read <- read_margin(margin, st$metric$name)
  if (!is.null(read$share)) return(read)
  if (!read$unit %in% c(st$metric$name, st$metric$label)) {
    stop_input(
      paste0(
        "The margin's unit \"", read$unit, "\" is neither % nor the study's metric."
      ),
      todo = paste0(
        "Write \"2 %\" (of what all predictors gain over the constant) or \"0.4 ",
        st$metric$name, "\"."
      )
    )
  }
  list(value = read$value, text = paste(format(read$value), st$metric$name))
}

# The same as far as it can be told without a study. -> list(share, text) or list(value, unit)
read_margin <- function(margin, unit = "rmse") {
  fits <- paste0(
    "Write \"2 %\" (of what all predictors gain over the constant) or \"0.4 ", unit, "\"."
  )
  if (is.numeric(margin) && length(margin) == 1) {
    stop_input(paste0("A margin of ", margin, " has no unit."), todo = fits)
  }
  if (!is.character(margin) || length(margin) != 1 || is.na(margin)) {
    stop_input(
      "`margin` must be a number with its unit.",
      paste0("Given: ", describe_value(margin), "."),
      fits
    )
  }
  parts <- regmatches(
    margin,
    regexec("^\\s*([0-9.]+(?:[eE][-+]?[0-9]+)?)\\s*(.*?)\\s*$", margin, perl = TRUE)
  )[[1]]
  number <- if (length(parts)) suppressWarnings(as.double(parts[2])) else NA
  if (is.na(number) || number <= 0) {
    stop_input(
      paste0("The margin \"", margin, "\" is not a positive number with its unit."),
      todo = fits
    )
  }
  if (parts[3] == "%") return(list(share = number / 100, text = paste(parts[2], "%")))
  if (!nzchar(parts[3])) {
    stop_input(paste0("A margin of ", margin, " has no unit."), todo = fits)
  }
  list(value = number, unit = parts[3])
}

margin_value <- function(margin, skill) {
  if (is.null(margin$value)) margin$share * skill else margin$value
}

check_rule <- function(curve, reduction, rule) {
  if (rule$name == "count") {
    if (is.null(rule$count)) {
      stop_input("The rule \"count\" needs `count`, the number of predictors.")
    }
    if (!rule$count %in% curve$settings$points) {
      stop_input(
        paste0("A set of ", rule$count, " predictors was not scored."),
        paste0("Scored: ", paste(curve$settings$points, collapse = ", "), "."),
        "Give `reduce_predictors(counts = )` the numbers you want."
      )
    }
  }
  if (rule$name == "floor" && !"above floor" %in% names(curve$columns)) {
    stop_input(
      "The rule \"floor\" needs permuted copies in every training part.",
      todo = "Call reduce_predictors(floor_refits = 19) or more."
    )
  }
  if (rule$name == "cumulative" && is.null(curve$importance)) {
    stop_input(
      paste0(
        "The rule \"cumulative\" needs importances, which the search \"", reduction$search,
        "\" does not have."
      ),
      todo = "Use search = \"ranking\"."
    )
  }
  if (rule$name == "cheapest" && anyNA(curve$plan$cost[curve$plan$universe])) {
    stop_study(
      paste0(
        "The rule \"cheapest\" needs the cost of every predictor; the dictionary does ",
        "not say it of ",
        quote_some(names(which(is.na(curve$plan$cost[curve$plan$universe])))), "."
      ),
      todo = "Fill in the dictionary's column `cost`."
    )
  }
}

# Which column of the curve a rule takes. `found`: what this part's path found (columns,
# importance); moments: of its own cross-validation.
apply_rule <- function(moments, found, curve, rule, folds) {
  loss <- moments$loss
  path <- path_columns(curve)
  path <- path[is.finite(loss[path])]  # sizes a model could not be trained on are passed over
  full <- match("all", names(curve$columns))
  best <- path[which.min(loss[path])]  # sizes rise, so a tie goes to the smaller set
  if (rule$name == "count") return(column_of(curve, rule$count))
  nothing <- path[1]
  if (loss[best] >= loss[1]) return(nothing)
  if (rule$name == "best") return(best)
  if (rule$name == "one_se") {
    return(path[which(loss[path] <= loss[best] + sqrt(moments$cov[best, best]))[1]])
  }
  if (rule$name == "one_se_paired") {
    return(
      path[which(loss[path] <= loss[best] + price_error_of(moments, path, best, folds))[1]]
    )
  }
  if (rule$name == "floor") return(match("above floor", names(curve$columns)))
  if (rule$name == "cumulative") {
    # From the top of the ranking, whatever was kept.
    worth <- sort(pmax(found$importance, 0), decreasing = TRUE)
    if (sum(worth) == 0) return(nothing)
    enough <- which(cumsum(worth) >= rule$cumulative * sum(worth) * (1 - 1e-12))[1]
    return(column_of(curve, curve$settings$points[which(curve$settings$points >= enough)[1]]))
  }
  margin <- margin_value(rule$margin, loss[1] - loss[full])
  candidates <- setdiff(path, 1L)
  limit <- loss[candidates] - loss[full] +
    stats::qt(rule$level, moments$df) * price_error_of(moments, candidates, full, folds)
  inside <- candidates[which(limit < margin)]
  if (!length(inside)) {
    return(if (setequal(curve$columns[[max(path)]], curve$columns[[full]])) {
      max(path)
    } else {
      best
    })
  }  # nothing is sure to be within: all that may be had
  if (rule$name == "within") return(inside[1])
  cost <- vapply(found$columns[inside], function(s) cost_of(curve$plan, s), 0)
  inside[which.min(cost)]
}

column_of <- function(curve, units) {
  if (units == 0 && !length(curve$plan$keep)) {
    1L
  } else {
    match(as.character(units), names(curve$columns))
  }
}

# The predictors of a set, as the path on all rows brought them in.
in_order_found <- function(curve, set) {
  order <- c(curve$plan$keep, unlist(curve$plan$units[curve$order], use.names = FALSE))
  c(intersect(order, set), setdiff(set, order))
}

# The set that outer split i has at this column: the inner choice is a size, which the split's own
# path fills. What stands beside the path has sets of its own.
split_set <- function(curve, i, column) curve$splits[[i]]$columns[[column]]

share_of_splits <- function(curve, inside, predictors) {
  all <- in_order_found(curve, curve$plan$universe)
  z <- t(vapply(
    seq_along(inside),
    function(i) as.double(all %in% split_set(curve, i, inside[i])),
    double(length(all))
  ))
  if (length(all) == 1) z <- t(z)
  list(
    table = data.frame(
      predictor = all, chosen = all %in% predictors, share = colMeans(z)
    ),
    stability = set_stability(z)
  )
}

twins_of_set <- function(curve, predictors) {
  standing <- curve$standing
  if (is.null(standing)) return(list())
  members <- function(units) unlist(curve$plan$units[units], use.names = FALSE)
  out <- lapply(standing, members)
  names(out) <- vapply(names(standing), function(u) members(u)[1], "")
  out[intersect(predictors, names(out))]
}

# The calls that give this set again.
recipe_of <- function(rd, model, rule) {
  say <- function(args) {
    paste0(names(args), " = ", vapply(args, deparse1, ""), collapse = ", ")
  }
  rest <- list(
    by = rd$by,
    search = rd$search,
    thin_twins = rd$thin_twins,
    random = rd$random,
    folds = rd$folds,
    repeats = rd$repeats,
    inner_folds = rd$inner_folds
  )
  if (!is.null(rd$groups)) rest$groups <- rd$groups
  for (name in c("steps", "budget", "floor_refits", "counts", "refit_as")) {
    if (!is.null(rd[[name]])) rest[[name]] <- rd[[name]]
  }
  first <- paste0(
    "reduction <- reduce_predictors(study, ",
    say(c(rest, list(models = model, level = rd$level, seed = rd$seed))), ")"
  )
  more <- c(
    list(rule = rule$name), if (!is.null(rule$margin)) list(margin = rule$margin$text),
    if (rule$name == "cumulative") list(cumulative = rule$cumulative),
    if (rule$name == "count") list(count = rule$count)
  )
  c(first, paste0("choose_set(reduction, ", say(more), ")"))
}

#' @export
as.data.frame.dreher_set <- function(x, ...) {
  data.frame(
    model = x$model,
    rule = x$rule,
    count = x$count,
    predictors = paste(x$predictors, collapse = ", "),
    cost = x$cost,
    score = x$score,
    lower = x$lower,
    upper = x$upper,
    full_score = x$full_score,
    constant_score = x$constant_score,
    price = x$price,
    price_lower = x$price_lower,
    price_upper = x$price_upper,
    curve_score = x$curve_score,
    curve_price = x$curve_price,
    stability = x$stability[["value"]]
  )
}

#' @export
summary.dreher_set <- function(object, ...) object$chosen_share

#' @export
as.character.dreher_set <- function(x, ...) x$predictors

#' @export
formula.dreher_set <- function(x, ...) {
  plain_formula(x$study$target, x$predictors, globalenv())
}

#' @export
summary.dreher_reduction <- function(object, ...) {
  do.call(rbind, lapply(names(object$curves), function(m) {
    as.data.frame(choose_set(object, model = m))
  }))
}
