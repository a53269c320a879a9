#include "language/lexer.h"

#include <fmt/format.h>
#include <utf8.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <iterator>

#include "base/exact.h"
#include "base/shown_text.h"

namespace juniper::language {

namespace {

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}
bool is_name_start(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
}
bool is_name_part(char c) {
  return is_name_start(c) || is_digit(c);
}

// Words that are read as something else where an expression may begin or go on.
constexpr std::array<std::string_view, 21> reserved{"and", "between", "case", "div",  "else", "end",  "false",
                                                    "for", "if",      "in",   "is",   "let",  "like", "mod",
                                                    "not", "null",    "or",   "then", "true", "when", "where"};

class Lexer {
 public:
  Lexer(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics)
      : sources_(sources), file_(file), text_(sources[file].text), diagnostics_(diagnostics) {}

  std::vector<Token> run() {
    if (const auto bad = utf8::find_invalid(text_.begin(), text_.end()); bad != text_.end()) {
      error(static_cast<std::size_t>(bad - text_.begin()), static_cast<std::size_t>(bad - text_.begin()) + 1, "JR-101",
            "the text is not valid UTF-8 here", "save the file as UTF-8");
      tokens_.push_back({TokenKind::end, span(text_.size(), text_.size()), "", {}, {}, true});
      return std::move(tokens_);
    }
    if (text_.starts_with("\xEF\xBB\xBF")) at_ = 3;
    while (skip_blanks(), at_ < text_.size()) next();
    tokens_.push_back({TokenKind::end, span(at_, at_), "", {}, {}, true});
    return std::move(tokens_);
  }

 private:
  Span span(std::size_t begin, std::size_t end) const {
    return {file_, static_cast<std::uint32_t>(begin), static_cast<std::uint32_t>(end)};
  }

  void error(std::size_t begin, std::size_t end, std::string code, std::string message, std::string suggestion) {
    diagnostics_.push_back(sources_.diagnostic(Severity::error, std::move(code), span(begin, end), std::move(message),
                                               std::move(suggestion)));
  }

  void skip_blanks() {
    while (at_ < text_.size()) {
      const char c = text_[at_];
      if (c == '\n') {
        line_start_ = true;
        ++at_;
      } else if (c == ' ' || c == '\t' || c == '\r') {
        ++at_;
      } else if (c == '#') {
        while (at_ < text_.size() && text_[at_] != '\n') ++at_;
      } else {
        return;
      }
    }
  }

  Token& push(TokenKind kind, std::size_t begin, std::string text) {
    tokens_.push_back({kind, span(begin, at_), std::move(text), {}, {}, line_start_});
    line_start_ = false;
    return tokens_.back();
  }

  void next() {
    const char c = text_[at_];
    if (is_name_start(c)) {
      const std::size_t begin = at_;
      while (at_ < text_.size() && is_name_part(text_[at_])) ++at_;
      push(TokenKind::name, begin, text_.substr(begin, at_ - begin));
    } else if (is_digit(c)) {
      number();
    } else if (c == '"') {
      quoted();
    } else if (c == '`') {
      quoted_name();
    } else {
      symbol();
    }
  }

  // Digits, and how many they are: 1_000_000 has seven, as each "_" stands between two.
  std::size_t digits() {
    std::size_t count = 0;
    for (; at_ < text_.size(); ++at_) {
      const bool apart = text_[at_] == '_' && count != 0 && at_ + 1 < text_.size() && is_digit(text_[at_ + 1]) &&
                         is_digit(text_[at_ - 1]);
      if (!is_digit(text_[at_]) && !apart) break;
      count += apart ? 0 : 1;
    }
    return count;
  }

  void number() {
    const std::size_t begin = at_;
    digits();
    Type type{TypeKind::integer, 0};
    if (at_ + 1 < text_.size() && text_[at_] == '.' && is_digit(text_[at_ + 1])) {
      ++at_;
      const std::size_t digits = this->digits();
      if (digits > base::max_scale) {
        error(begin, at_, "JR-102",
              fmt::format("this number has {} digits after the point, and 18 is the most", digits),
              "write it as a real, with an exponent: 1.5e0");
        return;
      }
      type = {TypeKind::decimal, static_cast<std::uint8_t>(digits)};
    }
    if (at_ < text_.size() && (text_[at_] == 'e' || text_[at_] == 'E')) {
      std::size_t digits = at_ + 1;
      if (digits < text_.size() && (text_[digits] == '+' || text_[digits] == '-')) ++digits;
      if (digits < text_.size() && is_digit(text_[digits])) {
        at_ = digits;
        while (at_ < text_.size() && is_digit(text_[at_])) ++at_;
        type = {TypeKind::real, 0};
      }
    }
    const std::string written = text_.substr(begin, at_ - begin);
    std::string number = written;
    std::erase(number, '_');
    const auto value = parse_value(number, type);
    if (!value || (type.is_exact_number() && !base::fits_int64(value->exact()))) {
      error(begin, at_, "JR-102", "this number is too large", "whole numbers and decimals hold 64 bits");
      return;
    }
    Token& token = push(TokenKind::number, begin, written);
    token.type = type;
    token.value = *value;
  }

