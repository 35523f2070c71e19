# Units of several predictors, and their members.

# Predictors that were shuffled together, each alone: their sum against the joint value, paired
# row by row. Squared errors add up over predictors that act side by side; roots and ratios never
# do, so both are taken in squared errors.
compare_members <- function(context, info, units, design, seed) {
  several <- units[lengths(units) > 1]
  metric <- additive_metric(context$st$metric)
  members <- unique(unlist(several))
  estimates <- estimate_units(
    context,
    info,
    c(several, stats::setNames(as.list(members), paste("member", members))),
    design,
    metric,
    "difference",
    0.95,
    seed
  )
  do.call(
    rbind,
    lapply(names(several), function(u) {
      of <- estimates[paste("member", several[[u]])]
      joint <- estimates[[u]]
      each <- vapply(of, `[[`, 0, "importance")
      beyond <- joint$importance - sum(each)
      apart <- if (is.null(joint$units)) {
        NA_real_
      } else {
        influence_error(
          joint$units - rowSums(do.call(cbind, lapply(of, `[[`, "units"))), info$block
        )$std_error
      }
      data.frame(
        model = context$model$name,
        group = u,
        member = several[[u]],
        importance = unname(each),
        std_error = vapply(of, `[[`, 0, "std_error"),
        joint = joint$importance,
        sum = sum(each),
        beyond = beyond,
        beyond_error = apart,
        measures = metric$label,
        additive = isTRUE(metric$additive),
        interplay = interplay_of(context, several[[u]]),
        row.names = NULL
      )
    })
  )
}

# Do the members act together in the model itself? The share of the change of the prediction by
# all of them at once that is not the sum of the changes by each: 0 for a model that adds them up,
# on its own scale or on that of its link, whatever the members' correlation.
interplay_of <- function(context, members, most = 300) {
  rows <- few_rows(context$rows, most)$rows
  n <- nrow(rows)
  from <- c(seq_len(n)[-seq_len(n %/% 3)], seq_len(n %/% 3))
  changed <- function(columns) {
    out <- rows
    out[columns] <- rows[from, columns, drop = FALSE]
    predict_aligned(context$st, context$model, out)
  }
  base <- predict_aligned(context$st, context$model, rows)
  joint <- changed(members)
  each <- lapply(members, changed)
  scales <- list(identity)
  all <- c(base, joint, unlist(each))
  if (context$st$task == "classification") {
    scales <- c(scales, function(p) log(pmax(p, 1e-9)) - log(pmax(1 - p, 1e-9)))
  }
  if (all(all > 0)) scales <- c(scales, log)
  min(vapply(scales, function(f) {
    whole <- f(joint) - f(base)
    sum <- Reduce(`+`, lapply(each, function(p) f(p) - f(base)))
    if (sum(whole^2) > 0) sum((whole - sum)^2) / sum(whole^2) else 0
  }, 0))
}
