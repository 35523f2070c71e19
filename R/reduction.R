#' Score smaller sets of predictors by nested cross-validation
#'
#' Scores every model with its top 0, 1, 2, ... predictors by cross-validation. Everything that
#' looks at the target happens inside the training part of each fold: the ranking, the refits, the
#' thinning of twins and, for the nested cross-validation score, the choice of the number.
#'
#' @param study A [study()] with training rows. Its dictionary counts: predictors with `use`
#'   `keep` are in every set, with `leave_out` in none; `cost` is added up and can be limited;
#'   what leaving out all `sensitive` ones costs is scored beside them.
#' @param by Methods that rank, as in [rank_predictors()]: `"permutation"` (default),
#'   `"impurity"`, `"shapley"`, `"structure"`, `"coefficients"`, `"association"`, `"refit"`.
#'   Several are combined by the mean of their ranks. Not used by the searches `"forward"` and
#'   `"floating"`, unless twins are thinned.
#' @param ... Must be empty.
#' @param search How sets are found in a training part. `"ranking"` (default): one ranking, the top
#'   so many. `"backward"`: the last of the ranking are dropped, the model is trained and ranked
#'   again, and so on (Guyon et al. 2002). `"forward"`: what lowers the loss most comes in.
#'   `"floating"`: forward, and after each entry what is better without goes again (Pudil,
#'   Novovicova and Kittler 1994).
#' @param groups What comes in or goes: `NULL` (default), each predictor by itself; or `"family"`,
#'   the predictors of a family of the dictionary together, counted as one.
#' @param steps `"one"` predictor at a time, or `"geometric"`: a fifth of those left are dropped,
#'   or a third as many as there are added. Default: geometric from 31 predictors on.
#' @param models Names of the models that rank. Default: all.
#' @param refit_as Name of the model of the study that is trained on the sets, if not the one
#'   that ranked.
#' @param thin_twins TRUE: of redundant predictors (see [find_twins()]) one is kept, found inside
#'   each training part.
#' @param budget The most a set may cost, in the unit of the dictionary's `cost`.
#' @param random At most so many different random sets for each number of predictors, scored by the
#'   first drawing of the folds; 0 for none. They are drawn ten at a time, until ten of them score
#'   as well as the set found (Besag and Clifford 1991): the standard error of the p value is then
#'   below a third of it. With 200, p values from 0.05 down have all of them.
#' @param floor_refits Number of refits with permuted copies in each training part, at least 19:
#'   scores the predictors above the [noise_floor()] too. Default: not done.
#' @param folds Number of outer folds. Default: 5, fewer where the rows (four a fold) or blocks
#'   are too few.
#' @param repeats How often the folds are drawn anew, the outer ones and those inside.
#' @param inner_folds Number of folds by which the number of predictors is chosen: on all training
#'   rows, and in the same way inside each outer training part. Default: as many as `folds`.
#' @param counts Numbers of predictors (of units, where families count as one; beside those that
#'   are kept) to score; none and all are always among them. Default: every number up to 8, then
#'   in steps of about a third.
#' @param run Path of a run folder: every finished piece is kept there, and the same call goes on
#'   after a stop, with the same result to the bit.
#' @param level Level of the intervals.
#' @param seed A whole number; the same seed gives the same result whatever the number of workers.
#' @return A list of class `dreher_reduction`; `as.data.frame()` gives one row per model and
#'   candidate: \describe{ \item{model, refit}{the model that ranked, and the one trained on the
#'   sets} \item{candidate}{`path`; `constant` and `all` where they are not on the path; `thinned`
#'   (all but redundant twins); `not sensitive` (all but those the dictionary calls
#'   sensitive); `above floor`} \item{count, cost}{the number of predictors of the set found on
#'   all training rows, and what they cost} \item{added}{the predictors this set adds to the one
#'   before, on all training rows; whole sets where they are not nested} \item{score, std_error,
#'   lower, upper}{cross-validated score in the metric's unit, with its interval over rows}
#'   \item{price, price_error, price_lower, price_upper}{rise of the loss (fall of the score)
#'   against all predictors, paired by row} \item{random, random_lower, random_upper, random_p,
#'   random_sets, random_as_good}{of the random sets of this number: mean score, 5 and 95 %
#'   quantiles, and the Monte-Carlo p value. Of `random_sets` sets other than this one
#'   `random_as_good` score as well; p is their share, this one counted in. Where ten score as
#'   well, drawing ended with the tenth, and p is the plain share} } Intervals from
#'   cross-validation are approximate. Those of the score leave out that the training parts
#'   overlap, and are somewhat too narrow (Bates, Hastie and Tibshirani 2024); the set's own
#'   interval ([choose_set()]) takes it in. Those of the price take it in: the variance over rows
#'   is multiplied by 1 + K / (K - 1), K being the number of folds, with t limits of K times the
#'   drawings less one degrees of freedom (after Nadeau and Bengio 2003).
#' @details Where held-out rows rank or try sets (permutation, Shapley, forward, floating), a
#'   training part is split once more: three quarters train, the other one ranks; where it has fewer
#'   than 150 rows, more quarters rank in turn: their importances are averaged, and the loss of a
#'   set that is tried is that of all their rows. The sets are then refitted on the whole part. A
#'   predictor that has one value in a part comes last. Folds are stratified by class, and keep
#'   blocks together.
#'   Scoring costs `folds * repeats * (1 + inner_folds * repeats) * (number of counts)` fits per
#'   model, the searches and random sets beside; a forward search of p predictors takes about p
#'   squared over 2 fits in each part (in each quarter, where several rank).
#'   Pieces are spread over the workers of [future::plan()]; a fit that fails is tried once more.
#'
#' The number of predictors is chosen by a cross-validation of all training rows, `inner_folds`
#' folds drawn `repeats` times. To know what that choice is worth it is made again in every outer
#' training part, by as many folds and drawings and by the same rule, and the held-out fold scores
#' it: the nested cross-validation score of [choose_set()] (Varma and Simon 2006; Ambroise and
#' McLachlan 2002). The curve itself is exploratory: its best point is optimistic.
#' @section Errors: No training rows, or so few that the smallest training parts would have fewer
#'   than six; a model that cannot be trained again (give `study(refit_with
#'   = )`); a fit that fails, with the model,
#'   fold and number of predictors; a family of which the dictionary keeps one predictor and
#'   leaves another out; a budget that nothing fits, or without costs; a run folder of another
#'   run.
#' @references Ambroise, C. and McLachlan, G. (2002). \doi{10.1073/pnas.102102699}.
#'   Varma, S. and Simon, R. (2006). \doi{10.1186/1471-2105-7-91}.
#'   Guyon, I., Weston, J., Barnhill, S. and Vapnik, V. (2002). \doi{10.1023/A:1012487302797}.
#'   Pudil, P., Novovicova, J. and Kittler, J. (1994). \doi{10.1016/0167-8655(94)90127-9}.
#'   Besag, J. and Clifford, P. (1991). \doi{10.1093/biomet/78.2.301}.
#'   Bates, S., Hastie, T. and Tibshirani, R. (2024). \doi{10.1080/01621459.2023.2197686}.
#'   Nadeau, C. and Bengio, Y. (2003). \doi{10.1023/A:1024068626366}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2)
#' as.data.frame(rd)
#' @export
reduce_predictors <- function(
    study, by = "permutation", ..., search = "ranking", groups = NULL, steps = NULL,
    models = NULL, refit_as = NULL, thin_twins = FALSE, budget = NULL, random = 10,
    floor_refits = NULL, folds = NULL, repeats = 2, inner_folds = NULL, counts = NULL,
    run = NULL, level = 0.95, seed = 1) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "reduce_predictors")
  need_train(study, "Reducing predictors")
  by <- check_choice(by, method_names(), "by", several = TRUE)
  search <- check_choice(
    search, c("ranking", "backward", "forward", "floating"), "search"
  )
  groups <- check_families(groups)
  if (!is.null(steps)) steps <- check_choice(steps, c("one", "geometric"), "steps")
  check_flag(thin_twins, "thin_twins")
  random <- check_count(random, "random", least = 0)
  if (!is.null(floor_refits)) {
    floor_refits <- check_count(floor_refits, "floor_refits", least = 19)
  }
  folds <- check_folds(folds, study, study$train)
  repeats <- check_count(repeats, "repeats")
  inner_folds <- check_inner_folds(inner_folds, folds, study)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  chosen <- pick_models(study, models)
  if (search %in% c("ranking", "backward") || thin_twins) check_rankers(study, chosen, by)
  refit <- chosen
  if (!is.null(refit_as)) {
    named <- check_choice(refit_as, names(study$models), "refit_as")
    refit <- rep(study$models[named], length(chosen))
  }
  settings <- list(
    by = by,
    search = search,
    thin_twins = thin_twins,
    random = random,
    floor_refits = floor_refits,
    folds = folds,
    repeats = repeats,
    inner_folds = inner_folds,
    seed = seed
  )
  plans <- Map(
    function(ranker, refit) {
      plan <- reduction_plan(study, ranker, refit, groups, budget)
      U <- length(plan$units)
      plan$settings <- c(
        settings,
        list(
          steps = if (!is.null(steps)) steps else if (U > 30) "geometric" else "one",
          points = pick_counts(counts, U, search)
        )
      )
      plan
    },
    chosen,
    refit
  )
  check_can_refit(study, refit[!duplicated(vapply(refit, `[[`, "", "name"))])
  leaking_warning(study, plans)
  curves <- reduce_models(study, plans, run)
  validate_reduction(new_reduction(c(
    list(curves = curves, study = study), settings[setdiff(names(settings), "seed")],
    list(
      groups = groups, steps = steps, budget = budget, counts = counts,
      refit_as = refit_as, level = level, seed = seed
    )
  )))
}

