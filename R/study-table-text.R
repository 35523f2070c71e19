# Delimited text: encoding, delimiter and header are found from the first lines, then the file is
# read once by data.table, and its columns are settled.

delimiters <- c(tab = "\t", semicolon = ";", bar = "|", comma = ",", space = " ")

# asked: what the user states, by name. -> list(table, name, format, delimiter, decimal, header,
# encoding, guesses)
read_text <- function(file, asked, marks = read_marks(NULL), types = character()) {
  unpacked <- unpack(file)
  plain <- as_utf8_file(unpacked, asked$encoding, file)
  on.exit(
    unlink(c(if (plain$temporary) plain$path, if (unpacked != file) unpacked)), add = TRUE
  )
  start <- first_records(plain$path)
  delimiter <- asked$delimiter
  if (length(start) && grepl("^sep=.$", start[1], useBytes = TRUE)) {
    if (is.null(delimiter)) delimiter <- substring(start[1], 5)
    plain <- without_first_line(plain)
    start <- start[-1]
  }
  if (!length(start)) {
    stop_input(
      paste0("The file \"", file, "\" holds nothing but blanks."), todo = "Give rows."
    )
  }
  if (is.null(delimiter)) delimiter <- find_delimiter(start, file)
  sample <- sample_fields(plain$path, delimiter, file)
  header <- asked$header
  guessed_header <- is.null(header)
  if (guessed_header) header <- has_header(sample)
  if (nrow(sample) < 2 && header) {
    stop_input(
      paste0("The file \"", file, "\" has a header but no rows."),
      todo = "Give rows to compute on, or say header = FALSE if these are values."
    )
  }
  decimal <- asked$decimal
  if (is.null(decimal)) decimal <- find_decimal(sample, delimiter, header)
  # the sign between fields cannot be a decimal mark for the reader; in quotes it may be one
  table <- read_delimited(
    plain$path, file, delimiter, header, if (decimal == delimiter) "." else decimal
  )
  named <- name_row_names(table, if (header) sample[1, ])
  settled <- settle_columns(
    apply_marks(named$table, marks, file), file, delimiter, asked, plain$encoding, types
  )
  list(
    table = settled$table,
    name = file,
    format = "text",
    delimiter = if (ncol(table) > 1) delimiter,
    decimal = if (settled$comma) "," else decimal,
    header = header,
    encoding = plain$encoding,
    guesses = c(
      if (guessed_header && !header) {
        "there is no header: the columns are called V1, V2 and so on"
      },
      if (plain$encoding != "UTF-8") paste("encoding", plain$encoding), named$guess,
      settled$guesses
    )
  )
}

# Row names leave a first column without a name. names: the first record, or NULL.
name_row_names <- function(table, names) {
  names <- trimws(as_utf8(as.character(unlist(names))))
  # an empty name, or one name less than there are columns
  unnamed <- length(names) > 0 &&
    (!nzchar(names[1]) || names(table)[1] %in% c("V1", "") && !"V1" %in% names)
  if (!unnamed || "row_names" %in% names(table) || ncol(table) < 2) {
    return(list(table = table))
  }
  names(table)[1] <- "row_names"
  list(
    table = table,
    guess = "the first column has no name, as row names leave it: it is called \"row_names\""
  )
}

# --- encoding ----------------------------------------------------------------------------------

# The file itself, or a copy of it in UTF-8 where it is in UTF-16. Zero bytes are refused.
as_utf8_file <- function(file, encoding, name = file) {
  start <- readBin(file, "raw", 4096)
  wide <- if (identical(encoding, "UTF-16") || is.null(encoding)) utf16_order(start)
  if (identical(encoding, "UTF-16") && is.null(wide)) wide <- "UTF-16LE"
  if (!is.null(wide)) {
    bytes <- readBin(file, "raw", file.size(file))
    text <- tryCatch(iconv(list(bytes), wide, "UTF-8"), error = function(e) NA_character_)
    if (is.na(text)) {
      stop_input(
        paste0("The file \"", name, "\" is not sound UTF-16."),
        todo = "Write it as UTF-8."
      )
    }
    path <- tempfile(fileext = ".txt")
    writeBin(charToRaw(sub("^\ufeff", "", text)), path)
    return(list(path = path, temporary = TRUE, encoding = "UTF-16"))
  }
  at <- first_zero_byte(file)
  if (!is.na(at)) {
    stop_input(
      paste0("The file \"", name, "\" is not a text file: byte ", at, " is zero."),
      todo = "Give a delimited text file such as CSV, or write it anew without zero bytes."
    )
  }
  list(
    path = file,
    temporary = FALSE,
    encoding = if (is.null(encoding)) "UTF-8" else encoding
  )
}

