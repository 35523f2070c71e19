h <- kiln_rows(70, "holdout")
d <- kiln_rows(300)
few <- c("peak_temp", "hold_minutes", "clay_source", "cooling_rate", "operator", "pyro_left")

# Everything by loops: base, shuffled losses, influences, two roles, blocks.
slow_ranking <- function(
    st, m, predictors, donors, loss, weight = rep(1, nrow(donors)),
    block = seq_len(nrow(donors))) {
  n <- nrow(donors)
  R <- ncol(donors)
  model <- st$models[[m]]
  weight <- weight / mean(weight)
  base <- loss(predict_model(st, model, st$data))
  t(vapply(
    predictors,
    function(p) {
      after <- vapply(
        seq_len(R),
        function(r) {
          s <- st$data
          s[[p]] <- s[[p]][donors[, r]]
          loss(predict_model(st, model, s))
        },
        double(n)
      )
      value <- sum(weight * after) / (n * R) - mean(weight * base)
      D <- matrix(0, n, R)
      for (i in 1:n) for (r in 1:R) D[i, r] <- weight[i] * (after[i, r] - base[i] - value)
      S <- double(max(block))
      for (i in 1:n) {
        for (r in 1:R) {
          S[block[i]] <- S[block[i]] + D[i, r] / R
          S[block[donors[i, r]]] <- S[block[donors[i, r]]] + D[i, r] / R
        }
      }
      G <- max(block)
      V2 <- G * var(S) / n^2
      q <- sum(D^2) / (n * R)^2
      c(value, sqrt(max(V2 - if (R < 5) q else q / 2, V2 / 4)), qt(0.975, G - 1))
    },
    double(3)
  ))
}

