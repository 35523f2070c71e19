# Pure noise: 40 columns, none of which acts.
noise_study <- function(n = 80, p = 40, seed = 1) {
  set.seed(seed)
  d <- as.data.frame(matrix(rnorm(n * p), n))
  d$y <- rnorm(n)
  h <- as.data.frame(matrix(rnorm(n * p), n))
  h$y <- rnorm(n)
  study(lm(y ~ ., d), h, "y", train = d, metric = "mse")
}

d <- kiln_rows(
  400,
  drop = c(
    "ring_tone", "defect", "tile_id", "batch", "wet_weight", "dry_weight", "glaze_type",
    "glaze_viscosity", "glaze_thickness", "shelf_position"
  )
)
st <- study(
  list(linear = lm(strength ~ ., d)), kiln_rows(100, "holdout"), "strength", train = d
)
rd <- reduce_predictors(st, folds = 4, repeats = 2, inner_folds = 2, seed = 3)

test_that("the curve is the cross-validation by definition, and a random set is one", {
  curve <- rd$curves$linear
  k <- 4
  by_hand <- function(sets, t) {
    p <- double(400)
    for (f in 1:4) {
      out <- curve$fold_of[, t] == f
      p[out] <- predict(lm(reformulate(sets(f), "strength"), d[!out, ]), d[out, ])
    }
    sqrt(mean((p - d$strength)^2))
  }
  loss <- vapply(
    1:2,
    function(t) {
      by_hand(
        function(f) {
          Filter(function(s) s$time == t && s$fold == f, curve$splits)[[1]]$order[1:k]
        },
        t
      )
    },
    0
  )
  table <- as.data.frame(rd)
  expect_equal(table$score[table$count == k], mean(loss), tolerance = 1e-10)
  path <- table[table$candidate == "path", ]
  expect_identical(path$count[c(1, nrow(path))], c(0L, length(st$predictors)))
  expect_identical(c(path$price[nrow(path)], path$price_error[nrow(path)]), c(0, 0))
  set <- random_sets(
    list(
      ranker = "linear",
      universe = st$predictors,
      keep = character(),
      units = as.list(stats::setNames(nm = st$predictors)),
      settings = curve$settings
    ),
    k
  )
  drawn <- vapply(set, function(s) by_hand(function(f) s, 1), 0)
  here <- path[path$count == k, ]
  expect_equal(here$random, mean(drawn), tolerance = 1e-10)
  expect_equal(here$random_p, (1 + sum(drawn <= loss[1])) / 11, tolerance = 1e-10)
})

# A made-up curve of five points, each one unit more; the last holds all.
made_curve <- list(
  plan = list(
    keep = character(),
    cost = c(a = 5, b = 1, c = 1, d = 9),
    universe = letters[1:4],
    units = as.list(stats::setNames(nm = letters[1:4]))
  ),
  settings = list(points = 0:4),
  columns = list(
    constant = character(), `1` = "a", `2` = c("a", "b"), `3` = c("a", "b", "c"),
    `4` = letters[1:4], all = letters[1:4]
  ),
  importance = c(a = 6, b = 3, c = 1, d = -1)
)

test_that("rules: by hand on a made-up curve", {
  m <- list(
    loss = c(10, 7, 5.2, 5, 5.1, 5.1),
    cov = diag(c(1, 1, 0.04, 0.04, 0.04, 0.04)),
    df = Inf
  )
  m$cov[5, 6] <- m$cov[6, 5] <- 0.04
  take <- function(rule, ..., moments = m) {
    apply_rule(
      moments, made_curve, made_curve, list(name = rule, level = 0.95, ...), folds = 1e9
    )
  }
  expect_identical(take("best"), 4L)
  expect_identical(take("one_se"), 3L)  # 5.2 <= 5 + sqrt(.08)
  expect_identical(take("count", count = 1), 2L)
  expect_identical(take("cumulative", cumulative = 0.9), 3L)  # 9 of 10
  expect_identical(take("cumulative", cumulative = 0.91), 4L)
  reach <- 1.645 * sqrt(2 * 0.08)  # overlapping folds: twice the variance
  expect_identical(take("within", margin = list(value = 0.1 + reach + 0.01)), 3L)
  expect_identical(take("within", margin = list(value = 0.1 + reach - 0.01)), 4L)
  expect_identical(take("within", margin = list(share = 0.5)), 3L)
  # only all are sure to be within
  expect_identical(take("within", margin = list(value = 1e-6)), 5L)
  expect_identical(take("cheapest", margin = list(value = 1)), 3L)
  flat <- list(loss = c(1, 1, 1, 1, 1, 1), cov = diag(6), df = 10)
  for (rule in c("best", "one_se", "within", "cumulative")) {
    expect_identical(
      take(rule, moments = flat, margin = list(share = 0.02), cumulative = 0.5), 1L
    )
  }
})

test_that("a margin has a unit", {
  expect_error(
    choose_set(rd, rule = "within", margin = 2),
    "has no unit",
    class = "dreher_error_input"
  )
  expect_error(choose_set(rd, rule = "within", margin = "2"), "has no unit")
  expect_error(
    choose_set(rd, rule = "within", margin = "2 mae"), "neither % nor the study's metric"
  )
  expect_error(choose_set(rd, rule = "within", margin = "-1 %"), "not a positive number")
  a <- choose_set(rd, rule = "within", margin = "5 %")
  b <- choose_set(rd, rule = "within", margin = paste(0.05 * a$skill_full, "rmse"))
  expect_identical(a$predictors, b$predictors)
  expect_lt(a$curve_price, 0.05 * a$skill_full)
  expect_error(choose_set(rd, rule = "count"), "needs `count`")
  expect_error(choose_set(rd, rule = "floor"), "floor_refits")
  expect_error(choose_set(rd, rule = "cheapest"), "needs the cost")
})

