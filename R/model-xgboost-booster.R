# The boosters themselves, over the versions of the library.

# Boosters that come from a file or another process have lost what they point at; the library
# makes it anew from the bytes they carry.
live_booster <- function(model) {
  if (is_new_booster(model)) return(model)  # later versions look after that themselves
  if (utils::packageVersion("xgboost") >= "2") {
    stop_model(
      paste0(
        "The xgboost model was made by an older version of the library than the one ",
        "installed."
      ),
      todo = paste0(
        "Save it with that version by xgb.save() as JSON, and read the file with ",
        "read_model()."
      )
    )
  }
  getExportedValue("xgboost", "xgb.Booster.complete")(model, saveraw = FALSE)
}

# Boosters keep what is known of them in a list, in later versions in attributes.
is_new_booster <- function(model) {
  is.null(model[["handle"]]) && !is.null(attr(model, "params"))
}

booster_part <- function(model, name) {
  if (is_new_booster(model)) attr(model, name, exact = TRUE) else model[[name]]
}

# Rounds that count: up to the best one after early stopping, as in the library's own predictions.
# NULL: all.
best_rounds <- function(model) {
  if (!is_new_booster(model)) return(model$best_iteration)
  best <- suppressWarnings(as.integer(xgboost::xgb.attr(model, "best_iteration")))
  if (length(best) && !is.na(best)) best + 1L
}

all_rounds <- function(model) {
  if (is_new_booster(model)) {
    as.integer(getExportedValue("xgboost", "xgb.get.num.boosted.rounds")(model))
  } else {
    model$niter
  }
}

# Kinds of the columns ("c": categories); empty where the model does not say.
booster_types <- function(model) {
  if (!is_new_booster(model)) return(character())
  as.character(xgboost::getinfo(model, "feature_type"))
}
