#' What chance alone scores: the noise floor
#'
#' Trains every model again with a permuted copy of each predictor (a decoy) beside the real ones,
#' many times over, and determines which predictors exceed the decoys.
#'
#' @inheritParams rank_permutation
#' @param by Methods: some of `"permutation"` (default), `"impurity"`, `"shapley"`.
#' @param refits Number of refits, at least 19. With B of them the smallest p value is 1 / (B + 1).
#' @param shuffle `"marginal"` (default): decoys are permuted over all rows. `"conditional"`: within
#'   strata of rows that are alike in what the other predictors say of the predictor, so that a
#'   decoy is nearly as correlated with the others as its predictor is.
#' @param level Level of the family-wise test: above the floor is what has a p value of at most
#'   `1 - level`.
#' @param repeats Shuffles for permutation importance.
#' @param background Background rows for Shapley importance.
#' @param run Path of a run folder, as in [rank_predictors()].
#' @return A list of class `dreher_floor`; `as.data.frame()` gives one row per model, method, rows
#'   and predictor: \describe{ \item{importance}{mean over the refits} \item{floor, floor_lower,
#'   floor_upper}{`level` quantile of the largest decoy of a refit, and what more refits could
#'   make of it} \item{p_value}{family-wise: share of the refits whose largest decoy reaches the
#'   importance, the observed one counted in} \item{p_own, q_own}{against its own decoy, and with
#'   false discovery rate (Benjamini and Hochberg 1995)} \item{above}{is `p_value` at most
#'   `1 - level`?} }
#' @details A predictor that has nothing to do with the target or the other predictors is
#'   exchangeable with its decoy, so \eqn{p = (1 + \#\{b: \max_k D_{kb} \ge \bar I_j\}) / (B +
#'   1)}{p = (1 + number of b with max_k D_kb >= mean I_j) / (B + 1)} is a valid p value over all
#'   predictors at once (max statistic of Westfall and Young 1993; mean importance in place of
#'   single ones makes it somewhat conservative). All training rows are used in every refit. The
#'   refits share one data set, so their agreement is no evidence: hits are never counted as if
#'   independent. Numbers of predictors tried per split scale with the doubled predictors where
#'   the model states them. In simulations (`bench/floor.R`, 100 data sets, 39 refits of a forest)
#'   some predictor of data in which none acts was called in 1 to 4 of 100 data sets, with mixed
#'   types and many levels, for permutation, Shapley and impurity importance; five signals of
#'   fifty were all found in 50 of 50 data sets. Conditional decoys are permuted among ten rows at
#'   a time that stand next to each other in what the other predictors say of the predictor
#'   (by least squares or a forest, whichever errs less on rows it has not seen): a useless
#'   predictor correlated at 0.7 with a signal was called in 4 of 100 data sets, the signal in
#'   all.
#'
#' @section Reading the result: Being above the floor means: related to the target, alone or
#'   through others. A predictor that is useless beside the others but correlated with a useful
#'   one also passes; conditional decoys, [rank_refit()] and
#'   `rank_permutation(shuffle = "conditional")` address that.
#' @section Errors: No training rows; fewer than 19 refits; a model that cannot be trained with
#'   more predictors, as those on encoded columns (give `study(refit_with = )`); a run folder of
#'   another run.
#' @references Wu, Y., Boos, D. and Stefanski, L. (2007). Controlling variable selection by the
#'   addition of pseudovariables. \doi{10.1198/016214506000000843}.
#'   Sandri, M. and Zuccolotto, P. (2008). \doi{10.1198/106186008X344522}.
#'   Westfall, P. and Young, S. (1993). Resampling-based multiple testing.
#'   Phipson, B. and Smyth, G. (2010). Permutation p-values should never be zero.
#'   \doi{10.2202/1544-6115.1585}.
#'   Candes, E., Fan, Y., Janson, L. and Lv, J. (2018). \doi{10.1111/rssb.12265}.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes + operator, kiln$train)
#' noise_floor(study(fit, kiln$holdout, "strength", train = kiln$train), refits = 19)
#' @export
noise_floor <- function(
    study, by = "permutation", ..., models = NULL, refits = 99, shuffle = "marginal",
    level = 0.95, repeats = 5, background = 50, run = NULL, seed = 1, threads = NULL) {
  st <- open_ranking(study, "noise_floor", ..., threads = threads)
  need_train(st, "The noise floor")
  by <- check_choice(by, methods_that("floor"), "by", several = TRUE)
  refits <- check_count(refits, "refits", least = 19)
  shuffle <- check_choice(shuffle, c("marginal", "conditional"), "shuffle")
  conditional <- shuffle == "conditional"
  level <- check_fraction(level, "level")
  seed <- check_seed(seed)
  chosen <- pick_models(st, models)
  settings <- list(
    repeats = check_count(repeats, "repeats"),
    background = check_background(background),
    level = 0.95,
    seed = seed
  )
  pairs <- pair_up(st, names(chosen), by, settings)$pairs
  check_can_refit(st, chosen[unique(pairs$model)])
  pieces <- pieces_of_floor(st, pairs, refits, conditional, seed)
  about <- if (!is.null(run)) {
    run_identity(
      st, pairs, resamples = "decoys", settings = list(settings, refits, conditional)
    )
  }
  done <- run_pieces(
    pieces,
    vapply(pieces, function(p) paste(p$model, "decoys", p$draw, sep = "/"), ""),
    rank_decoys,
    st = without_forests(st),
    settings = settings,
    folder = run,
    about = about,
    sound = sound_decoys,
    label = "training with decoys",
    narrow = one_model
  )
  left_out <- floor_failures(done, pieces, unique(pairs$model))
  drawn <- do.call(
    rbind, done$values[!vapply(pieces, `[[`, "", "model") %in% left_out$model]
  )
  warn_blind_refits(drawn)
  table <- do.call(
    rbind, lapply(split(drawn, part_keys(drawn)), compare_with_decoys, level = level)
  )
  rownames(table) <- NULL
  validate_floor(new_floor(
    list(
      table = table,
      refits = refits,
      left_out = left_out,
      seen = isTRUE(st$seen),
      level = level,
      shuffle = shuffle,
      target = st$target,
      metric = st$metric$name,
      labels = labels_of(st, st$predictors),
      seed = seed,
      fingerprint = st$fingerprint
    )
  ))
}

