mixed_rows <- function(n, seed = 1) {
  set.seed(seed)
  out <- data.frame(
    number = round(rnorm(n), 4), whole = sample.int(9, n, TRUE), yes = runif(n) > 0.5,
    text = sample(c("kiln", "Öfen", NA), n, TRUE),
    level = factor(sample(c("b", "a"), n, TRUE), levels = c("b", "a", "never")),
    day = as.Date("2026-11-27") + sample.int(50, n, TRUE),
    at = as.POSIXct("2026-11-27 08:00:00", tz = "UTC") + sample.int(9999, n, TRUE)
  )
  out$grade <- factor(sample(1:3, n, TRUE), labels = c("low", "mid", "top"), ordered = TRUE)
  out$took <- as.difftime(runif(n), units = "hours")
  out$number[2] <- NA
  out$whole[3] <- NA
  out$yes[4] <- NA
  out$level[5] <- NA
  out
}

test_that("columns of every kind come back as they were, from any row to any other", {
  rows <- mixed_rows(500)
  folder <- file.path(tempfile("deep"), "er")
  store <- open_rows(rows, folder = folder, quiet = TRUE, at_once = 100)
  expect_identical(dim(store), c(500L, 9L))
  expect_identical(as.data.frame(store), rows)
  expect_identical(store_rows(store, 7, 9, c("text", "at")), {
    few <- rows[7:9, c("text", "at")]
    rownames(few) <- NULL
    few
  })
  for (at in list(c(3, 77, 500), 1, 40:60, 1:500)) {
    expect_equal(pick_from_store(store, at), rows[at, ], ignore_attr = "row.names")
  }
  expect_equal(
    lapply(names(rows), function(p) seek_values(store, p, c(1, 250, 500))),
    lapply(unname(rows), function(x) x[c(1, 250, 500)])
  )
  # opened again it is the same; the print is that of the rows in memory
  again <- open_rows(folder)
  expect_identical(as.data.frame(again), rows)
  expect_identical(again$print, table_print(rows))
  expect_error(
    open_rows(folder, columns = "text"), "are settled", class = "dreher_error_input"
  )
  shown <- capture.output(print(again))
  expect_match(shown, "rows +500", all = FALSE)
  expect_match(shown, "columns +9 \\(1 Date, 1 POSIXct, 1 difftime", all = FALSE)
})

test_that("batches may bring new levels, decimals and values where all were missing", {
  batches <- list(
    data.frame(a = 1:3, b = NA, c = "x", d = factor("one")),
    data.frame(d = "two", c = factor(c("y", "x")), a = c(4.5, 5), b = c("u", NA)),
    data.frame(a = 6L, b = NA, c = NA, d = NA)
  )
  i <- 0
  store <- open_rows(function() {
    i <<- i + 1
    if (i <= 3) batches[[i]]
  }, quiet = TRUE)
  expect_equal(as.data.frame(store), data.frame(
    a = c(1, 2, 3, 4.5, 5, 6), b = c(NA, NA, NA, "u", NA, NA),
    c = c("x", "x", "x", "y", "x", NA),
    d = factor(c("one", "one", "one", "two", "two", NA))
  ))
})

test_that("text that names rows is left out, and said so", {
  rows <- data.frame(id = sprintf("t%06d", 1:100001), x = seq_len(100001) %% 7)
  expect_message(store <- open_rows(rows), "Left out, as text of more than 100,000")
  expect_identical(names(store$columns), "x")
  expect_identical(as.data.frame(store), rows["x"])
  expect_length(dir(store$folder), 2)
})

