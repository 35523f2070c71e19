# A first study file for a table, from what the table shows.

#' Draft a study file
#'
#' Looks at a table of rows, trains two models once, and writes a commented study file: target and
#' task, columns to leave out, a split into training, holdout and untouched rows, models, and as
#' many resamples and folds as fit the time. Read it, change what is wrong, and run it.
#'
#' @param data Path of a file: delimited text or Parquet.
#' @param target Name of the target column.
#' @param ... Must be empty.
#' @param file Path of the study file to write. Beside it are written a draft of the dictionary and
#'   the schema that editors complete study files from.
#' @param blocks Name of the column that says which rows belong together; `NULL`: the one whose
#'   values look like units measured more than once (`clustered rows` of [check_data()]), if any.
#' @param minutes Time you are ready to wait for the whole run.
#' @param seed Seed of the split and of all that is drawn later.
#' @return `file`, invisibly.
#' @details Left out are columns of one value and those that [check_data()] calls identifiers
#'   without doubt. Columns that look known only after the target are named in a comment: whether
#'   they were is yours to say. Blocks that were found are named with what never changes within
#'   them (in a comment where they are fewer than 40, or one holds more than 4 % of the rows): take
#'   the line out where rows of one value are no repeated measurements. Of 500 rows
#'   (125 blocks, where there are some) or more a fifth each becomes holdout and untouched; of 100
#'   rows (25 blocks) or more a quarter holdout; of fewer none, and methods are asked on training
#'   rows. Where dates or
#'   times tell most rows apart, the last rows are held out in place of drawn ones.
#' @section Errors: `dreher_error_input`: a file that cannot be read, a target that is no column or
#'   has one value, a study file that exists.
#' @seealso [check_study_file()], [run_study()], [draft_dictionary()].
#' @examples
#' folder <- tempfile()
#' dir.create(folder)
#' data <- file.path(folder, "loans.csv")
#' write.csv(demo_loans()$train[1:400, ], data, row.names = FALSE)
#' file <- draft_study(data, "returned_late", file = file.path(folder, "study.yml"))
#' cat(readLines(file, 20), sep = "\n")
#' @export
draft_study <- function(
    data, target, ..., file = "study.yml", blocks = NULL, minutes = 10, seed = 1) {
  check_no_dots(..., .verb = "draft_study")
  check_string(data, "data")
  check_file(data)
  check_string(target, "target")
  check_string(file, "file")
  if (!is.null(blocks)) check_string(blocks, "blocks")
  seed <- check_seed(seed)
  check_positive(minutes, "minutes")
  folder <- dirname(file)
  beside <- file.path(
    folder, c(paste0(tools::file_path_sans_ext(basename(file)), "_dictionary.csv"),
              "study.schema.json")
  )
  for (path in Filter(file.exists, c(file, beside[1]))) {
    stop_input(
      paste0("The file \"", path, "\" exists, and what was written in it would be lost."),
      if (path != file) "It is where the dictionary of this study file would stand.",
      "Give the study file another name (`file`, --out), or move the old one away."
    )
  }
  rows <- read_rows(data, quiet = TRUE)
  check_columns(rows, c(target, blocks), "data", "The column")
  if (length(unique(stats::na.omit(rows[[target]]))) < 2) {
    stop_input(paste0("The target \"", target, "\" has only one value."))
  }
  spec <- draft_spec(rows, data, target, blocks, folder, seed)
  tried <- try_draft(spec)
  if (is.null(blocks) && has_parts(tried$unit)) {
    # drawn rows of one unit would be on both sides of a split
    blocks <- tried$unit$unit
    unit <- tried$unit
    tried <- try_draft(draft_spec(rows, data, target, blocks, folder, seed))
    tried$unit <- unit
  }
  spec <- tried$spec
  write_text(draft_lines(spec, tried, minutes, rows, basename(beside)), file)
  kept <- rows[setdiff(names(rows), c(blocks, names(tried$gone)))]
  if (ncol(kept) > 1) draft_dictionary(kept, target = target, file = beside[1])
  copy_whole(system.file("study", "study.schema.json", package = "dreher"), beside[2])
  invisible(file)
}

# Are the units many and small enough to be parted into folds of folds?
has_parts <- function(unit) {
  !is.null(unit) && unit$sure && unit$values >= 40 && unit$largest <= 0.04
}

check_positive <- function(x, arg) {
  if (!is.numeric(x) || length(x) != 1 || !is.finite(x) || x <= 0) {
    stop_input(
      paste0("`", arg, "` must be a positive number."),
      paste0("Given: ", describe_value(x), ".")
    )
  }
  x
}

# A column of times that tells most rows apart: then neighbours are alike, and drawn rows flatter.
times_of_rows <- function(rows, target, blocks) {
  if (!is.null(blocks)) return(NULL)
  is_time <- vapply(rows, function(x) {
    inherits(x, c("Date", "POSIXt")) && !anyNA(x) && length(unique(x)) > nrow(rows) / 2
  }, NA)
  found <- setdiff(names(rows)[is_time], target)
  if (length(found)) found[1]
}

