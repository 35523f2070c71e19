# The checks by planted faults, by their definitions worked slowly, and by data sets without a
# fault.

# Rows of a made-up trial: two honest predictors, a strong one, and what is added to them.
honest_rows <- function(n = 300, seed = 1) {
  set.seed(seed)
  d <- data.frame(
    strong = stats::rnorm(n), weak = stats::rnorm(n), idle = stats::rnorm(n),
    site = sample(c("north", "south", "west"), n, TRUE)
  )
  d$y <- 3 * d$strong + d$weak + stats::rnorm(n)
  d
}

# A constant that claims to use all columns: the checks ask for no more of a model.
claimed <- function(rows, target = "y", train = seq_len(round(0.7 * nrow(rows))), ...) {
  y <- rows[[target]]
  if (is.character(y)) rows[[target]] <- factor(y)
  say <- function(model, data) {
    if (is.numeric(y)) return(rep(mean(y), nrow(data)))
    share <- table(y) / length(y)
    matrix(share, nrow(data), length(share), TRUE, list(NULL, names(share)))
  }
  suppressWarnings(study(
    list(constant = structure(list(), class = "constant")), rows[-train, ], target,
    train = rows[train, ], predict_with = say, ...
  ))
}

found_in <- function(rows, predictor, ...) {
  ch <- as.data.frame(check_data(claimed(rows, ...)))
  ch[ch$predictor == predictor, c("finding", "severity", "detail", "evidence")]
}

grade <- function(found, finding) found$severity[found$finding == finding]

test_that("every planted fault of the demo data is found", {
  fit <- lm(strength ~ . - defect, kiln$train)
  st <- study(fit, kiln$holdout, "strength", train = kiln$train, dictionary = kiln$dictionary)
  ch <- check_data(st)
  says <- function(p, finding) ch[ch$predictor == p & ch$finding == finding, ]
  expect_identical(says("ring_tone", "leak")$severity, "severe")
  expect_identical(says("tile_id", "identifier")$severity, "severe")
  expect_identical(says("tile_id", "left out")$severity, "doubt")
  expect_match(
    says("water_loss", "derived")$detail, "100 - 100 x `dry_weight` / `wet_weight`",
    fixed = TRUE
  )
  expect_match(says("pyro_right", "correlated")$detail, "pyro_left")
  expect_identical(says("batch", "many levels")$evidence, 48)
  raw <- study(
    rpart::rpart(strength ~ ., kiln_raw$train), kiln_raw$holdout, "strength",
    train = kiln_raw$train
  )
  gaps <- check_data(raw)
  expect_setequal(
    gaps$predictor[gaps$finding == "missing"], c("drying_humidity", "glaze_viscosity")
  )
  # without a word of the dictionary, from the data alone
  tone <- gaps[gaps$predictor == "ring_tone" & gaps$finding == "leak", ]
  expect_match(tone$detail, "consequence of the target")
  g <- glm(returned_late ~ ., binomial, loans$train)
  proxy <- check_data(study(
    g, loans$holdout, "returned_late", train = loans$train, dictionary = loans$dictionary
  ))
  expect_match(proxy$detail[proxy$finding == "stand-in"], "mostly `card_type`", fixed = TRUE)
  expect_true("groups differ" %in% proxy$finding)
  honest <- c("peak_temp", "hold_minutes", "grog_share", "cooling_rate", "clay_source")
  expect_false(any(honest %in% ch$predictor))
})

test_that("leaks of each kind are severe, strong honest predictors none", {
  d <- honest_rows()
  expect_identical(nrow(found_in(d, "strong")), 0L)
  d$mirror <- exp(d$y)
  d$nearly <- d$y + stats::rnorm(300, 0, 0.01)
  d$half <- d$y / 2 - d$weak
  for (p in c("mirror", "nearly")) {
    expect_identical(grade(found_in(d, p), "leak"), "severe")
  }
  sums <- found_in(d[c("strong", "weak", "half", "idle", "y")], "half")
  expect_identical(grade(sums, "leak"), "severe")
  expect_match(
    sums$detail[sums$finding == "leak"], "`y` = 2 x (`weak` + `half`)", fixed = TRUE
  )
  d <- honest_rows()
  d$recorded <- ifelse(d$y > 1, NA, stats::rnorm(300))
  expect_identical(grade(found_in(d, "recorded"), "leak"), "severe")
  after <- honest_rows()
  ch <- check_data(claimed(
    after, dictionary = data.frame(predictor = "idle", known = "after")
  ))
  expect_identical(ch$finding[1], "leak")
  expect_identical(ch$predictor[1], "idle")
})

