# Tables of many kinds, each read right or refused with the reason.

file <- tempfile(fileext = ".csv")
put <- function(...) writeLines(c(...), file, useBytes = TRUE)
put_bytes <- function(...) writeBin(c(...), file)
quietly <- function(...) read_rows(file, ..., quiet = TRUE)
plain <- function(x) {
  attr(x, "read") <- NULL
  x
}
in_code <- function(text, code) iconv(text, "UTF-8", code, toRaw = TRUE)[[1]]

test_that("delimiters, decimal marks and headers are found", {
  want <- data.frame(a = c(1.5, 2.5), b = c(3L, 4L), c = c("x", "y"))
  put("a,b,c", "1.5,3,x", "2.5,4,y")
  expect_identical(plain(quietly()), want)
  put("a;b;c", "1,5;3;x", "2,5;4;y")
  expect_identical(plain(quietly()), want)
  expect_identical(attr(quietly(), "read")$decimal, ",")
  put("a\tb\tc", "1.5\t3\tx", "2.5\t4\ty")
  expect_identical(plain(quietly()), want)
  put("a|b|c", "1.5|3|x", "2.5|4|y")
  expect_identical(plain(quietly()), want)
  put("1,5;2,3;4,1", "2,5;3,3;4,7")
  x <- quietly()
  expect_identical(x$V2, c(2.3, 3.3))
  expect_identical(attr(x, "read")$header, FALSE)
  expect_message(read_rows(file), "there is no header")
  put("5,7", "1,2")
  expect_identical(dim(quietly()), c(2L, 2L))
  expect_identical(names(quietly(header = TRUE)), c("5", "7"))
  put("a", "1", "2")
  expect_identical(plain(quietly()), data.frame(a = 1:2))
  put("a,b", "", "1,2", "", "3,4", "")
  expect_identical(plain(quietly()), data.frame(a = c(1L, 3L), b = c(2L, 4L)))
  put("sep=;", "a;b", "1,5;x", "2,5;y")
  expect_identical(plain(quietly()), data.frame(a = c(1.5, 2.5), b = c("x", "y")))
  put("text;n", "a,b;1", "c;2")
  expect_identical(quietly()$text, c("a,b", "c"))
})

test_that("encodings: UTF-8 with and without mark, Latin-1, UTF-16 with and without mark", {
  text <- "town;n\nK\u00f6ln;1\nUlm;2\n"
  want <- data.frame(town = c("K\u00f6ln", "Ulm"), n = 1:2)
  mark <- as.raw(c(0xef, 0xbb, 0xbf))
  put_bytes(charToRaw(enc2utf8(text)))
  expect_identical(plain(quietly()), want)
  put_bytes(mark, charToRaw(enc2utf8(text)))
  expect_identical(plain(quietly()), want)
  put_bytes(in_code(text, "latin1"))
  expect_warning(x <- quietly(), "read as Latin-1")
  expect_identical(plain(x), want)
  expect_identical(plain(quietly(encoding = "latin1")), want)
  put_bytes(as.raw(c(0xff, 0xfe)), in_code(text, "UTF-16LE"))
  expect_identical(plain(quietly()), want)
  put_bytes(in_code(text, "UTF-16BE"))
  expect_identical(plain(quietly()), want)
  expect_identical(attr(quietly(), "read")$encoding, "UTF-16")
})

test_that("quoted delimiters and line breaks, doubled quotes, Windows line ends", {
  put("a,b", "\"x, y\nz\",1", "\"say \"\"no\"\"\",2")
  expect_identical(plain(quietly()), data.frame(a = c("x, y\nz", "say \"no\""), b = 1:2))
  put_bytes(charToRaw("a,b\r\n1,2\r\n3,4\r\n"))
  expect_identical(plain(quietly()), data.frame(a = c(1L, 3L), b = c(2L, 4L)))
})

test_that("dates, times, codes, long whole numbers, thousands, marks of missing values", {
  put(
    "day;at;hour;code;long;amount;gap",
    "27.11.2026;2026-11-27 08:15;08:15;00123;9007199254740993;1.234,50;n/a",
    "01.02.2026;2026-11-27 09:15:10;23:30;00200;1;999,25;3"
  )
  expect_message(x <- read_rows(file), "day.month.year")
  expect_identical(x$day, as.Date(c("2026-11-27", "2026-02-01")))
  expect_equal(as.double(x$at[2]) - as.double(x$at[1]), 3610)
  expect_equal(as.double(x$hour), c(8.25, 23.5))
  expect_identical(x$code, c("00123", "00200"))
  expect_identical(x$long, c("9007199254740993", "1"))
  expect_identical(x$amount, c(1234.5, 999.25))
  expect_identical(x$gap, c(NA, 3L))
  put("d,e", "13/02/2026,01/02/2026", "01/03/2026,03/04/2026")
  expect_warning(x <- quietly(), "day and month could be either way round")
  expect_identical(x$d, as.Date(c("2026-02-13", "2026-03-01")))
  expect_type(x$e, "character")
  put("p,q", "\"1,234\",1", "\"2,345\",2")
  expect_warning(x <- quietly(), "left as text")
  expect_type(x$p, "character")
  expect_identical(quietly(thousands = ",")$p, c(1234, 2345))
  expect_identical(quietly(decimal = ",")$p, c(1.234, 2.345))
})

