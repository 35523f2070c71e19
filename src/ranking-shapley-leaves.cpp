#include "ranking-shapley-leaves.h"

#include <algorithm>
#include <memory>

// What is not part of a function with clones is compiled for the plainest processor.
#define DREHER_INLINED __attribute__((always_inline))
#define DREHER_INLINE DREHER_INLINED inline

namespace dreher {

namespace {

int in_eights(int n) { return (n + 7) / 8 * 8; }

template <class Visit>
DREHER_INLINE void each_bit(const Word* x, const Word* y, int words, Visit visit) {
  for (int w = 0; w < words; ++w)
    for (Word left = x[w] & y[w]; left != 0; left &= left - 1)
      visit(64 * w + __builtin_ctzll(left));
}

// The eight lowest bits as numbers.
struct Digits {
  alignas(64) Eight of[256];
  Digits() {
    for (int x = 0; x < 256; ++x)
      for (int j = 0; j < 8; ++j) of[x][j] = x >> j & 1;
  }
};
const Digits digits;

}  // namespace

LeafSums::LeafSums(const Forest& forest, const Weights& weights, int most, int block)
    : outputs_(forest.n_outputs),
      block_(block),
      width_(in_eights(most)),
      sizes_(most + 1),
      unit_(static_cast<std::size_t>(sizes_) * sizes_),
      room_(static_cast<std::size_t>(block) * width_ * outputs_ + 8, 0.0),
      set_(most_others),
      size_(most_others),
      chosen_(block + 1) {
  for (int b = 0; b <= most; ++b)
    for (int a = 0; a + b <= most; ++a) {
      Unit& to = unit_[b * sizes_ + a];
      to = Unit{Four{weights(a, b), weights(b, a), 0, 0}, Four{}, Four{}};
      if (a + b == most) continue;
      to.other_fails = Four{weights(a + 1, b), weights(b, a + 1), weights(a + 1, b), 0};
      to.row_fails = Four{weights(a, b + 1), weights(b + 1, a), -weights(b + 1, a), 0};
    }
  for (int q = 0; q < (outputs_ == 1 ? 1 : most_children); ++q)
    for (int way = 0; way <= most_children; ++way) {
      share_[q][way].resize(most_others);
      gift_[q][way].resize(most_others);
    }
  void* first = room_.data();  // where a vector of eight begins
  std::size_t bytes = room_.size() * sizeof(double);
  gained_ = static_cast<double*>(std::align(64, bytes - 64, first, bytes));
}

void LeafSums::add(const RowGroups& rows, const OtherGroups& others, const Answer& answer, int bit,
                   int met, double scale) {
  kinds_ = 0;
  for (int h = 0; h < answer.children; ++h)
    if (answer.value[h] != nullptr) value_[kinds_++] = answer.value[h];
  if (kinds_ == 0) return;
  bit_ = bit;
  children_ = answer.children;
  words_ = static_cast<int>(answer.others.size()) / answer.children;
  find_first(others);
  share_out(others, answer, scale);
  sort_by_size(rows, met);
  for (int b = 0; b <= met; ++b)
    if (by_size_[b + 1] > by_size_[b]) add_by_width(rows, answer, b, met);
}

void LeafSums::find_first(const OtherGroups& others) {
  first_.assign(words_, 0);
  for (const OtherGroups::Group& group : others.group) {
    const Word* const row = others.row.data() + group.slot * words_;
    int w = 0;
    while (row[w] == 0) ++w;
    const int j = 64 * w + __builtin_ctzll(row[w]);
    first_[w] |= Word{1} << j % 64;
    set_[j] = group.failed;
    size_[j] = count_bits(group.failed);
  }
}

void LeafSums::share_out(const OtherGroups& others, const Answer& answer, double scale) {
  const int n = answer.children, V = words_;
  double value[most_children][most_children] = {{0}};  // [kinds][children]
  for (int h = 0, q = 0; h < n; ++h) {
    if (answer.value[h] == nullptr) continue;
    if (outputs_ == 1)
      value[0][h] = *answer.value[h];
    else
      value[q++][h] = 1;
  }
  if (outputs_ == 1) kinds_ = 1;
  for (const OtherGroups::Group& group : others.group) {
    const Word* const row = others.row.data() + group.slot * V;
    double here[most_children], all = 0;
    int j = -1;
    for (int h = 0; h < n; ++h) {
      int count = 0;
      for (int w = 0; w < V; ++w) {
        if (j < 0 && row[w] != 0) j = 64 * w + __builtin_ctzll(row[w]);
        count += count_bits(row[w] & answer.others[h * V + w]);
      }
      here[h] = scale * count;
      all += here[h];
    }
    const bool failed = group.failed >> bit_ & 1;
    for (int q = 0; q < kinds_; ++q) {
      double sum = 0;
      for (int h = 0; h < n; ++h) sum += value[q][h] * here[h];
      for (int h = 0; h < n; ++h) {
        const double v = value[q][h];
        share_[q][h][j] = failed ? Share{v * all, 0, 0}
                                 : Share{v * here[h], v * (all - here[h]), sum - v * here[h]};
      }
      share_[q][n][j] = Share{sum, 0, 0};
    }
  }
}

void LeafSums::sort_by_size(const RowGroups& rows, int met) {
  by_size_.assign(met + 2, 0);
  for (const RowGroups::Group& group : rows.group) ++by_size_[count_bits(group.failed) + 1];
  for (int b = 0; b <= met; ++b) by_size_[b + 1] += by_size_[b];
  next_ = by_size_;
  order_.resize(rows.group.size());
  for (std::size_t g = 0; g < rows.group.size(); ++g)
    order_[next_[count_bits(rows.group[g].failed)]++] = static_cast<int>(g);
}

// For rows that have failed b players and go this way.
DREHER_INLINE void LeafSums::give(int b, int way) {
  const Unit* const units = unit_.data() + b * sizes_;
  for (int q = 0; q < kinds_; ++q) {
    const Share* const share = share_[q][way].data();
    Gift* const gift = gift_[q][way].data();
    each_bit(first_.data(), first_.data(), words_, [&](int j) DREHER_INLINED {
      const Unit& by = units[size_[j]];
      gift[j].part = share[j].both * by.both + share[j].other_fails * by.other_fails +
                     share[j].row_fails * by.row_fails;
    });
  }
}

// part [eights] receives what each player on the way gains or loses.
template <int eights>
DREHER_INLINE void LeafSums::meet(const Alike& rows, const Gift* gift, Eight* part) const {
  Eight sum[eights];
  for (int c = 0; c < eights; ++c) sum[c] = Eight{};
  Four all{};
  const Word* const set = set_.data();
  const int words = words_;
  each_bit(first_.data(), rows.partners, words, [&](int j) DREHER_INLINED {
    const Word failed = set[j];
    const Four by = gift[j].part;
    all += by;
    for (int c = 0; c < eights; ++c) sum[c] += by[Gift::gain] * digits.of[failed >> 8 * c & 255];
  });
  const Word failed = rows.group->failed, asks = Word{1} << bit_;
  for (int c = 0; c < eights; ++c)
    part[c] = sum[c] - all[Gift::loss] * digits.of[failed >> 8 * c & 255] +
              all[Gift::asked] * digits.of[asks >> 8 * c & 255];
}

template <int eights>
DREHER_INLINE void LeafSums::settle(const Alike& rows) {
  Eight part[most_children][eights];
  for (int q = 0; q < kinds_; ++q) meet<eights>(rows, gift_[q][rows.way].data(), part[q]);
  const std::ptrdiff_t width = width_;
  for (int k = 0; k < outputs_; ++k) {
    Eight sum[eights];
    for (int c = 0; c < eights; ++c) {
      sum[c] = part[0][c];
      if (outputs_ == 1) continue;
      sum[c] *= value_[0][k];
      for (int q = 1; q < kinds_; ++q) sum[c] += part[q][c] * value_[q][k];
    }
    double* const gained = gained_ + k * block_ * width;
    for (int i = 0; i < rows.count; ++i) {
      double* const to = gained + rows.row[i] * width;
      for (int c = 0; c < eights; ++c) *reinterpret_cast<Eight*>(to + 8 * c) += sum[c];
    }
  }
}

// Groups of sets of b players. Rows that have failed the player asked before go a way of their own,
// behind those to the children.
template <int eights>
DREHER_INLINE void LeafSums::add_groups(const RowGroups& rows, const Answer& answer, int b) {
  const int children = children_, bit = bit_;
  const int count = static_cast<int>(answer.rows.size()) / children;
  const int* const all_rows = rows.row.data();
  int* const chosen = chosen_.data();
  bool given[most_children + 1] = {false};
  const auto go = [&](const RowGroups::Group& group, int way, const int* row,
                      int some) DREHER_INLINED {
    if (!given[way]) give(b, way);
    given[way] = true;
    settle<eights>(Alike{&group, rows.partners.data() + group.slot * words_, way, row, some});
  };
  for (int g = by_size_[b], end = by_size_[b + 1]; g < end; ++g) {
    const RowGroups::Group& group = rows.group[order_[g]];
    const int* const row = all_rows + group.from;
    const int all = group.to - group.from;
    if (group.failed >> bit & 1) {
      go(group, children, row, all);
      continue;
    }
    int to = 0;
    for (int h = 0; h < children && to < all; ++h) {
      const char* const goes = answer.rows.data() + h * count;
      const int from = to;
      for (int i = 0; i < all; ++i) {
        chosen[to] = row[i];
        to += goes[row[i]];
      }
      if (to > from) go(group, h, chosen + from, to - from);
    }
  }
}

DREHER_CLONES void LeafSums::add_by_width(const RowGroups& rows, const Answer& answer, int b,
                                          int met) {
  switch (in_eights(met) / 8) {
    case 1:
      return add_groups<1>(rows, answer, b);
    case 2:
      return add_groups<2>(rows, answer, b);
    case 3:
      return add_groups<3>(rows, answer, b);
    case 4:
      return add_groups<4>(rows, answer, b);
    case 5:
      return add_groups<5>(rows, answer, b);
    case 6:
      return add_groups<6>(rows, answer, b);
    case 7:
      return add_groups<7>(rows, answer, b);
    default:
      return add_groups<8>(rows, answer, b);
  }
}

void LeafSums::hand_over(int bit, const RowGroups& rows, double* phi, std::ptrdiff_t apart) {
  for (int k = 0; k < outputs_; ++k) {
    double* const gained = gained_ + static_cast<std::ptrdiff_t>(k) * block_ * width_ + bit;
    double* const to = phi + k * apart;
    for (const RowGroups::Group& group : rows.group)
      for (int i = group.from; i < group.to; ++i) {
        const std::ptrdiff_t r = rows.row[i];
        to[r] += gained[r * width_];
        gained[r * width_] = 0;
      }
  }
}

}  // namespace dreher
