// Where R meets texts and model files: bytes go in, numbers and nested lists come out.
#include <Rcpp.h>

#include "base-hash.h"
#include "model-document.h"

using dreher::Fault;
using dreher::Value;

namespace {

SEXP as_text(const std::string& text) {
  return Rf_mkCharLenCE(text.data(), static_cast<int>(text.size()), CE_UTF8);
}

Rcpp::RObject as_r(const Value& v) {
  static const Value::Content empty;
  const Value::Content& content = v.content ? *v.content : empty;
  switch (v.kind) {
    case Value::Kind::none:
      return R_NilValue;
    case Value::Kind::truth:
      return Rcpp::LogicalVector::create(v.number != 0);
    case Value::Kind::number:
      return Rcpp::NumericVector::create(v.number);
    case Value::Kind::text: {
      Rcpp::CharacterVector out(1);
      SET_STRING_ELT(out, 0, as_text(content.text));
      return out;
    }
    case Value::Kind::numbers:
      return Rcpp::NumericVector(content.numbers.begin(), content.numbers.end());
    default:
      break;
  }
  Rcpp::List out(content.items.size());
  for (std::size_t i = 0; i < content.items.size(); ++i) out[i] = as_r(content.items[i]);
  if (v.kind == Value::Kind::table) {
    Rcpp::CharacterVector names(content.names.size());
    for (std::size_t i = 0; i < content.names.size(); ++i)
      SET_STRING_ELT(names, i, as_text(content.names[i]));
    out.names() = names;
  }
  return out;
}

Rcpp::List with_fault(const Fault& fault, Rcpp::RObject value) {
  return Rcpp::List::create(Rcpp::Named("fault") = fault.what == nullptr ? "" : fault.what,
                            Rcpp::Named("where") = static_cast<double>(fault.at) + 1,
                            Rcpp::Named("value") = value);
}

}  // namespace

// [[Rcpp::export]]
Rcpp::List parse_document(Rcpp::RawVector bytes, bool binary) {
  Value value;
  const char* first = reinterpret_cast<const char*>(bytes.begin());
  const std::size_t size = static_cast<std::size_t>(bytes.size());
  const Fault fault =
      binary ? dreher::read_ubjson(first, size, &value) : dreher::read_json(first, size, &value);
  return with_fault(fault, fault.what == nullptr ? as_r(value) : Rcpp::RObject(R_NilValue));
}

// [[Rcpp::export]]
Rcpp::List parse_numbers(Rcpp::String text) {
  const std::string held = text;
  std::vector<double> numbers;
  const Fault fault = dreher::read_numbers(held.data(), held.size(), &numbers);
  return with_fault(fault, Rcpp::wrap(numbers));
}

// n whole numbers of 32 bits made from a text.
// [[Rcpp::export]]
Rcpp::NumericVector hash_text(std::string text, int n) {
  std::vector<std::uint32_t> words(n);
  dreher::hash_words(text, n, words.data());
  return Rcpp::NumericVector(words.begin(), words.end());
}
