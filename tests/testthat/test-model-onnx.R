# ONNX: files written by the format's own package predict what scikit-learn predicts; what is not
# read is refused; a forest ranks the same by every way to it.

quiet <- function(code) suppressWarnings(suppressMessages(code))

python <- Filter(
  function(p) {
    asked <- c("-c", shQuote("import sklearn, pandas, onnx"))
    nzchar(p) && file.exists(p) && suppressWarnings(system2(p, asked, stderr = FALSE)) == 0
  },
  c("/usr/bin/python3", Sys.which("python3"))
)

numbers <- c("peak_temp", "hold_minutes", "drying_humidity", "grog_share")
folder <- tempfile("onnx")
dir.create(folder)
tiles <- stats::na.omit(kiln_raw$train[c(numbers, "clay_source", "strength", "defect")])[
  1:200,
]
# single precision holds them all
tiles[numbers] <- lapply(tiles[numbers], round_single)
utils::write.csv(tiles, file.path(folder, "tiles.csv"), row.names = FALSE)
tiles <- utils::read.csv(file.path(folder, "tiles.csv"), stringsAsFactors = TRUE)
tiles[numbers] <- lapply(tiles[numbers], round_single)
onnx <- function(name) file.path(folder, paste0(name, ".onnx"))
tiles$two <- factor(ifelse(tiles$strength > 38, "high", "low"))

skip_if(!length(python) && !nzchar(Sys.getenv("CI")), "no ONNX package on this machine")

server <- function() {
  script <- c(
    test_path("write_onnx.py"), folder, system.file("python", package = "dreher"), "serve"
  )
  system2(
    python[1],
    shQuote(script),
    wait = FALSE,
    stdout = file.path(folder, "said"),
    stderr = file.path(folder, "wrong")
  )
  port <- file.path(folder, "port")
  for (i in 1:600) if (file.exists(port)) break else Sys.sleep(0.1)
  if (!file.exists(port)) {
    stop(paste(readLines(file.path(folder, "wrong")), collapse = "\n"))
  }
  socketConnection(
    "127.0.0.1",
    as.integer(readLines(port, warn = FALSE)),
    open = "r+b",
    blocking = TRUE,
    timeout = 60
  )
}
running <- server()

read_here <- function(name) {
  read_model(onnx(name), columns = if (!name %in% c("ridge", "line", "several")) numbers)
}

test_that("files of the format's package predict as scikit-learn does", {
  target <- c(
    votes = "defect", logistic = "two", tree = "two", line = "two", several = "defect"
  )
  for (name in c(
      "forest", "shaped", "average", "votes", "boosted", "logistic", "tree", "ridge",
      "line", "several"
    )) {
    said <- as.matrix(utils::read.table(file.path(folder, paste0(name, ".txt"))))
    y <- if (name %in% names(target)) target[[name]] else "strength"
    rows <- tiles[c(numbers, "clay_source", y)]
    model <- read_here(name)
    st <- quiet(study(model, rows[1:100, ], y, train = rows[101:200, ], threads = 1))
    expect_equal(
      unname(as.matrix(predict_model(st, st$models[[1]], rows))),
      unname(said),
      tolerance = if (name == "average") 1e-13 else 1e-6,
      label = name
    )
    expect_true(all(st$models[[1]]$inputs$predictors %in% names(tiles)), label = name)
    rk <- quiet(rank_predictors(
      st, by = c("permutation", "shapley"), repeats = 1, background = 3
    ))
    expect_setequal(rk$method, c("permutation", "shapley"))
  }
  # steps before the model are seen through: the clay is one predictor
  st <- quiet(study(read_here("ridge"), tiles, "strength", train = tiles))
  expect_setequal(st$models[[1]]$inputs$predictors, c(numbers, "clay_source"))
  rows <- tiles[1:3, ]
  rows$clay_source <- factor(c("moon", "moon", "moon"))
  expect_error(read_here("ridge")$encode(rows), "moon", class = "dreher_error_input")
  # a factor is no number, whatever its codes
  rows <- transform(tiles[1:3, ], peak_temp = factor(c("low", "high", "low")))
  expect_error(
    read_here("ridge")$encode(rows), "\"low\" is none", class = "dreher_error_input"
  )
  # trees that are averaged have impurity importance; those that are added up do not say
  for (name in c("average", "votes", "tree", "boosted")) {
    y <- if (name %in% names(target)) target[[name]] else "strength"
    rows <- tiles[c(numbers, y)]
    st <- quiet(study(read_here(name), rows, y, train = rows, threads = 1))
    if (name == "boosted") {
      expect_error(rank_impurity(st), "gained", class = "dreher_error_study")
    } else {
      expect_gt(max(rank_impurity(st)$importance), 0)
    }
  }
})

