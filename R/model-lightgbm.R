# Reader for lightgbm: boosters (R objects) and model text files. Checked with lightgbm 4 (text
# format v4): splits on numbers and on categories, every missing type, several classes, dart,
# averaged trees (rf). Linear trees, other formats and other objectives are refused.
#
# Both ways lead to the model's text, whose layout the library publishes: `key=value` lines, one
# paragraph per tree. Children below 0 are leaves (-1 the first); x <= threshold goes left;
# categories of a node's set go left, all others and missing ones right. What counts as missing is
# said per split: nothing (a gap is read as 0), zeros and gaps, or gaps.

lgb_links <- c(
  regression = "identity", regression_l1 = "identity", huber = "identity",
  fair = "identity", quantile = "identity", mape = "identity", poisson = "log",
  gamma = "log", tweedie = "log", binary = "logit", multiclass = "softmax"
)

lgb_text <- function(model) {
  if (inherits(model, "dreher_lightgbm_file")) return(model$text)
  rlang::check_installed("lightgbm", "to read a lightgbm model")
  model$save_model_to_string()   # up to the best round, as the library predicts
}

# list(settings = named texts of the header, trees = list of named texts, parameters = named texts)
lgb_parse <- function(text, whole = TRUE) {
  if (!validUTF8(text)) file_fault("it is not UTF-8 text")
  lines <- strsplit(text, "\r?\n")[[1]]
  end <- match("end of trees", lines)
  if (is.na(end)) file_fault("it ends before its trees do")
  start <- grep("^Tree=", lines[seq_len(end)])
  if (!length(start)) file_fault("it has no trees")
  settings <- split_lines(lines[seq_len(start[1] - 1)], "=")
  lgb_check(settings)
  rest <- lines[end:length(lines)]
  out <- list(
    settings = settings,
    parameters = split_lines(
      gsub("^\\[|\\]$", "", grep("^\\[.*: .*\\]$", rest, value = TRUE)), ": "
    ),
    trees = NULL
  )
  if (whole) {
    stop <- c(start[-1] - 1, end - 1)
    out$trees <- lapply(seq_along(start), function(t) {
      split_lines(lines[start[t]:stop[t]], "=")
    })
  }
  out
}

split_lines <- function(lines, mark) {
  lines <- lines[nzchar(lines)]
  at <- regexpr(mark, lines, fixed = TRUE)
  key <- ifelse(at > 0, substr(lines, 1, at - 1), lines)
  as.list(stats::setNames(ifelse(at > 0, substring(lines, at + nchar(mark)), ""), key))
}

lgb_check <- function(settings) {
  version <- settings[["version"]]
  if (!identical(version, "v4")) {
    stop_model(
      paste0(
        "The lightgbm model is in text format ",
        if (is.null(version)) "unknown" else version,
        "; its reader was checked with v4 only."
      ),
      todo = "Give `study(predict_with = )` a function that predicts."
    )
  }
  objective <- settings[["objective"]]
  name <- lgb_objective(settings)
  if (!name %in% names(lgb_links) || grepl(" sqrt", objective, fixed = TRUE)) {
    stop_model(
      paste0(
        "lightgbm models of objective \"", if (is.null(objective)) "none" else objective,
        "\" are not supported."
      ),
      todo = "Give `study(predict_with = )` a function that predicts."
    )
  }
}

lgb_objective <- function(settings) {
  if (is.null(settings[["objective"]])) "" else sub(" .*", "", settings[["objective"]])
}

lgb_classes <- function(settings) {
  link <- lgb_links[[lgb_objective(settings)]]
  if (link == "logit") return(c("0", "1"))
  if (link != "softmax") return(NULL)
  count <- take_count(settings, "num_class", "the header")
  if (count < 2 || count > 1e5) file_fault("a model of ", count, " classes")
  as.character(seq_len(count) - 1)
}

lgb_columns <- function(settings) {
  count <- take_count(settings, "max_feature_idx", "the header") + 1L
  names <- strsplit(take_text(settings, "feature_names", "the header"), " ", fixed = TRUE)[[1]]
  if (length(names) != count || anyDuplicated(names)) {
    file_fault("the names of its columns do not fit their number, ", count)
  }
  names
}

new_lgb_file <- function(bytes, rounds, output, columns) {
  if (any(bytes == as.raw(0))) file_fault("a text holds a zero byte")
  text <- gsub("\r\n", "\n", rawToChar(bytes), fixed = TRUE, useBytes = TRUE)
  Encoding(text) <- "UTF-8"
  settings <- lgb_parse(text, FALSE)$settings
  if (!is.null(output)) pick_output(output, 1L)
  own <- lgb_columns(settings)
  model <- structure(
    list(
      library = "lightgbm",
      text = text,
      settings = settings,
      objective = lgb_objective(settings),
      rounds = rounds,
      columns = file_columns(own, columns, length(own))
    ),
    class = c("dreher_lightgbm_file", "dreher_model_file")
  )
  lgb_classes(settings)
  model_forest(model, model_inputs(model))  # refused here, not later
  model
}

