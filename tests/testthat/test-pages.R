# What README and vignettes show runs: every block of R, every line of the command.

root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
pages <- c(
  file.path(root, "README.md"),
  list.files(file.path(root, "vignettes"), "Rmd$", full.names = TRUE)
)
at_hand <- all(file.exists(pages)) && length(pages) > 5
# A page is read in a session of its own, which has looked at no untouched rows yet.
in_new_session <- function(code) {
  before <- looks_here$all
  on.exit(looks_here$all <- before)
  looks_here$all <- list()
  code
}
quiet <- function(code) suppressMessages(suppressWarnings(utils::capture.output(code)))

# Lines of the blocks that begin with this fence.
blocks_of <- function(file, fence) {
  lines <- readLines(file, encoding = "UTF-8")
  inside <- wanted <- FALSE
  keep <- rep(FALSE, length(lines))
  for (i in seq_along(lines)) {
    if (startsWith(lines[i], "```")) {
      wanted <- !inside && lines[i] == fence
      inside <- !inside
    } else {
      keep[i] <- wanted
    }
  }
  lines[keep]
}

# A folder with the files that the pages speak of, small ones.
folder <- tempfile("pages")
dir.create(folder)
tiles <- kiln_rows(220)[c(
  "peak_temp", "hold_minutes", "clay_source", "operator", "grog_share", "strength"
)]
local({
  put <- function(d, name) {
    utils::write.csv(d, file.path(folder, name), row.names = FALSE)
  }
  put(stats::setNames(tiles, sub("strength", "y", names(tiles))), "mine.csv")
  for (name in c("tiles.csv", "train.csv")) put(tiles, name)
  put(kiln_rows(80, "holdout")[names(tiles)], "holdout.csv")
  put(kiln_rows(80, "untouched")[names(tiles)], "untouched.csv")
  put(data.frame(predictor = names(tiles)[1:5]), "dictionary.csv")
  put(kiln_rows(80, "holdout")[names(tiles)], "new.csv")
  for (name in c("forest.rds", "models.rds")) {
    saveRDS(small_forest(strength ~ ., tiles), file.path(folder, name))
  }
})

test_that("the README's sessions run", {
  skip_if_not(at_hand, "the pages are not beside the installed package")
  code <- blocks_of(pages[1], "```r")
  expect_gt(length(code), 20)
  # as they stand, but for how often models are trained again
  code <- sub("times = 100", "times = 4", code, fixed = TRUE)
  code <- sub("noise_floor(st)", "noise_floor(st, refits = 19)", code, fixed = TRUE)
  code <- sub("repeats = 1, thin", "repeats = 1, folds = 3, thin", code, fixed = TRUE)
  code <- sub("num.trees = 100", "num.trees = 10", code, fixed = TRUE)
  old <- setwd(folder)    # nolint: undesirable_function_linter.
  on.exit(setwd(old))     # nolint: undesirable_function_linter.
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off(), add = TRUE)
  file <- file.path(folder, "readme.R")
  writeLines(code, file)
  expect_no_error(in_new_session(quiet(source(
    file, local = new.env(parent = globalenv()), print.eval = TRUE
  ))))
})

test_that("every line of the command that a page shows runs", {
  skip_if_not(at_hand, "the pages are not beside the installed package")
  lines <- unlist(lapply(pages, blocks_of, fence = "```"))
  lines <- strsplit(gsub("\\\\\n *", "", paste(lines, collapse = "\n")), "\n")[[1]]
  lines <- unique(trimws(sub("  +#.*$", "", lines[startsWith(lines, "dreher ")])))
  # the demo has a test of its own
  lines <- lines[!startsWith(lines, "dreher demo")]
  expect_gt(length(lines), 12)
  old <- setwd(folder)    # nolint: undesirable_function_linter.
  on.exit(setwd(old))     # nolint: undesirable_function_linter.
  for (line in lines) {
    line <- sub("--times 300", "--times 4", line, fixed = TRUE)
    line <- sub("--floor-refits 99", "--floor-refits 19", line, fixed = TRUE)
    if (grepl(" init ", line)) line <- paste(line, "--minutes 0.1")
    words <- scan(text = sub("^dreher ", "", line), what = "", quiet = TRUE)
    x <- do.call(command, as.list(words))
    # a study file's faults and severe findings are what `check` is there to say
    expect_true(
      x$status == 0 || (x$status == 1 && words[1] == "check" && !nzchar(x$err)),
      label = paste(line, x$err)
    )
  }
})

test_that("the code of every vignette runs", {
  skip_if_not(at_hand, "the pages are not beside the installed package")
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off())
  knitr::opts_chunk$set(error = FALSE, fig.path = paste0(tempfile("figures"), "/"))
  on.exit(knitr::opts_chunk$restore(), add = TRUE)
  for (page in pages[-1]) {
    failed <- tryCatch(
      {
        in_new_session(quiet(knitr::knit(
          page, tempfile(fileext = ".md"), quiet = TRUE, envir = new.env(parent = globalenv())
        )))
        NULL
      },
      error = conditionMessage
    )
    expect_null(failed, label = basename(page))
  }
})
