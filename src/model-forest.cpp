#include "model-forest.h"

namespace dreher {

const char* find_fault(const Forest& f, int* where) {
  for (int t = 0; t < f.n_trees; ++t) {
    *where = t;
    if (f.root[t] < 0 || f.root[t] >= f.n_nodes)
      return "the root of a tree is outside the node list";
    if (!std::isfinite(f.weight[t])) return "the weight of a tree is not a finite number";
  }
  for (int i = 0; i < f.n_nodes; ++i) {
    *where = i;
    for (int k = 0; k < f.n_outputs; ++k) {
      if (!std::isfinite(f.value[static_cast<std::ptrdiff_t>(i) * f.n_outputs + k])) {
        return "the value of a node is not a finite number";
      }
    }
    if (f.owner[i] < 0 || f.owner[i] > i) return "a node stands in for one that comes after it";
    if (f.column[i] < 0) continue;
    if (f.column[i] >= f.n_columns) return "a node asks a column that the model does not have";
    const bool later = f.left[i] > i && f.right[i] > i && (f.missing[i] == -1 || f.missing[i] > i);
    const bool inside = f.left[i] < f.n_nodes && f.right[i] < f.n_nodes && f.missing[i] < f.n_nodes;
    if (!later) return "a node leads back to itself or to an earlier one";
    if (!inside) return "a node leads outside the node list";
    if (f.set_from[i] < 0) {
      if (std::isnan(f.threshold[i])) return "a threshold is missing";
    } else if (f.set_size[i] < 0 || f.set_from[i] > f.set_total - f.set_size[i]) {
      return "a set of levels lies outside the list of sets";
    }
  }
  return nullptr;
}

const char* order_nodes(const int* left, const int* right, const int* column, int n,
                        std::vector<int>* order) {
  order->clear();
  if (n < 1) return "a tree has no nodes";
  std::vector<char> met(n, 0);
  met[0] = 1;
  order->push_back(0);
  for (std::size_t i = 0; i < order->size(); ++i) {
    const int node = (*order)[i];
    if (column[node] < 0) continue;
    for (int child : {left[node], right[node]}) {
      if (child < 0 || child >= n) return "a node leads outside its tree";
      if (met[child]) return "a node is reached in two ways";
      met[child] = 1;
      order->push_back(child);
    }
  }
  return nullptr;
}

Walk::Walk(const Forest& f, std::ptrdiff_t rows) : forest_(f) {
  if (rows < 100) return;
  for (int i = 0; i < f.n_nodes; ++i) {
    if (f.owner[i] != i || (f.column[i] >= 0 && f.set_from[i] >= 0)) return;
  }
  quick_ = true;
  step_.reserve(f.n_nodes);
  node_.reserve(f.n_nodes);
  std::vector<int> level;
  for (int t = 0; t < f.n_trees; ++t) {
    const int first = static_cast<int>(step_.size());
    root_.push_back(first);
    node_.push_back(f.root[t]);
    level.assign(1, 0);
    int deepest = 0;
    for (int at = first; at < static_cast<int>(node_.size()); ++at) {
      if (static_cast<int>(node_.size()) >
          f.n_nodes) {  // trees that share nodes would grow without end
        quick_ = false;
        return;
      }
      const int node = node_[at];
      if (f.column[node] < 0) {
        step_.push_back(Step{INFINITY, 0, 0, at});
        continue;
      }
      const bool right = f.missing[node] == f.right[node];
      if (!right && f.missing[node] != f.left[node]) takes_missing_ = false;
      step_.push_back(Step{f.threshold[node], static_cast<unsigned>(f.column[node]), right,
                           static_cast<int>(node_.size())});
      node_.push_back(f.left[node]);
      node_.push_back(f.right[node]);
      const int below = level[at - first] + 1;
      level.push_back(below);
      level.push_back(below);
      deepest = std::max(deepest, below);
    }
    depth_.push_back(deepest);
  }
}

template <bool has_missing>
void Walk::find_eight(int t, const double* rows, int* ends) const {
  const std::ptrdiff_t p = forest_.n_columns;
  const Step* step = step_.data();
  int at[8];
  for (int r = 0; r < 8; ++r) at[r] = root_[t];
  for (int d = depth_[t]; d > 0; --d) {
    int moved = 0;
    for (int r = 0; r < 8; ++r) {
      const Step& s = step[at[r]];
      const double x = rows[r * p + s.column];
      bool right = x > s.threshold;
      if (has_missing) right |= std::isnan(x) & s.missing_right;
      const int next = s.left + right;
      moved |= next ^ at[r];
      at[r] = next;
    }
    if (moved == 0) break;
  }
  for (int r = 0; r < 8; ++r) ends[r] = node_[at[r]];
}

void Walk::find(int t, const double* block, std::ptrdiff_t rows, bool has_missing,
                int* ends) const {
  const std::ptrdiff_t p = forest_.n_columns;
  std::ptrdiff_t i = 0;
  if (quick_ && (!has_missing || takes_missing_)) {
    for (; i + 8 <= rows; i += 8) {
      if (has_missing)
        find_eight<true>(t, block + i * p, ends + i);
      else
        find_eight<false>(t, block + i * p, ends + i);
    }
  }
  for (; i < rows; ++i) ends[i] = forest_.end_of(forest_.root[t], block + i * p);
}

bool any_missing(const double* block, std::ptrdiff_t cells) {
  for (std::ptrdiff_t c = 0; c < cells; ++c) {
    if (std::isnan(block[c])) return true;
  }
  return false;
}

namespace {

const std::ptrdiff_t most_block_rows = 256;

// Blocks of rows that stay in the processor's cache, however many columns there are.
std::ptrdiff_t block_rows_for(int columns) {
  return std::max<std::ptrdiff_t>(
      32, std::min<std::ptrdiff_t>(most_block_rows, 65536 / std::max(columns, 1) / 8 * 8));
}

// Calls visit(i, t, end) for every row and tree; trees outside, rows inside, blocks in parallel.
template <class Visit>
bool walk_all(const Forest& f, const Table& table, const Loop& loop, Visit visit) {
  const Walk walk(f, table.rows);
  const std::ptrdiff_t block_rows = block_rows_for(table.columns());
  std::vector<std::vector<double>> blocks(loop.threads,
                                          std::vector<double>(block_rows * table.columns()));
  return each_block(loop, table.rows, block_rows,
                    [&](std::ptrdiff_t from, std::ptrdiff_t to, int thread) {
                      double* block = blocks[thread].data();
                      table.read_block(from, to, block);
                      const bool has_missing = any_missing(block, (to - from) * table.columns());
                      int ends[most_block_rows];
                      for (int t = 0; t < f.n_trees; ++t) {
                        walk.find(t, block, to - from, has_missing, ends);
                        for (std::ptrdiff_t i = from; i < to; ++i) visit(i, t, ends[i - from]);
                      }
                    });
}

}  // namespace

bool predict_rows(const Forest& f, const Table& table, const Loop& loop, double* out) {
  for (int k = 0; k < f.n_outputs; ++k)
    std::fill(out + table.rows * k, out + table.rows * (k + 1), f.base[k]);
  return walk_all(f, table, loop, [&](std::ptrdiff_t i, int t, int end) {
    const double* value = f.value + static_cast<std::ptrdiff_t>(end) * f.n_outputs;
    for (int k = 0; k < f.n_outputs; ++k) out[i + table.rows * k] += f.weight[t] * value[k];
  });
}

bool find_ends(const Forest& f, const Table& table, const Loop& loop, int* ends) {
  return walk_all(f, table, loop,
                  [&](std::ptrdiff_t i, int t, int end) { ends[i + table.rows * t] = end; });
}

}  // namespace dreher
