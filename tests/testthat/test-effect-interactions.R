# Pairwise interaction values against enumeration, shares of variance against their definition.

# The interaction value of players i and j by the definition: all sets of the others.
slow_interaction <- function(value, i, j, players) {
  others <- setdiff(seq_len(players), c(i, j))
  sets <- expand.grid(rep(list(c(FALSE, TRUE)), length(others)))
  if (!length(others)) sets <- data.frame(row.names = 1)
  total <- 0
  for (s in seq_len(nrow(sets))) {
    S <- others[as.logical(unlist(sets[s, ]))]
    k <- length(S)
    weight <- factorial(k) * factorial(players - k - 2) / factorial(players - 1)
    total <- total + weight * (value(c(S, i, j)) - value(c(S, i)) - value(c(S, j)) + value(S))
  }
  total
}

random_table <- function(n, columns, levels, gaps) {
  x <- vapply(columns, function(p) {
    v <- if (is.null(levels[[p]])) rnorm(n) else sample(length(levels[[p]]), n, TRUE) + 0
    if (gaps) v[runif(n) < 0.15] <- NA
    v
  }, double(n))
  matrix(x, n, length(columns), dimnames = list(NULL, columns))
}

test_that("interaction values equal enumeration on random forests, and add up", {
  set.seed(11)
  worst <- worst_sum <- 0
  for (turn in 1:100) {
    columns <- letters[1:5]
    levels <- if (turn %% 2) list(b = c("p", "q", "r"), d = c("u", "v")) else list()
    outputs <- 1 + (turn %% 5 == 0)
    f <- random_flat_forest(columns, levels, trees = 2, depth = 4, outputs = outputs)
    x <- random_table(3, columns, levels, turn %% 3 == 0)
    # columns 4 and 5 are one player in every other forest
    player <- if (turn %% 4 < 2) c(1L, 2L, 3L, 4L, 4L) else 1:5
    P <- max(player)
    members <- split(1:5, player)
    by_cover <- turn %% 2 == 0
    if (by_cover) {
      train <- random_table(40, columns, levels, turn %% 3 == 0)
      cover <- forest_cover(f, train, matrix(0L, 0, 0), 1L)$cover
      z <- x[0, , drop = FALSE]
    } else {
      cover <- double()
      z <- random_table(6, columns, levels, turn %% 3 == 0)
    }
    got <- forest_interactions(f, x, z, cover, player, P, 1 + turn %% 2)
    phi <- forest_shapley(f, x, z, cover, player, P, 1L)
    pairs <- combn(P, 2)
    for (i in 1:3) {
      value <- function(S, k) {
        known <- unlist(members[S])
        if (by_cover) return(slow_cover_value(f, cover, x[i, ], known)[k])
        mixed <- z
        for (c in known) mixed[, c] <- x[i, c]
        mean(slow_predict(f, mixed)[, k])
      }
      for (k in seq_len(outputs)) {
        slow <- apply(pairs, 2, function(q) {
          slow_interaction(function(S) value(S, k), q[1], q[2], P)
        })
        worst <- max(worst, abs(slow - got[i, , k]))
        # own effects and halves of the pairs add up to the Shapley values
        half <- vapply(seq_len(P), function(j) sum(slow[colSums(pairs == j) > 0]) / 2, 0)
        alone <- vapply(seq_len(P), function(j) {
          phi[i, j, k] - half[j]
        }, 0)
        whole <- value(seq_len(P), k) - value(integer(), k)
        worst_sum <- max(worst_sum, abs(sum(alone) + sum(got[i, , k]) - whole))
      }
    }
  }
  expect_lt(worst, 1e-10)
  expect_lt(worst_sum, 1e-8)
})

