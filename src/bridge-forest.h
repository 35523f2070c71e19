// What the files share in which R meets the forest core: views on R's vectors.
#pragma once
#include <algorithm>
#include <vector>

#include "bridge-loop.h"
#include "model-forest.h"

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

// A list of columns, or a matrix, of numbers; the caller keeps it alive.
inline Table make_table(SEXP x, const Forest& forest) {
  Table out;
  if (Rf_isMatrix(x) && TYPEOF(x) == REALSXP) {
    out.rows = Rf_nrows(x);
    for (int j = 0; j < Rf_ncols(x); ++j) out.column.push_back(REAL(x) + out.rows * j);
  } else if (TYPEOF(x) == VECSXP) {
    for (R_xlen_t j = 0; j < Rf_xlength(x); ++j) {
      const SEXP column = VECTOR_ELT(x, j);
      if (TYPEOF(column) != REALSXP || (j > 0 && Rf_xlength(column) != out.rows))
        Rcpp::stop("the table's columns are not numbers of one length");
      out.rows = Rf_xlength(column);
      out.column.push_back(REAL(column));
    }
  } else {
    Rcpp::stop("the table is neither a matrix of numbers nor a list of columns");
  }
  if (out.columns() != forest.n_columns)
    Rcpp::stop("the table and the forest differ in their columns");
  return out;
}

// Do all of these lie in [least, end)?
inline bool within(const Rcpp::IntegerVector& x, int least, int end) {
  return std::all_of(x.begin(), x.end(), [=](int i) { return i >= least && i < end; });
}

// R counts from 1.
inline std::vector<int> from_zero(const Rcpp::IntegerVector& x) {
  std::vector<int> out(x.begin(), x.end());
  for (int& i : out) --i;
  return out;
}

// The player of each of the forest's columns, from 0.
inline std::vector<int> take_players(const Rcpp::IntegerVector& player_of, int players,
                                     const Forest& forest) {
  if (player_of.size() != forest.n_columns) Rcpp::stop("players do not fit the forest's columns");
  const std::vector<int> out = from_zero(player_of);
  for (int p : out)
    if (p < 0 || p >= players) Rcpp::stop("a player is out of range");
  return out;
}

// Background rows, or cover per node: one of the two.
inline void check_unknown(const Table& others, const Rcpp::NumericVector& cover,
                          const Forest& forest) {
  if (cover.size() > 0 && cover.size() != forest.n_nodes) Rcpp::stop("covers do not fit the nodes");
  if (cover.size() == 0 && others.rows == 0) Rcpp::stop("no background rows");
}

}  // namespace
