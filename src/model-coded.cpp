#include "model-coded.h"

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

}  // namespace

Ranks::Ranks(const Table& table, const Loop& loop) : rows(table.rows), columns(table.columns), value(table.columns), gaps(table.columns, 0) {
  code.resize(static_cast<std::size_t>(rows) * columns);
  done = each_row(loop, columns, 8 * static_cast<std::ptrdiff_t>(loop.threads), [&](std::ptrdiff_t j, int) {
    std::vector<double>& known = value[j];
    known.reserve(rows);
    for (std::ptrdiff_t i = 0; i < rows; ++i) {
      const double x = table.at(i, static_cast<int>(j));
      if (!std::isnan(x)) known.push_back(x);
    }
    gaps[j] = static_cast<std::ptrdiff_t>(known.size()) < rows;
    std::sort(known.begin(), known.end());
    known.erase(std::unique(known.begin(), known.end()), known.end());
    for (std::ptrdiff_t i = 0; i < rows; ++i) {
      const double x = table.at(i, static_cast<int>(j));
      code[i * columns + j] = std::isnan(x) ? missing_code : count_below(known, x) - 1;
    }
  });
}

Coded::Coded(const Forest& f, const Ranks& ranks) : forest_(f), ranks_(ranks) {
  // Where nodes are led to in several ways (surrogates share children), they cannot stand side by side.
  bool graph = false;
  std::vector<char> met(f.n_nodes, 0);
  const auto meet = [&](int node) { graph = graph || met[node]++; };
  for (int t = 0; t < f.n_trees; ++t) meet(f.root[t]);
  for (int i = 0; i < f.n_nodes && !graph; ++i) {
    if (f.column[i] < 0) continue;
    meet(f.left[i]);
    meet(f.right[i]);
    if (f.missing[i] >= 0 && f.missing[i] != f.left[i] && f.missing[i] != f.right[i]) meet(f.missing[i]);
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
      const bool special = f.set_from[node] >= 0 || (ranks.gaps[c] && m != f.left[node] && m != f.right[node]);
      step_.push_back(Step{special ? 0 : count_below(ranks.value[c], f.threshold[node]), static_cast<int>(node_.size()), static_cast<unsigned>(c), m == f.left[node], special,
                           static_cast<unsigned>((f.column[f.left[node]] < 0) + 2 * (f.column[f.right[node]] < 0))});
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
      for (int k = 0; k < K; ++k) output_[at * K + k] = forest_.weight[t] * forest_.value[static_cast<std::ptrdiff_t>(node_[at]) * K + k];
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
