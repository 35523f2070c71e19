# The study file: YAML that says what is studied, with which models, and what is to be computed.
#
# Its fields stand in inst/study/study.schema.json, which editors read as well. A file is checked
# against that, then against the files, columns and models it names; all faults are said at once,
# each with its line.
#
# fault   data frame of line, field, fault, todo
# spec    what a sound file says: a list as in the file, and `file`, `text`, `folder` (where paths
#         start)

new_fault <- function(line, field, fault, todo = "") {
  data.frame(line = as.integer(line), field = field, fault = fault, todo = todo)
}

no_faults <- function() new_fault(1L, "", "")[0, ]

format_faults <- function(x) {
  if (!nrow(x)) return("No faults.")
  x <- x[order(x$line, na.last = FALSE), ]
  paste0(
    ifelse(is.na(x$line), "", paste0("line ", x$line, ": ")),
    ifelse(nzchar(x$field), paste0(x$field, ": "), ""), x$fault,
    ifelse(nzchar(x$todo), paste0(" ", x$todo), "")
  )
}

# -> list(spec, faults): one of them
read_study_file <- function(file) {
  if (file.size(file) > most_bytes_of_file) {
    return(list(faults = new_fault(
      NA, "", paste0("the file has ", format_number(file.size(file)), " bytes."),
      paste0("A study file has ", format_number(most_bytes_of_file), " at most.")
    )))
  }
  text <- enc2utf8(readLines(file, warn = FALSE, encoding = "UTF-8"))
  fault <- fault_of_shape(text)
  if (!is.null(fault)) return(list(faults = fault))
  spec <- tryCatch(
    yaml::yaml.load(
      paste(text, collapse = "\n"),
      eval.expr = FALSE,
      # Words stay words: a class may be called "no".
      handlers = list(
        `bool#yes` = word_or_truth, `bool#no` = word_or_truth, int = whole_or_number
      )
    ),
    error = function(e) e
  )
  if (inherits(spec, "error")) {
    said <- conditionMessage(spec)
    line <- regmatches(said, regexpr("line [0-9]+", said))
    line <- if (length(line)) as.integer(sub("line ", "", line)) else NA
    return(list(faults = new_fault(
      line, "", paste0("this is no YAML: ", sub("^.*Parser error: *", "", said), "."),
      "Look at the indentation, and put text with a colon into quotes."
    )))
  }
  if (!is.list(spec) || is.null(names(spec))) {
    return(list(faults = new_fault(
      1, "", "the file holds no fields.", "Write one with dreher init or draft_study()."
    )))
  }
  if (count_nodes(spec) > most_nodes) {
    return(list(faults = new_fault(
      NA, "", paste0("the file holds more than ", format_number(most_nodes), " values."),
      "Does it repeat parts of itself by anchors (&) and aliases (*)?"
    )))
  }
  spec <- fill_empty(spec)
  faults <- check_by_schema(spec, study_schema(), character(), text)
  faults <- if (length(faults)) do.call(rbind, faults) else no_faults()
  if (nrow(faults)) return(list(faults = faults))
  spec$file <- normalizePath(file)
  spec$folder <- dirname(spec$file)
  spec$text <- text
  list(spec = spec)
}

# Parsing takes longer than it should where lists stand in lists hundreds deep.
most_bytes_of_file <- 2^20
most_depth <- 50
most_nodes <- 1e5

