#pragma once
#include "model-forest.h"

namespace dreher {

// Shapley values of a forest's output against background rows, exactly.
//
// v(S) = mean over background rows b of f(row on S, b elsewhere). By linearity the value is a sum
// over trees and background rows. For one row, one background row and one tree, only leaves that
// can be reached by taking each player from one of the two matter: the walk follows both where
// they go the same way, and branches where they part, noting whose player this is from here on.
// A leaf with value v reached with `a` players of the row and `b` of the background gives
//     +v (a-1)! b! / (a+b)!  to each of the row's,   -v a! (b-1)! / (a+b)!  to each of the others
// (the Shapley value of the unanimity-type game "all of the row's and none of the background's";
// Shapley 1953). Cost: rows x background x trees x leaves reachable by the pair.
//
// player_of  [n_columns]
// phi        [rows * n_players * n_outputs], set here
bool shapley_background(const Forest& forest, const Table& rows, const Table& background,
                        const int* player_of, int n_players, const Loop& loop, double* phi);

}  // namespace dreher
