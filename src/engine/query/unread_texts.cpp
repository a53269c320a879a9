#include "engine/query/unread_texts.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <string>
#include <utility>

#include "base/format.h"
#include "engine/query/query.h"
#include "language/lexer.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

namespace {

bool reads_text(const Node& node) {
  if (node.op != Op::call) return false;
  return node.function == Function::integer_from || node.function == Function::decimal_from ||
         node.function == Function::real_from || node.function == Function::date_from ||
         node.function == Function::datetime_from;
}

class UnreadTexts {
 public:
  UnreadTexts(const Source& source, std::vector<NodePtr> where, unsigned threads)
      : source_(source), model_(source.model), where_(std::move(where)), threads_(threads) {}

  // One of the conditions: it leaves out the rows whose texts have no value, and these are to be told.
  void look_at_condition(std::size_t index) {
    const NodePtr condition = std::exchange(where_[index], nullptr);
    look(condition);
    where_[index] = condition;
  }

  void look(const NodePtr& node) {
    walk(node, [&](const Node& n) {
      if (reads_text(n)) count(n);
      if (n.op == Op::measure && measures_.insert(n.measure).second) look(model_.measures[n.measure].expression);
    });
  }
  void look(const RowSetPtr& rows) {
    walk(rows, [&](const Node& n) {
      if (reads_text(n)) count(n);
    });
  }

  Diagnostics finish() { return std::move(warnings_); }

 private:
  // The table over whose rows an expression is computed from columns alone; nothing where there is no such table.
  static std::optional<TableIndex> table_of(const NodePtr& expression) {
    std::optional<TableIndex> table;
    std::set<VariableId> rows;
    bool columns_alone = true;
    walk(expression, [&](const Node& n) {
      columns_alone = columns_alone && n.op != Op::field && n.op != Op::name && n.op != Op::measure &&
                      n.op != Op::modified && n.op != Op::let && n.op != Op::aggregate && n.op != Op::grouping;
      if (n.op != Op::column) return;
      columns_alone = columns_alone && (!table || *table == n.column.start);
      table = n.column.start;
      rows.insert(n.variable);
    });
    return columns_alone && rows.size() == 1 ? table : std::nullopt;
  }

  // Over the rows of `table`, named by a variable that nothing else has.
  NodePtr over_rows(const NodePtr& expression) const {
    return replaced(expression, [&](const NodePtr& n) -> NodePtr {
      if (n->op != Op::column) return nullptr;
      auto column = std::make_shared<Node>(*n);
      column->variable = model_.variables;
      return column;
    });
  }

  static NodePtr test(Op op, std::vector<NodePtr> operands) {
    auto node = std::make_shared<Node>();
    node->op = op;
    node->type = {TypeKind::boolean, 0};
    node->children = std::move(operands);
    return node;
  }

  void count(const Node& conversion) {
    const auto table = table_of(conversion.children[0]);
    if (!table) return;
    const NodePtr text = over_rows(conversion.children[0]);
    const NodePtr value = over_rows(std::make_shared<Node>(conversion));
    if (!seen_.insert(canonical(model_, value)).second) return;
    const auto rows = std::make_shared<RowSet>();
    rows->kind = RowsKind::table;
    rows->table = table;
    rows->variable = model_.variables;
    const auto unread = std::make_shared<RowSet>(*rows);
    unread->kind = RowsKind::filtered;
    unread->input = rows;
    unread->condition = test(Op::and_, {test(Op::not_, {test(Op::is_null, {text})}), test(Op::is_null, {value})});
    const auto shown = [&](Aggregate aggregate, Type type, std::vector<NodePtr> of) {
      auto node = std::make_shared<Node>();
      node->op = Op::aggregate;
      node->aggregate = aggregate;
      node->type = type;
      node->rows = unread;
      node->children = std::move(of);
      return QueryShow{"", node, "", {}};
    };
    Query query;
    query.show = {shown(Aggregate::row_count, {TypeKind::integer, 0}, {}),
                  shown(Aggregate::min, {TypeKind::text, 0}, {text})};
    for (const NodePtr& condition : where_) {
      if (!condition) continue;
      const std::vector<ColumnRef> refs = column_refs(condition);
      const bool reaches =
          std::all_of(refs.begin(), refs.end(), [&](const ColumnRef& ref) { return model_.rebase(ref, *table).ref; });
      if (reaches) query.where.push_back(condition);
    }
    const auto result = run_query(source_, query, threads_);
    if (!result || result->rows.empty() || result->rows[0].cells[0].is_null()) return;
    const auto many = static_cast<std::uint64_t>(result->rows[0].cells[0].exact());
    if (many != 0) tell(conversion, *table, many, result->rows[0].cells[1].text());
  }

  void tell(const Node& conversion, TableIndex table, std::uint64_t many, const std::string& sample) {
    constexpr std::size_t longest_sample = 60;
    std::string shown = sample.substr(0, longest_sample);
    while (shown.size() < sample.size() && !shown.empty() &&
           (static_cast<unsigned char>(sample[shown.size()]) & 0xC0) == 0x80)
      shown.pop_back();
    warnings_.push_back(model_.sources.diagnostic(
        Severity::warning, "JR-526", conversion.span,
        fmt::format("{} of {} {} a text that is no {}, and give{} null here: {}{}",
                    many == 1 ? "1 row" : base::grouped(many) + " rows", model_.tables[table].name,
                    many == 1 ? "has" : "have", to_string(conversion.type), many == 1 ? "s" : "", written_text(shown),
                    shown.size() < sample.size() ? "…" : ""),
        ""));
  }

  const Source& source_;
  const CheckedModel& model_;
  std::vector<NodePtr> where_;
  unsigned threads_;
  std::set<MeasureIndex> measures_;
  std::set<std::string> seen_;
  Diagnostics warnings_;
};

}  // namespace

Diagnostics unread_texts(const Source& source, const Query& query, unsigned threads) {
  UnreadTexts texts(source, query.where, threads);
  for (const QueryBy& key : query.by) texts.look(key.expression);
  for (std::size_t i = 0; i < query.where.size(); ++i) texts.look_at_condition(i);
  for (const QueryShow& item : query.show) texts.look(item.expression);
  texts.look(query.having);
  return texts.finish();
}

Diagnostics unread_texts(const Source& source, unsigned threads) {
  UnreadTexts texts(source, {}, threads);
  for (const Table& table : source.model.tables) {
    for (const Column& column : table.columns) texts.look(column.expression);
    texts.look(table.rows);
  }
  return texts.finish();
}

}  // namespace juniper::engine
