#include "model/inlining.h"

#include <fmt/format.h>

#include <algorithm>

#include "language/check.h"
#include "model/uses.h"

namespace juniper::model {

using namespace language;

namespace {

bool drops(const Across& across, ColumnId id) {
  return std::any_of(across.columns.begin(), across.columns.end(),
                     [&](const ColumnRef& ref) { return ref.column == id; });
}

// True if a set of rows is grouped by the column, or drops filters on it.
bool groups_by(const RowSetPtr& rows, ColumnId id) {
  if (!rows) return false;
  if (rows->across && drops(*rows->across, id)) return true;
  if (rows->kind == RowsKind::distinct || rows->kind == RowsKind::grouped) {
    for (const Field& field : rows->fields) {
      for (const ColumnRef& ref : column_refs(field.key)) {
        if (ref.column == id) return true;
      }
    }
  }
  return groups_by(rows->input, id) || groups_by(rows->other, id);
}

}  // namespace

Diagnostics inlining_blockers(const CheckedModel& model, ColumnId id) {
  Diagnostics found;
  const std::string name = model.column_name(id);
  const auto block = [&](Span span, std::string why, std::string way_round) {
    found.push_back(model.sources.diagnostic(Severity::error, "JR-803", span,
                                             fmt::format("{} stays stored: {}", name, why), std::move(way_round)));
  };
  const Column& column = model.column(id);
  if (column.key) block(column.name_span, "it is a key", "");
  walk(column.expression, [&](const Node& node) {
    if (node.op == Op::aggregate || node.op == Op::modified)
      block(node.span, "its expression holds an aggregate, and in a measure's loop that would see other rows",
            "make the aggregate a measure of its own");
  });
  const auto block_slices = [&](const NodePtr& expression, const std::string& where) {
    walk(expression, [&](const Node& node) {
      if ((node.op == Op::column && node.variable == slice_row && node.column.column == id) ||
          (node.op == Op::grouping && node.column.column == id))
        block(node.span, fmt::format("{} filters a slice by it", where), "filter by the columns that it is built on");
      if (node.op == Op::aggregate && groups_by(node.rows, id))
        block(node.span, fmt::format("{} groups by it", where), "group by stored columns");
      if (node.modifiers && node.modifiers->across && drops(*node.modifiers->across, id))
        block(node.modifiers->across->span, fmt::format("{} drops filters on it", where), "");
    });
  };
  for (const Measure& measure : model.measures) block_slices(measure.expression, "measure '" + measure.name + "'");
  for (const Query& query : model.queries) {
    for (const QueryShow& item : query.show) block_slices(item.expression, "query '" + query.name + "'");
    for (const Measure* draft : drafts_of(query)) block_slices(draft->expression, "query '" + query.name + "'");
  }
  for (const Query& query : model.queries) {
    for (const QueryBy& key : query.by) {
      if (key.column.column == id)
        block(key.span, fmt::format("query '{}' groups by it", query.name),
              "a query groups by stored columns: change the query first");
    }
    for (const NodePtr& condition : query.where) {
      walk(condition, [&](const Node& node) {
        if (node.op == Op::column && node.column.column == id)
          block(node.span, fmt::format("query '{}' filters by it", query.name),
                "filter by the columns that it is built on");
      });
    }
  }
  for (const User& user : users_of_column(model, id)) {
    if (user.kind == UserKind::calculated_table)
      block(user.span, fmt::format("the calculated table {} is made from it", user.name), "");
    if (user.kind == UserKind::calendar) block(user.span, "it is a column of the calendar", "");
    if (user.kind == UserKind::link) block(user.span, fmt::format("the link {} needs it", user.name), "");
    if (user.kind == UserKind::sort_order) block(user.span, fmt::format("{} is sorted by it", user.name), "");
    if (user.kind == UserKind::declared)
      block(user.span, fmt::format("\"{}\" uses it, as its declaration says", user.name),
            "take `used by` out when that is over");
  }
  return found;
}

bool is_null_without_row(const NodePtr& expression) {
  const Node& node = *expression;
  const auto any_of = [&](std::size_t count) {
    return std::any_of(node.children.begin(), node.children.begin() + static_cast<std::ptrdiff_t>(count),
                       is_null_without_row);
  };
  const auto all = [&] { return std::all_of(node.children.begin(), node.children.end(), is_null_without_row); };
  switch (node.op) {
    case Op::literal:
      return node.literal.is_null();
    case Op::column:
      return true;
    case Op::add:
    case Op::subtract:
    case Op::multiply:
    case Op::divide:
    case Op::int_divide:
    case Op::modulo:
    case Op::negate:
    case Op::equal:
    case Op::not_equal:
    case Op::less:
    case Op::less_equal:
    case Op::like:
    case Op::not_:
    case Op::concat:
    case Op::rescale:
    case Op::to_real:
      return any_of(node.children.size());
    case Op::in:
      return any_of(1);
    case Op::and_:  // of null and what is false, false
    case Op::or_:
      return all();
    case Op::cases:
      for (std::size_t i = 1; i < node.children.size(); i += 2) {
        if (!is_null_without_row(node.children[i])) return false;
      }
      return is_null_without_row(node.children.back());
    case Op::call:
      switch (node.function) {
        case Function::least:
        case Function::greatest:
        case Function::coalesce:
          return all();
        case Function::today:
          return false;
        case Function::abs:
        case Function::round:
        case Function::floor:
        case Function::ceil:
        case Function::trunc:
        case Function::sign:
        case Function::sqrt:
        case Function::exp:
        case Function::ln:
        case Function::power:
        case Function::length:
        case Function::upper:
        case Function::lower:
        case Function::trim:
        case Function::substring:
        case Function::replace:
        case Function::starts_with:
        case Function::ends_with:
        case Function::contains:
        case Function::year:
        case Function::quarter:
        case Function::month:
        case Function::day:
        case Function::weekday:
        case Function::week:
        case Function::hour:
        case Function::minute:
        case Function::second:
        case Function::date:
        case Function::time:
        case Function::datetime:
        case Function::add_days:
        case Function::add_months:
        case Function::add_years:
        case Function::days_between:
        case Function::months_between:
        case Function::years_between:
        case Function::start_of:
        case Function::end_of:
          return any_of(node.children.size());
      }
      return false;
    case Op::field:
    case Op::name:
    case Op::measure:
    case Op::modified:
    case Op::let:
    case Op::aggregate:
    case Op::grouping:
    case Op::is_distinct:
    case Op::is_null:
      return false;
  }
  return false;
}

}  // namespace juniper::model