# Packed files (gzip, bzip2, xz) are known by their first bytes.
unpack <- function(path) {
  head <- readBin(path, "raw", 6)
  packed <- any(vapply(packed_begin, function(b) identical(head[seq_along(b)], b), NA))
  if (!packed) return(path)
  out <- tempfile(fileext = ".txt")
  from <- gzfile(path, "rb")
  to <- file(out, "wb")
  on.exit({
    close(from)
    close(to)
  }, add = TRUE)
  broken <- function(e) {
    unlink(out)
    stop_input(
      paste0("The file \"", path, "\" is packed and cannot be unpacked."),
      conditionMessage(e), "Is it whole?"
    )
  }
  tryCatch(
    while (length(block <- readBin(from, "raw", 1e7))) writeBin(block, to),
    error = broken,
    warning = broken
  )
  out
}

packed_begin <- list(
  gzip = as.raw(c(0x1f, 0x8b)), bzip2 = charToRaw("BZh"),
  xz = as.raw(c(0xfd, 0x37, 0x7a, 0x58, 0x5a, 0x00))
)

# Some programs write the delimiter into a line of its own before the table.
without_first_line <- function(plain) {
  bytes <- readBin(plain$path, "raw", file.size(plain$path))
  at <- grepRaw("\n", bytes)
  path <- tempfile(fileext = ".txt")
  writeBin(bytes[-seq_len(at)], path)
  if (plain$temporary) unlink(plain$path)
  list(path = path, temporary = TRUE, encoding = plain$encoding)
}

# UTF-16 by its mark, or by zeros in every other byte.
utf16_order <- function(start) {
  if (length(start) < 4) return(NULL)
  if (identical(start[1:2], as.raw(c(0xff, 0xfe)))) return("UTF-16LE")
  if (identical(start[1:2], as.raw(c(0xfe, 0xff)))) return("UTF-16BE")
  pairs <- length(start) %/% 2
  zero <- matrix(start[seq_len(2 * pairs)] == as.raw(0), 2)
  share <- rowMeans(zero)
  if (share[2] > 0.7 && share[1] < 0.05) return("UTF-16LE")
  if (share[1] > 0.7 && share[2] < 0.05) return("UTF-16BE")
  NULL
}

first_zero_byte <- function(file, size = 2^24) {
  open <- file(file, "rb")
  on.exit(close(open), add = TRUE)
  before <- 0
  repeat {
    bytes <- readBin(open, "raw", size)
    if (!length(bytes)) return(NA_real_)
    at <- grepRaw(as.raw(0), bytes, fixed = TRUE)
    if (length(at)) return(before + at)
    before <- before + length(bytes)
  }
}

# --- delimiter and header ----------------------------------------------------------------------

# Up to 200 lines from the first 256 kB, without what stands in quotes: line breaks and delimiters
# there count for nothing.
first_records <- function(path, most = 200) {
  bytes <- readBin(path, "raw", 2^18)
  whole <- length(bytes) < 2^18
  text <- rawToChar(bytes)
  Encoding(text) <- "bytes"
  text <- sub("^\xef\xbb\xbf", "", text, useBytes = TRUE)
  text <- gsub("\"[^\"]*\"", "q", text, useBytes = TRUE)
  lines <- strsplit(text, "\r\n|\n|\r", useBytes = TRUE)[[1]]
  if (!whole && length(lines) > 1) lines <- lines[-length(lines)]
  utils::head(lines[grepl("[^ ]", lines, useBytes = TRUE)], most)
}

count_sign <- function(lines, sign) {
  lengths(regmatches(lines, gregexpr(sign, lines, fixed = TRUE, useBytes = TRUE)))
}

# The sign that stands equally often in all lines; the first of these, in the order of `delimiters`.
# Without one: a single column, unless a sign stands in most lines.
find_delimiter <- function(lines, file) {
  counts <- vapply(delimiters, function(s) count_sign(lines, s), integer(length(lines)))
  counts <- matrix(
    counts, ncol = length(delimiters), dimnames = list(NULL, names(delimiters))
  )
  even <- apply(counts, 2, function(n) n[1] > 0 && all(n == n[1]))
  if (any(even)) return(delimiters[[which(even)[1]]])
  uneven <- setdiff(
    names(delimiters)[colMeans(counts > 0) >= 0.5 & counts[1, ] > 0], "space"
  )
  if (length(uneven)) {
    n <- counts[, uneven[1]]
    usual <- as.integer(names(which.max(table(n))))
    odd <- which(n != usual)[1]
    # one column more in the rows than in the header: row names
    rows_alike <- length(n) > 1 && all(n[-1] == n[2]) && n[2] == n[1] + 1
    if (rows_alike) return(delimiters[[uneven[1]]])
    stop_input(
      paste0("The file \"", file, "\" cannot be read as a table."),
      paste0(
        "Separated by a ", uneven[1], ", line ", odd, " has ", n[odd] + 1,
        " fields where others ", "have ", usual + 1, "."
      ),
      paste0(
        "Check that every line has the same number of fields, and that fields with a ",
        uneven[1], " are in quotes."
      )
    )
  }
  ","
}

