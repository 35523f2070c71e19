kiln <- demo_kiln(missing = FALSE)
few <- kiln$train[1:400, ]
fit <- lm(strength ~ peak_temp + hold_minutes + cooling_rate + grog_share, few)
st <- study(list(linear = fit), kiln$holdout, "strength", train = few)
quiet <- function(code) {
  withCallingHandlers(code, dreher_warning_resamples = function(w) {
    invokeRestart("muffleWarning")
  })
}

# A ranking over resamples made of given importances.
made_up <- function(x, kind = "bootstrap", rows = 100, of = 100) {
  st <- study(lm(strength ~ peak_temp, few), kiln$holdout, "strength", train = few)
  settings <- new_settings(
    st$models[[1]], "permutation", list(label = "left out", kind = "holdout"), 10L,
    repeats = 5L, measures = "rise of RMSE"
  )
  table <- do.call(
    rbind,
    lapply(seq_len(nrow(x)), function(b) {
      d <- ranking_rows(st, settings, colnames(x), x[b, ], inference = "model")
      d$resample <- b
      d
    })
  )
  out <- ranking_part(st, table, settings, 1, 0.95)
  out <- set_detail(out, "labels", stats::setNames(colnames(x), colnames(x)))
  set_detail(out, "resamples", list(
    kind = kind, times = nrow(x), rows = rows, of = of, outside = of - rows
  ))
}

test_that("resamples of every kind hold what they say, and come again by seed", {
  n <- nrow(few)
  # A target of 0 and 1, which the study takes for classes.
  coded <- data.frame(a = 1:30, y = rep(0:1, 15))
  expect_s3_class(
    resamples_for(
      draw_resamples(coded, times = 3),
      suppressWarnings(study(glm(y ~ a, binomial, coded), coded, "y", train = coded))
    ),
    "dreher_resamples"
  )
  boot <- draw_resamples(few, times = 4)
  expect_identical(boot, draw_resamples(few, times = 4))
  expect_false(identical(boot$inside, draw_resamples(few, times = 4, seed = 2)$inside))
  for (b in 1:4) {
    expect_length(boot$inside[[b]], n)
    expect_setequal(c(boot$inside[[b]], boot$outside[[b]]), seq_len(n))
    expect_length(intersect(boot$inside[[b]], boot$outside[[b]]), 0)
  }
  folds <- draw_resamples(few, "folds", times = 2, folds = 4)
  expect_length(folds$inside, 8)
  expect_setequal(unlist(folds$outside[1:4]), seq_len(n))
  half <- draw_resamples(few, "subsample", times = 3)
  expect_equal(lengths(half$inside), rep(n / 2, 3))
  blocked <- draw_resamples(few, "folds", times = 1, folds = 3, blocks = "operator")
  for (b in 1:3) {
    expect_length(
      intersect(few$operator[blocked$inside[[b]]], few$operator[blocked$outside[[b]]]), 0
    )
  }
  timed <- draw_resamples(
    cbind(few, day = rev(seq_len(n))), "time", times = 4, order = "day"
  )
  for (b in 1:4) expect_lt(max((n:1)[timed$inside[[b]]]), min((n:1)[timed$outside[[b]]]))
  strata <- draw_resamples(kiln$train, "subsample", times = 2, strata = "defect")
  share <- prop.table(table(kiln$train$defect[strata$inside[[1]]]))
  expect_equal(
    as.vector(share), as.vector(prop.table(table(kiln$train$defect))), tolerance = 0.02
  )
  seeds <- draw_resamples(few, "seeds", times = 3)
  expect_identical(seeds$inside[[3]], seq_len(n))
  expect_error(draw_resamples(few, "time"), "order", class = "dreher_error_input")
  expect_error(
    draw_resamples(few, blocks = "kiln_wall"),
    "not a column",
    class = "dreher_error_input"
  )
})

test_that(
  paste0(
    "a ranking over resamples is refit and ranking, resample by resample, for ",
    "rsample's sets as well"
  ),
  {
    drawn <- draw_resamples(few, times = 3)
    rk <- rank_predictors(st, by = "permutation", repeats = 4, resamples = drawn)
    for (b in 1:3) {
      again <- lm(
        strength ~ peak_temp + hold_minutes + cooling_rate + grog_share,
        few[drawn$inside[[b]], ]
      )
      by_hand <- rank_permutation(
        study(
          again, few[drawn$outside[[b]], ], "strength", train = few[drawn$inside[[b]], ]
        ),
        repeats = 4
      )
      got <- as.data.frame(rk)[rk$resample == b, ]
      expect_equal(got$importance, by_hand$importance, tolerance = 1e-10)
      expect_identical(got$predictor, by_hand$predictor)
    }
    set.seed(1)
    theirs <- rsample::vfold_cv(few, v = 3)
    rk <- rank_predictors(st, by = "permutation", resamples = theirs)
    expect_identical(sort(unique(rk$resample)), 1:3)
    expect_identical(detail(rk, "resamples")$kind, "folds")
    expect_error(
      rank_predictors(st, resamples = rsample::vfold_cv(kiln$train, v = 3)),
      "not drawn from",
      class = "dreher_error_study"
    )
    expect_error(
      rank_predictors(st, resamples = draw_resamples(few, times = 2)),
      "At least 3",
      class = "dreher_error_input"
    )
    expect_error(
      rank_predictors(st, resamples = 5), "draw_resamples", class = "dreher_error_input"
    )
  }
)

