// The narrowest type that all fields of a column have.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "juniper/value.h"

namespace juniper::scanning {

// Sees the fields of a column one by one. Whole numbers become decimals and these reals when a field asks for it;
// everything else that does not fit what was there makes the column a text. Numbers with leading zeros are texts, and so
// are whole numbers that leave 64 bits: both are names of something, of which no digit may be lost. Where a real loses
// digits, it says so.
class TypeFinder {
 public:
  // A field that is not null, and where it stands.
  void add(std::string_view text, std::uint64_t line);

  // Text where no field was seen.
  Type type() const;
  // What is doubtful of the type: why a column is text whose first fields were not ("reads as a date until line 17,
  // where "n/a" stands"), or which digits a real does not keep; else "".
  std::string reason() const;
  bool has_values() const { return kind_.has_value(); }

 private:
  bool take_moment(std::string_view text);
  bool take_number(std::string_view text, std::uint64_t line);
  void become_text(std::string_view text, std::uint64_t line);

  std::optional<TypeKind> kind_;  // of all fields so far
  unsigned whole_digits_ = 0;     // the most before a point
  unsigned scale_ = 0;            // the most behind
  std::string reason_;            // of a text
  bool has_zones_ = false;
  std::string lost_digits_;  // of a real
};

}  // namespace juniper::scanning
