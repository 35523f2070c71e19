#include "ranking-shapley-tables.h"

#include "ranking-shapley-pairs.h"

namespace dreher {

namespace {

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
          d_.player_of[c] < 0 || !children_have_all(i))
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

  // By cover: do all training rows at a question go on to one of its two children? Those without a
  // value may have a branch of their own, or stay.
  bool children_have_all(int node) const {
    return d_.cover == nullptr ||
           d_.cover[f.left[node]] + d_.cover[f.right[node]] >= d_.cover[node];
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
    const Quadrature& points = points_[points_for(n)];
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
    const double* const x = rows.column[tree.column[j]] + from;
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

}  // namespace

bool tabulate_tree(const Forest& forest, const Division& division, const std::vector<char>& gaps,
                   const std::vector<Quadrature>& points, int tree, SmallTree* out) {
  return SmallTreeBuilder(forest, division, gaps, points).build(tree, out);
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

}  // namespace dreher
