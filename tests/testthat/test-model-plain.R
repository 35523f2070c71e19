# The documented JSON of trees and linear models: written and read back, written by the script for
# scikit-learn, and refused where it is not sound.

rows <- kiln_raw$train[1:260, c(
  "peak_temp", "hold_minutes", "clay_source", "drying_humidity", "operator", "strength"
)]
full <- kiln_rows(260)[names(rows)]
fresh <- kiln_rows(90, "holdout")[names(rows)]
quiet <- function(code) suppressWarnings(suppressMessages(code))
written <- function(st) write_forest(st, tempfile(fileext = ".json"))

test_that(
  "a forest that is written and read again predicts and ranks the same, to the bit",
  {
    numbers <- as.matrix(full[c("peak_temp", "hold_minutes", "drying_humidity")])
    set.seed(3)
    models <- list(
      rpart = list(rpart::rpart(strength ~ ., rows), rows),
      ranger = list(small_forest(strength ~ ., full), full),
      forest = list(randomForest::randomForest(strength ~ ., full, ntree = 5), full),
      gbm = list(
        gbm::gbm(strength ~ ., "gaussian", rows, n.trees = 8, interaction.depth = 2), rows
      ),
      xgboost = list(
        xgboost::xgb.train(
          list(max_depth = 2, nthread = 1),
          xgboost::xgb.DMatrix(numbers, label = full$strength, nthread = 1),
          nrounds = 5
        ),
        full
      )
    )
    for (name in names(models)) {
      train <- models[[name]][[2]]
      st <- quiet(study(
        models[[name]][[1]], fresh, "strength", train = train, threads = 1
      ))
      again <- quiet(study(read_model(written(st)), fresh, "strength", train = train))
      expect_identical(
        unname(predict_model(again, again$models[[1]], fresh)),
        unname(predict_model(st, st$models[[1]], fresh)),
        label = name
      )
      expect_identical(
        quiet(rank_permutation(again, repeats = 2))$importance,
        quiet(rank_permutation(st, repeats = 2))$importance,
        label = name
      )
      expect_equal(
        quiet(rank_shapley(again, background = 5))$importance,
        quiet(rank_shapley(st, background = 5))$importance,
        tolerance = 1e-12,
        label = name
      )
    }
    classes <- kiln_rows(300, drop = c("ring_tone", "strength", "tile_id", "batch"))
    fit <- small_forest(defect ~ ., classes, probability = TRUE)
    st <- quiet(study(fit, classes[201:300, ], "defect", train = classes[1:200, ]))
    again <- read_model(written(st))
    expect_identical(
      model_task(again)$classes,
      levels(classes$defect)[st$models[[1]]$classes |> match(levels(classes$defect))]
    )
    line <- study(lm(strength ~ peak_temp, full), fresh, "strength", train = full)
    expect_error(
      write_forest(line, tempfile()), "has no trees", class = "dreher_error_model"
    )
    expect_error(
      write_forest(st, tempfile(), models = "nobody"), class = "dreher_error_input"
    )
  }
)

test_that("a linear model and made columns, worked out by hand", {
  doc <- c(
    paste0(
      "{\"format\":\"dreher ",
      "model\",\"version\":1,\"made_by\":\"hand\",\"kind\":\"linear\","
    ),
    "\"task\":\"regression\",\"link\":\"identity\",\"columns\":[\"h\",\"clay=pit\",\"s\"],",
    "\"intercept\":[10],\"weights\":[[2,5,1]],\"made\":[",
    "{\"column\":\"h\",\"from\":\"heat\",\"fill\":4,\"minus\":1,\"over\":2},",
    "{\"column\":\"clay=pit\",\"from\":\"clay\",\"equals\":\"pit\",\"levels\":[\"pit\",\"hill\"],",
    "\"unknown\":\"refuse\"},",
    "{\"column\":\"s\",\"from\":\"size\",\"codes\":[\"a\",\"b\",\"c\"],\"unknown\":\"value\",",
    "\"unknown_value\":-1}]}"
  )
  file <- tempfile(fileext = ".json")
  writeLines(doc, file)
  model <- read_model(file)
  d <- data.frame(
    heat = c(1, 3, NA, 5, 7),
    clay = c("pit", "hill", "pit", "hill", "hill"),
    size = c("a", "b", "c", "z", "b"),
    y = c(1, 2, 3, 4, 6)
  )
  st <- quiet(study(model, d, "y"))
  # 10 + 2 (h - 1) / 2 + 5 (pit) + code of the size
  expect_equal(
    as.vector(predict_model(st, st$models[[1]], d)),
    10 + c(0, 2, 3, 4, 6) + c(5, 0, 5, 0, 0) + c(0, 1, 2, -1, 1)
  )
  expect_setequal(st$models[[1]]$inputs$predictors, c("heat", "clay", "size"))
  d$clay[2] <- "bog"
  expect_error(quiet(study(model, d, "y")), "encoder of model")
  said <- tryCatch(model$encode(d), error = conditionMessage)
  expect_match(said, "\"bog\"")
  unsound <- function(from, to) {
    changed <- sub(from, to, paste(doc, collapse = "\n"), fixed = TRUE)
    expect_false(identical(changed, paste(doc, collapse = "\n")))
    writeLines(changed, file)
    expect_error(read_model(file), "not sound", class = "dreher_error_model")
  }
  unsound("\"minus\":1", "\"minus\":\"one\"")
  unsound(",\"over\":2", "")
  unsound("\"fill\":4", "\"fill\":[4,5]")
  unsound("\"unknown\":\"value\"", "\"unknown\":\"guess\"")
  unsound(",\n\"unknown_value\":-1", "")
  unsound("\"equals\":\"pit\"", "\"equals\":3")
  # what the file says of its predictions is held against them
  stated <- function(value) {
    text <- sub(
      "}]}$",
      paste0(
        "}],\"check\":{\"names\":[\"heat\",\"clay\",\"size\"],",
        "\"rows\":[[\"3\"],[\"hill\"],[\"b\"]],\"predictions\":[[", value, "]]}}"
      ),
      paste(doc, collapse = "\n")
    )
    writeLines(text, file)
    read_model(file)
  }
  expect_s3_class(stated(13), "dreher_model_file")
  expect_error(
    stated(13.1), "does not predict what the file says", class = "dreher_error_model"
  )
})

