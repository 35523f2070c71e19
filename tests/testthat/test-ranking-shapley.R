test_that(
  paste0(
    "forest values equal the definition over all subsets: factors, missing values, ",
    "joint players, outputs"
  ),
  {
    set.seed(6)
    columns <- letters[1:8]
    levels <- list(c = LETTERS[1:4], f = LETTERS[1:3])
    for (i in 1:4) {
      f <- random_flat_forest(columns, levels, trees = 3, depth = 7, outputs = 2)
      draw <- function(n) {
        x <- matrix(rnorm(8 * n), n)
        x[, 3] <- sample(4, n, TRUE)
        x[, 6] <- sample(3, n, TRUE)
        x[sample(length(x), n)] <- NA
        x
      }
      x <- draw(3)
      z <- draw(5)
      for (players in list(as.list(1:8), list(c(1, 5), 2, 3, c(4, 6, 8), 7))) {
        player_of <- integer(8)
        for (p in seq_along(players)) player_of[players[[p]]] <- p
        phi <- forest_shapley(f, x, z, double(), player_of, length(players), 1L)
        for (row in 1:3) {
          for (k in 1:2) {
            expect_equal(
              phi[row, , k],
              slow_shapley(function(m) slow_predict(f, m)[, k], x[row, ], z, players),
              tolerance = 1e-10
            )
          }
        }
        sums <- apply(phi, c(1, 3), sum)
        expect_equal(
          sums,
          sweep(slow_predict(f, x), 2, colMeans(slow_predict(f, z))),
          tolerance = 1e-10
        )
        expect_identical(
          phi, forest_shapley(f, x, z, double(), player_of, length(players), 2L)
        )
        # By cover, of forty other rows.
        given <- forest_cover(f, draw(40), matrix(0L, 0, 0), 1L)
        by_cover <- forest_shapley(
          f, x, z[0, ], given$cover, player_of, length(players), 1L
        )
        for (row in 1:3) {
          for (k in 1:2) {
            expect_equal(
              by_cover[row, , k],
              slow_shapley_of(
                function(known) {
                  slow_cover_value(f, given$cover, x[row, ], unlist(players[known]))[k]
                },
                length(players)
              ),
              tolerance = 1e-10
            )
          }
        }
        expect_equal(
          apply(by_cover, c(1, 3), sum),
          sweep(slow_predict(f, x), 2, given$baseline),
          tolerance = 1e-10
        )
      }
    }
  }
)

test_that(
  paste0(
    "small trees by tables and large ones by walks say the same as the definition, to ",
    "sixty questions on a path"
  ),
  {
    set.seed(16)
    for (depth in c(1, 2, 4, 6, 9)) {
      f <- random_flat_forest(letters[1:6], trees = 4, depth = depth, outputs = 2)
      x <- matrix(rnorm(24), 4)
      z <- matrix(rnorm(42), 7)
      x[sample(24, 3)] <- NA
      z[sample(42, 4)] <- NA
      given <- forest_cover(f, matrix(rnorm(180), 30), matrix(0L, 0, 0), 1L)
      for (players in list(as.list(1:6), list(c(1, 4), c(2, 6), 3, 5))) {
        player_of <- integer(6)
        for (p in seq_along(players)) player_of[players[[p]]] <- p
        phi <- forest_shapley(f, x, z, double(), player_of, length(players), 1L)
        by_cover <- forest_shapley(
          f, x, z[0, ], given$cover, player_of, length(players), 1L
        )
        for (row in 1:4) {
          for (k in 1:2) {
            expect_equal(
              phi[row, , k],
              slow_shapley(function(m) slow_predict(f, m)[, k], x[row, ], z, players),
              tolerance = 1e-10
            )
            expect_equal(
              by_cover[row, , k],
              slow_shapley_of(
                function(known) {
                  slow_cover_value(f, given$cover, x[row, ], unlist(players[known]))[k]
                },
                length(players)
              ),
              tolerance = 1e-10
            )
          }
        }
      }
    }
    # A chain of sixty questions about thirty columns, each asked twice; a tree of one leaf beside
    # it.
    n <- 60
    chain <- list(
      column = c(rep(0:29, 2), rep(-1L, n + 1)),
      threshold = c(rnorm(n), double(n + 1)),
      left = c(n + seq_len(n) - 1L, integer(n + 1)),
      right = c(seq_len(n - 1), 2 * n, integer(n + 1)),
      missing = c(n + seq_len(n) - 1L, integer(n + 1))
    )
    f <- flat_forest(
      c(0L, 2L * n + 1L),
      c(1, 1),
      c(chain$column, -1L),
      c(chain$threshold, 0),
      c(chain$left, 0L),
      c(chain$right, 0L),
      c(chain$missing, 0L),
      matrix(rnorm(2 * n + 2), 1),
      paste0("c", 1:30)
    )
    x <- matrix(rnorm(30 * 40, 1), 40)
    given <- forest_cover(f, x, matrix(0L, 0, 0), 1L)
    by_cover <- forest_shapley(f, x, x[0, ], given$cover, 1:30, 30L, 1L)
    expect_equal(
      rowSums(by_cover[, , 1]),
      as.vector(slow_predict(f, x)) - given$baseline,
      tolerance = 1e-10
    )
    phi <- forest_shapley(f, x[1:5, ], x, double(), 1:30, 30L, 1L)
    expect_equal(
      rowSums(phi[, , 1]),
      as.vector(slow_predict(f, x[1:5, ])) - mean(slow_predict(f, x)),
      tolerance = 1e-10
    )
    # Five players of it, by enumeration.
    of_five <- rep(1:5, 6)
    joint <- forest_shapley(f, x[1:3, ], x[0, ], given$cover, of_five, 5L, 1L)
    for (row in 1:3) {
      expect_equal(
        joint[row, , 1],
        slow_shapley_of(
          function(known) {
            slow_cover_value(f, given$cover, x[row, ], which(of_five %in% known))
          },
          5
        ),
        tolerance = 1e-10
      )
    }
  }
)

