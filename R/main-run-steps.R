# The steps of a study file: what each takes, and what it makes.

new_step <- function(
    name, says, made, needs = character(), about = NULL, matters = NULL, seconds = NULL) {
  list(
    name = name, says = says, made = made, needs = needs, about = about, matters = matters,
    seconds = seconds
  )
}

steps_of_file <- function(spec, st, tables, out) {
  asked <- function(name) !is.null(spec[[name]])
  seed <- seed_of(spec)
  ways <- methods_of_file(spec, st)
  c(
    list(
      new_step("scores", "Scoring the models", function(v, run) {
        score_models(st, seed = seed)
      }),
      if (asked("checks")) {
        new_step("checks", "Checking rows and columns", function(v, run) {
          check_data(st, seed = seed)
        })
      },
      if (asked("drift") && !is.null(tables$holdout)) {
        new_step("drift", "Comparing holdout rows with training rows", function(v, run) {
          find_drift(st, models = first_model(spec, st), seed = seed)
        })
      },
      if (asked("floor")) floor_step(spec, st),
      if (asked("rank")) rank_step_of(spec, st, ways)
    ),
    if (asked("stability")) stability_steps(spec, st),
    if (asked("rank") && length(ways) * length(st$models) > 1) {
      list(new_step(
        "agreement",
        "Comparing the rankings",
        function(v, run) agreement(v$ranking, study = st),
        needs = "ranking"
      ))
    },
    if (asked("twins")) list(twins_step(spec, st)),
    if (asked("reduce")) reduce_steps(spec, st, tables, out),
    if (asked("compare")) list(compare_step_of(spec, st)), effect_steps(spec, st)
  )
}

first_model <- function(spec, st) {
  if (!is.null(spec$reduce$refit_as)) {
    spec$reduce$refit_as
  } else if (!is.null(spec$reduce$model)) {
    spec$reduce$model
  } else {
    best_model(st)
  }
}

# What a step takes of the dictionary, whatever the order of its lines.
of_dictionary <- function(st, columns) {
  d <- st$dictionary[order(st$dictionary$predictor, method = "radix"), ]
  as.list(d[c("predictor", setdiff(columns, "predictor"))])
}

# Arguments of a function from a section, those that are given.
given_arguments <- function(section, names) section[intersect(names, names(section))]

methods_of_file <- function(spec, st) {
  if (!is.null(spec$rank$by)) return(spec$rank$by)
  trees <- any(vapply(st$models, function(m) !is.null(m$forest), NA))
  c(if (trees && !is.null(st$train)) "impurity", "permutation", "shapley")
}

rank_step_of <- function(spec, st, ways) {
  with_floor <- !is.null(spec$floor)
  new_step(
    "ranking",
    paste0("Ranking by ", list_words(ways)),
    function(v, run) {
      rk <- do.call(rank_predictors, c(
        list(st, by = ways, seed = seed_of(spec)),
        given_arguments(spec$rank, c("repeats", "background"))
      ))
      if (with_floor) with_floor_of(rk, v$floor) else rk
    },
    needs = if (with_floor) "floor" else character(),
    about = list(ways, spec$rank)
  )
}

# A floor is of some methods and models only; a ranking without them stays as it is.
with_floor_of <- function(rk, floor) {
  tryCatch(with_floor(rk, floor), dreher_error = function(e) rk)
}

floor_step <- function(spec, st) {
  section <- spec$floor
  new_step(
    "floor", "Training beside shuffled copies",
    function(v, run) {
      do.call(noise_floor, c(
        list(st, run = run, seed = seed_of(spec)),
        given_arguments(section, c("by", "models", "refits", "repeats"))
      ))
    },
    about = section,
    seconds = function() {
      n <- if (is.null(section$refits)) 99 else section$refits
      2 * n * sum(fit_seconds(st, section$models))
    }
  )
}

