# Averaged, single and accumulated curves against their definitions; what their sentences say.

few <- kiln_rows(300)[c(
  "peak_temp", "hold_minutes", "clay_source", "operator", "grog_share", "strength"
)]
held <- kiln_rows(90, "holdout")[names(few)]
fits <- list(
  linear = lm(strength ~ poly(peak_temp, 2) * hold_minutes + clay_source, few),
  forest = small_forest(strength ~ ., few),
  any = rpart::rpart(strength ~ ., few)
)
st <- study(
  fits, held, "strength", train = few,
  predict_with = list(any = function(model, data) predict(model, data))
)
say <- list(
  linear = function(d) predict(fits$linear, d),
  forest = function(d) predict(fits$forest, d)$predictions,
  any = function(d) predict(fits$any, d)
)

test_that(
  "averaged curves equal the definition, with errors over rows: any model, any kind",
  {
    ef <- as.data.frame(effect_curves(
      st,
      predictors = list("peak_temp", "clay_source", c("hold_minutes", "clay_source")),
      points = 7
    ))
    expect_setequal(unique(ef$model), names(fits))
    for (m in names(fits)) {
      part <- ef[ef$model == m, ]
      for (i in seq_len(nrow(part))) {
        d <- held
        number <- part$predictor[i] != "clay_source"
        d[[part$predictor[i]]] <- if (number) {
          part$position[i]
        } else {
          factor(part$at[i], levels(held$clay_source))
        }
        if (!is.na(part$other[i])) {
          d[[part$other[i]]] <- factor(part$other_at[i], levels(held$clay_source))
        }
        p <- say[[m]](d)
        expect_equal(part$effect[i], mean(p), tolerance = 1e-8)
        expect_equal(part$std_error[i], sd(p) / sqrt(90), tolerance = 1e-6)
      }
    }
  }
)

test_that("weights and blocks count, and so do dates, text and TRUE", {
  d <- held
  d$w <- rep(1:3, 30)
  d$b <- rep(1:18, 5)
  w <- study(
    fits$forest,
    d,
    "strength",
    train = cbind(few, w = 1, b = 1:300),
    weights = "w",
    blocks = "b",
    predictors = setdiff(names(few), "strength")
  )
  one <- as.data.frame(effect_curves(w, predictors = "peak_temp", points = 3))[2, ]
  d$peak_temp <- one$position
  p <- say$forest(d)
  expect_equal(one$effect, weighted.mean(p, d$w), tolerance = 1e-10)
  u <- rowsum(d$w * (p - one$effect), d$b)
  expect_equal(one$std_error, sqrt(18 * var(u[, 1])) / sum(d$w), tolerance = 1e-8)
  t <- data.frame(
    day = as.Date("2024-01-01") + 0:79,
    word = rep(c("a", "b"), 40),
    yes = rep(c(TRUE, FALSE), 40)
  )
  t$y <- as.double(t$day) / 10 + (t$word == "b") + rnorm(80) / 10
  s <- study(lm(y ~ day + word + yes, t[1:60, ]), t[61:80, ], "y", train = t[1:60, ])
  ef <- effect_curves(
    s, points = 4, at = list(day = as.Date(c("2024-01-05", "2024-03-30")))
  )
  expect_identical(ef$at[ef$predictor == "day"], c("2024-01-05", "2024-03-30"))
  expect_identical(ef$flag[ef$predictor == "day"], c("", "beyond training range"))
  expect_identical(ef$at[ef$predictor == "yes"], c("FALSE", "TRUE"))
  expect_equal(
    diff(ef$effect[ef$predictor == "day"]) / 85, coef(s$models[[1]]$object)[["day"]]
  )
  expect_no_error(format_effects(ef))
})

test_that("single rows are their own predictions, and may start from one point", {
  ef <- effect_curves(st, models = "forest", predictors = "hold_minutes", form = "single",
                      points = 4)
  expect_identical(length(unique(ef$row)), 50L)
  d <- held[ef$row, ]
  d$hold_minutes <- ef$position
  expect_equal(ef$effect, say$forest(d), tolerance = 1e-10)
  from <- effect_curves(st, models = "forest", predictors = "hold_minutes", form = "single",
                        points = 4, centred = TRUE)
  expect_equal(from$effect[from$position == min(from$position)], rep(0, 50))
  mean_of <- effect_curves(st, models = "forest", predictors = "hold_minutes", centred = TRUE)
  expect_equal(mean_of$effect[1], 0)
  expect_equal(mean_of$std_error[1], 0)
})

