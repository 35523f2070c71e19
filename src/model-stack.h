// Trees of other libraries, laid out behind each other as a flat forest has them.
#pragma once
#include <cstddef>
#include <vector>

namespace dreher {

// Where the nodes of all trees go, one array a field; `at` is the next free place. A question about
// levels sends level k to the right where its side is 1, else (-1) to the left.
struct Stack {
  int *column, *left, *right, *missing, *owner, *set_from, *set_size;
  double *threshold, *leaf_value;
  std::ptrdiff_t at = 0;
};

// Appends a tree of ranger's: nodes with left child 0 are leaves, whose value stands in `value`; a
// question about levels is a bit mask held in a double: bit k set sends level k + 1 to the right.
// ordered, levels: of each of the model's columns. False where a node asks a column that is not
// there.
bool stack_tree(const double* column, const double* value, const double* left, const double* right,
                std::ptrdiff_t nodes, const std::vector<int>& ordered,
                const std::vector<int>& levels, Stack* stack, std::vector<int>* side);

// From places in trees (size[t] nodes each, behind each other) to places in the list of all; -1,
// nowhere, stays so. False where the sizes do not fit.
bool shift_places(const int* x, std::ptrdiff_t n, const int* size, std::ptrdiff_t trees, int* out);

// The largest double below each x: a library's `x < cut` becomes our `x <= just_below(cut)`.
void next_below(const double* x, std::ptrdiff_t n, double* out);

// Values as a library sees them that works in single precision.
void to_single(const double* x, std::ptrdiff_t n, double* out);

}  // namespace dreher
