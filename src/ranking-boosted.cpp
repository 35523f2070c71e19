#include "ranking-boosted.h"

namespace dreher {

namespace {

// First and second derivatives of the loss of one row by each output.
void derive(const Boosting& boosting, const double* F, double y, int K, double* g, double* h) {
  const auto rounded = [&](double x) { return boosting.rounded(x); };
  switch (boosting.loss) {
    case Loss::squared:
      g[0] = F[0] - y;
      h[0] = 1;
      break;
    case Loss::logistic: {
      const double p = rounded(1 / rounded(1 + rounded(std::exp(-F[0]))));
      g[0] = p - y;
      h[0] = std::max(p * rounded(1 - p), 1e-16);
      break;
    }
    case Loss::poisson:
      g[0] = rounded(std::exp(F[0])) - y;
      h[0] = std::exp(rounded(F[0] + boosting.most_step));
      break;
    case Loss::softmax: {
      const double top = *std::max_element(F, F + K);
      double total = 0;
      for (int k = 0; k < K; ++k) total += g[k] = rounded(std::exp(rounded(F[k] - top)));
      for (int k = 0; k < K; ++k) {
        const double p = rounded(g[k] / rounded(total));
        g[k] = p - (static_cast<int>(y) == k);
        h[k] = std::max(rounded(boosting.curve * p) * rounded(1 - p), 1e-16);
      }
    }
  }
  for (int k = 0; k < K; ++k) {
    g[k] = rounded(g[k]);
    h[k] = boosting.second_order ? rounded(h[k]) : 1;
  }
}

double worth(double G, double H, const Boosting& boosting) {
  H += boosting.lambda;
  if (H <= 0) return 0;
  const double most = boosting.most_step;
  if (most <= 0) return boosting.rounded(boosting.rounded(G * G) / boosting.rounded(H));
  const auto rounded = [&](double x) { return boosting.rounded(x); };
  const double w = rounded(std::min(std::max(-G / H, -most), most)), g = rounded(G), h = rounded(H);
  return -rounded(rounded(rounded(2 * g) * w) + rounded(h * rounded(w * w)));
}

}  // namespace

bool recompute_gain(const Forest& f, const Table& table, const double* y, const Boosting& boosting,
                    const Loop& loop, double* gain, double* mass) {
  const std::ptrdiff_t n = table.rows;
  const int K = f.n_outputs, p = table.columns();
  std::vector<double> F(n * K), g(n * K), h(n * K);
  for (std::ptrdiff_t i = 0; i < n; ++i)
    for (int k = 0; k < K; ++k) F[i * K + k] = boosting.rounded(f.base[k] + boosting.start[k]);
  std::fill(gain, gain + static_cast<std::ptrdiff_t>(f.n_columns) * f.n_trees, 0.0);

  for (int first = 0; first < f.n_trees;) {
    int last = first;
    while (last < f.n_trees && boosting.round[last] == boosting.round[first]) ++last;
    for (std::ptrdiff_t i = 0; i < n; ++i) {
      derive(boosting, &F[i * K], boosting.rounded(y[i]), K, &g[i * K], &h[i * K]);
      if (boosting.weight == nullptr) continue;
      for (int k = 0; k < K; ++k) {
        g[i * K + k] = boosting.rounded(g[i * K + k] * boosting.rounded(boosting.weight[i]));
        h[i * K + k] = boosting.rounded(h[i * K + k] * boosting.rounded(boosting.weight[i]));
      }
    }
    std::vector<int> ends(n * (last - first));

    const bool done = each_row(loop, last - first, 64, [&](std::ptrdiff_t which, int) {
      const int t = first + static_cast<int>(which), k = boosting.group[t];
      const int from = f.root[t], to = t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes;
      std::vector<double> G(to - from, 0.0), H(to - from, 0.0),
          block(256 * static_cast<std::ptrdiff_t>(p));
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
        const double children =
            boosting.rounded(worth(G[l], H[l], boosting) + worth(G[r], H[r], boosting));
        out[f.column[node]] +=
            boosting.rounded(children - worth(G[l] + G[r], H[l] + H[r], boosting));
        G[node - from] += G[l] + G[r];
        H[node - from] += H[l] + H[r];
        if (f.third_branch(node)) {
          G[node - from] += G[m - from];
          H[node - from] += H[m - from];
        }
      }
      mass[t] = H[f.root[t] - from];
    });
    if (!done) return false;
    if (first == 0) {  // the trees bring the constant themselves
      for (std::ptrdiff_t i = 0; i < n; ++i)
        for (int k = 0; k < K; ++k) F[i * K + k] = boosting.rounded(f.base[k]);
    }
    for (int t = first; t < last; ++t) {
      for (std::ptrdiff_t i = 0; i < n; ++i) {
        const std::ptrdiff_t end = ends[static_cast<std::ptrdiff_t>(t - first) * n + i];
        for (int k = 0; k < K; ++k)
          F[i * K + k] = boosting.rounded(F[i * K + k] + f.weight[t] * f.value[end * K + k]);
      }
    }
    first = last;
  }
  return true;
}

