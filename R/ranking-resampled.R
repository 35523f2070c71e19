# Rankings over resamples: every model trained again on each, ranked on the rows left out.

# pairs: data frame of model and method. One piece is a model on a resample with all methods, so
# that one fit serves them all.
rank_resampled <- function(
    st, pairs, resamples, rows, slice, settings, run, left_out) {
  own <- is.null(rows) || identical(rows, "holdout")
  several <- if (own) NULL else pick_several_rows(st, rows)
  check_resampled_rows(several, if (own) resamples)
  check_can_refit(st, st$models[unique(pairs$model)])
  # Draws of whole rows, measured on what they leave out, have their errors set right: see
  # sampling_offsets(). Not where that would fill the memory.
  drawn <- own && is.null(slice) && resamples$kind %in% c("bootstrap", "subsample")
  pieces <- pieces_of_resamples(st, pairs, resamples, own, drawn)
  pieces <- c(pieces, pieces_again(pieces, resamples))
  about <- if (!is.null(run)) {
    run_identity(
      st,
      pairs,
      resamples = list(resamples$kind, resamples$inside, resamples$outside),
      settings = list(settings, several, if (is.null(slice)) "" else deparse(slice))
    )
  }
  done <- run_pieces(
    pieces,
    vapply(pieces, key_of_resample, ""),
    rank_resample,
    st = without_forests(st),
    several = several,
    slice = slice,
    settings = settings,
    folder = run,
    about = about,
    sound = sound_resample,
    label = "ranking over resamples",
    narrow = one_model
  )
  again <- vapply(pieces, `[[`, NA, "again")
  came <- !vapply(done$values, is.null, NA)
  got <- done$values[came & !again]
  failed <- failed_resamples(pieces, done, length(got))
  table <- join_resamples(st, got)
  out <- validate_ranking(new_ranking(table, c(
    study_details(st, unique(table$predictor)),
    list(
      seed = settings$seed,
      level = settings$level,
      settings = mean_settings(lapply(got, `[[`, "settings")),
      left_out = left_out,
      resamples = list(
        kind = resamples$kind,
        times = length(resamples$inside),
        rows = mean(lengths(resamples$inside)),
        of = resamples$rows,
        outside = mean(lengths(resamples$outside))
      ),
      failed = failed,
      offsets = if (drawn) {
        sampling_offsets(pieces[came & !again], got)
      },
      again = importances_again(done$values[came & again]),
      twins = alike_pairs(st)
    )
  )))
  warn_failed_resamples(failed, length(pieces))
  out
}

# resamples: where they are ranked on what they leave out.
check_resampled_rows <- function(several, resamples) {
  for (evaluation in several) {
    if (evaluation$kind %in% c("train", "oob")) {
      stop_input(
        "Resamples are ranked on the rows left out, or on rows you give as data frames.",
        todo = "Leave `rows` out."
      )
    }
  }
  outside <- lengths(resamples$outside)
  if (!is.null(resamples) && resamples$kind != "seeds" && any(outside < 2)) {
    stop_study(
      paste0(
        "Resample ", which(outside < 2)[1],
        " leaves out fewer than 2 rows, so there is nothing to rank on."
      ),
      todo = "Draw smaller resamples."
    )
  }
}

pieces_of_resamples <- function(st, pairs, resamples, own, drawn) {
  on_left_out <- own && resamples$kind != "seeds"
  outside <- sum(lengths(resamples$outside))
  unlist(
    lapply(unique(pairs$model), function(m) {
      cells <- outside * as.double(length(st$models[[m]]$inputs$predictors))
      lapply(seq_along(resamples$inside), function(b) {
        list(
          model = m,
          resample = b,
          methods = pairs$method[pairs$model == m],
          inside = resamples$inside[[b]],
          outside = if (on_left_out) resamples$outside[[b]],
          keep_influence = drawn && cells <= 4e7,
          again = FALSE
        )
      })
    }),
    recursive = FALSE
  )
}

