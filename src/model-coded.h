// The flat forest laid out anew for walks that compare many values at every node.
//
// A table's values become ranks: code = number of distinct values of the column below it (missing
// values: one code above all). A threshold becomes the number of distinct values at or below it, so
// that every question is `code >= threshold` between small integers, whatever the library's own
// rule was. A node takes 16 bytes; siblings stand side by side, trees breadth first, leaves lead to
// themselves. Questions about levels, missing values with a branch of their own and rows that stay
// for want of a value are `special`: they ask the plain forest.
#pragma once
#include <limits>

#include "model-forest.h"

namespace dreher {

using Code = std::uint32_t;
constexpr Code missing_code = std::numeric_limits<Code>::max();

// The ranks of a table's values: row after row, and what they stand for.
struct Ranks {
  Ranks(const Table& table, const Loop& loop);
  std::ptrdiff_t rows = 0;
  int columns = 0;
  bool done = false;                       // false when interrupted
  std::vector<Code> code;                  // [rows * columns], a row's codes side by side
  std::vector<std::vector<double>> value;  // per column the distinct values, rising
  std::vector<char> gaps;                  // per column: are any values missing?
  const Code* row(std::ptrdiff_t i) const { return code.data() + i * columns; }
  // A column's codes as whole numbers; missing values stand last.
  void copy_column(int column, int* out) const {
    for (std::ptrdiff_t i = 0; i < rows; ++i) {
      const Code c = row(i)[column];
      out[i] = static_cast<int>(c == missing_code ? value[column].size() : c);
    }
  }
  double decode(int column, Code c) const { return c == missing_code ? NAN : value[column][c]; }
};

class Coded {
 public:
  struct Step {
    Code code;
    int left;  // the right child stands behind it; leaves: the leaf itself
    unsigned column;
    std::uint8_t
        missing_left;  // adds 1 to both sides: the code of missing values becomes the least
    std::uint8_t special;
    std::uint8_t ends;  // is the left (1), the right (2) child a leaf? Not told of special nodes
  };
  Coded(const Forest& forest, const Ranks& ranks);

  const Step* steps() const { return step_.data(); }
  const Step& step(int at) const { return step_[at]; }
  int root(int t) const { return root_[t]; }
  int node(int at) const { return node_[at]; }  // which node of the forest a step is
  // Where a value leads; `at` itself where the walk ends.
  int next(int at, Code x) const {
    const Step& s = step_[at];
    if (s.special) return special(at, x);
    return s.left + (x + s.missing_left >= s.code + s.missing_left);
  }
  // What a tree adds to the outputs of rows that end here.
  const double* output(int at) const {
    return output_.data() + static_cast<std::ptrdiff_t>(at) * forest_.n_outputs;
  }
  bool leaf(int at) const { return forest_.column[node_[at]] < 0; }

 private:
  int special(int at, Code x) const;
  void weigh();
  const Forest& forest_;
  const Ranks& ranks_;
  std::vector<Step> step_;
  std::vector<int> root_, node_, place_;
  std::vector<double> output_;  // weight * value
};

}  // namespace dreher