lgb_settings <- function(model) {
  if (inherits(model, "dreher_lightgbm_file")) {
    model$settings
  } else {
    lgb_parse(lgb_text(model), FALSE)$settings
  }
}

#' @export
model_task.lgb.Booster <- function(model, ...) {
  classes <- named_classes(model, lgb_classes(lgb_settings(model)))
  list(task = if (is.null(classes)) "regression" else "classification", classes = classes)
}

#' @export
model_task.dreher_lightgbm_file <- function(model, ...) model_task.lgb.Booster(model)

#' @export
model_inputs.lgb.Booster <- function(model, train = NULL, ...) {
  new_inputs(lgb_columns(lgb_settings(model)), missing = TRUE)
}

#' @export
model_inputs.dreher_lightgbm_file <- function(model, train = NULL, ...) {
  new_inputs(model$columns, missing = TRUE)
}

#' @export
model_predictions.lgb.Booster <- function(model, data, ...) {
  rlang::check_installed("lightgbm", "to predict with a lightgbm model")
  x <- as.matrix(data[lgb_columns(lgb_settings(model))])
  lgb_predictions(model, x, lgb_settings(model))
}

#' @export
model_predictions.dreher_lightgbm_file <- function(model, data, ...) {
  if (!isTRUE(model$compare) || !requireNamespace("lightgbm", quietly = TRUE)) {
    return(file_predictions(model, data))
  }
  booster <- lightgbm::lgb.load(model_str = model$text)
  lgb_predictions(
    booster, as.matrix(data[model$columns]), model$settings, num_iteration = model$rounds
  )
}

lgb_predictions <- function(booster, x, settings, ...) {
  storage.mode(x) <- "double"
  out <- stats::predict(booster, unname(x), params = list(num_threads = 1), ...)
  classes <- lgb_classes(settings)
  if (is.null(classes)) return(as.double(out))
  if (length(classes) > 2 || length(out) == nrow(x) * length(classes)) {
    return(matrix(
      if (is.matrix(out)) out else t(matrix(out, length(classes))),
      nrow(x),
      dimnames = list(NULL, classes)
    ))
  }
  matrix(c(1 - out, out), ncol = 2, dimnames = list(NULL, classes))
}

#' @export
model_forest.lgb.Booster <- function(model, inputs, ...) lgb_forest(lgb_text(model), inputs)

#' @export
model_forest.dreher_lightgbm_file <- function(model, inputs, ...) {
  lgb_forest(model$text, inputs, model$rounds)
}

lgb_forest <- function(text, inputs, rounds = NULL) {
  content <- lgb_parse(text)
  settings <- content$settings
  link <- lgb_links[[lgb_objective(settings)]]
  K <- if (link == "softmax") length(lgb_classes(settings)) else 1L
  if (take_count(settings, "num_tree_per_iteration", "the header") != K) {
    file_fault("its trees per round do not fit its objective")
  }
  number <- seq_along(content$trees) - 1L
  kept <- if (is.null(rounds)) seq_along(number) else which(number %/% K < rounds)
  columns <- inputs$predictors
  if (length(content$trees) < K) file_fault("it has fewer trees than classes")
  leaves <- suppressWarnings(as.double(unlist(lapply(
    content$trees[kept], `[[`, "num_leaves"
  ))))
  check_model_size(K, sum(2 * leaves[is.finite(leaves)]))
  read <- lapply(kept, function(t) {
    lgb_tree(content$trees[[t]], t, K, number[t] %% K + 1L, length(columns))
  })
  zero <- Reduce(`|`, lapply(read, `[[`, "zero"))
  if (any(zero & Reduce(`|`, lapply(read, `[[`, "gap")))) {
    stop_model(
      paste0(
        "The lightgbm model takes zeros of one column for missing in some trees and ",
        "not in others."
      ),
      todo = "Give `study(predict_with = )` a function that predicts."
    )
  }
  most <- do.call(pmax, lapply(read, `[[`, "most"))
  check_kinds(read, most, columns)
  levels <- stats::setNames(
    lapply(most, function(m) if (m >= 0) c(seq_len(m + 1) - 1, NA)), columns
  )
  read <- lapply(read, function(tree) {
    tree <- fill_sets(tree, ifelse(most >= 0, most + 2, 0))
    tree$set_side <- -tree$set_side  # here the set goes left
    tree
  })
  n_rounds <- ceiling(length(kept) / K)
  averaged <- "average_output" %in% names(settings)
  forest <- join_trees(
    read,
    rep(if (averaged) 1 / n_rounds else 1, length(read)),
    columns,
    levels,
    base = rep(0, K),
    link = link,
    stretch = lgb_stretch(settings, link),
    boosted = lgb_boosting(
      content, read, averaged, number[kept] %/% K, number[kept] %% K
    )
  )
  forest$zero_missing <- columns[zero]
  forest
}

