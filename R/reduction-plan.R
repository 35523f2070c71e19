# What a reduction may take, must keep and may spend.

# What the user knows of the predictors, for the model that is refitted.
reduction_plan <- function(st, ranker, refit, groups, budget) {
  all <- refit$inputs$predictors
  d <- st$dictionary
  about <- function(column, default) {
    found <- d[[column]][match(all, d$predictor)]
    stats::setNames(
      if (is.null(found)) {
        rep(default, length(all))
      } else {
        ifelse(is.na(found), default, found)
      },
      all
    )
  }
  use <- about("use", "free")
  family <- if (!is.null(groups)) {
    about("family", NA_character_)
  } else {
    stats::setNames(rep(NA_character_, length(all)), all)
  }
  use <- use_of_families(use, family)
  universe <- all[use != "leave_out"]
  if (!length(universe)) {
    stop_study(
      paste0("The dictionary leaves out all predictors of model \"", refit$name, "\"."),
      todo = "Say free or keep of some."
    )
  }
  keep <- universe[use[universe] == "keep"]
  free <- setdiff(universe, keep)
  group <- ifelse(is.na(family[free]), free, paste("family", family[free]))
  units <- split(free, factor(group, unique(group)))
  cost <- about("cost", NA_real_)
  sensitive <- about("sensitive", FALSE)
  if (!is.null(budget)) check_budget(budget, cost[universe], keep, units)
  list(
    ranker = ranker$name,
    refit = refit$name,
    universe = universe,
    left_out = setdiff(all, universe),
    keep = keep,
    units = units,
    cost = cost,
    sensitive = universe[sensitive[universe]],
    budget = budget
  )
}

# A family is in or out together: what is said of one predictor holds for all.
use_of_families <- function(use, family) {
  for (f in unique(family[!is.na(family)])) {
    of <- use[which(family == f)]
    if (all(c("keep", "leave_out") %in% of)) {
      stop_study(
        paste0(
          "Family \"", f, "\" is in or out together, but the dictionary says keep of ",
          quote_some(names(of)[of == "keep"]), " and leave_out of ",
          quote_some(names(of)[of == "leave_out"]), "."
        ),
        todo = "Say one of the two for the whole family."
      )
    }
    if (any(of == "leave_out") && !all(of == "leave_out")) {
      warn_dreher(
        "dictionary",
        paste0(
          "Family \"", f, "\" is partly left out: ",
          quote_some(names(of)[of == "leave_out"]),
          " will never be used, the rest is in or out together."
        )
      )
    }
    if (any(of == "keep")) use[names(of)] <- "keep"
  }
  use
}

check_budget <- function(budget, cost, keep, units) {
  if (!is.numeric(budget) || length(budget) != 1 || is.na(budget) || budget <= 0) {
    stop_input(
      "`budget` must be a single positive number, in the unit of the dictionary's costs.",
      paste0("Given: ", describe_value(budget), ".")
    )
  }
  if (anyNA(cost)) {
    stop_study(
      paste0(
        "A budget needs the cost of every predictor; the dictionary does not say it of ",
        quote_some(names(cost)[is.na(cost)]), "."
      ),
      todo = "Fill in the dictionary's column `cost` (0 is a cost)."
    )
  }
  least <- sum(cost[keep]) + if (length(units)) {
    min(vapply(units, function(u) sum(cost[u]), 0))
  } else {
    0
  }
  if (sum(cost[keep]) > budget || least > budget) {
    stop_study(
      paste0(
        "Nothing fits a budget of ", budget, ": ",
        if (length(keep)) "what is to be kept" else "the cheapest predictor", " costs ",
        short_number(if (sum(cost[keep]) > budget) sum(cost[keep]) else least), "."
      ),
      todo = "Raise the budget."
    )
  }
}

cost_of <- function(plan, set) sum(plan$cost[set])
