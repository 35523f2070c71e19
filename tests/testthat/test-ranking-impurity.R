test_that("a tree worked by hand", {
  # Ten rows: y = 0 for x <= 5 but for the last of them, then 10 or 20 by z.
  d <- data.frame(
    x = 1:10, z = rep(c("a", "b"), 5), y = c(0, 0, 0, 0, 5, 10, 20, 10, 20, 10)
  )
  f <- flat_forest(
    root = 0L,
    weight = 1,
    column = c(0L, -1L, 1L, -1L, -1L),
    threshold = c(5, 0, 0, 0, 0),
    left = c(1L, 0L, 3L, 0L, 0L),
    right = c(2L, 0L, 4L, 0L, 0L),
    missing = c(1L, 0L, 3L, 0L, 0L),
    value = matrix(0, 1, 5),
    columns = c("x", "z"),
    levels = list(z = c("a", "b")),
    set_from = c(-1L, -1L, 0L, -1L, -1L),
    set_size = c(0L, 0L, 2L, 0L, 0L),
    set_side = c(-1L, 1L)
  )
  got <- forest_impurity(
    f, encode_for_forest(f, d), matrix(d$y), matrix(0L, 0, 0), 0L, matrix(0, 0, 2),
    matrix(0, 0, 1), 1L
  )$classical[
    , 1, 1
  ]
  # By hand: root mean 7.5, children 1 and 14; right child by z: a 20 (2 rows), b 10 (3 rows).
  root <- mean((d$y - 7.5)^2)
  left <- mean((d$y[1:5] - 1)^2)
  right <- mean((d$y[6:10] - 14)^2)
  expect_equal(
    got, c(root - 0.5 * left - 0.5 * right, 0.5 * (right - 0)), tolerance = 1e-12
  )
})

test_that("a ranger forest with in-bag counts earns what ranger stored", {
  d <- kiln_rows(400)
  d$defect <- kiln$train$defect[1:400]
  compare <- function(target, ..., trees = 25) {
    rows <- d[setdiff(names(d), setdiff(c("strength", "defect"), target))]
    fit <- ranger::ranger(
      dependent.variable.name = target,
      data = rows,
      num.trees = trees,
      importance = "impurity",
      keep.inbag = TRUE,
      seed = 2,
      ...
    )
    rk <- rank_impurity(study(fit, rows[1:50, ], target, train = rows), rows = "train")
    rk <- rk[is.na(rk$class), ]
    stored <- fit$variable.importance
    counted <- sum(fit$inbag.counts[[1]])
    expect_equal(
      rk$importance[match(names(stored), rk$predictor)] * counted,
      unname(stored),
      tolerance = 1e-8
    )
    expect_identical(unique(paste(rk$rows, rk$form)), "train in-bag")
  }
  for (coding in c("ignore", "order", "partition")) {
    compare("strength", respect.unordered.factors = coding)
  }
  compare("strength", replace = FALSE)
  compare("defect", probability = TRUE)
  compare("defect")
})

test_that("the sum over predictors is the impurity of the root less that of the leaves", {
  d <- kiln_rows(300)
  fit <- small_forest(strength ~ ., d, trees = 1, keep.inbag = TRUE)
  st <- study(fit, d, "strength", train = d)
  w <- fit$inbag.counts[[1]]
  f <- st$models[[1]]$forest
  ends <- forest_ends(f, encode_for_forest(f, d), 1L)[, 1]
  spread <- function(i) sum(w[i] * (d$strength[i] - weighted.mean(d$strength[i], w[i]))^2)
  inside <- sum(vapply(split(seq_along(w)[w > 0], ends[w > 0]), spread, 0))
  expect_equal(
    sum(rank_impurity(st, rows = "train")$importance),
    (spread(which(w > 0)) - inside) / sum(w),
    tolerance = 1e-10
  )
})

test_that("surrogate splits route rows and earn nothing", {
  d <- kiln_rows(400)
  set.seed(1)
  d$peak_temp[sample(400, 120)] <- NA
  fit <- rpart::rpart(strength ~ ., d)
  st <- study(fit, d, "strength", train = d)
  rk <- rank_impurity(st)
  split_on <- setdiff(as.character(fit$frame$var), "<leaf>")
  expect_setequal(rk$predictor[rk$importance > 0], split_on)
  f <- st$models[[1]]$forest
  ends <- f$owner[forest_ends(f, encode_for_forest(f, d), 1L)[, 1] + 1]
  inside <- sum(tapply(d$strength, ends, function(y) sum((y - mean(y))^2)))
  expect_equal(
    sum(rk$importance),
    (sum((d$strength - mean(d$strength))^2) - inside) / 400,
    tolerance = 1e-10
  )
})

