# Contributions row by row: the ranking's values, other baselines, words, files.

few <- kiln_rows(250)[c("peak_temp", "hold_minutes", "clay_source", "grog_share", "strength")]
held <- kiln_rows(60, "holdout")[names(few)]
fit <- small_forest(strength ~ ., few)
st <- study(fit, held, "strength", train = few)

test_that("they are the values that the ranking sums up, and add up to the prediction", {
  co <- contributions(st)
  values <- row_values(rank_shapley(st))[, , 1]
  expect_equal(co$contribution, as.vector(t(values)), tolerance = 1e-12)
  expect_identical(co$predictor[1:4], colnames(values))
  sums <- tapply(co$contribution, co$row, sum)
  expect_equal(as.vector(sums + co$baseline[1]), predict(fit, held)$predictions,
               tolerance = 1e-8)
  one <- contributions(st, which = c(7, 3))
  expect_identical(unique(one$row), c(7L, 3L))
  expect_equal(one$contribution[1:4], co$contribution[co$row == 7])
  expect_identical(co$value[1:2], as.character(c(held$peak_temp[1], held$hold_minutes[1])))
  expect_equal(co$below[1], mean(few$peak_temp < held$peak_temp[1]))
  # whole numbers: equal ones are not below
  expect_equal(co$below[2], mean(few$hold_minutes < held$hold_minutes[1]))
  clay <- co[co$row == 4 & co$predictor == "clay_source", ]
  expect_equal(clay$alike, mean(few$clay_source == held$clay_source[4]))
  expect_true(is.na(clay$below))
  # rows without a target, and in blocks as in one
  fresh <- held[setdiff(names(held), "strength")]
  expect_equal(contributions(st, rows = fresh)$contribution, co$contribution)
  parts <- list()
  plan <- plan_contributions(
    st, models = NULL, rows = "holdout", which = NULL, classes = NULL, groups = NULL,
    value = "background", background = 100, against = NULL, scale = "auto", precision = 0.02,
    max_pairs = 500, level = 0.95, seed = 1, threads = 1
  )
  each_contributions(plan, function(part) parts <<- c(parts, list(part$table)), cells = 40)
  expect_equal(do.call(rbind, parts)$contribution, co$contribution)
})

test_that(
  "against another row its prediction is the baseline; against a class twice the even",
  {
    co <- contributions(st, which = 5, against = 9)
    expect_equal(co$baseline[1], predict(fit, held[9, ])$predictions)
    expect_equal(sum(co$contribution), diff(predict(fit, held[c(9, 5), ])$predictions))
    expect_match(paste(format_contributions(co), collapse = " "), "row 9, which has")
    d <- na.omit(
      loans$train[1:200, c("loan_days", "reminders", "distance_km", "returned_late")]
    )
    forest <- small_forest(returned_late ~ ., d, probability = TRUE)
    late <- na.omit(loans$holdout[1:60, names(d)])
    two <- study(forest, late, "returned_late", train = d, positive = "yes")
    yes <- contributions(two, which = 1)
    no <- contributions(two, which = 1, classes = "no")
    expect_equal(no$contribution, -yes$contribution)
    expect_equal(no$baseline, 1 - yes$baseline)
    apart <- contributions(two, which = 1, against = "no")
    expect_equal(apart$contribution, 2 * yes$contribution)
    expect_identical(apart$class[1], "yes rather than no")
    expect_error(
      contributions(two, against = "yes"),
      "explained itself",
      class = "dreher_error_input"
    )
  }
)

test_that("of several classes each has its own, and differences are differences", {
  c4 <- kiln_rows(200, drop = c("ring_tone", "strength", "tile_id", "batch"))
  forest <- small_forest(defect ~ ., c4, probability = TRUE)
  s <- study(
    forest,
    kiln_rows(30, "holdout", c("ring_tone", "strength", "tile_id", "batch")),
    "defect",
    train = c4
  )
  co <- contributions(s, which = 1:3)
  by_class <- split(co$contribution, co$class)
  expect_equal(Reduce(`+`, by_class), rep(0, length(by_class[[1]])), tolerance = 1e-10)
  classes <- names(by_class)
  apart <- contributions(s, which = 1:3, classes = classes[1], against = classes[2])
  expect_equal(apart$contribution, by_class[[1]] - by_class[[2]], tolerance = 1e-12)
})

