#include "ranking-permutation.h"
#ifdef __SSE2__
#include <emmintrin.h>
#endif

namespace dreher {

namespace {

using Mask = std::uint64_t;
constexpr int group_rows = 16;  // rows whose walks go in step

inline int lowest_bit(Mask mask) { return __builtin_ctzll(mask); }

// The real paths of eight rows through one tree, in step: path[8 * depth + r], until all have
// ended.
int walk_paths(const Coded& coded, int root, const Code* const* row, std::vector<int>* path) {
  int at[8];
  for (int r = 0; r < 8; ++r) at[r] = root;
  int depth = 0;
  for (;; ++depth) {
    if (path->size() < static_cast<std::size_t>(8 * (depth + 1))) path->resize(16 * (depth + 1));
    int* here = path->data() + 8 * depth;
    int moved = 0;
    for (int r = 0; r < 8; ++r) {
      here[r] = at[r];
      const int next = coded.next(at[r], row[r][coded.step(at[r]).column]);
      moved |= next ^ at[r];
      at[r] = next;
    }
    if (moved == 0) return depth;
  }
}

// A column (or player) of a row of a group. Codes, masks and changes of a group lie in this order:
// its rows mostly ask the same columns, and so share the processor's cache.
inline std::size_t cell_of(std::size_t column, unsigned row) { return column * group_rows + row; }

// A walk off the real path of a row through a tree: the repeats in `mask`, in which a player of the
// row (`cell`) is replaced, stand `at` a node.
struct Off {
  Mask mask;
  unsigned at;
  unsigned cell;
  unsigned row() const { return cell % group_rows; }
  int player() const { return static_cast<int>(cell / group_rows); }
};

// Where walks are written: in any case, counted where there are repeats, so that there is no branch
// to guess wrong.
struct Pen {
  Off* list;
  unsigned* active;
  std::size_t count, moving;
  void put(const Off& walk, bool ended) {
    list[count] = walk;
    active[moving] = count;
    const bool any = walk.mask != 0;
    count += any;
    moving += any & !ended;
  }
};

struct Walks {
  std::vector<Off> list;
  std::vector<unsigned> active;  // those that have not ended: `moving` of them
  std::vector<unsigned> asked;   // those at a node that asks their own player, or a special one
  std::size_t count = 0;
  std::size_t moving = 0;
  Pen pen(std::size_t more) {
    if (count + more > list.size()) {
      const std::size_t size = 2 * list.size() + more + 256;
      list.resize(size);
      active.resize(size);
      asked.resize(size);
    }
    return Pen{list.data(), active.data(), count, moving};
  }
  void take(const Pen& pen) {
    count = pen.count;
    moving = pen.moving;
  }
};

// Two numbers side by side, which processors add at once. on[b]: 1 where a bit of b is set.
typedef double Two __attribute__((vector_size(16), aligned(8), may_alias));
struct Switches {
  Two on[4] = {{0, 0}, {1, 0}, {0, 1}, {1, 1}};
};

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

template <class Lane>
struct Room {
  std::vector<Lane> given;  // [groups of the block * cells of columns * wide] the codes of the
                            // donors and the row's own
  std::size_t skip = 0;     // from where on they lie even in memory
  std::vector<double> own;  // [rows of the block * outputs] sums over trees of the rows as they are
  std::vector<double> sum;  // [groups of the block * cells of players * outputs * span] and what
                            // the shuffles change
  std::vector<Mask> left;   // [cells of players] repeats still on the real path
  Walks walks;
};

// Everything the walks of a group of rows share.
template <class W>
struct Group {
  const Coded* coded;
  const Coded::Step* steps;
  const int* player_of;
  const typename W::Lane* given;  // [cells of columns * wide]
  int rows, wide;
  int own;   // the row's own code stands behind those of so many repeats
  int span;  // room for the changes of all repeats
  const typename W::Lane* codes(unsigned column, unsigned row) const {
    return given + cell_of(column, row) * (W::once ? lanes_at_once<typename W::Lane> : wide);
  }
};

// A walk at a special node: the repeats in its mask, whose values are `given`, go on from there,
// those to `but` excepted. Returns those.
template <class W>
[[gnu::noinline]] Mask go_special(const Group<W>& g, const Off& walk, const typename W::Lane* given,
                                  int but, Walks* walks) {
  Mask stay = 0;
  part_mask(*g.coded, walk.at, given, walk.mask, [&](int where, Mask same) {
    if (where == but) {
      stay = same;
      return;
    }
    Pen pen = walks->pen(1);
    pen.put(Off{same, static_cast<unsigned>(where), walk.cell},
            where == static_cast<int>(walk.at) || g.coded->leaf(where));
    walks->take(pen);
  });
  return stay;
}

// The real paths, level by level, and the walks that leave them. ends[r] = where row r ends.
template <class W>
void leave_paths(const Group<W>& g, int root, const bool* skip, Mask all, Mask* left, Walks* walks,
                 unsigned* ends) {
  const Coded::Step* const steps = g.steps;
  const int* const player_of = g.player_of;
  const int own = g.own;
  unsigned active[group_rows];
  std::size_t moving = 0;
  for (int r = 0; r < g.rows; ++r) {
    ends[r] = root;
    active[moving] = r;
    moving += !skip[r];
  }
  if (g.coded->leaf(root)) return;
  while (moving > 0) {
    std::size_t kept = 0;
    Pen pen = walks->pen(moving);
    for (std::size_t j = 0; j < moving; ++j) {
      const unsigned r = active[j], at = ends[r];
      const Coded::Step& step = steps[at];
      const int player = player_of[step.column];
      const typename W::Lane* const codes = g.codes(step.column, r);
      const unsigned cell = player * group_rows + r;
      if (!step.special) {
        const Mask right = goes_right<W>(step, codes, g.wide);
        const unsigned side = right >> own & 1, next = step.left + side, ended = step.ends;
        ends[r] = next;
        active[kept] = r;
        kept += ~(ended >> side) & 1;
        if (player >= 0) {
          const Mask off = left[cell] & (right ^ -static_cast<Mask>(side));
          left[cell] ^= off;
          pen.put(Off{off, step.left + 1 - side, cell}, ended >> (1 - side) & 1);
        }
      } else {
        const unsigned next = g.coded->next(at, widen(codes[own]));
        if (player >= 0) {
          walks->take(pen);
          left[cell] = go_special(g, Off{left[cell], at, cell}, codes, next, walks);
          pen = walks->pen(moving);
        }
        ends[r] = next;
        active[kept] = r;
        kept += next != at && !g.coded->leaf(next);
      }
    }
    walks->take(pen);
    moving = kept;
  }
  for (std::size_t w = 0; w < walks->count; ++w) left[walks->list[w].cell] = all;
}

// One step of every walk. Those that come to a node about their own player are set aside, so that
// the rest is the same few instructions for all.
template <class W>
std::size_t step_all(const Group<W>& g, Walks* walks) {
  const Coded::Step* const steps = g.steps;
  const int* const player_of = g.player_of;
  const int own = g.own;
  const std::size_t moving = walks->moving;
  unsigned* const active = walks->active.data();
  Off* const list = walks->list.data();
  unsigned* const asked = walks->asked.data();
  std::size_t kept = 0, aside = 0;
  for (std::size_t j = 0; j < moving; ++j) {
    const unsigned w = active[j];
    Off& walk = list[w];
    const unsigned at = walk.at;
    const Coded::Step& step = steps[at];
    const bool right = leads_right<W>(step, g.codes(step.column, walk.row())[own]);
    const bool wait = (player_of[step.column] == walk.player()) | step.special;
    const bool ended = step.ends >> right & 1;
    const unsigned next = step.left + right;
    walk.at = wait ? at : next;
    __builtin_prefetch(steps + next);
    asked[aside] = w;
    aside += wait;
    active[kept] = w;
    kept += !(ended | wait);
  }
  walks->moving = kept;
  return aside;
}

// One step of the walks set aside: their masks are parted by where each repeat goes.
template <class W>
void part_asked(const Group<W>& g, std::size_t aside, Walks* walks) {
  Pen pen = walks->pen(aside);
  for (std::size_t j = 0; j < aside; ++j) {
    const unsigned w = walks->asked[j];
    const Off walk = pen.list[w];
    const Coded::Step& step = g.steps[walk.at];
    const typename W::Lane* const codes = g.codes(step.column, walk.row());
    if (!step.special) {
      const Mask right = walk.mask & goes_right<W>(step, codes, g.wide), rest = walk.mask & ~right;
      const bool any = right != 0;
      pen.list[w].at = step.left + any;
      pen.list[w].mask = any ? right : rest;
      pen.active[pen.moving] = w;
      pen.moving += !(step.ends >> any & 1);
      pen.put(Off{any ? rest : 0, static_cast<unsigned>(step.left), walk.cell}, step.ends & 1);
    } else if (g.player_of[step.column] == walk.player()) {
      pen.list[w].mask = 0;
      walks->take(pen);
      go_special(g, walk, codes, -1, walks);
      pen = walks->pen(aside);
    } else {
      const unsigned next = g.coded->next(walk.at, widen(codes[g.own]));
      pen.list[w].at = next;
      pen.active[pen.moving] = w;
      pen.moving += !(next == walk.at || g.coded->leaf(next));
    }
  }
  walks->take(pen);
}

// What the walks' ends change.
template <class W>
void add_changes(const Group<W>& g, const Walks& walks, const unsigned* ends,
                 const Switches& switches, int outputs, double* sum) {
  for (std::size_t w = 0; w < walks.count; ++w) {
    const Off& walk = walks.list[w];
    const double* here = g.coded->output(ends[walk.row()]);
    const double* there = g.coded->output(walk.at);
    double* to = sum + static_cast<std::size_t>(walk.cell) * outputs * g.span;
    for (int k = 0; k < outputs; ++k, to += g.span) {
      const double by = there[k] - here[k];
      const Two both = {by, by};
      Mask mask = walk.mask;
      Two* two = reinterpret_cast<Two*>(to);
      for (int q = 0; q < g.span; q += 2, mask >>= 2) *two++ += both * switches.on[mask & 3];
    }
  }
}

// Everything of a group of rows in one tree.
template <class W>
void shuffle_group(const Group<W>& g, int root, const bool* skip, Mask all, int outputs,
                   const Switches& switches, double* own, double* sum,
                   Room<typename W::Lane>* room) {
  Walks& walks = room->walks;
  walks.count = walks.moving = 0;
  unsigned ends[group_rows];
  leave_paths(g, root, skip, all, room->left.data(), &walks, ends);
  for (int r = 0; r < g.rows; ++r)
    if (!skip[r]) {
      for (int k = 0; k < outputs; ++k) own[r * outputs + k] += g.coded->output(ends[r])[k];
    }
  while (walks.moving > 0) {
    const std::size_t aside = step_all(g, &walks);
    if (aside > 0) part_asked(g, aside, &walks);
  }
  add_changes(g, walks, ends, switches, outputs, sum);
}

template <class W>
bool shuffle_blocks(const Forest& f, const Coded& coded, const Ranks& ranks, const Shuffle& s,
                    std::ptrdiff_t from, std::ptrdiff_t to, const Loop& loop, double* before,
                    double* after) {
  using Lane = typename W::Lane;
  const int K = f.n_outputs, P = s.players, R = s.repeats, C = ranks.columns;
  const int wide = (R + lanes_at_once<Lane>) / lanes_at_once<Lane> * lanes_at_once<Lane>,
            span = (R + 1) / 2 * 2;
  const std::ptrdiff_t n = ranks.rows, rows = to - from,
                       cells = static_cast<std::ptrdiff_t>(P) * K * span;
  const std::size_t codes = cell_of(C, 0) * wide;
  const Mask all = (Mask(1) << R) - 1;
  // Few enough rows that their changes stay in the processor's cache, enough that large trees are
  // not fetched too often.
  const std::ptrdiff_t most =
      std::min<std::ptrdiff_t>(f.n_nodes > 500.0 * f.n_trees ? 128 : 64, 131072 / cells);
  const std::ptrdiff_t size = std::max<std::ptrdiff_t>(1, most / group_rows) * group_rows,
                       groups = size / group_rows;

  const Switches switches;
  std::vector<Room<Lane>> rooms(loop.threads);
  for (Room<Lane>& room : rooms) {
    room.given.assign(groups * codes + lanes_at_once<Lane>, 0);
    room.skip = (16 - reinterpret_cast<std::uintptr_t>(room.given.data()) % 16) % 16 / sizeof(Lane);
    room.left.assign(cell_of(P, 0), all);
  }
  return each_block(loop, rows, size, [&](std::ptrdiff_t first, std::ptrdiff_t last, int thread) {
    Room<Lane>& room = rooms[thread];
    const int m = static_cast<int>(last - first);
    Lane* const even = room.given.data() + room.skip;
    for (int i = 0; i < m; ++i) {
      const std::ptrdiff_t row = from + first + i;
      Lane* given = even + (i / group_rows) * codes;
      const auto put = [&](int c, int r, Code code) {
        given[cell_of(c, i % group_rows) * wide + r] = narrow<Lane>(code);
      };
      for (int c = 0; c < C; ++c) put(c, R, ranks.row(row)[c]);
      for (int r = 0; r < R; ++r) {
        if (!s.own_donors) {
          const Code* donor = ranks.row(s.donor[row + n * r]);
          for (int c = 0; c < C; ++c) put(c, r, donor[c]);
        } else {
          for (int c = 0; c < C; ++c) {
            if (s.player_of[c] >= 0)
              put(c, r,
                  ranks.row(
                      s.donor[row + n * (r + static_cast<std::ptrdiff_t>(R) * s.player_of[c])])[c]);
          }
        }
      }
    }
    room.own.assign(static_cast<std::size_t>(m) * K, 0.0);
    room.sum.assign(cells * size, 0.0);
    for (int t = 0; t < f.n_trees; ++t)
      for (int start = 0; start < m; start += group_rows) {
        bool skip[group_rows] = {false};
        const std::ptrdiff_t row = from + first + start;
        const int count = std::min(group_rows, m - start);
        if (s.inbag != nullptr)
          for (int r = 0; r < count; ++r) skip[r] = s.inbag[row + r + n * t] > 0;
        const Group<W> group{&coded, coded.steps(), s.player_of, even + start / group_rows * codes,
                             count,  wide,          R,           span};
        shuffle_group(group, coded.root(t), skip, all, K, switches, room.own.data() + start * K,
                      room.sum.data() + start * cells, &room);
      }
    for (int k = 0; k < K; ++k) {
      double* base = before + first + rows * k;
      const auto scale = [&](int i) {
        return s.scale == nullptr ? 1.0 : s.scale[from + first + i];
      };
      for (int i = 0; i < m; ++i) base[i] = f.base[k] + scale(i) * room.own[i * K + k];
      for (int player = 0; player < P; ++player)
        for (int r = 0; r < R; ++r) {
          double* out =
              after + first + rows * (r + R * (player + static_cast<std::ptrdiff_t>(P) * k));
          for (int i = 0; i < m; ++i) {
            const double* change = room.sum.data() + i / group_rows * group_rows * cells +
                                   (cell_of(player, i % group_rows) * K + k) * span;
            out[i] = base[i] + scale(i) * change[r];
          }
        }
    }
  });
}

}  // namespace

bool shuffle_outputs(const Forest& f, const Coded& coded, const Ranks& ranks, const Shuffle& s,
                     std::ptrdiff_t from, std::ptrdiff_t to, const Loop& loop, double* before,
                     double* after) {
  std::size_t most = 0;
  bool gaps = false;
  for (int c = 0; c < ranks.columns; ++c) {
    most = std::max(most, ranks.value[c].size());
    gaps = gaps || ranks.gaps[c];
  }
  const auto go = [&](auto way) {
    return shuffle_blocks<decltype(way)>(f, coded, ranks, s, from, to, loop, before, after);
  };
  const auto choose = [&](auto lane) {
    using Lane = decltype(lane);
    const bool once = s.repeats < lanes_at_once<Lane>;
    return once   ? gaps ? go(Way<Lane, true, true>()) : go(Way<Lane, true, false>())
             : gaps ? go(Way<Lane, false, true>())
                  : go(Way<Lane, false, false>());
  };
  return most < 65000 ? choose(std::uint16_t()) : choose(Code());
}

void add_losses(const Losses& l, const Loop& loop, Tally* tally) {
  const std::ptrdiff_t n = tally->rows, units = static_cast<std::ptrdiff_t>(l.unit.size());
  const int repeats = static_cast<int>(l.repeat.size());
  each_row(loop, units, units, [&](std::ptrdiff_t u, int) {
    double* given = tally->given.data() + n * l.unit[u];
    double* taken = tally->taken.data() + n * l.unit[u];
    double square = 0;
    for (int r = 0; r < repeats; ++r) {
      const int* donor = l.donor + n * (l.repeat[r] + (l.own_donors ? l.repeats * u : 0));
      const double* value = l.value + l.rows * (r + repeats * u);
      for (std::ptrdiff_t i = 0; i < l.rows; ++i) {
        const std::ptrdiff_t row = l.from + i;
        double loss = value[i];
        if (l.power != 0) {
          const double off = loss - l.truth[row];
          loss = l.power == 2 ? off * off : std::fabs(off);
        }
        const double change = (loss - l.before[row]) * (l.weight == nullptr ? 1.0 : l.weight[row]);
        given[row] += change;
        taken[donor[row] - 1] += change;
        square += change * change;
      }
    }
    tally->square[l.unit[u]] += square;
  });
}

namespace {

// Donors with ranks lo to hi - 1 whose values of `player` replace those of `row` stand `at` a node.
struct Span {
  int at, row, player, lo, hi;
};

// Where a span's ends change the output of a row and player.
struct Edge {
  int rank;
  int span;
  bool opens;
};

}  // namespace

bool shuffle_runs(const Forest& f, const Coded& coded, const Ranks& ranks, const Shuffle& s,
                  std::ptrdiff_t from, std::ptrdiff_t to, const Loop& loop,
                  std::vector<Runs>* blocks) {
  const int K = f.n_outputs, P = s.players;
  const std::ptrdiff_t rows = to - from, size = 8;
  std::vector<int> column_of(P, -1);
  for (int c = 0; c < ranks.columns; ++c)
    if (s.player_of[c] >= 0) column_of[s.player_of[c]] = c;
  struct Place {
    std::vector<Span> walking, ended;
    std::vector<int> path;
    std::vector<int> lo, hi, parted;   // per player: ranks still on the real path
    std::vector<char> gap;             // and the donors without a value
    std::vector<std::vector<int>> of;  // per row and player: its spans
    std::vector<double> moved;         // [spans * K]
    std::vector<Edge> edge;
  };
  std::vector<Place> places(loop.threads);
  for (Place& place : places) {
    place.lo.assign(P, 0);
    place.hi.resize(P);
    place.gap.resize(P);
    place.of.resize(size * P);
    for (int q = 0; q < P; ++q)
      place.hi[q] = column_of[q] < 0 ? 0 : static_cast<int>(ranks.value[column_of[q]].size());
    for (int q = 0; q < P; ++q) place.gap[q] = column_of[q] >= 0 && ranks.gaps[column_of[q]];
  }
  blocks->assign((rows + size - 1) / size, Runs());
  return each_block(loop, rows, size, [&](std::ptrdiff_t first, std::ptrdiff_t last, int thread) {
    Place& place = places[thread];
    const int m = static_cast<int>(last - first);
    place.ended.clear();
    place.moved.clear();
    const auto known = [&](int c) { return static_cast<int>(ranks.value[c].size()); };
    // Parts a span where its player is asked at a node that leads to several places: visit(next,
    // lo, hi).
    const auto part_span = [&](int at, int c, int lo, int hi, const auto& visit) {
      const Coded::Step& step = coded.step(at);
      if (lo >= known(c)) {
        visit(coded.next(at, missing_code), lo, hi);
      } else if (!step.special) {
        const int cut = std::min(std::max(static_cast<int>(step.code), lo), hi);
        if (lo < cut) visit(step.left, lo, cut);
        if (cut < hi) visit(step.left + 1, cut, hi);
      } else {
        for (int start = lo; start < hi;) {
          const int next = coded.next(at, static_cast<Code>(start));
          int stop = start + 1;
          while (stop < hi && coded.next(at, static_cast<Code>(stop)) == next) ++stop;
          visit(next, start, stop);
          start = stop;
        }
      }
    };
    for (int t = 0; t < f.n_trees; ++t) {
      const Code* own[8];
      for (int r = 0; r < 8; ++r) own[r] = ranks.row(from + first + std::min(r, m - 1));
      const int depth = walk_paths(coded, coded.root(t), own, &place.path);
      place.walking.clear();
      const std::size_t before = place.ended.size();
      for (int r = 0; r < m; ++r) {
        if (s.inbag != nullptr && s.inbag[from + first + r + ranks.rows * t] > 0) continue;
        const int end = place.path[8 * depth + r];
        place.parted.clear();
        for (int d = 0, at = -1; d <= depth && at != end; ++d) {
          at = place.path[8 * d + r];
          if (coded.leaf(at)) break;
          const int c = coded.step(at).column, q = s.player_of[c];
          if (q < 0) continue;
          const int next = at == end ? at : place.path[8 * (d + 1) + r];
          place.parted.push_back(q);
          if (place.gap[q]) {
            const int where = coded.next(at, missing_code);
            if (where != next) {
              place.walking.push_back(Span{where, r, q, known(c), known(c) + 1});
              place.gap[q] = 0;
            }
          }
          int& lo = place.lo[q];
          int& hi = place.hi[q];
          if (lo >= hi) continue;
          // What stays on the path may be several ranges at a question about levels: the largest is
          // kept, the others walk beside it.
          int keep_lo = lo, keep_hi = lo;
          part_span(at, c, lo, hi, [&](int where, int a, int b) {
            if (where != next) {
              place.walking.push_back(Span{where, r, q, a, b});
            } else if (b - a > keep_hi - keep_lo) {
              if (keep_hi > keep_lo) place.walking.push_back(Span{next, r, q, keep_lo, keep_hi});
              keep_lo = a;
              keep_hi = b;
            } else {
              place.walking.push_back(Span{next, r, q, a, b});
            }
          });
          lo = keep_lo;
          hi = keep_hi;
        }
        for (int q : place.parted) {
          place.lo[q] = 0;
          place.hi[q] = known(column_of[q]);
          place.gap[q] = ranks.gaps[column_of[q]];
        }
      }
      while (!place.walking.empty()) {
        const std::size_t count = place.walking.size();
        std::size_t kept = 0;
        for (std::size_t j = 0; j < count; ++j) {
          const Span span = place.walking[j];
          const int c = coded.step(span.at).column;
          if (coded.leaf(span.at)) {
            place.ended.push_back(span);
          } else if (s.player_of[c] != span.player) {
            const int next = coded.next(span.at, own[span.row][c]);
            if (next == span.at)
              place.ended.push_back(span);
            else
              place.walking[kept++] = Span{next, span.row, span.player, span.lo, span.hi};
          } else {
            bool first_part = true;
            part_span(span.at, c, span.lo, span.hi, [&](int next, int a, int b) {
              const Span part{next, span.row, span.player, a, b};
              if (next == span.at) {
                place.ended.push_back(part);
              } else if (first_part) {
                place.walking[kept++] = part;
                first_part = false;
              } else {
                place.walking.push_back(part);
              }
            });
          }
        }
        const std::size_t added = place.walking.size() - count;
        for (std::size_t j = 0; j < added; ++j) place.walking[kept + j] = place.walking[count + j];
        place.walking.resize(kept + added);
      }
      for (std::size_t j = before; j < place.ended.size(); ++j) {
        const double* here = coded.output(place.path[8 * depth + place.ended[j].row]);
        const double* there = coded.output(place.ended[j].at);
        for (int k = 0; k < K; ++k) place.moved.push_back(there[k] - here[k]);
      }
    }
    // The steps of every row and player: spans open and close along the ranks.
    for (std::vector<int>& of : place.of) of.clear();
    for (std::size_t j = 0; j < place.ended.size(); ++j) {
      place.of[static_cast<std::size_t>(place.ended[j].row) * P + place.ended[j].player].push_back(
          static_cast<int>(j));
    }
    Runs& out = (*blocks)[first / size];
    std::vector<double> sum(K);
    for (int r = 0; r < m; ++r)
      for (int q = 0; q < P; ++q) {
        const std::vector<int>& of = place.of[static_cast<std::size_t>(r) * P + q];
        if (of.empty()) continue;
        place.edge.clear();
        for (int j : of) {
          place.edge.push_back(Edge{place.ended[j].lo, j, true});
          place.edge.push_back(Edge{place.ended[j].hi, j, false});
        }
        std::sort(place.edge.begin(), place.edge.end(), [](const Edge& a, const Edge& b) {
          return a.rank != b.rank ? a.rank < b.rank : a.span < b.span;
        });
        std::fill(sum.begin(), sum.end(), 0.0);
        int open = 0;
        for (std::size_t e = 0; e < place.edge.size();) {
          const int rank = place.edge[e].rank;
          for (; e < place.edge.size() && place.edge[e].rank == rank; ++e) {
            const double* moved =
                place.moved.data() + static_cast<std::ptrdiff_t>(place.edge[e].span) * K;
            for (int k = 0; k < K; ++k) sum[k] += place.edge[e].opens ? moved[k] : -moved[k];
            open += place.edge[e].opens ? 1 : -1;
          }
          if (open == 0) {
            std::fill(sum.begin(), sum.end(), 0.0);
            continue;
          }
          out.row.push_back(static_cast<int>(from + first + r));
          out.player.push_back(q);
          out.lo.push_back(rank);
          out.hi.push_back(place.edge[e].rank);
          out.change.insert(out.change.end(), sum.begin(), sum.end());
        }
      }
  });
}

}  // namespace dreher
