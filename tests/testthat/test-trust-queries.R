# Queries only read.

db <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
DBI::dbWriteTable(db, "tiles", data.frame(a = 1:5, b = letters[1:5]))
rows_there <- function() DBI::dbGetQuery(db, "SELECT count(*) AS n FROM tiles")$n

test_that("queries that change something are refused, and change nothing", {
  for (query in c(
      "DELETE FROM tiles", "DROP TABLE tiles",
      "INSERT INTO tiles VALUES (9, 'x') RETURNING *",
      "SELECT * FROM tiles; DELETE FROM tiles", "UPDATE tiles SET a = 0",
      "PRAGMA user_version = 5",
      "WITH gone AS (DELETE FROM tiles RETURNING *) SELECT * FROM gone",
      "/* SELECT */ DELETE FROM tiles", "SELECT * INTO other FROM tiles",
      "ATTACH 'x.db' AS x"
    )) {
    for (read in list(read_rows, open_rows)) {
      expect_error(
        read(db, query = query, quiet = TRUE),
        "^The query (must|holds|would)",
        class = "dreher_error_input"
      )
    }
  }
  expect_identical(rows_there(), 5L)
})

test_that("what reads is read, whatever its words and signs", {
  reads <- c(
    "SELECT a, b FROM tiles", "tiles", "with d as (select * from tiles) select * from d;",
    "SELECT a, 'DELETE; DROP' AS b FROM tiles", "-- DROP TABLE tiles\nSELECT * FROM tiles",
    "SELECT a, b AS \"update\" FROM tiles"
  )
  for (query in reads) expect_identical(nrow(read_rows(db, query = query, quiet = TRUE)), 5L)
})

test_that("SQLite is asked to change nothing while it reads, and is left as it was", {
  expect_error(
    read_only(db, DBI::dbExecute(db, "DELETE FROM tiles")), "readonly|read-only|query_only"
  )
  expect_identical(rows_there(), 5L)
  expect_identical(DBI::dbExecute(db, "DELETE FROM tiles WHERE a = 5"), 1L)
})

test_that("PostgreSQL reads in a read-only transaction, and the user's own stays", {
  with_postgres(function(con, folder) {
    send <- function(sql) DBI::dbGetQuery(con, sql)
    send("CREATE TABLE t AS SELECT * FROM generate_series(1, 5) AS a")
    send("CREATE SEQUENCE s")
    expect_error(suppressWarnings(read_rows(
      con, query = "SELECT nextval('s') AS a", quiet = TRUE
    )))
    expect_identical(send("SELECT last_value AS v, is_called AS c FROM s")$c, FALSE)
    send("BEGIN")
    send("INSERT INTO t VALUES (9)")
    expect_identical(max(read_rows(con, query = "SELECT a FROM t", quiet = TRUE)$a), 9L)
    expect_identical(open_rows(con, query = "SELECT a FROM t", quiet = TRUE)$rows, 6L)
    send("COMMIT")
    expect_identical(as.integer(send("SELECT count(*) AS n FROM t")$n), 6L)
    # decimals and moments with a zone
    send(
      "CREATE TABLE z AS SELECT 12.125::numeric(10, 3) AS weight,
          timestamptz '2026-03-01 12:00:00+05' AS fired, interval '150 minutes' AS held"
    )
    z <- read_rows(con, query = "SELECT * FROM z", quiet = TRUE)
    expect_identical(z$weight, 12.125)
    expect_identical(
      as.double(z$fired), as.double(as.POSIXct("2026-03-01 07:00:00", tz = "UTC"))
    )
    expect_identical(as.double(z$held, units = "mins"), 150)
  })
})
