# The command `dreher`: words in, an exit status out. 0 success, 1 failure or severe findings, 2
# wrong usage, 130 stopped. Results go to standard output or files, everything else to standard
# error.

main_command <- function(words) {
  own_settings()
  # What a model prints while it predicts is none of our results.
  sink(stderr())
  warned <- tell_once()
  on.exit({
    warned$rest()
    sink()
  }, add = TRUE)
  tryCatch(
    withCallingHandlers(
      run_words(words),
      warning = function(w) {
        warned$tell(conditionMessage(w))
        invokeRestart("muffleWarning")
      },
      message = function(m) {
        tell(sub("\n$", "", conditionMessage(m)))
        invokeRestart("muffleMessage")
      }
    ),
    dreher_usage = function(e) {
      tell("dreher: ", conditionMessage(e), "\nSee dreher --help.")
      2L
    },
    interrupt = function(e) {
      tell(
        "dreher: stopped. What was finished is kept where --run says, or in the results ",
        "folder of the study file."
      )
      130L
    },
    error = function(e) {
      tell("dreher: ", cli::ansi_strip(conditionMessage(e)))
      1L
    }
  )
}

# Refits repeat the warnings of their libraries: each is told once, whatever numbers it holds, and
# in the end how many more there were.
tell_once <- function() {
  seen <- integer()
  first <- character()
  list(
    tell = function(text) {
      kind <- paste0("about ", gsub("[0-9]+(th|st|nd|rd)?", "", text))
      if (kind %in% names(seen)) {
        seen[[kind]] <<- seen[[kind]] + 1L
        return(invisible())
      }
      seen[[kind]] <<- 0L
      first[[kind]] <<- text
      tell("warning: ", text)
    },
    rest = function() {
      for (kind in names(seen)[seen > 0]) {
        tell(
          "warning: ", format_number(seen[[kind]]), " more like this: ",
          shorten_words(gsub("\\s+", " ", first[[kind]]), 90)
        )
      }
    }
  )
}

command_help <- "dreher ranks the predictors of trained models, finds smaller sets of them, and says
how they act.

Usage: dreher STEP [options]

A whole study:
  init          draft a study file for a table
  check         find the faults of a study file
  run           do all that a study file asks for
  report        write the page of a study file's run anew, in full or short
  demo          run the whole example on made-up data

One step:
  check         are the rows and columns fit to be ranked on?
  score         score the models beside a constant and one predictor
  rank          rank the predictors of saved models
  stability     rank over resamples, with confidence sets for the ranks
  reduce        score smaller sets, choose one, and confirm it on untouched rows
  effects       how the predictors act: curves of the prediction
  interactions  which predictors act together
  row           why a row is predicted as it is
  slices        scores and contributions in slices of the rows
  compare       score sets of your own side by side
  confirm       compare a chosen set with all predictors on untouched rows

  dreher init tiles.csv --target strength
  dreher run study.yml
  dreher rank --study study.yml --by permutation
  dreher rank --models models.rds --data holdout.csv --target strength

dreher STEP --help     the options of a step
dreher --version       the version
dreher --completion SHELL   what bash, zsh or fish needs to complete steps and options
dreher --manual        the manual page (troff): dreher --manual | man -l -

Models are R objects saved with saveRDS(), one model or a named list, or model
files that xgboost (JSON, UBJSON) and lightgbm (text) write from any language.
Read only .rds files from people you trust: such a file can hold code.
Exit status: 0 success, 1 failure, or severe findings of check, 2 wrong usage
(options, values and files that can be told to be wrong before the work), 130
stopped by Ctrl-C, 143 ended by a signal (SIGTERM)."

