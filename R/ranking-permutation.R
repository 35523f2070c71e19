#' Rank predictors by permutation importance
#'
#' How much worse does a model score on rows it has not seen when the values of one predictor are shuffled among the
#' rows? Works for every model.
#'
#' @param study A [study()].
#' @param ... Must be empty.
#' @param models Names of the models to rank. Default: all.
#' @param rows `"holdout"` (default), `"train"`, or a data frame of other rows with the target. Training rows flatter and
#'   get no interval.
#' @param unit What is shuffled: `"predictor"` (default), each by itself; `"family"`, the predictors of a family of the dictionary together; or a named list of
#'   groups of predictors.
#' @param form `"difference"` (default), or `"ratio"`: the rise of the loss as a share of the loss, for losses with a true zero.
#' @param conditional TRUE: beside the plain form, values are also exchanged only among rows that are alike in what the other predictors say of
#'   the shuffled one. Needs training rows.
#' @param repeats Number of shuffles, at least 1; more than the number of rows less one is brought down to it. `"auto"`: 10, doubled up to 160 until the shuffles' own noise
#'   is under a tenth of the variance of every importance that stands out from zero.
#' @param level Level of the intervals.
#' @param seed A whole number; the same seed gives the same result whatever the number of threads or workers.
#' @param threads Number of threads; default: the study's.
#' @return A [ranking]. `importance` is the rise of the loss (or fall of the score) in the metric's unit; with `form = "ratio"` the loss after the shuffle over
#'   the loss before it, less 1. For units of several predictors attribute `members` holds a data frame of each member alone (`model`, `unit`, `member`, `importance`, `std_error`),
#'   the `joint` value, the `sum` over the members, what the joint value is `beyond` the sum, with its paired error `beyond_error` (`NA` for metrics with the jackknife), the loss they are measured in
#'   (`measures`: squared error instead of RMSE or R squared) and whether it is `additive`: adds up over predictors that act side by side.
#' @details
#' The estimand for predictor j of model f with row loss l is
#' \eqn{E\,l(y, f(x_{-j}, x'_j)) - E\,l(y, f(x))}{E l(y, f(x with x_j from another row)) - E l(y, f(x))}
#' (Breiman 2001; Fisher, Rudin and Dominici 2019).
#' The rows are put in one random order and the values are shifted along it by `repeats` distinct steps: no row is its
#' own donor and no pair of rows is used twice, so the estimate has no bias (a plain shuffle is biased by 1 - 1/n). All
#' predictors and models share the same donors. Shuffled predictions are pooled over repeats before a root or ratio is taken.
#'
#' *Interval:* for this fitted model on new rows of the same kind. Each row counts twice, as a receiver and as a donor of
#' values. With \eqn{D_{ir}} the centred change of row i's influence in repeat r, \eqn{A_i} its mean over r and \eqn{B_i} the mean change of
#' the rows that received i's values, \eqn{V_2 = var(A + B)/n}. Shuffle noise \eqn{q = \sum D^2/(nR)^2}{q = sum D^2 / (nR)^2} is in V2 twice; half of it is
#' taken out (all of it when `repeats` is under 5), never more than three quarters. Column `shuffle_noise` of attribute `settings` says how large a share of the variance it is, at most, among the
#' importances that stand out from zero. In simulations 95 % intervals of this kind covered
#' in 92 to 98 % (n = 200) and 94 to 96 % (n = 1,000). For a metric of your own and those without a loss per row (`median_ae`, `balanced_accuracy`, `f1`, `mcc`, `pairwise_auc`): jackknife over 10 random blocks, dropped as receivers and as donors.
#'
#' *Units of several predictors* take all values from the same donor row (Gregorutti, Michel and Saint-Pierre 2015). A joint value above the sum of the members' says that
#' they stand in for each other: shuffled one at a time, the others carry on. One below the sum says that they act together, and each takes the common part with it. Said for squared errors only (RMSE and R
#' squared are turned into them; Brier score), where predictors that act side by side add up, and beyond two standard errors.
#'
#' *Conditional* (column `rows` ends in `conditional`): plain shuffles of correlated predictors make rows that cannot occur, and lend a predictor that does nothing some of the importance of
#' those it goes with (Hooker, Mentch and Zhou 2021). A tree of at most three questions, grown on the training rows and pruned by the one-standard-error rule, foretells the predictor from all
#' others (for a factor or a group: its first principal coordinate); its leaves are the strata, those with fewer than 20 rows joined to a neighbour in the order of their means (Molnar et al. 2023). Attribute `strata` says per
#' predictor how many there are, the size of the smallest, and the share of the predictor's variance between them (`explained`). With one stratum (flag `1 stratum`) it is the plain form with another draw. What is left of the
#' dependence inside the strata keeps a predictor that does nothing slightly above zero; conditional values answer another question than plain ones and are not comparable with them in size.
#' Their intervals take the strata as given; their coverage has not been simulated.
#'
#' *Ratio*: worked out on the logarithm, whose limits are turned back.
#'
#' For tree models the shuffled predictions come from one walk per row and tree (the same numbers up to rounding).
#' @section Errors: Fewer than 2 rows; a group with unknown predictors; a ratio for a metric without a true zero; a metric that is undefined on the rows; a metric of your own that does not return one number.
#' @references Breiman, L. (2001). Random forests. \doi{10.1023/A:1010933404324}.
#'   Fisher, A., Rudin, C. and Dominici, F. (2019). All models are wrong, but many are useful. \url{https://jmlr.org/papers/v20/18-760.html}.
#'   Gregorutti, B., Michel, B. and Saint-Pierre, P. (2015). Grouped variable importance with random forests. \doi{10.1016/j.csda.2015.04.002}.
#'   Hooker, G., Mentch, L. and Zhou, S. (2021). Unrestricted permutation forces extrapolation. \doi{10.1007/s11222-021-10057-z}.
#'   Molnar, C., Koenig, G., Bischl, B. and Casalicchio, G. (2023). Model-agnostic feature importance and effects with dependent features. \doi{10.1007/s10618-022-00901-9}.
#'   Hoeffding, W. (1948). A class of statistics with asymptotically normal distribution. \doi{10.1214/aoms/1177730196}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rank_permutation(st)
#' @export
rank_permutation <- function(study, ..., models = NULL, rows = "holdout", unit = "predictor", form = "difference", conditional = FALSE, repeats = 10,
                             level = 0.95, seed = 1, threads = NULL) {
  st <- open_ranking(study, "rank_permutation", ..., threads = threads)
  if (!identical(repeats, "auto")) repeats <- check_count(repeats, "repeats")
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  form <- check_choice(form, c("difference", "ratio"), "form")
  if (form == "ratio" && !isTRUE(st$metric$ratio)) {
    stop_input(paste0("`form = \"ratio\"` needs a metric that is a loss with a true zero; \"", st$metric$name, "\" is not."), todo = "Use form = \"difference\", or rmse, brier and the like.")
  }
  check_flag(conditional, "conditional")
  if (conditional) need_train(st, "Conditional permutation (for its strata)")
  models <- pick_models(st, models)
  units <- lapply(models, function(m) shuffle_units(st, m, unit))
  on <- pick_rows(st, rows)
  if (conditional && on$label == "train") stop_input("Conditional permutation is for rows the model has not seen.", todo = "Use rows = \"holdout\", or a data frame of other rows.")
  if (nrow(on$data) < 2) {
    stop_input("Permutation importance needs at least 2 rows.", paste0("Given: ", nrow(on$data), "."))
  }
  parts <- lapply(names(models), function(m) permute_model(models[[m]], st, on, units[[m]], form, repeats, level, seed))
  within <- if (conditional) lapply(names(models), function(m) permute_within(models[[m]], st, on, units[[m]], form, repeats, level, seed))
  out <- bind_rankings(st, c(parts, within), seed, level)
  attr(out, "members") <- do.call(rbind, lapply(parts, attr, "members"))
  attr(out, "strata") <- do.call(rbind, lapply(within, attr, "strata"))
  out
}