# What can be told before the file is parsed. -> a fault, or NULL
fault_of_shape <- function(text) {
  text[is.na(text)] <- ""
  # a bracket in a comment or in quotes is none
  plain <- gsub("\"[^\"]*\"|'[^']*'|(^| )#.*$", "", text)
  step <- lapply(strsplit(plain, "", fixed = TRUE), function(letters) {
    (letters %in% c("[", "{")) - (letters %in% c("]", "}"))
  })
  depth <- cumsum(as.double(unlist(step)))
  indent <- attr(regexpr("^[ -]*", text), "match.length")
  deep <- which(depth > most_depth)
  if (length(deep)) {
    line <- findInterval(deep[1] - 1, cumsum(lengths(step))) + 1
    return(new_fault(
      line, "", paste0("lists stand in each other, more than ", most_depth, " deep.")
    ))
  }
  if (any(indent > 10 * most_depth)) {
    return(new_fault(
      which(indent > 10 * most_depth)[1],
      "",
      "the line is indented too far to be a field."
    ))
  }
  begun <- FALSE
  for (i in seq_along(text)) {
    if (begun && grepl("^---(\\s|$)", text[i]) &&
        any(grepl("^[^#]", text[-seq_len(i)]))) {
      return(new_fault(
        i,
        "",
        "a second document begins here, which would not be read.",
        "Write a file of its own for it, or leave out the line."
      ))
    }
    begun <- begun || grepl("^[^#%]", text[i]) && !grepl("^---(\\s|$)", text[i])
  }
  NULL
}

# Values of a list of lists, up to one more than there may be.
count_nodes <- function(x, most = most_nodes) {
  n <- 1
  if (is.list(x)) {
    for (part in x) {
      n <- n + count_nodes(part, most - n)
      if (n > most) break
    }
  }
  n
}

# Whole numbers beyond R's stay numbers.
whole_or_number <- function(x) {
  whole <- suppressWarnings(as.integer(x))
  if (is.na(whole)) as.double(x) else whole
}

word_or_truth <- function(x) {
  switch(tolower(x), true = TRUE, false = FALSE, x)
}

# A section without fields ("report:") is one with none given.
fill_empty <- function(spec) {
  for (name in names(spec)) if (is.null(spec[[name]])) spec[[name]] <- list()
  spec
}

study_schema <- function() {
  jsonlite::read_json(system.file("study", "study.schema.json", package = "dreher"))
}

# --- against the schema ------------------------------------------------------------------------

# The part of JSON Schema that ours uses. path: names and numbers that lead to the value.
# -> list of faults
check_by_schema <- function(x, schema, path, text) {
  fault <- function(fault, todo = "", at = path) {
    list(new_fault(line_of(text, at), say_field(at), fault, todo))
  }
  if (!is.null(schema$anyOf)) {
    tried <- lapply(schema$anyOf, function(s) check_by_schema(x, s, path, text))
    if (any(lengths(tried) == 0)) return(list())
    return(fault(paste0("is not what it can be. ", schema$description)))
  }
  if (identical(schema$type, "object")) return(check_section(x, schema, path, text))
  if (identical(schema$type, "array")) {
    if (is.list(x) && !is.null(names(x))) return(fault("must be a list, as [a, b]."))
    if (!length(x)) return(if (is.null(schema$minItems)) list() else fault("is empty."))
    return(unlist(
      lapply(seq_along(x), function(i) {
        check_by_schema(x[[i]], schema$items, c(path, i), text)
      }),
      recursive = FALSE
    ))
  }
  problem <- fault_of_value(x, schema)
  if (length(problem)) fault(problem) else list()
}

check_section <- function(x, schema, path, text) {
  if (!is.list(x) || (length(x) && is.null(names(x)))) {
    return(list(new_fault(
      line_of(text, path), say_field(path), "must hold fields, each on a line of its own.",
      paste0("", schema$description)
    )))
  }
  known <- names(schema$properties)
  faults <- list()
  unknown <- 0
  for (name in names(x)) {
    part <- schema$properties[[name]]
    if (is.null(part) && is.list(schema$additionalProperties)) {
      part <- schema$additionalProperties
    }
    at <- c(path, name)
    if (!is.null(part)) {
      value <- x[[name]]
      if (is.null(value) && identical(part$type, "object")) value <- list()
      faults <- c(faults, check_by_schema(value, part, at, text))
    } else if (!isTRUE(schema$additionalProperties)) {
      unknown <- unknown + 1
      if (unknown > most_unknown) next
      faults <- c(faults, list(new_fault(
        line_of(text, at), say_field(at), "there is no such field here.",
        say_nearest(name, known)
      )))
    }
  }
  if (unknown > most_unknown) {
    faults <- c(faults, list(new_fault(
      line_of(text, path), say_field(path),
      paste0("there are ", format_number(unknown - most_unknown), " more unknown fields.")
    )))
  }
  for (name in setdiff(unlist(schema$required), names(x))) {
    faults <- c(faults, list(new_fault(
      if (length(path)) line_of(text, path) else NA, say_field(c(path, name)),
      "is missing.", sub("[.]$", ".", schema$properties[[name]]$description)
    )))
  }
  if (length(x) < max(0, unlist(schema$minProperties))) {
    faults <- c(faults, list(new_fault(
      line_of(text, path), say_field(path),
      paste0("must name at least ", schema$minProperties, "."), schema$description
    )))
  }
  faults
}

