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
  void add(int where, int r, int who, Mask repeats, bool ended) {
    if (count == static_cast<int>(at.size())) {
      const std::size_t more = 2 * at.size() + 256;
      at.resize(more);
      player.resize(more);
      row.resize(more);
      mask.resize(more);
      active.resize(more);
    }
    at[count] = where;
    row[count] = static_cast<unsigned char>(r);
    player[count] = who;
    mask[count] = repeats;
    active[moving] = count++;
    moving += !ended;
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
    for (int d = 0, at = -1; d <= depth && at != end; ++d) {
      at = path[8 * d + r];
      const Coded::Step step = steps[at];
      if (step.left == at && coded.leaf(at)) break;
      const int player = player_of[step.column];
      if (player < 0) continue;
      const Mask before = left[player];
      if (before == 0) continue;
      const Code* const other = theirs + step.column * wide;
      const int next = at == end ? at : path[8 * (d + 1) + r];   // a row can stay where others go on
      Mask stay = before;
      if (!step.special) {
        const Mask right = goes_right(step, other, wide);
        const bool side = next != step.left;
        const Mask off = before & (side ? ~right : right);
        if (off == 0) continue;
        walks.add(step.left + !side, r, player, off, step.ends >> !side & 1);
        stay &= ~off;
      } else {
        part_mask(coded, at, other, before, [&](int where, Mask same) {
          if (where == next) return;
          walks.add(where, r, player, same, where == at || coded.leaf(where));
          stay &= ~same;
        });
        if (stay == before) continue;
      }
      left[player] = stay;
      if (before == all) room->parted.push_back(player);
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
      for (double* four = to; mask; four += 4, mask >>= 4) {
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
        double* out = change + first + rows * (r + R * (k + static_cast<std::ptrdiff_t>(K) * player));
        for (int i = 0; i < m; ++i) out[i] = room.sum[((static_cast<std::ptrdiff_t>(i) * P + player) * K + k) * wide + r];
      }
    }
  });
}

}  // namespace dreher
