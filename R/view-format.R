# Numbers and words as people read them.

# A value with as many digits as its uncertainty supports.
format_value <- function(x, error = NA) {
  error <- rep_len(error, length(x))
  mapply(
    function(v, e) {
      if (is.na(v)) return("")
      if (v == 0 && (is.na(e) || e <= 0)) return("0")
      if (is.na(e) || e <= 1e-9 * abs(v)) {
        if (abs(v) < 1e-6) return(formatC(v, digits = 2, format = "e"))
        return(
          formatC(v, digits = 3, format = "fg", flag = "#") |> sub("\\.$", "", x = _)
        )
      }
      digits <- digits_for(e)
      sub("^-(0\\.?0*)$", "\\1", formatC(v, digits = digits, format = "f"))  # no minus zero
    },
    x,
    error,
    USE.NAMES = FALSE
  )
}

# Numbers one by one, without zeros behind; marks from five digits on (four may be a year); powers
# of ten where they are tiny.
format_plainly <- function(x) {
  vapply(x, function(v) {
    size <- if (is.na(v)) 0 else abs(v)
    format(
      v, big.mark = if (size >= 1e4) "," else "", drop0trailing = TRUE,
      scientific = size > 0 && size < 1e-4
    )
  }, "")
}

# [lower, upper]; nothing where there are no limits.
in_brackets <- function(lower, upper, unit = NA) {
  ifelse(
    is.na(lower) | is.na(upper),
    "",
    paste0("[", format_value(lower, unit), ", ", format_value(upper, unit), "]")
  )
}

# The limits of a value; nothing where they differ by no more than rounding.
wide_brackets <- function(value, lower, upper, unit = NA) {
  wide <- (upper - lower > 1e-6 * abs(value)) %in% TRUE
  ifelse(wide, in_brackets(lower, upper, unit), "")
}

# A value with its limits: the farther side after +- where both are the same to a tenth, else the
# limits.
with_limits <- function(value, lower, upper, unit = (upper - lower) / 2) {
  unit <- ifelse(is.na(unit) | unit <= 0, NA, unit)
  shown <- format_value(value, unit)
  step <- 10^-digits_for(unit)
  even <- abs((upper - value) - (value - lower)) <= pmax(step, 0.05 * (upper - lower))
  ifelse(
    is.na(lower) | is.na(upper) | lower == upper,
    shown,
    ifelse(
      even %in% TRUE,
      paste0(shown, " \u00b1", format_value(pmax(upper - value, value - lower), unit)),
      paste(shown, in_brackets(lower, upper, unit))
    )
  )
}

# Decimal places that an uncertainty of this size supports.
digits_for <- function(error) pmax(0, pmin(6, 1 - floor(log10(error))))

format_percent <- function(x) {
  ifelse(is.na(x), "", ifelse(x > 0 & x < 0.005, "< 1 %", paste0(round(100 * x), " %")))
}

# Three predictors, One predictor
count_of <- function(n, noun, capital = FALSE) {
  words <- c(
    "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten",
    "eleven", "twelve"
  )
  number <- if (n >= 1 && n <= 12) words[n] else if (n == 0) "no" else format_number(n)
  out <- paste0(number, " ", noun, if (n != 1) "s")
  if (capital) paste0(toupper(substr(out, 1, 1)), substring(out, 2)) else out
}

# What a finding is about, inside a sentence.
name_about <- function(x) {
  x[x == about_rows] <- "the rows"
  x[x == about_target] <- "the target"
  x
}

capitalised <- function(x) paste0(toupper(substr(x, 1, 1)), substring(x, 2))

# Labels and colours of the methods, by name.
method_labels <- function() {
  known <- importance_methods()
  vapply(known, `[[`, "", "label")
}

method_colours <- function() {
  known <- importance_methods()
  vapply(known, `[[`, "", "colour")
}

# A panel is a method, its form, on rows, or on a slice of them: what stands in a column of its own.
# The usual rows and forms go without saying.
panel_of <- function(d) {
  slice <- if (is.null(d$slice)) rep(NA_character_, nrow(d)) else d$slice
  rows <- said_rows(d$method, d$rows)
  rows <- ifelse(is.na(slice), rows, paste(ifelse(d$rows == "left out", "", rows), slice))
  words <- paste(method_labels()[d$method], rows, said_form(d$method, d$form))
  trimws(gsub(" +", " ", words))
}

