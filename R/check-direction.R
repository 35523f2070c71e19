# Predictions that run against the target on the rows a model was trained on: classes that were
# swapped, or a sign. No model that has learnt anything does so.

# -> a data frame, one row per model whose predictions clearly do (three and a half standard errors)
against_target <- function(st) kept(st, "against", find_against(st))

find_against <- function(st) {
  trained <- !is.null(st$train)
  rows <- few_rows(if (trained) st$train else st$data, 2000)$rows
  kind <- if (trained || isTRUE(st$seen)) "training" else "holdout"
  found <- lapply(st$models, function(m) {
    p <- tryCatch(
      predict_model(st, m, rows, if (trained) "train" else "data"),
      error = function(e) {
        pass_interrupt(e)
        NULL
      }
    )
    if (is.null(p)) return(NULL)
    worst <- way_of_predictions(st, p, rows[[st$target]])
    if (is.null(worst) || !isTRUE(worst$value + 3.5 * worst$std_error < worst$none)) {
      return(NULL)
    }
    data.frame(
      model = m$name,
      worst[c("class", "measure", "value", "std_error")],
      rows = kind,
      row.names = NULL
    )
  })
  found <- Filter(Negate(is.null), found)
  if (length(found)) do.call(rbind, unname(found))
}

# How predictions go with the target: correlation of numbers; of classes the area under the curve of
# the class for which it is lowest. NULL where it is not defined.
way_of_predictions <- function(st, p, y) {
  n <- length(y)
  if (n < 20) return(NULL)
  if (st$task == "regression") {
    r <- suppressWarnings(stats::cor(rank(p[, 1]), rank(y)))
    return(data.frame(
      class = NA_character_, measure = "rank correlation", value = r,
      std_error = sqrt(1.06 / (n - 3)), none = 0
    ))
  }
  asked <- if (length(st$classes) == 2) st$classes[st$positive] else st$classes
  each <- lapply(asked, function(k) {
    mine <- y == k
    if (min(sum(mine), sum(!mine)) < 5) return(NULL)
    ranked <- auc_parts(mine, p[, k])
    data.frame(
      class = k, measure = "AUC", value = ranked$auc,
      std_error = influence_error(ranked$u)$std_error, none = 0.5
    )
  })
  each <- do.call(rbind, each)
  if (!is.null(each)) each[which.min(each$value + 3.5 * each$std_error), ]
}

check_direction <- function(st) {
  found <- against_target(st)
  bind_findings(lapply(seq_len(NROW(found)), function(i) {
    f <- found[i, ]
    classes <- !is.na(f$class)
    finding(
      about_target,
      "against the target",
      "severe",
      f$value,
      f$measure,
      paste0(
        "The predictions of model ", f$model, " run against the target on the ", f$rows,
        " rows: ",
        if (classes) {
          paste0(
            "rows of class ", f$class,
            " get lower probabilities of it than the others (AUC "
          )
        } else {
          "the higher they are, the lower is the target (rank correlation "
        },
        format(round(f$value, 2), nsmall = 2), ")."
      ),
      if (classes) {
        "Are the classes swapped? Say `positive`, the class that the model calls 1."
      } else {
        "Is the sign of the target, or of the predictions, turned round?"
      },
      lower = max(f$value - 1.96 * f$std_error, if (classes) 0 else -1),
      upper = f$value + 1.96 * f$std_error
    )
  }))
}