test_that("other training rows than those of the in-bag counts are refused", {
  d <- kiln_rows(300)
  fit <- small_forest(strength ~ ., d, keep.inbag = TRUE)
  expect_error(
    rank_impurity(study(fit, d, "strength", train = d[1:200, ])),
    "200 rows.*trained on 300",
    class = "dreher_error_study"
  )
  expect_error(rank_impurity(study(fit, d, "strength")), "needs the training rows")
})

# Both held-out forms by their definitions, one row and one node at a time.
slow_held_out <- function(f, x, y, count, held_x, held_y, held_in) {
  path <- function(row, t) {
    node <- f$root[t] + 1
    out <- node
    while (f$column[node] >= 0) {
      v <- row[f$column[node] + 1]
      node <- (if (v <= f$threshold[node]) f$left[node] else f$right[node]) + 1
      out <- c(out, node)
    }
    out
  }
  covariance <- gain <- matrix(0, length(f$columns), length(f$root))
  for (t in seq_along(f$root)) {
    sums <- weight <- list()
    for (i in which(count[, t] > 0)) {
      for (node in path(x[i, ], t)) {
        key <- as.character(node)
        weight[[key]] <- sum(weight[[key]], count[i, t])
        sums[[key]] <- (if (is.null(sums[[key]])) 0 else sums[[key]]) +
          count[i, t] * y[i, ]
      }
    }
    mu <- Map(`/`, sums, weight)
    O <- which(held_in(t))
    root <- mu[[as.character(f$root[t] + 1)]]
    for (i in O) {
      nodes <- path(held_x[i, ], t)
      for (s in seq_along(nodes)[-1]) {
        here <- mu[[as.character(nodes[s - 1])]]
        there <- mu[[as.character(nodes[s])]]
        j <- f$column[nodes[s - 1]] + 1
        covariance[j, t] <- covariance[j, t] + sum(
          (there - here) * (held_y[i, ] - root)
        ) / length(O)
        gain[j, t] <- gain[j, t] + (sum((held_y[i, ] - here)^2) - sum(
            (held_y[i, ] - there)^2
          )) / length(O)
      }
    }
  }
  list(covariance = rowMeans(covariance), gain = rowMeans(gain))
}

test_that(
  paste0(
    "held-out forms equal their definitions, out of bag and on holdout rows, numbers ",
    "and classes"
  ),
  {
    few <- c("peak_temp", "hold_minutes", "grog_share", "cooling_rate")
    d <- cbind(kiln$train[1:80, c(few, "strength", "defect")])
    h <- kiln$holdout[1:40, c(few, "strength", "defect")]
    for (target in c("strength", "defect")) {
      fit <- ranger::ranger(
        dependent.variable.name = target,
        data = d[c(few, target)],
        num.trees = 4,
        keep.inbag = TRUE,
        seed = 3,
        probability = target == "defect"
      )
      st <- study(fit, h, target, train = d)
      f <- st$models[[1]]$forest
      count <- f$inbag
      y <- target_columns(st, st$train)
      own <- function(rows, form) {
        rk <- rank_impurity(st, rows = rows, form = form)
        rk <- rk[is.na(rk$class), ]
        rk$importance[match(f$columns, rk$predictor)]
      }
      oob <- slow_held_out(f, as.matrix(d[few]), y, count, as.matrix(d[few]), y, function(
          t) {
        count[, t] == 0
      })
      expect_equal(own("oob", "covariance"), oob$covariance, tolerance = 1e-10)
      expect_equal(own("oob", "gain"), oob$gain, tolerance = 1e-10)
      out <- slow_held_out(
        f,
        as.matrix(d[few]),
        y,
        count,
        as.matrix(h[few]),
        target_columns(st, st$data),
        function(t) rep(TRUE, 40)
      )
      expect_equal(own("holdout", "covariance"), out$covariance, tolerance = 1e-10)
      expect_equal(own("holdout", "gain"), out$gain, tolerance = 1e-10)
    }
    # Classes add up to the value of all together.
    rk <- rank_impurity(st, rows = "oob")
    by_class <- tapply(
      rk$importance[!is.na(rk$class)], rk$predictor[!is.na(rk$class)], sum
    )
    expect_equal(
      as.vector(by_class[rk$predictor[is.na(rk$class)]]),
      rk$importance[is.na(rk$class)],
      tolerance = 1e-10
    )
  }
)