test_that("by cover: fitted models, the constant, and what is refused", {
  few <- c("peak_temp", "hold_minutes", "clay_source", "operator")
  d <- kiln_rows(150)[c(few, "strength")]
  fit <- ranger::ranger(
    strength ~ .,
    d,
    num.trees = 5,
    keep.inbag = TRUE,
    seed = 1,
    respect.unordered.factors = "partition"
  )
  st <- study(fit, d[1:20, ], "strength", train = d)
  rk <- rank_shapley(st, value = "cover")
  phi <- attr(rk, "row_values")[[1]][, , 1]
  f <- st$models[[1]]$forest
  cover <- cover_of(st, st$models[[1]])
  x <- as.matrix(encode_for_forest(f, model_rows(st, st$models[[1]], d[1:2, ])))
  for (i in 1:2) {
    expect_equal(
      unname(phi[i, f$columns]),
      slow_shapley_of(function(known) slow_cover_value(f, cover$cover, x[i, ], known), 4),
      tolerance = 1e-10
    )
  }
  # The drawn rows' mean of each tree.
  expect_equal(
    cover$baseline,
    mean(vapply(1:5, function(t) weighted.mean(d$strength, fit$inbag.counts[[t]]), 0)),
    tolerance = 1e-8
  )
  expect_output(print(rk), "by cover")
  # Predictors as one player: exactly, not the sum of their values.
  for (value in c("cover", "background")) {
    bg <- d[101:120, ]
    joint <- attr(
      rank_shapley(
        st,
        value = value,
        background = bg,
        groups = list(firing = c("peak_temp", "hold_minutes"))
      ),
      "row_values"
    )[[1]][
      , , 1
    ]
    players <- list(
      which(f$columns %in% c("peak_temp", "hold_minutes")),
      which(f$columns == "clay_source"),
      which(f$columns == "operator")
    )
    z <- as.matrix(encode_for_forest(f, model_rows(st, st$models[[1]], bg)))
    slow <- if (value == "background") {
      slow_shapley(function(m) slow_predict(f, m)[, 1], x[1, ], z, players)
    } else {
      slow_shapley_of(
        function(known) slow_cover_value(f, cover$cover, x[1, ], unlist(players[known])),
        3
      )
    }
    expect_equal(
      unname(joint[1, c("firing", "clay_source", "operator")]), slow, tolerance = 1e-10
    )
  }
  lm_joint <- attr(
    rank_shapley(
      study(
        lm(strength ~ peak_temp * hold_minutes + operator, d),
        d[1:4, ],
        "strength",
        train = d
      ),
      background = bg,
      groups = list(firing = c("peak_temp", "hold_minutes"))
    ),
    "row_values"
  )[[1]][
    , , 1
  ]
  parts <- predict(lm(strength ~ peak_temp * hold_minutes + operator, d), d[1:4, ]) -
    mean(predict(lm(strength ~ peak_temp * hold_minutes + operator, d), bg))
  expect_equal(rowSums(lm_joint), unname(parts), tolerance = 1e-10, ignore_attr = TRUE)
  late <- xgboost::xgb.train(
    list(objective = "binary:logistic", max_depth = 3, nthread = 1),
    xgboost::xgb.DMatrix(
      as.matrix(loans$train[c("loan_days", "earlier_late")]),
      label = loans$train$returned_late == "yes",
      nthread = 1
    ),
    nrounds = 10
  )
  sx <- study(
    late, loans$holdout[1:30, ], "returned_late", train = loans$train, positive = "yes"
  )
  phi <- attr(rank_shapley(sx, value = "cover"), "row_values")[[1]][, , 1]
  own <- predict(
    late,
    as.matrix(loans$holdout[1:30, c("loan_days", "earlier_late")]),
    predcontrib = TRUE,
    approxcontrib = FALSE
  )
  # The library weighs children by its second derivatives: near, not the same.
  expect_gt(cor(phi[, "loan_days"], own[, "loan_days"]), 0.98)
  expect_error(
    rank_shapley(sx, value = "cover", scale = "prediction"),
    "on its link only",
    class = "dreher_error_input"
  )
  expect_error(
    rank_shapley(
      study(lm(strength ~ ., d), d[1:20, ], "strength", train = d), value = "cover"
    ),
    "no cover",
    class = "dreher_error_model"
  )
  expect_error(
    rank_shapley(study(fit, d[1:20, ], "strength"), value = "cover"),
    "needs the training rows",
    class = "dreher_error_study"
  )
})

