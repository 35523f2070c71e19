# What the figures show: the title says the finding, and what is drawn is what the result holds.

d <- kiln_rows(200)[c(
  "strength", "peak_temp", "hold_minutes", "grog_share", "cooling_rate", "operator",
  "pyro_left", "pyro_right"
)]
h <- kiln_rows(150, "holdout")[names(d)]
full <- lm(strength ~ peak_temp * hold_minutes + operator + pyro_left + pyro_right, d)
few <- lm(strength ~ peak_temp + cooling_rate, d)
st <- study(
  list(full = full, few = few), h, "strength", train = d, dictionary = kiln$dictionary
)
rk <- rank_predictors(st, by = c("permutation", "shapley"), background = 20, repeats = 5)
labels <- detail(rk, "labels")

# The data of the first layer with this geom, as drawn.
drawn <- function(picture, geom) {
  which <- vapply(picture$layers, function(l) class(l$geom)[1] == geom, NA)
  built <- ggplot2::ggplot_build(picture)$data
  built[which(which)]
}
words_of <- function(picture) {
  unlist(picture$labels[c("title", "subtitle", "caption")], use.names = FALSE)
}

test_that("a ranking's figure draws every importance with its limits, and its finding", {
  picture <- ggplot2::autoplot(rk)
  own <- as.data.frame(rk)[rk$model == "full", ]
  points <- drawn(picture, "GeomPoint")[[1]]
  expect_setequal(points$x, own$importance)
  lines <- drawn(picture, "GeomLinerange")[[1]]
  expect_setequal(lines$xmin, own$lower)
  expect_setequal(lines$xmax, own$upper)
  shares <- drawn(picture, "GeomText")[[1]]$label
  expect_setequal(shares, format_percent(own$share))
  expect_identical(
    picture$labels$title, say_ranking(own[own$method == "permutation", ], labels)
  )
  expect_match(picture$labels$subtitle, "model full (lm)", fixed = TRUE)
  expect_match(picture$labels$caption, "rise of RMSE, 150 rows, 5 repeats")
  # Shapley values say which way the predictors act; that stands beside their names.
  rows <- levels(picture$data$row)
  expect_true(any(endsWith(rows, ", rises")))
  expect_setequal(
    sub(", (rises|falls|bends|mixed)$", "", rows), labels[unique(own$predictor)]
  )
  expect_setequal(
    points$colour, unname(method_colours()[c("permutation", "shapley")])
  )
  other <- ggplot2::autoplot(rk, model = "few")
  expect_match(other$labels$subtitle, "model few", fixed = TRUE)
})

test_that("methods side by side show the ranks, in ink where they disagree", {
  picture <- plot_ranks(rk)
  texts <- drawn(picture, "GeomText")
  expect_setequal(as.integer(texts[[1]]$label), seq_len(max(rk$rank)))
  expect_true(all(texts[[2]]$label %in% shorten(labels, 24)))
  expect_match(picture$labels$title, "^(The columns agree|They disagree)")
})

test_that("a reduction's figures show the scores, and the set that was chosen", {
  rd <- reduce_predictors(st, folds = 3, repeats = 1, inner_folds = 2, random = 2)
  set <- choose_set(rd, model = "full")
  own <- as.data.frame(rd)
  steps <- own[own$model == "full" & !own$candidate %in% beside_path, ]
  picture <- ggplot2::autoplot(rd, set = set)
  expect_setequal(drawn(picture, "GeomPoint")[[1]]$x, steps$score)
  ring <- drawn(picture, "GeomPoint")[[2]]
  expect_equal(ring$x, steps$score[which.min(abs(steps$count - set$count))])
  expect_identical(picture$labels$title, say_set(set))
  expect_match(picture$labels$x, "Cross-validated RMSE (lower is better)", fixed = TRUE)
  both <- ggplot2::autoplot(rd)
  expect_setequal(drawn(both, "GeomPoint")[[1]]$x, own$score[!own$candidate %in% beside_path])
  expect_match(both$labels$title, "full with")
})

