#' Find redundant predictors
#'
#' Measures how closely predictors go together, whatever their types, gathers those that do into
#' clusters of twins, and says of each predictor how well the others replace it.
#'
#' @param study A [study()] with training rows; or a data frame of predictors.
#' @param ... Must be empty.
#' @param predictors Their names. Default: all of the study's models.
#' @param ranking A [ranking] of the study: then a cluster is represented by one of its most
#'   important members. Default: none.
#' @param threshold Mean association from which predictors are twins, between 0 and 1.
#' @param replaceability TRUE: also how well all the others together replace each predictor. Needs
#'   ranger.
#' @param seed A whole number.
#' @return A list of class `dreher_twins`: \describe{ \item{table}{a data frame, one row per
#'   predictor: `predictor`; `cluster` (a number, `NA` for those without twins); `representative`
#'   (does it stand for its cluster?); `why`; `nearest` and `association`, the predictor it goes
#'   with most; `replaceable`, the share of it that the others explain, out of bag (0 to 1; `NA`
#'   when not asked for)} \item{clusters}{one row per cluster: `cluster`, `members`,
#'   `representative`, `lowest` and `mean` association inside} \item{tells}{how far the
#'   representatives of a cluster predict the others, and these them: `predictor`, `other`,
#'   `tells` (share of the variance of the other's ranks, or for factors of its squared error,
#'   along a line or by bins or levels on rows left out). From 0.7 on one can replace the other}
#'   \item{association}{the matrix} }
#' @details Association of two numbers: Spearman's rank correlation without sign, corrected for
#'   chance; of a number and a factor: the rank correlation ratio; of two factors: Cramer's V,
#'   corrected; each from 0 to 1, on the rows that have both
#'   values. Clusters: average linkage on 1 less the association (Sokal and Michener 1958), cut at
#'   `threshold`.
#'   Replaceability: the out-of-bag R squared of a forest of 100 trees that predicts the predictor
#'   from all others; for factors the share of the entropy that is explained (McFadden 1974).
#'   Representative: members whose importance is not distinguished from the highest, given their
#'   errors; of
#'   these the one that goes best with the rest (medoid); ties go to fewer missing values, then
#'   lower cost, higher importance, and the first column; one that predicts more of its twins,
#'   this one among them, takes its place. Without a ranking all members count as equally
#'   important.
#' @section Reading the result: Important and replaceable is no contradiction: the information is
#'   needed, this column is not. A cluster's own importance is that of its members shuffled
#'   together, `rank_permutation(groups = )`.
#' @section Errors: No training rows; predictors that are not in the data.
#' @references Sokal, R. and Michener, C. (1958). A statistical method for evaluating systematic
#'   relationships. Dormann, C. et al. (2013). \doi{10.1111/j.1600-0587.2012.07348.x}.
#'   McFadden, D. (1974). Conditional logit analysis of qualitative choice behavior.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' find_twins(kiln$train[c("pyro_left", "pyro_right", "hold_minutes", "operator")])
#' @export
find_twins <- function(
    study, ..., predictors = NULL, ranking = NULL, threshold = 0.7,
    replaceability = FALSE, seed = 1) {
  check_no_dots(..., .verb = "find_twins")
  threshold <- check_fraction(threshold, "threshold")
  check_flag(replaceability, "replaceability")
  seed <- check_seed(seed)
  if (is.data.frame(study)) {
    data <- check_rows(study, "study")
    st <- NULL
  } else {
    check_class(study, "dreher_study", "study", "study()")
    st <- study
    data <- need_train(st, "Finding twins")
  }
  if (is.null(predictors)) predictors <- if (is.null(st)) names(data) else st$predictors
  check_names(predictors, "predictors")
  check_columns(data, predictors, "predictors", "The predictor")
  if (nrow(data) < 3) {
    stop_input(
      paste0("Twins are told from 3 rows or more; there are ", nrow(data), "."),
      todo = "Give more training rows."
    )
  }
  a <- associate_all(data[predictors])
  cluster <- cluster_alike(a, threshold)
  known <- known_of_twins(st, data, predictors, ranking)
  members <- split(predictors, cluster)
  first <- lapply(
    members, represent, a = a, worth = known$worth, error = known$error,
    missing = known$missing, cost = known$cost, keep = known$keep
  )
  found <- prefer_telling(data, members, first, threshold)
  again <- function(left) {
    represent(left, a, known$worth, known$error, known$missing, known$cost, known$keep)
  }
  stand <- Map(
    function(own, one) who_stays(data, own, one, again, threshold, known$keep),
    members, found$first
  )
  tells <- rbind(found$tells, told_by_chosen(data, members, lapply(stand, `[[`, "chosen")))
  tells <- tells[!duplicated(tells[c("predictor", "other")]), ]
  replaceable <- if (replaceability) {
    vapply(predictors, how_replaceable, 0, data = data[predictors], seed = seed)
  } else {
    NA_real_
  }
  table <- twins_table(predictors, cluster, stand, a, known$keep, replaceable)
  validate_twins(new_twins(list(
    table = table,
    clusters = clusters_table(table, a),
    tells = tells,
    association = a,
    threshold = threshold,
    n = nrow(data),
    labels = if (is.null(st)) {
      stats::setNames(nm = predictors)
    } else {
      labels_of(st, predictors)
    },
    level = 0.95,
    seed = seed
  )))
}

