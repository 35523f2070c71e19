# The field trial: the whole job on data sets that ship with R packages, through many ways of
# modelling. Rscript bench/field.R [all | some] [name of a data set or of a model ...]
#
#   some  (default) every data set with some models, so that each model meets many data sets
#   all   every data set with every model that fits its target
#
# A cell whose result stands in out/field already is not done again: remove that folder to start
# anew.
#
# A step works, is refused (an error of dreher's own, with the way out), or is at fault (any other
# error, or a known truth that does not hold). What was printed goes to out/field, to be read;
# bench/results/field.csv holds a row per cell and step.

suppressMessages({
  library(dreher)
  library(parsnip)
})
words <- commandArgs(TRUE)
whole <- "all" %in% words
only <- setdiff(words, c("all", "some"))
folder <- "out/field"
dir.create(folder, recursive = TRUE, showWarnings = FALSE)

# ---- data ---------------------------------------------------------------------------------------

from <- function(name, package) {
  place <- new.env()
  utils::data(list = name, package = package, envir = place)
  if (exists(name, place, inherits = FALSE)) {
    place[[name]]
  } else {
    getExportedValue(package, name)
  }
}

data_set <- function(
    name, package, target, rows = 600, drop = character(), prepare = identity,
    metric = NULL, table = "data.frame", offset = NULL, untouched = TRUE) {
  list(
    name = name, package = package, target = target, rows = rows, drop = drop,
    prepare = prepare, metric = metric, table = table, offset = offset
  )
}

complete <- function(d) d[stats::complete.cases(d), , drop = FALSE]
some_levels <- function(d) droplevels(d)

data_sets <- list(
  data_set("cars", "datasets", "dist"),
  data_set("faithful", "datasets", "waiting"),
  data_set("mtcars", "datasets", "mpg"),
  data_set("swiss", "datasets", "Fertility"),
  data_set("airquality", "datasets", "Ozone", prepare = function(d) d[!is.na(d$Ozone), ]),
  data_set("quakes", "datasets", "mag"),
  data_set("iris", "datasets", "Species"),
  data_set("iris", "datasets", "Petal.Length"),
  data_set("esoph", "datasets", "ncases"),
  data_set("warpbreaks", "datasets", "breaks", metric = "poisson_deviance"),
  data_set("infert", "datasets", "case", prepare = function(d) {
    transform(d, case = factor(case))
  }),
  data_set("ChickWeight", "datasets", "weight", drop = "Chick", prepare = as.data.frame),
  data_set("Boston", "MASS", "medv"),
  data_set(
    "birthwt",
    "MASS",
    "low",
    prepare = function(d) transform(d, low = low == 1, race = as.character(race)),
    drop = "bwt"
  ),
  data_set("Insurance", "MASS", "Claims", metric = "poisson_deviance", prepare = function(
      d) {
    transform(d, Claims = as.integer(Claims))
  }),
  data_set("fgl", "MASS", "type"),
  data_set(
    "Cars93", "MASS", "Price", drop = c("Min.Price", "Max.Price", "Make", "Model")
  ),
  data_set("quine", "MASS", "Days", metric = "poisson_deviance"),
  data_set("crabs", "MASS", "sex", drop = "index"),
  data_set("diamonds", "ggplot2", "price", rows = 50000, table = "tibble"),
  data_set("mpg", "ggplot2", "hwy", table = "tibble"),
  data_set("msleep", "ggplot2", "sleep_total", drop = "name", table = "tibble"),
  data_set(
    "starwars",
    "dplyr",
    "height",
    table = "tibble",
    drop = c("name", "homeworld", "species"),
    prepare = function(d) d[!is.na(d$height), !vapply(d, is.list, NA)]
  ),
  data_set("lung", "survival", "ph.ecog", prepare = function(d) d[!is.na(d$ph.ecog), ]),
  data_set("kyphosis", "rpart", "Kyphosis"),
  data_set("cu.summary", "rpart", "Price", prepare = function(d) d[!is.na(d$Price), ]),
  data_set("solder.balance", "rpart", "skips", metric = "poisson_deviance"),
  data_set("cells", "modeldata", "class", drop = "case", table = "tibble"),
  data_set("attrition", "modeldata", "Attrition", rows = 1000),
  data_set("ames", "modeldata", "Sale_Price", rows = 1000, table = "data.table"),
  data_set("meats", "modeldata", "fat", rows = 90, drop = c("water", "protein")),
  data_set("Chicago", "modeldata", "ridership", rows = 700, prepare = function(d) {
    d[c(1, 2:9, 22:34, 50)]
  }),
  data_set("Salaries", "carData", "salary"),
  data_set(
    "Chile", "carData", "vote", prepare = function(d) d[!is.na(d$vote), ], rows = 800
  )
)
names(data_sets) <- vapply(data_sets, function(s) paste(s$name, s$target, sep = "."), "")

