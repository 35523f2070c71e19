# Fields of a PMML file: what the data must hold, how the file prepares it, and what it makes of it.
#
#   target    list(name, classes): classes as the dictionary lists them, or NULL
#   active    names of the fields that the model takes in, in its order
#   spare     further fields of the dictionary: some writers forget to say that a tree asks them
#   words     named list, for categorical fields their values
#   prepare   named list, what is done to the values of each active field first
#   derived   for each derived field the number of its element
#   floats    names of fields of single precision
#   asked     environment; `names`: fields that the model was found to ask, in their order

pmml_fields <- function(x, model) {
  schema <- kids(x, needed_kid(x, model, "MiningSchema"), "MiningField")
  # some writers list a field once more, in the same words
  schema <- schema[!duplicated(x$attributes[schema])]
  usage <- vapply(schema, function(at) said(x, at, "usageType", "active"), "")
  name <- vapply(schema, function(at) said(x, at, "name"), "")
  if (anyDuplicated(name)) file_fault("its model takes in a field twice")
  entries <- dictionary_entries(x)
  active <- name[usage == "active"]
  strange <- setdiff(active, names(entries))
  if (length(strange)) {
    file_fault("its dictionary lacks the field ", quote_some(strange[1]))
  }
  target <- name[usage %in% c("predicted", "target")]
  if (length(target) > 1) refuse_file("The model of the file has several targets")
  spare <- setdiff(names(entries), name)
  derived <- derived_fields(x)
  if (any(names(derived) %in% names(entries))) {
    file_fault("a derived field bears the name of another")
  }
  given <- c(active, spare)
  words <- lapply(stats::setNames(nm = c(given, names(derived))), function(f) {
    field_words(x, f, if (f %in% given) entries[[f]] else derived[[f]])
  })
  prepare <- c(
    Map(
      function(at, f) preparation(x, at, entries[[f]]), schema[usage == "active"], active
    ),
    lapply(spare, function(f) preparation(x, entries[[f]], entries[[f]]))
  )
  list(
    target = list(
      name = target, classes = if (length(target)) listed_values(x, entries[[target]])
    ),
    active = active,
    spare = spare,
    words = words[!vapply(words, is.null, NA)],
    prepare = stats::setNames(prepare, given),
    derived = derived,
    floats = float_fields(x, entries, derived),
    asked = list2env(list(names = character()), parent = emptyenv())
  )
}

dictionary_entries <- function(x) {
  dictionary <- kids(x, 1L, "DataDictionary")
  if (length(dictionary) != 1) file_fault("it lacks its data dictionary")
  all <- kids(x, dictionary, "DataField")
  stats::setNames(as.list(all), vapply(all, function(at) said(x, at, "name"), ""))
}

float_fields <- function(x, entries, derived) {
  all <- c(entries, derived)
  type <- vapply(all, function(at) said(x, at, "dataType", "double"), "")
  names(all)[type == "float"]
}

listed_values <- function(x, entry) {
  if (is.null(entry)) return(NULL)
  values <- kids(x, entry, "Value")
  fits <- vapply(values, function(at) said(x, at, "property", "valid"), "") == "valid"
  out <- vapply(values[fits], function(at) said(x, at, "value"), "")
  if (length(out)) unique(out)
}

# The values of a categorical field: as listed, else all that the file mentions; NULL for numbers.
field_words <- function(x, field, entry) {
  type <- said(x, entry, "dataType", "double")
  category <- said(x, entry, "optype", "continuous") != "continuous"
  if (!category && type %in% number_types) return(NULL)
  if (type == "boolean") return(c("false", "true"))
  listed <- listed_values(x, entry)
  if (!is.null(listed)) return(listed)
  made <- if (x$name[entry] == "DerivedField") made_words(x, entry)
  setdiff(unique(c(mentioned_words(x, field), made)), if (length(made)) "")
}

# All words that the expression of a derived field can give, and perhaps more.
made_words <- function(x, entry) {
  inside <- descendants(x, entry)
  words <- unlist(lapply(
    c("binValue", "defaultValue", "mapMissingTo"), attribute_of, x = x, at = inside
  ))
  texts <- inside[lengths(x$children[inside]) == 0 & x$name[inside] != "FieldRef"]
  words <- c(words, xml2::xml_text(x$nodes[texts]))
  unique(words[!is.na(words) & nzchar(words)])
}

mentioned_words <- function(x, field) {
  at <- which(x$name %in% c("SimplePredicate", "SimpleSetPredicate", "NormDiscrete"))
  here <- at[attribute_of(x, at, "field") %in% field]
  sets <- here[x$name[here] == "SimpleSetPredicate"]
  others <- which(x$name %in% c("CategoricalPredictor", "PPCell"))
  own <- attribute_of(x, others, "name")
  own[is.na(own)] <- attribute_of(x, others, "predictorName")[is.na(own)]
  words <- c(
    attribute_of(x, setdiff(here, sets), "value"),
    attribute_of(x, others[own %in% field], "value"),
    unlist(lapply(sets, function(s) array_words(x, needed_kid(x, s, "Array"))))
  )
  out <- unique(words[!is.na(words)])
  if (!length(out)) "" else out
}

