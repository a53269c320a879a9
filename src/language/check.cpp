#include "language/check.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/diagnostics.h"
#include "base/format.h"
#include "language/check_expression.h"
#include "language/check_query.h"
#include "language/every_day.h"
#include "language/functions.h"
#include "language/lexer.h"
#include "language/operations.h"
#include "language/reporter.h"
#include "language/slices.h"
#include "language/traverse.h"

namespace juniper::language {

namespace {

// What is wrong with definitions, and not what it leads to in others.
void append_problems(const std::vector<Disabled>& wrong, Diagnostics& diagnostics) {
  for (const Disabled& definition : wrong) {
    std::copy_if(definition.problems.begin(), definition.problems.end(), std::back_inserter(diagnostics),
                 [](const Diagnostic& problem) { return !rests_on_disabled(problem); });
  }
}

// --- the model ------------------------------------------------------------------------------------------------------

class ModelChecker {
 public:
  ModelChecker(const syntax::Model& text, Sources sources, const Reading& reading, Diagnostics& diagnostics)
      : text_(text),
        reading_(reading),
        diagnostics_(diagnostics),
        report_(model_.sources, diagnostics),
        definitions_{model_, [this](ColumnId id, Span use) { return column_type(id, use); },
                     [this](MeasureIndex m, Span use) { return measure_type(m, use); },
                     [this] { return model_.variables++; }} {
    model_.sources = std::move(sources);
    model_.name = text.name.value_or("");
  }

  // Behind it, `wrong` holds what is wrong with definitions, and the list of problems the rest.
  CheckedModel check(std::vector<Disabled>& wrong) {
    check_definitions();
    for (const syntax::Query& query : text_.queries) {
      declare(*query.name, "query");
      if (!query.drafts.empty() && is_wrong()) continue;
      owning({DefinitionKind::query, "", query.name->text, query.span, {}}, [&] {
        model_.queries.push_back(query.drafts.empty() ? check_query(definitions_, query, {}, diagnostics_)
                                                      : drafted(query));
      });
    }
    wrong = std::move(wrong_);
    return std::move(model_);
  }

