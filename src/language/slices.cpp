#include "language/slices.h"

#include "language/operations.h"
#include "language/traverse.h"

#include <fmt/format.h>

#include <algorithm>

namespace juniper::language {

std::vector<ColumnRef> mentions(const CheckedModel& model, const Predicate& predicate) {
  std::vector<ColumnRef> columns;
  if (predicate.kind == PredicateKind::days) {
    columns.push_back({predicate.table, {}, model.calendar->day});
  }
  if (!predicate.expression) return columns;
  walk_scalars(predicate.expression, [&](const Node& n) {
    if (n.op == Op::column && n.variable == slice_row) columns.push_back(n.column);
  });
  return columns;
}

Reach reach(const CheckedModel& model, const Predicate& predicate, TableIndex table, const Roles& roles) {
  if (predicate.kind == PredicateKind::row) {
    const std::size_t ways = model.paths(table, predicate.table, roles).size();
    return ways == 0 ? Reach::none : (ways == 1 ? Reach::all : Reach::ambiguous);
  }
  std::size_t found = 0;
  const auto columns = mentions(model, predicate);
  for (const ColumnRef& column : columns) {
    const auto rebased = model.rebase(column, table, roles);
    if (rebased.ambiguous) return Reach::ambiguous;
    found += rebased.ref ? 1 : 0;
  }
  if (found == 0) return Reach::none;
  return found == columns.size() ? Reach::all : Reach::part;
}

Meeting meeting(const CheckedModel& model, TableIndex table, TableIndex bridge, const Roles& roles) {
  Meeting met;
  if (!model.paths(table, bridge, roles).empty()) return met;
  std::vector<TableIndex> common;
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (t != bridge && !model.paths(table, t, roles).empty() && !model.paths(bridge, t, roles).empty())
      common.push_back(t);
  }
  const auto leads = [&](TableIndex from, TableIndex to) { return !model.paths(from, to, roles).empty(); };
  for (const TableIndex t : common) {
    const bool is_behind = std::any_of(common.begin(), common.end(), [&](TableIndex other) {
      return other != t && leads(other, t) && !leads(t, other);
    });
    if (!is_behind) met.tables.push_back(t);
  }
  if (met.tables.size() != 1) return met;
  const auto ways = model.paths(table, met.tables[0], roles);
  const auto bridge_ways = model.paths(bridge, met.tables[0], roles);
  if (ways.size() != 1 || bridge_ways.size() != 1) return met;
  met.is_plain = true;
  met.from_table = ways[0];
  met.from_bridge = bridge_ways[0];
  return met;
}

Reach reach_through(const CheckedModel& model, const Predicate& predicate, TableIndex table, TableIndex bridge,
                    const Roles& roles) {
  const Reach own = reach(model, predicate, table, roles);
  if (own == Reach::all || own == Reach::ambiguous || !meeting(model, table, bridge, roles).is_plain)
    return Reach::none;
  return reach(model, predicate, bridge, roles);
}

std::optional<TableIndex> bridge_of(const CheckedModel& model, const Predicate& predicate, const SeenTable& seen) {
  std::optional<TableIndex> over;
  for (const TableIndex bridge : seen.bridges) {
    if (reach_through(model, predicate, seen.table, bridge, seen.roles) != Reach::all) continue;
    if (over) return std::nullopt;
    over = bridge;
  }
  return over;
}

bool is_bridge_alone(const Modifiers& m) {
  return m.through && !m.of && !m.of_slice && !m.via && !m.across && !m.during && m.where.empty();
}

std::vector<TableIndex> with_bridge(std::vector<TableIndex> bridges, TableIndex bridge) {
  const auto at = std::lower_bound(bridges.begin(), bridges.end(), bridge);
  if (at == bridges.end() || *at != bridge) bridges.insert(at, bridge);
  return bridges;
}

namespace {

std::vector<LinkIndex> roles_in(const CheckedModel& model, const std::vector<LinkIndex>& path) {
  std::vector<LinkIndex> roles;
  for (const LinkIndex link : path) {
    if (!model.links[link].role.empty()) roles.push_back(link);
  }
  return roles;
}

bool named_by(const CheckedModel& model, const ColumnRef& column, const Across& across) {
  const auto roles = roles_in(model, column.path);
  for (const ColumnRef& dropped : across.columns) {
    if (dropped.column == column.column && roles_in(model, dropped.path) == roles) return true;
  }
  for (const LinkIndex role : across.roles) {
    if (std::find(roles.begin(), roles.end(), role) != roles.end()) return true;
  }
  return roles.empty() &&
         std::find(across.tables.begin(), across.tables.end(), column.column.table) != across.tables.end();
}

Covered of_count(std::size_t covered, std::size_t all) {
  if (covered == 0) return Covered::none;
  return covered == all ? Covered::all : Covered::part;
}

Covered opposite(Covered covered) {
  if (covered == Covered::part) return covered;
  return covered == Covered::all ? Covered::none : Covered::all;
}

}  // namespace

