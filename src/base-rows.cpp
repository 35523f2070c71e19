#include "base-rows.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <limits>
#include <numeric>

namespace dreher {

namespace {

// Powers of ten from 0 on, far enough to bring the smallest number to 15 digits.
using Powers = std::array<long double, 340>;

const Powers& powers() {
  static const Powers table = [] {
    Powers t;
    for (std::size_t i = 0; i < t.size(); ++i) t[i] = std::pow(10.0L, static_cast<int>(i));
    return t;
  }();
  return table;
}

// Does 10^exponent reach beyond the value?
bool beyond(long double value, int exponent) {
  const Powers& ten = powers();
  return exponent >= 0 ? value < ten[exponent] : value * ten[-exponent] < 1.0L;
}

}  // namespace

std::uint64_t key_of(double value) {
  if (std::isnan(value)) return 1;
  if (value == 0.0) return 2;
  if (std::isinf(value)) return value > 0 ? 3 : 4;
  const long double size = std::fabs(static_cast<long double>(value));
  // 10^exponent <= size < 10^(exponent + 1)
  int exponent = static_cast<int>(std::floor(std::ilogb(value) * 0.30102999566398120));
  exponent = std::min(std::max(exponent, -324), 308);
  if (beyond(size, exponent)) --exponent;
  if (!beyond(size, exponent + 1)) ++exponent;
  const int shift = 14 - exponent;
  const long double digits =
      shift >= 0 ? size * powers()[std::min(shift, 339)] : size / powers()[-shift];
  if (!(digits < 2e15L)) {  // no wider type on this machine
    std::uint64_t bits;
    std::memcpy(&bits, &value, sizeof bits);
    return bits;
  }
  std::uint64_t whole = static_cast<std::uint64_t>(std::llround(digits));
  if (whole >= 1000000000000000ULL) {
    whole = 100000000000000ULL;
    ++exponent;
  }
  return (whole * 2048 + static_cast<std::uint64_t>(exponent + 1024)) * 2 + (value < 0 ? 1 : 0);
}

std::vector<int> same_rows(const std::vector<std::uint64_t>& hashes) {
  std::vector<int> order(hashes.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin(), order.end(), [&](int a, int b) {
    return hashes[a] < hashes[b] || (hashes[a] == hashes[b] && a < b);
  });
  std::vector<int> first(hashes.size());
  int leader = 0;
  for (std::size_t i = 0; i < order.size(); ++i) {
    if (i == 0 || hashes[order[i]] != hashes[order[i - 1]]) leader = order[i] + 1;
    first[order[i]] = leader;
  }
  return first;
}

std::vector<double> mid_ranks(const double* x, std::size_t n) {
  struct Value {
    double value;
    std::size_t row;
  };
  std::vector<Value> known;
  known.reserve(n);
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isnan(x[i])) known.push_back({x[i], i});
  }
  std::sort(known.begin(), known.end(),
            [](const Value& a, const Value& b) { return a.value < b.value; });
  std::vector<double> rank(n, std::numeric_limits<double>::quiet_NaN());
  for (std::size_t from = 0; from < known.size();) {
    std::size_t to = from + 1;
    while (to < known.size() && known[to].value == known[from].value) ++to;
    const double middle = (static_cast<double>(from + 1) + static_cast<double>(to)) / 2;
    for (; from < to; ++from) rank[known[from].row] = middle;
  }
  return rank;
}

}  // namespace dreher
