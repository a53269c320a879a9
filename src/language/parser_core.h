// The parser's class: a cursor over tokens, and one function for each rule of the grammar in parser.h. Its functions
// are spread over parse_model.cpp, parse_query.cpp, parse_expression.cpp and parse_rows.cpp.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "language/every_day.h"
#include "language/lexer.h"
#include "language/parser.h"
#include "language/syntax.h"

namespace juniper::language {

using syntax::Expression;
using syntax::ExpressionPtr;
using syntax::Form;

// Thrown to leave a declaration that cannot be read further, after its diagnostic was recorded; caught where the
// parser goes on with the next one. Never leaves the parser.
struct Abandon {};

inline constexpr std::array aggregate_words{
    "sum",        "avg",          "min", "max",   "count", "product", "median", "quantile", "stddev", "variance",
    "stddev_pop", "variance_pop", "any", "every", "first", "last",    "list",   "rank",     "exists"};
inline constexpr std::array modifier_words{"of", "via", "through", "across", "during"};
inline constexpr std::array rows_step_words{"of", "via", "across", "where", "with", "sorted", "by"};
inline constexpr std::array declaration_words{"model", "table",    "link",    "measure",  "query", "hidden",
                                              "param", "calendar", "include", "function", "reader"};
inline constexpr std::array clause_words{"from",  "by",   "show",  "where", "having",
                                         "total", "sort", "limit", "keep",  "with"};

template <class Words>
bool among(const std::string& word, const Words& words) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

class Parser {
 public:
  Parser(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics)
      : sources_(sources), diagnostics_(diagnostics), tokens_(tokenize(sources, file, diagnostics)) {}

  syntax::Model model();
  syntax::Query query_text();
  ExpressionPtr expression_text();
  syntax::Measure measure_text();
  const Marks& marks() const { return marks_; }

 private:
  // Expressions and rows nest at most this deep, so that no text can overflow the stack here or in what walks the tree.
  static constexpr int deepest = 200;
  static constexpr std::uint32_t tallest = 1000;

  // --- tokens -----------------------------------------------------------------------------------------------------
  const Token& token(std::size_t ahead = 0) const { return tokens_[std::min(at_ + ahead, tokens_.size() - 1)]; }
  bool at_end() const { return token().kind == TokenKind::end; }
  bool is(std::string_view word, std::size_t ahead = 0) const {
    const Token& t = token(ahead);
    return (t.kind == TokenKind::name || t.kind == TokenKind::symbol) && t.text == word;
  }
  template <class Words>
  bool is_any(const Words& words) const {
    return is_any_at(words, 0);
  }
  template <class Words>
  bool is_any_at(const Words& words, std::size_t ahead) const {
    return token(ahead).kind == TokenKind::name && among(token(ahead).text, words);
  }
  bool is_text(std::size_t ahead = 0) const { return token(ahead).kind == TokenKind::text; }
  bool is_name() const { return token().kind == TokenKind::name || token().kind == TokenKind::quoted_name; }
  bool follows(std::string_view word) const {
    return at_ > 0 && tokens_[at_ - 1].kind == TokenKind::name && tokens_[at_ - 1].text == word;
  }
  const Token& take() {
    const Token& taken = token();
    if (!at_end()) ++at_;
    return taken;
  }
  bool accept(std::string_view word) {
    if (!is(word)) return false;
    take();
    return true;
  }
  std::string found() const {
    switch (token().kind) {
      case TokenKind::end:
        return "the end of the text";
      case TokenKind::text:
        return fmt::format("the text {}", written_text(token().text));
      case TokenKind::name:
      case TokenKind::quoted_name:
      case TokenKind::number:
      case TokenKind::symbol:
        return fmt::format("'{}'", token().text);
    }
    return "";
  }
  std::uint32_t last_end() const { return at_ == 0 ? 0 : tokens_[at_ - 1].span.end; }
  Span since(Span begin) const { return {begin.file, begin.begin, std::max(last_end(), begin.end)}; }

