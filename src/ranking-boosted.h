#pragma once
#include "model-forest.h"

namespace dreher {

// What the splits of boosted trees gained, recomputed stage by stage.
//
// The trees of a round were grown on the gradients g (and second derivatives h) of the loss at the sum of all
// rounds before. Rows are sent through the rounds in order, the sums are kept, and at every split
//     G_L^2/(H_L + lambda) + G_R^2/(H_R + lambda) - (G_L + G_R)^2/(H_L + H_R + lambda)
// is earned, G and H the sums of g and h (Chen and Guestrin 2016); with h = 1 and lambda = 0 this is the
// decrease of the sum of squares of the residuals (Friedman 2001). Cost: one walk per row and tree.
//
// Where steps are bounded, a node's term is that of the bounded step w: -(2 G w + (H + lambda) w^2).
//
// loss    squared, logistic (y 0/1), poisson, or softmax (y class number from 0)
// round   [n_trees], which round a tree belongs to, not falling
// group   [n_trees], which output it adds to
// gain    [n_columns * n_trees], set here
enum class Loss { squared = 0, logistic = 1, poisson = 2, softmax = 3 };

struct Boosting {
  Loss loss = Loss::squared;
  bool second_order = true;     // false: h = 1
  double lambda = 0;
  double most_step = 0;         // bound on a node's step, 0: none
  const int* round = nullptr;
  const int* group = nullptr;
};

bool regain(const Forest& forest, const Table& table, const double* y, const Boosting& boosting, const Loop& loop, double* gain);

}  // namespace dreher
