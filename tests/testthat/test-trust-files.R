# Names, labels and values from others are text wherever they come to stand: in the page, in tables,
# on the terminal; and files are written whole or not at all.

hostile <- c(
  fence = "x\n````````````\n<script>document.title='owned'</script>\n````````````{=html}",
  tag = "<img src=x onerror=\"document.title='owned'\">",
  file = "</p><img src='/etc/hostname'><p>",
  link = "![a](http://127.0.0.1:9/a.png)",
  script = "</script><script>document.title='owned'</script>",
  code = "`r document.title <- 1`",
  attribute = "\" onmouseover=\"document.title='owned'",
  yaml = "---\ntitle: owned\n---",
  template = "${title}$for(x)$"
)

chromium_dom <- function(file) {
  paste(system2(
    "chromium",
    c(
      "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
      "--disable-background-networking", "--disable-component-update", "--disable-sync",
      paste0("--user-data-dir=", tempfile("profile")), "--dump-dom", paste0("file://", file)
    ),
    stdout = TRUE, stderr = FALSE
  ), collapse = "\n")
}

test_that("nothing from the data runs, is fetched or is embedded in the report", {
  set.seed(1)
  n <- 120
  d <- as.data.frame(matrix(rnorm(n * length(hostile)), n))
  names(d) <- hostile
  d$y <- d[[1]] + d[[2]] * 2 + rnorm(n)
  level <- factor(rep(hostile[c("fence", "tag")], length.out = n))
  d$level <- level
  d$unused <- rnorm(n)
  names(d)[ncol(d)] <- paste0(hostile[["fence"]], "2")
  dictionary <- data.frame(
    predictor = unname(hostile),
    label = paste("label", rev(hostile)),
    family = unname(hostile[1])
  )
  f <- lm(plain_formula("y", c(unname(hostile), "level")), d)
  st <- study(
    stats::setNames(list(f), hostile[["script"]]),
    d[81:120, ],
    "y",
    train = d[1:80, ],
    dictionary = dictionary
  )
  rk <- rank_predictors(st, by = c("permutation", "shapley"), background = 5, repeats = 2)
  rd <- suppressWarnings(reduce_predictors(
    st, folds = 3, repeats = 1, inner_folds = 2, random = 0
  ))
  file <- tempfile(fileext = ".html")
  write_report(
    st, rk, rd, find_twins(st), agreement(rk), file = file, title = hostile[["fence"]]
  )
  page <- paste(readLines(file, warn = FALSE, encoding = "UTF-8"), collapse = "\n")
  expect_match(page, "Content-Security-Policy", fixed = TRUE)
  # One script, ours; every address in the page is data in the page itself.
  scripts <- regmatches(page, gregexpr("<script[^>]*>", page))[[1]]
  expect_length(scripts, 1)
  sources <- regmatches(page, gregexpr("<(img|link|iframe|object)[^>]{0,200}", page))[[1]]
  expect_true(all(grepl("(src|href)=\"data:", sources)))
  host <- readLines("/etc/hostname", 1)
  expect_false(grepl(
    jsonlite::base64_enc(charToRaw(paste0(host, "\n"))), page, fixed = TRUE
  ))
  # In a browser without the policy as well: the escapes alone must hold.
  bare <- tempfile(fileext = ".html")
  writeLines(sub("<meta http-equiv[^>]*>", "", page), bare)
  for (p in c(file, bare)) {
    dom <- chromium_dom(p)
    expect_match(dom, "Importance")
    title <- regmatches(dom, regexpr("<title>[^<]*", dom))
    expect_false(identical(title, "<title>owned"))
    expect_false(grepl("<img src=\"x\"", dom, fixed = TRUE))
  }
})

test_that("tables for spreadsheets hold no formulas, and read back as they were otherwise", {
  d <- kiln_rows(60)[c("strength", "peak_temp", "hold_minutes")]
  names(d)[2:3] <- c("=1+cmd|' /C calc'!A0", "plain")
  st <- study(lm(strength ~ ., d), d[31:60, ], "strength", train = d[1:30, ])
  rk <- rank_permutation(st, repeats = 2)
  csv <- tempfile(fileext = ".csv")
  write_results(rk, csv)
  back <- utils::read.csv(csv)
  expect_setequal(back$predictor, c("'=1+cmd|' /C calc'!A0", "plain"))
  expect_equal(back$importance, rk$importance)
  json <- tempfile(fileext = ".json")
  write_results(rk, json)
  expect_identical(jsonlite::fromJSON(json)$rows$predictor, rk$predictor)
})