test_that("weights and blocks equal loops over rows, repeats and blocks", {
  h$counts <- rep(c(1, 0, 3, 2, 0.5), 14)
  h$run <- rep(letters[1:14], each = 5)
  d$counts <- 1
  d$run <- rep(1:60, each = 5)
  models <- list(
    forest = small_forest(reformulate(few, "strength"), d),
    linear = lm(reformulate(few, "strength"), d),
    any = lm(strength ~ peak_temp * hold_minutes, d)
  )
  st <- study(
    models,
    h,
    "strength",
    train = d,
    weights = "counts",
    blocks = "run",
    metric = "mse",
    predict_with = list(any = function(model, data) predict(model, data))
  )
  expect_false(any(c("run", "counts") %in% st$predictors))
  rk <- as.data.frame(rank_permutation(st, repeats = 6))
  block <- rep(1:14, each = 5)
  donors <- draw_donors(70, 6, 1, block)
  expect_true(all(block[donors] != block))
  expect_true(all(apply(donors, 2, function(x) setequal(x, 1:70))))
  for (m in names(models)) {
    slow <- slow_ranking(
      st,
      m,
      c("peak_temp", "hold_minutes"),
      donors,
      function(p) (p[, 1] - h$strength)^2,
      h$counts,
      block
    )
    own <- rk[rk$model == m, ][match(rownames(slow), rk$predictor[rk$model == m]), ]
    expect_equal(own$importance, unname(slow[, 1]), tolerance = 1e-10)
    expect_equal(own$std_error, unname(slow[, 2]), tolerance = 1e-10)
    expect_equal(
      own$upper,
      own$importance + slow[, 3] * own$std_error,
      tolerance = 1e-10,
      ignore_attr = TRUE
    )
  }
  # Whole numbers as weights: as if the rows stood there so often.
  score <- function(st) score_models(st)$score[1]
  h$counts <- rep(c(1, 2, 3, 1, 1), 14)
  again <- h[rep(1:70, h$counts), ]
  for (metric in c("rmse", "r2", "mae", "median_ae")) {
    expect_equal(
      score(study(
        models["linear"], h, "strength", train = d, weights = "counts", metric = metric
      )),
      score(study(models["linear"], again, "strength", train = d, metric = metric))
    )
  }
  rows <- loans$holdout[1:80, ]
  rows$counts <- rep(c(1, 3), 40)
  loans$train$counts <- 1
  late <- glm(returned_late ~ loan_days + reminders, binomial, loans$train)
  for (metric in c("brier", "log_loss", "accuracy", "balanced_accuracy", "f1", "mcc", "auc")) {
    expect_equal(
      score(study(
        late, rows, "returned_late", train = loans$train, weights = "counts",
        metric = metric
      )),
      score(study(
        late, rows[rep(1:80, rows$counts), ], "returned_late", metric = metric
      ))
    )
  }
  rk <- rank_permutation(study(
    late, rows, "returned_late", train = loans$train, weights = "counts", metric = "auc"
  ))
  expect_true(all(is.finite(rk$std_error)))
  # Shapley sizes are weighted means, with errors by block.
  sh <- as.data.frame(rank_shapley(study(
    models["linear"], h, "strength", train = d, weights = "counts", blocks = "run"
  )))
  phi <- abs(
    attr(rank_shapley(study(models["linear"], h, "strength", train = d)), "row_values")[[1]][
      , "peak_temp", 1
    ]
  )
  at <- sh$predictor == "peak_temp"
  expect_equal(sh$importance[at], weighted.mean(phi, h$counts))
  by_run <- tapply(
    h$counts / mean(h$counts) * (phi - weighted.mean(phi, h$counts)), h$run, sum
  )
  expect_equal(sh$std_error[at], sqrt(14 * var(as.vector(by_run))) / 70)
  own <- study(
    models["linear"],
    h,
    "strength",
    train = d,
    weights = "counts",
    metric = function(truth, predicted, weights) {
      sum(weights * abs(truth - predicted)) / sum(weights)
    },
    better = "lower"
  )
  expect_equal(
    score(own),
    score(study(models["linear"], again, "strength", train = d, metric = "mae"))
  )
  expect_error(
    study(
      models,
      h,
      "strength",
      weights = "counts",
      metric = function(truth, predicted) 1,
      better = "lower"
    ),
    "argument `weights`",
    class = "dreher_error_input"
  )
  h$counts[3] <- -1
  expect_error(
    study(models["linear"], h, "strength", weights = "counts"),
    "is in row 3",
    class = "dreher_error_input"
  )
  h$run[2] <- NA
  expect_error(
    study(models["linear"], h, "strength", blocks = "run"),
    "missing in row 2",
    class = "dreher_error_input"
  )
  h$run <- c(rep("a", 40), rep("b", 30))
  expect_error(
    rank_permutation(
      study(models["linear"], h, "strength", blocks = "run"), repeats = "all"
    ),
    "pairs rows of the same block",
    class = "dreher_error_study"
  )
  expect_error(
    rank_permutation(study(models["linear"], h, "strength", blocks = "run")),
    "holds 40 of the 70 rows",
    class = "dreher_error_study"
  )
})

