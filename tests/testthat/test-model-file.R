demo_file <- function(kind) {
  name <- paste0("kiln_boosted.", kind)
  if (kind != "ubj") return(normalizePath(testthat::test_path(name)))
  system.file("extdata", name, package = "dreher", mustWork = TRUE)
}
columns <- c(
  "grog_share", "water_loss", "drying_hours", "drying_humidity", "glaze_viscosity",
  "peak_temp", "hold_minutes", "pyro_left", "pyro_right", "cooling_rate",
  "shelf_position", "room_humidity"
)
bytes_of <- function(kind) readBin(demo_file(kind), "raw", 1e6)
written <- function(bytes, kind) {
  file <- tempfile(fileext = paste0(".", kind))
  if (is.character(bytes)) bytes <- charToRaw(bytes)
  writeBin(bytes, file)
  file
}

test_that("the three kinds of files read, and say what the libraries say", {
  rows <- kiln_raw$holdout[1:200, columns]
  rows[5:9, "peak_temp"] <- NA
  all <- lapply(c("json", "ubj", "txt"), function(kind) {
    read_model(demo_file(kind), columns = columns, compare = TRUE)
  })
  for (m in all) {
    own <- model_predictions(m, rows)  # by the library
    expect_equal(file_predictions(m, rows)[, 1], own, tolerance = 1e-6)
    expect_s3_class(
      read_model(m$file, columns = columns, rows = rows, predictions = own),
      "dreher_model_file"
    )
    expect_error(
      read_model(m$file, columns = columns, rows = rows, predictions = own + 0.01),
      "do not predict.*\n.*row: 1 ",
      class = "dreher_error_model"
    )
  }
  expect_equal(
    file_predictions(all[[1]], rows), file_predictions(all[[2]], rows), tolerance = 1e-7
  )
  st <- study(all[[1]], kiln_raw$holdout, "strength", train = kiln_raw$train)
  expect_identical(
    c(names(st$models), st$models[[1]]$class), c("kiln_boosted", "xgboost file")
  )
  expect_error(
    refit_model(all[[1]], kiln$train, "strength", columns[1:2]),
    "cannot be trained again",
    class = "dreher_error_model"
  )
  few <- read_model(demo_file("ubj"), columns = columns, rounds = 7, compare = TRUE)
  expect_length(model_forest(few, model_inputs(few))$root, 7)
  expect_equal(
    file_predictions(few, rows)[, 1], model_predictions(few, rows), tolerance = 1e-6
  )
  expect_output(print(few), "rounds 1 to 7")
  expect_error(
    read_model(demo_file("json")),
    "does not name its columns",
    class = "dreher_error_input"
  )
  expect_error(
    read_model(demo_file("json"), columns = columns[-1]),
    "12 distinct names",
    class = "dreher_error_input"
  )
  expect_error(read_model(tempfile()), "no file", class = "dreher_error_input")
  expect_error(
    read_model(written("hello", "txt")), "not an R object", class = "dreher_error_input"
  )
  saved <- tempfile(fileext = ".rds")
  saveRDS(lm(strength ~ peak_temp, kiln$train), saved)
  expect_s3_class(read_model(saved), "lm")
})

test_that("of several targets one is read", {
  # One tree per target and round stand in a file as those of several classes do.
  x <- as.matrix(kiln$train[1:200, columns])
  fit <- xgboost::xgb.train(
    list(objective = "multi:softprob", num_class = 4, max_depth = 3, nthread = 1),
    xgboost::xgb.DMatrix(
      x, label = as.integer(kiln$train$defect[1:200]) - 1, nthread = 1
    ),
    nrounds = 3
  )
  text <- rawToChar(xgboost::xgb.save.raw(fit, raw_format = "json"))
  text <- sub(
    '"num_class":"4"',
    '"num_class":"0"',
    sub(
      '"num_target":"1"',
      '"num_target":"4"',
      gsub("multi:softprob", "reg:squarederror", text)
    )
  )
  file <- written(text, "json")
  expect_error(
    read_model(file, columns = columns), "has 4 targets", class = "dreher_error_input"
  )
  expect_error(
    read_model(file, columns = columns, output = 5),
    "from 1 to 4",
    class = "dreher_error_input"
  )
  sums <- predict(fit, x, outputmargin = TRUE)
  # as older versions of the library return them
  sums <- if (is.matrix(sums)) unname(sums) else matrix(sums, ncol = 4, byrow = TRUE)
  for (k in 1:4) {
    m <- read_model(file, columns = columns, output = k)
    expect_equal(file_predictions(m, as.data.frame(x))[, 1], sums[, k], tolerance = 1e-6)
  }
  expect_s3_class(study(m, kiln$holdout, "strength"), "dreher_study")
})

