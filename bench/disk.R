# Rows that are larger than memory: time and peak memory of opening, scoring and ranking them, each
# step in a process of its own; growth as the slope of log time on log rows. Results:
# bench/results/disk.csv and disk-growth.csv. Run with:
#   Rscript bench/disk.R [source] [rows in thousands ...]
# source: parquet (default) or postgres (a server of its own in a temporary folder). Default rows:
# 1000 3000 10000, which take 12 GB of disk for Parquet, 25 for PostgreSQL, and an hour or two.
asked <- commandArgs(TRUE)
source_kind <- if (length(asked)) asked[1] else "parquet"
thousands <- if (length(asked) > 1) as.integer(asked[-1]) else c(1000L, 3000L, 10000L)
p <- 50
here <- tempfile("disk", Sys.getenv("DREHER_DISK", "/tmp"))
dir.create(here)
Sys.chmod(here, "0777", use_umask = FALSE)

simulate <- function(n, seed) {
  set.seed(seed)
  x <- as.data.frame(matrix(round(rnorm(n * p), 3), n))
  names(x) <- paste0("x", seq_len(p))
  x$y <- round(2 * x$x1 + x$x2 * x$x3 + abs(x$x4) + rnorm(n), 3)
  x
}

# One step in a fresh process -> seconds elapsed and of CPU, peak memory in MB.
in_process <- function(code) {
  script <- tempfile(fileext = ".R")
  out <- tempfile()
  writeLines(
    c(
      "suppressMessages(library(dreher))", "took <- system.time({", code, "})",
      "peak <- grep('VmHWM', readLines('/proc/self/status'), value = TRUE)",
      sprintf(
        paste0(
          "cat(sum(took[1:2]), took[[3]], as.numeric(gsub('[^0-9]', '', peak)) / ",
          "1024, file = '%s')"
        ),
        out
      )
    ),
    script
  )
  status <- system2("Rscript", script)
  if (status != 0) stop("a step failed")
  stats::setNames(scan(out, quiet = TRUE), c("cpu", "elapsed", "peak_mb"))
}

train <- simulate(20000, 1)
fit <- lightgbm::lightgbm(
  as.matrix(train[seq_len(p)]), train$y, nrounds = 100L, verbose = -1L, num_threads = 1L,
  params = list(objective = "regression", num_leaves = 31L, learning_rate = 0.1)
)
model_file <- file.path(here, "model.txt")
lightgbm::lgb.save(fit, model_file)
saveRDS(train, file.path(here, "train.rds"))

write_parquet_rows <- function(thousand, folder) {
  dir.create(folder)
  for (i in seq_len(ceiling(thousand / 250))) {
    n <- min(250, thousand - 250 * (i - 1)) * 1000
    nanoparquet::write_parquet(
      simulate(n, 100 + i), file.path(folder, sprintf("part-%04d.parquet", i))
    )
  }
}

start_server <- function() {
  bin <- rev(Sys.glob("/usr/lib/postgresql/*/bin"))[1]
  data <- file.path(here, "pg")
  as_server <- function(words) {
    root <- identical(unname(Sys.info()[["effective_user"]]), "root")
    if (root) words <- c("runuser", "-u", "postgres", "--", words)
    system2(words[1], words[-1], stdout = FALSE, stderr = FALSE)
  }
  as_server(c(file.path(bin, "initdb"), "-D", data, "-A", "trust", "-U", "postgres"))
  as_server(c(
    file.path(bin, "pg_ctl"), "-D", data, "-w", "-l", file.path(here, "pg.log"), "-o",
    shQuote(paste0("-c listen_addresses='' -c fsync=off -k ", here)), "start"
  ))
  function() as_server(c(file.path(bin, "pg_ctl"), "-D", data, "-m", "immediate", "stop"))
}

write_table <- function(thousand, table) {
  psql <- function(words, input = "") {
    system2(
      "psql", c("-q", "-h", here, "-U", "postgres", "-c", shQuote(words)), stdin = input
    )
  }
  psql(paste0(
    "CREATE TABLE ", table, " (",
    paste(c(paste0("x", seq_len(p)), "y"), "double precision", collapse = ", "), ")"
  ))
  for (i in seq_len(ceiling(thousand / 250))) {
    n <- min(250, thousand - 250 * (i - 1)) * 1000
    file <- file.path(here, "part.csv")
    data.table::fwrite(simulate(n, 100 + i), file, col.names = FALSE)
    psql(paste("COPY", table, "FROM STDIN CSV"), file)
    unlink(file)
  }
}

connect <- sprintf(
  paste0(
    "DBI::dbConnect(RPostgreSQL::PostgreSQL(), user = 'postgres', dbname = ",
    "'postgres', host = '%s')"
  ),
  here
)
stop_server <- if (source_kind == "postgres") start_server() else function() NULL
rows <- list()
for (thousand in thousands) {
  kept <- file.path(here, paste0("rows", thousand))
  if (source_kind == "postgres") {
    table <- paste0("tiles", thousand)
    write_table(thousand, table)
    source_code <- sprintf("function() %s, query = '%s'", connect, table)
  } else {
    folder <- file.path(here, paste0("parquet", thousand))
    write_parquet_rows(thousand, folder)
    source_code <- sprintf("'%s'", folder)
  }
  study_code <- sprintf(
    paste0(
      "st <- study(read_model('%s'), open_rows('%s'), 'y', train = readRDS('%s'), ",
      "threads = 1)"
    ),
    model_file,
    kept,
    file.path(here, "train.rds")
  )
  steps <- list(
    open = sprintf("open_rows(%s, folder = '%s', quiet = TRUE)", source_code, kept),
    score = c(study_code, "print(score_models(st))"),
    permutation = c(study_code, "print(rank_permutation(st))"),
    sample = c(study_code, "print(rank_permutation(st, max_rows = 1e5))")
  )
  for (step in names(steps)) {
    found <- in_process(steps[[step]])
    rows[[length(rows) + 1]] <- data.frame(
      source = source_kind,
      rows = thousand * 1000,
      predictors = p,
      step = step,
      t(round(found, 1))
    )
    print(rows[[length(rows)]])
  }
  unlink(kept, recursive = TRUE)
  if (source_kind == "parquet") unlink(folder, recursive = TRUE)
}
stop_server()
out <- do.call(rbind, rows)
keep <- function(file, table) {
  if (file.exists(file)) {
    before <- utils::read.csv(file)
    table <- rbind(before[before$source != source_kind, ], table)
  }
  utils::write.csv(table, file, row.names = FALSE)
}
keep("bench/results/disk.csv", out)
if (length(thousands) > 2) {
  growth <- do.call(rbind, lapply(split(out, out$step), function(d) {
    found <- summary(stats::lm(log(cpu) ~ log(rows), d))$coefficients[2, 1:2]
    data.frame(
      source = source_kind, step = d$step[1], slope = round(found[[1]], 2),
      std_error = round(found[[2]], 2)
    )
  }))
  keep("bench/results/disk-growth.csv", growth)
  print(growth, row.names = FALSE)
}
unlink(here, recursive = TRUE)
