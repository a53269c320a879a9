// Text as a terminal shows it.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>

namespace juniper {

// The text on one line: what would end the line or command the terminal (control characters, and the line separators of
// Unicode) and what is not UTF-8 becomes an escape, \n or \x1b.
std::string one_line(std::string_view text);

// The columns that a text without control characters takes: two for wide characters, none for marks on the one before
// (Unicode Standard Annex 11, East Asian Width).
std::size_t width_of(std::string_view text);

}  // namespace juniper
