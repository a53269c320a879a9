// Types and values of the model language, and their exact text form. All types are plain values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <variant>

namespace [[gnu::visibility("default")]] juniper {

__extension__ using int128 = __int128;

enum class TypeKind : std::uint8_t { boolean, integer, decimal, real, text, date, datetime, time };

// A type; `scale` is the number of digits after the point of a decimal (0 to 18) and 0 for all others.
struct Type {
  TypeKind kind = TypeKind::integer;
  std::uint8_t scale = 0;

  bool operator==(const Type&) const = default;
  bool is_exact_number() const { return kind == TypeKind::integer || kind == TypeKind::decimal; }
  bool is_number() const { return is_exact_number() || kind == TypeKind::real; }
};

// "integer", "decimal(3)", "datetime"
std::string to_string(Type type);

// A value of some type, or null. The type stands beside it (in a column's description), not in it.
//   boolean            exact, 0 or 1
//   integer            exact
//   decimal(s)         exact, in units of 10^-s
//   date               exact, days since 1970-01-01
//   datetime           exact, microseconds since 1970-01-01 00:00:00, no zone
//   time               exact, microseconds since midnight
//   real               double, finite
//   text               UTF-8
class Value {
 public:
  Value() = default;
  static Value of(int128 exact) { return Value(exact); }
  static Value of(double real) { return Value(real); }
  static Value of(std::string text) { return Value(std::move(text)); }

  enum class Kind : std::uint8_t { null, exact, real, text };
  Kind kind() const { return static_cast<Kind>(data_.index()); }
  bool is_null() const { return kind() == Kind::null; }
  // Each requires that the value holds that kind.
  int128 exact() const { return std::get<int128>(data_); }
  double real() const { return std::get<double>(data_); }
  const std::string& text() const { return std::get<std::string>(data_); }

  bool operator==(const Value&) const = default;

 private:
  template <class T>
  explicit Value(T data) : data_(std::move(data)) {}
  std::variant<std::monostate, int128, double, std::string> data_;
};

// Orders two values of one type: negative, zero or positive. Null comes after everything; text is compared by
// code point.
int compare(const Value& a, const Value& b);

// The exact text of a value: no grouping, no rounding, ISO 8601 dates, reals with the fewest digits that read
// back to the same bits; "" for null. `parse_value` reads each of them back.
std::string to_text(const Value& value, Type type);

// The nearest real to a number; nothing for null, and for a value of a type that is no number.
std::optional<double> to_double(const Value& value, Type type);

// All digits of a number, which streams do not print: "-170141183460469231731687303715884105728".
std::string to_string(int128 number);

// Reads the text of one value of `type`; nothing if it does not fit (no surrounding blanks are allowed, decimals
// may have fewer digits than the scale but not more unless they are zeros). Booleans are "true" or "false".
std::optional<Value> parse_value(std::string_view text, Type type);

}  // namespace juniper