new_reduction <- function(fields) new_record(fields, "reduction")

validate_reduction <- function(x) {
  fields <- c(
    curves = "list", study = "list", by = "character", search = "character",
    folds = "integer", repeats = "integer", inner_folds = "integer", level = "double"
  )
  check_shape(x, fields, "reduction")
  check_holds(
    length(x$curves) > 0 && !is.null(names(x$curves)), "reduction", "it has no curve"
  )
  for (curve in x$curves) {
    check_holds(
      "all" %in% names(curve$columns), "reduction", "a curve lacks the set of all"
    )
    check_holds(length(curve$splits) > 0, "reduction", "a curve has no outer split")
  }
  x
}

check_rankers <- function(st, models, by) {
  for (method in by) {
    why <- vapply(models, function(m) why_not(method, m, st), "")
    if (any(nzchar(why))) {
      needs <- intersect(importance_methods()[[method]]$needs, c("trees", "coefficients"))
      needs <- if (length(needs)) paste("needs", needs) else "cannot be done"
      stop_study(
        paste0(
          "Ranking by ", method, " ", needs, "; model ",
          quote_some(names(why)[nzchar(why)]), ": ", why[nzchar(why)][1], "."
        ),
        todo = "Use by = \"permutation\", or name other models in `models`."
      )
    }
  }
}

