#include "language/traverse.h"

#include <algorithm>

#include "language/slices.h"

namespace juniper::language {

RowSetPtr replaced(const RowSetPtr& rows, const Replace& replace) {
  if (!rows) return nullptr;
  auto copy = std::make_shared<RowSet>(*rows);
  copy->input = replaced(rows->input, replace);
  copy->other = replaced(rows->other, replace);
  copy->condition = replaced(rows->condition, replace);
  for (NodePtr& value : copy->values) value = replaced(value, replace);
  for (NodePtr& result : copy->results) result = replaced(result, replace);
  return copy;
}

NodePtr replaced(const NodePtr& node, const Replace& replace) {
  if (!node) return nullptr;
  if (NodePtr other = replace(node)) return other;
  auto copy = std::make_shared<Node>(*node);
  for (NodePtr& child : copy->children) child = replaced(child, replace);
  copy->rows = replaced(copy->rows, replace);
  for (Let& let : copy->lets) {
    let.value = replaced(let.value, replace);
    let.rows = replaced(let.rows, replace);
  }
  if (copy->modifiers && !copy->modifiers->where.empty()) {
    auto modifiers = std::make_shared<Modifiers>(*copy->modifiers);
    for (NodePtr& condition : modifiers->where) condition = replaced(condition, replace);
    copy->modifiers = std::move(modifiers);
  }
  return copy;
}

std::set<VariableId> outer_variables(const NodePtr& node) {
  std::set<VariableId> read;
  std::set<VariableId> own;
  const std::function<void(const RowSetPtr&)> look = [&](const RowSetPtr& rows) {
    if (!rows) return;
    own.insert(rows->variable);
    if (rows->of) read.insert(*rows->of);
    if (rows->kind == RowsKind::named) read.insert(rows->name);
    if (rows->kind == RowsKind::members) read.insert(rows->group);
    look(rows->input);
    look(rows->other);
  };
  walk(node, [&](const Node& n) {
    if (n.op == Op::column || n.op == Op::field || n.op == Op::name) read.insert(n.variable);
    if (n.modifiers && n.modifiers->of) read.insert(*n.modifiers->of);
    look(n.rows);
    for (const Let& let : n.lets) {
      own.insert(let.name);
      look(let.rows);
    }
  });
  read.erase(slice_row);
  for (const VariableId variable : own) read.erase(variable);
  return read;
}

std::vector<ColumnRef> column_refs(const NodePtr& node) {
  std::vector<ColumnRef> refs;
  walk(node, [&](const Node& n) {
    if (n.op == Op::column) refs.push_back(n.column);
  });
  return refs;
}

namespace {

// Collects what an expression needs. Which predicates a slice will hold is known to the expressions that set them: each
// table aggregated is taken to need its way to every table that any of them speaks of.
class NeedsWalk {
 public:
  explicit NeedsWalk(const CheckedModel& model) : model_(model) {}

  void table(TableIndex table) { spoken_of_.insert(table); }
  void visit(const NodePtr& node) {
    walk(node, [this](const Node& n) { take(n); });
  }
  void visit(const RowSetPtr& rows) {
    take(rows);
    walk(rows, [this](const Node& n) { take(n); });
  }

  Needs finish() {
    for (const TableIndex from : needs_.tables) {
      for (const TableIndex to : spoken_of_) {
        for (const auto& way : model_.paths(from, to, roles_)) links(way);
        for (const auto& way : model_.paths(from, to)) links(way);
      }
      for (const TableIndex bridge : bridges_) {
        for (const CheckedModel::Roles& roles : {roles_, CheckedModel::Roles{}}) {
          const Meeting met = meeting(model_, from, bridge, roles);
          for (const TableIndex at : met.tables) {
            for (const TableIndex side : {from, bridge}) {
              for (const auto& way : model_.paths(side, at, roles)) links(way);
            }
          }
        }
      }
    }
    return std::move(needs_);
  }

