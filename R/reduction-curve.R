# The curve of a reduction: what the pieces found, and as a table.

gather_curve <- function(st, plan, values, fold_of) {
  m <- plan$ranker
  settings <- plan$settings
  value <- function(...) values[[paste(m, ..., sep = "/")]]
  n <- nrow(fold_of)
  all <- value("all rows")
  if (is.null(all)) return(NULL)
  full <- match("all", names(all$columns))
  outer <- lapply(seq_len(settings$repeats), function(t) {
    stack_folds(
      lapply(seq_len(settings$folds), function(f) value("outer", t, f)$predictions),
      fold_of[, t]
    )
  })
  # drawings most of whose folds came out
  used <- which(vapply(outer, function(p) mean(scored_rows(p, c(1, full))) >= 0.5, NA))
  if (!length(used)) return(NULL)
  splits <- unlist(
    lapply(used, function(t) {
      lapply(seq_len(settings$folds), function(f) {
        split <- gather_split(st, plan, value, t, f, fold_of, outer[[t]])
        if (!is.null(split)) c(split, list(time = match(t, used), fold = f))
      })
    }),
    recursive = FALSE
  )
  splits <- Filter(Negate(is.null), splits)
  if (!length(splits)) return(NULL)
  outer <- outer[used]
  fold_of <- fold_of[, used, drop = FALSE]
  info <- row_info(st, frame_for(st, plan, rep(TRUE, n)))
  pieces <- random_pieces(plan)
  list(
    model = m,
    plan = plan[setdiff(names(plan), "settings")],
    settings = settings,
    columns = all$columns,
    order = all$order,
    importance = all$importance,
    standing = all$standing,
    splits = splits,
    fold_of = fold_of,
    failed = failed_sets(values, m),
    unseen = most_unseen(values, m),
    info = info,
    outer = outer,
    choice = gather_choice(st, plan, value, outer),
    random = if (1L %in% used && length(pieces)) {
      random_losses(st, plan, pieces, values, fold_of, info)
    }
  )
}

# Predictions of all rows by the folds that choose: the outer ones, or folds of their own.
gather_choice <- function(st, plan, value, outer) {
  settings <- plan$settings
  if (settings$inner_folds == settings$folds) return(outer)
  all <- frame_for(st, plan, rep(TRUE, nrow(st$train)))
  found <- stack_drawings(st, all, settings, c(plan$ranker, "choice"), function(d, g) {
    value("choice", d, g)
  })
  if (length(found)) found else outer
}

# What the folds of every drawing inside these rows say; drawings of which most came out.
stack_drawings <- function(st, rows, settings, key, part) {
  drawn <- lapply(seq_len(settings$repeats), function(d) {
    stack_folds(
      lapply(seq_len(settings$inner_folds), function(g) part(d, g)),
      inner_folds_of(st, rows, settings, c(key, d))
    )
  })
  Filter(function(p) mean(scored_rows(p, 1L)) >= 0.5, drawn)
}

# One outer split: its path, the moments of the cross-validation inside it, and by how much that
# one's losses exceed those of the outer folds on the same rows; NULL where too little came out.
# value(...): what a piece found; outer: the outer folds' predictions in this drawing
gather_split <- function(st, plan, value, t, f, fold_of, outer) {
  settings <- plan$settings
  if (is.null(value("outer", t, f))) return(NULL)
  own <- fold_of[, t] != f
  train <- frame_for(st, plan, own)
  inner <- stack_drawings(st, train, settings, c(plan$ranker, t, f), function(d, g) {
    value("inner", t, f, d, g)
  })
  if (!length(inner)) return(NULL)
  info <- row_info(st, train)
  sets <- seq_len(dim(inner[[1]])[2])
  outer <- outer[own, sets, , drop = FALSE]
  rise <- rowMeans(matrix(
    vapply(
      inner,
      function(p) {
        both <- scored_rows(p, 1L) & scored_rows(outer, 1L)
        losses_of_sets(st, info, p, both) - losses_of_sets(st, info, outer, both)
      },
      double(length(sets))
    ),
    length(sets)
  ))
  c(
    value("outer", t, f)[c("order", "importance", "standing", "columns")],
    list(
      inner = curve_moments(st, info, inner, settings$seed)[c("loss", "cov", "df")],
      rise = rise
    )
  )
}

