# The page: one HTML file that answers first and then goes through the questions in their order.
#
# r         list(study, title, results by kind): see sort_results()
# section   list(id, title, body): NULL where there is nothing to show
#
# Readers choose a model, a class, a predictor or a row in a field above a figure; parts marked with
# another choice are hidden, in the whole page.

write_page <- function(r, file, short) {
  sections <- Filter(Negate(is.null), if (short) short_sections(r) else page_sections(r))
  answer <- or_without("first screen", page_answer(r))
  script <- page_script()
  css <- page_file("report.css")
  body <- mask_page(
    masks = r$masks,
    html = paste0(
      "<a class=\"skip\" href=\"#findings\">Skip to the findings</a>",
      if (is.null(answer)) {
        paste0("<header><h1>", escape(r$title), "</h1></header>")
      } else {
        answer
      },
      if (!short) page_contents(sections), "<main id=\"findings\">",
      paste0(vapply(sections, section_html, ""), collapse = "\n"), "</main>", page_foot(r)
    )
  )
  write_text(
    paste0(
      "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n",
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n",
      page_policy(script), "\n<title>", escape(r$title), "</title>\n<style>\n", css,
      "</style>\n</head>\n<body>\n", body, "\n<script>", script,
      "</script>\n</body>\n</html>"
    ),
    file
  )
}

section_html <- function(s) {
  paste0(
    "<section aria-labelledby=\"", s$id, "\"><h2 id=\"", s$id, "\">", escape(s$title),
    "</h2>", s$body, "</section>"
  )
}

page_contents <- function(sections) {
  paste0(
    "<nav aria-label=\"Contents\"><ol>",
    paste0(
      vapply(sections, function(s) {
        paste0("<li><a href=\"#", s$id, "\">", escape(s$title), "</a></li>")
      }, ""),
      collapse = ""
    ),
    "</ol></nav>"
  )
}

page_foot <- function(r) {
  paste0(
    "<footer>Made by dreher ", escape(as.character(utils::packageVersion("dreher"))),
    ". Data ", escape(substr(sub("^.*-", "", r$study$fingerprint), 1, 12)), ".</footer>"
  )
}

finding_html <- function(text) paste0("<p class=\"finding\">", escape(text), "</p>")

how_to_read <- function(...) {
  paste0(
    "<details class=\"how\"><summary>How to read this</summary><p>", with_terms(paste0(...)),
    "</p></details>"
  )
}

# One of several views, chosen by its value. kind: model, class, predictor or row
choice_of <- function(kind, label, values, shown = values, views) {
  if (length(values) == 1) return(views[[1]])
  id <- paste0("choose-", kind, "-", short_print(views))
  paste0(
    "<div class=\"choice\"><p><label for=\"", id, "\">", label, "</label> <select id=\"",
    id, "\" data-kind=\"", kind, "\">",
    paste0(
      "<option value=\"", escape(values), "\">", escape(shown), "</option>", collapse = ""
    ),
    "</select></p>",
    paste0(
      "<div data-", kind, "=\"", escape(values), "\"",
      ifelse(seq_along(values) > 1, " hidden", ""), ">", unlist(views), "</div>",
      collapse = ""
    ),
    "</div>"
  )
}

page_sections <- function(r) {
  makers <- list(
    fit = section_fit, drift = section_drift, ranking = section_ranking,
    methods = section_methods, floor = section_floor, stability = section_stability,
    agreement = section_agreement, twins = section_twins, reduction = section_reduction,
    comparison = section_comparison, confirmation = section_confirmation,
    effects = section_effects, slices = section_slices
  )
  c(
    lapply(names(makers), function(part) or_without(part, makers[[part]](r))),
    list(section_terms())
  )
}

# A part that cannot be made is missing, which is said; the others stand.
or_without <- function(part, code) {
  tryCatch(code, error = function(e) {
    pass_interrupt(e)
    warn_dreher(
      "page",
      paste0("The page lacks a part (", part, "): ", cli::ansi_strip(conditionMessage(e)))
    )
    NULL
  })
}

# For a reader who wants the findings on one sheet.
short_sections <- function(r) {
  list(
    section_ranking(r, one = TRUE),
    if (!is.null(r$effects)) {
      list(
        id = "effects", title = "How do the predictors act?",
        body = page_sentences(sentences_of_effects(r$effects))
      )
    }
  )
}

