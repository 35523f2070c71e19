# Where a curve is evaluated: the values that a predictor, a pair or a family is set to.
#
# A grid is a list(
#   kind       number, date, level (of an unordered factor), ordered, joint (a family), pair
#   values     data frame: one row a point, one column a predictor
#   at         text: the points as people read them; pairs: of the first predictor
#   position   their places on the axis; levels: their numbers
#   other_at, other_position   pairs: of the second predictor
#   near number of rows near each point, of the rows the model was trained on if they are known
#   flag       "beyond training range", "few rows" or ""
# )

# chosen: the user's values of this predictor, or NULL. rows: as the model takes them; known: the
# rows that say where the data lie.
# most: at most so many levels, those of the most rows.
grid_of <- function(predictor, rows, known, points, chosen = list(), most = Inf) {
  grid <- grid_of_one(
    predictor, rows[[predictor]], known[[predictor]], points, chosen[[predictor]], most
  )
  names(grid$values) <- predictor
  grid
}

grid_of_one <- function(predictor, x, known, points, chosen, most = Inf) {
  if (is.character(x) || is.logical(x) || is.factor(x)) {
    return(grid_of_levels(predictor, x, known, chosen, most))
  }
  present <- known[!is.na(known)]
  if (!length(present)) {
    stop_input(
      paste0("Predictor \"", predictor, "\" is missing in every row."),
      todo = "Leave it out of `predictors`."
    )
  }
  values <- if (is.null(chosen)) {
    spread_values(present, points)
  } else {
    chosen_values(predictor, chosen, x)
  }
  place <- as.double(values)
  near <- count_near(as.double(present), place)
  range <- range(as.double(present))
  list(
    kind = if (inherits(x, c("Date", "POSIXct"))) "date" else "number",
    values = list2DF(list(values = values)),
    at = value_text(values),
    position = place,
    near = near,
    flag = flag_points(near, place < range[1] | place > range[2])
  )
}

# Up to so many values, evenly spread over the rows; all values where there are few.
spread_values <- function(x, points) {
  distinct <- sort(unique(x))
  if (length(distinct) <= points) return(distinct)
  at <- stats::quantile(
    as.double(x), seq(0, 1, length.out = points), type = 1, names = FALSE
  )
  distinct[unique(match(at, as.double(distinct)))]
}

chosen_values <- function(predictor, chosen, x) {
  dated <- inherits(x, c("Date", "POSIXct"))
  fits <- if (dated) {
    inherits(chosen, class(x)[1])
  } else {
    is.numeric(chosen) && !is.object(chosen)
  }
  if (!fits || !length(chosen) || any(!is.finite(as.double(chosen)))) {
    stop_input(
      paste0(
        "`at` for \"", predictor, "\" must be ", if (dated) "dates" else "finite numbers",
        ", as the predictor is."
      ),
      paste0("Given: ", describe_value(chosen), ".")
    )
  }
  out <- sort(unique(chosen))
  if (is.integer(x) && !dated && all(out == round(out))) out <- as.integer(out)
  out
}

grid_of_levels <- function(predictor, x, known, chosen, most) {
  ordered <- is.ordered(x)
  levels <- if (is.factor(x)) levels(x) else sort_text(unique(as.character(x[!is.na(x)])))
  seen <- as.character(known)
  if (is.null(chosen)) {
    # A level that no row has is none the model can have learnt of.
    levels <- levels[levels %in% seen]
    if (length(levels) > most) levels <- most_frequent(predictor, levels, seen, most)
  } else {
    strange <- setdiff(as.character(chosen), levels)
    if (length(strange)) {
      stop_input(
        paste0("`at` for \"", predictor, "\" names levels it does not have: ",
               quote_some(strange), "."),
        todo = paste0("Levels there: ", quote_some(levels, 8), ".")
      )
    }
    levels <- levels[levels %in% as.character(chosen)]
  }
  if (!length(levels)) {
    stop_input(
      paste0("Predictor \"", predictor, "\" is missing in every row."),
      todo = "Leave it out of `predictors`."
    )
  }
  values <- if (is.factor(x)) {
    factor(levels, levels(x), ordered = ordered)
  } else if (is.logical(x)) {
    as.logical(levels)
  } else {
    levels
  }
  near <- tabulate(match(seen, levels), length(levels))
  list(
    kind = if (ordered) "ordered" else "level",
    values = data.frame(values),
    at = levels,
    position = seq_along(levels) + 0,
    near = near,
    flag = flag_points(near, rep(FALSE, length(levels)))
  )
}

most_frequent <- function(predictor, levels, seen, most) {
  rows <- tabulate(match(seen, levels), length(levels))
  kept <- order(-rows)[seq_len(most)]
  warn_dreher(
    "levels",
    paste0(
      "\"", predictor, "\" has ", format_number(length(levels)), " levels: the ", most,
      " of the most rows are drawn, ",
      round(100 * sum(rows[kept]) / sum(rows)), " % of the rows."
    ),
    paste0("Others are drawn by name: at = list(\"", predictor, "\" = ).")
  )
  levels[sort(kept)]
}

# Rows whose value is nearer to this point than to any other.
count_near <- function(x, points) {
  if (length(points) == 1) return(length(x))
  border <- (points[-1] + points[-length(points)]) / 2
  tabulate(findInterval(x, border) + 1L, length(points))
}

