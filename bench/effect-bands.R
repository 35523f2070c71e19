# Do the bands of averaged curves hold what the help page says? 300 samples of rows for the curve of
# a fitted model (three times as many), 300 training sets for the mean curve of a learner.
#   Rscript bench/effect-bands.R [samples]
suppressMessages(library(dreher))
given <- commandArgs(TRUE)
times <- if (length(given)) as.integer(given[1]) else 300L
make <- function(n) {
  d <- data.frame(a = runif(n), b = runif(n))
  d$y <- 2 * d$a + 3 * d$a * d$b + d$b^2 + rnorm(n) / 2
  d
}
at <- list(a = c(0.1, 0.5, 0.9))
set.seed(1)
train <- make(300)
population <- make(200000)
rows_hold <- function(fit, says) {
  truth <- vapply(at$a, function(v) mean(says(fit, transform(population, a = v))), 0)
  inside <- vapply(seq_len(3 * times), function(i) {
    set.seed(i)
    st <- study(fit, make(150), "y", train = train, threads = 1)
    e <- effect_curves(st, predictors = "a", at = at)
    e$lower <= truth & e$upper >= truth
  }, logical(3))
  mean(inside)
}
forest <- ranger::ranger(y ~ ., train, num.trees = 50, num.threads = 1, seed = 1)
linear <- lm(y ~ a * b, train)
# The learner's mean curve on rows that stay the same.
held <- make(100)
curve_of <- function(d) {
  fit <- lm(y ~ a * b, d)
  vapply(at$a, function(v) mean(predict(fit, transform(held, a = v))), 0)
}
truth <- rowMeans(vapply(seq_len(4000), function(i) {
  set.seed(1e5 + i)
  curve_of(make(100))
}, double(3)))
inside <- vapply(seq_len(times), function(i) {
  set.seed(2e5 + i)
  d <- make(100)
  st <- study(lm(y ~ a * b, d), held, "y", train = d, threads = 1)
  e <- effect_curves(st, predictors = "a", at = at, resamples = draw_resamples(d, times = 40))
  e$lower <= truth & e$upper >= truth
}, logical(3))
out <- data.frame(
  band = c("rows, linear", "rows, forest", "learner, linear"),
  coverage = c(
    rows_hold(linear, function(m, d) predict(m, d)),
    rows_hold(forest, function(m, d) predict(m, d, num.threads = 1)$predictions), mean(inside)
  ),
  samples = c(3, 3, 1) * times
)
print(out, row.names = FALSE)
utils::write.csv(out, "bench/results/effect-bands.csv", row.names = FALSE)