test_that("nodes ask at, below and above, and send gaps where they say, by hand", {
  model <- read_model(onnx("asked"), columns = "x")
  expect_true(model_inputs(model)$missing)
  below <- 2 - 2^-22  # the next single
  expect_equal(
    as.vector(file_predictions(model, data.frame(x = c(1, below, 2, 3, NA)))),
    c(11, 11, 1001, 1100, 11)
  )
})

test_that("a forest ranks the same by JSON, by ONNX and through a process that runs", {
  ask <- function(model, data) {
    x <- as.matrix(data[numbers])
    storage.mode(x) <- "double"
    writeBin(dim(x), running, size = 4, endian = "little")
    writeBin(as.vector(x), running, endian = "little")
    readBin(running, "double", nrow(x), endian = "little")
  }
  rows <- tiles[c(numbers, "strength")]
  ways <- list(
    json = study(
      read_model(file.path(folder, "forest.json")), rows, "strength", train = rows
    ),
    onnx = study(read_here("average"), rows, "strength", train = rows),
    process = study(
      list(process = "forest"), rows, "strength", train = rows, predictors = numbers,
      predict_with = ask
    )
  ) |> quiet()
  found <- lapply(ways, function(st) {
    a <- quiet(rank_permutation(st, repeats = 2))
    b <- quiet(rank_shapley(st, background = 4, rows = "train"))
    rbind(
      a[order(a$predictor), c("predictor", "importance")],
      b[order(b$predictor), c("predictor", "importance")]
    )
  })
  expect_equal(found$onnx$importance, found$json$importance, tolerance = 1e-10)
  expect_equal(found$process$importance, found$json$importance, tolerance = 1e-10)
  close(running)
})

test_that("what is not read is refused with a reason, and columns need names", {
  refused <- function(name, reason) {
    expect_error(
      read_model(onnx(name), columns = numbers), reason, class = "dreher_error_model"
    )
  }
  refused("least", "MIN")
  refused("changed", "Exp")
  refused("strange", "Softmax")
  refused("turned", "rows into columns")
  expect_error(read_model(onnx("forest")), "columns", class = "dreher_error_input")
  expect_error(
    read_model(onnx("forest"), columns = numbers[1:3]), "4 distinct names",
    class = "dreher_error_input"
  )
  expect_error(
    read_model(onnx("forest"), columns = numbers, rounds = 3), "rounds",
    class = "dreher_error_input"
  )
  # a way to ask that is not there
  bytes <- readBin(onnx("tree"), "raw", 1e6)
  text <- function(word) grepRaw(word, bytes, fixed = TRUE)
  at <- text("BRANCH_LEQ")
  changed <- bytes
  changed[at + 7:9] <- charToRaw("EQQ")
  file <- tempfile(fileext = ".onnx")
  writeBin(changed, file)
  expect_error(
    read_model(file, columns = numbers), "BRANCH_EQQ", class = "dreher_error_model"
  )
})

test_that("damaged files end in a clear error", {
  set.seed(4)
  other <- character()
  for (name in c("average", "line")) {
    bytes <- readBin(onnx(name), "raw", 1e6)
    for (i in 1:150) {
      changed <- bytes
      at <- sample(min(length(bytes), 4000), sample(3, 1))
      changed[at] <- as.raw(sample(0:255, length(at), TRUE))
      if (i %% 10 == 0) changed <- bytes[seq_len(sample(length(bytes), 1))]
      file <- tempfile(fileext = ".onnx")
      writeBin(changed, file)
      said <- tryCatch({
        suppressWarnings(read_model(file, columns = if (name == "average") numbers))
        NULL
      }, dreher_error = function(e) NULL, error = conditionMessage)
      if (!is.null(said)) other <- c(other, said)
    }
  }
  expect_identical(other, character())
})