test_that("the strong predictors stay, and the choice carries its price and its doubts", {
  ps <- choose_set(rd)
  expect_true(all(c("peak_temp", "hold_minutes", "clay_source") %in% ps$predictors))
  # does nothing: luck in some splits at most
  expect_lt(sum(ps$chosen_share$share[ps$chosen_share$predictor == "operator"]), 1)
  expect_true(ps$price_lower <= ps$price && ps$price <= ps$price_upper)
  expect_true(all(
    ps$chosen_share$share[ps$chosen_share$predictor %in% c("peak_temp", "hold_minutes")] == 1
  ))
  expect_length(ps$counts_chosen, 8)
  z <- t(vapply(
    seq_along(ps$counts_chosen),
    function(i) {
      ps$chosen_share$predictor %in% rd$curves$linear$splits[[i]]$order[seq_len(
          ps$counts_chosen[i]
        )] + 0
    },
    double(nrow(ps$chosen_share))
  ))
  expect_equal(ps$stability, set_stability(z))
  best <- choose_set(rd, rule = "best")
  expect_gte(best$count, ps$count)
  expect_gt(ps$skill_lower, 0)
  expect_error(choose_set(rd, rule = "elbow"), "`rule` must be one of")
  expect_error(choose_set(rd, model = "forest"), "`model` must be one of")
})

test_that("paths: backward, forward and stepwise by their definitions", {
  plan <- reduction_plan(st, st$models$linear, st$models$linear, "predictor", NULL)
  settings <- list(
    by = "permutation", seed = 1, steps = "one", points = 0:12, thin_twins = FALSE
  )
  few <- names(plan$units)[1:6]
  plan$units <- plan$units[few]
  plan$universe <- few
  ranked <- rank_units(st, st$models$linear, d, plan, few, settings, "x")
  order <- drop_units(st, st$models$linear, d, plan, ranked, settings, "x")
  expect_identical(order[6], names(which.min(ranked)))
  stay <- setdiff(few, order[6])
  again <- rank_units(st, st$models$linear, d, plan, stay, settings, c("x", 5))
  expect_identical(order[5], names(which.min(again)))

  quarters <- ranked_parts(st, d, "y", 1)
  loss <- function(set) {
    lost <- lapply(quarters, function(out) {
      fit <- lm(reformulate(if (length(set)) set else "1", "strength"), d[!out, ])
      (predict(fit, d[out, ]) - d$strength[out])^2
    })
    sqrt(mean(unlist(lost)))
  }
  scored <- set_scorer(st, d, plan, settings, "y")
  expect_equal(scored(few[2:3]), loss(few[2:3]), tolerance = 1e-10)
  forward <- add_units(st, d, plan, plan$units, 6, settings, "y")
  inside <- character()
  for (k in 1:6) {
    rest <- setdiff(few, inside)
    inside <- c(inside, rest[which.min(vapply(rest, function(u) loss(c(inside, u)), 0))])
  }
  expect_identical(forward, inside)
  floating <- float_units(st, d, plan, plan$units, 6, settings, "y")$sets
  expect_identical(lengths(floating), 0:6)
  for (k in 1:6) expect_lte(loss(floating[[k + 1]]), loss(forward[1:k]) + 1e-12)
  # Geometric steps drop a fifth at a time.
  settings$steps <- "geometric"
  plan$units <- as.list(stats::setNames(nm = letters[1:10]))
  expect_identical(
    vapply(c(3L, 10L, 100L), stride, 1L, settings = settings), c(1L, 2L, 20L)
  )
})

test_that("what the user knows counts: keep, leave out, budget, family, sensitive", {
  known <- function(...) {
    study(
      list(linear = lm(strength ~ ., d)),
      st$data,
      "strength",
      train = d,
      dictionary = read_dictionary(data.frame(predictor = st$predictors, ...))
    )
  }
  use <- ifelse(
    st$predictors == "operator",
    "keep",
    ifelse(st$predictors == "peak_temp", "leave_out", "free")
  )
  s <- known(use = use, cost = 2, sensitive = st$predictors == "clay_source")
  r <- reduce_predictors(s, folds = 3, repeats = 1, inner_folds = 2, random = 2, budget = 8)
  table <- as.data.frame(r)
  expect_identical(table$candidate[1:2], c("constant", "path"))
  expect_identical(table$added[2], "operator")
  sets <- r$curves$linear$columns
  for (name in setdiff(names(sets), "constant")) {
    expect_true("operator" %in% sets[[name]] && !"peak_temp" %in% sets[[name]])
  }
  expect_lte(max(table$cost[table$candidate == "path"]), 8)
  expect_gt(table$cost[table$candidate == "all"], 8)
  expect_setequal(sets[["not sensitive"]], setdiff(sets$all, "clay_source"))
  expect_true(all(
    lengths(lapply(
      random_sets(
        c(r$curves$linear$plan, list(settings = r$curves$linear$settings)), 3L
      ),
      intersect,
      "operator"
    )) == 1
  ))
  ps <- choose_set(r)
  expect_true("operator" %in% ps$predictors)
  expect_lte(ps$cost, 8)
  cheap <- choose_set(
    reduce_predictors(s, folds = 3, repeats = 1, inner_folds = 2, random = 0),
    rule = "cheapest",
    margin = "90 %"
  )
  expect_equal(cheap$cost, 2 * cheap$count)

  f <- known(
    family = ifelse(st$predictors %in% c("peak_temp", "hold_minutes"), "firing", NA)
  )
  r <- reduce_predictors(
    f, groups = "family", folds = 3, repeats = 1, inner_folds = 2, random = 0
  )
  expect_identical(r$curves$linear$order[1], "family firing")
  for (s in r$curves$linear$columns) {
    expect_true(sum(c("peak_temp", "hold_minutes") %in% s) != 1)
  }
  expect_identical(as.data.frame(r)$count[2], 2L)

  expect_error(
    reduce_predictors(known(family = "one", use = use), groups = "family"),
    "keep of.*leave_out of",
    class = "dreher_error_study"
  )
  expect_warning(
    reduction_plan(
      known(family = "one", use = ifelse(use == "keep", "free", use)),
      st$models$linear,
      st$models$linear,
      "family",
      NULL
    ),
    "partly left out"
  )
  expect_error(reduce_predictors(st, budget = 3), "needs the cost of every")
  expect_error(
    reduce_predictors(known(cost = 5), budget = 3), "Nothing fits a budget of 3"
  )
  expect_error(reduce_predictors(known(cost = 5), budget = -3), "`budget` must be")
  expect_error(reduce_predictors(known(use = "leave_out")), "leaves out all")
})

