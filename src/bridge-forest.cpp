// The only place where R meets the forest core: unpacks lists, allocates results, hands over.
#include "bridge-loop.h"
#include "model-forest.h"
#include "ranking-boosted.h"
#include "ranking-impurity.h"
#include "ranking-permutation.h"
#include "ranking-shapley.h"

using dreher::Forest;
using dreher::Loop;
using dreher::Table;

namespace {

// Keeps the R vectors alive as long as the view on them.
struct HeldForest {
  Rcpp::IntegerVector root, column, left, right, missing, owner, set_from, set_size, set_side;
  Rcpp::NumericVector weight, threshold, base;
  Rcpp::NumericMatrix value;  // outputs x nodes
  Forest view;

  explicit HeldForest(const Rcpp::List& x)
      : root(x["root"]),
        column(x["column"]),
        left(x["left"]),
        right(x["right"]),
        missing(x["missing"]),
        owner(x["owner"]),
        set_from(x["set_from"]),
        set_size(x["set_size"]),
        set_side(x["set_side"]),
        weight(x["weight"]),
        threshold(x["threshold"]),
        base(x["base"]),
        value(Rcpp::as<Rcpp::NumericMatrix>(x["value"])) {
    const R_xlen_t nodes = column.size();
    const bool fits = threshold.size() == nodes && left.size() == nodes && right.size() == nodes &&
                      missing.size() == nodes && owner.size() == nodes &&
                      set_from.size() == nodes && set_size.size() == nodes &&
                      value.ncol() == nodes && weight.size() == root.size() &&
                      base.size() == value.nrow();
    if (!fits) Rcpp::stop("the arrays of the forest differ in length");
    view.n_trees = root.size();
    view.n_nodes = static_cast<int>(nodes);
    view.n_columns = Rcpp::as<int>(x["n_columns"]);
    view.n_outputs = value.nrow();
    view.root = root.begin();
    view.weight = weight.begin();
    view.column = column.begin();
    view.threshold = threshold.begin();
    view.left = left.begin();
    view.right = right.begin();
    view.missing = missing.begin();
    view.owner = owner.begin();
    view.set_from = set_from.begin();
    view.set_size = set_size.begin();
    view.set_side = set_side.begin();
    view.set_total = set_side.size();
    view.value = value.begin();
    view.base = base.begin();
  }
};

Table make_table(const Rcpp::NumericMatrix& x, const Forest& forest) {
  if (x.ncol() != forest.n_columns) Rcpp::stop("the table and the forest differ in their columns");
  return Table{x.begin(), x.nrow(), x.ncol()};
}

}  // namespace

// [[Rcpp::export]]
Rcpp::List forest_fault(Rcpp::List forest) {
  HeldForest held(forest);
  int where = -1;
  const char* fault = dreher::find_fault(held.view, &where);
  return Rcpp::List::create(Rcpp::Named("fault") = fault == nullptr ? "" : fault,
                            Rcpp::Named("where") = where + 1);
}

// Positions (from 0) of one tree's nodes, breadth first; see order_nodes.
// [[Rcpp::export]]
Rcpp::List breadth_first(Rcpp::IntegerVector left, Rcpp::IntegerVector right,
                         Rcpp::IntegerVector column) {
  const int n = column.size();
  if (left.size() != n || right.size() != n) Rcpp::stop("the arrays of the tree differ in length");
  std::vector<int> order;
  const char* fault = dreher::order_nodes(left.begin(), right.begin(), column.begin(), n, &order);
  return Rcpp::List::create(Rcpp::Named("fault") = fault == nullptr ? "" : fault,
                            Rcpp::Named("order") = Rcpp::wrap(order));
}

// The largest double below each x: a library's `x < cut` becomes our `x <= just_below(cut)`.
// [[Rcpp::export]]
Rcpp::NumericVector just_below(Rcpp::NumericVector x) {
  Rcpp::NumericVector out(x.size());
  for (R_xlen_t i = 0; i < x.size(); ++i) out[i] = std::nextafter(x[i], R_NegInf);
  return out;
}

