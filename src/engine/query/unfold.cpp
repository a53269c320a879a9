// Opens an expression into its parts: each is evaluated like the whole, in its own slice; the rows of an aggregate are
// written out and looked at one by one.
#include "juniper/unfold.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "engine/asked/live_tables.h"
#include "engine/frame/evaluator.h"
#include "engine/query/ask.h"
#include "language/operations.h"
#include "language/traverse.h"
#include "model/hidden.h"

namespace juniper::engine {

using namespace language;

class Unfolder {
 public:
  Unfolder(const Source& source, unsigned threads, std::size_t samples)
      : source_(source), model_(source.model), evaluator_(source, threads), samples_(samples) {}

  std::vector<UnfoldedPart> run(const Query& query) {
    auto frame = std::make_shared<Frame>();
    frame->rows = 1;
    auto slice = std::make_shared<Slice>();
    for (const NodePtr& condition : query.where) {
      slice->predicates.push_back(
          {{PredicateKind::filter, condition, 0, condition->span, 0}, frame.get(), nullptr, nullptr, nullptr, {}});
    }
    for (const QueryShow& item : query.show) open(item.expression, frame, slice, 0);
    return std::move(parts_);
  }

 private:
  void open(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice, std::uint32_t depth) {
    if (node->op == Op::rescale || node->op == Op::to_real) return open(node->children[0], frame, slice, depth);
    switch (form_of(node->op)) {
      case OpForm::literal:
      case OpForm::column:
      case OpForm::field:
      case OpForm::name:
        return;
      case OpForm::measure: {
        const Measure& measure = model_.measures[node->measure];
        UnfoldedPart& part = add(UnfoldedKind::measure, node, frame, slice, depth);
        part.text = measure.name;
        part.place = model_.sources.place(measure.name_span);
        part.format = measure.format;
        const std::size_t whole = parts_.size();
        open(measure.expression, frame, slice, depth + 1);
        if (whole < parts_.size() && parts_[whole].type == node->type && parts_[whole].format.empty())
          parts_[whole].format = measure.format;
        return;
      }
      case OpForm::modified:
        add(UnfoldedKind::slice, node, frame, slice, depth);
        return open(node->children[0], frame, evaluator_.modified(*node->modifiers, frame, slice), depth + 1);
      case OpForm::let:
        return open_let(*node, frame, slice, depth);
      case OpForm::aggregate:
        return open_aggregate(node, frame, slice, depth);
      case OpForm::grouping:
      case OpForm::operation:
        add(UnfoldedKind::expression, node, frame, slice, depth);
        for (const NodePtr& child : node->children) open(child, frame, slice, depth + 1);
    }
  }

  UnfoldedPart& add(UnfoldedKind kind, const NodePtr& node, const FramePtr& frame, const SlicePtr& slice,
                    std::uint32_t depth) {
    const VectorPtr values = evaluator_.evaluate(node, frame, slice);
    if (values->state[0] == State::overflow)
      evaluator_.fail(node->span, "JR-701", "this part does not fit its type", "");
    UnfoldedPart& part = parts_.emplace_back();
    part.depth = depth;
    part.kind = kind;
    part.text = model_.sources.text(node->span);
    part.place = model_.sources.place(node->span);
    part.value = values->value_at(0);
    part.type = node->type;
    return part;
  }

  void open_let(const Node& node, const FramePtr& frame, const SlicePtr& slice, std::uint32_t depth) {
    FramePtr at = frame;
    for (const Let& let : node.lets) {
      if (!let.rows) {
        add(UnfoldedKind::name, let.value, at, slice, depth).text = let.text;
        open(let.value, at, slice, depth + 1);
      }
      at = evaluator_.with_name(let, at, slice);
    }
    open(node.children[0], at, slice, depth);
  }

  // --- aggregates ---------------------------------------------------------------------------------------------------