lgb_stretch <- function(settings, link) {
  if (link != "logit") return(1)
  stretch <- suppressWarnings(as.double(sub(
    ".*sigmoid:([0-9.eE+-]+).*", "\\1", settings[["objective"]]
  )))
  if (!is.finite(stretch) || stretch <= 0) {
    file_fault("the slope of its sigmoid is not a positive number")
  }
  stretch
}

# The gain can be recomputed where it is the plain one: no bounds, penalties on size, tilted
# classes, averaged or dropped trees, or sorted categories (which have a penalty of their own).
lgb_boosting <- function(content, read, averaged, round, group) {
  loss <- c(regression = "squared", binary = "logistic", multiclass = "softmax")
  loss <- unname(loss[lgb_objective(content$settings)])
  setting <- function(name, otherwise) {
    value <- suppressWarnings(as.double(content$parameters[[name]]))
    if (length(value) != 1 || is.na(value)) otherwise else value
  }
  plain <- length(content$parameters) > 0 && setting("lambda_l1", 1) == 0 &&
    setting("max_delta_step", 1) == 0 && setting("path_smooth", 1) == 0 &&
    setting("is_unbalance", 1) == 0 && setting("scale_pos_weight", 0) == 1 &&
    setting("sigmoid", 0) == 1 && identical(content$parameters[["boosting"]], "gbdt") &&
    identical(content$parameters[["data_sample_strategy"]], "bagging")
  sets <- any(vapply(read, function(t) any(t$most >= 0), NA))
  # not one upon the other; not the loss as such
  if (averaged || setting("sigmoid", 1) != 1) loss <- NA_character_
  K <- max(group) + 1
  list(
    loss = loss,
    known = plain && !sets,
    second_order = TRUE,
    lambda = setting("lambda_l2", 0),
    most_step = 0,
    curve = if (K > 1) K / (K - 1) else 1,
    round = round,
    group = group,
    from_average = setting("boost_from_average", 1) == 1,
    gain = unlist(lapply(read, `[[`, "gain")),
    mass = vapply(read, `[[`, 0, "mass"),
    drawn = if (setting("bagging_freq", 0) > 0) setting("bagging_fraction", 1) else 1,
    stored = "stored gain"
  )
}

# Tree number t, adding to output k of K.
lgb_tree <- function(tree, t, K, k, n_columns) {
  where <- paste("tree", t)
  numbers <- function(name, size, whole = FALSE) {
    parsed <- parse_numbers(take_text(tree, name, where))
    if (nzchar(parsed$fault)) file_fault("`", name, "` of ", where, ": ", parsed$fault)
    take_numbers(stats::setNames(list(parsed$value), name), name, where, size, whole)
  }
  refuse_linear_tree(tree, where)
  n_leaves <- take_count(tree, "num_leaves", where)
  fits <- n_leaves >= 1 && n_leaves <= nchar(take_text(tree, "leaf_value", where))
  if (!fits) file_fault("`num_leaves` of ", where, " does not fit its leaves")
  m <- n_leaves - 1L
  value <- matrix(0, K, m + n_leaves)
  value[k, m + seq_len(n_leaves)] <- numbers("leaf_value", n_leaves)
  none <- rep(0L, n_leaves)
  if (m == 0) {
    return(lgb_single_leaf(value, n_columns))
  }
  column <- numbers("split_feature", m, TRUE)
  if (any(column < 0 | column >= n_columns)) {
    file_fault(where, " asks a column that the model does not have")
  }
  child <- function(name) {
    to <- numbers(name, m, TRUE)
    if (any(to >= m | to < -n_leaves)) {
      file_fault(where, ": a node leads outside its tree")
    }
    ifelse(to < 0, m - 1L - to, to)
  }
  left <- child("left_child")
  right <- child("right_child")
  threshold <- numbers("threshold", m)
  kind <- numbers("decision_type", m, TRUE)
  by_set <- kind %% 2 == 1
  default <- ifelse((kind %/% 2) %% 2 == 1, left, right)
  type <- (kind %/% 4) %% 4
  if (any(kind < 0 | type > 2)) file_fault("`decision_type` of ", where, " is unknown")
  missing <- ifelse(
    by_set, right, ifelse(type == 0, ifelse(threshold >= 0, left, right), default)
  )
  sets <- lgb_sets(tree, where, by_set, threshold, numbers)
  out <- sort_tree(
    list(
      column = c(column, none - 1L),
      threshold = c(ifelse(by_set, 0, threshold), none),
      left = c(left, none),
      right = c(right, none),
      missing = c(missing, none),
      value = value,
      gain = c(numbers("split_gain", m), none),
      set = c(sets, vector("list", n_leaves))
    ),
    where
  )
  columns <- seq_len(n_columns) - 1L
  out$zero <- columns %in% column[!by_set & type == 1]
  out$gap <- columns %in% column[!by_set & type != 1]
  out$mass <- if (is.null(tree[["internal_weight"]])) {
    NA_real_
  } else {
    numbers("internal_weight", m)[1]
  }
  out$most <- largest_category(out, n_columns)
  out
}