# A piece is a refit of one model with copies, ranked by all its methods.
pieces_of_floor <- function(st, pairs, refits, conditional, seed) {
  unlist(
    lapply(unique(pairs$model), function(m) {
      strata <- if (conditional) strata_of_all(st, st$models[[m]], seed)
      lapply(seq_len(refits), function(b) {
        list(
          model = m, draw = b, methods = pairs$method[pairs$model == m], strata = strata
        )
      })
    }),
    recursive = FALSE
  )
}

new_floor <- function(fields) new_record(fields, "floor")

validate_floor <- function(x) {
  check_shape(x, c(table = "list", refits = "integer", level = "double"), "noise floor")
  columns <- c(
    model = "character", method = "character", form = "character", rows = "character",
    predictor = "character", importance = "double", floor = "double", p_value = "double",
    above = "logical"
  )
  check_shape(x$table, columns, "noise floor")
  check_holds(
    all(x$table$p_value > 0 & x$table$p_value <= 1),
    "noise floor",
    "a p value is not within 0 and 1"
  )
  x
}

# Models with fewer than 19 refits that came out; the others go on with those they have.
floor_failures <- function(done, pieces, models) {
  of <- vapply(pieces, `[[`, "", "model")
  came <- vapply(models, function(m) sum(!vapply(done$values[of == m], is.null, NA)), 1L)
  gone <- models[came < 19]
  why <- vapply(
    gone,
    function(m) {
      done$failed$error[match(TRUE, done$failed$key %in% names(done$values)[of == m])]
    },
    ""
  )
  if (length(gone) == length(models)) {
    stop_model(
      paste0("No model could be trained with decoys. ", quote_some(gone[1]), ":"),
      why[1],
      paste0(
        "Give `study(refit_with = )` a function(model, data, predictors) that fits ",
        "the model on any predictors."
      )
    )
  }
  if (length(gone)) {
    warn_dreher(
      "pieces",
      paste0(
        "No noise floor for model", if (length(gone) > 1) "s", " ", quote_some(gone),
        ", which could not be trained with decoys."
      ),
      why[1]
    )
  } else if (nrow(done$failed)) {
    warn_dreher(
      "pieces",
      paste0(
        nrow(done$failed), " of ", length(pieces),
        " refits with decoys failed twice and are missing."
      ),
      done$failed$error[1]
    )
  }
  data.frame(model = as.character(gone), why = as.character(why))
}

# Where no copy ever mattered in any refit, the refits have most likely not taken the copies in:
# the floor would be 0, and everything above it.
warn_blind_refits <- function(drawn) {
  for (m in unique(drawn$model)) {
    of <- drawn[drawn$model == m & drawn$decoy, ]
    if (nrow(of) && all(of$importance == 0)) {
      warn_dreher(
        "floor",
        paste0(
          "No copy of a predictor changed a single prediction of model \"", m,
          "\", trained again with copies: its floor is 0."
        ),
        paste0(
          "A `refit_with` must fit the model on the `predictors` it is given; a model ",
          "that drops columns by itself may do so with copies."
        )
      )
    }
  }
}

