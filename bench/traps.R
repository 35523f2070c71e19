# Traps: small tables that lead an honest tool astray, and what must be said or refused of each.
# Beside them honest tables that look like traps: what is raised there is a false alarm.
#
#   Rscript bench/traps.R            both
#   Rscript bench/traps.R traps      results in bench/results/traps.csv
#   Rscript bench/traps.R honest     results in bench/results/traps-honest.csv
#
# A trap is a function that returns what happened and whether it held; its number is that of the
# kind of trap it stands for.

suppressMessages(library(dreher))
what <- commandArgs(TRUE)
if (!length(what)) what <- c("traps", "honest")
folder <- file.path("bench", "results")
options(width = 100, cli.num_colors = 1L)

# ---- helpers ----------------------------------------------------------------------------------

outcome <- function(happened, held) {
  list(happened = gsub("\\s+", " ", paste(happened, collapse = " | ")), held = isTRUE(held))
}

quietly <- function(code) suppressWarnings(suppressMessages(code))

# An error of ours whose message has these words.
refused <- function(code, words = "") {
  e <- tryCatch({
    quietly(code)
    NULL
  }, error = function(e) e)
  if (is.null(e)) return(outcome("passed", FALSE))
  text <- cli::ansi_strip(conditionMessage(e))
  outcome(text, inherits(e, "dreher_error") && all(vapply(words, grepl, NA, text)))
}

# A warning with these words.
warned <- function(code, words = "") {
  said <- character()
  withCallingHandlers(
    suppressMessages(code),
    warning = function(w) {
      said <<- c(said, cli::ansi_strip(conditionMessage(w)))
      invokeRestart("muffleWarning")
    }
  )
  text <- paste(said, collapse = " ")
  outcome(if (nzchar(text)) text else "no warning", all(vapply(words, grepl, NA, text)))
}

# A model that claims all columns and says a constant: checks look at values and models' columns.
constant_study <- function(rows, target, share = 0.7, seed = 1, ...) {
  set.seed(seed)
  rows <- as.data.frame(rows)
  rows <- rows[!is.na(rows[[target]]), ]
  y <- rows[[target]]
  if (!is.numeric(y)) rows[[target]] <- factor(y)
  train <- seq_len(nrow(rows)) %in% sample(nrow(rows), round(share * nrow(rows)))
  shares <- if (!is.numeric(y)) table(rows[[target]]) / nrow(rows)
  say <- function(model, data) {
    if (is.numeric(y)) return(rep(mean(y), nrow(data)))
    matrix(shares, nrow(data), length(shares), TRUE, list(NULL, names(shares)))
  }
  quietly(study(
    list(constant = structure(list(), class = "constant")), rows[!train, ], target,
    train = rows[train, ], predict_with = say, ...
  ))
}

# A linear or logistic model of all columns, on a random split.
fitted_study <- function(rows, target, share = 0.7, seed = 1, ...) {
  set.seed(seed)
  train <- seq_len(nrow(rows)) %in% sample(nrow(rows), round(share * nrow(rows)))
  formula <- reformulate(".", as.name(target))
  fit <- if (is.numeric(rows[[target]])) {
    lm(formula, rows[train, ])
  } else {
    glm(formula, binomial, rows[train, ])
  }
  quietly(study(fit, rows[!train, ], target, train = rows[train, ], ...))
}

# The gravest severity of these findings about a predictor, "none" where there is none.
severity_of <- function(st, predictor, kinds = c("leak", "tells nearly all")) {
  found <- as.data.frame(quietly(check_data(st)))
  found <- found[found$predictor == predictor & found$finding %in% kinds, ]
  c("severe", "doubt", "note", "none")[
    min(match(found$severity, c("severe", "doubt", "note")), 4)
  ]
}

found <- function(st, predictor, kinds, severity) {
  got <- severity_of(st, predictor, kinds)
  outcome(got, got %in% severity)
}

prints <- function(x, words = character(), never = character()) {
  text <- paste(gsub("\\s+", " ", capture.output(print(x))), collapse = " ")
  outcome(
    substr(text, 1, 400),
    all(vapply(words, grepl, NA, text)) && !any(vapply(never, grepl, NA, text))
  )
}

shipped <- function(name, package) {
  box <- new.env()
  utils::data(list = name, package = package, envir = box)
  as.data.frame(box[[name]])
}

yes_no <- function(n = 600, seed = 1) {
  set.seed(seed)
  x <- rnorm(n)
  z <- rnorm(n)
  y <- rbinom(n, 1, plogis(2 * x))
  data.frame(x, z, y01 = y, word = ifelse(y == 1, "bad", "good"))
}

regression_table <- function(n = 400, seed = 1) {
  set.seed(seed)
  d <- data.frame(a = rnorm(n), b = rnorm(n), c = rnorm(n), k = sample(letters[1:4], n, TRUE))
  d$y <- d$a + 0.7 * d$b + rnorm(n)
  d
}

csv <- function(d, ...) {
  file <- tempfile(fileext = ".csv")
  utils::write.csv(d, file, ...)
  file
}

yaml_study <- function(d, ..., target = "y", split = "{holdout: 0.25, untouched: 0.2}",
                       learners = "linear") {
  folder <- tempfile()
  dir.create(folder)
  utils::write.csv(d, file.path(folder, "d.csv"), row.names = FALSE)
  file <- file.path(folder, "study.yml")
  models <- as.vector(rbind(paste0("  ", learners, ":"), paste0("    learner: ", learners)))
  writeLines(c(
    "dreher: 1", "data:", "  file: d.csv", paste0("  split: ", split),
    paste0("target: '", target, "'"), "models:", models, ...
  ), file)
  file
}

study_of_yaml <- function(file) {
  spec <- dreher:::sound_spec(file)
  quietly(dreher:::study_of_file(
    spec, dreher:::file_tables(spec), function(name, key, make) make()
  ))
}

traps <- list()
trap <- function(number, name, must, code) {
  traps[[paste0(number, " ", name)]] <<- list(must = must, code = code)
}

# ---- 1: classes coded another way -------------------------------------------------------------

coded <- function(fit_of, ...) {
  d <- yes_no()
  fit <- fit_of(d[1:400, ])
  function(...) study(fit, d[401:600, ], "word", train = d[1:400, ], ...)
}
coders <- list(
  glm = function(d) glm(y01 ~ x + z, binomial, d),
  gbm = function(d) {
    set.seed(1)
    gbm::gbm(y01 ~ x + z, "bernoulli", d, n.trees = 60, n.cores = 1)
  },
  xgboost = function(d) {
    xgboost::xgb.train(
      list(objective = "binary:logistic", max_depth = 2, nthread = 1),
      xgboost::xgb.DMatrix(as.matrix(d[c("x", "z")]), label = d$y01), nrounds = 30
    )
  },
  `ranger on 0/1` = function(d) {
    ranger::ranger(
      y01 ~ x + z, transform(d[c("x", "z", "y01")], y01 = factor(y01)), probability = TRUE,
      num.trees = 60, seed = 1, num.threads = 1
    )
  },
  `rpart on 0/1` = function(d) rpart::rpart(factor(y01) ~ x + z, d, method = "class")
)
for (name in names(coders)) local({
  fit_of <- coders[[name]]
  trap(1, paste(name, "coded 0/1, target of words, nothing said"),
       "refused, fitting coding told", function() {
    make <- coded(fit_of)
    refused(make(), c("0 and 1", "fit 1 = \"bad\"", "positive = \"bad\""))
  })
  trap(1, paste(name, "coded 0/1, positive = bad"), "Brier score near 0.15", function() {
    make <- coded(fit_of)
    s <- quietly(score_models(make(positive = "bad")))
    outcome(round(s$score, 3), s$score < 0.2)
  })
})
trap(1, "1 said to be the other class", "severe: against the target", function() {
  make <- coded(coders$glm)
  found(quietly(make(positive = "good")), "(target)", "against the target", "severe")
})
trap(1, "1 said to be the other class: verdict", "No, swapped?", function() {
  make <- coded(coders$glm)
  v <- quietly(score_models(make(positive = "good")))$verdict
  outcome(v, grepl("^No: its predictions run against", v))
})
trap(1, "a sign turned round in a regression", "severe: against the target", function() {
  d <- regression_table()
  d$minus <- -d$y
  fit <- lm(minus ~ a + b, d[1:250, ])
  st <- quietly(study(
    fit, d[251:400, ], "y", train = d[1:250, ],
    predict_with = function(model, data) predict(model, data)
  ))
  found(st, "(target)", "against the target", "severe")
})
trap(1, "refits of a coded booster keep the coding", "skill of refits positive", function() {
  d <- yes_no()
  fit <- coders$xgboost(d[1:400, ])
  st <- quietly(study(fit, d[401:600, ], "word", train = d[1:400, ], positive = "bad"))
  rk <- quietly(rank_predictors(
    st, by = "permutation", resamples = draw_resamples(d[1:400, ], "bootstrap", times = 5)
  ))
  x <- mean(as.data.frame(rk)$importance[as.data.frame(rk)$predictor == "x"])
  outcome(round(x, 3), x > 0.02)
})
trap(1, "positive in the study file of a booster", "Brier score near 0.15", function() {
  d <- yes_no()[c("x", "z", "word")]
  st <- study_of_yaml(yaml_study(d, "positive: bad", target = "word", learners = "boosted"))
  s <- quietly(score_models(st))
  outcome(round(s$score, 3), s$score < 0.2)
})

