# What a study is of: numbers or classes, and whose rows.

# All models must be of the one task.
check_tasks <- function(task, tasks, models, target) {
  for (i in seq_along(tasks)) {
    if (!is.null(tasks[[i]]$task) && tasks[[i]]$task != task) {
      stop_study(
        paste0(
          "Model \"", models[i], "\" is a ", tasks[[i]]$task, ", but the target \"",
          target, "\" makes this a ", task, "."
        ),
        todo = paste0(
          "Give a model of the target as it stands in the data, or turn the target ",
          "into a factor."
        )
      )
    }
  }
}

# The classes of the target: in the order of its levels, else as the models have them.
order_of_classes <- function(y, y_train, known) {
  levels_of <- function(y) {
    if (is.factor(y)) {
      levels(droplevels(y))
    } else if (is.logical(y)) {
      c("FALSE", "TRUE")
    } else {
      sort_text(unique(y[!is.na(y)]))
    }
  }
  met <- union(if (!is.null(y_train)) levels_of(y_train), levels_of(y))
  classes <- if (!is.null(known) && setequal(known, union(known, met))) known else met
  if (is.factor(y) && setequal(classes, intersect(levels(y), classes))) {
    classes <- intersect(levels(y), classes)
  }
  classes
}

# Regression or classification, the classes in their order, and how to bring a target to it.
find_task <- function(y, y_train, tasks, models, target, positive) {
  said <- unlist(lapply(tasks, `[[`, "task"))
  numeric <- is.numeric(y) && !is.factor(y)
  task <- if (!numeric) {
    "classification"
  } else if (length(said) && all(said == "classification")) {
    "classification"
  } else {
    "regression"
  }
  check_tasks(task, tasks, models, target)
  if (task == "regression") {
    if (!is.null(positive)) {
      stop_input(
        "`positive` is for classes; the target holds numbers.", todo = "Leave it out."
      )
    }
    return(list(
      task = task, classes = NULL, positive = NULL, positive_said = FALSE,
      convert = function(y, ...) as.double(y)
    ))
  }

  known <- Find(Negate(is.null), lapply(tasks, `[[`, "classes"))
  classes <- order_of_classes(y, y_train, known)
  if (length(unique(as.character(y))) < 2) {
    stop_input(
      paste0(
        "The target \"", target, "\" has a single class in `data`: ",
        quote_some(unique(as.character(y))), "."
      ),
      todo = "Give holdout rows with at least two classes."
    )
  }
  positive_said <- !is.null(positive)
  if (!positive_said) positive <- classes[2]
  if (length(classes) == 2) {
    positive <- check_choice(as.character(positive), classes, "positive")
  }
  convert <- function(y, target, arg) {
    text <- as.character(y)
    strange <- setdiff(unique(text), classes)
    if (length(strange)) {
      stop_input(paste0(
        "The target \"", target, "\" of `", arg, "` has classes the models do not know: ",
        quote_some(strange), "."
      ))
    }
    factor(text, levels = classes)
  }
  list(
    task = task, classes = classes, positive = match(positive, classes),
    positive_said = positive_said, convert = convert
  )
}

# Are the rows to be questioned those the models were trained on? TRUE where most are; where only
# some are, that is said. drawn: are these some of more?
find_seen_rows <- function(data, train, drawn = FALSE, arg = "data") {
  known <- find_known_rows(data, train)
  if (!known$beyond) return(FALSE)
  most <- known$count > nrow(data) / 2
  warn_dreher(
    "rows",
    paste0(
      if (known$count == nrow(data)) "All" else known$count, " ",
      if (known$count < nrow(data)) "of the ", nrow(data),
      if (drawn) " drawn", " rows of `", arg, "` are training rows."
    ),
    if (most) {
      paste0(
        "They are called training rows; scores on them are optimistic, and have no ",
        "interval. ", "Give rows the models have not been trained on."
      )
    } else {
      paste0(
        "Scores and rankings on them are optimistic. Take these rows out of `", arg, "`."
      )
    }
  )
  most
}

# What the study's rows are, in words.
rows_word <- function(st) if (isTRUE(st$seen)) "training" else "holdout"
