# Pieces of work, spread over the workers of the user's future::plan().
#
# Every piece draws from its own stream (base-seeds.R), so the number of workers changes nothing.
# Progress is signalled through progressr; the user decides whether and how it is shown.

map_pieces <- function(pieces, fun, ..., label = NULL) {
  step <- progressr::progressor(along = pieces)
  do_piece <- function(piece, ...) {
    value <- fun(piece, ...)
    step(message = label)
    value
  }
  # Without workers a plain loop: errors keep their class and interrupts act at once.
  if (future::nbrOfWorkers() == 1) return(lapply(pieces, do_piece, ...))
  future.apply::future_lapply(pieces, do_piece, ..., future.seed = NULL,
                              future.packages = "dreher", future.scheduling = 4)
}
