# What curves, contributions and interactions are asked of: predictors, pairs, families, classes,
# rows.

# Classes whose probabilities are followed, as numbers; NULL for a number.
pick_classes <- function(st, classes) {
  if (st$task == "regression") {
    if (!is.null(classes)) {
      stop_input(
        paste0("`classes` is for targets that are classes; \"", st$target,
               "\" is a number."),
        todo = "Leave `classes` out."
      )
    }
    return(NULL)
  }
  if (is.null(classes)) {
    return(if (length(st$classes) == 2) st$positive else seq_along(st$classes))
  }
  match(check_choice(classes, st$classes, "classes", several = TRUE), st$classes)
}

# What curves are asked of: names, each with its predictors; kind: one, pair or family.
effect_units <- function(st, models, predictors, groups, form) {
  used <- unique(unlist(lapply(models, function(m) m$inputs$predictors)))
  joint <- effect_groups(st, models, groups)
  if (is.null(predictors) && !length(joint)) predictors <- used
  if (is.character(predictors)) predictors <- as.list(predictors)
  fits <- is.null(predictors) || is.list(predictors) &&
    all(vapply(predictors, is.character, NA)) && all(lengths(predictors) %in% 1:2)
  if (!fits || anyNA(unlist(predictors)) || (!length(predictors) && !length(joint))) {
    stop_input(
      paste0(
        "`predictors` must be names of predictors, or a list of names and of pairs of ",
        "names."
      ),
      paste0("Given: ", describe_value(predictors), ".")
    )
  }
  check_used(unlist(predictors), used, st)
  same <- vapply(predictors, function(u) anyDuplicated(u) > 0, NA)
  if (any(same)) {
    stop_input(paste0(
      "`predictors` pairs ", quote_some(predictors[same][[1]][1]), " with itself."
    ))
  }
  pair <- lengths(predictors) == 2
  if (any(pair) && form != "averaged") {
    stop_input(
      paste0("Pairs have curves of form \"averaged\" only, not \"", form, "\"."),
      todo = "Use form = \"averaged\" for pairs."
    )
  }
  names <- vapply(predictors, paste, "", collapse = " and ")
  alone <- !duplicated(names)
  out <- lapply(which(alone), function(i) {
    list(name = names[i], predictors = predictors[[i]], kind = if (pair[i]) "pair" else "one")
  })
  c(out, lapply(names(joint), function(g) {
    list(name = g, predictors = joint[[g]], kind = "family")
  }))
}

effect_groups <- function(st, models, groups) {
  if (is.null(groups)) return(list())
  units <- lapply(unname(models), function(m) shuffle_units(st, m, groups))
  all <- unlist(units, recursive = FALSE)
  all <- all[!duplicated(names(all)) & lengths(all) > 1]
  if (!length(all)) {
    stop_input(
      "`groups` holds no group of several predictors that a model takes in.",
      todo = "Give the dictionary a column `family`, or a list of groups."
    )
  }
  all
}

check_used <- function(predictors, used, st) {
  strange <- setdiff(predictors, used)
  if (!length(strange)) return(invisible())
  there <- strange %in% names(st$data)
  stop_input(
    paste0(
      if (length(strange) == 1) "Predictor " else "Predictors ", quote_some(strange),
      if (length(strange) == 1) " is" else " are", " not taken in by any of these models",
      if (all(there)) ": without effect on their predictions", "."
    ),
    todo = paste0("Predictors there: ", quote_some(used, 8), ".")
  )
}

check_points <- function(at, units) {
  if (is.null(at)) return(invisible())
  asked <- unique(unlist(lapply(units, `[[`, "predictors")))
  fits <- is.list(at) && !is.data.frame(at) && length(at) && !is.null(names(at)) &&
    all(nzchar(names(at))) && !anyDuplicated(names(at))
  if (!fits) {
    stop_input(
      "`at` must be a list of points, each under the name of its predictor.",
      paste0("Given: ", describe_value(at), "."),
      paste0("For example at = list(", asked[1], " = ...), with the points asked for.")
    )
  }
  strange <- setdiff(names(at), asked)
  if (length(strange)) {
    stop_input(
      paste0("`at` names ", quote_some(strange), ", of which no curve is asked."),
      todo = paste0("Curves are asked of ", quote_some(asked, 8), ".")
    )
  }
}

# Sets of rows, by slice where that is asked.
pick_effect_rows <- function(st, rows, slice, least = 3) {
  if (!is.data.frame(rows)) rows <- check_choice(rows, c("holdout", "train"), "rows")
  parts <- slice_rows(list(pick_rows(st, rows, least = least)), slice)
  for (part in parts) {
    if (nrow(part$data) < least) {
      stop_input(
        paste0(
          "Slice \"", part$slice, "\" has ", nrow(part$data),
          if (nrow(part$data) == 1) " row" else " rows", "; at least ", least, " are needed."
        ),
        todo = "Join small slices in a column of their own."
      )
    }
  }
  parts
}
