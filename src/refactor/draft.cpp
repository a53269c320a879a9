#include "juniper/draft.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "engine/ask.h"
#include "language/check.h"
#include "language/lexer.h"
#include "language/parser.h"
#include "refactor/text_edits.h"
#include "refactor/text_file.h"
#include "store/store.h"

namespace juniper {

namespace {

using namespace language;

constexpr int runs = 3;  // of each query, base and draft in turn

std::int64_t median(std::vector<std::int64_t> times) {
  std::sort(times.begin(), times.end());
  return times[times.size() / 2];
}

// A measure that is new has no other side.
Result<DraftedQuery> run_new(const Dataset& dataset, const std::string& query, const std::string& text) {
  auto draft = ask(dataset, {query, {}, {text}});
  if (!draft) return tl::unexpected(draft.error());
  DraftedQuery made;
  made.query = query;
  made.draft_nanoseconds = draft->nanoseconds;
  made.draft = std::move(*draft);
  return made;
}

Result<DraftedQuery> run_both(const Dataset& dataset, const std::string& query, const std::string& text) {
  DraftedQuery made;
  made.query = query;
  std::vector<std::int64_t> base_times;
  std::vector<std::int64_t> draft_times;
  for (int run = 0; run < runs; ++run) {
    auto base = ask(dataset, {query});
    if (!base) return tl::unexpected(base.error());
    auto draft = ask(dataset, {query, {}, {text}});
    if (!draft) return tl::unexpected(draft.error());
    base_times.push_back(base->nanoseconds);
    draft_times.push_back(draft->nanoseconds);
    made.base = std::move(*base);
    made.draft = std::move(*draft);
  }
  made.base_nanoseconds = median(base_times);
  made.draft_nanoseconds = median(draft_times);
  made.comparison = compare(made.base, made.draft);
  return made;
}

// --- where a difference comes from ----------------------------------------------------------------------------------

double number(const Value& value, Type type) {
  switch (value.kind()) {
    case Value::Kind::exact:
      return base::to_real(value.exact(), type.scale);
    case Value::Kind::real:
      return value.real();
    default:
      return 0;
  }
}

struct ByValue {
  Value value;
  double difference = 0;
};

// The difference of draft and base for each value of a column, the largest first; nothing when the measure can't be
// shown by it.
std::optional<std::vector<ByValue>> differences_by(const Dataset& dataset, const std::string& column,
                                                   const std::string& measure, const std::string& text,
                                                   const std::vector<std::string>& where) {
  const std::string query = fmt::format("by {} as k show {} as m keep empty", column, written_name(measure));
  const auto base = ask(dataset, {query, where});
  const auto draft = ask(dataset, {query, where, {text}});
  if (!base || !draft) return std::nullopt;
  std::vector<ByValue> found;
  const auto add = [&](const QueryResult& result, double sign) {
    for (const ResultRow& row : result.rows) {
      auto at = std::find_if(found.begin(), found.end(), [&](const ByValue& b) { return b.value == row.cells[0]; });
      if (at == found.end()) at = found.insert(found.end(), {row.cells[0], 0});
      at->difference += sign * number(row.cells[1], result.columns[1].type);
    }
  };
  add(*draft, 1);
  add(*base, -1);
  std::stable_sort(found.begin(), found.end(),
                   [](const ByValue& a, const ByValue& b) { return std::abs(a.difference) > std::abs(b.difference); });
  return found;
}

class SourceFinder {
 public:
  SourceFinder(const Dataset& dataset, const std::string& measure, const std::string& text)
      : dataset_(dataset), model_(dataset.model().checked()), measure_(measure), text_(text) {}

  void find(Draft& made) {
    for (int depth = 0; depth < deepest; ++depth) {
      if (!add_source(made.sources)) break;
    }
    find_rows(made);
  }

 private:
  static constexpr int deepest = 3;
  static constexpr std::uint64_t most_values = 1000;  // of a column that is looked at
  static constexpr std::size_t most_carriers = 5;     // of values that carry the difference
  static constexpr double nearly_all = 0.95;

  struct Candidate {
    DraftSource source;
    std::string condition;
    double part = 1;  // of the column's values that carry the difference
  };

