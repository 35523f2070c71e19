# A second, independent reading of model files: slow, in plain R, from the libraries' published
# layouts. It gives the predictions of a file's trees, and shares no code with the package.

# ---- UBJSON ----

read_ubjson <- function(bytes) {
  at <- 1
  take <- function(n) {
    if (n < 0 || at + n - 1 > length(bytes)) stop("cut short")
    part <- bytes[seq_len(n) + at - 1]
    at <<- at + n
    part
  }
  number <- function(type) {
    signed <- function(size) readBin(take(size), "integer", 1, size, endian = "big")
    switch(
      type,
      i = signed(1), U = as.integer(take(1)), I = signed(2), l = signed(4),
      L = {
        b <- as.integer(take(8))
        x <- sum(b * 256^(7:0))
        if (b[1] > 127) x - 2^64 else x
      },
      d = readBin(take(4), "double", 1, 4, endian = "big"),
      D = readBin(take(8), "double", 1, 8, endian = "big"),
      stop("no number")
    )
  }
  sign <- function() rawToChar(take(1))
  text <- function() {
    out <- rawToChar(take(number(sign())))
    if (!validUTF8(out)) stop("no text")
    out
  }
  value <- function(type) {
    if (type %in% c("i", "U", "I", "l", "L", "d", "D")) return(number(type))
    switch(
      type,
      S = text(), C = sign(), T = TRUE, F = FALSE, Z = NULL,
      "[" = many(function(type) value(type), "]"),
      "{" = {
        names <- character()
        out <- many(function(type) value(type), "}", function() names <<- c(names, text()))
        if (anyDuplicated(names)) stop("a name stands twice")
        stats::setNames(out, names)
      },
      stop("unknown type")
    )
  }
  many <- function(one, end, before = function() NULL) {
    type <- NULL
    count <- NULL
    if (rawToChar(bytes[at]) == "$") {
      take(1)
      type <- sign()
    }
    if (rawToChar(bytes[at]) == "#") {
      take(1)
      count <- number(sign())
    }
    out <- list()
    while (if (is.null(count)) rawToChar(bytes[at]) != end else length(out) < count) {
      before()
      out[length(out) + 1] <- list(one(if (is.null(type)) sign() else type))
    }
    if (is.null(count)) take(1)
    out
  }
  out <- value(sign())
  if (at <= length(bytes)) stop("more follows")
  out
}

# ---- xgboost ----

second_xgboost <- function(bytes, rows) {
  binary <- !rawToChar(bytes[2]) %in% c("\"", " ", "\n", "\r", "\t", "}")
  document <- if (binary) read_ubjson(bytes) else jsonlite::parse_json(rawToChar(bytes))
  learner <- document$learner
  model <- learner$gradient_booster$model
  base <- as.double(gsub("[][]", "", unlist(learner$learner_model_param$base_score)))
  best <- learner$attributes$best_iteration
  trees <- model$trees
  if (!is.null(best)) {
    trees <- trees[seq_len(min(length(trees), as.double(best) + 1))]
  }
  single <- function(x) readBin(writeBin(as.double(x), raw(), 4), "double", length(x), 4)
  base + Reduce(`+`, lapply(trees, function(tree) {
    field <- lapply(tree[c(
      "left_children", "right_children", "split_indices", "split_conditions", "default_left"
    )], function(f) as.double(unlist(f)))
    kind <- as.double(unlist(tree$split_type))
    nodes <- as.double(unlist(tree$categories_nodes))
    vapply(seq_len(nrow(rows)), function(i) {
      at <- 1
      steps <- 0
      repeat {
        if (field$left_children[at] < 0) return(single(field$split_conditions[at]))
        x <- rows[i, field$split_indices[at] + 1]
        left <- if (is.na(x)) {
          field$default_left[at] == 1
        } else if (length(kind) && kind[at] == 1) {
          k <- match(at - 1, nodes)
          from <- tree$categories_segments[[k]]
          set <- unlist(tree$categories)[from + seq_len(tree$categories_sizes[[k]])]
          !x %in% set
        } else {
          single(x) < single(field$split_conditions[at])
        }
        at <- 1 + if (left) field$left_children[at] else field$right_children[at]
        steps <- steps + 1
        if (steps > 1e4) stop("a circle")
      }
    }, 0)
  }))
}

# ---- lightgbm ----

second_lightgbm <- function(bytes, rows) {
  lines <- strsplit(rawToChar(bytes), "\r?\n")[[1]]
  lines <- lines[seq_len(match("end of trees", lines))]
  starts <- grep("^Tree=", lines)
  ends <- c(starts[-1] - 1, length(lines))
  Reduce(`+`, lapply(seq_along(starts), function(t) {
    part <- lines[starts[t]:ends[t]]
    field <- function(name) {
      line <- grep(paste0("^", name, "="), part, value = TRUE)[1]
      as.double(strsplit(sub("^[^=]*=", "", line), " ", fixed = TRUE)[[1]])
    }
    leaves <- field("leaf_value")
    if (field("num_leaves") == 1) return(rep(leaves[1], nrow(rows)))
    column <- field("split_feature")
    cut <- field("threshold")
    type <- field("decision_type")
    to_left <- field("left_child")
    to_right <- field("right_child")
    vapply(seq_len(nrow(rows)), function(i) {
      at <- 0
      steps <- 0
      while (at >= 0) {
        node <- at + 1
        x <- rows[i, column[node] + 1]
        kind <- (type[node] %/% 4) %% 4
        left <- if (type[node] %% 2 == 1) {
          from <- field("cat_boundaries")[cut[node] + 1:2]
          words <- field("cat_threshold")[from[1] + seq_len(from[2] - from[1])]
          !is.na(x) && x >= 0 && x %/% 32 < length(words) &&
            (words[x %/% 32 + 1] %/% 2^(x %% 32)) %% 2 == 1
        } else if ((is.na(x) && kind != 0) || (kind == 1 && !is.na(x) && abs(x) <= 1e-35)) {
          (type[node] %/% 2) %% 2 == 1
        } else {
          (if (is.na(x)) 0 else x) <= cut[node]
        }
        at <- if (left) to_left[node] else to_right[node]
        steps <- steps + 1
        if (steps > 1e4) stop("a circle")
      }
      leaves[-at]
    }, 0)
  }))
}
