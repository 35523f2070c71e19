# How often is a smaller model called not worse by more than the margin where its loss is the margin
# exactly?
#
# A class with a share of 3 %: the full model knows both predictors, the smaller one the first. The
# margin is the true difference of their losses, from 4 million rows. Rows are drawn again and
# again; those with fewer than 10 of the class claim nothing and are counted. Nominal: 5 %. Run
# with: Rscript bench/confirm.R [samples per cell]   (some minutes)
# Results: bench/results/confirm.csv
library(dreher)
runs <- as.integer(c(commandArgs(TRUE), 4000)[1])
draw <- function(n) {
  d <- data.frame(a = rnorm(n), b = rnorm(n))
  d$y <- factor(
    ifelse(runif(n) < plogis(-4.3 + 1.2 * d$a + 0.6 * d$b), "yes", "no"), c("no", "yes")
  )
  d
}
full <- function(d) plogis(-4.3 + 1.2 * d$a + 0.6 * d$b)
small <- function(d) plogis(-4.18 + 1.15 * d$a)
both <- function(p) cbind(no = 1 - p, yes = p)
set.seed(1)
few <- draw(500)
large <- draw(4e6)
out <- NULL
for (metric in c("log_loss", "brier", "accuracy", "auc")) {
  st <- suppressWarnings(
    study(glm(y ~ a + b, binomial, few), few, "y", train = few, metric = metric)
  )
  # Accuracy by a threshold that some predictions pass.
  turn <- if (metric == "accuracy") function(p) plogis(qlogis(p) - qlogis(0.25)) else identity
  compare <- function(d, level = 0.95) {
    info <- dreher:::row_info(st, d)
    dreher:::paired_difference(
      st, info, both(turn(small(d))), both(turn(full(d))), level, 1
    )
  }
  truth <- compare(large)$loss
  for (n in c(300, 500, 1000, 2000)) {
    said <- parallel::mclapply(seq_len(runs), function(i) {
      set.seed(i)
      d <- compare(draw(n))
      c(claimed = !isTRUE(d$rarest < 10) && d$limit < truth, few = isTRUE(d$rarest < 10))
    }, mc.cores = 2)
    said <- do.call(rbind, said)
    out <- rbind(out, data.frame(
      metric = metric, n = n, samples = runs, wrong = mean(said[, "claimed"]),
      too_few = mean(said[, "few"]),
      wrong_of_enough = mean(said[!said[, "few"], "claimed"])
    ))
  }
}
out[] <- lapply(out, function(v) if (is.numeric(v)) signif(v, 3) else v)
utils::write.csv(out, "bench/results/confirm.csv", row.names = FALSE)
print(out)
