#include "language/checked.h"

#include <fmt/compile.h>
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "language/lexer.h"
#include "language/operations.h"

namespace juniper::language {

std::optional<std::uint32_t> Table::find(std::string_view column) const {
  const auto at = numbers_.find(column);
  return at == numbers_.end() ? std::nullopt : std::optional(at->second);
}

void Table::add(Column column) {
  numbers_.emplace(column.name, static_cast<std::uint32_t>(columns.size()));
  columns.push_back(std::move(column));
}

std::optional<TableIndex> CheckedModel::find_table(std::string_view wanted) const {
  const auto at = std::find_if(tables.begin(), tables.end(), [&](const Table& t) { return t.name == wanted; });
  if (at == tables.end()) return std::nullopt;
  return static_cast<TableIndex>(at - tables.begin());
}

const ModelFunction* CheckedModel::find_function(std::string_view wanted) const {
  const auto at =
      std::find_if(functions.begin(), functions.end(), [&](const ModelFunction& f) { return f.name == wanted; });
  return at == functions.end() ? nullptr : &*at;
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

const Disabled* CheckedModel::find_disabled(DefinitionKind kind, std::string_view wanted,
                                            std::string_view table) const {
  const auto at =
      std::find_if(disabled.begin(), disabled.end(), [&](const Disabled& d) { return d.is(kind, wanted, table); });
  return at == disabled.end() ? nullptr : &*at;
}

namespace {

// True if rows follow this link by default, where some roles stand in for the links without one.
bool followed(const CheckedModel& model, LinkIndex index, const CheckedModel::Roles& roles) {
  const Link& link = model.links[index];
  if (!link.role.empty()) return std::find(roles.begin(), roles.end(), index) != roles.end();
  return std::none_of(roles.begin(), roles.end(), [&](LinkIndex role) {
    return model.links[role].from.table == link.from.table && model.links[role].to.table == link.to.table;
  });
}

void extend(const CheckedModel& model, TableIndex at, TableIndex goal, const CheckedModel::Roles& roles,
            std::vector<LinkIndex>& path, std::vector<bool>& visited, std::vector<std::vector<LinkIndex>>& found) {
  if (at == goal) {
    found.push_back(path);
    return;
  }
  visited[at] = true;
  for (LinkIndex i = 0; i < model.links.size(); ++i) {
    const Link& link = model.links[i];
    if (link.from.table != at || visited[link.to.table] || !followed(model, i, roles)) continue;
    path.push_back(i);
    extend(model, link.to.table, goal, roles, path, visited, found);
    path.pop_back();
  }
  visited[at] = false;
}

}  // namespace

std::vector<std::vector<LinkIndex>> CheckedModel::paths(TableIndex from, TableIndex to, const Roles& roles) const {
  std::vector<std::vector<LinkIndex>> found;
  std::vector<LinkIndex> path;
  std::vector<bool> visited(tables.size(), false);
  extend(*this, from, to, roles, path, visited, found);
  return found;
}

CheckedModel::Rebased CheckedModel::rebase(const ColumnRef& ref, TableIndex table, const Roles& roles) const {
  const auto ways = paths(table, ref.start, roles);
  if (ways.empty()) return {};
  if (ways.size() > 1) return {std::nullopt, true};
  ColumnRef rebased{table, ways.front(), ref.column};
  rebased.path.insert(rebased.path.end(), ref.path.begin(), ref.path.end());
  return {rebased, false};
}

std::string CheckedModel::link_name(const Link& link) const {
  const auto written = [&](const LinkEnd& end) {
    if (end.columns.size() == 1) return column_name({end.table, end.columns[0]});
    std::string list;
    for (const std::uint32_t c : end.columns) list += (list.empty() ? "" : ", ") + tables[end.table].columns[c].name;
    return tables[end.table].name + ".(" + list + ")";
  };
  return written(link.from) + " -> " + written(link.to) + (link.role.empty() ? "" : " as " + link.role);
}

TableIndex base_table(const RowSetPtr& rows) {
  const RowSet* at = rows.get();
  while (!at->table && at->input) at = at->input.get();
  return at->table.value_or(0);
}

void split_conjunction(const NodePtr& condition, std::vector<NodePtr>& parts) {
  if (condition->op == Op::and_) {
    split_conjunction(condition->children[0], parts);
    split_conjunction(condition->children[1], parts);
  } else {
    parts.push_back(condition);
  }
}

namespace {

// Prints a node without regard to places and to the numbers of the variables that it binds itself. A plan asks for
// these texts at each of its nodes: pieces go into one text without others in between.
class Canonical {
 public:
  Canonical(const CheckedModel& model, OuterRows outer) : model_(model), outer_(outer) {}

  void print(const NodePtr& node) {
    if (!node) {
      out += '~';
      return;
    }
    write(FMT_COMPILE("({}:{}"), id_of(node->op), to_string(node->type));
    if (node->modifiers) print(*node->modifiers);
    for (const Let& let : node->lets) {
      out += " let";
      print(let.value);
      print(let.rows);
      bind(let.name);
    }
    std::size_t first = 0;
    switch (form_of(node->op)) {
      case OpForm::literal:
        out += node->literal.is_null() ? " null" : " " + written_text(to_text(node->literal, node->type));
        break;
      case OpForm::column:
        out += ' ';
        variable(node->variable);
        out += ' ';
        print(node->column);
        break;
      case OpForm::field:
        out += ' ';
        variable(node->variable);
        write(FMT_COMPILE(".{}"), node->field);
        break;
      case OpForm::name:
        out += ' ';
        variable(node->variable);
        break;
      case OpForm::grouping:
        out += " ";
        if (node->key) {
          print(node->key);
        } else {
          print(node->column);
        }
        break;
      case OpForm::measure:
        out += ' ';
        name(model_.measures[node->measure].name);
        break;
      case OpForm::aggregate:
        write(FMT_COMPILE(" {} {} "), id_of(node->aggregate), node->dense);
        if (!node->literal.is_null())
          out += node->literal.kind() == Value::Kind::real ? fmt::format("{} ", node->literal.real())
                                                           : written_text(node->literal.text());
        print(node->descending);
        if (node->aggregate == Aggregate::rank) print(node->children[first++]);  // outside of the rows
        print(node->rows);
        break;
      case OpForm::operation:
        if (node->op == Op::call) write(FMT_COMPILE(" {}"), id_of(node->function));
        break;
      case OpForm::modified:
      case OpForm::let:
        break;
    }
    for (; first < node->children.size(); ++first) print(node->children[first]);
    out += ')';
  }

  void print(const RowSetPtr& rows) {
    if (!rows) {
      out += '~';
      return;
    }
    write(FMT_COMPILE("[{}"), id_of(rows->kind));
    if (rows->kind == RowsKind::table) {
      out += ' ';
      name(model_.tables[*rows->table].name);
      of(rows->of);
      via(rows->via);
      if (rows->across) print(*rows->across);
    }
    if (rows->kind == RowsKind::members) of(rows->group);
    if (rows->kind == RowsKind::named) {
      out += ' ';
      variable(rows->name);
    }
    print(rows->input);
    print(rows->other);
    bind(rows->variable);
    print(rows->condition);
    print(rows->descending);
    if (rows->count != 0) write(FMT_COMPILE(" {}"), rows->count);
    for (const NodePtr& value : rows->values) print(value);
    for (const NodePtr& result : rows->results) print(result);
    out += ']';
  }

  std::string out;

 private:
  void bind(VariableId id) { bound_.emplace(id, bound_.size()); }
  template <typename Text, typename... Arguments>
  void write(const Text& text, const Arguments&... arguments) {
    fmt::format_to(std::back_inserter(out), text, arguments...);
  }
  void name(const std::string& text) {
    if (is_plain_name(text)) {
      out += text;
    } else {
      out += written_name(text);
    }
  }
  void variable(VariableId id) {
    const auto at = bound_.find(id);
    if (at != bound_.end()) return write(FMT_COMPILE("b{}"), at->second);
    if (outer_ == OuterRows::by_number || id == slice_row) return write(FMT_COMPILE("v{}"), id);
    write(FMT_COMPILE("f{}"), free_.emplace(id, free_.size()).first->second);
  }
  void of(std::optional<VariableId> row) {
    if (!row) return;
    out += " of ";
    variable(*row);
  }
  void via(std::optional<LinkIndex> role) {
    if (!role) return;
    out += " via ";
    print(model_.links[*role]);
  }
  void print(const std::vector<bool>& flags) {
    for (const bool flag : flags) out += flag ? '-' : '+';
  }
  void print(const ColumnRef& ref) {
    name(model_.tables[ref.start].name);
    for (const LinkIndex link : ref.path) print(model_.links[link]);
    out += '.';
    name(model_.column(ref.column).name);
  }
  // Links of one column differ in their role, or in what they lead to.
  void print(const Link& link) {
    for (const LinkEnd* const end : {&link.from, &link.to}) {
      out += '>';
      name(model_.tables[end->table].name);
      for (const std::uint32_t column : end->columns) {
        out += ',';
        name(model_.tables[end->table].columns[column].name);
      }
    }
    if (link.role.empty()) return;
    out += '@';
    name(link.role);
  }
  void print(const Across& across) {
    out += across.everything ? " everything but" : " across";
    for (const ColumnRef& column : across.columns) {
      out += ' ';
      print(column);
    }
    for (const TableIndex table : across.tables) {
      out += " table ";
      name(model_.tables[table].name);
    }
    for (const LinkIndex role : across.roles) {
      out += " role ";
      print(model_.links[role]);
    }
  }
  void print(const Modifiers& modifiers) {
    of(modifiers.of);
    via(modifiers.via);
    if (modifiers.through) {
      out += " through ";
      name(model_.tables[modifiers.through->table].name);
    }
    if (modifiers.across) print(*modifiers.across);
    if (modifiers.during)
      write(FMT_COMPILE(" during {} {} {}"), id_of(modifiers.during->period), id_of(modifiers.during->unit),
            modifiers.during->count);
    for (const NodePtr& condition : modifiers.where) print(condition);
  }

  const CheckedModel& model_;
  OuterRows outer_;
  std::map<VariableId, std::size_t> bound_;
  std::map<VariableId, std::size_t> free_;
};

}  // namespace

NodePtr negated(const NodePtr& operand, Span span) {
  auto node = std::make_shared<Node>();
  node->type = operand->type;
  node->span = span;
  if (operand->op == Op::literal && !operand->literal.is_null() && !operand->parameter) {
    node->literal = operand->type.kind == TypeKind::real ? Value::of(-operand->literal.real())
                                                         : Value::of(-operand->literal.exact());
  } else {
    node->op = Op::negate;
    node->children = {operand};
  }
  return node;
}

std::string canonical(const CheckedModel& model, const NodePtr& node, OuterRows outer) {
  Canonical text(model, outer);
  text.print(node);
  return std::move(text.out);
}

std::string canonical(const CheckedModel& model, const RowSetPtr& rows, OuterRows outer) {
  Canonical text(model, outer);
  text.print(rows);
  return std::move(text.out);
}

}  // namespace juniper::language
