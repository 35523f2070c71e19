#include "effect-moments.h"

#include <algorithm>
#include <vector>

#include "base-loop.h"

namespace dreher {

namespace {

constexpr std::size_t kBlock = 128;

// Products of one column with eight at a time, which stand side by side in each row.
DREHER_WIDE void add_products(const double* one, const double* eight, std::size_t rows,
                              double* out) {
  double total[8] = {0, 0, 0, 0, 0, 0, 0, 0};
  for (std::size_t i = 0; i < rows; ++i) {
    for (int k = 0; k < 8; ++k) total[k] += one[i] * eight[8 * i + k];
  }
  for (int k = 0; k < 8; ++k) out[k] += total[k];
}

}  // namespace

void add_moments(const double* y, std::size_t rows, std::size_t points, double shift,
                 const double* weight, double* sum, double* square, double* cross) {
  const std::size_t groups = (points + 7) / 8;
  std::vector<double> by_column(kBlock * points);
  std::vector<double> by_row(kBlock * groups * 8, 0.0);
  std::vector<double> products(points * groups * 8, 0.0);
  for (std::size_t from = 0; from < rows; from += kBlock) {
    const std::size_t many = std::min(kBlock, rows - from);
    for (std::size_t j = 0; j < points; ++j) {
      const double* column = y + j * rows + from;
      double* plain = by_column.data() + j * kBlock;
      double* beside = by_row.data() + (j / 8) * kBlock * 8 + j % 8;
      double total = 0;
      double total_square = 0;
      for (std::size_t i = 0; i < many; ++i) {
        const double w = weight == nullptr ? 1.0 : weight[from + i];
        const double v = w * (column[i] - shift);
        plain[i] = v;
        beside[8 * i] = v;
        total += v;
        if (square != nullptr) total_square += w * v;
      }
      sum[j] += total;
      if (square != nullptr) square[j] += total_square;
    }
    for (std::size_t g = 0; g < groups; ++g) {
      const std::size_t last = std::min(points, 8 * g + 8);
      for (std::size_t j = 0; j < last; ++j) {
        add_products(by_column.data() + j * kBlock, by_row.data() + g * kBlock * 8, many,
                     products.data() + (j * groups + g) * 8);
      }
    }
  }
  for (std::size_t a = 0; a < points; ++a) {
    for (std::size_t b = a; b < points; ++b) {
      const double value = products[(a * groups + b / 8) * 8 + b % 8];
      cross[a + b * points] += value;
      if (a != b) cross[b + a * points] += value;
    }
  }
}

}  // namespace dreher
