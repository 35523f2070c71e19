// Training rows that pass each node, and what a forest says when nothing is known.
#include "ranking-shapley.h"

namespace dreher {

bool count_cover(const Forest& f, const Table& table, const int* count, const Loop& loop,
                 double* cover) {
  std::fill(cover, cover + f.n_nodes, 0.0);
  std::vector<double> rows(4096 * static_cast<std::ptrdiff_t>(table.columns()));
  for (std::ptrdiff_t from = 0; from < table.rows; from += 4096) {
    const std::ptrdiff_t to = std::min(table.rows, from + 4096);
    table.read_block(from, to, rows.data());
    const bool done = each_row(loop, f.n_trees, 64, [&](std::ptrdiff_t t, int) {
      for (std::ptrdiff_t i = from; i < to; ++i) {
        const double by = count == nullptr ? 1 : count[i + table.rows * t];
        if (by == 0) continue;
        const double* row = rows.data() + (i - from) * table.columns();
        for (int node = f.root[t]; node >= 0;) {
          if (f.owner[node] == node) cover[node] += by;
          node = f.column[node] < 0 ? -1 : f.after(node, row[f.column[node]]);
        }
      }
    });
    if (!done) return false;
  }
  return true;
}

void cover_baseline(const Forest& f, const double* cover, double* baseline) {
  std::copy(f.base, f.base + f.n_outputs, baseline);
  for (int t = 0; t < f.n_trees; ++t) {
    const int last = t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes;
    if (cover[f.root[t]] <= 0) continue;
    for (int node = f.root[t]; node < last; ++node) {
      double ends = cover[node];  // rows that end here
      if (f.column[node] >= 0) {
        ends -= cover[f.left[node]] + cover[f.right[node]];
        if (f.third_branch(node)) ends -= cover[f.missing[node]];
      }
      if (ends <= 0 || f.owner[node] != node) continue;
      for (int k = 0; k < f.n_outputs; ++k) {
        baseline[k] += f.weight[t] * ends / cover[f.root[t]] *
                       f.value[static_cast<std::ptrdiff_t>(node) * f.n_outputs + k];
      }
    }
  }
}

}  // namespace dreher
