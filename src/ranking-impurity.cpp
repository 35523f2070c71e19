#include "ranking-impurity.h"

namespace dreher {

namespace {

double square_over(const double* sum, int n, double weight) {
  double total = 0;
  for (int k = 0; k < n; ++k) total += sum[k] * sum[k];
  return weight > 0 ? total / weight : 0;
}

}  // namespace

bool earn_impurity(const Forest& f, const Table& table, const double* target, int n_targets,
                   const int* counts, const Loop& loop, double* earned, int* empty) {
  // Targets are centred first: decreases do not change, and far-from-zero targets lose no digits.
  const std::ptrdiff_t n = table.rows;
  std::vector<double> centred(n * n_targets);
  for (int k = 0; k < n_targets; ++k) {
    double mean = 0;
    for (std::ptrdiff_t i = 0; i < n; ++i) mean += target[i + n * k] / n;
    for (std::ptrdiff_t i = 0; i < n; ++i) centred[i * n_targets + k] = target[i + n * k] - mean;
  }
  // Row-wise copy of the table, read once per tree.
  std::vector<double> rowwise(n * table.columns);
  for (std::ptrdiff_t i = 0; i < n; ++i) table.read_row(i, rowwise.data() + i * table.columns);

  const int width = n_targets + 1;   // weight, then the weighted targets
  std::vector<char> no_rows(f.n_trees, 0);
  const bool done = each_row(loop, f.n_trees, 64, [&](std::ptrdiff_t t, int) {
    const int first = f.root[t];
    const int last = t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes;
    std::vector<double> sums(static_cast<std::ptrdiff_t>(last - first) * width, 0.0);
    auto sum = [&](int node) { return sums.data() + static_cast<std::ptrdiff_t>(node - first) * width; };

    for (std::ptrdiff_t i = 0; i < n; ++i) {
      const double w = counts == nullptr ? 1.0 : counts[i + n * t];
      if (w <= 0) continue;
      const int end = f.end_of(first, rowwise.data() + i * table.columns);
      double* s = sum(f.owner[end]);
      s[0] += w;
      for (int k = 0; k < n_targets; ++k) s[k + 1] += w * centred[i * n_targets + k];
    }

    double* out = earned + t * f.n_columns;
    for (int j = 0; j < f.n_columns; ++j) out[j] = 0;
    std::vector<double> both(n_targets);
    for (int node = last - 1; node >= first; --node) {
      if (f.column[node] < 0 || f.owner[node] != node) continue;
      const double* l = sum(f.left[node]);
      const double* r = sum(f.right[node]);
      for (int k = 0; k < n_targets; ++k) both[k] = l[k + 1] + r[k + 1];
      out[f.column[node]] += square_over(l + 1, n_targets, l[0]) + square_over(r + 1, n_targets, r[0]) -
        square_over(both.data(), n_targets, l[0] + r[0]);
      double* s = sum(node);
      for (int k = 0; k < width; ++k) s[k] += l[k] + r[k];
    }
    const double whole = sum(first)[0];
    no_rows[t] = whole <= 0;
    for (int j = 0; j < f.n_columns; ++j) out[j] = whole > 0 ? out[j] / whole : 0;
  });
  *empty = 0;
  for (char none : no_rows) *empty += none;
  return done;
}

}  // namespace dreher
