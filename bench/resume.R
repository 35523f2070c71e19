# A run over resamples, killed at ten random moments and resumed each time: is the result the same
# to the bit, and is no finished piece done again? Run with: Rscript bench/resume.R Results:
# bench/results/resume.csv
library(dreher)
folder <- tempfile("run")
setting <- c(
  "library(dreher)", "kiln <- demo_kiln(missing = FALSE)", "train <- kiln$train[1:600, ]",
  paste0(
    "st <- study(list(forest = ranger::ranger(strength ~ peak_temp + hold_minutes + ",
    "grog_share + cooling_rate, train, num.trees = 100, num.threads = 1, seed = 1), ",
    "linear = lm(strength ~ peak_temp + hold_minutes, train)), kiln$holdout, ",
    "'strength', train = train, threads = 1)"
  ),
  paste0(
    "rank <- function(...) rank_predictors(st, by = 'permutation', repeats = 3, ",
    "resamples = draw_resamples(train, times = 40), ...)"
  )
)
for (line in setting) eval(parse(text = line))
whole <- rank()
script <- tempfile(fileext = ".R")
writeLines(c(setting, paste0("rank(run = ", deparse(folder), ")")), script)
pieces <- function() {
  con <- DBI::dbConnect(
    RSQLite::SQLite(), file.path(folder, "run.sqlite"), synchronous = NULL
  )
  on.exit(DBI::dbDisconnect(con))
  DBI::dbGetQuery(con, "SELECT key, finished, hex(result) AS result FROM pieces")
}
set.seed(1)
known <- NULL
kept <- logical()
for (kill in 1:10) {
  pid <- tempfile()
  system2(
    "sh",
    c(
      "-c",
      shQuote(paste0(
        "echo $$ > ", pid, "; exec ", file.path(R.home("bin"), "Rscript"), " ", script
      ))
    ),
    wait = FALSE,
    stdout = FALSE,
    stderr = FALSE
  )
  begun <- NROW(known)  # let it start, then kill it at a random moment
  for (i in 1:400) {
    if (tryCatch(nrow(pieces()), error = function(e) 0) > begun) {
      break
    } else {
      Sys.sleep(0.02)
    }
  }
  Sys.sleep(runif(1, 0, 0.6))
  system2("kill", c("-9", readLines(pid)), stdout = FALSE, stderr = FALSE)
  Sys.sleep(0.2)
  now <- tryCatch(pieces(), error = function(e) NULL)
  if (!is.null(known)) {
    kept <- c(
      kept,
      isTRUE(all.equal(
        now[match(known$key, now$key), ], known, check.attributes = FALSE
      ))
    )
  }
  known <- now
}
before <- NROW(known)
resumed <- rank(run = folder)
result <- data.frame(
  kills = 10,
  pieces_before_the_last = before,
  pieces = nrow(pieces()),
  finished_pieces_kept = all(kept),
  same_to_the_bit = identical(resumed, whole)
)
print(result)
write.csv(result, "bench/results/resume.csv", row.names = FALSE)