test_that("fitted forests and trees equal the definition, surrogates included", {
  few <- c("peak_temp", "hold_minutes", "clay_source", "grog_share", "operator")
  d <- kiln_rows(200)[c(few, "strength")]
  with_gaps <- d
  set.seed(2)
  with_gaps$peak_temp[sample(200, 50)] <- NA
  info <- list(
    list(
      small_forest(strength ~ ., d, trees = 3, respect.unordered.factors = "partition"), d
    ),
    list(
      small_forest(strength ~ ., d, trees = 3, respect.unordered.factors = "order"), d
    ),
    list(
      rpart::rpart(strength ~ ., with_gaps, control = rpart::rpart.control(cp = 0.001)),
      with_gaps
    )
  )
  for (case in info) {
    data <- case[[2]]
    st <- study(case[[1]], data[1:4, ], "strength", train = data)
    rk <- rank_shapley(st, background = data[101:106, ])
    phi <- attr(rk, "row_values")[[1]][, , 1]
    m <- st$models[[1]]
    predict_own <- function(rows) as.vector(model_predictions(m$object, rows))
    for (i in 1:4) {
      row <- align_rows(data[i, ], m$inputs, "m")
      bg <- align_rows(data[101:106, ], m$inputs, "m")
      slow <- slow_shapley_table(predict_own, row, bg)
      expect_equal(phi[i, ], slow[colnames(phi)], tolerance = 1e-10)
    }
  }
})

test_that("linear models are exact, interactions and curves included; glm on its link", {
  few <- c("peak_temp", "hold_minutes", "clay_source", "grog_share")
  d <- kiln_rows(150)[c(few, "strength")]
  d$strong <- factor(ifelse(d$strength > 42, "yes", "no"))
  fit <- lm(strength ~ peak_temp * hold_minutes * clay_source + poly(grog_share, 2), d)
  st <- study(fit, d[1:3, ], "strength", train = d)
  rk <- rank_shapley(st, background = d[51:60, ])
  phi <- attr(rk, "row_values")[[1]][, , 1]
  for (i in 1:3) {
    slow <- slow_shapley_table(
      function(rows) predict(fit, rows), d[i, few], d[51:60, few]
    )
    expect_equal(phi[i, ], slow[colnames(phi)], tolerance = 1e-9)
  }
  g <- glm(strong ~ peak_temp + clay_source, binomial, d)
  for (positive in c("yes", "no")) {
    st <- study(g, d[1:6, ], "strong", train = d, positive = positive)
    rk <- rank_shapley(st, background = d[51:60, ])
    expect_identical(detail(rk, "settings")$scale, "log-odds")
    slow <- slow_shapley_table(
      function(rows) predict(g, rows) * if (positive == "yes") 1 else -1,
      d[1, few[c(1, 3)]],
      d[51:60, few[c(1, 3)]]
    )
    expect_equal(attr(rk, "row_values")[[1]][1, names(slow), 1], slow, tolerance = 1e-9)
  }
  expect_equal(
    detail(
      rank_shapley(st, scale = "prediction", max_rows = 3, background = 5), "settings"
    )[c("note", "scale")],
    list(note = "exact", scale = "probability"),
    ignore_attr = TRUE
  )
  expect_error(
    rank_shapley(study(fit, d[1:3, ], "strength", train = d), scale = "link"),
    "has no link"
  )
})

