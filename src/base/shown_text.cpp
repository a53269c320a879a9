#include "base/shown_text.h"

#include <fmt/format.h>
#include <unicode/uchar.h>
#include <utf8.h>

#include <algorithm>
#include <cstdint>

namespace juniper::base {

namespace {

// Most text is: it is shown as it stands, in as many columns as it has bytes.
bool is_printable_ascii(std::string_view text) {
  return std::all_of(text.begin(), text.end(), [](char c) { return c >= ' ' && c <= '~'; });
}

constexpr UChar32 no_character = -1;  // where the bytes are not UTF-8

// Calls take(character, its bytes) for each.
template <class Take>
void for_each_character(std::string_view text, const Take& take) {
  const char* at = text.data();
  const char* const end = at + text.size();
  for (const char* bad = utf8::find_invalid(at, end); at != end;) {
    const char* const begin = at;
    if (at == bad) {
      bad = utf8::find_invalid(++at, end);
      take(no_character, std::string_view(begin, 1));
    } else {
      const auto c = static_cast<UChar32>(utf8::unchecked::next(at));
      take(c, std::string_view(begin, static_cast<std::size_t>(at - begin)));
    }
  }
}

std::size_t width_of(UChar32 c) {
  const auto type = u_charType(c);
  if (type == U_NON_SPACING_MARK || type == U_ENCLOSING_MARK || type == U_FORMAT_CHAR) return 0;
  const int width = u_getIntPropertyValue(c, UCHAR_EAST_ASIAN_WIDTH);
  return width == U_EA_WIDE || width == U_EA_FULLWIDTH ? 2 : 1;
}

void append(std::string& out, UChar32 c, std::string_view bytes) {
  const auto is_harmful = [c] {
    const auto type = u_charType(c);
    return type == U_CONTROL_CHAR || type == U_LINE_SEPARATOR || type == U_PARAGRAPH_SEPARATOR ||
           u_hasBinaryProperty(c, UCHAR_BIDI_CONTROL) || U_IS_UNICODE_NONCHAR(c);
  };
  if (c == no_character) {
    out += fmt::format("\\x{:02x}", static_cast<unsigned char>(bytes.front()));
  } else if (c == '\n') {
    out += "\\n";
  } else if (c == '\t') {
    out += "\\t";
  } else if (is_harmful()) {
    out += fmt::format("\\u{{{:x}}}", c);
  } else {
    out += bytes;
  }
}

}  // namespace

std::string one_line(std::string_view text) {
  if (is_printable_ascii(text)) return std::string(text);
  std::string out;
  out.reserve(text.size());
  for_each_character(text, [&](UChar32 c, std::string_view bytes) { append(out, c, bytes); });
  return out;
}

std::string lines(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  for_each_character(text, [&](UChar32 c, std::string_view bytes) {
    if (c == '\n' || c == '\t') {
      out += bytes;
    } else {
      append(out, c, bytes);
    }
  });
  return out;
}

std::string shortened(std::string_view text, std::size_t most) {
  std::string out;
  std::size_t taken = 0;
  for_each_character(text, [&](UChar32 c, std::string_view bytes) {
    if (taken < most) append(out, c, bytes);
    if (taken++ == most) out += "…";
  });
  return out;
}

std::size_t width_of(std::string_view text) {
  if (is_printable_ascii(text)) return text.size();
  std::size_t width = 0;
  for_each_character(text, [&](UChar32 c, std::string_view) { width += width_of(c); });
  return width;
}

std::string clipped(std::string_view text, std::size_t width) {
  if (width_of(text) <= width) return std::string(text);
  std::string out;
  std::size_t taken = 1;  // the mark of a cut
  bool full = false;
  for_each_character(text, [&](UChar32 c, std::string_view bytes) {
    taken += width_of(c);
    full = full || taken > width;
    if (!full) out += bytes;
  });
  return out + "…";
}

std::string last_columns(std::string_view text, std::size_t width) {
  std::size_t left_out = width_of(text);
  std::string out;
  for_each_character(text, [&](UChar32 c, std::string_view bytes) {
    if (left_out <= width && (!out.empty() || width_of(c) != 0)) out += bytes;
    left_out -= width_of(c);
  });
  return out;
}

std::vector<std::string> folded(std::string_view text, std::size_t width, std::size_t indent) {
  if (width_of(text) <= width) return {std::string(text)};
  std::vector<std::string> out;
  const std::string margin(indent, ' ');
  std::string line;
  std::size_t taken = 0;
  std::size_t after_blank = 0;  // bytes of the line up to and with its last blank, and its last mark
  std::size_t after_mark = 0;
  const auto end_line = [&] {
    const std::size_t at = after_blank != 0 ? after_blank : (after_mark != 0 ? after_mark : line.size());
    const std::string rest = line.substr(at);
    line.resize(at);
    while (line.ends_with(' ')) line.pop_back();
    out.push_back(line);
    line = margin + rest;
    taken = width_of(line);
    after_blank = after_mark = 0;
  };
  for_each_character(text, [&](UChar32 c, std::string_view bytes) {
    const std::size_t more = width_of(c);
    if (c == ' ' && taken + more > width) {
      after_blank = line.size();
      return end_line();  // the blank is the break
    }
    while (taken + more > width) end_line();
    line += bytes;
    taken += more;
    // A text begins where its blanks end: a line is not broken within them. What is carried on must fit behind the margin.
    const bool has_begun = taken > indent && line.find_first_not_of(' ') != std::string::npos;
    if (c == ' ' && has_begun) after_blank = line.size();
    constexpr std::string_view marks = "./,;:_-=&)";
    if (has_begun && c < 0x80 && marks.find(static_cast<char>(c)) != std::string_view::npos) after_mark = line.size();
  });
  if (taken > indent || out.empty()) out.push_back(line);
  return out;
}

std::vector<std::string> folded_code(std::string_view line, std::size_t width, char& quote) {
  const std::size_t begin = std::min(line.find_first_not_of(' '), line.size());
  const std::string margin(std::min(begin + 4, width / 2), ' ');
  std::vector<std::string> out;
  std::string current(line.substr(0, std::min(begin, width / 2)));
  std::string mark;  // of the comment that has begun
  bool is_empty = true;
  for (std::size_t at = begin; at < line.size();) {
    // The word that begins here, with whatever stands in its quotes.
    std::size_t end = at;
    for (; end < line.size() && (quote != 0 || line[end] != ' '); ++end) {
      const char c = line[end];
      if (!mark.empty()) continue;
      if (quote == 0 && (c == '"' || c == '\'' || c == '`')) {
        quote = c;
      } else if (quote == '"' && c == '\\') {
        ++end;  // what follows ends nothing
      } else if (c == quote) {
        quote = 0;
      }
    }
    const std::string_view word = line.substr(at, std::min(end, line.size()) - at);
    if (!is_empty && width_of(current) + 1 + width_of(word) > width) {
      out.push_back(current);
      current = margin + mark;
      is_empty = mark.empty();
    }
    if (mark.empty() && (word.starts_with('#') || word.starts_with("--"))) mark = word.starts_with('#') ? "#" : "--";
    if (!is_empty) current += ' ';
    current += word;
    is_empty = false;
    // Several blanks are one where it is broken, and stay elsewhere.
    at = std::min(end, line.size());
    std::size_t blanks = 0;
    while (at < line.size() && line[at] == ' ') {
      ++at;
      ++blanks;
    }
    if (blanks > 1 && at < line.size() && width_of(current) + blanks < width) current.append(blanks - 1, ' ');
  }
  out.push_back(current);
  if (out.size() == 1) return {std::string(line)};
  for (std::string& each : out) {
    while (each.ends_with(' ')) each.pop_back();
  }
  return out;
}

}  // namespace juniper::base
