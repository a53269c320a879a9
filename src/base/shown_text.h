// Text as it is shown to people. What comes from data, names or files may hold characters that command a terminal, end a
// line, or turn the order of what follows around; here alone they become escapes. What programs read is not changed.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>
#include <vector>

namespace juniper::base {

// The text on one line. What is not UTF-8 or no character, control characters, the line separators of Unicode and the
// marks that set a direction (Unicode Standard Annex 9) become escapes, those of the model language where it has one: \n,
// \u{1b}, \xff.
std::string one_line(std::string_view text);

// The same for a text of several lines: line ends and tabs stay.
std::string lines(std::string_view text);

// At most so many code points of a text, on one line, with "…" where it was cut.
std::string shortened(std::string_view text, std::size_t most);

// The columns that a text without control characters takes: two for wide characters, none for marks on the one before
// (Unicode Standard Annex 11, East Asian Width).
std::size_t width_of(std::string_view text);

// A text without control characters, cut to so many columns, with "…" at its end where it was cut. `width`: at least 1.
std::string clipped(std::string_view text, std::size_t width);

// The last characters of a text without control characters, in at most so many columns.
std::string last_columns(std::string_view text, std::size_t width);

// A text without control characters in lines of at most so many columns (at least 2), broken behind a blank where there
// is one, else behind a mark like . or /, else anywhere. The lines behind the first begin with `indent` blanks, which is
// less than `width`. At least one line.
std::vector<std::string> folded(std::string_view text, std::size_t width, std::size_t indent = 0);

// A line of a model text or of SQL, without control characters, in lines of at most so many columns (at least 2) that mean
// the same: it is broken at blanks outside of quotes alone, and a comment (behind # or --) goes on as one. What stands
// within quotes is never broken, however long it is. The lines behind the first are indented by four more blanks than it.
// `quote`: the mark within which the line begins, and then the one within which it ends; 0 for none.
std::vector<std::string> folded_code(std::string_view line, std::size_t width, char& quote);

}  // namespace juniper::base
