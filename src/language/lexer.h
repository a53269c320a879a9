// Text to tokens.
#pragma once

#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "juniper/value.h"
#include "language/source_text.h"

namespace juniper::language {

enum class TokenKind : std::uint8_t { name, quoted_name, number, text, symbol, end };

struct Token {
  TokenKind kind = TokenKind::end;
  Span span;
  std::string text;          // a name without backticks, a text without quotes and escapes, a symbol as written
  Type type;                 // of a number: integer, decimal(s) or real
  Value value;               // of a number
  bool starts_line = false;  // nothing but blanks stands before it on its line
};

// Splits one text into tokens, the last of which is `end`. Appends an error for each character, text or number
// that is not well formed, and goes on behind it.
std::vector<Token> tokenize(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

// True for text that can be written as a name without backticks.
bool is_plain_name(std::string_view text);

// The name as it is written in a model text: with backticks where it needs them.
std::string written_name(std::string_view name);

// The same where a column is declared: there, words of the language stand beside names, and one that is a name has
// backticks, so that nobody has to know which of the two it is.
std::string written_declared_name(std::string_view name);

// The text as a literal: in quotes, with escapes.
std::string written_text(std::string_view text);

// A value that is not null as a literal.
std::string written_value(const Value& value, Type type);

}  // namespace juniper::language