test_that("slices and named sets of rows are ranked apart", {
  rk <- rank_predictors(st, by = "permutation", slice = ~ operator)
  for (who in unique(kiln$holdout$operator)) {
    part <- rank_permutation(st, rows = kiln$holdout[kiln$holdout$operator == who, ])
    expect_equal(rk$importance[rk$slice == who], part$importance, tolerance = 1e-12)
  }
  expect_match(
    paste(format_ranking(rk), collapse = "\n"),
    as.character(kiln$holdout$operator[1]),
    fixed = TRUE
  )
  both <- rank_predictors(
    st,
    by = c("permutation", "shapley"),
    rows = list(early = kiln$holdout[1:200, ], late = kiln$holdout[201:600, ]),
    background = 20
  )
  expect_setequal(both$rows, c("early", "late"))
  expect_equal(nrow(agreement(both)$pairs), 6)
  expect_error(
    rank_predictors(st, slice = "operator"), "formula", class = "dreher_error_input"
  )
  expect_error(
    rank_predictors(st, slice = ~ moon), "not a column", class = "dreher_error_input"
  )
})

test_that("rank sets and tiers follow their definition", {
  set.seed(5)
  x <- sweep(matrix(rnorm(120 * 5, sd = 0.1), 120), 2, c(3, 2, 1.98, 1, 0.99), "+")
  colnames(x) <- letters[1:5]
  s <- stability(made_up(x))
  d <- as.data.frame(s)
  m <- colMeans(x)[d$predictor]
  y <- x[, d$predictor]
  se <- outer(1:5, 1:5, Vectorize(function(j, k) stats::sd(y[, j] - y[, k])))
  most <- apply(y, 1, function(r) {
    g <- abs(outer(r - m, r - m, "-")) / se
    max(g[upper.tri(g)])
  })
  c95 <- sort(most)[ceiling(0.95 * 121)]
  above <- outer(m, m, "-") > c95 * se
  diag(above) <- FALSE
  expect_equal(d$rank_lower, unname(1 + colSums(above)))
  expect_equal(d$rank_upper, unname(5 - rowSums(above)))
  expect_equal(d$std_error, unname(apply(y, 2, stats::sd)))
  expect_identical(d$tier, c(1L, 2L, 2L, 3L, 3L))
  expect_true(all(d$alone_lower >= d$rank_lower & d$alone_upper <= d$rank_upper))
  expect_equal(d$settled, c(TRUE, FALSE, FALSE, FALSE, FALSE))
  # Subsamples are scaled up; seeds have no sets.
  half <- as.data.frame(stability(made_up(x, "subsample", 50, 100)))
  expect_equal(half$std_error, d$std_error)  # m = n - m
  third <- as.data.frame(stability(made_up(x, "subsample", 25, 100)))
  expect_equal(third$std_error, d$std_error / sqrt(3), tolerance = 1e-12)
  seeds <- as.data.frame(stability(made_up(x, "seeds")))
  expect_true(all(is.na(seeds$rank_lower) & is.na(seeds$std_error)))
  folds <- as.data.frame(stability(made_up(x, "folds", 80, 100)))
  expect_equal(
    folds$std_error, d$std_error * sqrt(1 / 120 + 2 * 20 / 80), tolerance = 1e-12
  )
  expect_warning(
    few <- stability(made_up(x[1:18, ])), "too few", class = "dreher_warning_resamples"
  )
  expect_true(all(is.na(as.data.frame(few)$tier)) && !anyNA(as.data.frame(few)$std_error))
  expect_match(paste(format_stability(few), collapse = " "), "Too few resamples")
  expect_s3_class(ggplot2::autoplot(few), "ggplot")
  expect_warning(
    stability(made_up(x[1:20, ])), "rough", class = "dreher_warning_resamples"
  )
  expect_error(stability(made_up(x[1:2, ])), "At least 3", class = "dreher_error_input")
  expect_error(
    stability(rank_permutation(st)),
    "not made over resamples",
    class = "dreher_error_input"
  )
})

test_that("joint rank sets hold tied ranks at once, where percentiles do not", {
  set.seed(6)
  truth <- c(1, 1, 0.5, 0.5)
  held <- replicate(60, {
    est <- truth + rnorm(4, sd = 0.1)
    x <- matrix(rnorm(300 * 4, sd = 0.1), 300) + rep(est, each = 300)
    x <- sweep(x, 2, est - colMeans(x), "+")
    colnames(x) <- letters[1:4]
    sets <- rank_sets(
      x[, order(-est)], sort(est, decreasing = TRUE), list(kind = "bootstrap"), 0.95, 1L
    )
    t <- truth[order(-est)]
    low <- vapply(t, function(v) 1 + sum(truth > v), 0)
    high <- vapply(t, function(v) sum(truth >= v), 0)
    all(sets$joint[, 1] <= low & sets$joint[, 2] >= high)
  })
  expect_gte(mean(held), 0.88)  # 0.95 less 2.5 standard errors of 60 draws
})