most_unknown <- 20

say_nearest <- function(name, known) {
  if (!length(known)) return("It has no fields.")
  if (nchar(name) > 60 || length(known) > 2000) return("")
  apart <- utils::adist(name, known, ignore.case = TRUE)[1, ]
  if (min(apart) <= 2) return(paste0("Did you mean ", known[which.min(apart)], "?"))
  paste0("There are ", list_words(known), ".")
}

fault_of_value <- function(x, schema) {
  if (length(x) != 1 || is.list(x) || is.na(x)) return("must be one value.")
  type <- schema$type
  sound <- switch(
    type,
    string = is.character(x),
    boolean = is.logical(x),
    integer = is.numeric(x) && is.finite(x) && x == round(x),
    number = is.numeric(x) && is.finite(x),
    TRUE
  )
  if (!sound) {
    # A name or a class may look like a number or a truth.
    if (type == "string" && is.null(schema$enum)) return(NULL)
    wanted <- c(
      string = "text", boolean = "true or false", integer = "a whole number",
      number = "a number"
    )[[type]]
    return(paste0("must be ", wanted, ", not \"", x, "\"."))
  }
  if (!is.null(schema$enum) && !x %in% unlist(schema$enum)) {
    choices <- as.character(unlist(schema$enum))
    return(paste0("\"", x, "\" must be one of ", list_words(choices), "."))
  }
  if (!is.null(schema$minimum) && x < schema$minimum) {
    return(paste0("must be at least ", format_number(schema$minimum), "."))
  }
  if (!is.null(schema$exclusiveMinimum) && x <= schema$exclusiveMinimum) {
    return(paste0("must be above ", schema$exclusiveMinimum, "."))
  }
  if (!is.null(schema$maximum) && x > schema$maximum) {
    return(paste0("must be at most ", format_number(schema$maximum), "."))
  }
  NULL
}

say_field <- function(path) {
  out <- ifelse(grepl("^[0-9]+$", path), paste0("[", path, "]"), paste0(".", path))
  sub("^[.]", "", paste(out, collapse = ""))
}

# The line where a value stands, as far as the indentation leads there.
line_of <- function(text, path) {
  indent <- attr(regexpr("^ *", text), "match.length")
  blank <- grepl("^ *(#.*)?$", text)
  inside <- which(!blank)
  found <- NA_integer_
  for (step in path) {
    if (!length(inside)) break
    if (grepl("^[0-9]+$", step)) {
      items <- inside[grepl("^ *- ", text[inside])]
      at <- items[as.integer(step)]
    } else {
      level <- min(indent[inside])
      key <- sub("^ *(- )?", "", text[inside])
      key <- sub("^['\"]?([^'\":]*)['\"]? *:.*$", "\\1", key)
      at <- inside[key == step & indent[inside] == level][1]
    }
    if (is.na(at)) break
    found <- at
    later <- inside[inside > at]
    end <- later[indent[later] <= indent[at] & !grepl("^ *- ", text[later])]
    inside <- if (length(end)) later[later < end[1]] else later
  }
  found
}