# ---- 2, 3, 8: reading -------------------------------------------------------------------------

for (mark in c("k.A.", "n/a", "?", "-", "unknown", "not measured")) local({
  m <- mark
  trap(2, paste0("\"", m, "\" among numbers"), "numbers, told", function() {
    d <- regression_table()
    d$b[seq(5, 400, 33)] <- NA
    text <- ifelse(is.na(d$b), m, format(round(d$b, 3), trim = TRUE))
    d$b <- text
    file <- csv(d, row.names = FALSE)
    x <- quietly(read_rows(file))
    usual <- m %in% c("n/a", "-")
    told <- usual || warned(read_rows(file, quiet = TRUE), "missing value")$held
    outcome(class(x$b), is.numeric(x$b) && sum(is.na(x$b)) == sum(text == m) && told)
  })
})
trap(2, "words that need not be gaps", "text, told by name", function() {
  d <- regression_table()
  d$b <- ifelse(seq_len(400) %% 40 == 0, "ca. 3", format(round(d$b, 2)))
  warned(read_rows(csv(d, row.names = FALSE), quiet = TRUE), c("ca. 3", "read as text"))
})
trap(2, "marks that are named", "gaps", function() {
  d <- regression_table()
  d$b <- ifelse(seq_len(400) %% 40 == 0, "ca. 3", format(round(d$b, 2)))
  d$a[1:5] <- -99
  x <- quietly(read_rows(csv(d, row.names = FALSE), missing = list(b = "ca. 3", a = "-99")))
  outcome(paste(class(x$b), sum(is.na(x$a))), is.numeric(x$b) && sum(is.na(x$a)) == 5)
})
trap(2, "a stated type that does not fit", "refused with the rows", function() {
  d <- regression_table()
  d$b <- ifelse(seq_len(400) == 7, "ca. 3", format(round(d$b, 2)))
  refused(read_rows(csv(d, row.names = FALSE), types = c(b = "number")), c("row 7", "ca. 3"))
})
trap(2, "missing: of the study file", "numbers in the ranking", function() {
  d <- regression_table()
  d$b <- ifelse(seq_len(400) %% 40 == 0, "ca. 3", format(round(d$b, 2)))
  file <- yaml_study(d)
  lines <- readLines(file)
  lines <- append(lines, "  missing: {b: ['ca. 3']}", after = 3)
  writeLines(lines, file)
  st <- study_of_yaml(file)
  outcome(class(st$train$b), is.numeric(st$train$b))
})
for (mark in c(-9, -99, 999, 9999)) local({
  m <- mark
  trap(2, paste(m, "for a gap"), "doubt: number for a gap", function() {
    d <- regression_table()
    d$age <- sample(18:90, 400, TRUE)
    d$age[seq(3, 400, 29)] <- m
    found(constant_study(d, "y"), "age", "number for a gap", c("doubt", "severe"))
  })
})
for (n in c(12, 60, 400)) local({
  size <- n
  trap(3, paste("row names in", size, "rows"), "left out of the draft, said", function() {
    d <- regression_table(size)
    d$y <- d$y + seq_len(size)
    file <- csv(d)
    out <- tempfile(fileext = ".yml")
    quietly(draft_study(file, "y", file = out))
    text <- readLines(out)
    outcome(grep("row_names", text, value = TRUE), any(grepl("- row_names", text)))
  })
})
for (name in c("index", "rownames", "Unnamed: 0")) local({
  column <- name
  trap(3, paste0("a running column `", column, "`"), "severe: identifier", function() {
    d <- regression_table(120)
    d <- d[order(d$y), ]
    d[[column]] <- seq_len(120)
    found(constant_study(d, "y"), column, "identifier", "severe")
  })
})
trap(8, "numbers that come as text", "aligned, said", function() {
  d <- regression_table()
  new <- transform(d[301:400, ], a = as.character(a))
  warned(study(lm(y ~ a + b, d[1:300, ]), new, "y", train = d[1:300, ]), "taken so")
})
trap(8, "text that is no number", "refused with the types", function() {
  d <- regression_table()
  new <- transform(d[301:400, ], a = replace(as.character(a), 4, "high"))
  refused(
    study(lm(y ~ a + b, d[1:300, ]), new, "y", train = d[1:300, ]),
    c("text", "numbers", "row 4")
  )
})

# ---- 4 to 7, 9: models and rows ---------------------------------------------------------------

towns <- function() {
  set.seed(4)
  n <- 60 * 37
  effect <- rnorm(60, sd = 2)
  town <- rep(1:60, 37)
  data.frame(
    town = paste0("t", town), x = rnorm(n), y = effect[town] + rnorm(n, sd = 0.45),
    note = paste0("v", sample(900, n, TRUE))
  )
}
for (learner in c("linear", "forest")) local({
  l <- learner
  trap(4, paste("60 towns,", l), "RMSE near 0.5", function() {
    s <- quietly(score_models(study_of_yaml(yaml_study(towns()[1:3], learners = l))))
    outcome(round(s$score, 2), s$score < 0.65)
  })
})
trap(4, "a column that loses all its levels", "named as unused", function() {
  st <- study_of_yaml(yaml_study(towns()))
  ch <- as.data.frame(quietly(check_data(st)))
  said <- ch$detail[ch$finding == "levels joined" & ch$predictor == "note"]
  outcome(said, any(grepl("does not use it", said)))
})
for (kind in c("text", "factor", "whole numbers")) local({
  k <- kind
  trap(5, paste("blocks as", k), "rankings over resamples and floor", function() {
    d <- regression_table()
    g <- rep(1:40, each = 10)
    d$block <- switch(k, text = paste0("b", g), factor = factor(g), g)
    st <- quietly(study(
      lm(y ~ a + b, d[1:250, ]), d[251:400, ], "y", train = d[1:250, ], blocks = "block"
    ))
    rk <- quietly(rank_predictors(
      st, by = "permutation",
      resamples = draw_resamples(d[1:250, ], "bootstrap", times = 5, blocks = "block")
    ))
    rd <- quietly(reduce_predictors(st, folds = 3, repeats = 1, random = 0))
    failed <- NROW(ranking_details(rk, "failed"))
    outcome(paste(failed, "failed"), failed == 0 && nrow(as.data.frame(rd)) > 1)
  })
})
offset_table <- function() {
  d <- regression_table()
  d$days <- runif(400, 1, 9)
  d$y <- d$y + 2 * log(d$days)
  d
}
trap(6, "lm with an offset beside the formula", "taken with the model", function() {
  d <- offset_table()
  fit <- lm(y ~ a + b, d[1:250, ], offset = 2 * log(days))
  st <- quietly(study(fit, d[251:400, ], "y", train = d[1:250, ]))
  s <- quietly(score_models(st))
  outcome(round(s$score, 2), s$score < 1.2 && "days" %in% st$predictors)
})
trap(6, "glm with an offset beside the formula", "taken with the model", function() {
  d <- offset_table()
  set.seed(1)
  d$y <- rpois(400, exp(0.3 * d$a + log(d$days)))
  st <- quietly(study(
    glm(y ~ a + b, poisson, d[1:250, ], offset = log(days)),
    d[251:400, ],
    "y",
    train = d[1:250, ]
  ))
  inside <- glm(y ~ a + b + offset(log(days)), poisson, d[1:250, ])
  p <- predict(inside, d[251:400, ], type = "response")
  own <- dreher:::predict_model(st, st$models[[1]], st$data)[, 1]
  outcome(signif(max(abs(own - p)), 2), max(abs(own - p)) < 1e-8)
})
trap(6, "an offset that is no column", "refused with the way out", function() {
  d <- offset_table()
  o <- 2 * log(d$days[1:250])
  refused(study(lm(y ~ a + b, d[1:250, ], offset = o), d[251:400, ], "y", train = d[1:250, ]),
          c("no column", "offset\\(\\) in the formula"))
})
trap(6, "gam with an offset beside the formula", "refused", function() {
  d <- offset_table()
  fit <- mgcv::gam(y ~ s(a) + b, data = d[1:250, ], offset = 2 * log(days))
  refused(study(fit, d[251:400, ], "y", train = d[1:250, ]), c("offset", "leaves that out"))
})
trap(7, "training rows in a named list of rows", "flag, no interval", function() {
  d <- regression_table()
  st <- quietly(study(lm(y ~ a + b, d[1:250, ]), d[251:400, ], "y", train = d[1:250, ]))
  sets <- list(old = d[1:250, ], new = d[251:400, ])
  rk <- as.data.frame(quietly(rank_permutation(st, rows = sets)))
  old <- rk[rk$rows == "old", ]
  outcome(unique(old$flag), all(is.na(old$lower)) && all(grepl("training rows", old$flag)) &&
            all(!is.na(rk$lower[rk$rows == "new"])))
})
cannot_refit <- function() {
  d <- regression_table()
  d$w <- runif(400)
  fit <- lm(y ~ a + b, d[1:250, ], weights = w)
  quietly(study(fit, d[251:400, ], "y", train = d[1:250, ]))
}
for (step in c("reduce_predictors", "noise_floor", "rank_refit")) local({
  f <- step
  trap(9, paste(f, "of a model with case weights"), "refused before the work", function() {
    st <- cannot_refit()
    began <- proc.time()[[3]]
    out <- refused(get(f, asNamespace("dreher"))(st), c("weights", "refit_with"))
    out$held <- out$held && proc.time()[[3]] - began < 3
    out
  })
})
trap(9, "a model of one's own without refit_with", "refused before the work", function() {
  d <- regression_table()
  st <- quietly(study(
    list(own = structure(list(), class = "own")), d[251:400, ], "y", train = d[1:250, ],
    predict_with = function(model, data) data$a
  ))
  refused(reduce_predictors(st), "refit_with")
})

