# The core computes and signals; it neither prints, draws, writes reports nor reads argv. Read from
# the package's own namespace, so that it holds wherever the tests run.

# Functions of a layer, found by the file they were written in.
source_files <- function() {
  root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
  list.files(file.path(root, "R"), "[.]R$", full.names = TRUE)
}

test_that("core files name no interface code", {
  files <- source_files()
  if (!length(files)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  core <- files[!grepl("^(view|main)-|RcppExports|dreher-package", basename(files))]
  expect_gt(length(core), 15)
  for (f in core) {
    code <- grep("^\\s*#", readLines(f), value = TRUE, invert = TRUE)
    found <- grep(
      "ggplot2|\\bcli::|rmarkdown|knitr|optparse|\\bcat\\(|\\bprint\\(|writeLines\\(|commandArgs|plot\\(",
      code,
      value = TRUE
    )
    found <- found[!grepl("print[.]dreher_forest|<flat forest", found)]
    expect_identical(found, character(), label = basename(f))
  }
})

test_that("every file belongs to a layer, and only calls what stands above it", {
  files <- source_files()
  if (!length(files)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  layers <- c(
    "base", "model", "study", "check", "demo", "ranking", "stability", "reduction",
    "view", "main"
  )
  own <- files[!grepl("RcppExports|dreher-package", basename(files))]
  layer_of <- sub("[-.].*", "", basename(own))
  expect_setequal(setdiff(layer_of, layers), character())
  defined <- lapply(own, function(f) {
    e <- parse(f, keep.source = FALSE)
    unlist(lapply(e, function(x) {
      if (is.call(x) && identical(x[[1]], as.name("<-")) && is.name(x[[2]])) {
        as.character(x[[2]])
      }
    }))
  })
  home <- stats::setNames(rep(layer_of, lengths(defined)), unlist(defined))
  for (i in seq_along(own)) {
    called <- unique(all.names(as.call(c(
      as.name("{"), as.list(parse(own[i], keep.source = FALSE))
    ))))
    below <- called[called %in% names(home)]
    late <- below[match(home[below], layers) > match(layer_of[i], layers)]
    # Generics are called before their methods are known; demo data read a table.
    late <- setdiff(late, c("plot"))
    expect_identical(late, character(), label = basename(own[i]))
  }
})

test_that("only the bridge includes Rcpp, and no C++ file draws random numbers", {
  root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
  files <- list.files(file.path(root, "src"), "[.](cpp|h)$", full.names = TRUE)
  if (!length(files)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  for (f in files[!grepl("bridge-|RcppExports", basename(files))]) {
    expect_false(any(grepl("Rcpp|R_ext|Rinternals", readLines(f))), label = basename(f))
  }
  expect_false(any(grepl(
    "rand\\(|mt19937|unif_rand|R::r", unlist(lapply(files, readLines))
  )))
})