# What is done to a field's values first. A step that is not said is NULL.
preparation <- function(x, at, entry) {
  number <- function(name) if (!is.na(said(x, at, name, NA))) said_number(x, at, name)
  type <- said(x, entry, "dataType", "double")
  fill <- said(x, at, "missingValueReplacement", NA)
  list(
    type = type,
    fill = if (!is.na(fill)) fill,
    outliers = said_word(
      x, at, "outliers", c("asIs", "asMissingValues", "asExtremeValues"), "asIs"
    ),
    low = number("lowValue"),
    high = number("highValue"),
    invalid = said_word(
      x, at, "invalidValueTreatment", c("returnInvalid", "asIs", "asMissing"), "returnInvalid"
    )
  )
}

derived_fields <- function(x) {
  all <- which(x$name == "DerivedField")
  names <- vapply(all, function(at) said(x, at, "name"), "")
  twice <- names[duplicated(names)]
  for (one in unique(twice)) {
    same <- vapply(all[names == one], function(at) as.character(x$nodes[[at]]), "")
    if (length(unique(same)) > 1) {
      refuse_file("The file makes several fields of the name ", quote_some(one))
    }
  }
  first <- !duplicated(names)
  stats::setNames(as.list(all[first]), names[first])
}

# A model inside another may name its fields again, but not prepare them otherwise.
check_inner_schema <- function(x, model, fields) {
  schema <- kid(x, model, "MiningSchema")
  if (!schema) return(invisible())
  for (at in kids(x, schema, "MiningField")) {
    name <- said(x, at, "name")
    if (!is.na(said(x, at, "missingValueReplacement", NA)) &&
        !identical(said(x, at, "missingValueReplacement"), fields$prepare[[name]]$fill)) {
      refuse_file(
        "A model inside the file fills gaps of field ",
        quote_some(name),
        " in a way of its own"
      )
    }
  }
}

# Notes that the model asks a field. Returns its values where it is categorical.
ask_field <- function(fields, name) {
  if (!name %in% c(fields$active, fields$spare, names(fields$derived))) {
    file_fault("it asks the field ", quote_some(name), ", which it does not take in")
  }
  fields$asked$names <- union(fields$asked$names, name)
  fields$words[[name]]
}

# --- the model's columns ------------------------------------------------------------------------

# Columns of the model: fields asked as they are or by nothing, and those that the file makes.
model_fields <- function(x, fields) {
  asked <- fields$asked$names
  made <- intersect(names(fields$derived), asked)
  used <- unique(unlist(lapply(made, function(f) sources_of(x, fields, f))))
  plain <- fields$active[fields$active %in% asked | !fields$active %in% used]
  c(plain, intersect(fields$spare, asked), made)
}

# The active fields that a field is made of.
sources_of <- function(x, fields, name, seen = character()) {
  if (name %in% c(fields$active, fields$spare)) return(name)
  at <- fields$derived[[name]]
  if (is.null(at) || name %in% seen) {
    file_fault("it lacks the field ", quote_some(name), ", or makes it of itself")
  }
  inside <- descendants(x, at)
  asked <- inside[x$name[inside] %in% c(
    "FieldRef", "NormDiscrete", "NormContinuous", "Discretize", "FieldColumnPair"
  )]
  names <- unique(attribute_of(x, asked, "field"))
  unique(unlist(lapply(names, function(f) sources_of(x, fields, f, c(seen, name)))))
}

# The function that makes the model's columns of the user's rows; NULL where they are the same.
pmml_encoder <- function(x, fields, columns) {
  plain <- vapply(
    columns,
    function(f) {
      how <- fields$prepare[[f]]
      !is.null(how) && is.null(how$fill) && how$outliers == "asIs" &&
        how$invalid != "asMissing" && !how$type %in% c("float", "boolean")
    },
    NA
  )
  if (all(plain)) return(NULL)
  stems <- lapply(stats::setNames(nm = columns), function(f) sources_of(x, fields, f))
  for (f in intersect(columns, names(fields$derived))) {
    check_expression(x, fields$derived[[f]])
  }
  function(rows) {
    check_columns(rows, unique(unlist(stems)), "data", "The predictor")
    value <- function(name) field_values(x, fields, name, rows, value)
    out <- lapply(columns, value)
    structure(
      as.data.frame(stats::setNames(out, columns), optional = TRUE), stems_from = stems
    )
  }
}

field_values <- function(x, fields, name, rows, value) {
  how <- fields$prepare[[name]]
  known <- fields$words[[name]]
  if (is.null(how)) {
    at <- fields$derived[[name]]
    out <- rep_len(expression_values(x, derived_expression(x, at), value), nrow(rows))
    return(as_type(out, said(x, at, "dataType", "double"), is.null(known), name))
  }
  out <- as_type(rows[[name]], how$type, is.null(known), name)
  if (!is.null(known)) {
    if (how$invalid == "asMissing") out[!out %in% known] <- NA
    if (how$invalid == "returnInvalid") {
      refuse_unknown(out, known, list(unknown = "refuse", from = name))
    }
  } else {
    out <- treat_outliers(out, how)
  }
  if (!is.null(how$fill)) {
    out[is.na(out)] <- if (is.null(known)) as.double(how$fill) else how$fill
  }
  out
}

as_type <- function(values, type, number, name) {
  if (!number) {
    if (is.logical(values)) values <- c("false", "true")[values + 1L]
    return(as.character(values))
  }
  out <- as_numbers(values, name)
  if (type == "float") round_single(out) else out
}

treat_outliers <- function(values, how) {
  low <- if (is.null(how$low)) -Inf else how$low
  high <- if (is.null(how$high)) Inf else how$high
  switch(
    how$outliers,
    asIs = values,
    asExtremeValues = pmin(pmax(values, low), high),
    asMissingValues = replace(values, which(values < low | values > high), NA)
  )
}
