# Large trees against background rows. One row alone is followed beside each background row, which
# the slow definition proves (test-ranking-shapley.R); rows together are walked in sets.

in_pairs <- function(f, x, background, player_of = seq_len(ncol(x))) {
  each <- lapply(seq_len(nrow(x)), function(i) {
    forest_shapley(
      f, x[i, , drop = FALSE], background, double(), player_of, max(player_of), 1L
    )
  })
  array(
    do.call(rbind, lapply(each, matrix, nrow = 1)),
    c(nrow(x), max(player_of), length(f$base))
  )
}
in_sets <- function(f, x, background, player_of = seq_len(ncol(x)), threads = 1L) {
  forest_shapley(f, x, background, double(), player_of, max(player_of), threads)
}
# More questions in every tree than a table takes.
large_forest <- function(...) {
  repeat {
    f <- random_flat_forest(...)
    tree <- findInterval(which(f$column >= 0) - 1, f$root)
    if (min(tabulate(tree, length(f$root))) > 63) return(f)
  }
}

with_gaps <- function(x, share = 0.1) {
  x[stats::runif(length(x)) < share] <- NA
  x
}

# A tree whose missing values at some questions go to a leaf of their own, and stay at others.
with_branches <- function(f) {
  chosen <- sample(which(f$column >= 0), 40)
  for (at in chosen[1:20]) {
    f$missing[at] <- length(f$column)
    for (name in c("left", "right", "missing", "set_from")) f[[name]] <- c(f[[name]], -1L)
    f$column <- c(f$column, -1L)
    f$threshold <- c(f$threshold, 0)
    f$owner <- c(f$owner, length(f$owner))
    f$set_size <- c(f$set_size, 0L)
    f$value <- cbind(f$value, stats::rnorm(nrow(f$value)))
  }
  f$missing[chosen[21:40]] <- -1L
  f
}

test_that(
  "sets of rows give what pairs of rows give: levels, gaps, families, several outputs",
  {
    levels <- list(c = c("p", "q", "r"), e = c("u", "v"))
    for (seed in 1:6) {
      set.seed(seed)
      columns <- letters[1:c(5, 9, 12)[seed %% 3 + 1]]
      outputs <- c(1, 3)[seed %% 2 + 1]
      f <- large_forest(columns, levels, trees = 2, depth = 10, outputs = outputs)
      x <- matrix(
        stats::rnorm(120 * length(columns)), 120, dimnames = list(NULL, columns)
      )
      x[, "c"] <- sample(3, 120, TRUE)
      x[, "e"] <- sample(2, 120, TRUE)
      if (seed > 2) x <- with_gaps(x)
      families <- if (seed %% 3 == 0) {
        (seq_along(columns) + 1) %/% 2
      } else {
        seq_along(columns)
      }
      rows <- x[1:75, ]
      background <- x[76:120, ]
      expect_equal(
        in_sets(f, rows, background, families),
        in_pairs(f, rows, background, families),
        tolerance = 1e-10,
        ignore_attr = TRUE
      )
    }
  }
)

test_that("missing values stay or have a branch of their own", {
  for (seed in 1:4) {
    set.seed(seed)
    f <- with_branches(large_forest(letters[1:7], trees = 1, depth = 10, outputs = 2))
    x <- with_gaps(
      matrix(stats::rnorm(120 * 7), 120, dimnames = list(NULL, letters[1:7])), 0.2
    )
    expect_equal(
      in_sets(f, x[1:75, ], x[76:120, ]),
      in_pairs(f, x[1:75, ], x[76:120, ]),
      tolerance = 1e-10,
      ignore_attr = TRUE
    )
  }
})

test_that("surrogates of a fitted tree", {
  d <- kiln_rows(400)[c("peak_temp", "hold_minutes", "cooling_rate", "strength")]
  set.seed(2)
  for (j in 1:3) d[[j]][sample(400, 60)] <- NA
  tree <- rpart::rpart(
    strength ~ ., d, control = rpart::rpart.control(cp = 0, minsplit = 2, maxsurrogate = 2)
  )
  f <- study(tree, d, "strength")$models[[1]]$forest
  expect_gt(sum(f$column >= 0), 63)
  x <- as.matrix(encode_for_forest(f, d))
  expect_equal(
    in_sets(f, x[1:75, ], x[76:120, ]), in_pairs(f, x[1:75, ], x[76:120, ]),
    tolerance = 1e-10, ignore_attr = TRUE
  )
})

test_that("more background rows than a walk takes, more rows than a block, any threads", {
  set.seed(5)
  f <- large_forest(letters[1:6], trees = 3, depth = 9)
  x <- matrix(stats::rnorm(2600 * 6), 2600, dimnames = list(NULL, letters[1:6]))
  few <- in_sets(f, x[1:10, ], x[101:2600, ])
  expect_equal(
    few, in_pairs(f, x[1:10, ], x[101:2600, ]), tolerance = 1e-10, ignore_attr = TRUE
  )
  one <- in_sets(f, x[1:1500, ], x[1501:1530, ])
  expect_identical(one, in_sets(f, x[1:1500, ], x[1501:1530, ], threads = 2L))
  # A row's values do not hang on the rows beside it.
  expect_identical(one[1:400, , ], in_sets(f, x[1:400, ], x[1501:1530, ])[, , 1])
  expect_equal(
    rowSums(one[, , 1]),
    drop(forest_predict(f, x[1:1500, ], 1L)) - mean(forest_predict(
      f, x[1501:1530, ], 1L
    )),
    tolerance = 1e-8
  )
})

test_that("a path that asks more players than a word has bits is followed in pairs", {
  columns <- paste0("v", 1:70)
  chain <- list(
    column = c(0:69, rep(-1L, 71)),
    threshold = rep(c(-2, 0), c(70, 71)),
    left = c(70:139, rep(0L, 71)),
    right = c(1:69, 140L, rep(0L, 71)),
    missing = c(1:69, 140L, rep(0L, 71)),
    owner = 0:140,
    set_size = integer(141),
    set_side = integer(),
    set_from = rep(-1L, 141),
    value = matrix(as.double(1:141), 1)
  )
  f <- join_trees(list(chain), 1, columns, list())
  set.seed(1)
  x <- matrix(stats::rnorm(100 * 70), 100, dimnames = list(NULL, columns))
  expect_equal(
    in_sets(f, x[1:50, ], x[51:100, ]), in_pairs(f, x[1:50, ], x[51:100, ]),
    tolerance = 1e-10, ignore_attr = TRUE
  )
})