Covered covered(const CheckedModel& model, const Predicate& predicate, const Across& across) {
  Covered named = Covered::none;
  if (predicate.kind == PredicateKind::row) {
    if (std::find(across.tables.begin(), across.tables.end(), predicate.table) != across.tables.end()) {
      named = Covered::all;
    } else if (std::any_of(across.columns.begin(), across.columns.end(),
                           [&](const ColumnRef& c) { return c.path.empty() && c.column.table == predicate.table; })) {
      named = Covered::part;  // a row is all of its columns
    }
  } else {
    const auto columns = mentions(model, predicate);
    const auto count = static_cast<std::size_t>(std::count_if(
        columns.begin(), columns.end(), [&](const ColumnRef& column) { return named_by(model, column, across); }));
    named = of_count(count, columns.size());
  }
  return across.everything ? opposite(named) : named;
}

bool is_grouped_by(const CheckedModel& model, const Predicate& predicate, const Node& grouping) {
  if (predicate.kind != PredicateKind::key) return false;
  const NodePtr& expression = predicate.expression;
  if (grouping.key) return canonical(model, expression) == canonical(model, grouping.key);
  return expression->op == Op::column && expression->column == grouping.column;
}

Covered replaced_by_during(const CheckedModel& model, const Predicate& predicate) {
  const Calendar& calendar = *model.calendar;
  if (predicate.kind == PredicateKind::row) return predicate.table == calendar.day.table ? Covered::all : Covered::none;
  const auto columns = mentions(model, predicate);
  const auto count = std::count_if(columns.begin(), columns.end(), [&](const ColumnRef& column) {
    const bool period =
        std::find(calendar.periods.begin(), calendar.periods.end(), column.column.column) != calendar.periods.end();
    return roles_in(model, column.path).empty() && column.column.table == calendar.day.table &&
           (column.column == calendar.day || period);
  });
  return of_count(static_cast<std::size_t>(count), columns.size());
}

Roles with_role(const CheckedModel& model, Roles roles, LinkIndex role) {
  std::erase_if(roles, [&](LinkIndex other) {
    return model.links[other].from.table == model.links[role].from.table &&
           model.links[other].to.table == model.links[role].to.table;
  });
  roles.push_back(role);
  std::sort(roles.begin(), roles.end());
  return roles;
}

ColumnRef routed(const CheckedModel& model, ColumnRef ref, const Roles& roles) {
  for (LinkIndex& index : ref.path) {
    const Link& link = model.links[index];
    if (!link.role.empty()) continue;
    for (const LinkIndex role : roles) {
      if (model.links[role].from.table == link.from.table && model.links[role].to.table == link.to.table) {
        index = role;
        break;
      }
    }
  }
  return ref;
}

std::vector<Predicate> narrowing(const RowSetPtr& set, TableIndex table) {
  std::vector<Predicate> predicates;
  if (!set || set->table) {
    predicates.push_back({PredicateKind::row, nullptr, set ? *set->table : table, set ? set->span : Span{}, 0});
    return predicates;
  }
  for (const Field& field : set->fields) {
    if (field.identifies) predicates.push_back({PredicateKind::key, field.key, 0, field.span, 0});
  }
  for (const NodePtr& condition : set->made_by) {
    predicates.push_back({PredicateKind::filter, condition, 0, condition->span, 0});
  }
  return predicates;
}

namespace {

struct StaticSlice {
  std::vector<Predicate> predicates;
  Roles roles;
  // Each with the number of the `through` that set it.
  std::map<TableIndex, std::size_t> bridges;

  std::vector<TableIndex> bridge_tables() const {
    std::vector<TableIndex> tables;
    for (const auto& [table, number] : bridges) tables.push_back(table);
    return tables;
  }
};

class Walk {
 public:
  Walk(const CheckedModel& model, const SliceStart& start, Diagnostics& diagnostics)
      : model_(model), start_(start), diagnostics_(diagnostics), next_(start.predicates.size()) {
    if (start.row) rows_[start.row->first] = {{}, nullptr, start.row->second};
  }

  SliceUse run(const NodePtr& node) {
    visit(node, {start_.predicates, {}, {}});
    for (const auto& [number, through] : bridges_) {
      if (!met_.contains(number)) check_use(through);
    }
    return std::move(use_);
  }

