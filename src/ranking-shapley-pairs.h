// Shapley values of one row against one background row: a walk along both, parted where they part.
// The part of a leaf with a players of the row and b of the background row is a closed form (see
// ranking-shapley.h). Cost: the nodes that either of the two, or a mixture of them, can reach.
#pragma once
#include "model-forest.h"
#include "ranking-quadrature.h"

namespace dreher {

// Rows go through the trees in blocks; a block's values stand as [players * outputs][lanes].
constexpr int lanes = 1024;

enum Side : char { open = 0, of_row = 1, of_background = 2 };

// Settle: called as settle(node, mine, theirs) at every end of the path, mine being the players
// taken from the row, in order of the path, theirs those taken from the background row.
template <class Settle>
struct PairPath {
  const Forest& f;
  const int* player_of;
  const double* row;
  const double* other;      // the background row
  std::vector<char>& side;  // [n_players]
  std::vector<int>& mine;
  std::vector<int>& theirs;
  Settle settle;

  void walk(int node) {
    while (f.column[node] >= 0) {
      const int c = f.column[node];
      const int p = player_of[c];
      const int x = side[p] == of_background ? -2 : f.after(node, row[c]);
      const int z = side[p] == of_row ? -2 : f.after(node, other[c]);
      if (x != z && x != -2 && z != -2) {
        part(node, p, x, z);
        return;
      }
      const int next = x == -2 ? z : x;
      if (next < 0) break;
      node = next;
    }
    settle(node, mine, theirs);
  }

  void part(int node, int p, int x, int z) {
    side[p] = of_row;
    mine.push_back(p);
    if (x < 0)
      settle(node, mine, theirs);
    else
      walk(x);
    mine.pop_back();
    side[p] = of_background;
    theirs.push_back(p);
    if (z < 0)
      settle(node, mine, theirs);
    else
      walk(z);
    theirs.pop_back();
    side[p] = open;
  }
};

struct SettlePlayers {
  const Forest& f;
  const Weights& weights;
  double* phi;  // [n_players * n_outputs][lanes], this row's
  double scale;

  void operator()(int node, const std::vector<int>& mine, const std::vector<int>& theirs) const {
    const int a = static_cast<int>(mine.size()), b = static_cast<int>(theirs.size());
    if (a + b == 0) return;  // the same for every set of players: part of the baseline
    const double* value = f.value + static_cast<std::ptrdiff_t>(node) * f.n_outputs;
    const double up = a > 0 ? scale * weights(a, b) : 0;
    const double down = b > 0 ? scale * weights(b, a) : 0;
    for (int k = 0; k < f.n_outputs; ++k) {
      for (int p : mine) phi[(p * f.n_outputs + k) * lanes] += up * value[k];
      for (int p : theirs) phi[(p * f.n_outputs + k) * lanes] -= down * value[k];
    }
  }
};

}  // namespace dreher
