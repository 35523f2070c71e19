#pragma once
#include "ranking-permutation.h"

namespace dreher {

// Shuffles with every row as donor. As a function of one column's value a row's output is a step
// function; the walks that leave the real path carry a range of ranks instead of a mask, and yield
// its steps.
//
// A player must be one column. A run says: donors with ranks lo to hi - 1 (as in Ranks; the missing
// ones stand last) change output k of the row by change[k].
struct Runs {
  std::vector<int> row, player, lo, hi;
  std::vector<double> change;  // n_outputs side by side
};

bool shuffle_runs(const Forest& forest, const Coded& coded, const Ranks& ranks,
                  const Shuffle& shuffle, std::ptrdiff_t from, std::ptrdiff_t to, const Loop& loop,
                  std::vector<Runs>* blocks);

}  // namespace dreher