 private:
  void check_definitions() {
    declare_disabled();
    declare_tables();
    declare_parameters();
    declare_functions();
    declare_measures();
    declare_links(LinksOf::sources);
    declare_calculated_tables();
    declare_links(LinksOf::calculated);
    for (TableIndex t = 0; t < model_.tables.size(); ++t) declare_rows(t);
    check_reach();
    declare_calendar();
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) define_column({t, c});
    }
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m) define_measure(m);
    check_links();
    check_circles();
    check_live();
    check_slices();
    check_formats();
    check_drafts();
    for (const syntax::Reader& reader : text_.readers) declare_reader(reader);
  }

  // What a reader sees is decided before anything is left out: no error disables it.
  void declare_reader(const syntax::Reader& text) {
    declare(text.name, "reader");
    Reader reader{text.name.text, text.description, {}, {}, {}, text.span};
    if (!is_plain_name(reader.name))
      report_.error(text.name.span, "JR-221", "a reader's name is a plain word: files are named by it", "");
    for (const syntax::ReaderRows& rows : text.rows) {
      const auto table = table_of(rows.table);
      if (!table) continue;
      if (text_.tables[*table].rows) {
        report_.error(
            rows.table.span, "JR-221",
            fmt::format("{} is a calculated table, and is made of the rows that the reader sees", rows.table.text),
            "name the tables of sources that it is made from");
        continue;
      }
      const NodePtr condition =
          check_condition(definitions_, *rows.condition, calculated_scope(*table, this_of(*table)), diagnostics_);
      for (TableIndex t = 0; t < model_.tables.size(); ++t) {
        if (model_.paths(t, *table).size() > 1)
          report_.error(rows.table.span, "JR-221",
                        fmt::format("several paths lead from {} to {}: which of its rows the reader sees is not told",
                                    model_.tables[t].name, rows.table.text),
                        "give all of these links but one a role");
      }
      if (!condition) continue;
      if (!is_wrong())
        follow_slices(model_, condition, {{}, std::pair(this_of(*table), *table), reader.name}, diagnostics_);
      reader.rows.push_back({*table, condition, rows.span});
    }
    for (const syntax::HiddenThing& hidden : text.hidden) {
      if (!hidden.table) {
        if (!model_.find_measure(hidden.name.text) &&
            model_.find_disabled(DefinitionKind::measure, hidden.name.text) == nullptr)
          report_.error(hidden.name.span, "JR-204", fmt::format("there is no measure '{}'", hidden.name.text), "");
        reader.hidden_measures.insert(hidden.name.text);
        continue;
      }
      const auto table = table_of(*hidden.table);
      if (!table) continue;
      // A column that is disabled can't be asked for by anybody.
      if (model_.find_disabled(DefinitionKind::calculated_column, hidden.name.text, hidden.table->text) != nullptr)
        continue;
      if (const auto column = column_in(*table, hidden.name)) reader.hidden_columns.push_back({*table, *column});
    }
    model_.readers.push_back(std::move(reader));
  }

  // A query with definitions of its own is checked against a model that has them.
  Query drafted(const syntax::Query& query) {
    Reading reading = reading_;
    for (const syntax::Measure& draft : query.drafts) reading.drafts.push_back(&draft);
    ModelChecker checker(text_, model_.sources, reading, diagnostics_);
    checker.check_definitions();
    append_problems(checker.wrong_, diagnostics_);
    auto variant = std::make_shared<CheckedModel>();
    Query checked;
    if (!has_errors(diagnostics_)) checked = check_query(checker.definitions_, query, {}, diagnostics_);
    *variant = std::move(checker.model_);
    checked.variant = std::move(variant);
    return checked;
  }

  // Stored columns are the same whatever a query drafts.
  void check_drafts() {
    if (is_wrong()) return;
    for (const syntax::Measure* draft : reading_.drafts) {
      const auto measure = model_.find_measure(draft->name.text);
      for (const Table& table : model_.tables) {
        for (const Column& column : table.columns) {
          if (!measures_in(model_, column.expression).contains(*measure)) continue;
          report_.error(draft->name.span, "JR-413",
                        fmt::format("the stored column {}.{} rests on '{}', and a draft does not change what is stored",
                                    table.name, column.name, draft->name.text),
                        "change the measure's definition in the model text");
        }
      }
    }
  }

  // What expressions do with slices, where no query has set one yet.
  void check_slices() {
    if (is_wrong()) return;
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m) {
      const Measure& measure = model_.measures[m];
      owning(of_measure(m), [&] {
        follow_slices(model_, measure.expression, {{}, std::nullopt, measure.name}, diagnostics_);
      });
    }
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      const Table& table = model_.tables[t];
      for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
        if (!table.columns[c].expression) continue;
        const SliceStart start{{}, std::pair(this_of(t), t), model_.column_name({t, c})};
        owning(of_column({t, c}), [&] { follow_slices(model_, table.columns[c].expression, start, diagnostics_); });
      }
      if (!table.rows) continue;
      auto counted = std::make_shared<Node>();
      counted->op = Op::aggregate;
      counted->aggregate = Aggregate::row_count;
      counted->rows = table.rows;
      owning(of_table(t), [&] { follow_slices(model_, counted, {{}, std::nullopt, table.name}, diagnostics_); });
    }
  }

  // --- what is wrong, and with which definition ---------------------------------------------------------------------

  Disabled of_measure(MeasureIndex m) const {
    return {DefinitionKind::measure, "", model_.measures[m].name, model_.measures[m].span, {}};
  }
  Disabled of_column(ColumnId id) const {
    return {DefinitionKind::calculated_column,
            model_.tables[id.table].name,
            model_.column(id).name,
            model_.column(id).span,
            {}};
  }
  Disabled of_table(TableIndex t) const {
    return {DefinitionKind::calculated_table, "", model_.tables[t].name, model_.tables[t].span, {}};
  }

  bool is_wrong() const { return has_errors(diagnostics_) || !wrong_.empty(); }

  // What check() finds wrong is wrong with this definition.
  template <class Check>
  void owning(Disabled definition, const Check& check) {
    const std::size_t known = diagnostics_.size();
    check();
    const auto errors =
        std::stable_partition(diagnostics_.begin() + static_cast<std::ptrdiff_t>(known), diagnostics_.end(),
                              [](const Diagnostic& problem) { return problem.severity == Severity::warning; });
    if (errors == diagnostics_.end() || is_draft(definition)) return;
    const auto same = [&](const Disabled& other) {
      return other.is(definition.kind, definition.name, definition.table);
    };
    auto at = std::find_if(wrong_.begin(), wrong_.end(), same);
    if (at == wrong_.end()) at = wrong_.insert(wrong_.end(), std::move(definition));
    at->problems.insert(at->problems.end(), errors, diagnostics_.end());
    diagnostics_.erase(errors, diagnostics_.end());
  }

  bool is_draft(const Disabled& definition) const {
    return definition.kind == DefinitionKind::measure &&
           std::any_of(reading_.drafts.begin(), reading_.drafts.end(),
                       [&](const syntax::Measure* draft) { return draft->name.text == definition.name; });
  }

  // What was left out, but for what a draft stands in for.
  void declare_disabled() {
    for (const Disabled& disabled : reading_.disabled) {
      if (is_draft(disabled)) continue;
      if (disabled.table.empty()) names_.emplace(disabled.name, disabled.span);
      model_.disabled.push_back(disabled);
    }
  }

  enum class State : std::uint8_t { untouched, checking, good, bad };

  void declare(const syntax::Name& name, std::string_view what) {
    const auto [at, fresh] = names_.emplace(name.text, name.span);
    if (fresh) return;
    const Place first = model_.sources.place(at->second);
    report_.error(name.span, "JR-203",
                  fmt::format("the name '{}' of this {} is taken, in line {}", name.text, what, first.line),
                  "tables, measures, functions, roles and queries share one set of names");
  }

  void declare_tables() {
    for (const syntax::Table& text : text_.tables) {
      declare(text.name, "table");
      Table table;
      table.name = text.name.text;
      table.hidden = text.hidden;
      table.source = text.source;
      table.description = text.description;
      table.span = text.span;
      table.name_span = text.name.span;
      table.source_span = text.source_span;
      table.rows_span = text.rows_span;
      for (const syntax::Column& column : text.columns) declare_column(table, column);
      if (!text.rows && std::all_of(text.columns.begin(), text.columns.end(),
                                    [](const syntax::Column& c) { return c.expression != nullptr; })) {
        report_.error(text.name.span, "JR-210",
                      fmt::format("table '{}' reads no column from its source", text.name.text),
                      "declare at least one: NAME TYPE");
      }
      sort_orders(table, text);
      model_.tables.push_back(std::move(table));
      column_states_.emplace_back(text.columns.size(), State::untouched);
      declare_keys(static_cast<TableIndex>(model_.tables.size() - 1), text);
    }
  }

  void declare_column(Table& table, const syntax::Column& text) {
    if (table.find(text.name.text) ||
        model_.find_disabled(DefinitionKind::calculated_column, text.name.text, table.name) != nullptr) {
      report_.error(text.name.span, "JR-203",
                    fmt::format("table '{}' has a column '{}' already", table.name, text.name.text));
    }
    Column column;
    column.name = text.name.text;
    column.key = text.key;
    column.hidden = text.hidden;
    if (text.type) {
      column.type = text.type->type;
      column.header = text.header.value_or(text.name.text);
      column.part = text.part;
      column.source_span = text.source_span;
    }
    column.format = text.attributes.format.value_or("");
    column.description = text.attributes.description;
    column.used_by = text.attributes.used_by;
    column.span = text.span;
    column.name_span = text.name.span;
    table.add(std::move(column));
  }

  void declare_keys(TableIndex t, const syntax::Table& text) {
    for (const syntax::TableKey& written : text.keys) {
      TableKey key{{}, written.span};
      for (const syntax::Name& name : written.columns) {
        const auto column = column_in(t, name);
        if (!column) continue;
        if (std::find(key.columns.begin(), key.columns.end(), *column) != key.columns.end())
          report_.error(name.span, "JR-203", fmt::format("the key has a second column '{}'", name.text), "");
        if (model_.tables[t].columns[*column].key) {
          report_.error(name.span, "JR-203", fmt::format("'{}' is a key by itself", name.text),
                        "a key of several columns holds none that is one alone");
        }
        key.columns.push_back(*column);
      }
      model_.tables[t].keys.push_back(std::move(key));
    }
  }

  void sort_orders(Table& table, const syntax::Table& text) {
    for (std::size_t i = 0; i < text.columns.size(); ++i) {
      const auto& sorted_by = text.columns[i].attributes.sorted_by;
      if (!sorted_by) continue;
      table.columns[i].sorted_by = table.find(sorted_by->text);
      if (is_disabled_column(table, *sorted_by)) continue;
      if (!table.columns[i].sorted_by) {
        report_.error(sorted_by->span, "JR-202",
                      fmt::format("there is no column '{}' in table '{}' to sort by", sorted_by->text, table.name));
      }
    }
  }

  // Tells of a column that is disabled where nothing can do without it.
  bool is_disabled_column(const Table& table, const syntax::Name& name) {
    const Disabled* const disabled = model_.find_disabled(DefinitionKind::calculated_column, name.text, table.name);
    if (disabled != nullptr) diagnostics_.push_back(told_disabled(model_.sources, name.span, *disabled));
    return disabled != nullptr;
  }

  std::optional<std::uint32_t> column_in(TableIndex table, const syntax::Name& name) {
    const auto column = model_.tables[table].find(name.text);
    if (column) return column;
    if (is_disabled_column(model_.tables[table], name)) return std::nullopt;
    std::vector<std::string> names;
    for (const Column& c : model_.tables[table].columns) names.push_back(c.name);
    report_.error(name.span, "JR-202",
                  fmt::format("there is no column '{}' in table '{}'", name.text, model_.tables[table].name),
                  base::did_you_mean(name.text, names));
    return std::nullopt;
  }

  std::optional<TableIndex> table_of(const syntax::Name& name) {
    const auto table = model_.find_table(name.text);
    if (table) return table;
    if (const Disabled* const disabled = model_.find_disabled(DefinitionKind::calculated_table, name.text)) {
      diagnostics_.push_back(told_disabled(model_.sources, name.span, *disabled));
      return std::nullopt;
    }
    std::vector<std::string> names;
    for (const Table& t : model_.tables) names.push_back(t.name);
    report_.error(name.span, "JR-201", fmt::format("there is no table '{}'", name.text),
                  base::did_you_mean(name.text, names));
    return std::nullopt;
  }

  std::optional<LinkEnd> link_end(const syntax::LinkEnd& text) {
    const auto table = table_of(text.table);
    if (!table) return std::nullopt;
    LinkEnd end{*table, {}};
    for (const syntax::Name& name : text.columns) {
      const auto column = column_in(*table, name);
      if (!column) return std::nullopt;
      end.columns.push_back(*column);
    }
    return end;
  }

  // Calculated tables may follow links between the others, so these come first.
  enum class LinksOf : std::uint8_t { sources, calculated };
  void declare_links(LinksOf which) {
    const auto is_calculated = [&](const syntax::LinkEnd& end) {
      const auto table = model_.find_table(end.table.text);
      return table && text_.tables[*table].rows;
    };
    for (const syntax::Link& text : text_.links) {
      if ((is_calculated(text.from) || is_calculated(text.to)) != (which == LinksOf::calculated)) continue;
      if (text.role) declare(*text.role, "role");
      const auto from = link_end(text.from);
      const auto to = link_end(text.to);
      if (from && to) declare_link(text, *from, *to);
    }
  }

  void declare_link(const syntax::Link& text, const LinkEnd& from, const LinkEnd& to) {
    if (from.columns.size() != to.columns.size()) {
      report_.error(text.span, "JR-206",
                    fmt::format("{} columns can't be linked to {}", from.columns.size(), to.columns.size()),
                    "name as many on either side, in the same order");
      return;
    }
    // That several columns are a key together shows when the data is loaded.
    if (to.columns.size() == 1 && !model_.tables[to.table].columns[to.columns[0]].key) {
      const ColumnId key{to.table, to.columns[0]};
      report_.error(
          text.to.span, "JR-206",
          fmt::format("a link leads to a key, and {} is not declared as one", model_.column_name(key)),
          model_.tables[to.table].rows
              ? "link to all columns that the table's rows are made by, or to a table made of this one alone: table "
                "NAME = distinct(…)"
              : fmt::format("write `key {}` in table {}, or turn the link round", model_.column(key).name,
                            model_.tables[to.table].name));
    }
    const auto same = [&](const Link& l) {
      return l.role.empty() && !text.role && l.from.table == from.table && l.to.table == to.table;
    };
    if (std::any_of(model_.links.begin(), model_.links.end(), same)) {
      report_.error(text.span, "JR-206",
                    fmt::format("a second link from {} to {} needs a role", model_.tables[from.table].name,
                                model_.tables[to.table].name),
                    "end it with: as NAME");
    }
    model_.links.push_back({from, to, text.role ? text.role->text : "", text.span, ""});
  }

  // Which rows of its files a table holds, and in which order.
  void declare_rows(TableIndex t) {
    const syntax::Table& text = text_.tables[t];
    for (const syntax::Name& name : text.sorted_by) {
      const auto column = column_in(t, name);
      if (!column) continue;
      if (text_.tables[t].columns[*column].expression) {
        report_.error(name.span, "JR-218",
                      fmt::format("{} is calculated, and rows are sorted before", model_.column_name({t, *column})),
                      "sort by columns of the source");
      } else if (model_.tables[t].columns[*column].type.kind == TypeKind::real) {
        report_.error(name.span, "JR-218", "rows are not sorted by reals", "sort by columns of other types");
      }
      model_.tables[t].sorted_by.push_back(*column);
    }
    for (const syntax::Name& name : text.reached_from) {
      const auto from = table_of(name);
      if (!from) continue;
      bool leads = false;
      for (const Link& link : model_.links) {
        if (link.from.table != *from || link.to.table != t) continue;
        leads = true;
        check_reaching(link, name.span);
      }
      if (!leads) {
        report_.error(name.span, "JR-217", fmt::format("no link leads from {} to {}", name.text, model_.tables[t].name),
                      "name tables whose links lead here");
      }
      model_.tables[t].reached_from.push_back(*from);
    }
  }

  // Rows are left out before anything is calculated.
  void check_reaching(const Link& link, Span use) {
    for (const LinkEnd* const end : {&link.from, &link.to}) {
      const bool calculated =
          text_.tables[end->table].rows || std::any_of(end->columns.begin(), end->columns.end(), [&](std::uint32_t c) {
            return text_.tables[end->table].columns[c].expression != nullptr;
          });
      if (!calculated) continue;
      report_.error(use, "JR-217",
                    fmt::format("the link from {} goes by what is calculated, and rows are left out before",
                                model_.tables[link.from.table].name),
                    "link by columns of the source");
      return;
    }
  }

  // Which rows a table holds can't rest on which rows it holds.
  void check_reach() {
    std::vector<State> states(model_.tables.size(), State::untouched);
    for (TableIndex t = 0; t < model_.tables.size(); ++t) check_reach(t, states);
  }

  void check_reach(TableIndex t, std::vector<State>& states) {
    if (states[t] == State::checking) {
      report_.error(model_.tables[t].rows_span, "JR-217",
                    fmt::format("the rows of {} are reached from rows that are reached from {}", model_.tables[t].name,
                                model_.tables[t].name),
                    "break the circle");
    }
    if (states[t] != State::untouched) return;
    states[t] = State::checking;
    for (const TableIndex from : model_.tables[t].reached_from) check_reach(from, states);
    states[t] = State::good;
  }

  void check_links() {
    for (Link& link : model_.links) {
      for (std::size_t i = 0; i < link.from.columns.size(); ++i)
        check_link_columns(link, {link.from.table, link.from.columns[i]}, {link.to.table, link.to.columns[i]});
    }
  }

  // Types that differ break this link alone: the rest of the model goes on working.
  void check_link_columns(Link& link, ColumnId from_column, ColumnId to_column) {
    const auto from = column_type(from_column, link.span);
    const auto to = column_type(to_column, link.span);
    if (!from || !to) return;
    if (from->kind == TypeKind::real || to->kind == TypeKind::real) {
      report_.error(link.span, "JR-206", "reals are no keys: equal numbers may differ in their last bit",
                    "declare both columns as integer, decimal or text");
    }
    if (*from == *to) return;
    link.broken = fmt::format("its columns have different types: {} is {}, {} is {}", model_.column_name(from_column),
                              to_string(*from), model_.column_name(to_column), to_string(*to));
    report_.warning(link.span, "JR-216", fmt::format("this link is broken: {}", link.broken),
                    "declare both with one type");
  }

  // What a load computes can't rest on rows that it does not read; what is asked of another engine has to be an
  // expression over its row.
  void check_live() {
    if (is_wrong() ||
        std::none_of(model_.tables.begin(), model_.tables.end(), [](const Table& t) { return t.is_live(); }))
      return;
    for (const Link& link : model_.links) {
      if (model_.tables[link.from.table].is_live() || !model_.tables[link.to.table].is_live()) continue;
      report_.error(link.span, "JR-224",
                    fmt::format("{} is loaded, and {}, to which it leads, is live", model_.tables[link.from.table].name,
                                model_.tables[link.to.table].name),
                    "load both, or leave both where they are");
    }
    if (model_.calendar && model_.tables[model_.calendar->day.table].is_live()) {
      report_.error(model_.tables[model_.calendar->day.table].name_span, "JR-224", "the calendar is live",
                    "load it, or write: table days = every day");
    }
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      const Table& table = model_.tables[t];
      if (table.rows) check_loaded(needs_of(model_, table.rows), table.name, table.name_span);
      for (const TableIndex from : table.reached_from) {
        if (!model_.tables[from].is_live()) continue;
        report_.error(table.rows_span, "JR-224",
                      fmt::format("the rows of {} are those that {} leads to, and that one is live", table.name,
                                  model_.tables[from].name),
                      "load all of them: leave `reached from` out");
      }
      for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
        const Column& column = table.columns[c];
        if (!column.expression) continue;
        owning(of_column({t, c}), [&] {
          if (!table.is_live()) {
            check_loaded(needs_of(model_, column.expression, t), model_.column_name({t, c}), column.name_span);
          } else if (!is_over_row(column.expression)) {
            report_.error(column.name_span, "JR-224",
                          fmt::format("{} looks beyond its row, and the rows of {} are live",
                                      model_.column_name({t, c}), table.name),
                          "write a measure, or load the table");
          }
        });
      }
    }
  }

  void check_loaded(const Needs& needs, const std::string& what, Span span) {
    for (const TableIndex t : needs.tables) {
      if (!model_.tables[t].is_live()) continue;
      report_.error(
          span, "JR-224",
          fmt::format("{} is computed by the load, which reads no row of {}: it is live", what, model_.tables[t].name),
          "write a measure, or load the table");
      return;
    }
  }

  static bool is_over_row(const NodePtr& expression) {
    bool is_plain = true;
    walk(expression, [&](const Node& node) {
      const OpForm form = form_of(node.op);
      is_plain = is_plain && (form == OpForm::literal || form == OpForm::column || form == OpForm::operation);
    });
    return is_plain;
  }

  void check_format(const syntax::Attributes& attributes, Type type) {
    if (!attributes.format) return;
    if (const std::string problem = base::pattern_problem(*attributes.format, type); !problem.empty()) {
      report_.error(attributes.format_span, "JR-306", problem,
                    "patterns are Unicode's: \"#,##0.00\", \"0.0%\", \"d MMM yyyy\"");
    }
  }

  void check_formats() {
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < text_.tables[t].columns.size(); ++c) {
        const auto check = [&] {
          check_format(text_.tables[t].columns[c].attributes, model_.tables[t].columns[c].type);
        };
        if (text_.tables[t].columns[c].expression) {
          owning(of_column({t, c}), check);
        } else {
          check();
        }
      }
    }
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m) {
      if (!model_.measures[m].expression) continue;
      owning(of_measure(m), [&] { check_format(measure_texts_[m]->attributes, model_.measures[m].expression->type); });
    }
  }

  // A calculated column may be what a link starts from, and then must not be reached over that link.
  void check_circles() {
    if (is_wrong()) return;
    std::map<ColumnId, State> states;
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
        if (!rests_on_no_circle({t, c}, states)) return;
      }
    }
  }

  bool rests_on_no_circle(ColumnId id, std::map<ColumnId, State>& states) {
    State& state = states[id];
    if (state == State::good) return true;
    const Column& column = model_.column(id);
    if (state == State::checking) {
      report_.error(column.name_span, "JR-211",
                    fmt::format("'{}' is computed over a link or from rows that need '{}' itself",
                                model_.column_name(id), column.name),
                    "link by a column of the source");
      return false;
    }
    state = State::checking;
    bool good = true;
    const auto need = [&](ColumnId other) { good = good && rests_on_no_circle(other, states); };
    const Table& table = model_.tables[id.table];
    Needs needs;
    if (column.expression) needs = needs_of(model_, column.expression, id.table);
    if (table.rows) needs = needs_of(model_, table.rows);
    for (const ColumnId other : needs.columns) need(other);
    for (const TableIndex t : needs.tables) {
      if (!model_.tables[t].rows || (column.expression && t == id.table)) continue;
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) need({t, c});
    }
    states[id] = State::good;
    return good;
  }

  void declare_measures() {
    for (const syntax::Measure& text : text_.measures) {
      declare(text.name, "measure");
      measure_texts_.push_back(&text);
    }
    for (const syntax::Measure* draft : reading_.drafts) {
      const auto at = std::find_if(measure_texts_.begin(), measure_texts_.end(),
                                   [&](const syntax::Measure* text) { return text->name.text == draft->name.text; });
      if (at != measure_texts_.end()) {
        attributes_.emplace(draft, &(*at)->attributes);
        *at = draft;
      } else {
        declare(draft->name, "measure");
        measure_texts_.push_back(draft);
      }
    }
    for (const syntax::Measure* text : measure_texts_) {
      Measure measure;
      measure.name = text->name.text;
      measure.hidden = text->hidden;
      measure.format = text->attributes.format.value_or("");
      measure.description = text->attributes.description;
      measure.used_by = text->attributes.used_by;
      // A draft is shown as the measure that it stands in for, unless it says otherwise.
      if (const auto present = attributes_.find(text); present != attributes_.end()) {
        if (measure.format.empty()) measure.format = present->second->format.value_or("");
        if (measure.description.empty()) measure.description = present->second->description;
      }
      measure.span = text->span;
      measure.name_span = text->name.span;
      model_.measures.push_back(std::move(measure));
    }
    measure_states_.assign(measure_texts_.size(), State::untouched);
  }

  // --- parameters, calendar, calculated tables ----------------------------------------------------------------------

  void declare_parameters() {
    for (const syntax::Parameter& text : text_.parameters) {
      declare(text.name, "parameter");
      const NodePtr value = check_expression(definitions_, *text.value, Scope{}, diagnostics_);
      if (!value) continue;
      if (value->op != Op::literal || value->literal.is_null()) {
        report_.error(text.value->span, "JR-213", fmt::format("the value of '{}' is not one literal", text.name.text),
                      "a parameter is a number, a text, a date or true or false; what is computed is a measure");
        continue;
      }
      Parameter parameter{text.name.text, value->type, value->literal, text.description, text.span};
      if (const auto set = reading_.settings.find(parameter.name); set != reading_.settings.end()) {
        if (const auto given = parse_value(set->second, parameter.type)) {
          parameter.value = *given;
        } else {
          report_.error(text.span, "JR-213",
                        fmt::format("'{}' is no {} for the parameter '{}'", set->second, to_string(parameter.type),
                                    parameter.name),
                        fmt::format("its value in the text is {}", to_text(value->literal, value->type)));
        }
      }
      model_.parameters.push_back(std::move(parameter));
    }
    for (const auto& [name, value] : reading_.settings) {
      std::vector<std::string> names;
      for (const Parameter& parameter : model_.parameters) names.push_back(parameter.name);
      if (std::find(names.begin(), names.end(), name) != names.end() || has_errors(diagnostics_)) continue;
      const auto found = base::error("JR-213", fmt::format("there is no parameter '{}' to set", name),
                                     base::did_you_mean(name, names));
      diagnostics_.insert(diagnostics_.end(), found.begin(), found.end());
    }
  }

  void declare_functions() {
    for (const syntax::Function& text : text_.functions) {
      declare(text.name, "function");
      if (find_function(text.name.text) != nullptr || text.name.text == "only" || text.name.text == "grouping") {
        report_.error(text.name.span, "JR-203",
                      fmt::format("'{}' is a function of the language already", text.name.text),
                      "give it another name");
      }
      ModelFunction function{text.name.text, {}, text.body, text.description, text.span};
      for (const syntax::Name& argument : text.arguments) {
        if (std::find(function.arguments.begin(), function.arguments.end(), argument.text) != function.arguments.end())
          report_.error(argument.span, "JR-203", fmt::format("a second argument '{}'", argument.text), "");
        function.arguments.push_back(argument.text);
      }
      model_.functions.push_back(std::move(function));
    }
    for (const syntax::Function& text : text_.functions) {
      std::vector<std::string> chain{text.name.text};
      std::set<std::string> seen;
      if (!comes_back(*text.body, chain, seen)) continue;
      std::string circle;
      for (const std::string& name : chain) circle += (circle.empty() ? "" : " -> ") + name;
      report_.error(text.name.span, "JR-211", fmt::format("the function '{}' uses itself: {}", text.name.text, circle),
                    "");
    }
    for (const syntax::Function& text : text_.functions) {
      std::vector<std::string> chain{text.name.text};
      std::set<std::string> seen;
      if (!comes_back(*text.body, chain, seen)) continue;
      for (ModelFunction& function : model_.functions) {
        if (function.name == text.name.text) function.body = nullptr;
      }
    }
  }

  // Whether a text calls functions, and these others, so that one comes back to the first of the chain; it then ends so.
  // What was `seen` does not.
  bool comes_back(const syntax::Expression& body, std::vector<std::string>& chain, std::set<std::string>& seen) const {
    for (const std::string& name : syntax::called(body)) {
      const ModelFunction* const function = model_.find_function(name);
      if (function == nullptr || !seen.insert(name).second) continue;
      chain.push_back(name);
      if (name == chain.front() || (function->body && comes_back(*function->body, chain, seen))) return true;
      chain.pop_back();
    }
    return false;
  }

  void declare_calendar() {
    for (const syntax::Calendar& text : text_.calendars) {
      const auto table = model_.find_table(text.day.table.text);
      if (table && text_.tables[*table].is_every_day && model_.tables[*table].columns.empty())
        continue;  // told already
      if (model_.calendar) {
        report_.error(text.span, "JR-410", "a model has one calendar, and this is a second one",
                      "a second date of a fact leads to the same calendar by a link with a role");
        continue;
      }
      const auto day = link_end(text.day);
      if (!day || day->columns.size() != 1) continue;
      Calendar calendar{{day->table, day->columns[0]}, {}, text.span};
      if (const auto type = column_type(calendar.day, text.span);
          !type || *type != Type{TypeKind::date, 0} || !model_.column(calendar.day).key) {
        report_.error(text.day.span, "JR-410", "the day of a calendar is a key of type date",
                      fmt::format("declare it: key {} date", model_.column(calendar.day).name));
        continue;
      }
      for (const syntax::Name& name : text.periods) {
        if (const auto column = column_in(day->table, name)) calendar.periods.push_back(*column);
      }
      model_.calendar = std::move(calendar);
    }
  }

  // The variable of the row that a table's calculated columns read.
  VariableId this_of(TableIndex t) {
    VariableId& row = model_.tables[t].row;
    if (row == slice_row) row = model_.variables++;
    return row;
  }

  void declare_calculated_tables() {
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      const syntax::Table& text = text_.tables[t];
      if (!text.rows) continue;
      RowSetPtr rows;
      owning(of_table(t), [&] { rows = check_rows(definitions_, *text.rows, Scope{}, diagnostics_); });
      if (!rows) model_.disabled.push_back(of_table(t));  // what it holds is not known
      if (!rows) continue;
      Table& table = model_.tables[t];
      table.rows = rows;
      if (rows->table) {
        for (std::uint32_t c = 0; c < model_.tables[*rows->table].columns.size(); ++c) {
          const Column& from = model_.tables[*rows->table].columns[c];
          auto value = std::make_shared<Node>();
          value->op = Op::column;
          value->variable = rows->variable;
          value->column = {*rows->table, {}, {*rows->table, c}};
          value->type = from.type;
          column_of_table(table, text, from.name, value, ColumnId{*rows->table, c}, from.key);
        }
      }
      const auto identifying =
          std::count_if(rows->fields.begin(), rows->fields.end(), [](const Field& field) { return field.identifies; });
      for (std::uint32_t f = 0; f < rows->fields.size(); ++f) {
        const Field& field = rows->fields[f];
        auto value = std::make_shared<Node>();
        value->op = Op::field;
        value->variable = rows->variable;
        value->field = f;
        value->type = field.type;
        column_of_table(table, text, field.name, value, field.column, identifying == 1 && field.identifies);
      }
      for (Column& column : table.columns) {
        const std::string by = text.is_every_day ? syntax::sorted_by(column.name) : "";
        if (!by.empty()) column.sorted_by = table.find(by);
      }
      column_states_[t].assign(table.columns.size(), State::good);
    }
  }

  void column_of_table(Table& table, const syntax::Table& text, const std::string& name, NodePtr value,
                       const std::optional<ColumnId>& from, bool key) {
    Column column;
    column.name = name;
    column.type = value->type;
    column.key = key;
    if (from) column.format = model_.column(*from).format;
    column.from_row = std::move(value);
    column.span = text.span;
    column.name_span = text.name.span;
    table.add(std::move(column));
  }

  std::optional<Type> column_type(ColumnId id, Span use) {
    const Column& column = model_.tables[id.table].columns[id.column];
    if (column.from_row) return column.type;
    if (!text_.tables[id.table].columns[id.column].expression) return column.type;
    return used(column_states_[id.table][id.column], of_column(id), use, [&] { define_column(id); })
               ? std::optional(column.type)
               : std::nullopt;
  }

  std::optional<Type> measure_type(MeasureIndex m, Span use) {
    return used(measure_states_[m], of_measure(m), use, [&] { define_measure(m); })
               ? std::optional(model_.measures[m].expression->type)
               : std::nullopt;
  }

  void define_column(ColumnId id) {
    Column& column = model_.tables[id.table].columns[id.column];
    State& state = column_states_[id.table][id.column];
    if (column.from_row || state != State::untouched) return;
    const syntax::Column& text = text_.tables[id.table].columns[id.column];
    if (!text.expression) return;
    owning(of_column(id), [&] {
      define(state, model_.column_name(id), *text.expression, calculated_scope(id.table, this_of(id.table)),
             column.expression);
    });
    if (column.expression) column.type = column.expression->type;
  }

  void define_measure(MeasureIndex m) {
    if (measure_states_[m] != State::untouched) return;
    Measure& measure = model_.measures[m];
    owning(of_measure(m), [&] {
      define(measure_states_[m], measure.name, *measure_texts_[m]->expression, Scope{}, measure.expression);
    });
  }

  // Whether what is used is good; it is defined when it is first needed. `under_way_` is the chain of those that wait.
  template <class Define>
  bool used(const State& state, const Disabled& definition, Span use, const Define& define_it) {
    if (state == State::checking) {
      const std::string name = definition.full_name();
      const auto begin = std::find(under_way_.begin(), under_way_.end(), name);
      std::string chain;
      for (auto at = begin; at != under_way_.end(); ++at) chain += *at + " -> ";
      report_.error(use, "JR-211", fmt::format("'{}' is defined by itself: {}{}", name, chain, name),
                    "break the circle");
      return false;
    }
    if (state == State::untouched) {
      if (under_way_.size() >= deepest.definitions) return too_deep(use);
      define_it();
    }
    if (state != State::good) {
      diagnostics_.push_back(told_disabled(model_.sources, use, definition));
      return false;
    }
    if (depths_.empty()) return true;
    // Whatever the order in which they are checked.
    const Depth& depth = depth_of_[&state];
    if (depth.definitions >= deepest.definitions || depth.levels >= deepest.levels) return too_deep(use);
    depths_.back().definitions = std::max(depths_.back().definitions, depth.definitions);
    depths_.back().levels = std::max(depths_.back().levels, depth.levels);
    return true;
  }

  void define(State& state, const std::string& name, const syntax::Expression& text, const Scope& scope,
              NodePtr& result) {
    state = State::checking;
    under_way_.push_back(name);
    depths_.emplace_back();
    NodePtr node = check_expression(definitions_, text, scope, diagnostics_);
    under_way_.pop_back();
    Depth& depth = depth_of_[&state] = depths_.back();
    depths_.pop_back();
    ++depth.definitions;
    depth.levels += text.height;
    if (node && node->op == Op::literal && node->literal.is_null()) {
      report_.error(text.span, "JR-301", "null alone has no type", "give it one: if false then 0");
      node = nullptr;
    }
    state = node ? State::good : State::bad;
    result = std::move(node);
  }

  // How far definitions rest on others, and how many levels their expressions have in all: bounded, so that whatever
  // follows them may recurse.
  struct Depth {
    std::size_t definitions = 0;
    std::size_t levels = 0;
  };
  static constexpr Depth deepest{200, 2000};

  bool too_deep(Span use) {
    report_.error(use, "JR-211",
                  fmt::format("definitions rest on each other more than {} deep here, or on more than {} levels of "
                              "expressions",
                              deepest.definitions, deepest.levels),
                  "let them rest on fewer others");
    return false;
  }

  std::map<const State*, Depth> depth_of_;
  std::vector<Depth> depths_;  // of those that are being checked, as far as is known

  const syntax::Model& text_;
  const Reading& reading_;
  Diagnostics& diagnostics_;
  CheckedModel model_;
  Reporter report_;
  Definitions definitions_;
  std::map<std::string, Span> names_;
  std::vector<const syntax::Measure*> measure_texts_;
  std::map<const syntax::Measure*, const syntax::Attributes*> attributes_;  // of those that drafts stand in for
  std::vector<std::vector<State>> column_states_;
  std::vector<State> measure_states_;
  std::vector<std::string> under_way_;
  std::vector<Disabled> wrong_;
};