test_that("trees of many leaves go another way to the same values, threads or not", {
  d <- kiln_rows(900)[c("peak_temp", "hold_minutes", "grog_share", "clay_source", "strength")]
  fit <- small_forest(strength ~ ., d, trees = 3, min.node.size = 1)
  st <- study(fit, kiln_rows(30, "holdout"), "strength", train = d)
  m <- st$models[[1]]
  expect_gt(length(m$forest$column) / 3, 512)
  units <- shapley_units(st, m, NULL)
  rows <- model_rows(st, m, st$data)[1:4, ]
  bg <- model_rows(st, m, d)[1:5, ]
  got <- pairs_of_forest(st, m, units, rows, bg)$values
  expect_equal(got, pairs_enumerated(st, m, units, rows, bg)$values, tolerance = 1e-10)
  two <- derive_study(st, threads = 2L)
  expect_identical(pairs_of_forest(two, m, units, rows, bg)$values, got)
})

test_that("chains of questions without end are refused, not walked", {
  chain <- function(n, columns) {
    at <- seq_len(n)
    list(
      column = c(rep_len(seq_along(columns) - 1L, n), rep(-1L, n + 1L)),
      threshold = rep(0, 2 * n + 1),
      left = c(at + n - 1L, rep(0L, n + 1L)),
      right = c(at[-1] - 1L, 2L * n, rep(0L, n + 1L)),
      missing = c(at + n - 1L, rep(0L, n + 1L)),
      value = matrix(seq_len(2 * n + 1) + 0, 1)
    )
  }
  columns <- paste0("v", 1:80)
  d <- as.data.frame(matrix(rnorm(80 * 20), 20, dimnames = list(NULL, columns)))
  for (n in c(70L, 3000L)) {
    f <- join_trees(list(chain(n, columns)), 1, columns)
    x <- as.matrix(d)
    expect_error(
      forest_interactions(
        f, x, x[0, , drop = FALSE], rep(1, length(f$column)), 1:80, 80L, 1L
      ),
      "on one path"
    )
  }
})

test_that("boosted trees agree with the library's own interactions, per class too", {
  d <- kiln_rows(200)[c(
      "peak_temp", "hold_minutes", "grog_share", "cooling_rate", "strength"
    )]
  x <- as.matrix(d[1:4])
  fit <- xgboost::xgb.train(
    list(max_depth = 4, eta = 0.3, nthread = 1),
    xgboost::xgb.DMatrix(x, label = d$strength),
    10
  )
  st <- study(fit, kiln_rows(20, "holdout"), "strength", train = d)
  m <- st$models[[1]]
  got <- pairs_of_forest(
    st, m, shapley_units(st, m, NULL), model_rows(st, m, st$data), NULL
  )$values
  own <- predict(
    fit, xgboost::xgb.DMatrix(as.matrix(st$data[colnames(x)])), predinteraction = TRUE
  )
  pairs <- combn(4, 2)
  for (q in 1:6) {
    expect_equal(
      got[, q, 1],
      2 * own[, pairs[1, q], pairs[2, q]],
      tolerance = 1e-3,
      ignore_attr = TRUE
    )
  }
})

test_that("a product of two numbers has its interaction in closed form", {
  set.seed(2)
  d <- data.frame(a = rnorm(80), b = rnorm(80), c = rnorm(80))
  d$y <- d$a * d$b + d$c + rnorm(80) / 100
  fit <- lm(y ~ a * b + c, d)
  st <- study(fit, d[1:40, ], "y", train = d[41:80, ])
  ia <- interactions(st, background = d[41:80, ])
  table <- as.data.frame(ia)
  expect_identical(table$predictor[1], "a")
  expect_identical(table$other[1], "b")
  beta <- coef(fit)[["a:b"]]
  # mean over background rows z of beta (a - a_z)(b - b_z)
  exact <- vapply(1:40, function(i) {
    mean(beta * (d$a[i] - d$a[41:80]) * (d$b[i] - d$b[41:80]))
  }, 0)
  expect_equal(attr(ia, "row_values")[[1]][, "a and b", 1], exact, tolerance = 1e-10)
  expect_equal(table$interaction[1], mean(abs(exact)), tolerance = 1e-10)
  expect_equal(table$interaction[2:3], c(0, 0))
})

