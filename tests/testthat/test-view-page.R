# The page in a browser: it holds itself, is valid and can be used by keyboard, its fields and
# tables work, and nothing is cut at any number of predictors.

few <- kiln_rows(240, drop = c("ring_tone", "defect", "tile_id", "batch"))[
  c("peak_temp", "hold_minutes", "clay_source", "operator", "strength")
]
st <- study(
  list(tree = rpart::rpart(strength ~ ., few), linear = lm(strength ~ ., few)),
  kiln_rows(80, "holdout")[names(few)], "strength", train = few
)
quiet <- function(code) suppressWarnings(suppressMessages(code))
rk <- rank_predictors(st, by = c("permutation", "shapley"), repeats = 2, background = 5)
curves <- effect_curves(st, models = "tree")
page <- tempfile(fileext = ".html")
rows <- contributions(st, models = "tree", which = c(2, 7), background = 5)
quiet(write_report(st, rk, curves, rows, agreement(rk), file = page, title = "Tiles & co"))
text <- paste(readLines(page, warn = FALSE), collapse = "\n")

# What a script of ours finds in the page, one value a line; and what the console says.
asked <- function(text, script, ...) {
  probe <- tempfile(fileext = ".html")
  script <- paste0(
    "var out=[];", script, "document.body.innerHTML='<pre id=probe>'+",
    "out.join('\\n').replace(/</g,'&lt;')+'</pre>';"
  )
  writeLines(page_with(text, script), probe)
  dom <- paste(chromium("--dump-dom", ..., paste0("file://", probe)), collapse = "\n")
  found <- regmatches(dom, regexpr("<pre id=\"probe\">[^<]*", dom))
  strsplit(sub("<pre id=\"probe\">", "", found), "\n", fixed = TRUE)[[1]]
}

test_that(
  "a choice of model, predictor and row changes what is shown, in the whole page",
  {
    found <- asked(
      text,
      paste0(
        "function shown(kind){return ",
        "Array.from(document.querySelectorAll('div[data-'+kind+']'))",
        ".filter(function(d){return !d.hidden}).map(function(d){return ",
        "d.getAttribute('data-'+kind)", "}).join(',')}", "function pick(kind,value){var ",
        "f=document.querySelector('select[data-kind='+kind+']');",
        "f.value=value;f.dispatchEvent(new Event('change'));}",
        "out.push(shown('model'));pick('model','linear');out.push(shown('model'));",
        "out.push(shown('predictor'));",
        "document.querySelector('tr[data-predictor=operator]').click();",
        "out.push(shown('predictor'));",
        "out.push(document.querySelectorAll('tr.chosen').length>0);",
        "out.push(shown('row'));pick('row','7');out.push(shown('row'));"
      )
    )
    expect_identical(found[1:2], c("tree", "linear"))
    expect_identical(found[4], "operator")
    expect_false(found[3] == "operator")
    expect_identical(found[5:7], c("true", "2", "7"))
  }
)

test_that("the console stays silent at two widths, and a print is whole", {
  for (width in c(1280, 390)) {
    log <- system2(
      Sys.which("chromium"),
      c(
        "--headless", "--no-sandbox", "--disable-gpu", "--enable-logging=stderr", "--v=0",
        paste0("--user-data-dir=", tempfile("profile")),
        paste0("--window-size=", width, ",900"),
        paste0("--screenshot=", tempfile(fileext = ".png")), paste0("file://", page)
      ),
      stdout = TRUE,
      stderr = TRUE
    )
    expect_identical(grep("CONSOLE", log, value = TRUE), character())
  }
  # nothing is wider than a phone but what scrolls by itself
  found <- asked(
    text,
    paste0(
      "out.push(document.documentElement.scrollWidth<=document.documentElement.clientWidth);"
    ),
    "--window-size=390,900"
  )
  expect_identical(found, "true")
  # each figure, marked at its beginning and end, stands on one page of the print
  marked <- strsplit(text, "<figure>", fixed = TRUE)[[1]]
  drawings <- length(marked) - 1
  for (i in seq_len(drawings)) {
    marked[i + 1] <- sub(
      "</svg></div>", paste0("</svg></div>end", i, "x"),
      paste0("<figure>begin", i, "x", marked[i + 1]), fixed = TRUE
    )
  }
  whole <- tempfile(fileext = ".html")
  writeLines(gsub(" hidden>", ">", paste(marked, collapse = "")), whole)
  pdf <- tempfile(fileext = ".pdf")
  chromium(paste0("--print-to-pdf=", pdf), paste0("file://", whole))
  words <- paste(
    system2(Sys.which("pdftotext"), c(pdf, "-"), stdout = TRUE), collapse = "\n"
  )
  sheets <- strsplit(words, "\f", fixed = TRUE)[[1]]
  place <- function(mark) grep(mark, sheets, fixed = TRUE)
  for (i in seq_len(drawings)) {
    expect_length(place(paste0("begin", i, "x")), 1)
    expect_identical(place(paste0("begin", i, "x")), place(paste0("end", i, "x")))
  }
})

