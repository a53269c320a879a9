#include "language/source_text.h"

#include <algorithm>
#include <iterator>

#include "base/diagnostics.h"

namespace juniper::language {

std::uint32_t Sources::add(SourceText text) {
  std::vector<std::uint32_t> lines{0};
  for (std::size_t at = text.text.find('\n'); at != std::string::npos; at = text.text.find('\n', at + 1))
    lines.push_back(static_cast<std::uint32_t>(at + 1));
  texts_.push_back(std::move(text));
  lines_.push_back(std::move(lines));
  return size() - 1;
}

std::string_view Sources::text(Span span) const {
  return std::string_view(texts_[span.file].text).substr(span.begin, span.end - span.begin);
}

namespace {

std::string_view line_around(std::string_view text, std::size_t offset) {
  const std::size_t before = offset == 0 ? std::string_view::npos : text.rfind('\n', offset - 1);
  const std::size_t begin = before == std::string_view::npos ? 0 : before + 1;
  std::string_view line = text.substr(begin, text.find('\n', offset) - begin);
  if (line.ends_with('\r')) line.remove_suffix(1);
  return line;
}

}  // namespace

Place Sources::place(Span span) const {
  const std::string_view text = texts_[span.file].text;
  const std::vector<std::uint32_t>& lines = lines_[span.file];
  const auto line = std::prev(std::upper_bound(lines.begin(), lines.end(), span.begin));
  Place place;
  place.file = texts_[span.file].name;
  place.line = static_cast<std::uint32_t>(line - lines.begin()) + 1;
  place.column = static_cast<std::uint32_t>(base::code_points(text.substr(*line, span.begin - *line))) + 1;
  return place;
}

Diagnostic Sources::diagnostic(Severity severity, std::string code, Span span, std::string message,
                               std::string suggestion) const {
  Diagnostic diagnostic;
  diagnostic.severity = severity;
  diagnostic.code = std::move(code);
  diagnostic.place = place(span);
  diagnostic.message = std::move(message);
  diagnostic.suggestion = std::move(suggestion);
  const std::string_view line = line_around(texts_[span.file].text, span.begin);
  diagnostic.source_line = line;
  std::replace(diagnostic.source_line.begin(), diagnostic.source_line.end(), '\t', ' ');
  const std::size_t line_points = base::code_points(line);
  const std::size_t room = line_points + 1 > diagnostic.place.column ? line_points + 1 - diagnostic.place.column : 1;
  diagnostic.caret_width = static_cast<std::uint32_t>(
      std::clamp<std::size_t>(base::code_points(this->text(span)), 1, std::max<std::size_t>(room, 1)));
  return diagnostic;
}

}  // namespace juniper::language
