
test_that(
  "where there are workers the longest pieces go first",
  {
    expect_identical(
    longest_first(c("d", "a", "c"), letters[1:4], c(1, 5, 2, 9)), c("d", "c", "a")
  )
  expect_identical(longest_first(letters[3:1], letters, NULL), letters[3:1])
  settings <- list(points = 0:6, search = "ranking", random = 10, floor_refits = NULL)
    plan <- list(settings = settings, units = as.list(letters[1:6]))
    fits <- vapply(
      c("random", "outer", "all rows", "inner"),
      function(part) {
        fits_of_piece(list(part = part), plan)
      },
      0
    )
    expect_identical(unname(fits), c(10, 8, 1, 8))
  }
)

test_that("warnings of pieces are given once, with how often they came", {
  said <- character()
  found <- withCallingHandlers(
    map_pieces(1:3, function(i) {
      warning("not converged")
      map_pieces(1:2, function(j) warning("no inverse"))
      if (i == 2) warning("only here")
      warn_dreher("study", "Our own.")
      i
    }),
    warning = function(w) {
      said <<- c(said, conditionMessage(w))
      invokeRestart("muffleWarning")
    }
  )
  expect_identical(found, list(1L, 2L, 3L))
  expect_identical(said[1:3], rep("Our own.", 3))
  expect_setequal(
    said[-(1:3)], c("not converged (3 times)", "no inverse (6 times)", "only here")
  )
})

# A machine of its own behind each of these addresses: the system's secure shell, with a key.
start_machines <- function(folder, addresses) {
  dir.create(folder, mode = "0700")
  inside <- function(name) file.path(folder, name)
  for (key in c("host", "user")) {
    system2("ssh-keygen", c("-q", "-t", "ed25519", "-N", "''", "-f", inside(key)))
  }
  file.copy(inside("user.pub"), inside("allowed"))
  port <- 20000 + Sys.getpid() %% 10000
  writeLines(c(
    paste("ListenAddress", addresses), paste("Port", port), paste("HostKey", inside("host")),
    paste("AuthorizedKeysFile", inside("allowed")), "StrictModes no", "UsePAM no",
    "PasswordAuthentication no", paste("PidFile", inside("pid"))
  ), inside("conf"))
  dir.create("/run/sshd", showWarnings = FALSE)
  system2("/usr/sbin/sshd", c("-f", inside("conf")))
  c(
    "-i", inside("user"), "-p", port, "-o", "StrictHostKeyChecking=no", "-o",
    "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR"
  )
}

test_that("workers on several machines by ssh, one of them lost: what one process gives", {
  if (!file.exists("/usr/sbin/sshd") && !nzchar(Sys.getenv("CI"))) skip("no sshd here")
  addresses <- c("127.0.0.2", "127.0.0.3")
  folder <- tempfile("ssh")
  options <- start_machines(folder, addresses)
  on.exit(tools::pskill(as.integer(readLines(file.path(folder, "pid")))))
  start <- paste0(
    "options(dreher.threads = 1); .libPaths(c(",
    paste(shQuote(c(dirname(system.file(package = "dreher")), .libPaths())), collapse = ", "),
    "))"
  )
  workers <- parallelly::makeClusterPSOCK(
    addresses,
    homogeneous = TRUE, rshcmd = "ssh", rshopts = options, rscript_startup = start
  )
  where <- vapply(workers, function(node) node$host, "")
  expect_identical(where, addresses)
  kiln <- demo_kiln(missing = FALSE)
  fit <- lm(strength ~ peak_temp + hold_minutes + cooling_rate, kiln$train)
  st <- study(fit, kiln$holdout, "strength", train = kiln$train, threads = 1)
  rank_there <- function(st) {
    as.data.frame(rank_predictors(
      st, by = "permutation", repeats = 3,
      resamples = draw_resamples(kiln$train, times = 6)
    ))
  }
  alone <- rank_there(st)
  future::plan("cluster", workers = workers)
  on.exit(future::plan("sequential"), add = TRUE)
  expect_identical(rank_there(st), alone)
  # One machine goes down in the middle: its piece is done again on the other.
  down <- file.path(folder, "down")
  lossy <- study(
    fit, kiln$holdout, "strength", train = kiln$train, threads = 1,
    refit_with = function(model, data, predictors) {
      if (!file.exists(down)) {
        file.create(down)
        tools::pskill(Sys.getpid(), 9)
      }
      stats::lm(strength ~ peak_temp + hold_minutes + cooling_rate, data)
    }
  )
  expect_warning(found <- rank_there(lossy), "worker")
  expect_equal(found$importance, alone$importance)
})

test_that("what pieces share is written once, and sent where workers do not see it", {
  written <- 0
  narrow <- function(piece, given) {
    written <<- written + 1
    given["add"]
  }
  shared <- share_arguments(list(add = 10, much = runif(100)), narrow)
  places <- lapply(c("a", "b", "a"), function(m) shared$of(list(model = m)))
  expect_identical(written, 2)
  expect_identical(places[[3]], places[[1]])
  plus <- function(piece, add) piece$i + add
  expect_identical(try_shared(plus, list(i = 1), places[[1]])$value, 11)
  gone <- places[[2]]
  shared$end()
  expect_false(file.exists(gone$file))
  # read before, it is not read again; unread, it is absent
  expect_identical(try_shared(plus, list(i = 2), places[[1]])$value, 12)
  expect_true(try_shared(plus, list(i = 1), gone)$absent)
  expect_match(try_shared(plus, list(i = "x"), list(add = 1))$error, "non-numeric")
  # a round in which nobody sees the file
  future::plan("multisession", workers = 2)
  on.exit(future::plan("sequential"))
  near <- TRUE
  found <- list()
  ended <- run_round(
    c("one", "two", "three"),
    start = function(key) {
      start_piece(plus, list(i = nchar(key)), if (near) gone else list(add = 10))
    },
    settle = function(key, got) found[[key]] <<- got$value,
    send = function() near <<- FALSE
  )
  expect_identical(found[c("one", "two", "three")], list(one = 13, two = 13, three = 15))
  expect_identical(ended$left, character())
})

test_that(
  "a value that does not come at once is asked for again, one that never will is not",
  {
    asked <- 0
    answers <- function(fails, error) {
      future::plan("sequential")
      f <- future::future(1)
      asked <<- 0
      registerS3method(
        "value",
        "slow_future",
        function(future, ...) {
          asked <<- asked + 1
          if (asked <= fails) stop(error)
          7
        },
        envir = asNamespace("future")
      )
      class(f) <- c("slow_future", class(f))
      value_of_future(f, pause = 0)
    }
    expect_identical(answers(2, simpleError("the queue does not answer")), 7)
    expect_error(answers(3, simpleError("the queue does not answer")), "does not answer")
    expect_identical(asked, 3)
    expect_error(answers(1, future::FutureError("the worker is gone")), "is gone")
    expect_identical(asked, 1)
  }
)
