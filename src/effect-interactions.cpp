#include "effect-interactions.h"

#include <deque>
#include <stdexcept>
#include <unordered_map>

#include "ranking-quadrature.h"
#include "ranking-shapley-pairs.h"

namespace dreher {

namespace {

constexpr int most_on_path = 64, tabled_bits = 12, many_leaves = 256, most_questions = 2000;

// B(p, q) = p! q! / (p + q + 1)!
class Beta {
 public:
  Beta() : value_((most_on_path + 1) * (most_on_path + 1), 0.0) {
    for (int p = 0; p <= most_on_path; ++p) {
      double b = 1.0 / (p + 1);
      for (int q = 0; q <= most_on_path; ++q) {
        value_[p * (most_on_path + 1) + q] = b;
        b *= (q + 1.0) / (p + q + 2.0);
      }
    }
  }
  double operator()(int p, int q) const { return value_[p * (most_on_path + 1) + q]; }

 private:
  std::vector<double> value_;
};

std::ptrdiff_t pair_number(int i, int j, int players) {
  if (i > j) std::swap(i, j);
  return static_cast<std::ptrdiff_t>(i) * (2 * players - i - 1) / 2 + j - i - 1;
}

// What is the same for all trees and blocks.
struct Setting {
  const Forest& f;
  const Table& rows;
  const Division& d;
  const Beta& beta;
  const std::vector<Quadrature>& points;
};

// One block of rows in one tree.
class PairWalker {
 public:
  PairWalker(const Setting& s, std::ptrdiff_t from, int m, std::vector<double>* sum)
      : s_(s), from_(from), m_(m), sum_(*sum), slot_of_(s.d.players, -1) {
    seen_.assign(std::size_t(1) << tabled_bits, -1);
  }

  // False where the user wants to stop.
  bool walk_tree(int t, const Loop& loop, int thread) {
    loop_ = &loop;
    thread_ = thread;
    stopped_ = false;
    weight_ = s_.f.weight[t];
    level(0);
    std::fill(fail_[0].begin(), fail_[0].end(), 0);
    std::fill(other_fail_[0].begin(), other_fail_[0].end(), 0);
    descend(s_.f.root[t], 0);
    return !stopped_;
  }

 private:
  void level(std::size_t depth) {
    while (fail_.size() <= depth) {
      fail_.emplace_back(m_);
      go_.emplace_back(m_);
      const std::size_t others = s_.d.background == nullptr ? 0 : s_.d.background->rows;
      other_fail_.emplace_back(others);
      other_go_.emplace_back(others);
    }
  }

  void descend(int node, int depth) {
    const Forest& f = s_.f;
    if (stopped_ || (depth > 2 && loop_->asks_to_stop(thread_))) {
      stopped_ = true;
      return;
    }
    const int c = f.column[node];
    if (c < 0) {
      settle(node, depth);
      return;
    }
    level(depth + 1);
    std::vector<int>& go = go_[depth];
    std::vector<int>& other_go = other_go_[depth];
    for (int r = 0; r < m_; ++r) go[r] = f.after(node, s_.rows.at(from_ + r, c));
    for (std::size_t b = 0; b < other_go.size(); ++b)
      other_go[b] = f.after(node, s_.d.background->at(static_cast<std::ptrdiff_t>(b), c));
    const int p = s_.d.player_of[c];
    const bool fresh = slot_of_[p] < 0;
    if (fresh) {
      if (path_.size() == most_on_path)
        throw std::runtime_error("more than 64 predictors on one path of a tree");
      slot_of_[p] = static_cast<int>(path_.size());
      path_.push_back(p);
      share_.push_back(1);
    }
    const int slot = slot_of_[p];
    const std::uint64_t bit = std::uint64_t(1) << slot;
    const double before = share_[slot];
    const int m = f.missing[node];
    const auto taken = [&](int way) {
      return std::find(go.begin(), go.end(), way) != go.end() ||
             std::find(other_go.begin(), other_go.end(), way) != other_go.end();
    };
    int ways[3] = {f.left[node], f.right[node], -2}, count = 2;
    const bool by_cover = s_.d.cover != nullptr;
    if (m != f.left[node] && m != f.right[node] && (taken(m) || (by_cover && f.third_branch(node))))
      ways[count++] = m;
    else if (by_cover && !f.third_branch(node) && share_of(node, -1) > 0)
      ways[count++] = -1;  // training rows that stay here
    for (int w = 0; w < count; ++w) {
      const int next = ways[w];
      std::vector<std::uint64_t>& to = fail_[depth + 1];
      const std::vector<std::uint64_t>& at = fail_[depth];
      for (int r = 0; r < m_; ++r) to[r] = at[r] | (go[r] != next ? bit : 0);
      for (std::size_t b = 0; b < other_go.size(); ++b)
        other_fail_[depth + 1][b] = other_fail_[depth][b] | (other_go[b] != next ? bit : 0);
      if (s_.d.cover != nullptr) share_[slot] = before * share_of(node, next);
      if (next < 0)
        settle(node, depth + 1);
      else
        descend(next, depth + 1);
    }
    share_[slot] = before;
    if (fresh) {
      slot_of_[p] = -1;
      path_.pop_back();
      share_.pop_back();
    }
  }