draft_spec <- function(rows, data, target, blocks, folder, seed) {
  y <- rows[[target]]
  # a block says more than a row: a quarter of the blocks will do
  n <- sum(!is.na(y))
  if (!is.null(blocks)) n <- min(n, 4 * length(unique(rows[[blocks]])))
  inside <- startsWith(normalizePath(data), paste0(normalizePath(folder), "/"))
  list(
    data = list(
      file = if (inside) {
        substring(normalizePath(data), nchar(normalizePath(folder)) + 2)
      } else {
        normalizePath(data)
      },
      split = c(
        if (n >= 500) {
          list(holdout = 0.2, untouched = 0.2)
        } else if (n >= 100) {
          list(holdout = 0.25, untouched = 0)
        } else {
          list(holdout = 0, untouched = 0)
        },
        list(order = times_of_rows(rows, target, blocks))
      ),
      leave_out = names(rows)[vapply(rows, function(x) length(unique(x[!is.na(x)])) < 2, NA)]
    ),
    target = target,
    task = guess_task(y),
    blocks = blocks,
    models = list(
      forest = list(
        learner = if (requireNamespace("ranger", quietly = TRUE)) "forest" else "tree"
      ),
      linear = list(learner = "linear")
    ),
    seed = seed,
    folder = folder
  )
}

# Models trained once on the draft: what the checks say of the columns, and how long it takes.
# -> list(spec, st, gone: named reasons of columns left out, leaks, unit: see find_unit())
try_draft <- function(spec) {
  one_value <- spec$data$leave_out
  gone <- stats::setNames(rep("one value", length(one_value)), one_value)
  made <- function(name, key, make) make()
  quiet <- function(code) suppressWarnings(suppressMessages(code))
  tables <- quiet(file_tables(spec))
  columns <- length(unlist(lapply(
    tables$train[file_predictors(spec, tables$train)],
    function(x) if (is_measured(x)) 1 else column_facts(x)$levels
  )))
  # With few rows a column, equations are shrunken.
  if (columns > nrow(tables$train) / 10 && requireNamespace("glmnet", quietly = TRUE) &&
      nrow(tables$train) >= 30 && columns > 1) {
    spec$models$linear$learner <- "penalised"
  }
  st <- quiet(study_of_file(spec, tables, made))
  found <- quiet(check_data(st))
  named <- found$predictor[found$finding == "identifier" & found$severity == "severe"]
  named <- setdiff(named, c(spec$target, spec$blocks))
  if (length(named) && length(setdiff(file_predictors(spec, tables$train), named))) {
    gone[named] <- "an identifier"
    spec$data$leave_out <- names(gone)
    tables <- quiet(file_tables(spec))
    st <- quiet(study_of_file(spec, tables, made))
  }
  leaks <- found[found$finding == "leak" & found$severity == "severe", ]
  unit <- if (is.null(spec$blocks)) {
    unit_to_propose(check_table(st, setdiff(names(st$data), c(spec$target, st$weights))))
  }
  list(spec = spec, st = st, tables = tables, gone = gone, leaks = leaks, unit = unit)
}

# sure: as check_data() would find it; else one column that never changes is enough to ask.
unit_to_propose <- function(table) {
  unit <- find_unit(table)
  sure <- !is.null(unit) && length(unit$constant) > 0
  if (is.null(unit)) unit <- find_unit(table, least = 1)
  if (!is.null(unit)) c(unit, list(sure = sure))
}

draft_lines <- function(spec, tried, minutes, rows, beside) {
  st <- tried$st
  seconds <- 60 * minutes
  n <- vapply(Filter(Negate(is.null), tried$tables), nrow, 1L)
  short <- tools::file_path_sans_ext(beside[1])
  c(
    paste0("# yaml-language-server: $schema=", beside[2]),
    paste0(
      "# A draft: ", ncol(rows), " columns and ", nrow(rows),
      " rows were looked at. Read it,"
    ),
    "# change what is wrong, and run it with  dreher run  (or run_study() in R).",
    "dreher: 1", "", "data:", paste0("  file: ", yaml_text(spec$data$file)),
    if (spec$data$split$holdout > 0) {
      c(
        paste0("  # ", list_words(paste(format_number(n), names(n))), " rows"),
        paste0(
          "  split: {holdout: ", spec$data$split$holdout, ", untouched: ",
          spec$data$split$untouched,
          if (!is.null(spec$data$split$order)) {
            paste0(", order: ", yaml_text(spec$data$split$order))
          },
          "}",
          if (!is.null(spec$data$split$order)) "   # in time: drawn rows would flatter"
        )
      )
    } else {
      paste0(
        "  # too few ", if (is.null(spec$blocks)) "rows" else "blocks",
        " to hold some out: models are asked on the rows they were trained on"
      )
    },
    draft_left_out(tried), "", paste0("target: ", yaml_text(spec$target)),
    paste0("task: ", spec$task, "   # regression: numbers; classification: classes"),
    if (length(st$classes) == 2) {
      paste0("positive: ", yaml_text(class_of_interest(st)))
    },
    draft_blocks(spec$blocks, tried$unit),
    paste0("metric: ", st$metric$name),
    paste0("dictionary: ", yaml_text(beside[1]), "   # labels, units, costs: fill it in"),
    "",
    paste0(
      "models:   # learners: linear, penalised, tree, forest, boosted; or file: a ",
      "trained model"
    ),
    unlist(lapply(names(spec$models), function(m) {
      c(paste0("  ", m, ":"), paste0("    learner: ", spec$models[[m]]$learner))
    })),
    "", "# What is computed. A section that is absent is not.", "checks:",
    if (spec$data$split$holdout > 0) "drift:", "rank:",
    paste0("  by: [", paste(methods_of_file(spec, st), collapse = ", "), "]"),
    draft_stability(st, seconds), draft_reduction(st, seconds, spec$data$split$untouched > 0),
    "twins:", "effects:", "contributions:", "report:",
    paste0("  title: ", yaml_text(paste("What predicts", spec$target))), "",
    paste0("seed: ", spec$seed), paste0("minutes: ", minutes)
  )
}

