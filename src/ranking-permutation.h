#pragma once
#include "model-coded.h"

namespace dreher {

constexpr int most_repeats = 63;

// What shuffling does to a forest's output, without predicting again.
//
// A player's columns of a row are replaced by those of a donor row, in R repeats at once. A row's
// walk down a tree changes only at nodes that ask a replaced column. So the real path is walked
// once; at every node on it a bit mask tells for which repeats the donor's value leaves the path
// here first, and those repeats walk the sibling subtree together, parted only where a column of
// the same player is asked again. All such walks of a block of rows wait in one list and go in
// step, so that their waits for memory overlap. Equal to predicting R shuffled tables up to
// rounding; the time hardly depends on the number of players.
struct Shuffle {
  const int* player_of = nullptr;  // [n_columns], from 0; -1: not shuffled in this call
  int players = 0;
  const int* donor = nullptr;  // [rows * repeats (* players)], row whose values are taken
  int repeats = 0;             // at most most_repeats
  bool own_donors = false;     // does every player have donors of its own?
  const int* inbag =
      nullptr;  // [rows * n_trees]: a tree counts only for rows with 0; nullptr: for all
  const double* scale = nullptr;  // [rows], what the sum over trees is multiplied by; nullptr: 1
};

// Outputs of rows from to to - 1: base + scale * sum over trees.
// before  [(to - from) * n_outputs], as they are;  after  [(to - from) * repeats * players *
// n_outputs], shuffled
bool shuffle_outputs(const Forest& forest, const Coded& coded, const Ranks& ranks,
                     const Shuffle& shuffle, std::ptrdiff_t from, std::ptrdiff_t to,
                     const Loop& loop, double* before, double* after);

// Changes of row losses, summed up per unit: by the row as receiver and by the row as donor.
struct Tally {
  Tally(std::ptrdiff_t n, int units)
      : rows(n), given(n * units, 0.0), taken(n * units, 0.0), square(units, 0.0) {}
  std::ptrdiff_t rows;
  std::vector<double> given, taken;  // [rows * units]
  std::vector<double> square;        // [units]
};

// Losses of rows from, from + 1, ... in some repeats and of some units, after the shuffle.
struct Losses {
  const double* value;  // [rows * repeats * units]: predictions, or losses when power is 0
  int power;            // 1: absolute, 2: squared distance from the truth
  std::ptrdiff_t from, rows;
  std::vector<int> repeat, unit;  // which, from 0
  const double* truth;            // [all rows]
  const double* before;           // [all rows] loss before the shuffle
  const double* weight;           // [all rows] or nullptr
  const int* donor;               // [all rows * all repeats (* units here)], from 1
  int repeats;                    // of the donors
  bool own_donors;
};

void add_losses(const Losses& losses, const Loop& loop, Tally* tally);

// The same with every row as donor. As a function of one column's value a row's output is a step
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