test_that(
  paste0(
    "the gain adds up to the tree's gain over its root; on the in-bag rows all forms ",
    "are one"
  ),
  {
    d <- kiln_rows(200)
    fit <- small_forest(
      strength ~ ., d, trees = 1, replace = FALSE, sample.fraction = 0.6,
      keep.inbag = TRUE
    )
    st <- study(fit, kiln_rows(100, "holdout"), "strength", train = d)
    seen <- fit$inbag.counts[[1]] == 1
    mu <- mean(d$strength[seen])
    f <- st$models[[1]]$forest
    h <- st$data
    p <- predict_model(st, st$models[[1]], h)[, 1]
    expect_equal(
      sum(rank_impurity(st, rows = "holdout", form = "gain")$importance),
      mean((h$strength - mu)^2) - mean((h$strength - p)^2),
      tolerance = 1e-10
    )
    inside <- study(fit, d[seen, ], "strength", train = d)
    classical <- rank_impurity(inside, rows = "train")
    for (form in c("covariance", "gain")) {
      same <- rank_impurity(inside, rows = "holdout", form = form)
      expect_equal(
        same$importance[match(classical$predictor, same$predictor)],
        classical$importance,
        tolerance = 1e-10
      )
    }
  }
)

test_that(
  paste0(
    "where nothing acts, held-out and corrected forms average to zero and the ",
    "classical does not"
  ),
  {
    forms <- vapply(
      1:25,
      function(s) {
        set.seed(s)
        d <- data.frame(
          two = factor(sample(2, 100, TRUE)),
          twenty = factor(sample(letters[1:20], 100, TRUE)),
          number = rnorm(100),
          y = rnorm(100)
        )
        st <- study(
          small_forest(y ~ ., d, trees = 15, keep.inbag = TRUE), d, "y", train = d
        )
        value <- function(rk) rk$importance[match(names(d)[1:3], rk$predictor)]
        c(
          value(rank_impurity(st, rows = "train")),
          value(rank_impurity(st, rows = "oob")),
          value(rank_impurity(st, correct = TRUE, refits = 2, seed = s))
        )
      },
      double(9)
    )
    z <- rowMeans(forms) / (apply(forms, 1, sd) / 5)
    expect_true(all(abs(z[4:9]) < 3))
    expect_gt(min(z[1:3]), 6)
    expect_gt(rowMeans(forms)[3], 4 * rowMeans(forms)[1])  # and rises with the number of values
  }
)

test_that("forms that are not to be had are refused; bias is flagged", {
  d <- kiln_rows(150)
  st <- study(list(tree = rpart::rpart(strength ~ ., d)), d, "strength", train = d)
  expect_error(
    rank_impurity(st, rows = "oob"), "no in-bag counts", class = "dreher_error_study"
  )
  expect_identical(unique(rank_impurity(st)$rows), "train")
  expect_error(
    rank_impurity(st, correct = TRUE, rows = "oob"), "takes off from the classical form"
  )
  set.seed(8)
  noise <- data.frame(a = rnorm(80), b = rnorm(80), y = rnorm(80))
  rk <- rank_impurity(study(
    small_forest(y ~ ., noise, keep.inbag = TRUE), noise, "y", train = noise
  ))
  expect_true(
    any(grepl("in-sample only", rk$flag)) || all(rk$importance[rk$rows == "oob"] > 0)
  )
})

test_that("structure: splits, rows, depth and trees of a tree worked by hand", {
  # Root asks x for all 10 rows; its right child (5 rows) asks z; z's right child (3 rows) asks x
  # again.
  d <- data.frame(x = c(1:10), z = c(rep(0, 7), 1, 1, 1), y = 0)
  f <- flat_forest(
    root = c(0L, 7L),
    weight = c(0.5, 0.5),
    column = c(0L, -1L, 1L, -1L, 0L, -1L, -1L, -1L),
    threshold = c(5, 0, 0.5, 0, 9, 0, 0, 0),
    left = c(1L, 0L, 3L, 0L, 5L, 0L, 0L, 0L),
    right = c(2L, 0L, 4L, 0L, 6L, 0L, 0L, 0L),
    missing = rep(-1L, 8),
    value = matrix(0, 1, 8),
    columns = c("x", "z")
  )
  use <- forest_use(f, as.matrix(d[1:2]), matrix(0L, 0, 0), 1L)
  expect_equal(use$splits, cbind(c(2, 1), 0))
  expect_equal(use$passing, cbind(c(1 + 0.3, 0.5), 0))
  expect_equal(use$depth, cbind(c(0, 1), -1))
  tree <- rpart::rpart(strength ~ ., kiln_rows(300))
  st <- study(tree, kiln_rows(50, "holdout"), "strength", train = kiln_rows(300))
  rk <- rank_structure(st, form = "splits")
  counted <- table(as.character(tree$frame$var))
  for (p in rk$predictor[rk$importance > 0]) {
    expect_equal(rk$importance[rk$predictor == p], counted[[p]])
  }
  units <- detail(rk, "statistics")[[1]]
  expect_equal(units$depth[units$predictor == as.character(tree$frame$var[1])], 0)
  expect_true(all(is.na(units$depth[units$splits == 0])))
})

