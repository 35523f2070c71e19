#include "ranking-impurity.h"

namespace dreher {

namespace {

int end_of_tree(const Forest& f, int t) { return t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes; }

bool is_split(const Forest& f, int node) { return f.column[node] >= 0 && f.owner[node] == node; }

double mean_of(const double* sums, int k, double otherwise) {
  return sums[0] > 0 ? sums[k + 1] / sums[0] : otherwise;
}

double square_over(double sum, double weight) { return weight > 0 ? sum * sum / weight : 0; }

}  // namespace

bool sum_nodes(const Forest& f, const Sample& sample, const double* centre, const Loop& loop,
               NodeSums* sums) {
  const std::ptrdiff_t n = sample.table.rows;
  const int p = sample.table.columns(), K = sample.n_targets;
  sums->width = K + 1;
  sums->value.assign(static_cast<std::size_t>(f.n_nodes) * sums->width, 0.0);

  const std::ptrdiff_t size = 4096;
  const Walk walk(f, n);
  std::vector<double> block(size * p), target(size * K);
  std::vector<std::vector<int>> ends(loop.threads, std::vector<int>(size));
  for (std::ptrdiff_t from = 0; from < n; from += size) {
    const std::ptrdiff_t to = std::min(n, from + size);
    sample.table.read_block(from, to, block.data());
    for (int k = 0; k < K; ++k) {
      for (std::ptrdiff_t i = from; i < to; ++i)
        target[(i - from) * K + k] = sample.target[i + n * k] - centre[k];
    }
    const bool has_missing = any_missing(block.data(), (to - from) * p);
    // A tree's sums belong to one thread, and its rows come in order: the same bits for any number.
    const bool done = each_row(loop, f.n_trees, 64, [&](std::ptrdiff_t t, int thread) {
      int* end = ends[thread].data();
      walk.find(static_cast<int>(t), block.data(), to - from, has_missing, end);
      for (std::ptrdiff_t i = from; i < to; ++i) {
        double w = 1;
        if (sample.rows == Rows::drawn) w = sample.count[i + n * t];
        if (sample.rows == Rows::left_out) w = sample.count[i + n * t] == 0;
        if (w <= 0) continue;
        double* s = sums->at(f.owner[end[i - from]]);
        s[0] += w;
        for (int k = 0; k < K; ++k) s[k + 1] += w * target[(i - from) * K + k];
      }
    });
    if (!done) return false;
  }
  for (int node = f.n_nodes - 1; node >= 0; --node) {
    if (!is_split(f, node)) continue;
    double* s = sums->at(node);
    const double* l = sums->at(f.left[node]);
    const double* r = sums->at(f.right[node]);
    for (int k = 0; k < sums->width; ++k) s[k] += l[k] + r[k];
    if (f.third_branch(node)) {
      const double* m = sums->at(f.missing[node]);
      for (int k = 0; k < sums->width; ++k) s[k] += m[k];
    }
  }
  return true;
}

void add_up_decreases(const Forest& f, int K, const NodeSums& train, const NodeSums* held,
                      const Decreases& out) {
  const std::ptrdiff_t per_tree = static_cast<std::ptrdiff_t>(f.n_columns) * K;
  const std::ptrdiff_t total = per_tree * f.n_trees;
  std::fill(out.classical, out.classical + total, 0.0);
  if (held != nullptr) {
    std::fill(out.covariance, out.covariance + total, 0.0);
    std::fill(out.gain, out.gain + total, 0.0);
  }
  for (int t = 0; t < f.n_trees; ++t) {
    const int first = f.root[t], last = end_of_tree(f, t);
    const double W = train.at(first)[0];
    const double O = held == nullptr ? 0 : held->at(first)[0];
    out.weight[t] = W;
    if (held != nullptr) out.held_weight[t] = O;
    for (int node = first; node < last; ++node) {
      if (!is_split(f, node)) continue;
      const double* l = train.at(f.left[node]);
      const double* r = train.at(f.right[node]);
      for (int k = 0; k < K; ++k) {
        const std::ptrdiff_t cell =
            f.column[node] + f.n_columns * (k + static_cast<std::ptrdiff_t>(K) * t);
        // Rows that stay at the node because they cannot be asked are not part of the split.
        if (W > 0) {
          out.classical[cell] += (square_over(l[k + 1], l[0]) + square_over(r[k + 1], r[0]) -
                                  square_over(l[k + 1] + r[k + 1], l[0] + r[0])) /
                                 W;
        }
        if (O <= 0) continue;
        const double root = mean_of(train.at(first), k, 0);
        const double here = mean_of(train.at(node), k, root);
        for (int child : {f.left[node], f.right[node]}) {
          const double* h = held->at(child);
          const double there = mean_of(train.at(child), k, here);
          out.covariance[cell] += (there - here) * (h[k + 1] - h[0] * root) / O;
          out.gain[cell] +=
              (2 * h[k + 1] * (there - here) + h[0] * (here * here - there * there)) / O;
        }
      }
    }
  }
}

void describe_use(const Forest& f, const NodeSums& train, double* splits, double* passing,
                  double* depth) {
  const std::ptrdiff_t total = static_cast<std::ptrdiff_t>(f.n_columns) * f.n_trees;
  std::fill(splits, splits + total, 0.0);
  std::fill(passing, passing + total, 0.0);
  std::fill(depth, depth + total, -1.0);
  std::vector<int> level(f.n_nodes, 0);
  for (int t = 0; t < f.n_trees; ++t) {
    const int first = f.root[t], last = end_of_tree(f, t);
    const double W = train.at(first)[0];
    for (int node = first; node < last; ++node) {
      if (!is_split(f, node)) continue;
      level[f.left[node]] = level[f.right[node]] = level[node] + 1;
      const std::ptrdiff_t cell = f.column[node] + static_cast<std::ptrdiff_t>(f.n_columns) * t;
      splits[cell] += 1;
      if (W > 0) passing[cell] += train.at(node)[0] / W;
      if (depth[cell] < 0 || level[node] < depth[cell]) depth[cell] = level[node];
    }
  }
}

std::vector<double> column_means(const double* y, std::ptrdiff_t rows, int columns) {
  std::vector<double> out(columns, 0.0);
  for (int k = 0; k < columns; ++k)
    for (std::ptrdiff_t i = 0; i < rows; ++i) out[k] += y[i + rows * k] / rows;
  return out;
}

}  // namespace dreher
