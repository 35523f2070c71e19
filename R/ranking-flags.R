# Short warnings for each predictor and each model: severe findings of the checks, and models that
# are not shown to beat a constant. They are worked out once for a study and kept
# with it (see kept()), since they ask for the predictions of every model and for a walk through
# all columns.

# -> list(predictors, models: words by name; reasons: data frame of name, flag and why)
flags_of <- function(st) {
  if (!is.null(st$flags)) return(st$flags)
  kept(st, "flags", find_flags(st))
}

find_flags <- function(st) {
  found <- find_severe(st)
  words <- c(leak = "possible leak", identifier = "identifier")
  found <- found[found$finding %in% names(words), ]
  predictors <- vapply(
    stats::setNames(nm = st$predictors),
    function(p) {
      paste(words[found$finding[found$predictor == p]], collapse = "; ")
    },
    ""
  )
  models <- vapply(flags_of_study(st), identity, "")
  weak <- names(models)[models == "no skill"]
  list(
    predictors = predictors,
    models = models,
    reasons = data.frame(
      name = c(found$predictor, weak),
      flag = c(unname(words[found$finding]), rep("no skill", length(weak))),
      why = c(
        found$detail,
        rep("the interval of its gain over a constant reaches 0", length(weak))
      )
    )
  )
}

# The predictors' flags, per unit (a list of predictors' names).
flags_of_units <- function(st, units) {
  flags <- flags_of(st)$predictors
  if (all(lengths(units) == 1)) {
    return(stats::setNames(flags[unlist(units, use.names = FALSE)], names(units)))
  }
  vapply(units, function(u) join_flags(t(unname(flags[u]))), "")
}

# Those of one model, by the names of what is ranked, which need not be predictors.
flags_of_names <- function(st, model, names, more = rep("", length(names))) {
  flags <- flags_of(st)
  own <- unname(flags$predictors[names])
  join_flags(
    ifelse(is.na(own), "", own), rep(flags$models[[model$name]], length(names)), more
  )
}

join_flags <- function(...) {
  apply(cbind(...), 1, function(f) paste(unique(f[nzchar(f)]), collapse = "; "))
}