# A predictor that knows the target makes every price look low.
leaking_warning <- function(st, plans) {
  universe <- unique(unlist(lapply(plans, `[[`, "universe")))
  flags <- flags_of(st)$predictors
  leaks <- intersect(universe, names(flags)[grepl("leak", flags)])
  if (length(leaks)) {
    warn_dreher(
      "leak",
      paste0(
        "What holds \"", st$target, "\" may be known only afterwards: ",
        quote_some(leaks), "."
      ),
      paste0(
        "See check_data(); with use = leave_out in the dictionary a predictor is in ",
        "no set."
      )
    )
  }
}

pick_counts <- function(counts, most, search) {
  if (is.null(counts)) {
    counts <- c(0:8, unique(round(8 * (4 / 3)^(0:60))))
    # the whole way would take most^2 / 2 fits
    if (search %in% c("forward", "floating") && most > 30) counts <- counts[counts <= 30]
  } else if (!is.numeric(counts) || anyNA(counts) ||
      any(counts < 0 | counts != round(counts) | counts > most)) {
    stop_input(
      paste0("`counts` must hold whole numbers from 0 to ", most, "."),
      paste0("Given: ", describe_value(counts), ".")
    )
  }
  as.integer(sort(unique(c(
    0, counts[counts <= most], if (!search %in% c("forward", "floating") || most <= 30) most
  ))))
}

