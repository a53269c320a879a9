#include "language/checked.h"

#include <fmt/format.h>

#include <algorithm>

#include "language/lexer.h"

namespace juniper::language {

std::optional<std::uint32_t> Table::find(std::string_view column) const {
  const auto at = std::find_if(columns.begin(), columns.end(), [&](const Column& c) { return c.name == column; });
  if (at == columns.end()) return std::nullopt;
  return static_cast<std::uint32_t>(at - columns.begin());
}

std::optional<TableIndex> CheckedModel::find_table(std::string_view wanted) const {
  const auto at = std::find_if(tables.begin(), tables.end(), [&](const Table& t) { return t.name == wanted; });
  if (at == tables.end()) return std::nullopt;
  return static_cast<TableIndex>(at - tables.begin());
}

std::optional<MeasureIndex> CheckedModel::find_measure(std::string_view wanted) const {
  const auto at = std::find_if(measures.begin(), measures.end(), [&](const Measure& m) { return m.name == wanted; });
  if (at == measures.end()) return std::nullopt;
  return static_cast<MeasureIndex>(at - measures.begin());
}

const Query* CheckedModel::find_query(std::string_view wanted) const {
  const auto at = std::find_if(queries.begin(), queries.end(), [&](const Query& q) { return q.name == wanted; });
  return at == queries.end() ? nullptr : &*at;
}

namespace {

void extend(const CheckedModel& model, TableIndex at, TableIndex goal, std::vector<LinkIndex>& path,
            std::vector<bool>& visited, std::vector<std::vector<LinkIndex>>& found) {
  if (at == goal) {
    found.push_back(path);
    return;
  }
  visited[at] = true;
  for (LinkIndex i = 0; i < model.links.size(); ++i) {
    const Link& link = model.links[i];
    if (link.from.table != at || !link.role.empty() || visited[link.to.table]) continue;
    path.push_back(i);
    extend(model, link.to.table, goal, path, visited, found);
    path.pop_back();
  }
  visited[at] = false;
}

}  // namespace

std::vector<std::vector<LinkIndex>> CheckedModel::paths(TableIndex from, TableIndex to) const {
  std::vector<std::vector<LinkIndex>> found;
  std::vector<LinkIndex> path;
  std::vector<bool> visited(tables.size(), false);
  extend(*this, from, to, path, visited, found);
  return found;
}

CheckedModel::Rebased CheckedModel::rebase(const ColumnRef& ref, TableIndex table) const {
  const auto ways = paths(table, ref.start);
  if (ways.empty()) return {};
  if (ways.size() > 1) return {std::nullopt, true};
  ColumnRef rebased{table, ways.front(), ref.column};
  rebased.path.insert(rebased.path.end(), ref.path.begin(), ref.path.end());
  return {rebased, false};
}

namespace {

void print(const CheckedModel& model, const NodePtr& node, std::string& out) {
  if (!node) {
    out += '~';
    return;
  }
  out += fmt::format("({}:{}", static_cast<int>(node->op), to_string(node->type));
  switch (node->op) {
    case Op::literal:
      out += node->literal.is_null() ? " null" : " " + written_text(to_text(node->literal, node->type));
      break;
    case Op::column:
      out += " " + written_name(model.tables[node->column.start].name);
      for (const LinkIndex i : node->column.path) {
        const Link& link = model.links[i];
        out += fmt::format(">{}>{}", written_name(model.column(link.from).name),
                           written_name(model.tables[link.to.table].name));
      }
      out += "." + written_name(model.column(node->column.column).name);
      break;
    case Op::measure:
      out += " " + written_name(model.measures[node->measure].name);
      break;
    case Op::aggregate:
      out +=
          fmt::format(" {} {} ", static_cast<int>(node->aggregate), written_name(model.tables[node->rows.table].name));
      print(model, node->rows.where, out);
      break;
    case Op::call:
      out += fmt::format(" {}", static_cast<int>(node->function));
      break;
    default:
      break;
  }
  for (const NodePtr& child : node->children) print(model, child, out);
  out += ')';
}

}  // namespace

NodePtr negated(const NodePtr& operand, Span span) {
  auto node = std::make_shared<Node>();
  node->type = operand->type;
  node->span = span;
  if (operand->op == Op::literal && !operand->literal.is_null()) {
    node->literal = operand->type.kind == TypeKind::real ? Value::of(-operand->literal.real())
                                                         : Value::of(-operand->literal.exact());
  } else {
    node->op = Op::negate;
    node->children = {operand};
  }
  return node;
}

std::string canonical(const CheckedModel& model, const NodePtr& node) {
  std::string out;
  print(model, node, out);
  return out;
}

}  // namespace juniper::language
