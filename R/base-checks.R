# Checks of single arguments. Each throws in the terms of the argument's name and returns the
# value in the type the rest of the code relies on.

check_choice <- function(x, choices, arg, several = FALSE) {
  fits <- is.character(x) && length(x) >= 1 && (several || length(x) == 1) &&
    all(x %in% choices)
  if (!fits) {
    stop_input(
      paste0(
        "`", arg, "` must be ", if (several) "some of " else "one of ",
        quote_some(choices, 12), "."
      ),
      paste0("Given: ", if (is.character(x)) quote_some(x) else describe_value(x), ".")
    )
  }
  unique(x)
}

# What may be repeated, drawn or shown; more than that is a slip of the pen.
most_counted <- 1e6

check_count <- function(x, arg, least = 1, most = most_counted) {
  plain <- is.numeric(x) && !is.object(x) && length(x) == 1 && !is.na(x)
  fits <- plain && x == round(x) && x >= least && x <= most
  if (!fits) {
    bound <- if (most == most_counted && !(plain && x > most)) {
      paste0(", at least ", least)
    } else {
      paste0(" from ", least, " to ", format(most, big.mark = ",", scientific = FALSE))
    }
    stop_input(
      paste0("`", arg, "` must be a single whole number", bound, "."),
      paste0("Given: ", describe_value(x), ".")
    )
  }
  as.integer(x)
}

check_fraction <- function(x, arg) {
  if (!is.numeric(x) || length(x) != 1 || is.na(x) || x <= 0 || x >= 1) {
    stop_input(paste0("`", arg, "` must be a single number between 0 and 1, both excluded."),
               paste0("Given: ", describe_value(x), "."))
  }
  as.double(x)
}

check_flag <- function(x, arg) {
  if (!is.logical(x) || length(x) != 1 || is.na(x)) {
    stop_input(paste0("`", arg, "` must be TRUE or FALSE."),
               paste0("Given: ", describe_value(x), "."))
  }
  x
}

check_string <- function(x, arg) {
  if (!is.character(x) || length(x) != 1 || is.na(x) || !nzchar(x)) {
    stop_input(paste0("`", arg, "` must be a single piece of text."),
               paste0("Given: ", describe_value(x), "."))
  }
  x
}

# Names of columns: text, one or more, each once.
check_names <- function(x, arg) {
  if (!is.character(x) || !length(x) || anyNA(x)) {
    stop_input(
      paste0("`", arg, "` must be names of columns."),
      paste0("Given: ", describe_value(x), ".")
    )
  }
  twice <- unique(x[duplicated(x)])
  if (length(twice)) {
    stop_input(
      paste0("`", arg, "` names ", quote_some(twice), " more than once."),
      todo = "Name each column once."
    )
  }
  x
}

check_class <- function(x, class, arg, made_by) {
  if (!inherits(x, class)) {
    stop_input(paste0("`", arg, "` must be made by ", made_by, "."),
               paste0("Given: ", class(x)[1], "."))
  }
  invisible(x)
}

# Values in their order, as text: numbers by size, text in an order that is the same on every
# machine, whatever its language.
sort_text <- function(x) {
  if (is.character(x)) sort(x, method = "radix") else as.character(sort(x))
}

# A factor, the levels of text in that order.
text_factor <- function(x) {
  if (is.character(x)) factor(x, levels = sort_text(unique(x))) else factor(x)
}

# A table of rows: a data frame with at least one row and distinct column names, as a plain
# data.frame without row names.
check_rows <- function(data, arg) {
  if (is.matrix(data)) data <- as.data.frame(data, optional = TRUE)
  if (!is.data.frame(data)) {
    stop_input(
      paste0("`", arg, "` must be a data frame."),
      paste0("Given: ", describe_value(data), ".")
    )
  }
  if (nrow(data) == 0) {
    stop_input(
      paste0("`", arg, "` has no rows."), todo = "Give rows to compute on."
    )
  }
  twice <- unique(names(data)[duplicated(names(data))])
  if (length(twice)) {
    stop_input(
      paste0("`", arg, "` has duplicated column names: ", quote_some(twice), "."),
      todo = "Rename the columns so that each name stands once."
    )
  }
  if (any(is.na(names(data)) | !nzchar(names(data)))) {
    stop_input(
      paste0("`", arg, "` has columns without a name."), todo = "Name every column."
    )
  }
  odd <- names(data)[!vapply(data, is_usable_column, NA)]
  if (length(odd)) {
    stop_input(
      paste0(
        "`", arg,
        "` has columns that hold neither numbers, text, factors, dates nor TRUE/FALSE: ",
        quote_some(odd), "."
      ),
      todo = "Turn them into one of these, or leave them out."
    )
  }
  data <- as.data.frame(data, stringsAsFactors = FALSE)
  attr(data, "row.names") <- .set_row_names(nrow(data))
  data
}

is_usable_column <- function(x) {
  is.null(dim(x)) && (is.numeric(x) || is.character(x) || is.factor(x) || is.logical(x) ||
                        inherits(x, c("Date", "POSIXct", "difftime")))
}

# `model`: the model that needs the columns, if one does.
check_columns <- function(data, columns, arg, what, model = NULL) {
  gone <- setdiff(columns, names(data))
  if (length(gone)) {
    near <- unique(unlist(lapply(gone, function(g) {
      names(data)[agrepl(g, names(data), ignore.case = TRUE)]
    })))
    stop_input(
      paste0(
        what, if (length(gone) > 1) "s", " ", quote_some(gone),
        if (!is.null(model)) paste0(", which model \"", model, "\" needs,"),
        if (length(gone) == 1) " is not a column of `" else " are not columns of `", arg,
        "`."
      ),
      todo = if (length(near)) {
        paste0("Did you mean ", quote_some(near), "?")
      } else {
        paste0("Columns there: ", quote_some(names(data), 8), ".")
      }
    )
  }
  invisible(data)
}

check_no_dots <- function(..., .verb) {
  own_settings(parent.frame())
  if (...length() == 0) return(invisible())
  given <- names(list(...))
  named <- given[nzchar(given)]
  stop_input(
    if (length(named)) {
      paste0("`", .verb, "()` has no argument ", quote_some(named), ".")
    } else {
      paste0("`", .verb, "()` takes this argument by its name only.")
    },
    if (!length(named)) paste0("Given without a name: ", describe_value(list(...)[[1]]), "."),
    todo = paste0("See ?", .verb, " for the arguments.")
  )
}

most_threads <- 256L

# Number of threads for the loops in C++: argument, then option, then environment, then the cores
# that this process may use, eight at most: one inside a worker, as many as a scheduler's job was
# given, two where packages are checked. One when the work is already spread over workers.
check_threads <- function(threads) {
  if (is.null(threads)) {
    stated <- getOption("dreher.threads", Sys.getenv("DREHER_THREADS"))
    threads <- suppressWarnings(as.integer(stated))
    if (is.na(threads) || threads < 1 || threads > most_threads) {
      threads <- min(8L, future::availableCores())
    }
    if (future::nbrOfWorkers() > 1) threads <- 1L
  }
  check_count(threads, "threads", most = most_threads)
}
