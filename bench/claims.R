# Do the help pages claim what the simulations found?
#
# A row a claim: the help page, the words that make it, and what the results of the script it names
# must show. A claim whose words are not on the page fails, and so does a figure outside its
# limits. Pages that name a bench script without a claim here fail as well. Run with:
#   Rscript bench/claims.R
claim <- function(page, words, file, figure, least, most) {
  data.frame(page, words, file, figure, least, most)
}
claims <- rbind(
  claim(
    "choose_set",
    "the score's interval held in 93 to 97 % of the data sets of a cell",
    "choice.csv",
    "coverage[rule == 'one_se']",
    0.93,
    0.97
  ),
  claim(
    "choose_set",
    "and so did that of the price",
    "choice.csv",
    "price_coverage[rule == 'one_se']",
    0.93,
    0.97
  ),
  claim(
    "choose_set",
    "the mean score was within two standard errors of the true one",
    "choice.csv",
    "abs(bias_z[rule == 'one_se'])",
    0,
    2
  ),
  claim(
    "choose_set",
    "and the mean price within 0.2 of the standard deviation of its error",
    "choice.csv",
    "abs(price_z[rule == 'one_se']) / sqrt(runs[rule == 'one_se'])",
    0,
    0.2
  ),
  claim(
    "choose_set",
    "where nothing acts nothing was chosen in at least 95 %",
    "choice.csv",
    "nothing[rule == 'one_se' & truth == 'noise']",
    0.95,
    1
  ),
  claim(
    "choose_set",
    "differed by at most one",
    "choice-seeds.csv",
    "diff(range(size[rule == 'one_se']))",
    0,
    1
  ),
  claim(
    "choose_set",
    "by three, those of",
    "choice-seeds.csv",
    paste0(
      "c(diff(range(size[rule == 'one_se_paired'])), diff(range(size[rule == ",
      "'best'])) - 1)"
    ),
    3,
    3
  ),
  claim(
    "choose_set",
    "and about three of 300 rows, at most 0.01 beyond",
    "choice.csv",
    "over_margin[rule == 'one_se_paired' & n == 300]",
    -1,
    0.01
  ),
  claim(
    "choose_set",
    "and with 1,000 rows within it",
    "choice.csv",
    "over_margin[rule == 'one_se_paired' & n == 1000]",
    -1,
    0
  ),
  claim(
    "choose_set",
    "at most 0.01 with 1,000",
    "choice.csv",
    "over_margin[rule == 'one_se' & n == 1000]",
    -1,
    0.01
  ),
  claim(
    "choose_set",
    "chose two or three of six predictors",
    "choice.csv",
    "size[rule == 'one_se' & truth == 'graded']",
    1.5,
    3.5
  ),
  claim(
    "choose_set",
    "0.01 to 0.05 beyond it with 100 rows",
    "choice.csv",
    "over_margin[rule == 'one_se' & truth == 'graded' & n == 100]",
    0.005,
    0.055
  ),
  claim(
    "choose_set",
    "0.01 to 0.02 with 300",
    "choice.csv",
    "over_margin[rule == 'one_se' & n == 300]",
    0.005,
    0.025
  ),
  claim(
    "choose_set",
    "kept about four, and lost about the margin at most",
    "choice.csv",
    "over_margin[rule == 'best']",
    -1,
    0.005
  ),
  claim(
    "confirm_set",
    "this was said wrongly in at most 7 % of simulated samples",
    "confirm.csv",
    "wrong_of_enough",
    0,
    0.07
  ),
  claim(
    "stability",
    "of all predictors at once in 94.8 % or more of separated, tied, equal and mixed ones",
    "stability.csv",
    "held",
    0.948,
    1
  ),
  claim(
    "recommend_methods",
    "out of bag it favours them much less",
    "methods.csv",
    paste0(
      "share[way == 'impurity, out of bag' & predictor == 'codes'] / ",
      "share[way == 'impurity, training rows' & predictor == 'codes']"
    ),
    0,
    0.5
  ),
  claim(
    "rank_permutation", "96 % on average", "coverage.csv", "mean(coverage)", 0.955, 0.97
  ),
  claim(
    "rank_permutation", "93 to 99 % in each", "coverage.csv", "coverage", 0.925, 0.995
  ),
  claim(
    "rank_permutation",
    paste0(
      "92 to 96 % where errors have the tails of t with 3 degrees of freedom or of ",
      "the lognormal"
    ),
    "intervals.csv",
    "coverage[part == 'heavy']",
    0.915,
    0.965
  ),
  claim(
    "rank_shapley",
    "93 to 99 % of samples of 60 rows",
    "intervals.csv",
    "coverage[part == 'shapley' & n == 60]",
    0.925,
    0.995
  ),
  claim(
    "noise_floor",
    "was called in 1 to 4 of 100 data sets",
    "floor.csv",
    "value[what == 'some called, none acts' & !conditional]",
    0.01,
    0.04
  ),
  claim(
    "check_data",
    "none had a severe finding or a doubt",
    "checks-clean.csv",
    "c(max(severe), max(doubt))",
    0,
    0
  )
)
plain <- function(text) {
  gsub("\\s+", " ", gsub("\\\\([%])", "\\1", paste(text, collapse = " ")))
}
pages <- list.files("man", "[.]Rd$", full.names = TRUE)
text <- stats::setNames(
  vapply(pages, function(f) plain(readLines(f)), ""), sub("[.]Rd$", "", basename(pages))
)
faults <- character()
for (i in seq_len(nrow(claims))) {
  one <- claims[i, ]
  words <- sub("[.]csv$", "", one$file)
  if (!grepl(one$words, text[[one$page]], fixed = TRUE)) {
    faults <- c(faults, paste0(one$page, ": does not say \"", one$words, "\""))
    next
  }
  file <- file.path("bench/results", one$file)
  found <- with(utils::read.csv(file), eval(parse(text = one$figure)))
  sound <- length(found) > 0 && all(found >= one$least & found <= one$most)
  cat(sprintf(
    "%-6s %-18s \"%s\": %s to %s (%d)\n",
    if (sound) "holds" else "FAILS",
    one$page,
    one$words,
    format(min(found)),
    format(max(found)),
    length(found)
  ))
  if (!sound) faults <- c(faults, paste0(one$page, ": ", one$words, " (", one$file, ")"))
}
naming <- names(text)[grepl("bench/", text, fixed = TRUE)]
silent <- setdiff(naming, claims$page)
if (length(silent)) {
  faults <- c(faults, paste0(silent, ": names a script, but no claim of it is checked"))
}
if (length(faults)) stop(paste(c("Claims that do not hold:", faults), collapse = "\n  "))
