#pragma once
#include "model-forest.h"

namespace dreher {

// Impurity by routing.
//
// Rows are routed to their end nodes block by block, trees in parallel; sums of weight and of
// weighted targets are kept per node and carried from the leaves to the roots, so that memory
// follows the number of nodes and not rows x trees. Surrogate nodes only route: their rows count
// for the node they stand in for.
//
// With node means mu from the weighted training rows (in-bag counts), for every split of a node t,
// summed over its column, divided by the tree's weight W (training) or number of held-out rows O:
//   classical    [ sL^2/wL + sR^2/wR - (sL+sR)^2/(wL+wR) ] / W
//                (Breiman, Friedman, Olshen and Stone 1984; with 0/1 targets the Gini impurity)
//   covariance   sum over held-out rows i of (mu_child(i) - mu_t)(y_i - mu_root) / O
//                (Li, Wang, Basu, Kumbier and Yu 2019, centred at the root)
//   gain         sum over held-out rows i of [ (y_i - mu_t)^2 - (y_i - mu_child(i))^2 ] / O
// Each per target, so that classes can be told apart. Cost: one walk per row and tree.

// Sums per node: weight, then the weighted targets, side by side.
struct NodeSums {
  int width = 0;
  std::vector<double> value;
  double* at(int node) { return value.data() + static_cast<std::ptrdiff_t>(node) * width; }
  const double* at(int node) const {
    return value.data() + static_cast<std::ptrdiff_t>(node) * width;
  }
};

enum class Rows { all, drawn, left_out };  // drawn: weighted by count; left_out: those with count 0

struct Sample {
  Table table;
  const double* target = nullptr;  // [rows * n_targets], column after column
  int n_targets = 0;
  const int* count = nullptr;  // [rows * n_trees], may be nullptr for Rows::all
  Rows rows = Rows::all;
};

// `centre` [n_targets] is taken off the targets, which keeps the digits of far-from-zero targets.
bool sum_nodes(const Forest& forest, const Sample& sample, const double* centre, const Loop& loop,
               NodeSums* sums);

// All three [n_columns * n_targets * n_trees]; the last two only where `held` is not nullptr.
// weight [n_trees] and held_weight [n_trees] receive W and O.
struct Decreases {
  double* classical = nullptr;
  double* covariance = nullptr;
  double* gain = nullptr;
  double* weight = nullptr;
  double* held_weight = nullptr;
};
void add_up_decreases(const Forest& forest, int n_targets, const NodeSums& train,
                      const NodeSums* held, const Decreases& out);

// How a forest uses its columns, all [n_columns * n_trees]: number of splits, share of the rows
// that pass a split of the column (counted once per split), depth of its first use (-1: never).
void describe_use(const Forest& forest, const NodeSums& train, double* splits, double* passing,
                  double* depth);

// Mean of each column of y [rows * columns].
std::vector<double> column_means(const double* y, std::ptrdiff_t rows, int columns);

}  // namespace dreher
