# Every example of every help page runs.

test_that("the examples of all help pages run", {
  root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
  pages <- list.files(file.path(root, "man"), "[.]Rd$", full.names = TRUE)
  skip_if(
    !length(pages), "the help pages are not at hand (installed package checked elsewhere)"
  )
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off())
  # As a user's script sees them, without the package's inside.
  session <- new.env(parent = globalenv())
  failed <- unlist(lapply(pages, function(page) {
    file <- tempfile(fileext = ".R")
    tools::Rd2ex(page, file)
    if (!file.exists(file)) return(NULL)
    message <- tryCatch(
      {
        suppressMessages(suppressWarnings(utils::capture.output(source(
          file, local = new.env(parent = session)
        ))))
        NULL
      },
      error = conditionMessage
    )
    if (!is.null(message)) paste(basename(page), message)
  }))
  expect_null(failed)
})
