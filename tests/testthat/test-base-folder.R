# Long runs: killed and resumed, spread over workers, failing pieces, broken folders.

kiln <- demo_kiln(missing = FALSE)
few <- kiln$train[1:300, ]
st <- study(
  lm(strength ~ peak_temp + hold_minutes + grog_share, few),
  kiln$holdout,
  "strength",
  train = few
)
drawn <- draw_resamples(few, times = 6)
whole <- rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn)
pieces_in <- function(folder) {
  con <- DBI::dbConnect(
    RSQLite::SQLite(), file.path(folder, "run.sqlite"), synchronous = NULL
  )
  on.exit(DBI::dbDisconnect(con))
  DBI::dbReadTable(con, "pieces")
}

# Runs code in a process of its own, which is killed as soon as the folder holds so many pieces.
run_and_kill <- function(code, folder, after) {
  script <- tempfile(fileext = ".R")
  writeLines(code, script)
  pid_file <- tempfile()
  system2(
    "sh",
    c(
      "-c",
      shQuote(paste0(
        "echo $$ > ", pid_file, "; exec ", file.path(R.home("bin"), "Rscript"), " ",
        script
      ))
    ),
    wait = FALSE,
    stdout = FALSE,
    stderr = FALSE
  )
  for (i in 1:600) {
    Sys.sleep(0.05)
    done <- tryCatch(nrow(pieces_in(folder)), error = function(e) 0)
    if (done >= after) break
  }
  system2("kill", c("-9", readLines(pid_file)), stdout = FALSE, stderr = FALSE)
  pieces_in(folder)
}

test_that(
  paste0(
    "a run that is killed goes on where it was, with the same result to the bit, and ",
    "repeats nothing"
  ),
  {
    folder <- tempfile("run")
    code <- c(
      "library(dreher); kiln <- demo_kiln(missing = FALSE); few <- kiln$train[1:300, ]",
      paste0(
        "slow <- function(model, data, predictors) { Sys.sleep(0.2); lm(strength ~ ., ",
        "data) }"
      ),
      paste0(
        "st <- study(lm(strength ~ peak_temp + hold_minutes + grog_share, few), ",
        "kiln$holdout, 'strength', train = few, refit_with = slow)"
      ),
      paste0(
        "rank_predictors(st, by = 'permutation', repeats = 3, resamples = ",
        "draw_resamples(few, times = 6), run = ", deparse(folder), ")"
      )
    )
    before <- NULL
    for (after in c(1, 3, 4)) {
      now <- run_and_kill(code, folder, after)
      expect_gte(nrow(now), after)
      if (!is.null(before)) {
        expect_identical(now[match(before$key, now$key), ], before, ignore_attr = TRUE)
      }  # nothing was done again
      before <- now
    }
    calls <- 0
    counting <- function(model, data, predictors) {
      calls <<- calls + 1
      lm(strength ~ ., data)
    }
    own <- study(
      lm(strength ~ peak_temp + hold_minutes + grog_share, few),
      kiln$holdout,
      "strength",
      train = few,
      refit_with = counting
    )
    resumed <- rank_predictors(
      own, by = "permutation", repeats = 3, resamples = drawn, run = folder
    )
    expect_identical(calls + nrow(before), 6)
    expect_identical(as.data.frame(resumed), as.data.frame(whole))
  }
)

test_that("two workers, and workers reached over the network, give the same to the bit", {
  old <- future::plan("multisession", workers = 2)
  on.exit(future::plan(old))
  expect_identical(
    rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn), whole
  )
  future::plan("cluster", workers = c("127.0.0.1", "localhost"))
  folder <- tempfile("run")
  expect_identical(
    rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn, run = folder),
    whole
  )
  expect_identical(nrow(pieces_in(folder)), 6L)
})

