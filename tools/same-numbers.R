# Are all numbers the same as in another version? For changes that must not change any.
#
#   R_LIBS=LIBRARY Rscript tools/same-numbers.R save FILE results of all functions on the demo
#   data
#   Rscript tools/same-numbers.R compare FILE OTHER            to the bit
#
# Columns that one of the two versions lacks are left out; `form` and `rows` are joined to one text.

plain_table <- function(x) {
  d <- as.data.frame(x)
  class(d) <- "data.frame"
  if (all(c("form", "rows") %in% names(d))) {
    said <- c("conditional", "conditional ratio", "score", "in-bag", "corrected", "stored")
    said <- ifelse(
      d$form %in% said & d$method != "association", paste0(" ", sub(" ratio", "", d$form)), ""
    )
    d$rows <- paste0(d$rows, said)
    d$form <- NULL
  }
  d
}

# Everything that is drawn here is small; what counts is that every path of the code is walked.
all_results <- function() {
  library(dreher)
  out <- list()
  keep <- function(name, code) {
    value <- suppressWarnings(tryCatch(code, error = function(e) {
      data.frame(error = conditionMessage(e))
    }))
    cat(name, "\n")
    out[[name]] <<- plain_table(value)
    invisible(value)
  }
  kiln <- demo_kiln(missing = FALSE)
  uses <- c(
    "peak_temp", "hold_minutes", "grog_share", "operator", "cooling_rate", "pyro_left",
    "pyro_right", "clay_source", "shelf_position"
  )
  train <- kiln$train[seq_len(600), ]
  holdout <- kiln$holdout[seq_len(300), ]
  formula <- reformulate(uses, "strength")
  forest <- ranger::ranger(
    formula, train, num.trees = 40, keep.inbag = TRUE, seed = 1, num.threads = 1
  )
  st <- study(
    list(
      forest = forest, linear = lm(formula, train), tree = rpart::rpart(formula, train),
      boosted = with_seed(gbm::gbm(
        strength ~ peak_temp + hold_minutes + grog_share + pyro_left, "gaussian", train,
        n.trees = 60, interaction.depth = 3
      ))
    ),
    holdout, "strength", train = train, dictionary = kiln$dictionary
  )
  results_of(keep, "kiln", st, train, kiln$untouched)
  defects <- ranger::ranger(
    reformulate(uses, "defect"), train[c(uses, "defect")], num.trees = 30, probability = TRUE,
    keep.inbag = TRUE, seed = 1, num.threads = 1
  )
  several <- study(
    list(forest = defects), holdout, "defect", train = train, dictionary = kiln$dictionary
  )
  results_of(keep, "defects", several, train, kiln$untouched)
  loans <- demo_loans()
  whole <- function(d) {
    gaps <- names(d)[vapply(d, anyNA, NA)]
    d[setdiff(names(d), gaps)]
  }
  ltrain <- whole(loans$train)[seq_len(500), ]
  lhold <- whole(loans$holdout)[seq_len(250), ]
  ltrain$returned_late <- factor(ltrain$returned_late)
  lhold$returned_late <- factor(lhold$returned_late, levels(ltrain$returned_late))
  few <- names(ltrain)[vapply(ltrain, function(x) is.numeric(x), NA)]
  few <- head(setdiff(few, "returned_late"), 6)
  logit <- glm(reformulate(few, "returned_late"), binomial, ltrain)
  grove <- with_seed(randomForest::randomForest(
    reformulate(few, "returned_late"), ltrain, ntree = 30, keep.inbag = TRUE
  ))
  ls <- study(list(logit = logit, grove = grove), lhold, "returned_late", train = ltrain)
  results_of(keep, "loans", ls, ltrain, NULL)
  out
}

with_seed <- function(code) {
  set.seed(1)
  code
}

