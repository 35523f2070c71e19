# What rankings over resamples cost beside the refits and predictions they are made of: 100
# bootstrap draws, three models, two workers. The bare work is done first, in one process and
# thread: every fit, and the predictions of the rows left out, once as they are and once per
# predictor and repeat, in a single call. And: 200 resamples of 1,000 predictors summarised. Run
# with: Rscript bench/resampled.R Results: bench/results/resampled.csv
library(dreher)
kiln <- demo_kiln(missing = FALSE)
train <- kiln$train[setdiff(names(kiln$train), c("ring_tone", "defect", "tile_id", "batch"))]
models <- list(
  forest = ranger::ranger(
    strength ~ ., train, num.trees = 200, num.threads = 1, seed = 1
  ),
  tree = rpart::rpart(strength ~ ., train),
  linear = lm(strength ~ ., train)
)
st <- study(models, kiln$holdout, "strength", train = train, threads = 1)
drawn <- draw_resamples(train, times = 100)
repeats <- 5
predictors <- setdiff(names(train), "strength")
bare <- system.time(
  for (m in names(models)) {
    for (b in 1:100) {
      fit <- refit_model(
        models[[m]],
        train[drawn$inside[[b]], ],
        "strength",
        predictors,
        seed = b,
        threads = 1
      )
      out <- train[drawn$outside[[b]], ]
      rows <- out[rep(seq_len(nrow(out)), 1 + repeats * length(predictors)), ]
      if (m == "forest") predict(fit, rows, num.threads = 1) else predict(fit, rows)
    }
  }
)[[3]]
future::plan("multisession", workers = 2)
rank <- function(times) {
  rank_predictors(
    st,
    by = "permutation",
    repeats = repeats,
    resamples = draw_resamples(train, times = times)
  )
}
invisible(rank(3))   # the workers are up
whole <- system.time(rank(100))[[3]]
future::plan("sequential")

set.seed(1)
x <- matrix(rnorm(200 * 1000), 200) + rep(rnorm(1000), each = 200)
names <- paste0("p", 1:1000)
many <- data.frame(
  model = "m",
  method = "permutation",
  rows = "left out",
  class = NA_character_,
  slice = NA_character_,
  resample = rep(1:200, each = 1000),
  predictor = rep(names, 200),
  importance = as.vector(t(x)),
  flag = ""
)
many <- structure(
  many,
  class = c("dreher_ranking", "data.frame"),
  labels = stats::setNames(names, names),
  settings = data.frame(
    model = "m", method = "permutation", rows = "left out", measures = "made up"
  ),
  resamples = list(kind = "bootstrap", times = 200, rows = 100, of = 100, outside = 37)
)
invisible(gc(reset = TRUE))
seconds <- min(replicate(3, system.time(stability(many))[[3]]))
memory <- sum(gc()[, 6])
results <- data.frame(
  what = c(
    "wall time / (bare refits and predictions / 2)",
    "seconds: 200 resamples x 1,000 predictors summarised", "MB at most in use then"
  ),
  value = signif(c(whole / (bare / 2), seconds, memory), 3)
)
print(results)
write.csv(results, "bench/results/resampled.csv", row.names = FALSE)
