# From the sum a forest adds up to what its model predicts. Boosted trees add on a link scale.
#
# link       outputs of the sum     prediction
# identity   as predicted           the sum
# logit      1 (the second class)   two class probabilities; `stretch` times the sum is the log-odds
# softmax    1 per class            class probabilities
# log        1                      exp(sum)

forest_links <- c("identity", "logit", "softmax", "log")

# eta: rows x outputs of the sum. -> rows x outputs of the prediction.
apply_link <- function(forest, eta) {
  switch(
    forest$link,
    identity = eta,
    logit = {
      p <- stats::plogis(forest$stretch * eta[, 1])
      cbind(1 - p, p)
    },
    softmax = {
      e <- exp(eta - do.call(pmax, lapply(seq_len(ncol(eta)), function(k) eta[, k])))
      e / rowSums(e)
    },
    log = exp(eta)
  )
}
