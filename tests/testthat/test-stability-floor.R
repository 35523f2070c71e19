kiln <- demo_kiln(missing = FALSE)
few <- kiln$train[1:400, ]

test_that("p values against decoys follow their definition", {
  d <- expand.grid(
    predictor = c("a", "b"), decoy = c(FALSE, TRUE), draw = 1:19, stringsAsFactors = FALSE
  )
  set.seed(1)
  d$importance <- ifelse(d$decoy, runif(nrow(d)), ifelse(d$predictor == "a", 2, 0.5))
  d[c("model", "method", "form", "rows")] <- list("m", "permutation", "plain", "holdout")
  out <- compare_with_decoys(d, 0.95)
  most <- tapply(d$importance[d$decoy], d$draw[d$decoy], max)
  own <- d$importance[d$decoy & d$predictor == "b"]
  expect_equal(out$p_value, c(1 / 20, (1 + sum(most >= 0.5)) / 20))
  expect_equal(out$p_own[2], (1 + sum(own >= 0.5)) / 20)
  expect_equal(out$q_own, stats::p.adjust(out$p_own, "BH"))
  expect_identical(out$above, c(TRUE, FALSE))
  expect_equal(out$floor[1], max(most))  # the 19th of 19
})

test_that(
  paste0(
    "signals stand above the floor and noise does not, for formulas with ",
    "interactions, forests and boosted trees"
  ),
  {
    set.seed(2)
    few$noise <- rnorm(400)
    hold <- cbind(kiln$holdout, noise = rnorm(nrow(kiln$holdout)))
    models <- list(
      linear = lm(
        strength ~ peak_temp * hold_minutes + poly(cooling_rate, 2) + noise, few
      ),
      forest = ranger::ranger(
        strength ~ peak_temp + hold_minutes + cooling_rate + noise,
        few,
        num.trees = 30,
        mtry = 2,
        seed = 1
      )
    )
    st <- study(models, hold, "strength", train = few)
    nf <- noise_floor(st, refits = 19)
    d <- as.data.frame(nf)
    expect_true(all(d$above[d$predictor %in% c("peak_temp", "hold_minutes")]))
    expect_false(any(d$above[d$predictor == "noise"]))
    expect_identical(nf$table, noise_floor(st, refits = 19)$table)
    rk <- with_floor(rank_permutation(st), nf)
    expect_true(all(grepl("not above floor", rk$flag[rk$predictor == "noise"])))
    expect_match(
      paste(format_ranking(rk), collapse = " "), "Noise floor of 19 decoy refits"
    )
    built <- ggplot2::ggplot_build(ggplot2::autoplot(rk))
    expect_gt(length(built$data), 5)
    expect_error(noise_floor(st, refits = 5), "at least 19", class = "dreher_error_input")
    other <- study(models$linear, hold[1:50, ], "strength", train = few)
    expect_error(
      with_floor(rank_permutation(other), nf),
      "another study",
      class = "dreher_error_study"
    )
  }
)

test_that("conditional decoys keep what the other predictors say", {
  set.seed(3)
  rows <- data.frame(a = rnorm(400))
  rows$b <- rows$a * 0.9 + rnorm(400, sd = 0.4)
  rows$y <- rows$a + rnorm(400)
  st <- study(lm(y ~ a + b, rows), rows[1:200, ], "y", train = rows)
  strata <- strata_of_all(st, st$models[[1]], 1)
  beside <- function(strata) {
    donors <- with_stream(1, "x", draw_copies(c("a", "b"), 400, strata))
    beside_copies(rows[c("a", "b")], c("a", "b"), donors)
  }
  free <- beside(NULL)
  kept <- beside(strata$train)
  expect_setequal(kept$decoy_2_, rows$b)
  expect_lt(abs(stats::cor(free$decoy_2_, rows$a)), 0.2)
  expect_gt(stats::cor(kept$decoy_2_, rows$a), 0.7)
})