refuse_linear_tree <- function(tree, where) {
  if (take_count(tree, "is_linear", where) == 0) return(invisible())
  stop_model(
    paste0(
      "The lightgbm model has linear trees, whose leaves are not values but linear ",
      "models."
    ),
    todo = "Give `study(predict_with = )` a function that predicts."
  )
}

lgb_single_leaf <- function(value, n_columns) {
  list(
    column = -1L, threshold = 0, left = 0L, right = 0L, missing = 0L, owner = 0L,
    value = value, gain = 0, set = list(NULL), most = rep(-1, n_columns),
    zero = rep(FALSE, n_columns), gap = rep(FALSE, n_columns), mass = NA_real_
  )
}

# For each split the categories of its set (bits of 32-bit words), NULL where it asks a number.
lgb_sets <- function(tree, where, by_set, threshold, numbers) {
  sets <- vector("list", length(by_set))
  if (!any(by_set)) return(sets)
  from <- numbers("cat_boundaries", take_count(tree, "num_cat", where) + 1L, TRUE)
  words <- numbers("cat_threshold", NULL)
  which_set <- threshold[by_set]
  sound <- all(diff(from) >= 0) && from[1] == 0 && from[length(from)] == length(words) &&
    all(which_set %in% (seq_len(length(from) - 1) - 1)) &&
    all(words >= 0 & words < 2^32 & words == round(words)) &&
    length(words) <= 2048 * length(from)
  if (!sound) file_fault("the categories of ", where, " do not fit its nodes")
  sets[by_set] <- lapply(which_set, function(s) {
    own <- words[from[s + 1] + seq_len(from[s + 2] - from[s + 1])]
    unlist(lapply(seq_along(own), function(w) {
      (w - 1) * 32 + which((own[w] %/% 2^(0:31)) %% 2 == 1) - 1
    }))
  })
  sets
}

# What is not carried over by the model's own record: weights of rows, and constraints by position.
#' @export
refit_model.lgb.Booster <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  rlang::check_installed("lightgbm", "to train a lightgbm model again")
  content <- lgb_parse(lgb_text(model), FALSE)
  params <- model$params
  if (is.null(params[["objective"]])) {
    params$objective <- content$parameters[["objective"]]
  }
  by_position <- c(
    "monotone_constraints", "interaction_constraints", "forcedsplits_filename"
  )
  if (any(lengths(params[intersect(by_position, names(params))]) > 0) ||
      is.null(params[["objective"]])) {
    stop_model(
      "The lightgbm model's settings are not kept with it, or name columns by position.",
      todo = "Give `study(refit_with = )` a function that fits the model."
    )
  }
  params[c(
      "num_threads", "seed", "categorical_feature", "metric", "verbose", "verbosity",
      by_position
    )] <- NULL
  columns <- lgb_columns(content$settings)
  coded <- suppressWarnings(as.integer(
    strsplit(paste0("", content$parameters[["categorical_feature"]]), ",")[[1]]
  )) + 1L
  coded <- intersect(columns[coded[!is.na(coded)]], predictors)
  y <- data[[target]]
  if (is.factor(y)) y <- as.integer(y) - 1L
  x <- as.matrix(data[predictors])
  storage.mode(x) <- "double"
  rounds <- sum(grepl("^Tree=", strsplit(lgb_text(model), "\n")[[1]])) /
    max(1, take_count(content$settings, "num_tree_per_iteration", "the header"))
  args <- c(
    params, list(num_threads = threads, seed = seed, deterministic = TRUE, verbose = -1)
  )
  rows <- lightgbm::lgb.Dataset(
    x,
    label = y,
    params = list(verbose = -1),
    categorical_feature = if (length(coded)) coded
  )
  with_classes(
    lightgbm::lgb.train(args, rows, nrounds = rounds, verbose = -1), data[[target]]
  )
}