# All models' pieces in one run, so that none waits for another's last.
reduce_models <- function(st, plans, run) {
  settings <- plans[[1]]$settings
  n <- nrow(st$train)
  fold_of <- vapply(
    seq_len(settings$repeats),
    function(t) {
      with_stream(settings$seed, c("folds", n, t), draw_folds(st, st$train, settings$folds))
    },
    integer(n)
  )
  about <- if (!is.null(run)) identity_of_reduction(st, plans, fold_of)
  do_pieces <- function(pieces) {
    run_pieces(
      pieces,
      vapply(pieces, function(p) paste(unlist(p), collapse = "/"), ""),
      reduce_piece,
      st = without_forests(st),
      plans = plans,
      fold_of = fold_of,
      folder = run,
      about = about,
      sound = sound_reduction,
      label = "reducing",
      cost = vapply(pieces, function(p) fits_of_piece(p, plans[[p$model]]), 0),
      narrow = function(piece, arguments) {
        plan <- plans[[piece$model]]
        arguments$plans <- plans[piece$model]
        arguments$st <- only_models(arguments$st, c(plan$ranker, plan$refit))
        arguments
      }
    )
  }
  pieces <- unlist(lapply(plans, pieces_of_reduction), recursive = FALSE, use.names = FALSE)
  done <- do_pieces(pieces)
  curves <- lapply(plans, function(plan) gather_curve(st, plan, done$values, fold_of))
  more <- score_further_random(st, plans, curves, do_pieces)
  curves <- more$curves
  done$failed <- rbind(done$failed, more$failed)
  say_failures(plans, curves, done, length(pieces) + more$pieces, run)
  Filter(Negate(is.null), curves)
}

# One model's pieces: the path on all rows, every outer fold, every inner fold in it, the folds that
# choose on all rows where those are not the outer ones, and the first random sets.
pieces_of_reduction <- function(plan) {
  settings <- plan$settings
  m <- plan$ranker
  outer <- expand.grid(fold = seq_len(settings$folds), time = seq_len(settings$repeats))
  choosing <- expand.grid(
    inner = seq_len(settings$inner_folds), drawing = seq_len(settings$repeats)
  )
  folds <- Map(function(t, f) {
    c(
      list(list(model = m, part = "outer", time = t, fold = f)),
      Map(function(d, g) {
        list(model = m, part = "inner", time = t, fold = f, drawing = d, inner = g)
      }, choosing$drawing, choosing$inner)
    )
  }, outer$time, outer$fold)
  choice <- if (settings$inner_folds != settings$folds) {
    Map(function(d, g) {
      list(model = m, part = "choice", drawing = d, inner = g)
    }, choosing$drawing, choosing$inner)
  }
  c(
    list(list(model = m, part = "all rows")), unlist(folds, recursive = FALSE), choice,
    random_pieces(plan)
  )
}

# About how many fits a piece is: of the path, and of the sets that are scored.
fits_of_piece <- function(piece, plan) {
  settings <- plan$settings
  points <- length(settings$points)
  units <- length(plan$units)
  path <- switch(settings$search, ranking = 1, backward = points, units^2 / 2)
  floor <- if (is.null(settings$floor_refits)) 0 else settings$floor_refits
  switch(
    piece$part, random = random_round, "all rows" = path + floor,
    outer = path + points + floor, path + points
  )
}

