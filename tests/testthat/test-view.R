d <- kiln_rows(300)
h <- kiln_rows(120, "holdout")
st <- study(
  list(
    forest = small_forest(strength ~ ., d, keep.inbag = TRUE),
    linear = lm(strength ~ ., d)
  ),
  h,
  "strength",
  train = d,
  dictionary = kiln$dictionary
)
rk <- rank_predictors(st, background = 10)
rd <- reduce_predictors(st, models = "linear", folds = 3, repeats = 1, inner_folds = 2)
ps <- choose_set(rd)
cf <- confirm_set(ps, kiln$untouched)
nf <- noise_floor(st, by = c("permutation", "impurity"), refits = 19, repeats = 2)

test_that("a line does not end within a share or an interval", {
  text <- paste(strrep("a", 70), "and (53 %).")
  expect_identical(wrap_lines(text, 78), c(paste(strrep("a", 70), "and"), "(53 %)."))
  text <- paste(strrep("a", 70), "price 0.1 [-1.30, 1,101] RMSE.")
  expect_identical(
    wrap_lines(text, 88), c(paste(strrep("a", 70), "price 0.1"), "[-1.30, 1,101] RMSE.")
  )
})

test_that("printed objects fit 25 lines of 80 columns, whatever their size", {
  wide <- as.data.frame(matrix(rnorm(60 * 40), 60))
  names(wide) <- paste0("a predictor with a very long name, number ", 1:40)
  wide$y <- rnorm(60)
  many <- study(
    lapply(stats::setNames(1:6, paste0("model", 1:6)), function(i) 1),
    wide,
    "y",
    predict_with = function(model, data) data[[1]]
  )
  objects <- list(
    st,
    score_models(st),
    check_data(st),
    rk,
    rank_permutation(st, models = "linear"),
    rd,
    ps,
    cf,
    many,
    rank_permutation(many, repeats = 2),
    score_models(many),
    summary(rk),
    find_twins(st, ranking = rk),
    compare_sets(
      st, list(all = "all", one = "peak_temp", none = "none"), folds = 2, repeats = 1
    ),
    nf,
    agreement(rk),
    agreement(with_floor(rk, nf), study = st),
    with_floor(rk, nf)
  )
  for (x in objects[-12]) {
    lines <- cli::ansi_strip(capture.output(print(x)))
    expect_lt(length(lines), 25, label = class(x)[1])
    expect_lte(
      max(nchar(lines, "width")),
      80,
      label = paste(class(x)[1], lines[which.max(nchar(lines, "width"))])
    )
    expect_identical(
      capture.output(y <- withVisible(print(x))$visible), capture.output(print(x))
    )
    expect_false(y)
  }
})

test_that("values carry no more digits than their uncertainty supports", {
  expect_identical(
    format_value(c(2.0764, 0.00612, -0.0004), c(0.23, 0.0131, 0.2)),
    c("2.08", "0.006", "0.00")
  )
  expect_identical(format_percent(c(0.361, 0.001, 0, NA)), c("36 %", "< 1 %", "0 %", ""))
  expect_identical(count_of(3, "predictor", TRUE), "Three predictors")
  expect_identical(list_words(c("a", "b", "c")), "a, b and c")
})

test_that("figures are ggplots that build, and say their finding", {
  for (p in list(
      ggplot2::autoplot(rk),
      ggplot2::autoplot(rk, model = "linear", top = 5),
      plot_ranks(rk),
      ggplot2::autoplot(nf),
      ggplot2::autoplot(nf, model = "linear", top = 4),
      ggplot2::autoplot(agreement(rk)),
      ggplot2::autoplot(rd),
      ggplot2::autoplot(rd, set = choose_set(rd, rule = "best")),
      ggplot2::autoplot(find_twins(st)),
      ggplot2::autoplot(reduce_predictors(
        st, folds = 2, repeats = 1, inner_folds = 2, counts = c(2, 5), random = 2
      ))
    )) {
    expect_s3_class(p, "ggplot")
    expect_s3_class(ggplot2::ggplot_build(p), "ggplot_built")
    expect_true(nzchar(p$labels$title))
  }
  d <- nf$table[nf$table$model == "linear", ]
  drawn <- ggplot2::autoplot(nf, model = "linear", top = 4)
  expect_identical(as.character(unique(drawn$data$predictor)), d$predictor[1:4])
  expect_identical(drawn$data$above, d$above[1:4])
  expect_match(
    drawn$labels$caption, "A useless predictor correlated with a useful one also passes"
  )
  expect_error(ggplot2::autoplot(nf, model = "oven"), "`model` must be one of")
  side <- plot_ranks(with_floor(rk, nf))
  expect_identical(
    sum(side$data$under),
    sum(grepl(
      "not above floor", with_floor(rk, nf)$flag[rk$predictor %in% side$data$predictor]
    ))
  )
  expect_match(side$labels$subtitle, "In brackets: not above the noise floor")
  folded <- ggplot2::autoplot(rk, top = 5)$data
  expect_true(any(grepl("others, together", folded$row)))
  together <- folded[grepl("others", folded$row) & folded$method == "permutation", ]
  main <- as.data.frame(rk)
  main <- main[main$model == "forest" & main$method == "permutation", ]
  shown <- folded$predictor[!grepl("others", folded$row)]
  expect_equal(together$share, sum(main$share[!main$predictor %in% shown]))
  expect_error(ggplot2::autoplot(rk, model = "x"), "`model` must be one of")
  expect_error(
    plot_ranks(rank_permutation(st, models = "linear")), "nothing to lay side by side"
  )
})