test_that("agreement says who disagrees and why", {
  tree <- rpart::rpart(
    strength ~
      peak_temp + hold_minutes + cooling_rate + grog_share + pyro_left + pyro_right,
    few
  )
  two <- study(list(tree = tree, linear = fit), kiln$holdout, "strength", train = few)
  rk <- rank_predictors(two, by = c("impurity", "permutation", "association"))
  a <- agreement(rk)
  lists <- split(as.data.frame(rk), paste(rk$model, rk$method, rk$rows))
  expect_equal(nrow(a$pairs), choose(length(lists), 2))
  x <- rank_permutation(two, models = "tree")
  y <- rank_permutation(two, models = "linear")
  shared <- y$predictor
  row <- a$pairs[
    grepl("tree, permutation", a$pairs$a) & grepl("linear, permutation", a$pairs$b),
  ]
  expect_equal(
    row$tau,
    stats::cor(
      x$importance[match(shared, x$predictor)], y$importance, method = "kendall"
    )
  )
  expect_error(
    agreement(rank_permutation(st)), "single list", class = "dreher_error_input"
  )
  disputed <- disputed(
    list(
      A = data.frame(
        predictor = c("a", "b", "c"), flag = c("twin", "", ""), method = "permutation"
      ),
      B = data.frame(predictor = c("a", "b", "c"), flag = "", method = "association")
    ),
    list(A = c(a = 3, b = 2, c = 1), B = c(a = 1, b = 2, c = 3)),
    list(
      twins = data.frame(predictor = "a", other = "z"),
      labels = c(a = "A", z = "the last"),
      many_levels = function(p) FALSE,
      by_itself = function(predictors) NA,
      bends = function(p) FALSE
    )
  )
  expect_match(disputed$why[disputed$predictor == "a"], "shares credit with the last")
  # reasons are worked out where they are shown
  expect_identical(disputed$why[disputed$predictor == "b"], "")
})

test_that("with the study, reasons that the ranking does not hold are worked out", {
  set.seed(12)
  n <- 500
  d <- data.frame(
    bend = runif(n, -1, 1),
    joint = runif(n, -1, 1),
    partner = runif(n, -1, 1),
    line = runif(n, -1, 1),
    weak = runif(n, -1, 1),
    learned = rnorm(n)
  )
  d$y <- 6 * d$bend^2 + 3 * d$joint * d$partner + d$line + 0.3 * d$weak +
    rnorm(n, sd = 0.2)
  # One model that says what acts, and one that sees straight lines only.
  right <- structure(list(), class = "made_up_model")
  straight <- lm(y ~ bend + joint + partner + line + weak + learned, d[1:250, ])
  says <- function(object, rows) {
    6 * rows$bend^2 + 3 * rows$joint * rows$partner + rows$line + 0.3 * rows$weak +
      0 * rows$learned
  }
  st <- study(
    list(right = right, straight = straight),
    d[251:500, ],
    "y",
    train = d[1:250, ],
    predict_with = list(right = says),
    predictors = names(d)[1:6]
  )
  rk <- rank_predictors(st, by = "permutation")
  plain <- summary(agreement(rk))
  expect_false(any(grepl("acts", plain$why)))
  told <- summary(agreement(rk, study = st))
  expect_match(told$why[told$predictor == "bend"], "non-linear main effect")
  expect_match(told$why[told$predictor == "partner"], "mainly through interactions")
  expect_identical(told[names(told) != "why"], plain[names(plain) != "why"])
  # By definition: every value in every row.
  for (m in st$models[c("right", "straight")]) {
    rows <- model_rows(st, m, st$data)
    share <- main_effect_shares(st, m, st$predictors, 1)
    for (p in c("bend", "joint", "line")) {
      all_values <- vapply(
        rows[[p]],
        function(v) {
          rows[[p]] <- v
          as.vector(predict_aligned(st, m, rows))
        },
        double(nrow(rows))
      )
      by_definition <- stats::var(colMeans(all_values)) / mean(apply(
        all_values, 1, stats::var
      ))
      expect_equal(share[[p]], by_definition, tolerance = 0.1, label = paste(m$name, p))
    }
  }
  expect_true(is.na(main_effect_shares(st, st$models$right, "learned", 1)))
  other <- study(straight, d[1:200, ], "y")
  expect_error(agreement(rk, study = other), "not that of", class = "dreher_error_study")
  gap <- data.frame(
    model = "m",
    predictor = c("a", "b"),
    train = c(6, 4),
    holdout = c(5, 1),
    beyond = c(TRUE, TRUE)
  )
  # a has 60 % of it on training rows and 83 % on holdout rows
  expect_identical(mostly_trained(gap), "b")
})

test_that(
  "lists are called by what tells them apart, and small disputes are not spoken of",
  {
    part <- function(model, method, rows, slice = NA_character_, form = "plain") {
      data.frame(model, method, form, rows, slice)
    }
    expect_identical(
      name_parts(list(
        part("a", "impurity", "train", form = "in-bag"),
        part("a", "impurity", "oob", form = "covariance"),
        part("a", "permutation", "holdout")
      )),
      c("impurity", "impurity oob", "permutation")
    )
    expect_identical(
      name_parts(list(
        part("a", "permutation", "holdout"), part("b", "permutation", "holdout")
      )),
      c("a", "b")
    )
    expect_identical(
      name_parts(list(
        part("a", "permutation", "early"),
        part("a", "permutation", "late"),
        part("b", "permutation", "late")
      )),
      c("a, permutation early", "a, permutation late", "b, permutation")
    )
    expect_identical(
      name_parts(list(
        part("a", "shapley", "holdout", "low"), part("a", "shapley", "holdout", "high")
      )),
      c("low", "high")
    )
    x <- list(
      predictors = data.frame(
        predictor = c("big", "small"),
        best = 1,
        best_in = "a",
        worst = 2,
        worst_in = "b",
        range = 5,
        share = c(0.6, 0.1),
        why = c("", "many levels")
      ),
      labels = c(big = "The big one", small = "The small one")
    )
    expect_identical(
      say_agreement(x), "They disagree most on The big one (1 in a, 2 in b)."
    )
    expect_identical(
      say_agreement(x, briefly = TRUE), "They disagree most on The big one."
    )
  }
)

