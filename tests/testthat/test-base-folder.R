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

# A description as the bytes of a value, without the vectors.
encode_node <- function(json) {
  shape <- charToRaw(json)
  c(charToRaw("drv1"), writeBin(length(shape), raw(), 4, "little"), shape)
}

# A ranking over resamples whose refits take a while, as a script.
code_of_run <- function(folder, times, pause, plan = "sequential") {
  c(
    "suppressMessages(library(dreher))",
    if (plan != "sequential") paste0("future::plan('", plan, "', workers = 2)"),
    "kiln <- demo_kiln(missing = FALSE); few <- kiln$train[1:300, ]",
    paste0(
      "slow <- function(model, data, predictors) { Sys.sleep(", pause,
      "); lm(strength ~ ., data) }"
    ),
    paste0(
      "st <- study(lm(strength ~ peak_temp + hold_minutes + grog_share, few), ",
      "kiln$holdout, 'strength', train = few, refit_with = slow)"
    ),
    paste0(
      "rank_predictors(st, by = 'permutation', repeats = 3, resamples = ",
      "draw_resamples(few, times = ", times, "), run = ", deparse(folder), ")"
    )
  )
}

# Processes that work for the one of this number, and have not ended.
workers_of <- function(pid) {
  all <- list.files("/proc", "^[0-9]+$")
  stat <- lapply(file.path("/proc", all, "stat"), function(file) {
    tryCatch(
      strsplit(sub(".*\\) ", "", readLines(file, 1, warn = FALSE)), " ")[[1]][1:2],
      error = function(e) c("Z", "0"), warning = function(w) c("Z", "0")
    )
  })
  all[vapply(stat, function(x) x[1] != "Z" && x[2] == pid, NA)]
}

# Runs code in a process of its own, to which a signal is sent as soon as the folder holds so many
# pieces, or a while later. worker: one of its workers is killed first, and a piece more waited for.
run_and_kill <- function(code, folder, after, wait = 0, signal = "-9", worker = FALSE) {
  script <- tempfile(fileext = ".R")
  writeLines(code, script)
  pid <- start_r(script)
  wait_for <- function(pieces) {
    for (i in 1:600) {
      Sys.sleep(0.05)
      done <- tryCatch(nrow(pieces_in(folder)), error = function(e) 0)
      if (done >= pieces) break
    }
  }
  wait_for(after)
  Sys.sleep(wait)
  workers <- workers_of(pid)
  kill <- function(pid, signal) {
    system2("kill", c(signal, pid), stdout = FALSE, stderr = FALSE)
  }
  if (worker) {
    kill(workers[1], "-9")
    wait_for(after + 1)
    workers <- workers_of(pid)
  }
  kill(pid, signal)
  for (i in 1:200) if (any(dir.exists(file.path("/proc", workers)))) Sys.sleep(0.05)
  expect_false(any(dir.exists(file.path("/proc", workers))))
  pieces_in(folder)
}

