# Models trained on a transformed target: what they predict is brought back, and they are trained
# again on the transformed target. Their trees and coefficients are of another quantity than the
# study's target and are not read: what needs them is refused, the rest asks for predictions.
#
# way  list(says: as the user wrote it; forward: from the target to what the model was trained on;
#      inverse: back)

transform_names <- c("log", "log2", "log10", "log1p", "sqrt", "logit")

known_way <- function(name) {
  list(
    says = name,
    forward = switch(
      name,
      log = log, log2 = log2, log10 = log10, log1p = log1p, sqrt = sqrt, logit = stats::qlogis
    ),
    inverse = if (name == "logit") {
      stats::plogis
    } else {
      inverse_steps(call(name, as.name("y")))[[1]]
    }
  )
}

# `target_transform` as given: for all models, or a list by their names. -> ways by model
read_ways <- function(given, models) {
  if (is.null(given)) return(list())
  pair <- is.list(given) && setequal(names(given), c("forward", "inverse"))
  by_model <- is.list(given) && !pair && length(given) && !is.null(names(given)) &&
    all(names(given) %in% models)
  if (by_model) return(lapply(given, one_way))
  stats::setNames(rep(list(one_way(given)), length(models)), models)
}

one_way <- function(given) {
  if (is.character(given) && length(given) == 1 && given %in% transform_names) {
    return(known_way(given))
  }
  both <- is.list(given) && setequal(names(given), c("forward", "inverse")) &&
    all(vapply(given, is.function, NA))
  if (!both) {
    stop_input(
      paste0(
        "`target_transform` must be one of ", quote_some(transform_names, 6),
        ", or a list of two functions, `forward` and `inverse`; or a list of these by model."
      ),
      paste0("Given: ", describe_value(given), ".")
    )
  }
  c(list(says = "a transformed target"), given)
}

# Does the way lead to numbers and back, on this target?
check_way <- function(way, y, target, name) {
  there <- suppressWarnings(call_user(way$forward, y))
  bad <- which(!is.finite(there))
  if (length(bad)) {
    stop_input(
      paste0(
        "`target_transform` of model \"", name, "\" gives no number for the target \"",
        target, "\" of row ", bad[1], "."
      ),
      paste0("The target there is ", format(y[bad[1]]), ".")
    )
  }
  back <- suppressWarnings(call_user(way$inverse, there))
  if (!isTRUE(all.equal(as.double(back), as.double(y), tolerance = 1e-6))) {
    stop_input(paste0(
      "`inverse` of `target_transform` of model \"", name,
      "\" does not undo its `forward`."
    ))
  }
}

new_transformed <- function(object, way) {
  structure(list(model = object, way = way), class = "dreher_transformed")
}

# What a formula says of the target, as a way; NULL where it is the target itself. Linear models
# bring it back themselves.
way_of_formula <- function(object) {
  left <- changed_target(object)
  if (is.null(left)) return(NULL)
  steps <- inverse_steps(left)
  name <- all.vars(left)
  if (is.null(steps) || length(name) != 1) return(NULL)
  list(
    says = deparse1(left),
    forward = function(y) eval(left, stats::setNames(list(y), name), baseenv()),
    inverse = function(p) Reduce(function(p, step) step(p), steps, p)
  )
}

#' @export
model_task.dreher_transformed <- function(model, ...) model_task(model$model)

#' @export
model_inputs.dreher_transformed <- function(model, train = NULL, ...) {
  model_inputs(model$model, train, ...)
}

#' @export
model_predictions.dreher_transformed <- function(model, data, ...) {
  call_user(
    model$way$inverse, as.double(as.matrix(model_predictions(model$model, data, ...)))
  )
}

#' @export
refit_model.dreher_transformed <- function(
    model, data, target, predictors, seed = 1, threads = 1, ...) {
  data[[target]] <- call_user(model$way$forward, data[[target]])
  new_transformed(
    refit_model(model$model, data, target, predictors, seed = seed, threads = threads, ...),
    model$way
  )
}

#' @export
widen_model.dreher_transformed <- function(
    model, columns, copy_of = NULL, scale = TRUE, ...) {
  new_transformed(widen_model(model$model, columns, copy_of, scale, ...), model$way)
}

# --- predictions on another scale --------------------------------------------------------------

# A model of numbers that predicts far worse than the constant, and a transformed target well, was
# trained on that: its scores and importances would be of nothing. p: its predictions of the rows.
check_scale <- function(st, model, p) {
  if (st$task != "regression" || nrow(st$data) < 10) return(invisible())
  y <- st$data[[st$target]]
  from <- if (is.null(st$train)) y else st$train[[st$target]]
  spread <- mean((y - mean(y))^2)
  if (mean((y - p)^2) <= 1.5 * spread) return(invisible())
  scaled <- list(scaled = (y - mean(from)) / stats::sd(from))
  tried <- c(
    lapply(stats::setNames(nm = transform_names), function(name) {
      suppressWarnings(known_way(name)$forward(y))
    }),
    scaled
  )
  fit <- vapply(
    tried,
    function(t) {
      if (any(!is.finite(t)) || stats::var(t) == 0) return(-Inf)
      1 - mean((t - p)^2) / mean((t - mean(t))^2)
    },
    0
  )
  best <- names(which.max(fit))
  if (fit[[best]] < 0.2) return(invisible())
  stop_model(
    paste0(
      "Model \"", model$name, "\" does not predict \"", st$target, "\" but ",
      if (best == "scaled") {
        "it scaled to mean 0 and standard deviation 1"
      } else {
        paste0(best, "(", st$target, ")")
      },
      ": it explains ", round(100 * fit[[best]]),
      " % of that, and misses the target itself by more than a constant does."
    ),
    todo = paste0(
      "Say so: study(target_transform = ",
      if (best == "scaled") "list(forward = , inverse = )" else paste0("\"", best, "\""),
      "); predictions are brought back. Or make the transformed target a column, and ",
      "the study's target."
    )
  )
}