test_that("agreement over resamples gives every measure with its jackknife error", {
  tree <- rpart::rpart(
    strength ~ peak_temp + hold_minutes + cooling_rate + grog_share, few
  )
  two <- study(list(tree = tree, linear = fit), kiln$holdout, "strength", train = few)
  rk <- rank_predictors(
    two, by = "permutation", repeats = 2, resamples = draw_resamples(few, times = 8)
  )
  d <- as.data.frame(agreement(rk, top = 2))
  x <- lapply(c("tree", "linear"), function(m) {
    importance_matrix(as.data.frame(rk)[rk$model == m, ])
  })
  predictors <- intersect(colnames(x[[1]]), colnames(x[[2]]))
  measures <- list(
    tau = agreement_tau,
    spearman = agreement_spearman,
    top_overlap = function(a, b) agreement_top(a, b, 2),
    rank_overlap = agreement_overlap,
    share_overlap = agreement_shares
  )
  for (m in names(measures)) {
    of <- function(keep) {
      measures[[m]](
        colMeans(x[[1]][keep, predictors]), colMeans(x[[2]][keep, predictors])
      )
    }
    dropped <- vapply(1:8, function(b) of(setdiff(1:8, b)), 0)
    expect_equal(d[[m]], of(1:8), tolerance = 1e-12, label = m)
    expect_equal(
      d[[paste0(m, "_error")]],
      sqrt(7 / 8 * sum((dropped - mean(dropped))^2)),
      tolerance = 1e-10,
      label = m
    )
  }
  expect_lte(max(nchar(cli::ansi_strip(format_agreement(agreement(rk))))), 80)
  expect_true(all(is.na(
    as.data.frame(agreement(rank_predictors(two, by = "permutation")))$share_overlap_error
  )))
})

test_that("the learner's own noise is told from the sample's", {
  set.seed(13)
  x <- sweep(matrix(rnorm(60 * 3, sd = 0.2), 60), 2, c(3, 2, 1), "+")
  own <- sweep(matrix(rnorm(20 * 3, sd = 0.1), 20), 2, c(3, 2, 1), "+")
  own[, 3] <- 1
  colnames(x) <- colnames(own) <- c("a", "b", "c")
  seeds <- made_up(own, "seeds")
  s <- quiet(stability(made_up(x), seeds = seeds))
  d <- as.data.frame(s)
  expect_equal(d$seed_error, unname(apply(own, 2, sd)))
  ratio <- apply(own, 2, var) / apply(x, 2, var)
  expect_equal(d$seed_share, unname(ratio), tolerance = 1e-10)
  test <- stats::var.test(own[, 1], x[, 1])  # the same limits
  expect_equal(
    c(d$seed_lower[1], min(1, d$seed_upper[1])),
    c(test$conf.int[1], min(1, test$conf.int[2])),
    tolerance = 1e-10
  )
  expect_match(
    paste(format_stability(s), collapse = " "), "The model's own seed makes up 0 to"
  )
  expect_error(
    quiet(stability(made_up(x), seeds = made_up(x))),
    "over the model's seeds",
    class = "dreher_error_input"
  )
  expect_error(
    quiet(stability(made_up(x), seeds = 1)),
    "rank_predictors",
    class = "dreher_error_input"
  )
  elsewhere <- seeds
  elsewhere <- set_detail(elsewhere, "fingerprint", "another")
  expect_error(
    quiet(stability(made_up(x), seeds = elsewhere)),
    "another study",
    class = "dreher_error_study"
  )
  renamed <- seeds
  renamed$model <- "oven"
  expect_error(
    quiet(stability(made_up(x), seeds = renamed)),
    "holds none",
    class = "dreher_error_input"
  )
  # A model without a seed of its own has none; a forest has some.
  forest <- ranger::ranger(
    strength ~ peak_temp + hold_minutes + grog_share, few, num.trees = 5, seed = 1
  )
  two <- study(list(forest = forest, linear = fit), kiln$holdout, "strength", train = few)
  how <- function(kind, times) {
    rank_predictors(
      two,
      by = "permutation",
      repeats = 2,
      resamples = draw_resamples(few, kind, times = times)
    )
  }
  d <- as.data.frame(quiet(stability(how("bootstrap", 20), seeds = how("seeds", 6))))
  expect_true(all(d$seed_error[d$model == "linear"] == 0))
  expect_true(all(d$seed_share[d$model == "forest"] > 0.01))
})

