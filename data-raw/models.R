# Model files of the demo: boosted trees for the strength of the tiles, on the numbers known
# before the firing is over. Needs xgboost 1.7 and lightgbm 4. Run from the package's folder after
# data-raw/kiln.R.
kiln <- read.csv("inst/extdata/kiln_train.csv.gz")
columns <- c(
  "grog_share", "water_loss", "drying_hours", "drying_humidity", "glaze_viscosity",
  "peak_temp", "hold_minutes", "pyro_left", "pyro_right", "cooling_rate",
  "shelf_position", "room_humidity"
)
x <- as.matrix(kiln[columns])

rows <- xgboost::xgb.DMatrix(x, label = kiln$strength, nthread = 1)
fit <- xgboost::xgb.train(
  list(
    objective = "reg:squarederror",
    max_depth = 3,
    eta = 0.2,
    base_score = mean(kiln$strength),
    nthread = 1
  ),
  rows,
  nrounds = 40
)
for (format in c("json", "ubj")) {
  bytes <- xgboost::xgb.save.raw(fit, raw_format = format)
  folder <- if (format == "ubj") c("inst", "extdata") else c("tests", "testthat")
  writeBin(bytes, file.path(folder[1], folder[2], paste0("kiln_boosted.", format)))
}

fit <- lightgbm::lgb.train(
  list(
    objective = "regression",
    num_leaves = 8,
    learning_rate = 0.2,
    num_threads = 1,
    deterministic = TRUE
  ),
  lightgbm::lgb.Dataset(x, label = kiln$strength),
  nrounds = 40,
  verbose = -1
)
text <- fit$save_model_to_string()
writeLines(text, file.path("tests", "testthat", "kiln_boosted.txt"), sep = "")