 private:
  void links(const std::vector<LinkIndex>& way) {
    for (const LinkIndex link : way) {
      if (!needs_.links.insert(link).second) continue;
      for (const std::uint32_t c : model_.links[link].from.columns)
        needs_.columns.insert({model_.links[link].from.table, c});
      for (const std::uint32_t c : model_.links[link].to.columns)
        needs_.columns.insert({model_.links[link].to.table, c});
    }
  }
  void take(const Node& n) {
    if (n.op == Op::column) {
      if (n.variable == slice_row) spoken_of_.insert(n.column.start);
      links(n.column.path);
      needs_.columns.insert(n.column.column);
    }
    if (n.op == Op::measure && measures_.insert(n.measure).second) visit(model_.measures[n.measure].expression);
    take(n.rows);
    for (const Let& let : n.lets) take(let.rows);
    if (!n.modifiers) return;
    if (n.modifiers->via) roles_.push_back(*n.modifiers->via);
    if (n.modifiers->through) {
      bridges_.insert(n.modifiers->through->table);
      needs_.tables.insert(n.modifiers->through->table);
    }
    if (n.modifiers->during) {
      spoken_of_.insert(model_.calendar->day.table);
      needs_.tables.insert(model_.calendar->day.table);
      needs_.columns.insert(model_.calendar->day);
    }
  }
  void take(const RowSetPtr& rows) {
    if (!rows) return;
    if (rows->table) {
      spoken_of_.insert(*rows->table);
      needs_.tables.insert(*rows->table);
    }
    if (rows->via) roles_.push_back(*rows->via);
    for (const Field& field : rows->fields) {
      if (field.key) visit(field.key);
    }
    for (const NodePtr& condition : rows->made_by) visit(condition);
    take(rows->input);
    take(rows->other);
  }

  const CheckedModel& model_;
  Needs needs_;
  CheckedModel::Roles roles_;
  std::set<TableIndex> spoken_of_;
  std::set<TableIndex> bridges_;
  std::set<MeasureIndex> measures_;
};

template <class Expression>
void add_measures(const CheckedModel& model, const Expression& expression, std::set<MeasureIndex>& found) {
  walk(expression, [&](const Node& n) {
    if (n.op == Op::measure && found.insert(n.measure).second)
      add_measures(model, model.measures[n.measure].expression, found);
  });
}

}  // namespace

Needs needs_of(const CheckedModel& model, const NodePtr& node, std::optional<TableIndex> table) {
  NeedsWalk needs(model);
  if (table) needs.table(*table);
  needs.visit(node);
  return needs.finish();
}

Needs needs_of(const CheckedModel& model, const RowSetPtr& rows) {
  NeedsWalk needs(model);
  needs.visit(rows);
  return needs.finish();
}

std::set<MeasureIndex> measures_in(const CheckedModel& model, const NodePtr& node) {
  std::set<MeasureIndex> found;
  add_measures(model, node, found);
  return found;
}

std::set<MeasureIndex> measures_in(const CheckedModel& model, const RowSetPtr& rows) {
  std::set<MeasureIndex> found;
  add_measures(model, rows, found);
  return found;
}

// --- definitions ----------------------------------------------------------------------------------------------------

namespace {

// Whatever bears one of the names in the text of what is disabled.
std::vector<Mention> named_by(const CheckedModel& model, const Disabled& disabled) {
  std::vector<Mention> mentions;
  const auto mention = [&](const std::string& name) -> Mention* {
    if (!disabled.names.contains(name)) return nullptr;
    mentions.push_back({Manner::listed, {}, {}, {}, {}, {}, disabled.span});
    return &mentions.back();
  };
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (Mention* const table = mention(model.tables[t].name)) table->table = t;
    for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) {
      if (Mention* const column = mention(model.tables[t].columns[c].name)) column->column = {t, c};
    }
  }
  for (LinkIndex l = 0; l < model.links.size(); ++l) {
    if (model.links[l].role.empty()) continue;
    if (Mention* const role = mention(model.links[l].role)) role->link = l;
  }
  for (std::uint32_t p = 0; p < model.parameters.size(); ++p) {
    if (Mention* const parameter = mention(model.parameters[p].name)) parameter->parameter = p;
  }
  for (MeasureIndex m = 0; m < model.measures.size(); ++m) {
    if (Mention* const measure = mention(model.measures[m].name)) measure->measure = m;
  }
  return mentions;
}

}  // namespace