test_that("sums of terms have their interactions on the link, of any number of predictors", {
  few <- c("peak_temp", "hold_minutes", "cooling_rate", "operator")
  rows <- kiln_rows(400, drop = setdiff(names(kiln$train), c(few, "defect")))
  data <- kiln_rows(12, "holdout", names(rows)[0])
  fit <- glm(defect ~ peak_temp * hold_minutes * operator + cooling_rate, binomial, rows)
  st <- study(fit, data, "defect", train = rows)
  few <- st$models[[1]]$inputs$predictors
  bg <- rows[1:15, ]
  ia <- interactions(st, background = bg)
  found <- attr(ia, "row_values")[[1]]
  sign <- if (st$classes[st$positive] == levels(rows$defect)[1]) -1 else 1
  pairs <- utils::combn(4, 2)
  for (q in seq_len(ncol(pairs))) {
    expected <- vapply(1:12, function(i) {
      slow_interaction(
        function(S) {
          z <- bg[few]
          for (p in few[S]) z[[p]] <- rep(data[[p]][i], 15)
          sign * mean(predict(fit, z))
        },
        pairs[1, q],
        pairs[2, q],
        4
      )
    }, 0)
    name <- paste(few[pairs[, q]], collapse = " and ")
    expect_equal(found[, name, 1], expected, tolerance = 1e-9, info = name)
  }
  expect_match(format_interactions(ia)[1], "log-odds", fixed = TRUE)
  expect_match(format_interactions(ia), "and three pairs without interaction", all = FALSE)

  d <- kiln_rows(120)
  many <- study(lm(strength ~ . + peak_temp:hold_minutes, d), data, "strength", train = d)
  table <- as.data.frame(interactions(many))
  expect_identical(unique(table$form), "shapley")
  expect_identical(table$predictor[table$interaction > 0], "peak_temp")
  plain <- study(lm(strength ~ ., d), data, "strength", train = d)
  expect_match(
    format_interactions(interactions(plain))[2],
    "No pair interacts in this model: its effects add up (prediction).",
    fixed = TRUE
  )
})

test_that("H and the share of variance follow their definition; rounding is none", {
  d <- kiln_rows(150)[c("peak_temp", "hold_minutes", "cooling_rate", "strength")]
  fit <- small_forest(strength ~ ., d, trees = 5)
  st <- study(fit, kiln_rows(25, "holdout"), "strength", train = d)
  table <- as.data.frame(interactions(st, by = "variance"))
  rows <- st$data
  f <- function(set, value) {
    data <- rows
    data[set] <- value[rep(1, nrow(rows)), set]
    mean(predict(fit, data)$predictions)
  }
  effect <- function(set) {
    e <- vapply(1:25, function(i) f(set, rows[i, ]), 0)
    e - mean(e)
  }
  one <- table[table$predictor == "peak_temp" & table$other == "hold_minutes", ]
  joint <- effect(c("peak_temp", "hold_minutes"))
  beyond <- joint - effect("peak_temp") - effect("hold_minutes")
  expect_equal(one$interaction, sum(beyond^2) / sum(joint^2), tolerance = 1e-9)
  p <- predict(fit, rows)$predictions
  expect_equal(one$share, sum(beyond^2) / sum((p - mean(p))^2), tolerance = 1e-9)
  additive <- study(lm(strength ~ ., d), kiln_rows(25, "holdout"), "strength", train = d)
  flat <- as.data.frame(interactions(additive, by = "variance", null = 3))
  expect_identical(flat$interaction, c(0, 0, 0))
  expect_identical(flat$p_value, c(1, 1, 1))
})