run_words <- function(words) {
  if (!length(words)) {
    wrong_usage("say a step: ", paste(names(command_steps()), collapse = ", "), ".")
  }
  if (words[1] %in% c("--help", "-h")) {
    put_out(command_help)
    return(0L)
  }
  if (words[1] == "--version") {
    put_out(paste("dreher", utils::packageVersion("dreher")))
    return(0L)
  }
  if (words[1] == "--completion") {
    put_out(completion_for(words[-1], command_steps()))
    return(0L)
  }
  if (words[1] == "--manual") {
    put_out(manual_page(command_help, command_steps()))
    return(0L)
  }
  step <- command_steps()[[words[1]]]
  if (is.null(step)) wrong_usage("there is no step \"", words[1], "\".")
  parser <- optparse::OptionParser(
    usage = paste0(
      "dreher ", words[1], if (!is.null(step$file)) paste0(" ", step$file), " [options]"
    ),
    description = step$says,
    add_help_option = FALSE,
    option_list = c(
      step$options,
      list(optparse::make_option(
        "--help", action = "store_true", default = FALSE, help = "show this"
      ))
    )
  )
  given <- read_options(parser, words[-1], !is.null(step$file))
  if (given$help) {
    put_out(utils::capture.output(optparse::print_help(parser)))
    return(0L)
  }
  as_usage <- function(code) {
    tryCatch(code, dreher_error_input = function(e) {
      wrong_usage(cli::ansi_strip(conditionMessage(e)))
    })
  }
  if (!is.null(given$study)) {
    given <- as_usage(fill_from_file(words[1], step$options, given, words[-1]))
  }
  for (name in needs_of(step, given)) {
    if (is.null(given[[name]])) {
      wrong_usage("dreher ", words[1], " needs ", name_of_need(step, name), ".")
    }
  }
  as_usage(check_given(words[1], given))
  status <- do_step(step, given)
  if (inherits(status, "exit_status")) unclass(status) else 0L
}

do_step <- function(step, given) {
  if (is.null(given$task)) return(step$run(given))
  task <- task_of_words(given$task)
  done <- do_task(step$run(given), task[1], task[2])
  tell(
    "Task ", done$task, " of ", done$tasks, ": ", done$done, " of its ", done$pieces,
    " pieces are done, in ", given$run, "."
  )
  structure(as.integer(done$failed > 0), class = "exit_status")
}

# What a step cannot do without: a study file stands for data and models, and can be checked itself.
needs_of <- function(step, given) {
  if (!is.null(given$study)) {
    setdiff(step$needs, c("models", "data", "target", "train"))
  } else if (!is.null(given$file) && !is.null(step$needs_with_file)) {
    character()
  } else {
    step$needs
  }
}

name_of_need <- function(step, name) {
  if (name == "file") paste("the path of", step$file) else option_name(name)
}

command_steps <- function() {
  list(
    init = c(init_step(), run = command_init),
    run = c(run_step(), run = command_run),
    report = c(report_step(), run = command_report),
    demo = c(demo_step(), run = command_demo),
    check = c(check_step(), run = command_check),
    score = c(score_step(), run = command_score),
    rank = c(rank_step(), run = command_rank),
    stability = c(stability_step(), run = command_stability),
    reduce = c(reduce_step(), run = command_reduce),
    effects = c(effects_step(), run = command_effects),
    interactions = c(interactions_step(), run = command_interactions),
    row = c(row_step(), run = command_row),
    slices = c(slices_step(), run = command_slices),
    compare = c(compare_step(), run = command_compare),
    confirm = c(confirm_step(), run = command_confirm)
  )
}

command_rank <- function(given) {
  repeats <- repeats_in_words(given$repeats)
  st <- command_study(given, given_table(given$data))
  by <- if (is.null(given$by)) {
    c("impurity", "permutation", "shapley")
  } else {
    in_words(given$by)
  }
  if (is.null(given$by) && is.null(st$train)) by <- "permutation"
  if (is.null(given$by) && all(vapply(st$models, function(m) is.null(m$forest), NA))) {
    by <- setdiff(by, "impurity")
  }
  rk <- rank_predictors(st, by = by, repeats = repeats, seed = given$seed)
  if (is.null(given$out)) return(print_table(rk, given$format))
  out <- make_folder(given$out)
  write_tables(list(ranking = rk), out, given$format)
  save_picture(ggplot2::autoplot(rk), file.path(out, "ranking.png"))
  write_report(st, rk, file = file.path(out, "report.html"))
  put_out(format_ranking(rk))
  tell("Written to ", out, ": ranking.", given$format, ", ranking.png, report.html")
}

