# Learners: models that are trained here from a name and settings, on tables as they come.
#
# A learner whose library takes the rows as they are is trained on them. Otherwise a coder stands
# between: gaps become the median or a level of their own, dates days, rare and unknown levels one
# level; for equations and boosted trees categories become one column a level.
#
# learner list(says, settings: names of arguments of the library's function, wide: a column a
# level?,
#          gaps: does it take missing values?, package, train(rows, target, task, settings, seed,
#          threads))

learner_table <- function() {
  list(
    linear = list(
      says = "a linear or (multi)logistic regression",
      settings = character(),
      wide = TRUE,
      gaps = FALSE,
      train = train_linear
    ),
    penalised = list(
      says = "a penalised regression, its penalty chosen by cross-validation (glmnet)",
      settings = c("alpha", "nfolds", "standardize"),
      wide = TRUE,
      gaps = FALSE,
      package = "glmnet",
      train = train_penalised
    ),
    tree = list(
      says = "one tree (rpart)",
      settings = c("cp", "maxdepth", "minsplit", "minbucket"),
      wide = FALSE,
      gaps = TRUE,
      parts_levels = TRUE,
      package = "rpart",
      train = train_tree
    ),
    forest = list(
      says = "a random forest (ranger)",
      settings = c(
        "num.trees", "mtry", "min.node.size", "max.depth", "sample.fraction", "replace",
        "splitrule"
      ),
      wide = FALSE,
      gaps = FALSE,
      package = "ranger",
      train = train_forest
    ),
    boosted = list(
      says = "boosted trees (xgboost)",
      settings = c(
        "nrounds", "max_depth", "eta", "min_child_weight", "subsample", "colsample_bytree",
        "lambda", "alpha", "gamma"
      ),
      wide = TRUE,
      gaps = TRUE,
      package = "xgboost",
      train = train_boosted
    )
  )
}

# train: training rows; task: as of study(). -> list(model, encode: NULL or a function of rows)
train_learner <- function(learner, settings, train, target, task, predictors, seed, threads) {
  l <- learner_table()[[learner]]
  if (!is.null(l$package)) rlang::check_installed(l$package, "to train this learner")
  rows <- train[c(predictors, target)]
  if (task == "classification") rows[[target]] <- factor(rows[[target]])
  most <- most_levels_of(l, rows[[target]])
  coder <- if (needs_coder(rows[predictors], l, most)) make_coder(rows[predictors], l, most)
  if (!is.null(coder)) rows <- cbind(coder(rows[predictors]), rows[target])
  args <- lapply(settings, function(v) if (is.list(v)) unlist(v) else v)
  model <- withCallingHandlers(
    l$train(rows, target, task, args, seed, threads), error = pass_interrupt
  )
  list(model = model, encode = coder)
}

is_plain_column <- function(x, learner, most) {
  number <- is.numeric(x) && !inherits(x, c("Date", "POSIXt", "difftime", "integer64"))
  few <- is.factor(x) && all(table(x) >= least_of_level) && nlevels(x) <= most
  (number || (few && !learner$wide)) && (learner$gaps || !anyNA(x))
}

# Levels of fewer training rows are taken together: refits on parts of the rows would miss them.
least_of_level <- 10

# A tree that tells three classes or more tries all ways to part the levels.
levels_of_tree <- 12

most_levels_of <- function(learner, y) {
  if (isTRUE(learner$parts_levels) && is.factor(y) && nlevels(y) > 2) levels_of_tree else Inf
}

needs_coder <- function(rows, learner, most) {
  # formulas of some libraries trip over such names
  odd <- any(grepl("[[:cntrl:]`\\\\]", names(rows)))
  odd || !all(vapply(rows, is_plain_column, NA, learner = learner, most = most))
}

# A function from rows to the columns that are trained on, with what it needs of the training rows.
# Attribute `joined`: what was taken together, see joined_levels().
make_coder <- function(rows, learner, most = Inf) {
  facts <- lapply(rows, column_facts, most)
  wide <- learner$wide
  fill <- !learner$gaps
  # Without the first level, equations have one solution.
  drop_first <- identical(learner$train, train_linear)
  coder <- function(rows) {
    parts <- lapply(names(facts), function(p) {
      coded <- code_column(rows[[p]], facts[[p]], fill)
      if (!is.factor(coded)) return(list(coded))
      if (!wide) return(if (nlevels(coded) > 1) list(coded))
      levels <- levels(coded)[if (drop_first) -1 else TRUE]
      lapply(levels, function(k) as.double(coded == k))
    })
    columns <- unlist(parts, recursive = FALSE)
    # Names of ours: libraries differ in what they accept in a name.
    names(columns) <- paste0(
      "c", rep(seq_along(parts), lengths(parts)), "_", sequence(lengths(parts))
    )
    out <- as.data.frame(columns, optional = TRUE)
    stems <- as.list(rep(names(facts), lengths(parts)))
    attr(out, "stems_from") <- stats::setNames(stems, names(columns))
    out
  }
  structure(coder, joined = joined_levels(facts))
}

