// Where R meets the shuffles of forests and the sums of what they cost.
#include "bridge-forest.h"
#include "ranking-losses.h"
#include "ranking-permutation.h"
#include "ranking-steps.h"

namespace {

// A forest and a table, laid out for shuffling; kept between calls for parts of the rows.
struct Prepared {
  HeldForest forest;
  dreher::Ranks ranks;
  dreher::Coded coded;
  Prepared(const Rcpp::List& f, SEXP x, const Loop& loop)
      : forest(f), ranks(make_table(x, forest.view), loop), coded(forest.view, ranks) {}
};

}  // namespace

// [[Rcpp::export]]
SEXP shuffle_prepare(Rcpp::List forest, SEXP x, int threads) {
  std::unique_ptr<Prepared> made;
  run_whole(threads, [&](const Loop& loop) {
    made = std::make_unique<Prepared>(forest, x, loop);
    return made->ranks.done;
  });
  return Rcpp::XPtr<Prepared>(made.release());
}

// Rows from to `to` (from 1). donor: these rows x repeats, or these rows x repeats x players;
// inbag: all rows x trees, or 0 x 0; scale: all rows, or none.
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
  if (player_of.size() != f.n_columns) Rcpp::stop("players do not fit the table");
  if (inbag.size() > 0 && (inbag.nrow() != n || inbag.ncol() != f.n_trees))
    Rcpp::stop("in-bag counts must be rows x trees");
  if (scale.size() > 0 && scale.size() != n) Rcpp::stop("one scale per row");
  if (from < 1 || to > n || from > to) Rcpp::stop("rows out of range");
  const R_xlen_t rows = to - from + 1;
  if (donor.size() != rows * repeats * (own_donors ? players : 1))
    Rcpp::stop("donors do not fit the rows");
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
  Rcpp::NumericMatrix before(rows, f.n_outputs);
  Rcpp::NumericVector after(Rcpp::no_init(rows * repeats * f.n_outputs * players));
  run_whole(threads, [&](const Loop& loop) {
    return dreher::shuffle_outputs(f, at->coded, at->ranks, shuffle, from - 1, to, loop,
                                   before.begin(), after.begin());
  });
  after.attr("dim") = Rcpp::IntegerVector::create(rows, repeats, players, f.n_outputs);
  return Rcpp::List::create(Rcpp::Named("before") = before, Rcpp::Named("after") = after);
}

// Sums of the changes of row losses, kept between pieces.
// [[Rcpp::export]]
SEXP tally_start(int rows, int units) {
  return Rcpp::XPtr<dreher::Tally>(new dreher::Tally(rows, units));
}

// value: these rows x repeats x units, of rows from, from + 1, ...; unit: which they are; donor:
// these rows x repeats (x these units).
// [[Rcpp::export]]
void tally_add(SEXP tally, Rcpp::NumericVector value, int power, int from, int repeats,
               Rcpp::IntegerVector unit, Rcpp::NumericVector truth, Rcpp::NumericVector before,
               Rcpp::NumericVector weight, Rcpp::IntegerVector donor, bool own_donors,
               int threads) {
  const Rcpp::XPtr<dreher::Tally> at(tally);
  const std::ptrdiff_t n = at->rows, units = unit.size();
  if (n == 0 || units == 0 || repeats < 1) return;
  const R_xlen_t rows = value.size() / (repeats * units);
  const bool fits = value.size() == rows * repeats * units &&
                    donor.size() == rows * repeats * (own_donors ? units : 1) && from >= 1 &&
                    from - 1 + rows <= n && before.size() == n &&
                    (power == 0 || truth.size() == n) && (weight.size() == 0 || weight.size() == n);
  if (!fits) Rcpp::stop("losses, donors or rows do not fit each other");
  for (int d : donor)
    if (d < 1 || d > n) Rcpp::stop("a donor is out of range");
  for (int u : unit)
    if (u < 1 || u > static_cast<int>(at->square.size())) Rcpp::stop("a unit is out of range");
  const dreher::Losses losses{
      value.begin(), power,          from - 1,
      rows,          repeats,        from_zero(unit),
      truth.begin(), before.begin(), weight.size() > 0 ? weight.begin() : nullptr,
      donor.begin(), own_donors};
  run_whole(threads, [&](const Loop& loop) { return dreher::add_losses(losses, loop, &*at); });
}