# What is shuffled together: names, each with its predictors.
shuffle_units <- function(st, model, unit) {
  predictors <- model$inputs$predictors
  alone <- stats::setNames(as.list(predictors), predictors)
  if (is.character(unit)) {
    unit <- check_choice(unit, c("predictor", "family"), "unit")
    if (unit == "predictor") return(alone)
    family <- st$dictionary$family[match(predictors, st$dictionary$predictor)]
    unit <- split(predictors[!is.na(family)], factor(family[!is.na(family)], unique(family[!is.na(family)])))
    return(c(unit, alone[is.na(family)]))
  }
  fits <- is.list(unit) && length(unit) && !is.null(names(unit)) && all(nzchar(names(unit))) && !anyDuplicated(names(unit)) && all(vapply(unit, is.character, NA)) &&
    all(lengths(unit) > 0)
  if (!fits) {
    stop_input("`unit` must be \"predictor\", \"family\", or a list of predictors' names, each group under a name of its own.", paste0("Given: ", describe_value(unit), "."))
  }
  strange <- setdiff(unlist(unit), st$predictors)
  if (length(strange)) {
    stop_input(paste0("`unit` names predictors that no model of the study has: ", quote_some(strange), "."), todo = paste0("Predictors there: ", quote_some(st$predictors, 8), "."))
  }
  # What a model does not use changes nothing.
  lapply(lapply(unit, unique), intersect, predictors)
}

