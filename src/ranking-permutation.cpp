#include "ranking-permutation.h"

#include "ranking-walk.h"

namespace dreher {

namespace {

template <class W>
bool shuffle_blocks(const Forest& f, const Coded& coded, const Ranks& ranks, const Shuffle& s,
                    std::ptrdiff_t from, std::ptrdiff_t to, const Loop& loop, double* before,
                    double* after) {
  using Lane = typename W::Lane;
  const int K = f.n_outputs, P = s.players, R = s.repeats, C = ranks.columns;
  const int wide = (R + lanes_at_once<Lane>) / lanes_at_once<Lane> * lanes_at_once<Lane>,
            span = (R + 1) / 2 * 2;
  const std::ptrdiff_t n = ranks.rows, rows = to - from,
                       cells = static_cast<std::ptrdiff_t>(P) * K * span;
  const std::size_t codes = cell_of(C, 0) * wide;
  const Mask all = (Mask(1) << R) - 1;
  // Few enough rows that their changes stay in the processor's cache, enough that large trees are
  // not fetched too often.
  const std::ptrdiff_t most =
      std::min<std::ptrdiff_t>(f.n_nodes > 500.0 * f.n_trees ? 128 : 64, 131072 / cells);
  const std::ptrdiff_t size = std::max<std::ptrdiff_t>(1, most / group_rows) * group_rows,
                       groups = size / group_rows;

  const Switches switches;
  std::vector<Room<Lane>> rooms(loop.threads);
  for (Room<Lane>& room : rooms) {
    room.given.assign(groups * codes + lanes_at_once<Lane>, 0);
    room.skip = (16 - reinterpret_cast<std::uintptr_t>(room.given.data()) % 16) % 16 / sizeof(Lane);
    room.left.assign(cell_of(P, 0), all);
  }
  return each_block(loop, rows, size, [&](std::ptrdiff_t first, std::ptrdiff_t last, int thread) {
    Room<Lane>& room = rooms[thread];
    const int m = static_cast<int>(last - first);
    Lane* const even = room.given.data() + room.skip;
    for (int i = 0; i < m; ++i) {
      const std::ptrdiff_t row = from + first + i;
      Lane* given = even + (i / group_rows) * codes;
      const auto put = [&](int c, int r, Code code) {
        given[cell_of(c, i % group_rows) * wide + r] = narrow<Lane>(code);
      };
      for (int c = 0; c < C; ++c) put(c, R, ranks.row(row)[c]);
      for (int r = 0; r < R; ++r) {
        if (!s.own_donors) {
          const Code* donor = ranks.row(s.donor[first + i + rows * r]);
          for (int c = 0; c < C; ++c) put(c, r, donor[c]);
        } else {
          for (int c = 0; c < C; ++c) {
            if (s.player_of[c] >= 0)
              put(c, r,
                  ranks.row(
                      s.donor[first + i +
                              rows * (r + static_cast<std::ptrdiff_t>(R) * s.player_of[c])])[c]);
          }
        }
      }
    }
    room.own.assign(static_cast<std::size_t>(m) * K, 0.0);
    room.sum.assign(cells * size, 0.0);
    for (int t = 0; t < f.n_trees; ++t)
      for (int start = 0; start < m; start += group_rows) {
        if (start == 0 && loop.asks_to_stop(thread)) return;
        bool skip[group_rows] = {false};
        const std::ptrdiff_t row = from + first + start;
        const int count = std::min(group_rows, m - start);
        if (s.inbag != nullptr)
          for (int r = 0; r < count; ++r) skip[r] = s.inbag[row + r + n * t] > 0;
        const Group<W> group{&coded, coded.steps(), s.player_of, even + start / group_rows * codes,
                             count,  wide,          R,           span};
        shuffle_group(group, coded.root(t), skip, all, K, switches, room.own.data() + start * K,
                      room.sum.data() + start * cells, &room);
      }
    for (int k = 0; k < K; ++k) {
      double* base = before + first + rows * k;
      const auto scale = [&](int i) {
        return s.scale == nullptr ? 1.0 : s.scale[from + first + i];
      };
      for (int i = 0; i < m; ++i) base[i] = f.base[k] + scale(i) * room.own[i * K + k];
      for (int player = 0; player < P; ++player)
        for (int r = 0; r < R; ++r) {
          double* out =
              after + first + rows * (r + R * (player + static_cast<std::ptrdiff_t>(P) * k));
          for (int i = 0; i < m; ++i) {
            const double* change = room.sum.data() + i / group_rows * group_rows * cells +
                                   (cell_of(player, i % group_rows) * K + k) * span;
            out[i] = base[i] + scale(i) * change[r];
          }
        }
    }
  });
}

}  // namespace

bool shuffle_outputs(const Forest& f, const Coded& coded, const Ranks& ranks, const Shuffle& s,
                     std::ptrdiff_t from, std::ptrdiff_t to, const Loop& loop, double* before,
                     double* after) {
  std::size_t most = 0;
  bool gaps = false;
  for (int c = 0; c < ranks.columns; ++c) {
    most = std::max(most, ranks.value[c].size());
    gaps = gaps || ranks.gaps[c];
  }
  const auto go = [&](auto way) {
    return shuffle_blocks<decltype(way)>(f, coded, ranks, s, from, to, loop, before, after);
  };
  const auto choose = [&](auto lane) {
    using Lane = decltype(lane);
    const bool once = s.repeats < lanes_at_once<Lane>;
    return once   ? gaps ? go(Way<Lane, true, true>()) : go(Way<Lane, true, false>())
             : gaps ? go(Way<Lane, false, true>())
                  : go(Way<Lane, false, false>());
  };
  return most < 65000 ? choose(std::uint16_t()) : choose(Code());
}

}  // namespace dreher