test_that("accumulated effects have their closed form, and stay flat beside a twin", {
  set.seed(8)
  n <- 2000
  d <- data.frame(a = rnorm(n))
  d$b <- d$a + rnorm(n) / 5
  d$c <- runif(n)
  d$y <- d$a^2 + d$c
  model <- structure(list(1), class = "known")
  s <- study(
    model, d, "y", predictors = c("a", "b", "c"),
    predict_with = function(model, data) data$a^2 + data$c * (data$b > -9)
  )
  ef <- effect_curves(s, form = "accumulated", points = 40)
  a <- ef[ef$predictor == "a", ]
  truth <- a$position^2 - mean(d$a^2)
  expect_lt(max(abs(a$effect - truth)), 0.05)
  expect_equal(diff(a$effect), diff(a$position^2), tolerance = 1e-10)
  expect_equal(ef$effect[ef$predictor == "b"], rep(0, 40))
  # Levels that follow each other take the differences between neighbours.
  d$f <- factor(sample(c("lo", "mid", "hi"), n, TRUE), c("lo", "mid", "hi"), ordered = TRUE)
  value <- c(lo = 1, mid = 4, hi = 2)
  s <- study(
    model, d, "y", predictors = c("a", "f"),
    predict_with = function(model, data) data$a + value[as.character(data$f)]
  )
  f <- effect_curves(s, predictors = "f", form = "accumulated")
  expect_equal(diff(f$effect), c(3, -2))
  expect_equal(sum(f$effect * table(d$f)), 0, tolerance = 1e-8)
})

test_that("an accumulated curve varies over samples of rows as its interval says", {
  set.seed(3)
  model <- structure(list(1), class = "known")
  f <- function(model, data) data$a * data$b
  inside <- replicate(150, {
    d <- data.frame(a = runif(60), b = runif(60))
    d$y <- 0
    d$y[1] <- 1
    s <- study(model, d, "y", predictors = c("a", "b"), predict_with = f)
    e <- effect_curves(s, predictors = "a", form = "accumulated",
                       at = list(a = c(0.1, 0.5, 0.9)))
    # the curve of infinitely many rows: a / 2, less its mean over rows held within the points
    truth <- c(0.1, 0.5, 0.9) / 2 - (0.1 * 0.1 + 0.8 * 0.5 + 0.1 * 0.9) / 2
    c(e$lower <= truth & e$upper >= truth)
  })
  expect_gt(mean(inside), 0.9)
  expect_lt(mean(inside), 0.99)
})

test_that("averaged curves: 95 % intervals hold the curve of all rows", {
  set.seed(4)
  population <- kiln$untouched
  model <- fits$linear
  at <- c(1150, 1180, 1210)
  truth <- vapply(at, function(v) {
    d <- population
    d$peak_temp <- v
    mean(predict(model, d))
  }, 0)
  inside <- replicate(200, {
    s <- suppressWarnings(study(
      model, population[sample(nrow(population), 60, TRUE), ], "strength", train = few
    ))
    e <- effect_curves(s, predictors = "peak_temp", at = list(peak_temp = at))
    e$lower <= truth & e$upper >= truth
  })
  expect_gt(mean(inside), 0.92)
  expect_lt(mean(inside), 0.98)
})

test_that("refits: the study's own curve, as wide as training again makes it", {
  drawn <- draw_resamples(few, times = 30)
  ef <- effect_curves(st, models = "linear", predictors = "clay_source", resamples = drawn)
  expect_identical(unique(ef$inference), "learner")
  plain <- effect_curves(st, models = "linear", predictors = "clay_source")
  expect_equal(ef$effect, plain$effect)
  by_hand <- vapply(drawn$inside, function(rows) {
    fit <- lm(formula(fits$linear), few[rows, ])
    vapply(ef$at, function(l) {
      d <- held
      d$clay_source <- factor(l, levels(held$clay_source))
      mean(predict(fit, d))
    }, 0)
  }, double(nrow(ef)))
  expect_equal(ef$std_error, unname(apply(by_hand, 1, sd)), tolerance = 1e-8)
  folder <- tempfile("run")
  kept <- effect_curves(
    st, models = "linear", predictors = "clay_source", resamples = drawn, run = folder
  )
  expect_identical(kept, effect_curves(
    st, models = "linear", predictors = "clay_source", resamples = drawn, run = folder
  ))
  expect_error(
    effect_curves(st, resamples = draw_resamples(few, "folds")), "bootstrap",
    class = "dreher_error_input"
  )
})

