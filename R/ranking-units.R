# What a ranking lists: single predictors, families, groups of the user's, columns of trees; and
# what every rank_*() function asks first.

# What is shuffled together: names, each with its predictors.
shuffle_units <- function(st, model, groups) {
  predictors <- model$inputs$predictors
  alone <- stats::setNames(as.list(predictors), predictors)
  if (is.null(groups)) return(alone)
  if (is.character(groups)) {
    groups <- check_choice(groups, "family", "groups")
    family <- st$dictionary$family[match(predictors, st$dictionary$predictor)]
    groups <- split(
      predictors[!is.na(family)],
      factor(family[!is.na(family)], unique(family[!is.na(family)]))
    )
    return(c(groups, alone[is.na(family)]))
  }
  if (inherits(groups, "dreher_families")) {
    found <- Filter(length, lapply(groups, intersect, predictors))
    units <- c(found, alone[setdiff(predictors, unlist(found))])
    return(stats::setNames(units, make.unique(names(units), " ")))
  }
  fits <- is.list(groups) && length(groups) && !is.null(names(groups)) &&
    all(nzchar(names(groups))) && !anyDuplicated(names(groups)) &&
    all(vapply(groups, is.character, NA)) && all(lengths(groups) > 0)
  if (!fits) {
    stop_input(
      paste0(
        "`groups` must be NULL, \"family\", or a list of predictors' names, ",
        "each group under a name of its own."
      ),
      paste0("Given: ", describe_value(groups), ".")
    )
  }
  strange <- setdiff(unlist(groups), st$predictors)
  if (length(strange)) {
    stop_input(
      paste0(
        "`groups` names predictors that no model of the study has: ", quote_some(strange),
        "."
      ),
      todo = paste0("Predictors there: ", quote_some(st$predictors, 8), ".")
    )
  }
  # What a model does not use changes nothing.
  lapply(lapply(groups, unique), intersect, predictors)
}

# NULL or "family", where groups of the user's own make no sense.
check_families <- function(groups) {
  if (!is.null(groups)) check_choice(groups, "family", "groups")
}

# Who plays: names, each with its predictors; every predictor of the model plays once.
shapley_units <- function(st, model, groups) {
  units <- shuffle_units(st, model, groups)
  twice <- unique(unlist(units)[duplicated(unlist(units))])
  if (length(twice)) {
    stop_input(
      paste0(
        "`groups` has ", quote_some(twice), " in several groups; a player plays once."
      ),
      todo = "Put each predictor into one group."
    )
  }
  alone <- setdiff(model$inputs$predictors, unlist(units))
  c(units[lengths(units) > 0], stats::setNames(as.list(alone), alone))
}

# Which unit (its number) each of these columns belongs to.
unit_of <- function(units, columns) {
  rep(seq_along(units), lengths(units))[match(columns, unlist(units))]
}

# What the rows of a ranking by trees stand for: names, each with the forest's columns it sums. A
# predictor may have several encoded columns; columns of two predictors stand by themselves.
tree_units <- function(st, model, groups) {
  f <- model$forest
  origin <- if (is.null(f$origin)) f$columns else f$origin
  names <- union(model$inputs$predictors, origin[!is.na(origin)])
  # what comes in only with others, as in a principal component, has no splits of its own
  names <- setdiff(names, unlist(joint_members(model)))
  units <- lapply(stats::setNames(nm = names), function(u) which(origin %in% u))
  family <- st$dictionary$family[match(names, st$dictionary$predictor)]
  if (is.null(groups) || all(is.na(family))) return(units)
  key <- ifelse(is.na(family), paste0("p", names), paste0("f", family))
  joint <- lapply(split(units, factor(key, unique(key))), unlist)
  stats::setNames(lapply(joint, unname), substring(names(joint), 2))
}