# These points alone, or in this order.
some_points <- function(grid, which) {
  grid$values <- grid$values[which, , drop = FALSE]
  attr(grid$values, "row.names") <- .set_row_names(nrow(grid$values))
  fields <- intersect(
    names(grid), c("at", "position", "near", "flag", "other_at", "other_position")
  )
  grid[fields] <- lapply(grid[fields], `[`, which)
  grid
}

# Which points' levels do these rows have?
has_levels <- function(grid, known) {
  out <- rep(TRUE, length(grid$at))
  for (p in names(grid$values)) {
    x <- grid$values[[p]]
    if (is.numeric(x) || inherits(x, c("Date", "POSIXct"))) next
    out <- out & as.character(x) %in% as.character(known[[p]])
  }
  out
}

# Few: fewer than 5, and fewer than a quarter of an even share.
flag_points <- function(near, beyond) {
  few <- near < min(5, sum(near) / (4 * length(near)))
  ifelse(beyond, "beyond training range", ifelse(few, "few rows", ""))
}

# Values as people read them.
value_text <- function(x) {
  if (inherits(x, "POSIXct")) return(format(x, "%Y-%m-%d %H:%M:%S"))
  if (inherits(x, "Date")) return(format(x))
  as.character(as.double(x))
}

# Two predictors: all combinations of their points, the first running fastest.
grid_of_pair <- function(unit, rows, known, points, chosen) {
  one <- grid_of(unit[1], rows, known, points, chosen, most_levels_of_pair)
  two <- grid_of(unit[2], rows, known, points, chosen, most_levels_of_pair)
  i <- rep(seq_along(one$at), length(two$at))
  j <- rep(seq_along(two$at), each = length(one$at))
  both <- !is.na(known[[unit[1]]]) & !is.na(known[[unit[2]]])
  near <- tabulate(
    nearest(known[[unit[1]]][both], one) +
      length(one$at) * (nearest(known[[unit[2]]][both], two) - 1L),
    length(i)
  )
  beyond <- (one$flag == "beyond training range")[i] |
    (two$flag == "beyond training range")[j]
  list(
    kind = "pair",
    kinds = c(one$kind, two$kind),
    values = cbind(one$values[i, , drop = FALSE], two$values[j, , drop = FALSE]),
    at = one$at[i],
    position = one$position[i],
    other_at = two$at[j],
    other_position = two$position[j],
    near = near,
    flag = flag_points(near, beyond)
  )
}

# The number of the point that each value is nearest to.
nearest <- function(x, grid) {
  if (grid$kind %in% c("level", "ordered")) return(match(as.character(x), grid$at))
  p <- grid$position
  if (length(p) == 1) return(rep(1L, length(x)))
  findInterval(as.double(x), (p[-1] + p[-length(p)]) / 2) + 1L
}

# A family moves as one: each member to the same quantile of its own values, or to the opposite one
# where it falls while the first rises.
grid_of_family <- function(name, unit, rows, known, points) {
  numbers <- vapply(unit, function(p) is.numeric(known[[p]]) && !is.object(known[[p]]), NA)
  if (!all(numbers)) {
    stop_input(
      paste0(
        "Group \"", name, "\" has predictors that are no numbers: ",
        quote_some(unit[!numbers]), ". They have no low and high to move between together."
      ),
      todo = "Ask for its predictors one by one."
    )
  }
  q <- seq(0, 1, length.out = points)
  turn <- vapply(unit, function(p) {
    r <- suppressWarnings(stats::cor(
      known[[unit[1]]], known[[p]], method = "spearman", use = "pairwise.complete.obs"
    ))
    !is.na(r) && r < 0
  }, NA)
  values <- lapply(unit, function(p) {
    at <- stats::quantile(
      known[[p]], if (turn[[p]]) 1 - q else q, type = 1, names = FALSE, na.rm = TRUE
    )
    if (is.integer(rows[[p]])) as.integer(at) else at
  })
  place <- vapply(
    unit, function(p) {
      x <- rank(known[[p]], na.last = "keep") / sum(!is.na(known[[p]]))
      if (turn[[p]]) 1 - x else x
    },
    double(nrow(known))
  )
  near <- count_near(stats::na.omit(rowMeans(matrix(place, nrow(known)))), q)
  list(
    kind = "joint",
    values = structure(values, names = unit, row.names = .set_row_names(points),
                       class = "data.frame"),
    at = value_text(round(q, 3)),
    position = q,
    near = near,
    flag = flag_points(near, rep(FALSE, points))
  )
}

most_levels_drawn <- 100L
most_levels_of_pair <- 40L

grid_for <- function(unit, rows, known, settings) {
  make <- switch(
    unit$kind,
    one = grid_of(
      unit$predictors, rows, known, settings$points, settings$at, most_levels_drawn
    ),
    pair = grid_of_pair(
      unit$predictors, rows, known, min(settings$points, 15L), settings$at
    ),
    family = grid_of_family(unit$name, unit$predictors, rows, known, settings$points)
  )
  if (nrow(make$values) > 2000) {
    stop_input(
      paste0(
        if (unit$kind == "pair") "The pair " else "The curve of ",
        quote_some(unit$predictors), " has ", format_number(nrow(make$values)),
        if (unit$kind == "pair") " combinations of points" else " points",
        "; 2,000 are the most."
      ),
      todo = "Give fewer points by `at`."
    )
  }
  make
}
