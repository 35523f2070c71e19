// Messages of the wire format that ONNX files are written in: fields of a number and a wire type,
// one after another. A message is told from its first byte and its length; fields of bytes may be
// messages themselves, and are read by another call.
//
// Format: Protocol Buffers, encoding.
#pragma once
#include <cstddef>
#include <vector>

#include "model-document.h"

namespace dreher {

// Fields of a message, one entry each.
struct WireFields {
  std::vector<int> field;      // its number
  std::vector<int> type;       // 0 whole number, 1 eight bytes, 2 bytes, 5 four bytes
  std::vector<double> from;    // where its bytes begin (type 2), from 0
  std::vector<double> size;    // how many they are (type 2)
  std::vector<double> number;  // its value (types 0, 1 and 5)
};

Fault read_wire(const unsigned char* bytes, std::size_t from, std::size_t size, WireFields* out);

enum class WireKind { whole, single_precision, double_precision };

// Numbers packed behind each other.
Fault read_packed(const unsigned char* bytes, std::size_t from, std::size_t size, WireKind kind,
                  std::vector<double>* out);

}  // namespace dreher
