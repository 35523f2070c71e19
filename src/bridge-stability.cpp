// Where R meets what rankings say of pairs of predictors.
#include "bridge-loop.h"
#include "stability-pairs.h"

namespace {

dreher::Draws draws_of(const Rcpp::NumericMatrix& x) { return dreher::Draws{x.begin(), x.nrow(), x.ncol()}; }

}  // namespace

// value: resamples x predictors -> above (predictors x predictors) and with (resamples)
// [[Rcpp::export]]
Rcpp::List stability_pairs(Rcpp::NumericMatrix value, int threads) {
  Rcpp::NumericMatrix above(value.ncol(), value.ncol());
  Rcpp::NumericVector with(value.nrow());
  stop_if_interrupted(dreher::pair_up(draws_of(value), make_loop(threads), above.begin(), with.begin()));
  return Rcpp::List::create(Rcpp::Named("above") = above, Rcpp::Named("with") = with);
}

// -> joint (resamples) and single (resamples x predictors)
// [[Rcpp::export]]
Rcpp::List stability_gaps(Rcpp::NumericMatrix value, Rcpp::NumericVector centre, Rcpp::NumericMatrix error, int threads) {
  if (centre.size() != value.ncol() || error.nrow() != value.ncol() || error.ncol() != value.ncol()) Rcpp::stop("centres or errors do not fit the values");
  Rcpp::NumericVector joint(value.nrow());
  Rcpp::NumericMatrix single(value.nrow(), value.ncol());
  stop_if_interrupted(dreher::largest_gaps(draws_of(value), centre.begin(), error.begin(), make_loop(threads), joint.begin(), single.begin()));
  return Rcpp::List::create(Rcpp::Named("joint") = joint, Rcpp::Named("single") = single);
}

// place: predictors x orders, each a permutation of 1, 2, ... -> orders x orders
// [[Rcpp::export]]
Rcpp::NumericMatrix stability_overlap(Rcpp::IntegerMatrix place, double persistence, int threads) {
  for (int i : place) if (i < 1 || i > place.nrow()) Rcpp::stop("a place is out of range");
  Rcpp::NumericMatrix out(place.ncol(), place.ncol());
  stop_if_interrupted(dreher::overlap_orders(place.begin(), place.nrow(), place.ncol(), persistence, make_loop(threads), out.begin()));
  return out;
}
