# The messages of ONNX files: graph, nodes, attributes, tensors. Numbers of fields are those of the
# format's definition (onnx.proto, IR version 3 and later).
#
# A message is a list: `bytes` (of the whole file), and its fields `field`, `type`, `from`, `size`,
# `number`, as wire_fields() gives them.

wire_message <- function(bytes, from = 0, size = length(bytes)) {
  out <- wire_fields(bytes, from, size)
  if (nzchar(out$fault)) {
    file_fault(out$fault, ", at byte ", format(out$where + 1, scientific = FALSE))
  }
  out$bytes <- bytes
  out
}

# Messages in a field.
messages_in <- function(m, field) {
  lapply(which(m$field == field & m$type == 2L), function(i) {
    wire_message(m$bytes, m$from[i], m$size[i])
  })
}

one_message <- function(m, field, what) {
  found <- messages_in(m, field)
  if (length(found) != 1) file_fault("it has ", length(found), " of ", what, ", not one")
  found[[1]]
}

texts_in <- function(m, field) {
  i <- which(m$field == field & m$type == 2L)
  out <- vapply(i, function(k) {
    part <- m$bytes[m$from[k] + seq_len(m$size[k])]
    if (any(part == 0)) file_fault("a text holds a zero byte")
    rawToChar(part)
  }, "")
  if (!all(validUTF8(out))) file_fault("a text is no text")
  Encoding(out) <- "UTF-8"
  out
}

text_in <- function(m, field, or = "") {
  found <- texts_in(m, field)
  if (length(found)) found[length(found)] else or
}

# Numbers of a field, one by one or packed. kind: 0 whole, 1 single precision, 2 double
numbers_in <- function(m, field, kind) {
  i <- which(m$field == field)
  packed <- m$type[i] == 2L
  if (!any(packed)) return(m$number[i])
  unlist(lapply(i, function(k) {
    if (m$type[k] != 2L) return(m$number[k])
    out <- wire_packed(m$bytes, m$from[k], m$size[k], kind)
    if (nzchar(out$fault)) file_fault(out$fault, " in packed numbers")
    out$numbers
  }))
}

# --- tensors ------------------------------------------------------------------------------------

# list(values, dims): numbers or texts in the order of rows.
tensor_of <- function(m) {
  if (any(m$field %in% 13:14 & m$number == 1) || any(m$field == 13)) {
    refuse_file("A tensor of the file is kept in another file")
  }
  type <- numbers_in(m, 2, 0)
  if (length(type) != 1) file_fault("a tensor does not say its type")
  dims <- numbers_in(m, 1, 0)
  raw <- which(m$field == 9 & m$type == 2L)
  values <- if (length(raw)) {
    raw_numbers(m$bytes[m$from[raw[1]] + seq_len(m$size[raw[1]])], type)
  } else {
    field <- c(`1` = 4, `6` = 5, `7` = 7, `9` = 5, `11` = 10)[as.character(type)]
    if (type == 8) {
      texts_in(m, 6)
    } else if (is.na(field)) {
      refuse_file("A tensor of the file is of type ", type, ", which is not read")
    } else {
      numbers_in(m, field, switch(as.character(type), `1` = 1L, `11` = 2L, 0L))
    }
  }
  count <- prod(dims)
  if (!is.finite(count) || any(dims < 0) || length(values) != count) {
    file_fault("a tensor does not hold as many values as it says")
  }
  list(values = values, dims = dims)
}

raw_numbers <- function(bytes, type) {
  kind <- c(`1` = 1L, `11` = 2L)[as.character(type)]
  if (!is.na(kind)) {
    out <- wire_packed(bytes, 0, length(bytes), kind)
    if (nzchar(out$fault)) file_fault(out$fault, " in a tensor")
    return(out$numbers)
  }
  size <- c(`6` = 4L, `7` = 8L)[as.character(type)]
  if (is.na(size) || length(bytes) %% size) {
    refuse_file("A tensor of the file is of type ", type, " in bytes, which is not read")
  }
  if (size == 4L) {
    return(as.double(readBin(bytes, "integer", length(bytes) / 4, 4, endian = "little")))
  }
  words <- matrix(readBin(bytes, "integer", length(bytes) / 4, 4, endian = "little"), 2)
  (words[1, ] %% 2^32) + words[2, ] * 2^32
}

# --- nodes --------------------------------------------------------------------------------------

# A node of the graph: list(op, name, inputs, outputs, attributes: messages by name).
node_of <- function(m) {
  attributes <- messages_in(m, 5)
  names(attributes) <- vapply(attributes, text_in, "", field = 1)
  list(
    op = text_in(m, 4),
    name = text_in(m, 3, text_in(m, 4)),
    inputs = texts_in(m, 1),
    outputs = texts_in(m, 2),
    attributes = attributes
  )
}

said_node <- function(node) {
  paste0("node \"", node$name, "\"", if (node$name != node$op) paste0(" (", node$op, ")"))
}

# Attributes by name and kind; `or` where there is none, a fault without `or`.
node_numbers <- function(node, name, whole = FALSE, or) {
  m <- node$attributes[[name]]
  if (is.null(m)) {
    tensor <- node$attributes[[paste0(name, "_as_tensor")]]
    if (!is.null(tensor)) {
      return(as.double(tensor_of(one_message(tensor, 5, "tensors"))$values))
    }
    if (missing(or)) file_fault(said_node(node), " lacks its attribute ", name)
    return(or)
  }
  out <- if (whole) numbers_in(m, 8, 0) else numbers_in(m, 7, 1)
  if (whole && anyNA(out)) {
    file_fault("`", name, "` of ", said_node(node), " is beyond measure")
  }
  out
}

node_number <- function(node, name, or, whole = TRUE) {
  m <- node$attributes[[name]]
  found <- if (!is.null(m)) numbers_in(m, if (whole) 3 else 2, if (whole) 0 else 1)
  if (length(found) == 1 && !is.na(found)) return(found)
  if (length(found)) file_fault("`", name, "` of ", said_node(node), " is not one number")
  or
}

node_text <- function(node, name, or) {
  m <- node$attributes[[name]]
  if (is.null(m)) or else text_in(m, 4)
}

node_texts <- function(node, name) {
  m <- node$attributes[[name]]
  if (!is.null(m)) texts_in(m, 9)
}