test_that("documents read as their formats say", {
  read <- function(text) document_of(charToRaw(text), FALSE)
  expect_identical(
    read(
      '{"a": [1, 2.5, -3e2], "b": {"c": "x\\u00e9\\n", "d": [true, null, []]}, "e": []}'
    ),
    list(
      a = c(1, 2.5, -300),
      b = list(c = "x\u00e9\n", d = list(TRUE, NULL, numeric())),
      e = numeric()
    )
  )
  expect_identical(
    read('["\\ud83d\\ude00", 1, {}]'),
    list("\U1F600", 1, stats::setNames(list(), character()))
  )
  expect_identical(read("[NaN]"), NaN)
  for (bad in c(
      "", "{", "[1,]", "[1 2]", '{"a" 1}', '{"a": tru}', "[1e999]", "[--1]", '["\\x"]',
      '["\\ud83d\\u0041"]', "[1] 2", "[0x10]", strrep("[", 1e5)
    )) {
    expect_error(read(bad), "not sound.*at byte", class = "dreher_error_model")
  }
  # UBJSON by hand: {"a": [float32 1.5, 2], "b": [int8 -1, uint8 200], "c": "hi", "d": int16 -2,
  # "e": float64 0.5, "f": true}
  key <- function(name) c(charToRaw("i"), as.raw(nchar(name)), charToRaw(name))
  bytes <- c(
    charToRaw("{"), key("a"), charToRaw("[$d#i"), as.raw(2),
    as.raw(c(0x3f, 0xc0, 0, 0, 0x40, 0, 0, 0)), key("b"), charToRaw("["), charToRaw("i"),
    as.raw(0xff), charToRaw("U"), as.raw(200), charToRaw("]"), key("c"), charToRaw("Si"),
    as.raw(2), charToRaw("hi"), key("d"), charToRaw("I"), as.raw(c(0xff, 0xfe)), key("e"),
    charToRaw("D"), as.raw(c(0x3f, 0xe0, 0, 0, 0, 0, 0, 0)), key("f"), charToRaw("T"),
    charToRaw("}")
  )
  expect_identical(
    document_of(bytes, TRUE),
    list(a = c(1.5, 2), b = c(-1, 200), c = "hi", d = -2, e = 0.5, f = TRUE)
  )
  for (bad in list(
      bytes[1:10],
      charToRaw("[$d#l\x7f\xff\xff\xff"),
      charToRaw("[$Z#l\x7f\xff\xff\xff"),
      charToRaw("[$d"),
      rep(charToRaw("["), 1e5),
      charToRaw("{Si")
    )) {
    expect_error(
      document_of(bad, TRUE), "not sound.*at byte", class = "dreher_error_model"
    )
  }
  expect_identical(
    parse_numbers("1 -2.5 inf -inf 3e-3")$value, c(1, -2.5, Inf, -Inf, 0.003)
  )
  expect_identical(parse_numbers("1 2x")$fault, "a number cannot be read")
})

test_that("unsound trees, other versions and what is not supported are refused by name", {
  text <- rawToChar(bytes_of("json"))
  refused <- function(from, to, message, of = text, kind = "json") {
    expect_true(grepl(from, of))
    expect_error(
      read_model(written(sub(from, to, of), kind), columns = columns),
      message,
      class = "dreher_error_model"
    )
  }
  refused('"version":\\[1,7', '"version":[1.5,7', "not three numbers")
  refused("reg:squarederror", "rank:pairwise", "objective \"rank:pairwise\"")
  refused('"left_children":\\[1', '"left_children":[0', "reached in two ways")
  refused('"left_children":\\[1', '"left_children":[99', "outside its tree")
  refused('"left_children":\\[1', '"left_children":[1.5', "whole numbers")
  refused('"right_children":\\[2,', '"right_children":[', "entries instead of")
  refused('"split_conditions":\\[[^,]*', '"split_conditions":[NaN', "not a number")
  refused('"split_indices":\\[[0-9]+', '"split_indices":[12', "does not have")
  refused('"tree_info":\\[0', '"tree_info":[1', "an output that is not there")
  refused('"trees":', '"leaves":', "`trees` is missing")
  refused('"base_score":"[^"]*"', '"base_score":"low"', "does not hold one number")
  text <- rawToChar(bytes_of("txt"))
  refused <- function(from, to, message) {
    expect_error(
      read_model(written(sub(from, to, text), "txt")),
      message,
      class = "dreher_error_model"
    )
  }
  refused("version=v4", "version=v2", "format v2")
  refused("objective=regression", "objective=lambdarank", "objective \"lambdarank\"")
  refused("left_child=[0-9]+", "left_child=0", "reached in two ways")
  refused("left_child=[0-9]+", "left_child=-900", "outside its tree")
  refused("is_linear=0", "is_linear=1", "linear trees")
  refused("num_leaves=[0-9]+", "num_leaves=1000000", "does not fit its leaves")
  refused("leaf_value=[^ ]*", "leaf_value=nan", "cannot be read")
  refused("end of trees", "", "ends before its trees do")
  refused("max_feature_idx=11", "max_feature_idx=30", "names of its columns")
})

