# PMML: files of the registry's writer predict what their models predict; random trees go the way
# that a slow reading of the standard goes; what is not read is refused.

quiet <- function(code) suppressWarnings(suppressMessages(code))

written_pmml <- function(...) {
  file <- tempfile(fileext = ".pmml")
  quiet(utils::capture.output(pmml::save_pmml(pmml::pmml(...), file)))
  file
}

said_by <- function(model, rows) {
  if (!is.null(model$encode)) rows <- model$encode(rows)
  file_predictions(model, align_rows(rows, model_inputs(model), "file"))
}

cars <- transform(datasets::mtcars, cyl = factor(cyl))

# --- the standard, read slowly: one row, one element at a time ----------------------------------

# TRUE, FALSE or NA
slow_predicate <- function(node, row) {
  ask <- function(name) xml2::xml_attr(node, name)
  inner <- function() {
    vapply(xml2::xml_children(node), slow_predicate, NA, row = row)
  }
  switch(
    xml2::xml_name(node),
    True = TRUE,
    False = FALSE,
    SimplePredicate = {
      v <- row[[ask("field")]]
      if (ask("operator") == "isMissing") return(is.na(v))
      if (ask("operator") == "isNotMissing") return(!is.na(v))
      w <- if (is.numeric(v)) as.double(ask("value")) else ask("value")
      switch(
        ask("operator"),
        equal = v == w, notEqual = v != w, lessThan = v < w, lessOrEqual = v <= w,
        greaterThan = v > w, greaterOrEqual = v >= w
      )
    },
    SimpleSetPredicate = {
      v <- row[[ask("field")]]
      if (is.na(v)) return(NA)
      words <- strsplit(gsub("\"", "", trimws(xml2::xml_text(node))), " +")[[1]]
      (v %in% words) == (ask("booleanOperator") == "isIn")
    },
    CompoundPredicate = switch(
      ask("booleanOperator"),
      and = Reduce(`&`, inner()),
      or = Reduce(`|`, inner()),
      surrogate = {
        found <- inner()
        found[!is.na(found)][1]
      }
    )
  )
}

# The score of a row; NULL where the strategy leaves none.
slow_score <- function(node, row, missing, last) {
  children <- xml2::xml_find_all(node, "./Node")
  own <- as.double(xml2::xml_attr(node, "score"))
  if (!length(children)) return(own)
  for (child in children) {
    predicate <- xml2::xml_children(child)[[1]]
    found <- slow_predicate(predicate, row)
    if (is.na(found) && missing == "lastPrediction") return(own)
    if (is.na(found) && missing == "defaultChild") {
      id <- xml2::xml_attr(node, "defaultChild")
      default <- xml2::xml_find_first(node, paste0("./Node[@id='", id, "']"))
      return(slow_score(default, row, missing, last))
    }
    if (isTRUE(found)) return(slow_score(child, row, missing, last))
  }
  if (last) own
}

# A file of one regression tree, row by row.
slow_file <- function(file, rows) {
  tree <- xml2::xml_ns_strip(xml2::read_xml(file))
  model <- xml2::xml_find_first(tree, "./TreeModel")
  top <- xml2::xml_find_first(model, "./Node")
  last <- xml2::xml_attr(model, "noTrueChildStrategy") == "returnLastPrediction"
  rows[] <- lapply(rows, function(x) if (is.factor(x)) as.character(x) else x)
  vapply(seq_len(nrow(rows)), function(i) {
    slow_score(top, rows[i, ], xml2::xml_attr(model, "missingValueStrategy"), last)
  }, 0)
}