test_that("all pairs equal the double loop, for forests, linear models and functions", {
  some <- h[1:30, ]
  some$hold_minutes[4:6] <- some$hold_minutes[1:3]  # donors with the same value
  models <- list(
    forest = small_forest(reformulate(few, "strength"), d),
    tree = rpart::rpart(reformulate(few, "strength"), d),
    linear = lm(
      strength ~ peak_temp * hold_minutes + poly(cooling_rate, 2) + operator, d
    ),
    any = lm(strength ~ peak_temp + clay_source, d)
  )
  st <- study(
    models,
    some,
    "strength",
    train = d,
    metric = "rmse",
    predict_with = list(any = function(model, data) predict(model, data))
  )
  rk <- as.data.frame(rank_permutation(st, repeats = "all"))
  slow <- function(m, p) {
    loss <- vapply(
      1:30,
      function(k) {
        s <- some
        s[[p]] <- s[[p]][rep(k, 30)]
        (predict_model(st, st$models[[m]], s)[, 1] - some$strength)^2
      },
      double(30)
    )
    sqrt(mean(loss[row(loss) != col(loss)])) - sqrt(mean(
      (predict_model(st, st$models[[m]], some)[, 1] - some$strength)^2
    ))
  }
  for (m in names(models)) {
    for (p in intersect(
        c("peak_temp", "hold_minutes", "clay_source", "operator", "cooling_rate"),
        rk$predictor[rk$model == m]
      )) {
      expect_equal(
        rk$importance[rk$model == m & rk$predictor == p], slow(m, p), tolerance = 1e-10
      )
    }
  }
  # All shifts, one by one, have the same errors.
  shifts <- as.data.frame(rank_permutation(st, repeats = 29))
  both <- match(paste(rk$model, rk$predictor), paste(shifts$model, shifts$predictor))
  expect_equal(
    rk[c("importance", "std_error", "lower")],
    shifts[both, c("importance", "std_error", "lower")],
    tolerance = 1e-9,
    ignore_attr = TRUE
  )
  # Classes, missing values, groups.
  gaps <- kiln_raw$holdout[
    1:40, c("peak_temp", "drying_humidity", "cooling_rate", "defect")
  ]
  gaps <- rbind(gaps, gaps[is.na(gaps$drying_humidity), ])
  train <- kiln_raw$train[names(gaps)]
  fit <- xgboost::xgb.train(
    list(objective = "multi:softprob", num_class = 4, max_depth = 4, nthread = 1),
    xgboost::xgb.DMatrix(
      as.matrix(train[1:3]), nthread = 1, label = as.integer(train$defect) - 1
    ),
    nrounds = 3
  )
  sx <- study(fit, gaps, "defect", train = train)
  a <- rank_permutation(
    sx,
    repeats = "all",
    groups = list(one = "drying_humidity", two = c("peak_temp", "cooling_rate"))
  )
  b <- rank_permutation(
    sx,
    repeats = nrow(gaps) - 1,
    groups = list(one = "drying_humidity", two = c("peak_temp", "cooling_rate"))
  )
  expect_equal(
    a$importance, b$importance[match(a$predictor, b$predictor)], tolerance = 1e-9
  )
  expect_true(
    detail(
      rank_permutation(
        study(lm(strength ~ peak_temp, d), h, "strength", train = d), repeats = "all"
      ),
      "settings"
    )$shuffle_noise == 0
  )
  many <- some[rep(1:30, 40), ]
  expect_error(
    rank_permutation(
      study(models["any"], many, "strength", predict_with = function(model, data) {
        predict(model, data)
      }),
      repeats = "all"
    ),
    "up to 1,000 rows",
    class = "dreher_error_study"
  )
})

test_that("out-of-bag rows meet only the trees that have not seen them", {
  fit <- ranger::ranger(
    reformulate(few, "strength"), d[1:60, ], num.trees = 12, keep.inbag = TRUE, seed = 1
  )
  st <- study(fit, h, "strength", train = d[1:60, ], metric = "mse")
  rk <- rank_permutation(st, rows = c("oob", "holdout"), repeats = 4)
  seen <- do.call(cbind, fit$inbag.counts) > 0
  left <- rowSums(!seen) > 0
  rows <- d[1:60, ][left, ]
  oob <- function(data) {
    p <- predict(fit, data, predict.all = TRUE)$predictions
    p[seen[left, ]] <- NA
    rowMeans(p, na.rm = TRUE)
  }
  expect_equal(oob(rows), fit$predictions[left], tolerance = 1e-8)
  donors <- draw_donors(sum(left), 4, 1)
  naive <- mean(vapply(
    1:4,
    function(r) {
      s <- rows
      s$peak_temp <- s$peak_temp[donors[, r]]
      mean((oob(s) - rows$strength)^2)
    },
    0
  )) - mean((oob(rows) - rows$strength)^2)
  expect_equal(
    rk$importance[rk$rows == "oob" & rk$predictor == "peak_temp"],
    naive,
    tolerance = 1e-10
  )
  expect_identical(detail(rk, "settings")$n, c(sum(left), nrow(h)))
  all <- rank_permutation(st, rows = "oob", repeats = "all")
  pairs <- vapply(
    seq_len(sum(left)),
    function(k) {
      s <- rows
      s$peak_temp <- s$peak_temp[k]
      (oob(s) - rows$strength)^2
    },
    double(sum(left))
  )
  expect_equal(
    all$importance[all$predictor == "peak_temp"],
    mean(pairs[row(pairs) != col(pairs)]) - mean((oob(rows) - rows$strength)^2),
    tolerance = 1e-10
  )
  expect_error(
    rank_permutation(study(fit, h, "strength", train = d[1:50, ]), rows = "oob"),
    "was trained on 60",
    class = "dreher_error_study"
  )
  expect_error(
    rank_permutation(study(lm(strength ~ ., d), h, "strength", train = d), rows = "oob"),
    "which rows each of its trees",
    class = "dreher_error_model"
  )
})

