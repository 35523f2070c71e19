#' Rank predictors by permutation importance
#'
#' How much worse does a model score on rows it has not seen when the values of one predictor are
#' shuffled among the rows? Works for every model.
#'
#' @param study A [study()].
#' @param ... Must be empty.
#' @param models Names of the models to rank. Default: all.
#' @param rows Which rows are shuffled: `"holdout"` (default); `"train"`, which is optimistic and
#'   gets no interval; `"oob"`, the training rows, each with only those trees of a forest that
#'   have not seen it; a data frame of other rows with the target; or several: words, or a named
#'   list of data frames.
#' @param groups What is shuffled: `NULL` (default), each predictor by itself; `"family"`, the
#'   predictors of a family of the dictionary together; or a named list of groups of predictors.
#' @param form `"difference"` (default), or `"ratio"`: the rise of the loss as a share of the
#'   loss, for losses with a true zero.
#' @param shuffle `"marginal"` (default): values are exchanged among all rows. `"conditional"`:
#'   beside this plain form, also only among rows that are alike in what the other predictors say
#'   of the shuffled one. Needs training rows.
#' @param repeats Number of shuffles, at least 1; more than the number of rows less one is brought
#'   down to it. `"auto"`: 10, doubled up to 160 until the shuffles' own noise is under a tenth of
#'   the variance of every importance that stands out from zero. `"all"`: every row receives from
#'   every other, with no noise of shuffling.
#' @param max_rows At most so many rows, drawn by seed. The interval knows how many there were. Of
#'   rows on disk ([open_rows()]) all are taken by default; metrics without a loss per row (AUC and
#'   those with the jackknife), blocks, conditional shuffles and `repeats = "all"` need a number.
#' @param level Level of the intervals.
#' @param seed A whole number; the same seed gives the same result whatever the number of threads
#'   or workers.
#' @param threads Number of threads; default: the study's.
#' @return A [ranking]. `importance` is the rise of the loss (or fall of the score) in the
#'   metric's unit; with `form = "ratio"` the loss after the shuffle over the loss before it, less
#'   1. For units of several predictors entry `members` of the [details][ranking_details()] holds
#'   a data frame of each member alone (`model`, `group`, `member`, `importance`, `std_error`),
#'   the `joint` value, the `sum` over the members, what the joint value is `beyond` the sum, with
#'   its paired error `beyond_error` (`NA` for metrics with the jackknife), the loss they are
#'   measured in (`measures`: squared error instead of RMSE or R squared) and whether it is
#'   `additive`: adds up over predictors that act side by side. Asked for holdout and training
#'   rows, entry `gap` holds both importances per model and predictor, their difference, and
#'   whether the one on training rows lies `beyond` the holdout interval. Entry `twins` of the
#'   [details][ranking_details()], without `shuffle = "conditional"`, holds the pairs of
#'   predictors that go together (correlation of ranks, or of the indicators of levels, of 0.9 or
#'   more); they are flagged `correlated`.
#' @details The estimand for predictor j of model f with row loss l is \eqn{E\,l(y, f(x_{-j},
#'   x'_j)) - E\,l(y, f(x))}{E l(y, f(x with x_j from another row)) - E l(y, f(x))} (Breiman 2001;
#'   Fisher, Rudin and Dominici 2019). The rows are put in one random order and the values are
#'   shifted along it by 1, 2, ... `repeats` places: no row is its own donor and no pair of rows is
#'   used twice, so the estimate has no bias (a plain shuffle is biased by 1 - 1/n). All
#'   predictors and models share the same donors. Shuffled predictions are pooled over repeats
#'   before a root or ratio is taken.
#'
#' *Interval:* for this fitted model on new rows of the same kind. Each row counts twice, as a
#' receiver and as a donor of values. With \eqn{D_{ir}} the centred change of row i's influence in
#' repeat r, \eqn{A_i} its mean over r and \eqn{B_i} the mean change of the rows that received i's
#' values, \eqn{V_2 = var(A + B)/n}. Shuffle noise \eqn{q = \sum D^2/(nR)^2}{q = sum D^2 / (nR)^2}
#' is in V2 twice; half of it is taken out (all of it when `repeats` is under 5), never more than
#' three quarters. Column `shuffle_noise` of entry `settings` says how large a share of the
#' variance it is, at most, among the importances that stand out from zero. Limits are those of t,
#' but on the side of the longer tail of the rows' influences (from 20 rows or blocks on): rare
#' rows that count for much are often not in the sample, and the estimate and its error are then
#' both too small. There the limit is stretched by Hall's transformation of skewed means (1992),
#' with degrees of freedom that follow the kurtosis of the influences (Box 1953), and by one
#' standard error of their variance, to twice the distance of t at most. How often 95 %
#' intervals hold the value in the population is simulated in `bench/coverage.R`: 96 % on average
#' over 288 cells of 200 and 1,000 rows, eight metrics, three models and strong, weak and null
#' predictors, also joint, weighted, blocked and conditional, and 93 to 99 % in each; by rmse and r2
#' of 200 rows (`bench/intervals.R`) 92 to 96 % where errors have the tails of t with 3 degrees of
#' freedom or of the lognormal distribution: what rare large errors do to these metrics is not in
#' a sample that lacks them. For a metric
#' of your own and those without a loss per row (`median_ae`, `balanced_accuracy`, `f1`, `mcc`,
#' `pairwise_auc`): jackknife over 10 random blocks, dropped as receivers and as donors.
#'
#' *Weights and blocks* of the study: a row's loss counts by its weight, the donor is any other
#' row. With blocks, no row receives from its own block, and the error is that of the sums over
#' whole blocks, with as many degrees of freedom as there are blocks, less one.
#'
#' *All pairs* (`repeats = "all"`): the complete U-statistic over all n(n - 1) pairs of rows. A
#' forest's output is a step function of one column's value, and a linear model's terms of a
#' predictor are numbers, so that both are exact for any number of rows; other models, units of
#' several columns and metrics without a loss per row predict all pairs, up to 1,000 rows.
#'
#' *Interrupts* keep the models, and for models other than forests the predictors, that are done;
#' a warning of class `dreher_warning_stopped` says what is missing.
#'
#' *Units of several predictors* take all values from the same donor row (Gregorutti, Michel and
#' Saint-Pierre 2015). A joint value above the sum of the members' says that they are partly
#' redundant: when one is shuffled alone, the others keep the information. One below the sum says
#' that they act together, and each takes the common part with it. Said for squared errors only
#' (RMSE and R squared are turned into them; Brier score), where predictors that act side by side
#' add up, and beyond two standard errors.
#'
#' *Conditional* (column `form`): plain shuffles of correlated predictors make rows that cannot
#' occur, and give a predictor without effect some of the importance of those it is associated
#' with (Hooker, Mentch and Zhou 2021). A tree of at most three splits, grown on the training rows
#' and pruned by the one-standard-error rule, predicts the predictor from all others (for a factor
#' or a group: its first principal coordinate); its leaves are the strata, those with fewer than
#' 20 rows joined to a neighbour in the order of their means (Molnar et al. 2023). Entry `strata`
#' of the [details][ranking_details()] says per predictor how many there are, the size of the
#' smallest, and the share of the predictor's variance between them (`explained`). With one
#' stratum (flag `not conditioned`) it is the plain form with another draw. What is left of the
#' dependence inside the strata keeps a predictor without effect slightly above zero; conditional
#' values measure another quantity than plain ones and are not comparable with them in size. Their
#' intervals take the strata as given. With `repeats = "all"` they keep to 10 repeats.
#'
#' *Ratio*: worked out on the logarithm, whose limits are turned back.
#'
#' For tree models the shuffled predictions come from one walk per row and tree (the same numbers
#' up to rounding).
#' @section Errors: Fewer than 2 rows; out-of-bag rows of a model that does not say which rows its
#'   trees have seen; a block of more than half of the rows; a group with unknown predictors; a
#'   ratio for a metric without a true zero; a metric that is undefined on the rows; a metric of
#'   your own that does not return one number.
#' @references Breiman, L. (2001). Random forests. \doi{10.1023/A:1010933404324}.
#'   Fisher, A., Rudin, C. and Dominici, F. (2019). All models are wrong, but many are useful.
#'   \url{https://jmlr.org/papers/v20/18-760.html}.
#'   Gregorutti, B., Michel, B. and Saint-Pierre, P. (2015). Grouped variable importance with
#'   random forests. \doi{10.1016/j.csda.2015.04.002}.
#'   Hooker, G., Mentch, L. and Zhou, S. (2021). Unrestricted permutation forces extrapolation.
#'   \doi{10.1007/s11222-021-10057-z}.
#'   Molnar, C., Koenig, G., Bischl, B. and Casalicchio, G. (2023). Model-agnostic feature
#'   importance and effects with dependent features. \doi{10.1007/s10618-022-00901-9}.
#'   Hoeffding, W. (1948). A class of statistics with asymptotically normal distribution.
#'   \doi{10.1214/aoms/1177730196}.
#'   Hall, P. (1992). On the removal of skewness by transformation.
#'   \doi{10.1111/j.2517-6161.1992.tb01876.x}.
#'   Box, G. E. P. (1953). Non-normality and tests on variances. \doi{10.1093/biomet/40.3-4.318}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rank_permutation(st)
#' @export
rank_permutation <- function(
    study, ..., models = NULL, rows = "holdout", groups = NULL, form = "difference",
    shuffle = "marginal", repeats = 10, max_rows = NULL, level = 0.95, seed = 1,
    threads = NULL) {
  st <- open_ranking(study, "rank_permutation", ..., threads = threads)
  if (!identical(repeats, "auto") && !identical(repeats, "all")) {
    repeats <- check_count(repeats, "repeats")
  }
  if (!is.null(max_rows)) {
    max_rows <- check_count(max_rows, "max_rows", least = 2, most = .Machine$integer.max)
  }
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  form <- check_choice(form, c("difference", "ratio"), "form")
  if (form == "ratio") need_true_zero(st$metric)
  shuffle <- check_choice(shuffle, c("marginal", "conditional"), "shuffle")
  conditional <- shuffle == "conditional"
  if (conditional) need_train(st, "Conditional permutation (for its strata)")
  models <- pick_models(st, models)
  units <- lapply(models, function(m) shuffle_units(st, m, groups))
  several <- lapply(pick_several_rows(st, rows), draw_rows, max_rows, seed)
  for (evaluation in several) {
    check_shuffled_rows(evaluation, models, conditional)
    if (!is.null(evaluation$store)) check_permuted_store(st, repeats, conditional)
  }
  # Asked for alone, the plain form must say who borrows from whom.
  twins <- if (!conditional) alike_pairs(st)
  if (!is.null(twins)) st <- derive_study(st, flags = flag_twins(flags_of(st), twins))
  on.exit(remove_shuffled(st), add = TRUE)
  keep <- asked_at_prompt(rank_permutation)
  parts <- until_stopped(models, several, keep, function(m, evaluation) {
    if (!is.null(evaluation$store)) {
      return(permute_store(
        m, st, evaluation, units[[m$name]], form, repeats, level, seed
      ))
    }
    permute_model(
      m, st, evaluation, units[[m$name]], form, repeats, conditional, level, seed, keep
    )
  })
  out <- set_detail(join_parts(st, parts, seed, level), "stopped", attr(parts, "stopped"))
  out <- set_detail(out, "gap", training_gap(out))
  set_detail(out, "twins", twins)
}

