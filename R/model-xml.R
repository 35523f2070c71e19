# A document of XML as a table of its elements in the order of the document, so that large ones are
# read at the speed of vectors. Elements are numbered; the root is 1.
#
#   name, parent   of each element
#   children       list, the numbers of each element's children
#   attributes     list, for each element its attributes as named text
#   nodes          the elements themselves, for their text
#
# Entities are not expanded and nothing outside the file is read.

xml_table <- function(bytes) {
  rlang::check_installed("xml2", "to read files of XML")
  # odd names of attributes are none of our business
  doc <- tryCatch(
    suppressWarnings(xml2::read_xml(bytes, options = c("NOBLANKS", "NONET"))),
    error = function(e) {
      file_fault("it is no XML (", sub("\\s*\\[[0-9]+\\]\\s*$", "", first_line(e)), ")")
    }
  )
  nodes <- xml2::xml_find_all(doc, "//*")
  name <- xml2::xml_name(nodes)
  parent <- preorder_parents(xml2::xml_length(nodes))
  children <- vector("list", length(name))
  found <- split(seq_along(parent)[-1], factor(parent[-1], unique(parent[-1])))
  children[as.integer(names(found))] <- found
  list(
    name = name,
    parent = parent,
    children = children,
    attributes = xml2::xml_attrs(nodes),
    nodes = nodes
  )
}

first_line <- function(e) strsplit(conditionMessage(e), "\n", fixed = TRUE)[[1]][1]

# The parent of each element, from how many children each has, in the order of the document.
preorder_parents <- function(count) {
  parent <- integer(length(count))
  above <- 0L
  left <- count
  for (i in seq_along(count)) {
    parent[i] <- above
    if (above > 0) left[above] <- left[above] - 1L
    if (count[i] > 0) {
      above <- i
    } else {
      while (above > 0 && left[above] == 0) above <- parent[above]
    }
  }
  parent
}

# Numbers of the children of element `at` that bear one of the names.
kids <- function(x, at, ...) {
  all <- x$children[[at]]
  all[x$name[all] %in% c(...)]
}

# The one child of a name; 0 where there is none.
kid <- function(x, at, name) {
  found <- kids(x, at, name)
  if (length(found) > 1) file_fault(said_at(x, at), " has several ", name, " elements")
  if (length(found)) found else 0L
}

needed_kid <- function(x, at, name) {
  found <- kid(x, at, name)
  if (!found) file_fault(said_at(x, at), " lacks its ", name)
  found
}

# An element in words.
said_at <- function(x, at) {
  own <- x$attributes[[at]]
  id <- own[intersect(c("id", "name", "field", "modelName"), names(own))]
  paste0(
    "<", x$name[at], if (length(id)) paste0(" ", names(id)[1], "=\"", id[[1]], "\""), ">"
  )
}

# An attribute; `or` where it is not there, a fault without `or`.
said <- function(x, at, name, or) {
  value <- x$attributes[[at]][name]
  if (length(value) == 1 && !is.na(value)) return(unname(value))
  if (missing(or)) file_fault(said_at(x, at), " lacks its attribute ", name)
  or
}

# An attribute that is one of some words.
said_word <- function(x, at, name, words, or) {
  value <- said(x, at, name, or)
  if (!value %in% words) {
    refuse_file(said_at(x, at), " has ", name, "=\"", value, "\", which is not read")
  }
  value
}

said_number <- function(x, at, name, or) as_number(said(x, at, name, or), x, at, name)

as_number <- function(value, x, at, name) {
  out <- suppressWarnings(as.double(value))
  if (length(out) != 1 || !is.finite(out)) {
    file_fault(name, " of ", said_at(x, at), " is \"", value, "\", no number")
  }
  out
}

text_of <- function(x, at) xml2::xml_text(x$nodes[[at]])

# An attribute of several elements.
attribute_of <- function(x, at, name) {
  vapply(x$attributes[at], function(a) unname(a[name]), "")
}

# All elements below one.
descendants <- function(x, at) {
  below <- x$children[[at]]
  c(below, unlist(lapply(below, function(one) descendants(x, one))))
}
