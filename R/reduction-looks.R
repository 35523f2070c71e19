# Looks at untouched rows: rows stay untouched once only. What was looked at is known by the rows'
# fingerprint, in this session, in the set's file, and beside it in looks.json, where it stays when
# the set is written anew.
#
# look   list(rows, set: fingerprints; n, statement, at: date and time)

looks_here <- new.env(parent = emptyenv())
looks_here$all <- list()

set_print <- function(set) {
  fingerprint(c(set$study$target, set$refit, sort_text(set$predictors)))
}

# All looks that are known where this set is: one per date and rows.
known_looks <- function(set) {
  found <- c(
    looks_here$all, set$looks, if (!is.null(set$file)) read_looks(looks_beside(set$file))
  )
  found[!duplicated(vapply(found, function(l) paste(l$rows, l$at, l$set), ""))]
}

looks_beside <- function(file) file.path(dirname(file), "looks.json")

read_looks <- function(file) {
  if (!file.exists(file)) return(list())
  tryCatch(
    sound_looks(jsonlite::fromJSON(file, simplifyVector = FALSE)),
    error = function(e) {
      stop_input(
        paste0("The file \"", file, "\" of looks at untouched rows cannot be read."),
        conditionMessage(e),
        paste0(
          "It says which rows have been confirmed on: move it away only if you know ",
          "that none have."
        )
      )
    }
  )
}

sound_looks <- function(looks) {
  is_text <- function(x) is.character(x) && length(x) == 1
  fits <- vapply(
    looks,
    function(l) is.list(l) && is_text(l$rows) && is_text(l$set) && is_text(l$at),
    NA
  )
  if (!all(fits)) stop("it holds something else than looks")
  looks
}

# Looks that earlier versions noted at as many rows: whether these are the same rows cannot be told.
refuse_unknown_look <- function(looks, rows, n_rows) {
  old <- Filter(
    function(l) is.na(same_print(l$rows, rows)) && n_rows %in% unlist(l$n), looks
  )
  if (!length(old)) return(invisible())
  stop_study(
    paste0(
      "A look at ", format_number(n_rows), " untouched rows was noted at ",
      old[[length(old)]]$at,
      " by another version of dreher, whose fingerprints cannot be ",
      "compared: these may be the same rows."
    ),
    "A second look is a choice among looks, and the best is optimistic.",
    paste0(
      "If these are other rows, or the reader is told, say again = TRUE (dreher ",
      "confirm --again)."
    )
  )
}

# An error where these rows, so many, were looked at before, unless it is said. -> number of looks
# so far
refuse_second_look <- function(set, rows, n_rows, again) {
  looks <- known_looks(set)
  if (!again) refuse_unknown_look(looks, rows, n_rows)
  before <- Filter(function(l) identical(l$rows, rows), looks)
  n <- length(before)
  if (n && !again) {
    stop_study(
      paste0(
        "These rows were confirmed on before, ",
        if (n == 1) "once" else paste(n, "times"), ", last at ", before[[n]]$at, "."
      ),
      "A second look is a choice among looks, and the best is optimistic.",
      paste0(
        "Take other rows, or say again = TRUE (dreher confirm --again) and tell the ",
        "reader."
      )
    )
  }
  n
}

# Kept in this session, and where the set came from a file there and beside it. -> looks at these
# rows by now
note_look <- function(set, rows, n, statement, before) {
  look <- list(
    rows = rows,
    set = set_print(set),
    n = n,
    statement = statement,
    at = format(Sys.time(), "%Y-%m-%d %H:%M:%OS3")
  )
  looks_here$all <- c(looks_here$all, list(look))
  if (!is.null(set$file)) {
    tryCatch(
      {
        found <- jsonlite::fromJSON(set$file, simplifyVector = FALSE)
        found$looks <- c(found$looks, list(look))
        write_json_file(found, set$file)
        write_json_file(
          c(read_looks(looks_beside(set$file)), list(look)), looks_beside(set$file)
        )
      },
      error = function(e) {
        warn_dreher(
          "looks",
          paste0(
            "The look could not be written to \"", set$file, "\": ", conditionMessage(e)
          ),
          "Keep count of it yourself."
        )
      }
    )
  }
  before + 1L
}

write_json_file <- function(x, file) {
  write_text(
    jsonlite::toJSON(
      x, digits = NA, na = "null", null = "null", auto_unbox = TRUE, pretty = TRUE
    ),
    file
  )
}
