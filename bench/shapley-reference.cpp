// References for bench/shapley.R: obvious ways to Shapley values of trees that ask numbers and have one output.
// [[Rcpp::plugins(cpp17)]]
#include <Rcpp.h>

struct Trees {
  Rcpp::IntegerVector root, column, left, right;
  Rcpp::NumericVector threshold, value, weight;
  explicit Trees(Rcpp::List f)
      : root(f["root"]), column(f["column"]), left(f["left"]), right(f["right"]), threshold(f["threshold"]), value(f["value"]), weight(f["weight"]) {}
};

// By cover: the path algorithm that is quadratic in the depth (Lundberg et al. 2020, algorithm 2).
struct Element { int player; double zero, one, weight; };

void extend(Element* m, int length, double zero, double one, int player) {
  m[length] = {player, zero, one, length == 0 ? 1.0 : 0.0};
  for (int i = length - 1; i >= 0; --i) {
    m[i + 1].weight += one * m[i].weight * (i + 1) / (length + 1.0);
    m[i].weight = zero * m[i].weight * (length - i) / (length + 1.0);
  }
}

void unwind(Element* m, int last, int i) {
  const double one = m[i].one, zero = m[i].zero;
  double next = m[last].weight;
  for (int j = last - 1; j >= 0; --j) {
    if (one != 0) {
      const double kept = m[j].weight;
      m[j].weight = next * (last + 1.0) / ((j + 1) * one);
      next = kept - m[j].weight * zero * (last - j) / (last + 1.0);
    } else {
      m[j].weight = m[j].weight * (last + 1.0) / (zero * (last - j));
    }
  }
  for (int j = i; j < last; ++j) {
    m[j].player = m[j + 1].player;
    m[j].zero = m[j + 1].zero;
    m[j].one = m[j + 1].one;
  }
}

double unwound_sum(const Element* m, int last, int i) {
  const double one = m[i].one, zero = m[i].zero;
  double next = m[last].weight, total = 0;
  for (int j = last - 1; j >= 0; --j) {
    if (one != 0) {
      const double w = next * (last + 1.0) / ((j + 1) * one);
      total += w;
      next = m[j].weight - w * zero * (last - j) / (last + 1.0);
    } else {
      total += m[j].weight / (zero * (last - j) / (last + 1.0));
    }
  }
  return total;
}

void descend(const Trees& f, const double* cover, const double* row, double scale, double* phi, int node, const Element* parent, int length, double zero, double one, int player) {
  Element m[80];
  std::copy(parent, parent + length, m);
  extend(m, length, zero, one, player);
  if (f.column[node] < 0) {
    for (int i = 1; i <= length; ++i) phi[m[i].player] += unwound_sum(m, length, i) * (m[i].one - m[i].zero) * scale * f.value[node];
    return;
  }
  const int c = f.column[node];
  const bool goes_left = row[c] <= f.threshold[node];
  const int hot = goes_left ? f.left[node] : f.right[node], cold = goes_left ? f.right[node] : f.left[node];
  double earlier_zero = 1, earlier_one = 1;
  for (int i = 1; i <= length; ++i) {
    if (m[i].player != c) continue;
    earlier_zero = m[i].zero;
    earlier_one = m[i].one;
    unwind(m, length, i);
    --length;
    break;
  }
  descend(f, cover, row, scale, phi, hot, m, length + 1, earlier_zero * cover[hot] / cover[node], earlier_one, c);
  descend(f, cover, row, scale, phi, cold, m, length + 1, earlier_zero * cover[cold] / cover[node], 0, c);
}

// [[Rcpp::export]]
Rcpp::NumericMatrix by_quadratic_paths(Rcpp::List forest, Rcpp::NumericMatrix x, Rcpp::NumericVector cover) {
  const Trees f(forest);
  const int n = x.nrow(), p = x.ncol();
  Rcpp::NumericMatrix out(n, p);
  std::vector<double> row(p), phi(p);
  const Element none{};
  for (int i = 0; i < n; ++i) {
    for (int j = 0; j < p; ++j) row[j] = x(i, j);
    std::fill(phi.begin(), phi.end(), 0.0);
    for (int t = 0; t < f.root.size(); ++t) descend(f, cover.begin(), row.data(), f.weight[t], phi.data(), f.root[t], &none, 0, 1, 1, -1);
    for (int j = 0; j < p; ++j) out(i, j) = phi[j];
  }
  return out;
}

// Against background rows: one walk for each pair of rows, parted where the two part.
struct PairWalk {
  const Trees& f;
  const double *row, *other;
  const std::vector<double>& weights;   // [a * 64 + b]
  std::vector<char> side;
  std::vector<int> mine, theirs;
  double scale;
  double* phi;

  void walk(int node) {
    if (f.column[node] < 0) {
      const int a = mine.size(), b = theirs.size();
      for (int p : mine) phi[p] += scale * f.value[node] * weights[a * 64 + b];
      for (int p : theirs) phi[p] -= scale * f.value[node] * weights[b * 64 + a];
      return;
    }
    const int c = f.column[node];
    const int x = row[c] <= f.threshold[node] ? f.left[node] : f.right[node], z = other[c] <= f.threshold[node] ? f.left[node] : f.right[node];
    if (x == z) return walk(x);
    if (side[c] == 1) return walk(x);
    if (side[c] == 2) return walk(z);
    side[c] = 1;
    mine.push_back(c);
    walk(x);
    mine.pop_back();
    side[c] = 2;
    theirs.push_back(c);
    walk(z);
    theirs.pop_back();
    side[c] = 0;
  }
};

// [[Rcpp::export]]
Rcpp::NumericMatrix by_pairs_of_rows(Rcpp::List forest, Rcpp::NumericMatrix x, Rcpp::NumericMatrix background) {
  const Trees f(forest);
  const int n = x.nrow(), p = x.ncol(), m = background.nrow();
  std::vector<double> weights(64 * 64, 0.0);
  for (int a = 1; a < 64; ++a) for (int b = 0; b < 64; ++b) weights[a * 64 + b] = std::exp(std::lgamma(a) + std::lgamma(b + 1) - std::lgamma(a + b + 1));
  Rcpp::NumericMatrix out(n, p);
  std::vector<double> row(p), phi(p), others(static_cast<size_t>(m) * p);
  for (int b = 0; b < m; ++b) for (int j = 0; j < p; ++j) others[static_cast<size_t>(b) * p + j] = background(b, j);
  for (int i = 0; i < n; ++i) {
    for (int j = 0; j < p; ++j) row[j] = x(i, j);
    std::fill(phi.begin(), phi.end(), 0.0);
    PairWalk walk{f, row.data(), nullptr, weights, std::vector<char>(p, 0), {}, {}, 0, phi.data()};
    for (int t = 0; t < f.root.size(); ++t) for (int b = 0; b < m; ++b) {
      walk.other = others.data() + static_cast<size_t>(b) * p;
      walk.scale = f.weight[t] / m;
      walk.walk(f.root[t]);
    }
    for (int j = 0; j < p; ++j) out(i, j) = phi[j];
  }
  return out;
}
