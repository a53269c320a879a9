// Calculated columns that look at other rows: those of the many side, and all rows of their own table again and again.
#include <fmt/format.h>

#include <optional>

#include "audit/rules.h"
#include "base/format.h"

namespace juniper::auditing {

using namespace language;

namespace {

// True if only the loops of measures read a column, so that a measure could stand for it.
bool is_only_aggregated(const Subject& subject, ColumnId id) {
  const auto& users = subject.users(id);
  if (users.empty() ||
      !std::all_of(users.begin(), users.end(), [](const model::User& u) { return u.kind == UserKind::measure; }))
    return false;
  bool filters = false;
  each_definition(subject.model(), [&](const Definition& definition) {
    each_mention(definition, [&](const Mention& mention) {
      filters = filters || (mention.column == id && mention.manner != Manner::read);
    });
  });
  return !filters;
}

bool reads(const NodePtr& node, VariableId variable) {
  return outer_variables(node).contains(variable);
}

// Whether the rows that a loop over a table's own rows sees for each row can be found by keys and one range.
class OwnLoop {
 public:
  OwnLoop(const CheckedModel& model, const Node& aggregate, VariableId row) : model_(model), row_(row) {
    for (const NodePtr& value : aggregate.children) {
      if (reads(value, row) && aggregate.aggregate != Aggregate::rank) searched_ = false;
    }
    RowSetPtr rows = aggregate.rows;
    for (; rows && rows->kind == RowsKind::filtered; rows = rows->input) {
      std::vector<NodePtr> parts;
      split_conjunction(rows->condition, parts);
      for (const NodePtr& part : parts) look_at(part);
    }
    if (!rows || rows->kind != RowsKind::table) searched_ = searched_ && !compares_;
    const bool ordered = aggregate.aggregate == Aggregate::median || aggregate.aggregate == Aggregate::quantile;
    if (ordered && !range_.empty()) searched_ = false;
  }
  // True if each row is compared with all others.
  bool is_quadratic() const { return !searched_; }

 private:
  void look_at(const NodePtr& part) {
    if (!reads(part, row_)) return;
    compares_ = true;
    const Node* node = part.get();
    if (node->op == Op::not_ && node->children[0]->op == Op::is_distinct) node = node->children[0].get();
    const bool equal = node->op == Op::equal || node->op == Op::is_distinct;
    const bool less = node->op == Op::less || node->op == Op::less_equal;
    if (!equal && !less) {
      searched_ = false;
      return;
    }
    const bool left = reads(node->children[0], row_);
    const bool right = reads(node->children[1], row_);
    const NodePtr& inside = node->children[left ? 1 : 0];
    const NodePtr& outside = node->children[left ? 0 : 1];
    // One side is of the row itself and nothing else, the other of the rows that are looked at.
    if ((left && right) || outer_variables(outside).size() != 1 || outer_variables(inside).size() != 1) {
      searched_ = false;
      return;
    }
    if (equal) return;
    const std::string of = canonical(model_, inside, OuterRows::by_order);
    if (!range_.empty() && range_ != of) searched_ = false;
    range_ = of;
  }

  const CheckedModel& model_;
  VariableId row_;
  bool searched_ = true;
  bool compares_ = false;
  std::string range_;
};

}  // namespace

void find_walks_to_many(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    if (!column.expression || !is_only_aggregated(subject, id)) return;
    std::optional<TableIndex> many;
    walk(column.expression, [&](const Node& n) {
      if (n.op != Op::aggregate) return;
      for (RowSetPtr rows = n.rows; rows; rows = rows->input) {
        if (rows->kind == RowsKind::table && rows->of == model.tables[id.table].row && *rows->table != id.table)
          many = *rows->table;
      }
    });
    if (!many) return;
    findings.push_back(
        subject.about(id,
                      fmt::format("each of {} rows walks its rows of {}, {} in all", base::grouped(data.rows),
                                  model.tables[*many].name, base::grouped(subject.table(*many).rows)),
                      fmt::format("make it a measure, and aggregate that over {}: max(NAME of r for r in {})",
                                  model.tables[id.table].name, model.tables[id.table].name),
                      data.bytes()));
  });
}

void find_quadratic_columns(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    const VariableId row = model.tables[id.table].row;
    bool quadratic = false;
    walk(column.expression, [&](const Node& n) {
      if (n.op == Op::aggregate && base_table(n.rows) == id.table)
        quadratic = quadratic || OwnLoop(model, n, row).is_quadratic();
    });
    if (!quadratic) return;
    findings.push_back(subject.about(
        model.column_name(id), column.name_span,
        fmt::format("each of {} rows is compared with all of them", base::grouped(data.rows)),
        "compare by equal values and by one order alone, this.started with t.started, so that rows are found and not "
        "searched; or compute it where the file is made"));
  });
}

}  // namespace juniper::auditing
