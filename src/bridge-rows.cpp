// Tables of rows to numbers of rows.
#include <Rcpp.h>

#include "base-rows.h"

namespace {

using dreher::key_of;
using dreher::take_in;

// Text is known by where R keeps it: the same text in the same encoding stands in one place.
std::uint64_t text_key(SEXP value) {
  if (value == NA_STRING) return 1;
  return reinterpret_cast<std::uintptr_t>(value);
}

void take_column(SEXP column, std::vector<std::uint64_t>& hashes, std::size_t from) {
  const R_xlen_t n = Rf_xlength(column);
  if (static_cast<std::size_t>(n) > hashes.size() - from) Rcpp::stop("a column is too long");
  std::uint64_t* hash = hashes.data() + from;
  if (Rf_isFactor(column)) {
    SEXP levels = Rf_getAttrib(column, R_LevelsSymbol);
    const int* code = INTEGER(column);
    const int known = Rf_length(levels);
    for (R_xlen_t i = 0; i < n; ++i) {
      const bool gone = code[i] == NA_INTEGER || code[i] < 1 || code[i] > known;
      hash[i] = take_in(hash[i], gone ? 1 : text_key(STRING_ELT(levels, code[i] - 1)));
    }
  } else if (TYPEOF(column) == STRSXP) {
    for (R_xlen_t i = 0; i < n; ++i) hash[i] = take_in(hash[i], text_key(STRING_ELT(column, i)));
  } else if (TYPEOF(column) == REALSXP) {
    const double* value = REAL(column);
    for (R_xlen_t i = 0; i < n; ++i) hash[i] = take_in(hash[i], key_of(value[i]));
  } else if (TYPEOF(column) == INTSXP || TYPEOF(column) == LGLSXP) {
    const int* value = TYPEOF(column) == INTSXP ? INTEGER(column) : LOGICAL(column);
    for (R_xlen_t i = 0; i < n; ++i) {
      const double as_number = value[i] == NA_INTEGER ? NA_REAL : value[i];
      hash[i] = take_in(hash[i], key_of(as_number));
    }
  } else {
    Rcpp::stop("a column is neither numbers nor text");
  }
}

}  // namespace

// tables: lists of columns, the same columns in the same order, text in UTF-8. -> per row of all
// tables, one after the other, the number of the first row that is the same
// [[Rcpp::export(rng = false)]]
Rcpp::IntegerVector number_rows(Rcpp::List tables) {
  std::size_t n = 0;
  for (R_xlen_t t = 0; t < tables.size(); ++t) {
    Rcpp::List columns = tables[t];
    if (columns.size() > 0) n += Rf_xlength(columns[0]);
  }
  if (n > 2147483647u) Rcpp::stop("there are more than 2^31 - 1 rows");
  std::vector<std::uint64_t> hashes(n, 0);
  std::size_t from = 0;
  for (R_xlen_t t = 0; t < tables.size(); ++t) {
    Rcpp::List columns = tables[t];
    if (columns.size() == 0) continue;
    for (R_xlen_t j = 0; j < columns.size(); ++j) {
      take_column(columns[j], hashes, from);
      Rcpp::checkUserInterrupt();
    }
    from += Rf_xlength(columns[0]);
  }
  return Rcpp::wrap(dreher::same_rows(hashes));
}

// Ranks from 1, the mean of theirs for equal values, NaN where a value is missing.
// [[Rcpp::export(rng = false)]]
Rcpp::NumericVector mid_ranks(Rcpp::NumericVector x) {
  const std::vector<double> rank = dreher::mid_ranks(x.begin(), static_cast<std::size_t>(x.size()));
  return Rcpp::NumericVector(rank.begin(), rank.end());
}

// group: numbers from 1; others and gaps belong to none. -> quartiles x groups, NaN in empty ones
// [[Rcpp::export(rng = false)]]
Rcpp::NumericMatrix group_quartiles(Rcpp::IntegerVector group, Rcpp::NumericVector value,
                                    int groups) {
  if (group.size() != value.size() || groups < 0) Rcpp::stop("groups and values do not fit");
  Rcpp::NumericMatrix out(3, groups);
  dreher::group_quartiles(group.begin(), value.begin(), static_cast<std::size_t>(group.size()),
                          groups, out.begin());
  return out;
}
