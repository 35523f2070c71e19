#include "ranking-shapley.h"

#include "ranking-shapley-cover.h"
#include "ranking-shapley-pairs.h"
#include "ranking-shapley-sets.h"
#include "ranking-shapley-tables.h"

namespace dreher {

std::vector<int> longest_paths(const Forest& f) {
  std::vector<int> depth(f.n_nodes, 0), out(f.n_trees);
  for (int i = f.n_nodes - 1; i >= 0; --i) {
    if (f.column[i] < 0) continue;
    int below = std::max(depth[f.left[i]], depth[f.right[i]]);
    if (f.missing[i] >= 0) below = std::max(below, depth[f.missing[i]]);
    depth[i] = below + 1;
  }
  for (int t = 0; t < f.n_trees; ++t) out[t] = depth[f.root[t]];
  return out;
}

bool divide_outputs(const Forest& f, const Table& rows, const Division& d, const Loop& loop,
                    double* phi) {
  const std::ptrdiff_t n = rows.rows;
  const int K = f.n_outputs, P = d.players, C = rows.columns();
  const std::vector<int> longest = longest_paths(f);
  const int most = std::min(*std::max_element(longest.begin(), longest.end()), P);
  const Weights weights(std::max(most, 1));
  std::vector<Quadrature> points;  // points[q]: of q points
  for (int q = 0; q <= std::max(points_for(most), most_bits); ++q) points.emplace_back(q);
  std::vector<char> gaps(C, 0);
  std::vector<double> others;
  const auto find_gaps = [&](const Table& table) {
    for (int c = 0; c < C; ++c)
      for (std::ptrdiff_t i = 0; i < table.rows && !gaps[c]; ++i)
        gaps[c] = std::isnan(table.at(i, c));
  };
  find_gaps(rows);
  if (d.background != nullptr) {
    find_gaps(*d.background);
    others.resize(d.background->rows * C);
    d.background->read_block(0, d.background->rows, others.data());
  }

  // Tables are made for some trees, all rows are sent through them, and they are dropped. Of large
  // trees fewer at a time: their tables are long.
  const double table_size =
      d.cover == nullptr
          ? 0
          : Descent::table_size(f.n_nodes / std::max(f.n_trees, 1), points_for(most));
  const int at_once =
      static_cast<int>(std::max(1.0, std::min(32.0, 6.4e7 / std::max(table_size, 1.0))));
  // Few pairs are followed one by one: sets pay from about 2,000 pairs on, for trees alike.
  const bool by_sets = d.background != nullptr && std::min(n, d.background->rows) >= 8 &&
                       n * d.background->rows >= 2000;
  // Several blocks a thread, so that none waits long for the last; sets gain by many rows.
  const std::ptrdiff_t parts =
      loop.threads > 1 ? (by_sets ? 1 : 4) * static_cast<std::ptrdiff_t>(loop.threads) : 1;
  const std::ptrdiff_t size =
      std::max<std::ptrdiff_t>(8, std::min<std::ptrdiff_t>(lanes, (n + parts - 1) / parts));
  std::vector<SmallTree> small(at_once);
  std::vector<Descent> descent;
  if (d.cover != nullptr)
    for (int j = 0; j < at_once; ++j) descent.emplace_back(f, d.player_of, P, d.cover);
  std::vector<char> is_small(at_once);
  struct Room {
    std::vector<double> block, phi;
    Descent::Room descent;
    std::vector<char> side;
    std::vector<int> mine, theirs;
  };
  std::vector<Room> rooms(loop.threads);
  std::vector<SetWalk> sets;
  for (int j = 0; by_sets && j < loop.threads; ++j)
    sets.emplace_back(f, d, weights, gaps, *std::max_element(longest.begin(), longest.end()),
                      lanes);
  for (Room& room : rooms) {
    room.block.resize(static_cast<std::size_t>(lanes) * C);
    room.phi.resize(static_cast<std::size_t>(lanes) * P * K);
    room.side.assign(P, open);
    room.descent.failed.assign(static_cast<std::size_t>(P) * Descent::together, 0);
  }
  std::fill(phi, phi + n * P * K, 0.0);
  for (int first = 0; first < f.n_trees; first += at_once) {
    const int count = std::min(at_once, f.n_trees - first);
    const bool built = each_row(loop, count, at_once, [&](std::ptrdiff_t j, int) {
      const int t = first + static_cast<int>(j);
      is_small[j] = longest[t] <= 63 && tabulate_tree(f, d, gaps, points, t, &small[j]);
      if (!is_small[j] && d.cover != nullptr) descent[j].prepare(t, points);
    });
    if (!built) return false;
    const bool done =
        each_block(loop, n, size, [&](std::ptrdiff_t from, std::ptrdiff_t to, int thread) {
          Room& room = rooms[thread];
          const int m = static_cast<int>(to - from);
          rows.read_block(from, to, room.block.data());
          std::fill(room.phi.begin(), room.phi.end(), 0.0);
          for (int j = 0; j < count; ++j) {
            const int t = first + j;
            if (loop.asks_to_stop(thread)) return;
            if (is_small[j]) {
              add_small(small[j], rows, from, m, K, room.phi.data());
              continue;
            }
            if (d.cover != nullptr) {
              for (int i = 0; i < m; i += Descent::together) {
                if (loop.asks_to_stop(thread)) return;
                descent[j].run(room.block.data() + static_cast<std::ptrdiff_t>(i) * C,
                               std::min(m - i, Descent::together), C, &room.descent,
                               room.phi.data() + i);
              }
              continue;
            }
            if (by_sets && std::min(longest[t], P) <= most_players) {
              sets[thread].run(t, rows, from, to, loop, thread, room.phi.data(), lanes);
              continue;
            }
            for (int i = 0; i < m; ++i) {
              if (loop.asks_to_stop(thread)) return;
              const double* row = room.block.data() + static_cast<std::ptrdiff_t>(i) * C;
              for (std::ptrdiff_t b = 0; b < d.background->rows; ++b) {
                const SettlePlayers settle{f, weights, room.phi.data() + i,
                                           f.weight[t] / d.background->rows};
                PairPath<SettlePlayers> pair{
                    f,         d.player_of, row,         others.data() + b * C,
                    room.side, room.mine,   room.theirs, settle};
                pair.walk(f.root[t]);
              }
            }
          }
          for (std::ptrdiff_t c = 0; c < static_cast<std::ptrdiff_t>(P) * K;
               ++c) {  // outputs stand side by side here, in slices there
            double* const to = phi + from + n * (c / K + P * (c % K));
            for (int i = 0; i < m; ++i) to[i] += room.phi[c * lanes + i];
          }
        });
    if (!done) return false;
  }
  return true;
}

}  // namespace dreher