test_that("the page is well formed, names everything, and says all in words", {
  # every element that is opened is closed
  body <- gsub("<!DOCTYPE html>|<script>.*?</script>|<style>.*?</style>", "", text)
  tags <- regmatches(
    body,
    gregexpr(
      "</?[a-zA-Z][a-zA-Z0-9]*(?:\"[^\"]*\"|'[^']*'|[^'\">])*>", body, perl = TRUE
    )
  )[[1]]
  name <- tolower(sub("^</?([a-zA-Z0-9]+).*$", "\\1", tags))
  open <- character()
  void <- c("meta", "input", "br", "link", "img")
  for (i in seq_along(tags)) {
    if (name[i] %in% void || grepl("/>$", tags[i])) next
    if (startsWith(tags[i], "</")) {
      expect_identical(open[length(open)], name[i])
      open <- open[-length(open)]
    } else {
      open <- c(open, name[i])
    }
  }
  expect_length(open, 0)
  ids <- sub(
    "^ id=[\"'](.*)[\"']$",
    "\\1",
    regmatches(body, gregexpr(" id=(\"[^\"]*\"|'[^']*')", body))[[1]]
  )
  clips <- grepl("^c[0-9a-f]{8}", ids)
  expect_identical(anyDuplicated(ids[!clips]), 0L)
  expect_match(text, "<html lang=\"en\">", fixed = TRUE)
  drawn <- regmatches(text, gregexpr("<svg[^>]*>", text))[[1]]
  expect_gt(length(drawn), 6)
  expect_true(all(grepl("role=\"img\" aria-label=\"[^\"]{10,}", drawn)))
  levels <- as.integer(substring(
    name[name %in% c("h1", "h2", "h3") & !startsWith(tags, "</")], 2
  ))
  expect_identical(levels[1], 1L)
  expect_true(all(diff(levels) <= 1))
  fields <- regmatches(text, gregexpr("<select id=\"[^\"]*\"", text))[[1]]
  for (id in sub("<select id=", "", fields)) {
    expect_match(text, paste0("<label for=", id), fixed = TRUE)
  }
  for (anchor in regmatches(text, gregexpr("href=\"#[^\"]*", text))[[1]]) {
    expect_match(text, paste0("id=\"", sub("href=\"#", "", anchor), "\""), fixed = TRUE)
  }
  # no R call, no console text
  said <- gsub("<[^>]*>", " ", body)
  expect_false(grepl("as.data.frame|print\\(|rank_predictors|[a-z] = \"|<pre", said))
  expect_match(text, "What to do next")
  expect_match(text, "How to read this")
  expect_lt(file.size(page), 1e6)
})

test_that("the page passes an HTML validator and an automated check of accessibility", {
  # the validator knows no groups inside lists of terms, which HTML 5.2 allows
  plain <- gsub("</dd></div>", "</dd>", gsub("<div><dt>", "<dt>", text))
  file <- tempfile(fileext = ".html")
  writeLines(plain, file)
  said <- suppressWarnings(system2(
    Sys.which("tidy"), c("-e", "-q", file), stdout = TRUE, stderr = TRUE
  ))
  expect_identical(as.character(said), character())
  root <- Sys.getenv("DREHER_SOURCE", unset = testthat::test_path("..", ".."))
  checker <- file.path(root, "out", "axe", "axe.min.js")
  if (!file.exists(checker) && !nzchar(Sys.getenv("CI"))) skip("tools/setup test fetches it")
  script <- paste0(
    paste(readLines(checker, warn = FALSE), collapse = "\n"),
    ";document.querySelectorAll('details').forEach(function(d){d.open=true});",
    "document.querySelectorAll('[hidden]').forEach(function(d){d.hidden=false});",
    "axe.run().then(function(r){document.body.innerHTML='<pre id=probe>'+",
    "r.violations.map(function(v){return v.id+': '+v.nodes.length}).join(' ')+'|'+",
    "r.passes.length+'</pre>'})"
  )
  free <- gsub("'sha256-[^']*'", "'unsafe-inline' 'unsafe-eval'", text)
  at <- regexpr("</body>", free, fixed = TRUE)
  writeLines(
    paste0(substr(free, 1, at - 1), "<script>", script, "</script>", substring(free, at)),
    file
  )
  dom <- paste(
    chromium("--virtual-time-budget=60000", "--dump-dom", paste0("file://", file)),
    collapse = "\n"
  )
  found <- strsplit(
    regmatches(dom, regexpr("(?<=<pre id=\"probe\">)[^<]*", dom, perl = TRUE)),
    "|",
    fixed = TRUE
  )[[1]]
  expect_identical(found[1], "")
  expect_gt(as.integer(found[2]), 20)
})

