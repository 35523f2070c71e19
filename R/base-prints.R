# Fingerprints: of any value, and of columns, tables and rows.
#
# A fingerprint is the number of its format, "-", and the SHA-256 of the bytes that state the value
# (state_value()). They are the same on every machine and in every version of R and of other
# packages. Another way of stating values is another format, and so is what it leads to: run folders
# (folder_format) and kept steps (kept_format) count up with it.
#
# Those of columns, tables and rows depend on values alone: whole numbers and others, a factor and
# its text, a tibble and a data frame, columns or levels in another order are the same.

print_format <- 1L

# Counts up whenever a result of a given seed is another number than before: what was kept is then
# made anew. A version of the package that changes no number leaves it.
results_version <- 1L

fingerprint <- function(x) {
  paste0(print_format, "-", cli::hash_raw_sha256(unlist(state_value(x))))
}

# Eight signs of it, for names.
short_print <- function(x) substr(sub("^.*-", "", fingerprint(x)), 1, 8)

# Are these the same? NA where one is of another format: they cannot be compared.
same_print <- function(one, other) {
  ours <- startsWith(c(one, other), paste0(print_format, "-"))
  if (all(ours)) identical(one, other) else NA
}

# A value as raw vectors, in a list however deep:
#   a letter for the type; the length as a double; the content; the attributes
#   n  numbers, whole or not: 8 bytes each, little-endian; -0 is 0, NA and NaN have one form each
#   b  TRUE, FALSE and NA, i  the codes of a factor: integers of 4 bytes
#   t  text: the distinct texts in the order in which they come (their number, the lengths in bytes
#      as integers, -1 for NA, their bytes in UTF-8), then of each text which of them it is
#   c  complex numbers: real parts, then imaginary parts, as numbers; r  bytes
#   l  lists, and calls as lists of their parts (k): the parts
#   s  names of variables; f  functions: arguments and body; 0  NULL
# Attributes are stated as a list in the order of their names, without those that say nothing of
# the value (numbered row names, where code was written, pointers).
state_value <- function(x) {
  if (is.null(x)) return(charToRaw("0"))
  if (is.symbol(x)) return(state_parts("s", list(state_value(as.character(x)))))
  if (is.primitive(x)) return(state_parts("f", list(state_value(deparse(x)))))
  if (is.function(x)) {
    return(state_parts("f", list(state_value(as.list(formals(x))), state_value(body(x)))))
  }
  more <- stated_attributes(x)
  if (is.call(x)) {
    return(state_parts("k", lapply(as.list(x), state_value), more))
  }
  size <- length(x)
  letter <- switch(
    typeof(x),
    list = "l",
    pairlist = "l",
    expression = "l",
    integer = if (is.factor(x)) "i" else "n",
    double = "n",
    logical = "b",
    character = "t",
    complex = "c",
    raw = "r"
  )
  if (is.null(letter)) {
    stop_internal(paste0("A value of type ", typeof(x), " has no fingerprint."))
  }
  attributes(x) <- NULL
  content <- switch(
    letter,
    l = lapply(x, state_value),
    n = number_bytes(x),
    t = text_bytes(x),
    c = list(number_bytes(Re(x)), number_bytes(Im(x))),
    bytes_of(x)
  )
  list(charToRaw(letter), bytes_of(as.double(size)), content, more)
}

state_parts <- function(letter, parts, more = NULL) {
  list(charToRaw(letter), bytes_of(as.double(length(parts))), parts, more)
}

number_bytes <- function(x) {
  x <- as.double(x) + 0
  gaps <- is.na(x)
  if (any(gaps)) {
    none <- is.nan(x)
    x[gaps] <- NA_real_
    x[none] <- NaN
  }
  bytes_of(x)
}

text_bytes <- function(x) {
  x <- enc2utf8(x)
  known <- unique(x)
  list(bytes_of(as.double(length(known))), bytes_of(known), bytes_of(match(x, known)))
}