test_that("a randomForest with in-bag counts earns what randomForest stored", {
  d <- kiln_rows(150)
  d$defect <- kiln$train$defect[1:150]
  set.seed(1)
  for (target in c("strength", "defect")) {
    rows <- d[setdiff(names(d), setdiff(c("strength", "defect"), target))]
    fit <- randomForest::randomForest(
      rows[names(rows) != target], rows[[target]], ntree = 20, keep.inbag = TRUE
    )
    rk <- rank_impurity(study(fit, rows, target, train = rows), rows = "train")
    rk <- rk[is.na(rk$class), ]
    stored <- fit$importance[, 1]
    expect_equal(
      rk$importance[match(names(stored), rk$predictor)] * 150,
      unname(stored),
      tolerance = 1e-6
    )
  }
})

test_that(
  "boosted trees: the recomputed gain equals the stored one where every row was used",
  {
    d <- kiln_raw$train[
      1:400,
      c(
        "peak_temp", "hold_minutes", "drying_humidity", "cooling_rate", "strength",
        "defect"
      )
    ]
    few <- names(d)[1:4]
    d$strong <- factor(ifelse(d$strength > 42, "yes", "no"))
    d$count <- pmax(round(d$strength - 35), 0)
    both <- function(fit, target) {
      st <- study(
        fit, d[1:100, ], target, train = d, positive = if (target == "strong") "yes"
      )
      rk <- as.data.frame(rank_impurity(st))
      list(
        own = rk$importance[rk$form == "plain"][order(rk$predictor[rk$form == "plain"])],
        stored = rk$importance[rk$form == "stored"][order(
            rk$predictor[rk$form == "stored"]
          )]
      )
    }
    boost <- function(label, objective, ...) {
      xgboost::xgb.train(
        list(objective = objective, max_depth = 4, nthread = 1, ...),
        xgboost::xgb.DMatrix(as.matrix(d[few]), label = label, nthread = 1),
        nrounds = 6
      )
    }
    for (v in list(
        both(boost(d$strength, "reg:squarederror"), "strength"),
        both(boost(d$strength, "reg:squarederror", lambda = 5), "strength"),
        both(
          boost(d$strength, "reg:squarederror", base_score = mean(d$strength)), "strength"
        ),
        both(boost(as.integer(d$strong) - 1, "binary:logistic"), "strong"),
        both(boost(d$count, "count:poisson"), "count"),
        both(boost(as.integer(d$defect) - 1, "multi:softprob", num_class = 4), "defect")
      )) {
      # of every predictor, from the library's constant of 0.5 on
      expect_lt(max(abs(v$own / v$stored - 1)), 1e-6)
    }
    grow <- function(target, distribution, data) {
      suppressWarnings(gbm::gbm(
        reformulate(few, target), distribution, data, n.trees = 6, interaction.depth = 3,
        bag.fraction = 1
      ))
    }
    whole <- d
    d$drying_humidity[is.na(d$drying_humidity)] <- 60
    v <- both(grow("strength", "gaussian", d), "strength")
    expect_equal(v$own, v$stored, tolerance = 1e-6)
    dropped <- boost(d$strength, "reg:squarederror", booster = "dart", rate_drop = 0.5)
    expect_identical(
      unique(rank_impurity(study(dropped, d, "strength", train = d))$form), "stored"
    )
  }
)

