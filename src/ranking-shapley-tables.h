// Shapley values of small trees by tables: what a row's answers to the questions of a subtree make
// of its players' parts is worked out once for all rows (see ranking-shapley.h). Cost per row: one
// look-up per subtree and player, whatever the number of background rows.
#pragma once
#include <cstdint>
#include <vector>

#include "ranking-quadrature.h"
#include "ranking-shapley.h"

namespace dreher {

constexpr int most_bits = 10;  // of a table's index

// A tree whose questions fit a word. A row's answers: bit j is set where inner node j sends it
// right.
struct SmallTree {
  struct Player {
    int player;
    std::uint64_t mask, want;  // satisfied where (answers & mask) == want
    double w;                  // share of training rows
  };
  struct Group {
    std::vector<Player> above;  // questions on the way to the group
    std::vector<int> inside;    // its own questions
    std::vector<int> players;   // all that any of its leaves asks
    std::vector<double> table;  // [players * outputs][2^(above + inside)]
  };
  std::vector<int> column;  // of each question
  std::vector<double> threshold;
  std::vector<char> missing_right;
  std::vector<Group> group;
  struct Use {
    int player, group, place;  // which of the group's players
  };
  std::vector<Use> use;  // by player
};

// Builds the tables of one tree; false where its questions do not fit. gaps: columns with missing
// values; points[q]: the quadrature of q points.
bool tabulate_tree(const Forest& forest, const Division& division, const std::vector<char>& gaps,
                   const std::vector<Quadrature>& points, int tree, SmallTree* out);

// Adds what the tables say of rows from `from` on, m of them, to phi [players * outputs][lanes].
void add_small(const SmallTree& tree, const Table& rows, std::ptrdiff_t from, int m, int outputs,
               double* phi);

}  // namespace dreher