test_that("of several classes each has its own figures and its own sentence", {
  i <- c(1:40, 51:90, 101:140)
  s <- study(
    rpart::rpart(Species ~ ., iris[i, ]), iris[-i, ], "Species", train = iris[i, ]
  )
  rows <- contributions(s, which = 1, background = 5)
  file <- tempfile(fileext = ".html")
  quiet(write_report(s, effect_curves(s), rows, file = file))
  text <- paste(readLines(file, warn = FALSE), collapse = "\n")
  d <- as_plain(rows)
  for (class in levels(iris$Species)) {
    said <- say_row(d[d$class == class, ], rows)
    expect_match(text, escape(said), fixed = TRUE)
    expect_match(text, paste0("<div data-class=\"", class, "\""), fixed = TRUE)
  }
})

test_that("the short page holds the answer, one figure and how the predictors act", {
  short <- tempfile(fileext = ".html")
  quiet(write_report(st, rk, curves, file = short, short = TRUE))
  one <- paste(readLines(short, warn = FALSE), collapse = "\n")
  expect_length(gregexpr("<svg", one)[[1]], 1)
  expect_match(one, summary(curves)$sentence[1], fixed = TRUE)
  expect_no_match(one, "<nav")
})

test_that("pointing at a mark says what the numbers behind it say", {
  at <- function(section, x, y) {
    paste0(
      "var s=document.querySelector('section[aria-labelledby=", section, "] figure svg');",
      "var b=s.getBoundingClientRect();s.dispatchEvent(new PointerEvent('pointermove',",
      "{clientX:b.left+", x, "*b.width,clientY:b.top+", y, "*b.height}));",
      "var n=document.querySelector('.pointing');",
      "out.push(n.hidden?'nothing':n.textContent.split('\\n').join(' | '));"
    )
  }
  found <- asked(
    text, paste0(at("ranking", 0.6, 0.5), at("effects", 0.5, 0.5), at("ranking", 0.6, 0.01)),
    "--window-size=1280,900"
  )
  d <- as_plain(rk)
  d <- d[d$model == "tree", ]
  name <- sub(" [|].*$", "", found[1])
  expect_true(name %in% detail(rk, "labels"))
  one <- d[d$predictor == names(which(detail(rk, "labels") == name)), ]
  for (i in seq_len(nrow(one))) expect_match(found[1], paste("Rank", one$rank[i]))
  expect_true(sub(" [|].*$", "", found[2]) %in% as_plain(curves)$at)
  expect_match(found[2], "Prediction .*Interval")
  expect_identical(found[3], "nothing")
})

test_that("what readers may not see is not in the page", {
  loans <- demo_loans()
  part <- loans$train[1:400, ]
  fit <- rpart::rpart(returned_late ~ ., part, cp = 0.002)
  s <- study(
    fit, loans$holdout[1:150, ], "returned_late", train = part, dictionary = loans$dictionary
  )
  all <- list(
    s, rank_permutation(s, repeats = 2), effect_curves(s),
    contributions(s, which = 1:60, background = 5), compare_slices(s), find_twins(s),
    find_drift(s)
  )
  written <- function(...) {
    file <- tempfile(fileext = ".html")
    quiet(do.call(write_report, c(all, list(file = file, ...))))
    paste(readLines(file, warn = FALSE), collapse = "\n")
  }
  open <- written()
  closed <- written(withhold = c("rows", "sensitive"))
  for (word in c("age_band", "Age band", unique(as.character(part$age_band)))) {
    expect_match(open, word, fixed = TRUE)
    expect_no_match(closed, word, fixed = TRUE)
  }
  expect_match(closed, "withheld predictor 1")
  expect_match(closed, "Distance from the library")
  expect_match(open, "a dot a row")
  expect_no_match(closed, "a dot a row")
  expect_error(written(withhold = "all"), "withhold", class = "dreher_error_input")
  # rankings on two sets of rows, and single rows that are not withheld
  all <- list(
    s,
    bind_rankings(
      rank_permutation(s, repeats = 1),
      rank_permutation(s, repeats = 1, rows = "train")
    ),
    contributions(s, which = c(1, 4), background = 5)
  )
  named <- written(withhold = "sensitive")
  for (word in c("age_band", "Age band", unique(as.character(part$age_band)))) {
    expect_no_match(named, word, fixed = TRUE)
  }
  # a ranking inside a part of the rows that the sensitive predictor makes
  all <- list(
    s,
    bind_rankings(
      rank_permutation(s, repeats = 1),
      rank_predictors(s, by = "permutation", repeats = 1, slice = ~age_band)
    )
  )
  expect_match(written(), levels(factor(part$age_band))[1], fixed = TRUE)
  named <- written(withhold = "sensitive")
  for (word in c("age_band", "Age band", unique(as.character(part$age_band)))) {
    expect_no_match(named, word, fixed = TRUE)
  }
  # a predictor by the name of a word of ours
  odd <- stats::setNames(part, sub("^age_band$", "model", names(part)))
  odd_study <- study(
    rpart::rpart(returned_late ~ ., odd[1:300, ], cp = 0.002), odd[301:400, ],
    "returned_late", train = odd[1:300, ],
    dictionary = data.frame(predictor = "model", sensitive = TRUE)
  )
  file <- tempfile(fileext = ".html")
  quiet(write_report(
    odd_study, rank_permutation(odd_study, repeats = 1), file = file,
    withhold = "sensitive"
  ))
  expect_gt(file.size(file), 1e4)
})