// Values as a library sees them that works in single precision.
// [[Rcpp::export]]
Rcpp::NumericMatrix round_single(Rcpp::NumericMatrix x) {
  Rcpp::NumericMatrix out(x.nrow(), x.ncol());
  for (R_xlen_t i = 0; i < x.size(); ++i) out[i] = static_cast<float>(x[i]);
  Rcpp::colnames(out) = Rcpp::colnames(x);
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericMatrix forest_predict(Rcpp::List forest, Rcpp::NumericMatrix x, int threads) {
  HeldForest held(forest);
  const Table table = make_table(x, held.view);
  Rcpp::NumericMatrix out(x.nrow(), held.view.n_outputs);
  stop_if_interrupted(dreher::predict_rows(held.view, table, make_loop(threads), out.begin()));
  return out;
}

// [[Rcpp::export]]
Rcpp::IntegerMatrix forest_ends(Rcpp::List forest, Rcpp::NumericMatrix x, int threads) {
  HeldForest held(forest);
  const Table table = make_table(x, held.view);
  Rcpp::IntegerMatrix out(x.nrow(), held.view.n_trees);
  stop_if_interrupted(dreher::find_ends(held.view, table, make_loop(threads), out.begin()));
  return out;
}

namespace {

dreher::Sample make_sample(const Rcpp::NumericMatrix& x, const Rcpp::NumericMatrix& target,
                           const Rcpp::IntegerMatrix& count, dreher::Rows rows,
                           const Forest& forest) {
  if (target.nrow() != x.nrow()) Rcpp::stop("targets and rows differ in number");
  const bool counted = rows != dreher::Rows::all;
  if (counted && (count.nrow() != x.nrow() || count.ncol() != forest.n_trees))
    Rcpp::stop("in-bag counts must be rows x trees");
  return dreher::Sample{make_table(x, forest), target.begin(), target.ncol(),
                        counted ? count.begin() : nullptr, rows};
}

std::vector<double> column_means(const Rcpp::NumericMatrix& y) {
  std::vector<double> out(y.ncol(), 0.0);
  for (int k = 0; k < y.ncol(); ++k) {
    for (R_xlen_t i = 0; i < y.nrow(); ++i) out[k] += y(i, k) / y.nrow();
  }
  return out;
}

Rcpp::NumericVector make_cube(int a, int b, int c) {
  Rcpp::NumericVector out(static_cast<R_xlen_t>(a) * b * c);
  out.attr("dim") = Rcpp::IntegerVector::create(a, b, c);
  return out;
}

}  // namespace

// count: rows x trees, or 0 x 0 when unknown. held: 0 nothing, 1 the rows with count 0, 2 the rows
// of held_x.
// [[Rcpp::export]]
Rcpp::List forest_impurity(Rcpp::List forest, Rcpp::NumericMatrix x, Rcpp::NumericMatrix target,
                           Rcpp::IntegerMatrix count, int held, Rcpp::NumericMatrix held_x,
                           Rcpp::NumericMatrix held_target, int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  const Loop loop = make_loop(threads);
  const int K = target.ncol();
  const std::vector<double> centre = column_means(target);
  dreher::NodeSums train, aside;
  const dreher::Rows rows = count.size() > 0 ? dreher::Rows::drawn : dreher::Rows::all;
  stop_if_interrupted(
      dreher::sum_nodes(f, make_sample(x, target, count, rows, f), centre.data(), loop, &train));
  if (held == 1)
    stop_if_interrupted(dreher::sum_nodes(
        f, make_sample(x, target, count, dreher::Rows::left_out, f), centre.data(), loop, &aside));
  if (held == 2) {
    if (held_target.ncol() != K) Rcpp::stop("held-out targets have other columns");
    stop_if_interrupted(
        dreher::sum_nodes(f, make_sample(held_x, held_target, count, dreher::Rows::all, f),
                          centre.data(), loop, &aside));
  }
  Rcpp::NumericVector classical = make_cube(f.n_columns, K, f.n_trees);
  Rcpp::NumericVector covariance = make_cube(f.n_columns, K, held ? f.n_trees : 0),
                      gain = make_cube(f.n_columns, K, held ? f.n_trees : 0);
  Rcpp::NumericVector weight(f.n_trees), held_weight(held ? f.n_trees : 0);
  dreher::earn(f, K, train, held ? &aside : nullptr,
               dreher::Earnings{classical.begin(), covariance.begin(), gain.begin(), weight.begin(),
                                held_weight.begin()});
  return Rcpp::List::create(Rcpp::Named("classical") = classical,
                            Rcpp::Named("covariance") = covariance, Rcpp::Named("gain") = gain,
                            Rcpp::Named("weight") = weight,
                            Rcpp::Named("held_weight") = held_weight);
}

// [[Rcpp::export]]
Rcpp::List forest_use(Rcpp::List forest, Rcpp::NumericMatrix x, Rcpp::IntegerMatrix count,
                      int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  dreher::NodeSums train;
  Rcpp::NumericMatrix no_target(x.nrow(), 0);
  const dreher::Rows rows = count.size() > 0 ? dreher::Rows::drawn : dreher::Rows::all;
  stop_if_interrupted(dreher::sum_nodes(f, make_sample(x, no_target, count, rows, f), nullptr,
                                        make_loop(threads), &train));
  Rcpp::NumericMatrix splits(f.n_columns, f.n_trees), passing(f.n_columns, f.n_trees),
      depth(f.n_columns, f.n_trees);
  dreher::describe_use(f, train, splits.begin(), passing.begin(), depth.begin());
  return Rcpp::List::create(Rcpp::Named("splits") = splits, Rcpp::Named("passing") = passing,
                            Rcpp::Named("depth") = depth);
}

// y: numbers, 0/1, or class numbers from 0; loss: 0 squared, 1 logistic, 2 poisson, 3 softmax.
// [[Rcpp::export]]
Rcpp::NumericMatrix forest_regain(Rcpp::List forest, Rcpp::NumericMatrix x, Rcpp::NumericVector y,
                                  int loss, bool second_order, double lambda, double most_step,
                                  bool single, double curve, Rcpp::NumericVector start,
                                  Rcpp::IntegerVector round, Rcpp::IntegerVector group,
                                  int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  if (y.size() != x.nrow() || round.size() != f.n_trees || group.size() != f.n_trees ||
      start.size() != f.n_outputs)
    Rcpp::stop("targets, rounds or groups do not fit");
  if (Rcpp::is_true(Rcpp::any(group < 0)) || Rcpp::is_true(Rcpp::any(group >= f.n_outputs)))
    Rcpp::stop("a tree adds to an output that is not there");
  const dreher::Boosting boosting{static_cast<dreher::Loss>(loss),
                                  second_order,
                                  lambda,
                                  most_step,
                                  single,
                                  curve,
                                  start.begin(),
                                  round.begin(),
                                  group.begin()};
  Rcpp::NumericMatrix gain(f.n_columns, f.n_trees);
  stop_if_interrupted(
      dreher::regain(f, make_table(x, f), y.begin(), boosting, make_loop(threads), gain.begin()));
  return gain;
}

// unit_of: per column the unit (from 0) its splits count for, -1 for none.
// [[Rcpp::export]]
Rcpp::List forest_held_gain(Rcpp::List forest, Rcpp::NumericMatrix x, Rcpp::NumericMatrix held_x,
                            Rcpp::NumericVector y, int loss, Rcpp::IntegerVector group,
                            Rcpp::IntegerVector unit_of, int units, int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  if (y.size() != held_x.nrow() || group.size() != f.n_trees || unit_of.size() != f.n_columns)
    Rcpp::stop("targets, groups or units do not fit");
  if (Rcpp::is_true(Rcpp::any(group < 0)) || Rcpp::is_true(Rcpp::any(group >= f.n_outputs)))
    Rcpp::stop("a tree adds to an output that is not there");
  if (Rcpp::is_true(Rcpp::any(unit_of >= units))) Rcpp::stop("a unit is out of range");
  const int slots = f.n_outputs > 1 ? f.n_outputs + 1 : 1;
  Rcpp::NumericMatrix sum(units, slots), square(units, slots);
  const dreher::Worth out{unit_of.begin(), units, slots, sum.begin(), square.begin()};
  stop_if_interrupted(dreher::held_gain(f, make_table(x, f), make_table(held_x, f), y.begin(),
                                        static_cast<dreher::Loss>(loss), group.begin(),
                                        make_loop(threads), out));
  return Rcpp::List::create(Rcpp::Named("sum") = sum, Rcpp::Named("square") = square);
}

// The trees of a ranger model behind each other. is_ordered, n_levels: of each of the model's
// columns. A question about levels is a bit mask held in a double: bit k set sends level k + 1 to
// the right (set_side 1, else -1).
// [[Rcpp::export]]
Rcpp::List stack_ranger(Rcpp::List columns, Rcpp::List values, Rcpp::List children,
                        Rcpp::LogicalVector is_ordered, Rcpp::IntegerVector n_levels) {
  const R_xlen_t trees = columns.size();
  if (values.size() != trees || children.size() != trees || n_levels.size() != is_ordered.size())
    Rcpp::stop("trees do not fit each other");
  R_xlen_t n = 0;
  for (R_xlen_t t = 0; t < trees; ++t) n += Rf_xlength(columns[t]);
  Rcpp::IntegerVector column(Rcpp::no_init(n)), left(Rcpp::no_init(n)), right(Rcpp::no_init(n)),
      missing(Rcpp::no_init(n)), owner(Rcpp::no_init(n)), set_from(Rcpp::no_init(n)), set_size(n);
  Rcpp::NumericVector threshold(n), leaf_value(n);
  std::vector<int> side;
  R_xlen_t at = 0;
  for (R_xlen_t t = 0; t < trees; ++t) {
    const Rcpp::NumericVector c(columns[t]), v(values[t]);
    const Rcpp::List child(children[t]);
    if (child.size() != 2) Rcpp::stop("a tree has no two lists of children");
    const Rcpp::NumericVector l(child[0]), r(child[1]);
    if (v.size() != c.size() || l.size() != c.size() || r.size() != c.size())
      Rcpp::stop("a tree's lists are of different lengths");
    for (R_xlen_t i = 0; i < c.size(); ++i, ++at) {
      const bool leaf = l[i] == 0;
      owner[at] = static_cast<int>(i);
      left[at] = static_cast<int>(l[i]);
      right[at] = static_cast<int>(r[i]);
      missing[at] = leaf ? 0 : -1;
      set_from[at] = -1;
      column[at] = -1;
      if (leaf) {
        leaf_value[at] = v[i];
        continue;
      }
      if (!(c[i] >= 0 && c[i] < is_ordered.size()))
        Rcpp::stop("a tree asks a column that is not there");
      const int asked = static_cast<int>(c[i]);
      column[at] = asked;
      if (is_ordered[asked]) {
        threshold[at] = v[i];
        continue;
      }
      set_from[at] = static_cast<int>(side.size());
      set_size[at] = n_levels[asked];
      double mask = v[i];
      for (int k = 0; k < n_levels[asked]; ++k) {
        side.push_back(std::fmod(mask, 2) >= 1 ? 1 : -1);
        mask = std::floor(mask / 2);
      }
    }
  }
  return Rcpp::List::create(Rcpp::Named("column") = column, Rcpp::Named("threshold") = threshold,
                            Rcpp::Named("left") = left, Rcpp::Named("right") = right,
                            Rcpp::Named("missing") = missing, Rcpp::Named("owner") = owner,
                            Rcpp::Named("set_from") = set_from, Rcpp::Named("set_size") = set_size,
                            Rcpp::Named("set_side") = Rcpp::wrap(side),
                            Rcpp::Named("leaf_value") = leaf_value);
}

// From places in trees (`size` nodes each, behind each other) to places in the list of all; -1,
// nowhere, stays so.
// [[Rcpp::export]]
Rcpp::IntegerVector shift_places(Rcpp::IntegerVector x, Rcpp::IntegerVector size) {
  Rcpp::IntegerVector out(Rcpp::no_init(x.size()));
  R_xlen_t start = 0;
  for (int nodes : size) {
    if (nodes < 0 || start + nodes > x.size()) Rcpp::stop("trees do not fit their nodes");
    for (R_xlen_t i = start; i < start + nodes; ++i)
      out[i] = x[i] < 0 ? -1 : x[i] + static_cast<int>(start);
    start += nodes;
  }
  if (start != x.size()) Rcpp::stop("trees do not fit their nodes");
  return out;
}

namespace {

// A forest and a table, laid out for shuffling; kept between calls for parts of the rows.
struct Prepared {
  HeldForest forest;
  dreher::Ranks ranks;
  dreher::Coded coded;
  Prepared(const Rcpp::List& f, const Rcpp::NumericMatrix& x, const Loop& loop)
      : forest(f), ranks(make_table(x, forest.view), loop), coded(forest.view, ranks) {}
};

std::vector<int> from_zero(const Rcpp::IntegerVector& x) {
  std::vector<int> out(x.begin(), x.end());
  for (int& i : out) --i;
  return out;
}

}  // namespace

// [[Rcpp::export]]
SEXP shuffle_prepare(Rcpp::List forest, Rcpp::NumericMatrix x, int threads) {
  Rcpp::XPtr<Prepared> out(new Prepared(forest, x, make_loop(threads)));
  stop_if_interrupted(out->ranks.done);
  return out;
}

// Rows from to `to` (from 1). donor: rows x repeats, or rows x repeats x players; inbag: rows x
// trees, or 0 x 0; scale: rows, or none.
// -> base + scale * sum over trees: before (rows x outputs) and after (rows x repeats x players x
// outputs) the shuffles
// [[Rcpp::export]]
Rcpp::List shuffle_rows(SEXP prepared, Rcpp::IntegerVector player_of, int players,
                        Rcpp::IntegerVector donor, int repeats, bool own_donors,
                        Rcpp::IntegerMatrix inbag, Rcpp::NumericVector scale, int from, int to,
                        int threads) {
  const Rcpp::XPtr<Prepared> at(prepared);
  const Forest& f = at->forest.view;
  const R_xlen_t n = at->ranks.rows;
  if (repeats < 1 || repeats > dreher::most_repeats) Rcpp::stop("too many repeats at once");
  if (donor.size() != n * repeats * (own_donors ? players : 1) || player_of.size() != f.n_columns)
    Rcpp::stop("donors or players do not fit the table");
  if (inbag.size() > 0 && (inbag.nrow() != n || inbag.ncol() != f.n_trees))
    Rcpp::stop("in-bag counts must be rows x trees");
  if (scale.size() > 0 && scale.size() != n) Rcpp::stop("one scale per row");
  if (from < 1 || to > n || from > to) Rcpp::stop("rows out of range");
  const std::vector<int> donor0 = from_zero(donor), player0 = from_zero(player_of);
  for (int d : donor0)
    if (d < 0 || d >= n) Rcpp::stop("a donor is out of range");
  for (int p : player0)
    if (p >= players) Rcpp::stop("a player is out of range");
  const dreher::Shuffle shuffle{player0.data(),
                                players,
                                donor0.data(),
                                repeats,
                                own_donors,
                                inbag.size() > 0 ? inbag.begin() : nullptr,
                                scale.size() > 0 ? scale.begin() : nullptr};
  Rcpp::NumericMatrix before(to - from + 1, f.n_outputs);
  Rcpp::NumericVector after(
      Rcpp::no_init(static_cast<R_xlen_t>(to - from + 1) * repeats * f.n_outputs * players));
  stop_if_interrupted(dreher::shuffle_outputs(f, at->coded, at->ranks, shuffle, from - 1, to,
                                              make_loop(threads), before.begin(), after.begin()));
  after.attr("dim") = Rcpp::IntegerVector::create(to - from + 1, repeats, players, f.n_outputs);
  return Rcpp::List::create(Rcpp::Named("before") = before, Rcpp::Named("after") = after);
}

// Sums of the changes of row losses, kept between pieces.
// [[Rcpp::export]]
SEXP tally_start(int rows, int units) {
  return Rcpp::XPtr<dreher::Tally>(new dreher::Tally(rows, units));
}

// value: rows x repeats x units, of rows from, from + 1, ...; turn (of the repeats), unit: which
// they are; donor: all rows x all repeats (x these units).
// [[Rcpp::export]]
void tally_add(SEXP tally, Rcpp::NumericVector value, int power, int from, Rcpp::IntegerVector turn,
               Rcpp::IntegerVector unit, Rcpp::NumericVector truth, Rcpp::NumericVector before,
               Rcpp::NumericVector weight, Rcpp::IntegerVector donor, bool own_donors,
               int threads) {
  const Rcpp::XPtr<dreher::Tally> at(tally);
  const std::ptrdiff_t n = at->rows, units = unit.size();
  if (n == 0 || units == 0 || turn.size() == 0) return;
  const R_xlen_t rows = value.size() / (turn.size() * units),
                 repeats = donor.size() / n / (own_donors ? units : 1);
  const bool fits = value.size() == rows * turn.size() * units &&
                    donor.size() == n * repeats * (own_donors ? units : 1) && from >= 1 &&
                    from - 1 + rows <= n && before.size() == n &&
                    (power == 0 || truth.size() == n) && (weight.size() == 0 || weight.size() == n);
  if (!fits) Rcpp::stop("losses, donors or rows do not fit each other");
  for (int d : donor)
    if (d < 1 || d > n) Rcpp::stop("a donor is out of range");
  for (int r : turn)
    if (r < 1 || r > repeats) Rcpp::stop("a repeat is out of range");
  for (int u : unit)
    if (u < 1 || u > static_cast<int>(at->square.size())) Rcpp::stop("a unit is out of range");
  const dreher::Losses losses{value.begin(),
                              power,
                              from - 1,
                              rows,
                              from_zero(turn),
                              from_zero(unit),
                              truth.begin(),
                              before.begin(),
                              weight.size() > 0 ? weight.begin() : nullptr,
                              donor.begin(),
                              static_cast<int>(repeats),
                              own_donors};
  dreher::add_losses(losses, make_loop(threads), &*at);
}

// -> given and taken (rows), both over the number of repeats, and square, of one unit
// [[Rcpp::export]]
Rcpp::List tally_read(SEXP tally, int unit, int repeats) {
  const Rcpp::XPtr<dreher::Tally> at(tally);
  if (unit < 1 || unit > static_cast<int>(at->square.size())) Rcpp::stop("a unit is out of range");
  const auto column = [&](const std::vector<double>& from) {
    Rcpp::NumericVector out(Rcpp::no_init(at->rows));
    const double* sum = from.data() + at->rows * (unit - 1);
    for (std::ptrdiff_t i = 0; i < at->rows; ++i) out[i] = sum[i] / repeats;
    return out;
  };
  return Rcpp::List::create(Rcpp::Named("given") = column(at->given),
                            Rcpp::Named("taken") = column(at->taken),
                            Rcpp::Named("square") = at->square[unit - 1]);
}

// With e = basis * by and what is passed on of it, passed * by: the sums of slope * change + e
// instead of those of the change. basis, passed: rows x parts; stratum: rows, or none: what is
// taken is told from its stratum's mean.
// -> units (rows), given + taken; their variances; square
// [[Rcpp::export]]
Rcpp::List two_way_sums(Rcpp::NumericVector given, Rcpp::NumericVector taken, double square,
                        int repeats, double slope, Rcpp::NumericMatrix basis,
                        Rcpp::NumericMatrix passed, Rcpp::NumericVector by,
                        Rcpp::IntegerVector stratum) {
  const R_xlen_t n = given.size();
  const int parts = basis.ncol();
  const bool fits = taken.size() == n && basis.nrow() == n && passed.nrow() == n &&
                    passed.ncol() == parts && by.size() == parts &&
                    (stratum.size() == 0 || stratum.size() == n);
  if (!fits) Rcpp::stop("sums do not fit each other");
  Rcpp::NumericVector units(Rcpp::no_init(n));
  std::vector<double> give(n), take(n), mean;
  double cross = 0, own = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    double e = 0, other = 0;
    for (int k = 0; k < parts; ++k) {
      e += by[k] * basis[i + n * k];
      other += by[k] * passed[i + n * k];
    }
    give[i] = slope * given[i] + e;
    take[i] = slope * taken[i] + other;
    cross += e * given[i];
    own += e * e;
  }
  if (stratum.size() > 0) {
    const int strata = Rcpp::max(stratum);
    if (Rcpp::min(stratum) < 1) Rcpp::stop("strata are counted from 1");
    std::vector<double> count(strata, 0.0);
    mean.assign(strata, 0.0);
    for (R_xlen_t i = 0; i < n; ++i) {
      mean[stratum[i] - 1] += take[i];
      count[stratum[i] - 1] += 1;
    }
    for (R_xlen_t i = 0; i < n; ++i) take[i] -= mean[stratum[i] - 1] / count[stratum[i] - 1];
  }
  const auto variance = [n](const double* x) {
    double sum = 0, around = 0;
    for (R_xlen_t i = 0; i < n; ++i) sum += x[i];
    for (R_xlen_t i = 0; i < n; ++i) around += (x[i] - sum / n) * (x[i] - sum / n);
    return around / (n - 1);
  };
  for (R_xlen_t i = 0; i < n; ++i) units[i] = give[i] + take[i];
  return Rcpp::List::create(
      Rcpp::Named("units") = units, Rcpp::Named("var_units") = variance(units.begin()),
      Rcpp::Named("var_given") = variance(give.data()),
      Rcpp::Named("var_taken") = variance(take.data()),
      Rcpp::Named("square") = slope * slope * square + 2 * slope * repeats * cross + repeats * own);
}