# What decides who stays: importance and its error, gaps, cost, and what is to be kept.
known_of_twins <- function(st, data, predictors, ranking) {
  worth <- error <- stats::setNames(rep(0, length(predictors)), predictors)
  if (!is.null(ranking)) {
    check_class(ranking, "dreher_ranking", "ranking", "rank_predictors()")
    rk <- main_rows_of(ranking)
    ranked <- intersect(predictors, rk$predictor)
    worth[ranked] <- rk$importance[match(ranked, rk$predictor)]
    error[ranked] <- rk$std_error[match(ranked, rk$predictor)]
  }
  d <- st$dictionary
  cost <- if (is.null(st)) NA_real_ else d$cost[match(predictors, d$predictor)]
  list(
    worth = worth,
    error = error,
    missing = vapply(data[predictors], function(x) mean(is.na(x)), 0),
    cost = stats::setNames(rep_len(cost, length(predictors)), predictors),
    keep = if (is.null(st)) {
      character()
    } else {
      intersect(predictors, d$predictor[d$use == "keep"])
    }
  )
}

# A member as important as the one chosen takes its place where it tells more of the others, the
# chosen one among them. first: per cluster, what represent() found -> list(first, tells)
prefer_telling <- function(data, members, first, threshold) {
  chosen <- lapply(first, `[[`, "chosen")
  tells <- told_by_chosen(data, members, chosen)
  others <- Map(
    function(own, one) {
      if (length(one$chosen) > 1 || one$why == "kept") return(character())
      told <- told_by(one$chosen, own, tells, threshold)
      telling <- setdiff(one$equal, c(one$chosen, told))
      telling[vapply(
          telling, function(m) one$chosen %in% told_by(m, one$chosen, tells, threshold), NA
        )]
    },
    members, first
  )
  if (!any(lengths(others))) return(list(first = first, tells = tells))
  more <- told_by_chosen(data, members, others)
  tells <- rbind(tells, more)
  tells <- tells[!duplicated(tells[c("predictor", "other")]), ]
  first <- Map(
    function(own, one, other) {
      many <- function(m) length(told_by(m, own, tells, threshold))
      best <- other[which.max(vapply(other, many, 1L))]
      if (!length(best) || many(best) <= many(one$chosen)) return(one)
      list(chosen = best, why = "predicts its twins", equal = one$equal)
    },
    members, first, others
  )
  list(first = first, tells = tells)
}

