# What a curve says: its direction, where it turns, where it is flat, where most of it happens.
#
# A curve here is list(position, at, effect, cov, df, near, kind, spread). A shape is a list(
#   direction  rises, falls, bends (one turn), mixed (several), differs (levels), little (hardly
#              anything beside what the predictions span), flat, not shown
#   change     from the lowest to the highest point, with lower and upper (widened for all pairs)
#   low, high  numbers of these points
#   turns      numbers of the points where it turns, both ends included
#   flat_from, flat_to   number of the point from which / up to which nothing happens, or NA
#   steep      numbers of two points between which most of a one-way change happens, or NULL
# )

# The part of a curve's span that is no turn, that which is flat, and that of the predictions'
# range that is hardly anything.
turn_share <- 0.2
flat_share <- 0.05
little_share <- 0.1
steep_share <- 0.6

shape_of <- function(curve, level) {
  y <- curve$effect
  use <- which(!is.na(y) & !nzchar(curve$flag))
  if (length(use) < 2) use <- which(!is.na(y))
  if (length(use) < 2) return(list(direction = "flat", change = 0, single = TRUE))
  high <- use[which.max(y[use])]
  low <- use[which.min(y[use])]
  change <- y[high] - y[low]
  half <- reach_of(curve, high, low, level, length(use))
  out <- list(
    change = change, lower = change - half, upper = change + half, low = low, high = high
  )
  if (change <= 1e-12 * (1 + max(abs(y[use])))) return(c(list(direction = "flat"), out))
  if (is.na(half) || out$lower <= 0) return(c(list(direction = "not shown"), out))
  if (change <= little_share * curve$spread) return(c(list(direction = "little"), out))
  if (curve$kind == "level") return(c(list(direction = "differs"), out))
  turns <- find_turns(curve, use, change, level)
  c(
    list(direction = name_direction(turns, y)),
    out,
    list(turns = turns),
    find_flats(y, curve$position, use, change),
    list(steep = find_steep(y, curve$position, use, turns))
  )
}

name_direction <- function(turns, y) {
  ways <- sign(diff(y[turns]))
  switch(min(length(ways), 3), if (ways[1] > 0) "rises" else "falls", "bends", "mixed")
}

# Half the width of the interval of a difference of two points, for all pairs of points at once.
reach_of <- function(curve, a, b, level, points) {
  if (is.null(curve$cov)) return(NA_real_)
  v <- curve$cov[a, a] + curve$cov[b, b] - 2 * curve$cov[a, b]
  if (is.na(v)) return(NA_real_)
  pairs <- points * (points - 1) / 2
  stats::qt(1 - (1 - level) / 2 / pairs, max(1, curve$df)) * sqrt(max(0, v))
}

# Both ends and the points between at which the curve turns: a way back counts when it is a fifth of
# the span, and its interval excludes zero.
find_turns <- function(curve, use, change, level) {
  y <- curve$effect
  counts <- function(from, to) {
    abs(y[to] - y[from]) > max(
      turn_share * change, reach_of(curve, from, to, level, length(use))
    )
  }
  low <- high <- furthest <- use[1]
  turns <- integer()
  way <- 0
  for (i in use[-1]) {
    if (way == 0) {
      if (y[i] > y[high]) high <- i
      if (y[i] < y[low]) low <- i
      if (low < i && counts(low, i)) way <- 1
      if (high < i && counts(high, i)) way <- -1
      if (way != 0) furthest <- i
    } else if (way * y[i] >= way * y[furthest]) {
      furthest <- i
    } else if (counts(furthest, i)) {
      turns <- c(turns, furthest)
      way <- -way
      furthest <- i
    }
  }
  c(use[1], turns, use[length(use)])
}

# From where on, and up to where, a curve changes by less than a twentieth of its span. Said where
# that is at least three points and a tenth of the way, and not all.
find_flats <- function(y, position, use, change) {
  last <- length(use)
  far <- function(from, to) {
    position[use[to]] - position[use[from]] >= 0.1 * diff(range(position[use]))
  }
  within <- function(from, to) diff(range(y[use[from:to]])) <= flat_share * change
  tail <- last
  while (tail > 1 && within(tail - 1, last)) tail <- tail - 1
  head <- 1
  while (head < last && within(1, head + 1)) head <- head + 1
  list(
    flat_from = if (last - tail >= 2 && tail > 1 && far(tail, last)) {
      use[tail]
    } else {
      NA_integer_
    },
    flat_to = if (head >= 3 && head < last && far(1, head)) use[head] else NA_integer_
  )
}

# The shortest stretch that holds most of a change in one direction, where it is at most a third of
# the way.
find_steep <- function(y, position, use, turns) {
  if (length(turns) != 2 || length(use) < 5) return(NULL)
  whole <- position[use[length(use)]] - position[use[1]]
  best <- NULL
  shortest <- whole / 3
  for (a in seq_along(use)[-length(use)]) {
    for (b in (a + 1):length(use)) {
      wide <- position[use[b]] - position[use[a]]
      enough <- abs(y[use[b]] - y[use[a]]) >= steep_share * abs(
        y[use[length(use)]] - y[use[1]]
      )
      if (enough && wide <= shortest) {
        shortest <- wide
        best <- use[c(a, b)]
      }
    }
  }
  best
}
