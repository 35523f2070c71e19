#include "model-coded.h"

#include <cstring>

namespace dreher {

namespace {

// How many of the rising values lie at or below x: the same few instructions whatever the answer.
Code count_below(const std::vector<double>& known, double x) {
  const double* from = known.data();
  std::size_t left = known.size();
  while (left > 1) {
    const std::size_t half = left / 2;
    from += (from[half - 1] <= x) * half;
    left -= half;
  }
  return static_cast<Code>(from - known.data() + (left == 1 && *from <= x));
}

// A number whose bits stand in the numbers' order (0 and -0 are one), and its row.
struct Placed {
  std::uint64_t key;
  std::uint32_t row;
};

std::uint64_t to_key(double x) {
  x += 0.0;
  std::uint64_t bits;
  std::memcpy(&bits, &x, sizeof bits);
  return bits >> 63 ? ~bits : bits | std::uint64_t(1) << 63;
}

double from_key(std::uint64_t key) {
  const std::uint64_t bits = key >> 63 ? key & ~(std::uint64_t(1) << 63) : ~key;
  double x;
  std::memcpy(&x, &bits, sizeof x);
  return x;
}

// By digits of eleven bits, the last first; digits in which all agree are passed over.
void sort_placed(std::vector<Placed>* all, std::vector<Placed>* room) {
  constexpr int digits = 6, bits = 11, most = 1 << bits;
  const auto digit = [](const Placed& p, int d) {
    return static_cast<int>(p.key >> (bits * d) & (most - 1));
  };
  std::vector<std::uint32_t> count(digits * most, 0);
  for (const Placed& p : *all)
    for (int d = 0; d < digits; ++d) ++count[d * most + digit(p, d)];
  room->resize(all->size());
  for (int d = 0; d < digits; ++d) {
    std::uint32_t* const from = count.data() + d * most;
    if (all->empty() || from[digit((*all)[0], d)] == all->size()) continue;
    std::uint32_t sum = 0;
    for (int i = 0; i < most; ++i) {
      const std::uint32_t here = from[i];
      from[i] = sum;
      sum += here;
    }
    for (const Placed& p : *all) (*room)[from[digit(p, d)]++] = p;
    all->swap(*room);
  }
}

}  // namespace

Ranks::Ranks(const Table& table, const Loop& loop)
    : rows(table.rows), columns(table.columns()), value(table.columns()), gaps(table.columns(), 0) {
  code.assign(static_cast<std::size_t>(rows) * columns, missing_code);
  struct Place {
    std::vector<Placed> all, room;
  };
  std::vector<Place> places(loop.threads);
  done = each_row(loop, columns, 8 * static_cast<std::ptrdiff_t>(loop.threads),
                  [&](std::ptrdiff_t j, int thread) {
                    std::vector<Placed>& all = places[thread].all;
                    all.clear();
                    for (std::ptrdiff_t i = 0; i < rows; ++i) {
                      const double x = table.at(i, static_cast<int>(j));
                      if (!std::isnan(x))
                        all.push_back(Placed{to_key(x), static_cast<std::uint32_t>(i)});
                    }
                    gaps[j] = static_cast<std::ptrdiff_t>(all.size()) < rows;
                    sort_placed(&all, &places[thread].room);
                    std::vector<double>& known = value[j];
                    for (std::size_t k = 0; k < all.size(); ++k) {
                      if (k == 0 || all[k].key != all[k - 1].key)
                        known.push_back(from_key(all[k].key));
                      code[static_cast<std::ptrdiff_t>(all[k].row) * columns + j] =
                          static_cast<Code>(known.size()) - 1;
                    }
                  });
}

Coded::Coded(const Forest& f, const Ranks& ranks) : forest_(f), ranks_(ranks) {
  // Where nodes are led to in several ways (surrogates share children), they cannot stand side by
  // side.
  bool graph = false;
  std::vector<char> met(f.n_nodes, 0);
  const auto meet = [&](int node) { graph = graph || met[node]++; };
  for (int t = 0; t < f.n_trees; ++t) meet(f.root[t]);
  for (int i = 0; i < f.n_nodes && !graph; ++i) {
    if (f.column[i] < 0) continue;
    meet(f.left[i]);
    meet(f.right[i]);
    if (f.missing[i] >= 0 && f.missing[i] != f.left[i] && f.missing[i] != f.right[i])
      meet(f.missing[i]);
  }
  step_.reserve(f.n_nodes);
  node_.reserve(f.n_nodes);
  place_.assign(f.n_nodes, -1);
  if (graph) {
    for (int i = 0; i < f.n_nodes; ++i) {
      place_[i] = i;
      node_.push_back(i);
      step_.push_back(Step{0, i, static_cast<unsigned>(std::max(f.column[i], 0)), 0, 1, 0});
    }
    root_.assign(f.root, f.root + f.n_trees);
    weigh();
    return;
  }
  const auto stand = [&](int node) {
    place_[node] = static_cast<int>(node_.size());
    node_.push_back(node);
  };
  for (int t = 0; t < f.n_trees; ++t) {
    const int first = static_cast<int>(node_.size());
    root_.push_back(first);
    stand(f.root[t]);
    for (int at = first; at < static_cast<int>(node_.size()); ++at) {
      const int node = node_[at], c = f.column[node];
      if (c < 0) {
        step_.push_back(Step{missing_code - 1, at, 0, 1, 0, 0});
        continue;
      }
      const int m = f.missing[node];
      const bool special =
          f.set_from[node] >= 0 || (ranks.gaps[c] && m != f.left[node] && m != f.right[node]);
      step_.push_back(Step{special ? 0 : count_below(ranks.value[c], f.threshold[node]),
                           static_cast<int>(node_.size()), static_cast<unsigned>(c),
                           m == f.left[node], special,
                           static_cast<std::uint8_t>((f.column[f.left[node]] < 0) +
                                                     2 * (f.column[f.right[node]] < 0))});
      stand(f.left[node]);
      stand(f.right[node]);
      if (m >= 0 && m != f.left[node] && m != f.right[node]) stand(m);
    }
  }
  weigh();
}

void Coded::weigh() {
  const int K = forest_.n_outputs;
  output_.resize(node_.size() * K);
  for (int t = 0; t < forest_.n_trees; ++t) {
    const std::size_t last = t + 1 < forest_.n_trees ? root_[t + 1] : node_.size();
    for (std::size_t at = root_[t]; at < last; ++at) {
      for (int k = 0; k < K; ++k)
        output_[at * K + k] =
            forest_.weight[t] * forest_.value[static_cast<std::ptrdiff_t>(node_[at]) * K + k];
    }
  }
}

int Coded::special(int at, Code x) const {
  const int node = node_[at], c = forest_.column[node];
  if (c < 0) return at;
  const int next = forest_.after(node, ranks_.decode(c, x));
  return next < 0 ? at : place_[next];
}

}  // namespace dreher