# What a run of reductions is of.
identity_of_reduction <- function(st, plans, fold_of) {
  pairs <- data.frame(
    model = unlist(lapply(plans, function(p) unique(c(p$ranker, p$refit)))),
    method = "reduction"
  )
  run_identity(
    st,
    pairs,
    resamples = fold_of,
    settings = list(
      plans[[1]]$settings,
      lapply(plans, `[`, c("ranker", "refit", "universe", "keep", "units", "budget")),
      lapply(plans, function(p) p$settings[c("steps", "points")])
    )
  )
}

# Models that could not be reduced, pieces that are missing, sizes and levels that a model could
# not take.
say_failures <- function(plans, curves, done, pieces, run) {
  gone <- names(curves)[vapply(curves, is.null, NA)]
  first <- function(model) {
    own <- done$failed$error[startsWith(done$failed$key, paste0(model, "/"))]
    c(own, failed_sets(done$values, model)$error, "too few of its pieces came out")[1]
  }
  go_on <- if (!is.null(run)) {
    "What was finished is in the run folder: the same call goes on from there."
  }
  if (length(gone) == length(plans)) stop_unreduced(gone[1], first(gone[1]), go_on)
  if (length(gone)) {
    warn_dreher(
      "pieces",
      paste0("Not reduced: ", paste0(quote_some(gone), ". "), first(gone[1])),
      go_on
    )
  }
  kept <- names(curves)[!names(curves) %in% gone]
  missing <- sum(sub("/.*", "", done$failed$key) %in% kept)
  if (missing) {
    warn_dreher(
      "pieces",
      paste0(
        missing, " of ", pieces,
        " pieces failed twice; their rows do not count in the scores."
      ),
      c(done$failed$error[1], go_on)
    )
  }
  for (m in kept) warn_of_curve(curves[[m]], m)
}

# Sets that could not be trained, and levels that a model could not predict.
warn_of_curve <- function(curve, m) {
  if (nrow(curve$failed)) {
    warn_dreher(
      "pieces",
      paste0(
        "Model \"", m, "\" could not be trained on some sets of ",
        list_words(curve$failed$count),
        " predictors; sizes that lack a part are passed over."
      ),
      curve$failed$error[1]
    )
  }
  if (curve$unseen > 0) {
    warn_dreher(
      "levels",
      paste0(
        "Some training parts lack rare levels that rows to be judged have (up to ",
        curve$unseen, if (curve$unseen == 1) " row" else " rows",
        " at a time). Model \"", m,
        "\" cannot predict levels it has not seen: there these rows count as the ",
        "most frequent level."
      )
    )
  }
}

stop_unreduced <- function(model, first, go_on) {
  way_out <- paste0(
    "Give `study(refit_with = )` a function that fits it, fewer `folds`, or another model."
  )
  stop_model(
    paste0(
      "Model \"", model, "\" could not be trained and scored on enough parts of the rows."
    ),
    first,
    if (is.null(go_on)) way_out else go_on
  )
}

reduce_piece <- function(piece, st, plans, fold_of) {
  plan <- plans[[piece$model]]
  settings <- plan$settings
  if (piece$part == "all rows") {
    plan$fits <- share_fits(c(piece$model, "all rows"))
    train <- frame_for(st, plan, rep(TRUE, nrow(fold_of)))
    path <- walk_path(st, plan, train, settings, c(piece$model, "all rows"))
    return(c(
      path,
      list(
        columns = candidate_sets(st, plan, path, train, c(piece$model, "all rows"), TRUE)
      )
    ))
  }
  if (piece$part == "choice") {
    all <- frame_for(st, plan, rep(TRUE, nrow(fold_of)))
    return(score_inside(st, plan, all, piece, c(piece$model, "choice")))
  }
  out <- fold_of[, piece$time] == piece$fold
  key <- c(piece$model, piece$time, piece$fold)
  part <- list(train = frame_for(st, plan, !out), test = frame_for(st, plan, out))
  if (piece$part == "random") {
    return(score_sets(
      st, plan, part$train, part$test, sets_of_round(plan, piece$count, piece$round),
      c(key, "random")
    ))
  }
  if (piece$part == "outer") {
    plan$fits <- share_fits(key)
    path <- walk_path(st, plan, part$train, settings, key)
    columns <- candidate_sets(st, plan, path, part$train, key, TRUE)
    return(c(
      path,
      list(
        columns = columns,
        predictions = score_sets(st, plan, part$train, part$test, columns, key)
      )
    ))
  }
  score_inside(st, plan, part$train, piece, key)
}

