# Values as bytes: plain data, and nothing that R would run.
#
# What a run folder holds may have been written by somebody else, so results are not serialised as
# R objects. A value is vectors and lists with attributes; it is written as
#
#   bytes 0-3  "drv1"
#   bytes 4-7  length of the description, unsigned, little-endian
#   then       the description: JSON, a tree of {type, length, attributes, items}
#   then       the vectors in the order of the tree: doubles in 8 bytes, integers and logicals in 4
#              (all little-endian), raw bytes as they are, text as its lengths in bytes (integers,
#              -1 for missing) followed by its bytes in UTF-8
#
# docs/run-folder.md says the same to readers outside the package.

value_mark <- charToRaw("drv1")

value_types <- c("NULL", "logical", "integer", "double", "character", "raw", "list")

# Attributes that R gives a meaning; others hold data of ours.
value_classes <- list("data.frame", "factor", c("ordered", "factor"))

encode_value <- function(value) {
  vectors <- list()
  describe <- function(x) {
    if (!typeof(x) %in% value_types || isS4(x)) {
      stop_internal(paste0(
        "A result of type ", typeof(x), " cannot be written down as data."
      ))
    }
    more <- attributes(x)
    if (!is.null(more$class) && !list(as.vector(more$class)) %in% value_classes) {
      stop_internal(paste0(
        "A result of class ", quote_some(more$class), " cannot be written down as data."
      ))
    }
    attributes(x) <- NULL
    node <- list(type = typeof(x), length = length(x))
    if (is.list(x)) {
      node$items <- lapply(x, describe)
    } else if (length(x)) {
      vectors[[length(vectors) + 1]] <<- bytes_of(x)
    }
    if (length(more)) node$attributes <- lapply(more, describe)
    node
  }
  shape <- charToRaw(enc2utf8(as.character(jsonlite::toJSON(
    describe(value), auto_unbox = TRUE, digits = NA
  ))))
  c(value_mark, writeBin(length(shape), raw(), 4, "little"), shape, unlist(vectors))
}

bytes_of <- function(x) {
  if (is.raw(x)) return(x)
  if (is.logical(x)) return(writeBin(as.integer(x), raw(), 4, "little"))
  if (is.integer(x)) return(writeBin(x, raw(), 4, "little"))
  if (is.double(x)) return(writeBin(x, raw(), 8, "little"))
  x <- enc2utf8(x)
  size <- nchar(x, "bytes")
  size[is.na(x)] <- -1L
  c(
    writeBin(as.integer(size), raw(), 4, "little"),
    charToRaw(paste(x[!is.na(x)], collapse = ""))
  )
}

# Throws an ordinary error where the bytes are not such a value: the caller says whose they are.
decode_value <- function(bytes) {
  if (!is.raw(bytes) || length(bytes) < 8 || !identical(bytes[1:4], value_mark)) {
    stop("it does not begin as a value does")
  }
  shape_size <- readBin(bytes[5:8], "integer", 1, 4, endian = "little")
  if (is.na(shape_size) || shape_size < 2 || shape_size > length(bytes) - 8) {
    stop("its description is cut short")
  }
  text <- rawToChar(bytes[8 + seq_len(shape_size)])
  at <- 8 + shape_size
  take <- function(size) {
    if (is.na(size) || size < 0 || size > length(bytes) - at) stop("it is cut short")
    part <- bytes[at + seq_len(size)]
    at <<- at + size
    part
  }
  build <- function(node) {
    size <- length_of_node(node, length(bytes))
    if (node$type == "list") {
      if (length(node$items) != size) stop("a list has another length than it says")
      x <- lapply(unname(node$items), build)
    } else {
      x <- vector_of(node$type, size, take)
    }
    with_attributes(x, lapply(node$attributes, build))
  }
  value <- build(jsonlite::parse_json(text))
  if (at != length(bytes)) stop("it is longer than it says")
  value
}

length_of_node <- function(node, most) {
  size <- node$length
  sound <- is.list(node) && is.character(node$type) && length(node$type) == 1 &&
    node$type %in% value_types && is.numeric(size) && length(size) == 1 && !is.na(size) &&
    size >= 0 && size <= most && size == round(size)
  if (!sound) stop("its description is not sound")
  size
}

vector_of <- function(type, size, take) {
  if (type == "NULL") return(NULL)
  if (size == 0) return(vector(type, 0))
  integers <- function() readBin(take(4 * size), "integer", size, 4, endian = "little")
  switch(
    type,
    raw = take(size),
    logical = as.logical(integers()),
    integer = integers(),
    double = readBin(take(8 * size), "double", size, 8, endian = "little"),
    character = {
      sizes <- integers()
      if (anyNA(sizes) || any(sizes < -1)) stop("text has impossible lengths")
      ends <- cumsum(pmax(as.double(sizes), 0))
      bytes <- take(ends[size])
      if (any(bytes == as.raw(0))) stop("text holds a zero byte")
      x <- substring_bytes(bytes, ends - pmax(sizes, 0) + 1, ends)
      x[sizes < 0] <- NA_character_
      x
    }
  )
}

substring_bytes <- function(bytes, first, last) {
  x <- vapply(seq_along(first), function(i) {
    if (last[i] < first[i]) "" else rawToChar(bytes[first[i]:last[i]])
  }, "")
  Encoding(x) <- "UTF-8"
  if (!all(validUTF8(x))) stop("text is not UTF-8")
  x
}

with_attributes <- function(x, more) {
  if (!length(more)) return(x)
  if (is.null(x)) stop("nothing can have no attributes")
  allowed <- is.null(more$class) || list(more$class) %in% value_classes
  if (!allowed || any(c("tsp", "") %in% names(more))) {
    stop("it has an attribute it may not have")
  }
  # Dimensions come before their names, the class last.
  first <- intersect(c("dim", "names", "levels"), names(more))
  for (name in c(
      first, setdiff(names(more), c(first, "class")), intersect("class", names(more))
    )) {
    attr(x, name) <- more[[name]]
  }
  check_value_class(x)
  x
}

check_value_class <- function(x) {
  if (is.factor(x)) {
    codes <- as.integer(x)
    sound <- is.integer(unclass(x)) && is.character(levels(x)) && !anyDuplicated(levels(x)) &&
      all(is.na(codes) | (codes >= 1 & codes <= nlevels(x)))
    if (!sound) stop("a factor is not sound")
  }
  if (is.data.frame(x)) {
    columns <- unclass(x)
    sound <- is.list(columns) && length(names(columns)) == length(columns) &&
      all(vapply(columns, NROW, 1L) == .row_names_info(x, 2L))
    if (!sound) stop("a table is not sound")
  }
}