# ---- 10: leaks of every strength --------------------------------------------------------------

leaky <- function(noise, seed = 1, n = 500) {
  set.seed(seed)
  d <- data.frame(a = rnorm(n), b = rnorm(n), c = runif(n), k = sample(letters[1:4], n, TRUE))
  d$y <- 2 * d$a + d$b + rnorm(n)
  d$leak <- d$y + noise * sd(d$y) * rnorm(n)
  d
}
grades <- c(severe = 1, doubt = 2, note = 3, none = 4)
for (noise in c(0, 0.005, 0.01, 0.0125, 0.02, 0.03, 0.05, 0.08, 0.1, 0.15, 0.2, 0.25, 0.3)) {
  local({
    s <- noise
    trap(
      10,
      paste0("target with noise of ", 100 * s, " %"),
      "at least a doubt; severe up to 1 %",
      function() {
        got <- severity_of(constant_study(leaky(s), "y"), "leak")
        outcome(got, if (s <= 0.01) got == "severe" else got %in% c("severe", "doubt"))
      }
    )
  })
}
trap(10, "a stronger leak is never judged milder", "grades in order", function() {
  got <- vapply(c(0, 0.01, 0.02, 0.05, 0.1, 0.2, 0.3), function(s) {
    mean(vapply(1:3, function(i) {
      grades[[severity_of(constant_study(leaky(s, i), "y"), "leak")]]
    }, 0))
  }, 0)
  outcome(round(got, 1), all(diff(got) >= 0) && max(got) <= 2)
})
trap(10, "verdict of a leak with noise of 5 %", "With care, as a question", function() {
  v <- quietly(score_models(fitted_study(leaky(0.05), "y")))$verdict
  outcome(v, grepl("^With care: was `leak` known", v))
})
changed <- list(
  scaled = function(y) 3.7 * y, shifted = function(y) y + 40,
  `as logarithm` = function(y) log(y + 20),
  exponential = function(y) exp(y / 2), ranked = rank, rounded = function(y) round(y, 1),
  `rounded coarsely` = round, turned = function(y) -y, cubed = function(y) y^3
)
for (name in names(changed)) {
  local({
    f <- changed[[name]]
    own <- name
    for (noise in c(0, 0.02, 0.1)) {
      local({
        s <- noise
        trap(
          10,
          paste0("target ", name, ", noise of ", 100 * s, " %"),
          if (s == 0) "severe (rounded: at least a doubt)" else "at least a doubt",
          function() {
            d <- leaky(0)
            set.seed(9)
            v <- f(d$y)
            d$leak <- v + s * sd(v) * rnorm(nrow(d))
            got <- severity_of(constant_study(d, "y"), "leak")
            outcome(
              got, got == "severe" || got == "doubt" && (s > 0 || grepl("coarsely", own))
            )
          }
        )
      })
    }
  })
}
for (noise in c(0, 0.02)) local({
  s <- noise
  trap(10, paste0("halves whose sum tells the target, noise of ", 100 * s, " %"),
       "at least a doubt", function() {
    d <- leaky(0)
    set.seed(5)
    u <- rnorm(500, sd = 2)
    d$leak <- NULL
    d$first <- d$y / 2 + u
    d$second <- d$y / 2 - u + s * sd(d$y) * rnorm(500)
    got <- severity_of(constant_study(d, "y"), "first")
    outcome(got, got %in% c("severe", "doubt"))
  })
})
graded <- function(form, classes) {
  set.seed(6)
  n <- 500
  code <- sample(if (classes == 2) 0:2 else 1:5, n, TRUE)
  d <- data.frame(a = rnorm(n), b = rnorm(n))
  d$y <- if (classes == 2) {
    ifelse(code == 0, "ok", "bad")
  } else {
    c("low", "low", "mid", "mid", "high")[code]
  }
  d$code <- switch(form, number = code, text = paste0("c", code), factor = factor(code))
  d
}
for (form in c("number", "text", "factor")) for (classes in 2:3) local({
  f <- form
  k <- classes
  trap(10, paste0("a code (", f, ") of which ", k, " classes are cut"),
       "at least a doubt", function() {
    got <- severity_of(constant_study(graded(f, k), "y"), "code")
    outcome(got, got %in% c("severe", "doubt"))
  })
})
flagged <- function(equal, events, seed = 1, n = 1000) {
  set.seed(seed)
  x <- rnorm(n)
  y <- rbinom(n, 1, plogis(qlogis(events) + x))
  flag <- ifelse(runif(n) < equal, y, 1 - y)
  data.frame(x, z = rnorm(n), flag, y = ifelse(y == 1, "yes", "no"))
}
for (equal in c(0.95, 0.98, 0.999)) for (events in c(0.5, 0.2)) local({
  e <- equal
  p <- events
  trap(10, paste0("a flag equal in ", 100 * e, " % of the rows, ", 100 * p, " % events"),
       "at least a doubt", function() {
    got <- severity_of(constant_study(flagged(e, p), "y"), "flag")
    outcome(got, got %in% c("severe", "doubt"))
  })
})
trap(10, "a later measurement of one class only", "severe", function() {
  d <- flagged(0.5, 0.4)
  d$later <- ifelse(d$y == "yes", rnorm(nrow(d)), NA)
  d$flag <- NULL
  found(constant_study(d, "y"), "later", "leak", "severe")
})
trap(10, "0 for one class, an amount for the other", "at least a doubt", function() {
  d <- flagged(0.5, 0.4)
  d$refund <- ifelse(d$y == "yes", round(rexp(nrow(d), 0.05)) + 1, 0)
  d$flag <- NULL
  got <- severity_of(constant_study(d, "y"), "refund")
  outcome(got, got %in% c("severe", "doubt"))
})
trap(10, "a target of group means", "at least a doubt", function() {
  set.seed(2)
  g <- sample(40, 500, TRUE)
  d <- data.frame(a = rnorm(500), b = rnorm(500), group = paste0("g", g), y = rnorm(40)[g])
  got <- severity_of(constant_study(d, "y"), "group")
  outcome(got, got %in% c("severe", "doubt"))
})
trap(10, "two leaks at once", "both at least doubts", function() {
  d <- leaky(0.04)
  set.seed(8)
  d$second <- d$y + 0.06 * sd(d$y) * rnorm(500)
  st <- constant_study(d, "y")
  got <- c(severity_of(st, "leak"), severity_of(st, "second"))
  outcome(got, all(got %in% c("severe", "doubt")))
})
trap(10, "a leak in 30 rows", "at least a doubt", function() {
  set.seed(8)
  d <- data.frame(a = rnorm(30), b = rnorm(30))
  d$y <- d$a + rnorm(30)
  d$leak <- d$y + 0.05 * rnorm(30)
  got <- severity_of(constant_study(d, "y"), "leak")
  outcome(got, got %in% c("severe", "doubt"))
})

