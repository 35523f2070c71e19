test_that(
  "the score's parts equal all orders on average, and add up to what the loss falls by",
  {
    set.seed(9)
    d <- as.data.frame(matrix(
      rnorm(120 * 3), 120, dimnames = list(NULL, c("a", "b", "idle"))
    ))
    d$y <- d$a + d$b + rnorm(120) / 2
    f <- function(model, data) data$a + 0.5 * data$b + 0.5 * data$idle
    st <- study(1, d[1:60, ], "y", train = d[61:120, ], metric = "rmse", predict_with = f)
    bg <- d[61:80, ]
    rk <- rank_shapley(st, of = c("prediction", "score"), background = bg)
    of <- as.data.frame(rk)[rk$form == "score", ]
    way <- detail(rk, "direction")
    expect_identical(
      way$direction[match(c("a", "b", "idle"), way$predictor)], rep("rises", 3)
    )
    expect_equal(
      way$mean[way$predictor == "a"], mean(d$a[1:60]) - mean(bg$a), tolerance = 1e-10
    )
    # By definition: all sets, all rows.
    v <- function(known) {
      p <- vapply(
        1:60,
        function(i) {
          m <- bg
          for (j in known) m[[j]] <- d[i, j]
          mean(f(1, m))
        },
        0
      )
      -mean((p - d$y[1:60])^2)
    }
    exact <- slow_shapley_of(function(known) v(c("a", "b", "idle")[known]), 3)
    at <- match(c("a", "b", "idle"), of$predictor)
    expect_true(all(abs(of$importance[at] - exact) < 4 * of$std_error[at]))
    expect_equal(
      sum(of$importance), v(c("a", "b", "idle")) - v(character()), tolerance = 1e-10
    )
    score <- detail(rk, "score")
    expect_equal(score$divided, sum(of$importance), tolerance = 1e-10)
    expect_equal(score$model_loss, mean((f(1, d[1:60, ]) - d$y[1:60])^2))
    # A predictor that moves the predictions and helps nobody.
    expect_match(of$flag[of$predictor == "idle"], "no effect on score")
    expect_no_match(of$flag[of$predictor == "a"], "no effect on score")
    expect_output(print(rk), "Shapley score")
    # Many draws of orders come to the exact value.
    each <- vapply(
      1:60,
      function(s) {
        one <- rank_shapley(st, of = "score", background = bg, seed = s)
        one$importance[match(c("a", "b", "idle"), one$predictor)]
      },
      double(3)
    )
    expect_true(all(
      abs(rowMeans(each) - exact) < 4 * apply(each, 1, sd) / sqrt(60) + 1e-9
    ))
  }
)

test_that("classes and weights; what cannot be divided is refused", {
  late <- loans$train[1:200, c("loan_days", "earlier_late", "reminders", "returned_late")]
  fit <- small_forest(returned_late ~ ., late, probability = TRUE)
  h <- loans$holdout[1:40, names(late)]
  h$counts <- rep(1:2, 20)
  late$counts <- 1
  st <- study(
    fit, h, "returned_late", train = late, weights = "counts", metric = "log_loss"
  )
  rk <- rank_shapley(st, of = "score", background = 20)
  loss <- function(p) -log(pmax(p[cbind(1:40, as.integer(h$returned_late))], 1e-15))
  base <- colMeans(predict_model(st, st$models[[1]], draw_background(st, 20, 1)))
  expect_equal(
    sum(rk$importance),
    weighted.mean(
      loss(matrix(base, 40, 2, byrow = TRUE)) - loss(predict_model(
        st, st$models[[1]], h
      )),
      h$counts
    ),
    tolerance = 1e-10
  )
  expect_error(
    rank_shapley(
      study(fit, h, "returned_late", train = late, metric = "auc"), of = "score"
    ),
    "not a mean over rows",
    class = "dreher_error_study"
  )
  expect_error(
    rank_shapley(st, of = "score", value = "cover"),
    "value = \"background\"",
    class = "dreher_error_input"
  )
})
