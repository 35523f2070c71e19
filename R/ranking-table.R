#' A ranking
#'
#' What the `rank_*()` functions return: a data frame of class `dreher_ranking`, one row per
#' model, method, form, set of rows, class and predictor, in order of rank.
#'
#' \describe{
#'   \item{`model`, `method`}{the model's name in the study; `impurity`, `permutation`, `shapley`,
#'   `structure`, `coefficients`, `association` or `refit`}
#'   \item{`form`}{what of the method: `plain`; for impurity `in-bag` (the rows each tree was
#'   grown on), `covariance`, `gain`, `corrected`, `stored`; for permutation `ratio`,
#'   `conditional`, `conditional ratio`; for Shapley importance `cover`, `score`; for coefficients
#'   `term`; for structure, association and refits what was asked for}
#'   \item{`rows`}{the rows it was computed on: `holdout`, `train`, `oob`, `left out` (of a
#'   resample), `given`, or the name you gave them}
#'   \item{`class`}{with more than two classes, the class it speaks of; `NA`: all together}
#'   \item{`slice`, `resample`}{the slice's value and the resample's number where
#'   [rank_predictors()] was asked for them, else `NA`}
#'   \item{`predictor`, `family`}{the column, and its family in the dictionary}
#'   \item{`importance`}{in the unit of the method (see its help page); larger is more important;
#'   keeps its sign}
#'   \item{`std_error`, `lower`, `upper`}{standard error and limits of the interval; `NA` where
#'   `inference` is `rows`}
#'   \item{`share`}{non-negative part over the sum of the non-negative parts, 0 to 1; `NA` if all
#'   are 0}
#'   \item{`relative`}{importance over the top importance; `NA` if that is not positive}
#'   \item{`rank`}{1 is the top; ties share the smaller number}
#'   \item{`inference`}{what the interval speaks of: `model` (this fitted model on new rows),
#'   `learner` (this way of fitting) or `rows` (these rows; no interval)}
#'   \item{`flag`}{short warnings, see [flags]}
#' }
#'
#' Flags are explained in [flags].
#'
#' Parts of a ranking made with `[` are rankings as long as all columns stay; [bind_rankings()] and
#' `rbind()` join several.
#' @section Details:
#' [ranking_details()] returns what belongs to the whole table: `target`, `task`, `metric`,
#' `metric_label`, `better`, `seed`, `level`, `fingerprint` (of the data), `labels`; and data
#' frames: `settings` (one row per model, method, form, rows and slice: the model's `class`, number
#' of rows `n`, `repeats`, what was measured, `scale`, number of `background` rows, `note`, share of
#' shuffle noise, and whether the rows are those of training), `reasons` (why predictors and models
#' carry a flag), `left_out` (methods that did not apply, and why); and what single methods add:
#' `members`, `strata`, `gap`, `twins`, `score`, `direction`, `shares`, `parts`, `statistics`,
#' `draws`, `resamples`, `failed`, `offsets`, `again`, `floor` (see their help pages); `stopped`
#' (where the user stopped [rank_permutation()] at the prompt: what is missing). What there is not
#' is `NULL`.
#'
#' [row_values()] returns the values behind each row of data: an array of rows x predictors x
#' outputs for permutation importance (each row's influence on the importance) and for Shapley
#' importance (the Shapley values; one output per class where there are several).
#' @name ranking
NULL

ranking_columns <- c(
  model = "character", method = "character", form = "character", rows = "character",
  class = "character", slice = "character", resample = "integer", predictor = "character",
  family = "character", importance = "double", std_error = "double", lower = "double",
  upper = "double", share = "double", relative = "double", rank = "integer",
  inference = "character", flag = "character"
)

# What tells the lists of a ranking apart: each list holds every predictor once.
list_columns <- c("model", "method", "form", "rows", "class", "slice", "resample")
setting_columns <- c("model", "method", "form", "rows", "slice")

# Cheap: table and details as they are. row_values: named list of arrays.
new_ranking <- function(table, details, row_values = list()) {
  structure(new_table(table, "ranking", details), row_values = row_values)
}

