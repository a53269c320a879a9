#include "refactor/narrowing.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include "base/exact.h"
#include "engine/query/ask.h"
#include "language/lexer.h"
#include "language/traverse.h"
#include "model/access.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::refactoring {

namespace {

using namespace language;

double number(const Value& value, Type type) {
  switch (value.kind()) {
    case Value::Kind::exact:
      return base::to_real(value.exact(), type.scale);
    case Value::Kind::real:
      return value.real();
    case Value::Kind::null:
    case Value::Kind::text:
      return 0;
  }
  return 0;
}

struct ByValue {
  Value value;
  double difference = 0;
};

// The difference of the two sides for each value of a column, the largest first; nothing when the measure can't be
// shown by it on both.
std::optional<std::vector<ByValue>> differences_by(const Sides& sides, const std::string& column,
                                                   const std::string& measure, const std::vector<std::string>& where) {
  const std::string query = fmt::format("by {} as k show {} as m keep empty", column, written_name(measure));
  const auto base = ask(sides.base, {query, where});
  const auto other = ask(sides.other, {query, where, sides.drafts});
  if (!base || !other) return std::nullopt;
  std::vector<ByValue> found;
  const auto add = [&](const QueryResult& result, double sign) {
    for (const ResultRow& row : result.rows) {
      auto at = std::find_if(found.begin(), found.end(), [&](const ByValue& b) { return b.value == row.cells[0]; });
      if (at == found.end()) at = found.insert(found.end(), {row.cells[0], 0});
      at->difference += sign * number(row.cells[1], result.columns[1].type);
    }
  };
  add(*other, 1);
  add(*base, -1);
  std::stable_sort(found.begin(), found.end(),
                   [](const ByValue& a, const ByValue& b) { return std::abs(a.difference) > std::abs(b.difference); });
  return found;
}

class SourceFinder {
 public:
  SourceFinder(const Sides& sides, const std::string& measure)
      : sides_(sides), model_(model::checked(sides.base.model())), measure_(measure) {}

  Narrowing find() {
    Narrowing made;
    made.measure = measure_;
    for (int depth = 0; depth < deepest; ++depth) {
      if (!add_source(made.sources)) break;
    }
    find_rows(made);
    return made;
  }

 private:
  static constexpr int deepest = 3;
  static constexpr std::uint64_t most_values = 1000;  // of a column that is looked at
  static constexpr std::size_t most_carriers = 5;     // of values that carry the difference
  static constexpr double nearly_all = 0.95;

  struct Candidate {
    DifferenceSource source;
    std::string condition;
    double part = 1;  // of the column's values that carry the difference
  };