section_fit <- function(r) {
  plain <- function(x) gsub("`", "", paste(x, collapse = " "), fixed = TRUE)
  list(
    id = "fit",
    title = "Can the models' importances be interpreted?",
    body = paste0(
      finding_html(say_interpretable(r$scores, r$checks)),
      page_cells(score_cells(r$scores)),
      if (has_calibration(r$scores)) {
        paste0(
          finding_html(say_calibration(r$scores)),
          page_figure(
            ggplot2::autoplot(r$scores, show = "calibration"),
            paste("Predicted against observed shares.", say_calibration(r$scores))
          )
        )
      },
      "<h3>What the data check found</h3>",
      finding_html(plain(c(say_checks(r$checks), say_drawn(r$checks)))),
      page_checks(r$checks),
      how_to_read(
        paste0(
          "The importances of a model that does not beat a constant cannot be ",
          "interpreted. "
        ),
        paste0(
          "Brackets: the range in which the score of this model would likely lie on ",
          "other rows of "
        ),
        paste0(
          "the same kind. Severe: importances mislead until it is mended. Doubt: look ",
          "before you "
        ),
        paste0(
          "rely on them. Note: good to know. A leak is a column that was known only ",
          "after the fact "
        ),
        "one wants to predict."
      )
    )
  )
}

section_drift <- function(r) {
  if (is.null(r$drift)) return(NULL)
  said <- paste(
    c(
      say_drift(r$drift), say_drift_ranking(r$drift),
      say_drawn(r$drift, "Columns were compared", detail(r$drift, "sets"))
    ),
    collapse = " "
  )
  list(
    id = "drift",
    title = "Do the sets of rows differ?",
    body = paste0(
      finding_html(said),
      page_figure(
        ggplot2::autoplot(r$drift),
        said,
        page_cells(drift_cells(r$drift), TRUE, by = "Predictor")
      ),
      how_to_read(
        paste0(
          "Each line compares the values of one column in the two sets of rows: 0 ",
          "means alike, 1 "
        ),
        paste0(
          "that they have nothing in common. Hollow dots: what chance alone shows. ",
          "Where the rows "
        ),
        paste0(
          "the model is used on are unlike those it was trained on, its importances ",
          "need not hold "
        ),
        "there."
      )
    )
  )
}

section_ranking <- function(r, one = FALSE) {
  if (is.null(r$ranking)) return(NULL)
  d <- as_plain(shown_ranking(r$ranking))
  models <- unique(d$model)
  if (one) models <- if (!is.null(r$set)) r$set$model else models[1]
  if (!all(models %in% d$model)) models <- d$model[1]
  views <- lapply(models, function(m) ranking_view(r, d[d$model == m, ], one))
  list(
    id = "ranking",
    title = "Which predictors do the models rely on?",
    body = paste0(
      choice_of("model", "Model", models, views = views),
      how_to_read(
        paste0(
          "Permutation: how much worse the model predicts when the values of one ",
          "column are "
        ),
        paste0(
          "exchanged among the rows. Shapley: how far a column moves a prediction, on ",
          "average. "
        ),
        paste0(
          "Impurity: how much the splits on a column separate the training rows; it ",
          "is above zero "
        ),
        paste0(
          "even for columns that have no effect. Where a line touches zero, the ",
          "column may have no "
        ),
        "effect."
      )
    )
  )
}

# One model's ranking, class by class where it has some.
ranking_view <- function(r, d, one) {
  labels <- detail(r$ranking, "labels")
  model <- d$model[1]
  whole <- d[is.na(d$class), ]
  said <- paste0(model, ": ", say_ranking(main_part(whole), labels))
  draw <- function(class) {
    page_figure(
      ggplot2::autoplot(r$ranking, model = model, class = class), said,
      if (!one) page_cells(
          ranking_cells(r$ranking, model, class), search = TRUE, by = "Predictor"
        )
    )
  }
  classes <- unique(d$class[!is.na(d$class)])
  paste0(
    finding_html(said),
    if (!length(classes) || one) {
      draw(NULL)
    } else {
      choice_of(
        "class", "Class", c("all", classes), c("all classes", classes),
        c(list(draw(NULL)), lapply(classes, draw))
      )
    }
  )
}

