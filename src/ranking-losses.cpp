#include "ranking-losses.h"

#include <cmath>

namespace dreher {

bool add_losses(const Losses& l, const Loop& loop, Tally* tally) {
  const std::ptrdiff_t n = tally->rows, units = static_cast<std::ptrdiff_t>(l.unit.size());
  const bool done = each_row(loop, units, units, [&](std::ptrdiff_t u, int) {
    double* given = tally->given.data() + n * l.unit[u];
    double* taken = tally->taken.data() + n * l.unit[u];
    double square = 0;
    for (int r = 0; r < l.repeats; ++r) {
      const int* donor = l.donor + l.rows * (r + (l.own_donors ? l.repeats * u : 0));
      const double* value = l.value + l.rows * (r + l.repeats * u);
      for (std::ptrdiff_t i = 0; i < l.rows; ++i) {
        const std::ptrdiff_t row = l.from + i;
        double loss = value[i];
        if (l.power != 0) {
          const double off = loss - l.truth[row];
          loss = l.power == 2 ? off * off : std::fabs(off);
        }
        const double change = (loss - l.before[row]) * (l.weight == nullptr ? 1.0 : l.weight[row]);
        given[row] += change;
        taken[donor[i] - 1] += change;
        square += change * change;
      }
    }
    tally->square[l.unit[u]] += square;
  });
  if (!done)
    for (int u : l.unit) tally->whole[u] = 0;
  return done;
}

namespace {

double variance(const double* x, std::ptrdiff_t n) {
  double sum = 0, around = 0;
  for (std::ptrdiff_t i = 0; i < n; ++i) sum += x[i];
  for (std::ptrdiff_t i = 0; i < n; ++i) around += (x[i] - sum / n) * (x[i] - sum / n);
  return around / (n - 1);
}

// Takes the mean of each stratum away.
void centre_within(const int* stratum, std::ptrdiff_t n, std::vector<double>* x) {
  const int strata = *std::max_element(stratum, stratum + n);
  std::vector<double> count(strata, 0.0), mean(strata, 0.0);
  for (std::ptrdiff_t i = 0; i < n; ++i) {
    mean[stratum[i] - 1] += (*x)[i];
    count[stratum[i] - 1] += 1;
  }
  for (std::ptrdiff_t i = 0; i < n; ++i) (*x)[i] -= mean[stratum[i] - 1] / count[stratum[i] - 1];
}

}  // namespace

TwoWay two_way(const Sums& s, double* units) {
  const std::ptrdiff_t n = s.rows;
  std::vector<double> give(n), take(n);
  double cross = 0, own = 0;
  for (std::ptrdiff_t i = 0; i < n; ++i) {
    double e = 0, other = 0;
    for (int k = 0; k < s.parts; ++k) {
      e += s.by[k] * s.basis[i + n * k];
      other += s.by[k] * s.passed[i + n * k];
    }
    give[i] = s.slope * s.given[i] + e;
    take[i] = s.slope * s.taken[i] + other;
    cross += e * s.given[i];
    own += e * e;
  }
  if (s.stratum != nullptr) centre_within(s.stratum, n, &take);
  for (std::ptrdiff_t i = 0; i < n; ++i) units[i] = give[i] + take[i];
  return TwoWay{variance(units, n), variance(give.data(), n), variance(take.data(), n),
                s.slope * s.slope * s.square + 2 * s.slope * s.repeats * cross + s.repeats * own};
}

void charge(const double* e, const int* donor, std::ptrdiff_t rows, int repeats, double* out) {
  for (int r = 0; r < repeats; ++r)
    for (std::ptrdiff_t i = 0; i < rows; ++i) out[donor[i + rows * r] - 1] += e[i];
  for (std::ptrdiff_t i = 0; i < rows; ++i) out[i] /= static_cast<double>(repeats);
}

void add_spans(const int* player, const int* lo, const int* hi, const double* by,
               std::ptrdiff_t runs, int ranks, int players, double* out) {
  std::vector<double> step(static_cast<std::size_t>(ranks + 1) * players, 0.0);
  for (std::ptrdiff_t i = 0; i < runs; ++i) {
    double* of = step.data() + static_cast<std::size_t>(ranks + 1) * (player[i] - 1);
    of[lo[i]] += by[i];
    of[hi[i]] -= by[i];
  }
  for (int p = 0; p < players; ++p) {
    double sum = 0;
    for (int r = 0; r < ranks; ++r)
      out[r + static_cast<std::ptrdiff_t>(ranks) * p] = sum +=
          step[static_cast<std::size_t>(ranks + 1) * p + r];
  }
}

void add_cells(const double* cell, const double* by, std::ptrdiff_t entries, double* out) {
  for (std::ptrdiff_t i = 0; i < entries; ++i)
    out[static_cast<std::ptrdiff_t>(cell[i]) - 1] += by[i];
}

void mean_changes(const Tally& tally, int unit, int repeats, double* given, double* taken) {
  const double* from[] = {tally.given.data() + tally.rows * unit,
                          tally.taken.data() + tally.rows * unit};
  double* to[] = {given, taken};
  for (int side = 0; side < 2; ++side)
    for (std::ptrdiff_t i = 0; i < tally.rows; ++i) to[side][i] = from[side][i] / repeats;
}

}  // namespace dreher