test_that("files of the registry's writer predict as the models they were made of", {
  gaps <- make_gaps(cars, names(cars)[-1])
  tree <- rpart::rpart(mpg ~ ., cars)
  read <- read_model(written_pmml(tree))
  for (rows in list(cars, gaps)) {
    expect_equal(as.vector(said_by(read, rows)), unname(predict(tree, rows)))
  }
  # the writer forgets a field of the schema here, and some months are in no surrogate: such rows
  # take the node's own score by the standard (a slow reading of it below)
  air <- transform(datasets::airquality, Month = factor(Month))
  air <- air[!is.na(air$Ozone), ]
  file <- written_pmml(rpart::rpart(Ozone ~ ., air))
  read <- read_model(file)
  expect_true(model_inputs(read)$missing)
  for (rows in list(air, make_gaps(air, names(air)[-1]))) {
    expect_equal(as.vector(said_by(read, rows)), slow_file(file, rows))
  }
  kinds <- rpart::rpart(Species ~ ., datasets::iris)
  read <- read_model(
    written_pmml(kinds),
    rows = datasets::iris,
    predictions = predict(kinds, datasets::iris)
  )
  expect_identical(model_task(read)$classes, levels(datasets::iris$Species))
  set.seed(1)
  forest <- randomForest::randomForest(mpg ~ ., cars, ntree = 4)
  read <- read_model(written_pmml(forest))
  expect_equal(as.vector(said_by(read, cars)), unname(predict(forest, cars)))
  expect_false(model_inputs(read)$missing)
  votes <- randomForest::randomForest(Species ~ ., datasets::iris, ntree = 5)
  read <- read_model(written_pmml(votes))
  shares <- predict(votes, datasets::iris, type = "prob")
  expect_equal(
    unname(said_by(read, datasets::iris)), unname(unclass(shares)), ignore_attr = TRUE
  )
  boosted <- gbm::gbm(mpg ~ ., "gaussian", cars, n.trees = 4, n.minobsinnode = 3)
  file <- written_pmml(boosted)
  for (rows in list(cars, gaps)) {
    expect_equal(as.vector(said_by(read_model(file), rows)), predict(boosted, rows, 4))
  }
  # without what the file makes of the sum
  expect_equal(
    as.vector(said_by(read_model(file, output = 1), cars)),
    predict(boosted, cars, 4) - boosted$initF
  )
  two <- transform(datasets::iris[1:100, -5], y = rep(1:0, each = 50))
  boosted <- gbm::gbm(y ~ ., "bernoulli", two, n.trees = 3)
  read <- read_model(written_pmml(boosted))
  expect_equal(said_by(read, two)[, "1"], predict(boosted, two, 3, type = "response"))
  several <- quiet(gbm::gbm(Species ~ ., "multinomial", datasets::iris, n.trees = 2))
  read <- read_model(written_pmml(several))
  expect_equal(
    unname(said_by(read, datasets::iris)),
    unname(predict(several, datasets::iris, 2, type = "response")[, , 1])
  )
})

test_that("regressions of the registry's writer predict and rank as the models", {
  line <- lm(Sepal.Length ~ ., datasets::iris)
  read <- read_model(written_pmml(line))
  rows <- datasets::iris[c(1:20, 60:80, 120:140), ]
  both <- quiet(study(
    list(own = line, file = read), rows, "Sepal.Length", train = datasets::iris
  ))
  found <- quiet(rank_permutation(both, repeats = 2))
  expect_equal(
    found$importance[found$model == "file"], found$importance[found$model == "own"]
  )
  found <- quiet(rank_shapley(both, background = 10))
  expect_equal(
    found$importance[found$model == "file"], found$importance[found$model == "own"]
  )
  counts <- glm(count ~ spray, poisson, datasets::InsectSprays)
  read <- read_model(written_pmml(counts))
  expect_equal(
    as.vector(said_by(read, datasets::InsectSprays)),
    unname(predict(counts, type = "response"))
  )
  yes <- glm(am ~ wt + hp, binomial, datasets::mtcars)
  read <- read_model(written_pmml(yes))
  expect_equal(
    said_by(read, datasets::mtcars)[, "1"], unname(predict(yes, type = "response"))
  )
  three <- nnet::multinom(Species ~ ., datasets::iris, trace = FALSE)
  read <- read_model(written_pmml(three))
  expect_equal(
    said_by(read, datasets::iris),
    predict(three, datasets::iris, type = "probs"),
    ignore_attr = TRUE,
    tolerance = 1e-7
  )
})

words <- c("pit", "hill", "bog", "river")

random_test <- function(field) {
  if (field == "clay") {
    if (runif(1) < 0.5) {
      return(paste0(
        "<SimplePredicate field='clay' operator='", sample(c("equal", "notEqual"), 1),
        "' value='", sample(words, 1), "'/>"
      ))
    }
    some <- sample(words, sample(3, 1))
    return(paste0(
      "<SimpleSetPredicate field='clay' booleanOperator='",
      sample(c("isIn", "isNotIn"), 1), "'><Array type='string' n='", length(some), "'>",
      paste(some, collapse = " "), "</Array></SimpleSetPredicate>"
    ))
  }
  paste0(
    "<SimplePredicate field='", field, "' operator='",
    sample(
      c("equal", "notEqual", "lessThan", "lessOrEqual", "greaterThan", "greaterOrEqual"),
      1
    ),
    "' value='", sample(4, 1), "'/>"
  )
}