void leave_out(syntax::Model& model, const std::vector<Disabled>& disabled) {
  const auto has = [&](DefinitionKind kind, const std::string& name, const std::string& table) {
    return std::any_of(disabled.begin(), disabled.end(), [&](const Disabled& d) { return d.is(kind, name, table); });
  };
  std::erase_if(model.measures,
                [&](const syntax::Measure& m) { return has(DefinitionKind::measure, m.name.text, ""); });
  std::erase_if(model.queries, [&](const syntax::Query& q) { return has(DefinitionKind::query, q.name->text, ""); });
  std::erase_if(model.tables, [&](const syntax::Table& t) {
    return t.rows && has(DefinitionKind::calculated_table, t.name.text, "");
  });
  for (syntax::Table& table : model.tables) {
    std::erase_if(table.columns, [&](const syntax::Column& c) {
      return c.expression && has(DefinitionKind::calculated_column, c.name.text, table.name.text);
    });
  }
}

// The names in the text of each.
void note_names(const Sources& sources, std::vector<Disabled>& disabled) {
  for (std::uint32_t file = 0; file < sources.size(); ++file) {
    if (std::none_of(disabled.begin(), disabled.end(), [&](const Disabled& d) { return d.span.file == file; }))
      continue;
    Diagnostics ignored;
    for (const Token& token : tokenize(sources, file, ignored)) {
      if (token.kind != TokenKind::name && token.kind != TokenKind::quoted_name) continue;
      for (Disabled& each : disabled) {
        if (each.span.file == file && each.span.begin <= token.span.begin && token.span.end <= each.span.end)
          each.names.insert(token.text);
      }
    }
  }
}

}  // namespace