# What was taken together as rare: a row a predictor. -> data frame of predictor, levels (how many
# were joined), rows, kept (levels that stand for themselves), most (levels that were to stay)
joined_levels <- function(facts) {
  joined <- Filter(function(f) isTRUE(f$joined > 0), facts)
  data.frame(
    predictor = names(joined),
    levels = vapply(joined, `[[`, 1L, "joined", USE.NAMES = FALSE),
    rows = vapply(joined, `[[`, 1L, "rows", USE.NAMES = FALSE),
    kept = vapply(joined, function(f) length(f$levels) - 1L, 1L, USE.NAMES = FALSE)
  )
}

# kind "number": the median; "category": levels of enough rows
column_facts <- function(x, most = Inf) {
  if (is_measured(x)) {
    middle <- stats::median(as.double(x), na.rm = TRUE)
    return(list(fill = if (is.na(middle)) 0 else middle, levels = NULL))
  }
  seen <- table(as.character(x))
  kept <- names(seen)[seen >= least_of_level]
  kept <- kept[order(-seen[kept])]
  kept <- kept[seq_len(min(length(kept), most))]
  order <- if (is.factor(x)) levels(x) else sort_text(names(seen))
  gone <- setdiff(names(seen)[seen > 0], kept)
  list(
    levels = c(intersect(order, kept), other_level), joined = length(gone),
    rows = as.integer(sum(seen[gone]))
  )
}

# The level of rare, unknown and missing values.
other_level <- "(other)"

is_measured <- function(x) is.numeric(x) || inherits(x, c("Date", "POSIXt", "difftime"))

code_column <- function(x, facts, fill) {
  if (is.null(facts$levels)) {
    x <- as.double(x)
    if (fill) x[is.na(x)] <- facts$fill
    return(x)
  }
  x <- as.character(x)
  x[!x %in% facts$levels] <- other_level
  factor(x, facts$levels)
}

train_linear <- function(rows, target, task, settings, seed, threads) {
  formula <- stats::reformulate(".", as.name(target))
  if (task == "regression") return(eval(bquote(stats::lm(.(formula), rows))))
  if (nlevels(rows[[target]]) == 2) {
    return(suppressWarnings(eval(bquote(stats::glm(.(formula), stats::binomial, rows)))))
  }
  rlang::check_installed("nnet", "to train a regression of several classes")
  eval(bquote(nnet::multinom(.(formula), rows, trace = FALSE, MaxNWts = 1e5, maxit = 500)))
}

train_penalised <- function(rows, target, task, settings, seed, threads) {
  x <- as.matrix(rows[setdiff(names(rows), target)])
  y <- rows[[target]]
  family <- if (task == "regression") {
    "gaussian"
  } else if (nlevels(y) == 2) {
    "binomial"
  } else {
    "multinomial"
  }
  with_stream(seed, "penalised", do.call(
    glmnet::cv.glmnet, c(list(x = quote(x), y = quote(y), family = family), settings)
  ))
}

train_tree <- function(rows, target, task, settings, seed, threads) {
  formula <- stats::reformulate(".", as.name(target))
  control <- do.call(rpart::rpart.control, settings)
  method <- if (task == "regression") "anova" else "class"
  with_stream(seed, "tree", eval(bquote(
    rpart::rpart(.(formula), rows, method = .(method), control = .(control))
  )))
}

# Of many levels the alphabet would have to be cut into many stretches: they are put in the order
# of their targets.
levels_in_alphabet <- 10

train_forest <- function(rows, target, task, settings, seed, threads) {
  levels <- vapply(rows[setdiff(names(rows), target)], nlevels, 1L)
  if (any(levels > levels_in_alphabet)) {
    settings <- c(settings, list(respect.unordered.factors = "order"))
  }
  do.call(
    ranger::ranger,
    c(
      list(
        data = quote(rows), dependent.variable.name = target,
        probability = task == "classification", keep.inbag = TRUE, seed = seed,
        num.threads = threads, verbose = FALSE
      ),
      settings
    )
  )
}

train_boosted <- function(rows, target, task, settings, seed, threads) {
  y <- rows[[target]]
  rounds <- if (is.null(settings$nrounds)) 100 else settings$nrounds
  chosen <- utils::modifyList(list(max_depth = 3, eta = 0.1), settings)
  objective <- if (task == "regression") {
    list(objective = "reg:squarederror")
  } else if (nlevels(y) == 2) {
    list(objective = "binary:logistic")
  } else {
    list(objective = "multi:softprob", num_class = nlevels(y))
  }
  x <- as.matrix(rows[setdiff(names(rows), target)])
  label <- if (is.factor(y)) as.integer(y) - 1L else y
  with_classes(with_stream(seed, "boosted", xgboost::xgb.train(
    c(objective, chosen[setdiff(names(chosen), "nrounds")], list(nthread = threads)),
    xgboost::xgb.DMatrix(x, label = label, nthread = threads),
    nrounds = rounds
  )), y)
}