  void open_aggregate(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice, std::uint32_t depth) {
    const std::size_t index = parts_.size();
    add(UnfoldedKind::aggregate, node, frame, slice, depth);
    const RowSetPtr& set = node->rows;
    const TableIndex table = base_table(set);
    SlicePtr seen_through = slice;
    RowSetPtr innermost = set;
    while (innermost->input) innermost = innermost->input;
    UnfoldedPart part = parts_[index];
    part.table = model_.tables[table].name;
    if (innermost->kind == RowsKind::table) {
      seen_through = evaluator_.table_slice(*innermost, frame, slice);
      part.all = source_.rows(table);
      part.seen = evaluator_.rows(innermost, frame, slice)->rows;
    }
    for (const HeldPredicate& held : seen_through->predicates) {
      const auto bridge = bridge_of(model_, held.predicate, {table, seen_through->roles, seen_through->bridges});
      part.filters.push_back({std::string(model_.sources.text(held.predicate.span)),
                              model_.sources.place(held.predicate.span),
                              bridge || reach(model_, held.predicate, table, seen_through->roles) == Reach::all,
                              bridge ? model_.tables[*bridge].name : ""});
    }
    const FramePtr pairs = evaluator_.rows(set, frame, slice);
    part.kept = pairs->rows;
    VectorPtr values;
    if (!node->children.empty()) values = evaluator_.evaluate(node->children.back(), pairs, slice);
    if (node->aggregate == Aggregate::first || node->aggregate == Aggregate::last)
      values = evaluator_.evaluate(node->children[0], pairs, slice);
    if (values)
      part.skipped = static_cast<std::uint64_t>(std::count(values->state.begin(), values->state.end(), State::null));
    const Binding& rows = pairs->bindings.begin()->second;
    std::vector<ColumnRef> columns;
    if (rows.table) columns = columns_read(*node, *rows.table, rows.slice ? rows.slice->roles : Roles{});
    if (rows.table) add_misses(part, columns, rows);
    add_rows(part, *node, pairs, columns, values, slice);
    parts_[index] = std::move(part);
  }

  // The columns on which an aggregate's value and conditions rest: those that are named, and what they are calculated
  // from within the row.
  std::vector<ColumnRef> columns_read(const Node& node, TableIndex table, const Roles& roles) const {
    std::vector<ColumnRef> found;
    const std::function<void(const NodePtr&, VariableId)> look = [&](const NodePtr& expression, VariableId row) {
      walk(expression, [&](const Node& n) {
        if (n.op != Op::column || n.variable != row) return;
        const ColumnRef ref = routed(model_, n.column, roles);
        if (std::find(found.begin(), found.end(), ref) != found.end()) return;
        found.push_back(ref);
        const language::Column& column = model_.column(ref.column);
        if (ref.path.empty() && column.is_calculated()) look(column.expression, model_.tables[table].row);
      });
    };
    for (const NodePtr& child : node.children) look(child, node.rows->variable);
    for (const RowSet* set = node.rows.get(); set != nullptr; set = set->input.get()) {
      if (set->condition) look(set->condition, node.rows->variable);
    }
    return found;
  }

  // The row of the table behind a path, or nothing.
  std::optional<std::uint64_t> follow(std::uint64_t row, const std::vector<LinkIndex>& path, std::size_t steps) const {
    for (std::size_t s = 0; s < steps; ++s) {
      const store::LinkRows rows = source_.link_rows(path[s]);
      row = rows.at(row);
      if (row == rows.no_row()) return std::nullopt;
    }
    return row;
  }

  void add_misses(UnfoldedPart& part, const std::vector<ColumnRef>& columns, const Binding& rows) const {
    constexpr std::size_t most_keys = 3;
    std::set<std::vector<LinkIndex>> paths;
    for (const ColumnRef& ref : columns) {
      for (std::size_t steps = 1; steps <= ref.path.size(); ++steps)
        paths.insert({ref.path.begin(), ref.path.begin() + static_cast<std::ptrdiff_t>(steps)});
    }
    for (const std::vector<LinkIndex>& path : paths) {
      const Link& link = model_.links[path.back()];
      UnfoldedMiss miss;
      miss.link = source_.link(path.back()).name;
      for (const std::uint64_t row : *rows.rows) {
        const auto from = follow(row, path, path.size() - 1);
        if (!from || follow(*from, {path.back()}, 1)) continue;
        ++miss.rows;
        if (miss.keys.size() == most_keys) continue;
        std::string key;
        for (const std::uint32_t c : link.from.columns) {
          const ColumnId id{link.from.table, c};
          const Value value = source_.column(id).at(*from);
          key += (key.empty() ? "" : ", ") + (value.is_null() ? "null" : to_text(value, model_.column(id).type));
        }
        if (std::find(miss.keys.begin(), miss.keys.end(), key) == miss.keys.end()) miss.keys.push_back(key);
      }
      if (miss.rows > 0) part.misses.push_back(std::move(miss));
    }
  }