test_that("what cannot be read is refused with the reason", {
  refused <- function(words) {
    e <- expect_error(quietly(), class = "dreher_error_input")
    expect_match(conditionMessage(e), words)
  }
  put_bytes(raw())
  refused("is empty")
  put("a,b,c")
  refused("header but no rows")
  put("", "  ", "")
  refused("nothing but blanks")
  put_bytes(charToRaw("a,b\n1,"), as.raw(0), charToRaw("2\n"))
  refused("byte 7 is zero")
  put("a,b", "1,2", "3,4,5", "6,7")
  refused("line 3 has 3 fields where others have 2")
  put("a,b", "1,2", "3")
  refused("line 3 has 1 fields")
  put_bytes(charToRaw("PAR1 and nothing more"))
  refused("cannot be read as Parquet")
  expect_error(read_rows(file, query = "t", quiet = TRUE), "for a connection")
})

test_that("10,000 columns, and Parquet", {
  put(
    paste0("c", 1:10000, collapse = ","), paste(1:10000, collapse = ","),
    paste(1:10000 / 2, collapse = ",")
  )
  x <- quietly()
  expect_identical(dim(x), c(2L, 10000L))
  expect_equal(x$c10000, c(10000, 5000))
  d <- data.frame(a = 1:3, b = c("x", NA, "z"), day = as.Date("2026-11-27") + 0:2)
  nanoparquet::write_parquet(d, file)
  expect_equal(plain(quietly()), d)
})

test_that("databases: tables, queries, long integers, and what goes wrong", {
  db <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
  DBI::dbWriteTable(
    db, "tiles", data.frame(a = 1:3, day = c("2026-01-05", "2026-01-06", NA))
  )
  x <- read_rows(db, query = "tiles", quiet = TRUE)
  expect_identical(x$day, as.Date(c("2026-01-05", "2026-01-06", NA)))
  expect_identical(
    read_rows(db, query = "SELECT a FROM tiles WHERE a > 1", quiet = TRUE)$a, 2:3
  )
  expect_error(
    read_rows(db, query = "SELECT a FROM tiles WHERE a > 9"),
    "no rows",
    class = "dreher_error_input"
  )
  expect_error(
    read_rows(db, query = "SELECT b FROM tiles"),
    "The query failed",
    class = "dreher_error_input"
  )
  expect_error(read_rows(db), "`query` is missing", class = "dreher_error_input")
  DBI::dbWriteTable(
    db, "words", data.frame(predictor = "a", label = "Number", known = "after")
  )
  expect_identical(read_dictionary(db, query = "words")$known, "after")
  DBI::dbDisconnect(db)
  expect_error(
    read_rows(db, query = "tiles"),
    "connection to the database is closed",
    class = "dreher_error_input"
  )
})

test_that("64-bit integers become numbers where these hold them", {
  kept <- settle_integers(data.frame(n = bit64::as.integer64(c("12", NA))))
  expect_identical(kept$table$n, c(12, NA))
  far <- settle_integers(data.frame(n = bit64::as.integer64("9007199254740993")))
  expect_identical(far$table$n, "9007199254740993")
})

test_that("a PostgreSQL server is read, and takes results", {
  with_postgres(function(db, folder) {
    tiles <- kiln$holdout[1:50, c("tile_id", "peak_temp", "clay_source", "strength")]
    tiles$clay_source <- as.character(tiles$clay_source)
    DBI::dbWriteTable(db, "tiles", tiles, row.names = FALSE)
    x <- read_rows(db, query = "SELECT * FROM tiles ORDER BY tile_id", quiet = TRUE)
    want <- tiles[order(tiles$tile_id), ]
    expect_equal(x$peak_temp, want$peak_temp)
    expect_identical(x$clay_source, want$clay_source)
    fit <- lm(strength ~ peak_temp + clay_source, kiln$train)
    rk <- rank_permutation(study(fit, x, "strength"))
    expect_s3_class(rk, "dreher_ranking")
    for (turn in 1:2) write_results(rk, db, table = "strength_ranking")
    back <- DBI::dbReadTable(db, "strength_ranking")
    expect_equal(back$importance, rk$importance)
    expect_identical(back$predictor, rk$predictor)
    expect_error(write_results(rk, db, table = "tiles"), "of another origin")
    # a server that is gone, and a connection that is closed
    stop_postgres(folder)
    expect_error(
      suppressWarnings(read_rows(db, query = "SELECT * FROM tiles")),
      "Is the server there", class = "dreher_error_input"
    )
    try(DBI::dbDisconnect(db), silent = TRUE)
    expect_error(read_rows(db, query = "tiles"), class = "dreher_error_input")
  })
})

test_that("packed tables read as they would unpacked, and broken ones are refused", {
  plain <- tempfile(fileext = ".csv")
  utils::write.csv(kiln$holdout[1:40, 1:6], plain, row.names = FALSE)
  for (open in list(gzfile, bzfile, xzfile)) {
    packed <- tempfile(fileext = ".csv.packed")
    con <- open(packed, "wb")
    writeBin(readBin(plain, "raw", 1e6), con)
    close(con)
    expect_equal(
      read_rows(packed, quiet = TRUE), read_rows(plain, quiet = TRUE), ignore_attr = "read"
    )
    expect_identical(attr(read_rows(packed, quiet = TRUE), "read")$source, packed)
    bytes <- readBin(packed, "raw", 1e6)
    writeBin(bytes[seq_len(length(bytes) %/% 2)], packed)
    expect_error(read_rows(packed, quiet = TRUE), class = "dreher_error_input")
  }
})