test_that("a terminal gets no orders from names, labels, levels and messages", {
  order <- "a\u001b]0;owned\u0007\u001b[2Jb"
  d <- kiln_rows(60)[c("strength", "peak_temp", "hold_minutes")]
  names(d)[2] <- order
  st <- study(
    stats::setNames(list(lm(strength ~ ., d)), paste0("m", order)),
    d[31:60, ],
    "strength",
    train = d[1:30, ]
  )
  rk <- rank_permutation(st, repeats = 2)
  said <- c(
    utils::capture.output(
      print(st), print(rk), print(score_models(st)), print(check_data(st))
    ),
    tryCatch(
      study(st$models[[1]]$object, d["strength"], "strength"), error = conditionMessage
    )
  )
  obeyed <- "\u001b(?!\\[[0-9;]*m)|\u0007"
  expect_false(any(grepl(obeyed, said, perl = TRUE)))
  expect_true(any(grepl("a ]0;owned", said, fixed = TRUE)))
})

test_that("files are whole or not there: full disks, folders without leave, old files", {
  st <- study(
    lm(strength ~ peak_temp + hold_minutes, kiln_rows(60)),
    kiln_rows(60, "holdout"),
    "strength"
  )
  rk <- rank_permutation(st, repeats = 2)
  folder <- tempfile("out")
  dir.create(folder)
  # Files may grow to 1 KB: as on a full disk, a write comes back short.
  saved <- tempfile(fileext = ".rds")
  saveRDS(rk, saved)
  for (ending in c("csv", "json", "xlsx")) {
    file <- file.path(folder, paste0("rk.", ending))
    writeLines("what was there", file)
    script <- tempfile(fileext = ".R")
    writeLines(
      c(
        "library(dreher)", paste0("rk <- readRDS(", deparse(saved), ")"),
        paste0(
          "for (i in 1:6) rk <- { d <- rk; d$model <- paste0(d$model, i); ",
          "bind_rankings(rk, d) }"
        ),
        paste0("write_results(rk, ", deparse(file), ")")
      ),
      script
    )
    status <- system2(
      "sh",
      c(
        "-c",
        shQuote(paste0(
          "trap '' XFSZ; ulimit -f 1; exec ", file.path(R.home("bin"), "Rscript"), " ",
          script
        ))
      ),
      stdout = FALSE,
      stderr = FALSE
    )
    expect_gt(status, 0)
    expect_identical(readLines(file), "what was there")
  }
  expect_setequal(
    list.files(folder, all.files = TRUE, no.. = TRUE), c("rk.csv", "rk.json", "rk.xlsx")
  )
  expect_error(
    write_results(rk, file.path(folder, "nowhere", "rk.csv")),
    "does not exist",
    class = "dreher_error_input"
  )
  expect_error(
    write_results(iris, file.path(folder, "x.csv")), class = "dreher_error_input"
  )
})

test_that("a set file with any field changed reads, or is refused in our words", {
  k <- demo_kiln(missing = FALSE)
  train <- k$train[1:150, ]
  st <- study(
    lm(strength ~ peak_temp + hold_minutes, train),
    k$holdout[1:80, ],
    "strength",
    train = train
  )
  rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0)
  file <- tempfile(fileext = ".json")
  write_predictor_set(choose_set(rd), file)
  whole <- jsonlite::parse_json(paste(readLines(file), collapse = "\n"))
  values <- list(
    NULL, 1, "x", TRUE, list(), list(1, 2), list(a = 1), list("a", "b"), strrep("x", 1e5)
  )
  other <- character()
  for (name in names(whole)) {
    for (value in values) {
      altered <- whole
      altered[name] <- list(value)
      writeLines(
        jsonlite::toJSON(altered, auto_unbox = TRUE, null = "null", digits = NA), file
      )
      got <- tryCatch(
        {
          set <- read_predictor_set(file)
          utils::capture.output(print(set))
          formula(set)
          suppressWarnings(confirm_set(
            set, k$holdout[101:200, ], study = st, again = TRUE
          ))
          "read"
        },
        dreher_error_internal = function(e) paste("internal:", conditionMessage(e)),
        dreher_error = function(e) "refused",
        error = function(e) paste("R's own:", conditionMessage(e))
      )
      if (!got %in% c("read", "refused")) other <- c(other, paste(name, got))
    }
  }
  expect_identical(other, character())
})

