# What all measures of interaction share: which pairs, and a row a pair.

# Pairs of these units, those of unnamed predictors left out. -> 2 x pairs
pairs_of <- function(units, predictors) {
  all <- utils::combn(length(units), 2)
  if (is.null(predictors)) return(all)
  asked <- vapply(units, function(u) any(u %in% predictors), NA)
  all[, asked[all[1, ]] & asked[all[2, ]], drop = FALSE]
}

pair_keys <- function(pairs) paste(pairs[1, ], pairs[2, ])

interaction_rows <- function(
    model, class, form, predictor, other, interaction, std_error, lower, upper, share,
    p_value = NA_real_) {
  data.frame(
    model = model$name, class = class, form = form, predictor = predictor, other = other,
    interaction = interaction, std_error = std_error, lower = lower, upper = upper,
    share = share, p_value = p_value, row.names = NULL
  )
}

# The units asked for, or the 8 whose averaged curves vary most.
strongest_units <- function(st, model, units, rows, settings, most = 8) {
  if (!is.null(settings$predictors)) {
    return(units[vapply(units, function(u) any(u %in% settings$predictors), NA)])
  }
  if (length(units) <= most) return(units)
  some <- rows[
    unique(round(seq(1, nrow(rows), length.out = min(200, nrow(rows))))), , drop = FALSE
  ]
  varies <- vapply(
    names(units),
    function(u) {
      effects <- effects_at_rows(st, model, some, units[u], settings)
      sum(apply(effects[[1]]$mean, 2, stats::var))
    },
    0
  )
  units[sort(order(-varies)[seq_len(most)])]
}

# Averaged effects of units set to the values of every row in turn. -> per unit list(mean: points x
# classes, cube: per class rows x points)
effects_at_rows <- function(st, model, rows, units, settings, cube = FALSE) {
  n <- nrow(rows)
  classes <- if (is.null(settings$classes)) 1L else settings$classes
  context <- open_shuffle(st, model, rows)
  design <- shared_design(matrix(seq_len(n), n, n, byrow = TRUE))
  out <- lapply(units, function(u) {
    list(
      mean = matrix(0, n, length(classes)),
      cube = if (cube) lapply(classes, function(k) matrix(0, n, n))
    )
  })
  visit <- function(piece) {
    p <- array(
      piece$p,
      c(length(piece$rows), length(piece$repeats), length(piece$units), ncol(piece$p))
    )
    for (u in seq_along(piece$units)) {
      for (k in seq_along(classes)) {
        y <- matrix(p[, , u, classes[k]], length(piece$rows))
        at <- piece$units[u]
        out[[at]]$mean[piece$repeats, k] <<- out[[at]]$mean[piece$repeats, k] + colSums(y) / n
        if (cube) out[[at]]$cube[[k]][piece$rows, piece$repeats] <<- y
      }
    }
  }
  shuffle_pieces(context, units, design, visit)
  out
}