test_that(
  "a predictor that knows the target is warned of, unless the dictionary leaves it out",
  {
    mirrored <- function(rows) transform(rows, mirror = exp(strength / 20))
    rows <- mirrored(kiln$train[1:300, c("peak_temp", "hold_minutes", "strength")])
    leaky <- function(...) {
      study(lm(strength ~ ., rows), mirrored(kiln$holdout), "strength", train = rows, ...)
    }
    words <- data.frame(predictor = "mirror", use = "leave_out")
    short <- function(s) {
      reduce_predictors(s, folds = 2, repeats = 1, inner_folds = 2, random = 0)
    }
    expect_warning(
      short(leaky()),
      "known only afterwards: \"mirror\"",
      class = "dreher_warning_leak"
    )
    expect_no_warning(r <- short(leaky(dictionary = words)))
    expect_false("mirror" %in% r$curves[[1]]$plan$universe)
  }
)

test_that("what stands out from permuted copies can be chosen, and is scored inside", {
  rows <- d[c("peak_temp", "hold_minutes", "operator", "room_humidity", "strength")]
  s <- study(lm(strength ~ ., rows), st$data, "strength", train = rows)
  r <- reduce_predictors(
    s, folds = 2, repeats = 1, inner_folds = 2, random = 0, floor_refits = 19
  )
  ps <- choose_set(r, rule = "floor")
  expect_setequal(ps$predictors, c("peak_temp", "hold_minutes"))
  expect_identical(
    ps$counts_chosen,
    lengths(lapply(r$curves[[1]]$splits, function(p) p$columns[["above floor"]]))
  )
})

test_that("the model that is refitted may be another than the one that ranks", {
  s <- study(
    list(linear = lm(strength ~ ., d), forest = small_forest(strength ~ ., d)),
    st$data,
    "strength",
    train = d
  )
  r <- reduce_predictors(
    s, models = "forest", refit_as = "linear", folds = 3, repeats = 1, inner_folds = 2,
    random = 0, counts = c(2, 4)
  )
  curve <- r$curves$forest
  out <- curve$fold_of[, 1] == 2
  two <- curve$splits[[2]]$order[1:2]
  expect_equal(
    curve$outer[[1]][out, 2, 1],
    unname(predict(lm(reformulate(two, "strength"), d[!out, ]), d[out, ])),
    tolerance = 1e-8
  )
  expect_identical(unique(as.data.frame(r)$refit), "linear")
  expect_s3_class(refit_on(choose_set(r)), "lm")
  both <- reduce_predictors(
    s,
    models = "forest",
    by = c("permutation", "impurity"),
    folds = 2,
    repeats = 1,
    inner_folds = 2,
    random = 0,
    counts = 2
  )
  expect_true(all(is.finite(as.data.frame(both)$score)))
})

test_that(
  "of two perfect twins exactly one stays, and the print says which would do too",
  {
    twin <- transform(d, peak_copy = peak_temp)
    s <- study(
      small_forest(strength ~ ., twin),
      transform(st$data, peak_copy = peak_temp),
      "strength",
      train = twin
    )
    r <- reduce_predictors(
      s, thin_twins = TRUE, folds = 3, repeats = 1, inner_folds = 2, random = 0
    )
    ps <- choose_set(r)
    expect_identical(sum(c("peak_temp", "peak_copy") %in% ps$predictors), 1L)
    stays <- intersect(c("peak_temp", "peak_copy"), ps$predictors)
    expect_true(setdiff(c("peak_temp", "peak_copy"), stays) %in% ps$stands_for[[stays]])
    expect_match(paste(format_set(ps), collapse = " "), "could replace")
    expect_identical(
      sum(r$curves[[1]]$columns$thinned %in% c("peak_temp", "peak_copy")), 1L
    )
    tw <- find_twins(s, replaceability = TRUE)
    expect_identical(
      tw$clusters$members[grepl("peak_copy", tw$clusters$members)] |> strsplit(", ") |>
        unlist() |> intersect(c("peak_temp", "peak_copy")) |> length(),
      2L
    )
    expect_gt(tw$table$replaceable[tw$table$predictor == "peak_copy"], 0.8)
    expect_lt(tw$table$replaceable[tw$table$predictor == "operator"], 0.2)
  }
)

