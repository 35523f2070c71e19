# Randomness: one seed, and for every piece of work a stream of its own.
#
# The state of the L'Ecuyer generator (six numbers) is a hash of the seed and the piece's key, so
# that a result depends neither on the order of the pieces nor on the number of workers, and
# adding a predictor, a method or a model leaves the others' draws as they were.

stream_state <- function(seed, key) {
  words <- hash_text(
    enc2utf8(paste(c(format(seed, scientific = FALSE), key), collapse = "\r")), 6L
  )
  # The moduli of the two components; no component may be all zero.
  words <- words %% rep(c(4294967087, 4294944443), each = 3)
  words[c(1, 4)] <- pmax(words[c(1, 4)], 1)
  as.integer(ifelse(words >= 2147483648, words - 4294967296, words))
}

# Evaluates `code` with the stream of (seed, key); the user's random state is left as found.
with_stream <- function(seed, key, code) {
  had <- exists(".Random.seed", envir = globalenv(), inherits = FALSE)
  old_state <- if (had) get(".Random.seed", envir = globalenv()) else NULL
  old_kind <- RNGkind()
  # an interrupt may come while the state is put back
  on.exit(suspendInterrupts({
    RNGkind(old_kind[1], old_kind[2], old_kind[3])
    if (had) assign(".Random.seed", old_state, envir = globalenv())
    else rm(".Random.seed", envir = globalenv())
  }), add = TRUE)
  RNGkind("L'Ecuyer-CMRG", "Inversion", "Rejection")
  assign(".Random.seed", c(.Random.seed[1], stream_state(seed, key)), envir = globalenv())
  force(code)
}

check_seed <- function(seed, arg = "seed") {
  if (!is.numeric(seed) || length(seed) != 1 || is.na(seed) || seed != round(seed) ||
      abs(seed) > 2^53) {
    stop_input(
      paste0("`", arg, "` must be a single whole number."),
      paste0("Given: ", describe_value(seed), ".")
    )
  }
  seed
}
