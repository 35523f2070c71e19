#pragma once
#include <cstddef>

namespace dreher {

// Sums for weighted means of the columns of a table and their covariance.
//
// y [rows * points]: predictions, one column a point of a curve; `shift` is taken from each before
// it is weighed. weight [rows], or nullptr: 1. With v = y - shift and w the weight, added to
//   sum [points] w v    square [points] w^2 v    cross [points * points] w^2 v v'
// `square` may be nullptr where the weights are 1. Cost: rows * points^2 / 2, in blocks of rows
// that stay in the cache.
void add_moments(const double* y, std::size_t rows, std::size_t points, double shift,
                 const double* weight, double* sum, double* square, double* cross);

}  // namespace dreher