test_that(
  "twins: association of each pair of kinds, clusters and representatives by hand",
  {
    set.seed(4)
    x <- data.frame(a = rnorm(200))
    x$b <- rank(x$a)  # the same order
    x$c <- cut(x$a, 4, labels = FALSE) |> as.character()
    x$e <- rnorm(200)
    x$e[1:20] <- NA
    m <- associate_all(x)
    expect_equal(m["a", "b"], 1)
    expect_equal(m["a", "c"], association(x$a, x$c)$value)
    expect_equal(
      m["a", "e"], association(x$a[-(1:20)], x$e[-(1:20)])$value, tolerance = 1e-10
    )
    expect_identical(m, t(m))
    tw <- find_twins(x)
    # b goes as well with the rest: the first column
    expect_identical(tw$clusters$representative, "a")
    expect_identical(is.na(tw$table$cluster), c(FALSE, FALSE, FALSE, TRUE))
    s <- represent(
      c("a", "b"), m, c(a = 1, b = 2), c(a = 0.1, b = 0.1), c(a = 0, b = 0),
      c(a = NA, b = NA), character()
    )
    expect_identical(s$chosen, "b")
    s <- represent(
      c("a", "b"), m, c(a = 1, b = 1.1), c(a = 0.1, b = 0.1), c(a = 0, b = 0),
      c(a = 1, b = 2), character()
    )
    expect_identical(s, list(chosen = "a", why = "costs less", equal = c("a", "b")))
    expect_identical(represent(c("a", "b"), m, c(a = 1, b = 2), 0, 0, 0, "a")$why, "kept")
    expect_error(find_twins(x, predictors = "zz"), "zz")
  }
)

test_that("too few rows for a nested choice are refused before work begins", {
  d <- kiln_rows(11)
  st <- suppressWarnings(study(
    lm(strength ~ peak_temp, d), kiln_rows(30), "strength", train = d
  ))
  expect_error(
    reduce_predictors(st), "too few to choose predictors", class = "dreher_error_study"
  )
  expect_identical(smallest_nested(11, 2, 2), 2)
  expect_identical(smallest_nested(100, 5, 4), 60)
  part <- split_part(st, d[1:5, ], "a", 1)
  expect_gte(sum(part), 2)
  expect_gte(sum(!part), 2)
})

test_that("of twins the one that predicts the other stays, and is said to", {
  town <- data.frame(town = rep(letters[1:8], 25))
  region <- data.frame(region = ifelse(town$town %in% c("a", "b"), "north", "south"))
  tw <- find_twins(cbind(region, town))
  expect_identical(tw$clusters$representative, "town")
  said <- function(x) gsub(" +", " ", paste(format_twins(x), collapse = " "))
  expect_match(
    said(tw),
    "town is kept (predicts its twins); region can be left out, but could not replace it",
    fixed = TRUE
  )
  # as much as asked from neither
  set.seed(1)
  x <- rep(letters[1:8], 25)
  near <- find_twins(
    data.frame(x, y = ifelse(runif(200) < 0.8, x, sample(x))), threshold = 0.75
  )
  expect_match(said(near), "neither predicts the other well enough \\(")
  expect_match(said(find_twins(region)), "One predictor has no twins.")
  expect_identical(say_told(c(0.29, 0.698)), "29 % to 69 %")
})

test_that("sets are compared as cross-validation by definition, with likelihoods", {
  sets <- list(
    mine = c("peak_temp", "hold_minutes"),
    all = "all",
    none = "none",
    chosen = choose_set(rd)
  )
  cs <- compare_sets(st, sets, folds = 4, repeats = 1, reference = "all")
  expect_identical(cs$set, names(sets))
  fold <- with_stream(1, c("folds", 400, 1), draw_folds(st, d, 4))
  p <- double(400)
  for (f in 1:4) {
    p[fold == f] <- predict(
      lm(strength ~ peak_temp + hold_minutes, d[fold != f, ]), d[fold == f, ]
    )
  }
  expect_equal(cs$score[1], sqrt(mean((p - d$strength)^2)), tolerance = 1e-10)
  expect_identical(cs$price[2], 0)
  small <- lm(strength ~ peak_temp + hold_minutes, d)
  expect_equal(cs$log_likelihood[1], as.double(logLik(small)))
  expect_identical(cs$parameters[1], 4)
  expect_equal(cs$aicc[1], AIC(small) + 2 * 4 * 5 / (400 - 5))
  expect_equal(cs$aicc_difference, cs$aicc - min(cs$aicc))
  expect_equal(
    cs$weight, exp(-cs$aicc_difference / 2) / sum(exp(-cs$aicc_difference / 2))
  )
  expect_identical(cs$statement[3], "worse")
  on <- compare_sets(st, sets[1:2], rows = st$data)
  expect_equal(
    on$score[1],
    sqrt(mean((predict(small, st$data) - st$data$strength)^2)),
    tolerance = 1e-10
  )
  # Is a new column worth adding?
  more <- st
  more$train$heat <- more$train$peak_temp * more$train$hold_minutes
  more$train$junk <- with_stream(1, "junk", rnorm(400))
  added <- compare_sets(
    more,
    list(
      now = "all",
      with_heat = c(st$predictors, "heat"),
      with_junk = c(st$predictors, "junk")
    ),
    folds = 4,
    repeats = 1
  )
  expect_lt(added$price[2], 0)  # the two act together
  expect_gt(added$price[3], -0.02)
  expect_error(compare_sets(st, list(a = "zz")), "zz", class = "dreher_error_input")
  expect_error(compare_sets(st, list(a = "strength")), "holds the target")
  expect_error(compare_sets(st, list("peak_temp")), "under a name")
  expect_output(print(cs), "price: loss less that of \"all\"")
})