 private:
  struct Row {
    StaticSlice slice;
    RowSetPtr set;
    TableIndex table = 0;
  };

  void error(Span span, std::string code, std::string message, std::string suggestion,
             Severity severity = Severity::error) {
    auto diagnostic =
        model_.sources.diagnostic(severity, std::move(code), span, std::move(message), std::move(suggestion));
    const bool told = std::any_of(diagnostics_.begin(), diagnostics_.end(), [&](const Diagnostic& other) {
      return other.code == diagnostic.code && other.place == diagnostic.place && other.message == diagnostic.message;
    });
    if (!told) diagnostics_.push_back(std::move(diagnostic));
  }

  void visit(const NodePtr& node, const StaticSlice& slice) {
    if (!node) return;
    switch (form_of(node->op)) {
      case OpForm::measure:
        if (first_time(node->measure, slice)) visit(model_.measures[node->measure].expression, slice);
        return;
      case OpForm::modified:
        return modified(*node, slice);
      case OpForm::aggregate: {
        std::size_t first = 0;
        if (node->aggregate == Aggregate::rank) visit(node->children[first++], slice);
        rows(node->rows, slice);
        for (; first < node->children.size(); ++first) visit(node->children[first], slice);
        return;
      }
      case OpForm::let:
        for (const Let& let : node->lets) {
          visit(let.value, slice);
          if (let.rows) {
            rows(let.rows, slice);
            names_[let.name] = rows_.at(let.rows->variable).slice;
          }
        }
        break;
      case OpForm::literal:
      case OpForm::column:
      case OpForm::field:
      case OpForm::name:
      case OpForm::grouping:
      case OpForm::operation:
        break;
    }
    for (const NodePtr& child : node->children) visit(child, slice);
  }

  // Measures that are named again in the same slice have nothing new to say.
  bool first_time(MeasureIndex measure, const StaticSlice& slice) {
    std::vector<std::size_t> key{measure};
    for (const LinkIndex role : slice.roles) key.push_back(role);
    key.push_back(~std::size_t{0});
    for (const auto& [table, number] : slice.bridges) key.push_back(number);
    key.push_back(~std::size_t{0});
    for (const Predicate& predicate : slice.predicates) key.push_back(predicate.id);
    return seen_.insert(std::move(key)).second;
  }

  // The same condition or row, met again, keeps its id.
  std::size_t id_of(const void* what, std::size_t part) {
    const auto [at, fresh] = ids_.try_emplace({what, part}, next_);
    if (fresh) ++next_;
    return at->second;
  }

  StaticSlice narrowed(VariableId variable) {
    const Row& row = rows_.at(variable);
    StaticSlice slice = row.slice;
    auto added = narrowing(row.set, row.table);
    for (std::size_t i = 0; i < added.size(); ++i) {
      added[i].id = id_of(row.set ? static_cast<const void*>(row.set.get()) : &start_, i);
      slice.predicates.push_back(std::move(added[i]));
    }
    return slice;
  }

  void drop(StaticSlice& slice, const Across& across) {
    std::vector<Predicate> kept;
    for (Predicate& predicate : slice.predicates) {
      switch (covered(model_, predicate, across)) {
        case Covered::all:
          use_.dropped.insert(predicate.id);
          continue;
        case Covered::part:
          error(across.span, "JR-411",
                fmt::format("only a part of the filter `{}` is dropped here, and what is left of it is no filter",
                            model_.sources.text(predicate.span)),
                "drop all of its columns, or split it into conditions joined by `and`");
          break;
        case Covered::none:
          warn_of_link_columns(predicate, across);
          warn_of_farther_filters(predicate, across);
          break;
      }
      kept.push_back(std::move(predicate));
    }
    slice.predicates = std::move(kept);
  }

  // A filter that stays on a column that links to a dropped table still chooses among its rows.
  void warn_of_link_columns(const Predicate& predicate, const Across& across) {
    if (across.everything) return;
    for (const ColumnRef& column : mentions(model_, predicate)) {
      for (const Link& link : model_.links) {
        if (!link.from.reads(column.column)) continue;
        if (std::find(across.tables.begin(), across.tables.end(), link.to.table) == across.tables.end()) continue;
        error(across.span, "JR-412",
              fmt::format("the filter `{}` stays, and its column leads to {}, whose filters are dropped here",
                          model_.sources.text(predicate.span), model_.tables[link.to.table].name),
              fmt::format("drop it too: across ({}, {})", model_.tables[link.to.table].name,
                          model_.column_name(column.column)),
              Severity::warning);
      }
    }
  }