test_that("files that are not sound are refused in our words", {
  st <- quiet(study(rpart::rpart(strength ~ ., rows), fresh, "strength", train = rows))
  text <- paste(readLines(written(st)), collapse = "\n")
  refused <- function(from, to, message) {
    changed <- sub(from, to, text)
    expect_false(identical(changed, text))
    file <- tempfile(fileext = ".json")
    writeLines(changed, file)
    expect_error(read_model(file), message, class = "dreher_error")
  }
  refused("\"version\":1", "\"version\":2", "version 2")
  refused("\"kind\":\"trees\"", "\"kind\":\"woods\"", "kind \"woods\"")
  refused("\"link\":\"identity\"", "\"link\":\"cubic\"", "link is \"cubic\"")
  refused("\"task\":\"regression\"", "\"task\":\"ranking\"", "task is \"ranking\"")
  refused("\"left\":\\[1,", "\"left\":[0,", "not sound")
  refused("\"left\":\\[1,", "\"left\":[1.5,", "whole numbers")
  refused("\"threshold\":\\[[^,]*,", "\"threshold\":[", "entries instead of")
  refused("\"value\":\\[\\[", "\"value\":[[1],[", "outputs instead of")
  refused("\"trees\":\\[\\{", "\"trees\":[3,{", "is missing in|not a table|not sound")
  refused("\"base\":\\[[^]]*\\]", "\"base\":[0,0]", "entries instead of")
  bytes <- charToRaw(text)
  other <- character()
  set.seed(4)
  for (i in 1:150) {
    changed <- bytes
    at <- sample(length(bytes), 1 + i %% 3)
    changed[at] <- as.raw(sample(32:126, length(at), TRUE))
    if (i %% 10 == 0) changed <- bytes[seq_len(sample(length(bytes), 1))]
    file <- tempfile(fileext = ".json")
    writeBin(changed, file)
    said <- tryCatch({
      read_model(file)
      NULL
    }, dreher_error = function(e) NULL, error = conditionMessage)
    if (!is.null(said)) other <- c(other, said)
  }
  expect_identical(other, character())
})

