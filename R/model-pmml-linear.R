# Regression models of PMML: terms of numbers, categories and their products.
#
# A part of a model (here and in model-pmml-sums.R) is a list: `task`, `classes`, `link`, `gaps`,
# and either `linear` or `trees`, `weight` and `base`.

# A column of the design: the product of its factors. factor: list(field, power or word)
new_term <- function(factors) {
  list(
    key = paste(
      vapply(factors, function(f) {
        paste0(f$field, if (is.null(f$word)) paste0("^", f$power) else paste0("=", f$word))
      }, ""),
      collapse = " x "
    ),
    fields = unique(vapply(factors, `[[`, "", "field")),
    factors = factors
  )
}

term_values <- function(term, data) {
  Reduce(`*`, lapply(term$factors, function(f) {
    values <- data[[f$field]]
    if (is.null(f$word)) values^f$power else as.double(as.character(values) == f$word)
  }))
}

# beta: one list(intercept, terms, weights) for each output
linear_part <- function(outputs, task, classes, link) {
  terms <- unlist(lapply(outputs, `[[`, "terms"), recursive = FALSE)
  key <- vapply(terms, `[[`, "", "key")
  terms <- terms[!duplicated(key)]
  key <- unique(key)
  groups <- lapply(terms, function(t) sort(t$fields))
  named <- vapply(groups, paste, "", collapse = ":")
  beta <- vapply(outputs, function(o) {
    own <- factor(vapply(o$terms, `[[`, "", "key"), key)
    c(o$intercept, vapply(split(o$weights, own), sum, 0))
  }, numeric(length(key) + 1))
  beta <- matrix(beta, ncol = length(outputs), dimnames = list(c("(Intercept)", key), NULL))
  if (length(outputs) > 1) colnames(beta) <- classes
  first <- !duplicated(named)
  list(
    task = task,
    classes = classes,
    link = link,
    gaps = FALSE,
    linear = list(
      beta = if (length(outputs) > 1) beta else beta[, 1],
      term = c(0L, match(named, named[first])),
      columns = stats::setNames(groups[first], named[first]),
      design = function(data) {
        cbind(
          `(Intercept)` = rep(1, nrow(data)),
          do.call(cbind, stats::setNames(lapply(terms, term_values, data), key))
        )
      },
      invlink = switch(link, logit = stats::plogis, log = exp, identity),
      link = link,
      stretch = 1
    )
  )
}

# --- RegressionModel ----------------------------------------------------------------------------

regression_links <- c("none", "exp", "softmax", "logit", "simplemax")

regression_part <- function(x, model, fields) {
  tables <- kids(x, model, "RegressionTable")
  if (!length(tables)) file_fault(said_at(x, model), " has no table of coefficients")
  outputs <- lapply(tables, function(at) {
    found <- kids(x, at, "NumericPredictor", "CategoricalPredictor", "PredictorTerm")
    list(
      intercept = said_number(x, at, "intercept"),
      terms = lapply(found, function(one) regression_term(x, one, fields)),
      weights = vapply(found, function(one) said_number(x, one, "coefficient"), 0)
    )
  })
  read_tables(
    x, model, fields, tables, outputs,
    is_empty = function(output) !length(output$terms),
    turn = turned,
    make = linear_part
  )
}

# What tables of coefficients amount to: one number, the log-odds of the second class (the first
# table says those of its category), or a number for every class. outputs: a list each, with an
# `intercept`; turn(output, sign): all of it with that sign; make(outputs, task, classes,
# link): the part.
read_tables <- function(x, model, fields, tables, outputs, is_empty, turn, make) {
  normal <- said_word(x, model, "normalizationMethod", regression_links, "none")
  if (said(x, model, "functionName") == "regression") {
    if (length(tables) > 1) {
      file_fault(said_at(x, model), " has several tables of one number")
    }
    if (!normal %in% c("none", "exp")) refuse_normal(x, model, normal)
    return(make(outputs, "regression", NULL, if (normal == "exp") "log" else "identity"))
  }
  own <- vapply(tables, function(at) said(x, at, "targetCategory"), "")
  classes <- pmml_classes(own, fields)
  if (normal == "logit" && length(own) == 2) {
    if (!is_empty(outputs[[2]]) || outputs[[2]]$intercept != 0) {
      refuse_file("The second table of a logistic regression holds coefficients")
    }
    first <- turn(outputs[[1]], if (own[1] == classes[2]) 1 else -1)
    return(make(list(first), "classification", classes, "logit"))
  }
  if (normal != "softmax") refuse_normal(x, model, normal)
  make(outputs[match(classes, own)], "classification", classes, "softmax")
}

refuse_normal <- function(x, model, normal) {
  refuse_file(
    said_at(x, model), " makes its predictions by normalizationMethod=\"", normal,
    "\", which is not read here"
  )
}

turned <- function(output, sign) {
  output$intercept <- sign * output$intercept
  output$weights <- sign * output$weights
  output
}

# Classes in the order of the dictionary, which must hold them.
pmml_classes <- function(own, fields) {
  listed <- fields$target$classes
  if (anyDuplicated(own) || length(own) < 2) file_fault("its categories are not distinct")
  if (is.null(listed)) return(own)
  if (!setequal(listed, own)) file_fault("its categories are not those of the dictionary")
  listed
}