# The strata of conditional decoys: per predictor a number per row, of training and of holdout
# rows. Rows that stand next to each other in the order of what the other predictors say of
# it, ten at a time.
strata_of_all <- function(st, model, seed, size = 10) {
  rlang::check_installed("ranger", "to draw the strata of conditional decoys")
  rows <- list(
    train = model_rows(st, model, st$train, "train"),
    data = model_rows(st, model, st$data)
  )
  predictors <- stats::setNames(nm = model$inputs$predictors)
  predicted <- lapply(predictors, function(p) {
    predict_from_others(p, rows$train, rows$data, seed)
  })
  gather <- function(score) (rank(score, ties.method = "random") - 1) %/% size
  lapply(stats::setNames(nm = names(rows)), function(label) {
    lapply(predictors, function(p) {
      with_stream(seed, c("strata", p, label), gather(predicted[[p]][[label]]))
    })
  })
}

# What the other columns say of a predictor (a factor: of its first principal coordinate), by
# least squares on those that go with it most or by a forest, whichever errs less on rows it has
# not seen; 0 where neither says anything. -> list(train, data); training rows are predicted
# without themselves.
predict_from_others <- function(predictor, train, data, seed) {
  along <- first_coordinate(train[predictor])
  y <- along(train)
  known <- is.finite(y)
  others <- setdiff(names(train), predictor)
  nothing <- list(train = double(nrow(train)), data = double(nrow(data)))
  if (!length(others) || sum(known) < 20 || stats::sd(y[known]) == 0) return(nothing)
  x <- columns_as_numbers(train[others], train[others])
  new <- columns_as_numbers(data[others], train[others])
  ways <- list(
    predict_from_others_linearly(x, y, known, new),
    predict_from_others_by_forest(x, y, known, new, seed, predictor)
  )
  error <- vapply(ways, function(w) mean((w$train[known] - y[known])^2), 0)
  if (min(error) < stats::var(y[known])) ways[[which.min(error)]] else nothing
}

# Numbers with their gaps at the mean; factors as indicators of the levels in `like`.
columns_as_numbers <- function(data, like) {
  do.call(
    cbind,
    lapply(names(like), function(p) {
      known <- levels_of_column(like[[p]])
      if (!is.null(known)) {
        return((outer(as.character(data[[p]]), known[-1], "==") & !is.na(data[[p]])) + 0)
      }
      x <- as.double(data[[p]])
      x[!is.finite(x)] <- mean(like[[p]][is.finite(like[[p]])])
      matrix(x)
    })
  )
}

# Each row is left out in turn, in closed form: residual / (1 - leverage).
predict_from_others_linearly <- function(x, y, known, new) {
  r <- suppressWarnings(abs(stats::cor(x[known, , drop = FALSE], y[known])))
  most <- utils::head(order(-ifelse(is.na(r), 0, r)), max(1, sum(known) %/% 10))
  z <- cbind(1, x[, most, drop = FALSE])
  fit <- qr(z[known, , drop = FALSE])
  leverage <- pmin(rowSums(qr.Q(fit)[, seq_len(fit$rank), drop = FALSE]^2), 1 - 1e-8)
  beta <- qr.coef(fit, y[known])
  beta[is.na(beta)] <- 0
  out <- list(
    train = as.vector(z %*% beta),
    data = as.vector(cbind(1, new[, most, drop = FALSE]) %*% beta)
  )
  out$train[known] <- y[known] - (y[known] - out$train[known]) / (1 - leverage)
  out
}

predict_from_others_by_forest <- function(x, y, known, new, seed, predictor) {
  colnames(x) <- colnames(new) <- paste0("x", seq_len(ncol(x)))
  fit <- ranger::ranger(
    x = as.data.frame(x[known, , drop = FALSE]),
    y = y[known],
    num.trees = 200,
    min.node.size = 10,
    seed = piece_seed(seed, c("foretell", predictor)),
    num.threads = 1
  )
  say <- function(rows) {
    stats::predict(fit, as.data.frame(rows), num.threads = 1)$predictions
  }
  train <- say(x)
  seen_out <- fit$predictions
  train[known] <- ifelse(is.finite(seen_out), seen_out, mean(y[known]))
  list(train = train, data = say(new))
}

