# The options of the user change no result, print, figure, page or file, and stay as they are.

# All that comes back of a small study, as text and bytes, by name.
everything <- function(folder) {
  dir.create(folder)
  kiln <- demo_kiln(missing = FALSE)
  columns <- c("strength", "peak_temp", "hold_minutes", "grog_share", "glaze_type")
  train <- kiln$train[1:150, columns]
  train$peak_temp <- train$peak_temp * 1000
  rows <- transform(kiln$holdout[1:80, columns], peak_temp = peak_temp * 1000)
  fit <- rpart::rpart(strength ~ ., train)
  st <- study(
    list(tree = fit, linear = lm(strength ~ ., train)),
    rows,
    "strength",
    train = train,
    dictionary = subset(kiln$dictionary, predictor %in% columns)
  )
  rk <- rank_predictors(st, repeats = 3, background = 10)
  resampled <- suppressWarnings(rank_predictors(
    st,
    by = "permutation",
    repeats = 2,
    models = "linear",
    resamples = draw_resamples(train, times = 6)
  ))
  rd <- reduce_predictors(
    st, models = "linear", by = "permutation", folds = 3, inner_folds = 2, repeats = 1,
    random = 0
  )
  results <- list(
    scores = score_models(st),
    checks = check_data(st),
    drift = find_drift(st),
    ranking = rk,
    stability = suppressWarnings(stability(resampled)),
    agreement = agreement(rk),
    twins = find_twins(st),
    reduction = rd,
    set = choose_set(rd),
    effects = effect_curves(st, models = "linear"),
    contributions = contributions(st, models = "linear", which = 1:3, background = 10),
    slices = compare_slices(st, ~glaze_type)
  )
  prints <- lapply(results, function(x) utils::capture.output(print(x, width = 100)))
  # the page draws the others
  figures <- lapply(results[c("ranking", "effects", "scores")], function(x) {
    file <- tempfile(fileext = ".svg")
    svglite::svglite(file, width = 9, height = 6)
    plot(x)
    grDevices::dev.off()
    readLines(file)
  })
  tables <- lapply(results, function(x) {
    file <- file.path(folder, "table.csv")
    write_results(x, file)
    readLines(file)
  })
  json <- lapply(results, function(x) {
    file <- file.path(folder, "table.json")
    write_results(x, file)
    readLines(file)
  })
  page <- file.path(folder, "page.html")
  do.call(write_report, c(list(st), unname(results), list(file = page)))
  set <- file.path(folder, "set.json")
  write_predictor_set(results$set, set)
  list(
    prints = prints,
    figures = figures,
    tables = tables,
    json = json,
    page = readLines(page),
    set = readLines(set),
    errors = tryCatch(rank_permutation(st, level = 100000), error = conditionMessage)
  )
}

user_options <- list(
  decimal_comma = list(OutDec = ","),
  powers = list(scipen = -20),
  no_powers = list(scipen = 200),
  few_digits = list(digits = 3),
  many_digits = list(digits = 15, digits.secs = 6),
  short_prints = list(max.print = 9, useFancyQuotes = FALSE),
  gaps = list(na.action = "na.exclude"),
  all_of_them = list(
    OutDec = ",", scipen = -20, digits = 15, max.print = 9, scales.decimal.mark = ",",
    scales.big.mark = ".", datatable.fwrite.sep = ";", stringsAsFactors = TRUE
  )
)

test_that("eight sets of options change nothing, to the byte", {
  usual <- everything(tempfile("usual"))
  for (name in names(user_options)) {
    old <- suppressWarnings(options(user_options[[name]]))
    given <- options()
    found <- tryCatch(everything(tempfile(name)), finally = {
      after <- options()
      options(old)
    })
    expect_identical(after[names(given)], given, label = paste("options after", name))
    for (part in names(usual)) {
      expect_identical(found[[part]], usual[[part]], label = paste(part, "under", name))
    }
  }
})