test_that("what cannot be opened is refused, with nothing left behind", {
  refused <- function(code, says) {
    expect_error(code, says, class = "dreher_error_input")
  }
  batch <- function(...) {
    batches <- list(...)
    i <- 0
    function() {
      i <<- i + 1
      if (i <= length(batches)) batches[[i]]
    }
  }
  folder <- tempfile("copy")
  refused(
    open_rows(batch(data.frame(a = 1), data.frame(a = "x")), folder = folder),
    "\"a\" changes from double to text"
  )
  expect_length(dir(folder), 0)
  refused(
    open_rows(batch(data.frame(a = 1, b = 1), data.frame(a = 1))),
    "\"b\" has 1 rows, \"a\" has 2"
  )
  refused(open_rows(batch(data.frame(a = TRUE), data.frame(a = "x"))), "logical to text")
  refused(open_rows(batch(list(1))), "must return a data frame")
  refused(open_rows(function() stop("no rows today")), "no rows today")
  refused(open_rows(function() NULL), "There are no rows")
  refused(open_rows(data.frame(a = I(list(1, 2)))), "holds")
  refused(open_rows("nowhere"), "There is no file")
  refused(open_rows(tempfile()), "There is no file")
  refused(open_rows(7), "must be a path")
  refused(open_rows(data.frame(a = 1), query = "tiles"), "for a connection")
  refused(open_rows(data.frame(a = 1), columns = "b"), "is not in the data frame")
  refused(open_rows(data.frame(a = 1), at_once = 3), "from 100 to")
  used <- tempfile("used")
  dir.create(used)
  writeLines("mine", file.path(used, "notes.txt"))
  refused(open_rows(data.frame(a = 1), folder = used), "is there already")
  expect_identical(readLines(file.path(used, "notes.txt")), "mine")
  refused(open_rows(used), "holds no Parquet files")
  # a copy that is damaged
  kept <- tempfile("kept")
  open_rows(data.frame(a = c(1, 2), b = "x"), folder = kept, quiet = TRUE)
  writeBin(raw(9), file.path(kept, "1.bin"))
  refused(open_rows(kept), "the file of column \"a\" is not whole")
  writeLines("{", file.path(kept, "store.json"))
  refused(open_rows(kept), "holds no rows that can be opened")
  writeLines("{\"format\": 99}", file.path(kept, "store.json"))
  refused(open_rows(kept), "of another version")
})

test_that("Parquet files and folders are read as read_rows() reads them", {
  rows <- mixed_rows(300)[c("number", "whole", "yes", "text", "day")]
  folder <- tempfile("tiles")
  dir.create(file.path(folder, "later"), recursive = TRUE)
  nanoparquet::write_parquet(rows[1:200, ], file.path(folder, "a.parquet"))
  nanoparquet::write_parquet(rows[201:300, 5:1], file.path(folder, "later", "b.parquet"))
  whole <- as.data.frame(open_rows(folder, quiet = TRUE))
  expect_equal(whole, rows, ignore_attr = "row.names")
  one <- file.path(folder, "a.parquet")
  expect_equal(
    as.data.frame(open_rows(one, quiet = TRUE)), read_rows(one, quiet = TRUE),
    ignore_attr = TRUE
  )
  # few columns at a time, as of files that are larger
  few <- copy_rows(parquet_reader(folder, cells = 150), NULL, store_folder(NULL), TRUE)
  expect_equal(as.data.frame(few), whole)
  expect_identical(
    names(open_rows(one, columns = c("day", "number"), quiet = TRUE)$columns),
    c("number", "day")
  )
  nanoparquet::write_parquet(rows[1:3], file.path(folder, "c.parquet"))
  expect_error(open_rows(folder), "has other columns than", class = "dreher_error_input")
  writeLines("no", file.path(folder, "c.parquet"))
  expect_error(open_rows(folder), "is not Parquet", class = "dreher_error_input")
})

