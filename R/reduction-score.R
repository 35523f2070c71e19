# Training on sets of predictors and predicting the rows held out.

# Predictions on `test` from sets refitted on `train`: rows x sets x outputs. Sets that are the
# same are fitted once.
score_sets <- function(st, plan, train, test, sets, key) {
  model <- st$models[[plan$refit]]
  names <- vapply(sets, fingerprint, "")
  out <- failed <- NULL
  unseen <- 0L
  for (s in seq_along(sets)) {
    first <- match(names[s], names)
    if (first < s && !is.null(out)) {
      out[, s, ] <- out[, first, ]
      next
    }
    p <- tryCatch(
      predict_set(st, model, train, test, sets[[s]], plan$settings$seed, key, plan$fits),
      error = function(e) e
    )
    if (inherits(p, "error")) {
      failed <- rbind(
        failed, data.frame(set = s, count = length(sets[[s]]), error = message_of(p))
      )
      next
    }
    unseen <- max(unseen, attr(p, "unseen"))
    if (is.null(out)) {
      out <- array(
        NA_real_, c(nrow(test), length(sets), ncol(p)), list(NULL, NULL, colnames(p))
      )
    }
    out[, s, ] <- p
  }
  if (is.null(out)) stop_model(failed$error[1])
  structure(out, failed = failed, unseen = unseen)
}

# An error's message and what it was made of, in one line.
message_of <- function(e) {
  said <- rlang::cnd_message(e)
  gsub(
    "\\s+",
    " ",
    gsub("\n[^A-Za-z\"`]*", " ", if (length(said)) said else conditionMessage(e))
  )
}

# What could not be trained: a row per size and message, with the number of training parts.
failed_sets <- function(values, model) {
  of <- values[startsWith(names(values), paste0(model, "/"))]
  of <- of[!grepl("/random/", names(of), fixed = TRUE)]
  found <- do.call(
    rbind, lapply(of, function(v) attr(if (is.list(v)) v$predictions else v, "failed"))
  )
  if (is.null(found)) {
    return(data.frame(count = integer(), parts = integer(), error = character()))
  }
  out <- stats::aggregate(list(parts = found$set), found["count"], length)
  out$error <- found$error[match(out$count, found$count)]
  out
}

most_unseen <- function(values, model) {
  of <- values[startsWith(names(values), paste0(model, "/"))]
  max(
    0L,
    unlist(lapply(of, function(v) attr(if (is.list(v)) v$predictions else v, "unseen")))
  )
}

# Rows for both the model that ranks and the one that is refitted, factors on fixed levels.
frame_for <- function(st, plan, rows) {
  out <- training_frame(st, st$models[[plan$refit]])
  if (plan$ranker != plan$refit) {
    other <- training_frame(st, st$models[[plan$ranker]])
    out[setdiff(names(other), names(out))] <- other[setdiff(names(other), names(out))]
  }
  out[rows, , drop = FALSE]
}

inner_folds_of <- function(st, train, settings, key) {
  with_stream(
    settings$seed, c("inner folds", key), draw_folds(st, train, settings$inner_folds)
  )
}

# Pieces' predictions, row by row; NA where a piece failed.
stack_folds <- function(parts, of) {
  known <- Find(Negate(is.null), parts)
  if (is.null(known)) return(NULL)
  out <- array(
    NA_real_, c(length(of), dim(known)[2:3]), list(NULL, NULL, dimnames(known)[[3]])
  )
  for (f in seq_along(parts)) if (!is.null(parts[[f]])) out[of == f, , ] <- parts[[f]]
  out
}

# p: rows x sets x outputs. -> a loss per set over these rows, NA where it lacks a prediction
losses_of_sets <- function(st, info, p, rows = TRUE) {
  if (!all(rows)) {
    info <- some_info(info, rows)
    p <- p[rows, , , drop = FALSE]
  }
  one <- function(s) {
    if (anyNA(p[, s, ])) return(NA_real_)
    metric_influence(st$metric, info$truth, slice_repeat(p, s), info$weight)$loss
  }
  vapply(seq_len(dim(p)[2]), one, 0)
}