  [[noreturn]] void fail(Span span, std::string code, std::string message, std::string suggestion = "") {
    diagnostics_.push_back(
        sources_.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion)));
    throw Abandon{};
  }
  // The same, without the line of the text, which holds what nobody else should read.
  [[noreturn]] void fail_unseen(Span span, std::string code, std::string message, std::string suggestion) {
    diagnostics_.push_back(
        sources_.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion)));
    diagnostics_.back().source_line.clear();
    throw Abandon{};
  }
  void expect(std::string_view symbol, std::string_view where) {
    if (!accept(symbol)) {
      fail(token().span, "JR-110", fmt::format("'{}' was expected {}, found {}", symbol, where, found()));
    }
  }
  syntax::Name name(std::string_view what) {
    if (!is_name()) fail(token().span, "JR-110", fmt::format("{} was expected, found {}", what, found()));
    const Token& t = take();
    return {t.text, t.span};
  }
  std::string text(std::string_view what) {
    if (!is_text()) {
      fail(token().span, "JR-110", fmt::format("{} was expected, in double quotes, found {}", what, found()));
    }
    return take().text;
  }

  // Skips to a token where `resume` holds; always moves on by at least one token from `before`.
  template <class Resume>
  void recover(const Resume& resume, std::size_t before) {
    if (at_ == before) take();
    while (!at_end() && !resume()) take();
  }

  // What is being read from here on can do without, should it not be understood: a definition whose name is known.
  void begin_definition(DefinitionKind kind, const syntax::Name& name, Span begin) {
    if (!definition_) definition_ = Disabled{kind, "", name.text, begin, {}};  // a query's drafts are a part of it
  }
  // Behind recover(), the definition that was abandoned, with the problems since the first `known` ones; nothing where
  // what was abandoned has to be there.
  std::optional<Disabled> abandoned(std::size_t known) {
    std::optional<Disabled> definition = std::move(definition_);
    definition_.reset();
    if (!definition) return std::nullopt;
    definition->span = since(definition->span);
    definition->problems.assign(diagnostics_.begin() + static_cast<std::ptrdiff_t>(known), diagnostics_.end());
    return definition;
  }

  void mark(Mark mark) { marks_.try_emplace(token().span.begin, mark); }

  // --- declarations: parse_model.cpp ------------------------------------------------------------------------------

  void declaration(syntax::Model& model);
  void table(syntax::Model& model, Span begin, bool hidden);
  base::SourceKind source_kind(bool is_live);
  void selection(base::SourcePlace& source, Span place);
  void source_options(base::SourcePlace& source);
  syntax::Column column();
  syntax::TableKey table_key();
  void part_of_field(syntax::Column& column);
  std::vector<syntax::Name> names(std::string_view what);
  void function(syntax::Model& model, Span begin);
  void every_day(syntax::Model& model, syntax::Table& table);
  void every_day_option(syntax::EveryDay& options);
  syntax::ExpressionPtr year();
  bool is_type(std::size_t ahead) const;
  bool begins_column(std::size_t first) const;
  std::vector<syntax::Name> taken_in(std::size_t first) const;
  bool type_at(std::size_t ahead) const;
  syntax::TypeName type();
  syntax::Attributes attributes();
  void link(syntax::Model& model, Span begin);
  void measure(syntax::Model& model, Span begin, bool hidden);
  syntax::LinkEnd link_end();
  void parameter(syntax::Model& model, Span begin);
  void calendar(syntax::Model& model, Span begin);
  void include(syntax::Model& model, Span begin);
  void reader(syntax::Model& model, Span begin);

  // --- queries: parse_query.cpp ------------------------------------------------------------------------------------

  void query(syntax::Model& model);
  std::int64_t query_budget();
  void query_clauses(syntax::Query& query);
  void query_clause(syntax::Query& query, const std::string& word);
  void measure_draft(syntax::Query& query);
  syntax::ByItem by_item();
  syntax::ShowItem show_item();
  syntax::TotalItem total_item();
  syntax::SortItem sort_item();

  // --- expressions: parse_expression.cpp ---------------------------------------------------------------------------

  ExpressionPtr expression();
  ExpressionPtr and_term();
  ExpressionPtr not_term();
  ExpressionPtr comparison();
  ExpressionPtr is_test(ExpressionPtr left);
  ExpressionPtr membership(ExpressionPtr left, bool negated);
  ExpressionPtr sum();
  ExpressionPtr product();
  ExpressionPtr factor();
  ExpressionPtr primary();
  ExpressionPtr bracketed();
  ExpressionPtr word_expression();
  ExpressionPtr moment();
  ExpressionPtr if_expression();
  ExpressionPtr case_expression();
  bool at_modifier() const;
  ExpressionPtr modified(ExpressionPtr operand, std::size_t begin);
  syntax::Across across();
  std::vector<syntax::Path> path_list();
  syntax::DuringClause during();
  syntax::Path path(std::string_view what);
  ExpressionPtr node(Form form, Span begin) const {
    auto node = std::make_unique<Expression>();
    node->form = form;
    node->span = begin;
    return node;
  }

  template <class... Children>
  ExpressionPtr operation(Form form, const Token& word, Children... children) {
    auto result = std::make_unique<Expression>();
    result->form = form;
    result->word = word.text;
    result->word_span = word.span;
    (result->children.push_back(std::move(children)), ...);
    for (const ExpressionPtr& child : result->children) result->height = std::max(result->height, child->height + 1);
    if (result->height > tallest) {
      fail(word.span, "JR-116", fmt::format("this expression has more than {} operators in a row", tallest),
           "give its parts names of their own");
    }
    const Expression& first = *result->children.front();
    result->span = since({word.span.file, std::min(first.span.begin, word.span.begin), word.span.end});
    return result;
  }

  struct Deeper {
    explicit Deeper(Parser& owner) : parser(owner) {
      if (++parser.depth_ > deepest) {
        --parser.depth_;
        parser.fail(parser.token().span, "JR-116",
                    fmt::format("this expression nests more than {} levels deep", deepest),
                    "give its parts names of their own");
      }
    }
    ~Deeper() { --parser.depth_; }
    Deeper(const Deeper&) = delete;
    Deeper& operator=(const Deeper&) = delete;
    Parser& parser;
  };
  // Counts the brackets around the token at hand: within them no word begins a clause of a query.
  struct Bracket {
    explicit Bracket(Parser& owner) : parser(owner) { ++parser.brackets_; }
    ~Bracket() { --parser.brackets_; }
    Bracket(const Bracket&) = delete;
    Bracket& operator=(const Bracket&) = delete;
    Parser& parser;
  };

  // --- rows and aggregates: parse_rows.cpp -------------------------------------------------------------------------

  syntax::RowsPtr rows();
  syntax::RowsPtr rows_over(syntax::RowsForm form, syntax::RowsPtr input, const Token& at);
  syntax::RowsPtr rows_step(syntax::RowsForm form, syntax::RowsPtr input);
  bool at_rows_word() const;
  syntax::RowsPtr rows_source();
  syntax::RowsPtr distinct_rows();
  syntax::RowsPtr grouped_rows();
  syntax::RowsPtr top_rows();
  syntax::RowsPtr combined_rows();
  std::vector<syntax::NamedExpression> assignments();
  std::vector<syntax::SortKey> sort_keys();
  bool list_in_brackets() const;
  ExpressionPtr aggregate();
  void aggregate_rows(Expression& aggregate);
  void expect_for(const Token& word);
  bool has_for() const;
  void let_meaning(syntax::LetName& item);
  ExpressionPtr let_expression();

  const Sources& sources_;
  Diagnostics& diagnostics_;
  std::vector<Token> tokens_;
  Marks marks_;
  std::size_t at_ = 0;
  std::size_t expression_begin_ = 0;  // the token with which the innermost expression begins
  int depth_ = 0;
  int brackets_ = 0;
  int trials_ = 0;                      // names of `let` around that are read both as rows and as an expression
  bool clauses_ = false;                // within the clauses of a query
  std::optional<Disabled> definition_;  // that is being read
};

}  // namespace juniper::language
