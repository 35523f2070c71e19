// Where R meets forests: unpacks lists, allocates results, hands over.
#include "bridge-forest.h"

#include "model-stack.h"

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
Rcpp::NumericVector doubles_below(Rcpp::NumericVector x) {
  Rcpp::NumericVector out(x.size());
  dreher::next_below(x.begin(), x.size(), out.begin());
  return out;
}

// Values as a library sees them that works in single precision.
// [[Rcpp::export]]
Rcpp::NumericVector round_single(Rcpp::NumericVector x) {
  Rcpp::NumericVector out(Rcpp::no_init(x.size()));
  dreher::to_single(x.begin(), x.size(), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericMatrix forest_predict(Rcpp::List forest, SEXP x, int threads) {
  HeldForest held(forest);
  const Table table = make_table(x, held.view);
  Rcpp::NumericMatrix out(table.rows, held.view.n_outputs);
  run_whole(threads, [&](const Loop& loop) {
    return dreher::predict_rows(held.view, table, loop, out.begin());
  });
  return out;
}

// [[Rcpp::export]]
Rcpp::IntegerMatrix forest_ends(Rcpp::List forest, SEXP x, int threads) {
  HeldForest held(forest);
  const Table table = make_table(x, held.view);
  Rcpp::IntegerMatrix out(table.rows, held.view.n_trees);
  run_whole(threads, [&](const Loop& loop) {
    return dreher::find_ends(held.view, table, loop, out.begin());
  });
  return out;
}

// The trees of a ranger model behind each other (see model-stack.h).
// [[Rcpp::export]]
Rcpp::List stack_ranger(Rcpp::List columns, Rcpp::List values, Rcpp::List children,
                        Rcpp::LogicalVector is_ordered, Rcpp::IntegerVector n_levels) {
  const R_xlen_t trees = columns.size();
  if (values.size() != trees || children.size() != trees || n_levels.size() != is_ordered.size())
    Rcpp::stop("trees do not fit each other");
  R_xlen_t n = 0;
  for (R_xlen_t t = 0; t < trees; ++t) n += Rf_xlength(columns[t]);
  const std::vector<int> ordered(is_ordered.begin(), is_ordered.end()),
      levels(n_levels.begin(), n_levels.end());
  Rcpp::IntegerVector column(Rcpp::no_init(n)), left(Rcpp::no_init(n)), right(Rcpp::no_init(n)),
      missing(Rcpp::no_init(n)), owner(Rcpp::no_init(n)), set_from(Rcpp::no_init(n)), set_size(n);
  Rcpp::NumericVector threshold(n), leaf_value(n);
  dreher::Stack stack{column.begin(),   left.begin(),      right.begin(),
                      missing.begin(),  owner.begin(),     set_from.begin(),
                      set_size.begin(), threshold.begin(), leaf_value.begin()};
  std::vector<int> side;
  for (R_xlen_t t = 0; t < trees; ++t) {
    const Rcpp::NumericVector c(columns[t]), v(values[t]);
    const Rcpp::List child(children[t]);
    if (child.size() != 2) Rcpp::stop("a tree has no two lists of children");
    const Rcpp::NumericVector l(child[0]), r(child[1]);
    if (v.size() != c.size() || l.size() != c.size() || r.size() != c.size())
      Rcpp::stop("a tree's lists are of different lengths");
    if (!dreher::stack_tree(c.begin(), v.begin(), l.begin(), r.begin(), c.size(), ordered, levels,
                            &stack, &side))
      Rcpp::stop("a tree asks a column that is not there");
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
  if (!dreher::shift_places(x.begin(), x.size(), size.begin(), size.size(), out.begin()))
    Rcpp::stop("trees do not fit their nodes");
  return out;
}
