# Losses of sets of predictors from cross-validation, and how sure their differences are.

# Loss of each set, the covariance of these losses over rows and, where the metric has them, the
# rows' influences u.
#
# `predictions`: one array (rows x sets x outputs) per drawing of the folds; influences are averaged
# over drawings row by row.
#
# Rows whose fold failed in a drawing do not count in it; a set that could not be trained on some
# of the others has no loss (NA). needed: the sets without which a row does not count.
curve_moments <- function(st, info, predictions, seed, needed = 1L) {
  sizes <- dim(predictions[[1]])[2]
  n <- length(info$truth)
  rows_of <- lapply(predictions, scored_rows, needed)
  whole <- Reduce(
    `&`,
    Map(
      function(p, rows) {
        vapply(seq_len(sizes), function(s) !anyNA(slice_repeat(p, s)[rows, ]), NA)
      },
      predictions,
      rows_of
    )
  )
  losses <- function(p, rows, part) {
    # NA, or the loss and influences of every set
    some <- if (all(rows)) info else some_info(info, rows)
    lapply(seq_len(sizes), function(s) {
      if (!whole[s]) return(list(loss = NA_real_, u = double(n)))
      found <- metric_influence(
        st$metric, some$truth, slice_repeat(p, s)[rows, , drop = FALSE], some$weight
      )
      if (!part && !all(rows) && !is.null(found$u)) {
        found$u <- replace(double(n), which(rows), found$u * n / sum(rows))
      }
      found
    })
  }
  mean_loss <- function(keep = TRUE) {
    rowMeans(matrix(
      vapply(
        seq_along(predictions),
        function(t) {
          vapply(losses(predictions[[t]], rows_of[[t]] & keep, TRUE), `[[`, 0, "loss")
        },
        double(sizes)
      ),
      sizes
    ))
  }
  if (!jackknifed(st$metric)) {
    each <- Map(losses, predictions, rows_of, FALSE)
    loss <- rowMeans(matrix(
      vapply(each, function(e) vapply(e, `[[`, 0, "loss"), double(sizes)), sizes
    ))
    u <- Reduce(`+`, lapply(each, function(e) vapply(e, `[[`, double(n), "u"))) /
      length(each)
    return(c(list(loss = loss, u = u), influence_error(u, info$block)[c("cov", "df")]))
  }
  loss <- mean_loss()
  block <- jackknife_blocks(info, seed)
  left_out <- vapply(unique(block), function(g) mean_loss(block != g), double(sizes))
  left_out[is.na(left_out)] <- 0
  g <- ncol(left_out)
  list(loss = loss, cov = (g - 1)^2 / g * stats::cov(t(left_out)), df = g - 1)
}

# Rows that have predictions of all these sets; none where there are no predictions at all.
scored_rows <- function(p, sets) {
  if (is.null(p)) return(FALSE)
  is.finite(rowSums(matrix(p[, sets, ], dim(p)[1])))
}

# Standard error of the price of set a against set b: over rows, and widened where training parts
# overlap. Their t has as many degrees of freedom as there are folds over all drawings, less one.
price_error_of <- function(moments, a, b, folds) {
  sqrt(widened(difference_error(moments, a, b)^2, folds))
}

# A variance over rows, widened: what trains on one fold judges another, so that the scores of
# folds go together; their correlation is about the share of rows left out (Nadeau and Bengio
# 2003), which makes the variance 1 + K / (K - 1) times as large with K folds.
widened <- function(variance, folds) (1 + folds / (folds - 1)) * variance

folds_df <- function(x) x$folds * x$repeats - 1

# Standard error of loss[a] - loss[b] over rows.
difference_error <- function(moments, a, b) {
  v <- moments$cov
  sqrt(pmax(diag(v)[a] + v[b, b] - 2 * v[a, b], 0))
}