test_that(
  paste0(
    "a run that is killed goes on where it was, with the same result to the bit, and ",
    "repeats nothing"
  ),
  {
    folder <- tempfile("run")
    code <- code_of_run(folder, times = 6, pause = 0.2)
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

# A refit that ends its worker: always, or the first time only.
lethal_study <- function(mark = NULL) {
  third <- sum(few$strength[drawn$inside[[3]]])
  dies <- eval(bquote(function(model, data, predictors) {
    first <- is.null(.(mark)) || !file.exists(.(mark))
    if (Sys.getpid() != .(Sys.getpid()) && first && sum(data$strength) == .(third)) {
      if (!is.null(.(mark))) file.create(.(mark))
      tools::pskill(Sys.getpid(), 9)
    }
    lm(strength ~ ., data)
  }))
  environment(dies) <- globalenv()
  study(
    lm(strength ~ peak_temp + hold_minutes + grog_share, few),
    kiln$holdout,
    "strength",
    train = few,
    refit_with = dies
  )
}

test_that("a worker that dies takes nothing with it, and is replaced", {
  old <- future::plan("multisession", workers = 2)
  on.exit(future::plan(old))
  expect_warning(
    rk <- rank_predictors(
      lethal_study(tempfile()), by = "permutation", repeats = 3, resamples = drawn
    ),
    "A worker ended while at work, 1 time",
    class = "dreher_warning_workers"
  )
  expect_identical(as.data.frame(rk), as.data.frame(whole))
  expect_equal(future::nbrOfWorkers(), 2, ignore_attr = TRUE)
  # Also the last piece of all, when no other is left to begin.
  at_end <- draw_resamples(few, times = 6)
  at_end$inside <- rev(at_end$inside)[c(1:3, 5, 6, 4)]
  at_end$outside <- rev(at_end$outside)[c(1:3, 5, 6, 4)]
  suppressWarnings(rk <- rank_predictors(
    lethal_study(tempfile()), by = "permutation", repeats = 3, resamples = at_end
  ))
  expect_identical(sort(unique(rk$resample)), 1:6)
})

test_that("a piece that ends every worker is given up, and the run comes to its end", {
  old <- future::plan("multisession", workers = 2)
  on.exit(future::plan(old))
  folder <- tempfile("run")
  suppressWarnings(rk <- rank_predictors(
    lethal_study(), by = "permutation", repeats = 3, resamples = drawn, run = folder
  ))
  expect_identical(detail(rk, "failed")$resample, 3L)
  expect_match(detail(rk, "failed")$error, "Its worker ended twice")
  expect_identical(sort(unique(rk$resample)), c(1L, 2L, 4L, 5L, 6L))
  expect_identical(sum(is.na(pieces_in(folder)$error)), 5L)
})

# DREHER_KILLS says how often (make trust: 20).
test_that(
  "two workers, killed at random moments: the same to the bit, and nothing done twice",
  {
    folder <- tempfile("run")
    many <- draw_resamples(few, times = 40)
    code <- code_of_run(folder, times = 40, pause = 0.1, plan = "multisession")
    before <- NULL
    for (i in seq_len(as.integer(Sys.getenv("DREHER_KILLS", "2")))) {
      had <- if (is.null(before)) 0 else nrow(before)
      if (had >= 38) {
        unlink(folder, recursive = TRUE)
        before <- NULL
        had <- 0
      }
      set.seed(i)
      now <- run_and_kill(
        code,
        folder,
        had + sample(1:3, 1),
        stats::runif(1, 0, 0.3),
        if (i %% 2) "-TERM" else "-9",
        worker = i %% 3 == 2
      )
      if (!is.null(before)) {
        expect_identical(now[match(before$key, now$key), ], before, ignore_attr = TRUE)
      }
      before <- now
    }
    st_of <- study(
      lm(strength ~ peak_temp + hold_minutes + grog_share, few),
      kiln$holdout,
      "strength",
      train = few,
      refit_with = function(model, data, predictors) lm(strength ~ ., data)
    )
    resumed <- rank_predictors(
      st_of, by = "permutation", repeats = 3, resamples = many, run = folder
    )
    expect_identical(
      resumed, rank_predictors(st_of, by = "permutation", repeats = 3, resamples = many)
    )
  }
)

test_that("a folder that is taken away during the run is said; nothing is left behind", {
  folder <- tempfile("run")
  times <- 0
  thief <- study(
    lm(strength ~ peak_temp + hold_minutes + grog_share, few),
    kiln$holdout,
    "strength",
    train = few,
    refit_with = function(model, data, predictors) {
      times <<- times + 1
      if (times == 3) unlink(folder, recursive = TRUE)
      lm(strength ~ ., data)
    }
  )
  expect_error(
    rank_predictors(thief, by = "permutation", repeats = 3, resamples = drawn, run = folder),
    "cannot be written to the run folder",
    class = "dreher_error_input"
  )
  expect_identical(
    rank_predictors(thief, by = "permutation", repeats = 3, resamples = drawn, run = folder),
    whole
  )
})

# ---- what a folder holds is data, whoever wrote it ----

folder_of_run <- function() {
  folder <- tempfile("run")
  rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn, run = folder)
  folder
}

alter_folder <- function(folder, sql, params = NULL) {
  con <- DBI::dbConnect(
    RSQLite::SQLite(), file.path(folder, "run.sqlite"), synchronous = NULL
  )
  on.exit(DBI::dbDisconnect(con))
  DBI::dbExecute(con, sql, params = params)
}

resume <- function(folder) {
  rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn, run = folder)
}