test_that("refits without interactions tell a real one from what a forest makes up", {
  set.seed(5)
  d <- data.frame(a = runif(200), b = runif(200), c = runif(200))
  d$y <- 4 * (d$a > 0.5) * (d$b > 0.5) + d$c + rnorm(200) / 5
  fit <- small_forest(y ~ ., d[1:120, ], trees = 20)
  st <- study(fit, d[121:200, ], "y", train = d[1:120, ])
  table <- as.data.frame(interactions(st, by = "variance", null = 19, max_rows = 40))
  of <- function(p, q) table$p_value[table$predictor == p & table$other == q]
  expect_lte(of("a", "b"), 0.05)
  expect_identical(table, as.data.frame(
    interactions(st, by = "variance", null = 19, max_rows = 40)
  ))
})

test_that("joint less summed permutation importance is zero where effects add up", {
  d <- kiln_rows(200)[c("peak_temp", "hold_minutes", "cooling_rate", "strength")]
  st <- study(lm(strength ~ ., d), kiln_rows(100, "holdout"), "strength", train = d)
  table <- as.data.frame(interactions(st, by = "permutation", repeats = 30))
  expect_true(all(table$lower <= 0 & table$upper >= 0))
  crossed <- study(
    lm(strength ~ peak_temp * hold_minutes, d),
    kiln_rows(100, "holdout"),
    "strength",
    train = d
  )
  alone <- as.data.frame(interactions(crossed, by = "permutation"))
  groups <- list(both = c("peak_temp", "hold_minutes"))
  mse <- study(
    lm(strength ~ peak_temp * hold_minutes, d),
    kiln_rows(100, "holdout"),
    "strength",
    train = d,
    metric = "mse"
  )
  joint <- as.data.frame(rank_permutation(mse, groups = groups))$importance
  each <- as.data.frame(rank_permutation(mse))$importance
  expect_equal(alone$interaction, joint - sum(each), tolerance = 1e-8)
})

test_that("paths count training rows that meet two questions one after the other", {
  d <- kiln_rows(120)[c("peak_temp", "hold_minutes", "strength")]
  fit <- rpart::rpart(strength ~ ., d, maxdepth = 2, minbucket = 5, cp = 0)
  st <- study(fit, kiln_rows(30, "holdout"), "strength", train = d)
  frame <- fit$frame
  node <- as.integer(rownames(frame))
  up <- match(node %/% 2, node)
  follows <- which(!is.na(up) & frame$var != "<leaf>" & frame$var != frame$var[up])
  table <- as.data.frame(interactions(st, by = "paths"))
  expect_equal(table$interaction, sum(frame$n[follows]) / nrow(d))
  expect_true(is.na(table$lower))
})

test_that("what has no pairs or no exact values is refused with the way out", {
  one <- kiln_rows(60)[c("peak_temp", "strength")]
  st <- study(lm(strength ~ ., one), kiln_rows(30, "holdout"), "strength", train = one)
  expect_error(interactions(st), "one predictor", class = "dreher_error_study")
  d <- kiln_rows(80)
  many <- study(
    lm(strength ~ ., d),
    kiln_rows(60, "holdout"),
    "strength",
    train = d,
    predict_with = function(model, data) predict(model, data)
  )
  expect_error(
    interactions(many, by = "shapley"), "by = \"variance\"", class = "dreher_error_model"
  )
  expect_identical(
    unique(as.data.frame(interactions(many, max_rows = 20))$form), "variance"
  )
  expect_error(interactions(many, by = "paths"), "no trees", class = "dreher_error_model")
  two <- study(
    lm(strength ~ peak_temp + hold_minutes, d),
    kiln_rows(30, "holdout"),
    "strength",
    train = d
  )
  expect_error(
    interactions(two, null = 5), "by = \"variance\"", class = "dreher_error_input"
  )
  expect_error(
    interactions(two, value = "cover"), "no trees", class = "dreher_error_model"
  )
})
