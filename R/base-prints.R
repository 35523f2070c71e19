# Fingerprints of columns, tables and rows. They depend on values alone: whole numbers and others,
# a factor and its text, a tibble and a data frame, columns or levels in another order are the same.

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

column_hash <- function(x) rlang::hash(plain_values(x))

column_hashes <- function(data) vapply(data, column_hash, "")

table_print <- function(data) if (is.null(data)) "" else join_hashes(column_hashes(data))

# hashes: by column name.
join_hashes <- function(hashes) {
  rlang::hash(hashes[order(names(hashes), method = "radix")])
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
