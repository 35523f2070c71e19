# A server of its own, in a folder of its own, without a port.
start_postgres <- function(folder) {
  bin <- postgres_programs()
  if (!length(bin)) return(FALSE)
  dir.create(folder, mode = "0777")
  Sys.chmod(folder, "0777", use_umask = FALSE)
  data <- file.path(folder, "data")
  made <- as_server(c(file.path(bin, "initdb"), "-D", data, "-A", "trust", "-U", "postgres"))
  started <- as_server(c(
    file.path(bin, "pg_ctl"), "-D", data, "-w", "-l", file.path(folder, "log"), "-o",
    shQuote(paste0("-c listen_addresses='' -k ", folder)), "start"
  ))
  made == 0 && started == 0
}

stop_postgres <- function(folder) {
  as_server(c(
    file.path(postgres_programs(), "pg_ctl"), "-D", file.path(folder, "data"), "-m",
    "immediate", "stop"
  ))
}

# Killed and started again, so many seconds from now, while this process goes on.
restart_postgres <- function(folder, seconds) {
  words <- paste(
    file.path(postgres_programs(), "pg_ctl"), "-D", file.path(folder, "data"), "-w -m",
    "immediate -l", file.path(folder, "log"), "restart"
  )
  as_server(c("sh", "-c", shQuote(paste0("sleep ", seconds, "; ", words))), wait = FALSE)
}

postgres_programs <- function() {
  found <- Sys.glob("/usr/lib/postgresql/*/bin")
  found[length(found)]
}

# The server does not run as root.
as_server <- function(words, wait = TRUE) {
  root <- identical(unname(Sys.info()[["effective_user"]]), "root")
  if (root) words <- c("runuser", "-u", "postgres", "--", words)
  system2(words[1], words[-1], stdout = FALSE, stderr = FALSE, wait = wait)
}

# do(connection, folder) with a server of its own, which ends with it; skipped where there is
# none, but not in CI.
with_postgres <- function(do) {
  if (!length(postgres_programs()) && !nzchar(Sys.getenv("CI"))) {
    skip("no PostgreSQL server on this machine")
  }
  folder <- tempfile("pg", tmpdir = "/tmp")
  expect_true(start_postgres(folder))
  on.exit(stop_postgres(folder))
  con <- DBI::dbConnect(
    RPostgreSQL::PostgreSQL(), user = "postgres", dbname = "postgres", host = folder
  )
  do(con, folder)
}