test_that("families move as one, slices apart, classes by name", {
  dictionary <- data.frame(
    predictor = c("peak_temp", "hold_minutes"), family = "firing", unit = c("deg C", "min")
  )
  s <- study(fits$forest, held, "strength", train = few, dictionary = dictionary)
  joint <- effect_curves(s, groups = "family", points = 5)
  expect_identical(unique(joint$predictor), "firing")
  turn <- cor(few$peak_temp, few$hold_minutes, method = "spearman") < 0
  d <- held
  d$peak_temp <- max(few$peak_temp)
  d$hold_minutes <- if (turn) min(few$hold_minutes) else max(few$hold_minutes)
  expect_equal(joint$effect[5], mean(say$forest(d)), tolerance = 1e-10)
  apart <- effect_curves(s, predictors = "peak_temp", slice = ~clay_source, points = 3)
  one <- held$clay_source == "river"
  d <- held[one, ]
  d$peak_temp <- min(few$peak_temp)
  expect_equal(
    apart$effect[apart$slice == "river"][1], mean(say$forest(d)), tolerance = 1e-10
  )
  c4 <- kiln_rows(200, drop = c("ring_tone", "strength", "tile_id", "batch"))
  fit <- small_forest(defect ~ ., c4, probability = TRUE)
  s <- study(
    fit, kiln_rows(60, "holdout", c("ring_tone", "strength", "tile_id", "batch")), "defect",
    train = c4
  )
  ef <- effect_curves(s, predictors = "peak_temp", points = 3)
  expect_setequal(unique(ef$class), levels(factor(c4$defect)))
  expect_equal(as.vector(tapply(ef$effect, ef$at, sum)), rep(1, 3))
  some <- effect_curves(s, predictors = "peak_temp", points = 3, classes = "crack")
  expect_equal(some$effect, ef$effect[ef$class == "crack"])
})

test_that("limits of probabilities are probabilities, those of their differences at most 1", {
  set.seed(4)
  d <- data.frame(a = rnorm(60), b = rnorm(60))
  d$y <- factor(ifelse(d$a + d$b > 0, "yes", "no"))
  fit <- suppressWarnings(glm(y ~ a + b, binomial, d[1:40, ]))
  s <- study(fit, d[41:60, ], "y", train = d[1:40, ])
  ef <- effect_curves(s)
  expect_true(all(ef$lower >= 0 & ef$upper <= 1))
  expect_gt(max(ef$effect + 2 * ef$std_error), 1)  # they would be beyond
  expect_identical(max(summary(ef)$upper), 1)
  expect_lt(min(effect_curves(s, centred = TRUE)$lower), 0)
})

test_that("shapes: one way, a turn, several, flat ends, steep parts", {
  shape <- function(y, kind = "number") {
    line <- list(
      effect = y, cov = diag(1e-8, length(y)), df = 99, position = seq_along(y), kind = kind,
      flag = rep("", length(y)), spread = 10
    )
    shape_of(line, 0.95)
  }
  expect_identical(shape(1:20 / 2)$direction, "rises")
  expect_identical(shape(20:1 / 2)$direction, "falls")
  expect_identical(shape(c(1:10, 9:1))$direction, "bends")
  expect_identical(shape(c(1:10, 9:1))$turns, c(1L, 10L, 19L))
  expect_identical(shape(c(1:8, 7:1, 2:8))$direction, "mixed")
  expect_identical(shape(1:20 / 2 + 0.3 * (-1)^(1:20))$direction, "rises")
  expect_identical(shape(c(1:10, rep(10, 10)))$flat_from, 10L)
  expect_identical(shape(c(rep(1, 10), 1:10))$flat_to, 11L)
  expect_identical(shape(c(rep(0, 9), 5, rep(10, 10)))$steep, c(9L, 11L))
  expect_identical(shape(rep(3, 5))$direction, "flat")
  expect_identical(shape(1:5 / 100)$direction, "little")
  expect_identical(shape(c(3, 1, 5), "level")$direction, "differs")
  unsure <- list(
    effect = c(1, 2, 1), cov = diag(4, 3), df = 20, position = 1:3, kind = "number",
    flag = rep("", 3), spread = 10
  )
  expect_identical(shape_of(unsure, 0.95)$direction, "not shown")
})

test_that("the sentences say what the kilns' help page says", {
  p <- c("peak_temp", "hold_minutes", "grog_share", "cooling_rate", "operator")
  fit <- ranger::ranger(
    reformulate(p, "strength"), kiln$train[c(p, "strength")], num.trees = 100, seed = 1,
    num.threads = 2
  )
  s <- summary(effect_curves(study(fit, kiln$holdout, "strength", train = kiln$train)))
  of <- function(p) s$direction[s$predictor == p]
  expect_identical(of("peak_temp"), "rises")
  expect_identical(of("grog_share"), "bends")
  expect_identical(of("cooling_rate"), "falls")
  expect_identical(of("operator"), "little")
  expect_match(s$sentence[s$predictor == "grog_share"], "rises .* then falls")
})

