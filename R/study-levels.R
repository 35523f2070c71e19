# Levels that a refit has not seen: a part of the rows may lack a rare level of a factor. Models
# that predict such rows do so; where a model cannot, the rows count as the most frequent level
# there.

# `rows` with levels that no row of `train` has put to the usual one. known: levels the model
# states, by predictor; columns: those that a model may take in. -> list(rows, count of rows
# changed)
put_to_usual <- function(rows, train, known = list(), columns = names(train)) {
  changed <- rep(FALSE, nrow(rows))
  for (p in intersect(columns, intersect(names(rows), names(train)))) {
    x <- rows[[p]]
    if (!is.factor(x) && !is.character(x)) next
    met <- if (is.null(known[[p]])) unique(as.character(train[[p]])) else known[[p]]
    strange <- !is.na(x) & !as.character(x) %in% met
    if (!any(strange)) next
    counts <- table(as.character(train[[p]]))
    usual <- names(counts)[which.max(counts)]
    if (!length(usual)) next
    rows[[p]][strange] <- usual
    changed <- changed | strange
  }
  list(rows = rows, count = sum(changed))
}

# Tries as it is, then with unseen levels put to the usual one. -> the value, with attribute
# `unseen`
with_usual_levels <- function(rows, train, do) {
  tryCatch(do(rows), error = function(e) {
    mended <- put_to_usual(rows, train)
    if (mended$count == 0) stop(e)
    structure(do(mended$rows), unseen = mended$count)
  })
}

# Where a level of two rows or more lies in one fold alone, one of its rows changes places with a
# row of another fold, so that every training part has the level. stratum: rows that may be
# exchanged.
spread_levels <- function(fold, data, stratum, most = 10, tries = 50) {
  groups <- unlist(
    lapply(data, function(x) {
      if (!is.factor(x) && !is.character(x) && !is.logical(x)) return(NULL)
      rows <- split(seq_along(x), as.character(x))
      rows[lengths(rows) >= 2 & lengths(rows) <= most]
    }),
    recursive = FALSE,
    use.names = FALSE
  )
  alone <- function(rows) length(unique(fold[rows])) == 1
  if (!any(vapply(groups, alone, NA))) return(fold)
  of_row <- split(
    rep(seq_along(groups), lengths(groups)), factor(unlist(groups), seq_along(fold))
  )
  for (g in seq_along(groups)) {
    if (!alone(groups[[g]])) next
    i <- groups[[g]][1]
    others <- which(fold != fold[i] & stratum == stratum[i])
    for (j in others[utils::head(sample.int(length(others)), tries)]) {
      fold[c(i, j)] <- fold[c(j, i)]
      if (!any(vapply(groups[c(of_row[[i]], of_row[[j]])], alone, NA))) break
      fold[c(i, j)] <- fold[c(j, i)]
    }
  }
  fold
}