#' @export
as.data.frame.dreher_reduction <- function(x, ...) {
  out <- do.call(rbind, lapply(x$curves, curve_table, rd = x))
  rownames(out) <- NULL
  out
}

beside_path <- c("thinned", "not sensitive", "above floor")

# Which columns are steps of the path (none at all is one, unless something is kept), and how many
# units each has.
path_columns <- function(curve) {
  on_path <- !names(curve$columns) %in% c("constant", "all", beside_path)
  if (!length(curve$plan$keep)) on_path[1] <- TRUE
  which(on_path)
}

curve_table <- function(curve, rd) {
  st <- rd$study
  full <- match("all", names(curve$columns))
  m <- curve_moments(st, curve$info, curve$outer, rd$seed, c(1L, full))
  path <- steps_of_path(curve, m$loss)
  shown <- columns_shown(curve, m$loss, path, full)
  own_error <- sqrt(diag(m$cov))
  limits <- score_limits(
    st$metric, as_score(st$metric, m$loss), own_error, m$df, rd$level
  )
  price_error <- price_error_of(m, seq_along(m$loss), full, rd$folds)
  price <- t_limits(m$loss - m$loss[full], price_error, folds_df(rd), rd$level)
  added <- predictors_added(curve, path)
  candidate <- names(curve$columns)
  candidate[path] <- "path"
  out <- data.frame(
    model = curve$model,
    refit = curve$plan$refit,
    candidate = candidate,
    count = lengths(curve$columns),
    cost = vapply(curve$columns, function(s) cost_of(curve$plan, s), 0),
    added = added,
    score = as_score(st$metric, m$loss),
    std_error = own_error,
    lower = limits$lower,
    upper = limits$upper,
    price = m$loss - m$loss[full],
    price_error = price_error,
    price_lower = price$lower,
    price_upper = price$upper,
    row.names = NULL
  )
  cbind(out, random_band(st, curve))[shown, ]
}

# Points beyond what a part has (twins thinned, budget spent) hold what the last one holds.
steps_of_path <- function(curve, loss) {
  path <- path_columns(curve)
  path <- path[is.finite(loss[path])]
  path[!duplicated(lapply(curve$columns[path], sort))]
}

# The path, and what stands beside it: not the set of all again, and nothing that has no loss.
columns_shown <- function(curve, loss, path, full) {
  ends_with_all <- setequal(curve$columns[[max(path)]], curve$columns[[full]])
  # Where nobody has a twin, to leave twins out is to leave nothing out.
  idle <- names(curve$columns) == "thinned" &
    vapply(curve$columns, setequal, NA, curve$columns[[full]])
  passed_over <- c(which(!is.finite(loss)), setdiff(which(idle), path))
  others <- c(path_columns(curve), passed_over, if (ends_with_all) full)
  shown <- c(path, setdiff(seq_along(curve$columns), others))
  if (length(curve$plan$keep)) c(1L, setdiff(shown, 1L)) else shown
}

# What each set adds to the step of the path before it; whole sets where they are not nested.
predictors_added <- function(curve, path) {
  before <- c(NA, path)[match(seq_along(curve$columns), path)]
  in_order <- unlist(curve$plan$units[curve$order])
  one <- function(s) {
    own <- curve$columns[[s]]
    from <- if (is.na(before[s])) character() else curve$columns[[before[s]]]
    if (!all(from %in% own)) from <- character()
    new <- setdiff(own, from)
    known <- c(in_order, curve$plan$keep)
    paste(
      c(intersect(curve$plan$keep, new), intersect(in_order, new), setdiff(new, known)),
      collapse = ", "
    )
  }
  vapply(seq_along(curve$columns), one, "")
}