  // Of all columns that are not yet used, the one of whose values the smallest part carries nearly all of the
  // difference.
  bool add_source(std::vector<DraftSource>& sources) {
    std::optional<Candidate> best;
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
        const store::Column& column = dataset_.store().tables[t].columns[c].data;
        if (column.distinct < 2 || column.distinct > most_values || column.type.kind == TypeKind::real) continue;
        if (is_fact(t) && !describes({t, c})) continue;
        const std::string name =
            written_name(model_.tables[t].name) + "." + written_name(model_.tables[t].columns[c].name);
        if (std::any_of(sources.begin(), sources.end(), [&](const DraftSource& s) { return s.column == name; }))
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
    const auto found = differences_by(dataset_, column, measure_, text_, conditions_);
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
  static void collect(const CheckedModel& model, const NodePtr& node, Reads& reads) {
    walk(node, [&](const Node& n) {
      if (n.op == Op::measure) collect(model, model.measures[n.measure].expression, reads);
      if (n.op == Op::aggregate && n.rows->table) reads[*n.rows->table];
      if (n.op != Op::column || n.variable == slice_row) return;
      std::vector<std::string>& columns = reads[n.column.start];
      const std::string name = written_name(model.tables[n.column.column.table].name) + "." +
                               written_name(model.column(n.column.column).name);
      if (std::find(columns.begin(), columns.end(), name) == columns.end()) columns.push_back(name);
    });
  }

  void find_rows(Draft& made) const {
    constexpr std::uint64_t most_rows = 5'000'000;  // of a table that is grouped by its key
    constexpr std::size_t most_columns = 6;
    const auto drafted = engine::prepare(dataset_.model(), {"show " + written_name(measure_), {}, {text_}});
    if (!drafted) return;
    Reads reads;
    collect(model_, model_.measures[*model_.find_measure(measure_)].expression, reads);
    collect(drafted->model, drafted->model.measures[*drafted->model.find_measure(measure_)].expression, reads);
    // Of several tables, the one with most rows: it is the fact.
    std::optional<TableIndex> fact;
    std::optional<std::string> key;
    for (const auto& [table, columns] : reads) {
      const auto& own = model_.tables[table].columns;
      const auto found = std::find_if(own.begin(), own.end(), [](const Column& c) { return c.key; });
      const std::uint64_t rows = dataset_.store().tables[table].rows;
      if (found == own.end() || rows > most_rows || (fact && rows <= dataset_.store().tables[*fact].rows)) continue;
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
    auto base = ask(dataset_, {query, conditions_});
    const auto draft = ask(dataset_, {query, conditions_, {text_}});
    if (!base || !draft) return;
    add_rows(*base, *draft, made);
    made.row_columns = std::move(base->columns);
    made.row_columns.push_back(draft->columns.back());
    made.row_columns.back().name = "with the draft";
    (made.row_columns.end() - 2)->name = measure_;
  }

  static void add_rows(const QueryResult& base, const QueryResult& draft, Draft& made) {
    constexpr std::size_t most = 5;
    const auto before = [](const std::vector<Value>& a, const std::vector<Value>& b) {
      return compare(a[0], b[0]) < 0;
    };
    std::map<std::vector<Value>, DraftRow, decltype(before)> rows(before);
    const auto add = [&](const QueryResult& result, Value DraftRow::*side) {
      for (const ResultRow& row : result.rows) {
        DraftRow& at = rows[{row.cells.front()}];
        at.cells.assign(row.cells.begin(), row.cells.end() - 1);
        at.*side = row.cells.back();
      }
    };
    add(base, &DraftRow::base);
    add(draft, &DraftRow::draft);
    const auto apart = [&](const DraftRow& row) {
      return std::abs(number(row.draft, draft.columns.back().type) - number(row.base, base.columns.back().type));
    };
    for (auto& [key, row] : rows) {
      if (row.base.is_null() != row.draft.is_null() || apart(row) > 0) made.rows.push_back(std::move(row));
    }
    std::stable_sort(made.rows.begin(), made.rows.end(),
                     [&](const DraftRow& a, const DraftRow& b) { return apart(a) > apart(b); });
    if (made.rows.size() > most) made.rows.resize(most);
  }

  const Dataset& dataset_;
  const CheckedModel& model_;
  const std::string& measure_;
  const std::string& text_;
  std::vector<std::string> conditions_;
};

}  // namespace

bool Draft::same() const {
  return std::all_of(queries.begin(), queries.end(), [](const DraftedQuery& q) { return q.comparison.same(); });
}

Result<Draft> draft(const Dataset& dataset, const std::string& text, const std::vector<std::string>& queries) {
  return base::guarded([&]() -> Result<Draft> {
    Sources texts;
    Diagnostics problems;
    const std::uint32_t file = texts.add({"<draft>", text});
    const syntax::Measure measure = parse_measure(texts, file, problems);
    if (has_errors(problems)) return tl::unexpected(std::move(problems));
    const CheckedModel& model = dataset.model().checked();
    Draft made;
    made.measure = measure.name.text;
    made.definition = texts.text(measure.expression->span);
    const auto present = model.find_measure(made.measure);
    if (present) made.before = model.sources.text(model.measures[*present].expression->span);
    std::vector<std::string> asked = queries;
    if (asked.empty() && present) {
      for (const Query& query : model.queries) {
        if (query.variant) continue;  // it has definitions of its own
        bool depends = query.having && measures_in(model, query.having).contains(*present);
        for (const QueryShow& item : query.show)
          depends = depends || measures_in(model, item.expression).contains(*present);
        if (depends) asked.push_back(query.name);
      }
    }
    for (const std::string& query : asked) {
      auto both = present ? run_both(dataset, query, text) : run_new(dataset, query, text);
      if (!both) return tl::unexpected(both.error());
      made.queries.push_back(std::move(*both));
    }
    // The definition must hold even where no query shows it.
    if (asked.empty()) {
      if (const auto answer = ask(dataset, {"show " + written_name(made.measure), {}, {text}}); !answer)
        return tl::unexpected(answer.error());
    }
    if (present && !made.same() && model.measures[*present].expression->type.is_number())
      SourceFinder(dataset, made.measure, text).find(made);
    return made;
  });
}

Result<void> keep(const Dataset& dataset, const Draft& draft) {
  return base::guarded([&]() -> Result<void> {
    const CheckedModel& model = dataset.model().checked();
    const auto present = model.find_measure(draft.measure);
    const std::uint32_t file = present ? model.measures[*present].expression->span.file : 0;
    const SourceText& source = model.sources[file];
    std::string after = source.text;
    if (present) {
      refactoring::TextEdits edits;
      edits.replace(model.measures[*present].expression->span, draft.definition);
      after = edits.apply(source.text, {file, 0, static_cast<std::uint32_t>(source.text.size())});
    } else {
      if (!after.empty() && after.back() != '\n') after += '\n';
      after += fmt::format("measure {} = {}\n", written_name(draft.measure), draft.definition);
    }
    return refactoring::replace_text(source.name, source.text, after);
  });
}

}  // namespace juniper