test_that(
  "several sets of rows: the gap to training rows, data sets by name, a part of the rows",
  {
    fit <- ranger::ranger(
      reformulate(few, "strength"), d, num.trees = 30, min.node.size = 1, seed = 1
    )
    st <- study(fit, h, "strength", train = d)
    rk <- rank_permutation(st, rows = c("holdout", "train"))
    gap <- detail(rk, "gap")
    at <- match(gap$predictor, rk$predictor[rk$rows == "holdout"])
    expect_equal(
      gap$gap, rk$importance[rk$rows == "train"] - rk$importance[rk$rows == "holdout"][at]
    )
    expect_output(print(rk), "training rows")
    named <- rank_permutation(
      st, rows = list(early = h[1:40, ], late = h[41:70, ]), repeats = 5
    )
    expect_setequal(named$rows, c("early", "late"))
    expect_equal(
      named$importance[named$rows == "late"],
      rank_permutation(st, rows = h[41:70, ], repeats = 5)$importance
    )
    some <- rank_permutation(st, max_rows = 50)
    expect_identical(detail(some, "settings")$n, 50L)
    expect_output(print(some), "50 of 70 rows")
    expect_error(
      rank_permutation(st, rows = list(h)),
      "a name of its own",
      class = "dreher_error_input"
    )
  }
)

test_that("terms of a linear model are exchanged as predictions of shuffled rows are", {
  formula <- strength ~
    peak_temp * hold_minutes + clay_source + poly(cooling_rate, 2) + pyro_left +
      offset(drying_hours / 10)
  late <- glm(
    returned_late ~ loan_days + reminders + member_years:desk, binomial, loans$train
  )
  for (st in list(
      study(lm(formula, d), h, "strength", train = d),
      study(late, loans$holdout[1:60, ], "returned_late", train = loans$train)
    )) {
    m <- st$models[[1]]
    open <- open_shuffle(st, m, model_rows(st, m, st$data))
    units <- shuffle_units(st, m, NULL)
    units$pair <- m$inputs$predictors[1:2]
    apart <- which(!vapply(units, function(u) is.null(separate_terms(m, u)), NA))
    expect_gt(length(apart), 1)
    expect_lt(length(apart), length(units))
    for (own in c(FALSE, TRUE)) {
      donors <- replicate(
        length(units), draw_donors(open$n, 4, if (own) sample.int(99, 1) else 1)
      )
      design <- list(donors = if (own) donors else donors[, , 1], own = own, repeats = 4L)
      gather <- function(way) {
        out <- list()
        way(open, units, design, function(piece) {
          p <- array(piece$p, c(open$n, 4, length(piece$units), ncol(piece$p)))
          expect_equal(unname(piece$base), unname(open$base), tolerance = 1e-12)
          for (u in seq_along(piece$units)) {
            out[[names(units)[piece$units[u]]]] <<- p[, , u, ]
          }
        }, which = apart)
        out
      }
      expect_equal(
        gather(shuffle_pieces.shuffle_linear), gather(shuffle_pieces.shuffle_any),
        tolerance = 1e-10
      )
    }
  }
})