  // Which share of a node's training rows goes this way; -1: stays.
  double share_of(int node, int next) const {
    const double* cover = s_.d.cover;
    if (!(cover[node] > 0)) return 0;
    if (next >= 0) return cover[next] / cover[node];
    return std::max(0.0, 1 - (cover[s_.f.left[node]] + cover[s_.f.right[node]]) / cover[node]);
  }

  void settle(int node, int depth) {
    const int d = static_cast<int>(path_.size());
    if (d < 2) return;
    const int pairs = d * (d - 1) / 2;
    const std::vector<std::uint64_t>& fail = fail_[depth];
    // The patterns among the rows, and each row's.
    pattern_.clear();
    which_.resize(m_);
    if (d <= tabled_bits) {
      for (int r = 0; r < m_; ++r) {
        int& at = seen_[fail[r]];
        if (at < 0) {
          at = static_cast<int>(pattern_.size());
          pattern_.push_back(fail[r]);
        }
        which_[r] = at;
      }
      for (std::uint64_t x : pattern_) seen_[x] = -1;
    } else {
      std::unordered_map<std::uint64_t, int> at;
      for (int r = 0; r < m_; ++r) {
        const auto found = at.emplace(fail[r], static_cast<int>(pattern_.size()));
        if (found.second) pattern_.push_back(fail[r]);
        which_[r] = found.first->second;
      }
    }
    part_.assign(pattern_.size() * pairs, 0.0);
    if (s_.d.cover != nullptr) {
      for (std::size_t x = 0; x < pattern_.size(); ++x)
        by_cover(pattern_[x], d, part_.data() + x * pairs);
    } else {
      count_others(depth);
      for (std::size_t x = 0; x < pattern_.size(); ++x)
        by_background(pattern_[x], d, part_.data() + x * pairs);
    }
    add_parts(node, d, pairs);
  }

  void add_parts(int node, int d, int pairs) {
    const int K = s_.f.n_outputs;
    const double* value = s_.f.value + static_cast<std::ptrdiff_t>(node) * K;
    int q = 0;
    for (int i = 0; i < d; ++i)
      for (int j = i + 1; j < d; ++j, ++q) {
        const std::ptrdiff_t g = pair_number(path_[i], path_[j], s_.d.players);
        for (int k = 0; k < K; ++k) {
          const double v = weight_ * value[k];
          if (v == 0) continue;
          double* const to = sum_.data() + (g * K + k) * m_;
          for (int r = 0; r < m_; ++r) to[r] += v * part_[which_[r] * pairs + q];
        }
      }
  }

  // pattern: the players that fail. With f_k(t) the factor of player k, the product over the others
  // is the whole product over two of them, unless a factor is zero.
  void by_cover(std::uint64_t pattern, int d, double* part) {
    const Quadrature& points = s_.points[points_for(d)];
    const int Q = static_cast<int>(points.t.size());
    factor_.resize(static_cast<std::size_t>(d) * Q);
    whole_.assign(Q, 1.0);
    bool zero = false;
    for (int k = 0; k < d; ++k) {
      const double o = pattern >> k & 1 ? 0 : 1;
      for (int q = 0; q < Q; ++q) {
        const double by = points.t[q] * o + (1 - points.t[q]) * share_[k];
        factor_[k * Q + q] = by;
        whole_[q] *= by;
        zero = zero || by < 1e-150;
      }
    }
    for (int q = 0; q < Q; ++q) zero = zero || whole_[q] < 1e-250;
    int at = 0;
    for (int i = 0; i < d; ++i)
      for (int j = i + 1; j < d; ++j, ++at) {
        double integral = 0;
        for (int q = 0; q < Q; ++q) {
          double rest = 1;
          if (!zero) {
            rest = whole_[q] / (factor_[i * Q + q] * factor_[j * Q + q]);
          } else {
            for (int k = 0; k < d; ++k)
              if (k != i && k != j) rest *= factor_[k * Q + q];
          }
          integral += points.w[q] * rest;
        }
        const double oi = pattern >> i & 1 ? 0 : 1, oj = pattern >> j & 1 ? 0 : 1;
        part[at] = (oi - share_[i]) * (oj - share_[j]) * integral;
      }
  }

