# What the readers of a page may not see is taken out of the results before the page is made.
#
# Rows: what is said of single rows. Sensitive: the names of predictors that the dictionary calls
# so, and what would give them away: their values, curves, slices and findings.

withheld_kinds <- c("rows", "sensitive")

take_out <- function(r, what) {
  if ("rows" %in% what) r <- without_rows(r)
  if ("sensitive" %in% what) r <- without_sensitive(r)
  r
}

# Sentences about many rows stay.
least_rows_together <- 50

without_rows <- function(r) {
  if (length(unique(r$contributions$row)) < least_rows_together) r$contributions <- NULL
  if (identical(detail(r$effects, "form"), "single")) r$effects <- NULL
  r$without_rows <- TRUE
  r
}

without_sensitive <- function(r) {
  d <- r$study$dictionary
  gone <- d$predictor[d$sensitive %in% TRUE]
  if (!length(gone)) return(r)
  # parts of the rows are called by a value alone in rankings
  told <- unlist(lapply(list(r$study$data, r$study$train), function(rows) {
    lapply(intersect(gone, names(rows)), function(p) unique(as.character(rows[[p]])))
  }))
  about <- function(text) contains_word(text, gone) | (!is.na(text) & text %in% told)
  if (!is.null(r$ranking)) r$ranking <- r$ranking[!about(r$ranking$slice), ]
  if (!is.null(r$stability)) {
    r$stability$parts <- Filter(
      function(p) !any(about(p$table$slice)), r$stability$parts
    )
  }
  r$effects <- keep_rows(r$effects, function(x) {
    !x$predictor %in% gone & !x$other %in% gone & !about(x$slice)
  })
  r$slices <- keep_rows(r$slices, function(x) !about(x$slice))
  r$checks <- keep_rows(r$checks, function(x) !x$predictor %in% gone)
  r$drift <- keep_rows(r$drift, function(x) !x$predictor %in% gone)
  if (!is.null(r$contributions)) {
    r$contributions$value[r$contributions$predictor %in% gone] <- "withheld"
  }
  masks <- masks_for(d, gone)
  r$masks <- masks
  results <- setdiff(names(r), c("study", "title", "masks", "without_rows"))
  r[results] <- lapply(r[results], mask_names, masks)
  r$study$dictionary <- mask_names(d, masks)
  r$title <- mask_text(r$title, masks)
  r
}

# A table without some of its rows, or none where none is left.
keep_rows <- function(x, which) {
  if (is.null(x)) return(NULL)
  kept <- which(x)
  details <- attr(x, "details")
  out <- new_table(
    as_plain(x)[kept, , drop = FALSE], sub("^dreher_", "", class(x)[1]), details
  )
  if (nrow(out) || inherits(x, "dreher_checks")) out
}

# Names and labels, and what stands in their place.
masks_for <- function(dictionary, gone) {
  mask <- paste("withheld predictor", seq_along(gone))
  label <- dictionary$label[match(gone, dictionary$predictor)]
  out <- c(stats::setNames(mask, gone), stats::setNames(mask, label))
  out <- out[!is.na(names(out))]
  out[order(-nchar(names(out)))]
}

as_word <- function(name) {
  paste0("(?<![\\w.])\\Q", gsub("\\E", "", name, fixed = TRUE), "\\E(?![\\w.]*\\w)")
}

contains_word <- function(text, names) {
  text <- as.character(text)
  Reduce(`|`, lapply(names, function(n) grepl(as_word(n), text, perl = TRUE)))
}

mask_text <- function(text, masks) {
  for (name in names(masks)) {
    text[] <- gsub(as_word(name), masks[[name]], text, perl = TRUE)
  }
  text
}

# Fields that hold words of ours or the names of models, never those of predictors.
fields_of_ours <- c(
  "model", "refit", "method", "form", "rows", "class", "severity", "finding", "metric",
  "metric_label", "better", "by", "search", "rule", "statement", "use", "known", "unit"
)

# The same through all that a result holds. Of a study inside it only the dictionary, which words
# are taken from, is changed.
mask_names <- function(x, masks) {
  if (inherits(x, "dreher_study")) {
    x$dictionary <- mask_names(x$dictionary, masks)
    return(x)
  }
  if (is.character(x)) x <- mask_text(x, masks)
  if (is.factor(x)) levels(x) <- mask_text(levels(x), masks)
  if (is.list(x)) {
    bare <- unclass(x)
    for (i in which(!names_or_none(bare) %in% fields_of_ours)) {
      bare[i] <- list(mask_names(bare[[i]], masks))
    }
    attributes(bare) <- attributes(x)
    x <- bare
  }
  for (name in intersect(c("details", "dimnames"), names(attributes(x)))) {
    attr(x, name) <- mask_names(attr(x, name), masks)
  }
  if (!is.null(names(x)) && !is.object(x)) names(x) <- mask_text(names(x), masks)
  x
}

names_or_none <- function(x) if (is.null(names(x))) rep("", length(x)) else names(x)

# What is left of the names in the finished page: in its text, and in the words of its marks.
mask_page <- function(html, masks) {
  if (is.null(masks)) return(html)
  names(masks) <- escape(names(masks))
  words <- gregexpr(">[^<]+<|(aria-label|title|value|data-[a-z]+)=\"[^\"]*\"", html)
  regmatches(html, words) <- lapply(regmatches(html, words), mask_text, masks)
  html
}
