# Tasks that share one run folder, in R, by the command, as a job array.

few <- demo_kiln(missing = FALSE)$train[1:250, ]
new <- demo_kiln(missing = FALSE)$holdout
fit <- lm(strength ~ peak_temp + hold_minutes + grog_share + operator, few)
st <- study(fit, new, "strength", train = few)
drawn <- draw_resamples(few, times = 7)
rank_in <- function(run, ...) {
  rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn, run = run, ...)
}
whole <- rank_in(NULL)
pieces_in <- function(...) {
  con <- DBI::dbConnect(RSQLite::SQLite(), file.path(..., "run.sqlite"), synchronous = NULL)
  on.exit(DBI::dbDisconnect(con))
  DBI::dbReadTable(con, "pieces")
}

test_that("tasks meet in the run folder: every piece once, and the result of one process", {
  night <- tempfile("night")
  done <- do.call(rbind, lapply(1:3, function(i) do_task(rank_in(night), i, 3)))
  expect_equal(done$pieces, c(3, 2, 2))
  expect_equal(done$done, done$pieces)
  expect_equal(nrow(pieces_in(night, "tasks", "1-of-3")), 3)
  seconds <- Sys.time()
  expect_identical(as.data.frame(rank_in(night)), as.data.frame(whole))
  held <- pieces_in(night)
  expect_equal(nrow(held), 7)
  expect_true(all(held$finished <= format(seconds, "%Y-%m-%dT%H:%M:%S")))
  expect_equal(list.files(file.path(night, "tasks")), character())
})

test_that("a task that never came is done by the call; one that came twice goes on", {
  night <- tempfile("night")
  do_task(rank_in(night), 2, 3)
  before <- pieces_in(night, "tasks", "2-of-3")$finished
  Sys.sleep(1.1)
  expect_equal(do_task(rank_in(night), 2, 3)$done, 2)
  expect_equal(pieces_in(night, "tasks", "2-of-3")$finished, before)
  expect_identical(as.data.frame(rank_in(night)), as.data.frame(whole))
  # More tasks than pieces.
  expect_equal(do_task(rank_in(tempfile()), 9, 9)$pieces, 0)
})

test_that("a piece that fails is counted, and left to the call", {
  night <- tempfile("night")
  calls <- 0
  fail <- TRUE
  wayward <- study(
    fit, new, "strength", train = few,
    refit_with = function(model, data, predictors) {
      if (fail) stop("out of glaze")
      lm(strength ~ ., data)
    }
  )
  call <- quote(
    rank_predictors(wayward, by = "permutation", repeats = 3, resamples = drawn, run = night)
  )
  done <- do_task(eval(call), 1, 2)
  expect_equal(c(done$pieces, done$done, done$failed), c(4, 0, 4))
  fail <- FALSE
  expect_equal(max(table(as.data.frame(eval(call))$predictor)), 7)
})

test_that(
  "tasks of another run, calls without a folder, and impossible tasks are refused",
  {
    night <- tempfile("night")
    do_task(rank_in(night), 1, 2)
    expect_error(
      rank_in(night, seed = 2), "holds another run", class = "dreher_error_study"
    )
    expect_error(
      do_task(rank_in(NULL), 1, 2), "needs a run folder", class = "dreher_error_input"
    )
    expect_error(
      do_task(rank_impurity, 1, 2), "no pieces to share", class = "dreher_error_input"
    )
    expect_error(do_task(rank_in(night), 3, 2), "`task`", class = "dreher_error_input")
    expect_error(
      do_task(do_task(rank_in(night), 1, 2), 1, 2),
      "not in another",
      class = "dreher_error_input"
    )
    # What failed leaves nothing behind.
    expect_identical(as.data.frame(rank_in(tempfile())), as.data.frame(whole))
  }
)

# A scheduler on this machine: controller and node in one.
start_slurm <- function(folder) {
  for (name in c("state", "spool")) dir.create(file.path(folder, name), recursive = TRUE)
  key <- "/etc/munge/munge.key"
  if (!file.exists(key)) {
    writeBin(as.raw(sample(0:255, 1024, TRUE)), key)
    system2("chown", c("munge", key))
    Sys.chmod(key, "400")
  }
  dir.create("/run/munge", showWarnings = FALSE)
  system2("chown", c("munge", "/run/munge"))
  if (system2("munge", "-n", stdout = FALSE, stderr = FALSE) != 0) {
    system2("runuser", c("-u", "munge", "--", "/usr/sbin/munged"))
  }
  host <- Sys.info()[["nodename"]]
  port <- 20000 + 2 * Sys.getpid() %% 10000
  conf <- file.path(folder, "slurm.conf")
  writeLines(
    c(
      "ClusterName=kilns", paste0("SlurmctldHost=", host, "(127.0.0.1)"),
      "SlurmUser=root", "SlurmdUser=root", "AuthType=auth/munge",
      paste0("StateSaveLocation=", folder, "/state"),
      paste0("SlurmdSpoolDir=", folder, "/spool"),
      paste0("SlurmctldPidFile=", folder, "/controller.pid"),
      paste0("SlurmdPidFile=", folder, "/node.pid"),
      paste0("SlurmctldLogFile=", folder, "/controller.log"),
      paste0("SlurmdLogFile=", folder, "/node.log"), "ProctrackType=proctrack/linuxproc",
      "TaskPlugin=task/none", "SelectType=select/cons_tres",
      "SelectTypeParameters=CR_CPU",
      "SchedulerParameters=sched_interval=1,batch_sched_delay=0", "ReturnToService=2",
      "MpiDefault=none", paste0("SlurmctldPort=", port), paste0("SlurmdPort=", port + 1),
      paste0("NodeName=", host, " NodeAddr=127.0.0.1 CPUs=2 State=UNKNOWN"),
      paste0(
        "PartitionName=kilns Nodes=", host, " Default=YES MaxTime=INFINITE State=UP"
      )
    ),
    conf
  )
  # Later versions look for control groups even where nothing asks for them.
  version <- numeric_version(sub(
    "^slurm(-wlm)? ", "", system2("slurmd", "-V", stdout = TRUE)
  ))
  if (version >= "23.11") {
    writeLines("CgroupPlugin=disabled", file.path(folder, "cgroup.conf"))
  }
  Sys.setenv(SLURM_CONF = conf)
  system2("slurmctld")
  system2("slurmd")
  for (i in 1:60) {
    state <- suppressWarnings(system2(
      "sinfo", c("-h", "-o", "%T"), stdout = TRUE, stderr = FALSE
    ))
    if (identical(as.vector(state), "idle")) return(TRUE)
    Sys.sleep(0.5)
  }
  FALSE
}
stop_slurm <- function(folder) {
  for (name in c("node.pid", "controller.pid")) {
    file <- file.path(folder, name)
    if (file.exists(file)) tools::pskill(as.integer(readLines(file)), 9)
  }
  Sys.unsetenv("SLURM_CONF")
}
libraries_here <- paste(
  c(dirname(system.file(package = "dreher")), .libPaths()), collapse = ":"
)
r_here <- file.path(R.home("bin"), "Rscript")