test_that("the loans' true shapes are said, and what does nothing is little", {
  d <- na.omit(loans$train)
  fit <- ranger::ranger(
    returned_late ~ ., d, probability = TRUE, num.trees = 100, seed = 1, num.threads = 2,
    min.node.size = 50
  )
  st <- study(fit, na.omit(loans$holdout), "returned_late", train = d, positive = "yes")
  s <- summary(effect_curves(st))
  of <- function(p) s$direction[s$predictor == p]
  expect_identical(of("distance_km"), "rises")
  expect_identical(of("earlier_late"), "rises")
  expect_identical(of("loan_days"), "falls")
  expect_identical(of("reminders"), "differs")
  for (p in c("pages", "genre", "weekday", "desk")) {
    expect_identical(of(p), "little", label = p)
  }
})

test_that("wrong asks are refused in words", {
  expect_error(effect_curves(st, predictors = "tile_id"), "not taken in",
               class = "dreher_error_input")
  expect_error(
    effect_curves(st, predictors = list(c("peak_temp", "operator")), form = "accumulated"),
    "Pairs have", class = "dreher_error_input"
  )
  expect_error(effect_curves(st, at = list(peak_temp = "hot")), "finite numbers",
               class = "dreher_error_input")
  expect_error(effect_curves(st, at = list(clay_source = "moon")), "levels it does not have",
               class = "dreher_error_input")
  expect_error(effect_curves(st, classes = "a"), "is a number", class = "dreher_error_input")
  expect_error(
    effect_curves(st, models = "linear", predictors = "grog_share"), "without effect",
    class = "dreher_error_input"
  )
  tiny <- held
  tiny$clay_source[1:88] <- "river"
  tiny$clay_source[89:90] <- "hill"
  expect_error(
    effect_curves(study(fits$forest, tiny, "strength", train = few), slice = ~clay_source),
    "2 rows; at least 3", class = "dreher_error_input"
  )
  expect_error(
    effect_curves(st, models = "forest", predictors = "peak_temp", form = "accumulated",
                  at = list(peak_temp = c(1000, 1001, 1300))),
    "nothing to accumulate", class = "dreher_error_input"
  )
})

test_that("sums over the points of curves are those of their definition", {
  set.seed(4)
  size <- c(3L, 1L, 20L, 9L)
  n <- 300L
  p <- matrix(rnorm(2 * (n * sum(size) + 7)), ncol = 2)
  from <- 7 + c(0, cumsum(n * size)[-4])
  for (w in list(double(), runif(n))) {
    found <- point_moments(p, 2L, from, n, size, 0.4, w)
    weight <- if (length(w)) w else rep(1, n)
    v <- lapply(1:4, function(u) matrix(p[from[u] + seq_len(n * size[u]), 2], n) - 0.4)
    expect_equal(found$y, unlist(lapply(v, function(x) colSums(weight * x))))
    expect_equal(found$wwy, unlist(lapply(v, function(x) colSums(weight^2 * x))))
    expect_equal(found$yy, unlist(lapply(v, function(x) as.vector(crossprod(weight * x)))))
  }
  expect_error(point_moments(p, 3L, from, n, size, 0, double()), "do not fit")
  expect_error(point_moments(p, 1L, from + 1, n, size, 0, double()), "beyond")
})

test_that("tables of vectors are those of data.frame()", {
  expect_identical(
    table_of(a = 1:3, b = "x", c = c(u = 1.5, v = NA, w = 0)),
    data.frame(a = 1:3, b = "x", c = c(1.5, NA, 0))
  )
})

test_that("of single rows the summary says what they move by, not what they differ by", {
  rows <- kiln_rows(80)[c("peak_temp", "cooling_rate", "operator", "strength")]
  st <- study(lm(strength ~ ., rows), kiln_rows(30, "holdout"), "strength", train = rows)
  e <- effect_curves(st, form = "single", predictors = c("peak_temp", "operator"))
  d <- as.data.frame(e)
  moves <- tapply(d$effect, list(d$row, d$predictor), function(y) diff(range(y)))
  s <- summary(e)
  expect_equal(s$change, unname(apply(moves, 2, median)[s$predictor]))
  expect_true(all(is.na(s$lowest)))
  expect_false(any(grepl("lowest ", format_effects(e)[2])))
  expect_match(
    s$sentence[s$predictor == "peak_temp"], "the median row moves by", fixed = TRUE
  )
})
