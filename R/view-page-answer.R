# The head of the page: the answer, and what to do next.

# The answer, in one sentence and a few figures.
page_answer <- function(r) {
  lines <- character()
  if (!is.null(r$set)) {
    lead <- say_set(r$set, r$confirmation)
    names <- labels_of(r$study, r$set$predictors)
    lines <- c(
      lines,
      paste0(
        "<p class=\"chosen\">",
        paste0("<span>", escape(names), "</span>", collapse = " "), "</p>"
      )
    )
  } else if (!is.null(r$ranking)) {
    lead <- say_main(r$ranking, best_model(r$study))
  } else if (!is.null(r$stability)) {
    lead <- say_stability(r$stability$parts[[1]], r$stability$labels, r$stability$about)
  } else {
    lead <- score_sentence(r$scores)
  }
  facts <- page_facts(r)
  other <- say_other_model(r$set, r$scores, r$ranking)
  paste0(
    "<header class=\"answer\"><h1>", escape(r$title), "</h1>",
    if (!is.null(other)) paste0("<p class=\"lead\">", escape(other), "</p>"),
    "<p class=\"lead\">", escape(lead), "</p>", paste(lines, collapse = ""),
    facts_html(facts), page_next(r), "</header>"
  )
}

# What is to be done next, from what was found and what was not asked.
page_next <- function(r) {
  severe <- unique(r$checks$predictor[r$checks$severity == "severe"])
  columns <- setdiff(severe, c(about_rows, about_target))
  weak <- !grepl("^(Yes|With care|Cannot be told)", r$scores$verdict)
  todo <- c(
    if (length(columns)) {
      paste0(
        "Look into ", list_few(labels_of(r$study, columns)), ": see the data check."
      )
    },
    if (any(weak)) {
      paste0(
        "Improve ", list_words(r$scores$model[weak]),
        ": what a model that hardly predicts relies on says little."
      )
    },
    if (!is.null(r$ranking) && is.null(r$stability)) {
      paste0(
        "Rank again on resamples of the rows: whether neighbours in the order differ ",
        "has not ", "been asked."
      )
    },
    if (!is.null(r$set) && r$set$count && length(r$set$left_out)) {
      if (is.null(r$confirmation)) {
        "Confirm the chosen set on rows nobody has touched, before it is relied on."
      } else if (set_verdict(r$set, r$confirmation) == "safe") {
        paste0("The set may be used: train the final model (", r$set$refit, ") on it.")
      } else {
        "Keep all predictors, or accept the price of the set knowingly."
      }
    }
  )
  if (!length(todo)) return("")
  paste0(
    "<h2>What to do next</h2><ul class=\"next\">",
    paste0("<li>", escape(todo), "</li>", collapse = ""), "</ul>"
  )
}

# model: whose, of several.
say_main <- function(ranking, model = NULL) {
  d <- as_plain(shown_ranking(ranking))
  d <- d[is.na(d$class), ]
  model <- intersect(c(model, d$model), d$model)[1]
  paste0(
    if (length(unique(d$model)) > 1) paste0(model, ": "),
    say_ranking(main_part(d[d$model == model, ]), detail(ranking, "labels"))
  )
}

page_facts <- function(r) {
  facts <- character()
  set <- r$set
  if (!is.null(set)) {
    unit <- price_unit(set)
    metric <- r$study$metric$label
    if (set$count && length(set$left_out)) {
      facts["Price of leaving the others out"] <- paste0(
        format_value(set$price, unit), " ",
        in_brackets(set$price_lower, set$price_upper, unit),
        " ", metric, " (nested cross-validation)"
      )
    }
    facts["Nested cross-validation score"] <- paste0(
      format_value(set$score, unit), " ", in_brackets(set$lower, set$upper, unit),
      "; all predictors ", format_value(set$full_score, unit), ", a constant ",
      format_value(set$constant_score, unit)
    )
    if (set$count && length(set$left_out)) {
      facts["Stability of the choice"] <- say_picked(set)
    }
  }
  if (!is.null(r$confirmation)) {
    facts[paste("On", confirmed_on(r$confirmation))] <- say_confirmation(r$confirmation)
  }
  leak <- unique(
    r$checks$predictor[r$checks$finding == "leak" & r$checks$severity == "severe"]
  )
  if (length(leak)) {
    facts["To be looked into"] <- paste0(
      "Was ", list_words(labels_of(r$study, leak)), " known before the target?"
    )
  }
  facts["Models and rows"] <- paste0(
    list_words(names(r$study$models)), "; ", format_number(nrow(r$study$data)), " ",
    rows_word(r$study), " rows; ", r$study$metric$label, ", ", r$study$metric$better,
    " is better"
  )
  facts
}