test_that(
  "boosted trees with weights, bounds or drawn rows: checked, or the stored gain alone",
  {
    set.seed(4)
    d <- data.frame(
      a = rnorm(300), b = rnorm(300), c = rnorm(300), w = runif(300, 0.2, 3)
    )
    d$y <- d$a + 0.5 * d$b^2 + rnorm(300)
    few <- c("a", "b", "c")
    forms <- function(fit, weights = NULL) {
      rows <- d[c(few, weights, "y")]
      rk <- as.data.frame(suppressWarnings(rank_impurity(study(
        fit, rows[1:60, ], "y", train = rows, weights = weights
      ))))
      sums <- rowsum(rk$importance, rk$form)[, 1]
      list(order = unique(rk$form), sums = sums, flag = rk$flag[rk$form == "plain"][1])
    }
    boost <- function(weight = NULL, ..., obj = NULL) {
      rows <- xgboost::xgb.DMatrix(as.matrix(d[few]), label = d$y, nthread = 1)
      if (!is.null(weight)) xgboost::setinfo(rows, "weight", weight)
      call <- list(list(max_depth = 3, nthread = 1, ...), rows, nrounds = 8)
      do.call(xgboost::xgb.train, c(call, if (!is.null(obj)) list(obj = obj)))
    }
    known <- forms(boost(d$w), "w")
    expect_identical(known$order, c("plain", "stored"))
    expect_equal(known$sums[["plain"]], known$sums[["stored"]], tolerance = 1e-6)
    expect_identical(forms(boost(d$w))$order, "stored")
    expect_identical(forms(boost(monotone_constraints = c(1, 1, 0)))$order, "stored")
    expect_identical(forms(boost(d$w, subsample = 0.5))$order, "stored")
    halves <- forms(boost(subsample = 0.5))
    expect_identical(halves$order, c("stored", "plain"))
    expect_match(halves$flag, "rows drawn")
    absolute <- function(preds, dtrain) {
      gap <- preds - d$y
      list(grad = pmax(pmin(gap, 1), -1), hess = rep(1, nrow(d)))
    }
    expect_identical(forms(boost(obj = absolute))$order, "stored")
    grow <- function(weights = rep(1, nrow(d))) {
      d$weights <- weights
      gbm::gbm(
        y ~ a + b + c, "gaussian", d, weights = weights, n.trees = 8,
        interaction.depth = 2, bag.fraction = 1
      )
    }
    known <- forms(grow(d$w), "w")
    expect_equal(known$sums[["plain"]], known$sums[["stored"]], tolerance = 1e-6)
    expect_identical(forms(grow(d$w))$order, "stored")
  }
)

# By the definition: every row walks every tree, node values are means of leaves over the training
# rows.
slow_held_gain <- function(f, train, held, y, loss) {
  K <- nrow(f$value)
  l <- switch(
    loss,
    squared = function(s, y) (y - s)^2,
    logistic = function(s, y) {
      -(y * plogis(s, log.p = TRUE) + (1 - y) * plogis(-s, log.p = TRUE))
    },
    poisson = function(s, y) exp(s) - y * s,
    softmax = function(s, y) log(sum(exp(s))) - s[y + 1]
  )
  path <- function(row, t) {
    node <- f$root[t] + 1
    out <- node
    while (f$column[node] >= 0) {
      v <- row[f$column[node] + 1]
      side <- if (is.na(v)) {
        0
      } else if (f$set_from[node] >= 0) {
        f$set_side[f$set_from[node] + v]
      } else if (v <= f$threshold[node]) {
        -1
      } else {
        1
      }
      node <- (if (side < 0) f$left else if (side > 0) f$right else f$missing)[node] + 1
      out <- c(out, node)
    }
    out
  }
  out <- array(0, c(nrow(held), length(f$columns), K))
  sums <- matrix(f$base, nrow(held), K, byrow = TRUE)
  for (t in seq_along(f$root)) {
    k <- f$boosted$group[t] + 1
    paths <- lapply(seq_len(nrow(train)), function(i) path(train[i, ], t))
    leaf <- vapply(paths, function(p) f$value[k, p[length(p)]], 0)
    value <- tapply(rep(leaf, lengths(paths)), unlist(paths), mean)
    for (i in seq_len(nrow(held))) {
      p <- path(held[i, ], t)
      at <- function(node) {
        s <- sums[i, ]
        s[k] <- s[k] + f$weight[t] * value[[as.character(node)]]
        l(s, y[i])
      }
      for (s in seq_len(length(p) - 1)) {
        column <- f$column[p[s]] + 1
        out[i, column, k] <- out[i, column, k] + at(p[s]) - at(p[s + 1])
      }
      sums[i, k] <- sums[i, k] + f$weight[t] * f$value[k, p[length(p)]]
    }
  }
  out
}

