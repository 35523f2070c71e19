#' Walk down to fewer predictors, honestly scored
#'
#' Scores every model with its top 0, 1, 2, ... predictors by cross-validation. Everything that
#' looks at the target happens inside the training part of each fold: the ranking, the refits, the
#' thinning of twins and, for the procedure's own score, the choice of the size.
#'
#' @param study A [study()] with training rows. Its dictionary counts: predictors with `use`
#'   `keep` are in every set, with `leave_out` in none; `cost` is added up and can be limited;
#'   what leaving out all `sensitive` ones costs stands beside the path.
#' @param by Methods that rank, as in [rank_predictors()]: `"permutation"` (default),
#'   `"impurity"`, `"shapley"`, `"structure"`, `"coefficient"`, `"association"`, `"refit"`.
#'   Several are combined by the mean of their ranks. Not asked by the paths `"forward"` and
#'   `"stepwise"`, unless twins are thinned.
#' @param ... Must be empty.
#' @param path How sets are found in a training part. `"ranking"` (default): one ranking, the top
#'   so many. `"backward"`: the last of the ranking are dropped, the model is trained and ranked
#'   again, and so on (Guyon et al. 2002). `"forward"`: what lowers the loss most comes in.
#'   `"stepwise"`: forward, and after each entry what is better without goes again (Pudil,
#'   Novovicova and Kittler 1994).
#' @param unit What comes in or goes: `"predictor"` (default), each by itself; or `"family"`, the
#'   predictors of a family of the dictionary together, counted as one.
#' @param steps `"one"` predictor at a time, or `"geometric"`: a fifth of those left are dropped,
#'   or a third as many as there are added. Default: geometric from 31 predictors on.
#' @param models Names of the models that rank. Default: all.
#' @param refit_model Name of the model of the study that is trained on the sets, if not the one
#'   that ranked.
#' @param thin_twins TRUE: of predictors that can stand in for each other (see [find_twins()]) one
#'   stays, found inside each training part.
#' @param budget The most a set may cost, in the unit of the dictionary's `cost`.
#' @param random Number of random sets of each size, scored by the first drawing of the folds; 0
#'   for none. From 50 on their share is a figure to rely on.
#' @param decoys Number of refits with permuted copies in each training part, at least 19: scores
#'   the predictors above the [noise_floor()] too. Default: not done.
#' @param folds Number of outer folds. Default: 5, fewer where the rows (four a fold) or blocks
#'   are too few.
#' @param times How often the outer folds are drawn anew.
#' @param inner_folds Number of folds inside each outer training part, from which the procedure
#'   chooses a size.
#' @param sizes Numbers of predictors (of units, where families count as one; beside those that
#'   are kept) to score; none and all are always among them. Default: every number up to 8, then
#'   in steps of about a third.
#' @param run Path of a run folder: every finished piece is kept there, and the same call goes on
#'   after a stop, with the same result to the bit.
#' @param level Level of the intervals.
#' @param seed A whole number; the same seed gives the same result whatever the number of workers.
#' @return A list of class `dreher_reduction`; `as.data.frame()` gives one row per model and
#'   candidate: \describe{ \item{model, refit}{the model that ranked, and the one trained on the
#'   sets} \item{candidate}{`path`; `constant` and `all` where they are not on the path; `thinned`
#'   (all but twins that others stand in for); `not sensitive` (all but those the dictionary calls
#'   sensitive); `above floor`} \item{size, cost}{the number of predictors of the set found on all
#'   training rows, and what they cost} \item{added}{the predictors this set adds to the one
#'   before, on all training rows; whole sets where they are not nested} \item{score, std_error,
#'   lower, upper}{cross-validated score in the metric's unit, with its interval over rows}
#'   \item{price, price_error, price_lower, price_upper}{rise of the loss (fall of the score)
#'   against all predictors, paired by row} \item{random, random_lower, random_upper,
#'   random_share, random_sets}{of the random sets of this size: mean score, 5 and 95 % quantiles,
#'   and, of the different sets other than this one (`random_sets` of them), the share that do as
#'   well, this one counted in} } Intervals from cross-validation are approximate. Those of the
#'   score leave out that the training parts overlap, and are somewhat too narrow (Bates, Hastie
#'   and Tibshirani 2024). Those of the price take it in: the variance over rows is multiplied by
#'   1 + K / (K - 1), K being the number of folds, with t limits of K times the drawings less one
#'   degrees of freedom (after Nadeau and Bengio 2003); in 300 simulated data sets
#'   (`bench/reduction.R`) that of the chosen set covered the true difference in 94 %, that of the
#'   procedure in 95 %, that of [confirm_set()] in 97 %.
#' @details Where held-out rows rank or try sets (permutation, Shapley, forward, stepwise), a
#'   training part is split once more: three quarters train, the last quarter ranks; the sets are
#'   then refitted on the whole part. Folds are stratified by class, and keep blocks together.
#'   Scoring costs `folds * times * (1 + inner_folds) * (number of sizes)` fits per model, the
#'   paths beside; a forward path of p predictors takes about p squared over 2 fits in each part.
#'   Pieces are spread over the workers of [future::plan()]; a fit that fails is tried once more.
#'
#' The curve is for looking: its best point flatters. The score of the whole procedure, choice of
#' the size included, is given by [choose_set()] (Varma and Simon 2006; Ambroise and McLachlan
#' 2002).
#' @section Errors: No training rows; a model that cannot be trained again (give `study(refit_with
#'   = )`); a fit that fails, with the model,
#'   fold and number of predictors; a family of which the dictionary keeps one predictor and
#'   leaves another out; a budget that nothing fits, or without costs; a run folder of another
#'   run.
#' @references Ambroise, C. and McLachlan, G. (2002). \doi{10.1073/pnas.102102699}.
#'   Varma, S. and Simon, R. (2006). \doi{10.1186/1471-2105-7-91}.
#'   Guyon, I., Weston, J., Barnhill, S. and Vapnik, V. (2002). \doi{10.1023/A:1012487302797}.
#'   Pudil, P., Novovicova, J. and Kittler, J. (1994). \doi{10.1016/0167-8655(94)90127-9}.
#'   Bates, S., Hastie, T. and Tibshirani, R. (2024). \doi{10.1080/01621459.2023.2197686}.
#'   Nadeau, C. and Bengio, Y. (2003). \doi{10.1023/A:1024068626366}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + cooling_rate + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' rd <- reduce_predictors(st, folds = 3, times = 1, inner_folds = 2)
#' as.data.frame(rd)
#' @export
reduce_predictors <- function(
    study, by = "permutation", ..., path = "ranking", unit = "predictor", steps = NULL,
    models = NULL, refit_model = NULL, thin_twins = FALSE, budget = NULL, random = 10,
    decoys = NULL, folds = NULL, times = 2, inner_folds = 3, sizes = NULL, run = NULL,
    level = 0.95, seed = 1) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "reduce_predictors")
  need_train(study, "Reducing predictors")
  by <- check_choice(
    by,
    c(
      "permutation", "impurity", "shapley", "structure", "coefficient", "association",
      "refit"
    ),
    "by",
    several = TRUE
  )
  path <- check_choice(path, c("ranking", "backward", "forward", "stepwise"), "path")
  unit <- check_choice(unit, c("predictor", "family"), "unit")
  if (!is.null(steps)) steps <- check_choice(steps, c("one", "geometric"), "steps")
  check_flag(thin_twins, "thin_twins")
  random <- check_count(random, "random", least = 0)
  if (!is.null(decoys)) decoys <- check_count(decoys, "decoys", least = 19)
  folds <- check_folds(folds, study, study$train)
  times <- check_count(times, "times")
  inner_folds <- check_count(inner_folds, "inner_folds", least = 2)
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  chosen <- pick_models(study, models)
  if (path %in% c("ranking", "backward") || thin_twins) check_rankers(study, chosen, by)
  refit <- if (is.null(refit_model)) {
    chosen
  } else {
    rep(
      study$models[check_choice(refit_model, names(study$models), "refit_model")],
      length(chosen)
    )
  }
  how <- list(
    by = by,
    path = path,
    thin_twins = thin_twins,
    random = random,
    decoys = decoys,
    folds = folds,
    times = times,
    inner_folds = inner_folds,
    seed = seed
  )
  plans <- Map(
    function(ranker, refit) {
      plan <- reduction_plan(study, ranker, refit, unit, budget)
      U <- length(plan$units)
      plan$how <- c(
        how,
        list(
          steps = if (!is.null(steps)) steps else if (U > 30) "geometric" else "one",
          points = pick_sizes(sizes, U, path)
        )
      )
      plan
    },
    chosen,
    refit
  )
  leaking_warning(study, plans)
  curves <- reduce_models(study, plans, run)
  structure(
    list(
      curves = curves,
      study = study,
      by = by,
      path = path,
      unit = unit,
      steps = steps,
      thin_twins = thin_twins,
      budget = budget,
      random = random,
      decoys = decoys,
      folds = folds,
      times = times,
      inner_folds = inner_folds,
      sizes = sizes,
      refit_model = refit_model,
      level = level,
      seed = seed
    ),
    class = "dreher_reduction"
  )
}

