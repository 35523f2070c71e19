#include "ranking-permutation.h"

namespace dreher {

namespace {

using Mask = std::uint64_t;

inline int lowest_bit(Mask mask) { return __builtin_ctzll(mask); }

// One row's walk through one tree.
struct Walker {
  const Forest& f;
  const Table& table;
  const int* player_of;
  const double* row;              // the row's own values
  const int* donor;               // [repeats], stride `rows`
  std::ptrdiff_t rows;
  std::vector<int>* end_node;     // [n_players * repeats]
  int repeats;

  double given(int column, int repeat) const { return table.at(donor[rows * repeat], column); }

  // Carries the repeats in `mask`, whose `player` is replaced, from `node` to their ends.
  void carry(int node, int player, Mask mask) {
    while (node >= 0 && f.column[node] >= 0) {
      const int c = f.column[node];
      if (player_of[c] != player) {
        const int next = f.after(node, row[c]);
        if (next < 0) break;
        node = next;
        continue;
      }
      // The same player is asked again: part the mask by where each repeat goes. A node has at
      // most three successors or stays, so at most four parts.
      Mask rest = mask;
      int main_next = -2;
      Mask main_mask = 0;
      while (rest) {
        const int next = f.after(node, given(c, lowest_bit(rest)));
        Mask same = 0;
        for (Mask m = rest; m; m &= m - 1) {
          const Mask bit = m & (~m + 1);
          if (f.after(node, given(c, lowest_bit(m))) == next) same |= bit;
        }
        rest &= ~same;
        if (main_next == -2) { main_next = next; main_mask = same; }
        else if (next < 0) settle(node, player, same);
        else carry(next, player, same);
      }
      mask = main_mask;
      if (main_next < 0) break;
      node = main_next;
    }
    settle(node, player, mask);
  }

  void settle(int node, int player, Mask mask) {
    for (; mask; mask &= mask - 1) (*end_node)[player * repeats + lowest_bit(mask)] = node;
  }
};

}  // namespace

bool shuffle_change(const Forest& f, const Table& table, const int* player_of, int n_players,
                    const int* donor, int repeats, const Loop& loop, double* change) {
  const std::ptrdiff_t n = table.rows;
  const int K = f.n_outputs;
  const Mask all = repeats >= 64 ? ~Mask(0) : (Mask(1) << repeats) - 1;
  const std::ptrdiff_t size = 64;
  struct Room {
    std::vector<double> block;
    std::vector<Mask> left;        // per player: repeats still on the real path
    std::vector<int> end_node;     // per player and repeat
    std::vector<int> parted;       // players with at least one repeat off the path
  };
  std::vector<Room> rooms(loop.threads);
  for (Room& room : rooms) {
    room.block.resize(size * table.columns);
    room.left.assign(n_players, all);
    room.end_node.assign(static_cast<std::size_t>(n_players) * repeats, -1);
  }
  std::fill(change, change + n * repeats * K * n_players, 0.0);
  return each_block(loop, n, size, [&](std::ptrdiff_t from, std::ptrdiff_t to, int thread) {
    Room& room = rooms[thread];
    table.read_block(from, to, room.block.data());
    for (int t = 0; t < f.n_trees; ++t) for (std::ptrdiff_t i = from; i < to; ++i) {
      const double* row = room.block.data() + (i - from) * table.columns;
      Walker walker{f, table, player_of, row, donor + i, n, &room.end_node, repeats};
      int node = f.root[t];
      room.parted.clear();
      while (f.column[node] >= 0) {
        const int c = f.column[node];
        const int next = f.after(node, row[c]);
        const int p = player_of[c];
        if (p >= 0 && room.left[p]) {
          Mask off = 0;
          for (Mask m = room.left[p]; m; m &= m - 1) {
            const int r = lowest_bit(m);
            if (f.after(node, walker.given(c, r)) != next) off |= Mask(1) << r;
          }
          if (off) {
            if (room.left[p] == all) room.parted.push_back(p);
            room.left[p] &= ~off;
            walker.carry(node, p, off);
          }
        }
        if (next < 0) break;
        node = next;
      }
      // Node `node` is the real end. What the parted repeats reached instead is in end_node.
      const double* here = f.value + static_cast<std::ptrdiff_t>(node) * K;
      for (int p : room.parted) {
        for (Mask m = all & ~room.left[p]; m; m &= m - 1) {
          const int r = lowest_bit(m);
          const double* there = f.value + static_cast<std::ptrdiff_t>(room.end_node[p * repeats + r]) * K;
          for (int k = 0; k < K; ++k) {
            change[i + n * (r + repeats * (k + static_cast<std::ptrdiff_t>(K) * p))] += f.weight[t] * (there[k] - here[k]);
          }
        }
        room.left[p] = all;
      }
    }
  });
}

}  // namespace dreher
