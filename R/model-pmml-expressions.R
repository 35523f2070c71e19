# Expressions of PMML: how a derived field is worked out of others, for all rows at once.

number_types <- c("integer", "float", "double")

expression_names <- c(
  "Constant", "FieldRef", "NormContinuous", "NormDiscrete", "Discretize", "MapValues", "Apply"
)

derived_expression <- function(x, at) {
  found <- setdiff(x$children[[at]], kids(x, at, "Extension", "Value", "Interval"))
  if (length(found) != 1) file_fault(said_at(x, at), " has ", length(found), " expressions")
  found
}

# What is not read is said when the file is read, not when the first rows come.
check_expression <- function(x, at) {
  inside <- setdiff(descendants(x, at), kids(x, at, "Extension"))
  if (x$name[derived_expression(x, at)] %in% expression_names) {
    calls <- inside[x$name[inside] == "Apply"]
    strange <- setdiff(attribute_of(x, calls, "function"), names(pmml_functions))
    if (!length(strange)) return(invisible())
    refuse_file(said_at(x, at), " calls the function ", quote_some(strange[1]))
  }
  refuse_file(
    said_at(x, at), " is made by ", x$name[derived_expression(x, at)], ", which is not read"
  )
}

# value: function(name) -> the values of a field
expression_values <- function(x, at, value) {
  if (!x$name[at] %in% expression_names) refuse_file(said_at(x, at), " is not read")
  out <- switch(
    x$name[at],
    Constant = constant_value(x, at),
    FieldRef = value(said(x, at, "field")),
    NormDiscrete = as.double(
      as.character(value(said(x, at, "field"))) == said(x, at, "value")
    ),
    NormContinuous = norm_continuous(x, at, value(said(x, at, "field"))),
    Discretize = discretize(x, at, value(said(x, at, "field"))),
    MapValues = map_values(x, at, value),
    Apply = apply_values(x, at, value)
  )
  known <- said(x, at, "mapMissingTo", NA)
  if (!is.na(known)) out[is.na(out)] <- if (is.numeric(out)) as.double(known) else known
  out
}

constant_value <- function(x, at) {
  text <- text_of(x, at)
  number <- suppressWarnings(as.double(text))
  type <- said(x, at, "dataType", if (is.na(number)) "string" else "double")
  if (type == "boolean") return(tolower(text) == "true")
  if (type %in% number_types) as_number(text, x, at, "The constant") else text
}

# Functions by their PMML names; of arguments as vectors.
pmml_functions <- list(
  `+` = `+`,
  `-` = `-`,
  `*` = `*`,
  `/` = `/`,
  min = function(...) pmin(...),
  max = function(...) pmax(...),
  log10 = log10,
  ln = log,
  sqrt = sqrt,
  abs = abs,
  exp = exp,
  pow = `^`,
  threshold = function(a, b) as.double(a > b),
  floor = floor,
  ceil = ceiling,
  round = function(a) floor(a + 0.5),
  equal = `==`,
  notEqual = `!=`,
  lessThan = `<`,
  lessOrEqual = `<=`,
  greaterThan = `>`,
  greaterOrEqual = `>=`,
  and = function(...) Reduce(`&`, list(...)),
  or = function(...) Reduce(`|`, list(...)),
  not = `!`,
  isMissing = is.na,
  isNotMissing = function(a) !is.na(a),
  lowercase = tolower,
  uppercase = toupper,
  trimBlanks = trimws,
  `if` = function(test, yes, no = NA) {
    n <- length(test)
    out <- rep_len(no, n)
    out[which(test)] <- rep_len(yes, n)[which(test)]
    out[is.na(test)] <- NA
    out
  }
)

apply_values <- function(x, at, value) {
  name <- said(x, at, "function")
  f <- pmml_functions[[name]]
  if (is.null(f)) refuse_file(said_at(x, at), " calls the function ", quote_some(name))
  parts <- setdiff(x$children[[at]], kids(x, at, "Extension"))
  given <- lapply(parts, function(part) expression_values(x, part, value))
  if (name == "if") given <- same_length(given)
  tryCatch(do.call(f, given), error = function(e) {
    file_fault("the function ", name, " of ", said_at(x, at), " does not fit its arguments")
  })
}

same_length <- function(given) lapply(given, rep_len, max(lengths(given)))

# A line through points, carried on at its ends as the file says.
norm_continuous <- function(x, at, values) {
  points <- kids(x, at, "LinearNorm")
  from <- vapply(points, function(p) said_number(x, p, "orig"), 0)
  to <- vapply(points, function(p) said_number(x, p, "norm"), 0)
  if (length(from) < 2 || is.unsorted(from, strictly = TRUE)) {
    file_fault("the points of ", said_at(x, at), " are not in order")
  }
  i <- pmin(pmax(findInterval(values, from), 1), length(from) - 1)
  out <- to[i] + (to[i + 1] - to[i]) * ((values - from[i]) / (from[i + 1] - from[i]))
  outside <- which(values < from[1] | values > from[length(from)])
  switch(
    said_word(x, at, "outliers", c("asIs", "asMissingValues", "asExtremeValues"), "asIs"),
    asMissingValues = out[outside] <- NA,
    asExtremeValues = out[outside] <- ifelse(
      values[outside] < from[1], to[1], to[length(to)]
    )
  )
  out
}

discretize <- function(x, at, values) {
  out <- rep(said(x, at, "defaultValue", NA_character_), length(values))
  for (bin in rev(kids(x, at, "DiscretizeBin"))) {
    interval <- needed_kid(x, bin, "Interval")
    closure <- said_word(
      x, interval, "closure", c("openClosed", "openOpen", "closedOpen", "closedClosed")
    )
    side <- function(name, or) as_number(said(x, interval, name, or), x, interval, name)
    low <- if (is.na(said(x, interval, "leftMargin", NA))) -Inf else side("leftMargin")
    high <- if (is.na(said(x, interval, "rightMargin", NA))) Inf else side("rightMargin")
    above <- if (startsWith(closure, "closed")) values >= low else values > low
    below <- if (endsWith(closure, "Closed")) values <= high else values < high
    out[which(above & below)] <- said(x, bin, "binValue")
  }
  out[is.na(values)] <- NA
  out
}

# A table of values: the row whose cells equal the fields' values gives the output.
map_values <- function(x, at, value) {
  pairs <- kids(x, at, "FieldColumnPair")
  rows <- kids(x, needed_kid(x, at, "InlineTable"), "row")
  cell <- function(column) {
    vapply(rows, function(r) {
      found <- kids(x, r, column)
      if (length(found) != 1) file_fault("a row of ", said_at(x, at), " lacks its ", column)
      text_of(x, found)
    }, "")
  }
  key <- function(parts) do.call(paste, c(parts, sep = "\r"))
  given <- lapply(pairs, function(p) as.character(value(said(x, p, "field"))))
  known <- lapply(pairs, function(p) cell(said(x, p, "column")))
  out <- cell(said(x, at, "outputColumn"))[match(key(given), key(known))]
  out[is.na(out)] <- said(x, at, "defaultValue", NA_character_)
  out[Reduce(`|`, lapply(given, is.na))] <- NA
  out
}
