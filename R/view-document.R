# Results in documents and in pipelines of data frames.

#' Results as data frames, and in documents
#'
#' Every result becomes a plain data frame with `as.data.frame()`. With package generics loaded,
#' `tidy()` gives the same, as a tibble where package tibble is installed. In documents made by
#' knitr (R Markdown, Quarto) a result that is printed becomes a sentence and a table; `print()`
#' gives the lines of the console.
#'
#' @param x A result, or a [study()].
#' @param row.names,optional Not used.
#' @param ... Not used.
#' @return A data frame. Of a study: one row per model and predictor, with `model`, `class` (of the
#'   model), `read` (how it is read), `predictor`, and `label`, `family`, `unit`, `cost`, `use`,
#'   `sensitive` and `known` of the dictionary. Of resamples ([draw_resamples()]): one row per
#'   resample, with `resample`, `n_train` and `n_left_out`. Of a run ([run_study()]): one row per
#'   step, with `step`, `state`, `seconds` and `error`. What the columns of the other results mean
#'   is said where the result is made.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' as.data.frame(st)
#' if (requireNamespace("generics", quietly = TRUE)) {
#'   generics::tidy(rank_permutation(st))
#' }
#' @name data_frames
#' @exportS3Method as.data.frame dreher_study
as.data.frame.dreher_study <- function(x, row.names = NULL, optional = FALSE, ...) {
  about <- c("label", "family", "unit", "cost", "use", "sensitive", "known")
  do.call(rbind, lapply(unname(x$models), function(m) {
    d <- x$dictionary[match(m$inputs$predictors, x$dictionary$predictor), ]
    data.frame(
      model = m$name, class = m$class, read = say_read(m), predictor = m$inputs$predictors,
      d[intersect(about, names(d))], row.names = NULL
    )
  }))
}

#' @rdname data_frames
#' @exportS3Method as.data.frame dreher_resamples
as.data.frame.dreher_resamples <- function(x, row.names = NULL, optional = FALSE, ...) {
  data.frame(
    resample = seq_along(x$inside),
    n_train = lengths(x$inside),
    n_left_out = lengths(x$outside)
  )
}

#' @rdname data_frames
#' @exportS3Method as.data.frame dreher_run
as.data.frame.dreher_run <- function(x, row.names = NULL, optional = FALSE, ...) x$steps

#' @rawNamespace
#' S3method(generics::tidy, dreher_ranking, tidy_result)
#' S3method(generics::tidy, dreher_scores, tidy_result)
#' S3method(generics::tidy, dreher_checks, tidy_result)
#' S3method(generics::tidy, dreher_drift, tidy_result)
#' S3method(generics::tidy, dreher_stability, tidy_result)
#' S3method(generics::tidy, dreher_agreement, tidy_result)
#' S3method(generics::tidy, dreher_floor, tidy_result)
#' S3method(generics::tidy, dreher_twins, tidy_result)
#' S3method(generics::tidy, dreher_reduction, tidy_result)
#' S3method(generics::tidy, dreher_set, tidy_result)
#' S3method(generics::tidy, dreher_comparison, tidy_result)
#' S3method(generics::tidy, dreher_confirmation, tidy_result)
#' S3method(generics::tidy, dreher_effects, tidy_result)
#' S3method(generics::tidy, dreher_contributions, tidy_result)
#' S3method(generics::tidy, dreher_interactions, tidy_result)
#' S3method(generics::tidy, dreher_slices, tidy_result)
#' S3method(generics::tidy, dreher_similar, tidy_result)
#' S3method(generics::tidy, dreher_change, tidy_result)
#' S3method(generics::tidy, dreher_rule, tidy_result)
#' S3method(generics::tidy, dreher_study, tidy_result)
#' S3method(generics::tidy, dreher_resamples, tidy_result)
#' S3method(generics::tidy, dreher_run, tidy_result)
#' S3method(knitr::knit_print, dreher_ranking, knit_result)
#' S3method(knitr::knit_print, dreher_scores, knit_result)
#' S3method(knitr::knit_print, dreher_checks, knit_result)
#' S3method(knitr::knit_print, dreher_drift, knit_result)
#' S3method(knitr::knit_print, dreher_stability, knit_result)
#' S3method(knitr::knit_print, dreher_agreement, knit_result)
#' S3method(knitr::knit_print, dreher_floor, knit_result)
#' S3method(knitr::knit_print, dreher_twins, knit_result)
#' S3method(knitr::knit_print, dreher_reduction, knit_result)
#' S3method(knitr::knit_print, dreher_set, knit_result)
#' S3method(knitr::knit_print, dreher_comparison, knit_result)
#' S3method(knitr::knit_print, dreher_confirmation, knit_result)
#' S3method(knitr::knit_print, dreher_effects, knit_result)
#' S3method(knitr::knit_print, dreher_contributions, knit_result)
#' S3method(knitr::knit_print, dreher_interactions, knit_result)
#' S3method(knitr::knit_print, dreher_slices, knit_result)
#' S3method(knitr::knit_print, dreher_similar, knit_result)
#' S3method(knitr::knit_print, dreher_change, knit_result)
#' S3method(knitr::knit_print, dreher_rule, knit_result)
NULL