  void quoted() {
    const std::size_t begin = at_++;
    std::string content;
    while (at_ < text_.size() && text_[at_] != '"' && text_[at_] != '\n') {
      char c = text_[at_++];
      if (c == '\\' && at_ < text_.size()) {
        const char escaped = text_[at_++];
        switch (escaped) {
          case 'n':
            c = '\n';
            break;
          case 't':
            c = '\t';
            break;
          case 'r':
            c = '\r';
            break;
          case '"':
          case '\\':
            c = escaped;
            break;
          case 'u':
            append_character(content);
            continue;
          default:
            error(at_ - 2, at_, "JR-103", fmt::format("there is no escape \\{}", escaped),
                  R"(the escapes are \" \\ \n \r \t \u{1f50c})");
            continue;
        }
      }
      content.push_back(c);
    }
    if (at_ >= text_.size() || text_[at_] != '"') {
      error(begin, at_, "JR-104", "this text has no closing quote on its line", "end it with \"");
    } else {
      ++at_;
    }
    push(TokenKind::text, begin, std::move(content));
  }

  // A character by its number, as in \u{1f50c}; at_ stands behind the u.
  void append_character(std::string& content) {
    const std::size_t begin = at_ - 2;
    std::uint32_t number = 0;
    const char* const digits = text_.data() + at_ + 1;
    const char* const end = text_.data() + text_.size();
    if (at_ < text_.size() && text_[at_] == '{') {
      const auto [stop, failed] = std::from_chars(digits, end, number, 16);
      const bool is_character = number <= 0x10FFFF && (number < 0xD800 || number > 0xDFFF);
      if (failed == std::errc() && stop != end && *stop == '}' && is_character) {
        at_ = static_cast<std::size_t>(stop - text_.data()) + 1;
        utf8::unchecked::append(number, std::back_inserter(content));
        return;
      }
    }
    error(begin, at_, "JR-103", "this escape is no character", R"(write its number in Unicode: \u{1f50c})");
  }

  void quoted_name() {
    const std::size_t begin = at_++;
    while (at_ < text_.size() && text_[at_] != '`' && text_[at_] != '\n') ++at_;
    const std::string name = text_.substr(begin + 1, at_ - begin - 1);
    if (at_ >= text_.size() || text_[at_] != '`' || name.empty()) {
      error(begin, at_, "JR-104", name.empty() ? "an empty name" : "this name has no closing backtick on its line",
            "a quoted name stands between two backticks: `Cost Total $`");
    }
    if (at_ < text_.size() && text_[at_] == '`') ++at_;
    push(TokenKind::quoted_name, begin, name);
  }

  void symbol() {
    static constexpr std::array<std::string_view, 5> pairs{"<>", "<=", ">=", "||", "->"};
    const std::size_t begin = at_;
    const std::string_view rest = std::string_view(text_).substr(at_);
    for (const std::string_view pair : pairs) {
      if (rest.starts_with(pair)) {
        at_ += 2;
        push(TokenKind::symbol, begin, std::string(pair));
        return;
      }
    }
    if (std::string_view("(){},.=<>+-*/").find(text_[at_]) != std::string_view::npos) {
      ++at_;
      push(TokenKind::symbol, begin, std::string(1, text_[begin]));
      return;
    }
    ++at_;
    while (at_ < text_.size() && (static_cast<unsigned char>(text_[at_]) & 0xC0) == 0x80) ++at_;
    const std::string found = text_.substr(begin, at_ - begin);
    std::string fix;
    if (found == "'") fix = "texts stand in double quotes: \"Coast\"";
    if (found == "!" || found == "≠") fix = "not equal is written <>";
    if (found == "&" || found == "|") fix = "write `and`, `or`; texts are joined by ||";
    if (found == "%") fix = "the remainder is written `mod`";
    if (found == ";") fix = "declarations need no separator";
    error(begin, at_, "JR-105", fmt::format("the character {} has no meaning here", found), fix);
  }

  const Sources& sources_;
  std::uint32_t file_;
  const std::string& text_;
  Diagnostics& diagnostics_;
  std::vector<Token> tokens_;
  std::size_t at_ = 0;
  bool line_start_ = true;
};

}  // namespace

std::vector<Token> tokenize(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Lexer(sources, file, diagnostics).run();
}

bool is_plain_name(std::string_view text) {
  return !text.empty() && is_name_start(text.front()) && std::all_of(text.begin(), text.end(), is_name_part) &&
         std::find(reserved.begin(), reserved.end(), text) == reserved.end();
}

std::string written_name(std::string_view name) {
  return is_plain_name(name) ? std::string(name) : fmt::format("`{}`", name);
}

std::string written_declared_name(std::string_view name) {
  static constexpr std::array<std::string_view, 14> words{"boolean", "date",   "datetime", "decimal", "format",
                                                          "from",    "hidden", "integer",  "key",     "real",
                                                          "sorted",  "text",   "time",     "used"};
  const bool is_word = std::find(words.begin(), words.end(), name) != words.end();
  return is_word ? fmt::format("`{}`", name) : written_name(name);
}

std::string written_text(std::string_view text) {
  std::string escaped;
  for (const char c : text) {
    if (c == '"' || c == '\\') escaped += '\\';
    escaped += c;
  }
  return '"' + base::one_line(escaped) + '"';
}

std::string written_value(const Value& value, Type type) {
  const std::string text = to_text(value, type);
  switch (type.kind) {
    case TypeKind::text:
      return written_text(text);
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return fmt::format("{} \"{}\"", to_string(type), text);
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::real:
      return text;
  }
  return text;
}

}  // namespace juniper::language