test_that(
  paste0(
    "what the others say of a predictor leaves the row itself out, and is taken ",
    "from the better of two ways"
  ),
  {
    set.seed(11)
    n <- 120
    d <- data.frame(
      a = rnorm(n),
      b = rnorm(n),
      kind = factor(sample(c("red", "grey", "white"), n, TRUE))
    )
    d$line <- d$a - 0.5 * d$b + (d$kind == "red") + rnorm(n, sd = 0.3)
    d$bend <- d$a^2 + rnorm(n, sd = 0.1)
    d$alone <- rnorm(n)
    fresh <- d[1:20, ]
    said <- predict_from_others("line", d, fresh, 1)
    # By definition: as many fits as rows, each without the row it predicts.
    others <- stats::model.matrix(~ a + b + kind + bend + alone, d)
    slow <- vapply(
      seq_len(n),
      function(i) sum(others[i, ] * stats::coef(lm.fit(others[-i, ], d$line[-i]))),
      0
    )
    expect_equal(said$train, slow, tolerance = 1e-8)
    expect_equal(
      said$data,
      as.vector(others[1:20, ] %*% stats::coef(lm.fit(others, d$line))),
      tolerance = 1e-8
    )
    # A bend that no straight line follows is left to the forest.
    x <- as.matrix(d[c("a", "b")])
    colnames(x) <- NULL
    error <- function(way) mean((way$train - d$bend)^2)
    straight <- predict_from_others_linearly(x, d$bend, rep(TRUE, n), x)
    grown <- predict_from_others_by_forest(x, d$bend, rep(TRUE, n), x, 1, "bend")
    expect_lt(error(grown), error(straight) / 2)
    expect_identical(
      predict_from_others("bend", d[c("a", "b", "bend")], fresh, 1)$train,
      predict_from_others_by_forest(
        as.matrix(d[c("a", "b")]),
        d$bend,
        rep(TRUE, n),
        as.matrix(fresh[c("a", "b")]),
        1,
        "bend"
      )$train
    )
    # Nothing to say, nothing said; gaps are no obstacle, in the predictor or beside it.
    d$same <- fresh$same <- 1
    expect_identical(
      predict_from_others("same", d, fresh, 1), list(train = double(n), data = double(20))
    )
    expect_identical(predict_from_others("a", d["a"], fresh, 1)$data, double(20))
    d$line[3:9] <- NA
    d$a[1:5] <- NA
    expect_true(
      all(is.finite(unlist(predict_from_others("line", d, fresh, 1)))) &&
        all(is.finite(unlist(predict_from_others("kind", d, fresh, 1))))
    )
  }
)

test_that(
  paste0(
    "strata of conditional decoys hold ten rows that stand next to each other, on ",
    "training and on fresh rows"
  ),
  {
    set.seed(12)
    rows <- data.frame(a = rnorm(95))
    rows$b <- rows$a + rnorm(95, sd = 0.5)
    rows$y <- rows$a + rnorm(95)
    fresh <- rows[sample(95, 43), ]
    st <- study(lm(y ~ a + b, rows), fresh, "y", train = rows)
    strata <- strata_of_all(st, st$models[[1]], 1)
    expect_identical(strata, strata_of_all(st, st$models[[1]], 1))
    for (on in names(strata)) {
      for (p in c("a", "b")) {
        expect_true(
          all(table(strata[[on]][[p]])[-1] <= 10) && max(table(strata[[on]][[p]])) == 10
        )
        score <- predict_from_others(p, st$train[c("a", "b")], fresh[c("a", "b")], 1)[[on]]
        by <- order(score)
        expect_false(is.unsorted(strata[[on]][[p]][by]))
      }
    }
  }
)

test_that("every reader trains with the copies, and a signal stands above them", {
  set.seed(4)
  d <- data.frame(a = rnorm(300), b = rnorm(300), c = rnorm(300))
  d$y <- 2 * d$a + rnorm(300)
  d$late <- factor(ifelse(d$a + rnorm(300, sd = 0.5) > 0, "yes", "no"))
  d$kind <- cut(
    d$a + rnorm(300, sd = 0.3), c(-Inf, -0.5, 0.5, Inf), labels = c("low", "mid", "high")
  )
  x <- as.matrix(d[c("a", "b", "c")])
  one <- function(target, ...) {
    st <- study(list(...), d, target, train = d, predictors = c("a", "b", "c"))
    t <- as.data.frame(noise_floor(st, refits = 19, repeats = 2))
    expect_identical(tapply(t$above, t$model, sum)[[1]] >= 1, TRUE)
    expect_true(all(t$above[t$predictor == "a"]))
    expect_true(all(t$floor > 0))  # copies that a model never took in would score nothing at all
    t
  }
  forests <- one(
    "y",
    ranger = ranger::ranger(y ~ a + b + c, d, num.trees = 20, seed = 1),
    randomForest = randomForest::randomForest(y ~ a + b + c, d, ntree = 20, mtry = 1),
    xgboost = xgboost::xgb.train(
      list(max_depth = 3, nthread = 1),
      xgboost::xgb.DMatrix(x, label = d$y, nthread = 1),
      nrounds = 8
    ),
    gbm = gbm::gbm(y ~ a + b + c, "gaussian", d, n.trees = 30, interaction.depth = 3)
  )
  expect_setequal(forests$model, c("ranger", "randomForest", "xgboost", "gbm"))
  one("y", lm = lm(y ~ a + I(b^2) + b:c, d), glm = glm(y ~ a + c + offset(b), data = d))
  one("late", logistic = glm(late ~ a + b + c, binomial, d))
  one("kind", several = nnet::multinom(kind ~ a + b + c, d, trace = FALSE))
})

