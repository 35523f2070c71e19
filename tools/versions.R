# Which versions of the libraries that models are made by were at hand when the tests passed; kept
# per version of R for vignette("models"). Run by tools/test.R after a run without a failure:
#   Rscript tools/versions.R [file]
file <- c(commandArgs(TRUE), "vignettes/versions.csv")[1]
libraries <- c(
  "ranger", "randomForest", "rpart", "gbm", "xgboost", "lightgbm", "glmnet", "nnet", "MASS",
  "mgcv", "earth", "partykit", "e1071", "kernlab", "parsnip", "workflows", "recipes", "pmml"
)
python <- function(module) {
  code <- paste0("import ", module, "; print(", module, ".__version__)")
  said <- suppressWarnings(system2(
    "/usr/bin/python3", c("-c", shQuote(code)), stdout = TRUE, stderr = FALSE
  ))
  if (length(said) == 1) said else NA
}
version <- c(
  vapply(libraries, function(p) {
    tryCatch(as.character(utils::packageVersion(p)), error = function(e) NA_character_)
  }, ""),
  `scikit-learn` = python("sklearn"), onnx = python("onnx")
)
here <- data.frame(
  r = paste0("R ", R.version$major, ".", sub("[.].*", "", R.version$minor)),
  library = names(version), version = unname(version)
)
old <- if (file.exists(file)) utils::read.csv(file, colClasses = "character")
kept <- old[!old$r %in% here$r, ]
all <- rbind(kept, here[!is.na(here$version), ])
utils::write.csv(all[order(all$r, all$library), ], file, row.names = FALSE)