// Charges every row with the numbers of those that received its values, over the number of repeats.
// donor: rows x repeats.
// [[Rcpp::export]]
Rcpp::NumericVector charge_donors(Rcpp::NumericVector e, Rcpp::IntegerMatrix donor) {
  const R_xlen_t n = e.size();
  if (donor.nrow() != n) Rcpp::stop("donors do not fit the rows");
  Rcpp::NumericVector out(n);
  for (int r = 0; r < donor.ncol(); ++r)
    for (R_xlen_t i = 0; i < n; ++i) {
      const int to = donor[i + n * r];
      if (to < 1 || to > n) Rcpp::stop("a donor is out of range");
      out[to - 1] += e[i];
    }
  return out / static_cast<double>(donor.ncol());
}

// All donors: the steps of every row's output as a function of a player's value, for players of one
// column.
// -> row, player, lo, hi (ranks, from 0, hi excluded) and change (outputs x runs)
// [[Rcpp::export]]
Rcpp::List shuffle_steps(SEXP prepared, Rcpp::IntegerVector player_of, int players,
                         Rcpp::IntegerMatrix inbag, int from, int to, int threads) {
  const Rcpp::XPtr<Prepared> at(prepared);
  const Forest& f = at->forest.view;
  const R_xlen_t n = at->ranks.rows;
  if (player_of.size() != f.n_columns) Rcpp::stop("players do not fit the table");
  if (inbag.size() > 0 && (inbag.nrow() != n || inbag.ncol() != f.n_trees))
    Rcpp::stop("in-bag counts must be rows x trees");
  if (from < 1 || to > n || from > to) Rcpp::stop("rows out of range");
  const std::vector<int> player0 = from_zero(player_of);
  std::vector<char> met(players, 0);
  for (int p : player0)
    if (p >= players || (p >= 0 && met[p]++)) Rcpp::stop("a player must be one column");
  const dreher::Shuffle shuffle{
      player0.data(), players, nullptr, 0, false, inbag.size() > 0 ? inbag.begin() : nullptr};
  std::vector<dreher::Runs> blocks;
  stop_if_interrupted(dreher::shuffle_runs(f, at->coded, at->ranks, shuffle, from - 1, to,
                                           make_loop(threads), &blocks));
  std::size_t total = 0;
  for (const dreher::Runs& b : blocks) total += b.row.size();
  Rcpp::IntegerVector row(total), player(total), lo(total), hi(total);
  Rcpp::NumericMatrix change(f.n_outputs, total);
  std::size_t done = 0;
  for (const dreher::Runs& b : blocks) {
    std::transform(b.row.begin(), b.row.end(), row.begin() + done, [](int i) { return i + 1; });
    std::transform(b.player.begin(), b.player.end(), player.begin() + done,
                   [](int q) { return q + 1; });
    std::copy(b.lo.begin(), b.lo.end(), lo.begin() + done);
    std::copy(b.hi.begin(), b.hi.end(), hi.begin() + done);
    std::copy(b.change.begin(), b.change.end(), change.begin() + done * f.n_outputs);
    done += b.row.size();
  }
  return Rcpp::List::create(Rcpp::Named("row") = row, Rcpp::Named("player") = player,
                            Rcpp::Named("lo") = lo, Rcpp::Named("hi") = hi,
                            Rcpp::Named("change") = change);
}

