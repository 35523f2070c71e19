// Where R meets the interaction values of forests.
#include "bridge-forest.h"
#include "effect-interactions.h"

// As forest_shapley(). -> rows x pairs x outputs, pairs in the order of utils::combn(players, 2)
// [[Rcpp::export]]
Rcpp::NumericVector forest_interactions(Rcpp::List forest, SEXP x, SEXP background,
                                        Rcpp::NumericVector cover, Rcpp::IntegerVector player_of,
                                        int players, int threads) {
  HeldForest held(forest);
  const Table rows = make_table(x, held.view), others = make_table(background, held.view);
  check_unknown(others, cover, held.view);
  const bool by_cover = cover.size() > 0;
  const std::vector<int> player0 = take_players(player_of, players, held.view);
  const dreher::Division division{player0.data(), players, by_cover ? nullptr : &others,
                                  by_cover ? cover.begin() : nullptr};
  const R_xlen_t pairs = static_cast<R_xlen_t>(players) * (players - 1) / 2;
  Rcpp::NumericVector out(Rcpp::no_init(rows.rows * pairs * held.view.n_outputs));
  run_whole(threads, [&](const Loop& loop) {
    return dreher::divide_pairs(held.view, rows, division, loop, out.begin());
  });
  out.attr("dim") = Rcpp::IntegerVector::create(static_cast<int>(rows.rows),
                                                static_cast<int>(pairs), held.view.n_outputs);
  return out;
}

// -> players x players: training rows that pass a question about the first and then, at once, one
// about the second
// [[Rcpp::export]]
Rcpp::NumericMatrix forest_followers(Rcpp::List forest, Rcpp::IntegerVector player_of, int players,
                                     Rcpp::NumericVector cover) {
  HeldForest held(forest);
  if (cover.size() > 0 && cover.size() != held.view.n_nodes)
    Rcpp::stop("covers do not fit the nodes");
  const std::vector<int> player0 = take_players(player_of, players, held.view);
  Rcpp::NumericMatrix out(players, players);
  dreher::count_followers(held.view, player0.data(), players,
                          cover.size() > 0 ? cover.begin() : nullptr, out.begin());
  return out;
}