# Columns, types and what must hold of them. -> x, or an internal error that says what does not.
validate_ranking <- function(x) {
  check_shape(x, ranking_columns, "ranking")
  holds <- function(holds, rule) check_holds(holds, "ranking", rule)
  known <- c(
    "model", "method", "form", "rows", "predictor", "importance", "rank", "inference",
    "flag"
  )
  for (name in known) holds(!anyNA(x[[name]]), paste0("column \"", name, "\" has gaps"))
  holds(all(x$lower <= x$upper, na.rm = TRUE), "a lower limit lies above the upper one")
  holds(
    all(x$share >= 0 & x$share <= 1 + 1e-12, na.rm = TRUE),
    "a share is not within 0 and 1"
  )
  holds(
    all(x$inference %in% c("model", "learner", "rows")),
    "column \"inference\" holds other words"
  )
  keys <- x_keys(x, c(list_columns, "predictor"))
  holds(!anyDuplicated(keys), "a list holds a predictor twice")
  settings <- x_keys(detail(x, "settings"), setting_columns)
  holds(all(unique(x_keys(x, setting_columns)) %in% settings), "a list has no settings")
  x
}

# One text per row from these columns, as a key.
x_keys <- function(d, columns) {
  do.call(
    paste,
    c(
      unname(lapply(as_plain(d)[columns], function(x) {
        if (anyNA(x)) replace(as.character(x), is.na(x), "\n") else x
      })),
      sep = "\r"
    )
  )
}

# The tables that single methods add to the details, joined row by row.
note_tables <- c(
  "members", "strata", "gap", "twins", "score", "direction", "shares", "parts"
)
# What single methods add for each model, under the name model/method.
note_lists <- c("statistics", "draws")

# What a ranking's details may hold beside what they always do.
known_parts <- c(
  note_tables, note_lists, "gap", "floor", "twins", "members", "strata", "resamples",
  "failed", "offsets", "again", "left_out", "stopped"
)

# The rows of one list and what is known of it, as a ranking. ...: note tables, and entries of note
# lists. values: array rows x predictors x outputs.
ranking_part <- function(st, table, settings, seed, level, ..., values = NULL) {
  notes <- list(...)
  own <- intersect(names(notes), note_lists)
  key <- paste0(settings$model[1], "/", settings$method[1])
  notes[own] <- lapply(notes[own], function(x) stats::setNames(list(x), key))
  new_ranking(
    table,
    c(
      study_details(st, unique(table$predictor)),
      list(seed = seed, level = level, settings = settings),
      notes
    ),
    if (is.null(values)) list() else stats::setNames(list(values), values_key(settings))
  )
}

study_details <- function(st, predictors) {
  list(
    target = st$target,
    task = st$task,
    metric = st$metric$name,
    metric_label = st$metric$label,
    better = st$metric$better,
    fingerprint = st$fingerprint,
    labels = labels_of(st, predictors),
    reasons = flags_of(st)$reasons
  )
}

# Where the values of one list stand: model/method, and rows, form and slice where they are not the
# usual.
values_key <- function(settings) {
  s <- settings[1, ]
  paste0(
    s$model, "/", s$method, if (s$rows != "holdout") paste0("/", s$rows),
    if (s$form != "plain") paste0("/", s$form), if (!is.na(s$slice)) paste0("/", s$slice)
  )
}

# settings: one row for a list; `on` says which rows (see pick_rows()).
new_settings <- function(
    model, method, evaluation, n, form = "plain", repeats = NA_integer_, measures,
    scale = NA_character_, background = NA_integer_, note = "", shuffle_noise = NA_real_) {
  table_of(
    model = model$name,
    class = model$class,
    method = method,
    form = form,
    rows = evaluation$label,
    slice = if (is.null(evaluation$slice)) NA_character_ else evaluation$slice,
    seen = identical(evaluation$kind, "train"),
    n = n,
    repeats = repeats,
    measures = measures,
    scale = scale,
    background = background,
    note = note,
    shuffle_noise = shuffle_noise
  )
}

