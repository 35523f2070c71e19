#' Draw resamples of the training rows
#'
#' Parts of the training rows on which models are trained again, each with the rows left out of
#' it. A ranking from one model on one sample is one draw; resamples show how it would have come
#' out on others.
#'
#' @param data The training rows: a data frame.
#' @param kind `"bootstrap"` (default): as many rows as there are, drawn with replacement.
#'   `"subsample"`: a share of the rows, without replacement. `"folds"`: cross-validation, drawn
#'   `times` over. `"time"`: rows before a point in time against those after it, `times` such
#'   points. `"seeds"`: all rows every time; only the model's own random seed changes, so that its
#'   noise is separated from the sample's.
#' @param ... Must be empty.
#' @param times Number of resamples; for `"folds"` how often the folds are drawn. Default: 100
#'   bootstrap draws or subsamples, 50 of the others.
#' @param folds Number of folds.
#' @param fraction Share of the rows in a subsample. Half, as for `"subsample"` by default, is what
#'   frequencies of selection are defined on (Meinshausen and Buehlmann 2010).
#' @param strata Name of a column (the target, as a rule) whose distribution every resample keeps.
#' @param blocks Name of a column: rows with the same value stay together.
#' @param order Name of the column of times, for `"time"`.
#' @param seed A whole number; the same seed gives the same resamples.
#' @return A list of class `dreher_resamples`: `kind`, `inside` and `outside` (lists of row
#'   numbers), `rows` (their number), `blocks`, `seed`, `columns` (what the columns are known by).
#'   [rank_predictors()] takes it, and sets of resamples made by package rsample as well.
#' @details The drawing is done by package rsample.
#' @section Errors: A kind that is not known; columns that are not there; too few rows or blocks
#'   for the folds; `"time"` without `order`.
#' @references Efron, B. (1979). \doi{10.1214/aos/1176344552}.
#'   Meinshausen, N. and Buehlmann, P. (2010). Stability selection.
#'   \doi{10.1111/j.1467-9868.2010.00740.x}.
#' @examples
#' draw_resamples(demo_kiln()$train, "bootstrap", times = 5)
#' @export
draw_resamples <- function(
    data, kind = "bootstrap", ..., times = NULL, folds = 5, fraction = 0.5, strata = NULL,
    blocks = NULL, order = NULL, seed = 1) {
  data <- check_rows(data, "data")
  check_no_dots(..., .verb = "draw_resamples")
  kind <- check_choice(
    kind, c("bootstrap", "subsample", "folds", "time", "seeds"), "kind"
  )
  times <- check_count(if (is.null(times)) usual_times(kind) else times, "times")
  folds <- check_count(folds, "folds", least = 2)
  fraction <- check_fraction(fraction, "fraction")
  seed <- check_seed(seed)
  for (arg in c("strata", "blocks", "order")) {
    if (!is.null(get(arg))) {
      check_columns(
        data, check_string(get(arg), arg), "data", paste0("The column of `", arg, "`")
      )
    }
  }
  if (!is.null(strata) && !is.null(blocks)) {
    stop_input(
      "Resamples are drawn by `strata` or by `blocks`, not both.", todo = "Leave one out."
    )
  }
  n <- nrow(data)
  if (kind == "time" && is.null(order)) {
    stop_input("Resamples in time order need `order`, the name of the column of times.")
  }
  units <- if (is.null(blocks)) n else length(unique(data[[blocks]]))
  if (kind == "folds" && units < folds) {
    stop_input(
      paste0(
        "`folds` is more than the number of ", if (is.null(blocks)) "rows" else "blocks",
        "."
      ),
      paste0("Given: ", folds, " folds, ", units, " of them.")
    )
  }
  drawn <- if (kind == "seeds") {
    list(inside = rep(list(seq_len(n)), times), outside = rep(list(integer()), times))
  } else {
    with_stream(
      seed,
      c("resamples", kind, n),
      split_rows(data, kind, times, folds, fraction, strata, blocks, order)
    )
  }
  new_resamples(kind, drawn$inside, drawn$outside, data, blocks, seed)
}

# Rank sets rest on a quantile over bootstrap draws or subsamples, which takes more of them.
usual_times <- function(kind) if (kind %in% c("bootstrap", "subsample")) 100L else 50L

new_resamples <- function(kind, inside, outside, data, blocks, seed) {
  validate_resamples(new_record(
    list(
      kind = kind,
      inside = inside,
      outside = outside,
      rows = nrow(data),
      blocks = blocks,
      seed = seed,
      columns = column_hashes(data)
    ),
    "resamples"
  ))
}

validate_resamples <- function(x) {
  check_shape(
    x,
    c(kind = "character", inside = "list", outside = "list", rows = "integer"),
    "resamples"
  )
  numbers <- unlist(c(x$inside, x$outside))
  check_holds(
    !anyNA(numbers) && all(numbers >= 1 & numbers <= x$rows),
    "resamples",
    "a row is not there"
  )
  x
}

