# Where the time of public calls goes: the share that is spent outside the core (loops in C++,
# training and predicting by the models' own libraries), by sampling the stack. Sizes: rows,
# predictors, shallow and deep trees; one thread; the first call of each function on a new study.
# Results go to bench/results/profile.csv; profile-before.csv is what the same script measured
# before curves, checks and tables were made faster. Run with: Rscript bench/profile.R [largest
# number of cells] (1e6: ten minutes; 1e7: more than two hours)
library(dreher)
most <- as.double(c(commandArgs(TRUE), "2e7")[1])

exported <- readLines("R/RcppExports.R")
loops <- sub(" <- function.*", "", grep("<- function", exported, value = TRUE))
core <- c(loops, "refit_model", "fit_on", "model_predictions", "predict")

# Samples of the stack in which nothing of the core is at work, of all.
share_outside <- function(file) {
  stacks <- readLines(file)[-1]
  inside <- grepl(paste0("\"(", paste(core, collapse = "|"), ")\""), stacks)
  c(samples = length(stacks), outside = mean(!inside))
}
profile_call <- function(call) {
  file <- tempfile()
  began <- proc.time()
  Rprof(file, interval = 0.002)
  tryCatch(call(), finally = Rprof(NULL))
  c(seconds = sum((proc.time() - began)[1:2]), share_outside(file))
}

simulate <- function(n, p) {
  set.seed(1)
  x <- as.data.frame(matrix(stats::rnorm(n * p), n))
  x$y <- 2 * x[[1]] + x[[2]] * x[[3]] + stats::rnorm(n)
  x
}
calls <- list(
  study = function(st) {
    study(st$models[[1]]$object, st$data, "y", train = st$train, threads = 1)
  },
  score_models = function(st) score_models(st),
  check_data = function(st) check_data(st),
  rank_impurity = function(st) rank_impurity(st),
  rank_permutation = function(st) rank_permutation(st),
  rank_shapley = function(st) rank_shapley(st),
  rank_association = function(st) rank_association(st),
  effect_curves = function(st) effect_curves(st),
  contributions = function(st) contributions(st, rows = utils::head(st$data, 100)),
  agreement = function(st) agreement(rank_predictors(st)),
  find_twins = function(st) find_twins(st),
  write_report = function(st) {
    write_report(st, rank_permutation(st), file = tempfile(fileext = ".html"))
  }
)
sizes <- expand.grid(
  rows = c(1e3, 1e4, 1e5, 1e6), predictors = c(10, 100, 1000), depth = c(4, 0)
)
sizes <- sizes[sizes$rows * sizes$predictors <= most, ]
results <- NULL
for (i in seq_len(nrow(sizes))) {
  size <- sizes[i, ]
  d <- simulate(size$rows + 2000, size$predictors)
  train <- d[seq_len(2000), ]
  fit <- ranger::ranger(
    y ~ ., train, num.trees = 100, max.depth = size$depth, num.threads = 1, seed = 1
  )
  for (name in names(calls)) {
    st <- suppressWarnings(study(fit, d[-seq_len(2000), ], "y", train = train, threads = 1))
    found <- suppressWarnings(profile_call(function() calls[[name]](st)))
    row <- data.frame(
      call = name,
      rows = size$rows,
      predictors = size$predictors,
      trees = if (size$depth > 0) "depth 4" else "fully grown",
      seconds = signif(found[["seconds"]], 3),
      outside = round(found[["outside"]], 2)
    )
    print(row, row.names = FALSE)
    results <- rbind(results, row)
    utils::write.csv(results, "bench/results/profile.csv", row.names = FALSE)
  }
}
