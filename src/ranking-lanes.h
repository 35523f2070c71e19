// Codes of values side by side, as processors compare them: one question to all repeats at once.
#pragma once
#include "model-coded.h"
#ifdef __SSE2__
#include <emmintrin.h>
#endif

namespace dreher {

using Mask = std::uint64_t;
constexpr int group_rows = 16;  // rows whose walks go in step

inline int lowest_bit(Mask mask) { return __builtin_ctzll(mask); }

// The codes of a row and of its donors side by side: those of the donors first, the row's own
// behind them. They are kept short where the values are few, and moved down by half their range,
// because processors compare signed numbers.
template <class Lane>
constexpr Lane half_range = static_cast<Lane>(Lane(1) << (8 * sizeof(Lane) - 1));
template <class Lane>
inline Lane narrow(Code x) {
  return static_cast<Lane>(static_cast<Lane>(x) ^ half_range<Lane>);
}
template <class Lane>
inline Code widen(Lane x) {
  const Lane code = x ^ half_range<Lane>;
  return code == std::numeric_limits<Lane>::max() ? missing_code : code;
}

template <class Lane>
constexpr int lanes_at_once = 16 / sizeof(Lane);

// How the codes lie, known when the walk is compiled. once: they fit one comparison; gaps: some may
// be missing.
template <class L, bool o, bool g>
struct Way {
  using Lane = L;
  static constexpr bool once = o, gaps = g;
};

// Does a code lead to the right?
template <class W>
inline bool leads_right(const Coded::Step& step, typename W::Lane x) {
  using Lane = typename W::Lane;
  const Lane by = W::gaps ? step.missing_left : 0;
  return static_cast<Lane>((x ^ half_range<Lane>)+by) >= static_cast<Lane>(step.code + by);
}

// Which of the codes lead to the right, a bit each; `wide` is a multiple of lanes_at_once, or just
// that (`once`).
template <class W>
inline Mask goes_right(const Coded::Step& step, const typename W::Lane* given, int wide) {
  using Lane = typename W::Lane;
  if (W::once) wide = lanes_at_once<Lane>;
  Mask right = 0;
#ifdef __SSE2__
  const Lane by = W::gaps ? step.missing_left : 0;
  if constexpr (sizeof(Lane) == 2) {
    const __m128i shift = _mm_set1_epi16(static_cast<short>(by)),
                  least = _mm_set1_epi16(static_cast<short>(narrow<Lane>(step.code + by)));
    for (int q = 0; q < wide; q += 8) {
      __m128i x = _mm_load_si128(reinterpret_cast<const __m128i*>(given + q));
      if (W::gaps) x = _mm_add_epi16(x, shift);
      const __m128i less = _mm_cmpgt_epi16(least, x);
      right |= static_cast<Mask>(~_mm_movemask_epi8(_mm_packs_epi16(less, less)) & 255) << q;
    }
  } else {
    const __m128i shift = _mm_set1_epi32(static_cast<int>(by)),
                  least = _mm_set1_epi32(static_cast<int>(narrow<Lane>(step.code + by)));
    for (int q = 0; q < wide; q += 4) {
      __m128i x = _mm_load_si128(reinterpret_cast<const __m128i*>(given + q));
      if (W::gaps) x = _mm_add_epi32(x, shift);
      right |= static_cast<Mask>(~_mm_movemask_ps(_mm_castsi128_ps(_mm_cmpgt_epi32(least, x))) & 15)
               << q;
    }
  }
#else
  for (int q = 0; q < wide; ++q) right |= static_cast<Mask>(leads_right<W>(step, given[q])) << q;
#endif
  return right;
}

// Parts a mask by where its repeats go: visit(next, mask of those that go there).
template <class Lane, class Visit>
inline void part_mask(const Coded& coded, int at, const Lane* given, Mask mask, Visit visit) {
  while (mask) {
    const int next = coded.next(at, widen(given[lowest_bit(mask)]));
    Mask same = 0;
    for (Mask b = mask; b; b &= b - 1) {
      if (coded.next(at, widen(given[lowest_bit(b)])) == next) same |= b & (~b + 1);
    }
    mask &= ~same;
    visit(next, same);
  }
}

}  // namespace dreher
