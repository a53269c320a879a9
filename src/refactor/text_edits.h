// Edits of a text that touch only the characters that they must.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "language/source_text.h"

namespace juniper::refactor {

// Replacements of parts of one text. Parts may not overlap; the same replacement may be given twice.
class TextEdits {
 public:
  void replace(language::Span span, std::string text) { edits_[{span.begin, span.end}] = std::move(text); }
  // Removes a declaration: with its whole lines where nothing else stands on them but a comment behind it, else with
  // the blanks behind it.
  void remove_declaration(std::string_view text, language::Span span);
  // Applies those edits that lie within `span`, and gives that part of the text.
  std::string apply(std::string_view text, language::Span span) const;
  std::string apply(std::string_view text) const;

 private:
  std::map<std::pair<std::uint32_t, std::uint32_t>, std::string> edits_;
};

// The difference of two texts in the unified format, with three lines around each change; "" when there is none.
std::string unified_diff(const std::string& before, const std::string& after, const std::string& name);

}  // namespace juniper::refactor