need_true_zero <- function(metric) {
  if (isTRUE(metric$ratio)) return(invisible())
  stop_input(
    paste0(
      "`form = \"ratio\"` needs a metric that is a loss with a true zero; \"",
      metric$name, "\" is not."
    ),
    todo = "Use form = \"difference\", or rmse, brier and the like."
  )
}

check_shuffled_rows <- function(evaluation, models, conditional) {
  if (conditional && evaluation$kind %in% c("train", "oob")) {
    stop_input(
      "Conditional permutation is for rows the model has not seen.",
      todo = "Use rows = \"holdout\", or a data frame of other rows."
    )
  }
  if (nrow(evaluation$data) < 2) {
    stop_input(
      "Permutation importance needs at least 2 rows.",
      paste0("Given: ", nrow(evaluation$data), ".")
    )
  }
  if (evaluation$kind == "oob") for (m in models) need_inbag(m)
}

# Is this function what the user called at the prompt? Only there does a stopped ranking keep what
# is done: whoever stopped it reads it. Anywhere else an interrupt ends all that called it.
asked_at_prompt <- function(verb) interactive() && identical(sys.function(1), verb)

# do(model, rows) for all of them. keep: until the user interrupts; what is done is kept, and
# attribute "stopped" and a warning say what is not.
until_stopped <- function(models, several, keep, do) {
  parts <- list()
  stopped <- NULL
  for (m in models) {
    for (evaluation in several) {
      if (!is.null(stopped)) break
      part <- if (!keep) {
        do(m, evaluation)
      } else {
        tryCatch(do(m, evaluation), interrupt = function(e) {
          structure(
            data.frame(), stopped = paste0("model \"", m$name, "\" is not ranked.")
          )
        })
      }
      stopped <- attr(part, "stopped")
      if (nrow(part)) parts <- c(parts, list(part))
    }
  }
  if (!is.null(stopped)) {
    if (!length(parts)) rlang::interrupt()
    warn_dreher(
      "stopped",
      paste0("Stopped by the user: ", stopped, " The rest is missing."),
      "What was done is in the result."
    )
    attr(parts, "stopped") <- paste0(
      "Stopped by the user: ", stopped, " The rest is missing."
    )
  }
  parts
}