test_that(
  paste0(
    "room is made for copies: formulas keep their terms and offsets, numbers tried ",
    "per split are doubled"
  ),
  {
    d <- data.frame(y = rnorm(40), a = rnorm(40), b = rnorm(40), e = runif(40))
    room <- function(model, predictors) {
      widen_model(model, decoy_columns(predictors), predictors)
    }
    wide <- room(lm(y ~ poly(a, 2) * b + offset(log(e)), d), c("a", "b", "e"))
    labels <- attr(wide$terms, "term.labels")
    expect_setequal(
      labels,
      c(
        "poly(a, 2)", "b", "poly(a, 2):b", "poly(decoy_1_, 2)", "decoy_2_",
        "poly(decoy_1_, 2):decoy_2_"
      )
    )
    expect_match(deparse1(stats::formula(wide$terms)), "offset(log(e))", fixed = TRUE)
    expect_identical(attr(room(lm(y ~ a - 1, d), "a")$terms, "intercept"), 0L)
    expect_equal(
      room(ranger::ranger(y ~ ., d, num.trees = 2, mtry = 2), c("a", "b", "e"))$mtry, 4
    )
    added <- widen_model(lm(y ~ a, d), "b")
    expect_setequal(attr(added$terms, "term.labels"), c("a", "b"))
  }
)

test_that("decoys of a model on encoded columns go through its encoder", {
  d <- kiln$train[1:200, c("peak_temp", "operator", "strength")]
  encode <- function(data) {
    as.data.frame(stats::model.matrix(~ peak_temp + operator, data)[, -1])
  }
  engine <- ranger::ranger(
    y ~ ., cbind(encode(d), y = d$strength), num.trees = 10, seed = 1
  )
  asked <- study(
    engine,
    kiln$holdout,
    "strength",
    train = d,
    predictors = c("peak_temp", "operator"),
    encode = encode
  )
  nf <- noise_floor(asked, refits = 19)
  expect_setequal(nf$table$predictor, c("peak_temp", "operator"))
  expect_true(nf$table$above[nf$table$predictor == "peak_temp"])
  expect_gt(nf$table$floor[1], 0)
})

test_that("a floor's run goes on in its folder, and no other model's does", {
  folder <- tempfile("run")
  st <- study(
    lm(strength ~ peak_temp + grog_share, few), kiln$holdout, "strength", train = few
  )
  first <- noise_floor(st, refits = 19, run = folder)
  expect_identical(noise_floor(st, refits = 19, run = folder), first)
  expect_identical(noise_floor(st, refits = 19), first)
  other <- study(lm(strength ~ peak_temp, few), kiln$holdout, "strength", train = few)
  expect_error(
    noise_floor(other, refits = 19, run = folder),
    "another run",
    class = "dreher_error_study"
  )
})

test_that("each form of impurity meets its own floor, in print too", {
  set.seed(5)
  few$noise <- rnorm(400)
  hold <- cbind(kiln$holdout, noise = rnorm(600))
  st <- study(
    ranger::ranger(
      strength ~ peak_temp + hold_minutes + noise,
      few,
      num.trees = 40,
      keep.inbag = TRUE,
      seed = 1
    ),
    hold,
    "strength",
    train = few
  )
  nf <- noise_floor(st, by = "impurity", refits = 19)
  expect_setequal(nf$table$form, c("in-bag", "covariance"))
  rk <- with_floor(rank_impurity(st), nf)
  for (on in c("in-bag", "covariance")) {
    t <- nf$table[nf$table$form == on, ]
    expect_setequal(
      rk$predictor[rk$form == on & grepl("not above floor", rk$flag)],
      t$predictor[!t$above]
    )
  }
  for (lines in list(format_floor(nf), format_ranking(rk))) {
    expect_lte(length(lines), 25)
    expect_lte(max(nchar(cli::ansi_strip(lines))), 80)
  }
  file <- tempfile(fileext = ".json")
  write_results(nf, file)
  expect_identical(nrow(jsonlite::fromJSON(file)$rows), 6L)
})
