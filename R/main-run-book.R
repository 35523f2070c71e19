# The book of a run: what was kept by earlier runs, and what is done now.

# What was kept, what is done, in closures over the folder.
open_book <- function(out) {
  folder <- file.path(out, "kept")
  if (!dir.exists(folder)) dir.create(folder)
  values <- keys <- list()
  steps <- data.frame(
    step = character(), state = character(), seconds = double(), error = character()
  )
  note <- function(name, state, seconds = NA_real_, error = "") {
    steps[nrow(steps) + 1, ] <<- list(name, state, seconds, error)
  }
  model <- function(name, key, make) {
    known <- read_kept(folder, name, key, tell = TRUE)
    if (!is.null(known)) return(known$value)
    say_step("Training ", sub("^model-", "", name), " ...")
    value <- tryCatch(make(), dreher_error_model = function(e) {
      note(name, "failed", error = gsub("\\s+", " ", cli::ansi_strip(rlang::cnd_message(e))))
      stop(e)
    })
    write_kept(folder, name, key, value)
    value
  }
  key_for <- function(step, base) {
    key_of(base, step$name, step$about, unname(keys[step$needs]))
  }
  take <- function(step, base) {
    gone <- setdiff(step$needs, names(values))
    if (length(gone)) {
      return(note(step$name, "not possible", error = paste0("needs ", list_words(gone))))
    }
    key <- key_for(step, base)
    known <- read_kept(folder, step$name, key, tell = TRUE)
    if (!is.null(known)) {
      value <- known$value
      note(step$name, "kept")
    } else {
      say_step(step$says, " ...")
      began <- proc.time()[[3]]
      # A run folder of other inputs is of no use.
      pieces <- file.path(folder, paste0(step$name, "-", substr(sub("^.*-", "", key), 1, 12)))
      old <- setdiff(Sys.glob(file.path(folder, paste0(step$name, "-*"))), pieces)
      unlink(old[dir.exists(old)], recursive = TRUE)
      value <- tryCatch(step$made(values, pieces), error = function(e) {
        pass_interrupt(e)
        e
      })
      seconds <- proc.time()[[3]] - began
      if (inherits(value, "error")) {
        said <- gsub("\\s+", " ", cli::ansi_strip(rlang::cnd_message(value)))
        warn_dreher("step", paste0("The step ", step$name, " failed: ", said))
        return(note(step$name, "failed", seconds, said))
      }
      write_kept(folder, step$name, key, value)
      note(step$name, "done", seconds)
    }
    settle(step, key, value)
  }
  settle <- function(step, key, value) {
    values[[step$name]] <<- value
    # The same set by another rule leaves what follows as it is.
    keys[[step$name]] <<- if (is.null(step$matters)) key else key_of(step$matters(value))
  }
  plan <- function(step, base) {
    key <- key_for(step, base)
    keys[[step$name]] <<- key
    known <- read_kept(folder, step$name, key)
    if (!is.null(known)) {
      settle(step, key, known$value)
      return(note(step$name, "kept"))
    }
    note(step$name, "to do", if (is.null(step$seconds)) NA_real_ else step$seconds())
  }
  list(
    model = model,
    take = take,
    plan = plan,
    values = function() values,
    steps = function() steps,
    keys = function() keys
  )
}

# Names of models are the user's.
kept_file <- function(folder, name) {
  plain <- gsub("[^A-Za-z0-9_.-]", "_", name)
  if (plain != name || nchar(plain) > 80) {
    plain <- paste0(substr(plain, 1, 60), "-", short_print(name))
  }
  file.path(folder, paste0(plain, ".rds"))
}

#
# kept_format: 1, before it was written down: list(key, value), with keys that cannot be compared
# any more; 2: list(format, key, value), keys are fingerprints (base-prints.R).
kept_format <- 2L

read_kept <- function(folder, name, key, tell = FALSE) {
  file <- kept_file(folder, name)
  if (!file.exists(file)) return(NULL)
  found <- tryCatch(readRDS(file), error = function(e) NULL, warning = function(w) NULL)
  if (!is.list(found) || is.null(found$key)) {
    if (tell) say_step("What was kept of ", name, " cannot be read: it is made anew.")
    return(NULL)
  }
  if (!identical(found$format, kept_format)) {
    if (tell) {
      say_step(
        "What was kept of ", name, " is of another version of dreher: it is made anew."
      )
    }
    return(NULL)
  }
  if (identical(found$key, key)) found
}

write_kept <- function(folder, name, key, value) {
  write_whole(kept_file(folder, name), function(path) {
    saveRDS(list(format = kept_format, key = key, value = value), path)
  })
}

say_step <- function(...) {
  rlang::inform(paste0(...), class = "dreher_message_step")
}