section_methods <- function(r) {
  if (is.null(r$ranking)) return(NULL)
  d <- as_plain(shown_ranking(r$ranking))
  if (nrow(unique(d[c("model", "method")])) < 2) return(NULL)
  drawn <- plot_ranks(r$ranking)
  said <- gsub("\n", " ", drawn$labels$title)
  list(
    id = "methods",
    title = "How far do methods and models agree?",
    body = paste0(
      finding_html(said), page_figure(drawn, said),
      how_to_read(
        paste0(
          "Each line is a predictor, each number its rank. Level lines: the rankings ",
          "agree. Steep "
        ),
        "dark lines: they disagree; find out why before relying on either."
      )
    )
  )
}

section_floor <- function(r) {
  if (is.null(r$floor)) return(NULL)
  models <- unique(r$floor$table$model)
  views <- lapply(models, function(m) {
    d <- r$floor$table[r$floor$table$model == m, ]
    said <- paste0(m, ": ", say_above(d[d$method == d$method[1], ], r$floor$labels))
    one <- r$floor
    one$table <- d
    numbers <- page_cells(floor_cells(one), search = TRUE, by = "Predictor")
    paste0(
      finding_html(said), page_figure(ggplot2::autoplot(r$floor, model = m), said, numbers)
    )
  })
  list(
    id = "floor",
    title = "Which predictors exceed the noise floor?",
    body = paste0(
      choice_of("model", "Model", models, views = views),
      how_to_read(
        paste0(
          "The models were trained again with a shuffled copy of every predictor ",
          "beside it. A copy "
        ),
        paste0(
          "predicts nothing, so the importance of copies is chance. Full dots exceed ",
          "the shaded "
        ),
        "range of the largest copies. ",
        escape(what_floor_asks(r$floor))
      )
    )
  )
}

section_stability <- function(r) {
  if (is.null(r$stability)) return(NULL)
  parts <- utils::head(r$stability$parts, 8)
  names <- vapply(parts, function(p) part_name(p$table), "")
  views <- lapply(parts, function(p) {
    d <- p$table[1, ]
    said <- say_verdict(p, r$stability$labels, r$stability$about)
    one <- r$stability
    one$parts <- list(p)
    paste0(
      finding_html(said),
      page_figure(
        ggplot2::autoplot(
          r$stability,
          model = d$model,
          method = d$method,
          rows = d$rows,
          slice = if (!is.na(d$slice)) d$slice
        ),
        said,
        page_cells(stability_cells(one), search = TRUE, by = "Predictor")
      )
    )
  })
  list(
    id = "stability",
    title = "How stable is the order?",
    body = paste0(
      choice_of("part", "Model and method", names, views = views),
      how_to_read(
        paste0(
          "The models were trained again on other draws of the rows. Each row shows ",
          "the ranks a "
        ),
        paste0(
          "predictor took, the darker the more often. A boxed rank is settled: it is ",
          "expected to "
        ),
        paste0(
          "hold on other rows of the same kind. A line below a row shows all ranks ",
          "that remain "
        ),
        "possible. Predictors between two rules are not distinguished."
      )
    )
  )
}

section_agreement <- function(r) {
  if (is.null(r$agreement)) return(NULL)
  said <- say_agreement(r$agreement)
  list(
    id = "agreement",
    title = "Where do methods, models or data sets disagree?",
    body = paste0(
      finding_html(said),
      page_figure(
        ggplot2::autoplot(r$agreement), said, page_cells(agreement_cells(r$agreement))
      ),
      how_to_read(
        paste0(
          "Each cell compares two rankings: 1 means the same order, 0 that they have ",
          "nothing in "
        ),
        "common."
      )
    )
  )
}

section_twins <- function(r) {
  if (is.null(r$twins)) return(NULL)
  drawn <- ggplot2::autoplot(r$twins)
  said <- gsub("\n", " ", drawn$labels$title)
  list(
    id = "twins",
    title = "Which predictors are redundant?",
    body = paste0(
      finding_html(said), page_figure(drawn, said, page_cells(twins_cells(r$twins), TRUE)),
      how_to_read(
        paste0(
          "Each cell says how closely two predictors go together, from 0 (not at all) ",
          "to 1 (one "
        ),
        paste0(
          "determines the other). Boxed ones are twins: they carry much the same ",
          "information."
        )
      )
    )
  )
}