  void add_rows(UnfoldedPart& part, const Node& node, const FramePtr& pairs, const std::vector<ColumnRef>& refs,
                const VectorPtr& values, const SlicePtr& slice) {
    const Binding& binding = pairs->bindings.begin()->second;
    const bool edge = node.aggregate == Aggregate::first || node.aggregate == Aggregate::last;
    const std::vector<std::uint32_t> chosen = edge ? edges(node, pairs, slice) : sample(values, pairs->rows);
    std::vector<ColumnRef> columns;
    if (binding.table) {
      const auto& own = model_.tables[*binding.table].columns;
      for (std::uint32_t c = 0; c < own.size(); ++c) {
        if (own[c].key) columns.push_back({*binding.table, {}, {*binding.table, c}});
      }
      const auto& keys = model_.tables[*binding.table].keys;
      if (columns.empty() && !keys.empty()) {
        for (const std::uint32_t c : keys.front().columns) columns.push_back({*binding.table, {}, {*binding.table, c}});
      }
      const auto show = [&](const ColumnRef& ref) {
        if (std::find(columns.begin(), columns.end(), ref) == columns.end()) columns.push_back(ref);
      };
      for (const ColumnRef& ref : refs) {
        // What a look-up goes by stands before what it finds.
        if (!ref.path.empty()) {
          const LinkEnd& from = model_.links[ref.path.front()].from;
          for (const std::uint32_t c : from.columns) show({from.table, {}, {from.table, c}});
        }
        show(ref);
      }
      // Without a key, some columns of the source make a row recognisable.
      constexpr std::size_t enough = 4;
      std::vector<ColumnRef> more;
      const bool has_key =
          std::any_of(own.begin(), own.end(), [](const language::Column& c) { return c.key; }) || !keys.empty();
      for (std::uint32_t c = 0; c < own.size() && !has_key && more.size() + columns.size() < enough; ++c) {
        const ColumnRef ref{*binding.table, {}, {*binding.table, c}};
        if (!own[c].is_calculated() && std::find(columns.begin(), columns.end(), ref) == columns.end())
          more.push_back(ref);
      }
      columns.insert(columns.begin(), more.begin(), more.end());
    }
    if (const Reader* const reader = model_.acting_reader()) {
      std::erase_if(columns, [&](const ColumnRef& ref) {
        const auto& hidden = reader->hidden_columns;
        return std::find(hidden.begin(), hidden.end(), ref.column) != hidden.end();
      });
    }
    for (const ColumnRef& ref : columns) {
      const language::Column& column = model_.column(ref.column);
      part.columns.push_back(
          {ref.path.empty() ? column.name : model_.column_name(ref.column), column.type, column.format});
    }
    const std::vector<Field>& fields = node.rows->fields;
    for (const Field& field : fields) part.columns.push_back({field.name, field.type, ""});
    if (values) {
      const NodePtr& shown = values_of(node);
      const bool plain = shown->op == Op::column || shown->op == Op::field;
      if (!plain) part.columns.push_back({std::string(model_.sources.text(shown->span)), shown->type, ""});
      for (const std::uint32_t i : chosen) {
        UnfoldedRow row = row_of(binding, columns, fields.size(), i);
        row.skipped = values->state[i] == State::null;
        if (!plain) row.cells.push_back(values->value_at(i));
        part.rows.push_back(std::move(row));
      }
      return;
    }
    for (const std::uint32_t i : chosen) part.rows.push_back(row_of(binding, columns, fields.size(), i));
  }

  static const NodePtr& values_of(const Node& node) {
    const bool edge = node.aggregate == Aggregate::first || node.aggregate == Aggregate::last;
    return edge ? node.children.front() : node.children.back();
  }

  UnfoldedRow row_of(const Binding& binding, const std::vector<ColumnRef>& columns, std::size_t fields,
                     std::size_t i) const {
    UnfoldedRow row;
    for (const ColumnRef& ref : columns) {
      const auto at = follow((*binding.rows)[i], ref.path, ref.path.size());
      row.cells.push_back(at ? source_.column(ref.column).at(*at) : Value());
    }
    for (std::size_t f = 0; f < fields; ++f) row.cells.push_back(binding.fields[f].values()->value_at(i));
    if (binding.table) add_origin(row, *binding.table, (*binding.rows)[i]);
    return row;
  }

  // Rows stand as in the files, one after the other, unless they were sorted or some were left out.
  void add_origin(UnfoldedRow& row, TableIndex t, std::uint64_t at) const {
    const store::StoredTable& table = source_.store.tables[t];
    if (!table.order.empty() || table.unreached_rows != 0 || store::rejected_rows(source_.store, table) != 0) return;
    for (const source::SourceFile& file : source_.store.sources) {
      if (file.table != table.name) continue;
      if (at < file.rows) {
        row.file = file.path;
        row.record = at + 1;
        return;
      }
      at -= file.rows;
    }
  }

