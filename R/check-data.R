#' Check the columns before ranking
#'
#' Checks every column but the target for properties that make a ranking misleading.
#'
#' @param study A [study()]. All columns of its rows are checked, also those no model uses.
#' @param ... Must be empty.
#' @return A data frame of class `dreher_checks`, one row per finding: `predictor`, `finding`,
#'   `detail` (a sentence) and `used_by` (the models that use the predictor). Findings: \describe{
#'   \item{`leak`}{a possible leak: alone the column predicts the target on holdout rows with a
#'   skill of at least 0.98, or of at least 0.9 where no other column reaches more than 0.5 alone.
#'   Skill is the share of the constant's squared error (or Brier score) that is removed by the
#'   target's mean in 20 bins, or per level, of the training rows.} \item{`identifier`}{a possible
#'   identifier: whole numbers or text, of which at least 98 % are distinct over all rows; numbers
#'   only where they have nothing to do with the target (rank correlation, or Kruskal and Wallis'
#'   test for classes, p of 0.01 or more)} \item{`many levels`}{a factor or text of more than 30
#'   levels} \item{`constant`}{a single value} \item{`duplicate`}{the same order of values as an
#'   earlier column (rank correlation of at least 0.98)} \item{`derived`}{a linear function of
#'   other numeric columns (R squared of at least 0.98) } \item{`missing`}{missing values, with
#'   their share} } The thresholds are conventions; a finding is a reason to check, not a
#'   decision. Ask of a possible leak whether it was known before the target.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp + hold_minutes, kiln$train)
#' check_data(study(fit, kiln$holdout, "strength", train = kiln$train))
#' @export
check_data <- function(study, ...) {
  check_class(study, "dreher_study", "study", "study()")
  check_no_dots(..., .verb = "check_data")
  columns <- setdiff(names(study$data), c(study$target, study$weights, study$blocks))
  found <- find_suspects(study, columns, derived = TRUE)
  users <- vapply(
    found$predictor,
    function(p) {
      use <- vapply(study$models, function(m) p %in% m$inputs$predictors, NA)
      paste(names(study$models)[use], collapse = ", ")
    },
    ""
  )
  found$used_by <- as.character(users)
  validate_checks(new_checks(found, list(
    target = study$target, n_checked = length(columns), fingerprint = study$fingerprint
  )))
}

new_checks <- function(table, details) new_table(table, "checks", details)

check_findings <- c(
  "leak", "identifier", "constant", "duplicate", "derived", "many levels", "missing"
)

validate_checks <- function(x) {
  columns <- c(
    predictor = "character", finding = "character", detail = "character",
    used_by = "character"
  )
  check_shape(x, columns, "table of checks")
  check_holds(
    all(x$finding %in% check_findings), "table of checks", "a finding is not known"
  )
  x
}

find_suspects <- function(st, columns, derived = FALSE) {
  rows <- st$data
  both <- if (is.null(st$train)) {
    rows
  } else {
    shared <- intersect(names(rows), names(st$train))
    rbind_columns(rows[shared], st$train[shared])
  }
  best <- best_skill(st)
  alone_of <- vapply(
    stats::setNames(nm = columns),
    function(p) {
      x <- if (p %in% names(both)) both[[p]] else rows[[p]]
      if (length(unique(x[!is.na(x)])) > 1) skill_alone(st, p) else NA_real_
    },
    0
  )
  findings <- list()
  add <- function(p, finding, ...) {
    findings[[length(findings) + 1]] <<- data.frame(
      predictor = p, finding = finding, detail = paste0(...)
    )
  }
  for (p in columns) {
    x <- if (p %in% names(both)) both[[p]] else rows[[p]]
    target <- if (p %in% names(both)) both[[st$target]] else rows[[st$target]]
    for (hit in suspect_column(
        x, target, alone_of[[p]], alone_of[setdiff(columns, p)], best
      )) {
      do.call(add, c(list(p), hit))
    }
  }
  if (derived) for (hit in find_dependent(both, columns)) do.call(add, hit)
  empty <- data.frame(
    predictor = character(), finding = character(), detail = character()
  )
  found <- if (length(findings)) do.call(rbind, findings) else empty
  weight <- match(found$finding, check_findings)
  found <- found[order(weight, match(found$predictor, columns)), ]
  rownames(found) <- NULL
  found
}

