#include "language/parser.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "language/lexer.h"

namespace juniper::language {

namespace {

using syntax::Expression;
using syntax::ExpressionPtr;
using syntax::Form;

// Thrown to leave a declaration that cannot be read further, after its diagnostic was recorded; caught where the
// parser goes on with the next one. Never leaves this file.
struct Abandon {};

constexpr std::array aggregate_words{"sum", "avg", "min", "max", "count"};

// Parts of the language that the parser knows by their first word, and that the engine can't run yet.
constexpr std::array later_aggregates{"product",    "median",       "quantile", "stddev", "variance",
                                      "stddev_pop", "variance_pop", "any",      "every",  "first",
                                      "last",       "list",         "rank",     "exists"};
constexpr std::array later_modifiers{"of", "via", "across", "during", "with"};
constexpr std::array later_rows{"group", "distinct", "top", "union", "except", "intersect", "rows"};
constexpr std::array later_clauses{"having", "keep", "with"};
constexpr std::array later_declarations{"param", "calendar", "include"};
constexpr std::array declarations{"model", "table", "link", "measure", "query", "hidden"};
constexpr std::array clauses{"from", "by", "show", "where", "total", "sort", "limit"};

template <class Words>
bool among(const std::string& word, const Words& words) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

class Parser {
 public:
  Parser(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics)
      : sources_(sources), diagnostics_(diagnostics), tokens_(tokenize(sources, file, diagnostics)) {}

  syntax::Model model() {
    syntax::Model model;
    while (!at_end()) {
      const std::size_t before = at_;
      try {
        declaration(model);
      } catch (const Abandon&) {
        recover([this] { return token().starts_line && (is_any(declarations) || is_any(later_declarations)); }, before);
      }
    }
    return model;
  }

  syntax::Query query_text() {
    syntax::Query query;
    try {
      query_clauses(query);
      if (!at_end())
        fail(token().span, "JR-110", fmt::format("a clause of a query was expected, found {}", found()),
             "the clauses are by, show, where, total, sort, limit, from");
    } catch (const Abandon&) {
    }
    return query;
  }

  ExpressionPtr expression_text() {
    try {
      ExpressionPtr result = expression();
      if (!at_end()) fail(token().span, "JR-110", fmt::format("the expression should end before {}", found()));
      return result;
    } catch (const Abandon&) {
      return nullptr;
    }
  }

 private:
  // --- tokens ---------------------------------------------------------------------------------------------------

  const Token& token(std::size_t ahead = 0) const { return tokens_[std::min(at_ + ahead, tokens_.size() - 1)]; }
  bool at_end() const { return token().kind == TokenKind::end; }
  bool is(std::string_view word, std::size_t ahead = 0) const {
    const Token& t = token(ahead);
    return (t.kind == TokenKind::name || t.kind == TokenKind::symbol) && t.text == word;
  }
  template <class Words>
  bool is_any(const Words& words) const {
    return token().kind == TokenKind::name && among(token().text, words);
  }
  bool is_text(std::size_t ahead = 0) const { return token(ahead).kind == TokenKind::text; }
  bool is_name() const { return token().kind == TokenKind::name || token().kind == TokenKind::quoted_name; }
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
      default:
        return fmt::format("'{}'", token().text);
    }
  }
  std::uint32_t last_end() const { return at_ == 0 ? 0 : tokens_[at_ - 1].span.end; }
  Span since(Span begin) const { return {begin.file, begin.begin, std::max(last_end(), begin.end)}; }

