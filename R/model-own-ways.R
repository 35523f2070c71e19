# How models with a formula and a predict() of their own are asked, by class.
#
#   package       where its predict() lives
#   task          function(own) -> task and classes; refuses what predicts no target
#   predict       function(own, data) -> numbers, or a matrix of probabilities by class
#   levels function(own) -> levels of its factors, where the model keeps them elsewhere than in
#                 `xlevels`
#   coefficients  function(own) -> its terms, where they add up
#   forest        function(own, inputs) -> its trees, where they can be read
#   treeless      why its trees are not read

own_ways <- function() {
  discriminant <- list(
    package = "MASS",
    task = function(own) list(task = "classification", classes = own$lev),
    predict = function(own, data) stats::predict(own, data)$posterior
  )
  list(
    lda = discriminant,
    qda = discriminant,
    nnet.formula = list(package = "nnet", task = task_of_net, predict = predict_net),
    svm.formula = list(package = "e1071", task = task_of_machine, predict = predict_machine),
    ksvm = list(package = "kernlab", task = task_of_kernel, predict = predict_kernel),
    earth = list(
      package = "earth", task = task_of_hinges, predict = predict_hinges,
      coefficients = hinge_terms
    ),
    constparty = list(
      package = "partykit", task = task_of_party, predict = predict_party,
      levels = levels_of_party, forest = conditional_tree
    ),
    cforest = list(
      package = "partykit", task = task_of_party, predict = predict_party,
      levels = levels_of_party, treeless = "its prediction is no mean over trees"
    )
  )
}

own_call <- function(own) {
  if (isS4(own)) return(NULL)
  if (is.null(own$call)) own$info$call else own$call
}

own_levels <- function(model) {
  own <- model$model
  if (!is.null(model$way$levels)) return(model$way$levels(own))
  if (!isS4(own)) own$xlevels
}

regression_task <- list(task = "regression", classes = NULL)

shares_by_class <- function(p, classes) {
  matrix(p, ncol = length(classes), dimnames = list(NULL, classes))
}

# --- nnet ---------------------------------------------------------------------------------------

task_of_net <- function(own) {
  if (!is.null(own$lev)) return(list(task = "classification", classes = own$lev))
  if (own$n[3] != 1) {
    stop_model(
      "Neural networks of several targets are not supported.", todo = "Fit one per target."
    )
  }
  regression_task
}

predict_net <- function(own, data) {
  out <- stats::predict(own, data, type = "raw")
  if (is.null(own$lev)) return(as.double(out))
  if (length(own$lev) == 2) out <- cbind(1 - out[, 1], out[, 1])
  shares_by_class(out, own$lev)
}

# --- support vector machines --------------------------------------------------------------------

task_of_machine <- function(own) {
  if (own$type >= 3) return(regression_task)
  if (own$type == 2) refuse_outliers()
  if (!isTRUE(own$compprob)) refuse_bare_machine("probability = TRUE")
  list(task = "classification", classes = own$levels)
}

refuse_outliers <- function() {
  stop_model(
    "Machines that look for outliers (one-classification) predict no target.",
    todo = "Leave it out."
  )
}

refuse_bare_machine <- function(how) {
  stop_model(
    "The support vector machine was fitted without probabilities.",
    todo = paste0("Fit it with `", how, "`.")
  )
}

predict_machine <- function(own, data) {
  if (own$type >= 3) return(as.double(stats::predict(own, data)))
  p <- attr(stats::predict(own, data, probability = TRUE), "probabilities")
  shares_by_class(p[, own$levels], own$levels)
}

task_of_kernel <- function(own) {
  type <- kernlab::type(own)
  if (endsWith(type, "svr") || type == "eps-bsvr") return(regression_task)
  if (type == "one-svc") refuse_outliers()
  if (!length(attr(own, "prob.model")[[1]])) refuse_bare_machine("prob.model = TRUE")
  list(task = "classification", classes = kernlab::lev(own))
}

predict_kernel <- function(own, data) {
  classes <- task_of_kernel(own)$classes
  if (is.null(classes)) return(as.double(kernlab::predict(own, data)))
  shares_by_class(kernlab::predict(own, data, type = "probabilities")[, classes], classes)
}

# --- adaptive regression splines ----------------------------------------------------------------

task_of_hinges <- function(own) {
  family <- own$glm.list[[1]]$family$family
  if (NCOL(own$coefficients) != 1) {
    stop_model(
      "Splines of several targets or classes (earth) are not supported.",
      todo = "Fit one for each, or give `study(predict_with = )` a function that predicts."
    )
  }
  if (isTRUE(family %in% c("binomial", "quasibinomial"))) {
    classes <- if (is.null(own$levels)) c("0", "1") else own$levels
    return(list(task = "classification", classes = classes))
  }
  if (!is.null(own$levels)) {
    stop_model(
      "The splines (earth) predict a class by a regression, which gives no probabilities.",
      todo = "Fit them with `glm = list(family = binomial)`."
    )
  }
  regression_task
}

predict_hinges <- function(own, data) {
  p <- as.double(stats::predict(own, data, type = "response"))
  classes <- task_of_hinges(own)$classes
  if (is.null(classes)) p else shares_by_class(c(1 - p, p), classes)
}