void each_definition(const CheckedModel& model, const VisitDefinition& visit) {
  const auto of = [&](Role role, std::string name, Span span, Span name_span) {
    Definition definition;
    definition.role = role;
    definition.model = &model;
    definition.name = std::move(name);
    definition.span = span;
    definition.name_span = name_span;
    definition.place = span;
    return definition;
  };
  for (const Measure& measure : model.measures) {
    Definition definition = of(Role::measure, measure.name, measure.span, measure.name_span);
    definition.expression = measure.expression;
    definition.place = measure.expression->span;
    definition.measure = &measure;
    visit(definition);
  }
  // Those of each column of each table.
  const auto each_column = [&](const auto& visit_column) {
    for (TableIndex t = 0; t < model.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c)
        visit_column(ColumnId{t, c}, model.tables[t].columns[c]);
    }
  };
  const auto of_column = [&](Role role, ColumnId id) {
    const Column& column = model.column(id);
    Definition definition = of(role, model.column_name(id), column.span, column.name_span);
    definition.column = id;
    definition.table = id.table;
    return definition;
  };
  const auto of_table = [&](Role role, TableIndex t) {
    Definition definition = of(role, model.tables[t].name, model.tables[t].span, model.tables[t].name_span);
    definition.table = t;
    definition.place = model.tables[t].rows_span;
    return definition;
  };
  each_column([&](ColumnId id, const Column& column) {
    if (!column.expression) return;
    Definition definition = of_column(Role::calculated_column, id);
    definition.expression = column.expression;
    definition.place = column.expression->span;
    visit(definition);
  });
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (!model.tables[t].rows) continue;
    Definition definition = of_table(Role::calculated_table, t);
    definition.rows = model.tables[t].rows;
    definition.place = definition.rows->span;
    visit(definition);
  }
  if (model.calendar) {
    const ColumnId day = model.calendar->day;
    Definition definition = of(Role::calendar, model.column_name(day), model.calendar->span, model.calendar->span);
    definition.table = day.table;
    definition.columns.push_back(day);
    for (const std::uint32_t period : model.calendar->periods) definition.columns.push_back({day.table, period});
    visit(definition);
  }
  for (const Link& link : model.links) {
    Definition definition = of(Role::link, model.link_name(link), link.span, link.span);
    definition.table = link.from.table;
    for (const LinkEnd* const end : {&link.from, &link.to}) {
      for (const std::uint32_t column : end->columns) definition.columns.push_back({end->table, column});
    }
    visit(definition);
  }
  each_column([&](ColumnId id, const Column& column) {
    if (!column.sorted_by) return;
    Definition definition = of_column(Role::value_order, id);
    definition.columns.push_back({id.table, *column.sorted_by});
    visit(definition);
  });
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (model.tables[t].sorted_by.empty()) continue;
    Definition definition = of_table(Role::row_order, t);
    for (const std::uint32_t column : model.tables[t].sorted_by) definition.columns.push_back({t, column});
    visit(definition);
  }
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (model.tables[t].reached_from.empty()) continue;
    Definition definition = of_table(Role::reached_from, t);
    definition.tables = model.tables[t].reached_from;
    visit(definition);
  }
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    for (const TableKey& key : model.tables[t].keys) {
      Definition definition = of_table(Role::table_key, t);
      definition.span = key.span;
      definition.place = key.span;
      for (const std::uint32_t column : key.columns) definition.columns.push_back({t, column});
      visit(definition);
    }
  }
  for (const Query& query : model.queries) each_definition(model, query, visit);
  for (const Query& query : model.captured) each_definition(model, query, visit);
  const auto declared = [&](const std::vector<std::string>& users, Definition definition) {
    for (const std::string& who : users) {
      definition.name = who;
      visit(definition);
    }
  };
  each_column([&](ColumnId id, const Column& column) {
    Definition definition = of_column(Role::declared, id);
    definition.columns.push_back(id);
    declared(column.used_by, std::move(definition));
  });
  for (const Measure& measure : model.measures) {
    Definition definition = of(Role::declared, measure.name, measure.span, measure.name_span);
    definition.measure = &measure;
    declared(measure.used_by, std::move(definition));
  }
  for (const Reader& reader : model.readers) {
    for (const ReaderRows& rows : reader.rows) {
      Definition definition = of(Role::reader, reader.name, reader.span, reader.span);
      definition.expression = rows.condition;
      definition.place = rows.condition->span;
      definition.tables.push_back(rows.table);
      visit(definition);
    }
    Definition hidden = of(Role::reader, reader.name, reader.span, reader.span);
    hidden.columns = reader.hidden_columns;
    for (const std::string& name : reader.hidden_measures) {
      const auto measure = model.find_measure(name);
      if (measure) hidden.names.push_back({Manner::listed, {}, {}, {}, {}, measure, reader.span});
    }
    visit(hidden);
  }
  for (const Disabled& disabled : model.disabled) {
    Definition definition = of(Role::disabled, disabled.full_name(), disabled.span, disabled.span);
    definition.names = named_by(model, disabled);
    visit(definition);
  }
}

void each_definition(const CheckedModel& model, const Query& query, const VisitDefinition& visit) {
  const auto part = [&](Role role, const NodePtr& expression) {
    Definition definition;
    definition.role = role;
    definition.model = query.variant ? query.variant.get() : &model;
    definition.name = query.name;
    definition.span = query.span;
    definition.name_span = query.span;
    definition.place = expression ? expression->span : query.span;
    definition.expression = expression;
    definition.query = &query;
    return definition;
  };
  for (const Measure* const draft : drafts_of(query)) {
    Definition definition = part(Role::draft, draft->expression);
    definition.measure = draft;
    visit(definition);
  }
  for (const QueryBy& by : query.by) {
    visit(part(Role::key, by.expression));
  }
  for (const NodePtr& condition : query.where) visit(part(Role::where, condition));
  for (const QueryShow& item : query.show) visit(part(Role::show, item.expression));
  if (query.having) visit(part(Role::having, query.having));
}