# ---- 11 to 14: what is said -------------------------------------------------------------------

trap(11, "no finding", "no promise that no check can keep", function() {
  checks <- quietly(check_data(fitted_study(regression_table()[-4], "y")))
  prints(checks, "only you can say", "Nothing that makes")
})
repeated <- function(named, n_units = 60, each = 6, seed = 3) {
  set.seed(seed)
  u <- rep(seq_len(n_units), each = each)
  level <- rnorm(n_units)
  d <- data.frame(
    patient = paste0("p", u), weight = round(rnorm(n_units, 70, 9), 1)[u],
    height = round(rnorm(n_units, 170, 8), 1)[u], dose = rnorm(n_units * each)
  )
  d$y <- level[u] + 0.3 * d$dose + 0.4 * rnorm(n_units * each)
  if (named) d else d[-1]
}
trap(12, "patients on both sides of a split", "severe: clustered rows", function() {
  found(constant_study(repeated(TRUE), "y"), "(rows)", "clustered rows", "severe")
})
trap(12, "patients betrayed by constant columns only", "doubt: clustered rows", function() {
  found(constant_study(repeated(FALSE), "y"), "(rows)", "clustered rows", "doubt")
})
trap(12, "chicks weighed again and again", "severe: clustered rows", function() {
  d <- as.data.frame(datasets::ChickWeight)
  d$Chick <- as.character(d$Chick)
  found(constant_study(d, "weight"), "(rows)", "clustered rows", "severe")
})
trap(12, "plants measured again, an ordered factor", "severe: clustered rows", function() {
  st <- constant_study(as.data.frame(datasets::CO2), "uptake")
  found(st, "(rows)", "clustered rows", "severe")
})
trap(12, "matched sets without their number", "doubt: clustered rows", function() {
  d <- shipped("infert", "datasets")
  d <- d[c("education", "age", "parity", "induced", "spontaneous", "case")]
  found(constant_study(d, "case"), "(rows)", "clustered rows", "doubt")
})
trap(12, "tracts of towns without their name", "doubt: clustered rows", function() {
  found(
    constant_study(shipped("Boston", "MASS"), "medv"), "(rows)", "clustered rows", "doubt"
  )
})
trap(12, "models of cars in several rows", "severe: clustered rows", function() {
  found(
    constant_study(shipped("mpg", "ggplot2"), "hwy"), "(rows)", "clustered rows", "severe"
  )
})
trap(12, "split by units already", "nothing", function() {
  d <- repeated(TRUE)
  st <- constant_study(d, "y")
  st$data <- d[241:360, ]
  st$train <- d[1:240, ]
  st$memory <- new.env()
  found(st, "(rows)", "clustered rows", "none")
})
trap(12, "the draft proposes blocks", "blocks: patient", function() {
  out <- tempfile(fileext = ".yml")
  quietly(draft_study(csv(repeated(TRUE), row.names = FALSE), "y", file = out))
  text <- grep("blocks:", readLines(out), value = TRUE)
  outcome(text, any(grepl("^blocks: patient", text)))
})
trap(
  12,
  "the draft proposes blocks by one constant column",
  "blocks in a comment",
  function() {
    set.seed(1)
    d <- regression_table()
    d$site <- paste0("s", rep(1:50, 8))
    d$land <- paste0("l", rep(1:50, 8) %% 3)
    out <- tempfile(fileext = ".yml")
    quietly(draft_study(csv(d, row.names = FALSE), "y", file = out))
    text <- grep("blocks: site", readLines(out), value = TRUE)
    outcome(text, length(text) > 0)
  }
)
trap(12, "a split by time that the draft arranged", "no doubt of drift", function() {
  set.seed(1)
  d <- regression_table()
  d$day <- as.Date("2025-01-01") + seq_len(400)
  d$a <- d$a + seq_len(400) / 80
  st <- study_of_yaml(yaml_study(d, split = "{holdout: 0.25, untouched: 0.2, order: day}"))
  ch <- as.data.frame(quietly(check_data(st)))
  bad <- ch[ch$severity != "note" & grepl("drift", ch$finding), ]
  outcome(bad$detail, nrow(bad) == 0)
})
trap(
  12,
  "no rows held out, as the file says",
  "no severe finding of training rows",
  function() {
    st <- study_of_yaml(yaml_study(
      regression_table(80), split = "{holdout: 0, untouched: 0}"
    ))
    found(st, "(rows)", "training rows", c("note", "none"))
  }
)
sensitive_study <- function() {
  set.seed(1)
  d <- data.frame(sex = sample(c("f", "m"), 400, TRUE), a = rnorm(400), b = rnorm(400))
  d$y <- d$a + (d$sex == "f") + rnorm(400)
  known <- data.frame(predictor = c("sex", "a", "b"), sensitive = c(TRUE, FALSE, FALSE))
  fitted_study(d, "y", dictionary = known)
}
trap(13, "a sensitive predictor in a ranking", "marked", function() {
  prints(quietly(rank_permutation(sensitive_study())), "sex \\(sensitive\\)")
})
trap(13, "a sensitive predictor in curves", "marked", function() {
  prints(quietly(effect_curves(sensitive_study())), "sex \\(sensitive\\)")
})
trap(13, "a sensitive predictor in a figure", "marked", function() {
  p <- ggplot2::autoplot(quietly(rank_permutation(sensitive_study())))
  labels <- ggplot2::ggplot_build(p)$layout$panel_params[[1]]$y$get_labels()
  text <- paste(unlist(labels), collapse = " ")
  outcome(text, grepl("sensitive", text))
})
trap(13, "a sensitive predictor in a set", "marked", function() {
  rd <- quietly(reduce_predictors(sensitive_study(), folds = 3, repeats = 1, random = 0))
  prints(choose_set(rd, rule = "best"), "sensitive")
})
trap(14, "a model worse than a constant", "said so", function() {
  set.seed(2)
  d <- as.data.frame(matrix(rnorm(60 * 35), 60))
  d$y <- rnorm(60)
  v <- quietly(score_models(fitted_study(d, "y")))$verdict
  outcome(v, grepl("worse than a constant", v))
})
trap(14, "a model of one predictor alone", "not compared with itself", function() {
  d <- regression_table()[c("a", "y")]
  v <- quietly(score_models(fitted_study(d, "y")))$verdict
  outcome(v, !grepl("`a` alone", v))
})
trap(14, "99 predictors that the model does not use", "told as not used", function() {
  set.seed(1)
  d <- as.data.frame(matrix(rnorm(300 * 100), 300))
  d$y <- 2 * d$V1 + rnorm(300)
  fit <- rpart::rpart(y ~ ., d[1:200, ], maxdepth = 2)
  st <- quietly(study(
    fit, d[201:300, ], "y", train = d[1:200, ], predictors = names(d)[1:100]
  ))
  rk <- quietly(rank_permutation(st))
  text <- paste(capture.output(print(rk)), collapse = " ")
  outcome(substr(text, nchar(text) - 200, nchar(text)), !grepl("for 9[0-9] of", text))
})

# ---- 15 to 19 ---------------------------------------------------------------------------------