rank_decoys <- function(piece, st, settings) {
  model <- st$models[[piece$model]]
  copied <- estimated_predictors(model$object, model$inputs$predictors)
  decoys <- decoy_columns(copied)
  key <- c("decoys", piece$model, piece$draw)
  drawn <- with_stream(settings$seed, key, list(
    copies = draw_copies(copied, nrow(st$train), piece$strata$train),
    held_out = draw_copies(copied, nrow(st$data), piece$strata$data),
    order = sample(c(model$inputs$predictors, decoys))
  ))
  inside <- refit_beside_copies(
    st, model, copied, drawn, st$data, settings$seed, key
  )
  parts <- unlist(
    lapply(piece$methods, function(m) {
      rank_by(
        list(model = piece$model, method = m),
        inside,
        list(pick_rows(inside, if (isTRUE(st$seen)) "train" else "holdout")),
        settings
      )
    }),
    recursive = FALSE
  )
  table <- do.call(rbind, lapply(parts, as_plain))
  table <- table[
    is.na(table$class),
    c("model", "method", "form", "rows", "slice", "predictor", "importance")
  ]
  of <- match(table$predictor, decoys)
  table$decoy <- !is.na(of)
  table$predictor[table$decoy] <- copied[of[table$decoy]]
  table$draw <- piece$draw
  table
}

# Is this what rank_decoys() gives? Asked of what a run folder holds.
sound_decoys <- function(key, value) {
  columns <- c("model", "method", "form", "rows", "slice", "predictor", "importance")
  check_shape(
    value, c(ranking_columns[columns], decoy = "logical", draw = "integer"), "piece"
  )
  is.data.frame(value) && all(paste(value$model, "decoys", value$draw, sep = "/") == key)
}

# d: all refits of one model, method and rows.
compare_with_decoys <- function(d, level) {
  alpha <- round(1 - level, 12)
  refits <- sort(unique(d$draw))
  B <- length(refits)
  predictors <- unique(d$predictor)
  of <- function(rows) {
    out <- matrix(0, B, length(predictors))  # what a model does not list it does not use
    at <- cbind(match(d$draw[rows], refits), match(d$predictor[rows], predictors))
    out[at] <- d$importance[rows]
    out
  }
  means <- colMeans(of(!d$decoy))
  decoys <- of(d$decoy)
  most <- sort(apply(decoys, 1, max))
  reach <- function(by, value) (1 + sum(by >= value)) / (B + 1)
  around <- pmin(
    pmax(round(B * (1 - alpha) + c(-2, 2) * sqrt(B * alpha * (1 - alpha))), 1), B
  )
  p_value <- vapply(means, function(v) reach(most, v), 0)
  p_own <- vapply(seq_along(means), function(j) reach(decoys[, j], means[j]), 0)
  out <- data.frame(
    model = d$model[1],
    method = d$method[1],
    form = d$form[1],
    rows = d$rows[1],
    predictor = predictors,
    importance = means,
    floor = order_statistic(most, 1 - alpha),
    floor_lower = most[around[1]],
    floor_upper = most[around[2]],
    p_value = p_value,
    p_own = p_own,
    q_own = stats::p.adjust(p_own, "BH"),
    above = p_value <= alpha
  )
  out[order(-out$importance), ]
}

# Does each row of a ranking, or of its stability, lie above the floor? NA where there is none:
# the refits were asked of all rows, not of slices.
floor_says <- function(floor, d) {
  known <- floor$table
  # Asked of training rows, for want of others: within these refits, predictors and copies are
  # alike in that.
  unseen <- function(d) {
    if (!isTRUE(floor$seen)) return(as_holdout(d$rows))
    own <- method_field(d$method, "any_rows", FALSE) & d$rows == "train"
    ifelse(own, "holdout", as_holdout(d$rows))
  }
  of <- function(d) {
    paste(d$model, d$method, said_form(d$method, d$form), unseen(d), d$predictor, sep = "\r")
  }
  ifelse(is.na(d$slice), known$above[match(of(d), of(known))], NA)
}

# The rows left out of resamples are as new to a model as holdout rows.
as_holdout <- function(rows) sub("^left out$", "holdout", rows)

#' @export
as.data.frame.dreher_floor <- function(x, ...) x$table

#' @rdname noise_floor
#' @param ranking A [ranking] of the same study.
#' @param floor A result of `noise_floor()`.
#' @return `with_floor()`: the ranking, with the floor in its print and figure, and flag `not
#'   above floor`.
#' @export
with_floor <- function(ranking, floor) {
  own_settings()
  check_class(ranking, "dreher_ranking", "ranking", "rank_predictors()")
  check_class(floor, "dreher_floor", "floor", "noise_floor()")
  if (!identical(detail(ranking, "fingerprint"), floor$fingerprint)) {
    stop_study(
      "The noise floor is of another study: its data differ.",
      todo = "Give the ranking and the floor of one study."
    )
  }
  below <- is.na(ranking$class) & floor_says(floor, ranking) %in% FALSE
  ranking$flag[below] <- join_flags(
    ranking$flag[below], rep("not above floor", sum(below))
  )
  set_detail(ranking, "floor", floor)
}
