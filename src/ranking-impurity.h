#pragma once
#include "model-forest.h"

namespace dreher {

// Impurity decrease by routing.
//
// Every row is routed to its end node in every tree, with the weight it had when the tree was
// grown (its in-bag count). Sums of weight and of weighted targets are carried from the leaves to
// the roots; a split then earns
//     sum_k [ sL_k^2 / wL + sR_k^2 / wR - (sL_k + sR_k)^2 / (wL + wR) ] / W,
// W the weight of the whole tree: the decrease of the variance, and, with one 0/1 target per
// class, of the Gini impurity (Breiman, Friedman, Olshen and Stone 1984). Surrogate splits route
// rows and earn nothing. Cost: one walk per row and tree.
//
// target  [rows * n_targets], column after column
// counts  [rows * n_trees], or nullptr: every row counts once in every tree
// earned  [n_columns * n_trees], set here; trees without rows get 0 and are counted in `empty`
bool earn_impurity(const Forest& forest, const Table& table, const double* target, int n_targets,
                   const int* counts, const Loop& loop, double* earned, int* empty);

}  // namespace dreher