results_of <- function(keep, name, st, train, untouched) {
  say <- function(what) paste(name, what)
  keep(say("scores"), score_models(st))
  keep(say("checks"), check_data(st))
  keep(say("impurity"), rank_impurity(st))
  keep(say("impurity holdout"), rank_impurity(st, rows = "holdout"))
  keep(
    say("impurity corrected"),
    rank_impurity(st, models = names(st$models)[1], correct = TRUE)
  )
  keep(
    say("impurity family"),
    rank_impurity(st, groups = "family", form = "gain", rows = "holdout")
  )
  rk <- keep(
    say("permutation"), rank_permutation(st, rows = c("holdout", "train"), repeats = 5)
  )
  keep(
    say("permutation conditional"), rank_permutation(st, shuffle = "conditional", repeats = 3)
  )
  keep(say("permutation family"), rank_permutation(st, groups = "family", repeats = "auto"))
  keep(say("permutation all"), rank_permutation(st, repeats = "all", max_rows = 60))
  keep(say("permutation ratio"), rank_permutation(st, form = "ratio", max_rows = 100))
  keep(say("shapley"), rank_shapley(st, background = 20, max_rows = 30, max_pairs = 30))
  keep(
    say("shapley both"),
    rank_shapley(
      st, of = c("prediction", "score"), background = 10, max_rows = 20, max_pairs = 20
    )
  )
  keep(
    say("shapley cover"), rank_shapley(st, models = names(st$models)[1], value = "cover")
  )
  keep(say("structure"), rank_structure(st))
  keep(say("coefficients"), rank_coefficients(st))
  keep(say("association"), rank_association(st, times = 20))
  keep(say("association score"), rank_association(st, form = "score"))
  keep(say("refit"), rank_refit(st, models = names(st$models)[1], times = 3))
  several <- keep(
    say("several"),
    rank_predictors(
      st, by = c("impurity", "permutation", "shapley", "association"), background = 10
    )
  )
  keep(say("agreement"), agreement(several, study = st))
  keep(say("agreement reasons"), summary(agreement(several, study = st)))
  drawn <- keep(
    say("resamples"),
    rank_predictors(
      st,
      by = c("permutation", "impurity"),
      models = utils::head(names(st$models), 2),
      resamples = draw_resamples(train, times = 20),
      repeats = 3
    )
  )
  keep(say("stability"), stability(drawn))
  keep(say("stability measures"), summary(stability(drawn)))
  floor <- keep(
    say("floor"),
    noise_floor(
      st, by = c("permutation", "impurity"), models = names(st$models)[1], refits = 19
    )
  )
  keep(say("with floor"), with_floor(several, floor))
  keep(say("twins"), find_twins(st))
  for (path in c("ranking", "backward", "forward")) {
    rd <- keep(
      say(paste("reduction", path)),
      reduce_predictors(
        st,
        models = names(st$models)[min(2, length(st$models))],
        search = path,
        folds = 3,
        repeats = 1,
        inner_folds = 2,
        random = 2,
        counts = if (path == "forward") 0:3
      )
    )
    if (inherits(rd, "dreher_reduction")) {
      keep(say(paste("choice", path)), choose_set(rd))
      ps <- keep(
        say(paste("choice within", path)), choose_set(rd, rule = "within", margin = "5%")
      )
      if (!is.null(untouched) && inherits(ps, "dreher_set")) {
        keep(say(paste("confirmation", path)), confirm_set(ps, untouched))
      }
    }
  }
  keep(
    say("comparison"),
    compare_sets(
      st,
      list(all = "all", first = st$predictors[1:2], none = "none"),
      folds = 3,
      repeats = 1,
      models = names(st$models)[1]
    )
  )
}

compare <- function(a, b) {
  bad <- setdiff(union(names(a), names(b)), intersect(names(a), names(b)))
  for (name in intersect(names(a), names(b))) {
    x <- a[[name]]
    y <- b[[name]]
    shared <- intersect(names(x), names(y))
    rownames(x) <- rownames(y) <- NULL
    off <- shared[!mapply(
        function(u, v) identical(unname(u), unname(v)), x[shared], y[shared]
      )]
    lost <- setdiff(names(x), names(y))
    if (nrow(x) != nrow(y) || length(off) || length(lost)) {
      bad <- c(bad, name)
      cat(name, ": rows", nrow(x), nrow(y), "; other:", off, "; gone:", lost, "\n")
    }
  }
  cat(length(a), "results,", length(bad), "differ\n")
  if (length(bad)) cat(bad, sep = "\n")
  quit(status = length(bad) > 0)
}

args <- commandArgs(TRUE)
if (args[1] == "save") {
  saveRDS(all_results(), args[2])
} else {
  compare(readRDS(args[2]), readRDS(args[3]))
}