test_that("sampled values carry their error", {
  own <- function(model, data) predict(fit, data)$predictions
  wide <- cbind(few, as.data.frame(matrix(rnorm(250 * 6), 250)))
  s <- study(
    structure(list(1), class = "mine"), cbind(held, as.data.frame(matrix(rnorm(360), 60))),
    "strength", train = wide, predict_with = own,
    predictors = setdiff(names(wide), "strength")
  )
  co <- contributions(s, which = 1:2, background = 10)
  expect_false(anyNA(co$std_error))
  exact <- contributions(st, which = 1:2, background = s$train[sort(dreher:::with_stream(
    1, c("background", 250L), sample.int(250, 10)
  )), ])
  mine <- co[co$predictor %in% names(few), ]
  z <- (mine$contribution - exact$contribution) / pmax(mine$std_error, 1e-9)
  expect_lt(max(abs(z)), 4.5)
  expect_true(all(abs(co$contribution[!co$predictor %in% names(few)]) < 1e-12))
})

test_that("directions, bins and words say what the rows say", {
  set.seed(2)
  d <- data.frame(up = runif(100), down = runif(100), bend = runif(100, -1, 1))
  d$y <- d$up - d$down + 3 * d$bend^2 + rnorm(100) / 10
  s <- suppressWarnings(study(
    lm(y ~ up + down + I(bend^2), d), d[1:90, ], "y", train = d
  ))
  x <- contributions(s)
  way <- summary(x)
  expect_identical(
    way$direction[match(c("up", "down", "bend"), way$predictor)],
    c("rises", "falls", "bends")
  )
  fifths <- as.matrix(way[c("lowest", "low", "middle", "high", "highest")])
  expect_true(all(diff(fifths[way$predictor == "up", ]) > 0))
  expect_identical(which.min(fifths[way$predictor == "bend", ])[[1]], 3L)
  # One value of ten acts: little correlation of ranks, but one way; not if it acts both ways.
  set.seed(8)
  noise <- rnorm(400)
  rare <- rep(c(0, 0, 0, 0, 0, 0, 0, 0, 0, 1), 40)
  way <- function(x, phi) {
    find_direction(
      list(classes = NULL), list(name = "m"), list(x = "x"), "holdout",
      array(phi, c(400, 1, 1)), data.frame(x = x), rep(1, 400), 0.95
    )[c("correlation", "direction")]
  }
  few <- way(rare, 3 * rare + noise)
  expect_lt(few$correlation, 0.5)
  expect_identical(few$direction, "rises")
  expect_identical(way(rare, noise - 3 * rare)$direction, "falls")
  # Two levels have no order, unless they are said to.
  levels <- factor(rare, labels = c("oak", "ash"))
  expect_identical(way(levels, 3 * rare + noise)$direction, NA_character_)
  expect_identical(way(levels, 3 * rare + noise)$correlation, few$correlation)
  expect_identical(way(as.ordered(levels), 3 * rare + noise)$direction, "rises")
  several <- rep(1:5, 80)
  expect_identical(
    way(several, c(0, 2, 0, 2.5, 2)[several] * rep(c(1, 1, 1, -1), each = 5) + noise / 9)$direction,
    "mixed"
  )
  expect_identical(way(several, abs(several - 3) + noise / 3)$direction, "bends")
  expect_identical(way(several, noise)$direction, "not shown")
  bins <- bin_contributions(c(1:10, NA), c(1:10, 99))
  expect_identical(bins$rows, rep(2L, 5))
  expect_equal(bins$median, c(1.5, 3.5, 5.5, 7.5, 9.5))
  lines <- format_contributions(contributions(s, which = 4))
  whole <- x[x$row == 4, ]
  lead <- whole$predictor[which.max(abs(whole$contribution))]
  expect_match(lines[3], lead)
  expect_match(paste(lines, collapse = " "), "Row 4: ")
})