test_that("twins, agreement and the noise floor draw the numbers of their tables", {
  twins <- find_twins(st)
  picture <- ggplot2::autoplot(twins)
  cells <- drawn(picture, "GeomText")[[1]]$label
  expect_true(sub("^0", "", sprintf("%.2f", max(twins$table$association))) %in% cells)
  expect_identical(picture$labels$title, twins_title(twins))
  agreed <- agreement(rk)
  picture <- ggplot2::autoplot(agreed)
  expect_true(all(vapply(words_of(picture), nzchar, NA)))
  nf <- noise_floor(st, models = "few", refits = 19)
  picture <- ggplot2::autoplot(nf)
  expect_setequal(drawn(picture, "GeomPoint")[[1]]$x, nf$table$importance)
  expect_equal(drawn(picture, "GeomVline")[[1]]$xintercept[1], nf$table$floor[1])
  expect_match(picture$labels$subtitle, "19 refits with a permuted copy")
})

test_that("the rank strip shows how often each rank was taken", {
  over <- rank_predictors(
    st, by = "permutation", models = "few", resamples = draw_resamples(d, times = 20)
  )
  steady <- suppressWarnings(stability(over))
  picture <- ggplot2::autoplot(steady)
  part <- steady$parts[[1]]
  expect_identical(picture$labels$title, say_stability(part, steady$labels, steady$about))
  tiles <- drawn(picture, "GeomTile")[[1]]
  expect_identical(nrow(tiles), sum(part$ranks > 0))
  expect_true(all(tiles$alpha > 0))
})

test_that("the report names predictors and margins in its sentences", {
  file <- tempfile(fileext = ".html")
  sets <- list(one = "peak_temp", two = c("peak_temp", "hold_minutes"))
  write_report(st, rk, compare_sets(st, sets, models = "full", margin = "3 %"), file = file)
  page <- paste(readLines(file, warn = FALSE), collapse = "\n")
  said <- regmatches(page, gregexpr("<p class=\"finding\">[^<]*", page))[[1]]
  expect_match(said, labels[["peak_temp"]], fixed = TRUE, all = FALSE)
  expect_match(gsub("<[^>]*>", "", page), "Margin: 3 %", fixed = TRUE)
})

test_that(
  "findings: every one is drawn, severe ones are named; distributions by anything",
  {
    leaky <- transform(d, mirror = exp(strength / 20))
    other <- transform(h, mirror = exp(strength / 20))
    with_leak <- study(lm(strength ~ ., leaky), other, "strength", train = leaky)
    ch <- check_data(with_leak)
    picture <- ggplot2::autoplot(ch)
    expect_identical(nrow(drawn(picture, "GeomPoint")[[1]]), nrow(ch))
    expect_match(picture$labels$title, "^Severe: mirror")
    dr <- find_drift(with_leak, models = character(), times = 20)
    far <- drawn(ggplot2::autoplot(dr), "GeomPoint")
    expect_setequal(far[[2]]$x, dr$distance)
    boxes <- plot_distribution(st, "peak_temp", by = "operator")
    expect_setequal(
      drawn(boxes, "GeomPoint")[[1]]$x,
      tapply(h$peak_temp, as.character(h$operator), stats::median)
    )
    shares <- plot_distribution(st, "operator", by = "rows")
    expect_equal(sum(drawn(shares, "GeomCol")[[1]]$x), 2)
    expect_s3_class(plot_distribution(st, "peak_temp"), "ggplot")
    expect_identical(unname(plot_distribution(st, "operator")$labels$x), "strength")
    cloud <- plot_distribution(st, "peak_temp", by = "grog_share")
  expect_identical(nrow(drawn(cloud, "GeomPoint")[[1]]), nrow(h))
    expect_error(plot_distribution(st, "nothing"), class = "dreher_error_input")
  }
)