panels_in <- function(part) {
  panels <- unique(data.frame(method = part$method, panel = panel_of(part)))
  panels$panel[order(match(panels$method, method_names()))]
}

# The panel a sentence is made from: permutation, else impurity on rows not seen, else the first.
main_part <- function(part) {
  panel <- panel_of(part)
  main <- intersect(c("Permutation", "Impurity oob", "Impurity holdout", panel), panel)[1]
  part[panel == main, ]
}

# A panel's name inside a sentence; Shapley is a name.
in_sentence <- function(panel) {
  ifelse(
    grepl("^Shapley", panel),
    panel,
    paste0(tolower(substr(panel, 1, 1)), substring(panel, 2))
  )
}

shorten <- function(x, width) {
  long <- nchar(x, "width") > width
  x[long] <- paste0(strtrim(x[long], width - 1), "\u2026")
  x
}

# The same for sentences and lists: cut between words.
shorten_words <- function(x, width) {
  vapply(x, function(one) {
    if (is.na(one) || nchar(one, "width") <= width) return(one)
    cut <- strtrim(one, width - 1)
    between <- sub("[ ,;:]+[^ ]*$", "", cut)
    paste0(if (nchar(between) > width / 2) between else cut, "\u2026")
  }, "", USE.NAMES = FALSE)
}

pad <- function(x, width, right = FALSE) {
  gap <- strrep(" ", pmax(width - nchar(x, "width"), 0))
  if (right) paste0(gap, x) else paste0(x, gap)
}

# Columns of text, each as wide as its widest entry.
lay_out <- function(columns, right = rep(FALSE, length(columns))) {
  cells <- mapply(function(name, x, r) {
    x <- c(name, x)
    pad(x, max(nchar(x, "width")), r)
  }, names(columns), columns, right, SIMPLIFY = FALSE)
  sub(" +$", "", paste0(" ", do.call(paste, c(cells, sep = "  "))))
}

# Columns a print may take: those of the terminal, within reason.
screen_width <- function() min(max(cli::console_width(), 72L), 160L)

# Sentences in longer lines are hard to read.
text_width <- function() min(screen_width(), 100L)

# Room for a name where there is so much in a terminal of 80 columns.
name_room <- function(usual) {
  more <- screen_width() - 80L
  usual + if (more > 0) more %/% 3L else more
}

heading <- function(text) {
  cli::style_bold(shorten(text, screen_width()))
}

# A number and its per cent sign stay on one line, and so do the two limits of an interval.
wrap_lines <- function(text, width = text_width(), indent = 0) {
  text <- gsub("([0-9]) %", "\\1\u00a0%", text)
  text <- gsub("(\\[[-0-9.,e+]+), ([-0-9.,e+]+\\])", "\\1,\u00a0\\2", text)
  gsub("\u00a0", " ", strwrap(text, width, indent = indent, exdent = indent), fixed = TRUE)
}

