// Shapley values of a whole tree by cover (Lundberg et al. 2020): one walk over all nodes per eight
// rows carries the products of the players' factors down, one for each point of the quadrature,
// and sums up. Cost: nodes x points.
#pragma once
#include "base-loop.h"
#include "model-forest.h"
#include "ranking-quadrature.h"
#include "ranking-shapley-pairs.h"

namespace dreher {

// What a step from a node to one of its children does to a row's products. A player's factor at
// point t is t o + (1 - t) w; shares do not depend on the row, so that only three cases are left:
// the row goes this way (o stays 1), it is the first to fail here (o becomes 0), or it has failed a
// question about this player above (o was 0: all points times the share, and nothing to gain, as
// that was counted there). Several rows go together, and quadratures have an even number of points,
// known to the compiler up to 32 players (`fixed`).
struct Descent {
  struct Step {
    int at;  // the child; the node itself for rows that stay for want of a value
    double share;
    bool is_end;
  };
  struct Node {
    int first = 0, count = 0;
  };
  enum Kind : char {
    goes = 0,
    fails = 1,
    failed = 2,
    kinds = 3
  };  // each with its factors, then its gains, at the points

  Descent(const Forest& forest, const int* player_of, int players, const double* cover)
      : f(forest),
        player_of_(player_of),
        cover_(cover),
        node_(),
        w_(players, 1.0),
        met_(players, 0) {}

  // Bytes for a tree of so many nodes.
  static double table_size(double nodes, int points) {
    return nodes * (2.0 * kinds * points * sizeof(double) + sizeof(Step) + sizeof(Node));
  }

  // Lays out one tree.
  void prepare(int tree, const std::vector<Quadrature>& points) {
    t_ = tree;
    from_ = f.root[tree];
    const int to = tree + 1 < f.n_trees ? f.root[tree + 1] : f.n_nodes;
    node_.assign(to - from_, Node());
    step_.clear();
    most_ = deepest_ = 0;
    count_players(from_, 0, 0);
    points_ = &points[points_for(most_)];
    factor_.clear();
    lay_out(from_, static_cast<int>(points_->t.size()));
  }

  static constexpr int together = 8;
  struct Room {
    std::vector<double> product, sum;
    std::vector<char> failed;  // [players * together], all 0
  };
  // Up to eight rows, `columns` apart. Adds to their phi.
  void run(const double* rows, int m, int columns, Room* room, double* phi) const {
    const std::size_t cells = static_cast<std::size_t>(deepest_ + 2) * points_->t.size() * together;
    if (f.column[from_] < 0) return;
    room->product.resize(cells);
    room->sum.resize(cells * f.n_outputs);
    std::fill(room->product.begin(), room->product.begin() + points_->t.size() * together, 1.0);
    const Rows r{rows, m, columns, phi};
    switch (points_->t.size()) {
      case 2:
        return walk<2>(from_, 0, r, room);
      case 4:
        return walk<4>(from_, 0, r, room);
      case 6:
        return walk<6>(from_, 0, r, room);
      case 8:
        return walk<8>(from_, 0, r, room);
      case 10:
        return walk<10>(from_, 0, r, room);
      case 12:
        return walk<12>(from_, 0, r, room);
      case 14:
        return walk<14>(from_, 0, r, room);
      case 16:
        return walk<16>(from_, 0, r, room);
      default:
        return walk<0>(from_, 0, r, room);
    }
  }

 private:
  struct Rows {
    const double* cell;
    int count, columns;
    double* phi;
  };

  // Calls visit(child, share, stays) for what a question leads to. Rows stay that lack the value
  // and those of all surrogates.
  template <class Visit>
  void each_child(int node, Visit visit) const {
    const int child[3] = {f.left[node], f.right[node], f.third_branch(node) ? f.missing[node] : -1};
    double rest = cover_[node];
    for (int at : child) {
      if (at < 0) continue;
      rest -= cover_[at];
      visit(at, cover_[node] > 0 ? cover_[at] / cover_[node] : 0, false);
    }
    if (f.missing[node] == -1 || rest > 0)
      visit(node, cover_[node] > 0 ? std::max(rest, 0.0) / cover_[node] : 0, true);
  }

  void count_players(int node, int depth, int met) {
    deepest_ = std::max(deepest_, depth);
    most_ = std::max(most_, met);
    if (f.column[node] < 0) return;
    const int p = player_of_[f.column[node]];
    const bool fresh = met_[p]++ == 0;
    most_ = std::max(most_, met + fresh);
    each_child(node, [&](int at, double, bool stays) {
      if (!stays) count_players(at, depth + 1, met + fresh);
    });
    --met_[p];
  }