# Who stays must tell what goes. Of what the first one does not tell again one is chosen, until no
# one that stays is told by another: what is told goes, unless it is to be kept.
# first: list(chosen, why); again(left): the same of those that are left. -> list(chosen, why)
who_stays <- function(data, members, first, again, threshold, keep) {
  tells <- function(from, to) isTRUE(how_far_told(data[[from]], data[[to]]) >= threshold)
  untold <- function(left, from) {
    Filter(function(m) !any(vapply(from, tells, NA, m)), setdiff(left, from))
  }
  chosen <- first$chosen
  why <- rep(first$why, length(chosen))
  left <- untold(members, chosen)
  while (length(left)) {
    one <- again(left)$chosen[1]
    chosen <- c(chosen, one)
    why <- c(why, "not told by the other")
    left <- untold(left, one)
  }
  # those chosen later may tell an earlier one: the first stays, and of the others what is told goes
  for (m in rev(chosen[-1])) {
    others <- setdiff(chosen, m)
    if (m %in% keep || !any(vapply(others, tells, NA, m))) next
    why <- why[chosen != m]
    chosen <- others
  }
  list(chosen = chosen, why = why)
}

# One row per predictor. stand: per cluster who was chosen, and why; a: associations
twins_table <- function(predictors, cluster, stand, a, keep, replaceable) {
  twin <- cluster %in% names(which(table(cluster) > 1))
  diag(a) <- NA
  near <- if (length(predictors) > 1) {
    apply(a, 1, function(r) if (all(is.na(r))) NA else which.max(r))
  } else {
    NA
  }
  of <- stand[as.character(cluster)]
  why <- mapply(function(s, p) c(s$why[match(p, s$chosen)], "")[1], of, predictors)
  out <- data.frame(
    predictor = predictors,
    cluster = match(cluster, unique(cluster[twin])),
    representative = mapply(function(s, p) p %in% s$chosen, of, predictors) |
      predictors %in% keep,
    why = ifelse(twin, why, ""),
    nearest = predictors[near],
    association = a[cbind(seq_along(predictors), near)],
    replaceable = replaceable,
    row.names = NULL
  )
  out$why[!out$representative | is.na(out$why)] <- ""
  out
}

# One row per cluster of several.
clusters_table <- function(table, a) {
  numbers <- sort(unique(table$cluster[!is.na(table$cluster)]))
  empty <- data.frame(
    cluster = integer(), members = character(), representative = character(),
    lowest = double(), mean = double()
  )
  if (!length(numbers)) return(empty)
  do.call(rbind, lapply(numbers, function(g) {
    own <- table[which(table$cluster == g), ]
    inside <- a[own$predictor, own$predictor][upper.tri(diag(nrow(own)))]
    data.frame(
      cluster = g,
      members = paste(own$predictor, collapse = ", "),
      representative = paste(own$predictor[own$representative], collapse = ", "),
      lowest = min(inside),
      mean = mean(inside)
    )
  }))
}

new_twins <- function(fields) new_record(fields, "twins")

validate_twins <- function(x) {
  check_shape(x, c(table = "list", clusters = "list", threshold = "double"), "table of twins")
  columns <- c(
    predictor = "character", cluster = "integer", representative = "logical",
    why = "character", association = "double", replaceable = "double"
  )
  check_shape(x$table, columns, "table of twins")
  of <- x$table$cluster[x$table$representative]
  known <- unique(stats::na.omit(x$table$cluster))
  check_holds(all(known %in% of), "table of twins", "a cluster has no representative")
  x
}

