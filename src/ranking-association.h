// Association of columns with one other column in bootstrap draws of the rows: see
// rank_association() for the three measures.
//
// Rows are sorted by value once for all draws. A draw gives every row a number of times, and one
// pass over the sorted rows yields all mid-ranks: the rows below, plus half of the row's own value
// and one half. Cost: rows x columns a draw.
#pragma once
#include <vector>

#include "base-loop.h"

namespace dreher {

struct SortedColumn {
  std::vector<int> row;    // rows with a value, in order of the values
  std::vector<int> start;  // [values + 1], where each value's rows begin
  std::vector<int> value;  // [rows], from 0; -1: missing
  bool ordered = false;    // else classes
  bool has_gaps = false;
  int values() const { return static_cast<int>(start.size()) - 1; }
};

// value: [rows], from 0 in order, -1: missing.
SortedColumn sort_column(std::vector<int> value, bool ordered);

// draws: [draws][rows] rows drawn, from 1. out: [columns][draws], NaN where the measure is not
// defined, 0 for a column that does not vary in the draw. Returns false when interrupted.
bool associate_draws(const std::vector<SortedColumn>& columns, const SortedColumn& target,
                     const int* draws, std::ptrdiff_t rows, int n_draws, const Loop& loop,
                     double* out);

}  // namespace dreher