CheckedModel check_model(const syntax::Model& model, Sources sources, const Reading& reading,
                         Diagnostics& diagnostics) {
  std::vector<Disabled> wrong;
  Reading unread = reading;  // whose names are known, and their problems told
  unread.disabled.insert(unread.disabled.end(), model.unread.begin(), model.unread.end());
  CheckedModel checked = ModelChecker(model, std::move(sources), unread, diagnostics).check(wrong);
  append_problems(wrong, diagnostics);
  // Told is the cause, not what it leads to.
  if (!std::all_of(diagnostics.begin(), diagnostics.end(), rests_on_disabled))
    std::erase_if(diagnostics, rests_on_disabled);
  return checked;
}

CheckedModel check_what_holds(syntax::Model& model, const Sources& sources, Reading reading, Diagnostics& diagnostics) {
  for (Disabled& unread : model.unread) {
    for (const Diagnostic& problem : unread.problems) std::erase(diagnostics, problem);
    reading.disabled.push_back(std::move(unread));
  }
  model.unread.clear();
  // What is left out is what others rest on, which shows when they are checked without it.
  while (true) {
    Diagnostics problems;
    std::vector<Disabled> wrong;
    CheckedModel checked = ModelChecker(model, sources, reading, problems).check(wrong);
    if (wrong.empty() || has_errors(problems)) {
      diagnostics.insert(diagnostics.end(), problems.begin(), problems.end());
      checked.disabled.insert(checked.disabled.end(), wrong.begin(), wrong.end());
      note_names(sources, checked.disabled);
      return checked;
    }
    leave_out(model, wrong);
    reading.disabled.insert(reading.disabled.end(), std::make_move_iterator(wrong.begin()),
                            std::make_move_iterator(wrong.end()));
  }
}

}  // namespace juniper::language