# How far the predictors chosen from each cluster tell the others, and these them: a state tells
# whether it is a big one, but not the other way round. -> data frame predictor, other, tells (0
# to 1)
told_by_chosen <- function(data, clusters, chosen) {
  found <- Map(
    function(members, from) {
      if (length(members) < 2) return(NULL)
      pairs <- expand.grid(predictor = from, other = members, stringsAsFactors = FALSE)
      pairs <- rbind(pairs, data.frame(predictor = pairs$other, other = pairs$predictor))
      pairs <- unique(pairs[pairs$predictor != pairs$other, ])
      if (!nrow(pairs)) return(NULL)
      pairs$tells <- mapply(
        function(a, b) how_far_told(data[[a]], data[[b]]), pairs$predictor, pairs$other
      )
      pairs
    },
    clusters,
    chosen
  )
  out <- do.call(rbind, unname(found))
  if (is.null(out)) {
    return(data.frame(predictor = character(), other = character(), tells = double()))
  }
  rownames(out) <- NULL
  out
}

# The share of y (numbers: of the variance of its ranks; else of the squared error of the
# commonest shares) that x explains: along a line through ranks, or by means in 20 bins or per
# level of x, found on one half of the rows and judged on the other, both ways.
how_far_told <- function(x, y, bins = 20) {
  known <- !is.na(x) & !is.na(y)
  x <- x[known]
  y <- y[known]
  if (length(y) < 4 || length(unique(y)) < 2) return(NA_real_)
  numbers <- function(v) !is.null(as_ordered(v))
  Y <- if (numbers(y)) {
    matrix(rank(as_ordered(y)))
  } else {
    outer(as.character(y), unique(as.character(y)), "==") + 0
  }
  straight <- if (numbers(x) && numbers(y)) {
    suppressWarnings(stats::cor(rank(as_ordered(x)), Y[, 1]))^2
  } else {
    0
  }
  group <- if (numbers(x) && length(unique(x)) > bins) {
    findInterval(
      as_ordered(x),
      unique(stats::quantile(as_ordered(x), seq_len(bins - 1) / bins, names = FALSE))
    )
  } else {
    x
  }
  group <- as.character(group)
  half <- alternate(group)
  error <- whole <- 0
  for (inside in list(half, !half)) {
    means <- rowsum(Y[inside, , drop = FALSE], group[inside])
    means <- means / as.vector(table(group[inside])[rownames(means)])
    overall <- colMeans(Y[inside, , drop = FALSE])
    fitted <- means[match(group[!inside], rownames(means)), , drop = FALSE]
    fitted[is.na(fitted[, 1]), ] <- rep(overall, each = sum(is.na(fitted[, 1])))
    error <- error + sum((Y[!inside, , drop = FALSE] - fitted)^2)
    whole <- whole + sum(sweep(Y[!inside, , drop = FALSE], 2, overall)^2)
  }
  max(0, straight, if (whole > 0) 1 - error / whole, na.rm = TRUE)
}

# TRUE for one half of the rows: every other one of each value, these in an order that has no
# period, as tables often do (golden section).
alternate <- function(x) {
  place <- order(x, (seq_along(x) * (sqrt(5) - 1) / 2) %% 1, method = "radix")
  replace(logical(length(x)), place[seq_along(x) %% 2 == 0], TRUE)
}

# Which of `members` one of `from` tells well enough to take the place of: at least such a share
# of it.
told_by <- function(from, members, tells, threshold) {
  unique(
    tells$other[tells$predictor %in% from & tells$other %in% members &
        tells$tells >= threshold & !is.na(tells$tells)]
  )
}

# The rows of a ranking's first model and first method, over all classes.
main_rows_of <- function(ranking) {
  rk <- as_plain(ranking)
  rk <- rk[is.na(rk$class) & is.na(rk$slice) & is.na(rk$resample), ]
  rk[rk$model == rk$model[1] & rk$method == rk$method[1] & rk$rows == rk$rows[1], ]
}

