#include "model-document.h"

#include <algorithm>
#include <clocale>
#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <cstring>

namespace dreher {

namespace {

const int deepest = 64;

struct Broken {
  const char* what;
};

// Lists, tables and texts: a model's numbers stand in long lists, so that it has few of these. Each
// takes a hundred times the memory of the two bytes that make one.
class Parts {
 public:
  void one_more() {
    if (++n_ > most) throw Broken{"it has more parts than a model"};
  }

 private:
  static const std::size_t most = 3000000;
  std::size_t n_ = 0;
};

Value::Content& open(Value* v) {
  if (!v->content) v->content = std::make_unique<Value::Content>();
  return *v->content;
}

void set(Value* v, Value::Kind kind, double number = 0) {
  v->kind = kind;
  v->number = number;
}

// A list that has held numbers only so far meets something else.
void turn_into_list(Value* v) {
  if (v->kind != Value::Kind::numbers) return;
  v->kind = Value::Kind::list;
  if (!v->content) return;
  for (double x : v->content->numbers) {
    v->content->items.emplace_back();
    set(&v->content->items.back(), Value::Kind::number, x);
  }
  v->content->numbers = std::vector<double>();
}

void append(Value* list, Value&& item) {
  if (list->kind == Value::Kind::numbers && item.kind == Value::Kind::number) {
    open(list).numbers.push_back(item.number);
    return;
  }
  turn_into_list(list);
  open(list).items.push_back(std::move(item));
}

// The longest token a number can sensibly need; strtod must not run past the end of the bytes.
const std::size_t longest_number = 64;

bool of_number(char c) {
  return (c >= '0' && c <= '9') || c == '-' || c == '+' || c == '.' || c == 'e' || c == 'E';
}

double parse_number(const char* bytes, std::size_t size, std::size_t* at) {
  char token[longest_number + 1];
  std::size_t n = 0;
  while (*at + n < size && n < longest_number && of_number(bytes[*at + n])) {
    token[n] = bytes[*at + n];
    ++n;
  }
  token[n] = '\0';
  // strtod() asks the locale for the decimal sign; a document always writes a point.
  const char sign = std::localeconv()->decimal_point[0];
  if (sign != '.') std::replace(token, token + n, '.', sign);
  char* end = nullptr;
  const double x = std::strtod(token, &end);
  if (n == 0 || end != token + n) throw Broken{"a number cannot be read"};
  if (!std::isfinite(x)) throw Broken{"a number is too large"};
  *at += n;
  return x;
}

class Json {
 public:
  Json(const char* bytes, std::size_t size) : bytes_(bytes), size_(size) {}
  std::size_t at = 0;

  void document(Value* out) {
    value(out, 0);
    space();
    if (at < size_) throw Broken{"something follows the end of the document"};
  }

 private:
  const char* bytes_;
  std::size_t size_;
  Parts parts_;

  void space() {
    while (at < size_ &&
           (bytes_[at] == ' ' || bytes_[at] == '\n' || bytes_[at] == '\t' || bytes_[at] == '\r'))
      ++at;
  }

  char peek() {
    space();
    if (at >= size_) throw Broken{"the file ends too early"};
    return bytes_[at];
  }

  void expect(char c, const char* what) {
    if (peek() != c) throw Broken{what};
    ++at;
  }

  void word(const char* w) {
    const std::size_t n = std::strlen(w);
    if (size_ - at < n || std::memcmp(bytes_ + at, w, n) != 0)
      throw Broken{"a value cannot be read"};
    at += n;
  }

  void value(Value* out, int depth) {
    if (depth > deepest) throw Broken{"the file nests too deeply"};
    switch (peek()) {
      case '{':
        table(out, depth);
        break;
      case '[':
        list(out, depth);
        break;
      case '"':
        parts_.one_more();
        out->kind = Value::Kind::text;
        text(&open(out).text);
        break;
      case 't':
        word("true");
        set(out, Value::Kind::truth, 1);
        break;
      case 'f':
        word("false");
        set(out, Value::Kind::truth, 0);
        break;
      case 'n':
        word("null");
        break;
      case 'N':
        word("NaN");
        set(out, Value::Kind::number, NAN);
        break;  // not JSON, but written by libraries
      default:
        set(out, Value::Kind::number, parse_number(bytes_, size_, &at));
    }
  }

  void list(Value* out, int depth) {
    parts_.one_more();
    ++at;
    out->kind = Value::Kind::numbers;
    if (peek() == ']') {
      ++at;
      return;
    }
    for (;;) {
      Value item;
      value(&item, depth + 1);
      append(out, std::move(item));
      if (peek() == ']') {
        ++at;
        return;
      }
      expect(',', "a comma is missing in a list");
    }
  }

