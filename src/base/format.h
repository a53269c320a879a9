// Values for people: Unicode LDML number and date patterns.
#pragma once

#include <memory>
#include <string>
#include <string_view>

#include "juniper/value.h"

namespace juniper::base {

// What is wrong with a pattern for values of a type; "" for a good one.
std::string pattern_problem(std::string_view pattern, Type type);

// How values of a type are written by a pattern ("#,##0.00", "0.0%", "d MMM yyyy"): halves rounded away from zero, with
// English names and signs; without a pattern the exact text, reals with up to six significant digits. Reading a pattern
// takes some hundred times as long as writing a value: make one for a column, not for each value. For one thread.
class ValueFormat {
 public:
  explicit ValueFormat(Type type, std::string_view pattern = "");
  ~ValueFormat();
  ValueFormat(ValueFormat&&) noexcept;
  ValueFormat& operator=(ValueFormat&&) noexcept;

  Type type() const { return type_; }
  // The value's text is the exact one, as to_text gives it.
  bool is_exact() const { return !pattern_ && type_.kind != TypeKind::real; }
  // Null gives "".
  std::string text(const Value& value) const;

 private:
  struct Pattern;
  Type type_;
  std::unique_ptr<const Pattern> pattern_;
};

// "12,345"
std::string grouped(std::uint64_t number);
// "1.52 MB" (powers of 1000), "812 B"
std::string format_bytes(std::uint64_t bytes);
// "3.41 s", "12.7 ms", "410 µs"
std::string format_nanoseconds(std::int64_t nanoseconds);

}  // namespace juniper::base
