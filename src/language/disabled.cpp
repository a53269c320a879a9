#include "language/disabled.h"

#include <fmt/format.h>

namespace juniper::language {

std::string to_string(DefinitionKind kind) {
  switch (kind) {
    case DefinitionKind::measure:
      return "measure";
    case DefinitionKind::calculated_column:
      return "calculated column";
    case DefinitionKind::calculated_table:
      return "calculated table";
    case DefinitionKind::query:
      return "query";
  }
  return "";
}

std::string Disabled::full_name() const {
  return table.empty() ? name : table + "." + name;
}

Diagnostic told_disabled(const Sources& sources, Span use, const Disabled& disabled) {
  const Place definition = sources.place(disabled.span);
  return sources.diagnostic(
      Severity::error, "JR-219", use,
      fmt::format("this rests on the {} '{}', which is disabled", to_string(disabled.kind), disabled.full_name()),
      fmt::format("mend its definition first: {}:{}", definition.file, definition.line));
}

bool rests_on_disabled(const Diagnostic& problem) {
  return problem.code == "JR-219";
}

}  // namespace juniper::language