# Files changed at random end in an error of ours or in a model that can be walked; never in
# anything else.
mutate_bytes <- function(bytes) {
  n <- length(bytes)
  at <- sample.int(n, 1)
  some <- function(most) seq(at, min(n, at + sample.int(most, 1) - 1))
  switch(
    sample.int(8, 1),
    {
      bytes[at] <- as.raw(sample(0:255, 1))
      bytes
    },
    {
      for (i in sample.int(n, 20)) bytes[i] <- as.raw(sample(0:255, 1))
      bytes
    },
    bytes[seq_len(at)],
    bytes[-some(200)],
    append(bytes, bytes[some(2000)], sample.int(n, 1)),
    append(
      bytes,
      charToRaw(sample(
        c(
          "[[[[", "{\"a\":", "NaN", "1e308", "-1", "null", "true", "\"x\"", "2147483648",
          "[]", ",", "inf"
        ),
        1
      )),
      at
    ),
    {
      digits <- which(bytes >= as.raw(48) & bytes <= as.raw(57))
      for (i in sample(digits, min(5, length(digits)))) {
        bytes[i] <- as.raw(sample(48:57, 1))
      }
      bytes
    },
    {
      words <- sample(2:n, 2)
      bytes[some(8)] <- as.raw(sample(c(0, 255, 127), 1))
      bytes
    }
  )
}

# Does a reading in plain R say the same?
second_opinion <- function(m, bytes, rows, ours) {
  second <- if (m$library == "xgboost") second_xgboost else second_lightgbm
  said <- tryCatch(second(bytes, rows), error = function(e) NULL)
  if (length(said) != nrow(rows) || anyNA(said)) return("one reading only")
  link <- if (m$library == "xgboost") m$learner$objective$name else m$objective
  if (link %in% c("count:poisson", "poisson", "gamma", "tweedie")) said <- exp(said)
  apart <- abs(said - ours[, 1]) / (1 + abs(said))
  if (max(apart) < 1e-6) "read" else paste("other values, by", signif(max(apart), 3))
}

test_that("mutated files end in a clear error or in a sound model", {
  rows <- kiln_raw$holdout[1:20, columns]
  # Splits on categories, in both libraries' words.
  x <- as.matrix(kiln_raw$train[1:400, columns])
  x[, "shelf_position"] <- as.integer(kiln_raw$train$batch[1:400])
  boosted <- xgboost::xgb.DMatrix(x, label = kiln_raw$train$strength[1:400], nthread = 1)
  xgboost::setinfo(boosted, "feature_type", ifelse(columns == "shelf_position", "c", "q"))
  boosted <- xgboost::xgb.train(
    list(tree_method = "hist", nthread = 1), boosted, nrounds = 4
  )
  light <- lightgbm::lgb.train(
    list(
      objective = "regression",
      min_data_per_group = 5,
      min_data_in_leaf = 5,
      num_threads = 1
    ),
    lightgbm::lgb.Dataset(
      x, label = kiln_raw$train$strength[1:400], categorical_feature = "shelf_position"
    ),
    nrounds = 4,
    verbose = -1
  )
  sources <- list(
    json = bytes_of("json"),
    ubj = bytes_of("ubj"),
    txt = bytes_of("txt")
  )
  live <- list(
    json = xgboost::xgb.save.raw(boosted, raw_format = "json"),
    ubj = xgboost::xgb.save.raw(boosted, raw_format = "ubj"),
    txt = charToRaw(light$save_model_to_string())
  )
  sources <- c(sources, live)
  for (i in 4:6) {
    expect_s3_class(
      read_model(written(sources[[i]], "any"), columns = columns), "dreher_model_file"
    )
  }
  total <- as.integer(Sys.getenv("DREHER_MUTATIONS", "300"))
  ends <- character()
  for (i in seq_len(total)) {
    set.seed(i)
    kind <- names(sources)[i %% 6 + 1]
    file <- written(mutate_bytes(sources[[i %% 6 + 1]]), kind)
    ends[i] <- tryCatch(
      {
        m <- suppressWarnings(read_model(file, columns = columns))
        if (inherits(m, "dreher_model_file")) {
          second_opinion(m, readBin(file, "raw", 1e7), rows, file_predictions(m, rows))
        } else {
          "read"
        }
      },
      dreher_error = function(e) "refused",
      error = function(e) paste(kind, i, conditionMessage(e))
    )
    unlink(file)
  }
  expect_identical(setdiff(ends, c("read", "refused", "one reading only")), character())
  expect_true(all(c("read", "refused") %in% ends))
  # Where the second reading gives up, there is nothing to compare with: seldom.
  expect_lt(mean(ends == "one reading only"), 0.05)
})

