#include "ranking-shapley.h"

namespace dreher {

namespace {

// Rows go through the trees in blocks; a block's values stand as [players * outputs][lanes].
constexpr int lanes = 512;

// weight(a, b) = (a-1)! b! / (a+b)!, the share of one of `a` players against `b`.
class Weights {
 public:
  explicit Weights(int most) : most_(most), w_((most + 1) * (most + 1), 0.0) {
    for (int a = 1; a <= most; ++a) {
      double w = 1.0 / a;  // b = 0: (a-1)! / a!
      for (int b = 0; a + b <= most; ++b) {
        w_[a * (most_ + 1) + b] = w;
        w *= (b + 1.0) / (a + b + 1.0);
      }
    }
  }
  double operator()(int a, int b) const { return w_[a * (most_ + 1) + b]; }

 private:
  int most_;
  std::vector<double> w_;
};

// Gauss-Legendre points and weights on [0, 1], by Newton's method on the Legendre polynomial.
struct Quadrature {
  std::vector<double> t, w;
  explicit Quadrature(int points) : t(points), w(points) {
    for (int i = 0; i < points; ++i) {
      double x = std::cos(M_PI * (i + 0.75) / (points + 0.5)), slope = 1;
      for (int step = 0; step < 100; ++step) {
        double p = 1, before = 0;
        for (int k = 1; k <= points; ++k) {
          const double next = ((2 * k - 1) * x * p - (k - 1) * before) / k;
          before = p;
          p = next;
        }
        slope = points * (x * p - before) / (x * x - 1);
        const double by = p / slope;
        x -= by;
        if (std::fabs(by) < 1e-16) break;
      }
      t[i] = (x + 1) / 2;
      w[i] = 1 / ((1 - x * x) * slope * slope);
    }
  }
};

// ---- pairs of rows ----

enum Side : char { open = 0, of_row = 1, of_background = 2 };

struct Pair {
  const Forest& f;
  const int* player_of;
  const Weights& weights;
  const double* row;
  const double* other;       // the background row
  std::vector<char>& side;   // [n_players]
  std::vector<int>& mine;    // players taken from the row, in order of the path
  std::vector<int>& theirs;  // players taken from the background row
  double* phi;               // [n_players * n_outputs][lanes], this row's
  double scale;

  void walk(int node) {
    while (f.column[node] >= 0) {
      const int c = f.column[node];
      const int p = player_of[c];
      const int x = side[p] == of_background ? -2 : f.after(node, row[c]);
      const int z = side[p] == of_row ? -2 : f.after(node, other[c]);
      if (x != z && x != -2 && z != -2) {
        part(node, p, x, z);
        return;
      }
      const int next = x == -2 ? z : x;
      if (next < 0) break;
      node = next;
    }
    settle(node);
  }

  void part(int node, int p, int x, int z) {
    side[p] = of_row;
    mine.push_back(p);
    if (x < 0)
      settle(node);
    else
      walk(x);
    mine.pop_back();
    side[p] = of_background;
    theirs.push_back(p);
    if (z < 0)
      settle(node);
    else
      walk(z);
    theirs.pop_back();
    side[p] = open;
  }

  void settle(int node) {
    const int a = static_cast<int>(mine.size()), b = static_cast<int>(theirs.size());
    if (a + b == 0) return;  // the same for every set of players: part of the baseline
    const double* value = f.value + static_cast<std::ptrdiff_t>(node) * f.n_outputs;
    const double up = a > 0 ? scale * weights(a, b) : 0;
    const double down = b > 0 ? scale * weights(b, a) : 0;
    for (int k = 0; k < f.n_outputs; ++k) {
      for (int p : mine) phi[(p * f.n_outputs + k) * lanes] += up * value[k];
      for (int p : theirs) phi[(p * f.n_outputs + k) * lanes] -= down * value[k];
    }
  }
};

// The most questions on one path of each tree.
std::vector<int> longest_paths(const Forest& f) {
  std::vector<int> depth(f.n_nodes, 0), out(f.n_trees);
  for (int i = f.n_nodes - 1; i >= 0; --i) {
    if (f.column[i] < 0) continue;
    int below = std::max(depth[f.left[i]], depth[f.right[i]]);
    if (f.missing[i] >= 0) below = std::max(below, depth[f.missing[i]]);
    depth[i] = below + 1;
  }
  for (int t = 0; t < f.n_trees; ++t) out[t] = depth[f.root[t]];
  return out;
}

// ---- whole trees, by cover ----

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