# One fold of the cross-validation that chooses, within these rows: an outer training part, the
# held-out rows being out of sight, or all rows.
score_inside <- function(st, plan, rows, piece, key) {
  fold <- inner_folds_of(st, rows, plan$settings, c(key, piece$drawing))
  train <- rows[fold != piece$inner, , drop = FALSE]
  key <- c(key, "inner", piece$drawing, piece$inner)
  plan$fits <- share_fits(key)
  columns <- candidate_sets(
    st, plan, walk_path(st, plan, train, plan$settings, key), train, key, FALSE
  )
  score_sets(st, plan, train, rows[fold == piece$inner, , drop = FALSE], columns, key)
}

# Is this what reduce_piece() gives? Asked of what a run folder holds.
sound_reduction <- function(key, value) {
  scores <- function(x) is.double(x) && length(dim(x)) == 3
  part <- strsplit(key, "/", fixed = TRUE)[[1]]
  if (any(c("inner", "choice", "random") %in% part) && !is.list(value)) return(scores(value))
  path <- is.list(value) && is.list(value$sets) && is.list(value$columns) &&
    length(names(value$columns)) > 1 && all(vapply(value$columns, is.character, NA))
  path && (is.null(value$predictions) || scores(value$predictions))
}

# The sets to score: no predictor, the points of the path, all; and what is scored beside them.
candidate_sets <- function(st, plan, path, train, key, beside) {
  complete <- function(units) {
    intersect(plan$universe, c(plan$keep, unlist(plan$units[units])))
  }
  points <- stats::setNames(lapply(path$sets, complete), plan$settings$points)
  if (!length(plan$keep)) points <- points[-1]
  out <- c(list(constant = character()), points, list(all = plan$universe))
  if (!beside) return(out)
  if (plan$settings$thin_twins) {
    out$thinned <- complete(path$stay)
  } else if (length(plan$units) <= 1000) {
    out$thinned <- complete(thin_units(st, plan, train, path$importance)$stay)
  }  # a matrix of all pairs
  if (length(plan$sensitive)) {
    out[["not sensitive"]] <- setdiff(plan$universe, plan$sensitive)
  }
  if (!is.null(plan$settings$floor_refits)) {
    out[["above floor"]] <- complete(units_above_floor(st, plan, train, key))
  }
  out
}

units_above_floor <- function(st, plan, train, key) {
  ranker <- st$models[[plan$ranker]]
  settings <- plan$settings
  out <- split_part(st, train, key, settings$seed)
  predictors <- intersect(ranker$inputs$predictors, plan$universe)
  fit <- fit_on(
    st, ranker, train[!out, , drop = FALSE], predictors, settings$seed, c(key, "floor")
  )
  inside <- inside_study(
    st, ranker, fit, train[!out, , drop = FALSE], train[out, , drop = FALSE], predictors
  )
  method <- intersect(settings$by, methods_that("floor"))
  method <- if (length(method)) method[1] else "permutation"
  table <- noise_floor(
    inside,
    by = method,
    models = plan$ranker,
    refits = settings$floor_refits,
    seed = settings$seed
  )$table
  rows <- if ("oob" %in% table$rows) "oob" else table$rows[1]
  above <- unique(table$predictor[table$above & table$rows == rows])
  names(plan$units)[vapply(plan$units, function(u) any(u %in% above), NA)]
}