test_that(
  "a noise floor in the ranking is in the stability, its words, figure and table",
  {
    rk <- rank_predictors(
      st, by = "permutation", repeats = 2, resamples = draw_resamples(few, times = 20)
    )
    floor <- structure(
      list(
        table = data.frame(
          model = "linear",
          method = "permutation",
          rows = "holdout",
          predictor = c("peak_temp", "hold_minutes", "cooling_rate", "grog_share"),
          floor = 0.1,
          above = c(TRUE, TRUE, TRUE, FALSE)
        ),
        draws = 19,
        shuffle = "marginal",
        alpha = 0.05,
        fingerprint = st$fingerprint
      ),
      class = "dreher_floor"
    )
    s <- quiet(stability(with_floor(rk, floor)))
    d <- as.data.frame(s)
    expect_identical(d$above_floor, d$predictor != "grog_share")
    expect_match(
      say_stability(s$parts[[1]], s$labels, s$about),
      "Grog share does not exceed the noise floor|grog_share does not exceed the noise floor"
    )
    picture <- ggplot2::ggplot_build(ggplot2::autoplot(s))
    expect_setequal(
      unique(picture$data[[1]]$fill), c(muted, method_colours()[["permutation"]])
    )
    expect_match(picture$plot$labels$caption, "Grey: not above the noise floor")
    expect_match(page_cells(stability_cells(s)), "not above")
    plain <- quiet(stability(rk))
    expect_true(all(is.na(as.data.frame(plain)$above_floor)))
    expect_false(grepl("not above", page_cells(stability_cells(plain))))
    expect_identical(s$parts[[1]]$tops$share[s$parts[[1]]$tops$k == 1], d$top_1)
    above <- s$parts[[1]]
    for (side in c("lower", "upper")) {
      expect_equal(
        above[[paste0("above_", side)]][1, 3],
        share_limits(above$above[1, 3], 20, 0.95)[[side]],
        tolerance = 1e-12
      )
    }
    expect_identical(above$sets$k, 1:3)
  }
)

test_that("prints fit 25 lines of 80 columns and say the verdict", {
  rk <- rank_predictors(st, by = "permutation", resamples = draw_resamples(few, times = 20))
  s <- quiet(stability(rk))
  for (lines in list(format_stability(s), format_ranking(rk))) {
    expect_lte(length(lines), 25)
    expect_lte(max(nchar(cli::ansi_strip(lines))), 80)
  }
  expect_match(paste(format_stability(s), collapse = " "), "Settled|No rank is settled")
  expect_s3_class(ggplot2::autoplot(s), "ggplot")
  expect_error(ggplot2::autoplot(s, model = "oven"), "model", class = "dreher_error_input")
  file <- tempfile(fileext = ".csv")
  write_results(s, file)
  expect_equal(nrow(data.table::fread(file)), 4)
})

test_that(
  "draws vary as samples do: the rows measured on are put back by the rows trained on",
  {
    set.seed(9)
    n <- 60
    psi <- rnorm(n)
    phi <- 0.8 * psi + rnorm(n, sd = 0.3)  # what looks strong in measuring looks strong in training
    pieces <- lapply(1:400, function(b) {
      inside <- sample.int(n, replace = TRUE)
      list(
        model = "m", resample = b, inside = inside, outside = setdiff(seq_len(n), inside)
      )
    })
    got <- lapply(pieces, function(p) {
      list(influence = matrix(psi[p$outside], ncol = 1, dimnames = list(NULL, "a")))
    })
    plain <- vapply(pieces, function(p) mean(phi[p$inside]) + mean(psi[p$outside]), 0)
    offset <- sampling_offsets(pieces, got)$m
    expect_identical(dimnames(offset), list(as.character(1:400), "a"))
    truth <- sd(phi + psi) / sqrt(n)
    expect_lt(sd(plain), 0.75 * truth)
    expect_equal(sd(plain + offset[, "a"]), truth, tolerance = 0.1)
    got[[7]]["influence"] <- list(NULL)
    expect_length(sampling_offsets(pieces, got), 0)
    rk <- rank_predictors(
      st, by = "permutation", repeats = 4, resamples = draw_resamples(few, times = 30)
    )
    expect_identical(dim(detail(rk, "offsets")$linear), c(30L, 4L))
    d <- as.data.frame(quiet(stability(rk)))
    x <- importance_matrix(as.data.frame(rk)) + detail(rk, "offsets")$linear[
      , unique(rk$predictor)
    ]
    expect_equal(
      d$std_error, unname(apply(x[, d$predictor], 2, stats::sd)), tolerance = 1e-12
    )
    expect_null(detail(
      rank_predictors(
        st,
        by = "permutation",
        repeats = 4,
        resamples = draw_resamples(few, "folds", times = 1)
      ),
      "offsets"
    ))
  }
)

test_that(
  "rows keep their names everywhere, values stay named, and only new rows are sliced",
  {
    parts <- list(early = kiln$holdout[1:200, ], late = kiln$holdout[201:600, ])
    rk <- rank_predictors(
      st, by = c("permutation", "shapley"), rows = parts, background = 10
    )
    expect_setequal(
      names(attr(rk, "row_values")),
      c(
        "linear/permutation/early", "linear/permutation/late", "linear/shapley/early",
        "linear/shapley/late"
      )
    )
    expect_setequal(detail(rk, "direction")$rows, names(parts))
    expect_setequal(detail(rk, "shares")$rows, names(parts))
    expect_identical(
      names(attr(rank_predictors(st, by = "permutation"), "row_values")), "linear/permutation"
    )
    for (rows in c("train", "oob")) {
      expect_error(
        rank_predictors(st, by = "permutation", rows = rows, slice = ~ operator),
        "has not seen",
        class = "dreher_error_input"
      )
    }
    sliced <- rank_predictors(st, by = "permutation", rows = parts, slice = ~ operator)
    expect_setequal(unique(sliced$rows), names(parts))
    known <- detail(sliced, "settings")
    expect_setequal(
      paste(known$rows, known$slice),
      c(outer(names(parts), unique(as.character(kiln$holdout$operator)), paste))
    )
    expect_identical(anyDuplicated(names(attr(sliced, "row_values"))), 0L)
    file <- tempfile(fileext = ".csv")
    write_results(sliced, file)
    expect_false(anyNA(data.table::fread(file)$n))  # every row found its settings
    numbered <- rank_predictors(
      st,
      by = "permutation",
      rows = data.frame(kiln$holdout, lot = rep(c(2, 10, NA), 200)),
      slice = ~ lot
    )
    expect_identical(unique(numbered$slice), c("2", "10", "missing"))
  }
)

