#include "report/terminal_text.h"

#include <fmt/format.h>
#include <unicode/uchar.h>
#include <utf8.h>

#include <algorithm>
#include <cstdint>

namespace juniper {

namespace {

// Most text is: it is shown as it stands, in as many columns as it has bytes.
bool is_printable_ascii(std::string_view text) {
  return std::all_of(text.begin(), text.end(), [](char c) { return c >= ' ' && c <= '~'; });
}

// Calls take(character, its bytes) for each; the character is negative where the bytes are not UTF-8.
template <class Take>
void for_each_character(std::string_view text, const Take& take) {
  const char* at = text.data();
  const char* const end = at + text.size();
  for (const char* bad = utf8::find_invalid(at, end); at != end;) {
    const char* const begin = at;
    if (at == bad) {
      bad = utf8::find_invalid(++at, end);
      take(-1, {begin, 1});
    } else {
      const auto c = static_cast<UChar32>(utf8::unchecked::next(at));
      take(c, {begin, static_cast<std::size_t>(at - begin)});
    }
  }
}

std::size_t width_of(UChar32 c) {
  const auto type = u_charType(c);
  if (type == U_NON_SPACING_MARK || type == U_ENCLOSING_MARK || type == U_FORMAT_CHAR) return 0;
  const int width = u_getIntPropertyValue(c, UCHAR_EAST_ASIAN_WIDTH);
  return width == U_EA_WIDE || width == U_EA_FULLWIDTH ? 2 : 1;
}

}  // namespace

std::string one_line(std::string_view text) {
  if (is_printable_ascii(text)) return std::string(text);
  std::string out;
  out.reserve(text.size());
  for_each_character(text, [&](UChar32 c, std::string_view bytes) {
    const int type = c < 0 ? int{U_CONTROL_CHAR} : u_charType(c);
    if (c == '\n') {
      out += "\\n";
    } else if (type != U_CONTROL_CHAR && type != U_LINE_SEPARATOR && type != U_PARAGRAPH_SEPARATOR) {
      out += bytes;
    } else {
      for (const char byte : bytes) out += fmt::format("\\x{:02x}", static_cast<unsigned char>(byte));
    }
  });
  return out;
}

std::size_t width_of(std::string_view text) {
  if (is_printable_ascii(text)) return text.size();
  std::size_t width = 0;
  for_each_character(text, [&](UChar32 c, std::string_view) { width += width_of(c); });
  return width;
}

}  // namespace juniper