tidy_result <- function(x, ...) {
  out <- as.data.frame(x)
  if (requireNamespace("tibble", quietly = TRUE)) tibble::as_tibble(out) else out
}

# --- documents ---------------------------------------------------------------------------------

# Lines of the console where the document is not made by pandoc.
knit_result <- function(x, ...) {
  if (is.null(knitr::pandoc_to())) return(knitr::normal_print(x))
  knitr::asis_output(paste(document_lines(x), collapse = "\n"))
}

document_lines <- function(x) {
  if (inherits(x, c("dreher_effects", "dreher_contributions"))) {
    said <- if (inherits(x, "dreher_effects")) {
      sentences_of_effects(x)
    } else {
      sentences_of_directions(x)
    }
    return(c("", paste("-", in_markdown(utils::head(said, 12))), ""))
  }
  said <- finding_of(x)
  c("", if (nzchar(said)) c(in_markdown(said), ""), document_tables(x), "")
}

# What a result comes to.
finding_of <- function(x) {
  said <- switch(
    class(x)[1],
    dreher_scores = say_interpretable(x),
    dreher_checks = say_checks(x),
    dreher_drift = c(say_drift(x), say_drift_ranking(x)),
    dreher_agreement = say_agreement(x),
    dreher_set = say_set(x),
    dreher_confirmation = say_confirmation(x),
    dreher_interactions = say_interactions(x, as_plain(x)),
    dreher_slices = utils::head(say_slices(x, as_plain(x)), 4)
  )
  paste(said, collapse = " ")
}

# Each a pipe table under a line that says what it is of.
document_tables <- function(x) {
  if (inherits(x, "dreher_ranking")) return(document_ranking(x))
  if (inherits(x, "dreher_stability")) {
    return(unlist(lapply(x$parts, function(p) {
      one <- x
      one$parts <- list(p)
      cells <- stability_cells(one)
      keep <- !names(cells$columns) %in% c("Model", "Method")
      c(
        in_markdown(paste0(part_name(p$table), ": ", say_verdict(p, x$labels, x$about))),
        "", pipe_table(cells$columns[keep]), ""
      )
    })))
  }
  cells <- switch(
    class(x)[1],
    dreher_scores = score_cells(x),
    dreher_reduction = reduction_cells(x),
    dreher_comparison = comparison_cells(x),
    dreher_floor = floor_cells(x),
    dreher_drift = drift_cells(x),
    dreher_agreement = agreement_cells(x),
    dreher_twins = twins_cells(x),
    dreher_checks = check_cells(x),
    dreher_set = set_cells(x),
    dreher_confirmation = confirmation_cells(x),
    any_cells(x, Inf)
  )
  pipe_table(cells$columns)
}

# A table a model: predictors down, methods across.
document_ranking <- function(x, most = 15) {
  whole <- as_plain(shown_ranking(x))
  together <- if (any(is.na(whole$class))) whole[is.na(whole$class), ] else whole
  labels <- detail(x, "labels")
  unlist(lapply(unique(together$model), function(m) {
    part <- together[together$model == m, ]
    part$panel <- panel_of(part)
    panels <- panels_in(part)
    order <- order_by_rank(part)
    shown <- shown_of(part, order, if (length(order) > most + 1) most else length(order))
    cells <- lapply(cells_of_ranking(part, panels, shown, 1), function(v) {
      trimws(gsub(" +", " ", v))
    })
    names(cells) <- panels
    folded <- say_folded(part, panels, setdiff(order, shown))
    c(
      in_markdown(paste0(m, ": ", say_ranking(main_part(part), labels))), "",
      pipe_table(c(list(Predictor = unname(labels[shown])), cells)), "",
      if (length(folded)) c(in_markdown(trimws(folded)), "")
    )
  }))
}

pipe_table <- function(columns, most = 30) {
  if (!length(columns[[1]])) return("No rows.")
  n <- length(columns[[1]])
  shown <- lapply(columns, function(v) in_markdown(as.character(utils::head(v, most))))
  line <- function(cells) paste0("| ", paste(cells, collapse = " | "), " |")
  body <- do.call(paste, c(unname(shown), sep = " | "))
  c(
    line(in_markdown(names(columns))), line(rep("---", length(columns))),
    paste0("| ", body, " |"),
    if (n > most) c("", paste0("The first ", most, " of ", n, " rows."))
  )
}

# Text as text: no markup, no tag.
in_markdown <- function(text) {
  text <- gsub("&", "&amp;", printable(text), fixed = TRUE)
  # "#" first: it stands in what the others are replaced by
  for (sign in strsplit("#\\`*_{}[]<>|$~^", "")[[1]]) {
    text <- gsub(sign, paste0("&#", utf8ToInt(sign), ";"), text, fixed = TRUE)
  }
  text
}