test_that("models of scikit-learn come through the script as they are", {
  python <- Filter(
    function(p) {
      nzchar(p) && file.exists(p) &&
        suppressWarnings(system2(
          p, c("-c", shQuote("import sklearn, pandas")), stderr = FALSE
        )) == 0
    },
    c("/usr/bin/python3", Sys.which("python3"))
  )
  if (!length(python) && !nzchar(Sys.getenv("CI"))) {
    skip("no scikit-learn on this machine")
  }
  folder <- tempfile("python")
  dir.create(folder)
  d <- kiln_raw$train[
    1:220,
    c(
      "peak_temp", "hold_minutes", "clay_source", "drying_humidity", "grog_share",
      "strength", "defect"
    )
  ]
  utils::write.csv(d, file.path(folder, "tiles.csv"), row.names = FALSE)
  script <- system.file("python", package = "dreher")
  writeLines(
    c(
      "import sys, json, warnings", "warnings.filterwarnings('ignore')",
      paste0("sys.path.insert(0, ", deparse(script), ")"),
      "import numpy as np, pandas as pd",
      "from write_dreher_model import write_dreher_model",
      paste0(
        "from sklearn import tree, ensemble, linear_model, pipeline, compose, ",
        "preprocessing, impute"
      ),
      "d = pd.read_csv('tiles.csv'); y = d.strength; c = d.defect",
      "num = ['peak_temp', 'hold_minutes', 'drying_humidity', 'grog_share']",
      "def steps(): return compose.ColumnTransformer([",
      "  ('n', pipeline.Pipeline([('i', impute.SimpleImputer(strategy='median')),",
      "                           ('s', preprocessing.StandardScaler())]), num),",
      "  ('c', preprocessing.OneHotEncoder(drop='first'), ['clay_source'])])",
      "def piped(m): return pipeline.Pipeline([('a', steps()), ('m', m)])",
      "two = np.where(y > 38, 'high', 'low')",
      "plain = d[['peak_temp', 'hold_minutes', 'grog_share']]", "models = {",
      " 'forest': (piped(ensemble.RandomForestRegressor(8, random_state=1)), d, y),",
      " 'extra': (piped(ensemble.ExtraTreesClassifier(5, random_state=1)), d, c),",
      " 'logistic': (piped(linear_model.LogisticRegression()), d, two),",
      " 'several': (piped(linear_model.LogisticRegression(max_iter=500)), d, c),",
      " 'ridge': (piped(linear_model.Ridge()), d, y),",
      " 'tree': (tree.DecisionTreeClassifier(max_depth=4), plain, two),",
      " 'boosted': (ensemble.GradientBoostingRegressor(n_estimators=15), plain, y),",
      paste0(
        " 'exponential': (ensemble.GradientBoostingClassifier(loss='exponential', ",
        "n_estimators=9), plain, two),"
      ),
      " 'classes': (ensemble.GradientBoostingClassifier(n_estimators=4), plain, c),",
      " 'histogram': (ensemble.HistGradientBoostingRegressor(max_iter=12), d[num], y),",
      paste0(
        " 'coded': (pipeline.Pipeline([('o', compose.ColumnTransformer([('o', ",
        "preprocessing.OrdinalEncoder(), ['clay_source'])], remainder='passthrough')),"
      ),
      paste0(
        "   ('m', ensemble.HistGradientBoostingClassifier(max_iter=6, ",
        "categorical_features=[0]))]), d[['clay_source'] + num], two),"
      ),
      "}", "for name, (m, x, t) in models.items():",
      "    x = x.drop(columns=['strength', 'defect'], errors='ignore')",
      "    m.fit(x, t)", "    write_dreher_model(m, name + '.json', rows=x)",
      "    p = m.predict_proba(x) if hasattr(m, 'classes_') else m.predict(x)",
      "    np.savetxt(name + '.txt', np.asarray(p).reshape(len(x), -1), fmt='%.17g')",
      "d['two'] = two; d.to_csv('tiles.csv', index=False)"
    ),
    file.path(folder, "go.py")
  )
  done <- system2(
    "sh", c("-c", shQuote(paste0("cd ", folder, " && ", python[1], " go.py")))
  )
  expect_identical(done, 0L)
  d <- read_rows(file.path(folder, "tiles.csv"), quiet = TRUE)
  target <- c(
    extra = "defect", logistic = "two", several = "defect", tree = "two",
    exponential = "two", classes = "defect", coded = "two"
  )
  for (name in sub("[.]json$", "", dir(folder, "json$"))) {
    model <- read_model(file.path(folder, paste0(name, ".json")))
    said <- as.matrix(utils::read.table(file.path(folder, paste0(name, ".txt"))))
    y <- if (name %in% names(target)) target[[name]] else "strength"
    one <- d[setdiff(names(d), setdiff(c("strength", "defect", "two"), y))]
    st <- quiet(study(model, one[1:110, ], y, train = one[111:220, ], threads = 1))
    expect_equal(
      unname(as.matrix(predict_model(st, st$models[[1]], one))),
      unname(said),
      tolerance = 1e-12,
      label = name
    )
    expect_true(all(st$models[[1]]$inputs$predictors %in% names(d)), label = name)
    rk <- quiet(rank_predictors(
      st, by = c("permutation", "shapley"), repeats = 1, background = 3
    ))
    expect_setequal(rk$method, c("permutation", "shapley"))
  }
  # the same forest through predictions alone ranks the same
  model <- read_model(file.path(folder, "forest.json"))
  one <- d[setdiff(names(d), c("defect", "two"))]
  st <- quiet(study(model, one[1:110, ], "strength", train = one[111:220, ]))
  alone <- quiet(study(
    model,
    one[1:110, ],
    "strength",
    train = one[111:220, ],
    predict_with = function(model, data) {
      model_predictions(model, model$encode(data))
    }
  ))
  a <- quiet(rank_permutation(st, repeats = 2))
  b <- quiet(rank_permutation(alone, repeats = 2))
  expect_equal(
    a$importance[order(a$predictor)],
    b$importance[match(sort(a$predictor), b$predictor)],
    tolerance = 1e-10
  )
  expect_error(
    refit_model(st$models[[1]]$object, one, "strength", "peak_temp"), "read from a file"
  )
})
