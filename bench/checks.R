# Do the checks raise false alarms, and how long do they take?
#
#   Rscript bench/checks.R clean    simulated data sets without a fault: severe findings and doubts
#   Rscript bench/checks.R public   findings on data sets that ship with R packages
#   Rscript bench/checks.R speed    seconds and memory of check_data()
#
# Results: bench/results/checks-clean.csv, checks.csv (to be read line by line), checks-speed.csv.

suppressMessages(library(dreher))
what <- commandArgs(TRUE)
if (!length(what)) what <- c("clean", "public", "speed")
folder <- file.path("bench", "results")

# A data set without a fault, of one of eight shapes.
clean_data <- function(i) {
  set.seed(i)
  n <- round(exp(stats::runif(1, log(50), log(5000))))
  p <- sample(3:25, 1)
  x <- as.data.frame(matrix(stats::rnorm(n * p), n))
  shape <- (i - 1) %% 8 + 1
  y <- switch(
    shape,
    10 * x[[1]] + x[[2]] + stats::rnorm(n),
    # one strong predictor
    {
      x$kind <- factor(sample(paste0("k", 1:60), n, TRUE))  # many levels
      stats::rnorm(60)[as.integer(x$kind)] + x[[1]] + stats::rnorm(n)
    },
    {
      for (j in seq_len(p)) x[[j]] <- stats::rpois(n, 3 * j)  # counts
      stats::rpois(n, exp(0.1 * x[[1]] + 0.5))
    },
    {
      for (j in seq_len(p)) x[[j]] <- exp(1.5 * x[[j]])  # skewed
      exp(log(x[[1]]) + stats::rnorm(n))
    },
    {
      common <- stats::rnorm(n)  # correlated blocks
      for (j in seq_len(p)) x[[j]] <- 0.9 * common + 0.45 * x[[j]]
      common + x[[1]] + stats::rnorm(n)
    },
    {
      for (j in seq_len(p)) x[[j]] <- round(1000 * x[[j]])  # whole numbers, many values
      x[[1]] / 300 + stats::rnorm(n)
    },
    factor(ifelse(4 * x[[1]] + stats::rnorm(n) > 0, "yes", "no")),
    # classes, one strong
    {
      x[[2]][stats::runif(n) < 0.1] <- NA  # missing at random
      x$shift <- sample(c("early", "late"), n, TRUE)
      factor(sample(c("a", "b", "c"), n, TRUE))
    }
  )
  x$target <- y
  list(rows = x, shape = shape, n = n, p = ncol(x) - 1)
}

# Models matter to the checks by the predictors they use: a constant that claims all of them.
study_of <- function(rows, target, share = 0.7) {
  rows <- as.data.frame(rows)
  rows <- rows[!is.na(rows[[target]]), ]
  train <- seq_len(nrow(rows)) %in% sample(nrow(rows), round(share * nrow(rows)))
  y <- rows[[target]]
  classes <- !is.numeric(y)
  if (classes) rows[[target]] <- factor(y)
  share <- if (classes) table(rows[[target]]) / nrow(rows)
  say <- function(model, data) {
    if (!classes) return(rep(mean(y), nrow(data)))
    p <- matrix(share, nrow(data), length(share), byrow = TRUE)
    colnames(p) <- names(share)
    p
  }
  suppressWarnings(study(
    list(constant = structure(list(), class = "constant")), rows[!train, ], target,
    train = rows[train, ], predict_with = say
  ))
}

if ("clean" %in% what) {
  found <- do.call(rbind, lapply(seq_len(200), function(i) {
    d <- clean_data(i)
    set.seed(i)
    ch <- check_data(study_of(d$rows, "target"), seed = i)
    data.frame(
      set = i, shape = d$shape, n = d$n, p = d$p, severe = sum(ch$severity == "severe"),
      doubt = sum(ch$severity == "doubt"), note = sum(ch$severity == "note"),
      what = paste(unique(ch$finding[ch$severity != "note"]), collapse = "; ")
    )
  }))
  utils::write.csv(found, file.path(folder, "checks-clean.csv"), row.names = FALSE)
  print(found[found$severe + found$doubt > 0, ])
  cat(sprintf(
    "data sets with a severe finding %.1f %%, with a doubt %.1f %%, of %d\n",
    100 * mean(found$severe > 0), 100 * mean(found$doubt > 0), nrow(found)
  ))
}

