#include "stability-pairs.h"

#include <algorithm>
#include <cmath>

namespace dreher {

namespace {

// Numbers as their places among the distinct ones of a resample: the same order and ties, in short
// integers.
bool find_places(const Draws& d, const Loop& loop, std::vector<int>* out) {
  std::vector<int>& place = *out;
  place.resize(static_cast<std::size_t>(d.resamples) * d.predictors);
  return each_row(loop, d.resamples, std::max(d.resamples, 1), [&](std::ptrdiff_t r, int) {
    std::vector<double> known(d.predictors);
    for (int j = 0; j < d.predictors; ++j) known[j] = d.of(j)[r];
    std::vector<double> sorted = known;
    std::sort(sorted.begin(), sorted.end());
    for (int j = 0; j < d.predictors; ++j) {
      place[static_cast<std::size_t>(j) * d.resamples + r] = static_cast<int>(
          std::lower_bound(sorted.begin(), sorted.end(), known[j]) - sorted.begin());
    }
  });
}

// Twice the number of resamples in which a is larger, ties once; counts the pairs that are not
// tied.
DREHER_CLONES int compare_two(const int* __restrict a, const int* __restrict b, int B,
                              int* __restrict untied) {
  int larger = 0;
  for (int r = 0; r < B; ++r) {
    larger += 1 + (a[r] > b[r]) - (a[r] < b[r]);
    untied[r] += a[r] != b[r];
  }
  return larger;
}

// s = weight * sign; sum += s * (total of s - s). The total is taken in four parts, always the
// same.
DREHER_WIDE void add_products(const int* __restrict a, const int* __restrict b,
                              const double* __restrict weight, int B, double* __restrict s,
                              double* __restrict sum) {
  for (int r = 0; r < B; ++r) s[r] = weight[r] * ((a[r] > b[r]) - (a[r] < b[r]));
  double part[4] = {0, 0, 0, 0};
  int r = 0;
  for (; r + 4 <= B; r += 4)
    for (int q = 0; q < 4; ++q) part[q] += s[r + q];
  for (; r < B; ++r) part[0] += s[r];
  const double total = (part[0] + part[1]) + (part[2] + part[3]);
  for (r = 0; r < B; ++r) sum[r] += s[r] * (total - s[r]);
}

DREHER_CLONES void widen_gaps(const double* __restrict a, const double* __restrict b, double middle,
                              double by, int B, double* __restrict most) {
  for (int r = 0; r < B; ++r) {
    const double gap = std::fabs(a[r] - b[r] - middle) * by;
    most[r] = gap > most[r] ? gap : most[r];
  }
}

// Adds `more` where the place comes before k.
DREHER_CLONES void add_inside(const int* __restrict place, int k, int more, int B,
                              int* __restrict sum) {
  for (int b = 0; b < B; ++b) sum[b] += place[b] < k ? more : 0;
}

// In four parts, always the same.
DREHER_CLONES double shared_sum(const double* __restrict a, const double* __restrict b, int n) {
  double part[4] = {0, 0, 0, 0};
  int j = 0;
  for (; j + 4 <= n; j += 4)
    for (int q = 0; q < 4; ++q) part[q] += a[j + q] < b[j + q] ? a[j + q] : b[j + q];
  for (; j < n; ++j) part[0] += a[j] < b[j] ? a[j] : b[j];
  return (part[0] + part[1]) + (part[2] + part[3]);
}

}  // namespace

bool pair_up(const Draws& d, const Loop& loop, double* above, double* with) {
  const int B = d.resamples, P = d.predictors;
  std::vector<int> place;
  if (!find_places(d, loop, &place)) return false;
  const auto of = [&](std::ptrdiff_t j) { return place.data() + j * B; };
  std::vector<int> untied(static_cast<std::size_t>(P) * B, 0);
  bool done = each_row(loop, P, 64, [&](std::ptrdiff_t j, int) {
    for (int k = static_cast<int>(j) + 1; k < P; ++k) {
      const double larger = compare_two(of(j), of(k), B, untied.data() + j * B) / (2.0 * B);
      above[j + static_cast<std::ptrdiff_t>(P) * k] = larger;
      above[k + static_cast<std::ptrdiff_t>(P) * j] = 1 - larger;
    }
    above[j + static_cast<std::ptrdiff_t>(P) * j] = NAN;
  });
  if (!done) return false;
  std::vector<double> weight(B, 0.0);
  for (int j = 0; j < P; ++j)
    for (int r = 0; r < B; ++r) weight[r] += untied[static_cast<std::size_t>(j) * B + r];
  for (double& w : weight) w = w > 0 ? 1 / std::sqrt(w) : 0;
  // Every predictor sums what its pairs give; the sums are added up in order.
  std::vector<double> part(static_cast<std::size_t>(P) * B, 0.0);
  done = each_row(loop, P, 64, [&](std::ptrdiff_t j, int) {
    std::vector<double> s(B);
    for (int k = static_cast<int>(j) + 1; k < P; ++k)
      add_products(of(j), of(k), weight.data(), B, s.data(), part.data() + j * B);
  });
  if (!done) return false;
  for (int r = 0; r < B; ++r) {
    with[r] = 0;
    for (int j = 0; j < P; ++j) with[r] += part[static_cast<std::size_t>(j) * B + r];
    if (weight[r] == 0) with[r] = NAN;
  }
  return true;
}

bool largest_gaps(const Draws& d, const double* centre, const double* error, const Loop& loop,
                  double* joint, double* single) {
  const int B = d.resamples, P = d.predictors;
  const bool done = each_row(loop, P, 64, [&](std::ptrdiff_t j, int) {
    double* most = single + j * B;
    std::fill(most, most + B, 0.0);
    const double* a = d.of(static_cast<int>(j));
    for (int k = 0; k < P; ++k) {
      const double se = error[j + static_cast<std::ptrdiff_t>(P) * k];
      if (k == j || !(se > 0)) continue;
      widen_gaps(a, d.of(k), centre[j] - centre[k], 1 / se, B, most);
    }
  });
  if (!done) return false;
  std::fill(joint, joint + B, 0.0);
  for (int j = 0; j < P; ++j)
    for (int r = 0; r < B; ++r)
      joint[r] = std::max(joint[r], single[static_cast<std::ptrdiff_t>(j) * B + r]);
  return true;
}

bool overlap_orders(const int* place, int predictors, int orders, double q, const Loop& loop,
                    double* out) {
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
      out[a + static_cast<std::ptrdiff_t>(orders) * b] = out[b + a * orders] =
          (1 - q) / q * sum + shared / P * power;
    }
  });
}