test_that("files hold what the table holds, whole or not at all", {
  co <- as.data.frame(contributions(st))
  csv <- tempfile(fileext = ".csv")
  expect_identical(write_contributions(st, csv), csv)
  back <- read.csv(csv)
  expect_equal(back$contribution, co$contribution, tolerance = 1e-12)
  db <- tempfile(fileext = ".sqlite")
  write_contributions(st, db, which = 1:5)
  con <- DBI::dbConnect(RSQLite::SQLite(), db)
  on.exit(DBI::dbDisconnect(con))
  expect_equal(
    DBI::dbReadTable(con, "contributions")$contribution, co$contribution[co$row <= 5]
  )
  parts <- tempfile(fileext = ".parquet")
  write_contributions(st, parts, which = 1:5)
  again <- do.call(rbind, lapply(list.files(parts, full.names = TRUE), function(f) {
    as.data.frame(nanoparquet::read_parquet(f))
  }))
  expect_equal(again$contribution, co$contribution[co$row <= 5])
  expect_error(write_contributions(st, parts), "exists already", class = "dreher_error_input")
  before <- list.files(dirname(csv), all.files = TRUE)
  expect_error(write_contributions(st, "x.txt"), "must end in", class = "dreher_error_input")
  expect_error(
    write_contributions(st, file.path(tempdir(), "none", "x.csv")), "does not exist",
    class = "dreher_error_input"
  )
  expect_error(write_contributions(st, csv, colour = 1), "no argument",
               class = "dreher_error_input")
  expect_identical(list.files(dirname(csv), all.files = TRUE), before)
})

test_that("wrong rows and baselines are refused", {
  for (which in list(0, 61, 1.5, "a", NA, integer(), TRUE)) {
    expect_error(contributions(st, which = which), "`which` must be",
                 class = "dreher_error_input")
  }
  expect_error(contributions(st, against = 99), "`against`", class = "dreher_error_input")
  expect_error(contributions(st, against = "late"), "has no classes",
               class = "dreher_error_input")
  expect_error(contributions(st, against = 3, value = "cover"), "not the cover",
               class = "dreher_error_input")
})

test_that("ranks: the mean of theirs for equal values, none for gaps", {
  x <- c(3, NA, 1, 3, -0, 0, NaN, Inf, -Inf, 3)
  expect_equal(mid_ranks(x), rank(x, na.last = "keep"))
  expect_identical(mid_ranks(double()), double())
  set.seed(1)
  y <- round(rnorm(500), 1)
  expect_equal(mid_ranks(y), rank(y))
  many <- c(
    rnorm(2000) * 10^sample(-300:300, 2000, TRUE), round(rnorm(500)), -0, 0, Inf, -Inf, NA
  )
  expect_identical(mid_ranks(many)[-length(many)], rank(many[-length(many)]))
  y[c(3, 70)] <- NA
  z <- y^2 + rnorm(500)
  z[is.na(z)] <- 0
  expect_equal(
    spearman_correlation(mid_ranks(y), z),
    cor(y, z, method = "spearman", use = "complete.obs")
  )
  expect_true(is.na(spearman_correlation(mid_ranks(rep(1, 9)), 1:9)))
})

test_that("quartiles of groups are those of their values", {
  set.seed(3)
  group <- c(sample(c(1:4, 6, NA, 9), 200, TRUE), 7L)
  value <- rnorm(201)
  found <- group_quartiles(group, value, 7L)
  for (g in 1:7) {
    at <- which(group == g)
    expect_equal(
      found[, g],
      if (length(at)) unname(quantile(value[at], c(0.25, 0.5, 0.75))) else rep(NaN, 3)
    )
  }
  expect_error(group_quartiles(1:2, 1, 2L), "do not fit")
})