v_shape <- function(n = 3000) {
  set.seed(3)
  d <- as.data.frame(matrix(rnorm(n * 5), n))
  names(d) <- c("a", "b", "c", "d", "bent")
  d$y <- d$a + 0.7 * d$b + 0.5 * d$c + 1.6 * abs(d$bent) + 0.6 * rnorm(n)
  d
}
v_study <- function() {
  d <- v_shape(1200)
  quietly(study(
    list(
      linear = lm(y ~ ., d[1:700, ]),
      forest = ranger::ranger(
        y ~ ., d[1:700, ], num.trees = 60, keep.inbag = TRUE, seed = 1, num.threads = 1
      )
    ),
    d[701:1200, ], "y", train = d[1:700, ]
  ))
}
trap(15, "the better of two models is reduced", "set of the forest", function() {
  st <- v_study()
  rd <- quietly(reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 0))
  set <- choose_set(rd)
  outcome(set$refit, set$refit == "forest")
})
trap(15, "the weaker model was asked for", "said first on the page", function() {
  st <- v_study()
  rd <- quietly(reduce_predictors(
    st, models = "linear", folds = 3, repeats = 1, inner_folds = 2, random = 0
  ))
  set <- choose_set(rd)
  said <- dreher:::say_other_model(
    set, quietly(score_models(st)), quietly(rank_permutation(st))
  )
  outcome(if (is.null(said)) "nothing" else said, !is.null(said) && grepl("bent", said))
})
trap(15, "the verdict names its model", "for linear", function() {
  st <- v_study()
  rd <- quietly(reduce_predictors(
    st, models = "linear", folds = 3, repeats = 1, inner_folds = 2, random = 0
  ))
  said <- dreher:::say_set(choose_set(rd))
  outcome(said, grepl("linear", said))
})
trap(16, "six of one cluster that come in two halves", "one of each half stays", function() {
  set.seed(2)
  f <- rnorm(400)
  g <- f + rnorm(400, sd = 0.62)
  d <- as.data.frame(lapply(list(f, f, f, g, g, g), function(v) v + rnorm(400, sd = 0.2)))
  names(d) <- c("f1", "f2", "f3", "g1", "g2", "g3")
  t <- as.data.frame(quietly(find_twins(d)))
  stay <- t$predictor[t$representative]
  outcome(stay, sum(grepl("f", stay)) == 1 && sum(grepl("g", stay)) == 1)
})
trap(16, "no kept pair predicts each other", "none in the path either", function() {
  set.seed(2)
  f <- rnorm(300)
  d <- as.data.frame(lapply(1:6, function(i) f + rnorm(300, sd = 0.3)))
  names(d) <- paste0("v", 1:6)
  d$w <- rnorm(300)
  d$y <- f + d$w + rnorm(300)
  st <- fitted_study(d, "y")
  rd <- quietly(reduce_predictors(st, thin_twins = TRUE, folds = 3, repeats = 1, random = 0))
  chosen <- choose_set(rd, rule = "best")$predictors
  outcome(chosen, sum(grepl("^v", chosen)) <= 1)
})
trap(16, "words of twins outside find_twins()", "the correlation is told", function() {
  d <- regression_table()
  d$a2 <- d$a + 0.1 * rnorm(400)
  st <- fitted_study(d, "y")
  checks <- capture.output(print(quietly(check_data(st))))
  ranking <- capture.output(print(quietly(rank_permutation(st))))
  text <- paste(c(checks, ranking), collapse = " ")
  outcome(substr(text, 1, 200), !grepl("twin", text) && grepl("correlat", text))
})
trap(17, "a group of correlated members, additive model", "no acting together", function() {
  set.seed(2)
  d <- data.frame(a = rnorm(500))
  d$b <- 0.8 * d$a + 0.6 * rnorm(500)
  d$c <- rnorm(500)
  d$y <- d$a + d$b + d$c + rnorm(500)
  prints(quietly(rank_permutation(fitted_study(d, "y"), groups = list(ab = c("a", "b")))),
         "adds up", c("act together", "redundant"))
})
trap(17, "a group that acts together", "said", function() {
  set.seed(2)
  d <- data.frame(a = rnorm(500), b = rnorm(500), c = rnorm(500))
  d$y <- 3 * d$a * d$b + d$c + 0.5 * rnorm(500)
  st <- quietly(study(lm(y ~ a * b + c, d[1:300, ]), d[301:500, ], "y", train = d[1:300, ]))
  prints(quietly(rank_permutation(st, groups = list(ab = c("a", "b")))), "act together")
})
trap(18, "distance of drift", "the Kolmogorov-Smirnov value", function() {
  d <- regression_table()
  d$a[251:400] <- d$a[251:400] + 0.4
  st <- quietly(study(lm(y ~ a + b, d[1:250, ]), d[251:400, ], "y", train = d[1:250, ]))
  dr <- as.data.frame(quietly(find_drift(st, models = character())))
  own <- dr$distance[dr$predictor == "a"]
  ks <- unname(suppressWarnings(ks.test(d$a[1:250], d$a[251:400])$statistic))
  outcome(c(own, ks), abs(own - ks) < 1e-12)
})
trap(18, "distance of drift with ties", "as defined", function() {
  d <- regression_table()
  d$a <- round(d$a)
  st <- quietly(study(lm(y ~ a + b, d[1:250, ]), d[251:400, ], "y", train = d[1:250, ]))
  dr <- as.data.frame(quietly(find_drift(st, models = character())))
  v <- sort(unique(d$a))
  ks <- max(abs(ecdf(d$a[1:250])(v) - ecdf(d$a[251:400])(v)))
  outcome(ks, abs(dr$distance[dr$predictor == "a"] - ks) < 1e-12)
})
trap(18, "an AUC interval below one half", "never", function() {
  bad <- vapply(1:12, function(i) {
    d <- regression_table(120, i)
    st <- quietly(study(lm(y ~ a + b, d[1:70, ]), d[71:120, ], "y", train = d[1:70, ]))
    summary(quietly(find_drift(st, models = character())))$together$upper < 0.5
  }, NA)
  outcome(sum(bad), !any(bad))
})
trap(18, "print and table in one order", "the same first column", function() {
  d <- regression_table()
  d$c[251:400] <- d$c[251:400] + 1
  st <- quietly(study(lm(y ~ a + b + c, d[1:250, ]), d[251:400, ], "y", train = d[1:250, ]))
  dr <- quietly(find_drift(st, models = character()))
  outcome(as.data.frame(dr)$predictor[1], as.data.frame(dr)$predictor[1] == "c")
})
trap(19, "the same ranking twice, with ties", "top overlap of 1", function() {
  x <- c(a = 1, b = 0, c = 0, d = 0, e = 0, f = 0)
  outcome(agreement_top(x, x, 3), abs(agreement_top(x, x, 3) - 1) < 1e-12)
})

# ---- 20 to 26 ---------------------------------------------------------------------------------

