# Random studies: random data, models, options and seeds; what must not change a number does not.
# DREHER_SOAK says how many (make trust: 200).

random_columns <- function(n) {
  kinds <- sample(c("number", "whole", "factor", "logical", "skewed"), sample(2:6, 1), TRUE)
  columns <- lapply(kinds, function(kind) {
    switch(
      kind,
      number = rnorm(n), whole = sample.int(9, n, TRUE), skewed = exp(rnorm(n)),
      logical = runif(n) < 0.4, factor = factor(sample(letters[1:4], n, TRUE))
    )
  })
  names(columns) <- paste0(sample(c("x", "a b", "if", "x."), 1), seq_along(columns))
  as.data.frame(columns, optional = TRUE)
}

random_study <- function(seed) {
  set.seed(seed)
  n <- sample(c(60, 90, 150), 1)
  d <- random_columns(2 * n)
  signal <- Reduce(`+`, lapply(d, function(x) sample(0:2, 1) * as.double(x)))
  signal <- (signal + rnorm(2 * n)) / (1 + stats::sd(signal))
  task <- sample(c("number", "two", "three"), 1, prob = c(2, 1, 1))
  d$y <- switch(
    task,
    number = signal,
    two = factor(ifelse(signal + rnorm(2 * n) > stats::median(signal), "yes", "no")),
    three = factor(
      c("u", "v", "w")[1 + findInterval(signal, stats::quantile(signal, 1:2 / 3))]
    )
  )
  train <- d[seq_len(n), ]
  f <- plain_formula("y", setdiff(names(d), "y"))
  choices <- c(
    "ranger", "rpart", "xgboost", if (task == "number") "lm", if (task == "two") "glm"
  )
  kind <- sample(choices, 1)
  x <- function(rows) data.matrix(rows[setdiff(names(d), "y")])
  model <- switch(
    kind,
    ranger = ranger::ranger(
      y = train$y,
      x = train[setdiff(names(d), "y")],
      num.trees = 20,
      seed = seed,
      num.threads = 1,
      probability = task != "number",
      keep.inbag = TRUE
    ),
    rpart = rpart::rpart(f, train),
    lm = stats::lm(f, train),
    glm = suppressWarnings(stats::glm(f, stats::binomial, train)),
    xgboost = NULL
  )
  list(
    model = model,
    train = train,
    data = d[n + seq_len(n), ],
    kind = kind,
    task = task,
    formula = f,
    threads = 1
  )
}

# Of classes that a model numbers it must be said which is 1.
said_positive <- function(y) if (identical(levels(y), c("no", "yes"))) "yes"

open_random <- function(r, ...) {
  given <- list(
    models = list(m = r$model),
    data = r$data,
    target = "y",
    train = r$train,
    threads = r$threads,
    positive = said_positive(r$data$y)
  )
  given[names(list(...))] <- list(...)
  suppressWarnings(do.call(study, given))
}

importances <- function(rk) {
  d <- as.data.frame(rk)
  d <- d[is.na(d$class), ]
  stats::setNames(d$importance, paste(d$method, d$form, d$predictor))
}