  // Of all columns that are not yet used, the one of whose values the smallest part carries nearly all of the
  // difference.
  bool add_source(std::vector<DifferenceSource>& sources) {
    std::optional<Candidate> best;
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
        const store::Column& column = store::store_of(sides_.base).tables[t].columns[c].data;
        if (column.distinct < 2 || column.distinct > most_values || column.type.kind == TypeKind::real) continue;
        if (is_fact(t) && !describes({t, c})) continue;
        const std::string name =
            written_name(model_.tables[t].name) + "." + written_name(model_.tables[t].columns[c].name);
        if (std::any_of(sources.begin(), sources.end(), [&](const DifferenceSource& s) { return s.column == name; }))
          continue;
        const auto candidate = look_at(name, column.type);
        if (candidate && (!best || candidate->part < best->part)) best = candidate;
      }
    }
    if (!best) return false;
    conditions_.push_back(best->condition);
    sources.push_back(best->source);
    return true;
  }

  bool is_fact(TableIndex table) const {
    return std::none_of(model_.links.begin(), model_.links.end(),
                        [&](const Link& link) { return link.to.table == table; });
  }

  // Of a fact: what is no number, or leads to a dimension, rather than tells single rows apart.
  bool describes(ColumnId id) const {
    const Column& column = model_.column(id);
    const bool links =
        std::any_of(model_.links.begin(), model_.links.end(), [&](const Link& link) { return link.from.reads(id); });
    return !column.key && (links || !column.type.is_number());
  }

  std::optional<Candidate> look_at(const std::string& column, Type type) const {
    const auto found = differences_by(sides_, column, measure_, conditions_);
    if (!found || found->size() < 2) return std::nullopt;
    double all = 0;
    for (const ByValue& b : *found) all += std::abs(b.difference);
    if (all == 0) return std::nullopt;
    Candidate made;
    made.source.column = column;
    made.source.of_values = found->size();
    double carried = 0;
    std::string list;
    bool null = false;
    for (const ByValue& b : *found) {
      if (carried >= nearly_all * all) break;
      if (made.source.values.size() == most_carriers) return std::nullopt;
      carried += std::abs(b.difference);
      const bool is_null = b.value.is_null();
      made.source.values.push_back(fmt::format("{}: {:+.6g}", is_null ? "null" : to_text(b.value, type), b.difference));
      if (is_null) {
        null = true;
      } else {
        list += (list.empty() ? "" : ", ") + written_value(b.value, type);
      }
    }
    made.source.share = carried / all;
    made.part = static_cast<double>(made.source.values.size()) / static_cast<double>(found->size());
    if (made.part > 0.5) return std::nullopt;  // spread over its values: it tells nothing
    if (!list.empty()) made.condition = fmt::format("{} in ({})", column, list);
    if (null) made.condition += fmt::format("{}{} is null", list.empty() ? "" : " or ", column);
    return made;
  }

  // --- rows ---------------------------------------------------------------------------------------------------------

  // The columns that a measure reads of the rows that it aggregates, by the table of these rows; from the outside in.
  using Reads = std::map<TableIndex, std::vector<std::string>>;
  static void collect(const CheckedModel& model, const NodePtr& node, Reads& reads, std::set<MeasureIndex>& entered) {
    walk(node, [&](const Node& n) {
      if (n.op == Op::measure && entered.insert(n.measure).second)
        collect(model, model.measures[n.measure].expression, reads, entered);
      if (n.op == Op::aggregate && n.rows->table) reads[*n.rows->table];
      if (n.op != Op::column || n.variable == slice_row) return;
      std::vector<std::string>& columns = reads[n.column.start];
      const std::string name = written_name(model.tables[n.column.column.table].name) + "." +
                               written_name(model.column(n.column.column).name);
      if (std::find(columns.begin(), columns.end(), name) == columns.end()) columns.push_back(name);
    });
  }

  void find_rows(Narrowing& made) const {
    constexpr std::uint64_t most_rows = 5'000'000;  // of a table that is grouped by its key
    constexpr std::size_t most_columns = 6;
    const auto other_model =
        engine::prepare(sides_.other.model(), {"show " + written_name(measure_), {}, sides_.drafts});
    if (!other_model) return;
    Reads reads;
    std::set<MeasureIndex> entered;
    std::set<MeasureIndex> entered_other;
    collect(model_, model_.measures[*model_.find_measure(measure_)].expression, reads, entered);
    // Tables of the two models have the same numbers.
    collect(*other_model->model, other_model->model->measures[*other_model->model->find_measure(measure_)].expression,
            reads, entered_other);
    // Of several tables, the one with most rows: it is the fact.
    std::optional<TableIndex> fact;
    std::optional<std::string> key;
    for (const auto& [table, columns] : reads) {
      const auto& own = model_.tables[table].columns;
      const auto found = std::find_if(own.begin(), own.end(), [](const Column& c) { return c.key; });
      const std::uint64_t rows = store::store_of(sides_.base).tables[table].rows;
      if (found == own.end() || rows > most_rows || (fact && rows <= store::store_of(sides_.base).tables[*fact].rows))
        continue;
      fact = table;
      key = written_name(model_.tables[table].name) + "." + written_name(found->name);
    }
    if (!fact) return;
    std::string by = *key;
    std::size_t columns = 1;
    for (const std::string& name : reads[*fact]) {
      if (name != *key && columns++ < most_columns) by += ", " + name;
    }
    const std::string query = fmt::format("by {} show {} keep empty", by, written_name(measure_));
    auto base = ask(sides_.base, {query, conditions_});
    const auto other = ask(sides_.other, {query, conditions_, sides_.drafts});
    if (!base || !other) return;
    add_rows(*base, *other, made);
    made.row_columns = std::move(base->columns);
    made.row_columns.push_back(other->columns.back());
    made.row_columns.back().name = sides_.other_name;
    (made.row_columns.end() - 2)->name = measure_;
  }

  static void add_rows(const QueryResult& base, const QueryResult& other, Narrowing& made) {
    constexpr std::size_t most = 5;
    const auto before = [](const std::vector<Value>& a, const std::vector<Value>& b) {
      return compare(a[0], b[0]) < 0;
    };
    std::map<std::vector<Value>, DifferenceRow, decltype(before)> rows(before);
    const auto add = [&](const QueryResult& result, Value DifferenceRow::*side) {
      for (const ResultRow& row : result.rows) {
        DifferenceRow& at = rows[{row.cells.front()}];
        at.cells.assign(row.cells.begin(), row.cells.end() - 1);
        at.*side = row.cells.back();
      }
    };
    add(base, &DifferenceRow::base);
    add(other, &DifferenceRow::other);
    const auto apart = [&](const DifferenceRow& row) {
      return std::abs(number(row.other, other.columns.back().type) - number(row.base, base.columns.back().type));
    };
    for (auto& [key, row] : rows) {
      if (row.base.is_null() != row.other.is_null() || apart(row) > 0) made.rows.push_back(std::move(row));
    }
    std::stable_sort(made.rows.begin(), made.rows.end(),
                     [&](const DifferenceRow& a, const DifferenceRow& b) { return apart(a) > apart(b); });
    if (made.rows.size() > most) made.rows.resize(most);
  }

  const Sides& sides_;
  const CheckedModel& model_;  // of the base
  const std::string& measure_;
  std::vector<std::string> conditions_;
};

}  // namespace

Narrowing narrow(const Sides& sides, const std::string& measure) {
  const CheckedModel& model = model::checked(sides.base.model());
  const auto index = model.find_measure(measure);
  const bool there = index && model::checked(sides.other.model()).find_measure(measure);
  if (!there || !model.measures[*index].expression->type.is_number()) return {measure, {}, {}, {}};
  return SourceFinder(sides, measure).find();
}

}  // namespace juniper::refactoring