# The sentence a ranking comes down to. `part`: the rows of one model, method and class.
say_ranking <- function(part, labels, method = part$method[1]) {
  part <- part[order(part$rank), ]
  if (any(grepl("no skill", part$flag))) {
    return("The model is not shown to beat a constant: this order may be noise.")
  }
  share <- ifelse(is.na(part$share), 0, part$share)
  if (sum(share) == 0) return("No predictor has a positive importance.")
  if (!all(is.na(part$lower)) && zero_is_null(method) &&
      !any(part$lower > 0, na.rm = TRUE) && any(part$importance != 0)) {
    return(if (nrow(part) == 1) {
      "The interval of its importance does not exclude zero."
    } else {
      paste0(
        "For no predictor does the interval of the ", in_sentence(method_labels()[[method]]),
        " importance exclude zero; ", labels[part$predictor[1]], " ranks first in these rows."
      )
    })
  }
  m <- which(cumsum(share) >= 0.8)[1]
  lead <- labels[part$predictor[seq_len(m)]]
  who <- if (m <= 3) list_words(lead) else count_of(m, "predictor", TRUE)
  out <- paste0(
    who, if (m == 1) " carries " else " carry ", format_percent(sum(share[seq_len(m)])),
    " of the ", in_sentence(method_labels()[[method]]), " importance"
  )
  # what no shuffle changes is not in the model: that is no matter of an interval
  idle <- part$importance == 0 & part$lower == 0 & part$upper == 0
  idle[is.na(idle)] <- FALSE
  open <- sum(part$lower <= 0 & part$upper >= 0 & !idle, na.rm = TRUE)
  if (zero_is_null(method) && open > 0) {
    out <- paste0(
      out, "; for ", open, " of ", nrow(part), " the interval does not exclude zero"
    )
  }
  if (zero_is_null(method) && any(idle)) {
    out <- paste0(
      out, "; ", sum(idle), " of ", nrow(part), if (sum(idle) == 1) " is" else " are",
      " not used by the model"
    )
  }
  paste0(out, ".")
}

zero_is_null <- function(method) isTRUE(method_field(method, "zero_is_null", FALSE))

# Severe findings of the checks about predictors that are ranked.
say_suspects <- function(x, labels) {
  leak <- unique(x$predictor[grepl("possible leak", x$flag, fixed = TRUE)])
  id <- unique(x$predictor[grepl("identifier", x$flag)])
  c(
    if (length(leak)) {
      paste0(
        "Possible leak", if (length(leak) > 1) "s", ": ", list_words(labels[leak]), ". Was ",
        if (length(leak) == 1) "it" else "each", " known before the target?"
      )
    },
    if (length(id)) {
      paste0(
        "Has ", list_words(labels[id]),
        if (length(id) == 1) {
          " a meaning, or is it an identifier?"
        } else {
          " a meaning, or are they identifiers?"
        }
      )
    }
  )
}

# Units of several predictors: the joint value beside the sum over the members, up to three of them.
say_members <- function(members, models, most = 3) {
  if (is.null(members)) return(NULL)
  one <- members[members$model %in% models & !duplicated(members[c("model", "group")]), ]
  shown <- utils::head(one[order(-abs(one$beyond)), ], most)
  clear <- shown$additive & !is.na(shown$beyond_error) &
    abs(shown$beyond) > 2 * shown$beyond_error
  unit <- pmax(abs(shown$beyond_error), abs(shown$joint) / 100, na.rm = TRUE)
  paste0(
    shown$group, if (length(unique(one$model)) > 1) paste0(" (", shown$model, ")"),
    ": together ", format_value(shown$joint, unit), ", one at a time ",
    format_value(shown$sum, unit), " in all (", shown$measures, ")",
    ifelse(
      !clear,
      ".",
      ifelse(
        shown$interplay < 0.02,
        ". The model adds up what they tell; the difference is their correlation.",
        ifelse(
          shown$beyond > 0,
          ". In the model one partly stands in for the other.",
          ". In the model they act together."
        )
      )
    )
  )
}

# Units of several predictors as one player, beside what their members' Shapley values add up to.
say_parts <- function(parts, models, most = 3) {
  if (is.null(parts)) return(NULL)
  one <- parts[parts$model %in% models & !duplicated(parts[c("model", "rows", "group")]), ]
  shown <- utils::head(one[order(-abs(one$joint - one$sum)), ], most)
  unit <- shown$joint / 30
  paste0(
    shown$group, if (length(unique(one$model)) > 1) paste0(" (", shown$model, ")"),
    ": as one player ", format_value(shown$joint, unit),
    ", its members' Shapley values add up to ", format_value(shown$sum, unit), "."
  )
}

# The level of the intervals that stand in a ranking for these settings; NA where there are none.
level_shown <- function(x, s) {
  of <- x_keys(x, setting_columns) == x_keys(s, setting_columns)
  if (all(is.na(x$lower[of]))) NA_real_ else detail(x, "level")
}