test_that("classes: other names, stretches and points are leaks, clusters are honest", {
  d <- honest_rows(400)
  level <- d$y
  d$y <- ifelse(level > 0, "high", "low")
  d$level <- level
  d$code <- ifelse(d$y == "high", "A", "B")
  d$point <- (d$y == "high") + stats::rnorm(400, 0, 0.01)
  for (p in c("level", "code", "point")) {
    expect_identical(grade(found_in(d, p), "leak"), "severe", label = p)
  }
  d$sites <- paste0(d$y, sample(9, 400, TRUE))
  expect_identical(grade(found_in(d, "sites"), "leak"), "doubt")
  # setosa lies apart by itself; weight defines a low birth weight
  setosa <- transform(iris, Species = Species == "setosa")
  expect_false(
    "leak" %in% found_in(setosa, "Petal.Length", "Species", sample(150, 100))$finding
  )
  set.seed(1)
  low <- found_in(MASS::birthwt, "bwt", "low", sample(189, 130))
  expect_identical(grade(low, "leak"), "severe")
})

test_that("a consequence of the target is a doubt; an honest cause and its mirrors are not", {
  n <- 800
  set.seed(2)
  a <- matrix(stats::rnorm(5 * n), n)
  y <- rowSums(a) + stats::rnorm(n)
  d <- data.frame(a, y = y, tone = y + stats::rnorm(n, 0, 0.6))
  expect_identical(grade(found_in(d, "tone"), "leak"), "doubt")
  # the same strength, but a cause among others
  cause <- stats::rnorm(n, 0, 4)
  d <- data.frame(a, y = cause + 0.5 * rowSums(a) + stats::rnorm(n, 0, 0.5), cause = cause)
  expect_identical(nrow(found_in(d, "cause")), 0L)
  # others that only mirror the cause
  d <- data.frame(
    y = cause + stats::rnorm(n, 0, 0.8), cause = cause, m1 = cause + stats::rnorm(n, 0, 3),
    m2 = cause + stats::rnorm(n, 0, 3), idle = a[, 1]
  )
  expect_false("leak" %in% found_in(d, "cause")$finding)
})

test_that("the error left around a curve is that of its noise", {
  set.seed(3)
  x <- sort(stats::runif(2000, 0, 6))
  noise <- 0.05
  y <- sin(x) + stats::rnorm(2000, 0, noise)
  expect_equal(error_left(x, y), noise / stats::sd(y), tolerance = 0.1)
  i <- sample(2000)
  expect_identical(error_left(x[i], y[i]), error_left(x, y))
  tied <- rep(1:100, each = 20)
  y <- tied^2 / 100 + stats::rnorm(2000)
  expect_equal(error_left(tied, y) * stats::sd(y), 1, tolerance = 0.1)
})

test_that(
  "identifiers are distinct and mean nothing; measurements, years and times are none",
  {
    d <- honest_rows()
    d$part_id <- sample(1e5, 300)
    d$hits <- round(1000 * d$strong)
    d$spread <- sample(50000, 300)
    d$name <- paste0("n", sample(9999, 300))
    d$row_number <- seq_len(300)
    d$year <- sample(1900:2199, 300)
    d$day <- as.Date("2026-01-01") + seq_len(300)
    expect_identical(grade(found_in(d, "part_id"), "identifier"), "severe")
    expect_identical(grade(found_in(d, "name"), "identifier"), "severe")
    expect_identical(grade(found_in(d, "row_number"), "identifier"), "severe")
    for (p in c("hits", "spread", "year", "day")) {
      expect_false("identifier" %in% found_in(d, p)$finding, label = p)
    }
    # numbers given in the order of time, of a target that drifts with it
    d <- honest_rows()
    d$y <- d$y + seq_len(300) / 20
    d$number <- 5000 + cumsum(sample(2, 300, TRUE))
    expect_true("identifier" %in% found_in(d, "number")$finding)
  }
)

test_that("formulas are found in words of the columns, each relation once", {
  d <- honest_rows()
  set.seed(4)
  d$width <- round(stats::runif(300, 1, 9), 1)
  d$length <- round(stats::runif(300, 2, 30), 1)
  d$area <- round(d$width * d$length, 1)
  d$inches <- round(d$width / 2.54, 3)
  d$speed <- d$length / d$strong
  d$total <- d$weak + d$idle + 2 * d$width
  derived <- as.data.frame(check_data(claimed(d)))
  says <- function(p, finding) {
    derived$detail[derived$predictor == p & derived$finding == finding]
  }
  expect_identical(says("area", "derived"), "`area` = `width` x `length`.")
  expect_match(says("inches", "copy"), "`inches` = 0.39[0-9]* x `width`")
  expect_identical(says("speed", "derived"), "`speed` = `length` / `strong`.")
  expect_match(
    says("total", "derived"), "`total` = `weak` + `idle` + 2 x `width`", fixed = TRUE
  )
  expect_identical(sum(derived$finding %in% c("derived", "copy")), 4L)
})

