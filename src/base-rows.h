// A number for every row of tables of the same columns, the same for rows that are the same.
//
// Columns come as 64-bit keys, one per value. A row's hash takes them in one after the other
// (splitmix64, Steele, Lea and Flood 2014, doi:10.1145/2660193.2660195); rows are then put in the
// order of their hashes, and those of one hash share the number of the first. Of n rows that
// differ, two share a hash with a probability below n^2 / 2^65. Cost: one pass over the values and
// one sort of the rows; 16 bytes a row.
#ifndef DREHER_BASE_ROWS_H
#define DREHER_BASE_ROWS_H

#include <cstddef>
#include <cstdint>
#include <vector>

namespace dreher {

// Takes the key of a value into the hash of its row.
inline std::uint64_t take_in(std::uint64_t hash, std::uint64_t key) {
  std::uint64_t z = hash * 0x9e3779b97f4a7c15ULL + key + 0xd1b54a32d192ed03ULL;
  z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
  z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
  return z ^ (z >> 31);
}

// Numbers that agree to 15 significant digits have one key.
std::uint64_t key_of(double value);

// Per row the smallest number (from 1) of a row with the same hash.
std::vector<int> same_rows(const std::vector<std::uint64_t>& hashes);

// Ranks from 1, the mean of theirs for equal values; NaN where `x` is NaN. Cost: one sort, linear
// in the values.
std::vector<double> mid_ranks(const double* x, std::size_t n);

// Quartiles of the values of each group (numbers from 1; others are left out): out [3 * groups],
// NaN where a group has none. Cost: linear in the values.
void group_quartiles(const int* group, const double* value, std::size_t n, int groups, double* out);

}  // namespace dreher

#endif
