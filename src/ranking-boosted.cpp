#include "ranking-boosted.h"

namespace dreher {

namespace {

// First and second derivatives of the loss of one row by each output.
void derive(const Boosting& boosting, const double* F, double y, int K, double* g, double* h) {
  switch (boosting.loss) {
    case Loss::squared:
      g[0] = F[0] - y;
      h[0] = 1;
      break;
    case Loss::logistic: {
      const double p = 1 / (1 + std::exp(-F[0]));
      g[0] = p - y;
      h[0] = std::max(p * (1 - p), 1e-16);
      break;
    }
    case Loss::poisson:
      g[0] = std::exp(F[0]) - y;
      h[0] = std::exp(F[0] + boosting.most_step);
      break;
    case Loss::softmax: {
      const double top = *std::max_element(F, F + K);
      double total = 0;
      for (int k = 0; k < K; ++k) total += std::exp(F[k] - top);
      for (int k = 0; k < K; ++k) {
        const double p = std::exp(F[k] - top) / total;
        g[k] = p - (static_cast<int>(y) == k);
        h[k] = std::max(2 * p * (1 - p), 1e-16);
      }
    }
  }
  if (!boosting.second_order) std::fill(h, h + K, 1.0);
}

double worth(double G, double H, const Boosting& boosting) {
  H += boosting.lambda;
  if (H <= 0) return 0;
  const double step = -G / H, most = boosting.most_step;
  const double w = most > 0 ? std::min(std::max(step, -most), most) : step;
  return -(2 * G * w + H * w * w);
}

}  // namespace

bool regain(const Forest& f, const Table& table, const double* y, const Boosting& boosting, const Loop& loop, double* gain) {
  const std::ptrdiff_t n = table.rows;
  const int K = f.n_outputs, p = table.columns;
  std::vector<double> F(n * K), g(n * K), h(n * K);
  for (std::ptrdiff_t i = 0; i < n; ++i) std::copy(f.base, f.base + K, F.begin() + i * K);
  std::fill(gain, gain + static_cast<std::ptrdiff_t>(f.n_columns) * f.n_trees, 0.0);

  for (int first = 0; first < f.n_trees;) {
    int last = first;
    while (last < f.n_trees && boosting.round[last] == boosting.round[first]) ++last;
    for (std::ptrdiff_t i = 0; i < n; ++i) derive(boosting, &F[i * K], y[i], K, &g[i * K], &h[i * K]);
    std::vector<int> ends(n * (last - first));

    const bool done = each_row(loop, last - first, 64, [&](std::ptrdiff_t which, int) {
      const int t = first + static_cast<int>(which), k = boosting.group[t];
      const int from = f.root[t], to = t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes;
      std::vector<double> G(to - from, 0.0), H(to - from, 0.0), block(256 * static_cast<std::ptrdiff_t>(p));
      for (std::ptrdiff_t start = 0; start < n; start += 256) {
        const std::ptrdiff_t stop = std::min(n, start + 256);
        table.read_block(start, stop, block.data());
        for (std::ptrdiff_t i = start; i < stop; ++i) {
          const int end = f.end_of(f.root[t], block.data() + (i - start) * p);
          ends[which * n + i] = end;
          G[f.owner[end] - from] += g[i * K + k];
          H[f.owner[end] - from] += h[i * K + k];
        }
      }
      double* out = gain + static_cast<std::ptrdiff_t>(f.n_columns) * t;
      for (int node = to - 1; node >= from; --node) {
        if (f.column[node] < 0 || f.owner[node] != node) continue;
        const int l = f.left[node] - from, r = f.right[node] - from, m = f.missing[node];
        out[f.column[node]] += worth(G[l], H[l], boosting) + worth(G[r], H[r], boosting) -
          worth(G[l] + G[r], H[l] + H[r], boosting);
        G[node - from] += G[l] + G[r];
        H[node - from] += H[l] + H[r];
        if (f.third_branch(node)) {
          G[node - from] += G[m - from];
          H[node - from] += H[m - from];
        }
      }
    });
    if (!done) return false;
    for (int t = first; t < last; ++t) {
      for (std::ptrdiff_t i = 0; i < n; ++i) {
        const std::ptrdiff_t end = ends[static_cast<std::ptrdiff_t>(t - first) * n + i];
        for (int k = 0; k < K; ++k) F[i * K + k] += f.weight[t] * f.value[end * K + k];
      }
    }
    first = last;
  }
  return true;
}

}  // namespace dreher
