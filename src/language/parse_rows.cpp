// Sets of rows, and what aggregates over them.
#include "language/parser_core.h"

namespace juniper::language {

// ROWS: what stands behind `for`, in count( ) and exists( ).
syntax::RowsPtr Parser::rows() {
  const Deeper deeper(*this);
  syntax::RowsPtr result = rows_source();
  // `of … via … across …` say what is seen of a table, in this order; then come the steps over what is seen.
  int stage = 0;
  const auto in_order = [&](int next) {
    if (next <= stage) {
      fail(token().span, "JR-119", fmt::format("`{}` stands out of order here", token().text),
           "the order is: TABLE of … via … across … where …; or put what comes before in brackets");
    }
    stage = next;
  };
  while (true) {
    const Token word = token();
    if (is("of")) {
      in_order(1);
      result = rows_step(syntax::RowsForm::linked, std::move(result));
      result->name = name("the name of a row");
    } else if (is("via")) {
      in_order(2);
      result = rows_step(syntax::RowsForm::routed, std::move(result));
      result->name = name("a role");
    } else if (is("across")) {
      in_order(3);
      syntax::Across dropped = across();
      result = rows_over(syntax::RowsForm::across, std::move(result), word);
      result->across = std::move(dropped);
    } else if (is("where") && !(clauses_ && brackets_ == 0)) {
      stage = 4;
      result = rows_step(syntax::RowsForm::filtered, std::move(result));
      result->condition = expression();
    } else if (is("with") && !(clauses_ && brackets_ == 0)) {
      stage = 4;
      result = rows_step(syntax::RowsForm::extended, std::move(result));
      result->items = assignments();
    } else if (is("sorted") && is("by", 1)) {
      stage = 4;
      result = rows_step(syntax::RowsForm::sorted, std::move(result));
      take();
      result->keys = sort_keys();
    } else {
      return result;
    }
    result->span = since(result->span);
  }
}

syntax::RowsPtr Parser::rows_over(syntax::RowsForm form, syntax::RowsPtr input, const Token& at) {
  auto result = std::make_unique<syntax::Rows>();
  result->form = form;
  result->span = input ? input->span : at.span;
  result->height = input ? input->height + 1 : 1;
  if (result->height > deepest)
    fail(at.span, "JR-116", fmt::format("these rows are made in more than {} steps", deepest), "use fewer");
  result->input = std::move(input);
  return result;
}

syntax::RowsPtr Parser::rows_step(syntax::RowsForm form, syntax::RowsPtr input) {
  const Token word = take();
  return rows_over(form, std::move(input), word);
}

// True at a word that begins a set of rows rather than naming one.
bool Parser::at_rows_word() const {
  if (is("distinct") || is("union") || is("except") || is("intersect")) return is("(", 1);
  if (is("top")) return token(1).kind == TokenKind::number;
  return is("group") && (token(1).kind == TokenKind::name || token(1).kind == TokenKind::quoted_name || is("(", 1)) &&
         !is_any_at(rows_step_words, 1);
}

syntax::RowsPtr Parser::rows_source() {
  const Token first = token();
  if (accept("(")) {
    const Bracket bracket(*this);
    syntax::RowsPtr inner = rows();
    expect(")", "to close the bracket");
    inner->span = since(first.span);
    return inner;
  }
  if (at_rows_word()) {
    if (first.text == "distinct") return distinct_rows();
    if (first.text == "group") return grouped_rows();
    if (first.text == "top") return top_rows();
    return combined_rows();
  }
  syntax::RowsPtr result = rows_over(syntax::RowsForm::named, nullptr, first);
  result->name = name("a table or another set of rows");
  if (is(".")) {
    fail(token().span, "JR-118", fmt::format("rows come from a table; `{}.…` is a column", result->name.text),
         fmt::format("its different values are rows too: distinct({}.COLUMN)", result->name.text));
  }
  return result;
}

syntax::RowsPtr Parser::distinct_rows() {
  const Token word = take();
  take();
  const Bracket bracket(*this);
  syntax::RowsPtr result = rows_over(syntax::RowsForm::distinct, nullptr, word);
  do {
    syntax::NamedExpression item;
    item.expression = node(Form::path, token().span);
    item.expression->path = path("a column");
    item.expression->span = item.expression->path.span;
    if (accept("as")) item.name = name("a name for the column");
    result->items.push_back(std::move(item));
  } while (accept(","));
  if (accept("for")) {
    result->input = rows();
    result->height = result->input->height + 1;
  }
  expect(")", "after the columns of distinct");
  result->span = since(word.span);
  return result;
}

syntax::RowsPtr Parser::grouped_rows() {
  const Token word = take();
  syntax::RowsPtr input = rows();
  syntax::RowsPtr result = rows_over(syntax::RowsForm::grouped, std::move(input), word);
  expect("by", "after the rows to group");
  const auto item = [&] {
    syntax::NamedExpression key;
    key.expression = expression();
    if (accept("as")) key.name = name("a name for the key");
    result->items.push_back(std::move(key));
  };
  if (accept("(")) {
    const Bracket bracket(*this);
    do item();
    while (accept(","));
    expect(")", "after the keys");
  } else {
    item();
  }
  if (is("with") && !(clauses_ && brackets_ == 0)) {
    take();
    result->results = assignments();
  }
  result->span = since(word.span);
  return result;
}

syntax::RowsPtr Parser::top_rows() {
  const Token word = take();
  const Token number = take();
  if (number.type.kind != TypeKind::integer || number.value.exact() < 1 || number.value.exact() > 1'000'000'000)
    fail(number.span, "JR-110", "top takes a whole number of rows, at least 1");
  syntax::RowsPtr result = rows_over(syntax::RowsForm::top, rows(), word);
  result->count = static_cast<std::uint64_t>(number.value.exact());
  expect("by", "after the rows of top");
  syntax::SortKey key;
  key.expression = expression();
  key.descending = !accept("asc");
  if (key.descending) accept("desc");
  result->keys.push_back(std::move(key));
  result->span = since(word.span);
  return result;
}

syntax::RowsPtr Parser::combined_rows() {
  const Token word = take();
  take();
  const Bracket bracket(*this);
  syntax::RowsPtr input = rows();
  syntax::RowsPtr result =
      rows_over(word.text == "union" ? syntax::RowsForm::unite
                                     : (word.text == "except" ? syntax::RowsForm::except : syntax::RowsForm::intersect),
                std::move(input), word);
  expect(",", "between the two sets of rows");
  result->other = rows();
  result->height = std::max(result->height, result->other->height + 1);
  expect(")", "after the two sets of rows");
  result->span = since(word.span);
  return result;
}

// `n = e`, or several in brackets.
std::vector<syntax::NamedExpression> Parser::assignments() {
  std::vector<syntax::NamedExpression> items;
  const auto item = [&] {
    syntax::NamedExpression one;
    one.name = name("a name");
    expect("=", "after the name");
    one.expression = expression();
    items.push_back(std::move(one));
  };
  if (accept("(")) {
    const Bracket bracket(*this);
    do item();
    while (accept(","));
    expect(")", "after the list");
  } else {
    item();
  }
  return items;
}

// `k [asc|desc]`, or several in brackets.
std::vector<syntax::SortKey> Parser::sort_keys() {
  std::vector<syntax::SortKey> keys;
  const auto item = [&] {
    syntax::SortKey key;
    key.expression = expression();
    key.descending = accept("desc");
    if (!key.descending) accept("asc");
    keys.push_back(std::move(key));
  };
  if (is("(") && list_in_brackets()) {
    take();
    const Bracket bracket(*this);
    do item();
    while (accept(","));
    expect(")", "after the keys");
  } else {
    item();
  }
  return keys;
}

// True if the bracket that opens here holds a list: a comma, or an order, at its own depth.
bool Parser::list_in_brackets() const {
  int open = 0;
  for (std::size_t ahead = 0; token(ahead).kind != TokenKind::end; ++ahead) {
    if (is("(", ahead)) ++open;
    if (is(")", ahead) && --open == 0) return false;
    if (open == 1 && (is(",", ahead) || is("desc", ahead) || is("asc", ahead))) return true;
  }
  return false;
}

ExpressionPtr Parser::aggregate() {
  const Token word = take();
  take();
  const Bracket bracket(*this);
  ExpressionPtr result = node(Form::aggregate, word.span);
  result->word = word.text;
  result->word_span = word.span;
  const auto argument = [&] {
    result->children.push_back(expression());
    result->height = std::max(result->height, result->children.back()->height + 1);
  };
  if (word.text == "exists" || (word.text == "count" && !has_for())) {
    aggregate_rows(*result);
  } else {
    if (is("distinct")) {
      if (word.text != "count") {
        fail(token().span, "JR-117", fmt::format("`distinct` goes with count, not with {}", word.text));
      }
      take();
      result->distinct = true;
    }
    argument();
    if (word.text == "rank") {
      expect("among", "between the value and those that it is ranked among");
      argument();
    }
    if ((word.text == "quantile" || word.text == "list") && accept(",")) argument();
    if ((word.text == "first" || word.text == "last") && accept("by")) result->keys = sort_keys();
    expect_for(word);
    aggregate_rows(*result);
    if (word.text == "rank") {
      result->descending = accept("desc");
      if (!result->descending) accept("asc");
      result->dense = accept("dense");
    }
  }
  expect(")", "after the rows of the aggregate");
  result->span = since(word.span);
  return result;
}

void Parser::aggregate_rows(Expression& aggregate) {
  if (is_name() && is("in", 1)) {
    aggregate.variable = name("a row's name");
    take();
  }
  aggregate.rows = rows();
  aggregate.height = std::max(aggregate.height, aggregate.rows->height + 1);
}

void Parser::expect_for(const Token& word) {
  if (accept("for")) return;
  fail(token().span, "JR-118",
       fmt::format("{} needs the rows to go over: `for` was expected, found {}", word.text, found()),
       word.text == "min" || word.text == "max"
           ? fmt::format("write {}(… for TABLE); the {} of several values is {}(a, b)", word.text,
                         word.text == "min" ? "smallest" : "largest", word.text == "min" ? "least" : "greatest")
           : fmt::format("write {}(… for TABLE)", word.text));
}

// True if a `for` stands before the bracket that is open here closes: count(x for t) against count(t).
bool Parser::has_for() const {
  int open = 0;
  for (std::size_t ahead = 0; token(ahead).kind != TokenKind::end; ++ahead) {
    if (is("for", ahead) && open == 0) return true;
    if (is("(", ahead)) ++open;
    if (is(")", ahead) && --open < 0) return false;
  }
  return false;
}

// What stands behind a name of `let`: rows where a word says so, else an expression, a set of rows, or text that reads
// as either, like `sessions where …`; the checker knows what is a table.
void Parser::let_meaning(syntax::LetName& item) {
  if (at_rows_word()) {
    item.rows = rows();
    return;
  }
  // Each level that is read twice doubles the work of those within.
  constexpr int most_trials = 6;
  if (trials_ == most_trials) {
    item.expression = expression();
    return;
  }
  const int outer = trials_++;
  const std::size_t begin = at_;
  const std::size_t errors = diagnostics_.size();
  const int depth = depth_;
  const int brackets = brackets_;
  const auto ends = [&] { return is(",") || is(")"); };
  try {
    syntax::RowsPtr set = rows();
    if (ends()) item.rows = std::move(set);
  } catch (const Abandon&) {
  }
  diagnostics_.resize(errors);
  const std::size_t end = std::exchange(at_, begin);
  depth_ = depth;
  brackets_ = brackets;
  try {
    item.expression = expression();
    trials_ = outer;
    if (ends() || !item.rows) return;
  } catch (const Abandon&) {
    trials_ = outer;
    if (!item.rows) throw;
  }
  // It reads as rows alone.
  diagnostics_.resize(errors);
  depth_ = depth;
  brackets_ = brackets;
  item.expression = nullptr;
  at_ = end;
}

ExpressionPtr Parser::let_expression() {
  const Token word = take();
  ExpressionPtr result = node(Form::let, word.span);
  result->word = word.text;
  result->word_span = word.span;
  expect("(", "after `let`");
  {
    const Bracket bracket(*this);
    do {
      syntax::LetName item;
      item.name = name("a name");
      expect("=", "after the name");
      let_meaning(item);
      result->lets.push_back(std::move(item));
    } while (accept(","));
    expect(")", "after the names of `let`");
  }
  result->children.push_back(expression());
  result->height = result->children.back()->height + 1;
  result->span = since(word.span);
  return result;
}

}  // namespace juniper::language
