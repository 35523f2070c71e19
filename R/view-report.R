#' Write the report
#'
#' One HTML file that holds everything, pictures included: the answer first, then the steps in
#' their order.
#'
#' @param study A [study()].
#' @param ... Results to show, in any order: a [ranking], and results of [stability()],
#'   [agreement()], [noise_floor()], [find_twins()], [reduce_predictors()], [choose_set()],
#'   [compare_sets()], [confirm_set()], [effect_curves()], [contributions()], [interactions()],
#'   [compare_slices()], [find_drift()], [score_models()], [check_data()]. What is not given is not
#'   shown; scores and checks are computed.
#' @param file Path of the HTML file. An existing file is replaced.
#' @param title Title of the report.
#' @param quiet TRUE (default): no progress messages.
#' @return `file`, invisibly.
#' @section Errors: Results of another study (other data); objects that are no results; pandoc
#'   missing.
#' @examples
#' if (rmarkdown::pandoc_available("2.0")) {
#'   kiln <- demo_kiln(missing = FALSE)
#'   fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#'   st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#'   write_report(st, rank_permutation(st), file = tempfile(fileext = ".html"))
#' }
#' @export
write_report <- function(study, ..., file, title = NULL, quiet = TRUE) {
  check_class(study, "dreher_study", "study", "study()")
  if (missing(file)) {
    stop_input(
      "`file` is missing: the path of the report to write.",
      todo = "Name it: file = \"report.html\"."
    )
  }
  check_string(file, "file")
  if (!is.null(title)) check_string(title, "title")
  check_flag(quiet, "quiet")
  results <- sort_results(study, list(...))
  check_pandoc()
  refuse_target(file)
  if (is.null(title)) title <- paste("What predicts", study$target)
  work <- tempfile("report")
  dir.create(work)
  old <- options(rmarkdown.html_dependency.header_attr = FALSE)  # a script we do not need
  on.exit({
    options(old)
    unlink(work, recursive = TRUE)
  })
  file.copy(
    list.files(system.file("report", package = "dreher"), full.names = TRUE), work
  )
  page <- file.path(work, "report.Rmd")
  policy <- file.path(work, "policy.html")
  writeLines(page_policy(page_script(work)), policy)
  env <- new.env(parent = asNamespace("dreher"))
  if (is.null(results$scores)) results$scores <- score_models(study)
  if (is.null(results$checks)) results$checks <- check_data(study)
  env$r <- c(
    list(study = study, title = title),
    results
  )
  render <- function() {
    # One step a chunk of the page.
    env$step <- progressr::progressor(steps = length(grep("^```[{]r", readLines(page))))
    rmarkdown::render(
      page,
      output_file = "report.html",
      envir = env,
      quiet = quiet,
      output_options = list(
        pandoc_args = c("--metadata", paste0("pagetitle=", printable(title))),
        includes = list(in_header = policy)
      )
    )
  }
  copy_whole(with_bar(render()), file)
}

check_pandoc <- function() {
  if (!rmarkdown::pandoc_available("2.0")) {
    stop_study(
      "The report needs pandoc, which is not on this machine.",
      todo = "Install pandoc 2.0 or later (Debian: apt-get install pandoc)."
    )
  }
}

sort_results <- function(study, given) {
  kinds <- c(
    dreher_ranking = "ranking", dreher_reduction = "reduction", dreher_set = "set",
    dreher_confirmation = "confirmation", dreher_stability = "stability",
    dreher_agreement = "agreement", dreher_twins = "twins",
    dreher_comparison = "comparison", dreher_floor = "floor", dreher_effects = "effects",
    dreher_contributions = "contributions", dreher_interactions = "interactions",
    dreher_slices = "slices", dreher_drift = "drift", dreher_scores = "scores",
    dreher_checks = "checks"
  )
  out <- list()
  for (x in given) {
    kind <- kinds[intersect(class(x), names(kinds))]
    if (!length(kind)) {
      stop_input(
        "`...` must hold results of this study.",
        paste0("Given: ", class(x)[1], "."),
        paste0(
          "A ranking, its stability or agreement, a noise floor, twins, a reduction, ",
          "a chosen set, a comparison, a confirmation, effects, contributions, ",
          "interactions, slices, drift."
        )
      )
    }
    tables <- c(
      "ranking", "comparison", "effects", "contributions", "interactions", "slices", "drift",
      "scores", "checks"
    )
    other <- if (kind %in% tables) {
      detail(x, "fingerprint")
    } else if (kind %in% c("stability", "agreement", "floor")) {
      x$fingerprint
    } else {
      x[["study"]]$fingerprint
    }
    if (!is.null(other) && other != study$fingerprint) {
      stop_study(
        paste0("The ", kind, " was made from another study: its data differ."),
        todo = "Give results of this study."
      )
    }
    out[[kind]] <- x
  }
  if (is.null(out$floor)) {
    out$floor <- detail(out$ranking, "floor")
  } else if (!is.null(out$ranking) && is.null(detail(out$ranking, "floor"))) {
    out$ranking <- with_floor(out$ranking, out$floor)
  }
  if (is.null(out$set) && !is.null(out$reduction) && length(out$reduction$curves) == 1) {
    out$set <- choose_set(out$reduction)
  }
  out
}