# A term is a product of hinges; those of the same predictors are one term here.
hinge_terms <- function(own) {
  if (is.null(own$modvars) || !is.null(attr(own$terms, "offset"))) return(NULL)
  dirs <- own$dirs[own$selected.terms, , drop = FALSE]
  uses <- (dirs != 0) %*% t(own$modvars != 0) > 0
  groups <- lapply(seq_len(nrow(uses)), function(i) colnames(uses)[uses[i, ]])
  groups <- lapply(groups, function(g) {
    unique(unlist(lapply(g, function(l) all.vars(str2lang(l)))))
  })
  name <- vapply(groups, paste, "", collapse = ":")
  labels <- setdiff(unique(name), "")
  family <- own$glm.list[[1]]$family
  if (is.null(family)) family <- stats::gaussian()
  back <- back_transform(own$terms)
  inside <- family$linkinv
  list(
    beta = if (is.null(own$glm.list)) {
      own$coefficients[, 1]
    } else {
      own$glm.coefficients[, 1]
    },
    term = match(name, labels, nomatch = 0L),
    columns = stats::setNames(groups[match(labels, name)], labels),
    design = function(data) stats::model.matrix(own, x = data),
    invlink = if (is.null(back$says)) inside else function(eta) back$inverse(inside(eta)),
    link = if (is.null(back$says)) family$link else back$says
  )
}

# --- conditional trees and forests --------------------------------------------------------------

task_of_party <- function(own) {
  response <- own$fitted[["(response)"]]
  if (is.factor(response)) return(list(task = "classification", classes = levels(response)))
  if (is.numeric(response) && is.null(dim(response))) return(regression_task)
  stop_model(
    "Conditional trees of several targets or of survival times are not supported.",
    todo = "Give `study(predict_with = )` a function that predicts."
  )
}

predict_party <- function(own, data) {
  classes <- task_of_party(own)$classes
  if (is.null(classes)) {
    return(as.double(stats::predict(own, newdata = data, type = "response")))
  }
  shares_by_class(stats::predict(own, newdata = data, type = "prob")[, classes], classes)
}

levels_of_party <- function(own) {
  lapply(Filter(is.factor, as.list(own$data)), levels)
}

# A conditional tree, one node after another. A forest is none here: its prediction is a mean over
# the training rows of all leaves together, not over trees.
conditional_tree <- function(own, inputs) {
  ids <- partykit::nodeids(own)
  nodes <- partykit::nodeapply(own, ids, function(node) node)
  leaf <- vapply(nodes, partykit::is.terminal, NA)
  value <- predict_nodes(own, ids[leaf])
  n <- length(ids)
  full <- matrix(0, ncol(value), n)
  full[, leaf] <- t(value)
  kids <- lapply(nodes, function(node) {
    vapply(partykit::kids_node(node), partykit::id_node, 0L)
  })
  if (any(lengths(kids)[!leaf] != 2)) return(NULL)
  asks <- lapply(nodes[!leaf], function(node) conditional_split(own, node, inputs))
  if (any(vapply(asks, is.null, NA))) return(NULL)
  place <- function(k) {
    out <- integer(n)
    out[!leaf] <- match(vapply(kids[!leaf], `[`, 0L, k), ids) - 1L
    out
  }
  ask <- function(name, rest) {
    replace(rep(rest, n), which(!leaf), vapply(asks, `[[`, rest, name))
  }
  sides <- vector("list", n)
  sides[!leaf] <- lapply(asks, `[[`, "side")
  size <- lengths(sides)
  tree <- list(
    column = ask("column", -1L),
    threshold = ask("threshold", 0),
    left = place(1L),
    right = place(2L),
    missing = place(2L),
    value = full,
    set_from = ifelse(size > 0, cumsum(c(0, size))[seq_along(size)], -1),
    set_size = size,
    set_side = as.integer(unlist(sides))
  )
  turned <- ask("turned", FALSE)
  tree[c("left", "right")] <- list(
    ifelse(turned, tree$right, tree$left), ifelse(turned, tree$left, tree$right)
  )
  join_trees(list(tree), 1, inputs$predictors, levels = inputs$levels)
}

predict_nodes <- function(own, ids) {
  type <- if (is.null(task_of_party(own)$classes)) "response" else "prob"
  as.matrix(partykit::predict_party(own, id = ids, type = type))
}

# The question of a node: column, threshold or sides of the levels, and whether its first child is
# on the right. NULL: of a kind that is not read.
conditional_split <- function(own, node, inputs) {
  split <- partykit::split_node(node)
  name <- names(own$data)[partykit::varid_split(split)]
  column <- match(name, inputs$predictors)
  breaks <- partykit::breaks_split(split)
  index <- partykit::index_split(split)
  known <- inputs$levels[[name]]
  out <- list(column = column - 1L, threshold = 0, side = NULL, turned = FALSE)
  if (is.na(column) || length(partykit::surrogates_node(node))) return(NULL)
  if (is.null(breaks)) {
    if (length(index) != length(known)) return(NULL)
    out$side <- c(-1L, 1L)[index]
    out$side[is.na(out$side)] <- 0L
    return(out)
  }
  if (length(breaks) != 1) return(NULL)
  out$turned <- identical(as.integer(index), 2:1)
  if (!is.null(known)) {
    below <- if (partykit::right_split(split)) {
      seq_along(known) <= breaks
    } else {
      seq_along(known) < breaks
    }
    out$side <- ifelse(below, -1L, 1L)
  } else {
    out$threshold <- if (partykit::right_split(split)) breaks else just_below(breaks)
  }
  out
}
