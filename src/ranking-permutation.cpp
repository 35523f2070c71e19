#include "ranking-permutation.h"
#ifdef __SSE2__
#include <emmintrin.h>
#endif

namespace dreher {

namespace {

using Mask = std::uint64_t;

inline int lowest_bit(Mask mask) { return __builtin_ctzll(mask); }

// The real paths of eight rows through one tree, in step: path[8 * depth + r], until all have ended.
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

// The walks off the real paths of eight rows through one tree: the repeats in `mask`, in which a player of a row (0 to
// 7) is replaced, stand `at` a node.
struct Walks {
  std::vector<int> at, player;
  std::vector<unsigned char> row;
  std::vector<Mask> mask;
  std::vector<int> active;    // those that have not ended: `moving` of them
  int count = 0;
  int moving = 0;
  void make_room(int more) {
    if (count + more <= static_cast<int>(at.size())) return;
    const std::size_t size = 2 * at.size() + more + 256;
    at.resize(size);
    player.resize(size);
    row.resize(size);
    mask.resize(size);
    active.resize(size);
  }
  // Written in any case, counted where there are repeats: no branch to guess wrong.
  void put(int where, int r, int who, Mask repeats, bool ended) {
    at[count] = where;
    row[count] = static_cast<unsigned char>(r);
    player[count] = who;
    mask[count] = repeats;
    active[moving] = count;
    const bool any = repeats != 0;
    count += any;
    moving += any & !ended;
  }
  void add(int where, int r, int who, Mask repeats, bool ended) {
    make_room(1);
    put(where, r, who, repeats, ended);
  }
};

// on[b][q]: 1 where bit q of b is set.
struct Switches {
  double on[16][4];
  Switches() { for (int b = 0; b < 16; ++b) for (int q = 0; q < 4; ++q) on[b][q] = b >> q & 1; }
};

// For which of the repeats a value leads to the right; `wide` is a multiple of 4.
inline Mask goes_right(const Coded::Step& step, const Code* given, int wide) {
  const Code by = step.missing_left, code = step.code + by;
  Mask right = 0;
#ifdef __SSE2__
  // Signed comparison of numbers moved by 2^31 is unsigned comparison; x >= code is not (code > x).
  const __m128i shift = _mm_set1_epi32(static_cast<int>(by + 0x80000000u)), least = _mm_set1_epi32(static_cast<int>(code + 0x80000000u));
  for (int q = 0; q < wide; q += 4) {
    const __m128i x = _mm_add_epi32(_mm_loadu_si128(reinterpret_cast<const __m128i*>(given + q)), shift);
    right |= static_cast<Mask>(~_mm_movemask_ps(_mm_castsi128_ps(_mm_cmpgt_epi32(least, x))) & 15) << q;
  }
#else
  for (int q = 0; q < wide; ++q) right |= static_cast<Mask>(given[q] + by >= code) << q;
#endif
  return right;
}

// Parts a mask by where its repeats go: visit(next, mask of those that go there).
template <class Visit>
inline void part_mask(const Coded& coded, int at, const Code* given, Mask mask, Visit visit) {
  while (mask) {
    const int next = coded.next(at, given[lowest_bit(mask)]);
    Mask same = 0;
    for (Mask b = mask; b; b &= b - 1) {
      if (coded.next(at, given[lowest_bit(b)]) == next) same |= b & (~b + 1);
    }
    mask &= ~same;
    visit(next, same);
  }
}

struct Room {
  std::vector<Code> given;      // [rows of the block * columns * wide] the donors' codes
  std::vector<double> sum;      // [rows of the block * players * outputs * wide]
  std::vector<Mask> left;       // per player: repeats still on the real path
  std::vector<int> path, parted;
  Walks walks;
};

// Everything of eight rows (`count` of them real) in one tree. given, sum: theirs within the block.
void shuffle_eight(const Coded& coded, const Shuffle& s, int tree, const Code* const* own, const bool* skip, int count, int columns,
                   int outputs, Mask all, const Switches& switches, const Code* given, double* sum, Room* room) {
  const Coded::Step* const steps = coded.steps();
  const int* const player_of = s.player_of;
  const int wide = (s.repeats + 3) / 4 * 4;
  Mask* const left = room->left.data();
  Walks& walks = room->walks;
  walks.count = walks.moving = 0;
  const int depth = walk_paths(coded, coded.root(tree), own, &room->path);
  const int* const path = room->path.data();
  const int* const ends = path + 8 * depth;
  const std::ptrdiff_t given_row = static_cast<std::ptrdiff_t>(columns) * wide, sum_row = static_cast<std::ptrdiff_t>(s.players) * outputs * wide;

  for (int r = 0; r < count; ++r) {
    if (skip[r]) continue;
    const Code* const theirs = given + r * given_row;
    const int end = ends[r];
    room->parted.clear();
    walks.make_room(depth + 1);
    for (int d = 0, at = -1; d <= depth && at != end; ++d) {
      at = path[8 * d + r];
      const Coded::Step step = steps[at];
      if (step.left == at && coded.leaf(at)) break;
      const int player = player_of[step.column];
      if (player < 0) continue;
      const Mask before = left[player];
      const Code* const other = theirs + step.column * wide;
      const int next = at == end ? at : path[8 * (d + 1) + r];   // a row can stay where others go on
      Mask stay = before;
      if (!step.special) {
        const Mask right = goes_right(step, other, wide);
        const bool side = next != step.left;
        const Mask off = before & (side ? ~right : right);
        walks.put(step.left + !side, r, player, off, step.ends >> !side & 1);
        stay &= ~off;
      } else {
        part_mask(coded, at, other, before, [&](int where, Mask same) {
          if (where == next) return;
          walks.add(where, r, player, same, where == at || coded.leaf(where));
          stay &= ~same;
        });
        walks.make_room(depth + 1);
      }
      left[player] = stay;
      room->parted.push_back(player);
    }
    for (int player : room->parted) left[player] = all;
  }

  // One step of every walk, over and over, until all have ended.
  while (walks.moving > 0) {
    const int moving = walks.moving;
    int kept = 0;
    int* active = walks.active.data();
    int* place = walks.at.data();
    const int* who = walks.player.data();
    const unsigned char* row = walks.row.data();
    for (int j = 0; j < moving; ++j) {
      const int w = active[j], at = place[w], r = row[w];
      const Coded::Step step = steps[at];
      int next;
      bool ended;
      if (player_of[step.column] != who[w]) {
        const Code x = own[r][step.column];
        if (!step.special) {
          const bool right = x + step.missing_left >= step.code + step.missing_left;
          next = step.left + right;
          ended = step.ends >> right & 1;
        } else {
          next = coded.next(at, x);
          ended = next == at || coded.leaf(next);
        }
      } else {
        // The same player is asked again: part the mask by where each repeat goes. One part goes on in this walk's place.
        const Code* other = given + r * given_row + step.column * wide;
        const Mask mask = walks.mask[w];
        const int player = who[w];
        if (!step.special) {
          const Mask right = mask & goes_right(step, other, wide), rest = mask & ~right;
          next = step.left + (right != 0);
          ended = step.ends >> (right != 0) & 1;
          if (right != 0 && rest != 0) {
            walks.mask[w] = right;
            walks.add(step.left, r, player, rest, step.ends & 1);
          }
        } else {
          next = -1;
          part_mask(coded, at, other, mask, [&](int where, Mask same) {
            const bool here = where == at || coded.leaf(where);
            if (next < 0) {
              next = where;
              ended = here;
              walks.mask[w] = same;
            } else {
              walks.add(where, r, player, same, here);
            }
          });
        }
        active = walks.active.data();   // adding may have moved them
        place = walks.at.data();
        who = walks.player.data();
        row = walks.row.data();
      }
      place[w] = next;
      active[kept] = w;
      kept += !ended;   // no branch to guess wrong
    }
    for (int j = moving; j < walks.moving; ++j) active[kept++] = active[j];
    walks.moving = kept;
  }

  for (int w = 0; w < walks.count; ++w) {
    const int r = walks.row[w];
    const double* here = coded.output(ends[r]);
    const double* there = coded.output(walks.at[w]);
    double* to = sum + r * sum_row + static_cast<std::ptrdiff_t>(walks.player[w]) * outputs * wide;
    for (int k = 0; k < outputs; ++k, to += wide) {
      const double by = there[k] - here[k];
      Mask mask = walks.mask[w];
      for (double* four = to; four < to + wide; four += 4, mask >>= 4) {
        const double* on = switches.on[mask & 15];
        four[0] += by * on[0];
        four[1] += by * on[1];
        four[2] += by * on[2];
        four[3] += by * on[3];
      }
    }
  }
}

}  // namespace

bool shuffle_change(const Forest& f, const Coded& coded, const Ranks& ranks, const Shuffle& s, std::ptrdiff_t from,
                    std::ptrdiff_t to, const Loop& loop, double* change) {
  const int K = f.n_outputs, P = s.players, R = s.repeats, C = ranks.columns, wide = (R + 3) / 4 * 4;
  const std::ptrdiff_t n = ranks.rows, rows = to - from;
  const Mask all = R >= 64 ? ~Mask(0) : (Mask(1) << R) - 1;
  // Few enough rows that their changes stay in the processor's cache, enough that a tree does.
  const std::ptrdiff_t cells = static_cast<std::ptrdiff_t>(P) * K * wide;
  const std::ptrdiff_t size = std::max<std::ptrdiff_t>(8, std::min<std::ptrdiff_t>(64, 65536 / cells / 8 * 8));

  const Switches switches;
  std::vector<Room> rooms(loop.threads);
  for (Room& room : rooms) {
    room.given.assign(size * C * wide, 0);
    room.left.assign(P, all);
  }
  return each_block(loop, rows, size, [&](std::ptrdiff_t first, std::ptrdiff_t last, int thread) {
    Room& room = rooms[thread];
    const int m = static_cast<int>(last - first);
    for (int i = 0; i < m; ++i) {
      const std::ptrdiff_t row = from + first + i;
      Code* given = room.given.data() + static_cast<std::ptrdiff_t>(i) * C * wide;
      for (int r = 0; r < R; ++r) {
        if (!s.own_donors) {
          const Code* donor = ranks.row(s.donor[row + n * r]);
          for (int c = 0; c < C; ++c) given[c * wide + r] = donor[c];
        } else {
          for (int c = 0; c < C; ++c) {
            if (s.player_of[c] >= 0) given[c * wide + r] = ranks.row(s.donor[row + n * (r + static_cast<std::ptrdiff_t>(R) * s.player_of[c])])[c];
          }
        }
      }
    }
    room.sum.assign(cells * m, 0.0);
    for (int t = 0; t < f.n_trees; ++t) for (int start = 0; start < m; start += 8) {
      const Code* own[8];
      bool skip[8] = {false};
      for (int r = 0; r < 8; ++r) {
        const std::ptrdiff_t row = from + first + std::min(start + r, m - 1);
        own[r] = ranks.row(row);
        if (s.inbag != nullptr) skip[r] = s.inbag[row + n * t] > 0;
      }
      shuffle_eight(coded, s, t, own, skip, std::min(8, m - start), C, K, all, switches,
                    room.given.data() + static_cast<std::ptrdiff_t>(start) * C * wide, room.sum.data() + start * cells, &room);
    }
    for (int player = 0; player < P; ++player) {
      for (int k = 0; k < K; ++k) for (int r = 0; r < R; ++r) {
        double* out = change + first + rows * (r + R * (player + static_cast<std::ptrdiff_t>(P) * k));
        for (int i = 0; i < m; ++i) out[i] = room.sum[((static_cast<std::ptrdiff_t>(i) * P + player) * K + k) * wide + r];
      }
    }
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

bool shuffle_runs(const Forest& f, const Coded& coded, const Ranks& ranks, const Shuffle& s, std::ptrdiff_t from, std::ptrdiff_t to,
                  const Loop& loop, std::vector<Runs>* blocks) {
  const int K = f.n_outputs, P = s.players;
  const std::ptrdiff_t rows = to - from, size = 8;
  std::vector<int> column_of(P, -1);
  for (int c = 0; c < ranks.columns; ++c) if (s.player_of[c] >= 0) column_of[s.player_of[c]] = c;
  struct Place {
    std::vector<Span> walking, ended;
    std::vector<int> path;
    std::vector<int> lo, hi, parted;           // per player: ranks still on the real path
    std::vector<char> gap;                     // and the donors without a value
    std::vector<std::vector<int>> of;          // per row and player: its spans
    std::vector<double> moved;                 // [spans * K]
    std::vector<Edge> edge;
  };
  std::vector<Place> places(loop.threads);
  for (Place& place : places) {
    place.lo.assign(P, 0);
    place.hi.resize(P);
    place.gap.resize(P);
    place.of.resize(size * P);
    for (int q = 0; q < P; ++q) place.hi[q] = column_of[q] < 0 ? 0 : static_cast<int>(ranks.value[column_of[q]].size());
    for (int q = 0; q < P; ++q) place.gap[q] = column_of[q] >= 0 && ranks.gaps[column_of[q]];
  }
  blocks->assign((rows + size - 1) / size, Runs());
  return each_block(loop, rows, size, [&](std::ptrdiff_t first, std::ptrdiff_t last, int thread) {
    Place& place = places[thread];
    const int m = static_cast<int>(last - first);
    place.ended.clear();
    place.moved.clear();
    const auto known = [&](int c) { return static_cast<int>(ranks.value[c].size()); };
    // Parts a span where its player is asked at a node that leads to several places: visit(next, lo, hi).
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
          // What stays on the path may be several ranges at a question about levels: the largest is kept, the others
          // walk beside it.
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
            if (next == span.at) place.ended.push_back(span);
            else place.walking[kept++] = Span{next, span.row, span.player, span.lo, span.hi};
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
      place.of[static_cast<std::size_t>(place.ended[j].row) * P + place.ended[j].player].push_back(static_cast<int>(j));
    }
    Runs& out = (*blocks)[first / size];
    std::vector<double> sum(K);
    for (int r = 0; r < m; ++r) for (int q = 0; q < P; ++q) {
      const std::vector<int>& of = place.of[static_cast<std::size_t>(r) * P + q];
      if (of.empty()) continue;
      place.edge.clear();
      for (int j : of) {
        place.edge.push_back(Edge{place.ended[j].lo, j, true});
        place.edge.push_back(Edge{place.ended[j].hi, j, false});
      }
      std::sort(place.edge.begin(), place.edge.end(), [](const Edge& a, const Edge& b) { return a.rank != b.rank ? a.rank < b.rank : a.span < b.span; });
      std::fill(sum.begin(), sum.end(), 0.0);
      int open = 0;
      for (std::size_t e = 0; e < place.edge.size();) {
        const int rank = place.edge[e].rank;
        for (; e < place.edge.size() && place.edge[e].rank == rank; ++e) {
          const double* moved = place.moved.data() + static_cast<std::ptrdiff_t>(place.edge[e].span) * K;
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