# What is odd about one column. alone, others: skill of it and of the other columns by themselves;
# best: that of the best model. -> list of findings, each a kind and the pieces of its sentence
suspect_column <- function(x, target, alone, others, best) {
  seen <- x[!is.na(x)]
  distinct <- length(unique(seen))
  if (distinct <= 1) return(list(list("constant", "It has a single value.")))
  leak <- if (may_leak(alone, others)) {
    list(
      "leak",
      "Was it known before the target? Alone it explains ",
      format_share(alone),
      " of it",
      if (best > 0) paste0("; the best model explains ", format_share(best)),
      "."
    )
  }
  many <- if (may_identify(x, target)) {
    list(
      "identifier", "Is it an identifier? ", distinct, " distinct values in ",
      length(seen), " rows."
    )
  } else if ((is.factor(x) || is.character(x)) && distinct > 30) {
    list("many levels", distinct, " levels.")
  }
  gaps <- if (anyNA(x)) {
    list("missing", format_share(mean(is.na(x))), " of the values are missing.")
  }
  Filter(Negate(is.null), list(leak, many, gaps))
}

# A column that all but determines the target, or comes close to it where nothing else is near. A
# strong honest predictor among others of its kind does neither.
may_leak <- function(alone, others) {
  if (is.na(alone)) return(FALSE)
  alone >= 0.98 || (alone >= 0.9 && length(others) > 0 && max(others, 0, na.rm = TRUE) <= 0.5)
}

# Nearly one value a row, in whole numbers or text, that has nothing to do with the target.
may_identify <- function(x, y) {
  known <- !is.na(x)
  seen <- x[known]
  discrete <- !is.numeric(x) || is.factor(x) || all(seen == round(seen))
  if (inherits(x, c("Date", "POSIXct", "difftime")) || !discrete || length(seen) < 50 ||
      length(unique(seen)) < 0.98 * length(seen)) {
    return(FALSE)
  }
  # text without repeats: nothing else can be learned from it
  if (!is.numeric(x) || is.factor(x)) return(TRUE)
  y <- if (is.numeric(y)) rank(y[known]) else as.integer(factor(y[known]))
  p <- if (length(unique(y)) < 2) {
    1
  } else if (length(unique(y)) <= 20) {
    stats::kruskal.test(seen, y)$p.value
  } else {
    suppressWarnings(stats::cor.test(rank(seen), y)$p.value)
  }
  !isTRUE(p < 0.01)
}

format_share <- function(x) paste0(format(round(100 * x), trim = TRUE), " %")

# Two tables of the same columns on top of each other; factors by their labels.
rbind_columns <- function(a, b) {
  out <- lapply(names(a), function(p) {
    x <- a[[p]]
    y <- b[[p]]
    if (is.factor(x) || is.factor(y) || is.character(x)) {
      c(as.character(x), as.character(y))
    } else {
      c(x, y)
    }
  })
  names(out) <- names(a)
  as.data.frame(out, optional = TRUE, stringsAsFactors = FALSE)
}

# Skill on a common scale: share of the constant's squared error (Brier score) that is removed.
skill_of <- function(st, p, data) {
  if (st$task == "regression") {
    y <- data[[st$target]]
    target <- matrix(y, ncol = 1)
  } else {
    target <- outer(as.integer(data[[st$target]]), seq_along(st$classes), "==") + 0
  }
  1 - sum((p - target)^2) / sum((predict_mean(st, data) - target)^2)
}

predict_mean <- function(st, data) {
  from <- if (is.null(st$train)) st$data else st$train
  y <- from[[st$target]]
  value <- if (st$task == "classification") {
    as.double(table(y)[st$classes]) / length(y)
  } else {
    mean(y)
  }
  matrix(value, nrow(data), length(value), byrow = TRUE)
}

best_skill <- function(st) {
  max(
    0,
    vapply(
      st$models, function(m) skill_of(st, predict_model(st, m, st$data), st$data), 0
    )
  )
}

# Skill of one predictor alone: the target's mean in 20 bins (or per level) of the training rows,
# scored on the holdout rows; without training rows every other row stands in for them.
skill_alone <- function(st, p, bins = 20) {
  train <- st$train
  rows <- st$data
  if (is.null(train)) {
    odd <- seq_len(nrow(rows)) %% 2 == 1
    train <- rows[odd, , drop = FALSE]
    rows <- rows[!odd, , drop = FALSE]
  }
  if (!p %in% names(train) || nrow(rows) < 20 || nrow(train) < 5 * bins) return(NA_real_)
  skill_of(st, fit_alone(st, p, train, rows, bins), rows)
}