test_that("titles break where the picture ends", {
  file <- tempfile(fileext = ".pdf")
  grDevices::pdf(file, width = 4)
  on.exit(grDevices::dev.off())
  text <- "Five predictors carry most of the importance; the others cannot be told from zero."
  broken <- break_lines(text, 15, "bold")
  expect_identical(gsub("\n", " ", broken), text)
  width <- grid::convertWidth(
    grid::grobWidth(grid::textGrob(
      broken, gp = grid::gpar(fontsize = 15, fontface = "bold")
    )),
    "in",
    valueOnly = TRUE
  )
  expect_lte(width, 4)
  expect_s3_class(ggplot2::ggplotGrob(ggplot2::autoplot(rk)), "gtable")
})

test_that("results are written with their circumstances and read back the same", {
  csv <- tempfile(fileext = ".csv")
  expect_identical(write_results(rk, csv), csv)
  back <- read_rows(csv, quiet = TRUE)
  expect_equal(back$importance, rk$importance)
  expect_identical(unique(back$metric), "rmse")
  expect_identical(back$repeats[back$method == "permutation"][1], 10L)
  json <- tempfile(fileext = ".json")
  write_results(rk, json)
  x <- jsonlite::fromJSON(json)
  expect_equal(x$rows$importance, rk$importance, tolerance = 1e-14)
  expect_identical(x$about$target, "strength")
  for (y in list(score_models(st), check_data(st), rd, ps, cf)) {
    write_results(y, csv)
    expect_identical(nrow(read_rows(csv, quiet = TRUE)), nrow(as.data.frame(y)))
    write_results(y, json)
    expect_identical(nrow(jsonlite::fromJSON(json)$rows), nrow(as.data.frame(y)))
  }
  book <- tempfile(fileext = ".xlsx")
  write_results(compare_sets(st, list(few = "peak_temp"), folds = 3, repeats = 1), book)
  write_results(rk, book)
  inside <- tempfile()
  utils::unzip(book, exdir = inside)
  sheet <- paste(
    readLines(file.path(inside, "xl", "worksheets", "sheet1.xml"), warn = FALSE),
    collapse = ""
  )
  expect_identical(lengths(regmatches(sheet, gregexpr("<row ", sheet))), nrow(rk) + 1L)
  cells <- as.double(gsub(
    "</?v>", "", regmatches(sheet, gregexpr("<v>[^<]*</v>", sheet))[[1]]
  ))
  expect_true(all(vapply(
    rk$importance, function(v) any(abs(cells - v) <= 1e-12 * abs(v)), NA
  )))
  expect_match(
    paste(
      readLines(file.path(inside, "xl", "workbook.xml"), warn = FALSE), collapse = ""
    ),
    'name="rows".*name="about"'
  )
  parquet <- tempfile(fileext = ".parquet")
  write_results(rk, parquet)
  back <- nanoparquet::read_parquet(parquet)
  expect_identical(back$importance, rk$importance)
  expect_identical(unique(back$target), "strength")
  expect_error(write_results(rk, "x.xls"), "must end in")
  expect_error(write_results(rk, csv, table = "one"), "for a database")
  expect_error(write_results(rk, file.path(tempdir(), "no", "x.csv")), "does not exist")
})