// Ranks of a column's values among its distinct ones, from 0; missing values stand last.
// [[Rcpp::export]]
Rcpp::IntegerVector shuffle_ranks(SEXP prepared, int column) {
  const Rcpp::XPtr<Prepared> at(prepared);
  const dreher::Ranks& ranks = at->ranks;
  if (column < 1 || column > ranks.columns) Rcpp::stop("no such column");
  Rcpp::IntegerVector out(ranks.rows);
  for (std::ptrdiff_t i = 0; i < ranks.rows; ++i) {
    const dreher::Code code = ranks.row(i)[column - 1];
    out[i] = code == dreher::missing_code ? static_cast<int>(ranks.value[column - 1].size())
                                          : static_cast<int>(code);
  }
  return out;
}

// Sums a number per run over the ranks it spans: out[rank] = sum of by[run] where lo <= rank < hi.
// [[Rcpp::export]]
Rcpp::NumericMatrix sum_spans(Rcpp::IntegerVector player, Rcpp::IntegerVector lo,
                              Rcpp::IntegerVector hi, Rcpp::NumericVector by, int ranks,
                              int players) {
  Rcpp::NumericMatrix out(ranks, players);
  std::vector<double> step(static_cast<std::size_t>(ranks + 1) * players, 0.0);
  for (R_xlen_t i = 0; i < by.size(); ++i) {
    if (player[i] < 1 || player[i] > players || lo[i] < 0 || hi[i] > ranks || lo[i] > hi[i])
      Rcpp::stop("a run is out of range");
    double* of = step.data() + static_cast<std::size_t>(ranks + 1) * (player[i] - 1);
    of[lo[i]] += by[i];
    of[hi[i]] -= by[i];
  }
  for (int p = 0; p < players; ++p) {
    double sum = 0;
    for (int r = 0; r < ranks; ++r)
      out(r, p) = sum += step[static_cast<std::size_t>(ranks + 1) * p + r];
  }
  return out;
}