section_reduction <- function(r) {
  if (is.null(r$reduction)) return(NULL)
  said <- if (is.null(r$set)) {
    "No set has been chosen yet."
  } else {
    say_set(r$set, r$confirmation)
  }
  list(
    id = "reduction",
    title = "Which smaller set is enough?",
    body = paste0(
      finding_html(said),
      page_figure(
        ggplot2::autoplot(r$reduction, set = r$set),
        said,
        page_cells(reduction_cells(r$reduction), by = "Adds")
      ),
      if (!is.null(r$set) && length(r$reduction$curves) > 1) {
        page_figure(ggplot2::autoplot(r$reduction), "The scores of all models by number")
      },
      how_to_read(
        paste0(
          "From top to bottom one predictor more at a time. Where the line stops ",
          "moving, more "
        ),
        paste0(
          "predictors improve nothing. The circled point is the choice; its price is ",
          "the loss in "
        ),
        "score against all predictors. Grey bars: random sets of as many predictors."
      )
    )
  )
}

section_comparison <- function(r) {
  if (is.null(r$comparison)) return(NULL)
  list(
    id = "comparison",
    title = "What is the price of other sets?",
    body = paste0(
      page_cells(comparison_cells(r$comparison)),
      how_to_read(
        paste0(
          "Price: the loss in score against the reference, on the same rows, with its ",
          "interval. "
        ),
        "Margin: ",
        escape(detail(r$comparison, "margin")),
        "."
      )
    )
  )
}

section_confirmation <- function(r) {
  x <- r$confirmation
  if (is.null(x)) return(NULL)
  list(
    id = "confirmation", title = "Does it hold on rows nobody has touched?",
    body = paste0(finding_html(say_confirmation(x)), facts_html(confirmation_facts(x)))
  )
}

section_effects <- function(r) {
  if (is.null(r$effects) && is.null(r$interactions) && is.null(r$contributions)) return(NULL)
  list(
    id = "effects", title = "How do the predictors act?",
    body = paste0(effects_part(r), interactions_part(r), contributions_part(r))
  )
}

effects_part <- function(r) {
  if (is.null(r$effects)) return("")
  s <- summary(r$effects)
  d <- as_plain(r$effects)
  curves <- unique(s$predictor)
  views <- lapply(curves, function(p) curve_view(r$effects, s, d, p))
  paste0(
    "<ul>", paste0("<li>", escape(utils::head(sentences_of_effects(r$effects), 12)), "</li>",
      collapse = ""
    ),
    "</ul>",
    choice_of(
      "predictor",
      "Predictor",
      curves,
      label_curves(r$effects, s[match(curves, s$predictor), ]),
      views
    ),
    how_to_read(
      paste0(
        "Each line is the prediction as one column goes through its values, all else ",
        "left as it "
      ),
      paste0(
        "is, on average over the rows; the band says how sure that is for this model. ",
        "Bars at the "
      ),
      paste0(
        "foot: where the data are. It says what the model does, not what would happen ",
        "in the world."
      )
    )
  )
}

# One predictor's curve, model by model and class by class. s: the shapes; d: the points
curve_view <- function(x, s, d, p) {
  draw <- function(model, class) {
    at <- s$predictor == p & s$model == model & same_text(s$class, class)
    points <- d[curve_names(d) == p & d$model == model & same_text(d$class, class), ]
    said <- s$sentence[at]
    paste0(
      finding_html(said[1]),
      page_figure(
        draw_effects(
          x, model = model, class = if (!is.na(class)) class, titled = FALSE, only = p
        ),
        paste(said, collapse = " "),
        page_cells(curve_cells(points), nrow(points) > 12, by = "Value", along = "x"),
        10.6,
        4.6
      )
    )
  }
  of_model <- function(model) {
    classes <- unique(d$class[d$model == model & curve_names(d) == p])
    choice_of(
      "class",
      "Class",
      as.character(classes),
      views = lapply(classes, function(class) draw(model, class))
    )
  }
  models <- unique(d$model[curve_names(d) == p])
  choice_of("model", "Model", models, views = lapply(models, of_model))
}

