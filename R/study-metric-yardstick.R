# Metric functions of the package yardstick: they say of themselves what they are for and which
# way is better.

yardstick_metric <- function(fun, better, task, classes, positive) {
  direction <- attr(fun, "direction")
  known <- c(minimize = "lower", maximize = "higher")
  if (!isTRUE(direction %in% names(known))) {
    stop_input(
      "`metric` says of itself that neither less nor more is better.",
      paste0("Its direction: ", describe_value(direction), "."),
      "Give a metric with a direction."
    )
  }
  if (!is.null(better) && better != known[[direction]]) {
    stop_input(
      paste0("Of `metric` ", known[[direction]], " is better, as it says itself."),
      paste0("Given: ", describe_value(better), "."),
      "Leave `better` out."
    )
  }
  kind <- intersect(class(fun), c("numeric_metric", "prob_metric", "class_metric"))
  if (!length(kind) || (kind == "numeric_metric") != (task == "regression")) {
    stop_input(
      paste0("`metric` does not fit a ", describe_task(task, classes), " target."),
      paste0("Given: ", quote_some(class(fun)), "."),
      "Give one for the kind of target."
    )
  }
  event <- if (length(classes) == 2 && identical(as.integer(positive), 2L)) {
    "second"
  } else {
    "first"
  }
  score <- yardstick_score(fun, kind, event)
  list(
    name = "user",
    label = "your metric",
    kind = "user",
    better = known[[direction]],
    fun = score,
    task = task,
    classes = classes,
    positive = positive
  )
}

# The function called as the package wants it: columns of a table by name.
yardstick_score <- function(fun, kind, event) {
  function(truth, predicted, weights = NULL) {
    rows <- data.frame(truth = truth)
    rows$weight <- weights
    call <- list(fun, quote(rows), truth = quote(truth))
    if (!is.null(weights)) call$case_weights <- quote(weight)
    if (kind == "numeric_metric") {
      rows$estimate <- predicted
      call$estimate <- quote(estimate)
    } else if (kind == "class_metric") {
      p <- if (is.matrix(predicted)) {
        predicted
      } else if (event == "second") {
        cbind(1 - predicted, predicted)
      } else {
        cbind(predicted, 1 - predicted)
      }
      rows$estimate <- factor(levels(truth)[predicted_class(p)], levels = levels(truth))
      call <- c(call, list(estimate = quote(estimate), event_level = event))
    } else {
      p <- as.matrix(predicted)
      colnames(p) <- paste0("p", seq_len(ncol(p)))
      rows <- cbind(rows, p)
      call <- c(call, lapply(colnames(p), as.name), list(event_level = event))
    }
    as.double(eval(as.call(call))$.estimate)
  }
}
