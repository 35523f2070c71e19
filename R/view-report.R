#' Write the report
#'
#' One HTML file that holds everything, figures included: the answer and what to do next first,
#' then the questions in their order, each figure with its finding in words, how to read it, and
#' the numbers behind it. A reader chooses model, class, predictor or row. It needs no network,
#' and works by keyboard, on a phone, in print, in light and dark.
#'
#' @param study A [study()].
#' @param ... Results to show, in any order: a [ranking], and results of [stability()],
#'   [agreement()], [noise_floor()], [find_twins()], [reduce_predictors()], [choose_set()],
#'   [compare_sets()], [confirm_set()], [effect_curves()], [contributions()], [interactions()],
#'   [compare_slices()], [find_drift()], [score_models()], [check_data()]. What is not given is not
#'   shown; scores and checks are computed.
#' @param file Path of the HTML file. An existing file is replaced.
#' @param title Title of the report.
#' @param withhold What the readers may not see, `"rows"` and `"sensitive"` or one of them; NULL:
#'   nothing is withheld. `"rows"`: nothing of single rows is shown: no values, predictions or
#'   contributions of one row, no curve of one row; contributions of 50 rows and more become
#'   sentences. `"sensitive"`: predictors that the dictionary calls sensitive go by a number, and
#'   their curves, slices, findings and values are left out. Slices that you named yourself, levels,
#'   ranges and other figures of the remaining predictors stay: look through the page before you
#'   pass it on.
#' @param short TRUE: one page for the domain expert: the answer, the ranking of the main model, and
#'   how the predictors act.
#' @return `file`, invisibly.
#' @section Errors: Results of another study (other data); objects that are no results.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' write_report(st, rank_permutation(st), file = tempfile(fileext = ".html"))
#' @export
write_report <- function(study, ..., file, title = NULL, short = FALSE, withhold = NULL) {
  own_settings()
  check_class(study, "dreher_study", "study", "study()")
  if (missing(file)) {
    stop_input(
      "`file` is missing: the path of the report to write.",
      todo = "Name it: file = \"report.html\"."
    )
  }
  check_string(file, "file")
  if (!is.null(title)) check_string(title, "title")
  check_flag(short, "short")
  if (!is.null(withhold)) check_choice(withhold, withheld_kinds, "withhold", several = TRUE)
  results <- sort_results(study, list(...))
  rlang::check_installed("svglite", "to draw the figures of the page")
  refuse_target(file)
  if (is.null(title)) title <- paste("What predicts", study$target)
  if (is.null(results$scores)) {
    results$scores <- or_without("scores", score_models(study))
  }
  if (is.null(results$checks)) results$checks <- or_without("checks", check_data(study))
  shown <- take_out(c(list(study = study, title = title), results), withhold)
  write_page(shown, file, short)
  invisible(file)
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