split_rows <- function(data, kind, times, folds, fraction, strata, blocks, order) {
  frame <- data.frame(row = seq_len(nrow(data)))
  if (!is.null(strata)) frame$stratum <- data[[strata]]
  if (!is.null(blocks)) frame$block <- data[[blocks]]
  set <- if (kind == "time") {
    at <- order(data[[order]])
    frame <- frame[at, , drop = FALSE]
    first <- nrow(frame) %/% 2
    each <- (nrow(frame) - first) %/% times
    if (each < 1) {
      stop_input(
        "There are too few rows for so many points in time.",
        todo = "Ask for fewer `times`."
      )
    }
    rsample::rolling_origin(
      frame, initial = first, assess = each, skip = each - 1L, cumulative = TRUE
    )
  } else if (!is.null(blocks)) {
    switch(
      kind,
      bootstrap = rsample::group_bootstraps(frame, "block", times = times),
      subsample = rsample::group_mc_cv(frame, "block", prop = fraction, times = times),
      folds = do.call(
        rbind,
        lapply(seq_len(times), function(t) {
          rsample::group_vfold_cv(frame, "block", v = folds)
        })
      )
    )
  } else if (!is.null(strata)) {
    # Small strata are kept as they are; the warning of their size is for the eye only.
    suppressWarnings(switch(
      kind,
      bootstrap = rsample::bootstraps(frame, times = times, strata = "stratum", pool = 0),
      subsample = rsample::mc_cv(
        frame, prop = fraction, times = times, strata = "stratum", pool = 0
      ),
      folds = rsample::vfold_cv(
        frame, v = folds, repeats = times, strata = "stratum", pool = 0
      )
    ))
  } else {
    switch(
      kind,
      bootstrap = rsample::bootstraps(frame, times = times),
      subsample = rsample::mc_cv(frame, prop = fraction, times = times),
      folds = rsample::vfold_cv(frame, v = folds, repeats = times)
    )
  }
  rows_of_splits(set$splits)
}

rows_of_splits <- function(splits) {
  list(
    inside = lapply(splits, function(s) s$data$row[as.integer(s, data = "analysis")]),
    outside = lapply(splits, function(s) s$data$row[as.integer(s, data = "assessment")])
  )
}

# Hashes of what classes may have been before the study took them for such: numbers, TRUE and FALSE,
# text.
coded_hashes <- function(y) {
  if (!is.factor(y)) return(character())
  text <- as.character(y)
  ways <- lapply(list(as.integer, as.double, as.logical, identity), function(as) {
    suppressWarnings(as(text))
  })
  vapply(Filter(function(v) !anyNA(v), ways), column_hash, "")
}

# The user's resamples, ours or rsample's, checked against the training rows.
resamples_for <- function(resamples, st) {
  train <- need_train(st, "Ranking over resamples")
  if (inherits(resamples, "rset")) {
    given <- as.data.frame(resamples$splits[[1]]$data)
    # all rows against themselves: nothing is left out
    splits <- resamples$splits[!resamples$id %in% "Apparent"]
    kind <- if (inherits(resamples, c("bootstraps", "group_bootstraps"))) {
      "bootstrap"
    } else if (inherits(resamples, c("vfold_cv", "group_vfold_cv"))) {
      "folds"
    } else if (inherits(
        resamples,
        c("rolling_origin", "sliding_window", "sliding_index", "sliding_period")
      )) {
      "time"
    } else {
      "subsample"
    }
    resamples <- new_resamples(
      kind,
      lapply(splits, as.integer, data = "analysis"),
      lapply(splits, as.integer, data = "assessment"),
      given,
      NULL,
      NA
    )
  }
  check_class(
    resamples, "dreher_resamples", "resamples", "draw_resamples() or package rsample"
  )
  own <- column_hashes(train)
  known <- intersect(names(own), names(resamples$columns))
  if (st$target %in% known &&
      resamples$columns[st$target] %in% coded_hashes(train[[st$target]])) {
    own[st$target] <- resamples$columns[st$target]
  }
  matches <- resamples$rows == nrow(train) && length(known) &&
    identical(own[known], resamples$columns[known])
  if (!matches) {
    stop_study(
      "`resamples` were not drawn from the study's training rows.",
      paste0("Resamples of ", resamples$rows, " rows; training rows: ", nrow(train), "."),
      "Draw them with draw_resamples() from the same rows, in the same order."
    )
  }
  if (length(resamples$inside) < 3) {
    stop_input(
      "At least 3 resamples are needed to say anything about stability.",
      paste0("Given: ", length(resamples$inside), "."),
      "50 show a spread, 300 give rank sets."
    )
  }
  resamples
}
