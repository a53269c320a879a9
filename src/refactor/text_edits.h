// Edits of a text that touch only the characters that they must.
#pragma once

#include <map>
#include <string>
#include <tuple>
#include <vector>

#include "juniper/model.h"
#include "language/source_text.h"

namespace juniper::refactoring {

// Replacements of parts of a model's texts; what lies in other texts (captured queries) is left alone. Parts may not overlap; the same replacement may be given twice.
class TextEdits {
 public:
  void replace(language::Span span, std::string text) { edits_[{span.file, span.begin, span.end}] = std::move(text); }
  // Puts text in front of a place, behind what was put there before.
  void insert(language::Span place, const std::string& text) { edits_[{place.file, place.begin, place.begin}] += text; }
  // Removes a declaration: with its whole lines where nothing else stands on them but a comment behind it, else with
  // the blanks behind it.
  void remove_declaration(std::string_view text, language::Span span);
  // Applies those edits that lie within `span` of a text, and gives that part of it.
  std::string apply(std::string_view text, language::Span span) const;
  // Applies all edits to all texts.
  std::vector<ModelText> apply(const std::vector<ModelText>& texts) const;

 private:
  std::map<std::tuple<std::uint32_t, std::uint32_t, std::uint32_t>, std::string> edits_;  // by file, begin and end
};

// The difference of two texts in the unified format, with three lines around each change; "" when there is none.
std::string unified_diff(const std::string& before, const std::string& after, const std::string& name);

}  // namespace juniper::refactoring