trap(20, "correlated members beside groups", "no NA in the print", function() {
  d <- regression_table()[-4]
  d$a2 <- d$a + 0.1 * rnorm(400)
  rk <- quietly(rank_permutation(fitted_study(d, "y"), groups = list(both = c("b", "c"))))
  prints(rk, character(), "NA and|and NA")
})
trap(20, "numbers as text with a foreign word", "the word is named", function() {
  d <- regression_table()[-4]
  d$v <- as.character(round(rnorm(400), 1))
  d$v[seq(3, 400, 30)] <- "k.A."
  ch <- as.data.frame(quietly(check_data(constant_study(d, "y"))))
  said <- ch$detail[ch$finding == "numbers as text"]
  outcome(
    said, length(said) == 1 && grepl("k.A.", said, fixed = TRUE) && !grepl("100 %", said)
  )
})
trap(20, "a long finding", "never cut", function() {
  prints(quietly(check_data(constant_study(repeated(TRUE), "y"))), character(), "\u2026")
})
trap(21, "slices of a sensitive number", "in four parts", function() {
  set.seed(1)
  d <- data.frame(age = sample(18:80, 400, TRUE), a = rnorm(400))
  d$y <- d$a + d$age / 30 + rnorm(400)
  known <- data.frame(predictor = c("age", "a"), sensitive = c(TRUE, FALSE))
  st <- fitted_study(d, "y", dictionary = known)
  sl <- as.data.frame(quietly(compare_slices(st)))
  outcome(unique(sl$slice), length(unique(sl$slice)) == 4)
})
trap(21, "slices without a sensitive column", "looked for", function() {
  set.seed(1)
  d <- data.frame(a = rnorm(900), b = rnorm(900))
  d$y <- d$a + rnorm(900) * ifelse(d$b > 0.5, 4, 0.5)
  sl <- as.data.frame(quietly(compare_slices(fitted_study(d, "y"))))
  outcome(unique(sl$slice), nrow(sl) > 0)
})
trap(21, "a single curve of one row", "drawn", function() {
  st <- fitted_study(regression_table(), "y")
  ef <- quietly(effect_curves(st, form = "single", rows = st$data[1, ]))
  outcome(nrow(ef), nrow(ef) > 0)
})
trap(21, "free text behind an encoder", "taken", function() {
  set.seed(1)
  d <- data.frame(name = paste0("w", sample(900, 300, TRUE)), x = rnorm(300))
  d$y <- nchar(d$name) + d$x + rnorm(300)
  code <- function(d) data.frame(len = nchar(as.character(d$name)), x = d$x)
  fit <- lm(y ~ ., cbind(code(d[1:200, ]), y = d$y[1:200]))
  st <- quietly(study(fit, d[201:300, ], "y", train = d[1:200, ], encode = code))
  outcome(st$predictors, "name" %in% st$predictors)
})
trap(21, "examples in messages", "the user's own columns", function() {
  st <- fitted_study(regression_table(), "y")
  refused(compare_slices(st, slices = 7), "~ a")
})
two_models <- function() {
  d <- regression_table()[-4]
  quietly(study(
    list(one = lm(y ~ ., d[1:250, ]), two = rpart::rpart(y ~ ., d[1:250, ])),
    d[251:400, ],
    "y",
    train = d[1:250, ]
  ))
}
trap(22, "contributions of two models", "each block under its model", function() {
  x <- capture.output(print(quietly(contributions(two_models(), which = 2))))
  outcome(x[2:3], all(c("one", "two") %in% x))
})
trap(22, "curves of two models", "each block under its model", function() {
  x <- capture.output(print(quietly(effect_curves(two_models()))))
  outcome(x[2:3], all(c("one:", "two:") %in% x))
})
trap(22, "stability of two models", "a table for each", function() {
  st <- two_models()
  drawn <- draw_resamples(st$train, "bootstrap", times = 6)
  rr <- quietly(rank_predictors(st, by = "permutation", resamples = drawn))
  x <- capture.output(print(quietly(stability(rr))))
  outcome(sum(grepl("rank set", x)), sum(grepl("^ predictor .*rank set", x)) == 2)
})
no_skill <- function() {
  set.seed(4)
  d <- data.frame(noise = rnorm(300), more = rnorm(300), y = rnorm(300))
  fitted_study(d, "y")
}
trap(23, "curves of a model without skill", "carry the verdict, no rise", function() {
  prints(
    quietly(effect_curves(no_skill())),
    "cannot be interpreted",
    "noise: rises|more: rises"
  )
})
trap(23, "contributions of a model without skill", "carry the verdict", function() {
  prints(quietly(contributions(no_skill())), "cannot be interpreted", "prediction rises with")
})
trap(23, "sentences over classes", "one a class", function() {
  fit <- quietly(nnet::multinom(Species ~ ., iris[seq(1, 150, 2), ], trace = FALSE))
  st <- quietly(study(fit, iris[seq(2, 150, 2), ], "Species", train = iris[seq(1, 150, 2), ]))
  said <- dreher:::sentences_of_directions(quietly(contributions(st)))
  outcome(said, length(said) == 3 && sum(grepl("class", said)) == 3)
})
command <- function(...) {
  status <- NULL
  said <- capture.output(
    status <- dreher:::main_command(c(...)), type = "output"
  )
  status
}
steps <- list(
  check = NULL, score = NULL, rank = NULL, effects = NULL, interactions = NULL,
  slices = c("--slices", "k"), compare = c("--sets", "all; one: a"), row = c("--which", "1"),
  stability = c("--times", "4"), reduce = c("--folds", "3", "--repeats", "1", "--random", "0")
)
for (step in names(steps)) {
  local({
    s <- step
    trap(24, paste("dreher", s, "--study, without its section"), "works", function() {
      file <- yaml_study(regression_table())
      err <- tempfile()
      con <- file(err, "w")
      sink(con, type = "message")
      status <- tryCatch(
        command(s, "--study", file, "--format", "text", steps[[s]]),
        finally = {
          sink(type = "message")
          close(con)
        }
      )
      said <- readLines(err)
      outcome(
        c(status, utils::tail(said, 1)),
        identical(as.integer(status), 0L) && !any(grepl("^dreher: ", said))
      )
    })
  })
}
trap(25, "confirm_set() on training rows", "names its argument", function() {
  st <- fitted_study(regression_table(), "y")
  set <- choose_set(quietly(reduce_predictors(st, folds = 3, repeats = 1, random = 0)))
  out <- refused(confirm_set(set, st$train), "`rows`")
  out$held <- out$held && !grepl("`data`", out$happened)
  out
})
# Kinds of values that meet, settings of the user, queries and study files: 27 to 30.
timed_rows <- function() {
  set.seed(1)
  d <- data.frame(
    held = as.difftime(runif(90, 1, 9), units = "hours"), day = as.Date("2026-01-01") + 1:90
  )
  d$y <- 3 * as.double(d$held) + rnorm(90)
  d
}
trap(27, "spans of time in minutes among hours", "the same score", function() {
  d <- timed_rows()
  other <- d[61:90, ]
  units(other$held) <- "mins"
  fit <- lm(y ~ held, d[1:60, ])
  score <- score_models(quietly(study(fit, other, "y", train = d[1:60, ])))$score
  by_hand <- sqrt(mean((d$y[61:90] - predict(fit, d[61:90, ]))^2))
  outcome(score, abs(score - by_hand) < 1e-10)
})
trap(27, "holdout rows in minutes", "no drift", function() {
  d <- timed_rows()
  other <- d[61:90, ]
  units(other$held) <- "mins"
  st <- quietly(study(lm(y ~ held, d[1:60, ]), other, "y", train = d[1:60, ]))
  found <- as.data.frame(quietly(find_drift(st)))
  distance <- found$distance[found$predictor == "held"]
  outcome(distance, distance < 0.5)
})
trap(27, "times among dates", "refused", function() {
  d <- timed_rows()
  other <- transform(d[61:90, ], day = as.POSIXct(day))
  refused(study(lm(y ~ held + day, d[1:60, ]), other, "y", train = d[1:60, ]), "holds dates")
})
ordered_batches <- function(first, second) {
  parts <- list(first, second)
  i <- 0
  open_rows(function() {
    i <<- i + 1
    if (i <= 2) data.frame(q = factor(parts[[i]], parts[[i]], ordered = TRUE))
  }, quiet = TRUE)
}
trap(27, "ordered levels that come bit by bit", "in their order", function() {
  held <- ordered_batches(c("lo", "hi"), c("lo", "mid", "hi"))
  said <- held$columns$q$levels
  outcome(said, identical(said, c("lo", "mid", "hi")))
})
trap(27, "ordered levels without one order", "refused", function() {
  refused(ordered_batches(c("lo", "hi"), c("lo", "mid")), "have no one order")
})
trap(27, "columns \"a b\" and \" a b\"", "two predictors", function() {
  set.seed(2)
  d <- stats::setNames(data.frame(rnorm(80), rnorm(80)), c("a b", " a b"))
  d$y <- 2 * d[["a b"]] + rnorm(80)
  rk <- rank_permutation(quietly(study(
    lm(y ~ ., d[1:50, ]), d[51:80, ], "y", train = d[1:50, ]
  )))
  outcome(rk$predictor, identical(rk$predictor, c("a b", " a b")))
})
trap(27, "a target times 1e-300", "refused", function() {
  d <- timed_rows()
  d$y <- d$y * 1e-300
  refused(study(lm(y ~ held, d[1:60, ]), d[61:90, ], "y", train = d[1:60, ]), "below 1e-70")
})
trap(27, "curves of 1,000 levels", "drawn in part, which is said", function() {
  set.seed(3)
  d <- data.frame(x = rnorm(1200), g = factor(c(1:1000, rep(1, 200))))
  d$y <- d$x + rnorm(1200)
  st <- quietly(study(
    list(own = 1),
    d,
    "y",
    predict_with = function(model, data) data$x,
    predictors = c("x", "g")
  ))
  warned(effect_curves(st), "the 100 of the most rows")
})
trap(28, "a decimal comma and few digits", "the same print", function() {
  st <- fitted_study(regression_table(), "y")
  said <- function() utils::capture.output(print(rank_permutation(st)))
  usual <- said()
  old <- options(OutDec = ",", digits = 3, scipen = -20)
  on.exit(options(old))
  outcome(said()[4:6], identical(said(), usual))
})
trap(29, "a query that deletes", "refused, and the rows are there", function() {
  db <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
  on.exit(DBI::dbDisconnect(db))
  DBI::dbWriteTable(db, "cars", cars)
  out <- refused(read_rows(db, query = "DELETE FROM cars"), "must begin with SELECT")
  out$held <- out$held && nrow(read_rows(db, query = "cars", quiet = TRUE)) == 50
  out
})
trap(30, "a driver that ends R", "a fault of the file", function() {
  file <- tempfile(fileext = ".yml")
  writeLines(c(
    "dreher: 1", "data: {database: {driver: 'base::quit'}, train: x}", "target: y",
    "models: {linear: {learner: linear}}"
  ), file)
  said <- format(check_study_file(file)$fault)
  outcome(said, any(grepl("must be one of RSQLite", said)))
})
trap(30, "a second document in a study file", "a fault of the file", function() {
  file <- tempfile(fileext = ".yml")
  writeLines(c(readLines(yaml_study(regression_table())), "---", "target: other"), file)
  said <- check_study_file(file)$fault
  outcome(said, any(grepl("second document", said)))
})
trap(25, "an argument without a name", "said in words", function() {
  refused(draft_dictionary(data.frame(a = 1, y = 2), "y"), "by its name only")
})
trap(25, "an error in a script", "no list of the package's insides", function() {
  file <- tempfile(fileext = ".R")
  writeLines(c("library(dreher)", "study(lm(dist ~ speed, cars), cars, \"nothing\")"), file)
  rscript <- file.path(R.home("bin"), "Rscript")
  said <- suppressWarnings(system2(rscript, file, stdout = TRUE, stderr = TRUE))
  outcome(utils::tail(said, 3), !any(grepl("Backtrace|dreher:::", said)))
})
trap(
  26,
  "predictors that come in only jointly",
  "no value of their own by impurity",
  function() {
    set.seed(3)
    d <- as.data.frame(matrix(rnorm(400 * 5), 400))
    names(d) <- letters[1:5]
    d$b <- d$a + 0.4 * rnorm(400)
    d$y <- d$a + d$d + 0.5 * rnorm(400)
    axes <- stats::prcomp(d[1:250, c("a", "b", "c")])
    code <- function(rows) {
      cbind(predict(axes, rows[c("a", "b", "c")])[, 1:2], as.matrix(rows[c("d", "e")]))
    }
    fit <- ranger::ranger(
      y ~ .,
      data.frame(code(d[1:250, ]), y = d$y[1:250]),
      num.trees = 50,
      keep.inbag = TRUE,
      seed = 1,
      num.threads = 1
    )
    st <- quietly(study(fit, d[251:400, ], "y", train = d[1:250, ], encode = code))
    rk <- quietly(rank_predictors(st, by = c("impurity", "permutation")))
    x <- as.data.frame(rk)
    own <- x$predictor[x$method == "impurity"]
    why <- ranking_details(rk, "left_out")$why
    outcome(
      c(unique(own), why),
      !any(c("a", "b", "c") %in% own) && any(grepl("only together", why))
    )
  }
)

