#include "ranking-association.h"

#include <cmath>
#include <limits>

namespace dreher {

SortedColumn sort_column(std::vector<int> value, bool ordered) {
  SortedColumn out;
  out.ordered = ordered;
  const int values = value.empty() ? 0 : *std::max_element(value.begin(), value.end()) + 1;
  out.start.assign(values + 1, 0);
  for (int v : value)
    if (v >= 0) ++out.start[v + 1];
  for (int v = 0; v < values; ++v) out.start[v + 1] += out.start[v];
  out.row.resize(out.start[values]);
  std::vector<int> next = out.start;
  for (std::size_t i = 0; i < value.size(); ++i)
    if (value[i] >= 0) out.row[next[value[i]]++] = static_cast<int>(i);
  out.has_gaps = out.row.size() < value.size();
  out.value = std::move(value);
  return out;
}

namespace {

constexpr double undefined = std::numeric_limits<double>::quiet_NaN();

// Several draws at a time, side by side: numbers of a row or value stand as [together].
constexpr int together = 8;
using Each = double[together];
struct Eight {
  Each of;
};

// Draws, and what they say of the target.
struct Drawn {
  std::vector<Eight> times;     // [rows], 0 where the target is missing
  std::vector<Eight> rank;      // [rows] less the mean, times how often
  std::vector<Eight> of_value;  // rows of each of the target's values
  Each rows, present, squares;  // present: values that have rows; squares: of ranks, over the rows
};

DREHER_CLONES void add_rows(const Eight* rows, const int* row, int count, double* sum) {
  for (int i = 0; i < count; ++i)
    for (int b = 0; b < together; ++b) sum[b] += rows[row[i]].of[b];
}

void fill(double* x, double value) { std::fill(x, x + together, value); }

// Calls visit(value, drawn rows of it) for all values of a column.
template <class Visit>
void each_value(const SortedColumn& column, const std::vector<Eight>& times, Visit visit) {
  for (int v = 0; v < column.values(); ++v) {
    Each n = {0};
    add_rows(times.data(), column.row.data() + column.start[v],
             column.start[v + 1] - column.start[v], n);
    visit(v, n);
  }
}

void look_at_target(const SortedColumn& target, Drawn* drawn) {
  fill(drawn->rows, 0);
  fill(drawn->present, 0);
  fill(drawn->squares, 0);
  drawn->of_value.resize(target.values());
  each_value(target, drawn->times, [&](int v, const double* n) {
    for (int b = 0; b < together; ++b) {
      drawn->of_value[v].of[b] = n[b];
      drawn->rows[b] += n[b];
      drawn->present[b] += n[b] > 0;
    }
  });
  if (!target.ordered) return;
  drawn->rank.assign(drawn->times.size(), Eight{});
  Each below;
  for (int b = 0; b < together; ++b) below[b] = -drawn->rows[b] / 2;
  for (int v = 0; v < target.values(); ++v) {
    const double* const n = drawn->of_value[v].of;
    Each rank;
    for (int b = 0; b < together; ++b) {
      rank[b] = below[b] + n[b] / 2;
      drawn->squares[b] += n[b] * rank[b] * rank[b];
      below[b] += n[b];
    }
    for (int i = target.start[v]; i < target.start[v + 1]; ++i) {
      const int r = target.row[i];
      for (int b = 0; b < together; ++b) drawn->rank[r].of[b] = drawn->times[r].of[b] * rank[b];
    }
  }
}

double correct_rho(double rho2, double n) {
  return std::sqrt(std::max(0.0, rho2 - (1 - rho2) / (n - 2)));
}

// Of Kruskal and Wallis's H, k classes.
double correct_ratio(double between, double squares, double n, double k) {
  if (n <= k) return undefined;
  const double H = (n - 1) * between / squares;
  return std::sqrt(std::max(0.0, (H - k + 1) / (n - k)));
}

// Cramer's V with Bergsma's correction, of r and k classes. sum: of count^2 / expected, over n.
double correct_classes(double sum, double r, double k, double n) {
  const double phi2 = std::max(0.0, sum - 1 - (r - 1) * (k - 1) / (n - 1));
  const double least = std::min(r - (r - 1) * (r - 1) / (n - 1), k - (k - 1) * (k - 1) / (n - 1));
  return least > 1 ? std::min(1.0, std::sqrt(phi2 / (least - 1))) : 0;
}

// Constant columns have no association; beside a constant target none is defined.
template <class Measure>
void write_out(const double* present, const Drawn& drawn, double* out, Measure measure) {
  for (int b = 0; b < together; ++b)
    out[b] = present[b] < 2 ? 0 : drawn.present[b] < 2 ? undefined : measure(b);
}

struct Room {
  Drawn known;  // rows with both values
  std::vector<Eight> sum;
};

// As one number for the compiler, which parts it by what the processor has.
typedef double Together __attribute__((vector_size(together * sizeof(double)), aligned(8)));
inline const Together& together_at(const double* x) {
  return *reinterpret_cast<const Together*>(x);
}

// Numbers or classes against a target in order: sums of the target's ranks, by value.
DREHER_CLONES void with_ordered(const SortedColumn& x, const Drawn& drawn, double* out) {
  Together xx{}, xy{}, between{}, below = -together_at(drawn.rows) / 2;
  auto present = below > below;
  const Eight* const times = drawn.times.data();
  const Eight* const rank = drawn.rank.data();
  const int* const row = x.row.data();
  for (int v = 0; v < x.values(); ++v) {
    Together n{}, sum{};
    for (int i = x.start[v]; i < x.start[v + 1]; ++i) {
      n += together_at(times[row[i]].of);
      sum += together_at(rank[row[i]].of);
    }
    const auto some = n > Together{};
    present -= some;
    if (x.ordered) {
      const Together own = below + n / 2;
      xx += n * own * own;
      xy += own * sum;
      below += n;
    } else {
      const Together one = Together{} + 1;
      between += sum * sum / (some ? n : one);
    }
  }
  Each values;
  for (int b = 0; b < together; ++b) values[b] = static_cast<double>(present[b]);
  write_out(values, drawn, out, [&](int b) {
    if (!x.ordered) return correct_ratio(between[b], drawn.squares[b], drawn.rows[b], values[b]);
    const double rho2 = std::min(1.0, xy[b] * xy[b] / (xx[b] * drawn.squares[b]));
    return correct_rho(rho2, drawn.rows[b]);
  });
}

// Numbers against a target of classes: sums of the numbers' ranks, by class.
void numbers_in_classes(const SortedColumn& x, const SortedColumn& y, const Drawn& drawn,
                        Room* room, double* out) {
  room->sum.assign(y.values(), Eight{});
  Each squares = {0}, below, present = {0};
  for (int b = 0; b < together; ++b) below[b] = -drawn.rows[b] / 2;
  each_value(x, drawn.times, [&](int v, const double* n) {
    Each rank;
    for (int b = 0; b < together; ++b) {
      rank[b] = below[b] + n[b] / 2;
      present[b] += n[b] > 0;
      squares[b] += n[b] * rank[b] * rank[b];
      below[b] += n[b];
    }
    for (int i = x.start[v]; i < x.start[v + 1]; ++i) {
      const int r = x.row[i];
      if (y.value[r] < 0) continue;
      double* const sum = room->sum[y.value[r]].of;
      for (int b = 0; b < together; ++b) sum[b] += drawn.times[r].of[b] * rank[b];
    }
  });
  write_out(present, drawn, out, [&](int b) {
    double between = 0;
    for (int c = 0; c < y.values(); ++c) {
      const double sum = room->sum[c].of[b];
      between += sum * sum / std::max(drawn.of_value[c].of[b], 1.0);
    }
    return correct_ratio(between, squares[b], drawn.rows[b], drawn.present[b]);
  });
}

void classes_in_classes(const SortedColumn& x, const SortedColumn& y, const Drawn& drawn,
                        Room* room, double* out) {
  Each sum = {0}, present = {0};
  each_value(x, drawn.times, [&](int v, const double* n) {
    room->sum.assign(y.values(), Eight{});
    for (int i = x.start[v]; i < x.start[v + 1]; ++i) {
      const int r = x.row[i];
      if (y.value[r] < 0) continue;
      for (int b = 0; b < together; ++b) room->sum[y.value[r]].of[b] += drawn.times[r].of[b];
    }
    for (int b = 0; b < together; ++b) {
      present[b] += n[b] > 0;
      for (int c = 0; c < y.values(); ++c) {
        const double count = room->sum[c].of[b];
        if (count > 0) sum[b] += count * count / (n[b] * drawn.of_value[c].of[b]);
      }
    }
  });
  write_out(present, drawn, out, [&](int b) {
    return correct_classes(sum[b], present[b], drawn.present[b], drawn.rows[b]);
  });
}

void associate(const SortedColumn& x, const SortedColumn& y, const Drawn& all, Room* room,
               double* out) {
  const Drawn* drawn = &all;
  if (x.has_gaps) {
    room->known.times = all.times;
    for (std::size_t i = 0; i < x.value.size(); ++i)
      if (x.value[i] < 0) room->known.times[i] = Eight{};
    look_at_target(y, &room->known);
    drawn = &room->known;
  }
  if (y.ordered)
    with_ordered(x, *drawn, out);
  else if (x.ordered)
    numbers_in_classes(x, y, *drawn, room, out);
  else
    classes_in_classes(x, y, *drawn, room, out);
}

}  // namespace

bool associate_draws(const std::vector<SortedColumn>& columns, const SortedColumn& target,
                     const int* draws, std::ptrdiff_t rows, int n_draws, const Loop& loop,
                     double* out) {
  const std::ptrdiff_t n = static_cast<std::ptrdiff_t>(columns.size());
  std::vector<Room> rooms(loop.threads);
  Drawn drawn;
  for (int from = 0; from < n_draws; from += together) {
    const int some = std::min(together, n_draws - from);
    drawn.times.assign(rows, Eight{});
    for (int b = 0; b < some; ++b)
      for (std::ptrdiff_t i = 0; i < rows; ++i) {
        const int r = draws[(from + b) * rows + i] - 1;
        if (target.value[r] >= 0) ++drawn.times[r].of[b];
      }
    look_at_target(target, &drawn);
    const bool done = each_row(loop, n, 16 * static_cast<std::ptrdiff_t>(loop.threads),
                               [&](std::ptrdiff_t j, int thread) {
                                 Each value;
                                 associate(columns[j], target, drawn, &rooms[thread], value);
                                 std::copy(value, value + some, out + from + j * n_draws);
                               });
    if (!done) return false;
  }
  return true;
}

}  // namespace dreher