test_that("text in figures is neither cut nor overlapping, from 3 predictors to 85", {
  # Boxes of all texts as the browser lays them out: none reaches beyond its drawing, and no two
  # labels of an axis lie on each other.
  measure <- paste0(
    "document.querySelectorAll('[hidden]').forEach(function(d){d.hidden=false});",
    "document.querySelectorAll('svg').forEach(function(s,k){",
    "var f=s.getBoundingClientRect();var b=[];",
    "s.querySelectorAll('text').forEach(function(t){var r=t.getBoundingClientRect();",
    "if(r.width===0)return;",
    "if(r.left<f.left-2||r.right>f.right+2||r.top<f.top-2||r.bottom>f.bottom+2)",
    "out.push('cut '+k+': '+t.textContent);",
    "b.push([r.left,r.right,r.top,r.bottom,t.textContent]);});",
    "for(var i=0;i<b.length;i++)for(var j=i+1;j<b.length;j++){",
    "var w=Math.min(b[i][1],b[j][1])-Math.max(b[i][0],b[j][0]);",
    "var h=Math.min(b[i][3],b[j][3])-Math.max(b[i][2],b[j][2]);",
    "var low=Math.min(b[i][3]-b[i][2],b[j][3]-b[j][2]);",
    "if(w>3&&h>low*0.55&&Math.abs(b[i][3]-b[i][2]-b[j][3]+b[j][2])<2)",
    "out.push('on '+k+': '+b[i][4]+' | '+b[j][4]);}});", "out.push('done');"
  )
  set.seed(1)
  # predictors, models, classes (0: a number)
  for (case in list(
      c(3, 1, 0), c(3, 2, 2), c(9, 2, 0), c(9, 4, 3), c(20, 4, 6), c(60, 1, 0),
      c(85, 1, 0)
    )) {
    p <- case[1]
    x <- as.data.frame(matrix(rnorm(150 * p), 150))
    names(x) <- substr(
      paste0("column_", seq_len(p), "_", strrep("of_a_long_name_", 5)), 1, 60
    )
    x$y <- x[[1]] + x[[2]] / 2 + rnorm(150) / 2
    if (case[3]) {
      group <- cut(rank(x$y), case[3], labels = FALSE)
      x$y <- factor(paste("class of a name", letters[group]))
    }
    models <- list(
      one = if (case[3]) {
        rpart::rpart(y ~ ., x[1:100, ], maxdepth = 1)
      } else {
        lm(y ~ ., x[1:100, ])
      }
    )
    more <- c("two of a model's long name", "three", "four of a long name of a model too")
    for (m in more[seq_len(case[2] - 1)]) {
      models[[m]] <- rpart::rpart(y ~ ., x[1:100, ], maxdepth = length(models) + 1)
    }
    s <- study(models, x[101:150, ], "y", train = x[1:100, ])
    rk <- quiet(rank_predictors(
      s, by = c("permutation", "shapley"), repeats = 2, background = 5
    ))
    sb <- quiet(stability(rank_predictors(
      s,
      by = "permutation",
      repeats = 1,
      models = "one",
      resamples = draw_resamples(x[1:100, ], times = 4)
    )))
    rd <- if (p <= 9) {
      quiet(reduce_predictors(
        s, models = utils::head(names(models), 2), folds = 3, repeats = 1, inner_folds = 2
      ))
    }
    seen <- names(x)[seq_len(min(p, 3))]
    more <- list(
      effect_curves(s, predictors = seen, models = "one"),
      contributions(s, models = "one", which = c(1, 5), background = 5),
      agreement(rk)
    )
    file <- tempfile(fileext = ".html")
    quiet(do.call(
      write_report,
      c(list(s, rk, sb), more, if (!is.null(rd)) list(rd), list(file = file))
    ))
    found <- asked(
      paste(readLines(file, warn = FALSE), collapse = "\n"),
      measure,
      "--window-size=1280,900"
    )
    expect_identical(found, "done", label = paste(case, collapse = " / "))
  }
})