// out[cell] = sum of `by` over the entries of a cell (from 1, column after column).
// [[Rcpp::export]]
Rcpp::NumericMatrix sum_cells(Rcpp::NumericVector cell, Rcpp::NumericVector by, int rows,
                              int columns) {
  Rcpp::NumericMatrix out(rows, columns);
  if (cell.size() != by.size()) Rcpp::stop("cells and numbers differ in length");
  for (R_xlen_t i = 0; i < by.size(); ++i) {
    if (!(cell[i] >= 1 && cell[i] <= static_cast<double>(out.size())))
      Rcpp::stop("a cell is out of range");
    out[static_cast<R_xlen_t>(cell[i]) - 1] += by[i];
  }
  return out;
}

// background: rows that stand in for "not known"; or cover: training rows per node (then background
// has no rows).
// -> rows x players x outputs
// [[Rcpp::export]]
Rcpp::NumericVector forest_shapley(Rcpp::List forest, Rcpp::NumericMatrix x,
                                   Rcpp::NumericMatrix background, Rcpp::NumericVector cover,
                                   Rcpp::IntegerVector player_of, int players, int threads) {
  HeldForest held(forest);
  const Table rows = make_table(x, held.view), others = make_table(background, held.view);
  const bool by_cover = cover.size() > 0;
  if (by_cover && cover.size() != held.view.n_nodes) Rcpp::stop("covers do not fit the nodes");
  if (!by_cover && others.rows == 0) Rcpp::stop("no background rows");
  if (player_of.size() != x.ncol()) Rcpp::stop("players do not fit the table");
  const std::vector<int> player0 = from_zero(player_of);
  for (int p : player0)
    if (p < 0 || p >= players) Rcpp::stop("a player is out of range");
  const dreher::Division division{player0.data(), players, by_cover ? nullptr : &others,
                                  by_cover ? cover.begin() : nullptr};
  Rcpp::NumericVector phi(static_cast<R_xlen_t>(x.nrow()) * players * held.view.n_outputs);
  stop_if_interrupted(
      dreher::divide_outputs(held.view, rows, division, make_loop(threads), phi.begin()));
  phi.attr("dim") = Rcpp::IntegerVector::create(x.nrow(), players, held.view.n_outputs);
  return phi;
}

// count: rows x trees, or 0 x 0: every row once. -> cover per node, and the outputs with everything
// unknown
// [[Rcpp::export]]
Rcpp::List forest_cover(Rcpp::List forest, Rcpp::NumericMatrix x, Rcpp::IntegerMatrix count,
                        int threads) {
  HeldForest held(forest);
  const Forest& f = held.view;
  if (count.size() > 0 && (count.nrow() != x.nrow() || count.ncol() != f.n_trees))
    Rcpp::stop("in-bag counts must be rows x trees");
  Rcpp::NumericVector cover(f.n_nodes), baseline(f.n_outputs);
  stop_if_interrupted(dreher::count_cover(f, make_table(x, f),
                                          count.size() > 0 ? count.begin() : nullptr,
                                          make_loop(threads), cover.begin()));
  dreher::cover_baseline(f, cover.begin(), baseline.begin());
  return Rcpp::List::create(Rcpp::Named("cover") = cover, Rcpp::Named("baseline") = baseline);
}
