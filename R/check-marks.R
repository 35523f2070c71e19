# Numbers that stand for gaps (-9, 999), and levels that a learner of the study file took together.

# Whole nines, eights or sevens, or -1: what people write where a number is missing.
looks_like_mark <- function(v) {
  digits <- gsub("[-.]", "", format(abs(v), scientific = FALSE, trim = TRUE))
  v == -1 || grepl("^(9+|8{2,}|7{2,})$", digits)
}

check_gap_marks <- function(table) {
  bind_findings(lapply(names(table$columns), function(p) {
    column <- table$columns[[p]]
    if (!column$number || column$time || column$distinct < 4) return(NULL)
    found <- gap_mark(column$x[!is.na(column$x)])
    if (is.null(found)) return(NULL)
    finding(
      p, "number for a gap", "doubt", found$count, "rows",
      paste0(
        "The value ", short_number(found$value, 6), " stands in ",
        count_in_words(found$count, "row"), ", far from the others, which lie between ",
        short_number(found$rest[1], 6), " and ", short_number(found$rest[2], 6),
        ": it looks like a mark for a missing value."
      ),
      paste0(
        "If it is one, read the rows anew with missing = list(", p, " = \"",
        short_number(found$value, 6), "\"), and train on them; as a number it bends what is ",
        "learnt."
      )
    )
  }))
}

# The lowest or highest value, where it looks like a mark, is met several times, and lies away from
# all the others. -> list(value, count, rest: range of the others), or NULL
gap_mark <- function(x) {
  for (v in range(x)) {
    count <- sum(x == v)
    if (count < max(3, 0.002 * length(x)) || count > 0.9 * length(x)) next
    if (!looks_like_mark(v)) next
    rest <- x[x != v]
    away <- min(abs(rest - v))
    # one digit could be a value like any other: the others must be of another kind
    small <- abs(v) < 10
    strange <- v < 0 && all(rest >= 0)
    distinct <- length(unique(rest))
    far <- away > 3 * stats::sd(rest) && away > diff(range(rest)) / 2
    told <- if (small) {
      distinct >= 8 && strange && (v != -1 || has_gap(rest))
    } else {
      far || strange
    }
    if (told) return(list(value = v, count = count, rest = range(rest)))
  }
  NULL
}

# -1 beside 0, 1, 2, ... goes on with them; beside numbers that begin higher it does not.
has_gap <- function(rest) min(rest) > 1 || has_fractions(rest) || max(rest) > 50

count_in_words <- function(n, noun) paste0(format_number(n), " ", noun, if (n != 1) "s")

# What learners of the study file joined as rare, once a predictor.
check_joined <- function(st) {
  joined <- Filter(
    Negate(is.null),
    lapply(st$models, function(m) {
      d <- joined_of_model(m$object)
      if (!is.null(d) && nrow(d)) cbind(d, model = m$name)
    })
  )
  if (!length(joined)) return(no_findings())
  joined <- do.call(rbind, unname(joined))
  bind_findings(lapply(
    split(joined, factor(joined$predictor, unique(joined$predictor))),
    function(d) {
      gone <- d$kept[1] == 0
      who <- list_words(d$model)
      finding(
        d$predictor[1],
        "levels joined",
        if (gone) "doubt" else "note",
        d$levels[1],
        "levels",
        paste0(
          if (gone) {
            paste0("None of its ", d$levels[1], " levels has ", least_of_level)
          } else {
            paste0(
              d$levels[1], if (d$levels[1] == 1) " level has" else " levels have",
              " fewer than ", least_of_level
            )
          },
          " training rows",
          if (gone) {
            paste0(": ", who, if (nrow(d) > 1) " do" else " does", " not use it.")
          } else {
            paste0(
              " (", format_number(d$rows[1]), " rows in all): ", who,
              if (nrow(d) > 1) " take" else " takes", " them together; ", d$kept[1],
              " stand for themselves."
            )
          }
        ),
        if (gone) {
          "Join levels that belong together in a column of your own, or leave it out."
        } else {
          "Join levels that belong together in a column of your own."
        }
      )
    }
  ))
}

joined_of_model <- function(object) {
  if (inherits(object, "dreher_transformed")) return(joined_of_model(object$model))
  if (is.list(object) && is.function(object$encode)) {
    attr(object$encode, "joined", exact = TRUE)
  }
}