test_that(
  "a set written to a file is read as it was, and gives formula, columns and calls",
  {
    ps <- choose_set(rd)
    file <- tempfile(fileext = ".json")
    write_predictor_set(ps, file)
    back <- read_predictor_set(file)
    expect_identical(as.character(back), ps$predictors)
    expect_equal(
      c(back$score, back$price$value, back$limits[2]),
      c(ps$score, ps$price, ps$upper),
      tolerance = 1e-12
    )
    expect_identical(formula(back), formula(ps), ignore_formula_env = TRUE)
    by_hand <- coef(lm(formula(ps), d))
    expect_equal(coef(refit_on(ps))[names(by_hand)], by_hand)
    calls <- paste(back$code, collapse = "\n")
    again <- eval(parse(text = calls), list(study = st))
    expect_identical(again$predictors, ps$predictors)
    expect_identical(again$price, ps$price)
    writeLines("{\"a\": 1}", file)
    expect_error(read_predictor_set(file), "no predictor set")
    writeLines("{", file)
    expect_error(read_predictor_set(file), "not JSON")
  }
)

test_that("a reduction goes on where it stopped, and does not depend on the workers", {
  folder <- tempfile("run")
  one <- function(...) {
    reduce_predictors(
      st, folds = 3, repeats = 1, inner_folds = 2, counts = c(2, 5), random = 2, ...
    )
  }
  whole <- one()
  kept <- one(run = folder)
  expect_identical(kept, whole)
  con <- DBI::dbConnect(RSQLite::SQLite(), file.path(folder, "run.sqlite"))
  keys <- DBI::dbGetQuery(con, "SELECT key FROM pieces")$key
  expect_length(keys, 1 + 3 * 3 + 2 + 3 * 2)
  DBI::dbExecute(
    con,
    paste0(
      "DELETE FROM pieces WHERE key IN ('linear/outer/1/2', 'linear/all rows', ",
      "'linear/inner/1/3/1/1')"
    )
  )
  before <- DBI::dbGetQuery(con, "SELECT key, finished FROM pieces ORDER BY key")
  DBI::dbDisconnect(con)
  expect_identical(one(run = folder), whole)
  con <- DBI::dbConnect(RSQLite::SQLite(), file.path(folder, "run.sqlite"))
  after <- DBI::dbGetQuery(con, "SELECT key, finished FROM pieces ORDER BY key")
  DBI::dbDisconnect(con)
  expect_identical(after[after$key %in% before$key, "finished"], before$finished)
  expect_error(
    reduce_predictors(st, folds = 4, repeats = 1, inner_folds = 2, run = folder),
    "another run"
  )
  old <- future::plan("multisession", workers = 2)
  on.exit(future::plan(old))
  expect_identical(as.data.frame(one()), as.data.frame(whole))
})

test_that("on pure noise nothing is promised, where the shortcut promises", {
  runs <- lapply(1:6, function(s) {
    noise <- noise_study(seed = s)
    rd <- reduce_predictors(
      noise, folds = 5, repeats = 1, inner_folds = 3, counts = c(1, 3, 10)
    )
    ps <- choose_set(rd, rule = "best")
    n <- noise$train
    # ranked on all rows, cross-validated afterwards
    top <- names(sort(-abs(cor(n[1:40], n$y)[, 1])))[1:10]
    fold <- rd$curves[[1]]$fold_of[, 1]
    p <- double(80)
    for (f in 1:5) {
      p[fold == f] <- predict(lm(reformulate(top, "y"), n[fold != f, ]), n[fold == f, ])
    }
    table <- as.data.frame(rd)
    c(
      procedure = 1 - ps$score / ps$constant_score,
      inside = 1 - table$score[table$count == 10] / ps$constant_score,
      shortcut = 1 - mean((p - n$y)^2) / ps$constant_score
    )
  })
  means <- colMeans(do.call(rbind, runs))
  expect_lt(means[["procedure"]], 0.02)
  expect_gt(means[["shortcut"]] - means[["inside"]], 0.15)
})

test_that("an answer of nothing is possible, can be confirmed and drawn", {
  ps <- choose_set(reduce_predictors(
    noise_study(seed = 9), folds = 4, repeats = 1, inner_folds = 2, counts = c(2, 5)
  ))
  expect_identical(ps$count, 0L)
  fresh <- noise_study(seed = 77)
  cf <- confirm_set(ps, fresh$train, margin = "0.05 mse")
  expect_equal(cf$score_small, cf$score_constant)
  expect_match(paste(format(ps$count), collapse = ""), "0")
})

test_that("an AUC's constant is one half, however many training parts gave constants", {
  set.seed(3)
  d <- data.frame(a = rnorm(60), b = rnorm(60), y = factor(rep(c("no", "yes"), 30)))
  rd <- reduce_predictors(
    study(glm(y ~ ., binomial, d), d[1:20, ], "y", train = d, metric = "auc"),
    folds = 3, random = 0
  )
  expect_identical(as.data.frame(rd)$score[1], 0.5)
  expect_identical(choose_set(rd, rule = "best")$constant_score, 0.5)
})