  void lay_out(int node, int Q) {
    if (f.column[node] < 0) return;
    const int p = player_of_[f.column[node]];
    const bool known = met_[p]++ > 0;
    const double old = w_[p];
    Node& own = node_[node - from_];
    own.first = static_cast<int>(step_.size());
    each_child(node, [&](int at, double share, bool stays) {
      ++own.count;
      step_.push_back(Step{at, share, stays || f.column[at] < 0});
      const double w = old * share;
      const std::size_t start = factor_.size();
      factor_.resize(start + 2 * kinds * Q, 0.0);
      double* const by = factor_.data() + start;
      for (int q = 0; q < Q; ++q) {
        const double t = points_->t[q], before = t + (1 - t) * old,
                     above = known ? (1 - old) / before : 0;
        by[2 * goes * Q + q] = (t + (1 - t) * w) / before;
        by[(2 * goes + 1) * Q + q] = (1 - w) / (t + (1 - t) * w) - above;
        by[2 * fails * Q + q] = (1 - t) * w / before;
        by[(2 * fails + 1) * Q + q] = -1 / (1 - t) - above;
        by[2 * failed * Q + q] = share;
      }
    });
    const int first = own.first, count = own.count;
    for (int j = first; j < first + count; ++j) {
      if (step_[j].is_end) continue;
      w_[p] = old * step_[j].share;
      lay_out(step_[j].at, Q);
    }
    w_[p] = old;
    --met_[p];
  }

  // Adds up, over the leaves below `node`, value * weight of the point * product; players' parts go
  // to phi.
  template <int fixed>
  DREHER_WIDE void walk(int node, int depth, const Rows& rows, Room* room) const {
    const int Q = fixed > 0 ? fixed : static_cast<int>(points_->t.size()), K = f.n_outputs,
              m = rows.count;
    const std::ptrdiff_t cells = static_cast<std::ptrdiff_t>(together) * Q;
    double* const total = room->sum.data() + depth * cells * K;
    double* const found = total + cells * K;
    double* const held = room->product.data() + depth * cells;
    double* const below = held + cells;
    const double* const weight = points_->w.data();
    const int c = f.column[node], p = player_of_[c];
    char* const lost = room->failed.data() + static_cast<std::ptrdiff_t>(p) * together;
    char before[together];
    int next[together];
    for (int r = 0; r < m; ++r) {
      before[r] = lost[r];
      next[r] = f.after(node, rows.cell[static_cast<std::ptrdiff_t>(r) * rows.columns + c]);
      if (next[r] < 0) next[r] = node;
    }
    for (std::ptrdiff_t q = 0; q < m * static_cast<std::ptrdiff_t>(Q) * K; ++q) total[q] = 0;
    const Node own = node_[node - from_];
    for (int j = own.first; j < own.first + own.count; ++j) {
      const Step step = step_[j];
      const double* const factor = factor_.data() + static_cast<std::ptrdiff_t>(j) * 2 * kinds * Q;
      const double* by[together];
      for (int r = 0; r < m; ++r) {
        const int kind = before[r] ? failed : step.at == next[r] ? goes : fails;
        lost[r] = kind != goes;
        by[r] = factor + 2 * kind * Q;
      }
      if (step.is_end) {
        const double* const value = f.value + static_cast<std::ptrdiff_t>(step.at) * K;
        for (int r = 0; r < m; ++r) {
          for (int q = 0; q < Q; ++q) below[q] = held[r * Q + q] * by[r][q] * weight[q];
          const double part = dot(by[r] + Q, below, Q);
          for (int k = 0; k < K; ++k) {
            const double v = f.weight[t_] * value[k];
            for (int q = 0; q < Q; ++q) total[(r * K + k) * Q + q] += v * below[q];
            rows.phi[static_cast<std::ptrdiff_t>(p * K + k) * lanes + r] += v * part;
          }
        }
        continue;
      }
      for (int r = 0; r < m; ++r)
        for (int q = 0; q < Q; ++q) below[r * Q + q] = held[r * Q + q] * by[r][q];
      walk<fixed>(step.at, depth + 1, rows, room);
      for (int r = 0; r < m; ++r)
        for (int k = 0; k < K; ++k) {
          const double* const sum = found + (r * K + k) * Q;
          rows.phi[static_cast<std::ptrdiff_t>(p * K + k) * lanes + r] += dot(by[r] + Q, sum, Q);
          for (int q = 0; q < Q; ++q) total[(r * K + k) * Q + q] += sum[q];
        }
    }
    for (int r = 0; r < m; ++r) lost[r] = before[r];
  }

  // Sums of even and odd places, so that two go at a time.
  static inline double dot(const double* a, const double* b, int Q) {
    double even = 0, odd = 0;
    for (int q = 0; q < Q; q += 2) {
      even += a[q] * b[q];
      odd += a[q + 1] * b[q + 1];
    }
    return even + odd;
  }

  const Forest& f;
  const int* player_of_;
  const double* cover_;
  int t_ = 0, from_ = 0, most_ = 0, deepest_ = 0;
  const Quadrature* points_ = nullptr;
  std::vector<Node> node_;
  std::vector<Step> step_;
  std::vector<double> factor_;  // [steps][kinds][factors, gains][points]
  std::vector<double> w_;
  std::vector<int> met_;
};

}  // namespace dreher