stability_steps <- function(spec, st) {
  section <- spec$stability
  kind <- if (is.null(section$kind)) "bootstrap" else section$kind
  times <- if (is.null(section$times)) usual_times(kind) else section$times
  floor <- !is.null(spec$floor)
  list(
    new_step(
      "ranked_again",
      paste0("Training and ranking again on ", times, " resamples"),
      function(v, run) {
        drawn <- draw_resamples(
          st$train, kind, times = times, blocks = st$blocks, strata = section$strata,
          order = section$order, seed = seed_of(spec)
        )
        do.call(rank_predictors, c(
          list(
            st, by = if (is.null(section$by)) "permutation" else section$by,
            resamples = drawn, run = run, seed = seed_of(spec)
          ),
          given_arguments(section, c("models", "repeats", "background"))
        ))
      },
      about = section,
      seconds = function() {
        times * sum(fit_seconds(st, section$models) + rank_seconds(st, section$models))
      }
    ),
    new_step(
      "stability", "Asking which ranks are settled",
      function(v, run) {
        rk <- v$ranked_again
        stability(if (floor) with_floor_of(rk, v$floor) else rk)
      },
      needs = c("ranked_again", if (floor) "floor")
    )
  )
}

twins_step <- function(spec, st) {
  ranked <- !is.null(spec$rank)
  new_step(
    "twins", "Looking for redundant predictors",
    function(v, run) {
      do.call(find_twins, c(
        list(st, ranking = if (ranked) v$ranking, seed = seed_of(spec)),
        given_arguments(spec$twins, "threshold")
      ))
    },
    needs = if (ranked) "ranking" else character(),
    about = spec$twins
  )
}

reduce_steps <- function(spec, st, tables, out) {
  section <- spec$reduce
  rule <- given_arguments(section, c("rule", "margin", "count", "cumulative"))
  search <- given_arguments(
    section,
    c(
      "by", "search", "refit_as", "groups", "thin_twins", "budget", "random", "folds",
      "inner_folds", "repeats", "floor_refits"
    )
  )
  ranker <- if (is.null(section$model)) best_model(st) else section$model
  list(
    new_step(
      "reduction",
      "Walking down to fewer predictors",
      function(v, run) {
        do.call(
          reduce_predictors,
          c(
            list(
              st,
              models = ranker,
              run = run,
              seed = seed_of(spec),
              counts = if (identical(section$rule, "count")) section$count
            ),
            search
          )
        )
      },
      about = list(
        ranker, search, if (identical(section$rule, "count")) section$count,
        of_dictionary(st, "cost")
      ),
      seconds = function() seconds_of_reduction(st, section)
    ),
    new_step(
      "set",
      "Choosing a set",
      function(v, run) do.call(choose_set, c(list(v$reduction), rule)),
      needs = "reduction",
      about = rule,
      matters = function(set) list(set$model, set$refit, sort_text(set$predictors))
    ),
    if (!is.null(spec$confirm)) {
      new_step(
        "confirmation",
        "Confirming the set on untouched rows",
        function(v, run) {
          # The look is written down beside the set at once, whatever becomes of this run.
          set <- set_in_folder(v$set, out)
          if (!file.exists(set$file)) write_predictor_set(set, set$file)
          do.call(
            confirm_set,
            c(
              list(set, tables$untouched, seed = seed_of(spec)),
              given_arguments(spec$confirm, c("margin", "overlap", "again"))
            )
          )
        },
        needs = "set",
        about = spec$confirm
      )
    }
  )
}

# The set with the place of its file, which knows the looks at untouched rows.
set_in_folder <- function(set, out) {
  set$file <- file.path(out, "set.json")
  set
}

compare_step_of <- function(spec, st) {
  section <- spec$compare
  chosen <- vapply(section$sets, identical, NA, "chosen")
  new_step(
    "comparison", "Scoring sets side by side",
    function(v, run) {
      sets <- section$sets
      sets[chosen] <- list(v$set)
      do.call(compare_sets, c(
        list(st, sets, seed = seed_of(spec)),
        given_arguments(section, c("reference", "models", "margin", "folds", "repeats"))
      ))
    },
    needs = if (any(chosen)) "set" else character(),
    about = list(section, of_dictionary(st, "cost"))
  )
}

