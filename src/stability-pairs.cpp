#include "stability-pairs.h"
#include <algorithm>
#include <cmath>

namespace dreher {

namespace {

inline double sign_of(double a, double b) { return static_cast<double>(a > b) - static_cast<double>(a < b); }

}  // namespace

bool pair_up(const Draws& d, const Loop& loop, double* above, double* with) {
  const int B = d.resamples, P = d.predictors;
  // Pairs that are not tied, per resample.
  std::vector<double> untied(static_cast<std::size_t>(P) * B, 0.0);
  bool done = each_row(loop, P, 64, [&](std::ptrdiff_t j, int) {
    double* count = untied.data() + j * B;
    const double* a = d.of(static_cast<int>(j));
    for (int k = static_cast<int>(j) + 1; k < P; ++k) {
      const double* b = d.of(k);
      double larger = 0;
      for (int r = 0; r < B; ++r) {
        count[r] += a[r] != b[r];
        larger += 0.5 + 0.5 * sign_of(a[r], b[r]);
      }
      above[j + static_cast<std::ptrdiff_t>(P) * k] = B > 0 ? larger / B : NAN;
      above[k + static_cast<std::ptrdiff_t>(P) * j] = B > 0 ? 1 - larger / B : NAN;
    }
    above[j + static_cast<std::ptrdiff_t>(P) * j] = NAN;
  });
  if (!done) return false;
  std::vector<double> weight(B, 0.0);
  for (int j = 0; j < P; ++j) for (int r = 0; r < B; ++r) weight[r] += untied[static_cast<std::size_t>(j) * B + r];
  for (double& w : weight) w = w > 0 ? 1 / std::sqrt(w) : 0;
  // Every predictor sums what its pairs give; the sums are added up in order.
  std::vector<double> part(static_cast<std::size_t>(P) * B, 0.0);
  done = each_row(loop, P, 64, [&](std::ptrdiff_t j, int) {
    double* sum = part.data() + j * B;
    const double* a = d.of(static_cast<int>(j));
    std::vector<double> s(B);
    for (int k = static_cast<int>(j) + 1; k < P; ++k) {
      const double* b = d.of(k);
      double total = 0;
      for (int r = 0; r < B; ++r) total += s[r] = weight[r] * sign_of(a[r], b[r]);
      for (int r = 0; r < B; ++r) sum[r] += s[r] * (total - s[r]);
    }
  });
  if (!done) return false;
  for (int r = 0; r < B; ++r) {
    with[r] = 0;
    for (int j = 0; j < P; ++j) with[r] += part[static_cast<std::size_t>(j) * B + r];
    if (weight[r] == 0) with[r] = NAN;
  }
  return true;
}

bool largest_gaps(const Draws& d, const double* centre, const double* error, const Loop& loop, double* joint, double* single) {
  const int B = d.resamples, P = d.predictors;
  const bool done = each_row(loop, P, 64, [&](std::ptrdiff_t j, int) {
    double* most = single + j * B;
    std::fill(most, most + B, 0.0);
    const double* a = d.of(static_cast<int>(j));
    for (int k = 0; k < P; ++k) {
      const double se = error[j + static_cast<std::ptrdiff_t>(P) * k];
      if (k == j || !(se > 0)) continue;
      const double* b = d.of(k);
      const double by = 1 / se, middle = centre[j] - centre[k];
      for (int r = 0; r < B; ++r) most[r] = std::max(most[r], std::fabs(a[r] - b[r] - middle) * by);
    }
  });
  if (!done) return false;
  std::fill(joint, joint + B, 0.0);
  for (int j = 0; j < P; ++j) for (int r = 0; r < B; ++r) joint[r] = std::max(joint[r], single[static_cast<std::ptrdiff_t>(j) * B + r]);
  return true;
}

bool overlap_orders(const int* place, int predictors, int orders, double q, const Loop& loop, double* out) {
  const int P = predictors;
  return each_row(loop, orders, 16, [&](std::ptrdiff_t a, int) {
    std::vector<int> met(P + 1);
    for (int b = static_cast<int>(a); b < orders; ++b) {
      std::fill(met.begin(), met.end(), 0);
      const int* x = place + a * P;
      const int* y = place + static_cast<std::ptrdiff_t>(b) * P;
      for (int j = 0; j < P; ++j) ++met[std::max(x[j], y[j])];
      double sum = 0, power = 1, shared = 0;
      for (int depth = 1; depth <= P; ++depth) {
        shared += met[depth];
        power *= q;
        sum += shared / depth * power;
      }
      out[a + static_cast<std::ptrdiff_t>(orders) * b] = out[b + a * orders] = (1 - q) / q * sum + shared / P * power;
    }
  });
}

}  // namespace dreher
