#pragma once
#include "model-coded.h"

namespace dreher {

// What shuffling does to a forest's output, without predicting again.
//
// A player's columns of a row are replaced by those of a donor row, in R repeats at once. A row's walk down a tree
// changes only at nodes that ask a replaced column. So the real path is walked once; at every node on it a bit mask
// tells for which repeats the donor's value leaves the path here first, and those repeats walk the sibling subtree
// together, parted only where a column of the same player is asked again. All such walks of a block of rows wait in one
// list and go in step, so that their waits for memory overlap. Equal to predicting R shuffled tables up to rounding; the
// time hardly depends on the number of players.
struct Shuffle {
  const int* player_of = nullptr;   // [n_columns], from 0; -1: not shuffled in this call
  int players = 0;
  const int* donor = nullptr;       // [rows * repeats (* players)], row whose values are taken
  int repeats = 0;                  // at most 64
  bool own_donors = false;          // does every player have donors of its own?
  const int* inbag = nullptr;       // [rows * n_trees]: a tree counts only for rows with 0; nullptr: for all
};

// change  [(to - from) * repeats * n_outputs * players], output after minus before, of rows from to to - 1
bool shuffle_change(const Forest& forest, const Coded& coded, const Ranks& ranks, const Shuffle& shuffle, std::ptrdiff_t from,
                    std::ptrdiff_t to, const Loop& loop, double* change);

// The same with every row as donor. As a function of one column's value a row's output is a step function; the
// walks that leave the real path carry a range of ranks instead of a mask, and yield its steps.
//
// A player must be one column. A run says: donors with ranks lo to hi - 1 (as in Ranks; the missing ones stand last)
// change output k of the row by change[k].
struct Runs {
  std::vector<int> row, player, lo, hi;
  std::vector<double> change;   // n_outputs side by side
};

bool shuffle_runs(const Forest& forest, const Coded& coded, const Ranks& ranks, const Shuffle& shuffle, std::ptrdiff_t from,
                  std::ptrdiff_t to, const Loop& loop, std::vector<Runs>* blocks);

}  // namespace dreher