test_that("a query is read in parts, through any driver", {
  db <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
  on.exit(DBI::dbDisconnect(db))
  rows <- mixed_rows(450)[c("number", "whole", "text")]
  DBI::dbWriteTable(db, "tiles", rows)
  for (query in c("tiles", "SELECT * FROM tiles")) {
    store <- open_rows(db, query = query, at_once = 100, quiet = TRUE)
    expect_equal(as.data.frame(store), read_rows(db, query = query, quiet = TRUE),
                 ignore_attr = TRUE)
  }
  expect_error(open_rows(db, query = "SELECT * FROM bowls"), "no such table",
               class = "dreher_error_input")
  expect_error(open_rows(db), "`query` is missing", class = "dreher_error_input")
  expect_error(
    open_rows(db, query = "SELECT * FROM tiles WHERE whole > 99"), "There are no rows",
    class = "dreher_error_input"
  )
})

test_that("a connection that is lost is opened again, and goes on where it was", {
  file <- tempfile(fileext = ".sqlite")
  db <- DBI::dbConnect(RSQLite::SQLite(), file)
  rows <- mixed_rows(450)[c("number", "whole")]
  DBI::dbWriteTable(db, "tiles", rows)
  DBI::dbDisconnect(db)
  opened <- 0
  visits <- 0
  flaky <- function() {
    opened <<- opened + 1
    DBI::dbConnect(RSQLite::SQLite(), file)
  }
  read <- database_reader(flaky, "SELECT * FROM tiles", 100, waits = c(0, 0))
  parts <- list()
  read$each(
    function(part) {
      visits <<- visits + 1
      if (visits == 3) stop("the line went dead")
      parts <<- c(parts, list(part))
    },
    NULL
  )
  expect_identical(opened, 2)
  expect_equal(do.call(rbind, parts), rows)
  # another order is noticed
  visits <- 0
  turned <- database_reader(
    function() {
      con <- flaky()
      if (visits) {
        DBI::dbExecute(
          con, "CREATE TEMP TABLE tiles AS SELECT * FROM main.tiles ORDER BY number"
        )
      }
      con
    },
    "SELECT * FROM tiles",
    100,
    waits = 0
  )
  expect_error(
    turned$each(
      function(part) {
        visits <<- visits + 1
        if (visits == 3) stop("the line went dead")
      },
      NULL
    ),
    "in another order",
    class = "dreher_error_input"
  )
  expect_error(
    database_reader(function() 3, "tiles", 100)$each(identity, NULL),
    "must return a connection",
    class = "dreher_error_input"
  )
})

test_that(
  "PostgreSQL is read through a cursor, also when the server restarts in the middle",
  {
    if (!length(postgres_programs()) && !nzchar(Sys.getenv("CI"))) {
      skip("no PostgreSQL server on this machine")
    }
    folder <- tempfile("pg", tmpdir = "/tmp")
    expect_true(start_postgres(folder))
    on.exit(stop_postgres(folder))
    connections <- 0
    connect <- function() {
      connections <<- connections + 1
      DBI::dbConnect(
        RPostgreSQL::PostgreSQL(), user = "postgres", dbname = "postgres", host = folder
      )
    }
    tiles <- data.frame(
      id = 1:800, temp = round(rnorm(800), 3), clay = rep(c("pit", NA), 400)
    )
    db <- connect()
    DBI::dbWriteTable(db, "tiles", tiles, row.names = FALSE)
    DBI::dbDisconnect(db)
    plain <- open_rows(
      connect, query = "SELECT * FROM tiles ORDER BY id", at_once = 300, quiet = TRUE
    )
    expect_equal(as.data.frame(plain), tiles)
    connections <- 0
    # a hundredth of a second a row: the restart comes after some hundred of them
    slow <- paste0(
      "SELECT o.*, pg_sleep(0.01)::text AS slept FROM (SELECT * FROM tiles ORDER BY ",
      "id) o"
    )
    restart_postgres(folder, 3)
    kept <- open_rows(
      connect, query = slow, at_once = 100, columns = names(tiles), quiet = TRUE
    )
    expect_gt(connections, 1)
    expect_equal(as.data.frame(kept), tiles)
  }
)
