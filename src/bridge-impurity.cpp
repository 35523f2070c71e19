// Where R meets impurity importance and the gains of boosted trees.
#include "bridge-forest.h"
#include "ranking-boosted.h"
#include "ranking-impurity.h"

// The losses of boosting by name, in the order of dreher::Loss: R finds their numbers here.
// [[Rcpp::export]]
Rcpp::CharacterVector boosting_losses() {
  Rcpp::CharacterVector out;
  for (const char* name : dreher::loss_names) out.push_back(name);
  return out;
}

namespace {

dreher::Sample make_sample(SEXP x, const Rcpp::NumericMatrix& target,
                           const Rcpp::IntegerMatrix& count, dreher::Rows rows,
                           const Forest& forest) {
  const Table table = make_table(x, forest);
  if (target.nrow() != table.rows) Rcpp::stop("targets and rows differ in number");
  const bool counted = rows != dreher::Rows::all;
  if (counted && (count.nrow() != table.rows || count.ncol() != forest.n_trees))
    Rcpp::stop("in-bag counts must be rows x trees");
  return dreher::Sample{table, target.begin(), target.ncol(), counted ? count.begin() : nullptr,
                        rows};
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
Rcpp::List forest_impurity(Rcpp::List forest, SEXP x, Rcpp::NumericMatrix target,
                           Rcpp::IntegerMatrix count, int held, SEXP held_x,
                           Rcpp::NumericMatrix held_target, int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  const int K = target.ncol();
  const std::vector<double> centre =
      dreher::column_means(target.begin(), target.nrow(), target.ncol());
  dreher::NodeSums train, aside;
  const dreher::Rows rows = count.size() > 0 ? dreher::Rows::drawn : dreher::Rows::all;
  run_whole(threads, [&](const Loop& loop) {
    return dreher::sum_nodes(f, make_sample(x, target, count, rows, f), centre.data(), loop,
                             &train);
  });
  if (held == 1)
    run_whole(threads, [&](const Loop& loop) {
      return dreher::sum_nodes(f, make_sample(x, target, count, dreher::Rows::left_out, f),
                               centre.data(), loop, &aside);
    });
  if (held == 2) {
    if (held_target.ncol() != K) Rcpp::stop("held-out targets have other columns");
    run_whole(threads, [&](const Loop& loop) {
      return dreher::sum_nodes(f, make_sample(held_x, held_target, count, dreher::Rows::all, f),
                               centre.data(), loop, &aside);
    });
  }
  Rcpp::NumericVector classical = make_cube(f.n_columns, K, f.n_trees);
  Rcpp::NumericVector covariance = make_cube(f.n_columns, K, held ? f.n_trees : 0),
                      gain = make_cube(f.n_columns, K, held ? f.n_trees : 0);
  Rcpp::NumericVector weight(f.n_trees), held_weight(held ? f.n_trees : 0);
  dreher::add_up_decreases(f, K, train, held ? &aside : nullptr,
                           dreher::Decreases{classical.begin(), covariance.begin(), gain.begin(),
                                             weight.begin(), held_weight.begin()});
  return Rcpp::List::create(Rcpp::Named("classical") = classical,
                            Rcpp::Named("covariance") = covariance, Rcpp::Named("gain") = gain,
                            Rcpp::Named("weight") = weight,
                            Rcpp::Named("held_weight") = held_weight);
}

// [[Rcpp::export]]
Rcpp::List forest_use(Rcpp::List forest, SEXP x, Rcpp::IntegerMatrix count, int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  dreher::NodeSums train;
  Rcpp::NumericMatrix no_target(make_table(x, f).rows, 0);
  const dreher::Rows rows = count.size() > 0 ? dreher::Rows::drawn : dreher::Rows::all;
  run_whole(threads, [&](const Loop& loop) {
    return dreher::sum_nodes(f, make_sample(x, no_target, count, rows, f), nullptr, loop, &train);
  });
  Rcpp::NumericMatrix splits(f.n_columns, f.n_trees), passing(f.n_columns, f.n_trees),
      depth(f.n_columns, f.n_trees);
  dreher::describe_use(f, train, splits.begin(), passing.begin(), depth.begin());
  return Rcpp::List::create(Rcpp::Named("splits") = splits, Rcpp::Named("passing") = passing,
                            Rcpp::Named("depth") = depth);
}

// y: numbers, 0/1, or class numbers from 0; loss: 0 squared, 1 logistic, 2 poisson, 3 softmax;
// weight: of the rows, or empty. -> gain (columns x trees), mass (trees)
// [[Rcpp::export]]
Rcpp::List recompute_gains(Rcpp::List forest, SEXP x, Rcpp::NumericVector y, int loss,
                           bool second_order, double lambda, double most_step, bool single,
                           double curve, Rcpp::NumericVector start, Rcpp::IntegerVector round,
                           Rcpp::IntegerVector group, Rcpp::NumericVector weight, int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  const Table table = make_table(x, f);
  if (weight.size() > 0 && weight.size() != table.rows) Rcpp::stop("weights do not fit the rows");
  if (y.size() != table.rows || round.size() != f.n_trees || group.size() != f.n_trees ||
      start.size() != f.n_outputs)
    Rcpp::stop("targets, rounds or groups do not fit");
  if (!within(group, 0, f.n_outputs)) Rcpp::stop("a tree adds to an output that is not there");
  const dreher::Boosting boosting{static_cast<dreher::Loss>(loss),
                                  second_order,
                                  lambda,
                                  most_step,
                                  single,
                                  curve,
                                  start.begin(),
                                  round.begin(),
                                  group.begin(),
                                  weight.size() > 0 ? weight.begin() : nullptr};
  Rcpp::NumericMatrix gain(f.n_columns, f.n_trees);
  Rcpp::NumericVector mass(f.n_trees);
  run_whole(threads, [&](const Loop& loop) {
    return dreher::recompute_gain(f, table, y.begin(), boosting, loop, gain.begin(), mass.begin());
  });
  return Rcpp::List::create(Rcpp::Named("gain") = gain, Rcpp::Named("mass") = mass);
}

// unit_of: per column the unit (from 0) its splits count for, -1 for none.
// [[Rcpp::export]]
Rcpp::List forest_held_gain(Rcpp::List forest, SEXP x, SEXP held_x, Rcpp::NumericVector y, int loss,
                            Rcpp::IntegerVector group, Rcpp::IntegerVector unit_of, int units,
                            int threads) {
  HeldForest kept(forest);
  const Forest& f = kept.view;
  const Table train = make_table(x, f), aside = make_table(held_x, f);
  if (y.size() != aside.rows || group.size() != f.n_trees || unit_of.size() != f.n_columns)
    Rcpp::stop("targets, groups or units do not fit");
  if (!within(group, 0, f.n_outputs)) Rcpp::stop("a tree adds to an output that is not there");
  if (!within(unit_of, -1, units)) Rcpp::stop("a unit is out of range");
  const int slots = f.n_outputs > 1 ? f.n_outputs + 1 : 1;
  Rcpp::NumericMatrix sum(units, slots), square(units, slots);
  const dreher::Worth out{unit_of.begin(), units, slots, sum.begin(), square.begin()};
  run_whole(threads, [&](const Loop& loop) {
    return dreher::held_gain(f, train, aside, y.begin(), static_cast<dreher::Loss>(loss),
                             group.begin(), loop, out);
  });
  return Rcpp::List::create(Rcpp::Named("sum") = sum, Rcpp::Named("square") = square);
}
