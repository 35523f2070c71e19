# How long a call goes on after Ctrl-C: seconds, on standard output.
#   Rscript tools/trust-interrupt.R shapley|cover|shuffle|corrected|conditional
call <- commandArgs(TRUE)[1]
mark <- tempfile()
script <- tempfile(fileext = ".R")
writeLines(c(
  "suppressMessages(library(dreher))",
  "set.seed(1)",
  "d <- as.data.frame(matrix(rnorm(20000 * 12), 20000))",
  "d$y <- d$V1 * d$V2 + rnorm(20000)",
  paste(
    "m <- ranger::ranger(y ~ ., d, num.trees = 100, min.node.size = 1, num.threads = 2,",
    "keep.inbag = TRUE, seed = 1)"
  ),
  "h <- as.data.frame(matrix(rnorm(5000 * 12), 5000))",
  "h$y <- rnorm(5000)",
  "st <- study(m, h, 'y', train = d)",
  paste0("file.create(", deparse(mark), ")"),
  switch(
    call,
    shapley = "rank_shapley(st)",
    cover = "rank_shapley(st, value = 'cover')",
    shuffle = "rank_permutation(st, repeats = 60)",
    corrected = "rank_impurity(st, correct = TRUE, refits = 10)",
    conditional = "rank_permutation(st, shuffle = 'conditional', repeats = 60)"
  ),
  "cat('not interrupted')"
), script)
pid <- tempfile()
system2(
  "sh", c("-c", shQuote(paste0("echo $$ > ", pid, "; exec Rscript ", script))),
  wait = FALSE, stdout = FALSE, stderr = FALSE
)
while (!file.exists(mark)) Sys.sleep(0.1)
Sys.sleep(1)
process <- as.integer(readLines(pid))
start <- proc.time()[[3]]
tools::pskill(process, tools::SIGINT)
while (tools::pskill(process, 0)) Sys.sleep(0.02)
cat(round(proc.time()[[3]] - start, 2))