random_predicate <- function(fields, compound) {
  test <- function() random_test(sample(fields, 1))
  if (compound && runif(1) < 0.4) {
    return(paste0(
      "<CompoundPredicate booleanOperator='", sample(c("and", "or"), 1), "'>", test(), test(),
      if (runif(1) < 0.3) test(), "</CompoundPredicate>"
    ))
  }
  if (runif(1) < 0.15) {
    return(paste0(
      "<SimplePredicate field='", sample(fields, 1), "' operator='",
      sample(c("isMissing", "isNotMissing"), 1), "'/>"
    ))
  }
  test()
}

random_node <- function(id, depth, compound, predicate) {
  score <- paste0("' score='", round(runif(1), 3))
  if (depth == 0 || runif(1) < 0.2) {
    return(paste0("<Node id='", id, score, "'>", predicate, "</Node>"))
  }
  n <- sample(2:3, 1)
  of <- paste0(id, ".", seq_len(n))
  fields <- c("heat", "hold", "clay")
  # mostly children that ask one field
  if (runif(1) < 0.7) fields <- sample(fields, 1)
  children <- vapply(of, function(one) {
    random_node(one, depth - 1, compound, random_predicate(fields, compound))
  }, "")
  paste0(
    "<Node id='", id, score, "' defaultChild='", sample(of, 1), "'>", predicate,
    paste(children, collapse = ""), "</Node>"
  )
}

pmml_file <- function(model, words, more = "", fields = c("heat", "hold")) {
  entries <- c(
    paste0("<DataField name='", fields, "' optype='continuous' dataType='double'/>"),
    "<DataField name='clay' optype='categorical' dataType='string'>",
    paste0("<Value value='", words, "'/>"),
    "</DataField><DataField name='y' optype='continuous' dataType='double'/>"
  )
  file <- tempfile(fileext = ".pmml")
  writeLines(
    c(
      "<PMML version='4.4' xmlns='http://www.dmg.org/PMML-4_4'><Header/><DataDictionary>",
      entries, "</DataDictionary>", more, model, "</PMML>"
    ),
    file
  )
  file
}

schema <- paste0(
  "<MiningSchema><MiningField name='heat'/><MiningField name='hold'/><MiningField ",
  "name='clay'/>", "<MiningField name='y' usageType='target'/></MiningSchema>"
)

tree_model <- function(node, missing = "none", last = TRUE) {
  paste0(
    "<TreeModel functionName='regression' missingValueStrategy='", missing,
    "' noTrueChildStrategy='return", if (last) "Last" else "Null", "Prediction'>", schema,
    node, "</TreeModel>"
  )
}

test_that("random trees go the way of the standard, gaps included", {
  set.seed(8)
  rows <- expand.grid(
    heat = c(NA, 0:5), hold = c(NA, 0.5, 1, 2, 3.5), clay = c(NA, words),
    stringsAsFactors = FALSE
  )
  decided <- 0
  for (run in 1:60) {
    missing <- c("none", "defaultChild", "lastPrediction")[run %% 3 + 1]
    node <- random_node("n", 3, compound = run %% 2 == 0, "<True/>")
    read <- read_model(pmml_file(tree_model(node, missing), words))
    top <- xml2::read_xml(paste0("<x>", node, "</x>"))
    here <- if (read$gaps) rows else stats::na.omit(rows)
    decided <- decided + read$gaps
    slow <- vapply(seq_len(nrow(here)), function(i) {
      slow_score(xml2::xml_find_first(top, "./Node"), here[i, ], missing, TRUE)
    }, 0)
    expect_equal(as.vector(said_by(read, here)), slow, label = paste("tree", run))
  }
  expect_gt(decided, 25)
})

