// What shuffling does to a forest's output.
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
  const int* donor = nullptr;  // [rows * repeats (* players)] of the rows asked for: row whose
                               // values are taken
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

}  // namespace dreher
