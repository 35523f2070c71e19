# The tables of the page and of documents. *_cells(): list(columns, values, chooses): what is shown,
# the numbers behind it, and per row the predictor it stands for.

# A table that sorts and searches in the page. Numbers carry their value for sorting.
# chooses: per row the predictor it stands for, shown by a click on the row
# by, along: the column whose words stand at the axis ("x" or "y") of the figure above
page_table <- function(
    columns, values = list(), search = FALSE, chooses = NULL, by = NULL, along = "y") {
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
    "<table",
    if (!is.null(by)) paste0(" data-by=\"", escape(by), "\" data-along=\"", along, "\""),
    "><thead><tr>", head, "</tr></thead><tbody>",
    paste0(
      "<tr", if (!is.null(chooses)) paste0(" data-predictor=\"", escape(chooses), "\""), ">",
      rows, "</tr>", collapse = "\n"
    ),
    "</tbody></table></div>"
  )
}

page_cells <- function(cells, search = FALSE, by = NULL, along = "y") {
  page_table(cells$columns, cells$values, search, cells$chooses, by, along)
}

score_cells <- function(x) {
  if (isTRUE(detail(x, "seen"))) {
    return(list(
      columns = list(
        Model = x$model,
        `Score on training rows` = format_value(x$score),
        Constant = format_value(x$constant),
        Skill = format_value(x$skill)
      ),
      values = list(
        `Score on training rows` = x$score, Constant = x$constant, Skill = x$skill
      )
    ))
  }
  list(
    columns = list(
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
    values = list(
      `Holdout score` = x$score,
      Constant = x$constant,
      Skill = x$skill,
      Training = x$train_score
    )
  )
}

check_cells <- function(x) {
  list(columns = list(
    Severity = x$severity,
    Column = label_or_name(detail(x, "labels"), x$predictor),
    Finding = x$finding,
    Reason = gsub("`", "", x$detail, fixed = TRUE),
    `What to do` = x$todo,
    `Used by` = x$used_by
  ))
}

page_checks <- function(x) {
  if (nrow(x)) page_cells(check_cells(x), search = TRUE) else "<p>No findings.</p>"
}

# The predictors of a set, and how often the splits chose each.
set_cells <- function(x) {
  d <- x$chosen_share[x$chosen_share$chosen, ]
  list(
    columns = list(
      Predictor = unname(labels_of(x$study, d$predictor)),
      `Chosen by splits` = format_percent(d$share)
    ),
    values = list(`Chosen by splits` = d$share)
  )
}

confirmation_cells <- function(x) {
  facts <- confirmation_facts(x)
  list(columns = list(What = names(facts), Value = unname(facts)))
}

confirmation_facts <- function(x) {
  unit <- if (x$price_error > 0) x$price_error else x$margin / 4
  c(
    stats::setNames(format_number(x$n), sub("^(.)", "\\U\\1", confirmed_on(x), perl = TRUE)),
    "Score of the set" = paste(format_value(x$score_small, unit), x$metric_label),
    "Score of all predictors" = paste(format_value(x$score_full, unit), x$metric_label),
    "Score of a constant" = paste(format_value(x$score_constant, unit), x$metric_label),
    "Price" = paste(
      format_value(x$price, unit), in_brackets(x$price_lower, x$price_upper, unit)
    ),
    "Margin" = format_value(x$margin, unit),
    "Looks at these rows" = as.character(x$looks)
  )
}

# One model's ranking, of the classes together or of one.
ranking_cells <- function(x, model, class = NULL) {
  d <- as_plain(shown_ranking(x))
  d <- d[d$model == model & (if (is.null(class)) is.na(d$class) else d$class %in% class), ]
  half <- (d$upper - d$lower) / 2
  list(
    columns = list(
      Method = panel_of(d),
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
    values = list(
      Rank = d$rank, Importance = d$importance, Interval = d$lower, Share = d$share
    ),
    chooses = d$predictor
  )
}

stability_cells <- function(x) {
  d <- as.data.frame(x)
  half <- (d$upper - d$lower) / 2
  floor <- if (!all(is.na(d$above_floor))) {
    list(
      `Noise floor` = ifelse(
        is.na(d$above_floor), "", ifelse(d$above_floor, "above", "not above")
      )
    )
  }
  list(
    columns = c(
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
    values = list(
      Rank = d$rank,
      `Rank set` = d$rank_lower,
      Spread = d$spread_lower,
      Importance = d$importance,
      Tier = d$tier
    )
  )
}

floor_cells <- function(x) {
  d <- x$table
  unit <- stats::ave(d$importance, part_keys(cbind(d, slice = NA)), FUN = function(v) {
    stats::sd(v) / 10
  })
  list(
    columns = list(
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
    values = list(Importance = d$importance, Floor = d$floor, p = d$p_value)
  )
}

reduction_cells <- function(x) {
  d <- as.data.frame(x)
  unit <- stats::median(d$price_error[d$price_error > 0])
  beside <- c(
    thinned = "(without twins)", `not sensitive` = "(without sensitive ones)",
    `above floor` = "(above the noise floor)", all = "(all)", constant = "(constant)"
  )[d$candidate]
  added <- vapply(
    strsplit(d$added, ", ", fixed = TRUE),
    function(a) paste(labels_of(x$study, a), collapse = ", "),
    ""
  )
  list(
    columns = list(
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
    values = list(
      Count = d$count,
      Cost = d$cost,
      Score = d$score,
      Price = d$price,
      `Random sets` = d$random
    )
  )
}

comparison_cells <- function(x) {
  d <- as.data.frame(x)
  unit <- max(stats::median(d$price_error[d$price_error > 0]), 1e-12, na.rm = TRUE)
  list(
    columns = list(
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
    values = list(Count = d$count, Score = d$score, Price = d$price)
  )
}

drift_cells <- function(x) {
  d <- as_plain(x)
  sets <- detail(x, "sets")
  typical <- function(v) {
    level <- d$level
    number <- mapply(value_in_words, v, time_of_columns(x, d$predictor), USE.NAMES = FALSE)
    ifelse(is.na(level), number, paste(format_percent(v), level))
  }
  columns <- list(
    Predictor = label_or_name(detail(x, "labels"), d$predictor),
    Distance = format_value(d$distance, 0.05),
    Interval = in_brackets(d$lower, d$upper, 0.05),
    `By chance` = format_value(d$expected, 0.05),
    `p, adjusted` = format.pval(d$p_adjusted, digits = 1, eps = 0.001),
    a = typical(d$first),
    b = typical(d$second)
  )
  names(columns)[6:7] <- paste("Typical in", sets)
  list(
    columns = columns,
    values = list(
      Distance = d$distance, Interval = d$lower, `By chance` = d$expected,
      `p, adjusted` = d$p_adjusted
    )
  )
}

agreement_cells <- function(x) {
  d <- as.data.frame(x)
  measure <- function(name) {
    value <- formatC(d[[name]], digits = 2, format = "f")
    error <- d[[paste0(name, "_error")]]
    value <- ifelse(
      is.na(error), value, paste0(value, " (", formatC(error, digits = 2, format = "f"), ")")
    )
    ifelse(is.na(d[[name]]), "", value)
  }
  words <- c(
    tau = "Kendall's tau", spearman = "Spearman's rho", top_overlap = "Overlap of the top",
    rank_overlap = "Overlap of ranks", share_overlap = "Overlap of shares"
  )
  list(
    columns = c(
      list(Ranking = d$a, `Other ranking` = d$b),
      stats::setNames(lapply(names(words), measure), words),
      list(`Predictors in both` = d$shared)
    ),
    values = c(
      stats::setNames(d[names(words)], words), list(`Predictors in both` = d$shared)
    )
  )
}

twins_cells <- function(x) {
  d <- as.data.frame(x)
  replaced <- if (!all(is.na(d$replaceable))) {
    list(`Others replace` = ifelse(is.na(d$replaceable), "", format_percent(d$replaceable)))
  }
  list(
    columns = c(
      list(
        Predictor = label_or_name(x$labels, d$predictor),
        Cluster = ifelse(is.na(d$cluster), "", d$cluster),
        Stays = ifelse(d$representative, "yes", "no"),
        Why = d$why,
        `Goes most with` = label_or_name(x$labels, d$nearest),
        Association = formatC(d$association, digits = 2, format = "f")
      ),
      replaced
    ),
    values = c(
      list(Cluster = d$cluster, Association = d$association),
      if (!is.null(replaced)) list(`Others replace` = d$replaceable)
    )
  )
}

# The points of one curve.
curve_cells <- function(d) {
  unit <- (d$upper - d$lower) / 2
  list(
    columns = list(
      Value = d$at,
      Prediction = format_value(d$effect, unit),
      Interval = in_brackets(d$lower, d$upper, unit),
      `Training rows near` = ifelse(is.na(d$rows_near), "", format_number(d$rows_near)),
      Flag = d$flag
    ),
    values = list(
      Prediction = d$effect, Interval = d$lower, `Training rows near` = d$rows_near
    )
  )
}

# Any result: numbers to four digits.
any_cells <- function(x, most, labels = NULL) {
  if (is.null(labels)) labels <- detail(x, "labels")
  if (is.null(labels)) labels <- x[["labels"]]
  d <- as.data.frame(x)
  d <- d[vapply(d, function(v) !is.list(v) && !all(is.na(v)), NA)]
  if (!is.null(d$predictor) && !is.null(labels)) {
    d$predictor <- label_or_name(labels, d$predictor)
  }
  shown <- utils::head(d, most)
  number <- vapply(shown, is.numeric, NA)
  cells <- lapply(shown, function(v) {
    if (is.numeric(v)) {
      ifelse(
        is.na(v), "", trimws(format(signif(v, 4), big.mark = ",", drop0trailing = TRUE))
      )
    } else {
      ifelse(is.na(v), "", as.character(v))
    }
  })
  cells <- lapply(cells, as.character)
  names(cells) <- gsub("_", " ", names(cells), fixed = TRUE)
  list(
    columns = cells,
    values = stats::setNames(as.list(shown[number]), names(cells)[number]),
    left = nrow(d) - nrow(shown)
  )
}

page_any <- function(x, labels = NULL, most = 300, by = NULL, along = "y") {
  cells <- any_cells(x, most, labels)
  paste0(
    page_cells(cells, length(cells$columns[[1]]) > 12, by, along),
    if (cells$left > 0) {
      paste0(
        "<p>The first ", most, " of ", format_number(most + cells$left), " rows.</p>"
      )
    }
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
  page_sentences(sentences_of_directions(x))
}