test_that("resamples are known by the values of their rows, not by their number", {
  drawn <- draw_resamples(few, times = 4)
  moved <- few
  moved$strength <- rev(moved$strength)
  expect_error(
    rank_predictors(
      study(lm(strength ~ peak_temp, moved), kiln$holdout, "strength", train = moved),
      by = "permutation",
      resamples = drawn
    ),
    "not drawn from",
    class = "dreher_error_study"
  )
  # columns that are not needed may be left out
  narrow <- draw_resamples(few[c("strength", "peak_temp")], times = 4)
  expect_identical(
    nrow(rank_predictors(st, by = "permutation", resamples = narrow, repeats = 2)), 16L
  )
  set.seed(1)
  theirs <- rsample::bootstraps(few, times = 4, apparent = TRUE)
  rk <- rank_predictors(st, by = "permutation", resamples = theirs, repeats = 2)
  expect_identical(detail(rk, "resamples")$times, 4L)  # all rows against themselves are no resample
  inside <- resamples_for(theirs, st)$inside
  expect_identical(inside[[2]], as.integer(theirs$splits[[2]], data = "analysis"))
})

test_that("every kind of resample goes through: importances, errors, words and picture", {
  forest <- ranger::ranger(
    strength ~ peak_temp + hold_minutes + grog_share, few, num.trees = 15, seed = 1
  )
  two <- study(
    list(forest = forest, linear = fit),
    kiln$holdout,
    "strength",
    train = cbind(few, day = seq_len(400))
  )
  train <- two$train
  kinds <- list(
    bootstrap = draw_resamples(train, times = 20),
    subsample = draw_resamples(train, "subsample", times = 20),
    folds = draw_resamples(train, "folds", times = 2),
    time = draw_resamples(train, "time", times = 5, order = "day"),
    seeds = draw_resamples(train, "seeds", times = 4)
  )
  for (kind in names(kinds)) {
    rk <- rank_predictors(two, by = "permutation", repeats = 2, resamples = kinds[[kind]])
    s <- quiet(stability(rk))
    d <- as.data.frame(s)
    means <- tapply(rk$importance, paste(rk$model, rk$predictor), mean)
    expect_equal(d$importance, as.vector(means[paste(d$model, d$predictor)]))
    expect_identical(is.null(detail(rk, "offsets")), !kind %in% c("bootstrap", "subsample"))
    expect_identical(all(is.na(d$rank_lower)), kind == "seeds")
    expect_lte(max(nchar(cli::ansi_strip(format_stability(s)))), 80)
    for (m in c("forest", "linear")) {
      expect_s3_class(
        ggplot2::ggplot_build(ggplot2::autoplot(s, model = m))$plot, "ggplot"
      )
    }
    shown <- shown_ranking(rk)
    expect_equal(shown$importance, as.vector(means[paste(shown$model, shown$predictor)]))
    expect_equal(sum(shown$share[shown$model == "forest"]), 1)
  }
  # Seeds change a forest and not a linear model.
  d <- split(as.data.frame(rk)$importance, paste(rk$model, rk$predictor))
  expect_true(all(vapply(d[grepl("linear", names(d))], stats::sd, 0) == 0))
  expect_true(all(vapply(d[grepl("forest", names(d))], stats::sd, 0) > 0))
  expect_identical(
    unique(
      rank_predictors(two, by = "permutation", repeats = 2, resamples = kinds$seeds)$rows
    ),
    "holdout"
  )
  # Named sets of rows, on which every trained model is ranked.
  named <- rank_predictors(
    two,
    by = "permutation",
    models = "linear",
    repeats = 2,
    resamples = kinds$folds,
    rows = list(early = kiln$holdout[1:100, ], late = kiln$holdout[101:300, ])
  )
  again <- lm(
    strength ~ peak_temp + hold_minutes + cooling_rate + grog_share,
    train[kinds$folds$inside[[3]], ]
  )
  by_hand <- rank_permutation(
    study(again, kiln$holdout[1:100, ], "strength"), repeats = 2
  )
  expect_equal(
    named$importance[named$resample == 3 & named$rows == "early"],
    by_hand$importance,
    tolerance = 1e-10
  )
  expect_error(
    rank_predictors(two, by = "permutation", resamples = kinds$folds, rows = "train"),
    "left out",
    class = "dreher_error_input"
  )
})