test_that("what gives what goes one way only", {
  d <- honest_rows()
  d$town <- paste0("t", sample(30, 300, TRUE))
  d$country <- ifelse(as.integer(sub("t", "", d$town)) > 12, "inland", "coast")
  d$country_code <- ifelse(d$country == "coast", 1L, 2L)
  expect_match(found_in(d, "country")$detail, "Each of the 30 levels of `town` gives")
  expect_identical(nrow(found_in(d, "town")[0, ]), 0L)
  expect_false("determined" %in% found_in(d, "town")$finding)
  expect_true("copy" %in% found_in(d, "country_code")$finding)
})

test_that("rows that look like one unit measured again are told, unless blocks are named", {
  set.seed(5)
  d <- honest_rows()
  d$patient <- sample(40, 300, TRUE)
  d$arm <- c("drug", "placebo")[d$patient %% 2 + 1]
  d$site <- paste0("s", d$patient %% 3)
  told <- as.data.frame(check_data(claimed(d)))
  told <- told[told$finding == "clustered rows", ]
  expect_identical(told$predictor, "(rows)")
  expect_identical(told$severity, "severe")
  expect_identical(told$evidence, 40)
  expect_match(told$detail, "`patient` .* 40 values, .* `site` and `arm` never change")
  expect_match(told$todo, "study(blocks = \"patient\")", fixed = TRUE)
  unit <- function(d) {
    find_unit(check_table(claimed(d), setdiff(names(d), "y")))
  }
  # by definition: what is constant in each value
  expect_setequal(unit(d)$constant, c("arm", "site"))
  # called as units are, one such column is enough; under another name it is not
  expect_identical(unit(d[names(d) != "arm"])$constant, "site")
  names(d)[names(d) == "patient"] <- "desk"
  expect_null(unit(d[names(d) != "arm"]))
  # one number of many values is enough, a number cut into stretches is not
  measured <- d[!names(d) %in% c("arm", "site")]
  measured$size <- stats::rnorm(40)[measured$desk]
  expect_identical(unit(measured)$constant, "size")
  cut <- d[!names(d) %in% c("arm", "site")]
  cut$decade <- cut$desk %/% 10
  cut$half <- cut$desk > 20
  expect_null(unit(cut))
  # other names of the same levels are no second column
  months <- d[!names(d) %in% c("arm", "site", "desk")]
  at <- sample(12, 300, TRUE)
  months$month <- month.name[at]
  months$number <- at
  months$quarter <- (at + 2) %/% 3
  expect_null(unit(months))
  # a value changed in one row is none that never changes
  d$arm[1] <- setdiff(c("drug", "placebo"), d$arm[1])
  expect_null(unit(d))
})

test_that("rows: copies within, and training rows among the holdout rows", {
  d <- honest_rows()
  whole <- as.data.frame(check_data(claimed(d)))
  expect_identical(sum(whole$predictor == "(rows)"), 0L)
  d[301:340, ] <- d[1:40, ]
  both <- as.data.frame(check_data(claimed(d, train = 1:240)))
  one <- both[both$finding == "training rows", ]
  expect_identical(one$severity, "severe")
  expect_identical(one$evidence, 40)
  twice <- as.data.frame(check_data(claimed(d, train = 41:340)))
  expect_false("repeated rows" %in% twice$finding)
  # the numbers of rows are those of the definition
  rows <- data.frame(a = c(1, 1, 2, NA, NA), b = c("x", "x", "y", NA, NA))
  again <- data.frame(a = c(2, 1), b = factor(c("y", "z")))
  codes <- row_codes(list(rows, again))
  expect_identical(codes[[1]], c(1L, 1L, 3L, 4L, 4L))
  expect_identical(codes[[2]], c(3L, 7L))
  # numbers to 15 digits: what was written to a file and read again is the same row
  set.seed(5)
  x <- c(
    stats::rnorm(500), exp(stats::rnorm(500, 0, 40)), -1e-310, 1e300, 999999999999999, 0.3,
    1 / 3, 2^53
  )
  written <- as.double(formatC(x, digits = 15, format = "g"))
  both <- row_codes(list(data.frame(x = x), data.frame(x = written)))
  expect_identical(both[[1]], both[[2]])
  expect_identical(anyDuplicated(both[[1]]), 0L)
  near <- row_codes(list(data.frame(a = 0.1 + 0.2), data.frame(a = c(0.3, 0.3000000000001))))
  expect_identical(near, list(1L, c(1L, 3L)))
})

