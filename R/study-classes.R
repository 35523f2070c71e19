# Classes that a model numbers. A model trained on 0 and 1 does not keep which of two words is 1:
# that is said by `positive`, or refused with the coding that its own predictions fit.

is_numbered <- function(classes) {
  identical(classes, as.character(seq_along(classes) - 1))
}

is_truth <- function(classes) identical(classes, c("FALSE", "TRUE"))

# own: the classes as the model names them.
check_coding <- function(st, model, own) {
  ambiguous <- length(own) == 2 && is_numbered(own) && !all(own %in% st$classes) &&
    !is_truth(st$classes) && !st$positive_said
  if (!ambiguous) return(invisible())
  fits <- coding_that_fits(st, model)
  words <- quote_some(st$classes)
  stop_study(
    paste0(
      "Model \"", model$name, "\" numbers its classes 0 and 1, and the target \"", st$target,
      "\" has the classes ", words, ": which of them is 1 is not said."
    ),
    if (!is.na(fits$class)) {
      paste0(
        "Its predictions fit 1 = \"", fits$class, "\" (AUC ",
        format(round(fits$auc, 2), nsmall = 2), " on the ", fits$rows,
        " rows; the other way round ", format(round(1 - fits$auc, 2), nsmall = 2), ")."
      )
    },
    paste0(
      "Say which one 1 stands for: ",
      paste0("positive = \"", st$classes, "\"", collapse = " or "),
      " (--positive in the command, positive: in a study file)."
    )
  )
}

# The class whose rows get the higher predictions. -> list(class: NA where none does, auc, rows)
coding_that_fits <- function(st, model) {
  kind <- if (is.null(st$train)) rows_word(st) else "training"
  rows <- few_rows(if (is.null(st$train)) st$data else st$train, 2000)$rows
  p <- tryCatch(predict_model(st, model, rows)[, 2], dreher_error = function(e) NULL)
  second <- rows[[st$target]] == st$classes[2]
  if (is.null(p) || !any(second) || all(second)) return(list(class = NA))
  auc <- auc_parts(second, p)$auc
  if (abs(auc - 0.5) < 0.02) return(list(class = NA))
  list(class = st$classes[if (auc > 0.5) 2 else 1], auc = max(auc, 1 - auc), rows = kind)
}
