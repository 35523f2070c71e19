#include "base-rows.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <numeric>

namespace dreher {

std::uint64_t key_of(double value) {
  if (std::isnan(value)) return 1;
  if (value == 0.0) return 2;
  std::uint64_t bits;
  std::memcpy(&bits, &value, sizeof bits);
  return (bits + 8) >> 4;
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

}  // namespace dreher