bool overlap_shares(const double* share, int predictors, int orders, const Loop& loop,
                    double* out) {
  const int P = predictors;
  return each_row(loop, orders, 16, [&](std::ptrdiff_t a, int) {
    const double* x = share + a * P;
    for (int b = static_cast<int>(a); b < orders; ++b) {
      const double sum = shared_sum(x, share + static_cast<std::ptrdiff_t>(b) * P, P);
      out[a + static_cast<std::ptrdiff_t>(orders) * b] = out[b + a * orders] = sum;
    }
  });
}

bool follow_tops(const int* place, int predictors, int orders, const Loop& loop, double* squares,
                 double* together) {
  const int P = predictors, B = orders;
  std::vector<int> at(static_cast<std::size_t>(P) * B), along(at.size()), count(P, 0), more(P, 0),
      changed;
  for (int b = 0; b < B; ++b) {
    for (int j = 0; j < P; ++j) {
      const int k = place[j + static_cast<std::ptrdiff_t>(P) * b] - 1;
      at[static_cast<std::size_t>(k) * B + b] = j;
      along[static_cast<std::size_t>(j) * B + b] = k;
    }
  }
  std::vector<int> sum(B, 0);
  double square = 0;
  for (int k = 0; k + 1 < P; ++k) {
    if (k % 64 == 0 && loop.asks_to_stop(0)) return false;
    const int* in = at.data() + static_cast<std::ptrdiff_t>(k) * B;
    changed.clear();
    for (int b = 0; b < B; ++b)
      if (more[in[b]]++ == 0) changed.push_back(in[b]);
    for (int j : changed) {
      add_inside(along.data() + static_cast<std::ptrdiff_t>(j) * B, k, more[j], B, sum.data());
      square += static_cast<double>(more[j]) * (2.0 * count[j] + more[j]);
      count[j] += more[j];
      more[j] = 0;
    }
    squares[k] = square;
    for (int b = 0; b < B; ++b) {
      sum[b] += count[in[b]];
      together[b + static_cast<std::ptrdiff_t>(B) * k] = sum[b];
    }
  }
  return true;
}

}  // namespace dreher
