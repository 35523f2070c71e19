# Is anything called above the noise floor where nothing acts, and is everything found that does?
# See the settings below; 5 % level. Run with: Rscript bench/floor.R [data sets] [refits] Results:
# bench/results/floor.csv
library(dreher)
asked <- as.integer(commandArgs(TRUE))
datasets <- if (length(asked) > 0) asked[1] else 100L
draws <- if (length(asked) > 1) asked[2] else 39L

# Nothing acts: mixed types and many levels.
mixed <- function(n) {
  data.frame(
    yes = rbinom(n, 1, 0.5),
    three = factor(sample(letters[1:3], n, TRUE)),
    ten = factor(sample(letters[1:10], n, TRUE)),
    normal = rnorm(n),
    skewed = rexp(n),
    y = rnorm(n)
  )
}
# Five of fifty act.
signals <- function(n) {
  x <- as.data.frame(matrix(rnorm(n * 50), n))
  x$y <- rowSums(x[1:5]) + rnorm(n)
  x
}
# One acts, another is its follower (correlation 0.7).
follower <- function(n) {
  x <- data.frame(acts = rnorm(n), far = rnorm(n))
  x$follower <- 0.7 * x$acts + sqrt(1 - 0.49) * rnorm(n)
  x$y <- x$acts + rnorm(n)
  x
}
forest <- function(d, i, trees = 50) {
  ranger::ranger(
    y ~ .,
    d,
    num.trees = trees,
    num.threads = 1,
    seed = i,
    keep.inbag = TRUE,
    respect.unordered.factors = "partition"
  )
}
found <- NULL
for (i in seq_len(datasets)) {
  run <- function(what, make, n, by, shuffle = "marginal") {
    set.seed(i)
    train <- make(n)
    hold <- make(n)
    st <- study(forest(train, i), hold, "y", train = train, threads = 1)
    t <- as.data.frame(noise_floor(
      st, by = by, refits = draws, shuffle = shuffle, background = 20, seed = i
    ))
    conditional <- shuffle == "conditional"
    for (part in split(t, paste(t$method, t$rows))) {
      above <- part$predictor[part$above]
      found <<- rbind(
        found,
        data.frame(
          what,
          method = part$method[1],
          rows = part$rows[1],
          conditional,
          value = switch(
            what,
            `some called, none acts` = length(above) > 0,
            `all five found` = all(paste0("V", 1:5) %in% above),
            `follower called` = "follower" %in% above
          )
        )
      )
      if (what == "follower called") {
        found <<- rbind(
          found,
          data.frame(
            what = "its signal called",
            method = part$method[1],
            rows = part$rows[1],
            conditional,
            value = "acts" %in% above
          )
        )
      }
    }
  }
  run("some called, none acts", mixed, 150, c("impurity", "permutation", "shapley"))
  if (i <= datasets / 2) run("all five found", signals, 300, "permutation")
  run("follower called", follower, 200, "permutation", "conditional")
  if (i %% 10 == 0 || i == datasets) {
    cells <- aggregate(value ~ what + method + rows + conditional, found, mean)
    cells$data_sets <- aggregate(
      value ~ what + method + rows + conditional, found, length
    )$value
    cells$refits <- draws
    cells$value <- round(cells$value, 3)
    write.csv(cells, "bench/results/floor.csv", row.names = FALSE)
  }
}
print(cells)
