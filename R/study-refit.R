# Training a study's models again: on other rows, on fewer predictors.

# The training rows with factors on fixed levels, so that parts of them keep all levels.
training_frame <- function(st, model) frame_of(st, model, st$train, "train")

frame_of <- function(st, model, data, arg) {
  rows <- model_rows(st, model, data, arg)[model$inputs$predictors]
  also <- intersect(c(st$target, st$weights, st$blocks), names(data))
  rows[also] <- data[also]
  rows
}

fit_on <- function(st, model, train, predictors, seed, key) {
  data <- train[c(st$target, predictors)]
  own <- st$refit_with[[model$name]]
  tryCatch(
    if (is.null(own)) {
      refit_model(
        model$object,
        data,
        st$target,
        predictors,
        seed = piece_seed(seed, key),
        threads = st$threads
      )
    } else {
      read_refit(
        model,
        with_stream(
          seed, c("fit", key), call_user(own, users_object(model$object), data, predictors)
        ),
        data[predictors]
      )
    },
    error = function(e) {
      pass_interrupt(e)
      # A factor of which these rows hold one level tells nothing of them, and some learners
      # refuse it.
      single <- Filter(
        function(p) {
          (is.factor(data[[p]]) || is.character(data[[p]])) &&
            length(unique(stats::na.omit(as.character(data[[p]])))) < 2
        },
        predictors
      )
      if (length(single) && length(single) < length(predictors)) {
        return(fit_on(st, model, train, setdiff(predictors, single), seed, key))
      }
      if (inherits(e, "dreher_error")) stop(e)
      stop_model(
        paste0(
          "Model \"", model$name, "\" could not be trained again on ", length(predictors),
          " predictors (", paste(key, collapse = ", "), ")."
        ),
        todo = "Give `study(refit_with = )` a function that fits the model.",
        parent = e
      )
    }
  )
}

# Can they be trained again at all? Asked of few rows before any work begins: a model that refuses
# would do so after it.
check_can_refit <- function(st, models) {
  for (model in models) {
    if (!is.null(st$refit_with[[model$name]])) next
    few <- few_rows(training_frame(st, model), 200)$rows
    tryCatch(
      suppressMessages(suppressWarnings(
        fit_on(st, model, few, model$inputs$predictors, 1, "can it be trained again")
      )),
      error = function(e) {
        pass_interrupt(e)
        # one that only fails on so few rows has a cause of its own
        if (inherits(e, "dreher_error_model") && is.null(e$parent)) stop(e)
      }
    )
  }
}

# What the user's function returned, as the readers take it: a workflow, a model on encoded
# columns, or a model as it is.
read_refit <- function(model, fit, rows) {
  if (!model$own_reader) return(fit)
  encode <- if (inherits(model$object, "dreher_encoded") &&
      is.null(model$object$wrapper)) {
    fill <- model$object$fill
    function(data) {
      model$object$encode(fill_columns(data, fill)[union(names(fill), names(data))])
    }
  }
  if (!is.null(encode) && takes_rows_as_they_are(fit, model, encode, rows)) encode <- NULL
  readable_model(fit, model$name, encode, rows, names(rows))
}

# A function may fit the user's own columns, where the model before was on encoded ones: then the
# fit needs columns that the rows have and the encoder does not make.
takes_rows_as_they_are <- function(fit, model, encode, rows) {
  needs <- model_inputs(as_readable(fit, model$name), rows)$predictors
  made <- names(run_encoder(encode, rows[1, , drop = FALSE], model$name))
  !is.null(needs) && !all(needs %in% made) && all(needs %in% names(rows))
}

# Does the user's function fail on these rows? The message, if so.
fit_fails_on <- function(model, fit, data) {
  tryCatch(
    {
      call_user(model$predict, fit, data)
      NULL
    },
    error = conditionMessage
  )
}

# A whole number for libraries that take a seed of their own.
piece_seed <- function(seed, key) {
  with_stream(seed, c("fit", key), sample.int(.Machine$integer.max - 1L, 1))
}

# The study of a model that was trained again on `train`, questioned on `data`. Nobody reads the
# flags. predictors: for models that do not name their own. compare: are its trees, as they were
# read, to be held against what the model predicts?
inside_study <- function(
    st, model, fit, train, data, predictors = st$asked, compare = TRUE) {
  # blocks and slices that these training rows lack are no levels of a predictor
  if (model$own_reader) {
    inputs <- model_inputs(fit, train)
    data <- put_to_usual(data, train, inputs$levels, inputs$predictors)$rows
  } else if (length(fit_fails_on(model, fit, data))) {
    columns <- setdiff(names(train), c(st$target, st$weights, st$blocks))
    data <- put_to_usual(data, train, columns = columns)$rows
  }
  inside <- derive_study(
    st,
    train = train,
    data = data,
    seen = FALSE,
    asked = predictors,
    notes = FALSE,
    flags = no_flags(st$predictors, model$name)
  )
  opened <- open_model(
    inside, model$name, fit, if (!model$own_reader) model$predict,
    again = TRUE, compare = compare
  )
  derive_study(inside, models = stats::setNames(list(opened), model$name))
}

# What a path trains on all rows of a part is what its sets are scored with: trained once. `fits`
# holds what is yet to be scored, as long as it is not large. key: that of the part
share_fits <- function(key) list2env(list(key = key, fits = list(), bytes = 0))

most_bytes_of_fits <- 2^28

fit_shared <- function(fits, st, model, train, predictors, seed, keep = FALSE) {
  name <- fingerprint(list(model$name, predictors))
  fit <- fits$fits[[name]]
  if (!is.null(fit)) {
    if (!keep) fits$fits[[name]] <- NULL
    return(fit)
  }
  fit <- fit_on(st, model, train, predictors, seed, fits$key)
  if (keep) {
    fits$bytes <- fits$bytes + as.double(utils::object.size(fit))
    if (fits$bytes <= most_bytes_of_fits) fits$fits[[name]] <- fit
  }
  fit
}

# Predictions of `test` by a model trained again on `train` and these predictors; without any, the
# constant. A metric of the order of rows alone has one constant for all: those of several training
# parts, taken together, would order the rows by their parts. fits: of a path on the same rows
predict_set <- function(st, model, train, test, predictors, seed, key, fits = NULL) {
  if (!length(predictors)) {
    return(predict_constant(st, nrow(test), if (judges_order(st$metric)) st$train else train))
  }
  fit <- if (is.null(fits)) {
    fit_on(st, model, train, predictors, seed, key)
  } else {
    fit_shared(fits, st, model, train, predictors, seed)
  }
  with_usual_levels(test, train, function(rows) predict_fit(st, model, fit, rows, predictors))
}

predict_fit <- function(st, model, fit, test, predictors) {
  rows <- test[predictors]
  p <- tryCatch(call_user(model$predict, fit, rows), error = function(e) {
    stop_model(
      paste0(
        "Model \"", model$name, "\", trained again on ", length(predictors),
        " predictors, cannot predict the held-out rows."
      ),
      conditionMessage(e),
      "A level or a value may be there that no training row has: merge or drop it."
    )
  })
  if (is.matrix(p) && !is.null(model$classes)) colnames(p) <- model$classes
  check_predictions(p, rows, st, model$name)
}