  // The patterns among the background rows and how many have each.
  void count_others(int depth) {
    other_.clear();
    other_count_.clear();
    std::unordered_map<std::uint64_t, int> at;
    for (std::uint64_t x : other_fail_[depth]) {
      const auto found = at.emplace(x, static_cast<int>(other_.size()));
      if (found.second) {
        other_.push_back(x);
        other_count_.push_back(0);
      }
      other_count_[found.first->second] += 1;
    }
  }

  void by_background(std::uint64_t pattern, int d, double* part) const {
    const double share = 1.0 / static_cast<double>(s_.d.background->rows);
    const int b = __builtin_popcountll(pattern);
    for (std::size_t z = 0; z < other_.size(); ++z) {
      if (pattern & other_[z]) continue;
      const int a = __builtin_popcountll(other_[z]);
      if (a + b < 2) continue;
      const double count = share * other_count_[z];
      const double both_row = a > 1 ? count * s_.beta(a - 2, b) : 0,
                   both_other = b > 1 ? count * s_.beta(a, b - 2) : 0,
                   mixed = a > 0 && b > 0 ? -count * s_.beta(a - 1, b - 1) : 0;
      int at = 0;
      for (int i = 0; i < d; ++i) {
        const bool row_i = other_[z] >> i & 1, other_i = pattern >> i & 1;
        if (!row_i && !other_i) {
          at += d - i - 1;
          continue;
        }
        for (int j = i + 1; j < d; ++j, ++at) {
          const bool row_j = other_[z] >> j & 1, other_j = pattern >> j & 1;
          if (row_j)
            part[at] += row_i ? both_row : mixed;
          else if (other_j)
            part[at] += row_i ? mixed : both_other;
        }
      }
    }
  }

  const Setting& s_;
  const std::ptrdiff_t from_;
  const int m_;
  std::vector<double>& sum_;  // [pairs * outputs][m]
  const Loop* loop_ = nullptr;
  int thread_ = 0;
  bool stopped_ = false;
  double weight_ = 0;
  std::vector<int> slot_of_, path_, seen_, which_;
  std::vector<double> share_, part_, factor_, whole_, other_count_;
  std::vector<std::uint64_t> pattern_, other_;
  std::deque<std::vector<std::uint64_t>> fail_, other_fail_;  // by depth, which stay where they are
  std::deque<std::vector<int>> go_, other_go_;
};

// A leaf of a pair of rows: the players taken from the row, and those from the background row.
struct SettlePairs {
  const Forest& f;
  const Beta& beta;
  int players;
  double scale;
  double* to;  // [pairs * outputs][stride], this row's
  std::ptrdiff_t stride;