open_workers <- function(given) {
  if (given$workers > 1) future::plan("multisession", workers = given$workers)
}

command_stability <- function(given) {
  on.exit(future::plan(old), add = TRUE)
  old <- future::plan()
  open_workers(given)
  st <- command_study(given, if (!is.null(given$data)) given_table(given$data))
  if (given$workers > 1) st <- derive_study(st, threads = 1L)
  by <- in_words(given$by)
  drawn <- draw_resamples(
    st$train, given$kind, times = times_of(given), blocks = st$blocks, strata = given$strata,
    order = given$order, seed = given$seed
  )
  # What is asked beside the ranking has run folders of its own.
  beside <- function(name) if (!is.null(given$run)) file.path(given$run, name)
  slice <- if (!is.null(given$slice)) stats::as.formula(call("~", as.name(given$slice)))
  rank_over <- function(resamples, run) {
    tell_progress(rank_predictors(
      st, by = by, slice = slice, resamples = resamples, run = run, seed = given$seed
    ))
  }
  rk <- rank_over(drawn, given$run)
  seeds <- if (!is.null(given$seeds)) {
    rank_over(
      draw_resamples(st$train, "seeds", times = given$seeds, seed = given$seed),
      beside("seeds")
    )
  }
  nf <- if (!is.null(given$floor_refits)) {
    tell_progress(noise_floor(
      st,
      by = intersect(by, methods_that("floor")),
      refits = given$floor_refits,
      run = beside("decoys"),
      seed = given$seed
    ))
  }
  if (!is.null(nf)) rk <- with_floor(rk, nf)
  sb <- stability(rk, seeds = seeds)
  if (is.null(given$out)) {
    print_table(sb, given$format)
  } else {
    deliver_stability(st, rk, sb, nf, given)
  }
}

# The number of resamples, by default that of draw_resamples().
times_of <- function(given) {
  if (is.null(given$times)) usual_times(given$kind) else given$times
}

# Tables, pictures, the report and what is printed.
deliver_stability <- function(st, rk, sb, nf, given) {
  out <- make_folder(given$out)
  agreed <- if (length(sb$parts) > 1) agreement(rk, study = st)
  write_tables(
    list(
      resampled = rk,
      stability = sb,
      measures = summary(sb),
      agreement = agreed,
      floor = nf
    ),
    out,
    given$format
  )
  save_picture(ggplot2::autoplot(sb), file.path(out, "stability.png"))
  if (!is.null(agreed)) {
    save_picture(ggplot2::autoplot(agreed), file.path(out, "agreement.png"))
  }
  if (!is.null(nf)) save_picture(ggplot2::autoplot(nf), file.path(out, "floor.png"))
  do.call(
    write_report,
    c(
      list(st, sb), if (!is.null(agreed)) list(agreed), if (!is.null(nf)) list(nf),
      list(file = file.path(out, "stability.html"))
    )
  )
  put_out(c(format_stability(sb), if (!is.null(nf)) c("", format_floor(nf))))
  tell("Written to ", out, ".")
}