# As if these tests were the prompt.
at_prompt <- function(code) {
  own <- get("asked_at_prompt", asNamespace("dreher"))
  utils::assignInNamespace("asked_at_prompt", function(verb) TRUE, "dreher")
  tryCatch(code, finally = utils::assignInNamespace("asked_at_prompt", own, "dreher"))
}

test_that(
  "many shuffles go into one call, and at the prompt an interrupt leaves what is done",
  {
    calls <- 0
    predict_slowly <- function(model, data) {
      calls <<- calls + 1
      2 * data$peak_temp + data$hold_minutes
    }
    st <- study(1, h, "strength", predict_with = predict_slowly, predictors = few)
    calls <- 0
    st$flags <- list(
      predictors = stats::setNames(rep("", 6), few), models = c(numeric = "")
    )
    whole <- rank_permutation(st)
    expect_lte(calls, 2)
    open <- open_shuffle(st, st$models[[1]], model_rows(st, st$models[[1]], h))
    design <- list(donors = draw_donors(70, 10, 1), own = FALSE, repeats = 10L)
    units <- stats::setNames(as.list(few), few)
    by_parts <- function(most) {
      met <- list()
      shuffle_pieces.shuffle_any(
        open,
        units,
        design,
        function(piece) met[[length(met) + 1]] <<- piece,
        most_rows = most
      )
      met
    }
    for (most in c(70, 700, 1500)) {
      met <- by_parts(most)
      expect_identical(
        sort(unlist(lapply(met, function(m) outer(m$repeats, 100 * m$units, "+")))),
        sort(as.vector(outer(1:10, 100 * 1:6, "+")))
      )
    }
    expect_identical(length(by_parts(1500)), 3L)
    # The user stops in the middle.
    stop_after <- function(model, data) {
      calls <<- calls + 1
      if (calls > 3) rlang::interrupt()
      2 * data$peak_temp + data$hold_minutes
    }
    many <- h[rep(1:70, 60), ]
    calls <- -100
    slow <- study(1, many, "strength", predict_with = stop_after, predictors = few)
    slow$flags <- st$flags
    calls <- 0
    expect_warning(
      part <- at_prompt(rank_permutation(slow)),
      "4 of 6 predictors of model \"numeric\" are ranked",
      class = "dreher_warning_stopped"
    )
    expect_setequal(part$predictor, few[1:4])
    expect_match(ranking_details(part)$stopped, "^Stopped by the user: 4 of 6 predictors")
    expect_output(print(part), "Stopped by the user: 4 of 6 predictors")
    # Anywhere else it ends what is going on.
    calls <- 0
    expect_identical(
      tryCatch(rank_permutation(slow), interrupt = function(e) "ended"), "ended"
    )
    # With nothing done the interrupt goes on; with one model done, that model stays.
    calls <- 2
    expect_true(tryCatch(
      {
        rank_permutation(slow)
        FALSE
      },
      interrupt = function(e) TRUE
    ))
    calls <- -100
    two <- study(
      list(quick = lm(strength ~ ., d), slow = 1),
      h,
      "strength",
      train = d,
      predict_with = list(slow = stop_after)
    )
    two$flags <- list(
      predictors = stats::setNames(rep("", length(two$predictors)), two$predictors),
      models = c(quick = "", slow = "")
    )
    for (repeats in list(5, "all")) {
      calls <- 2
      expect_warning(
        part <- at_prompt(rank_permutation(two, repeats = repeats)),
        "model \"slow\" is not ranked",
        class = "dreher_warning_stopped"
      )
      expect_identical(unique(part$model), "quick")
    }
  }
)

test_that("predictors that go together are flagged when shuffled one at a time", {
  st <- study(lm(strength ~ ., d), h, "strength", train = d)
  twins <- detail(rank_permutation(st), "twins")
  expect_true(all(c("pyro_left", "pyro_right") %in% unlist(twins[1, 1:2])))
  rk <- rank_permutation(st)
  expect_match(rk$flag[rk$predictor == "pyro_left"], "correlated")
  expect_output(print(rk), "strongly correlated")
  expect_null(detail(rank_permutation(st, shuffle = "conditional"), "twins"))
})

