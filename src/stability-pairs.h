// What many rankings of the same predictors say of every pair of predictors.
#pragma once
#include <vector>

#include "base-loop.h"

namespace dreher {

// Values of resamples x predictors, resample after resample along each predictor.
struct Draws {
  const double* value = nullptr;  // [resamples * predictors]
  int resamples = 0;
  int predictors = 0;
  const double* of(int predictor) const {
    return value + static_cast<std::ptrdiff_t>(predictor) * resamples;
  }
};

// Kendall's tau-b over all pairs of resamples, without looking at pairs of resamples.
//
// With s[b] the signs of all pairs of predictors in resample b, divided by the root of the number
// of pairs that are not tied, tau-b of two resamples is the product s[b] . s[b']. So the sum over
// all pairs of resamples follows from the length of the sum of the s[b], and the sum without one
// resample from that one's product with it: resamples x predictors^2 / 2 steps, twice.
//
// above    [predictors * predictors], how often the row's predictor has the larger value, ties a
// half with     [resamples], sum of tau-b of each resample with all others; NaN where it has
// nothing but ties
bool pair_up(const Draws& draws, const Loop& loop, double* above, double* with);

// For every resample the largest of |difference of two predictors - its centre| / its standard
// error, over all pairs, and for every predictor over the pairs it is in: the distributions behind
// joint and single rank sets. Pairs with error 0 are left out.
//
// centre  [predictors]; error [predictors * predictors]
// joint   [resamples]; single [resamples * predictors]
bool largest_gaps(const Draws& draws, const double* centre, const double* error, const Loop& loop,
                  double* joint, double* single);

// Rank-biased overlap of all pairs of orders (place[r + predictors * b] from 1, no ties):
// extrapolated, of the same items. out [orders * orders]
bool overlap_orders(const int* place, int predictors, int orders, double persistence,
                    const Loop& loop, double* out);

// Sum over the predictors of the smaller of two shares (share[r + predictors * b]), for all pairs
// of orders. out [orders * orders]
bool overlap_shares(const double* share, int predictors, int orders, const Loop& loop, double* out);

// The top k of every order (place as above), for k = 1 to predictors - 1 in turn: who comes in
// changes how often each predictor is among the top, and that changes the sums of those who are in
// already.
//
// squares   [predictors - 1], sum over the predictors of (number of orders that have it among the
// top k)^2 together  [orders * (predictors - 1)], sum of these numbers over the top k of the order
bool follow_tops(const int* place, int predictors, int orders, const Loop& loop, double* squares,
                 double* together);

}  // namespace dreher