# What every rank_*() function does first.
open_ranking <- function(study, verb, ..., threads = NULL) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = verb)
  if (!is.null(threads)) study$threads <- check_threads(threads)
  if (is.null(study$flags)) study$flags <- find_flags(study)
  study
}

permute_model <- function(model, st, on, units, form, repeats, level, seed) {
  rows <- model_rows(st, model, on$data, "rows")
  truth <- truth_of(st, on$data)
  base <- predict_aligned(st, model, rows)
  block <- with_stream(seed, c("jackknife", nrow(rows)), draw_blocks(nrow(rows)))
  now <- if (identical(repeats, "auto")) 10L else repeats
  repeat {
    donors <- draw_donors(nrow(rows), now, seed)
    judge <- function(shuffled) judge_shuffle(st$metric, truth, base, shuffled, donors, block, level, form)
    judged <- shuffle_each(st, model, rows, base, donors, judge, units)
    noise <- shuffle_share(judged)
    if (!identical(repeats, "auto") || is.na(noise) || noise < 0.1 || ncol(donors) < now || now >= 160L) break
    now <- 2L * now
  }

  get <- function(field) vapply(judged, `[[`, 0, field)
  seen <- on$label == "train"
  hide <- function(x) if (seen) rep(NA_real_, length(x)) else x
  flags <- join_flags(vapply(units, function(u) join_flags(t(unname(st$flags$predictors[u]))), ""), rep(st$flags$models[[model$name]], length(units)),
                      if (ncol(donors) < 5) "few repeats" else "", if (seen) "training rows" else "")
  table <- ranking_rows(st, model, "permutation", on$label, names(units), get("importance"), hide(get("std_error")),
                        hide(get("lower")), hide(get("upper")), about = if (seen) "rows" else "model", flag = flags)
  influence <- lapply(judged, `[[`, "units")
  influence <- if (is.null(influence[[1]])) NULL else do.call(cbind, influence)
  measures <- say_loss(st$metric, form)
  out <- new_ranking(st, table, new_settings(model, "permutation", on$label, nrow(rows), ncol(donors), measures, shuffle_noise = noise),
                     stats::setNames(list(influence), paste0(model$name, "/permutation")), seed, level)
  attr(out, "members") <- judge_members(st, model, rows, truth, base, donors, block, units)
  out
}

# What an importance measures, in words.
say_loss <- function(metric, form) paste0(if (form == "ratio") "relative ", if (metric$better == "lower") "rise of " else "fall of ", metric$label)

# The largest share of the shuffles' own noise in the variance of an importance, over those that stand out from zero; NA
# where none does (what is all noise stays so) and for the jackknife, which does not tell it apart.
shuffle_share <- function(judged) {
  stands <- vapply(judged, function(j) !is.null(j$share) && is.finite(j$lower) && j$lower > 0, NA)
  if (!any(stands)) NA_real_ else max(vapply(judged[stands], `[[`, 0, "share"))
}

# Predictors that were shuffled together, each alone: their sum against the joint value, paired row by row. Squared
# errors add up over predictors that act side by side; roots and ratios never do, so both are taken in squared errors.
judge_members <- function(st, model, rows, truth, base, donors, block, units) {
  several <- units[lengths(units) > 1]
  if (!length(several)) return(NULL)
  metric <- additive_metric(st$metric)
  members <- unique(unlist(several))
  judge <- function(shuffled) judge_shuffle(metric, truth, base, shuffled, donors, block, 0.95)[c("importance", "std_error", "units")]
  judged <- shuffle_each(st, model, rows, base, donors, judge, c(several, stats::setNames(as.list(members), paste("member", members))))
  do.call(rbind, lapply(names(several), function(u) {
    of <- judged[paste("member", several[[u]])]
    joint <- judged[[u]]
    each <- vapply(of, `[[`, 0, "importance")
    beyond <- joint$importance - sum(each)
    apart <- if (is.null(joint$units)) NA_real_ else influence_error(joint$units - rowSums(do.call(cbind, lapply(of, `[[`, "units"))))
    data.frame(model = model$name, unit = u, member = several[[u]], importance = unname(each), std_error = vapply(of, `[[`, 0, "std_error"), joint = joint$importance,
               sum = sum(each), beyond = beyond, beyond_error = apart, measures = metric$label, additive = isTRUE(metric$additive), row.names = NULL)
  }))
}