# Numbers in one go; what has a factor in it pair by pair.
associate_all <- function(data) {
  p <- ncol(data)
  out <- diag(1, p)
  dimnames(out) <- list(names(data), names(data))
  ordered <- lapply(data, as_ordered)
  numbers <- which(!vapply(ordered, is.null, NA))
  if (length(numbers) > 1) {
    x <- vapply(
      ordered[numbers], function(v) rank(v, na.last = "keep"), double(nrow(data))
    )
    whole <- !anyNA(x)
    r <- suppressWarnings(abs(if (whole) {
      stats::cor(x)
    } else {
      stats::cor(x, use = "pairwise.complete.obs")
    }))
    n <- if (whole) nrow(x) else crossprod(!is.na(x))
    r <- sqrt(pmax(r^2 - (1 - r^2) / pmax(n - 2, 1), 0))
    r[is.na(r)] <- 0
    out[numbers, numbers] <- r
  }
  for (i in setdiff(seq_len(p), numbers)) {
    for (j in seq_len(p)) {
      if (i == j || (!j %in% numbers && j > i)) next
      both <- !is.na(data[[i]]) & !is.na(data[[j]])
      v <- if (sum(both) > 2) association(data[[i]][both], data[[j]][both])$value else 0
      out[i, j] <- out[j, i] <- if (is.na(v)) 0 else v
    }
  }
  diag(out) <- 1
  out
}

cluster_alike <- function(a, threshold) {
  if (nrow(a) < 2) return(rep(1L, nrow(a)))
  stats::cutree(
    stats::hclust(stats::as.dist(1 - a), method = "average"), h = 1 - threshold + 1e-9
  )
}

# Who stands for a cluster: those kept anyway; else by importance, closeness to the rest,
# completeness, cost. -> list(chosen, why, equal: members that are as important)
represent <- function(members, a, worth, error, missing, cost, keep) {
  if (any(members %in% keep)) {
    return(list(chosen = intersect(members, keep), why = "kept", equal = character()))
  }
  if (length(members) == 1) return(list(chosen = members, why = "", equal = members))
  top <- which.max(worth[members])
  reach <- stats::qnorm(0.975) * sqrt(error[members]^2 + error[members][top]^2)
  reach[is.na(reach)] <- 0
  equal <- members[worth[members] >= worth[members][top] - reach]
  centre <- vapply(equal, function(m) stats::median(a[m, setdiff(members, m)]), 0)
  price <- ifelse(is.na(cost[equal]), Inf, cost[equal])
  place <- order(-round(centre, 8), missing[equal], price, -worth[equal])
  chosen <- equal[place[1]]
  next_one <- equal[place[min(2, length(equal))]]
  why <- if (length(equal) == 1) {
    "more important than its twins"
  } else if (round(centre[[chosen]], 8) > min(round(centre, 8))) {
    "goes best with the rest"
  } else if (missing[[chosen]] < missing[[next_one]]) {
    "fewer missing values"
  } else if (is.finite(price[place[1]]) && price[place[1]] < price[place[2]]) {
    "costs less"
  } else if (worth[[chosen]] > worth[[next_one]]) {
    "somewhat more important"
  } else {
    "the first column"
  }
  list(chosen = chosen, why = why, equal = equal)
}

how_replaceable <- function(predictor, data, seed) {
  rlang::check_installed("ranger", "to see how well the others replace a predictor")
  known <- !is.na(data[[predictor]])
  y <- data[[predictor]][known]
  if (length(unique(y)) < 2 || ncol(data) < 2) return(NA_real_)
  x <- as.data.frame(lapply(
    data[known, setdiff(names(data), predictor), drop = FALSE],
    function(v) {
      if (is.character(v) || is.factor(v)) {
        text_factor(ifelse(is.na(v), "(missing)", as.character(v)))
      } else {
        v <- as.double(v)
        v[is.na(v)] <- stats::median(v, na.rm = TRUE)
        v
      }
    }
  ))
  if (is.character(y) || is.factor(y) || is.logical(y)) {
    y <- text_factor(as.character(y))
    p <- ranger::ranger(
      x = x,
      y = y,
      num.trees = 100,
      probability = TRUE,
      seed = piece_seed(seed, c("replace", predictor)),
      num.threads = 1
    )$predictions
    share <- table(y) / length(y)
    own <- p[cbind(seq_along(y), match(as.character(y), colnames(p)))]
    return(max(
      0, 1 - mean(-log(pmax(own, 1e-3)), na.rm = TRUE) / -sum(share * log(share))
    ))
  }
  y <- as.double(y)
  p <- ranger::ranger(
    x = x,
    y = y,
    num.trees = 100,
    seed = piece_seed(seed, c("replace", predictor)),
    num.threads = 1
  )$predictions
  max(0, 1 - mean((y - p)^2, na.rm = TRUE) / mean((y - mean(y))^2))
}