test_that("fields are prepared and derived as the file says, worked out by hand", {
  derived <- paste0(
    "<TransformationDictionary>",
    "<DerivedField name='pit' optype='continuous' dataType='double'>",
    "<NormDiscrete field='clay' value='pit'/></DerivedField>",
    "<DerivedField name='warm' optype='continuous' dataType='double'>",
    "<NormContinuous field='heat'><LinearNorm orig='10' norm='0'/>",
    "<LinearNorm orig='20' norm='1'/></NormContinuous></DerivedField>",
    "<DerivedField name='both' optype='continuous' dataType='double'>",
    "<Apply function='*'><FieldRef field='warm'/><Apply function='ln'><FieldRef ",
    "field='hold'/>", "</Apply></Apply></DerivedField>",
    "<DerivedField name='long' optype='categorical' dataType='string'>",
    "<Discretize field='hold' defaultValue='no'><DiscretizeBin binValue='yes'>",
    "<Interval closure='openClosed' ",
    "leftMargin='2'/></DiscretizeBin></Discretize></DerivedField>",
    "<DerivedField name='wet' optype='continuous' dataType='double'>",
    "<MapValues outputColumn='out' defaultValue='1'><FieldColumnPair field='clay' ",
    "column='in'/>",
    "<InlineTable><row><in>bog</in><out>7</out></row></InlineTable></MapValues></DerivedField>",
    "</TransformationDictionary>"
  )
  prepared <- sub(
    "name='heat'/>",
    paste0(
      "name='heat' missingValueReplacement='15' outliers='asExtremeValues' ",
      "lowValue='0' highValue='30'/>"
    ),
    schema,
    fixed = TRUE
  )
  line <- paste0(
    "<RegressionModel functionName='regression'>", prepared,
    "<RegressionTable intercept='100'><NumericPredictor name='pit' coefficient='2'/>",
    "<NumericPredictor name='warm' coefficient='10' exponent='2'/>",
    "<NumericPredictor name='both' coefficient='1'/>",
    "<NumericPredictor name='wet' coefficient='1'/>",
    "<CategoricalPredictor name='long' value='yes' coefficient='-5'/>",
    "<PredictorTerm coefficient='3'><FieldRef field='heat'/><FieldRef field='hold'/>",
    "</PredictorTerm></RegressionTable></RegressionModel>"
  )
  file <- pmml_file(line, words, derived)
  rows <- data.frame(
    heat = c(10, NA, 99, 20),
    hold = c(1, 2, 3, exp(1)),
    clay = c("pit", "bog", "hill", "pit")
  )
  heat <- c(10, 15, 30, 20)
  warm <- (heat - 10) / 10
  by_hand <- 100 + 2 * c(1, 0, 0, 1) + 10 * warm^2 + warm * log(rows$hold) +
    c(1, 7, 1, 1) - 5 * (rows$hold > 2) + 3 * heat * rows$hold
  read <- read_model(file, rows = rows, predictions = by_hand)
  expect_equal(as.vector(said_by(read, rows)), by_hand)
  rows$y <- 1:4
  st <- quiet(study(read, rows, "y"))
  expect_setequal(st$models[[1]]$inputs$predictors, c("heat", "hold", "clay"))
  words_for_numbers <- transform(rows, heat = factor(c("low", "high", "low", "low")))
  expect_error(said_by(read, words_for_numbers), "is none", class = "dreher_error_input")
  rows$clay[3] <- "moor"
  expect_error(said_by(read, rows), "\"moor\"", class = "dreher_error_input")
})

