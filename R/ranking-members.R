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
        row.names = NULL
      )
    })
  )
}
