# Estimates of shuffled units as rows of a ranking.

# within: flags of the units by their strata, for the conditional form.
ranking_of_shuffles <- function(
    context, evaluation, units, estimates, repeats, form, seed, level, noise, within = NULL) {
  st <- context$st
  model <- context$model
  get <- function(field) vapply(estimates, `[[`, 0, field)
  seen <- evaluation$kind == "train"
  hide <- function(x) if (seen) rep(NA_real_, length(x)) else x
  flags <- join_flags(
    flags_of_units(st, units),
    rep(flags_of(st)$models[[model$name]], length(units)),
    if (repeats < min(5, context$n - 1)) "few repeats" else "",
    if (seen) "training rows" else "",
    if (is.null(within)) "" else within
  )
  note <- c(
    if (!is.null(evaluation$of)) paste0("of ", format(evaluation$of, big.mark = ",")),
    if (!is.null(st$weights)) "weighted", if (!is.null(st$blocks)) "errors by block"
  )
  settings <- new_settings(
    model,
    "permutation",
    evaluation,
    context$n,
    form = shuffle_form(form, !is.null(within)),
    repeats = repeats,
    measures = paste0(say_loss(st$metric, form), if (!is.null(within)) " within strata"),
    note = paste(note, collapse = ", "),
    shuffle_noise = noise
  )
  table <- ranking_rows(
    st,
    settings,
    names(units),
    get("importance"),
    hide(get("std_error")),
    hide(get("lower")),
    hide(get("upper")),
    inference = if (seen) "rows" else "model",
    flag = flags
  )
  ranking_part(st, table, settings, seed, level, values = influence_cube(estimates))
}

shuffle_form <- function(form, conditional) {
  words <- c(if (conditional) "conditional", if (form == "ratio") "ratio")
  if (length(words)) paste(words, collapse = " ") else "plain"
}

# rows x units x 1; NULL where the metric has no influence of single rows.
influence_cube <- function(estimates) {
  influence <- lapply(estimates, `[[`, "units")
  if (!length(influence) || is.null(influence[[1]])) return(NULL)
  one <- do.call(cbind, influence)
  array(one, c(dim(one), 1), list(NULL, colnames(one), NULL))
}

# The largest share of the shuffles' own noise in the variance of an importance, over those that
# stand out from zero; NA where none does (what is all noise stays so) and for the jackknife,
# which does not tell it apart.
shuffle_share <- function(estimates) {
  stands <- vapply(
    estimates, function(j) !is.null(j$share) && is.finite(j$lower) && j$lower > 0, NA
  )
  if (!any(stands)) NA_real_ else max(vapply(estimates[stands], `[[`, 0, "share"))
}

# What an importance measures, in words.
say_loss <- function(metric, form) {
  paste0(
    if (form == "ratio") "relative ",
    if (metric$better == "lower") "rise of " else "fall of ", metric$label
  )
}
