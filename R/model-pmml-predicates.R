# Predicates of PMML trees: when does a row go to a node's child?
#
# A predicate is a list: `kind` ("true", "false", "test", "and", "or", "xor", "surrogate"), `fields`
# that it asks, and `parts` or, for a test, `operator` and `value`. Its answer is TRUE, FALSE or NA
# (not known, for missing values), by three-valued logic as R has it.

comparisons <- c("lessThan", "lessOrEqual", "greaterThan", "greaterOrEqual")
predicate_names <- c(
  "True", "False", "SimplePredicate", "SimpleSetPredicate", "CompoundPredicate"
)

# The predicate of element `at` (a node or a segment).
predicate_of <- function(x, at) {
  found <- kids(x, at, predicate_names)
  if (length(found) != 1) file_fault(said_at(x, at), " has ", length(found), " predicates")
  new_predicate(x, found)
}

new_predicate <- function(x, at) {
  switch(
    x$name[at],
    True = list(kind = "true", fields = character()),
    False = list(kind = "false", fields = character()),
    SimplePredicate = simple_predicate(x, at),
    SimpleSetPredicate = list(
      kind = "test",
      fields = said(x, at, "field"),
      operator = said_word(x, at, "booleanOperator", c("isIn", "isNotIn")),
      value = array_words(x, needed_kid(x, at, "Array"))
    ),
    CompoundPredicate = {
      parts <- lapply(kids(x, at, predicate_names), function(part) new_predicate(x, part))
      if (!length(parts)) file_fault(said_at(x, at), " is empty")
      list(
        kind = said_word(x, at, "booleanOperator", c("and", "or", "xor", "surrogate")),
        fields = fields_of(parts),
        parts = parts
      )
    }
  )
}

fields_of <- function(parts) unique(unlist(lapply(parts, `[[`, "fields")))

simple_predicate <- function(x, at) {
  operator <- said_word(
    x, at, "operator", c(comparisons, "equal", "notEqual", "isMissing", "isNotMissing")
  )
  list(
    kind = "test",
    fields = said(x, at, "field"),
    operator = operator,
    value = if (!operator %in% c("isMissing", "isNotMissing")) said(x, at, "value")
  )
}

# Words of an array: parted by blanks, in quotes where they hold some.
array_words <- function(x, at) {
  text <- text_of(x, at)
  words <- regmatches(
    text, gregexpr("\"(?:[^\"\\\\]|\\\\.)*\"|[^\\s\"]+", text, perl = TRUE)
  )[[1]]
  quoted <- startsWith(words, "\"")
  words[quoted] <- substring(words[quoted], 2, nchar(words[quoted]) - 1)
  words[quoted] <- gsub("\\\\(.)", "\\1", words[quoted], perl = TRUE)
  if (!is.na(said(x, at, "n", NA)) && said_number(x, at, "n") != length(words)) {
    file_fault(said_at(x, at), " does not hold as many words as it says")
  }
  words
}

# The answers of a predicate on values of its one field: numbers, or words of a category.
# Of surrogates the first, the main one, is asked.
answers <- function(p, values) {
  switch(
    p$kind,
    true = rep(TRUE, length(values)),
    false = rep(FALSE, length(values)),
    test = test_answers(p, values),
    surrogate = answers(p$parts[[1]], values),
    Reduce(
      switch(p$kind, and = `&`, or = `|`, xor = xor),
      lapply(p$parts, answers, values)
    )
  )
}

test_answers <- function(p, values) {
  if (p$operator == "isMissing") return(is.na(values))
  if (p$operator == "isNotMissing") return(!is.na(values))
  words <- is.character(values)
  if (words && p$operator %in% comparisons) {
    refuse_file(
      "The order of categories is asked for field \"", p$fields, "\", which is not read"
    )
  }
  asked <- if (words) p$value else field_numbers(p)
  if (p$operator %in% c("isIn", "isNotIn")) {
    inside <- values %in% asked
    inside[is.na(values)] <- NA
    return(if (p$operator == "isIn") inside else !inside)
  }
  switch(
    p$operator,
    lessThan = values < asked,
    lessOrEqual = values <= asked,
    greaterThan = values > asked,
    greaterOrEqual = values >= asked,
    equal = values == asked,
    notEqual = values != asked
  )
}

field_numbers <- function(p) {
  if (!is.null(p$number)) return(p$number)
  out <- suppressWarnings(as.double(p$value))
  if (!length(out) || !all(is.finite(out))) {
    file_fault(
      "field \"", p$fields, "\" is compared with ", quote_some(p$value), ", no number"
    )
  }
  out
}

# All numbers that a predicate compares its field with.
numbers_asked <- function(p) {
  if (!is.null(p$parts)) return(unlist(lapply(p$parts, numbers_asked)))
  if (is.null(p$value)) numeric() else field_numbers(p)
}

# Fields of single precision are compared with numbers of single precision.
round_asked <- function(p, floats) {
  if (!is.null(p$parts)) {
    p$parts <- lapply(p$parts, round_asked, floats)
  } else if (!is.null(p$value) && p$fields %in% floats) {
    p$number <- round_single(field_numbers(p))
  }
  p
}
