# The print of a reduction.

#' @rdname printing
#' @export
print.dreher_reduction <- function(x, ..., n = NULL, models = NULL, width = NULL) {
  check_no_dots(..., .verb = "print")
  check_print(n, models, names(x$curves))
  write_lines(x, format_reduction(x, n = n, models = models), width)
}

format_reduction <- function(x, lines = 24, n = NULL, models = NULL) {
  if (!is.null(models)) x$curves <- x$curves[models]
  tables <- as.data.frame(x)
  st <- x$study
  most <- if (!is.null(n)) {
    n
  } else if (!is.null(models)) {
    Inf
  } else {
    max(4, floor((lines - 4) / length(x$curves)) - 4)
  }
  body <- unlist(lapply(names(x$curves), function(m) {
    format_curve(x, tables[tables$model == m, ], m, most)
  }))
  c(
    heading(paste0(
      "Fewer predictors of ", st$target, ": ", st$metric$label, ", ", st$metric$better,
      " is better"
    )),
    shorten_words(
      paste0(
        " ", say_path(x), "; folds ", x$folds, " x ", x$repeats, ", inner ", x$inner_folds,
        ", seed ", x$seed
      ),
      screen_width()
    ),
    body, "",
    wrap_lines(paste0(
      if (length(random_drawn(x))) {
        paste0(
          "Random: mean of ", say_random_count(x), " of as many predictors, on ",
          if (x$repeats > 1) "the first drawing of the folds" else "the same folds", ". "
        )
      },
      "Exploratory: the best point is optimistic. choose_set() gives the nested ",
      "cross-validation score."
    ))
  )
}

# How many random sets there are of each number: of few predictors there are few.
random_drawn <- function(x) {
  unlist(lapply(x$curves, function(curve) table(curve$random$count)))
}

say_random_count <- function(x) {
  each <- random_drawn(x)
  paste(say_range(each), if (all(each == 1)) "random set" else "random sets")
}

# The steps of one model's path, and what stands beside it.
format_curve <- function(x, d, m, most) {
  st <- x$study
  beside <- d[d$candidate %in% beside_path, ]
  d <- d[!d$candidate %in% beside_path, ]
  if (nrow(d) > most) d <- d[sort(unique(c(seq_len(most - 1), nrow(d)))), ]
  unit <- stats::median(d$price_error[d$price_error > 0])
  # Sets that predict the same as all have a price of 0, without an error.
  price <- function(r) {
    ifelse(
      r$price_error == 0, format_value(r$price, abs(r$price) / 10),
      with_limits(r$price, r$price_lower, r$price_upper, unit)
    )
  }
  name <- m
  if (!identical(d$refit[1], m)) name <- paste0(m, ", refitted: ", d$refit[1])
  c(
    if (length(x$curves) > 1 || !identical(d$refit[1], m)) name,
    lay_out(
      list(
        count = as.character(d$count),
        score = format_value(d$score, d$std_error),
        price = replace(
          price(d), d$price_error == 0 & d$count == max(d$count), "reference"
        ),
        random = ifelse(is.na(d$random), "", format_value(d$random, d$std_error)),
        added = shorten_words(name_added(d, st), min(40, screen_width() - 38))
      ),
      c(TRUE, TRUE, TRUE, TRUE, FALSE)
    ),
    if (nrow(beside)) {
      unlist(lapply(
        say_beside(beside, st, price(beside)), wrap_lines, indent = 1
      ))
    }
  )
}

say_path <- function(x) {
  ranked <- paste(x$by, collapse = " and ")
  paste0(
    switch(
      x$search,
      ranking = paste("ranked by", ranked, "in each training part"),
      backward = paste0("backward, ranked anew by ", ranked, ", in each training part"),
      paste(x$search, "in each training part")
    ),
    if (x$thin_twins) ", twins thinned",
    if (!is.null(x$budget)) paste0(", budget ", format(x$budget))
  )
}

name_added <- function(d, st) {
  added <- vapply(
    strsplit(d$added, ", ", fixed = TRUE),
    function(a) paste(shorten(labels_of(st, a), name_room(22)), collapse = ", "),
    ""
  )
  ifelse(d$count == 0, "(constant)", ifelse(d$candidate == "all", "(all)", added))
}

say_beside <- function(d, st, price) {
  what <- c(
    thinned = "without redundant twins",
    `not sensitive` = "without sensitive ones", `above floor` = "above the noise floor"
  )[d$candidate]
  paste0(
    what, ": ", vapply(d$count, count_of, "", "predictor"), ", ",
    format_value(d$score, d$std_error), ", price ", price
  )
}
