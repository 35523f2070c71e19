# Is the code in order? Rscript tools/lint.R
#
# R: the rules of .lintr, and the layout of tools/format.R. C++: the layout of .clang-format, where
# clang-format is of the version that laid it out; lines of at most 100 characters in any case.

folders <- c("R", "tests/testthat", "bench", "data-raw", "tools")
files <- list.files(folders, "[.]R$", full.names = TRUE)
files <- setdiff(files, "R/RcppExports.R")
sources <- setdiff(list.files("src", "[.](cpp|h)$", full.names = TRUE), "src/RcppExports.cpp")
faults <- character()

cores <- min(2L, parallel::detectCores())
found <- parallel::mclapply(files, lintr::lint, mc.cores = cores)
stopifnot(!vapply(found, inherits, NA, "try-error"))
for (l in unlist(found, recursive = FALSE)) {
  faults <- c(faults, paste0(l$filename, ":", l$line_number, ": ", l$message))
}

layout <- new.env()
sys.source("tools/format.R", layout)
in_order <- unlist(parallel::mclapply(files, function(f) {
  lines <- readLines(f, encoding = "UTF-8")
  laid <- tryCatch(layout$format_lines(lines), error = function(e) NULL)
  identical(lines, laid)
}, mc.cores = cores))
faults <- c(faults, sprintf("%s: run make format", files[!in_order]))

for (f in sources) {
  long <- which(nchar(readLines(f)) > 100)
  if (length(long)) faults <- c(faults, paste0(f, ":", long, ": more than 100 characters"))
}
version <- suppressWarnings(tryCatch(
  system2("clang-format", "--version", stdout = TRUE), error = function(e) ""
))
if (any(grepl("version 14", version))) {
  status <- system2("clang-format", c("--dry-run", "-Werror", sources), stdout = FALSE)
  if (status != 0) faults <- c(faults, "src: run make format")
}

# Spelling of help, vignettes, README and NEWS, and of the messages in the code.
known <- readLines("inst/WORDLIST")
misspelt <- spelling::spell_check_package(".", vignettes = TRUE)
if (nrow(misspelt)) {
  places <- vapply(misspelt$found, function(x) paste(head(x, 2), collapse = ", "), "")
  faults <- c(faults, paste0("spelling: ", misspelt$word, " (", places, ")"))
}
messages <- unlist(lapply(list.files("R", "[.]R$", full.names = TRUE), function(f) {
  data <- utils::getParseData(parse(f, keep.source = TRUE), includeText = TRUE)
  text <- data$text[data$token == "STR_CONST"]
  text[lengths(strsplit(text, " ", fixed = TRUE)) >= 4]
}))
messages <- gsub(
  "`[^`]*`|\\\\\"[^\"]*\\\\\"|[a-z_.]+\\(|--[a-z-]+|\\\\n|<[^>]*>", " ", messages
)
odd <- spelling::spell_check_text(messages, ignore = known, lang = "en_GB")
if (nrow(odd)) faults <- c(faults, paste0("spelling in a message: ", odd$word))

cat(faults, sep = "\n")
cat(length(faults), "faults in", length(files) + length(sources), "files\n")
quit(status = length(faults) > 0)
