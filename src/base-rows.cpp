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

namespace {

struct Value {
  std::uint64_t key;
  std::size_t row;
};

// A number that stands among others as `value` does; both zeros have one.
std::uint64_t order_key(double value) {
  const double same = value + 0.0;
  std::uint64_t bits;
  std::memcpy(&bits, &same, sizeof bits);
  return bits >> 63 ? ~bits : bits | (1ULL << 63);
}

// Sorts by key: digit by digit from the last (Hollerith), leaving out digits that all share; a few
// values by comparison.
void sort_values(std::vector<Value>& values) {
  constexpr int kBits = 11;
  constexpr std::size_t kDigits = std::size_t{1} << kBits;
  if (values.size() < 512) {
    std::sort(values.begin(), values.end(),
              [](const Value& a, const Value& b) { return a.key < b.key; });
    return;
  }
  std::vector<Value> other(values.size());
  std::vector<std::size_t> place(kDigits);
  for (int shift = 0; shift < 64; shift += kBits) {
    std::fill(place.begin(), place.end(), 0);
    for (const Value& v : values) ++place[(v.key >> shift) & (kDigits - 1)];
    if (place[(values[0].key >> shift) & (kDigits - 1)] == values.size()) continue;
    std::size_t before = 0;
    for (std::size_t& p : place) {
      const std::size_t here = p;
      p = before;
      before += here;
    }
    for (const Value& v : values) other[place[(v.key >> shift) & (kDigits - 1)]++] = v;
    values.swap(other);
  }
}

}  // namespace

std::vector<double> mid_ranks(const double* x, std::size_t n) {
  std::vector<Value> known;
  known.reserve(n);
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isnan(x[i])) known.push_back({order_key(x[i]), i});
  }
  sort_values(known);
  std::vector<double> rank(n, std::numeric_limits<double>::quiet_NaN());
  for (std::size_t from = 0; from < known.size();) {
    std::size_t to = from + 1;
    while (to < known.size() && known[to].key == known[from].key) ++to;
    const double middle = (static_cast<double>(from + 1) + static_cast<double>(to)) / 2;
    for (; from < to; ++from) rank[known[from].row] = middle;
  }
  return rank;
}

namespace {

// The quantile of share p: linear between the two order statistics around it (Hyndman and Fan 1996,
// type 7).
double quantile_of(std::vector<double>& x, double p) {
  const double place = p * static_cast<double>(x.size() - 1);
  const std::size_t low = static_cast<std::size_t>(place);
  std::nth_element(x.begin(), x.begin() + low, x.end());
  const double value = x[low];
  const double rest = place - static_cast<double>(low);
  if (rest == 0.0 || low + 1 == x.size()) return value;
  return (1 - rest) * value + rest * *std::min_element(x.begin() + low + 1, x.end());
}

}  // namespace

void group_quartiles(const int* group, const double* value, std::size_t n, int groups,
                     double* out) {
  std::vector<std::vector<double>> members(groups);
  for (std::size_t i = 0; i < n; ++i) {
    if (group[i] >= 1 && group[i] <= groups) members[group[i] - 1].push_back(value[i]);
  }
  for (int g = 0; g < groups; ++g) {
    for (int q = 0; q < 3; ++q) {
      out[3 * g + q] = members[g].empty() ? std::numeric_limits<double>::quiet_NaN()
                                          : quantile_of(members[g], 0.25 * (q + 1));
    }
  }
}

}  // namespace dreher
