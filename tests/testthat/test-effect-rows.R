# Rows like a row, prototypes, the smallest change, the rule around a row.

few <- kiln_rows(300)[c("peak_temp", "hold_minutes", "clay_source", "grog_share", "strength")]
held <- kiln_rows(120, "holdout")[names(few)]
fit <- small_forest(strength ~ ., few)
st <- study(fit, held, "strength", train = few)

test_that("similar rows are the nearest by contributions or by leaves", {
  x <- similar_rows(st, 7)
  phi <- row_values(rank_shapley(st))[, , 1]
  distance <- sqrt(colSums((t(phi) - phi[7, ])^2))
  expect_identical(x$row, setdiff(order(distance), 7L)[1:5])
  expect_equal(x$distance, sort(distance[-7])[1:5], tolerance = 1e-8)
  expect_identical(x$target, held$strength[x$row])
  expect_equal(x$prediction, predict(fit, held[x$row, ])$predictions)
  y <- similar_rows(st, 7, by = "leaves", count = 3)
  ends <- predict(fit, held, type = "terminalNodes")$predictions
  apart <- rowMeans(ends != rep(ends[7, ], each = 120))
  expect_equal(y$distance, sort(apart[-7])[1:3], tolerance = 1e-12)
})

test_that("prototypes are medoids: no exchange of one makes the mean distance smaller", {
  x <- prototype_rows(st, count = 3, which = 1:40)
  phi <- row_values(rank_shapley(st))[1:40, , 1]
  d <- as.matrix(dist(phi))
  cost <- function(m) sum(apply(d[, m], 1, min))
  best <- cost(x$row)
  for (k in 1:3) {
    for (other in setdiff(1:40, x$row)) {
      expect_gte(cost(replace(x$row, k, other)) + 1e-9, best)
    }
  }
  nearest <- x$row[apply(d[, x$row], 1, which.min)]
  expect_equal(x$share, vapply(x$row, function(m) mean(nearest == m), 0))
  expect_equal(sum(x$share), 1)
})

test_that(
  "the smallest change is the smallest of all on the grid, and reaches the threshold",
  {
    now <- predict(fit, held[5, ])$predictions
    aim <- now + 2
    x <- smallest_change(st, 5, aim, most = 1, count = 20)
    expect_true(all(x$prediction >= aim))
    changed <- held[5, ][rep(1, nrow(x)), ]
    for (i in seq_len(nrow(x))) {
      p <- x$predictor[i]
      changed[[p]][i] <- if (is.factor(held[[p]])) x$to[i] else as.numeric(x$to[i])
    }
    expect_equal(predict(fit, changed)$predictions, x$prediction, tolerance = 1e-8)
    # each predictor by itself, over its whole grid
    for (p in c("peak_temp", "grog_share")) {
      grid <- spread_values(few[[p]], 25L)
      d <- held[5, ][rep(1, length(grid)), ]
      d[[p]] <- grid
      ok <- predict(fit, d)$predictions >= aim
      between <- function(v) {
        f <- function(q) (mean(few[[p]] <= q) + mean(few[[p]] < q)) / 2
        abs(f(v) - f(held[[p]][5]))
      }
      sizes <- vapply(grid[ok], between, 0)
      mine <- x$size[x$predictor == p]
      if (any(ok)) {
        expect_equal(mine, min(sizes), tolerance = 1e-8)
      } else {
        expect_length(mine, 0)
      }
    }
    two <- smallest_change(st, 5, aim, count = 20)
    expect_lte(two$total[1], x$total[1])
    expect_false(is.unsorted(two$total))
    held_back <- smallest_change(st, 5, aim, fixed = "peak_temp", count = 20)
    expect_false("peak_temp" %in% held_back$predictor)
    none <- smallest_change(st, 5, 1e6)
    expect_identical(nrow(none), 0L)
    expect_match(paste(format_change(none), collapse = " "), "No change")
  }
)

test_that("sensitive predictors and those to be left out never change", {
  dictionary <- data.frame(
    predictor = c("peak_temp", "grog_share"), sensitive = c(TRUE, FALSE),
    use = c("free", "leave_out")
  )
  s <- study(fit, held, "strength", train = few, dictionary = dictionary)
  x <- smallest_change(s, 5, 30, count = 50)
  expect_false(any(c("peak_temp", "grog_share") %in% x$predictor))
})

test_that("a rule says what the model does where it holds, or is refused", {
  model <- structure(list(1), class = "known")
  step <- function(model, data) {
    10 + 5 * (data$peak_temp > 1180) * (data$clay_source == "river")
  }
  s <- study(
    model,
    held,
    "strength",
    train = few,
    predict_with = step,
    predictors = setdiff(names(few), "strength")
  )
  at <- which(held$peak_temp > 1200 & held$clay_source == "river")[1]
  x <- local_rule(s, at, draws = 4)
  expect_true(x$given)
  expect_setequal(x$conditions$predictor, c("peak_temp", "clay_source"))
  expect_equal(x$conditions$frequency, c(1, 1))
  expect_gt(x$fidelity, 0.95)
  expect_equal(c(x$median, x$prediction), c(15, 15), tolerance = 0.02)
  noise <- study(
    model,
    held,
    "strength",
    train = few,
    predict_with = function(model, data) {
      (data$peak_temp * 7919) %% 13 + (data$grog_share * 104729) %% 17
    },
    predictors = setdiff(names(few), "strength")
  )
  y <- local_rule(noise, 3, draws = 3)
  expect_false(y$given)
  expect_match(paste(format_rule(y), collapse = " "), "No rule is given")
  expect_identical(local_rule(s, at, draws = 4), x)
})

test_that("tightened conditions hold the same rows", {
  expect_identical(tighten(c(">= 10", ">= 12", "< 20")), "from 12 to under 20")
  expect_identical(tighten("< 3"), "under 3")
  expect_identical(tighten(">= 3"), "at least 3")
  expect_identical(tighten("=a,b"), "is a or b")
})

test_that("results print within the page and are drawn without a warning", {
  shown <- list(
    similar_rows(st, 2), prototype_rows(st, which = 1:30), smallest_change(st, 2, 50),
    local_rule(st, 2, draws = 3), compare_slices(st, ~clay_source), contributions(st),
    contributions(st, which = 3), interactions(st), interactions(st, by = "variance"),
    effect_curves(st), effect_curves(st, form = "single"),
    effect_curves(st, predictors = list(c("peak_temp", "clay_source")))
  )
  file <- tempfile(fileext = ".png")
  for (x in shown) {
    lines <- cli::ansi_strip(utils::capture.output(print(x)))
    expect_lte(max(nchar(lines, "width")), 80)
    expect_lt(length(lines), 26)
    expect_no_warning({
      grDevices::png(file, 1280, 800, res = 100)
      plot(x)
      grDevices::dev.off()
    })
    expect_gt(file.size(file), 5000)
    expect_s3_class(summary(x), "data.frame", exact = TRUE)
    csv <- tempfile(fileext = ".csv")
    write_results(x, csv)
    expect_gt(nrow(read.csv(csv)), 0)
  }
  page <- tempfile(fileext = ".html")
  write_report(st, shown[[5]], shown[[6]], shown[[8]], shown[[10]], file = page)
  text <- paste(readLines(page, warn = FALSE), collapse = "\n")
  expect_match(text, "How do the predictors act")
  expect_match(text, "Where do the models err")
})