slow <- c(
  "svm", "nnet", "own", "gam", "knn", "randomForest", "workflow_pca", "workflow",
  "boost_tree", "encoded", "lda", "glmnet", "multinom"
)

read_set <- function(s, model = "") {
  d <- s$prepare(as.data.frame(from(s$name, s$package)))
  d <- as.data.frame(d)[setdiff(names(d), s$drop)]
  set.seed(7)
  d <- d[sample.int(nrow(d)), , drop = FALSE]
  d <- d[
    seq_len(min(nrow(d), if (model %in% slow) min(s$rows, 1500) else s$rows)),
    ,
    drop = FALSE
  ]
  rownames(d) <- NULL
  d$planted <- stats::rnorm(nrow(d))  # known to do nothing
  n <- nrow(d)
  part <- rep_len(c("train", "train", "train", "holdout", "untouched"), n)
  as <- switch(
    s$table, tibble = dplyr::as_tibble, data.table = data.table::as.data.table, identity
  )
  list(
    train = as(d[part == "train", , drop = FALSE]),
    holdout = as(d[part == "holdout", , drop = FALSE]),
    untouched = as(d[part == "untouched", , drop = FALSE]),
    target = s$target
  )
}

# ---- models: function(rows, target) -> list(model, and what study() needs) ----------------------

simple <- function(target, columns) {
  stats::reformulate(sprintf("`%s`", columns), sprintf("`%s`", target))
}
columns_of <- function(d, target) setdiff(names(d), target)
plain <- function(d) as.data.frame(d)
is_number <- function(x) is.numeric(x) && !is.factor(x)
numbers <- function(d, target) Filter(function(p) is_number(d[[p]]), columns_of(d, target))
# Columns a linear model can take: no gaps, no level of all rows, few levels.
steady <- function(d, target, most = 12) {
  ok <- function(x) {
    if (anyNA(x) || inherits(x, c("Date", "POSIXct"))) return(FALSE)
    if (is_number(x)) return(length(unique(x)) > 1)
    k <- table(as.character(x))
    length(k) > 1 && length(k) <= most
  }
  found <- Filter(function(p) ok(d[[p]]), columns_of(d, target))
  utils::head(found, max(1, nrow(d) %/% 6))
}
whole_rows <- function(d, target) {
  if (anyNA(d[columns_of(d, target)])) stats::na.omit(d) else d
}
binary_matrix <- function(p) if (is.matrix(p)) p else unname(p)

