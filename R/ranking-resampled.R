# Rankings over resamples: every model trained again on each, ranked on the rows left out.

# pairs: data frame of model and method. One piece is a model on a resample with all methods, so
# that one fit serves them all.
rank_resampled <- function(st, pairs, resamples, rows, slice, how, run, left_out) {
  own <- is.null(rows) || identical(rows, "holdout")
  several <- if (own) NULL else pick_several_rows(st, rows)
  for (on in several) {
    if (on$label %in% c("train", "oob")) {
      stop_input(
        "Resamples are ranked on the rows left out, or on rows you give as data frames.",
        todo = "Leave `rows` out."
      )
    }
  }
  outside <- lengths(resamples$outside)
  if (own && resamples$kind != "seeds" && any(outside < 2)) {
    stop_study(
      paste0(
        "Resample ", which(outside < 2)[1],
        " leaves out fewer than 2 rows, so there is nothing to rank on."
      ),
      todo = "Draw smaller resamples."
    )
  }
  # Draws of whole rows, measured on what they leave out, have their errors set right: see
  # sampling_offsets(). Not where that would fill the memory.
  drawn <- own && is.null(slice) && resamples$kind %in% c("bootstrap", "subsample")
  pieces <- unlist(
    lapply(unique(pairs$model), function(m) {
      cells <- sum(outside) * as.double(length(st$models[[m]]$inputs$predictors))
      lapply(seq_along(resamples$inside), function(b) {
        list(
          model = m,
          resample = b,
          methods = pairs$method[pairs$model == m],
          inside = resamples$inside[[b]],
          outside = if (own && resamples$kind != "seeds") resamples$outside[[b]],
          keep_influence = drawn && cells <= 4e7
        )
      })
    }),
    recursive = FALSE
  )
  about <- if (!is.null(run)) {
    run_identity(
      st,
      pairs,
      resamples = list(resamples$kind, resamples$inside, resamples$outside),
      settings = list(how, several, if (is.null(slice)) "" else deparse(slice))
    )
  }
  done <- run_pieces(
    pieces,
    vapply(pieces, function(p) paste(p$model, p$resample, sep = "/"), ""),
    rank_resample,
    st = without_forests(st),
    several = several,
    slice = slice,
    how = how,
    folder = run,
    about = about,
    label = "ranking over resamples",
    narrow = one_model
  )
  got <- Filter(Negate(is.null), done$values)
  failed <- data.frame(
    model = vapply(pieces, `[[`, "", "model"),
    resample = vapply(pieces, `[[`, 1L, "resample")
  )[
    match(done$failed$key, names(done$values)),
  ]
  failed$error <- done$failed$error
  rownames(failed) <- NULL
  if (!length(got)) {
    stop_study(
      "No model could be trained and ranked on any resample.",
      paste0("The first: ", failed$error[1]),
      "Give `study(refit_with = )` a function that fits the model."
    )
  }
  table <- data.table::rbindlist(lapply(got, `[[`, "table"))
  settings <- data.table::rbindlist(lapply(got, `[[`, "settings"))
  data.table::setDF(table)
  data.table::setDF(settings)
  # Numbers of rows differ from resample to resample: their mean stands for them.
  of <- paste(settings$model, settings$method, settings$rows)
  settings$n <- as.integer(round(stats::ave(as.double(settings$n), of)))
  settings <- settings[!duplicated(of), ]
  table$flag <- join_flags(
    table$flag,
    ifelse(
      table$predictor %in% names(st$flags$predictors),
      st$flags$predictors[table$predictor],
      ""
    ),
    st$flags$models[table$model]
  )
  out <- new_ranking(st, table, settings, list(), how$seed, how$level, left_out)
  attr(out, "resamples") <- list(
    kind = resamples$kind,
    times = length(resamples$inside),
    rows = mean(lengths(resamples$inside)),
    of = resamples$rows,
    outside = mean(outside)
  )
  attr(out, "failed") <- failed
  attr(out, "offsets") <- if (drawn) {
    sampling_offsets(pieces[!vapply(done$values, is.null, NA)], got)
  }
  attr(out, "twins") <- if (!isFALSE(st$twins)) find_alike(st)
  if (nrow(failed)) {
    warn_dreher(
      "pieces",
      paste0(
        nrow(failed), " of ", length(pieces), " pieces failed twice and are missing."
      ),
      paste0(
        "The first: model \"", failed$model[1], "\", resample ", failed$resample[1], ": ",
        failed$error[1]
      )
    )
  }
  out
}

# What a run is of: anything else must not go on in its folder.
run_identity <- function(st, pairs, resamples, settings) {
  says <- lapply(st$models[unique(pairs$model)], function(m) {
    list(m$class, signif(predict_aligned(st, m, model_rows(st, m, st$data)), 10))
  })
  list(
    data = st$fingerprint,
    models = rlang::hash(says),
    methods = rlang::hash(pairs[c("model", "method")]),
    resamples = rlang::hash(resamples),
    seed = format(settings[[1]]$seed),
    settings = rlang::hash(list(settings, st$metric$name, st$weights, st$blocks))
  )
}

# A study to hand to workers: models are trained again there, and their trees read anew.
without_forests <- function(st) {
  st$models <- lapply(st$models, function(m) { m$forest <- NULL; m })
  st
}

# A piece of one model needs no other.
one_model <- function(piece, arguments) {
  arguments$st$models <- arguments$st$models[piece$model]
  arguments
}

rank_resample <- function(piece, st, several, slice, how) {
  model <- st$models[[piece$model]]
  train <- training_frame(st, model)
  fit <- fit_on(
    st,
    model,
    train[piece$inside, , drop = FALSE],
    model$inputs$predictors,
    how$seed,
    c(piece$model, "resample", piece$resample)
  )
  inside <- inside_study(
    st,
    model,
    fit,
    train[piece$inside, , drop = FALSE],
    if (is.null(piece$outside)) st$data else train[piece$outside, , drop = FALSE],
    model$inputs$predictors
  )
  # What is left out may lack the column of slices: it stands in the training rows as given.
  on <- if (!is.null(several)) {
    several
  } else {
    list(list(
      data = if (is.null(piece$outside)) {
        st$data
      } else {
        st$train[piece$outside, , drop = FALSE]
      },
      label = "holdout"
    ))
  }
  on <- slice_rows(on, slice)
  parts <- unlist(
    lapply(piece$methods, function(method) {
      rank_by(list(model = piece$model, method = method), inside, on, how)
    }),
    recursive = FALSE
  )
  rename <- function(rows) {
    if (is.null(piece$outside)) rows else sub("^holdout", "left out", rows)
  }
  table <- do.call(rbind, lapply(parts, as_plain))
  table$rows <- rename(table$rows)
  table$flag <- vapply(
    strsplit(table$flag, "; ", fixed = TRUE),
    function(f) paste(setdiff(f, "few repeats"), collapse = "; "),
    ""
  )  # the draws are many
  table$resample <- piece$resample
  rownames(table) <- NULL
  settings <- do.call(rbind, lapply(parts, attr, "settings"))
  settings$rows <- rename(settings$rows)
  settings$class <- model$class
  settings$shuffle_noise <- NA_real_
  # What every row left out contributes to the importances: one part per method, on one set of rows.
  influence <- if (piece$keep_influence && "permutation" %in% piece$methods) {
    attr(parts[[match("permutation", piece$methods)]], "units")[[1]]
  }
  list(table = table, settings = settings, influence = influence)
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
