#include "ranking-steps.h"

namespace dreher {

namespace {

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