models <- list(
  ranger = list(task = "any", fit = function(d, y) {
    d <- complete(plain(d))
    cols <- Filter(function(p) !inherits(d[[p]], c("POSIXct")), columns_of(d, y))
    num <- is_number(d[[y]])
    if (!num) d[[y]] <- factor(d[[y]])
    list(
      model = ranger::ranger(
        simple(y, cols), d[c(cols, y)], num.trees = 100, seed = 1, probability = !num
      ),
      gaps = FALSE
    )
  }),
  randomForest = list(task = "any", fit = function(d, y) {
    d <- complete(plain(d))
    cols <- Filter(
      function(p) is_number(d[[p]]) || (is.factor(d[[p]]) && nlevels(d[[p]]) <= 50),
      columns_of(d, y)
    )
    if (!is_number(d[[y]])) d[[y]] <- factor(d[[y]])
    set.seed(1)
    list(
      model = randomForest::randomForest(x = d[cols], y = d[[y]], ntree = 60),
      gaps = FALSE
    )
  }),
  rpart = list(task = "any", fit = function(d, y) {
    if (is.logical(d[[y]])) d[[y]] <- factor(d[[y]])
    list(model = rpart::rpart(simple(y, columns_of(d, y)), plain(d)))
  }),
  lm = list(task = "regression", fit = function(d, y) {
    list(model = stats::lm(simple(y, steady(d, y)), plain(d)))
  }),
  lm_log = list(task = "positive", fit = function(d, y) {
    f <- stats::as.formula(paste0(
      "log(`", y, "`) ~ ", paste(sprintf("`%s`", steady(d, y)), collapse = " + ")
    ))
    list(model = stats::lm(f, plain(d)))
  }),
  lm_dot = list(task = "regression", fit = function(d, y) {
    d <- plain(d)[c(steady(d, y), y)]
    list(
      model = eval(bquote(stats::lm(.(stats::as.formula(paste0("`", y, "` ~ ."))), d)))
    )
  }),
  glm = list(task = "two", fit = function(d, y) {
    list(
      model = stats::glm(
        simple(y, steady(d, y)), stats::binomial(), transform_target(d, y)
      )
    )
  }),
  poisson = list(task = "counts", fit = function(d, y) {
    cols <- steady(d, y)
    f <- simple(y, cols)
    if ("Holders" %in% names(d)) {
      f <- stats::as.formula(paste0(
        "`", y, "` ~ ",
        paste(sprintf("`%s`", setdiff(cols, "Holders")), collapse = " + "),
        " + offset(log(Holders))"
      ))
    }
    list(model = stats::glm(f, stats::poisson(), plain(d)))
  }),
  multinom = list(task = "several", fit = function(d, y) {
    d <- transform_target(d, y)
    list(
      model = nnet::multinom(simple(y, utils::head(steady(d, y), 8)), d, trace = FALSE)
    )
  }),
  glmnet = list(task = "any", fit = function(d, y) {
    cols <- numbers(complete(plain(d)), y)
    d <- complete(plain(d)[c(cols, y)])
    v <- if (is_number(d[[y]])) d[[y]] else factor(d[[y]])
    set.seed(1)
    x <- as.matrix(d[cols])
    if (ncol(x) < 2) stop("one column")
    list(
      model = glmnet::cv.glmnet(
        x,
        v,
        nfolds = 5,
        family = if (is_number(v)) {
          "gaussian"
        } else if (nlevels(v) == 2) {
          "binomial"
        } else {
          "multinomial"
        }
      ),
      gaps = FALSE
    )
  }),
  gbm = list(task = "number_or_two", fit = function(d, y) {
    d <- plain(d)
    cols <- Filter(function(p) is_number(d[[p]]) || is.factor(d[[p]]), columns_of(d, y))
    if (!is_number(d[[y]])) d[[y]] <- as.integer(factor(d[[y]])) - 1L
    set.seed(1)
    n <- nrow(d)
    list(
      model = gbm::gbm(
        simple(y, cols),
        data = d[c(cols, y)],
        distribution = if (all(d[[y]] %in% 0:1)) "bernoulli" else "gaussian",
        n.trees = 60,
        interaction.depth = 3,
        n.minobsinnode = max(1, min(10, n %/% 25)),
        bag.fraction = 0.7
      )
    )
  }),
  xgboost = list(task = "any", fit = function(d, y) {
    d <- plain(d)
    cols <- numbers(d, y)
    x <- as.matrix(d[cols])
    v <- if (is_number(d[[y]])) d[[y]] else as.integer(factor(d[[y]])) - 1L
    kind <- if (is_number(d[[y]])) {
      list(objective = "reg:squarederror")
    } else if (max(v) == 1) {
      list(objective = "binary:logistic")
    } else {
      list(objective = "multi:softprob", num_class = max(v) + 1)
    }
    list(
      model = xgboost::xgb.train(
        c(kind, list(max_depth = 3, eta = 0.2, nthread = 1)),
        xgboost::xgb.DMatrix(x, label = v, nthread = 1),
        nrounds = 40
      ),
      numbered = TRUE
    )
  }),
  lightgbm = list(task = "any", fit = function(d, y) {
    d <- plain(d)
    cols <- numbers(d, y)
    v <- if (is_number(d[[y]])) d[[y]] else as.integer(factor(d[[y]])) - 1L
    kind <- if (is_number(d[[y]])) {
      list(objective = "regression")
    } else if (max(v) == 1) {
      list(objective = "binary")
    } else {
      list(objective = "multiclass", num_class = max(v) + 1)
    }
    list(
      model = lightgbm::lgb.train(
        c(
          kind, list(num_leaves = 7, min_data_in_leaf = 5, num_threads = 1, verbose = -1)
        ),
        lightgbm::lgb.Dataset(as.matrix(d[cols]), label = v),
        nrounds = 40,
        verbose = -1
      ),
      numbered = TRUE
    )
  }),
  gam = list(task = "regression", fit = function(d, y) {
    cols <- steady(d, y)
    smooth <- vapply(
      cols, function(p) is_number(d[[p]]) && length(unique(d[[p]])) > 12, NA
    )
    smooth <- smooth & cumsum(smooth) <= max(1, nrow(d) %/% 40)
    f <- stats::as.formula(
      paste0(
        "`", y, "` ~ ",
        paste(ifelse(smooth, sprintf("s(%s, k = 5)", cols), cols), collapse = " + ")
      ),
      env = asNamespace("mgcv")
    )
    list(model = mgcv::gam(f, data = plain(d)))
  }),
  rlm = list(task = "regression", fit = function(d, y) {
    list(model = MASS::rlm(simple(y, steady(d, y)), plain(d), maxit = 60))
  }),
  glm_nb = list(task = "counts", fit = function(d, y) {
    list(
      model = suppressWarnings(MASS::glm.nb(
        simple(y, utils::head(steady(d, y), 6)), plain(d)
      ))
    )
  }),
  lda = list(task = "classes", fit = function(d, y) {
    d <- transform_target(d, y)
    cols <- utils::head(intersect(numbers(d, y), steady(d, y)), 10)
    list(
      model = MASS::lda(simple(y, cols), d),
      predictors = cols,
      predict_with = function(model, data) stats::predict(model, data)$posterior,
      refit_with = function(model, data, predictors) {
        MASS::lda(simple(y, predictors), data)
      }
    )
  }),
  svm = list(task = "regression", fit = function(d, y) {
    cols <- steady(d, y)
    list(
      model = e1071::svm(simple(y, cols), plain(d)[c(cols, y)]),
      predictors = cols,
      predict_with = function(model, data) stats::predict(model, data),
      refit_with = function(model, data, predictors) {
        e1071::svm(simple(y, predictors), data)
      }
    )
  }),
  knn = list(task = "classes", fit = function(d, y) {
    d <- transform_target(d, y)
    cols <- intersect(numbers(d, y), steady(d, y))
    near <- function(data, predictors) {
      list(x = scale(data.matrix(data[predictors])), y = data[[y]], columns = predictors)
    }
    list(
      model = structure(near(d, cols), class = "own_knn"),
      predictors = cols,
      predict_with = function(model, data) {
        z <- scale(
          data.matrix(data[model$columns]),
          attr(model$x, "scaled:center"),
          attr(model$x, "scaled:scale")
        )
        out <- t(apply(z, 1, function(r) {
          table(model$y[order(colSums((t(model$x) - r)^2))[1:7]]) / 7
        }))
        colnames(out) <- levels(model$y)
        out
      },
      refit_with = function(model, data, predictors) {
        structure(near(data, predictors), class = "own_knn")
      }
    )
  }),
  nnet = list(task = "regression", fit = function(d, y) {
    cols <- intersect(numbers(d, y), steady(d, y))
    go <- function(data, predictors) {
      data <- as.data.frame(data)
      m <- colMeans(data[c(predictors, y)])
      s <- vapply(data[c(predictors, y)], stats::sd, 0)
      fit <- nnet::nnet(
        as.matrix(scale(data[predictors], m[predictors], s[predictors])),
        (data[[y]] - m[y]) / s[y],
        size = 3,
        decay = 0.1,
        linout = TRUE,
        trace = FALSE
      )
      list(fit = fit, m = m, s = s, columns = predictors)
    }
    set.seed(1)
    list(
      model = structure(go(d, cols), class = "own_net"),
      predictors = cols,
      predict_with = function(model, data) {
        z <- scale(
          as.matrix(as.data.frame(data)[model$columns]),
          model$m[model$columns],
          model$s[model$columns]
        )
        as.vector(stats::predict(model$fit, z)) * model$s[[y]] + model$m[[y]]
      },
      refit_with = function(model, data, predictors) {
        structure(go(data, predictors), class = "own_net")
      }
    )
  }),
  workflow = list(task = "any", fit = function(d, y) {
    d <- transform_target(d, y)
    cols <- steady(d, y)
    rec <- recipes::recipe(simple(y, cols), d[c(cols, y)]) |>
      recipes::step_normalize(recipes::all_numeric_predictors()) |>
      recipes::step_dummy(recipes::all_nominal_predictors()) |>
      recipes::step_zv(recipes::all_predictors())
    spec <- if (is_number(d[[y]])) {
      parsnip::linear_reg()
    } else {
      parsnip::set_engine(
        parsnip::rand_forest("classification", trees = 60),
        "ranger",
        seed = 1,
        num.threads = 1
      )
    }
    list(model = parsnip::fit(workflows::workflow(rec, spec), d[c(cols, y)]))
  }),
  workflow_pca = list(task = "regression", fit = function(d, y) {
    d <- plain(d)
    cols <- steady(d, y)
    rec <- recipes::recipe(simple(y, cols), d[c(cols, y)]) |>
      recipes::step_dummy(recipes::all_nominal_predictors()) |>
      recipes::step_zv(recipes::all_predictors()) |>
      recipes::step_normalize(recipes::all_numeric_predictors()) |>
      recipes::step_pca(recipes::all_numeric_predictors(), num_comp = 3)
    list(
      model = parsnip::fit(
        workflows::workflow(rec, parsnip::linear_reg()), d[c(cols, y)]
      )
    )
  }),
  boost_tree = list(task = "any", fit = function(d, y) {
    d <- transform_target(d, y)
    cols <- steady(d, y)
    spec <- parsnip::set_engine(
      parsnip::boost_tree(
        if (is_number(d[[y]])) "regression" else "classification",
        trees = 30,
        tree_depth = 3
      ),
      "xgboost",
      nthread = 1
    )
    list(model = parsnip::fit(spec, simple(y, cols), data = d[c(cols, y)]))
  }),
  encoded = list(task = "any", fit = function(d, y) {
    d <- transform_target(d, y)
    cols <- steady(d, y)
    like <- lapply(d[cols], function(x) {
      if (is_number(x)) NULL else sort(unique(as.character(x)))
    })
    encode <- function(data) {
      do.call(
        cbind,
        lapply(cols, function(p) {
          if (is.null(like[[p]])) {
            return(matrix(as.double(data[[p]]), dimnames = list(NULL, p)))
          }
          out <- outer(as.character(data[[p]]), like[[p]], "==") + 0
          colnames(out) <- paste0(p, "=", like[[p]])
          out
        })
      )
    }
    num <- is_number(d[[y]])
    list(
      model = ranger::ranger(
        x = encode(d),
        y = if (num) d[[y]] else factor(d[[y]]),
        num.trees = 60,
        seed = 1,
        probability = !num
      ),
      encode = encode,
      predictors = cols
    )
  }),
  own = list(task = "regression", fit = function(d, y) {
    cols <- utils::head(intersect(numbers(d, y), steady(d, y)), 3)
    list(
      model = structure(
        list(at = stats::lm(simple(y, cols), plain(d))), class = "own_rule"
      ),
      predictors = cols,
      predict_with = function(model, data) stats::predict(model$at, data),
      refit_with = function(model, data, predictors) {
        structure(list(at = stats::lm(simple(y, predictors), data)), class = "own_rule")
      }
    )
  })
)

