#include "model-stack.h"

#include <cmath>
#include <limits>

namespace dreher {

bool stack_tree(const double* column, const double* value, const double* left, const double* right,
                std::ptrdiff_t nodes, const std::vector<int>& ordered,
                const std::vector<int>& levels, Stack* stack, std::vector<int>* side) {
  for (std::ptrdiff_t i = 0; i < nodes; ++i) {
    const std::ptrdiff_t at = stack->at++;
    const bool leaf = left[i] == 0;
    stack->owner[at] = static_cast<int>(i);
    stack->left[at] = static_cast<int>(left[i]);
    stack->right[at] = static_cast<int>(right[i]);
    stack->missing[at] = leaf ? 0 : -1;
    stack->set_from[at] = -1;
    stack->column[at] = -1;
    if (leaf) {
      stack->leaf_value[at] = value[i];
      continue;
    }
    if (!(column[i] >= 0 && column[i] < static_cast<double>(ordered.size()))) return false;
    const int asked = static_cast<int>(column[i]);
    stack->column[at] = asked;
    if (ordered[asked]) {
      stack->threshold[at] = value[i];
      continue;
    }
    stack->set_from[at] = static_cast<int>(side->size());
    stack->set_size[at] = levels[asked];
    double mask = value[i];
    for (int k = 0; k < levels[asked]; ++k) {
      side->push_back(std::fmod(mask, 2) >= 1 ? 1 : -1);
      mask = std::floor(mask / 2);
    }
  }
  return true;
}

bool shift_places(const int* x, std::ptrdiff_t n, const int* size, std::ptrdiff_t trees, int* out) {
  std::ptrdiff_t start = 0;
  for (std::ptrdiff_t t = 0; t < trees; ++t) {
    if (size[t] < 0 || start + size[t] > n) return false;
    for (std::ptrdiff_t i = start; i < start + size[t]; ++i)
      out[i] = x[i] < 0 ? -1 : x[i] + static_cast<int>(start);
    start += size[t];
  }
  return start == n;
}

void next_below(const double* x, std::ptrdiff_t n, double* out) {
  const double lowest = -std::numeric_limits<double>::infinity();
  for (std::ptrdiff_t i = 0; i < n; ++i) out[i] = std::nextafter(x[i], lowest);
}

void to_single(const double* x, std::ptrdiff_t n, double* out) {
  for (std::ptrdiff_t i = 0; i < n; ++i) out[i] = static_cast<float>(x[i]);
}

}  // namespace dreher