test_that("pieces that fail are tried twice, recorded and said; the others go on", {
  tries <- 0
  fails <- function(model, data, predictors) {
    if (nrow(unique(data)) == nrow(unique(
        few[drawn$inside[[2]], c("strength", predictors)]
      )) && identical(sum(data$strength), sum(few$strength[drawn$inside[[2]]]))) {
      tries <<- tries + 1
      stop("the kiln is cold")
    }
    lm(strength ~ ., data)
  }
  odd <- study(
    lm(strength ~ peak_temp + hold_minutes + grog_share, few),
    kiln$holdout,
    "strength",
    train = few,
    refit_with = fails
  )
  folder <- tempfile("run")
  expect_warning(
    rk <- rank_predictors(
      odd, by = "permutation", repeats = 3, resamples = drawn, run = folder
    ),
    "1 of 6 pieces failed",
    class = "dreher_warning_pieces"
  )
  expect_identical(tries, 2)
  expect_identical(detail(rk, "failed")$resample, 2L)
  expect_match(detail(rk, "failed")$error, "the kiln is cold")
  expect_identical(as.data.frame(rk), {
    d <- as.data.frame(whole)[whole$resample != 2, ]
    rownames(d) <- NULL
    d
  })
  expect_match(
    pieces_in(folder)$error[pieces_in(folder)$attempts == 2], "the kiln is cold"
  )
  expect_match(
    paste(suppressWarnings(format_stability(stability(rk))), collapse = " "),
    "One piece failed"
  )
  all_fail <- study(
    lm(strength ~ peak_temp, few),
    kiln$holdout,
    "strength",
    train = few,
    refit_with = function(model, data, predictors) stop("no clay")
  )
  expect_error(
    rank_predictors(all_fail, by = "permutation", resamples = drawn),
    "No model could be trained",
    class = "dreher_error_study"
  )
})

test_that("a worker that dies takes nothing with it", {
  main <- Sys.getpid()
  dies <- eval(bquote(function(model, data, predictors) {
    if (Sys.getpid() != .(main)) tools::pskill(Sys.getpid(), 9)
    lm(strength ~ ., data)
  }))
  odd <- study(
    lm(strength ~ peak_temp + hold_minutes + grog_share, few),
    kiln$holdout,
    "strength",
    train = few,
    refit_with = dies
  )
  old <- future::plan("multisession", workers = 2)
  on.exit(future::plan(old))
  rk <- rank_predictors(odd, by = "permutation", repeats = 3, resamples = drawn)
  expect_identical(as.data.frame(rk), as.data.frame(whole))
})

test_that(
  paste0(
    "folders of other runs, broken files and places that cannot be written to are ",
    "refused, and nothing is lost"
  ),
  {
    folder <- tempfile("run")
    rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn, run = folder)
    before <- pieces_in(folder)
    expect_error(
      rank_predictors(
        st, by = "permutation", repeats = 3, resamples = drawn, run = folder, seed = 2
      ),
      "another run: other seed",
      class = "dreher_error_study"
    )
    other <- study(lm(strength ~ peak_temp, few), kiln$holdout, "strength", train = few)
    expect_error(
      rank_predictors(
        other, by = "permutation", repeats = 3, resamples = drawn, run = folder
      ),
      "other models",
      class = "dreher_error_study"
    )
    con <- DBI::dbConnect(
      RSQLite::SQLite(), file.path(folder, "run.sqlite"), synchronous = NULL
    )
    DBI::dbExecute(con, "UPDATE about SET value = '0.0.1' WHERE name = 'version'")
    DBI::dbDisconnect(con)
    expect_error(
      rank_predictors(
        st, by = "permutation", repeats = 3, resamples = drawn, run = folder
      ),
      "other version",
      class = "dreher_error_study"
    )
    expect_identical(pieces_in(folder), before)
    broken <- tempfile("run")
    dir.create(broken)
    writeLines(rep("this is no run file", 100), file.path(broken, "run.sqlite"))
    expect_error(
      rank_predictors(st, by = "permutation", resamples = drawn, run = broken),
      "cannot be read",
      class = "dreher_error_input"
    )
    expect_length(readLines(file.path(broken, "run.sqlite")), 100)
    expect_error(
      rank_predictors(
        st,
        by = "permutation",
        resamples = drawn,
        run = file.path(file.path(broken, "run.sqlite"), "inside")
      ),
      "cannot be made",
      class = "dreher_error_input"
    )
    full <- open_folder(tempfile("run"), list(data = "x"))
    on.exit(DBI::dbDisconnect(full))
    DBI::dbExecute(full, "PRAGMA max_page_count = 5")  # a disk that is full
    expect_error(
      write_folder(full, "a", runif(1e5), 1, 1L),
      "cannot be written",
      class = "dreher_error_input"
    )
    write_folder(full, "b", 1, 1, 1L)
    expect_identical(read_folder(full), list(b = 1))
    expect_error(
      rank_predictors(st, run = folder), "for rankings over", class = "dreher_error_input"
    )
  }
)