# The first records as text, without names.
sample_fields <- function(path, delimiter, file) {
  tryCatch(
    suppressWarnings(data.table::fread(
      path, sep = delimiter, header = FALSE, nrows = 200, colClasses = "character",
      data.table = FALSE, encoding = "UTF-8", showProgress = FALSE, na.strings = NULL,
      strip.white = TRUE, fill = TRUE, blank.lines.skip = TRUE
    )),
    error = function(e) {
      pass_interrupt(e)
      stop_input(
        paste0("The file \"", file, "\" cannot be read as a table."),
        sub("\\. .*", ".", conditionMessage(e))
      )
    }
  )
}

number_pattern <- "^[+-]?([0-9]+[.,]?[0-9]*|[.,][0-9]+)([eE][+-]?[0-9]+)?$"

# Numbers or dates; bytes, as texts of another encoding come before they are turned into ours.
is_number_or_date <- function(x) {
  grepl(number_pattern, x, useBytes = TRUE) | grepl(date_pattern, x, useBytes = TRUE)
}

# The first fields are names, unless one of them is a number or a date, or stands in a column of
# numbers as one of these.
has_header <- function(sample) {
  first <- vapply(sample, function(x) x[1], "")
  named <- function(x) nzchar(x) & !is_number_or_date(x)
  if (nrow(sample) < 2) return(all(named(first)))
  # of very many columns some tell
  number_below <- vapply(sample[seq_len(min(ncol(sample), 2000))], function(x) {
    rest <- x[-1]
    rest <- rest[nzchar(rest) & !rest %in% missing_words]
    length(rest) > 0 && all(is_number_or_date(rest))
  }, NA)
  # text above numbers is a name
  above <- first[seq_along(number_below)]
  if (any(named(above) & !above %in% missing_words & number_below)) return(TRUE)
  all(named(first) | !nzchar(first)) && any(nzchar(first))
}

# A decimal comma, where commas do not part fields and no number has a point.
find_decimal <- function(sample, delimiter, header) {
  if (delimiter == ",") return(".")
  rows <- if (header) sample[-1, , drop = FALSE] else sample
  holds <- function(pattern) {
    any(vapply(rows, function(x) {
      x <- x[!x %in% missing_words]
      # bytes: text of another encoding is no number, and nothing to warn of
      length(x) > 0 && any(grepl(pattern, x, useBytes = TRUE)) &&
        all(grepl(number_pattern, x, useBytes = TRUE))
    }, NA))
  }
  if (holds("^[+-]?[0-9]*,[0-9]+") && !holds("^[+-]?[0-9]*[.][0-9]+")) "," else "."
}

# The table as text and numbers. A warning of the reader's is an error: what it had to guess could
# be wrong. It is waited for, not jumped out of, so that the next file finds the reader clean.
read_delimited <- function(path, file, delimiter, header, decimal) {
  said <- character()
  broken <- function(words) {
    stop_input(
      paste0("The file \"", file, "\" cannot be read as a table."),
      sub("\\. .*", ".", words[1]),
      "Check that every line has the same number of fields."
    )
  }
  read <- function(...) {
    withCallingHandlers(
      data.table::fread(
        path, data.table = FALSE, check.names = FALSE, encoding = "UTF-8", sep = delimiter,
        dec = decimal, showProgress = FALSE, integer64 = "character", keepLeadingZeros = TRUE,
        blank.lines.skip = TRUE, ...
      ),
      warning = function(w) {
        said <<- c(said, conditionMessage(w))
        invokeRestart("muffleWarning")
      }
    )
  }
  out <- tryCatch(
    {
      found <- read(na.strings = missing_words, header = header)
      # A missing value as a name is a name.
      if (header && any(grepl("^V[0-9]+$", names(found)))) {
        kept <- said
        first <- tryCatch(
          read(nrows = 1, na.strings = NULL, header = TRUE), error = function(e) found
        )
        said <- kept
        named <- names(first) %in% missing_words
        if (ncol(first) == ncol(found) && any(named)) names(found) <- names(first)
      }
      found
    },
    error = function(e) {
      pass_interrupt(e)
      broken(conditionMessage(e))
    }
  )
  said <- said[!grepl("was not cleaned up|added .* extra default column name", said)]
  if (any(grepl("quoting|Stopped early", said))) {
    return(read_quoted(path, delimiter, header, decimal, function() broken(said)))
  }
  if (length(said)) broken(said)
  out
}

# Doubled quotes beside line breaks in quotes: a slower reader that knows both. otherwise(): what to
# do where it fails.
read_quoted <- function(path, delimiter, header, decimal, otherwise) {
  tryCatch(
    {
      text <- utils::read.table(
        path, header = header, sep = delimiter, quote = "\"", comment.char = "",
        colClasses = "character", na.strings = missing_words, check.names = FALSE,
        strip.white = TRUE, encoding = "UTF-8", stringsAsFactors = FALSE
      )
      text[] <- lapply(text, function(x) {
        seen <- x[!is.na(x)]
        coded <- any(grepl("^[+-]?0[0-9]", seen)) || any(nchar(gsub("[^0-9]", "", seen)) > 15)
        if (coded) x else utils::type.convert(x, as.is = TRUE, dec = decimal)
      })
      text
    },
    error = function(e) {
      pass_interrupt(e)
      otherwise()
    },
    warning = function(w) otherwise()
  )
}