# --- pieces of the page ------------------------------------------------------------------------

# Raw HTML, fenced so that nothing in it is taken for markdown.
raw_html <- function(...) {
  fence <- strrep("`", 12)
  paste0("\n\n", fence, "{=html}\n", paste0(..., collapse = "\n"), "\n", fence, "\n\n")
}

html <- function(...) knitr::asis_output(raw_html(...))

# Text of others as text: no tag, no attribute, and no back-tick that could close the fence.
escape <- function(x) {
  text <- htmltools::htmlEscape(printable(x, "[\\n\\t]"), attribute = TRUE)
  gsub("`", "&#96;", text, fixed = TRUE)
}

page_script <- function(folder = system.file("report", package = "dreher")) {
  paste(readLines(file.path(folder, "report.js"), encoding = "UTF-8"), collapse = "\n")
}

# What the page may do: show its own styles and pictures, and run its one script. Whatever else
# should have got into it does nothing and fetches nothing.
page_policy <- function(script) {
  paste0(
    "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; ",
    "img-src data:; style-src 'unsafe-inline' data:; script-src ", script_print(script),
    "; base-uri 'none'; form-action 'none'\">"
  )
}

script_print <- function(script) {
  hash <- cli::hash_raw_sha256(charToRaw(enc2utf8(script)))
  bytes <- as.raw(strtoi(substring(hash, seq(1, 63, 2), seq(2, 64, 2)), 16L))
  paste0("'sha256-", jsonlite::base64_enc(bytes), "'")
}

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
    lead <- say_main(r$ranking)
  } else if (!is.null(r$stability)) {
    lead <- say_stability(r$stability$parts[[1]], r$stability$labels, r$stability$about)
  } else {
    lead <- score_sentence(r$scores)
  }
  facts <- page_facts(r)
  paste0(
    "<section class=\"answer\"><h1>", escape(r$title), "</h1><p class=\"lead\">",
    escape(lead), "</p>", paste(lines, collapse = ""), "<dl>",
    paste0(
      "<div><dt>", escape(names(facts)), "</dt><dd>", escape(facts), "</dd></div>",
      collapse = ""
    ),
    "</dl></section>"
  )
}

say_main <- function(ranking) {
  d <- as_plain(shown_ranking(ranking))
  d <- d[is.na(d$class), ]
  say_ranking(main_part(d[d$model == d$model[1], ]), detail(ranking, "labels"))
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
    facts["On untouched rows"] <- say_confirmation(r$confirmation)
  }
  leak <- unique(
    r$checks$predictor[r$checks$finding == "leak" & r$checks$severity == "severe"]
  )
  if (length(leak)) {
    facts["To be looked into"] <- paste0(
      "Was ", list_words(labels_or_names(r$study, leak)), " known before the target?"
    )
  }
  facts["Models and rows"] <- paste0(
    list_words(names(r$study$models)), "; ", format_number(nrow(r$study$data)), " ",
    rows_word(r$study), " rows; ", r$study$metric$label, ", ", r$study$metric$better,
    " is better"
  )
  facts
}

labels_or_names <- function(st, predictors) {
  known <- labels_of(st, predictors)
  ifelse(is.na(known), predictors, known)
}

# The sentence stands above the picture in the report.
untitled <- function(plot) plot + ggplot2::labs(title = NULL)

