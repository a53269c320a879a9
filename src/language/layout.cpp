#include "language/layout.h"

#include <algorithm>
#include <array>
#include <optional>
#include <string_view>
#include <vector>

#include "language/lexer.h"
#include "language/parser.h"

namespace juniper::language {

namespace {

struct Comment {
  std::string text;
  bool blank_before = false;
};

// What stands between a token and the one before.
struct Gap {
  std::string trailing;  // a comment on the line of the token before
  std::vector<Comment> own_lines;
  bool blank_before = false;  // an empty line directly before the token
  bool line_break = false;
};

struct Line {
  std::optional<Mark> kind;  // nothing for what continues a line
  std::size_t indent = 0;
  std::vector<std::string> cells;       // the last one may go on in lines that continue this one
  std::vector<std::string> attributes;  // behind the last cell
  std::string trailing;
  std::vector<Comment> before;
  bool blank_before = false;
  bool goes_on = false;
};

std::size_t width(std::string_view text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

std::string trimmed(std::string_view text) {
  const std::size_t end = text.find_last_not_of(" \t\r");
  return std::string(end == std::string_view::npos ? std::string_view() : text.substr(0, end + 1));
}

Gap gap_of(std::string_view text, bool first) {
  Gap gap;
  int breaks = first ? 1 : 0;
  for (std::size_t at = 0; at < text.size();) {
    if (text[at] == '\n') {
      ++breaks;
      ++at;
    } else if (text[at] == '#') {
      const std::size_t end = std::min(text.find('\n', at), text.size());
      const std::string comment = trimmed(text.substr(at, end - at));
      if (breaks == 0) {
        gap.trailing = comment;
      } else {
        gap.own_lines.push_back({comment, breaks > 1});
        breaks = 0;
      }
      gap.line_break = true;
      at = end;
    } else {
      ++at;
    }
  }
  gap.line_break = gap.line_break || breaks > 0;
  gap.blank_before = breaks > 1 && !(first && gap.own_lines.empty());
  return gap;
}

// Words before which a minus stands between two values no more than before a bracket.
constexpr std::array word_operators{
    "and",  "or",    "not",    "div",     "mod",    "like", "in",     "between", "is",   "case", "when", "then",
    "else", "if",    "where",  "by",      "show",   "with", "having", "among",   "from", "for",  "of",   "via",
    "sort", "total", "across", "through", "except", "as",   "but",    "periods", "let",  "nulls"};
// Words that are called although a word of that name has another use, too.
constexpr std::array called_words{"except"};

template <class Words>
bool among(std::string_view word, const Words& words) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

bool is_symbol(const Token& token, std::string_view symbol) {
  return token.kind == TokenKind::symbol && token.text == symbol;
}

bool is_word_operator(const Token& token) {
  return token.kind == TokenKind::name && among(token.text, word_operators);
}

// A minus that has nothing on its left.
bool is_unary(const std::vector<Token>& tokens, std::size_t at) {
  if (!is_symbol(tokens[at], "-") || at == 0) return false;
  const Token& before = tokens[at - 1];
  if (before.kind == TokenKind::symbol) return before.text != ")";
  return is_word_operator(before);
}

bool has_blank(const std::vector<Token>& tokens, std::size_t at) {
  const Token& left = tokens[at - 1];
  const Token& right = tokens[at];
  if (is_symbol(left, "(") || is_symbol(left, ".") || is_symbol(right, ".") || is_symbol(right, ")") ||
      is_symbol(right, ","))
    return false;
  if (is_unary(tokens, at - 1)) return false;
  if (is_symbol(right, "(")) {
    if (left.kind == TokenKind::name) return is_word_operator(left) && !among(left.text, called_words);
    return left.kind != TokenKind::quoted_name;
  }
  return true;
}

class Layout {
 public:
  Layout(const std::string& text, std::vector<Token> tokens, Marks marks)
      : text_(text), tokens_(std::move(tokens)), marks_(std::move(marks)) {}

  std::string print() {
    for (std::size_t at = 0; at < tokens_.size(); ++at) place(at);
    align();
    std::string out;
    for (std::size_t i = 0; i < lines_.size(); ++i) print(lines_[i], i, out);
    return out;
  }

 private:
  Line& line() { return lines_.back(); }

  void place(std::size_t at) {
    const Token& token = tokens_[at];
    const std::size_t gap_begin = at == 0 ? 0 : tokens_[at - 1].span.end;
    const Gap gap = gap_of(std::string_view(text_).substr(gap_begin, token.span.begin - gap_begin), at == 0);
    if (!gap.trailing.empty() && !lines_.empty()) line().trailing = gap.trailing;
    const auto found = marks_.find(token.span.begin);
    const std::optional<Mark> mark =
        found == marks_.end() || token.kind == TokenKind::end ? std::nullopt : std::optional(found->second);
    if (token.kind == TokenKind::end) {
      if (gap.own_lines.empty()) return;
      begin(std::nullopt, 0, gap);
      line().before.front().blank_before = line().before.front().blank_before || after_block_;
      return;
    }
    const bool starts = mark && *mark < Mark::cell;
    if (starts || gap.line_break) {
      begin_line(mark, starts, gap, token);
    } else if (mark == Mark::cell && line().kind != Mark::clause && line().attributes.empty() && line().kind) {
      line().cells.emplace_back();
    } else if (mark == Mark::attribute) {
      line().attributes.emplace_back();
    } else if (line().kind == Mark::clause && line().cells.size() == 1) {
      line().cells.emplace_back();
    }
    std::string& into = line().attributes.empty() ? line().cells.back() : line().attributes.back();
    if (!into.empty() && at > 0 && has_blank(tokens_, at)) into += ' ';
    into += text_.substr(token.span.begin, token.span.end - token.span.begin);
    if (is_symbol(token, "(")) ++brackets_;
    if (is_symbol(token, ")") && brackets_ > 0) --brackets_;
  }

  void begin_line(std::optional<Mark> mark, bool starts, const Gap& gap, const Token& token) {
    if (!starts) {
      if (!lines_.empty()) line().goes_on = true;
      const std::size_t depth = brackets_ - (is_symbol(token, ")") && brackets_ > 0 ? 1 : 0);
      begin(std::nullopt, hanging_ + 2 * (std::max<std::size_t>(depth, 1) - 1), gap);
      line().blank_before = false;
      return;
    }
    brackets_ = 0;
    const bool inside = *mark == Mark::column || *mark == Mark::computed || *mark == Mark::clause;
    const bool block = *mark == Mark::table || *mark == Mark::query || *mark == Mark::reader;
    const bool first_inside = inside && !inside_;
    begin(mark, inside ? 2 : 0, gap);
    hanging_ = *mark == Mark::clause ? 8 : (inside ? 6 : 4);
    if (lines_.size() > 1 && (block || after_block_)) {
      (line().before.empty() ? line().blank_before : line().before.front().blank_before) = true;
    }
    if (first_inside || *mark == Mark::close) {
      line().blank_before = line().blank_before && !line().before.empty();
      if (!line().before.empty() && first_inside) line().before.front().blank_before = false;
    }
    inside_ = inside;
    after_block_ = *mark == Mark::close;
  }

  void begin(std::optional<Mark> kind, std::size_t indent, const Gap& gap) {
    Line made;
    made.kind = kind;
    made.indent = indent;
    made.cells.emplace_back();
    made.before = gap.own_lines;
    made.blank_before = gap.blank_before;
    lines_.push_back(std::move(made));
  }

  // Widens the cells of neighbours of one kind. A column has a cell for its flags.
  void align() {
    for (Line& made : lines_) {
      const bool is_column = made.kind == Mark::column || made.kind == Mark::computed;
      if (is_column && made.cells.size() == 2) made.cells.insert(made.cells.begin(), "");
    }
    for (std::size_t begin = 0; begin < lines_.size();) {
      std::size_t end = begin + 1;
      while (end < lines_.size() && belongs(begin, end)) ++end;
      align(begin, end);
      begin = end;
    }
  }

  bool belongs(std::size_t first, std::size_t next) const {
    const Line& made = lines_[next];
    if (!made.kind) return lines_[first].kind.has_value() && made.before.empty();
    const bool blank = made.blank_before || std::any_of(made.before.begin(), made.before.end(),
                                                        [](const Comment& c) { return c.blank_before; });
    return made.kind == lines_[first].kind && !blank;
  }

  // `keep empty` and `with measure` are longer than any other clause's word.
  static bool is_wide_clause(const Line& made) {
    return made.kind == Mark::clause && (made.cells[0] == "keep" || made.cells[0] == "with");
  }

  void align(std::size_t begin, std::size_t end) {
    std::vector<std::size_t> widths;
    for (std::size_t i = begin; i < end; ++i) {
      if (!lines_[i].kind || is_wide_clause(lines_[i])) continue;
      for (std::size_t c = 0; c < lines_[i].cells.size(); ++c) {
        if (widths.size() <= c) widths.push_back(0);
        // What is the last on its line widens nothing.
        const bool last = c + 1 == lines_[i].cells.size() && lines_[i].attributes.empty();
        const bool expression = c + 1 == lines_[i].cells.size() && lines_[i].kind != Mark::column;
        if (!last && !expression) widths[c] = std::max(widths[c], width(lines_[i].cells[c]));
      }
    }
    for (std::size_t i = begin; i < end; ++i) {
      if (!lines_[i].kind) continue;
      std::vector<std::string>& cells = lines_[i].cells;
      std::string joined;
      for (std::size_t c = 0; c < cells.size(); ++c) {
        const bool pads =
            c < widths.size() && !is_wide_clause(lines_[i]) && (c + 1 < cells.size() || !lines_[i].attributes.empty());
        const std::size_t room = pads ? std::max(widths[c], width(cells[c])) : width(cells[c]);
        // No room for flags that no neighbour has; two blanks between a column's name and its type.
        if (c == 0 && room == 0) continue;
        if (!joined.empty()) joined += lines_[i].kind == Mark::column && c == 2 ? "  " : " ";
        joined += cells[c] + std::string(room - width(cells[c]), ' ');
      }
      cells = {joined};
    }
  }

  void print(const Line& made, std::size_t index, std::string& out) const {
    const std::string indent(made.indent, ' ');
    const std::string comment_indent(made.kind == Mark::close ? 2 : made.indent, ' ');
    for (const Comment& comment : made.before) {
      if (comment.blank_before && !out.empty()) out += '\n';
      out += comment_indent + comment.text + '\n';
    }
    if (made.blank_before && (index > 0 || !made.before.empty())) out += '\n';
    std::string written = made.cells[0];
    for (const std::string& attribute : made.attributes) written += "  " + attribute;
    written = trimmed(written);
    if (!made.trailing.empty()) written += (written.empty() ? "" : "  ") + made.trailing;
    if (!written.empty()) out += indent + written + '\n';
  }

  const std::string& text_;
  std::vector<Token> tokens_;
  Marks marks_;
  std::vector<Line> lines_;
  std::size_t brackets_ = 0;
  std::size_t hanging_ = 4;
  bool inside_ = false;
  bool after_block_ = false;
};

}  // namespace

Result<std::string> canonical_layout(const Sources& sources, std::uint32_t file) {
  Diagnostics diagnostics;
  Marks marks = parse_marks(sources, file, diagnostics);
  if (!diagnostics.empty()) return tl::unexpected(diagnostics);
  return Layout(sources[file].text, tokenize(sources, file, diagnostics), std::move(marks)).print();
}

}  // namespace juniper::language
