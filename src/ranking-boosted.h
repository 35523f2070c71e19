#pragma once
#include "model-forest.h"

namespace dreher {

// What the splits of boosted trees gained, recomputed stage by stage.
//
// The trees of a round were grown on the gradients g (and second derivatives h) of the loss at the
// sum of all rounds before. Rows are sent through the rounds in order, the sums are kept, and at
// every split
//     G_L^2/(H_L + lambda) + G_R^2/(H_R + lambda) - (G_L + G_R)^2/(H_L + H_R + lambda)
// is earned, G and H the sums of g and h (Chen and Guestrin 2016); with h = 1 and lambda = 0 this
// is the decrease of the sum of squares of the residuals (Friedman 2001). Cost: one walk per row
// and tree.
//
// Where steps are bounded, a node's term is that of the bounded step w: -(2 G w + (H + lambda)
// w^2).
//
// With `single` the sums F, the derivatives and the terms of a node are rounded to single
// precision, as libraries do that work in it: with a constant far from the target their own
// rounding is 1e-5 of the gain, and must be met to be compared.
//
// loss    squared, logistic (y 0/1), poisson, or softmax (y class number from 0)
// round   [n_trees], which round a tree belongs to, not falling
// group   [n_trees], which output it adds to
// weight  [rows], what rows count; nullptr: all the same
// gain    [n_columns * n_trees], set here
// mass    [n_trees], sum of h over the rows, set here
enum class Loss { squared = 0, logistic = 1, poisson = 2, softmax = 3 };
// Their names, in this order.
constexpr const char* loss_names[] = {"squared", "logistic", "poisson", "softmax"};

struct Boosting {
  Loss loss = Loss::squared;
  bool second_order = true;  // false: h = 1
  double lambda = 0;
  double most_step = 0;  // bound on a node's step, 0: none
  bool single = false;
  double curve = 2;               // softmax: h = curve * p (1 - p)
  const double* start = nullptr;  // [n_outputs], a constant that the trees of the first round hold
  const int* round = nullptr;
  const int* group = nullptr;
  const double* weight = nullptr;
  double rounded(double x) const { return single ? static_cast<float>(x) : x; }
};

bool recompute_gain(const Forest& forest, const Table& table, const double* y,
                    const Boosting& boosting, const Loop& loop, double* gain, double* mass);

// What the splits of boosted trees are worth on rows that they were not grown on.
//
// A tree moves a row's sum step by step: from the value of the root to that of the child it goes
// to, and so on to its leaf. Each step's fall of the row's loss belongs to the column asked,
//     l(y, F + v_node) - l(y, F + v_child),   F the sum of all trees before,
// so that over a tree the steps add up to l(F + v_root) - l(F + v_leaf). The value of a node is the
// mean of the leaves below it over the training rows. Losses: squared error, log loss, half the
// Poisson deviance.
//
// unit      [n_columns], to which unit a column's steps are added (-1: none); n_units
// sum       [n_units * slots], over rows: slot 0 all trees, slot k + 1 those of output k; slots = 1
// for one output square    the same, of the rows' squares
struct Worth {
  const int* unit = nullptr;
  int n_units = 0;
  int slots = 1;
  double* sum = nullptr;
  double* square = nullptr;
};

bool held_gain(const Forest& forest, const Table& train, const Table& held, const double* y,
               Loss loss, const int* group, const Loop& loop, const Worth& out);

}  // namespace dreher
