#include "base/diagnostics.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "base/shown_text.h"

namespace juniper {

namespace base {

Diagnostics error(std::string code, std::string message, std::string suggestion) {
  return error_at(std::move(code), Place{}, std::move(message), std::move(suggestion));
}

Diagnostics error_at(std::string code, Place place, std::string message, std::string suggestion) {
  Diagnostic diagnostic;
  diagnostic.code = std::move(code);
  diagnostic.place = std::move(place);
  diagnostic.message = std::move(message);
  diagnostic.suggestion = std::move(suggestion);
  return {std::move(diagnostic)};
}

namespace {

// Levenshtein's distance, by the usual two-row dynamic programme.
std::size_t edit_distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> row(b.size() + 1);
  std::iota(row.begin(), row.end(), std::size_t{0});
  for (std::size_t i = 1; i <= a.size(); ++i) {
    std::size_t diagonal = row[0];
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t above = row[j];
      row[j] = std::min({above + 1, row[j - 1] + 1, diagonal + (a[i - 1] == b[j - 1] ? 0 : 1)});
      diagonal = above;
    }
  }
  return row[b.size()];
}

}  // namespace

std::string nearest_name(std::string_view name, const std::vector<std::string>& candidates) {
  std::size_t best = std::max<std::size_t>(1, name.size() / 3) + 1;
  std::string nearest;
  for (const std::string& candidate : candidates) {
    const std::size_t distance = edit_distance(name, candidate);
    if (distance < best) {
      best = distance;
      nearest = candidate;
    }
  }
  return nearest;
}

std::string did_you_mean(std::string_view name, const std::vector<std::string>& candidates) {
  const std::string nearest = nearest_name(name, candidates);
  return nearest.empty() ? "" : fmt::format("did you mean '{}'?", nearest);
}

std::size_t bytes_of(std::string_view text, std::size_t points) {
  std::size_t bytes = 0;
  while (bytes < text.size() && ((static_cast<unsigned char>(text[bytes]) & 0xC0) == 0x80 || points-- > 0)) ++bytes;
  return bytes;
}

std::size_t code_points(std::string_view text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

}  // namespace base

namespace {

struct Paint {
  Color color;
  std::string operator()(std::string_view code, const std::string& text) const {
    return color == Color::on ? fmt::format("\033[{}m{}\033[0m", code, text) : text;
  }
};

// The line that a diagnostic is about with its place marked below; of a line wider than `room`, the part around the mark.
std::string marked_line(const Diagnostic& diagnostic, const Paint& paint, std::size_t room) {
  const Place& place = diagnostic.place;
  const std::string_view line = diagnostic.source_line;
  const std::string number = fmt::format("{}", place.line);
  std::string shown = base::one_line(line);
  std::size_t before = 0;  // columns in front of the mark
  std::size_t width = 0;   // of the mark, as wide as what stands above is shown
  if (place.column != 0) {
    const std::size_t begin = base::bytes_of(line, place.column - 1);
    const std::size_t bytes = base::bytes_of(line.substr(begin), diagnostic.caret_width);
    const std::string front = base::one_line(line.substr(0, begin));
    width = std::max<std::size_t>(base::width_of(base::one_line(line.substr(begin, bytes))), 1);
    before = base::width_of(front) + place.column - 1 - base::code_points(line.substr(0, begin));
    // Half of the room is for what stands in front of the mark.
    if (room != 0 && base::width_of(shown) > room && before > room / 2) {
      const std::string kept = base::last_columns(front, room / 2 - 1);
      shown = "…" + kept + base::one_line(line.substr(begin));
      before = 1 + base::width_of(kept);
    }
  }
  if (room != 0) {
    shown = base::clipped(shown, room);
    width = std::min(width, room - std::min(room, before));
  }
  std::string out = fmt::format("  {} | {}\n", number, shown);
  if (width != 0)
    out += fmt::format("  {} | {}{}\n", std::string(number.size(), ' '), std::string(before, ' '),
                       paint("1;32", "^" + std::string(width - 1, '~')));
  return out;
}

// Lines of at most `width` columns, with `painted` for `plain` at their beginning.
std::string folded_behind(const std::string& plain, const std::string& painted, const std::string& text,
                          std::size_t width, std::size_t indent) {
  if (width == 0) return painted + text + "\n";
  std::string out;
  for (const std::string& line : base::folded(plain + text, width, indent)) {
    const bool is_first = out.empty() && line.starts_with(plain);
    out += (is_first ? painted + line.substr(plain.size()) : line) + "\n";
  }
  return out;
}

}  // namespace

std::string render(const Diagnostic& diagnostic, Color color, std::size_t width) {
  constexpr std::size_t least_width = 40;
  if (width != 0) width = std::max(width, least_width);
  const Paint paint{color};
  const Place& place = diagnostic.place;
  std::string plain;
  std::string painted;
  if (!place.file.empty()) {
    std::string where = base::one_line(place.file);
    if (place.line != 0) where += fmt::format(":{}", place.line);
    if (place.line != 0 && place.column != 0) where += fmt::format(":{}", place.column);
    plain = where + ": ";
    painted = paint("1", where) + ": ";
  }
  const bool is_error = diagnostic.severity == Severity::error;
  const std::string kind = is_error ? "error:" : "warning:";
  plain += kind;
  painted += paint(is_error ? "1;31" : "1;33", kind);
  std::string out = folded_behind(
      plain, painted, fmt::format(" {} [{}]", base::one_line(diagnostic.message), diagnostic.code), width, 2);
  if (!diagnostic.source_line.empty() && place.line != 0) {
    const std::size_t margin = fmt::format("  {} | ", place.line).size();
    out += marked_line(diagnostic, paint, width == 0 ? 0 : width - margin);
  }
  if (diagnostic.suggestion.empty()) return out;
  const std::string suggestion = base::lines(diagnostic.suggestion);
  for (std::size_t begin = 0; begin < suggestion.size();) {
    const std::size_t end = std::min(suggestion.find('\n', begin), suggestion.size());
    const std::string line = suggestion.substr(begin, end - begin);
    if (begin == 0) {
      out += folded_behind("  fix:", "  " + paint("1", "fix:"), " " + line, width, 7);
    } else {
      out += folded_behind("", "", line, width, 7);
    }
    begin = end + 1;
  }
  return out;
}

std::string render(const Diagnostics& diagnostics, Color color, std::size_t width) {
  std::string out;
  for (const Diagnostic& diagnostic : diagnostics) out += render(diagnostic, color, width);
  return out;
}

bool has_errors(const Diagnostics& diagnostics) {
  return std::any_of(diagnostics.begin(), diagnostics.end(),
                     [](const Diagnostic& d) { return d.severity == Severity::error; });
}

}  // namespace juniper