test_that(
  paste0(
    "several classes: a ranking per class and one together; values of a row sum to ",
    "zero over classes"
  ),
  {
    d <- kiln$train[
      1:300, c("cooling_rate", "glaze_thickness", "peak_temp", "operator", "defect")
    ]
    fit <- small_forest(defect ~ ., d, probability = TRUE)
    rk <- rank_shapley(study(fit, d[1:30, ], "defect", train = d), background = 10)
    phi <- attr(rk, "row_values")[[1]]
    expect_equal(max(abs(apply(phi, c(1, 2), sum))), 0, tolerance = 1e-10)
    expect_setequal(unique(rk$class), c(NA, levels(d$defect)))
    together <- rk[is.na(rk$class), ]
    expect_equal(
      together$importance[together$predictor == "cooling_rate"],
      sum(colMeans(abs(phi[, "cooling_rate", ]))),
      tolerance = 1e-12
    )
  }
)

test_that(
  paste0(
    "sampled values: exact for two-way models, intervals cover, sums hold, orders ",
    "follow the seed"
  ),
  {
    set.seed(4)
    d <- as.data.frame(matrix(rnorm(60 * 4), 60, dimnames = list(NULL, letters[1:4])))
    d$y <- d$a + d$b * d$c
    two_way <- function(model, data) data$a + data$b * data$c
    st <- study(1, d[1:5, ], "y", train = d, predict_with = two_way)
    alone <- as.list(stats::setNames(nm = letters[1:4]))
    m <- st$models[[1]]
    sampled <- shapley_sampled(
      st,
      m,
      alone,
      model_rows(st, m, d[1:5, ]),
      model_rows(st, m, d[31:40, ]),
      0.02,
      20,
      1
    )$phi[
      , , 1
    ]
    slow <- slow_shapley_table(function(x) two_way(1, x), d[1, 1:4], d[31:40, 1:4])
    # a pair is exact without deeper interactions
    expect_equal(sampled[1, ], slow, tolerance = 1e-10)
    deep <- function(model, data) {
      data$a * data$b * data$c + (data$a > 0) * (data$d > 0) * data$b
    }
    st <- study(1, d[1:30, ], "y", train = d, predict_with = deep)
    bg <- d[31:40, ]
    m <- st$models[[1]]
    v <- shapley_sampled(
      st, m, alone, model_rows(st, m, d[1:30, ]), model_rows(st, m, bg), 0.001, 60, 1
    )
    check_sums(v, "m")
    exact <- t(vapply(
      1:30,
      function(i) slow_shapley_table(function(x) deep(1, x), d[i, 1:4], bg[1:4]),
      double(4)
    ))
    z <- (v$phi[, , 1] - exact) / v$std_error[, , 1]
    expect_gt(mean(abs(z) < qt(0.975, 59), na.rm = TRUE), 0.88)
    expect_lt(mean(abs(z) < qt(0.975, 59) / 3, na.rm = TRUE), 0.75)
    again <- shapley_sampled(
      st, m, alone, model_rows(st, m, d[1:30, ]), model_rows(st, m, bg), 0.001, 60, 1
    )
    expect_identical(v$phi, again$phi)
    # Up to eight players all sets are gone through; more are sampled.
    all_sets <- rank_shapley(st, background = bg)
    expect_equal(
      unname(attr(all_sets, "row_values")[[1]][, letters[1:4], 1]),
      unname(exact),
      tolerance = 1e-10
    )
    expect_identical(detail(all_sets, "settings")$note, "exact")
    wide <- cbind(
      d, matrix(rnorm(60 * 6), 60, dimnames = list(NULL, paste0("idle", 1:6)))
    )
    st <- study(1, wide[1:30, ], "y", train = wide, predict_with = deep)
    expect_match(
      rank_shapley(st, background = wide[31:40, ], precision = 1e-4, max_pairs = 20)$flag[1],
      "not converged"
    )
    # Units: b and c as one player, sampled, enumerated and by definition.
    pair <- c(
      list(bc = c("b", "c")),
      stats::setNames(
        as.list(setdiff(names(wide), c("b", "c", "y"))),
        setdiff(names(wide), c("b", "c", "y"))
      )
    )
    deep_bc <- slow_shapley(
      function(m) deep(1, data.frame(a = m[, 1], b = m[, 2], c = m[, 3], d = m[, 4])),
      unlist(d[2, 1:4]),
      as.matrix(bg[1:4]),
      list(1, c(2, 3), 4)
    )
    m <- st$models[[1]]
    v <- shapley_sampled(
      st,
      m,
      pair,
      model_rows(st, m, wide[1:5, ]),
      model_rows(st, m, wide[31:40, ]),
      1e-3,
      200,
      1
    )
    expect_lt(abs(v$phi[2, 1, 1] - deep_bc[2]), 4 * v$std_error[2, 1, 1] + 1e-10)
    few <- study(1, d[1:5, ], "y", train = d, predict_with = deep)
    rk <- rank_shapley(few, background = bg, groups = list(bc = c("b", "c")))
    expect_setequal(rk$predictor, c("a", "bc", "d"))
    expect_equal(
      unname(attr(rk, "row_values")[[1]][2, c("a", "bc", "d"), 1]), deep_bc, tolerance = 1e-10
    )
    expect_error(
      rank_shapley(few, background = bg, groups = list(x = c("a", "b"), y = c("b", "c"))),
      "plays once",
      class = "dreher_error_input"
    )
  }
)