test_that("confirmation: paired, with a margin, and refusing rows it should not see", {
  ps <- choose_set(rd)
  u <- kiln$untouched[names(d)]
  cf <- confirm_set(ps, u)
  small <- lm(reformulate(ps$predictors, "strength"), d)
  e <- function(fit) (predict(fit, u) - u$strength)^2
  full <- lm(strength ~ ., d)
  diff <- sqrt(mean(e(small))) - sqrt(mean(e(full)))
  expect_equal(cf$price, diff, tolerance = 1e-10)
  w <- (e(small) - mean(e(small))) / (2 * sqrt(mean(e(small)))) - (e(full) -
      mean(e(full))) / (2 * sqrt(mean(e(full))))
  expect_equal(cf$price_error, sd(w) / sqrt(600), tolerance = 1e-10)
  expect_equal(
    cf$limit, skew_limits(diff, sd(w) / sqrt(600), 599, 0.9, w)$upper, tolerance = 1e-10
  )
  expect_error(confirm_set(ps, d), "training rows", class = "dreher_error_input")
  expect_warning(
    looked <- confirm_set(ps, st$data), "holdout rows", class = "dreher_warning_rows"
  )
  expect_identical(c(cf$rows, looked$rows), c("untouched", "holdout"))
  expect_no_match(paste(format_confirmation(looked), collapse = " "), "untouched")
  expect_match(format_confirmation(looked)[1], "holdout rows")
  expect_error(
    confirm_set(ps, u), "confirmed on before, once", class = "dreher_error_study"
  )
  expect_identical(confirm_set(ps, u, again = TRUE)$looks, 2L)
  expect_match(
    paste(format_confirmation(confirm_set(ps, u, again = TRUE)), collapse = " "),
    "confirmed on 3 times"
  )
  expect_error(confirm_set(ps, u, margin = 1), "has no unit")
  mixed <- rbind(u[1:50, ], d[1:3, ])
  expect_error(
    confirm_set(ps, mixed),
    paste0(
      "3 of the 53 rows given as `rows` are training rows of the study, more than chance ",
      "explains"
    )
  )
  expect_identical(state_difference(-2, -1, -1.2, 1), "better")
  expect_identical(state_difference(-2, 0.5, 0.3, 1), "not worse by more than the margin")
  expect_identical(state_difference(0.2, 3, 2.8, 1), "worse")
  expect_identical(state_difference(-1, 3, 2.8, 1), "inconclusive")
})

test_that("a function refits what dreher cannot, and a failing fit is named", {
  by_nnet <- nnet::nnet(
    strength ~ peak_temp + hold_minutes,
    transform(d, strength = strength / 60),
    size = 2,
    trace = FALSE
  )
  predict_net <- function(model, data) 60 * as.vector(predict(model, data))
  refit_net <- function(model, data, predictors) {
    nnet::nnet(
      reformulate(predictors, "strength"),
      transform(data, strength = strength / 60),
      size = 2,
      trace = FALSE,
      maxit = 30
    )
  }
  s <- study(
    list(net = by_nnet),
    kiln_rows(60, "holdout"),
    "strength",
    train = d[1:150, ],
    predictors = c("peak_temp", "hold_minutes"),
    predict_with = predict_net,
    refit_with = refit_net
  )
  a <- reduce_predictors(s, folds = 2, repeats = 1, inner_folds = 2)
  b <- reduce_predictors(s, folds = 2, repeats = 1, inner_folds = 2)
  expect_identical(as.data.frame(a), as.data.frame(b))
  s$refit_with$net <- function(model, data, predictors) stop("no luck")
  expect_error(
    reduce_predictors(s, folds = 2, repeats = 1, inner_folds = 2),
    "\"net\" could not be trained again.*no luck",
    class = "dreher_error_model"
  )
  s$refit_with <- list()
  s$models$net$own_reader <- TRUE
  expect_error(
    reduce_predictors(s, folds = 2, repeats = 1, inner_folds = 2),
    "refit_with",
    class = "dreher_error_model"
  )
  expect_error(reduce_predictors(st, by = "impurity"), "needs trees")
  expect_error(
    reduce_predictors(study(lm(strength ~ peak_temp, d), d, "strength")),
    "needs the training rows"
  )
})

test_that("class targets, impurity and Shapley rankings reduce as well", {
  rows <- kiln$train[
    1:300,
    c(
      "cooling_rate", "glaze_thickness", "peak_temp", "hold_minutes", "operator", "defect"
    )
  ]
  s <- study(
    small_forest(defect ~ ., rows, probability = TRUE),
    kiln$holdout,
    "defect",
    train = rows
  )
  for (by in c("impurity", "shapley")) {
    r <- reduce_predictors(s, by = by, folds = 3, repeats = 1, inner_folds = 2)
    expect_true(all(is.finite(as.data.frame(r)$score)))
    expect_false(choose_set(r, rule = "best")$predictors[1] %in% "operator")
  }
})

test_that("boosted trees reduce, ranked by permutation or by their recomputed gain", {
  rows <- d[c("peak_temp", "hold_minutes", "operator", "strength")]
  set.seed(1)
  s <- study(
    gbm::gbm(
      strength ~ ., "gaussian", rows, n.trees = 60, interaction.depth = 3, shrinkage = 0.1
    ),
    kiln_rows(50, "holdout"),
    "strength",
    train = rows
  )
  for (by in c("permutation", "impurity")) {
    r <- reduce_predictors(s, by = by, folds = 3, repeats = 1, inner_folds = 2)
    expect_identical(r$curves[[1]]$order[3], "operator")
    table <- as.data.frame(r)
    expect_lt(table$score[table$count == 2], table$score[table$count == 0])
  }
})

