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

std::string render(const Diagnostic& diagnostic, Color color) {
  const auto paint = [color](std::string_view code, std::string text) {
    return color == Color::on ? fmt::format("\033[{}m{}\033[0m", code, text) : text;
  };
  std::string out;
  const Place& place = diagnostic.place;
  if (!place.file.empty()) {
    std::string where = base::one_line(place.file);
    if (place.line != 0) where += fmt::format(":{}", place.line);
    if (place.line != 0 && place.column != 0) where += fmt::format(":{}", place.column);
    out += paint("1", where) + ": ";
  }
  const bool is_error = diagnostic.severity == Severity::error;
  out += paint(is_error ? "1;31" : "1;33", is_error ? "error:" : "warning:");
  out += fmt::format(" {} [{}]\n", base::one_line(diagnostic.message), diagnostic.code);
  if (!diagnostic.source_line.empty() && place.line != 0) {
    const std::string number = fmt::format("{}", place.line);
    out += fmt::format("  {} | {}\n", number, base::one_line(diagnostic.source_line));
    if (place.column != 0) {
      // As wide as what stands above is shown.
      const std::string_view line = diagnostic.source_line;
      const std::size_t begin = base::bytes_of(line, place.column - 1);
      const std::size_t bytes = base::bytes_of(line.substr(begin), diagnostic.caret_width);
      const auto shown_width = [](std::string_view text) { return base::width_of(base::one_line(text)); };
      const std::size_t width = std::max<std::size_t>(shown_width(line.substr(begin, bytes)), 1);
      const std::size_t beyond = place.column - 1 - base::code_points(line.substr(0, begin));
      out += fmt::format("  {} | {}{}\n", std::string(number.size(), ' '),
                         std::string(shown_width(line.substr(0, begin)) + beyond, ' '),
                         paint("1;32", "^" + std::string(width - 1, '~')));
    }
  }
  if (!diagnostic.suggestion.empty())
    out += fmt::format("  {} {}\n", paint("1", "fix:"), base::lines(diagnostic.suggestion));
  return out;
}

std::string render(const Diagnostics& diagnostics, Color color) {
  std::string out;
  for (const Diagnostic& diagnostic : diagnostics) out += render(diagnostic, color);
  return out;
}

bool has_errors(const Diagnostics& diagnostics) {
  return std::any_of(diagnostics.begin(), diagnostics.end(),
                     [](const Diagnostic& d) { return d.severity == Severity::error; });
}

}  // namespace juniper