# Predictions of `rows` from one predictor: the target's mean (or class shares) in bins of a
# number, or per level, of the training rows. Missing is a level of its own; unseen levels get the
# overall mean.
fit_alone <- function(st, p, train, rows, bins = 20) {
  x <- train[[p]]
  z <- rows[[p]]
  if (is.numeric(x) && !is.factor(x) && is.numeric(z)) {
    cuts <- unique(stats::quantile(
      x, seq_len(bins - 1) / bins, na.rm = TRUE, names = FALSE
    ))
    x <- findInterval(x, cuts)
    z <- findInterval(z, cuts)
  }
  x <- as.character(x)
  z <- as.character(z)
  x[is.na(x)] <- "missing"
  z[is.na(z)] <- "missing"
  y <- train[[st$target]]
  Y <- if (st$task == "regression") {
    matrix(y, ncol = 1)
  } else {
    outer(as.integer(y), seq_along(st$classes), "==") + 0
  }
  sums <- rowsum(Y, x)
  means <- sums / as.vector(table(x)[rownames(sums)])
  fitted <- means[match(z, rownames(means)), , drop = FALSE]
  unseen <- is.na(fitted[, 1])
  fitted[unseen, ] <- rep(colMeans(Y), each = sum(unseen))
  dimnames(fitted) <- list(NULL, st$classes)
  fitted
}

# Duplicates by rank correlation, derived columns by linear regression on the other numeric ones.
find_dependent <- function(data, columns) {
  columns <- columns[vapply(
      columns,
      function(p) {
        x <- data[[p]]
        is.numeric(x) && length(unique(x[!is.na(x)])) > 2
      },
      NA
    )]
  if (length(columns) < 2) return(list())
  r <- abs(rank_correlations(data[columns]))
  hits <- list()
  for (j in seq_along(columns)[-1]) {
    twin <- which(r[j, seq_len(j - 1)] >= 0.98)
    if (length(twin)) {
      hits[[length(hits) + 1]] <- list(
        columns[j],
        "duplicate",
        "Same order of values as \"",
        columns[twin[1]],
        "\" (rank correlation ",
        format(round(r[j, twin[1]], 3)),
        ")."
      )
    }
  }
  complete <- stats::complete.cases(data[columns])
  if (sum(complete) < 10 * length(columns)) return(hits)
  explained <- explained_by_others(as.matrix(
    if (all(complete)) data[columns] else data[complete, columns, drop = FALSE]
  ))
  for (j in seq_along(columns)) {
    r2 <- explained[j]
    doubled <- any(r[j, -j] >= 0.98)
    if (is.finite(r2) && r2 >= 0.98 && !doubled) {
      hits[[length(hits) + 1]] <- list(
        columns[j],
        "derived",
        "The other numeric columns determine it (R squared ",
        format(round(r2, 3)),
        ")."
      )
    }
  }
  hits
}

# Spearman's correlation of all pairs, each on the rows both have. Ranks are worked out once a
# column; only a pair with gaps that could be a duplicate is ranked again on its common rows.
rank_correlations <- function(columns) {
  gaps <- vapply(columns, anyNA, NA)
  ranks <- vapply(
    columns,
    function(x) {
      as.double(rank(x, na.last = "keep"))
    },
    double(nrow(columns))
  )
  r <- suppressWarnings(stats::cor(
    ranks, use = if (any(gaps)) "pairwise" else "everything"
  ))
  r[is.na(r)] <- 0
  near <- which(abs(r) > 0.9 & upper.tri(r), arr.ind = TRUE)
  for (i in seq_len(nrow(near))) {
    pair <- near[i, ]
    if (!any(gaps[pair])) next
    exact <- stats::cor(
      as.matrix(columns[pair]), method = "spearman", use = "pairwise.complete.obs"
    )[
      1, 2
    ]
    r[pair[1], pair[2]] <- r[pair[2], pair[1]] <- exact
  }
  r
}

# Of each column, the share of its variance that the others explain linearly, from the correlations
# of all.
explained_by_others <- function(x) {
  r <- suppressWarnings(stats::cor(x))
  vapply(seq_len(ncol(x)), function(j) {
    others <- r[-j, -j, drop = FALSE]
    weight <- qr.coef(qr(others, tol = 1e-9), r[-j, j])
    weight[is.na(weight)] <- 0
    sum(weight * r[-j, j])
  }, 0)
}
