// What a column takes of its source's fields.
#pragma once

#include <cstdint>
#include <string_view>

namespace juniper::base {

enum class FieldPart : std::uint8_t {
  whole,
  date,   // of a datetime: its date
  time,   // of a datetime: its time of day
  round,  // of a number with more digits: the nearest with those of the column's type, halves away from zero
};

// The function's name, as the text of a model has it: "date"; "" for the whole.
constexpr std::string_view name_of(FieldPart part) {
  switch (part) {
    case FieldPart::date:
      return "date";
    case FieldPart::time:
      return "time";
    case FieldPart::round:
      return "round";
    case FieldPart::whole:
      return "";
  }
  return "";
}

}  // namespace juniper::base