test_that("a job array, and futures on a batch scheduler: a lost job is done again", {
  if (!nzchar(Sys.which("slurmctld")) && !nzchar(Sys.getenv("CI"))) skip("no scheduler here")
  folder <- tempfile("slurm")
  on.exit(stop_slurm(folder))
  expect_true(start_slurm(folder))
  inside <- function(name) file.path(folder, name)
  saveRDS(fit, inside("model.rds"))
  utils::write.csv(few, inside("train.csv"), row.names = FALSE)
  utils::write.csv(new, inside("holdout.csv"), row.names = FALSE)
  words <- c(
    "stability", "--models", inside("model.rds"), "--train", inside("train.csv"), "--target",
    "strength", "--by", "permutation", "--kind", "bootstrap", "--times", "6"
  )
  plain <- do.call(command, as.list(words))
  expect_identical(plain$status, 0L)

  # An array of three tasks, of which the third never comes.
  night <- inside("night")
  writeLines(
    c(
      "#!/bin/sh", paste0("export R_LIBS=", shQuote(libraries_here)),
      paste(
        shQuote(r_here), shQuote(system.file("exec", "dreher", package = "dreher")),
        paste(shQuote(c(words, "--run", night)), collapse = " "),
        "--task $SLURM_ARRAY_TASK_ID/3"
      )
    ),
    inside("task.sh")
  )
  submitted <- system2(
    "sbatch", c("--wait", "--array=1-2", "-o", inside("task-%a.log"), inside("task.sh")),
    stdout = FALSE, stderr = FALSE, timeout = 300
  )
  expect_equal(submitted, 0)
  for (i in 1:2) {
    expect_match(
      readLines(inside(paste0("task-", i, ".log"))),
      paste0("Task ", i, " of 3: 2 of its 2 pieces are done"),
      all = FALSE
    )
  }
  gathered <- do.call(command, as.list(c(words, "--run", night)))
  expect_identical(gathered$status, 0L)
  expect_identical(gathered$out, plain$out)

  # Every piece a job; the first job is cancelled while at work.
  writeLines(
    c(
      "#!/bin/bash", "#SBATCH --output=<%= log.file %>", "#SBATCH --error=<%= log.file %>",
      "Rscript -e 'batchtools::doJobCollection(\"<%= uri %>\")'"
    ),
    inside("job.tmpl")
  )
  writeLines(
    c(
      "suppressMessages(library(dreher))",
      "few <- read.csv('train.csv', stringsAsFactors = TRUE)",
      "new <- read.csv('holdout.csv', stringsAsFactors = TRUE)",
      "lossy <- function(model, data, predictors) {",
      "  if (!file.exists('lost')) {",
      "    file.create('lost')",
      "    system2('scancel', Sys.getenv('SLURM_JOB_ID'))",
      "    Sys.sleep(60)",
      "  }",
      "  stats::lm(strength ~ ., data[c(predictors, 'strength')])",
      "}",
      "st <- study(readRDS('model.rds'), new, 'strength', train = few, refit_with = lossy)",
      "drawn <- draw_resamples(few, times = 3)",
      "rank_there <- function() as.data.frame(rank_predictors(",
      "  st, by = 'permutation', repeats = 3, resamples = drawn",
      "))",
      "future::plan(",
      "  future.batchtools::batchtools_slurm, template = file.path(getwd(), 'job.tmpl'),",
      "  workers = 2",
      ")",
      "far <- rank_there()",
      "future::plan('sequential')",
      "cat('lost:', file.exists('lost'), 'same:', identical(far, rank_there()))"
    ),
    inside("jobs.R")
  )
  there <- paste0(
    "cd ", shQuote(folder), " && R_LIBS=", shQuote(libraries_here), " ", shQuote(r_here),
    " jobs.R"
  )
  out <- system2("sh", c("-c", shQuote(there)), stdout = TRUE, stderr = TRUE, timeout = 300)
  expect_match(out, "A worker ended while at work, 1 time", all = FALSE)
  expect_match(out, "lost: TRUE same: TRUE", all = FALSE)
})