  void operator()(int node, const std::vector<int>& mine, const std::vector<int>& theirs) const {
    const int a = static_cast<int>(mine.size()), b = static_cast<int>(theirs.size());
    if (a + b < 2) return;
    const int K = f.n_outputs;
    const double* value = f.value + static_cast<std::ptrdiff_t>(node) * K;
    const auto add = [&](int i, int j, double by) {
      double* const at = to + pair_number(i, j, players) * K * stride;
      for (int k = 0; k < K; ++k) at[k * stride] += by * value[k];
    };
    if (a > 1) {
      const double by = scale * beta(a - 2, b);
      for (int i = 0; i < a; ++i)
        for (int j = i + 1; j < a; ++j) add(mine[i], mine[j], by);
    }
    if (b > 1) {
      const double by = scale * beta(a, b - 2);
      for (int i = 0; i < b; ++i)
        for (int j = i + 1; j < b; ++j) add(theirs[i], theirs[j], by);
    }
    if (a > 0 && b > 0) {
      const double by = -scale * beta(a - 1, b - 1);
      for (int i : mine)
        for (int j : theirs) add(i, j, by);
    }
  }
};

// A tree of many leaves against background rows. False where the user wants to stop.
bool walk_pairs(const Setting& s, int t, std::ptrdiff_t from, int m, const Loop& loop, int thread,
                std::vector<double>* sum) {
  const Table& others = *s.d.background;
  std::vector<double> row(s.rows.columns()), other(others.rows * others.columns());
  others.read_block(0, others.rows, other.data());
  std::vector<char> side(s.d.players, open);
  std::vector<int> mine, theirs;
  for (int i = 0; i < m; ++i) {
    if (loop.asks_to_stop(thread)) return false;
    s.rows.read_row(from + i, row.data());
    for (std::ptrdiff_t b = 0; b < others.rows; ++b) {
      const SettlePairs settle{s.f,
                               s.beta,
                               s.d.players,
                               s.f.weight[t] / static_cast<double>(others.rows),
                               sum->data() + i,
                               m};
      PairPath<SettlePairs> path{
          s.f,  s.d.player_of, row.data(), other.data() + b * others.columns(),
          side, mine,          theirs,     settle};
      path.walk(s.f.root[t]);
    }
  }
  return true;
}

}  // namespace

bool divide_pairs(const Forest& f, const Table& rows, const Division& d, const Loop& loop,
                  double* out) {
  const std::ptrdiff_t n = rows.rows, P = d.players, pairs = P * (P - 1) / 2, K = f.n_outputs;
  std::fill(out, out + n * pairs * K, 0.0);
  if (n == 0 || pairs == 0) return true;
  const std::vector<int> longest = longest_paths(f);
  if (*std::max_element(longest.begin(), longest.end()) > most_questions)
    throw std::runtime_error("more than 2,000 questions on one path of a tree");
  const Beta beta;
  std::vector<Quadrature> points;
  for (int q = 0; q <= points_for(most_on_path); ++q) points.emplace_back(q);
  const Setting setting{f, rows, d, beta, points};
  std::vector<int> leaves(f.n_trees, 0);
  for (int t = 0; t < f.n_trees; ++t) {
    const int last = t + 1 < f.n_trees ? f.root[t + 1] : f.n_nodes;
    for (int i = f.root[t]; i < last; ++i) leaves[t] += f.column[i] < 0;
  }
  const std::ptrdiff_t room = std::max<std::ptrdiff_t>(16, 8000000 / (pairs * K)),
                       each = (n + loop.threads - 1) / loop.threads,
                       size = std::min({std::ptrdiff_t(1024), room, each});
  std::vector<std::vector<double>> sums(loop.threads);
  return each_block(loop, n, size, [&](std::ptrdiff_t from, std::ptrdiff_t to, int thread) {
    const int m = static_cast<int>(to - from);
    std::vector<double>& sum = sums[thread];
    sum.assign(pairs * K * m, 0.0);
    PairWalker walker(setting, from, m, &sum);
    for (int t = 0; t < f.n_trees; ++t) {
      const bool by_pairs = d.background != nullptr && leaves[t] > many_leaves;
      if (by_pairs ? !walk_pairs(setting, t, from, m, loop, thread, &sum)
                   : !walker.walk_tree(t, loop, thread))
        return;
    }
    for (std::ptrdiff_t g = 0; g < pairs; ++g)
      for (std::ptrdiff_t k = 0; k < K; ++k)
        std::copy(sum.data() + (g * K + k) * m, sum.data() + (g * K + k) * m + m,
                  out + from + n * (g + pairs * k));
  });
}

void count_followers(const Forest& f, const int* player_of, int players, const double* cover,
                     double* out) {
  std::fill(out, out + static_cast<std::ptrdiff_t>(players) * players, 0.0);
  for (int i = 0; i < f.n_nodes; ++i) {
    if (f.column[i] < 0 || f.owner[i] != i) continue;
    const int above = player_of[f.column[i]];
    const auto follow = [&](int next) {
      if (next < 0 || f.column[next] < 0 || f.owner[next] != next) return;
      const int below = player_of[f.column[next]];
      out[above + static_cast<std::ptrdiff_t>(players) * below] +=
          cover == nullptr ? 1 : cover[next];
    };
    follow(f.left[i]);
    follow(f.right[i]);
  }
}

}  // namespace dreher