  [[noreturn]] void fail(Span span, std::string code, std::string message, std::string suggestion = "") {
    diagnostics_.push_back(
        sources_.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion)));
    throw Abandon{};
  }
  [[noreturn]] void not_yet(std::string_view what) {
    fail(token().span, "JR-190", fmt::format("{} is part of the language, but this version cannot run it yet", what));
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

  // --- declarations -----------------------------------------------------------------------------------------------

  void declaration(syntax::Model& model) {
    const Span begin = token().span;
    if (accept("model")) {
      model.name = text("the model's name");
      return;
    }
    const bool hidden = accept("hidden");
    if (is("table")) return table(model, begin, hidden);
    if (is("measure")) return measure(model, begin, hidden);
    if (!hidden && is("link")) return link(model, begin);
    if (!hidden && is("query")) return query(model);
    if (is_any(later_declarations)) not_yet(fmt::format("`{}`", token().text));
    fail(token().span, "JR-110", fmt::format("a declaration was expected, found {}", found()),
         is_name() ? base::did_you_mean(token().text, {declarations.begin(), declarations.end()}) : "");
  }

  void table(syntax::Model& model, Span begin, bool hidden) {
    take();
    syntax::Table table;
    table.hidden = hidden;
    table.name = name("the table's name");
    if (is("=")) not_yet("a calculated table");
    expect("from", "after the table's name");
    table.source_kind = name("the kind of the source").text;
    if (table.source_kind != "csv") {
      --at_;
      fail(token().span, "JR-111", fmt::format("there is no source kind '{}' in this version", token().text),
           "write: from csv \"FILE\"");
    }
    table.source_span = token().span;
    table.source = text("the file or pattern");
    if (accept("(")) {
      expect("delimiter", "as the option of a CSV source");
      table.delimiter = text("the delimiter");
      if (table.delimiter->size() != 1 || *table.delimiter == "\"" || *table.delimiter == "\n") {
        --at_;
        fail(token().span, "JR-112", "a delimiter is one character, and not the quote", "write: (delimiter \";\")");
      }
      expect(")", "after the option");
    }
    if (is_text()) table.description = take().text;
    expect("{", "before the table's columns");
    while (!at_end() && !is("}")) {
      const std::size_t before = at_;
      try {
        table.columns.push_back(column());
      } catch (const Abandon&) {
        recover([this] { return token().starts_line || is("}"); }, before);
      }
    }
    expect("}", "after the table's columns");
    table.span = since(begin);
    model.tables.push_back(std::move(table));
  }

  syntax::Column column() {
    syntax::Column column;
    const Span begin = token().span;
    // `key` and `hidden` are flags unless they are themselves the column's name.
    while ((is("key") || is("hidden")) && !is("=", 1) && !is_type(1)) {
      (is("key") ? column.key : column.hidden) = true;
      take();
    }
    column.name = name("a column");
    if (accept("=")) {
      column.expression = expression();
    } else {
      column.type = type();
      if (is("from") && is_text(1)) {
        take();
        column.header = take().text;
      }
    }
    column.attributes = attributes();
    column.span = since(begin);
    return column;
  }

  static constexpr std::array<std::pair<std::string_view, TypeKind>, 8> type_words{{{"integer", TypeKind::integer},
                                                                                    {"decimal", TypeKind::decimal},
                                                                                    {"real", TypeKind::real},
                                                                                    {"text", TypeKind::text},
                                                                                    {"boolean", TypeKind::boolean},
                                                                                    {"date", TypeKind::date},
                                                                                    {"datetime", TypeKind::datetime},
                                                                                    {"time", TypeKind::time}}};

  // A type's word that ends the declaration of a column's name: `key integer` declares a column called key.
  bool is_type(std::size_t ahead) const {
    return std::any_of(type_words.begin(), type_words.end(), [&](const auto& w) { return is(w.first, ahead); }) &&
           !is("=", ahead + 1) && !(token(ahead + 1).kind == TokenKind::name && type_at(ahead + 1));
  }
  bool type_at(std::size_t ahead) const {
    return std::any_of(type_words.begin(), type_words.end(), [&](const auto& w) { return is(w.first, ahead); });
  }

  syntax::TypeName type() {
    const Span begin = token().span;
    const auto* const word =
        std::find_if(type_words.begin(), type_words.end(), [this](const auto& w) { return is(w.first); });
    if (word == type_words.end()) {
      std::vector<std::string> words;
      for (const auto& [spelled, kind] : type_words) words.emplace_back(spelled);
      fail(token().span, "JR-113", fmt::format("a type or '=' was expected after the column's name, found {}", found()),
           is_name() && !base::nearest_name(token().text, words).empty()
               ? base::did_you_mean(token().text, words)
               : "the types are integer, decimal(digits), real, text, boolean, date, datetime, time");
    }
    take();
    Type type{word->second, 0};
    if (type.kind == TypeKind::decimal) {
      expect("(", "after decimal: the number of digits after the point");
      const Token digits = take();
      if (digits.kind != TokenKind::number || digits.type.kind != TypeKind::integer ||
          digits.value.exact() > base::max_scale) {
        fail(digits.span, "JR-113", "a decimal has 0 to 18 digits after the point", "write: decimal(2)");
      }
      type.scale = static_cast<std::uint8_t>(digits.value.exact());
      expect(")", "after the digits");
    }
    return {type, since(begin)};
  }

  syntax::Attributes attributes() {
    syntax::Attributes attributes;
    while (true) {
      if (is("sorted") && is("by", 1)) {
        take();
        take();
        attributes.sorted_by = name("the column to sort by");
      } else if (is("format") && is_text(1)) {
        take();
        attributes.format_span = token().span;
        attributes.format = take().text;
      } else if (is("used") && is("by", 1)) {
        take();
        take();
        attributes.used_by.push_back(text("who uses it"));
      } else if (is_text()) {
        attributes.description = take().text;
      } else {
        return attributes;
      }
    }
  }

  void link(syntax::Model& model, Span begin) {
    take();
    syntax::Link link;
    link.from = link_end();
    expect("->", "between the two columns of the link");
    link.to = link_end();
    if (accept("as")) link.role = name("the link's role");
    link.span = since(begin);
    model.links.push_back(std::move(link));
  }

  syntax::Path link_end() {
    syntax::Path path;
    const Span begin = token().span;
    path.parts.push_back(name("a table"));
    expect(".", "between the table and its column");
    if (is("(")) not_yet("a link over several columns");
    path.parts.push_back(name("a column"));
    path.span = since(begin);
    return path;
  }

  void measure(syntax::Model& model, Span begin, bool hidden) {
    take();
    syntax::Measure measure;
    measure.hidden = hidden;
    measure.name = name("the measure's name");
    expect("=", "after the measure's name");
    measure.expression = expression();
    measure.attributes = attributes();
    measure.span = since(begin);
    model.measures.push_back(std::move(measure));
  }

  // --- queries ------------------------------------------------------------------------------------------------------

  void query(syntax::Model& model) {
    take();
    const syntax::Name query_name = name("the query's name");
    std::string title;
    if (is_text()) title = take().text;
    expect("{", "before the query's clauses");
    syntax::Query query;
    query_clauses(query);
    query.name = query_name;
    query.title = std::move(title);
    if (!is("}")) {
      fail(token().span, "JR-110", fmt::format("a clause of the query or '}}' was expected, found {}", found()),
           is_name() ? base::did_you_mean(token().text, {clauses.begin(), clauses.end()}) : "");
    }
    take();
    model.queries.push_back(std::move(query));
  }

  void query_clauses(syntax::Query& query) {
    const Span begin = token().span;
    std::vector<std::string> seen;
    while (is_any(clauses) || is_any(later_clauses)) {
      if (is_any(later_clauses)) not_yet(fmt::format("`{}` in a query", token().text));
      const Token word = take();
      if (among(word.text, seen)) {
        fail(word.span, "JR-114", fmt::format("this query has a second `{}`", word.text),
             "write one list, with commas");
      }
      seen.push_back(word.text);
      query_clause(query, word.text);
    }
    query.span = since(begin);
  }

  void query_clause(syntax::Query& query, const std::string& word) {
    if (word == "from") {
      query.from = name("a table");
    } else if (word == "by") {
      do query.by.push_back(by_item());
      while (accept(","));
    } else if (word == "show") {
      do query.show.push_back(show_item());
      while (accept(","));
    } else if (word == "where") {
      query.where = expression();
    } else if (word == "total") {
      do query.totals.push_back(total_item());
      while (accept(","));
    } else if (word == "sort") {
      do query.sort.push_back(sort_item());
      while (accept(","));
    } else {
      const Token number = take();
      if (number.kind != TokenKind::number || number.type.kind != TypeKind::integer) {
        fail(number.span, "JR-110", "a whole number of rows was expected after limit");
      }
      query.limit = static_cast<std::uint64_t>(number.value.exact());
    }
  }

  syntax::ByItem by_item() {
    syntax::ByItem item{path("a column"), std::nullopt};
    if (accept("as")) item.alias = name("a name for the column");
    return item;
  }

  syntax::ShowItem show_item() {
    syntax::ShowItem item;
    const Span begin = token().span;
    if (is_name() && is("=", 1)) {
      item.alias = name("a name");
      take();
    }
    item.expression = expression();
    if (!item.alias && accept("as")) item.alias = name("a name for the measure");
    item.span = since(begin);
    return item;
  }

  syntax::TotalItem total_item() {
    syntax::TotalItem item;
    const Span begin = token().span;
    if (accept("grand")) {
    } else if (accept("(")) {
      do item.kept.push_back(path("a column of `by`"));
      while (accept(","));
      expect(")", "after the columns of the total");
    } else {
      item.kept.push_back(path("`grand` or a column of `by`"));
    }
    item.span = since(begin);
    return item;
  }

  syntax::SortItem sort_item() {
    syntax::SortItem item{path("a column or measure of the query"), false};
    if (accept("desc")) {
      item.descending = true;
    } else {
      accept("asc");
    }
    return item;
  }

  syntax::Path path(std::string_view what) {
    syntax::Path path;
    const Span begin = token().span;
    path.parts.push_back(name(what));
    while (accept(".")) path.parts.push_back(name("a name after the point"));
    path.span = since(begin);
    return path;
  }

  // --- expressions --------------------------------------------------------------------------------------------------

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

  // Expressions nest at most this deep, so that no text can overflow the stack here or in what walks the tree.
  static constexpr int deepest = 200;
  static constexpr std::uint32_t tallest = 1000;
  struct Deeper {
    explicit Deeper(Parser& owner) : parser(owner) {
      if (++parser.depth_ > deepest) {
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

  ExpressionPtr expression() {
    const Deeper deeper(*this);
    ExpressionPtr left = and_term();
    while (is("or")) {
      const Token word = take();
      left = operation(Form::binary, word, std::move(left), and_term());
    }
    return left;
  }

  ExpressionPtr and_term() {
    ExpressionPtr left = not_term();
    while (is("and")) {
      const Token word = take();
      left = operation(Form::binary, word, std::move(left), not_term());
    }
    return left;
  }

  ExpressionPtr not_term() {
    if (!is("not")) return comparison();
    const Deeper deeper(*this);
    const Token word = take();
    return operation(Form::unary, word, not_term());
  }

  ExpressionPtr comparison() {
    static constexpr std::array operators{"=", "<>", "<", "<=", ">", ">="};
    ExpressionPtr left = sum();
    if (token().kind == TokenKind::symbol && among(token().text, operators)) {
      const Token word = take();
      left = operation(Form::binary, word, std::move(left), sum());
      if (token().kind == TokenKind::symbol && among(token().text, operators)) {
        fail(token().span, "JR-115", "comparisons do not chain", "write: a < b and b < c");
      }
      return left;
    }
    if (is("is")) return is_test(std::move(left));
    const bool negated = is("not") && (is("in", 1) || is("between", 1) || is("like", 1));
    if (negated) take();
    if (is("in")) return membership(std::move(left), negated);
    if (is("between")) {
      const Token word = take();
      ExpressionPtr low = sum();
      expect("and", "between the two bounds");
      left = operation(Form::between, word, std::move(left), std::move(low), sum());
      left->negated = negated;
    } else if (is("like")) {
      const Token word = take();
      left = operation(Form::binary, word, std::move(left), sum());
      left->negated = negated;
    }
    return left;
  }

  ExpressionPtr is_test(ExpressionPtr left) {
    const Token word = take();
    const bool negated = accept("not");
    if (accept("null")) {
      left = operation(Form::is_null, word, std::move(left));
    } else if (accept("distinct")) {
      expect("from", "after `is distinct`");
      left = operation(Form::is_distinct, word, std::move(left), sum());
    } else {
      fail(token().span, "JR-110", fmt::format("null or distinct was expected after `is`, found {}", found()));
    }
    left->negated = negated;
    return left;
  }

  ExpressionPtr membership(ExpressionPtr left, bool negated) {
    const Token word = take();
    expect("(", "after `in`");
    ExpressionPtr in = operation(Form::in, word, std::move(left));
    do in->children.push_back(expression());
    while (accept(","));
    expect(")", "after the list");
    in->negated = negated;
    in->span = since(in->span);
    return in;
  }

  ExpressionPtr sum() {
    ExpressionPtr left = product();
    while (is("+") || is("-") || is("||")) {
      const Token word = take();
      left = operation(Form::binary, word, std::move(left), product());
    }
    return left;
  }

  ExpressionPtr product() {
    ExpressionPtr left = factor();
    while (is("*") || is("/") || is("div") || is("mod")) {
      const Token word = take();
      left = operation(Form::binary, word, std::move(left), factor());
    }
    return left;
  }

  ExpressionPtr factor() {
    const Deeper deeper(*this);
    if (is("-")) {
      const Token word = take();
      return operation(Form::unary, word, factor());
    }
    ExpressionPtr result = primary();
    // What may follow an operand in the whole language, and is not built yet, is told apart from a slip.
    if (is_any(later_modifiers) && !token(1).starts_line && !is("measure", 1)) {
      not_yet(fmt::format("`{}` after an expression", token().text));
    }
    return result;
  }

  ExpressionPtr primary() {
    const Token& first = token();
    switch (first.kind) {
      case TokenKind::number: {
        ExpressionPtr literal = node(Form::literal, first.span);
        literal->type = first.type;
        literal->value = first.value;
        take();
        return literal;
      }
      case TokenKind::text: {
        ExpressionPtr literal = node(Form::literal, first.span);
        literal->type = {TypeKind::text, 0};
        literal->value = Value::of(first.text);
        take();
        return literal;
      }
      case TokenKind::symbol:
        if (first.text == "(") return bracketed();
        break;
      case TokenKind::name:
        if (ExpressionPtr word = word_expression()) return word;
        [[fallthrough]];
      case TokenKind::quoted_name: {
        ExpressionPtr result = node(Form::path, first.span);
        result->path = path("a name");
        result->span = result->path.span;
        return result;
      }
      case TokenKind::end:
        break;
    }
    fail(first.span, "JR-110", fmt::format("an expression was expected, found {}", found()));
  }

  ExpressionPtr bracketed() {
    const Span begin = take().span;
    ExpressionPtr inner = expression();
    if (is("where")) not_yet("`where` after a measure");
    if (is_any(later_modifiers)) not_yet(fmt::format("`{}` after an expression", token().text));
    expect(")", "to close the bracket");
    inner->span = since(begin);
    return inner;
  }

  // An expression that begins with a word of the language; null when the word is just a name.
  ExpressionPtr word_expression() {
    const Token first = token();
    if (first.text == "case") return case_expression();
    if (first.text == "if") return if_expression();
    if (first.text == "null" || first.text == "true" || first.text == "false") {
      ExpressionPtr literal = node(Form::literal, take().span);
      literal->type = {TypeKind::boolean, 0};
      if (first.text != "null") literal->value = Value::of(static_cast<int128>(first.text == "true"));
      return literal;
    }
    if ((first.text == "date" || first.text == "datetime" || first.text == "time") && is_text(1)) return moment();
    if (first.text == "let" && is("(", 1)) not_yet("`let`");
    if (!is("(", 1)) {
      static constexpr std::array never{"and", "or", "then", "else",    "end",  "when",
                                        "for", "in", "is",   "between", "where"};
      if (among(first.text, never)) {
        fail(first.span, "JR-110", fmt::format("an expression was expected, found '{}'", first.text),
             "a name like this stands in backticks: `" + first.text + "`");
      }
      return nullptr;
    }
    if (among(first.text, later_aggregates)) not_yet(fmt::format("`{}`", first.text));
    if (among(first.text, aggregate_words)) return aggregate();
    take();
    take();
    ExpressionPtr call = node(Form::call, first.span);
    call->word = first.text;
    call->word_span = first.span;
    if (!is(")")) {
      do call->children.push_back(expression());
      while (accept(","));
    }
    expect(")", "after the arguments");
    call->span = since(first.span);
    return call;
  }

  ExpressionPtr moment() {
    const Token word = take();
    const Token written = take();
    const TypeKind kind =
        word.text == "date" ? TypeKind::date : (word.text == "datetime" ? TypeKind::datetime : TypeKind::time);
    ExpressionPtr literal = node(Form::literal, since(word.span));
    literal->type = {kind, 0};
    const auto value = parse_value(written.text, literal->type);
    if (!value) {
      fail(written.span, "JR-106", fmt::format("{} is not a {}", written_text(written.text), word.text),
           "write date \"2025-03-01\", datetime \"2025-03-01 08:30:00\" or time \"08:30:00\"");
    }
    literal->value = *value;
    return literal;
  }

  ExpressionPtr if_expression() {
    const Token word = take();
    ExpressionPtr result = node(Form::cases, word.span);
    result->word = "if";
    result->word_span = word.span;
    result->children.push_back(expression());
    expect("then", "after the condition");
    result->children.push_back(expression());
    result->children.push_back(accept("else") ? expression() : nullptr);
    result->span = since(word.span);
    return result;
  }

  ExpressionPtr case_expression() {
    const Token word = take();
    ExpressionPtr result = node(Form::cases, word.span);
    result->word = "case";
    result->word_span = word.span;
    const Span subject_span = token().span;
    ExpressionPtr subject;
    const std::size_t subject_at = at_;
    if (!is("when")) subject = expression();
    if (!is("when")) fail(token().span, "JR-110", fmt::format("`when` was expected in `case`, found {}", found()));
    while (accept("when")) {
      ExpressionPtr condition = expression();
      if (subject) {
        // The simple form is the searched one with `=`; the subject is read again for each branch.
        const std::size_t here = std::exchange(at_, subject_at);
        ExpressionPtr again = expression();
        at_ = here;
        auto equals = node(Form::binary, condition->span);
        equals->word = "=";
        equals->word_span = subject_span;
        equals->children.push_back(std::move(again));
        equals->children.push_back(std::move(condition));
        condition = std::move(equals);
      }
      result->children.push_back(std::move(condition));
      expect("then", "after the condition");
      result->children.push_back(expression());
    }
    result->children.push_back(accept("else") ? expression() : nullptr);
    expect("end", "to close `case`");
    result->span = since(word.span);
    return result;
  }

  ExpressionPtr aggregate() {
    const Token word = take();
    take();
    ExpressionPtr result = node(Form::aggregate, word.span);
    result->word = word.text;
    result->word_span = word.span;
    if (word.text == "count" && !is("distinct") && !has_for()) {
      result->rows = rows();
    } else {
      if (is("distinct")) {
        if (word.text != "count") {
          fail(token().span, "JR-117", fmt::format("`distinct` goes with count, not with {}", word.text));
        }
        take();
        result->distinct = true;
      }
      result->children.push_back(expression());
      if (!is("for")) {
        fail(token().span, "JR-118",
             fmt::format("{} needs the rows to go over: `for` was expected, found {}", word.text, found()),
             word.text == "min" || word.text == "max"
                 ? fmt::format("write {}(… for TABLE); the {} of several values is {}(a, b)", word.text,
                               word.text == "min" ? "smallest" : "largest", word.text == "min" ? "least" : "greatest")
                 : fmt::format("write {}(… for TABLE)", word.text));
      }
      take();
      result->rows = rows();
    }
    expect(")", "after the rows of the aggregate");
    result->span = since(word.span);
    return result;
  }

  // True if a `for` stands before the bracket that is open here closes: count(x for t) against count(t).
  bool has_for() const {
    int open = 0;
    for (std::size_t ahead = 0; token(ahead).kind != TokenKind::end; ++ahead) {
      if (is("for", ahead) && open == 0) return true;
      if (is("(", ahead)) ++open;
      if (is(")", ahead) && --open < 0) return false;
    }
    return false;
  }

  std::unique_ptr<syntax::Rows> rows() {
    auto rows = std::make_unique<syntax::Rows>();
    const Span begin = token().span;
    if (is_any(later_rows) && !is("in", 1) &&
        (is("(", 1) || token(1).kind == TokenKind::name || token(1).kind == TokenKind::number ||
         token().text == "rows")) {
      not_yet(fmt::format("`{}` as a set of rows", token().text));
    }
    syntax::Name first = name("a table");
    if (is(".")) {
      fail(token().span, "JR-118", fmt::format("rows come from a table; `{}.…` is a column", first.text),
           fmt::format("write count(distinct {}.COLUMN for TABLE), or count({})", first.text, first.text));
    }
    if (accept("in")) {
      rows->variable = std::move(first);
      rows->table = name("a table");
    } else {
      rows->table = std::move(first);
    }
    if (is_any(later_modifiers) || is("sorted")) not_yet(fmt::format("`{}` after the rows", token().text));
    if (accept("where")) rows->where = expression();
    rows->span = since(begin);
    return rows;
  }

  const Sources& sources_;
  Diagnostics& diagnostics_;
  std::vector<Token> tokens_;
  std::size_t at_ = 0;
  int depth_ = 0;
};

}  // namespace

syntax::Model parse_model(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Parser(sources, file, diagnostics).model();
}

syntax::Query parse_query(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Parser(sources, file, diagnostics).query_text();
}

syntax::ExpressionPtr parse_expression(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Parser(sources, file, diagnostics).expression_text();
}

}  // namespace juniper::language
