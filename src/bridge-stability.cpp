// Where R meets what rankings say of pairs of predictors.
#include <Rcpp.h>
#include "stability-pairs.h"

namespace {

void ask_interrupt(void*) { R_CheckUserInterrupt(); }
bool asked_to_stop() { return R_ToplevelExec(ask_interrupt, nullptr) == FALSE; }
dreher::Loop loop_of(int threads) { return dreher::Loop{std::max(threads, 1), asked_to_stop}; }
void go_on(bool done) { if (!done) throw Rcpp::internal::InterruptedException(); }
dreher::Draws draws_of(const Rcpp::NumericMatrix& x) { return dreher::Draws{x.begin(), x.nrow(), x.ncol()}; }

}  // namespace

// value: resamples x predictors -> above (predictors x predictors) and with (resamples)
// [[Rcpp::export]]
Rcpp::List stability_pairs(Rcpp::NumericMatrix value, int threads) {
  Rcpp::NumericMatrix above(value.ncol(), value.ncol());
  Rcpp::NumericVector with(value.nrow());
  go_on(dreher::pair_up(draws_of(value), loop_of(threads), above.begin(), with.begin()));
  return Rcpp::List::create(Rcpp::Named("above") = above, Rcpp::Named("with") = with);
}

// -> joint (resamples) and single (resamples x predictors)
// [[Rcpp::export]]
Rcpp::List stability_gaps(Rcpp::NumericMatrix value, Rcpp::NumericVector centre, Rcpp::NumericMatrix error, int threads) {
  if (centre.size() != value.ncol() || error.nrow() != value.ncol() || error.ncol() != value.ncol()) Rcpp::stop("centres or errors do not fit the values");
  Rcpp::NumericVector joint(value.nrow());
  Rcpp::NumericMatrix single(value.nrow(), value.ncol());
  go_on(dreher::largest_gaps(draws_of(value), centre.begin(), error.begin(), loop_of(threads), joint.begin(), single.begin()));
  return Rcpp::List::create(Rcpp::Named("joint") = joint, Rcpp::Named("single") = single);
}

// place: predictors x orders, each a permutation of 1, 2, ... -> orders x orders
// [[Rcpp::export]]
Rcpp::NumericMatrix stability_overlap(Rcpp::IntegerMatrix place, double persistence, int threads) {
  for (int i : place) if (i < 1 || i > place.nrow()) Rcpp::stop("a place is out of range");
  Rcpp::NumericMatrix out(place.ncol(), place.ncol());
  go_on(dreher::overlap_orders(place.begin(), place.nrow(), place.ncol(), persistence, loop_of(threads), out.begin()));
  return out;
}