test_that(
  paste0(
    "one predictor, ties throughout, predictors some resamples lack: answers or NA, ",
    "never an error"
  ),
  {
    set.seed(11)
    one <- made_up(matrix(rnorm(120), 120, dimnames = list(NULL, "a")))
    d <- as.data.frame(stability(one))
    expect_identical(c(d$rank_lower, d$rank_upper, d$tier), c(1L, 1L, 1L))
    tied <- made_up(matrix(1, 120, 3, dimnames = list(NULL, c("a", "b", "c"))))
    s <- stability(tied)
    expect_identical(as.data.frame(s)$rank_upper, c(3L, 3L, 3L))
    m <- summary(s)
    expect_true(
      is.na(m$value[m$measure == "Kendall's tau-b"]) &&
        is.na(m$value[m$measure == "Kendall's W"])
    )
    expect_match(paste(format_stability(s), collapse = " "), "undefined")
    some <- made_up(cbind(a = rnorm(120, 2), b = rnorm(120), c = rnorm(120)))
    some <- some[!(some$predictor == "c" & some$resample < 5), ]
    expect_setequal(as.data.frame(stability(some))$predictor, c("a", "b"))
    expect_error(stability(tied, top = "first"), "top", class = "dreher_error_input")
    expect_error(
      stability(tied, persistence = 2), "persistence", class = "dreher_error_input"
    )
    expect_true(all(
      c("top_2", "top_4") %in% names(as.data.frame(stability(
        made_up(matrix(rnorm(600), 120, dimnames = list(NULL, letters[1:5]))),
        top = c(2, 4)
      )))
    ))
  }
)

test_that("rank strips and half matrices draw what they say", {
  set.seed(12)
  x <- sweep(matrix(rnorm(120 * 4, sd = 0.1), 120), 2, c(3, 2, 1.99, 0), "+")
  colnames(x) <- letters[1:4]
  s <- stability(made_up(x))
  drawn <- ggplot2::ggplot_build(ggplot2::autoplot(s))
  expect_identical(nrow(drawn$data[[2]]), sum(as.data.frame(s)$settled))  # boxes
  expect_identical(nrow(drawn$data[[3]]), sum(!as.data.frame(s)$settled))  # brackets
  expect_equal(nrow(drawn$data[[1]]), sum(s$parts[[1]]$ranks > 0))
  expect_equal(rowSums(s$parts[[1]]$ranks), rep(1, 4))
  tree <- rpart::rpart(strength ~ peak_temp + hold_minutes + cooling_rate, few)
  a <- agreement(rank_predictors(
    study(list(tree = tree, linear = fit), kiln$holdout, "strength", train = few),
    by = c("permutation", "impurity")
  ))
  expect_lte(max(nchar(cli::ansi_strip(format_agreement(a)))), 80)
  expect_identical(nrow(ggplot2::ggplot_build(ggplot2::autoplot(a))$data[[1]]), 3L)
  expect_identical(summary(a), a$predictors)
  expect_match(
    paste(
      utils::capture.output(print(draw_resamples(
        few, "folds", times = 1, blocks = "operator"
      ))),
      collapse = " "
    ),
    "stay together"
  )
})

test_that(
  paste0(
    "what a predictor does by itself is the same in one piece and in several, and ",
    "over several outputs"
  ),
  {
    set.seed(21)
    many <- as.data.frame(matrix(
      rnorm(15000 * 3), 15000, dimnames = list(NULL, c("x1", "x2", "x3"))
    ))  # one call does not hold ten repeats of so many rows
    many$y <- many$x1 + many$x2 * many$x3 + rnorm(15000)
    says <- function(object, rows) rows$x1 + rows$x2 * rows$x3
    st <- study(
      list(made = structure(list(), class = "made_up_model")),
      many,
      "y",
      predict_with = says
    )
    share <- main_effect_shares(st, st$models[[1]], c("x1", "x2"), 1, max_rows = Inf)
    expect_equal(share[["x1"]], 1, tolerance = 0.02)  # x1 acts by itself alone
    expect_lt(abs(share[["x2"]]), 0.02)  # x2 not at all
    # Two classes say the same twice: the share does not change.
    classes <- data.frame(
      few[c("peak_temp", "hold_minutes")], y = factor(few$strength > 40)
    )
    probability <- function(object, rows) {
      p <- stats::plogis((rows$peak_temp - 1200) / 40)
      cbind(`FALSE` = 1 - p, `TRUE` = p)
    }
    st <- study(
      list(made = structure(list(), class = "made_up_model")),
      classes,
      "y",
      predict_with = probability
    )
    expect_equal(
      main_effect_shares(st, st$models[[1]], c("peak_temp", "hold_minutes"), 1),
      c(peak_temp = 1, hold_minutes = NA),
      tolerance = 0.02
    )
  }
)

test_that(
  paste0(
    "a floor speaks of all rows, of the rows left out as of holdout rows, and of ",
    "nothing else"
  ),
  {
    floor <- list(
      table = data.frame(
        model = "m",
        method = "permutation",
        form = "plain",
        rows = "holdout",
        predictor = c("a", "b"),
        above = c(TRUE, FALSE)
      )
    )
    d <- data.frame(
      model = "m",
      method = c("permutation", "permutation", "permutation", "shapley"),
      form = "plain",
      rows = c("left out", "holdout", "left out", "holdout"),
      slice = c(NA, NA, "low", NA),
      predictor = c("a", "b", "b", "b")
    )
    expect_identical(floor_says(floor, d), c(TRUE, FALSE, NA, NA))
    expect_true(is.na(floor_says(
      floor,
      data.frame(
        model = "m", method = "permutation", form = "plain", rows = "early", slice = NA,
        predictor = "b"
      )
    )))
  }
)

