# Results as objects: a table or a list of fields, with a class of its own, made by new_x() and held
# to what it promises by validate_x(). What belongs to a whole table stands in one attribute,
# `details`, a list.

new_table <- function(table, class, details) {
  structure(table, class = c(paste0("dreher_", class), "data.frame"), details = details)
}

new_record <- function(fields, class) structure(fields, class = paste0("dreher_", class))

# Vectors as the columns of a table, a single value along all rows: data.frame() without its checks,
# which take long where tables are small and many.
table_of <- function(...) {
  columns <- list(...)
  list2DF(lapply(columns, rep_len, max(lengths(columns))))
}

# One entry of a result's details.
detail <- function(x, name) attr(x, "details")[[name]]

set_detail <- function(x, name, value) {
  details <- attr(x, "details")
  details[[name]] <- value
  attr(x, "details") <- details
  x
}

# The bare table.
as_plain <- function(x) {
  keep <- c("names", "row.names")
  attributes(x) <- c(attributes(x)[keep], list(class = "data.frame"))
  x
}

# Are the columns or fields there, in these types? types: names with what typeof() says, or "list",
# "function", "any".
check_shape <- function(x, types, what) {
  gone <- setdiff(names(types), names(x))
  if (length(gone)) {
    stop_internal(paste0("The ", what, " is not sound: it lacks ", quote_some(gone, 20), "."))
  }
  type <- vapply(names(types), function(n) typeof(x[[n]]), "")
  odd <- types != "any" & type != types
  if (any(odd)) {
    at <- names(types)[odd][1]
    stop_internal(paste0(
      "The ", what, " is not sound: \"", at, "\" is of type ", type[[at]], ", not ",
      types[[at]], "."
    ))
  }
  invisible(x)
}

# Throws where a rule that a result must keep does not hold.
check_holds <- function(holds, what, rule) {
  if (!isTRUE(holds)) stop_internal(paste0("The ", what, " is not sound: ", rule, "."))
  invisible(holds)
}

# Limits around a value, where there are limits.
within_limits <- function(value, lower, upper) {
  slack <- 1e-9 * (1 + abs(value))
  all(lower - slack <= value & value <= upper + slack, na.rm = TRUE)
}