transform_target <- function(d, y) {
  d <- plain(d)
  if (!is_number(d[[y]])) d[[y]] <- factor(d[[y]])
  d
}

fits_task <- function(task, v) {
  number <- is_number(v)
  k <- length(unique(v))
  switch(
    task,
    any = TRUE,
    regression = number,
    positive = number && all(v > 0),
    two = !number && k == 2,
    several = !number && k > 2,
    classes = !number,
    counts = number && all(v >= 0 & v == round(v)),
    number_or_two = number || k == 2
  )
}

# ---- one cell -----------------------------------------------------------------------------------

run_cell <- function(set, model) {
  rows <- list()
  text <- character()
  note <- function(step, result, seconds = NA, said = "") {
    rows[[length(rows) + 1]] <<- data.frame(
      data = set,
      model = model,
      step = step,
      result = result,
      seconds = round(seconds, 2),
      said = substr(
        gsub("\\s+", " ", gsub("Written to [^ ]*/out", "Written to out", said)), 1, 300
      )
    )
  }
  step <- function(name, code) {
    warned <- character()
    start <- proc.time()[[3]]
    value <- tryCatch(
      withCallingHandlers(
        list(value = code()),
        warning = function(w) {
          warned <<- c(warned, conditionMessage(w))
          invokeRestart("muffleWarning")
        },
        message = function(m) invokeRestart("muffleMessage")
      ),
      error = function(e) list(error = e)
    )
    seconds <- proc.time()[[3]] - start
    text <<- c(
      text, "", paste0("==== ", name, " (", round(seconds, 1), " s)"),
      paste("warning:", unique(warned))[nzchar(warned[1])]
    )
    e <- value$error
    if (is.null(e)) {
      shown <- tryCatch(utils::capture.output(print(value$value)), error = function(e) {
        note(paste(name, "print"), "fault", said = conditionMessage(e))
        character()
      })
      if (any(nchar(cli::ansi_strip(shown), "width") > 80)) {
        note(paste(name, "print"), "fault", said = "a line over 80 columns")
      }
      if (length(shown) > 25 && !inherits(value$value, "data.frame")) {
        note(paste(name, "print"), "fault", said = paste(length(shown), "lines"))
      }
      text <<- c(text, cli::ansi_strip(shown))
      note(name, "worked", seconds, paste(unique(warned), collapse = " | "))
      return(value$value)
    }
    own <- inherits(e, "dreher_error") && !inherits(e, "dreher_error_internal")
    said <- paste(rlang::cnd_message(e), collapse = " ")
    text <<- c(text, paste("error:", said))
    note(name, if (own) "refused" else "fault", seconds, said)
    NULL
  }
  truth <- function(name, holds, said = "") {
    note(paste("truth:", name), if (isTRUE(holds)) "worked" else "fault", said = said)
  }
  s <- data_sets[[set]]
  parts <- read_set(s, model)
  y <- s$target
  fit <- tryCatch(
    suppressWarnings(suppressMessages(models[[model]]$fit(parts$train, y))),
    error = function(e) e
  )
  if (inherits(fit, "error")) {
    note("fit", "not fitted", said = conditionMessage(fit))
    return(do.call(rbind, rows))
  }
  if (isFALSE(fit$gaps)) {
    parts[c("train", "holdout", "untouched")] <- lapply(
      parts[c("train", "holdout", "untouched")],
      function(d) d[stats::complete.cases(plain(d)), ]
    )
  }
  for (part in names(parts)[1:3]) {
    # levels never met in training are another story: merged before, by whoever models
    d <- plain(parts[[part]])
    stays <- rep(TRUE, nrow(d))
    for (p in columns_of(d, y)) {
      if (length(unique(plain(parts$train)[[p]])) <= 40 && !is_number(d[[p]]) &&
          (is.factor(d[[p]]) || is.character(d[[p]]))) {
        stays <- stays &
          (is.na(d[[p]]) |
              as.character(d[[p]]) %in% as.character(plain(parts$train)[[p]]))
      }
    }
    parts[[part]] <- parts[[part]][stays, ]
  }
  args <- fit[intersect(
      names(fit), c("predictors", "predict_with", "refit_with", "encode")
    )]
  st <- step("study", function() {
    do.call(
      study,
      c(
        list(
          stats::setNames(list(fit$model), model),
          parts$holdout,
          y,
          train = parts$train,
          metric = s$metric,
          threads = 1
        ),
        args
      )
    )
  })
  if (is.null(st)) return(finish(set, model, rows, text))
  step("checks", function() check_data(st))
  sc <- step("scores", function() score_models(st))
  p <- length(st$predictors)
  if (!is.null(sc) && is.null(s$metric) && is_number(parts$holdout[[y]])) {
    own <- predict_model(st, st$models[[1]], st$data)[, 1]
    truth("score", isTRUE(all.equal(sc$score, sqrt(mean((own - st$data[[y]])^2)))))
    if (model == "lm") {
      truth(
        "predictions",
        isTRUE(all.equal(
          unname(own),
          unname(suppressWarnings(stats::predict(fit$model, plain(parts$holdout))))
        ))
      )
    }
  }
  rk <- step("ranking", function() rank_predictors(st, repeats = 5, background = 30))
  alone <- step("permutation", function() {
    rank_permutation(st, rows = c("holdout", "train"), repeats = 5)
  })
  if (model == "lm" && !is.null(rk)) {
    co <- step("coefficients", function() rank_coefficients(st))
    b <- stats::coef(fit$model)
    numeric <- Filter(
      function(v) is_number(parts$train[[v]]) && v %in% names(b) && !is.na(b[[v]]),
      co$predictor
    )
    known <- vapply(numeric, function(v) abs(b[[v]]) * stats::sd(parts$train[[v]]), 0)
    truth(
      "coefficients",
      isTRUE(all.equal(unname(known), co$importance[match(numeric, co$predictor)]))
    )
  }
  quick <- p <= 40
  rr <- if (quick) {
    step("resamples", function() {
      rank_predictors(
        st,
        by = "permutation",
        repeats = 5,
        resamples = draw_resamples(parts$train, times = 8)
      )
    })
  }
  if (!is.null(rr)) step("stability", function() stability(rr))
  nf <- if (quick) step("floor", function() noise_floor(st, refits = 19, repeats = 2))
  if (!is.null(nf) && "planted" %in% nf$table$predictor) {
    planted <- nf$table[nf$table$predictor == "planted", ]
    note(
      "planted",
      "worked",
      said = if (any(planted$above)) "above the floor" else "not above"
    )  # judged over all cells
  }
  if (!is.null(rk) && length(unique(rk$method)) > 1) {
    step("agreement", function() agreement(rk, study = st))
  }
  step("twins", function() find_twins(st))
  counts <- if (p > 12) unique(c(1, 2, 4, 8)) else NULL
  rd <- step("reduction", function() {
    reduce_predictors(
      st,
      folds = if (nrow(parts$train) >= 12) 3,
      repeats = 1,
      inner_folds = 2,
      random = 4,
      counts = counts
    )
  })
  ps <- if (!is.null(rd)) step("set", function() choose_set(rd))
  if (!is.null(ps)) {
    cmp <- step("comparison", function() {
      compare_sets(
        st, list(all = "all", chosen = ps, none = "none"), folds = rd$folds, repeats = 1
      )
    })
    if (!is.null(cmp) && !anyNA(rd$curves[[1]]$outer[[1]])) {
      truth(
        "same score of all",
        isTRUE(all.equal(cmp$score[cmp$set == "all"], ps$full_score)),
        paste(cmp$score[1], ps$full_score)
      )
    }
    step("confirmation", function() confirm_set(ps, parts$untouched))
    file <- file.path(folder, paste0(set, "-", model, ".json"))
    step("set file", function() {
      write_predictor_set(ps, file)
      read_predictor_set(file)
    })
    if (ps$count > 0) {
      step("refit", function() {
        m <- refit_on(ps)
        if (is.null(fit$predict_with) &&
            !inherits(m, c("xgb.Booster", "lgb.Booster", "cv.glmnet", "glmnet"))) {
          suppressWarnings(invisible(stats::predict(
            m, plain(parts$holdout)[ps$predictors]
          )))
        }
        class(m)
      })
    }
    figures <- list(ranking = rk, floor = nf, reduction = rd)
    for (f in names(figures)) {
      if (!is.null(figures[[f]])) {
        step(paste("figure", f), function() {
          grDevices::png(tempfile(), 1280, 800)
          on.exit(grDevices::dev.off())
          class(plot(figures[[f]]))
        })
      }
    }
    if (nchar(paste(set, model)) %% 3 == 0) {
      step("page", function() {
        basename(do.call(
          write_report,
          c(
            list(st), Filter(Negate(is.null), list(rk, nf, rd, ps)),
            list(file = file.path(folder, paste0(set, "-", model, ".html")))
          )
        ))
      })
    }
  }
  finish(set, model, rows, text)
}