# How the predictors act: those of the chosen set where there is one.
effect_steps <- function(spec, st) {
  ranked <- if (!is.null(spec$reduce)) "set" else if (!is.null(spec$rank)) "ranking"
  predictors_for <- function(section, v) {
    if (!is.null(section$predictors)) return(section$predictors)
    found <- v$set$predictors
    if (!length(found) && !is.null(v$ranking)) {
      d <- as_plain(shown_ranking(v$ranking))
      d <- d[is.na(d$class), ]
      d <- main_part(d[d$model == intersect(c(first_model(spec, st), d$model), d$model)[1], ])
      found <- d$predictor[order(d$rank)]
    }
    if (length(found)) utils::head(found, 6)
  }
  models <- function(section) {
    if (is.null(section$models)) first_model(spec, st) else section$models
  }
  acts <- function(name, says, fun, own) {
    section <- spec[[name]]
    if (is.null(section)) return(NULL)
    new_step(
      name,
      says,
      function(v, run) {
        do.call(
          fun,
          c(
            list(
              st,
              predictors = predictors_for(section, v),
              models = models(section),
              seed = seed_of(spec)
            ),
            given_arguments(section, own)
          )
        )
      },
      needs = if (is.null(section$predictors)) as.character(ranked) else character(),
      about = list(section, models(section))
    )
  }
  list(
    acts(
      "effects", "Drawing how the predictors act", effect_curves, c("form", "max_rows")
    ),
    acts(
      "interactions",
      "Asking which predictors act together",
      interactions,
      c("background", "max_rows")
    ),
    contributions_step(spec, st, models),
    slices_step_of(spec, st, models)
  )
}

contributions_step <- function(spec, st, models) {
  section <- spec$contributions
  if (is.null(section)) return(NULL)
  most <- if (is.null(section$max_rows)) 200 else section$max_rows
  new_step(
    "contributions", "Dividing predictions among the predictors",
    function(v, run) {
      which <- if (is.null(section$rows)) seq_len(min(most, nrow(st$data))) else section$rows
      do.call(contributions, c(
        list(st, models = models(section), which = which, seed = seed_of(spec)),
        given_arguments(section, "background")
      ))
    },
    about = list(section, models(section))
  )
}

slices_step_of <- function(spec, st, models) {
  section <- spec$slices
  if (is.null(section)) return(NULL)
  new_step(
    "slices", "Scoring parts of the rows",
    function(v, run) {
      do.call(compare_slices, c(
        list(
          st, stats::reformulate(lapply(section$by, as.name)), models = models(section),
          by = "score", seed = seed_of(spec)
        ),
        given_arguments(section, "max_rows")
      ))
    },
    about = list(section, models(section))
  )
}

# --- about how long ----------------------------------------------------------------------------

# Seconds to train each model once on all training rows and to predict the rows.
fit_seconds <- function(st, models = NULL) {
  if (is.null(models)) models <- names(st$models)
  vapply(models, function(m) {
    kept(st, paste0("seconds ", m), tryCatch(
      system.time(fit_and_predict(
        st, st$models[[m]], st$models[[m]]$inputs$predictors,
        list(data = st$data, roles = st$data), 1
      ))[[3]],
      error = function(e) NA_real_
    ))
  }, 0)
}

# Seconds to rank once on the rows.
rank_seconds <- function(st, models = NULL) {
  if (is.null(models)) models <- names(st$models)
  vapply(models, function(m) {
    kept(st, paste0("seconds to rank ", m), tryCatch(
      system.time(rank_permutation(st, models = m))[[3]], error = function(e) NA_real_
    ))
  }, 0)
}

# Fits of the path on all rows, in outer folds and inside them; smaller sets train faster.
seconds_of_reduction <- function(st, section) {
  model <- if (is.null(section$model)) best_model(st) else section$model
  value <- function(name, usual) if (is.null(section[[name]])) usual else section[[name]]
  folds <- value("folds", check_folds(NULL, st, st$train))
  repeats <- value("repeats", 2)
  inner <- value("inner_folds", folds)
  search <- value("search", "ranking")
  sets <- length(pick_counts(NULL, length(st$models[[model]]$inputs$predictors), search)) + 1
  fits <- sets * folds * repeats * (1 + inner * repeats) + value("random", 10) * sets * folds
  0.7 * fits * fit_seconds(st, model)
}