test_that("values come back from bytes to the bit, and only plain data become bytes", {
  values <- list(
    1:3, c(NA, NaN, Inf, -0, pi), c("\u00e4", NA, "", "a\"\n"), NULL, list(NULL, list()),
    matrix(1:6, 2, dimnames = list(NULL, letters[1:3])), iris, mtcars, c(TRUE, NA),
    structure(array(1 / 3, c(2, 2, 2)), failed = data.frame(set = 1L, error = "x")),
    factor(c("u", NA), levels = c("v", "u")), character(), as.raw(0:3)
  )
  for (value in values) expect_identical(decode_value(encode_value(value)), value)
  for (value in list(mean, quote(a), new.env(), Sys.Date(), list(1, y ~ x), 1i)) {
    expect_error(encode_value(value), class = "dreher_error_internal")
  }
})

test_that("altered bytes are errors or other data, never anything that runs or grows", {
  bytes <- encode_value(list(table = iris[1:4, ], m = matrix(1, 2, 2), s = letters))
  with_stream(1, "bytes", for (i in 1:2000) {
    altered <- bytes
    at <- sample(length(bytes), 3)
    altered[at] <- as.raw(sample(0:255, 3, replace = TRUE))
    value <- tryCatch(decode_value(altered), error = function(e) NULL)
    if (!is.null(value)) expect_lt(as.numeric(object.size(value)), 1e6)
  })
  for (json in c(
    '{"type":"integer","length":2000000000}', '{"type":"closure","length":1}',
    '{"type":"list","length":1000000000,"items":[]}', '[1]', '"https://example.org"'
  )) {
    expect_error(decode_value(encode_node(json)))
  }
  of_class <- paste0(
    '{"type":"integer","length":1,',
    '"attributes":{"class":{"type":"character","length":1}}}'
  )
  bad <- c(
    encode_node(of_class), writeBin(1L, raw(), 4, "little"),
    writeBin(12L, raw(), 4, "little"), charToRaw("dreher_study")
  )
  expect_error(decode_value(bad), "may not have")
})

test_that("damaged, emptied and foreign pieces are computed again, and that is said", {
  folder <- folder_of_run()
  whole_blob <- pieces_in(folder)$result[[2]]
  damage <- list(
    list("UPDATE pieces SET result = zeroblob(100) WHERE key = 'lm/2'", NULL),
    list("UPDATE pieces SET result = NULL WHERE key = 'lm/2'", NULL),
    list("UPDATE pieces SET result = 'text' WHERE key = 'lm/2'", NULL),
    list("UPDATE pieces SET checksum = NULL WHERE key = 'lm/2'", NULL),
    list("UPDATE pieces SET result = ? WHERE key = 'lm/2'", list(list({
      whole_blob[length(whole_blob) - 9] <- xor(
        whole_blob[length(whole_blob) - 9], as.raw(1)
      )
      whole_blob
    }))),
    list("UPDATE pieces SET result = ? WHERE key = 'lm/2'", list(list(serialize(1, NULL)))),
    # Sound bytes, but of another shape, or of another piece.
    list("UPDATE pieces SET result = ?, checksum = ? WHERE key = 'lm/2'", {
      bytes <- encode_value(list(table = 3, settings = "x"))
      list(list(bytes), checksum("lm/2", bytes))
    }),
    list("UPDATE pieces SET result = ?, checksum = ? WHERE key = 'lm/2'", {
      bytes <- pieces_in(folder)$result[[1]]
      list(list(bytes), checksum("lm/2", bytes))
    })
  )
  for (one in damage) {
    alter_folder(folder, one[[1]], one[[2]])
    expect_warning(again <- resume(folder), "1 damaged piece: \"lm/2\"")
    expect_identical(again, whole)
  }
})