finish <- function(set, model, rows, text) {
  writeLines(text, file.path(folder, paste0(set, "-", model, ".txt")))
  do.call(rbind, rows)
}

predict_model <- function(...) getFromNamespace("predict_model", "dreher")(...)

# ---- the command on CSV copies ------------------------------------------------------------------

run_command <- function(set, model) {
  parts <- read_set(data_sets[[set]], model)
  y <- data_sets[[set]]$target
  fit <- tryCatch(
    suppressWarnings(suppressMessages(models[[model]]$fit(parts$train, y))),
    error = function(e) e
  )
  if (inherits(fit, "error") || any(c("predict_with", "encode") %in% names(fit))) {
    return(NULL)
  }
  work <- tempfile("cell")
  dir.create(work)
  on.exit(unlink(work, recursive = TRUE))
  at <- function(name) file.path(work, name)
  for (part in names(parts)[1:3]) {
    data.table::fwrite(plain(parts[[part]]), at(paste0(part, ".csv")))
  }
  saveRDS(fit$model, at("model.rds"))
  exec <- system.file("exec", "dreher", package = "dreher")
  go <- function(step, ...) {
    start <- proc.time()[[3]]
    said <- suppressWarnings(system2(
      file.path(R.home("bin"), "Rscript"),
      shQuote(c(
        exec, step, "--models", at("model.rds"), "--train", at("train.csv"), "--target", y,
        ...
      )),
      stdout = TRUE,
      stderr = TRUE
    ))
    status <- attr(said, "status")
    fault <- any(grepl(
      paste0(
        "Error in|subscript|object .* not found|internal|undefined ",
        "columns|non-conformable|invalid .* argument|argument is of length zero"
      ),
      said
    ))
    data.frame(
      data = set,
      model = model,
      step = paste("command", step),
      result = if (is.null(status)) "worked" else if (fault) "fault" else "refused",
      seconds = round(proc.time()[[3]] - start, 2),
      said = substr(paste(utils::tail(said, 3), collapse = " "), 1, 300)
    )
  }
  out <- rbind(
    go("rank", "--data", at("holdout.csv"), "--out", at("out")),
    go(
      "reduce", "--folds", "3", "--random", "2", "--confirm", at("untouched.csv"),
      "--out", at("out")
    )
  )
  if (file.exists(at("out/set.json"))) {
    out <- rbind(
      out,
      go(
        "confirm", "--set", at("out/set.json"), "--rows", at("untouched.csv"), "--again"
      )
    )
  }
  out
}

