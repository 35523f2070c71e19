#include "model-wire.h"

#include <cmath>
#include <cstdint>
#include <cstring>
#include <limits>

namespace dreher {

namespace {

// Reads forward through bytes [at, end).
struct Reader {
  const unsigned char* bytes;
  std::size_t at;
  std::size_t end;
  const char* fault = nullptr;

  std::uint64_t varint() {
    std::uint64_t value = 0;
    for (int shift = 0; shift < 70; shift += 7) {
      if (at >= end) {
        fault = "a number is cut short";
        return 0;
      }
      const unsigned char byte = bytes[at++];
      if (shift == 63 && byte > 1) break;
      value |= static_cast<std::uint64_t>(byte & 0x7F) << shift;
      if (byte < 0x80) return value;
    }
    fault = "a number is too long";
    return 0;
  }

  // Bytes stand with the lowest first, as on every machine that R runs on.
  template <class T>
  double fixed() {
    T value{};
    if (end - at < sizeof(T)) {
      fault = "a number is cut short";
      return 0;
    }
    std::memcpy(&value, bytes + at, sizeof(T));
    at += sizeof(T);
    return static_cast<double>(value);
  }
};

// A whole number of 64 bits as a double; NaN where a double does not hold it.
double as_double(std::uint64_t value) {
  const std::int64_t whole = static_cast<std::int64_t>(value);
  const std::int64_t most = std::int64_t{1} << 53;
  if (whole > most || whole < -most) return std::numeric_limits<double>::quiet_NaN();
  return static_cast<double>(whole);
}

}  // namespace

Fault read_wire(const unsigned char* bytes, std::size_t from, std::size_t size, WireFields* out) {
  Reader reader{bytes, from, from + size};
  while (reader.at < reader.end) {
    const std::size_t begin = reader.at;
    const std::uint64_t key = reader.varint();
    if (reader.fault != nullptr) return {reader.fault, begin};
    const std::uint64_t field = key >> 3;
    const int type = static_cast<int>(key & 7);
    if (field == 0 || field > 536870911) return {"a field has no number", begin};
    double number = 0;
    std::size_t length = 0;
    switch (type) {
      case 0:
        number = as_double(reader.varint());
        break;
      case 1:
        number = reader.fixed<double>();
        break;
      case 2: {
        const std::uint64_t told = reader.varint();
        if (reader.fault == nullptr && told > reader.end - reader.at) {
          return {"a field is cut short", begin};
        }
        length = static_cast<std::size_t>(told);
        break;
      }
      case 5:
        number = reader.fixed<float>();
        break;
      default:
        return {"a field is of an unknown type", begin};
    }
    if (reader.fault != nullptr) return {reader.fault, begin};
    out->field.push_back(static_cast<int>(field));
    out->type.push_back(type);
    out->from.push_back(static_cast<double>(reader.at));
    out->size.push_back(static_cast<double>(length));
    out->number.push_back(number);
    reader.at += length;
  }
  return {};
}

Fault read_packed(const unsigned char* bytes, std::size_t from, std::size_t size, WireKind kind,
                  std::vector<double>* out) {
  Reader reader{bytes, from, from + size};
  while (reader.at < reader.end) {
    const std::size_t begin = reader.at;
    switch (kind) {
      case WireKind::whole:
        out->push_back(as_double(reader.varint()));
        break;
      case WireKind::single_precision:
        out->push_back(reader.fixed<float>());
        break;
      case WireKind::double_precision:
        out->push_back(reader.fixed<double>());
        break;
    }
    if (reader.fault != nullptr) return {reader.fault, begin};
  }
  return {};
}

}  // namespace dreher
