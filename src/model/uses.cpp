#include "model/uses.h"

#include <algorithm>

namespace juniper::model {

namespace {

using namespace language;

bool drops_column(const std::optional<Across>& across, ColumnId column) {
  return across && std::any_of(across->columns.begin(), across->columns.end(),
                               [&](const ColumnRef& ref) { return ref.column == column; });
}

bool drops_column(const RowSetPtr& rows, ColumnId column) {
  return rows &&
         (drops_column(rows->across, column) || drops_column(rows->input, column) || drops_column(rows->other, column));
}

bool names_column(const NodePtr& node, ColumnId column) {
  bool found = false;
  walk(node, [&](const Node& n) {
    found = found || ((n.op == Op::column || n.op == Op::grouping) && n.column.column == column) ||
            (n.modifiers && drops_column(n.modifiers->across, column)) || drops_column(n.rows, column);
    for (const Let& let : n.lets) found = found || drops_column(let.rows, column);
  });
  return found;
}

// Columns of a calculated table read those of the tables that it is made from.
bool names_column(const RowSetPtr& rows, ColumnId column) {
  bool found = drops_column(rows, column);
  walk(rows, [&](const Node& n) { found = found || (n.op == Op::column && n.column.column == column); });
  return found;
}

bool is_period(const Calendar& calendar, ColumnId column) {
  return column.table == calendar.day.table &&
         std::find(calendar.periods.begin(), calendar.periods.end(), column.column) != calendar.periods.end();
}

}  // namespace

std::vector<const Measure*> drafts_of(const Query& query) {
  std::vector<const Measure*> drafts;
  if (!query.variant) return drafts;
  for (const Measure& measure : query.variant->measures) {
    const Span& at = measure.span;
    if (at.file == query.span.file && at.begin >= query.span.begin && at.end <= query.span.end)
      drafts.push_back(&measure);
  }
  return drafts;
}

std::string link_name(const CheckedModel& model, const Link& link) {
  const auto end = [&](const LinkEnd& e) {
    if (e.columns.size() == 1) return model.column_name({e.table, e.columns[0]});
    std::string list;
    for (const std::uint32_t c : e.columns) list += (list.empty() ? "" : ", ") + model.tables[e.table].columns[c].name;
    return model.tables[e.table].name + ".(" + list + ")";
  };
  return end(link.from) + " -> " + end(link.to) + (link.role.empty() ? "" : " as " + link.role);
}

std::vector<User> users_of_column(const CheckedModel& model, ColumnId column) {
  std::vector<User> users;
  for (const Measure& m : model.measures) {
    if (names_column(m.expression, column)) users.push_back({UserKind::measure, m.name, m.span});
  }
  for (const Table& table : model.tables) {
    for (const Column& c : table.columns) {
      if (names_column(c.expression, column))
        users.push_back({UserKind::calculated_column, table.name + "." + c.name, c.span});
    }
    if (table.rows && names_column(table.rows, column))
      users.push_back({UserKind::calculated_table, table.name, table.span});
  }
  if (model.calendar && (model.calendar->day == column || is_period(*model.calendar, column)))
    users.push_back({UserKind::calendar, model.column_name(model.calendar->day), model.calendar->span});
  for (const Link& link : model.links) {
    if (link.from.reads(column) || link.to.reads(column))
      users.push_back({UserKind::link, link_name(model, link), link.span});
  }
  const Table& own = model.tables[column.table];
  for (const Column& c : own.columns) {
    if (c.sorted_by == column.column) users.push_back({UserKind::sort_order, own.name + "." + c.name, c.span});
  }
  for (const Query& query : model.queries) {
    bool named =
        std::any_of(query.by.begin(), query.by.end(), [&](const QueryBy& key) { return key.column.column == column; });
    for (const NodePtr& condition : query.where) named = named || names_column(condition, column);
    named = named || names_column(query.having, column);
    for (const QueryShow& item : query.show) named = named || names_column(item.expression, column);
    for (const Measure* draft : drafts_of(query)) named = named || names_column(draft->expression, column);
    if (named) users.push_back({UserKind::query, query.name, query.span});
  }
  for (const std::string& who : model.column(column).used_by)
    users.push_back({UserKind::declared, who, model.column(column).span});
  return users;
}

}  // namespace juniper::model

namespace juniper {

std::string_view to_string(UserKind kind) {
  switch (kind) {
    case UserKind::measure:
      return "measure";
    case UserKind::calculated_column:
      return "calculated column";
    case UserKind::calculated_table:
      return "calculated table";
    case UserKind::calendar:
      return "calendar";
    case UserKind::link:
      return "link";
    case UserKind::sort_order:
      return "sort order";
    case UserKind::query:
      return "query";
    case UserKind::declared:
      return "declared use";
  }
  return "";
}

}  // namespace juniper
