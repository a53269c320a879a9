#include "sql/aliases.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

namespace juniper::sql_engine {

namespace {

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}
bool is_word(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || is_digit(c) || c == '_' || c == '$';
}

// The end of the word, quoted name, text or other character at `at`. A doubled quote ends one and begins the next.
std::size_t token_end(std::string_view text, std::size_t at) {
  const char first = text[at];
  if (first == '"' || first == '\'') return std::min(text.find(first, at + 1), text.size() - 1) + 1;
  std::size_t end = at + 1;
  if (is_word(first)) {
    while (end < text.size() && is_word(text[end])) ++end;
  }
  return end;
}

bool is_alias(std::string_view word) {
  return word.size() > 1 && word[0] == 't' && std::all_of(word.begin() + 1, word.end(), is_digit);
}

// A quoted name with the doubled quotes within it.
std::size_t name_end(std::string_view text, std::size_t at) {
  std::size_t end = token_end(text, at);
  while (text[at] == '"' && end < text.size() && text[end] == '"') end = token_end(text, end);
  return end;
}

// Calls f(begin, end, end of the column or `end`) for each alias.
template <class Function>
void each_alias(std::string_view text, const Function& f) {
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = token_end(text, at);
    if (!is_alias(text.substr(at, end - at))) {
      at = end;
      continue;
    }
    const bool reads = end + 1 < text.size() && text[end] == '.';
    const std::size_t column = reads ? name_end(text, end + 1) : end;
    f(at, end, column);
    at = column;
  }
}

}  // namespace

std::string alias_text(int number) {
  return fmt::format("t{}", number);
}

std::set<std::string> defined_aliases(const std::string& text) {
  std::set<std::string> defined;
  each_alias(text, [&](std::size_t begin, std::size_t end, std::size_t column) {
    if (column == end) defined.insert(text.substr(begin, end - begin));
  });
  return defined;
}

std::set<std::string> open_columns(const std::string& text) {
  const std::set<std::string> defined = defined_aliases(text);
  std::set<std::string> open;
  each_alias(text, [&](std::size_t begin, std::size_t end, std::size_t column) {
    if (column != end && !defined.contains(text.substr(begin, end - begin)))
      open.insert(text.substr(begin, column - begin));
  });
  return open;
}

std::string alias_of(const std::string& column) {
  return column.substr(0, column.find('.'));
}

std::string substituted(const std::string& text, const std::map<std::string, std::string>& others) {
  std::string out;
  for (std::size_t at = 0; at < text.size();) {
    const auto stands_here = [&](const std::pair<const std::string, std::string>& other) {
      const std::string& before = other.first;
      if (text.compare(at, before.size(), before) != 0) return false;
      const std::size_t end = at + before.size();
      return end == text.size() || !is_word(before.back()) || !is_word(text[end]);
    };
    const auto other = std::find_if(others.begin(), others.end(), stands_here);
    if (other != others.end()) {
      out += other->second;
      at += other->first.size();
      continue;
    }
    const std::size_t end = token_end(text, at);
    out.append(text, at, end - at);
    at = end;
  }
  return out;
}

std::vector<std::string> with_own_aliases(const std::vector<std::string>& pieces) {
  std::map<std::string, std::string> own;
  std::vector<std::string> renamed;
  for (const std::string& text : pieces) {
    std::string& out = renamed.emplace_back();
    std::size_t written = 0;
    each_alias(text, [&](std::size_t begin, std::size_t end, std::size_t column) {
      const auto [known, added] = own.try_emplace(text.substr(begin, end - begin), "");
      if (added) known->second = alias_text(static_cast<int>(own.size()));
      out.append(text, written, begin - written);
      out += known->second;
      out.append(text, end, column - end);
      written = column;
    });
    out.append(text, written);
  }
  return renamed;
}

}  // namespace juniper::sql_engine