// -> given and taken (rows), both over the number of repeats, and square, of one unit
// [[Rcpp::export]]
Rcpp::List tally_read(SEXP tally, int unit, int repeats) {
  const Rcpp::XPtr<dreher::Tally> at(tally);
  if (unit < 1 || unit > static_cast<int>(at->square.size())) Rcpp::stop("a unit is out of range");
  if (!at->whole[unit - 1]) Rcpp::stop("an interrupt has left these sums in pieces");
  Rcpp::NumericVector given(Rcpp::no_init(at->rows)), taken(Rcpp::no_init(at->rows));
  dreher::mean_changes(*at, unit - 1, repeats, given.begin(), taken.begin());
  return Rcpp::List::create(Rcpp::Named("given") = given, Rcpp::Named("taken") = taken,
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
  if (stratum.size() > 0 && Rcpp::min(stratum) < 1) Rcpp::stop("strata are counted from 1");
  Rcpp::NumericVector units(Rcpp::no_init(n));
  const dreher::TwoWay found =
      dreher::two_way(dreher::Sums{n, given.begin(), taken.begin(), square, repeats, slope,
                                   basis.begin(), passed.begin(), by.begin(), parts,
                                   stratum.size() > 0 ? stratum.begin() : nullptr},
                      units.begin());
  return Rcpp::List::create(
      Rcpp::Named("units") = units, Rcpp::Named("var_units") = found.var_units,
      Rcpp::Named("var_given") = found.var_given, Rcpp::Named("var_taken") = found.var_taken,
      Rcpp::Named("square") = found.square);
}

// Charges every row with the numbers of those that received its values, over the number of repeats.
// donor: rows x repeats.
// [[Rcpp::export]]
Rcpp::NumericVector charge_donors(Rcpp::NumericVector e, Rcpp::IntegerMatrix donor) {
  const R_xlen_t n = e.size();
  if (donor.nrow() != n) Rcpp::stop("donors do not fit the rows");
  for (int to : donor)
    if (to < 1 || to > n) Rcpp::stop("a donor is out of range");
  Rcpp::NumericVector out(n);
  dreher::charge(e.begin(), donor.begin(), n, donor.ncol(), out.begin());
  return out;
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
  run_whole(threads, [&](const Loop& loop) {
    return dreher::shuffle_runs(f, at->coded, at->ranks, shuffle, from - 1, to, loop, &blocks);
  });
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
  ranks.copy_column(column - 1, out.begin());
  return out;
}

// Sums a number per run over the ranks it spans: out[rank] = sum of by[run] where lo <= rank < hi.
// [[Rcpp::export]]
Rcpp::NumericMatrix sum_spans(Rcpp::IntegerVector player, Rcpp::IntegerVector lo,
                              Rcpp::IntegerVector hi, Rcpp::NumericVector by, int ranks,
                              int players) {
  for (R_xlen_t i = 0; i < by.size(); ++i) {
    if (player[i] < 1 || player[i] > players || lo[i] < 0 || hi[i] > ranks || lo[i] > hi[i])
      Rcpp::stop("a run is out of range");
  }
  Rcpp::NumericMatrix out(ranks, players);
  dreher::add_spans(player.begin(), lo.begin(), hi.begin(), by.begin(), by.size(), ranks, players,
                    out.begin());
  return out;
}

// out[cell] = sum of `by` over the entries of a cell (from 1, column after column).
// [[Rcpp::export]]
Rcpp::NumericMatrix sum_cells(Rcpp::NumericVector cell, Rcpp::NumericVector by, int rows,
                              int columns) {
  Rcpp::NumericMatrix out(rows, columns);
  if (cell.size() != by.size()) Rcpp::stop("cells and numbers differ in length");
  for (double c : cell)
    if (!(c >= 1 && c <= static_cast<double>(out.size()))) Rcpp::stop("a cell is out of range");
  dreher::add_cells(cell.begin(), by.begin(), by.size(), out.begin());
  return out;
}