# donor[i, r]: the row whose value row i receives in repeat r.
draw_donors <- function(n, repeats, seed) {
  repeats <- min(repeats, n - 1L)
  drawn <- with_stream(seed, c("donors", n), list(order = sample.int(n), shifts = sample.int(n - 1L, repeats)))
  donors <- matrix(0L, n, repeats)
  for (r in seq_len(repeats)) {
    donors[drawn$order, r] <- drawn$order[(seq_len(n) - 1L + drawn$shifts[r]) %% n + 1L]
  }
  donors
}

# Calls judge(rows x repeats x outputs) with the predictions after the shuffle of each unit in turn.
shuffle_each <- function(st, model, rows, base, donors, judge, units) {
  if (is.null(model$forest) || isTRUE(model$forest$shared)) shuffle_any(st, model, rows, donors, judge, units)
  else shuffle_forest(st, model, rows, base, donors, judge, units)
}

# The predictor each of the forest's columns stems from.
forest_origin <- function(model) if (is.null(model$forest$origin)) model$forest$columns else model$forest$origin

# Units that go through one walk: disjoint, and no more than the memory holds.
split_units <- function(units, at_once) {
  layer <- integer(length(units))
  used <- list()
  for (i in seq_along(units)) {
    free <- which(vapply(used, function(u) !any(units[[i]] %in% u$predictors) && u$count < at_once, NA))[1]
    if (is.na(free)) {
      free <- length(used) + 1L
      used[[free]] <- list(predictors = character(), count = 0L)
    }
    used[[free]] <- list(predictors = c(used[[free]]$predictors, units[[i]]), count = used[[free]]$count + 1L)
    layer[i] <- free
  }
  split(seq_along(units), layer)
}

shuffle_forest <- function(st, model, rows, base, donors, judge, units, cells = 2e7) {
  origin <- forest_origin(model)
  x <- encode_for_forest(model$forest, rows)
  sum_before <- forest_predict(model$forest, x, st$threads)
  prepared <- shuffle_prepare(model$forest, x, st$threads)
  shape <- c(dim(donors), ncol(sum_before))
  classes <- if (st$task == "classification") model$classes
  out <- list()
  for (part in split_units(units, max(1, floor(cells / prod(shape))))) {
    player <- integer(length(origin))
    for (u in seq_along(part)) player[origin %in% units[[part[u]]]] <- u
    change <- array(0, c(dim(donors), nrow(model$forest$value), length(part)))
    for (repeats in split(seq_len(ncol(donors)), (seq_len(ncol(donors)) - 1) %/% 64)) {
      change[, repeats, , ] <- shuffle_rows(prepared, player, length(part), donors[, repeats, drop = FALSE], length(repeats), FALSE, matrix(0L, 0, 0), 1L, nrow(rows), st$threads)
    }
    for (u in seq_along(part)) {
      one <- change[, , , u, drop = FALSE]
      dim(one) <- dim(change)[1:3]
      unmoved <- all(one == 0)   # said here, because a link may round
      shuffled <- aperm(array(sum_before, c(dim(sum_before), ncol(donors))), c(1, 3, 2)) + one
      shuffled <- apply_link_cube(model$forest, shuffled)
      if (!is.null(classes)) shuffled <- place_classes(shuffled, classes, st$classes)
      dimnames(shuffled) <- list(NULL, NULL, colnames(base))
      out[[names(units)[part[u]]]] <- judge(if (unmoved) aperm(array(base, c(dim(base), ncol(donors))), c(1, 3, 2)) else shuffled)
    }
  }
  out[names(units)]
}

# Outputs in the order of the study's classes; classes the model does not know stay 0.
place_classes <- function(cube, from, to) {
  if (identical(from, to)) return(cube)
  out <- array(0, c(dim(cube)[1:2], length(to)))
  out[, , match(from, to)] <- cube
  out
}