# -> the invariants that do not hold
broken_invariants <- function(seed) {
  r <- random_study(seed)
  if (r$kind == "xgboost") return(broken_for_files(r, seed))
  st <- tryCatch(open_random(r), dreher_error = function(e) e)
  if (inherits(st, "error")) {
    return(if (grepl("no predictor", conditionMessage(st))) {
      character()
    } else {
      conditionMessage(st)
    })
  }
  rank <- function(st, ...) {
    suppressWarnings(rank_predictors(
      st, by = c("permutation", "shapley"), repeats = 3, background = 10, seed = seed, ...
    ))
  }
  shapley <- function(st) {
    importances(suppressWarnings(rank_shapley(st, background = 10, seed = seed)))
  }
  base <- importances(rank(st))
  score <- score_models(st)$score
  same <- function(a, b, exactly = FALSE) {
    b <- b[names(a)]
    if (exactly) identical(a, b) else isTRUE(all.equal(a, b, tolerance = 1e-8))
  }
  mixed <- r$data[sample(nrow(r$data)), ]
  twice <- r$data
  twice$weight <- sample(1:2, nrow(twice), TRUE)
  repeated <- twice[rep(seq_len(nrow(twice)), twice$weight), ]
  weighted <- r$train
  weighted$weight <- 1
  columns <- names(r$data)[sample(ncol(r$data))]
  one <- open_random(r, data = twice, train = weighted, weights = "weight")
  two <- open_random(r, data = repeated[names(r$data)])
  resamples <- draw_resamples(r$train, times = 3, seed = seed)
  again <- function(run) {
    suppressWarnings(rank_predictors(
      st, by = "permutation", repeats = 2, resamples = resamples, seed = seed, run = run
    ))
  }
  folder <- tempfile("soak")
  whole <- tryCatch(again(NULL), dreher_error = function(e) NULL)
  holds <- c(
    rows = isTRUE(all.equal(score_models(open_random(r, data = mixed))$score, score)) &&
      same(shapley(st), shapley(open_random(r, data = mixed))),
    columns = same(
      base,
      importances(rank(open_random(r, data = r$data[columns], train = r$train[columns])))
    ),
    weights = isTRUE(all.equal(score_models(one)$score, score_models(two)$score)) &&
      same(shapley(one), shapley(two)),
    threads = same(base, importances(rank(open_random(r, threads = 2))), TRUE),
    seed = same(base, importances(rank(st)), TRUE),
    resumed = is.null(whole) ||
      {
        again(folder)
        con <- DBI::dbConnect(RSQLite::SQLite(), file.path(folder, "run.sqlite"))
        DBI::dbExecute(con, "DELETE FROM pieces WHERE key LIKE '%/2'")
        DBI::dbDisconnect(con)
        identical(again(folder), whole)
      },
    shares = all(base[grepl("^shapley", names(base))] >= 0)
  )
  names(holds)[!holds]
}

# A booster and its file say the same.
broken_for_files <- function(r, seed) {
  predictors <- setdiff(names(r$data), "y")
  y <- if (r$task == "number") r$train$y else as.integer(r$train$y) - 1L
  x <- data.matrix(r$train[predictors])
  objective <- c(
    number = "reg:squarederror", two = "binary:logistic", three = "multi:softprob"
  )
  model <- xgboost::xgb.train(
    c(
      list(objective = objective[[r$task]], nthread = 1, max_depth = 3),
      if (r$task == "three") list(num_class = 3)
    ),
    xgboost::xgb.DMatrix(x, label = y, nthread = 1),
    nrounds = 5,
    verbose = 0
  )
  file <- tempfile(fileext = sample(c(".ubj", ".json"), 1))
  writeBin(xgboost::xgb.save.raw(model, raw_format = tools::file_ext(file)), file)
  as_numbers <- function(rows) {
    out <- as.data.frame(data.matrix(rows[predictors]), optional = TRUE)
    out$y <- rows$y
    out
  }
  values <- function(m) {
    st <- suppressWarnings(study(
      list(m = m), as_numbers(r$data), "y", train = as_numbers(r$train), threads = 1,
      positive = said_positive(r$data$y)
    ))
    importances(suppressWarnings(rank_predictors(
      st, by = c("permutation", "shapley"), repeats = 3, background = 10, seed = seed
    )))
  }
  if (identical(values(model), values(read_model(file, columns = predictors)))) {
    character()
  } else {
    "file"
  }
}

test_that("random studies keep every invariant", {
  total <- as.integer(Sys.getenv("DREHER_SOAK", "40"))
  broken <- lapply(seq_len(total), function(seed) {
    tryCatch(broken_invariants(seed), error = function(e) {
      paste("error:", conditionMessage(e))
    })
  })
  names(broken) <- seq_len(total)
  expect_identical(Filter(length, broken), stats::setNames(list(), character()))
})
