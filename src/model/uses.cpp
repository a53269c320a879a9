#include "model/uses.h"

#include <algorithm>

namespace juniper::model {

namespace {

using namespace language;

bool names_column(const NodePtr& node, ColumnId column) {
  bool found = false;
  walk(node, [&](const Node& n) { found = found || (n.op == Op::column && n.column.column == column); });
  return found;
}

}  // namespace

std::string link_name(const CheckedModel& model, const Link& link) {
  return model.column_name(link.from) + " -> " + model.column_name(link.to) +
         (link.role.empty() ? "" : " as " + link.role);
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
  }
  for (const Link& link : model.links) {
    if (link.from == column || link.to == column) users.push_back({UserKind::link, link_name(model, link), link.span});
  }
  const Table& own = model.tables[column.table];
  for (const Column& c : own.columns) {
    if (c.sorted_by == column.column) users.push_back({UserKind::sort_order, own.name + "." + c.name, c.span});
  }
  for (const Query& query : model.queries) {
    bool named =
        std::any_of(query.by.begin(), query.by.end(), [&](const QueryBy& key) { return key.column.column == column; });
    for (const NodePtr& condition : query.where) named = named || names_column(condition, column);
    for (const QueryShow& item : query.show) named = named || names_column(item.expression, column);
    if (named) users.push_back({UserKind::query, query.name, query.span});
  }
  for (const std::string& who : model.column(column).used_by)
    users.push_back({UserKind::declared, who, model.column(column).span});
  return users;
}

std::string_view kind_name(UserKind kind) {
  switch (kind) {
    case UserKind::measure:
      return "measure";
    case UserKind::calculated_column:
      return "calculated column";
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

}  // namespace juniper::model