test_that(
  "every reader's shuffles and all pairs equal loops over the model's own predictions",
  {
    rows <- h[1:25, c("peak_temp", "hold_minutes", "grog_share", "strength")]
    d <- d[names(rows)]
    x <- as.matrix(d[1:3])
    set.seed(2)
    models <- list(
      ranger = small_forest(strength ~ ., d, trees = 4),
      randomForest = randomForest::randomForest(strength ~ ., d, ntree = 4),
      rpart = rpart::rpart(strength ~ ., d),
      gbm = suppressWarnings(gbm::gbm(
        strength ~ ., "gaussian", d, n.trees = 5, interaction.depth = 3
      )),
      lm = lm(strength ~ ., d),
      glmnet = glmnet::glmnet(x, d$strength, lambda = 0.1),
      xgboost = xgboost::xgb.train(
        list(max_depth = 3, nthread = 1),
        xgboost::xgb.DMatrix(x, label = d$strength, nthread = 1),
        nrounds = 4
      ),
      lightgbm = lightgbm::lgb.train(
        list(objective = "regression", num_threads = 1, verbose = -1),
        lightgbm::lgb.Dataset(x, label = d$strength),
        nrounds = 4,
        verbose = -1
      )
    )
    st <- study(models, rows, "strength", train = d, metric = "mae")
    some <- as.data.frame(rank_permutation(st, repeats = 3))
    all <- as.data.frame(rank_permutation(st, repeats = "all"))
    donors <- draw_donors(25, 3, 1)
    for (m in names(models)) {
      for (p in c("peak_temp", "grog_share")) {
        own <- function(data) {
          as.vector(model_predictions(
            st$models[[m]]$object, align_rows(data, st$models[[m]]$inputs, m)
          ))
        }
        loss <- function(data) abs(own(data) - rows$strength)
        base <- loss(rows)
        after <- vapply(
          1:3,
          function(r) {
            s <- rows
            s[[p]] <- rows[[p]][donors[, r]]
            loss(s)
          },
          double(25)
        )
        pairs <- vapply(
          1:25,
          function(k) {
            s <- rows
            s[[p]] <- rows[[p]][k]
            loss(s)
          },
          double(25)
        )
        tolerance <- if (m == "xgboost") 1e-5 else 1e-10  # single precision
        expect_equal(
          some$importance[some$model == m & some$predictor == p],
          mean(after) - mean(base),
          tolerance = tolerance
        )
        expect_equal(
          all$importance[all$model == m & all$predictor == p],
          mean(pairs[row(pairs) != col(pairs)]) - mean(base),
          tolerance = tolerance
        )
      }
    }
  }
)

test_that("yardstick's metric functions are taken as they are", {
  fit <- lm(strength ~ ., d)
  a <- rank_permutation(
    study(fit, h, "strength", train = d, metric = yardstick::mae), repeats = 3
  )
  b <- rank_permutation(study(fit, h, "strength", train = d, metric = "mae"), repeats = 3)
  expect_equal(
    a$importance, b$importance[match(a$predictor, b$predictor)], tolerance = 1e-10
  )
  late <- glm(returned_late ~ loan_days + reminders, binomial, loans$train)
  for (positive in c("yes", "no")) {
    score <- function(metric) {
      score_models(study(
        late,
        loans$holdout[1:200, ],
        "returned_late",
        metric = metric,
        positive = positive
      ))$score
    }
    expect_equal(score(yardstick::roc_auc), score("auc"), tolerance = 1e-10)
    expect_equal(score(yardstick::accuracy), score("accuracy"))
  }
  h$counts <- rep(1:2, 35)
  d$counts <- 1
  expect_equal(
    score_models(study(fit, h, "strength", weights = "counts", metric = yardstick::rmse))$score,
    score_models(study(fit, h, "strength", weights = "counts"))$score
  )
  expect_error(
    study(fit, h, "strength", metric = yardstick::accuracy),
    "does not fit",
    class = "dreher_error_input"
  )
  expect_error(
    study(fit, h, "strength", metric = yardstick::mae, better = "higher"),
    "lower is better",
    class = "dreher_error_input"
  )
})