# ---- the trial ----------------------------------------------------------------------------------

cells <- expand.grid(model = names(models), set = names(data_sets), stringsAsFactors = FALSE)
fits <- mapply(
  function(m, s) {
    fits_task(models[[m]]$task, read_set(data_sets[[s]])$train[[data_sets[[s]]$target]])
  },
  cells$model,
  cells$set
)
cells <- cells[fits, ]
if (!whole && !length(only)) {
  # every fifth model in turn, so that each meets many data sets
  place <- stats::ave(seq_len(nrow(cells)), cells$set, FUN = seq_along)
  turn <- match(cells$set, names(data_sets))
  cells <- cells[(place + turn) %% 4 == 0, ]
}
if (length(only)) {
  sets <- intersect(only, names(data_sets))
  chosen <- intersect(only, names(models))
  cells <- cells[
    (!length(sets) | cells$set %in% sets) & (!length(chosen) | cells$model %in% chosen),
  ]
}
cat(
  nrow(cells), "cells,", length(unique(cells$set)), "data sets,",
  length(unique(cells$model)), "models\n"
)
do_cell <- function(i) {
  kept <- file.path(folder, paste0(cells$set[i], "-", cells$model[i], ".csv"))
  if (file.exists(kept)) return(utils::read.csv(kept))
  out <- tryCatch(run_cell(cells$set[i], cells$model[i]), error = function(e) {
    data.frame(
      data = cells$set[i],
      model = cells$model[i],
      step = "trial",
      result = "fault",
      seconds = NA,
      said = conditionMessage(e)
    )
  })
  if (i %% 8 == 0) out <- rbind(out, run_command(cells$set[i], cells$model[i]))
  cat(sprintf(
    "%-28s %-14s %5.0f s  %s\n",
    cells$set[i],
    cells$model[i],
    sum(out$seconds, na.rm = TRUE),
    paste(names(table(out$result)), table(out$result), collapse = ", ")
  ))
  utils::write.csv(out, kept, row.names = FALSE)
  out
}
found <- do.call(
  rbind,
  parallel::mclapply(
    seq_len(nrow(cells)),
    do_cell,
    mc.cores = as.integer(Sys.getenv("FIELD_CORES", "2")),
    mc.preschedule = FALSE
  )
)
if (!length(only)) utils::write.csv(found, "bench/results/field.csv", row.names = FALSE)
print(table(found$result))
# Chance lifts a planted column above a floor of 5 % in one cell of twenty.
planted <- found$said[found$step == "planted"]
lifted <- sum(planted == "above the floor")
cat(
  "planted columns above the floor:", lifted, "of", length(planted),
  if (lifted > stats::qbinom(0.99, length(planted), 0.05)) {
    "FAULT: more than chance explains"
  },
  "\n"
)
bad <- found[found$result == "fault", ]
if (nrow(bad)) print(bad[c("data", "model", "step", "said")], right = FALSE)
refused <- found[found$result == "refused", ]
cat(nrow(refused), "refusals\n")
if (nrow(refused)) print(unique(refused[c("step", "said")]), right = FALSE)
