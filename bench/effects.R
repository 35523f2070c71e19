# Effect curves against predicting every point with the model's own predict, and interaction values
# against the boosting library's: whole calls, one thread, CPU time, ratios in one run.
#   Rscript bench/effects.R
suppressMessages(library(dreher))
cpu <- function(code) {
  t <- system.time(code)
  sum(t[c("user.self", "sys.self")])
}
set.seed(1)
n <- 5000
d <- as.data.frame(matrix(rnorm(n * 20), n))
d$y <- d$V1 * d$V2 + d$V3 + rnorm(n)
fit <- ranger::ranger(y ~ ., d, num.trees = 500, num.threads = 1, seed = 1)
st <- suppressWarnings(study(fit, d, "y", train = d, threads = 1))
own <- cpu(ef <- effect_curves(st))
points <- split(ef$position, factor(ef$predictor, paste0("V", 1:20)))
# a tenth of the points: the library's time grows with their number
some <- lapply(points, function(x) x[c(3, 15)])
theirs <- cpu(for (p in names(some)) {
  for (v in some[[p]]) {
    moved <- d
    moved[[p]] <- v
    mean(predict(fit, moved, num.threads = 1)$predictions)
  }
}) * length(unlist(points)) / length(unlist(some))
a <- data.frame(
  what = "averaged curves, 20 predictors x 25 points, 5,000 rows, 500 deep trees",
  seconds = own, reference = theirs, ratio = theirs / own
)
x <- as.data.frame(matrix(rnorm(5000 * 50), 5000))
x$y <- x$V1 * x$V2 + x$V3 + sin(x$V4) * x$V5 + rnorm(5000)
m <- as.matrix(x[1:50])
boost <- xgboost::xgb.train(
  list(max_depth = 6, eta = 0.1, nthread = 1), xgboost::xgb.DMatrix(m, label = x$y), 500
)
fresh <- as.data.frame(matrix(rnorm(1000 * 50), 1000))
fresh$y <- 0
fresh$y[1] <- 1
st <- study(boost, fresh, "y", train = x, threads = 1)
few <- xgboost::xgb.DMatrix(as.matrix(fresh[1:20, 1:50]))
library_time <- cpu(predict(boost, few, predinteraction = TRUE)) * 1000 / 20
both <- vapply(c("cover", "background"), function(value) {
  cpu(interactions(st, value = value))
}, 0)
b <- data.frame(
  what = paste("all pairs, 50 predictors, 500 trees of depth 6, 1,000 rows,", names(both)),
  seconds = both, reference = library_time, ratio = library_time / both
)
out <- rbind(a, b)
out[-1] <- round(out[-1], 2)
print(out, row.names = FALSE)
utils::write.csv(out, "bench/results/effects.csv", row.names = FALSE)