test_that(
  paste0(
    "losses are summed up as the definition has it: by receiver and donor, in pieces, ",
    "weighted, with donors of one's own"
  ),
  {
    set.seed(21)
    n <- 30
    R <- 4
    units <- 3
    truth <- rnorm(n)
    before <- runif(n)
    weight <- runif(n, 0.5, 2)
    p <- array(rnorm(n * R * units), c(n, R, units))
    shared <- draw_donors(n, R, 1)
    own <- array(
      vapply(1:units, function(u) draw_donors(n, R, u), matrix(0L, n, R)), c(n, R, units)
    )
    for (power in 0:2) {
      for (apart in c(FALSE, TRUE)) {
        given <- taken <- matrix(0, n, units)
        square <- double(units)
        for (u in 1:units) {
          for (r in 1:R) {
            for (i in 1:n) {
              loss <- if (power == 0) p[i, r, u] else abs(p[i, r, u] - truth[i])^power
              change <- (loss - before[i]) * weight[i]
              k <- if (apart) own[i, r, u] else shared[i, r]
              given[i, u] <- given[i, u] + change
              taken[k, u] <- taken[k, u] + change
              square[u] <- square[u] + change^2
            }
          }
        }
        tally <- tally_start(n, units)
        # In pieces: units 2 and 3 apart from 1, rows and repeats in parts, as memory has it.
        for (us in list(2:3, 1L)) {
          for (rs in list(1L, 2:4)) {
            for (rows in list(1:11, 12:30)) {
              donors <- if (apart) own[rows, rs, us] else shared[rows, rs]
              tally_add(
                tally, p[rows, rs, us], power, rows[1], length(rs), us, truth, before,
                weight, donors, apart, 2L
              )
            }
          }
        }
        for (u in 1:units) {
          expect_equal(
            tally_read(tally, u, 4L),
            list(given = given[, u] / 4, taken = taken[, u] / 4, square = square[u]),
            tolerance = 1e-12
          )
        }
      }
    }
    e <- rnorm(n)
    expect_equal(
      charge_donors(e, shared),
      vapply(1:n, function(k) sum(e[which(shared == k, arr.ind = TRUE)[, 1]]) / R, 0),
      tolerance = 1e-12
    )
    tally <- tally_start(n, units)
    expect_error(
      tally_add(
        tally, p[1:5, 1, 1], 2L, 28L, 1L, 1L, truth, before, double(), shared[1:5, 1],
        FALSE, 1L
      ),
      "do not fit"
    )
    expect_error(
      tally_add(
        tally, p[, 1, 1], 2L, 1L, 1L, 1L, truth, before, double(), shared[, 1] + 30L,
        FALSE, 1L
      ),
      "out of range"
    )
    expect_error(charge_donors(e, shared + 30L), "out of range")
  }
)

