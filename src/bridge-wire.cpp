// Where R meets messages of the wire format: bytes go in, fields and numbers come out.
#include <Rcpp.h>

#include "model-wire.h"

namespace {

Rcpp::List told(const dreher::Fault& fault) {
  return Rcpp::List::create(Rcpp::Named("fault") = fault.what == nullptr ? "" : fault.what,
                            Rcpp::Named("where") = static_cast<double>(fault.at));
}

// The part [from, from + size) of the bytes, checked.
void check_part(const Rcpp::RawVector& bytes, double from, double size) {
  const double n = static_cast<double>(bytes.size());
  if (!(from >= 0 && size >= 0 && from + size <= n)) Rcpp::stop("no such part of the bytes");
}

}  // namespace

// [[Rcpp::export]]
Rcpp::List wire_fields(Rcpp::RawVector bytes, double from, double size) {
  check_part(bytes, from, size);
  dreher::WireFields fields;
  const dreher::Fault fault = dreher::read_wire(bytes.begin(), static_cast<std::size_t>(from),
                                                static_cast<std::size_t>(size), &fields);
  Rcpp::List out = told(fault);
  out["field"] = fields.field;
  out["type"] = fields.type;
  out["from"] = fields.from;
  out["size"] = fields.size;
  out["number"] = fields.number;
  return out;
}

// kind: 0 whole numbers, 1 single precision, 2 double precision
// [[Rcpp::export]]
Rcpp::List wire_packed(Rcpp::RawVector bytes, double from, double size, int kind) {
  check_part(bytes, from, size);
  if (kind < 0 || kind > 2) Rcpp::stop("no such kind of numbers");
  std::vector<double> numbers;
  const dreher::Fault fault = dreher::read_packed(bytes.begin(), static_cast<std::size_t>(from),
                                                  static_cast<std::size_t>(size),
                                                  static_cast<dreher::WireKind>(kind), &numbers);
  Rcpp::List out = told(fault);
  out["numbers"] = numbers;
  return out;
}