  // A filter that stays on a table behind a dropped one still chooses among its rows: the rows of a region's stations,
  // where filters on stations are dropped. A key does so on purpose.
  void warn_of_farther_filters(const Predicate& predicate, const Across& across) {
    if (across.everything || predicate.kind != PredicateKind::filter) return;
    for (const TableIndex dropped : across.tables) {
      for (const ColumnRef& column : mentions(model_, predicate)) {
        const TableIndex farther = column.column.table;
        if (farther == dropped || model_.paths(dropped, farther).empty()) continue;
        const std::string name = model_.tables[dropped].name;
        const std::string behind = model_.tables[farther].name;
        error(across.span, "JR-415",
              fmt::format("the filter `{}` stays: {} leads to {}, whose filters are not dropped here",
                          model_.sources.text(predicate.span), name, behind),
              fmt::format("where it should not: across ({}, {})", name, behind), Severity::warning);
        return;
      }
    }
  }

  void modified(const Node& node, const StaticSlice& incoming) {
    const Modifiers& m = *node.modifiers;
    StaticSlice slice = m.of ? narrowed(*m.of) : incoming;
    if (m.via) slice.roles = with_role(model_, slice.roles, *m.via);
    if (m.through) {
      const std::size_t number = id_of(&m, m.where.size());
      if (slice.bridges.emplace(m.through->table, number).second) bridges_.emplace(number, *m.through);
    }
    if (m.across) drop(slice, *m.across);
    if (m.during) move(slice, *m.during);
    for (std::size_t i = 0; i < m.where.size(); ++i) {
      visit(m.where[i], incoming);
      slice.predicates.push_back({PredicateKind::filter, m.where[i], 0, m.where[i]->span, id_of(&m, i)});
    }
    visit(node.children[0], slice);
  }

  void move(StaticSlice& slice, const During& during) {
    const TableIndex calendar = model_.calendar->day.table;
    check_reach({slice.predicates, slice.roles, {}}, calendar);
    std::vector<Predicate> kept;
    for (Predicate& predicate : slice.predicates) {
      const Covered replaced = replaced_by_during(model_, predicate);
      if (replaced == Covered::all) {
        use_.dropped.insert(predicate.id);
        continue;
      }
      if (replaced == Covered::part) {
        error(during.span, "JR-411",
              fmt::format("only a part of the filter `{}` is replaced by this period",
                          model_.sources.text(predicate.span)),
              "split it into conditions joined by `and`");
      }
      for (const ColumnRef& column : mentions(model_, predicate)) {
        for (const Link& link : model_.links) {
          if (link.to.table != calendar || !link.from.reads(column.column)) continue;
          error(during.span, "JR-411",
                fmt::format("the filter `{}` is on a date of the fact itself, and this period would not move it",
                            model_.sources.text(predicate.span)),
                fmt::format("filter by {}", model_.column_name(model_.calendar->day)));
        }
      }
      kept.push_back(std::move(predicate));
    }
    slice.predicates = std::move(kept);
    slice.predicates.push_back({PredicateKind::days, nullptr, calendar, during.span, id_of(&during, 0)});
  }

  void rows(const RowSetPtr& set, const StaticSlice& slice) {
    switch (set->kind) {
      case RowsKind::table: {
        StaticSlice own = set->of ? linked(*set) : slice;
        if (set->via) own.roles = with_role(model_, own.roles, *set->via);
        if (set->across) drop(own, *set->across);
        use_.tables.insert({*set->table, own.roles, own.bridge_tables()});
        check_bridges(own, *set->table);
        check_reach(own, *set->table);
        rows_[set->variable] = {std::move(own), set, *set->table};
        return;
      }
      case RowsKind::members:
        rows_[set->variable] = {members_.at(set->group), set, set->table.value_or(0)};
        return;
      case RowsKind::named:
        rows_[set->variable] = {names_.at(set->name), set, set->table.value_or(0)};
        return;
      case RowsKind::days:
        for (const NodePtr& value : set->values) visit(value, slice);
        rows_[set->variable] = {slice, set, 0};
        return;
      case RowsKind::filtered:
      case RowsKind::extended:
      case RowsKind::sorted:
      case RowsKind::distinct:
      case RowsKind::grouped:
      case RowsKind::top:
      case RowsKind::unite:
      case RowsKind::except:
      case RowsKind::intersect:
        break;
    }
    rows(set->input, slice);
    if (set->other) rows(set->other, slice);
    const StaticSlice carried = rows_.at(set->input->variable).slice;
    for (const NodePtr& value : set->values) visit(value, slice);
    if (set->kind == RowsKind::filtered) visit(set->condition, slice);
    rows_[set->variable] = {carried, set, set->table.value_or(0)};
    if (set->kind == RowsKind::grouped) {
      members_[set->variable] = carried;
      for (const NodePtr& result : set->results) visit(result, slice);
    }
  }