test_that("intervals of sampled values hold the exact one in about 95 of 100 runs", {
  set.seed(14)
  d <- as.data.frame(matrix(rnorm(40 * 4), 40, dimnames = list(NULL, letters[1:4])))
  d$y <- d$a
  deep <- function(model, data) data$a * data$b * data$c + data$d * data$b * data$a
  st <- study(1, d[1:3, ], "y", train = d, predict_with = deep)
  m <- st$models[[1]]
  units <- as.list(stats::setNames(nm = letters[1:4]))
  rows <- model_rows(st, m, d[1:2, ])
  bg <- model_rows(st, m, d[21:30, ])
  exact <- shapley_enumerated(st, m, units, rows, bg)$phi[, , 1]
  hits <- vapply(1:150, function(seed) {
    v <- shapley_sampled(st, m, units, rows, bg, 1e-6, 20, seed)
    mean(abs(v$phi[, , 1] - exact) <= qt(0.975, 19) * v$std_error[, , 1] + 1e-10)
  }, 0)
  expect_gt(mean(hits), 0.92)
  expect_lt(mean(hits), 0.99)
})

test_that("sampled values of a text and factor model agree with the exact ones", {
  few <- c("peak_temp", "hold_minutes", "clay_source")
  d <- kiln_rows(120)[c(few, "strength")]
  fit <- small_forest(strength ~ ., d, trees = 5)
  exact <- study(fit, d[1:6, ], "strength", train = d)
  through <- study(fit, d[1:6, ], "strength", train = d, predict_with = function(
      model, data) {
    predict(model, data)$predictions
  })
  a <- attr(rank_shapley(exact, background = 20), "row_values")[[1]][, , 1]
  b <- attr(rank_shapley(through, background = 20, precision = 0.005), "row_values")[[1]][
    , , 1
  ]
  expect_equal(b[, colnames(a)], a, tolerance = 0.05)
})