# The loss (rmse) of these rows by what stood at each split's column.
loss_of <- function(p, y) sqrt(mean((p - y)^2))
influence_of <- function(p, y) ((p - y)^2 - mean((p - y)^2)) / (2 * loss_of(p, y))

test_that(
  "the final number is chosen as inside the splits; the nested score by definition",
  {
    r <- reduce_predictors(
      st, folds = 3, repeats = 2, random = 0, counts = c(2, 5, 8), seed = 4
    )
    expect_identical(r$inner_folds, r$folds)
    curve <- r$curves$linear
    expect_identical(curve$choice, curve$outer)
    full <- match("all", names(curve$columns))
    for (rule in c("one_se", "one_se_paired", "best")) {
      ps <- suppressWarnings(choose_set(r, rule = rule))
      choose <- function(m, found) {
        apply_rule(m, found, curve, list(name = rule, level = 0.95), 3L)
      }
      at <- choose(curve_moments(st, curve$info, curve$outer, 4, c(1L, full)), curve)
      expect_setequal(ps$predictors, curve$columns[[at]])
      inside <- vapply(curve$splits, function(s) choose(s$inner, s), 1L)
      y <- d$strength
      parts <- lapply(seq_along(curve$splits), function(i) {
        s <- curve$splits[[i]]
        p <- curve$outer[[s$time]]
        own <- curve$fold_of[, s$time] == s$fold
        lost <- function(k) loss_of(p[!own, k, 1], y[!own])
        expect_equal(s$rise, s$inner$loss - vapply(seq_along(s$inner$loss), lost, 0))
        list(
          held = p[own, inside[i], 1],
          rows = which(own),
          time = s$time,
          without = lost(inside[i]),
          without_full = lost(full),
          rise = s$rise[inside[i]],
          rise_full = s$rise[full],
          inner = s$inner$loss[inside[i]] - s$inner$loss[full]
        )
      })
      of <- function(name) vapply(parts, `[[`, 0, name)
      held <- lapply(1:2, function(t) {
        q <- double(nrow(d))
        for (part in Filter(function(part) part$time == t, parts)) {
          q[part$rows] <- part$held
        }
        q
      })
      raw <- mean(vapply(held, loss_of, 0, y))
      curve_loss <- function(k) {
        mean(vapply(curve$outer, function(p) loss_of(p[, k, 1], y), 0))
      }
      value <- raw + curve_loss(at) - mean(of("without")) - 2 / 3 * mean(of("rise"))
      expect_equal(ps$score, value, tolerance = 1e-8)
      # the price: rows as they are judged, and as they train
      all_of_them <- lapply(curve$outer, function(p) p[, full, 1])
      over_rows <- function(a, b) {
        u <- Reduce(
          `+`, Map(function(a, b) influence_of(a, y) - influence_of(b, y), a, b)
        ) / 2
        var(u) / length(u)
      }
      on_curve <- function(k) {
        over_rows(lapply(curve$outer, function(p) p[, k, 1]), all_of_them)
      }
      rows <- max(over_rows(held, all_of_them), on_curve(at))
      gain <- 2 / 3 * mean(of("rise") - of("rise_full"))
      raw_full <- curve_loss(full)
      price <- raw - raw_full + curve_loss(at) - raw_full -
        mean(of("without") - of("without_full")) -
        max(-sqrt(rows), min(sqrt(rows), gain))
      expect_equal(ps$price, price, tolerance = 1e-6)
      expect_equal(ps$full_score, ps$score - ps$price)
      jackknife <- function(x) mean(tapply(x, of("time"), jackknife_variance))
      trained <- sqrt(jackknife(of("rise") - of("rise_full")) * jackknife(of("inner")))
      ratio <- vapply(setdiff(seq_along(curve$columns)[-1], full), function(k) {
        rise <- vapply(curve$splits, function(s) s$rise[k] - s$rise[full], 0)
        inner <- vapply(curve$splits, function(s) s$inner$loss[k] - s$inner$loss[full], 0)
        sqrt(jackknife(rise) * jackknife(inner)) / on_curve(k)
      }, 0)
      path <- exp(mean(log(ratio[is.finite(ratio) & ratio > 0])))
      trained <- rows * (trained / rows)^(1 / 2) * path^(1 / 4) * (1 / 2)^(1 / 4)
      expect_equal(ps$price_error, sqrt(rows + trained), tolerance = 1e-8)
      expect_identical(nrow(ps$drawings), 2L)
      expect_equal(ps$outside, !ps$count %in% min(ps$counts_chosen):max(ps$counts_chosen))
    }
    # one_se: the best loss's own error
    m <- curve_moments(st, curve$info, curve$outer, 4, c(1L, full))
    path <- path_columns(curve)
    best <- path[which.min(m$loss[path])]
    within <- m$loss[path] <= m$loss[best] + sqrt(m$cov[best, best])
    expect_identical(
      choose_set(r)$count, lengths(curve$columns)[[path[which(within)[1]]]]
    )
    said <- gsub("\\s+", " ", paste(format_set(choose_set(r)), collapse = " "))
    expect_match(said, "on all rows by each drawing of the folds")
  }
)