regression_term <- function(x, at, fields) {
  switch(
    x$name[at],
    NumericPredictor = new_term(list(list(
      field = asked_number(fields, said(x, at, "name")),
      power = said_number(x, at, "exponent", "1")
    ))),
    CategoricalPredictor = new_term(list(list(
      field = asked_word(fields, said(x, at, "name"), said(x, at, "value")),
      word = said(x, at, "value")
    ))),
    PredictorTerm = new_term(lapply(kids(x, at, "FieldRef"), function(one) {
      list(field = asked_number(fields, said(x, one, "field")), power = 1)
    }))
  )
}

asked_number <- function(fields, name) {
  if (!is.null(ask_field(fields, name))) {
    file_fault("the field ", quote_some(name), " is a category and is asked as a number")
  }
  name
}

asked_word <- function(fields, name, word) {
  if (!word %in% ask_field(fields, name)) {
    file_fault("the field ", quote_some(name), " has no value ", quote_some(word))
  }
  name
}

# --- GeneralRegressionModel ---------------------------------------------------------------------

general_part <- function(x, model, fields) {
  type <- said_word(
    x,
    model,
    "modelType",
    c("regression", "generalLinear", "generalizedLinear", "multinomialLogistic")
  )
  odd <- intersect(
    names(x$attributes[[model]]),
    c("offsetVariable", "offsetValue", "trialsVariable", "trialsValue")
  )
  if (length(odd)) {
    refuse_file(said_at(x, model), " has an ", odd[1], ", which is not read")
  }
  link <- if (type == "generalizedLinear") {
    said_word(x, model, "linkFunction", c("identity", "log", "logit"))
  } else {
    "identity"
  }
  terms <- general_terms(x, model, fields)
  cells <- kids(x, needed_kid(x, model, "ParamMatrix"), "PCell")
  target <- attribute_of(x, cells, "targetCategory")
  output <- function(these) {
    name <- vapply(these, function(at) said(x, at, "parameterName"), "")
    beta <- vapply(these, function(at) said_number(x, at, "beta"), 0)
    plain <- !name %in% names(terms)
    list(
      intercept = sum(beta[plain]),
      terms = unname(terms[name[!plain]]),
      weights = beta[!plain]
    )
  }
  if (type == "multinomialLogistic") {
    own <- unique(target)
    base <- said(x, model, "targetReferenceCategory", NA)
    if (is.na(base)) base <- setdiff(fields$target$classes, own)
    if (anyNA(own) || length(base) != 1) file_fault("its categories are not all told")
    all <- c(own, base)
    outputs <- c(
      lapply(own, function(one) output(cells[target == one])),
      if (!base %in% own) list(list(intercept = 0, terms = list(), weights = numeric()))
    )
    all <- unique(all)
    classes <- pmml_classes(all, fields)
    return(linear_part(
      outputs[match(classes, all)], "classification", classes, "softmax"
    ))
  }
  if (link == "logit") return(general_logistic(x, model, fields, output, cells, target))
  linear_part(list(output(cells)), "regression", NULL, link)
}

# Of which category it says the log-odds, where the file tells; else of the second, and of 1.
general_logistic <- function(x, model, fields, output, cells, target) {
  classes <- fields$target$classes
  if (is.null(classes)) classes <- c("0", "1")
  if (length(classes) != 2) file_fault("a logistic regression has not two classes")
  of <- unique(target[!is.na(target)])
  if (length(of) > 1 || !all(of %in% classes)) file_fault("its categories are not all told")
  if (!length(of)) {
    base <- said(x, model, "targetReferenceCategory", classes[1])
    of <- setdiff(classes, base)
  }
  sign <- if (of[1] == classes[2]) 1 else -1
  linear_part(list(turned(output(cells), sign)), "classification", classes, "logit")
}

# For each parameter that is not the intercept its term.
general_terms <- function(x, model, fields) {
  factors <- list_of_predictors(x, model, "FactorList")
  covariates <- list_of_predictors(x, model, "CovariateList")
  matrix <- kid(x, model, "PPMatrix")
  cells <- if (matrix) kids(x, matrix, "PPCell") else integer()
  of <- vapply(cells, function(at) said(x, at, "parameterName"), "")
  lapply(split(cells, factor(of, unique(of))), function(these) {
    new_term(lapply(these, function(at) {
      name <- said(x, at, "predictorName")
      if (name %in% covariates) {
        return(list(
          field = asked_number(fields, name), power = said_number(x, at, "value")
        ))
      }
      if (!name %in% factors) {
        file_fault(said_at(x, at), " names no predictor of the model")
      }
      list(
        field = asked_word(fields, name, said(x, at, "value")),
        word = said(x, at, "value")
      )
    }))
  })
}

list_of_predictors <- function(x, model, list) {
  at <- kid(x, model, list)
  found <- if (at) kids(x, at, "Predictor") else integer()
  if (length(unlist(lapply(found, function(p) kids(x, p, "Categories"))))) {
    refuse_file("The factors of ", said_at(x, model), " have contrasts of their own")
  }
  vapply(found, function(p) said(x, p, "name"), "")
}