test_that("documents and tables cut or changed at random end in our words", {
  lines <- readLines(system.file("extdata", "kiln_holdout.csv.gz", package = "dreher"))
  source <- utils::head(charToRaw(paste(lines, collapse = "\n")), 20000)
  dictionary <- charToRaw(
    "predictor,label,unit,family,cost,use\na,A,mm,f,1,free\nb,B,,f,2,keep\n"
  )
  other <- character()
  for (i in 1:150) {
    set.seed(i)
    for (kind in c("rows", "dictionary")) {
      bytes <- if (kind == "rows") source else dictionary
      at <- sample(length(bytes), 5)
      bytes[at] <- as.raw(sample(c(0:255, 34, 44, 10), 5))
      if (i %% 3 == 0) bytes <- bytes[seq_len(sample(length(bytes), 1))]
      file <- tempfile(fileext = ".csv")
      writeBin(bytes, file)
      got <- tryCatch(
        {
          suppressWarnings(if (kind == "rows") {
            read_rows(file, quiet = TRUE)
          } else {
            read_dictionary(file)
          })
          "read"
        },
        dreher_error = function(e) "refused",
        error = function(e) conditionMessage(e)
      )
      unlink(file)
      if (!got %in% c("read", "refused")) other <- c(other, paste(kind, i, got))
    }
  }
  expect_identical(other, character())
})

test_that("documents of millions of parts are refused before they cost", {
  file <- tempfile(fileext = ".json")
  part <- "{\"a\":[1],\"b\":{\"c\":\"x\"}}"
  writeLines(paste0(
    "{\"learner\":[", paste(rep(part, 9e5), collapse = ","), "]}"
  ), file)
  began <- proc.time()[[3]]
  expect_error(
    read_model(file), "more parts than a model", class = "dreher_error_model"
  )
  expect_lt(proc.time()[[3]] - began, 30)
})

test_that("a damaged Parquet file is called so", {
  rows <- demo_kiln(missing = FALSE)$train
  file <- tempfile(fileext = ".parquet")
  nanoparquet::write_parquet(rows[1:6], file)
  bytes <- readBin(file, "raw", file.size(file))
  for (part in list(bytes[seq_len(length(bytes) / 2)], bytes[seq_len(length(bytes) - 20)])) {
    broken <- tempfile(fileext = ".parquet")
    writeBin(part, broken)
    expect_error(
      read_rows(broken, quiet = TRUE), "cannot be read as Parquet.*damaged or cut short",
      class = "dreher_error_input"
    )
  }
})

test_that("nodes of one id are refused where ids say who is the default child", {
  tree <- function(second) {
    file <- tempfile(fileext = ".pmml")
    writeLines(
      paste0(
        "<PMML version='4.4' ",
        "xmlns='http://www.dmg.org/PMML-4_4'><Header/><DataDictionary>",
        "<DataField name='y' optype='continuous' dataType='double'/>",
        "<DataField name='x' optype='continuous' dataType='double'/></DataDictionary>",
        "<TreeModel functionName='regression' missingValueStrategy='defaultChild' ",
        "splitCharacteristic='binarySplit'><MiningSchema><MiningField name='y' ",
        "usageType='target'/>",
        "<MiningField name='x'/></MiningSchema><Node id='1' score='0' ",
        "defaultChild='3'><True/>", "<Node id='2' score='1'>",
        "<SimplePredicate field='x' operator='lessThan' value='5'/></Node>", "<Node id='",
        second, "' score='2'>",
        "<SimplePredicate field='x' operator='greaterOrEqual' value='5'/></Node>",
        "</Node></TreeModel></PMML>"
      ),
      file
    )
    file
  }
  sound <- read_model(tree("3"))
  expect_identical(
    as.vector(model_predictions(sound, data.frame(x = c(1, 9, NA)))), c(1, 2, 2)
  )
  expect_error(read_model(tree("2")), "several nodes of a tree have the id \"2\"")
})
