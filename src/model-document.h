// Model files: JSON text or UBJSON bytes, read into a tree of values.
//
// Files come from elsewhere, so nothing in them is believed. Nesting is bounded, a count is
// believed only where the bytes behind it are there, and what is allocated stays in proportion to
// the file. Arrays that hold numbers only are kept as numbers. Cost: one pass over the bytes.
// Formats: RFC 8259 (JSON); UBJSON draft 12, with counted and typed containers.
#pragma once
#include <cstddef>
#include <memory>
#include <string>
#include <vector>

namespace dreher {

struct Value {
  enum class Kind { none, truth, number, text, numbers, list, table };
  struct Content {
    std::string text;
    std::vector<double> numbers;
    std::vector<Value> items;        // of a list, or the values of a table
    std::vector<std::string> names;  // of a table
  };
  Kind kind = Kind::none;
  double number = 0;                 // a number, or a truth as 0 or 1
  std::unique_ptr<Content> content;  // nullptr: empty
};

// A problem with the file and the byte where it was met; `what` nullptr: none.
struct Fault {
  const char* what = nullptr;
  std::size_t at = 0;
};

Fault read_json(const char* bytes, std::size_t size, Value* out);
Fault read_ubjson(const char* bytes, std::size_t size, Value* out);

// Numbers that stand in a text between spaces.
Fault read_numbers(const char* bytes, std::size_t size, std::vector<double>* out);

}  // namespace dreher