test_that("weights, scales and chains of trees are worked out", {
  leaf <- function(a, b) {
    paste0(
      "<Node><True/><Node score='", a,
      "'><SimplePredicate field='heat' operator='lessThan' ",
      "value='3'/></Node><Node score='", b, "'><True/></Node></Node>"
    )
  }
  segment <- function(node, weight = 1, output = "") {
    paste0(
      "<Segment weight='", weight, "'><True/>",
      sub(
        "</MiningSchema>",
        paste0("</MiningSchema>", output),
        tree_model(node),
        fixed = TRUE
      ),
      "</Segment>"
    )
  }
  ensemble <- function(method, inside, more = "") {
    paste0(
      "<MiningModel functionName='regression'>", schema, more,
      "<Segmentation multipleModelMethod='", method, "'>", inside,
      "</Segmentation></MiningModel>"
    )
  }
  rows <- data.frame(heat = c(1, 5), hold = 1, clay = "pit")
  two <- paste0(segment(leaf(1, 2)), segment(leaf(10, 30), 3))
  worth <- function(...) {
    as.vector(said_by(read_model(pmml_file(ensemble(...), words)), rows))
  }
  expect_equal(worth("sum", two), c(11, 32))
  expect_equal(worth("average", two), c(5.5, 16))
  expect_equal(worth("weightedAverage", two), c(31, 92) / 4)
  expect_equal(worth("weightedSum", two), c(31, 92))
  scale <- "<Targets><Target field='y' rescaleFactor='2' rescaleConstant='0.5'/></Targets>"
  expect_equal(worth("sum", two, scale), 2 * c(11, 32) + 0.5)
  put_out <- "<Output><OutputField name='first' feature='predictedValue'/></Output>"
  end <- paste0(
    "<Segment><True/><RegressionModel functionName='regression' ",
    "normalizationMethod='exp'>",
    "<MiningSchema><MiningField name='first'/></MiningSchema><RegressionTable ",
    "intercept='0.1'>", "<NumericPredictor name='first' ",
    "coefficient='0.5'/></RegressionTable></RegressionModel>", "</Segment>"
  )
  chain <- paste0(segment(leaf(1, 2), 1, put_out), end)
  expect_equal(worth("modelChain", chain), exp(0.1 + 0.5 * c(1, 2)))
  # the trees of a sum as the documented JSON, and back
  summed <- read_model(pmml_file(ensemble("sum", two), words))
  st <- quiet(study(summed, transform(rows[c(1, 2, 1), ], y = 1:3), "y"))
  again <- read_model(write_forest(st, tempfile(fileext = ".json")))
  expect_equal(as.vector(file_predictions(again, rows)), c(11, 32))
  expect_null(again$forest$boosted$gain)
  # sums do not say what their splits gained
  rows <- data.frame(heat = rep(1:5, 6), hold = 1:30, clay = "pit", y = 1:30)
  st <- quiet(study(
    list(
      sum = read_model(pmml_file(ensemble("sum", two), words)),
      mean = read_model(pmml_file(ensemble("average", two), words))
    ),
    rows,
    "y",
    train = rows
  ))
  expect_error(rank_impurity(st, models = "sum"), "gained", class = "dreher_error_study")
  expect_identical(unique(rank_impurity(st)$model), "mean")
  found <- quiet(rank_predictors(st, by = c("impurity", "permutation")))
  expect_true(all(c("sum", "mean") %in% found$model))
})

test_that("what is not read is refused with a reason, and damaged files are", {
  refused <- function(model, reason) {
    expect_error(
      read_model(pmml_file(model, words)), reason, class = "dreher_error_model"
    )
  }
  leaf <- "<Node score='1'><True/></Node>"
  part <- paste0(
    "<Node><True/><Node score='1'><SimplePredicate field='heat' operator='lessThan' ",
    "value='3'/></Node></Node>"
  )
  refused(tree_model(part, last = FALSE), "no prediction")
  refused(sub("heat", "damp", tree_model(part)), "damp")
  refused(sub("value='3'", "value='three'", tree_model(part)), "no number")
  refused("<NeuralNetwork functionName='regression'/>", "NeuralNetwork")
  refused("", "holds no model")
  refused(paste0(tree_model(leaf), tree_model(leaf)), "several models")
  refused(
    paste0(
      "<MiningModel functionName='regression'>", schema,
      "<Segmentation multipleModelMethod='median'><Segment><True/>", tree_model(leaf),
      "</Segment></Segmentation></MiningModel>"
    ),
    "median"
  )
  line <- paste0(
    "<RegressionModel functionName='regression' normalizationMethod='%s'>", schema,
    "<RegressionTable intercept='1'><NumericPredictor name='heat' coefficient='1'/>",
    "</RegressionTable></RegressionModel>"
  )
  refused(sprintf(line, "cauchit"), "cauchit")
  refused(sub("name='heat' coef", "name='clay' coef", sprintf(line, "none")), "category")
  file <- pmml_file(tree_model(leaf), words)
  expect_error(read_model(file, rounds = 3), "no rounds", class = "dreher_error_input")
  text <- readLines(file)
  writeLines(sub("version='4.4'", "version='3.2'", text), file)
  expect_error(read_model(file), "3.2", class = "dreher_error_model")
  writeLines(text[-length(text)], file)
  expect_error(read_model(file), "no XML", class = "dreher_error_model")
  # entities are not expanded
  bomb <- "<!DOCTYPE PMML [<!ENTITY a 'x'><!ENTITY b '&a;&a;'>]>"
  writeLines(c(bomb, sub("<Header/>", "<Header copyright='&b;'/>", text)), file)
  expect_s3_class(read_model(file), "dreher_model_file")
})
