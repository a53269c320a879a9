#include "refactor/text_edits.h"

#include <fmt/format.h>

// The header is of another age: its warnings are not ours.
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wall"
#pragma GCC diagnostic ignored "-Wextra"
#pragma GCC diagnostic ignored "-Wshadow"
#pragma GCC diagnostic ignored "-Wconversion"
#include <dtl/dtl.hpp>
#pragma GCC diagnostic pop

#include <sstream>

namespace juniper::refactoring {

void TextEdits::remove_declaration(std::string_view text, language::Span span) {
  const auto is_blank = [](char c) { return c == ' ' || c == '\t'; };
  std::uint32_t begin = span.begin;
  while (begin > 0 && is_blank(text[begin - 1])) --begin;
  const bool starts_line = begin == 0 || text[begin - 1] == '\n';
  std::uint32_t end = span.end;
  while (end < text.size() && is_blank(text[end])) ++end;
  std::uint32_t line_end = end;
  if (line_end < text.size() && text[line_end] == '#') {
    while (line_end < text.size() && text[line_end] != '\n') ++line_end;
  }
  if (line_end < text.size() && text[line_end] == '\r') ++line_end;
  const bool ends_line = line_end == text.size() || text[line_end] == '\n';
  if (starts_line && ends_line) {
    replace({span.file, begin, std::min<std::uint32_t>(line_end + 1, static_cast<std::uint32_t>(text.size()))}, "");
  } else {
    replace({span.file, span.begin, end}, "");
  }
}

std::string TextEdits::apply(std::string_view text, language::Span span) const {
  std::string result;
  std::uint32_t at = span.begin;
  for (const auto& [part, replacement] : edits_) {
    const auto [file, begin, end] = part;
    if (file != span.file || begin < at || end > span.end) continue;
    result.append(text.substr(at, begin - at)).append(replacement);
    at = end;
  }
  return result.append(text.substr(at, span.end - at));
}

std::vector<ModelText> TextEdits::apply(const std::vector<ModelText>& texts) const {
  std::vector<ModelText> after = texts;
  for (std::uint32_t file = 0; file < after.size(); ++file) {
    std::string& text = after[file].text;
    text = apply(text, {file, 0, static_cast<std::uint32_t>(text.size())});
  }
  return after;
}

namespace {

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines;
  std::istringstream stream(text);
  for (std::string line; std::getline(stream, line);) lines.push_back(line);
  return lines;
}

}  // namespace

std::string unified_diff(const std::string& before, const std::string& after, const std::string& name) {
  if (before == after) return "";
  dtl::Diff<std::string> diff(lines_of(before), lines_of(after));
  diff.compose();
  diff.composeUnifiedHunks();
  std::ostringstream out;
  diff.printUnifiedFormat(out);
  return fmt::format("--- {0}\n+++ {0} (proposed)\n{1}", name, out.str());
}

}  // namespace juniper::refactoring
