// Expressions, and what changes the slice of a measure.
#include "language/parser_core.h"

namespace juniper::language {

ExpressionPtr Parser::expression_text() {
  try {
    ExpressionPtr result = expression();
    if (!at_end()) fail(token().span, "JR-110", fmt::format("the expression should end before {}", found()));
    return result;
  } catch (const Abandon&) {
    return nullptr;
  }
}

ExpressionPtr Parser::expression() {
  const Deeper deeper(*this);
  const std::size_t outer = std::exchange(expression_begin_, at_);
  ExpressionPtr left = and_term();
  while (is("or")) {
    const Token word = take();
    left = operation(Form::binary, word, std::move(left), and_term());
  }
  expression_begin_ = outer;
  return left;
}

ExpressionPtr Parser::and_term() {
  ExpressionPtr left = not_term();
  while (is("and")) {
    const Token word = take();
    left = operation(Form::binary, word, std::move(left), not_term());
  }
  return left;
}

ExpressionPtr Parser::not_term() {
  if (!is("not")) return comparison();
  const Deeper deeper(*this);
  const Token word = take();
  return operation(Form::unary, word, not_term());
}

ExpressionPtr Parser::comparison() {
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

ExpressionPtr Parser::is_test(ExpressionPtr left) {
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

ExpressionPtr Parser::membership(ExpressionPtr left, bool negated) {
  const Token word = take();
  expect("(", "after `in`");
  const Bracket bracket(*this);
  ExpressionPtr in = operation(Form::in, word, std::move(left));
  do in->children.push_back(expression());
  while (accept(","));
  expect(")", "after the list");
  in->negated = negated;
  in->span = since(in->span);
  return in;
}

ExpressionPtr Parser::sum() {
  ExpressionPtr left = product();
  while (is("+") || is("-") || is("||")) {
    const Token word = take();
    left = operation(Form::binary, word, std::move(left), product());
  }
  return left;
}

ExpressionPtr Parser::product() {
  ExpressionPtr left = factor();
  while (is("*") || is("/") || is("div") || is("mod")) {
    const Token word = take();
    left = operation(Form::binary, word, std::move(left), factor());
  }
  return left;
}

ExpressionPtr Parser::factor() {
  const Deeper deeper(*this);
  if (is("-")) {
    const Token word = take();
    return operation(Form::unary, word, factor());
  }
  const std::size_t begin = at_;
  ExpressionPtr result = primary();
  if (at_modifier()) return modified(std::move(result), begin);
  return result;
}

ExpressionPtr Parser::primary() {
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

ExpressionPtr Parser::bracketed() {
  const Span begin = take().span;
  const Bracket bracket(*this);
  ExpressionPtr inner = expression();
  expect(")", "to close the bracket");
  inner->span = since(begin);
  inner->bracketed = true;
  return inner;
}

// An expression that begins with a word of the language; null when the word is just a name.
ExpressionPtr Parser::word_expression() {
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
  if (first.text == "let" && is("(", 1)) return let_expression();
  if (!is("(", 1)) {
    static constexpr std::array never{"and", "or", "then", "else",    "end",  "when",
                                      "for", "in", "is",   "between", "where"};
    if (among(first.text, never)) {
      fail(first.span, "JR-110", fmt::format("an expression was expected, found '{}'", first.text),
           "a name like this stands in backticks: `" + first.text + "`");
    }
    return nullptr;
  }
  if (among(first.text, aggregate_words)) return aggregate();
  take();
  take();
  const Bracket bracket(*this);
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

ExpressionPtr Parser::moment() {
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

ExpressionPtr Parser::if_expression() {
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

ExpressionPtr Parser::case_expression() {
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

// True where a word stands that changes the slice of the measure before it. In a query's clauses `where` begins a
// clause of its own, and a word that begins a line of a model may begin a declaration.
bool Parser::at_modifier() const {
  if (is("where")) return !(clauses_ && brackets_ == 0);
  const bool declares = token().starts_line && (is("=", 1) || is_type(1));
  return is_any(modifier_words) && !declares;
}

// `m of s via role through table across … during … where …`. What is modified is one name or something in brackets, and stands
// alone: in `a / b across c` nobody can see what `across` takes.
ExpressionPtr Parser::modified(ExpressionPtr operand, std::size_t begin) {
  const Token word = token();
  const bool whole = operand->bracketed || (operand->form == Form::path && operand->path.parts.size() == 1);
  if (!whole || begin != expression_begin_) {
    const std::string before(sources_.text({word.span.file, tokens_[expression_begin_].span.begin, last_end()}));
    const std::string last(sources_.text({word.span.file, tokens_[begin].span.begin, last_end()}));
    const std::string first = before.substr(0, before.size() - last.size());
    std::string fix = fmt::format("write ({}) {} …", before, word.text);
    if (!first.empty() && begin != expression_begin_)
      fix = fmt::format("write {}({} {} …) or ({}) {} …", first, last, word.text, before, word.text);
    fail(word.span, "JR-119",
         fmt::format("`{}` changes the slice of one name or of something in brackets, and here it is not plain how "
                     "much it takes",
                     word.text),
         fix);
  }
  ExpressionPtr result = node(Form::modified, operand->span);
  result->word = word.text;
  result->word_span = word.span;
  result->height = operand->height + 1;
  result->children.push_back(std::move(operand));
  result->modifiers = std::make_unique<syntax::Modifiers>();
  syntax::Modifiers& m = *result->modifiers;
  if (accept("of")) m.of = name("a row's name, or `slice`,");
  if (accept("via")) m.via = name("a role");
  if (accept("through")) m.through = name("a table");
  if (is("across")) m.across = across();
  if (is("during")) m.during = during();
  if (at_modifier() && accept("where")) {
    m.where = expression();
    result->height = std::max(result->height, m.where->height + 1);
  }
  if (at_modifier()) {
    fail(token().span, "JR-119", fmt::format("`{}` stands out of order here", token().text),
         "each at most once, in this order: of, via, through, across, during, where; or in brackets of their own");
  }
  result->span = since(result->span);
  return result;
}

// What `across` drops, after the word. A list of more than one stands in brackets.
syntax::Across Parser::across() {
  const Token word = take();
  syntax::Across across;
  if (accept("everything")) {
    across.everything = true;
    if (is("but") && !is("=", 1)) {
      take();
      across.items = path_list();
    }
  } else {
    across.items = path_list();
  }
  across.span = since(word.span);
  return across;
}

std::vector<syntax::Path> Parser::path_list() {
  std::vector<syntax::Path> paths;
  if (accept("(")) {
    do paths.push_back(path("a column, table or role"));
    while (accept(","));
    expect(")", "after the list");
  } else {
    paths.push_back(path("a column, table or role"));
  }
  return paths;
}

syntax::DuringClause Parser::during() {
  static constexpr std::array<std::pair<std::string_view, syntax::During>, 6> words{
      {{"to_date", syntax::During::to_date},
       {"whole", syntax::During::whole},
       {"previous", syntax::During::previous},
       {"next", syntax::During::next},
       {"shift", syntax::During::shift},
       {"trailing", syntax::During::trailing}}};
  const Span begin = take().span;
  const auto* const word = std::find_if(words.begin(), words.end(), [this](const auto& w) { return is(w.first); });
  if (word == words.end()) {
    fail(token().span, "JR-110", fmt::format("a period was expected after `during`, found {}", found()),
         "the periods are to_date(unit), whole(unit), previous(unit), next(unit), shift(n unit), trailing(n unit)");
  }
  take();
  syntax::DuringClause clause;
  clause.kind = word->second;
  expect("(", "after the period's word");
  if (clause.kind == syntax::During::shift || clause.kind == syntax::During::trailing) {
    const bool negative = accept("-");
    const Token number = token();
    if (number.kind != TokenKind::number || number.type.kind != TypeKind::integer || number.value.exact() > 100'000) {
      fail(number.span, "JR-110", fmt::format("a whole number was expected before the unit, found {}", found()),
           fmt::format("write {}(1 month)", word->first));
    }
    take();
    clause.count = static_cast<std::int64_t>(number.value.exact()) * (negative ? -1 : 1);
    if (clause.kind == syntax::During::trailing && clause.count < 1)
      fail(number.span, "JR-110", "trailing takes a number of at least 1");
  }
  clause.unit = name("a unit: day, week, month, quarter or year");
  expect(")", "after the unit");
  clause.span = since(begin);
  return clause;
}

syntax::Path Parser::path(std::string_view what) {
  syntax::Path path;
  const Span begin = token().span;
  path.parts.push_back(name(what));
  while (accept(".")) path.parts.push_back(name("a name after the point"));
  path.span = since(begin);
  return path;
}

}  // namespace juniper::language