# ---- honest tables that look like traps --------------------------------------------------------

honest <- list()
fair <- function(name, make) honest[[name]] <<- make
made <- function(code) function(i) {
  set.seed(i)
  code(400)
}
fair("one strong predictor", made(function(n) {
  d <- data.frame(a = rnorm(n), b = rnorm(n), c = rnorm(n))
  transform(d, y = 10 * a + b + rnorm(n))
}))
fair("two strong predictors", made(function(n) {
  d <- data.frame(a = rnorm(n), b = rnorm(n), c = rnorm(n))
  transform(d, y = 5 * a + 4 * b + 0.8 * rnorm(n))
}))
fair("a very exact law of three", made(function(n) {
  d <- data.frame(a = runif(n), b = runif(n), c = runif(n))
  transform(d, y = a * b + c + 0.02 * rnorm(n))
}))
fair("a strong curve", made(function(n) {
  d <- data.frame(a = runif(n, -2, 2), b = rnorm(n), c = rnorm(n))
  transform(d, y = 3 * sin(2 * a) + b + 0.5 * rnorm(n))
}))
fair("counts", made(function(n) {
  d <- data.frame(a = rpois(n, 3), b = rpois(n, 8), c = rpois(n, 1))
  transform(d, y = rpois(n, exp(0.1 * a + 0.05 * b)))
}))
fair("ordered codes", made(function(n) {
  d <- data.frame(grade = sample(5, n, TRUE), stage = sample(0:3, n, TRUE), x = rnorm(n))
  transform(d, y = grade + stage + rnorm(n))
}))
fair("ordered codes of a class", made(function(n) {
  d <- data.frame(grade = sample(5, n, TRUE), x = rnorm(n), z = rnorm(n))
  transform(d, y = ifelse(grade + x + rnorm(n) > 3.5, "late", "on time"))
}))
fair("postal codes with a meaning", made(function(n) {
  code <- sample(10000:10060, n, TRUE)
  d <- data.frame(code, area = runif(n, 30, 150), age = sample(100, n, TRUE))
  transform(d, y = 20 * area + 60 * (code - 10000) + 400 * rnorm(n))
}))
fair("house numbers", made(function(n) {
  d <- data.frame(
    number = sample(200, n, TRUE), area = runif(n, 30, 150), rooms = sample(6, n, TRUE)
  )
  transform(d, y = area + 8 * rooms + 15 * rnorm(n))
}))
fair("years", made(function(n) {
  d <- data.frame(year = sample(1995:2024, n, TRUE), a = rnorm(n), b = rnorm(n))
  transform(d, y = (year - 2010) / 10 + a + rnorm(n))
}))
fair("a drifted but usable column", made(function(n) {
  d <- data.frame(a = rnorm(n) + seq_len(n) / n, b = rnorm(n), c = rnorm(n))
  transform(d, y = a + b + rnorm(n))
}))
fair("percentages up to 99", made(function(n) {
  d <- data.frame(share = sample(0:99, n, TRUE), b = rnorm(n), c = rnorm(n))
  transform(d, y = share / 30 + b + rnorm(n))
}))
fair("a scale from -9 to 9", made(function(n) {
  d <- data.frame(scale = sample(-9:9, n, TRUE), b = rnorm(n))
  transform(d, y = scale / 4 + b + rnorm(n))
}))
fair("prices that end in 99", made(function(n) {
  d <- data.frame(price = 100 * sample(20, n, TRUE) - 1, b = rnorm(n), c = rnorm(n))
  transform(d, y = price / 500 + b + rnorm(n))
}))
fair("many zeros", made(function(n) {
  d <- data.frame(visits = ifelse(runif(n) < 0.6, 0, rpois(n, 9)), b = rnorm(n), c = rnorm(n))
  transform(d, y = sqrt(visits) + b + rnorm(n))
}))
fair("codes -1, 0, 1", made(function(n) {
  d <- data.frame(trend = sample(-1:1, n, TRUE), b = rnorm(n), c = rnorm(n))
  transform(d, y = trend + b + rnorm(n))
}))
fair("a balance that may be negative", made(function(n) {
  d <- data.frame(balance = round(rexp(n, 1 / 800) - 300), b = rnorm(n))
  transform(d, y = balance / 500 + b + rnorm(n))
}))
fair("skewed amounts", made(function(n) {
  d <- data.frame(a = exp(1.5 * rnorm(n)), b = exp(rnorm(n)), c = exp(2 * rnorm(n)))
  transform(d, y = exp(log(a) + rnorm(n)))
}))
fair("60 towns", made(function(n) {
  town <- sample(60, n, TRUE)
  e <- rnorm(60)
  data.frame(town = paste0("t", town), a = rnorm(n), b = rnorm(n), y = e[town] + rnorm(n))
}))
fair("shops with a region each", made(function(n) {
  shop <- sample(40, n, TRUE)
  data.frame(
    shop = paste0("s", shop), region = paste0("r", shop %% 4), a = rnorm(n),
    y = rnorm(40)[shop] + rnorm(n)
  )
}))
fair("an operator at machines", made(function(n) {
  data.frame(
    operator = sample(letters[1:12], n, TRUE), machine = sample(LETTERS[1:9], n, TRUE),
    a = rnorm(n), y = rnorm(n)
  )
}))
fair("gaps at random", made(function(n) {
  d <- data.frame(a = rnorm(n), b = rnorm(n), c = rnorm(n))
  d$y <- d$a + rnorm(n)
  d$b[runif(n) < 0.15] <- NA
  d
}))
fair("a good test of a common disease", made(function(n) {
  ill <- rbinom(n, 1, 0.5)
  data.frame(test = ill * 1.8 + rnorm(n), age = rnorm(n), y = ifelse(ill == 1, "ill", "well"))
}))
fair("symptoms that hang together", made(function(n) {
  ill <- rbinom(n, 1, 0.4)
  f <- rnorm(n)
  d <- as.data.frame(lapply(1:4, function(j) ill * 1.2 + 0.6 * f + rnorm(n)))
  names(d) <- paste0("s", 1:4)
  d$y <- ifelse(ill == 1, "ill", "well")
  d
}))
fair(
  "three well parted groups",
  made(function(n) {
    k <- sample(3, n, TRUE)
    data.frame(
      len = 2.2 * k + rnorm(n), width = 1.4 * k + rnorm(n), c = rnorm(n), y = letters[k]
    )
  })
)
fair("rare events", made(function(n) {
  x <- rnorm(n)
  data.frame(x, z = rnorm(n), y = ifelse(runif(n) < plogis(x - 3), "event", "none"))
}))
fair("few rows", function(i) {
  set.seed(i)
  d <- data.frame(a = rnorm(40), b = rnorm(40))
  transform(d, y = a + 0.5 * rnorm(40))
})
fair("more columns than rows", function(i) {
  set.seed(i)
  d <- as.data.frame(matrix(rnorm(60 * 80), 60))
  d$y <- d$V1 + rnorm(60)
  d
})
fair("a flat scale of a survey", made(function(n) {
  f <- rnorm(n)
  d <- as.data.frame(lapply(1:6, function(j) pmin(5, pmax(1, round(3 + f + rnorm(n))))))
  names(d) <- paste0("q", 1:6)
  d$y <- f + rnorm(n)
  d
}))
fair("a person's measures, taken once", made(function(n) {
  h <- rnorm(n, 170, 9)
  w <- 0.9 * h - 85 + rnorm(n, sd = 8)
  data.frame(
    height = round(h), weight = round(w), age = sample(20:80, n, TRUE),
    y = 100 + 0.3 * w + 9 * rnorm(n)
  )
}))
fair("sensors that go together", made(function(n) {
  f <- rnorm(n)
  d <- data.frame(left = f + 0.05 * rnorm(n), right = f + 0.05 * rnorm(n), c = rnorm(n))
  transform(d, y = f + c + rnorm(n))
}))
fair("a day count", made(function(n) {
  d <- data.frame(days = sample(1:365, n, TRUE), a = rnorm(n), c = rnorm(n))
  transform(d, y = sin(days / 58) + a + rnorm(n))
}))
fair("rounded times", made(function(n) {
  d <- data.frame(minutes = 5 * sample(24, n, TRUE), a = rnorm(n), c = rnorm(n))
  transform(d, y = minutes / 60 + a + rnorm(n))
}))
for (s in list(
  c("iris", "datasets", "Species"), c("iris", "datasets", "Petal.Length"),
  c("faithful", "datasets", "eruptions"), c("airquality", "datasets", "Ozone"),
  c("mtcars", "datasets", "mpg"), c("swiss", "datasets", "Fertility"),
  c("quakes", "datasets", "mag"), c("attitude", "datasets", "rating"),
  c("stackloss", "datasets", "stack.loss"),
  c("LifeCycleSavings", "datasets", "sr"),
  c("birthwt", "MASS", "bwt"), c("biopsy", "MASS", "class"), c("Pima.tr", "MASS", "type"),
  c("fgl", "MASS", "type"), c("UScrime", "MASS", "y"), c("cpus", "MASS", "perf"),
  c("crabs", "MASS", "sp"), c("diamonds", "ggplot2", "price"),
  c("kyphosis", "rpart", "Kyphosis"), c("stagec", "rpart", "pgstat")
)) local({
  of <- s
  fair(paste(of[1], of[3]), function(i) {
    d <- shipped(of[1], of[2])
    if (of[1] == "biopsy") d$ID <- NULL
    if (of[1] == "birthwt") d$low <- NULL  # the target in two classes
    if (of[1] == "crabs") d$index <- NULL  # a number within each group
    if (of[1] == "cpus") d$estperf <- d$name <- NULL  # another's prediction of the target
    if (of[1] == "diamonds") {
      set.seed(i)
      d <- d[sample(nrow(d), 3000), ]
      for (p in c("cut", "color", "clarity")) d[[p]] <- factor(d[[p]], ordered = FALSE)
    }
    d
  })
})

