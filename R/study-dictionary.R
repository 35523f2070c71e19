#' Read what is known of the predictors
#'
#' The data dictionary: one row per predictor. Only `predictor` is required.
#'
#' | column | meaning |
#' |---|---|
#' | `predictor` | the column's name in the data |
#' | `label` | how figures and tables call it |
#' | `family` | predictors that belong together carry the same word |
#' | `unit` | the unit of its values |
#' | `cost` | what it costs to collect, a number of 0 or more in any unit |
#' | `use` | `free` (default), `keep` or `leave_out` |
#' | `sensitive` | TRUE where its use is delicate |
#'
#' @param file A delimited text file, or a data frame.
#' @return A data frame with these seven columns, one row per predictor. Unknown columns are an
#'   error of class `dreher_error_input`, as are predictors named twice.
#' @examples
#' read_dictionary(data.frame(predictor = "peak_temp", label = "Peak temperature", unit = "deg C"))
#' @export
read_dictionary <- function(file) {
  d <- if (is.data.frame(file)) {
    as.data.frame(file)
  } else {
    as.data.frame(read_rows(file, quiet = TRUE))
  }
  known <- c("predictor", "label", "family", "unit", "cost", "use", "sensitive")
  if (!"predictor" %in% names(d)) {
    stop_input(
      "The dictionary has no column \"predictor\".",
      paste0("Columns there: ", quote_some(names(d)), ".")
    )
  }
  strange <- setdiff(names(d), known)
  if (length(strange)) {
    stop_input(
      paste0("The dictionary has unknown columns: ", quote_some(strange), "."),
      todo = paste0("Known are ", quote_some(known, 7), ".")
    )
  }
  d$predictor <- as.character(d$predictor)
  twice <- unique(d$predictor[duplicated(d$predictor)])
  if (length(twice)) {
    stop_input(paste0("The dictionary names predictors twice: ", quote_some(twice), "."))
  }
  text <- function(name, default) {
    x <- if (is.null(d[[name]])) rep(NA_character_, nrow(d)) else as.character(d[[name]])
    ifelse(is.na(x) | !nzchar(x), default, x)
  }
  out <- data.frame(
    predictor = d$predictor,
    label = text("label", d$predictor),
    family = text("family", NA),
    unit = text("unit", NA),
    use = text("use", "free")
  )
  wrong <- setdiff(out$use, c("free", "keep", "leave_out"))
  if (length(wrong)) {
    stop_input(
      paste0("Column \"use\" of the dictionary holds ", quote_some(wrong), "."),
      todo = "Write free, keep or leave_out."
    )
  }
  cost <- if (is.null(d$cost)) {
    rep(NA_real_, nrow(d))
  } else {
    suppressWarnings(as.double(d$cost))
  }
  if (any(cost < 0, na.rm = TRUE) ||
      (!is.null(d$cost) && any(is.na(cost) & !is.na(d$cost) & nzchar(d$cost)))) {
    stop_input("Column \"cost\" of the dictionary must hold numbers of 0 or more.")
  }
  out$cost <- cost
  out$sensitive <- if (is.null(d$sensitive)) FALSE else as.logical(d$sensitive) %in% TRUE
  out[c("predictor", "label", "family", "unit", "cost", "use", "sensitive")]
}

fill_dictionary <- function(dictionary, predictors, columns) {
  d <- if (is.null(dictionary)) NULL else read_dictionary(dictionary)
  strange <- setdiff(d$predictor, c(columns, predictors))
  if (length(strange)) {
    warn_dreher(
      "dictionary",
      paste0("The dictionary names what is no column of `data`: ", quote_some(strange), "."),
      "Are the names written as in the data?"
    )
  }
  left <- setdiff(predictors, d$predictor)
  rbind(d, if (length(left)) read_dictionary(data.frame(predictor = left)))
}

labels_of <- function(st, predictors) {
  d <- st$dictionary
  label <- d$label[match(predictors, d$predictor)]
  # families and shared columns go by their own name
  stats::setNames(printable(ifelse(is.na(label), predictors, label)), predictors)
}