flag_twins <- function(flags, twins) {
  flagged <- intersect(names(flags$predictors), c(twins$predictor, twins$other))
  flags$predictors[flagged] <- join_flags(flags$predictors[flagged], "correlated")
  flags
}

# What the importances on training rows say beyond those on the holdout rows, and whether it lies
# above their interval.
training_gap <- function(ranking) {
  settings <- detail(ranking, "settings")
  of_train <- settings$rows[settings$seen & settings$rows == "train"]
  if (!length(of_train)) return(NULL)
  table <- as_plain(ranking)
  table <- table[table$form %in% c("plain", "ratio"), ]
  seen <- table[table$rows %in% of_train, ]
  fresh <- table[table$rows == "holdout", ]
  at <- match(paste(seen$model, seen$predictor), paste(fresh$model, fresh$predictor))
  if (!nrow(seen) || anyNA(at)) return(NULL)
  data.frame(
    model = seen$model,
    predictor = seen$predictor,
    train = seen$importance,
    holdout = fresh$importance[at],
    gap = seen$importance - fresh$importance[at],
    beyond = seen$importance > fresh$upper[at],
    row.names = NULL
  )
}

permute_model <- function(
    model, st, evaluation, units, form, repeats, conditional, level, seed, keep) {
  rows <- model_rows(st, model, evaluation$data, "rows")
  info <- row_info(st, evaluation$data)
  inbag <- NULL
  if (evaluation$kind == "oob") {
    inbag <- counts_of(model, st)[evaluation$chosen, , drop = FALSE]
    left <- rowSums(inbag == 0) > 0
    if (sum(left) < 2) {
      stop_study(
        paste0("Model \"", model$name, "\": all its trees have seen all rows."),
        todo = "Use rows = \"holdout\"."
      )
    }
    rows <- rows[left, , drop = FALSE]
    info <- some_info(info, left)
    inbag <- inbag[left, , drop = FALSE]
  }
  context <- open_shuffle(st, model, rows, inbag)
  now <- if (is.numeric(repeats)) repeats else 10L
  repeat {
    design <- if (identical(repeats, "all")) {
      list(all = TRUE, repeats = nrow(rows) - 1L)
    } else {
      shared_design(draw_donors(nrow(rows), now, seed, info$block))
    }
    estimates <- estimate_units(
      context, info, units, design, st$metric, form, level, seed, keep = keep
    )
    noise <- shuffle_share(estimates)
    if (!identical(repeats, "auto") || is.na(noise) || noise < 0.1 ||
        design$repeats < now || now >= 160L || isTRUE(attr(estimates, "stopped"))) {
      break
    }
    now <- 2L * now
  }
  if (!length(estimates)) rlang::interrupt()  # nothing of this model is done
  stopped <- if (isTRUE(attr(estimates, "stopped"))) {
    paste0(
      length(estimates), " of ", length(units), " predictors of model \"", model$name,
      "\" are ranked."
    )
  }
  units <- units[names(estimates)]
  out <- ranking_of_shuffles(
    context, evaluation, units, estimates, design$repeats, form, seed, level, noise
  )
  if (is.null(stopped) && any(lengths(units) > 1)) {
    out <- set_detail(out, "members", compare_members(context, info, units, design, seed))
  }
  if (is.null(stopped) && conditional) {
    within <- permute_within(
      context,
      info,
      evaluation,
      units,
      form,
      if (is.numeric(repeats)) repeats else 10L,
      level,
      seed,
      keep
    )
    stopped <- attr(within, "stopped")
    out <- join_parts(st, list(out, within), seed, level)
  }
  attr(out, "stopped") <- stopped
  out
}