test_that("boosted trees: exact on the link, each class; shuffles go through the link", {
  d <- kiln$train[
    1:200, c("peak_temp", "hold_minutes", "clay_source", "strength", "defect")
  ]
  d$strong <- as.integer(d$strength > 42)
  few <- c("peak_temp", "hold_minutes", "clay_source")
  set.seed(3)
  boost <- function(target, distribution) {
    suppressWarnings(gbm::gbm(
      reformulate(few, target), distribution, d, n.trees = 10, interaction.depth = 3
    ))
  }
  link <- function(fit) function(rows) predict(fit, rows, n.trees = 10)
  logit <- boost("strong", "bernoulli")
  for (positive in c("1", "0")) {
    st <- study(logit, d[c(1, 31:60), ], "strong", train = d, positive = positive)
    rk <- rank_shapley(st, background = d[51:60, ])
    expect_identical(detail(rk, "settings")$scale, "log-odds")
    slow <- slow_shapley_table(
      function(rows) link(logit)(rows) * if (positive == "1") 1 else -1,
      d[1, few],
      d[51:60, few]
    )
    expect_equal(attr(rk, "row_values")[[1]][1, few, 1], slow, tolerance = 1e-10)
  }
  many <- boost("defect", "multinomial")
  st <- study(many, d[1:5, ], "defect", train = d)
  phi <- attr(rank_shapley(st, background = d[51:60, ]), "row_values")[[1]]
  for (class in levels(d$defect)) {
    slow <- slow_shapley_table(
      function(rows) link(many)(rows)[, class, 1], d[2, few], d[51:60, few]
    )
    expect_equal(phi[2, few, class], slow, tolerance = 1e-10)
  }
  st <- study(logit, d[1:60, ], "strong", train = d)
  rk <- rank_permutation(st, repeats = 4)
  donors <- draw_donors(60, 4, 1)
  shuffled <- vapply(
    1:4,
    function(r) {
      x <- d[1:60, ]
      x$peak_temp <- x$peak_temp[donors[, r]]
      mean((predict(logit, x, n.trees = 10, type = "response") - x$strong)^2)
    },
    0
  )
  plain <- mean(
    (predict(logit, d[1:60, ], n.trees = 10, type = "response") - d$strong[1:60])^2
  )
  expect_equal(
    rk$importance[rk$predictor == "peak_temp"], mean(shuffled) - plain, tolerance = 1e-10
  )
})

test_that("a group as one player stands beside what its members have", {
  few <- c("peak_temp", "hold_minutes", "cooling_rate")
  d <- kiln_rows(200)[c(few, "strength")]
  models <- list(
    forest = small_forest(strength ~ ., d, trees = 5), linear = lm(strength ~ ., d)
  )
  st <- study(models, kiln_rows(20, "holdout"), "strength", train = d)
  pair <- list(fire = few[1:2])
  rk <- rank_shapley(st, groups = pair, background = 15)
  parts <- detail(rk, "parts")
  alone <- rank_shapley(st, background = 15)
  expect_null(detail(alone, "parts"))
  for (m in names(models)) {
    own <- parts[parts$model == m, ]
    phi <- attr(alone, "row_values")[[paste0(m, "/shapley")]][, , 1]
    expect_equal(own$member, few[1:2])
    expect_equal(
      own$importance,
      alone$importance[alone$model == m][match(
          few[1:2], alone$predictor[alone$model == m]
        )]
    )
    expect_equal(own$sum, rep(mean(abs(rowSums(phi[, few[1:2]]))), 2))
    expect_equal(own$joint, rep(rk$importance[rk$model == m & rk$predictor == "fire"], 2))
  }
  # they act side by side
  expect_equal(parts$joint[parts$model == "linear"], parts$sum[parts$model == "linear"])
  expect_gt(max(abs(parts$joint - parts$sum)), 0.001)
  expect_match(
    paste(capture.output(print(rk)), collapse = " "), "fire \\(linear\\): as one player"
  )
})