std::vector<const Measure*> drafts_of(const Query& query) {
  std::vector<const Measure*> drafts;
  if (!query.variant) return drafts;
  for (const Measure& measure : query.variant->measures) {
    if (is_draft(query, measure)) drafts.push_back(&measure);
  }
  return drafts;
}

bool is_draft(const Query& query, const Measure& measure) {
  const Span& at = measure.span;
  return at.file == query.span.file && at.begin >= query.span.begin && at.end <= query.span.end;
}

// --- mentions -------------------------------------------------------------------------------------------------------

namespace {

class Mentions {
 public:
  Mentions(const VisitMention& visit, Manner of_slice) : visit_(visit), of_slice_(of_slice) {}

  void look(const NodePtr& expression) {
    walk(expression, [this](const Node& node) { take(node); });
  }
  void look(const RowSetPtr& rows) {
    take(rows);
    walk(rows, [this](const Node& node) { take(node); });
  }
  void column(ColumnId id, Manner manner, Span span) {
    Mention mention{manner, {}, {}, {}, {}, {}, span};
    mention.column = id;
    visit_(mention);
  }
  void table(TableIndex index, Manner manner, Span span) {
    Mention mention{manner, {}, {}, {}, {}, {}, span};
    mention.table = index;
    visit_(mention);
  }
  void measure(MeasureIndex index, Manner manner, Span span) {
    Mention mention{manner, {}, {}, {}, {}, {}, span};
    mention.measure = index;
    visit_(mention);
  }

 private:
  void link(LinkIndex index, Manner manner, Span span) {
    Mention mention{manner, {}, {}, {}, {}, {}, span};
    mention.link = index;
    visit_(mention);
  }
  void take(const Node& node) {
    if (node.op == Op::column)
      column(node.column.column, node.variable == slice_row ? of_slice_ : Manner::read, node.span);
    if (node.op == Op::grouping) {
      const std::vector<ColumnRef> refs = node.key ? column_refs(node.key) : std::vector{node.column};
      for (const ColumnRef& ref : refs) column(ref.column, Manner::grouping, node.span);
    }
    if (node.op == Op::measure) measure(node.measure, Manner::read, node.span);
    if (node.parameter) {
      Mention mention{Manner::read, {}, {}, {}, {}, {}, node.span};
      mention.parameter = node.parameter;
      visit_(mention);
    }
    if (node.modifiers) {
      if (node.modifiers->via) link(*node.modifiers->via, Manner::followed, node.span);
      if (node.modifiers->through) table(node.modifiers->through->table, Manner::read, node.modifiers->through->span);
      if (node.modifiers->across) take(*node.modifiers->across);
    }
    take(node.rows);
    for (const Let& let : node.lets) take(let.rows);
  }
  void take(const RowSetPtr& rows) {
    if (!rows) return;
    take(rows->input);
    take(rows->other);
    if (rows->kind == RowsKind::table) table(*rows->table, Manner::read, rows->span);
    if (rows->via) link(*rows->via, Manner::followed, rows->span);
    if (rows->across) take(*rows->across);
    if (rows->kind == RowsKind::distinct || rows->kind == RowsKind::grouped) {
      for (const Field& field : rows->fields) {
        for (const ColumnRef& ref : column_refs(field.key)) column(ref.column, Manner::group, rows->span);
      }
    }
  }
  void take(const Across& across) {
    for (const ColumnRef& ref : across.columns) column(ref.column, Manner::dropped, across.span);
    for (const TableIndex index : across.tables) table(index, Manner::dropped, across.span);
    for (const LinkIndex role : across.roles) link(role, Manner::dropped, across.span);
  }

  const VisitMention& visit_;
  Manner of_slice_;  // in which columns of the slice are mentioned
};

}  // namespace

void each_mention(const Definition& definition, const VisitMention& visit) {
  Mentions mentions(visit, definition.role == Role::key ? Manner::group : Manner::filter);
  mentions.look(definition.expression);
  mentions.look(definition.rows);
  for (const ColumnId id : definition.columns) mentions.column(id, Manner::listed, definition.place);
  for (const TableIndex table : definition.tables) mentions.table(table, Manner::listed, definition.place);
  for (const Mention& name : definition.names) visit(name);
  if (definition.role == Role::declared && definition.measure)
    mentions.measure(static_cast<MeasureIndex>(definition.measure - definition.model->measures.data()), Manner::listed,
                     definition.place);
}

}  // namespace juniper::language