# Importances alone, by unit, on the study's rows: what a path asks for after every step.
permutation_importances <- function(st, model, groups, repeats, seed) {
  rows <- model_rows(st, model, st$data)
  info <- row_info(st, st$data)
  estimates <- estimate_units(
    open_shuffle(st, model, rows),
    info,
    shuffle_units(st, model, groups),
    shared_design(draw_donors(nrow(rows), repeats, seed, info$block)),
    st$metric,
    "difference",
    0.95,
    seed,
    errors = FALSE
  )
  vapply(estimates, `[[`, 0, "importance")
}

permutation_record <- function() {
  list(
    name = "permutation",
    label = "Permutation",
    colour = "#1F7A7A",
    usual_forms = c("plain", "ratio"),
    usual_rows = "holdout",
    needs = character(),
    any_rows = TRUE,
    out_of_bag = TRUE,
    held_out = TRUE,
    floor = TRUE,
    beside_others = TRUE,
    zero_is_null = TRUE,
    rank = function(st, model, evaluation, settings) {
      rank_permutation(
        st,
        models = model,
        rows = evaluation,
        max_rows = rows_permuted(st),
        repeats = settings$repeats,
        level = settings$level,
        seed = settings$seed
      )
    },
    importances = function(inside, model, units, groups, settings) {
      alone <- setdiff(unlist(units), unlist(groups))
      permutation_importances(
        inside,
        inside$models[[model]],
        if (length(groups)) c(groups, as.list(stats::setNames(nm = alone))),
        settings$repeats,
        settings$seed
      )
    }
  )
}