# The training rows as a set of rows, where nothing but its name is asked for.
on_train <- list(label = "train", kind = "train")

# importance etc.: vectors along `predictors`; of: the settings of the list.
ranking_rows <- function(
    st, of, predictors, importance, std_error = NA_real_, lower = NA_real_,
    upper = NA_real_, inference, class = NA_character_, flag = "") {
  d <- st$dictionary
  family <- d$family[match(predictors, d$predictor)]
  bare <- is.na(family) & predictors %in% d$family
  family[bare] <- predictors[bare]
  out <- table_of(
    model = of$model, method = of$method, form = of$form, rows = of$rows, class = class,
    slice = of$slice, resample = NA_integer_, predictor = predictors, family = family,
    importance = importance, std_error = std_error, lower = lower, upper = upper,
    share = NA_real_, relative = NA_real_, rank = NA_integer_, inference = inference,
    flag = flag
  )
  out <- place_rows(out)
  rownames(out) <- NULL
  out
}

# Shares, relative importances and ranks from the importances; rows in order of rank.
place_rows <- function(d) {
  d$share <- shares_of(d$importance)
  d$relative <- if (max(d$importance) > 0) d$importance / max(d$importance) else NA_real_
  d$rank <- as.integer(rank(-d$importance, ties.method = "min"))
  d[order(d$rank), ]
}

# The non-negative parts over their sum; NA where nothing is positive.
shares_of <- function(x) {
  x <- pmax(x, 0)
  if (sum(x) > 0) x / sum(x) else rep(NA_real_, length(x))
}

# Lists of one study, made in one call, as one ranking.
join_parts <- function(st, parts, seed, level, left_out = NULL) {
  table <- do.call(rbind, lapply(parts, as_plain))
  rownames(table) <- NULL
  validate_ranking(new_ranking(
    table,
    c(
      study_details(st, unique(table$predictor)),
      list(seed = seed, level = level, left_out = left_out),
      join_details(parts)
    ),
    join_values(parts)
  ))
}

# Settings and note tables below each other, each row once; draws beside each other.
join_details <- function(parts) {
  below <- function(name) {
    tables <- Filter(Negate(is.null), unname(lapply(parts, detail, name)))
    if (length(tables) < 2) return(if (length(tables)) tables[[1]])
    unique(do.call(rbind, tables))
  }
  tables <- lapply(stats::setNames(nm = c("settings", note_tables)), below)
  lists <- lapply(stats::setNames(nm = note_lists), function(name) {
    unlist(unname(lapply(parts, detail, name)), recursive = FALSE)
  })
  Filter(Negate(is.null), c(tables, lists))
}

join_values <- function(parts) {
  unlist(lapply(unname(parts), attr, "row_values"), recursive = FALSE)
}

#' What belongs to a whole ranking
#'
#' @param ranking A [ranking].
#' @param part Name of one entry; default: all of them, as a list.
#' @param ... Must be empty.
#' @return The entry, `NULL` where there is none; or the list of all. See [ranking] for the entries.
#' @section Errors: Something else than a ranking.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' rk <- rank_permutation(study(fit, kiln$holdout, "strength", train = kiln$train))
#' ranking_details(rk, "settings")
#' @export
ranking_details <- function(ranking, part = NULL, ...) {
  check_class(ranking, "dreher_ranking", "ranking", "a rank_*() function")
  check_no_dots(..., .verb = "ranking_details")
  if (is.null(part)) return(attr(ranking, "details"))
  known <- union(names(attr(ranking, "details")), known_parts)
  detail(ranking, check_choice(part, known, "part"))
}