interactions_part <- function(r) {
  if (is.null(r$interactions)) return("")
  said <- say_interactions(r$interactions, as_plain(r$interactions))
  paste0(
    "<h3>Which predictors act together?</h3>", finding_html(said),
    page_figure(ggplot2::autoplot(r$interactions), said, page_any(r$interactions)),
    how_to_read(
      paste0(
        "Each cell is a pair of columns; the darker, the more of the prediction ",
        "belongs to the two "
      ),
      "together and to neither alone."
    )
  )
}

# All rows in one figure, or one row at a time where a few were asked for.
contributions_part <- function(r) {
  x <- r$contributions
  if (is.null(x)) return("")
  rows <- unique(x$row)
  few <- length(rows) > 1 && length(rows) <= 12
  body <- if (isTRUE(r$without_rows)) {
    page_contributions(x)
  } else if (few || length(rows) == 1) {
    choice_of(
      "row", "Row", as.character(rows), views = lapply(rows, function(i) row_view(x, i))
    )
  } else {
    paste0(
      page_contributions(x),
      page_figure(ggplot2::autoplot(x), "Contributions of each predictor, a dot a row")
    )
  }
  paste0(
    "<h3>What moves the single predictions?</h3>", body,
    how_to_read(
      paste0(
        "Each prediction's distance from the baseline is divided among the columns. ",
        "To the right a "
      ),
      "column raises the prediction, to the left it lowers it."
    )
  )
}

# One row's contributions, by the first model, class by class.
row_view <- function(x, i) {
  d <- as_plain(x)
  d <- d[d$row == i & d$model == d$model[1], ]
  classes <- unique(d$class)
  views <- lapply(classes, function(class) {
    one <- d[same_text(d$class, class), ]
    said <- say_row(one, x)
    paste0(
      page_sentences(said),
      page_figure(
        ggplot2::autoplot(x, row = i, class = if (!is.na(class)) class),
        paste(said, collapse = " "),
        page_any(one, labels = detail(x, "labels"), by = "predictor")
      )
    )
  })
  choice_of("class", "Class", as.character(classes), views = views)
}

section_slices <- function(r) {
  if (is.null(r$slices)) return(NULL)
  said <- say_slices(r$slices, as_plain(r$slices))
  list(
    id = "slices",
    title = "Where do the models err, and for whom?",
    body = paste0(
      page_sentences(said),
      page_figure(ggplot2::autoplot(r$slices), said[1], page_any(r$slices)),
      how_to_read(
        paste0(
          "Each panel is a part of the rows, set against all others. Where a line ",
          "does not touch "
        ),
        paste0(
          "zero, the part differs. A difference between groups is a finding, not its ",
          "cause."
        )
      )
    )
  )
}

# --- words --------------------------------------------------------------------------------------

page_terms <- c(
  constant = "the prediction without any predictor: the mean, or the shares of the classes",
  importance = "how much a model relies on a predictor, by one of several methods",
  interval = "the range in which a figure would likely lie on other rows of the same kind",
  leak = "a column that holds the target, or was known only after it",
  margin = "the loss in score one is ready to accept",
  "noise floor" = "the importance that shuffled copies of predictors reach by chance",
  permutation = paste0(
    "importance as the loss in score when a column's values are exchanged among the rows"
  ),
  predictor = "a column the model predicts from",
  price = "the loss in score of a smaller set against all predictors",
  "rank set" = "all ranks of a predictor that the data leave possible",
  settled = "said of a rank where no other remains possible",
  Shapley = paste0(
    "importance as a predictor's fair part of each prediction's distance from the average"
  ),
  impurity = "importance as what the splits of trees on a column separate in training rows",
  "untouched rows" = "rows that took part in nothing before the confirmation",
  twins = "predictors that carry much the same information"
)

# The first of each term in a text of ours gets its meaning on pointing at it.
with_terms <- function(text) {
  for (term in names(page_terms)) {
    text <- sub(
      paste0("(?i)\\b(", term, ")\\b(?![^<]*>)"),
      paste0("<abbr title=\"", page_terms[[term]], "\">\\1</abbr>"), text, perl = TRUE
    )
  }
  text
}

section_terms <- function() {
  terms <- page_terms[order(tolower(names(page_terms)))]
  list(
    id = "terms",
    title = "Words",
    body = paste0(
      "<dl>",
      paste0("<div><dt>", names(terms), "</dt><dd>", terms, "</dd></div>", collapse = ""),
      "</dl>"
    )
  )
}
