# Run folders, kept results, looks and rows of the formats that this version writes, for the test
# that later versions read them or refuse them with the reason. Run once for each new format:
#   Rscript data-raw/stored-folders.R
library(dreher)

stored <- file.path("tests", "testthat", "stored")
at <- function(name) file.path(stored, name)
source(file.path("tests", "testthat", "helper-stored.R"))

made <- function(name) {
  unlink(at(name), recursive = TRUE)
  dir.create(at(name), recursive = TRUE)
  at(name)
}

formats <- lapply(
  c(run = "folder_format", kept = "kept_format", rows = "print_format"),
  # earlier ones stand in run-2, kept-1, rows-0
  function(name) get0(name, asNamespace("dreher"), ifnotfound = 1L)
)

folder <- made(paste0("run-", formats$run))
stored_ranking(folder)
unlink(file.path(folder, c("run.lock", "run.owner")))

folder <- made(paste0("kept-", formats$kept))
stored_study(folder)
suppressMessages(run_study(file.path(folder, "study.yml")))
results <- file.path(folder, "study_results")
files <- list.files(results, full.names = TRUE)
unlink(files[!basename(files) %in% c("kept", "set.json", "looks.json")])
unlink(file.path(folder, "rows.csv"))
unlink(list.files(
  results, "^(run[.](lock|owner)|study-file[.]txt)$", full.names = TRUE, recursive = TRUE
))

folder <- made(paste0("rows-", formats$rows))
open_rows(stored_rows(), folder = folder)
