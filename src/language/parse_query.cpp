// Queries: their clauses, in any order, each at most once.
#include "base/duration.h"
#include "base/exact.h"
#include "language/parser_core.h"

namespace juniper::language {

syntax::Query Parser::query_text() {
  syntax::Query query;
  try {
    query_clauses(query);
    if (!at_end())
      fail(token().span, "JR-110", fmt::format("a clause of a query was expected, found {}", found()),
           "the clauses are by, show, where, having, total, sort, limit, keep empty, from, with measure");
  } catch (const Abandon&) {
  }
  return query;
}

void Parser::query(syntax::Model& model) {
  const Span begin = take().span;
  const syntax::Name query_name = name("the query's name");
  begin_definition(DefinitionKind::query, query_name, begin);
  std::string title;
  if (is_text()) title = take().text;
  const std::int64_t budget = is("within") ? query_budget() : 0;
  expect("{", "before the query's clauses");
  syntax::Query query;
  query_clauses(query);
  mark(Mark::close);
  query.name = query_name;
  query.title = std::move(title);
  query.budget_nanoseconds = budget;
  if (!is("}")) {
    fail(token().span, "JR-110", fmt::format("a clause of the query or '}}' was expected, found {}", found()),
         is_name() ? base::did_you_mean(token().text, {clause_words.begin(), clause_words.end()}) : "");
  }
  take();
  model.queries.push_back(std::move(query));
}

// within 50 ms
std::int64_t Parser::query_budget() {
  take();
  const Token number = take();
  const auto unit = base::nanoseconds_in(token().text);
  const bool positive = number.kind == TokenKind::number && number.type.is_exact_number() && number.value.exact() > 0;
  if (!positive || !unit) {
    fail(number.span, "JR-121", "a query's time is a number and one of us, ms, s", "write: within 50 ms");
  }
  take();
  const int128 nanoseconds = number.value.exact() * *unit / base::power_of_ten(number.type.scale);
  if (!base::fits_int64(nanoseconds))
    fail(number.span, "JR-121", "a query can't be given that long", "write: within 50 ms");
  return static_cast<std::int64_t>(nanoseconds);
}

void Parser::query_clauses(syntax::Query& query) {
  const Span begin = token().span;
  std::vector<std::string> seen;
  clauses_ = true;
  while (is_any(clause_words)) {
    mark(Mark::clause);
    const Token word = take();
    if (word.text == "with") {
      measure_draft(query);
      continue;
    }
    if (among(word.text, seen)) {
      const bool is_condition = word.text == "where" || word.text == "having";
      fail(word.span, "JR-114", fmt::format("this query has a second `{}`", word.text),
           is_condition ? "join the conditions with `and`" : "write one list, with commas");
    }
    seen.push_back(word.text);
    query_clause(query, word.text);
  }
  clauses_ = false;
  query.span = since(begin);
}

void Parser::query_clause(syntax::Query& query, const std::string& word) {
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
  } else if (word == "having") {
    query.having = expression();
  } else if (word == "keep") {
    expect("empty", "after `keep`");
    query.keep_empty = true;
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

// `with measure revenue = …`: another definition for this query alone. Several may follow each other.
void Parser::measure_draft(syntax::Query& query) {
  if (!is("measure")) {
    fail(token().span, "JR-110", fmt::format("`with measure` was expected, found {}", found()),
         "a query's draft: with measure NAME = EXPRESSION");
  }
  syntax::Model drafts;
  measure(drafts, token().span, false);
  query.drafts.push_back(std::move(drafts.measures.front()));
}

syntax::ByItem Parser::by_item() {
  syntax::ByItem item{expression(), std::nullopt};
  if (accept("as")) item.alias = name("a name for the key");
  return item;
}

syntax::ShowItem Parser::show_item() {
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

syntax::TotalItem Parser::total_item() {
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

syntax::SortItem Parser::sort_item() {
  syntax::SortItem item{path("a column or measure of the query"), false};
  if (accept("desc")) {
    item.descending = true;
  } else {
    accept("asc");
  }
  return item;
}

}  // namespace juniper::language