# Some draws are trained and ranked by permutation once more with other seeds: what differs is the
# learner's own noise and that of the shuffles, which the mean over the draws averages away.
pieces_again <- function(pieces, resamples) {
  times <- length(resamples$inside)
  if (!resamples$kind %in% c("bootstrap", "subsample") || times < 19) return(NULL)
  some <- Filter(
    function(p) {
      p$resample <= min(20, ceiling(times / 5)) && "permutation" %in% p$methods
    },
    pieces
  )
  lapply(some, utils::modifyList, list(
    methods = "permutation", keep_influence = FALSE, again = TRUE
  ))
}

key_of_resample <- function(piece) {
  paste(c(piece$model, piece$resample, if (piece$again) "again"), collapse = "/")
}

# The importances of what was ranked once more, as rows of a ranking without all else; NULL: none.
importances_again <- function(got) {
  if (!length(got)) return(NULL)
  table <- data.table::rbindlist(lapply(got, `[[`, "table"))
  data.table::setDF(table)
  table[is.na(table$class), c(
    "model", "method", "form", "rows", "slice", "resample", "predictor", "importance"
  )]
}

# Pieces that failed twice: model, resample, error.
failed_resamples <- function(pieces, done, came_out) {
  all <- data.frame(
    model = vapply(pieces, `[[`, "", "model"),
    resample = vapply(pieces, `[[`, 1L, "resample")
  )
  failed <- all[match(done$failed$key, names(done$values)), ]
  failed$error <- done$failed$error
  failed <- failed[!grepl("/again$", done$failed$key), ]
  rownames(failed) <- NULL
  if (came_out == 0) {
    stop_study(
      "No model could be trained and ranked on any resample.",
      paste0("The first: ", failed$error[1]),
      "Give `study(refit_with = )` a function that fits the model."
    )
  }
  failed
}

warn_failed_resamples <- function(failed, pieces) {
  if (!nrow(failed)) return(invisible())
  warn_dreher(
    "pieces",
    paste0(nrow(failed), " of ", pieces, " pieces failed twice and are missing."),
    paste0(
      "The first: model \"", failed$model[1], "\", resample ", failed$resample[1], ": ",
      failed$error[1]
    )
  )
}

# The tables of all resamples below each other, with the flags of the study.
join_resamples <- function(st, got) {
  table <- data.table::rbindlist(lapply(got, `[[`, "table"))
  data.table::setDF(table)
  flags <- flags_of(st)
  table$flag <- join_flags(
    table$flag,
    ifelse(
      table$predictor %in% names(flags$predictors), flags$predictors[table$predictor], ""
    ),
    flags$models[table$model]
  )
  table
}

# Numbers of rows differ from resample to resample: their mean stands for them.
mean_settings <- function(parts) {
  settings <- data.table::rbindlist(parts)
  data.table::setDF(settings)
  key <- x_keys(settings, setting_columns)
  settings$n <- as.integer(round(stats::ave(as.double(settings$n), key)))
  settings[!duplicated(key), ]
}

# What a run is of: anything else must not go on in its folder.
run_identity <- function(st, pairs, resamples, settings) {
  says <- lapply(st$models[unique(pairs$model)], function(m) {
    list(m$class, signif(predict_aligned(st, m, model_rows(st, m, st$data)), 10))
  })
  list(
    data = st$fingerprint,
    models = fingerprint(says),
    methods = fingerprint(pairs[c("model", "method")]),
    resamples = fingerprint(resamples),
    seed = format(settings[[1]]$seed),
    settings = fingerprint(list(settings, st$metric$name, st$weights, st$blocks))
  )
}

