# The steps of the command that question data and models before anything is ranked.

check_step <- function() {
  list(
    says = paste0(
      "Checks rows and columns for what makes rankings mislead. Ends with 1 on a severe ",
      "finding, so that it can guard a pipeline. Given a study file alone, says its faults, ",
      "each with its line, and ends with 1 if there are any."
    ),
    file = "[study.yml]",
    needs = c("models", "data", "target"),
    needs_with_file = character(),
    options = c(
      model_options(),
      list(
        holdout_option(),
        flag("strict", "end with 1 on doubts too"),
        format_option()
      )
    )
  )
}

score_step <- function() {
  list(
    says = "Scores the models, and says whether their importances can be interpreted.",
    needs = c("models", "data", "target"),
    options = c(model_options(), list(holdout_option(), format_option()))
  )
}

# -> the exit status
command_check <- function(given) {
  if (!is.null(given$file)) {
    faults <- check_study_file(given$file)
    put_out(format_faults(faults))
    return(structure(as.integer(nrow(faults) > 0), class = "exit_status"))
  }
  st <- command_study(given, given_table(given$data))
  checks <- check_data(st, seed = given$seed)
  deliver(checks, "checks", format_checks(checks), given)
  stops <- c("severe", if (given$strict) "doubt")
  found <- checks$predictor[checks$severity %in% stops]
  if (length(found)) {
    tell(
      "dreher: ",
      paste(stops, collapse = " findings or "),
      if (length(stops) == 1) " findings" else "s",
      " in ",
      list_few(name_about(unique(found))),
      "."
    )
  }
  structure(as.integer(length(found) > 0), class = "exit_status")
}

command_score <- function(given) {
  st <- command_study(given, given_table(given$data))
  scores <- score_models(st, seed = given$seed)
  deliver(scores, "scores", format_scores(scores), given)
  if (is.null(given$out)) return(invisible())
  parts <- Filter(Negate(is.null), summary(scores))
  write_tables(parts, given$out, given$format)
  for (name in setdiff(figures_of_scores(scores), "scores")) {
    save_picture(
      ggplot2::autoplot(scores, show = name), file.path(given$out, paste0(name, ".png"))
    )
  }
}
