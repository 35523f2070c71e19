# What a booster says of itself in its own document: objective, shape, classes, targets.

xgb_links <- c(
  "reg:squarederror" = "identity", "reg:pseudohubererror" = "identity",
  "reg:absoluteerror" = "identity", "binary:logistic" = "logit", "count:poisson" = "log",
  "reg:gamma" = "log", "reg:tweedie" = "log", "multi:softprob" = "softmax",
  "multi:softmax" = "softmax"
)

# The `learner` of a document, without (settings) or with its trees.
xgb_settings <- function(model) {
  if (inherits(model, "dreher_xgboost_file")) return(model$learner)
  rlang::check_installed("xgboost", "to read an xgboost model")
  config <- xgboost::xgb.config(live_booster(model))
  learner_of(if (is.list(config)) config else document_of(charToRaw(config), FALSE))
}

xgb_learner <- function(bytes, binary) learner_of(document_of(bytes, binary))

learner_of <- function(document) {
  check_xgb_version(take_numbers(document, "version", "the file"))
  learner <- take_table(document, "learner", "the file")
  objective <- take_text(
    take_table(learner, "objective", "the model"), "name", "the objective"
  )
  if (!objective %in% names(xgb_links)) {
    stop_model(
      paste0("xgboost models of objective \"", objective, "\" are not supported."),
      todo = "Give `study(predict_with = )` a function that predicts."
    )
  }
  learner
}

# The layout has been the same from 1.7 on, but for intercepts, which can be one per output.
check_xgb_version <- function(version) {
  if (length(version) != 3 || !all(is.finite(version)) ||
      any(version < 0 | version != round(version))) {
    file_fault("its version is not three numbers")
  }
  seen <- paste(version[1:2], collapse = ".") %in% c(
    "1.7", "2.0", "2.1", "3.0", "3.1", "3.2"
  )
  if (!seen) {
    warn_dreher(
      "version",
      paste0(
        "The xgboost model is of version ", paste(version, collapse = "."),
        ", which its reader has not been checked with."
      ),
      paste0(
        "It is read as the versions known; its trees must predict what the library ",
        "predicts (of a file, read_model(compare = TRUE) asks the library)."
      )
    )
  }
}

xgb_objective <- function(learner) learner$objective$name

xgb_booster <- function(learner) {
  take_text(take_table(learner, "gradient_booster", "the model"), "name", "the booster")
}

xgb_shape <- function(learner) take_table(learner, "learner_model_param", "the model")

xgb_classes <- function(learner) {
  link <- xgb_links[[xgb_objective(learner)]]
  if (link == "logit") return(c("0", "1"))
  if (link != "softmax") return(NULL)
  count <- take_count(xgb_shape(learner), "num_class", "the model")
  if (count < 2 || count > 1e5) file_fault("a model of ", count, " classes")
  as.character(seq_len(count) - 1)
}

xgb_targets <- function(learner) {
  if (is.null(xgb_shape(learner)[["num_target"]])) {
    1L
  } else {
    max(1L, take_count(xgb_shape(learner), "num_target", "the model"))
  }
}