# Data sets that ship with R and its packages: name, package, target.
public_sets <- function() {
  list(
    c("airquality", "datasets", "Ozone"),
    c("mtcars", "datasets", "mpg"),
    c("iris", "datasets", "Species"),
    c("iris", "datasets", "Petal.Length"),
    c("swiss", "datasets", "Fertility"),
    c("ChickWeight", "datasets", "weight"),
    c("warpbreaks", "datasets", "breaks"),
    c("esoph", "datasets", "ncases"),
    c("infert", "datasets", "case"),
    c("quakes", "datasets", "mag"),
    c("rock", "datasets", "perm"),
    c("trees", "datasets", "Volume"),
    c("longley", "datasets", "Employed"),
    c("women", "datasets", "weight"),
    c("pressure", "datasets", "pressure"),
    c("faithful", "datasets", "eruptions"),
    c("CO2", "datasets", "uptake"),
    c("stackloss", "datasets", "stack.loss"),
    c("attitude", "datasets", "rating"),
    c("ToothGrowth", "datasets", "len"),
    c("LifeCycleSavings", "datasets", "sr"),
    c("anscombe", "datasets", "y1"),
    c("Boston", "MASS", "medv"),
    c("birthwt", "MASS", "low"),
    c("birthwt", "MASS", "bwt"),
    c("Cars93", "MASS", "Price"),
    c("Cars93", "MASS", "Origin"),
    c("crabs", "MASS", "sp"),
    c("biopsy", "MASS", "class"),
    c("quine", "MASS", "Days"),
    c("Pima.tr", "MASS", "type"),
    c("Aids2", "MASS", "status"),
    c("survey", "MASS", "Pulse"),
    c("cpus", "MASS", "perf"),
    c("UScrime", "MASS", "y"),
    c("Insurance", "MASS", "Claims"),
    c("fgl", "MASS", "type"),
    c("diamonds", "ggplot2", "price"),
    c("mpg", "ggplot2", "hwy"),
    c("economics", "ggplot2", "pop"),
    c("midwest", "ggplot2", "percpovertyknown"),
    c("msleep", "ggplot2", "sleep_total"),
    c("txhousing", "ggplot2", "median"),
    c("kyphosis", "rpart", "Kyphosis"),
    c("car.test.frame", "rpart", "Mileage"),
    c("stagec", "rpart", "pgstat"),
    c("cu.summary", "rpart", "Price"),
    c("solder.balance", "rpart", "skips"),
    c("colon", "survival", "status"),
    c("lung", "survival", "status"),
    c("pbc", "survival", "status"),
    c("veteran", "survival", "time"),
    c("Prestige", "carData", "prestige"),
    c("Salaries", "carData", "salary"),
    c("SLID", "carData", "wages"),
    c("TitanicSurvival", "carData", "survived"),
    c("Duncan", "carData", "prestige"),
    c("Chile", "carData", "vote"),
    c("Davis", "carData", "weight"),
    c("ames", "modeldata", "Sale_Price"),
    c("cells", "modeldata", "class"),
    c("attrition", "modeldata", "Attrition"),
    c("concrete", "modeldata", "compressive_strength"),
    c("credit_data", "modeldata", "Status"),
    c("Chicago", "modeldata", "ridership"),
    c("penguins", "modeldata", "species"),
    c("stackoverflow", "modeldata", "Remote"),
    c("wa_churn", "modeldata", "churn"),
    c("okc", "modeldata", "Class")
  )
}

if ("public" %in% what) {
  found <- do.call(
    rbind,
    lapply(public_sets(), function(s) {
      there <- new.env()
      suppressWarnings(try(
        utils::data(list = s[1], package = s[2], envir = there), silent = TRUE
      ))
      rows <- there[[s[1]]]
      if (is.null(rows) || !s[3] %in% names(rows)) return(NULL)
      set.seed(1)
      rows <- as.data.frame(rows)
      usable <- vapply(rows, function(x) is.null(dim(x)) && !is.list(x), NA)
      took <- system.time(ch <- check_data(study_of(rows[usable], s[3])))[["elapsed"]]
      cat(sprintf(
        "%-18s %-24s %6d x %3d  %5.2f s  %d findings\n",
        s[1],
        s[3],
        nrow(rows),
        ncol(rows),
        took,
        nrow(ch)
      ))
      if (!nrow(ch)) return(NULL)
      cbind(
        data = s[1],
        package = s[2],
        target = s[3],
        as.data.frame(ch)[c(
            "predictor", "finding", "severity", "evidence", "unit", "detail"
          )]
      )
    })
  )
  found$evidence <- signif(found$evidence, 4)
  utils::write.csv(found, file.path(folder, "checks.csv"), row.names = FALSE)
  print(table(found$finding, found$severity))
}

if ("speed" %in% what) {
  timed <- function(n, p) {
    set.seed(1)
    rows <- as.data.frame(matrix(stats::rnorm(n * p), n))
    for (j in seq_len(p %/% 5)) rows[[j]] <- factor(sample(letters, n, TRUE))
    rows$target <- rows[[p]] + stats::rnorm(n)
    st <- study_of(rows, "target")
    size <- as.double(utils::object.size(rows)) / 2^20
    rm(rows)
    before <- gc(reset = TRUE)
    took <- system.time(check_data(st))[["elapsed"]]
    after <- gc()
    data.frame(
      rows = n, columns = p, seconds = took, data_mb = size,
      peak_mb = sum(after[, 6]) - sum(before[, 2])
    )
  }
  out <- rbind(timed(6000, 85), timed(1e6, 100))
  print(out)
  utils::write.csv(out, file.path(folder, "checks-speed.csv"), row.names = FALSE)
}