  // The rows that stand first, or last, by what the aggregate orders them by.
  std::vector<std::uint32_t> edges(const Node& node, const FramePtr& pairs, const SlicePtr& slice) {
    std::vector<std::uint32_t> rows(pairs->rows);
    std::iota(rows.begin(), rows.end(), 0U);
    std::vector<Encoding> keys;
    for (std::size_t k = 1; k < node.children.size(); ++k)
      keys.emplace_back(*evaluator_.evaluate(node.children[k], pairs, slice));
    for (const Encoding& key : keys)
      std::erase_if(rows, [&](std::uint32_t row) { return (*key.codes())[row] == key.null_code(); });
    // Rows stand in the order that settles ties.
    std::stable_sort(rows.begin(), rows.end(), [&](std::uint32_t a, std::uint32_t b) {
      for (std::size_t k = 0; k < keys.size(); ++k) {
        const auto [x, y] = std::pair((*keys[k].codes())[a], (*keys[k].codes())[b]);
        if (x != y) return (x < y) != node.descending[k];
      }
      return false;
    });
    if (node.aggregate == Aggregate::last) std::reverse(rows.begin(), rows.end());
    rows.resize(std::min(rows.size(), samples_));
    return rows;
  }

  // The rows with the largest numbers, or the first rows; then the first that are null.
  std::vector<std::uint32_t> sample(const VectorPtr& values, std::size_t rows) const {
    std::vector<std::uint32_t> with;
    std::vector<std::uint32_t> without;
    for (std::uint32_t i = 0; i < rows; ++i) {
      if (values && values->state[i] != State::value) {
        if (without.size() < samples_) without.push_back(i);
      } else {
        with.push_back(i);
      }
    }
    const auto size_of = [&](std::uint32_t i) {
      if (!values || values->repr == Repr::text) return 0.0;
      if (values->repr == Repr::real) return std::abs(values->real[i]);
      return std::abs(static_cast<double>(values->repr == Repr::wide ? values->wide[i] : values->narrow[i]));
    };
    const std::size_t most = std::min(samples_, with.size());
    std::partial_sort(with.begin(), with.begin() + static_cast<std::ptrdiff_t>(most), with.end(),
                      [&](std::uint32_t a, std::uint32_t b) {
                        const auto [x, y] = std::pair(size_of(a), size_of(b));
                        return x != y ? x > y : a < b;
                      });
    with.resize(most);
    with.insert(with.end(), without.begin(), without.end());
    return with;
  }

  const Source& source_;
  const CheckedModel& model_;
  Evaluator evaluator_;
  std::size_t samples_;
  std::vector<UnfoldedPart> parts_;
};

}  // namespace juniper::engine

namespace juniper {

std::string_view to_string(UnfoldedKind kind) {
  switch (kind) {
    case UnfoldedKind::measure:
      return "measure";
    case UnfoldedKind::slice:
      return "slice";
    case UnfoldedKind::name:
      return "name";
    case UnfoldedKind::expression:
      return "expression";
    case UnfoldedKind::aggregate:
      return "aggregate";
  }
  return "";
}

Result<Unfolding> unfold(const Dataset& dataset, const std::string& measure, const std::vector<std::string>& at,
                         std::size_t samples) {
  return base::guarded([&]() -> Result<Unfolding> {
    const auto prepared = engine::prepare(dataset.model(), {"show " + measure, at});
    if (!prepared) return tl::unexpected(prepared.error());
    const language::Query& query = prepared->query;
    if (!query.by.empty() || query.show.size() != 1 || query.having || !query.totals.empty() || query.limit ||
        !query.sort.empty()) {
      return tl::unexpected(base::error("JR-408", fmt::format("'{}' is more than one measure or expression", measure),
                                        "name one, and its slice by --at"));
    }
    // Its parts and rows show what it rests on.
    if (Diagnostics hidden = model::hidden_below(*prepared->model, query.show[0].expression); !hidden.empty())
      return tl::unexpected(std::move(hidden));
    const engine::Watch watch(dataset.options());
    const engine::QuestionSource asked(dataset, *prepared->model, &watch);
    const engine::Source& source = asked.get();
    try {
      return engine::with_live_tables(source.live, [&] {
        return Unfolding{engine::Unfolder(source, dataset.options().threads, samples).run(prepared->query)};
      });
    } catch (const engine::Failed& failed) {
      return tl::unexpected(failed.diagnostics);
    }
  });
}

}  // namespace juniper
