# The promises made on the demo data.

rows <- kiln$train[setdiff(names(kiln$train), c("ring_tone", "defect"))]
forest <- ranger::ranger(
  strength ~ ., rows, num.trees = 100, keep.inbag = TRUE, seed = 1, num.threads = 2
)
st <- study(
  list(forest = forest),
  kiln$holdout,
  "strength",
  train = kiln$train,
  dictionary = kiln$dictionary
)

test_that(
  "three methods put the true top three first, the identifier and the idle ones last",
  {
    acting <- c(
      "peak_temp", "hold_minutes", "grog_share", "cooling_rate", "clay_source",
      "pyro_left", "pyro_right", "water_loss", "drying_hours", "drying_humidity"
    )
    idle <- c(
      "tile_id", "batch", "operator", "shelf_position", "room_humidity", "clay_moisture",
      "glaze_type", "glaze_viscosity", "glaze_thickness"
    )
    rk <- rank_predictors(st, background = 25)
    for (method in c("impurity", "permutation", "shapley")) {
      r <- rk[rk$method == method, ]
      expect_setequal(
        r$predictor[r$rank <= 3], c("peak_temp", "hold_minutes", "grog_share")
      )
      expect_lt(max(r$rank[r$predictor %in% acting]), min(r$rank[r$predictor %in% idle]))
      expect_match(r$flag[r$predictor == "tile_id"], "identifier")
    }
  }
)

test_that("a leak is reported as suspicious, in the ranking and in its sentence", {
  leaky <- study(
    lm(strength ~ ring_tone + peak_temp + hold_minutes, kiln$train),
    kiln$holdout,
    "strength",
    train = kiln$train,
    dictionary = kiln$dictionary
  )
  rk <- rank_permutation(leaky)
  expect_identical(rk$predictor[1], "ring_tone")
  expect_match(rk$flag[1], "possible leak", fixed = TRUE)
  expect_false(any(grepl("leak", rk$flag[-1])))
  expect_match(
    paste(format_ranking(rk), collapse = " "),
    "Possible leak: Ring tone when struck. Was it known before the target?",
    fixed = TRUE
  )
})

test_that(
  "one seed, one result: two fresh processes, one or two workers, one or two threads",
  {
    script <- tempfile(fileext = ".R")
    writeLines(
      c(
        "library(dreher)",
        paste0(
          "if (commandArgs(TRUE)[1] == '2') future::plan(future::multisession, ",
          "workers = 2)"
        ),
        "options(dreher.threads = as.integer(commandArgs(TRUE)[1]))",
        "kiln <- demo_kiln(missing = FALSE)",
        paste0(
          "d <- kiln$train[1:250, c('peak_temp', 'hold_minutes', 'clay_source', ",
          "'operator', 'strength')]"
        ),
        paste0(
          "models <- list(f = ranger::ranger(strength ~ ., d, num.trees = 10, seed = ",
          "1, num.threads = 1), l = lm(strength ~ ., d))"
        ),
        "st <- study(models, kiln$holdout[1:80, ], 'strength', train = d)",
        "rk <- rank_predictors(st, background = 20, seed = 5)",
        "rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, seed = 5)",
        paste0(
          "saveRDS(list(as.data.frame(rk), as.data.frame(rd), ",
          "as.data.frame(choose_set(rd, model = 'f'))), commandArgs(TRUE)[2])"
        )
      ),
      script
    )
    run <- function(workers) {
      out <- tempfile(fileext = ".rds")
      status <- system2(
        file.path(R.home("bin"), "Rscript"), c(shQuote(script), workers, shQuote(out))
      )
      expect_identical(status, 0L)
      readRDS(out)
    }
    a <- run(1)
    expect_identical(run(1), a)
    expect_identical(run(2), a)
  }
)

test_that("adding a model or a method changes no other number", {
  few <- c("peak_temp", "hold_minutes", "operator")
  d <- kiln_rows(200)
  one <- study(
    list(a = lm(reformulate(few, "strength"), d)),
    kiln_rows(60, "holdout"),
    "strength",
    train = d
  )
  two <- study(
    list(b = lm(strength ~ grog_share, d), a = lm(reformulate(few, "strength"), d)),
    kiln_rows(60, "holdout"),
    "strength",
    train = d
  )
  x <- as.data.frame(rank_permutation(one))
  y <- as.data.frame(rank_predictors(two, by = c("shapley", "permutation")))
  y <- y[y$model == "a" & y$method == "permutation", ]
  rownames(y) <- NULL
  expect_identical(x$importance, y$importance)
})
