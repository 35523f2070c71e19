# Queries only read: one statement that begins as a reading one, in a read-only state of the
# connection where the database has one that leaves the user's own transaction alone.

reading_words <- c("SELECT", "WITH", "VALUES", "TABLE", "FROM")

# Quoted text, names and comments, in which words and semicolons mean nothing.
quoted_sql <- paste(
  "'(?:[^']|'')*'", "\"(?:[^\"]|\"\")*\"", "`[^`]*`", "--[^\n]*", "/\\*(?s:.*?)\\*/",
  "(\\$[A-Za-z_]*\\$)(?s:.*?)\\1",
  sep = "|"
)

check_query <- function(query) {
  plain <- gsub(quoted_sql, " ? ", query, perl = TRUE)
  plain <- trimws(sub(";[;\\s?]*$", "", plain, perl = TRUE))
  words <- gsub("^[(?\\s]+", "", plain, perl = TRUE)
  first <- toupper(sub("[^A-Za-z].*$", "", words))
  refuse <- function(why) {
    stop_input(
      paste0("The query ", why),
      paste0("Given: ", strtrim(gsub("\\s+", " ", query), 120)),
      "Give one SELECT or WITH query; rows are read, nothing else."
    )
  }
  if (!first %in% reading_words) refuse("must begin with SELECT or WITH.")
  if (grepl(";", plain, fixed = TRUE)) refuse("holds more than one statement.")
  writing <- regmatches(
    plain,
    regexpr(
      "\\b(insert|update|delete|merge|into|truncate|drop|alter)\\b",
      plain,
      ignore.case = TRUE,
      perl = TRUE
    )
  )
  if (length(writing)) {
    refuse(paste0("would change something: it says ", toupper(writing), "."))
  }
  query
}

read_only <- function(con, code) {
  if (inherits(con, "SQLiteConnection")) {
    before <- DBI::dbGetQuery(con, "PRAGMA query_only")[[1]]
    DBI::dbExecute(con, "PRAGMA query_only = ON")
    on.exit(
      try(DBI::dbExecute(con, paste("PRAGMA query_only =", before)), silent = TRUE),
      add = TRUE
    )
  } else if (is_postgres(con) && !in_transaction(con)) {
    said_or_failed(DBI::dbGetQuery(con, "BEGIN READ ONLY"), none = TRUE)
    on.exit(
      suppressWarnings(try(DBI::dbGetQuery(con, "ROLLBACK"), silent = TRUE)), add = TRUE
    )
  }
  code
}

is_postgres <- function(con) inherits(con, c("PostgreSQLConnection", "PqConnection"))

# The user's own, which must not be rolled back: then time stands still.
in_transaction <- function(con) {
  !isTRUE(DBI::dbGetQuery(con, "SELECT now() = statement_timestamp() AS alone")$alone)
}

# Some drivers warn where others fail, and return nothing.
said_or_failed <- function(code, none = FALSE) {
  said <- character()
  value <- withCallingHandlers(code, warning = function(w) {
    said <<- c(said, conditionMessage(w))
    invokeRestart("muffleWarning")
  })
  if (!is.data.frame(value) && (length(said) || !none)) {
    stop(paste(c(said, "it returned no table"), collapse = "; "), call. = FALSE)
  }
  value
}
