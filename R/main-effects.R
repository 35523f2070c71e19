# The steps of the command that say how predictors act: curves, interactions, single rows.

holdout_option <- function() {
  opt("data", "holdout rows with the target: a delimited text file")
}

pairs_help <- "names of predictors, separated by commas; pairs as a:b [default: all]"

effects_step <- function() {
  list(
    says = "Curves of the prediction as each predictor goes through its values.",
    needs = c("models", "data", "target"),
    options = c(
      model_options(),
      list(
        holdout_option(),
        opt("predictors", pairs_help),
        opt(
          "form",
          "averaged, single or accumulated [default %default]",
          default = "averaged"
        ),
        opt("slice", "name of a column: curves for each of its values apart"),
        opt("points", "points of a curve [default %default]", "double", 25L),
        format_option()
      )
    )
  )
}

interactions_step <- function() {
  list(
    says = "How much of the prediction belongs to pairs of predictors.",
    needs = c("models", "data", "target"),
    options = c(
      model_options(),
      list(
        holdout_option(),
        opt("by", "shapley, variance, permutation or paths [default: shapley where exact]"),
        opt("predictors", "names of predictors, separated by commas [default: all]"),
        opt("max-rows", "at most so many rows", "double"),
        format_option()
      )
    )
  )
}

row_step <- function() {
  list(
    says = "What each predictor contributes to the prediction of one row.",
    needs = c("models", "data", "target", "which"),
    options = c(
      model_options(),
      list(
        holdout_option(),
        opt("which", "number of the row in --data, from 1"),
        opt("against", "number of a row, or name of a class, to set it against"),
        opt("value", "background or cover [default %default]", default = "background"),
        format_option()
      )
    )
  )
}

slices_step <- function() {
  list(
    says = "Scores, predictions and contributions in slices of the rows against the rest.",
    needs = c("models", "data", "target"),
    options = c(
      model_options(),
      list(
        holdout_option(),
        opt(
          "slices",
          paste0(
            "name of a column, or worst, confusion or found [default: the dictionary's ",
            "sensitive columns, else found]"
          )
        ),
        opt(
          "by",
          paste0(
            "score, prediction, shapley, permutation, separated by commas [default: ",
            "the first three]"
          )
        ),
        format_option()
      )
    )
  )
}

command_slices <- function(given) {
  by <- if (is.null(given$by)) slice_methods[1:3] else in_words(given$by)
  st <- command_study(given, given_table(given$data))
  slices <- given$slices
  if (!is.null(slices) && !slices %in% c("worst", "confusion", "found")) {
    slices <- stats::as.formula(call("~", as.name(slices)))
  }
  sl <- compare_slices(st, slices, by = by, seed = given$seed)
  deliver(sl, "slices", format_slices(sl), given)
}

command_effects <- function(given) {
  st <- command_study(given, given_table(given$data))
  ef <- effect_curves(
    st,
    predictors = pairs_in_words(given$predictors),
    form = given[["form"]],
    slice = if (!is.null(given$slice)) stats::as.formula(call("~", as.name(given$slice))),
    points = given$points,
    seed = given$seed
  )
  deliver(ef, "effects", format_effects(ef), given)
}

command_interactions <- function(given) {
  st <- command_study(given, given_table(given$data))
  ia <- interactions(
    st,
    by = given$by,
    predictors = if (!is.null(given$predictors)) in_words(given$predictors),
    max_rows = given$max_rows,
    seed = given$seed
  )
  deliver(ia, "interactions", format_interactions(ia), given)
}

command_row <- function(given) {
  which <- number_in_words(given$which)
  st <- command_study(given, given_table(given$data))
  against <- given$against
  if (!is.null(against) && !is.na(number_in_words(against)) && !against %in% st$classes) {
    against <- number_in_words(against)
  }
  co <- contributions(
    st, which = which, against = against, value = given$value, seed = given$seed
  )
  deliver(co, "row", format_contributions(co), given)
}

number_in_words <- function(text) suppressWarnings(as.double(text))

# "a, b:c" to a list of a and of the pair b, c.
pairs_in_words <- function(words) {
  if (is.null(words)) return(NULL)
  lapply(in_words(words), function(one) {
    if (grepl(":", one, fixed = TRUE)) trimws(strsplit(one, ":", fixed = TRUE)[[1]]) else one
  })
}

# A table to standard output, or table and picture to the folder.
deliver <- function(x, name, said, given) {
  if (is.null(given$out)) {
    if (given$format == "text") return(put_out(said))
    print_table(x, given$format)
    return(tell(paste(cli::ansi_strip(c("", said)), collapse = "\n")))
  }
  out <- make_folder(given$out)
  write_tables(stats::setNames(list(x), name), out, given$format)
  save_picture(ggplot2::autoplot(x), file.path(out, paste0(name, ".png")))
  put_out(said)
  tell("Written to ", out, ": ", name, ".", given$format, ", ", name, ".png")
}