# Inside a training part: units, of which twins are represented. A family is a unit of its own and
# nobody's twin. -> list(stay, standing: representative -> the others)
thin_units <- function(st, plan, train, worth = NULL) {
  alone <- names(plan$units)[lengths(plan$units) == 1]
  single <- unlist(plan$units[alone], use.names = FALSE)
  free <- c(plan$keep, single)
  if (length(free) < 2) return(list(stay = names(plan$units), standing = NULL))
  value <- stats::setNames(rep(0, length(free)), free)
  if (!is.null(worth)) value[single] <- worth[alone]
  value[is.na(value)] <- 0
  a <- associate_all(train[free])
  cluster <- cluster_alike(a, 0.7)
  missing <- vapply(train[free], function(x) mean(is.na(x)), 0)
  standing <- list()
  clusters <- Filter(function(members) length(members) > 1, split(free, cluster))
  first <- lapply(clusters, function(members) {
    represent(members, a, value, value * 0, missing, plan$cost, plan$keep)
  })
  found <- prefer_telling(train, clusters, first, 0.7)
  again <- function(left) {
    represent(left, a, value, value * 0, missing, plan$cost, plan$keep)
  }
  # groups of one cluster's average may still hold members that another cluster's tells
  stay <- unlist(
    Map(
      function(members, one) who_stays(train, members, one, again, 0.7, plan$keep)$chosen,
      clusters,
      found$first
    ),
    use.names = FALSE
  )
  stay <- across_clusters(
    train, c(stay, setdiff(free, unlist(clusters))), a, plan$keep, value
  )
  gone <- setdiff(single, c(stay, plan$keep))
  for (one in setdiff(stay, plan$keep)) {
    # Who goes would do in the place of the one that stays where it tells that one too.
    near <- gone[a[one, gone] >= 0.7]
    each <- near[vapply(
        near,
        function(m) {
          isTRUE(how_far_told(train[[one]], train[[m]]) >= 0.7) &&
            isTRUE(how_far_told(train[[m]], train[[one]]) >= 0.7)
        },
        NA
      )]
    if (length(each)) standing[[one]] <- each
  }
  gone <- alone[match(gone, single)]
  standing <- standing[intersect(names(standing), single)]
  names(standing) <- alone[match(names(standing), single)]
  standing <- lapply(standing, function(m) alone[match(m, single)])
  list(stay = setdiff(names(plan$units), gone), standing = standing)
}

# Of those that stay, pairs that lie in two clusters and tell each other: the less important goes.
across_clusters <- function(data, stay, a, keep, worth) {
  for (m in stay[order(worth[stay])]) {
    near <- setdiff(stay[a[m, stay] >= 0.7], m)
    if (m %in% keep || !length(near)) next
    told <- vapply(near, function(o) {
      isTRUE(how_far_told(data[[o]], data[[m]]) >= 0.7) &&
        isTRUE(how_far_told(data[[m]], data[[o]]) >= 0.7)
    }, NA)
    if (any(told)) stay <- setdiff(stay, m)
  }
  stay
}

#' @export
as.data.frame.dreher_twins <- function(x, ...) x$table