# ---- run --------------------------------------------------------------------------------------

if ("traps" %in% what) {
  rows <- lapply(names(traps), function(name) {
    t <- traps[[name]]
    began <- proc.time()[[3]]
    got <- tryCatch(t$code(), error = function(e) {
      outcome(paste("failed:", cli::ansi_strip(conditionMessage(e))), FALSE)
    })
    data.frame(
      trap = name,
      must = t$must,
      happened = substr(got$happened, 1, 300),
      held = got$held,
      seconds = round(proc.time()[[3]] - began, 1)
    )
  })
  rows <- do.call(rbind, rows)
  dir.create(folder, FALSE, TRUE)
  utils::write.csv(
    rows[c("trap", "must", "happened", "held")],
    file.path(folder, "traps.csv"),
    row.names = FALSE
  )
  for (i in which(!rows$held)) {
    cat("NOT HELD ", rows$trap[i], "\n  must: ", rows$must[i], "\n", sep = "")
    cat("  was:  ", rows$happened[i], "\n", sep = "")
  }
  cat(sprintf(
    "traps held %d of %d, in %.0f s\n", sum(rows$held), nrow(rows), sum(rows$seconds)
  ))
}

# Questions about what tells nearly all are counted apart: the values cannot answer them.
if ("honest" %in% what) {
  rows <- lapply(names(honest), function(name) {
    got <- lapply(1:3, function(i) {
      d <- honest[[name]](i)
      target <- if ("y" %in% names(d) && name != "UScrime y") "y" else sub("^.* ", "", name)
      # a split of its own for each table: else one odd draw would count for all
      seed <- 1000 * i + match(name, names(honest))
      ch <- as.data.frame(quietly(check_data(constant_study(d, target, seed = seed))))
      data.frame(
        table = name, draw = i, severe = sum(ch$severity == "severe"),
        question = sum(ch$severity == "doubt" & ch$finding == "tells nearly all"),
        doubt = sum(ch$severity == "doubt" & ch$finding != "tells nearly all"),
        what = paste(
          unique(paste(ch$predictor, ch$finding)[ch$severity != "note"]), collapse = "; "
        )
      )
    })
    do.call(rbind, got)
  })
  rows <- do.call(rbind, rows)
  dir.create(folder, FALSE, TRUE)
  utils::write.csv(rows, file.path(folder, "traps-honest.csv"), row.names = FALSE)
  raised <- rows[rows$severe + rows$doubt + rows$question > 0, ]
  print(raised, right = FALSE, row.names = FALSE)
  cat(sprintf(
    "%d honest tables, %d draws: severe %.1f %%, doubts %.1f %%, questions %.1f %%\n",
    length(honest), nrow(rows), 100 * mean(rows$severe > 0), 100 * mean(rows$doubt > 0),
    100 * mean(rows$question > 0)
  ))
}
