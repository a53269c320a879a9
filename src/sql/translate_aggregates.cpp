// Aggregates: parts of the statement, and the look-ups that read them.
#include <fmt/format.h>

#include <algorithm>

#include "sql/aliases.h"
#include "sql/translator.h"

namespace juniper::sql_engine {

using namespace language;

std::map<std::string, std::string> inner_values(const RowsSql& rows) {
  std::map<std::string, std::string> inner;
  for (const Bound& bound : rows.bound) inner.emplace(bound.outer, bound.inner);
  return inner;
}

// Makes a part of the rows: grouped, it holds `words` (an aggregate of x) for each combination of what the look-up
// compares; ranked, x and its rank (`words` and `order`) among those. Nothing when FROM itself depends on rows around,
// or when what is asked for can't be told by the rows' own columns.
std::optional<Translator::View> Translator::view(const RowsSql& rows, const std::vector<std::string>& values,
                                                 Shape shape, const std::string& words, const std::string& order) {
  const std::string from = from_text(*rows.from);
  if (!open_columns(from).empty()) return std::nullopt;
  const std::set<std::string> own = defined_aliases(from);
  const std::map<std::string, std::string> inner = inner_values(rows);
  const auto is_own = [&](const std::string& text) {
    const auto columns = open_columns(text);
    return std::all_of(columns.begin(), columns.end(),
                       [&](const std::string& column) { return own.contains(alias_of(column)); });
  };

  View view;
  view.shape = shape;
  view.alias = next_alias();
  std::vector<std::string> columns;         // of the part, by place
  std::map<std::string, std::string> read;  // how the look-up reads an expression over the rows
  const auto column_of = [&](const std::string& expression) {
    const auto [known, added] = read.try_emplace(expression, fmt::format("{}.c{}", view.alias, columns.size()));
    if (added) columns.push_back(expression);
    return known->second;
  };
  // What rests on rows around is left to the look-up: the part holds the columns that it reads.
  const auto left = [&](const std::string& text) {
    std::map<std::string, std::string> others;
    for (const std::string& column : open_columns(text)) {
      if (own.contains(alias_of(column))) others.emplace(column, column_of(column));
    }
    return substituted(text, others);
  };

  std::vector<std::string> where;
  for (const Bound& bound : rows.bound) {
    const bool whole = is_own(bound.inner);
    view.is_split = view.is_split || !whole;
    const std::string mine = whole ? column_of(bound.inner) : left(bound.inner);
    view.where.push_back(bound.nulls_meet ? dialect_.same(mine, bound.outer)
                                          : fmt::format("{} = {}", mine, bound.outer));
  }
  for (const std::string& condition : rows.where) {
    const std::string text = substituted(condition, inner);
    if (is_own(text)) {
      where.push_back(text);
    } else {
      view.is_split = true;
      view.where.push_back(left(condition));
    }
  }
  std::string beside;
  if (rows.days) {
    view.is_split = true;
    beside = rows.days->source + ", ";
    view.where.insert(view.where.end(), rows.days->where.begin(), rows.days->where.end());
    view.where.push_back(fmt::format("{} = {}", column_of(rows.days->day.inner), rows.days->day.outer));
  }
  std::string x;
  for (const std::string& value : values) {
    const std::string text = substituted(value, inner);
    if (shape == Shape::grouped || shape == Shape::ranked) {
      if (!is_own(text)) return std::nullopt;
      x = text;
    } else {
      view.values.push_back(is_own(text) ? column_of(text) : left(value));
    }
  }
  const std::string names = column_names(columns);
  const std::string selected = named_columns(columns);
  const std::string source = fmt::format("FROM {}{}", from, where_text(where));
  std::string part;
  switch (shape) {
    case Shape::rows:
    case Shape::distinct:
      part = parts_.add(fmt::format("SELECT {}{} {}", shape == Shape::distinct ? "DISTINCT " : "",
                                    columns.empty() ? "1 AS one" : selected, source));
      break;
    case Shape::grouped: {
      const Parts::Aggregated aggregated = parts_.add(columns, source, x, words);
      part = aggregated.part;
      view.values.push_back(view.alias + "." + aggregated.column);
      break;
    }
    case Shape::ranked: {
      const std::string comma = columns.empty() ? "" : ", ";
      part = parts_.add(fmt::format(
          "SELECT {0}{1}x, {2} OVER ({3}{4}) AS place FROM (SELECT {5}{1}{6} AS x {7}) q WHERE x IS NOT NULL", names,
          comma, words, columns.empty() ? "" : fmt::format("PARTITION BY {} ", names), order, selected, x, source));
      break;
    }
  }
  view.source = fmt::format("{}{} {}", beside, part, view.alias);
  return view;
}

std::pair<std::string, std::vector<std::string>> Translator::read(const RowsSql& rows,
                                                                  const std::vector<std::string>& values) {
  if (const auto part = view(rows, values, Shape::rows))
    return {fmt::format("FROM {}{}", part->source, where_text(part->where)), part->values};
  return {fmt::format("FROM {}{}", from_text(*rows.from), where_text(conditions(rows))), values};
}

// What is aggregated is always computed in a subquery of its own: an aggregate over nothing but outer columns would
// else be taken for one of the query around.
std::string Translator::aggregated(const RowsSql& rows, const std::string& x, const Aggregation& aggregation) {
  const auto finite = [&](const std::string& result) {
    return aggregation.may_leave_finite ? dialect_.finite(result) : result;
  };
  using Merge = Aggregation::Merge;
  if (const auto part = view(rows, {x}, Shape::grouped, aggregation.whole);
      part && (!part->is_split || aggregation.merge != Merge::none)) {
    const std::string rows_text = fmt::format("FROM {}{}", part->source, where_text(part->where));
    std::string text;
    if (part->is_split) {
      const std::string merged = aggregation.merge == Merge::same ? aggregation.whole : "SUM(x)";
      text = fmt::format("(SELECT {} FROM (SELECT {} AS x {}) q)", finite(merged), part->values[0], rows_text);
    } else {
      text = fmt::format("(SELECT {} {})", finite(part->values[0]), rows_text);
    }
    return aggregation.counts ? fmt::format("coalesce({}, 0)", text) : text;
  }
  const auto [rows_text, values] = read(rows, {x});
  return fmt::format("(SELECT {} FROM (SELECT {} AS x {}) q)", finite(aggregation.whole), values[0], rows_text);
}

std::string Translator::aggregate(const Node& node, const Scope& scope) {
  const RowsSql rows = this->rows(node.rows, scope);
  const Scope inner = inside(scope, rows.row);
  std::vector<std::string> x;
  for (std::size_t i = 0; i < node.children.size(); ++i) {
    const bool outside = node.aggregate == Aggregate::rank && i == 0;
    x.push_back(value(node.children[i], outside ? scope : inner));
  }
  using Merge = Aggregation::Merge;
  const bool real = node.type.kind == TypeKind::real;
  switch (node.aggregate) {
    case Aggregate::first:
    case Aggregate::last:
      return edge(node, rows, x);
    case Aggregate::list:
      return list(node, rows, x[0]);
    case Aggregate::exists:
      return exists(rows);
    case Aggregate::rank:
      return rank(node, rows, x[0], x[1]);
    case Aggregate::row_count:
      return aggregated(rows, "1", {"COUNT(*)", Merge::sum, true});
    case Aggregate::count:
      return aggregated(rows, x[0], {dialect_.aggregate_of_x(node), Merge::sum, true});
    case Aggregate::count_distinct:
      return aggregated(rows, x[0], {dialect_.aggregate_of_x(node), Merge::none, true});
    case Aggregate::sum:
      return aggregated(rows, x[0], {dialect_.aggregate_of_x(node), Merge::same, false, real});
    case Aggregate::min:
    case Aggregate::max:
    case Aggregate::any:
    case Aggregate::every:
      return aggregated(rows, x[0], {dialect_.aggregate_of_x(node), Merge::same});
    case Aggregate::avg:
    case Aggregate::product:
    case Aggregate::stddev:
    case Aggregate::variance:
    case Aggregate::stddev_pop:
    case Aggregate::variance_pop:
      return aggregated(rows, x[0], {dialect_.aggregate_of_x(node), Merge::none, false, real});
    case Aggregate::median:
    case Aggregate::quantile:
    case Aggregate::only:
      return aggregated(rows, x[0], {dialect_.aggregate_of_x(node)});
  }
  return "NULL";
}

std::string Translator::exists(const RowsSql& rows) {
  if (const auto part = view(rows, {}, Shape::distinct))
    return fmt::format("EXISTS (SELECT 1 FROM {}{})", part->source, where_text(part->where));
  return fmt::format("EXISTS (SELECT 1 FROM {}{})", from_text(*rows.from), where_text(conditions(rows)));
}

// A value that is one of the rows' is looked up with its rank; any other one counts those before it.
std::string Translator::rank(const Node& node, const RowsSql& rows, const std::string& mine, const std::string& x) {
  const std::string_view before = node.descending[0] ? ">" : "<";
  const std::string counted = node.dense ? "DISTINCT x" : "x";
  const std::string words = node.dense ? "DENSE_RANK()" : "RANK()";
  const std::string order = node.descending[0] ? "ORDER BY x DESC" : "ORDER BY x";
  std::string place;
  if (const auto part = view(rows, {x}, Shape::ranked, words, order); part && !part->is_split) {
    const std::string rows_text = fmt::format("FROM {}{}", part->source, where_text(part->where));
    place = fmt::format(
        "coalesce((SELECT place FROM (SELECT {0}.x AS x, {0}.place AS place {1}) q WHERE x = ({2}) LIMIT 1), "
        "1 + (SELECT COUNT({3}) FROM (SELECT {0}.x AS x {1}) q WHERE x {4} ({2})))",
        part->alias, rows_text, mine, counted, before);
  } else {
    const auto [rows_text, values] = read(rows, {x});
    place = fmt::format("1 + (SELECT COUNT({}) FROM (SELECT {} AS x {}) q WHERE x {} ({}))", counted, values[0],
                        rows_text, before, mine);
  }
  return fmt::format("(CASE WHEN ({}) IS NOT NULL THEN {} END)", mine, place);
}

namespace {

// The columns by which rows are ordered, as k0, k1, …
struct Ordering {
  std::vector<std::string> values;
  std::vector<std::string> terms;
  void add(const std::string& expression, std::string_view direction) {
    terms.push_back(fmt::format("k{} {}", values.size(), direction));
    values.push_back(expression);
  }
};

// "a AS x, b AS k0, c AS k1": of x and what it is ordered by.
std::string ordered_columns(const std::vector<std::string>& values) {
  std::string columns = values[0] + " AS x";
  for (std::size_t k = 1; k < values.size(); ++k) columns += fmt::format(", {} AS k{}", values[k], k - 1);
  return columns;
}

}  // namespace

std::string Translator::edge(const Node& node, const RowsSql& rows, const std::vector<std::string>& x) {
  const bool last = node.aggregate == Aggregate::last;
  Ordering order;
  std::vector<std::string> present;
  for (std::size_t k = 1; k < x.size(); ++k) {
    present.push_back(fmt::format("k{} IS NOT NULL", order.terms.size()));
    order.add(x[k], node.descending[k - 1] != last ? "DESC" : "ASC");
  }
  for (const std::string& tie : row_order(rows.row)) order.add(tie, last ? "DESC NULLS FIRST" : "ASC NULLS LAST");
  order.values.insert(order.values.begin(), x[0]);
  const auto [rows_text, values] = read(rows, order.values);
  return fmt::format("(SELECT x FROM (SELECT {} {}) q WHERE {} ORDER BY {} LIMIT 1)", ordered_columns(values),
                     rows_text, joined(present, " AND "), joined(order.terms, ", "));
}

std::string Translator::list(const Node& node, const RowsSql& rows, const std::string& x) {
  Ordering order;
  for (const auto& [key, descending] : rows.order) order.add(key, descending ? "DESC NULLS LAST" : "ASC NULLS LAST");
  for (const std::string& tie : row_order(rows.row)) order.add(tie, "ASC NULLS LAST");
  order.values.insert(order.values.begin(), x);
  const auto [rows_text, values] = read(rows, order.values);
  return dialect_.list(fmt::format("(SELECT {} {}) q", ordered_columns(values), rows_text),
                       text_literal(node.literal.text()), joined(order.terms, ", "));
}

}  // namespace juniper::sql_engine
