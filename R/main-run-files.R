# The files of a run: tables, pictures, the chosen set, the page.

# keys: of all steps
deliver_run <- function(st, results, steps, keys, spec, out) {
  done <- steps$step[steps$state == "done"]
  kept_in <- file.path(out, "kept")
  words <- key_of(of_dictionary(st, c("label", "unit")))
  anew <- if (is.null(read_kept(kept_in, "words", words))) names(results) else done
  tables <- setdiff(names(results), "set")
  files <- file.path(out, result_files(tables, spec$output$format))
  to_write <- tables[tables %in% anew | !file.exists(files)]
  for (name in to_write) {
    file <- files[tables == name]
    save_table(results[[name]], file, if (endsWith(file, ".sqlite")) name)
    draw_result(results[[name]], name, results, out)
  }
  if (!is.null(results$set)) {
    set <- set_in_folder(results$set, out)
    if ("set" %in% done || !file.exists(set$file)) write_predictor_set(set, set$file)
  }
  place <- key_of(spec$output$database, keys, words)
  if (!is.null(spec$output$database) && is.null(read_kept(kept_in, "database", place))) {
    if (results_to_database(results, spec)) write_kept(kept_in, "database", place, TRUE)
  }
  write_kept(kept_in, "words", words, TRUE)
  page <- file.path(out, "report.html")
  key <- key_of(spec$report, keys, words)
  if (!file.exists(page) || is.null(read_kept(kept_in, "page", key))) {
    say_step("Writing the page ...")
    title <- if (is.null(spec$report$title)) {
      paste("What predicts", st$target)
    } else {
      spec$report$title
    }
    about <- list(file = page, title = title, withhold = unlist(spec$report$withhold))
    do.call(write_report, c(list(st), unname(results), about))
    write_kept(kept_in, "page", key, TRUE)
  }
}

# One file a result, or one SQLite file for all.
result_files <- function(names, format) {
  if (is.null(format)) format <- "csv"
  if (format == "sqlite") rep("results.sqlite", length(names)) else paste0(names, ".", format)
}

# A database that cannot be reached loses nobody the files. -> are they there?
results_to_database <- function(results, spec) {
  place <- spec$output$database
  prefix <- if (is.null(place$prefix)) {
    paste0(gsub("[^A-Za-z0-9]+", "_", tools::file_path_sans_ext(basename(spec$file))), "_")
  } else {
    place$prefix
  }
  say_step("Writing to the database ...")
  tryCatch(
    {
      connection <- connect_database(place)
      on.exit(DBI::dbDisconnect(connection), add = TRUE)
      for (name in names(results)) {
        save_table(results[[name]], connection, paste0(prefix, name))
      }
      TRUE
    },
    error = function(e) {
      warn_dreher(
        "database",
        "The results are not all in the database.",
        gsub("\\s+", " ", cli::ansi_strip(rlang::cnd_message(e)))
      )
      FALSE
    }
  )
}

# Results that were kept take the words of today's dictionary: labels and units.
in_words_of <- function(x, st) {
  known <- st$dictionary
  renew <- function(old, column) {
    at <- match(names(old), known$predictor)
    old[!is.na(at)] <- column[at[!is.na(at)]]
    old
  }
  labels <- labels_of(st, known$predictor)
  if (!is.null(detail(x, "labels"))) {
    x <- set_detail(x, "labels", renew(detail(x, "labels"), labels))
  }
  if (!is.null(detail(x, "units"))) {
    x <- set_detail(
      x, "units", renew(detail(x, "units"), unname(units_of(st, known$predictor)))
    )
  }
  if (is.data.frame(x)) return(x)
  if (!is.null(x[["labels"]])) x$labels <- renew(x$labels, labels)
  if (inherits(x[["study"]], "dreher_study")) x$study$dictionary <- known
  x
}

draw_result <- function(x, name, results, out) {
  plot <- tryCatch(
    if (name == "reduction" && !is.null(results$set)) {
      ggplot2::autoplot(x, set = results$set)
    } else {
      ggplot2::autoplot(x)
    },
    error = function(e) NULL
  )
  if (!is.null(plot)) save_picture(plot, file.path(out, paste0(name, ".png")))
}

#' @export
print.dreher_run <- function(x, ..., width = NULL) write_lines(x, format_run(x), width)

# The answer, and where things are: what a reader wants of a run, within a screen.
format_run <- function(x) {
  if (any(x$steps$state == "to do")) return(format_plan(x))
  failed <- x$steps[x$steps$state %in% c("failed", "not possible"), ]
  said <- function(...) wrap_lines(paste0(...), indent = 1)
  part <- x$stability$parts[[1]]
  blocks <- list(
    c(
      heading(paste("What predicts", x$study$target)),
      said(say_interpretable(x$scores, x$checks)),
      unlist(lapply(say_doubts(x$scores), said)),
      if (!is.null(x$checks)) said("Data: ", say_checks(x$checks))
    ),
    if (!is.null(part)) {
      said(
        part_name(part$table),
        ": ",
        say_stability(part, x$stability$labels, x$stability$about)
      )
    } else if (!is.null(x$ranking)) {
      said(say_main(x$ranking, best_model(x$study)))
    },
    if (!is.null(x$set)) {
      c(
        unlist(lapply(say_other_model(x$set, x$scores, x$ranking), said)),
        said(say_set(x$set, x$confirmation)),
        if (x$set$count) {
          some_lines(
            paste0("Chosen: ", list_words(labels_of(x$study, x$set$predictors)), "."), 4
          )
        },
        unlist(lapply(say_suspects_of(x$set), said)),
        if (!is.null(x$confirmation)) said(say_confirmation(x$confirmation))
      )
    },
    if (NROW(failed)) said(failed$state, ": ", failed$step, " (", failed$error, ")"),
    c(
      if (!is.null(x$steps)) paste0(" ", count_states(x$steps), "."),
      paste0(" Page: ", file.path(x$folder, "report.html"))
    )
  )
  blocks <- blocks[lengths(blocks) > 0]
  unlist(lapply(seq_along(blocks), function(i) c(if (i > 1) "", blocks[[i]])))
}

# Verdicts that are not plain.
say_doubts <- function(scores) {
  if (is.null(scores$verdict)) return(NULL)
  at <- !grepl("^Yes", scores$verdict)
  said <- gsub("`", "", scores$verdict[at], fixed = TRUE)
  lapply(unique(said), function(v) paste0(list_words(scores$model[at][said == v]), ": ", v))
}

count_states <- function(steps) {
  n <- table(factor(steps$state, c("done", "kept", "failed", "not possible")))
  n <- n[n > 0]
  list_words(paste0(n, " ", ifelse(n == 1, "step ", "steps "), ifelse(
    names(n) == "kept", "kept from an earlier run", names(n)
  )))
}

format_plan <- function(x) {
  s <- x$steps
  about <- ifelse(
    s$state == "kept", "kept from an earlier run",
    ifelse(is.na(s$seconds), "seconds", paste("about", in_time(s$seconds)))
  )
  c(
    heading(paste("What a run would do for", x$study$target)),
    paste0(" ", format(s$step), "  ", about),
    "",
    paste0(
      " In all about ", in_time(sum(s$seconds, na.rm = TRUE) + 10),
      ", with one process. Results go to ", x$folder, "."
    )
  )
}