check_rankers <- function(st, models, by) {
  for (method in by) {
    why <- vapply(models, function(m) why_not(method, m, st), "")
    if (any(nzchar(why))) {
      needs <- switch(
        method,
        impurity =,
        structure = "needs trees",
        coefficient = "needs coefficients",
        "cannot be done"
      )
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
  flags <- if (!is.null(st$flags)) st$flags$predictors else find_flags(st)$predictors
  leaks <- intersect(universe, names(flags)[grepl("leak", flags)])
  if (length(leaks)) {
    warn_dreher(
      "leak",
      paste0(
        "What predicts \"", st$target,
        "\" suspiciously well may be known only afterwards: ", quote_some(leaks), "."
      ),
      paste0(
        "See check_data(); with use = leave_out in the dictionary a predictor is in ",
        "no set."
      )
    )
  }
}

pick_sizes <- function(sizes, most, path) {
  if (is.null(sizes)) {
    sizes <- c(0:8, unique(round(8 * (4 / 3)^(0:60))))
    # the whole way would take most^2 / 2 fits
    if (path %in% c("forward", "stepwise") && most > 30) sizes <- sizes[sizes <= 30]
  } else if (!is.numeric(sizes) || anyNA(sizes) ||
      any(sizes < 0 | sizes != round(sizes) | sizes > most)) {
    stop_input(
      paste0("`sizes` must hold whole numbers from 0 to ", most, "."),
      paste0("Given: ", describe_value(sizes), ".")
    )
  }
  as.integer(sort(unique(c(
    0, sizes[sizes <= most], if (!path %in% c("forward", "stepwise") || most <= 30) most
  ))))
}

# All models' pieces in one run, so that none waits for another's last.
reduce_models <- function(st, plans, run) {
  how <- plans[[1]]$how
  n <- nrow(st$train)
  fold_of <- vapply(
    seq_len(how$times),
    function(t) {
      with_stream(how$seed, c("folds", n, t), draw_folds(st, st$train, how$folds))
    },
    integer(n)
  )
  pieces <- unlist(
    lapply(names(plans), function(m) {
      c(
        list(list(model = m, part = "all rows")),
        unlist(
          lapply(seq_len(how$times), function(t) {
            unlist(
              lapply(seq_len(how$folds), function(f) {
                c(
                  list(list(model = m, part = "outer", time = t, fold = f)),
                  lapply(seq_len(how$inner_folds), function(g) {
                    list(model = m, part = "inner", time = t, fold = f, inner = g)
                  })
                )
              }),
              recursive = FALSE
            )
          }),
          recursive = FALSE
        ),
        if (how$random > 0 && length(random_sets(plans[[m]], m))) {
          lapply(seq_len(how$folds), function(f) {
            list(model = m, part = "random", time = 1L, fold = f)
          })
        }
      )
    }),
    recursive = FALSE
  )
  keys <- vapply(pieces, function(p) paste(unlist(p), collapse = "/"), "")
  about <- if (!is.null(run)) {
    pairs <- data.frame(
      model = unlist(lapply(plans, function(p) unique(c(p$ranker, p$refit)))),
      method = "reduction"
    )
    run_identity(
      st,
      pairs,
      resamples = fold_of,
      settings = list(
        how,
        lapply(plans, `[`, c("ranker", "refit", "universe", "keep", "units", "budget")),
        lapply(plans, function(p) p$how[c("steps", "points")])
      )
    )
  }
  done <- run_pieces(
    pieces,
    keys,
    reduce_piece,
    st = without_forests(st),
    plans = plans,
    fold_of = fold_of,
    folder = run,
    about = about,
    label = "reducing",
    narrow = function(piece, arguments) {
      plan <- plans[[piece$model]]
      arguments$plans <- plans[piece$model]
      arguments$st$models <- arguments$st$models[unique(c(plan$ranker, plan$refit))]
      arguments
    }
  )
  curves <- lapply(plans, function(plan) gather_curve(st, plan, done$values, fold_of))
  say_failures(plans, curves, done, length(pieces), run)
  Filter(Negate(is.null), curves)
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
  if (length(gone) == length(plans)) {
    stop_model(
      paste0(
        "Model \"", gone[1],
        "\" could not be trained and scored on enough parts of the rows."
      ),
      first(gone[1]),
      if (is.null(go_on)) {
        paste0(
          "Give `study(refit_with = )` a function that fits it, fewer `folds`, or ",
          "another model."
        )
      } else {
        go_on
      }
    )
  }
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
  for (m in kept) {
    curve <- curves[[m]]
    if (nrow(curve$failed)) {
      warn_dreher(
        "pieces",
        paste0(
          "Model \"", m, "\" could not be trained on some sets of ",
          list_words(curve$failed$size),
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
}

reduce_piece <- function(piece, st, plans, fold_of) {
  plan <- plans[[piece$model]]
  how <- plan$how
  if (piece$part == "all rows") {
    train <- frame_for(st, plan, rep(TRUE, nrow(fold_of)))
    path <- walk_path(st, plan, train, how, c(piece$model, "all rows"))
    return(c(
      path,
      list(
        columns = candidate_sets(st, plan, path, train, c(piece$model, "all rows"), TRUE)
      )
    ))
  }
  out <- fold_of[, piece$time] == piece$fold
  key <- c(piece$model, piece$time, piece$fold)
  part <- list(train = frame_for(st, plan, !out), test = frame_for(st, plan, out))
  if (piece$part == "random") {
    return(score_sets(
      st, plan, part$train, part$test, random_sets(plan, piece$model), c(key, "random")
    ))
  }
  if (piece$part == "outer") {
    path <- walk_path(st, plan, part$train, how, key)
    columns <- candidate_sets(st, plan, path, part$train, key, TRUE)
    return(c(
      path,
      list(
        columns = columns,
        predictions = score_sets(st, plan, part$train, part$test, columns, key)
      )
    ))
  }
  # An inner fold: the held-out part of the outer fold is out of sight.
  inner <- inner_folds_of(st, part$train, how, key)
  inside <- part$train[inner != piece$inner, , drop = FALSE]
  key <- c(key, "inner", piece$inner)
  columns <- candidate_sets(
    st, plan, walk_path(st, plan, inside, how, key), inside, key, FALSE
  )
  score_sets(
    st, plan, inside, part$train[inner == piece$inner, , drop = FALSE], columns, key
  )
}

inner_folds_of <- function(st, train, how, key) {
  with_stream(how$seed, c("inner folds", key), draw_folds(st, train, how$inner_folds))
}

# Rows for both the model that ranks and the one that is refitted, factors on fixed levels.
frame_for <- function(st, plan, rows) {
  out <- training_frame(st, st$models[[plan$refit]])
  if (plan$ranker != plan$refit) {
    other <- training_frame(st, st$models[[plan$ranker]])
    out[setdiff(names(other), names(out))] <- other[setdiff(names(other), names(out))]
  }
  out[rows, , drop = FALSE]
}

# The sets to score: no predictor, the points of the path, all; and what stands beside the path.
candidate_sets <- function(st, plan, path, train, key, beside) {
  complete <- function(units) {
    intersect(plan$universe, c(plan$keep, unlist(plan$units[units])))
  }
  points <- stats::setNames(lapply(path$sets, complete), plan$how$points)
  if (!length(plan$keep)) points <- points[-1]
  out <- c(list(constant = character()), points, list(all = plan$universe))
  if (!beside) return(out)
  if (plan$how$thin_twins) {
    out$thinned <- complete(path$stay)
  } else if (length(plan$units) <= 1000) {
    out$thinned <- complete(thin_units(st, plan, train, path$importance)$stay)
  }  # a matrix of all pairs
  if (length(plan$sensitive)) {
    out[["not sensitive"]] <- setdiff(plan$universe, plan$sensitive)
  }
  if (!is.null(plan$how$decoys)) {
    out[["above floor"]] <- complete(units_above_floor(st, plan, train, key))
  }
  out
}

units_above_floor <- function(st, plan, train, key) {
  ranker <- st$models[[plan$ranker]]
  how <- plan$how
  out <- split_part(st, train, key, how$seed)
  predictors <- intersect(ranker$inputs$predictors, plan$universe)
  fit <- fit_on(
    st, ranker, train[!out, , drop = FALSE], predictors, how$seed, c(key, "floor")
  )
  inside <- inside_study(
    st, ranker, fit, train[!out, , drop = FALSE], train[out, , drop = FALSE], predictors
  )
  method <- intersect(how$by, c("permutation", "impurity", "shapley"))
  method <- if (length(method)) method[1] else "permutation"
  table <- noise_floor(
    inside, by = method, models = plan$ranker, draws = how$decoys, seed = how$seed
  )$table
  above <- unique(
    table$predictor[table$above &
        table$rows == if ("oob" %in% table$rows) "oob" else table$rows[1]]
  )
  names(plan$units)[vapply(plan$units, function(u) any(u %in% above), NA)]
}

# The same random sets in every fold.
random_sets <- function(plan, model) {
  U <- length(plan$units)
  points <- plan$how$points[plan$how$points > 0 & plan$how$points < U]
  unlist(
    lapply(points, function(k) {
      lapply(seq_len(plan$how$random), function(s) {
        units <- with_stream(
          plan$how$seed, c("random set", model, k, s), sample(names(plan$units), k)
        )
        intersect(plan$universe, c(plan$keep, unlist(plan$units[units])))
      })
    }),
    recursive = FALSE
  )
}

# Predictions on `test` from sets refitted on `train`: rows x sets x outputs. Sets that are the
# same are fitted once.
score_sets <- function(st, plan, train, test, sets, key) {
  model <- st$models[[plan$refit]]
  names <- vapply(sets, rlang::hash, "")
  out <- failed <- NULL
  unseen <- 0L
  for (s in seq_along(sets)) {
    first <- match(names[s], names)
    if (first < s && !is.null(out)) {
      out[, s, ] <- out[, first, ]
      next
    }
    p <- tryCatch(
      predict_set(st, model, train, test, sets[[s]], plan$how$seed, key),
      error = function(e) e
    )
    if (inherits(p, "error")) {
      failed <- rbind(
        failed, data.frame(set = s, size = length(sets[[s]]), error = message_of(p))
      )
      next
    }
    unseen <- max(unseen, attr(p, "unseen"))
    if (is.null(out)) {
      out <- array(
        NA_real_, c(nrow(test), length(sets), ncol(p)), list(NULL, NULL, colnames(p))
      )
    }
    out[, s, ] <- p
  }
  if (is.null(out)) stop_model(failed$error[1])
  structure(out, failed = failed, unseen = unseen)
}

# An error's message and what it was made of, in one line.
message_of <- function(e) {
  said <- rlang::cnd_message(e)
  gsub(
    "\\s+",
    " ",
    gsub("\n[^A-Za-z\"`]*", " ", if (length(said)) said else conditionMessage(e))
  )
}

# The number of folds: as asked, or what the rows and blocks allow.
check_folds <- function(folds, st, data, usual = 5L) {
  n <- nrow(data)
  units <- if (is.null(st$blocks)) n %/% 4L else length(unique(data[[st$blocks]]))
  if (units < 2) {
    stop_study(
      if (is.null(st$blocks)) {
        paste0("There are only ", n, " training rows, too few for cross-validation.")
      } else {
        "The training rows are all of one block."
      },
      todo = "Give more rows."
    )
  }
  if (is.null(folds)) return(as.integer(min(usual, units)))
  check_count(folds, "folds", least = 2, most = units)
}

# Folds of nearly equal size, each class spread over them.
draw_folds <- function(st, data, folds) {
  y <- data[[st$target]]
  stratum <- if (st$task == "classification") as.integer(y) else rep(1L, nrow(data))
  fold <- integer(nrow(data))
  if (!is.null(st$blocks)) {
    # rows that belong together stay together
    of <- cases_of(st, data)$block
    if (max(of) < folds) {
      stop_study(
        paste0(
          folds, " folds need at least as many blocks of rows; there are ", max(of), "."
        ),
        todo = "Ask for fewer folds."
      )
    }
    return(sample(rep_len(sample.int(folds), max(of)))[of])
  }
  for (s in unique(stratum)) {
    rows <- which(stratum == s)
    fold[rows] <- sample(rep_len(sample.int(folds), length(rows)))
  }
  spread_levels(
    fold, data[sort(intersect(names(data), st$predictors), method = "radix")], stratum
  )
}

gather_curve <- function(st, plan, values, fold_of) {
  m <- plan$ranker
  how <- plan$how
  value <- function(...) values[[paste(m, ..., sep = "/")]]
  n <- nrow(fold_of)
  stack <- function(parts, of) {
    # pieces' predictions, row by row; NA where a piece failed
    known <- Find(Negate(is.null), parts)
    if (is.null(known)) return(NULL)
    out <- array(
      NA_real_, c(length(of), dim(known)[2:3]), list(NULL, NULL, dimnames(known)[[3]])
    )
    for (f in seq_along(parts)) if (!is.null(parts[[f]])) out[of == f, , ] <- parts[[f]]
    out
  }
  all <- value("all rows")
  if (is.null(all)) return(NULL)
  full <- match("all", names(all$columns))
  outer <- lapply(seq_len(how$times), function(t) {
    stack(
      lapply(seq_len(how$folds), function(f) value("outer", t, f)$predictions),
      fold_of[, t]
    )
  })
  # drawings most of whose folds came out
  used <- which(vapply(outer, function(p) mean(scored_rows(p, c(1, full))) >= 0.5, NA))
  if (!length(used)) return(NULL)
  splits <- unlist(
    lapply(used, function(t) {
      lapply(seq_len(how$folds), function(f) {
        if (is.null(value("outer", t, f))) return(NULL)
        key <- c(m, t, f)
        train <- frame_for(st, plan, fold_of[, t] != f)
        inner <- stack(
          lapply(seq_len(how$inner_folds), function(g) value("inner", t, f, g)),
          inner_folds_of(st, train, how, key)
        )
        if (mean(scored_rows(inner, 1L)) < 0.5) return(NULL)
        c(
          value("outer", t, f)[c("order", "importance", "standing", "columns")],
          list(
            time = match(t, used),
            fold = f,
            inner = curve_moments(st, cases_of(st, train), list(inner), how$seed)
          )
        )
      })
    }),
    recursive = FALSE
  )
  splits <- Filter(Negate(is.null), splits)
  if (!length(splits)) return(NULL)
  outer <- outer[used]
  fold_of <- fold_of[, used, drop = FALSE]
  random <- if (1L %in% used && how$random > 0 && length(random_sets(plan, m))) {
    stack(lapply(seq_len(how$folds), function(f) value("random", 1L, f)), fold_of[, 1])
  }
  list(
    model = m,
    plan = plan[setdiff(names(plan), "how")],
    how = how,
    columns = all$columns,
    order = all$order,
    importance = all$importance,
    standing = all$standing,
    splits = splits,
    fold_of = fold_of,
    failed = failed_sets(values, m),
    unseen = most_unseen(values, m),
    cases = cases_of(st, frame_for(st, plan, rep(TRUE, n))),
    outer = outer,
    random = random
  )
}

# Loss of each set and the covariance of these losses over rows. `predictions`: one array (rows x
# sets x outputs) per drawing of the folds; influences are averaged over drawings row by row.
#
# Rows whose fold failed in a drawing do not count in it; a set that could not be trained on some
# of the others has no loss (NA). needed: the sets without which a row does not count.
curve_moments <- function(st, cases, predictions, seed, needed = 1L) {
  sizes <- dim(predictions[[1]])[2]
  n <- length(cases$truth)
  rows_of <- lapply(predictions, scored_rows, needed)
  whole <- Reduce(
    `&`,
    Map(
      function(p, rows) {
        vapply(seq_len(sizes), function(s) !anyNA(slice_repeat(p, s)[rows, ]), NA)
      },
      predictions,
      rows_of
    )
  )
  losses <- function(p, rows, part) {
    # NA, or the loss and influences of every set
    some <- if (all(rows)) cases else some_cases(cases, rows)
    lapply(seq_len(sizes), function(s) {
      if (!whole[s]) return(list(loss = NA_real_, u = double(n)))
      found <- metric_influence(
        st$metric, some$truth, slice_repeat(p, s)[rows, , drop = FALSE], some$weight
      )
      if (!part && !all(rows) && !is.null(found$u)) {
        found$u <- replace(double(n), which(rows), found$u * n / sum(rows))
      }
      found
    })
  }
  mean_loss <- function(keep = TRUE) {
    rowMeans(matrix(
      vapply(
        seq_along(predictions),
        function(t) {
          vapply(losses(predictions[[t]], rows_of[[t]] & keep, TRUE), `[[`, 0, "loss")
        },
        double(sizes)
      ),
      sizes
    ))
  }
  if (!jackknifed(st$metric)) {
    each <- Map(losses, predictions, rows_of, FALSE)
    loss <- rowMeans(matrix(
      vapply(each, function(e) vapply(e, `[[`, 0, "loss"), double(sizes)), sizes
    ))
    u <- Reduce(`+`, lapply(each, function(e) vapply(e, `[[`, double(n), "u"))) /
      length(each)
    return(c(list(loss = loss), influence_error(u, cases$block)[c("cov", "df")]))
  }
  loss <- mean_loss()
  block <- jackknife_blocks(cases, seed)
  left_out <- vapply(unique(block), function(g) mean_loss(block != g), double(sizes))
  left_out[is.na(left_out)] <- 0
  g <- ncol(left_out)
  list(loss = loss, cov = (g - 1)^2 / g * stats::cov(t(left_out)), df = g - 1)
}

# Rows that have predictions of all these sets; none where there are no predictions at all.
scored_rows <- function(p, sets) {
  if (is.null(p)) return(FALSE)
  is.finite(rowSums(matrix(p[, sets, ], dim(p)[1])))
}

# What could not be trained: a row per size and message, with the number of training parts.
failed_sets <- function(values, model) {
  of <- values[startsWith(names(values), paste0(model, "/"))]
  of <- of[!grepl("/random/", names(of), fixed = TRUE)]
  found <- do.call(
    rbind, lapply(of, function(v) attr(if (is.list(v)) v$predictions else v, "failed"))
  )
  if (is.null(found)) {
    return(data.frame(size = integer(), parts = integer(), error = character()))
  }
  out <- stats::aggregate(list(parts = found$set), found["size"], length)
  out$error <- found$error[match(out$size, found$size)]
  out
}

most_unseen <- function(values, model) {
  of <- values[startsWith(names(values), paste0(model, "/"))]
  max(
    0L,
    unlist(lapply(of, function(v) attr(if (is.list(v)) v$predictions else v, "unseen")))
  )
}

# Standard error of the price of set a against set b: over rows, and widened where training parts
# overlap. What trains on one fold judges another, so that the scores of folds go together; their
# correlation is about the share of rows left out (Nadeau and Bengio 2003), which makes the
# variance 1 + K / (K - 1) times as large with K folds. Their t has as many degrees of freedom as
# there are folds over all drawings, less one.
price_error_of <- function(moments, a, b, folds) {
  sqrt(1 + folds / (folds - 1)) * difference_error(moments, a, b)
}

folds_df <- function(x) x$folds * x$times - 1

# Standard error of loss[a] - loss[b] over rows.
difference_error <- function(moments, a, b) {
  v <- moments$cov
  sqrt(pmax(diag(v)[a] + v[b, b] - 2 * v[a, b], 0))
}

#' @export
as.data.frame.dreher_reduction <- function(x, ...) {
  out <- do.call(rbind, lapply(x$curves, curve_table, rd = x))
  rownames(out) <- NULL
  out
}

beside_path <- c("thinned", "not sensitive", "above floor")

# Which columns are steps of the path (none at all is one, unless something is kept), and how many
# units each has.
path_columns <- function(curve) {
  on_path <- !names(curve$columns) %in% c("constant", "all", beside_path)
  if (!length(curve$plan$keep)) on_path[1] <- TRUE
  which(on_path)
}

curve_table <- function(curve, rd) {
  st <- rd$study
  full <- match("all", names(curve$columns))
  m <- curve_moments(st, curve$cases, curve$outer, rd$seed, c(1L, full))
  path <- path_columns(curve)
  path <- path[is.finite(m$loss[path])]
  # Points beyond what a part has (twins thinned, budget spent) hold what the last one holds.
  path <- path[!duplicated(lapply(curve$columns[path], sort))]
  ends_with_all <- setequal(curve$columns[[max(path)]], curve$columns[[full]])
  passed_over <- which(!is.finite(m$loss))
  # Where nobody has a twin, to leave twins out is to leave nothing out.
  same <- setdiff(
    which(
      names(curve$columns) == "thinned" &
        vapply(curve$columns, setequal, NA, curve$columns[[full]])
    ),
    path
  )
  passed_over <- c(passed_over, same)
  shown <- c(
    path,
    setdiff(
      seq_along(curve$columns),
      c(path_columns(curve), passed_over, if (ends_with_all) full)
    )
  )
  if (length(curve$plan$keep)) shown <- c(1L, setdiff(shown, 1L))
  own_error <- sqrt(diag(m$cov))
  limits <- t_limits(as_score(st$metric, m$loss), own_error, m$df, rd$level)
  price_error <- price_error_of(m, seq_along(m$loss), full, rd$folds)
  price <- t_limits(m$loss - m$loss[full], price_error, folds_df(rd), rd$level)
  before <- c(NA, path)[match(seq_along(m$loss), path)]
  added <- vapply(
    seq_along(m$loss),
    function(s) {
      own <- curve$columns[[s]]
      from <- if (is.na(before[s])) character() else curve$columns[[before[s]]]
      if (!all(from %in% own)) from <- character()
      in_order <- unlist(curve$plan$units[curve$order])
      new <- setdiff(own, from)
      paste(
        c(
          intersect(curve$plan$keep, new), intersect(in_order, new),
          setdiff(new, c(in_order, curve$plan$keep))
        ),
        collapse = ", "
      )
    },
    ""
  )
  candidate <- names(curve$columns)
  candidate[path] <- "path"
  out <- data.frame(
    model = curve$model,
    refit = curve$plan$refit,
    candidate = candidate,
    size = lengths(curve$columns),
    cost = vapply(curve$columns, function(s) cost_of(curve$plan, s), 0),
    added = added,
    score = as_score(st$metric, m$loss),
    std_error = own_error,
    lower = limits$lower,
    upper = limits$upper,
    price = m$loss - m$loss[full],
    price_error = price_error,
    price_lower = price$lower,
    price_upper = price$upper,
    row.names = NULL
  )
  cbind(out, random_band(st, curve))[shown, ]
}

# Random sets of each size beside the path, both on the first drawing of the folds.
random_band <- function(st, curve) {
  out <- data.frame(
    random = NA_real_,
    random_lower = NA_real_,
    random_upper = NA_real_,
    random_share = NA_real_,
    random_sets = NA_integer_
  )[
    rep(1, length(curve$columns)),
  ]
  if (is.null(curve$random)) return(out)
  loss <- function(p) {
    vapply(
      seq_len(dim(p)[2]),
      function(s) {
        if (anyNA(p[, s, ])) {
          NA_real_
        } else {
          metric_influence(
            st$metric, curve$cases$truth, slice_repeat(p, s), curve$cases$weight
          )$loss
        }
      },
      0
    )
  }
  S <- curve$how$random
  points <- curve$how$points[curve$how$points > 0 &
      curve$how$points < length(curve$plan$units)]
  drawn <- matrix(loss(curve$random), S)
  own <- loss(curve$outer[[1]])
  sets <- matrix(
    vapply(
      random_sets(c(curve$plan, list(how = curve$how)), curve$model),
      function(s) rlang::hash(sort(s)),
      ""
    ),
    S
  )
  at <- match(as.character(points), names(curve$columns))
  for (j in seq_along(points)) {
    known <- is.finite(drawn[, j])
    if (!any(known)) next
    band <- sort(as_score(
      st$metric, stats::quantile(drawn[known, j], c(0.05, 0.95), names = FALSE)
    ))
    # Of few predictors the same set is drawn again, or the path's own.
    others <- which(
      known & !duplicated(sets[, j]) &
        sets[, j] != rlang::hash(sort(curve$columns[[at[j]]]))
    )
    share <- if (length(others) && is.finite(own[at[j]])) {
      (1 + sum(drawn[others, j] <= own[at[j]])) / (length(others) + 1)
    } else {
      NA
    }
    out[at[j], ] <- list(
      as_score(st$metric, mean(drawn[known, j])), band[1], band[2], share, length(others)
    )
  }
  out
}

#' @export
summary.dreher_reduction <- function(object, ...) {
  do.call(rbind, lapply(names(object$curves), function(m) {
    as.data.frame(choose_set(object, model = m))
  }))
}
