# All rows of a study, in memory or in a store.
#
# A study of rows in a store holds some of them as its `data`, drawn at random; `store` has all, and
# `roles` the target, weights and blocks of all.

# Rows as they were given to study(): list(data, store, roles); of a store, `data` are some of them.
rows_of_study <- function(data, roles) {
  path <- is.character(data) && length(data) == 1 && isTRUE(file.exists(data))
  if (is.function(data) || path) data <- open_rows(data)
  if (!is_store(data)) {
    data <- check_rows(data, "data")
    return(list(data = data, store = NULL, roles = data))
  }
  open_store(data$folder)  # is it still there, and whole?
  named <- unlist(roles)
  if (data$rows <= data$in_memory) {
    rows <- store_rows(data, 1, data$rows)
    return(list(data = rows, store = NULL, roles = rows))
  }
  drawn <- with_stream(
    data$seed, c("in memory", data$rows), sort(sample.int(data$rows, data$in_memory))
  )
  list(
    data = pick_from_store(data, drawn),
    store = data,
    roles = store_rows(data, 1, data$rows, intersect(named, names(data$columns)))
  )
}

# Rows on disk stay as they are: spans of time in other units are refused.
check_store_times <- function(store, train) {
  for (p in intersect(names(store$columns), names(train))) {
    held <- restore_values(0, store$columns[[p]])
    like <- train[[p]]
    if (!is_time(held) && !is_time(like)) next
    align_times(held, like, p, "data")
    if (inherits(held, "difftime") && attr(held, "units") != attr(like, "units")) {
      stop_input(
        paste0(
          "Column \"", p, "\" of `data` is in ", attr(held, "units"),
          ", in the training rows in ", attr(like, "units"), "."
        ),
        todo = "Give the training rows in those units: units(train$column) <- \"mins\"."
      )
    }
  }
}

count_whole <- function(st) if (is.null(st$store)) nrow(st$data) else st$store$rows

whole_info <- function(st) row_info(st, whole_roles(st))

# One column of all rows, as a data frame.
whole_column <- function(st, name) {
  if (is.null(st$store)) return(st$data[name])
  if (name %in% names(st$roles)) return(st$roles[name])
  store_rows(st$store, 1, st$store$rows, name)
}

has_whole_column <- function(st, name) {
  name %in% if (is.null(st$store)) names(st$data) else names(st$store$columns)
}

# Some of all rows, by their numbers, with those of the columns that are there.
pick_whole <- function(st, rows, columns) {
  if (is.null(st$store)) {
    return(st$data[rows, intersect(columns, names(st$data)), drop = FALSE])
  }
  out <- pick_from_store(st$store, rows, intersect(columns, names(st$store$columns)))
  known <- intersect(columns, names(st$roles))
  out[known] <- st$roles[rows, known, drop = FALSE]
  out
}

# The columns that a model may ask for.
columns_for <- function(st, model) {
  if (model$own_reader) return(model$inputs$predictors)
  setdiff(names(st$data), c(st$target, st$weights, st$blocks))
}

# What a model says of all rows; once a study, a batch of rows at a time.
predict_whole <- function(st, model) {
  kept(st, paste("predictions of", model$name), predict_batches(st, model))
}

predict_batches <- function(st, model) {
  if (is.null(st$store)) return(predict_model(st, model, st$data))
  gather_batches(st$store, columns_for(st, model), function(rows, from) {
    predict_model(st, model, rows, batch_name("data", from, nrow(rows)))
  })
}

# say(rows, from): rows x outputs of some rows -> of all.
gather_batches <- function(store, columns, say) {
  out <- NULL
  each_batch(store, columns, function(rows, from) {
    p <- say(rows, from)
    if (is.null(out)) {
      out <<- matrix(0, store$rows, ncol(p), dimnames = list(NULL, colnames(p)))
    }
    out[seq(from, length.out = nrow(p)), ] <<- p
  })
  out
}

# Few enough that batches of many columns fit.
batch_rows <- function(store) {
  min(store$at_once, max(1000, 1e6 %/% length(store$columns)))
}

# visit(rows, from): some rows after the other, in their order.
each_batch <- function(store, columns, visit) {
  for (part in split_range(store$rows, batch_rows(store))) {
    visit(store_rows(store, part[1], part[2], columns), part[1])
  }
}

# How messages call them, so that row 17 of them can be found.
batch_name <- function(arg, from, rows) {
  paste0(arg, ", rows ", format_number(from), " to ", format_number(from + rows - 1))
}