# A table that sorts and searches in the page. Numbers carry their value for sorting.
page_table <- function(columns, values = list(), search = FALSE) {
  head <- paste0(
    "<th scope=\"col\"><button type=\"button\">", escape(names(columns)),
    "</button></th>", collapse = ""
  )
  cells <- vapply(
    names(columns),
    function(n) {
      key <- if (is.null(values[[n]])) {
        ""
      } else {
        paste0(
          " class=\"number\" data-value=\"",
          ifelse(is.na(values[[n]]), "", format(values[[n]], digits = 10, trim = TRUE)),
          "\""
        )
      }
      paste0("<td", key, ">", escape(columns[[n]]), "</td>")
    },
    character(length(columns[[1]]))
  )
  rows <- apply(matrix(cells, ncol = length(columns)), 1, paste, collapse = "")
  paste0(
    "<div class=\"table\">",
    if (search) {
      "<input type=\"search\" placeholder=\"Search\" aria-label=\"Search the table\">"
    },
    "<table><thead><tr>", head, "</tr></thead><tbody>",
    paste0("<tr>", rows, "</tr>", collapse = "\n"), "</tbody></table></div>"
  )
}

page_scores <- function(x) {
  if (isTRUE(detail(x, "seen"))) {
    return(page_table(
      list(
        Model = x$model,
        `Score on training rows` = format_value(x$score),
        Constant = format_value(x$constant),
        Skill = format_value(x$skill)
      ),
      list(`Score on training rows` = x$score, Constant = x$constant, Skill = x$skill)
    ))
  }
  page_table(
    list(
      Model = x$model,
      `Holdout score` = paste0(
        format_value(x$score, x$std_error), " [", format_value(x$lower, x$std_error),
        ", ", format_value(x$upper, x$std_error), "]"
      ),
      Constant = format_value(x$constant, x$std_error),
      Skill = paste0(
        format_value(x$skill, x$std_error), " [",
        format_value(x$skill_lower, x$std_error), ", ",
        format_value(x$skill_upper, x$std_error), "]"
      ),
      `Best predictor alone` = ifelse(
        is.na(x$alone),
        "",
        paste0(format_value(x$alone, x$std_error), " (", x$alone_predictor, ")")
      ),
      Training = format_value(x$train_score, x$std_error),
      `Can its importances be interpreted?` = gsub("`", "", x$verdict, fixed = TRUE)
    ),
    list(
      `Holdout score` = x$score,
      Constant = x$constant,
      Skill = x$skill,
      Training = x$train_score
    )
  )
}

# The findings as a table.
page_checks <- function(r) {
  d <- r$checks
  if (!nrow(d)) return("<p>No findings.</p>")
  page_table(
    list(
      Severity = d$severity,
      Column = unname(labels_or_names(r$study, d$predictor)),
      Finding = d$finding,
      Reason = gsub("`", "", d$detail, fixed = TRUE),
      `What to do` = d$todo,
      `Used by` = d$used_by
    ),
    search = TRUE
  )
}

page_ranking <- function(x) {
  d <- as_plain(shown_ranking(x))
  half <- (d$upper - d$lower) / 2
  page_table(
    list(
      Model = d$model,
      Method = panel_of(d),
      Class = ifelse(is.na(d$class), "", d$class),
      Rank = d$rank,
      Predictor = unname(detail(x, "labels")[d$predictor]),
      Importance = format_value(d$importance, half),
      Interval = ifelse(
        is.na(d$lower),
        "none",
        paste0("[", format_value(d$lower, half), ", ", format_value(d$upper, half), "]")
      ),
      Share = format_percent(d$share),
      Flag = d$flag
    ),
    list(Rank = d$rank, Importance = d$importance, Interval = d$lower, Share = d$share),
    search = TRUE
  )
}

