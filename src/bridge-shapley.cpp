// Where R meets Shapley values of forests.
#include "bridge-forest.h"
#include "ranking-shapley.h"

// background: rows that stand in for "not known"; or cover: training rows per node (then background
// has no rows).
// -> rows x players x outputs
// [[Rcpp::export]]
Rcpp::NumericVector forest_shapley(Rcpp::List forest, SEXP x, SEXP background,
                                   Rcpp::NumericVector cover, Rcpp::IntegerVector player_of,
                                   int players, int threads) {
  HeldForest held(forest);
  const Table rows = make_table(x, held.view), others = make_table(background, held.view);
  check_unknown(others, cover, held.view);
  const bool by_cover = cover.size() > 0;
  const std::vector<int> player0 = take_players(player_of, players, held.view);
  const dreher::Division division{player0.data(), players, by_cover ? nullptr : &others,
                                  by_cover ? cover.begin() : nullptr};
  Rcpp::NumericVector phi(static_cast<R_xlen_t>(rows.rows) * players * held.view.n_outputs);
  run_whole(threads, [&](const Loop& loop) {
    return dreher::divide_outputs(held.view, rows, division, loop, phi.begin());
  });
  phi.attr("dim") = Rcpp::IntegerVector::create(rows.rows, players, held.view.n_outputs);
  return phi;
}

// count: rows x trees, or 0 x 0: every row once. -> cover per node, and the outputs with everything
// unknown
// [[Rcpp::export]]
Rcpp::List forest_cover(Rcpp::List forest, SEXP x, Rcpp::IntegerMatrix count, int threads) {
  HeldForest held(forest);
  const Forest& f = held.view;
  const Table table = make_table(x, f);
  if (count.size() > 0 && (count.nrow() != table.rows || count.ncol() != f.n_trees))
    Rcpp::stop("in-bag counts must be rows x trees");
  Rcpp::NumericVector cover(f.n_nodes), baseline(f.n_outputs);
  run_whole(threads, [&](const Loop& loop) {
    return dreher::count_cover(f, table, count.size() > 0 ? count.begin() : nullptr, loop,
                               cover.begin());
  });
  dreher::cover_baseline(f, cover.begin(), baseline.begin());
  return Rcpp::List::create(Rcpp::Named("cover") = cover, Rcpp::Named("baseline") = baseline);
}