namespace {

double loss_of(Loss loss, const double* F, double y, int K) {
  switch (loss) {
    case Loss::squared:
      return (y - F[0]) * (y - F[0]);
    case Loss::logistic:
      return std::log1p(std::exp(-std::fabs(F[0]))) + std::max(F[0], 0.0) - y * F[0];
    case Loss::poisson:
      return std::exp(F[0]) - y * F[0];
    case Loss::softmax:
      break;
  }
  const double top = *std::max_element(F, F + K);
  double total = 0;
  for (int k = 0; k < K; ++k) total += std::exp(F[k] - top);
  return top + std::log(total) - F[static_cast<int>(y)];
}

}  // namespace

bool held_gain(const Forest& f, const Table& train, const Table& held, const double* y, Loss loss,
               const int* group, const Loop& loop, const Worth& out) {
  const int K = f.n_outputs, p = held.columns();
  const std::ptrdiff_t size = 256, cells = static_cast<std::ptrdiff_t>(out.n_units) * out.slots;

  // Mean of the leaves below each node, over the training rows; where none came by, over the
  // children.
  std::vector<double> weight(f.n_nodes, 0.0), value(f.n_nodes, 0.0);
  std::vector<double> rows(4096 * static_cast<std::ptrdiff_t>(p));
  for (std::ptrdiff_t from = 0; from < train.rows; from += 4096) {
    const std::ptrdiff_t to = std::min(train.rows, from + 4096);
    train.read_block(from, to, rows.data());
    const bool done = each_row(loop, f.n_trees, 64, [&](std::ptrdiff_t t, int) {
      for (std::ptrdiff_t i = from; i < to; ++i)
        weight[f.end_of(f.root[t], rows.data() + (i - from) * p)] += 1;
    });
    if (!done) return false;
  }
  for (int t = f.n_trees - 1; t >= 0; --t) {
    const int last = t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes;
    for (int node = last - 1; node >= f.root[t]; --node) {
      if (f.column[node] < 0) {
        value[node] = f.weight[t] * f.value[static_cast<std::ptrdiff_t>(node) * K + group[t]];
        continue;
      }
      const int child[3] = {f.left[node], f.right[node],
                            f.third_branch(node) ? f.missing[node] : -1};
      double w = 0, s = 0, plain = 0;
      for (int c : child)
        if (c >= 0) {
          w += weight[c];
          s += weight[c] * value[c];
          plain += value[c];
        }
      value[node] = w > 0 ? s / w : plain / (child[2] >= 0 ? 3 : 2);
      weight[node] = w;
    }
  }

  const std::ptrdiff_t n_blocks = (held.rows + size - 1) / size;
  std::vector<double> partial(n_blocks * cells * 2, 0.0);
  struct Room {
    std::vector<double> block, F, worth;
  };
  std::vector<Room> rooms(loop.threads);
  for (Room& room : rooms) {
    room.block.resize(size * p);
    room.F.resize(K);
    room.worth.resize(cells);
  }
  const bool done =
      each_block(loop, held.rows, size, [&](std::ptrdiff_t from, std::ptrdiff_t to, int thread) {
        Room& room = rooms[thread];
        held.read_block(from, to, room.block.data());
        double* sum = partial.data() + from / size * cells * 2;
        for (std::ptrdiff_t i = from; i < to; ++i) {
          const double* row = room.block.data() + (i - from) * p;
          std::copy(f.base, f.base + K, room.F.begin());
          std::fill(room.worth.begin(), room.worth.end(), 0.0);
          for (int t = 0; t < f.n_trees; ++t) {
            const int k = group[t];
            const double before = room.F[k];
            int node = f.root[t];
            room.F[k] = before + value[node];
            double here = loss_of(loss, room.F.data(), y[i], K);
            while (f.column[node] >= 0) {
              const int next = f.after(node, row[f.column[node]]);
              if (next < 0) break;
              room.F[k] = before + value[next];
              const double there = loss_of(loss, room.F.data(), y[i], K);
              const int u = out.unit[f.column[node]];
              if (u >= 0) {
                room.worth[u] += here - there;
                if (out.slots > 1)
                  room.worth[static_cast<std::ptrdiff_t>(k + 1) * out.n_units + u] += here - there;
              }
              here = there;
              node = next;
            }
          }
          for (std::ptrdiff_t c = 0; c < cells; ++c) {
            sum[c] += room.worth[c];
            sum[cells + c] += room.worth[c] * room.worth[c];
          }
        }
      });
  if (!done) return false;
  std::fill(out.sum, out.sum + cells, 0.0);
  std::fill(out.square, out.square + cells, 0.0);
  for (std::ptrdiff_t b = 0; b < n_blocks; ++b) {
    for (std::ptrdiff_t c = 0; c < cells; ++c) {
      out.sum[c] += partial[b * cells * 2 + c];
      out.square[c] += partial[b * cells * 2 + cells + c];
    }
  }
  return true;
}

}  // namespace dreher