test_that("gaps that tell the target, text of numbers, and rare classes", {
  d <- honest_rows(600)
  d$often <- ifelse(stats::runif(600) < stats::plogis(d$y), NA, d$idle)
  d$seldom <- ifelse(stats::runif(600) < 0.2, NA, d$idle)
  expect_identical(grade(found_in(d, "often"), "missing tells target"), "doubt")
  expect_false("missing tells target" %in% found_in(d, "seldom")$finding)
  d$price <- format(round(stats::runif(600), 3))
  d$post <- sprintf("0%04d", sample(9999, 600, TRUE))
  expect_true("numbers as text" %in% found_in(d, "price")$finding)
  expect_false("numbers as text" %in% found_in(d, "post")$finding)
  d$y <- ifelse(seq_len(600) %% 150 == 1, "rare", ifelse(d$y > 0, "a", "b"))
  target <- found_in(d, "(target)", train = seq(1, 600, 2))
  expect_match(target$detail, "^Class rare has")
})

test_that(
  "severe findings are flagged everywhere, doubts nowhere; unused columns are notes",
  {
    d <- honest_rows()
    d$copy <- d$y^3
    d$later <- d$y + stats::rnorm(300, 0, 0.02)
    fit <- lm(y ~ strong + weak + copy, d[1:200, ])
    st <- study(fit, d[201:300, ], "y", train = d[1:200, ])
    ch <- as.data.frame(check_data(st))
    expect_identical(ch$severity[ch$predictor == "copy"][1], "severe")
    expect_identical(unique(ch$severity[ch$predictor == "later"]), "note")
    rk <- rank_permutation(st)
    expect_identical(rk$flag[rk$predictor == "copy"], "possible leak")
    expect_false(any(grepl("leak", rk$flag[rk$predictor != "copy"])))
    expect_match(
      paste(format_ranking(rk), collapse = " "), "Possible leak: copy. Was it known"
    )
    expect_match(
      score_models(st)$verdict, "No: it uses `copy`, a possible leak.", fixed = TRUE
    )
    rd <- suppressWarnings(reduce_predictors(
    st, folds = 2, repeats = 1, inner_folds = 2, random = 0
  ))
  set <- choose_set(rd)
  expect_match(paste(format_set(set), collapse = " "), "Possible leak: copy. Was it known")
  expect_match(ggplot2::autoplot(set)$labels$caption, "Possible leak: copy")
  tone <- kiln$train
    doubted <- study(
      lm(strength ~ ring_tone + peak_temp, tone), kiln$holdout, "strength", train = tone
    )
    expect_false(any(nzchar(rank_permutation(doubted)$flag)))
  }
)

test_that("data sets without a fault: no severe finding, hardly a doubt", {
  graves <- vapply(1:24, function(i) {
    set.seed(100 + i)
    n <- round(exp(stats::runif(1, log(50), log(1500))))
    x <- as.data.frame(matrix(stats::rnorm(n * 6), n))
    if (i %% 4 == 1) x[] <- lapply(x, exp)
    if (i %% 4 == 2) x[] <- lapply(x, function(v) stats::rpois(n, 5))
    if (i %% 4 == 3) x$kind <- sample(paste0("k", 1:40), n, TRUE)
    x$y <- 8 * x[[1]] + stats::rnorm(n)
    if (i %% 3 == 0) x$y <- ifelse(x$y > stats::median(x$y), "yes", "no")
    ch <- check_data(claimed(x, train = sample(n, round(0.7 * n))))
    # one strong predictor is asked about; that is counted apart
    doubts <- ch$severity == "doubt" & ch$finding != "tells nearly all"
    c(sum(ch$severity == "severe"), sum(doubts))
  }, c(0, 0))
  expect_identical(sum(graves[1, ]), 0)
  expect_lte(sum(graves[2, ] > 0), 2)
})

test_that("columns that the training rows lack are left alone", {
  d <- honest_rows(300)
  train <- d[1:200, ]
  rest <- d[201:300, ]
  rest$extra <- rest$y^3
  st <- study(lm(y ~ strong + weak, train), rest, "y", train = train)
  expect_no_warning(ch <- check_data(st))
  expect_false("extra" %in% ch$predictor)
  expect_identical(detail(ch, "n_checked"), 4L)
})

test_that("a check that fails loses itself only, and a seed gives the same table", {
  d <- honest_rows()
  st <- claimed(d)
  expect_identical(check_data(st), check_data(st))
  home <- asNamespace("dreher")
  sound <- home$check_twins
  put_in <- function(value) {
    unlockBinding("check_twins", home)
    assign("check_twins", value, envir = home)
  }
  on.exit(put_in(sound))
  put_in(function(...) stop("out of order"))
  d$copy <- d$y^3
  expect_warning(
    ch <- check_data(claimed(d)), "The check of correlated columns failed: out of order"
  )
  expect_true("leak" %in% ch$finding)
})
