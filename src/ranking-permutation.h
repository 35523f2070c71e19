#pragma once
#include "model-forest.h"

namespace dreher {

// What shuffling does to a forest's output, without predicting again.
//
// Column j of a row is replaced by that of its donor, in R repeats at once. A row's walk down a
// tree changes only at nodes that ask a replaced column, so each tree is walked once per row: at
// every node on the real path a bit mask tells for which repeats the donor's value leaves the path
// here first. Those repeats walk the rest of the tree together, and part only where a column of
// the same player is asked again. Equal to predicting R shuffled tables up to rounding; the time
// hardly depends on the number of players.
//
// player_of  [n_columns], which player a column belongs to, -1: not shuffled in this call
// donor      [rows * R], row whose values are taken (R at most 64)
// change     [rows * R * n_outputs * n_players], output after minus before
bool shuffle_change(const Forest& forest, const Table& table, const int* player_of, int n_players,
                    const int* donor, int repeats, const Loop& loop, double* change);

}  // namespace dreher