rank_resample <- function(piece, st, several, slice, settings) {
  model <- st$models[[piece$model]]
  train <- training_frame(st, model)
  key <- c(piece$model, "resample", piece$resample, if (piece$again) "again")
  fit <- fit_on(
    st,
    model,
    train[piece$inside, , drop = FALSE],
    model$inputs$predictors,
    settings$seed,
    key
  )
  if (piece$again) settings$seed <- piece_seed(settings$seed, key)
  inside <- inside_study(
    st,
    model,
    fit,
    train[piece$inside, , drop = FALSE],
    if (is.null(piece$outside)) st$data else train[piece$outside, , drop = FALSE],
    model$inputs$predictors
  )
  evaluation <- if (is.null(several)) {
    list(rows_left_out(st, inside, piece, slice))
  } else {
    several
  }
  parts <- unlist(
    lapply(piece$methods, function(method) {
      rank_by(
        list(model = piece$model, method = method),
        inside,
        slice_rows(evaluation, slice),
        settings
      )
    }),
    recursive = FALSE
  )
  table <- do.call(rbind, lapply(parts, as_plain))
  # the draws are many
  table$flag <- vapply(
    strsplit(table$flag, "; ", fixed = TRUE),
    function(f) paste(setdiff(f, "few repeats"), collapse = "; "),
    ""
  )
  table$resample <- piece$resample
  rownames(table) <- NULL
  measured <- do.call(rbind, lapply(parts, detail, "settings"))
  measured$class <- model$class
  measured$shuffle_noise <- NA_real_
  # What every row left out contributes to the importances: one part per method, on one set of rows.
  influence <- if (piece$keep_influence && "permutation" %in% piece$methods) {
    cube <- attr(parts[[match("permutation", piece$methods)]], "row_values")
    if (length(cube)) {
      matrix(cube[[1]], nrow(cube[[1]]), dimnames = dimnames(cube[[1]])[1:2])
    }
  }
  list(table = table, settings = measured, influence = influence)
}

# Is this what rank_resample() gives? Asked of what a run folder holds.
sound_resample <- function(key, value) {
  check_shape(value$table, ranking_columns, "piece")
  check_shape(value$settings, c(n = "any", class = "character"), "piece")
  is.data.frame(value$table) && is.data.frame(value$settings) &&
    all(
      paste(value$table$model, value$table$resample, sep = "/") == sub(
        "/again$", "", key
      )
    ) &&
    (is.null(value$influence) || is.matrix(value$influence) && is.double(value$influence))
}

# The rows a resample leaves out, as a set of rows; of kind "seeds" the holdout rows. They may lack
# the column of slices, which stands in the training rows as given.
rows_left_out <- function(st, inside, piece, slice) {
  if (is.null(piece$outside)) return(pick_rows(inside, "holdout"))
  data <- if (is.null(slice)) inside$data else st$train[piece$outside, , drop = FALSE]
  list(data = data, label = "left out", kind = "holdout")
}

# What turns the importances of the draws into draws that vary as the whole sample does.
#
# A draw's importance varies with its training part, and with the rows left out on which it is
# measured: those that the training part lacks. A sample in which a predictor looks strong by
# chance shows it in both, but a draw whose training part has more of such rows leaves fewer of
# them out: the two noises, which add up in the sample, cancel in the draws, whose spread is then
# too small. With psi_i the mean contribution of row i over the draws that left it out, the
# measuring part of draw b, the mean of psi over the rows left out, is taken away, and the mean of
# psi over its training rows, each as often as it was drawn, put in its place. -> per model a
# matrix resamples x predictors to add
sampling_offsets <- function(pieces, got) {
  of_model <- vapply(pieces, `[[`, "", "model")
  out <- lapply(split(seq_along(pieces), factor(of_model, unique(of_model))), function(
      at) {
    if (any(vapply(got[at], function(g) is.null(g$influence), NA))) return(NULL)
    n <- max(unlist(lapply(pieces[at], function(p) c(p$inside, p$outside))))
    # A refit may take fewer predictors in: what it does not use contributes nothing.
    predictors <- unique(unlist(lapply(got[at], function(g) colnames(g$influence))))
    sum <- matrix(0, n, length(predictors), dimnames = list(NULL, predictors))
    times <- integer(n)
    for (i in at) {
      u <- got[[i]]$influence
      rows <- pieces[[i]]$outside
      sum[rows, colnames(u)] <- sum[rows, colnames(u)] + sweep(u, 2, colMeans(u))
      times[rows] <- times[rows] + 1L
    }
    psi <- sum / pmax(times, 1L)
    psi <- sweep(psi, 2, colMeans(psi))
    offset <- t(vapply(
      at,
      function(i) {
        colMeans(psi[pieces[[i]]$inside, , drop = FALSE]) - colMeans(
          psi[pieces[[i]]$outside, , drop = FALSE]
        )
      },
      double(length(predictors))
    ))
    matrix(
      offset,
      length(at),
      dimnames = list(
        vapply(pieces[at], function(p) as.character(p$resample), ""), predictors
      )
    )
  })
  Filter(Negate(is.null), out)
}
