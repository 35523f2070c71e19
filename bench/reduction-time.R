# A backward walk with ranking anew, three models, ten folds, one process: wall time of everything
# against that of the refits and predictions it contains, without and with the predictions of
# shuffled rows that rank inside the path. And a wide one: 500 rows x 5,000
# predictors. Results go to bench/results/reduction-time.csv. Run with: Rscript
# bench/reduction-time.R kiln; Rscript bench/reduction-time.R wide (some minutes each)
library(dreher)
ns <- asNamespace("dreher")
file <- "bench/results/reduction-time.csv"
keep <- function(found) {
  found$value <- signif(found$value, 3)
  old <- if (file.exists(file)) utils::read.csv(file)
  utils::write.csv(rbind(old[!old$what %in% found$what, ], found), file, row.names = FALSE)
  print(found)
}

if ("kiln" %in% commandArgs(TRUE)) {
  spent <- c(fit_on = 0, predict_fit = 0, shuffle_pieces = 0)
  timed <- function(name) {
    own <- get(name, ns)
    utils::assignInNamespace(
      name,
      function(...) {
        began <- proc.time()[[3]]
        on.exit(spent[[name]] <<- spent[[name]] + proc.time()[[3]] - began)
        own(...)
      },
      ns
    )
  }
  for (name in names(spent)) timed(name)

  kiln <- demo_kiln(missing = FALSE)
  use <- setdiff(names(kiln$train), c("ring_tone", "defect", "tile_id", "batch"))
  train <- kiln$train
  d <- train[use]
  models <- list(
    forest = ranger::ranger(strength ~ ., d, num.trees = 200, seed = 1, num.threads = 1),
    linear = lm(strength ~ ., d),
    boosted = gbm::gbm(
      strength ~ .,
      "gaussian",
      transform(
        d,
        clay_source = factor(clay_source),
        glaze_type = factor(glaze_type),
        operator = factor(operator)
      ),
      n.trees = 150,
      interaction.depth = 4
    )
  )
  st <- study(
    models,
    kiln$holdout,
    "strength",
    train = train,
    dictionary = kiln$dictionary,
    threads = 1
  )
  whole <- system.time(reduce_predictors(
    st, search = "backward", folds = 10, repeats = 1, inner_folds = 2, random = 0
  ))[[3]]
  keep(data.frame(
    what = paste("kiln, backward, three models: wall time /", c(
      "refits and their predictions", "refits and all predictions, shuffled rows among them"
    )),
    value = whole / c(sum(spent[1:2]), sum(spent))
  ))
}

if ("wide" %in% commandArgs(TRUE)) {
  in_fresh_session <- paste(
    "library(dreher); set.seed(1); n <- 500; p <- 5000",
    "x <- as.data.frame(matrix(rnorm(n * p), n))",
    "x$y <- x$V1 + 0.8 * x$V2 + 0.6 * x$V3 + rnorm(n)",
    "fit <- glmnet::glmnet(as.matrix(x[1:p]), x$y, lambda = 0.1)",
    "st <- study(list(linear = fit), x[1:100, ], 'y', train = x, threads = 1)",
    "seconds <- system.time(rd <- reduce_predictors(st, by = 'coefficient',",
    "path = 'backward', steps = 'geometric', sizes = round(2 * 1.6^(0:16)), times = 1,",
    "inner_folds = 2, random = 0))[[3]]",
    "stopifnot(all(paste0('V', 1:3) %in% choose_set(rd)$predictors))",
    "peak <- grep('VmHWM', readLines('/proc/self/status'), value = TRUE)",
    "cat('\\n', seconds, as.double(sub('[^0-9]*([0-9]+).*', '\\\\1', peak)) / 1024)",
    sep = "\n"
  )
  said <- utils::tail(
    system2(
      file.path(R.home("bin"), "Rscript"),
      c("-e", shQuote(in_fresh_session)),
      stdout = TRUE
    ),
    1
  )
  wide <- as.double(strsplit(trimws(said), " ")[[1]])
  keep(data.frame(
    what = c(
      "500 x 5,000, geometric backward, penalised linear model: seconds", "MB at most"
    ),
    value = wide
  ))
}