  static int points_for(int players) {
    return players <= 2 ? 2 : (players + 3) / 4 * 2;
  }  // half as many, made even

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

  // Calls visit(child, share, stays) for what a question leads to.
  template <class Visit>
  void each_child(int node, Visit visit) const {
    const int child[3] = {f.left[node], f.right[node], f.third_branch(node) ? f.missing[node] : -1};
    double rest = cover_[node];
    for (int at : child) {
      if (at < 0) continue;
      rest -= cover_[at];
      visit(at, cover_[node] > 0 ? cover_[at] / cover_[node] : 0, false);
    }
    if (f.missing[node] == -1)
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

// ---- small trees ----

constexpr int most_bits = 10;  // of a table's index

// A tree whose questions fit a word. A row's answers: bit j is set where inner node j sends it
// right.
struct SmallTree {
  struct Player {
    int player;
    std::uint64_t mask, want;  // satisfied where (answers & mask) == want
    double w;                  // share of training rows
  };
  struct Group {
    std::vector<Player> above;  // questions on the way to the group
    std::vector<int> inside;    // its own questions
    std::vector<int> players;   // all that any of its leaves asks
    std::vector<double> table;  // [players * outputs][2^(above + inside)]
  };
  std::vector<int> column;  // of each question
  std::vector<double> threshold;
  std::vector<char> missing_right;
  std::vector<Group> group;
  struct Use {
    int player, group, place;  // which of the group's players
  };
  std::vector<Use> use;  // by player
};

// How large a share of the background rows satisfies which of a path's players. count [2^n], 0
DREHER_CLONES void count_patterns(const std::uint64_t* answers, std::size_t rows,
                                  const SmallTree::Player* own, int n, double* count) {
  const double share = 1.0 / static_cast<double>(rows);
  std::uint64_t pattern[lanes];
  for (std::size_t from = 0; from < rows; from += lanes) {
    const int m = static_cast<int>(std::min<std::size_t>(lanes, rows - from));
    std::fill(pattern, pattern + m, 0);
    for (int e = 0; e < n; ++e) {
      const std::uint64_t mask = own[e].mask, want = own[e].want;
      for (int i = 0; i < m; ++i) {
        const std::uint64_t apart = (answers[from + i] & mask) ^ want;
        pattern[i] |= (((apart | (0 - apart)) >> 63) ^ 1)
                      << e;  // a comparison would keep processors from doing several at once
      }
    }
    for (int i = 0; i < m; ++i) count[pattern[i]] += share;
  }
}

// With o and z what a row and a background row satisfy, player e's part of a leaf of value 1 is
// (o_e - z_e) times the integral over t in [0, 1] of the product over the others of t o_k + (1 - t)
// z_k. At a point t the sum over the background rows of whole products,
//   F(o) = sum of count(z) * product over all k of (t o_k + (1 - t) z_k),
// is worked out player by player, for all o at once. With o not holding e, F(o) = (1 - t) H1 and
// F(o + e) = t H0 + H1, where H0 and H1 are the sums of the products without e over the background
// rows that fail and satisfy e; and H0 is the part of e where the row satisfies it, -H1 where it
// fails. So with A = sum over the points of w F / t and C of w F / (1 - t) the parts are A(o + e) -
// A(o) - C(o) and -C(o). All points stand side by side.
template <int Q>
__attribute__((always_inline)) inline void divide_at(int n, const Quadrature& points,
                                                     const double* count, double* F, double* A,
                                                     double* C, double* parts) {
  const int full = 1 << n;
  double t[Q], rest[Q], by_a[Q], by_c[Q];
  for (int q = 0; q < Q; ++q) {
    t[q] = points.t[q];
    rest[q] = 1 - t[q];
    by_a[q] = points.w[q] / t[q];
    by_c[q] = points.w[q] / rest[q];
  }
  for (int o = 0; o < full; ++o)
    for (int q = 0; q < Q; ++q) F[o * Q + q] = count[o];
  for (int e = 0; e < n; ++e) {
    const int half = 1 << e;
    for (int from = 0; from < full; from += 2 * half)
      for (int o = from; o < from + half; ++o) {
        double* const fails = F + o * Q;
        double* const holds = F + (o + half) * Q;
        for (int q = 0; q < Q; ++q) {
          const double lacking = fails[q], having = holds[q];
          fails[q] = rest[q] * having;
          holds[q] = t[q] * lacking + having;
        }
      }
  }
  for (int o = 0; o < full; ++o) {
    double a = 0, c = 0;
    for (int q = 0; q < Q; ++q) {
      a += by_a[q] * F[o * Q + q];
      c += by_c[q] * F[o * Q + q];
    }
    A[o] = a;
    C[o] = c;
  }
  for (int e = 0; e < n; ++e) {
    const int half = 1 << e;
    double* const part = parts + (static_cast<std::size_t>(e) << n);
    for (int from = 0; from < full; from += 2 * half)
      for (int o = from; o < from + half; ++o) {
        part[o] = -C[o];
        part[o + half] = A[o + half] - A[o] - C[o];
      }
  }
}

// parts [n][2^n]; count [2^n]
DREHER_CLONES void divide_counts(int n, const Quadrature& points, const double* count, double* room,
                                 double* parts) {
  const int Q = static_cast<int>(points.t.size());
  double* const A = room + (static_cast<std::size_t>(Q) << n);
  double* const C = A + (std::size_t(1) << n);
  if (Q == 2)
    divide_at<2>(n, points, count, room, A, C, parts);
  else if (Q == 4)
    divide_at<4>(n, points, count, room, A, C, parts);
  else
    divide_at<6>(n, points, count, room, A, C, parts);  // most_bits players at most
}

class SmallTreeBuilder {
 public:
  SmallTreeBuilder(const Forest& forest, const Division& d, const std::vector<char>& gaps,
                   const std::vector<Quadrature>& points)
      : f(forest), d_(d), gaps_(gaps), points_(points) {}

  // False where the tree is not small.
  bool build(int t, SmallTree* tree) {
    tree_ = tree;
    t_ = t;
    *tree = SmallTree();
    bit_.clear();
    if (!number(f.root[t])) return false;
    if (d_.cover == nullptr) answer_background();
    std::vector<SmallTree::Player> path;
    if (!split(f.root[t], path)) return false;
    for (std::size_t g = 0; g < tree->group.size(); ++g)
      for (std::size_t e = 0; e < tree->group[g].players.size(); ++e) {
        tree->use.push_back(
            SmallTree::Use{tree->group[g].players[e], static_cast<int>(g), static_cast<int>(e)});
      }
    std::stable_sort(
        tree->use.begin(), tree->use.end(),
        [](const SmallTree::Use& a, const SmallTree::Use& b) { return a.player < b.player; });
    return true;
  }

 private:
  // Gives the questions their bits.
  bool number(int root) {
    std::vector<int> waiting(1, root);
    while (!waiting.empty()) {
      const int i = waiting.back();
      waiting.pop_back();
      const int c = f.column[i];
      if (c < 0) continue;
      const bool two_ways = f.missing[i] == f.left[i] || f.missing[i] == f.right[i];
      if (f.set_from[i] >= 0 || (!two_ways && gaps_[c]) || tree_->column.size() == 64 ||
          d_.player_of[c] < 0)
        return false;
      bit_.push_back({i, static_cast<int>(tree_->column.size())});
      tree_->column.push_back(c);
      tree_->threshold.push_back(f.threshold[i]);
      tree_->missing_right.push_back(f.missing[i] == f.right[i]);
      waiting.push_back(f.right[i]);
      waiting.push_back(f.left[i]);
    }
    return true;
  }

  void answer_background() {
    const Table& z = *d_.background;
    answers_.assign(z.rows, 0);
    for (std::size_t j = 0; j < tree_->column.size(); ++j) {
      for (std::ptrdiff_t b = 0; b < z.rows; ++b) {
        const double x = z.at(b, tree_->column[j]);
        const bool right = std::isnan(x) ? tree_->missing_right[j] : x > tree_->threshold[j];
        answers_[b] |= static_cast<std::uint64_t>(right) << j;
      }
    }
  }

  int bit_of(int node) const {
    for (const auto& b : bit_)
      if (b.first == node) return b.second;
    return -1;
  }

  int questions_below(int node) const {
    return f.column[node] < 0 ? 0
                              : 1 + questions_below(f.left[node]) + questions_below(f.right[node]);
  }

  static void ask(std::vector<SmallTree::Player>* path, int player, int bit, bool right,
                  double share) {
    const std::uint64_t one = std::uint64_t(1) << bit;
    for (SmallTree::Player& p : *path) {
      if (p.player != player) continue;
      p.mask |= one;
      if (right) p.want |= one;
      p.w *= share;
      return;
    }
    path->push_back(SmallTree::Player{player, one, right ? one : 0, share});
  }

  double share_of(int child, int parent) const {
    if (d_.cover == nullptr) return 1;
    return d_.cover[parent] > 0 ? d_.cover[child] / d_.cover[parent] : 0;
  }

  bool split(int node, const std::vector<SmallTree::Player>& path) {
    if (static_cast<int>(path.size()) > most_bits - 3) return false;
    if (questions_below(node) <= 3) return make_group(node, path);
    for (int right = 0; right < 2; ++right) {
      std::vector<SmallTree::Player> longer = path;
      const int child = right ? f.right[node] : f.left[node];
      ask(&longer, d_.player_of[f.column[node]], bit_of(node), right, share_of(child, node));
      if (!split(child, longer)) return false;
    }
    return true;
  }

  // All leaves below, with their whole paths.
  void list_leaves(int node, const std::vector<SmallTree::Player>& path, std::vector<int>* inside) {
    if (f.column[node] < 0) {
      leaves_.push_back({node, path});
      return;
    }
    inside->push_back(bit_of(node));
    for (int right = 0; right < 2; ++right) {
      std::vector<SmallTree::Player> longer = path;
      const int child = right ? f.right[node] : f.left[node];
      ask(&longer, d_.player_of[f.column[node]], bit_of(node), right, share_of(child, node));
      list_leaves(child, longer, inside);
    }
  }

  bool make_group(int node, const std::vector<SmallTree::Player>& path) {
    tree_->group.emplace_back();
    SmallTree::Group& g = tree_->group.back();
    g.above = path;
    leaves_.clear();
    list_leaves(node, path, &g.inside);
    for (const auto& leaf : leaves_)
      for (const SmallTree::Player& p : leaf.second) {
        if (std::find(g.players.begin(), g.players.end(), p.player) == g.players.end())
          g.players.push_back(p.player);
      }
    const int A = static_cast<int>(path.size()), bits = A + static_cast<int>(g.inside.size()),
              K = f.n_outputs, G = static_cast<int>(g.players.size());
    g.table.assign((std::size_t(1) << bits) * G * K, 0.0);
    std::vector<double> scaled;
    for (const auto& leaf : leaves_) {
      const std::vector<SmallTree::Player>& own = leaf.second;
      const int n = static_cast<int>(own.size());
      if (n == 0) continue;
      parts_.assign((std::size_t(1) << n) * n, 0.0);
      if (d_.cover != nullptr)
        divide_by_cover(own);
      else
        divide_by_pairs(own);
      const double* value = f.value + static_cast<std::ptrdiff_t>(leaf.first) * K;
      int place[most_bits];
      for (int e = 0; e < n; ++e)
        place[e] = static_cast<int>(std::find(g.players.begin(), g.players.end(), own[e].player) -
                                    g.players.begin());
      for (int inside = 0; inside < 1 << (bits - A); ++inside) {
        // Which players are satisfied as far as these answers go; paths begin with the players
        // above, in their order.
        std::uint64_t answers = 0, within = 0;
        for (std::size_t j = 0; j < g.inside.size(); ++j) {
          within |= std::uint64_t(1) << g.inside[j];
          answers |= static_cast<std::uint64_t>(inside >> j & 1) << g.inside[j];
        }
        int met = 0;
        for (int e = 0; e < n; ++e)
          met |= (((answers ^ own[e].want) & own[e].mask & within) == 0) << e;
        const int first = met & ~((1 << A) - 1), kept = met & ((1 << A) - 1);
        for (int e = 0; e < n; ++e) {
          const double* part = parts_.data() + (static_cast<std::size_t>(e) << n) + first;
          for (int k = 0; k < K; ++k) {
            double* to = g.table.data() + (static_cast<std::size_t>(place[e] * K + k) << bits) +
                         (static_cast<std::size_t>(inside) << A);
            add_parts(f.weight[t_] * value[k], part, kept, 1 << A, to);
          }
        }
      }
    }
    return true;
  }

  // kept: the patterns above as far as the answers inside leave them.
  DREHER_WIDE static void add_parts(double by, const double* part, int kept, int count,
                                    double* to) {
    if (kept == count - 1)
      for (int above = 0; above < count; ++above) to[above] += by * part[above];
    else
      for (int above = 0; above < count; ++above) to[above] += by * part[above & kept];
  }

  // parts_[player][pattern]: each player's part of a leaf of value 1, by what the row satisfies.
  DREHER_WIDE void divide_by_cover(const std::vector<SmallTree::Player>& own) {
    const int n = static_cast<int>(own.size());
    const Quadrature& points = points_[(n + 1) / 2];
    double product[1 << (most_bits + 3)];  // of all factors, by pattern
    for (std::size_t q = 0; q < points.t.size(); ++q) {
      const double t = points.t[q];
      product[0] = points.w[q];
      for (int e = 0; e < n; ++e) {
        const double without = (1 - t) * own[e].w, with = t + without;
        for (int j = 0; j < 1 << e; ++j) {
          product[j + (1 << e)] = product[j] * with;
          product[j] *= without;
        }
      }
      for (int e = 0; e < n; ++e) {
        double* const part = parts_.data() + (static_cast<std::size_t>(e) << n);
        const double w = own[e].w, gain = (1 - w) / (t + (1 - t) * w),
                     loss = w > 0 ? 1 / (1 - t) : 0;
        for (int from = 0; from < 1 << n; from += 2 << e) {
          for (int j = from; j < from + (1 << e); ++j) {
            part[j] -= product[j] * loss;
            part[j + (1 << e)] += product[j + (1 << e)] * gain;
          }
        }
      }
    }
  }

  void divide_by_pairs(const std::vector<SmallTree::Player>& own) {
    const int n = static_cast<int>(own.size());
    count_.assign(std::size_t(1) << n, 0.0);
    count_patterns(answers_.data(), answers_.size(), own.data(), n, count_.data());
    const Quadrature& points = points_[Descent::points_for(n)];
    room_.resize((points.t.size() + 2) << n);
    divide_counts(n, points, count_.data(), room_.data(), parts_.data());
  }

  const Forest& f;
  const Division& d_;
  const std::vector<char>& gaps_;
  const std::vector<Quadrature>& points_;
  SmallTree* tree_ = nullptr;
  int t_ = 0;
  std::vector<std::pair<int, int>> bit_;
  std::vector<std::uint64_t> answers_;
  std::vector<std::pair<int, std::vector<SmallTree::Player>>> leaves_;
  std::vector<double> parts_, count_, room_;
};

// Where rows from `from` on, m of them (at most `lanes`), stand in the tables of a small tree's
// groups: index [groups][lanes]. What stands behind the last row, up to as many as processors take
// at once, is there but means nothing.
DREHER_CLONES void find_places(const SmallTree& tree, const Table& rows, std::ptrdiff_t from, int m,
                               std::uint16_t* index) {
  const int even = (m + 7) / 8 * 8;
  std::uint64_t answers[lanes] = {};
  for (std::size_t j = 0; j < tree.column.size(); ++j) {
    const double* const x = rows.cell + rows.rows * tree.column[j] + from;
    const double cut = tree.threshold[j];
    const std::uint64_t bit = std::uint64_t(1) << j;
    if (tree.missing_right[j]) {
      for (int i = 0; i < m; ++i) answers[i] |= x[i] <= cut ? 0 : bit;  // no number: right
    } else {
      for (int i = 0; i < m; ++i) answers[i] |= x[i] > cut ? bit : 0;
    }
  }
  for (const SmallTree::Group& g : tree.group) {
    const int A = static_cast<int>(g.above.size()), I = static_cast<int>(g.inside.size());
    std::uint64_t place[lanes];
    std::fill(place, place + even, 0);
    for (int e = 0; e < A; ++e) {
      const std::uint64_t mask = g.above[e].mask, want = g.above[e].want;
      for (int i = 0; i < even; ++i) {
        const std::uint64_t apart = (answers[i] & mask) ^ want;
        place[i] |= (((apart | (0 - apart)) >> 63) ^ 1)
                    << e;  // a comparison would keep processors from doing several at once
      }
    }
    for (int j = 0; j < I; ++j) {
      const int down = g.inside[j], up = A + j;
      for (int i = 0; i < even; ++i) place[i] |= (answers[i] >> down & 1) << up;
    }
    for (int i = 0; i < even; ++i) index[i] = static_cast<std::uint16_t>(place[i]);
    index += lanes;
  }
}

// Adds what `many` tables say. One number at a time: processors' instructions for several places at
// once are no faster, on some much slower.
template <int many>
DREHER_ONE_BY_ONE void look_up(const double* const* table, const std::uint16_t* const* index, int m,
                               double* to) {
  for (int i = 0; i < m; ++i) {
    double sum = table[0][index[0][i]];
    for (int j = 1; j < many; ++j) sum += table[j][index[j][i]];
    to[i] += sum;
  }
}

// The same rows through the tree: player by player, all groups that ask it, so that its values are
// fetched seldom.
void add_small(const SmallTree& tree, const Table& rows, std::ptrdiff_t from, int m, int K,
               double* phi) {
  std::uint16_t index[64 * lanes];
  find_places(tree, rows, from, m, index);
  for (std::size_t first = 0, last; first < tree.use.size(); first = last) {
    const int player = tree.use[first].player;
    for (last = first; last < tree.use.size() && tree.use[last].player == player; ++last) {
    }
    for (int k = 0; k < K; ++k) {
      double* const to = phi + static_cast<std::ptrdiff_t>(player * K + k) * lanes;
      for (std::size_t u = first; u < last; u += 4) {
        const double* table[4];
        const std::uint16_t* at[4];
        const int many = static_cast<int>(std::min<std::size_t>(4, last - u));
        for (int j = 0; j < many; ++j) {
          const SmallTree::Use& use = tree.use[u + j];
          const SmallTree::Group& g = tree.group[use.group];
          table[j] = g.table.data() + (static_cast<std::size_t>(use.place * K + k)
                                       << (g.above.size() + g.inside.size()));
          at[j] = index + use.group * lanes;
        }
        switch (many) {
          case 4:
            look_up<4>(table, at, m, to);
            break;
          case 3:
            look_up<3>(table, at, m, to);
            break;
          case 2:
            look_up<2>(table, at, m, to);
            break;
          default:
            look_up<1>(table, at, m, to);
        }
      }
    }
  }
}

}  // namespace

bool divide_outputs(const Forest& f, const Table& rows, const Division& d, const Loop& loop,
                    double* phi) {
  const std::ptrdiff_t n = rows.rows;
  const int K = f.n_outputs, P = d.players, C = rows.columns;
  const std::vector<int> longest = longest_paths(f);
  const int most = std::min(*std::max_element(longest.begin(), longest.end()), P);
  const Weights weights(std::max(most, 1));
  std::vector<Quadrature> points;  // points[q]: of q points
  for (int q = 0; q <= std::max(Descent::points_for(most), most_bits); ++q) points.emplace_back(q);
  std::vector<char> gaps(C, 0);
  std::vector<double> others;
  const auto find_gaps = [&](const Table& table) {
    for (int c = 0; c < C; ++c)
      for (std::ptrdiff_t i = 0; i < table.rows && !gaps[c]; ++i)
        gaps[c] = std::isnan(table.at(i, c));
  };
  find_gaps(rows);
  if (d.background != nullptr) {
    find_gaps(*d.background);
    others.resize(d.background->rows * C);
    d.background->read_block(0, d.background->rows, others.data());
  }

  // Tables are made for some trees, all rows are sent through them, and they are dropped.
  const int at_once = 32;
  // Several blocks a thread, so that none waits long for the last.
  const std::ptrdiff_t parts = loop.threads > 1 ? 4 * static_cast<std::ptrdiff_t>(loop.threads) : 1;
  const std::ptrdiff_t size =
      std::max<std::ptrdiff_t>(8, std::min<std::ptrdiff_t>(lanes, (n + parts - 1) / parts));
  std::vector<SmallTree> small(at_once);
  std::vector<Descent> descent;
  if (d.cover != nullptr)
    for (int j = 0; j < at_once; ++j) descent.emplace_back(f, d.player_of, P, d.cover);
  std::vector<char> is_small(at_once);
  struct Room {
    std::vector<double> block, phi;
    Descent::Room descent;
    std::vector<char> side;
    std::vector<int> mine, theirs;
  };
  std::vector<Room> rooms(loop.threads);
  for (Room& room : rooms) {
    room.block.resize(static_cast<std::size_t>(lanes) * C);
    room.phi.resize(static_cast<std::size_t>(lanes) * P * K);
    room.side.assign(P, open);
    room.descent.failed.assign(static_cast<std::size_t>(P) * Descent::together, 0);
  }
  std::fill(phi, phi + n * P * K, 0.0);
  for (int first = 0; first < f.n_trees; first += at_once) {
    const int count = std::min(at_once, f.n_trees - first);
    const bool built = each_row(loop, count, at_once, [&](std::ptrdiff_t j, int) {
      const int t = first + static_cast<int>(j);
      SmallTreeBuilder builder(f, d, gaps, points);
      is_small[j] = longest[t] <= 63 && builder.build(t, &small[j]);
      if (!is_small[j] && d.cover != nullptr) descent[j].prepare(t, points);
    });
    if (!built) return false;
    const bool done =
        each_block(loop, n, size, [&](std::ptrdiff_t from, std::ptrdiff_t to, int thread) {
          Room& room = rooms[thread];
          const int m = static_cast<int>(to - from);
          rows.read_block(from, to, room.block.data());
          std::fill(room.phi.begin(), room.phi.end(), 0.0);
          for (int j = 0; j < count; ++j) {
            const int t = first + j;
            if (is_small[j]) {
              add_small(small[j], rows, from, m, K, room.phi.data());
              continue;
            }
            if (d.cover != nullptr) {
              for (int i = 0; i < m; i += Descent::together) {
                descent[j].run(room.block.data() + static_cast<std::ptrdiff_t>(i) * C,
                               std::min(m - i, Descent::together), C, &room.descent,
                               room.phi.data() + i);
              }
              continue;
            }
            for (int i = 0; i < m; ++i) {
              const double* row = room.block.data() + static_cast<std::ptrdiff_t>(i) * C;
              for (std::ptrdiff_t b = 0; b < d.background->rows; ++b) {
                Pair pair{f,
                          d.player_of,
                          weights,
                          row,
                          others.data() + b * C,
                          room.side,
                          room.mine,
                          room.theirs,
                          room.phi.data() + i,
                          f.weight[t] / d.background->rows};
                pair.walk(f.root[t]);
              }
            }
          }
          for (std::ptrdiff_t c = 0; c < static_cast<std::ptrdiff_t>(P) * K;
               ++c) {  // outputs stand side by side here, in slices there
            double* const to = phi + from + n * (c / K + P * (c % K));
            for (int i = 0; i < m; ++i) to[i] += room.phi[c * lanes + i];
          }
        });
    if (!done) return false;
  }
  return true;
}

bool count_cover(const Forest& f, const Table& table, const int* count, const Loop& loop,
                 double* cover) {
  std::fill(cover, cover + f.n_nodes, 0.0);
  std::vector<double> rows(4096 * static_cast<std::ptrdiff_t>(table.columns));
  for (std::ptrdiff_t from = 0; from < table.rows; from += 4096) {
    const std::ptrdiff_t to = std::min(table.rows, from + 4096);
    table.read_block(from, to, rows.data());
    const bool done = each_row(loop, f.n_trees, 64, [&](std::ptrdiff_t t, int) {
      for (std::ptrdiff_t i = from; i < to; ++i) {
        const double by = count == nullptr ? 1 : count[i + table.rows * t];
        if (by == 0) continue;
        const double* row = rows.data() + (i - from) * table.columns;
        for (int node = f.root[t]; node >= 0;) {
          if (f.owner[node] == node) cover[node] += by;
          node = f.column[node] < 0 ? -1 : f.after(node, row[f.column[node]]);
        }
      }
    });
    if (!done) return false;
  }
  return true;
}

void cover_baseline(const Forest& f, const double* cover, double* baseline) {
  std::copy(f.base, f.base + f.n_outputs, baseline);
  for (int t = 0; t < f.n_trees; ++t) {
    const int last = t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes;
    if (cover[f.root[t]] <= 0) continue;
    for (int node = f.root[t]; node < last; ++node) {
      double ends = cover[node];  // rows that end here
      if (f.column[node] >= 0) {
        ends -= cover[f.left[node]] + cover[f.right[node]];
        if (f.third_branch(node)) ends -= cover[f.missing[node]];
      }
      if (ends <= 0 || f.owner[node] != node) continue;
      for (int k = 0; k < f.n_outputs; ++k) {
        baseline[k] += f.weight[t] * ends / cover[f.root[t]] *
                       f.value[static_cast<std::ptrdiff_t>(node) * f.n_outputs + k];
      }
    }
  }
}

}  // namespace dreher
