# Results as data frames, and in documents.

rows <- kiln_rows(200)
fit <- rpart::rpart(strength ~ peak_temp + hold_minutes + clay_source, rows)
dictionary <- data.frame(
  predictor = c("peak_temp", "hold_minutes"), label = c("Heat <b>|`x`</b>", "Hold"),
  family = "firing"
)
st <- study(
  list(tree = fit, line = lm(strength ~ peak_temp + hold_minutes, rows)),
  kiln_rows(100, "holdout"), "strength", train = rows, dictionary = dictionary
)
rk <- rank_predictors(st, by = c("permutation", "shapley"), repeats = 2, background = 5)

test_that("every result and every noun is a data frame", {
  d <- as.data.frame(st)
  expect_identical(d$model, rep(c("tree", "line"), c(3, 2)))
  expect_identical(d$family[d$model == "line"], c("firing", "firing"))
  drawn <- draw_resamples(rows, "folds", times = 1, seed = 1)
  expect_identical(
    as.data.frame(drawn),
    data.frame(resample = 1:5, n_train = rep(160L, 5), n_left_out = rep(40L, 5))
  )
  results <- list(
    rk, score_models(st), check_data(st), effect_curves(st), find_twins(st),
    contributions(st, which = 1:2, background = 5), agreement(rk),
    stability(suppressWarnings(rank_predictors(
      st, by = "permutation", repeats = 1, resamples = draw_resamples(rows, times = 4)
    )))
  ) |> suppressWarnings()
  for (x in c(results, list(st, drawn))) {
    plain <- as.data.frame(x)
    expect_identical(class(plain), "data.frame", label = class(x)[1])
    tidy <- generics::tidy(x)
    expect_s3_class(tidy, "tbl_df")
    expect_equal(as.data.frame(tidy), plain, ignore_attr = TRUE)
  }
})

test_that("documents hold a sentence and a table, with names as text", {
  text <- document_lines(rk)
  all <- paste(text, collapse = "\n")
  expect_match(all, say_ranking(
    main_part(as_plain(rk[rk$model == "tree", ])), detail(rk, "labels")
  ), fixed = TRUE)
  expect_match(all, "| Predictor | Permutation | Shapley |", fixed = TRUE)
  expect_match(all, "Heat &#60;b&#62;&#124;&#96;x&#96;&#60;/b&#62;", fixed = TRUE)
  d <- rk[rk$model == "line" & rk$method == "permutation", ]
  for (r in d$rank) expect_match(all, paste0("| &#35;", r, " "), fixed = TRUE)
  for (x in list(
      score_models(st), check_data(st), effect_curves(st), find_twins(st), find_drift(st),
      contributions(st, which = 1:2, background = 5), agreement(rk)
    )) {
    lines <- suppressWarnings(document_lines(x))
    expect_gt(sum(nchar(lines)), 20)
    table <- lines[startsWith(lines, "| ")]
    bars <- lengths(regmatches(table, gregexpr("|", table, fixed = TRUE)))
    if (length(table)) expect_length(unique(bars), 1)
  }
  # knitr calls it where pandoc makes the document, and prints lines elsewhere
  file <- tempfile(fileext = ".Rmd")
  out <- tempfile(fileext = ".md")
  knitr::opts_knit$set(rmarkdown.pandoc.to = "html")
  on.exit(knitr::opts_knit$set(rmarkdown.pandoc.to = NULL))
  writeLines(c("```{r}", "rk", "```"), file)
  place <- new.env()
  place$rk <- rk
  knitr::knit(file, out, quiet = TRUE, envir = place)
  expect_true(any(startsWith(readLines(out), "| Predictor | Permutation")))
  knitr::opts_knit$set(rmarkdown.pandoc.to = NULL)
  knitr::knit(file, out, quiet = TRUE, envir = place)
  expect_true(any(grepl("## Ranking of the predictors", readLines(out), fixed = TRUE)))
})