test_that(
  paste0(
    "sums of two roles follow their definition: parts that repeat in every shuffle, ",
    "and strata"
  ),
  {
    set.seed(21)
    n <- 24
    R <- 3
    donors <- draw_donors(n, R, 5)
    change <- matrix(rnorm(n * R), n)
    basis <- cbind(rnorm(n), 1, rnorm(n))
    by <- c(0.7, -0.2, 0.4)
    slope <- 1.3
    D <- slope * change + as.vector(basis %*% by)  # the same part e in all repeats
    charge <- function(x) vapply(seq_len(n), function(k) sum(x[donors == k]) / R, 0)
    repeated <- function(v) matrix(v, n, R)
    passed <- apply(basis, 2, function(b) charge(repeated(b)))
    stratum <- rep(1:4, length.out = n)
    for (within in c(FALSE, TRUE)) {
      found <- two_way_sums(
        rowMeans(change),
        charge(change),
        sum(change^2),
        R,
        slope,
        basis,
        passed,
        by,
        if (within) stratum else integer()
      )
      given <- rowMeans(D)
      taken <- charge(D)
      if (within) taken <- taken - stats::ave(taken, stratum)
      expect_equal(
        found,
        list(
          units = given + taken,
          var_units = stats::var(given + taken),
          var_given = stats::var(given),
          var_taken = stats::var(taken),
          square = sum(D^2)
        ),
        tolerance = 1e-12
      )
    }
    expect_error(
      two_way_sums(
        rowMeans(change), charge(change)[-1], 1, R, slope, basis, passed, by, integer()
      ),
      "do not fit"
    )
    expect_error(
      two_way_sums(
        rowMeans(change), charge(change), 1, R, slope, basis, passed[, 1:2], by, integer()
      ),
      "do not fit"
    )
    expect_error(
      two_way_sums(
        rowMeans(change), charge(change), 1, R, slope, basis, passed, by, stratum - 1L
      ),
      "counted from 1"
    )
  }
)

test_that("a table's values become their places among the column's distinct values", {
  set.seed(22)
  f <- random_flat_forest(c("a", "b", "c"), list(), trees = 2, depth = 3)
  for (n in c(1, 2, 40, 3000)) {
    x <- cbind(
      a = rnorm(n),
      b = sample(
        c(
          -2.5, -0, 0, 1e-310, Inf, -Inf, .Machine$double.xmax, 1 + .Machine$double.eps, 1
        ),
        n,
        TRUE
      ),
      c = round(rcauchy(n), 1) * 10^sample(-8:8, n, TRUE)
    )
    x[sample(length(x), length(x) %/% 10)] <- NA
    prepared <- shuffle_prepare(f, x, 2L)
    for (j in 1:3) {
      known <- sort(unique(x[, j]))  # missing values stand last
      expect_identical(
        shuffle_ranks(prepared, j),
        ifelse(is.na(unname(x[, j])), length(known), match(unname(x[, j]), known) - 1L)
      )
    }
  }
})

test_that("the walk's own outputs are the predictions, wherever the rows are cut", {
  set.seed(23)
  f <- random_flat_forest(c("a", "b", "c"), list(), trees = 9, depth = 7, outputs = 2)
  x <- matrix(rnorm(200 * 3), 200, dimnames = list(NULL, c("a", "b", "c")))
  donors <- draw_donors(200, 2, 1)
  none <- matrix(0L, 0, 0)
  whole <- shuffle_rows(
    shuffle_prepare(f, x, 1L), 1:3, 3L, donors, 2L, FALSE, none, double(), 1L, 200L, 2L
  )
  expect_equal(whole$before, forest_predict(f, x, 1L), tolerance = 1e-13)
  # A predictor that no tree asks changes nothing, to the bit.
  g <- f
  g$n_columns <- 4L
  g$columns <- c(f$columns, "idle")
  wide <- cbind(x, idle = rnorm(200))
  idle <- shuffle_rows(
    shuffle_prepare(g, wide, 1L),
    c(0L, 0L, 0L, 1L),
    1L,
    donors,
    2L,
    FALSE,
    none,
    double(),
    1L,
    200L,
    1L
  )
  for (r in 1:2) expect_identical(idle$after[, r, 1, ], idle$before)
  expect_identical(idle$before, whole$before)
  for (cut in list(1:1, 1:17, 16:48, 199:200)) {
    part <- shuffle_rows(
      shuffle_prepare(f, x, 1L),
      1:3,
      3L,
      donors[cut, , drop = FALSE],
      2L,
      FALSE,
      none,
      double(),
      cut[1],
      cut[length(cut)],
      1L
    )
    expect_identical(
      part,
      list(
        before = whole$before[cut, , drop = FALSE],
        after = whole$after[cut, , , , drop = FALSE]
      )
    )
  }
})
