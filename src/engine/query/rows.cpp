#include "engine/query/rows.h"

#include "language/traverse.h"

#include <algorithm>
#include <numeric>

namespace juniper::engine {

using namespace language;

namespace {

bool has_leaves(const NodePtr& node) {
  bool found = false;
  walk(node, [&](const Node& n) { found = found || (Evaluator::is_leaf(n) && n.op != Op::column); });
  return found;
}

}  // namespace

Result<RowValues> evaluate_rows(const Source& source, TableIndex table, const NodePtr& node, unsigned threads) {
  RowValues result;
  if (!has_leaves(node)) {
    // Columns alone: block by block, over the codes as they are.
    auto& program = result.programs.emplace_back(std::make_unique<Program>(source, table));
    const auto step = program->add(replaced(node, [&](const NodePtr& n) -> NodePtr {
      if (n->op != Op::column) return nullptr;
      auto copy = std::make_shared<Node>(*n);
      copy->variable = slice_row;
      return copy;
    }));
    result.values = std::make_shared<const Vector>(program->evaluate(step));
    return result;
  }
  auto frame = std::make_shared<Frame>();
  frame->rows = source.rows(table);
  std::vector<std::uint64_t> rows(frame->rows);
  std::iota(rows.begin(), rows.end(), 0U);
  Binding binding;
  binding.table = table;
  binding.rows = std::make_shared<const std::vector<std::uint64_t>>(std::move(rows));
  frame->bindings.emplace(source.model.tables[table].row, std::move(binding));
  result.evaluator = std::make_unique<Evaluator>(source, threads);
  try {
    result.values = result.evaluator->evaluate(node, frame, std::make_shared<const Slice>());
  } catch (const Failed& failed) {
    return tl::unexpected(failed.diagnostics);
  }
  return result;
}

Result<TableValues> evaluate_table(const Source& source, TableIndex index, unsigned threads) {
  const Table& table = source.model.tables[index];
  TableValues result;
  result.evaluator = std::make_unique<Evaluator>(source, threads);
  auto frame = std::make_shared<Frame>();
  frame->rows = 1;
  const auto slice = std::make_shared<const Slice>();
  try {
    const FramePtr rows = result.evaluator->rows(table.rows, frame, slice);
    result.rows = rows->rows;
    for (const language::Column& column : table.columns)
      result.columns.push_back(column.from_row ? result.evaluator->evaluate(column.from_row, rows, slice) : nullptr);
  } catch (const Failed& failed) {
    return tl::unexpected(failed.diagnostics);
  }
  return result;
}

}  // namespace juniper::engine
