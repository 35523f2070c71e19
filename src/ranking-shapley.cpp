#include "ranking-shapley.h"

namespace dreher {

namespace {

enum Side : char { open = 0, of_row = 1, of_background = 2 };

// weight(a, b) = (a-1)! b! / (a+b)!, the share of one of `a` players against `b`.
class Weights {
 public:
  explicit Weights(int most) : most_(most), w_((most + 1) * (most + 1), 0.0) {
    for (int a = 1; a <= most; ++a) {
      double w = 1.0 / a;   // b = 0: (a-1)! / a!
      for (int b = 0; a + b <= most; ++b) {
        w_[a * (most_ + 1) + b] = w;
        w *= (b + 1.0) / (a + b + 1.0);
      }
    }
  }
  double operator()(int a, int b) const { return w_[a * (most_ + 1) + b]; }

 private:
  int most_;
  std::vector<double> w_;
};

struct Pair {
  const Forest& f;
  const int* player_of;
  const Weights& weights;
  const double* row;
  const double* other;             // the background row
  std::vector<char>& side;         // [n_players]
  std::vector<int>& mine;          // players taken from the row, in order of the path
  std::vector<int>& theirs;        // players taken from the background row
  double* phi;                     // [n_players * n_outputs], outputs side by side
  double scale;

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
    settle(node);
  }

  void part(int node, int p, int x, int z) {
    side[p] = of_row;
    mine.push_back(p);
    if (x < 0) settle(node); else walk(x);
    mine.pop_back();
    side[p] = of_background;
    theirs.push_back(p);
    if (z < 0) settle(node); else walk(z);
    theirs.pop_back();
    side[p] = open;
  }

  void settle(int node) {
    const int a = static_cast<int>(mine.size()), b = static_cast<int>(theirs.size());
    if (a + b == 0) return;   // the same for every set of players: part of the baseline
    const double* value = f.value + static_cast<std::ptrdiff_t>(node) * f.n_outputs;
    const double up = a > 0 ? scale * weights(a, b) : 0;
    const double down = b > 0 ? scale * weights(b, a) : 0;
    for (int k = 0; k < f.n_outputs; ++k) {
      for (int p : mine) phi[p * f.n_outputs + k] += up * value[k];
      for (int p : theirs) phi[p * f.n_outputs + k] -= down * value[k];
    }
  }
};

// The most players that one path can ask: bounds the weights.
int longest_path(const Forest& f, int n_players) {
  std::vector<int> depth(f.n_nodes, 0);
  int most = 0;
  for (int i = f.n_nodes - 1; i >= 0; --i) {
    if (f.column[i] < 0) continue;
    int below = std::max(depth[f.left[i]], depth[f.right[i]]);
    if (f.missing[i] >= 0) below = std::max(below, depth[f.missing[i]]);
    depth[i] = below + 1;
    most = std::max(most, depth[i]);
  }
  return std::min(most, n_players);
}

}  // namespace

bool shapley_background(const Forest& f, const Table& rows, const Table& background,
                        const int* player_of, int n_players, const Loop& loop, double* phi) {
  const std::ptrdiff_t n = rows.rows, m = background.rows;
  const Weights weights(longest_path(f, n_players));
  std::vector<double> others(m * background.columns);
  for (std::ptrdiff_t b = 0; b < m; ++b) background.read_row(b, others.data() + b * background.columns);

  struct Room {
    std::vector<double> row, phi;
    std::vector<char> side;
    std::vector<int> mine, theirs;
  };
  std::vector<Room> rooms(loop.threads);
  for (Room& room : rooms) {
    room.row.resize(rows.columns);
    room.phi.resize(static_cast<std::size_t>(n_players) * f.n_outputs);
    room.side.assign(n_players, open);
  }
  return each_row(loop, n, 16, [&](std::ptrdiff_t i, int thread) {
    Room& room = rooms[thread];
    rows.read_row(i, room.row.data());
    std::fill(room.phi.begin(), room.phi.end(), 0.0);
    for (int t = 0; t < f.n_trees; ++t) {
      for (std::ptrdiff_t b = 0; b < m; ++b) {
        Pair pair{f, player_of, weights, room.row.data(), others.data() + b * background.columns,
                  room.side, room.mine, room.theirs, room.phi.data(), f.weight[t] / m};
        pair.walk(f.root[t]);
      }
    }
    for (int p = 0; p < n_players; ++p) {
      for (int k = 0; k < f.n_outputs; ++k) {
        phi[i + n * (p + static_cast<std::ptrdiff_t>(n_players) * k)] = room.phi[p * f.n_outputs + k];
      }
    }
  });
}

}  // namespace dreher