test_that("folds of another number choose by themselves, and a size of no split is said", {
  curve <- rd$curves$linear
  expect_false(identical(curve$choice, curve$outer))
  expect_identical(dim(curve$choice[[1]])[1:2], c(400L, length(curve$splits[[1]]$rise)))
  train <- training_frame(st, st$models$linear)
  fold <- inner_folds_of(st, train, curve$settings, c("linear", "choice", 1))
  expect_identical(sort(unique(fold)), 1:2)
  ps <- choose_set(rd)
  ps$outside <- TRUE
  ps$counts_chosen <- rep(20L, 8)
  expect_match(say_set(ps), "carried over from sets of 20")
  said <- gsub("\\s+", " ", paste(format_set(ps), collapse = " "))
  expect_match(said, "No split chose this size")
  expect_error(
    reduce_predictors(st, inner_folds = 1), "`inner_folds`", class = "dreher_error_input"
  )
  blocks <- d
  blocks$batch <- rep(1:2, 200)
  sb <- study(lm(strength ~ peak_temp, blocks), kiln_rows(50, "holdout", c("ring_tone")),
    "strength", train = blocks, blocks = "batch")
  expect_error(reduce_predictors(sb), "at least two of them", class = "dreher_error_study")
})

test_that("score limits of paired shares solve their definition", {
  slow <- function(more, fewer, n, z) {
    # the chance of `fewer` that is likeliest at a difference d
    score <- function(d) {
      chance <- stats::optimize(
        function(q) {
          more * log(max(q + d, 1e-300)) + fewer * log(max(q, 1e-300)) +
            (n - more - fewer) * log(max(1 - 2 * q - d, 1e-300))
        },
        c(max(0, -d), (1 - d) / 2), maximum = TRUE, tol = 1e-12
      )$maximum
      (more - fewer - n * d) / sqrt(n * (2 * chance + d - d^2))
    }
    stats::uniroot(function(d) score(d) + z, c((more - fewer) / n + 1e-6, 0.999))$root
  }
  for (v in list(c(12, 5, 60), c(3, 0, 40), c(0, 4, 50), c(7, 7, 200))) {
    limits <- share_difference_limits(v[1], v[2], v[3], 0.95)
    expect_equal(limits$upper, slow(v[1], v[2], v[3], qnorm(0.975)), tolerance = 5e-3)
    turned <- share_difference_limits(v[2], v[1], v[3], 0.95)
    expect_equal(turned$lower, -limits$upper)
  }
  none <- share_difference_limits(0, 0, 100, 0.95)
  expect_equal(none$upper, qnorm(0.975)^2 / (100 + qnorm(0.975)^2), tolerance = 1e-6)
})

test_that("a rare class: its degrees of freedom, and nothing claimed of a handful", {
  u <- c(rnorm(96, sd = 0.001), 3, -2, 2, -3)
  class <- rep(1:2, c(96, 4))
  expect_equal(df_of_classes(u, class), 3, tolerance = 0.01)
  expect_identical(df_of_classes(double(5), c(1, 1, 2, 2, 2)), Inf)
  expect_identical(state_difference(-2, -1, -1, 0.1, 9L), "inconclusive")
  expect_identical(state_difference(-2, -1, -1, 0.1, 10L), "better")
  expect_match(
    say_confirmation(list(statement = "inconclusive", rarest = 4L)), "rarest class has 4"
  )
})

test_that(
  "what a path has trained on the whole part is not trained again to score its sets",
  {
    fits <- 0
    counted <- study(
      lm(strength ~ peak_temp + hold_minutes + cooling_rate + operator, kiln$train),
      kiln$holdout,
      "strength",
      train = kiln$train,
      refit_with = function(model, data, predictors) {
        fits <<- fits + 1
        lm(strength ~ ., data[c("strength", predictors)])
      }
    )
    reduce <- function() {
      fits <<- 0
      reduce_predictors(
        counted, by = "coefficients", search = "backward", folds = 3, repeats = 1,
        inner_folds = 2, random = 0
      )
    }
    found <- reduce()
    # 3 outer parts, 6 inside them, 2 that choose on all rows, of 4 sets each; and the
    # path on all rows.
    expect_equal(fits, 11 * 4 + 3)
    utils::assignInNamespace("most_bytes_of_fits", 0, "dreher")
    again <- tryCatch(
      reduce(), finally = utils::assignInNamespace("most_bytes_of_fits", 2^28, "dreher")
    )
    expect_equal(fits, 11 * (4 + 3) + 3)
    expect_identical(as.data.frame(again), as.data.frame(found))
  }
)

test_that(
  "without a loss there is no interval of no width, and a price without error is said",
  {
    rows <- data.frame(
      x = c(1:40, 61:100), z = rep(1:4, 20), y = factor(rep(c("no", "yes"), each = 40))
    )
    held <- transform(rows, x = x + 0.5)
    fit <- rpart::rpart(y ~ x + z, rows, control = rpart::rpart.control(xval = 0))
    st <- study(fit, held, "y", train = rows, metric = "auc", positive = "yes")
    r <- reduce_predictors(st, folds = 3, repeats = 1, random = 0)
    said <- format_reduction(r)
    expect_match(said, "^ +0 +0.500 +0.500 +", all = FALSE)  # not a price of 0
    expect_match(said, "^ +1 +1.00 +0 ", all = FALSE)
    ps <- choose_set(r)
    said <- format_set(ps)
    expect_match(said, "price 0 AUC, by", all = FALSE, fixed = TRUE)
    expect_match(said, "1.00 nested cross-validation score", all = FALSE, fixed = TRUE)
    expect_s3_class(ggplot2::autoplot(r), "ggplot")
  }
)
