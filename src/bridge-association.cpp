// Where R meets the association of columns with the target.
#include "bridge-loop.h"
#include "ranking-association.h"

namespace {

// Values by their place in order, from 1; NA: missing.
dreher::SortedColumn take_column(const Rcpp::IntegerVector& from, bool ordered) {
  std::vector<int> value(from.size());
  for (R_xlen_t i = 0; i < from.size(); ++i) {
    if (from[i] != NA_INTEGER && from[i] < 1) Rcpp::stop("a place is below 1");
    value[i] = from[i] == NA_INTEGER ? -1 : from[i] - 1;
  }
  return dreher::sort_column(std::move(value), ordered);
}

}  // namespace

// values: a column each, and the target's; draws: rows x draws, the rows drawn (from 1).
// -> draws x columns
// [[Rcpp::export]]
Rcpp::NumericMatrix associate_draws(Rcpp::List values, Rcpp::LogicalVector ordered,
                                    Rcpp::IntegerVector target, bool target_ordered,
                                    Rcpp::IntegerMatrix draws, int threads) {
  const R_xlen_t rows = target.size();
  const int columns = static_cast<int>(values.size());
  if (ordered.size() != columns) Rcpp::stop("columns and their kinds differ in number");
  std::vector<dreher::SortedColumn> held;
  for (int j = 0; j < columns; ++j) {
    const Rcpp::IntegerVector column = values[j];
    if (column.size() != rows) Rcpp::stop("a column has other rows than the target");
    held.push_back(take_column(column, ordered[j] == TRUE));
  }
  const dreher::SortedColumn goal = take_column(target, target_ordered);
  if (draws.nrow() != rows) Rcpp::stop("a draw has other rows than the target");
  for (int r : draws)
    if (r < 1 || r > rows) Rcpp::stop("a drawn row is out of range");
  Rcpp::NumericMatrix out(draws.ncol(), columns);
  run_whole(threads, [&](const Loop& loop) {
    return dreher::associate_draws(held, goal, draws.begin(), rows, draws.ncol(), loop,
                                   out.begin());
  });
  return out;
}