test_that("results go into databases, table and circumstances together or not at all", {
  file <- tempfile(fileext = ".sqlite")
  write_results(rk, file)
  write_results(score_models(st), file, table = "worth")
  db <- DBI::dbConnect(RSQLite::SQLite(), file)
  on.exit(DBI::dbDisconnect(db))
  expect_setequal(
    DBI::dbListTables(db), c("ranking", "ranking_about", "worth", "worth_about")
  )
  expect_identical(DBI::dbReadTable(db, "ranking")$importance, rk$importance)
  about <- DBI::dbReadTable(db, "ranking_about")
  expect_identical(about$value[about$what == "target"], "strength")
  # written again, it is replaced; what others wrote is not touched
  write_results(rk[rk$method == "permutation", ], db)
  expect_identical(
    nrow(DBI::dbReadTable(db, "ranking")), sum(rk$method == "permutation")
  )
  DBI::dbWriteTable(db, "tiles", data.frame(a = 1))
  expect_error(write_results(rk, db, table = "tiles"), "of another origin")
  expect_identical(DBI::dbReadTable(db, "tiles")$a, 1)
  DBI::dbExecute(db, "PRAGMA query_only = ON")
  expect_error(write_results(rk, db), "did not take", class = "dreher_error_input")
  expect_identical(
    nrow(DBI::dbReadTable(db, "ranking")), sum(rk$method == "permutation")
  )
  gone <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
  DBI::dbDisconnect(gone)
  expect_error(write_results(rk, gone), "connection is closed")
})

test_that("prints are as wide as they are asked to be, and cut nothing without a sign", {
  of_width <- function(x, width) {
    max(nchar(cli::ansi_strip(utils::capture.output(print(x, width = width))), "width"))
  }
  for (x in list(rk, st, score_models(st), check_data(st), rd, ps, cf)) {
    for (width in c(72, 80, 120)) expect_lte(of_width(x, width), width)
  }
  long <- rk
  attr(long, "details")$labels[] <- paste(
    "a column with a name of many words", seq_along(detail(rk, "labels"))
  )
  expect_output(print(long, width = 72), "\u2026")
  wide <- utils::capture.output(print(long[long$method == "permutation", ], width = 140))
  expect_match(paste(wide, collapse = "\n"), "a column with a name of many words 1 ")
  expect_error(print(rk, width = 20), "width", class = "dreher_error_input")
})

test_that("the report holds itself, answers first, escapes names, sorts and searches", {
  odd <- data.frame(y = rnorm(80), a = rnorm(80), b = rnorm(80), c = rnorm(80))
  names(odd)[3] <- "<script>document.title='owned'</script>"
  odd$y <- odd$y + 3 * odd$a + odd[[3]]
  s <- study(list("<b>m</b>" = lm(y ~ ., odd)), odd[41:80, ], "y", train = odd[1:40, ])
  r <- reduce_predictors(s, folds = 3, repeats = 1, inner_folds = 2)
  file <- tempfile(fileext = ".html")
  write_report(
    s,
    rank_predictors(s, by = c("permutation", "shapley"), background = 10),
    r,
    file = file,
    title = "A <i>title</i> & more"
  )
  page <- readLines(file, warn = FALSE)
  whole <- paste(page, collapse = "\n")
  expect_false(grepl("<script>document.title", whole, fixed = TRUE))
  expect_match(whole, "&lt;script&gt;document.title", fixed = TRUE)
  expect_false(grepl("<i>title</i>", whole, fixed = TRUE))
  expect_false(grepl("(src|href)=[\"']https?://", whole))
  expect_lt(regexpr("class=\"answer\"", whole), regexpr("<h2[^>]*>Can the models", whole))

  # A click on "Importance" twice sorts from large to small; a search leaves the rows that match.
  probe <- tempfile(fileext = ".html")
  script <- paste0(
    "var ",
    "box=Array.from(document.querySelectorAll('.table')).filter(function(b){return ",
    "b.textContent.indexOf('Importance')>=0})[0];",
    "var th=Array.from(box.querySelectorAll('th')).filter(function(t){return ",
    "t.textContent=='Importance'})[0];",
    "th.querySelector('button').click();th.querySelector('button').click();", "var ",
    "v=Array.from(box.querySelectorAll('td.number:nth-child(4)'))",
    ".map(function(c){return c.getAttribute('data-value')});",
    "var f=box.querySelector('input');f.value='shapley';f.dispatchEvent(new ",
    "Event('input'));",
    "var seen=Array.from(box.querySelectorAll('tbody tr')).filter(function(r){return ",
    "!r.hidden}).length;", "document.body.innerHTML='<p id=probe>'+v.join(' ",
    "')+'|'+seen+'|'+document.title+'</p>';"
  )
  writeLines(page_with(whole, script), probe)
  dom <- paste(chromium("--dump-dom", paste0("file://", probe)), collapse = "\n")
  found <- regmatches(dom, regexpr("<p id=\"probe\">[^<]*", dom))
  parts <- strsplit(sub("<p id=\"probe\">", "", found), "|", fixed = TRUE)[[1]]
  values <- as.numeric(strsplit(parts[1], " ")[[1]])
  expect_length(values, 6)
  expect_false(is.unsorted(rev(values)))
  expect_identical(parts[2], "3")
  expect_false(grepl("owned", parts[3]))
})