test_that("several sets of rows, and shares with errors of their own", {
  kiln <- demo_kiln(missing = FALSE)
  fit <- rpart::rpart(
    strength ~ peak_temp + hold_minutes + grog_share + cooling_rate, kiln$train
  )
  st <- study(fit, kiln$holdout, "strength", train = kiln$train)
  rk <- rank_shapley(
    st,
    rows = list(early = kiln$holdout[1:150, ], late = kiln$holdout[151:300, ]),
    background = 20
  )
  for (on in c("early", "late")) {
    alone <- rank_shapley(
      st, rows = kiln$holdout[if (on == "early") 1:150 else 151:300, ], background = 20
    )
    expect_equal(rk$importance[rk$rows == on], alone$importance)
  }
  expect_setequal(
    rank_shapley(st, rows = c("holdout", "train"), background = 10, max_rows = 40)$rows,
    c("holdout", "train")
  )
  expect_error(rank_shapley(st, rows = "oob"), "out-of-bag", class = "dreher_error_input")
  # Shares: their sum is 1, and the error is that of a ratio of means, here by dropping one row
  # after the other.
  one <- rank_shapley(st, background = 20, max_rows = 200)
  shares <- detail(one, "shares")
  expect_equal(shares$share, one$share, tolerance = 1e-12)
  expect_equal(shares$cumulative[4], 1)
  expect_equal(shares$cumulative_error[4], 0, tolerance = 1e-10)
  size <- abs(attr(one, "row_values")[[1]][, shares$predictor, 1])
  drop_one <- t(vapply(
    1:200, function(i) colMeans(size[-i, ]) / sum(colMeans(size[-i, ])), double(4)
  ))
  jack <- apply(drop_one, 2, function(v) sqrt(199 / 200 * sum((v - mean(v))^2)))
  expect_equal(shares$std_error, unname(jack), tolerance = 0.01)
})

test_that(
  paste0(
    "ten thousand predictors, five thousand trees, stumps: values add up, both ways, ",
    "and nobody plays who is not asked"
  ),
  {
    set.seed(8)
    divide <- function(f, x, background, cover) {
      p <- ncol(x)
      phi <- if (cover) {
        forest_shapley(
          f,
          x,
          x[0, , drop = FALSE],
          forest_cover(f, x, matrix(0L, 0, 0), 1L)$cover,
          seq_len(p),
          p,
          2L
        )
      } else {
        forest_shapley(f, x, background, double(), seq_len(p), p, 2L)
      }
      before <- if (cover) {
        forest_cover(f, x, matrix(0L, 0, 0), 1L)$baseline
      } else {
        mean(forest_predict(f, background, 1L))
      }
      expect_equal(
        rowSums(matrix(phi, nrow(x))),
        as.vector(forest_predict(f, x, 1L)) - before,
        tolerance = 1e-8
      )
      matrix(phi, nrow(x))
    }
    wide <- random_flat_forest(paste0("v", 1:10000), trees = 300, depth = 5)
    x <- matrix(rnorm(20 * 10000), 20, dimnames = list(NULL, paste0("v", 1:10000)))
    for (cover in c(TRUE, FALSE)) {
      phi <- divide(wide, x, x[1:5, ], cover)
      expect_true(all(phi[, -(unique(wide$column[wide$column >= 0]) + 1)] == 0))
    }
    for (depth in c(1, 3)) {
      many <- random_flat_forest(letters[1:8], trees = 5000, depth = depth)
      x <- matrix(rnorm(30 * 8), 30, dimnames = list(NULL, letters[1:8]))
      for (cover in c(TRUE, FALSE)) divide(many, x, x[1:7, ], cover)
    }
  }
)

test_that("by cover: gaps in the training rows alone have their branch or stay", {
  few <- c("peak_temp", "hold_minutes", "cooling_rate", "grog_share")
  d <- kiln_rows(200)[c(few, "strength")]
  new <- d[161:180, ]
  d <- d[1:160, ]
  d$peak_temp[1:30] <- NA
  d$hold_minutes[20:50] <- NA
  tree <- function(...) rpart::rpart(strength ~ ., d, control = rpart::rpart.control(...))
  models <- list(
    stays = tree(usesurrogate = 0, maxsurrogate = 0),
    surrogates = tree(usesurrogate = 1, maxsurrogate = 1),
    third = gbm::gbm(
      strength ~ ., "gaussian", d, n.trees = 8, interaction.depth = 2, bag.fraction = 1
    )
  )
  for (name in names(models)) {
    st <- study(models[name], new, "strength", train = d)
    model <- st$models[[1]]
    phi <- attr(rank_shapley(st, value = "cover"), "row_values")[[1]][, , 1]
    cover <- cover_of(st, model)
    x <- as.matrix(encode_for_forest(model$forest, model_rows(st, model, new[1:3, ])))
    for (i in 1:3) {
      expect_equal(
        unname(phi[i, model$forest$columns]),
        slow_shapley_of(
          function(known) slow_cover_value(model$forest, cover$cover, x[i, ], known),
          length(model$forest$columns)
        ),
        tolerance = 1e-8,
        info = name
      )
    }
    pairs <- interactions(st, value = "cover", rows = new[1:3, ])
    expect_s3_class(pairs, "dreher_interactions")
  }
})
