# Model files as documents: what they hold is taken by name and type, and faults are said.

file_fault <- function(...) {
  stop_model(
    paste0("The model file is not sound: ", ..., "."),
    todo = paste0(
      "Write it again with the library that trained the model; it may have been cut ",
      "short."
    )
  )
}

# What a sound file may hold and dreher does not read.
refuse_file <- function(...) {
  stop_model(
    paste0(..., "."),
    todo = paste0(
      "Give `study(predict_with = )` a function that calls the program that made the ",
      "file, or ", "write the model in another form."
    )
  )
}

# Are the tables that a file asks for ones that memory holds? Said before they are made: a small
# file can ask for much. outputs, nodes: their numbers; sets: levels in all sets of categories
# together.
most_cells <- 2.5e8

check_model_size <- function(outputs, nodes, sets = 0) {
  cells <- as.double(outputs) * nodes + sets
  if (cells <= most_cells) return(invisible())
  stop_model(
    paste0(
      "The model file asks for ",
      format(signif(cells, 2), big.mark = ",", scientific = FALSE),
      " values, more than are read."
    ),
    paste0(
      "It has ", format(nodes, big.mark = ","), " nodes, ",
      format(outputs, big.mark = ","), " outputs, and ",
      format(sets, big.mark = ",", scientific = FALSE),
      " entries in its sets of categories."
    ),
    "Give `study(predict_with = )` a function that predicts."
  )
}

# A column is a number or a category, in all trees. read: trees; most: per column the largest
# category, -1 where there is none.
check_kinds <- function(read, most, columns) {
  numeric <- unique(unlist(lapply(read, function(t) {
    t$column[t$column >= 0L & vapply(t$set, is.null, NA)]
  })))
  both <- intersect(numeric + 1L, which(most >= 0))
  if (length(both)) {
    file_fault(
      "column ",
      quote_some(columns[both]),
      " is a number in some nodes, a category in others"
    )
  }
  nodes <- unlist(lapply(read, function(t) t$column[!vapply(t$set, is.null, NA)]))
  sets <- sum(most[nodes + 1L] + 2)
  if (sets > 1e7) check_model_size(10, sets, 0)
}

document_of <- function(bytes, binary) {
  parsed <- parse_document(bytes, binary)
  if (nzchar(parsed$fault)) {
    file_fault(parsed$fault, ", at byte ", format(parsed$where, scientific = FALSE))
  }
  parsed$value
}

take <- function(x, name, where) {
  out <- if (is.list(x)) x[[name, exact = TRUE]]
  if (is.null(out)) file_fault("`", name, "` is missing in ", where)
  out
}

take_table <- function(x, name, where) {
  out <- take(x, name, where)
  if (!is.list(out) || is.null(names(out))) {
    file_fault("`", name, "` of ", where, " is not a table")
  }
  out
}

take_list <- function(x, name, where) {
  out <- take(x, name, where)
  if (is.numeric(out) && !length(out)) out <- list()
  if (!is.list(out) || !is.null(names(out))) {
    file_fault("`", name, "` of ", where, " is not a list")
  }
  out
}

take_text <- function(x, name, where) {
  out <- take(x, name, where)
  if (!is.character(out) || length(out) != 1 || !validUTF8(out)) {
    file_fault("`", name, "` of ", where, " is not a text")
  }
  out
}

take_texts <- function(x, name, where) {
  out <- take_list(x, name, where)
  fits <- vapply(out, function(t) is.character(t) && length(t) == 1 && validUTF8(t), NA)
  if (!all(fits)) file_fault("`", name, "` of ", where, " holds something else than texts")
  as.character(unlist(out))
}

# Numbers of a given count, whole where they number something.
take_numbers <- function(x, name, where, size = NULL, whole = FALSE) {
  out <- take(x, name, where)
  if (is.list(out)) out <- as_truths(out)
  if (!is.numeric(out)) file_fault("`", name, "` of ", where, " does not hold numbers")
  if (!is.null(size) && length(out) != size) {
    file_fault(
      "`", name, "` of ", where, " has ", length(out), " entries instead of ", size
    )
  }
  if (!whole) return(out)
  if (anyNA(out) || any(abs(out) > 2147483647) || any(out != round(out))) {
    file_fault("`", name, "` of ", where, " holds something else than whole numbers")
  }
  as.integer(out)
}

take_count <- function(x, name, where) {
  out <- take_number(x, name, where)
  if (out < 0 || out > 1e8 || out != round(out)) {
    file_fault("`", name, "` of ", where, " is not a count")
  }
  as.integer(out)
}

as_truths <- function(x) {
  if (length(x) && all(vapply(x, is.logical, NA))) as.double(unlist(x)) else x
}

# A number that libraries write as text or as a number.
take_number <- function(x, name, where) {
  said <- unlist(take(x, name, where))
  # text that is no text cannot be asked for its number
  if (is.character(said) && !all(validUTF8(said))) {
    file_fault("`", name, "` of ", where, " is not a number")
  }
  out <- suppressWarnings(as.double(said))
  if (length(out) != 1 || !is.finite(out)) {
    file_fault("`", name, "` of ", where, " is not a number")
  }
  out
}