#' The values behind each row of data
#'
#' @param ranking A [ranking] by permutation or Shapley importance.
#' @param model,method Names. Default: the first for which there are values.
#' @param form,rows As in the ranking's columns. Default: the first for which there are values.
#' @param ... Must be empty.
#' @return An array of rows x predictors x outputs. Permutation: each row's influence on the
#'   importance, mean 0 over the rows; its spread gives the standard error. Shapley: the values
#'   themselves, in the unit of the prediction (or of the link).
#' @section Errors: A ranking without values of this model and method.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' rk <- rank_shapley(study(fit, kiln$holdout, "strength", train = kiln$train))
#' dim(row_values(rk))
#' @export
row_values <- function(
    ranking, model = NULL, method = NULL, form = NULL, rows = NULL, ...) {
  check_class(ranking, "dreher_ranking", "ranking", "a rank_*() function")
  check_no_dots(..., .verb = "row_values")
  settings <- detail(ranking, "settings")
  values <- attr(ranking, "row_values")
  keys <- vapply(seq_len(nrow(settings)), function(i) values_key(settings[i, ]), "")
  asked <- list(model = model, method = method, form = form, rows = rows)
  fits <- keys %in% names(values)
  for (column in names(asked)) {
    if (!is.null(asked[[column]])) {
      fits <- fits & settings[[column]] == check_string(asked[[column]], column)
    }
  }
  if (!any(fits)) {
    stop_input(
      "The ranking holds no values of single rows for this.",
      paste0(
        "Values there: ", if (length(values)) quote_some(names(values)) else "none", "."
      ),
      "Permutation and Shapley importance keep them, but not over resamples."
    )
  }
  values[[keys[fits][1]]]
}

#' @export
as.data.frame.dreher_ranking <- function(x, ...) as_plain(x)

# A part of a ranking is a ranking as long as it keeps the columns; otherwise a plain table. The
# settings and values of what is gone go with it.
#' @export
`[.dreher_ranking` <- function(x, ...) {
  out <- NextMethod()
  if (!is.data.frame(out)) return(out)
  if (!all(names(ranking_columns) %in% names(out))) return(as_plain(out))
  keep_details(out, x)
}

keep_details <- function(out, x) {
  details <- attr(x, "details")
  values <- attr(x, "row_values")
  settings <- details$settings
  stays <- x_keys(settings, setting_columns) %in% unique(x_keys(out, setting_columns))
  details$settings <- settings[stays, ]
  gone <- vapply(which(!stays), function(i) values_key(settings[i, ]), "")
  kept <- vapply(which(stays), function(i) values_key(settings[i, ]), "")
  methods <- paste0(out$model, "/", out$method)
  for (name in note_lists) {
    details[[name]] <- details[[name]][names(details[[name]]) %in% methods]
  }
  attr(out, "details") <- details
  attr(out, "row_values") <- values[!names(values) %in% setdiff(gone, kept)]
  out
}

#' Join rankings
#'
#' Rankings of one study, made by several calls, as one: the print, the figures and [agreement()]
#' then lay them side by side. `rbind()` of rankings does the same.
#'
#' @param ... [Ranking][ranking]s, or lists of them: of the same data, target, metric, level and
#'   seed, without resamples or over the same resamples.
#' @return A [ranking] of all their lists.
#' @section Errors: Rankings of other data, or with another target, metric, level or other
#'   resamples; two that hold the same list of predictors (same model, method, form and rows).
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' bind_rankings(rank_permutation(st), rank_coefficients(st))
#' @export
bind_rankings <- function(...) {
  own_settings()
  parts <- list(...)
  parts <- unlist(
    lapply(parts, function(p) if (is.data.frame(p)) list(p) else p), recursive = FALSE
  )
  parts <- unname(parts)
  if (!length(parts)) stop_input("There is no ranking to join.")
  for (p in parts) check_class(p, "dreher_ranking", "...", "a rank_*() function")
  check_joinable(parts)
  table <- do.call(rbind, lapply(parts, as_plain))
  rownames(table) <- NULL
  details <- lapply(parts, attr, "details")
  whole <- Reduce(function(a, b) c(a, b[setdiff(names(b), names(a))]), details)
  known <- unlist(lapply(details, `[[`, "labels"))
  whole$labels <- known[!duplicated(names(known))]
  for (name in c("left_out", "failed", "reasons")) {
    whole[[name]] <- unique(do.call(rbind, lapply(details, `[[`, name)))
  }
  joined <- join_details(parts)
  whole[names(joined)] <- joined
  whole$level <- stated(lapply(details, `[[`, "level"))
  whole$seed <- stated(lapply(details, `[[`, "seed"))
  validate_ranking(new_ranking(table, whole, join_values(parts)))
}

