// Where R meets the sums that curves are made of.
#include <Rcpp.h>

#include "effect-moments.h"

// p: predictions, one column an output; those of each curve stand in `column` (from 1) after the
// first `from`, rows x its `points`. weight: empty where all are 1. -> sums of the curves, one
// after the other: list(y, wwy, yy)
// [[Rcpp::export(rng = false)]]
Rcpp::List point_moments(Rcpp::NumericMatrix p, int column, Rcpp::NumericVector from, int rows,
                         Rcpp::IntegerVector points, double shift, Rcpp::NumericVector weight) {
  const bool weighed = weight.size() > 0;
  if (column < 1 || column > p.ncol() || rows < 0 || from.size() != points.size() ||
      (weighed && weight.size() != rows))
    Rcpp::stop("predictions or weights do not fit the curves");
  double all = 0;
  double cells = 0;
  for (R_xlen_t u = 0; u < points.size(); ++u) {
    const double size = points[u];
    if (size < 1 || !(from[u] >= 0) || from[u] + rows * size > p.nrow())
      Rcpp::stop("a curve reaches beyond the predictions");
    all += size;
    cells += size * size;
  }
  Rcpp::NumericVector sum(static_cast<R_xlen_t>(all));
  Rcpp::NumericVector square(weighed ? static_cast<R_xlen_t>(all) : 0);
  Rcpp::NumericVector cross(static_cast<R_xlen_t>(cells));
  const double* y = p.begin() + static_cast<R_xlen_t>(column - 1) * p.nrow();
  const double* w = weighed ? weight.begin() : nullptr;
  R_xlen_t at = 0;
  R_xlen_t cell = 0;
  for (R_xlen_t u = 0; u < points.size(); ++u) {
    const R_xlen_t size = points[u];
    dreher::add_moments(y + static_cast<R_xlen_t>(from[u]), rows, size, shift, w, sum.begin() + at,
                        weighed ? square.begin() + at : nullptr, cross.begin() + cell);
    at += size;
    cell += size * size;
    if (u % 64 == 63) Rcpp::checkUserInterrupt();
  }
  return Rcpp::List::create(Rcpp::Named("y") = sum, Rcpp::Named("wwy") = weighed ? square : sum,
                            Rcpp::Named("yy") = cross);
}
