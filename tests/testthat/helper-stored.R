# The calls behind the folders in tests/testthat/stored (data-raw/stored-folders.R made them).

stored_rows <- function() {
  i <- 1:120
  data.frame(
    strength = 40 + 3 * sin(i / 7) + (i %% 5) / 2 + (i %% 11) / 10,
    peak_temp = 1200 + 30 * sin(i / 7),
    hold_minutes = 20 + i %% 5,
    operator = c("Ada", "Bo", "Cy")[i %% 3 + 1],
    moisture = (i * 37 %% 120) / 10
  )
}

# A ranking of four resamples, with its run folder.
stored_ranking <- function(folder) {
  rows <- stored_rows()
  train <- rows[1:80, ]
  st <- study(lm(strength ~ ., train), rows[81:120, ], "strength", train = train)
  drawn <- draw_resamples(train, times = 4)
  rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn, run = folder)
}

# A study file with its rows.
stored_study <- function(folder) {
  utils::write.csv(stored_rows(), file.path(folder, "rows.csv"), row.names = FALSE)
  writeLines(c(
    "dreher: 1",
    "data: {file: rows.csv, split: {holdout: 0.25, untouched: 0.25}}",
    "target: strength",
    "models: {linear: {learner: linear}}",
    "rank: {by: [permutation], repeats: 3}",
    "reduce: {by: permutation, folds: 3, inner_folds: 2, repeats: 1, random: 0}",
    "confirm: {margin: 2 %}",
    "seed: 1"
  ), file.path(folder, "study.yml"))
}