# The first that is stated.
stated <- function(values) {
  known <- Filter(function(v) length(v) == 1 && !is.na(v), values)
  if (length(known)) known[[1]] else values[[1]]
}

check_joinable <- function(parts) {
  says <- c(
    fingerprint = "other data", target = "another target", metric = "another metric",
    level = "another level", seed = "another seed"
  )
  for (name in names(says)) {
    values <- lapply(parts, detail, name)
    known <- Filter(function(v) length(v) == 1 && !is.na(v), values)
    if (length(unique(known)) > 1) {
      stop_study(
        paste0("These rankings do not belong together: they are of ", says[[name]], "."),
        if (name != "fingerprint") {
          paste0("Given: ", paste(vapply(unique(known), format, ""), collapse = " and "), ".")
        },
        "Join rankings of one study, made with the same settings."
      )
    }
  }
  resamples <- lapply(parts, detail, "resamples")
  if (length(unique(resamples)) > 1) {
    stop_study(
      "These rankings do not belong together: they are over other resamples.",
      todo = "Join rankings over the same resamples, or rankings without."
    )
  }
  keys <- lapply(parts, function(p) unique(x_keys(p, list_columns)))
  if (anyDuplicated(unlist(keys))) {
    twice <- strsplit(unlist(keys)[duplicated(unlist(keys))][1], "\r", fixed = TRUE)[[1]]
    stop_study(
      paste0(
        "Two of these rankings hold the same list: model \"", twice[1], "\", ", twice[2],
        ", form ", twice[3], ", rows ", twice[4], "."
      ),
      todo = "Leave one of them out."
    )
  }
}

#' @export
rbind.dreher_ranking <- function(...) bind_rankings(...)

#' @export
summary.dreher_ranking <- function(object, ...) {
  parts <- split_ranking(object)
  rows <- lapply(parts, function(r) {
    lead <- r$predictor[order(r$rank)]
    half <- which(cumsum(sort(r$share, decreasing = TRUE)) >= 0.5)[1]
    data.frame(
      model = r$model[1],
      method = r$method[1],
      form = r$form[1],
      rows = r$rows[1],
      class = r$class[1],
      predictors = nrow(r),
      first = lead[1],
      carry_half = half,
      above_zero = if (all(is.na(r$lower))) NA_integer_ else sum(r$lower > 0),
      negative_total = sum(pmin(r$importance, 0))
    )
  })
  out <- do.call(rbind, rows)
  rownames(out) <- NULL
  out
}

# As it is shown: the mean over resamples, slices as lists of their own.
shown_ranking <- function(x) {
  if (all(is.na(x$resample)) && all(is.na(x$slice))) return(x)
  table <- as_plain(x)
  if (!all(is.na(table$resample))) {
    key <- x_keys(table, c(setdiff(list_columns, "resample"), "predictor"))
    first <- !duplicated(key)
    value <- split(table$importance, factor(key, key[first]))
    table <- table[first, ]
    table$resample <- NA_integer_
    table$importance <- vapply(value, mean, 0)
    table$std_error <- vapply(value, stats::sd, 0)
    table$lower <- table$upper <- NA_real_
    table$inference <- "learner"
  }
  table <- do.call(rbind, lapply(split_ranking(table), place_rows))
  rownames(table) <- NULL
  new_ranking(table, attr(x, "details"), attr(x, "row_values"))
}

# One part per model, method, form, rows, slice and class.
split_ranking <- function(x) {
  x <- as_plain(x)
  key <- x_keys(x, c(setting_columns, "class"))
  split(x, factor(key, levels = unique(key)))
}

# The lists of a table of importances as numbers, in order of appearance.
part_keys <- function(table) {
  key <- x_keys(table, intersect(setting_columns, names(table)))
  match(key, unique(key))
}
