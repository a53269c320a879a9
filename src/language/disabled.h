// What is left out of a model because something is wrong with it: a definition that nothing but other definitions and
// queries rest on. What data is read by, or tables hang together by, is never left out: without a link, other numbers
// would come out, and in silence.
#pragma once

#include <cstdint>
#include <functional>
#include <set>
#include <string>
#include <string_view>

#include "juniper/diagnostics.h"
#include "language/source_text.h"

namespace juniper::language {

enum class DefinitionKind : std::uint8_t { measure, calculated_column, calculated_table, query };

struct Disabled {
  DefinitionKind kind = DefinitionKind::measure;
  std::string table;  // of a calculated column
  std::string name;
  Span span;             // the whole definition
  Diagnostics problems;  // what is wrong with it, or that it rests on another one (JR-219)
  // The names in its text, which may be those of whatever bears them.
  std::set<std::string, std::less<>> names = {};

  std::string full_name() const;  // with its table
  bool is(DefinitionKind other_kind, std::string_view other_name, std::string_view other_table = "") const {
    return kind == other_kind && name == other_name && table == other_table;
  }
};

std::string to_string(DefinitionKind kind);

// That a place rests on what is disabled, and whether a problem is that.
Diagnostic told_disabled(const Sources& sources, Span use, const Disabled& disabled);
bool rests_on_disabled(const Diagnostic& problem);

}  // namespace juniper::language
