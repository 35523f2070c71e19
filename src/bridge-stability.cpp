// Where R meets what rankings say of pairs of predictors.
#include "bridge-loop.h"
#include "stability-pairs.h"

namespace {

dreher::Draws draws_of(const Rcpp::NumericMatrix& x) {
  return dreher::Draws{x.begin(), x.nrow(), x.ncol()};
}

void check_places(const Rcpp::IntegerMatrix& place) {
  std::vector<bool> taken(place.nrow());
  for (int b = 0; b < place.ncol(); ++b) {
    std::fill(taken.begin(), taken.end(), false);
    for (int j = 0; j < place.nrow(); ++j) {
      const int i = place(j, b);
      if (i < 1 || i > place.nrow() || taken[i - 1]) Rcpp::stop("places are not an order");
      taken[i - 1] = true;
    }
  }
}

}  // namespace

// value: resamples x predictors -> above (predictors x predictors) and with (resamples)
// [[Rcpp::export]]
Rcpp::List stability_pairs(Rcpp::NumericMatrix value, int threads) {
  Rcpp::NumericMatrix above(value.ncol(), value.ncol());
  Rcpp::NumericVector with(value.nrow());
  run_whole(threads, [&](const Loop& loop) {
    return dreher::pair_up(draws_of(value), loop, above.begin(), with.begin());
  });
  return Rcpp::List::create(Rcpp::Named("above") = above, Rcpp::Named("with") = with);
}

// -> joint (resamples) and single (resamples x predictors)
// [[Rcpp::export]]
Rcpp::List stability_gaps(Rcpp::NumericMatrix value, Rcpp::NumericVector centre,
                          Rcpp::NumericMatrix error, int threads) {
  if (centre.size() != value.ncol() || error.nrow() != value.ncol() || error.ncol() != value.ncol())
    Rcpp::stop("centres or errors do not fit the values");
  Rcpp::NumericVector joint(value.nrow());
  Rcpp::NumericMatrix single(value.nrow(), value.ncol());
  run_whole(threads, [&](const Loop& loop) {
    return dreher::largest_gaps(draws_of(value), centre.begin(), error.begin(), loop, joint.begin(),
                                single.begin());
  });
  return Rcpp::List::create(Rcpp::Named("joint") = joint, Rcpp::Named("single") = single);
}

// place: predictors x orders, each a permutation of 1, 2, ... -> orders x orders
// [[Rcpp::export]]
Rcpp::NumericMatrix stability_overlap(Rcpp::IntegerMatrix place, double persistence, int threads) {
  check_places(place);
  Rcpp::NumericMatrix out(place.ncol(), place.ncol());
  run_whole(threads, [&](const Loop& loop) {
    return dreher::overlap_orders(place.begin(), place.nrow(), place.ncol(), persistence, loop,
                                  out.begin());
  });
  return out;
}

// share: predictors x orders -> orders x orders
// [[Rcpp::export]]
Rcpp::NumericMatrix stability_shares(Rcpp::NumericMatrix share, int threads) {
  Rcpp::NumericMatrix out(share.ncol(), share.ncol());
  run_whole(threads, [&](const Loop& loop) {
    return dreher::overlap_shares(share.begin(), share.nrow(), share.ncol(), loop, out.begin());
  });
  return out;
}

// place: predictors x orders, each a permutation of 1, 2, ... -> squares (sizes) and together
// (orders x sizes), sizes 1 to predictors - 1
// [[Rcpp::export]]
Rcpp::List stability_tops(Rcpp::IntegerMatrix place) {
  check_places(place);
  const int sizes = std::max(place.nrow() - 1, 0);
  Rcpp::NumericVector squares(sizes);
  Rcpp::NumericMatrix together(place.ncol(), sizes);
  run_whole(1, [&](const Loop& loop) {
    return dreher::follow_tops(place.begin(), place.nrow(), place.ncol(), loop, squares.begin(),
                               together.begin());
  });
  return Rcpp::List::create(Rcpp::Named("squares") = squares, Rcpp::Named("together") = together);
}
