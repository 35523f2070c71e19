# One variable spread over several columns: found by names and confirmed by values, or declared.

#' Families of columns that are one variable
#'
#' A model trained on one-hot, hashed or binned columns knows a variable under many names. This
#' finds the one-hot columns among those of a table, confirms that they are, and takes in what is
#' declared, as a list for `groups = ` of [rank_permutation()], [rank_shapley()] and others.
#'
#' @param data A data frame, as the model takes it in.
#' @param ... Must be empty.
#' @param declared Named list: for a family of your own, the names of its columns, or one text that
#'   ends in `*`: all columns whose names begin so. For hashed, binned or embedded columns, which
#'   values do not give away.
#' @return A named list of class `dreher_families`: for each family the names of its columns.
#'   Attribute `found` is a data frame with a row for each: `family`, `columns` (how many), `kind`
#'   (`one-hot`, `one-hot, a level left out`, `declared`) and `rejected` (names of columns that
#'   begin alike and were not taken, and why; empty where there are none).
#' @details Columns of 0 and 1 (or FALSE and TRUE) whose names begin alike, up to a separator (`_`,
#'   `.`, `:`, `=`, `-` or a space) or, without one, up to the shortest beginning that fits, are a
#'   family if no row has a 1 in two of them, and if that is not chance: were the columns
#'   independent, at
#'   least 10 rows should have two. Families that are declared come first; no column is in two.
#' @section Errors: `dreher_error_input`: `data` no data frame; `declared` without names, of columns
#'   that are not there, or with a column in two families.
#' @seealso [read_dictionary()] with its column `family`; [study()] with `encode`, where the columns
#'   before encoding are at hand.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' spread <- cbind(
#'   kiln$train[c("peak_temp", "hold_minutes")],
#'   model.matrix(~ clay_source - 1, kiln$train)
#' )
#' column_families(spread)
#' @export
column_families <- function(data, ..., declared = NULL) {
  check_no_dots(..., .verb = "column_families")
  data <- check_rows(data, "data")
  declared <- declared_families(declared, names(data))
  free <- setdiff(names(data), unlist(declared))
  binary <- free[vapply(data[free], is_binary, NA)]
  values <- vapply(data[binary], function(x) as.double(x) == 1, logical(nrow(data)))
  values <- matrix(values, nrow(data), dimnames = list(NULL, binary))
  found <- one_hot_families(values)
  families <- c(declared, lapply(found, `[[`, "columns"))
  kinds <- c(rep("declared", length(declared)), vapply(found, `[[`, "", "kind"))
  rejected <- c(rep("", length(declared)), vapply(found, `[[`, "", "rejected"))
  kept <- nzchar(kinds)
  structure(
    families[kept],
    found = data.frame(
      family = names(families),
      columns = lengths(families, use.names = FALSE),
      kind = kinds,
      rejected = rejected,
      row.names = NULL
    )[kept | nzchar(rejected), ],
    class = "dreher_families"
  )
}

is_binary <- function(x) {
  if (!is.numeric(x) && !is.logical(x)) return(FALSE)
  !anyNA(x) && all(x == 0 | x == 1) && any(x == 1) && any(x == 0)
}

declared_families <- function(declared, columns) {
  if (is.null(declared)) return(list())
  sound <- is.list(declared) && !is.data.frame(declared) && length(declared) &&
    !is.null(names(declared)) && all(nzchar(names(declared))) &&
    !anyDuplicated(names(declared)) &&
    all(vapply(declared, function(d) is.character(d) && length(d) && !anyNA(d), NA))
  if (!sound) {
    stop_input(
      "`declared` must be a list of columns' names, named by the families.",
      paste0("Given: ", describe_value(declared), "."),
      paste0(
        "For example list(some = c(\"", columns[1],
        "\")), or \"start_*\" for all that begin so."
      )
    )
  }
  out <- lapply(declared, function(d) {
    if (length(d) != 1 || !endsWith(d, "*")) return(d)
    columns[startsWith(columns, substr(d, 1, nchar(d) - 1))]
  })
  strange <- setdiff(unlist(out), columns)
  bare <- names(out)[lengths(out) == 0]
  twice <- unlist(out)[duplicated(unlist(out))]
  if (length(strange) || length(bare)) {
    stop_input(paste0(
      "`declared` names columns that are not there: ",
      quote_some(c(strange, unlist(declared[bare]))), "."
    ))
  }
  if (length(twice)) {
    stop_input(paste0(
      "`declared` has columns in two families: ", quote_some(unique(twice)), "."
    ))
  }
  out
}

# The largest sets first: columns of two variables would have rows with two ones.
# values: rows x columns of 0 and 1, as truths. -> named list of list(columns, kind, rejected)
one_hot_families <- function(values) {
  out <- list()
  left <- colnames(values)
  for (stem in shared_stems(left)) {
    alike <- left[startsWith(left, stem)]
    if (length(alike) < 2) next
    judged <- judge_family(values[, alike, drop = FALSE])
    if (nzchar(judged$rejected) && !grepl(ends_a_word, stem)) next
    out[[family_name(alike)]] <- c(list(columns = alike), judged)
    if (nzchar(judged$kind)) left <- setdiff(left, alike)
  }
  # what was taken in smaller families after all is not told as refused
  Filter(function(f) nzchar(f$kind) || length(intersect(f$columns, left)) > 1, out)
}

ends_a_word <- "[_.:= -]$"

# Beginnings of two letters or more that two or more names share, shorter before longer.
shared_stems <- function(names) {
  stems <- unlist(lapply(names[nchar(names) > 2], function(name) {
    substring(name, 1, seq(2, nchar(name) - 1))
  }))
  stems <- unique(stems[duplicated(stems)])
  stems[order(nchar(stems), !grepl(ends_a_word, stems))]
}

# What all names begin with, up to the last separator if little follows it.
family_name <- function(names) {
  shared <- names[1]
  while (!all(startsWith(names, shared))) shared <- substr(shared, 1, nchar(shared) - 1)
  word <- sub("[_.:= -]+[^_.:= -]{0,2}$", "", shared)
  if (nzchar(word)) word else shared
}

# kind: "" where the columns are no family
judge_family <- function(values) {
  ones <- rowSums(values)
  two <- which(ones > 1)
  share <- colMeans(values)
  by_chance <- nrow(values) * (sum(share)^2 - sum(share^2)) / 2
  if (length(two)) {
    return(list(
      kind = "",
      rejected = paste0("row ", two[1], " has a 1 in ", ones[two[1]], " of them")
    ))
  }
  if (by_chance < 5) {
    return(list(kind = "", rejected = "too few rows with a 1 to tell: declare them"))
  }
  list(kind = if (all(ones == 1)) "one-hot" else "one-hot, a level left out", rejected = "")
}