# Any model: several shuffled copies of the rows in one call, because many models pay per call.
shuffle_any <- function(st, model, rows, donors, judge, units, most_rows = 1e5) {
  n <- nrow(rows)
  repeats <- ncol(donors)
  at_once <- max(1, min(repeats, floor(most_rows / n)))
  lapply(units, function(together) {
    shuffled <- NULL
    for (some in split(seq_len(repeats), (seq_len(repeats) - 1) %/% at_once)) {
      copies <- rows[rep(seq_len(n), length(some)), , drop = FALSE]
      for (p in together) copies[[p]] <- rows[[p]][as.vector(donors[, some])]
      attr(copies, "row.names") <- .set_row_names(nrow(copies))
      p_copies <- predict_aligned(st, model, copies)
      if (is.null(shuffled)) shuffled <- array(0, c(n, repeats, ncol(p_copies)), list(NULL, NULL, colnames(p_copies)))
      shuffled[, some, ] <- array(p_copies, c(n, length(some), ncol(p_copies)))
    }
    judge(shuffled)
  })
}

# Importance of one unit with its error. shuffled: rows x repeats x outputs. A ratio is worked out on its logarithm, and
# given less 1.
judge_shuffle <- function(metric, truth, base, shuffled, donors, block, level, form = "difference", stratum = NULL) {
  n <- length(truth)
  unmoved <- all(shuffled == as.vector(base[rep(seq_len(n), ncol(donors)), ]))
  if (unmoved) return(list(importance = 0, std_error = 0, lower = 0, upper = 0, units = if (!jackknifed(metric)) double(n)))
  before <- metric_influence(metric, truth, base)
  after <- metric_shuffled(metric, truth, shuffled)
  if (form == "ratio" && !(before$loss > 0 && after$loss > 0)) {
    stop_study(paste0("The ratio is undefined: the ", metric$label, " is 0."), todo = "Use form = \"difference\".")
  }
  value <- if (form == "ratio") log(after$loss / before$loss) else after$loss - before$loss
  if (jackknifed(metric)) {
    found <- list(std_error = sqrt(block_variance(metric, truth, base, shuffled, donors, block, form)), units = NULL)
    df <- length(unique(block)) - 1
  } else {
    found <- two_way_error(if (form == "ratio") after$u / after$loss - before$u / before$loss else after$u - before$u, donors, stratum)
    df <- n - 1
  }
  limits <- t_limits(value, found$std_error, df, level)
  if (form == "ratio") {
    limits <- lapply(limits, expm1)
    found$std_error <- exp(value) * found$std_error
    value <- expm1(value)
  }
  c(list(importance = value), found, limits)
}

# D: rows x repeats, change of each row's influence. A row matters as receiver (A) and as donor (B).
# Within strata the donor's part is told from the stratum's mean: the strata's own differences are in A.
two_way_error <- function(D, donors, stratum = NULL) {
  n <- nrow(D)
  repeats <- ncol(D)
  D <- D - mean(D)
  A <- rowMeans(D)
  B <- double(n)
  for (r in seq_len(repeats)) B[donors[, r]] <- B[donors[, r]] + D[, r] / repeats
  if (!is.null(stratum)) B <- B - stats::ave(B, stratum)
  V2 <- stats::var(A + B) / n
  q <- sum(D^2) / (n * repeats)^2
  taken <- if (repeats < 5) q else q / 2
  list(std_error = sqrt(max(V2 - taken, V2 / 4)), units = A + B, share = min(pair_variance(D, A, B) / (n * repeats) / max(V2 - q, V2 / 4), 1))
}

# The part of a change that belongs to the pair of rows and neither to the receiver nor to the donor: all that is left
# to chance when every row gives and receives once in each repeat. By moments: var(A) + var(B) holds the rows' own
# parts (1 + 1/R) times and the pairs' 2/R times, var(D) both once.
pair_variance <- function(D, A, B) {
  repeats <- ncol(D)
  if (repeats < 2) return(NA_real_)
  max(0, (mean(D^2) * (1 + 1 / repeats) - stats::var(A) - stats::var(B)) / (1 - 1 / repeats))
}

# Any metric: drop each block as receivers and as donors, and look how the importance moves.
block_variance <- function(metric, truth, base, shuffled, donors, block, form = "difference") {
  values <- vapply(unique(block), function(g) {
    stays <- block != g
    before <- metric_influence(metric, truth[stays], base[stays, , drop = FALSE])$loss
    after <- vapply(seq_len(ncol(donors)), function(r) {
      both <- stays & block[donors[, r]] != g
      metric_influence(metric, truth[both], slice_repeat(shuffled, r)[both, , drop = FALSE])$loss
    }, 0)
    if (form == "ratio") log(mean(after) / before) else mean(after) - before
  }, 0)
  jackknife_variance(values)
}