test_that("ten megabytes of nesting are refused at once", {
  for (kind in c("json", "ubj")) {
    used <- system.time(expect_error(
      read_model(
        written(
          c(charToRaw("{"), rep(charToRaw(if (kind == "json") "[" else "{"), 1e7)), kind
        ),
        columns = columns
      ),
      class = "dreher_error_model"
    ))
    expect_lt(used[["elapsed"]], 5)
  }
  expect_error(
    read_model(written(paste0("{\"learner\":", strrep("[", 1e7)), "json")),
    "nests too deeply",
    class = "dreher_error_model"
  )
})

test_that("small files that ask for much, and columns of two kinds, are refused", {
  text <- rawToChar(bytes_of("txt"))
  crlf <- written(gsub("\n", "\r\n", text, fixed = TRUE), "txt")
  expect_s3_class(
    study(
      read_model(crlf, columns = columns, compare = TRUE), kiln_raw$holdout, "strength"
    ),
    "dreher_study"
  )
  json <- rawToChar(bytes_of("json"))
  # The first split of the first tree made one on a category, its column still a number elsewhere.
  two_kinds <- sub("\"split_type\":\\[0", "\"split_type\":[1", json)
  for (field in c("categories_nodes", "categories_segments")) {
    two_kinds <- sub(
      paste0("\"", field, "\":[]"), paste0("\"", field, "\":[0]"), two_kinds, fixed = TRUE
    )
  }
  two_kinds <- sub(
    "\"categories_sizes\":[]", "\"categories_sizes\":[1]", two_kinds, fixed = TRUE
  )
  two_kinds <- sub("\"categories\":[]", "\"categories\":[3]", two_kinds, fixed = TRUE)
  expect_error(
    read_model(written(two_kinds, "json"), columns = columns),
    "is a number in some nodes, a category in others",
    class = "dreher_error_model"
  )
  many <- sub("reg:squarederror", "multi:softprob", json, fixed = TRUE)
  many <- sub("\"num_class\":\"0\"", "\"num_class\":\"100000\"", many, fixed = TRUE)
  used <- system.time(expect_error(
    read_model(written(many, "json"), columns = columns),
    "fewer trees than classes",
    class = "dreher_error_model"
  ))
  expect_lt(used[["elapsed"]], 5)
  expect_error(
    check_model_size(1e5, 1e5), "more than are read", class = "dreher_error_model"
  )
})

test_that("a decimal sign of the locale's does not change what a file says", {
  old <- Sys.getlocale("LC_NUMERIC")
  on.exit(suppressWarnings(Sys.setlocale("LC_NUMERIC", old)))
  plain <- document_of(charToRaw("[1.5, 2.25e1]"), FALSE)
  for (locale in c("de_DE.UTF-8", "fr_FR.UTF-8", "de_DE.utf8")) {
    suppressWarnings(Sys.setlocale("LC_NUMERIC", locale))
    expect_identical(document_of(charToRaw("[1.5, 2.25e1]"), FALSE), plain)
  }
})

test_that("text that is no text is refused where a number is asked for", {
  expect_error(
    take_number(list(a = rawToChar(as.raw(c(0x31, 0xa5)))), "a", "the model"),
    "not a number", class = "dreher_error_model"
  )
})