  void table(Value* out, int depth) {
    parts_.one_more();
    ++at;
    out->kind = Value::Kind::table;
    if (peek() == '}') {
      ++at;
      return;
    }
    for (;;) {
      if (peek() != '"') throw Broken{"a name is missing in a table"};
      Value::Content& content = open(out);
      content.names.emplace_back();
      text(&content.names.back());
      expect(':', "a colon is missing in a table");
      content.items.emplace_back();
      value(&content.items.back(), depth + 1);
      if (peek() == '}') {
        ++at;
        return;
      }
      expect(',', "a comma is missing in a table");
    }
  }

  unsigned hex4() {
    unsigned code = 0;
    for (int i = 0; i < 4; ++i, ++at) {
      if (at >= size_) throw Broken{"the file ends too early"};
      const char c = bytes_[at];
      const int digit = c >= '0' && c <= '9'   ? c - '0'
                        : c >= 'a' && c <= 'f' ? c - 'a' + 10
                        : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                               : -1;
      if (digit < 0) throw Broken{"a text holds a broken escape"};
      code = code * 16 + static_cast<unsigned>(digit);
    }
    return code;
  }

  static void utf8(unsigned code, std::string* out) {
    if (code < 0x80) {
      out->push_back(static_cast<char>(code));
    } else if (code < 0x800) {
      out->push_back(static_cast<char>(0xC0 | (code >> 6)));
      out->push_back(static_cast<char>(0x80 | (code & 0x3F)));
    } else if (code < 0x10000) {
      out->push_back(static_cast<char>(0xE0 | (code >> 12)));
      out->push_back(static_cast<char>(0x80 | ((code >> 6) & 0x3F)));
      out->push_back(static_cast<char>(0x80 | (code & 0x3F)));
    } else {
      out->push_back(static_cast<char>(0xF0 | (code >> 18)));
      out->push_back(static_cast<char>(0x80 | ((code >> 12) & 0x3F)));
      out->push_back(static_cast<char>(0x80 | ((code >> 6) & 0x3F)));
      out->push_back(static_cast<char>(0x80 | (code & 0x3F)));
    }
  }

  void escape(std::string* out) {
    if (at >= size_) throw Broken{"the file ends too early"};
    const char c = bytes_[at++];
    switch (c) {
      case '"':
      case '\\':
      case '/':
        out->push_back(c);
        break;
      case 'b':
        out->push_back('\b');
        break;
      case 'f':
        out->push_back('\f');
        break;
      case 'n':
        out->push_back('\n');
        break;
      case 'r':
        out->push_back('\r');
        break;
      case 't':
        out->push_back('\t');
        break;
      case 'u': {
        unsigned code = hex4();
        if (code >= 0xD800 && code < 0xDC00 && at + 1 < size_ && bytes_[at] == '\\' &&
            bytes_[at + 1] == 'u') {
          at += 2;
          const unsigned low = hex4();
          if (low < 0xDC00 || low > 0xDFFF) throw Broken{"a text holds a broken escape"};
          code = 0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00);
        }
        if (code == 0) throw Broken{"a text holds a zero byte"};
        utf8(code, out);
        break;
      }
      default:
        throw Broken{"a text holds a broken escape"};
    }
  }

  void text(std::string* out) {
    ++at;
    for (;;) {
      if (at >= size_) throw Broken{"the file ends too early"};
      const char c = bytes_[at++];
      if (c == '"') return;
      if (c == '\0') throw Broken{"a text holds a zero byte"};
      if (c == '\\')
        escape(out);
      else
        out->push_back(c);
    }
  }
};

class Ubjson {
 public:
  Ubjson(const char* bytes, std::size_t size) : bytes_(bytes), size_(size) {}
  std::size_t at = 0;

  void document(Value* out) {
    value(next(), out, 0);
    if (at < size_) throw Broken{"something follows the end of the document"};
  }

 private:
  const char* bytes_;
  std::size_t size_;
  Parts parts_;

  char next() {
    char c;
    do {
      if (at >= size_) throw Broken{"the file ends too early"};
      c = bytes_[at++];
    } while (c == 'N');  // no operation
    return c;
  }

  std::uint64_t big_endian(int n) {
    if (size_ - at < static_cast<std::size_t>(n)) throw Broken{"the file ends too early"};
    std::uint64_t x = 0;
    for (int i = 0; i < n; ++i) x = (x << 8) | static_cast<unsigned char>(bytes_[at + i]);
    at += n;
    return x;
  }

  static int width(char type) {
    switch (type) {
      case 'i':
      case 'U':
        return 1;
      case 'I':
        return 2;
      case 'l':
      case 'd':
        return 4;
      case 'L':
      case 'D':
        return 8;
      default:
        return 0;
    }
  }

  double number(char type) {
    const std::uint64_t x = big_endian(width(type));
    switch (type) {
      case 'i':
        return static_cast<std::int8_t>(x);
      case 'U':
        return static_cast<double>(x);
      case 'I':
        return static_cast<std::int16_t>(x);
      case 'l':
        return static_cast<std::int32_t>(x);
      case 'L':
        return static_cast<double>(static_cast<std::int64_t>(x));
      case 'd': {
        const std::uint32_t bits = static_cast<std::uint32_t>(x);
        float f;
        std::memcpy(&f, &bits, sizeof f);
        return f;
      }
      default: {
        double d;
        std::memcpy(&d, &x, sizeof d);
        return d;
      }
    }
  }