test_that(
  "boosted trees on holdout rows: by the definition, per class, with intervals over rows",
  {
    d <- kiln_raw$train[
      1:150,
      c(
        "peak_temp", "hold_minutes", "clay_source", "drying_humidity", "strength",
        "defect"
      )
    ]
    h <- kiln_raw$holdout[1:60, names(d)]
    d$clay_source[3:9] <- NA
    d$strong <- as.integer(d$strength > 42)
    h$strong <- as.integer(h$strength > 42)
    h$count <- pmax(round(h$strength - 35), 0)
    d$count <- pmax(round(d$strength - 35), 0)
    x <- ~ peak_temp + hold_minutes + clay_source + drying_humidity
    for (case in list(
        c("strength", "gaussian", "squared"),
        c("strong", "bernoulli", "logistic"),
        c("count", "poisson", "poisson"),
        c("defect", "multinomial", "softmax")
      )) {
      set.seed(1)
      fit <- suppressWarnings(gbm::gbm(
        update(x, paste(case[1], "~ .")),
        case[2],
        d,
        n.trees = 3,
        interaction.depth = 2,
        n.minobsinnode = 20,
        bag.fraction = 1
      ))
      st <- study(fit, h, case[1], train = d)
      m <- st$models[[1]]
      f <- m$forest
      encode <- function(data) as.matrix(encode_for_forest(f, model_rows(st, m, data)))
      # A node no training row came by has no mean in the definition; gbm grows none.
      slow <- slow_held_gain(
        f, encode(d), encode(h), boosting_target(m, st, st$data), case[3]
      )
      rk <- rank_impurity(st, rows = c("train", "holdout"))
      rk <- rk[rk$rows == "holdout", ]
      together <- rk[is.na(rk$class), ]
      rows <- apply(slow, c(1, 2), sum)
      expect_equal(
        together$importance,
        unname(colMeans(rows)[match(together$predictor, f$columns)]),
        tolerance = 1e-10
      )
      expect_equal(
        together$std_error,
        apply(rows, 2, sd)[match(together$predictor, f$columns)] / sqrt(60),
        tolerance = 1e-10
      )
      expect_true(
        all(together$inference == "model") && all(together$lower <= together$importance)
      )
      for (k in unique(rk$class[!is.na(rk$class)])) {
        one <- rk[rk$class %in% k, ]
        expect_equal(
          one$importance,
          unname(colMeans(slow[, match(one$predictor, f$columns), match(k, m$classes)])),
          tolerance = 1e-10
        )
      }
    }
    expect_identical(
      rank_impurity(st, rows = "holdout", threads = 1)$std_error,
      rank_impurity(st, rows = "holdout", threads = 2)$std_error
    )
    # Per class the gains add up to the gain together.
    whole <- rank_impurity(st)
    whole <- whole[whole$form == "plain", ]
    expect_equal(
      as.vector(tapply(
        whole$importance[!is.na(whole$class)], whole$predictor[!is.na(whole$class)], sum
      )),
      as.vector(tapply(
        whole$importance[is.na(whole$class)], whole$predictor[is.na(whole$class)], sum
      )),
      tolerance = 1e-10
    )
  }
)

test_that("a family is ranked as one, tree by tree", {
  d <- kiln_rows(200)
  d$half <- sin(d$peak_temp)
  fit <- small_forest(strength ~ ., d, trees = 20, keep.inbag = TRUE)
  dictionary <- data.frame(
    predictor = c("pyro_left", "pyro_right", "peak_temp"),
    family = c("pyrometers", "pyrometers", NA)
  )
  st <- study(fit, d[1:50, ], "strength", train = d, dictionary = dictionary)
  each <- rank_impurity(st)
  joint <- rank_impurity(st, groups = "family")
  for (rows in unique(each$rows)) {
    of <- function(p) each$importance[each$rows == rows & each$predictor %in% p]
    expect_equal(
      joint$importance[joint$rows == rows & joint$predictor == "pyrometers"],
      sum(of(c("pyro_left", "pyro_right"))),
      tolerance = 1e-12
    )
    expect_equal(
      joint$importance[joint$rows == rows & joint$predictor == "peak_temp"],
      of("peak_temp")
    )
  }
  expect_false(any(c("pyro_left", "pyro_right") %in% joint$predictor))
  expect_identical(unique(joint$family[joint$predictor == "pyrometers"]), "pyrometers")
  expect_error(
    rank_impurity(st, groups = "column"), "must be one of", class = "dreher_error_input"
  )
})