# Predictors that the trees see only together with others: members by the name of the joint unit.
joint_members <- function(model) {
  f <- model$forest
  if (is.null(f$origin) || !is.list(model$object) || is.null(model$object$stems)) {
    return(list())
  }
  stems <- model$object$stems[f$columns]
  stems <- stems[lengths(stems) > 1]
  if (!length(stems)) return(list())
  own <- f$origin
  together <- stats::setNames(lapply(stems, setdiff, own), unname(stem_labels(stems)))
  Filter(length, together[!duplicated(names(together))])
}

# The same as a list of what is left out.
leave_out_members <- function(method, models) {
  do.call(rbind, lapply(models, function(m) {
    together <- joint_members(m)
    if (!length(together)) return(NULL)
    leave_out(method, m$name, paste(
      vapply(together, list_few, ""), "come in only together, as", names(together),
      collapse = "; "
    ))
  }))
}

# x: forest columns x anything. -> units x anything.
sum_units <- function(x, units) {
  matrix(
    vapply(units, function(at) colSums(x[at, , drop = FALSE]), double(ncol(x))),
    length(units),
    byrow = TRUE
  )
}

# In-bag counts (rows x trees) that belong to these training rows, or 0 x 0.
counts_of <- function(model, st) {
  counts <- model$forest$inbag
  if (is.null(counts)) return(matrix(0L, 0, 0))
  if (nrow(counts) != nrow(st$train)) {
    stop_study(
      paste0(
        "`train` has ", nrow(st$train), " rows, but model \"", model$name,
        "\" was trained on ", nrow(counts), "."
      ),
      todo = "Give the training rows as they were, in the same order."
    )
  }
  counts
}

# The models among those named that have trees, and the names of those that have none.
with_trees <- function(st, models, what) {
  models <- pick_models(st, models)
  bare <- vapply(models, function(m) is.null(m$forest), NA)
  if (all(bare)) {
    stop_study(
      paste0(
        what, " needs trees; none of these models has any: ", quote_some(names(models)),
        "."
      ),
      if (any(vapply(models, function(m) inherits(m$object, "dreher_transformed"), NA))) {
        paste0(
          "Trees of a transformed target say nothing of the target itself: make the ",
          "transformed target a column, and the study's target."
        )
      },
      todo = "Rank them by permutation or Shapley importance."
    )
  }
  list(
    models = models[!bare],
    without = names(models)[bare],
    why = vapply(models[bare], treeless, "", USE.NAMES = FALSE)
  )
}

treeless <- function(model) {
  if (inherits(model$object, "dreher_average")) return("it is no mean of trees on one scale")
  said <- if (inherits(model$object, "dreher_own_predict")) model$object$way$treeless
  if (is.null(said)) "it has no trees" else said
}

leave_out <- function(method, models, why) {
  if (!length(models)) return(NULL)
  data.frame(model = models, method = method, why = why)
}

# The target as columns: the number itself, or one 0/1 column per class.
target_columns <- function(st, data) {
  y <- data[[st$target]]
  if (st$task == "regression") {
    matrix(y, ncol = 1)
  } else {
    outer(as.integer(y), seq_along(st$classes), "==") + 0
  }
}

# What every rank_*() function does first.
open_ranking <- function(study, verb, ..., threads = NULL) {
  own_settings(parent.frame())
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = verb)
  if (is.null(threads)) study else derive_study(study, threads = check_threads(threads))
}

# Out-of-bag rows need trees that know their own rows, and an output that is their mean.
need_inbag <- function(model) {
  f <- model$forest
  if (is.null(f) || is.null(f$inbag) || !is.null(f$boosted) || isTRUE(f$shared)) {
    stop_model(
      paste0(
        "Model \"", model$name, "\" does not say which rows each of its trees has seen."
      ),
      todo = "Use rows = \"holdout\", or fit a forest that keeps its in-bag counts."
    )
  }
}

linear_scale <- function(link) {
  if (link == "identity") {
    "prediction"
  } else if (link == "logit") {
    "log-odds"
  } else if (grepl("(", link, fixed = TRUE)) {
    link
  } else {
    paste(link, "link")
  }
}

in_bag_only <- function(seen, unseen) {
  ifelse(seen >= sum(seen) / (2 * length(seen)) & unseen <= 0, "in-sample only", "")
}