test_that("bad arguments of agreement and stability are refused by name", {
  rk <- rank_predictors(st, by = c("permutation", "association"))
  expect_error(agreement(rk, top = 40), "`top`", class = "dreher_error_input")
  expect_error(
    agreement(rk, persistence = 1.5), "`persistence`", class = "dreher_error_input"
  )
  expect_error(agreement(rk, study = fit), "`study`", class = "dreher_error_input")
  expect_error(agreement(as.data.frame(rk)), "`ranking`", class = "dreher_error_input")
  expect_error(agreement(rk, of = 3), "agreement", class = "dreher_error_input")
  over <- made_up(matrix(rnorm(60), 20, dimnames = list(NULL, c("a", "b", "c"))))
  expect_error(stability(over, level = 2), "`level`", class = "dreher_error_input")
  expect_error(stability(over, top = 0), "`top`", class = "dreher_error_input")
  expect_error(
    stability(over, persistence = 0), "`persistence`", class = "dreher_error_input"
  )
  expect_error(stability(as.data.frame(over)), "`ranking`", class = "dreher_error_input")
  expect_error(agreement_shares(1:3, 1:2), "same predictors", class = "dreher_error_input")
  expect_error(
    agreement_shares(c("a", "b"), 1:2), "must be numbers", class = "dreher_error_input"
  )
  expect_error(agreement_top(1:3, 3:1, 4), "`top`", class = "dreher_error_input")
})

test_that("the learner's own noise is estimated from draws ranked again, and taken out", {
  forest <- ranger::ranger(
    strength ~ peak_temp + hold_minutes + cooling_rate + grog_share,
    few,
    num.trees = 10,
    seed = 1
  )
  two <- study(list(forest = forest), kiln$holdout, "strength", train = few)
  rk <- rank_predictors(
    two,
    by = c("permutation", "shapley"),
    repeats = 2,
    background = 10,
    resamples = draw_resamples(few, times = 25)
  )
  again <- detail(rk, "again")
  expect_identical(unique(again$method), "permutation")
  expect_identical(sort(unique(again$resample)), 1:5)
  expect_identical(sort(unique(rk$resample)), 1:25)
  d <- as.data.frame(rk)
  d <- d[d$method == "permutation", ]
  x <- importance_matrix(d)
  y <- importance_matrix(again)
  gap <- x[rownames(y), ] - y[, colnames(x)]
  expect_true(all(gap != 0))
  noise <- noise_of_draws(x, d, again)
  expect_equal(noise, crossprod(gap) / 10)
  expect_null(noise_of_draws(x, d, again[again$resample < 3, ]))
  spread <- matrix(c(0, 4, 4, 0), 2)
  expect_equal(noise_of_pairs(matrix(c(0, 1, 1, 0), 2), spread), spread / 10)
  expect_equal(noise_of_pairs(matrix(c(0, 0.4, 0.4, 0), 2), spread), 0 * spread)
  expect_identical(noise_of_pairs(matrix(c(0, 8, 8, 0), 2), spread), 0.75 * spread)
  # Errors of differences lose the noise, and what it averages to stays.
  set.seed(5)
  own <- matrix(rnorm(60 * 3), 60, dimnames = list(NULL, c("a", "b", "c")))
  centre <- c(a = 4, b = 3, c = 0)
  v <- cov(own)
  sd <- sqrt(pair_variances(v))
  with <- rank_sets(own, centre, list(kind = "bootstrap"), 0.95, 1L)
  without <- rank_sets(own, centre, list(kind = "bootstrap"), 0.95, 1L, noise = v / 2)
  expect_identical(with$std_error, without$std_error)
  expect_true(all(
    without$joint[, 2] - without$joint[, 1] <= with$joint[, 2] - with$joint[, 1]
  ))
})

test_that("rank sets step down: the quantile of the pairs that are still open", {
  set.seed(9)
  x <- matrix(rnorm(200 * 4, sd = 0.1), 200, dimnames = list(NULL, letters[1:4]))
  centre <- c(a = 5, b = 0.36, c = 0, d = -0.01)
  sets <- rank_sets(x, centre, list(kind = "bootstrap"), 0.95, 1L)
  away <- sweep(x, 2, colMeans(x))
  sd <- sqrt(pair_variances(cov(x)))
  of <- function(pairs) {
    most <- apply(away, 1, function(r) {
      max(vapply(pairs, function(p) abs(r[p[1]] - r[p[2]]) / sd[p[1], p[2]], 0))
    })
    sort(most)[ceiling(0.95 * 201)]
  }
  all_pairs <- utils::combn(4, 2, simplify = FALSE)
  expect_equal(sets$critical, of(all_pairs))
  open <- all_pairs
  repeat {
    c <- of(open)
    told <- vapply(open, function(p) {
      abs(centre[p[1]] - centre[p[2]]) / sd[p[1], p[2]] > c
    }, NA)
    if (!any(told)) break
    open <- open[!told]
    if (!length(open)) break
  }
  among <- unlist(open)
  width <- vapply(1:4, function(j) sum(among == j), 1L) + 1L
  expect_identical(sets$joint[, 2] - sets$joint[, 1] + 1L, width)
})
