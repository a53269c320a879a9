#include "model/inlining.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "language/traverse.h"

namespace juniper::model {

using namespace language;

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
  each_definition(model, [&](const Definition& definition) {
    const std::string where = fmt::format("{} '{}'",
                                          definition.query     ? "query"
                                          : definition.measure ? "measure"
                                                               : "column",
                                          definition.name);
    each_mention(definition, [&](const Mention& mention) {
      if (mention.column != id) return;
      if (definition.query != nullptr && definition.query->captured)
        return block(mention.span, fmt::format("the captured query {} names it", definition.name),
                     "whoever asks it has to change it first");
      switch (definition.role) {
        case Role::calculated_column:  // its expression takes the column's in, row by row
          return;
        case Role::measure:
        case Role::draft:
        case Role::show:
        case Role::having:
          if (mention.manner == Manner::filter || mention.manner == Manner::grouping)
            block(mention.span, where + " filters a slice by it", "filter by the columns that it is built on");
          if (mention.manner == Manner::group) block(mention.span, where + " groups by it", "group by stored columns");
          if (mention.manner == Manner::dropped) block(mention.span, where + " drops filters on it", "");
          return;
        case Role::where:
          return block(mention.span, where + " filters by it", "filter by the columns that it is built on");
        case Role::key:
          // The expression has neither the column's order nor its format.
          if (column.sorted_by || !column.format.empty())
            block(mention.span, where + " groups by it, in its order or format", "");
          return;
        case Role::calculated_table:
          return block(definition.span, fmt::format("the calculated table {} is made from it", definition.name), "");
        case Role::calendar:
          return block(definition.span, "it is a column of the calendar", "");
        case Role::link:
          return block(definition.span, fmt::format("the link {} needs it", definition.name), "");
        case Role::value_order:
          return block(definition.span, fmt::format("{} is sorted by it", definition.name), "");
        case Role::row_order:
          return block(definition.place, fmt::format("the rows of {} stand in its order", definition.name), "");
        case Role::table_key:
          return block(definition.span, fmt::format("it is a part of a key of {}", definition.name), "");
        case Role::reached_from:
          return;
        case Role::declared:
          return block(definition.span, fmt::format("\"{}\" uses it, as its declaration says", definition.name),
                       "take `used by` out when that is over");
        case Role::reader:
          return block(definition.span, fmt::format("the reader {} is told by it", definition.name), "");
        case Role::disabled:
          return block(definition.span, fmt::format("'{}' is disabled, and names it", definition.name),
                       "mend that definition first");
      }
    });
  });
  return found;
}

namespace {

// Calculated columns that `id` reads, directly.
std::set<ColumnId> built_on(const CheckedModel& model, ColumnId id) {
  std::set<ColumnId> columns;
  for (const ColumnRef& ref : column_refs(model.column(id).expression)) {
    if (model.column(ref.column).is_calculated()) columns.insert(ref.column);
  }
  return columns;
}

// True if no calculated column that stays reads it.
bool only_measures_read(const CheckedModel& model, ColumnId id, const std::set<ColumnId>& removed) {
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) {
      if (!removed.contains({t, c}) && model.tables[t].columns[c].is_calculated() &&
          built_on(model, {t, c}).contains(id))
        return false;
    }
  }
  return true;
}

}  // namespace

std::vector<ColumnId> columns_to_inline(const CheckedModel& model, ColumnId id) {
  std::vector<ColumnId> order{id};
  std::set<ColumnId> removed{id};
  for (bool grown = true; grown;) {
    grown = false;
    for (const ColumnId above : std::vector<ColumnId>(order)) {
      for (const ColumnId below : built_on(model, above)) {
        if (removed.contains(below) || !only_measures_read(model, below, removed) ||
            !inlining_blockers(model, below).empty())
          continue;
        removed.insert(below);
        order.push_back(below);
        grown = true;
      }
    }
  }
  return order;
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
        case Function::text:
        case Function::integer_from:
        case Function::decimal_from:
        case Function::real_from:
        case Function::date_from:
        case Function::datetime_from:
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