command_reduce <- function(given) {
  on.exit(future::plan(old), add = TRUE)
  old <- future::plan()
  open_workers(given)
  st <- command_study(given, NULL)
  if (given$workers > 1) st <- derive_study(st, threads = 1L)
  untouched <- check_reduction(st, given)
  rd <- tell_progress(reduce_predictors(
    st,
    by = in_words(given$by),
    search = given$search,
    models = if (is.null(given$ranker)) best_model(st) else given$ranker,
    refit_as = given$refit_as,
    groups = given$groups,
    thin_twins = given$thin_twins,
    budget = given$budget,
    random = given$random,
    floor_refits = given$floor_refits,
    counts = if (given$rule == "count" && !is.null(given$count)) given$count,
    folds = given$folds,
    repeats = given$repeats,
    run = given$run,
    seed = given$seed
  ))
  set <- choose_set(
    rd,
    rule = given$rule,
    margin = given$margin,
    cumulative = given$cumulative,
    count = given$count
  )
  confirmed <- try_confirmation(set, untouched, given)
  cf <- confirmed$value
  if (is.null(given$out)) {
    print_table(rd, given$format)
  } else {
    out <- make_folder(given$out)
    write_tables(list(reduction = rd, confirmation = cf), out, given$format)
    write_predictor_set(set, file.path(out, "set.json"))
    save_picture(ggplot2::autoplot(rd, set = set), file.path(out, "reduction.png"))
    do.call(
      write_report,
      c(
        list(st, rd, set), if (!is.null(cf)) list(cf),
        list(file = file.path(out, "reduction.html"))
      )
    )
    put_out(format_reduction(rd))
    tell("Written to ", out, ".")
  }
  tell(paste(
    cli::ansi_strip(c(
      "", format_set(set, confirmed = !is.null(cf)),
      if (!is.null(cf)) c("", format_confirmation(cf))
    )),
    collapse = "\n"
  ))
  if (!is.null(confirmed$error)) stop(confirmed$error)
}

# What is finished is not lost with a confirmation that fails. -> list(value or error)
try_confirmation <- function(set, untouched, given) {
  if (is.null(untouched)) return(list())
  tryCatch(
    list(value = confirm_set(
      set,
      untouched,
      margin = given$margin,
      again = given$again,
      overlap = given$overlap
    )),
    dreher_error = function(e) list(error = e)
  )
}

command_compare <- function(given) {
  st <- command_study(given, NULL)
  found <- compare_sets(
    st,
    sets_in_words(given$sets),
    reference = given$reference,
    rows = if (!is.null(given$rows)) read_rows(given$rows),
    margin = given$margin,
    folds = given$folds,
    repeats = given$repeats,
    seed = given$seed
  )
  if (is.null(given$out)) return(print_table(found, given$format))
  out <- make_folder(given$out)
  write_tables(list(comparison = found), out, given$format)
  put_out(format_comparison(found))
  tell("Written to ", out, ": comparison.", given$format)
}

# "all; firing: peak_temp, hold_minutes; small: set.json; none"
sets_in_words <- function(words) {
  if (is.list(words)) return(words)
  each <- trimws(strsplit(words, ";", fixed = TRUE)[[1]])
  each <- each[nzchar(each)]
  has_name <- grepl("^[^:]+:", each)
  name <- ifelse(
    has_name, trimws(sub(":.*$", "", each)), tools::file_path_sans_ext(basename(each))
  )
  inside <- trimws(ifelse(has_name, sub("^[^:]+:", "", each), each))
  lapply(stats::setNames(inside, name), function(s) {
    if (grepl("[.]json$", s)) return(read_predictor_set(s))
    if (s %in% c("all", "none")) return(s)
    trimws(strsplit(s, ",", fixed = TRUE)[[1]])
  })
}

command_confirm <- function(given) {
  st <- command_study(given, NULL)
  cf <- confirm_set(
    read_predictor_set(given$set),
    given_table(given$rows),
    margin = given$margin,
    again = given$again,
    overlap = given$overlap,
    study = st,
    seed = given$seed
  )
  if (is.null(given$out)) {
    print_table(cf, given$format)
  } else {
    write_tables(list(confirmation = cf), make_folder(given$out), given$format)
  }
  tell(paste(cli::ansi_strip(c("", format_confirmation(cf))), collapse = "\n"))
}