test_that("results of another study are refused", {
  other <- study(lm(strength ~ peak_temp, d), kiln_rows(50, "holdout"), "strength")
  expect_error(
    write_report(other, rk, file = tempfile(fileext = ".html")),
    "another study",
    class = "dreher_error_study"
  )
  expect_error(
    write_report(st, 3, file = tempfile(fileext = ".html")),
    "results of this study",
    class = "dreher_error_input"
  )
})

test_that("prints hide nobody who is among the first, and count whom they hide", {
  # All that a method gives 0 share its last places.
  part <- data.frame(
    predictor = rep(letters[1:8], 2),
    rank = c(1, rep(2, 7), 1, rep(2, 6), 8),
    method = rep(c("impurity", "permutation"), each = 8),
    form = "plain",
    rows = "holdout"
  )
  part$rank[part$predictor == "h"] <- c(1, 8)
  part$rank[1] <- 2
  expect_identical(order_by_rank(part)[1:2], c("a", "h"))
  part$rank <- c(2:8, 1, 1:7, 8)
  expect_identical(order_by_rank(part)[8], "g")
  expect_true("h" %in% shown_of(part, c(letters[1:7], "h"), 5))
  expect_length(shown_of(part, letters[1:8], 5), 5)
  floor <- format_floor(nf, lines = 14)
  expect_match(floor, "others, .* of them above", all = FALSE)
  some <- contributions(st, models = "linear", which = 1:3, background = 10)
  expect_no_match(format_contributions(some), "more: as.data.frame", fixed = TRUE)
  both <- contributions(st, which = 1:2, background = 10)
  expect_match(
    format_contributions(both),
    "and 1 more: as.data.frame() holds all",
    fixed = TRUE,
    all = FALSE
  )
  tiny <- data.frame(position = c(1.9e-7, 2.9e-4, 0.2, 1), at = "")
  expect_identical(point_words(tiny, "number"), c("1.9e-07", "0.00029", "0.2", "1"))
  expect_identical(
    format_plainly(c(1952, 12345.5, 3e-5, 0)), c("1952", "12,345.5", "3e-05", "0")
  )
  expect_identical(format_value(3741.06, 4.5e-14), "3741")
})

test_that("prints show as much as is asked for, and name what they leave out", {
  expect_output(print(rk, n = 2), "others, together")
  lines <- utils::capture.output(print(rk, n = 2))
  shown <- function(lines) {
    sum(vapply(
      rk$predictor |> unique(),
      function(p) {
        any(startsWith(trimws(lines), shorten(detail(rk, "labels")[[p]], 18)))
      },
      NA
    ))
  }
  expect_identical(
    shown(utils::capture.output(print(rk, n = 1000))), length(unique(rk$predictor))
  )
  expect_lt(shown(lines), length(unique(rk$predictor)))
  one <- rk$model[1]
  expect_error(print(rk, models = "nobody"), "nobody", class = "dreher_error_input")
  expect_error(print(rk, n = 0), "`n`", class = "dreher_error_input")
  expect_match(
    paste(utils::capture.output(print(rk, models = one)), collapse = "\n"), one
  )
})

test_that("where few resamples say who is first, ties are not put in order", {
  say <- function(rank) {
    say_first_on_average(
      data.frame(predictor = letters[seq_along(rank)], rank = as.integer(rank)), identity
    )
  }
  expect_identical(say(1:4), "the first three are a, b and c on average")
  expect_identical(say(c(1, 2, 2, 2)), "the first is a on average")
  expect_identical(say(c(1, 1, 3, 3)), "the first are a and b on average")
  expect_identical(say(rep(1, 4)), "no predictor is ahead of the others on average")
  expect_identical(say(1:2), "the first are a and b on average")
})

test_that("a curve beyond all predictions says so", {
  curve <- list(
    predicted = c(10, 20), effect = c(0, 15, 40), shape = list(low = 1L, high = 3L)
  )
  expect_match(
    say_beyond(curve), "predicted 10.0 to 20.0: the curve goes beyond", fixed = TRUE
  )
  curve$effect <- c(9.5, 15, 20.5)
  expect_identical(say_beyond(curve), "")
  expect_identical(say_beyond(curve["effect"]), "")
})