page_stability <- function(x) {
  d <- as.data.frame(x)
  half <- (d$upper - d$lower) / 2
  floor <- if (!all(is.na(d$above_floor))) {
    list(
      `Noise floor` = ifelse(
        is.na(d$above_floor), "", ifelse(d$above_floor, "above", "not above")
      )
    )
  }
  page_table(
    c(
      list(
        Model = d$model,
        Method = panel_of(d),
        Predictor = unname(x$labels[d$predictor]),
        Rank = d$rank,
        `Rank set` = ifelse(
          is.na(d$rank_lower),
          "",
          ifelse(d$settled, "settled", paste0(d$rank_lower, "-", d$rank_upper))
        ),
        Spread = paste0(d$spread_lower, "-", d$spread_upper),
        Importance = format_value(d$importance, half),
        Tier = ifelse(is.na(d$tier), "", d$tier)
      ),
      floor
    ),
    list(
      Rank = d$rank,
      `Rank set` = d$rank_lower,
      Spread = d$spread_lower,
      Importance = d$importance,
      Tier = d$tier
    ),
    search = TRUE
  )
}

page_floor <- function(x) {
  d <- x$table
  unit <- stats::ave(d$importance, part_keys(cbind(d, slice = NA)), FUN = function(v) {
    stats::sd(v) / 10
  })
  page_table(
    list(
      Model = d$model,
      Method = panel_of(d),
      Predictor = unname(x$labels[d$predictor]),
      Importance = format_value(d$importance, unit),
      Floor = paste0(
        format_value(d$floor, unit), " [", format_value(d$floor_lower, unit), ", ",
        format_value(d$floor_upper, unit), "]"
      ),
      p = formatC(d$p_value, digits = 3, format = "f"),
      `Noise floor` = ifelse(d$above, "above", "not above")
    ),
    list(Importance = d$importance, Floor = d$floor, p = d$p_value),
    search = TRUE
  )
}

page_reduction <- function(r) {
  d <- as.data.frame(r$reduction)
  unit <- stats::median(d$price_error[d$price_error > 0])
  beside <- c(
    thinned = "(without twins)", `not sensitive` = "(without sensitive ones)",
    `above floor` = "(above the noise floor)", all = "(all)", constant = "(constant)"
  )[d$candidate]
  added <- vapply(
    strsplit(d$added, ", ", fixed = TRUE),
    function(a) paste(labels_of(r$study, a), collapse = ", "),
    ""
  )
  page_table(
    list(
      Model = d$model,
      Count = d$count,
      Cost = ifelse(is.na(d$cost), "", format(d$cost, trim = TRUE)),
      Adds = ifelse(d$count == 0, "(constant)", ifelse(is.na(beside), added, beside)),
      Score = format_value(d$score, d$std_error),
      Price = ifelse(
        d$price_error == 0,
        "reference",
        paste0(
          format_value(d$price, unit), " [", format_value(d$price_lower, unit), ", ",
          format_value(d$price_upper, unit), "]"
        )
      ),
      `Random sets` = ifelse(
        is.na(d$random),
        "",
        paste0(
          format_value(d$random, d$std_error), " [",
          format_value(d$random_lower, d$std_error), ", ",
          format_value(d$random_upper, d$std_error), "]"
        )
      )
    ),
    list(
      Count = d$count,
      Cost = d$cost,
      Score = d$score,
      Price = d$price,
      `Random sets` = d$random
    )
  )
}

page_comparison <- function(x) {
  d <- as.data.frame(x)
  unit <- max(stats::median(d$price_error[d$price_error > 0]), 1e-12, na.rm = TRUE)
  page_table(
    list(
      Model = d$model,
      Set = d$set,
      Count = d$count,
      Score = format_value(d$score, unit),
      Price = ifelse(
        d$set == detail(x, "reference"),
        "reference",
        paste0(
          format_value(d$price, unit), " [", format_value(d$price_lower, unit), ", ",
          format_value(d$price_upper, unit), "]"
        )
      ),
      Statement = d$statement
    ),
    list(Count = d$count, Score = d$score, Price = d$price)
  )
}

# Findings below each other, the first as the headline.
page_sentences <- function(sentences, most = 8) {
  shown <- utils::head(sentences, most)
  paste0(
    "<p class=\"finding\">", escape(shown[1]), "</p>",
    if (length(shown) > 1) {
      paste0("<ul>", paste0("<li>", escape(shown[-1]), "</li>", collapse = ""), "</ul>")
    }
  )
}

page_contributions <- function(x) {
  if (length(unique(x$row)) == 1) return(page_sentences(say_row(as_plain(x), x)))
  s <- summary(x)
  page_sentences(say_directions(s, labels_in(x, s$predictor)))
}
