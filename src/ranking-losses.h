// What shuffled predictions cost: sums of changes of row losses, and what they say of errors.
#pragma once
#include <cstddef>
#include <vector>

#include "base-loop.h"

namespace dreher {

// Changes of row losses, summed up per unit: by the row as receiver and by the row as donor.
struct Tally {
  Tally(std::ptrdiff_t n, int units)
      : rows(n),
        given(n * units, 0.0),
        taken(n * units, 0.0),
        square(units, 0.0),
        whole(units, 1) {}
  std::ptrdiff_t rows;
  std::vector<double> given, taken;  // [rows * units]
  std::vector<double> square;        // [units]
  std::vector<char> whole;           // [units] 0: a loop over it was interrupted
};

// Losses of rows from, from + 1, ... in some repeats and of some units, after the shuffle.
struct Losses {
  const double* value;  // [rows * repeats * units]: predictions, or losses when power is 0
  int power;            // 1: absolute, 2: squared distance from the truth
  std::ptrdiff_t from, rows;
  int repeats;
  std::vector<int> unit;  // which, from 0
  const double* truth;    // [all rows]
  const double* before;   // [all rows] loss before the shuffle
  const double* weight;   // [all rows] or nullptr
  const int* donor;       // [rows * repeats (* units here)], from 1
  bool own_donors;
};

[[nodiscard]] bool add_losses(const Losses& losses, const Loop& loop, Tally* tally);

// The sums of one unit (from 0) over the number of repeats. given, taken: [rows].
void mean_changes(const Tally& tally, int unit, int repeats, double* given, double* taken);

// With e = basis * by and what is passed on of it, passed * by: slope * change + e in place of the
// change, for `repeats` repeats. basis, passed: [rows * parts]; stratum [rows], from 1, or nullptr:
// what is taken is told from its stratum's mean.
struct Sums {
  std::ptrdiff_t rows;
  const double *given, *taken;
  double square;
  int repeats;
  double slope;
  const double *basis, *passed, *by;
  int parts;
  const int* stratum;
};

// units [rows]: given + taken; and the variances of these.
struct TwoWay {
  double var_units, var_given, var_taken, square;
};
TwoWay two_way(const Sums& sums, double* units);

// Charges every row with the numbers of those that received its values, over the number of repeats.
// donor: [rows * repeats], from 1. out: [rows], 0.
void charge(const double* e, const int* donor, std::ptrdiff_t rows, int repeats, double* out);

// Sums a number per run over the ranks it spans: out[ranks * players] = sum of by[run] where
// lo <= rank < hi; player from 1.
void add_spans(const int* player, const int* lo, const int* hi, const double* by,
               std::ptrdiff_t runs, int ranks, int players, double* out);

// out[cell] += by, for cells from 1.
void add_cells(const double* cell, const double* by, std::ptrdiff_t entries, double* out);

}  // namespace dreher
