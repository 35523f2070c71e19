# A method that the package does not know, in one record; and a class of models from outside.

d <- kiln_rows(120)[c("strength", "peak_temp", "hold_minutes", "grog_share", "cooling_rate")]
h <- kiln_rows(80, "holdout")[names(d)]

# How far the predictions move, on average, when a predictor takes the values of other rows.
sway_record <- list(
  name = "sway",
  label = "Sway",
  colour = "#5A6B3B",
  needs = character(),
  any_rows = TRUE,
  usual_rows = "holdout",
  held_out = TRUE,
  floor = TRUE,
  rank = function(st, model, evaluation, settings) {
    m <- st$models[[model]]
    rows <- model_rows(st, m, evaluation$data)
    before <- predict_aligned(st, m, rows)[, 1]
    donors <- draw_donors(nrow(rows), 3, settings$seed)
    moved <- vapply(
      m$inputs$predictors,
      function(p) {
        changed <- lapply(1:3, function(r) {
          rows[[p]] <- rows[[p]][donors[, r]]
          abs(predict_aligned(st, m, rows)[, 1] - before)
        })
        Reduce(`+`, changed) / 3
      },
      double(nrow(rows))
    )
    about <- new_settings(
      m, "sway", evaluation, nrow(rows), repeats = 3L, measures = "mean move"
    )
    table <- ranking_rows(
      st,
      about,
      colnames(moved),
      colMeans(moved),
      inference = "rows",
      flag = flags_of_names(st, m, colnames(moved))
    )
    validate_ranking(ranking_part(
      st,
      table,
      about,
      settings$seed,
      settings$level,
      values = array(moved, c(dim(moved), 1), list(NULL, colnames(moved), NULL))
    ))
  }
)

# Least squares with a small penalty, as somebody else might have written it.
fit_ridge <- function(data, target, predictors, penalty = 0.1) {
  x <- cbind(1, as.matrix(data[predictors]))
  scale <- diag(c(0, apply(x[, -1, drop = FALSE], 2, stats::var)))
  beta <- solve(crossprod(x) + penalty * scale, crossprod(x, data[[target]]))
  structure(
    list(beta = drop(beta), predictors = predictors, penalty = penalty), class = "toy_ridge"
  )
}
register_ridge <- function() {
  own <- list(
    model_task = function(model, ...) list(task = "regression", classes = NULL),
    model_inputs = function(model, train = NULL, ...) {
      new_inputs(model$predictors, list(), missing = FALSE)
    },
    model_predictions = function(model, data, ...) {
      drop(cbind(1, as.matrix(data[model$predictors])) %*% model$beta)
    },
    refit_model = function(model, data, target, predictors, seed = 1, threads = 1, ...) {
      fit_ridge(data, target, predictors, model$penalty)
    }
  )
  for (generic in names(own)) {
    registerS3method(generic, "toy_ridge", own[[generic]], envir = asNamespace("dreher"))
  }
}

test_that("a method of one record and a class of one's own go through the whole package", {
  register_method(sway_record)
  on.exit(rm("sway", envir = added_methods))
  register_ridge()
  predictors <- setdiff(names(d), "strength")
  st <- study(
    list(ridge = fit_ridge(d, "strength", predictors), linear = lm(strength ~ ., d)), h,
    "strength", train = d
  )
  rk <- rank_predictors(st, by = c("sway", "permutation"), repeats = 5)
  expect_setequal(rk$method, c("sway", "permutation"))
  top <- rk$predictor[rk$method == "sway" & rk$rank <= 2]
  expect_setequal(top, c("peak_temp", "hold_minutes"))
  expect_output(print(rk), "Sway")
  expect_identical(dim(row_values(rk, method = "sway")), c(80L, 4L, 1L))
  picture <- ggplot2::autoplot(rk)
  expect_true("#5A6B3B" %in% ggplot2::ggplot_build(picture)$data[[4]]$colour)
  expect_s3_class(agreement(rk, study = st), "dreher_agreement")
  drawn <- rank_predictors(st, by = "sway", resamples = draw_resamples(d, times = 20))
  steady <- as.data.frame(suppressWarnings(stability(drawn)))
  expect_setequal(steady$model, c("ridge", "linear"))
  expect_true(all(steady$rank[steady$predictor == "peak_temp"] <= 2))
  nf <- noise_floor(st, by = "sway", refits = 19)
  expect_true(all(nf$table$above[nf$table$predictor == "peak_temp"]))
  rd <- reduce_predictors(
    st, by = "sway", models = "ridge", folds = 3, repeats = 1, inner_folds = 2, random = 0
  )
  expect_true("peak_temp" %in% choose_set(rd)$predictors)
  expect_error(rank_predictors(st, by = "twist"), "sway", class = "dreher_error_input")
})

test_that("records are checked, and every method of the package applies or says why not", {
  expect_error(
    new_method(list(name = "odd", label = "Odd", rank = identity, colours = "red")),
    "colours",
    class = "dreher_error_internal"
  )
  expect_error(new_method(list(name = "odd")), "rank", class = "dreher_error_internal")
  known <- importance_methods()
  expect_identical(names(known), unname(vapply(known, `[[`, "", "name")))
  st <- study(list(linear = lm(strength ~ ., d)), h, "strength")
  for (method in names(known)) {
    why <- why_not(method, st$models$linear, st, list(background = 10))
    expect_identical(nzchar(why), method != "permutation")
  }
})

test_that("which importance to read first follows from data and models", {
  set.seed(3)
  n <- 300
  d <- data.frame(a = rnorm(n), flag = rep(0:1, n / 2), c = rnorm(n))
  d$near <- d$a + 0.2 * rnorm(n)
  d$y <- d$a + d$c + rnorm(n)
  forest <- ranger::ranger(y ~ ., d[1:200, ], num.trees = 30, keep.inbag = TRUE, seed = 1)
  st <- study(
    list(forest = forest, linear = lm(y ~ ., d[1:200, ])),
    d[201:300, ],
    "y",
    train = d[1:200, ]
  )
  advice <- recommend_methods(st)
  use <- function(method, model = "forest") {
    advice[advice$model == model & advice$method == method, ]
  }
  expect_identical(use("permutation")$use, "first")
  expect_match(use("permutation")$why, "2 of 4 predictors go together")
  expect_identical(use("impurity")$use, "with care")  # two values beside 200
  expect_identical(nrow(use("impurity", "linear")), 0L)
  expect_identical(use("coefficients", "linear")$use, "with care")
  expect_false(attr(advice, "details")$few_rows)
  expect_output(print(advice), "linear")
  alone <- d[c("a", "c", "y")]
  plain <- recommend_methods(study(
    lm(y ~ ., alone[1:60, ]), alone[201:300, ], "y", train = alone[1:60, ]
  ))
  expect_match(plain$why[plain$method == "permutation"], "no two predictors go together")
  expect_output(print(plain), "Few training rows")
  noise <- transform(alone, y = rnorm(n))
  idle <- recommend_methods(study(
    lm(y ~ ., noise[1:200, ]), noise[201:300, ], "y", train = noise[1:200, ]
  ))
  expect_true(all(idle$use == "not"))
  expect_error(recommend_methods(lm(y ~ a, d)), "study", class = "dreher_error_input")
})