test_that("a folder prepared by somebody else runs nothing", {
  mark <- tempfile("ran")
  trap <- eval(bquote(structure(list(), class = "trap", f = function() {
    file.create(.(mark))
  })))
  folder <- folder_of_run()
  alter_folder(
    folder,
    "UPDATE pieces SET result = ? WHERE key = 'lm/1'",
    list(list(serialize(trap, NULL)))
  )
  suppressWarnings(expect_identical(resume(folder), whole))
  for (sql in c(
      "CREATE TRIGGER t AFTER INSERT ON pieces BEGIN DELETE FROM about; END",
      "CREATE VIEW v AS SELECT load_extension('x.so')", "CREATE TABLE other (a)",
      "PRAGMA user_version = 1"
    )) {
    folder <- folder_of_run()
    alter_folder(folder, sql)
    expect_error(resume(folder), "not of format 3", class = "dreher_error_study")
  }
  expect_false(file.exists(mark))
})

test_that("one process at a time works in a folder; readers and moves do not matter", {
  folder <- folder_of_run()
  held <- lock_folder(folder)
  expect_error(
    resume(folder), paste0("By process ", Sys.getpid(), " on "), class = "dreher_error_study"
  )
  DBI::dbDisconnect(held)
  moved <- tempfile("moved")
  expect_true(file.rename(folder, moved))
  expect_identical(resume(moved), whole)
  # A reader who holds the file for a while is waited for.
  alter_folder(moved, "DELETE FROM pieces WHERE key = 'lm/4'")
  script <- tempfile(fileext = ".R")
  ready <- tempfile()
  writeLines(c(
    paste0("file <- ", deparse(file.path(moved, "run.sqlite"))),
    "con <- DBI::dbConnect(RSQLite::SQLite(), file)",
    "DBI::dbExecute(con, 'BEGIN EXCLUSIVE')",
    paste0("file.create(", deparse(ready), ")"),
    "Sys.sleep(2)",
    "DBI::dbExecute(con, 'COMMIT')"
  ), script)
  system2(file.path(R.home("bin"), "Rscript"), script, wait = FALSE, stdout = FALSE)
  for (i in 1:200) if (!file.exists(ready)) Sys.sleep(0.05)
  expect_identical(resume(moved), whole)
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
    DBI::dbExecute(con, "UPDATE about SET value = '0' WHERE name = 'results'")
    DBI::dbDisconnect(con)
    expect_error(
      resume(folder),
      "begun by another version",
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
    # A folder in which nobody may write, not even the system's administrator.
    if (dir.exists("/proc/self")) {
      expect_error(
        rank_predictors(st, by = "permutation", resamples = drawn, run = "/proc/self"),
        "cannot be written to",
        class = "dreher_error_input"
      )
    }
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
    opened <- open_folder(tempfile("run"), list(data = "x"))
    on.exit(close_folder(opened))
    full <- opened$con
    DBI::dbExecute(full, "PRAGMA max_page_count = 5")  # a disk that is full
    expect_error(
      write_folder(full, "a", runif(1e5), 1, 1L),
      "cannot be written",
      class = "dreher_error_input"
    )
    write_folder(full, "b", 1, 1, 1L)
    expect_identical(read_folder(full, c("a", "b")), list(b = 1))
    expect_error(
      rank_predictors(st, run = folder), "for rankings over", class = "dreher_error_input"
    )
  }
)