  // `T of x`: the slice of x narrowed to x. The row must be one that T leads to.
  StaticSlice linked(const RowSet& set) {
    const Row& row = rows_.at(*set.of);
    if (!row.set || row.set->table) {
      const TableIndex table = row.set ? *row.set->table : row.table;
      Roles roles = row.slice.roles;
      if (set.via) roles = with_role(model_, roles, *set.via);
      if (model_.paths(*set.table, table, roles).empty()) {
        error(set.span, "JR-207",
              fmt::format("no link leads from {} to {}", model_.tables[*set.table].name, model_.tables[table].name),
              "`of` takes the many rows that belong to one");
      }
    }
    return narrowed(*set.of);
  }

  // Where the rows of a table and those of the slice's bridges meet.
  void check_bridges(const StaticSlice& slice, TableIndex table) {
    for (const auto& [bridge, number] : slice.bridges) {
      const Meeting met = meeting(model_, table, bridge, slice.roles);
      if (met.tables.empty()) continue;
      met_.insert(number);
      if (met.is_plain) continue;
      const Through& through = bridges_.at(number);
      const std::string& name = model_.tables[table].name;
      std::string places;
      for (const TableIndex at : met.tables) places += (places.empty() ? "" : " and at ") + model_.tables[at].name;
      error(through.span, "JR-416",
            met.tables.size() == 1
                ? fmt::format("several paths lead to {}, where the rows of {} and of {} meet", places, name,
                              model_.tables[bridge].name)
                : fmt::format("the rows of {} and of {} meet at {}: nobody could say which of them is meant", name,
                              model_.tables[bridge].name, places),
            "give the link that is not meant a role (as NAME)");
    }
  }

  // A bridge over which nothing is reached would change nothing.
  void check_use(const Through& through) {
    error(through.span, "JR-416",
          fmt::format("no table over which '{}' goes shares a table with {}", start_.what,
                      model_.tables[through.table].name),
          "a bridge leads to a table to which the measure's rows lead, too, and is none of those that they lead to");
  }

  void check_reach(const StaticSlice& slice, TableIndex table) {
    for (const Predicate& predicate : slice.predicates) {
      const std::string_view text = model_.sources.text(predicate.span);
      Reach reached = reach(model_, predicate, table, slice.roles);
      std::optional<TableIndex> over;
      for (const auto& [bridge, number] : slice.bridges) {
        const Reach by_bridge = reach_through(model_, predicate, table, bridge, slice.roles);
        if (by_bridge == Reach::none || reached == Reach::all) {
          if (by_bridge == Reach::all && over) {
            error(bridges_.at(number).span, "JR-416",
                  fmt::format("`{}` is reached over {} and over {}: nobody could say which of them is meant", text,
                              model_.tables[*over].name, model_.tables[bridge].name),
                  "leave one of them out");
          }
          continue;
        }
        reached = by_bridge;
        if (by_bridge == Reach::all) over = bridge;
      }
      switch (reached) {
        case Reach::all:
          use_.reached.insert(predicate.id);
          break;
        case Reach::part:
          error(predicate.span, "JR-404",
                fmt::format("only a part of this condition reaches {}, over which '{}' goes", model_.tables[table].name,
                            start_.what),
                "split it into conditions joined by `and`, each over tables that all are reached or all are not");
          break;
        case Reach::ambiguous:
          error(predicate.span, "JR-208",
                fmt::format("several paths lead from {} to what `{}` filters, in '{}'", model_.tables[table].name, text,
                            start_.what),
                "give one of the links a role (as NAME), or write the path by its first table");
          break;
        case Reach::none:
          break;
      }
    }
  }

  const CheckedModel& model_;
  const SliceStart& start_;
  Diagnostics& diagnostics_;
  SliceUse use_;
  std::size_t next_;
  std::map<std::pair<const void*, std::size_t>, std::size_t> ids_;
  std::set<std::vector<std::size_t>> seen_;
  std::map<std::size_t, Through> bridges_;  // by their numbers
  std::set<std::size_t> met_;               // those over which rows of some table are reached
  std::map<VariableId, Row> rows_;
  std::map<VariableId, StaticSlice> names_;
  std::map<VariableId, StaticSlice> members_;
};

}  // namespace

SliceUse follow_slices(const CheckedModel& model, const NodePtr& node, const SliceStart& start,
                       Diagnostics& diagnostics) {
  return Walk(model, start, diagnostics).run(node);
}

}  // namespace juniper::language