# unit: see find_unit()
draft_blocks <- function(blocks, unit) {
  line <- if (!is.null(blocks)) paste0("blocks: ", yaml_text(blocks))
  if (is.null(unit)) return(line)
  # names in a comment must not end its line
  why <- printable(if (length(unit$constant)) {
    paste0(
      list_few(unit$constant, 3), " never change", if (length(unit$constant) == 1) "s",
      " in it"
    )
  } else {
    "it is called so"
  })
  if (!is.null(line)) return(paste0(line, "   # its rows look like one unit: ", why))
  c(
    paste0(
      "# rows of one ", printable(unit$unit), " look like one unit: ", why,
      ". If they are, say"
    ),
    paste0(
      "# blocks: ", yaml_text(unit$unit), "   (too few, or too large, for many folds)"
    )
  )
}

class_of_interest <- function(st) {
  p <- st$metric$positive
  if (is.null(p)) st$classes[2] else if (is.numeric(p)) st$classes[p] else p
}

# Text as YAML writes it, on one line.
yaml_text <- function(x) sub("\n$", "", yaml::as.yaml(x, line.sep = "\n"))

draft_left_out <- function(tried) {
  gone <- tried$gone
  c(
    if (length(gone)) {
      c(
        "  leave_out:",
        paste0("    - ", vapply(names(gone), yaml_text, ""), "   # ", gone)
      )
    },
    unlist(lapply(seq_len(nrow(tried$leaks)), function(i) {
      text <- gsub(
        "[`\n]",
        "",
        paste0(
          tried$leaks$predictor[i], ": ", tried$leaks$detail[i],
          " Leave it out unless it is known", " before the target."
        )
      )
      paste("  #", strwrap(text, 92))
    }))
  )
}

# As many resamples as a third of the time allows.
draft_stability <- function(st, seconds) {
  each <- sum(fit_seconds(st) + rank_seconds(st))
  fits <- c(200, 100, 50, 30, 20)
  times <- fits[fits * each <= seconds / 3][1]
  if (is.na(times)) {
    return(c(
      paste0(
        "# stability:   # one draw takes about ", in_time(each),
        ": give more time, or fewer rows"
      ),
      "#   times: 20"
    ))
  }
  c(
    paste0("stability:   # about ", in_time(times * each)), "  by: [permutation]",
    paste0("  times: ", times)
  )
}

# As many folds as half of the time allows. confirm: are there untouched rows?
draft_reduction <- function(st, seconds, confirm) {
  usual <- check_folds(NULL, st, st$train)
  if (smallest_nested(nrow(st$train), usual, usual) < least_nested) {
    return("# reduce:   # there are too few training rows")
  }
  ways <- list(
    list(folds = usual, repeats = 2),
    list(folds = usual, repeats = 1),
    list(folds = min(4, usual), repeats = 1, random = 0),
    list(folds = min(3, usual), repeats = 1, random = 0)
  )
  model <- best_model(st)
  took <- vapply(ways, function(w) seconds_of_reduction(st, c(w, model = model)), 0)
  at <- which(took <= seconds / 2)[1]
  if (is.na(at)) {
    return(c(
      paste0("# reduce:   # about ", in_time(min(took)), " at least: give more time"),
      paste0("#   model: ", model), "#   folds: 3", "#   repeats: 1"
    ))
  }
  c(
    paste0("reduce:   # about ", in_time(took[at])), paste0("  model: ", model),
    "  by: [permutation]",
    unlist(lapply(names(ways[[at]]), function(n) paste0("  ", n, ": ", ways[[at]][[n]]))),
    "  rule: one_se",
    if (confirm) c("confirm:   # once: a second look is no confirmation", "  margin: 2 %")
  )
}