# Importance on training rows far above that on holdout rows: what the model has learnt of these
# rows only.
say_gap <- function(gap, models, labels, most = 3) {
  if (is.null(gap)) return(NULL)
  of <- gap[gap$model %in% models & gap$beyond, ]
  if (!nrow(of)) {
    return(
      paste0(
        "No importance on the training rows lies above its holdout interval."
      )
    )
  }
  shown <- utils::head(of[order(-of$gap), ], most)
  paste0(
    "On training rows ",
    list_words(paste0(
      labels[shown$predictor], " counts for ", format_value(shown$train, shown$gap / 10),
      " against ", format_value(shown$holdout, shown$gap / 10)
    )),
    if (nrow(of) > most) {
      paste0(", and ", nrow(of) - most, " more predictors lie above theirs")
    },
    "; this is above the holdout interval, and the ",
    "excess reflects overfitting."
  )
}

# Predictors that lend each other importance where only the plain form was asked for.
say_twins <- function(twins, labels, most = 3) {
  if (is.null(twins)) return(NULL)
  shown <- utils::head(twins, most)
  paste0(
    paste0(
      label_or_name(labels, shown$predictor), " and ", label_or_name(labels, shown$other),
      " (", format_value(shown$association, 0.01), ")", collapse = "; "
    ),
    if (nrow(twins) > most) paste0("; and ", nrow(twins) - most, " more pairs"),
    " are strongly correlated. Shuffled alone, the importance of one is reduced by ",
    "the other, or rests on rows that cannot occur. See groups = and shuffle = ",
    "\"conditional\"."
  )
}

# The shuffles' own part in the variance, where it is worth more repeats.
say_noise <- function(settings) {
  share <- suppressWarnings(max(settings$shuffle_noise, na.rm = TRUE))
  if (is.null(settings$shuffle_noise) || !is.finite(share) || share < 0.2) return(NULL)
  paste0(
    "The shuffles contribute up to ", format_percent(share),
    " of the variance of an importance; repeats = \"auto\" repeats them until that is ",
    "small."
  )
}

# What was measured, on what: one short line per method.
say_settings <- function(s, level) {
  interval <- if (is.na(level)) {
    ", no interval"
  } else {
    paste0(", ", format_percent(level), " intervals")
  }
  switch(
    s$method,
    impurity = paste0(
      s$measures, ", ", format_number(s$n),
      if (s$rows == "holdout") {
        " rows"
      } else if (s$rows == "oob") {
        " rows out of bag"
      } else {
        " training rows"
      },
      interval
    ),
    permutation = paste0(
      s$measures, ", ", format_number(s$n),
      if (grepl("^of ", s$note)) {
        paste0(" ", sub(",? *(weighted|errors by block).*", "", s$note))
      },
      " rows", if (grepl("weighted", s$note)) " (weighted)", ", ",
      if (isTRUE(s$repeats == s$n - 1)) "all pairs" else paste(s$repeats, "repeats"),
      if (!is.na(level) && grepl("by block", s$note)) {
        paste0(", ", format_percent(level), " by block")
      } else {
        interval
      }
    ),
    shapley = paste0(
      if (s$scale == "score") {
        paste0(s$measures, ", ")
      } else {
        paste0("mean |Shapley value| (", s$scale, "), ")
      },
      format_number(s$n), " rows, ",
      if (!is.na(s$background)) paste0(s$background, " background rows, "), s$note
    ),
    refit = paste0(
      s$measures, ", ", s$repeats, " draws of ", format_number(s$n), " rows", interval
    ),
    structure = paste0(s$measures, ", ", format_number(s$n), " training rows", interval),
    paste0(s$measures, ", ", format_number(s$n), " rows", interval)
  )
}

# `lines` are made only when the width is set.
# lines: worked out here, under settings of our own
write_lines <- function(x, lines, width = NULL) {
  own_settings()
  if (!is.null(width)) {
    check_count(width, "width", least = 72, most = 160)
    rlang::local_options(cli.width = width)
  }
  writeLines(printable_lines(lines))
  invisible(x)
}

# What a print was asked to show.
check_print <- function(n, models, known) {
  if (!is.null(n)) check_count(n, "n")
  if (!is.null(models)) check_choice(models, known, "models", several = TRUE)
}
