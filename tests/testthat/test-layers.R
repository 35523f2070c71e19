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
    # the one print of the core
    if (basename(f) == "base-progress.R") {
      code <- gsub("\\{cli::pb_|knitr.in.progress", "", code)
    }
    if (basename(f) == "model-forest.R") code <- code[!grepl("writeLines|print[.]", code)]
    found <- grep(
      paste0(
        "ggplot2|\\bcli::(?!hash_)|rmarkdown|knitr|optparse|\\bcat\\(|\\bprint\\(|",
        "writeLines\\(|commandArgs|plot\\("
      ),
      code,
      value = TRUE,
      perl = TRUE
    )
    expect_identical(found, character(), label = basename(f))
  }
})

# All functions and values defined at the top of the package's files: name, file, and what their
# code names that it does not define itself.
definitions <- function(files) {
  do.call(rbind, lapply(files, function(f) {
    found <- lapply(parse(f, keep.source = FALSE), function(x) {
      if (!is.call(x) || !identical(x[[1]], as.name("<-")) || !is.name(x[[2]])) return(NULL)
      value <- x[[3]]
      is_function <- is.call(value) && identical(value[[1]], as.name("function"))
      as_function <- if (is_function) value else call("function", NULL, value)
      out <- data.frame(name = as.character(x[[2]]), file = basename(f))
      out$names <- list(codetools::findGlobals(eval(as_function, baseenv())))
      out
    })
    do.call(rbind, found)
  }))
}

root_of <- function(files) dirname(dirname(files[1]))

package_files <- function() {
  files <- source_files()
  files[!grepl("RcppExports|dreher-package", basename(files))]
}

test_that("every file belongs to a layer, and only calls what stands above it", {
  files <- package_files()
  if (!length(files)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  layers <- c(
    "base", "model", "study", "check", "demo", "ranking", "stability", "reduction",
    "effect", "view", "main"
  )
  known <- definitions(files)
  layer <- sub("[-.].*", "", known$file)
  expect_setequal(setdiff(layer, layers), character())
  home <- stats::setNames(match(layer, layers), known$name)
  for (i in seq_len(nrow(known))) {
    called <- intersect(known$names[[i]], known$name)
    late <- called[home[called] > home[[known$name[i]]]]
    expect_identical(late, character(), label = paste(known$file[i], known$name[i]))
  }
})

test_that("no name is defined twice", {
  files <- package_files()
  if (!length(files)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  name <- definitions(files)$name
  expect_identical(unique(name[duplicated(name)]), character())
})

test_that("no two files use each other, however far around, and nothing stands unused", {
  files <- package_files()
  if (!length(files)) {
    skip("the sources are not at hand (installed package checked elsewhere)")
  }
  known <- definitions(files)
  expect_identical(
    known$name[duplicated(known$name)], character(), label = "defined twice"
  )
  home <- stats::setNames(known$file, known$name)
  called <- lapply(known$names, intersect, known$name)
  from <- rep(known$file, lengths(called))
  to <- home[unlist(called)]
  nodes <- unique(known$file)
  reach <- matrix(FALSE, length(nodes), length(nodes), dimnames = list(nodes, nodes))
  reach[cbind(from, to)[from != to, ]] <- TRUE
  for (k in nodes) reach <- reach | outer(reach[, k], reach[k, ], "&")
  expect_identical(nodes[diag(reach)], character(), label = "files in a circle")

  stated <- grep(
    "^S3method", readLines(file.path(root_of(files), "NAMESPACE")), value = TRUE
  )
  parts <- strsplit(
    gsub("S3method\\(|[A-Za-z0-9]+::|\\)|[ \"]", "", stated), ",", fixed = TRUE
  )
  # a third part names the function
  methods <- vapply(
    parts, function(p) if (length(p) > 2) p[3] else paste0(p[1], ".", p[2]), ""
  )
  elsewhere <- paste(
    unlist(lapply(
      c(
        list.files(
          file.path(root_of(files), "inst"),
          "[.]Rmd$",
          full.names = TRUE,
          recursive = TRUE
        ),
        list.files(file.path(root_of(files), "exec"), full.names = TRUE)
      ),
      readLines,
      warn = FALSE
    )),
    collapse = "\n"
  )
  used <- unlist(Map(setdiff, called, known$name))
  # Methods for classes of the package's own are found by their generic.
  generics <- known$name[vapply(known$names, function(n) "UseMethod" %in% n, NA)]
  method <- vapply(known$name, function(n) any(startsWith(n, paste0(generics, "."))), NA)
  idle <- setdiff(known$name[!method], c(used, getNamespaceExports("dreher"), methods))
  idle <- idle[!vapply(idle, grepl, NA, x = elsewhere, fixed = TRUE)]
  # for methods of importance that are added from outside the package
  expect_identical(setdiff(idle, "register_method"), character())
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
