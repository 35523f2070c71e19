# False calls of the null of interactions: additive truth, forests, p <= 0.05 for a pair.
#   Rscript bench/interaction-null.R [data sets]
suppressMessages(library(dreher))
given <- commandArgs(TRUE)
sets <- if (length(given)) as.integer(given[1]) else 300L
one <- function(i) {
  set.seed(i)
  d <- data.frame(a = runif(140), b = runif(140), c = runif(140))
  d$y <- 2 * d$a + sin(6 * d$b) + rnorm(140) / 2
  fit <- ranger::ranger(y ~ ., d[1:100, ], num.trees = 20, seed = i, num.threads = 1)
  st <- study(fit, d[101:140, ], "y", train = d[1:100, ], threads = 1)
  x <- as.data.frame(interactions(st, by = "variance", null = 39, max_rows = 25, seed = i))
  x$p_value[match(c("a b", "a c", "b c"), paste(x$predictor, x$other))]
}
p <- vapply(seq_len(sets), one, double(3))
out <- data.frame(
  pair = c("a and b", "a and c", "b and c", "all"),
  false_calls = c(rowMeans(p <= 0.05), mean(p <= 0.05)), sets = sets
)
print(out, row.names = FALSE)
utils::write.csv(out, "bench/results/interaction-null.csv", row.names = FALSE)