  // A length that the bytes left can hold, `least` bytes an item.
  std::size_t length(char type, std::size_t least) {
    if (width(type) == 0 || type == 'd' || type == 'D')
      throw Broken{"a length is not a whole number"};
    const double n = number(type);
    if (!(n >= 0) || n > static_cast<double>((size_ - at) / least))
      throw Broken{"a length is larger than the file"};
    return static_cast<std::size_t>(n);
  }

  void text(char type, std::string* out) {
    const std::size_t n = length(type, 1);
    if (std::memchr(bytes_ + at, '\0', n) != nullptr) throw Broken{"a text holds a zero byte"};
    out->assign(bytes_ + at, n);
    at += n;
  }

  void value(char type, Value* out, int depth) {
    if (depth > deepest) throw Broken{"the file nests too deeply"};
    switch (type) {
      case 'Z':
        break;
      case 'T':
        set(out, Value::Kind::truth, 1);
        break;
      case 'F':
        set(out, Value::Kind::truth, 0);
        break;
      case 'S':
        parts_.one_more();
        out->kind = Value::Kind::text;
        text(next(), &open(out).text);
        break;
      case 'C':
        out->kind = Value::Kind::text;
        open(out).text.assign(1, static_cast<char>(big_endian(1)));
        break;
      case '[':
        list(out, depth);
        break;
      case '{':
        table(out, depth);
        break;
      default:
        if (width(type) == 0) throw Broken{"a value is of an unknown type"};
        set(out, Value::Kind::number, number(type));
    }
  }

  // How a container starts: `$` type (optional), `#` count (optional; needed with a type).
  struct Start {
    char type = 0;
    bool counted = false;
    std::size_t count = 0;
  };
  Start start() {
    Start s;
    if (at < size_ && bytes_[at] == '$') {
      ++at;
      s.type = next();
      if (width(s.type) == 0 && s.type != 'S' && s.type != '[' && s.type != '{')
        throw Broken{"a list is of an unknown type"};
      if (at >= size_ || bytes_[at] != '#') throw Broken{"a typed list has no length"};
    }
    if (at < size_ && bytes_[at] == '#') {
      ++at;
      s.counted = true;
      const int bytes = width(s.type);
      s.count = length(next(), bytes > 0 ? static_cast<std::size_t>(bytes) : 1);
    }
    return s;
  }

  void list(Value* out, int depth) {
    parts_.one_more();
    out->kind = Value::Kind::numbers;
    const Start s = start();
    if (width(s.type) > 0) {
      std::vector<double>& numbers = open(out).numbers;
      numbers.resize(s.count);
      for (double& x : numbers) x = number(s.type);
      return;
    }
    for (std::size_t i = 0; !s.counted || i < s.count; ++i) {
      const char type = s.type ? s.type : next();
      if (!s.counted && type == ']') return;
      Value item;
      value(type, &item, depth + 1);
      append(out, std::move(item));
    }
  }

  void table(Value* out, int depth) {
    parts_.one_more();
    out->kind = Value::Kind::table;
    const Start s = start();
    for (std::size_t i = 0; !s.counted || i < s.count; ++i) {
      const char type = next();
      if (!s.counted && type == '}') return;
      Value::Content& content = open(out);
      content.names.emplace_back();
      text(type, &content.names.back());
      content.items.emplace_back();
      value(s.type ? s.type : next(), &content.items.back(), depth + 1);
    }
  }
};

template <class Reader>
Fault read_with(Reader reader, Value* out) {
  try {
    reader.document(out);
  } catch (const Broken& broken) {
    return Fault{broken.what, reader.at};
  }
  return Fault{};
}

}  // namespace

Fault read_json(const char* bytes, std::size_t size, Value* out) {
  return read_with(Json(bytes, size), out);
}

Fault read_ubjson(const char* bytes, std::size_t size, Value* out) {
  return read_with(Ubjson(bytes, size), out);
}

Fault read_numbers(const char* bytes, std::size_t size, std::vector<double>* out) {
  std::size_t at = 0;
  try {
    while (at < size) {
      if (bytes[at] == ' ' || bytes[at] == '\r' || bytes[at] == '\n') {
        ++at;
        continue;
      }
      const bool minus = bytes[at] == '-';
      const std::size_t word = at + (minus ? 1 : 0);
      if (size - word >= 3 &&
          std::memcmp(bytes + word, "inf", 3) == 0) {  // a split of present from missing
        out->push_back(minus ? -INFINITY : INFINITY);
        at = word + 3;
      } else {
        out->push_back(parse_number(bytes, size, &at));
      }
      if (at < size && bytes[at] != ' ' && bytes[at] != '\r' && bytes[at] != '\n')
        throw Broken{"a number cannot be read"};
    }
  } catch (const Broken& broken) {
    return Fault{broken.what, at};
  }
  return Fault{};
}

}  // namespace dreher
