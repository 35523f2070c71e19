#include "model-forest.h"

namespace dreher {

const char* find_fault(const Forest& f, int* where) {
  for (int t = 0; t < f.n_trees; ++t) {
    *where = t;
    if (f.root[t] < 0 || f.root[t] >= f.n_nodes) return "the root of a tree is outside the node list";
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

namespace {

const std::ptrdiff_t block_rows = 256;

// Calls visit(i, t, end) for every row and tree; trees outside, rows inside, blocks in parallel.
template <class Visit>
bool walk_all(const Forest& f, const Table& table, const Loop& loop, Visit visit) {
  std::vector<std::vector<double>> blocks(loop.threads, std::vector<double>(block_rows * table.columns));
  return each_block(loop, table.rows, block_rows, [&](std::ptrdiff_t from, std::ptrdiff_t to, int thread) {
    double* block = blocks[thread].data();
    table.read_block(from, to, block);
    for (int t = 0; t < f.n_trees; ++t) {
      for (std::ptrdiff_t i = from; i < to; ++i) visit(i, t, f.end_of(f.root[t], block + (i - from) * table.columns));
    }
  });
}

}  // namespace

bool predict_rows(const Forest& f, const Table& table, const Loop& loop, double* out) {
  for (int k = 0; k < f.n_outputs; ++k) std::fill(out + table.rows * k, out + table.rows * (k + 1), f.base[k]);
  return walk_all(f, table, loop, [&](std::ptrdiff_t i, int t, int end) {
    const double* value = f.value + static_cast<std::ptrdiff_t>(end) * f.n_outputs;
    for (int k = 0; k < f.n_outputs; ++k) out[i + table.rows * k] += f.weight[t] * value[k];
  });
}

bool find_ends(const Forest& f, const Table& table, const Loop& loop, int* ends) {
  return walk_all(f, table, loop, [&](std::ptrdiff_t i, int t, int end) { ends[i + table.rows * t] = end; });
}

}  // namespace dreher
