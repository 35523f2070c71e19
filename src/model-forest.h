// The flat forest: one structure of arrays for every tree model.
//
// Nodes of all trees stand in one list. A node that asks has a column, a left, a right and a
// `missing` successor; a leaf has column -1. Successors always stand later in the list than the
// node itself, so every walk ends; `find_fault` proves this before anything else walks.
//
// What a row does at a node that asks column c:
//   value missing        -> `missing` (-1: the row stays, and this node's value is its answer)
//   numeric question     -> left if value <= threshold, else right
//   question about levels-> left, right, or as if missing, as `set_side` says of the level
// `missing` may lead to a node that asks another column in this one's place (a surrogate). Such a
// node has `owner` = the node it stands in for; all others own themselves. Surrogates share the
// owner's children, so the list is a graph without cycles rather than a tree.
//
// A forest's output is base + sum over trees of weight * value of the node where the row ends.
#pragma once
#include <cmath>
#include <cstddef>
#include <cstdint>
#include <vector>

#include "base-loop.h"

namespace dreher {

struct Forest {
  int n_trees = 0;
  int n_nodes = 0;
  int n_columns = 0;
  int n_outputs = 0;
  const int* root = nullptr;          // [n_trees]
  const double* weight = nullptr;     // [n_trees]
  const int* column = nullptr;        // [n_nodes], -1 for a leaf
  const double* threshold = nullptr;  // [n_nodes]
  const int* left = nullptr;          // [n_nodes]
  const int* right = nullptr;         // [n_nodes]
  const int* missing = nullptr;       // [n_nodes], -1: stop here
  const int* owner = nullptr;         // [n_nodes]
  const int* set_from = nullptr;      // [n_nodes], first entry in set_side, -1 for a number
  const int* set_size = nullptr;      // [n_nodes], number of levels
  const int* set_side =
      nullptr;  // [set_total], -1: this level goes left, 1: right, 0: as if missing
  int set_total = 0;
  const double* value = nullptr;  // [n_nodes * n_outputs], outputs of a node side by side
  const double* base = nullptr;   // [n_outputs]

  int after(int node, double x) const {
    if (std::isnan(x)) return missing[node];
    if (set_from[node] < 0) return x <= threshold[node] ? left[node] : right[node];
    const int level = static_cast<int>(x) - 1;
    const int side = level >= 0 && level < set_size[node] ? set_side[set_from[node] + level] : 0;
    return side == 0 ? missing[node] : side < 0 ? left[node] : right[node];
  }

  // Do missing values go to a branch of their own, neither child nor surrogate?
  bool third_branch(int node) const {
    const int m = missing[node];
    return m >= 0 && m != left[node] && m != right[node] && owner[m] == m;
  }

  // The node where a row (n_columns values side by side) ends.
  int end_of(int node, const double* row) const {
    while (column[node] >= 0) {
      const int next = after(node, row[column[node]]);
      if (next < 0) break;
      node = next;
    }
    return node;
  }
};

// A table of rows x columns; the columns stand where they are.
struct Table {
  std::vector<const double*> column;
  std::ptrdiff_t rows = 0;
  int columns() const { return static_cast<int>(column.size()); }
  double at(std::ptrdiff_t i, int j) const { return column[j][i]; }
  void read_row(std::ptrdiff_t i, double* row) const {
    for (int j = 0; j < columns(); ++j) row[j] = at(i, j);
  }
  // Rows [from, to), row after row.
  void read_block(std::ptrdiff_t from, std::ptrdiff_t to, double* block) const {
    const int p = columns();
    for (int j = 0; j < p; ++j) {
      const double* const cell = column[j];
      for (std::ptrdiff_t i = from; i < to; ++i) block[(i - from) * p + j] = cell[i];
    }
  }
};

// Walks blocks of rows through a forest.
//
// Where a tree asks numbers only and has no surrogates, it is laid out anew for walking: 16 bytes a
// node, breadth first, the right child behind the left one, and leaves that lead to themselves. A
// step is then the same few instructions for every row, without a branch to guess wrong, and eight
// rows go in step so that their waits for memory overlap. Missing values ride along where they
// follow a child at every node. Other blocks with missing values, and other forests, take the plain
// walk. All end at the same nodes.
class Walk {
 public:
  // The new layout costs one pass over the nodes: it pays from about a hundred rows on.
  Walk(const Forest& forest, std::ptrdiff_t rows);
  // ends[i] = node where row i of the block (rows side by side) ends in tree t.
  void find(int t, const double* block, std::ptrdiff_t rows, bool has_missing, int* ends) const;

 private:
  struct Step {
    double threshold;  // leaves: infinity
    unsigned column : 31;
    unsigned missing_right : 1;
    int left;  // leaves: the leaf itself
  };
  template <bool has_missing>
  void find_eight(int t, const double* rows, int* ends) const;
  const Forest& forest_;
  bool quick_ = false;
  bool takes_missing_ = true;  // at every node missing values follow a child
  std::vector<Step> step_;
  std::vector<int> node_;  // which node of the forest a step is
  std::vector<int> root_;
  std::vector<int> depth_;
};

bool any_missing(const double* block, std::ptrdiff_t cells);

// What is wrong with a forest, or nullptr; `where` receives the node (or tree).
const char* find_fault(const Forest& forest, int* where);

// The nodes of a tree from its root (0), breadth first: order[] receives their positions. nullptr,
// or what is wrong: a child outside the tree, or a node that is reached twice. Nodes that nothing
// leads to are left out.
const char* order_nodes(const int* left, const int* right, const int* column, int n,
                        std::vector<int>* order);

// out[i + rows * k] = output k of row i. Returns false when interrupted (here and below).
bool predict_rows(const Forest& forest, const Table& table, const Loop& loop, double* out);

// ends[i + rows * t] = node where row i ends in tree t.
bool find_ends(const Forest& forest, const Table& table, const Loop& loop, int* ends);

}  // namespace dreher
