// That no text commands a terminal, however it comes.
#include "base/shown_text.h"

#include <fmt/format.h>
#include <gtest/gtest.h>
#include <unicode/uchar.h>
#include <utf8.h>

#include <iterator>

#include "juniper/diagnostics.h"

namespace juniper::base::shown_text_test {
namespace {

std::string utf8_of(UChar32 c) {
  std::string text;
  utf8::unchecked::append(static_cast<std::uint32_t>(c), std::back_inserter(text));
  return text;
}

// Every character of Unicode: what is shown holds none that ends a line, commands, or directs, and is valid.
TEST(ShownText, EveryCharacterIsSafeOrEscaped) {
  for (UChar32 c = 0; c <= 0x10FFFF; ++c) {
    if (c >= 0xD800 && c < 0xE000) continue;
    const std::string text = "a" + utf8_of(c) + "b";
    const bool harmful = u_charType(c) == U_CONTROL_CHAR || c == 0x2028 || c == 0x2029 ||
                         u_hasBinaryProperty(c, UCHAR_BIDI_CONTROL) || U_IS_UNICODE_NONCHAR(c);
    const std::string shown = one_line(text);
    ASSERT_EQ(shown == text, !harmful) << c;
    ASSERT_TRUE(!harmful || shown.find_first_not_of("abcdef0123456789xuntr\\{}") == std::string::npos) << shown;
    ASSERT_EQ(lines(text) == text, !harmful || c == '\n' || c == '\t') << c;
  }
}

TEST(ShownText, EveryPairOfBytesIsShownAsUtf8) {
  for (int first = 0; first < 256; ++first) {
    for (int second = 0; second < 256; ++second) {
      const std::string text = {static_cast<char>(first), static_cast<char>(second)};
      for (const std::string& shown : {one_line(text), lines(text), shortened(text, 1)})
        ASSERT_TRUE(utf8::is_valid(shown.begin(), shown.end())) << first << " " << second;
    }
  }
}

TEST(ShownText, IsCutBetweenCharacters) {
  EXPECT_EQ(shortened("größer", 3), "grö…");
  EXPECT_EQ(shortened("größer", 6), "größer");
  EXPECT_EQ(shortened("a\nb", 2), "a\\n…");
  EXPECT_EQ(shortened("", 0), "");
}

TEST(ShownText, MessagesShowWhatTheySpeakOf) {
  Diagnostic diagnostic;
  diagnostic.code = "JR-000";
  diagnostic.message = "found \"\033]52;c;YQ==\a\"";
  diagnostic.place = {"a\nb.ridge", 3, 4};
  diagnostic.source_line = "a\033b充電 = 1";
  diagnostic.caret_width = 2;
  diagnostic.suggestion = "write\nthis\033";
  EXPECT_EQ(render(diagnostic),
            "a\\nb.ridge:3:4: error: found \"\\u{1b}]52;c;YQ==\\u{7}\" [JR-000]\n"
            "  3 | a\\u{1b}b充電 = 1\n"
            "    |         ^~~~\n"
            "  fix: write\nthis\\u{1b}\n");
}

}  // namespace
}  // namespace juniper::base::shown_text_test