silent_attributes <- c(
  "srcref", "srcfile", "wholeSrcref", ".internal.selfref", ".Environment"
)

stated_attributes <- function(x) {
  more <- attributes(x)
  more <- more[setdiff(names(more), silent_attributes)]
  if (is.data.frame(x) && .row_names_info(x) < 0) more$row.names <- nrow(x)
  if (!length(more)) return(charToRaw("0"))
  more <- more[order(names(more), method = "radix")]
  state_parts("l", c(
    list(state_value(names(more))), unname(lapply(more, state_value))
  ))
}

# Text or plain doubles, held in full. (A number turned into text is held back by R until somebody
# looks at it, and would be hashed in that form.)
plain_values <- function(x) {
  if (is.factor(x) || is.character(x) || is.logical(x)) {
    out <- rep(NA_character_, length(x))
    out[seq_along(x)] <- enc2utf8(as.character(x))
    return(out)
  }
  unit <- if (inherits(x, "difftime")) attr(x, "units")
  structure(as.double(unclass(x)) + 0, unit = unit)
}

column_hash <- function(x) fingerprint(plain_values(x))

column_hashes <- function(data) vapply(data, column_hash, "")

table_print <- function(data) if (is.null(data)) "" else join_hashes(column_hashes(data))

# hashes: by column name.
join_hashes <- function(hashes) {
  fingerprint(hashes[order(names(hashes), method = "radix")])
}

# A number for every row of tables of the same columns, the same for rows that are the same (numbers
# to 15 digits; see src/base-rows.h). -> one integer vector a table
row_codes <- function(tables) {
  size <- vapply(tables, nrow, 1L)
  columns <- lapply(names(tables[[1]]), function(p) {
    values <- lapply(tables, function(t) t[[p]])
    numbers <- vapply(values, function(x) is.numeric(x) || is_time(x), NA) &
      !vapply(values, is.factor, NA)
    if (all(numbers)) values else lapply(values, text_or_factor)
  })
  by_table <- lapply(seq_along(tables), function(t) lapply(columns, `[[`, t))
  unname(split(number_rows(by_table), rep(seq_along(tables), size)))
}

is_time <- function(x) inherits(x, c("Date", "POSIXct", "difftime"))

# Text in UTF-8; a factor keeps its codes, with its levels in UTF-8.
text_or_factor <- function(x) {
  if (!is.factor(x)) return(enc2utf8(as.character(x)))
  known <- enc2utf8(levels(x))
  if (!identical(known, levels(x)) || any(Encoding(levels(x)) == "latin1")) levels(x) <- known
  x
}

# Which rows of `data` stand in `known` as well, on the columns that both have, and whether these
# are more than chance explains. New rows of the same kind repeat a known one about as often as the
# known ones repeat each other (upper limit of that share: Clopper and Pearson 1934); `beyond`: more
# are there than 99 of 100 such tables would have.
find_known_rows <- function(data, known) {
  shared <- intersect(names(known), names(data))
  if (!length(shared)) {
    return(list(
      found = rep(FALSE, nrow(data)), count = 0L, beyond = FALSE, by_chance = 0, share = 0
    ))
  }
  codes <- row_codes(list(data[shared], known[shared]))
  known_rows(codes[[1]], codes[[2]])
}

# The same of rows by their numbers.
known_rows <- function(own, other) {
  found <- own %in% other
  n <- length(other)
  repeated <- sum(duplicated(other) | duplicated(other, fromLast = TRUE))
  share <- if (repeated < n) stats::qbeta(0.95, repeated + 1, n - repeated) else 1
  same <- n > 1 && length(own) == n && identical(sort(own), sort(other))
  list(
    found = found, count = sum(found), by_chance = length(own) * repeated / n,
    share = share, beyond = same || sum(found) > stats::qbinom(0.99, length(own), share)
  )
}
